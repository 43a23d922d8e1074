package service

import (
	"cmp"
	"context"
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
