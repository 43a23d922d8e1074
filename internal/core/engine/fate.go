package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What dated sequences make of records stands beside the records (model §5):
// when each is suspended and gone, and when a grant ends because nobody
// answered its review. It is computed where a record, or what its dates follow,
// changes, so that a decision only compares moments.

// dateRules is what dated sequences follow besides the records themselves: what
// policy and floors say, for each partner and for whoever has none. It compares
// field by field with the one of another policy, to find whose dates change.
type dateRules struct {
	zone     string
	partners []partnerDates // by index of partner
	nobody   partnerDates
	kinds    [2]dated.Floors // of kinds of step; the second of records that were taken over
}

// of returns what counts for an address at a domain. barred is whether the
// address itself is barred; bars of domains are in f.
func (r *dateRules) of(f domainFacts, barred bool) *partnerDates {
	if f.kind == partnerDomain && f.bar == 0 && !barred && int(f.partner) < len(r.partners) { // a barred address has no partner
		return &r.partners[f.partner]
	}
	return &r.nobody
}

// floors is what of the floors is written apart from records (model §5).
//
// A floor keeps counted dates from falling before a moment. An organisation
// sets one when it begins with the product, so that guests taken over are not
// all suspended on the first day.
type floors struct {
	all      moment.Moment // of the organisation; Always for none, Never while the dates wait
	partners map[string]moment.Moment
	kinds    dated.Floors

	mail        moment.Moment // from when mail is sent
	partnerMail map[string]moment.Moment
}

// noFloors holds nothing back.
var noFloors = floors{all: moment.Always, kinds: dated.NoFloors(), mail: moment.Always}

// wholeSecond rounds a floor up to a whole second, which is what ends of
// reviews are kept as. Up, so that nothing happens before the floor.
func wholeSecond(m moment.Moment) moment.Moment {
	if !m.IsSet() || m%1e6 == 0 {
		return m
	}
	if m < 0 {
		return m - m%1e6
	}
	return m - m%1e6 + 1e6
}

// SetFloors replaces all floors but those of single guests. Those of single
// guests are in their records.
func (e *Editor) SetFloors(list []world.DatesFrom) {
	f := noFloors
	f.partners, f.partnerMail = map[string]moment.Moment{}, map[string]moment.Moment{}
	for _, x := range list {
		from := wholeSecond(x.From)
		switch {
		case x.Partner != "":
			f.partners[x.Partner] = from
			if x.Mail != 0 {
				f.partnerMail[x.Partner] = x.Mail
			}
		case x.Step != "":
			if c, ok := dated.ParseCause(x.Step); ok {
				f.kinds[c] = from
			}
		default:
			f.all = from
			if x.Mail != 0 {
				f.mail = x.Mail
			}
		}
	}
	e.inv.floors, e.otherDates, e.due = &f, true, nil
}

// floorsNow returns the floors, those that hold nothing back where there are
// none.
func (v *inventory) floorsNow() *floors {
	if v.floors == nil {
		return &noFloors
	}
	return v.floors
}

// ActForward makes what an Editor of Aside changes of policy act from a moment
// on, as it does when it is published (model §5): what was due before stays as
// it was.
func (e *Editor) ActForward(at moment.Moment) { e.forward = at }

// forwardOf is a snapshot whose dates go on from those of another at a moment.
type forwardOf struct {
	at     moment.Moment
	before *Snapshot
}

// newParty is somebody of whom nothing is known: not suspended and not gone lie
// beyond every moment.
func newParty() party { return party{domain: none, out: moment.Never, gone: moment.Never} }

// addParty makes sure that a place for party i exists in all tables. The tables
// by address grow together, so that an index of one is one of all. A new party
// has no record, and dates that never come.
func (v *inventory) addParty(tok token, i uint32) {
	for v.parties.n <= i {
		v.parties.add(tok, newParty())
		v.dates.add(tok, dates{until: moment.Never, sponsor: none, next: none})
		v.ours.add(tok, none)
	}
}

// atDomain notes the domain of party i. Parties of a domain are a linked list
// through their dates; lists of their own would cost more memory than they
// save.
func (v *inventory) atDomain(tok token, i, domain uint32) {
	v.parties.edit(tok, i).domain = domain
	head := grow(&v.heads, tok, domain, none)
	v.dates.edit(tok, i).next = *head
	*head = i
}

