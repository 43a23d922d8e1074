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

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/scimclient"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/store"
)

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
func (s *Service) sendDue(ctx context.Context, who, partner, why string, most int, person string, hand bool) (out *FeedSent, held bool,
	err error) {
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
	return out, true, s.sendTold(ctx, f, &goes,
		fmt.Sprintf("%d more are to be closed there than the feed may close in a day; somebody lets it go on, or makes the scope what it should be",
			out.Braked), true)
}

// sendSome does what is due about some people, and writes what came of it in one change. trouble is why nothing more is tried.
func (s *Service) sendSome(ctx context.Context, who string, f *FeedOut, srv *scimclient.Server, config *scimclient.Config, some []*SendAct,
	holder, why string, out *FeedSent) (trouble, err error) {
	type result struct {
		act  *SendAct
		next store.SentUser
		did  string
		why  string
	}
	// Whoever is to come in is noted before they are sent: should no answer come, or whoever sends them be killed, it is known that they may
	// be there, and that they are to be closed should they leave meanwhile.
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
			line := &store.FedLine{Partner: f.Partner, Out: true, At: s.Now(), What: r.did, User: r.act.Person,
				Address: cmp.Or(r.act.Address, r.next.UserName), Detail: r.why}
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
func (s *Service) feedOne(ctx context.Context, srv *scimclient.Server, config *scimclient.Config, a *SendAct,
	u *store.SentUser) (did string, err error) {
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
			if err := s.postMail(t, now, to, "feed", fmt.Sprintf("feed to %s %d", f.Partner, goes.Since),
				map[string]string{"partner": f.Partner}); err != nil {
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
