package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/scimclient"
	"wexillum.example/internal/store"
)

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
