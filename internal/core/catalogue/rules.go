package catalogue

import "strings"

// Scales that several rules share.
var (
	onOff   = Scale{Shape: Switch, Names: []string{"off", "on"}}
	domains = Scale{Shape: Level, Names: []string{"closed", "listed", "any"}}
	needed  = Scale{Shape: Level, Names: []string{"required", "optional"}}
	givenTo = Scale{Shape: Level, Names: []string{"inside", "known", "newcomers"}}
	days    = Scale{Shape: Days}
	domSaid = []string{"Nobody outside.", "Only partners opened for this service and direction.",
		"Anybody who is not barred, suspended or closed by name."}
	needSaid = []string{"It is required.", "It may be left out."}
)

// levels is a scale of names, written from the tightest to the loosest with <
// between them.
func levels(names string) Scale {
	return Scale{Shape: Level, Names: strings.Split(names, " < ")}
}

// entry is a rule as the table below writes it: values as words. A new rule is
// one entry; all else is made from it: format, pages, docs, defaults.
type entry struct {
	name, limit, start, layers string
	scale                      Scale
	title                      string
	said                       []string
	words, advised, why, omits string
}

// yes are the two sentences of a switch, for off and for on.
func yes(off, on string) []string { return []string{off, on} }

// buildRules reads the catalogue of rules and gives each its number, in the
// order in which they stand.
func buildRules() []Rule {
	out := make([]Rule, 0, NumRules)
	// A value of the table that is off its scale is a mistake of ours and stops
	// the program at once.
	parse := func(s Scale, text string) Value {
		words := []string{text}
		if s.Shape == Methods {
			words = strings.Split(text, ", ")
		}
		v, err := s.Parse(words...)
		if err != nil {
			panic("catalogue: " + err.Error())
		}
		return v
	}
	for i, e := range ruleEntries {
		r := Rule{ID: RuleID(i), Name: e.name, Scale: e.scale, Title: e.title, Sentences: e.said, Words: strings.Fields(e.words), Reason: e.why,
			Omits: e.omits}
		r.Limit, r.Default, r.Advised = parse(e.scale, e.limit), parse(e.scale, e.start), parse(e.scale, e.advised)
		for _, c := range strings.ReplaceAll(e.layers, " ", "") {
			r.Layers |= 1 << strings.IndexRune("PESI", c)
		}
		out = append(out, r)
	}
	return out
}

