package remedy

import (
	"flag"
	"math/rand/v2"
	"sort"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

var guests = flag.Int("guests", 10_000, "records of outsiders in the world that is measured; ten grants each")

// BenchmarkRemedies prints what finding the sets of changes for a refusal takes, and
// what counting one set takes beside one impact.
func BenchmarkRemedies(b *testing.B) {
	w := world.Merge(&world.World{}, worldgen.Generate(1, worldgen.Size{Guests: *guests}, now))
	policy := *w // as a database gives it, apart from the inventory
	policy.People, policy.Groups, policy.Spaces, policy.Meetings, policy.Guests, policy.Grants, policy.Links, policy.Forwarders,
		policy.Contacts = nil, nil, nil, nil, nil, nil, nil, nil, nil
	e := engine.New()
	e.Put(w)
	e.SetPolicy(&policy)
	s := e.Done()
	r := rand.New(rand.NewPCG(8, 8))
	var found, weighed []float64
	sets := 0
	for len(found) < 60 {
		a := &catalogue.Actions()[r.IntN(len(catalogue.Actions()))]
		if a.Spread != catalogue.Granted || a.Address {
			continue
		}
		sp := &w.Spaces[r.IntN(len(w.Spaces))]
		if len(sp.Items) == 0 {
			continue
		}
		it := &sp.Items[r.IntN(len(sp.Items))]
		if !a.Takes(it.Kind) {
			continue
		}
		q := engine.Question{Subject: engine.Who{Address: w.Guests[r.IntN(len(w.Guests))].Address}, Action: a.ID,
			Resource: world.Resource{Kind: it.Kind, ID: it.ID}, At: now}
		if v, err := s.Decide(&q); err != nil || v.Yes {
			continue
		}
		start := time.Now()
		options, _, err := Find(s, Request{Question: q, Until: now + 30*86400e6})
		if err != nil {
			b.Fatal(err)
		}
		found = append(found, time.Since(start).Seconds()*1000)
		sets += len(options)
		if len(options) > 0 && len(weighed) < 5 {
			start = time.Now()
			if _, err := Weigh(s, &options[0], now, func() error { return nil }); err != nil {
				b.Fatal(err)
			}
			weighed = append(weighed, time.Since(start).Seconds()*1000)
		}
	}
	sort.Float64s(found)
	sort.Float64s(weighed)
	b.ReportMetric(found[len(found)/2], "ms/remedies")
	b.ReportMetric(found[len(found)-1], "ms/remedies-at-most")
	b.ReportMetric(weighed[len(weighed)/2], "ms/set-counted")
	b.ReportMetric(float64(sets)/float64(len(found)), "sets")
	b.ReportMetric(0, "ns/op")
}
