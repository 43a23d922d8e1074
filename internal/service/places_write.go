package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"unicode"

	jsonpatch "github.com/evanphx/json-patch/v5"
	"golang.org/x/text/unicode/norm"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	verdicts "wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
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
		items: map[*entry]*world.Item{}, meetings: map[*entry]*world.Meeting{}, grants: map[*entry]*world.Grant{},
		links: map[*entry]*world.Link{}, forwarders: map[*entry]*world.Forwarder{}, contacts: map[*entry]*world.Contact{},
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
			x.now = worldfile.SpaceDoc(sp)
		case "item":
			it := items[x.id]
			p.items[x] = it
			x.now = worldfile.PlacedItemDoc(it)
			delete(items, x.id)
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
				c.refuse(x.line, "", key, fmt.Sprintf("there is such a %s already", x.kind))
				return nil
			}
			delete(c.by, [2]string{x.kind, x.id})
			x.id = key
			c.by[[2]string{x.kind, key}] = x
			c.lines[x.line].ID = key
			return nil
		}
		c.refuse(x.line, "", key, fmt.Sprintf("that would be another %s: add it, and remove this one", x.kind))
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
				c.refuse(x.line, "party", g.Party(), "of a grant its role, its end, its sponsor and its review can be changed; else give another one")
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

// may says why who asks may not make a change; "" where they may.
func (c *placeChange) may(x *entry, p *parsed) string {
	if x.line < 0 {
		return ""
	}
	roles := func() bool {
		if x.kind != "person" {
			return true
		}
		was, now := world.Person{}, world.Person{}
		if x.was != nil {
			was, _ = worldfile.PersonOf(x.was)
		}
		if p.persons[x] != nil {
			now = *p.persons[x]
		}
		return was.Roles&world.Administrator == now.Roles&world.Administrator
	}
	switch c.who.Role {
	case Administrator:
		return ""
	case Keeper:
		if !roles() {
			return "an administrator says who administers"
		}
		return ""
	case Member:
	default:
		return "auditors read, and change nothing"
	}
	me := c.who.Person
	owns := func(r world.Resource) bool { return c.now.OwnedBy(me, r) }
	ask := "; ask a keeper or an administrator"
	switch x.kind {
	case "space":
		if x.was == nil || x.now == nil {
			return "keepers and administrators make and remove spaces" + ask
		}
		if !owns(world.Resource{Kind: catalogue.Space, ID: x.id}) {
			return "owners change their own spaces" + c.owner(x.id)
		}
		was, err := worldfile.SpaceOf(x.was)
		if sp := p.spaces[x]; err == nil && sp != nil && was.HouseLicence != sp.HouseLicence {
			return "a licence costs something" + ask
		}
		return ""
	case "item":
		for _, doc := range [][]byte{x.was, x.now} {
			if doc != nil && !owns(world.Resource{Kind: catalogue.Space, ID: spaceIn(doc)}) {
				return "owners change what is in their own spaces" + c.owner(spaceIn(doc))
			}
		}
		return ""
	case "meeting":
		if x.was != nil && !owns(world.Resource{Kind: catalogue.Meeting, ID: x.id}) {
			host, _ := c.now.HostOf(x.id)
			return "hosts change their own meetings; ask " + host
		}
		if m := p.meetings[x]; x.was == nil && m != nil && (m.Host != me || m.Space != "" && !c.now.BelongsTo(me, world.Resource{Kind: catalogue.Space, ID: m.Space})) {
			return "members make meetings that they host themselves, in spaces that they belong to"
		}
		return ""
	case "link":
		l, err := worldfile.LinkOf(x.was)
		if err != nil || x.was == nil {
			return "make it with link make"
		}
		if l.By != me && !owns(l.Item) {
			return "members change links of their own, and those to what is in their spaces; ask " + l.By
		}
		return ""
	case "grant":
		g, err := worldfile.GrantOf(firstDoc(x.was, x.now))
		if err != nil || x.was == nil && c.by[[2]string{x.kind, x.id}] == x && c.lines[x.line].Do == DoAdd {
			return "members give roles by inviting"
		}
		r := g.Resource
		if !owns(r) {
			return "owners change who is in their own spaces" + c.owner(c.now.SpaceOf(r.ID))
		}
		return ""
	case "forwarder":
		f, err := worldfile.ForwarderOf(firstDoc(x.now, x.was))
		if err != nil || f.Mailbox != me {
			return "people forward their own mailbox" + ask
		}
		return ""
	case "contact":
		k, err := worldfile.ContactOf(firstDoc(x.now, x.was))
		if err != nil || k.Person != me {
			return "people keep their own contacts" + ask
		}
		return ""
	}
	return "keepers and administrators keep people and groups" + ask
}

