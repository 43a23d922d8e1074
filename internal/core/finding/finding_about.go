package finding

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// reports looks for reports that parties were given themselves and for which
// they have no licence route. Whoever is refused for a licence alone cannot see
// what they were given, and nobody notices.
func (f *finder) reports(parties []uint32) {
	for _, i := range parties {
		a := f.s.AddressAt(i)
		f.s.EachReport(i, f.at, func(r world.Resource) {
			act := actView
			if r.Kind == catalogue.Space { // an area of reports
				act = actEnter
			}
			v, ok := f.ask(engine.Question{Subject: engine.Who{Address: a}, Action: act, Resource: r})
			if ok && v.Refusing.Has(catalogue.LicenceGate) {
				f.add("report_without_licence", one(a.String(), r.String()), []Number{{"parties", 1}, {"grants", 1}},
					"%s was given %s, and no licence route counts there.", a, r)
			}
		})
	}
}

// reachOf is an action that shows whether somebody gets at an item at all.
func reachOf(k catalogue.ResourceKind) (catalogue.ActionID, bool) {
	switch k {
	case catalogue.Folder, catalogue.File:
		return actOpen, true
	case catalogue.Report, catalogue.Dashboard:
		return actView, true
	case catalogue.Channel:
		return actRead, true
	case catalogue.Page:
		return actEditPage, true
	case catalogue.Tasklist:
		return actEditTask, true
	}
	return 0, false
}

// privates looks for private addresses that reach private items. It takes what
// reaches an item itself, through a group, or by a link that names them.
func (f *finder) privates() {
	private := map[string]*world.Item{}
	for i := range f.w.Spaces {
		for j := range f.w.Spaces[i].Items {
			if it := &f.w.Spaces[i].Items[j]; it.Private {
				private[it.ID] = it
			}
		}
	}
	seen := map[string]bool{}
	look := func(a addr.Address, item string) {
		it := private[item]
		if it == nil || seen[a.String()+" "+item] || !f.s.Match(a).Private {
			return
		}
		seen[a.String()+" "+item] = true
		r := world.Resource{Kind: it.Kind, ID: it.ID}
		if act, ok := reachOf(it.Kind); ok {
			if v, ok := f.ask(engine.Question{Subject: engine.Who{Address: a}, Action: act, Resource: r}); ok && v.Yes {
				f.add("private_reaches_private", one(a.String(), r.String()), []Number{{"parties", 1}},
					"%s is a private address, and reaches %s, which is private.", a, it.Name)
			}
		}
	}
	members := map[string][]addr.Address{}
	for i := range f.w.Groups {
		members[f.w.Groups[i].ID] = f.w.Groups[i].Parties
	}
	for i := range f.w.Grants {
		g := &f.w.Grants[i]
		if !g.Address.IsZero() {
			look(g.Address, g.Resource.ID)
		}
		for _, a := range members[g.Group] {
			look(a, g.Resource.ID)
		}
	}
	for i := range f.w.Links {
		for _, a := range f.w.Links[i].For {
			look(a, f.w.Links[i].Item.ID)
		}
	}
}

// guests looks at each record: who answers for it, what for, until when, and
// whether it is used. Records that a feed keeps are known to the feed alone,
// and are told nothing but that they are one of our own people's.
func (f *finder) guests() {
	holds := map[string]bool{} // has something now or will have
	members := map[string][]addr.Address{}
	for i := range f.w.Groups {
		members[f.w.Groups[i].ID] = f.w.Groups[i].Parties
	}
	grants := map[string]int{}
	for i := range f.w.Grants {
		g := &f.w.Grants[i]
		if f.at >= g.Until {
			continue
		}
		if !g.Address.IsZero() {
			holds[g.Address.String()] = true
			grants[g.Address.String()]++
		}
		for _, a := range members[g.Group] {
			holds[a.String()] = true
		}
	}
	for i := range f.w.Links {
		for _, a := range f.w.Links[i].For {
			if f.at < f.w.Links[i].Until && f.w.Links[i].Created != moment.Always {
				holds[a.String()] = true
			}
		}
	}
	// Where nothing tells of sightings, "not seen" would be said of everybody.
	told := f.s.Policy().SettingsNow().Sightings == world.SightingsTold // else nobody says who comes
	for i := range f.w.Guests {
		g := &f.w.Guests[i]
		a := g.Address.String()
		m := f.s.Match(g.Address)
		if m.Own {
			f.add("own_person_is_guest", one(a), []Number{{"grants", grants[a]}}, "%s is at a domain of ours and holds a record as a guest.", a)
		}
		if g.Provisioned() { // it knows only its feed
			continue
		}
		if g.Sponsor == "" {
			f.add("guest_without_sponsor", one(a), []Number{{"grants", grants[a]}}, "%s has no sponsor.", a)
		}
		if strings.TrimSpace(g.Purpose) == "" {
			f.add("guest_without_purpose", one(a), []Number{{"grants", grants[a]}}, "The record of %s says no purpose.", a)
		}
		if g.Until == moment.Never {
			if c, err := f.s.ChainOf(catalogue.MustRule("guests.term_days"),
				engine.Context{Party: a, Resource: engine.NoResource, At: f.at}); err == nil && c.Effective() == catalogue.NoLimit {
				f.add("guest_without_end", one(a), []Number{{"grants", grants[a]}}, "The record of %s has no end, and no term of a record ends it.", a)
			}
		}
		if !holds[a] {
			f.add("guest_without_grant", one(a), nil, "%s holds no grant and no link that works or will work.", a)
		}
		last := max(g.LastSeen, g.Since)
		if g.Accepted != moment.Never { // where it is not recorded, and they are active, they did
			last = max(last, g.Accepted)
		}
		if told && last < f.at-unusedDays*86400e6 && holds[a] && f.active(g.Address) {
			since := "was never seen"
			if g.LastSeen > 0 {
				since = "was last seen on " + moment.DayOf(g.LastSeen, f.s.Zone()).String()
			}
			f.add("guest_unused", one(a), []Number{{"grants", grants[a]}}, "%s has access and %s.", a, since)
		}
		if g.Licence == world.LicenceOurs && g.Location == "" {
			f.add("location_missing", one(a), nil, "%s has a licence of ours, which counts only with a location, and none is recorded.", a)
		}
	}
}

