package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/event"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// What became of an event that a partner told.
const (
	ToldDone    = "done"
	ToldLate    = "late"    // something newer was told before
	ToldNobody  = "nobody"  // it is about somebody who has no record here
	ToldNothing = "nothing" // it changes nothing
)

// mostAhead is how far ahead of our clock an event may have happened.
const mostAhead = time.Minute

// keysHold is how long the keys of a partner are kept, and keysAgain how often they are fetched at most.
const (
	keysHold  = 10 * time.Minute
	keysAgain = time.Minute
)

type keysOf struct {
	set []byte
	at  time.Time
}

// TakeEvent takes a Security Event Token that somebody pushes (RFC 8417, RFC 8935): it must be signed by a key that is pinned for a
// partner, be meant for us, be about one of the partner's own people, and counts once. A refusal is an *event.Refusal.
func (s *Service) TakeEvent(ctx context.Context, f *statement.Fetcher, jws []byte, audience ...string) error {
	parts := bytes.Split(bytes.TrimSpace(jws), []byte("."))
	if len(parts) != 3 {
		return &event.Refusal{Err: event.InvalidRequest, Description: "the body is no signed token in compact form"}
	}
	claims, err := base64.RawURLEncoding.DecodeString(string(parts[1]))
	if err != nil {
		return &event.Refusal{Err: event.InvalidRequest, Description: "the claims are no base64url"}
	}
	said, err := event.ReadTold(claims) // whose it claims to be; nothing else of it counts yet
	if err != nil {
		return err
	}
	p := s.State().partnerOf(said.Issuer)
	if p == nil {
		return &event.Refusal{Err: event.InvalidIssuer, Description: fmt.Sprintf("%q is no partner whose statements are known here", said.Issuer)}
	}
	if p.Standing != world.Active {
		return &event.Refusal{Err: event.AccessDenied, Description: p.Name + " is " + world.StandingNames[p.Standing] + " here"}
	}
	st, err := s.Statement(ctx, p.ID)
	if err != nil {
		return err
	}
	payload, err := s.opened(ctx, f, p, &st, jws)
	if err != nil {
		return err
	}
	x, err := event.ReadTold(payload)
	if err != nil {
		return err
	}
	if !slices.ContainsFunc(x.Audience, func(a string) bool { return slices.Contains(audience, strings.TrimSuffix(a, "/")) }) {
		return &event.Refusal{Err: event.InvalidAudience, Description: fmt.Sprintf("it is meant for %s", strings.Join(x.Audience, ", "))}
	}
	if ahead := s.clock().Add(mostAhead); x.Happened.After(ahead) || x.Issued.After(ahead) {
		return &event.Refusal{Err: event.InvalidRequest, Description: "it happens in the future: " + x.Happened.UTC().Format(time.RFC3339)}
	}
	if !x.Address.IsZero() {
		if m := s.State().Match(x.Address); m.Partner == nil || m.Partner.ID != p.ID {
			return &event.Refusal{Err: event.AccessDenied, Description: fmt.Sprintf("%s is not of %s", x.Address, p.Name)}
		}
	}
	err = s.change(ctx, "partner:"+p.ID, "told by "+x.Issuer, func(now *State, t *store.Tx) error {
		e := &store.ToldEvent{Partner: p.ID, JTI: sha256.Sum256([]byte(x.ID)), Kind: x.Kind, Happened: moment.Of(x.Happened), Came: s.Now(),
			Result: ToldNothing, Detail: x.Type}
		if !x.Address.IsZero() {
			e.Address = x.Address.String()
		}
		if again, err := t.WasTold(p.ID, e.JTI); err != nil || again {
			return cmp.Or(err, errPreview)
		}
		out, err := s.applyTold(now, t, x, e)
		if err != nil {
			return err
		}
		if err := t.PutTold(e); err != nil || !out {
			return err
		}
		return t.EndSessions(GuestName(e.Address)) // those that began before what was just noted
	})
	if errors.Is(err, errPreview) { // it came before, and counts once
		return nil
	}
	return err
}

