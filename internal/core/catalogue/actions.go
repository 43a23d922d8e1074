package catalogue

// buildActions lists the catalogue of actions: what each is about, who does it,
// and what must be so for each sort of account. The table at its end has one
// line for each action and reads like the catalogue in the shared design. The
// functions before it are the shapes that several lines share; each returns a
// fresh row, so that a line may change its own.
func buildActions() []Action {
	r := MustRule
	at := func(rule string, v Value) Need { return Need{Kind: AtLeast, Rule: r(rule), Value: v} }
	kind := func(k NeedKind, rule string) Need { return Need{Kind: k, Rule: r(rule)} }
	var (
		personalA = kind(PrivateA, "directory.personal")
		// What happens inside a space: a record needs that the space has
		// guests, an account of another organisation that it is connected; both
		// need to be among the space's parties and to hold a role.
		inSpace = func(needs []Need, role Role) [NumClasses]*Ask {
			return [NumClasses]*Ask{
				Record: {Level: AnyLevel, Key: In(Spaces), SpaceGuests: true, SpaceParty: true, Needs: needs, Holding: ByRole, Role: role},
				Federated: {Level: ByRule, LevelRule: r("spaces.connect"), Key: In(Spaces), Counterpart: true, SpaceParty: true, Needs: needs,
					Holding: ByRole, Role: role},
			}
		}
		// Files and reports: whoever was given them, with a record or on the
		// way to one.
		given = func(service Service, level DomainLevel, rule RuleID, needs []Need, role Role) [NumClasses]*Ask {
			ask := &Ask{Level: level, LevelRule: rule, Key: In(service), Needs: needs, Holding: ByRole, Role: role}
			return [NumClasses]*Ask{Record: ask, Newcomer: ask}
		}
		// The door of a meeting: nobody needs a grant, and whoever holds the
		// address may be a Bearer.
		door = func(needs ...Need) [NumClasses]*Ask {
			all := append([]Need{kind(Outsiders, "meetings.outsiders"), kind(Passcode, "meetings.passcode"),
				kind(StandingRoom, "meetings.standing_room")}, needs...)
			sw := []RuleID{r("meetings.outsiders")}
			ask := &Ask{Level: AnyLevel, Key: In(Meetings), Switches: sw, Needs: all}
			return [NumClasses]*Ask{Record: ask, Federated: ask, Personal: ask, Bearer: {Switches: sw, Needs: all}}
		}
		// A bearer link: no domain is asked, since nobody knows who holds it.
		link = func(role Role) *Ask {
			return &Ask{Needs: []Need{at("files.bearer_links", On), kind(LinkPassword, "files.link_password")}, Holding: ByLink, Role: role}
		}
	)
	// Values of scales that the needs below name; the scales are in rules.go.
	const (
		canView       = Value(0) // on files.role
		canContribute = Value(1)
		calendarBusy  = Value(1) // on mail.calendar
		wholeScreen   = Value(2) // on meetings.share_screen
	)
	const (
		calendarSubject = Value(2)
		calendarFull    = Value(3)
	)
	bearer := func(row [NumClasses]*Ask, ask *Ask) [NumClasses]*Ask {
		row[Bearer] = ask
		return row
	}
	// The two scales of roles differ: what a grant gives (view, contribute,
	// manage) and the most that files.role lets an outsider do.
	onFiles := func(role Role) [NumClasses]*Ask {
		reach := canView
		if role == Contribute {
			reach = canContribute
		}
		return given(Files, ByRule, r("files.domains"), []Need{kind(GivenTo, "files.given_to"), at("files.role", reach)}, role)
	}
	onReports := func(role Role, more ...Need) [NumClasses]*Ask {
		return given(Reports, AnyLevel, NoRule, append([]Need{kind(GivenTo, "reports.given_to")}, more...), role)
	}
	download := link(View)
	download.Needs = append(download.Needs, kind(LinkDownload, "files.link_download"))
	// A channel is of its space and of chat: both keys have to be open, the
	// second only at no.
	inChannel := func(role Role, needs ...Need) [NumClasses]*Ask {
		rows := inSpace(needs, role)
		rows[Record].Switches = []RuleID{r("chat.guests")}
		rows[Record].Also, rows[Federated].Also = []Key{In(Chat)}, []Key{In(Chat)}
		return rows
	}
	toPerson := func(more ...Need) [NumClasses]*Ask {
		needs := append([]Need{at("chat.guest_direct", On)}, more...)
		return [NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Chat), Switches: []RuleID{r("chat.guests")}, Needs: needs}}
	}
	// Chat across organisations: a federated account needs both sides, a
	// private one the switch for them.
	across := func(rows [NumClasses]*Ask, f Feature, needs ...Need) [NumClasses]*Ask {
		rows[Federated] = &Ask{Level: ByRule, LevelRule: r("chat.federation"), Key: In(Chat), Counterpart: true, Feature: f, Needs: needs}
		rows[Personal] = &Ask{Level: BarsOnly, Switches: []RuleID{r("chat.personal")}, Needs: needs}
		return rows
	}
	// Our people going to theirs: the domain asked is that of the other side,
	// and nobody but the person themselves decides to go.
	theirs := func(level string, s Service, counterpart bool) [NumClasses]*Ask {
		return [NumClasses]*Ask{Ours: {Of: Addressee, Level: ByRule, LevelRule: r(level), Key: Out(s), Counterpart: counterpart, Holding: Self}}
	}
	chatTheirs := func(f Feature, needs ...Need) [NumClasses]*Ask {
		rows := theirs("chat.federation", Chat, true)
		rows[Ours].Feature, rows[Ours].Needs = f, needs
		rows[Ours].Private = &Ask{Of: Addressee, Level: BarsOnly, Switches: []RuleID{r("chat.personal")}, Needs: needs, Holding: Self}
		return rows
	}
	record := func(level DomainLevel, k Key, needs ...Need) [NumClasses]*Ask {
		return [NumClasses]*Ask{Record: {Level: level, Key: k, Needs: needs}}
	}
	ofMeetingSpace := func(role Role, needs ...Need) [NumClasses]*Ask {
		return [NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Meetings), SpaceGuests: true, SpaceParty: true, Needs: needs, Holding: ByRole,
			Role: role}}
	}
	calendar := func(v Value) [NumClasses]*Ask {
		return [NumClasses]*Ask{Federated: {Level: Listed, Key: In(Mail), Needs: []Need{at("mail.calendar", v)}}}
	}
	rows := func(x [NumClasses]*Ask) *[NumClasses]*Ask { return &x }
	signUp := &Ask{Level: ByRule, LevelRule: r("directory.invite_domains"), Key: In(Directory),
		Switches: []RuleID{r("directory.guests"), r("directory.self_signup")}}
	join := &Ask{Level: ByRule, LevelRule: r("spaces.join_in"), Key: In(Spaces), Counterpart: true, SpaceParty: true, Holding: JoinableCourse}
	presence := kind(PresenceSeen, "chat.presence")
	seePresence := across([NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Chat), Switches: []RuleID{r("chat.guests")},
		Needs: []Need{presence}}}, Presence, presence)
	edits, deletes := at("chat.guest_edit", On), at("chat.guest_delete", On)
	// Who shares a report must have been given it, if they come from outside;
	// of ours the class counts.
	reportShare := both(Ask{Of: Addressee, Level: AnyLevel, Key: In(Reports), Needs: []Need{kind(GivenTo, "reports.given_to"), personalA},
		Holding: ByRole, Role: Contribute},
		[]Need{{Kind: AtOwn, Rule: r("reports.reshare"), Value: On}})
	reportShare[Ours].Needs = append([]Need{kind(SharerClass, "reports.share_by")}, reportShare[Ours].Needs...)
	reportShare[Ours].Holding, reportShare[Ours].Role = Nothing, NoRole
	var (
		ours    = []ResourceKind{OurDirectory}
		space   = []ResourceKind{Space}
		channel = []ResourceKind{Channel}
		someone = []ResourceKind{Person}
		chatted = []ResourceKind{Channel, Person}
		meeting = []ResourceKind{Meeting}
		file    = []ResourceKind{Folder, File}
		diary   = []ResourceKind{Calendar}
		report  = []ResourceKind{Report, Dashboard}
	)

	out := [...]Action{
		{Name: "directory.sign_in", Title: "sign in", On: ours, WhileInvited: true, Asks: record(AnyLevel, In(Directory))},
		{Name: "directory.leave", Title: "remove the own record", On: ours, Asks: record(AnyLevel, In(Directory), at("directory.leave", On))},
		{Name: "directory.look_up", Title: "look up somebody", On: someone, Person: Addressed, Spread: Wide,
			Asks: record(AnyLevel, In(Directory), kind(LookUp, "directory.people_seen"))},
		{Name: "directory.sign_up", Title: "open a record without an invitation", On: ours, SignsIn: true, Newly: true,
			Asks: [NumClasses]*Ask{Federated: signUp, Personal: signUp}},
		{Name: "directory.invite", Title: "invite somebody", On: []ResourceKind{OurDirectory, Space}, Address: true, Person: SubjectPerson,
			Spread: Granted,
			Asks: both(Ask{Of: Addressee, Level: ByRule, LevelRule: r("directory.invite_domains"), Key: In(Directory), Counterpart: true,
				Switches: []RuleID{r("directory.guests")}, SpaceGuests: true, SpaceParty: true,
				Needs: []Need{kind(InviterClass, "directory.invite_by"), personalA}, Holding: MayInvite}, nil)},
		{Name: "directory.accept_theirs", Title: "accept an invitation elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("directory.guest_elsewhere", Directory, false)},

		{Name: "spaces.enter", Title: "enter the space", On: space, Spread: Granted, Asks: inSpace(nil, View)},
		{Name: "spaces.see_members", Title: "see who is in the space", On: space, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.members_seen", On)}, View)},
		{Name: "spaces.edit_page", Title: "change the page", On: []ResourceKind{Page}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.pages", On)}, Contribute)},
		{Name: "spaces.edit_task", Title: "work on the task list", On: []ResourceKind{Tasklist}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.tasks", On)}, Contribute)},
		{Name: "spaces.open_channel", Title: "open or change a channel", On: []ResourceKind{Space, Channel}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.channels", On)}, Contribute)},
		{Name: "spaces.join", Title: "join the course", On: space, Spread: Wide, Asks: [NumClasses]*Ask{Federated: join, Personal: join}},
		{Name: "spaces.join_theirs", Title: "join a space or course elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("spaces.join_out", Spaces, true)},

		{Name: "chat.read", Title: "read the channel", On: channel, Spread: Granted, Asks: inChannel(View)},
		{Name: "chat.post", Title: "post in the channel", On: channel, Spread: Granted, Asks: inChannel(Contribute)},
		{Name: "chat.message", Title: "send a message", On: someone, Person: Addressed, Spread: Wide, Asks: across(toPerson(), Messages)},
		{Name: "chat.call", Title: "call", On: someone, Person: Addressed, Spread: Wide,
			Asks: across(toPerson(at("chat.guest_calls", On)), Voice, at("chat.calls", On))},
		{Name: "chat.attach", Title: "attach a file to a message", On: chatted, Person: Addressed, Spread: Wide,
			Asks: toPerson(at("chat.guest_attach", On)), InSpace: rows(inChannel(Contribute))},
		{Name: "chat.edit_own", Title: "change an own message", On: chatted, Person: Addressed, Spread: Wide, Asks: toPerson(edits),
			InSpace: rows(inChannel(Contribute, edits))},
		{Name: "chat.delete_own", Title: "delete an own message", On: chatted, Person: Addressed, Spread: Wide, Asks: toPerson(deletes),
			InSpace: rows(inChannel(Contribute, deletes))},
		{Name: "chat.see_presence", Title: "see whether somebody is there", On: someone, Person: Addressed, Spread: Wide, Asks: seePresence},
		{Name: "chat.message_theirs", Title: "send a message to somebody outside", On: someone, Address: true, Person: SubjectPerson,
			Asks: chatTheirs(Messages)},
		{Name: "chat.call_theirs", Title: "call somebody outside", On: someone, Address: true, Person: SubjectPerson,
			Asks: chatTheirs(Voice, at("chat.calls", On))},

		{Name: "meetings.join", Title: "join the meeting", On: meeting, Person: Host, MeetingDoor: true, Spread: Wide, Asks: door()},
		{Name: "meetings.join_early", Title: "be in before the host", On: meeting, Person: Host, MeetingDoor: true, Spread: Wide,
			Asks: door(at("meetings.early", On))},
		{Name: "meetings.present", Title: "present", On: meeting, Person: Host, MeetingDoor: true, Presenter: true, Spread: Wide,
			Asks: door(Need{AtPresenter, r("meetings.present"), On})},
		{Name: "meetings.remote_control", Title: "take control of a shared screen", On: meeting, Person: Host, MeetingDoor: true, Presenter: true,
			PresenterAsked: true, Spread: Wide,
			Asks: door(Need{AtPresenter, r("meetings.remote_control"), On}, Need{AtPresenter, r("meetings.share_screen"), wholeScreen})},
		{Name: "meetings.see_details", Title: "see the details of the meeting", On: meeting, Spread: Granted, Asks: ofMeetingSpace(View)},
		{Name: "meetings.start", Title: "start the meeting", On: meeting, Spread: Granted,
			Asks: ofMeetingSpace(Contribute, at("meetings.guest_start", On))},
		{Name: "meetings.join_theirs", Title: "join a meeting elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("meetings.out", Meetings, false)},

		{Name: "files.open", Title: "open the file", On: file, Person: InDrive, Spread: Granted, Asks: bearer(onFiles(View), link(View))},
		{Name: "files.download", Title: "download the file", On: file, Person: InDrive, Spread: Granted, Asks: bearer(onFiles(View), download)},
		{Name: "files.edit", Title: "change the file", On: file, Person: InDrive, Spread: Granted,
			Asks: bearer(onFiles(Contribute), link(Contribute))},
		{Name: "files.upload", Title: "upload a file", On: file, Person: InDrive, Spread: Granted, Asks: onFiles(Contribute)},
		{Name: "files.delete", Title: "delete the file", On: file, Person: InDrive, Spread: Granted, Asks: onFiles(Contribute)},
		{Name: "files.share", Title: "share the file", On: file, Address: true, Person: SubjectOrDrive, Spread: Granted,
			Asks: both(Ask{Of: Addressee, Level: ByRule, LevelRule: r("files.domains"), Key: In(Files),
				Needs: []Need{kind(GivenTo, "files.given_to"), personalA}, Holding: MemberOfSpace, Role: Contribute},
				[]Need{{Kind: AtOwn, Rule: r("files.reshare"), Value: On}})},

		{Name: "mail.forward", Title: "forward mail automatically", On: []ResourceKind{Mailbox}, Address: true, Person: SubjectPerson,
			Asks: [NumClasses]*Ask{Ours: {Of: Addressee, Level: ByRule, LevelRule: r("mail.forward"), Key: Out(Mail),
				Needs: []Need{kind(KeepCopy, "mail.forward_copy"), kind(SetBy, "mail.forward_set_by")}, Holding: OwnMailbox}}},
		{Name: "mail.see_busy", Title: "see busy times", On: diary, Person: Owner, Spread: Wide, Asks: calendar(calendarBusy)},
		{Name: "mail.see_subject", Title: "see subject and place of entries", On: diary, Person: Owner, Spread: Wide,
			Asks: calendar(calendarSubject)},
		{Name: "mail.see_details", Title: "see all of the entries", On: diary, Person: Owner, Spread: Wide, Asks: calendar(calendarFull)},

		{Name: "reports.view", Title: "view the report", On: report, NoBrowsing: true, Licence: true, Spread: Granted, Asks: onReports(View)},
		{Name: "reports.export", Title: "take the data of the report out", On: report, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.export", On))},
		{Name: "reports.browse", Title: "browse for the report", On: report, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.guest_browse", On))},
		{Name: "reports.edit", Title: "change the report", On: report, Licence: true, Spread: Granted,
			Asks: onReports(Contribute, at("reports.guest_edit", On))},
		{Name: "reports.enter", Title: "enter the report area", On: space, AreaOnly: true, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.guest_edit", On))},
		{Name: "reports.share", Title: "share the report", On: report, Address: true, Person: SubjectPerson, Spread: Granted, Asks: reportShare},
	}
	// A set of actions is one word: with the 65th action this constant
	// overflows, and nothing compiles until the sets are wider.
	const _ = uint(MaxActions - len(out))
	for i := range out {
		out[i].ID = ActionID(i)
	}
	return out[:]
}

// both gives the same row to our people and to records, which are asked extra
// needs first and hold a role where our people hold the space. An outsider who
// shares onward needs the right to, on top of all that one of ours needs.
func both(ask Ask, extra []Need) [NumClasses]*Ask {
	record := ask
	record.Needs = append(append([]Need{}, extra...), ask.Needs...)
	if ask.Holding == MemberOfSpace {
		record.Holding = ByRole
	}
	return [NumClasses]*Ask{Ours: &ask, Record: &record}
}
