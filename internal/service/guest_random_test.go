package service

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

// TestRandomLives does to guests whatever can be done, in any order, while days go by. After
// every few steps what the service knows is held against what the database says read afresh;
// who was removed holds nothing, nothing that is due is left, and the journal is whole.
func TestRandomLives(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 5))
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "groups: [{id: crew, name: Crew}]", "groups: [{id: crew, name: Crew}, {id: hands, name: Hands}]",
		1))
	load(t,
		s,
		"wexillum: 1\nrules: {guests.idle_days: {default: 40}, guests.grace_days: {default: 10}, guests.review_days: {default: 25}, files.given_to: {default: newcomers}}\ngrants: [{party: \"group:hands\", resource: file:kit, role: view, from: 2026-11-01, until: 2027-04-01}]\n")
	carry(t, s)
	ctx := t.Context()
	var all []string
	for i := range 9 {
		all = append(all, fmt.Sprintf("g%d@ilvane.example", i))
	}
	any := func(list ...string) string { return list[r.IntN(len(list))] }
	guest := func() string { return any(all...) }
	who := func(a string) Who { return Who{Name: GuestName(a), Role: RoleGuest, Guest: a} }
	until := func() string { return fmt.Sprintf("+%dd", 1+r.IntN(90)) }
	ops := map[string]func() error{
		"invite": func() error {
			_, err := s.Invite(ctx, keeper, Invitation{List: guest() + " " + guest(),
				Into: any("directory", "space:dossier", "file:kit", "page:notes", "group:crew", "group:hands"), Role: any("", "view", "contribute"),
				Until: any("", until()), As: any("uma", "uma", "ben"), Purpose: "x"}, r.IntN(4) == 0)
			return err
		},
		"accept": func() error { return s.AcceptGuest(ctx, who(guest()), r.IntN(5) > 0, any("", "Somebody")) },
		"come":   func() error { a, _ := addr.Parse(guest()); _, err := s.SeenGuest(ctx, a, "", WayCode, ""); return err },
		"change": func() error {
			do := Dos[r.IntN(len(Dos))]
			name := any("", "Ann", "Bea")
			_, err := s.ChangeGuests(ctx, keeper, GuestChange{Do: do, Addresses: []string{guest(), guest()}, Reason: "x", Until: any("", until()),
				Grants: r.IntN(2) == 0, Resource: any("", "space:dossier", "file:kit", "page:notes"), Sponsor: any("uma", "ben"), Name: &name},
				r.IntN(4) == 0)
			return err
		},
		"merge": func() error {
			_, err := s.MergeGuests(ctx, keeper, guest(), guest(), "x", r.IntN(3) == 0)
			return err
		},
		"link": func() error {
			_, err := s.MakeLink(ctx, keeper, LinkAsked{Item: "file:kit", For: guest() + " " + guest(), Right: any("view", "contribute"), By: "uma",
				Until: any("", until())}, r.IntN(4) == 0)
			return err
		},
		"group": func() error {
			id := any("crew", "hands")
			_, err := s.Load(ctx, "test", "", "test",
				[]byte("wexillum: 1\ngroups: [{id: "+id+", name: "+id+", parties: ["+strings.Join(slices.Compact(slices.Sorted(slices.Values([]string{guest(),
					guest()}))), ", ")+"]}]\n"), false)
			return err
		},
		"grant": func() error {
			_, err := s.PutList(ctx, keeper, "", "grants", "csv", nil,
				strings.NewReader("party,resource,role,from,until\n"+guest()+",page:notes,view,2026-11-01,"+any("2026-12-20", "2027-01-20",
					"2027-03-01")+"\n"), false)
			return err
		},
		"wish": func() error {
			a := guest()
			if _, err := s.WishMore(ctx, who(a), any("", until()), "x"); err != nil {
				return err
			}
			_, err := s.AnswerWish(ctx, keeper, a, r.IntN(3) > 0, "", "y")
			return err
		},
		"leave": func() error { return s.LeaveGuest(ctx, who(guest())) },
	}
	names := make([]string, 0, len(ops))
	for n := range ops {
		names = append(names, n)
	}
	slices.Sort(names)
	names = append(names, "invite", "invite", "accept", "accept", "accept", "change", "change", "come", "wish", "merge") // more often
	happened, refused := map[string]int{}, map[string]int{}
	ours := func(err error) bool { // a reason, and not something that went wrong
		var invalid *Invalid
		var no *Refused
		var wrong *engine.WrongUse
		return errors.As(err, &invalid) || errors.As(err, &no) || errors.As(err, &wrong) || errors.Is(err, ErrNotFound) ||
			errors.Is(err, ErrConflict) || errors.Is(err, ErrDenied)
	}
	tell := func(st *engine.Snapshot, a addr.Address) string {
		var out []string
		lines, _, err := st.Reach(engine.Who{Address: a}, s.Now())
		check(t, err)
		for _, l := range lines {
			out = append(out, fmt.Sprint(l.Action, l.Resource, l.Count, l.Yes, l.Account, l.Conditions.Names()))
		}
		slices.Sort(out)
		steps, _ := st.Sequences().Of(a)
		var due []string
		for _, x := range steps {
			due = append(due, fmt.Sprint(x.At, x.Kind, x.Cause, x.Resource, x.Role, x.From))
		}
		slices.Sort(due)
		links, groups := st.Named(a)
		slices.Sort(links)
		slices.Sort(groups)
		return fmt.Sprintln(out, due, links, groups)
	}
	compare := func(step int) {
		t.Helper()
		e := engine.New()
		_, err := s.store.Read(ctx, store.Head{}, e)
		check(t, err)
		fresh, known := e.Done(), s.State().Snapshot
		for _, text := range all {
			a, err := addr.Parse(text)
			check(t, err)
			if x, y := tell(known, a), tell(fresh, a); x != y {
				t.Fatalf("seed %d, step %d: of %s the service knows\n%s\nread afresh\n%s", seed, step, text, x, y)
			}
			g, err := s.store.Guest(ctx, text)
			check(t, err)
			if g != nil {
				continue
			}
			if links, groups := fresh.Named(a); len(groups) > 0 && happened["group"]+happened["link"] == 0 {
				t.Fatalf("seed %d, step %d: %s has no record and is in %v, named by %v", seed, step, text, groups, links)
			}
		}
	}
	var heads []store.Head
	for step := 0; step < 400 || step < 4000 && len(happened) < len(ops); step++ { // on, until all of it happened
		name := names[r.IntN(len(names))]
		switch err := ops[name](); {
		case err == nil:
			happened[name]++
		case ours(err):
			refused[name]++
		default:
			t.Fatalf("seed %d, step %d, %s: %v", seed, step, name, err)
		}
		if r.IntN(6) == 0 {
			c.forward(time.Duration(1+r.IntN(12*24)) * time.Hour)
			carry(t, s)
			if out, err := s.CarryOut(ctx); err != nil || out.Steps != 0 {
				t.Fatalf("seed %d, step %d: %d steps were left, %v", seed, step, out.Steps, err)
			}
			// Whoever was removed by then holds nothing of its own that is in force.
			for _, text := range all {
				g, own, err := s.Guest(ctx, text)
				if errors.Is(err, ErrNotFound) || g == nil {
					continue
				}
				check(t, err)
				for i := range own {
					if x := &own[i]; x.From > x.Until {
						t.Fatalf("seed %d, step %d: a grant of %s ends before it begins: %+v", seed, step, text, x)
					}
				}
				if g.State == world.StateSuspended && g.StateSince == moment.Always {
					t.Fatalf("seed %d, step %d: %s is suspended since ever", seed, step, text)
				}
			}
		}
		if step%8 == 7 {
			compare(step)
		}
		heads = append(heads, s.State().Head)
	}
	var some []store.Head
	for range 8 {
		some = append(some, heads[r.IntN(len(heads))])
	}
	sameThen(t, s, some)
	if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("seed %d, the journal: %d %+v %v", seed, n, broken, err)
	}
	for n := range ops {
		if happened[n] == 0 {
			t.Errorf("seed %d: %s never happened; %v, refused %v", seed, n, happened, refused)
		}
	}
}
