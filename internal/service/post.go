package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/store"
)

// Sender hands a message to a mail server.
type Sender interface {
	Send(ctx context.Context, to, messageID string, m *mail.Message) error
}

// What sending follows: how long one try may take before another service may try, how long
// to wait after each failure, and after how many tries a message is given up.
const (
	sendLease = 2 * time.Minute
	sendTries = 12
)

// backOff returns how long to wait after so many tries: a minute, doubling, four hours at
// most.
func backOff(tries int) time.Duration {
	d := time.Minute
	for i := 1; i < tries && d < 4*time.Hour; i++ {
		d *= 2
	}
	return min(d, 4*time.Hour)
}

// SendWaiting sends what waits in the outbox. What a server rejects for good is not tried
// again. A message is taken before it is sent, so that
// two services do not send the same; after a crash in between it may be sent again, with
// the same Message-ID. It returns how many were sent.
func (s *Service) SendWaiting(ctx context.Context, to Sender) (n int, err error) {
	for {
		list, err := s.store.Waiting(ctx, s.Now(), 20)
		if err != nil || len(list) == 0 {
			return n, err
		}
		for i := range list {
			m := &list[i]
			ok, err := s.store.Claim(ctx, m, s.Now()+moment.Moment(sendLease.Microseconds()))
			if err != nil {
				return n, err
			}
			if !ok {
				continue
			}
			m.Tries++
			msg, err := s.compose(ctx, m)
			if err != nil {
				return n, err
			}
			if msg == nil { // nothing is left to tell
				if err := s.store.Settle(ctx, m.ID, "dropped", m.Due, 0, ""); err != nil {
					return n, err
				}
				continue
			}
			sendErr := to.Send(ctx, m.Recipient, m.MessageID, msg)
			done := context.WithoutCancel(ctx)
			switch {
			case sendErr == nil:
				n++
				err = s.store.Settle(done, m.ID, "sent", m.Due, s.Now(), "")
			case errors.As(sendErr, new(*mail.Rejected)), m.Tries >= sendTries, m.Kind == "code" && m.Tries >= 3:
				err = s.store.Settle(done, m.ID, "failed", m.Due, 0, sendErr.Error())
			default:
				s.log.WarnContext(ctx, "a message could not be sent", "message", m.ID, "try", m.Tries, "error", sendErr)
				err = s.store.Settle(done, m.ID, "waiting", s.Now()+moment.Moment(backOff(m.Tries).Microseconds()), 0, sendErr.Error())
			}
			if err != nil {
				return n, err
			}
			if ctx.Err() != nil {
				return n, ctx.Err()
			}
		}
	}
}

// Outbox lists messages, the newest first.
func (s *Service) Outbox(ctx context.Context, recipient, state string, before uint64, limit int) ([]store.Message, error) {
	if err := oneOfWords("state", state, "waiting", "sent", "failed"); err != nil {
		return nil, err
	}
	if recipient != "" {
		a, err := addr.Parse(strings.TrimSpace(recipient))
		if err != nil {
			return nil, &Invalid{"recipient", recipient, err.Error()}
		}
		recipient = a.String()
	}
	return s.store.Outbox(ctx, recipient, state, before, limit)
}

// SendAgain lets a message be tried again at once.
func (s *Service) SendAgain(ctx context.Context, id uint64) error {
	ok, err := s.store.Again(ctx, id, s.Now())
	if err == nil && !ok {
		err = fmt.Errorf("%w: there is no message %d that waits or failed", ErrNotFound, id)
	}
	return err
}

var months = map[string][]string{
	"en": {"January", "February", "March", "April", "May", "June", "July", "August", "September", "October", "November", "December"},
	"pt": {"janeiro", "fevereiro", "março", "abril", "maio", "junho", "julho", "agosto", "setembro", "outubro", "novembro", "dezembro"},
}

