package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

const (
	sendBatch     = 100   // records are written so many at a time before it is noted how they stand
	touchedAtOne  = 2000  // more entries than that are compared by going through all
	refusedAtMost = 2     // so often a record is sent again that a system refuses by its rules
	asideMost     = 20000 // so many records that stand otherwise are laid over the inventory
)

// comparedUpTo is up to where in the journal the records of a system were compared, and in which mode.
type comparedUpTo struct {
	head store.Head
	mode Mode
}

// workRecords reads, compares and writes what a system keeps of our inventory. due says that its records
// are to be read as a whole.
func (s *Service) workRecords(ctx context.Context, x *System, c Connector, due bool) error {
	if len(x.dialect().Holdings) == 0 {
		return nil
	}
	st := s.State()
	began := s.Now()
	if due {
		if err := s.readRecords(ctx, x, c); err != nil {
			return err
		}
	}
	work, err := s.store.WorkOn(ctx, x.ID)
	if err != nil || work.Listed == 0 {
		return err
	}
	s.recordsCompared.Lock()
	last, ok := s.recordsCompared.by[x.ID]
	s.recordsCompared.Unlock()
	switch {
	case due || !ok || last.mode != x.Mode:
		seen := began
		if !due {
			seen = work.Listed
		}
		if err := s.compareRecords(ctx, x, seen); err != nil {
			return err
		}
	case last.head != st.Head:
		touched, many, err := s.store.TouchedIDs(ctx, last.head.Seq, st.Head.Seq, touchedAtOne, append(native.ThingKinds(), "holding")...)
		if err != nil {
			return err
		}
		for i := range touched { // what is held of a bundle is kept there as what it gives
			if touched[i][0] == "holding" {
				party, _ := world.HoldingOf(touched[i][1])
				touched[i] = [2]string{"grant", party + " a:b c d"}
			}
		}
		if many {
			err = s.compareRecords(ctx, x, work.Listed)
		} else if len(touched) > 0 {
			err = s.compareSome(ctx, x, touched, work.Listed)
		}
		// guests say in which they are
		if err == nil && !many && slices.ContainsFunc(touched, func(k [2]string) bool { return k[0] == "group" }) {
			err = s.compareRecords(ctx, x, work.Listed, "guest")
		}
		if err == nil && last.head.Revision != st.Head.Revision && !many { // the rules decide which links open anything
			err = s.compareRecords(ctx, x, work.Listed, "link")
			if err == nil && len(st.Policy().Bundles) > 0 { // and bundles what follows from holding them
				err = s.compareRecords(ctx, x, work.Listed, "grant")
			}
		}
		if err != nil {
			return err
		}
	}
	s.recordsCompared.Lock()
	if s.recordsCompared.by == nil {
		s.recordsCompared.by = map[string]comparedUpTo{}
	}
	s.recordsCompared.by[x.ID] = comparedUpTo{st.Head, x.Mode}
	s.recordsCompared.Unlock()
	if err := s.confirmRecords(ctx, x, c); err != nil {
		return err
	}
	if x.Mode != ModeCarry {
		return nil
	}
	return s.sendRecords(ctx, x, c)
}

// confirmRecords looks at each record that should count by now.
func (s *Service) confirmRecords(ctx context.Context, x *System, c Connector) error {
	for {
		list, err := s.store.RecordsToConfirm(ctx, x.ID, s.Now(), sendBatch)
		if err != nil || len(list) == 0 {
			return err
		}
		n, err := s.systemNames(ctx, s.State(), x)
		if err != nil {
			return err
		}
		later := 0
		for i := range list {
			h, ok := x.dialect().Holding(list[i].Kind)
			if !ok {
				continue
			}
			seen := s.Now()
			w := &recordWriter{s: s, x: x, h: h, place: list[i].Place, seen: stamp(seen)}
			if id := list[i].Native; id != "" {
				k, err := c.One(ctx, h.Name, id)
				if err != nil {
					return err
				}
				if k == nil {
					err = s.store.GoneFound(ctx, x.ID, h.Kind, id, seen)
				} else {
					err = s.keepOne(ctx, x, h, n, *k, seen)
				}
				if err != nil {
					return err
				}
			}
			e := &comparedEntry{key: list[i].Ours}
			if err := s.look(ctx, x, h, n, e); err != nil {
				return err
			}
			if e.rec == nil {
				continue
			}
			e.meant = e.rec.Meant
			if err := w.stands(ctx, e); err != nil {
				return err
			}
			if len(w.rows) == 0 {
				later++
			}
			if err := w.flush(ctx); err != nil {
				return err
			}
		}
		if later == len(list) {
			return nil
		}
	}
}

