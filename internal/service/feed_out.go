package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/scimclient"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/store"
)

// FeedOut keeps people of ours in a partner's directory by SCIM (practice §6).
type FeedOut struct {
	Partner string   `json:"partner"`
	State   string   `json:"state"`           // of FeedOutStates
	Address string   `json:"address"`         // of their server, as https://host/scim/v2
	Key     string   `json:"key"`             // where the token is that it wants: file:PATH or env:NAME
	Scope   string   `json:"scope"`           // of FeedScopes
	Of      []string `json:"of,omitempty"`    // ids of groups, or of people, as the scope says
	Every   int      `json:"every"`           // minutes between two rounds
	Brake   int      `json:"brake,omitempty"` // how many it may close in a day; 0 for the setting brake
	Leavers string   `json:"leavers"`         // of FeedLeavers
	Lifted  string   `json:"lifted,omitempty"`
	By      string   `json:"by"`
	Made    string   `json:"made"`
}

const feedOutKind = "feed_out"

// FeedOutStates are held (nothing is sent but what somebody sends by hand) and on (it is sent every so often).
var FeedOutStates = []string{FeedHeld, FeedOn}

// FeedHeld is the state in which a feed that goes out begins.
const FeedHeld = "held"

// FeedScopes are whom a feed is about, of those for whom directory.feed_out is on.
var FeedScopes = []string{ScopeAll, ScopeGroups, ScopePeople}

// Scopes of a feed.
const (
	ScopeAll    = "all"
	ScopeGroups = "groups"
	ScopePeople = "people"
)

// FeedLeavers are what becomes there of whoever leaves the scope: their account is closed, or removed.
var FeedLeavers = []string{LeaversClose, LeaversRemove}

// What becomes of leavers.
const (
	LeaversClose  = "close"
	LeaversRemove = "remove"
)

// Bounds of how often a feed is sent, in minutes, and what it begins with.
const (
	leastEvery, mostEvery, firstEvery = 1, 7 * 24 * 60, 15
)

var ruleFeedOut = catalogue.MustRule("directory.feed_out")

func feedOutIn(doc []byte, err error) (*FeedOut, error) {
	if err != nil || doc == nil {
		return nil, err
	}
	f := &FeedOut{}
	return f, json.Unmarshal(doc, f)
}

func noFeedOut(partner string) error {
	return fmt.Errorf("%w: no feed keeps people of ours at %q; begin one first", ErrNotFound, partner)
}

func (s *Service) feedOut(ctx context.Context, partner string) (*FeedOut, error) {
	f, err := feedOutIn(s.store.Record(ctx, feedOutKind, partner))
	if err == nil && f == nil {
		err = noFeedOut(partner)
	}
	return f, err
}

// FeedOutView is a feed that goes out as people look at it.
type FeedOutView struct {
	FeedOut
	Called string // the partner's name
	Shut   string // why nothing goes out; empty where it does
	Off    string // that the rule is off for them, so that nobody is kept there but by an exception; empty where it is on
	Count  store.SentCount
	Most   int // how many may be closed in a day; 0 for any number
	Goes   store.SentFeed
}

// FeedsOut lists the feeds that go out.
func (s *Service) FeedsOut(ctx context.Context) ([]FeedOutView, error) {
	list, err := s.feedsOut(ctx)
	if err != nil {
		return nil, err
	}
	out := []FeedOutView{}
	for _, f := range list {
		v, err := s.feedOutView(ctx, f)
		if err != nil {
			return nil, err
		}
		out = append(out, *v)
	}
	slices.SortFunc(out, func(a, b FeedOutView) int { return cmp.Compare(strings.ToLower(a.Called), strings.ToLower(b.Called)) })
	return out, nil
}

func (s *Service) feedsOut(ctx context.Context) (out []*FeedOut, err error) {
	err = s.store.Records(ctx, feedOutKind, "", func(_ string, doc []byte) error {
		f, err := feedOutIn(doc, nil)
		out = append(out, f)
		return err
	})
	return out, err
}

// FeedOutOf finds the feed that goes to a partner.
func (s *Service) FeedOutOf(ctx context.Context, partner string) (*FeedOutView, error) {
	f, err := s.feedOut(ctx, partner)
	if err != nil {
		return nil, err
	}
	return s.feedOutView(ctx, f)
}

func (s *Service) feedOutView(ctx context.Context, f *FeedOut) (*FeedOutView, error) {
	st := s.State()
	v := &FeedOutView{FeedOut: *f, Called: f.Partner, Shut: st.feedOutShut(f.Partner), Most: cmp.Or(f.Brake, brakeOf(st))}
	if p, err := st.Partner(f.Partner); err == nil {
		v.Called = p.Name
	}
	if st.ValueAt(f.Partner, ruleFeedOut) != valueOn {
		v.Off = fmt.Sprintf("“%s” (directory.feed_out) is off for %s, so that nobody is kept there but by an exception.", ruleFeedOut.Get().Title, v.Called)
	}
	var err error
	if v.Count, err = s.store.SentCounts(ctx, f.Partner, countedSince(f.Lifted, s.Now())); err != nil {
		return nil, err
	}
	v.Goes, err = s.store.SentFeed(ctx, f.Partner)
	return v, err
}

