package service

import (
	"context"
	"fmt"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// GuestFilter picks records.
type GuestFilter struct {
	Text                                   string // part of address or name, lower case
	Partner, Sponsor, State, Origin, Space string
	Until                                  moment.Moment // suspended or removed before; Never for any
	ByEnd                                  bool          // in the order of ends
	Needs                                  string        // one of GuestNeeds
}

// GuestNeeds are what somebody may want to look at in records: nobody of ours answers for
// it; it holds no grant; it has not been seen for thirty days; terms are still to be
// accepted; it asks for more time; mail does not arrive.
var GuestNeeds = []string{"sponsor", "grant", "seen", "terms", "time", "mail"}

// unseen is how many days a guest was not here to be told of as such.
const unseen = 30

// needy returns the question whether a record has a need.
func (s *Service) needy(ctx context.Context, st *State, needs string) (func(*world.Guest) bool, error) {
	now := s.Now()
	among := map[string]bool{}
	in := func(g *world.Guest) bool { return among[g.Address.String()] }
	switch needs {
	case "":
		return func(*world.Guest) bool { return true }, nil
	case "sponsor":
		return func(g *world.Guest) bool {
			left := st.LeftAt(g.Sponsor)
			return g.Sponsor == "" || !st.Has("person", g.Sponsor) || left != 0 && left <= now
		}, nil
	case "grant":
		return func(g *world.Guest) bool { return !st.Holds(st.PartyOf(g.Address), now) }, nil
	case "seen":
		before := now - unseen*86400e6
		return func(g *world.Guest) bool {
			return g.State == world.StateActive && max(g.LastSeen, g.Since, g.StateSince) < before &&
				(g.Accepted == moment.Never || g.Accepted < before)
		}, nil
	case "terms":
		return func(g *world.Guest) bool { return g.State == world.StateActive && st.TermsOwed(g, now) }, nil
	case "time":
		wishes, err := s.Wishes(ctx, Who{Role: Administrator})
		for i := range wishes {
			among[wishes[i].Address] = true
		}
		return in, err
	case "mail":
		list, err := s.store.Undelivered(ctx)
		for _, a := range list {
			among[a] = true
		}
		return in, err
	}
	return nil, &Invalid{"needs", needs, "write " + strings.Join(GuestNeeds, ", ")}
}

// FoundGuest is a record that was looked for.
type FoundGuest struct {
	Address string
	key     string
}

// Key is what it is known by and listed in the order of.
func (f *FoundGuest) Key() string { return f.key }

// FindGuests lists the addresses of records.
func (s *Service) FindGuests(ctx context.Context, st *State, f *GuestFilter) ([]FoundGuest, error) {
	if f.State != "" {
		if err := oneOfWords("state", f.State, world.StateNames...); err != nil {
			return nil, err
		}
	}
	var origin world.Origin
	if f.Origin != "" {
		i := slices.Index(world.OriginNames, f.Origin)
		if i < 0 {
			return nil, &Invalid{"origin", f.Origin, "write " + strings.Join(world.OriginNames, ", ")}
		}
		origin = 1 << i
	}
	var inSpace map[string]bool
	if f.Space != "" {
		if !st.Has("space", f.Space) {
			return nil, &Invalid{"space", f.Space, "there is no such space"}
		}
		inSpace = map[string]bool{}
		for _, g := range st.GivenIn(f.Space) {
			inSpace[g.Party] = true
			if id, ok := strings.CutPrefix(g.Party, "group:"); ok {
				in, err := s.partiesOf(ctx, id)
				if err != nil {
					return nil, err
				}
				for _, a := range in {
					inSpace[a.String()] = true
				}
			}
		}
	}
	ends := map[string]moment.Moment{}
	if f.ByEnd || f.Until != moment.Never {
		q := st.Sequences()
		q.Each(func(i uint32, steps []dated.Step) bool {
			for k := range steps {
				if x := steps[k].Kind; x == dated.Suspended || x == dated.Removed || x == dated.Invitation {
					ends[st.AddressAt(i).String()] = steps[k].At
					break
				}
			}
			return ctx.Err() == nil
		})
	}
	_, known := st.PartnerOf(f.Partner)
	if f.Partner != "" && !known {
		return nil, &Invalid{"partner", f.Partner, "there is no such partner"}
	}
	needy, err := s.needy(ctx, st, f.Needs)
	if err != nil {
		return nil, err
	}
	out := []FoundGuest{}
	now := s.Now()
	err = s.eachGuest(ctx, func(g *world.Guest) error {
		a := g.Address.String()
		dated, there := st.Dated(g, now)
		if !there { // the scheduler has not come round yet
			return nil
		}
		g = &dated
		switch {
		case f.Text != "" && !strings.Contains(a, f.Text) && !strings.Contains(strings.ToLower(g.Name), f.Text):
			return nil
		case f.Sponsor != "" && g.Sponsor != f.Sponsor,
			f.State != "" && world.StateNames[g.State] != f.State,
			origin != 0 && g.Origins&origin == 0,
			inSpace != nil && !inSpace[a]:
			return nil
		case f.Until != moment.Never:
			if at, ok := ends[a]; !ok || at >= f.Until {
				return nil
			}
		}
		if f.Partner != "" {
			if m := st.Match(g.Address); m.Partner == nil || m.Partner.ID != f.Partner {
				return nil
			}
		}
		if !needy(g) {
			return nil
		}
		x := FoundGuest{a, a}
		if f.ByEnd {
			end, ok := ends[a]
			if !ok {
				end = moment.Never
			}
			x.key = fmt.Sprintf("%020d %s", max(0, int64(end)), a)
		}
		out = append(out, x)
		return ctx.Err()
	})
	sort.Slice(out, func(i, j int) bool { return out[i].key < out[j].key })
	return out, err
}

func (s *Service) partiesOf(ctx context.Context, group string) ([]addr.Address, error) {
	doc, err := s.store.Record(ctx, "group", group)
	if err != nil || doc == nil {
		return nil, err
	}
	g, err := worldfile.GroupOf(doc)
	return g.Parties, err
}

// kept reads records as they are now.
func (s *Service) kept(ctx context.Context) func(kind, id string) ([]byte, error) {
	return func(kind, id string) ([]byte, error) { return s.store.Record(ctx, kind, id) }
}

// GroupsHolding lists the groups that hold an address.
func (s *Service) GroupsHolding(ctx context.Context, a addr.Address) ([]world.Group, error) {
	_, ids := s.State().Named(a)
	all, err := recordsOf(s.kept(ctx), "group", ids, worldfile.GroupOf)
	return slices.DeleteFunc(all, func(g world.Group) bool { return !slices.Contains(g.Parties, a) }), err
}

// GrantsOf lists the grants of a party, written as Grant.Party has it, those that follow from bundles among them.
func (s *Service) GrantsOf(ctx context.Context, party string) ([]world.Grant, error) {
	return s.given(ctx, s.State(), party)
}

// LinksFor lists the links that name an address and have not ended.
func (s *Service) LinksFor(ctx context.Context, a addr.Address) ([]world.Link, error) {
	now := s.Now()
	ids, _ := s.State().Named(a)
	all, err := recordsOf(s.kept(ctx), "link", ids, worldfile.LinkOf)
	return slices.DeleteFunc(all, func(l world.Link) bool { return l.Until <= now || !slices.Contains(l.For, a) }), err
}

// MayLeave reports whether a guest may remove their own record.
func (s *Service) MayLeave(a addr.Address) bool {
	return s.State().GuestRule(a, "", ruleLeave) == valueOn
}

// WithoutPartner tells how the dates of a guest move if the connection with their partner
// ended now, or if the partner were suspended.
func (s *Service) WithoutPartner(
	ctx context.Context,
	st *State,
	address string,
	ended bool,
) (was, will []engine.DueStep, after *engine.Snapshot, err error) {
	a, err := addr.Parse(address)
	if err != nil {
		return nil, nil, nil, &Invalid{"address", address, err.Error()}
	}
	m := st.Match(a)
	if m.Partner == nil {
		return nil, nil, nil, &Invalid{"address", address, "it belongs to no partner"}
	}
	was, ok := st.Sequences().Of(a)
	if !ok {
		return nil, nil, nil, fmt.Errorf("%w: there is no record of %s", ErrNotFound, a)
	}
	policy := *st.Policy()
	policy.Partners = slices.Clone(policy.Partners)
	for i := range policy.Partners {
		if p := &policy.Partners[i]; p.ID == m.Partner.ID {
			p.Standing, p.StandingSince = world.Suspended, s.Now()
			if ended {
				p.Standing = world.Ended
			}
		}
	}
	e := st.Aside()
	e.SetPolicy(&policy)
	e.ActForward(s.Now())
	after = e.Done()
	will, _ = after.Sequences().Of(a)
	return was, will, after, ctx.Err()
}
