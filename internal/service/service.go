// Package service is what the product does with a database: it keeps the
// snapshot that questions are asked of, follows what changes, and makes changes.
// It knows neither HTTP nor the terminal.
package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"reflect"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Service answers and changes. It is safe for concurrent use.
type Service struct {
	store *store.Store
	clock func() time.Time
	log   *slog.Logger

	state   atomic.Pointer[State]
	bearers sync.Map   // by hash of a token: bearer
	fresh   sync.Mutex // one at a time brings the state up to date

	past    past
	notice  sync.Mutex // guards noticed
	noticed *noticed

	watch    sync.Mutex
	watchers map[chan store.Head]bool

	keptDocs struct {
		sync.Mutex
		of   *world.World
		docs draft.Docs
	}
	sets struct {
		sync.Mutex
		known bool
		seq   uint64
		list  []Draft
	}
	carried atomic.Pointer[store.Carried]
	looked  atomic.Pointer[looked]
	warned  atomic.Pointer[moment.Day]
	forgot  atomic.Pointer[moment.Day]
	braked  atomic.Pointer[Braked]
	letting struct { // how many records were let go today
		sync.Mutex
		day moment.Day
		n   int
	}

	checkClock bool // against the database's: where the clock is the system's
	skew       struct {
		sync.Mutex
		at time.Time
		by time.Duration
	}

	outside  atomic.Pointer[string]
	followed atomic.Int64 // when the database was last followed, in milliseconds of Unix time; 0 for never

	askedAt atomic.Uint64 // how far requests were looked through
	stood   struct {
		sync.Mutex
		by map[string]stood
	}
}

// State is one consistent view: a snapshot and where in the history it stands.
type State struct {
	*engine.Snapshot
	Head    store.Head
	Variant string // what it would be with, where it is not as recorded: digests of drafts
	AsDraft string // the name of the draft that it is as; empty for none
}

// Policy returns the policy in force.
func (s *State) Policy() *world.World { return s.Snapshot.Policy() }

// New loads the database and returns a service on it. A nil clock is the
// system's.
func New(ctx context.Context, st *store.Store, clock func() time.Time, log *slog.Logger) (*Service, error) {
	if clock == nil {
		return NewOn(ctx, st, time.Now, log)
	}
	s := &Service{store: st, clock: clock, log: log, watchers: map[chan store.Head]bool{}}
	return s, s.reload(ctx)
}

// NewOn is New on a clock that has to agree with the database's: where it does not, nothing that
// falls at a moment is carried out.
func NewOn(ctx context.Context, st *store.Store, clock func() time.Time, log *slog.Logger) (*Service, error) {
	s := &Service{store: st, clock: clock, checkClock: true, log: log, watchers: map[chan store.Head]bool{}}
	return s, s.reload(ctx)
}

// taking is an Editor that takes records which cannot be read as they are kept without what
// no text may hold; they are findings.
type taking struct {
	*engine.Editor
	log *slog.Logger
}

func (x taking) Bad(kind, id string, err error, lost bool) {
	x.log.Error("a record cannot be read as it is kept; mend it", "kind", kind, "id", id, "counts", !lost, "error", err)
}

func (s *Service) reload(ctx context.Context) error {
	e := engine.New()
	h, err := s.store.Read(ctx, store.Head{}, taking{e, s.log})
	if err != nil {
		return fmt.Errorf("the database cannot be read: %w", err)
	}
	s.state.Store(&State{Snapshot: e.Done(), Head: h})
	return nil
}

// State returns the present view.
func (s *Service) State() *State { return s.state.Load() }

// Now returns the present moment.
func (s *Service) Now() moment.Moment { return moment.Of(s.clock()) }

// Ready tells what of the database works: reading, writing, and following what other services
// change. Each is nil where it does.
func (s *Service) Ready(ctx context.Context) (read, write, follow error) {
	read, write = s.store.Ping(ctx), s.store.Writable(ctx)
	if at := s.followed.Load(); at != 0 && time.Since(time.UnixMilli(at)) > followsWithin {
		follow = fmt.Errorf("nothing was heard of other services since %s", time.UnixMilli(at).UTC().Format(time.RFC3339))
	}
	return
}