// eachAt calls fn for every party at a domain.
func (v *inventory) eachAt(domain uint32, fn func(i uint32)) {
	if domain >= v.heads.n {
		return
	}
	for i := *v.heads.at(domain); i != none; i = v.dates.at(i).next {
		fn(i)
	}
}

// nameOf returns the name in the record of party i, or "".
func (v *inventory) nameOf(i uint32) string {
	d := v.dates.at(i)
	return v.text.text(ref{d.name, uint32(d.nameLen)})
}

// recordAt reports whether a party holds a record at a moment. Whether it is
// active is stateAt's to say.
func (p *party) recordAt(at moment.Moment) bool {
	return p.flags&hasRecord != 0 && at >= p.since && at < p.gone
}

// stateAt returns the state of a record that is held at a moment. Suspended
// comes first: it ends an invitation, too.
func (p *party) stateAt(at moment.Moment) world.State {
	switch {
	case at >= p.out:
		return world.StateSuspended
	case at < p.accepted:
		return world.StateInvited
	}
	return world.StateActive
}

// grantsOf returns what a party was given itself, as far as it can count at a
// moment: a record that is gone took all with it.
func (v *inventory) grantsOf(p *party, at moment.Moment) []grant {
	if at >= p.gone {
		return nil
	}
	return v.grants[p.grants.off : p.grants.off+p.grants.n]
}

// groupsOf returns the groups that hold a party at a moment. They are indexes
// of groups.
func (v *inventory) groupsOf(p *party, at moment.Moment) []uint32 {
	if at >= p.gone {
		return nil
	}
	return v.lists[p.groups.off : p.groups.off+p.groups.n]
}

// counted reports whether a party counts as known at a moment (model §7), but
// for contacts.
func (p *party) counted(at moment.Moment) bool {
	return p.recordAt(at) || at < p.gone && p.grants.n+p.groups.n > 0
}

// Redated is whose dates one policy, or its floors, has follow other rules than
// another. A preview says with it whose dates will be otherwise before any of
// them is computed: *the dates of all 340 people of Lantern*.
type Redated struct {
	All      bool     // everybody's
	Partners []string // those of all people of these partners, by id
	Parties  []uint32 // and of these
}

// Any reports whether anybody's dates do.
func (r *Redated) Any() bool { return r.All || len(r.Partners)+len(r.Parties) > 0 }

// Redates finds whose dates follow other rules in after, which came from before
// by Aside and another policy. Whole partners are told by name; single people
// where a domain or a bar moved them to other rules.
func Redates(before, after *Snapshot) (r Redated) {
	was, next := before.rules, after.rules
	if was == next {
		return
	}
	if was.zone != next.zone || was.kinds != next.kinds || was.nobody != next.nobody {
		r.All = true
		return
	}
	whole := map[uint32]bool{}
	for k := range next.partners {
		if k < len(was.partners) && was.partners[k] != next.partners[k] && after.pol.rest[k].source != nil &&
			before.pol.rest[k].source != nil {
			whole[uint32(k)] = true
			r.Partners = append(r.Partners, after.pol.rest[k].source.ID)
		}
	}
	inv := &after.inv
	q, p := before.Sequences(), after.Sequences()
	for i := range before.inv.parties.n {
		if inv.parties.at(i).flags&hasRecord == 0 {
			continue
		}
		d := inv.parties.at(i).domain
		f, g := before.pol.domains[d], after.pol.domains[d]
		if f.kind == partnerDomain && g.kind == partnerDomain && f.partner == g.partner && whole[f.partner] {
			continue
		}
		if *was.of(f, q.barred[i]) != *next.of(g, p.barred[i]) {
			r.Parties = append(r.Parties, i)
		}
	}
	return
}

