package engine

import (
	"fmt"
	"sort"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Newcomer is somebody that nobody knows yet: typical of those like them. A
// newcomer from a partner says what anybody there could do who is not known
// yet: an answer about thousands of people in one line. It is written *@domain
// in questions and answers.
type Newcomer struct {
	Who     Who
	Name    string
	Partner string // id; empty where there is none
	Named   string // by what it is named, where it is not typical of anybody else
}

// Newcomers lists typical newcomers (model §7): one for every domain of a
// partner, an unlisted firm, a private address and, as far as there is a link
// to stand for them, somebody without any account. They are in the order of the
// partners' ids, the others behind them.
//
// The unlisted firm needs a domain that no partner, bar or list of ours names,
// so names are tried until one is free. Whoever has no account at all is stood
// for by a bearer link.
func (s *Snapshot) Newcomers() (out []Newcomer) {
	p := s.Policy()
	for i := range p.Partners {
		x := &p.Partners[i]
		for _, d := range x.Domains {
			out = append(out, Newcomer{Who: Who{Address: addr.Newcomer(d.Domain)}, Name: "a newcomer from " + x.Name, Partner: x.ID})
		}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].Partner < out[j].Partner })
	for n := 0; ; n++ {
		d, err := addr.ParseDomain(fmt.Sprintf("unlisted-firm%s.example", map[bool]string{true: "", false: fmt.Sprint(n)}[n == 0]))
		if err != nil {
			break
		}
		if m := s.Match(addr.Newcomer(d)); m.Bar == nil && m.Partner == nil && !m.Own && !m.Private {
			out = append(out, Newcomer{Who: Who{Address: addr.Newcomer(d)}, Name: "a newcomer from an unlisted firm"})
			break
		}
	}
	if len(p.Personal) > 0 {
		out = append(out, Newcomer{Who: Who{Address: addr.Newcomer(p.Personal[0].Domain)}, Name: "a private newcomer"})
	}
	for i := uint32(0); i < s.inv.links.n; i++ {
		if l := s.inv.links.at(i); l.exists && l.bearer {
			return append(
				out,
				Newcomer{Who: Who{Kind: ByLinkID, ID: s.inv.linkIDs.text(s.inv.text, i)}, Name: "somebody without an account"},
			)
		}
	}
	return
}

// Reached is one thing that somebody outside can do with one resource.
type Reached struct {
	Who        Who
	Name       string
	Kind       Kind
	Partner    string // id; empty where there is none
	Newcomer   bool   // a typical newcomer, not somebody known
	Action     catalogue.ActionID
	Resource   world.Resource
	Title      string // name of the resource
	Account    Account
	Conditions catalogue.Condition
	Cause      Cause         // what gives it
	Since      moment.Moment // Always where it always was
	Until      moment.Moment // Never where nothing ends it
	Residual   bool          // no gate of a partner stops it: whoever holds a link, a meeting for anyone
}

// Spell finds since when and until when an answer is what it is, as far as the
// present policy and inventory tell: the moments at which a grant, a link, an
// exception, a stance or the state of a record changes anything are asked. yes
// is the answer at the asked moment; Always and Never stand for no turn.
//
// It asks at each such moment, and walks from the asked one to both sides until
// the answer differs. Policy has no history here: a rule that was changed last
// week counts as if it had always been so. Since when by the journal is another
// question, which the service answers.
func (s *Snapshot) Spell(q *Question, yes bool) (since, until moment.Moment) {
	var a asker
	since, until = moment.Always, moment.Never
	if err := a.resolve(s, q); err != nil {
		return
	}
	inv := &s.inv
	var ms []moment.Moment
	// Moments that are not set, and the beginning of time, are no turns.
	add := func(list ...moment.Moment) {
		for _, m := range list {
			if m.IsSet() && m != 0 {
				ms = append(ms, m)
			}
		}
	}
	// The moments of one address: its record, what it and its groups were
	// given, what its partner holds and says.
	of := func(o *outside) {
		p := o.known
		// look leaves out a record that is gone; its dates still tell when it
		// ended.
		if o.index != none && o.index < inv.parties.n && !o.supposed {
			p = inv.parties.at(o.index)
		}
		if p != nil {
			add(p.since, p.accepted, p.out, p.gone, p.terms, s.pol.termsSince)
			for _, g := range inv.given(p.grants) {
				add(g.begin(&inv.beside), g.end(&inv.beside))
			}
			for _, gr := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				for _, g := range inv.given(inv.groups.at(gr).grants) {
					add(g.begin(&inv.beside), g.end(&inv.beside))
				}
			}
		}
		inv.heldByMany(o.partner, a.domainOf(o), func(_ partyRef, given []grant) {
			for i := range given {
				add(given[i].begin(&inv.beside), given[i].end(&inv.beside))
			}
		})
		if o.partner != none {
			rest := &s.pol.rest[o.partner]
			add(rest.endedAt)
			for k := range rest.stance {
				add(rest.stance[k].expires)
			}
		}
	}
	of(&a.party)
	of(&a.other)
	if a.held != nil {
		add(a.held.created, a.held.until)
	}
	for _, p := range [2]uint32{a.aboutWhom, a.presenter} {
		if p < uint32(len(s.pol.concerned)) && s.pol.concerned[p] {
			for i := range s.pol.except {
				add(s.pol.except[i].from, s.pol.except[i].until)
			}
			break
		}
	}
	// A cause carries the moment at which it ends, where it has one.
	if x, err := s.Explain(q); err == nil { // ends that follow from a rule, as that of a link
		for _, acc := range x.Accounts {
			for g := range acc.Gates {
				for i := range acc.Gates[g].Causes {
					add(acc.Gates[g].Causes[i].When)
				}
			}
		}
	}
	sort.Slice(ms, func(i, j int) bool { return ms[i] < ms[j] })
	at := func(m moment.Moment) bool {
		probe := *q
		probe.At = m
		v, err := s.Decide(&probe)
		return err == nil && v.Yes
	}
	// The first turn after the asked moment.
	next := sort.Search(len(ms), func(i int) bool { return ms[i] > q.At })
	for i := next; i < len(ms); i++ {
		if (i == next || ms[i] != ms[i-1]) && at(ms[i]) != yes {
			until = ms[i]
			break
		}
	}
	for i := next - 1; i >= 0; i-- {
		// Just before the turn; a moment is a microsecond.
		if at(ms[i]-1) != yes {
			since = ms[i]
			break
		}
	}
	return
}

