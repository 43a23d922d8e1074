package engine

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What a snapshot holds, as records again: for whoever looks through an
// inventory without reading it. Of a text that no question is asked of (a
// purpose, a location) it holds that there is one, so that stands there.

// said stands for a text that is there.
const said = "…"

// Parties is how many outside addresses a snapshot has ever known; they are
// numbered from 0.
func (s *Snapshot) Parties() uint32 { return s.inv.parties.n }

// PartyNumber is the number of an address; ok is false where it was never
// known.
func (s *Snapshot) PartyNumber(a addr.Address) (i uint32, ok bool) {
	i = s.inv.addresses.find(s.inv.text, a.String())
	return i, i != none && i < s.inv.parties.n
}

// PartnerNumber is the number of the partner that a party belongs to, by its
// domain alone; ok is false where it belongs to none.
func (s *Snapshot) PartnerNumber(party uint32) (k uint32, ok bool) {
	d := s.inv.parties.at(party).domain
	if d == none || s.pol.domains[d].kind != partnerDomain {
		return 0, false
	}
	return s.pol.domains[d].partner, true
}

// PartnerID is the id of the partner of a number.
func (s *Snapshot) PartnerID(k uint32) string { return s.inv.partners.text(s.inv.text, k) }

// NumberOfPartner is the number of a partner; ok is false where there is none.
func (s *Snapshot) NumberOfPartner(id string) (k uint32, ok bool) {
	k = s.inv.partners.find(s.inv.text, id)
	return k, k != none
}

// NameAt is the name in the record of a party, or "" where there is none; a
// record that a feed alone made tells none.
func (s *Snapshot) NameAt(party uint32) string {
	if f := s.inv.parties.at(party).flags; f&hasRecord == 0 || f&isProvisioned != 0 {
		return ""
	}
	return s.inv.nameOf(party)
}

// Holders lists who was ever given something in a space, itself or through a
// group or a link, as it was at one snapshot. It keeps nothing else of that.
type Holders struct{ by lists[uint32] }

// Holders returns them. The first who asks of a snapshot waits until all grants
// are gone through.
func (s *Snapshot) Holders() *Holders { return &Holders{s.indexed().parties} }

// In lists the parties of a space by its number. A space that came later has
// none.
func (h *Holders) In(space uint32) []uint32 { return h.by.of(space) }

// SpaceNumber returns the number of a space; false where there never was one.
func (s *Snapshot) SpaceNumber(id string) (uint32, bool) {
	i := s.inv.spaceIDs.find(s.inv.text, id)
	return i, i != none && i < s.inv.spaces.n
}

// EachSpaceOf calls fn for every space that a party was ever given something
// in, itself or through a group or a link; for one perhaps several times.
func (s *Snapshot) EachSpaceOf(party uint32, fn func(space uint32)) {
	inv := &s.inv
	p := inv.parties.at(party)
	of := func(given []grant) {
		for k := range given {
			sp := given[k].resource
			if sp&itemBit != 0 {
				sp = inv.items.at(sp &^ itemBit).space
			}
			fn(sp)
		}
	}
	of(inv.given(p.grants))
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		of(inv.given(inv.groups.at(g).grants))
	}
}

// EachOfPartner calls fn for every party at a domain of a partner.
func (s *Snapshot) EachOfPartner(partner string, fn func(party uint32)) {
	for i := range s.peopleOfPartner(partner) {
		fn(i)
	}
}

// onReports reports whether a grant is on a report, a dashboard or an area of
// them.
func (inv *inventory) onReports(g *grant) bool {
	if g.resource&itemBit == 0 {
		return inv.spaces.at(g.resource).kind == world.ReportArea
	}
	kind := inv.items.at(g.resource &^ itemBit).kind
	return kind == catalogue.Report || kind == catalogue.Dashboard
}

// EachReport calls fn for every report, dashboard and area of them that a party
// was given itself and that counts at a moment: by hand or because a bundle
// gives it, in the order in which it was given, once for each. It is a way to
// the few grants that need a licence without telling a world of them.
func (s *Snapshot) EachReport(party uint32, at moment.Moment, fn func(world.Resource)) {
	inv := &s.inv
	var seen map[uint32]bool // made where there is one at all: most hold none
	for _, g := range inv.given(inv.parties.at(party).grants) {
		if g.via() == viaLink || !inv.onReports(&g) || !moment.Within(at, g.begin(&inv.beside), g.written(&inv.beside)) || seen[g.resource] {
			continue
		}
		if seen == nil {
			seen = map[uint32]bool{}
		}
		seen[g.resource] = true
		r := world.Resource{Kind: catalogue.Space}
		if k := g.resource &^ itemBit; g.resource != k {
			r.Kind, r.ID = inv.items.at(k).kind, inv.itemIDs.text(inv.text, k)
		} else {
			r.ID = inv.spaceIDs.text(inv.text, k)
		}
		fn(r)
	}
}