// plainName is a name as far as two that look like one person share it. Upper
// case and blanks do not tell people apart.
func plainName(name string) string { return strings.Join(strings.Fields(strings.ToLower(name)), " ") }

// namesakes looks for records of the same name. Two records of one person are
// two sponsors, two ends, and one of them is forgotten. People of two different
// partners may share a name, and are not told.
func (f *finder) namesakes() {
	grants := map[string]int{}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; !g.Address.IsZero() && f.at < g.Until {
			grants[g.Address.String()]++
		}
	}
	twins := map[string][]*world.Guest{}
	for i := range f.w.Guests {
		if g := &f.w.Guests[i]; !g.Provisioned() {
			if name := plainName(g.Name); name != "" {
				twins[name] = append(twins[name], g)
			}
		}
	}
	for _, gs := range twins { // two different partners may each have somebody of that name
		slices.SortFunc(gs, func(a, b *world.Guest) int { return strings.Compare(a.Address.String(), b.Address.String()) })
		for i := range gs {
			// Of a name that hundreds have, neighbours are enough to show it.
			for j := i + 1; j < len(gs) && j < i+8; j++ {
				a, b := gs[i].Address.String(), gs[j].Address.String()
				p, q := f.s.Match(gs[i].Address).Partner, f.s.Match(gs[j].Address).Partner
				if p != nil && q != nil && p.ID != q.ID {
					continue
				}
				f.add("same_person", one(a, b), []Number{{"grants", grants[a] + grants[b]}}, "%s and %s are both called %s.", a, b,
					strings.Join(strings.Fields(gs[i].Name), " "))
			}
		}
	}
}

// forwarders asks for each one that leaves whether it may.
func (f *finder) forwarders() {
	for i := range f.w.Forwarders {
		x := &f.w.Forwarders[i]
		if f.s.Match(x.To).Own {
			continue
		}
		about := one("mailbox:"+x.Mailbox, x.To.String())
		v, ok := f.ask(engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: x.Mailbox}, Action: actForward,
			Resource: world.Resource{Kind: catalogue.Mailbox, ID: x.Mailbox}, Address: x.To, DropsCopy: !x.KeepCopy})
		switch {
		case !ok:
		case v.Yes:
			f.add("forwarder_leaves", about, []Number{{"people", 1}}, "What comes for %s is sent on to %s.", x.Mailbox, x.To)
		default:
			f.add("forwarder_not_allowed", about, []Number{{"people", 1}},
				"Forwarding from %s to %s is set and refused at %s: senders will get a bounce.", x.Mailbox, x.To,
				strings.Join(v.Refusing.Names(), " and "))
		}
	}
}