// compose writes what a message says as things are now; nil where nothing is left to tell.
func (s *Service) compose(ctx context.Context, m *store.Message) (*mail.Message, error) {
	st := s.State()
	data := map[string]string{}
	if m.Kind != "digest" {
		if err := json.Unmarshal(m.Doc, &data); err != nil {
			return nil, err
		}
	}
	c := mail.Content{Own: s.address("/door"), Minutes: int(codeLasts / time.Minute)}
	if o := st.Policy().Organisation; o != nil {
		c.Organisation = o.Name
	}
	switch m.Kind {
	case "code":
		return s.composeCode(ctx, m, data["language"], &c)
	case "letter":
		return s.composeLetter(ctx, data["letter"])
	case "let_in":
		return s.composeLetIn(ctx, data["request"], &c)
	case "bundle_answered":
		return s.composeBundle(ctx, data["request"], &c)
	case "digest", "offer", "arrived", "works", "answered", "sign_up", "bundle_asked", "expectation", "review", "deputy", "feed":
		return s.composeOurs(ctx, m, data, &c)
	}
	g, own, err := s.Guest(ctx, m.Recipient)
	if err != nil || g == nil {
		return nil, dropIfGone(err)
	}
	language := phrase.Of(g.Language)
	c.Name = g.Name
	sponsor := g.Sponsor
	var inv invitation
	if doc, err := s.store.Record(ctx, "invitation", m.Recipient); err != nil {
		return nil, err
	} else if doc != nil {
		if err := json.Unmarshal(doc, &inv); err != nil {
			return nil, err
		}
	}
	if m.Kind == "invitation" || m.Kind == "given" {
		sponsor = cmp.Or(inv.By, g.Sponsor)
		c.Text = inv.Text
	}
	by(&c, st, sponsor)
	now := s.Now()
	steps, _ := st.Sequences().Of(g.Address)
	out, removed := moment.Never, moment.Never
	for i := range steps {
		switch steps[i].Kind {
		case dated.Suspended:
			out = min(out, steps[i].At)
		case dated.Removed:
			removed = steps[i].At
		}
	}
	for i := range own {
		if x := &own[i]; x.Until > now &&
			(m.Kind == "invitation" || m.Kind == "given" && x.Resource.String() == data["into"] && x.Role.String() == data["role"]) {
			c.What = append(c.What, st.NameOf(x.Resource)+": "+roleWords[language][x.Role])
		}
	}
	c.Leave = st.GuestRule(g.Address, "", ruleLeave) == valueOn
	c.Until = dayWords(out, st, language)
	switch m.Kind {
	case "invitation":
		if g.State != world.StateInvited {
			return nil, nil
		}
		lapses := s.invites(&c, st, g, own, steps, language)
		if lapses <= now {
			return nil, nil
		}
		secret := rand.Text() + rand.Text()[:16]
		if err := s.store.PutDoorKey(ctx, sha256.Sum256([]byte(secret)), g.Address.String(), lapses); err != nil {
			return nil, err
		}
		c.Link = s.address("/door/invited#" + secret)
	case "given":
		if len(c.What) == 0 {
			c.What = []string{st.NameOf(resourceOf(data["into"]))}
			if id, ok := strings.CutPrefix(data["into"], "group:"); ok {
				c.What = []string{st.NameOfGroup(id)}
			}
		}
		for i := range own {
			if x := &own[i]; x.Resource.String() == data["into"] && x.Until > now {
				c.Until = dayWords(x.Until, st, language)
			}
		}
	case "warning":
		at, err := moment.Parse(data["at"])
		if err != nil {
			return nil, err
		}
		c.What, c.Cause = endsThen(st, steps, at, language)
		if len(c.What) == 0 { // it was extended since
			return nil, nil
		}
		c.Until = dayWords(at, st, language)
	case "suspended":
		if g.State != world.StateSuspended {
			return nil, nil
		}
		cause, _ := dated.ParseCause(data["cause"])
		c.Cause, c.Text = causeSaid[language][cause], ""
		c.Until = dayWords(removed, st, language)
	case "no_more_time":
		c.Text = data["reason"]
	}
	msg, err := mail.Compose(m.Kind, language, &c)
	return &msg, err
}

// by says who writes, or answers for whoever is written to.
func by(c *mail.Content, st *State, person string) {
	if st.Has("person", person) {
		c.By, c.ByAddress = cmp.Or(st.NameOf(world.Resource{Kind: catalogue.Person, ID: person}), person), st.AddressOf(person)
	}
	if c.By == "" {
		c.By = c.Organisation
	}
}

// invites says what an invitation is for, what can be done besides, until when, and when it lapses;
// it returns that moment.
func (s *Service) invites(
	c *mail.Content,
	st *State,
	g *world.Guest,
	own []world.Grant,
	steps []engine.DueStep,
	language string,
) moment.Moment {
	now, lapses := s.Now(), moment.Never
	c.Until = ""
	for i := range own {
		if own[i].Until > now {
			c.Until = dayWords(own[i].Until, st, language)
		}
	}
	for i := range steps {
		if steps[i].Kind == dated.Invitation {
			lapses = steps[i].At
		}
	}
	c.Purpose, c.Lapses = g.Purpose, dayWords(lapses, st, language)
	c.Beside = s.beside(st, g, language)
	return lapses
}

