package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/parts"
	"wexillum.example/internal/servers"
)

var baseOnce sync.Mutex

// keptBase returns a folder with Debian's base in it, and nothing else, which is made once and not changed.
func keptBase(t *testing.T) string {
	t.Helper()
	baseOnce.Lock()
	defer baseOnce.Unlock()
	kept := filepath.Join(servers.Kept(), "base-bookworm")
	if _, err := os.Stat(kept); err != nil {
		half := kept + ".half"
		check(t, os.RemoveAll(half))
		check(t, os.MkdirAll(filepath.Dir(kept), 0o755))
		out, err := exec.Command("debootstrap", "--variant=minbase", "--include=adduser,ca-certificates,tzdata", "bookworm",
			half).CombinedOutput()
		if err != nil {
			if strings.Contains(string(out), "noexec or nodev") || strings.Contains(string(out), "Operation not permitted") {
				t.Skipf("root may not make devices here: %s", out)
			}
			t.Fatalf("debootstrap: %v\n%s", err, out)
		}
		check(t, os.Rename(half, kept))
	}
	return kept
}

// debianBase returns a copy of it.
func debianBase(t *testing.T) string {
	t.Helper()
	kept, root := keptBase(t), filepath.Join(t.TempDir(), "root")
	if out, err := exec.Command("cp", "-a", "--reflink=auto", kept, root).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	return root
}

// asRoot is what runs a command with a folder as the root of the machine, and with /proc in it. That is mounted for the command alone, so
// that a test that is killed leaves no mount behind in a temporary folder, which somebody would take away with all that is in it. as is
// USER:GROUP, or empty for root.
func asRoot(root, as string, args ...string) []string {
	const line = `root=$1 as=$2; shift 2; mount --bind /proc "$root/proc" && exec chroot ${as:+--userspec="$as"} "$root" "$@"`
	return append([]string{"unshare", "--mount", "sh", "-c", line, "sh", root, as}, args...)
}

// inside runs a command with a folder as the root of the machine.
func inside(t *testing.T, root string, args ...string) (string, int) {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), 5*time.Minute)
	defer cancel()
	line := asRoot(root, "", args...)
	cmd := exec.CommandContext(ctx, line[0], line[1:]...)
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "DEBIAN_FRONTEND=noninteractive", "LC_ALL=C"}
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// repository is the folder that this one is in.
const repository = "../.."

