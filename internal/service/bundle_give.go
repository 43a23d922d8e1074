package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// mayThen says in a line what somebody may do then.
func mayThen(would []engine.WouldLine) []string {
	var may []string
	for i := range would {
		if c := would[i].Change(); c == "opened" || c == "otherwise" {
			may = append(may, would[i].Action.Get().Title)
		}
	}
	slices.Sort(may)
	if may = slices.Compact(may); len(may) == 0 {
		return nil
	}
	return []string{"They may then " + strings.Join(may, ", ")}
}

// toInWords names those who may take a step.
func (s *State) toInWords(who []string) string {
	var out []string
	for _, w := range who {
		out = append(out, s.WhoInWords(w))
	}
	return strings.Join(out, " or ")
}

// narrow makes what was asked for narrower.
func (s *State) narrow(b *world.Bundle, x *BundleAsked, c *BundleApproval, at moment.Moment) error {
	until, err := s.bundleUntil(b, c.Until, at)
	if err != nil {
		return err
	}
	if asked, err := moment.Parse(x.Until); err == nil && asked < until {
		if c.Until != "" {
			return &Invalid{"until", c.Until, "they asked for less: until " + x.Until}
		}
		until = asked
	}
	x.Until = until.String()
	for _, l := range c.Less {
		role := catalogue.NoRole
		if l.Role != "" {
			var ok bool
			if role, ok = catalogue.ParseRole(l.Role); !ok {
				return &Invalid{"less", l.Role, "a role is view, contribute or manage; leave it out, and nothing is given there"}
			}
		}
		k := slices.IndexFunc(b.Gives, func(g world.Gift) bool { return g.Resource.String() == l.Resource })
		if k < 0 {
			return &Invalid{"less", l.Resource, "the bundle does not give it"}
		}
		if role >= b.Gives[k].Role {
			return &Invalid{"less", l.Role, "the bundle gives " + b.Gives[k].Role.String() + " there, which is no more"}
		}
		x.Less = append(slices.DeleteFunc(x.Less, func(o Less) bool { return o.Resource == l.Resource }), l)
	}
	if a, err := addr.Parse(x.Address); err == nil && len(b.Grants(x.holding(a, at))) == 0 {
		return &Invalid{"less", "", "nothing would be left of the bundle; say no instead"}
	}
	return nil
}

// holding is what is given once it is approved.
func (x *BundleAsked) holding(a addr.Address, at moment.Moment) *world.Holding {
	h := &world.Holding{Party: a, Bundle: x.Bundle, From: at, Until: moment.Never, Sponsor: x.Sponsor, Reviewed: moment.Always}
	if until, err := moment.Parse(x.Until); err == nil {
		h.Until = until
	}
	for _, l := range x.Less {
		role, _ := catalogue.ParseRole(l.Role)
		h.Less = append(h.Less, world.Gift{Resource: resourceOf(l.Resource), Role: role})
	}
	return h
}

// giveBundle writes the holding, and the record where there is none; a suspended one is brought back, if no cause stands.
func (s *Service) giveBundle(now *State, t *store.Tx, r *Request, b *world.Bundle, at moment.Moment) error {
	x := r.Bundle
	a, err := addr.Parse(x.Address)
	if err != nil {
		return err
	}
	h := x.holding(a, at)
	if len(x.Steps) > 0 { // whoever approved first for us answers for it, where nobody was named
		for _, w := range x.Steps[0].Who {
			if id, person := strings.CutPrefix(w, "owner:"); person {
				h.Sponsor = cmp.Or(h.Sponsor, id)
			}
		}
	}
	if h.Sponsor == "" {
		h.Sponsor = slices.Concat(now.OwnersHere(b.Gives[0].Resource, at), []string{""})[0]
	}
	if h.Sponsor != "" && (!now.Has("person", h.Sponsor) || now.LeftAt(h.Sponsor) != 0) {
		h.Sponsor = ""
	}
	held, err := heldNow(t, now, a)
	if err != nil {
		return err
	}
	for _, old := range held {
		if old.Bundle == b.ID && old.Until > at { // extended: it goes on, with what is given now
			h.From, h.Until, h.Reviewed = old.From, max(h.Until, old.Until), at
			if len(x.Less) == 0 {
				h.Less = old.Less
			}
		}
	}
	g, err := s.guestNow(now, t, a, at)
	if err != nil {
		return err
	}
	if _, err := putHolding(t, h); err != nil {
		return err
	}
	language := cmp.Or(x.Language, Languages[0])
	switch {
	case g == nil && r.By == GuestName(x.Address): // they proved their mailbox
		return putNewcomer(t, a, world.ByInvitation, h.Sponsor, language, r.Purpose, at)
	case g == nil:
		if _, err := t.PutGuest(&world.Guest{Address: a, Sponsor: h.Sponsor, Purpose: r.Purpose, State: world.StateInvited,
			Origins: world.ByInvitation, Since: at, Accepted: moment.Never,
			Renewed: moment.Always, Until: moment.Never, Terms: moment.Never, LastSeen: moment.Always, StateSince: moment.Always,
			Language: language}); err != nil {
			return err
		}
		if err := putJSON(t, "invitation", a.String(), invitation{Into: b.Gives[0].Resource.String(), Role: b.Gives[0].Role.String(),
			By: h.Sponsor, Language: language, Made: at.String()}); err != nil {
			return err
		}
		return s.postMail(t, now, a, "invitation", "", map[string]string{"into": b.Gives[0].Resource.String(), "role": b.Gives[0].Role.String()})
	case g.State == world.StateSuspended:
		e := now.Aside()
		e.PutHolding(h)
		next := *g
		if err := s.bringBack(&State{Snapshot: e.Done(), Head: now.Head}, &next, nil, at); err != nil {
			var no *Refused
			if errors.As(err, &no) {
				return fmt.Errorf("%w: %s is suspended, and %s", ErrConflict, a, no.Reason)
			}
			return err
		}
		_, err = t.PutGuest(&next)
		return err
	}
	return nil
}

