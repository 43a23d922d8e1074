package e2e

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/servers"
)

// binary builds the program once.
var binary = sync.OnceValues(func() (string, error) { return buildProgram("") })

// shifted builds one whose clock is forty minutes ahead.
var shifted = sync.OnceValues(func() (string, error) {
	return buildProgram("-X wexillum.example/internal/daemon.clockShift=40m")
})

// buildProgram returns where the program is, or what the compiler says.
func buildProgram(ldflags string) (string, error) {
	dir, err := os.MkdirTemp("", "wexillum-bin-")
	if err != nil {
		return "", err
	}
	check := os.Chmod(dir, 0o755)
	out, err := exec.Command("go", "build", "-ldflags", ldflags, "-o", dir, "wexillum.example/cmd/wexillum",
		"wexillum.example/cmd/wexillum-service").CombinedOutput()
	if err != nil {
		return string(out), err
	}
	return filepath.Join(dir, "wexillum"), check
}

// started is a demo that runs.
type started struct {
	t    *testing.T
	cmd  *exec.Cmd
	url  string
	out  *strings.Builder
	done chan error
}

func startDemo(t *testing.T, dir string, as *syscall.Credential, args ...string) *started {
	t.Helper()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	cmd := exec.Command(bin, append([]string{"demo", "--dir", dir, "--listen", "127.0.0.1:0"}, args...)...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Credential: as, Setpgid: true}
	cmd.Env = append(os.Environ(), "HOME="+dir)
	pipe, err := cmd.StdoutPipe()
	check(t, err)
	var errs strings.Builder
	cmd.Stderr = &errs
	check(t, cmd.Start())
	s := &started{t, cmd, "", &strings.Builder{}, make(chan error, 1)}
	ready := make(chan string, 1)
	go func() {
		// What is printed is read to its last line before anybody looks at it.
		var url string
		var last bool
		sc := bufio.NewScanner(pipe)
		for sc.Scan() {
			s.out.WriteString(sc.Text() + "\n")
			if m := regexp.MustCompile(`console +(http://\S+)`).FindStringSubmatch(sc.Text()); m != nil {
				url = m[1]
			}
			if last {
				ready <- url // the empty line after the last one
			}
			last = strings.Contains(sc.Text(), "Ready after")
		}
		s.done <- cmd.Wait()
	}()
	select {
	case s.url = <-ready:
	case err := <-s.done:
		t.Fatalf("the demo ended: %v\n%s%s", err, s.out, errs.String())
	case <-time.After(2 * time.Minute):
		_ = cmd.Process.Kill()
		t.Fatalf("the demo is not ready\n%s%s", s.out, errs.String())
	}
	t.Cleanup(func() { _ = syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL) })
	return s
}

func (s *started) get(path string) (int, string) {
	s.t.Helper()
	resp, err := http.Get(s.url + path)
	check(s.t, err)
	defer resp.Body.Close()
	b, err := io.ReadAll(resp.Body)
	check(s.t, err)
	return resp.StatusCode, string(b)
}

func (s *started) interrupt() {
	s.t.Helper()
	check(s.t, s.cmd.Process.Signal(os.Interrupt))
	if err := <-s.done; err != nil {
		s.t.Errorf("interrupted, the demo ends with %v", err)
	}
	if !strings.Contains(s.out.String(), "Stopped. The data stays") {
		s.t.Errorf("%s", s.out)
	}
}

