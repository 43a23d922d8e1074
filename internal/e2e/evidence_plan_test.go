package e2e

import (
	"context"
	"encoding/json"
	"strings"
	"testing"

	"wexillum.example/internal/contract"
)

// TestEvidencePlans has records made again and again by two services at once: each of them is made once, and none after the end.
func TestEvidencePlans(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("lantern")
	var plan contract.EvidencePlan
	check(t, json.Unmarshal([]byte(r.must("evidence", "plan", "--every", "30", "--party", "partner:tholemere", "--sign-off", "lantern",
		"--why", "the insurer asks", "-o", "json")), &plan))
	if plan.Every != 30 || plan.By != "lantern" || plan.Says != "What everybody from Tholemere Assurance may do" {
		t.Errorf("%+v", plan)
	}
	r.says(2, "give --every, in days, and --why", "evidence", "plan", "--every", "30")
	r.says(1, "there is no partner", "evidence", "plan", "--every", "30", "--party", "partner:nobody", "--why", "x")
	r.says(1, "there is no account of this name", "evidence", "plan", "--every", "30", "--sign-off", "nobody", "--why", "x")
	r.says(1, "there is no plan", "evidence", "end", "every-1-none")
	for _, about := range [][]string{{"evidence", "plan", "--every", "30"}, {"evidence", "make"}} { // what is misspelt would prove nothing
		r.says(1, `action "files.opne": "files.opne" is no action; write one as files.open, files.* or *; do you mean files.open?`,
			append(about, "--action", "files.opne", "--why", "x")...)
	}
	ctx := context.Background()
	done := make(chan error, 2)
	for range 2 {
		go func() { done <- r.svc.MakePlanned(ctx) }()
	}
	check(t, <-done)
	check(t, <-done)
	records := func() (out []contract.Evidence) {
		var x []contract.Evidence
		check(t, json.Unmarshal([]byte(r.must("evidence", "list", "-o", "json")), &x))
		for _, e := range x {
			if strings.HasPrefix(e.Why, "the insurer asks (every 30 days, planned by lantern)") {
				out = append(out, e)
			}
		}
		return
	}
	made := records()
	if len(made) != 1 || made[0].Party != "partner:tholemere" || made[0].Lines == 0 || len(made[0].Open) != 1 {
		t.Fatalf("%+v", made)
	}
	var plans []contract.EvidencePlan
	check(t, json.Unmarshal([]byte(r.must("evidence", "plans", "-o", "json")), &plans))
	if len(plans) != 1 || said(plans[0].Last) != made[0].Id || plans[0].Next <= plan.Next || plans[0].Problem != nil {
		t.Errorf("%+v, made %s", plans, made[0].Id)
	}
	check(t, r.svc.MakePlanned(ctx)) // nothing is due
	if again := records(); len(again) != 1 {
		t.Errorf("made again: %d", len(again))
	}
	r.must("evidence", "end", plan.Id, "--why", "the loan is over")
	if list := r.must("evidence", "plans"); strings.Contains(list, plan.Id) || len(records()) != 1 {
		t.Errorf("after the end: %s", list)
	}
	r.login("rigger")
	r.says(1, "may not", "evidence", "plans")
}
