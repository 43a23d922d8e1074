package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Offer is a sponsor's guests offered to somebody who would take over.
type Offer struct {
	ID     string `json:"id"`
	From   string `json:"from"`
	To     string `json:"to"`
	Guests int    `json:"guests"`
	Grants int    `json:"grants"`
	Made   string `json:"made"`
	By     string `json:"by"`
	State  string `json:"state"` // open, accepted, declined
	Reason string `json:"reason,omitempty"`
}

// PersonLeaves notes that a person of ours leaves, and offers their guests to a successor
// where one is named. With preview nothing is written.
func (s *Service) PersonLeaves(ctx context.Context, who Who, id, when, successor, reason string, preview bool) (*Offer, error) {
	var out *Offer
	err := s.changing(ctx, who.Name, reason, preview, func(now *State, t *store.Tx) error {
		doc, err := t.Record("person", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no person %q", ErrNotFound, id)
		}
		p, err := worldfile.PersonOf(doc)
		if err != nil {
			return err
		}
		at := s.Now()
		if when != "" {
			if at, err = moment.ParseEnd(when, s.Now(), now.Zone()); err != nil {
				return &Invalid{"at", when, err.Error()}
			}
		}
		if p.Left == 0 || p.Left != at && when != "" {
			p.Left = at
			if _, err := t.PutRecord("person", id, worldfile.PersonDoc(&p)); err != nil {
				return err
			}
		}
		guests, err := t.GuestsOf(id)
		if err != nil {
			return err
		}
		grants, err := t.GrantsBy(id)
		if err != nil {
			return err
		}
		out = &Offer{
			ID:     fmt.Sprintf("o%d", t.Head().Seq+1),
			From:   id,
			To:     successor,
			Guests: len(guests),
			Grants: len(grants),
			Made:   s.Now().String(),
			By:     who.Name,
			State:  "open",
			Reason: reason,
		}
		if successor != "" {
			if successor == id || !now.Has("person", successor) || now.LeftAt(successor) != 0 {
				return &Invalid{"successor", successor, "name another person of ours who is here"}
			}
			if err := putJSON(t, "offer", out.ID, out); err != nil {
				return err
			}
			if doc, err := t.Record("person", successor); err == nil && doc != nil {
				if to, err := worldfile.PersonOf(doc); err == nil && !to.Address.IsZero() {
					if err := s.postMail(t, now, to.Address, "offer", "", map[string]string{"offer": out.ID}); err != nil {
						return err
					}
				}
			}
		}
		if preview {
			return errPreview
		}
		return nil
	})
	return out, err
}

// Offers lists offers: of members those made to them.
func (s *Service) Offers(ctx context.Context, who Who) ([]Offer, error) {
	out := []Offer{}
	err := s.store.Records(ctx, "offer", "", func(_ string, doc []byte) error {
		var o Offer
		err := json.Unmarshal(doc, &o)
		if err == nil && o.State == "open" && who.SeesOffer(o.To) {
			out = append(out, o)
		}
		return err
	})
	return out, err
}

// AnswerOffer takes over the guests of an offer, or declines.
func (s *Service) AnswerOffer(ctx context.Context, who Who, id string, accept bool) (*Offer, error) {
	var o Offer
	err := s.change(ctx, who.Name, "offer "+id, func(now *State, t *store.Tx) error {
		doc, err := t.Record("offer", id)
		if err != nil {
			return err
		}
		o = Offer{}
		if doc != nil {
			err = json.Unmarshal(doc, &o)
		}
		if err != nil {
			return err
		}
		if doc == nil || !who.SeesOffer(o.To) {
			return fmt.Errorf("%w: there is no offer %q", ErrNotFound, id)
		}
		if o.State != "open" {
			return fmt.Errorf("%w: the offer is %s already", ErrConflict, o.State)
		}
		o.State = "declined"
		if left := now.LeftAt(o.To); accept && (!now.Has("person", o.To) || left != 0 && left <= s.Now()) {
			return fmt.Errorf("%w: %s has left us; ask somebody else", ErrConflict, o.To)
		}
		if accept {
			o.State = "accepted"
			guests, err := t.GuestsOf(o.From)
			if err != nil {
				return err
			}
			for _, a := range guests {
				g, err := t.Guest(a)
				if err != nil {
					return err
				}
				g.Sponsor = o.To
				if _, err := t.PutGuest(g); err != nil {
					return err
				}
			}
			grants, err := t.GrantsBy(o.From)
			if err != nil {
				return err
			}
			for i := range grants {
				if grants[i].Until > s.Now() {
					grants[i].Sponsor = o.To
					if _, err := t.PutGrant(&grants[i]); err != nil {
						return err
					}
				}
			}
			o.Guests, o.Grants = len(guests), len(grants)
			var of []string
			now.EachHolding(func(h *world.Holding) {
				if h.Sponsor == o.From && h.Until > s.Now() {
					of = append(of, h.Key())
				}
			})
			slices.Sort(of)
			held, err := recordsOf(t.Record, "holding", of, worldfile.HoldingOf)
			if err != nil {
				return err
			}
			for i := range held {
				held[i].Sponsor = o.To
				if _, err := putHolding(t, &held[i]); err != nil {
					return err
				}
			}
			o.Grants += len(held)
		}
		return putJSON(t, "offer", id, &o)
	})
	return &o, err
}

