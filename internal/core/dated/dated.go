// Package dated computes what becomes of a guest's record and grants on which
// day, and why (model §5). It has no I/O, knows no names, and reads no clock.
//
// A record is fed with its dates, what it holds and the rules that count for
// it, and the sequence of its steps follows:
//
//	record    since 1 Mar, term 90 days, grace 30 days
//	grant     until 15 May, reviewed every 60 days
//
//	30 Apr    the grant is due for review      (60 days after it began)
//	15 May    the grant ends                   (its own end)
//	15 May    the record is suspended          (after its last grant)
//	14 Jun    the record is removed            (30 days of grace)
//
// Days are days of the organisation's time zone and end at midnight there: what
// is counted in days from a moment begins on the local day of that moment, and
// the last day still counts as a whole. Ends that are written are moments and
// count to the microsecond.
//
// Floors keep dates from reaching back: a rule that is tightened today ends
// nothing yesterday, and records that were taken over from elsewhere wait until
// somebody lets their dates count (Record.Floor, Floors).
//
// The same arithmetic serves three readers: a letter or a calendar wants all
// steps (Sequence), a decision only when a record is suspended and gone (Fate),
// a count of everybody only how many steps fall on which day (Quick).
package dated

import (
	"slices"

	"wexillum.example/internal/core/moment"
)

// SponsorDays is how many days somebody has to take over from a sponsor who
// left, and ReviewAnswer how many a review that is due may stay unanswered.
//
// Both are fixed and no rules: a rule would be one more thing to get wrong, and
// two weeks survive a holiday.
const (
	SponsorDays  = 14
	ReviewAnswer = 14
)

// None is a number of days that never ends.
const None = -1

// Kind says what happens. The order matters: of two things at one moment the
// lesser kind is told first.
type Kind uint8

// What may happen to a record or a grant of its, in the order in which things
// of one moment follow from each other.
const (
	ReviewDue Kind = iota
	GrantEnds
	Invitation // lapses, and the record with it
	Suspended
	Removed
	NumKinds
)

// kindNames are the words for kinds, by Kind. They are written in the journal.
var kindNames = [NumKinds]string{"review_due", "grant_ends", "invitation_lapses", "suspended", "removed"}

// String returns the kind as it is written.
func (k Kind) String() string { return kindNames[k] }

// Cause says why. Those of a suspension also cause the removal that follows.
// The same words stand in letters, in the calendar of what is due and in the
// journal.
type Cause uint8

// The causes of model §5.
const (
	NoCause      Cause = iota
	ByUntil            // its own end, stored when it was given
	ByReview           // the review was not answered in time
	ByLastGrant        // no grant is in force or yet to begin
	ByTerm             // the rule's term, after since or renewed
	ByOwnUntil         // the record's own end
	ByIdle             // not seen for too long
	BySponsor          // the sponsor left, and nobody took over
	ByHomeClosed       // the partner says that the home account is closed
	ByPartner          // the connection with the partner ended
	ByHand             // suspended already
	ByGrace
	ByInviteDays
	ByReviewNeeded
	NumCauses
)

// causeNames are the words for causes, by Cause. Floors of single kinds of step
// are kept under them.
var causeNames = [NumCauses]string{
	"",
	"until",
	"review_silence",
	"after_last_grant",
	"term",
	"own_until",
	"idle",
	"sponsor_left",
	"home_closed",
	"partner_ended",
	"by_hand",
	"grace",
	"invite_days",
	"review_days",
}

// String returns the cause as it is written; empty for none.
func (c Cause) String() string { return causeNames[c] }

// ParseCause reads what String writes.
func ParseCause(s string) (Cause, bool) {
	for i, n := range causeNames {
		if n == s && i > 0 {
			return Cause(i), true
		}
	}
	return NoCause, false
}

// Step is one thing that happens. Moments are exact: a day ends at midnight in
// the organisation's time zone (model §5). A step in the past that nobody
// carried out is told like any other.
type Step struct {
	At    moment.Moment
	Held  int32 // of a grant that ends or is to be reviewed: its place in Record.Held; else -1
	Kind  Kind
	Cause Cause
	After Cause // of a removal: what suspended the record
}

// Values are the rules of a guest, as they count for its partner. Days are None
// where nothing ends. They are counts of whole local days, see package moment.
type Values struct {
	Term, Idle, Invite, Grace int
	LastGrantSuspends         bool
	SponsorRequired           bool
}