// TestDemo starts, stops, is killed, starts again with what was there, and begins
// afresh, as whoever runs the tests and as an ordinary user.
func TestDemo(t *testing.T) {
	t.Parallel()
	users := map[string]*syscall.Credential{"self": nil}
	if os.Getuid() == 0 {
		users["ordinary"] = &syscall.Credential{Uid: 65534, Gid: 65534}
	}
	for name, as := range users {
		t.Run(name, func(t *testing.T) {
			top, err := os.MkdirTemp("", "wexillum-demo-")
			check(t, err)
			t.Cleanup(func() { _ = os.RemoveAll(top) })
			check(t, os.Chmod(top, 0o755))
			dir := filepath.Join(top, "d")
			check(t, os.Mkdir(dir, 0o700))
			if as != nil {
				check(t, os.Chown(dir, int(as.Uid), int(as.Gid)))
			}
			s := startDemo(t, dir, as)
			if status, body := s.get("/readyz"); status != 200 || body != "ready\n" {
				t.Errorf("%d %s", status, body)
			}
			if status, body := s.get("/"); status != 200 || !strings.Contains(body, "<title>Wexillum</title>") {
				t.Errorf("%d %s", status, body)
			}
			if !strings.Contains(s.out.String(), "harbour    low-water-2026") {
				t.Errorf("no sign-in is printed:\n%s", s.out)
			}
			// A change, then kill -9 of service and database together.
			r := &running{t: t, url: s.url, home: t.TempDir()}
			r.login("harbour")
			r.must("rules", "set", "mail.forward", "--default", "listed", "--why", "before the kill")
			// What is noticed is kept by the service itself.
			shows := func(want string, args ...string) {
				t.Helper()
				for until := time.Now().Add(patience); !strings.Contains(r.must(args...), want); time.Sleep(50 * time.Millisecond) {
					if time.Now().After(until) {
						t.Fatalf("%q never shows %s", args, want)
					}
				}
			}
			shows(`"since"`, "finding", "list", "--kind", "forwarder_not_allowed", "-o", "json")
			r.must("forwarder", "remove", "o.tidewell", "odile@homepost.example", "--why", "she has left it")
			shows("forwarder_not_allowed", "finding", "list", "--state", "gone")
			second := exec.Command(s.cmd.Path, "demo", "--dir", dir)
			if as != nil {
				second.SysProcAttr = &syscall.SysProcAttr{Credential: as}
			}
			if out, err := second.CombinedOutput(); err == nil || !strings.Contains(string(out), "another service runs on") {
				t.Errorf("a second demo on the same directory: %v %s", err, out)
			}
			check(t, s.cmd.Process.Kill())
			<-s.done
			begun := time.Now()
			s = startDemo(t, dir, as)
			t.Logf("started again after %.1f s", time.Since(begun).Seconds())
			r = &running{t: t, url: s.url, home: t.TempDir()}
			r.login("harbour")
			r.says(0, "before the kill", "journal", "--kind", "rule", "--limit", "1")
			r.says(0, "entries are as they were written", "journal", "verify")
			s.interrupt()
			s = startDemo(t, dir, as, "--reset")
			r = &running{t: t, url: s.url, home: t.TempDir()}
			r.login("harbour")
			if out := r.must("journal", "--limit", "500"); strings.Contains(out, "before the kill") {
				t.Error("a reset keeps what was there")
			}
			s.interrupt()
		})
	}
}

// TestServe shows where each setting comes from, makes the first administrator,
// and serves a database of one's own.
func TestServe(t *testing.T) {
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	file := filepath.Join(t.TempDir(), "w.yaml")
	check(t, os.WriteFile(file, []byte("listen: 127.0.0.1:9999\nlog_level: warn\ndatabase: 'u:secret@tcp(127.0.0.1:3306)/w'\n"), 0o600))
	run := func(env []string, stdin string, args ...string) (string, error) {
		cmd := exec.Command(bin, args...)
		cmd.Env = append(os.Environ(), env...)
		cmd.Stdin = strings.NewReader(stdin)
		out, err := cmd.CombinedOutput()
		return string(out), err
	}
	out, err := run([]string{"WEXILLUM_LOG_LEVEL=error"}, "", "serve", "--config", file, "--listen", "127.0.0.1:0", "--print-config", "-o",
		"csv")
	check(t, err)
	want := "setting,value,from\r\nlisten,127.0.0.1:0,flag --listen\r\ndatabase,u:…@tcp(127.0.0.1:3306)/w,file " + file +
		"\r\nonly,everything,default\r\npublic_url,,default\r\ntls_cert,,default\r\ntls_key,,default\r\nkey_file,,default\r\ntrusted_proxies,,default\r\nallow_plain_http,no,default\r\nsecure_cookies,auto,default\r\nlog_level,error,environment WEXILLUM_LOG_LEVEL\r\npublish_statement,no,default\r\nstatement_minutes,60,default\r\nstatement_hosts,public,default\r\nsmtp,,default\r\nsmtp_tls,required,default\r\nsmtp_user,,default\r\nsmtp_password,,default\r\nmail_from,,default\r\nmail_policy,,default\r\nfresh_minutes,15,default\r\ntraces,,default\r\nbackup_dir,,default\r\nbackup_to,,default\r\nbackup_keep,14,default\r\nforgotten_list,,default\r\nsnapshot_file,,default\r\nfollow_ms,200,default\r\n"
	if out != want {
		t.Errorf("got\n%q\nwant\n%q", out, want)
	}
	for args, says := range map[string]string{"--listen nowhere": `listen "nowhere" (from flag --listen): write an address and a port`,
		"--database x": "write user:password@tcp", "--config /nowhere": "cannot be read", "--log-level loud": "write debug, info, warn, error",
		"": "no database is named"} {
		if out, err := run(nil, "", append([]string{"serve"}, strings.Fields(args)...)...); err == nil || !strings.Contains(out, says) {
			t.Errorf("serve %s: %v %s", args, err, out)
		}
	}
	dsn := startService(t, dsnOf(t), nil).dsn
	if out, err := run([]string{"WEXILLUM_DATABASE=" + dsn}, "a-long-password-1\n", "account", "first", "captain"); err != nil ||
		!strings.Contains(out, "captain is administrator") {
		t.Fatalf("%v %s", err, out)
	}
	if out, err := run([]string{"WEXILLUM_DATABASE=" + dsn}, "a-long-password-1\n", "account", "first", "mate"); err == nil ||
		!strings.Contains(out, "there are accounts already") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "serve", "--database", dsn, "--snapshot-file", "/nowhere/snapshot"); err == nil ||
		!strings.Contains(out, `snapshot_file "/nowhere/snapshot": there is no folder /nowhere`) {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "serve", "--database", dsn, "--listen", "127.0.0.1:0", "--snapshot-file", file); err == nil ||
		!strings.Contains(out, "it is no snapshot but something else") {
		t.Errorf("%v %s", err, out)
	}
	if text, err := os.ReadFile(file); err != nil || !strings.Contains(string(text), "log_level: warn") {
		t.Errorf("the file of settings is gone: %v %s", err, text)
	}
	if out, err := run(nil, "", "schema", "show", "--database", dsn); err != nil || !strings.Contains(out, "version 22") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "schema", "down", "--database", dsn); err == nil || !strings.Contains(out, "add --yes") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "schema", "down", "--database", dsn, "--to", "4", "--yes"); err == nil ||
		!strings.Contains(out, "going below version 5 would lose what it holds") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "schema", "down", "--database", dsn, "--to", "5", "--yes"); err != nil || !strings.Contains(out, "version 5") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "schema", "up", "--database", dsn); err != nil || !strings.Contains(out, "version 22") {
		t.Errorf("%v %s", err, out)
	}
	big := dsnOf(t)
	if out, err := run(nil, "", "generate", "--guests", "300", "--seed", "7", "--database", big); err != nil ||
		!strings.Contains(out, "300 guests and 3000 grants written") {
		t.Errorf("%v %s", err, out)
	}
	if out, err := run(nil, "", "generate", "--guests", "300", "--database", big); err == nil || !strings.Contains(out, "is not empty") {
		t.Errorf("%v %s", err, out)
	}
	one, err := run(nil, "", "generate", "--guests", "50", "--seed", "7")
	check(t, err)
	world := filepath.Join(t.TempDir(), "g.yaml")
	check(t, os.WriteFile(world, []byte(one), 0o600))
	if out, err := run(nil, "", "rules", "list", "--world", world); err != nil || !strings.Contains(out, "mail.forward") {
		t.Errorf("%v %s", err, out)
	}
}

