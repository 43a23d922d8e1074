package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/event"
	"wexillum.example/internal/reached"
	"wexillum.example/internal/secret"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// Webhook is a receiver of events: an address that every event of some topics is sent to, as a signed
// Security Event Token (RFC 8417) by push (RFC 8935). It may refuse; then it is told again, and what comes
// after waits, so that it hears of everything, in order, and of some of it twice.
type Webhook struct {
	ID      string   `json:"id"`
	Name    string   `json:"name"`
	Address string   `json:"address"`       // https, or http on this machine
	Topics  []string `json:"topics"`        // names of event.Topics; all where there is none
	Key     string   `json:"key,omitempty"` // where a bearer token is that it wants: file:PATH or env:NAME
	Paused  bool     `json:"paused,omitempty"`
	Partner string   `json:"partner,omitempty"` // it is theirs: it hears of accounts of our people, and of nothing else
}

// Telling is how far a receiver was told.
type Telling = store.Telling

// WebhookView is a receiver with how it stands.
type WebhookView struct {
	Webhook
	Telling
	Waits uint64 // entries of the journal that were not looked at for it yet
}

const webhookKind = "webhook"

func (x *Webhook) check() error {
	if !systemID.MatchString(x.ID) {
		return &Invalid{"id", x.ID, "write small letters, digits, dots, lines and hyphens, at most 60"}
	}
	if x.Name = strings.TrimSpace(x.Name); x.Name == "" || len(x.Name) > 200 {
		return &Invalid{"name", x.Name, "say in 1 to 200 letters whose it is"}
	}
	if _, err := serverAddress("address", x.Address); err != nil {
		return err
	}
	if x.Key != "" {
		if _, err := secret.At(x.Key); err != nil {
			return &Invalid{"key", "…", err.Error()}
		}
	}
	if x.Partner != "" && len(x.Topics) > 0 {
		return &Invalid{"topics", strings.Join(x.Topics, ", "), "a partner hears of accounts of our people alone; leave topics out"}
	}
	for _, t := range x.Topics {
		if err := oneOfWords("topics", t, event.Names()...); err != nil {
			return err
		}
	}
	slices.Sort(x.Topics)
	x.Topics = slices.Compact(x.Topics)
	return nil
}

// serverAddress checks where something is sent to, or asked.
func serverAddress(field, text string) (*url.URL, error) {
	u, err := url.Parse(text)
	if err != nil || u.Host == "" || u.User != nil || u.Fragment != "" ||
		u.Scheme != "https" && (u.Scheme != "http" || !ownMachine(u.Hostname())) {
		return nil, &Invalid{field, text, "write https://host/path, without a name and password; http is taken on this machine alone"}
	}
	return u, nil
}

func ownMachine(host string) bool {
	a, err := netip.ParseAddr(host)
	return host == "localhost" || err == nil && a.IsLoopback()
}

// wants reports whether it is to hear of an event.
func (x *Webhook) wants(e *event.Event) bool {
	return len(x.Topics) == 0 || slices.Contains(x.Topics, string(e.Topic))
}

// Webhooks lists the receivers of events, in the order of their ids.
func (s *Service) Webhooks(ctx context.Context) (out []Webhook, err error) {
	err = s.store.Records(ctx, webhookKind, "", func(_ string, doc []byte) error {
		var x Webhook
		err := json.Unmarshal(doc, &x)
		out = append(out, x)
		return err
	})
	return out, err
}

// WebhookViews lists them with how they stand.
func (s *Service) WebhookViews(ctx context.Context) ([]WebhookView, error) {
	list, err := s.Webhooks(ctx)
	out := make([]WebhookView, 0, len(list))
	for i := 0; i < len(list) && err == nil; i++ {
		v := WebhookView{Webhook: list[i]}
		if v.Telling, err = s.store.TellingOf(ctx, v.ID); errors.Is(err, store.ErrNone) {
			err = nil // it ended just now
		}
		if head := s.State().Head.Seq; head > v.Told {
			v.Waits = head - v.Told
		}
		out = append(out, v)
	}
	return out, err
}

