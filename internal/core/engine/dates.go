package engine

import (
	"cmp"
	"runtime"
	"slices"
	"sort"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// dates is what of a record only its dated sequence asks for. Starts count from their
// local day, so seconds are enough for them.
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

// seconds cuts a start to what dates hold; an absent one is 0.
func seconds(m moment.Moment) uint32 {
	if s := m / 1e6; m != moment.Always && s > 0 && s < 1<<32 {
		return uint32(s)
	}
	return 0
}

func fromSeconds(s uint32) moment.Moment {
	if s == 0 {
		return moment.Always
	}
	return moment.Moment(s) * 1e6
}

func (e *Editor) putDates(i uint32, g *world.Guest, name ref) {
	was := e.inv.dates.at(i)
	d := dates{until: g.Until, stateSince: g.StateSince, floor: wholeSecond(g.DatesFrom), renewed: seconds(g.Renewed), lastSeen: seconds(g.LastSeen), sponsor: e.person(g.Sponsor),
		next: was.next, name: name.off, nameLen: uint8(name.n), why: was.why, takenOver: g.TakenOver}
	switch {
	case g.Provisioned():
		d.state = dated.Fed
	case g.State == world.StateSuspended:
		d.state = dated.IsSuspended
		d.cause, _ = dated.ParseCause(g.Cause)
	case g.State == world.StateInvited && g.Accepted == moment.Never:
		d.state = dated.Invited
	}
	*e.inv.dates.edit(e.tok, i) = d
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

// DatedRules lists the rules that dated sequences follow.
func DatedRules() []catalogue.RuleID {
	return []catalogue.RuleID{ruleTermDays, ruleIdleDays, ruleInviteDays, ruleGraceDays, ruleLastGrant, ruleReviewDays, ruleReviewSilence, ruleSponsor}
}

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

func valueOf(r catalogue.RuleID, word string) catalogue.Value {
	v, err := r.Get().Scale.Parse(word)
	if err != nil {
		panic(err)
	}
	return v
}

func daysOf(v catalogue.Value) int {
	if v == catalogue.NoLimit {
		return dated.None
	}
	return int(v)
}

// partnerDates is what counts for the records of one partner, or of none.
type partnerDates struct {
	dated.Values
	ended           moment.Moment
	review, silence catalogue.Value // what the partner says, or Unset
	reviewDays      int             // where no space speaks
	reviewEnds      bool
	floor           moment.Moment // of the organisation and the partner, as far as they are moments; Always for none
	waits           bool          // what was taken over waits
}

// Sequences computes dated sequences of one snapshot, one record after the other. It
// belongs to one goroutine.
type Sequences struct {
	s         *Snapshot
	cal       *moment.Calendar
	rules     *dateRules
	barred    map[uint32]bool
	before    *Sequences // of the snapshot that this one acts forward from; nil for none
	concerned *party     // with before: the party there whose dates the change concerns
	speaks    []bool     // by row of values: it says something of reviews; nil where none does
	marks     *marks     // for many records; nil where each is looked up
	rec       dated.Record
	given     []*grant // those of rec.Held
	held      dated.Held
	quick     dated.Quick
	steps     []dated.Step
}

var calendars sync.Map // by the name of a zone

func (s *Snapshot) calendar() *moment.Calendar {
	name := s.pol.zone.String()
	if c, ok := calendars.Load(name); ok { // a zone read twice is two places in memory and one zone
		return c.(*moment.Calendar)
	}
	c := moment.NewCalendar(s.pol.zone)
	calendars.Store(name, c)
	return c
}

// compileDates finds what dated sequences follow.
func compileDates(pol *policy, inv *inventory) *dateRules {
	held := inv.floorsNow()
	told := pol.source.SettingsNow().Sightings == world.SightingsTold
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
		p := partnerDates{ended: ended, review: catalogue.Unset, silence: catalogue.Unset, reviewDays: daysOf(v(ruleReviewDays)), reviewEnds: v(ruleReviewSilence) == silenceEnds, floor: moment.Always}
		p.Values = dated.Values{Term: daysOf(v(ruleTermDays)), Idle: dated.None, Invite: daysOf(v(ruleInviteDays)), Grace: daysOf(v(ruleGraceDays)),
			LastGrantSuspends: v(ruleLastGrant) == suspends, SponsorRequired: v(ruleSponsor) == sponsorNeeded}
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
	out := &dateRules{zone: pol.zone.String(), partners: make([]partnerDates, len(pol.partners)), nobody: of(nil, moment.Never, moment.Always)}
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
	out.kinds[1] = held.kinds
	out.kinds[0] = held.kinds
	for c, f := range held.kinds {
		if f == moment.Never { // waiting concerns what was taken over
			out.kinds[0][c] = moment.Always
		}
	}
	return out
}

// Sequences makes ready to compute sequences.
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

// load fills q.rec with the record of a party; false where it has none.
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

// counted returns the steps of a party for who only counts them.
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

// eachHeld hands over what a party holds.
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
func (q *Sequences) loadRecord(i uint32) (*party, *partnerDates) {
	inv, pol := &q.s.inv, q.s.pol
	p := inv.parties.at(i)
	q.concerned = nil
	if p.flags&hasRecord == 0 {
		return nil, nil
	}
	d := inv.dates.at(i)
	r := &q.rec
	r.State, r.Since, r.Accepted, r.Renewed, r.Until, r.LastSeen, r.StateSince = d.state, p.since, p.accepted, fromSeconds(d.renewed), d.until, fromSeconds(d.lastSeen), d.stateSince
	r.Suspension = d.cause
	r.SponsorLeft, r.HomeClosed = moment.Never, moment.Never
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

// goOn makes the dates of a party whom a change of policy concerns go on, at the moment of
// the change, from what they came to before (model §5): what was due then has happened.
func (q *Sequences) goOn(i uint32, of *partnerDates) {
	was := q.before
	old := &was.s.inv
	if i >= old.parties.n {
		return
	}
	b := old.parties.at(i)
	if b.flags&hasRecord == 0 || *was.rules.of(was.s.pol.domains[b.domain], was.barred[i]) == *of && was.rules.kinds == q.rules.kinds && was.rules.zone == q.rules.zone {
		return
	}
	at := q.s.fwd.at
	q.concerned = b
	r := &q.rec
	floor := wholeSecond(at)
	r.Floor, r.Forward = max(r.Floor, floor), max(r.Forward, floor)
	if b.out <= at && r.State == dated.Active {
		r.State, r.StateSince, r.Suspension = dated.IsSuspended, b.out, old.dates.at(i).why
	}
}

// isOver reports whether a party that a change of policy concerns was gone before it.
func (q *Sequences) isOver() bool { return q.concerned != nil && q.concerned.gone <= q.s.fwd.at }

// hasEnded returns when a grant of a party that a change concerns ended before it because
// its review was not answered; zero where it did not.
func (q *Sequences) hasEnded(g *grant) moment.Moment {
	if q.concerned == nil {
		return 0
	}
	for _, x := range q.before.s.inv.given(q.concerned.grants) {
		if x.via == viaGrant && x.resource == g.resource && x.role == g.role && x.from == g.from && x.silent != 0 {
			if end := moment.Moment(x.silent) * 1e6; end <= q.s.fwd.at {
				return end
			}
		}
	}
	return 0
}

// fill writes what a sequence is computed from of a grant.
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
				h.ReviewEnds = join(ruleShape[ruleReviewSilence], join(ruleShape[ruleReviewSilence], of.silence, v), q.s.pol.limit[ruleReviewSilence]) == silenceEnds
			}
		}
	}
}

