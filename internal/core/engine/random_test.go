package engine_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

var (
	randomFor   = flag.Duration("random", 15*time.Second, "how long random worlds are compared with the slow evaluator")
	questions   = flag.Int("questions", 0, "ask so many questions of random worlds, however long it takes")
	impacts     = flag.Int("impacts", 0, "compare so many lines of impacts of random changes with asking everything, from worlds of -seed on")
	couldWorlds = flag.Int("could", 0, "compare what could be of so many random worlds")
	randomSeed  = flag.Uint64("seed", 0, "seed of the first random world; 0 takes the clock's")
)

// ask parses a question in words and asks the engine, both ways.
func ask(t testing.TB, s *engine.Snapshot, q asked) told {
	t.Helper()
	e, err := parse(q)
	if err != nil {
		return wrongUse
	}
	v, err1 := s.Decide(&e)
	x, err2 := s.Explain(&e)
	if (err1 == nil) != (err2 == nil) {
		t.Fatalf("%+v: deciding says %v, explaining %v", q, err1, err2)
	}
	if err1 != nil {
		return wrongUse
	}
	if d := x.Deciding(); d.Verdict != v {
		t.Fatalf("%+v: deciding says %+v, explaining %+v", q, v, d.Verdict)
	}
	out := told{kind: x.Kind.String()}
	for _, a := range x.Accounts {
		out.accounts = append(out.accounts, toldAccount{a.Account.String(), strings.Join(a.Asked.Names(), " "),
			strings.Join(a.Refusing.Names(), " "), strings.Join(a.Conditions.Names(), " ")})
		causesAgree(t, q, &a)
	}
	return out
}

// causesAgree wants every refusing gate to have a cause that refuses, and every
// chain to end in the value that its cause tells.
func causesAgree(t testing.TB, q asked, a *engine.AccountAnswer) {
	t.Helper()
	for g := range a.Gates {
		gate := &a.Gates[g]
		refuses := false
		for i := range gate.Causes {
			c := &gate.Causes[i]
			refuses = refuses || c.Refuses
			if c.Gate != gate.Gate {
				t.Fatalf("%+v: a cause of %s stands at %s", q, c.Gate, gate.Gate)
			}
			if c.Chain != nil && c.Code != catalogue.SignInMethod && c.Chain.Effective() != c.Value {
				t.Fatalf("%+v: %s tells %v, its chain ends in %v", q, c.Code, c.Value, c.Chain.Effective())
			}
			if text := c.Text() + c.Next(); strings.Contains(text, "{") || c.Refuses && c.Code.Entry().Next != "" && c.Next() == "" {
				t.Fatalf("%+v: %s reads %q", q, c.Code, text)
			}
		}
		if refuses != (gate.String() == "refuse") || gate.Asked != (len(gate.Causes) > 0) {
			t.Fatalf("%+v: gate %s is %s with %d causes", q, gate.Gate, gate, len(gate.Causes))
		}
	}
}

func parse(q asked) (engine.Question, error) {
	e := engine.Question{At: q.at, Presenter: q.presenter, DropsCopy: q.dropsCopy, Stranger: q.stranger}
	var err error
	if e.Subject, err = engine.ParseWho(q.who); err != nil {
		return e, err
	}
	if e.Action, err = engine.ParseAction(q.action); err != nil {
		return e, err
	}
	if e.Resource, err = engine.ParseResource(q.resource); err != nil {
		return e, err
	}
	if q.address != "" {
		e.Address, err = addr.Parse(q.address)
	}
	return e, err
}

