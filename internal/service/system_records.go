package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/store"
)

// Inventory in systems (systems.md §§4 and 5): what a system keeps of spaces, guests, what they were given,
// links and forwarders. It is read a page at a time into the database, held against ours in one pass over
// both, and written one record after the other, so that neither takes memory by the population.

// CarriedRecord is how an entry of our inventory stands in a system.
type CarriedRecord struct {
	Kind   string      `json:"-"`
	Ours   string      `json:"-"` // what it is known by here
	Native string      `json:"-"` // and there; empty while it is not there
	State  StepState   `json:"-"`
	Turn   native.Turn `json:"-"`
	Place  int         `json:"-"`
	Sent   stamp       `json:"-"`
	Counts stamp       `json:"-"` // from when it is expected to count
	Next   stamp       `json:"-"`

	Meant     native.Thing `json:"meant"` // nil: it should not be there
	Was       native.Thing `json:"was,omitempty"`
	Cause     string       `json:"cause,omitempty"`
	Made      stamp        `json:"made,omitempty"`
	Confirmed stamp        `json:"confirmed,omitempty"`
	Tries     int          `json:"tries,omitempty"`
	Problem   string       `json:"problem,omitempty"`
	Drift     *RecordDrift `json:"drift,omitempty"`
	BackOn    string       `json:"back_on,omitempty"` // the day on which it was put back by itself last
	Back      int          `json:"back,omitempty"`
	Shown     bool         `json:"-"` // before the system was carried
}

// RecordDrift is a record that was confirmed and is found otherwise.
type RecordDrift struct {
	Found    native.Thing `json:"found"` // nil: it is gone
	By       string       `json:"by,omitempty"`
	After    stamp        `json:"after"` // it was still right then
	Since    stamp        `json:"since"` // it was found then
	Looked   bool         `json:"looked,omitempty"`
	Accepted stamp        `json:"accepted,omitempty"`
	Who      string       `json:"who,omitempty"`
	Why      string       `json:"why,omitempty"`
}

func (c *CarriedRecord) open() bool {
	return c != nil && (c.State == StepWaiting || c.State == StepSent || c.State == StepSettling || c.State == StepFailed)
}

func (c *CarriedRecord) row() (store.SystemRecord, error) {
	doc, err := json.Marshal(c)
	return store.SystemRecord{
		Kind: c.Kind, Ours: c.Ours, Native: c.Native, State: string(c.State), Turn: string(c.Turn), Place: c.Place,
		Sent: moment.Moment(c.Sent), Counts: moment.Moment(c.Counts), Next: moment.Moment(c.Next), Drift: c.Drift != nil, Shown: c.Shown,
		Doc: doc,
	}, err
}

func recordOf(r *store.SystemRecord) (*CarriedRecord, error) {
	if r == nil {
		return nil, nil
	}
	c := &CarriedRecord{}
	if err := json.Unmarshal(r.Doc, c); err != nil {
		return nil, err
	}
	c.Kind, c.Ours, c.Native, c.State, c.Turn, c.Place = r.Kind, r.Ours, r.Native, StepState(r.State), native.Turn(r.Turn), r.Place
	c.Sent, c.Counts, c.Next, c.Shown = stamp(r.Sent), stamp(r.Counts), stamp(r.Next), r.Shown
	return c, nil
}

// foundDoc is a record as it was read.
type foundDoc struct {
	Fields map[string]string `json:"fields"`
	By     string            `json:"by,omitempty"`
}

// systemNames translates between what things are called here and in one system.
type systemNames struct {
	st     *State
	native map[string]string // of spaces, by ours
	ours   map[string]string
}

func (n *systemNames) Person(address string) (string, bool) {
	a, err := addr.Parse(address)
	if err != nil {
		return "", false
	}
	id := n.st.PersonAt(a)
	return id, id != ""
}

func (n *systemNames) Native(space string) (string, bool) { v, ok := n.native[space]; return v, ok }

func (n *systemNames) SpaceOf(item string) string { return n.st.SpaceOf(item) }

