package service

import (
	"context"
	"fmt"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// TestOutages lets two services follow each other on one database, one of them
// stopped for a while, and the database killed and come back: both end with the
// same, and what was so before is still answered.
func TestOutages(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	defer func() { _ = server.Stop() }()
	check(t, server.Create(t.Context(), "w"))
	a, clock := start(t, server.DSN("w"))
	b, other := start(t, server.DSN("w"))
	load(t, a, small)
	run := func(s *Service) (stop func()) {
		ctx, cancel := context.WithCancel(t.Context())
		done := make(chan bool)
		go func() { s.Run(ctx, 5*time.Millisecond); close(done) }()
		return func() { cancel(); <-done }
	}
	same := func(b *Service, what string) {
		t.Helper()
		heads, end := b.Watch()
		defer end()
		patience := time.After(20 * time.Second)
		for b.State().Head != a.State().Head {
			select {
			case <-heads:
			case <-patience:
				t.Fatalf("%s: one is at %+v, the other still at %+v", what, a.State().Head, b.State().Head)
			}
		}
		if x, y := decide(t, a, "maren@ilvane.example", "spaces.enter", "space:dossier"),
			decide(t, b, "maren@ilvane.example", "spaces.enter", "space:dossier"); x != y {
			t.Errorf("%s: one says %t, the other %t", what, x, y)
		}
	}
	grant := func(until string) {
		t.Helper()
		load(t,
			a,
			fmt.Sprintf("wexillum: 1\ngrants: [{party: maren@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01, until: %s}]",
				until))
	}
	stop := run(b)
	same(b, "at first")
	grant("2026-11-01")
	same(b, "a grant changed")
	if decide(t, b, "maren@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("the grant that ended still counts")
	}
	before := moment.Of(clock.now())
	text := func(s *Service, at store.Head) string {
		w, err := s.World(t.Context(), at)
		check(t, err)
		return string(worldfile.Write(w))
	}
	then := text(a, store.Head{})

	// One is stopped while the other goes on.
	stop()
	clock.forward(time.Hour)
	other.forward(time.Hour)
	for i := range 40 {
		load(t,
			a,
			fmt.Sprintf("wexillum: 1\nguests: [{address: g%d@ilvane.example, sponsor: uma}]\ngrants: [{party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01}]",
				i, i))
	}
	grant("2027-11-01")
	stop = run(b)
	same(b, "after it was stopped")

	// The database is killed; what is known is answered meanwhile.
	check(t, syscall.Kill(server.PID(), syscall.SIGKILL))
	<-server.Exited()
	if !decide(t, a, "maren@ilvane.example", "spaces.enter", "space:dossier") ||
		!decide(t, b, "g7@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("without the database nothing is answered")
	}
	if _, err := a.Load(t.Context(), "test", "", "test", []byte("wexillum: 1\nguests: [{address: lost@ilvane.example, sponsor: uma}]"),
		false); err == nil {
		t.Error("a change without the database is taken")
	}
	server, err = mariadb.Start(t.Context(), dir)
	check(t, err)
	grant("2026-10-01")
	same(b, "after the database was killed")
	if decide(t, b, "maren@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("the grant that ended still counts")
	}
	stop()

	// What was so before all that is still answered, by both.
	for _, s := range []*Service{a, b} {
		st, how, err := s.At(t.Context(), before)
		check(t, err)
		if how != FromThen || text(s, st.Head) != then {
			t.Errorf("%s, and what was recorded then is told otherwise", how)
		}
	}
	if n, broken, err := b.VerifyJournal(t.Context()); err != nil || broken != nil || n != a.State().Head.Seq {
		t.Errorf("%d, %+v, %v", n, broken, err)
	}
}
