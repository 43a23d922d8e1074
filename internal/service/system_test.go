package service

import (
	"context"
	"errors"
	"fmt"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/suite"
)

// onSuite starts a service that works on the programs of a suite, on one clock.
func onSuite(t *testing.T, world string) (*Service, *clock, map[string]*suite.Program, func(id string) *SystemView) {
	t.Helper()
	s, c := start(t, dbtest.DSN(t))
	load(t, s, world)
	programs := connectTo(t, s, c, suite.Options{Key: "pass", Clock: c.now}, "ledger", "parley", "quay")
	return s, c, programs, func(id string) *SystemView {
		t.Helper()
		v, err := s.SystemView(t.Context(), id)
		check(t, err)
		return v
	}
}

// connectTo starts some programs of a suite and adds them as systems.
func connectTo(t *testing.T, s *Service, _ *clock, o suite.Options, names ...string) map[string]*suite.Program {
	t.Helper()
	programs := suite.New(o)
	for _, name := range names {
		served(t, s, programs[name], name)
	}
	return programs
}

// served serves a program of a suite and adds it as a system.
func served(t *testing.T, s *Service, p *suite.Program, name string) {
	t.Helper()
	s.SetConnector(plain)
	t.Setenv("TEST_SUITE_KEY", "pass")
	srv := httptest.NewServer(p.Handler())
	t.Cleanup(srv.Close)
	_, err := s.AddSystem(t.Context(), placeAdmin, "to see what is there",
		System{ID: name, Name: p.Title, Dialect: name, Address: srv.URL, Key: "env:TEST_SUITE_KEY"})
	check(t, err)
}

// obey has a system carried, after what that writes was looked at.
func obey(t *testing.T, s *Service, id string) {
	t.Helper()
	carry := ModeCarry
	v, err := s.SystemView(t.Context(), id)
	check(t, err)
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", id, SystemPatch{Mode: &carry, Digest: v.Digest})
	check(t, err)
}

func (v *SystemView) at(path string) *SettingView {
	for i := range v.Settings {
		if v.Settings[i].Path == path {
			return &v.Settings[i]
		}
	}
	return &SettingView{}
}

// work lets the service work on its systems until nothing is on its way any more but what settles.
func work(t *testing.T, s *Service, c *clock) {
	t.Helper()
	for range 4 {
		check(t, s.WorkSystems(t.Context()))
		c.forward(3 * time.Second)
	}
}

const suiteWorld = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules:
  directory.guests: {default: on}
  chat.federation: {default: listed}
  files.given_to: {limit: newcomers, default: known}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {chat.in: yes, chat.out: yes, directory.in: yes, files.in: yes, meetings.in: yes}, stance: {chat.in: {says: admits}, chat.out: {says: admits}}}