func (n *systemNames) Space(id string) (string, bool) { v, ok := n.ours[id]; return v, ok }

func (s *Service) systemNames(ctx context.Context, st *State, x *System) (*systemNames, error) {
	n := &systemNames{st, map[string]string{}, map[string]string{}}
	err := s.store.SystemRecords(ctx, x.ID, "space", func(r *store.SystemRecord) error {
		if r.Native != "" {
			n.native[r.Ours], n.ours[r.Native] = r.Native, r.Ours
		}
		return nil
	})
	return n, err
}

func (s *State) addressOfPerson(id string) string {
	if id == "" {
		return ""
	}
	return s.AddressOf(id)
}

func cutLast(s, sep string) (before, after string, ok bool) {
	if i := strings.LastIndex(s, sep); i >= 0 {
		return s[:i], s[i+len(sep):], true
	}
	return s, "", false
}

// keysOf lists what the system should keep of what the journal names: of a party all that it was given.
func (s *Service) keysOf(ctx context.Context, x *System, kind, id string) ([]string, error) {
	if kind != "grant" {
		return []string{id}, nil
	}
	id = store.PartyOf(id)
	list, err := s.store.Grants(ctx, id)
	if err != nil {
		return nil, err
	}
	keys := map[string]bool{}
	for key := range native.GrantThings(list, moment.Always) {
		keys[key] = true
	}
	err = s.store.RecordsOfParty(ctx, x.ID, id, func(ours string) { keys[ours] = true })
	return sortedKeys(keys), err
}

// readThing reads what was found in our words; what lies behind does not bind any more.
func readThing(h *native.Holding, doc []byte, n native.Names, now moment.Moment) (t native.Thing, by, unread string, err error) {
	var x foundDoc
	if err := json.Unmarshal(doc, &x); err != nil {
		return nil, "", "", err
	}
	t, unread = h.Read(x.Fields, n)
	if from, err := moment.Parse(t["from"]); err == nil && from <= now {
		t["from"] = ""
	}
	if until, err := moment.Parse(t["until"]); err == nil && until <= now { // it has ended by itself
		return nil, x.By, unread, nil
	}
	return t, x.By, unread, nil
}

// emptyIsRight is noted where somebody said that a list is empty rightly: the next one is believed.
const emptyIsRight = "it is right"

// readBatch is how many records are taken into the database at once.
const readBatch = 1000

// readRecords reads all that a system keeps. What a complete list does not show is gone; where a list is
// empty that was not, nothing is taken for gone, and it is asked (systems.md §4).
func (s *Service) readRecords(ctx context.Context, x *System, c Connector) error {
	s.listing.Lock()
	defer s.listing.Unlock()
	began := time.Now()
	defer func() {
		if s.listTook == nil {
			s.listTook = map[string]time.Duration{}
		}
		s.listTook[x.ID] = time.Since(began)
	}()
	n, err := s.systemNames(ctx, s.State(), x)
	if err != nil {
		return err
	}
	work, err := s.store.WorkOn(ctx, x.ID)
	if err != nil {
		return err
	}
	var empty []string
	for i := range x.dialect().Holdings {
		h := &x.dialect().Holdings[i]
		round := s.Now()
		var batch []store.FoundRecord
		count, moved := 0, 0
		flush := func() error {
			if err := s.known(ctx, x, h, n, batch, round); err != nil {
				return err
			}
			changed, err := s.store.PutFound(ctx, x.ID, h.Kind, round, batch)
			moved += changed
			batch = batch[:0]
			return err
		}
		err = c.List(ctx, h.Name, func(k native.Kept) error {
			f, err := foundRecord(h, k)
			if err != nil {
				return err
			}
			count++
			if ofTrial(k) {
				return nil
			}
			if batch = append(batch, f); len(batch) < readBatch {
				return nil
			}
			return flush()
		})
		if err == nil {
			err = flush()
		}
		if err != nil {
			return fmt.Errorf("its %s cannot be read: %w", h.Name, err)
		}
		if count == 0 && work.Empty != emptyIsRight {
			had, err := s.store.CountStaying(ctx, x.ID, h.Kind)
			if err != nil {
				return err
			}
			if had > 0 {
				empty = append(empty, h.Kind)
				continue
			}
		}
		if _, err := s.store.EndFound(ctx, x.ID, h.Kind, round); err != nil {
			return err
		}
		if h.Kind == "space" && moved > 0 { // what was given names them
			if n, err = s.systemNames(ctx, s.State(), x); err != nil {
				return err
			}
		}
	}
	defer s.recordsChanged()
	return s.store.Listed(ctx, x.ID, s.Now(), strings.Join(empty, ", "))
}

