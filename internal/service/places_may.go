package service

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

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
		if m := p.meetings[x]; x.was == nil && m != nil &&
			(m.Host != me || m.Space != "" && !c.now.BelongsTo(me, world.Resource{Kind: catalogue.Space, ID: m.Space})) {
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
	return "keepers and administrators keep people, groups and lists of domains" + ask
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
