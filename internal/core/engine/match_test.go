package engine

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

func domainOf(t testing.TB, s string) addr.Domain {
	t.Helper()
	d, err := addr.ParseDomain(s)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

// TestLongestMatch tries every way in which three nested names can be entered, and
// some of both sorts at once, against the definition of model §2: the longest
// match decides; at equal names the bar.
func TestLongestMatch(t *testing.T) {
	names := []string{"d.example", "c.d.example", "b.c.d.example"}
	asked := append([]string{"a.b.c.d.example", "x.d.example", "d.example.example"}, names...)
	type entry struct {
		what string // "", partner, barred, personal, both
		sub  bool
	}
	options := []entry{{"", false}}
	for _, w := range []string{"partner", "barred", "personal", "both"} {
		options = append(options, entry{w, false}, entry{w, true})
	}
	cases := 0
	for i := range len(options) * len(options) * len(options) {
		pick := [3]entry{options[i%len(options)], options[i/len(options)%len(options)], options[i/len(options)/len(options)]}
		w := &world.World{Policy: world.Policy{Organisation: &world.Organisation{Name: "Ours",
			Domains: []world.Entry{{Domain: domainOf(t, "ours.example")}}, Zone: time.UTC}}}
		for k, e := range pick {
			x := world.Entry{Domain: domainOf(t, names[k]), Subdomains: e.sub, LookAlike: true}
			if e.what == "partner" || e.what == "both" {
				w.Partners = append(w.Partners, world.Partner{ID: fmt.Sprint("p", k), Domains: []world.Entry{x}, StandingSince: moment.Always,
					Review: moment.Never})
			}
			if e.what == "personal" {
				w.Personal = append(w.Personal, x)
			}
			if e.what == "barred" || e.what == "both" {
				w.Barred = append(w.Barred, world.Bar{Entry: x})
			}
		}
		s := Of(w)
		for _, name := range asked {
			want := "unlisted"
			for k := len(names) - 1; k >= 0; k-- {
				e := pick[k]
				if e.what == "" || name != names[k] && !(e.sub && strings.HasSuffix(name, "."+names[k])) {
					continue
				}
				want = map[string]string{"partner": fmt.Sprint("p", k), "barred": "barred", "both": "barred", "personal": "personal"}[e.what]
				break
			}
			m := s.Match(addr.Newcomer(domainOf(t, name)))
			got := "unlisted"
			switch {
			case m.Bar != nil:
				got = "barred"
			case m.Partner != nil:
				got = m.Partner.ID
			case m.Private:
				got = "personal"
			}
			if got != want {
				t.Fatalf("%v: %s is %s, want %s", pick, name, got, want)
			}
			cases++
		}
	}
	if cases < 4000 {
		t.Errorf("only %d cases", cases)
	}
}

func manyEntries(t testing.TB, n int) (*policy, []string) {
	w := &world.World{}
	for i := range n {
		w.Barred = append(w.Barred, world.Bar{Entry: world.Entry{Domain: domainOf(t, fmt.Sprintf("n%d.s%d.example", i, i%977)),
			Subdomains: i%3 == 0}})
	}
	var names []string
	for i := range 4096 {
		k := i * 7919 % n
		names = append(names, []string{fmt.Sprintf("a.b.n%d.s%d.example", k, k%977), fmt.Sprintf("n%d.s%d.example", k, k%977),
			fmt.Sprintf("no%d.s%d.example", k, k%977)}[i%3])
	}
	return Of(w).pol, names
}

// TestMatchAllocates nothing.
func TestMatchAllocates(t *testing.T) {
	p, names := manyEntries(t, 5000)
	if n := testing.AllocsPerRun(10, func() {
		for _, name := range names {
			p.match(name)
		}
	}); n != 0 {
		t.Errorf("%v allocations", n)
	}
}

// BenchmarkMatch compares the longest match among 100,000 entries with as many
// look-ups in the same map as the name has labels, of the same names.
func BenchmarkMatch(b *testing.B) {
	p, names := manyEntries(b, 100_000)
	labels := make([][]string, len(names))
	for i, n := range names {
		for rest, ok := n, true; ok; _, rest, ok = strings.Cut(rest, ".") {
			labels[i] = append(labels[i], rest)
		}
	}
	var match, floor time.Duration
	found := 0
	for range b.N {
		start := time.Now()
		for range 200 {
			for _, n := range names {
				if p.match(n).bar > 0 {
					found++
				}
			}
		}
		match += time.Since(start)
		start = time.Now()
		for range 200 {
			for i := range labels {
				for _, l := range labels[i] {
					if _, ok := p.byName[l]; ok {
						found++
					}
				}
			}
		}
		floor += time.Since(start)
	}
	n := float64(b.N * 200 * len(names))
	b.ReportMetric(float64(match.Nanoseconds())/n, "ns/match")
	b.ReportMetric(float64(floor.Nanoseconds())/n, "ns/look-ups")
	b.ReportMetric(float64(match)/float64(floor), "ratio")
	if found == 0 {
		b.Fatal("nothing was found")
	}
}