// Reviewed finds the records whose reviews a rule at a space governs: those
// that were given something in it. Of any other rule and place it is nobody. It
// is a rule of inventory, so that Redates does not see it.
func Reviewed(s *Snapshot, rule catalogue.RuleID, at world.Resource) (parties []uint32) {
	if rule != ruleReviewDays && rule != ruleReviewSilence || at.Kind != catalogue.Space {
		return nil
	}
	inv := &s.inv
	space := inv.spaceIDs.find(inv.text, at.ID)
	if space == none {
		return nil
	}
	for i := range inv.parties.n {
		p := inv.parties.at(i)
		if p.flags&hasRecord == 0 {
			continue
		}
		for _, g := range inv.given(p.grants) {
			if g.resource == space || g.resource&itemBit != 0 && inv.items.at(g.resource&^itemBit).space == space {
				parties = append(parties, i)
				break
			}
		}
	}
	return
}

// EachOf calls found for every party with a record whom r means.
func (r *Redated) EachOf(s *Snapshot, found func(party uint32) error) error {
	if r.All {
		for i := range s.inv.parties.n {
			if s.inv.parties.at(i).flags&hasRecord != 0 {
				if err := found(i); err != nil {
					return err
				}
			}
		}
		return nil
	}
	if len(r.Partners) > 0 {
		of := map[uint32]bool{}
		for _, id := range r.Partners {
			if k, ok := s.PartnerOf(id); ok {
				of[k] = true
			}
		}
		for i := range s.inv.parties.n {
			if k, ok := s.PartnerAt(i); ok && of[k] && s.inv.parties.at(i).flags&hasRecord != 0 {
				if err := found(i); err != nil {
					return err
				}
			}
		}
	}
	for _, i := range r.Parties {
		if err := found(i); err != nil {
			return err
		}
	}
	return nil
}

// Ousted calls found for every record that is suspended or gone by a moment in
// after and not in before. was is when it would have been; Never where it would
// not. They are people whom a change of policy puts out at once.
func Ousted(before, after *Snapshot, at moment.Moment, found func(party uint32, cause dated.Cause, was moment.Moment)) {
	for i := range min(before.inv.parties.n, after.inv.parties.n) {
		p, q := before.inv.parties.at(i), after.inv.parties.at(i)
		if q.flags&hasRecord == 0 || p.flags&hasRecord == 0 || min(q.out, q.gone) > at || min(p.out, p.gone) <= at {
			continue
		}
		cause := after.inv.dates.at(i).why
		if q.gone < q.out {
			cause = dated.ByInviteDays
		}
		found(i, cause, min(p.out, p.gone))
	}
}

// Waits reports whether the dates of a party wait: what was taken over, where a
// floor that concerns it is never. An administrator lets them count later, all
// or a part at a time, so that taking over ten thousand records suspends nobody
// by surprise.
func (s *Snapshot) Waits(party uint32) bool {
	d := s.inv.dates.at(party)
	if d.floor == moment.Never {
		return true
	}
	if !d.takenOver {
		return false
	}
	_, barred := s.pol.bars[s.inv.addressText(party)]
	return s.rules.of(s.pol.domains[s.inv.parties.at(party).domain], barred).waits
}

// Floors returns the floor of dates of everybody, of each partner by id, and of
// each kind of step; Always for none, Never while dates wait.
func (s *Snapshot) Floors() (all moment.Moment, partners map[string]moment.Moment, kinds dated.Floors) {
	f := s.inv.floorsNow()
	return f.all, f.partners, f.kinds
}

// MailFrom returns the moment from which mail about the dates of a party is
// sent; Never while it waits. Guests that were taken over are not written to
// before somebody says so.
func (s *Snapshot) MailFrom(party uint32) moment.Moment {
	f := s.inv.floorsNow()
	from := f.mail
	if len(f.partnerMail) > 0 {
		if d := s.pol.domains[s.inv.parties.at(party).domain]; d.kind == partnerDomain {
			if m, ok := f.partnerMail[s.pol.rest[d.partner].source.ID]; ok {
				from = max(from, m)
			}
		}
	}
	if from == moment.Never && !s.inv.dates.at(party).takenOver { // what was begun here goes on
		from = moment.Always
	}
	return from
}

// Unfloor makes records whose own floor is never count from a moment on.
func (e *Editor) Unfloor(from moment.Moment) {
	e.due = nil
	for i := range e.inv.dates.n {
		if e.inv.dates.at(i).floor == moment.Never {
			e.inv.dates.edit(e.tok, i).floor = wholeSecond(from)
			e.stale = append(e.stale, i)
		}
	}
}
