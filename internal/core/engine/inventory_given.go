package engine

import (
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What was given: grants by hand, links that name somebody, what bundles give,
// contacts and forwarders.
//
// The grants of one party lie together, so that a decision reads them one after
// the other. A change writes all of them anew behind the end of the list and
// leaves the old ones where they are, for the snapshots that read them; how
// many such there are is counted (grantsDead), and a service that starts writes
// none of them.

// SetGrants replaces all grants of one party, written as Grant.Party has it.
// Named links of the address stay. Grants of one party are always replaced as a
// whole: their places change, and old ones are left behind to be counted as
// waste.
func (e *Editor) SetGrants(who string, grants []world.Grant) {
	e.idx = nil
	if ref, ok := manyOf(who); ok {
		e.setMany(e.partyRef(ref), grants)
		return
	}
	// Dates of its members may rest on what it holds.
	if len(who) > 6 && who[:6] == "group:" {
		e.due = nil
		i := e.group(who[6:])
		l := e.placeGrants(grants, nil)
		g := e.inv.groups.edit(e.tok, i)
		e.stale = append(e.stale, e.inv.lists[g.parties.off:g.parties.off+g.parties.n]...)
		e.inv.grantsDead += int(g.grants.n)
		e.inv.live.grants += int(l.n) - int(g.grants.n)
		g.grants = l
		return
	}
	a, err := addr.Parse(who)
	if err != nil {
		panic("engine: " + err.Error()) // callers pass what world.Grant.Party wrote
	}
	if a.IsNewcomer() { // kept before it was refused: nobody is meant
		return
	}
	e.setHeld(e.address(a), grants)
}

// setHeld replaces what an address was given by name. What links and bundles
// give stays, because it is not by name.
func (e *Editor) setHeld(i uint32, grants []world.Grant) {
	e.idx = nil
	e.movedParty(i)
	old := e.inv.parties.at(i).grants
	var links []grant // and what bundles give
	for _, g := range e.inv.grants[old.off : old.off+old.n] {
		if g.via() == viaLink || g.detail(&e.inv.beside).bundle != 0 {
			links = append(links, g)
		}
	}
	l := e.placeGrants(grants, links)
	e.inv.grantsDead += int(old.n)
	e.inv.live.grants += len(grants) - (int(old.n) - len(links))
	e.inv.parties.edit(e.tok, i).grants = l
}

// manyOf reads a partner or a domain as world.Grant.Party writes it. ok is
// false for an address or a group.
func manyOf(who string) (ref world.PartyRef, ok bool) {
	if id, is := strings.CutPrefix(who, "partner:"); is {
		return world.PartyRef{Partner: id}, true
	}
	if name, is := strings.CutPrefix(who, "domain:"); is {
		d, err := addr.ParseDomain(name)
		if err != nil {
			panic("engine: " + err.Error()) // callers pass what world.Grant.Party wrote
		}
		return world.PartyRef{Domain: d}, true
	}
	return
}

// setMany replaces what a partner or a domain holds as a whole. Both lists are
// made anew, since older snapshots read the ones before.
func (e *Editor) setMany(of partyRef, grants []world.Grant) {
	at, found := e.inv.manyAt(of)
	next, keys := make([]manyHold, 0, len(e.inv.many)+1), make([]uint64, 0, len(e.inv.many)+1)
	next, keys = append(next, e.inv.many[:at]...), append(keys, e.inv.manyKeys[:at]...)
	rest := e.inv.many[at:]
	if found {
		e.inv.grantsDead += int(rest[0].grants.n)
		e.inv.live.grants -= int(rest[0].grants.n)
		rest = rest[1:]
	}
	if len(grants) > 0 {
		next, keys = append(next, manyHold{of, e.placeGrants(grants, nil)}), append(keys, of.key())
		e.inv.live.grants += len(grants)
	}
	e.inv.many = append(next, rest...)
	for _, m := range rest {
		keys = append(keys, m.of.key())
	}
	e.inv.manyKeys = keys
}

// key orders what is held as a whole, partners before domains.
func (r partyRef) key() uint64 { return uint64(r.what)<<32 | uint64(r.index) }

// manyAt finds where what a partner or a domain holds stands in the list, or
// would. It looks through keys alone, since every decision and every count of
// everybody comes here: half of a count went into comparing what stands beside
// them.
func (v *inventory) manyAt(of partyRef) (int, bool) { return slices.BinarySearch(v.manyKeys, of.key()) }

// heldByMany calls found for what a party holds with its home account because
// its partner or its domain holds it as a whole. partner is none where the
// party is barred or nobody's; domain is none where nothing knows it.
//
// Every decision about a granted action comes here, so that it is two searches
// in a list, and not a walk along it.
func (v *inventory) heldByMany(partner, domain uint32, found func(of partyRef, given []grant)) {
	for _, of := range [2]partyRef{{what: ofPartner, index: partner}, {what: ofDomain, index: domain}} {
		if of.index == none {
			continue
		}
		if at, ok := v.manyAt(of); ok {
			found(of, v.given(v.many[at].grants))
		}
	}
}

// manyIn lists the partners and domains that were ever given a space as a
// whole.
func (v *inventory) manyIn(space uint32) (out []partyRef) {
	for i := range v.many {
		for _, g := range v.given(v.many[i].grants) {
			if g.resource == space {
				out = append(out, v.many[i].of)
				break
			}
		}
	}
	return
}

// resource is a space or item as grants hold it.
func (e *Editor) resource(r world.Resource) uint32 {
	if r.Kind == catalogue.Space {
		return e.space(r.ID)
	}
	return e.item(r.ID) | itemBit
}

// placeGrants places grants behind the others, links behind those.
func (e *Editor) placeGrants(grants []world.Grant, links []grant) list {
	l := list{n: uint32(len(grants) + len(links))}
	l.off = uint32(len(e.inv.grants))
	for i := range grants {
		g := &grants[i]
		e.inv.grants = append(e.inv.grants,
			e.grant(g.From, g.Until, e.resource(g.Resource), g.Role, viaGrant, detail{link: seconds(g.Confirmed())}))
	}
	e.inv.grants = append(e.inv.grants, links...)
	return l
}

// PutLink adds or replaces a link. A named link also becomes a grant of every
// address it names, so that whoever looks at what a party holds sees it with
// the rest. The names that it had before lose it first.
func (e *Editor) PutLink(l *world.Link) {
	e.idx = nil
	i := e.inv.linkIDs.add(e.tok, &e.inv.text, l.ID)
	grow(&e.inv.links, e.tok, i, link{})
	if old := e.inv.links.at(i); old.exists && !old.bearer {
		e.dropLinkGrants(i)
	} else if !old.exists {
		e.inv.live.links++
	}
	rec := link{exists: true, bearer: l.Bearer(), download: l.Download, password: l.Password, right: l.Right,
		item: e.item(l.Item.ID), by: e.person(l.By), created: l.Created, until: l.Until}
	var names []uint32
	for _, a := range l.For {
		if !a.IsNewcomer() && l.Created != moment.Always { // kept before they were refused: nobody is meant
			names = append(names, e.address(a))
		}
	}
	rec.names = e.list(names)
	*e.inv.links.edit(e.tok, i) = rec
	for _, p := range names {
		old := e.inv.parties.at(p).grants
		off := uint32(len(e.inv.grants))
		e.inv.grants = append(e.inv.grants, e.inv.grants[old.off:old.off+old.n]...)
		e.inv.grants = append(
			e.inv.grants,
			e.grant(l.Created, l.Until, rec.item|itemBit, l.Right, viaLink, detail{link: i}),
		)
		e.inv.parties.edit(e.tok, p).grants = list{off, old.n + 1}
		e.inv.grantsDead += int(old.n)
	}
}

// dropLinkGrants takes the grants of link i from the parties that it names.
func (e *Editor) dropLinkGrants(i uint32) {
	e.idx = nil
	of := e.inv.links.at(i).names
	for _, p := range e.inv.lists[of.off : of.off+of.n] {
		old := e.inv.parties.at(p).grants
		off := uint32(len(e.inv.grants))
		for _, g := range e.inv.grants[old.off : old.off+old.n] {
			if g.via() != viaLink || g.detail(&e.inv.beside).link != i {
				e.inv.grants = append(e.inv.grants, g)
			}
		}
		e.inv.parties.edit(e.tok, p).grants = list{off, uint32(len(e.inv.grants)) - off}
		e.inv.grantsDead += int(old.n)
	}
}

// SetForwarders replaces all forwarders of a person's mailbox. There is no
// single forwarder to replace: those of a mailbox come together.
func (e *Editor) SetForwarders(personID string, fs []world.Forwarder) {
	i := e.person(personID)
	l := list{n: uint32(len(fs))}
	out := make([]forwarder, 0, len(fs))
	for _, f := range fs {
		out = append(out, forwarder{to: e.address(f.To), keepCopy: f.KeepCopy, byAdmin: f.SetBy == "administrator"})
	}
	l.off = uint32(len(e.inv.forwarders))
	e.inv.forwarders = append(e.inv.forwarders, out...)
	e.inv.people.edit(e.tok, i).sends = l
}

// PutContact adds or replaces a contact; one that is not accepted counts for
// nothing, and takes away one that was. Contacts are between a person of ours
// and an address; neither need have a record.
func (e *Editor) PutContact(c *world.Contact) {
	if c.Party.IsNewcomer() {
		return
	}
	i, p := e.person(c.Person), e.address(c.Party)
	l := e.inv.people.at(i).contacts
	if e.has(l, p) == c.Accepted {
		return
	}
	var out []uint32
	for _, x := range e.inv.lists[l.off : l.off+l.n] {
		if x != p {
			out = append(out, x)
		}
	}
	if c.Accepted {
		out = append(out, p)
	}
	e.inv.people.edit(e.tok, i).contacts = e.list(out)
}
