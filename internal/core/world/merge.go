package world

import (
	"fmt"
	"reflect"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Merging: a part laid over a whole, and what follows from it. Here is also
// what keeps domains apart (Watch): a domain belongs to one partner, and one
// that looks like another's is refused until somebody says that it is meant.

// Limits returns the limit of every rule once part is laid over base. What
// neither says is as the catalogue begins.
func Limits(base, part *World) [catalogue.NumRules]catalogue.Value {
	var out [catalogue.NumRules]catalogue.Value
	for i, r := range catalogue.Rules() {
		out[i] = r.Limit
	}
	for _, w := range []*World{base, part} {
		for _, s := range w.Rules {
			if s.Limit != catalogue.Unset {
				out[s.Rule] = s.Limit
			}
		}
	}
	return out
}

// Merge lays part over base and returns the outcome; neither is changed. Policy
// and inventory are merged by id and key; an item stays where part does not
// speak of it. Values of lower layers that a lowered limit makes too loose
// become held back.
//
// It is what a file that is loaded, a draft and a published change have in
// common. Lists that nothing of part touches are shared with base.
func Merge(base, part *World) *World {
	out := *base
	if part.Organisation != nil {
		out.Organisation = part.Organisation
	}
	if part.Settings != nil {
		out.Settings = part.Settings
	}
	// Every list whose entries have an ID, those that are added to World later
	// included.
	mergeByID(reflect.ValueOf(&out.Policy).Elem(), reflect.ValueOf(&part.Policy).Elem())
	mergeByID(reflect.ValueOf(&out.Inventory).Elem(), reflect.ValueOf(&part.Inventory).Elem())
	out.Rules = mergeRules(base.Rules, part.Rules)
	out.Partners = upsert(base.Partners, part.Partners, func(p *Partner) string { return p.ID }, func(old, new *Partner) {
		if new.Stance == nil {
			new.Stance = old.Stance
		}
	})
	out.Barred = upsert(base.Barred, part.Barred, func(b *Bar) string { return b.Key() }, nil)
	out.Personal = upsert(base.Personal, part.Personal, func(e *Entry) string { return e.Domain.String() }, nil)

	out.Spaces = mergeSpaces(base.Spaces, part.Spaces)
	out.Guests = upsert(base.Guests, part.Guests, func(x *Guest) string { return x.Address.String() }, func(old, new *Guest) {
		new.TakenOver = old.TakenOver
		if old.DatesFrom != 0 { // loading never moves it earlier or away from never
			new.DatesFrom = max(old.DatesFrom, new.DatesFrom)
		}
	})
	out.Grants = upsert(base.Grants, part.Grants, func(x *Grant) GrantKey { return x.Key() }, nil)
	out.Holdings = upsert(base.Holdings, part.Holdings, func(x *Holding) string { return x.Key() }, nil)
	out.Forwarders = upsert(base.Forwarders, part.Forwarders, func(x *Forwarder) string { return x.Mailbox + " " + x.To.String() }, nil)
	out.Contacts = upsert(base.Contacts, part.Contacts, func(x *Contact) string { return x.Person + " " + x.Party.String() }, nil)
	out.Statements = upsert(base.Statements, part.Statements, func(x *Statement) string { return x.Partner }, nil)
	out.DatesFrom = upsert(
		base.DatesFrom,
		part.DatesFrom,
		func(x *DatesFrom) string { return x.For() },
		func(old, new *DatesFrom) { new.From, new.Mail = max(old.From, new.From), max(old.Mail, new.Mail) },
	)
	// Any of them may have been lowered, and by the part's own rules.
	limits := Limits(&out, &World{})
	out.Partners = holding(out.Partners, func(p Partner) (Partner, bool) {
		rules := HoldBack(p.Rules, limits)
		changed := differs(rules, p.Rules)
		p.Rules = rules
		return p, changed
	})
	out.Exceptions = holding(out.Exceptions, func(x Exception) (Exception, bool) {
		rules := HoldBack(x.Rules, limits)
		changed := differs(rules, x.Rules)
		x.Rules = rules
		return x, changed
	})
	out.eachPlace(func(_ Resource, rules []Setting) []Setting { return HoldBack(rules, limits) })
	return &out
}

// eachPlace replaces what spaces, their items and meetings say, in copies where
// change returns another slice than it was given.
func (w *World) eachPlace(change func(place Resource, rules []Setting) []Setting) {
	w.Spaces = holding(w.Spaces, func(s Space) (Space, bool) {
		rules := change(Resource{Kind: catalogue.Space, ID: s.ID}, s.Rules)
		changed := differs(rules, s.Rules)
		s.Rules = rules
		items := holding(s.Items, func(it Item) (Item, bool) {
			rules := change(Resource{Kind: it.Kind, ID: it.ID}, it.Rules)
			changed := differs(rules, it.Rules)
			it.Rules = rules
			return it, changed
		})
		changed = changed || len(items) > 0 && &items[0] != &s.Items[0]
		s.Items = items
		return s, changed
	})
	w.Meetings = holding(w.Meetings, func(m Meeting) (Meeting, bool) {
		rules := change(Resource{Kind: catalogue.Meeting, ID: m.ID}, m.Rules)
		changed := differs(rules, m.Rules)
		m.Rules = rules
		return m, changed
	})
}

// BeforeHolding returns a world in which what its limits hold back at spaces,
// items and meetings counts, as far as another world has the same values there
// and does not hold them back.
//
// It is for whoever compares the policy of two worlds over the inventory of the
// second. A file whose limit was lowered says which values that holds back;
// without this they would count neither before nor after, and lowering the
// limit would seem to take nothing from anybody.
func (w *World) BeforeHolding(was *World) *World {
	type at struct {
		place Resource
		rule  catalogue.RuleID
		value catalogue.Value
	}
	counts := map[at]bool{}
	rest := *was
	rest.eachPlace(func(place Resource, rules []Setting) []Setting {
		for _, s := range rules {
			if !s.Held {
				counts[at{place, s.Rule, s.Value}] = true
			}
		}
		return rules
	})
	out, limits := *w, Limits(w, &World{})
	out.eachPlace(func(place Resource, rules []Setting) []Setting {
		var copied []Setting
		for i, s := range rules {
			if s.Held && counts[at{place, s.Rule, s.Value}] && s.Rule.Get().Scale.Looser(s.Value, limits[s.Rule]) {
				if copied == nil {
					copied = append(copied, rules...)
				}
				copied[i].Held = false
			}
		}
		if copied != nil {
			return copied
		}
		return rules
	})
	return &out
}

// holding replaces what a lowered limit changes, in a copy where there is any;
// the list itself where there is none.
func holding[T any](list []T, hold func(T) (T, bool)) []T {
	copied := false
	for i := range list {
		if x, changed := hold(list[i]); changed {
			if !copied {
				list, copied = append([]T(nil), list...), true
			}
			list[i] = x
		}
	}
	return list
}

// differs reports whether HoldBack made another slice.
func differs(a, b []Setting) bool { return len(a) > 0 && &a[0] != &b[0] }

// GrantKey is what a grant is known by (model §6). Two grants that differ in
// their ends alone are one grant, given another end.
type GrantKey struct {
	Party    string
	Resource Resource
	Role     catalogue.Role
	From     moment.Moment
}

// Key returns what the grant is known by.
func (g *Grant) Key() GrantKey { return GrantKey{g.Party(), g.Resource, g.Role, g.From} }

// mergeSpaces merges spaces and their items, which are known by ids of their
// own and may move. An item that part names in another space is taken out of
// the one where it was.
func mergeSpaces(base, part []Space) []Space {
	switch {
	case len(part) == 0:
		return base[:len(base):len(base)]
	case len(base) == 0:
		return part[:len(part):len(part)]
	}
	named := map[string]bool{}
	for i := range part {
		for j := range part[i].Items {
			named[part[i].Items[j].ID] = true
		}
	}
	at := map[string][]Item{}
	stay := make([]Space, len(base))
	for i, s := range base {
		var items []Item
		for _, it := range s.Items {
			if !named[it.ID] {
				items = append(items, it)
			}
		}
		s.Items = items
		stay[i] = s
		at[s.ID] = items
	}
	return upsert(stay, part, func(x *Space) string { return x.ID }, func(old, new *Space) {
		new.Items = append(at[old.ID][:len(at[old.ID]):len(at[old.ID])], new.Items...)
	})
}

// upsert replaces those of base that have the key of one of part, and puts the
// others behind them. keep takes over what part does not say.
func upsert[T any, K comparable](base, part []T, key func(*T) K, keep func(old, new *T)) []T {
	switch {
	case len(part) == 0:
		return base[:len(base):len(base)]
	case len(base) == 0:
		return part[:len(part):len(part)]
	}
	out := append(make([]T, 0, len(base)+len(part)), base...)
	at := make(map[K]int, len(base))
	for i := range out {
		at[key(&out[i])] = i
	}
	for i := range part {
		x := part[i]
		if j, ok := at[key(&x)]; ok {
			if keep != nil {
				keep(&out[j], &x)
			}
			out[j] = x
		} else {
			out = append(out, x)
		}
	}
	return out
}

// mergeByID lays every list of part whose entries have an ID over that of out:
// those with the same ID are replaced, the others follow. Lists of which more
// is to be said are merged after it.
func mergeByID(out, part reflect.Value) {
	for i := range out.NumField() {
		list, more := out.Field(i), part.Field(i)
		if list.Kind() != reflect.Slice || list.Type().Elem().Kind() != reflect.Struct {
			continue
		}
		id, ok := list.Type().Elem().FieldByName("ID")
		if !ok || id.Type.Kind() != reflect.String {
			continue
		}
		switch {
		case more.Len() == 0:
			list.Set(list.Slice3(0, list.Len(), list.Len())) // appending to it overwrites nothing
			continue
		case list.Len() == 0:
			list.Set(more.Slice3(0, more.Len(), more.Len()))
			continue
		}
		all := reflect.AppendSlice(reflect.MakeSlice(list.Type(), 0, list.Len()+more.Len()), list)
		at := make(map[string]int, list.Len())
		for j := range list.Len() {
			at[list.Index(j).FieldByIndex(id.Index).String()] = j
		}
		for j := range more.Len() {
			x := more.Index(j)
			if k, known := at[x.FieldByIndex(id.Index).String()]; known {
				all.Index(k).Set(x)
			} else {
				all = reflect.Append(all, x)
			}
		}
		list.Set(all)
	}
}

// Limit and default of a rule are merged each by itself.
func mergeRules(base, part []RuleSetting) []RuleSetting {
	var all [catalogue.NumRules]*RuleSetting
	for _, w := range [][]RuleSetting{base, part} {
		for i := range w {
			s := w[i]
			if old := all[s.Rule]; old != nil {
				if s.Limit == catalogue.Unset {
					s.Limit = old.Limit
				}
				if s.Default == catalogue.Unset {
					s.Default, s.Held, s.Counts = old.Default, old.Held, old.Counts
				}
			}
			all[s.Rule] = &s
		}
	}
	var out []RuleSetting
	for _, s := range all {
		if s == nil {
			continue
		}
		r := s.Rule.Get()
		limit := s.Limit
		if limit == catalogue.Unset {
			limit = r.Limit
		}
		said, counting := s.Default, s.Default
		if said == catalogue.Unset {
			said, counting = r.Default, r.Default
		}
		if s.Held {
			counting = s.Counts
			if counting == catalogue.Unset {
				counting = r.Scale.Tightest()
			}
		}
		// What was said is kept, and comes back when the limit is raised again
		// and somebody releases it.
		if r.Scale.Looser(counting, limit) { // the limit was lowered below it
			s.Default, s.Held, s.Counts = said, true, r.Scale.Tighter(counting, limit)
		}
		out = append(out, *s)
	}
	return out
}

// HoldBack returns the settings with those looser than their limit held back.
// It returns the same slice where nothing changes.
func HoldBack(settings []Setting, limits [catalogue.NumRules]catalogue.Value) []Setting {
	for i, s := range settings {
		if s.Held || !s.Rule.Get().Scale.Looser(s.Value, limits[s.Rule]) {
			continue
		}
		out := append([]Setting(nil), settings...)
		for j := i; j < len(out); j++ {
			if out[j].Rule.Get().Scale.Looser(out[j].Value, limits[out[j].Rule]) {
				out[j].Held = true
			}
		}
		return out
	}
	return settings
}

// A Watch finds domains that are taken, or that another could be taken for, in
// a policy. It is made once for many questions.
type Watch struct {
	w       *World
	judged  map[string]bool // partners that are being judged
	order   map[string]int
	taken   map[addr.Domain]int // index of the partner
	similar map[string][]watched
}

// watched is a domain that others may be mistaken for.
type watched struct {
	domain  addr.Domain
	partner int // index, or -1 for ours
}

// NewWatch returns a Watch of w. judged names the partners whose domains are
// about to be judged: of two of them the later yields.
func NewWatch(w *World, judged ...string) *Watch {
	x := &Watch{w: w, judged: map[string]bool{}, order: map[string]int{}, taken: map[addr.Domain]int{}, similar: map[string][]watched{}}
	for _, id := range judged {
		x.judged[id] = true
	}
	add := x.notice
	if w.Organisation != nil {
		for _, o := range w.Organisation.Domains {
			add(o.Domain, -1)
		}
	}
	for i := range w.Partners {
		x.order[w.Partners[i].ID] = i
		for _, d := range w.Partners[i].Domains {
			if _, is := x.taken[d.Domain]; !is {
				x.taken[d.Domain] = i
			}
			if !d.LookAlike {
				add(d.Domain, i)
			}
		}
	}
	return x
}

// notice keeps a domain by the keys under which look-alikes find it.
func (x *Watch) notice(d addr.Domain, partner int) {
	for _, k := range d.Neighbours() {
		x.similar[k] = append(x.similar[k], watched{d, partner})
	}
}

// Take notes that a domain is a known partner's from now on.
func (x *Watch) Take(partner string, e Entry) {
	i, known := x.order[partner]
	if !known {
		return
	}
	x.taken[e.Domain] = i
	if !e.LookAlike {
		x.notice(e.Domain, i)
	}
}

// yields reports whether partner, the judged one, yields to the partner at i.
func (x *Watch) yields(partner string, i int) bool {
	if i < 0 {
		return true
	}
	other := x.w.Partners[i].ID
	at, known := x.order[partner]
	return other != partner && (!x.judged[other] || !known || i < at)
}

// Refuse says why a domain cannot be one of a partner's, or returns "": one of
// our own, a public suffix, a personal domain, another partner's, or a
// look-alike that was not said twice (model §2).
//
// It is a sentence for whoever entered the domain.
func (x *Watch) Refuse(partner string, e Entry) string {
	d := e.Domain
	if d.IsPublicSuffix() {
		return fmt.Sprintf("%s is a public suffix; everybody has names below it", d)
	}
	if x.w.Organisation != nil {
		for _, o := range x.w.Organisation.Domains {
			if o.Domain == d || o.Subdomains && d.Under(o.Domain) || e.Subdomains && o.Domain.Under(d) {
				return fmt.Sprintf("%s is one of our own domains", d)
			}
		}
	}
	for _, p := range x.w.Personal {
		if p.Domain == d || p.Subdomains && d.Under(p.Domain) {
			return fmt.Sprintf("%s is a personal domain; nobody stands behind its addresses", d)
		}
	}
	if i, is := x.taken[d]; is && x.yields(partner, i) {
		return fmt.Sprintf("the domain %s belongs to the partner %q already", d, x.w.Partners[i].ID)
	}
	if e.LookAlike {
		return ""
	}
	if like, whose, ok := x.LookAlike(partner, d); ok {
		return fmt.Sprintf(
			"%s (%s) looks like %s (%s) of %s; if it is meant all the same, say so with look_alike: yes",
			d.Unicode(),
			d,
			like.Unicode(),
			like,
			whose,
		)
	}
	return ""
}

// LookAlike finds a domain of ours or of another partner that d could be taken
// for, and whose it is.
func (x *Watch) LookAlike(partner string, d addr.Domain) (like addr.Domain, whose string, found bool) {
	for _, k := range d.Neighbours() {
		for _, s := range x.similar[k] {
			if x.yields(partner, s.partner) && addr.LookAlike(s.domain, d) {
				if s.partner < 0 {
					return s.domain, "ours", true
				}
				return s.domain, "the partner " + x.w.Partners[s.partner].ID, true
			}
		}
	}
	return addr.Domain{}, "", false
}
