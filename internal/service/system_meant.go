package service

import (
	"context"
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// meantThings hands over what a system should keep of a kind, in the order of what it is known by.
func (s *Service) meantThings(ctx context.Context, st *State, x *System, kind string, fn func(key string, t native.Thing) error) error {
	h, ok := x.dialect().Holding(kind)
	if !ok {
		return fmt.Errorf("nothing is kept of %q", kind)
	}
	return s.allMeant(ctx, st, x, kind, func(key string, t native.Thing) error {
		if !h.Keeps(t) {
			return nil
		}
		return fn(key, t)
	})
}

// allMeant hands over what every system should keep of a kind that can.
func (s *Service) allMeant(ctx context.Context, st *State, x *System, kind string, fn func(key string, t native.Thing) error) error {
	at := s.Now()
	switch kind {
	case "space":
		return s.store.Records(ctx, "space", "", func(id string, doc []byte) error {
			sp, err := worldfile.SpaceOf(doc)
			if err != nil {
				return err
			}
			return fn(id, native.SpaceThing(&sp, st.addressOfPerson))
		})
	case "person":
		return s.store.Records(ctx, "person", "", func(id string, doc []byte) error {
			p, err := worldfile.PersonOf(doc)
			if t := native.PersonThing(&p, at); err == nil && t != nil {
				return fn(id, t)
			}
			return err
		})
	case "group":
		return s.store.Records(ctx, "group", "", func(id string, doc []byte) error {
			g, err := worldfile.GroupOf(doc)
			if err != nil {
				return err
			}
			return fn(id, native.GroupThing(&g))
		})
	case "guest":
		return s.store.EachGuest(ctx, func(g *world.Guest) error {
			_, groups := st.Named(g.Address)
			if t := native.GuestThing(g, groups, st.addressOfPerson); t != nil {
				return fn(g.Address.String(), t)
			}
			return nil
		})
	case "grant":
		var holders []string // in order, as whoever compares wants it
		st.EachHolding(func(h *world.Holding) { holders = append(holders, h.Party.String()) })
		slices.Sort(holders)
		holders = slices.Compact(holders)
		tell := func(party string, list []world.Grant) error {
			things := native.GrantThings(list, at)
			for _, key := range sortedKeys(things) {
				if err := fn(key, things[key]); err != nil {
					return err
				}
			}
			return nil
		}
		before := func(party string) error { // those who hold bundles and nothing else
			for ; len(holders) > 0 && (party == "" || holders[0] <= party); holders = holders[1:] {
				if holders[0] == party {
					continue
				}
				list, err := s.given(ctx, st, holders[0])
				if err != nil {
					return err
				}
				if err := tell(holders[0], list); err != nil {
					return err
				}
			}
			return nil
		}
		if err := s.store.EachGrant(ctx, func(party string, list []world.Grant) error {
			if err := before(party); err != nil {
				return err
			}
			if a, err := addr.Parse(party); err == nil {
				list = append(slices.Clone(list), st.Bundled(a)...)
			}
			return tell(party, list)
		}); err != nil {
			return err
		}
		return before("")
	case "link":
		return s.store.Records(ctx, "link", "", func(id string, doc []byte) error {
			t, err := s.meantLink(st, x, doc, at)
			if err != nil || t == nil {
				return err
			}
			return fn(id, t)
		})
	case "forwarder":
		return s.store.Records(ctx, "forwarder", "", func(id string, doc []byte) error {
			f, err := worldfile.ForwarderOf(doc)
			if err != nil {
				return err
			}
			return fn(id, native.ForwarderThing(&f, st.addressOfPerson))
		})
	case "meeting":
		return s.store.Records(ctx, "meeting", "", func(id string, doc []byte) error {
			m, err := worldfile.MeetingOf(doc)
			if err != nil {
				return err
			}
			return fn(id, native.MeetingThing(&m, st.addressOfPerson))
		})
	}
	return fmt.Errorf("nothing is kept of %q", kind)
}

// meantThing returns what a system should keep of one entry; nil for nothing.
func (s *Service) meantThing(ctx context.Context, st *State, x *System, kind, key string) (native.Thing, error) {
	t, err := s.oneMeant(ctx, st, x, kind, key)
	if h, ok := x.dialect().Holding(kind); t != nil && (!ok || !h.Keeps(t)) {
		t = nil
	}
	return t, err
}

// oneMeant returns what every system should keep of one entry that can.
func (s *Service) oneMeant(ctx context.Context, st *State, x *System, kind, key string) (native.Thing, error) {
	at := s.Now()
	switch kind {
	case "guest":
		g, err := s.store.Guest(ctx, key)
		if err != nil || g == nil {
			return nil, err
		}
		_, groups := st.Named(g.Address)
		return native.GuestThing(g, groups, st.addressOfPerson), nil
	case "grant":
		party, _, _ := cutLast(key, " ")
		list, err := s.given(ctx, st, party)
		if err != nil {
			return nil, err
		}
		return native.GrantThings(list, at)[key], nil
	}
	doc, err := s.store.Record(ctx, kind, key)
	if err != nil || doc == nil {
		return nil, err
	}
	switch kind {
	case "space":
		sp, err := worldfile.SpaceOf(doc)
		return native.SpaceThing(&sp, st.addressOfPerson), err
	case "link":
		return s.meantLink(st, x, doc, at)
	case "person":
		p, err := worldfile.PersonOf(doc)
		return native.PersonThing(&p, at), err
	case "group":
		g, err := worldfile.GroupOf(doc)
		return native.GroupThing(&g), err
	case "meeting":
		m, err := worldfile.MeetingOf(doc)
		return native.MeetingThing(&m, st.addressOfPerson), err
	default:
		f, err := worldfile.ForwarderOf(doc)
		return native.ForwarderThing(&f, st.addressOfPerson), err
	}
}

// meantLink says what a system should keep of a link: one for whoever holds it with the right and the end that
// count, and not at all while the rules let it open nothing. Where the system is the source of links, it keeps
// them as they were made, whatever the rules say of them.
func (s *Service) meantLink(st *State, x *System, doc []byte, at moment.Moment) (native.Thing, error) {
	l, err := worldfile.LinkOf(doc)
	if err != nil {
		return nil, err
	}
	if l.Bearer() && !slices.Contains(x.Sources, "link") {
		act, _ := catalogue.ActionByName("files.open")
		v, err := st.Decide(&engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: l.ID}, Action: act.ID, Resource: l.Item, At: at})
		if err != nil || !v.Yes {
			return nil, nil // a link to what is gone opens nothing either
		}
		if l.Right, l.Until, err = st.LinkCounts(&l); err != nil {
			return nil, err
		}
	}
	return native.LinkThing(&l, at, st.addressOfPerson), nil
}

// given lists the grants of a party, those that follow from bundles among them.
func (s *Service) given(ctx context.Context, st *State, party string) ([]world.Grant, error) {
	list, err := s.store.Grants(ctx, party)
	if a, wrong := addr.Parse(party); err == nil && wrong == nil {
		list = append(list, st.Bundled(a)...)
	}
	return list, err
}
