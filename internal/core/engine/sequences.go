package engine

import (
	"sync"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
)

// load fills q.rec with the record of a party; false where it has none. What
// surely lies beyond the horizon is left out, and noted.
func (q *Sequences) load(i uint32) bool {
	p, of := q.loadRecord(i)
	if p == nil {
		return false
	}
	q.rec.Held, q.rec.Far, q.given = q.rec.Held[:0], false, q.given[:0]
	q.eachHeld(p, of, func(h *dated.Held, g *grant) {
		if q.rec.Beyond(h.From, h.Until, h.Reviewed, h.Review) {
			q.rec.Far = true
			return
		}
		q.rec.Held = append(q.rec.Held, *h)
		q.given = append(q.given, g)
	})
	return true
}

// counted returns the steps of a party for who only counts them. It avoids the
// list of grants that load makes, which is most of the time where everybody's
// are counted.
func (q *Sequences) counted(i uint32) []dated.Step {
	p, of := q.loadRecord(i)
	if p == nil {
		return nil
	}
	if q.isOver() {
		return q.before.of(i)
	}
	q.quick.Begin(&q.rec)
	q.eachHeld(p, of, func(h *dated.Held, _ *grant) { q.quick.Grant(h) })
	return q.quick.Done()
}

// eachHeld hands over what a party holds. First its own grants, then those of
// its groups. Links that name it do not count: they have ends of their own and
// keep no record alive. The Held is used again for the next.
func (q *Sequences) eachHeld(p *party, of *partnerDates, fn func(*dated.Held, *grant)) {
	inv, h := &q.s.inv, &q.held
	given := inv.given(p.grants)
	for i := range given {
		if given[i].via() == viaGrant {
			q.fill(h, &given[i], &q.s.inv.beside, of, true)
			fn(h, &given[i])
		}
	}
	for _, k := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		given := inv.given(inv.groups.at(k).grants)
		for i := range given {
			q.fill(h, &given[i], &q.s.inv.beside, of, false)
			fn(h, &given[i])
		}
	}
}

// loadRecord fills q.rec but for what it holds; nil where there is no record.
// It returns the party and what counts for its partner.
func (q *Sequences) loadRecord(i uint32) (*party, *partnerDates) {
	inv, pol := &q.s.inv, q.s.pol
	p := inv.parties.at(i)
	q.concerned = nil
	if p.flags&hasRecord == 0 {
		return nil, nil
	}
	d := inv.dates.at(i)
	r := &q.rec
	r.State, r.Since, r.Accepted, r.Renewed, r.Until, r.LastSeen, r.StateSince = d.state, p.since, p.accepted, fromSeconds(
		d.renewed,
	), d.until, fromSeconds(
		d.lastSeen,
	), d.stateSince
	r.Suspension = d.cause
	r.SponsorLeft, r.HomeClosed = moment.Never, moment.Never
	// A sponsor who has left is looked up only where anybody left at all.
	if d.sponsor != none && (q.marks == nil || q.marks.left.has(d.sponsor)) {
		if left := inv.people.at(d.sponsor).left; left != 0 {
			r.SponsorLeft = left
		}
	}
	if len(inv.closed) > 0 {
		if at, ok := inv.closed[i]; ok {
			r.HomeClosed = at
		}
	}
	of := q.rules.of(pol.domains[p.domain], q.barred[i])
	r.PartnerEnded, r.Values = of.ended, of.Values
	r.Floor, r.Forward, r.Kinds = of.floor, of.floor, &q.rules.kinds[0]
	// The latest of the floors that concern a record counts; one that waits
	// holds everything.
	switch d.floor {
	case 0:
	case moment.Never:
		r.Floor = moment.Never
	default:
		r.Floor, r.Forward = max(of.floor, d.floor), max(of.floor, d.floor)
	}
	if d.takenOver {
		r.Kinds = &q.rules.kinds[1]
		if of.waits {
			r.Floor = moment.Never
		}
	}
	if q.before != nil {
		q.goOn(i, of)
	}
	return p, of
}

// goOn makes the dates of a party whom a change of policy concerns go on, at
// the moment of the change, from what they came to before (model §5): what was
// due then has happened.
//
// Without it a tightened rule would reach back: a guest whose new term ended a
// month ago would have been suspended a month ago. So dates of whom the change
// concerns get a floor at its moment, and what their dates had come to by then
// is taken over as written.
func (q *Sequences) goOn(i uint32, of *partnerDates) {
	was := q.before
	old := &was.s.inv
	if i >= old.parties.n {
		return
	}
	b := old.parties.at(i)
	if b.flags&hasRecord == 0 ||
		*was.rules.of(was.s.pol.domains[b.domain], was.barred[i]) == *of && was.rules.kinds == q.rules.kinds &&
			was.rules.zone == q.rules.zone {
		return
	}
	at := q.s.fwd.at
	q.concerned = b
	r := &q.rec
	floor := wholeSecond(at)
	r.Floor, r.Forward = max(r.Floor, floor), max(r.Forward, floor)
	if b.out <= at && (r.State == dated.Active || r.State == dated.Fed && r.HomeClosed != moment.Never) {
		r.State, r.StateSince, r.Suspension = dated.IsSuspended, b.out, old.dates.at(i).why
	}
}

// isOver reports whether a party that a change of policy concerns was gone
// before it. Such a party has only its old sequence.
func (q *Sequences) isOver() bool { return q.concerned != nil && q.concerned.gone <= q.s.fwd.at }

