package engine_test

import (
	"flag"
	"fmt"
	"math/rand/v2"
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
	randomFor  = flag.Duration("random", 15*time.Second, "how long random worlds are compared with the slow evaluator")
	randomSeed = flag.Uint64("seed", 0, "seed of the first random world; 0 takes the clock's")
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
		out.accounts = append(out.accounts, toldAccount{a.Account.String(), strings.Join(a.Asked.Names(), " "), strings.Join(a.Refusing.Names(), " "), strings.Join(a.Conditions.Names(), " ")})
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
	e := engine.Question{At: q.at, Presenter: q.presenter, DropsCopy: q.dropsCopy}
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
			return []string{"x@", "x@under."}[r.IntN(2)] + w.Barred[pick(len(w.Barred))].Domain.String()
		case 5, 6, 7:
			if g := &w.Grants[pick(len(w.Grants))]; g.Group == "" {
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
	if act.PresenterAsked && r.IntN(2) == 0 {
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
	for stop := time.Now().Add(*randomFor); time.Now().Before(stop); worlds++ {
		w := worldgen.Generate(seed+uint64(worlds), worldgen.Size{Guests: 40, Grants: 160, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 16, Exceptions: 40}, now)
		w = world.Merge(&world.World{}, w)
		s, sl := engine.Of(w), &slow{w}
		r := rand.New(rand.NewPCG(seed+uint64(worlds), 7))
		for range 2000 {
			q := anyQuestion(r, w, now)
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
		if worlds > 20 && (outcomes["yes "+a.Name] == 0 || outcomes["no "+a.Name] == 0) {
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
