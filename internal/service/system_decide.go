package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// How a record of a system may stand, besides the states of a step.
const (
	RecordUnknown = "unknown" // it is there and stands for nothing here
	RecordDrifts  = "drift"   // it was changed there
	RecordOpen    = "open"    // it is on its way
)

// RecordQuery says which records of a system are wanted.
type RecordQuery struct {
	Kind  string
	State string // unknown, open, differs, drift or confirmed; empty for all that need somebody
	Text  string // a part of what they are known by
	After string // behind which one, as the list before it says
	Limit int
}

// RecordLine is one record of a system, meant and found.
type RecordLine struct {
	Kind, Ours, Native string
	State              string
	Turn               native.Turn
	Meant, Found       native.Thing // nil for none
	By, Problem, Cause string
	Since              moment.Moment // since when it was found so, of what is unknown or drifts
	Accepted           moment.Moment // until when it is let be
	Unread             string        // what of it is not understood
}

// Key is what a decision names the record by: its id there where it stands for nothing here.
func (l *RecordLine) Key() string {
	if l.State == RecordUnknown {
		return l.Native
	}
	return l.Ours
}

// unknownFrom begins, in a list of all that need somebody, where what stands for nothing here goes on.
const unknownFrom = "?"

// RecordLines lists records of a system. Next is what to list behind for more; empty where there is none.
func (s *Service) RecordLines(ctx context.Context, id string, q RecordQuery) (out []RecordLine, next string, err error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, "", err
	}
	h, ok := x.dialect().Holding(q.Kind)
	if !ok {
		return nil, "", &Invalid{"kind", q.Kind, fmt.Sprintf("%s keeps %s", x.Name,
			cmp.Or(strings.Join(x.dialect().Kinds(), ", "), "nothing of our inventory"))}
	}
	n, err := s.systemNames(ctx, s.State(), x)
	if err != nil {
		return nil, "", err
	}
	var states []string
	switch q.State {
	case RecordUnknown:
		return s.unknownLines(ctx, x, h, n, q)
	case "":
		states = []string{string(StepWaiting), string(StepSent), string(StepSettling), string(StepFailed), string(StepDiffers), RecordDrifts}
	case RecordOpen:
		states = []string{string(StepWaiting), string(StepSent), string(StepSettling), string(StepFailed)}
	case RecordDrifts, string(StepDiffers), string(StepConfirmed), string(StepWaiting), string(StepSent), string(StepSettling),
		string(StepFailed):
		states = []string{q.State}
	default:
		return nil, "", &Invalid{"state", q.State, "write unknown, open, differs, drift, confirmed, waiting, sent, settling or failed"}
	}
	after, unknown := strings.CutPrefix(q.After, unknownFrom)
	if q.State != "" || !unknown {
		got := 0
		err = s.store.RecordsIn(ctx, id, q.Kind, states, q.Text, q.After, q.Limit, func(r *store.RecordFound) error {
			got++
			c, err := recordOf(&r.SystemRecord)
			if err != nil {
				return err
			}
			e := &comparedEntry{key: c.Ours}
			if err := e.was(h, r.Found, n, s.Now()); err != nil {
				return err
			}
			l := RecordLine{Kind: c.Kind, Ours: c.Ours, Native: c.Native, State: string(c.State), Turn: c.Turn, Meant: c.Meant, Found: e.found,
				By: e.by, Problem: c.Problem, Cause: c.Cause}
			if c.Drift != nil {
				l.State, l.Since, l.Accepted, l.By = RecordDrifts, moment.Moment(c.Drift.Since), moment.Moment(c.Drift.Accepted), c.Drift.By
				l.Turn = h.Turn(c.Meant, e.found)
			}
			if k := len(out); k == 0 || out[k-1].Ours != l.Ours { // of several that are found, the first
				out = append(out, l)
			}
			return nil
		})
		if err != nil || q.State != "" || got == q.Limit {
			if got == q.Limit && err == nil {
				next = out[len(out)-1].Ours
			}
			return out, next, err
		}
		after = ""
	}
	rest := q
	rest.After, rest.Limit = after, q.Limit-len(out)
	more, behind, err := s.unknownLines(ctx, x, h, n, rest)
	if behind != "" {
		next = unknownFrom + behind
	}
	return append(out, more...), next, err
}