// TestPackage builds the Debian package twice, installs it where there is nothing but Debian's base, runs the service from it as its unit
// does, upgrades, removes and purges it.
func TestPackage(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("a root of its own takes an administrator of the machine")
	}
	dir := t.TempDir()
	one, err := builtOnce()
	check(t, err)
	again, err := buildPackage(filepath.Join(dir, "again"), "1.0~1")
	check(t, err)
	a, err := os.ReadFile(one)
	check(t, err)
	b, err := os.ReadFile(again)
	check(t, err)
	if !bytes.Equal(a, b) {
		t.Error("built twice, the packages are not the same")
	}
	// The next version differs in its file of settings, too.
	next := filepath.Join(dir, "next")
	must := func(name string, args ...string) string {
		t.Helper()
		out, err := exec.Command(name, args...).CombinedOutput()
		if err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, out)
		}
		return string(out)
	}
	must("dpkg-deb", "-R", one, next)
	for file, change := range map[string][2]string{"DEBIAN/control": {"Version: 1.0~1", "Version: 1.0~2"},
		"etc/wexillum/wexillum.yaml": {"# Settings of Wexillum.", "# The settings of Wexillum."}} {
		text, err := os.ReadFile(filepath.Join(next, file))
		check(t, err)
		if !bytes.Contains(text, []byte(change[0])) {
			t.Fatalf("%s: %s", file, text)
		}
		check(t, os.WriteFile(filepath.Join(next, file), bytes.Replace(text, []byte(change[0]), []byte(change[1]), 1), 0o644))
	}
	two := filepath.Join(dir, "two.deb")
	must("dpkg-deb", "--root-owner-group", "-Zgzip", "-z1", "-b", next, two)

	root := debianBase(t)
	if out, status := inside(t, root, "true"); status != 0 {
		t.Skipf("root may not mount here: %s", out)
	}
	at := func(path string) string { return filepath.Join(root, path) }
	for _, x := range [][2]string{{one, "one.deb"}, {two, "two.deb"}} {
		must("cp", x[0], at("tmp/"+x[1]))
	}
	ran := func(want string, args ...string) string {
		t.Helper()
		out, status := inside(t, root, args...)
		if status != 0 || !strings.Contains(out, want) {
			t.Fatalf("%v: status %d, not %q:\n%s", args, status, want, out)
		}
		return out
	}
	ran("Wexillum is installed and not started", "dpkg", "-i", "/tmp/one.deb")
	ran("abc1234 of 2026-11-30, go1.", "wexillum", "--version")
	ran("schema 22", "wexillum", "--version")
	for path, want := range map[string]string{
		"etc/wexillum/wexillum.yaml": "-rw-r-----", "etc/wexillum": "drwxr-x---", "var/lib/wexillum": "drwx------",
		"var/backups/wexillum":                           "drwx------",
		"usr/share/man/man1/wexillum-backup-verify.1.gz": "-rw-r--r--", "usr/share/bash-completion/completions/wexillum": "-rw-r--r--",
		"usr/share/doc/wexillum/docs/backup.md": "-rw-r--r--", "usr/share/doc/wexillum/monitoring/alerts.yaml": "-rw-r--r--",
	} {
		if st, err := os.Stat(at(path)); err != nil || st.Mode().String() != want {
			t.Errorf("%s: %v %v, not %s", path, st.Mode(), err, want)
		}
	}
	// What of others is in it, and under which licences.
	bill, err := os.ReadFile(at("usr/share/doc/wexillum/wexillum.cdx.json"))
	check(t, err)
	var bom struct {
		BOMFormat, SpecVersion string
		Components             []struct{ Name, Version, Purl string }
	}
	check(t, json.Unmarshal(bill, &bom))
	has := map[string]bool{}
	for _, c := range bom.Components {
		has[c.Name] = c.Version != "" && strings.HasPrefix(c.Purl, "pkg:")
	}
	if bom.BOMFormat != "CycloneDX" || bom.SpecVersion != "1.7" || !has["Go standard library"] || !has["github.com/spf13/cobra"] ||
		!has["react"] || has["vite"] {
		t.Errorf("%s %s %v", bom.BOMFormat, bom.SpecVersion, has)
	}
	if err := parts.Check([]parts.Part{{Name: "x", Licence: "GPL-3.0-only"}, {Name: "y"}}); err == nil ||
		!strings.Contains(err.Error(), "GPL-3.0-only is no licence that is allowed") || !strings.Contains(err.Error(), "no licence is found") {
		t.Error(err)
	}

	// The units are sound, and hold the service in.
	for _, unit := range []string{"wexillum.service", "wexillum-backup.service", "wexillum.socket", "wexillum-backup.timer"} {
		// That the program is not on this machine is all that is wrong.
		out, err := exec.Command("systemd-analyze", "--man=no", "verify", at("usr/lib/systemd/system/"+unit)).CombinedOutput()
		for line := range strings.Lines(string(out)) {
			if strings.Contains(line, "wexillum") && !strings.Contains(line, "/usr/lib/wexillum/wexillum-service is not executable") {
				t.Errorf("%s: %v %s", unit, err, line)
			}
		}
		if !strings.HasSuffix(unit, ".service") {
			continue
		}
		var level float64
		found := regexp.MustCompile(`exposure level for \S+: ([0-9.]+)`).FindStringSubmatch(must("systemd-analyze", "security", "--offline=true",
			at("usr/lib/systemd/system/"+unit)))
		if found == nil {
			t.Fatal(unit)
		}
		if _, err := fmt.Sscan(found[1], &level); err != nil || level > 1.5 {
			t.Errorf("%s is exposed: %v %v", unit, found, err)
		}
	}

	// As docs/install.md says: the database in a file of its own, the first administrator, the service as its user.
	dsn := tcpDSN(t)
	check(t, os.MkdirAll(at("etc/wexillum/secrets"), 0o700))
	check(t, os.WriteFile(at("etc/wexillum/secrets/database"), []byte(dsn+"\n"), 0o600))
	settings, err := os.ReadFile(at("etc/wexillum/wexillum.yaml"))
	check(t, err)
	own := append(settings,
		"\n# ours\ndatabase: credential:database\nlisten: 127.0.0.1:0\nforgotten_list: /var/lib/wexillum/forgotten\nsnapshot_file: /var/lib/wexillum/snapshot\n"...)
	check(t, os.WriteFile(at("etc/wexillum/wexillum.yaml"), own, 0o640))
	ran("",
		"sh", "-c", "printf 'the tide is out at six\\n' | WEXILLUM_DATABASE=file:/etc/wexillum/secrets/database wexillum account first captain")
	service := servePackage(t, root)
	status, body := service.get("/readyz")
	if status != 200 {
		t.Errorf("%d %s", status, body)
	}
	if status, body := service.get("/"); status != 200 || !strings.Contains(body, "<title>") {
		t.Errorf("the console: %d %s", status, body)
	}
	service.stop()
	if st, err := os.Stat(at("var/lib/wexillum/snapshot")); err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("stopped, the service leaves no file to begin with: %v", err)
	}

	// As docs/backup.md says: a key, a backup, and bringing it back into an empty database, by hand, which is root's where systemd hands the
	// password over.
	to := regexp.MustCompile(`age1\w+`).FindString(ran("backup_to: age1", "wexillum", "backup", "key", "/root/backup.key"))
	own = append(own, "backup_dir: /var/backups/wexillum\nbackup_to: "+to+"\n"...)
	check(t, os.WriteFile(at("etc/wexillum/wexillum.yaml"), own, 0o640))
	byHand := func(want string, args ...string) string {
		t.Helper()
		return ran(want, append([]string{"env", "WEXILLUM_DATABASE=file:/etc/wexillum/secrets/database", "wexillum"}, args...)...)
	}
	byHand("", "backup", "--config", "/etc/wexillum/wexillum.yaml")
	made := regexp.MustCompile(`wexillum-\S+\.age`).FindString(byHand(".sql.zst.age", "backup", "list", "--config",
		"/etc/wexillum/wexillum.yaml"))
	check(t, os.WriteFile(at("etc/wexillum/secrets/database"), []byte(tcpDSN(t)+"\n"), 0o600))
	byHand("up to journal entry 1; the journal holds", "restore", "/var/backups/wexillum/"+made, "--key", "/root/backup.key", "--config",
		"/etc/wexillum/wexillum.yaml", "--why", "the disk failed")
	service = servePackage(t, root)
	if status, body := service.get("/readyz"); status != 200 {
		t.Errorf("brought back: %d %s", status, body)
	}
	service.stop()

	out, _ := inside(t, root, "dpkg", "--force-confold", "-i", "/tmp/two.deb")
	if now, err := os.ReadFile(at("etc/wexillum/wexillum.yaml")); err != nil || !bytes.Equal(now, own) {
		t.Errorf("the upgrade changed the settings: %v\n%s\n%s", err, now, out)
	}
	ran("1.0~2", "dpkg-query", "-W", "wexillum")
	check(t, os.WriteFile(at("var/backups/wexillum/kept"), []byte("x"), 0o600))
	ran("", "dpkg", "-r", "wexillum")
	if _, err := os.Stat(at("usr/bin/wexillum")); err == nil {
		t.Error("the program stays")
	}
	if now, err := os.ReadFile(at("etc/wexillum/wexillum.yaml")); err != nil || !bytes.Equal(now, own) {
		t.Errorf("removing took the settings: %v", err)
	}
	ran("The backups in /var/backups/wexillum stay, and so does the database.", "dpkg", "-P", "wexillum")
	for _, gone := range []string{"etc/wexillum", "var/lib/wexillum", "usr/share/doc/wexillum"} {
		if _, err := os.Stat(at(gone)); err == nil {
			t.Errorf("%s stays", gone)
		}
	}
	if _, err := os.Stat(at("var/backups/wexillum/kept")); err != nil {
		t.Error(err)
	}
	ran("", "dpkg", "-i", "/tmp/two.deb")
	for _, name := range []string{"kept", made} {
		check(t, os.Remove(at("var/backups/wexillum/"+name)))
	}
	ran("", "dpkg", "-P", "wexillum")
	if out, status := inside(t, root, "getent", "passwd", "wexillum"); status == 0 {
		t.Error(out)
	}
}

