package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
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

func (s *Service) putCarried(ctx context.Context, x *System, list []*CarriedRecord, notes []recordNote) error {
	var rows []store.SystemRecord
	for _, r := range list {
		row, err := r.row()
		if err != nil {
			return err
		}
		rows = append(rows, row)
	}
	return s.putRecords(ctx, x, rows, notes)
}

// flowIn takes in what people made or ended in the source of a kind (systems.md §5). What one of ours made
// there is made here, and the gates decide; what nobody of ours made stays a finding.
func (s *Service) flowIn(ctx context.Context, x *System, h *native.Holding, n *systemNames) error {
	var list []arrived
	now := s.Now()
	err := s.store.Unknown(ctx, x.ID, h.Kind, "", readBatch, func(f *store.FoundRecord) error {
		t, by, unread, err := readThing(h, f.Doc, n, now)
		if err != nil || t == nil || unread != "" || f.Accepted > now {
			return err
		}
		if who, ok := n.Person(by); ok || h.Kind == "person" || h.Kind == "group" { // whoever keeps a directory adds people
			list = append(list, arrived{kind: h.Kind, native: f.Native, t: t, by: who})
		}
		return nil
	})
	if err != nil {
		return err
	}
	// What was changed or taken away there counts here, too.
	gone := 0
	err = s.store.RecordsAside(ctx, x.ID, asideMost, func(r *store.RecordFound) error {
		if r.Kind != h.Kind || !r.Drift {
			return nil
		}
		c, err := recordOf(&r.SystemRecord)
		if err != nil || c.Drift.Accepted != 0 || c.Drift.Looked {
			return err
		}
		if c.Drift.Found == nil {
			if h.Kind == "space" || h.Kind == "group" { // what hangs on it is not ended because it is gone there
				return nil
			}
			gone++
		}
		list = append(list, arrived{kind: h.Kind, native: r.Native, key: r.Ours, t: c.Drift.Found, changed: true})
		return nil
	})
	if err != nil || len(list) == 0 {
		return err
	}
	if limit := x.BrakeNow(); limit > 0 && gone > limit && moment.Moment(x.Released)+3600e6 < now { // somebody is asked first
		list = slices.DeleteFunc(list, func(a arrived) bool { return a.changed && a.t == nil })
		if err := s.store.BrakedAt(ctx, x.ID, gone); err != nil {
			return err
		}
	}
	return s.change(ctx, Scheduler, "", func(st *State, t *store.Tx) error {
		for i := range list {
			if err := s.arrive(st, t, x, h, &list[i]); err != nil {
				return err
			}
		}
		return nil
	})
}

// arrived is something that was made, changed or ended in the source of its kind.
type arrived struct {
	kind, native, key, by string
	t                     native.Thing
	changed               bool
}

// arrive writes what was made in a system into our inventory, and what it is known by here beside its id
// there. What names something that is not ours is left where it is.
func (s *Service) arrive(st *State, t *store.Tx, x *System, h *native.Holding, a *arrived) error {
	why := fmt.Sprintf("found in %s", x.Name)
	if a.by != "" {
		why += ": made there by " + a.by
	}
	t.Because(why)
	part, key, err := s.ourEntry(st, t, a)
	if err != nil || part == nil && !a.changed {
		return err
	}
	switch {
	case a.t == nil:
		if err := s.endHere(st, t, a); err != nil {
			return err
		}
	case part != nil:
		if _, err := t.PutWorldInventory(part); err != nil {
			return err
		}
	default:
		return nil
	}
	return s.knownAs(t, x, h, a, key)
}

// knownAs notes that a record of a system and an entry of ours are one.
func (s *Service) knownAs(t *store.Tx, x *System, h *native.Holding, a *arrived, key string) error {
	row, err := s.oneWith(h, a, key)
	if err != nil {
		return err
	}
	if err := t.PutSystemRecords(x.ID, []store.SystemRecord{row}); err != nil || a.key == key {
		return err
	}
	return t.KnowFound(x.ID, h.Kind, a.native, key)
}

// oneWith is how an entry of ours stands that is one with a record of a system.
func (s *Service) oneWith(h *native.Holding, a *arrived, key string) (store.SystemRecord, error) {
	c := &CarriedRecord{Kind: h.Kind, Ours: key, Native: a.native, State: StepConfirmed, Meant: a.t, Confirmed: stamp(s.Now())}
	row, err := c.row()
	if a.t == nil {
		row.Doc = nil
	}
	return row, err
}