// Wish is a guest's request for more time.
type Wish struct {
	Address string `json:"address"`
	Until   string `json:"until,omitempty"`
	Text    string `json:"text,omitempty"`
	Made    string `json:"made"`
	State   string `json:"state"` // open, granted, refused
	Answer  string `json:"answer,omitempty"`
}

// Wishes lists open requests for more time: of members those of their guests.
func (s *Service) Wishes(ctx context.Context, who Who) ([]Wish, error) {
	out := []Wish{}
	st := s.State()
	err := s.store.Records(ctx, "wish", "", func(_ string, doc []byte) error {
		var w Wish
		if err := json.Unmarshal(doc, &w); err != nil || w.State != "open" {
			return err
		}
		a, err := addr.Parse(w.Address)
		if err == nil && (!who.Own() || st.SponsorAt(st.PartyOf(a), who.Person)) {
			out = append(out, w)
		}
		return nil
	})
	return out, err
}

// AnswerWish grants a request for more time as an extension, or refuses it.
func (s *Service) AnswerWish(ctx context.Context, who Who, address string, grant bool, until, text string) (*Wish, error) {
	a, err := addr.Parse(address)
	if err != nil {
		return nil, &Invalid{"address", address, err.Error()}
	}
	if text = strings.TrimSpace(text); text == "" && !grant {
		return nil, &Invalid{"text", "", "say why not; they read it"}
	}
	var w Wish
	err = s.change(ctx, who.Name, strings.TrimSuffix("asked for more time: "+text, ": "), func(now *State, t *store.Tx) error {
		w = Wish{}
		doc, err := t.Record("wish", a.String())
		if err != nil {
			return err
		}
		if doc != nil {
			err = json.Unmarshal(doc, &w)
		}
		if err != nil {
			return err
		}
		if doc == nil || w.State != "open" {
			return fmt.Errorf("%w: %s has asked for nothing that is open", ErrNotFound, a)
		}
		w.State, w.Answer = "refused", text
		if until == "" {
			until = w.Until // what they asked for; where they did not say, as far as one extension may go
		}
		c := &GuestChange{Do: Extend, Addresses: []string{a.String()}, Reason: "asked for more time", Until: until, Grants: true}
		if grant {
			w.State = "granted"
			x, err := s.changeGuest(now, t, who, c, a)
			if err != nil {
				return err
			}
			if !x.Done {
				return fmt.Errorf("%w: %s", ErrConflict, x.Reason)
			}
		} else {
			g, err := s.guestNow(now, t, a, s.Now())
			if err != nil {
				return err
			}
			if g == nil {
				return fmt.Errorf("%w: there is no record of %s", ErrNotFound, a)
			}
			if err := mayGuest(who, g, Extend); err != nil {
				return err
			}
			if err := ownWords(who, "text", text); err != nil {
				return err
			}
			if err := s.postMail(t, now, a, "no_more_time", "", map[string]string{"reason": text}); err != nil {
				return err
			}
		}
		return putJSON(t, "wish", a.String(), &w)
	})
	var refused *Refused
	if errors.As(err, &refused) {
		err = fmt.Errorf("%w: %s", ErrConflict, refused.Reason)
	}
	return &w, err
}

// recordsOf reads records by their ids; those that are not there any more are left out.
func recordsOf[T any](
	read func(kind, id string) ([]byte, error),
	kind string,
	ids []string,
	of func(worldfile.Doc) (T, error),
) (out []T, err error) {
	for _, id := range ids {
		doc, err := read(kind, id)
		if err != nil {
			return nil, err
		}
		if doc == nil {
			continue
		}
		x, err := of(doc)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return
}

// namingLinks returns the links that name an address, and namingGroups the groups that hold
// it, as a change has them. Which they are is known from the state: reading all of them
// would take as long as there are many.
func namingLinks(now *State, t *store.Tx, a addr.Address) ([]world.Link, error) {
	ids, _ := now.Named(a)
	return recordsOf(t.Record, "link", ids, worldfile.LinkOf)
}

func namingGroups(now *State, t *store.Tx, a addr.Address) ([]world.Group, error) {
	_, ids := now.Named(a)
	return recordsOf(t.Record, "group", ids, worldfile.GroupOf)
}
