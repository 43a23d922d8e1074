package engine

import (
	"sort"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Recent is how far back comings and goings are counted. A quarter: long enough
// to show a habit, short enough to be about now.
const Recent = 90 * 24 * time.Hour

// Dealings are figures of how a partner's people and ours work together, as the
// inventory shows it. What ours do at theirs leaves no trace here but contacts.
// They are what package advice weighs, and are shown beside its advice.
type Dealings struct {
	Records     int // live records, suspended ones not counted
	Provisioned int // of them, kept by the partner's people feed
	Suspended   int
	Home        int // addresses without a record that hold a role or an accepted contact
	Sharing     int // people who hold a live role in a space or on something in it
	Talking     int // people with an accepted contact and no live role
	Contacts    int // accepted contacts
	Ours        int // people of ours with such a contact
	Owners      int // people of ours who own a space that theirs hold a role in
	Grants      int // live roles
	AsAWhole    int // of them, of the partner or a domain of theirs as a whole
	Spaces      int // spaces they are in
	Reports     int // of them, report areas
	Items       int // roles on single items
	Came        int // records that began in the last 90 days
	Went        int // people who were suspended, or whose last role ended, in the last 90 days
}

// People is how many of theirs are known and at work. Who is suspended is not
// at work.
func (d *Dealings) People() int { return d.Records + d.Home }

// Dealings counts how a partner's people and ours work together. Contacts of
// ours with theirs are counted first, since a party's own record does not know
// them. It is a pass over our people and the partner's.
func (s *Snapshot) Dealings(partner string, at moment.Moment) (d Dealings) {
	inv := &s.inv
	people := s.peopleOfPartner(partner)
	since := moment.Of(at.Time().Add(-Recent))
	contacts := map[uint32]int{}
	for i := uint32(0); i < inv.people.n; i++ {
		p := inv.people.at(i)
		with := 0
		for _, a := range inv.lists[p.contacts.off : p.contacts.off+p.contacts.n] {
			if people[a] {
				with++
				contacts[a]++
			}
		}
		if with > 0 && p.exists {
			d.Ours++
			d.Contacts += with
		}
	}
	spaces, owners := map[uint32]bool{}, map[uint32]bool{}
	for i := range people {
		p := inv.parties.at(i)
		live, ended := 0, moment.Always
		// Roles that are over tell when somebody went.
		count := func(given []grant) {
			for k := range given {
				g := &given[k]
				switch {
				case g.live(at, &inv.beside):
					live++
					sp := g.resource
					if sp&itemBit != 0 {
						d.Items++
						sp = inv.items.at(sp &^ itemBit).space
					}
					if sp < inv.spaces.n {
						spaces[sp] = true
					}
				case g.end(&inv.beside) <= at:
					ended = max(ended, g.end(&inv.beside))
				}
			}
		}
		count(inv.grantsOf(p, at))
		for _, g := range inv.groupsOf(p, at) {
			count(inv.given(inv.groups.at(g).grants))
		}
		d.Grants += live
		record := p.recordAt(at)
		suspended := record && p.stateAt(at) == world.StateSuspended
		// A record that was removed within the time counts among those who
		// went.
		gone := p.flags&hasRecord != 0 && at >= p.gone && p.gone > since
		switch {
		case suspended:
			d.Suspended++
		case record:
			d.Records++
			if p.flags&isProvisioned != 0 {
				d.Provisioned++
			}
		case live > 0 || contacts[i] > 0:
			d.Home++
		}
		if live > 0 && !suspended {
			d.Sharing++
		} else if contacts[i] > 0 && !suspended {
			d.Talking++
		}
		if record && p.since.IsSet() && p.since > since && p.since <= at {
			d.Came++
		}
		if suspended && p.out > since || gone || !suspended && live == 0 && ended > since {
			d.Went++
		}
	}
	if k := inv.partners.find(inv.text, partner); k != none {
		for i := range inv.many {
			of := inv.many[i].of
			if of.what == ofPartner && of.index != k || of.what == ofDomain &&
				(s.pol.domains[of.index].kind != partnerDomain || s.pol.domains[of.index].partner != k) {
				continue
			}
			for _, g := range inv.given(inv.many[i].grants) {
				if g.live(at, &inv.beside) {
					d.Grants++
					d.AsAWhole++
					spaces[g.resource] = true
				}
			}
		}
	}
	for sp := range spaces {
		x := inv.spaces.at(sp)
		d.Spaces++
		if x.kind == world.ReportArea {
			d.Reports++
		}
		for _, o := range inv.lists[x.owners.off : x.owners.off+x.owners.n] {
			owners[o] = true
		}
	}
	d.Owners = len(owners)
	return
}

// ValueAt is the value of a rule for a partner where no layer below it speaks.
// An id that there is not stands for whoever belongs to no partner.
func (s *Snapshot) ValueAt(partner string, r catalogue.RuleID) catalogue.Value {
	k := s.inv.partners.find(s.inv.text, partner)
	if k == none || int(k) >= len(s.pol.partners) {
		return s.pol.alone[r]
	}
	return s.pol.rows[s.pol.partners[k].alone][r]
}

// OfPartner is one of a partner's people. Barred people of a partner are
// listed, and told as such, since they are at its domains.
type OfPartner struct {
	Address addr.Address
	Name    string
	Kind    Kind
	State   string // of the record; empty where there is none
	Roles   int    // in force
	Spaces  int
	Until   moment.Moment // the end of the last of them; Never where one has none, Always where there is none
	Barred  bool
}

// PeopleOf lists those at a partner's domains who have a record, a role or were
// ever given one, in the order of their addresses. keep picks by address and
// name.
func (s *Snapshot) PeopleOf(partner string, at moment.Moment, keep func(address, name string) bool) (out []OfPartner) {
	inv := &s.inv
	for i := range s.peopleOfPartner(partner) {
		p := inv.parties.at(i)
		text, name := inv.addressText(i), inv.nameOf(i)
		a, err := addr.Parse(text)
		if err != nil || p.flags&hasRecord == 0 && p.grants.n == 0 && p.groups.n == 0 || !keep(text, name) {
			continue
		}
		x := OfPartner{Address: a, Name: name, Kind: s.KindAt(a, at), Until: moment.Always, Barred: s.Match(a).Bar != nil}
		if p.recordAt(at) {
			k := s.at(a, at)
			if k.party.record {
				x.State = world.StateNames[k.party.state]
			}
		}
		spaces := map[uint32]bool{}
		count := func(given []grant) {
			for k := range given {
				if g := &given[k]; g.live(at, &inv.beside) {
					x.Roles++
					x.Until = max(x.Until, g.end(&inv.beside))
					sp := g.resource
					if sp&itemBit != 0 {
						sp = inv.items.at(sp &^ itemBit).space
					}
					spaces[sp] = true
				}
			}
		}
		count(inv.grantsOf(p, at))
		for _, g := range inv.groupsOf(p, at) {
			count(inv.given(inv.groups.at(g).grants))
		}
		x.Spaces = len(spaces)
		out = append(out, x)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Address.String() < out[j].Address.String() })
	return
}
