package native

import "time"

// The three dialects of the suite that ships to be worked against (cmd/suite).
// Their words are made up.

// onOff are the words for off and on, in that order, as Dial.Words has them.
var onOff = func(off, on string) []string { return []string{off, on} }

// quay carries the directory, spaces and files. Its words are a harbour's, so
// that nobody takes them for those of a program that exists.
var quay = Dialect{
	Name: "quay", Title: "Quay, for the directory, spaces and files", Services: []string{"directory", "spaces", "files"},
	Tries: []string{"files.open", "spaces.enter"}, Sets: []Scope{ToPartners, ToSpaces},
	Dials: []Dial{
		{Path: "visitors", Title: "Visitors", Rule: "directory.guests", Words: onOff("turned away", "welcome"), Charter: true},
		{Path: "visitors.brought-by", Title: "Who may bring a visitor", Rule: "directory.invite_by",
			Words: []string{"nobody", "wardens", "doorkeepers", "crew", "visitors too"}},
		{Path: "visitors.own-mail", Title: "Visitors with mail of their own", Rule: "directory.personal", Words: onOff("no", "yes")},
		{Path: "berths.visitors", Title: "Visitors in berths", Rule: "spaces.guests", Words: onOff("keep out", "may come aboard"), Charter: true},
		{Path: "berths.notes", Title: "Visitors write in notes", Rule: "spaces.pages", Words: onOff("read", "write"), Charter: true},
		{Path: "crates.handed-to.most", Title: "Crates may be handed at most to", Rule: "files.given_to", Ceiling: true,
			Words: []string{"crew", "known hands", "any hand"}, Span: time.Hour},
		{Path: "crates.handed-to", Title: "Crates are handed to", Rule: "files.given_to", Words: []string{"crew", "known hands", "any hand"},
			Span: time.Hour, Charter: true},
		{Path: "tickets.most", Title: "Tickets for whoever holds them, at most", Rule: "files.bearer_links", Ceiling: true,
			Words: onOff("none", "issued")},
		{Path: "tickets", Title: "Tickets for whoever holds them", Rule: "files.bearer_links", Words: onOff("none", "issued"),
			Vague: map[string][2]string{"as the harbour sees fit": {"off", "on"}}, Charter: true},
		{Path: "tickets.days", Title: "Days that a ticket is good for", Rule: "files.link_days", NoEnd: "for good", Span: 10 * time.Minute,
			Charter: true},
		{Path: "tickets.power", Title: "What a ticket lets its holder do", Rule: "files.link_right", Words: []string{"look", "add"},
			Charter: true},
		{Path: "crates.passed-on", Title: "Visitors pass crates on", Rule: "files.reshare", Words: onOff("never", "freely"), Charter: true},
	},
	Boards: []Board{
		{Path: "hulls", Title: "Hulls that may tie up", Rule: "spaces.connect", Keys: []string{"spaces.in"}, Only: "these", But: "all but these"},
	},
	Holdings: []Holding{
		{Kind: "space", Name: "berths", Title: "Berths", Source: true, Says: "What is in a space is not kept there one by one.", Fields: []Field{
			{Name: "mark", Of: "id", Free: true}, {Name: "name", Of: "name"}, {Name: "keeper", Of: "owner", Free: true},
		}},
		{Kind: "guest", Name: "visitors", Title: "Visitors", Says: "Whoever was invited and has not accepted is not there yet.", Fields: []Field{
			{Name: "mail", Of: "address"}, {Name: "standing", Of: "standing", Words: map[string]string{"in": "aboard", "out": "ashore"}},
			{Name: "brought-by", Of: "sponsor", Free: true},
		}},
		{Kind: "grant", Name: "passes", Title: "Passes", Span: 10 * time.Minute,
			Says: "What a group, a partner or a domain was given as a whole is not there.", Fields: []Field{
				{Name: "mail", Of: "address"}, {Name: "place", Of: "resource"},
				{Name: "may", Of: "role", Words: map[string]string{"view": "look", "contribute": "add", "manage": "steer"}},
				{Name: "from", Of: "from"}, {Name: "until", Of: "until"},
			}},
		{Kind: "link", Name: "tickets", Title: "Tickets", Source: true, Says: "Passwords, and that downloading is off, are not kept there.",
			Fields: []Field{
				{Name: "mark", Of: "id", Free: true}, {Name: "crate", Of: "item"},
				{Name: "may", Of: "right", Words: map[string]string{"view": "look", "contribute": "add"}},
				{Name: "until", Of: "until"}, {Name: "for", Of: "for"}, {Name: "by", Of: "by", Free: true},
			}},
	},
}