// unknownLines lists what stands for nothing here; of all that need somebody without what is let be.
func (s *Service) unknownLines(ctx context.Context, x *System, h *native.Holding, n *systemNames, q RecordQuery) (out []RecordLine,
	next string, err error) {
	now := s.Now()
	after := q.After
	for len(out) < q.Limit {
		got := 0
		err := s.store.Unknown(ctx, x.ID, h.Kind, after, q.Limit, func(f *store.FoundRecord) error {
			got++
			if len(out) == q.Limit {
				return nil
			}
			after = f.Native
			if q.State == "" && f.Accepted > now {
				return nil
			}
			t, by, unread, err := readThing(h, f.Doc, n, now)
			if err != nil {
				return err
			}
			if q.Text == "" || strings.Contains(strings.ToLower(f.Native+" "+h.Text(t)+" "+by), strings.ToLower(q.Text)) {
				out = append(out, RecordLine{Kind: h.Kind, Ours: f.Ours, Native: f.Native, State: RecordUnknown, Turn: native.Loosens, Found: t, By: by,
					Since: f.At, Accepted: f.Accepted, Unread: unread})
			}
			return nil
		})
		if err != nil || got < q.Limit && len(out) < q.Limit {
			return out, "", err
		}
	}
	return out, after, nil
}

// RecordDecision is what somebody decides about records of a system.
type RecordDecision struct {
	// Do is, of what stands for nothing here: take_over, end_there or accept; of what was changed there:
	// put_back, take_in or accept; of what failed or differs: again; of a list that was empty: empty.
	Do       string
	Kind     string
	Keys     []string // as RecordLine.Key has it
	All      bool     // instead of keys: every record that it fits
	Sponsor  string   // with take_over of guests: a person of ours who answers for them
	Purpose  string   // with take_over of guests
	Until    string   // of guests and grants taken over: their end; with accept: until when
	Why      string
	Confirm  bool // that as many go as would
	Previews bool
}

// RecordDecided is what became of one record, or would.
type RecordDecided struct {
	Key    string
	Result string // done, refused
	Says   string // why it is refused, or what becomes of it
}

// RecordsDecided is what a decision did, or would do.
type RecordsDecided struct {
	Lines   []RecordDecided
	Done    int
	Refused int
	Weighed *ValueWeighed
	Waits   bool // dates of the guests that came wait until somebody releases them
}

// decideMost is about how many records one decision is.
const decideMost = 20000

// DecideRecords takes over, ends, puts back, takes in or lets be what a system keeps otherwise than meant. It is
// weighed before; with Previews nothing is written.
func (s *Service) DecideRecords(ctx context.Context, who Who, id string, d RecordDecision) (*RecordsDecided, error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	if strings.TrimSpace(d.Why) == "" && !d.Previews {
		return nil, &Invalid{"why", d.Why, "say why"}
	}
	if err := who.DecidesRecords(d.Kind); err != nil {
		return nil, err
	}
	if d.Do == "release" || d.Do == "empty" {
		return s.releaseRecords(ctx, who, x, d)
	}
	if d.All == (len(d.Keys) > 0) {
		return nil, &Invalid{"keys", strings.Join(d.Keys, ", "), "name the records, or all, not both"}
	}
	h, ok := x.dialect().Holding(d.Kind)
	if !ok {
		return nil, &Invalid{"kind", d.Kind, fmt.Sprintf("%s keeps %s", x.Name,
			cmp.Or(strings.Join(x.dialect().Kinds(), ", "), "nothing of our inventory"))}
	}
	state := map[string]string{"take_over": RecordUnknown, "end_there": RecordUnknown, "put_back": RecordDrifts, "take_in": RecordDrifts,
		"again": ""}
	q := RecordQuery{Kind: d.Kind, State: state[d.Do], Limit: decideMost}
	lines, _, err := s.RecordLines(ctx, id, q)
	if err != nil {
		return nil, err
	}
	switch d.Do {
	case "take_over", "end_there", "put_back", "take_in":
	case "again":
		lines = slices.DeleteFunc(lines, func(l RecordLine) bool { return l.State != string(StepDiffers) && l.State != string(StepFailed) })
	case "accept":
		q.State = RecordUnknown
		more, _, err := s.RecordLines(ctx, id, q)
		if err != nil {
			return nil, err
		}
		lines = append(slices.DeleteFunc(lines, func(l RecordLine) bool { return l.State != RecordDrifts }), more...)
	default:
		return nil, &Invalid{"do", d.Do, "write take_over, end_there, put_back, take_in, accept, again, release or empty"}
	}
	if (d.Do == "end_there" || d.Do == "put_back" || d.Do == "again") && x.Mode != ModeCarry {
		return nil, fmt.Errorf("%w: %s is only looked at; change it there, or have it carried", ErrConflict, x.Name)
	}
	if !d.All {
		by := map[string]RecordLine{}
		for _, l := range lines {
			by[l.Key()] = l
		}
		lines = nil
		for _, k := range d.Keys {
			l, ok := by[k]
			if !ok {
				return nil, &Invalid{"keys", k, "nothing of that kind is to be decided about it there"}
			}
			lines = append(lines, l)
		}
	}
	if len(lines) == 0 {
		return nil, fmt.Errorf("%w: nothing of that kind is to be decided in %s", ErrNotFound, x.Name)
	}
	switch d.Do {
	case "take_over":
		return s.takeOverRecords(ctx, who, x, h, lines, d)
	case "take_in":
		return s.takeInRecords(ctx, who, x, h, lines, d)
	case "accept":
		return s.acceptRecords(ctx, who, x, lines, d)
	}
	return s.sendDecided(ctx, who, x, h, lines, d)
}

