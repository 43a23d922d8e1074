// Package dbtest gives tests a database server of their own, one for each test
// binary, on memory where there is some, and an empty database for each test.
package dbtest

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	_ "github.com/go-sql-driver/mysql" // database/sql

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
		for range 3 { // a machine with much to do may take longer once
			if failed = begin(); failed == nil {
				return
			}
			fmt.Fprintf(os.Stderr, "the tests' database server does not start: %v\n", failed)
		}
	})
	if failed != nil {
		t.Fatalf("the tests' database server does not start: %v", failed)
	}
	return server
}

// begin starts the server in a folder of its own.
func begin() (err error) {
	base := os.TempDir()
	if st, err := os.Stat("/dev/shm"); err == nil && st.IsDir() {
		base = "/dev/shm"
	}
	if dir, err = os.MkdirTemp(base, "wexillum-test-"); err != nil {
		return err
	}
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	if server, err = mariadb.Start(ctx, filepath.Join(dir, "db")); err != nil {
		_ = os.RemoveAll(dir)
	}
	return err
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

// Filled makes a database that holds what another one does that fill filled: once for all tests of the binary that name the
// same key, so that what is long in the making is made once.
func Filled(t testing.TB, key string, fill func(dsn string) error) string {
	t.Helper()
	s := Server(t) // it fails before others wait
	of, err := func() (string, error) {
		filling.Lock()
		defer filling.Unlock()
		if of := filled[key]; of != "" {
			return of, nil
		}
		of := fmt.Sprintf("t%d", number.Add(1))
		if err := s.Create(context.Background(), of); err != nil {
			return "", err
		}
		if err := fill(s.DSN(of)); err != nil {
			return "", err
		}
		filled[key] = of
		return of, nil
	}()
	if err != nil {
		t.Fatal(err)
	}
	dsn := DSN(t)
	if err := copied(dsn, of); err != nil {
		t.Fatal(err)
	}
	return dsn
}

var (
	filling sync.Mutex
	filled  = map[string]string{}
)

// copied copies all tables of a database into an empty one.
func copied(dsn, of string) error {
	db, err := sql.Open("mysql", dsn)
	if err != nil {
		return err
	}
	defer db.Close()
	rows, err := db.Query("SELECT table_name FROM information_schema.tables WHERE table_schema = ?", of)
	if err != nil {
		return err
	}
	defer rows.Close()
	var tables []string
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return err
		}
		tables = append(tables, name)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, name := range tables {
		for _, line := range []string{"CREATE TABLE `%[2]s` LIKE `%[1]s`.`%[2]s`", "INSERT INTO `%[2]s` SELECT * FROM `%[1]s`.`%[2]s`"} {
			if _, err := db.Exec(fmt.Sprintf(line, of, name)); err != nil {
				return fmt.Errorf("table %s: %w", name, err)
			}
		}
	}
	return nil
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