// Held is a grant that counts for the record: its own or of a group it is in.
// From, Until and Reviewed are as they were given; what a review that nobody
// answers makes of Until is End's to say. Links that name somebody are no
// grants here: they end by themselves, and keep no record alive.
type Held struct {
	From, Until, Reviewed moment.Moment
	Review                int  // how often it must be confirmed; None for never
	Own                   bool // not of a group
	ReviewEnds            bool // an unanswered review ends it
}

// State of a record.
type State uint8

// The states of a record. One that is fed is known to its feed alone.
const (
	Active State = iota
	Invited
	IsSuspended
	Fed
)

// Record is all that a sequence is computed from. An absent start is
// moment.Always, an absent end moment.Never.
//
// It holds no names: the caller knows whose record it is and fills one Record
// again and again, since a hundred thousand of them are computed in a row.
type Record struct {
	State                                                 State
	Since, Accepted, Renewed, Until, LastSeen, StateSince moment.Moment
	SponsorLeft, HomeClosed, PartnerEnded                 moment.Moment // Never where it did not happen
	Suspension                                            Cause         // of a suspended record: why; ByHand where nothing else is known
	Held                                                  []Held
	Values                                                Values
	Calendar                                              *moment.Calendar

	// Floor is the moment before which no counted step falls (model §5): what
	// the dates put earlier happens then. Always where there is none, Never
	// while the dates wait. Ends that are written know no floor. A floor is a
	// whole second.
	Floor moment.Moment
	Kinds *Floors // the floors of single kinds of step besides; nil for none
	// Forward is the latest floor that is a moment: before it neither a closed
	// home account nor the end of a partnership counts, because we heard of it
	// later. Always for none.
	Forward moment.Moment

	// Horizon is from when on nobody asks, so that what surely lies behind it
	// need not be computed; zero for none.
	Horizon moment.Moment
	// Now is from when on somebody asks: reviews that nobody answered and whose
	// silence keeps the grant, up to then, count as answered; zero for the
	// first review whenever it was.
	Now moment.Moment
	Far bool // a grant that neither ends nor is to be confirmed before the horizon was left out of Held
}

// Floors holds a floor for every cause; Always for none. A floor keeps a rule
// that was tightened today from ending things yesterday: the dates it counts
// come into force from a moment that whoever published it chose.
type Floors [NumCauses]moment.Moment

// Counted lists the causes of steps that are counted, and so know a floor.
// ByLastGrant stands for guests.after_last_grant, the others for the rules or
// deadlines of their names.
var Counted = []Cause{ByReview, ByLastGrant, ByTerm, ByIdle, BySponsor, ByGrace, ByInviteDays}

// IsCounted reports whether the steps of a cause are counted.
func (c Cause) IsCounted() bool { return slices.Contains(Counted, c) }

// NoFloors returns floors that hold nothing back.
func NoFloors() (f Floors) {
	for i := range f {
		f[i] = moment.Always
	}
	return
}

// floored returns the moment at which a counted step happens that its days put
// at m. Never stays never: a floor moves what happens and lets nothing happen.
func (r *Record) floored(m moment.Moment, c Cause) moment.Moment {
	if m == moment.Never {
		return m
	}
	m = max(m, r.Floor)
	if r.Kinds != nil {
		m = max(m, r.Kinds[c])
	}
	return m
}

// after counts n days from the local day of a start, or of an end. With end the
// start is itself the end of a day, and the next day is the first that counts.
// Always stays Always: what began before all records has no day to count from.
// None never comes.
func (r *Record) after(m moment.Moment, n int, end bool) moment.Moment {
	if n == None || m == moment.Never {
		return moment.Never
	}
	if m == moment.Always {
		return moment.Always
	}
	if end {
		return r.Calendar.EndOfDays(r.Calendar.CountedOnFrom(m), n)
	}
	return r.Calendar.EndOfDays(r.Calendar.DayOf(m), n)
}

// End returns when a grant ends, and why. The earlier of its own end and of the
// day on which its review went unanswered for too long.
func (r *Record) End(h *Held) (moment.Moment, Cause) {
	if !h.ReviewEnds {
		return h.Until, ByUntil
	}
	if due := r.Due(h); due != moment.Never {
		if silent := r.floored(r.after(due, ReviewAnswer, true), ByReview); silent < h.Until {
			return silent, ByReview
		}
	}
	return h.Until, ByUntil
}

