package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

const linkWorld = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules:
  directory.guests: {default: on}
  directory.personal: {limit: on, default: off}
  files.given_to: {default: newcomers}
  files.bearer_links: {limit: on, default: off}
  files.link_days: {limit: 90, default: 14}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, files.in: yes}, stance: {directory.in: {says: admits}, files.in: {says: admits}}}
  - {id: shut, name: Shut, domains: [shut.example], opened: {}}
personal_domains: [homepost.example]
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ben, name: Ben, address: ben@ours.example}, {id: odd, name: Odd, address: odd@ours.example, left: 2026-01-01}]
spaces:
  - {id: dossier, name: Dossier, kind: team, owners: [uma], members: [ben, odd], rules: {files.bearer_links: on}, items: [{id: kit, kind: file, name: Kit}, {id: lists, kind: folder, name: Lists, rules: {files.bearer_links: off}}, {id: notes, kind: page, name: Notes}]}
  - {id: other, name: Other, kind: team, owners: [uma], items: [{id: secret, kind: file, name: Secret}]}
`

// madeText tells what became of a link.
func madeText(x *MadeLink) string {
	var out []string
	for _, c := range x.Refused {
		out = append(out, "refused: "+c.Text())
	}
	for _, l := range x.Lines {
		s := []string{fmt.Sprint(l.Number), l.Text, string(l.Verdict) + l.Done}
		if l.Reason != "" {
			s = append(s, l.Reason)
		}
		for _, c := range l.Causes {
			s = append(s, c.Text())
		}
		out = append(out, strings.Join(s, " "))
	}
	for _, o := range x.Opens {
		granted, wide := Opened(o.Lines)
		var names []string
		for _, l := range o.Lines {
			if l.Change() == "opened" {
				names = append(names, l.Action.String())
			}
		}
		out = append(out, fmt.Sprintf("opens %d/%d for %d of %s: %s", granted, wide, o.Count, o.Of, strings.Join(names, " ")))
	}
	return fmt.Sprintf("%t %s", x.Made, strings.Join(out, "; "))
}

// TestMakeLink makes links where they would work, and says of all others why not.
func TestMakeLink(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, linkWorld)
	member := Who{Name: "ben", Role: Member, Person: "ben"}
	for _, x := range []struct {
		name string
		who  Who
		ask  LinkAsked
		want string // or the field that is refused
		by   string
	}{
		{"whoever holds it", keeper, LinkAsked{Item: "file:kit", Bearer: true, Download: true},
			"true opens 2/0 for 1 of bearer: files.open files.download", "uma"},
		{"without download", keeper, LinkAsked{Item: "file:kit", Bearer: true, By: "ben"}, "true opens 1/0 for 1 of bearer: files.open", "ben"},
		{"an item that says off", keeper, LinkAsked{Item: "folder:lists", Bearer: true},
			"false refused: “Links for whoever holds them” is set to off; this needs on.", "uma"},
		{"those it names, everybody with a verdict", member,
			LinkAsked{Item: "folder:lists",
				For:   "Ada <ada@ilvane.example>, bo@ilvane.example\nada@ilvane.example; cy@shut.example\numa@ours.example di@homepost.example\nex",
				Right: "contribute", Download: true},
			"true 1 Ada <ada@ilvane.example> yesgiven; 1 bo@ilvane.example yesgiven; 2 ada@ilvane.example duplicate It stands in line 1 already.; 2 cy@shut.example no “With whom files may be shared” is set to listed partners only, and Shut is not open for files.in.; " +
				`3 uma@ours.example own One of our own addresses; our people are not invited as guests.; 3 di@homepost.example no “Private addresses by name” is set to off; this needs on.; 4 ex malformed "ex" is no address: there is no @ (at position 3); opens 5/0 for 2 of ilvane: files.open files.download files.edit files.upload files.delete`,
			"ben"},
		{"nobody of them", member, LinkAsked{Item: "file:kit", For: "cy@shut.example"},
			"false 1 cy@shut.example no “With whom files may be shared” is set to listed partners only, and Shut is not open for files.in.", "ben"},
		{"whom, twice said", keeper, LinkAsked{Item: "file:kit", Bearer: true, For: "ada@ilvane.example"}, "for", ""},
		{"whom, not said", keeper, LinkAsked{Item: "file:kit", For: " "}, "for", ""},
		{"a page", keeper, LinkAsked{Item: "page:notes", Bearer: true}, "item", ""},
		{"a space", keeper, LinkAsked{Item: "space:dossier", Bearer: true}, "item", ""},
		{"no item", keeper, LinkAsked{Item: "file:none", Bearer: true}, "item", ""},
		{"not even a name", keeper, LinkAsked{Item: "kit", Bearer: true}, "item", ""},
		{"a right too far", keeper, LinkAsked{Item: "file:kit", Bearer: true, Right: "manage"}, "right", ""},
		{"a right of its own", keeper, LinkAsked{Item: "file:kit", Bearer: true, Right: "all"}, "right", ""},
		{"a past end", keeper, LinkAsked{Item: "file:kit", Bearer: true, Until: "2026-11-01"}, "until", ""},
		{"no end", keeper, LinkAsked{Item: "file:kit", Bearer: true, Until: "soon"}, "until", ""},
		{"somebody else's", member, LinkAsked{Item: "file:kit", Bearer: true, By: "uma"}, "by", ""},
		{"another space's", member, LinkAsked{Item: "file:secret", Bearer: true}, "by", ""},
		{"of somebody who left", keeper, LinkAsked{Item: "file:kit", Bearer: true, By: "odd"}, "by", ""},
		{"of nobody", keeper, LinkAsked{Item: "file:kit", Bearer: true, By: "zed"}, "by", ""},
		{"a bad id", keeper, LinkAsked{Item: "file:kit", Bearer: true, ID: "Kit!"}, "id", ""},
	} {
		before := dumped(t, s)
		got, err := s.MakeLink(t.Context(), x.who, x.ask, true)
		var wrong *Invalid
		switch {
		case errors.As(err, &wrong):
			if wrong.Field != x.want {
				t.Errorf("%s: %v", x.name, err)
			}
		case err != nil:
			t.Errorf("%s: %v", x.name, err)
		case got.Link.By != x.by:
			t.Errorf("%s: it is %s's", x.name, got.Link.By)
		case madeText(got) != x.want:
			t.Errorf("%s:\n%s\nwant\n%s", x.name, madeText(got), x.want)
		}
		if dumped(t, s) != before {
			t.Fatalf("%s: looked at, and something changed", x.name)
		}
	}
	// Made.
	made, err := s.MakeLink(t.Context(), keeper, LinkAsked{ID: "kit-1", Item: "file:kit", Bearer: true, Download: true, Until: "+3d",
		Why: "for the press"}, false)
	check(t, err)
	if !made.Made || made.Link.ID != "kit-1" || fmt.Sprint(journaled(t, s, "link")) != "[kira kit-1: for the press]" {
		t.Errorf("%+v %v", made, journaled(t, s, "link"))
	}
	opens := func(id string) bool {
		t.Helper()
		act, _ := catalogue.ActionByName("files.open")
		v, err := s.State().Decide(&engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: id}, Action: act.ID,
			Resource: world.Resource{Kind: catalogue.File, ID: "kit"}, At: s.Now()})
		check(t, err)
		return v.Yes
	}
	if !opens("kit-1") {
		t.Error("made, it does not open")
	}
	if _, err := s.MakeLink(t.Context(), keeper, LinkAsked{ID: "kit-1", Item: "file:kit", Bearer: true}, false); err == nil ||
		!strings.Contains(err.Error(), "such a link already") {
		t.Errorf("the same id again: %v", err)
	}
	refused, err := s.MakeLink(t.Context(), keeper, LinkAsked{Item: "folder:lists", Bearer: true}, false)
	if err != nil || refused.Made || len(journaled(t, s, "link")) != 1 {
		t.Errorf("refused, and made: %v %v", err, journaled(t, s, "link"))
	}
	some, err := s.MakeLink(t.Context(), member, LinkAsked{ID: "lists-1", Item: "folder:lists", For: "ada@ilvane.example cy@shut.example",
		Right: "contribute"}, false)
	check(t, err)
	l, err := s.Link(t.Context(), "lists-1")
	check(t, err)
	if !some.Made || fmt.Sprintf("%v %v %v %v", l.For, l.Right, l.By, l.Item) != "[ada@ilvane.example] contribute ben folder:lists" {
		t.Errorf("%v", l)
	}
	if !decide(t, s, "ada@ilvane.example", "files.open", "folder:lists") || decide(t, s, "cy@shut.example", "files.open", "folder:lists") {
		t.Error("whom it names opens it, and nobody else")
	}
	c.forward(4 * 24 * 3600e9)
	if opens("kit-1") {
		t.Error("it ended, and opens")
	}
	// In a draft that allows it, looking ahead says so; making it counts as things are.
	d := makeDraft(t, s, "links everywhere")
	in := InDraft(t.Context(), d)
	check(t, s.SetRule(in, "kira", "", RuleChange{Rule: "files.bearer_links", Limit: "on", Default: "on"}))
	ahead, err := s.MakeLink(in, keeper, LinkAsked{Item: "file:secret", Bearer: true}, true)
	check(t, err)
	now, err := s.MakeLink(t.Context(), keeper, LinkAsked{Item: "file:secret", Bearer: true}, true)
	check(t, err)
	if !ahead.Made || now.Made {
		t.Errorf("in the draft %t, as things are %t", ahead.Made, now.Made)
	}
}
