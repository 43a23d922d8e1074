package remedy

import (
	"sort"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// Counts is what an option would open besides, exact. They are the numbers that
// are shown beside an option before it is taken: *opens this, and 4,113 other
// things to 62 people*.
type Counts struct {
	Newcomers  int           // typical newcomers that would gain anything
	Parties    int           // known parties and live links that would
	Granted    int           // (party, action, resource) from no to yes
	WidePairs  int           // of wide actions from no to yes
	Outward    int           // (person of ours, action, class of target) from no to yes, and forwarders that start
	NotCounted []string      // what is not counted, in words; empty where all of it is
	Until      moment.Moment // when the last of it ends by itself; Never where something stays
}

// Weigh counts what an option would open. stop ends the work early with its
// error. Changes of policy are weighed by an impact, changes of inventory by
// what they touch (engine.Local). What neither counts is named in words.
func Weigh(s *engine.Snapshot, o *Option, at moment.Moment, stop func() error) (Counts, error) {
	out := Counts{Until: moment.Always}
	// The second are weighed on top of the first.
	// What partners would say themselves is no change of ours, and yet moves
	// everybody of theirs: it is weighed as policy is.
	var policy, rest []Change
	for _, c := range o.Changes {
		// Only a grant and an exception have an end of their own; whatever else
		// is changed stays until somebody changes it back.
		end := moment.Never
		switch c.Kind {
		case Exceptional, GiveGrant:
			end = c.end(at)
		}
		out.Until = max(out.Until, end)
		if c.Policy() || c.Kind == TheirStance {
			policy = append(policy, c)
		} else {
			rest = append(rest, c)
		}
	}
	moved := map[engine.Who]bool{}
	newcomers := map[engine.Who]bool{}
	before := s
	if len(policy) > 0 {
		e := s.Aside()
		e.SetPolicy(PolicyWith(s.Policy(), policy, at))
		e.HoldBack()
		e.ActForward(at)
		after := e.Done()
		// An impact is exact over everybody, whom the change is about or not: a
		// rule that is opened for one person opens for all who are like them.
		imp, err := engine.ImpactOf(s, after, at, nil, stop, nil)
		if err != nil {
			return out, err
		}
		out.Parties, out.Granted = imp.Parties.Gained, imp.Total().Gained
		for _, w := range imp.WideGained {
			out.WidePairs += w.Pairs
		}
		// The same newcomer may gain by themselves, towards people of ours, and
		// in what somebody presents: they count once.
		who := map[engine.Who]bool{}
		for _, n := range imp.Newcomers {
			if n.Change != "lost" {
				who[n.Newcomer.Who] = true
			}
		}
		for _, m := range imp.Outward {
			if m.Change != "lost" {
				out.Outward += m.People
			}
		}
		for _, f := range imp.Forwarders {
			if f.Starts {
				out.Outward++
			}
		}
		for _, m := range imp.Presenters {
			if m.Change == "gained" {
				out.WidePairs += m.Pairs
				for _, n := range m.Newcomers {
					who[n.Who] = true
				}
			}
		}
		newcomers = who
		before = after
	}
	if len(rest) > 0 {
		// A change of inventory touches one party or one place, so only these
		// are asked, before and after; everybody else is as they were.
		after := Apply(before, rest, at)
		var places []engine.Touched
		for i := range rest {
			c := &rest[i]
			switch c.Kind {
			// What a person of ours may do with their role is no access of
			// outsiders; that it is left out is said, and not passed over.
			case TakeIn:
				out.NotCounted = append(out.NotCounted, "what "+c.Person+" can then do in "+c.Name+" themselves")
			case GiveGrant, JoinGroup, Activate, Extend:
				places = append(places, engine.Touched{Party: c.Party})
			case Licence:
				if c.Resource.ID == "" {
					places = append(places, engine.Touched{Party: c.Party})
				} else {
					places = append(places, engine.Touched{Resource: c.Resource})
				}
			case AtItem, AtSpace, Admit, MeetingDoor:
				places = append(places, engine.Touched{Resource: c.Resource})
			}
		}
		err := engine.Local(s, before, after, places, at, stop, func(who engine.Who, wide bool, n int) {
			if !moved[who] {
				moved[who] = true
				out.Parties++
			}
			if wide {
				out.WidePairs += n
			} else {
				out.Granted += n
			}
		}, func(n engine.Newcomer) { newcomers[n.Who] = true })
		if err != nil {
			return out, err
		}
	}
	out.Newcomers = len(newcomers)
	return out, nil
}

// Less orders options by what they open: typical newcomers, parties, granted
// triples, wide pairs, what ours do elsewhere, duration; then by how narrow
// their changes are. Fewest newcomers first, because nobody knows who they will
// be.
func Less(a, b *Option, x, y *Counts) bool {
	for _, d := range [][2]int{{x.Newcomers, y.Newcomers}, {x.Parties, y.Parties}, {x.Granted, y.Granted}, {x.WidePairs, y.WidePairs},
		{x.Outward, y.Outward}} {
		if d[0] != d[1] {
			return d[0] < d[1]
		}
	}
	if x.Until != y.Until {
		return x.Until < y.Until
	}
	return narrower(a, b)
}

// Order sorts options by what they open. Both lists are put into the same
// order.
func Order(options []Option, counts []Counts) {
	// Options and counts are two lists: they are sorted by one order of places,
	// and then moved together.
	at := make([]int, len(options))
	for i := range at {
		at[i] = i
	}
	sort.SliceStable(at, func(i, j int) bool {
		return Less(&options[at[i]], &options[at[j]], &counts[at[i]], &counts[at[j]])
	})
	o, c := append([]Option(nil), options...), append([]Counts(nil), counts...)
	for i, k := range at {
		options[i], counts[i] = o[k], c[k]
	}
}