// tcpDSN is an empty database that is reached over the network, with a password.
func tcpDSN(t *testing.T) string {
	t.Helper()
	c, err := mysql.ParseDSN(dbtest.DSN(t))
	check(t, err)
	name := "w" + c.DBName
	db, err := sql.Open("mysql", c.FormatDSN())
	check(t, err)
	defer db.Close()
	for _, q := range []string{"CREATE OR REPLACE USER " + name + "@'%' IDENTIFIED BY 'deep water'",
		"GRANT ALL PRIVILEGES ON `" + c.DBName + "`.* TO " + name + "@'%'"} {
		_, err := db.Exec(q)
		check(t, err)
	}
	var port int
	check(t, db.QueryRow("SELECT @@port").Scan(&port))
	c.User, c.Passwd, c.Net, c.Addr = name, "deep water", "tcp", fmt.Sprint("127.0.0.1:", port)
	return c.FormatDSN()
}

// servePackage runs the service of a package as its unit does: as its user, with the port from systemd, a credential, and told when it is
// ready; by is what comes before its command.
func servePackage(t *testing.T, root string, by ...string) *packaged {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	check(t, err)
	file, err := l.(*net.TCPListener).File()
	check(t, err)
	check(t, l.Close())
	_ = os.Remove(filepath.Join(root, "run/notify")) // of a service before
	notify, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: filepath.Join(root, "run/notify"), Net: "unixgram"})
	check(t, err)
	check(t, os.Chmod(filepath.Join(root, "run/notify"), 0o777))
	check(t, os.MkdirAll(filepath.Join(root, "run/credentials"), 0o755))
	secret, err := os.ReadFile(filepath.Join(root, "etc/wexillum/secrets/database"))
	check(t, err)
	check(t, os.WriteFile(filepath.Join(root, "run/credentials/database"), secret, 0o644))
	args := append(slices.Clone(by), asRoot(root, "wexillum:wexillum", "sh", "-c",
		"LISTEN_PID=$$ LISTEN_FDS=1 exec /usr/lib/wexillum/wexillum-service serve --config /etc/wexillum/wexillum.yaml")...)
	cmd := exec.Command(args[0], args[1:]...)
	cmd.Env = []string{"PATH=/usr/sbin:/usr/bin:/sbin:/bin", "NOTIFY_SOCKET=/run/notify", "CREDENTIALS_DIRECTORY=/run/credentials",
		"WATCHDOG_USEC=200000", "STATE_DIRECTORY=/var/lib/wexillum"}
	cmd.ExtraFiles = []*os.File{file}
	var said bytes.Buffer
	cmd.Stderr = &said
	check(t, cmd.Start())
	words := make(chan string, 10_000)
	go func() { // whoever is told and does not listen holds the service up
		b := make([]byte, 100)
		for {
			n, err := notify.Read(b)
			if err != nil {
				close(words)
				return
			}
			words <- string(b[:n])
		}
	}()
	// until waits until something is told.
	until := func(want string) {
		t.Helper()
		for {
			select {
			case got := <-words:
				if got == want {
					return
				}
			case <-time.After(patience):
				_ = cmd.Process.Kill()
				t.Fatalf("it did not say %s:\n%s", want, said.String())
			}
		}
	}
	until("READY=1")
	until("WATCHDOG=1")
	return &packaged{t: t, url: "http://" + l.Addr().String(), stop: func() {
		t.Helper()
		_ = cmd.Process.Signal(syscall.SIGTERM)
		until("STOPPING=1")
		if err := cmd.Wait(); err != nil {
			t.Errorf("it stopped: %v\n%s", err, said.String())
		}
		_ = notify.Close()
	}}
}

// packaged is a service that runs from the package.
type packaged struct {
	t    *testing.T
	url  string
	stop func()
}

func (p *packaged) get(path string) (int, string) {
	p.t.Helper()
	r, err := http.NewRequestWithContext(p.t.Context(), "GET", p.url+path, nil)
	check(p.t, err)
	res, err := http.DefaultClient.Do(r)
	check(p.t, err)
	defer res.Body.Close()
	var b bytes.Buffer
	_, _ = b.ReadFrom(res.Body)
	return res.StatusCode, b.String()
}
