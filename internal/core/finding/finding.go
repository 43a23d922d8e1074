package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kind is a sort of finding: its stable name, what it means, and what to do.
// Hints are listed after what is wrong, and do not count on the first page.
// Names are kept in journals and by whoever accepted a finding: they never
// change.
type Kind struct {
	Name  string
	Title string
	Do    string
	Hint  bool // worth knowing; nothing is wrong
}

// The kinds of finding, in the order in which they are listed.
var kinds = []Kind{
	{"expectation_broken", "What is expected of access is not so", "See who breaks it; close what lets them, or change what is expected.",
		false},
	{"expectation_empty", "An expectation is about nothing", "Change or remove it: what it was about is gone.", true},
	{"report_without_licence", "A report was shared, and no licence covers it",
		"Give the area its own licence, record the licence of the guest, or end the grant.", false},
	{"private_reaches_private", "Somebody with a private address has access to a private item",
		"Ask the owner whether this is intended; if not, end the grant.", false},
	{"own_person_is_guest", "One of our own people has a guest record", "Let them use their own account, and remove the record.", false},
	{"same_person", "Two records look like one person", "Find out which address they use, and merge or remove the other.", false},
	{"guest_without_sponsor", "A guest has no sponsor", "Name a sponsor, or let the guest go.", false},
	{"guest_without_purpose", "A guest has no purpose", "Ask the sponsor, and record it.", false},
	{"guest_without_end", "A guest has no end date", "Give the record an end date, or set guests.term_days.", false},
	{"guest_without_grant", "A guest has no access", "Remove the record, or give the access that was intended.", false},
	{"guest_unused", "A guest has access and does not come",
		"Ask whoever answers for them whether it is still needed, and end it where it is not.", true},
	{"location_missing", "A licence of ours needs a location, and the guest has none", "Record the location of the guest.", false},
	{"forwarder_not_allowed", "Forwarding is set and not allowed: senders will get a bounce",
		"Remove the forwarder, or allow it for this mailbox.", false},
	{"forwarder_leaves", "Mail is forwarded outside automatically", "Check that it is still wanted.", true},
	{"link_without_end", "A link has no end date", "Give the link an end date, or set files.link_days.", false},
	{"link_without_created", "Nobody knows when a link was made, so it opens nothing", "End it, and make a new one where somebody needs it.",
		false},
	{"dead_link", "A link no longer opens anything", "Remove the link, or make a new one.", true},
	{"record_unread", "A stored record cannot be read", "Repair it: it is rewritten without forbidden characters.", false},
	{"kept_for_nobody", "An entry for a whole domain has no effect",
		"End it; use an exception for the domain or the partner if it is intended.", false},
	{"sightings_untold", "Nothing reports when guests were last seen, so inactive guests are not suspended",
		"Set settings sightings to told once something reports it, or guests.idle_days to none.", true},
	{"exceptions_disagree", "Two exceptions contradict each other", "End one of them; until then the tighter one counts.", false},
	{"exception_without_effect", "An exception changes nothing", "End it.", false},
	{"bundle_gives_gone", "A bundle gives something that is no more", "Take it out of the bundle; whoever holds it gets nothing there.",
		false},
	{"bundle_nobody_answers", "A bundle gives something that nobody owns", "Name an owner; until then nobody may be given the bundle.", false},
	{"bundle_approver_left", "Somebody who approves a bundle has left", "Name somebody else; until then a keeper decides.", false},
	{"bundle_opens_nothing", "A bundle would open nothing to people who may ask for it",
		"Open what stands in the way, or leave the partner out of the bundle.", false},
	{"bundle_held_outside", "Somebody holds a bundle that is not for them", "End it, or let people of their organisation ask for it.", false},
	{"bundles_overlap", "One bundle gives everything that another gives", "Close one of them, or say that nobody holds both.", true},
	{"review_unanswered", "A review ends soon, and most of it is not answered",
		"Remind those for whom it waits, or answer for them; else what the rule says of silence is done.", false},
	{"barred_holds_grants", "A barred address still has a record or grants", "End its access, or lift the bar if it is no longer needed.",
		false},
	{"guest_looks_alike", "A guest's domain looks like another one",
		"Find out who they are before they get more access; bar the domain if nobody knows.", false},
	{"guest_of_no_partner", "A guest's domain belongs to no partner", "Add the organisation as a partner, or let the guest go.", true},
	{"membership_without_effect", "A whole partner or domain was let into a space, and none of them gets in",
		"Open what stands in the way, or end the membership.", false},
	{"membership_review_due", "The membership of a whole partner or domain is to be reviewed",
		"The owner of the space confirms it, narrows it, or ends it.", false},
	{"refused_by_them", "We opened a direction that they refuse", "Write to their administrator, or withdraw the opening.", false},
	{"refused_by_us", "They allow a direction that we closed", "Open it, or tell them that it stays closed.", true},
	{"stance_too_old", "Their answer is too old to count", "Ask their administrator, and record the answer.", false},
	{"statement_key_changed", "A partner's statement is signed with another key",
		"Ask their administrator through another channel whether the key is theirs; then accept it.", false},
	{"statement_not_taken", "A partner's statement was not accepted",
		"Tell their administrator what is wrong with it. Until then, the last accepted statement counts until it expires.", false},
	{"stance_unknown", "We opened a direction, and their side is unknown", "Ask their administrator, and record the answer.", false},
	{"opening_unused", "Nobody uses an opening", "Withdraw the opening, or leave it if somebody is about to use it.", true},
	{"partner_review_overdue", "A partner review is overdue", "Review its openings and who has access; then set the next date.", false},
	{"partner_without_contact", "A partner has no contact", "Record who administers their side.", false},
	{"partner_without_owner", "A partner has no owner", "Name one of our people.", false},
	{"held_back", "A value is held back", "Release it once the limit allows it again, or remove it.", false},
	{"dependency_closed", "A rule is open, but another rule it needs is closed", "Open what it needs, or close it.", false},
	{"service_closed", "A partner is opened for a service that is closed", "Open the service to listed partners, or unset the opening.",
		false},
	{"opening_without_effect", "A partner's opening has no effect, because everybody is allowed",
		"Set the level to listed if the list should count, or unset the opening.", true},
	{"no_method", "No method is allowed", "Allow a method; otherwise nobody gets in.", false},
	{"system_changed", "Somebody changed a setting in a system", "Put it back, take it over as a draft, or accept it for a while.", false},
	{"system_differs", "A system does not hold what was written there", "Look into the system; then have it sent again.", false},
	{"system_away", "A system cannot be reached or read", "Find out why; what is known of it grows old.", false},
	{"system_by_hand", "A system waits to be changed by hand", "Change it in its own console; the next reading sees it.", false},
	{"system_unread", "A setting of a system is not understood", "What it opens is not known here; look at it in its own console.", false},
	{"system_unknown", "A system keeps what nobody of ours made", "Take it over, end it there, or let it be until a day.", false},
	{"system_records", "Records of a system are not as they are meant",
		"Somebody changed them there, or they were not written; look at them and decide.", false},
	{"system_braked", "A system waits, as much would be taken away or let in at once", "Look at what waits, and say that it may go.", false},
	{"system_empty", "A system shows an empty list that was not", "Nothing is taken for gone until somebody says that it is right.", false},
	{"refused_often", "The same is asked for and refused day after day",
		"Ask about one of them what stands in the way; open it, or tell them that it stays closed.", true},
	{"limit_loose_long", "A limit has been looser than needed for 90 days", "Lower it to what is used: nobody needed more.", false},
	{"system_changed_again", "A setting of a system is changed there again and again",
		"Find out who does it and why: putting it back does not last.", false},
	{"limit_loose", "A limit is looser than needed", "Lower the limit to what is used, so that nobody opens more by accident.", true},
}

