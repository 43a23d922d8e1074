package service

import (
	"errors"
	"fmt"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

func (s *Service) set(t *testing.T, where, rule, value string, held bool) error {
	t.Helper()
	w, err := ParseWhere(where)
	check(t, err)
	return s.SetValue(t.Context(), "test", "why", ValueChange{Where: w, Rule: rule, Value: value, Held: held})
}

// TestValuesEverywhere sets, changes and takes away a value at every layer; each is
// journaled with who and why, counts at once here and in a second service.
func TestValuesEverywhere(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, small)
	other, _ := start(t, dsn)
	for _, c := range []struct{ where, rule, first, second string }{
		{"partner:ilvane", "chat.guest_delete", "on", "off"}, {"space:dossier", "spaces.tasks", "off", "on"},
		{"page:notes", "files.link_password", "", ""},
		{"file:kit", "files.link_password", "required", "optional"}, {"meeting:talk", "meetings.early", "on", "off"},
		{"space:dossier", "guests.review_days", "30", "none"},
		{"space:dossier", "reports.licence", "house, ours", "no method"}, {"partner:ilvane", "directory.sign_in", "all", "code"},
		{"partner:ilvane", "directory.leave", "off", "on"},
	} {
		if c.first == "" {
			continue
		}
		w, err := ParseWhere(c.where)
		check(t, err)
		for _, v := range []string{c.first, c.second} {
			check(t, s.set(t, c.where, c.rule, v, false))
			set, etag, err := s.Values(t.Context(), w)
			check(t, err)
			got := ""
			for _, x := range set {
				if x.Rule.String() == c.rule {
					got = x.Rule.Get().Scale.Format(x.Value)
				}
			}
			want := v
			if v == "all" {
				want = "code, partner, private"
			}
			if got != want || etag == "" {
				t.Errorf("%s of %s is %q, want %q", c.rule, c.where, got, want)
			}
			check(t, other.Refresh(t.Context()))
			theirs, _, err := other.Values(t.Context(), w)
			check(t, err)
			if len(theirs) != len(set) || other.State().Head != s.State().Head {
				t.Errorf("the other service says %v", theirs)
			}
		}
		e, err := s.Journal(t.Context(), store.JournalQuery{Limit: 1})
		check(t, err)
		if e[0].Who != "test" || e[0].Why != "why" {
			t.Errorf("%+v", e[0])
		}
		head := s.State().Head
		check(t, s.set(t, c.where, c.rule, c.second, false))
		if s.State().Head != head {
			t.Errorf("setting %s to what it is wrote something", c.rule)
		}
		check(t, s.set(t, c.where, c.rule, "", false))
		if err := s.set(t, c.where, c.rule, "", false); !errors.Is(err, ErrNotFound) {
			t.Errorf("taking away twice: %v", err)
		}
	}
	if n, broken, err := s.VerifyJournal(t.Context()); err != nil || broken != nil || n == 0 {
		t.Errorf("%d %v %v", n, broken, err)
	}
}

// TestValuesTogether: of many who change one place at once with the validator
// they saw, one succeeds, and the others are told.
func TestValuesTogether(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	w, err := ParseWhere("space:dossier")
	check(t, err)
	_, etag, err := s.Values(t.Context(), w)
	check(t, err)
	var mu sync.Mutex
	var done sync.WaitGroup
	took, stale := 0, 0
	for i := range 6 {
		done.Add(1)
		go func() {
			defer done.Done()
			err := s.SetValue(t.Context(), fmt.Sprint("p", i), "",
				ValueChange{Where: w, Rule: "guests.review_days", Value: fmt.Sprint(30 + i), IfMatch: etag})
			mu.Lock()
			defer mu.Unlock()
			switch {
			case err == nil:
				took++
			case errors.Is(err, ErrStale):
				stale++
			default:
				t.Error(err)
			}
		}()
	}
	done.Wait()
	if took != 1 || stale != 5 {
		t.Errorf("%d took it, %d were told", took, stale)
	}
}

