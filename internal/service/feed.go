package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/may"
	"wexillum.example/internal/store"
)

// Feed lets a partner keep its people in our directory by SCIM (practice §6).
type Feed struct {
	Partner string `json:"partner"`
	State   string `json:"state"`             // of FeedStates
	Sponsor string `json:"sponsor,omitempty"` // a person of ours who answers for those who come
	Consent bool   `json:"consent,omitempty"` // their side says that it skips the prompt, too
	Brake   int    `json:"brake,omitempty"`   // how many it may close in a day; 0 for the setting brake
	Address string `json:"address"`           // of FeedAddresses: what of a user is their address
	Name    string `json:"name"`              // of FeedNames: what of a user is their name
	Token   string `json:"token,omitempty"`   // its id
	Lifted  string `json:"lifted,omitempty"`  // since when closings count for the brake, where somebody let them go on
	By      string `json:"by"`
	Made    string `json:"made"`
}

// FeedStates are watched (who it tells of is kept, and no record is touched) and on.
var FeedStates = []string{FeedWatched, FeedOn}

// States of a feed.
const (
	FeedWatched = "watched"
	FeedOn      = "on"
)

// FeedAddresses are what of a user is taken for their address: userName where it is one, else the primary mail; or one of them alone.
var FeedAddresses = []string{"either", "userName", "emails"}

// FeedNames are what of a user is taken for their name: the first of these that they have, or one of them alone.
var FeedNames = []string{"any", "displayName", "name"}

// PurposeFeed is that of the token of a partner's people feed.
const PurposeFeed = may.Feed

const feedTokenName = "feed of "

// feedOf is the partner for whose feed somebody speaks.
func feedOf(who Who) string { return strings.TrimPrefix(who.Name, "token:"+feedTokenName) }

var (
	ruleFeedIn   = catalogue.MustRule("directory.feed_in")
	ruleConsent  = catalogue.MustRule("directory.consent")
	feedSilent   = silent(ruleConsent)
	feedTokenFor = 2 * 365 * 24 * time.Hour
)

func silent(rule catalogue.RuleID) catalogue.Value {
	v, err := rule.Get().Scale.Parse("silent")
	if err != nil {
		panic(err) // the catalogue names it
	}
	return v
}

// FeedKept finds the feed of a partner; nil where there is none.
func (s *Service) FeedKept(ctx context.Context, partner string) (*Feed, error) {
	doc, err := s.store.Record(ctx, "feed", partner)
	return feedIn(doc, err)
}

func feedIn(doc []byte, err error) (*Feed, error) {
	if err != nil || doc == nil {
		return nil, err
	}
	f := &Feed{}
	return f, json.Unmarshal(doc, f)
}

// FeedView is a feed as people look at it.
type FeedView struct {
	Feed
	Called    string // the partner's name
	Shut      string // why nothing comes in; empty where it does
	Silent    bool   // nobody is asked before they come in, as both sides say so
	Count     store.FedCount
	Most      int           // how many may be closed in a day; 0 for any number
	Heard     moment.Moment // when it was heard of last; 0 for never
	Wrong     int           // of the last hundred requests
	TokenEnds time.Time
}

// Feeds lists the feeds of partners.
func (s *Service) Feeds(ctx context.Context) ([]FeedView, error) {
	out := []FeedView{}
	tokens, err := s.store.Tokens(ctx, "")
	if err != nil {
		return nil, err
	}
	err = s.store.Records(ctx, "feed", "", func(_ string, doc []byte) error {
		f, err := feedIn(doc, nil)
		if err != nil {
			return err
		}
		v, err := s.feedView(ctx, f, tokens)
		if err == nil {
			out = append(out, *v)
		}
		return err
	})
	slices.SortFunc(out, func(a, b FeedView) int { return cmp.Compare(strings.ToLower(a.Called), strings.ToLower(b.Called)) })
	return out, err
}

