// Package mariadb runs a private MariaDB server: its own data directory, its own
// socket, a port of its own on loopback. It never touches another instance.
//
// It knows nothing of what is stored; it needs Debian's mariadb-server-core.
package mariadb

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"database/sql"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/freeport"
)

// Server is a running server.
type Server struct {
	dir    string
	socket string
	user   string
	cmd    *exec.Cmd
	exited chan error
	log    *os.File
}

// Start starts a server on dir, which is made and filled where it is empty. A
// server that an earlier process left behind on the same directory is stopped
// first. The context bounds the start, not the life, of the server. settings are more of the
// server's own, over those that it is given here.
func Start(ctx context.Context, dir string, settings ...string) (*Server, error) {
	return startIn(ctx, dir, nil, settings...)
}

// startIn is Start by way of another command, as in (network namespaces).
func startIn(ctx context.Context, dir string, by []string, settings ...string) (*Server, error) {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return nil, err
	}
	bin, err := find("mariadbd", "/usr/sbin/mariadbd")
	if err != nil {
		return nil, err
	}
	me, err := user.Current()
	if err != nil {
		return nil, fmt.Errorf("who runs this is not known: %w", err)
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	s := &Server{dir: dir, user: me.Username, socket: socketPath(dir), exited: make(chan error, 1)}
	if err := s.stopLeftover(ctx); err != nil {
		return nil, err
	}
	data := filepath.Join(dir, "data")
	if err := s.install(ctx, data); err != nil {
		return nil, err
	}
	port, err := freeport.Find()
	if err != nil {
		return nil, err
	}
	// One that starts clears away what looks left over where temporary tables are: of others, too, where that is shared.
	temporary := filepath.Join(dir, "tmp")
	if err := os.MkdirAll(temporary, 0o700); err != nil {
		return nil, err
	}
	s.log, err = os.OpenFile(filepath.Join(dir, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return nil, err
	}
	args := append(append(by[:len(by):len(by)], bin), append([]string{"--no-defaults", "--user=" + s.user, "--datadir=" + data,
		"--tmpdir=" + temporary, "--socket=" + s.socket,
		"--pid-file=" + filepath.Join(dir, "server.pid"), "--log-error=" + filepath.Join(dir, "error.log"),
		"--bind-address=127.0.0.1", "--port=" + strconv.Itoa(port), "--skip-name-resolve",
		"--character-set-server=utf8mb4", "--collation-server=utf8mb4_bin", "--innodb-log-file-size=64M", "--max-allowed-packet=64M",
		"--innodb-buffer-pool-size=256M", "--performance-schema=OFF"}, settings...)...)
	s.cmd = exec.Command(args[0], args[1:]...)
	s.cmd.Stdout, s.cmd.Stderr = s.log, s.log
	// Ctrl-C reaches the whole group of a terminal; the server is stopped in
	// order by whoever started it.
	s.cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	started := make(chan error, 1)
	go func() { // Pdeathsig follows the thread that started the child: see waitOn
		waitOn(s, started)
	}()
	if err := <-started; err != nil {
		return nil, fmt.Errorf("the database server does not start: %w", err)
	}
	if err := s.ready(ctx); err != nil {
		_ = s.Stop()
		return nil, err
	}
	return s, nil
}

func find(name, fallback string) (string, error) {
	if p, err := exec.LookPath(name); err == nil {
		return p, nil
	}
	if _, err := os.Stat(fallback); err == nil {
		return fallback, nil
	}
	return "", fmt.Errorf("%s is not installed; it comes with Debian's packages mariadb-server-core and mariadb-client-core", name)
}

// socketPath keeps the path short: a socket takes at most 107 bytes.
func socketPath(dir string) string {
	p := filepath.Join(dir, "s.sock")
	if len(p) <= 100 {
		return p
	}
	sum := sha256.Sum256([]byte(dir))
	return filepath.Join(os.TempDir(), "wexillum-"+hex.EncodeToString(sum[:8])+".sock")
}

func (s *Server) install(ctx context.Context, data string) error {
	if _, err := os.Stat(filepath.Join(data, "mysql")); err == nil {
		return nil
	}
	// An installation that was interrupted is begun again.
	half := data + ".new"
	if err := os.RemoveAll(half); err != nil {
		return err
	}
	tool, err := find("mariadb-install-db", "/usr/bin/mariadb-install-db")
	if err != nil {
		return err
	}
	// The server that sets up clears away what looks left over where temporary tables are, of others that set up at the same time, too.
	temporary := half + ".tmp"
	if err := os.MkdirAll(temporary, 0o700); err != nil {
		return err
	}
	defer os.RemoveAll(temporary)
	cmd := exec.CommandContext(ctx, tool, "--no-defaults", "--user="+s.user, "--datadir="+half, "--tmpdir="+temporary,
		"--auth-root-authentication-method=socket", "--auth-root-socket-user="+s.user, "--skip-test-db", "--skip-name-resolve")
	cmd.Env = append(os.Environ(), "TMPDIR="+temporary)
	if out, err := cmd.CombinedOutput(); err != nil {
		return fmt.Errorf("the database cannot be set up: %w\n%s", err, out)
	}
	return os.Rename(half, data)
}

// stopLeftover ends a server that still runs on this directory, after whoever
// started it was killed.
func (s *Server) stopLeftover(ctx context.Context) error {
	pidFile := filepath.Join(s.dir, "server.pid")
	text, err := os.ReadFile(pidFile)
	if err != nil {
		return nil
	}
	pid, err := strconv.Atoi(strings.TrimSpace(string(text)))
	if err != nil || !s.isOurs(pid) {
		return nil
	}
	if err := syscall.Kill(pid, syscall.SIGTERM); err != nil && !errors.Is(err, syscall.ESRCH) {
		return fmt.Errorf("a database server (process %d) still runs on %s and cannot be stopped: %w", pid, s.dir, err)
	}
	for s.isOurs(pid) {
		select {
		case <-ctx.Done():
			return fmt.Errorf("a database server (process %d) still runs on %s", pid, s.dir)
		case <-time.After(20 * time.Millisecond):
		}
	}
	return nil
}

// isOurs reports whether pid is a server on this very directory.
func (s *Server) isOurs(pid int) bool {
	line, err := os.ReadFile(fmt.Sprintf("/proc/%d/cmdline", pid))
	return err == nil && strings.Contains(string(line), "--datadir="+filepath.Join(s.dir, "data")+"\x00")
}

func (s *Server) ready(ctx context.Context) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	for {
		if err = db.PingContext(ctx); err == nil {
			return nil
		}
		select {
		case e := <-s.exited: // closed: whoever waits hears, too
			return fmt.Errorf("the database server ended while starting: %v\n%s", e, s.tail())
		case <-ctx.Done():
			return fmt.Errorf("the database server is not ready: %w\n%s", err, s.tail())
		case <-time.After(20 * time.Millisecond):
		}
	}
}

