package service

import (
	"cmp"
	"context"
	"encoding/json"
	"maps"
	"slices"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/evidence"
	"wexillum.example/internal/store"
)

// What trials and reviews say beside a record of reach.

// triedDays is how long what a trial showed is told, and reviewedDays how long what came of a round of review is.
const (
	triedDays    = 30
	reviewedDays = 366
)

// triedBefore says what trials at each system showed before a moment: of each question the last one.
func (s *Service) triedBefore(ctx context.Context, at moment.Moment) (out []evidence.Tried, err error) {
	by := map[string]*evidence.Tried{}
	seen := map[Asked]bool{}
	since := at - triedDays*86400e6
	for before := uint64(0); ; {
		entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: "trial", Before: before, Limit: 500})
		if err != nil {
			return nil, err
		}
		for i := range entries {
			before = entries[i].Seq
			var x Trial
			if err := json.Unmarshal(entries[i].Now, &x); err != nil {
				return nil, err
			}
			when, err := moment.Parse(x.At)
			if err != nil || when > at || seen[x.Asked] {
				continue
			}
			if when < since {
				entries = nil
				break
			}
			seen[x.Asked] = true
			t := by[x.System]
			if t == nil {
				t = &evidence.Tried{System: cmp.Or(x.System, "none"), Last: x.At}
				by[x.System] = t
			}
			switch x.Outcome {
			case TrialAdmitted:
				t.Admitted++
			case TrialRefused:
				t.Refused++
			default:
				t.Nothing++
			}
			if x.Outcome == TrialAdmitted && x.Meant == "no" || x.Outcome == TrialRefused && x.Meant == "yes" {
				t.Differs++
			}
			if x.Contradiction {
				t.Contradictions++
			}
		}
		if len(entries) < 500 {
			break
		}
	}
	for _, id := range slices.Sorted(maps.Keys(by)) {
		out = append(out, *by[id])
	}
	return out, nil
}

// reviewedBefore lists the rounds of review that ended in the year before a moment, and those that are open where it is now. One whose end
// is being sealed is over.
func (s *Service) reviewedBefore(ctx context.Context, st *State, at moment.Moment) (out []evidence.Reviewed, err error) {
	rounds, err := s.Rounds(ctx, Who{Name: Scheduler, Role: Administrator})
	if err != nil {
		return nil, err
	}
	now := s.Now()
	for i := range rounds {
		r := &rounds[i]
		x := evidence.Reviewed{ID: r.ID, Says: r.About(st), Begun: r.Made, Ended: cmp.Or(r.Closed, r.Sealing), Lines: r.Lines, Answers: r.States,
			Digest: r.Digest}
		ended, over := moment.Parse(x.Ended)
		switch {
		case over == nil && (ended > at+60e6 || ended < at-reviewedDays*86400e6): // the record of a round is made while it is sealed
		case over != nil && at < now-60e6: // how far it had come then is not kept
		default:
			out = append(out, x)
		}
	}
	return out, nil
}

// RecordTrials makes a record of reach at the end of a plan of trials at a system: of a partner's people, or of everybody.
func (s *Service) RecordTrials(ctx context.Context, who Who, id, partner string) (*Evidence, error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	scope := EvidenceScope{At: moment.Always, Why: "at the end of the trials at " + x.Name}
	if partner != "" {
		scope.Party = "partner:" + partner
	}
	return s.MakeEvidence(ctx, who, scope)
}
