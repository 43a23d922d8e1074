package engine

import (
	"fmt"
	"slices"
	"sort"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Audience: everybody who may do something with one thing. It is a reach asked
// the other way round, and needs lists the other way round: from a space to who
// was ever given something in it (index), from a person to those like them
// (reverse). Both are made when they are first asked for.
//
// Typical newcomers are here, too: whoever nobody knows yet is part of an
// audience, and the part that is most often forgotten.

// index finds who was given something in a space, and what is in it. It is made
// when a snapshot is first asked that way round, and goes on to the next
// snapshots until something of it changes.
//
// Whom a grant belongs to is how an inventory is kept; who has a grant on this
// is what an audience asks. The lists turn it around. At 100,000 guests and
// 1,000,000 grants they are made in a tenth of a second and take four bytes an
// entry.
//
// parties holds whoever was *ever* given something there: what is over is
// sorted out when it is asked, since a moment is part of every question.
type index struct {
	once     sync.Once
	items    lists[inside] // by space
	meetings lists[uint32] // by space
	parties  lists[uint32] // by space: addresses that were ever given something in it, groups and named links included
	links    lists[uint32] // by space: bearer links

	in              []contents // by space
	special         []special
	atSpace, atItem []words // by row
}

// inside is an item of a space; plain where it is neither private nor sets
// values.
type inside struct {
	index uint32
	kind  catalogue.ResourceKind
	plain bool
}

// lists holds many short lists one behind the other. ends[i] is where list i
// ends in all; it begins where the one before ends. Slices of slices would take
// 24 bytes each and leave work to the garbage collector.
type lists[T any] struct {
	ends []uint32
	all  []T
}

// of returns list i; none where there is no such list.
func (l *lists[T]) of(i uint32) []T {
	switch {
	case i >= uint32(len(l.ends)):
		return nil
	case i == 0:
		return l.all[:l.ends[0]]
	}
	return l.all[l.ends[i-1]:l.ends[i]]
}

// fillLists makes n lists of what each calls its argument with, in that order.
// each is called twice and must tell the same both times: first the entries are
// counted, then placed.
func fillLists[T any](n uint32, each func(add func(list uint32, x T))) (l lists[T]) {
	l.ends = make([]uint32, n)
	total := uint32(0)
	each(func(i uint32, _ T) {
		if i < n {
			l.ends[i]++
			total++
		}
	})
	l.all = make([]T, total)
	at := uint32(0)
	for i := range l.ends {
		at, l.ends[i] = at+l.ends[i], at
	}
	each(func(i uint32, x T) {
		if i < n {
			l.all[l.ends[i]] = x
			l.ends[i]++
		}
	})
	return
}

// reverse is what else is asked the other way round; it belongs to one
// snapshot, since all of it rests on policy. Everything in it is made at once,
// when the first of it is asked, and lives as long as the snapshot.
type reverse struct {
	once  sync.Once
	sides atomic.Pointer[sides]

	alike     [][]uint32          // people whom the same exceptions name, in the same way
	alikeOf   []int               // by person: its place in alike; -1 where there is none
	inGroup   [][]uint32          // people by group
	contacts  map[uint32][]uint32 // people by the party that they are in contact with
	doors     [][]uint32          // meetings whose doors are alike for whoever holds nothing there
	doorOf    []int               // by meeting: its place in doors
	courses   []uint32            // that anybody may try to join
	excepted  [][]uint32          // by exception: people of ours whom it is about
	newcomers []Newcomer
	named     []Newcomer // apart from those: whom exceptions, spaces and meetings name
}

// door is what tells the doors of meetings apart for somebody who holds nothing
// in their spaces.
//
// Two meetings with equal doors give the same answer to everybody who has no
// role in their spaces, so one of them is asked for all. It compares with ==.
type door struct {
	shut                   bool // it admits by lists alone, and they are empty
	rules, held            uint32
	standingRoom, passcode bool
	domains                list
	host                   uint32 // where an exception names it
	spaceRules, spaceHeld  uint32
	parties                list
	anyParty, bound        bool
}

// concerning writes which exceptions name a person of ours: the person's own
// first, then those of each group that has any. counts leaves others out; nil
// takes all. Two people with one text get the same answer from every rule of
// which only those exceptions speak.
func (s *Snapshot) concerning(person uint32, counts func(*exception) bool) (key string) {
	if int(person) >= len(s.pol.concerned) || !s.pol.concerned[person] {
		return ""
	}
	say := func(how string, list []int32) {
		if counts != nil {
			list = slices.DeleteFunc(slices.Clone(list), func(i int32) bool { return !counts(&s.pol.except[i]) })
		}
		if len(list) > 0 {
			key += fmt.Sprint(how, list)
		}
	}
	say("own ", s.pol.byPerson[person])
	l := s.inv.people.at(person).groups
	for _, g := range s.inv.lists[l.off : l.off+l.n] {
		if g < uint32(len(s.pol.byGroup)) {
			say(" ", s.pol.byGroup[g])
		}
	}
	return key
}

// others finds people and meetings that are alike. People are alike whom the
// same exceptions name, themselves or through groups. Most are named by none,
// and form one class. It costs a pass over people, spaces and meetings.
func (r *reverse) others(s *Snapshot) {
	inv := &s.inv
	r.inGroup, r.contacts = make([][]uint32, inv.groups.n), map[uint32][]uint32{}
	classes := map[string]int{}
	r.alikeOf = make([]int, inv.people.n)
	for i := uint32(0); i < inv.people.n; i++ {
		p := inv.people.at(i)
		if r.alikeOf[i] = -1; !p.exists {
			continue
		}
		key := s.concerning(i, nil)
		k, ok := classes[key]
		if !ok {
			k = len(r.alike)
			classes[key] = k
			r.alike = append(r.alike, nil)
		}
		r.alike[k] = append(r.alike[k], i)
		r.alikeOf[i] = k
		for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
			if g < inv.groups.n {
				r.inGroup[g] = append(r.inGroup[g], i)
			}
		}
		for _, c := range inv.lists[p.contacts.off : p.contacts.off+p.contacts.n] {
			r.contacts[c] = append(r.contacts[c], i)
		}
	}
	for i := uint32(0); i < inv.spaces.n; i++ {
		if sp := inv.spaces.at(i); sp.exists && sp.takesJoiners() {
			r.courses = append(r.courses, i)
		}
	}
	r.doorOf = make([]int, inv.meetings.n)
	at := map[door]int{}
	for i := uint32(0); i < inv.meetings.n; i++ {
		m := inv.meetings.at(i)
		if !m.exists {
			continue
		}
		// Where no list of domains counts, all meetings without domains are
		// alike, wherever their empty stretch begins.
		d := door{rules: m.rules, held: m.held, standingRoom: m.standingRoom, passcode: m.passcode, domains: m.domains, host: none,
			shut: m.lists.n > 0 && m.domains.n == 0}
		if m.domains.n == 0 {
			d.domains = list{}
		}
		if int(m.host) < len(s.pol.concerned) && s.pol.concerned[m.host] {
			d.host = m.host
		}
		if m.space != none {
			sp := inv.spaces.at(m.space)
			d.bound, d.spaceRules, d.spaceHeld, d.anyParty = true, sp.rules, sp.held, sp.anyParty
			if !sp.anyParty {
				d.parties = sp.parties
			}
		}
		k, ok := at[d]
		if !ok {
			k = len(r.doors)
			at[d] = k
			r.doors = append(r.doors, nil)
		}
		r.doors[k] = append(r.doors[k], i)
		r.doorOf[i] = k
	}
	r.excepted = s.exceptedPeople()
	r.newcomers = s.Newcomers()
	r.named = s.namedNewcomers(r.newcomers)
}

