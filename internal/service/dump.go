package service

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// collect is a sink that builds a world for a dump.
type collect struct {
	w           world.World
	at          map[string]int // of spaces
	bad         []Unread
	policyAlone bool // without what is known of the other side
}

// Unread is a record that cannot be read as it is kept: it counts without what no text may
// hold, or, where even so it cannot be read, not at all.
type Unread struct {
	Kind, ID, Reason string
	Lost             bool
}

// Text says so in a sentence.
func (u *Unread) Text() string {
	what := "it counts without that"
	if u.Lost {
		what = "it counts for nothing"
	}
	return fmt.Sprintf(
		"The %s %s cannot be read as it is kept: %s; %s.",
		u.Kind,
		u.ID,
		strings.Join(strings.Fields(strings.TrimSuffix(u.Reason, ".")), " "),
		what,
	)
}

func (c *collect) Bad(kind, id string, err error, lost bool) {
	reason := err.Error()
	var es worldfile.Errors
	if errors.As(err, &es) && len(es) > 0 {
		reason = es[0].Msg
	}
	if u := (*worldfile.Unwritable)(nil); errors.As(err, &u) {
		reason = u.Reason
	}
	c.bad = append(c.bad, Unread{kind, id, reason, lost})
}

func (c *collect) PutGroup(x *world.Group) { c.w.Groups = append(c.w.Groups, *x) }

func (c *collect) PutPerson(x *world.Person) { c.w.People = append(c.w.People, *x) }

func (c *collect) PutSpace(x *world.Space) {
	c.at[x.ID] = len(c.w.Spaces)
	c.w.Spaces = append(c.w.Spaces, *x)
}

func (c *collect) PutItem(x *world.Item) {
	if i, ok := c.at[x.Space]; ok {
		c.w.Spaces[i].Items = append(c.w.Spaces[i].Items, *x)
	}
}

func (c *collect) PutDomainList(x *world.DomainList) { c.w.DomainLists = append(c.w.DomainLists, *x) }
func (c *collect) PutMeeting(x *world.Meeting)       { c.w.Meetings = append(c.w.Meetings, *x) }

func (c *collect) RemoveGuest(addr.Address) {}

func (c *collect) PutGuest(x *world.Guest) { c.w.Guests = append(c.w.Guests, *x) }

func (c *collect) SetGrants(_ string, xs []world.Grant) { c.w.Grants = append(c.w.Grants, xs...) }

func (c *collect) PutLink(x *world.Link) { c.w.Links = append(c.w.Links, *x) }

// PutDoc takes what no question is asked of.
func (c *collect) PutDoc(kind, id string, doc []byte) error {
	return worldfile.AddInventory(&c.w, kind, id, doc)
}

func (c *collect) PutHolding(x *world.Holding) { c.w.Holdings = append(c.w.Holdings, *x) }

func (c *collect) PutContact(x *world.Contact) { c.w.Contacts = append(c.w.Contacts, *x) }

func (c *collect) SetForwarders(_ string, xs []world.Forwarder) {
	c.w.Forwarders = append(c.w.Forwarders, xs...)
}

func (c *collect) SetFloors(xs []world.DatesFrom) { c.w.DatesFrom = xs }

func (c *collect) SetPolicy(p *world.World) {
	c.w.Policy = p.Policy
	if c.policyAlone {
		c.w.Policy = worldfile.PolicyOf(p).Policy
	}
}

// World returns everything as it was at a head; the zero Head is now.
func (s *Service) World(ctx context.Context, at store.Head) (*world.World, error) {
	w, _, err := s.WorldAndUnread(ctx, at)
	return w, err
}

// WorldAndUnread does the same, and names the records that could not be read as they are kept.
func (s *Service) WorldAndUnread(ctx context.Context, at store.Head) (*world.World, []Unread, error) {
	c := &collect{at: map[string]int{}}
	_, err := s.store.Read(ctx, at, c)
	if err == nil && at == (store.Head{}) { // what waits for an answer is kept as it is now alone
		err = s.waiting(ctx, &c.w)
	}
	return &c.w, c.bad, err
}

// fileSink is a sink that writes a file of what comes, section by section. Only what stands in other places there than it comes in is
// collected: policy, people, groups and spaces, which get their items.
type fileSink struct {
	collect
	out      *worldfile.Writer
	sections []string
	to       io.Writer
	spaces   int // how many spaces have been written
	err      error
}

func (d *fileSink) add(w *world.World) {
	if d.err == nil {
		d.err = d.out.Add(w)
	}
}

// before writes what comes before spaces, and spaces up to one, that one not; all of them where there is none such.
func (d *fileSink) before(space string) {
	if d.out == nil {
		d.out = worldfile.NewWriter(d.to, d.w.Organisation, d.sections...)
		d.add(&world.World{Policy: d.w.Policy, Inventory: world.Inventory{People: d.w.People, Groups: d.w.Groups}})
		d.w.People, d.w.Groups = nil, nil
	}
	stop := len(d.w.Spaces)
	if space != "" {
		at, ok := d.at[space]
		if !ok {
			return
		}
		stop = at
	}
	if stop > d.spaces {
		d.add(&world.World{Inventory: world.Inventory{Spaces: d.w.Spaces[d.spaces:stop]}})
		clear(d.w.Spaces[d.spaces:stop])
		d.spaces = stop
	}
}

