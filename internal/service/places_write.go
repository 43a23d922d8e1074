package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"unicode"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"golang.org/x/text/unicode/norm"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

func mergePatch(doc, patch []byte) ([]byte, error) { return jsonpatch.MergePatch(doc, patch) }

// foldAccents takes the accents from letters.
func foldAccents(s string) string {
	return strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(s))
}

// withoutSpace takes from an item's doc what says where it is.
func withoutSpace(doc []byte) []byte {
	out, err := jsonpatch.MergePatch(doc, []byte(`{"space":null}`))
	if err != nil {
		return doc
	}
	return out
}

func spaceIn(doc []byte) string {
	var x struct {
		Space string `json:"space"`
	}
	_ = json.Unmarshal(doc, &x)
	return x.Space
}

// changing is what others see while a change is read: what goes is gone, and what moves may stand
// elsewhere.
type beingChanged struct {
	*State
	gone  map[string]bool
	moves map[string]bool
}

func (b beingChanged) Has(kind, id string) bool { return !b.gone[kind+":"+id] && b.State.Has(kind, id) }

func (b beingChanged) SpaceOf(item string) string {
	if b.moves[item] || b.gone["item:"+item] {
		return ""
	}
	return b.State.SpaceOf(item)
}

// parsed is the world that the entries of a change are read into.
type parsed struct {
	persons    map[*entry]*world.Person
	groups     map[*entry]*world.Group
	spaces     map[*entry]*world.Space
	items      map[*entry]*world.Item
	lists      map[*entry]*world.DomainList
	meetings   map[*entry]*world.Meeting
	grants     map[*entry]*world.Grant
	links      map[*entry]*world.Link
	forwarders map[*entry]*world.Forwarder
	contacts   map[*entry]*world.Contact
	// made are items that came within a new space.
	made []world.Item
}

// read reads what the entries are to be, the way a file is read.
func (c *placeChange) read() (*parsed, error) {
	known := beingChanged{c.now, map[string]bool{}, map[string]bool{}}
	var list []*entry
	var entries []worldfile.Entry
	for _, x := range c.entries {
		if x.now == nil {
			known.gone[x.kind+":"+x.id] = true
			if x.kind == "item" {
				if k, ok := c.now.ItemKind(x.id); ok {
					known.gone[k.String()+":"+x.id] = true
				}
			}
			continue
		}
		if bytes.Equal(x.was, x.now) {
			continue
		}
		e := worldfile.Entry{Kind: x.kind, Doc: x.now}
		if x.kind == "item" {
			sp := spaceIn(x.now)
			in, err := c.find("space", sp)
			if err != nil {
				return nil, err
			}
			if in == nil || in.now == nil {
				hint := ""
				if n := c.now.NearestID("space", sp); n != "" {
					hint = "; do you mean " + n + "?"
				}
				c.refuse(x.line, "space", sp, "there is no such space"+hint)
				continue
			}
			e.Doc, e.In = withoutSpace(x.now), in.now
			if x.was != nil && spaceIn(x.was) != sp {
				known.moves[x.id] = true
				if !c.undoing {
					x.place = -1
				}
			}
		}
		list, entries = append(list, x), append(entries, e)
	}
	w, errs, err := worldfile.ReadEntries(entries, worldfile.Options{Now: c.at, Known: known})
	if err != nil {
		return nil, err
	}
	for _, e := range errs {
		line := 0
		if e.Entry >= 0 {
			line = list[e.Entry].line
		}
		c.refuse(line, e.Field, e.Value, e.Msg)
	}
	if c.refused() > 0 {
		return nil, nil
	}
	p := &parsed{
		persons: map[*entry]*world.Person{}, groups: map[*entry]*world.Group{}, spaces: map[*entry]*world.Space{},
		items: map[*entry]*world.Item{}, lists: map[*entry]*world.DomainList{}, meetings: map[*entry]*world.Meeting{},
		grants: map[*entry]*world.Grant{},
		links:  map[*entry]*world.Link{}, forwarders: map[*entry]*world.Forwarder{}, contacts: map[*entry]*world.Contact{},
	}
	spaces, items := map[string]*world.Space{}, map[string]*world.Item{}
	for i := range w.Spaces {
		spaces[w.Spaces[i].ID] = &w.Spaces[i]
		for j := range w.Spaces[i].Items {
			items[w.Spaces[i].Items[j].ID] = &w.Spaces[i].Items[j]
		}
	}
	n := map[string]int{}
	for _, x := range list {
		k := n[x.kind]
		n[x.kind]++
		switch x.kind {
		case "person":
			p.persons[x] = &w.People[k]
			x.now = worldfile.PersonDoc(&w.People[k])
		case "group":
			p.groups[x] = &w.Groups[k]
			x.now = worldfile.GroupDoc(&w.Groups[k])
		case "space":
			sp := spaces[x.id]
			p.spaces[x] = sp
			if sp.JoinsAs != catalogue.NoRole && sp.Kind != world.Course {
				c.refuse(x.line, "joins_as", sp.JoinsAs.String(),
					"people from outside join courses alone; this is a "+strings.ReplaceAll(world.SpaceKindNames[sp.Kind], "_", " "))
			}
			x.now = worldfile.SpaceDoc(sp)
		case "item":
			it := items[x.id]
			p.items[x] = it
			x.now = worldfile.PlacedItemDoc(it)
			delete(items, x.id)
		case "domain_list":
			p.lists[x] = &w.DomainLists[k]
			x.now = worldfile.DomainListDoc(&w.DomainLists[k])
		case "meeting":
			p.meetings[x] = &w.Meetings[k]
			x.now = worldfile.MeetingDoc(&w.Meetings[k])
		case "grant":
			g := &w.Grants[k]
			p.grants[x] = g
			x.now = worldfile.GrantDoc(g)
		case "link":
			p.links[x] = &w.Links[k]
			x.now = worldfile.LinkDoc(&w.Links[k])
		case "forwarder":
			f := &w.Forwarders[k]
			p.forwarders[x] = f
			x.now = worldfile.ForwarderDoc(f)
		case "contact":
			p.contacts[x] = &w.Contacts[k]
			x.now = worldfile.ContactDoc(&w.Contacts[k])
		}
	}
	for i := range w.Spaces { // in their order
		for j := range w.Spaces[i].Items {
			it := &w.Spaces[i].Items[j]
			if items[it.ID] != nil {
				p.made = append(p.made, *it)
			}
		}
	}
	return p, nil
}