// links looks for links without an end, and for those that open nothing any
// more. A link that works for whoever holds it is asked as such; one that names
// people is read, since it opens to them what their other gates let it.
func (f *finder) links() {
	days := catalogue.MustRule("files.link_days")
	for i := range f.w.Links {
		l := &f.w.Links[i]
		about := one("link:" + l.ID)
		if l.Created == moment.Always {
			f.add("link_without_created", about, []Number{{"links", 1}}, "The link %s to %s does not say when it was made.", l.ID, l.Item)
			continue
		}
		if !l.Bearer() {
			switch {
			case f.at >= l.Until:
				f.add("dead_link", about, []Number{{"links", 1}}, "The link %s to %s ended with %s.", l.ID, l.Item, f.lastDay(l.Until))
			case l.Until == moment.Never:
				f.add("link_without_end", about, []Number{{"links", 1}, {"parties", len(l.For)}}, "The link %s to %s, for %s, has no end.", l.ID,
					l.Item, forWhom(l))
			}
			continue
		}
		x, err := f.s.Explain(&engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: l.ID}, Action: actOpen, Resource: l.Item, At: f.at})
		if err != nil {
			continue // on something that links do not open
		}
		if !x.Yes() {
			if f.at >= l.Created {
				f.add("dead_link", about, []Number{{"links", 1}}, "The link %s to %s does not work: %s", l.ID, l.Item, x.DecidingCause().Text())
			}
			continue
		}
		if l.Until == moment.Never {
			if c, err := f.s.ChainOf(days, engine.Context{Resource: l.Item, At: f.at}); err == nil && c.Effective() == catalogue.NoLimit {
				f.add("link_without_end", about, []Number{{"links", 1}}, "The link %s opens %s for whoever holds it, without an end.", l.ID, l.Item)
			}
		}
	}
}

// keptParties finds records and grants of a typical newcomer, who is nobody.
// Releases before took such records; they stay, count for nobody, and are told.
func (f *finder) keptParties() {
	for i := range f.w.Guests {
		if a := f.w.Guests[i].Address; a.IsNewcomer() {
			f.out = append(f.out, KeptRecord(a))
		}
	}
	for i := range f.w.Grants {
		if g := &f.w.Grants[i]; g.Address.IsNewcomer() {
			f.out = append(f.out, KeptGrant(g))
		}
	}
}

// KeptRecord is that there is a record of a typical newcomer. No snapshot holds
// one: it is found where records are read.
func KeptRecord(a addr.Address) Finding {
	f := finder{}
	f.add("kept_for_nobody", one("guest:"+a.String()), nil, "There is a record of %s.", a)
	return f.out[0]
}

// KeptGrant is that a grant is for a typical newcomer.
func KeptGrant(g *world.Grant) Finding {
	f := finder{}
	f.add("kept_for_nobody", one(g.Address.String(), g.Resource.String()), []Number{{"grants", 1}}, "A grant on %s is for %s.", g.Resource,
		g.Address)
	return f.out[0]
}

// kept finds exceptions towards a typical newcomer.
func (f *finder) kept() {
	for i := range f.w.Exceptions {
		x := &f.w.Exceptions[i]
		for _, p := range x.Parties {
			if p.Address.IsNewcomer() {
				f.add("kept_for_nobody", one("exception:"+x.ID, p.Address.String()), nil, "The exception %s is towards %s.", x.ID, p.Address)
			}
		}
	}
}

// untold finds whether anybody tells when guests are seen.
func (f *finder) untold() {
	idle := catalogue.MustRule("guests.idle_days")
	if f.w.SettingsNow().Sightings != world.SightingsNone || f.s.Counts().Guests == 0 {
		return
	}
	if _, counts, _, _ := f.s.RuleState(idle); counts != catalogue.NoLimit {
		f.add("sightings_untold", one(idle.String()), nil,
			"Guests who have not come for %s days are to be suspended, and nobody tells when they come.", idle.Get().Scale.Format(counts))
	}
}

// forWhom says whom a link names, in a word or a number.
func forWhom(l *world.Link) string {
	if len(l.For) == 1 {
		return l.For[0].String()
	}
	return fmt.Sprintf("%d addresses", len(l.For))
}

// lastDay is the last day on which something still held.
func (f *finder) lastDay(m moment.Moment) string {
	d := moment.DayOf(m, f.s.Zone())
	if d.Start(f.s.Zone()) == m {
		d--
	}
	return d.String()
}

// active reports whether an address has a record that is active: what counts is
// what its dates make of it by now, and not what was written last.
func (f *finder) active(a addr.Address) bool {
	i := f.s.PartyOf(a)
	if i == engine.NoParty {
		return false
	}
	state, _, _, record := f.s.StateOf(i, f.at)
	return record && state == world.StateActive
}

// unusedDays is after how many days somebody who has access and does not come
// is told of.
const unusedDays = 90

// RefusedOften is the finding that people of a partner, or of none, are refused
// an action again and again; false where there is no such action or partner any
// more.
func RefusedOften(s *engine.Snapshot, partner, action string, times, days, within int) (Finding, bool) {
	act, ok := catalogue.ActionByName(action)
	who, about := "people of no partner", "directory:ours"
	if partner != "" {
		i := slices.IndexFunc(s.Policy().Partners, func(p world.Partner) bool { return p.ID == partner })
		if ok = ok && i >= 0; ok {
			who, about = "people of "+s.Policy().Partners[i].Name, "partner:"+partner
		}
	}
	return Finding{ID: "refused_often " + about + " " + action, Kind: "refused_often", About: one(about), Numbers: []Number{{"times", times}},
		Cause: fmt.Sprintf("Within %d days callers asked %d times, on %d days, whether %s may %s (%s), and the answer was no.", within, times,
			days, who, act.Title, action)}, ok
}