// ourEntry is what a record of a system is as an entry of ours, with what it is known by; nil where it names
// something that is not ours.
func (s *Service) ourEntry(st *State, t *store.Tx, a *arrived) (*world.World, string, error) {
	w := &world.World{}
	if a.t == nil {
		return nil, a.key, nil
	}
	free := func(kind, want string) string {
		want = strings.Trim(strings.Map(func(r rune) rune {
			switch {
			case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '.', r == '-', r == '_':
				return r
			}
			return '-'
		}, strings.ToLower(want)), "-._")
		id := want
		for k := 2; id == "" || !worldfile.ValidID(id) || st.Has(kind, id); k++ {
			id = fmt.Sprintf("%s-%d", cmp.Or(want[:min(len(want), 90)], kind), k)
		}
		return id
	}
	at := s.Now()
	until, from := moment.Never, at
	if m, err := moment.Parse(a.t["until"]); err == nil {
		until = m
	}
	if m, err := moment.Parse(a.t["from"]); err == nil {
		from = m
	}
	switch a.kind {
	case "person":
		who, err := addr.Parse(a.t["address"])
		if err != nil || !ours(st.Policy(), who) {
			return nil, a.key, nil
		}
		p := world.Person{ID: a.key}
		if a.key == "" {
			p.ID = free("person", who.Local())
		} else if doc, err := t.Record("person", a.key); err != nil || doc == nil {
			return nil, a.key, err
		} else if p, err = worldfile.PersonOf(doc); err != nil {
			return nil, a.key, err
		}
		p.Address, p.Left = who, 0
		if _, said := a.t["name"]; said && a.t["name"] != "" {
			p.Name = a.t["name"]
		}
		p.Name = cmp.Or(p.Name, who.Local())
		if groups, said := a.t["groups"]; said {
			p.Groups = nil
			for _, g := range strings.Fields(groups) {
				if st.Has("group", g) {
					p.Groups = append(p.Groups, g)
				}
			}
		}
		w.People = []world.Person{p}
		return w, p.ID, nil
	case "group":
		if !worldfile.ValidID(a.t["id"]) {
			return nil, a.key, nil
		}
		g := world.Group{ID: a.t["id"]}
		if doc, err := t.Record("group", g.ID); err != nil {
			return nil, a.key, err
		} else if doc != nil {
			if g, err = worldfile.GroupOf(doc); err != nil {
				return nil, a.key, err
			}
		}
		g.Name = cmp.Or(a.t["name"], g.ID)
		w.Groups = []world.Group{g}
		return w, g.ID, nil
	case "space":
		sp := world.Space{ID: a.key, Name: a.t["name"]}
		if a.key != "" {
			doc, err := t.Record("space", a.key)
			if err != nil || doc == nil {
				return nil, a.key, err
			}
			if sp, err = worldfile.SpaceOf(doc); err != nil {
				return nil, a.key, err
			}
			sp.Name = a.t["name"]
		} else {
			sp.ID = free("space", cmp.Or(a.t["id"], a.t["name"]))
			owner, ok := (&systemNames{st: st}).Person(a.t["owner"])
			if !ok {
				owner = a.by
			}
			if owner != "" {
				sp.Owners = []string{owner}
			}
		}
		w.Spaces = []world.Space{sp}
		return w, sp.ID, nil
	case "link":
		r, err := engine.ParseResource(a.t["item"])
		if err != nil || !st.Has(r.Kind.String(), r.ID) || r.Kind != catalogue.File && r.Kind != catalogue.Folder {
			return nil, a.key, nil
		}
		l := world.Link{ID: a.key, Created: at, By: a.by, Download: true}
		if a.key != "" {
			doc, err := t.Record("link", a.key)
			if err != nil || doc == nil {
				return nil, a.key, err
			}
			if l, err = worldfile.LinkOf(doc); err != nil {
				return nil, a.key, err
			}
		} else {
			l.ID = free("link", a.t["id"])
		}
		l.Item, l.Until, l.For = r, until, nil
		if l.Right, _ = catalogue.ParseRole(a.t["right"]); l.Right == catalogue.NoRole {
			return nil, a.key, nil
		}
		for _, name := range strings.Fields(a.t["for"]) {
			who, err := addr.Parse(name)
			if err != nil {
				return nil, a.key, nil
			}
			l.For = append(l.For, who)
		}
		w.Links = []world.Link{l}
		return w, l.ID, nil
	case "forwarder":
		id, ok := (&systemNames{st: st}).Person(a.t["mailbox"])
		to, err := addr.Parse(a.t["to"])
		if !ok || err != nil || a.t["set_by"] == "" {
			return nil, a.key, nil
		}
		f := world.Forwarder{Mailbox: id, To: to, KeepCopy: a.t["keep_copy"] == "yes", SetBy: a.t["set_by"]}
		w.Forwarders = []world.Forwarder{f}
		return w, worldfile.ForwarderKey(&f), nil
	case "grant":
		who, err := addr.Parse(a.t["address"])
		r, err2 := engine.ParseResource(a.t["resource"])
		role, ok := catalogue.ParseRole(a.t["role"])
		if err != nil || err2 != nil || !ok || role == catalogue.NoRole || !st.Has(r.Kind.String(), r.ID) {
			return nil, a.key, nil
		}
		w.Grants = []world.Grant{{Address: who, Resource: r, Role: role, From: from, Until: until, Sponsor: a.by, Reviewed: moment.Always}}
		return w, a.t.Key("grant", nil), nil
	}
	return nil, a.key, nil
}

