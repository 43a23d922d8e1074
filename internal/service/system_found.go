package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Counted is how many (party, action, resource) of actions that need a role, pairs of the others, and
// typical newcomers differ.
type Counted struct{ Granted, Wide, Newcomers int }

func (c Counted) any() bool { return c != Counted{} }

// countedOf is what was counted of a system, of what is meant and a reading.
type countedOf struct {
	of                    string
	beyond, short, unsure Counted
}

// SettingView is one setting of a system, meant and found.
type SettingView struct {
	Path, Title, Rule, Meant, Found string
	There                           bool // it was read
	Turn                            native.Turn
	State                           StepState // empty where nothing was ever compared
	Step                            *CarriedSetting
	ByHand                          bool
	Set                             bool   // it is a set of values for somebody or something
	MeantOwn, FoundOwn              string // what of it differs from the general values
}

// SystemView is a system with all that is known of it.
type SystemView struct {
	System                 System
	Reading                *store.Reading // nil where it was never read
	Work                   store.Work
	Settings               []SettingView
	Extra                  []native.Setting // settings there that carry no rule
	Asks                   []Asking
	Unread                 []native.Unread
	Lines                  []native.Line
	Differ, Drift, Open    int
	Beyond, Short, Unsure  Counted
	Digest                 string
	BeyondLines, ShortList []string // the first of them, in words
	Kinds                  []KindView
	Many                   bool // too many of its records stand otherwise for anybody to be counted
}

// Asking is a rule for which a system asks live while it acts, or does not.
type Asking struct {
	Rule string
	On   bool   // it asks
	Open string // what is open when nobody answers; empty where it refuses then
}

// Empty names kinds of which a reading showed none though there were some, until somebody says that it is right.
func (v *SystemView) Empty() string {
	if v.Work.Empty == emptyIsRight {
		return ""
	}
	return v.Work.Empty
}

// KindView is what a system keeps of one kind of our inventory.
type KindView struct {
	Kind, Name, Title, Says string
	Source, CanBeSource     bool
	Found                   int // there now
	Unknown, Accepted       int // of those, what stands for nothing here; and what of that is let be
	Confirmed, Open         int
	Differ, Drift           int
}

// ToWrite counts the settings that carrying the system writes.
func (v *SystemView) ToWrite() (n int) {
	for i := range v.Settings {
		if x := &v.Settings[i]; x.There && x.Found != x.Meant && x.Turn != native.Same {
			n++
		}
	}
	for i := range v.Kinds {
		n += v.Kinds[i].Differ + v.Kinds[i].Drift
	}
	return
}

// settingTitle is what a setting is called in the system's own console; a set of values by the name of whom or
// what it is for.
func (s *Service) settingTitle(d *native.Dialect, n *systemNames, path string) string {
	_, title, _ := d.Setting(path)
	id, ok := strings.CutPrefix(path, "charter:#")
	if space, known := n.Space(id); ok && known {
		return "Set of values for " + n.st.NameOf(world.Resource{Kind: catalogue.Space, ID: space})
	}
	return title
}

// kindsOf are the counts of what a system keeps, as of a number that moves with its records, and of the minute up to
// which records are let be.
type kindsOf struct {
	records uint64
	minute  moment.Moment
	source  string
	kinds   []KindView
}

// kindsNow counts what a system keeps of each kind; counted once until something of it changes.
func (s *Service) kindsNow(ctx context.Context, x *System, work store.Work) ([]KindView, error) {
	of := kindsOf{records: work.Records, minute: s.Now() / 60e6, source: strings.Join(x.Sources, " ")}
	s.keptKinds.Lock()
	defer s.keptKinds.Unlock()
	if k, ok := s.keptKinds.by[x.ID]; ok && work.Records > 0 && k.records == of.records && k.minute == of.minute && k.source == of.source {
		return k.kinds, nil
	}
	counts, err := s.store.RecordCounts(ctx, x.ID)
	if err != nil {
		return nil, err
	}
	for i := range x.dialect().Holdings {
		h := &x.dialect().Holdings[i]
		k := KindView{Kind: h.Kind, Name: h.Name, Title: h.Title, Says: h.Says, CanBeSource: h.Source, Source: slices.Contains(x.Sources, h.Kind)}
		for state, n := range counts[h.Kind] {
			switch StepState(state) {
			case StepConfirmed:
				k.Confirmed += n
			case StepDiffers, StepByHand:
				k.Differ += n
			case "drift":
				k.Drift += n
			default:
				k.Open += n
			}
		}
		if k.Found, err = s.store.CountFound(ctx, x.ID, h.Kind); err != nil {
			return nil, err
		}
		if k.Unknown, k.Accepted, err = s.store.CountUnknown(ctx, x.ID, h.Kind, s.Now()); err != nil {
			return nil, err
		}
		of.kinds = append(of.kinds, k)
	}
	if s.keptKinds.by == nil {
		s.keptKinds.by = map[string]kindsOf{}
	}
	s.keptKinds.by[x.ID] = of
	return of.kinds, nil
}

