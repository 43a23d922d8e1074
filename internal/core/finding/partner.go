package finding

import (
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// partners looks at every partner. How openings are used, and how little and
// how much levels say, is found once for all.
func (f *finder) partners() {
	// What is found once here would otherwise be asked of every partner: uses
	// go through everybody, levels through all places.
	used, low, high := f.used(), map[catalogue.RuleID]catalogue.Value{}, map[catalogue.RuleID]catalogue.Value{}
	f.levels(low, high)
	for i := range f.w.Partners {
		p := &f.w.Partners[i]
		numbers := f.concerned(p)
		f.partner(p, used[p.ID], numbers)
		f.openings(p, numbers, low, high)
	}
}

// concerned is how many of a partner's people there are, and what they hold.
func (f *finder) concerned(p *world.Partner) []Number {
	c := f.s.Concerned(p.ID)
	return []Number{{"parties", c.Guests}, {"grants", c.Grants}}
}

// partner looks whether somebody answers for a partner, and at halves that do
// not fit. One that ended needs nobody; one that is suspended is asked who
// answers for it, and nothing else. used is what is known of how its openings
// are used, nil for nothing.
func (f *finder) partner(p *world.Partner, used *uses, numbers []Number) {
	if p.Standing == world.Ended {
		return
	}
	// A partner has one statement at most, the last that was fetched.
	var said *world.Statement
	for i := range f.w.Statements {
		if f.w.Statements[i].Partner == p.ID {
			said = &f.w.Statements[i]
		}
	}
	about := "partner:" + p.ID
	// Asked of suspended ones, too: bringing a partner back begins with a call
	// to somebody.
	if len(p.Contacts) == 0 {
		f.add("partner_without_contact", one(about), numbers, "Nobody knows whom to ask at %s.", p.Name)
	}
	if p.Owner == "" {
		f.add("partner_without_owner", one(about), numbers, "Nobody of ours answers for %s.", p.Name)
	}
	if s := said; s != nil && p.Statement != "" {
		switch {
		case s.Problem == "key_changed":
			f.add("statement_key_changed", one(about), numbers,
				"The statement of %s is signed with a key that nobody announced; nothing of it is taken.", p.Name)
		case s.Problem != "":
			f.add("statement_not_taken", one(about), numbers, "The statement of %s is not taken: %s.", p.Name, strings.TrimSuffix(s.Reason, "."))
		}
	}
	if p.Review <= f.at {
		f.add("partner_review_overdue", one(about), numbers, "%s was to be looked at again on %s.", p.Name, moment.DayOf(p.Review, f.s.Zone()))
	}
	// Openings of a suspended partner open nothing, so that whether they fit
	// tells nobody anything.
	if p.Standing != world.Active {
		return
	}
	var unknown []string
	// Each service and direction: opened and refused, closed and admitted,
	// opened and unused.
	for _, h := range f.s.Halves(p, f.at) {
		k := h.Key.String()
		if h.Opening == world.OpenYes && h.Theirs == world.SaysUnknown && !h.Old && engine.AsksCounterpart(h.Key) {
			unknown = append(unknown, k)
		}
		if uses, tells := used.of(h.Key); h.Opening == world.OpenYes && tells && !uses {
			f.add("opening_unused", one(about, k), numbers, "%s is opened for %s, and nobody known uses it.", p.Name, k)
		}
		switch {
		case h.Joint == world.TheirTurn && h.Opening == world.OpenYes:
			f.add("refused_by_them", one(about, k), numbers, "%s is opened for %s, and refuses it on its own side.", p.Name, k)
		case h.Joint == world.OurTurn && h.Opening == world.OpenNo:
			f.add("refused_by_us", one(about, k), numbers, "%s admits %s, and is closed for it by name on our side.", p.Name, k)
		case h.Joint == world.Unconfirmed && h.Old:
			f.add("stance_too_old", one(about, k), numbers, "%s said on %s that it admits %s; that is too long ago to count.", p.Name,
				moment.DayOf(h.Stance.AsOf, f.s.Zone()), k)
		}
	}
	if unknown != nil {
		f.add("stance_unknown", one(about), numbers, "%s is opened for %s, and nobody knows whether its own side admits that.", p.Name,
			strings.Join(unknown, ", "))
	}
}

// uses is what is known of how a partner's openings are used. Each field is one
// way in which it shows that somebody passes through an opening.
type uses struct{ records, grants, reports, links, contacts, doors, forwarders bool }

// of reports whether somebody known uses an opening. tells is false where
// nothing of ours could show it: what ours do at theirs. Nobody of ours sees
// what our people do in their files or meetings.
func (u *uses) of(k catalogue.Key) (used, tells bool) {
	if u == nil {
		u = &uses{}
	}
	// Chat, meetings and mail leave no record of ours: that somebody is known
	// at all is taken for use.
	known := u.records || u.grants || u.links || u.contacts
	switch k {
	case catalogue.In(catalogue.Directory):
		return u.records, true
	case catalogue.In(catalogue.Spaces):
		return u.grants, true
	case catalogue.In(catalogue.Files):
		return u.grants || u.links, true
	case catalogue.In(catalogue.Reports):
		return u.reports, true
	case catalogue.In(catalogue.Meetings):
		return known || u.doors, true
	case catalogue.In(catalogue.Chat), catalogue.Out(catalogue.Chat), catalogue.In(catalogue.Mail):
		return known, true
	case catalogue.Out(catalogue.Mail):
		return u.forwarders, true
	}
	return false, false
}

// add adds what is known of others.
func (u *uses) add(x uses) {
	u.records, u.grants, u.reports, u.links = u.records || x.records, u.grants || x.grants, u.reports || x.reports, u.links || x.links
	u.contacts, u.doors, u.forwarders = u.contacts || x.contacts, u.doors || x.doors, u.forwarders || x.forwarders
}

// used finds out what is known of every partner's people, by its id.
func (f *finder) used() map[string]*uses {
	out := map[string]*uses{}
	f.uses(func(a addr.Address, x uses) {
		m := f.s.Match(a)
		if m.Partner == nil || m.Bar != nil {
			return
		}
		if out[m.Partner.ID] == nil {
			out[m.Partner.ID] = &uses{}
		}
		out[m.Partner.ID].add(x)
	})
	return out
}

// uses tells what is known of addresses, one thing at a time. One grant may be
// told for each member of a group; a partner or domain as a whole is told as a
// typical newcomer. What is over does not count, what is yet to begin does:
// somebody means to use it.
func (f *finder) uses(of func(addr.Address, uses)) {
	for i := range f.w.Guests {
		of(f.w.Guests[i].Address, uses{records: true})
	}
	// A role on a report area is use of reports; on any other space it is not.
	area := map[string]bool{}
	for i := range f.w.Spaces {
		area[f.w.Spaces[i].ID] = f.w.Spaces[i].Kind == world.ReportArea
	}
	// A grant of a group is use by each of its members.
	inGroup := map[string][]addr.Address{}
	for i := range f.w.Groups {
		inGroup[f.w.Groups[i].ID] = f.w.Groups[i].Parties
	}
	for i := range f.w.Grants {
		g := &f.w.Grants[i]
		if f.at >= g.Until {
			continue
		}
		parties := inGroup[g.Group]
		switch {
		case !g.Address.IsZero():
			parties = []addr.Address{g.Address}
		case !g.Domain.IsZero():
			parties = []addr.Address{addr.Newcomer(g.Domain)}
		case g.Partner != "":
			for k := range f.w.Partners {
				if p := &f.w.Partners[k]; p.ID == g.Partner && len(p.Domains) > 0 {
					parties = []addr.Address{addr.Newcomer(p.Domains[0].Domain)}
				}
			}
		}
		k := g.Resource.Kind
		report := k == catalogue.Report || k == catalogue.Dashboard || k == catalogue.Space && area[g.Resource.ID]
		for _, a := range parties {
			of(a, uses{grants: true, reports: report})
		}
	}
	for i := range f.w.Links {
		if l := &f.w.Links[i]; f.at < l.Until && l.Created != moment.Always {
			for _, a := range l.For {
				of(a, uses{links: true})
			}
		}
	}
	for i := range f.w.Contacts {
		if f.w.Contacts[i].Accepted { // who was only asked is nobody's contact
			of(f.w.Contacts[i].Party, uses{contacts: true})
		}
	}
	for i := range f.w.Forwarders {
		of(f.w.Forwarders[i].To, uses{forwarders: true})
	}
	for i := range f.w.Meetings {
		for _, d := range f.w.Meetings[i].SignInDomains {
			of(addr.Newcomer(d), uses{doors: true})
		}
	}
	for i := range f.w.DomainLists {
		for _, d := range f.w.DomainLists[i].Domains {
			of(addr.Newcomer(d), uses{doors: true})
		}
	}
}

// addresses looks at what guests' addresses say: barred ones that still hold
// something, ones at firms that are no partners, ones that look like another's.
// Each address is looked at once, with its record where it has one.
func (f *finder) addresses() {
	// Only what is in force or to come: what is over holds nobody.
	grants := map[string]int{}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; !g.Address.IsZero() && f.at < g.Until {
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
		// One of ours with a grant is no guest.
		case m.Own:
		case m.Bar != nil && (grants[text] > 0 || record):
			f.add("barred_holds_grants", one(text), []Number{{"parties", 1}, {"grants", grants[text]}},
				"%s is barred by %s and still holds a record or grants.", text, m.Bar.Key())
		case m.Partner == nil && !m.Private && record:
			if like, whose, ok := watch.LookAlike("", a.Domain()); ok {
				f.add("guest_looks_alike", one(text), []Number{{"parties", 1}, {"grants", grants[text]}},
					"%s is a guest at a domain that looks like %s of %s.", text, like, strings.TrimPrefix(whose, "the "))
			} else {
				f.add("guest_of_no_partner", one(text), []Number{{"parties", 1}, {"grants", grants[text]}}, "%s is a guest at a domain of no partner.",
					text)
			}
		}
	}
	for i := range f.w.Guests {
		look(f.w.Guests[i].Address, true)
	}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; !g.Address.IsZero() && f.at < g.Until {
			look(g.Address, false)
		}
	}
}