// keepOne takes one record into the database as it was just read.
func (s *Service) keepOne(ctx context.Context, x *System, h *native.Holding, n *systemNames, k native.Kept, seen moment.Moment) error {
	f, err := foundRecord(h, k)
	if err != nil {
		return err
	}
	batch := []store.FoundRecord{f}
	if err := s.known(ctx, x, h, n, batch, seen); err != nil {
		return err
	}
	_, err = s.store.PutFound(ctx, x.ID, h.Kind, seen, batch)
	return err
}

// brakeRecords reports what is held in a system: what is taken from people there, or given to them, that would be more
// than goes in a day, and nobody has said that it may (systems.md §4). What was shown before the system was carried
// has been answered for.
func (s *Service) brakeRecords(ctx context.Context, x *System) (held store.Held, err error) {
	limit := x.BrakeNow()
	n := 0
	if limit > 0 && moment.Moment(x.Released)+3600e6 < s.Now() {
		since := max(s.Now()-24*3600e6, moment.Moment(x.Released))
		for turn, hold := range map[native.Turn]*bool{native.Tightens: &held.Tightens, native.Loosens: &held.Loosens} {
			done, waiting, err := s.store.TurnedSince(ctx, x.ID, string(turn), since)
			if err != nil {
				return held, err
			}
			most := limit
			if turn == native.Tightens {
				answered, err := s.letGoSince(ctx, since)
				if err != nil {
					return held, err
				}
				most += answered
			}
			if *hold = waiting > 0 && done+waiting > most; *hold {
				n += waiting
			}
		}
	}
	return held, s.store.BrakedAt(ctx, x.ID, n)
}

// letGoKind is the kind of the entry that says how many records somebody let go who saw the number first.
const letGoKind = "let_go"

// noteLetGo notes that somebody let so many records go, having seen the number, so that no system asks again.
func noteLetGo(t *store.Tx, n int) error {
	if n == 0 {
		return nil
	}
	_, err := t.Note(letGoKind, "dates", nil, fmt.Appendf(nil, `{"records":%d}`, n))
	return err
}

// letGoSince is how many records somebody let go since a moment who saw the number first, in publishing or at the
// brake of dates (systems.md §4).
func (s *Service) letGoSince(ctx context.Context, since moment.Moment) (n int, err error) {
	list, err := s.store.Journal(ctx, store.JournalQuery{Kind: letGoKind, Limit: 1000})
	for i := range list {
		if moment.Of(list[i].At) < since {
			break
		}
		var x struct{ Records int }
		if err := json.Unmarshal(list[i].Now, &x); err != nil {
			return 0, err
		}
		n += x.Records
	}
	return n, err
}

// BrakeNow is how many records may be taken from people, or given to them, in a day; 0 for any number.
func (x *System) BrakeNow() int {
	if x.Brake == 0 {
		return int(world.StartBrake)
	}
	return max(x.Brake, 0)
}

// BrakeOf is how a System keeps a number that BrakeNow returns.
func BrakeOf(n int) int {
	if n == 0 {
		return -1
	}
	return n
}