// feedOutShut says why nothing goes to a partner at all; empty where it does. That the rule is off closes nothing here: whoever it is off
// for leaves there.
func (s *State) feedOutShut(partner string) string {
	switch p, err := s.Partner(partner); {
	case err != nil:
		return "There is no such partner any more."
	case p.Standing != world.Active:
		return fmt.Sprintf("%s is %s.", p.Name, world.StandingNames[p.Standing])
	}
	return ""
}

// FeedOutSet is what is to be otherwise about a feed that goes out; nil leaves it as it is.
type FeedOutSet struct {
	State, Address, Key, Scope, Leavers *string
	Of                                  *[]string
	Every, Brake                        *int
}

func (f *FeedOut) set(st *State, x *FeedOutSet) error {
	for _, w := range []struct {
		field   string
		say, to *string
		of      []string
	}{{"state", x.State, &f.State, FeedOutStates}, {"scope", x.Scope, &f.Scope, FeedScopes}, {"leavers", x.Leavers, &f.Leavers, FeedLeavers}} {
		if w.say == nil {
			continue
		}
		if err := oneOfWords(w.field, *w.say, w.of...); err != nil {
			return err
		}
		*w.to = *w.say
	}
	if x.Address != nil {
		f.Address = strings.TrimSuffix(strings.TrimSpace(*x.Address), "/")
	}
	if u, err := serverAddress("address", f.Address); err != nil {
		return err
	} else if u.RawQuery != "" {
		return &Invalid{"address", f.Address, "write it up to where /Users would follow, as https://host/scim/v2"}
	}
	if x.Key != nil {
		f.Key = strings.TrimSpace(*x.Key)
	}
	if _, err := secret.At(f.Key); err != nil {
		return &Invalid{"key", "…", err.Error()}
	}
	if x.Of != nil {
		f.Of = slices.Compact(slices.Sorted(slices.Values(*x.Of)))
	}
	if f.Scope == ScopeAll {
		f.Of = nil
	} else if len(f.Of) == 0 {
		return &Invalid{"of", "", "name the " + f.Scope + " whom it is about"}
	}
	kind := map[string]string{ScopeGroups: "group", ScopePeople: "person"}[f.Scope]
	for _, id := range f.Of {
		if x.Of != nil && !st.Has(kind, id) { // who left meanwhile stands in no way
			return &Invalid{"of", id, "there is no such " + kind + " here"}
		}
	}
	for _, w := range []struct {
		field       string
		say, to     *int
		least, most int
		right       string
	}{
		{"every", x.Every, &f.Every, leastEvery, mostEvery, fmt.Sprintf("write minutes, %d to %d (a week)", leastEvery, mostEvery)},
		{"brake", x.Brake, &f.Brake, 0, 1_000_000, "write how many accounts it may close in a day; 0 for the setting brake"},
	} {
		if w.say == nil {
			continue
		}
		if *w.say < w.least || *w.say > w.most {
			return &Invalid{w.field, fmt.Sprint(*w.say), w.right}
		}
		*w.to = *w.say
	}
	return nil
}

// BeginFeedOut begins to keep people of ours at a partner. It is held at first: what it would do is shown, and nothing is sent but by hand.
func (s *Service) BeginFeedOut(ctx context.Context, who Who, partner, why string, x FeedOutSet) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why people of ours are kept there"}
	}
	at, st := s.Now(), s.State()
	if !st.Has("partner", partner) {
		return &Invalid{"partner", partner, "there is no such partner"}
	}
	f := &FeedOut{Partner: partner, State: FeedHeld, Scope: ScopeAll, Every: firstEvery, Leavers: LeaversClose, By: who.Name, Made: at.String()}
	if err := f.set(st, &x); err != nil {
		return err
	}
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		if doc, err := t.Record(feedOutKind, partner); err != nil || doc != nil {
			return cmp.Or(err, fmt.Errorf("%w: a feed goes to %q already; change it", ErrConflict, partner))
		}
		if err := t.BeginSentFeed(partner, at); err != nil {
			return err
		}
		return putJSON(t, feedOutKind, partner, f)
	})
}

func (s *Service) onFeedOut(ctx context.Context, who Who, partner, why string, fn func(now *State, t *store.Tx, f *FeedOut) error) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why; the journal keeps it"}
	}
	return s.change(ctx, who.Name, why, func(now *State, t *store.Tx) error {
		f, err := feedOutIn(t.Record(feedOutKind, partner))
		if err != nil || f == nil {
			return cmp.Or(err, noFeedOut(partner))
		}
		return fn(now, t, f)
	})
}

