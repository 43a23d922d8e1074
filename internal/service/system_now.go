package service

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// recordsNow is a number that moves with what is known of the records of systems. That of another service is
// seen within a second, and the last one stands where the database does not answer: answers do not wait.
func (s *Service) recordsNow(ctx context.Context) uint64 {
	s.recordsMoved.Lock()
	defer s.recordsMoved.Unlock()
	if time.Since(s.recordsMoved.at) > time.Second {
		if n, err := s.store.RecordsNow(ctx); err == nil {
			s.recordsMoved.n = n
		}
		s.recordsMoved.at = time.Now()
	}
	return s.recordsMoved.n
}

// onItsWay finds to which systems a change is on its way.
func (s *Service) onItsWay(ctx context.Context) (*ways, error) {
	head := fmt.Sprint(s.State().Head, s.recordsNow(ctx))
	if kept := s.ways.Load(); kept != nil && kept.of == head {
		return kept, nil
	}
	list, err := s.Systems(ctx)
	if err != nil {
		return nil, err
	}
	out := &ways{head, list, map[string]way{}}
	for i := range list {
		x := &list[i]
		if x.Mode != ModeCarry {
			continue
		}
		all, err := s.settingsOf(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		w := way{}
		for path, c := range all {
			if c.open() {
				from := moment.Moment(0)
				if c.Counts > 0 && c.State == StepSettling {
					from = moment.Moment(c.Counts)
				}
				w.settings = append(w.settings, openSetting{x.dialect().RulesBetween(path, c.Was, c.Meant), from})
			}
		}
		if w.records, w.unsent, w.last, err = s.store.OpenRecords(ctx, x.ID); err != nil {
			return nil, err
		}
		out.by[x.ID] = w
	}
	s.ways.Store(out)
	return out, nil
}

// Settling tells whether an answer of what is meant is not yet what the systems do, and a change on
// its way would make it so; from is when that is expected, 0 where nobody knows (systems.md §3).
func (s *Service) Settling(ctx context.Context, q *engine.Question, yes bool) (from moment.Moment, settling bool, err error) {
	ways, err := s.onItsWay(ctx)
	if err != nil {
		return 0, false, err
	}
	w, _ := ways.to(q.Action)
	if !w.open {
		return 0, false, nil
	}
	st, err := s.StateFound(ctx, !yes)
	if err != nil {
		return 0, false, err
	}
	v, err := st.Decide(q)
	if err != nil || v.Yes == yes {
		return 0, false, nil
	}
	return w.from, true, nil
}

// inSuite reports whether a yes has reached the suite: the system that carries it, where one does, was
// read after all that was on its way, and does the same.
func (s *Service) inSuite(ctx context.Context, q *engine.Question) (bool, error) {
	ways, err := s.onItsWay(ctx)
	if err != nil {
		return false, err
	}
	w, carried := ways.to(q.Action)
	if !carried {
		return true, nil
	}
	if w.open {
		return false, nil
	}
	st, err := s.StateFound(ctx, false)
	if err != nil {
		return false, err
	}
	v, err := st.Decide(q)
	return err == nil && v.Yes, nil
}

// systemFindings are what is to be decided about systems.
func (s *Service) systemFindings(ctx context.Context, now moment.Moment) (out []finding.Finding, err error) {
	list, err := s.Systems(ctx)
	if err != nil {
		return nil, err
	}
	for i := range list {
		x := &list[i]
		add := func(kind, about, cause string, args ...any) {
			ids := []string{"system:" + x.ID}
			if about != "" {
				ids = append(ids, about)
			}
			id := kind + " " + x.ID
			if about != "" {
				id += " " + about
			}
			out = append(out, finding.Finding{ID: id, Kind: kind, About: ids, Cause: fmt.Sprintf(cause, args...)})
		}
		if x.Mode == ModePaused {
			continue
		}
		r, err := s.store.ReadingOf(ctx, x.ID, moment.Never-1)
		if err != nil {
			return nil, err
		}
		work, err := s.store.WorkOn(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		switch {
		case work.Problem != "":
			add("system_away", "", "%s cannot be worked on: %s.", x.Name, work.Problem)
		case r != nil && now > r.Seen+3*moment.Moment(x.Minutes)*60e6:
			add("system_away", "", "%s was read last at %s, longer ago than three times its %d minutes.", x.Name, r.Seen, x.Minutes)
		}
		all, err := s.settingsOf(ctx, x.ID)
		if err != nil {
			return nil, err
		}
		for _, path := range slices.Sorted(maps.Keys(all)) {
			c := all[path]
			switch {
			case c.Drift != nil && c.Drift.Accepted == 0:
				add("system_changed", path, "%s says %q for %s, and %q is meant.", x.Name, c.Drift.Found, path, c.Meant)
			case c.State == StepDiffers && c.Problem != "":
				add("system_differs", path, "%s does not hold what was written: %s.", x.Name, c.inWords())
			case c.State == StepFailed && c.Tries > 3:
				add("system_differs", path, "%s could not be written %d times: %s.", x.Name, c.Tries, c.Problem)
			case c.State == StepByHand:
				add("system_by_hand", path, "%s waits for somebody: %s.", x.Name, c.inWords())
			}
		}
		if err := s.recordFindings(ctx, x, work, add); err != nil {
			return nil, err
		}
		if r != nil {
			for _, u := range x.dialect().From(r.Values).Unread {
				add("system_unread", u.Path, "%s of %s carries %s, and is not understood: %s.", u.Path, x.Name, u.Rule, u.Why)
			}
		}
	}
	return out, nil
}

// recordFindings are what is to be decided about what a system keeps of our inventory: one for each kind.
func (s *Service) recordFindings(ctx context.Context, x *System, work store.Work, add func(kind, about, cause string, args ...any)) error {
	kinds, err := s.kindsNow(ctx, x, work)
	if err != nil {
		return err
	}
	for _, k := range kinds {
		if n := k.Unknown - k.Accepted; n > 0 {
			add("system_unknown", k.Kind, "%s keeps %s for nothing here.", x.Name, thatStand(n, k.Kind))
		}
		differs := 0
		if x.Mode == ModeCarry {
			differs = k.Differ
		}
		if n := k.Drift + differs; n > 0 {
			add("system_records", k.Kind, "%s: %d of its %s, %d changed there and %d not as they were written.", x.Name, n, pluralOf(k.Kind),
				k.Drift, differs)
		}
	}
	if work.Braked > 0 {
		add("system_braked", "",
			"%s: %d guests, grants or links wait to be taken away or let in there, more than the %d that go in a day unasked.", x.Name, work.Braked,
			x.BrakeNow())
	}
	if work.Empty != "" && work.Empty != emptyIsRight {
		add("system_empty", "", "%s shows no %s any more, and kept some before.", x.Name, work.Empty)
	}
	return nil
}

// pluralOf names several entries of a kind.
func pluralOf(kind string) string { return strings.ReplaceAll(kind, "_", " ") + "s" }

func thatStand(n int, kind string) string {
	if n == 1 {
		return "1 " + strings.ReplaceAll(kind, "_", " ") + " that stands"
	}
	return fmt.Sprintf("%d %s that stand", n, pluralOf(kind))
}

// TakeOver makes a draft of what a system holds: its settings as policy, in their loosest faithful
// reading, and says what of it is no policy. With path it takes that setting alone.
func (s *Service) TakeOver(ctx context.Context, who Who, id, path string) (draft string, left []string, err error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return "", nil, err
	}
	r, err := s.store.ReadingOf(ctx, id, moment.Never-1)
	if err != nil {
		return "", nil, err
	}
	if r == nil {
		return "", nil, fmt.Errorf("%w: %s was never read", ErrConflict, x.Name)
	}
	d := x.dialect()
	if _, _, ok := d.Setting(path); path != "" && !ok {
		return "", nil, &Invalid{"setting", path, "it is none that carries a rule"}
	}
	name := "Taken over from " + x.Name
	if path != "" {
		name += ": " + path
	}
	st := s.State()
	m, err := s.meantNow(ctx, st, x)
	if err != nil {
		return "", nil, err
	}
	var taken *native.Taken
	draft, err = s.MakeDraftOf(ctx, who.Name, name, "what "+x.Name+" held at "+r.Seen.String(), func(now *State) (*world.World, error) {
		m.Policy = now.Policy()
		taken = d.Take(m, r.Values, path)
		if len(taken.Rules)+len(taken.Opened) == 0 {
			return nil, fmt.Errorf("%w: what is meant is what it holds already", ErrConflict)
		}
		w := *now.Policy()
		w.Partners = slices.Clone(w.Partners)
		for i := range w.Partners {
			p := &w.Partners[i]
			for _, o := range taken.Opened {
				if o.Partner == p.ID {
					p.Opened[o.Key] = o.To
				}
			}
		}
		part := &world.World{}
		part.Rules = taken.Rules
		return world.Merge(&w, part), nil
	})
	if taken != nil {
		left = taken.Left
	}
	if path == "" {
		for p, v := range r.Values {
			if _, _, known := d.Setting(p); !known {
				left = append(left, fmt.Sprintf("%s is %q, which carries no rule of ours", p, v))
			}
		}
	}
	slices.Sort(left)
	return draft, left, err
}

// SystemsNow counts what metrics tell of systems.
type SystemsNow struct {
	Away, Open, Wrong, Drift                                        int // of settings
	RecordsOpen, RecordsWrong, RecordsDrift, RecordsUnknown, Braked int
	Read                                                            []ReadAt
}

// ReadAt is when a system was read last.
type ReadAt struct {
	System string
	At     moment.Moment
}

// SystemsNow counts how settings stand in all systems; nothing where the database does not say.
func (s *Service) SystemsNow() (n SystemsNow) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Second)
	defer cancel()
	list, err := s.Systems(ctx)
	if err != nil {
		return
	}
	for i := range list {
		if at, err := s.store.SeenLast(ctx, list[i].ID); err == nil && at.IsSet() {
			n.Read = append(n.Read, ReadAt{list[i].ID, at})
		}
		if work, err := s.store.WorkOn(ctx, list[i].ID); err == nil {
			if n.Braked += work.Braked; work.Problem != "" {
				n.Away++
			}
			if kinds, err := s.kindsNow(ctx, &list[i], work); err == nil {
				for _, k := range kinds {
					n.RecordsOpen, n.RecordsWrong, n.RecordsDrift, n.RecordsUnknown = n.RecordsOpen+k.Open, n.RecordsWrong+k.Differ,
						n.RecordsDrift+k.Drift, n.RecordsUnknown+k.Unknown-k.Accepted
				}
			}
		}
		all, err := s.settingsOf(ctx, list[i].ID)
		if err != nil {
			continue
		}
		for _, c := range all {
			switch {
			case c.Drift != nil:
				n.Drift++
			case c.open() && c.State != StepFailed:
				n.Open++
			case c.State != StepConfirmed:
				n.Wrong++
			}
		}
	}
	return
}