// tail returns the last lines of the server's own log.
func (s *Server) tail() string {
	f, err := os.Open(filepath.Join(s.dir, "error.log"))
	if err != nil {
		return ""
	}
	defer f.Close()
	var lines []string
	for sc := bufio.NewScanner(f); sc.Scan(); {
		if lines = append(lines, sc.Text()); len(lines) > 8 {
			lines = lines[1:]
		}
	}
	return strings.Join(lines, "\n")
}

// DSN returns the data source name of a database on the server, for
// database/sql with the mysql driver, or of none.
func (s *Server) DSN(database string) string {
	c := mysql.NewConfig()
	c.User, c.Net, c.Addr, c.DBName = s.user, "unix", s.socket, database
	return c.FormatDSN()
}

// Create makes a database where there is none.
func (s *Server) Create(ctx context.Context, database string) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS `"+database+"`")
	return err
}

// Drop removes a database.
func (s *Server) Drop(ctx context.Context, database string) error {
	db, err := sql.Open("mysql", s.DSN(""))
	if err != nil {
		return err
	}
	defer db.Close()
	_, err = db.ExecContext(ctx, "DROP DATABASE IF EXISTS `"+database+"`")
	return err
}

// Exited is closed with the server's end, whoever caused it.
func (s *Server) Exited() <-chan error { return s.exited }

// PID returns the process id of the server.
func (s *Server) PID() int { return s.cmd.Process.Pid }

// Stop stops the server in order and waits for its end.
func (s *Server) Stop() error {
	_ = s.cmd.Process.Signal(syscall.SIGTERM)
	select {
	case <-s.exited:
	case <-time.After(30 * time.Second):
		_ = s.cmd.Process.Kill()
		<-s.exited
	}
	return s.log.Close()
}

// StopLeftover ends a server that still runs on dir, after whoever started it
// was killed.
func StopLeftover(ctx context.Context, dir string) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	return (&Server{dir: dir}).stopLeftover(ctx)
}
