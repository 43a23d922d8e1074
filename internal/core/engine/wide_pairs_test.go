package engine

import (
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Wide actions as they were answered before people and meetings were put together: every cohort asked about every
// class of them. It is slow, plain, and what the other way is held against.

// pairMove is an answer for a cohort about resources that are alike, on two sides.
type pairMove struct {
	act         catalogue.ActionID
	kind        catalogue.ResourceKind
	cohort      *cohort
	alike       *alike
	members     []uint32 // of the cohort; empty for links
	resources   []uint32 // of the resources
	left, right Verdict
	scope       bool // look-up: what is told is whether everybody is seen, or those of shared spaces
	shared      bool // of a scope: those of shared spaces
	pairs       int
}

// widePairs calls found for what two snapshots of one inventory answer otherwise, and
// with both for whatever either says yes to. Only actions that matters lets through
// are asked of cohorts that did not change. It stops where stop says so.
func widePairs(
	left, right *Snapshot,
	at moment.Moment,
	matters func(catalogue.ActionID) bool,
	both bool,
	stop func() error,
	found func(*pairMove),
) error {
	inv := &left.inv
	all := cohorts(left, right, at)
	resources := map[catalogue.ResourceKind][]alike{}
	contacts := left.reversed().contacts
	for _, w := range wideActions {
		about, ok := resources[w.kind]
		if !ok {
			about = wideResources(left, right, w.kind)
			resources[w.kind] = about
		}
		classOf := map[uint32]int{}
		if w.contacts {
			for k := range about {
				for _, p := range about[k].members {
					classOf[p] = k
				}
			}
		}
		for _, c := range all {
			if err := stop(); err != nil {
				return err
			}
			if !c.changed && !matters(w.act) {
				continue
			}
			for k := range about {
				a := &about[k]
				ask := func(as relation) (x, y Verdict) {
					q := Question{Subject: c.who, Action: w.act, Resource: world.Resource{Kind: w.kind, ID: a.id}, At: at, as: as}
					x, _ = left.Decide(&q)
					if y = x; left != right {
						y, _ = right.Decide(&q)
					}
					return
				}
				tell := func(x, y Verdict, members, of []uint32, pairs int, shared bool) {
					if pairs == 0 || !(x.Yes != y.Yes || x.Yes && x.Conditions != y.Conditions) && !(both && x.Yes) {
						return
					}
					found(
						&pairMove{
							act:       w.act,
							kind:      w.kind,
							cohort:    c,
							alike:     a,
							members:   members,
							resources: of,
							left:      x,
							right:     y,
							scope:     w.shares,
							shared:    shared,
							pairs:     pairs,
						},
					)
				}
				switch {
				case w.shares: // look-up counts scopes: whether all are seen, or those of shared spaces
					if k > 0 {
						continue
					}
					x, y := ask(unrelated)
					tell(x, y, c.members, nil, c.size(), false)
					x, y = ask(related)
					tell(x, y, c.members, nil, c.size(), true)
				case w.contacts:
					x, y := ask(unrelated)
					met := 0
					of := map[uint32]int{} // by person: members who are contacts
					rest := c.members[:0:0]
					v, z := ask(related)
					for i, m := range c.members {
						mine := 0
						for _, p := range contacts[m] {
							if inv.people.at(p).exists && classOf[p] == k {
								met, mine = met+1, mine+1
								of[p]++
								tell(v, z, c.members[i:i+1], []uint32{p}, 1, false)
							}
						}
						if mine < len(a.members) {
							rest = append(rest, m)
						}
					}
					about := a.members
					if met > 0 { // whom they know by themselves was told already
						about = nil
						for _, p := range a.members {
							if of[p] < c.size() {
								about = append(about, p)
							}
						}
					}
					tell(x, y, rest, about, c.size()*len(a.members)-met, false)
				default:
					x, y := ask(asItIs)
					tell(x, y, c.members, a.members, c.size()*len(a.members), false)
				}
			}
		}
	}
	return nil
}

// pairCount collects a WideSum.
type pairCount struct {
	parties   map[uint32]bool
	cohorts   map[*cohort]bool
	resources map[uint32]bool
	pairs     int
}

func (n *pairCount) add(m *pairMove) {
	if n.parties == nil {
		n.parties, n.cohorts, n.resources = map[uint32]bool{}, map[*cohort]bool{}, map[uint32]bool{}
	}
	n.pairs += m.pairs
	if len(m.members) == len(m.cohort.members) { // links, which have no members, too
		n.cohorts[m.cohort] = true
	} else {
		for _, p := range m.members {
			n.parties[p] = true
		}
	}
	for _, r := range m.resources {
		n.resources[r] = true
	}
}

func (n *pairCount) sum(act catalogue.ActionID, kind catalogue.ResourceKind, scope string) WideSum {
	out := WideSum{Action: act, Kind: kind, Resources: len(n.resources), Pairs: n.pairs, Scope: scope}
	for c := range n.cohorts {
		out.Parties += c.size()
		for _, m := range c.members {
			delete(n.parties, m)
		}
	}
	out.Parties += len(n.parties)
	return out
}

type pairKey struct {
	act   catalogue.ActionID
	kind  catalogue.ResourceKind
	scope string
}

func (m *pairMove) key() pairKey {
	k := pairKey{m.act, m.kind, ""}
	if m.scope {
		k.scope = "everybody"
		if m.shared {
			k.scope = "shared"
		}
	}
	return k
}

func pairSums(in map[pairKey]*pairCount) []WideSum {
	out := []WideSum{}
	for k, n := range in {
		out = append(out, n.sum(k.act, k.kind, k.scope))
	}
	sort.Slice(out, func(i, j int) bool {
		a, b := &out[i], &out[j]
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		return a.Scope+a.Kind.String() < b.Scope+b.Kind.String()
	})
	return out
}

// wideByPairs counts what everybody outside may do without a role: action by action the
// parties, the resources and the pairs of both (model §7).
func (s *Snapshot) wideByPairs(at moment.Moment, stop func() error) ([]WideSum, error) {
	in := map[pairKey]*pairCount{}
	err := widePairs(s, s, at, func(catalogue.ActionID) bool { return true }, true, stop, func(m *pairMove) {
		k := m.key()
		if in[k] == nil {
			in[k] = &pairCount{}
		}
		in[k].add(m)
	})
	return pairSums(in), err
}

// WidePairs lets tests outside of the package count as before.
func WidePairs(s *Snapshot, at moment.Moment) ([]WideSum, error) {
	return s.wideByPairs(at, func() error { return nil })
}