// bitset is a set of small numbers.
type bitset []uint64

func newBitset(n uint32) bitset      { return make(bitset, n/64+1) }
func (b bitset) add(i uint32)        { b[i>>6] |= 1 << (i & 63) }
func (b bitset) has(i uint32) bool   { return b[i>>6]>>(i&63)&1 != 0 }
func (b bitset) knows(i uint32) bool { return int(i>>6) < len(b) }

// marks tells what the sequences of many records ask of spaces, items and people, so that
// little memory is touched.
type marks struct {
	items, spaces bitset // the values of its space say something of reviews
	left          bitset // people who left us
}

func (x *marks) speaks(resource uint32) bool {
	set := x.spaces
	if resource&itemBit != 0 {
		set, resource = x.items, resource&^itemBit
	}
	return !set.knows(resource) || set.has(resource)
}

// mark finds them, with as many workers.
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

// Between says from when on and until when somebody asks.
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

// DueStep is a step of somebody's sequence.
type DueStep struct {
	dated.Step
	Party    uint32 // for the methods of the snapshot
	Address  addr.Address
	Resource world.Resource // of a grant
	Role     catalogue.Role
	From     moment.Moment // of the grant
	Until    moment.Moment
}

func (q *Sequences) tell(i uint32, st *dated.Step) DueStep {
	x := DueStep{Step: *st, Party: i}
	if st.Held >= 0 {
		given := q.given
		if q.isOver() {
			given = q.before.given
		}
		g := given[st.Held]
		x.Resource, x.Role, x.From, x.Until = q.s.given(g), g.role, g.from, g.until
	}
	return x
}

// given names what a grant is on.
func (s *Snapshot) given(g *grant) world.Resource {
	inv := &s.inv
	if g.resource&itemBit != 0 {
		i := g.resource &^ itemBit
		return world.Resource{Kind: inv.items.at(i).kind, ID: inv.itemIDs.text(inv.text, i)}
	}
	return world.Resource{Kind: catalogue.Space, ID: inv.spaceIDs.text(inv.text, g.resource)}
}

// Of returns the sequence of an address; ok is false where it has no record.
func (q *Sequences) Of(a addr.Address) (steps []DueStep, ok bool) {
	inv := &q.s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none || i >= inv.parties.n || !q.load(i) {
		return nil, false
	}
	list := q.rec.Sequence()
	if q.isOver() {
		list = q.before.of(i)
	}
	for _, st := range list {
		x := q.tell(i, &st)
		x.Address = a
		steps = append(steps, x)
	}
	return steps, true
}

// Record returns what the sequence of an address is computed from, for asking what would
// be otherwise; it holds until the next call.
func (q *Sequences) Record(a addr.Address) (*dated.Record, bool) {
	inv := &q.s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none || i >= inv.parties.n || !q.load(i) {
		return nil, false
	}
	return &q.rec, true
}

// Each hands over the sequence of every record, in no order. It stops where fn says so.
func (q *Sequences) Each(fn func(party uint32, steps []dated.Step) (more bool)) {
	inv := &q.s.inv
	for i := uint32(0); i < inv.parties.n; i++ {
		if inv.parties.at(i).flags&hasRecord == 0 {
			continue
		}
		if !fn(i, q.of(i)) {
			return
		}
	}
}

// Due is what falls due within a stretch of time, day by day.
type Due struct {
	From, Until moment.Moment
	Kinds       [dated.NumKinds]int

	q     *Sequences
	first moment.Day
	days  [][]dueEntry // by day
	count [][dated.NumKinds]int
	lock  sync.Mutex // guards the order of days
	order []bool     // by day: its entries are in order

	base  *Due // where set, this is a base with some parties counted anew
	moved map[uint32]bool
	anew  []dueEntry // what is due of those
}

// dueEntry is a step by whom it concerns.
type dueEntry struct {
	at   moment.Moment
	who  uint32
	day  uint16 // behind the first
	kind dated.Kind
}

// Total is how many steps there are.
func (d *Due) Total() (n int) {
	for _, k := range d.Kinds {
		n += k
	}
	return
}