// SetFeedOut changes a feed, or lets it on.
func (s *Service) SetFeedOut(ctx context.Context, who Who, partner, why string, x FeedOutSet) error {
	return s.onFeedOut(ctx, who, partner, why, func(now *State, t *store.Tx, f *FeedOut) error {
		if err := f.set(now, &x); err != nil {
			return err
		}
		return putJSON(t, feedOutKind, partner, f)
	})
}

// ReleaseFeedOut lets a feed close as many again as it may in a day.
func (s *Service) ReleaseFeedOut(ctx context.Context, who Who, partner, why string) error {
	return s.onFeedOut(ctx, who, partner, why, func(_ *State, t *store.Tx, f *FeedOut) error {
		f.Lifted = s.Now().String()
		return putJSON(t, feedOutKind, partner, f)
	})
}

// EndFeedOut ends a feed. Whom it kept stays there as they are, and their side decides: nothing more is sent.
func (s *Service) EndFeedOut(ctx context.Context, who Who, partner, why string) error {
	return s.onFeedOut(ctx, who, partner, why, func(_ *State, t *store.Tx, _ *FeedOut) error {
		if err := t.EndSentFeed(partner); err != nil {
			return err
		}
		_, err := t.EndRecord(feedOutKind, partner)
		return err
	})
}

// What is to be done about somebody of ours at a partner, besides those that feeds coming in have.
const (
	SentLeftOut = "left_out" // they are in the scope, and are not kept there
	SentBraked  = "braked"   // they are to be closed, and the brake stands in the way
)

// SendAct is what is to be done about somebody at a partner.
type SendAct struct {
	Person, Name, Address string
	Do                    string // new, taken_over, changed, closed, removed, back, same, left_out, braked
	Why                   string
	Kept                  string // of the states of store.SentUser
	Problem               string
	Next                  moment.Moment // not tried before then, but by hand
	was                   *store.SentUser
	user                  scim.User
}

// userOf is a person of ours as we tell a partner of them.
func userOf(p *world.Person) scim.User {
	a := p.Address.String()
	u := scim.User{"userName": a, "externalId": p.ID, "displayName": p.Name, "name": map[string]any{"formatted": p.Name}, "active": true,
		"emails": []any{map[string]any{"value": a, "type": "work", "primary": true}}}
	if p.Language != "" {
		u["preferredLanguage"] = p.Language
	}
	return u
}

// inScope reports whether a feed is about somebody.
func (f *FeedOut) inScope(p *world.Person) bool {
	switch f.Scope {
	case ScopeGroups:
		return slices.ContainsFunc(p.Groups, func(g string) bool { return slices.Contains(f.Of, g) })
	case ScopePeople:
		return slices.Contains(f.Of, p.ID)
	}
	return true
}

// keptOut says why somebody in the scope is not kept there; empty where they are.
func (s *State) keptOut(f *FeedOut, p *world.Person, at moment.Moment) string {
	switch {
	case p.Left != 0 && p.Left <= at:
		return "they have left"
	case p.Address.IsZero():
		return "no mail address of theirs is known"
	case s.OursRule(p.ID, f.Partner, ruleFeedOut, at) != valueOn:
		return fmt.Sprintf("“%s” (directory.feed_out) is off for them", ruleFeedOut.Get().Title)
	}
	return ""
}