// anyQuestion makes a question about a generated world, mostly one that makes
// sense and about things that have to do with each other.
func anyQuestion(r *rand.Rand, w *world.World, now moment.Moment) asked {
	act := catalogue.Actions()[r.IntN(len(catalogue.Actions()))]
	q := asked{action: act.Name, at: now + moment.Moment(r.IntN(60)-30)*86400e6}
	if r.IntN(3) > 0 {
		q.at = now
	}
	pick := func(n int) int { return r.IntN(n) }
	outsider := func() string {
		switch r.IntN(14) {
		case 0:
			return fmt.Sprintf("stranger%d@unlisted.example", r.IntN(5))
		case 1:
			return "somebody@homepost.example"
		case 2:
			return "somebody@deep.parlourmail.example"
		case 3:
			p := &w.Partners[pick(len(w.Partners))]
			d := p.Domains[pick(len(p.Domains))]
			if d.Subdomains && r.IntN(2) == 0 {
				return "*@sub." + d.Domain.String()
			}
			return "*@" + d.Domain.String()
		case 4:
			b := &w.Barred[pick(len(w.Barred))]
			if !b.Address.IsZero() {
				return b.Address.String()
			}
			return []string{"x@", "x@under."}[r.IntN(2)] + b.Domain.String()
		case 5, 6, 7:
			if g := &w.Grants[pick(len(w.Grants))]; !g.Address.IsZero() {
				return g.Address.String()
			}
			fallthrough
		default:
			return w.Guests[pick(len(w.Guests))].Address.String()
		}
	}
	q.who = outsider()
	switch r.IntN(16) {
	case 0:
		q.who = "nobody@ours.example"
	case 1, 2:
		q.who = "link:" + w.Links[pick(len(w.Links))].ID
	}
	if act.Asks[catalogue.Ours] != nil && r.IntN(5) > 0 {
		q.who = "person:" + w.People[pick(len(w.People))].ID
		if r.IntN(8) == 0 {
			q.who = w.People[pick(len(w.People))].Address.String()
		}
	}
	kind := act.On[pick(len(act.On))]
	switch {
	case kind == catalogue.OurDirectory:
		q.resource = "directory:ours"
	case kind == catalogue.Meeting:
		q.resource = "meeting:" + w.Meetings[pick(len(w.Meetings))].ID
	case kind == catalogue.Space:
		q.resource = "space:" + w.Spaces[pick(len(w.Spaces))].ID
	case kind.IsItem():
		q.resource = kind.String() + ":none"
		for try := 0; try < 40; try++ {
			s := &w.Spaces[pick(len(w.Spaces))]
			if len(s.Items) > 0 {
				if it := &s.Items[pick(len(s.Items))]; it.Kind == kind {
					q.resource = kind.String() + ":" + it.ID
					break
				}
			}
		}
	default:
		q.resource = kind.String() + ":" + w.People[pick(len(w.People))].ID
		if id, ok := strings.CutPrefix(q.who, "person:"); ok && r.IntN(3) > 0 {
			q.resource = kind.String() + ":" + id
		}
	}
	// Something the asker has a grant on, or the link's own item.
	if kind.IsItem() || kind == catalogue.Space {
		for try := 0; try < 30 && r.IntN(4) > 0; try++ {
			g := &w.Grants[pick(len(w.Grants))]
			if act.Takes(g.Resource.Kind) && g.Group == "" && !strings.HasPrefix(q.who, "person:") && !strings.HasPrefix(q.who, "link:") {
				q.who, q.resource = g.Address.String(), g.Resource.String()
				if g.ToMany() { // somebody of them: a guest, somebody unknown, a typical newcomer
					domain := g.Domain.String()
					if g.Partner != "" {
						i := slices.IndexFunc(w.Partners, func(p world.Partner) bool { return p.ID == g.Partner })
						domain = w.Partners[i].Domains[0].Domain.String()
					}
					q.who = []string{"*", "somebody"}[r.IntN(2)] + "@" + domain
					for _, x := range w.Guests {
						if x.Address.Domain().String() == domain && r.IntN(2) == 0 {
							q.who = x.Address.String()
						}
					}
				}
				break
			}
		}
		if id, ok := strings.CutPrefix(q.who, "link:"); ok && r.IntN(4) > 0 {
			for _, l := range w.Links {
				if l.ID == id {
					q.resource = l.Item.String()
				}
			}
		}
		if id, ok := strings.CutPrefix(q.who, "person:"); ok && r.IntN(2) == 0 {
			for i := range w.Spaces {
				if s := &w.Spaces[i]; s.Owners[0] == id {
					if kind == catalogue.Space {
						q.resource = "space:" + s.ID
					} else if len(s.Items) > 0 && act.Takes(s.Items[0].Kind) {
						q.resource = s.Items[0].Kind.String() + ":" + s.Items[0].ID
					}
				}
			}
		}
	}
	if act.Name == "chat.see_presence" && r.IntN(3) > 0 && len(w.Contacts) > 0 {
		c := &w.Contacts[pick(len(w.Contacts))]
		q.who, q.resource = c.Party.String(), "person:"+c.Person
	}
	// somebody with a role on the space it is about
	if act.Name == "meetings.see_details" || act.Name == "meetings.start" || act.Name == "directory.look_up" {
		for try := 0; try < 60; try++ {
			g, m := &w.Grants[pick(len(w.Grants))], &w.Meetings[pick(len(w.Meetings))]
			if g.Address.IsZero() || g.Resource.Kind != catalogue.Space {
				continue
			}
			if act.Name != "directory.look_up" {
				if g.Resource.ID == m.Space {
					q.who, q.resource = g.Address.String(), "meeting:"+m.ID
					break
				}
				continue
			}
			for i := range w.Spaces {
				if w.Spaces[i].ID == g.Resource.ID {
					q.who, q.resource = g.Address.String(), "person:"+w.Spaces[i].Owners[0]
				}
			}
			break
		}
	}
	if act.AreaOnly || act.Name == "spaces.join" {
		for try := 0; try < 40; try++ {
			if s := &w.Spaces[pick(len(w.Spaces))]; act.AreaOnly && s.Kind == world.ReportArea ||
				!act.AreaOnly && s.Kind == world.Course && s.Joinable {
				q.resource = "space:" + s.ID
				for _, g := range w.Grants {
					if g.Resource.String() == q.resource && !g.Address.IsZero() && act.AreaOnly && r.IntN(2) == 0 {
						q.who = g.Address.String()
					}
				}
				break
			}
		}
	}
	if act.Address && r.IntN(12) > 0 {
		q.address = outsider()
		if len(w.Forwarders) > 0 && r.IntN(4) == 0 {
			f := &w.Forwarders[pick(len(w.Forwarders))]
			q.address = f.To.String()
			if act.Name == "mail.forward" {
				q.who, q.resource = "person:"+f.Mailbox, "mailbox:"+f.Mailbox
			}
		}
	}
	if act.Presenter && r.IntN(2) == 0 {
		q.presenter = w.People[pick(len(w.People))].ID
		for _, x := range w.Exceptions {
			if r.IntN(4) == 0 {
				q.presenter = x.People[0]
			}
		}
	}
	q.dropsCopy = r.IntN(4) == 0
	return q
}

