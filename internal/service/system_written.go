package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/native"
	"wexillum.example/internal/store"
)

// look finds what is known of one entry: what was found of it, and how it stood.
func (s *Service) look(ctx context.Context, x *System, h *native.Holding, n *systemNames, e *comparedEntry) error {
	f, err := s.store.FoundByOurs(ctx, x.ID, h.Kind, e.key)
	if err != nil {
		return err
	}
	if err := e.was(h, f, n, s.Now()); err != nil {
		return err
	}
	r, err := s.store.SystemRecord(ctx, x.ID, h.Kind, e.key)
	if err != nil {
		return err
	}
	e.rec, err = recordOf(r)
	return err
}

// causeOf says why an entry was changed last.
func (s *Service) causeOf(ctx context.Context, kind, id string) string {
	list, err := s.store.Journal(ctx, store.JournalQuery{Kind: kind, ID: id, Limit: 1})
	if err != nil || len(list) == 0 {
		return ""
	}
	return cmp.Or(list[0].Why, "changed by "+list[0].Who)
}

// recordWriter notes how entries stand, many in one transaction.
type recordWriter struct {
	s     *Service
	x     *System
	h     *native.Holding
	place int
	cause string
	seen  stamp
	rows  []store.SystemRecord
	notes []recordNote
}

// recordNote is what the journal says of a record.
type recordNote struct {
	id, why string
	was, is native.Thing
}

func (w *recordWriter) flush(ctx context.Context) error {
	if len(w.rows) == 0 {
		return nil
	}
	rows, notes := w.rows, w.notes
	w.rows, w.notes = nil, nil
	return w.s.putRecords(ctx, w.x, rows, notes)
}

// putRecords writes how entries stand, with what the journal says of them, in one transaction.
func (s *Service) putRecords(ctx context.Context, x *System, rows []store.SystemRecord, notes []recordNote) error {
	defer s.recordsChanged()
	return s.change(ctx, Scheduler, "", func(_ *State, t *store.Tx) error {
		if doc, err := t.Record("system", x.ID); err != nil || doc == nil { // it was taken away meanwhile
			return err
		}
		for _, n := range notes {
			t.Because(n.why)
			was, err := thingDoc(n.was)
			if err != nil {
				return err
			}
			is, err := thingDoc(n.is)
			if err != nil {
				return err
			}
			if bytes.Equal(was, is) {
				was = nil
			}
			if _, err := t.Note("system_record", x.ID+" "+n.id, was, is); err != nil {
				return err
			}
		}
		return t.PutSystemRecords(x.ID, rows)
	})
}

// recordsChanged has what rests on the records of systems look at them again.
func (s *Service) recordsChanged() {
	s.recordsMoved.Lock()
	s.recordsMoved.at = time.Time{}
	s.recordsMoved.Unlock()
}

func thingDoc(t native.Thing) ([]byte, error) {
	if t == nil {
		return nil, nil
	}
	return json.Marshal(t)
}

// stands finds how an entry stands after a reading, and notes it where that changed.
func (w *recordWriter) stands(ctx context.Context, e *comparedEntry) error {
	next := w.next(e)
	if next == nil || next == e.rec {
		return nil
	}
	next.Kind, next.Ours, next.Place = w.h.Kind, e.key, w.place
	next.Native = cmp.Or(e.native, next.Native)
	if e.rec != nil {
		next.Native = cmp.Or(next.Native, e.rec.Native)
	}
	if next.open() && next.Cause == "" {
		next.Cause = w.cause
	}
	row, err := next.row()
	if err != nil {
		return err
	}
	if next.Meant == nil && next.State == StepConfirmed && next.Drift == nil { // it is not there, as it should not be
		if e.rec == nil {
			return nil
		}
		row.Doc = nil
	}
	if next.Drift != nil && (e.rec == nil || e.rec.Drift == nil) {
		w.notes = append(w.notes, recordNote{w.h.Kind + " " + e.key, next.inWords(w.x, w.h), next.Meant, next.Drift.Found})
	}
	if next.State == StepDiffers && next.Problem != "" {
		w.notes = append(w.notes, recordNote{w.h.Kind + " " + e.key, next.inWords(w.x, w.h), next.Meant, e.found})
	}
	if w.rows = append(w.rows, row); len(w.rows) >= readBatch {
		return w.flush(ctx)
	}
	return nil
}