// Scan finds what is due from one moment until before another by computing the sequence
// of every record, on all processors. keep, where not nil, picks records.
func (s *Snapshot) Scan(from, until moment.Moment, keep func(party uint32) bool) *Due {
	q := s.Sequences()
	q.Between(from, until)
	d := &Due{From: from, Until: until, q: q, first: q.cal.DayOf(from)}
	n := max(0, int(q.cal.DayOf(until-1)-d.first)+1)
	if until <= from {
		n = 0
	}
	workers := uint32(max(1, runtime.GOMAXPROCS(0)))
	parts := make([][][]dueEntry, workers) // in blocks, so that nothing is copied as they grow
	counts := make([][][dated.NumKinds]int, workers)
	const share = 1 << 11 // how many parties a worker takes at once
	var taken atomic.Uint32
	marks := q.mark(workers)
	var group sync.WaitGroup
	for w := range workers {
		group.Go(func() {
			var all [][]dueEntry
			var block []dueEntry
			count := make([][dated.NumKinds]int, n)
			q := s.Sequences()
			q.Between(from, until)
			q.marks = marks
			for first := taken.Add(share) - share; first < s.inv.parties.n; first = taken.Add(share) - share {
				for i := first; i < min(first+share, s.inv.parties.n); i++ {
					if keep != nil && !keep(i) {
						continue
					}
					for _, st := range q.counted(i) {
						if st.At >= from && st.At < until {
							day := q.cal.DayOf(st.At) - d.first
							count[day][st.Kind]++
							if len(block) == cap(block) {
								all = append(all, block)
								block = make([]dueEntry, 0, 1<<13)
							}
							block = append(block, dueEntry{st.At, i, uint16(day), st.Kind})
						}
					}
				}
			}
			parts[w], counts[w] = append(all, block), count
		})
	}
	group.Wait()
	d.days, d.count, d.order = make([][]dueEntry, n), make([][dated.NumKinds]int, n), make([]bool, n)
	total := 0
	for w := range parts {
		for _, block := range parts[w] {
			total += len(block)
		}
	}
	room := make([]dueEntry, total)
	next := make([][]int, workers) // by worker and day: where in the room its next entry goes
	for w := range next {
		next[w] = make([]int, n)
	}
	at := 0
	for day := range n {
		first := at
		for w := range counts {
			next[w][day] = at
			for kind, c := range counts[w][day] {
				at += c
				d.count[day][kind] += c
				d.Kinds[kind] += c
			}
		}
		d.days[day] = room[first:at:at]
	}
	for w := range parts {
		group.Go(func() {
			next := next[w]
			for _, block := range parts[w] {
				for _, e := range block {
					room[next[e.day]] = e
					next[e.day]++
				}
			}
		})
	}
	group.Wait()
	return d
}

// before puts entries in order: by moment, then by address, then as they follow.
func (s *Snapshot) before(a, b *dueEntry) bool {
	switch {
	case a.at != b.at:
		return a.at < b.at
	case a.who != b.who:
		return s.inv.addressText(a.who) < s.inv.addressText(b.who)
	}
	return a.kind < b.kind
}

func (s *Snapshot) sortEntries(es []dueEntry) {
	sort.Slice(es, func(i, j int) bool { return s.before(&es[i], &es[j]) })
}

// inOrder returns the entries of a day in order; they must not be changed.
func (d *Due) inOrder(k int) []dueEntry {
	if k < 0 || k >= len(d.days) {
		return nil
	}
	d.lock.Lock()
	defer d.lock.Unlock()
	if !d.order[k] {
		d.q.s.sortEntries(d.days[k])
		d.order[k] = true
	}
	return d.days[k]
}

// entries returns what is due on a day, in order.
func (d *Due) entries(day moment.Day) []dueEntry {
	if d.base == nil {
		return d.inOrder(int(day - d.first))
	}
	all := d.base.inOrder(int(day - d.base.first))
	if from, until := d.q.cal.Start(day), d.q.cal.Start(day+1); from < d.From || until > d.Until { // the first or the last day, which is not whole
		all = all[sort.Search(len(all), func(i int) bool { return all[i].at >= d.From }):]
		all = all[:sort.Search(len(all), func(i int) bool { return all[i].at >= d.Until })]
	}
	if len(d.moved) == 0 {
		return all
	}
	out := make([]dueEntry, 0, len(all))
	for _, e := range all {
		if !d.moved[e.who] {
			out = append(out, e)
		}
	}
	n := len(out)
	for _, e := range d.anew {
		if d.q.cal.DayOf(e.at) == day {
			out = append(out, e)
		}
	}
	if len(out) > n {
		d.q.s.sortEntries(out)
	}
	return out
}

// SortDue puts steps in order: by moment, then by address, then as they follow from each
// other.
func SortDue(steps []DueStep) {
	if len(steps) < 2 {
		return
	}
	slices.SortFunc(steps, func(x, y DueStep) int {
		if c := cmp.Compare(x.At, y.At); c != 0 {
			return c
		}
		if x.Party != y.Party {
			return cmp.Compare(x.Address.String(), y.Address.String())
		}
		return cmp.Or(cmp.Compare(x.Kind, y.Kind), cmp.Compare(x.Resource.String(), y.Resource.String()), cmp.Compare(x.Role, y.Role), cmp.Compare(x.From, y.From))
	})
}

