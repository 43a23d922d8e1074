package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// clock is a clock that tests set.
type clock struct {
	sync.Mutex
	at time.Time
}

func (c *clock) now() time.Time {
	c.Lock()
	defer c.Unlock()
	return c.at
}

func (c *clock) forward(d time.Duration) {
	c.Lock()
	defer c.Unlock()
	c.at = c.at.Add(d)
}

func start(t *testing.T, dsn string) (*Service, *clock) {
	t.Helper()
	c := &clock{at: time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)}
	st, err := store.Open(t.Context(), dsn, c.now)
	check(t, err)
	t.Cleanup(func() { _ = st.Close() })
	check(t, st.Migrate(t.Context()))
	s, err := New(t.Context(), st, c.now, slog.New(slog.NewTextHandler(io.Discard, nil)))
	check(t, err)
	return s, c
}

const small = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, directory.terms: {default: optional}, spaces.guests: {default: off}, guests.review_silence: {default: keep}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {spaces.in: yes}, rules: {spaces.pages: on}, stance: {chat.in: {says: admits}}}]
people: [{id: uma, name: Uma}]
spaces: [{id: dossier, kind: team, owners: [uma], rules: {spaces.guests: on}, items: [{id: notes, kind: page, name: Notes}, {id: kit, kind: file, rules: {files.bearer_links: on}}]}]
meetings: [{id: talk, host: uma, rules: {meetings.outsiders: anyone}}]
guests: [{address: maren@ilvane.example, sponsor: uma}]
grants: [{party: maren@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01}]
`

func load(t *testing.T, s *Service, text string) Loaded {
	t.Helper()
	l, err := s.Load(Restoring(t.Context()), "test", "", "test", []byte(text), false)
	check(t, err)
	return l
}

// decide asks one question of the service's present state.
func decide(t *testing.T, s *Service, who, action, resource string) bool {
	t.Helper()
	var q engine.Question
	var err error
	q.Subject, err = engine.ParseWho(who)
	check(t, err)
	q.Action, err = engine.ParseAction(action)
	check(t, err)
	q.Resource, err = engine.ParseResource(resource)
	check(t, err)
	q.At = s.Now()
	v, err := s.State().Decide(&q)
	check(t, err)
	return v.Yes
}

// TestLoad is all or nothing, changes nothing the second time, and a preview
// changes nothing at all.
func TestLoad(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	preview, err := s.Load(Restoring(t.Context()), "test", "", "test", []byte(small), true)
	check(t, err)
	if preview.Changed == 0 || s.State().Head.Seq != 0 {
		t.Fatalf("%+v, %+v", preview, s.State().Head)
	}
	first := load(t, s, small)
	if first.Changed != preview.Changed || first.Revision != 1 {
		t.Errorf("previewed %+v, changed %+v", preview, first)
	}
	if again := load(t, s, small); again.Changed != 0 || again.Revision != 1 {
		t.Errorf("the second time %+v", again)
	}
	if !decide(t, s, "maren@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("the guest cannot edit the page")
	}
	head := s.State().Head
	_, err = s.Load(t.Context(), "test", "", "test",
		[]byte("wexillum: 1\npartners: [{id: orrin, name: Orrin, domains: [orrin.example]}]\ngrants: [{party: maren@ilvane.example, resource: space:none, role: view}]"),
		false)
	var errs worldfile.Errors
	if !errors.As(err, &errs) || s.State().Head != head {
		t.Errorf("%v, %+v", err, s.State().Head)
	}
	// An item stays in its space, and a partner without stance keeps it.
	if _, err := s.Load(t.Context(), "test", "", "",
		[]byte("wexillum: 1\nspaces: [{id: other, kind: team, items: [{id: notes, kind: page}]}]"), false); err == nil ||
		!strings.Contains(err.Error(), `in the space "dossier" already`) {
		t.Errorf("%v", err)
	}
	load(t, s, "wexillum: 1\npartners: [{id: ilvane, name: Ilvane again, domains: [ilvane.example]}]")
	p, err := s.State().Partner("ilvane")
	check(t, err)
	if len(p.Stance) != 1 || p.Name != "Ilvane again" {
		t.Errorf("%+v", p)
	}
	load(t, s, "wexillum: 1\npartners: [{id: ilvane, name: Ilvane again, domains: [ilvane.example], stance: {}}]")
	if p, _ := s.State().Partner("ilvane"); len(p.Stance) != 1 || p.Stance[0].Says != world.SaysUnknown {
		t.Errorf("the stance is still %+v", p.Stance)
	}
}

// TestHoldBack lowers limits and wants what is looser below to be held back at
// every layer, in one change, and to stay so when they rise again.
func TestHoldBack(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small+"exceptions: [{id: x, people: [uma], rules: {meetings.outsiders: anyone}}]\n")
	set := func(rule, limit string) {
		t.Helper()
		check(t, s.SetRule(t.Context(), "test", "", RuleChange{Rule: rule, Limit: limit}))
	}
	held := func(rule string) string {
		var out []string
		id := catalogue.MustRule(rule)
		pol := s.State().Policy()
		for _, p := range pol.Partners {
			for _, x := range p.Rules {
				if x.Rule == id && x.Held {
					out = append(out, p.ID)
				}
			}
		}
		for _, e := range pol.Exceptions {
			for _, x := range e.Rules {
				if x.Rule == id && x.Held {
					out = append(out, e.ID)
				}
			}
		}
		for _, b := range s.State().Set()[id] {
			if b.Held {
				out = append(out, b.Where)
			}
		}
		return strings.Join(out, " ")
	}
	for rule, c := range map[string]struct{ limits, held string }{
		"spaces.pages":       {"off on", "ilvane"},
		"spaces.guests":      {"off on", "dossier"},
		"files.bearer_links": {"off on", "kit"},
		"meetings.outsiders": {"known anyone", "x talk"},
	} {
		low, high, _ := strings.Cut(c.limits, " ")
		before := s.State().Head
		set(rule, low)
		if got := held(rule); got != c.held {
			t.Errorf("%s: held back at %q, want %q", rule, got, c.held)
		}
		if s.State().Head.Revision != before.Revision+1 {
			t.Errorf("%s: %d revisions for one change", rule, s.State().Head.Revision-before.Revision)
		}
		set(rule, high)
		if got := held(rule); got != c.held {
			t.Errorf("%s: raised again, held back at %q, want %q", rule, got, c.held)
		}
	}
	if decide(t, s, "maren@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("a held-back value counts")
	}
	if load(t, s, small).Changed == 0 {
		t.Error("releasing is a change like any other")
	}
	if !decide(t, s, "maren@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("what was released does not count")
	}
}

// TestTogether lets many change at once, through two services on one database:
// nothing is lost, and both end with the same.
func TestTogether(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, _ := start(t, dsn)
	load(t, a, small)
	b, _ := start(t, dsn)
	var wg sync.WaitGroup
	failed := make(chan error, 64)
	for i := range 24 {
		s := []*Service{a, b}[i%2]
		wg.Go(func() {
			doc := fmt.Sprintf(`{"id":"p%d","name":"P %d","domains":[{"name":"brook%d.example","look_alike":"yes"}]}`, i, i, i)
			if err := done(s.AddPartner(context.WithoutCancel(t.Context()), By{Who: "test"}, fmt.Sprint("p", i), []byte(doc))); err != nil {
				failed <- err
			}
		})
	}
	wg.Wait()
	close(failed)
	for err := range failed {
		t.Error(err)
	}
	check(t, a.Refresh(t.Context()))
	check(t, b.Refresh(t.Context()))
	if a.State().Head != b.State().Head || len(a.State().Policy().Partners) != 25 || len(b.State().Policy().Partners) != 25 {
		t.Errorf("%+v %+v, %d and %d partners", a.State().Head, b.State().Head, len(a.State().Policy().Partners),
			len(b.State().Policy().Partners))
	}
	if n, broken, err := a.VerifyJournal(t.Context()); err != nil || broken != nil || n != a.State().Head.Seq {
		t.Errorf("%d, %+v, %v", n, broken, err)
	}
	// Two editors: the later one is told.
	p, err := a.State().Partner("p1")
	check(t, err)
	etag := PartnerEtag(p)
	check(t, done(a.SetStanding(t.Context(), By{Who: "test", IfMatch: etag}, "p1", "suspended")))
	if _, err := b.SetStanding(t.Context(), By{Who: "test", IfMatch: etag}, "p1", "ended"); !errors.Is(err, ErrStale) {
		t.Errorf("the second editor: %v", err)
	}
}

// TestWatch tells of changes, also of those that another service made.
func TestWatch(t *testing.T) {
	dsn := dbtest.DSN(t)
	a, _ := start(t, dsn)
	b, _ := start(t, dsn)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan bool)
	go func() { b.Run(ctx, 5*time.Millisecond); close(done) }()
	heads, end := b.Watch()
	defer end()
	load(t, a, small)
	if h := <-heads; h != a.State().Head || b.State().Head != h {
		t.Errorf("%+v, %+v", h, a.State().Head)
	}
	stop()
	<-done
}

// TestAccounts hashes, ends tokens with their time, and keeps one administrator.
func TestAccounts(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	ctx := t.Context()
	check(t, s.MakeAccount(ctx, "test", "", Account{Name: "captain", Role: "administrator"}, "a long password"))
	who, err := s.SignIn(ctx, "captain", "a long password", WayClient, "")
	check(t, err)
	for name, password := range map[string]string{"captain": "another password", "nobody": "a long password", "captain ": "a long password",
		"käpt'n": "x"} {
		if _, err := s.SignIn(ctx, name, password, WayClient, ""); !errors.Is(err, ErrDenied) {
			t.Errorf("%q with %q: %v", name, password, err)
		}
	}
	text, _, err := s.ClientToken(ctx, who)
	check(t, err)
	if got, err := s.Bearer(ctx, text); err != nil || got.Name != "captain" || got.Role != Administrator {
		t.Errorf("%+v, %v", got, err)
	}
	c.forward(12*time.Hour - time.Second)
	if _, err := s.Bearer(ctx, text); err != nil {
		t.Errorf("a second before its end: %v", err)
	}
	c.forward(time.Second)
	if _, err := s.Bearer(ctx, text); !errors.Is(err, ErrDenied) {
		t.Errorf("at its end: %v", err)
	}
	if _, err := s.Bearer(ctx, strings.Repeat("x", 300)); !errors.Is(err, ErrDenied) {
		t.Errorf("%v", err)
	}
	text, token, err := s.MakeToken(ctx, who, "gateway", "decisions", time.Hour)
	check(t, err)
	if got, err := s.Bearer(ctx, text); err != nil || got.Role != Decisions || got.Name != "token:gateway" {
		t.Errorf("%+v, %v", got, err)
	}
	check(t, s.EndToken(ctx, who, token.ID))
	if _, err := s.Bearer(ctx, text); !errors.Is(err, ErrDenied) {
		t.Errorf("an ended token: %v", err)
	}
	if err := s.EndToken(ctx, who, token.ID); !errors.Is(err, ErrNotFound) {
		t.Errorf("%v", err)
	}
	var invalid *Invalid
	for name, try := range map[string]func() error{
		"a bad name": func() error {
			return s.MakeAccount(ctx, "test", "", Account{Name: "A B", Role: "auditor"}, "a long password")
		},
		"a short password": func() error { return s.MakeAccount(ctx, "test", "", Account{Name: "b", Role: "auditor"}, "short") },
		"no password":      func() error { return s.MakeAccount(ctx, "test", "", Account{Name: "b", Role: "auditor"}, "") },
		"no person": func() error {
			return s.MakeAccount(ctx, "test", "", Account{Name: "b", Role: "member"}, "a long password")
		},
		"a password that is tried first": func() error {
			return s.MakeAccount(ctx, "test", "", Account{Name: "b", Role: "auditor"}, "password123456")
		},
		"its own name twice": func() error {
			return s.MakeAccount(ctx, "test", "", Account{Name: "quartermaster", Role: "auditor"}, "quartermasterquartermaster")
		},
		"an unknown person": func() error {
			return s.MakeAccount(ctx, "test", "", Account{Name: "b", Role: "member", Person: "eve"}, "a long password")
		},
	} {
		if err := try(); !errors.As(err, &invalid) {
			t.Errorf("%s: %v", name, err)
		}
	}
	auditor, yes := "auditor", true
	for name, c := range map[string]AccountChange{"another role": {Role: &auditor}, "disabled": {Disabled: &yes}} {
		if _, err := s.ChangeAccount(ctx, "test", "", "captain", c); !errors.Is(err, ErrConflict) {
			t.Errorf("the last administrator, %s: %v", name, err)
		}
	}
	if err := s.MakeAccount(ctx, "test", "", Account{Name: "captain", Role: "auditor"}, "a longer password"); !errors.Is(err, ErrConflict) {
		t.Errorf("an account that is there: %v", err)
	}
	es, err := s.Journal(ctx, store.JournalQuery{Limit: 100})
	check(t, err)
	for _, e := range es {
		if strings.Contains(string(e.Was)+string(e.Now), "argon2id") || strings.Contains(string(e.Now), text) {
			t.Errorf("the journal holds a secret: %s", e.Now)
		}
	}
}

// TestPast reads the world as it was at every head it ever had.
func TestPast(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	var heads []store.Head
	var worlds []string
	note := func() {
		w, err := s.World(t.Context(), store.Head{})
		check(t, err)
		heads, worlds = append(heads, s.State().Head), append(worlds, string(worldfile.Write(w)))
	}
	note()
	check(t, done(s.SetStanding(t.Context(), By{Who: "test"}, "ilvane", "suspended")))
	note()
	load(t, s, "wexillum: 1\nguests: [{address: maren@ilvane.example, sponsor: uma, purpose: changed}]")
	note()
	check(t, done(s.AddDomain(t.Context(), By{Who: "test"}, "ilvane", "lab.ilvane.example", true, false)))
	_, err := s.AddBar(t.Context(), "test", "", []byte(`{"address":"lost@ilvane.example"}`))
	check(t, err)
	note()
	check(t, s.LiftBar(t.Context(), "test", "", "LOST@ilvane.example"))
	check(t, done(s.RemoveDomain(t.Context(), By{Who: "test"}, "ilvane", "lab.ilvane.example")))
	note()
	for i := range heads {
		w, err := s.World(t.Context(), heads[i])
		check(t, err)
		if string(worldfile.Write(w)) != worlds[i] {
			t.Errorf("%+v is not what it was", heads[i])
		}
	}
	if worlds[4] != worlds[2] {
		t.Error("undone by hand, the world is not the same again")
	}
}

func done(_ Weighed, err error) error { return err }

// TestTokensWithoutDatabase asks who a token stands for while the database is away: what was
// found holds for five minutes, and not longer.
func TestTokensWithoutDatabase(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	ctx := t.Context()
	check(t, s.MakeAccount(ctx, "test", "", Account{Name: "captain", Role: "administrator"}, "a long password"))
	text, _, err := s.ClientToken(ctx, Who{Name: "captain", Role: Administrator})
	check(t, err)
	if _, err := s.Bearer(ctx, text); err != nil {
		t.Fatal(err)
	}
	check(t, s.store.Close())
	c.forward(4 * time.Minute)
	if who, err := s.Bearer(ctx, text); err != nil || who.Name != "captain" {
		t.Errorf("after four minutes: %+v, %v", who, err)
	}
	c.forward(time.Minute)
	if who, err := s.Bearer(ctx, text); err == nil || errors.Is(err, ErrDenied) {
		t.Errorf("after five minutes: %+v, %v", who, err)
	}
}

// TestFindingsSoon: what is journaled and changes nothing of what findings are made of has nobody look again; what does is
// found by whoever waits, and whoever does not wait is told that it is behind.
func TestFindingsSoon(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	ctx := t.Context()
	_, err := s.Load(ctx, "test", "", "w",
		[]byte("wexillum: 1\norganisation: {name: O, domains: [ours.example], time_zone: UTC}\npartners: [{id: p, name: P}]\n"), false)
	check(t, err)
	idsOf := func(list *Noticed) string {
		var ids []string
		for f := range list.All() {
			ids = append(ids, f.ID)
		}
		return strings.Join(ids, ", ")
	}
	find := func() string {
		t.Helper()
		list, err := s.Findings(ctx)
		check(t, err)
		return idsOf(list)
	}
	first := find()
	looked := s.noticed.done
	check(t, s.MakeAccount(ctx, "test", "", Account{Name: "captain", Role: "administrator"}, "a long password"))
	if find() != first || s.noticed.done != looked {
		t.Error("an account had everything looked at again")
	}
	check(t, s.SetRule(ctx, "test", "", RuleChange{Rule: "spaces.pages", Limit: "off", Default: "off"}))
	_, err = s.Load(ctx, "test", "", "w",
		[]byte("wexillum: 1\npeople: [{id: ann, name: Ann, address: ann@ours.example}]\nguests: [{address: x@p.example, sponsor: ann}]\n"), false)
	check(t, err)
	// Somebody looks already, and takes long.
	s.notice.Lock()
	held := &noticing{done: make(chan struct{})}
	s.noticing = held
	s.notice.Unlock()
	list, at, behind, err := s.FindingsSoon(ctx, time.Millisecond)
	check(t, err)
	if !behind || at == 0 || idsOf(list) != first {
		t.Errorf("whoever does not wait: %v behind %v, %s", at, behind, idsOf(list))
	}
	s.notice.Lock()
	s.noticing = nil
	s.notice.Unlock()
	close(held.done)
	if got := find(); !strings.Contains(got, "guest_without_purpose x@p.example") {
		t.Errorf("whoever waits: %s", got)
	}
	if _, _, behind, err := s.FindingsSoon(ctx, time.Millisecond); err != nil || behind {
		t.Errorf("what was just found: behind %v, %v", behind, err)
	}
}
