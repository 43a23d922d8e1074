package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"sync"

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
func (s *Service) needy(ctx context.Context, st *State, needs string) (func(party uint32, g *world.Guest) bool, error) {
	now := s.Now()
	among := map[string]bool{}
	in := func(_ uint32, g *world.Guest) bool { return among[g.Address.String()] }
	switch needs {
	case "":
		return func(uint32, *world.Guest) bool { return true }, nil
	case "sponsor":
		return func(_ uint32, g *world.Guest) bool {
			left := st.LeftAt(g.Sponsor)
			return g.Sponsor == "" || !st.Has("person", g.Sponsor) || left != 0 && left <= now
		}, nil
	case "grant":
		return func(i uint32, _ *world.Guest) bool { return !st.Holds(i, now) }, nil
	case "seen":
		before := now - unseen*86400e6
		return func(_ uint32, g *world.Guest) bool {
			return g.State == world.StateActive && max(g.LastSeen, g.Since, g.StateSince) < before &&
				(g.Accepted == moment.Never || g.Accepted < before)
		}, nil
	case "terms":
		return func(_ uint32, g *world.Guest) bool { return g.State == world.StateActive && st.TermsOwed(g, now) }, nil
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

// FoundGuests are the records that were looked for, in order. There may be a million, and lists are kept for a while: no state is kept with
// them.
type FoundGuests struct {
	parties   []uint32
	addresses []string
	ends      []moment.Moment // of each, where they are in the order of ends; nil otherwise
}

// Len is how many there are.
func (f *FoundGuests) Len() int { return len(f.addresses) }

// Address is the address of one.
func (f *FoundGuests) Address(i int) string { return f.addresses[i] }

// Key is what one is known by and listed in the order of.
func (f *FoundGuests) Key(i int) string {
	if f.ends == nil {
		return f.addresses[i]
	}
	return fmt.Sprintf("%020d %s", f.ends[i], f.addresses[i])
}

// addressed keeps the parties of the newest state in the order of their addresses, so that a change puts in place who came and does not
// sort all of a million anew.
type addressed struct {
	sync.Mutex
	line  uint64 // of states
	order []uint32
}

// inOrder lists the parties of a state in the order of their addresses.
func (s *Service) inOrder(st *State) []uint32 {
	if st.Variant != "" { // who comes in a draft alone has a number that is another's later
		return st.Addressed(nil)
	}
	k := &s.addressed
	k.Lock()
	defer k.Unlock()
	if k.line != st.Line() {
		k.line, k.order = st.Line(), nil
	}
	order := st.Addressed(k.order)
	if len(order) >= len(k.order) { // otherwise of a state before
		k.order = order
	}
	return order
}

// eachRecord hands over every record that there is at a moment, as its dates have it then, in the order of addresses, as far as a state
// keeps them: see engine.Record.
func (s *Service) eachRecord(ctx context.Context, st *State, at moment.Moment, fn func(party uint32, g *world.Guest)) error {
	for n, i := range s.inOrder(st) {
		if n%1024 == 0 && ctx.Err() != nil {
			return ctx.Err()
		}
		if g, ok := st.Record(i); ok && st.settle(i, &g, at) {
			fn(i, &g)
		}
	}
	return nil
}

// FindGuests looks for records.
func (s *Service) FindGuests(ctx context.Context, st *State, f *GuestFilter) (*FoundGuests, error) {
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
	var ends map[uint32]moment.Moment
	if f.ByEnd || f.Until != moment.Never {
		ends = map[uint32]moment.Moment{}
		q := st.Sequences()
		q.Each(nil, func(i uint32, steps []dated.Step) bool {
			for k := range steps {
				if x := steps[k].Kind; x == dated.Suspended || x == dated.Removed || x == dated.Invitation {
					ends[i] = steps[k].At
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
	out := &FoundGuests{}
	err = s.eachRecord(ctx, st, s.Now(), func(i uint32, g *world.Guest) {
		switch {
		case f.Text != "" && !strings.Contains(g.Address.String(), f.Text) && !strings.Contains(strings.ToLower(g.Name), f.Text):
			return
		case f.Sponsor != "" && g.Sponsor != f.Sponsor,
			f.State != "" && world.StateNames[g.State] != f.State,
			origin != 0 && g.Origins&origin == 0,
			inSpace != nil && !inSpace[g.Address.String()]:
			return
		case f.Until != moment.Never:
			if at, ok := ends[i]; !ok || at >= f.Until {
				return
			}
		}
		if f.Partner != "" {
			if m := st.Match(g.Address); m.Partner == nil || m.Partner.ID != f.Partner {
				return
			}
		}
		if needy(i, g) {
			out.parties = append(out.parties, i)
		}
	})
	if err != nil {
		return nil, err
	}
	if f.ByEnd {
		end := func(i uint32) moment.Moment {
			if at, ok := ends[i]; ok {
				return max(0, at)
			}
			return moment.Never
		}
		slices.SortStableFunc(out.parties, func(a, b uint32) int { return cmp.Compare(end(a), end(b)) })
		out.ends = make([]moment.Moment, len(out.parties))
		for k, i := range out.parties {
			out.ends[k] = end(i)
		}
	}
	out.addresses = make([]string, len(out.parties))
	for k, i := range out.parties {
		out.addresses[k] = st.AddressAt(i).String()
	}
	return out, nil
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
