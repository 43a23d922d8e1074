package dated

import "wexillum.example/internal/core/moment"

// Fate is what a record's sequence makes of the record itself: when it is
// suspended and why, and when it is gone; Never where it is not.
type Fate struct {
	Out, Gone moment.Moment
	Cause     Cause
}

// Fate returns what becomes of the record itself. It is computed without a
// horizon. Decisions need this much of a sequence and nothing else; it is kept
// beside the record and computed again when the record, its grants or its rules
// change.
func (r *Record) Fate() Fate {
	last, ended := moment.Always, !r.Far
	for i := range r.Held {
		end, _ := r.End(&r.Held[i])
		if end == moment.Never {
			ended = false
		}
		last = max(last, end)
	}
	f := Fate{Out: moment.Never, Gone: moment.Never}
	if r.State == IsSuspended {
		f.Out, f.Cause = r.StateSince, r.Suspension
		if f.Cause == NoCause {
			f.Cause = ByHand
		}
	}
	var room [4]Step
	for _, st := range r.tail(room[:0], last, len(r.Held) > 0, ended) {
		switch st.Kind {
		case Suspended:
			f.Out, f.Cause = st.At, st.Cause
		case Removed, Invitation:
			f.Gone = st.At
		}
	}
	return f
}

// Quick does what Append does for somebody who only counts: steps are not in
// order and do not say which grant they are of. Grants are added one by one,
// without Held.
//
// It exists for speed alone: counting what is due of everybody over a year is
// eighty million steps in a large world. A test holds it to what Append says.
type Quick struct {
	r           *Record
	steps       []Step
	last        moment.Moment
	held, ended bool
}

// Begin begins with a record that holds nothing yet.
func (q *Quick) Begin(r *Record) {
	q.r, q.steps, q.last, q.held, q.ended = r, q.steps[:0], moment.Always, false, true
}

// Grant adds a grant. It is End and Due in one, with the day looked up once for
// both.
func (q *Quick) Grant(h *Held) {
	r := q.r
	q.held = true
	due, end, cause := moment.Never, h.Until, ByUntil
	start := moment.Always // what review days count from
	if h.Review != None {
		start = max(h.Reviewed, h.From)
		if r.Horizon != 0 && r.beyond(start, h.Review) {
			start = moment.Always
		}
	}
	if start == moment.Always {
		if r.Horizon != 0 && end > r.Horizon {
			q.ended = false
			return
		}
	} else {
		day := r.Calendar.DayOf(start) + moment.Day(h.Review)
		due = r.Calendar.Start(day + 1)
		if !h.ReviewEnds && r.Now != 0 && due <= r.Now {
			due = r.Due(h)
		}
		if h.ReviewEnds && due < end {
			silent := r.Calendar.Start(day + 1 + ReviewAnswer)
			// A time zone that moves across the date line skips a whole local
			// day.
			if r.Calendar.Start(day+2) == due { // a day that the zone leaves out
				silent = r.after(due, ReviewAnswer, true)
			}
			if silent = r.floored(silent, ByReview); silent < end {
				end, cause = silent, ByReview
			}
		}
	}
	if end == moment.Never {
		q.ended = false
	}
	q.last = max(q.last, end)
	if !h.Own {
		return
	}
	for ; due != moment.Never && due < end; due = r.next(h, due) {
		q.steps = append(q.steps, Step{At: due, Kind: ReviewDue, Cause: ByReviewNeeded, Held: -1})
	}
	if end != moment.Never {
		q.steps = append(q.steps, Step{At: end, Kind: GrantEnds, Cause: cause, Held: -1})
	}
}

// Done returns the steps; they hold until the next Begin. Steps behind the end
// of the record are taken out, as Append does, without sorting first.
func (q *Quick) Done() []Step {
	n := len(q.steps)
	q.steps = q.r.tail(q.steps, q.last, q.held, q.ended)
	for _, st := range q.steps[n:] {
		if st.Kind != Removed && st.Kind != Invitation {
			continue
		}
		keep := q.steps[:0] // nothing is left that could end
		for _, x := range q.steps {
			if x.At < st.At || x.At == st.At && x.Kind <= st.Kind {
				keep = append(keep, x)
			}
		}
		q.steps = keep
		break
	}
	return q.steps
}

// Out returns the first moment at which a record is suspended or removed, and
// why; Never where it is not.
func Out(steps []Step) (moment.Moment, Cause) {
	for i := range steps {
		switch steps[i].Kind {
		case Suspended, Invitation:
			return steps[i].At, steps[i].Cause
		case Removed:
			return steps[i].At, steps[i].After
		}
	}
	return moment.Never, NoCause
}