// next says how an entry stands now; what it returned before where nothing changes.
func (w *recordWriter) next(e *comparedEntry) *CarriedRecord {
	h, x, c, now := w.h, w.x, e.rec, stamp(w.s.Now())
	right := !h.Differs(e.found, e.meant)
	carry := x.Mode == ModeCarry
	fresh := func() *CarriedRecord {
		return &CarriedRecord{State: StepWaiting, Meant: e.meant, Was: e.found, Turn: h.Turn(e.found, e.meant), Made: now}
	}
	shown := func() *CarriedRecord {
		n := fresh()
		n.Shown = true
		return n
	}
	confirmed := func() *CarriedRecord {
		n := &CarriedRecord{State: StepConfirmed, Meant: e.meant, Confirmed: w.seen}
		if c != nil {
			n.Shown = c.Shown
			n.Turn, n.Sent, n.BackOn, n.Back = c.Turn, c.Sent, c.BackOn, c.Back
		}
		return n
	}
	differs := func() *CarriedRecord {
		return &CarriedRecord{State: StepDiffers, Meant: e.meant, Was: e.found, Turn: h.Turn(e.found, e.meant), Made: now}
	}
	switch {
	case c == nil && e.meant == nil:
		return nil // it stands for nothing here
	case c == nil && right:
		return confirmed()
	case c == nil && carry:
		return fresh()
	case c == nil:
		return differs()
	case h.Differs(c.Meant, e.meant): // something else is meant now
		switch {
		case right && !c.open():
			return confirmed()
		case carry:
			return fresh()
		}
		return differs()
	}
	n := *c
	n.Meant = e.meant
	switch c.State {
	case StepSettling:
		switch {
		case c.Counts > 0 && w.seen < c.Counts:
			return c
		case right:
			return confirmed()
		}
		n.State, n.Problem = StepDiffers, "it took the change, and shows: "+h.Text(e.found)
		return &n
	case StepWaiting, StepFailed:
		if right && w.seen > c.Made {
			return confirmed()
		}
		return c
	case StepSent:
		return c
	case StepDiffers:
		switch {
		case right && w.seen > c.Made:
			return confirmed()
		case c.Problem == "" && carry: // it was shown before
			return shown()
		}
		return c
	}
	// Confirmed: whatever differs now was changed there.
	switch {
	case right && c.Drift == nil:
		return c
	case right:
		n.Drift = nil
		return &n
	case c.Drift != nil && c.Drift.Looked && c.Drift.Accepted == 0 && carry:
		return shown()
	case c.Drift != nil && !h.Differs(c.Drift.Found, e.found):
		if c.Drift.Accepted != 0 && now >= c.Drift.Accepted {
			drift := *c.Drift
			drift.Accepted, drift.Who, drift.Why = 0, "", ""
			n.Drift = &drift
			return &n
		}
		return c
	case w.seen <= c.Confirmed:
		return c // nothing newer was read
	}
	n.Drift = &RecordDrift{Found: e.found, By: e.by, After: c.Confirmed, Since: w.seen, Looked: x.Mode == ModeLook}
	if today, back, may := w.s.putsBack(x, h.Turn(e.found, e.meant), c.BackOn, c.Back); may {
		n = *fresh()
		n.Cause, n.BackOn, n.Back = fmt.Sprintf("put back by itself: it was opened in %s", x.Name), today, back
	}
	return &n
}

// inWords says how a record stands.
func (c *CarriedRecord) inWords(x *System, h *native.Holding) string {
	what := fmt.Sprintf("%s: %s %s", x.Name, strings.ReplaceAll(c.Kind, "_", " "), c.Ours)
	switch {
	case c.Drift != nil && c.Drift.Accepted != 0:
		return fmt.Sprintf("%s reads otherwise; let be", what)
	case c.Drift != nil && c.Drift.Found == nil:
		return fmt.Sprintf("%s was taken away there", what)
	case c.Drift != nil:
		return fmt.Sprintf("%s was changed there: %s", what, h.Text(c.Drift.Found))
	}
	switch c.State {
	case StepSent, StepWaiting:
		if c.Meant == nil {
			return fmt.Sprintf("%s is taken away there", what)
		}
		return fmt.Sprintf("%s is written there: %s", what, h.Text(c.Meant))
	case StepFailed:
		return fmt.Sprintf("%s could not be written: %s", what, c.Problem)
	case StepDiffers:
		return fmt.Sprintf("%s is not as it was written: %s", what, c.Problem)
	}
	return fmt.Sprintf("%s: %s", what, c.State)
}

func sortedKeys[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }
