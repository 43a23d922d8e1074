package engine_test

import (
	"strings"
	"testing"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

const wordsWorld = `wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
people: [{id: uma, name: Uma Tiller}, {id: j.penhallow, name: Jessa Penhallow}, {id: a.penhallow, name: Ada Penhallow}, {id: b.penhallow, name: Ada Penhallow}]
spaces: [{id: docents, name: Docent course, kind: course, owners: [uma], items: [{id: plan, kind: page, name: Plan}, {id: plan-file, kind: file, name: Plan}]}, {id: kites, name: Kites, kind: team, owners: [uma]}]
meetings: [{id: talk, name: Rope talk, host: uma}]
guests: [{address: maren@ilvane.example, name: Maren Holt, sponsor: uma, since: 2026-11-01}]
`

// TestNamesInQuestions: names stand for ids where one alone fits; else those that fit are named, or the
// one that was perhaps meant.
func TestNamesInQuestions(t *testing.T) {
	w, err := worldfile.Read([]byte(wordsWorld), worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	s := engine.Of(world.Merge(&world.World{}, w))
	for _, c := range []struct{ who, action, resource, want string }{
		{"Jessa Penhallow", "invite", "Docent course", "person:j.penhallow directory.invite space:docents"},
		{"jessa", "directory.invite", "docent", "person:j.penhallow directory.invite space:docents"},
		{"Maren Holt", "edit a page", "Plan", "maren@ilvane.example spaces.edit_page page:plan"},
		{"maren@ilvane.example", "spaces.enter", "Kites", "maren@ilvane.example spaces.enter space:kites"},
		{"maren@ilvane.example", "join", "Rope talk", "maren@ilvane.example meetings.join meeting:talk"},
		{"maren@ilvane.example", "chat.message", "Uma Tiller", "maren@ilvane.example chat.message person:uma"},
		{"Ada Penhallow", "invite", "Kites",
			`subject "Ada Penhallow": it may mean several; write one of person:a.penhallow (Ada Penhallow), person:b.penhallow (Ada Penhallow)`},
		{"Uma Tillr", "invite", "Kites",
			`subject "Uma Tillr": nobody is called so; write a name, an address, person:ID, link:ID or *@domain; do you mean Uma Tiller (person:uma)?`},
		{"Maren Hold", "enter", "Kites",
			`subject "Maren Hold": nobody is called so; write a name, an address, person:ID, link:ID or *@domain; do you mean Maren Holt (maren@ilvane.example)?`},
		{"uma", "invite", "Kitse",
			`resource "Kitse": nothing that this can be tried on is called so; write its name, or kind:id as space:loan-dossier; do you mean kites?`},
		{"maren@ilvane.example", "open", "Plan", "maren@ilvane.example files.open file:plan-file"},
		{"maren@ilvane.example", "fly", "Plan", `action "fly": there is no such action`},
	} {
		got := func() string {
			who, err := s.WhoNamed(c.who, true)
			if err != nil {
				return err.Error()
			}
			act, err := s.ActionNamed(c.action, c.resource, who.Kind == engine.ByPerson)
			if err != nil {
				return err.Error()
			}
			r, err := s.ResourceNamed(c.resource, act)
			if err != nil {
				return err.Error()
			}
			return who.String() + " " + act.Get().Name + " " + r.String()
		}()
		if got != c.want && !(strings.HasPrefix(got, c.want) && strings.Contains(c.want, "no such action")) {
			t.Errorf("%s %s %s: %s\nwant %s", c.who, c.action, c.resource, got, c.want)
		}
	}
	if _, err := s.WhoNamed("Maren Holt", false); err == nil {
		t.Error("a guest is found by name where names of guests are not to be known")
	}
	// What was removed is not found any more, and answers as if it had never been.
	e := s.Edit()
	e.Remove("space", "kites")
	e.Remove("item", "plan")
	e.Remove("meeting", "talk")
	e.Remove("person", "b.penhallow")
	after := e.Done()
	if after.Has("space", "kites") || after.Has("page", "plan") || after.Has("meeting", "talk") || after.Has("person", "b.penhallow") ||
		after.NearestID("space", "kites") != "" || len(after.Meant("person", "Ada Penhallow", 9)) != 1 {
		t.Error("what was removed is still there")
	}
}