// HandOverRequest asks somebody else to take the next step of approving a bundle, instead of whoever may take it now.
func (s *Service) HandOverRequest(ctx context.Context, who Who, id, to string) (*Request, error) {
	var out *Request
	err := s.change(ctx, who.Name, "", func(now *State, t *store.Tx) error {
		r, err := requestIn(t, id)
		if err != nil {
			return err
		}
		at := s.Now()
		left := now.LeftAt(to)
		switch {
		case r.Bundle == nil:
			return fmt.Errorf("%w: only a bundle that is asked for is handed over; answer it, or say no", ErrConflict)
		case !mine(r, who):
			return noRequest(id)
		case r.over():
			return fmt.Errorf("%w: the request %s is over: %s", ErrConflict, r.ID, r.State)
		case !now.MayApprove(r, who):
			return fmt.Errorf("%w: it is answered by %s", ErrForbidden, now.toInWords(r.Bundle.step().Who))
		case !now.Has("person", to) || left != 0 && left <= at:
			return &Invalid{"to", to, "there is no such person here"}
		case to == r.Person || now.AddressOf(to) == r.Bundle.Address || slices.Contains(r.Bundle.Never, to):
			return &Invalid{"to", to, "they asked for it, would get it, or are the deputy of whoever asked: they do not approve it"}
		}
		step := r.Bundle.step()
		if slices.Equal(step.Who, []string{"owner:" + to}) {
			return fmt.Errorf("%w: they are asked already", ErrConflict)
		}
		step.Who = []string{"owner:" + to}
		t.Because("handed over to " + now.WhoInWords("owner:"+to))
		if err := s.askStep(now, t, r); err != nil {
			return err
		}
		out = r
		return putRequest(t, r)
	})
	return out, err
}

// WithdrawRequest takes back what one asked for oneself.
func (s *Service) WithdrawRequest(ctx context.Context, who Who, id string) (*Request, error) {
	return s.onRequest(ctx, who, id, func(r *Request) error {
		switch {
		case r.By != who.Name:
			return fmt.Errorf("%w: it is %s who asked", ErrConflict, r.By)
		case r.over():
			return fmt.Errorf("%w: the request %s is over: %s", ErrConflict, r.ID, r.State)
		}
		r.State, r.Closer, r.Closed, r.Heard = RequestWithdrawn, who.Name, s.Now().String(), true
		return nil
	})
}

// RequestOfGuest finds a request that somebody outside made.
func (s *Service) RequestOfGuest(ctx context.Context, who Who, id string) (*Request, error) {
	if r, err := s.requestKept(ctx, id); err != nil || r != nil && r.By == who.Name {
		return r, err
	}
	return nil, noRequest(id)
}

// lapseRequests ends requests for bundles that nobody answered in time, and reminds those who decide half-way.
func (s *Service) lapseRequests(ctx context.Context) error {
	at := s.Now()
	if last := s.lapsedAt.Load(); at < moment.Moment(last)+60e6 && at >= moment.Moment(last) {
		return nil
	}
	s.lapsedAt.Store(int64(at))
	var over, remind []string
	st := s.State()
	zone := st.Zone()
	set := st.Policy().SettingsNow().LapseDays
	ever, lapse := set != catalogue.NoLimit, int(set) // 0: with the day on which it was asked for
	half := max(1, lapse/2)
	if !ever {
		half = int(world.StartLapseDays) / 2
	}
	if err := s.store.Naming(ctx, "request", `"state":"open"`, func(id string, doc []byte) error {
		r, err := requestOf(doc)
		if err != nil || r.Bundle == nil || r.over() {
			return err
		}
		made, err := moment.Parse(r.Made)
		if err == nil && ever && moment.EndOfDays(moment.DayOf(made, zone), lapse, zone) <= at {
			over = append(over, id)
		} else if err == nil && r.Bundle.Reminded == 0 && moment.EndOfDays(moment.DayOf(made, zone), half, zone) <= at {
			remind = append(remind, id)
		}
		return err
	}); err != nil {
		return err
	}
	for _, id := range remind {
		if err := s.change(ctx, "wexillum", fmt.Sprintf("nobody answered within %d days", half), func(now *State, t *store.Tx) error {
			r, err := requestIn(t, id)
			if err != nil || r.over() || r.Bundle.Reminded != 0 { // another service was first
				return err
			}
			r.Bundle.Reminded = half
			if err := s.askStep(now, t, r); err != nil {
				return err
			}
			return putRequest(t, r)
		}); err != nil {
			return err
		}
	}
	for _, id := range over {
		_, err := s.onRequest(ctx, Who{Name: "wexillum", Role: Administrator}, id, func(r *Request) error {
			if r.over() {
				return errPreview // another service was first
			}
			r.State, r.Closed, r.Heard = RequestLapsed, at.String(), false
			r.Answer = fmt.Sprintf("Nobody answered within %d days.", lapse)
			return nil
		})
		if err != nil && !errors.Is(err, errPreview) {
			return err
		}
	}
	return nil
}
