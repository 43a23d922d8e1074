package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
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
func (s *Service) FeedOutAhead(ctx context.Context, partner string, all bool, after string, limit int) (list []SendAct, next string,
	counts map[string]int, unsure string, err error) {
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

// mostRead is how many users a look reads, and mostUnkept how many of a sort it lists.
const mostRead, mostUnkept = 20_000, 100

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

// LookFeed tries the connection to a partner's server: whether it answers and takes the token, whom it keeps with an address of ours though
// no feed does, and who seems to be there twice. Nothing is changed there.
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
		if out.There = total; out.Read >= mostRead {
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
					t := FedTwin{Name: a.Name, Fed: a.UserName, Guest: b.UserName,
						Differs: []string{fmt.Sprintf("address: %s, %s", a.UserName, b.UserName)}}
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