// followsWithin is how long ago a service that follows has looked at most.
const followsWithin = 10 * time.Second

// Refresh brings the state up to what the database holds.
func (s *Service) Refresh(ctx context.Context) error {
	s.fresh.Lock()
	defer s.fresh.Unlock()
	now := s.State()
	e := now.Edit()
	h, all, err := s.store.Follow(ctx, now.Head, taking{e, s.log})
	switch {
	case err != nil:
		return err
	case all:
		if err := s.reload(ctx); err != nil {
			return err
		}
		h = s.State().Head
	case h == now.Head:
		return nil
	default:
		s.state.Store(&State{Snapshot: e.Done(), Head: h})
	}
	s.lookAgain(ctx, now.Head.Seq, h.Seq)
	s.tell(h)
	return nil
}

// Run follows the database until the context ends. A database that is away is
// asked again; what is known is answered meanwhile.
func (s *Service) Run(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "the database is away; answering from what is known", "the database is back", func() error {
		h, err := s.store.Head(ctx)
		if err == nil && h != s.State().Head {
			err = s.Refresh(ctx)
		}
		if err == nil {
			s.followed.Store(time.Now().UnixMilli())
		}
		if err == nil {
			if wrong := s.clockHolds(ctx); wrong == nil { // it is told where steps are carried out
				err = s.publishDue(ctx)
			}
		}
		if err == nil {
			err = s.noticeRequests(ctx)
		}
		return err
	})
}

// repeat does something every so often until the context ends; once it fails, and once it
// works again, it says so.
func (s *Service) repeat(ctx context.Context, every time.Duration, fails, works string, do func() error) {
	wait := every // what fails is tried less and less often, every two seconds in the end
	tick := time.NewTimer(wait)
	defer tick.Stop()
	away := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		err := do()
		if err == nil {
			wait = every
		} else {
			wait = max(every, min(2*wait, 2*time.Second))
		}
		tick.Reset(wait)
		if ctx.Err() != nil {
			return
		}
		if err != nil && !away {
			s.log.Error(fails, "error", err)
		} else if err == nil && away {
			s.log.Info(works)
		}
		away = err != nil
	}
}

// Watch returns a channel that hears of every new head until stop is called. A
// slow listener misses heads in between, never the last.
func (s *Service) Watch() (heads <-chan store.Head, stop func()) {
	c := make(chan store.Head, 1)
	s.watch.Lock()
	s.watchers[c] = true
	s.watch.Unlock()
	return c, func() {
		s.watch.Lock()
		delete(s.watchers, c)
		s.watch.Unlock()
	}
}

func (s *Service) tell(h store.Head) {
	s.watch.Lock()
	defer s.watch.Unlock()
	for c := range s.watchers {
		select {
		case <-c:
		default:
		}
		c <- h
	}
}

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrStale    = errors.New("it was changed meanwhile")
)

// Invalid is bad input: the field, its value, and what would be right.
type Invalid struct{ Field, Value, Reason string }

func (e *Invalid) Error() string { return fmt.Sprintf("%s %q: %s", e.Field, e.Value, e.Reason) }

// change runs fn on the newest state while nobody else writes, and brings the
// state up to date afterwards.
func (s *Service) change(ctx context.Context, who, why string, fn func(*State, *store.Tx) error) error {
	_, err := s.store.Change(ctx, who, why, func(t *store.Tx) error {
		if t.Head() != s.State().Head {
			if err := s.Refresh(ctx); err != nil {
				return err
			}
		}
		return fn(s.State(), t)
	})
	if err != nil {
		return err
	}
	if err := s.Refresh(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("%w: %w", ErrDone, err)
	}
	return nil
}

// ErrDone is returned where a change is written and cannot be read back: the database went away
// between.
var ErrDone = errors.New("it was done, and cannot be shown yet")

// changeLong is change for what may read or weigh whole worlds between two statements.
func (s *Service) changeLong(ctx context.Context, who, why string, fn func(*State, *store.Tx) error) error {
	return s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		if err := t.Patient(); err != nil {
			return err
		}
		return fn(now, t)
	})
}