// keys names entries that have no id by what they are, and turns changes of what they are known by
// into an end and a beginning.
func (c *placeChange) keys(p *parsed) error {
	name := func(x *entry, key string) error {
		if x.id == key {
			return nil
		}
		if strings.HasPrefix(x.id, "\x00") {
			was, err := c.find(x.kind, key)
			if err != nil {
				return err
			}
			if was != nil && was != x && was.now != nil {
				c.refuse(x.line, "", key, fmt.Sprintf("there is such a %s already", worldfile.KindInWords(x.kind)))
				return nil
			}
			delete(c.by, [2]string{x.kind, x.id})
			x.id = key
			c.by[[2]string{x.kind, key}] = x
			c.lines[x.line].ID = key
			return nil
		}
		c.refuse(x.line, "", key, fmt.Sprintf("that would be another %s: add it, and remove this one", worldfile.KindInWords(x.kind)))
		return nil
	}
	for _, x := range append([]*entry(nil), c.entries...) {
		switch {
		case p.forwarders[x] != nil:
			if err := name(x, worldfile.ForwarderKey(p.forwarders[x])); err != nil {
				return err
			}
		case p.contacts[x] != nil:
			if err := name(x, worldfile.ContactKey(p.contacts[x])); err != nil {
				return err
			}
		case p.grants[x] != nil:
			g := p.grants[x]
			if x.was == nil || x.id == worldfile.GrantKey(g) {
				if err := name(x, worldfile.GrantKey(g)); err != nil {
					return err
				}
				continue
			}
			old, err := worldfile.GrantOf(x.was)
			if err != nil {
				return err
			}
			if old.Party() != g.Party() || old.Resource != g.Resource || old.From != g.From {
				c.refuse(
					x.line,
					"party",
					g.Party(),
					"of a grant its role, its end, its sponsor and its review can be changed; else give another one",
				)
				continue
			}
			// Another role is another grant: this one ends and that one begins.
			next := *g
			if at := c.second(); at > old.From {
				next.From = at
				old.Until = min(old.Until, at)
				x.now, *g = worldfile.GrantDoc(&old), old
			} else {
				x.now = nil
				delete(p.grants, x)
			}
			y := &entry{kind: "grant", id: worldfile.GrantKey(&next), line: x.line, place: -1, now: worldfile.GrantDoc(&next)}
			if was := c.by[[2]string{"grant", y.id}]; was != nil {
				y.was = was.was
			}
			c.put(y)
			p.grants[y] = &next
		}
	}
	return nil
}

