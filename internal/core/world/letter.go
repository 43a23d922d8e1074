package world

import (
	"slices"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Settle says what became of an open letter, now that the stances of its
// partner are as they are: it was admitted when every key is admitted, and
// refused when every key was answered and one of them by a refusal. Only what
// was said on the day of the letter or later is an answer to it, and what
// admits less than our side allows is none. done is false while something is
// not answered.
//
// zone is that of the organisation, for what was said on the day of the letter.
func (l *Letter) Settle(p *Partner, side Side, zone *time.Location) (a Answer, when moment.Moment, done bool) {
	if l.Answer != NoAnswer {
		return l.Answer, l.Answered, false
	}
	a, when = AnswerAdmitted, l.Sent
	for _, k := range l.Keys {
		answered := false
		for i := range p.Stance {
			s := &p.Stance[i]
			if s.Key != k || s.Says == SaysUnknown ||
				s.AsOf.IsSet() && l.Sent.IsSet() && moment.DayOf(s.AsOf, zone) < moment.DayOf(l.Sent, zone) {
				continue
			}
			if s.Says == SaysAdmits && s.Features != nil &&
				slices.ContainsFunc(side.Keys[k].Features, func(f catalogue.Feature) bool { return !slices.Contains(s.Features, f) }) {
				continue // part of it is still left out
			}
			answered = true
			if s.AsOf.IsSet() {
				when = max(when, s.AsOf)
			}
			if s.Says == SaysRefuses {
				a = AnswerRefused
			}
		}
		if !answered {
			return NoAnswer, moment.Never, false
		}
	}
	return a, when, true
}
