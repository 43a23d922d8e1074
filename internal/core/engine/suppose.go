package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Questions about what is not there yet: *what would this invitation open?*,
// *what could whoever gets this link do?*
//
// A Suppose is turned into indexes and laid over the world while a question is
// asked (Question.With): nothing is written, and no snapshot is made. What the
// party holds already counts as well. An Editor of Aside is the other way, for
// changes of policy and of things: it costs a snapshot and answers any number
// of questions.

// Suppose is something that is not there yet: what an address would be given,
// or a link that would be made. It is asked before something is given, when
// nothing may be written yet.
type Suppose struct {
	Address  addr.Address
	Record   bool          // it would become a guest who has accepted
	Stranger bool          // as if nothing were kept of it now
	Grants   []world.Grant // Address and Group are not looked at
	Groups   []string      // it would be put into these
	Link     *world.Link   // instead of all that: this bearer link
}

// Supposed is a Suppose made ready for the questions of one snapshot. It fits
// one snapshot: indexes are that one's.
type Supposed struct {
	address  addr.Address
	record   bool
	stranger bool
	party    party
	anew     party // the same without what a record that is gone took with it
	grants   []grant
	beside   beside // what those refer to
	own      int    // so many of them are the party's own; the others are its groups'
	groups   []uint32
	began    moment.Moment // when the first of it would be given; Never where nothing is
	linkID   string
	link     link
}

// in reports whether the address would be in a group.
func (x *Supposed) in(group uint32) bool {
	for _, g := range x.groups {
		if g == group {
			return true
		}
	}
	return false
}

// Supposing makes x ready. An error is a *WrongUse that names the field. What
// is named must be there; nobody is supposed to be given what does not exist.
func (s *Snapshot) Supposing(x Suppose) (*Supposed, error) {
	inv := &s.inv
	out := &Supposed{address: x.Address, record: x.Record, stranger: x.Stranger, beside: inv.beside.supposing()}
	// Roles are on spaces and items, nothing else.
	resource := func(r world.Resource) (uint32, error) {
		wrong := &WrongUse{"resource", r.String(), "there is no such " + r.Kind.String()}
		if r.Kind == catalogue.Space {
			if i := inv.spaceIDs.find(inv.text, r.ID); i != none && inv.spaces.at(i).exists {
				return i, nil
			}
			return 0, wrong
		}
		if !r.Kind.IsItem() {
			return 0, &WrongUse{"resource", r.String(), "a role is given on a space or on something in it"}
		}
		i := inv.itemIDs.find(inv.text, r.ID)
		if i == none || !inv.items.at(i).exists || inv.items.at(i).kind != r.Kind {
			return 0, wrong
		}
		return i | itemBit, nil
	}
	if x.Link != nil {
		r, err := resource(x.Link.Item)
		if err != nil {
			return nil, err
		}
		if r&itemBit == 0 || x.Link.Item.Kind != catalogue.File && x.Link.Item.Kind != catalogue.Folder {
			return nil, &WrongUse{"link", x.Link.Item.String(), "a link opens a file or a folder"}
		}
		l := x.Link
		out.linkID = l.ID
		out.link = link{
			exists:   true,
			bearer:   true,
			download: l.Download,
			password: l.Password,
			right:    l.Right,
			item:     r &^ itemBit,
			by:       none,
			created:  l.Created,
			until:    l.Until,
		}
		return out, nil
	}
	if i := inv.addresses.find(inv.text, x.Address.String()); i != none && i < inv.parties.n && !x.Stranger {
		out.party = *inv.parties.at(i)
	} else {
		out.party = newParty()
		if d := inv.domains.find(inv.text, x.Address.Domain().String()); d != none {
			out.party.domain = d
		}
	}
	if x.Record && out.party.flags&hasRecord == 0 {
		out.party.flags, out.party.since, out.party.accepted, out.party.terms = hasRecord, moment.Always, moment.Always, moment.Never
	}
	for _, g := range x.Grants {
		r, err := resource(g.Resource)
		if err != nil {
			return nil, err
		}
		out.grants = append(out.grants, out.beside.supposed(g.From, g.Until, r, g.Role))
	}
	out.own = len(out.grants)
	// Whoever was removed before the asked moment begins with nothing but this.
	out.anew = newParty()
	out.anew.domain = out.party.domain
	if x.Record {
		out.anew.flags, out.anew.since, out.anew.accepted, out.anew.terms = hasRecord, moment.Always, moment.Always, moment.Never
	}
	for _, id := range x.Groups {
		g := inv.groupIDs.find(inv.text, id)
		if g == none || !inv.groups.at(g).exists {
			return nil, &WrongUse{"group", id, "there is no such group"}
		}
		out.groups = append(out.groups, g)
		out.grants = append(out.grants, inv.given(inv.groups.at(g).grants)...)
	}
	out.began = moment.Never
	for k := range out.grants {
		out.began = min(out.began, out.grants[k].begin(&out.beside))
	}
	s.supposeDates(out)
	return out, nil
}

