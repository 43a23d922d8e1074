package service

import (
	"context"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// By says who changes something and why, from which state it is changed, and
// whether it is only to be weighed.
type By struct {
	Who, Why string
	IfMatch  string // validator of what the change was made from; empty for any
	Preview  bool   // nothing is written
}

// Weighed is a change that was made, or, with a preview, that would be: the state
// with it, and whom and what it concerns.
type Weighed struct {
	State    *State
	Concerns engine.Concerns
}

// policy makes a change of policy, or weighs it on a snapshot of its own.
func (s *Service) policy(
	ctx context.Context,
	by By,
	concerns func(before, after *State) engine.Concerns,
	make func(*State) (*world.World, error),
) (Weighed, error) {
	before, err := s.StateIn(ctx)
	if err != nil {
		return Weighed{}, err
	}
	var after *State
	if by.Preview {
		next, err := make(before)
		if err != nil {
			return Weighed{}, err
		}
		after = s.State().With(next, s.Now())
	} else {
		err := s.part(ctx, by.Who, by.Why, func(now *State) (*world.World, error) {
			before = now
			return make(now)
		})
		if err != nil {
			return Weighed{}, err
		}
		if after, err = s.StateIn(ctx); err != nil {
			return Weighed{}, err
		}
	}
	return Weighed{after, concerns(before, after)}, nil
}

// With returns the state as it would be if another policy were published at a moment.
func (s *State) With(policy *world.World, at moment.Moment) *State {
	e := s.Aside()
	e.SetPolicy(policy)
	e.HoldBack()
	e.ActForward(at)
	return &State{Snapshot: e.Done(), Head: s.Head}
}

// peopleOf counts the people of a partner after a change.
func peopleOf(id string) func(before, after *State) engine.Concerns {
	return func(_, after *State) engine.Concerns { return after.Concerned(id) }
}

// AddPartner adds a partner. doc is its record as the file format has it.
func (s *Service) AddPartner(ctx context.Context, by By, id string, doc []byte) (Weighed, error) {
	return s.policy(ctx, by, partnerMoves(id), func(now *State) (*world.World, error) {
		if _, err := now.Partner(id); err == nil {
			return nil, fmt.Errorf("%w: there is a partner %q already", ErrConflict, id)
		}
		return s.withPartner(now, id, doc)
	})
}

// PatchPartner changes what a merge patch (RFC 7396) of a partner's record in the file format
// names; the rest stays as it is.
func (s *Service) PatchPartner(ctx context.Context, by By, id string, patch []byte) (Weighed, error) {
	return s.policy(ctx, by, partnerMoves(id), func(now *State) (*world.World, error) {
		old, err := now.Partner(id)
		if err != nil {
			return nil, err
		}
		if by.IfMatch != "" && by.IfMatch != PartnerEtag(old) {
			return nil, ErrStale
		}
		p := *old
		p.Stance = nil // which are not of policy
		doc, err := patched(worldfile.PartnerDoc(&p), patch, id)
		if err != nil {
			return nil, err
		}
		return s.withPartner(now, id, doc)
	})
}

// partnerMoves counts whom a changed record of a partner concerns.
func partnerMoves(id string) func(before, after *State) engine.Concerns {
	return func(before, after *State) engine.Concerns {
		was, err := before.Partner(id)
		will, err2 := after.Partner(id)
		if err != nil || err2 != nil || len(world.Differences(was, will)) > 0 {
			return after.Concerned(id)
		}
		return engine.Moving(before.Snapshot, after.Snapshot, id)
	}
}

// withPartner returns the policy with a partner as doc has it.
func (s *Service) withPartner(now *State, id string, doc []byte) (*world.World, error) {
	part, err := s.readPart(now, "partners", "partner", id, doc)
	if err != nil {
		return nil, err
	}
	return world.Merge(now.Policy(), part), nil
}

// edit changes one partner in place.
func (s *Service) edit(
	ctx context.Context,
	by By,
	id string,
	concerns func(before, after *State) engine.Concerns,
	fn func(*State, *world.Partner) error,
) (Weighed, error) {
	return s.policy(ctx, by, concerns, func(now *State) (*world.World, error) {
		old, err := now.Partner(id)
		if err != nil {
			return nil, err
		}
		if by.IfMatch != "" && by.IfMatch != PartnerEtag(old) {
			return nil, ErrStale
		}
		p := *old
		if err := fn(now, &p); err != nil {
			return nil, err
		}
		return world.Merge(now.Policy(), &world.World{Policy: world.Policy{Partners: []world.Partner{p}}}), nil
	})
}

// SetStatement changes where a partner's statement is fetched.
func (s *Service) SetStatement(ctx context.Context, by By, id, address string) error {
	return s.SetServers(ctx, by, id, address, "", "")
}

// SetServers changes where a partner's statement is fetched and, where an issuer is named,
// its own sign-in.
func (s *Service) SetServers(ctx context.Context, by By, id, statement, issuer, client string) error {
	_, err := s.edit(ctx, by, id, peopleOf(id), func(_ *State, p *world.Partner) error {
		p.Statement = statement
		if issuer != "" {
			p.SignIn, p.SignInClient = issuer, client
		}
		return nil
	})
	return err
}

// SetStanding changes a partner's standing as of now; why becomes its reason.
func (s *Service) SetStanding(ctx context.Context, by By, id, standing string) (Weighed, error) {
	return s.edit(ctx, by, id, peopleOf(id), func(_ *State, p *world.Partner) error {
		for i, n := range world.StandingNames {
			if n == standing {
				if p.Standing != world.Standing(i) {
					p.Standing, p.StandingSince, p.StandingReason = world.Standing(i), s.Now(), by.Why
				}
				return nil
			}
		}
		return &Invalid{"standing", standing, "write active, suspended or ended"}
	})
}

func movingTo(id string) func(before, after *State) engine.Concerns {
	return func(before, after *State) engine.Concerns {
		return engine.Moving(before.Snapshot, after.Snapshot, id)
	}
}

// AddDomain adds a domain to a partner. What it concerns are those who become
// the partner's people.
func (s *Service) AddDomain(ctx context.Context, by By, id string, name string, subdomains, lookAlike bool) (Weighed, error) {
	d, err := addr.ParseDomain(name)
	if err != nil {
		return Weighed{}, &Invalid{"domain", name, err.Error()}
	}
	return s.edit(ctx, by, id, movingTo(id), func(now *State, p *world.Partner) error {
		e := world.Entry{Domain: d, Subdomains: subdomains, LookAlike: lookAlike}
		for _, x := range p.Domains {
			if x.Domain == d {
				return fmt.Errorf("%w: %s is a domain of %q already", ErrConflict, d, id)
			}
		}
		if reason := world.NewWatch(now.Policy()).Refuse(id, e); reason != "" {
			return &Invalid{"domain", name, reason}
		}
		p.Domains = append(p.Domains[:len(p.Domains):len(p.Domains)], e)
		return nil
	})
}

// RemoveDomain takes a domain from a partner. What it concerns are those who are
// no longer the partner's people.
func (s *Service) RemoveDomain(ctx context.Context, by By, id, name string) (Weighed, error) {
	d, err := addr.ParseDomain(name)
	if err != nil {
		return Weighed{}, &Invalid{"domain", name, err.Error()}
	}
	return s.edit(ctx, by, id, movingTo(id), func(_ *State, p *world.Partner) error {
		var keep []world.Entry
		for _, x := range p.Domains {
			if x.Domain != d {
				keep = append(keep, x)
			}
		}
		if len(keep) == len(p.Domains) {
			return fmt.Errorf("%w: %s is no domain of %q", ErrNotFound, d, id)
		}
		p.Domains = keep
		return nil
	})
}

// Rearranged is partners put together or taken apart, or how that would be.
type Rearranged struct {
	Weighed
	Partner string // the one that there is afterwards: the kept or the new one
	*world.Moved
}

// JoinPartners makes one partner of two; see world.JoinPartners. It concerns the
// people of from.
func (s *Service) JoinPartners(ctx context.Context, by By, from, into string) (Rearranged, error) {
	return s.rearrange(ctx, by, from, into, func(w *world.World) (*world.Moved, error) {
		return world.JoinPartners(w, from, into)
	}, func(before, _ *State) engine.Concerns { return before.Concerned(from) })
}

// SplitPartner makes a new partner of some domains of another; see
// world.SplitPartner. A name that begins with *. takes those below along. It
// concerns the people of the new one.
func (s *Service) SplitPartner(ctx context.Context, by By, from string, domains []string, id, name string) (Rearranged, error) {
	if !worldfile.ValidID(id) {
		return Rearranged{}, &Invalid{
			"id",
			id,
			"an id has the letters a to z, digits, dot, underscore and hyphen, and begins with a letter or digit",
		}
	}
	if strings.TrimSpace(name) == "" {
		return Rearranged{}, &Invalid{"name", name, "a partner has a name"}
	}
	var entries []world.Entry
	for _, text := range domains {
		bare, sub := strings.CutPrefix(text, "*.")
		d, err := addr.ParseDomain(bare)
		if err != nil {
			return Rearranged{}, &Invalid{"domain", text, err.Error()}
		}
		entries = append(entries, world.Entry{Domain: d, Subdomains: sub})
	}
	return s.rearrange(ctx, by, from, id, func(w *world.World) (*world.Moved, error) {
		return world.SplitPartner(w, from, entries, id, name)
	}, func(_, after *State) engine.Concerns { return after.Concerned(id) })
}

func (s *Service) rearrange(
	ctx context.Context,
	by By,
	from, to string,
	move func(*world.World) (*world.Moved, error),
	concerns func(before, after *State) engine.Concerns,
) (Rearranged, error) {
	out := Rearranged{Partner: to}
	prepare := func(now *State, naming func(kind, text string, fn func(id string, doc []byte) error) error,
		grants func(string) ([]world.Grant, error)) error {
		old, err := now.Partner(from)
		if err != nil {
			return err
		}
		if by.IfMatch != "" && by.IfMatch != PartnerEtag(old) {
			return ErrStale
		}
		w := *now.Policy()
		if err := naming("space", `"partner:`+from+`"`, func(_ string, doc []byte) error {
			x, err := worldfile.SpaceOf(doc)
			w.Spaces = append(w.Spaces, x)
			return err
		}); err != nil {
			return err
		}
		if err := naming("letter", `"partner":"`+from+`"`, func(_ string, doc []byte) error {
			x, err := letterOf(doc)
			w.Letters = append(w.Letters, x)
			return err
		}); err != nil {
			return err
		}
		for _, p := range []string{from, to} {
			if _, err := now.Partner(p); err != nil { // to be made, or not there, which is told below
				continue
			}
			held, err := grants("partner:" + p)
			if err != nil {
				return err
			}
			w.Grants = append(w.Grants, held...)
		}
		if out.Moved, err = move(&w); err != nil {
			return &Invalid{"partner", from, err.Error()}
		}
		return nil
	}
	if DraftIn(ctx) != "" {
		return out, fmt.Errorf("%w: putting partners together or apart also moves what is no policy; do it outside a draft", ErrConflict)
	}
	if by.Preview {
		now := s.State()
		if err := prepare(now, func(kind, text string, fn func(string, []byte) error) error {
			return s.store.Naming(ctx, kind, text, fn)
		}, func(party string) ([]world.Grant, error) { return s.store.Grants(ctx, party) }); err != nil {
			return out, err
		}
		out.State = now.With(out.Moved.World, s.Now())
		out.Concerns = concerns(now, out.State)
		return out, nil
	}
	var before *State
	err := s.changeLong(ctx, by.Who, by.Why, func(now *State, t *store.Tx) error {
		before = now
		if err := prepare(now, t.Naming, t.Grants); err != nil {
			return err
		}
		policy := *out.Moved.World
		policy.Spaces, policy.Letters, policy.Grants = nil, nil, nil
		if err := s.quickly(now, &policy, by.Who, by.Why, t); err != nil {
			return err
		}
		return writeMoved(t, now, from, out.Moved)
	})
	if err != nil {
		return out, err
	}
	out.State = s.State()
	out.Concerns = concerns(before, out.State)
	return out, nil
}

// writeMoved writes what of the inventory names another partner now.
func writeMoved(t *store.Tx, now *State, from string, m *world.Moved) error {
	w := m.World
	for i := range w.Spaces {
		if _, err := t.PutRecord("space", w.Spaces[i].ID, worldfile.SpaceDoc(&w.Spaces[i])); err != nil {
			return err
		}
	}
	for i := range w.Letters {
		if _, err := t.PutRecord("letter", w.Letters[i].ID, worldfile.LetterDoc(&w.Letters[i])); err != nil {
			return err
		}
	}
	for i := range m.Ended {
		if err := t.EndGrant(&m.Ended[i]); err != nil {
			return err
		}
	}
	for i := range m.Given {
		if _, err := t.PutGrant(&m.Given[i]); err != nil {
			return err
		}
	}
	kept := map[string]bool{}
	for i := range w.Partners {
		p := &w.Partners[i]
		kept[p.ID] = true
		if _, err := now.Partner(p.ID); err == nil {
			continue
		}
		for j := range p.Stance {
			if _, err := t.PutRecord("stance", store.StanceKey(p.ID, p.Stance[j].Key), worldfile.StanceDoc(&p.Stance[j])); err != nil {
				return err
			}
		}
	}
	if !kept[from] {
		old, err := now.Partner(from)
		if err != nil {
			return err
		}
		if _, err := t.EndRecord("statement", from); err != nil {
			return err
		}
		for _, st := range old.Stance {
			if _, err := t.EndRecord("stance", store.StanceKey(from, st.Key)); err != nil {
				return err
			}
		}
	}
	return nil
}
