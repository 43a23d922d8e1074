// Package dated computes what becomes of a guest's record and grants on which day, and
// why (model §5). It has no I/O.
package dated

import (
	"sort"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// ReviewAnswer is how many days a review that is due may stay unanswered.
const ReviewAnswer = 14

// None is a number of days that never ends.
const None = -1

// Kind says what happens.
type Kind string

// What may happen to a record or a grant of its.
const (
	GrantEnds  Kind = "grant_ends"
	ReviewDue  Kind = "review_due"
	Suspended  Kind = "suspended"
	Removed    Kind = "removed"
	Invitation Kind = "invitation_lapses" // and the record with it
)

// Cause says why. Those of a suspension also cause the removal that follows.
type Cause string

// The causes of model §5.
const (
	ByUntil        Cause = "until"            // its own end, stored when it was given
	ByReview       Cause = "review_silence"   // the review was not answered in time
	ByLastGrant    Cause = "after_last_grant" // no grant is in force or yet to begin
	ByTerm         Cause = "term"             // the rule's term, after since or renewed
	ByOwnUntil     Cause = "own_until"        // the record's own end
	ByIdle         Cause = "idle"             // not seen for too long
	ByPartner      Cause = "partner_ended"
	ByHand         Cause = "by_hand" // suspended already
	ByGrace        Cause = "grace"
	ByInviteDays   Cause = "invite_days"
	ByReviewNeeded Cause = "review_days"
)

// Step is one thing that happens.
type Step struct {
	At    moment.Moment
	Kind  Kind
	Cause Cause
	After Cause        // of a removal: what suspended the record
	Grant *world.Grant // of a grant that ends or is to be reviewed
}

// Values are the rules of a guest, as they count for its partner. Days are None where
// nothing ends.
type Values struct {
	Term, Idle, Invite, Grace int
	LastGrantSuspends         bool
}

// Held is a grant that counts for the record: its own or of a group it is in.
type Held struct {
	Grant      *world.Grant
	Own        bool // not of a group
	Review     int  // how often it must be confirmed; None for never
	ReviewEnds bool // an unanswered review ends it
}

// Record is all that a sequence is computed from.
type Record struct {
	Guest        *world.Guest
	Held         []Held
	Values       Values
	PartnerEnded moment.Moment // when the connection with the partner ended; Never where it has not
	Zone         *time.Location
}

// after counts n days from the local day of a start, or of an end.
func after(m moment.Moment, n int, end bool, zone *time.Location) moment.Moment {
	if n == None || m == moment.Never {
		return moment.Never
	}
	if m == moment.Always {
		return moment.Always
	}
	d := moment.DayOf(m, zone)
	if end {
		d = moment.CountedOnFrom(m, zone)
	}
	return moment.EndOfDays(d, n, zone)
}

// end returns when a grant ends, and why.
func (h *Held) end(zone *time.Location) (moment.Moment, Cause) {
	until, cause := h.Grant.Until, ByUntil
	if due := h.due(zone); h.ReviewEnds && due != moment.Never {
		if silent := after(due, ReviewAnswer, true, zone); silent < until {
			until, cause = silent, ByReview
		}
	}
	return until, cause
}

// due returns when a grant is next to be confirmed; Never where it is not.
func (h *Held) due(zone *time.Location) moment.Moment {
	from := max(h.Grant.Reviewed, h.Grant.From)
	if from == moment.Always { // without either there is no review
		return moment.Never
	}
	return after(from, h.Review, false, zone)
}

// Sequence returns what becomes of a record, in order. Steps that were over before the
// record began are not told; what is due and has not been done yet is told at its moment.
func Sequence(r *Record) []Step {
	g := r.Guest
	var out []Step
	last, ended := moment.Always, true
	for i := range r.Held {
		h := &r.Held[i]
		end, cause := h.end(r.Zone)
		if end == moment.Never {
			ended = false
		}
		last = max(last, end)
		if !h.Own {
			continue
		}
		if due := h.due(r.Zone); due != moment.Never && due < end {
			out = append(out, Step{At: due, Kind: ReviewDue, Cause: ByReviewNeeded, Grant: h.Grant})
		}
		if end != moment.Never {
			out = append(out, Step{At: end, Kind: GrantEnds, Cause: cause, Grant: h.Grant})
		}
	}
	if g.Provisioned() { // it knows only its feed; its grants still end
		return sorted(out)
	}
	if g.State == world.StateInvited && g.Accepted == moment.Never {
		if at := after(g.Since, r.Values.Invite, false, r.Zone); at != moment.Never && at != moment.Always {
			out = append(out, Step{At: at, Kind: Invitation, Cause: ByInviteDays})
		}
		return sorted(out)
	}
	at, cause := moment.Never, Cause("")
	consider := func(m moment.Moment, c Cause) {
		if m < at {
			at, cause = m, c
		}
	}
	if g.State == world.StateSuspended { // it happened then, whatever would have been
		at, cause = g.StateSince, ByHand
		if at != moment.Always {
			if gone := after(at, r.Values.Grace, true, r.Zone); gone != moment.Never {
				out = append(out, Step{At: gone, Kind: Removed, Cause: ByGrace, After: cause})
			}
		}
		return sorted(out)
	}
	if len(r.Held) > 0 && ended && r.Values.LastGrantSuspends {
		consider(max(last, g.Since), ByLastGrant)
	}
	consider(g.Until, ByOwnUntil)
	if from := max(g.Since, g.Renewed); from != moment.Always {
		consider(after(from, r.Values.Term, false, r.Zone), ByTerm)
	}
	seen := max(g.LastSeen, g.Since)
	if g.Accepted != moment.Never {
		seen = max(seen, g.Accepted)
	}
	if g.State == world.StateActive {
		seen = max(seen, g.StateSince) // brought back
	}
	if seen != moment.Always {
		consider(after(seen, r.Values.Idle, false, r.Zone), ByIdle)
	}
	consider(r.PartnerEnded, ByPartner)
	if at == moment.Never {
		return sorted(out)
	}
	out = append(out, Step{At: at, Kind: Suspended, Cause: cause})
	if at != moment.Always {
		if gone := after(at, r.Values.Grace, true, r.Zone); gone != moment.Never {
			out = append(out, Step{At: gone, Kind: Removed, Cause: ByGrace, After: cause})
		}
	}
	return sorted(out)
}

func sorted(steps []Step) []Step {
	rank := map[Kind]int{ReviewDue: 0, GrantEnds: 1, Invitation: 2, Suspended: 3, Removed: 4}
	sort.SliceStable(steps, func(i, j int) bool {
		if steps[i].At != steps[j].At {
			return steps[i].At < steps[j].At
		}
		return rank[steps[i].Kind] < rank[steps[j].Kind]
	})
	return steps
}

// Out returns the first moment at which a record is suspended or removed, and why; Never
// where it is not.
func Out(steps []Step) (moment.Moment, Cause) {
	for i := range steps {
		switch steps[i].Kind {
		case Suspended, Invitation:
			return steps[i].At, steps[i].Cause
		case Removed:
			return steps[i].At, steps[i].After
		}
	}
	return moment.Never, ""
}