// parley carries chat, meetings and calendars.
var parley = Dialect{
	Name: "parley", Title: "Parley, for chat, meetings and calendars", Services: []string{"chat", "meetings"},
	Also: []string{"mail.see_busy", "mail.see_subject", "mail.see_details"}, Tries: []string{"chat.message", "meetings.join", "mail.see_busy"},
	Sets: []Scope{ToPeople},
	Dials: []Dial{
		{Path: "strangers.private", Title: "Talk with private lines", Rule: "chat.personal", Words: onOff("shut", "open"), Charter: true},
		{Path: "strangers.voice", Title: "Voice with other houses", Rule: "chat.calls", Words: onOff("mute", "spoken"), Charter: true},
		{Path: "lamp", Title: "Who sees the lamp in the window", Rule: "chat.presence", Words: []string{"nobody", "friends", "passers-by"},
			Charter: true},
		{Path: "table.seats", Title: "Who may sit at a table", Rule: "meetings.outsiders",
			Words: []string{"household", "friends of the house", "", "anyone who knocks"}, Span: 5 * time.Minute, Charter: true},
		{Path: "table.anteroom", Title: "Who waits in the anteroom", Rule: "meetings.held", Words: []string{"all", "strangers", "none"},
			Charter: true},
		{Path: "table.early", Title: "Seated before the host", Rule: "meetings.early", Words: onOff("no", "yes"), Charter: true},
		{Path: "diary", Title: "What other houses see in our diaries", Rule: "mail.calendar",
			Words: []string{"closed", "in or out", "what for", "all of it"}, Span: 30 * time.Minute, Charter: true},
		{Path: "table.hands", Title: "Guests may take the pen", Rule: "meetings.remote_control", Words: onOff("hands off", "may take it"),
			Vague: map[string][2]string{"house custom": {"off", "on"}}, Charter: true},
	},
	Boards: []Board{
		{Path: "houses", Title: "Houses that we talk with", Rule: "chat.federation", Keys: []string{"chat.in", "chat.out"}, Only: "none but",
			But: "all but", Span: 2 * time.Minute},
		{Path: "diary.houses", Title: "Houses that look into our diaries", Rule: "mail.calendar", Opens: true, Keys: []string{"mail.in"},
			Only: "none but", But: "all but"},
		{Path: "table.friends", Title: "Houses whose people are friends of the house", Rule: "meetings.outsiders", Opens: true,
			Keys: []string{"meetings.in"}, Only: "none but", But: "all but"},
	},
}

// ledger carries mail and reports.
var ledger = Dialect{
	Name: "ledger", Title: "Ledger, for mail and reports", Services: []string{"mail", "reports"},
	Tries: []string{"mail.forward", "reports.view"},
	Dials: []Dial{
		{Path: "post.copy", Title: "Forwarded post leaves a copy", Rule: "mail.forward_copy", Words: onOff("must", "may not")},
		{Path: "post.set-by", Title: "Who may forward post", Rule: "mail.forward_set_by", Words: []string{"no one", "postmaster", "each clerk"}},
		{Path: "figures.shown-to", Title: "To whom figures are shown", Rule: "reports.given_to",
			Words: []string{"clerks", "known readers", "any reader"}, Span: 24 * time.Hour},
		{Path: "figures.copied", Title: "Readers may copy figures out", Rule: "reports.export", Words: onOff("read only", "may copy")},
		{Path: "figures.shown-by", Title: "Who may show figures", Rule: "reports.share_by",
			Words: []string{"no one", "bookkeeper", "signing clerks", "each clerk"}, Hand: true},
	},
	Boards: []Board{
		{Path: "post.towns", Title: "Towns that post may go on to", Rule: "mail.forward", Keys: []string{"mail.out"}, Only: "to", But: "not to"},
	},
	Lives: []Live{{
		Path: "post.asks", On: "yes", Unanswered: "post.unanswered", Refuses: "returned", Rule: "mail.forward",
		Title:  "Asks before a letter goes on",
		Opened: "it asks before mail goes on, and lets all of it go on when nobody answers",
	}},
	Holdings: []Holding{
		{Kind: "forwarder", Name: "orders", Title: "Standing orders", Source: true, Fields: []Field{
			{Name: "box", Of: "mailbox"}, {Name: "onto", Of: "to"},
			{Name: "copy", Of: "keep_copy", Words: map[string]string{"yes": "kept", "no": "not kept"}},
			{Name: "by", Of: "set_by", Words: map[string]string{"person": "clerk", "administrator": "postmaster", "mail_rule": "rule"}},
		}},
	},
}