// finish reads, judges, weighs and writes what was put together.
func (c *placeChange) finish(ctx context.Context, why string, preview bool) (*PlacesChanged, error) {
	out := &PlacesChanged{}
	done := func(err error) (*PlacesChanged, error) {
		out.Lines, out.Refused = c.lines, c.refused()
		for i := range out.Lines {
			if out.Lines[i].Result == "" {
				out.Lines[i].Result = "not_done"
			}
		}
		if err == nil && (out.Refused > 0 || preview) {
			err = errPreview
		}
		return out, err
	}
	p, err := c.prepare()
	if err != nil {
		return nil, err
	}
	if p == nil {
		return done(nil)
	}
	for _, x := range c.entries {
		if bytes.Equal(x.was, x.now) {
			continue
		}
		if reason := c.may(x, p); reason != "" {
			return nil, fmt.Errorf("%w: %s", ErrForbidden, reason)
		}
	}
	if c.refused() > 0 {
		return done(nil)
	}
	for i := range c.lines {
		c.lines[i].Result = "unchanged"
	}
	changes := len(p.made)
	for _, x := range c.entries {
		if bytes.Equal(x.was, x.now) {
			continue
		}
		changes++
		if x.line >= 0 && x.line < len(c.lines) {
			c.lines[x.line].Result = map[[2]bool]string{{true, false}: "added", {false, true}: "removed",
				{false, false}: "changed"}[[2]bool{x.was == nil, x.now == nil}]
			if c.lines[x.line].Do == DoClose {
				c.lines[x.line].Result = "closed"
			}
			if c.lines[x.line].Do == DoSet {
				c.lines[x.line].Result = "changed"
			}
			if c.lines[x.line].Do == DoRemove && x.kind == "grant" && x.now != nil {
				c.lines[x.line].Result = "ended"
			}
		}
	}
	after, err := c.aside(p)
	if err != nil {
		return nil, err
	}
	if preview || changes == 0 || strings.TrimSpace(why) == "" {
		if out.Weighed, err = c.weigh(ctx, p, after); err != nil {
			return nil, err
		}
	} else { // a reason is given: nobody waits for the counting
		out.weigh = func() (err error) {
			out.Weighed, err = c.weigh(ctx, p, after)
			return
		}
	}
	if changes == 0 {
		return done(errPreviewUnless(preview))
	}
	if w := out.Weighed; !preview && strings.TrimSpace(why) == "" &&
		(w.Parties.Gained+w.Granted.Gained+w.Wide.Gained > 0 || len(w.Newcomers) > 0) {
		return nil, &Invalid{"why", "", "it lets somebody do more than before: say why"}
	}
	if preview {
		return done(nil)
	}
	if err := c.write(p, out); err != nil {
		return nil, err
	}
	return done(nil)
}

// errPreviewUnless ends a change that changes nothing.
func errPreviewUnless(preview bool) error {
	if preview {
		return nil
	}
	return errPreview
}

// write writes the change into the database and the journal.
func (c *placeChange) write(p *parsed, out *PlacesChanged) error {
	t := c.t
	for _, x := range c.entries { // acts are judged on the dated state, which is written down first
		if x.kind != "grant" || bytes.Equal(x.was, x.now) || c.undoing {
			continue
		}
		if g, err := worldfile.GrantOf(firstDoc(x.now, x.was)); err == nil && !g.Address.IsZero() {
			if err := c.s.writeDue(c.now, t, g.Address, c.at); err != nil {
				return err
			}
		}
	}
	out.Change = t.Head().Seq + 1
	places := map[string]int{}
	place := func(space string) (int, error) {
		n, ok := places[space]
		if !ok {
			var err error
			if n, err = t.LastPlace(space); err != nil {
				return 0, err
			}
		}
		places[space] = n + 1
		return n + 1, nil
	}
	for _, kind := range worldfile.InventoryKinds {
		for _, x := range c.entries {
			if x.kind != kind || bytes.Equal(x.was, x.now) {
				continue
			}
			var err error
			switch {
			case kind == "item" && x.now == nil:
				_, err = t.EndItem(x.id)
			case kind == "item":
				at := x.place
				if at < 0 {
					if at, err = place(p.items[x].Space); err != nil {
						return err
					}
				}
				_, err = t.PutItem(p.items[x], at)
			case kind == "grant" && x.now == nil:
				g, e := worldfile.GrantOf(x.was)
				if e != nil {
					return e
				}
				err = t.EndGrant(&g)
			case kind == "grant":
				_, err = t.PutGrant(p.grants[x])
			case x.now == nil:
				_, err = t.EndRecord(kind, x.id)
			default:
				_, err = t.PutRecord(kind, x.id, x.now)
			}
			if err != nil {
				return err
			}
		}
		for i := range c.wakes {
			if _, err := t.PutGuest(&c.wakes[i]); err != nil {
				return err
			}
		}
		c.wakes = nil
		if kind == "item" {
			for i := range p.made {
				at, err := place(p.made[i].Space)
				if err != nil {
					return err
				}
				if _, err := t.PutItem(&p.made[i], at); err != nil {
					return err
				}
			}
		}
	}
	return nil
}