var now = func() moment.Moment { m, _ := moment.Parse("2026-11-23T09:00:00Z"); return m }()

// TestAgainstSlow compares the engine with the slow evaluator on random worlds.
func TestAgainstSlow(t *testing.T) {
	seed := *randomSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	n, worlds := 0, 0
	outcomes := map[string]int{}
	for stop := time.Now().Add(*randomFor); n < *questions || *questions == 0 && time.Now().Before(stop); worlds++ {
		if worlds%500 == 499 && *questions > 0 {
			fmt.Fprintf(os.Stderr, "%d of %d questions, from seed %d\n", n, *questions, seed)
		}
		w := worldgen.Generate(seed+uint64(worlds), worldgen.Size{Guests: 40, Grants: 160, Holdings: 20, Spaces: 12, Items: 60, Partners: 6,
			People: 12, Groups: 4, Meetings: 8, Links: 16, Exceptions: 40}, now)
		stillIn(w)
		w = world.Merge(&world.World{}, w)
		r := rand.New(rand.NewPCG(seed+uint64(worlds), 7))
		if worlds%2 == 0 {
			someDates(r, w)
		}
		s, sl := engine.Of(w), &slow{w}
		if worlds%4 == 1 {
			s = fromStored(t, s)
		}
		for range 2000 {
			q := anyQuestion(r, w, now)
			q.stranger = r.IntN(60) == 0
			got, want := ask(t, s, q), sl.answer(q)
			if got.String() != want.String() {
				t.Fatalf("world of seed %d:\n%+v\nengine %s\nslow   %s", seed+uint64(worlds), q, got, want)
			}
			n++
			switch {
			case got.wrong:
				outcomes["wrong use"]++
			case got.accounts[0].refusing == "":
				outcomes["yes "+q.action]++
			default:
				outcomes["no "+q.action]++
			}
		}
	}
	t.Logf("%d questions in %d worlds from seed %d; %v", n, worlds, seed, outcomes)
	for _, a := range catalogue.Actions() {
		if worlds > 120 && (outcomes["yes "+a.Name] == 0 || outcomes["no "+a.Name] == 0) {
			t.Errorf("%s was never answered both ways", a.Name)
		}
	}
}

func mustAddress(t testing.TB, s string) addr.Address {
	t.Helper()
	a, err := addr.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return a
}

