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
// anything at all. Sequences (sequences.go) does that for one record after the
// other; due.go lists what falls due, settle.go writes what it comes to beside
// each record.

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