// FeedOf finds the feed of a partner.
func (s *Service) FeedOf(ctx context.Context, partner string) (*FeedView, error) {
	f, err := s.FeedKept(ctx, partner)
	if err != nil {
		return nil, err
	}
	if f == nil {
		return nil, noFeed(partner)
	}
	tokens, err := s.store.Tokens(ctx, "")
	if err != nil {
		return nil, err
	}
	return s.feedView(ctx, f, tokens)
}

func noFeed(partner string) error {
	return fmt.Errorf("%w: %q keeps nobody in our directory; begin its feed first", ErrNotFound, partner)
}

func (s *Service) feedView(ctx context.Context, f *Feed, tokens []store.Token) (*FeedView, error) {
	st := s.State()
	v := &FeedView{Feed: *f, Called: f.Partner, Shut: st.feedShut(f.Partner), Silent: st.feedSilent(f), Most: f.most(st)}
	if p, err := st.Partner(f.Partner); err == nil {
		v.Called = p.Name
	}
	for i := range tokens {
		if tokens[i].ID == f.Token {
			v.TokenEnds = tokens[i].Expires
		}
	}
	var err error
	if v.Count, err = s.store.FedCounts(ctx, f.Partner, f.counted(s.Now())); err != nil {
		return nil, err
	}
	lines, err := s.store.FedLog(ctx, f.Partner, false, "", false, 0, 100)
	for i := range lines {
		v.Heard = max(v.Heard, lines[i].At)
		if lines[i].What == "refused" || lines[i].What == "braked" {
			v.Wrong++
		}
	}
	return v, err
}

// feedShut says why a partner's feed brings nobody in; empty where it does.
func (s *State) feedShut(partner string) string {
	p, err := s.Partner(partner)
	switch {
	case err != nil:
		return "There is no such partner any more."
	case p.Standing != world.Active:
		return fmt.Sprintf("%s is %s.", p.Name, world.StandingNames[p.Standing])
	case len(p.Domains) == 0:
		return fmt.Sprintf("%s has no domain, so nobody is theirs.", p.Name)
	case s.GuestRule(addr.Newcomer(p.Domains[0].Domain), "", ruleFeedIn) != valueOn:
		return fmt.Sprintf("“%s” (directory.feed_in) is off for %s.", ruleFeedIn.Get().Title, p.Name)
	}
	return ""
}

// feedSilent reports whether nobody is asked before they come in: where both sides say so.
func (s *State) feedSilent(f *Feed) bool {
	p, err := s.Partner(f.Partner)
	return err == nil && f.Consent && len(p.Domains) > 0 && s.GuestRule(addr.Newcomer(p.Domains[0].Domain), "", ruleConsent) == feedSilent
}

// most is how many accounts a feed may close in a day; 0 for any number.
func (f *Feed) most(st *State) int { return cmp.Or(f.Brake, brakeOf(st)) }

// counted is since when closings count for the brake.
func (f *Feed) counted(at moment.Moment) moment.Moment { return countedSince(f.Lifted, at) }

func countedSince(lifted string, at moment.Moment) moment.Moment {
	since := at - 86400e6
	if l, err := moment.Parse(lifted); err == nil {
		since = max(since, l)
	}
	return since
}

// FeedSet is what is to be otherwise about a feed; nil leaves it as it is.
type FeedSet struct {
	State, Sponsor, Address, Name *string
	Consent                       *bool
	Brake                         *int
}

func (f *Feed) set(st *State, x *FeedSet, at moment.Moment) error {
	for _, w := range []struct {
		field string
		say   *string
		to    *string
		of    []string
	}{{"state", x.State, &f.State, FeedStates}, {"address", x.Address, &f.Address, FeedAddresses}, {"name", x.Name, &f.Name, FeedNames}} {
		if w.say == nil {
			continue
		}
		if err := oneOfWords(w.field, *w.say, w.of...); err != nil {
			return err
		}
		*w.to = *w.say
	}
	if x.Sponsor != nil {
		if *x.Sponsor != "" && !st.here(at)(*x.Sponsor) {
			return &Invalid{"sponsor", *x.Sponsor, "there is no such person here"}
		}
		f.Sponsor = *x.Sponsor
	}
	if x.Consent != nil {
		f.Consent = *x.Consent
	}
	if x.Brake != nil {
		if *x.Brake < 0 || *x.Brake > 1_000_000 {
			return &Invalid{"brake", fmt.Sprint(*x.Brake), "write how many accounts it may close in a day; 0 for the setting brake"}
		}
		f.Brake = *x.Brake
	}
	return nil
}

