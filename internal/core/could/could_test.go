package could_test

import (
	"errors"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile/worldtest"
)

var now = worldtest.Now

// house is a small organisation in which guests are let in where owners want them, and everybody of ours may invite.
const house = `
wexillum: 1
dates_from: [{for: organisation, from: 2028-01-01}]
organisation: {name: Harbour, domains: [harbour.example], time_zone: UTC}
rules:
  directory.guests: {limit: on, default: on}
  directory.invite_domains: {limit: listed, default: listed}
  directory.invite_by: {limit: staff, default: staff}
  directory.sign_in: {default: [code]}
  spaces.guests: {limit: on, default: off}
  files.given_to: {limit: newcomers, default: known}
partners:
  - {id: tarn, name: Tarn, domains: [tarn.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes, chat.in: yes, meetings.in: yes}}
people:
  - {id: uma, name: Uma Reed, address: uma@harbour.example}
  - {id: ole, name: Ole Strand, address: ole@harbour.example}
spaces:
  - {id: deck, name: Deck, kind: team, owners: [uma], items: [{id: plan, kind: file, name: Plan}, {id: log, kind: file, name: Log, private: yes}]}
guests:
  - {address: ann@tarn.example, name: Ann Voss, accepted: 2026-02-01, since: 2026-01-01}
`

// target reads what somebody could come to do, as worldtest.Question does; anyone is whoever holds a link that somebody makes.
func target(t *testing.T, text string) could.Target {
	t.Helper()
	rest, anyone := strings.CutPrefix(text, "anyone ")
	if anyone {
		text = "*@anywhere.example " + rest
	}
	q := worldtest.Question(t, text)
	if anyone {
		q.Subject = engine.Who{Kind: engine.ByLinkID, ID: "any"}
	}
	return could.Target{Who: q.Subject, Action: q.Action, Resource: q.Resource}
}

// plainly calls people and things by what they are named in a file.
func plainly(w engine.Who) string {
	return strings.TrimSuffix(strings.TrimPrefix(w.String(), "person:"), "@tarn.example")
}

// With what the house is changed: something in it is said otherwise, and more comes to it.
const (
	annViews       = "grants: [{party: ann@tarn.example, resource: space:deck, role: view, from: 2026-01-01}]"
	annContributes = "grants: [{party: ann@tarn.example, resource: space:deck, role: contribute, from: 2026-01-01}]"
	talk           = "meetings: [{id: talk, host: ole}]"
	nobodyInvites  = "directory.invite_by: {limit: administrators, default: administrators}"
)

