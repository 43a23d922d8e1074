package engine

import (
	"runtime"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// settled is what the dates of one party come to, where that is otherwise than
// before. Only what changed is written, so that a new policy which concerns
// nobody copies nothing.
type settled struct {
	party  uint32
	fate   dated.Fate
	silent []uint32 // by grant of its own; nil where none changes
}

// settle finds anew what dates come to, of everybody whose dates may be
// otherwise.
//
// It is called once for each snapshot. Where rules of dates stayed the same
// only the parties that an Editor touched are computed; where a partner's
// changed also its people; else everybody. So a new sponsor costs one sequence,
// a new term of one partner those of its people, and a new time zone all of
// them.
func (e *Editor) settle() {
	v := &e.inv
	was := e.rules
	if was == nil || e.otherDates || e.pol != e.was {
		e.rules = compileDates(e.pol, v)
	}
	s := &Snapshot{inv: e.inv, pol: e.pol, rules: e.rules, fwd: e.fwd}
	all := was == nil || e.staleAll || was.zone != e.rules.zone || was.kinds != e.rules.kinds || was.nobody != e.rules.nobody
	if all {
		e.apply(s.settleAll())
		return
	}
	stale := map[uint32]bool{}
	for _, i := range e.stale {
		stale[i] = true
	}
	if e.was != nil && e.rules != was {
		old, next := e.was, e.pol
		for d := range next.domains {
			var f domainFacts
			if d < len(old.domains) {
				f = old.domains[d]
			}
			a, b := was.of(f, false), e.rules.of(next.domains[d], false)
			if d >= len(old.domains) || *a != *b || (f.bar != 0) != (next.domains[d].bar != 0) {
				v.eachAt(uint32(d), func(i uint32) { stale[i] = true })
			}
		}
		for _, x := range [2][2]*policy{{old, next}, {next, old}} {
			// A bar on an address takes its partner from it, and with that the
			// partner's rules.
			for a := range x[0].bars {
				if _, both := x[1].bars[a]; !both {
					if i := v.addresses.find(v.text, a); i != none && i < v.parties.n {
						stale[i] = true
					}
				}
			}
		}
	}
	if len(stale) == 0 {
		return
	}
	q := s.Sequences()
	var found []settled
	for i := range stale {
		if x, changed := q.settle(i); changed {
			found = append(found, x)
		}
	}
	e.apply(found)
}

// settleAll does so for everybody, on all processors. Workers take shares of
// two thousand, so that none of them waits for long at the end.
func (s *Snapshot) settleAll() (out []settled) {
	const share = 1 << 11
	workers := max(1, runtime.GOMAXPROCS(0))
	parts := make([][]settled, workers)
	var next atomic.Uint32
	var group sync.WaitGroup
	marks := s.Sequences().mark(uint32(workers))
	for w := range workers {
		group.Go(func() {
			q := s.Sequences()
			q.marks = marks
			for from := next.Add(share) - share; from < s.inv.parties.n; from = next.Add(share) - share {
				for i := from; i < min(from+share, s.inv.parties.n); i++ {
					if x, changed := q.settle(i); changed {
						parts[w] = append(parts[w], x)
					}
				}
			}
		})
	}
	group.Wait()
	for _, p := range parts {
		out = append(out, p...)
	}
	return
}

// settle finds what the dates of a party come to; changed says whether it is
// otherwise than what stands there. Of a record that is gone for good its
// grants have no silent ends any more.
func (q *Sequences) settle(i uint32) (x settled, changed bool) {
	inv := &q.s.inv
	p := inv.parties.at(i)
	given := inv.given(p.grants)
	x.party = i
	if !q.load(i) {
		x.fate = dated.Fate{Out: moment.Never, Gone: moment.Never}
		for k := range given {
			if given[k].detail(&inv.beside).silent != 0 { // there was a record once
				x.silent = make([]uint32, len(given))
				break
			}
		}
	} else if q.isOver() {
		b := q.concerned
		x.fate = dated.Fate{Out: b.out, Gone: b.gone, Cause: q.before.s.inv.dates.at(i).why}
	} else {
		x.fate = q.rec.Fate()
		k := 0
		for j := range given {
			g := &given[j]
			var silent uint32
			if g.via() == viaGrant {
				// Held has the party's own grants in the order in which they
				// lie, without links.
				if end, cause := q.rec.End(&q.rec.Held[k]); cause == dated.ByReview || end < g.written(&inv.beside) {
					silent = secondsUp(end)
				}
				k++
			}
			if silent != g.detail(&inv.beside).silent && x.silent == nil {
				x.silent = make([]uint32, len(given))
				for l := range j {
					x.silent[l] = given[l].detail(&inv.beside).silent
				}
			}
			if x.silent != nil {
				x.silent[j] = silent
			}
		}
	}
	return x, x.silent != nil || x.fate.Out != p.out || x.fate.Gone != p.gone || x.fate.Cause != inv.dates.at(i).why
}

// secondsUp writes an end as whole seconds since 1970, at least one. 0 stands
// for none, so an end in 1970 is kept as one second.
func secondsUp(m moment.Moment) uint32 {
	switch {
	case m < 1e6:
		return 1
	case m >= (1<<32-1)*1e6:
		return 0
	}
	return uint32((m + 1e6 - 1) / 1e6)
}

// apply enters the fates that were computed: from when a record is suspended
// and gone, why, and which grants have fallen silent. Grants that snapshots
// share are copied before.
func (e *Editor) apply(found []settled) {
	v := &e.inv
	for _, x := range found {
		p := v.parties.edit(e.tok, x.party)
		p.out, p.gone = x.fate.Out, x.fate.Gone
		if v.dates.at(x.party).why != x.fate.Cause {
			v.dates.edit(e.tok, x.party).why = x.fate.Cause
		}
		if x.silent == nil {
			continue
		}
		if e.base == nil { // no snapshot shares them yet
			for k := range x.silent {
				e.setSilent(&v.grants[p.grants.off+uint32(k)], x.silent[k], true)
			}
			continue
		}
		off := uint32(len(v.grants))
		v.grants = append(v.grants, v.given(p.grants)...)
		for k := range x.silent {
			e.setSilent(&v.grants[off+uint32(k)], x.silent[k], false)
		}
		v.grantsDead += int(p.grants.n)
		p.grants.off = off
	}
}

// StateOf tells the state of a party's record at a moment, as its dates have
// it: why it is suspended, and since when; ok is false where it holds no record
// then. cause and since are of a suspension only.
func (s *Snapshot) StateOf(party uint32, at moment.Moment) (state world.State, cause dated.Cause, since moment.Moment, ok bool) {
	p := s.inv.parties.at(party)
	if !p.recordAt(at) {
		return 0, 0, 0, false
	}
	if state = p.stateAt(at); state == world.StateSuspended {
		return state, s.inv.dates.at(party).why, p.out, true
	}
	return state, 0, 0, true
}

// Unwritten calls found for every party whose record or grants have come, by a
// moment, to what is not written in them: that is what is to be carried out.
//
// Whoever carries it out writes it into the record and into the journal;
// decisions have counted it since its moment.
func (s *Snapshot) Unwritten(at moment.Moment, found func(party uint32) bool) {
	inv := &s.inv
	for i := range inv.parties.n {
		p := inv.parties.at(i)
		if p.flags&hasRecord == 0 {
			continue
		}
		if due := p.gone <= at || p.out <= at && p.flags&isSuspended == 0; !due {
			for _, g := range inv.given(p.grants) {
				silent := g.detail(&inv.beside).silent
				if end := moment.Moment(silent) * 1e6; silent != 0 && end <= at && end < g.written(&inv.beside) {
					due = true
					break
				}
			}
			if !due {
				continue
			}
		}
		if !found(i) {
			return
		}
	}
}
