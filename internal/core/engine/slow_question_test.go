package engine_test

import (
	"slices"
	"sort"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

type slowQuestion struct {
	*slow
	q       asked
	at      moment.Moment
	subject slowParty
	other   slowParty
	me      *world.Person
	link    *world.Link
	space   *world.Space
	item    *world.Item
	meeting *world.Meeting
	owner   *world.Person // of a person, mailbox or calendar
	kindOf  string        // of the resource
}

var wrongUse = told{wrong: true}

func (s *slow) answer(q asked) told {
	if q.stranger {
		q.stranger = false
		return (&slow{unkept(s.w, q.who, q.address)}).answer(q)
	}
	x := &slowQuestion{slow: s, q: q, at: q.at}
	kind, id, _ := strings.Cut(q.resource, ":")
	x.kindOf = kind
	on := map[string]string{"directory.sign_in": "directory", "directory.leave": "directory", "directory.sign_up": "directory",
		"directory.look_up": "person", "directory.invite": "directory space",
		"directory.accept_theirs": "person", "spaces.enter": "space", "spaces.see_members": "space", "spaces.edit_page": "page",
		"spaces.edit_task": "tasklist", "spaces.open_channel": "space channel",
		"spaces.join": "space", "spaces.join_theirs": "person", "chat.read": "channel", "chat.post": "channel", "chat.attach": "channel person",
		"chat.edit_own":   "channel person",
		"chat.delete_own": "channel person", "chat.message": "person", "chat.call": "person", "chat.see_presence": "person",
		"chat.message_theirs": "person", "chat.call_theirs": "person",
		"meetings.join": "meeting", "meetings.join_early": "meeting", "meetings.present": "meeting", "meetings.remote_control": "meeting",
		"meetings.see_details": "meeting", "meetings.start": "meeting",
		"meetings.join_theirs": "person", "files.open": "folder file", "files.download": "folder file", "files.edit": "folder file",
		"files.upload": "folder file", "files.delete": "folder file",
		"files.share": "folder file", "mail.forward": "mailbox", "mail.see_busy": "calendar", "mail.see_subject": "calendar",
		"mail.see_details": "calendar", "reports.view": "report dashboard",
		"reports.export": "report dashboard", "reports.browse": "report dashboard", "reports.edit": "report dashboard", "reports.enter": "space",
		"reports.share": "report dashboard"}[q.action]
	if !slices.Contains(strings.Fields(on), kind) {
		return wrongUse
	}
	switch kind {
	case "directory":
		if id != "ours" {
			return wrongUse
		}
	case "person", "mailbox", "calendar":
		if x.owner = s.person(id); x.owner == nil {
			return wrongUse
		}
	case "meeting":
		for i := range s.w.Meetings {
			if s.w.Meetings[i].ID == id {
				x.meeting = &s.w.Meetings[i]
			}
		}
		if x.meeting == nil {
			return wrongUse
		}
	default:
		for i := range s.w.Spaces {
			sp := &s.w.Spaces[i]
			if kind == "space" && sp.ID == id {
				x.space = sp
			}
			for j := range sp.Items {
				if sp.Items[j].ID == id && sp.Items[j].Kind.String() == kind {
					x.space, x.item = sp, &sp.Items[j]
				}
			}
		}
		if x.space == nil {
			return wrongUse
		}
	}
	if q.action == "reports.enter" && x.space.Kind != world.ReportArea {
		return wrongUse
	}
	oursOnly := strings.HasSuffix(q.action, "_theirs") || q.action == "mail.forward"
	oursToo := slices.Contains([]string{"directory.invite", "files.share", "reports.share"}, q.action)
	if id, ok := strings.CutPrefix(q.who, "person:"); ok {
		if x.me = s.person(id); x.me == nil {
			return wrongUse
		}
	} else if id, ok := strings.CutPrefix(q.who, "link:"); ok {
		for i := range s.w.Links {
			if s.w.Links[i].ID == id {
				x.link = &s.w.Links[i]
			}
		}
		if x.link == nil || x.link.For != nil {
			return wrongUse
		}
	} else {
		x.subject = s.party(q.who, q.at)
		if x.subject.own {
			for i := range s.w.People {
				if s.w.People[i].Address.String() == q.who {
					x.me = &s.w.People[i]
				}
			}
			if x.me == nil {
				if oursOnly || oursToo {
					if q.address == "" || s.party(q.address, q.at).own {
						return wrongUse
					}
				}
				return told{kind: "person", accounts: []toldAccount{{"person", "identity", "identity", ""}}}
			}
		}
	}
	if x.me != nil && !oursOnly && !oursToo {
		return wrongUse
	}
	if oursOnly || oursToo {
		if q.address == "" {
			return wrongUse
		}
		if x.other = s.party(q.address, q.at); x.other.own {
			return wrongUse
		}
	}
	if q.presenter != "" && (q.action == "meetings.remote_control" || q.action == "meetings.present") && s.person(q.presenter) == nil {
		return wrongUse
	}
	out := told{}
	add := func(account, who string, nature bool) {
		g := &gates{map[string]bool{}, map[string]bool{}, map[string]bool{}}
		if nature {
			x.byNature(g, who)
		} else {
			x.all(g, who)
		}
		a := toldAccount{account, inOrder(gateOrder, g.asked), inOrder(gateOrder, g.refused), ""}
		if a.refusing == "" {
			a.conditions = inOrder(conditionOrder, g.conditions)
		}
		out.accounts = append(out.accounts, a)
	}
	// Who may act with what: the column "who" of rules.md.
	who := map[string]string{"directory.sign_up": "F P", "chat.message": "G F P", "chat.call": "G F P", "chat.see_presence": "G F P",
		"spaces.join": "F P", "meetings.see_details": "G", "meetings.start": "G",
		"files.open": "G N B", "files.download": "G N B", "files.edit": "G N B", "files.upload": "G N", "files.delete": "G N", "files.share": "G",
		"reports.share": "G"}[q.action]
	switch {
	case who != "", oursOnly:
	case strings.HasPrefix(q.action, "directory."):
		who = "G"
	case strings.HasPrefix(q.action, "spaces."):
		who = "G F"
	case strings.HasPrefix(q.action, "chat."):
		who = "G"
		if kind == "channel" {
			who = "G F"
		}
	case strings.HasPrefix(q.action, "meetings."):
		who = "G F P B"
	case strings.HasPrefix(q.action, "mail."):
		who = "F"
	case strings.HasPrefix(q.action, "reports."):
		who = "G N"
	}
	may := func(c string) bool { return slices.Contains(strings.Fields(who), c) }
	home := "F"
	if x.subject.private {
		home = "P"
	}
	switch {
	case x.me != nil:
		out.kind = "person"
		add("person", "ours", false)
	case x.link != nil:
		out.kind = "bearer"
		add("link", "B", !may("B"))
	case x.subject.record != nil:
		out.kind = "guest"
		if x.subject.record.Origins == world.ByFeed {
			out.kind = "provisioned"
		}
		if may("G") {
			add("record", "G", false)
		}
		if may(home) && q.action != "directory.sign_up" { // there is a record already
			add("home", home, false)
		}
		if len(out.accounts) == 0 {
			add("record", "G", true)
		}
	default:
		out.kind = "federated"
		if home == "P" {
			out.kind = "personal"
		}
		if may("N") {
			add("home", "N", false)
		} else {
			add("home", home, !may(home))
		}
	}
	rank := map[string]int{"record": 0, "home": 1, "link": 2, "person": 3}
	sort.SliceStable(out.accounts, func(i, j int) bool {
		a, b := out.accounts[i], out.accounts[j]
		if n, m := len(strings.Fields(a.refusing)), len(strings.Fields(b.refusing)); n != m {
			return n < m
		}
		return rank[a.account] < rank[b.account]
	})
	return out
}

// about is the context of a rule about a party, with the person of ours whom the
// action is about.
func (x *slowQuestion) about(p *slowParty) where {
	c := where{party: p, space: x.space}
	if x.q.action == "meetings.see_details" || x.q.action == "meetings.start" {
		c.space = x.meetingSpace()
	}
	if x.item != nil {
		c.near = x.item.Rules
	}
	switch {
	case x.meeting != nil:
		c.person, c.near = x.person(x.meeting.Host), x.meeting.Rules
	case strings.HasPrefix(x.q.action, "files."): // an upload or any other use is nobody's of ours, but in a drive
		if x.space.Kind == world.Drive {
			c.person = x.person(x.space.Owners[0])
		} else if x.q.action == "files.share" {
			c.person = x.me
		}
	case x.kindOf == "person" && !strings.HasSuffix(x.q.action, "_theirs"), x.kindOf == "calendar":
		c.person = x.owner
	default:
		c.person = x.me
	}
	return c
}

func (x *slowQuestion) record(g *gates, c where) {
	state := x.subject.state
	g.ask("identity", state == "active" || state == "invited" && x.q.action == "directory.sign_in")
	methods := x.value("directory.sign_in", c, x.at)
	code, partner, private := methods&1 != 0, methods&2 != 0 && x.subject.partner != nil, methods&4 != 0 && x.subject.private
	g.ask("identity", code || partner || private)
	if code && !partner && !private {
		g.conditions["one_time_code"] = true
	}
	if x.word("directory.terms", c, x.at) == "required" && (x.subject.record.Terms == moment.Never || x.subject.record.Terms > x.at) {
		g.conditions["accept_terms"] = true
	}
}

// bars asks whether somebody is barred and their partner active; level is the key of the level that is asked of them, for which
// a partner may be let through whatever its standing.
func (x *slowQuestion) bars(g *gates, p *slowParty, level ...string) {
	g.ask("domain", !p.barred)
	if p.partner != nil {
		for _, name := range level {
			if k, _ := catalogue.ParseKey(name); slices.Contains(p.partner.Still, k) {
				return
			}
		}
		stopped := p.partner.Standing == world.Suspended || p.partner.Standing == world.Ended && x.at >= p.partner.StandingSince
		g.ask("domain", !stopped)
	}
}

func (x *slowQuestion) opened(p *slowParty, key string) string {
	if p.partner == nil {
		return ""
	}
	k, _ := catalogue.ParseKey(key)
	return []string{"unset", "yes", "no"}[p.partner.Opened[k]]
}

func (x *slowQuestion) notClosed(g *gates, p *slowParty, key string) {
	if x.opened(p, key) == "no" {
		g.ask("domain", false)
	}
}

func (x *slowQuestion) level(g *gates, level string, p *slowParty, key string) {
	o := x.opened(p, key)
	g.ask("domain", level == "any" && o != "no" || level == "listed" && o == "yes")
}

func (x *slowQuestion) stance(g *gates, p *slowParty, key, feature string) {
	if p.partner == nil {
		return
	}
	days := 180
	if x.w.Settings != nil {
		days = int(x.w.Settings.StanceDays)
	}
	says := "unknown"
	for _, st := range p.partner.Stance {
		if st.Key.String() != key {
			continue
		}
		says = []string{"unknown", "admits", "refuses"}[st.Says]
		if says != "admits" {
			continue
		}
		if st.AsOf != moment.Always {
			y, m, d := st.AsOf.Time().In(x.w.Organisation.Zone).Date()
			over := time.Date(y, m, d+days+1, 0, 0, 0, 0, x.w.Organisation.Zone)
			if !x.at.Time().Before(over) {
				says = "unknown"
			}
		}
		if !x.at.Time().Before(st.Until.Time()) && st.Until != moment.Never {
			says = "unknown"
		}
		if says == "admits" && feature != "" && st.Features != nil {
			has := false
			for _, f := range st.Features {
				has = has || f.String() == feature
			}
			if !has {
				says = "refuses"
			}
		}
	}
	g.ask("counterpart", says != "refuses")
	if says == "unknown" {
		g.conditions["counterpart_unconfirmed"] = true
	}
}

func (x *slowQuestion) everyG(g *gates, who string) {
	c := x.about(&x.subject)
	switch {
	case who == "G" && x.subject.record.Origins == world.ByFeed:
		g.ask("service", x.word("directory.feed_in", c, x.at) == "on")
	case who == "G", who == "N":
		g.ask("service", x.word("directory.guests", c, x.at) == "on")
	}
}

func (x *slowQuestion) byNature(g *gates, who string) {
	if who == "G" {
		x.record(g, x.about(&x.subject))
	} else {
		g.ask("identity", true)
	}
	if who != "B" {
		x.bars(g, &x.subject)
	}
	x.everyG(g, who)
	g.ask("service", false)
}

// role is the highest role that live grants and named links give on an item or a
// space, by itself.
func (x *slowQuestion) role(address, kind, id string) int {
	best := 0
	p := x.party(address, x.at)
	if !x.has(&p, x.at) {
		return 0
	}
	groups, record := x.everIn(address), x.guest(address)
	for gr := range x.held() {
		if gr.Resource.ID == id && gr.Resource.Kind.String() == kind && gr.From <= x.at && x.at < gr.Until &&
			(!gr.ToMany() && gr.Group == "" && gr.Address.String() == address || gr.Group != "" && slices.Contains(groups, gr.Group)) &&
			(gr.Group != "" || x.at < x.grantEnd(record, p.partner, &gr)) {
			best = max(best, int(gr.Role))
		}
	}
	for _, l := range x.w.Links {
		if l.Item.Kind.String() == kind && l.Item.ID == id && l.Created <= x.at && x.at < l.Until {
			for _, a := range l.For {
				if a.String() == address {
					best = max(best, int(l.Right))
				}
			}
		}
	}
	return best
}

// roleOfMany is the highest role on a space of live grants to the partner or the domain of an address:
// membership with the home account.
func (x *slowQuestion) roleOfMany(p *slowParty, space string) int {
	best := 0
	for i := range x.w.Grants {
		gr := &x.w.Grants[i]
		if gr.Resource.Kind == catalogue.Space && gr.Resource.ID == space && gr.From <= x.at && x.at < gr.Until &&
			(gr.Partner != "" && p.partner != nil && p.partner.ID == gr.Partner || gr.Domain.String() == p.domain) {
			best = max(best, int(gr.Role))
		}
	}
	return best
}

func (x *slowQuestion) joined(p *slowParty) bool {
	if p.record != nil || p.address == "" {
		return false
	}
	for i := range x.w.Spaces {
		if x.w.Spaces[i].Kind == world.Course && x.role(p.address, "space", x.w.Spaces[i].ID) > 0 {
			return true
		}
	}
	return false
}

func (x *slowQuestion) meetingSpace() *world.Space {
	for i := range x.w.Spaces {
		if x.w.Spaces[i].ID == x.meeting.Space {
			return &x.w.Spaces[i]
		}
	}
	return nil
}

func (x *slowQuestion) member(p *world.Person) bool { return memberOf(x.space, p) }

func memberOf(space *world.Space, p *world.Person) bool {
	if slices.Contains(space.Owners, p.ID) {
		return true
	}
	for _, m := range space.Members {
		if m.Person == p.ID || m.Group != "" && slices.Contains(p.Groups, m.Group) {
			return true
		}
	}
	return false
}

// unkept is a world in which nothing is kept of outside addresses.
func unkept(w *world.World, addresses ...string) *world.World {
	out := *w
	is := func(a string) bool { return a != "" && slices.Contains(addresses, a) }
	out.Guests, out.Grants, out.Holdings, out.Links, out.Contacts, out.Groups = nil, nil, nil, nil, nil, nil
	for _, g := range w.Guests {
		if !is(g.Address.String()) {
			out.Guests = append(out.Guests, g)
		}
	}
	for _, g := range w.Grants {
		if g.Group != "" || g.Partner != "" || !g.Domain.IsZero() || !is(g.Address.String()) {
			out.Grants = append(out.Grants, g)
		}
	}
	for _, h := range w.Holdings {
		if !is(h.Party.String()) {
			out.Holdings = append(out.Holdings, h)
		}
	}
	for _, c := range w.Contacts {
		if !is(c.Party.String()) {
			out.Contacts = append(out.Contacts, c)
		}
	}
	others := func(in []addr.Address) []addr.Address {
		return slices.DeleteFunc(slices.Clone(in), func(a addr.Address) bool { return is(a.String()) })
	}
	for _, l := range w.Links {
		if l.For != nil {
			if l.For = others(l.For); l.For == nil {
				l.For = []addr.Address{}
			}
		}
		out.Links = append(out.Links, l)
	}
	for _, g := range w.Groups {
		g.Parties = others(g.Parties)
		out.Groups = append(out.Groups, g)
	}
	return &out
}