// PrivateParty reports whether a party is at a provider of private addresses.
func (s *Snapshot) PrivateParty(party uint32) bool {
	return s.pol.domains[s.inv.parties.at(party).domain].kind == personalDomain
}

// InNamedGroup reports whether a party is in a group that an exception names:
// then its record decides whether the exception is about anybody.
func (s *Snapshot) InNamedGroup(party uint32) bool {
	inv := &s.inv
	p := inv.parties.at(party)
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		for i := range s.pol.except {
			if slices.Contains(s.pol.except[i].parties, partyRef{what: ofGroup, index: g}) {
				return true
			}
		}
	}
	return false
}

// PartiesOf calls fn for every party that a link names.
func (s *Snapshot) PartiesOf(link string, fn func(party uint32)) {
	if i := s.inv.linkIDs.find(s.inv.text, link); i != none && i < s.inv.links.n {
		l := s.inv.links.at(i).names
		for _, p := range s.inv.lists[l.off : l.off+l.n] {
			fn(p)
		}
	}
}

// telling makes records of an inventory. Each space, item and group is told
// once, whatever number of parties hold something in it.
type telling struct {
	s      *Snapshot
	w      *world.World
	spaces map[uint32]int // where a space stands in w
	items  map[uint32]bool
	groups map[uint32]int
}

// TellParties makes a world of some parties: their records, what they hold and
// through what, and of the inventory what that names. Groups and links are told
// with these parties alone.
func (s *Snapshot) TellParties(parties []uint32) *world.World {
	t := &telling{s: s, w: &world.World{Policy: s.pol.source.Policy}, spaces: map[uint32]int{}, items: map[uint32]bool{},
		groups: map[uint32]int{}}
	for _, i := range parties {
		t.party(i)
	}
	return t.w
}

// party tells one: the record, what it was given and how, its groups and
// holdings.
func (t *telling) party(i uint32) {
	inv, w := &t.s.inv, t.w
	p, a := inv.parties.at(i), inv.address(i)
	if g, ok := t.s.Record(i); ok {
		w.Guests = append(w.Guests, g)
	}
	for _, g := range inv.given(p.grants) {
		switch {
		case g.via() == viaLink:
			l := t.link(g.detail(&inv.beside).link)
			l.For = []addr.Address{a}
			t.names(l.Item)
			w.Links = append(w.Links, l)
		default: // by hand, or because a bundle gives it
			x := t.grant(&g)
			x.Address = a
			w.Grants = append(w.Grants, x)
		}
	}
	for _, k := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		at, ok := t.groups[k]
		if !ok {
			at = len(w.Groups)
			t.groups[k] = at
			id := inv.groupIDs.text(inv.text, k)
			w.Groups = append(w.Groups, world.Group{ID: id})
			for _, g := range inv.given(inv.groups.at(k).grants) {
				x := t.grant(&g)
				x.Group = id
				w.Grants = append(w.Grants, x)
			}
		}
		w.Groups[at].Parties = append(w.Groups[at].Parties, a)
	}
	w.Holdings = append(w.Holdings, inv.holdings[i]...)
}

// grant tells what a grant is on and what it gives, but not whose it is.
func (t *telling) grant(g *grant) world.Grant {
	b := &t.s.inv.beside
	x := world.Grant{Role: g.role(), From: g.begin(b), Until: g.written(b), Reviewed: fromSeconds(g.detail(b).link)}
	if g.resource&itemBit != 0 {
		k := g.resource &^ itemBit
		x.Resource = world.Resource{Kind: t.s.inv.items.at(k).kind, ID: t.s.inv.itemIDs.text(t.s.inv.text, k)}
	} else {
		x.Resource = world.Resource{Kind: catalogue.Space, ID: t.s.inv.spaceIDs.text(t.s.inv.text, g.resource)}
	}
	t.names(x.Resource)
	return x
}

// names tells the space and the item that something is on, once.
func (t *telling) names(r world.Resource) {
	inv := &t.s.inv
	if r.Kind == catalogue.Space {
		t.space(inv.spaceIDs.find(inv.text, r.ID))
		return
	}
	k := inv.itemIDs.find(inv.text, r.ID)
	if k == none || t.items[k] || !inv.items.at(k).exists {
		return
	}
	t.items[k] = true
	if at := t.space(inv.items.at(k).space); at >= 0 {
		t.w.Spaces[at].Items = append(t.w.Spaces[at].Items, t.item(k))
	}
}

