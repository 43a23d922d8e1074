package answer_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/worldfile/worldtest"
)

var now = worldtest.Now

const small = `
wexillum: 1
dates_from: [{for: organisation, from: 2028-01-01}]
organisation: {name: Harbour, domains: [harbour.example], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, spaces.guests: {default: off}, files.bearer_links: {limit: on, default: off}, directory.sign_in: {default: [code]}}
partners:
  - {id: tarn, name: Tarn, domains: [tarn.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes, chat.in: yes}}
  - {id: fell, name: Fell, domains: [fell.example], opened: {directory.in: no}}
barred: [{address: lost@tarn.example}]
personal_domains: [homepost.example]
people: [{id: uma, name: Uma Reed, address: uma@harbour.example}, {id: lars, name: Lars Holm, address: lars@harbour.example}]
bundles: [{id: loan, name: Loan, gives: [{resource: space:deck, role: view}], who: {partners: [tarn]}, approval: [owner]}]
spaces:
  - {id: deck, name: Deck, kind: team, owners: [uma], rules: {spaces.guests: on}, items: [{id: plan, kind: file, name: Plan}, {id: notes, kind: page, name: Notes, private: yes}]}
  - {id: hold, name: Hold, kind: team, owners: [lars], items: [{id: list, kind: file, name: List}]}
guests: [{address: ann@tarn.example, name: Ann Voss, accepted: 2026-02-01, since: 2026-01-01}, {address: ben@tarn.example, name: Ben, state: suspended}]
grants:
  - {party: ann@tarn.example, resource: space:deck, role: contribute, from: 2026-01-01, until: 2027-01-01}
  - {party: ann@tarn.example, resource: space:hold, role: view, from: 2026-01-01}
  - {party: ben@tarn.example, resource: space:deck, role: view, from: 2026-01-01}
`

func str(s string) *string { return &s }