// In each line: name, limit and default of a new installation, the layers that
// may set it (P partner, E people, S space, I item or meeting), scale, title, a
// sentence for each value, search words, the value that is advised, why, and
// what the rule does not cover.
var ruleEntries = [...]entry{
	// directory
	{"directory.guests", "on", "off", "P", onOff, "Guests in our directory",
		yes("Nobody from outside holds a record with us.", "People from outside may hold a record with us."),
		"guest external account record visitor outsider access allow", "on",
		"A record has a sponsor, an end and a history; without records people share by links instead.",
		"It does not say who may invite, nor into which spaces."},
	{"directory.invite_by", "staff", "introducers", "S", levels("nobody < administrators < introducers < staff < guests"), "Who may invite",
		[]string{"Nobody invites.", "Only administrators invite.", "Administrators, introducers and, into their spaces, owners invite.",
			"All our people invite.", "Our people and guests invite."},
		"who can invite invitation inviter introducer guest owner", "introducers",
		"Those who know the purpose invite, and somebody answers for every guest.", "It does not say whose addresses may be invited."},
	{"directory.invite_domains", "any", "listed", "", domains, "Whose addresses may be invited", domSaid,
		"invite domain allow list partner guest address company trust trusted", "listed",
		"Every invited firm is then a partner with an owner and a standing.", "Private addresses are decided by directory.personal."},
	{"directory.personal", "on", "off", "E S", onOff, "Private addresses by name",
		yes("Private addresses cannot be invited or be given a file or report.",
			"Private addresses may be invited and be given files and reports by name."),
		"private personal webmail volunteer freelancer home address", "off", "Nobody closes a private mailbox when its owner changes jobs.",
		"Chat with private accounts is chat.personal; bearer links ask nobody's address."},
	{"directory.self_signup", "on", "off", "", onOff, "Signing up without an invitation",
		yes("A record begins with an invitation or a feed.", "People from outside may open a record by themselves."),
		"register signup self service join account", "off", "Nobody answers for who signed up by themselves.",
		"It gives nothing but the record."},
	{"directory.people_seen", "all", "shared", "P", levels("self < shared < all"), "Whom of ours a guest can look up",
		[]string{"Only themselves.", "People of the spaces they share.", "Everyone."},
		"address book look up search people directory browse organisation chart", "shared",
		"Guests find whom they work with and cannot harvest the rest.", "Names inside a space are spaces.members_seen."},
	{"directory.profile_seen", "all", "name", "P", levels("name < contact < all"), "Which fields guests see",
		[]string{"The name alone.", "Name and ways to reach the person.", "The whole profile."},
		"profile fields phone photo title address details", "name", "Phone numbers and titles help those who prepare fraud.", ""},
	{"directory.leave", "on", "on", "P", Scale{Shape: Choice, Names: []string{"off", "on"}}, "Leaving by oneself",
		yes("A guest asks us to remove the record.", "A guest may remove their own record."),
		"leave remove delete own account record", "on", "People may withdraw what they agreed to.",
		"History keeps what privacy law lets it keep."},
	{"directory.sign_in", "all", "code, partner", "P", Scale{Shape: Methods, Names: []string{"code", "partner", "private"}},
		"How guests sign in",
		[]string{"A one-time code is mailed.", "The partner's own sign-in is used.", "A private account is used."},
		"sign in login authentication one-time code password federation openid saml", "code, partner",
		"Both prove the mailbox or the employer; a private account proves neither.", "Home accounts sign in at home."},
	{"directory.terms", "optional", "required", "P", needed, "Terms of use", needSaid,
		"terms conditions consent accept agreement", "required", "What a guest may do with what they see is then agreed.",
		"Missing terms never refuse, they are asked for at the door."},
	{"directory.consent", "silent", "ask", "P", levels("ask < silent"), "Acceptance prompt",
		[]string{"Everyone is asked before the first use.", "The prompt is skipped where the partner's side skips it too."},
		"consent prompt redeem acceptance silent automatic", "ask", "People should know that they enter somebody else's house.",
		"It is asked by no action."},
	{"directory.feed_in", "on", "off", "P", onOff, "A partner's people feed",
		yes("No partner keeps people in our directory.", "The partner may keep its people in our directory."),
		"feed scim provisioning sync automatic people partner", "off", "Open it for partners whose comings and goings are many.",
		"What fed people reach is asked like for guests."},
	{"directory.feed_out", "on", "off", "P E", onOff, "Our people in a partner's directory",
		yes("None of our people are kept elsewhere.", "Our people may be kept in the partner's directory."),
		"feed scim provisioning sync outbound our people", "off", "Whoever leaves us must leave there too; open it where the feed runs.",
		"It is asked by no action."},
	{"directory.guest_elsewhere", "any", "any", "E", domains, "Whose invitations our people accept", domSaid,
		"outbound accept invitation elsewhere guest of others organisation", "any",
		"Closing it keeps people from their work more often than it keeps data in.", "What they carry there is not seen here."},
	// guests
	{"guests.sponsor", "optional", "required", "P", needed, "A sponsor for every guest", needSaid,
		"sponsor owner responsible answer for manager", "required", "A guest nobody answers for is a guest nobody lets go.", ""},
	{"guests.term_days", "none", "365", "P", days, "Life of a record",
		[]string{"A record ends N days after it began or was renewed.", "A record has no term."},
		"expiry expire term lifetime end days year", "365", "Somebody says once a year that it is still needed.",
		"Grants have ends of their own."},
	{"guests.extend_days", "365", "180", "P", days, "One extension",
		[]string{"One extension adds at most N days.", "One extension may add any time."},
		"extend renew prolong extension days", "180", "Long enough for a project, short enough to be asked again.", ""},
	{"guests.idle_days", "none", "90", "P", days, "Unseen guests",
		[]string{"A guest not seen for N days is suspended.", "A guest may stay away for any time."},
		"idle inactive unused stale last seen dormant", "90", "Who has not come for a quarter has mostly moved on.",
		"Suspended is not removed: see guests.grace_days."},
	{"guests.invite_days", "90", "14", "P", days, "An open invitation",
		[]string{"An invitation lapses after N days.", "An invitation stays open."},
		"invitation pending lapse open accept days", "14", "An old mail should open nothing.", ""},
	{"guests.after_last_grant", "keep", "suspend", "P", levels("suspend < keep"), "After the last grant",
		[]string{"The record is suspended when its last grant ends.", "The record stays when its last grant ends."},
		"last grant nothing left orphan empty", "suspend", "A record that reaches nothing still signs in.", ""},
	{"guests.grace_days", "365", "30", "P", days, "From suspension to removal",
		[]string{"A suspended record is removed after N days.", "A suspended record is kept."},
		"grace delete removal suspended purge", "30", "Time to notice a mistake.", ""},
	{"guests.review_days", "none", "180", "P S", days, "Reviews of grants",
		[]string{"Sponsors confirm each grant every N days.", "Grants are not reviewed."},
		"review recertify attest confirm access", "180", "Twice a year is as often as sponsors answer with care.", ""},
	{"guests.review_silence", "keep", "end", "P S", levels("end < keep"), "No answer to a review",
		[]string{"Fourteen days without an answer end the grant.", "No answer keeps the grant."},
		"review silence no answer unanswered overdue", "end", "Silence is what a forgotten grant looks like.", ""},
	{"guests.warn_days", "90", "14", "P", days, "Warning before an end",
		[]string{"Guest and sponsor hear of an end N days before.", "Nobody is warned."},
		"warn notice reminder remind before expiry", "14", "Two weeks survive a holiday.", ""},
	// spaces
	{"spaces.guests", "on", "off", "P S", onOff, "Guests in a space",
		yes("Guests are no members of the space.", "Guests may be members of the space."),
		"guest team space member external site access supplier site", "off", "Open it in the spaces that are meant for it.",
		"Single items can be given without it."},
	{"spaces.connect", "any", "closed", "S", domains, "Members with their home account", domSaid,
		"connect channel home account shared federation member cross", "closed",
		"No record means no end and no review: open it where both sides know why.", ""},
	{"spaces.join_in", "any", "closed", "S", domains, "Who may join our courses", domSaid,
		"join course enrol enroll self public class students co-teacher teacher teaching lecturer class", "closed",
		"A course open to one partner should say so itself.", ""},
	{"spaces.join_out", "any", "closed", "E", domains, "Which spaces elsewhere our people join", domSaid,
		"join course elsewhere outbound enrol class space co-teacher teacher class", "closed",
		"Open it towards partners we teach and learn with.", ""},
	{"spaces.members_seen", "on", "on", "S", onOff, "The list of members",
		yes("Outsiders do not see who else is there.", "Outsiders see who else is in the space."),
		"members list roster participants who else", "on", "People should know who reads along.", ""},
	{"spaces.pages", "on", "off", "P S", onOff, "Editing pages",
		yes("Outsiders read pages.", "Outsiders may edit pages."),
		"page wiki notes edit write", "off", "Pages are quoted as ours.", "Files are files.role."},
	{"spaces.tasks", "on", "on", "P S", onOff, "Working on task lists",
		yes("Outsiders do not work on task lists.", "Outsiders may work on task lists."),
		"task tasks list todo plan board", "on", "Work shared is work seen.", ""},
	{"spaces.channels", "on", "off", "S", onOff, "Opening channels",
		yes("Outsiders cannot open or change channels.", "Outsiders may open and change channels."),
		"channel create open change rename", "off", "The owner keeps the order of a space.", ""},
	// chat
	{"chat.federation", "any", "closed", "E", domains, "Chat with other organisations", domSaid,
		"chat federation external organisations domains allow talk message trust trusted", "listed",
		"Partners are known, and strangers are where fraud begins.", "Guests chat with their record: chat.guests."},
	{"chat.personal", "on", "off", "E", onOff, "Chat with private accounts",
		yes("Our people do not chat with private accounts.", "Our people may chat with private accounts."),
		"chat private consumer personal account public messenger consumer", "off", "Nobody stands behind a private account.", ""},
	{"chat.calls", "on", "on", "P E", onOff, "Calls with outside contacts",
		yes("No voice or video with outside contacts.", "Voice and video with outside contacts."),
		"call voice video phone federated", "on", "A voice is harder to forge than a text.", "Guests: chat.guest_calls."},
	{"chat.guests", "on", "on", "P S", onOff, "Guests in chat",
		yes("Guests do not use chat.", "Guests may use chat."),
		"chat guest message talk", "on", "What is not said here is said elsewhere.", ""},
	{"chat.guest_direct", "on", "on", "P", onOff, "Direct messages from guests",
		yes("Guests write in channels alone.", "Guests may write to our people one to one."),
		"direct message private one-to-one guest chat", "on", "Small questions need no channel.", ""},
	{"chat.guest_calls", "on", "off", "P", onOff, "Private calls by guests",
		yes("Guests cannot call our people.", "Guests may call our people."),
		"guest call voice video private phone", "off", "Meetings serve, and leave a trace.", ""},
	{"chat.guest_edit", "on", "on", "P", onOff, "Guests change their messages",
		yes("What a guest wrote stays as it is.", "Guests may change their own messages."),
		"edit change message guest correct", "on", "Everybody mistypes.", ""},
	{"chat.guest_delete", "on", "off", "P", onOff, "Guests delete their messages",
		yes("Guests cannot delete what they wrote.", "Guests may delete their own messages."),
		"delete remove message guest", "off", "What was agreed should stay readable.", ""},
	{"chat.guest_attach", "on", "off", "P", onOff, "Files in direct chat",
		yes("Guests attach no files in one-to-one chat.", "Guests may attach files in one-to-one chat."),
		"attach attachment file upload chat guest", "off", "Files belong in a space, where they have an owner.", ""},
	{"chat.presence", "everybody", "contacts", "P E", levels("hidden < contacts < everybody"), "Who outside sees presence",
		[]string{"Nobody outside.", "Accepted contacts.", "Everybody who may chat."},
		"presence available online status busy away", "contacts", "Who works with us sees when to write.", ""},
	{"chat.push", "on", "on", "E", onOff, "Outside push services",
		yes("Notices carry no text through outside services.", "Notices of messages pass through outside push services."),
		"push notification phone mobile notice", "on", "Without it phones stay silent.", "It is asked by no action."},
	// meetings
	{"meetings.outsiders", "anyone", "signed_in", "E I", levels("none < known < signed_in < anyone"), "Who from outside may join",
		[]string{"Nobody.", "Guests of ours and people of partners opened for meetings.", "Everybody who signed in somewhere.",
			"Whoever has the address."},
		"meeting join external anonymous outsiders signed in people domain join", "signed_in",
		"A name that somebody vouches for, without a list to keep.", ""},
	{"meetings.held", "nobody", "everybody", "P E I", levels("everybody < strangers < nobody"), "Who waits until admitted",
		[]string{"Every outsider waits.", "Those we do not know wait.", "Nobody waits."},
		"waiting lobby hold admit held knock wait let in signed domain", "strangers",
		"The host sees a stranger before the stranger hears anything.", ""},
	{"meetings.passcode", "optional", "required", "E I", needed, "A passcode", needSaid,
		"passcode password pin meeting code", "required", "Addresses of meetings travel further than meant.", ""},
	{"meetings.early", "on", "off", "E I", onOff, "In before the host",
		yes("Outsiders come in after the host.", "Outsiders may be in before the host."),
		"early before host join start", "off", "A meeting without us is not ours.", ""},
	{"meetings.standing_room", "on", "off", "E", onOff, "Standing rooms",
		yes("A person's standing room admits no outsider.", "A person's standing room may admit outsiders."),
		"standing room personal permanent always", "off", "Its address never changes, and everybody has it.", ""},
	{"meetings.share_screen", "screen", "window", "E", levels("nothing < window < screen"), "What we show outsiders",
		[]string{"Our presenters share nothing.", "One window.", "The whole screen."},
		"share screen window present show desktop", "window", "A whole screen shows the mail that arrives.", ""},
	{"meetings.present", "on", "off", "P E I", onOff, "Outsiders present",
		yes("Outsiders do not present.", "Outsiders may present."),
		"present presenter share screen outsider", "off", "The host gives the word.", ""},
	{"meetings.remote_control", "on", "off", "P E", onOff, "Outsiders take control",
		yes("Nobody outside takes control of a shared screen.", "Outsiders may take control of a shared screen."),
		"remote control screen take over keyboard mouse help", "off",
		"Whoever holds the mouse is you. Open it for a person, a partner and a week.", "It needs meetings.share_screen at screen."},
	{"meetings.guest_start", "on", "off", "P", onOff, "Guests start meetings",
		yes("Guests join meetings.", "Guests may start a meeting at once."),
		"start meeting guest instant now", "off", "One of ours should be there.", ""},
	{"meetings.out", "any", "any", "E", domains, "Whose meetings our people join", domSaid,
		"meeting outbound join elsewhere external", "any", "Everybody is invited by somebody.", ""},
	// files
	{"files.given_to", "newcomers", "known", "P S I", givenTo, "To whom files may be given",
		[]string{"Nobody outside.", "Records we have.", "Also newcomers, who verify their address and become guests."},
		"share file give external guest document folder sharing", "known", "Who gets a file was invited first.",
		"Whoever holds a link: files.bearer_links."},
	{"files.bearer_links", "on", "off", "S I", onOff, "Links for whoever holds them",
		yes("A link works only for those it names.", "A link may work for whoever holds it."),
		"anonymous link anyone public share bearer url publish site supplier anonymous", "off",
		"A link that was forwarded cannot be taken back from one person.", "Drives: files.drive_bearer_links."},
	{"files.drive_given_to", "known", "inside", "E I", givenTo, "To whom files of a drive may be given",
		[]string{"Nobody outside.", "Records we have.", "Also newcomers, who verify their address and become guests."},
		"drive personal files share give own", "inside", "Work with others belongs in a space that outlives the person.", ""},
	{"files.drive_bearer_links", "off", "off", "E I", onOff, "Links into a drive",
		yes("A link into a drive works only for those it names.", "A link into a drive may work for whoever holds it."),
		"drive anonymous link anyone public share bearer", "off", "Nobody sees these links but their maker.", ""},
	{"files.domains", "any", "listed", "S", domains, "With whom files may be shared", domSaid,
		"file share domain allow list partner", "listed", "Files go to firms that we know.", "It is asked when sharing and again at every use."},
	{"files.role", "manage", "contribute", "P S", levels("view < contribute < manage"), "The most an outsider may do",
		[]string{"Outsiders read.", "Outsiders read and change.", "Outsiders also manage."},
		"role permission edit view write file", "contribute", "Whoever manages can let others in.", ""},
	{"files.reshare", "on", "off", "P S", onOff, "Sharing onward",
		yes("An outsider shares nothing onward.", "An outsider may share onward."),
		"reshare forward onward share guest", "off", "Who answers for a guest should know who else reads.", ""},
	{"files.link_right", "contribute", "view", "S I", levels("view < contribute"), "What a bearer link allows",
		[]string{"Reading.", "Reading and changing."},
		"link right edit view", "view", "Nobody knows who changed it.", ""},
	{"files.link_days", "90", "14", "S", days, "Life of a bearer link",
		[]string{"A bearer link works for N days.", "A bearer link works until its own end."},
		"link expiry days end life", "14", "Most links are used once, in the first week.", ""},
	{"files.link_password", "optional", "optional", "S I", needed, "A password on links", needSaid,
		"link password protect secret", "required", "A forwarded link alone then opens nothing.", ""},
	{"files.link_download", "on", "on", "S I", onOff, "Downloading through links",
		yes("What a link opens is only shown.", "What a link opens may be downloaded."),
		"link download copy save", "on", "What can be read can be copied anyway.", ""},
	// mail
	{"mail.forward", "any", "closed", "E", domains, "Forwarding mail outside", domSaid,
		"forward forwarding mail automatic external redirect", "closed", "Forwarded mail leaves every rule behind.",
		"Forwarding a single message by hand is not asked."},
	{"mail.forward_copy", "optional", "required", "E", needed, "A copy in the mailbox", needSaid,
		"forward copy keep mailbox", "required", "Without it nobody can say later what was sent.", ""},
	{"mail.forward_set_by", "staff", "administrators", "E", levels("nobody < administrators < staff"), "Who sets up forwarding",
		[]string{"Nobody.", "Administrators.", "All our people."},
		"forward set up who rule mailbox", "administrators", "Somebody who broke into a mailbox sets up a forwarder first.", ""},
	{"mail.calendar", "subject", "none", "P E", levels("none < busy < subject < full"), "What a partner sees of calendars",
		[]string{"Nothing.", "Busy times.", "Also subject and place.", "Everything."},
		"calendar busy free availability appointment share", "none", "Open busy times for partners who plan with us.", ""},
	// reports
	{"reports.share_by", "staff", "sharers", "", levels("nobody < administrators < sharers < staff"), "Who shares reports outside",
		[]string{"Nobody.", "Administrators.", "Those with the role of sharer.", "All our people."},
		"report share who publish dashboard", "sharers", "Figures need somebody who knows what they mean.", ""},
	{"reports.given_to", "newcomers", "known", "P S I", givenTo, "To whom reports may be given",
		[]string{"Nobody outside.", "Records we have.", "Also newcomers, who verify their address and become guests."},
		"report share give external dashboard", "known", "Who reads figures was invited first.", ""},
	{"reports.guest_edit", "on", "off", "P S", onOff, "Outsiders edit reports",
		yes("Outsiders read what was given to them.", "Outsiders may edit content and enter a report area."),
		"report edit change area dashboard", "off", "Changed figures are our figures.", ""},
	{"reports.guest_browse", "on", "off", "P", onOff, "Browsing reports",
		yes("Outsiders follow the address they were given.", "Outsiders may browse what was given to them."),
		"report browse list find dashboard", "off", "A list of titles tells a lot.", ""},
	{"reports.reshare", "on", "off", "P S", onOff, "Passing reports on",
		yes("Outsiders do not pass reports on.", "Outsiders may pass reports on."),
		"report reshare forward onward", "off", "Who gave it should know who reads it.", ""},
	{"reports.export", "on", "on", "P S I", onOff, "Taking the data out",
		yes("Outsiders look at the figures.", "Outsiders may take the data out."),
		"export download data report csv", "on", "Partners work on with the figures.", ""},
	{"reports.licence", "all", "house, theirs", "P S", Scale{Shape: Methods, Names: []string{"house", "ours", "theirs"}}, "Licence routes",
		[]string{"The report area's own licence counts.", "A licence that we buy counts; it needs the guest's location.",
			"A licence that the guest brings counts."},
		"licence license report seat pay cost", "house, theirs", "Neither costs us a seat per guest.", ""},
}
