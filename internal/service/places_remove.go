package service

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// freeID makes an id of a name that nothing of the kind has yet.
func (c *placeChange) freeID(kind, name string) string {
	base := slug(name)
	for n := 1; base != ""; n++ {
		id := base
		if n > 1 {
			id = fmt.Sprintf("%s-%d", base, n)
		}
		if x, err := c.find(kind, id); err == nil && (x == nil || x.now == nil) && !c.now.Has(kind, id) {
			return id
		}
	}
	return ""
}

// merged applies a merge patch to a record without an id.
func merged(doc, patch []byte) ([]byte, error) {
	out, err := mergePatch(doc, patch)
	if err != nil {
		return nil, errors.New("write a JSON object with the fields that are to be otherwise")
	}
	return out, nil
}

// close ends what was given in a space or on an item, at once or with a day.
func (c *placeChange) close(x *entry, fields map[string]json.RawMessage) error {
	if x.kind != "space" && x.kind != "item" {
		c.refuse(x.line, "kind", x.kind, "a space or an item is closed; other things end or are removed")
		return nil
	}
	end := c.second()
	if raw, ok := fields["on"]; ok {
		var text string
		_ = json.Unmarshal(raw, &text)
		var err error
		if end, err = endOf(text, c.at, c.now); err != nil || end <= c.at || end == moment.Never {
			c.refuse(x.line, "on", text, "write the last day, as 2026-12-31 or +14d; it must lie ahead")
			return nil
		}
	}
	r, err := c.resource(x)
	if err != nil {
		return err
	}
	hung := c.now.HangingOn(r, c.at)
	for _, h := range hung.Grants {
		if h.Ended {
			continue
		}
		list, err := c.t.Grants(h.Party)
		if err != nil {
			return err
		}
		for i := range list {
			g := &list[i]
			if g.Resource != h.Resource || g.Role != h.Role || end >= g.Until {
				continue
			}
			y, err := c.find("grant", worldfile.GrantKey(g))
			if err != nil {
				return err
			}
			if y.line = x.line; g.From >= end { // it never begins
				y.now = nil
				continue
			}
			g.Until = end
			y.now = worldfile.GrantDoc(g)
		}
	}
	for _, id := range hung.Links {
		y, err := c.find("link", id)
		if err != nil {
			return err
		}
		if y == nil {
			continue
		}
		l, err := worldfile.LinkOf(y.now)
		if err != nil {
			return err
		}
		if end < l.Until {
			l.Until = max(end, l.Created)
			y.now, y.line = worldfile.LinkDoc(&l), x.line
		}
	}
	return nil
}

// resource is what grants on an entry are on.
func (c *placeChange) resource(x *entry) (world.Resource, error) {
	if x.kind == "item" {
		it, err := worldfile.ItemOf(withoutSpace(x.was))
		return world.Resource{Kind: it.Kind, ID: it.ID}, err
	}
	return world.Resource{Kind: catalogue.Space, ID: x.id}, nil
}

// remove takes an entry away, with what cannot be without it. Nothing is removed while somebody has
// something through it.
func (c *placeChange) remove(x *entry) error {
	switch x.kind {
	case "grant":
		g, err := worldfile.GrantOf(x.now)
		if err != nil {
			return err
		}
		if x.now = nil; c.second() > g.From {
			if g.Until <= c.at {
				c.refuse(x.line, "id", x.id, "it has ended already")
				return nil
			}
			g.Until = c.second()
			x.now = worldfile.GrantDoc(&g)
		}
		return nil
	case "forwarder", "contact":
		x.now = nil
		return nil
	case "link":
		if !c.undoing {
			c.refuse(x.line, "do", DoRemove, "a link ends and stays in the list: end it instead")
			return nil
		}
		x.now = nil
		return nil
	}
	names, err := c.named(x)
	if err != nil {
		return err
	}
	if len(names) > 0 {
		more := ""
		if len(names) > 5 {
			more = fmt.Sprintf(" and %d more", len(names)-5)
			names = names[:5]
		}
		still := "it is still named: "
		if x.kind == "person" {
			still = "they are still named: "
		}
		c.refuse(x.line, "id", x.id, still+strings.Join(names, ", ")+more)
		return nil
	}
	x.now = nil
	if x.kind != "space" && x.kind != "item" {
		return nil
	}
	r, err := c.resource(x)
	if err != nil {
		return err
	}
	hung := c.now.HangingOn(r, c.at)
	for _, h := range hung.Grants { // they have ended, and are kept in the journal alone
		list, err := c.t.Grants(h.Party)
		if err != nil {
			return err
		}
		for i := range list {
			if g := &list[i]; g.Resource == h.Resource && g.Role == h.Role {
				y, err := c.find("grant", worldfile.GrantKey(g))
				if err != nil {
					return err
				}
				y.now, y.line = nil, x.line
			}
		}
	}
	var items []world.Item
	if x.kind == "space" {
		if items, err = c.t.Items(x.id); err != nil {
			return err
		}
	}
	gone := map[string]bool{r.String(): true}
	for i := range items {
		y, err := c.find("item", items[i].ID)
		if err != nil {
			return err
		}
		y.now, y.line = nil, x.line
		gone[items[i].Kind.String()+":"+items[i].ID] = true
	}
	if err := c.t.Naming("link", `"item":"`, func(id string, doc []byte) error {
		l, err := worldfile.LinkOf(doc)
		if err == nil && gone[l.Item.String()] {
			y, err := c.find("link", id)
			if err != nil {
				return err
			}
			y.now, y.line = nil, x.line
		}
		return nil
	}); err != nil {
		return err
	}
	for _, id := range hung.Meetings {
		y, err := c.find("meeting", id)
		if err != nil || y == nil || y.now == nil {
			return err
		}
		m, err := worldfile.MeetingOf(y.now)
		if err != nil {
			return err
		}
		m.Space = ""
		y.now, y.line = worldfile.MeetingDoc(&m), x.line
	}
	return nil
}

// second is the beginning of this second: what begins or ends now does so then.
func (c *placeChange) second() moment.Moment { return c.at - c.at%1_000_000 }

// slug makes an id of a name: lower-case letters without accents, digits and hyphens.
func slug(name string) string {
	var b strings.Builder
	for _, r := range foldAccents(strings.ToLower(name)) {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			b.WriteRune(r)
		case b.Len() > 0 && !strings.HasSuffix(b.String(), "-"):
			b.WriteByte('-')
		}
	}
	out := strings.Trim(b.String(), "-")
	return strings.Trim(out[:min(len(out), 60)], "-")
}