// TestTighter: tightening any one value never turns a no into a yes.
func TestTighter(t *testing.T) {
	first := uint64(time.Now().UnixNano())
	t.Logf("seed %d", first)
	r := rand.New(rand.NewPCG(first, 3))
	size := worldgen.Size{Guests: 30, Grants: 120, Spaces: 10, Items: 40, Partners: 5, People: 10, Groups: 3, Meetings: 6, Links: 10,
		Exceptions: 20}
	for range 25 {
		w := world.Merge(&world.World{}, worldgen.Generate(r.Uint64(), size, now))
		stillIn(w)
		before := engine.Of(w)
		for range 4 {
			// One place that says a value looser than the tightest, and something tighter.
			places := [][]world.Setting{}
			for i := range w.Partners {
				places = append(places, w.Partners[i].Rules)
			}
			for i := range w.Exceptions {
				places = append(places, w.Exceptions[i].Rules)
			}
			for i := range w.Spaces {
				places = append(places, w.Spaces[i].Rules)
				for j := range w.Spaces[i].Items {
					places = append(places, w.Spaces[i].Items[j].Rules)
				}
			}
			for i := range w.Meetings {
				places = append(places, w.Meetings[i].Rules)
			}
			var undo func()
			what := ""
			if k := r.IntN(len(places) + len(w.Rules)); k >= len(places) {
				s := &w.Rules[k-len(places)]
				old, rule := *s, s.Rule.Get()
				if rule.Scale.Shape == catalogue.Choice || strings.HasPrefix(rule.Name, "guests.") { // who is let go sooner may come anew
					continue
				}
				if r.IntN(2) == 0 {
					s.Limit, s.Default = rule.Scale.Tightest(), rule.Scale.Tightest()
				} else if s.Default = rule.Scale.Tightest(); old.Default == s.Default {
					continue
				}
				what, undo = "the organisation's "+rule.Name, func() { *s = old }
			} else if len(places[k]) == 0 {
				continue
			} else {
				s := &places[k][r.IntN(len(places[k]))]
				old, rule := *s, s.Rule.Get()
				if rule.Scale.Shape == catalogue.Choice || old.Held || strings.HasPrefix(rule.Name, "guests.") {
					continue
				}
				s.Value = rule.Scale.Tightest()
				what, undo = "a layer's "+rule.Name, func() { *s = old }
			}
			after := engine.Of(w)
			for range 600 {
				q, err := parse(anyQuestion(r, w, now))
				if err != nil {
					continue
				}
				x, err1 := before.Decide(&q)
				y, err2 := after.Decide(&q)
				if err1 == nil && err2 == nil && !x.Yes && y.Yes {
					t.Fatalf("tightening %s opened %s %s %s", what, q.Subject, q.Action, q.Resource)
				}
			}
			undo()
		}
	}
}

// TestNoEffect: taking an exception away that is over changes nothing.
func TestNoEffect(t *testing.T) {
	r := rand.New(rand.NewPCG(11, 4))
	w := world.Merge(&world.World{}, worldgen.Generate(77, worldgen.Size{Guests: 40, Exceptions: 30}, now))
	without := *w
	without.Exceptions = nil
	for _, x := range w.Exceptions {
		if x.Until > now && x.From <= now {
			without.Exceptions = append(without.Exceptions, x)
		}
	}
	if len(without.Exceptions) == len(w.Exceptions) {
		over := w.Exceptions[0]
		over.ID, over.Until = "over", now
		w.Exceptions = append(w.Exceptions, over)
	}
	a, b := engine.Of(w), engine.Of(&without)
	for range 20000 {
		q, err := parse(anyQuestion(r, w, now))
		if err != nil {
			continue
		}
		q.At = now
		x, err1 := a.Decide(&q)
		y, err2 := b.Decide(&q)
		if x != y || (err1 == nil) != (err2 == nil) {
			t.Fatalf("%s %s %s: %+v and %+v", q.Subject, q.Action, q.Resource, x, y)
		}
	}
}