// supposeDates finds what the dates of a record come to with what would be
// given besides: its last grant is another. A record that would be suspended
// after its last grant is not, if another one is given in time.
func (s *Snapshot) supposeDates(x *Supposed) {
	inv := &s.inv
	i := inv.addresses.find(inv.text, x.address.String())
	if i == none || i >= inv.parties.n || len(x.grants) == 0 || x.stranger {
		return
	}
	q := s.Sequences()
	if !q.load(i) {
		return
	}
	_, of := q.loadRecord(i)
	first := len(q.rec.Held)
	for k := range x.grants {
		var h dated.Held
		q.fill(&h, &x.grants[k], &x.beside, of, k < x.own)
		q.rec.Held = append(q.rec.Held, h)
	}
	if inv.parties.at(i).out > x.began { // a new grant wakes nobody
		f := q.rec.Fate()
		x.party.out, x.party.gone = f.Out, f.Gone
	}
	for k := range x.own {
		if end, cause := q.rec.End(&q.rec.Held[first+k]); cause == dated.ByReview {
			x.beside.supposeSilent(&x.grants[k], secondsUp(end))
		}
	}
}

// WouldLine is what would become of one thing a party may try. It is shown as
// what would open, what would be otherwise and what stays closed.
type WouldLine struct {
	ReachLine
	Was        bool                // yes as things are
	WasBecause catalogue.Condition // the conditions of that yes
	To         addr.Address        // with actions about somebody else: to whom it was tried
}

// Change says what the line would change: opened, otherwise (a yes with other
// conditions), open (as it is), closed.
func (l *WouldLine) Change() string {
	switch {
	case l.Yes && !l.Was:
		return "opened"
	case l.Yes && l.Conditions != l.WasBecause:
		return "otherwise"
	case l.Yes:
		return "open"
	}
	return "closed"
}

// Would lists everything that somebody could do if x were given, and what they
// still could not, each against how it is now. What passes something on is
// tried towards somebody at the party's own domain. An error is a *WrongUse.
//
// The question before an invitation: what does this open, exactly? It is a
// reach that is asked twice, and costs as much.
func (s *Snapshot) Would(x Suppose, at moment.Moment) ([]WouldLine, Kind, error) {
	with, err := s.Supposing(x)
	if err != nil {
		return nil, 0, err
	}
	who := Who{Address: x.Address}
	if x.Link != nil {
		who = Who{Kind: ByLinkID, ID: x.Link.ID}
	}
	var out []WouldLine
	kind, err := s.each(who, at, with, true, func(q *Question, name string) error {
		l, err := s.tried(q, name)
		if err != nil {
			return err
		}
		w := WouldLine{ReachLine: l, To: q.Address}
		// A link to one file changes nothing about meetings.
		if x.Link != nil && !q.Resource.Kind.IsItem() { // what any link's holder can do
			w.Was, w.WasBecause = l.Yes, l.Conditions
		} else if x.Link == nil {
			was := *q
			was.With = nil
			v, err := s.Decide(&was)
			if err != nil {
				return err
			}
			w.Was, w.WasBecause = v.Yes, v.Conditions
		}
		if together(q) {
			for i := range out {
				if o := &out[i]; o.Action == w.Action && o.Was == w.Was && o.WasBecause == w.WasBecause && o.alike(&w.ReachLine) {
					o.Count++
					o.Resource.ID, o.Name = "*", ""
					return nil
				}
			}
		}
		out = append(out, w)
		return nil
	})
	return out, kind, err
}