// Kinds lists all kinds. Callers must not change it.
func Kinds() []Kind { return kinds }

// KindByName finds a kind.
func KindByName(name string) (*Kind, bool) {
	for i := range kinds {
		if kinds[i].Name == name {
			return &kinds[i], true
		}
	}
	return nil, false
}

// Number is how many of something a finding concerns. They are shown in the
// order in which they were given.
type Number struct {
	What string // parties, people, grants, links, values, days
	N    int
}

// Finding is one thing that was noticed. Its ID stays the same as long as it is
// about the same thing: the kind and what it is about, with blanks between.
// Whoever accepted it is found by the ID, and so is its history: when it came
// and went.
type Finding struct {
	ID      string
	Kind    string
	About   []string // what it is about, as kind:id, an address, or the name of a rule
	Cause   string   // what is so, in a sentence
	Numbers []Number
}

// Accepted says that somebody has seen a finding and lets it be until a moment.
// After Until it is told again.
type Accepted struct {
	ID     string
	By     string
	Reason string
	Since  moment.Moment
	Until  moment.Moment
}

// finder looks through a world, or a part of it. The methods each look for some
// kinds and add to out. w may hold a part of the world; s answers for all of
// it. What is asked of the engine is asked at the moment at.
type finder struct {
	w   *world.World
	s   *engine.Snapshot // of the whole world
	at  moment.Moment
	out []Finding

	tally *tally          // what all places set
	told  map[string]bool // rules of which the organisation as a whole was told that they need what is closed
}