// space tells a space, once, and returns where it stands; -1 where there is
// none.
func (t *telling) space(k uint32) int {
	inv := &t.s.inv
	if k == none || !inv.spaces.at(k).exists {
		return -1
	}
	if at, ok := t.spaces[k]; ok {
		return at
	}
	x := inv.spaces.at(k)
	t.spaces[k] = len(t.w.Spaces)
	t.w.Spaces = append(t.w.Spaces, world.Space{ID: inv.spaceIDs.text(inv.text, k), Name: inv.text.text(x.name), Kind: x.kind,
		Rules: t.settings(x.rules, x.held)})
	return t.spaces[k]
}

// item tells an item without looking whether it was told already.
func (t *telling) item(k uint32) world.Item {
	inv := &t.s.inv
	x := inv.items.at(k)
	return world.Item{ID: inv.itemIDs.text(inv.text, k), Kind: x.kind, Name: inv.text.text(x.name), Private: x.private,
		Space: inv.spaceIDs.text(inv.text, x.space), Rules: t.settings(x.rules, x.held)}
}

// settings tells what a place says, in the order of the rules, as it was said
// and not as it counts.
func (t *telling) settings(rules, held uint32) (out []world.Setting) {
	inv := &t.s.inv
	all := inv.rows
	if inv.said != nil {
		all = inv.said
	}
	for i, row := range []uint32{rules, held} {
		if row == none {
			continue
		}
		for r, v := range all[row] {
			if v != catalogue.Unset {
				out = append(out, world.Setting{Rule: catalogue.RuleID(r), Value: v, Held: i == 1})
			}
		}
	}
	slices.SortFunc(out, func(a, b world.Setting) int { return int(a.Rule) - int(b.Rule) })
	return
}

// link tells a link without those whom it names.
func (t *telling) link(k uint32) world.Link {
	inv := &t.s.inv
	x := inv.links.at(k)
	it := inv.items.at(x.item)
	return world.Link{ID: inv.linkIDs.text(inv.text, k), Item: world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, x.item)},
		Right: x.right, Created: x.created, Until: x.until}
}

// TellForwarders makes a world of the policy and of what is forwarded. It is
// for what systems are told about mail, where nothing else is needed.
func (s *Snapshot) TellForwarders() *world.World {
	inv := &s.inv
	w := &world.World{Policy: s.pol.source.Policy}
	for i := range inv.people.n {
		p := inv.people.at(i)
		if !p.exists {
			continue
		}
		for _, f := range inv.forwarders[p.sends.off : p.sends.off+p.sends.n] {
			w.Forwarders = append(w.Forwarders, world.Forwarder{Mailbox: inv.personIDs.text(inv.text, i), To: inv.address(f.to),
				KeepCopy: f.keepCopy})
		}
	}
	return w
}

// TellRest makes a world of everything but parties: groups without those whom
// they hold, spaces with their items, meetings, lists of domains, links,
// forwarders, contacts, and what partners and domains hold as a whole.
func (s *Snapshot) TellRest() *world.World {
	inv := &s.inv
	t := &telling{s: s, w: &world.World{Policy: s.pol.source.Policy}, spaces: map[uint32]int{}}
	w := t.w
	for i := range inv.spaces.n {
		t.space(i)
	}
	for i := range inv.items.n {
		if x := inv.items.at(i); x.exists {
			if at, ok := t.spaces[x.space]; ok {
				w.Spaces[at].Items = append(w.Spaces[at].Items, t.item(i))
			}
		}
	}
	for i := range inv.meetings.n {
		if inv.meetings.at(i).exists {
			w.Meetings = append(w.Meetings, t.meeting(i))
		}
	}
	for i := range inv.domainLists.n {
		if l := inv.domainLists.at(i); l.exists {
			w.DomainLists = append(w.DomainLists, world.DomainList{ID: inv.listIDs.text(inv.text, i), Domains: t.domains(l.domains)})
		}
	}
	for i := range inv.links.n {
		if inv.links.at(i).exists {
			w.Links = append(w.Links, t.linkFor(i))
		}
	}
	w.Forwarders = s.TellForwarders().Forwarders
	// For each address one contact is enough: it shows that there is one.
	contacts := map[uint32]bool{}
	for i := range inv.people.n {
		p := inv.people.at(i)
		if !p.exists {
			continue
		}
		id := inv.personIDs.text(inv.text, i)
		for _, c := range inv.lists[p.contacts.off : p.contacts.off+p.contacts.n] {
			if !contacts[c] {
				contacts[c] = true
				w.Contacts = append(w.Contacts, world.Contact{Person: id, Party: inv.address(c), Accepted: true})
			}
		}
	}
	t.many(func(uint32) bool { return true })
	return w
}

