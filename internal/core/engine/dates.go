package engine

import (
	"sync"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What the dates of a record are computed from (model §5), and the sequences of
// steps that follow: an invitation that lapses, days of not being seen, the end
// of a term, a review that nobody answered, the days of grace until a record is
// gone.
//
// The arithmetic is in package dated, which knows records, grants and days and
// no inventory. Here a record is put together for it: its own dates, what it
// holds, which rules count for its partner, from which moment on dates may do
// anything at all. Sequences does that for one record after the other; due.go
// lists what falls due, fate.go writes what it comes to beside each record.

// dates is what of a record only its dated sequence asks for. Starts count from
// their local day, so seconds are enough for them.
//
// It is kept apart from party, which decisions read, so that a decision does
// not pull it into the cache: 64 bytes for each address.
type dates struct {
	until             moment.Moment
	stateSince        moment.Moment // as it is written
	floor             moment.Moment // the record's own; zero for none
	renewed, lastSeen uint32        // seconds since 1970; 0 for none
	sponsor           uint32        // a person, or none
	next              uint32        // party at the same domain, or none
	name              uint32        // offset of the name in the blob
	nameLen           uint8
	state             dated.State
	cause             dated.Cause // of a suspended record, as it is written
	why               dated.Cause // of what its dates suspend at party.out
	takenOver         bool
}

// seconds cuts a start to what dates hold; an absent one is 0. Such a moment
// counts from its local day, so that what is lost below the second changes
// nothing.
func seconds(m moment.Moment) uint32 {
	if s := m / 1e6; m != moment.Always && s > 0 && s < 1<<32 {
		return uint32(s)
	}
	return 0
}

// fromSeconds turns it back; 0 is Always.
func fromSeconds(s uint32) moment.Moment {
	if s == 0 {
		return moment.Always
	}
	return moment.Moment(s) * 1e6
}

// putDates takes over the moments of a guest's record that their fate is
// computed from. A record that was suspended by its dates and written down as
// such is suspended from then on, whatever the dates would say today: an act
// brings it back, and no change of a rule.
func (e *Editor) putDates(i uint32, g *world.Guest, name ref) {
	was := e.inv.dates.at(i)
	d := dates{
		until:      g.Until,
		stateSince: g.StateSince,
		floor:      wholeSecond(g.DatesFrom),
		renewed:    seconds(g.Renewed),
		lastSeen:   seconds(g.LastSeen),
		sponsor:    e.person(g.Sponsor),
		next:       was.next,
		name:       name.off,
		nameLen:    uint8(name.n),
		why:        was.why,
		takenOver:  g.TakenOver,
	}
	switch {
	case g.Provisioned() && (g.HomeClosed == 0 || g.State != world.StateSuspended): // written down, it goes on as any that is suspended
		d.state = dated.Fed
	case g.State == world.StateSuspended:
		d.state = dated.IsSuspended
		d.cause, _ = dated.ParseCause(g.Cause)
	case g.State == world.StateInvited && g.Accepted == moment.Never:
		d.state = dated.Invited
	}
	*e.inv.dates.edit(e.tok, i) = d
	// Few partners tell that a home account is closed, so it is a map; it is
	// copied because older snapshots read it.
	if was, ok := e.inv.closed[i]; ok || g.HomeClosed != 0 {
		if was != g.HomeClosed {
			next := make(map[uint32]moment.Moment, len(e.inv.closed)+1)
			for k, v := range e.inv.closed {
				next[k] = v
			}
			delete(next, i)
			if g.HomeClosed != 0 {
				next[i] = g.HomeClosed
			}
			e.inv.closed = next
		}
	}
	e.movedParty(i)
}

// movedParty notes that the dates of a party may be otherwise.
func (e *Editor) movedParty(i uint32) {
	e.moved, e.stale = append(e.moved, i), append(e.stale, i)
}

// Rules of dates, and the values of them that are compared with.
var (
	ruleTermDays      = catalogue.MustRule("guests.term_days")
	ruleIdleDays      = catalogue.MustRule("guests.idle_days")
	ruleInviteDays    = catalogue.MustRule("guests.invite_days")
	ruleGraceDays     = catalogue.MustRule("guests.grace_days")
	ruleLastGrant     = catalogue.MustRule("guests.after_last_grant")
	ruleReviewDays    = catalogue.MustRule("guests.review_days")
	ruleReviewSilence = catalogue.MustRule("guests.review_silence")
	ruleSponsor       = catalogue.MustRule("guests.sponsor")
	suspends          = valueOf(ruleLastGrant, "suspend")
	silenceEnds       = valueOf(ruleReviewSilence, "end")
	sponsorNeeded     = valueOf(ruleSponsor, "required")
)

// valueOf returns the value of a word on a rule's scale; the word is known to
// be on it.
func valueOf(r catalogue.RuleID, word string) catalogue.Value {
	v, err := r.Get().Scale.Parse(word)
	if err != nil {
		panic(err)
	}
	return v
}

// daysOf turns a value of a scale of days into a number of days, dated.None for
// no limit.
func daysOf(v catalogue.Value) int {
	if v == catalogue.NoLimit {
		return dated.None
	}
	return int(v)
}

// partnerDates is what counts for the records of one partner, or of none. It is
// computed once for each partner when the policy is compiled, and compares with
// ==, which tells whose dates a change of policy concerns.
type partnerDates struct {
	dated.Values
	ended           moment.Moment
	review, silence catalogue.Value // what the partner says, or Unset
	reviewDays      int             // where no space speaks
	reviewEnds      bool
	floor           moment.Moment // of the organisation and the partner, as far as they are moments; Always for none
	waits           bool          // what was taken over waits
}

// Sequences computes dated sequences of one snapshot, one record after the
// other. It belongs to one goroutine. The record, its grants and the steps are
// used again for each party, so that a hundred thousand sequences need no
// memory: what a method returns holds until the next is asked.
type Sequences struct {
	s          *Snapshot
	cal        *moment.Calendar
	rules      *dateRules
	barred     map[uint32]bool
	before     *Sequences // of the snapshot that this one acts forward from; nil for none
	concerned  *party     // with before: the party there whose dates the change concerns
	bundleDays []int      // by bundle: how often what it gives is to be confirmed; dated.None for what the rules say
	speaks     []bool     // by row of values: it says something of reviews; nil where none does
	marks      *marks     // for many records; nil where each is looked up
	rec        dated.Record
	given      []*grant // those of rec.Held
	held       dated.Held
	quick      dated.Quick
	steps      []dated.Step
}

// calendars keeps the calendar of each zone that was ever asked for: half a
// megabyte a zone, and there is one zone for an organisation.
var calendars sync.Map // by the name of a zone

// calendar returns the calendar of the organisation's time zone, shared by all
// snapshots. Days begin and end at midnight there, which is what makes them be
// computed once and kept.
func (s *Snapshot) calendar() *moment.Calendar {
	name := s.pol.zone.String()
	if c, ok := calendars.Load(name); ok { // a zone read twice is two places in memory and one zone
		return c.(*moment.Calendar)
	}
	c := moment.NewCalendar(s.pol.zone)
	calendars.Store(name, c)
	return c
}

// compileDates finds what dated sequences follow. Each rule is joined from
// partner, default and limit; exceptions of people play no part in a guest's
// dates. It is a few dozen values for each partner, compared with those of the
// policy before to find whose dates change at all.
func compileDates(pol *policy, inv *inventory) *dateRules {
	held := inv.floorsNow()
	told := pol.source.SettingsNow().Sightings == world.SightingsTold
	// of is what counts where a partner says these values.
	of := func(said *row, ended, own moment.Moment) partnerDates {
		v := func(r catalogue.RuleID) catalogue.Value {
			x := catalogue.Unset
			if said != nil {
				x = said[r]
			}
			if x == catalogue.Unset {
				x = pol.fallback[r]
			}
			return join(ruleShape[r], x, pol.limit[r])
		}
		p := partnerDates{
			ended:      ended,
			review:     catalogue.Unset,
			silence:    catalogue.Unset,
			reviewDays: daysOf(v(ruleReviewDays)),
			reviewEnds: v(ruleReviewSilence) == silenceEnds,
			floor:      moment.Always,
		}
		p.Values = dated.Values{
			Term:              daysOf(v(ruleTermDays)),
			Idle:              dated.None,
			Invite:            daysOf(v(ruleInviteDays)),
			Grace:             daysOf(v(ruleGraceDays)),
			LastGrantSuspends: v(ruleLastGrant) == suspends,
			SponsorRequired:   v(ruleSponsor) == sponsorNeeded,
		}
		if told { // whether somebody was seen is known only where sightings are told
			p.Values.Idle = daysOf(v(ruleIdleDays))
		}
		if said != nil {
			p.review, p.silence = said[ruleReviewDays], said[ruleReviewSilence]
		}
		for _, f := range [2]moment.Moment{held.all, own} {
			if f == moment.Never {
				p.waits = true
			} else {
				p.floor = max(p.floor, f)
			}
		}
		return p
	}
	out := &dateRules{
		zone:     pol.zone.String(),
		partners: make([]partnerDates, len(pol.partners)),
		nobody:   of(nil, moment.Never, moment.Always),
	}
	for i := range pol.partners {
		ended, own := moment.Never, moment.Always
		if src := pol.rest[i].source; src != nil {
			if src.Standing == world.Ended {
				ended = src.StandingSince
			}
			if f, ok := held.partners[src.ID]; ok {
				own = f
			}
		}
		out.partners[i] = of(&pol.rows[pol.partners[i].rules], ended, own)
	}
	// There are two sets of floors by kind of step: for records that were begun
	// here, and for those that were taken over from elsewhere, whose dates may
	// wait.
	out.kinds[1] = held.kinds
	out.kinds[0] = held.kinds
	for c, f := range held.kinds {
		if f == moment.Never { // waiting concerns what was taken over
			out.kinds[0][c] = moment.Always
		}
	}
	return out
}

// Sequences makes ready to compute sequences. It prepares what is alike for all
// records: which rows of values speak of reviews, what bundles say of them, who
// is barred by address.
func (s *Snapshot) Sequences() *Sequences {
	pol, inv := s.pol, &s.inv
	q := &Sequences{s: s, cal: s.calendar(), rules: s.rules}
	q.rec.Calendar = q.cal
	if s.fwd != nil {
		q.before = s.fwd.before.Sequences()
	}
	for i := range inv.rows {
		if row := &inv.rows[i]; row[ruleReviewDays] != catalogue.Unset || row[ruleReviewSilence] != catalogue.Unset {
			if q.speaks == nil {
				q.speaks = make([]bool, len(inv.rows))
			}
			q.speaks[i] = true
		}
	}
	for i := range uint32(len(inv.bundleIDs.refs)) {
		days := dated.None
		if b := pol.source.Bundle(inv.bundleIDs.text(inv.text, i)); b != nil && b.ReviewDays != catalogue.Unset {
			days = daysOf(b.ReviewDays)
		}
		q.bundleDays = append(q.bundleDays, days)
	}
	for a := range pol.bars {
		if i := inv.addresses.find(inv.text, a); i != none {
			if q.barred == nil {
				q.barred = map[uint32]bool{}
			}
			q.barred[i] = true
		}
	}
	return q
}

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
		if given[i].via == viaGrant {
			q.fill(h, &given[i], of, true)
			fn(h, &given[i])
		}
	}
	for _, k := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		given := inv.given(inv.groups.at(k).grants)
		for i := range given {
			q.fill(h, &given[i], of, false)
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
func (q *Sequences) hasEnded(g *grant) moment.Moment {
	if q.concerned == nil {
		return 0
	}
	for _, x := range q.before.s.inv.given(q.concerned.grants) {
		if x.via == viaGrant && x.resource == g.resource && x.role == g.role && x.from == g.from && x.bundle == g.bundle && x.silent != 0 {
			if end := moment.Moment(x.silent) * 1e6; end <= q.s.fwd.at {
				return end
			}
		}
	}
	return 0
}

// fill writes what a sequence is computed from of a grant. The days between
// reviews come from the space where it says something, else from the partner,
// the default or the limit; a bundle may ask for more frequent ones, and never
// for fewer.
func (q *Sequences) fill(h *dated.Held, g *grant, of *partnerDates, own bool) {
	inv := &q.s.inv
	if h.From, h.Until, h.Own = g.from, g.until, own; !own { // nobody confirms a group's grant for one of its members
		h.Reviewed, h.Review, h.ReviewEnds = moment.Always, dated.None, false
		return
	}
	h.Reviewed, h.Review, h.ReviewEnds = fromSeconds(g.link), of.reviewDays, of.reviewEnds
	if end := q.hasEnded(g); end != 0 {
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
	if g.bundle != 0 {
		if days := q.bundleDays[g.bundle-1]; days != dated.None && (h.Review == dated.None || days < h.Review) {
			h.Review = days
		}
	}
}

// bitset is a set of small numbers. It takes an eighth of a byte each, so that
// those of a million items stay in the cache.
type bitset []uint64

// newBitset has room for numbers below n; add puts one in, has tells whether it
// is in, knows whether there is room for it.
func newBitset(n uint32) bitset      { return make(bitset, n/64+1) }
func (b bitset) add(i uint32)        { b[i>>6] |= 1 << (i & 63) }
func (b bitset) has(i uint32) bool   { return b[i>>6]>>(i&63)&1 != 0 }
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
	if !q.load(i) {
		return nil
	}
	if q.isOver() {
		return q.before.of(i)
	}
	q.steps = q.rec.Append(q.steps[:0])
	return q.steps
}
