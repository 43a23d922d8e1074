package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
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

	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/servers"
)

// machine is a folder with Debian's base in it, in a network of its own: what an operator is given, but that no systemd runs in it.
type machine struct {
	t    *testing.T
	name string
	root string
	by   []string // what comes before a command
}

// pageBlock is the block of a page of docs that has something in it.
func pageBlock(t *testing.T, page, has string) string {
	t.Helper()
	text, err := os.ReadFile(filepath.Join(repository, "docs", page))
	check(t, err)
	for i, part := range strings.Split("\n"+string(text), "\n```") {
		if i%2 == 1 && strings.Contains(part, has) {
			return strings.TrimPrefix(part, "\n")
		}
	}
	t.Fatalf("docs/%s has no block with %s", page, has)
	return ""
}

// pageLine is the line of a block in docs that has something in it.
func pageLine(t *testing.T, page, has string) string {
	t.Helper()
	for line := range strings.Lines(pageBlock(t, page, has)) {
		if strings.Contains(line, has) {
			return strings.TrimSpace(line)
		}
	}
	return ""
}

// systemctl does of MariaDB's unit what systemd would, for the programs of MariaDB that call it: it asks where the data stands, starts the
// server as its user, and waits until it answers.
const systemctl = `#!/bin/sh
case "$2" in mariadb|mariadb.service) ;; *) echo "there is no unit $2" >&2; exit 5;; esac
as="setpriv --reuid=mysql --regid=mysql --init-groups"
stop() {
  [ -e /run/mysqld/mysqld.pid ] || return 0
  pid=$(cat /run/mysqld/mysqld.pid); kill "$pid" 2>/dev/null
  while kill -0 "$pid" 2>/dev/null; do sleep 0.1; done
}
start() {
  mkdir -p /run/mysqld; chown mysql /run/mysqld
  position=$($as /usr/bin/galera_recovery) || exit 1
  [ -e /run/mysqld/wsrep-new-cluster ] && . /run/mysqld/wsrep-new-cluster
  setsid $as sh -c "umask 007; exec /usr/sbin/mariadbd $_WSREP_NEW_CLUSTER $position" >>/var/log/server.log 2>&1 </dev/null &
  pid=$!
  until mariadb-admin ping >/dev/null 2>&1; do kill -0 $pid || { tail -20 /var/log/server.log >&2; exit 1; }; sleep 0.1; done
}
case "$1" in stop) stop;; start) start;; restart) stop; start;; *) echo "systemctl does not know $1" >&2; exit 1;; esac
`

// databaseBase returns a folder with Debian's base and what docs/cluster.md has an operator install into it: made once, and laid under each
// machine.
func databaseBase(t *testing.T) string {
	t.Helper()
	kept := filepath.Join(servers.Kept(), "base-bookworm-cluster")
	if _, err := os.Stat(kept); err == nil {
		return kept
	}
	half := kept + ".half"
	check(t, os.RemoveAll(half))
	if out, err := exec.Command("cp", "-a", "--reflink=auto", keptBase(t), half).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	// Nothing is started while a package is installed: there is no systemd.
	check(t, os.WriteFile(filepath.Join(half, "usr/sbin/policy-rc.d"), []byte("#!/bin/sh\nexit 101\n"), 0o755))
	if out, err := exec.Command("cp", "-L", "/etc/resolv.conf", filepath.Join(half, "etc/resolv.conf")).CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	install := strings.TrimPrefix(pageLine(t, "cluster.md", "apt install"), "sudo apt ")
	if out, status := inside(t, half, "sh", "-c", "apt-get update -qq && apt-get -y -qq "+install+" && apt-get clean"); status != 0 {
		t.Fatalf("%s: %s", install, out)
	}
	check(t, os.Rename(half, kept))
	return kept
}

// newMachine makes one on top of what databaseBase has.
func newMachine(t *testing.T, name string, by []string) *machine {
	t.Helper()
	base, dir := databaseBase(t), t.TempDir()
	m := &machine{t: t, name: name, root: filepath.Join(dir, "root"), by: by}
	for _, d := range []string{"root", "own", "work"} {
		check(t, os.Mkdir(filepath.Join(dir, d), 0o755))
	}
	layers := "lowerdir=" + base + ",upperdir=" + filepath.Join(dir, "own") + ",workdir=" + filepath.Join(dir, "work")
	if out, err := exec.Command("mount", "-t", "overlay", "overlay", "-o", layers, m.root).CombinedOutput(); err != nil {
		t.Skipf("root may not mount here: %v %s", err, out)
	}
	t.Cleanup(func() { _ = syscall.Unmount(m.root, syscall.MNT_DETACH) })
	t.Cleanup(m.powerOff)
	m.write("usr/local/bin/systemctl", systemctl, 0o755)
	m.run("install -d -o mysql /run/mysqld") // as systemd does when it begins
	return m
}

