package service

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Space returns a space with its items.
func (s *Service) Space(ctx context.Context, id string) (world.Space, error) {
	doc, err := s.store.Record(ctx, "space", id)
	if err != nil {
		return world.Space{}, err
	}
	if doc == nil {
		return world.Space{}, fmt.Errorf("%w: there is no space %q", ErrNotFound, id)
	}
	x, err := worldfile.SpaceOf(doc)
	if err != nil {
		return x, err
	}
	x.Items, err = s.store.Items(ctx, id)
	return x, err
}

// SpacesAfter hands over spaces behind an id, in the order of their ids, that keep lets through by their id, until fn fails or
// says that it is store.ErrEnough.
func (s *Service) SpacesAfter(ctx context.Context, after string, keep func(id string) bool, fn func(*world.Space) error) error {
	return recordsAfter(ctx, s, "space", after, keep, worldfile.SpaceOf, fn)
}

// PeopleAfter does the same for people of ours.
func (s *Service) PeopleAfter(ctx context.Context, after string, keep func(id string) bool, fn func(*world.Person) error) error {
	return recordsAfter(ctx, s, "person", after, keep, worldfile.PersonOf, fn)
}

func recordsAfter[T any](
	ctx context.Context, s *Service, kind, after string, keep func(id string) bool, of func(worldfile.Doc) (T, error), fn func(*T) error,
) error {
	return s.store.RecordsAfter(ctx, kind, after, func(id string, doc []byte) error {
		if !keep(id) {
			return nil
		}
		x, err := of(doc)
		if err != nil {
			return err
		}
		return fn(&x)
	})
}

// Person returns a person of ours.
func (s *Service) Person(ctx context.Context, id string) (world.Person, error) {
	doc, err := s.store.Record(ctx, "person", id)
	if err != nil {
		return world.Person{}, err
	}
	if doc == nil {
		return world.Person{}, fmt.Errorf("%w: there is no person %q", ErrNotFound, id)
	}
	return worldfile.PersonOf(doc)
}

// People hands over every person.
func (s *Service) People(ctx context.Context, fn func(*world.Person) error) error {
	return s.store.Records(ctx, "person", "", func(_ string, doc []byte) error {
		x, err := worldfile.PersonOf(doc)
		if err != nil {
			return err
		}
		return fn(&x)
	})
}

// Contacts hands over the contacts of a person.
func (s *Service) Contacts(ctx context.Context, person string, fn func(*world.Contact) error) error {
	return s.store.Records(ctx, "contact", person+" and ", func(_ string, doc []byte) error {
		x, err := worldfile.ContactOf(doc)
		if err != nil {
			return err
		}
		return fn(&x)
	})
}

// Links hands over the links behind an id, in the order of their ids, until fn wants no
// more.
func (s *Service) Links(ctx context.Context, after string, fn func(*world.Link) (more bool, err error)) error {
	err := s.store.RecordsAfter(ctx, "link", after, func(_ string, doc []byte) error {
		x, err := worldfile.LinkOf(doc)
		if err != nil {
			return err
		}
		more, err := fn(&x)
		if err == nil && !more {
			err = errEnough
		}
		return err
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return err
}

var errEnough = errors.New("nothing more is wanted")

// Link returns a link.
func (s *Service) Link(ctx context.Context, id string) (world.Link, error) {
	doc, err := s.store.Record(ctx, "link", id)
	if err != nil {
		return world.Link{}, err
	}
	if doc == nil {
		return world.Link{}, fmt.Errorf("%w: there is no link %q", ErrNotFound, id)
	}
	return worldfile.LinkOf(doc)
}

// Opened tells how often links were opened, by their ids, where a system tells.
func (s *Service) Opened(ctx context.Context, links []string) (map[string]store.OpenedCount, error) {
	return s.store.Opened(ctx, links)
}

// EndLink ends a link now; may says whether the caller may end this one.
func (s *Service) EndLink(ctx context.Context, who, why, id string, may func(*world.Link) error) error {
	return s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("link", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no link %q", ErrNotFound, id)
		}
		l, err := worldfile.LinkOf(doc)
		if err != nil {
			return err
		}
		if err := may(&l); err != nil {
			return err
		}
		now := s.Now()
		if now >= l.Until {
			return fmt.Errorf("%w: the link %q has ended already", ErrConflict, id)
		}
		l.Until = max(now, l.Created)
		_, err = t.PutRecord("link", id, worldfile.LinkDoc(&l))
		return err
	})
}

// WeighLinkEnd tells who would lose what by the end of a link, and writes nothing.
func (s *Service) WeighLinkEnd(ctx context.Context, id string, may func(*world.Link) error) (*ValueWeighed, error) {
	l, err := s.Link(ctx, id)
	if err != nil {
		return nil, err
	}
	if err := may(&l); err != nil {
		return nil, err
	}
	at, st := s.Now(), s.State()
	if at >= l.Until {
		return nil, fmt.Errorf("%w: the link %q has ended already", ErrConflict, id)
	}
	ended := l
	ended.Until = max(at, l.Created)
	e := st.Aside()
	e.PutLink(&ended)
	after := e.Done()
	out := &ValueWeighed{Was: "works", Becomes: "ended"}
	lose := func(who engine.Who, name string) error {
		lines, err := after.WouldOn(st.Snapshot, who, l.Item, at)
		if err != nil {
			return err
		}
		granted, wide := Opened(lines)
		if granted+wide > 0 {
			out.Parties.Lost++
			out.Granted.Lost += granted
			out.Wide.Lost += wide
			if len(out.Lines) < weighedLines {
				out.Lines = append(out.Lines, name+" loses")
			}
		}
		return nil
	}
	if l.Bearer() {
		return out, lose(engine.Who{Kind: engine.ByLinkID, ID: l.ID}, "whoever holds it")
	}
	for _, a := range l.For {
		if err := lose(engine.Who{Address: a}, a.String()); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// Forwarders hands over the forwarders of a person, or of everybody for "".
func (s *Service) Forwarders(ctx context.Context, person string, fn func(*world.Forwarder) error) error {
	prefix := ""
	if person != "" {
		prefix = person + " to "
	}
	return s.store.Records(ctx, "forwarder", prefix, func(_ string, doc []byte) error {
		x, err := worldfile.ForwarderOf(doc)
		if err != nil {
			return err
		}
		return fn(&x)
	})
}

// RemoveForwarder takes a forwarder away.
func (s *Service) RemoveForwarder(ctx context.Context, who, why, person, to string) error {
	a, err := addr.Parse(strings.TrimSpace(to))
	if err != nil {
		return &Invalid{"address", to, err.Error()}
	}
	return s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		ok, err := t.EndRecord("forwarder", worldfile.ForwarderKey(&world.Forwarder{Mailbox: person, To: a}))
		if err == nil && !ok {
			err = fmt.Errorf("%w: the mailbox of %q is not forwarded to %s", ErrNotFound, person, a)
		}
		return err
	})
}
