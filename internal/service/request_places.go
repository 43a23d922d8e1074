package service

import (
	"bytes"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/pattern"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// RequestPlaces sends changes of places that a person of ours may not make themselves to whoever may
// make them: the owner or host where they may, else keepers and administrators. What could not be
// done by anybody as it stands, or what they may do themselves, is refused.
func (s *Service) RequestPlaces(ctx context.Context, who Who, edits []PlaceEdit, purpose string) (*Request, error) {
	if len(edits) == 0 {
		return nil, &Invalid{"changes", "", "name at least one change"}
	}
	same := func(old *Request) bool { return sameEdits(old.Changes, edits) }
	return s.askFor(ctx, who, purpose, same, func(now *State, t *store.Tx, r *Request) error {
		c, err := s.placeChange(now, t, who, edits)
		if err != nil {
			return err
		}
		p, err := c.prepare()
		if err != nil {
			return err
		}
		if p == nil || c.refused() > 0 {
			for _, l := range c.lines {
				if l.Result == "refused" {
					return fmt.Errorf("%w: it cannot be done as it stands: %s", ErrConflict, l.Cause)
				}
			}
		}
		for _, x := range c.entries {
			if bytes.Equal(x.was, x.now) || c.may(x, p) == "" {
				continue
			}
			if !c.near(x) {
				return fmt.Errorf("%w: members ask about spaces and meetings that they belong to", ErrForbidden)
			}
			if w := c.whoMay(x, p); !slices.Contains(r.To, w) {
				r.To = append(r.To, w)
			}
		}
		if len(r.To) == 0 {
			return fmt.Errorf("%w: there is nothing to ask for; you may do it yourself", ErrConflict)
		}
		r.Changes, r.Title = edits, now.changesInWords(edits)
		return nil
	})
}

func sameEdits(a, b []PlaceEdit) bool {
	x, errA := json.Marshal(a)
	y, errB := json.Marshal(b)
	return errA == nil && errB == nil && bytes.Equal(x, y)
}

// spaceOf returns the space that an entry is in; empty for none.
func (c *placeChange) spaceOf(x *entry) string {
	doc := firstDoc(x.was, x.now)
	switch x.kind {
	case "space":
		return x.id
	case "item":
		return spaceIn(doc)
	case "meeting":
		return spaceIn(doc)
	case "grant":
		if g, err := worldfile.GrantOf(doc); err == nil {
			return c.spaceOfResource(g.Resource)
		}
	case "link":
		if l, err := worldfile.LinkOf(doc); err == nil {
			return c.spaceOfResource(l.Item)
		}
	}
	return ""
}

func (c *placeChange) spaceOfResource(r world.Resource) string {
	if r.Kind == catalogue.Space {
		return r.ID
	}
	return c.now.SpaceOf(r.ID)
}

// near reports whether who asks may know of an entry: members know what they belong to.
func (c *placeChange) near(x *entry) bool {
	if !c.who.Own() || x.was == nil && x.kind == "space" {
		return true
	}
	space := c.spaceOf(x)
	if x.kind == "meeting" && x.was != nil {
		host := c.now.BelongsTo(c.who.Person, world.Resource{Kind: catalogue.Meeting, ID: x.id})
		return host || space != "" && c.now.BelongsTo(c.who.Person, world.Resource{Kind: catalogue.Space, ID: space})
	}
	return space == "" || c.now.BelongsTo(c.who.Person, world.Resource{Kind: catalogue.Space, ID: space})
}

// whoMay says who of ours may make a change that who asks may not: owner:ID or administrator.
func (c *placeChange) whoMay(x *entry, p *parsed) string {
	var candidates []string
	if x.kind == "meeting" && x.was != nil {
		host, _ := c.now.HostOf(x.id)
		candidates = append(candidates, host)
	}
	if x.kind == "link" {
		if l, err := worldfile.LinkOf(firstDoc(x.was, x.now)); err == nil {
			candidates = append(candidates, l.By)
		}
	}
	if space := c.spaceOf(x); space != "" {
		candidates = append(candidates, c.now.OwnerOf(space))
	}
	asker := c.who
	defer func() { c.who = asker }()
	for _, person := range candidates {
		c.who = Who{Name: person, Role: Member, Person: person}
		if person != "" && c.may(x, p) == "" {
			return "owner:" + person
		}
	}
	return "administrator"
}

// DoRequest makes the changes that a request asks for, as whoever does it may make them; the request
// is over with it. With preview it says what it would do.
func (s *Service) DoRequest(ctx context.Context, who Who, id, why string, preview bool, c BundleApproval) (*PlacesChanged, error) {
	r, err := s.RequestOf(ctx, who, id)
	if err != nil {
		return nil, err
	}
	if err := mayClose(r, who); err != nil {
		return nil, err
	}
	why = cmp.Or(strings.TrimSpace(why), r.Purpose)
	if r.Bundle == nil && (c.Until != "" || len(c.Less) > 0) {
		return nil, &Invalid{"until", c.Until, "only a bundle is given for a shorter time or in part"}
	}
	switch {
	case r.Bundle != nil:
		return s.approveBundle(ctx, who, id, why, preview, c)
	case r.Value != nil:
		return s.doValue(ctx, who, r, why, preview)
	case r.SignUp != nil:
		return s.doRequest(ctx, who, id, why, preview, s.letSignUp)
	case len(r.Changes) == 0:
		return nil, fmt.Errorf("%w: %s asks whether something may be, and is a yes once a rule, a role or an exception makes it one", ErrConflict,
			id)
	}
	return s.doRequest(ctx, who, id, why, preview, func(now *State, t *store.Tx, who Who, r *Request, preview bool) (*PlacesChanged, error) {
		c, err := s.placeChange(now, t, who, r.Changes)
		if err != nil {
			return nil, err
		}
		return c.finish(ctx, why, preview)
	})
}

// doRequest does what a request asks for and closes it, in one change. do ends with errPreview where nothing is to be
// written.
func (s *Service) doRequest(
	ctx context.Context, who Who, id, why string, preview bool,
	do func(now *State, t *store.Tx, who Who, r *Request, preview bool) (*PlacesChanged, error),
) (*PlacesChanged, error) {
	var out *PlacesChanged
	err := s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		r, err := requestIn(t, id)
		if err != nil {
			return err
		}
		if err := mayClose(r, who); err != nil { // somebody else was first
			return err
		}
		if out, err = do(now, t, who, r, preview); err != nil {
			return err
		}
		r.State, r.Closer, r.Closed, r.Heard = RequestWorks, who.Name, s.Now().String(), false
		if err := putRequest(t, r); err != nil {
			return err
		}
		return s.tellAsker(now, t, r)
	})
	return out.weighed(err)
}