// Due returns when a grant is next to be confirmed; Never where it is not. It
// counts from when it was last confirmed, or else from when it began. It may
// lie in the past: then nobody has answered yet.
func (r *Record) Due(h *Held) moment.Moment {
	if h.Review == None {
		return moment.Never
	}
	from := max(h.Reviewed, h.From)
	if from == moment.Always { // without either there is no review
		return moment.Never
	}
	if r.Horizon != 0 && r.beyond(from, h.Review) {
		return moment.Never
	}
	due := r.after(from, h.Review, false)
	// Where silence keeps the grant, every review that nobody answered counts
	// as answered once its time is over, so that the one that is told is the
	// current one.
	if !h.ReviewEnds && r.Now != 0 {
		for silent := r.after(due, ReviewAnswer, true); silent <= r.Now; silent = r.after(due, ReviewAnswer, true) {
			due = r.after(silent, h.Review, false)
		}
	}
	return due
}

// next returns when a grant is to be confirmed again after a review that was
// due and that nobody answered, where silence keeps it; Never where that is of
// no interest.
func (r *Record) next(h *Held, due moment.Moment) moment.Moment {
	if h.ReviewEnds || r.Horizon == 0 || due >= r.Horizon {
		return moment.Never
	}
	return r.after(r.after(due, ReviewAnswer, true), h.Review, false)
}

// beyond reports whether so many days after a start surely lie behind the
// horizon. The days end a day later at least, which is more than changes of
// clocks take.
func (r *Record) beyond(from moment.Moment, days int) bool {
	return from+moment.Moment(days-1)*86400e6 > r.Horizon
}

// Beyond reports whether a grant surely neither ends nor is to be confirmed
// before the horizon.
func (r *Record) Beyond(from, until, reviewed moment.Moment, review int) bool {
	if r.Horizon == 0 || until <= r.Horizon {
		return false
	}
	start := max(reviewed, from)
	return review == None || start == moment.Always || r.beyond(start, review)
}

// first finds the earliest of several causes: of those that a floor puts at one
// moment the one whose own date came first.
type first struct {
	at, raw moment.Moment
	cause   Cause
}

// consider takes another candidate: at is when it happens, raw the moment
// before any floor was put on it.
func (f *first) consider(at, raw moment.Moment, c Cause) {
	if at < f.at || at == f.at && raw < f.raw {
		*f = first{at, raw, c}
	}
}

// own finds when an active record is suspended for what is its own, whatever
// becomes of its grants.
//
// In order: the record's own end, the term, not being seen, a sponsor who left,
// what the partner's side says. Each is a candidate, and the earliest counts;
// of two that a floor puts at one moment the one whose own date came first, so
// that the cause that is told does not depend on the order here.
func (r *Record) own() (f first) {
	f = first{at: moment.Never, raw: moment.Never}
	counted := func(m moment.Moment, c Cause) { f.consider(r.floored(m, c), m, c) }
	f.consider(r.Until, r.Until, ByOwnUntil)
	if from := max(r.Since, r.Renewed); from != moment.Always {
		counted(r.after(from, r.Values.Term, false), ByTerm)
	}
	// Accepting the invitation and being brought back count as having been
	// seen.
	seen := max(r.LastSeen, r.Since)
	if r.Accepted != moment.Never {
		seen = max(seen, r.Accepted)
	}
	seen = max(seen, r.StateSince) // brought back
	if seen != moment.Always {
		counted(r.after(seen, r.Values.Idle, false), ByIdle)
	}
	if r.Values.SponsorRequired && r.SponsorLeft != moment.Never {
		counted(r.after(r.SponsorLeft, SponsorDays, true), BySponsor)
	}
	// What we were told of late counts from when we heard of it.
	told := func(m moment.Moment, c Cause) {
		if m != moment.Never {
			f.consider(max(m, r.Forward), m, c)
		}
	}
	told(r.HomeClosed, ByHomeClosed)
	told(r.PartnerEnded, ByPartner)
	return
}

// Own returns when an active record is suspended for what is its own, whatever
// becomes of its grants, and why; Never where it is not.
func (r *Record) Own() (at moment.Moment, cause Cause) {
	f := r.own()
	return f.at, f.cause
}

// Sequence returns what becomes of a record, in order. What is due and has not
// been done yet is told at its moment.
func (r *Record) Sequence() []Step { return r.Append(nil) }

