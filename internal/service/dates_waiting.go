package service

import (
	"context"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// WaitingDay is what would happen on one day.
type WaitingDay struct {
	Day   moment.Day
	Kinds map[string]int
}

// LetGo is how many records a day suspends or removes.
func letGo(kinds map[string]int) int {
	return kinds[dated.Suspended.String()] + kinds[dated.Removed.String()] + kinds[dated.Invitation.String()]
}

// waitingDays is how far ahead what waits is told.
const waitingDays = 60

// weighWaiting counts what would come of records that keep lets through, if their dates
// counted from a moment on, in a state in which they do.
func weighWaiting(st *State, after *engine.Snapshot, from moment.Moment, keep func(party uint32) bool) *Waiting {
	out := &Waiting{AtOnce: map[string]int{}, Partners: map[string]int{}}
	zone := st.Zone()
	days := map[moment.Day]map[string]int{}
	first := moment.DayOf(from, zone)
	most := moment.EndOfDays(first, waitingDays, zone)
	soon := moment.EndOfDays(first, int(st.GuestRule(addr.Address{}, "", ruleWarn)), zone)
	q := after.Sequences()
	q.Between(from, most)
	q.Each(keep, func(i uint32, steps []dated.Step) bool {
		out.Records++
		told := false
		for k := range steps {
			x := &steps[k]
			if x.At >= most || x.Kind == dated.ReviewDue && x.At < from {
				continue
			}
			if x.At = max(x.At, from); x.At < from+1e6 { // floors are whole seconds
				x.At = from
			}
			if ends := x.Kind == dated.Suspended || x.Kind == dated.GrantEnds && x.Cause != dated.ByUntil ||
				x.Kind == dated.GrantEnds && x.At > from; ends &&
				x.At < soon &&
				!told {
				told = true
				out.Mail++
			}
			if x.Kind == dated.GrantEnds && x.Cause == dated.ByUntil && x.At == from {
				continue // it ended long ago, and nothing is to be done about it
			}
			if x.At == from {
				out.AtOnce[x.Kind.String()]++
				_, _, partner := st.RecordOf(i)
				out.Partners[partner]++
				continue
			}
			d := moment.DayOf(x.At, zone)
			if days[d] == nil {
				days[d] = map[string]int{}
			}
			days[d][x.Kind.String()]++
		}
		return true
	})
	for d, kinds := range days {
		out.Days = append(out.Days, WaitingDay{d, kinds})
	}
	slices.SortFunc(out.Days, func(a, b WaitingDay) int { return int(a.Day - b.Day) })
	return out
}

// Waiting tells what waits, as if it began at a moment.
func (s *Service) Waiting(ctx context.Context, from moment.Moment) (*Waiting, error) {
	st := s.State()
	floors, err := s.floors(ctx)
	if err != nil {
		return nil, err
	}
	e := st.Aside()
	next := make([]world.DatesFrom, 0, len(floors))
	mails := false
	for _, f := range floors {
		mails = mails || f.Mail == moment.Never
		if f.From == moment.Never {
			f.From = from
		}
		next = append(next, f)
	}
	e.SetFloors(next)
	e.Unfloor(from)
	out := weighWaiting(st, e.Done(), from, st.Waits)
	out.Mails, out.Floors = mails, floors
	return out, ctx.Err()
}