// Find lists everything that is noticed of a world at a moment. s must be the
// snapshot of w. It goes through all of it: whoever looks again and again keeps
// what was noticed (see Look).
func Find(w *world.World, s *engine.Snapshot, at moment.Moment) []Finding {
	f := &finder{w: given(w), s: s, at: at}
	f.counted()
	everybody := make([]uint32, s.Parties())
	for i := range everybody {
		everybody[i] = uint32(i)
	}
	f.parties(everybody)
	f.namesakes()
	f.loose()
	f.elsewhere()
	f.partners()
	Sort(f.out)
	return f.out
}

// given is a world in which what follows from bundles was given as well.
// Findings about grants then need not know bundles.
func given(w *world.World) *world.World {
	if len(w.Holdings) > 0 {
		all := *w
		all.Grants = slices.Clone(w.Grants)
		for i := range w.Holdings {
			h := &w.Holdings[i]
			if b := w.Bundle(h.Bundle); b != nil {
				all.Grants = append(all.Grants, b.Grants(h)...)
			}
		}
		w = &all
	}
	return w
}

// parties looks at what concerns one party each. f.w may be a world that holds
// these alone (see Snapshot.TellParties).
func (f *finder) parties(numbers []uint32) {
	f.reports(numbers)
	f.privates()
	f.guests()
	f.addresses()
	f.holders()
	f.keptParties()
}

// loose looks at what concerns neither one party nor one partner, and may be
// otherwise because of any party. A single grant may give an exception its
// effect.
func (f *finder) loose() {
	f.forwarders()
	f.withoutEffect()
	f.untold()
}

// elsewhere looks at everything else.
func (f *finder) elsewhere() {
	f.links()
	f.kept()
	f.exceptions()
	f.bundles()
	f.memberships()
	f.above()
	for _, p := range f.placesBelow() {
		f.place(&p)
	}
}

// counted counts what the places of the world set.
func (f *finder) counted() {
	f.tally = newTally()
	f.tally.note(f.placesAbove(), 1)
	f.tally.note(f.placesBelow(), 1)
	f.tally.within(f.w, 1)
}

// orderOf is the place of each kind in the list.
var orderOf = func() map[string]int {
	order := map[string]int{}
	for i, k := range kinds {
		order[k.Name] = i
	}
	return order
}()

// compare puts findings in the order of their kinds, and of their ids in that.
// Ids are unique, so that the order is total.
func compare(a, b *Finding) int {
	if a.Kind != b.Kind {
		return cmp.Compare(orderOf[a.Kind], orderOf[b.Kind])
	}
	return strings.Compare(a.ID, b.ID)
}

// Sort puts findings in the order of their kinds, and of their ids in that.
func Sort(list []Finding) {
	slices.SortFunc(list, func(a, b Finding) int { return compare(&a, &b) })
}

// add notes a finding; the id is made of the kind and what it is about.
func (f *finder) add(kind string, about []string, numbers []Number, cause string, args ...any) {
	f.out = append(f.out, Finding{ID: kind + " " + strings.Join(about, " "), Kind: kind, About: about, Cause: fmt.Sprintf(cause, args...),
		Numbers: numbers})
}

// one is what a finding is about, as it reads in a call.
func one(about ...string) []string { return about }

// ask asks a question at the moment of the finder; false where it makes no
// sense, as about somebody who is gone.
func (f *finder) ask(q engine.Question) (engine.Verdict, bool) {
	q.At = f.at
	v, err := f.s.Decide(&q)
	return v, err == nil
}

// action is the id of an action; a name that is none stops the program.
func action(name string) catalogue.ActionID {
	a, ok := catalogue.ActionByName(name)
	if !ok {
		panic("finding: no action " + name)
	}
	return a.ID
}

// Findings ask the engine whether somebody gets at something at all by one
// action for each kind.
var (
	actView     = action("reports.view")
	actEnter    = action("reports.enter")
	actOpen     = action("files.open")
	actForward  = action("mail.forward")
	actRead     = action("chat.read")
	actEditPage = action("spaces.edit_page")
	actEditTask = action("spaces.edit_task")
)

// ruleLicence decides alone whether the licence gate refuses somebody whose
// record and report stay as they are.
var ruleLicence = catalogue.MustRule("reports.licence")

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
