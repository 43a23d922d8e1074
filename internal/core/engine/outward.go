package engine

import (
	"slices"
	"sort"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What our own people do elsewhere, and mail of theirs that leaves, is counted
// person by person against each class of target (model §7): a typical newcomer
// of every partner, of an unlisted firm, a private address, and whoever an
// exception names. Forwarders that are set up are counted by name.

// outwardActions are what our people do elsewhere. They are found by what the
// catalogue asks: an addressee, and one of ours who does it.
var outwardActions = func() (out []*catalogue.Action) {
	for i := range catalogue.Actions() {
		if a := &catalogue.Actions()[i]; a.Address && a.Asks[catalogue.Ours] != nil && a.Asks[catalogue.Record] == nil {
			out = append(out, a)
		}
	}
	return
}()

// OutwardMove is what people of ours would become able to do towards a target,
// or no longer. It says "three people may now forward to private addresses".
// People are counted; Person is one of them, so that the question can be asked.
type OutwardMove struct {
	Action catalogue.ActionID
	Target Newcomer
	People int    // so many people of ours
	Person string // one of them, by id
	Change string // gained, lost, otherwise
}

// ForwarderMove is a forwarder that starts to be let through, or no longer is.
// One that is no longer let through stays set up; it is its system that stops
// it.
type ForwarderMove struct {
	Mailbox string // of a person of ours, by id
	To      addr.Address
	Starts  bool
}

// ofOurs divides people of ours into classes that outward actions answer alike
// on both sides: whom the same exceptions name, and whether they administer.
// Administrators are apart because they may set up forwarders where others may
// not.
func ofOurs(a, b *Snapshot) (out [][]uint32) {
	inv := &a.inv
	r0, r1 := a.reversed(), b.reversed()
	at := map[[3]int]int{}
	for i := range inv.people.n {
		p := inv.people.at(i)
		if !p.exists {
			continue
		}
		k := [3]int{r0.alikeOf[i], r1.alikeOf[i], 0}
		if p.roles&world.Administrator != 0 {
			k[2] = 1
		}
		c, ok := at[k]
		if !ok {
			c = len(out)
			at[k], out = c, append(out, nil)
		}
		out[c] = append(out[c], i)
	}
	return
}

// outwardImpact compares what our people may do elsewhere. Both snapshots hold
// the same people. Each class of people is asked once for each target and
// action: some dozens of questions. Forwarders that are set up are asked one by
// one, since each is let through or not by itself.
func outwardImpact(
	before, after *Snapshot,
	at moment.Moment,
	news []comparedNewcomer,
	changed *[catalogue.NumRules]bool,
	out *Impact,
	stop func() error,
) error {
	classes := ofOurs(before, after)
	inv := &before.inv
	for _, n := range news {
		if n.Who.Kind != ByAddress {
			continue
		}
		if err := stop(); err != nil {
			return err
		}
		for _, act := range outwardActions {
			if !n.moved && !actionMatters(act.ID, changed) {
				continue
			}
			moves := map[string]*OutwardMove{}
			for _, class := range classes {
				id := inv.personIDs.text(inv.text, class[0])
				q := Question{
					Subject:  Who{Kind: ByPerson, ID: id},
					Action:   act.ID,
					Resource: world.Resource{Kind: act.On[0], ID: id},
					Address:  n.Who.Address,
					At:       at,
				}
				v, err0 := before.Decide(&q)
				w, err1 := after.Decide(&q)
				v.Yes, w.Yes = v.Yes && err0 == nil, w.Yes && err1 == nil
				if v.Yes == w.Yes && (!v.Yes || v.Conditions == w.Conditions) {
					continue
				}
				change := changeOf(v, w)
				if moves[change] == nil {
					moves[change] = &OutwardMove{Action: act.ID, Target: n.Newcomer, Person: id, Change: change}
				}
				moves[change].People += len(class)
			}
			for _, change := range []string{"gained", "lost", "otherwise"} {
				if m := moves[change]; m != nil {
					out.Outward = append(out.Outward, *m)
				}
			}
		}
	}
	sort.SliceStable(out.Outward, func(i, j int) bool {
		a, b := &out.Outward[i], &out.Outward[j]
		if a.Action != b.Action {
			return a.Action < b.Action
		}
		return a.Target.Who.String() < b.Target.Who.String()
	})
	for i := range inv.people.n {
		p := inv.people.at(i)
		if !p.exists || p.sends.n == 0 {
			continue
		}
		id := inv.personIDs.text(inv.text, i)
		sends := inv.forwarders[p.sends.off : p.sends.off+p.sends.n]
		for k := range sends {
			f := &sends[k]
			if slices.ContainsFunc(sends[:k], func(x forwarder) bool { return x.to == f.to }) { // said twice in a file
				continue
			}
			q := Question{
				Subject:  Who{Kind: ByPerson, ID: id},
				Action:   forwardAction,
				Resource: world.Resource{Kind: catalogue.Mailbox, ID: id},
				Address:  before.addressOf(f.to),
				At:       at,
			}
			v, err0 := before.Decide(&q)
			w, err1 := after.Decide(&q)
			if v.Yes, w.Yes = v.Yes && err0 == nil, w.Yes && err1 == nil; v.Yes != w.Yes {
				out.Forwarders = append(out.Forwarders, ForwarderMove{id, q.Address, w.Yes})
			}
		}
	}
	return nil
}

// PersonMoves compares what one person of ours may do elsewhere before and
// after a change of inventory, towards each typical target, and which of their
// forwarders are let through.
//
// It is what a change of one person's groups or roles opens to them elsewhere.
func PersonMoves(before, after *Snapshot, person string, at moment.Moment) (out []OutwardMove, sends []ForwarderMove) {
	ask := func(act *catalogue.Action, to addr.Address) *Question {
		return &Question{
			Subject:  Who{Kind: ByPerson, ID: person},
			Action:   act.ID,
			Resource: world.Resource{Kind: act.On[0], ID: person},
			Address:  to,
			At:       at,
		}
	}
	for _, n := range newcomersOf(before, after, at) {
		if n.Who.Kind != ByAddress {
			continue
		}
		for _, act := range outwardActions {
			q := ask(act, n.Who.Address)
			v, err0 := before.Decide(q)
			w, err1 := after.Decide(q)
			if v.Yes, w.Yes = v.Yes && err0 == nil, w.Yes && err1 == nil; v.Yes != w.Yes {
				out = append(out, OutwardMove{Action: act.ID, Target: n, People: 1, Person: person, Change: changeOf(v, w)})
			}
		}
	}
	seen := map[string]bool{}
	for _, s := range []*Snapshot{before, after} {
		for _, to := range s.forwardsTo(person) {
			if seen[to.String()] {
				continue
			}
			seen[to.String()] = true
			// It must be set up and let through.
			leaves := func(s *Snapshot) bool {
				v, err := s.Decide(ask(forwardAction.Get(), to))
				return err == nil && v.Yes && slices.Contains(s.forwardsTo(person), to)
			}
			if was, will := leaves(before), leaves(after); was != will {
				sends = append(sends, ForwarderMove{person, to, will})
			}
		}
	}
	return
}

// forwardsTo lists where the mailbox of a person of ours is forwarded to.
func (s *Snapshot) forwardsTo(person string) (out []addr.Address) {
	inv := &s.inv
	i := inv.personIDs.find(inv.text, person)
	if i == none || i >= inv.people.n || !inv.people.at(i).exists {
		return nil
	}
	l := inv.people.at(i).sends
	for k := range inv.forwarders[l.off : l.off+l.n] {
		out = append(out, s.addressOf(inv.forwarders[int(l.off)+k].to))
	}
	return
}

// forwardAction is mail.forward, looked up once.
var forwardAction = func() catalogue.ActionID {
	a, _ := catalogue.ActionByName("mail.forward")
	return a.ID
}()

// newcomersOf lists the typical newcomers of either of two snapshots. A party
// that one side knows is no newcomer on the other.
func newcomersOf(before, after *Snapshot, at moment.Moment) []Newcomer {
	var all []Newcomer
	have := map[string]bool{}
	for _, list := range [2][]Newcomer{before.NewcomersAt(at), after.NewcomersAt(at)} {
		for _, n := range list {
			if n.Named != "" && !n.Who.Address.IsNewcomer() { // known on one side is known
				i := before.inv.addresses.find(before.inv.text, n.Who.Address.String())
				j := after.inv.addresses.find(after.inv.text, n.Who.Address.String())
				if i != none && before.isCounted(i, at) || j != none && after.isCounted(j, at) {
					continue
				}
			}
			if !have[n.Who.String()] {
				have[n.Who.String()] = true
				all = append(all, n)
			}
		}
	}
	return all
}

// isCounted reports whether a party counts as known at a moment (model §7): it
// holds a record, a grant, a group's grant, a named link or a contact. People
// of ours are never parties, whatever was once given to their address.
func (s *Snapshot) isCounted(i uint32, at moment.Moment) bool {
	if i >= s.inv.parties.n || *s.inv.ours.at(i) != none {
		return false
	}
	p := s.inv.parties.at(i)
	return p.counted(at) || len(s.reversed().contacts) > 0 && len(s.reversed().contacts[i]) > 0
}

// NewcomersAt lists typical newcomers as they are at a moment: those of
// Newcomers, and apart from them whoever an exception, a space or a meeting
// names without our knowing them otherwise (model §7).
//
// Whom something names may be known by now, and is then counted among those.
func (s *Snapshot) NewcomersAt(at moment.Moment) []Newcomer {
	base := s.reversed().newcomers
	named := s.reversed().named
	out := base[:len(base):len(base)]
	for _, n := range named {
		if i := s.inv.addresses.find(s.inv.text, n.Who.Address.String()); i != none && s.isCounted(i, at) {
			continue
		}
		out = append(out, n)
	}
	return out
}

// namedNewcomers lists domains and addresses that exceptions, spaces and
// meetings name, as typical newcomers; those in have are left out. Named says
// by what, so that a reader finds out why a single address stands in a list of
// types.
func (s *Snapshot) namedNewcomers(have []Newcomer) (out []Newcomer) {
	inv := &s.inv
	seen := map[string]bool{}
	for _, n := range have {
		seen[n.Who.String()] = true
	}
	add := func(a addr.Address, by string) {
		if seen[a.String()] {
			return
		}
		seen[a.String()] = true
		m := s.Match(a)
		if m.Own {
			return
		}
		n := Newcomer{Who: Who{Address: a}, Named: by, Name: a.String() + ", " + by}
		if a.IsNewcomer() {
			n.Name = "a newcomer from " + a.Domain().String() + ", " + by
		}
		if m.Partner != nil {
			n.Partner = m.Partner.ID
		}
		out = append(out, n)
	}
	refs := func(list []partyRef, by string) {
		for _, r := range list {
			switch r.what {
			case ofDomain:
				if d, err := addr.ParseDomain(inv.domains.text(inv.text, r.index)); err == nil {
					add(addr.Newcomer(d), by)
				}
			case ofAddress:
				add(s.addressOf(r.index), by)
			}
		}
	}
	for i := range s.pol.except {
		refs(s.pol.except[i].parties, "named by the exception "+s.pol.except[i].source.ID)
	}
	for i := range inv.spaces.n {
		if sp := inv.spaces.at(i); sp.exists && !sp.anyParty {
			refs(inv.refs[sp.parties.off:sp.parties.off+sp.parties.n], "named by the space "+inv.spaceIDs.text(inv.text, i))
		}
	}
	for i := range inv.many {
		for _, g := range inv.given(inv.many[i].grants) {
			refs([]partyRef{inv.many[i].of}, "let into the space "+inv.spaceIDs.text(inv.text, g.resource))
		}
	}
	for i := range inv.meetings.n {
		m := inv.meetings.at(i)
		if !m.exists {
			continue
		}
		for _, d := range inv.lists[m.domains.off : m.domains.off+m.domains.n] {
			if d, err := addr.ParseDomain(inv.domains.text(inv.text, d)); err == nil {
				add(addr.Newcomer(d), "named by the meeting "+inv.meetingIDs.text(inv.text, i))
			}
		}
	}
	return
}