// indexed returns the index, made when it is first asked for.
func (s *Snapshot) indexed() *index {
	s.idx.once.Do(func() { s.idx.make(&s.inv) })
	return s.idx
}

// make builds the lists that lead from a space to what is in it and to who
// holds something there. Of groups the members are put into the lists of what
// the group holds: an audience asks people, and not groups.
func (r *index) make(inv *inventory) {
	n := inv.spaces.n
	r.items = fillLists(n, func(add func(uint32, inside)) {
		for i := uint32(0); i < inv.items.n; i++ {
			if it := inv.items.at(i); it.exists {
				add(it.space, inside{i, it.kind, !it.private && it.rules == none})
			}
		}
	})
	r.meetings = fillLists(n, func(add func(uint32, uint32)) {
		for i := uint32(0); i < inv.meetings.n; i++ {
			if m := inv.meetings.at(i); m.exists {
				add(m.space, i)
			}
		}
	})
	r.links = fillLists(n, func(add func(uint32, uint32)) {
		for i := uint32(0); i < inv.links.n; i++ {
			if l := inv.links.at(i); l.exists && l.bearer {
				add(inv.items.at(l.item).space, i)
			}
		}
	})
	// Many hold several things in one space; each party is to stand in its list
	// once.
	last := make([]uint32, n) // 1 + the party that was added to a space last
	r.parties = fillLists(n, func(add func(uint32, uint32)) {
		clear(last)
		for i := uint32(0); i < inv.parties.n; i++ {
			p := inv.parties.at(i)
			of := func(given []grant) {
				for k := range given {
					sp := given[k].resource
					if sp&itemBit != 0 {
						sp = inv.items.at(sp &^ itemBit).space
					}
					if sp < n && last[sp] != i+1 {
						last[sp] = i + 1
						add(sp, i)
					}
				}
			}
			of(inv.given(p.grants))
			for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				of(inv.given(inv.groups.at(g).grants))
			}
		}
	})
	r.fill(inv)
}

// reversed returns what else is asked the other way round, made when it is
// first asked for.
func (s *Snapshot) reversed() *reverse {
	r := &s.rev
	r.once.Do(func() { r.others(s) })
	return r
}

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
				add(g.from, g.end())
			}
			for _, gr := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				for _, g := range inv.given(inv.groups.at(gr).grants) {
					add(g.from, g.end())
				}
			}
		}
		inv.heldByMany(o.partner, a.domainOf(o), func(_ partyRef, given []grant) {
			for i := range given {
				add(given[i].from, given[i].end())
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
// space also with everything in it. Typical newcomers come last. only, where
// not nil, picks actions. It stops at the first error of found. An error of its
// own is a *WrongUse.
//
// Actions that need only a role are asked of those who hold something there,
// found through the index; the others of everybody who is known. Lines come
// resource by resource and action by action. Each line was decided: what the
// index and the masks tell beforehand only leaves out who cannot.
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
			switch {
			// A person or calendar is in no space, and nobody holds a role on
			// them.
			case byRole && space != none:
				for _, h := range holders {
					if h.may.Has(act.ID) {
						if err := try(Who{Address: s.addressOf(h.who)}, nil); err != nil {
							return err
						}
					}
				}
			case !byRole:
				for i := uint32(0); i < inv.parties.n; i++ {
					if s.isCounted(i, at) {
						if err := try(Who{Address: s.addressOf(i)}, nil); err != nil {
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
			if !byRole || space != none && len(inv.many) > 0 && rows[catalogue.Federated] != nil {
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
