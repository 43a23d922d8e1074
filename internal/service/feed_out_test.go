package service

import (
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/standin"
	"wexillum.example/internal/store"
)

const feedOutWorld = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
settings: {brake: none}
rules: {directory.feed_out: {limit: on, default: off}}
partners:
  - {id: league, name: League, domains: [league.example], opened: {}, rules: {directory.feed_out: on}}
  - {id: other, name: Other, domains: [other.example], opened: {}}
people:
  - {id: uma, name: Uma, address: uma@ours.example, groups: [crew], roles: [administrator]}
  - {id: ben, name: Ben, address: ben@ours.example, groups: [crew], language: pt}
  - {id: cyd, name: Cyd, address: cyd@ours.example}
  - {id: dot, name: Dot, groups: [crew]}
  - {id: eve, name: Eve, address: eve@ours.example, groups: [crew], left: 2026-11-25}
  - {id: fay, name: Fay, address: fay@ours.example, groups: [crew]}
groups: [{id: crew, name: Crew}]
exceptions: [{id: no-fay, people: [fay], rules: {directory.feed_out: off}, until: 2027-01-01, reason: they asked}]
`

// theirs is a partner's directory beside the service, with a feed that goes to it.
func theirs(t *testing.T, s *Service, x FeedOutSet) *standin.People {
	t.Helper()
	t.Setenv("WEXILLUM_TEST_FEED", "there")
	p := &standin.People{Token: "there"}
	srv := httptest.NewServer(http.StripPrefix("/scim/v2", p.Handler()))
	t.Cleanup(srv.Close)
	x.Address, x.Key = text(srv.URL+"/scim/v2/"), text("env:WEXILLUM_TEST_FEED")
	check(t, s.BeginFeedOut(t.Context(), Who{Name: "harbour", Role: Administrator}, "league", "they work with us daily", x))
	return p
}

func said(p *standin.People) string {
	var out []string
	for _, x := range p.Said() {
		out = append(out, strings.TrimSuffix(x.UserName, "@ours.example")+map[bool]string{true: "", false: " closed"}[x.Active])
	}
	return strings.Join(out, ", ")
}

// did writes what sending did.
func did(x *FeedSent) string {
	var out []string
	for _, k := range slices.Sorted(maps.Keys(x.Done)) {
		out = append(out, fmt.Sprintf("%s %d", k, x.Done[k]))
	}
	return strings.TrimSpace(fmt.Sprintf("%s; refused %d, left %d, braked %d; %s", strings.Join(out, ", "), x.Refused, x.Left, x.Braked,
		x.Problem))
}

func ahead(t *testing.T, s *Service) (out []string) {
	t.Helper()
	list, _, _, unsure, err := s.FeedOutAhead(t.Context(), "league", false, "", 100)
	check(t, err)
	for _, a := range list {
		out = append(out, strings.TrimSpace(a.Person+" "+a.Do+" "+a.Why))
	}
	if unsure != "" {
		out = append(out, unsure)
	}
	return out
}

func same(t *testing.T, what string, got any, want string) {
	t.Helper()
	if g := strings.TrimSpace(fmt.Sprint(got)); g != want {
		t.Errorf("%s:\n got %s\nwant %s", what, g, want)
	}
}

// TestFeedOut follows people of ours into a partner's directory: who is sent and who is not, a few first, who is there already, one by
// hand, who changes, leaves and comes back, and what the log and the journal say.
func TestFeedOut(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, feedOutWorld)
	ctx := t.Context()
	who := Who{Name: "harbour", Role: Administrator}
	p := theirs(t, s, FeedOutSet{Scope: text("groups"), Of: &[]string{"crew"}})
	check(t,
		p.Add(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"ben@ours.example","displayName":"Old Ben","title":"keeper of the pier","active":false}`))
	check(t, p.Add(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"uma@league.example","displayName":"Uma"}`))
	same(t, "what it would do", strings.Join(ahead(t, s), "\n"), `ben taken_over they are there already, as p-0001
dot left_out no mail address of theirs is known
eve new
fay left_out “Our people in a partner's directory” (directory.feed_out) is off for them
uma new`)

	// Nothing goes by itself while it is held; a few go by hand.
	check(t, s.SendFeeds(ctx))
	same(t, "held", said(p), "ben closed, uma@league.example")
	x, err := s.SendFeed(ctx, who, "league", "to see that it is right", 2, "")
	check(t, err)
	same(t, "a few", did(x), "new 1, taken_over 1; refused 0, left 1, braked 0;")
	if _, err := s.SendFeed(ctx, who, "league", "now", 0, "cyd"); outcome(err) != `person "cyd": the feed is not about them` {
		t.Errorf("somebody else: %v", err)
	}
	if _, err := s.SendFeed(ctx, who, "league", "now", 0, "fay"); !strings.Contains(outcome(err), "directory.feed_out) is off for them") {
		t.Errorf("whom the rule keeps: %v", err)
	}
	x, err = s.SendFeed(ctx, who, "league", "they begin today", 0, "uma")
	check(t, err)
	same(t, "one by hand", did(x)+" "+said(p), "new 1; refused 0, left 0, braked 0; ben, uma@league.example, eve, uma")

	// Who seems to be there twice, and who is there though we do not keep them.
	check(t, p.Add(`{"schemas":["urn:ietf:params:scim:schemas:core:2.0:User"],"userName":"zed@ours.example","displayName":"Zed"}`))
	look, err := s.LookFeed(ctx, "league")
	check(t, err)
	same(t, "a look", fmt.Sprint(look.Problem, look.Patch, look.There, look.Ours, look.Unkept, look.Twins),
		"true 5 4 [{p-0005 zed@ours.example  Zed true}] [{Uma uma@ours.example uma@league.example [address: uma@ours.example, uma@league.example]}]")

	// It goes by itself, as often as it is set; who has left is closed, who has another name is changed, and what others wrote there stays.
	check(t, s.SetFeedOut(ctx, who, "league", "it is right", FeedOutSet{State: text("on"), Every: number(30)}))
	check(t, s.SendFeeds(ctx))
	clock.forward(3 * 24 * time.Hour)
	load(t, s, "wexillum: 1\npeople: [{id: ben, name: Benedikt, address: ben@ours.example, groups: [crew], language: pt}]")
	check(t, s.SendFeeds(ctx))
	same(t, "a round", said(p), "ben, uma@league.example, eve closed, uma, zed")
	names := ""
	for _, u := range p.Said() {
		names += u.Name + ";"
	}
	same(t, "names", names, "Benedikt;Uma;Eve;Uma;Zed;")
	load(t, s, "wexillum: 1\npeople: [{id: uma, name: Uma, address: uma@ours.example, roles: [administrator]}]")
	check(t, s.SendFeeds(ctx))
	same(t, "before the time", said(p), "ben, uma@league.example, eve closed, uma, zed")
	clock.forward(31 * time.Minute)
	check(t, s.SendFeeds(ctx))
	same(t, "out of the group", said(p), "ben, uma@league.example, eve closed, uma closed, zed")
	load(t, s, "wexillum: 1\npeople: [{id: uma, name: Uma, address: uma@ours.example, groups: [crew], roles: [administrator]}]")
	clock.forward(31 * time.Minute)
	check(t, s.SendFeeds(ctx))
	same(t, "back in it", said(p), "ben, uma@league.example, eve closed, uma, zed")

	// A partner that is suspended is told nothing; a rule that is off closes everybody.
	load(t, s, "wexillum: 1\npartners: [{id: league, name: League, domains: [league.example], opened: {}}]")
	clock.forward(31 * time.Minute)
	check(t, s.SendFeeds(ctx))
	same(t, "the rule is off", said(p), "ben closed, uma@league.example, eve closed, uma closed, zed")
	lines, err := s.FeedLog(ctx, "league", true, "uma", false, 0, 100)
	check(t, err)
	var log []string
	for _, l := range lines {
		log = append(log, strings.TrimSpace(l.What+" "+l.Address+" "+l.Detail))
	}
	same(t, "the log of one", strings.Join(log, "\n"), `closed uma@ours.example “Our people in a partner's directory” (directory.feed_out) is off for them
back uma@ours.example
closed uma@ours.example the feed is not about them any more
new uma@ours.example`)
	same(t, "the journal", strings.Join(journaled(t, s, "sent"), "\n"), `harbour ben at league: to see that it is right
harbour eve at league: to see that it is right
harbour uma at league: they begin today
wexillum eve at league: as the people feed is planned
wexillum uma at league: as the people feed is planned
wexillum uma at league: as the people feed is planned
wexillum ben at league: as the people feed is planned
wexillum uma at league: as the people feed is planned`)
	check(t, s.EndFeedOut(ctx, who, "league", "they do not work with us any more"))
	if _, err := s.FeedOutOf(ctx, "league"); outcome(err) == "" {
		t.Error("it is there still")
	}
	same(t, "ended", said(p), "ben closed, uma@league.example, eve closed, uma closed, zed")
}

func number(n int) *int { return &n }

// TestFeedOutTrouble has a partner's server refuse, fall silent, ask to be left alone, lose people and answer too late; and the brake.
func TestFeedOutTrouble(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, feedOutWorld)
	var more strings.Builder
	more.WriteString("wexillum: 1\npeople:\n")
	for i := range 60 {
		fmt.Fprintf(&more, "  - {id: p%02d, name: P%02d, address: p%02d@ours.example}\n", i, i, i)
	}
	load(t, s, more.String())
	ctx := t.Context()
	p := theirs(t, s, FeedOutSet{Brake: number(5), State: text("on")})
	var fails atomic.Pointer[func(w http.ResponseWriter, r *http.Request) bool]
	p.Fails = func(w http.ResponseWriter, r *http.Request) bool { f := fails.Load(); return f != nil && (*f)(w, r) }
	set := func(f func(w http.ResponseWriter, r *http.Request) bool) { fails.Store(&f) }
	goes := func() store.SentFeed {
		t.Helper()
		v, err := s.FeedOutOf(ctx, "league")
		check(t, err)
		return v.Goes
	}
	mails := func() int {
		t.Helper()
		n := 0
		list, err := s.store.Outbox(ctx, "", "", 0, 100)
		check(t, err)
		for i := range list {
			if list[i].Kind == "feed" {
				n++
			}
		}
		return n
	}
	round := func() { t.Helper(); check(t, s.SendFeeds(ctx)) }

	// The server is away: it is tried less and less often, and the administrators are written to once.
	set(func(w http.ResponseWriter, _ *http.Request) bool { w.WriteHeader(502); return true })
	for range 4 {
		round()
		g := goes()
		clock.forward(time.Duration(g.Next-s.Now()) * time.Microsecond)
	}
	g := goes()
	same(t, "away", fmt.Sprintln(g.Problem, g.Tries, mails()), "it answers 502 4 1")

	// It asks to be left alone after twenty people: that is done, and what was done is not done again.
	var taken atomic.Int32
	set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || taken.Add(1) <= 20 {
			return false
		}
		w.Header().Set("Retry-After", "120")
		w.WriteHeader(429)
		return true
	})
	round()
	g = goes()
	same(t, "left alone", fmt.Sprintln(g.Problem, time.Duration(g.Next-s.Now())*time.Microsecond, len(p.Said())), "it answers 429 2m0s 20")

	// One is refused; answers of others are lost on their way: they are taken over, and nobody is there twice.
	clock.forward(2 * time.Minute)
	taken.Store(0)
	set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost || taken.Add(1)%10 != 0 {
			return false
		}
		p.Handler().ServeHTTP(httptest.NewRecorder(), passed(r))
		panic(http.ErrAbortHandler)
	})
	for range 30 {
		round()
		if g = goes(); g.Problem == "" {
			break
		}
		clock.forward(time.Duration(g.Next-s.Now()) * time.Microsecond)
	}
	set(func(w http.ResponseWriter, r *http.Request) bool { return false })
	same(t, "in the end", fmt.Sprintln(g.Problem, g.Tries, len(p.Said()), strings.Count(said(p), "p59")), "0 64 1")

	// Somebody leaves before it is known whether they came in: they are looked for, and closed.
	load(t, s, "wexillum: 1\npeople: [{id: gil, name: Gil, address: gil@ours.example}]")
	clock.forward(time.Hour)
	set(func(w http.ResponseWriter, r *http.Request) bool {
		if r.Method != http.MethodPost {
			return false
		}
		fails.Store(nil)
		p.Handler().ServeHTTP(httptest.NewRecorder(), passed(r))
		panic(http.ErrAbortHandler)
	})
	round()
	load(t, s, "wexillum: 1\npeople: [{id: gil, name: Gil, address: gil@ours.example, left: 2026-11-20}]")
	clock.forward(time.Hour)
	round()
	same(t, "who left in between", said(p)[strings.Index(said(p), "gil"):], "gil closed")
	p.Forget("gil@ours.example")

	// Whom they removed themselves is made again once something is to be told of them.
	fails.Store(nil)
	load(t, s, "wexillum: 1\npeople: [{id: p07, name: Pip, address: p07@ours.example}]")
	clock.forward(time.Hour)
	p.Forget("p07@ours.example")
	round()
	same(t, "made again", fmt.Sprint(len(p.Said()), strings.Count(said(p), "p07")), "64 1")

	// Many leave at once: five are closed, the others wait for somebody who lets it go on.
	load(t, s, "wexillum: 1\npartners: [{id: league, name: League, domains: [league.example], opened: {}}]")
	clock.forward(time.Hour)
	before := mails()
	round()
	round()
	g = goes()
	same(t, "braked", fmt.Sprintln(strings.Count(said(p), "closed"), mails()-before, g.Problem),
		"5 1 59 more are to be closed there than the feed may close in a day; somebody lets it go on, or makes the scope what it should be")
	check(t, s.SetFeedOut(ctx, Who{Name: "harbour", Role: Administrator}, "league", "so it is meant", FeedOutSet{Brake: number(100)}))
	check(t, s.ReleaseFeedOut(ctx, Who{Name: "harbour", Role: Administrator}, "league", "so it is meant"))
	clock.forward(time.Hour)
	round()
	same(t, "let go on", fmt.Sprintln(strings.Count(said(p), "closed"), goes().Problem), "64")

	// A wrong token is told at once.
	p.Token = "another"
	load(t, s, "wexillum: 1\npartners: [{id: league, name: League, domains: [league.example], opened: {}, rules: {directory.feed_out: on}}]")
	clock.forward(time.Hour)
	before = mails()
	round()
	same(t, "a wrong token", fmt.Sprintln(mails()-before, goes().Problem), "1 it answers 401: the token is not the one that was agreed")
	// What is wrong with one setting is said with its name.
	for _, x := range []struct {
		set  FeedOutSet
		want string
	}{
		{FeedOutSet{Scope: text("some")}, `scope "some": write all, groups, people`},
		{FeedOutSet{Scope: text("people")}, `of "": name the people whom it is about`},
		{FeedOutSet{Scope: text("groups"), Of: &[]string{"none"}}, `of "none": there is no such group here`},
		{FeedOutSet{Every: number(0)}, `every "0": write minutes, 1 to 10080 (a week)`},
		{FeedOutSet{Address: text("http://league.example/scim")},
			`address "http://league.example/scim": write https://host/path, without a name and password; http is taken on this machine alone`},
		{FeedOutSet{Key: text("secret")}, `key "…": write file:PATH, env:NAME or credential:NAME, never the key itself`},
	} {
		same(t, "a wrong setting", outcome(s.SetFeedOut(ctx, Who{Name: "harbour"}, "league", "to try", x.set)), x.want)
	}
}

// passed is a request to be served elsewhere.
func passed(r *http.Request) *http.Request {
	c := r.Clone(r.Context())
	c.URL.Path = strings.TrimPrefix(c.URL.Path, "/scim/v2")
	return c
}