// Complete says of a line of an audience through what it is so, since when and
// until when. It explains, which costs ten times a decision. So it is asked for
// lines that somebody looks at: a page of a hundred, and not an audience of
// forty thousand.
func (s *Snapshot) Complete(x *Reached, at moment.Moment) error {
	q := Question{Subject: x.Who, Action: x.Action, Resource: x.Resource, At: at}
	a, err := s.Explain(&q)
	if err != nil {
		return err
	}
	x.Cause = *a.DecidingCause()
	x.Since, x.Until = s.Spell(&q, true)
	return nil
}

// Audience calls found for everything that somebody outside can do with a
// resource, without its cause and spell, which Complete adds; with all, of a
// space also with everything in it. only, where not nil, picks actions. It stops
// at the first error of found. An error of its own is a *WrongUse.
//
// Actions that need only a role are asked of those who hold something there,
// found through the index: each line of them was decided, and what the index
// and the masks tell beforehand only leaves out who cannot. The others are asked
// of one of each sort of those who are known (see wideAudience). Lines come
// resource by resource, and party by party where nobody can hold anything: about
// a person, a calendar or the directory. found must not keep what it is handed.
func (s *Snapshot) Audience(
	r world.Resource,
	all bool,
	only func(*catalogue.Action) bool,
	at moment.Moment,
	found func(*Reached) error,
) error {
	inv := &s.inv
	name := s.NameOf(r)
	space := uint32(none)
	switch {
	case r.Kind == catalogue.Space:
		if i := inv.spaceIDs.find(inv.text, r.ID); i != none && inv.spaces.at(i).exists {
			space = i
		} else {
			return &WrongUse{"resource", r.String(), "there is no such space"}
		}
	case r.Kind == catalogue.Meeting:
		i := inv.meetingIDs.find(inv.text, r.ID)
		if i == none || !inv.meetings.at(i).exists {
			return &WrongUse{"resource", r.String(), "there is no such meeting"}
		}
		space = inv.meetings.at(i).space
	case r.Kind.IsItem():
		i := inv.itemIDs.find(inv.text, r.ID)
		if i == none || !inv.items.at(i).exists || inv.items.at(i).kind != r.Kind {
			return &WrongUse{"resource", r.String(), "there is no such " + r.Kind.String()}
		}
		space = inv.items.at(i).space
	case r.Kind == catalogue.OurDirectory:
	default:
		if i := inv.personIDs.find(inv.text, r.ID); i == none || !inv.people.at(i).exists {
			return &WrongUse{"resource", r.String(), "there is no such person"}
		}
	}
	targets := []Named{{Value: r.String(), Name: name}}
	resources := []world.Resource{r}
	if all && r.Kind == catalogue.Space {
		rev := s.indexed()
		for _, x := range rev.items.of(space) {
			i, it := x.index, inv.items.at(x.index)
			resources, targets = append(
				resources,
				world.Resource{Kind: it.kind, ID: inv.itemIDs.text(inv.text, i)},
			), append(
				targets,
				Named{Name: inv.text.text(it.name)},
			)
		}
		for _, i := range rev.meetings.of(space) {
			resources, targets = append(
				resources,
				world.Resource{Kind: catalogue.Meeting, ID: inv.meetingIDs.text(inv.text, i)},
			), append(
				targets,
				Named{Name: inv.text.text(inv.meetings.at(i).name)},
			)
		}
	}
	newcomers := s.NewcomersAt(at)
	tally := s.Tally(at)
	var to *everybody // made when somebody is asked what needs no role
	// may is what a quick look at grants and rules left standing; each is then
	// decided for certain.
	type holder struct {
		who uint32
		may Actions
	}
	var holders []holder
	for k, r := range resources {
		holders = holders[:0]
		if space != none {
			if _, err := tally.Candidates(r, func(i uint32, g Granting) { holders = append(holders, holder{i, g.All()}) }); err != nil {
				return err
			}
		}
		for _, act := range catalogue.Actions() {
			if !act.Takes(r.Kind) || act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil ||
				act.AreaOnly && inv.spaces.at(space).kind != world.ReportArea ||
				only != nil && !only(&act) {
				continue
			}
			rows := act.Rows(r.Kind)
			try := func(who Who, n *Newcomer) error {
				q := Question{Subject: who, Action: act.ID, Resource: r, At: at}
				v, err := s.Decide(&q)
				if err != nil || !v.Yes {
					return err
				}
				out := Reached{
					Who:        who,
					Kind:       v.Kind,
					Action:     act.ID,
					Resource:   r,
					Title:      targets[k].Name,
					Account:    v.Account,
					Conditions: v.Conditions,
					Newcomer:   n != nil,
					Residual:   v.Account == LinkAccount,
				}
				switch {
				case n != nil:
					out.Name, out.Partner = n.Name, n.Partner
				default:
					out.Name = s.NameOfSubject(who)
				}
				if who.Kind == ByAddress {
					if m := s.Match(who.Address); m.Partner != nil {
						out.Partner = m.Partner.ID
						if m.Bar != nil || m.Partner.Standing != world.Active {
							out.Residual = true
						}
					}
				}
				return found(&out)
			}
			byRole := roleOnly(rows)
			// A person or calendar is in no space, and nobody holds a role on
			// them.
			if byRole && space != none {
				for _, h := range holders {
					if h.may.Has(act.ID) {
						if err := try(Who{Address: s.addressOf(h.who)}, nil); err != nil {
							return err
						}
					}
				}
			}
			// Links are asked by themselves: they are nobody's.
			if rows[catalogue.Bearer] != nil && space != none && r.Kind.IsItem() {
				for _, l := range s.indexed().links.of(space) {
					if id := inv.itemIDs.text(inv.text, inv.links.at(l).item); id == r.ID {
						if err := try(Who{Kind: ByLinkID, ID: inv.linkIDs.text(inv.text, l)}, nil); err != nil {
							return err
						}
					}
				}
			}
			// A newcomer holds nothing, unless their partner or domain does as
			// a whole.
			if byRole && space != none && len(inv.many) > 0 && rows[catalogue.Federated] != nil {
				for i := range newcomers {
					if r.Kind.IsItem() && newcomers[i].Who.Kind == ByLinkID {
						continue
					}
					if err := try(newcomers[i].Who, &newcomers[i]); err != nil {
						return err
					}
				}
			}
		}
		wide := wideAbout(r.Kind, r.Kind == catalogue.Space && inv.spaces.at(space).kind == world.ReportArea, only)
		if len(wide) == 0 {
			continue
		}
		if to == nil {
			to = s.toEverybody(at)
		}
		if err := s.newWideAudience(r, wide, to, at).each(newcomers, func(x *Reached) error {
			x.Title = targets[k].Name
			return found(x)
		}); err != nil {
			return err
		}
	}
	return nil
}