func (c *placeChange) owner(space string) string {
	if o := c.now.OwnerOf(space); o != "" {
		return "; ask " + o
	}
	return "; ask a keeper"
}

func firstDoc(docs ...[]byte) []byte {
	for _, d := range docs {
		if d != nil {
			return d
		}
	}
	return nil
}

// judge asks the rules about what is new: a forwarder that would not leave, and a role that somebody
// may not be given.
func (c *placeChange) judge(p *parsed) error {
	if c.undoing {
		return nil
	}
	for x, f := range p.forwarders {
		if x.was != nil || c.now.Match(f.To).Own {
			continue
		}
		if c.who.Role == Member {
			f.SetBy = "person"
		} else if f.SetBy == "" {
			f.SetBy = "administrator"
		}
		x.now = worldfile.ForwarderDoc(f)
		e, err := c.now.Explain(&engine.Question{
			Subject:   engine.Who{Kind: engine.ByPerson, ID: f.Mailbox},
			Action:    forwardAction(),
			Resource:  world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox},
			At:        c.at,
			Address:   f.To,
			DropsCopy: !f.KeepCopy,
		})
		if err != nil {
			c.refuse(x.line, "to", f.To.String(), err.Error())
			continue
		}
		if !e.Yes() {
			c.lines[x.line].Ask = &engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: f.Mailbox}, Action: forwardAction(), Resource: world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox}, Address: f.To}
			c.refuse(x.line, "to", f.To.String(), "mail may not be forwarded there: "+causesText(e.Deciding().Refusals()))
		}
	}
	for x, g := range p.grants {
		if x.was != nil || g.Group != "" || x.line < 0 || c.lines[x.line].Do != DoAdd {
			continue
		}
		if g.Sponsor == "" && c.who.Person != "" && c.now.Has("person", c.who.Person) {
			g.Sponsor = c.who.Person
			x.now = worldfile.GrantDoc(g)
		}
		into := g.Resource
		if into.Kind.IsItem() {
			into = world.Resource{Kind: catalogue.Space, ID: c.now.SpaceOf(into.ID)}
		}
		if !c.now.Has("space", into.ID) { // it is made in the same change: nobody can be asked about it yet
			continue
		}
		k, err := verdicts.New(c.now.Snapshot, verdicts.Options{Keep: true, Into: into, At: c.at})
		if err != nil {
			return err
		}
		if l := k.Check(0, g.Address.String()); l.Verdict == verdicts.No {
			if by := c.now.Inviter(into); by != "" {
				act, _ := catalogue.ActionByName("directory.invite")
				c.lines[x.line].Ask = &engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: by}, Action: act.ID, Resource: into, Address: g.Address}
			}
			c.refuse(x.line, "party", g.Address.String(), "they may not be let in there: "+causesText(l.Causes))
		} else if l.Verdict == verdicts.Own || l.Verdict == verdicts.Malformed {
			c.refuse(x.line, "party", g.Address.String(), l.Reason)
		}
	}
	return nil
}

func forwardAction() catalogue.ActionID {
	a, _ := catalogue.ActionByName("mail.forward")
	return a.ID
}

func causesText(list []engine.Cause) string {
	var out []string
	for i := range list {
		out = append(out, strings.TrimSuffix(list[i].Text(), "."))
	}
	return strings.Join(out, "; ")
}