// invitationAhead is what a guest would read who is invited; st is as it would be with them.
func (s *Service) invitationAhead(st *State, g *world.Guest, given *world.Grant, as, text string) (*mail.Message, error) {
	language := phrase.Of(g.Language)
	c := mail.Content{Own: s.address("/door"), Link: s.address("/door/invited#…"), Name: g.Name, Text: text}
	if o := st.Policy().Organisation; o != nil {
		c.Organisation = o.Name
	}
	by(&c, st, as)
	var own []world.Grant
	if given != nil {
		own = []world.Grant{*given}
		c.What = []string{st.NameOf(given.Resource) + ": " + roleWords[language][given.Role]}
	}
	c.Leave = st.GuestRule(g.Address, "", ruleLeave) == valueOn
	steps, _ := st.Sequences().Of(g.Address)
	s.invites(&c, st, g, own, steps, language)
	m, err := mail.Compose("invitation", language, &c)
	return &m, err
}

// composeRequest writes to a person of ours what became of a question that they had sent.
func (s *Service) composeRequest(ctx context.Context, kind, language, id string, c *mail.Content) (*mail.Message, error) {
	r, err := s.requestKept(ctx, id)
	if err != nil || r == nil {
		return nil, err
	}
	st := s.State()
	c.Purpose, c.Text, c.By = r.Purpose, r.Answer, r.Closer
	c.Guest = r.stranger()
	if r.Bundle != nil {
		if r.over() && kind == "bundle_asked" {
			return nil, nil
		}
		for i, said := range r.Bundle.Said {
			c.Purpose += "\n" + r.Bundle.Asked[i] + " " + said
		}
		c.Until = dayWords(r.Bundle.holding(addr.Address{}, 0).Until, st, phrase.Of(language))
		c.What, c.Link = []string{r.Title}, s.address("/?request="+r.ID)
		msg, err := mail.Compose(kind, language, c)
		return &msg, err
	}
	if r.IsChange() {
		c.What, c.Link = []string{r.Title}, s.address("/")
		msg, err := mail.Compose(kind, language, c)
		return &msg, err
	}
	q, err := r.Asked.Question(s.Now())
	if err != nil {
		return nil, nil // what it is about is gone
	}
	about := cmp.Or(st.NameOf(q.Resource), q.Resource.String())
	if r.Asked.Address != "" {
		about += ", " + r.Asked.Address
	}
	who := cmp.Or(st.NameOfSubject(q.Subject), r.Asked.Subject)
	c.What = []string{fmt.Sprintf("%s: %s (%s)", who, q.Action.Get().TitleOn(q.Resource.Kind), about)}
	ask := url.Values{"who": {r.Asked.Subject}, "action": {r.Asked.Action}, "resource": {r.Asked.Resource}}
	if r.Asked.Address != "" {
		ask.Set("address", r.Asked.Address)
	}
	c.Link = s.address("/ask?" + ask.Encode())
	msg, err := mail.Compose(kind, language, c)
	return &msg, err
}

// tellAsker mails to whoever sent a question that something became of it.
func (s *Service) tellAsker(st *State, t *store.Tx, r *Request) error {
	kind := map[RequestState]string{RequestWorks: "works", RequestAnswered: "answered", RequestRefused: "answered"}[r.State]
	if r.Bundle != nil && r.over() && r.State != RequestWithdrawn && (r.By == GuestName(r.Bundle.Address) || r.State == RequestWorks) {
		to, err := addr.Parse(r.Bundle.Address)
		if err != nil {
			return err
		}
		if err := s.postMail(t, st, to, "bundle_answered", "request "+r.ID+" "+string(r.State), map[string]string{"request": r.ID}); err != nil {
			return err
		}
	}
	if r.SignUp != nil && kind != "" {
		to, err := addr.Parse(r.SignUp.Address)
		if err != nil {
			return err
		}
		return s.postMail(t, st, to, "let_in", "request "+r.ID+" "+string(r.State), map[string]string{"request": r.ID})
	}
	text := st.AddressOf(r.Person)
	if kind == "" || r.Person == "" || text == "" || st.LeftAt(r.Person) != 0 {
		return nil
	}
	to, err := addr.Parse(text)
	if err != nil {
		return err
	}
	return s.postMail(t, st, to, kind, "request "+r.ID+" "+string(r.State), map[string]string{"request": r.ID})
}

