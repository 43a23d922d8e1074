package mariadb

import (
	"context"
	"database/sql"
	"os"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql"
)

func startServer(t *testing.T, dir string) *Server {
	t.Helper()
	ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
	defer cancel()
	s, err := Start(ctx, dir)
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func query(t *testing.T, s *Server, q string) string {
	t.Helper()
	db, err := sql.Open("mysql", s.DSN("w"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	var out string
	if err := db.QueryRow(q).Scan(&out); err != nil {
		t.Fatal(err)
	}
	return out
}

// TestLife starts, keeps, stops, is killed, and takes over from a server that was
// left behind, with a path too long for a socket.
func TestLife(t *testing.T) {
	dir := filepath.Join(t.TempDir(), strings.Repeat("deep/", 20), "db")
	s := startServer(t, dir)
	if err := s.Create(t.Context(), "w"); err != nil {
		t.Fatal(err)
	}
	if got := query(t, s, "SELECT CONCAT(@@bind_address, ' ', @@character_set_server)"); got != "127.0.0.1 utf8mb4" {
		t.Errorf("it listens on %s", got)
	}
	db, err := sql.Open("mysql", s.DSN("w"))
	if err != nil {
		t.Fatal(err)
	}
	for _, q := range []string{"CREATE TABLE kept (x INT)", "INSERT INTO kept VALUES (7)"} {
		if _, err := db.Exec(q); err != nil {
			t.Fatal(err)
		}
	}
	db.Close()
	if got := query(t, s, "SELECT @@tmpdir"); got != filepath.Join(dir, "tmp") {
		t.Errorf("temporary tables are in %s, where another server that starts clears them away", got)
	}
	// Another process starts on the same directory: the first server is stopped in order.
	first := s
	s = startServer(t, dir)
	if err := <-first.Exited(); err != nil {
		t.Errorf("the server left behind ended with %v", err)
	}
	if got := query(t, s, "SELECT x FROM kept"); got != "7" {
		t.Errorf("kept is %s", got)
	}
	if err := syscall.Kill(s.PID(), syscall.SIGKILL); err != nil {
		t.Fatal(err)
	}
	<-s.Exited()
	s = startServer(t, dir)
	if got := query(t, s, "SELECT x FROM kept"); got != "7" {
		t.Errorf("after the kill, kept is %s", got)
	}
	if err := s.Drop(t.Context(), "w"); err != nil {
		t.Error(err)
	}
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	if err := StopLeftover(t.Context(), dir); err != nil {
		t.Error(err)
	}
}

// TestHalfInstalled begins an interrupted installation again.
func TestHalfInstalled(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	if err := os.MkdirAll(filepath.Join(dir, "data.new", "mysql"), 0o700); err != nil {
		t.Fatal(err)
	}
	s := startServer(t, dir)
	if err := s.Stop(); err != nil {
		t.Error(err)
	}
	if _, err := os.Stat(filepath.Join(dir, "data.new")); err == nil {
		t.Error("the half installation is still there")
	}
}

// TestOtherProcess leaves a process alone that only has the number of an old one.
func TestOtherProcess(t *testing.T) {
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "server.pid"), []byte("1\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	if err := StopLeftover(t.Context(), dir); err != nil {
		t.Error(err)
	}
}
