package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// EndRound ends a round before its day: what nobody answered is as its end says.
func (s *Service) EndRound(ctx context.Context, who Who, id, why string) (*RoundView, error) {
	if why = strings.TrimSpace(why); why == "" {
		return nil, &Invalid{"why", "", "say why it ends before its day"}
	}
	v, err := s.RoundOf(ctx, who, id)
	if err != nil {
		return nil, err
	}
	if v.Closed != "" {
		return nil, fmt.Errorf("%w: the round %s is over", ErrConflict, v.Name)
	}
	if err := s.closeRound(ctx, who.Name, why, &v.Round); err != nil {
		return nil, err
	}
	return s.RoundOf(ctx, who, id)
}

// RoundEnd is what the end of a round would do.
type RoundEnd struct {
	Silent  int // lines that nobody answered
	Ends    int // of them, those whose role would end; the others count as reviewed
	Weighed *ValueWeighed
}

// mostEnding is up to how many lines are weighed before a round ends.
const mostEnding = 2000

// EndingRound says what ending a round now would do, and does nothing: who would
// lose what, because nobody answered whether they still need it.
func (s *Service) EndingRound(ctx context.Context, who Who, id string) (*RoundView, *RoundEnd, error) {
	v, err := s.RoundOf(ctx, who, id)
	if err != nil {
		return nil, nil, err
	}
	if v.Closed != "" {
		return nil, nil, fmt.Errorf("%w: the round %s is over", ErrConflict, v.Name)
	}
	out := &RoundEnd{}
	err = s.changing(ctx, who.Name, "", true, func(now *State, t *store.Tx) error {
		*out = RoundEnd{Silent: v.Open, Weighed: &ValueWeighed{}}
		list, err := t.ReviewLines(id, nil, ReviewOpen, 0, mostEnding+1)
		if err != nil {
			return err
		}
		if len(list) > mostEnding {
			list = list[:mostEnding]
			out.Weighed.NotCounted = append(out.Weighed.NotCounted, fmt.Sprintf("lines beyond the first %d", mostEnding))
		}
		r := reviewingNow(now, t, s.Now())
		for i := range list {
			ends, err := s.silence(r, id, list[i].N)
			if err != nil {
				return err
			}
			if ends {
				out.Ends++
			}
		}
		if err := r.weigh(ctx, out.Weighed); err != nil {
			return err
		}
		return errPreview
	})
	if err != nil && !errors.Is(err, errPreview) {
		return nil, nil, err
	}
	return v, out, nil
}