// hasEnded returns when a grant of a party that a change concerns ended before
// it because its review was not answered; zero where it did not. Grants have no
// ids; the same one is found by what it is on, its role and when it began. What
// ended stays ended: a rule that no longer asks for reviews brings nothing
// back.
func (q *Sequences) hasEnded(g *grant, b *beside) moment.Moment {
	if q.concerned == nil {
		return 0
	}
	was := &q.before.s.inv.beside
	for _, x := range q.before.s.inv.given(q.concerned.grants) {
		if x.via() != viaGrant || x.resource != g.resource || x.role() != g.role() || x.begin(was) != g.begin(b) {
			continue
		}
		y := x.detail(was)
		if end := moment.Moment(y.silent) * 1e6; y.silent != 0 && y.bundle == g.detail(b).bundle && end <= q.s.fwd.at {
			return end
		}
	}
	return 0
}

// fill writes what a sequence is computed from of a grant. The days between
// reviews come from the space where it says something, else from the partner,
// the default or the limit; a bundle may ask for more frequent ones, and never
// for fewer.
func (q *Sequences) fill(h *dated.Held, g *grant, b *beside, of *partnerDates, own bool) {
	inv := &q.s.inv
	if h.From, h.Until, h.Own = g.begin(b), g.written(b), own; !own { // nobody confirms a group's grant for one of its members
		h.Reviewed, h.Review, h.ReviewEnds = moment.Always, dated.None, false
		return
	}
	more := g.detail(b)
	h.Reviewed, h.Review, h.ReviewEnds = fromSeconds(more.link), of.reviewDays, of.reviewEnds
	if end := q.hasEnded(g, b); end != 0 {
		h.Until, h.ReviewEnds, h.Review = min(h.Until, end), false, dated.None
		return
	}
	if q.speaks != nil && (q.marks == nil || q.marks.speaks(g.resource)) {
		space := g.resource
		if space&itemBit != 0 {
			space = inv.items.at(space &^ itemBit).space
		}
		rules := none
		if space != none && space < inv.spaces.n {
			rules = inv.spaces.at(space).rules
		}
		if rules != none && q.speaks[rules] {
			row := &inv.rows[rules]
			if v := row[ruleReviewDays]; v != catalogue.Unset {
				h.Review = daysOf(join(catalogue.Days, join(catalogue.Days, of.review, v), q.s.pol.limit[ruleReviewDays]))
			}
			if v := row[ruleReviewSilence]; v != catalogue.Unset {
				h.ReviewEnds = join(
					ruleShape[ruleReviewSilence],
					join(ruleShape[ruleReviewSilence], of.silence, v),
					q.s.pol.limit[ruleReviewSilence],
				) == silenceEnds
			}
		}
	}
	if more.bundle != 0 {
		if days := q.bundleDays[more.bundle-1]; days != dated.None && (h.Review == dated.None || days < h.Review) {
			h.Review = days
		}
	}
}

// bitset is a set of small numbers. It takes an eighth of a byte each, so that
// those of a million items stay in the cache.
type bitset []uint64

// newBitset has room for numbers below n; add puts one in, has tells whether it
// is in, knows whether there is room for it.
func newBitset(n uint32) bitset { return make(bitset, n/64+1) }

func (b bitset) add(i uint32) { b[i>>6] |= 1 << (i & 63) }

func (b bitset) has(i uint32) bool { return b[i>>6]>>(i&63)&1 != 0 }

func (b bitset) knows(i uint32) bool { return int(i>>6) < len(b) }

// marks tells what the sequences of many records ask of spaces, items and
// people, so that little memory is touched.
//
// It answers the question that is asked of every grant (does its space say
// anything of reviews?) from a few kilobytes in place of three loads from
// tables of megabytes.
type marks struct {
	items, spaces bitset // the values of its space say something of reviews
	left          bitset // people who left us
}

// speaks reports whether the space of a grant says anything of reviews. What
// came after the marks were made counts as speaking, and is looked up.
func (x *marks) speaks(resource uint32) bool {
	set := x.spaces
	if resource&itemBit != 0 {
		set, resource = x.items, resource&^itemBit
	}
	return !set.knows(resource) || set.has(resource)
}

// mark finds them, with as many workers. Each worker takes a stretch of whole
// words of the set, so that no two write the same one.
func (q *Sequences) mark(workers uint32) *marks {
	inv := &q.s.inv
	out := &marks{newBitset(inv.items.n), newBitset(inv.spaces.n), newBitset(inv.people.n)}
	for i := range inv.people.n {
		if inv.people.at(i).left != 0 {
			out.left.add(i)
		}
	}
	if q.speaks == nil {
		return out
	}
	for i := range inv.spaces.n {
		if r := inv.spaces.at(i).rules; r != none && q.speaks[r] {
			out.spaces.add(i)
		}
	}
	share := uint32(len(out.items))/workers + 1
	var group sync.WaitGroup
	for w := range workers {
		group.Go(func() {
			for i := w * share * 64; i < min((w+1)*share*64, inv.items.n); i++ {
				if sp := inv.items.at(i).space; sp != none && out.spaces.has(sp) {
					out.items.add(i)
				}
			}
		})
	}
	group.Wait()
	return out
}

// Between says from when on and until when somebody asks. With it sequences are
// computed no further than somebody looks.
func (q *Sequences) Between(from, until moment.Moment) {
	q.rec.Now, q.rec.Horizon = from, until
	if q.before != nil {
		q.before.Between(from, until)
	}
}

// of returns the sequence of a party; it holds until the next call.
func (q *Sequences) of(i uint32) []dated.Step {
	steps, _ := q.Party(i)
	return steps
}