// requestDone reports whether everything that a request asks to be changed is so already.
func (s *Service) requestDone(ctx context.Context, r *Request) (is bool, err error) {
	if r.Value != nil {
		return s.valueDone(ctx, r.Value)
	}
	if r.Bundle != nil { // it is done by approving it
		return false, nil
	}
	if r.SignUp != nil {
		a, err := addr.Parse(r.SignUp.Address)
		return err == nil && isGuest(s.State().KindAt(a, s.Now())), nil
	}
	err = s.changing(ctx, r.By, "", true, func(now *State, t *store.Tx) error {
		c, err := s.placeChange(now, t, Who{Name: "wexillum", Role: Administrator}, r.Changes)
		if err != nil {
			return err
		}
		p, err := c.prepare()
		is = err == nil && p != nil && c.refused() == 0 && len(p.made) == 0
		for _, x := range c.entries {
			is = is && bytes.Equal(x.was, x.now)
		}
		return cmp.Or(err, errPreview)
	})
	var bad *Invalid
	if errors.As(err, &bad) { // what it asks for can no longer be read
		return false, nil
	}
	return is, err
}

var editVerbs = map[string]string{DoAdd: "Make", DoSet: "Change", DoClose: "Close", DoRemove: "Remove"}

// changesInWords says in a sentence what changes of places are to be.
func (s *State) changesInWords(edits []PlaceEdit) string {
	var out []string
	for i := range edits {
		if i == 3 {
			out = append(out, fmt.Sprintf("and %d more", len(edits)-i))
			break
		}
		out = append(out, s.editInWords(&edits[i]))
	}
	return strings.Join(out, "; ")
}

func (s *State) editInWords(e *PlaceEdit) string {
	var fields map[string]json.RawMessage
	_ = json.Unmarshal(e.Fields, &fields)
	name := s.entryName(e.Kind, e.ID)
	if e.Do == DoAdd {
		var given string
		_ = json.Unmarshal(fields["name"], &given)
		name = cmp.Or(given, e.ID)
	}
	text := strings.TrimSpace(editVerbs[e.Do] + " the " + worldfile.KindInWords(e.Kind) + " " + name)
	if e.Do == DoAdd {
		text = strings.TrimSpace("Make " + articled(e.Kind) + " " + name)
		if e.Kind == "grant" {
			text = "Give a role"
		}
		if x, ok := pattern.Named(e.Pattern); ok {
			text += ", " + strings.ToLower(x.Title[:1]) + x.Title[1:]
		}
	}
	var keys []string
	for k, v := range fields {
		if e.Do == DoAdd && k == "name" || k == "id" {
			continue
		}
		keys = append(keys, strings.ReplaceAll(k, "_", " ")+" "+s.plainJSON(v))
	}
	slices.Sort(keys)
	if len(keys) > 0 {
		text += ": " + strings.Join(keys, ", ")
	}
	return text
}

// entryName is what people call an entry of inventory.
func (s *State) entryName(kind, id string) string {
	f := strings.Fields(id)
	switch {
	case kind == "grant" && len(f) >= 3:
		if r, err := engine.ParseResource(f[1]); err == nil {
			return fmt.Sprintf("%s of %s on %s", f[2], f[0], cmp.Or(s.NameOf(r), f[1]))
		}
	case kind == "group":
		return cmp.Or(s.NameOfGroup(id), id)
	case kind == "item":
		if k, ok := s.ItemKind(id); ok {
			return cmp.Or(s.NameOf(world.Resource{Kind: k, ID: id}), id)
		}
	default:
		if r, err := engine.ParseResource(kind + ":" + id); err == nil {
			return cmp.Or(s.NameOf(r), id)
		}
	}
	return id
}

// plainJSON writes a value as people do: texts without quotes, people by name, lists with commas.
func (s *State) plainJSON(raw []byte) string {
	named := func(text string) string {
		if s.Has("person", text) {
			return s.entryName("person", text)
		}
		return text
	}
	var v any
	if json.Unmarshal(raw, &v) != nil {
		return string(raw)
	}
	switch x := v.(type) {
	case nil:
		return "none"
	case string:
		return named(x)
	case []any:
		var out []string
		for _, e := range x {
			if t, ok := e.(string); ok {
				out = append(out, named(t))
			} else {
				b, _ := json.Marshal(e)
				out = append(out, string(b))
			}
		}
		return cmp.Or(strings.Join(out, ", "), "none")
	}
	return string(raw)
}
