package engine_test

import (
	"runtime"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// TestMomentsOfGrants: a grant begins and ends to the microsecond, whenever that is: within a second, before 1970, far ahead, always
// and never. It does so as it is read, after others were given, stored and found again, and where it is only supposed.
func TestMomentsOfGrants(t *testing.T) {
	of := func(text string) moment.Moment {
		x, err := time.Parse(time.RFC3339Nano, text)
		if err != nil {
			t.Fatal(err)
		}
		return moment.Of(x)
	}
	w := museum(t)
	who := mustAddress(t, "maren@ilvane.example")
	spells := []struct{ from, until moment.Moment }{
		{of("2026-11-01T10:15:00.000001Z"), of("2026-11-02T10:15:00.999999Z")},
		{of("2026-11-01T10:15:00Z"), of("2026-11-02T00:00:00Z")},
		{of("1969-12-31T23:59:59.5Z"), of("1970-01-01T00:00:00Z")},
		{of("1970-01-01T00:00:00Z"), of("1970-01-01T00:00:01Z")},
		{of("1970-01-01T00:00:00.000001Z"), of("2026-11-02T00:00:00.5Z")},
		{of("2097-08-05T00:00:00Z"), of("2097-08-06T10:00:00Z")},
		{of("2106-02-07T06:28:15Z"), of("2106-02-07T06:28:16.000001Z")},
		{of("2300-01-01T00:00:00Z"), of("2999-12-31T23:59:59.999999Z")},
		{moment.Always, of("2026-11-02T10:15:00.25Z")},
		{of("2026-11-02T10:15:00.25Z"), moment.Never},
	}
	w.Grants, w.Links, w.Guests, w.Holdings = nil, nil, nil, nil
	resource := world.Resource{Kind: catalogue.Space, ID: "yard"}
	// holds asks at the edges of a spell whether the party has the role.
	holds := func(what string, x struct{ from, until moment.Moment }, has func(moment.Moment) bool) {
		t.Helper()
		for _, c := range []struct {
			at   moment.Moment
			want bool
		}{{x.from - 1, false}, {x.from, true}, {x.until - 1, true}, {x.until, false}} {
			if !(c.at - 1).IsSet() || !c.at.IsSet() || !(c.at + 1).IsSet() {
				continue // before or behind all time
			}
			if got := has(c.at); got != c.want {
				t.Errorf("%s, %s to %s: at %s it is held: %v", what, x.from, x.until, c.at, got)
			}
		}
	}
	grant := func(k int) world.Grant {
		return world.Grant{Address: who, Resource: resource, Role: catalogue.View, From: spells[k].from, Until: spells[k].until,
			Reviewed: moment.Always}
	}
	owned := func(s *engine.Snapshot) func(moment.Moment) bool {
		return func(at moment.Moment) bool { return s.OwnRole(who, resource, at) == catalogue.View }
	}
	empty := engine.Of(w)
	one := empty
	for k, x := range spells {
		w.Grants = []world.Grant{grant(k)}
		s := engine.Of(w)
		holds("read", x, owned(s))
		e := one.Edit()
		e.SetGrants(who.String(), w.Grants)
		one = e.Done()
		holds("written over another", x, owned(one))
		holds("stored", x, owned(fromStored(t, one)))
		told := one.TellParties([]uint32{one.PartyOf(who)})
		if len(told.Grants) != 1 || told.Grants[0].From != x.from || told.Grants[0].Until != x.until {
			t.Errorf("%s to %s is told as %+v", x.from, x.until, told.Grants)
		}
		// Two are supposed, so that both take places of their own.
		wide := grant(k) // on something else
		wide.Resource = world.Resource{Kind: catalogue.Space, ID: "dossier"}
		sup, err := empty.Supposing(engine.Suppose{Address: who, Grants: []world.Grant{wide, grant(k)}})
		if err != nil {
			t.Fatal(err)
		}
		act, _ := catalogue.ActionByName("spaces.enter")
		// As a guest who was just taken in, so that nothing but the grant is dated.
		holds("supposed", x, func(at moment.Moment) bool {
			q := engine.Question{Subject: engine.Who{Kind: engine.ByAddress, Address: who}, Action: act.ID, Resource: resource, At: at, With: sup}
			y, err := empty.Explain(&q)
			if err != nil {
				t.Fatal(err)
			}
			for _, g := range y.Deciding().Gates {
				if g.Gate == catalogue.GrantGate {
					return g.Pass
				}
			}
			t.Fatalf("the gate of grants is not asked: %v", y.Deciding().Gates)
			return false
		})
	}
	// All of them at once lie beside each other.
	w.Grants = nil
	for k := range spells {
		w.Grants = append(w.Grants, grant(k))
	}
	all := engine.Of(w)
	for _, s := range []*engine.Snapshot{all, fromStored(t, all)} {
		told := s.TellParties([]uint32{s.PartyOf(who)})
		for k := range told.Grants {
			if x := told.Grants[k]; x.From != spells[k].from || x.Until != spells[k].until {
				t.Errorf("%s to %s is told as %s to %s", spells[k].from, spells[k].until, x.From, x.Until)
			}
		}
		if len(told.Grants) != len(spells) {
			t.Errorf("%d of %d are told", len(told.Grants), len(spells))
		}
	}
}

// TestDrop: an Editor that was begun and given up costs whoever comes after it nothing, and nobody sees what it wrote.
func TestDrop(t *testing.T) {
	w := worldgen.Generate(3, worldgen.Size{Guests: 3_000, Grants: 90_000}, now)
	who := w.Guests[7].Address.String()
	next := func(s *engine.Snapshot, n int) (*engine.Snapshot, uint64) {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		e := s.Edit()
		e.SetGrants(who, w.Grants[:n])
		s = e.Done()
		runtime.ReadMemStats(&after)
		return s, after.TotalAlloc - before.TotalAlloc
	}
	s, alone := next(engine.Of(w), 3)
	for n := range 5 {
		e := s.Edit()
		e.SetGrants(who, w.Grants[20:40])
		e.Drop()
		was := s
		var cost uint64
		if s, cost = next(s, n); cost > 2*alone+100_000 { // all that was given takes 1.4 MB
			t.Errorf("after one that was given up an Editor allocates %d bytes, and %d without", cost, alone)
		}
		for k, want := range map[*engine.Snapshot]int{s: n, was: 3} {
			if told := k.TellParties([]uint32{k.PartyOf(w.Guests[7].Address)}); n == 0 && len(told.Grants) != want {
				t.Errorf("%d grants are held, and %d were given", len(told.Grants), want)
			}
		}
	}
	// A second Editor while the first is at work copies, and neither sees the other.
	first, second := s.Edit(), s.Edit()
	first.SetGrants(who, w.Grants[:2])
	second.SetGrants(who, w.Grants[10:15])
	second.Drop() // it never was the first
	a, b := first.Done(), second.Done()
	for _, x := range []struct {
		s    *engine.Snapshot
		want []world.Grant
	}{{a, w.Grants[:2]}, {b, w.Grants[10:15]}, {s, w.Grants[:4]}} {
		told := x.s.TellParties([]uint32{x.s.PartyOf(w.Guests[7].Address)}).Grants
		if len(told) != len(x.want) {
			t.Fatalf("%d grants are held, and %d were given", len(told), len(x.want))
		}
		for k := range told {
			if told[k].Resource != x.want[k].Resource {
				t.Errorf("a grant is on %v, and was given on %v", told[k].Resource, x.want[k].Resource)
			}
		}
	}
}