func said(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// words writes an answer, with the gates that say anything but yes.
func words(a *contract.Answer) string {
	var out strings.Builder
	fmt.Fprintf(&out, "%s as %s %v\n", a.Decision, a.Account, a.Conditions)
	for _, g := range a.Gates {
		for _, c := range g.Causes {
			if !c.Refuses {
				continue
			}
			fmt.Fprintf(&out, "%s: %s %s", g.Gate, c.Code, c.Text)
			for _, x := range []*string{c.Next, c.Who, c.At} {
				fmt.Fprintf(&out, " | %s", said(x))
			}
			fmt.Fprintln(&out)
		}
	}
	return out.String()
}

// TestOf: an answer names every gate that refuses, whose it is, and a next step that was tried.
func TestOf(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for _, c := range []struct{ subject, action, resource, want string }{
		{"ann@tarn.example", "files.open", "file:plan", "yes as record [one_time_code accept_terms]\n"},
		{"ann@tarn.example", "files.open", "file:list", `no as record []
service: switch_off “Guests in a space” is off. | Set spaces.guests to on at Hold; Lars Holm can do it. | owner:lars | space:hold
`},
		{"ben@tarn.example", "spaces.enter", "space:deck", `no as record []
identity: record_suspended ben@tarn.example is suspended. | Bring the record of ben@tarn.example back. | administrator | guest:ben@tarn.example
`},
		{"lost@tarn.example", "spaces.enter", "space:deck", `no as home []
domain: barred_address The address lost@tarn.example is barred. | Lift the bar on lost@tarn.example. | administrator | partners
domain: level_closed “Members with their home account” is set to closed: nobody from outside. | Set spaces.connect to any at Deck; Uma Reed can do it. | owner:uma | space:deck
grant: no_grant lost@tarn.example has no role on Deck. | Give lost@tarn.example the role view on Deck; Uma Reed can do it. | owner:uma | space:deck
`},
		{"cy@fell.example", "directory.sign_up", "directory:ours", `no as home []
domain: opened_no The partner Fell is closed for directory.in. | Open the partner Fell for directory.in. | administrator | partner:fell
service: switch_off “Signing up without an invitation” is off. | Set the default of directory.self_signup to on. | administrator | rule:directory.self_signup
`},
		{"ann@tarn.example", "spaces.edit_page", "page:notes", `no as record []
rule: rule_short “Editing pages” is set to off; this needs on. | Set spaces.pages to on at Deck; Uma Reed can do it. | owner:uma | space:deck
grant: private_item Notes is private: a role in the space does not open it. | Give ann@tarn.example the role contribute on Notes; Uma Reed can do it. | owner:uma | space:deck
`},
	} {
		q, err := answer.Question(&contract.Question{Subject: c.subject, Action: c.action, Resource: c.resource}, s, now, answer.NoNames)
		if err != nil {
			t.Fatal(err)
		}
		x, err := s.Explain(&q)
		if err != nil {
			t.Fatal(err)
		}
		a := answer.Of(s, x, 4)
		if got := words(&a); got != c.want {
			t.Errorf("%s %s %s:\n%s", c.subject, c.action, c.resource, got)
		}
	}
}

// TestQuestion: what cannot be asked names the field, the value and what would be right.
func TestQuestion(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for _, c := range []struct {
		q     contract.Question
		names answer.Names
		want  string
	}{
		{contract.Question{Subject: "ann", Action: "files.open", Resource: "file:plan"}, answer.NoNames, `subject "ann": "ann" is no address: there is no @ (at position 4); write an address, person:ID, link:ID or *@domain`},
		{contract.Question{Subject: "Ann Voss", Action: "open", Resource: "Plan"}, answer.AllNames, "ann@tarn.example files.open file:plan"},
		{contract.Question{Subject: "Ann Voss", Action: "files.open", Resource: "Plan"}, answer.OurNames, `subject "Ann Voss": nobody is called so; write a name, an address, person:ID, link:ID or *@domain`},
		{contract.Question{Subject: "ann@tarn.example", Action: "files.opens", Resource: "file:plan"}, answer.NoNames, `action "files.opens": there is no such action; do you mean files.open?`},
		{contract.Question{Subject: "ann@tarn.example", Action: "files.open", Resource: "plan"}, answer.NoNames, `resource "plan": write kind:id, as space:loan-dossier`},
		{contract.Question{Subject: "ann@tarn.example", Action: "files.open", Resource: "file:plan", At: str("next winter")}, answer.NoNames, `at "next winter": "next winter" is no moment: write a date as 2026-12-01, a moment as 2026-12-01T09:00:00Z or, in the organisation's time zone, 2026-12-01T09:00, or days from today as +3d`},
		{contract.Question{Subject: "person:uma", Action: "directory.invite", Resource: "space:deck",
			Context: &contract.QuestionContext{Address: str("lars")}}, answer.NoNames, `context.address "lars": "lars" is no address: there is no @ (at position 5); write an address, person:ID, link:ID or *@domain`},
	} {
		q, err := answer.Question(&c.q, s, now, c.names)
		got := fmt.Sprint(q.Subject, " ", q.Action, " ", q.Resource)
		if wrong := (*engine.WrongUse)(nil); errors.As(err, &wrong) {
			got = fmt.Sprintf("%s %q: %s", wrong.Field, wrong.Value, wrong.Reason)
		} else if err != nil {
			got = err.Error()
		}
		if got != c.want {
			t.Errorf("%v: %s", c.q, got)
		}
	}
}

// TestSuppose: what would be opened by an invitation, a grant, a bundle or a link, and what cannot be supposed.
func TestSuppose(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	yes := true
	for _, c := range []struct {
		what string
		x    contract.Supposition
		want string
	}{
		{"nobody", contract.Supposition{Invite: &yes}, `subject "": write the address that would be given something, or *@domain`},
		{"nothing", contract.Supposition{Subject: str("dan@tarn.example")}, `grants "": say what would be given: a grant, a group, a bundle, an invitation or a link`},
		{"a role", contract.Supposition{Subject: str("dan@tarn.example"), Grants: &[]contract.SupposedGrant{{Resource: "space:deck", Role: "rule"}}}, `role "rule": write view, contribute or manage`},
		{"no bundle", contract.Supposition{Subject: str("dan@tarn.example"), Bundle: str("boat")}, `bundle "boat": there is no such bundle`},
		{"a day", contract.Supposition{Subject: str("dan@tarn.example"), Invite: &yes, At: str("soon")}, `at "soon": "soon" is no moment: write a date as 2026-12-01, a moment as 2026-12-01T09:00:00Z or, in the organisation's time zone, 2026-12-01T09:00, or days from today as +3d`},
		{"a bundle", contract.Supposition{Subject: str("dan@tarn.example"), Invite: &yes, Bundle: str("loan")}, `opened chat.edit_own person:* 2
opened chat.message person:* 2
opened directory.leave directory:ours 1
opened directory.look_up person:uma 1
opened directory.sign_in directory:ours 1
opened files.download file:plan 1
opened files.open file:plan 1
opened spaces.enter space:deck 1
opened spaces.see_members space:deck 1`},
		{"a link", contract.Supposition{Link: &contract.SupposedLink{Item: "file:plan"}}, ""},
	} {
		x, at, err := answer.Suppose(&c.x, s, now)
		var got string
		if wrong := (*engine.WrongUse)(nil); errors.As(err, &wrong) {
			got = fmt.Sprintf("%s %q: %s", wrong.Field, wrong.Value, wrong.Reason)
		} else if err != nil {
			got = err.Error()
		} else {
			lines, kind, err := s.Would(x, at)
			if err != nil {
				t.Fatal(err)
			}
			w := answer.Would("dan@tarn.example", kind, at, lines, 4)
			var all []string
			for _, l := range w.Lines {
				if l.Change == "opened" {
					all = append(all, fmt.Sprintf("%s %s %s %d", l.Change, l.Action, l.Resource, l.Count))
				}
			}
			slices.Sort(all)
			got = strings.Join(all, "\n")
		}
		if got != c.want {
			t.Errorf("%s:\n%s", c.what, got)
		}
	}
}

// TestReach: what somebody reaches is told service by service, with the account that does it.
func TestReach(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	q, err := engine.ParseWho("ann@tarn.example")
	if err != nil {
		t.Fatal(err)
	}
	lines, kind, err := s.Reach(q, now)
	if err != nil {
		t.Fatal(err)
	}
	r := answer.Reach(s, q, kind, now, lines, 4)
	var got []string
	for _, l := range r.Lines {
		if l.Decision != "yes" {
			continue
		}
		got = append(got, fmt.Sprintf("%s: %s %s x%d as %s %v", l.Service, l.Action, l.Resource, l.Count, l.Account, l.Conditions))
	}
	if said(r.Name) != "Ann Voss" || r.Kind != "guest" || r.Revision != 4 || r.At != "2026-11-23T09:00:00Z" {
		t.Errorf("%s %s %d %s", said(r.Name), r.Kind, r.Revision, r.At)
	}
	const why = " as record [one_time_code accept_terms]"
	want := strings.Join([]string{
		"directory: directory.sign_in directory:ours x1" + why,
		"directory: directory.leave directory:ours x1" + why,
		"directory: directory.look_up person:* x2" + why,
		"spaces: spaces.enter space:deck x1" + why,
		"spaces: spaces.see_members space:deck x1" + why,
		"chat: chat.message person:* x2" + why,
		"chat: chat.edit_own person:* x2" + why,
		"files: files.open file:plan x1" + why,
		"files: files.download file:plan x1" + why,
		"files: files.edit file:plan x1" + why,
		"files: files.upload file:plan x1" + why,
		"files: files.delete file:plan x1" + why,
	}, "\n")
	if text := strings.Join(got, "\n"); text != want {
		t.Errorf("reached is\n%s", text)
	}
}