// many tells what partners and domains hold as a whole in some spaces.
func (t *telling) many(in func(space uint32) bool) {
	inv := &t.s.inv
	for i := range inv.many {
		m := &inv.many[i]
		for _, g := range inv.given(m.grants) {
			if !in(g.resource) {
				continue
			}
			b := &inv.beside
			x := world.Grant{Role: g.role(), From: g.begin(b), Until: g.written(b), Reviewed: fromSeconds(g.detail(b).link),
				Resource: world.Resource{Kind: catalogue.Space, ID: inv.spaceIDs.text(inv.text, g.resource)}}
			if m.of.what == ofPartner {
				x.Partner = inv.partners.text(inv.text, m.of.index)
			} else if d, err := addr.ParseDomain(inv.domains.text(inv.text, m.of.index)); err == nil {
				x.Domain = d
			}
			t.w.Grants = append(t.w.Grants, x)
		}
	}
}

// domains tells a list of domains.
func (t *telling) domains(l list) (out []addr.Domain) {
	inv := &t.s.inv
	for _, d := range inv.lists[l.off : l.off+l.n] {
		if x, err := addr.ParseDomain(inv.domains.text(inv.text, d)); err == nil {
			out = append(out, x)
		}
	}
	return
}

// meeting tells a meeting.
func (t *telling) meeting(i uint32) world.Meeting {
	inv := &t.s.inv
	m := inv.meetings.at(i)
	return world.Meeting{ID: inv.meetingIDs.text(inv.text, i), Name: inv.text.text(m.name), SignInDomains: t.domains(m.own),
		Rules: t.settings(m.rules, m.held)}
}

// linkFor tells a link with those whom it names.
func (t *telling) linkFor(i uint32) world.Link {
	inv := &t.s.inv
	l, x := t.link(i), inv.links.at(i)
	if !x.bearer {
		l.For = []addr.Address{}
		for _, p := range inv.lists[x.names.off : x.names.off+x.names.n] {
			l.For = append(l.For, inv.address(p))
		}
	}
	return l
}

// TellPlaces makes a world of the policy, some spaces with all that lies in
// them (items, meetings, links to items, what partners and domains hold there
// as a whole), and of some meetings and links by themselves. What is no more is
// left out.
//
// It goes through all items, meetings and links once and tells those alone that
// are meant.
func (s *Snapshot) TellPlaces(spaces, meetings, links []string) *world.World {
	inv := &s.inv
	t := &telling{s: s, w: &world.World{Policy: s.pol.source.Policy}, spaces: map[uint32]int{}}
	w := t.w
	within := make([]bool, inv.spaces.n)
	for _, id := range spaces {
		if i, ok := s.SpaceNumber(id); ok && t.space(i) >= 0 {
			within[i] = true
		}
	}
	told, named := map[uint32]bool{}, map[uint32]bool{}
	for _, id := range meetings {
		if i := inv.meetingIDs.find(inv.text, id); i != none && i < inv.meetings.n && inv.meetings.at(i).exists && !told[i] {
			told[i], w.Meetings = true, append(w.Meetings, t.meeting(i))
		}
	}
	for _, id := range links {
		if i := inv.linkIDs.find(inv.text, id); i != none && i < inv.links.n && inv.links.at(i).exists && !named[i] {
			named[i], w.Links = true, append(w.Links, t.linkFor(i))
		}
	}
	if len(t.spaces) == 0 {
		return w
	}
	for i := range inv.items.n {
		if x := inv.items.at(i); x.exists && x.space < inv.spaces.n && within[x.space] {
			at := t.spaces[x.space]
			w.Spaces[at].Items = append(w.Spaces[at].Items, t.item(i))
		}
	}
	for i := range inv.meetings.n {
		if m := inv.meetings.at(i); m.exists && m.space < inv.spaces.n && within[m.space] && !told[i] {
			w.Meetings = append(w.Meetings, t.meeting(i))
		}
	}
	for i := range inv.links.n {
		if x := inv.links.at(i); x.exists && !named[i] && x.item < inv.items.n {
			if sp := inv.items.at(x.item).space; sp < inv.spaces.n && within[sp] {
				w.Links = append(w.Links, t.linkFor(i))
			}
		}
	}
	t.many(func(sp uint32) bool { return sp < inv.spaces.n && within[sp] })
	return w
}
