package engine_test

import (
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

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
		if who == "F" {
			space = max(space, x.roleOfMany(s, x.space.ID))
		}
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
		x.bars(g, s, "directory.in")
		x.level(g, x.word("directory.invite_domains", own, at), s, "directory.in")
		on("directory.guests", own)
		on("directory.self_signup", own)
		g.conditions["sign_in"] = true
	case "directory.accept_theirs", "meetings.join_theirs":
		rule, key := "directory.guest_elsewhere", "directory.out"
		if service == "meetings" {
			rule, key = "meetings.out", "meetings.out"
		}
		x.bars(g, &x.other, key)
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
		x.bars(g, o, "directory.in")
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
		x.bars(g, s, "spaces.in")
		x.notClosed(g, s, "spaces.in")
		parties(s)
		x.level(g, x.word("spaces.join_in", own, at), s, "spaces.in")
		x.stance(g, s, "spaces.in", "")
		g.ask("grant", x.space.Kind == world.Course && x.space.Joinable)
	case "spaces.enter", "spaces.edit_page", "spaces.see_members", "spaces.edit_task", "spaces.open_channel":
		if who == "G" {
			x.bars(g, s)
		} else {
			x.bars(g, s, "spaces.in")
		}
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
		x.bars(g, o, key)
		x.level(g, x.word(rule, c, at), o, key)
		x.stance(g, o, key, feature)
	case "chat.read", "chat.post", "chat.attach", "chat.edit_own", "chat.delete_own", "chat.message", "chat.call", "chat.see_presence":
		if x.kindOf == "channel" {
			if who == "G" {
				x.bars(g, s)
			} else {
				x.bars(g, s, "spaces.in")
			}
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
			if more := map[string]string{"chat.call": "chat.guest_calls", "chat.attach": "chat.guest_attach", "chat.edit_own": "chat.guest_edit",
				"chat.delete_own": "chat.guest_delete"}[x.q.action]; more != "" {
				atLeast(more, own, 1)
			}
			return
		case "F":
			x.bars(g, s, "chat.in")
			x.level(g, x.word("chat.federation", own, at), s, "chat.in")
			x.stance(g, s, "chat.in", map[string]string{"chat.message": "messages", "chat.call": "voice",
				"chat.see_presence": "presence"}[x.q.action])
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
		if len(x.meeting.SignInDomains)+len(x.meeting.SignInLists) > 0 {
			ok := false
			for _, d := range x.meeting.SignInDomains {
				ok = ok || who != "B" && d.String() == s.domain
			}
			for _, id := range x.meeting.SignInLists {
				for _, l := range x.w.DomainLists {
					for _, d := range l.Domains {
						ok = ok || l.ID == id && who != "B" && d.String() == s.domain
					}
				}
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
		x.bars(g, s, "files.in")
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
		x.bars(g, o, "files.in")
		x.notClosed(g, o, "files.in")
		if o.private {
			atLeast("directory.personal", c, 1)
		} else {
			x.level(g, x.word("files.domains", c, at), o, "files.in")
		}
		givenTo("files.given_to", o, c)
	case "mail.forward":
		o, c := &x.other, x.about(&x.other)
		x.bars(g, o, "mail.out")
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
		x.bars(g, s, "mail.in")
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