// AddWebhook has a receiver told of what happens from now on.
func (s *Service) AddWebhook(ctx context.Context, who Who, why string, x Webhook) error {
	if err := x.check(); err != nil {
		return err
	}
	return s.change(ctx, who.Name, why, func(now *State, t *store.Tx) error {
		if x.Partner != "" && !now.Has("partner", x.Partner) {
			return &Invalid{"partner", x.Partner, "there is no such partner"}
		}
		was, err := t.Record(webhookKind, x.ID)
		if err == nil && was != nil {
			err = fmt.Errorf("%w: there is a receiver %q already", ErrConflict, x.ID)
		}
		if err != nil {
			return err
		}
		if err := putWebhook(t, &x); err != nil {
			return err
		}
		return t.TellFrom(x.ID, t.Head().Seq, s.Now()) // not of itself
	})
}

// ChangeWebhook changes a receiver. It is told on from where it was.
func (s *Service) ChangeWebhook(ctx context.Context, who Who, why, id string, change func(*Webhook)) error {
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		x, err := webhookOf(t.Record(webhookKind, id))
		if err != nil {
			return noReceiver(id, err)
		}
		change(x)
		if err := x.check(); err != nil {
			return err
		}
		return putWebhook(t, x)
	})
}

// webhookOf reads a receiver; ErrNotFound where there is none.
func webhookOf(doc []byte, err error) (*Webhook, error) {
	if err == nil && doc == nil {
		err = ErrNotFound
	}
	if err != nil {
		return nil, err
	}
	x := &Webhook{}
	return x, json.Unmarshal(doc, x)
}

// noReceiver says which one is not there.
func noReceiver(id string, err error) error {
	if err == ErrNotFound {
		err = fmt.Errorf("%w: there is no receiver %q", ErrNotFound, id)
	}
	return err
}

func putWebhook(t *store.Tx, x *Webhook) error {
	doc, err := json.Marshal(x)
	if err == nil {
		_, err = t.PutRecord(webhookKind, x.ID, doc)
	}
	return err
}

// EndWebhook has a receiver told nothing any more.
func (s *Service) EndWebhook(ctx context.Context, who Who, why, id string) error {
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		ended, err := t.EndRecord(webhookKind, id)
		if err == nil && !ended {
			err = ErrNotFound
		}
		if err != nil {
			return noReceiver(id, err)
		}
		return t.TellNoMore(id)
	})
}

// TryWebhook sends a receiver an event that verifies it, and waits for what it says; what it says wrong is
// an *Invalid of its address.
func (s *Service) TryWebhook(ctx context.Context, id string) error {
	x, err := webhookOf(s.store.Record(ctx, webhookKind, id))
	if err != nil {
		return noReceiver(id, err)
	}
	now := s.clock()
	err = s.push(ctx, x, event.Token{
		Issuer: s.address(""), Issued: now.Unix(), ID: x.Address + "#" + rand.Text(), Audience: x.Address,
		Subject: map[string]any{"format": "opaque", "id": "webhook:" + x.ID},
		Events:  map[string]any{event.Verification: map[string]any{}},
	})
	if err != nil && ctx.Err() == nil {
		return &Invalid{"address", x.Address, err.Error()}
	}
	return err
}

// eventsAtOnce is how many entries of the journal are looked at for events at a time.
const eventsAtOnce = 500

// EventsAfter returns what happened behind a journal entry, the oldest first, and up to which entry was looked; that
// is the same entry where nothing is behind it.
func (s *Service) EventsAfter(ctx context.Context, seq uint64) (out []event.Event, upTo uint64, err error) {
	entries, revision, err := s.store.EntriesAfter(ctx, seq, eventsAtOnce)
	upTo = seq
	for i := range entries {
		e := &entries[i]
		if x, ok := event.Of(e, e.Revision > revision); ok {
			out = append(out, x)
		}
		revision, upTo = max(revision, e.Revision), e.Seq
	}
	return out, upTo, err
}