// TestLimitsHoldValues: a value above the limit is refused, taken as held back,
// and counts only once it is given anew.
func TestLimitsHoldValues(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	check(t, s.SetRule(t.Context(), "test", "", RuleChange{Rule: "spaces.pages", Limit: "off", Default: "off"}))
	edit := "maren@ilvane.example spaces.edit_page page:notes"
	var invalid *Invalid
	if err := s.set(t, "space:dossier", "spaces.pages", "on", false); !errors.As(err, &invalid) || invalid.Field != "value" ||
		!strings.Contains(invalid.Reason, "the limit, off, which an administrator can raise") {
		t.Errorf("%v", err)
	}
	check(t, s.set(t, "space:dossier", "spaces.pages", "on", true))
	if yes(t, s, edit) {
		t.Error("a value that is held back counts")
	}
	check(t, s.SetRule(t.Context(), "test", "", RuleChange{Rule: "spaces.pages", Limit: "on"}))
	if yes(t, s, edit) {
		t.Error("raising the limit released a value")
	}
	check(t, s.set(t, "space:dossier", "spaces.pages", "on", false))
	if yes(t, s, edit) { // the partner's value was held back with it
		t.Log("the space alone decides")
	}
	check(t, s.set(t, "partner:ilvane", "spaces.pages", "on", false))
	if !yes(t, s, edit) {
		t.Error("a released value does not count")
	}
}

func exception(id, more string) []byte {
	return []byte(`{"id":"` + id + `","people":["uma"],` + more + `}`)
}

// TestExceptionLife: made, in force, prolonged, ended; one that has not begun is
// taken away.
func TestExceptionLife(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, small)
	ask := "x@unlisted.example chat.message person:uma"
	put := func(doc []byte, id string) {
		t.Helper()
		check(t, s.AddException(t.Context(), "test", "", doc, id))
	}
	put(exception("now", `"rules":{"chat.federation":"any"},"until":"+2d"`), "now")
	if !yes(t, s, ask) {
		t.Error("it is not in force")
	}
	c.forward(72 * time.Hour)
	if yes(t, s, ask) {
		t.Error("it is in force after its end")
	}
	check(t, s.ProlongException(t.Context(), "test", "", "now", "+3d", ""))
	if !yes(t, s, ask) {
		t.Error("prolonging did not bring it back")
	}
	x, _, err := s.State().Exception("now")
	check(t, err)
	etag := ExceptionEtag(x)
	check(t, s.EndException(t.Context(), "test", "", "now", etag))
	if yes(t, s, ask) {
		t.Error("it is in force after it was ended")
	}
	if err := s.ProlongException(t.Context(), "test", "", "now", "+9d", etag); !errors.Is(err, ErrStale) {
		t.Errorf("a stale validator: %v", err)
	}
	put(exception("later", `"rules":{"chat.federation":"any"},"from":"+5d"`), "later")
	check(t, s.EndException(t.Context(), "test", "", "later", ""))
	if _, _, err := s.State().Exception("later"); !errors.Is(err, ErrNotFound) {
		t.Errorf("one that had not begun stays: %v", err)
	}
	past, err := s.World(t.Context(), store.Head{})
	check(t, err)
	if len(past.Exceptions) != 1 || past.Exceptions[0].ID != "now" {
		t.Errorf("%+v", past.Exceptions)
	}
}

// TestImportExceptions takes all lines or none, or the good ones.
func TestImportExceptions(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	docs := [][]byte{exception("a", `"rules":{"chat.federation":"any"}`), exception("b", `"rules":{"chat.federation":"all"}`), nil,
		exception("a", `"rules":{"chat.calls":"off"}`)}
	lines := func() []ImportLine {
		return []ImportLine{{Line: 2, ID: "a"}, {Line: 3, ID: "b"}, {Line: 4, Result: "refused", Cause: "unreadable"}, {Line: 5, ID: "a"}}
	}
	results := func(l []ImportLine) string {
		out := ""
		for _, x := range l {
			out += x.Result + " "
		}
		return strings.TrimSpace(out)
	}
	for _, c := range []struct {
		onlyGood, preview, written bool
		results                    string
		have                       int
	}{{false, true, false, "made refused refused refused", 0}, {false, false, false, "made refused refused refused", 0},
		{true, true, false, "made refused refused refused", 0}, {true, false, true, "made refused refused refused", 1},
		{true, false, false, "unchanged refused refused refused", 1}} {
		l := lines()
		written, err := s.ImportExceptions(t.Context(), "test", "", docs, l, c.onlyGood, c.preview)
		check(t, err)
		if written != c.written || results(l) != c.results || len(s.State().Policy().Exceptions) != c.have {
			t.Errorf("%+v: %v %s, %d exceptions", c, written, results(l), len(s.State().Policy().Exceptions))
		}
	}
}