// TestChain reads what a chain says besides the value: which layer decided, what
// would be without it, and what could be chosen.
func TestChain(t *testing.T) {
	w := over(t, museum(t),
		"rules: {spaces.pages: {limit: on}, files.role: {limit: contribute, default: contribute}}, partners: [{id: plain, name: Plain, domains: [plain.example], opened: {files.in: yes}, rules: {files.role: view}}]")
	s := engine.Of(w)
	chain := func(who, action, resource, rule string) *engine.Chain {
		t.Helper()
		q, err := parse(asked{who: who, action: action, resource: resource, at: now})
		if err != nil {
			t.Fatal(err)
		}
		x, err := s.Explain(&q)
		if err != nil {
			t.Fatal(err)
		}
		for _, c := range x.Accounts[0].Gates[catalogue.RuleGate].Causes {
			if c.Chain != nil && c.Chain.Rule.String() == rule {
				return c.Chain
			}
		}
		t.Fatalf("%s is not asked", rule)
		return nil
	}
	for _, c := range []struct{ who, action, resource, rule, value, decided, without, options string }{
		{"maren@ilvane.example", "spaces.edit_page", "page:notes", "spaces.pages", "on", "space", "off", "off on"},
		{"maren@ilvane.example", "spaces.edit_page", "page:shut-page", "spaces.pages", "off", "default", "on", "off on"},
		{"plain@plain.example", "files.edit", "file:board", "files.role", "view", "partner", "contribute",
			"view contribute!partner manage!limit"},
		{"maren@ilvane.example", "files.edit", "folder:plans", "files.role", "contribute", "default", "contribute",
			"view contribute manage!limit"},
		{"visitor@ilvane.example", "files.open", "file:board", "files.given_to", "newcomers", "space", "known", "inside known newcomers"},
		{"visitor@ilvane.example", "files.open", "file:kit", "files.given_to", "known", "default", "newcomers", "inside known newcomers"},
	} {
		x := chain(c.who, c.action, c.resource, c.rule)
		f := x.Rule.Get().Scale.Format
		var options []string
		for _, o := range x.Options() {
			text := f(o.Value)
			if !o.Can {
				text += "!" + o.By.String()
			}
			options = append(options, text)
		}
		got := []string{f(x.Effective()), x.Decided().String(), f(x.Without()), strings.Join(options, " ")}
		// a nearest layer can only tighten what wider ones say, so a partner's view caps an item
		if want := []string{c.value, c.decided, c.without, c.options}; strings.Join(got, "|") != strings.Join(want, "|") {
			t.Errorf("%s on %s for %s: %v, want %v", c.rule, c.resource, c.who, got, want)
		}
	}
}

// TestInert: taking away an exception that is said to change nothing changes
// nothing, and one that is said to change something alters some answer or value.
func TestInert(t *testing.T) {
	first := uint64(time.Now().UnixNano())
	t.Logf("seed %d", first)
	r := rand.New(rand.NewPCG(first, 5))
	inert, all := 0, 0
	for seed := range uint64(30) {
		w := world.Merge(&world.World{}, worldgen.Generate(r.Uint64(),
			worldgen.Size{Guests: 30, Grants: 100, Spaces: 10, Items: 40, Partners: 4, People: 6, Groups: 3, Meetings: 6, Exceptions: 30}, now))
		s := engine.Of(w)
		x := s.NewInert()
		for i := range w.Exceptions {
			all++
			if !x.ChangesNothing(i, now) {
				continue
			}
			inert++
			without := *w
			without.Exceptions = append(append([]world.Exception(nil), w.Exceptions[:i]...), w.Exceptions[i+1:]...)
			after := engine.Of(&without)
			for range 400 {
				q, err := parse(anyQuestion(r, w, now))
				if err != nil {
					continue
				}
				q.At = max(q.At, now)
				if r.IntN(2) == 0 && len(w.Exceptions[i].People) > 0 && q.Action.Get().Asks[catalogue.Ours] != nil {
					q.Subject = engine.Who{Kind: engine.ByPerson, ID: w.Exceptions[i].People[0]}
				}
				a, err1 := s.Decide(&q)
				b, err2 := after.Decide(&q)
				if a != b || (err1 == nil) != (err2 == nil) {
					t.Fatalf("seed %d: exception %s changes nothing, yet %s %s %s: %+v and %+v", seed, w.Exceptions[i].ID, q.Subject, q.Action, q.Resource,
						a, b)
				}
			}
		}
	}
	if inert == 0 || inert == all {
		t.Errorf("%d of %d exceptions change nothing", inert, all)
	}
	t.Logf("%d of %d exceptions change nothing", inert, all)
}

// stillIn lets partners through for some levels whatever their standing, as it may be found in a system.
func stillIn(w *world.World) {
	for i := range w.Partners {
		for k := i % 3; k < catalogue.NumKeys; k += 1 + i%4 {
			w.Partners[i].Still = append(w.Partners[i].Still, catalogue.Key(k))
		}
	}
}