// How long a receiver may take for an answer, how long one service goes on telling it, and the longest that is
// waited before it is told again what it did not take.
const (
	pushTime   = 10 * time.Second
	tellTime   = time.Minute
	tellPauses = time.Hour
)

// RunWebhooks tells receivers of events until the context ends. Several services may run it at once.
func (s *Service) RunWebhooks(ctx context.Context, every time.Duration) {
	holder := rand.Text()
	s.repeat(ctx, every, "receivers of events cannot be told", "receivers of events are told again", func() error {
		return s.tellAll(ctx, holder)
	})
}

// tellAll tells every receiver what it does not know yet; the slow ones keep nobody else waiting.
func (s *Service) tellAll(ctx context.Context, holder string) error {
	list, err := s.Webhooks(ctx)
	if err != nil {
		return err
	}
	done := make(chan error, len(list))
	for i := range list {
		go func() { done <- s.tellOne(ctx, &list[i], holder) }()
	}
	for range list {
		err = errors.Join(err, <-done)
	}
	return err
}

// tellOne tells one receiver, as long as it takes what it is sent.
func (s *Service) tellOne(ctx context.Context, x *Webhook, holder string) error {
	w, err := s.store.TellingOf(ctx, x.ID)
	if errors.Is(err, store.ErrNone) {
		return nil // it ended just now
	}
	now := s.Now()
	behind := w.Told < s.State().Head.Seq || x.Partner != "" && w.Looked+lookEvery <= now
	if err != nil || x.Paused || !behind || w.Next > now || x.Partner != "" && s.State().feedOutShut(x.Partner) != "" {
		return err
	}
	held, err := s.store.HoldWebhook(ctx, x.ID, holder, now, now+moment.Moment(2*tellTime.Microseconds()), false)
	if err != nil || !held {
		return err
	}
	if w, err = s.store.TellingOf(ctx, x.ID); err != nil { // as whoever held it left it
		return err
	}
	w.Problem = ""
	failed := func(err error) {
		w.Problem, w.Tries = err.Error(), w.Tries+1
		w.Next = s.Now() + moment.Moment(min(tellPauses, time.Second<<min(w.Tries, 12)).Microseconds())
	}
	until := time.Now().Add(tellTime)
	if x.Partner != "" {
		if err := s.tellPartner(ctx, x, &w, until, failed); err != nil {
			return err
		}
		return s.store.Told(context.WithoutCancel(ctx), x.ID, holder, w)
	}
	for time.Now().Before(until) && w.Problem == "" && ctx.Err() == nil {
		events, upTo, err := s.EventsAfter(ctx, w.Told)
		if err != nil {
			return err
		}
		if upTo == w.Told {
			break
		}
		for i := range events {
			e := &events[i]
			if !x.wants(e) {
				continue
			}
			if err := s.push(ctx, x, e.As(s.address(""), x.Address, s.clock())); err != nil {
				failed(err)
				break
			}
			w.Told, w.Sent, w.Tries, w.Next = e.ID, s.Now(), 0, 0
			w.Count++
		}
		if w.Problem == "" {
			w.Told = upTo
		}
	}
	return s.store.Told(context.WithoutCancel(ctx), x.ID, holder, w)
}

// lookEvery is how often it is looked who of ours has left meanwhile.
const lookEvery = 10_000_000

