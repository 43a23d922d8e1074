// Package servers runs real servers of open protocols on loopback, to be worked against: their packages are unpacked
// into a private root, and nothing of the machine is installed, enabled, replaced or touched.
package servers

import (
	"context"
	"crypto/sha256"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"
)

// Packages are Debian's packages of the servers, with all that they rest on.
var Packages = []string{"prosody", "prosody-modules", "lua-unbound", "lua-ldap", "apache2-bin", "radicale", "python3-bcrypt", "slapd",
	"postfix", "dovecot-lmtpd", "dovecot-sieve", "ejabberd", "dash", "sed", "janus", "cyrus-imapd", "cyrus-caldav", "sasl2-bin",
	"libsasl2-modules", "libsasl2-modules-db"}

// ErrRoot is returned where somebody runs it who may not change the root of a process.
var ErrRoot = errors.New("these servers run in a root of their own, which takes an administrator of the machine (root); without it they are left out")

// Nobody is the user that servers run as which need no other.
const Nobody = 65534

// Root is a folder with the servers in it, and nothing else of a machine.
type Root struct {
	Dir string
}

// Kept is where the private root is kept where nothing else is said: in the user's cache.
func Kept() string {
	dir, err := os.UserCacheDir()
	if err != nil {
		dir = os.TempDir()
	}
	return filepath.Join(dir, "wexillum-servers")
}

// Open returns the private root in a folder, and fetches and unpacks what is missing into it. What it does is said
// to log.
func Open(ctx context.Context, dir string, log io.Writer) (*Root, error) {
	if os.Getuid() != 0 {
		return nil, ErrRoot
	}
	list := slices.Sorted(slices.Values(Packages))
	sum := sha256.Sum256([]byte(strings.Join(list, " ")))
	r := &Root{filepath.Join(dir, fmt.Sprintf("root-%x", sum[:6]))}
	ready := filepath.Join(r.Dir, ".ready")
	// Whoever comes while another one unpacks waits until it has: what is taken away below is nobody's.
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, err
	}
	lock, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX); err != nil {
		return nil, err
	}
	if _, err := os.Stat(ready); err == nil {
		return r, nil
	}
	began := time.Now()
	fmt.Fprintf(log, "Fetching %s and what they rest on into %s; nothing of this machine is installed or changed.\n", strings.Join(list, ", "),
		r.Dir)
	if err := os.RemoveAll(r.Dir); err != nil {
		return nil, err
	}
	debs := filepath.Join(dir, "packages")
	state := filepath.Join(dir, "state")
	for _, d := range []string{r.Dir, filepath.Join(debs, "partial"), state} {
		if err := os.MkdirAll(d, 0o755); err != nil {
			return nil, err
		}
	}
	if err := os.WriteFile(filepath.Join(state, "status"), nil, 0o600); err != nil { // nothing is installed there
		return nil, err
	}
	options := []string{
		"-o", "Dir::State::status=" + filepath.Join(state, "status"), "-o", "Dir::Cache::archives=" + debs, "-o", "APT::Install-Recommends=false",
		"-o", "Debug::NoLocking=1", "-o", "APT::Sandbox::User=root", "-y", "-qq",
	}
	apt := func(args ...string) ([]byte, error) {
		c := exec.CommandContext(ctx, "apt-get", append(slices.Clone(options), args...)...)
		c.Env = append(os.Environ(), "DEBIAN_FRONTEND=noninteractive")
		return c.CombinedOutput()
	}
	get := append([]string{"--download-only", "install"}, list...)
	if _, err := apt(get...); err != nil { // the lists of this machine are old, or not there: lists of our own
		lists := filepath.Join(state, "lists")
		if err := os.MkdirAll(filepath.Join(lists, "partial"), 0o755); err != nil {
			return nil, err
		}
		options = append(options, "-o", "Dir::State::lists="+lists)
		out, err := apt("update")
		if err == nil {
			out, err = apt(get...)
		}
		if err != nil {
			return nil, fmt.Errorf("the packages cannot be fetched: %w\n%s", err, tail(out))
		}
	}
	all, err := filepath.Glob(filepath.Join(debs, "*.deb"))
	if err != nil {
		return nil, err
	}
	work := make(chan string)
	var wg sync.WaitGroup
	var failed error
	var mu sync.Mutex
	for range 2 {
		wg.Go(func() {
			for deb := range work {
				if out, err := exec.CommandContext(ctx, "dpkg-deb", "-x", deb, r.Dir).CombinedOutput(); err != nil {
					mu.Lock()
					failed = errors.Join(failed, fmt.Errorf("%s: %w\n%s", filepath.Base(deb), err, tail(out)))
					mu.Unlock()
				}
			}
		})
	}
	for _, deb := range all {
		work <- deb
	}
	close(work)
	wg.Wait()
	if failed != nil {
		return nil, failed
	}
	if err := r.furnish(); err != nil {
		if errors.Is(err, syscall.EPERM) { // root in a place where root may not
			return nil, fmt.Errorf("%w (%w)", ErrRoot, err)
		}
		return nil, err
	}
	if out, err := r.Command(ctx, Nobody, "/bin/true").CombinedOutput(); errors.Is(err, syscall.EPERM) {
		return nil, fmt.Errorf("%w (%w)", ErrRoot, err)
	} else if err != nil {
		return nil, fmt.Errorf("nothing can be run in %s: %w: %s", r.Dir, err, tail(out))
	}
	fmt.Fprintf(log, "Unpacked %d packages in %.0f s.\n", len(all), time.Since(began).Seconds())
	r.dropOthers(dir)
	return r, os.WriteFile(ready, nil, 0o600)
}