// BeginFeed lets a partner's feed speak to us, watched at first, and makes its token, whose text is told once.
func (s *Service) BeginFeed(ctx context.Context, who Who, partner, why string, x FeedSet) (token string, err error) {
	if why = strings.TrimSpace(why); why == "" {
		return "", &Invalid{"why", "", "say why this partner keeps its people here"}
	}
	at, st := s.Now(), s.State()
	if !st.Has("partner", partner) {
		return "", &Invalid{"partner", partner, "there is no such partner"}
	}
	f := &Feed{Partner: partner, State: FeedWatched, Address: FeedAddresses[0], Name: FeedNames[0], By: who.Name, Made: at.String()}
	if err := f.set(st, &x, at); err != nil {
		return "", err
	}
	if old, err := s.FeedKept(ctx, partner); err != nil || old != nil {
		return "", cmp.Or(err, fmt.Errorf("%w: the feed of %q is there already; change it, or give it a new token", ErrConflict, partner))
	}
	return s.feedToken(ctx, who, f, why)
}

// feedToken gives a feed a new token; the one before works no longer.
func (s *Service) feedToken(ctx context.Context, who Who, f *Feed, why string) (string, error) {
	text, t, err := s.MakeToken(ctx, who, feedTokenName+f.Partner, string(PurposeFeed), feedTokenFor)
	if err != nil {
		return "", err
	}
	return text, s.change(ctx, who.Name, why, func(_ *State, tx *store.Tx) error {
		if f.Token != "" {
			if _, err := tx.EndToken(f.Token, ""); err != nil {
				return err
			}
		}
		f.Token = t.ID
		return putJSON(tx, "feed", f.Partner, f)
	})
}

// RenewFeedToken makes a new token for a feed; the one before works no longer.
func (s *Service) RenewFeedToken(ctx context.Context, who Who, partner, why string) (string, error) {
	f, err := s.FeedKept(ctx, partner)
	if err != nil || f == nil {
		return "", cmp.Or(err, noFeed(partner))
	}
	return s.feedToken(ctx, who, f, cmp.Or(strings.TrimSpace(why), "a new token"))
}

// onFeed changes a feed.
func (s *Service) onFeed(ctx context.Context, who Who, partner, why string, fn func(now *State, t *store.Tx, f *Feed) error) error {
	return s.change(ctx, who.Name, why, func(now *State, t *store.Tx) error {
		f, err := feedIn(t.Record("feed", partner))
		if err != nil || f == nil {
			return cmp.Or(err, noFeed(partner))
		}
		return fn(now, t, f)
	})
}

// SetFeed changes a feed. To let it on, what it told of while it was watched comes in by ApplyFeed.
func (s *Service) SetFeed(ctx context.Context, who Who, partner, why string, x FeedSet) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why; the journal keeps it"}
	}
	return s.onFeed(ctx, who, partner, why, func(now *State, t *store.Tx, f *Feed) error {
		if err := f.set(now, &x, s.Now()); err != nil {
			return err
		}
		return putJSON(t, "feed", partner, f)
	})
}

// ReleaseFeed lets a feed close as many again as it may in a day.
func (s *Service) ReleaseFeed(ctx context.Context, who Who, partner, why string) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why so many leave at once"}
	}
	return s.onFeed(ctx, who, partner, why, func(_ *State, t *store.Tx, f *Feed) error {
		f.Lifted = s.Now().String()
		return putJSON(t, "feed", partner, f)
	})
}