// tellPartner tells a partner what happened to accounts of our people: of those whom directory.feed_out lets them keep. What the journal
// says comes first, then who left by a date.
func (s *Service) tellPartner(ctx context.Context, x *Webhook, w *store.Telling, until time.Time, failed func(error)) error {
	read := func(text string) moment.Moment { m, _ := moment.Parse(text); return m }
	tell := func(o *event.Ours) bool {
		if s.State().OursRule(o.Person, x.Partner, ruleFeedOut, s.Now()) != valueOn {
			return true
		}
		if err := s.push(ctx, x, o.As(s.address(""), x.Address, s.clock())); err != nil {
			failed(err)
			return false
		}
		w.Sent, w.Tries, w.Next = s.Now(), 0, 0
		w.Count++
		return true
	}
	for time.Now().Before(until) && ctx.Err() == nil {
		entries, _, err := s.store.EntriesAfter(ctx, w.Told, eventsAtOnce)
		if err != nil || len(entries) == 0 {
			if err != nil {
				return err
			}
			break
		}
		for i := range entries {
			o, ok := event.OfOurs(&entries[i], read)
			if !ok && entries[i].Kind == "sessions" {
				o, ok = s.sessionsOf(ctx, &entries[i])
			}
			if ok && !tell(&o) {
				return nil
			}
			w.Told = entries[i].Seq
		}
	}
	now := s.Now()
	var left []event.Ours
	if err := s.PeopleAfter(ctx, "", func(string) bool { return true }, func(p *world.Person) error {
		if p.Left > w.Looked && p.Left <= now && !p.Address.IsZero() {
			left = append(left, event.Ours{ID: event.LeftID(p.ID, p.Left), Person: p.ID, Kind: event.Disabled, Address: p.Address.String(),
				Happened: p.Left.Time()})
		}
		return ctx.Err()
	}); err != nil {
		return err
	}
	for i := range left {
		if !tell(&left[i]) {
			return nil // those who were told already are told again under the same id
		}
	}
	w.Looked = now
	return nil
}

// sessionsOf is what it means for a partner that somebody of ours was signed out everywhere.
func (s *Service) sessionsOf(ctx context.Context, e *store.Entry) (event.Ours, bool) {
	a, err := s.store.Account(ctx, e.ID)
	if err != nil || a.Person == "" {
		return event.Ours{}, false
	}
	address := s.State().AddressOf(a.Person)
	return event.Ours{ID: fmt.Sprint("entry ", e.Seq), Person: a.Person, Kind: event.SessionRevoked, Address: address, Happened: e.At.UTC()},
		address != ""
}

// pusher follows nothing: an address is told in person.
var pusher = &http.Client{
	Timeout:       pushTime,
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// push sends a token (RFC 8935 §2). Taken is what is answered with 202; other good answers are taken for it, too.
func (s *Service) push(ctx context.Context, x *Webhook, token event.Token) error {
	keys, err := s.signing(ctx)
	if err != nil {
		return err
	}
	i := slices.IndexFunc(keys, func(k store.SigningKey) bool { return k.State == store.KeyCurrent })
	if i < 0 {
		return errors.New("no key signs what is told: announce one, and switch to it")
	}
	signed, err := statement.SignAs(event.Type, token, keys[i].Private)
	if err != nil {
		return err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, x.Address, strings.NewReader(signed))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/"+event.Type)
	req.Header.Set("Accept", "application/json")
	if x.Key != "" {
		key, err := secret.At(x.Key)
		if err != nil {
			return err
		}
		req.Header.Set("Authorization", "Bearer "+key)
	}
	resp, err := pusher.Do(req)
	if err != nil {
		return errors.New(reached.Why(err, pushTime))
	}
	defer resp.Body.Close()
	body, _ := io.ReadAll(io.LimitReader(resp.Body, 4<<10))
	if resp.StatusCode/100 == 2 {
		return nil
	}
	var said struct{ Err, Description string } // RFC 8935 §2.3
	text := fmt.Sprintf("it answers %d", resp.StatusCode)
	if json.Unmarshal(bytes.TrimSpace(body), &said) == nil && said.Err != "" {
		text += ": " + strings.TrimSpace(said.Err+" "+said.Description)
	}
	return errors.New(cmp.Or(text[:min(len(text), 300)], "?"))
}