// TestChains: the shortest way to what somebody outside could come to do, told act by act; every kind of act is in one of them.
func TestChains(t *testing.T) {
	seen := map[could.Kind]bool{}
	guests := [2]string{"spaces.guests: {limit: on, default: off}", "spaces.guests: {limit: on, default: on}"}
	for _, c := range []struct {
		name, from, to, more, question string
		acts                           []string // none: not as far as known
	}{
		{"a guest is given what may be given to guests", "", "", "", "ann@tarn.example files.open file:plan",
			[]string{"uma shares file:plan with ann, with the role view."}},
		{"whether it is private or not", "", "", "", "ann@tarn.example files.open file:log",
			[]string{"uma shares file:log with ann, with the role view."}},
		{"somebody new only where a place says so", "", "", "", "cy@tarn.example files.open file:plan",
			[]string{"uma sets files.given_to to newcomers at space:deck.", "uma shares file:plan with cy, with the role view."}},
		{"anybody of a partner", "", "", "", "*@tarn.example files.open file:plan",
			[]string{"uma sets files.given_to to newcomers at space:deck.", "uma shares file:plan with somebody-new, with the role view."}},
		{"nobody of an unlisted firm", "", "", "", "eve@fell.example files.open file:plan", nil},
		{"into a space", "", "", "", "ann@tarn.example spaces.enter space:deck",
			[]string{"uma sets spaces.guests to on at space:deck.", "uma invites ann into space:deck with the role view."}},
		{"into a space that says so already", guests[0], guests[1], "", "ann@tarn.example spaces.enter space:deck",
			[]string{"uma invites ann into space:deck with the role view."}},
		{"not where the limit is off", guests[0], "spaces.guests: {limit: off, default: off}", "", "ann@tarn.example spaces.enter space:deck", nil},
		{"into a space, without a record", "", "", "", "dee@tarn.example spaces.enter space:deck",
			[]string{"uma sets spaces.guests to on at space:deck.", "uma invites dee into space:deck with the role view.",
				"dee accepts the invitation."}},
		{"into a space that names who may come", "owners: [uma]", "owners: [uma], parties: [other@tarn.example]", "",
			"ann@tarn.example spaces.enter space:deck",
			[]string{"uma adds ann to those who may come into space:deck.", "uma sets spaces.guests to on at space:deck.",
				"uma invites ann into space:deck with the role view."}},
		{"into a space without an owner", "owners: [uma]", "joinable: yes, rules: {spaces.guests: on}", "",
			"ann@tarn.example spaces.enter space:deck",
			[]string{"uma joins space:deck.", "uma invites ann into space:deck with the role view."}},
		{"a higher role", guests[0], guests[1], annViews, "ann@tarn.example files.edit file:plan",
			[]string{"uma gives ann the role contribute on space:deck."}},
		{"a page that is private", "{id: plan,", "{id: notes, kind: page, name: Notes, private: yes}, {id: plan,", annContributes,
			"ann@tarn.example spaces.edit_page page:notes",
			[]string{"uma makes page:notes open to everybody in its space.", "uma sets spaces.pages to on at space:deck.",
				"uma sets spaces.guests to on at space:deck."}},
		{"a record by an invitation", "", "", "", "dee@tarn.example directory.sign_in directory:ours", []string{"uma invites dee."}},
		{"a record of their own making", "directory.invite_by: {limit: staff, default: staff}",
			nobodyInvites + "\n  directory.self_signup: {limit: on, default: on}", "", "dee@tarn.example directory.sign_in directory:ours",
			[]string{"dee signs up."}},
		{"a record by being given something", "directory.invite_by: {limit: staff, default: staff}",
			nobodyInvites + "\n  directory.people_seen: {limit: all, default: all}", "", "dee@tarn.example directory.look_up person:ole",
			[]string{"uma sets files.given_to to newcomers at space:deck.", "uma shares file:plan with dee, with the role view.",
				"dee opens file:plan, and becomes a guest."}},
		{"known by being somewhere together", "rules:", "rules:\n  directory.people_seen: {limit: shared, default: shared}", "",
			"ann@tarn.example directory.look_up person:uma",
			[]string{"uma sets spaces.guests to on at space:deck.", "uma invites ann into space:deck with the role view."}},
		{"a contact", "rules:", "rules:\n  chat.federation: {limit: listed, default: listed}\n  chat.presence: {limit: contacts, default: contacts}",
			"", "ann@tarn.example chat.see_presence person:uma", []string{"uma and ann become contacts."}},
		{"a course", "kind: team", "kind: course", "", "ann@tarn.example spaces.join space:deck",
			[]string{"uma lets our own people join space:deck.", "uma sets spaces.join_in to any at space:deck."}},
		{"in a course", "kind: team", "kind: course, joinable: yes", "", "dee@tarn.example spaces.see_members space:deck",
			[]string{"uma sets spaces.join_in to any at space:deck.", "uma sets spaces.connect to any at space:deck.", "dee joins space:deck."}},
		{"a bundle", "", "", `bundles: [{id: crew, name: Crew, gives: [{resource: space:deck, role: view}], who: {partners: [tarn], others: no},
  approval: [sponsor]}]`, "ann@tarn.example spaces.enter space:deck",
			[]string{"uma sets spaces.guests to on at space:deck.", "ann asks for the bundle Crew, and uma approves it."}},
		{"a link", "rules:", "rules:\n  files.bearer_links: {limit: on, default: off}", "", "anyone files.open file:log",
			[]string{"uma sets files.bearer_links to on at file:log.", "uma makes a link to file:log that works for whoever holds it."}},
		{"a link that changes", "rules:", "rules:\n  files.bearer_links: {limit: on, default: off}", "", "anyone files.edit file:plan",
			[]string{"uma sets files.link_right to contribute at file:plan.", "uma sets files.bearer_links to on at file:plan.",
				"uma makes a link to file:plan that works for whoever holds it."}},
		{"no link", "rules:", "rules:\n  files.bearer_links: {limit: off, default: off}", "", "anyone files.open file:log", nil},
		{"a meeting", "", "", talk, "anyone meetings.join meeting:talk",
			[]string{"ole sets meetings.passcode to optional at meeting:talk.", "ole sets meetings.outsiders to anyone at meeting:talk."}},
		{"a meeting without the passcode that it needs", "rules:", "rules:\n  meetings.passcode: {limit: required, default: required}", talk,
			"ann@tarn.example meetings.join meeting:talk", []string{"ole gives meeting:talk a passcode."}},
		{"a meeting for others", "rules:", "rules:\n  meetings.passcode: {limit: optional, default: optional}",
			"meetings: [{id: talk, host: ole, sign_in_domains: [elsewhere.example]}]", "ann@tarn.example meetings.join meeting:talk",
			[]string{"ole lets people of any domain into meeting:talk."}},
		{"a meeting of somebody else", "", "", talk, "ann@tarn.example meetings.start meeting:talk", nil},
	} {
		s := worldtest.Snapshot(t, strings.Replace(house, c.from, c.to, 1)+c.more)
		chain := could.Find(s, now, target(t, c.question))
		var acts []string
		if chain != nil {
			if chain.Now || chain.Longer {
				t.Errorf("%s: told as a yes already (%t) or as longer than anybody looks (%t)", c.name, chain.Now, chain.Longer)
			}
			for i := range chain.Acts {
				seen[chain.Acts[i].Kind] = true
				acts = append(acts, chain.Acts[i].Text(plainly, world.Resource.String))
			}
		}
		if !slices.Equal(acts, c.acts) {
			t.Errorf("%s:\n  %s\nand not\n  %s", c.name, strings.Join(acts, "\n  "), strings.Join(c.acts, "\n  "))
		}
	}
	for _, k := range []could.Kind{could.SetValue, could.Admit, could.LetJoin, could.MakeOpen, could.AnySignIn, could.Passcode, could.Join,
		could.Contact,
		could.Invite, could.Share, could.Raise, could.Accept, could.SignUp, could.JoinCourse, could.Become, could.MakeLink, could.TakeBundle} {
		if !seen[k] {
			t.Errorf("no chain has an act of the kind %s", k)
		}
	}
}