// dropOthers takes roots of earlier lists of packages away that nobody began to use within a day.
func (r *Root) dropOthers(dir string) {
	others, _ := filepath.Glob(filepath.Join(dir, "root-*"))
	for _, other := range others {
		at, err := os.Stat(filepath.Join(other, "data"))
		if other != r.Dir && err == nil && time.Since(at.ModTime()) > 24*time.Hour { // each server makes a folder there
			_ = os.RemoveAll(other)
		}
	}
}

// furnish makes what scripts of packages would make: devices, users, folders.
func (r *Root) furnish() error {
	for _, d := range []string{"dev", "proc", "tmp", "run", "data"} {
		if err := os.MkdirAll(r.Path(d), 0o755); err != nil {
			return err
		}
	}
	if err := os.Chmod(r.Path("tmp"), 0o1777); err != nil {
		return err
	}
	for name, minor := range map[string]uint32{"null": 3, "zero": 5, "random": 8, "urandom": 9} {
		if err := syscall.Mknod(r.Path("dev", name), syscall.S_IFCHR|0o666, int(1<<8|minor)); err != nil && !errors.Is(err, os.ErrExist) {
			return fmt.Errorf("%s: %w", name, err)
		}
		_ = os.Chmod(r.Path("dev", name), 0o666)
	}
	for name, text := range map[string]string{
		"etc/passwd": "root:x:0:0:root:/root:/bin/sh\nnobody:x:65534:65534:nobody:/nonexistent:/bin/sh\n",
		"etc/group":  "root:x:0:\nnogroup:x:65534:\n",
		"etc/hosts":  "127.0.0.1 localhost\n",
	} {
		if err := os.WriteFile(r.Path(name), []byte(text), 0o600); err != nil {
			return err
		}
		if err := os.Chmod(r.Path(name), 0o644); err != nil {
			return err
		}
	}
	return nil
}

// Path is a path of the machine for one in the root.
func (r *Root) Path(parts ...string) string {
	return filepath.Join(append([]string{r.Dir}, parts...)...)
}