// errPreview ends a change that has found out what it was asked and writes nothing.
var errPreview = errors.New("preview")

// changing is changeLong. As a preview it runs aside, on what is written when it begins: it
// writes nothing, and nobody waits for it. What fn would have written is not there when fn reads
// it again.
func (s *Service) changing(ctx context.Context, who, why string, preview bool, fn func(*State, *store.Tx) error) error {
	if !preview {
		err := s.changeLong(ctx, who, why, fn)
		if errors.Is(err, errPreview) {
			return nil
		}
		return err
	}
	for try := 0; ; try++ {
		moved := false
		err := s.store.Look(ctx, who, why, func(t *store.Tx) error {
			if t.Head() != s.State().Head {
				if err := s.Refresh(ctx); err != nil {
					return err
				}
				if moved = t.Head() != s.State().Head && try < lookAgainAtMost; moved {
					return nil
				}
			}
			return fn(s.State(), t)
		})
		if errors.Is(err, errPreview) {
			err = nil
		}
		if !moved || err != nil {
			return err
		}
	}
}

// lookAgainAtMost is how often a preview begins anew because others wrote between its reading of
// the database and of the state; after that it takes the state, which is the newer of the two.
const lookAgainAtMost = 5

// writePolicy writes what differs between the policy in force and next. It
// returns how many entries of each kind differ.
func writePolicy(t *store.Tx, was, next *world.World, count map[string]int) error {
	put := func(kind, id string, doc []byte) error {
		did, err := t.PutPolicy(kind, id, doc)
		if did {
			count[kind]++
		}
		return err
	}
	if next.Organisation != was.Organisation && next.Organisation != nil {
		if err := put("organisation", "ours", worldfile.OrganisationDoc(next.Organisation)); err != nil {
			return err
		}
	}
	if next.Settings != was.Settings && next.Settings != nil {
		if err := put("settings", "ours", worldfile.SettingsDoc(next.Settings)); err != nil {
			return err
		}
	}
	noStance := func(p *world.Partner) []byte {
		q := *p
		q.Stance = nil
		return worldfile.PartnerDoc(&q)
	}
	err := errors.Join(
		differ(was.Rules, next.Rules, func(x *world.RuleSetting) string { return x.Rule.String() }, func(x *world.RuleSetting) []byte { return worldfile.RuleDoc(*x) }, "rule", put),
		differ(was.Partners, next.Partners, func(x *world.Partner) string { return x.ID }, noStance, "partner", put),
		differ(was.Barred, next.Barred, (*world.Bar).Key, func(x *world.Bar) []byte { return worldfile.BarDoc(x) }, "bar", put),
		differ(was.Personal, next.Personal, func(x *world.Entry) string { return x.Domain.String() }, func(x *world.Entry) []byte { return worldfile.EntryDoc(x) }, "personal", put),
		differ(was.Exceptions, next.Exceptions, func(x *world.Exception) string { return x.ID }, func(x *world.Exception) []byte { return worldfile.ExceptionDoc(x) }, "exception", put),
		differ(was.Bundles, next.Bundles, func(x *world.Bundle) string { return x.ID }, func(x *world.Bundle) []byte { return worldfile.BundleDoc(x) }, "bundle", put),
		differ(was.Expectations, next.Expectations, func(x *world.Expectation) string { return x.ID }, func(x *world.Expectation) []byte { return worldfile.ExpectationDoc(x) }, "expectation", put),
	)
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

// differ puts every entry of next that was lacks or has otherwise, and removes
// those that next lacks.
func differ[T any](was, next []T, key func(*T) string, doc func(*T) []byte, kind string, put func(kind, id string, doc []byte) error) error {
	old := make(map[string]*T, len(was))
	for i := range was {
		old[key(&was[i])] = &was[i]
	}
	for i := range next {
		k := key(&next[i])
		if o := old[k]; o == nil || !reflect.DeepEqual(o, &next[i]) {
			if err := put(kind, k, doc(&next[i])); err != nil {
				return err
			}
		}
		delete(old, k)
	}
	for k := range old {
		if err := put(kind, k, nil); err != nil {
			return err
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
	Going    *Waiting // what the dates of the records that came would set going; nil where none came
	Waits    bool     // they wait until an administrator releases them
	Odd      []string // what an earlier version took and this one does not, in words
}

// Load reads a file and writes it, all or nothing. With preview it writes
// nothing and says what would change. Errors of the file are worldfile.Errors.
func (s *Service) Load(ctx context.Context, who, why, name string, text []byte, preview bool) (Loaded, error) {
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
		policy := *part
		policy.People, policy.Groups, policy.Spaces, policy.Meetings, policy.Guests, policy.Grants, policy.Links, policy.Forwarders, policy.Contacts, policy.Letters, policy.Statements, policy.DatesFrom = nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil, nil
		if _, begun, err := t.Floor("organisation"); err != nil {
			return err
		} else if !begun && len(part.Guests) > 0 && !restoring(ctx) && part.Settings == nil && now.Policy().Settings == nil { // nobody tells yet when guests are seen
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
		if preview { // nobody need confirm what only is looked at
			err = writePolicy(t, now.Policy(), next, out.Kinds)
			err = errors.Join(err, holdBack(t, now.Policy(), next, out.Kinds))
		} else {
			for _, e := range draft.Diff(s.docs(now), worldfile.DocsOf(next), nil, who, "", "") {
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
		out.Changed, out.Kinds = 0, map[string]int{}
		part, err := worldfile.Read(text, worldfile.Options{File: name, Now: s.Now(), Known: now})
		if err != nil {
			return nil, err
		}
		if what := inventoryOf(part); what != "" {
			return nil, &Invalid{"file", name, "a draft is of policy; the file holds " + what + ", which changes at once: load it outside the draft"}
		}
		next := world.Merge(now.Policy(), part)
		for _, e := range draft.Diff(worldfile.DocsOf(now.Policy()), worldfile.DocsOf(next), nil, "", "", "") {
			out.Kinds[e.Kind]++
			out.Changed++
		}
		return next, nil
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

// inventoryOf names what of inventory a world holds first.
func inventoryOf(w *world.World) string {
	for _, x := range []struct {
		n    int
		what string
	}{{len(w.People), "people"}, {len(w.Groups), "groups"}, {len(w.Spaces), "spaces"}, {len(w.Meetings), "meetings"}, {len(w.Guests), "guests"}, {len(w.Grants), "grants"},
		{len(w.Links), "links"}, {len(w.Forwarders), "forwarders"}, {len(w.Contacts), "contacts"}, {len(w.Letters), "letters"}, {len(w.Statements), "statements"}, {len(w.DatesFrom), "floors of dates"}} {
		if x.n > 0 {
			return x.what
		}
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

// collect is a sink that builds a world for a dump.
type collect struct {
	w   world.World
	at  map[string]int // of spaces
	bad []Unread
}

// Unread is a record that cannot be read as it is kept: it counts without what no text may
// hold, or, where even so it cannot be read, not at all.
type Unread struct {
	Kind, ID, Reason string
	Lost             bool
}

// Text says so in a sentence.
func (u *Unread) Text() string {
	what := "it counts without that"
	if u.Lost {
		what = "it counts for nothing"
	}
	return fmt.Sprintf("The %s %s cannot be read as it is kept: %s; %s.", u.Kind, u.ID, strings.Join(strings.Fields(strings.TrimSuffix(u.Reason, ".")), " "), what)
}

func (c *collect) Bad(kind, id string, err error, lost bool) {
	reason := err.Error()
	var es worldfile.Errors
	if errors.As(err, &es) && len(es) > 0 {
		reason = es[0].Msg
	}
	if u := (*worldfile.Unwritable)(nil); errors.As(err, &u) {
		reason = u.Reason
	}
	c.bad = append(c.bad, Unread{kind, id, reason, lost})
}

func (c *collect) PutGroup(x *world.Group)   { c.w.Groups = append(c.w.Groups, *x) }
func (c *collect) PutPerson(x *world.Person) { c.w.People = append(c.w.People, *x) }
func (c *collect) PutSpace(x *world.Space) {
	c.at[x.ID] = len(c.w.Spaces)
	c.w.Spaces = append(c.w.Spaces, *x)
}
func (c *collect) PutItem(x *world.Item) {
	if i, ok := c.at[x.Space]; ok {
		c.w.Spaces[i].Items = append(c.w.Spaces[i].Items, *x)
	}
}
func (c *collect) PutMeeting(x *world.Meeting)          { c.w.Meetings = append(c.w.Meetings, *x) }
func (c *collect) RemoveGuest(addr.Address)             {}
func (c *collect) PutGuest(x *world.Guest)              { c.w.Guests = append(c.w.Guests, *x) }
func (c *collect) SetGrants(_ string, xs []world.Grant) { c.w.Grants = append(c.w.Grants, xs...) }
func (c *collect) PutLink(x *world.Link)                { c.w.Links = append(c.w.Links, *x) }
func (c *collect) PutStatement(x *world.Statement)      { c.w.Statements = append(c.w.Statements, *x) }
func (c *collect) PutLetter(x *world.Letter)            { c.w.Letters = append(c.w.Letters, *x) }
func (c *collect) PutContact(x *world.Contact)          { c.w.Contacts = append(c.w.Contacts, *x) }
func (c *collect) SetForwarders(_ string, xs []world.Forwarder) {
	c.w.Forwarders = append(c.w.Forwarders, xs...)
}
func (c *collect) SetFloors(xs []world.DatesFrom) { c.w.DatesFrom = xs }
func (c *collect) SetPolicy(p *world.World) {
	inv := c.w
	c.w = *p
	c.w.People, c.w.Groups, c.w.Spaces, c.w.Meetings, c.w.Guests = inv.People, inv.Groups, inv.Spaces, inv.Meetings, inv.Guests
	c.w.Grants, c.w.Links, c.w.Forwarders, c.w.Contacts, c.w.Letters, c.w.Statements, c.w.DatesFrom = inv.Grants, inv.Links, inv.Forwarders, inv.Contacts, inv.Letters, inv.Statements, inv.DatesFrom
}

// World returns everything as it was at a head; the zero Head is now.
func (s *Service) World(ctx context.Context, at store.Head) (*world.World, error) {
	w, _, err := s.WorldAndUnread(ctx, at)
	return w, err
}

// WorldAndUnread does the same, and names the records that could not be read as they are kept.
func (s *Service) WorldAndUnread(ctx context.Context, at store.Head) (*world.World, []Unread, error) {
	c := &collect{at: map[string]int{}}
	_, err := s.store.Read(ctx, at, c)
	return &c.w, c.bad, err
}

// Mend rewrites a record that cannot be read without the characters that no text may hold.
func (s *Service) Mend(ctx context.Context, who Who, kind, id, why string) error {
	if why = strings.TrimSpace(why); why == "" {
		why = "mended: a character that no text may hold"
	}
	if strings.ContainsFunc(kind, func(r rune) bool { return r != '_' && (r < 'a' || r > 'z') }) {
		return &Invalid{"kind", kind, "write the kind that the finding names, as letter or space"}
	}
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		did, err := s.mend(t, kind, id)
		if err == nil && !did {
			err = fmt.Errorf("%w: %s %s is as it should be", ErrConflict, kind, id)
		}
		return err
	})
}

// mend does so wherever a kind is kept: in columns, among policy, or as a record of its own.
func (s *Service) mend(t *store.Tx, kind, id string) (bool, error) {
	missing := fmt.Errorf("%w: there is no %s %q", ErrNotFound, kind, id)
	switch kind {
	case "guest":
		g, err := t.Guest(id)
		if err != nil || g == nil {
			return false, orMissing(err, missing)
		}
		if worldfile.Plain(&g.Name, &g.Purpose, &g.Language, &g.Location) == nil {
			return false, nil
		}
		return t.PutGuest(g)
	case "item":
		it, place, ok, err := t.Item(id)
		if err != nil || !ok {
			return false, orMissing(err, missing)
		}
		if worldfile.Plain(&it.Name) == nil {
			return false, nil
		}
		return t.PutItem(&it, place)
	}
	for _, kept := range []struct {
		doc func(kind, id string) ([]byte, error)
		put func(kind, id string, doc []byte) (bool, error)
	}{{t.Record, t.PutRecord}, {t.PolicyDoc, t.PutPolicy}} {
		doc, err := kept.doc(kind, id)
		if err != nil {
			return false, err
		}
		if doc == nil {
			continue
		}
		next, err := worldfile.Mended(doc)
		if err != nil {
			return false, &Invalid{"id", id, "it is no record of texts; " + err.Error()}
		}
		return kept.put(kind, id, next)
	}
	return false, missing
}

// Journal returns entries of the journal, the newest first.
func (s *Service) Journal(ctx context.Context, q store.JournalQuery) ([]store.Entry, error) {
	return s.store.Journal(ctx, q)
}

// VerifyJournal recomputes the chain of seals.
func (s *Service) VerifyJournal(ctx context.Context) (uint64, *store.Broken, error) {
	return s.store.VerifyJournal(ctx)
}

// Etag is a validator of a doc (RFC 9110 §8.8.3).
func Etag(doc []byte) string { return store.Etag(doc) }

// part makes a change of policy: an edit of the draft that ctx is in, or published at
// once as a draft of one change.
func (s *Service) part(ctx context.Context, who, why string, make func(*State) (*world.World, error)) error {
	if id := DraftIn(ctx); id != "" {
		return s.editDraft(ctx, id, who, why, make)
	}
	return s.quick(ctx, who, why, make)
}

// RuleChange is a change of a rule's limit and default; empty leaves one as it is.
type RuleChange struct {
	Rule           string
	Limit, Default string
	Held           bool
	IfMatch        string
}

// SetRule changes what the organisation says of a rule.
func (s *Service) SetRule(ctx context.Context, who, why string, c RuleChange) error {
	rule, err := FindRule(c.Rule)
	if err != nil {
		return err
	}
	parse := func(field, text string) (catalogue.Value, error) {
		if text == "" {
			return catalogue.Unset, nil
		}
		return ParseValue(rule, field, text)
	}
	limit, err := parse("limit", c.Limit)
	if err != nil {
		return err
	}
	def, err := parse("default", c.Default)
	if err != nil {
		return err
	}
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if c.IfMatch != "" && c.IfMatch != now.RuleEtag(rule.ID) {
			return nil, ErrStale
		}
		set := world.RuleSetting{Rule: rule.ID, Limit: limit, Default: def, Held: c.Held && def != catalogue.Unset, Counts: catalogue.Unset}
		limits := world.Limits(now.Policy(), &world.World{Rules: []world.RuleSetting{set}})
		if def != catalogue.Unset && rule.Scale.Looser(def, limits[rule.ID]) {
			if !c.Held {
				return nil, &Invalid{"default", c.Default, fmt.Sprintf("it is looser than the limit, %s; raise the limit first, or give the default as held back", rule.Scale.Format(limits[rule.ID]))}
			}
			set.Counts = limits[rule.ID]
		}
		return world.Merge(now.Policy(), &world.World{Rules: []world.RuleSetting{set}}), nil
	})
}

// SetTwoPeople changes when somebody else must confirm what is published: never, where it
// loosens something, or always.
func (s *Service) SetTwoPeople(ctx context.Context, who, why, when string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if now.Policy().Organisation == nil {
			return nil, fmt.Errorf("%w: nothing is said of the organisation yet; load it first", ErrConflict)
		}
		o := *now.Policy().Organisation
		o.TwoPeople = when
		return world.Merge(now.Policy(), &world.World{Organisation: &o}), nil
	})
}

// RuleEtag is the validator of what the organisation says of a rule.
func (s *State) RuleEtag(r catalogue.RuleID) string {
	for _, x := range s.Policy().Rules {
		if x.Rule == r {
			return Etag(worldfile.RuleDoc(x))
		}
	}
	return Etag(nil)
}

// Partner finds a partner.
func (s *State) Partner(id string) (*world.Partner, error) {
	for i := range s.Policy().Partners {
		if p := &s.Policy().Partners[i]; p.ID == id {
			return p, nil
		}
	}
	return nil, fmt.Errorf("%w: there is no partner %q", ErrNotFound, id)
}

// PartnerEtag is the validator of what the policy says of a partner.
func PartnerEtag(p *world.Partner) string {
	q := *p
	q.Stance = nil
	return Etag(worldfile.PartnerDoc(&q))
}

// fieldError turns the errors of a record that did not come as a file into one
// that names the field.
func fieldError(field, value string, err error) error {
	var es worldfile.Errors
	if errors.As(err, &es) && len(es) > 0 {
		var reasons []string
		for _, e := range es {
			reasons = append(reasons, e.Msg)
		}
		return &Invalid{field, value, strings.Join(reasons, "; ")}
	}
	return err
}

// AddBar bars a domain or an address; doc is the bar as the file format has it.
func (s *Service) AddBar(ctx context.Context, who, why string, doc []byte) (world.Bar, error) {
	var bar world.Bar
	err := s.part(ctx, who, why, func(now *State) (*world.World, error) {
		part, err := worldfile.Read(append(append([]byte(`{"wexillum": "1", "barred": [`), doc...), "]}"...), worldfile.Options{Now: s.Now(), Known: now})
		if err != nil {
			return nil, fieldError("bar", string(doc), err)
		}
		bar = part.Barred[0]
		for i := range now.Policy().Barred {
			if now.Policy().Barred[i].Key() == bar.Key() {
				return nil, fmt.Errorf("%w: %s is barred already", ErrConflict, bar.Key())
			}
		}
		return world.Merge(now.Policy(), part), nil
	})
	return bar, err
}

// LiftBar removes a bar by its domain or address.
func (s *Service) LiftBar(ctx context.Context, who, why, key string) error {
	want := strings.ToLower(key)
	if d, err := addr.ParseDomain(key); err == nil {
		want = d.String()
	} else if a, err := addr.Parse(key); err == nil {
		want = a.String()
	}
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		next := *now.Policy()
		next.Barred = nil
		for _, b := range now.Policy().Barred {
			if b.Key() != want {
				next.Barred = append(next.Barred, b)
			}
		}
		if len(next.Barred) == len(now.Policy().Barred) {
			return nil, fmt.Errorf("%w: %s is not barred", ErrNotFound, key)
		}
		return &next, nil
	})
}

// SponsorOf returns who answers for a guest; "" where nobody does.
func (s *Service) SponsorOf(ctx context.Context, a addr.Address) (string, error) {
	return s.store.SponsorOf(ctx, a.String())
}

// EndingSoon lists guests and grants that end before a moment.
func (s *Service) EndingSoon(ctx context.Context, until moment.Moment, limit int) ([]store.Ending, error) {
	st, now := s.State(), s.Now()
	list, err := s.store.EndingSoon(ctx, int64(now), int64(until), limit)
	return slices.DeleteFunc(list, func(e store.Ending) bool { // whose dates have come already loses nothing more
		a, err := addr.Parse(e.Who)
		if err != nil {
			return false
		}
		i := st.PartyOf(a)
		if i == ^uint32(0) {
			return false
		}
		state, _, _, ok := st.StateOf(i, now)
		return ok && state == world.StateSuspended || !ok && e.What == "record"
	}), err
}

// ours reports whether an address is at a domain of ours, by a policy that is not in force
// yet. The longest entry decides, as it does in questions.
func ours(w *world.World, a addr.Address) bool {
	if w.Organisation == nil {
		return false
	}
	entered := func(list []world.Entry, d addr.Domain, whole bool) bool {
		for i := range list {
			if list[i].Domain == d && (whole || list[i].Subdomains) {
				return true
			}
		}
		return false
	}
	whole := true
	for d, ok := a.Domain(), true; ok; d, ok = d.Parent() {
		if entered(w.Organisation.Domains, d, whole) {
			return true
		}
		for i := range w.Partners {
			if entered(w.Partners[i].Domains, d, whole) {
				return false
			}
		}
		whole = false
	}
	return false
}