// TestNow: what is a yes already needs no act.
func TestNow(t *testing.T) {
	s := worldtest.Snapshot(t, strings.Replace(house, "default: off", "default: on", 1)+annViews)
	chain := could.Find(s, now, target(t, "ann@tarn.example files.open file:plan"))
	if chain == nil || !chain.Now || len(chain.Acts) > 0 {
		t.Errorf("ann, who may open it, is told %+v", chain)
	}
}

// TestCuts: what would make a target impossible, each cut whole and with no part too many: after it there is no chain, and with any part
// left out of it there is one.
func TestCuts(t *testing.T) {
	for _, c := range []struct {
		from, to, more, question string
		cuts                     []string
	}{
		{"rules:", "rules:\n  meetings.passcode: {limit: required, default: required}", talk, "ann@tarn.example meetings.join meeting:talk",
			[]string{"Lower the limit of meetings.outsiders to none.", "Close Tarn for meetings.in."}},
		{"directory.invite_by: {limit: staff, default: staff}", nobodyInvites + "\n  directory.self_signup: {limit: on, default: on}", "",
			"dee@tarn.example directory.sign_in directory:ours",
			[]string{
				"Lower the limit of directory.guests to off.",
				"Lower the limit of directory.invite_domains to closed.",
				"Lower the limit of directory.sign_in to partner, private.",
				"Close Tarn for directory.in.",
				"Lower the limit of directory.self_signup to off. Lower the limit of files.given_to to known.",
				"Lower the limit of directory.self_signup to off. Lower the limit of files.domains to closed.",
				"Lower the limit of directory.self_signup to off. Close Tarn for files.in.",
			}},
		{"", "", "", "eve@fell.example files.open file:plan", nil},
	} {
		s, to := worldtest.Snapshot(t, strings.Replace(house, c.from, c.to, 1)+c.more), target(t, c.question)
		cuts, more, err := could.Cuts(s, now, to, goOn)
		if err != nil || more {
			t.Fatal(c.question, more, err)
		}
		var told []string
		for _, parts := range cuts {
			told = append(told, sentences(parts))
			if chain := could.Find(could.Apply(s, parts, now), now, to); chain != nil {
				t.Errorf("%s: after %q there still is %+v", c.question, sentences(parts), chain)
			}
			for i := range parts {
				if could.Find(could.Apply(s, slices.Delete(slices.Clone(parts), i, i+1), now), now, to) == nil {
					t.Errorf("%s: of %q the part %d is not needed", c.question, sentences(parts), i)
				}
			}
		}
		if !slices.Equal(told, c.cuts) {
			t.Errorf("%s is cut by\n  %s\nand not by\n  %s", c.question, strings.Join(told, "\n  "), strings.Join(c.cuts, "\n  "))
		}
	}
}