// composeDeputy tells somebody of ours that they decide for a person who is away, and what waits.
func (s *Service) composeDeputy(ctx context.Context, language, person, deputy string, c *mail.Content) (*mail.Message, error) {
	doc, err := s.store.Record(ctx, "absence", person)
	if err != nil || doc == nil {
		return nil, err
	}
	var x Absence
	if err := json.Unmarshal(doc, &x); err != nil {
		return nil, err
	}
	until, err := moment.Parse(x.Until)
	if err != nil || x.Deputy != deputy || !x.on(s.Now()) {
		return nil, err
	}
	said, err := s.absenceSaid(ctx, &x)
	if err != nil {
		return nil, err
	}
	c.Guest, c.Purpose, c.Count, c.More = s.State().WhoInWords("owner:"+person), x.Why, said.Requests, said.Lines
	c.Until, c.Link = dayWords(until, s.State(), phrase.Of(language)), s.address("/")
	msg, err := mail.Compose("deputy", language, c)
	return &msg, err
}

// composeReview asks somebody of ours whether what they answer for is still needed; nothing is sent where nothing waits for them.
func (s *Service) composeReview(ctx context.Context, language, id, person string, c *mail.Content) (*mail.Message, error) {
	keepers, err := s.peopleBehind(ctx, []string{world.ByKeeper})
	if err != nil {
		return nil, err
	}
	who := Who{Role: Member, Person: person}
	if slices.Contains(keepers, person) {
		who.Role = Keeper
	}
	if who, err = s.StandingIn(ctx, who); err != nil {
		return nil, err
	}
	v, err := s.RoundOf(ctx, who, id)
	if err != nil {
		return nil, dropIfGone(err)
	}
	n := v.Mine
	if n == 0 || v.Closed != "" {
		return nil, nil
	}
	until, err := moment.Parse(v.Until)
	if err != nil {
		return nil, err
	}
	c.Count, c.Text, c.Purpose, c.Until = n, v.Name, v.Why, dayWords(until, s.State(), phrase.Of(language))
	c.Link = s.address("/reviews/" + url.PathEscape(id))
	msg, err := mail.Compose("review", language, c)
	return &msg, err
}

// composeBundle writes to somebody who asked for a bundle what became of it.
func (s *Service) composeBundle(ctx context.Context, id string, c *mail.Content) (*mail.Message, error) {
	r, err := s.requestKept(ctx, id)
	if err != nil || r == nil || r.Bundle == nil {
		return nil, err
	}
	st := s.State()
	b, err := st.Bundle(r.Bundle.Bundle)
	if err != nil {
		return nil, nil // it is no more
	}
	language := phrase.Of(cmp.Or(r.Bundle.Language, Languages[0]))
	c.Text, c.Guest = r.Answer, b.Name
	if r.State == RequestWorks {
		a, err := addr.Parse(r.Bundle.Address)
		if err != nil {
			return nil, err
		}
		if g, err := s.store.Guest(ctx, a.String()); err != nil || g != nil && g.State == world.StateInvited {
			return nil, err // their invitation says it
		}
		for _, h := range st.Holdings(a) {
			if h.Bundle != b.ID {
				continue
			}
			c.Until = dayWords(h.Until, st, language)
			for _, g := range b.Grants(&h) {
				c.What = append(c.What, st.NameOf(g.Resource)+": "+roleWords[language][g.Role])
			}
		}
		c.Link = s.address("/door")
	}
	msg, err := mail.Compose("bundle_answered", language, c)
	return &msg, err
}

// composeLetIn writes to somebody at the door whether they may come in.
func (s *Service) composeLetIn(ctx context.Context, id string, c *mail.Content) (*mail.Message, error) {
	r, err := s.requestKept(ctx, id)
	if err != nil || r == nil || r.SignUp == nil {
		return nil, err
	}
	c.Text = r.Answer
	if r.State == RequestWorks {
		c.Link = s.address("/door")
	}
	msg, err := mail.Compose("let_in", phrase.Of(r.SignUp.Language), c)
	return &msg, err
}

// besideWords are what a guest may do where no role is needed, in words.
var besideWords = map[string]map[string]string{
	"en": {
		"chat.message":      "write to our people in chat",
		"chat.call":         "call them",
		"meetings.join":     "join meetings of ours",
		"directory.look_up": "look up our people by name",
		"mail.see_busy":     "see when our people are busy",
	},
	"pt": {
		"chat.message":      "escrever às nossas pessoas no chat",
		"chat.call":         "telefonar-lhes",
		"meetings.join":     "entrar em reuniões nossas",
		"directory.look_up": "procurar as nossas pessoas pelo nome",
		"mail.see_busy":     "ver quando as nossas pessoas estão ocupadas",
	},
}

func resourceOf(text string) world.Resource {
	r, _ := engine.ParseResource(text)
	return r
}
