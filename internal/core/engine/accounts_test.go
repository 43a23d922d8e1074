package engine_test

import (
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile/worldtest"
)

// TestTwoAccounts: the catalogue tells of which actions a guest may be asked with a second account, their own at home; the engine never
// asks two of any other.
func TestTwoAccounts(t *testing.T) {
	s := worldtest.Snapshot(t, `
wexillum: 1
organisation: {name: Harbour, domains: [harbour.example], time_zone: UTC}
personal_domains: [homepost.example]
partners: [{id: tarn, name: Tarn, domains: [tarn.example]}]
people: [{id: uma, name: Uma, address: uma@harbour.example}]
spaces:
  - {id: deck, kind: team, owners: [uma], items: [{id: plan, kind: file}, {id: plans, kind: folder}, {id: notes, kind: page},
      {id: tasks, kind: tasklist}, {id: talk, kind: channel}]}
  - {id: figures, kind: report_area, owners: [uma], items: [{id: sums, kind: report}, {id: board, kind: dashboard}]}
meetings: [{id: monday, host: uma}]
guests: [{address: ann@tarn.example}, {address: pia@homepost.example}]
`)
	about := map[catalogue.ResourceKind]string{}
	for _, text := range []string{"file:plan", "folder:plans", "page:notes", "tasklist:tasks", "channel:talk", "report:sums", "dashboard:board",
		"space:deck", "meeting:monday", "person:uma", "mailbox:uma", "calendar:uma", "directory:ours"} {
		r, err := engine.ParseResource(text)
		if err != nil {
			t.Fatal(err)
		}
		about[r.Kind] = r.ID
	}
	asked, two := 0, 0
	for _, act := range catalogue.Actions() {
		most := 0
		for _, kind := range act.On {
			id, ok := about[kind]
			if !ok {
				t.Fatalf("nothing to ask %s about is of the kind %s", act.Name, kind)
			}
			if act.AreaOnly {
				id = "figures"
			}
			for _, who := range []string{"ann@tarn.example", "pia@homepost.example"} {
				a, err := addr.Parse(who)
				if err != nil {
					t.Fatal(err)
				}
				q := engine.Question{Subject: engine.Who{Address: a}, Action: act.ID, Resource: world.Resource{Kind: kind, ID: id}, At: now}
				if act.Address {
					if q.Address, err = addr.Parse("dee@tarn.example"); err != nil {
						t.Fatal(err)
					}
				}
				if answer, err := s.Explain(&q); err == nil {
					asked++
					most = max(most, len(answer.Accounts))
				}
			}
		}
		if most > 0 && (most == 2) != act.TwoAccounts() {
			t.Errorf("%s is asked of %d accounts, and the catalogue tells of two: %t", act.Name, most, act.TwoAccounts())
		}
		if most == 2 {
			two++
		}
	}
	if asked < 60 || two < 5 {
		t.Errorf("only %d questions made sense, %d with two accounts", asked, two)
	}
}
