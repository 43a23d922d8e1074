package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// PlaceEntry is an entry of inventory with the fields of the file format.
type PlaceEntry struct {
	ID  string
	Doc []byte
}

// Places lists entries of a kind behind an id, in the order of their ids, at most limit: those whose
// id or name holds q, or the one of an id. A member gets those that are theirs.
func (s *Service) Places(ctx context.Context, who Who, kind, q, id, after string, limit int) (out []PlaceEntry, err error) {
	st := s.State()
	keep := func(eid string, doc []byte) bool {
		return !who.Own() || s.concerns(st, who.Person, kind, eid, doc)
	}
	switch kind {
	case "item":
		if id == "" {
			return nil, &Invalid{"id", "", "items are listed with their space; name one by its id"}
		}
		space := st.SpaceOf(id)
		items, err := s.store.Items(ctx, space)
		for i := range items {
			if doc := worldfile.PlacedItemDoc(&items[i]); items[i].ID == id && keep(id, doc) {
				out = append(out, PlaceEntry{id, doc})
			}
		}
		return out, err
	case "grant":
		return nil, &Invalid{"kind", kind, "roles are listed with their space and with their guest; all of them are the list of grants"}
	}
	q = strings.ToLower(strings.TrimSpace(q))
	err = s.store.RecordsAfter(ctx, kind, after, func(eid string, doc []byte) error {
		if id != "" && eid != id || !keep(eid, doc) {
			return nil
		}
		var named struct {
			Name string `json:"name"`
		}
		if q != "" && !strings.Contains(eid, q) &&
			(json.Unmarshal(doc, &named) != nil || !strings.Contains(strings.ToLower(named.Name), q)) {
			return nil
		}
		out = append(out, PlaceEntry{eid, doc})
		if len(out) == limit {
			return errEnough
		}
		return nil
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	if err == nil && id != "" && len(out) == 0 {
		hint := ""
		if n := st.NearestID(kind, id); n != "" {
			hint = "; do you mean " + n + "?"
		}
		err = fmt.Errorf("%w: there is no %s %q%s", ErrNotFound, worldfile.KindInWords(kind), id, hint)
	}
	return out, err
}

// Theirs reports whether a space, item or meeting is a person's own, or in a space of theirs.
func (s *Service) Theirs(st *State, person, kind, id string) bool {
	return s.concerns(st, person, kind, id, []byte(`{"space":`+jsonText(st.SpaceOf(id))+`}`))
}

// concerns reports whether an entry is a person's own, or in a space of theirs.
func (s *Service) concerns(st *State, person, kind, id string, doc []byte) bool {
	switch kind {
	case "space":
		return st.BelongsTo(person, world.Resource{Kind: catalogue.Space, ID: id})
	case "item":
		return st.BelongsTo(person, world.Resource{Kind: catalogue.Space, ID: spaceIn(doc)})
	case "meeting":
		host, space := st.HostOf(id)
		return host == person || space != "" && st.BelongsTo(person, world.Resource{Kind: catalogue.Space, ID: space})
	case "person":
		return id == person
	case "forwarder":
		return strings.HasPrefix(id, person+" to ")
	case "contact":
		return strings.HasPrefix(id, person+" and ")
	case "link":
		l, err := worldfile.LinkOf(doc)
		return err == nil && (l.By == person || st.BelongsTo(person, l.Item))
	}
	return false
}