// roleOnly reports whether every account that an action knows needs a role or a
// link on what it is about. Then nobody has to be asked who holds nothing,
// which is what makes an audience cheap.
func roleOnly(rows *[catalogue.NumClasses]*catalogue.Ask) bool {
	for c := catalogue.Record; c < catalogue.NumClasses; c++ {
		if a := rows[c]; a != nil && a.Holding != catalogue.ByRole && a.Holding != catalogue.ByLink {
			return false
		}
	}
	return true
}

// addressOf returns the address of a party by its index.
func (s *Snapshot) addressOf(i uint32) addr.Address { return s.inv.address(i) }

// address does the same; names are kept in normal form and not parsed again.
func (v *inventory) address(i uint32) addr.Address { return addr.Normal(v.addressText(i)) }

// WorkingLinks lists the bearer links that open something at a moment: they
// work for whoever holds them, also for those whom every gate refuses.
func (s *Snapshot) WorkingLinks(at moment.Moment) (ids []string) {
	inv := &s.inv
	open, _ := catalogue.ActionByName("files.open")
	for i := uint32(0); i < inv.links.n; i++ {
		l := inv.links.at(i)
		if !l.exists || !l.bearer || !moment.Within(at, l.created, l.until) || !inv.items.at(l.item).exists {
			continue
		}
		id := inv.linkIDs.text(inv.text, i)
		q := Question{
			Subject:  Who{Kind: ByLinkID, ID: id},
			Action:   open.ID,
			Resource: world.Resource{Kind: inv.items.at(l.item).kind, ID: inv.itemIDs.text(inv.text, l.item)},
			At:       at,
		}
		if v, err := s.Decide(&q); err == nil && v.Yes {
			ids = append(ids, id)
		}
	}
	return
}
