package service

import (
	"context"
	"errors"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// writePolicy writes what differs between the policy in force and next. It
// returns how many entries of each kind differ.
func writePolicy(t *store.Tx, was, next *world.World, count map[string]int) error {
	var err error
	worldfile.ChangedPolicy(was, next, func(kind, id string, doc []byte) {
		if err != nil {
			return
		}
		var did bool
		if did, err = t.PutPolicy(kind, id, doc); did {
			count[kind]++
		}
	})
	if err != nil {
		return err
	}
	return endSessions(t, was, next)
}

// endSessions ends, for good, the sessions of guests whose partner is suspended or ended, and
// of those who are barred.
func endSessions(t *store.Tx, was, next *world.World) error {
	active := map[string]bool{}
	for i := range was.Partners {
		active[was.Partners[i].ID] = was.Partners[i].Standing == world.Active
	}
	for i := range next.Partners {
		if p := &next.Partners[i]; p.Standing != world.Active && active[p.ID] {
			if err := t.EndSessions("partner:" + p.ID); err != nil {
				return err
			}
		}
	}
	barred := map[string]bool{}
	for i := range was.Barred {
		barred[was.Barred[i].Key()] = true
	}
	for i := range next.Barred {
		if k := next.Barred[i].Key(); !barred[k] {
			if err := t.EndSessions("barred:" + k); err != nil {
				return err
			}
		}
	}
	return nil
}

// holdBack writes the values of spaces, items and meetings that the limits of
// next make too loose, as held back.
func holdBack(t *store.Tx, was, next *world.World, count map[string]int) error {
	before, after := world.Limits(was, &world.World{}), world.Limits(next, &world.World{})
	lowered := false
	for r := range before {
		lowered = lowered || catalogue.RuleID(r).Get().Scale.Looser(before[r], after[r])
	}
	if !lowered {
		return nil
	}
	note := func(kind string, did bool, err error) error {
		if did {
			count[kind]++
		}
		return err
	}
	return t.WithRules(func(x *world.Space) error {
		x.Rules = world.HoldBack(x.Rules, after)
		did, err := t.PutRecord("space", x.ID, worldfile.SpaceDoc(x))
		return note("space", did, err)
	}, func(x *world.Item, place int) error {
		x.Rules = world.HoldBack(x.Rules, after)
		did, err := t.PutItem(x, place)
		return note("item", did, err)
	}, func(x *world.Meeting) error {
		x.Rules = world.HoldBack(x.Rules, after)
		did, err := t.PutRecord("meeting", x.ID, worldfile.MeetingDoc(x))
		return note("meeting", did, err)
	})
}

// Loaded says what loading a file changed, or would change.
type Loaded struct {
	Changed  int
	Kinds    map[string]int
	Revision uint64
	Going    *Waiting     // what the dates of the records that came would set going; nil where none came
	Waits    bool         // they wait until an administrator releases them
	Odd      []string     // what an earlier version took and this one does not, in words
	Edits    []draft.Edit // all of policy, and the first of inventory
	Held     []HeldChange // the first of the stored values that a lowered limit holds back, or a raised one counts again
	AllHeld  int          // how many they are
}

// mostShown is how many changes of inventory are told one by one.
const mostShown = 200

// Load reads a file and writes it, all or nothing. With preview it writes
// nothing and says what would change. Errors of the file are worldfile.Errors.
func (s *Service) Load(ctx context.Context, who, why, name string, text []byte, preview bool) (Loaded, error) {
	if exact(ctx) && DraftIn(ctx) == "" {
		return Loaded{}, &Invalid{"exact", "true",
			"what the file does not hold goes, so that is weighed first: load it into a draft, which --draft names"}
	}
	if DraftIn(ctx) != "" {
		return s.loadDraft(ctx, who, why, name, text, preview)
	}
	out := Loaded{}
	read := func(known *State) (part *world.World, odd []string, err error) {
		part, err = worldfile.Read(text, worldfile.Options{File: name, Now: s.Now(), Known: known, Older: older(ctx), Odd: &odd})
		return
	}
	// A long file is read before others are held up by it. What it names has to be there still
	// when it is written: where others wrote meanwhile, it is read again.
	known := s.State()
	first, firstOdd, err := read(known)
	if err != nil && s.Refresh(ctx) == nil && s.State().Head != known.Head { // it may name what another service has just made
		known = s.State()
		first, firstOdd, err = read(known)
	}
	if err != nil {
		return out, err
	}
	used := false
	err = s.changing(ctx, who, why, preview, func(now *State, t *store.Tx) error {
		out = Loaded{Kinds: map[string]int{}, Odd: firstOdd}
		part := first
		if now.Head != known.Head || used {
			var err error
			if part, out.Odd, err = read(now); err != nil {
				return err
			}
		}
		used = true // what was read is altered below
		policy := world.World{Policy: part.Policy}
		if _, begun, err := t.Floor("organisation"); err != nil {
			return err
		} else if !begun && len(part.Guests) > 0 && !restoring(ctx) && part.Settings == nil &&
			now.Policy().Settings == nil { // nobody tells yet when guests are seen
			start := world.StartSettings()
			start.Sightings = world.SightingsNone
			policy.Settings = &start
		}
		next := world.Merge(now.Policy(), &policy)
		for i := range part.Guests {
			if a := part.Guests[i].Address; ours(next, a) {
				return &Invalid{"guests", a.String(), "it is one of our own addresses; our people do not become guests"}
			}
		}
		out.Edits = draft.Diff(s.docs(now), worldfile.DocsOf(next), nil, who, "", "")
		if len(out.Edits) > 0 {
			if out.Held, out.AllHeld, err = s.heldBy(ctx, now, next, mostShown); err != nil {
				return err
			}
		}
		if preview { // nobody need confirm what only is looked at
			err = writePolicy(t, now.Policy(), next, out.Kinds)
			err = errors.Join(err, holdBack(t, now.Policy(), next, out.Kinds))
		} else {
			for _, e := range out.Edits {
				out.Kinds[e.Kind]++
			}
			err = s.quickly(now, next, who, why, t)
		}
		if err != nil {
			return err
		}
		forgetStances(now.Policy(), part)
		if err := s.takeOver(ctx, now, next, part, t, &out, preview); err != nil {
			return err
		}
		before := t.Head().Seq
		n, err := t.PutWorldInventory(part)
		if err != nil {
			return err
		}
		waiting, err := putWaiting(t, next, part)
		if err != nil {
			return err
		}
		n += waiting
		for i := range part.Partners {
			p := &part.Partners[i]
			if old, err := now.Partner(p.ID); err == nil && len(p.Stance) > 0 {
				if err := s.settle(t, now, withStance(old, p.Stance...), "loaded from a file"); err != nil {
					return err
				}
			}
		}
		if n > 0 {
			out.Kinds["inventory"] = int(t.Head().Seq - before)
		}
		entries, err := t.After(before, mostShown)
		if err != nil {
			return err
		}
		for i := range entries {
			out.Edits = append(out.Edits, draft.Edit{Kind: entries[i].Kind, ID: entries[i].ID, Was: entries[i].Was, Now: entries[i].Now})
		}
		for _, n := range out.Kinds {
			out.Changed += n
		}
		out.Revision = t.Head().Revision
		if preview {
			return errPreview
		}
		return nil
	})
	return out, err
}

// loadDraft makes a file of policy edits of a draft.
func (s *Service) loadDraft(ctx context.Context, who, why, name string, text []byte, preview bool) (Loaded, error) {
	out := Loaded{Kinds: map[string]int{}, Revision: s.State().Head.Revision}
	next := func(now *State) (*world.World, error) {
		out.Changed, out.Kinds, out.Edits = 0, map[string]int{}, nil
		next, err := s.policyIn(ctx, now, name, text, exact(ctx))
		if err != nil {
			return nil, err
		}
		out.Edits = draft.Diff(worldfile.DocsOf(now.Policy()), worldfile.DocsOf(next), nil, "", "", "")
		for _, e := range out.Edits {
			out.Kinds[e.Kind]++
			out.Changed++
		}
		out.Held, out.AllHeld, err = s.heldBy(ctx, now, next, mostShown)
		return next, err
	}
	if !preview {
		return out, s.part(ctx, who, why, next)
	}
	now, err := s.StateIn(ctx)
	if err == nil {
		_, err = next(now)
	}
	return out, err
}

type exactKey struct{}

// Exact marks loading a file of policy into a draft so that what the sections of the file do not name goes.
func Exact(ctx context.Context) context.Context { return context.WithValue(ctx, exactKey{}, true) }

func exact(ctx context.Context) bool { return ctx.Value(exactKey{}) != nil }

// Differs lists what would have to change so that policy is what a file says, in the sections that it holds: nothing where it
// is. In a draft it is asked of what the draft makes.
func (s *Service) Differs(ctx context.Context, name string, text []byte) ([]draft.Edit, error) {
	now, err := s.StateIn(ctx)
	if err != nil {
		return nil, err
	}
	next, err := s.policyIn(ctx, now, name, text, true)
	if err != nil {
		return nil, err
	}
	return draft.Diff(worldfile.DocsOf(now.Policy()), worldfile.DocsOf(next), nil, "", "", ""), nil
}

// policyIn returns the policy in force with what a file of policy says; exactly, without what its sections do not name.
func (s *Service) policyIn(ctx context.Context, now *State, name string, text []byte, exactly bool) (*world.World, error) {
	var held []string
	part, err := worldfile.Read(text, worldfile.Options{File: name, Now: s.Now(), Known: now, Held: &held})
	if err != nil {
		return nil, err
	}
	if what := inventoryOf(part); what != "" {
		if DraftIn(ctx) == "" {
			return nil, &Invalid{"file", name, "policy alone is compared, as dump --policy writes it; the file holds " + what}
		}
		return nil, &Invalid{"file", name, "a draft is of policy; the file holds " + what + ", which changes at once: load it outside the draft"}
	}
	next := world.Merge(now.Policy(), part)
	if exactly {
		next = worldfile.Exactly(next, part, held)
	}
	return next, nil
}

// inventoryOf names what of inventory a world holds first.
func inventoryOf(w *world.World) string {
	if name := worldfile.InventoryIn(w); name != "" {
		return strings.ReplaceAll(name, "_", " ")
	}
	for i := range w.Partners {
		if len(w.Partners[i].Stance) > 0 {
			return "stances of " + w.Partners[i].ID
		}
	}
	return ""
}

// forgetStances adds an unknown stance for every key that a partner's list,
// where it is given, no longer holds.
func forgetStances(now, part *world.World) {
	for i := range part.Partners {
		p := &part.Partners[i]
		if p.Stance == nil {
			continue
		}
		have := map[catalogue.Key]bool{}
		for _, s := range p.Stance {
			have[s.Key] = true
		}
		for j := range now.Partners {
			if now.Partners[j].ID != p.ID {
				continue
			}
			for _, s := range now.Partners[j].Stance {
				if !have[s.Key] && s.Says != world.SaysUnknown {
					p.Stance = append(p.Stance, world.Stance{Key: s.Key, AsOf: moment.Always, Until: moment.Never})
				}
			}
		}
	}
}

// Import loads a whole world into an empty database, fast.
func (s *Service) Import(ctx context.Context, who, why string, w *world.World, progress func(done, total int)) error {
	if _, err := s.store.Import(ctx, who, why, w, progress); err != nil {
		return err
	}
	return s.Refresh(ctx)
}