// aside is the state with the change.
func (c *placeChange) aside(p *parsed) (*engine.Snapshot, error) {
	e := c.now.Aside()
	parties, mailboxes := map[string]bool{}, map[string]bool{}
	for _, kind := range worldfile.InventoryKinds {
		for _, x := range c.entries {
			if x.kind != kind || bytes.Equal(x.was, x.now) {
				continue
			}
			switch kind {
			case "person":
				if v := p.persons[x]; v != nil {
					e.PutPerson(v)
				}
			case "group":
				if v := p.groups[x]; v != nil {
					e.PutGroup(v)
				}
			case "space":
				if v := p.spaces[x]; v != nil {
					e.PutSpace(v)
				}
			case "item":
				if v := p.items[x]; v != nil {
					e.PutItem(v)
				}
			case "meeting":
				if v := p.meetings[x]; v != nil {
					e.PutMeeting(v)
				}
			case "link":
				if v := p.links[x]; v != nil {
					e.PutLink(v)
				}
			case "grant":
				g, err := worldfile.GrantOf(firstDoc(x.now, x.was))
				if err != nil {
					return nil, err
				}
				parties[g.Party()] = true
				continue
			case "forwarder":
				f, err := worldfile.ForwarderOf(firstDoc(x.now, x.was))
				if err != nil {
					return nil, err
				}
				mailboxes[f.Mailbox] = true
				continue
			case "contact":
				k, err := worldfile.ContactOf(firstDoc(x.now, x.was))
				if err != nil {
					return nil, err
				}
				k.Accepted = k.Accepted && x.now != nil
				e.PutContact(&k)
				continue
			}
			if x.now == nil {
				e.Remove(kind, x.id)
			}
		}
	}
	for i := range p.made {
		e.PutItem(&p.made[i])
	}
	for i := range c.wakes {
		e.PutGuest(&c.wakes[i])
	}
	for party := range parties {
		list, err := c.t.Grants(party)
		if err != nil {
			return nil, err
		}
		var next []world.Grant
		for i := range list {
			if c.by[[2]string{"grant", worldfile.GrantKey(&list[i])}] == nil {
				next = append(next, list[i])
			}
		}
		for _, x := range c.entries {
			if x.kind != "grant" || x.now == nil {
				continue
			}
			if g, err := worldfile.GrantOf(x.now); err == nil && g.Party() == party {
				next = append(next, g)
			}
		}
		e.SetGrants(party, next)
	}
	for m := range mailboxes {
		var next []world.Forwarder
		if err := c.t.Naming("forwarder", `"mailbox":`+jsonText(m), func(id string, doc []byte) error {
			f, err := worldfile.ForwarderOf(doc)
			if err == nil && f.Mailbox == m && c.by[[2]string{"forwarder", id}] == nil {
				next = append(next, f)
			}
			return err
		}); err != nil {
			return nil, err
		}
		for _, x := range c.entries {
			if x.kind != "forwarder" || x.now == nil {
				continue
			}
			if f, err := worldfile.ForwarderOf(x.now); err == nil && f.Mailbox == m {
				next = append(next, f)
			}
		}
		e.SetForwarders(m, next)
	}
	return e.Done(), nil
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
	if c.refused() > 0 {
		return done(nil)
	}
	p, err := c.read()
	if err != nil || p == nil {
		return done(err)
	}
	if err := c.keys(p); err != nil {
		return nil, err
	}
	if err := c.judge(p); err != nil {
		return nil, err
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
			c.lines[x.line].Result = map[[2]bool]string{{true, false}: "added", {false, true}: "removed", {false, false}: "changed"}[[2]bool{x.was == nil, x.now == nil}]
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
	if w := out.Weighed; !preview && strings.TrimSpace(why) == "" && (w.Parties.Gained+w.Granted.Gained+w.Wide.Gained > 0 || len(w.Newcomers) > 0) {
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
		if g, err := worldfile.GrantOf(firstDoc(x.now, x.was)); err == nil && g.Group == "" {
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

// differs is the first moment from which the change makes a difference: now, or where only ends and
// beginnings ahead are moved, the first of them.
func (c *placeChange) differs() moment.Moment {
	first := moment.Never
	for _, x := range c.entries {
		if bytes.Equal(x.was, x.now) {
			continue
		}
		at := c.at
		switch x.kind {
		case "grant":
			was, _ := worldfile.GrantOf(firstDoc(x.was, x.now))
			now, _ := worldfile.GrantOf(firstDoc(x.now, x.was))
			switch {
			case x.was == nil || x.now == nil:
				at = now.From
			case was.Until != now.Until && was.Role == now.Role:
				at = min(was.Until, now.Until)
			}
		case "link":
			was, _ := worldfile.LinkOf(firstDoc(x.was, x.now))
			now, _ := worldfile.LinkOf(firstDoc(x.now, x.was))
			if ends := was; x.was != nil && x.now != nil && was.Until != now.Until {
				if ends.Until = now.Until; bytes.Equal(worldfile.LinkDoc(&ends), worldfile.LinkDoc(&now)) {
					at = min(was.Until, now.Until)
				}
			}
		}
		first = min(first, max(c.at, at))
	}
	if first == moment.Never {
		return c.at
	}
	return first
}

// weigh counts who gains and who loses by the change.
func (c *placeChange) weigh(ctx context.Context, p *parsed, after *engine.Snapshot) (*ValueWeighed, error) {
	out := &ValueWeighed{}
	at := c.differs()
	var touched []engine.Touched
	on := func(r world.Resource) { touched = append(touched, engine.Touched{Resource: r}) }
	party := func(a addr.Address) { touched = append(touched, engine.Touched{Party: a}) }
	people := map[string]bool{}
	contacts := map[[2]string]addr.Address{}
	for _, x := range c.entries {
		if bytes.Equal(x.was, x.now) {
			continue
		}
		switch x.kind {
		case "person":
			on(world.Resource{Kind: catalogue.Person, ID: x.id})
			people[x.id] = true
		case "space":
			on(world.Resource{Kind: catalogue.Space, ID: x.id})
		case "meeting":
			on(world.Resource{Kind: catalogue.Meeting, ID: x.id})
		case "item":
			if it, err := worldfile.ItemOf(withoutSpace(firstDoc(x.now, x.was))); err == nil {
				on(world.Resource{Kind: it.Kind, ID: it.ID})
			}
		case "group":
			for _, doc := range [][]byte{x.was, x.now} {
				if g, err := worldfile.GroupOf(doc); err == nil && doc != nil {
					for _, a := range g.Parties {
						party(a)
					}
				}
			}
		case "grant":
			g, err := worldfile.GrantOf(firstDoc(x.now, x.was))
			if err != nil {
				return nil, err
			}
			if g.Group == "" {
				party(g.Address)
			} else {
				on(g.Resource)
			}
		case "link":
			l, err := worldfile.LinkOf(firstDoc(x.now, x.was))
			if err != nil {
				return nil, err
			}
			on(l.Item)
			for _, a := range l.For {
				party(a)
			}
		case "forwarder":
			if f, err := worldfile.ForwarderOf(firstDoc(x.now, x.was)); err == nil {
				people[f.Mailbox] = true
			}
		case "contact":
			if k, err := worldfile.ContactOf(firstDoc(x.now, x.was)); err == nil {
				contacts[[2]string{k.Person, k.Party.String()}] = k.Party
			}
		}
	}
	who := map[engine.Who]int{}
	var order []engine.Who
	line := func(w engine.Who, n int, parties *int) {
		if who[w] == 0 {
			*parties++
			order = append(order, w)
		}
		who[w] += n
	}
	lines := func(word string) {
		for _, w := range order {
			if len(out.Lines) == weighedLines {
				break
			}
			things := "things"
			if who[w] == 1 {
				things = "thing"
			}
			name := w.String()
			if n := c.now.NameOfSubject(w); n != "" {
				name = n + ", " + name
			}
			out.Lines = append(out.Lines, fmt.Sprintf("%s: %d %s %s", name, who[w], things, word))
		}
		clear(who)
		order = nil
	}
	if at > c.at {
		out.Lines = append(out.Lines, "As of "+moment.DayOf(at, c.now.Zone()).String()+":")
	}
	count := func(before, next *engine.Snapshot, word string, granted, wide, parties *int, newcomer func(engine.Newcomer)) error {
		defer lines(word)
		if err := engine.Local(next, before, next, touched, at, ctx.Err, func(w engine.Who, isWide bool, n int) {
			if isWide {
				*wide += n
			} else {
				*granted += n
			}
			line(w, n, parties)
		}, newcomer); err != nil {
			return err
		}
		for k, a := range contacts {
			w := engine.Who{Address: a}
			found, err := before.WouldOn(next, w, world.Resource{Kind: catalogue.Person, ID: k[0]}, at)
			if err != nil {
				continue // the person is new
			}
			for i := range found {
				if found[i].Yes && !found[i].Was {
					*wide++
					line(w, 1, parties)
				}
			}
		}
		return nil
	}
	if err := count(c.now.Snapshot, after, "more", &out.Granted.Gained, &out.Wide.Gained, &out.Parties.Gained, func(n engine.Newcomer) {
		if !slices.Contains(out.Newcomers, n.Name) {
			out.Newcomers = append(out.Newcomers, n.Name)
		}
	}); err != nil {
		return nil, err
	}
	if err := count(after, c.now.Snapshot, "fewer", &out.Granted.Lost, &out.Wide.Lost, &out.Parties.Lost, func(engine.Newcomer) {}); err != nil {
		return nil, err
	}
	for id := range people {
		moves, sends := engine.PersonMoves(c.now.Snapshot, after, id, at)
		for _, m := range moves {
			out.Elsewhere++
			verb := map[string]string{"gained": "may now", "lost": "may no longer"}[m.Change]
			if len(out.Lines) < weighedLines {
				out.Lines = append(out.Lines, fmt.Sprintf("%s %s %s towards %s", id, verb, m.Action.Get().Name, m.Target.Name))
			}
		}
		for _, m := range sends {
			out.Elsewhere++
			verb := map[bool]string{true: "begins to be forwarded", false: "is forwarded no longer"}[m.Starts]
			out.Lines = append(out.Lines, fmt.Sprintf("mail of %s %s to %s", id, verb, m.To))
		}
	}
	out.Loosens = out.Parties.Gained+out.Elsewhere > 0 || len(out.Newcomers) > 0
	return out, nil
}