// PutItem takes items, which come by their spaces, in the order of these.
func (d *fileSink) PutItem(x *world.Item) {
	d.before(x.Space)
	if at, ok := d.at[x.Space]; ok && at < d.spaces && d.err == nil {
		d.err = fmt.Errorf("the item %s comes after its space %s was written", x.ID, x.Space)
	}
	d.collect.PutItem(x)
}

func (d *fileSink) later(of world.Inventory) {
	d.before("")
	d.add(&world.World{Inventory: of})
}

func (d *fileSink) PutDomainList(x *world.DomainList) {
	d.later(world.Inventory{DomainLists: []world.DomainList{*x}})
}

func (d *fileSink) PutMeeting(x *world.Meeting) {
	d.later(world.Inventory{Meetings: []world.Meeting{*x}})
}

func (d *fileSink) PutGuest(x *world.Guest) { d.later(world.Inventory{Guests: []world.Guest{*x}}) }

func (d *fileSink) SetGrants(_ string, xs []world.Grant) { d.later(world.Inventory{Grants: xs}) }

func (d *fileSink) PutHolding(x *world.Holding) {
	d.later(world.Inventory{Holdings: []world.Holding{*x}})
}

func (d *fileSink) PutLink(x *world.Link) { d.later(world.Inventory{Links: []world.Link{*x}}) }

func (d *fileSink) SetForwarders(_ string, xs []world.Forwarder) {
	d.later(world.Inventory{Forwarders: xs})
}

func (d *fileSink) PutContact(x *world.Contact) {
	d.later(world.Inventory{Contacts: []world.Contact{*x}})
}

// Wants leaves out what no section is asked for; spaces come with their items.
func (d *fileSink) Wants(kind string) bool {
	return len(d.sections) == 0 || slices.Contains(d.sections, worldfile.SectionOf(kind)) ||
		kind == "item" && slices.Contains(d.sections, "spaces")
}

// Dump writes everything there is now, or the sections that are asked for, as a file: while it is read, so that memory does not grow
// with it. policy leaves out what is known of the other side. What could not be read as it is kept is noted at the end.
func (s *Service) Dump(ctx context.Context, to io.Writer, policy bool, sections ...string) error {
	d := &fileSink{collect: collect{at: map[string]int{}}, sections: sections, to: to}
	d.policyAlone = policy
	if _, err := s.store.Read(ctx, store.Head{}, d); err != nil || d.err != nil {
		return errors.Join(err, d.err)
	}
	d.before("")
	rest := world.World{Inventory: world.Inventory{Letters: d.w.Letters, Statements: d.w.Statements, DatesFrom: d.w.DatesFrom}}
	if !policy {
		if err := s.waiting(ctx, &rest); err != nil {
			return err
		}
	}
	d.add(&rest)
	for _, u := range d.bad {
		d.out.Note(u.Text())
	}
	return errors.Join(d.err, d.out.Close())
}

// Remove never comes: everything is read at once.
func (c *collect) Remove(string, string) {}

// Mend rewrites a record that cannot be read without the characters that no text may hold.
func (s *Service) Mend(ctx context.Context, who Who, kind, id, why string) error {
	if why = strings.TrimSpace(why); why == "" {
		why = "mended: a character that no text may hold"
	}
	if strings.ContainsFunc(kind, func(r rune) bool { return r != '_' && (r < 'a' || r > 'z') }) {
		return &Invalid{"kind", kind, "write the kind that the finding names, as letter or space"}
	}
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		did, err := s.mend(t, kind, id)
		if err == nil && !did {
			err = fmt.Errorf("%w: %s %s is as it should be", ErrConflict, kind, id)
		}
		return err
	})
}

// mend does so wherever a kind is kept: in columns, among policy, or as a record of its own.
func (s *Service) mend(t *store.Tx, kind, id string) (bool, error) {
	missing := fmt.Errorf("%w: there is no %s %q", ErrNotFound, kind, id)
	switch kind {
	case "guest":
		g, err := t.Guest(id)
		if err != nil || g == nil {
			return false, orMissing(err, missing)
		}
		if worldfile.Plain(&g.Name, &g.Purpose, &g.Language, &g.Location) == nil {
			return false, nil
		}
		return t.PutGuest(g)
	case "item":
		it, place, ok, err := t.Item(id)
		if err != nil || !ok {
			return false, orMissing(err, missing)
		}
		if worldfile.Plain(&it.Name) == nil {
			return false, nil
		}
		return t.PutItem(&it, place)
	}
	for _, kept := range []struct {
		doc func(kind, id string) ([]byte, error)
		put func(kind, id string, doc []byte) (bool, error)
	}{{t.Record, t.PutRecord}, {t.PolicyDoc, t.PutPolicy}} {
		doc, err := kept.doc(kind, id)
		if err != nil {
			return false, err
		}
		if doc == nil {
			continue
		}
		next, err := worldfile.Mended(doc)
		if err != nil {
			return false, &Invalid{"id", id, "it is no record of texts; " + err.Error()}
		}
		return kept.put(kind, id, next)
	}
	return false, missing
}