// Steps lists what is due, skipping some, at most so many. It belongs to one goroutine at a
// time.
func (d *Due) Steps(skip, limit int) []DueStep {
	if d.Until <= d.From {
		return []DueStep{}
	}
	out := make([]DueStep, 0, min(max(limit, 0), d.Total(), 1000))
	for day, last := d.q.cal.DayOf(d.From), d.q.cal.DayOf(d.Until-1); day <= last && len(out) < limit; day++ {
		es := d.entries(day)
		if skip >= len(es) {
			skip -= len(es)
			continue
		}
		for i := 0; i < len(es) && len(out) < limit; {
			n := 1 // what happens to one record at one moment
			for i+n < len(es) && es[i+n].who == es[i].who && es[i+n].at == es[i].at {
				n++
			}
			if skip >= n {
				skip -= n
				i += n
				continue
			}
			first := len(out)
			a := d.q.s.addressOf(es[i].who)
			for _, st := range d.q.of(es[i].who) {
				if st.At == es[i].at {
					x := d.q.tell(es[i].who, &st)
					x.Address = a
					out = append(out, x)
				}
			}
			SortDue(out[first:])
			if skip > 0 {
				out = slices.Delete(out, first, min(first+skip, len(out)))
				skip = 0
			}
			out = out[:min(len(out), limit)]
			i += n
		}
	}
	return out
}

// Place counts the steps that come before those of an address at a moment, and these.
func (d *Due) Place(at moment.Moment, address string) (before, same int) {
	if d.Until <= d.From {
		return 0, 0
	}
	at = max(at, d.From)
	day := d.q.cal.DayOf(at)
	for k := d.q.cal.DayOf(d.From); k < day && k <= d.q.cal.DayOf(d.Until-1); k++ {
		before += len(d.entries(k))
	}
	for _, e := range d.entries(day) {
		text := ""
		if e.at == at {
			text = d.q.s.inv.addressText(e.who)
		}
		switch {
		case e.at < at, e.at == at && text < address:
			before++
		case e.at == at && text == address:
			same++
		}
	}
	return
}

// standing is what is due in the days ahead, kept from snapshot to snapshot: those that
// an Editor touched are computed anew.
type standing struct {
	mu  sync.Mutex
	due *Due
}

// StandingDays is how many days ahead are kept.
const StandingDays = 35

// Ahead returns what is due from a moment until another, by what is kept from since on; it is
// made where there is none or where it ends too early. ok is false where the stretch is longer
// than what is kept, or begins before.
func (s *Snapshot) Ahead(from, until, since moment.Moment) (d *Due, ok bool) {
	st := s.due
	st.mu.Lock()
	defer st.mu.Unlock()
	cal := s.calendar()
	if st.due != nil && st.due.q.s.gen > s.gen { // others have gone on meanwhile
		return nil, false
	}
	if st.due == nil || until > st.due.Until || from < st.due.From || cal.DayOf(since)-cal.DayOf(st.due.From) > 2 {
		day := cal.DayOf(max(from, since)) + StandingDays
		if from < since || until > cal.Start(day) {
			return nil, false
		}
		st.due = s.Scan(since, cal.Start(day), nil)
	}
	base := st.due
	d = &Due{From: from, Until: until, base: base, first: base.first, q: s.Sequences()}
	d.q.Between(from, until)
	for day, last := cal.DayOf(from), cal.DayOf(until-1); day <= last; day++ {
		k := int(day - base.first)
		if k < 0 || k >= len(base.count) {
			continue
		}
		if cal.Start(day) >= from && cal.Start(day+1) <= until {
			for kind, n := range base.count[k] {
				d.Kinds[kind] += n
			}
			continue
		}
		for _, e := range d.entries(day) { // before anything has moved
			d.Kinds[e.kind]++
		}
	}
	if len(s.moved) == 0 {
		return d, true
	}
	d.moved = map[uint32]bool{}
	for _, i := range s.moved {
		if d.moved[i] {
			continue
		}
		d.moved[i] = true
		if i < base.q.s.inv.parties.n {
			for _, st := range base.q.of(i) {
				if st.At >= from && st.At < until {
					d.Kinds[st.Kind]--
				}
			}
		}
		for _, st := range d.q.of(i) {
			if st.At >= from && st.At < until {
				d.Kinds[st.Kind]++
				d.anew = append(d.anew, dueEntry{st.At, i, 0, st.Kind})
			}
		}
	}
	return d, true
}

