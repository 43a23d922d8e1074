package store

import (
	"database/sql"
	"strings"
	"testing"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

// cellsOf lists what a statement answers, row by row, as how a query is carried out (EXPLAIN).
func cellsOf(t *testing.T, s *Store, query string, args ...any) (out [][]sql.NullString) {
	t.Helper()
	check(t, each(t.Context(), s.db, query, args, func(r *sql.Rows) error {
		columns, err := r.Columns()
		check(t, err)
		cells := make([]sql.NullString, len(columns))
		into := make([]any, len(columns))
		for i := range cells {
			into[i] = &cells[i]
		}
		out = append(out, cells)
		return r.Scan(into...)
	}))
	return
}

// TestPastApart upgrades a database with a past from before what is past lay apart: everything is as it was behind every entry, a start
// reads none of what is past, and what ends from then on goes over.
func TestPastApart(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, dbtest.DSN(t), nil)
	check(t, err)
	defer s.Close()
	p, err := s.provider()
	check(t, err)
	check(t, s.owe(ctx, 0))
	_, err = p.UpTo(ctx, 21)
	check(t, err)

	w := worldgen.Generate(22, worldgen.Size{Guests: 40}, now)
	first, err := s.Import(ctx, "test", "start", w, nil)
	check(t, err)
	heads := []Head{first}
	// alter writes one of each table anew, and removes one role for good.
	alter := func(i int) {
		h, err := s.Change(ctx, "test", "", func(tx *Tx) error {
			g := w.Guests[i]
			g.Purpose += " again"
			_, err := tx.PutGuest(&g)
			check(t, err)
			role := w.Grants[i]
			role.Until = now + 86400e6
			_, err = tx.PutGrant(&role)
			check(t, err)
			check(t, tx.EndGrant(&w.Grants[i+20]))
			l := w.Links[i]
			l.Until = now + 3600e6
			_, err = tx.PutRecord("link", l.ID, worldfile.LinkDoc(&l))
			check(t, err)
			it := w.Spaces[i].Items[0]
			it.Name += " again"
			_, err = tx.PutItem(&it, 0)
			return err
		})
		check(t, err)
		heads = append(heads, h)
	}
	alter(0)
	alter(1)
	var before []string
	for _, h := range heads {
		before = append(before, dump(t, s, h))
	}

	check(t, s.Migrate(ctx))
	for i, h := range heads {
		if dump(t, s, h) != before[i] {
			t.Errorf("behind entry %d it is not as it was before the upgrade", h.Seq)
		}
	}
	alter(2)
	count := func(table, part string) (n int) {
		check(t, s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM `"+table+"` PARTITION ("+part+")").Scan(&n))
		return
	}
	for table, past := range map[string]int{"guest": 3, "grant": 6, "item": 3, "record": 3} {
		if n := count(table, "past"); n != past {
			t.Errorf("%d rows of %s are past, not %d", n, table, past)
		}
		// The parts that are opened for what is current, and for a day before.
		for above, want := range map[uint64]string{open - 1: "now", first.Seq: "past,now"} {
			var parts string
			for _, row := range cellsOf(t, s, "EXPLAIN PARTITIONS SELECT * FROM `"+table+"` WHERE "+asOf, heads[3].Seq, above) {
				parts = row[3].String
			}
			if parts != want {
				t.Errorf("%s: %q is opened, not %q", table, parts, want)
			}
		}
	}
	// Whoever starts reads none of it: it is as well without.
	is := dump(t, s, Head{})
	for _, table := range []string{"guest", "grant", "item", "record"} {
		_, err := s.db.ExecContext(ctx, "ALTER TABLE `"+table+"` TRUNCATE PARTITION past")
		check(t, err)
	}
	if dump(t, s, Head{}) != is {
		t.Error("without what is past, what is current is not the same")
	}
	// What lies there is not read even where it would count.
	_, err = s.db.ExecContext(ctx, "UPDATE guest SET address = CONCAT('x.', address), until_seq = ? WHERE until_seq = ? AND address = ?", open-2, open,
		w.Guests[0].Address.String())
	check(t, err)
	if n := count("guest", "past"); n != 1 || strings.Contains(dump(t, s, Head{}), "x."+w.Guests[0].Address.String()) {
		t.Errorf("what lies among the past is read (%d rows)", n)
	}
	if dump(t, s, first) == before[0] {
		t.Error("what is past was taken away, and is there")
	}
}