// SystemView returns a system with all that is known of it.
func (s *Service) SystemView(ctx context.Context, id string) (*SystemView, error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	r, err := s.store.ReadingOf(ctx, id, moment.Never-1)
	if err != nil {
		return nil, err
	}
	all, err := s.settingsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	work, err := s.store.WorkOn(ctx, id)
	if err != nil {
		return nil, err
	}
	return s.viewSystem(ctx, s.State(), x, r, all, work, true)
}

func (s *Service) viewSystem(
	ctx context.Context,
	st *State,
	x *System,
	r *store.Reading,
	all map[string]*CarriedSetting,
	work store.Work,
	counts bool,
) (*SystemView, error) {
	d := x.dialect()
	v := &SystemView{System: *x, Reading: r, Work: work, Lines: d.Describe()}
	m, err := s.meantNow(ctx, st, x)
	if err != nil {
		return nil, err
	}
	names, err := s.systemNames(ctx, st, x)
	if err != nil {
		return nil, err
	}
	digest := sha256.New()
	known, general := map[string]bool{}, map[string]string{}
	var values map[string]string
	if r != nil {
		values = r.Values
	}
	for _, want := range d.Wanted(m, values) {
		known[want.Path] = true
		title := s.settingTitle(d, names, want.Path)
		y := SettingView{Path: want.Path, Title: title, Rule: d.RuleAt(want.Path), Meant: want.Value, ByHand: d.ByHand(want.Path),
			Step: all[want.Path]}
		if r != nil {
			y.Found, y.There = native.At(r.Values, want.Path)
			y.Turn = d.Turn(want.Path, y.Found, want.Value)
		}
		if y.Set = native.IsSet(want.Path); y.Set {
			y.MeantOwn, y.FoundOwn = d.Own(want.Value, general), d.Own(y.Found, values)
		} else {
			general[want.Path] = want.Value
		}
		if y.Step != nil {
			y.State = y.Step.State
			if y.Step.Drift != nil {
				v.Drift++
			}
			if y.Step.open() {
				v.Open++
			}
		}
		if y.There && y.Found != y.Meant && y.Turn != native.Same {
			v.Differ++
			fmt.Fprintln(digest, y.Path, y.Found, y.Meant)
		}
		v.Settings = append(v.Settings, y)
	}
	if r != nil {
		if v.Kinds, err = s.kindsNow(ctx, x, work); err != nil {
			return nil, err
		}
		for _, k := range v.Kinds {
			fmt.Fprintln(digest, k.Kind, k.Differ, k.Drift)
		}
	}
	v.Digest = hex.EncodeToString(digest.Sum(nil))[:16]
	if r == nil {
		return v, nil
	}
	for _, l := range d.Lives {
		a := Asking{Rule: l.Rule, On: r.Values[l.Path] == l.On}
		if a.On && r.Values[l.Unanswered] != l.Refuses {
			a.Open = l.Opened
		}
		v.Asks = append(v.Asks, a)
		known[l.Path], known[l.Unanswered] = true, true
	}
	for path, value := range r.Values {
		if !known[path] {
			v.Extra = append(v.Extra, native.Setting{Path: path, Value: value})
		}
	}
	slices.SortFunc(v.Extra, func(a, b native.Setting) int { return cmp.Compare(a.Path, b.Path) })
	f := d.From(r.Values)
	v.Unread = f.Unread
	if !counts {
		return v, nil
	}
	key := fmt.Sprint(st.Head, r.At, r.Values, work.Records)
	s.countedNow.Lock()
	kept, counted := s.countedNow.by[x.ID]
	s.countedNow.Unlock()
	if counted && kept.of == key {
		v.Beyond, v.Short, v.Unsure = kept.beyond, kept.short, kept.unsure
		return v, nil
	}
	apart, many, err := s.asides(ctx, st, x)
	if err != nil {
		return nil, err
	}
	if v.Many = many; many {
		return v, nil
	}
	found := []foundIn{{f, names}}
	most, err := s.overlaid(ctx, st, found, apart, true)
	if err != nil {
		return nil, err
	}
	least, err := s.overlaid(ctx, st, found, apart, false)
	if err != nil {
		return nil, err
	}
	stop := ctx.Err
	count := func(before, after *engine.Snapshot) (gained, lost Counted, err error) {
		imp, err := engine.ImpactOf(before, after, s.Now(), nil, stop, nil)
		if err != nil {
			return gained, lost, err
		}
		gained.Granted, lost.Granted = imp.Total().Gained, imp.Total().Lost
		for _, w := range imp.WideGained {
			gained.Wide += w.Pairs
		}
		for _, w := range imp.WideLost {
			lost.Wide += w.Pairs
		}
		of := map[string]map[string]bool{"gained": {}, "lost": {}}
		for _, n := range imp.Newcomers {
			if of[n.Change] != nil {
				of[n.Change][n.Newcomer.Who.String()] = true
			}
		}
		gained.Newcomers, lost.Newcomers = len(of["gained"]), len(of["lost"])
		return gained, lost, nil
	}
	if v.Beyond, _, err = count(st.Snapshot, most); err != nil {
		return nil, err
	}
	if _, v.Short, err = count(st.Snapshot, least); err != nil {
		return nil, err
	}
	if v.Unsure, _, err = count(least, most); err != nil {
		return nil, err
	}
	s.countedNow.Lock()
	defer s.countedNow.Unlock()
	if s.countedNow.by == nil {
		s.countedNow.by = map[string]countedOf{}
	}
	s.countedNow.by[x.ID] = countedOf{key, v.Beyond, v.Short, v.Unsure}
	return v, nil
}