func (m *machine) at(path string) string { return filepath.Join(m.root, path) }

func (m *machine) write(path, text string, mode os.FileMode) {
	m.t.Helper()
	check(m.t, os.MkdirAll(filepath.Dir(m.at(path)), 0o755))
	check(m.t, os.WriteFile(m.at(path), []byte(text), mode))
}

// run runs a command of the docs, as root: what they write with sudo.
func (m *machine) run(command string) string {
	m.t.Helper()
	command = regexp.MustCompile(`sudo -u (\w+) `).ReplaceAllString(command, "runuser -u $1 -- ")
	command = strings.ReplaceAll(command, "sudo ", "")
	ctx, cancel := context.WithTimeout(m.t.Context(), 2*patience)
	defer cancel()
	args := append(slices.Clone(m.by), asRoot(m.root, "", "sh", "-c", command)...)
	cmd := exec.CommandContext(ctx, args[0], args[1:]...)
	cmd.Env = []string{"PATH=/usr/local/sbin:/usr/local/bin:/usr/sbin:/usr/bin:/sbin:/bin", "HOME=/root", "LC_ALL=C",
		"DEBIAN_FRONTEND=noninteractive"}
	out, err := cmd.CombinedOutput()
	if err != nil {
		log, _ := os.ReadFile(m.at("var/log/server.log"))
		m.t.Fatalf("%s: %s: %v\n%s\n%s", m.name, command, err, out, log[max(0, len(log)-3000):])
	}
	return string(out)
}

// powerOff ends whatever runs on the machine, at once.
func (m *machine) powerOff() {
	for again := true; again; {
		again = false
		found, _ := filepath.Glob("/proc/[0-9]*/root")
		for _, link := range found {
			if to, err := os.Readlink(link); err == nil && to == m.root {
				var pid int
				if _, err := fmt.Sscanf(link, "/proc/%d/root", &pid); err == nil && syscall.Kill(pid, syscall.SIGKILL) == nil {
					state, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
					again = again || !bytes.Contains(state, []byte(") Z "))
				}
			}
		}
		if again {
			time.Sleep(20 * time.Millisecond) // what was killed is gone when it no longer has a folder as its root
		}
	}
	left, _ := filepath.Glob(m.at("run/mysqld/*")) // /run is empty after it
	for _, x := range left {
		_ = os.Remove(x)
	}
}

// status waits until the database of the machine says this of the group.
func (m *machine) status(of, want string) {
	m.t.Helper()
	var got string
	for until := time.Now().Add(2 * patience); time.Now().Before(until); time.Sleep(100 * time.Millisecond) {
		if got = m.run(`mariadb -N -e "SHOW STATUS LIKE '` + of + `'" 2>&1 || true`); strings.TrimSpace(got) == of+"\t"+want {
			return
		}
	}
	m.t.Fatalf("%s: %s is %s, not %s", m.name, of, got, want)
}