people: [{id: uma, name: Uma, address: uma@ours.example}]
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: kit, kind: file, name: Kit}]}]
guests: [{address: a@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}]
grants: [{party: a@ilvane.example, resource: file:kit, role: view, from: 2026-11-01}]
`

// TestSystemsCarried follows settings through their life: looked at, shown before they are written,
// written with what tightens first, settling, confirmed; changed behind our back, found, put back.
func TestSystemsCarried(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	v := view("parley")
	if v.System.Mode != ModeLook || v.Differ == 0 || v.Open != 0 || len(v.Unread) != 0 || v.at("houses").Found != "none but:" ||
		v.at("houses").Meant != "none but: ilvane.example" {
		t.Fatalf("looked at: %+v", v)
	}
	if v.Short.Wide+v.Short.Newcomers == 0 || v.Beyond.Granted != 0 {
		t.Errorf("nobody of Ilvane may chat there: beyond %+v, short %+v, unsure %+v", v.Beyond, v.Short, v.Unsure)
	}
	if q := view("quay"); !q.Unsure.any() && q.at("tickets").Found != "as the harbour sees fit" {
		t.Errorf("a word whose meaning its maker decides: %+v", q.Unsure)
	}
	work(t, s, c)
	if programs["parley"].Reading()["houses"] != "none but:" {
		t.Fatal("what is only looked at was written")
	}
	// Carrying asks for the digest of what was shown.
	carry := ModeCarry
	if _, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley", SystemPatch{Mode: &carry}); !errors.Is(err, ErrConflict) ||
		!strings.Contains(err.Error(), fmt.Sprintf("writes %d settings", v.ToWrite())) {
		t.Errorf("carried unseen: %v", err)
	}
	for _, id := range []string{"parley", "quay", "ledger"} {
		_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", id, SystemPatch{Mode: &carry, Digest: view(id).Digest})
		check(t, err)
	}
	check(t, s.WorkSystems(t.Context()))
	c.forward(time.Second)
	check(t, s.WorkSystems(t.Context()))
	v = view("parley")
	if x := v.at("houses"); x.State != StepSettling || x.Step.Was != "none but:" || x.Step.Turn != "loosens" {
		t.Fatalf("sent: %+v %+v", x, x.Step)
	}
	if got := programs["parley"].Counts("houses"); got != "none but:" {
		t.Errorf("it counts already: %s", got)
	}
	c.forward(2 * time.Minute)
	work(t, s, c)
	v = view("parley")
	if x := v.at("houses"); x.State != StepConfirmed || programs["parley"].Counts("houses") != "none but: ilvane.example" {
		t.Fatalf("settled: %+v, counts %s", x, programs["parley"].Counts("houses"))
	}
	c.forward(25 * time.Hour)
	work(t, s, c)
	for _, id := range []string{"parley", "quay", "ledger"} {
		v := view(id)
		for _, x := range v.Settings {
			if x.State != StepConfirmed && x.State != StepByHand || x.State == StepByHand != (x.ByHand && x.Found != x.Meant) {
				t.Errorf("%s: %s is %s: meant %q, found %q", id, x.Path, x.State, x.Meant, x.Found)
			}
		}
		if v.Beyond.any() {
			t.Errorf("%s lets through what is refused: %+v", id, v.Beyond)
		}
	}
	// A published change goes out, and alone.
	before := programs["quay"].Reading()
	check(t, s.SetRule(t.Context(), "ada", "less", RuleChange{Rule: "files.given_to", Default: "inside"}))
	work(t, s, c)
	if x := view("quay").at("crates.handed-to"); x.State != StepSettling || x.Step.Turn != "tightens" ||
		!strings.Contains(x.Step.Cause, "less") || programs["quay"].Counts("crates.handed-to") != "known hands" {
		t.Errorf("a rule was published: %+v %+v", x, x.Step)
	}
	for path, value := range programs["quay"].Reading() {
		if (value != before[path]) != (path == "crates.handed-to") {
			t.Errorf("%s says %q, and said %q", path, value, before[path])
		}
	}
	c.forward(time.Hour)
	work(t, s, c)
	if x := view("quay").at("crates.handed-to"); x.State != StepConfirmed || programs["quay"].Counts("crates.handed-to") != "crew" {
		t.Errorf("after an hour: %+v", x)
	}
	// Somebody there turns the list: it is found, told with what it lets through, and put back.
	check(t, programs["parley"].Turn("houses", "all but: ilvane.example"))
	c.forward(6 * time.Minute)
	work(t, s, c)
	v = view("parley")
	x := v.at("houses")
	if x.State != StepConfirmed || x.Step.Drift == nil || x.Step.Drift.Found != "all but: ilvane.example" || v.Drift != 1 || !v.Beyond.any() ||
		!v.Short.any() {
		t.Fatalf("behind our back: %+v %+v, beyond %+v, short %+v", x, x.Step, v.Beyond, v.Short)
	}
	if programs["parley"].Reading()["houses"] != "all but: ilvane.example" {
		t.Error("it was put back unasked")
	}
	if _, err := s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "put_back"}); err == nil {
		t.Error("put back without a reason")
	}
	if _, err := s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "again", Why: "x"}); !errors.Is(err, ErrConflict) {
		t.Errorf("sent again what did not fail: %v", err)
	}
	_, err := s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "accept", Until: "+2d", Why: "a fair"})
	check(t, err)
	c.forward(3 * time.Minute)
	work(t, s, c)
	if x := view("parley").at("houses"); x.Step.Drift == nil || x.Step.Drift.By != "admin" ||
		programs["parley"].Reading()["houses"] != "all but: ilvane.example" {
		t.Errorf("accepted: %+v", x.Step)
	}
	_, err = s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "put_back", Why: "the fair is over"})
	check(t, err)
	work(t, s, c)
	c.forward(3 * time.Minute)
	work(t, s, c)
	if x := view("parley").at("houses"); x.State != StepConfirmed || x.Step.Drift != nil ||
		programs["parley"].Counts("houses") != "none but: ilvane.example" {
		t.Errorf("put back: %+v %+v", x, x.Step)
	}
	// The journal tells it in words.
	list, err := s.store.Journal(t.Context(), store.JournalQuery{Kind: "system_setting", ID: "parley houses", Limit: 100})
	check(t, err)
	told := ""
	for i := len(list) - 1; i >= 0; i-- {
		told += list[i].Who + ": " + list[i].Why + "\n"
	}
	for _, want := range []string{`houses is to become "none but: ilvane.example"; it says "none but:"`, "not yet expected to count",
		`as it is meant`, `houses was changed there: it says "all but: ilvane.example"`, "admin: a fair", "admin: the fair is over"} {
		if !strings.Contains(told, want) {
			t.Errorf("the journal does not tell %q:\n%s", want, told)
		}
	}
}

// TestSystemsAstray: a system that says yes and does nothing, breaks half-way, is silent, or is taken
// away: what is accepted is no proof, failures are tried again in growing pauses, nothing is lost.
func TestSystemsAstray(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	carry := ModeCarry
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley", SystemPatch{Mode: &carry, Digest: view("parley").Digest})
	check(t, err)
	programs["parley"].Settle(suite.Quirks{Lie: true})
	work(t, s, c)
	c.forward(10 * time.Minute)
	work(t, s, c)
	if x := view("parley").at("houses"); x.State != StepDiffers ||
		!strings.Contains(x.Step.Problem, `it took the change, and says "none but:"`) {
		t.Errorf("accepted and not done: %+v %+v", x, x.Step)
	}
	programs["parley"].Settle(suite.Quirks{})
	_, err = s.DecideSetting(t.Context(), placeAdmin, "parley", "houses", Decided{Do: "again", Why: "it was mended"})
	check(t, err)
	work(t, s, c)
	c.forward(3 * time.Minute)
	work(t, s, c)
	if x := view("parley").at("houses"); x.State != StepConfirmed {
		t.Errorf("sent again: %+v %+v", x, x.Step)
	}
	// Half-way: what failed is tried again by itself.
	programs["parley"].Settle(suite.Quirks{Fail: true})
	check(t, s.SetRule(t.Context(), "ada", "all closed", RuleChange{Rule: "chat.federation", Default: "closed"}))
	check(t, s.SetRule(t.Context(), "ada", "no voice", RuleChange{Rule: "chat.calls", Default: "off"}))
	for range 20 {
		work(t, s, c)
		c.forward(time.Minute)
	}
	if v := view("parley"); v.at("houses").State != StepConfirmed || v.at("strangers.voice").State != StepConfirmed {
		t.Errorf("after failures: %+v, %+v", v.at("houses").Step, v.at("strangers.voice").Step)
	}
	// Silent: it is told, and what was known stays known.
	programs["parley"].Settle(suite.Quirks{})
	srv := httptest.NewServer(nil)
	srv.Close()
	gone := srv.URL
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "it moves", "parley", SystemPatch{Address: &gone})
	check(t, err)
	c.forward(10 * time.Minute)
	check(t, s.WorkSystems(t.Context()))
	if v := view("parley"); v.Work.Problem == "" || v.Reading == nil || v.at("houses").State != StepConfirmed {
		t.Errorf("away: %+v", v.Work)
	}
	if _, err := s.ReadSystem(t.Context(), placeAdmin, "parley"); err == nil {
		t.Error("a system that is away was read")
	}
	check(t, s.EndSystem(t.Context(), placeAdmin, "it is gone", "parley"))
	if _, err := s.SystemView(t.Context(), "parley"); !errors.Is(err, ErrNotFound) {
		t.Errorf("taken away: %v", err)
	}
}

// TestSystemsPutBack: what is loosened there is put back by itself where it was said so, twice a day; then
// it is left and told. What is tightened there is never touched.
func TestSystemsPutBack(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	carry, back := ModeCarry, PutBackBeyond
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley",
		SystemPatch{Mode: &carry, PutBack: &back, Digest: view("parley").Digest})
	check(t, err)
	round := func() string {
		t.Helper()
		c.forward(6 * time.Minute)
		work(t, s, c)
		c.forward(3 * time.Minute)
		work(t, s, c)
		return programs["parley"].Reading()["strangers.private"]
	}
	round()
	for i, want := range []string{"shut", "shut", "open"} { // the third time it is left
		check(t, programs["parley"].Turn("strangers.private", "open"))
		if got := round(); got != want {
			t.Errorf("loosened the %d. time: it says %q, want %q", i+1, got, want)
		}
	}
	if x := view("parley").at("strangers.private"); x.Step.Drift == nil {
		t.Errorf("it is left and not told: %+v", x.Step)
	}
	check(t, programs["parley"].Turn("lamp", "nobody"))
	round()
	if got := programs["parley"].Reading()["lamp"]; got != "nobody" || view("parley").at("lamp").Step.Drift == nil {
		t.Errorf("tightened there: %q", got)
	}
	c.forward(24 * time.Hour)
	check(t, programs["parley"].Turn("strangers.private", "shut"))
	round()
	check(t, programs["parley"].Turn("strangers.private", "open"))
	if got := round(); got != "shut" {
		t.Errorf("the day after it is put back again: %q", got)
	}
}

// TestSystemsCharters: a value of a partner becomes a set of values that the system gives to its domain;
// with the value it goes.
func TestSystemsCharters(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	carry := ModeCarry
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "quay", SystemPatch{Mode: &carry, Digest: view("quay").Digest})
	check(t, err)
	for range 4 {
		work(t, s, c)
		c.forward(time.Hour)
	}
	if v := view("quay"); v.Differ != 0 {
		t.Fatalf("to begin with: %+v", v)
	}
	check(t, s.SetValue(t.Context(), "ada", "they write along",
		ValueChange{Where: Where{Partner: "ilvane"}, Rule: "spaces.pages", Value: "on"}))
	work(t, s, c)
	c.forward(time.Hour)
	work(t, s, c)
	const path = "charter:ilvane.example"
	if x := view("quay").at(path); x.State != StepConfirmed || !strings.Contains(programs["quay"].Counts(path), "berths.notes=write") ||
		programs["quay"].Counts("berths.notes") != "read" {
		t.Errorf("a partner's value: %+v, counts %q, in general %q", x, programs["quay"].Counts(path), programs["quay"].Counts("berths.notes"))
	}
	check(t, s.SetValue(t.Context(), "ada", "no more", ValueChange{Where: Where{Partner: "ilvane"}, Rule: "spaces.pages"}))
	work(t, s, c)
	c.forward(time.Hour)
	work(t, s, c)
	if got := programs["quay"].Counts(path); got != "" || view("quay").Differ != 0 {
		t.Errorf("the value is gone, and the set says %q", got)
	}
	if sys, err := s.System(t.Context(), "quay"); err != nil {
		t.Error(err)
	} else if all, err := s.settingsOf(t.Context(), sys.ID); err != nil || all[path].open() {
		t.Errorf("it is gone, and still on its way: %+v %v", all[path], err)
	}
	// One that somebody gives there behind our back is found, and put back.
	check(t, programs["quay"].Turn("charter:far.example",
		"visitors=welcome; berths.visitors=may come aboard; berths.notes=write; crates.handed-to=any hand; tickets=none; tickets.days=14; tickets.power=look; crates.passed-on=freely"))
	c.forward(2 * time.Hour)
	work(t, s, c)
	x := view("quay").at("charter:far.example")
	if x.Meant != "" || x.Found == "" || x.State != StepConfirmed || x.Step.Drift == nil {
		t.Fatalf("given there: %+v %+v", x, x.Step)
	}
	_, err = s.DecideSetting(t.Context(), placeAdmin, "quay", "charter:far.example", Decided{Do: "put_back", Why: "nobody asked for it"})
	check(t, err)
	work(t, s, c)
	c.forward(2 * time.Hour)
	work(t, s, c)
	if got := programs["quay"].Reading()["charter:far.example"]; got != "" || view("quay").Differ != 0 {
		t.Errorf("put back: %q", got)
	}
}

// TestSystemsRefused: what is wrong with a system that is added is told by its field.
func TestSystemsRefused(t *testing.T) {
	s, _, _, view := onSuite(t, suiteWorld)
	at := view("quay").System.Address
	for _, c := range []struct {
		x    System
		want string
	}{
		{System{ID: "Big", Name: "x", Dialect: "quay", Address: at, Key: "env:TEST_SUITE_KEY"}, `id "Big"`},
		{System{ID: "q2", Name: "", Dialect: "quay", Address: at, Key: "env:TEST_SUITE_KEY"}, `name ""`},
		{System{ID: "q2", Name: "x", Dialect: "key", Address: at, Key: "env:TEST_SUITE_KEY"}, `dialect "key"`},
		{System{ID: "q2", Name: "x", Address: at, Key: "env:TEST_SUITE_KEY"}, `dialect ""`},
		{System{ID: "q2", Name: "x", Dialect: "quay", Address: "harbour", Key: "env:TEST_SUITE_KEY"}, `address "harbour"`},
		{System{ID: "q2", Name: "x", Dialect: "quay", Address: at, Key: "pass"}, `never the key itself`},
		{System{ID: "q2", Name: "x", Dialect: "quay", Address: at, Key: "env:NO_SUCH_KEY"}, `no environment variable NO_SUCH_KEY`},
		{System{ID: "q2", Name: "x", Dialect: "quay", Address: at, Key: "env:TEST_SUITE_KEY"}, `one system carries a service`},
		{System{ID: "q2", Name: "x", Dialect: "parley", Address: at, Key: "env:TEST_SUITE_KEY"}, `it cannot be read`},
	} {
		if _, err := s.AddSystem(t.Context(), placeAdmin, "", c.x); err == nil || !strings.Contains(err.Error(), c.want) {
			t.Errorf("%+v: %v, want %s", c.x, err, c.want)
		}
	}
}

// TestSystemsTakenOver: what a system holds becomes a draft, and what of it is no policy is told; a
// single setting that was changed there too. Findings tell what is to be decided, and answers what has
// not reached the suite.
func TestSystemsTakenOver(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	check(t, programs["parley"].Turn("houses", "all but: strange.example"))
	check(t, programs["parley"].Turn("strangers.private", "open"))
	_, err := s.ReadSystem(t.Context(), placeAdmin, "parley")
	check(t, err)
	id, left, err := s.TakeOver(t.Context(), placeAdmin, "parley", "")
	check(t, err)
	if want := "bell is \"soft\", which carries no rule of ours|houses names strange.example, which is no partner's domain|table.hands is \"house custom\", which may mean more or less; it is taken for on"; strings.Join(left,
		"|") != want {
		t.Errorf("left:\n%s\nwant\n%s", strings.Join(left, "|"), want)
	}
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	if !decideIn(t, x.After, "somebody@far.example", "chat.message", "person:uma") ||
		decideIn(t, x.Live, "somebody@far.example", "chat.message", "person:uma") {
		t.Error("the draft does not admit what the system admits")
	}
	if _, _, err := s.TakeOver(t.Context(), placeAdmin, "parley", "bell"); err == nil {
		t.Error("a setting that carries no rule was taken over")
	}
	if _, left, err := s.TakeOver(t.Context(), placeAdmin, "parley", "strangers.private"); err != nil || len(left) != 0 {
		t.Errorf("one setting: %v %v", left, err)
	}
	if _, _, err := s.TakeOver(t.Context(), placeAdmin, "ledger", "figures.copied"); !errors.Is(err, ErrConflict) {
		t.Errorf("nothing to take over: %v", err)
	}
	// Carried: answers say that it settles, and from when.
	carry := ModeCarry
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "it shall obey", "parley", SystemPatch{Mode: &carry, Digest: view("parley").Digest})
	check(t, err)
	ask := func(who string, yes bool) string {
		t.Helper()
		q := questionOf(t, who, "chat.message", "person:uma", s.Now())
		from, settling, err := s.Settling(t.Context(), &q, yes)
		check(t, err)
		return fmt.Sprint(settling, " ", from)
	}
	check(t, s.WorkSystems(t.Context()))
	check(t, s.WorkSystems(t.Context()))
	if got, want := ask("somebody@far.example", false),
		"true "+moment.Of(c.at.Add(5*time.Minute)).String(); got[:len("true 2026-11-23T09:0")] != want[:len("true 2026-11-23T09:0")] {
		t.Errorf("a no that the suite does not know yet: %s, want %s", got, want)
	}
	work(t, s, c)
	c.forward(40 * time.Minute)
	work(t, s, c)
	if got := ask("somebody@far.example", false); !strings.HasPrefix(got, "false") {
		t.Errorf("settled: %s", got)
	}
	// Findings.
	check(t, programs["parley"].Turn("lamp", "passers-by"))
	programs["quay"].Settle(suite.Quirks{Silent: true})
	_, err = s.ReadSystem(t.Context(), placeAdmin, "parley")
	check(t, err)
	c.forward(20 * time.Minute)
	list, err := s.Findings(t.Context())
	check(t, err)
	var got []string
	for f := range list.All() {
		if strings.HasPrefix(f.Kind, "system_") {
			got = append(got, f.ID+": "+f.Cause)
		}
	}
	if all := strings.Join(got, "\n"); !strings.Contains(all,
		`system_changed parley lamp: Parley says "passers-by" for lamp, and "friends" is meant.`) ||
		!strings.Contains(all, "system_away quay: Quay was read last at") {
		t.Errorf("findings:\n%s", all)
	}
	if n := s.SystemsNow(); n.Drift != 1 || n.Open != 0 {
		t.Errorf("counted: %+v", n)
	}
}

func questionOf(t *testing.T, who, action, resource string, at moment.Moment) (q engine.Question) {
	t.Helper()
	var err error
	q.Subject, err = engine.ParseWho(who)
	check(t, err)
	q.Action, err = engine.ParseAction(action)
	check(t, err)
	q.Resource, err = engine.ParseResource(resource)
	check(t, err)
	q.At = at
	return q
}

func decideIn(t *testing.T, st *State, who, action, resource string) bool {
	t.Helper()
	q := questionOf(t, who, action, resource, moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)))
	v, err := st.Decide(&q)
	check(t, err)
	return v.Yes
}

// TestPublishedMeanwhile publishes while a system is being compared: nothing that is published waits for the next
// reading, which may be a day away.
func TestPublishedMeanwhile(t *testing.T) {
	s, c, programs, view := onSuite(t, suiteWorld)
	v := view("parley")
	carry, day := ModeCarry, 1440
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "x", "parley", SystemPatch{Mode: &carry, Minutes: &day, Digest: v.Digest})
	check(t, err)
	work(t, s, c)
	ctx, stop := context.WithCancel(t.Context())
	done := make(chan error)
	go func() {
		var err error
		for ctx.Err() == nil && err == nil {
			err = s.WorkSystems(ctx)
		}
		if ctx.Err() != nil {
			err = nil
		}
		done <- err
	}()
	for i := range 60 {
		want := []string{"shut", "open"}[i%2]
		check(t, s.SetRule(t.Context(), "h", "x", RuleChange{Rule: "chat.personal", Default: []string{"off", "on"}[i%2]}))
		for began := time.Now(); programs["parley"].Counts("strangers.private") != want; {
			if time.Since(began) > 20*time.Second {
				v := view("parley")
				t.Fatalf("after %d: %q is published and never written: %+v, %+v; work %+v", i, want, v.at("strangers.private"),
					v.at("strangers.private").Step, v.Work)
			}
			select {
			case err := <-done:
				t.Fatal(err)
			case <-time.After(time.Millisecond):
				c.forward(time.Millisecond)
			}
		}
	}
	stop()
	check(t, <-done)
}
