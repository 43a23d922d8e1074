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

// What falls due: the steps of everybody's sequences within a stretch of time,
// in numbers and as a list (model §5).
//
// There are two ways to it, which a test holds together. Scan computes every
// sequence anew, on all processors: some hundred milliseconds for a hundred
// thousand guests. Ahead keeps what Scan found for the next weeks and counts
// again those alone whose records moved since: it is what the first page asks,
// after every change.
//
// Nothing is done here. A step that has come due counts in every decision from
// its moment on, whether or not it was carried out.

// DueStep is a step of somebody's sequence. Names are found for those that are
// shown; counting does not need them.
type DueStep struct {
	dated.Step
	Party    uint32 // for the methods of the snapshot
	Address  addr.Address
	Resource world.Resource // of a grant
	Role     catalogue.Role
	From     moment.Moment // of the grant
	Until    moment.Moment
}

// tell says of a step what it is about. The grants are those of the sequence
// that was computed last.
func (q *Sequences) tell(i uint32, st *dated.Step) DueStep {
	x := DueStep{Step: *st, Party: i}
	if st.Held >= 0 {
		given, b := q.given, &q.s.inv.beside
		if q.isOver() {
			given, b = q.before.given, &q.before.s.inv.beside
		}
		g := given[st.Held]
		x.Resource, x.Role, x.From, x.Until = q.s.given(g), g.role(), g.begin(b), g.written(b)
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
// Steps in the past that were not carried out yet are among them.
func (q *Sequences) Of(a addr.Address) (steps []DueStep, ok bool) {
	i := q.s.PartyOf(a)
	list, ok := q.Party(i)
	for k := range list {
		steps = append(steps, q.Tell(i, &list[k]))
	}
	return steps, ok
}

// Party returns the sequence of a party by its index, for whoever wants to know
// of few steps what they are about: see Tell. It holds until the next call; ok
// is false where there is no record.
func (q *Sequences) Party(i uint32) (steps []dated.Step, ok bool) {
	if i >= q.s.inv.parties.n || !q.load(i) {
		return nil, false
	}
	if q.isOver() {
		return q.before.of(i), true
	}
	q.steps = q.rec.Append(q.steps[:0])
	return q.steps, true
}

// Tell says what a step is about. It must be one of the sequence that was
// computed last, which is that of this party.
func (q *Sequences) Tell(i uint32, st *dated.Step) DueStep {
	x := q.tell(i, st)
	x.Address = q.s.addressOf(i)
	return x
}

// Record returns what the sequence of an address is computed from, for asking
// what would be otherwise; it holds until the next call. It may be changed for
// the question; it is a copy.
func (q *Sequences) Record(a addr.Address) (*dated.Record, bool) {
	inv := &q.s.inv
	i := inv.addresses.find(inv.text, a.String())
	if i == none || i >= inv.parties.n || !q.load(i) {
		return nil, false
	}
	return &q.rec, true
}

// Each hands over the sequence of every record that keep picks, in no order;
// nil picks all. It stops where fn says so.
func (q *Sequences) Each(keep func(party uint32) bool, fn func(party uint32, steps []dated.Step) (more bool)) {
	inv := &q.s.inv
	for i := uint32(0); i < inv.parties.n; i++ {
		if inv.parties.at(i).flags&hasRecord == 0 || keep != nil && !keep(i) {
			continue
		}
		if !fn(i, q.of(i)) {
			return
		}
	}
}

// Due is what falls due within a stretch of time, day by day. Steps are kept by
// day and put in order when a day is first looked at: a year ahead of a large
// world is millions of them, and a page shows one day.
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

// dueEntry is a step by whom it concerns. 16 bytes; what it is about is
// computed again for those that are shown.
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

// Scan finds what is due from one moment until before another by computing the
// sequence of every record, on all processors. keep, where not nil, picks
// records; several goroutines call it.
//
// It is the slow and sure way, in three passes: workers compute and count, room
// is divided by day, and each writes its entries where they go. Nothing is
// locked, and the order within a day is made when somebody looks at it.
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
		// Within a day the entries of each worker have a stretch of their own.
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

// before puts entries in order: by moment, then by address, then as they
// follow. The address and not the index, so that the order does not depend on
// who came first.
func (s *Snapshot) before(a, b *dueEntry) bool {
	switch {
	case a.at != b.at:
		return a.at < b.at
	case a.who != b.who:
		return s.inv.addressText(a.who) < s.inv.addressText(b.who)
	}
	return a.kind < b.kind
}

// sortEntries puts entries in that order.
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

// entries returns what is due on a day, in order. With a base they are its
// entries without those of parties that moved since, and with these as they are
// now.
func (d *Due) entries(day moment.Day) []dueEntry {
	if d.base == nil {
		return d.inOrder(int(day - d.first))
	}
	all := d.base.inOrder(int(day - d.base.first))
	if from, until := d.q.cal.Start(day), d.q.cal.Start(day+1); from < d.From ||
		until > d.Until { // the first or the last day, which is not whole
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

// SortDue puts steps in order: by moment, then by address, then as they follow
// from each other. It is the order of every list of what is due.
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
		return cmp.Or(
			cmp.Compare(x.Kind, y.Kind),
			cmp.Compare(x.Resource.String(), y.Resource.String()),
			cmp.Compare(x.Role, y.Role),
			cmp.Compare(x.From, y.From),
		)
	})
}

// Steps lists what is due, skipping some, at most so many. It belongs to one
// goroutine at a time.
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
			// Entries of one record and moment are computed together, since its
			// sequence is.
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

// Place counts the steps that come before those of an address at a moment, and
// these. It lets a page go on behind the last line that somebody saw, whatever
// has changed since.
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

// standing is what is due in the days ahead, kept from snapshot to snapshot:
// those that an Editor touched are computed anew. A change touches one or two
// records; computing the days ahead of everybody anew after each would cost a
// second. It is shared by the snapshots of a line, behind its lock.
type standing struct {
	mu  sync.Mutex
	due *Due
}

// StandingDays is how many days ahead are kept. The board shows thirty; the
// rest is room, so that a new day need not compute all anew.
const StandingDays = 35

// DueDay is how much is due on a day.
type DueDay struct {
	Day   moment.Day
	Kinds [dated.NumKinds]int
}

// Days counts what is due by day; days on which nothing is are left out. It is
// for what Scan found. A day is counted from the epoch, in the organisation's
// zone.
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
