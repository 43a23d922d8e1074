package native

import (
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Lists of domains of single people: where a system gives people sets of their
// own and a list stands in them, whoever has an exception to its rule has a
// list of their own, in entire. It may name addresses besides domains.
//
// Both ways are here. personal writes the list that comes to what a person's
// exceptions say; overlayPeople makes exceptions of a list that was found. The
// second is the harder one: a list may say of each name what it likes, and an
// exception says a level. Where no level says just that, the result lies on the
// side that is wanted: loosest to find what is open there, tightest to find
// what is closed.

// Lists of domains of single people: where a system gives people sets of their
// own and a list stands in them, whoever has an exception to its rule has a
// list of their own, in entire. It may name addresses besides domains.

// apart reports whether what an exception says of a board's rule is written as
// lists of its people.
func (m *Meant) apart(d *Dialect, b *Board, e *world.Exception) bool {
	return b != nil && b.Charter && d.gives(ToPeople) && m.People != nil && len(e.People)+len(e.Groups) > 0
}

// saysOf finds the tightest that a list says of a rule. some is false where the
// exception does not say it.
func saysOf(e *world.Exception, r *catalogue.Rule) (catalogue.Value, bool) {
	return tightestOf(e.Rules, r)
}

// levelTowards is what the exceptions of somebody come to towards a party: the
// tightest of their own, else of their groups', else what counts in general
// (model.md §5). meant tells which exceptions are meant for the party.
func levelTowards(own, group []*world.Exception, r *catalogue.Rule, general catalogue.Value,
	meant func(*world.Exception) bool) catalogue.Value {
	for _, list := range [][]*world.Exception{own, group} {
		v, some := catalogue.Value(0), false
		for _, e := range list {
			if of, ok := saysOf(e, r); ok && meant(e) {
				if !some {
					v = of
				}
				v, some = r.Scale.Tighter(v, of), true
			}
		}
		if some {
			return v
		}
	}
	return general
}

// towards is somebody elsewhere whom exceptions name. Either a domain (with or
// without those below) or a single address.
type towards struct {
	entry   world.Entry
	address addr.Address
	partner *world.Partner
}

// names are those under which they stand in a list.
func (t *towards) names() []string {
	if !t.address.IsZero() {
		return []string{t.address.String()}
	}
	return entryNames(t.entry)
}

// admits says whether a level lets a party through. Bars first, then the level,
// as gate 2 has it.
func (m *Meant) admits(b *Board, level catalogue.Value, t *towards) bool {
	opened, active := world.OpenUnset, true
	if t.partner != nil {
		opened, active = b.opened(t.partner), m.active(t.partner)
	}
	dom := t.entry.Domain
	if !t.address.IsZero() {
		dom = t.address.Domain()
	}
	for i := range m.Policy.Barred {
		x := &m.Policy.Barred[i]
		switch {
		case !x.Address.IsZero():
			if x.Address == t.address {
				return false
			}
		case takes(x.Entry, dom), t.address.IsZero() && t.entry.Subdomains && strings.HasSuffix(x.Entry.Domain.String(), "."+dom.String()):
			return false
		}
	}
	switch level {
	case listed:
		return active && opened == world.OpenYes
	case anyone:
		return active && opened != world.OpenNo
	}
	return false
}

// takes reports whether an entry takes a domain along.
func takes(e world.Entry, d addr.Domain) bool {
	return e.Domain == d || e.Subdomains && strings.HasSuffix(d.String(), "."+e.Domain.String())
}

// partnerOf finds the partner whose domain it is: the one with the longest
// entry. Nil where it is nobody's.
func partnerOf(w *world.World, d addr.Domain) *world.Partner {
	var found *world.Partner
	longest := -1
	for i := range w.Partners {
		for _, e := range w.Partners[i].Domains {
			if n := len(e.Domain.String()); takes(e, d) && n > longest {
				found, longest = &w.Partners[i], n
			}
		}
	}
	return found
}

// named lists whom the exceptions of somebody name that a list can name too;
// all is false where they name others besides. Groups cannot stand in a list of
// domains.
func (m *Meant) named(lists ...[]*world.Exception) (out []towards, all bool) {
	all = true
	seen := map[string]bool{}
	add := func(t towards) {
		if key := t.names()[0]; !seen[key] {
			seen[key] = true
			out = append(out, t)
		}
	}
	for _, list := range lists {
		for _, e := range list {
			for _, ref := range e.Parties {
				switch {
				case ref.Partner != "":
					for i := range m.Policy.Partners {
						if p := &m.Policy.Partners[i]; p.ID == ref.Partner {
							for _, x := range p.Domains {
								add(towards{entry: x, partner: p})
							}
						}
					}
				case !ref.Domain.IsZero():
					add(towards{entry: world.Entry{Domain: ref.Domain}, partner: partnerOf(m.Policy, ref.Domain)})
				case !ref.Address.IsZero():
					add(towards{address: ref.Address, partner: partnerOf(m.Policy, ref.Address.Domain())})
				default:
					all = false
				}
			}
		}
	}
	depth := func(t *towards) int {
		if !t.address.IsZero() {
			return 1000
		}
		return strings.Count(t.entry.Domain.String(), ".")
	}
	// what is said of all of them comes before what is said of one
	slices.SortStableFunc(out, func(a, b towards) int { return depth(&a) - depth(&b) })
	return out, all
}

// means reports whether an exception is meant for a party.
func (t *towards) means(e *world.Exception) bool {
	return len(e.Parties) == 0 || slices.ContainsFunc(e.Parties, func(ref world.PartyRef) bool {
		switch {
		case ref.Partner != "":
			return t.partner != nil && t.partner.ID == ref.Partner
		case !ref.Domain.IsZero():
			return t.address.IsZero() && ref.Domain == t.entry.Domain || !t.address.IsZero() && ref.Domain == t.address.Domain()
		}
		return !t.address.IsZero() && ref.Address == t.address
	})
}

// personal writes the list of somebody with exceptions to its rule; ok is false
// where they have none. The list begins as it would for everybody with the
// person's own level, and each party that an exception names is then put on it
// or taken off.
func (d *Dialect) personal(m *Meant, b *Board, own, group []*world.Exception) (text string, ok bool) {
	r, _ := catalogue.RuleByName(b.Rule)
	said := func(list []*world.Exception) bool {
		return slices.ContainsFunc(list, func(e *world.Exception) bool { _, ok := saysOf(e, r); return ok })
	}
	if !said(own) && !said(group) {
		return "", false
	}
	limit, general := organisation(m.Policy, r)
	general = m.tightened(d, nil, b, r, general)
	level := func(v catalogue.Value) catalogue.Value { return r.Scale.Tighter(v, limit) }
	rest := level(levelTowards(own, group, r, general, func(e *world.Exception) bool { return len(e.Parties) == 0 }))
	parties, all := m.named(own, group)
	if !all { // towards some whom a list cannot name: for them it may be no looser
		for _, list := range [][]*world.Exception{own, group} {
			for _, e := range list {
				if v, ok := saysOf(e, r); ok && slices.ContainsFunc(e.Parties, func(p world.PartyRef) bool { return p.Group != "" }) {
					rest = r.Scale.Tighter(rest, v)
				}
			}
		}
	}
	mode, names, _ := ParseBoard(b.write(rest, m))
	drop := func(n string) { names = slices.DeleteFunc(names, func(x string) bool { return x == n }) }
	for i := range parties {
		t := &parties[i]
		lets := m.admits(b, min(level(levelTowards(own, group, r, general, t.means)), capped(all, rest)), t)
		for _, n := range t.names() {
			if !b.Single && strings.Contains(n, "@") && (lets || mode == b.But) { // it names no addresses
				if lets {
					continue
				}
				_, n, _ = strings.Cut(n, "@")
			}
			named := lets == (mode == b.Only) // it is to be as the list says of those on it
			drop(not + n)
			switch on := slices.ContainsFunc(names, func(x string) bool { return covers(x, n) }); {
			case named && !on:
				names = append(names, n)
			case !named && on:
				if drop(n); !slices.ContainsFunc(names, func(x string) bool { return covers(x, n) }) {
					break
				}
				if b.Single {
					names = append(names, not+n)
				} else if mode == b.Only {
					names = slices.DeleteFunc(names, func(x string) bool { return covers(x, n) })
				}
			}
		}
	}
	return boardText(mode, names), true
}

// capped is the loosest that somebody may be let through with: where exceptions
// name parties that a list cannot name, what counts for everybody else.
func capped(all bool, rest catalogue.Value) catalogue.Value {
	if all {
		return anyone
	}
	return rest
}

// covers reports whether a name of a list takes another along: the same, one
// above it with those below, the domain of an address.
func covers(x, name string) bool {
	if x == name {
		return true
	}
	if _, dom, is := strings.Cut(name, "@"); is {
		return covers(x, dom)
	}
	top, wide := strings.CutPrefix(x, "*.")
	return wide && strings.HasSuffix(strings.TrimPrefix(name, "*"), "."+top)
}

// overlayPeople gives people of ours what their lists mean: exceptions towards
// those for whom their list says otherwise than the general one. Where no level
// says just that, the loosest counts with most, else the tightest.
//
// Whatever policy is made of it answers as the lists do, as far as any policy
// can.
func (f *Found) overlayPeople(w *world.World, most bool, n Names) {
	if most { // who is shut out in general, and let through by somebody's list, is not shut out by an opening
		for i := range w.Partners {
			f.unshut(&w.Partners[i])
		}
	}
	for _, address := range sortedKeysOf(f.Personal) {
		id, ok := n.Person(address)
		if !ok {
			continue
		}
		byRule := map[string][]FoundBoard{}
		for _, b := range f.Personal[address] {
			byRule[b.Board.Rule] = append(byRule[b.Board.Rule], b)
		}
		for _, rule := range sortedKeysOf(byRule) {
			r, _ := catalogue.RuleByName(rule)
			f.overlayPerson(w, r, id, byRule[rule], most)
		}
	}
}

// unshut takes a partner's noes away that somebody's list does not know.
func (f *Found) unshut(p *world.Partner) {
	for _, list := range f.Personal {
		for i := range list {
			b := &list[i]
			if !b.letsSome(p) {
				continue
			}
			for _, name := range b.Board.Keys {
				if k, _ := catalogue.ParseKey(name); p.Opened[k] == world.OpenNo {
					p.Opened[k] = world.OpenUnset
				}
			}
		}
	}
}

// general is the list that counts for everybody; nil where it was not read.
func (f *Found) general(b *Board) *FoundBoard {
	for i := range f.Boards {
		if f.Boards[i].Board.Path == b.Path {
			return &f.Boards[i]
		}
	}
	return nil
}

// target is somebody elsewhere for whom lists say something.
type target struct {
	ref   world.PartyRef
	lets  []bool // one for each list
	level catalogue.Value
	plain bool // the general lists say the same
	open  func(*Board) world.Opening
	of    string // the partner whose domain or address it is
}

// holds reports whether what is said of one is said of the other too.
func (t *target) holds(x *target) bool {
	return t.ref.Partner != "" && x.of == t.ref.Partner ||
		!t.ref.Domain.IsZero() && !x.ref.Address.IsZero() && x.ref.Address.Domain() == t.ref.Domain
}

// overlayPerson makes exceptions of the lists of one person for one rule. A
// list can say of each name what it likes; an exception says a level, which
// opens by what partners are opened for. So for each party the level is picked
// that comes to the same, on the wanted side where none does.
func (f *Found) overlayPerson(w *world.World, r *catalogue.Rule, id string, own []FoundBoard, most bool) {
	add := func(level catalogue.Value, parties ...world.PartyRef) {
		w.Exceptions = append(w.Exceptions, world.Exception{
			ID: "found-" + id, People: []string{id}, Parties: parties, Rules: []world.Setting{{Rule: r.ID, Value: level}}, From: moment.Always,
			Until: moment.Never, Reason: "as it was found",
		})
	}
	// pick finds the level that lets through what the lists do, one for each of
	// them; exact is false where none does.
	pick := func(lets []bool, at func(b *Board, level catalogue.Value) bool) (level catalogue.Value, exact bool) {
		least, loosest := closed, anyone
		for _, v := range []catalogue.Value{closed, listed, anyone} {
			less, more := true, true // this level lets through no more, no less
			for i := range own {
				on := at(own[i].Board, v)
				less, more = less && (!on || lets[i]), more && (on || !lets[i])
			}
			if less && more {
				return v, true
			}
			if less {
				least = v
			}
			if more {
				loosest = min(loosest, v)
			}
		}
		if most {
			return loosest, false
		}
		return least, false
	}
	// Towards whoever is not named.
	rest, same := make([]bool, len(own)), true
	for i := range own {
		rest[i] = own[i].But
		if g := f.general(own[i].Board); g != nil && g.But != own[i].But {
			same = false
		}
	}
	level, _ := pick(rest, func(_ *Board, v catalogue.Value) bool { return v == anyone })
	var all []target
	for k := range w.Partners {
		p := &w.Partners[k]
		t := target{ref: world.PartyRef{Partner: p.ID}, plain: true, open: func(b *Board) world.Opening { return b.opened(p) }}
		for i := range own {
			on := own[i].lets(p, most)
			t.lets = append(t.lets, on)
			if g := f.general(own[i].Board); g != nil && g.lets(p, most) != on {
				t.plain = false
			}
		}
		all = append(all, t)
	}
	names := map[string]bool{} // besides partners as a whole, each domain and address that stands in a list
	for i := range own {
		for _, name := range own[i].Domains {
			names[name] = true
		}
		if g := f.general(own[i].Board); g != nil {
			for _, name := range g.Domains {
				names[name] = true
			}
		}
	}
	for _, name := range sortedKeysOf(names) {
		name = strings.TrimPrefix(name, not)
		t := target{open: func(*Board) world.Opening { return world.OpenUnset }, plain: true}
		var dom addr.Domain
		if a, err := addr.Parse(name); err == nil {
			t.ref.Address, dom = a, a.Domain()
		} else if dom, err = addr.ParseDomain(name); err == nil {
			t.ref.Domain = dom
		} else {
			continue
		}
		if p := partnerOf(w, dom); p != nil {
			t.open, t.of = func(b *Board) world.Opening { return b.opened(p) }, p.ID
		}
		for i := range own {
			on := own[i].letsName(name)
			t.lets = append(t.lets, on)
			if g := f.general(own[i].Board); g != nil && g.letsName(name) != on {
				t.plain = false
			}
		}
		all = append(all, t)
	}
	for i := range all { // where something is said of all of them, it is said of each
		t := &all[i]
		t.plain = t.plain && !slices.ContainsFunc(all, func(x target) bool { return !x.plain && x.holds(t) })
	}
	needs := false // somebody is let through whom only the loosest level lets through, where nobody is in general
	for i := range all {
		t := &all[i]
		t.level, _ = pick(t.lets, func(b *Board, v catalogue.Value) bool {
			o := t.open(b)
			return v == listed && o == world.OpenYes || v == anyone && o != world.OpenNo
		})
		needs = needs || t.level == anyone && slices.Contains(t.lets, true)
	}
	base := catalogue.Unset
	switch {
	case same:
	case level == anyone:
		base = anyone
	case !needs || !most: // an exception towards everybody is tightened by none towards somebody
		base = listed
	}
	if base != catalogue.Unset {
		add(base)
	}
	for i := range all {
		t := &all[i]
		for k := range all { // what is said of all of them tightens what is said of one
			if x := &all[k]; most && t.holds(x) && x.level > t.level {
				t.level, t.plain = x.level, t.plain && x.plain
			}
		}
		if same && t.plain || base == anyone && t.level == anyone || base == listed && t.level >= listed {
			continue
		}
		add(t.level, t.ref)
	}
}

// letsSome reports whether a list may let anybody of a partner's through.
func (b *FoundBoard) letsSome(p *world.Partner) bool {
	return b.lets(p, true) || slices.ContainsFunc(b.Domains, func(name string) bool {
		name, out := strings.CutPrefix(name, not)
		if a, err := addr.Parse(name); err == nil {
			name = a.Domain().String()
		}
		dom, err := addr.ParseDomain(name)
		return err == nil && b.But == out && slices.ContainsFunc(p.Domains, func(e world.Entry) bool { return takes(e, dom) })
	})
}

// letsName reports whether a list lets a domain or an address through.
func (b *FoundBoard) letsName(name string) bool {
	if slices.ContainsFunc(b.Domains, func(x string) bool { return strings.HasPrefix(x, not) && covers(x[len(not):], name) }) {
		return b.But
	}
	return slices.ContainsFunc(b.Domains, func(x string) bool { return covers(x, name) }) != b.But
}

// lets reports whether a list lets a partner's people through; of one that
// stands there in part, the reading that is wanted.
func (b *FoundBoard) lets(p *world.Partner, most bool) bool {
	on, all := false, len(p.Domains) > 0
	for _, e := range p.Domains {
		has := b.has(e)
		on, all = on || has, all && has
	}
	if b.But == most {
		on = all
	}
	return on != b.But
}

// Lists reports whether a list that names addresses too names somebody: by
// their address or domain, and not taken out again.
func Lists(names []string, who addr.Address) bool {
	on := func(out bool) bool {
		return slices.ContainsFunc(names, func(x string) bool {
			name, is := strings.CutPrefix(x, not)
			return is == out && covers(name, who.String())
		})
	}
	return on(false) && !on(true)
}