// foundIn is what was found in one system, and what things are called there.
type foundIn struct {
	found *native.Found
	names *systemNames
}

// overlaid is a view as it counts in systems: with most the loosest faithful reading of what they hold,
// else the tightest.
func (s *Service) overlaid(ctx context.Context, st *State, found []foundIn, apart []aside, most bool) (*engine.Snapshot, error) {
	policy := st.Policy()
	var rules []catalogue.RuleID
	for _, x := range found {
		policy = native.Overlay(policy, x.found, most, x.names)
		rules = append(rules, x.found.Rules()...)
	}
	e := st.Aside()
	e.SetPolicy(policy)
	if err := s.layOver(ctx, st, e, apart, most); err != nil {
		return nil, err
	}
	e.Unsay(rules)
	laid := e.Done()
	e = nil
	for _, x := range found { // what systems hold for single spaces counts instead of what is said there
		spaces := x.found.Spaces(x.names, most)
		for _, id := range sortedKeys(spaces) {
			if e == nil {
				e = laid.Aside()
			}
			for _, r := range spaces[id] {
				e.SetValueAt(world.Resource{Kind: catalogue.Space, ID: id}, r.Rule, r.Value)
			}
		}
	}
	if e == nil {
		return laid, nil
	}
	return e.Done(), nil
}

// foundKey marks questions that are asked of what is found.
type foundKey struct{}

// AsFound marks what is asked under a context as asked of what systems hold: at most or at least.
func AsFound(ctx context.Context, most bool) context.Context {
	return context.WithValue(ctx, foundKey{}, most)
}

// FoundIn tells whether what is asked under a context is asked of what systems hold, and of which
// reading of it.
func FoundIn(ctx context.Context) (most, found bool) {
	most, found = ctx.Value(foundKey{}).(bool)
	return
}

// foundState is the present view as systems have it, kept until something of it changes.
type foundState struct {
	of    string
	state *State
}

