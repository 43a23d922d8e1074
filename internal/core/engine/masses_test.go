package engine

import (
	"flag"
	"fmt"
	"math"
	"math/rand/v2"
	"runtime"
	"slices"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

var most = flag.Int("guests", 10_000, "records of outsiders in the largest world that is measured; ten grants each")

// BenchmarkMasses prints what whole reaches, audiences and the whole population
// cost, each beside its floor from the same run: worlds of 10,000 guests and ten
// times as many, up to the flag.
func BenchmarkMasses(b *testing.B) {
	at := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	for n := 10_000; n <= *most; n *= 10 {
		b.Run(fmt.Sprintf("guests=%d", n), func(b *testing.B) {
			w := worldgen.Generate(1, worldgen.Size{Guests: n}, at)
			policy := *w // as a database gives it, apart from the inventory
			policy.People, policy.Groups, policy.Spaces, policy.Meetings, policy.Guests, policy.Grants, policy.Links, policy.Forwarders,
				policy.Contacts = nil, nil, nil, nil, nil, nil, nil, nil, nil
			e := New()
			e.Put(w)
			e.SetFloors([]world.DatesFrom{{From: at + 400*86400e6}}) // nobody's dates have come: everybody reaches what they were given
			e.SetPolicy(&policy)
			s := e.Done()
			start := time.Now()
			s.indexed()
			b.ReportMetric(float64(time.Since(start).Milliseconds()), "ms/index")
			start = time.Now()
			s.sidesAt(at)
			b.ReportMetric(float64(time.Since(start).Microseconds())/1000, "ms/policy-to-masks")
			measureMasses(b, s, w, at)
			grants := len(w.Grants)
			w = nil
			runtime.GC()
			start = time.Now()
			runtime.GC()
			b.ReportMetric(float64(time.Since(start).Microseconds())/1000, "ms/full-collection")
			var m runtime.MemStats
			runtime.ReadMemStats(&m)
			b.ReportMetric(float64(m.HeapAlloc)/float64(grants), "bytes/grant-all-in")
			runtime.KeepAlive(s)
			b.ReportMetric(0, "ns/op")
		})
	}
}

var sink int

func measureMasses(b *testing.B, s *Snapshot, w *world.World, at moment.Moment) {
	inv := &s.inv
	r := rand.New(rand.NewPCG(8, 8))
	type asked struct {
		q Question
	}
	var qs []asked
	open, _ := catalogue.ActionByName("files.open")
	enter, _ := catalogue.ActionByName("spaces.enter")
	for len(qs) < 50_000 {
		g := &w.Grants[r.IntN(len(w.Grants))]
		if g.Address.IsZero() {
			continue
		}
		act := enter
		if g.Resource.Kind == catalogue.File {
			act = open
		} else if g.Resource.Kind != catalogue.Space {
			continue
		}
		qs = append(qs, asked{q: Question{Subject: Who{Address: g.Address}, Action: act.ID, Resource: g.Resource, At: at}})
	}
	tally := s.Tally(at)
	var decisions, reaches, ratios, lines []float64
	var buf []Granting
	for range 5 {
		start := time.Now()
		for i := range qs {
			if _, err := s.Decide(&qs[i].q); err != nil {
				b.Fatal(err)
			}
		}
		d := float64(time.Since(start).Nanoseconds()) / float64(len(qs))
		n := 0
		start = time.Now()
		for i := range qs {
			buf = tally.Reach(qs[(i*7919)%len(qs)].q.Subject.Address, buf[:0])
			n += len(buf)
		}
		e := float64(time.Since(start).Nanoseconds()) / float64(len(qs))
		decisions, reaches, ratios, lines = append(decisions, d), append(reaches, e), append(ratios, e/d),
			append(lines, float64(n)/float64(len(qs)))
	}
	b.ReportMetric(mid(decisions), "ns/decision")
	b.ReportMetric(mid(reaches), "ns/reach")
	b.ReportMetric(mid(ratios), "x-decision-for-a-reach")
	b.ReportMetric(mid(lines), "resources/reach")

	// The audience of a resource beside touching the records of its candidates.
	var spaces []uint32
	for range 5000 {
		spaces = append(spaces, uint32(r.IntN(int(inv.spaces.n))))
	}
	var floors, audiences, of []float64
	for range 5 {
		start, n := time.Now(), 0
		for _, sp := range spaces {
			for _, i := range s.idx.parties.of(sp) {
				p := inv.parties.at(i)
				for _, g := range inv.given(p.grants) {
					sink += int(g.resource)
				}
				sink += int(p.domain)
				n++
			}
		}
		f := float64(time.Since(start).Nanoseconds()) / float64(n)
		n = 0
		start = time.Now()
		for _, sp := range spaces {
			k, err := tally.Candidates(world.Resource{Kind: catalogue.Space, ID: inv.spaceIDs.text(inv.text, sp)}, func(uint32, Granting) { sink++ })
			if err != nil {
				b.Fatal(err)
			}
			n += k
		}
		a := float64(time.Since(start).Nanoseconds()) / float64(n)
		floors, audiences, of = append(floors, f), append(audiences, a), append(of, a/f)
	}
	b.ReportMetric(mid(floors), "ns/candidate-touched")
	b.ReportMetric(mid(audiences), "ns/candidate-asked")
	b.ReportMetric(mid(of), "x-touching-for-an-audience")

	// Everybody, beside touching every pair of a grant and an item once.
	floors, of = nil, nil
	var alone, both []float64
	pairs := 0
	for range 3 {
		runtime.GC()
		start := time.Now()
		pairs = 0
		for i := uint32(0); i < inv.parties.n; i++ {
			for _, g := range inv.given(inv.parties.at(i).grants) {
				if g.resource&itemBit != 0 {
					sink += int(inv.items.at(g.resource &^ itemBit).space)
					pairs++
					continue
				}
				for _, it := range s.idx.items.of(g.resource) {
					sink += int(it.index)
					pairs++
				}
			}
		}
		f := time.Since(start).Seconds() * 1000
		was := runtime.GOMAXPROCS(1)
		start = time.Now()
		s.Population(at, nil)
		one := time.Since(start).Seconds() * 1000
		runtime.GOMAXPROCS(was)
		start = time.Now()
		p := s.Population(at, nil)
		two := time.Since(start).Seconds() * 1000
		sink += p.All.Total()
		floors, alone, both, of = append(floors, f), append(alone, one), append(both, two), append(of, one/f)
	}
	b.ReportMetric(float64(pairs), "pairs")
	b.ReportMetric(mid(floors), "ms/pairs-touched")
	b.ReportMetric(mid(alone), "ms/population")
	b.ReportMetric(mid(both), "ms/population-on-all-processors")
	b.ReportMetric(mid(of), "x-touching-for-the-population")
	measureImpacts(b, s, w, at, mid(floors))
}

func mid(xs []float64) float64 {
	slices.Sort(xs)
	return xs[len(xs)/2]
}

// measureImpacts prints what impacts cost, beside touching every pair of a grant and
// an item, and beside the reach of those concerned.
func measureImpacts(b *testing.B, s *Snapshot, w *world.World, at moment.Moment, pairs float64) {
	with := func(change func(*world.World)) *Snapshot {
		next := *w
		next.Rules = slices.Clone(w.Rules)
		next.Partners = slices.Clone(w.Partners)
		change(&next)
		e := s.Aside()
		e.SetPolicy(&next)
		return e.Done()
	}
	goOn := func() error { return nil }
	for _, x := range []struct{ name, rule string }{{"files-given-to", "files.given_to"}, {"space-guests", "spaces.guests"}} {
		after := with(func(n *world.World) {
			for i := range n.Rules {
				if n.Rules[i].Rule == catalogue.MustRule(x.rule) {
					r := &n.Rules[i]
					r.Limit, r.Default = 0, 0
				}
			}
		})
		changed := ChangedRules(s, after)
		var ms []float64
		for range 3 {
			was := runtime.GOMAXPROCS(1)
			start := time.Now()
			out := &Impact{Kinds: map[string]*Moves{}, Partners: map[string]*Moves{}, Spaces: map[string]*Moves{}}
			var none func(*ImpactLine) bool
			if err := grantedImpact(s, after, at, &changed, out, map[uint32]Moves{}, &none, goOn, func(float64) {}); err != nil {
				b.Fatal(err)
			}
			ms = append(ms, time.Since(start).Seconds()*1000)
			runtime.GOMAXPROCS(was)
			sink += out.Total().Lost
		}
		b.ReportMetric(mid(ms), "ms/impact-of-"+x.name)
		b.ReportMetric(mid(ms)/pairs, "x-touching-for-"+x.name)
		var both []float64
		for range 3 {
			start := time.Now()
			out := &Impact{Kinds: map[string]*Moves{}, Partners: map[string]*Moves{}, Spaces: map[string]*Moves{}}
			var none func(*ImpactLine) bool
			if err := grantedImpact(s, after, at, &changed, out, map[uint32]Moves{}, &none, goOn, func(float64) {}); err != nil {
				b.Fatal(err)
			}
			both = append(both, time.Since(start).Seconds()*1000)
		}
		b.ReportMetric(mid(both), "ms/impact-of-"+x.name+"-on-all-processors")
	}
	// One partner: the biggest.
	after := with(func(n *world.World) { n.Partners[0].Standing = 1 - n.Partners[0].Standing })
	changed := ChangedRules(s, after)
	var impacts, reaches []float64
	people := 0
	for range 3 {
		was := runtime.GOMAXPROCS(1)
		start := time.Now()
		out := &Impact{Kinds: map[string]*Moves{}, Partners: map[string]*Moves{}, Spaces: map[string]*Moves{}}
		var none func(*ImpactLine) bool
		if err := grantedImpact(s, after, at, &changed, out, map[uint32]Moves{}, &none, goOn, func(float64) {}); err != nil {
			b.Fatal(err)
		}
		impacts = append(impacts, time.Since(start).Seconds()*1000)
		start = time.Now()
		t := s.Tally(at)
		var buf []Granting
		people = 0
		for i := range s.peopleOfPartner(n0(w)) {
			buf = t.Reach(s.addressOf(i), buf[:0])
			sink += len(buf)
			people++
		}
		reaches = append(reaches, time.Since(start).Seconds()*1000)
		runtime.GOMAXPROCS(was)
	}
	b.ReportMetric(float64(people), "people-of-the-partner")
	b.ReportMetric(mid(impacts), "ms/impact-of-a-partner")
	b.ReportMetric(mid(impacts)/mid(reaches), "x-reach-of-its-people")
}

func n0(w *world.World) string { return w.Partners[0].ID }

// BenchmarkWide counts everybody's wide actions in worlds of three sizes, each five times, and beside asking every cohort about
// every class of people and meetings. It prints the range of each and the exponent between the sizes.
func BenchmarkWide(b *testing.B) {
	stop := func() error { return nil }
	measure := func(what func()) (least, longest time.Duration) {
		for i := range 5 {
			begun := time.Now()
			what()
			took := time.Since(begun)
			if i == 0 || took < least {
				least = took
			}
			longest = max(longest, took)
		}
		return
	}
	var before time.Duration
	for _, guests := range []int{*most / 100, *most / 10, *most} {
		at := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
		s := Of(worldgen.Generate(1, worldgen.Size{Guests: guests, Grants: 10 * guests}, at))
		least, longest := measure(func() { _, _ = s.Wide(at, stop) })
		line := fmt.Sprintf("%d guests: %s to %s", guests, least.Round(time.Microsecond), longest.Round(time.Microsecond))
		if before > 0 {
			line += fmt.Sprintf(", exponent %.2f", math.Log10(float64(least)/float64(before)))
		}
		if guests < *most {
			begun := time.Now()
			_, _ = WidePairs(s, at)
			line += fmt.Sprintf("; pair by pair %.1fx", float64(time.Since(begun))/float64(least))
		}
		fmt.Println(line)
		before = least
	}
}