// ofTrial reports whether a record was made for a trial: it is taken away again, and counts for nothing.
func ofTrial(k native.Kept) bool {
	for _, v := range k.Fields {
		if strings.HasPrefix(v, trialName) {
			return true
		}
	}
	return false
}

func foundRecord(h *native.Holding, k native.Kept) (store.FoundRecord, error) {
	if k.ID == "" || len(k.ID) > 200 {
		return store.FoundRecord{}, fmt.Errorf("one of its %s has the id %.40q", h.Name, k.ID)
	}
	doc, err := json.Marshal(foundDoc{k.Fields, k.By})
	return store.FoundRecord{Kind: h.Kind, Native: k.ID, Doc: doc, Opened: k.Opened}, err
}

// known finds what records are known by here: by the id that was kept beside ours, else by what they say.
func (s *Service) known(ctx context.Context, x *System, h *native.Holding, n *systemNames, batch []store.FoundRecord,
	now moment.Moment) error {
	if len(batch) == 0 {
		return nil
	}
	ids := make([]string, len(batch))
	for i := range batch {
		ids[i] = batch[i].Native
	}
	kept, err := s.store.OursOf(ctx, x.ID, h.Kind, ids)
	if err != nil {
		return err
	}
	for i := range batch {
		if batch[i].Ours = kept[batch[i].Native]; batch[i].Ours == "" {
			t, _, _, err := readThing(h, batch[i].Doc, n, moment.Always)
			if err != nil {
				return err
			}
			batch[i].Ours = t.Key(h.Kind, n)
			if len(batch[i].Ours) > 600 {
				batch[i].Ours = ""
			}
		}
	}
	return nil
}

// comparedEntry is an entry while it is compared.
type comparedEntry struct {
	key    string
	meant  native.Thing
	native string
	found  native.Thing
	by     string
	rec    *CarriedRecord
}

