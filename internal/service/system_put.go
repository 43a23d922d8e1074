package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/store"
)

// causeNow says what changed what is meant last.
func (s *Service) causeNow(ctx context.Context, st *State, x *System) string {
	list, err := s.store.Revisions(ctx, st.Head.Revision+1, 1)
	if err != nil || len(list) == 0 {
		return ""
	}
	if stamp(moment.Of(list[0].At)) <= x.Since {
		return "it was to be carried"
	}
	if list[0].Why == "" {
		return fmt.Sprintf("revision %d", list[0].Number)
	}
	return fmt.Sprintf("revision %d: %s", list[0].Number, list[0].Why)
}

// putSettings writes down how settings stand, in one transaction.
func (s *Service) putSettings(ctx context.Context, x *System, list []*CarriedSetting, why string) error {
	if len(list) == 0 {
		return nil
	}
	return s.change(ctx, Scheduler, why, func(_ *State, t *store.Tx) error {
		if doc, err := t.Record("system", x.ID); err != nil || doc == nil { // it was taken away meanwhile
			return err
		}
		for _, c := range list {
			doc, err := json.Marshal(c)
			if err != nil {
				return err
			}
			was, err := t.Record("system_setting", x.ID+" "+c.Path)
			if err != nil {
				return err
			}
			if bytes.Equal(was, doc) {
				continue
			}
			t.Because(cmp.Or(why, c.inWords()))
			if _, err := t.PutRecord("system_setting", x.ID+" "+c.Path, doc); err != nil {
				return err
			}
		}
		return nil
	})
}

// inWords says what became of a setting.
func (c *CarriedSetting) inWords() string {
	switch {
	case c.Drift != nil && c.Drift.Accepted != 0:
		return fmt.Sprintf("%s says %q instead of %q; accepted", c.Path, c.Drift.Found, c.Meant)
	case c.Drift != nil:
		return fmt.Sprintf("%s was changed there: it says %q, and %q is meant", c.Path, c.Drift.Found, c.Meant)
	}
	switch c.State {
	case StepWaiting:
		return fmt.Sprintf("%s is to become %q; it says %q", c.Path, c.Meant, c.Was)
	case StepSent:
		return fmt.Sprintf("%s is being set to %q", c.Path, c.Meant)
	case StepSettling:
		return fmt.Sprintf("%s was taken as %q and is not yet expected to count", c.Path, c.Meant)
	case StepConfirmed:
		return fmt.Sprintf("%s says %q, as it is meant", c.Path, c.Meant)
	case StepFailed:
		return fmt.Sprintf("%s could not be set to %q: %s", c.Path, c.Meant, c.Problem)
	case StepByHand:
		return fmt.Sprintf("%s is to become %q by hand; it says %q", c.Path, c.Meant, c.Was)
	}
	return fmt.Sprintf("%s should say %q: %s", c.Path, c.Meant, c.Problem)
}

// order puts what tightens before what loosens (systems.md §4).
func order(a, b *CarriedSetting) int {
	rank := func(c *CarriedSetting) int {
		if c.Turn == native.Tightens {
			return 0
		}
		return 1
	}
	return cmp.Or(cmp.Compare(rank(a), rank(b)), cmp.Compare(a.Made, b.Made), cmp.Compare(a.Path, b.Path))
}

// send writes what waits to a system: what tightens first, and nothing that loosens while a tightening
// of the same rule fails.
func (s *Service) send(ctx context.Context, x *System, all map[string]*CarriedSetting) error {
	now, d := stamp(s.Now()), x.dialect()
	var out []*CarriedSetting
	stuck := map[string]bool{}
	for _, c := range all {
		if c.Turn == native.Tightens && (c.State == StepFailed && c.Next > now || c.State == StepByHand) {
			stuck[d.RuleAt(c.Path)] = true
		}
	}
	for _, c := range all {
		if c.State == StepWaiting || c.State == StepFailed && c.Next <= now {
			if c.Turn != native.Tightens && stuck[d.RuleAt(c.Path)] {
				continue
			}
			n := *c
			n.State, n.Sent, n.Tries = StepSent, now, c.Tries+1
			out = append(out, &n)
		}
	}
	if len(out) == 0 {
		return nil
	}
	slices.SortFunc(out, order)
	if err := s.putSettings(ctx, x, out, ""); err != nil { // before anything is sent
		return err
	}
	c, err := s.connector(x)
	if err != nil {
		return s.store.Worked(ctx, x.ID, moment.Moment(now), err.Error())
	}
	for _, n := range out {
		err := c.Write(ctx, n.Path, n.Meant)
		at := stamp(s.Now())
		if err != nil {
			n.State, n.Problem = StepFailed, err.Error()
			n.Next = at + stamp(s.pause(n.Tries))
			if n.Turn == native.Tightens {
				stuck[d.RuleAt(n.Path)] = true
			}
			continue
		}
		n.State, n.Problem, n.Next = StepSettling, "", 0
		if span, _, _ := d.Setting(n.Path); span >= 0 {
			n.Counts = at + stamp(float64(span.Microseconds())/s.faster())
		}
	}
	return s.putSettings(context.WithoutCancel(ctx), x, out, "")
}

// faster is by how much the spans of systems are shorter than their dialects say: in a demo and in tests.
func (s *Service) faster() float64 {
	if s.spans > 0 {
		return s.spans
	}
	return 1
}

// SetFaster makes every span of systems shorter by a factor, as the suite of the demo does.
func (s *Service) SetFaster(by float64) { s.spans = by }

// pause is how long something that failed so often is left alone.
func (s *Service) pause(fails int) moment.Moment {
	return moment.Moment(float64(min(mostPause, moment.Moment(1_000_000)<<min(fails, 20))) / s.faster())
}
