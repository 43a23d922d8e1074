package service

import (
	"cmp"
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// TestDeputies follows who decides while somebody is away: their deputy, the deputy's, or a keeper; never whom the asker named.
func TestDeputies(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+strings.ReplaceAll(bundleWorld, "\nbundles:", "bundles:"))
	load(t,
		s,
		"wexillum: 1\npeople: [{id: cato, name: Cato, address: cato@ours.example}, {id: dora, name: Dora, address: dora@ours.example}, {id: eli, name: Eli, address: eli@ours.example}]\n")
	ctx := t.Context()
	for name, x := range map[string]Account{"kira": {Role: string(Keeper), Person: "ben"}, "u": {Person: "uma"}, "c": {Person: "cato"},
		"d": {Person: "dora"}} {
		x.Name, x.Role = name, cmp.Or(x.Role, string(Member))
		check(t, s.MakeAccount(ctx, "test", "they work here", x, "low-water-2026"))
	}
	d := &atDoor{t, s, &box{}}
	// as is somebody of ours who signs in now.
	as := func(name, person string, role Role) Who {
		t.Helper()
		who, err := s.StandingIn(ctx, Who{Name: name, Role: role, Person: person})
		check(t, err)
		return who
	}
	kira := func() Who { return as("kira", "ben", Keeper) }
	away := func(who Who, person, deputy, until string) string {
		_, err := s.SetAbsence(ctx, who, AbsenceSet{Person: person, Deputy: deputy, Until: until, Why: "on leave"}, false)
		return outcome(err)
	}
	for want, got := range map[string]string{
		"nobody stands in for themselves":     away(kira(), "uma", "uma", "+5d"),
		`deputy "nobody": there is no such`:   away(kira(), "uma", "nobody", "+5d"),
		"they cannot sign in here":            away(kira(), "uma", "eli", "+5d"),
		"name a day after it begins":          away(kira(), "uma", "cato", "2026-01-01"),
		"said to be away by a keeper":         away(as("c", "cato", Member), "uma", "dora", "+5d"),
		`person "x": there is no such person`: away(kira(), "x", "", "+5d"),
	} {
		if !strings.Contains(got, want) {
			t.Errorf("want %q: %s", want, got)
		}
	}
	ask := func(by Who, bundle, address string) string {
		t.Helper()
		r, err := s.AskBundle(ctx, by, BundleAsk{Bundle: bundle, Address: address, Purpose: "the dinghy"})
		check(t, err)
		return r.ID
	}
	may := func(id string) (out []string) {
		t.Helper()
		r, err := s.requestKept(ctx, id)
		check(t, err)
		for _, w := range []Who{as("u", "uma", Member), as("c", "cato", Member), as("d", "dora", Member), kira(), as("a", "", Administrator)} {
			if s.State().MayApprove(r, w) {
				out = append(out, w.Name)
			}
		}
		return out
	}
	guest := func(a string) Who { return Who{Name: GuestName(a), Role: RoleGuest, Guest: a} }
	first := ask(guest("ada@ilvane.example"), "hers", "ada@ilvane.example") // uma decides, who owns what it gives too
	if got := fmt.Sprint(may(first)); got != "[u]" {
		t.Fatalf("before: %s", got)
	}
	// She is away: cato decides; he goes too, and dora decides for both; then nobody is left, and a keeper decides.
	if got := away(as("u", "uma", Member), "uma", "cato", "+5d"); got != "done" {
		t.Fatal(got)
	}
	if m := d.mail("cato@ours.example"); len(m) != 1 || !strings.Contains(m[0].Text, "Uma is away") ||
		!strings.Contains(m[0].Text, "one request") || !strings.Contains(m[0].Text, "0 lines of reviews") {
		t.Errorf("the deputy is told: %+v", m)
	}
	if got := fmt.Sprint(may(first)); got != "[u c]" { // whoever comes back early decides all the same
		t.Errorf("a deputy: %s", got)
	}
	if l, err := s.Requests(ctx, as("c", "cato", Member), false); err != nil || len(l) != 1 {
		t.Errorf("what the deputy sees: %+v %v", l, err)
	}
	if got := away(kira(), "cato", "dora", "+3d"); got != "done" {
		t.Fatal(got)
	}
	if got := fmt.Sprint(may(first)); got != "[u d]" {
		t.Errorf("a deputy's deputy: %s", got)
	}
	second := ask(guest("bo@ilvane.example"), "hers", "bo@ilvane.example")
	if m := d.mail("dora@ours.example"); len(m) != 2 || !strings.Contains(m[0].Text+m[1].Text, "bo@ilvane.example") {
		t.Errorf("who decides is asked: %+v", m)
	}
	if got := away(kira(), "dora", "", "+1d"); got != "done" {
		t.Fatal(got)
	}
	if got := fmt.Sprint(may(first)); got != "[u kira a]" {
		t.Errorf("nobody is left: %s", got)
	}
	if _, err := s.DoRequest(ctx, kira(), first, "they need it", false, BundleApproval{}); err != nil {
		t.Fatal(err)
	}
	if r, err := s.requestKept(ctx, first); err != nil || r.State != RequestWorks || r.Bundle.Steps[0].For != "uma" ||
		r.Bundle.Steps[0].Given != "kira" {
		t.Errorf("given by a keeper: %+v %v", r, err)
	}
	// Days pass: who is back decides again, and what is over is said to be.
	clock.forward(49 * time.Hour)
	check(t, s.tendAbsences(ctx))
	if got := fmt.Sprint(may(second)); got != "[u d]" {
		t.Errorf("dora is back: %s", got)
	}
	// Whoever asks is not let in by whom they named, not even when they are back, or named them after asking.
	check(t, s.EndAbsence(ctx, kira(), "uma", ""))
	check(t, s.EndAbsence(ctx, kira(), "cato", "back early"))
	if got := away(as("d", "dora", Member), "", "uma", "+5d"); got != "done" {
		t.Fatal(got)
	}
	third := ask(as("d", "dora", Member), "hers", "cy@ilvane.example")
	if got := fmt.Sprint(may(third)); got != "[kira a]" {
		t.Errorf("her deputy is the approver: %s", got)
	}
	fourth := ask(as("c", "cato", Member), "hers", "di@ilvane.example")
	if got := away(as("c", "cato", Member), "cato", "uma", "+5d"); got != "done" {
		t.Fatal(got)
	}
	check(t, s.EndAbsence(ctx, as("c", "cato", Member), "cato", "back early"))
	if got := fmt.Sprint(may(fourth)); got != "[kira a]" {
		t.Errorf("named after asking: %s", got)
	}
	if _, err := s.HandOverRequest(ctx, kira(), third, "uma"); err == nil || !strings.Contains(err.Error(), "the deputy of whoever asked") {
		t.Errorf("handed over to the deputy: %v", err)
	}
	// Lines of a round go the same way.
	r, err := s.BeginRound(ctx, kira(), RoundBegin{Name: "Autumn", Until: "+20d", Why: "it is autumn"}, false)
	check(t, err)
	if v, err := s.RoundOf(ctx, as("u", "uma", Member), r.ID); err != nil || v.Mine != 1 {
		t.Errorf("before: %+v %v", v, err)
	}
	if got := away(kira(), "uma", "cato", "+5d"); got != "done" {
		t.Fatal(got)
	}
	if m := d.mail("cato@ours.example"); !strings.Contains(m[len(m)-1].Text, "one line of a review") {
		t.Errorf("the deputy is told: %+v", m)
	}
	if x, err := s.AnswerRound(ctx, as("c", "cato", Member), r.ID, ReviewAnswer{Do: "end", Why: "the loan is over"}, false); err != nil ||
		x.Done != 1 {
		t.Errorf("a deputy answers: %+v %v", x, err)
	}
	list, err := s.Absences(ctx, as("c", "cato", Member))
	if err != nil || len(list) != 1 || list[0].Person != "uma" || !list[0].On || list[0].Lines != 0 {
		t.Errorf("what cato sees: %+v %v", list, err)
	}
	if list, err = s.Absences(ctx, kira()); err != nil || len(list) != 2 {
		t.Errorf("what a keeper sees: %+v %v", list, err)
	}
}

