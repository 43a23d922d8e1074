package bench

import (
	"fmt"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/world"
)

// BenchmarkExpectations compares judging expectations with what they are made of, in one run: one about a resource with its audience, one
// about an address with its reach, a hundred about everybody with one count of everybody.
// clock says how long something takes, in milliseconds.
func clock(fn func()) float64 {
	start := time.Now()
	fn()
	return float64(time.Since(start).Microseconds()) / 1000
}

func BenchmarkExpectations(b *testing.B) {
	w := world.Merge(&world.World{}, generate(b))
	s := engine.Of(w)
	never := func() error { return nil }
	judge := func(ahead expect.Ahead, list ...world.Expectation) float64 {
		var all []*expect.Statement
		for i := range list {
			x, err := expect.Of(&list[i])
			if err != nil {
				b.Fatal(err)
			}
			all = append(all, x)
		}
		start := time.Now()
		if err := expect.Judge(s, all, now, ahead, nil, func(int, expect.Judged) {}); err != nil {
			b.Fatal(err)
		}
		return float64(time.Since(start).Microseconds()) / 1000
	}
	space := "space:" + w.Spaces[0].ID
	guest := w.Guests[len(w.Guests)/2].Address
	resource := world.Resource{Kind: catalogue.Space, ID: w.Spaces[0].ID}
	var hundred []world.Expectation
	for i := range 100 {
		x := world.Expectation{ID: fmt.Sprintf("x%d", i), Party: world.Everybody, Action: "*", Resource: "*"}
		switch i % 4 {
		case 1:
			x.Party, x.Expect = "partner:"+w.Partners[i%len(w.Partners)].ID, world.Expect{Sort: world.AtMost, AtMost: 1 << 30}
		case 2:
			x.Party, x.Action = "kind:"+world.PartyKinds[i%len(world.PartyKinds)], "files.*"
		case 3:
			x.Action, x.Expect = "chat.*", world.Expect{Sort: world.OnCondition, Conditions: []string{"sign_in"}}
		}
		hundred = append(hundred, x)
	}
	figures := map[string][]float64{}
	for range 5 {
		note := func(name string, v float64) { figures[name] = append(figures[name], v) }
		audience := clock(func() {
			_ = s.Audience(resource, true, nil, now, func(*engine.Reached) error { return nil })
		})
		note("resource/audience", judge(expect.Now, world.Expectation{ID: "r", Party: world.Everybody, Action: "*", Resource: space})/audience)
		reach := clock(func() { _, _, _ = s.Reach(engine.Who{Address: guest}, now) })
		note("address/reach", judge(expect.Now, world.Expectation{ID: "a", Party: guest.String(), Action: "*", Resource: "*"})/reach)
		count := clock(func() {
			s.Population(now, nil)
			_, _ = s.Wide(now, never)
		})
		note("count_ms", count)
		note("hundred/count", judge(expect.Now, hundred...)/count)
		note("hundred_ahead_ms", judge(expect.NextDays, hundred...))
	}
	for name, list := range figures {
		b.ReportMetric(median(list), name)
	}
	b.ReportMetric(0, "ns/op")
}