// releaseRecords says that what waits may go, or that an empty list is right.
func (s *Service) releaseRecords(ctx context.Context, who Who, x *System, d RecordDecision) (*RecordsDecided, error) {
	work, err := s.store.WorkOn(ctx, x.ID)
	if err != nil {
		return nil, err
	}
	out := &RecordsDecided{Done: work.Braked}
	if d.Do == "empty" {
		if work.Empty == "" {
			return nil, fmt.Errorf("%w: none of its lists is empty that was not", ErrNotFound)
		}
		if d.Previews {
			return out, nil
		}
		err := s.change(ctx, who.Name, d.Why, func(_ *State, t *store.Tx) error {
			_, err := t.Note("system_record", x.ID+" "+work.Empty, nil, nil)
			return err
		})
		if err != nil {
			return nil, err
		}
		return out, s.store.Listed(ctx, x.ID, 0, emptyIsRight)
	}
	if work.Braked == 0 {
		return nil, fmt.Errorf("%w: nothing waits in %s because it is too much", ErrNotFound, x.Name)
	}
	if d.Previews {
		return out, nil
	}
	return out, s.change(ctx, who.Name, d.Why, func(_ *State, t *store.Tx) error {
		next := *x
		next.Released = stamp(s.Now())
		return putJSON(t, "system", x.ID, next)
	})
}

// takeOverRecords makes entries of ours of what stands for nothing here. What is taken over counts idle and
// term from now (systems.md §5).
func (s *Service) takeOverRecords(ctx context.Context, who Who, x *System, h *native.Holding, lines []RecordLine,
	d RecordDecision) (*RecordsDecided, error) {
	var out *RecordsDecided
	until := moment.Never
	if d.Until != "" {
		var err error
		if until, err = endOf(d.Until, s.Now(), s.State()); err != nil {
			return nil, err
		}
		if until <= s.Now() {
			return nil, &Invalid{"until", d.Until, "it lies before now"}
		}
	}
	if h.Kind == "guest" {
		if d.Sponsor == "" || !s.State().Has("person", d.Sponsor) {
			return nil, &Invalid{"sponsor", d.Sponsor, "name the person of ours who answers for them"}
		}
		if strings.TrimSpace(d.Purpose) == "" {
			return nil, &Invalid{"purpose", d.Purpose, "say what they are here for"}
		}
	}
	if d.Confirm {
		ctx = Confirmed(ctx)
	}
	defer s.recordsChanged()
	err := s.changing(ctx, who.Name, d.Why, d.Previews, func(now *State, t *store.Tx) error {
		out = &RecordsDecided{}
		t.Because(strings.TrimPrefix(d.Why+"; taken over from "+x.Name, "; "))
		part := &world.World{}
		var list []arrived
		var keys, ours []string
		for i := range lines {
			l := &lines[i]
			a, key, why, err := s.takenOver(now, t, x, h, l, d, until, part)
			if err != nil {
				return err
			}
			if why != "" {
				out.Refused++
				out.Lines = append(out.Lines, RecordDecided{l.Key(), "refused", why})
				continue
			}
			out.Done++
			out.Lines = append(out.Lines, RecordDecided{l.Key(), "done", key})
			list, keys, ours = append(list, a), append(keys, key), append(ours, l.Ours)
		}
		var loaded Loaded
		if err := s.takeOver(ctx, now, now.Policy(), part, t, &loaded, d.Previews); err != nil {
			return err
		}
		out.Waits = loaded.Waits
		e := now.Aside()
		e.Add(part)
		out.Weighed = &ValueWeighed{}
		after := &State{Snapshot: e.Done(), Head: now.Head}
		if err := out.Weighed.impact(now, after, s.Now(), ctx.Err); err != nil {
			return err
		}
		if d.Previews {
			return errPreview
		}
		if _, err := t.PutWorldInventory(part); err != nil {
			return err
		}
		var rows []store.SystemRecord
		for i := range list {
			row, err := s.oneWith(h, &list[i], keys[i])
			if err != nil {
				return err
			}
			if rows = append(rows, row); ours[i] != keys[i] {
				if err := t.KnowFound(x.ID, h.Kind, row.Native, keys[i]); err != nil {
					return err
				}
			}
		}
		return t.PutSystemRecords(x.ID, rows)
	})
	return out, err
}

