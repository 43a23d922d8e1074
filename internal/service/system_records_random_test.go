package service

import (
	"context"
	"fmt"
	"math/rand/v2"
	"slices"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/suite"
)

// A world of one partner, with guests who were given files, for tests that change it at random.
func somePeople(guests int) string {
	out := suiteWorld[:len(suiteWorld)-1]
	out = out[:indexOfLine(out, "guests:")]
	g, r := "guests:\n", "grants:\n"
	for i := range guests {
		g += fmt.Sprintf("  - {address: g%02d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}\n", i)
		if i%2 == 0 {
			r += fmt.Sprintf("  - {party: g%02d@ilvane.example, resource: file:kit, role: view, from: 2026-11-01}\n", i)
		}
	}
	return out + g + r
}

func indexOfLine(s, start string) int {
	for i := range s {
		if (i == 0 || s[i-1] == '\n') && len(s)-i >= len(start) && s[i:i+len(start)] == start {
			return i
		}
	}
	return len(s)
}

func (r *recorder) Put(ctx context.Context, kind, id string, fields map[string]string) (out string, err error) {
	err = r.sending(ctx, fmt.Sprint(kind, " ", id, " ", fields), func() error {
		out, err = r.Connector.Put(ctx, kind, id, fields)
		return err
	})
	return
}

func (r *recorder) Drop(ctx context.Context, kind, id string) error {
	return r.sending(ctx, "drop "+kind+" "+id, func() error { return r.Connector.Drop(ctx, kind, id) })
}

// TestRecordsKilled lets two services, each killed again and again in the middle of writing, carry what happens
// to guests and what they were given. In the end the system keeps what is meant: each once, none lost.
func TestRecordsKilled(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	dsn := dbtest.DSN(t)
	s, c := start(t, dsn)
	load(t, s, somePeople(20))
	p := suite.New(suite.Options{Key: "pass", Clock: c.now})["quay"]
	served(t, s, p, "quay")
	var mu sync.Mutex
	var log []string
	life := mortal(t, dsn, c, &mu, &log, dealt(rnd, 0, 0, 0, 0, 1, 2))
	carry, many := ModeCarry, 1000
	v, err := s.SystemView(t.Context(), "quay")
	check(t, err)
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "x", "quay", SystemPatch{Mode: &carry, Brake: &many, Digest: v.Digest})
	check(t, err)
	two, ctxs, killed := [2]*Service{}, [2]context.Context{}, 0
	for range 40 {
		check(t, s.Refresh(t.Context()))
		who := fmt.Sprintf("g%02d@ilvane.example", rnd.IntN(20))
		do := []Do{Suspend, BringBack}[rnd.IntN(2)]
		_, err := s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: do, Addresses: []string{who}, Reason: "as it goes"}, false)
		check(t, err)
		if rnd.IntN(3) == 0 {
			a, err := addr.Parse(who)
			check(t, err)
			check(t, s.change(t.Context(), "admin", "as it goes", func(_ *State, tx *store.Tx) error {
				_, err := tx.PutGrant(&world.Grant{Address: a, Resource: world.Resource{Kind: catalogue.File, ID: "kit"},
					Role: catalogue.Role(1 + rnd.IntN(3)), From: s.Now(), Until: moment.Never, Reviewed: moment.Always})
				return err
			}))
		}
		for range 2 {
			for k := range two {
				if two[k] == nil || ctxs[k].Err() != nil {
					if two[k] != nil {
						killed++
						_ = two[k].store.Close()
					}
					two[k], ctxs[k] = life()
				}
				check(t, two[k].Refresh(t.Context()))
				_ = two[k].WorkSystems(ctxs[k]) // whoever was killed says so
			}
			c.forward(11 * time.Second)
		}
	}
	for k := range two { // whoever was killed last is started anew
		if ctxs[k].Err() != nil {
			two[k], ctxs[k] = life()
		}
	}
	for range 60 {
		for k := range two {
			two[k].SetConnector(plain)
			check(t, two[k].Refresh(t.Context()))
			check(t, two[k].WorkSystems(t.Context()))
		}
		c.forward(61 * time.Second)
	}
	check(t, s.Refresh(t.Context()))
	v, err = s.SystemView(t.Context(), "quay")
	check(t, err)
	for _, k := range v.Kinds {
		if k.Open+k.Differ+k.Drift+k.Unknown != 0 || k.Found != k.Confirmed {
			t.Errorf("%s: %+v %+v", k.Kind, k, recordLines(t, s, "quay", k.Kind, ""))
		}
	}
	if v.Beyond.any() || v.Short.Granted > 0 {
		t.Errorf("beyond %+v, short %+v", v.Beyond, v.Short)
	}
	for _, x := range p.Things("visitors") {
		g, _, err := s.Guest(t.Context(), x.Fields["mail"])
		check(t, err)
		if (g.State == world.StateActive) != (x.Fields["standing"] == "aboard") {
			t.Errorf("%s is %v here and %s there", g.Address, g.State, x.Fields["standing"])
		}
	}
	if n := len(p.Things("visitors")); n != 20 {
		t.Errorf("%d visitors", n)
	}
	if killed < 10 {
		t.Errorf("only %d were killed", killed)
	}
	if entries, broken, err := s.store.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
	t.Logf("%d killed, %d writes", killed, len(log))
}