// endHere ends an entry of ours that was taken away in its source.
func (s *Service) endHere(_ *State, t *store.Tx, a *arrived) error {
	switch a.kind {
	case "grant":
		return s.endGrants(t, a.key)
	case "person": // they are gone there: they have left
		doc, err := t.Record("person", a.key)
		if err != nil || doc == nil {
			return err
		}
		p, err := worldfile.PersonOf(doc)
		if err != nil || p.Left != 0 {
			return err
		}
		p.Left = s.Now()
		_, err = t.PutRecord("person", a.key, worldfile.PersonDoc(&p))
		return err
	case "forwarder", "space", "meeting", "group":
		_, err := t.EndRecord(a.kind, a.key)
		return err
	}
	doc, err := t.Record("link", a.key)
	if err != nil || doc == nil {
		return err
	}
	l, err := worldfile.LinkOf(doc)
	if err != nil {
		return err
	}
	if now := s.Now(); l.Until > now {
		l.Until = max(now, l.Created)
	}
	_, err = t.PutRecord("link", a.key, worldfile.LinkDoc(&l))
	return err
}

// aside is one record that stands otherwise in a system than it is meant.
type aside struct {
	kind, key string
	meant     native.Thing
	found     native.Thing
	doubt     bool // a step for it was sent and is not confirmed
	native    string
}

// asides lists what stands otherwise in a system than it is meant, and what stands there for nothing here. Where that
// is too much to be laid over the inventory, many is true and nothing is listed: its records are not looked at then.
func (s *Service) asides(ctx context.Context, st *State, x *System) (out []aside, many bool, err error) {
	if len(x.dialect().Holdings) == 0 {
		return nil, false, nil
	}
	if count, err := s.store.CountAside(ctx, x.ID, asideMost+1); err != nil || count > asideMost {
		return nil, count > asideMost, err
	}
	n, err := s.systemNames(ctx, st, x)
	if err != nil {
		return nil, false, err
	}
	now := s.Now()
	err = s.store.RecordsAside(ctx, x.ID, asideMost+1, func(r *store.RecordFound) error {
		c, err := recordOf(&r.SystemRecord)
		if err != nil {
			return err
		}
		h, ok := x.dialect().Holding(c.Kind)
		if !ok {
			return nil
		}
		e := &comparedEntry{key: c.Ours}
		if err := e.was(h, r.Found, n, now); err != nil {
			return err
		}
		out = append(out, aside{c.Kind, c.Ours, c.Meant, e.found,
			c.State == StepSent || c.State == StepSettling || c.State == StepFailed && c.Tries > 0, c.Native})
		return nil
	})
	if err != nil {
		return nil, false, err
	}
	for i := range x.dialect().Holdings {
		h := &x.dialect().Holdings[i]
		if len(out) > asideMost {
			return nil, true, nil
		}
		err = s.store.Unknown(ctx, x.ID, h.Kind, "", asideMost+1-len(out), func(f *store.FoundRecord) error {
			t, _, _, err := readThing(h, f.Doc, n, now)
			if err == nil && t != nil {
				out = append(out, aside{kind: h.Kind, key: cmp.Or(t.Key(h.Kind, n), f.Native), found: t, native: f.Native})
			}
			return err
		})
		if err != nil {
			return nil, false, err
		}
	}
	if len(out) > asideMost {
		return nil, true, nil
	}
	return out, false, nil
}

