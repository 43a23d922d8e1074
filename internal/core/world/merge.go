package world

import (
	"fmt"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
)

// Limits returns the limit of every rule once part is laid over base.
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
// is merged by id and key. Values of lower layers that a lowered limit makes too
// loose become held back. Inventory is that of base, with part's behind it:
// callers that keep inventory elsewhere leave it empty.
func Merge(base, part *World) *World {
	out := *base
	if part.Organisation != nil {
		out.Organisation = part.Organisation
	}
	if part.Settings != nil {
		out.Settings = part.Settings
	}
	out.Rules = mergeRules(base.Rules, part.Rules)
	out.Partners = upsert(base.Partners, part.Partners, func(p *Partner) string { return p.ID }, func(old, new *Partner) {
		if new.Stance == nil {
			new.Stance = old.Stance
		}
	})
	out.Barred = upsert(base.Barred, part.Barred, func(b *Bar) string { return b.Key() }, nil)
	out.Personal = upsert(base.Personal, part.Personal, func(e *Entry) string { return e.Domain.String() }, nil)
	out.Exceptions = upsert(base.Exceptions, part.Exceptions, func(x *Exception) string { return x.ID }, nil)
	out.Bundles = upsert(base.Bundles, part.Bundles, func(x *Bundle) string { return x.ID }, nil)
	out.Expectations = upsert(base.Expectations, part.Expectations, func(x *Expectation) string { return x.ID }, nil)

	limits := Limits(&out, &World{})
	for i := range out.Partners {
		out.Partners[i].Rules = HoldBack(out.Partners[i].Rules, limits)
	}
	for i := range out.Exceptions {
		out.Exceptions[i].Rules = HoldBack(out.Exceptions[i].Rules, limits)
	}

	out.People = append(base.People[:len(base.People):len(base.People)], part.People...)
	out.Groups = append(base.Groups[:len(base.Groups):len(base.Groups)], part.Groups...)
	out.Spaces = append(base.Spaces[:len(base.Spaces):len(base.Spaces)], part.Spaces...)
	out.Meetings = append(base.Meetings[:len(base.Meetings):len(base.Meetings)], part.Meetings...)
	out.Guests = append(base.Guests[:len(base.Guests):len(base.Guests)], part.Guests...)
	out.Grants = append(base.Grants[:len(base.Grants):len(base.Grants)], part.Grants...)
	out.Links = append(base.Links[:len(base.Links):len(base.Links)], part.Links...)
	out.Forwarders = append(base.Forwarders[:len(base.Forwarders):len(base.Forwarders)], part.Forwarders...)
	out.Contacts = append(base.Contacts[:len(base.Contacts):len(base.Contacts)], part.Contacts...)
	return &out
}

func upsert[T any](base, part []T, key func(*T) string, keep func(old, new *T)) []T {
	out := append(make([]T, 0, len(base)+len(part)), base...)
	at := make(map[string]int, len(base))
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

// A Watch finds domains that are taken, or that another could be taken for, in a
// policy. It is made once for many questions.
type Watch struct {
	w       *World
	judged  map[string]bool // partners that are being judged
	order   map[string]int
	taken   map[addr.Domain]int // index of the partner
	similar map[string][]watched
}

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
	add := func(d addr.Domain, partner int) {
		for _, k := range d.Neighbours() {
			x.similar[k] = append(x.similar[k], watched{d, partner})
		}
	}
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
		return fmt.Sprintf("%s (%s) looks like %s (%s) of %s; if it is meant all the same, say so with look_alike: yes", d.Unicode(), d, like.Unicode(), like, whose)
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