// memberships looks at partners and domains that were let into a space as a
// whole: whether a typical newcomer of theirs gets in, and whether the owner of
// the space is to confirm it (model §4). A partner gets in where one of its
// domains does.
func (f *finder) memberships() {
	enter, days := action("spaces.enter"), catalogue.MustRule("guests.review_days")
	seen := map[string]bool{}
	for i := range f.w.Grants {
		g := &f.w.Grants[i]
		k := g.Party() + " " + g.Resource.String()
		if !g.ToMany() || !moment.Within(f.at, g.From, g.Until) || seen[k] {
			continue
		}
		seen[k] = true
		// A partner is let in by any of its domains; one that gets in is enough
		// for the membership to do something.
		domains, name := []addr.Domain{g.Domain}, g.Domain.String()
		if g.Partner != "" {
			for k := range f.w.Partners {
				if p := &f.w.Partners[k]; p.ID == g.Partner {
					name, domains = p.Name, nil
					for _, d := range p.Domains {
						domains = append(domains, d.Domain)
					}
				}
			}
		}
		enters := false
		for _, d := range domains {
			v, ok := f.ask(engine.Question{Subject: engine.Who{Address: addr.Newcomer(d)}, Action: enter, Resource: g.Resource})
			enters = enters || ok && v.Yes
		}
		about := one(g.Party(), g.Resource.String())
		if !enters {
			f.add("membership_without_effect", about, nil, "Everybody of %s was let into %s, and none of them gets in.", name,
				f.s.NameOf(g.Resource))
			continue
		}
		// How many days a review lasts is asked where the membership is: the
		// space may say fewer than the organisation.
		c := engine.Context{Resource: g.Resource, At: f.at}
		if len(domains) > 0 {
			c.Party = addr.Newcomer(domains[0]).String()
		}
		chain, err := f.s.ChainOf(days, c)
		if err != nil || chain.Effective() == catalogue.NoLimit {
			continue
		}
		zone := f.s.Zone()
		// A membership that was never confirmed is due as long after it began.
		last := max(g.From, g.Reviewed)
		if due := moment.EndOfDays(moment.DayOf(last, zone), int(chain.Effective()), zone); last.IsSet() && due <= f.at {
			f.add("membership_review_due", about, nil, "Whether everybody of %s should still be in %s was to be confirmed by %s.", name,
				f.s.NameOf(g.Resource), moment.DayOf(due-1, zone))
		}
	}
}