// TestAcceptance: an accepted finding is told with who and why until its end, and
// is open again after it.
func TestAcceptance(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, small)
	open := func(id string) (found, accepted bool) {
		t.Helper()
		all, err := s.Findings(t.Context())
		check(t, err)
		for f, by := range all.All() {
			if f.ID == id {
				found, accepted = true, by != nil
				if accepted && (by.By != "test" || by.Reason != "it is fine") {
					t.Errorf("%+v", by)
				}
			}
		}
		return
	}
	id := "guest_without_purpose maren@ilvane.example"
	if found, accepted := open(id); !found || accepted {
		t.Fatal(found, accepted)
	}
	var invalid *Invalid
	for _, bad := range [][2]string{{"", "+2d"}, {"x", "-2d"}, {"x", "none"}, {"x", "soon"}} {
		if err := s.AcceptFinding(t.Context(), "test", id, bad[0], bad[1]); !errors.As(err, &invalid) {
			t.Errorf("%v is taken: %v", bad, err)
		}
	}
	check(t, s.AcceptFinding(t.Context(), "test", id, "it is fine", "+2d"))
	if _, accepted := open(id); !accepted {
		t.Error("it is not accepted")
	}
	c.forward(4 * 24 * time.Hour)
	if found, accepted := open(id); !found || accepted {
		t.Error("the acceptance does not end", found, accepted)
	}
	load(t, s, `{wexillum: 1, guests: [{address: maren@ilvane.example, sponsor: uma, purpose: loans}]}`)
	if found, _ := open(id); found {
		t.Error("it does not go by itself")
	}
}

// TestLastForwarder: when the last forwarder of a mailbox goes, a service that
// follows forgets it too.
func TestLastForwarder(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, small+"forwarders: [{mailbox: uma, to: uma@home.example, keep_copy: no, set_by: administrator}]\n")
	load(t, s, "{wexillum: 1, rules: {mail.forward: {limit: any, default: any}}}")
	other, _ := start(t, dsn)
	count := func(s *Service) (n int) {
		check(t, s.Forwarders(t.Context(), "uma", func(*world.Forwarder) error { n++; return nil }))
		return
	}
	// The forwarder says that no copy stays, which is required.
	ask := "person:uma mail.forward mailbox:uma uma@home.example"
	if yes(t, other, ask) || count(other) != 1 {
		t.Error("the forwarder is not looked at")
	}
	if err := s.RemoveForwarder(t.Context(), "test", "", "uma", "nobody"); err == nil {
		t.Error("no address is taken")
	}
	check(t, s.RemoveForwarder(t.Context(), "test", "", "uma", "uma@home.example"))
	check(t, other.Refresh(t.Context()))
	if count(other) != 0 || count(s) != 0 {
		t.Error("it is still there")
	}
	check(t, s.SetRule(t.Context(), "test", "", RuleChange{Rule: "mail.forward_set_by", Default: "staff"}))
	check(t, other.Refresh(t.Context()))
	if !yes(t, other, ask) || !yes(t, s, ask) {
		t.Error("what is gone still decides")
	}
}

// yes asks WHO ACTION RESOURCE and, where it is about somebody, an address.
func yes(t *testing.T, s *Service, line string) bool {
	t.Helper()
	f := strings.Fields(line)
	if len(f) == 3 {
		return decide(t, s, f[0], f[1], f[2])
	}
	who, err := engine.ParseWho(f[0])
	check(t, err)
	about, err := engine.ParseWho(f[3])
	check(t, err)
	act, err := engine.ParseAction(f[1])
	check(t, err)
	r, err := engine.ParseResource(f[2])
	check(t, err)
	v, err := s.State().Decide(&engine.Question{Subject: who, Action: act, Resource: r, Address: about.Address, At: s.Now()})
	check(t, err)
	return v.Yes
}