// RecordOf tells of a party that is due: its name, sponsor and partner, as ids.
func (s *Snapshot) RecordOf(party uint32) (name, sponsor, partner string) {
	inv := &s.inv
	p := inv.parties.at(party)
	name = inv.nameOf(party)
	if d := inv.dates.at(party); d.sponsor != none {
		sponsor = inv.personIDs.text(inv.text, d.sponsor)
	}
	if f := s.pol.domains[p.domain]; f.kind == partnerDomain {
		partner = s.pol.rest[f.partner].source.ID
	}
	return
}

// PartnerOf returns the index of a partner, for comparing with PartnerAt; ok is false
// where there is none.
func (s *Snapshot) PartnerOf(id string) (uint32, bool) {
	i := s.inv.partners.find(s.inv.text, id)
	return i, i != none
}

// PartnerAt returns the index of the partner of a party.
func (s *Snapshot) PartnerAt(party uint32) (uint32, bool) {
	f := s.pol.domains[s.inv.parties.at(party).domain]
	return f.partner, f.kind == partnerDomain
}

// SponsorAt reports whether a person answers for the record of a party.
func (s *Snapshot) SponsorAt(party uint32, person string) bool {
	d := s.inv.dates.at(party)
	return d.sponsor != none && s.inv.personIDs.text(s.inv.text, d.sponsor) == person
}

// Holds reports whether a party holds a grant, its own or of a group, that is in force.
func (s *Snapshot) Holds(party uint32, at moment.Moment) bool {
	inv := &s.inv
	p := inv.parties.at(party)
	holds := func(given []grant) bool {
		for _, g := range given {
			if g.via == viaGrant && g.live(at) {
				return true
			}
		}
		return false
	}
	if holds(inv.grantsOf(p, at)) {
		return true
	}
	for _, k := range inv.groupsOf(p, at) {
		if holds(inv.given(inv.groups.at(k).grants)) {
			return true
		}
	}
	return false
}

// Named returns the links that name an address and the groups that hold it, by their ids.
func (s *Snapshot) Named(a addr.Address) (links, groups []string) {
	inv := &s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none {
		return
	}
	p := inv.parties.at(i)
	for _, g := range inv.given(p.grants) {
		if g.via == viaLink {
			links = append(links, inv.linkIDs.text(inv.text, g.link))
		}
	}
	for _, k := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		groups = append(groups, inv.groupIDs.text(inv.text, k))
	}
	return
}

// Active reports whether a party has a record that is active at a moment: accepted and not
// suspended.
func (s *Snapshot) Active(party uint32, at moment.Moment) bool {
	p := s.inv.parties.at(party)
	return p.recordAt(at) && p.stateAt(at) == world.StateActive
}

// PartyOf returns the place of an address, for SponsorAt and RecordOf; it must be known.
func (s *Snapshot) PartyOf(a addr.Address) uint32 {
	return s.inv.addresses.find(s.inv.text, a.String())
}

// LeftAt returns when a person left us; zero where they are here.
func (s *Snapshot) LeftAt(person string) moment.Moment {
	if i := s.inv.personIDs.find(s.inv.text, person); i != none {
		return s.inv.people.at(i).left
	}
	return 0
}

// KindOfSpace returns what a space is.
func (s *Snapshot) KindOfSpace(id string) world.SpaceKind {
	if i := s.inv.spaceIDs.find(s.inv.text, id); i != none {
		return s.inv.spaces.at(i).kind
	}
	return world.Team
}

// ItemsOf lists the items of a space, in no order but always the same.
func (s *Snapshot) ItemsOf(space string) (out []world.Resource) {
	inv := &s.inv
	sp := inv.spaceIDs.find(inv.text, space)
	if sp == none {
		return nil
	}
	for i := uint32(0); i < inv.items.n; i++ {
		if it := inv.items.at(i); it.exists && it.space == sp {
			out = append(out, world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, i)})
		}
	}
	return
}

// DueDay is how much is due on a day.
type DueDay struct {
	Day   moment.Day
	Kinds [dated.NumKinds]int
}

// Days counts what is due by day; days on which nothing is are left out. It is for what
// Scan found.
func (d *Due) Days() (out []DueDay) {
	for k, c := range d.count {
		for _, n := range c {
			if n > 0 {
				out = append(out, DueDay{d.first + moment.Day(k), c})
				break
			}
		}
	}
	return
}