// sendRecords writes what waits, some at a time: first what tightens. It ends where nothing waits, where the
// system takes no more calls for now, and where the context does.
func (s *Service) sendRecords(ctx context.Context, x *System, c Connector) error {
	held, err := s.brakeRecords(ctx, x)
	if err != nil {
		return err
	}
	for {
		now := s.Now()
		if ok, _, err := s.store.HoldSystem(ctx, x.ID, s.holder, now, now+leaseTime); err != nil || !ok {
			return err
		}
		rows, err := s.store.RecordsToSend(ctx, x.ID, now, now-sentAgain, held, sendBatch)
		if err != nil || len(rows) == 0 {
			return err
		}
		n, err := s.systemNames(ctx, s.State(), x)
		if err != nil {
			return err
		}
		var list []*CarriedRecord
		var notes []recordNote
		for i := range rows {
			r, err := recordOf(&rows[i])
			if err != nil {
				return err
			}
			h, ok := x.dialect().Holding(r.Kind)
			if !ok {
				continue
			}
			if r.Meant != nil {
				if _, ok := h.Write(r.Meant, n); !ok { // its space is not there yet: it waits for it
					r.State, r.Problem, r.Next = StepFailed, "its space is not there yet", stamp(now)+5e6
					row, err := r.row()
					if err != nil {
						return err
					}
					if err := s.putRecords(ctx, x, []store.SystemRecord{row}, nil); err != nil {
						return err
					}
					continue
				}
			}
			if r.State != StepSent {
				r.Tries++
			}
			r.State, r.Sent = StepSent, stamp(now)
			notes = append(notes, recordNote{r.Kind + " " + r.Ours, strings.TrimSuffix(r.inWords(x, h)+"; "+r.Cause, "; "), r.Was, r.Meant})
			list = append(list, r)
		}
		if len(list) == 0 {
			continue
		}
		if err := s.putCarried(ctx, x, list, notes); err != nil { // before anything is sent
			return err
		}
		busy := error(nil)
		for k, r := range list {
			h, _ := x.dialect().Holding(r.Kind)
			if busy == nil {
				busy = s.sendOne(ctx, x, c, h, n, r)
			}
			if busy != nil { // neither this one nor those behind it were taken
				for _, r := range list[k:] {
					if r.State == StepSent {
						r.State = StepWaiting
					}
				}
				break
			}
		}
		notes = nil
		for _, r := range list { // what is refused for good is told; what goes on is not yet over
			if h, _ := x.dialect().Holding(r.Kind); r.State == StepDiffers {
				notes = append(notes, recordNote{r.Kind + " " + r.Ours, r.inWords(x, h), r.Meant, r.Was})
			}
		}
		if err := s.putCarried(context.WithoutCancel(ctx), x, list, notes); err != nil {
			return err
		}
		if busy != nil {
			if ctx.Err() != nil {
				return nil
			}
			return busy
		}
	}
}

// sendOne writes one record. It returns an error where the system takes nothing for now.
func (s *Service) sendOne(ctx context.Context, x *System, c Connector, h *native.Holding, n *systemNames, r *CarriedRecord) error {
	var err error
	if r.Meant == nil {
		if r.Native != "" {
			err = c.Drop(ctx, h.Name, r.Native)
		}
	} else {
		fields, _ := h.Write(r.Meant, n)
		var id string
		if id, err = c.Put(ctx, h.Name, r.Native, fields); err == nil {
			r.Native = id
			if h.Kind == "space" {
				n.native[r.Ours], n.ours[id] = id, r.Ours
				delete(s.comparedWith, x.ID) // its own values can be written now
			}
		}
	}
	at := stamp(s.Now())
	if err != nil {
		var fault *systemFault
		errors.As(err, &fault)
		r.State, r.Problem, r.Next = StepFailed, err.Error(), at+stamp(s.pause(r.Tries))
		switch {
		case fault != nil && fault.busy || ctx.Err() != nil:
			return err
		case fault != nil && fault.final && r.Tries > refusedAtMost: // it says no, and will again
			r.State = StepDiffers
		}
		return nil
	}
	r.State, r.Problem, r.Next = StepSettling, "", 0
	r.Counts = at + stamp(float64(h.Span.Microseconds())/s.faster())
	return nil
}