// TestCutsStop: a search that is not wanted any more ends with the error of who stops it.
func TestCutsStop(t *testing.T) {
	s, enough := worldtest.Snapshot(t, house), errors.New("enough")
	if _, _, err := could.Cuts(s, now, target(t, "ann@tarn.example files.open file:plan"), func() error { return enough }); !errors.Is(err, enough) {
		t.Errorf("stopped cuts end with %v", err)
	}
	if _, err := could.Spare(s, now, func() error { return enough }); !errors.Is(err, enough) {
		t.Errorf("stopped spare access ends with %v", err)
	}
}

// TestSpare: limits that nothing comes near and openings that nobody passes are spare; what somebody uses is not.
func TestSpare(t *testing.T) {
	for _, c := range []struct {
		name, from, to, more string
		has, hasNot          []string
	}{
		{"nobody uses the opening for chat", "", "", "",
			[]string{"Take the opening of Tarn for meetings.in back.", "Lower the limit of spaces.guests to off."},
			[]string{"Take the opening of Tarn for directory.in back."}},
		{"a space lets guests in", "owners: [uma]", "owners: [uma], rules: {spaces.guests: on}", annViews,
			[]string{"Take the opening of Tarn for meetings.in back."},
			[]string{"Lower the limit of spaces.guests to off.", "Take the opening of Tarn for spaces.in back."}},
		{"a meeting lets those of partners in", "rules:", "rules:\n  meetings.outsiders: {limit: known, default: known}\n  meetings.passcode: {limit: optional, default: optional}", talk,
			[]string{"Lower the limit of spaces.guests to off."}, []string{"Take the opening of Tarn for meetings.in back."}},
	} {
		s := worldtest.Snapshot(t, strings.Replace(house, c.from, c.to, 1)+c.more)
		parts, err := could.Spare(s, now, goOn)
		if err != nil {
			t.Fatal(err)
		}
		told := sentences(parts)
		for _, x := range c.has {
			if !strings.Contains(told, x) {
				t.Errorf("%s: %q is not among what is spare: %s", c.name, x, told)
			}
		}
		for _, x := range c.hasNot {
			if strings.Contains(told, x) {
				t.Errorf("%s: %q is told to be spare", c.name, x)
			}
		}
		if x, err := engine.ImpactOf(s, could.Apply(s, parts, now), now, nil, goOn, nil); err != nil || !x.Nothing() {
			t.Errorf("%s: taking all of it away changes %+v (%v)", c.name, x, err)
		}
	}
}

func goOn() error { return nil }

// sentences are the parts of a cut as they are told.
func sentences(parts []could.Part) string {
	var out []string
	for i := range parts {
		out = append(out, parts[i].Text(plainly, func(id string) string { return strings.ToUpper(id[:1]) + id[1:] }))
	}
	return strings.Join(out, " ")
}