// closeRound does what the rule says of lines that nobody answered, makes a record of reach of what it was about, and
// seals the lines. Several services may do it at once.
func (s *Service) closeRound(ctx context.Context, by, why string, r *Round) error {
	for {
		list, err := s.store.ReviewLines(ctx, r.ID, nil, ReviewOpen, 0, reviewAtOnce)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		if err := s.changeLong(ctx, by, why, func(now *State, t *store.Tx) error {
			x := reviewingNow(now, t, s.Now())
			for i := range list {
				if _, err := s.silence(x, r.ID, list[i].N); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	mine := false
	if err := s.onRound(ctx, by, why, r.ID, func(now *Round) bool {
		since, err := moment.Parse(now.Sealing)
		mine = err != nil || s.Now() > since+sealingAtMost // whoever began it may be gone
		if mine {
			now.Sealing = s.Now().String()
		}
		return mine
	}); err != nil || !mine {
		return err
	}
	scope := EvidenceScope{At: moment.Always, Why: "at the end of the review " + r.Name}
	if r.Partner != "" {
		scope.Party = "partner:" + r.Partner
	}
	if r.Space != "" {
		scope.Resource = "space:" + r.Space
	}
	record := ""
	if scope.Party != "" || scope.Resource != "" {
		e, err := s.MakeEvidence(ctx, Who{Name: Scheduler, Role: Administrator}, scope)
		if err != nil {
			return err
		}
		record = e.ID
	}
	digest, err := s.roundDigest(ctx, r.ID)
	if err != nil {
		return err
	}
	return s.onRound(ctx, by, why, r.ID, func(now *Round) bool {
		now.Sealing, now.Closed, now.Evidence, now.Digest = "", s.Now().String(), record, digest
		return true
	})
}

// sealingAtMost is after how long another service takes over the end of a round.
const sealingAtMost = 15 * 60e6

// onRound changes a round that is not over, where fn says so.
func (s *Service) onRound(ctx context.Context, by, why, id string, fn func(*Round) bool) error {
	err := s.change(ctx, by, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("round", id)
		if err != nil {
			return err
		}
		var now Round
		if err := json.Unmarshal(doc, &now); err != nil {
			return err
		}
		if now.Closed != "" || !fn(&now) {
			return errPreview
		}
		return putJSON(t, "round", id, &now)
	})
	if errors.Is(err, errPreview) {
		return nil
	}
	return err
}

// silence does what the rule says of a line that nobody answered, and reports
// whether it ends what somebody holds.
func (s *Service) silence(r *reviewing, id string, n int) (ends bool, err error) {
	now, t, at := r.now, r.t, r.at
	list, err := t.ReviewLines(id, nil, ReviewOpen, n-1, 1)
	if err != nil || len(list) == 0 || list[0].N != n {
		return false, err
	}
	l := &list[0]
	g, put, err := r.reviewed(l)
	if err != nil {
		return false, err
	}
	l.By, l.At, l.State = Scheduler, at, ReviewGone
	if g != nil {
		l.State, l.Why = ReviewSilent, "nobody answered"
		a := g.Address
		space := g.Resource.ID
		if g.Resource.Kind != catalogue.Space {
			space = now.SpaceOf(g.Resource.ID)
		}
		if ends = now.GuestRule(a, space, ruleReviewSilence) == silenceEnds; ends {
			l.Until = at
		}
		if err := put(l); err != nil {
			return false, err
		}
	}
	return ends, s.saidOf(t, l)
}

var (
	ruleReviewSilence = catalogue.MustRule("guests.review_silence")
	silenceEnds, _    = ruleReviewSilence.Get().Scale.Parse("end")
)

// roundDigest is over the lines of a round as they stand.
func (s *Service) roundDigest(ctx context.Context, id string) (string, error) {
	h := sha256.New()
	for after := 0; ; {
		list, err := s.store.ReviewLines(ctx, id, nil, "", after, 1000)
		if err != nil {
			return "", err
		}
		if len(list) == 0 {
			return hex.EncodeToString(h.Sum(nil)), nil
		}
		for i := range list {
			l := &list[i]
			fmt.Fprintf(h, "%d\t%s\t%s\t%s\t%d\t%s\t%s\t%s\t%s\t%d\t%d\t%s%s\n", l.N, l.Party, l.Resource, l.Role, l.From, l.Bundle, l.Reviewer,
				l.State, l.By, l.At, l.Until, l.Narrowed, insteadOf(l))
		}
		after = list[len(list)-1].N
	}
}

// insteadOf is what a digest says of the item that is kept; rounds that ended before there was one have none.
func insteadOf(l *store.ReviewLine) string {
	if l.Instead == "" {
		return ""
	}
	return "\t" + l.Instead
}

// tendRounds ends rounds whose day is over, and reminds those who have not answered a week and a day before.
func (s *Service) tendRounds(ctx context.Context) error {
	at := s.Now()
	if last := moment.Moment(s.roundsAt.Load()); at < last+60e6 && at >= last {
		return nil
	}
	s.roundsAt.Store(int64(at))
	var all []Round
	if err := s.store.Records(ctx, "round", "", func(_ string, doc []byte) error {
		var r Round
		err := json.Unmarshal(doc, &r)
		if r.Closed == "" {
			all = append(all, r)
		}
		return err
	}); err != nil {
		return err
	}
	for i := range all {
		r := &all[i]
		until, err := moment.Parse(r.Until)
		if err != nil {
			return err
		}
		if until <= at {
			if err := s.closeRound(ctx, Scheduler, "the review "+r.Name+" is over", r); err != nil {
				return err
			}
			continue
		}
		if err := s.holdReviews(ctx, r); err != nil {
			return err
		}
		made, err := moment.Parse(r.Made)
		if err != nil {
			return err
		}
		for _, days := range []int{7, 1} {
			from := until - moment.Moment(days)*86400e6
			if at < from || made >= from || r.Reminded != 0 && r.Reminded <= days {
				continue
			}
			counts, err := s.store.ReviewCounts(ctx, r.ID)
			if err != nil {
				return err
			}
			v := s.viewRound(r, counts, Who{})
			if err := s.change(ctx, Scheduler, fmt.Sprintf("reminded %d days before the review %s ends", days, r.Name),
				func(now *State, t *store.Tx) error {
					doc, err := t.Record("round", r.ID)
					if err != nil {
						return err
					}
					var cur Round
					if err := json.Unmarshal(doc, &cur); err != nil {
						return err
					}
					if cur.Closed != "" || cur.Reminded != 0 && cur.Reminded <= days { // another service was first
						return errPreview
					}
					cur.Reminded = days
					if err := putJSON(t, "round", r.ID, &cur); err != nil {
						return err
					}
					return s.askReviewers(now, t, &cur, slices.Sorted(maps.Keys(v.Waits)), fmt.Sprint(days))
				}); err != nil && !errors.Is(err, errPreview) {
				return err
			}
		}
	}
	return nil
}