// TestWaitingMoves takes a world with bundles that are asked for and a round along in a file: what waits there waits here, and goes on.
func TestWaitingMoves(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+strings.ReplaceAll(bundleWorld, "\nbundles:", "bundles:")+`guests:
  - {address: ada@ilvane.example, sponsor: uma, since: 2026-01-01, accepted: 2026-01-01}
grants:
  - {party: ada@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01, sponsor: uma}
  - {party: ada@ilvane.example, resource: page:notes, role: view, from: 2026-01-01, sponsor: uma}
`)
	ctx := t.Context()
	uma, ben := Who{Name: "u", Role: Member, Person: "uma"}, Who{Name: "b", Role: Member, Person: "ben"}
	r, err := s.AskBundle(ctx, ben, BundleAsk{Bundle: "desk", Address: "bo@ilvane.example", Sponsor: "uma", Language: "pt",
		Answers: []string{"the oar:\n# and \"more\""}, Purpose: "the dinghy", Until: "+20d"})
	check(t, err)
	if _, err := s.DoRequest(ctx, uma, r.ID, "", false, BundleApproval{Less: []Less{{Resource: "file:kit"}}}); err != nil {
		t.Fatal(err)
	}
	v, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "Autumn", Partner: "ilvane", Until: "+10d", Why: "it is autumn"}, false)
	check(t, err)
	if _, err := s.AnswerRound(ctx, uma, v.ID, ReviewAnswer{Do: "narrower", Role: "view", Lines: []int{1}, Why: "looking is enough"},
		false); err != nil {
		t.Fatal(err)
	}
	dumped := func(s *Service) string {
		t.Helper()
		w, err := s.World(ctx, store.Head{})
		check(t, err)
		return string(worldfile.Write(w))
	}
	text := dumped(s)
	for _, want := range []string{"\nrequests:\n", "\nrounds:\n", "looking is enough", "narrowed: view", "owner:uma"} {
		if !strings.Contains(text, want) {
			t.Errorf("the file lacks %q:\n%s", want, text)
		}
	}
	there, _ := start(t, dbtest.DSN(t))
	ahead, err := there.Load(ctx, "h", "moved", "moved.yaml", []byte(text), true)
	check(t, err)
	if shown := fmt.Sprint(ahead.Edits); !strings.Contains(shown, "request "+r.ID) || !strings.Contains(shown, "round "+v.ID) {
		t.Errorf("ahead: %s", shown)
	}
	load(t, there, text)
	if got := dumped(there); got != text {
		t.Errorf("not as it was:\n%s\nwas\n%s", got, text)
	}
	if again, err := there.Load(ctx, "h", "again", "moved.yaml", []byte(text), false); err != nil || again.Changed != 0 {
		t.Errorf("loaded again: %+v %v", again, err)
	}
	// They go on: the keeper's step gives what was made narrower, and the round's other line is answered.
	if _, err := there.DoRequest(ctx, keeper, r.ID, "they need it", false, BundleApproval{}); err != nil {
		t.Fatal(err)
	}
	if got := there.State().Bundled(mustAddr(t, "bo@ilvane.example")); len(got) != 1 || got[0].Resource.String() != "space:dossier" ||
		got[0].Until.String() != "2026-12-14T00:00:00Z" {
		t.Errorf("what was given is not what was asked for: %+v", got)
	}
	if x, err := there.AnswerRound(ctx, uma, v.ID, ReviewAnswer{Do: "end"}, false); err != nil || x.Done != 1 {
		t.Errorf("the round: %+v %v", x, err)
	}
	for want, part := range map[string]string{
		"owner:ID for a person":          "requests: [{id: r9, bundle: desk, address: x@ilvane.example, by: b, purpose: p, asked: [Q], said: [A], steps: [{by: keeper, who: [somebody]}]}]",
		`there is no person "nobody"`:    "requests: [{id: r9, bundle: desk, address: x@ilvane.example, by: b, purpose: p, asked: [Q], said: [A], steps: [{by: sponsor, who: [\"owner:nobody\"]}]}]",
		"an answer to every question":    "requests: [{id: r9, bundle: desk, address: x@ilvane.example, by: b, purpose: p, asked: [Q], steps: [{by: keeper, who: [keeper]}]}]",
		`there is no bundle "gone"`:      "requests: [{id: r9, bundle: gone, address: x@ilvane.example, by: b, purpose: p, steps: [{by: keeper, who: [keeper]}]}]",
		"an end and at least one line":   "rounds: [{id: v9, name: N, until: 2027-01-01, why: w, by: b}]",
		`a round has no field "colour"`:  "rounds: [{id: v9, name: N, until: 2027-01-01, why: w, by: b, colour: red}]",
		`"lost" is no state; write open`: "rounds: [{id: v9, name: N, until: 2027-01-01, why: w, by: b, lines: [{party: x@ilvane.example, resource: \"space:dossier\", role: view, reviewer: keeper, state: lost}]}]",
	} {
		if _, err := there.Load(ctx, "h", "wrong", "wrong.yaml", []byte("wexillum: 1\n"+part+"\n"), false); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("want %q: %v", want, err)
		}
	}
}