// StateFound returns the present view as it counts in the systems, with the moment of the oldest
// reading; what no system was read for is as it is meant.
func (s *Service) StateFound(ctx context.Context, most bool) (*State, error) {
	st := s.State()
	list, err := s.Systems(ctx)
	if err != nil {
		return nil, err
	}
	key := fmt.Sprint(st.Head, most)
	var found []foundIn
	var read []*System
	for i := range list {
		r, err := s.store.ReadingOf(ctx, list[i].ID, moment.Never-1)
		if err != nil {
			return nil, err
		}
		if r == nil {
			continue
		}
		work, err := s.store.WorkOn(ctx, list[i].ID)
		if err != nil {
			return nil, err
		}
		key += fmt.Sprint(" ", r.System, r.At, " ", work.Records)
		n, err := s.systemNames(ctx, st, &list[i])
		if err != nil {
			return nil, err
		}
		found, read = append(found, foundIn{list[i].dialect().From(r.Values), n}), append(read, &list[i])
	}
	if len(found) == 0 {
		return nil, fmt.Errorf("%w: no system was read yet; what is found is not known", ErrConflict)
	}
	k := 0
	if most {
		k = 1
	}
	if kept := s.foundStates[k].Load(); kept != nil && kept.of == key {
		return kept.state, nil
	}
	var apart []aside
	for _, x := range read {
		own, _, err := s.asides(ctx, st, x)
		if err != nil {
			return nil, err
		}
		apart = append(apart, own...)
	}
	laid, err := s.overlaid(ctx, st, found, apart, most)
	if err != nil {
		return nil, err
	}
	out := &State{Snapshot: laid, Head: st.Head, Variant: "found " + key}
	s.foundStates[k].Store(&foundState{key, out})
	return out, nil
}

// NotLookedAt lists the services that no system was read for.
func (s *Service) NotLookedAt(ctx context.Context) (services []string, oldest moment.Moment, err error) {
	list, err := s.Systems(ctx)
	oldest = moment.Never
	carried := map[string]bool{}
	for i := range list {
		r, err := s.store.ReadingOf(ctx, list[i].ID, moment.Never-1)
		if err != nil {
			return nil, oldest, err
		}
		if r != nil {
			oldest = min(oldest, r.Seen)
			for _, name := range list[i].dialect().Services {
				carried[name] = true
			}
		}
	}
	for k := catalogue.Service(0); k < catalogue.NumServices; k++ {
		if !carried[k.String()] {
			services = append(services, k.String())
		}
	}
	return services, oldest, err
}

// way says of a service whether a change is on its way to the system that carries it, and from when the
// last of them is expected to count: 0 where nobody knows.
type way struct {
	open bool
	from moment.Moment
	// What is under way of its settings, and whether that is so of records.
	settings []openSetting
	records  bool
	unsent   bool
	last     moment.Moment
}

// openSetting is a setting on its way, by the rules that it carries.
type openSetting struct {
	rules []string
	from  moment.Moment // 0 where nobody knows
}

// of is the way of what an action leans on.
func (w *way) of(action catalogue.ActionID) way {
	out, known := way{open: w.records, from: w.last}, !w.unsent
	for _, x := range w.settings {
		for _, name := range x.rules {
			if r, ok := catalogue.RuleByName(name); ok && slices.Contains(catalogue.AskedBy(r.ID), action) {
				out.open, known, out.from = true, known && x.from > 0, max(out.from, x.from)
				break
			}
		}
	}
	if !known {
		out.from = 0
	}
	return out
}

// ways are those of all systems that are carried, as of a head and of what is known of their records.
type ways struct {
	of      string
	systems []System
	by      map[string]way
}

// to is the way to the system that carries an action; carried is false where none does.
func (w *ways) to(action catalogue.ActionID) (x way, carried bool) {
	if c := carrierOf(w.systems, action); c != nil {
		if x, carried = w.by[c.ID]; carried {
			x = x.of(action)
		}
	}
	return
}

// carrierOf finds the system that carries an action: one that carries it besides its services, else the one that
// carries its service.
func carrierOf(list []System, action catalogue.ActionID) *System {
	act := action.Get()
	for i := range list {
		if slices.Contains(list[i].dialect().Also, act.Name) {
			return &list[i]
		}
	}
	for i := range list {
		if slices.Contains(list[i].dialect().Services, act.Service().String()) {
			return &list[i]
		}
	}
	return nil
}
