package store

import (
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
)

// TestNoticedOften counts how often a finding came since a moment, those that are there and those that went; of the thousands of other
// kinds that are kept, none is read for it.
func TestNoticedOften(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, dbtest.DSN(t), nil)
	check(t, err)
	defer s.Close()
	check(t, s.Migrate(ctx))
	write := func(fn func(tx *Tx) error) {
		t.Helper()
		_, err := s.Change(ctx, "test", "", func(tx *Tx) error {
			check(t, fn(tx))
			return tx.Commit()
		})
		check(t, err)
	}
	var many []NoticedOnce
	for i := range 3000 {
		many = append(many, NoticedOnce{Finding: fmt.Sprint("guest_without_end g", i), Kind: "guest_without_end", Came: now - 10})
	}
	write(func(tx *Tx) error { return tx.Notice(many) })
	for k, day := range []int{1, 2, 4, 6, 8} { // "often" comes each time and goes the next day but the last time; "twice" the last two times
		at := now + 86400e6*moment.Moment(day)
		write(func(tx *Tx) error {
			list := []NoticedOnce{{Finding: "system_changed often", Kind: "system_changed", About: []string{"system:quay"}, Cause: "c", Came: at}}
			if k >= 3 {
				list = append(list, NoticedOnce{Finding: "system_changed twice", Kind: "system_changed", About: []string{"system:mole"}, Cause: "c", Came: at})
			}
			return tx.Notice(list)
		})
		if k < 4 {
			write(func(tx *Tx) error {
				return tx.NoticeGone([]string{"system_changed often", "system_changed twice"}, at+86400e6)
			})
		}
	}
	for _, x := range []struct {
		since, times int
		want         string
	}{
		{0, 3, "system_changed often [system:quay] 5"},
		{0, 2, "system_changed often [system:quay] 5; system_changed twice [system:mole] 2"},
		{2, 3, "system_changed often [system:quay] 3"}, // what came on that day is not behind it
		{2, 4, ""},
		{6, 1, "system_changed often [system:quay] 1; system_changed twice [system:mole] 1"},
		{8, 1, ""},
	} {
		got, err := s.NoticedOften(ctx, "system_changed", now+86400e6*moment.Moment(x.since), x.times)
		check(t, err)
		var out []string
		for _, o := range got {
			out = append(out, fmt.Sprint(o.Finding, " ", o.About, " ", o.Times))
		}
		if text := strings.Join(out, "; "); text != x.want {
			t.Errorf("since day %d, %d times: %q, want %q", x.since, x.times, text, x.want)
		}
	}
	_, err = s.db.ExecContext(ctx, "ANALYZE TABLE noticed")
	check(t, err)
	n := 0
	for _, row := range cellsOf(t, s, "EXPLAIN "+noticedOften, int64(moment.Never), "system_changed", int64(now), int64(now), int64(moment.Never),
		"system_changed", int64(now), 3) {
		if table, key := row[2].String, row[5].String; table == "noticed" {
			if n++; key != "by_end" {
				t.Errorf("it reads by %q and not by when findings went: %v", key, row)
			}
		}
	}
	if n != 2 {
		t.Errorf("%d tables are read, not 2", n)
	}
}
