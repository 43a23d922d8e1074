package service

import (
	"bytes"
	"context"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/snapfile"
	"wexillum.example/internal/store"
)

// begun is a service that begins with a file, and what it said.
func begun(t *testing.T, dsn, file string, c *clock) (*Service, string) {
	t.Helper()
	st, err := store.Open(t.Context(), dsn, c.now)
	check(t, err)
	t.Cleanup(func() { _ = st.Close() })
	var said bytes.Buffer
	s, err := NewFrom(t.Context(), st, c.now, slog.New(slog.NewTextHandler(&said, nil)), file)
	check(t, err)
	return s, said.String()
}

// writesAtEnd lets a service write its file as it does when it ends.
func writesAtEnd(t *testing.T, s *Service) {
	t.Helper()
	ctx, cancel := context.WithCancel(t.Context())
	cancel()
	s.KeepFile(ctx)
}

// everyAnswer is what everybody may do with everything, in a small world.
func everyAnswer(t *testing.T, s *Service) string {
	t.Helper()
	var out strings.Builder
	x := s.State()
	fmt.Fprintln(&out, x.Head, x.Counts())
	resources := []world.Resource{{Kind: catalogue.Space, ID: "dossier"}, {Kind: catalogue.Page, ID: "notes"},
		{Kind: catalogue.File, ID: "kit"}, {Kind: catalogue.Meeting, ID: "talk"}}
	for _, who := range []string{"maren@ilvane.example", "bo@ilvane.example", "*@ilvane.example", "someone@else.example"} {
		w, err := engine.ParseWho(who)
		check(t, err)
		for a := range catalogue.Actions() {
			for _, r := range resources {
				q := engine.Question{Subject: w, Action: catalogue.ActionID(a), Resource: r, At: s.Now()}
				if v, err := x.Explain(&q); err == nil {
					fmt.Fprintln(&out, who, catalogue.Actions()[a].Name, r.ID, v.Kind, v.Deciding().Refusing.Names())
				}
			}
		}
	}
	return out.String()
}