// TestClusterGuide follows docs/cluster.md, word for word, on three machines that have Debian's base and nothing else: what it has an
// operator install, write and type, up to the loss of two machines and of all.
func TestClusterGuide(t *testing.T) {
	t.Parallel()
	if os.Getuid() != 0 {
		t.Skip("machines of their own take an administrator of this one")
	}
	ctx, cancel := context.WithCancel(t.Context())
	network, err := mariadb.NewNetwork(ctx, 3)
	if err != nil {
		cancel()
		t.Skipf("root may not make networks here: %v", err)
	}
	t.Cleanup(cancel)
	deb, err := builtOnce()
	check(t, err)
	var all []*machine
	hosts := "127.0.0.1 localhost\n"
	for i := range 3 {
		hosts += fmt.Sprintf("10.0.0.%d db%d.house.example\n", i+1, i+1)
	}
	for i := range 3 {
		m := newMachine(t, fmt.Sprintf("db%d.house.example", i+1), network.In(i))
		m.write("etc/hosts", hosts, 0o644)
		config := pageBlock(t, "cluster.md", "[galera]")
		config = strings.Replace(config, "wsrep_node_address = db1.house.example", "wsrep_node_address = "+m.name, 1)
		// it is written whole at the start, and other tests want the disk, too
		config = strings.Replace(config, "gcache.size=1G", "gcache.size=16M", 1)
		m.write("etc/mysql/mariadb.conf.d/60-galera.cnf", config+"\n", 0o644)
		all = append(all, m)
	}
	first := all[0]
	first.run(pageLine(t, "cluster.md", "# on the first one alone"))
	for _, m := range all[1:] {
		m.run(pageLine(t, "cluster.md", "sudo systemctl restart mariadb"))
	}
	first.status("wsrep_cluster_size", "3")
	if out := all[1].run(pageBlock(t, "cluster.md", "CREATE DATABASE wexillum")); !strings.Contains(out, "wsrep_cluster_size\t3") {
		t.Errorf("made on the second: %s", out)
	}

	// A service on each, as docs/install.md says, with what docs/cluster.md says of several.
	settle := func(m *machine, dsn, more string) {
		t.Helper()
		m.run(regexp.MustCompile(`'[^']*'`).ReplaceAllLiteralString(pageBlock(t, "install.md", "/etc/wexillum/secrets/database"), "'"+dsn+"'"))
		settings, err := os.ReadFile(m.at("etc/wexillum/wexillum.yaml"))
		check(t, err)
		m.write("etc/wexillum/wexillum.yaml",
			string(settings)+"\n# ours\ndatabase: file:/etc/wexillum/secrets/database\nlisten: 127.0.0.1:0\n"+more, 0o640)
	}
	for i, m := range all {
		if out, err := exec.Command("cp", deb, m.at("tmp/wexillum.deb")).CombinedOutput(); err != nil {
			t.Fatalf("%v %s", err, out)
		}
		m.run("dpkg -i /tmp/wexillum.deb")
		settle(m, pageLine(t, "cluster.md", "@tcp(db1"), "key_file: /etc/wexillum/keys\n")
		if i == 0 {
			m.run(strings.Split(pageLine(t, "install.md", "wexillum seal-key"), " #")[0])
			m.run("printf 'the tide is out at six\\n' | " + pageLine(t, "install.md", "account first"))
			continue
		}
		keys, err := os.ReadFile(first.at("etc/wexillum/keys"))
		check(t, err)
		m.write("etc/wexillum/keys", string(keys), 0o600)
		m.run("chown wexillum /etc/wexillum/keys")
	}
	services := make([]*running, 3)
	serve := func(i int) {
		t.Helper()
		services[i] = &running{t: t, url: servePackage(t, all[i].root, all[i].by...).url}
	}
	for i := range all {
		serve(i)
	}
	status, _, body := services[0].call("POST", "/api/v1/tokens", "", `{"name":"captain","password":"the tide is out at six"}`)
	var signedIn struct{ Token string }
	if err := json.Unmarshal([]byte(body), &signedIn); err != nil || status != 201 {
		t.Fatal(status, body, err)
	}
	token := signedIn.Token
	var acknowledged []string
	// write bars somebody at a service, for as long as it says that the database is away.
	write := func(i int) {
		t.Helper()
		name := fmt.Sprintf("x%d.example", len(acknowledged))
		for until := time.Now().Add(2 * patience); ; time.Sleep(100 * time.Millisecond) {
			status, _, body := services[i].call("POST", "/api/v1/bars", token, `{"name":"`+name+`","reason":"x"}`)
			if status == 201 || status == 409 {
				acknowledged = append(acknowledged, name)
				return
			}
			if status < 500 || time.Now().After(until) {
				t.Fatalf("%s: %d %s", all[i].name, status, body)
			}
		}
	}
	// seen waits until each of these services has all that was acknowledged.
	seen := func(at ...int) {
		t.Helper()
		for _, i := range at {
			for _, name := range acknowledged {
				for until := time.Now().Add(2 * patience); ; time.Sleep(50 * time.Millisecond) {
					if status, _, body := services[i].call("GET", "/api/v1/bars", token, ""); status == 200 && strings.Contains(body, `"`+name+`"`) {
						break
					} else if time.Now().After(until) {
						t.Fatalf("%s does not know %s: %d %s", all[i].name, name, status, body)
					}
				}
			}
		}
	}
	write(0)
	write(1)
	seen(0, 1, 2)
	doctor := func(m *machine, want string) {
		t.Helper()
		if out := m.run(pageLine(t, "install.md", "wexillum doctor") + " || true"); !strings.Contains(out, want) {
			t.Errorf("%s: doctor does not say %s:\n%s", m.name, want, out)
		}
	}
	doctor(first, "3 nodes, this one synced")

	// The machine that is written to loses its power; and then another one: two of three are gone.
	first.powerOff()
	write(1)
	seen(1, 2)
	doctor(all[2], "2 of the nodes are there")
	all[1].powerOff()
	all[2].status("wsrep_cluster_status", "non-Primary")
	if status, _, body := services[2].call("GET", "/readyz/decisions", "", ""); status != 200 {
		t.Errorf("decisions are not answered: %d %s", status, body)
	}
	pick := regexp.MustCompile("`(sudo mariadb -e \"SET GLOBAL[^`]+)`")
	guide, err := os.ReadFile(filepath.Join(repository, "docs/cluster.md"))
	check(t, err)
	m := pick.FindSubmatch(guide)
	if m == nil {
		t.Fatal("the guide does not say what to do where two are lost")
	}
	all[2].run(string(m[1]))
	write(2)
	for i, m := range all[:2] {
		m.run("sudo systemctl start mariadb")
		serve(i)
	}
	first.status("wsrep_cluster_size", "3")
	seen(0, 1, 2)
	write(0)

	// All lose it.
	for _, m := range all {
		m.powerOff()
	}
	last, most := 0, -1
	for i, m := range all {
		out, n := m.run(pageBlock(t, "cluster.md", "galera_recovery")), -1
		found := regexp.MustCompile(`wsrep.start.position=\S+:(\d+)`).FindStringSubmatch(out)
		if found == nil {
			t.Fatalf("%s: galera_recovery: %s", m.name, out)
		}
		if _, err := fmt.Sscan(found[1], &n); err != nil {
			t.Fatal(err)
		}
		if n > most {
			last, most = i, n
		}
	}
	all[last].run(pageBlock(t, "cluster.md", "safe_to_bootstrap"))
	for i, m := range all {
		if i != last {
			m.run("sudo systemctl start mariadb")
		}
	}
	first.status("wsrep_cluster_size", "3")
	for i := range all {
		serve(i)
	}
	seen(0, 1, 2)
	write(2)
	seen(0, 1, 2)
	if status, _, body := services[1].call("GET", "/api/v1/journal/verification", token, ""); status != 200 ||
		strings.Contains(body, `"broken"`) {
		t.Errorf("the journal: %d %s", status, body)
	}

	// A service that answers decisions alone, with an account that may read.
	first.run(pageLine(t, "cluster.md", "CREATE USER reader"))
	last3 := all[2]
	settings, err := os.ReadFile(last3.at("etc/wexillum/wexillum.yaml"))
	check(t, err)
	last3.write("etc/wexillum/wexillum.yaml", strings.Split(string(settings), "\n# ours\n")[0], 0o640)
	settle(last3, "reader:another long password@tcp(db3.house.example:3306,db2.house.example:3306)/wexillum",
		pageBlock(t, "cluster.md", "only: decisions"))
	alone := servePackage(t, last3.root, last3.by...)
	near := &running{t: t, url: alone.url}
	for path, want := range map[string]int{"/readyz": 200, "/api/v1/guests": 403} {
		if status, _, body := near.call("GET", path, token, ""); status != want {
			t.Errorf("decisions alone: %s: %d %s", path, status, body)
		}
	}
	alone.stop()
}

// builtOnce is the package of this tree, for all tests that install it.
var builtOnce = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "wexillum-package-")
	if err != nil {
		return "", err
	}
	return buildPackage(dir, "1.0~1")
})

// buildPackage builds the package into a folder, with little packing.
func buildPackage(into, version string) (string, error) {
	cmd := exec.Command("packaging/build", into, version)
	cmd.Dir = repository
	cmd.Env = append(os.Environ(), "PRESS=-Zgzip -z1", "REVISION=abc1234 of 2026-11-30", "SOURCE_DATE_EPOCH=1796000000")
	out, err := cmd.Output()
	var wrong *exec.ExitError
	if errors.As(err, &wrong) {
		err = fmt.Errorf("%w\n%s", err, wrong.Stderr)
	}
	return strings.TrimSpace(string(out)), err
}