// sendPlan is what a feed is to do now: all of it, those that are as they are to be included, in the order of people.
func (s *Service) sendPlan(ctx context.Context, st *State, f *FeedOut, at moment.Moment) ([]SendAct, error) {
	sent, err := s.store.Sent(ctx, f.Partner)
	if err != nil {
		return nil, err
	}
	was := make(map[string]*store.SentUser, len(sent))
	for i := range sent {
		was[sent[i].Person] = &sent[i]
	}
	acts := []SendAct{}
	if err := s.PeopleAfter(ctx, "", func(string) bool { return true }, func(p *world.Person) error {
		w := was[p.ID]
		delete(was, p.ID)
		in := f.inScope(p)
		if !in && (w == nil || w.State == store.SentNot) {
			return ctx.Err()
		}
		a := SendAct{Person: p.ID, Name: p.Name, was: w, Do: FedSame, Kept: store.SentNot}
		if !p.Address.IsZero() {
			a.Address = p.Address.String()
		}
		if a.Why = st.keptOut(f, p, at); !in && a.Why == "" {
			a.Why = "the feed is not about them any more"
		}
		a.plan(f, p)
		acts = append(acts, a)
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	for id, w := range was { // people whom we do not know any more
		a := SendAct{Person: id, Name: id, Address: w.UserName, was: w, Why: "there is no such person here any more"}
		if w.State == store.SentNot {
			continue
		}
		a.plan(f, nil)
		acts = append(acts, a)
	}
	slices.SortFunc(acts, func(a, b SendAct) int { return cmp.Compare(a.Person, b.Person) })
	return acts, s.sendBrake(ctx, st, f, acts, at)
}

// plan finds what is to be done, of what was done and whether somebody is to be there.
func (a *SendAct) plan(f *FeedOut, p *world.Person) {
	if w := a.was; w != nil {
		a.Kept, a.Problem, a.Next = w.State, w.Problem, w.Next
	}
	if a.Why == "" {
		a.user = userOf(p)
		switch doc := string(mustDoc(a.user)); {
		case a.Kept == store.SentNot, a.Kept == store.SentTried:
			a.Do = FedNew
		case a.Kept == store.SentClosed:
			a.Do = FedBack
		case doc != a.was.Doc:
			a.Do = FedChanged
		default:
			a.Do = FedSame
		}
		return
	}
	switch {
	case a.Kept == store.SentNot:
		a.Do = SentLeftOut
	case f.Leavers == LeaversRemove:
		a.Do = FedRemoved
	case a.Kept == store.SentKept, a.Kept == store.SentTried:
		a.Do = FedClosed
	default:
		a.Do, a.Why = FedSame, ""
	}
}

// sendBrake holds back what would close more in a day than a feed may.
func (s *Service) sendBrake(ctx context.Context, st *State, f *FeedOut, acts []SendAct, at moment.Moment) error {
	most := cmp.Or(f.Brake, brakeOf(st))
	if most == 0 {
		return nil
	}
	c, err := s.store.SentCounts(ctx, f.Partner, countedSince(f.Lifted, at))
	left := most - c.ClosedLately
	for i := range acts {
		a := &acts[i]
		if a.Do != FedClosed && (a.Do != FedRemoved || a.Kept != store.SentKept) {
			continue
		}
		if left--; left < 0 {
			a.Do = SentBraked
		}
	}
	return err
}

// due reports whether something is to be sent about somebody.
func (a *SendAct) due() bool {
	return a.Do != FedSame && a.Do != SentLeftOut && a.Do != SentBraked
}

// FeedOutAhead lists what a feed would do, and how it stands with each: of those alone where something is due or left out, where all is
// not asked for. Whoever is new is looked up there, so that it is seen who is there already; what cannot be looked up is said.
func (s *Service) FeedOutAhead(ctx context.Context, partner string, all bool, after string, limit int) (list []SendAct, next string, counts map[string]int, unsure string, err error) {
	f, err := s.feedOut(ctx, partner)
	if err != nil {
		return nil, "", nil, "", err
	}
	acts, err := s.sendPlan(ctx, s.State(), f, s.Now())
	if err != nil {
		return nil, "", nil, "", err
	}
	counts = map[string]int{}
	list = []SendAct{}
	for i := range acts {
		counts[acts[i].Do]++
		switch {
		case acts[i].Person <= after || !all && acts[i].Do == FedSame:
		case len(list) == limit:
			next = list[limit-1].Person
		default:
			list = append(list, acts[i])
		}
	}
	var fresh []*SendAct
	for i := range list {
		if list[i].Do == FedNew {
			fresh = append(fresh, &list[i])
		}
	}
	if len(fresh) == 0 {
		return list, next, counts, "", nil
	}
	srv, err := f.server()
	if err == nil {
		err = eachOf(ctx, fresh, func(ctx context.Context, a *SendAct) error {
			there, err := srv.Find(ctx, a.Address)
			if err == nil && there != nil {
				a.Do, a.Why = FedTaken, "they are there already, as "+there.ID
			}
			return err
		})
	}
	if err != nil {
		unsure = "Whether they are there already is not known: " + err.Error()
	}
	return list, next, counts, unsure, ctx.Err()
}

// server is whom a feed speaks to.
func (f *FeedOut) server() (*scimclient.Server, error) {
	key, err := secret.At(f.Key)
	if err != nil {
		return nil, err
	}
	return &scimclient.Server{Base: f.Address, Token: key}, nil
}

// atATime is how many requests are under way at once.
const atATime = 4

// eachOf does something about some, several at a time, and returns the first error.
func eachOf[T any](ctx context.Context, list []T, do func(context.Context, T) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	var wait sync.WaitGroup
	var once sync.Once
	var first error
	todo := make(chan T)
	for range min(atATime, len(list)) {
		wait.Add(1)
		go func() {
			defer wait.Done()
			for x := range todo {
				if err := do(ctx, x); err != nil {
					once.Do(func() { first = err; stop() })
				}
			}
		}()
	}
	for _, x := range list {
		select {
		case todo <- x:
		case <-ctx.Done():
		}
	}
	close(todo)
	wait.Wait()
	if first == nil {
		first = ctx.Err()
	}
	return first
}

// FeedSent is what sending did.
type FeedSent struct {
	Done    map[string]int // by what was done
	Refused int            // of whom something was not taken
	Left    int            // of whom something is due still
	Braked  int
	LeftOut int    // who is in the scope, and is not kept there
	Problem string // why it was given up; empty where it was not
}

// How much one change writes of what was sent, how long whoever sends holds a feed, and the longest that is waited before what failed is
// tried again.
const (
	sentAtOnce = 40
	sendHold   = 30 * time.Second
	sendPauses = 6 * time.Hour
)

// errSentByAnother ends sending by whoever took too long and holds the feed no longer.
var errSentByAnother = fmt.Errorf("%w: another service sends it by now", ErrConflict)

// SendFeed sends what is due, by hand: about so many people, or all, or one of them though it is not their time. Of several who send one
// feed one goes on.
func (s *Service) SendFeed(ctx context.Context, who Who, partner, why string, most int, person string) (*FeedSent, error) {
	if why = strings.TrimSpace(why); why == "" {
		return nil, &Invalid{"why", "", "say why; the journal keeps it"}
	}
	if person != "" && !s.State().Has("person", person) {
		return nil, &Invalid{"person", person, "there is no such person here"}
	}
	out, held, err := s.sendDue(ctx, who.Name, partner, why, most, person, true)
	if err == nil && !held {
		err = fmt.Errorf("%w: it is being sent just now; look again in a moment", ErrConflict)
	}
	return out, err
}

// sendDue does it. hand says that somebody does it who does not wait for what failed lately; held, that nobody else was at it.
func (s *Service) sendDue(ctx context.Context, who, partner, why string, most int, person string, hand bool) (out *FeedSent, held bool, err error) {
	f, err := s.feedOut(ctx, partner)
	if err != nil {
		return nil, false, err
	}
	if shut := s.State().feedOutShut(partner); shut != "" {
		return nil, false, fmt.Errorf("%w: %s", ErrConflict, shut)
	}
	holder := rand.Text()
	hold := func() (bool, error) {
		now := s.Now()
		return s.store.HoldSentFeed(ctx, partner, holder, now, now+moment.Moment(sendHold.Microseconds()))
	}
	if held, err = hold(); err != nil || !held {
		return nil, held, err
	}
	ctx, stop := context.WithCancelCause(ctx)
	beats := make(chan struct{})
	go func() { // whoever is killed lets others go on soon, and whoever is slow holds it as long as it takes
		defer close(beats)
		tick := time.NewTicker(sendHold / 4)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-tick.C:
			}
			if ok, err := hold(); err == nil && !ok {
				stop(errSentByAnother)
			}
		}
	}()
	defer func() { stop(nil); <-beats }()
	goes, err := s.store.SentFeed(ctx, partner)
	if err != nil {
		return nil, true, err
	}
	out = &FeedSent{Done: map[string]int{}}
	round := !hand // a round of its own, or something by hand between two of them
	defer func() { // whatever happens, others may send it then
		if wrong := s.store.PutSentFeed(context.WithoutCancel(ctx), partner, holder, &goes, true); err == nil {
			err = wrong
		}
	}()
	srv, err := f.server()
	if err != nil {
		return out, true, s.sendFailed(ctx, f, &goes, &scimclient.Trouble{Says: err.Error()}, out, round)
	}
	acts, err := s.sendPlan(ctx, s.State(), f, s.Now())
	if err != nil {
		return out, true, err
	}
	var todo []*SendAct
	for i := range acts {
		a := &acts[i]
		out.Braked += map[bool]int{true: 1}[a.Do == SentBraked]
		out.LeftOut += map[bool]int{true: 1}[a.Do == SentLeftOut]
		switch {
		case person != "" && a.Person != person:
		case person != "" && !a.due():
			if a.Do == SentLeftOut || a.Do == SentBraked {
				return out, true, &Invalid{"person", person, "nothing is sent of them: " + cmp.Or(a.Why, "the brake holds it back")}
			}
		case a.due() && (hand || a.Next <= s.Now()):
			todo = append(todo, a)
		}
	}
	if person != "" && !slices.ContainsFunc(acts, func(a SendAct) bool { return a.Person == person }) {
		return out, true, &Invalid{"person", person, "the feed is not about them"}
	}
	due := len(todo)
	if most > 0 && len(todo) > most {
		todo = todo[:most]
	}
	out.Left = due
	goes.Began, goes.Ended, goes.Total, goes.Done, goes.Did = s.Now(), 0, len(todo), 0, map[string]int{}
	var config scimclient.Config
	if len(todo) > 0 {
		if config, err = srv.Config(ctx); err != nil {
			return out, true, s.sendFailed(ctx, f, &goes, err, out, round)
		}
	}
	for len(todo) > 0 {
		some := todo[:min(sentAtOnce, len(todo))]
		todo = todo[len(some):]
		trouble, err := s.sendSome(ctx, who, f, srv, &config, some, holder, why, out)
		goes.Done, goes.Did = goes.Done+len(some), out.Done
		if err == nil {
			err = s.store.PutSentFeed(ctx, partner, holder, &goes, false)
		}
		if err != nil {
			return out, true, err
		}
		if trouble != nil {
			return out, true, s.sendFailed(ctx, f, &goes, trouble, out, round)
		}
	}
	goes.Ended = s.Now()
	if round {
		goes.Next = s.Now() + moment.Moment(f.Every)*60e6
	}
	if out.Braked == 0 {
		goes.Tries, goes.Problem, goes.Since, goes.Told = 0, "", 0, false
		return out, true, nil
	}
	goes.Tries = 0
	return out, true, s.sendTold(ctx, f, &goes, fmt.Sprintf("%d more are to be closed there than the feed may close in a day; somebody lets it go on, or makes the scope what it should be", out.Braked), true)
}

