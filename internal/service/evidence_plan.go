package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// EvidencePlan has a record of reach made again and again.
type EvidencePlan struct {
	ID       string   `json:"id"`
	Party    string   `json:"party"`
	Action   string   `json:"action"`
	Resource string   `json:"resource"`
	Every    int      `json:"every"` // days
	Why      string   `json:"why"`
	SignOff  []string `json:"sign_off,omitempty"`
	By       string   `json:"by"`
	Next     string   `json:"next"` // the moment at which the next is made
	Last     string   `json:"last,omitempty"`
	Problem  string   `json:"problem,omitempty"` // why the last one could not be made
}

const (
	evidencePlanKind = "evidence_plan"
	mostPlans        = 100
)

// Says says in a sentence what is recorded.
func (p *EvidencePlan) Says(st *State) string {
	return recordSays(st, &world.Expectation{Party: p.Party, Action: p.Action, Resource: p.Resource})
}

func planFrom(doc []byte) (p *EvidencePlan, err error) {
	p = &EvidencePlan{}
	return p, json.Unmarshal(doc, p)
}

// PlanEvidence has a record made every so many days, the first at once.
func (s *Service) PlanEvidence(ctx context.Context, who Who, x EvidenceScope, every int) (*EvidencePlan, error) {
	if every < 1 || every > 366 {
		return nil, &Invalid{"every", fmt.Sprint(every), "write days, 1 to 366"}
	}
	read, _, err := s.recordScope(ctx, s.State(), &x)
	if err != nil {
		return nil, err
	}
	p := &EvidencePlan{Party: read.Party, Action: read.Action, Resource: read.Resource, Every: every, Why: x.Why, SignOff: x.SignOff,
		By: who.Name, Next: s.Now().String()}
	p.ID = "every-" + fmt.Sprint(every) + "-" + strings.ToLower(rand.Text()[:4])
	all, err := s.EvidencePlans(ctx)
	if err != nil {
		return nil, err
	}
	if len(all) >= mostPlans {
		return nil, fmt.Errorf("%w: there are %d plans already; end one first", ErrConflict, len(all))
	}
	return p, s.change(ctx, who.Name, p.Why, func(_ *State, t *store.Tx) error { return putJSON(t, evidencePlanKind, p.ID, p) })
}

// EvidencePlans lists them, the next to be made first.
func (s *Service) EvidencePlans(ctx context.Context) ([]EvidencePlan, error) {
	out := []EvidencePlan{}
	err := s.store.Records(ctx, evidencePlanKind, "", func(_ string, doc []byte) error {
		p, err := planFrom(doc)
		if err == nil {
			out = append(out, *p)
		}
		return err
	})
	slices.SortFunc(out, func(a, b EvidencePlan) int {
		return cmp.Or(strings.Compare(a.Next, b.Next), strings.Compare(a.ID, b.ID))
	})
	return out, err
}

// EndEvidencePlan has no more records made; those that were made stay.
func (s *Service) EndEvidencePlan(ctx context.Context, who Who, id, why string) error {
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record(evidencePlanKind, id)
		if err == nil && doc == nil {
			err = fmt.Errorf("%w: there is no plan %q", ErrNotFound, id)
		}
		if err == nil {
			_, err = t.EndRecord(evidencePlanKind, id)
		}
		return err
	})
}

// MakePlanned makes the records that are due. Of several services one makes each: whoever moves its next moment. What was missed while
// nothing ran is made once.
func (s *Service) MakePlanned(ctx context.Context) error {
	all, err := s.EvidencePlans(ctx)
	if err != nil {
		return err
	}
	now := s.Now()
	for i := range all {
		p := &all[i]
		if next, err := moment.Parse(p.Next); err != nil || next > now {
			continue
		}
		mine := false
		edit := func(fn func(p *EvidencePlan) bool) error {
			return s.change(ctx, Scheduler, p.Why, func(_ *State, t *store.Tx) error {
				doc, err := t.Record(evidencePlanKind, p.ID)
				if err != nil || doc == nil {
					return errors.Join(err, errPreview)
				}
				now, err := planFrom(doc)
				if err != nil {
					return err
				}
				if !fn(now) {
					return errPreview
				}
				return putJSON(t, evidencePlanKind, p.ID, now)
			})
		}
		err := edit(func(x *EvidencePlan) bool {
			if mine = x.Next == p.Next; mine {
				zone := s.State().Zone()
				x.Next = (moment.DayOf(now, zone) + moment.Day(p.Every)).Start(zone).String()
			}
			return mine
		})
		if err != nil && !errors.Is(err, errPreview) {
			return err
		}
		if !mine {
			continue
		}
		e, err := s.MakeEvidence(ctx, Who{Name: Scheduler, Role: Administrator},
			EvidenceScope{Party: p.Party, Action: p.Action, Resource: p.Resource, At: moment.Always,
				Why: p.Why + " (every " + fmt.Sprint(p.Every) + " days, planned by " + p.By + ")", SignOff: p.SignOff})
		problem := ""
		if err != nil {
			problem = err.Error()
		}
		if err := edit(func(x *EvidencePlan) bool {
			if x.Problem = problem; e != nil {
				x.Last = e.ID
			}
			return true
		}); err != nil && !errors.Is(err, errPreview) {
			return err
		}
	}
	return nil
}

// RunEvidencePlans makes the records that are due until the context ends. Several services may do it at once.
func (s *Service) RunEvidencePlans(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "planned records cannot be made", "planned records are made again", func() error { return s.MakePlanned(ctx) })
}