// together reports whether lines like this one are counted together where they
// are alike: those on people and meetings are, those on items and spaces not.
//
// People and meetings come by the hundred; files that somebody was given are
// worth a line each.
func together(q *Question) bool {
	k := q.Resource.Kind
	return q.Action.Get().Spread == catalogue.Wide && !k.IsItem() && k != catalogue.Space
}

// Context says where a value is looked for. All of it may be left out; the rule
// is then told as the organisation has it.
type Context struct {
	Party    string         // an address or *@domain; empty for nobody in particular
	Person   string         // of ours, whom the action would be about; or empty
	Resource world.Resource // a space, item or meeting; or zero
	At       moment.Moment
}

// NoResource stands in a Context where no resource is meant.
var NoResource = world.Resource{Kind: catalogue.OurDirectory}

// ChainOf tells how the value of a rule is found in a context: what each layer
// says, and which decides (model §3). An error is a *WrongUse. It shows whoever
// changes a rule where it comes from, without a question about anybody.
func (s *Snapshot) ChainOf(r catalogue.RuleID, c Context) (*Chain, error) {
	var a asker
	q := Question{Resource: c.Resource, At: c.At}
	a.s, a.q, a.at = s, &q, c.At
	a.act = &catalogue.Action{Name: r.String(), On: []catalogue.ResourceKind{c.Resource.Kind}, MeetingDoor: true}
	a.person, a.space, a.near, a.aboutWhom, a.presenter, a.target = none, none, none, none, none, none
	in := about{person: none, space: none, near: none}
	if c.Resource.ID != "" {
		a.resourceHash = s.inv.hashOf(c.Resource.ID)
		if err := a.findResource(); err != nil {
			return nil, err
		}
		in.space, in.near = a.space, a.near
	}
	if c.Party != "" {
		x, err := addr.Parse(c.Party)
		if err != nil {
			return nil, &WrongUse{"party", c.Party, err.Error()}
		}
		a.look(&a.party, x, s.inv.hashOf(x.String()))
		in.party = &a.party
	}
	if c.Person != "" {
		i := s.inv.personIDs.find(s.inv.text, c.Person)
		if i == none || !s.inv.people.at(i).exists {
			return nil, &WrongUse{"person", c.Person, "there is no such person"}
		}
		in.person = i
	}
	chain := &Chain{}
	a.value(r, &in, chain)
	return chain, nil
}

// WhoRaises says who can raise what a layer of the chain says: administrator,
// or the owner of the space or item. Whoever set it: an owner at their space or
// item, a host at their meeting.
func (s *Snapshot) WhoRaises(l LayerName, r world.Resource) string {
	if l == SpaceLayer || l == ItemLayer {
		inv := &s.inv
		switch {
		case r.Kind == catalogue.Meeting:
			if i := inv.meetingIDs.find(inv.text, r.ID); i != none {
				return "owner:" + inv.personIDs.text(inv.text, inv.meetings.at(i).host)
			}
		default:
			id := r.ID
			if r.Kind.IsItem() {
				id = s.SpaceOf(r.ID)
			}
			if i := inv.spaceIDs.find(inv.text, id); i != none {
				if sp := inv.spaces.at(i); sp.owners.n > 0 {
					return "owner:" + inv.personIDs.text(inv.text, inv.lists[sp.owners.off])
				}
			}
		}
	}
	return "administrator"
}