// sendSome does what is due about some people, and writes what came of it in one change. trouble is why nothing more is tried.
func (s *Service) sendSome(ctx context.Context, who string, f *FeedOut, srv *scimclient.Server, config *scimclient.Config, some []*SendAct, holder, why string, out *FeedSent) (trouble, err error) {
	type result struct {
		act  *SendAct
		next store.SentUser
		did  string
		why  string
	}
	// Whoever is to come in is noted before they are sent: should no answer come, or whoever sends them be killed, it is known that they may be
	// there, and that they are to be closed should they leave meanwhile.
	var fresh []*SendAct
	for _, a := range some {
		if a.Do == FedNew && a.Kept != store.SentTried {
			fresh = append(fresh, a)
		}
	}
	writes := func(fn func(t *store.Tx) error) error {
		return s.change(context.WithoutCancel(ctx), who, why, func(_ *State, t *store.Tx) error {
			if holds, err := t.HoldsSentFeed(f.Partner, holder); err != nil || !holds { // somebody else sends it by now, and knows better
				return cmp.Or(err, errSentByAnother)
			}
			return errors.Join(fn(t), t.Commit())
		})
	}
	if len(fresh) > 0 {
		if err := writes(func(t *store.Tx) error {
			for _, a := range fresh {
				x := store.SentUser{Partner: f.Partner, Person: a.Person, UserName: a.Address, State: store.SentTried}
				if a.was != nil {
					x = *a.was
					x.State, x.UserName = store.SentTried, a.Address
				}
				if err := t.PutSent(a.was, &x); err != nil {
					return err
				}
				a.was, a.Kept = &x, store.SentTried
			}
			return nil
		}); err != nil {
			return nil, err
		}
	}
	var mu sync.Mutex
	var results []result
	trouble = eachOf(ctx, some, func(ctx context.Context, a *SendAct) error {
		r := result{act: a}
		r.next = store.SentUser{Partner: f.Partner, Person: a.Person, UserName: a.Address, State: store.SentNot}
		if a.was != nil {
			r.next = *a.was
		}
		did, wrong := s.feedOne(ctx, srv, config, a, &r.next)
		r.did = did
		var t *scimclient.Trouble
		if wrong != nil && (!errors.As(wrong, &t) || t.Everybody()) {
			return wrong
		}
		if now := s.Now(); wrong != nil {
			r.next.Tries++
			r.next.Problem, r.why = wrong.Error(), wrong.Error()
			r.next.Next = now + moment.Moment(min(sendPauses, time.Minute<<min(r.next.Tries, 10)).Microseconds())
		} else {
			r.next.Problem, r.next.Tries, r.next.Next, r.next.Changed = "", 0, 0, now
			switch did {
			case FedClosed, FedRemoved:
				if a.Kept == store.SentKept {
					r.next.Closed = now
				}
				r.why = a.Why
			default:
				r.next.Closed = 0
			}
		}
		mu.Lock()
		results = append(results, r)
		mu.Unlock()
		return nil
	})
	if ctx.Err() != nil && len(results) == 0 {
		return nil, ctx.Err()
	}
	slices.SortFunc(results, func(a, b result) int { return cmp.Compare(a.act.Person, b.act.Person) })
	if len(results) > 0 {
		err = writes(func(t *store.Tx) error {
			for i := range results {
				if err := t.PutSent(results[i].act.was, &results[i].next); err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return nil, err
		}
		for i := range results {
			r := &results[i]
			line := &store.FedLine{Partner: f.Partner, Out: true, At: s.Now(), What: r.did, User: r.act.Person, Address: cmp.Or(r.act.Address, r.next.UserName), Detail: r.why}
			if r.next.Problem != "" {
				line.What = "refused"
				out.Refused++
			} else {
				out.Done[r.did]++
				out.Left--
			}
			if err := s.store.LogFed(context.WithoutCancel(ctx), line); err != nil {
				s.log.WarnContext(ctx, "what was sent to a partner is not logged", "partner", f.Partner, "error", err)
			}
		}
	}
	if ctx.Err() != nil {
		return nil, ctx.Err()
	}
	return trouble, nil
}

// feedOne does what is due about somebody, and writes into u how they are kept then.
func (s *Service) feedOne(ctx context.Context, srv *scimclient.Server, config *scimclient.Config, a *SendAct, u *store.SentUser) (did string, err error) {
	did = a.Do
	if u.Remote == "" && (a.Do == FedClosed || a.Do == FedRemoved) { // who left before it was known whether they came in
		there, err := srv.Find(ctx, u.UserName)
		switch {
		case err != nil:
			return did, err
		case there == nil:
			u.State = store.SentNot
			return FedSame, nil
		}
		u.Remote, u.Doc = there.ID, string(mustDoc(scim.User{"userName": there.UserName, "displayName": there.Name}))
	}
	write := func(active bool) error {
		user := a.user
		if user == nil { // as they were told of last
			if err := json.Unmarshal([]byte(u.Doc), &user); err != nil {
				return err
			}
		}
		user = user.Clone()
		user["active"] = active
		if !config.Patch {
			return srv.Replace(ctx, u.Remote, user)
		}
		if !active {
			return srv.Change(ctx, u.Remote, map[string]any{"active": false})
		}
		return srv.Change(ctx, u.Remote, user)
	}
	switch a.Do {
	case FedClosed:
		if err = write(false); err == nil || scimclient.Is(err, http.StatusNotFound) { // whom they removed themselves is closed there
			u.State, err = store.SentClosed, nil
		}
		return did, err
	case FedRemoved:
		if err = srv.Remove(ctx, u.Remote); err == nil {
			u.State, u.Remote, u.Doc = store.SentNot, "", ""
		}
		return did, err
	case FedChanged, FedBack:
		if err = write(true); scimclient.Is(err, http.StatusNotFound) { // they removed them, and we keep them there
			u.Remote, did = "", FedNew
			break
		}
		if err == nil {
			u.State, u.Doc, u.UserName = store.SentKept, string(mustDoc(a.user)), a.Address
		}
		return did, err
	}
	// Whoever is there already, invited once or from a request whose answer never came, is taken over: a userName is somebody's alone
	// (RFC 7643 §4.1.1), and a server answers 409 where it is taken.
	if u.Remote, err = srv.Create(ctx, a.user); scimclient.Is(err, http.StatusConflict) {
		taken := err
		there, wrong := srv.Find(ctx, a.Address)
		if wrong != nil {
			return did, wrong
		}
		if there == nil {
			return did, taken
		}
		u.Remote, did = there.ID, FedTaken
		err = write(true)
	}
	if err == nil {
		u.State, u.Doc, u.UserName = store.SentKept, string(mustDoc(a.user)), a.Address
	}
	return did, err
}

// sendFailed notes why a round was given up, when it is tried again, and tells the administrators where it is not over soon.
func (s *Service) sendFailed(ctx context.Context, f *FeedOut, goes *store.SentFeed, why error, out *FeedSent, round bool) error {
	var t *scimclient.Trouble
	if !errors.As(why, &t) {
		return why
	}
	out.Problem = t.Says
	goes.Ended, goes.Tries = s.Now(), goes.Tries+1
	pause := min(sendPauses, 30*time.Second<<min(goes.Tries, 12))
	if t.Wait > 0 {
		pause = t.Wait
	}
	if next := s.Now() + moment.Moment(pause.Microseconds()); round || next > goes.Next {
		goes.Next = next
	}
	return s.sendTold(ctx, f, goes, t.Says, goes.Tries >= 3 || t.Status == http.StatusUnauthorized)
}

// sendTold keeps what is wrong with a feed, and writes to the administrators once, when tell says that it is time.
func (s *Service) sendTold(ctx context.Context, f *FeedOut, goes *store.SentFeed, problem string, tell bool) error {
	if goes.Problem = problem; goes.Since == 0 {
		goes.Since, goes.Told = s.Now(), false
	}
	if goes.Told || !tell {
		return nil
	}
	goes.Told = true
	return s.change(context.WithoutCancel(ctx), Scheduler, "people feed to "+f.Partner+" needs a look", func(now *State, t *store.Tx) error {
		for _, to := range s.ownersOf(now, "") {
			if err := s.postMail(t, now, to, "feed", fmt.Sprintf("feed to %s %d", f.Partner, goes.Since), map[string]string{"partner": f.Partner}); err != nil {
				return err
			}
		}
		return t.Commit() // mail alone changes nothing that the journal keeps
	})
}

// composeFeed tells an administrator that a feed does not go on; nothing is sent where it does by now.
func (s *Service) composeFeed(ctx context.Context, language, partner string, c *mail.Content) (*mail.Message, error) {
	goes, err := s.store.SentFeed(ctx, partner)
	if err != nil || goes.Problem == "" {
		return nil, err
	}
	c.Guest, c.Text, c.Link = partner, goes.Problem, s.address("/feeds/out/"+partner)
	if p, err := s.State().Partner(partner); err == nil {
		c.Guest = p.Name
	}
	msg, err := mail.Compose("feed", language, c)
	return &msg, err
}

// SendFeeds sends what is due of every feed that is on. Several services may do it at once.
func (s *Service) SendFeeds(ctx context.Context) error {
	list, err := s.feedsOut(ctx)
	if err != nil {
		return err
	}
	done := make(chan error, len(list))
	n := 0
	for _, f := range list {
		if f.State != FeedOn || s.State().feedOutShut(f.Partner) != "" {
			continue
		}
		goes, err := s.store.SentFeed(ctx, f.Partner)
		if err != nil {
			return err
		}
		if goes.Next > s.Now() {
			continue
		}
		n++
		go func() { // a slow partner keeps nobody else waiting
			_, _, err := s.sendDue(ctx, Scheduler, f.Partner, "as the people feed is planned", 0, "", false)
			if errors.Is(err, ErrConflict) || errors.Is(err, ErrNotFound) { // meanwhile
				err = nil
			}
			done <- err
		}()
	}
	for range n {
		err = errors.Join(err, <-done)
	}
	return err
}

// RunFeeds sends people feeds until the context ends.
func (s *Service) RunFeeds(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "people feeds cannot be sent", "people feeds are sent again", func() error { return s.SendFeeds(ctx) })
}

// FeedLook is what a look at a partner's server found.
type FeedLook struct {
	Problem string // why nothing was found; empty where all is well
	Advice  string // what to do then
	Status  int    // of the answer where it is one
	Took    time.Duration
	Patch   bool // it changes single attributes
	There   int  // whom it says that it keeps
	Ours    int  // of those that were read, with an address of ours
	Unkept  []scimclient.There
	Twins   []FedTwin // Fed: as we keep them there, Guest: somebody else there of the same name
	Read    int       // how many were read
}

// mostLooked is how many users a look reads, and mostUnkept how many of a sort it lists.
const mostLooked, mostUnkept = 20_000, 100

// lookAdvice says what to do about a connection that does not work; status is of the answer, 0 where there was none.
func lookAdvice(status int) string {
	switch status {
	case 0:
		return "Is the address right, and may this machine reach it? An administrator of theirs says where SCIM is."
	case http.StatusUnauthorized:
		return "The token is not theirs, or has ended: ask their administrator for a new one, and put it where the feed's key says."
	case http.StatusForbidden:
		return "The token is known there and may not keep users: ask their administrator to allow it."
	case http.StatusOK, http.StatusNotFound:
		return "Is that the address of SCIM? It often ends in /scim/v2; an administrator of theirs says where it is."
	case http.StatusTooManyRequests:
		return "They ask to be left alone for now; make the rounds fewer."
	}
	return "It is for their side to mend; it is tried again by itself."
}

// LookFeed tries the connection to a partner's server: whether it answers and takes the token, whom it keeps with an address of ours though no
// feed does, and who seems to be there twice. Nothing is changed there.
func (s *Service) LookFeed(ctx context.Context, partner string) (*FeedLook, error) {
	f, err := s.feedOut(ctx, partner)
	if err != nil {
		return nil, err
	}
	began, out := time.Now(), &FeedLook{}
	fail := func(err error) (*FeedLook, error) {
		var t *scimclient.Trouble
		if errors.As(err, &t) {
			out.Status = t.Status
		}
		out.Problem, out.Advice, out.Took = err.Error(), lookAdvice(out.Status), time.Since(began)
		return out, ctx.Err()
	}
	srv, err := f.server()
	if err != nil {
		return fail(err)
	}
	config, err := srv.Config(ctx)
	if err != nil {
		return fail(err)
	}
	out.Patch = config.Patch
	sent, err := s.store.Sent(ctx, partner)
	if err != nil {
		return nil, err
	}
	kept := map[string]bool{} // ids of theirs
	for i := range sent {
		kept[sent[i].Remote] = sent[i].Remote != ""
	}
	st := s.State()
	byName := map[string][]scimclient.There{}
	if err := srv.Each(ctx, func(t scimclient.There, total int) error {
		if out.There = total; out.Read >= mostLooked {
			return store.ErrEnough
		}
		out.Read++
		if n := strings.ToLower(strings.TrimSpace(t.Name)); n != "" {
			byName[n] = append(byName[n], t)
		}
		if a, err := addr.Parse(t.UserName); err == nil && st.Match(a).Own {
			out.Ours++
			if !kept[t.ID] && len(out.Unkept) < mostUnkept {
				out.Unkept = append(out.Unkept, t)
			}
		}
		return ctx.Err()
	}); err != nil && !errors.Is(err, store.ErrEnough) {
		return fail(err)
	}
	for _, list := range byName {
		for _, a := range list {
			for _, b := range list {
				if kept[a.ID] && !kept[b.ID] && len(out.Twins) < mostUnkept {
					t := FedTwin{Name: a.Name, Fed: a.UserName, Guest: b.UserName, Differs: []string{fmt.Sprintf("address: %s, %s", a.UserName, b.UserName)}}
					if a.Active != b.Active {
						say := map[bool]string{true: "in use", false: "closed"}
						t.Differs = append(t.Differs, fmt.Sprintf("state: %s, %s", say[a.Active], say[b.Active]))
					}
					out.Twins = append(out.Twins, t)
				}
			}
		}
	}
	slices.SortFunc(out.Twins, func(a, b FedTwin) int { return cmp.Or(cmp.Compare(a.Fed, b.Fed), cmp.Compare(a.Guest, b.Guest)) })
	out.Took = time.Since(began)
	return out, nil
}
