package bench

import (
	"context"
	"fmt"
	"io"
	"log/slog"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// pastVersions is how often everything was written anew before it became what it is: five years in
// which each role, record and thing is altered once a year.
const pastVersions = 5

// BenchmarkPast prints how much longer a start from the database takes where each row has a past,
// and how long it takes to read all as it was in the middle of that past.
func BenchmarkPast(b *testing.B) {
	ctx := context.Background()
	w := generate(b)
	st, err := store.Open(ctx, dbtest.DSN(b), nil)
	if err != nil {
		b.Fatal(err)
	}
	defer st.Close()
	if err := st.Migrate(ctx); err != nil {
		b.Fatal(err)
	}
	head, err := st.Import(ctx, "bench", "bench", w, nil)
	if err != nil {
		b.Fatal(err)
	}
	ready := func() float64 {
		start := time.Now()
		svc, err := service.New(ctx, st, nil, slog.New(slog.NewTextHandler(io.Discard, nil)))
		if err != nil {
			b.Fatal(err)
		}
		took := time.Since(start).Seconds()
		if n := svc.State().Counts().Guests; n != len(w.Guests) {
			b.Fatalf("%d guests of %d", n, len(w.Guests))
		}
		return took
	}
	exec := func(format string, a ...any) {
		if _, err := st.DB().ExecContext(ctx, fmt.Sprintf(format, a...)); err != nil {
			b.Fatal(err)
		}
	}
	ready()
	var before, after []float64
	for range 3 {
		before = append(before, ready())
	}
	columns := map[string]string{}
	for _, table := range []string{"guest", "grant", "item", "record"} {
		rows, err := st.DB().QueryContext(ctx, "SELECT column_name FROM information_schema.columns WHERE table_schema = DATABASE() "+
			"AND table_name = ? AND column_name NOT IN ('from_seq', 'until_seq')", table)
		if err != nil {
			b.Fatal(err)
		}
		for rows.Next() {
			var c string
			if err := rows.Scan(&c); err != nil {
				b.Fatal(err)
			}
			columns[table] += ", `" + c + "`"
		}
		rows.Close()
		// What is there was written last; before it come the versions of the years.
		exec("UPDATE `%s` SET from_seq = %d", table, head.Seq+pastVersions)
		for k := range uint64(pastVersions) {
			exec("INSERT INTO `%s` (from_seq, until_seq%s) SELECT %d, %d%s FROM `%s` WHERE from_seq = %d", table, columns[table],
				head.Seq+k, head.Seq+k+1, columns[table], table, head.Seq+pastVersions)
		}
	}
	exec("UPDATE head SET seq = %d", head.Seq+pastVersions)
	ready()
	for range 3 {
		after = append(after, ready())
	}
	start := time.Now()
	e := engine.New()
	if _, err := st.Read(ctx, store.Head{Seq: head.Seq + 2, Revision: head.Revision}, e); err != nil {
		b.Fatal(err)
	}
	if n := e.Done().Counts().Guests; n != len(w.Guests) {
		b.Fatalf("%d guests of %d", n, len(w.Guests))
	}
	b.ReportMetric(time.Since(start).Seconds(), "s/as-it-was")
	if err := st.MigrateDown(ctx, 21); err != nil {
		b.Fatal(err)
	}
	start = time.Now()
	if err := st.Migrate(ctx); err != nil {
		b.Fatal(err)
	}
	b.ReportMetric(time.Since(start).Seconds(), "s/the-upgrade-that-parts-them")
	b.ReportMetric(median(before), "s/ready-without-a-past")
	b.ReportMetric(median(after), "s/ready-with-a-past")
	b.ReportMetric(median(after)/median(before), "x-without-a-past")
	b.ReportMetric(0, "ns/op")
}
