package finding

import (
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// partners looks at partners nobody answers for, and at halves that do not fit.
func (f *finder) partners() {
	days := world.StartStanceDays
	if f.w.Settings != nil {
		days = f.w.Settings.StanceDays
	}
	for i := range f.w.Partners {
		p := &f.w.Partners[i]
		if p.Standing == world.Ended {
			continue
		}
		c := f.s.Concerned(p.ID)
		numbers := []Number{{"parties", c.Guests}, {"grants", c.Grants}}
		about := "partner:" + p.ID
		if len(p.Contacts) == 0 {
			f.add("partner_without_contact", one(about), numbers, "Nobody knows whom to ask at %s.", p.Name)
		}
		if p.Owner == "" {
			f.add("partner_without_owner", one(about), numbers, "Nobody of ours answers for %s.", p.Name)
		}
		for _, h := range world.Halves(p, f.at, days, f.s.Zone()) {
			k := h.Key.String()
			switch {
			case h.Joint == world.TheirTurn:
				f.add("refused_by_them", one(about, k), numbers, "%s is opened for %s, and refuses it on its own side.", p.Name, k)
			case h.Joint == world.OurTurn && h.Ours == world.OpenNo:
				f.add("refused_by_us", one(about, k), numbers, "%s admits %s, and is closed for it by name on our side.", p.Name, k)
			case h.Joint == world.Unconfirmed && h.Old:
				f.add("stance_too_old", one(about, k), numbers, "%s said on %s that it admits %s; that is too long ago to count.", p.Name, moment.DayOf(h.Stance.AsOf, f.s.Zone()), k)
			}
		}
	}
}

// addresses looks at what guests' addresses say: barred ones that still hold
// something, ones at firms that are no partners, ones that look like another's.
func (f *finder) addresses() {
	grants := map[string]int{}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; g.Group == "" && f.at < g.Until {
			grants[g.Address.String()]++
		}
	}
	seen := map[string]bool{}
	watch := world.NewWatch(f.w)
	look := func(a addr.Address, record bool) {
		text := a.String()
		if seen[text] {
			return
		}
		seen[text] = true
		m := f.s.Match(a)
		switch {
		case m.Own:
		case m.Bar != nil && (grants[text] > 0 || record):
			f.add("barred_holds_grants", one(text), []Number{{"parties", 1}, {"grants", grants[text]}}, "%s is barred by %s and still holds a record or grants.", text, m.Bar.Key())
		case m.Partner == nil && !m.Private && record:
			if like, whose, ok := watch.LookAlike("", a.Domain()); ok {
				f.add("guest_looks_alike", one(text), []Number{{"parties", 1}, {"grants", grants[text]}}, "%s is a guest at a domain that looks like %s of %s.", text, like, strings.TrimPrefix(whose, "the "))
			} else {
				f.add("guest_of_no_partner", one(text), []Number{{"parties", 1}, {"grants", grants[text]}}, "%s is a guest at a domain of no partner.", text)
			}
		}
	}
	for i := range f.w.Guests {
		look(f.w.Guests[i].Address, true)
	}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; g.Group == "" && f.at < g.Until {
			look(g.Address, false)
		}
	}
}