// Append adds the sequence to a list, so that many need no memory of their own.
// Grants first, then the record: what becomes of it may depend on the last of
// its grants. Behind a removal nothing is told, since nothing is left that
// could end.
func (r *Record) Append(out []Step) []Step {
	first := len(out)
	// A grant that was left out because it lies beyond the horizon has not
	// ended.
	last, ended := moment.Always, !r.Far
	for i := range r.Held {
		h := &r.Held[i]
		end, cause := r.End(h)
		if end == moment.Never {
			ended = false
		}
		last = max(last, end)
		// A grant of a group keeps the record alive, and is told where the
		// group is.
		if !h.Own {
			continue
		}
		for due := r.Due(h); due != moment.Never && due < end; due = r.next(h, due) {
			out = append(out, Step{At: due, Kind: ReviewDue, Cause: ByReviewNeeded, Held: int32(i)})
		}
		if end != moment.Never {
			out = append(out, Step{At: end, Kind: GrantEnds, Cause: cause, Held: int32(i)})
		}
	}
	out = r.tail(out, last, len(r.Held) > 0, ended)
	steps := out[first:]
	for i := 1; i < len(steps); i++ { // few, and nearly in order
		for j := i; j > 0 && (steps[j].At < steps[j-1].At || steps[j].At == steps[j-1].At && steps[j].Kind < steps[j-1].Kind); j-- {
			steps[j], steps[j-1] = steps[j-1], steps[j]
		}
	}
	for i := range steps {
		if k := steps[i].Kind; k == Removed || k == Invitation { // nothing is left that could end
			return out[:first+i+1]
		}
	}
	return out
}

// tail adds what becomes of the record itself: last is when the last of its
// grants ends, held whether it has any, ended whether all of them end.
//
// The four states have little in common: a fed record follows its feed, an
// invitation lapses, what is suspended waits for its removal, and what is
// active is suspended first.
func (r *Record) tail(out []Step, last moment.Moment, held, ended bool) []Step {
	switch r.State {
	case Fed: // it knows only its feed, which may say that the home account is closed; its grants still end
		if r.HomeClosed == moment.Never {
			break
		}
		closed := max(r.HomeClosed, r.Forward, r.Since)
		out = append(out, Step{At: closed, Kind: Suspended, Cause: ByHomeClosed, Held: -1})
		if closed != moment.Always {
			out = r.goes(out, closed, ByHomeClosed)
		}
	case Invited:
		f := first{at: moment.Never, raw: moment.Never}
		f.consider(r.Until, r.Until, ByOwnUntil)
		if lapses := r.after(r.Since, r.Values.Invite, false); lapses != moment.Always {
			f.consider(r.floored(lapses, ByInviteDays), lapses, ByInviteDays)
		}
		if f.at != moment.Never {
			out = append(out, Step{At: max(f.at, r.Since), Kind: Invitation, Cause: f.cause, Held: -1})
		}
	case IsSuspended: // it happened then, whatever would have been
		if r.StateSince != moment.Always {
			cause := r.Suspension
			if cause == NoCause {
				cause = ByHand
			}
			out = r.goes(out, r.StateSince, cause)
		}
	default:
		f := r.own()
		if held && ended && r.Values.LastGrantSuspends {
			raw := max(last, r.Since)
			// Of two causes at one moment the one whose own date came first is
			// told; where these are equal, too, the last grant is, because it
			// is what somebody can mend.
			if over := r.floored(raw, ByLastGrant); over < f.at || over == f.at && raw <= f.raw {
				f = first{over, raw, ByLastGrant}
			}
		}
		if f.at == moment.Never {
			break
		}
		f.at = max(f.at, r.Since) // nothing happens to a record before it begins
		out = append(out, Step{At: f.at, Kind: Suspended, Cause: f.cause, Held: -1})
		if f.at != moment.Always {
			out = r.goes(out, f.at, f.cause)
		}
	}
	return out
}

// goes adds the removal of a record that is suspended at a moment. Days of
// grace count from the end of the day of the suspension.
func (r *Record) goes(out []Step, at moment.Moment, cause Cause) []Step {
	if gone := r.floored(r.after(at, r.Values.Grace, true), ByGrace); gone != moment.Never {
		out = append(out, Step{At: gone, Kind: Removed, Cause: ByGrace, After: cause, Held: -1})
	}
	return out
}
