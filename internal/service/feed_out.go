package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
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
		v.Off = fmt.Sprintf("“%s” (directory.feed_out) is off for %s, so that nobody is kept there but by an exception.", ruleFeedOut.Get().Title,
			v.Called)
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
	f := &FeedOut{Partner: partner, State: FeedHeld, Scope: ScopeAll, Every: firstEvery, Leavers: LeaversClose, By: who.Name,
		Made: at.String()}
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