// TestSnapshotFile: a service that begins with a file answers as one that reads every row, whatever was changed since the file was written;
// a file that is of another journal, of nobody's or damaged is told and not used.
func TestSnapshotFile(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, c := start(t, dsn)
	load(t, a, small)
	file := filepath.Join(t.TempDir(), "snapshot")
	same := func(what, want string) (*Service, string) {
		t.Helper()
		s, said := begun(t, dsn, file, c)
		if !strings.Contains(said, want) || want == "" && said != "" {
			t.Errorf("%s: it says %q, and %q was expected", what, said, want)
		}
		rows, _ := begun(t, dsn, "", c)
		if x, y := everyAnswer(t, s), everyAnswer(t, rows); x != y || !strings.Contains(x, "spaces.enter dossier") {
			t.Fatalf("%s: answered are\n%s\nand by rows\n%s", what, x, y)
		}
		return s, said
	}
	s, _ := same("no file", "")
	writesAtEnd(t, s)
	s, _ = same("a file", "began with the snapshot file")
	// What comes after, of every sort: inventory, policy, a guest who goes, and what is not asked.
	for _, change := range []string{
		"grants: [{party: bo@ilvane.example, resource: 'page:notes', role: view, from: 2026-01-01}]\nguests: [{address: bo@ilvane.example, sponsor: uma}]",
		"rules: {meetings.outsiders: {default: none, limit: none}}",
		"partners: [{id: other, name: Other, domains: [else.example], opened: {spaces.in: yes}}]",
		"spaces: [{id: dossier, kind: team, owners: [uma], rules: {spaces.guests: off}}]",
	} {
		load(t, a, "wexillum: 1\n"+change)
		s, _ = same(change, "began with the snapshot file")
	}
	writesAtEnd(t, s) // the file knows all of it now
	at, in, _, err := snapfile.Open(file)
	check(t, err)
	snapfile.Close(in)
	if at.Seq != a.State().Head.Seq {
		t.Errorf("the file is of entry %d, and the journal ends with %d", at.Seq, a.State().Head.Seq)
	}
	s, _ = same("written again", "began with the snapshot file")
	was, err := os.Stat(file)
	check(t, err)
	writesAtEnd(t, s) // nothing changed
	if now, err := os.Stat(file); err != nil || !now.ModTime().Equal(was.ModTime()) {
		t.Error("it is written though nothing changed")
	}
	// Somebody is forgotten: their address is in no file any more.
	holds := func() bool {
		b, err := os.ReadFile(file)
		check(t, err)
		return bytes.Contains(b, []byte("bo@ilvane.example"))
	}
	if !holds() {
		t.Error("the file does not hold who is there")
	}
	check(t, a.change(t.Context(), "h", "they go", func(_ *State, tx *store.Tx) error {
		all, err := tx.Grants("bo@ilvane.example")
		if err != nil {
			return err
		}
		for i := range all {
			if err := tx.EndGrant(&all[i]); err != nil {
				return err
			}
		}
		_, err = tx.EndGuest("bo@ilvane.example")
		return err
	}))
	check(t, s.Refresh(t.Context()))
	check(t, a.change(t.Context(), "h", "they ask for it",
		func(_ *State, tx *store.Tx) error { _, err := tx.Forget("bo@ilvane.example"); return err }))
	check(t, s.Refresh(t.Context()))
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("the file is still there: %v", err)
	}
	writesAtEnd(t, s)
	if holds() {
		t.Error("the file holds who was forgotten")
	}
	s, _ = same("after somebody was forgotten", "began with the snapshot file")

	// Several are forgotten at once: everything is read anew once, by whoever forgets them and by whoever follows.
	load(t,
		a,
		"wexillum: 1\nguests: [{address: c1@ilvane.example, sponsor: uma}, {address: c2@ilvane.example, sponsor: uma}, {address: c3@ilvane.example, sponsor: uma}]")
	check(t, s.Refresh(t.Context()))
	writesAtEnd(t, s)
	for _, g := range []string{"c1@ilvane.example", "c2@ilvane.example", "c3@ilvane.example"} {
		check(t, a.change(t.Context(), "h", "they go", func(_ *State, tx *store.Tx) error { _, err := tx.EndGuest(g); return err }))
	}
	c.forward(400 * 24 * time.Hour)
	check(t, s.Refresh(t.Context()))
	before, followed := s.ReadAnew(), a.ReadAnew()
	if n, err := s.Forget(t.Context()); n != 3 || err != nil {
		t.Fatalf("%d are forgotten: %v", n, err)
	}
	check(t, a.Refresh(t.Context()))
	if n, m := s.ReadAnew()-before, a.ReadAnew()-followed; n != 1 || m != 1 {
		t.Errorf("everything was read anew %d and %d times", n, m)
	}
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("the file is still there: %v", err)
	}
	writesAtEnd(t, s)
	b, err := os.ReadFile(file)
	check(t, err)
	if bytes.Contains(b, []byte("c2@ilvane.example")) {
		t.Error("the file holds who was forgotten")
	}
	// A service that was away meanwhile finds a file from before: rows are read, and the file goes.
	check(t, a.change(t.Context(), "h", "they ask for it",
		func(_ *State, tx *store.Tx) error { _, err := tx.Forget("none@ilvane.example"); return err }))
	s, _ = same("a file from before somebody was forgotten", "the snapshot file is removed")
	writesAtEnd(t, s)

	// While what is in memory holds somebody who was forgotten, no file is written.
	s.remembers.Store(true)
	s.dropFile("it is tried")
	writesAtEnd(t, s)
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("a file is written of what holds who was forgotten: %v", err)
	}
	s.remembers.Store(false)
	writesAtEnd(t, s)

	// What is not this journal's, or damaged, is not used, and goes.
	b, err = os.ReadFile(file)
	check(t, err)
	own := dsn
	dsn = dbtest.DSN(t)
	other, _ := start(t, dsn)
	load(t, other, small)
	for range 40 {
		load(t, other, "wexillum: 1\nrules: {meetings.outsiders: {default: none}}")
		load(t, other, "wexillum: 1\nrules: {meetings.outsiders: {default: anyone}}")
	}
	same("a file of another journal", "it is of another journal than the database's")
	dsn = own
	if _, err := os.Stat(file); !os.IsNotExist(err) {
		t.Errorf("a file of no use stays: %v", err)
	}
	for what, damaged := range map[string][]byte{"altered": append(append(bytes.Clone(b[:4100]), b[4100]^1), b[4101:]...),
		"cut off": b[:len(b)/2]} {
		check(t, os.WriteFile(file, damaged, 0o600))
		s, _ = same(what, "it is damaged")
		writesAtEnd(t, s)
		same(what+", and written again", "began with the snapshot file")
	}
	letter := []byte("this is a letter to somebody, and no snapshot of anything")
	check(t, os.WriteFile(file, letter, 0o600))
	if _, err := NewFrom(t.Context(), a.store, c.now, slog.New(slog.DiscardHandler), file); err == nil ||
		!strings.Contains(err.Error(), "name another file") {
		t.Errorf("something else is taken for a snapshot file: %v", err)
	}
	writesAtEnd(t, s)
	if now, err := os.ReadFile(file); err != nil || !bytes.Equal(now, letter) {
		t.Errorf("something else is written over: %v", err)
	}
	check(t, os.RemoveAll(filepath.Dir(file)))
	s, _ = same("no folder", "")
	writesAtEnd(t, s) // it is told, and nothing else comes of it
}
