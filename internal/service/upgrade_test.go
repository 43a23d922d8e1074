package service

import (
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// TestStoredNumbers holds what stands in databases as numbers: a kind, role, state, origin or
// licence that takes another number turns every stored one into something else.
func TestStoredNumbers(t *testing.T) {
	for name, want := range map[string]uint8{"channel": 0, "folder": 1, "file": 2, "page": 3, "tasklist": 4, "report": 5, "dashboard": 6,
		"space": 7, "meeting": 8, "person": 9, "mailbox": 10, "calendar": 11, "directory": 12} {
		if k, ok := catalogue.ParseResourceKind(name); !ok || uint8(k) != want {
			t.Errorf("%s is %d, and was stored as %d", name, k, want)
		}
		if k := catalogue.ResourceKind(want); k.String() != name || k.IsItem() != (want < 7) {
			t.Errorf("%d is %s, an item: %v", want, k, k.IsItem())
		}
	}
	for name, want := range map[string]catalogue.Role{"view": 1, "contribute": 2, "manage": 3} {
		if r, ok := catalogue.ParseRole(name); !ok || r != want {
			t.Errorf("%s is %d, and was stored as %d", name, r, want)
		}
	}
	if got := strings.Join(world.StateNames, " "); got != "active invited suspended" || world.StateSuspended != 2 {
		t.Error(got)
	}
	if got := strings.Join(world.LicenceNames, " "); got != "none ours theirs" || world.LicenceTheirs != 2 {
		t.Error(got)
	}
	if world.ByInvitation != 1 || world.ByShare != 2 || world.ByRequest != 4 || world.ByFeed != 8 || world.BySignUp != 16 {
		t.Error("origins are stored as these bits")
	}
}

// TestUpgradeFromSchema4 opens a database as the program with schema 4 wrote it, with one thing of
// every kind, role, state, origin and licence: all is what it was, and the journal holds.
func TestUpgradeFromSchema4(t *testing.T) {
	ctx := t.Context()
	dsn := dbtest.DSN(t)
	st, err := store.Open(ctx, dsn, nil)
	check(t, err)
	defer st.Close()
	text, err := os.ReadFile("testdata/schema-4.sql")
	check(t, err)
	for _, q := range strings.Split(string(text), ";\n") {
		if strings.TrimSpace(q) != "" {
			_, err := st.DB().ExecContext(ctx, q)
			check(t, err)
		}
	}
	check(t, st.Migrate(ctx))
	s, err := New(ctx, st, nil, nil)
	check(t, err)
	w, err := s.World(ctx, s.State().Head)
	check(t, err)
	got := string(worldfile.Write(w))
	want, err := os.ReadFile("testdata/schema-4.yaml")
	check(t, err)
	if got != string(want) {
		t.Errorf("it holds\n%s", got)
	}
	if n, broken, err := st.VerifyJournal(ctx); err != nil || broken != nil || n < 20 {
		t.Errorf("the journal of %d entries: %+v %v", n, broken, err)
	}
	if _, err := s.SignIn(ctx, "harbour", "low-water-2026", "console", "127.0.0.1"); err != nil {
		t.Errorf("the account of before: %v", err)
	}
}