// Folder makes an empty folder in the root for one server, which belongs to nobody, and returns its path there.
func (r *Root) Folder(prefix string) (inside string, err error) {
	dir, err := os.MkdirTemp(r.Path("data"), prefix+"-")
	if err != nil {
		return "", err
	}
	if err := os.Chmod(dir, 0o755); err != nil {
		return "", err
	}
	if err := os.Chown(dir, Nobody, Nobody); err != nil {
		return "", err
	}
	return "/" + strings.TrimPrefix(dir, r.Dir+"/"), nil
}

// Command is a command within the root, as a user of the machine by number.
func (r *Root) Command(ctx context.Context, uid uint32, name string, args ...string) *exec.Cmd {
	c := exec.CommandContext(ctx, r.Path(name), args...)
	c.Path, c.Args[0], c.Err = name, name, nil // it is looked for within the root
	c.Dir = "/"
	c.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "TZ=UTC", "HOME=/tmp", "LANG=C.UTF-8"}
	c.SysProcAttr = &syscall.SysProcAttr{Chroot: r.Dir, Setpgid: true, Credential: &syscall.Credential{Uid: uid, Gid: uid, NoSetGroups: false}}
	c.Cancel = func() error { return syscall.Kill(-c.Process.Pid, syscall.SIGTERM) }
	c.WaitDelay = 3 * time.Second
	return c
}

// Process is a server that runs.
type Process struct {
	r     *Root
	ports []int
	cmd   *exec.Cmd
	dir   string // its folder
	log   string
	done  chan struct{}
}

// Start starts a server, and waits until something listens at each of the ports. What it says goes to a file in its
// folder.
func (r *Root) Start(ctx context.Context, folder string, ports []int, c *exec.Cmd) (*Process, error) {
	p := &Process{r: r, ports: ports, cmd: c, dir: r.Path(folder), log: r.Path(folder, "log")}
	return p, p.start(ctx)
}

// start starts the command of a process, and waits until it listens.
func (p *Process) start(ctx context.Context) error {
	c := p.cmd
	p.done = make(chan struct{})
	out, err := os.OpenFile(p.log, os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer out.Close()
	c.Stdout, c.Stderr = out, out
	if err := c.Start(); err != nil {
		return err
	}
	go func(done chan struct{}) { _ = c.Wait(); close(done) }(p.done)
	for _, port := range p.ports {
		for {
			l, err := net.DialTimeout("tcp", fmt.Sprintf("127.0.0.1:%d", port), time.Second)
			if err == nil {
				_ = l.Close()
				break
			}
			select {
			case <-p.done:
				return fmt.Errorf("%s ended at once:\n%s", filepath.Base(c.Path), p.Said())
			case <-ctx.Done():
				p.Stop()
				return fmt.Errorf("%s does not listen at %d: %w\n%s", filepath.Base(c.Path), port, ctx.Err(), p.Said())
			case <-time.After(20 * time.Millisecond):
			}
		}
	}
	return nil
}

// Said is the end of what a server said.
func (p *Process) Said() string {
	b, _ := os.ReadFile(p.log)
	return tail(b)
}

// Signal sends a signal to a server.
func (p *Process) Signal(s syscall.Signal) error { return p.cmd.Process.Signal(s) }

// Stop ends a server and all that it started, and takes its folder away.
func (p *Process) Stop() {
	defer os.RemoveAll(p.dir)
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGTERM)
	select {
	case <-p.done:
	case <-time.After(3 * time.Second):
		_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
		<-p.done
	}
}

// Kill ends a server at once, as a machine does that fails. What it holds stays.
func (p *Process) Kill() {
	_ = syscall.Kill(-p.cmd.Process.Pid, syscall.SIGKILL)
	<-p.done
}

// Again starts a server that was killed, as it was.
func (p *Process) Again(ctx context.Context) error {
	was := p.cmd
	p.cmd = p.r.Command(ctx, was.SysProcAttr.Credential.Uid, was.Path, was.Args[1:]...)
	p.cmd.Env = was.Env
	return p.start(ctx)
}

func tail(b []byte) string {
	return strings.TrimSpace(string(b[max(0, len(b)-2000):]))
}