// partnerOf is the partner whose statement an issuer publishes.
func (s *State) partnerOf(issuer string) *world.Partner {
	i, err := url.Parse(issuer)
	if err != nil || i.Host == "" {
		return nil
	}
	for k := range s.Policy().Partners {
		p := &s.Policy().Partners[k]
		if u, err := url.Parse(p.Statement); p.Statement != "" && err == nil && u.Scheme == i.Scheme && u.Host == i.Host {
			return p
		}
	}
	return nil
}

// opened verifies a token by the pinned keys of a partner, which are published beside its statement.
func (s *Service) opened(ctx context.Context, f *statement.Fetcher, p *world.Partner, st *world.Statement, jws []byte) ([]byte, error) {
	if len(st.Keys) == 0 {
		return nil, &event.Refusal{Err: event.InvalidKey, Description: "no key of " + p.Name + " is pinned here yet"}
	}
	var why error
	for _, fresh := range []bool{false, true} {
		kept, ok := s.toldKeys.Load(p.ID)
		if fresh && s.clock().Sub(kept.(keysOf).at) < keysAgain { // whoever sends what nobody signed does not have us ask them each time
			break
		}
		if fresh || !ok || s.clock().Sub(kept.(keysOf).at) > keysHold {
			set, err := f.Keys(ctx, p.Statement)
			if err != nil {
				return nil, &event.Refusal{Err: event.InvalidKey, Description: "the keys of " + p.Name + " cannot be fetched: " + err.Error()}
			}
			kept = keysOf{set, s.clock()}
			s.toldKeys.Store(p.ID, kept)
			fresh = true
		}
		payload, print, err := statement.OpenAs(event.Type, jws, kept.(keysOf).set)
		if err == nil && !slices.Contains(st.Keys, print) {
			err = fmt.Errorf("the key %s is not pinned for %s", print, p.Name)
		}
		if err == nil {
			return payload, nil
		}
		if why = err; fresh {
			break
		}
	}
	return nil, &event.Refusal{Err: event.InvalidKey, Description: why.Error()}
}

// applyTold does what an event means for the record of whom it is about, and says what became of it. out says that sessions end by it.
func (s *Service) applyTold(now *State, t *store.Tx, x *event.Told, e *store.ToldEvent) (out bool, err error) {
	if x.Address.IsZero() {
		return false, nil
	}
	if x.Kind == event.SessionRevoked { // it moves no date
		e.Result = ToldDone
		return true, nil
	}
	if x.Kind == event.Other || x.Kind == event.Verifies {
		return false, nil
	}
	last, purged, err := t.LastTold(e.Partner, e.Address)
	if err != nil {
		return false, err
	}
	if last > e.Happened || purged && x.Kind != event.Purged {
		e.Result, e.Detail = ToldLate, "something newer was told before"
		if purged {
			e.Detail = "the account was purged before, which is final"
		}
		return false, nil
	}
	at := s.Now()
	g, err := s.guestNow(now, t, x.Address, at)
	if err != nil {
		return false, err
	}
	if g == nil {
		e.Result = ToldNobody
		return false, nil
	}
	switch x.Kind {
	case event.Disabled, event.Purged, event.IdentifierChanged:
		if x.Kind == event.IdentifierChanged && x.New != "" {
			e.Detail = fmt.Sprintf("their address is %s now; merge the two records: wexillum guest merge %s %s", x.New, e.Address, x.New)
		}
		if g.HomeClosed != 0 {
			return false, nil
		}
		g.HomeClosed = at // a notice that comes late acts forward
		e.Result, out = ToldDone, true
	case event.Enabled: // it lifts, and wakes nobody
		if g.HomeClosed == 0 {
			return false, nil
		}
		g.HomeClosed, e.Result = 0, ToldDone
		if g.State == world.StateSuspended {
			e.Detail = "the record stays suspended until somebody brings it back"
		}
	}
	_, err = t.PutGuest(g)
	return out, err
}

// ToldEvents lists what a partner told of its people, the newest first.
func (s *Service) ToldEvents(ctx context.Context, partner string, before uint64, limit int) ([]store.ToldEvent, error) {
	if _, err := s.State().Partner(partner); err != nil {
		return nil, err
	}
	return s.store.ToldEvents(ctx, partner, before, limit)
}

// IsRefusal reports whether an error is said to whoever pushed an event.
func IsRefusal(err error) (*event.Refusal, bool) {
	var r *event.Refusal
	return r, errors.As(err, &r)
}