// compareRecords holds all that a system keeps against what is meant, in one pass over both; with kinds only
// those.
func (s *Service) compareRecords(ctx context.Context, x *System, seen moment.Moment, kinds ...string) error {
	st := s.State()
	n, err := s.systemNames(ctx, st, x)
	if err != nil {
		return err
	}
	cause := s.causeNow(ctx, st, x)
	work, err := s.store.WorkOn(ctx, x.ID)
	if err != nil {
		return err
	}
	for i := range x.dialect().Holdings {
		h := &x.dialect().Holdings[i]
		seen := seen
		if slices.Contains(strings.Split(work.Empty, ", "), h.Kind) { // its list was not believed: nothing newer is known
			seen = 0
		}
		if len(kinds) > 0 && !slices.Contains(kinds, h.Kind) {
			continue
		}
		w := &recordWriter{s: s, x: x, h: h, place: i, cause: cause, seen: stamp(seen)}
		if err := s.together(ctx, st, x, h, n, func(e *comparedEntry) error { return w.stands(ctx, e) }); err != nil {
			return err
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
		if h.Kind == "space" {
			if n, err = s.systemNames(ctx, st, x); err != nil {
				return err
			}
		}
		if slices.Contains(x.Sources, h.Kind) {
			if err := s.flowIn(ctx, x, h, n); err != nil {
				return err
			}
		}
	}
	return nil
}

// pulled turns a walk that calls each for what it finds into one that is asked for one after the other. What
// goes wrong in it is added to failed; stop ends it early.
func pulled[T any](failed *error, walk func(each func(*T) error) error) (next func() (T, bool), stop func()) {
	enough := errors.New("enough")
	return iter.Pull(func(yield func(T) bool) {
		err := walk(func(x *T) error {
			if !yield(*x) {
				return enough
			}
			return nil
		})
		if err != nil && !errors.Is(err, enough) {
			*failed = errors.Join(*failed, err)
		}
	})
}

// together walks three lists in the order of what entries are known by: what is meant, what was found, and
// how they stood.
func (s *Service) together(ctx context.Context, st *State, x *System, h *native.Holding, n *systemNames,
	fn func(*comparedEntry) error) error {
	type pair struct {
		key string
		t   native.Thing
	}
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	var failed error
	nextMeant, stopMeant := pulled(&failed, func(each func(*pair) error) error {
		return s.meantThings(ctx, st, x, h.Kind, func(key string, t native.Thing) error { return each(&pair{key, t}) })
	})
	defer stopMeant()
	nextFound, stopFound := pulled(&failed, func(each func(*store.FoundRecord) error) error { return s.store.Found(ctx, x.ID, h.Kind, each) })
	defer stopFound()
	nextRec, stopRec := pulled(&failed, func(each func(*store.SystemRecord) error) error {
		return s.store.SystemRecords(ctx, x.ID, h.Kind, each)
	})
	defer stopRec()
	m, okM := nextMeant()
	f, okF := nextFound()
	r, okR := nextRec()
	for (okM || okF || okR) && failed == nil {
		key := ""
		least := func(k string, ok bool) {
			if ok && (key == "" || k < key) {
				key = k
			}
		}
		least(m.key, okM)
		least(f.Ours, okF)
		least(r.Ours, okR)
		e := &comparedEntry{key: key}
		if okM && m.key == key {
			e.meant = m.t
			m, okM = nextMeant()
		}
		for okF && f.Ours == key { // of several, the first
			if e.native == "" {
				t, by, _, err := readThing(h, f.Doc, n, s.Now())
				if err != nil {
					return err
				}
				e.native, e.found, e.by = f.Native, t, by
			}
			f, okF = nextFound()
		}
		if okR && r.Ours == key {
			c, err := recordOf(&r)
			if err != nil {
				return err
			}
			e.rec = c
			r, okR = nextRec()
		}
		if failed != nil {
			break
		}
		if err := fn(e); err != nil {
			return err
		}
	}
	return failed
}

// compareSome holds a few entries against what is meant: those that the journal names.
func (s *Service) compareSome(ctx context.Context, x *System, touched [][2]string, seen moment.Moment) error {
	st := s.State()
	n, err := s.systemNames(ctx, st, x)
	if err != nil {
		return err
	}
	cause := ""
	for i := range x.dialect().Holdings {
		h := &x.dialect().Holdings[i]
		w := &recordWriter{s: s, x: x, h: h, place: i, cause: cause, seen: stamp(seen)}
		for _, k := range touched {
			if k[0] != h.Kind {
				continue
			}
			keys, err := s.keysOf(ctx, x, k[0], k[1])
			if err != nil {
				return err
			}
			for _, key := range keys {
				e := &comparedEntry{key: key}
				if e.meant, err = s.meantThing(ctx, st, x, h.Kind, key); err != nil {
					return err
				}
				if err := s.look(ctx, x, h, n, e); err != nil {
					return err
				}
				w.cause = s.causeOf(ctx, h.Kind, k[1])
				if err := w.stands(ctx, e); err != nil {
					return err
				}
			}
		}
		if err := w.flush(ctx); err != nil {
			return err
		}
	}
	return nil
}

// was takes in what was found of an entry; nil for nothing.
func (e *comparedEntry) was(h *native.Holding, f *store.FoundRecord, n native.Names, now moment.Moment) (err error) {
	if f != nil {
		e.native = f.Native
		e.found, e.by, _, err = readThing(h, f.Doc, n, now)
	}
	return
}