// layOver lays what a system keeps over our inventory: what is not there is taken away, what is there and not
// meant is added. Of what is in doubt the loosest counts with most, else the tightest.
func (s *Service) layOver(ctx context.Context, st *State, e *engine.Editor, list []aside, most bool) error {
	grants := map[string]map[string]native.Thing{} // by party, what is to stand there: nil takes away
	forwarders := map[string]map[string]native.Thing{}
	put := func(m map[string]map[string]native.Thing, of, key string, t native.Thing) {
		if m[of] == nil {
			m[of] = map[string]native.Thing{}
		}
		m[of][key] = t
	}
	for i := range list {
		a := &list[i]
		h := a.found
		if a.doubt { // either may count
			if loosest := native.Looser(a.kind, a.found, a.meant); most == loosest {
				h = a.meant
			}
		}
		switch a.kind {
		case "guest":
			who, err := addr.Parse(cmp.Or(a.found["address"], a.key))
			if err != nil {
				continue
			}
			if h == nil {
				e.RemoveGuest(who)
				continue
			}
			g, err := s.store.Guest(ctx, who.String())
			if err != nil {
				return err
			}
			if g == nil {
				g = &world.Guest{Address: who, Origins: world.ByInvitation, Since: moment.Always, Accepted: moment.Always, Until: moment.Never,
					Terms: s.Now(), TakenOver: true, DatesFrom: moment.Never}
			}
			g.State = world.StateActive
			if h["standing"] == "out" {
				g.State = world.StateSuspended
			}
			e.PutGuest(g)
		case "grant":
			party, _, _ := cutLast(a.key, " ")
			if h == nil || h["resource"] != "" {
				put(grants, party, a.key, h)
			}
		case "link":
			if h == nil {
				e.Remove("link", a.key)
				continue
			}
			t := h.Clone()
			w, _, err := s.ourEntry(st, nil, &arrived{kind: "link", t: t})
			if err != nil {
				return err
			}
			if w != nil {
				w.Links[0].ID = a.key
				e.PutLink(&w.Links[0])
			}
		case "meeting":
			if h == nil {
				e.Remove("meeting", a.key)
			}
		case "forwarder":
			if id, _, ok := strings.Cut(a.key, " to "); ok {
				put(forwarders, id, a.key, h)
			}
		}
	}
	for party, own := range grants {
		have, err := s.store.Grants(ctx, party)
		if err != nil {
			return err
		}
		var next []world.Grant
		for i := range have {
			key := native.Thing{"address": party, "resource": have[i].Resource.String()}.Key("grant", nil)
			if _, said := own[key]; !said {
				next = append(next, have[i])
			}
		}
		for _, key := range sortedKeys(own) {
			if own[key] == nil {
				continue
			}
			w, _, err := s.ourEntry(st, nil, &arrived{kind: "grant", t: own[key]})
			if err != nil {
				return err
			}
			if w != nil {
				w.Grants[0].From = moment.Always
				next = append(next, w.Grants...)
			}
		}
		e.SetGrants(party, next)
	}
	for person, own := range forwarders {
		var next []world.Forwarder
		err := s.Forwarders(ctx, person, func(f *world.Forwarder) error {
			if _, said := own[worldfile.ForwarderKey(f)]; !said {
				next = append(next, *f)
			}
			return nil
		})
		if err != nil {
			return err
		}
		for _, key := range sortedKeys(own) {
			if t := own[key]; t != nil {
				if w, _, err := s.ourEntry(st, nil, &arrived{kind: "forwarder", t: t}); err == nil && w != nil {
					next = append(next, w.Forwarders...)
				}
			}
		}
		e.SetForwarders(person, next)
	}
	return nil
}
