// Package dbtest gives tests a database server of their own, one for each test
// binary, on memory where there is some, and an empty database for each test.
package dbtest

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/mariadb"
)

var (
	start  sync.Once
	server *mariadb.Server
	failed error
	dir    string
	number atomic.Int64
)

// Server returns the server of this test binary.
func Server(t testing.TB) *mariadb.Server {
	t.Helper()
	start.Do(func() {
		base := os.TempDir()
		if st, err := os.Stat("/dev/shm"); err == nil && st.IsDir() {
			base = "/dev/shm"
		}
		if dir, failed = os.MkdirTemp(base, "wexillum-test-"); failed != nil {
			return
		}
		ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
		defer cancel()
		server, failed = mariadb.Start(ctx, filepath.Join(dir, "db"))
	})
	if failed != nil {
		t.Fatalf("the tests' database server does not start: %v", failed)
	}
	return server
}

// DSN makes an empty database and returns its data source name. The database is
// dropped with the end of the test.
func DSN(t testing.TB) string {
	t.Helper()
	s := Server(t)
	name := fmt.Sprintf("t%d", number.Add(1))
	ctx := context.Background()
	if err := s.Create(ctx, name); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { _ = s.Drop(context.Background(), name) })
	return s.DSN(name)
}

// Main runs the tests of a package and stops their server.
func Main(m *testing.M) {
	code := m.Run()
	if server != nil {
		_ = server.Stop()
	}
	if strings.Contains(dir, "wexillum-test-") {
		_ = os.RemoveAll(dir)
	}
	os.Exit(code)
}