// EndFeed ends a feed: its token works no longer. Whom it alone kept become guests like others, whose term begins now; or, with closed,
// their accounts count as closed: they are suspended, and removed after their grace. What was interrupted goes on when it is asked for
// again.
func (s *Service) EndFeed(ctx context.Context, who Who, partner, why string, closed bool) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say why it ends"}
	}
	if err := s.onFeed(ctx, who, partner, why, func(_ *State, t *store.Tx, f *Feed) error {
		_, err := t.EndToken(f.Token, "")
		return err
	}); err != nil {
		return err
	}
	for after := uint64(0); ; {
		list, err := s.store.FedPage(ctx, partner, after, 0, feedAtOnce)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		after = list[len(list)-1].N
		if err := s.change(ctx, who.Name, why, func(now *State, t *store.Tx) error {
			at := s.Now()
			for i := range list {
				if !list[i].Applied { // a feed that was watched alone touches nobody as it ends, too
					continue
				}
				if closed {
					if err := s.closeHome(now, t, list[i].Address, at); err != nil {
						return err
					}
					continue
				}
				a, err := addr.Parse(list[i].Address)
				if err != nil {
					return err
				}
				g, err := s.guestNow(now, t, a, at)
				if err != nil {
					return err
				}
				if g == nil || !g.Provisioned() {
					continue
				}
				g.Origins, g.Renewed = g.Origins|world.ByInvitation, at
				if _, err := t.PutGuest(g); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	return s.onFeed(ctx, who, partner, why, func(_ *State, t *store.Tx, f *Feed) error {
		_, err := t.EndRecord("feed", partner)
		return err
	})
}

// FedAhead is what a feed tells of somebody, and what that would do.
type FedAhead struct {
	*Fed
	Person fedPerson
	Would  string // of the outcomes, or refused
	Why    string
}

// FeedPeople lists whom a feed keeps, each with what bringing it to the record would do: all, or those who wait.
func (s *Service) FeedPeople(ctx context.Context, partner string, waiting bool, after uint64, limit int) ([]FedAhead, error) {
	f, err := s.FeedKept(ctx, partner)
	if err != nil || f == nil {
		return nil, cmp.Or(err, noFeed(partner))
	}
	var list []store.FedUser
	if waiting {
		list, err = s.store.FedWaiting(ctx, partner, after, limit)
	} else {
		list, err = s.store.FedPage(ctx, partner, after, 0, limit)
	}
	if err != nil {
		return nil, err
	}
	st, at := s.State(), s.Now()
	out := []FedAhead{}
	for i := range list {
		x, err := fedOf(&list[i])
		if err != nil {
			return nil, err
		}
		a := FedAhead{Fed: x}
		p, no := st.maps(f, x.User)
		if no != nil {
			a.Would, a.Why = "refused", no.Detail
			out = append(out, a)
			continue
		}
		a.Person = p
		g, err := s.store.Guest(ctx, p.Address.String())
		if err != nil {
			return nil, err
		}
		if g != nil {
			d, there := st.Dated(g, at)
			if g = &d; !there {
				g = nil
			}
		}
		if _, a.Would, a.Why, err = s.fedInto(st, f, &p, g, x.Active, at); err != nil {
			return nil, err
		}
		out = append(out, a)
	}
	return out, nil
}

// FeedApplied is how much of what a feed told of has come to records.
type FeedApplied struct {
	Done    map[string]int // by outcome
	Refused int
	Left    int
}

// feedAtOnce is how many records one change writes.
const feedAtOnce = 100

// ApplyFeed brings what a feed told of to records: so many people, or all; first lets the feed on where it is asked for. It may be
// interrupted; what is done stays done.
func (s *Service) ApplyFeed(ctx context.Context, who Who, partner, why string, most int) (*FeedApplied, error) {
	if why = strings.TrimSpace(why); why == "" {
		return nil, &Invalid{"why", "", "say why; the journal keeps it"}
	}
	out := &FeedApplied{Done: map[string]int{}}
	for after, done := uint64(0), 0; most == 0 || done < most; {
		n := feedAtOnce
		if most > 0 {
			n = min(n, most-done)
		}
		list, err := s.store.FedWaiting(ctx, partner, after, n)
		if err != nil {
			return out, err
		}
		if len(list) == 0 {
			break
		}
		after = list[len(list)-1].N
		var refused int
		var whats []string
		err = s.onFeed(ctx, who, partner, why, func(now *State, t *store.Tx, f *Feed) error {
			refused, whats = 0, nil
			if shut := now.feedShut(partner); shut != "" {
				return fmt.Errorf("%w: %s", ErrConflict, shut)
			}
			at := s.Now()
			for i := range list {
				cur, err := t.FedWith(partner, store.FedByID, list[i].ID)
				if err != nil {
					return err
				}
				if len(cur) == 0 || cur[0].Applied { // meanwhile
					continue
				}
				x, err := fedOf(&cur[0])
				if err != nil {
					return err
				}
				p, no := now.maps(f, x.User)
				if no != nil {
					refused++
					continue
				}
				if _, err := s.applyFed(now, t, f, x, &p, at); err != nil {
					return err
				}
				before := cur[0]
				x.Applied, x.Address = true, p.Address.String()
				if err := t.PutFed(&before, &x.FedUser); err != nil {
					return err
				}
				whats = append(whats, x.What)
			}
			return nil
		})
		if err != nil {
			return out, err
		}
		for _, w := range whats {
			out.Done[w]++
		}
		out.Refused += refused
		done += len(list)
	}
	c, err := s.store.FedCounts(ctx, partner, moment.Never)
	out.Left = c.Waiting
	return out, err
}

// FeedLog lists what came of a feed's requests; goesOut, of those that we send.
func (s *Service) FeedLog(ctx context.Context, partner string, goesOut bool, user string, wrong bool, before uint64,
	limit int) ([]store.FedLine, error) {
	return s.store.FedLog(ctx, partner, goesOut, user, wrong, before, limit)
}

// FedTwin is somebody who seems to be here twice: whom a feed keeps, and a guest of the same name under another address of the same
// partner.
type FedTwin struct {
	Name       string
	Fed, Guest string   // addresses
	Differs    []string // in words
}

// FeedTwins lists pairs of records of a partner that have one name, one of them kept by the feed.
func (s *Service) FeedTwins(ctx context.Context, partner string) ([]FedTwin, error) {
	st := s.State()
	found, err := s.FindGuests(ctx, st, &GuestFilter{Partner: partner, Until: moment.Never})
	if err != nil {
		return nil, err
	}
	byName := map[string][]*world.Guest{}
	for k := range found.Len() {
		if g, ok := st.Record(found.parties[k]); ok && g.Name != "" {
			n := strings.ToLower(g.Name)
			byName[n] = append(byName[n], &g)
		}
	}
	out := []FedTwin{}
	for _, list := range byName {
		for _, a := range list {
			for _, b := range list {
				if a.Origins&world.ByFeed == 0 || b.Origins&world.ByFeed != 0 {
					continue
				}
				t := FedTwin{Name: a.Name, Fed: a.Address.String(), Guest: b.Address.String()}
				add := func(what, x, y string) {
					if x != y {
						t.Differs = append(t.Differs, fmt.Sprintf("%s: %s, %s", what, cmp.Or(x, "none"), cmp.Or(y, "none")))
					}
				}
				add("state", world.StateNames[a.State], world.StateNames[b.State])
				add("sponsor", a.Sponsor, b.Sponsor)
				own, err := s.GrantsOf(ctx, t.Fed)
				if err != nil {
					return nil, err
				}
				theirs, err := s.GrantsOf(ctx, t.Guest)
				if err != nil {
					return nil, err
				}
				add("roles", fmt.Sprint(len(own)), fmt.Sprint(len(theirs)))
				out = append(out, t)
			}
		}
	}
	slices.SortFunc(out, func(a, b FedTwin) int { return cmp.Or(cmp.Compare(a.Fed, b.Fed), cmp.Compare(a.Guest, b.Guest)) })
	return out, nil
}
