package engine_test

import (
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// slow answers questions straight from the records, the way model.md and
// rules.md are written: no index, no compiled form, no catalogue of actions, and
// nothing of the engine. Of the catalogue it takes scales, layers and starting
// values of rules, which are data. It is what the engine is compared with.
type slow struct {
	w *world.World
}

// asked is a question in words.
type asked struct {
	who, action, resource string
	at                    moment.Moment
	address, presenter    string
	dropsCopy             bool
}

// told is an answer in words.
type told struct {
	wrong    bool // wrong use
	kind     string
	accounts []toldAccount // the deciding one first
}

type toldAccount struct {
	account    string
	asked      string // the gates that were asked
	refusing   string // those that refuse
	conditions string // of a yes
}

func (t told) String() string {
	if t.wrong {
		return "wrong use"
	}
	return fmt.Sprintf("%s %v", t.kind, t.accounts)
}

// slowParty is an address at a moment.
type slowParty struct {
	address, domain string
	own, private    bool
	barred          bool
	partner         *world.Partner // nil where barred
	record          *world.Guest   // nil where it does not hold one at the moment
	state           string
}

func under(name, top string) bool { return strings.HasSuffix(name, "."+top) }

func (s *slow) party(address string, at moment.Moment) slowParty {
	p := slowParty{address: address, domain: address[strings.LastIndex(address, "@")+1:]}
	matches := func(e world.Entry) bool {
		return e.Domain.String() == p.domain || e.Subdomains && under(p.domain, e.Domain.String())
	}
	longest, bar := 0, 0
	var partner *world.Partner
	take := func(e world.Entry) bool {
		if n := len(e.Domain.String()); matches(e) && n > longest {
			longest, p.own, p.private, partner = n, false, false, nil
			return true
		}
		return false
	}
	if s.w.Organisation != nil {
		for _, e := range s.w.Organisation.Domains {
			if take(e) {
				p.own = true
			}
		}
	}
	for _, e := range s.w.Personal {
		if take(e) {
			p.private = true
		}
	}
	for i := range s.w.Partners {
		for _, e := range s.w.Partners[i].Domains {
			if take(e) {
				partner = &s.w.Partners[i]
			}
		}
	}
	for _, b := range s.w.Barred {
		switch {
		case !b.Address.IsZero():
			if b.Address.String() == address {
				bar = 1000
			}
		case matches(b.Entry):
			bar = max(bar, len(b.Domain.String()))
		}
	}
	p.barred = bar > 0 && bar >= longest
	if !p.barred {
		p.partner = partner
	}
	if g := s.guest(address); g != nil && at >= g.Since {
		out, gone := s.fate(g, p.partner)
		if at >= gone {
			return p
		}
		p.record, p.state = g, "active"
		if at < acceptedAt(g) {
			p.state = "invited"
		}
		if at >= out {
			p.state = "suspended"
		}
	}
	return p
}

func (s *slow) guest(address string) *world.Guest {
	for i := range s.w.Guests {
		if s.w.Guests[i].Address.String() == address {
			return &s.w.Guests[i]
		}
	}
	return nil
}

func acceptedAt(g *world.Guest) moment.Moment {
	if g.State != world.StateInvited && g.Accepted == moment.Never {
		return g.Since
	}
	return g.Accepted
}

// The dates of a record, as model.md §5 has them, on the dates of a clock on the wall.

func (s *slow) wall(m moment.Moment) (y int, month time.Month, d int) {
	return m.Time().In(s.w.Organisation.Zone).Date()
}

// lasts returns the end of n days that were given on the day of a start.
func (s *slow) lasts(start moment.Moment, n catalogue.Value) moment.Moment {
	if n == catalogue.NoLimit || !start.IsSet() {
		return moment.Never
	}
	y, m, d := s.wall(start)
	return moment.Of(time.Date(y, m, d+int(n)+1, 0, 0, 0, 0, s.w.Organisation.Zone))
}

// since returns the end of n days that are counted on from an end.
func (s *slow) since(end moment.Moment, n catalogue.Value) moment.Moment {
	if n == catalogue.NoLimit || !end.IsSet() {
		return moment.Never
	}
	y, m, d := s.wall(end - 1)
	return moment.Of(time.Date(y, m, d+int(n)+1, 0, 0, 0, 0, s.w.Organisation.Zone))
}

// floor returns the moment before which no step of a kind falls for a record: Never where it
// waits; with told, as far as it is a moment.
func (s *slow) floor(g *world.Guest, partner *world.Partner, step string, told bool) moment.Moment {
	floor := moment.Always
	take := func(m moment.Moment, waits bool) {
		if m%1e6 != 0 && m.IsSet() {
			m = (m/1e6 + 1) * 1e6
		}
		if m == moment.Never && (!waits || told) {
			return
		}
		floor = max(floor, m)
	}
	for _, f := range s.w.DatesFrom {
		if f.Partner == "" && f.Step == "" || f.Partner != "" && partner != nil && partner.ID == f.Partner || f.Step != "" && f.Step == step {
			take(f.From, g.TakenOver)
		}
	}
	if g.DatesFrom != 0 {
		take(g.DatesFrom, true)
	}
	return floor
}

func (s *slow) later(m, floor moment.Moment) moment.Moment {
	if m == moment.Never {
		return m
	}
	return max(m, floor)
}

// grantEnd returns when a grant of somebody's own ends, in the view of their record.
func (s *slow) grantEnd(g *world.Guest, partner *world.Partner, x *world.Grant) moment.Moment {
	end := x.Until
	if g == nil || x.Group != "" {
		return end
	}
	p := &slowParty{partner: partner}
	c := where{party: p, space: s.spaceOf(x.Resource)}
	at := moment.Moment(0)
	if s.word("guests.review_silence", c, at) != "end" {
		return end
	}
	due := s.lasts(max(x.Reviewed, x.From), s.value("guests.review_days", c, at))
	return min(end, s.later(s.since(due, 14), s.floor(g, partner, "review_silence", false)))
}

// fate returns when a record is suspended and when it is gone.
func (s *slow) fate(g *world.Guest, partner *world.Partner) (out, gone moment.Moment) {
	c := where{party: &slowParty{partner: partner}}
	days := func(rule string) catalogue.Value { return s.value(rule, c, 0) }
	counted := func(m moment.Moment, step string) moment.Moment { return s.later(m, s.floor(g, partner, step, false)) }
	out, gone = moment.Never, moment.Never
	switch {
	case g.Provisioned():
		return
	case g.State == world.StateInvited && g.Accepted == moment.Never:
		if gone = min(g.Until, counted(s.lasts(g.Since, days("guests.invite_days")), "invite_days")); gone != moment.Never {
			gone = max(gone, g.Since)
		}
		return
	case g.State == world.StateSuspended:
		out = g.StateSince
	default:
		out = min(g.Until, counted(s.lasts(max(g.Since, g.Renewed), days("guests.term_days")), "term"))
		if s.w.Settings == nil || s.w.Settings.Sightings == world.SightingsTold {
			seen := max(g.Since, g.LastSeen, g.StateSince)
			if a := acceptedAt(g); a != moment.Never {
				seen = max(seen, a)
			}
			out = min(out, counted(s.lasts(seen, days("guests.idle_days")), "idle"))
		}
		if p := s.person(g.Sponsor); p != nil && p.Left != 0 && s.word("guests.sponsor", c, 0) == "required" {
			out = min(out, counted(s.since(p.Left, 14), "sponsor_left"))
		}
		if g.HomeClosed != 0 {
			out = min(out, max(g.HomeClosed, s.floor(g, partner, "", true)))
		}
		if partner != nil && partner.Standing == world.Ended {
			out = min(out, max(partner.StandingSince, s.floor(g, partner, "", true)))
		}
		if s.word("guests.after_last_grant", c, 0) == "suspend" {
			last, any := moment.Always, false
			for i := range s.w.Grants {
				x := &s.w.Grants[i]
				if x.Group == "" && x.Address == g.Address || x.Group != "" && slices.Contains(s.everIn(g.Address.String()), x.Group) {
					last, any = max(last, s.grantEnd(g, partner, x)), true
				}
			}
			if any {
				out = min(out, counted(max(last, g.Since), "after_last_grant"))
			}
		}
		if out != moment.Never {
			out = max(out, g.Since)
		}
	}
	if out != moment.Never && out != moment.Always {
		gone = counted(s.since(out, days("guests.grace_days")), "grace")
	}
	return
}

// everIn lists the groups that hold an address.
func (s *slow) everIn(address string) []string {
	var out []string
	for _, g := range s.w.Groups {
		for _, a := range g.Parties {
			if a.String() == address {
				out = append(out, g.ID)
			}
		}
	}
	return out
}

// has reports whether an address still holds what it was given: a record that is gone took it
// with it.
func (s *slow) has(p *slowParty, at moment.Moment) bool {
	g := s.guest(p.address)
	if g == nil {
		return true
	}
	_, gone := s.fate(g, p.partner)
	return at < gone
}

func (s *slow) person(id string) *world.Person {
	for i := range s.w.People {
		if s.w.People[i].ID == id {
			return &s.w.People[i]
		}
	}
	return nil
}

// groupsOf lists the groups that hold an address at a moment.
func (s *slow) groupsOf(address string, at moment.Moment) []string {
	if p := s.party(address, at); !s.has(&p, at) {
		return nil
	}
	return s.everIn(address)
}

func (s *slow) names(refs []world.PartyRef, p *slowParty, at moment.Moment) bool {
	if p == nil || p.address == "" {
		return false
	}
	for _, r := range refs {
		switch {
		case r.Partner != "":
			if p.partner != nil && p.partner.ID == r.Partner {
				return true
			}
		case !r.Domain.IsZero():
			if r.Domain.String() == p.domain {
				return true
			}
		case r.Group != "":
			if slices.Contains(s.groupsOf(p.address, at), r.Group) {
				return true
			}
		case r.Address.String() == p.address:
			return true
		}
	}
	return false
}

// where is the context of a rule.
type where struct {
	party  *slowParty
	person *world.Person
	space  *world.Space
	near   []world.Setting // of the item or meeting
}

func say(settings []world.Setting, rule string) (catalogue.Value, bool) {
	for _, x := range settings {
		if x.Rule.String() == rule && !x.Held {
			return x.Value, true
		}
	}
	return 0, false
}

// value follows model §3 line by line.
func (s *slow) value(rule string, c where, at moment.Moment) catalogue.Value {
	r, _ := catalogue.RuleByName(rule)
	limit, def := r.Limit, r.Default
	for _, x := range s.w.Rules {
		if x.Rule == r.ID {
			if x.Limit != catalogue.Unset {
				limit = x.Limit
			}
			if x.Default != catalogue.Unset {
				def = x.Default
				if x.Held {
					def = 0
					if x.Counts != catalogue.Unset {
						def = x.Counts
					}
				}
			}
		}
	}
	var got []catalogue.Value
	layers := r.Layers.String()
	if strings.Contains(layers, "P") && c.party != nil && c.party.partner != nil {
		if v, ok := say(c.party.partner.Rules, rule); ok {
			got = append(got, v)
		}
	}
	if strings.Contains(layers, "E") && c.person != nil {
		var own, groups []catalogue.Value
		for _, x := range s.w.Exceptions {
			if at < x.From || at >= x.Until || x.Parties != nil && !s.names(x.Parties, c.party, at) {
				continue
			}
			if v, ok := say(x.Rules, rule); ok {
				if slices.Contains(x.People, c.person.ID) {
					own = append(own, v)
				}
				for _, g := range c.person.Groups {
					if slices.Contains(x.Groups, g) {
						groups = append(groups, v)
					}
				}
			}
		}
		if len(own) == 0 {
			own = groups
		}
		if len(own) > 0 {
			got = append(got, tightest(r, own))
		}
	}
	if strings.Contains(layers, "S") && c.space != nil {
		if v, ok := say(c.space.Rules, rule); ok {
			got = append(got, v)
		}
	}
	if strings.Contains(layers, "I") {
		if v, ok := say(c.near, rule); ok {
			got = append(got, v)
		}
	}
	if r.Scale.Shape.String() == "choice" {
		if len(got) > 0 {
			return got[len(got)-1]
		}
		return def
	}
	if len(got) == 0 {
		got = append(got, def)
	}
	return tightest(r, append(got, limit))
}

func tightest(r *catalogue.Rule, vs []catalogue.Value) catalogue.Value {
	out := vs[0]
	for _, v := range vs {
		if r.Scale.Shape.String() == "methods" {
			out &= v
		} else if v < out {
			out = v
		}
	}
	return out
}

// word returns a value of a scale of words.
func (s *slow) word(rule string, c where, at moment.Moment) string {
	r, _ := catalogue.RuleByName(rule)
	return r.Scale.Format(s.value(rule, c, at))
}

// gates collects what one account is told.
type gates struct {
	asked, refused map[string]bool
	conditions     map[string]bool
}

func (g *gates) ask(gate string, ok bool) {
	g.asked[gate] = true
	if !ok {
		g.refused[gate] = true
	}
}

var gateOrder = []string{"identity", "domain", "counterpart", "service", "rule", "grant", "licence"}
var conditionOrder = []string{"sign_in", "one_time_code", "accept_terms", "passcode", "password", "held_until_admitted", "counterpart_unconfirmed", "presenter_asked", "no_browsing", "becomes_guest", "settling"}

func inOrder(order []string, set map[string]bool) string {
	var out []string
	for _, x := range order {
		if set[x] {
			out = append(out, x)
		}
	}
	return strings.Join(out, " ")
}

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
	x := &slowQuestion{slow: s, q: q, at: q.at}
	kind, id, _ := strings.Cut(q.resource, ":")
	x.kindOf = kind
	on := map[string]string{"directory.sign_in": "directory", "directory.leave": "directory", "directory.sign_up": "directory", "directory.look_up": "person", "directory.invite": "directory space",
		"directory.accept_theirs": "person", "spaces.enter": "space", "spaces.see_members": "space", "spaces.edit_page": "page", "spaces.edit_task": "tasklist", "spaces.open_channel": "space channel",
		"spaces.join": "space", "spaces.join_theirs": "person", "chat.read": "channel", "chat.post": "channel", "chat.attach": "channel person", "chat.edit_own": "channel person",
		"chat.delete_own": "channel person", "chat.message": "person", "chat.call": "person", "chat.see_presence": "person", "chat.message_theirs": "person", "chat.call_theirs": "person",
		"meetings.join": "meeting", "meetings.join_early": "meeting", "meetings.present": "meeting", "meetings.remote_control": "meeting", "meetings.see_details": "meeting", "meetings.start": "meeting",
		"meetings.join_theirs": "person", "files.open": "folder file", "files.download": "folder file", "files.edit": "folder file", "files.upload": "folder file", "files.delete": "folder file",
		"files.share": "folder file", "mail.forward": "mailbox", "mail.see_busy": "calendar", "mail.see_subject": "calendar", "mail.see_details": "calendar", "reports.view": "report dashboard",
		"reports.export": "report dashboard", "reports.browse": "report dashboard", "reports.edit": "report dashboard", "reports.enter": "space", "reports.share": "report dashboard"}[q.action]
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
	who := map[string]string{"directory.sign_up": "F P", "chat.message": "G F P", "chat.call": "G F P", "chat.see_presence": "G F P", "spaces.join": "F P", "meetings.see_details": "G", "meetings.start": "G",
		"files.open": "G N B", "files.download": "G N B", "files.edit": "G N B", "files.upload": "G N", "files.delete": "G N", "files.share": "G", "reports.share": "G"}[q.action]
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

func (x *slowQuestion) bars(g *gates, p *slowParty) {
	g.ask("domain", !p.barred)
	if p.partner != nil {
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
	for i := range x.w.Grants {
		gr := &x.w.Grants[i]
		if gr.Resource.Kind.String() == kind && gr.Resource.ID == id && gr.From <= x.at && x.at < gr.Until && (gr.Group != "" || x.at < x.grantEnd(record, p.partner, gr)) && (gr.Group == "" && gr.Address.String() == address || gr.Group != "" && slices.Contains(groups, gr.Group)) {
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

func (x *slowQuestion) all(g *gates, who string) {
	own, s := x.about(&x.subject), &x.subject
	if who == "G" {
		x.record(g, own)
	} else {
		g.ask("identity", true)
	}
	if who == "G" || who == "N" {
		x.everyG(g, who)
	}
	at := x.at
	service, _, _ := strings.Cut(x.q.action, ".")
	privateNamed := s.private && (who == "G" || who == "N")
	atLeast := func(rule string, c where, need catalogue.Value) { g.ask("rule", x.value(rule, c, at) >= need) }
	on := func(rule string, c where) {
		g.ask("service", x.word(rule, c, at) != "off" && x.word(rule, c, at) != "none")
	}
	parties := func(p *slowParty) {
		if x.space.Parties != nil {
			g.ask("domain", x.names(x.space.Parties, p, x.at))
		}
	}
	givenTo := func(rule string, p *slowParty, c where) {
		if rule == "files.given_to" && x.space.Kind == world.Drive {
			rule = "files.drive_given_to"
		}
		need := catalogue.Value(2)
		if p.record != nil || x.joined(p) {
			need = 1
		}
		atLeast(rule, c, need)
	}
	// the role of the subject on the resource, and whether it comes from the space alone
	needRole := func(need int) {
		item, space := 0, x.role(s.address, "space", x.space.ID)
		private := false
		if x.item != nil {
			item, private = x.role(s.address, x.item.Kind.String(), x.item.ID), x.item.Private
		}
		have := item
		if !private {
			have = max(item, space)
		}
		g.ask("grant", have >= need)
		if service != "spaces" && service != "chat" && !private && item < need && space >= need {
			on("spaces.guests", own)
			parties(s)
		}
	}
	newcomer := func(key string) {
		if who != "N" {
			return
		}
		if !s.private {
			x.level(g, x.word("directory.invite_domains", own, at), s, key)
		}
		g.conditions["becomes_guest"], g.conditions["sign_in"] = true, true
	}
	switch x.q.action {
	case "directory.sign_in", "directory.leave", "directory.look_up":
		x.bars(g, s)
		x.notClosed(g, s, "directory.in")
		switch x.q.action {
		case "directory.leave":
			g.ask("rule", x.word("directory.leave", own, at) == "on")
		case "directory.look_up":
			shared := false
			for i := range x.w.Spaces {
				shared = shared || memberOf(&x.w.Spaces[i], x.owner) && x.role(s.address, "space", x.w.Spaces[i].ID) > 0
			}
			seen := x.word("directory.people_seen", own, at)
			g.ask("rule", seen == "all" || seen == "shared" && shared)
		}
	case "directory.sign_up":
		x.bars(g, s)
		x.level(g, x.word("directory.invite_domains", own, at), s, "directory.in")
		on("directory.guests", own)
		on("directory.self_signup", own)
		g.conditions["sign_in"] = true
	case "directory.accept_theirs", "meetings.join_theirs":
		rule, key := "directory.guest_elsewhere", "directory.out"
		if service == "meetings" {
			rule, key = "meetings.out", "meetings.out"
		}
		x.bars(g, &x.other)
		x.level(g, x.word(rule, x.about(&x.other), at), &x.other, key)
		g.ask("grant", x.owner == x.me)
	case "directory.invite":
		o, c := &x.other, x.about(&x.other)
		keys := []string{"directory.in"}
		if x.space != nil {
			keys = append(keys, "spaces.in")
		}
		if who == "G" {
			x.bars(g, s)
		}
		x.bars(g, o)
		for _, k := range keys {
			if who == "G" {
				x.notClosed(g, s, k)
			}
			x.notClosed(g, o, k)
			if !o.private {
				x.level(g, x.word("directory.invite_domains", c, at), o, k)
			}
			x.stance(g, o, k, "")
		}
		on("directory.guests", c)
		class := catalogue.Value(4)
		if x.me != nil {
			class = 3
			if x.me.Roles&world.Introducer != 0 || x.space != nil && slices.Contains(x.space.Owners, x.me.ID) {
				class = 2
			}
			if x.me.Roles&world.Administrator != 0 {
				class = 1
			}
		}
		atLeast("directory.invite_by", c, class)
		if o.private {
			atLeast("directory.personal", c, 1)
		}
		if x.space != nil {
			on("spaces.guests", c)
			parties(o)
			ok := false
			if x.me != nil {
				ok = slices.Contains(x.space.Owners, x.me.ID) || x.me.Roles&world.Administrator != 0 || x.space.Joinable && x.member(x.me)
			} else {
				ok = x.space.Joinable && x.role(s.address, "space", x.space.ID) > 0
			}
			g.ask("grant", ok)
		}
	case "spaces.join":
		x.bars(g, s)
		x.notClosed(g, s, "spaces.in")
		parties(s)
		x.level(g, x.word("spaces.join_in", own, at), s, "spaces.in")
		x.stance(g, s, "spaces.in", "")
		g.ask("grant", x.space.Kind == world.Course && x.space.Joinable)
	case "spaces.enter", "spaces.edit_page", "spaces.see_members", "spaces.edit_task", "spaces.open_channel":
		x.bars(g, s)
		x.notClosed(g, s, "spaces.in")
		parties(s)
		if who == "G" {
			on("spaces.guests", own)
		} else {
			x.level(g, x.word("spaces.connect", own, at), s, "spaces.in")
			x.stance(g, s, "spaces.in", "")
		}
		switch x.q.action {
		case "spaces.enter":
			needRole(1)
		case "spaces.see_members":
			atLeast("spaces.members_seen", own, 1)
			needRole(1)
		case "spaces.edit_page":
			atLeast("spaces.pages", own, 1)
			needRole(2)
		case "spaces.edit_task":
			atLeast("spaces.tasks", own, 1)
			needRole(2)
		case "spaces.open_channel":
			atLeast("spaces.channels", own, 1)
			needRole(2)
		}
	case "spaces.join_theirs", "chat.message_theirs", "chat.call_theirs":
		o, c := &x.other, x.about(&x.other)
		g.ask("grant", x.owner == x.me)
		if x.q.action == "chat.call_theirs" {
			atLeast("chat.calls", c, 1)
		}
		if service == "chat" && o.private {
			g.ask("domain", !o.barred)
			on("chat.personal", c)
			return
		}
		rule, key, feature := "spaces.join_out", "spaces.out", ""
		switch x.q.action {
		case "chat.message_theirs":
			rule, key, feature = "chat.federation", "chat.out", "messages"
		case "chat.call_theirs":
			rule, key, feature = "chat.federation", "chat.out", "voice"
		}
		x.bars(g, o)
		x.level(g, x.word(rule, c, at), o, key)
		x.stance(g, o, key, feature)
	case "chat.read", "chat.post", "chat.attach", "chat.edit_own", "chat.delete_own", "chat.message", "chat.call", "chat.see_presence":
		if x.kindOf == "channel" {
			x.bars(g, s)
			x.notClosed(g, s, "spaces.in")
			x.notClosed(g, s, "chat.in")
			parties(s)
			if who == "G" {
				on("chat.guests", own)
				on("spaces.guests", own)
			} else {
				x.level(g, x.word("spaces.connect", own, at), s, "spaces.in")
				x.stance(g, s, "spaces.in", "")
			}
			switch x.q.action {
			case "chat.read":
				needRole(1)
				return
			case "chat.edit_own":
				atLeast("chat.guest_edit", own, 1)
			case "chat.delete_own":
				atLeast("chat.guest_delete", own, 1)
			}
			needRole(2)
			return
		}
		presence := func() {
			need := catalogue.Value(2)
			for _, c := range x.w.Contacts {
				if c.Accepted && c.Person == x.owner.ID && c.Party.String() == s.address {
					need = 1
				}
			}
			atLeast("chat.presence", own, need)
		}
		switch who {
		case "G":
			x.bars(g, s)
			x.notClosed(g, s, "chat.in")
			on("chat.guests", own)
			if x.q.action == "chat.see_presence" {
				presence()
				return
			}
			atLeast("chat.guest_direct", own, 1)
			if more := map[string]string{"chat.call": "chat.guest_calls", "chat.attach": "chat.guest_attach", "chat.edit_own": "chat.guest_edit", "chat.delete_own": "chat.guest_delete"}[x.q.action]; more != "" {
				atLeast(more, own, 1)
			}
			return
		case "F":
			x.bars(g, s)
			x.level(g, x.word("chat.federation", own, at), s, "chat.in")
			x.stance(g, s, "chat.in", map[string]string{"chat.message": "messages", "chat.call": "voice", "chat.see_presence": "presence"}[x.q.action])
		case "P":
			g.ask("domain", !s.barred)
			on("chat.personal", own)
		}
		switch x.q.action {
		case "chat.call":
			atLeast("chat.calls", own, 1)
		case "chat.see_presence":
			presence()
		}
	case "meetings.see_details", "meetings.start":
		x.bars(g, s)
		x.notClosed(g, s, "meetings.in")
		if x.q.action == "meetings.start" {
			atLeast("meetings.guest_start", own, 1)
		}
		x.space = x.meetingSpace()
		if x.space == nil {
			g.ask("grant", false)
			return
		}
		parties(s)
		on("spaces.guests", own)
		need := map[string]int{"meetings.see_details": 1, "meetings.start": 2}[x.q.action]
		g.ask("grant", x.role(s.address, "space", x.space.ID) >= need)
	case "meetings.join", "meetings.remote_control", "meetings.join_early", "meetings.present":
		if who != "B" {
			x.bars(g, s)
			x.notClosed(g, s, "meetings.in")
		} else {
			own.party = nil
		}
		if len(x.meeting.SignInDomains) > 0 {
			ok := false
			for _, d := range x.meeting.SignInDomains {
				ok = ok || who != "B" && d.String() == s.domain
			}
			g.ask("domain", ok)
		}
		on("meetings.outsiders", own)
		known := who == "G" || who != "B" && (x.opened(s, "meetings.in") == "yes" || x.joined(s))
		need := catalogue.Value(2)
		switch {
		case known:
			need = 1
		case who == "B":
			need = 3
		}
		atLeast("meetings.outsiders", own, need)
		if (who == "F" || who == "P") && x.word("meetings.outsiders", own, at) != "anyone" {
			g.conditions["sign_in"] = true
		}
		if x.meeting.Passcode {
			g.conditions["passcode"] = true
		}
		g.ask("rule", x.meeting.Passcode || x.word("meetings.passcode", own, at) == "optional")
		if x.meeting.StandingRoom {
			atLeast("meetings.standing_room", own, 1)
		}
		switch x.word("meetings.held", own, at) {
		case "everybody":
			g.conditions["held_until_admitted"] = true
		case "strangers":
			g.conditions["held_until_admitted"] = !known
		}
		c := own
		if x.q.presenter != "" {
			c.person = x.person(x.q.presenter)
		}
		switch x.q.action {
		case "meetings.join_early":
			atLeast("meetings.early", own, 1)
		case "meetings.present":
			atLeast("meetings.present", c, 1)
		case "meetings.remote_control":
			atLeast("meetings.remote_control", c, 1)
			atLeast("meetings.share_screen", c, 2)
			g.conditions["presenter_asked"] = true
		}
	case "files.open", "files.edit", "files.download", "files.upload", "files.delete":
		need := map[string]int{"files.open": 1, "files.download": 1, "files.edit": 2, "files.upload": 2, "files.delete": 2}[x.q.action]
		if who == "B" {
			own.party = nil
			rule := "files.bearer_links"
			if x.space.Kind == world.Drive {
				rule = "files.drive_bearer_links"
			}
			atLeast(rule, own, 1)
			if x.link.Password {
				g.conditions["password"] = true
			}
			g.ask("rule", x.link.Password || x.word("files.link_password", own, at) == "optional")
			if x.q.action == "files.download" {
				g.ask("rule", x.link.Download && x.word("files.link_download", own, at) == "on")
			}
			end := x.link.Until
			if days := x.value("files.link_days", own, at); days != catalogue.NoLimit {
				y, m, d := x.link.Created.Time().In(x.w.Organisation.Zone).Date()
				end = min(end, moment.Of(time.Date(y, m, d+int(days)+1, 0, 0, 0, 0, x.w.Organisation.Zone)))
			}
			right := min(int(x.link.Right), 1+int(x.value("files.link_right", own, at)))
			g.ask("grant", x.link.Item.ID == x.item.ID && x.link.Created != moment.Always && x.link.Created <= at && at < end && right >= need)
			return
		}
		x.bars(g, s)
		x.notClosed(g, s, "files.in")
		if !privateNamed {
			x.level(g, x.word("files.domains", own, at), s, "files.in")
		} else {
			atLeast("directory.personal", own, 1)
		}
		newcomer("files.in")
		givenTo("files.given_to", s, own)
		atLeast("files.role", own, catalogue.Value(need-1))
		needRole(need)
	case "files.share":
		o, c := &x.other, x.about(&x.other)
		if who == "G" {
			x.bars(g, s)
			x.notClosed(g, s, "files.in")
			atLeast("files.reshare", own, 1)
			needRole(2)
		} else {
			g.ask("grant", x.member(x.me))
		}
		x.bars(g, o)
		x.notClosed(g, o, "files.in")
		if o.private {
			atLeast("directory.personal", c, 1)
		} else {
			x.level(g, x.word("files.domains", c, at), o, "files.in")
		}
		givenTo("files.given_to", o, c)
	case "mail.forward":
		o, c := &x.other, x.about(&x.other)
		x.bars(g, o)
		x.level(g, x.word("mail.forward", c, at), o, "mail.out")
		keeps, by := !x.q.dropsCopy, catalogue.Value(2)
		for _, f := range x.w.Forwarders {
			if f.Mailbox == x.owner.ID && f.To.String() == o.address {
				keeps = f.KeepCopy
				if f.SetBy == "administrator" {
					by = 1
				}
			}
		}
		if x.me.Roles&world.Administrator != 0 {
			by = 1
		}
		g.ask("rule", keeps || x.word("mail.forward_copy", c, at) == "optional")
		atLeast("mail.forward_set_by", c, by)
		g.ask("grant", x.owner == x.me)
	case "mail.see_busy", "mail.see_subject", "mail.see_details":
		x.bars(g, s)
		x.level(g, "listed", s, "mail.in")
		atLeast("mail.calendar", own, map[string]catalogue.Value{"mail.see_busy": 1, "mail.see_subject": 2, "mail.see_details": 3}[x.q.action])
	case "reports.share":
		o, c := &x.other, x.about(&x.other)
		if who == "G" {
			x.bars(g, s)
			x.notClosed(g, s, "reports.in")
			atLeast("reports.reshare", own, 1)
			needRole(2)
		} else {
			class := catalogue.Value(3)
			if x.me.Roles&world.Sharer != 0 || slices.Contains(x.space.Owners, x.me.ID) {
				class = 2
			}
			if x.me.Roles&world.Administrator != 0 {
				class = 1
			}
			atLeast("reports.share_by", c, class)
		}
		x.bars(g, o)
		x.notClosed(g, o, "reports.in")
		if o.private {
			atLeast("directory.personal", c, 1)
		}
		givenTo("reports.given_to", o, c)
	case "reports.view", "reports.export", "reports.browse", "reports.edit", "reports.enter":
		x.bars(g, s)
		x.notClosed(g, s, "reports.in")
		newcomer("reports.in")
		if who == "N" && s.private {
			atLeast("directory.personal", own, 1)
		}
		givenTo("reports.given_to", s, own)
		if x.q.action == "reports.edit" {
			needRole(2)
		} else {
			needRole(1)
		}
		switch x.q.action {
		case "reports.view":
			if x.word("reports.guest_browse", own, at) == "off" {
				g.conditions["no_browsing"] = true
			}
		case "reports.export":
			atLeast("reports.export", own, 1)
		case "reports.browse":
			atLeast("reports.guest_browse", own, 1)
		default:
			atLeast("reports.guest_edit", own, 1)
		}
		routes := x.value("reports.licence", own, at)
		house := routes&1 != 0 && x.space.HouseLicence
		ours, theirs := false, false
		if who == "G" {
			ours = routes&2 != 0 && s.record.Licence == world.LicenceOurs && s.record.Location != ""
			theirs = routes&4 != 0 && s.record.Licence == world.LicenceTheirs
		}
		g.ask("licence", house || ours || theirs)
	}
}
