package service

import (
	"context"
	"encoding/json"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Terms returns the terms of use that guests accept, in a language.
func (s *State) Terms(language string) string {
	set := s.Policy().SettingsNow()
	if t := set.TermsPt; t != "" && language == "pt" {
		return t
	}
	if t := set.Terms; t != "" {
		return t
	}
	name := ""
	if o := s.Policy().Organisation; o != nil {
		name = o.Name
	}
	if language == "pt" {
		return "O que aqui vê pertence a " + name +
			" e a quem com ela trabalha. Use-o só para aquilo a que foi convidado, não o passe a outros, e avise quem o convidou se algo lhe chegou por engano. O que fizer aqui fica registado."
	}
	return "What you see here belongs to " + name +
		" and to those who work with it. Use it only for what you were invited to, do not pass it on, and tell whoever invited you if something reached you by mistake. What you do here is recorded."
}

// TermsOwed reports whether a guest still has to accept the terms that count now.
func (s *State) TermsOwed(g *world.Guest, now moment.Moment) bool {
	if s.GuestRule(g.Address, "", ruleTerms) != termsDue {
		return false
	}
	since := s.Policy().SettingsNow().TermsSince
	return g.Terms == moment.Never || since <= now && g.Terms < since
}

// AcceptGuest records that a guest accepts: the invitation, where there is one, and the
// terms. It ends every link of the invitation. The name is taken where the record has none.
func (s *Service) AcceptGuest(ctx context.Context, who Who, terms bool, name string) error {
	a, err := addr.Parse(who.Guest)
	if err != nil {
		return ErrDenied
	}
	err = s.change(ctx, who.Name, "accepted", func(now *State, t *store.Tx) error {
		g, err := s.guestNow(now, t, a, s.Now())
		if err != nil {
			return err
		}
		if g == nil || g.State == world.StateSuspended {
			return ErrDenied
		}
		if now.TermsOwed(g, s.Now()) && !terms {
			return &Invalid{"terms", "no", "the terms have to be accepted first"}
		}
		at := s.Now()
		if terms {
			g.Terms = at
		}
		if g.Name == "" {
			g.Name = strings.Join(strings.Fields(name), " ")
		}
		arrives := g.State == world.StateInvited
		if arrives {
			g.State, g.StateSince, g.Accepted, g.LastSeen = world.StateActive, moment.Always, at, at
		}
		if _, err = t.PutGuest(g); err != nil || !arrives {
			return err
		}
		return s.tellArrived(now, t, g)
	})
	if err != nil {
		return err
	}
	return s.store.SpendDoorKeys(ctx, a.String())
}

// tellArrived lets who invited a guest hear that they came in.
func (s *Service) tellArrived(now *State, t *store.Tx, g *world.Guest) error {
	doc, err := t.Record("invitation", g.Address.String())
	if err != nil || doc == nil {
		return err
	}
	var inv invitation
	if err := json.Unmarshal(doc, &inv); err != nil {
		return err
	}
	text := now.AddressOf(inv.By)
	if text == "" || now.LeftAt(inv.By) != 0 {
		return nil
	}
	to, err := addr.Parse(text)
	if err != nil {
		return err
	}
	return s.postMail(t, now, to, "arrived", "arrived "+g.Address.String()+" "+inv.Made, map[string]string{"guest": g.Address.String()})
}

// LeaveGuest removes a guest's own record, where the rules let them.
func (s *Service) LeaveGuest(ctx context.Context, who Who) error {
	a, err := addr.Parse(who.Guest)
	if err != nil {
		return ErrDenied
	}
	err = s.change(ctx, who.Name, "left", func(now *State, t *store.Tx) error {
		if now.GuestRule(a, "", ruleLeave) != valueOn {
			return fmt.Errorf("%w: here guests do not remove their own record (directory.leave); ask your sponsor", ErrConflict)
		}
		g, err := s.guestNow(now, t, a, s.Now())
		if err != nil {
			return err
		}
		if g == nil {
			return ErrDenied
		}
		return s.remove(now, t, a, s.Now())
	})
	if err != nil {
		return err
	}
	return s.store.SpendDoorKeys(ctx, a.String())
}

// WishMore asks the sponsor for more time.
func (s *Service) WishMore(ctx context.Context, who Who, until, text string) (*Wish, error) {
	a, err := addr.Parse(who.Guest)
	if err != nil {
		return nil, ErrDenied
	}
	if text = strings.TrimSpace(text); text == "" || len(text) > 1000 {
		return nil, &Invalid{"text", text, "say what you need the time for, in 1 to 1000 letters"}
	}
	w := &Wish{Address: a.String(), Text: text, Made: s.Now().String(), State: "open"}
	if until != "" {
		m, err := moment.ParseEnd(until, s.Now(), s.State().Zone())
		if err != nil || m <= s.Now() {
			return nil, &Invalid{"until", until, "write a day that lies ahead, as 2027-06-30"}
		}
		w.Until = moment.CountedOnFrom(m, s.State().Zone()).String() // +14d is counted from today, not from the answer
	}
	return w, s.change(ctx, who.Name, text, func(now *State, t *store.Tx) error {
		g, err := s.guestNow(now, t, a, s.Now())
		if err != nil {
			return err
		}
		if g == nil || g.State != world.StateActive {
			return ErrDenied
		}
		return putJSON(t, "wish", a.String(), w)
	})
}

// SpeakGuest sets the language of a guest's mail and page.
func (s *Service) SpeakGuest(ctx context.Context, who Who, language string) error {
	if language == "" {
		return &Invalid{"language", "", "write " + strings.Join(Languages, ", ")}
	}
	if err := oneOfWords("language", language, Languages...); err != nil {
		return err
	}
	return s.change(ctx, who.Name, "language", func(_ *State, t *store.Tx) error {
		g, err := t.Guest(who.Guest)
		if err != nil {
			return err
		}
		if g == nil {
			return ErrDenied
		}
		g.Language = language
		_, err = t.PutGuest(g)
		return err
	})
}

// WishOf returns the last request of a guest for more time; nil for none.
func (s *Service) WishOf(ctx context.Context, address string) (*Wish, error) {
	doc, err := s.store.Record(ctx, "wish", address)
	if err != nil || doc == nil {
		return nil, err
	}
	var w Wish
	return &w, json.Unmarshal(doc, &w)
}

// LandingOf returns where a guest goes once they have accepted; empty for nowhere else.
func (s *Service) LandingOf(ctx context.Context, address string) string {
	doc, err := s.store.Record(ctx, "invitation", address)
	if err != nil || doc == nil {
		return ""
	}
	var inv invitation
	_ = json.Unmarshal(doc, &inv)
	return inv.Landing
}

// stillInvited reports whether a record waits to be accepted, as its dates have it now.
func (s *Service) stillInvited(g *world.Guest) bool {
	now, ok := s.State().Dated(g, s.Now())
	return ok && now.State == world.StateInvited
}