// TestTwoServices follow each other on one database, also after the one was away.
func TestTwoServices(t *testing.T) {
	a := demoService(t)
	b := startService(t, a.dsn, nil)
	heads, stop := b.svc.Watch()
	defer stop()
	a.login("harbour")
	b.home = a.home
	a.must("rules", "set", "files.bearer_links", "--limit", "off")
	for h := range heads {
		if h == a.svc.State().Head {
			break
		}
	}
	b.login("lantern")
	b.says(3, "“Links for whoever holds them” is set to off", "ask", "link:crate-list-link", "files.open", "file:crate-list")
}

// TestDemoReal starts the demo with real servers, and ends it: all of it ends, with Ctrl-C as when it is killed.
func TestDemoReal(t *testing.T) {
	if _, err := servers.Open(t.Context(), servers.Kept(), os.Stderr); errors.Is(err, servers.ErrRoot) {
		t.Skip(err)
	} else {
		check(t, err)
	}
	bin := t.TempDir()
	if out, err := exec.Command("go", "build", "-o", bin+"/", "wexillum.example/cmd/...").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	// run starts it, sends a signal once it is ready, and returns what it said and how it ended.
	run := func(s os.Signal) (said string, err error) {
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
		defer cancel()
		cmd := exec.CommandContext(ctx, filepath.Join(bin, "wexillum"), "demo", "--real", "--dir", t.TempDir(), "--listen", "127.0.0.1:0")
		pipe, err := cmd.StdoutPipe()
		check(t, err)
		cmd.Stderr = os.Stderr
		check(t, cmd.Start())
		for sc := bufio.NewScanner(pipe); sc.Scan(); {
			said += sc.Text() + "\n"
			if strings.Contains(sc.Text(), "Ready after") {
				check(t, cmd.Process.Signal(s))
			}
		}
		return said, cmd.Wait()
	}
	said, err := run(os.Interrupt)
	if err != nil {
		t.Errorf("it ends with %v", err)
	}
	at := regexp.MustCompile(`files themselves +http://(\S+)`)
	for _, want := range []string{"mail itself", "trial@ilvane.example", "Stopped. The data stays"} {
		if !strings.Contains(said, want) {
			t.Errorf("%q is not said:\n%s", want, said)
		}
	}
	killed, err := run(os.Kill)
	if err == nil {
		t.Error("killed, it ends well")
	}
	for _, text := range []string{said, killed} {
		m := at.FindStringSubmatch(text)
		if m == nil {
			t.Fatalf("it does not say where the files are:\n%s", text)
		}
		for end := time.Now().Add(patience); ; time.Sleep(50 * time.Millisecond) {
			c, err := net.Dial("tcp", m[1])
			if err != nil {
				break
			}
			_ = c.Close()
			if time.Now().After(end) {
				t.Fatalf("a server still listens at %s", m[1])
			}
		}
	}
}
