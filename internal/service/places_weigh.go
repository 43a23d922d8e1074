package service

import (
	"bytes"
	"context"
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

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
			case "domain_list":
				if v := p.lists[x]; v != nil {
					e.PutDomainList(v)
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
		case "domain_list":
			for _, id := range append(c.now.MeetingsWith(x.id), after.MeetingsWith(x.id)...) {
				on(world.Resource{Kind: catalogue.Meeting, ID: id})
			}
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
			if !g.Address.IsZero() {
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
	if err := count(after, c.now.Snapshot, "fewer", &out.Granted.Lost, &out.Wide.Lost, &out.Parties.Lost,
		func(engine.Newcomer) {}); err != nil {
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