// sendDecided has records written: put back as they are meant, ended there, or sent once more.
func (s *Service) sendDecided(ctx context.Context, who Who, x *System, h *native.Holding, lines []RecordLine,
	d RecordDecision) (*RecordsDecided, error) {
	out := &RecordsDecided{Done: len(lines)}
	for i := range lines {
		says := "is written there: " + h.Text(lines[i].Meant)
		if lines[i].Meant == nil {
			says = "is taken away there"
		}
		out.Lines = append(out.Lines, RecordDecided{lines[i].Key(), "done", says})
	}
	if err := s.weighThere(ctx, x, h, lines, out); err != nil {
		return nil, err
	}
	if d.Previews {
		return out, nil
	}
	defer s.recordsChanged()
	return out, s.change(ctx, who.Name, d.Why, func(_ *State, t *store.Tx) error {
		var rows []store.SystemRecord
		for i := range lines {
			l := &lines[i]
			key := l.Ours
			if l.State == RecordUnknown {
				if key == "" {
					key = "?" + l.Native
				}
				if err := t.KnowFound(x.ID, l.Kind, l.Native, key); err != nil {
					return err
				}
			}
			c := &CarriedRecord{
				Kind: l.Kind, Ours: key, Native: l.Native, State: StepWaiting, Meant: l.Meant, Was: l.Found, Turn: h.Turn(l.Found, l.Meant),
				Made: stamp(s.Now()), Cause: d.Why, Shown: true, // whoever decides has seen them
				Place: slices.IndexFunc(x.dialect().Holdings, func(y native.Holding) bool { return y.Kind == h.Kind }),
			}
			row, err := c.row()
			if err != nil {
				return err
			}
			rows = append(rows, row)
			is, err := thingDoc(l.Meant)
			if err != nil {
				return err
			}
			was, err := thingDoc(l.Found)
			if err != nil {
				return err
			}
			if _, err := t.Note("system_record", x.ID+" "+l.Kind+" "+key, was, is); err != nil {
				return err
			}
		}
		return t.PutSystemRecords(x.ID, rows)
	})
}

// weighThere counts who gains and who loses in a system when records come to stand there as they are meant.
func (s *Service) weighThere(ctx context.Context, x *System, h *native.Holding, lines []RecordLine, out *RecordsDecided) error {
	st := s.State()
	apart, many, err := s.asides(ctx, st, x)
	if err != nil {
		return err
	}
	if out.Weighed = (&ValueWeighed{}); many {
		out.Weighed.NotCounted = append(out.Weighed.NotCounted,
			fmt.Sprintf("who gains and who loses: more than %d records of %s stand otherwise", asideMost, x.Name))
		return nil
	}
	chosen := map[string]bool{}
	for i := range lines {
		chosen[lines[i].Native+" "+lines[i].Ours] = true
	}
	laid := func(skip bool) (*engine.Snapshot, error) {
		list := apart
		if skip {
			list = slices.DeleteFunc(slices.Clone(apart), func(a aside) bool {
				return a.kind == h.Kind && (chosen[a.native+" "+a.key] || chosen[a.native+" "])
			})
		}
		e := st.Aside()
		if err := s.layOver(ctx, st, e, list, true); err != nil {
			return nil, err
		}
		return e.Done(), nil
	}
	before, err := laid(false)
	if err != nil {
		return err
	}
	after, err := laid(true)
	if err != nil {
		return err
	}
	return out.Weighed.impact(&State{Snapshot: before, Head: st.Head}, &State{Snapshot: after, Head: st.Head}, s.Now(), ctx.Err)
}
