package store

import (
	"context"
	"testing"

	"wexillum.example/internal/dbtest"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

func TestTry(t *testing.T) {
	ctx := context.Background()
	s, err := Open(ctx, dbtest.DSN(t), nil)
	if err != nil {
		t.Fatal(err)
	}
	if err := s.Migrate(ctx); err != nil {
		t.Fatal(err)
	}
	rows, _ := s.db.Query("select one, seq, revision, hex(seal), @@sql_mode from head")
	for rows.Next() {
		var a, b, c int
		var d, e string
		t.Log(rows.Scan(&a, &b, &c, &d, &e), a, b, c, d, e)
	}
	_, err = s.Head(ctx)
	t.Log(err)
	v, err := s.SchemaVersion(ctx)
	t.Log(v, err)
}
