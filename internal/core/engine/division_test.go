package engine_test

import (
	"fmt"
	"math/rand/v2"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestWideAsPairs counts everybody's wide actions in random worlds by putting people and meetings together, and by asking every
// cohort about every class of them: both say the same. Exceptions name partners, domains, addresses and groups; meetings list
// domains and stand in spaces that name parties.
func TestWideAsPairs(t *testing.T) {
	first := uint64(time.Now().UnixNano())
	if *randomSeed != 0 {
		first = *randomSeed
	}
	compared, pairs := 0, 0
	until := time.Now().Add(min(*randomFor, 20*time.Second) / 4)
	for seed := first; time.Now().Before(until) || compared < 20; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 30 + r.IntN(300), Grants: 300, Spaces: 12, Items: 20, Partners: 6, People: 30, Groups: 6, Meetings: 40, Links: 10,
				Exceptions: 30}, now))
		if seed%2 == 1 {
			enrich(r, w)
		}
		for i := range w.Exceptions { // towards whomever there is
			x := &w.Exceptions[i]
			switch r.IntN(5) {
			case 0:
				x.Parties = nil
			case 1:
				x.Parties = []world.PartyRef{{Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			case 2:
				g := &w.Guests[r.IntN(len(w.Guests))]
				x.Parties = []world.PartyRef{{Address: g.Address}}
			case 3:
				g := &w.Guests[r.IntN(len(w.Guests))]
				x.Parties = []world.PartyRef{{Domain: g.Address.Domain()}, {Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			}
		}
		s := engine.Of(w)
		for _, at := range []moment.Moment{now, now + 20*86400e6} {
			got, err := s.Wide(at, func() error { return nil })
			want, err2 := engine.WidePairs(s, at)
			if err != nil || err2 != nil {
				t.Fatal(err, err2)
			}
			if fmt.Sprint(got) != fmt.Sprint(want) {
				t.Fatalf("seed %d at %s:\n%v\nnot\n%v", seed, at, got, want)
			}
			compared++
			for _, x := range got {
				pairs += x.Pairs
			}
		}
	}
	if pairs == 0 {
		t.Error("nothing was a yes")
	}
}

// TestReachOfAlike holds what a party reaches, where people who are alike are explained once, against deciding about every person
// by themselves: contacts, exceptions and shared spaces included.
func TestReachOfAlike(t *testing.T) {
	first := uint64(time.Now().UnixNano())
	if *randomSeed != 0 {
		first = *randomSeed
	}
	lines := 0
	for seed := first; seed < first+25; seed++ {
		r := rand.New(rand.NewPCG(seed, 13))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 120, Spaces: 8, Items: 10, Partners: 4, People: 25, Groups: 5, Meetings: 6, Links: 2, Exceptions: 20},
			now))
		for range 20 {
			w.Contacts = append(w.Contacts, world.Contact{Person: w.People[r.IntN(len(w.People))].ID,
				Party: w.Guests[r.IntN(len(w.Guests))].Address})
		}
		for i := range w.Exceptions {
			if x := &w.Exceptions[i]; r.IntN(2) == 0 {
				x.Parties = []world.PartyRef{{Address: w.Guests[r.IntN(len(w.Guests))].Address}, {Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			}
		}
		s := engine.Of(w)
		for range 6 {
			who := engine.Who{Address: w.Guests[r.IntN(len(w.Guests))].Address}
			got, _, err := s.Reach(who, now)
			if err != nil {
				t.Fatal(err)
			}
			type sum struct {
				action catalogue.ActionID
				kind   catalogue.ResourceKind
				yes    bool
				cond   catalogue.Condition
				as     engine.Account
			}
			counted, asked := map[sum]int{}, map[sum]int{}
			for i := range got {
				x := &got[i]
				if k := x.Resource.Kind; k == catalogue.Person || k == catalogue.Calendar || k == catalogue.Mailbox {
					counted[sum{x.Action, k, x.Yes, x.Conditions, x.Account}] += x.Count
					lines++
				}
			}
			for k := range counted {
				for i := range w.People {
					q := engine.Question{Subject: who, Action: k.action, Resource: world.Resource{Kind: k.kind, ID: w.People[i].ID}, At: now}
					x, err := s.Explain(&q)
					if err != nil {
						t.Fatal(err)
					}
					d := x.Deciding()
					of := sum{k.action, k.kind, d.Yes, d.Conditions, d.Account}
					if of == k {
						asked[of]++
					}
				}
			}
			if fmt.Sprint(counted) != fmt.Sprint(asked) {
				t.Fatalf("seed %d, %s:\n%v\nnot\n%v", seed, who, counted, asked)
			}
		}
	}
	if lines < 100 {
		t.Errorf("%d lines", lines)
	}
}