// TestRecordsAtRandom changes what a system keeps at random, and compares what the engine then says of what is
// found with a world to which the same was done by hand: by impacts, and question by question.
func TestRecordsAtRandom(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	for round := range 4 {
		rnd := rand.New(rand.NewPCG(seed, uint64(round)))
		s, c := start(t, dbtest.DSN(t))
		load(t, s, somePeople(16))
		p := suite.New(suite.Options{Key: "pass", Clock: c.now})["quay"]
		served(t, s, p, "quay")
		obey(t, s, "quay")
		work(t, s, c)
		c.forward(3 * time.Hour)
		work(t, s, c)
		same, err := s.StateFound(t.Context(), true)
		check(t, err)
		if x, err := engine.ImpactOf(s.State().Snapshot, same.Snapshot, s.Now(), nil, func() error { return nil }, nil); err != nil ||
			x.Total().Any() {
			t.Fatalf("round %d: carried, and found differs: %+v %v", round, x.Total(), err)
		}
		e := same.Aside() // to which the same is done by hand
		place := "b-0000001/file:kit"
		touched := map[string]bool{}
		for i := range 10 {
			who := fmt.Sprintf("g%02d@ilvane.example", rnd.IntN(18)) // the last two are nobody yet
			if touched[who] {
				continue
			}
			touched[who] = true
			a, err := addr.Parse(who)
			check(t, err)
			put := func(state world.State) {
				g, err := s.store.Guest(t.Context(), who)
				check(t, err)
				if g == nil {
					g = &world.Guest{Address: a, Origins: world.ByInvitation, Since: moment.Always, Accepted: moment.Always, Until: moment.Never,
						Terms: s.Now(), DatesFrom: moment.Never}
				}
				g.State = state
				e.PutGuest(g)
			}
			give := func(role catalogue.Role) {
				e.SetGrants(who, []world.Grant{{Address: a, Resource: world.Resource{Kind: catalogue.File, ID: "kit"}, Role: role, From: moment.Always,
					Until: moment.Never, Reviewed: moment.Always}})
			}
			switch rnd.IntN(5) {
			case 0: // put ashore, or let in
				_, err = p.Put("visitors", "", map[string]string{"mail": who, "standing": "ashore"}, "the desk")
				put(world.StateSuspended)
			case 1:
				_, err = p.Put("visitors", "", map[string]string{"mail": who, "standing": "aboard"}, "the desk")
				put(world.StateActive)
			case 2: // a pass, or a looser one
				role := []string{"look", "add"}[i%2]
				_, err = p.Put("passes", "", map[string]string{"mail": who, "place": place, "may": role}, "the desk")
				give([]catalogue.Role{catalogue.View, catalogue.Contribute}[i%2])
			case 3: // struck off
				k := slices.IndexFunc(p.Things("visitors"), func(x suite.Thing) bool { return x.Fields["mail"] == who })
				if k < 0 {
					continue
				}
				err = p.Drop("visitors", p.Things("visitors")[k].ID)
				e.RemoveGuest(a)
			default: // a pass taken away
				k := slices.IndexFunc(p.Things("passes"), func(x suite.Thing) bool { return x.Fields["mail"] == who })
				if k < 0 {
					continue
				}
				err = p.Drop("passes", p.Things("passes")[k].ID)
				e.SetGrants(who, nil)
			}
			check(t, err)
		}
		want := e.Done()
		c.forward(6 * time.Minute)
		work(t, s, c)
		for _, most := range []bool{true, false} {
			found, err := s.StateFound(t.Context(), most)
			check(t, err)
			x, err := engine.ImpactOf(want, found.Snapshot, s.Now(), nil, func() error { return nil }, nil)
			check(t, err)
			if x.Total().Any() || len(x.WideGained)+len(x.WideLost) > 0 {
				t.Errorf("round %d: with most %v what is found is not what was done: %+v %+v %+v", round, most, x.Total(), x.WideGained, x.WideLost)
			}
			for i := range 18 {
				q, err := (&Asked{Subject: fmt.Sprintf("g%02d@ilvane.example", i), Action: "files.open", Resource: "file:kit"}).Question(s.Now())
				check(t, err)
				a, err := want.Decide(&q)
				check(t, err)
				if b, err := found.Decide(&q); err != nil || a.Yes != b.Yes {
					t.Errorf("round %d: %s: done %v, found %v %v", round, q.Subject, a.Yes, b.Yes, err)
				}
			}
		}
		if v, err := s.SystemView(t.Context(), "quay"); err != nil || v.Unsure.any() {
			t.Errorf("round %d: %+v is unsure %v", round, v.Unsure, err)
		}
	}
}
