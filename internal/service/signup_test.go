package service

import (
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

// atDoor proves addresses with the codes that are mailed to them.
type atDoor struct {
	*testing.T
	s    *Service
	post *box
}

// mail sends what waits and returns what went to an address.
func (d *atDoor) mail(to string) (out []boxed) {
	d.Helper()
	d.post.got = nil
	_, err := d.s.SendWaiting(d.Context(), d.post)
	check(d, err)
	for _, m := range d.post.got {
		if m.to == to {
			out = append(out, m)
		}
	}
	return
}

// signIn tells what somebody meets who asks for a code and sends it.
func (d *atDoor) signIn(k SigningIn) string {
	d.Helper()
	check(d, d.s.AskCode(d.Context(), k))
	got := d.mail(k.Address)
	if len(got) == 0 {
		return "no code"
	}
	x, err := d.s.Prove(d.Context(), k, codeIn.FindString(got[0].Text))
	return met(x, err)
}

func met(x Entered, err error) string {
	if err != nil {
		return err.Error()
	}
	if x.Step == nil {
		return "in as " + x.Name
	}
	out := x.Step.Kind + " " + strings.Join(x.Step.Questions, "/")
	if x.Step.Answer != "" {
		out += " since " + x.Step.Answer
	}
	if x.Step.Space != "" {
		out += x.Step.Space + " " + x.Step.Role.String()
	}
	return out
}

// TestSignUp asks who signs up what the settings say, and lets in whom somebody of ours lets in.
func TestSignUp(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	ctx := t.Context()
	d := &atDoor{t, s, &box{}}
	set := func(patch string) {
		t.Helper()
		check(t, s.PatchSettings(ctx, "h", "", []byte(patch), ""))
	}
	signIn := func(a, want string) {
		t.Helper()
		if got := d.signIn(SigningIn{Address: a, Language: "en"}); got != want {
			t.Errorf("%s meets %q\nwant %q", a, got, want)
		}
	}
	says := func(a, language string, said ...string) string {
		t.Helper()
		return met(s.SignUp(ctx, SigningIn{Address: a, Language: language}, WayCode, said))
	}
	set(`{"settings": {"sign_up_asks": ["Who are you?", "For what?"], "sign_up_asks_pt": ["Quem é?", "Para quê?"]}}`)
	signIn("ada@ilvane.example", "no code") // nobody may sign up yet
	load(t,
		s,
		"wexillum: 1\nrules: {directory.self_signup: {default: on}, files.given_to: {default: newcomers}}\ngrants: [{party: given@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: ben}]\n")

	// Questions alone: who answers them is in. Who was given something is asked nothing.
	signIn("given@ilvane.example", "in as guest:given@ilvane.example")
	signIn("ada@ilvane.example", "questions Who are you?/For what?")
	if step, err := s.StepOf(ctx, "ada@ilvane.example", "pt"); err != nil || strings.Join(step.Questions, "/") != "Quem é?/Para quê?" {
		t.Errorf("in Portuguese: %+v %v", step, err)
	}
	for _, x := range []struct {
		said []string
		want string
	}{
		{nil, `answers "0": answer every question, 2 of them`},
		{[]string{"Ada", " "}, `answers[1] "": answer in 1 to 500 letters: For what?`},
		{[]string{"Ada", strings.Repeat("x", 501)}, "answer in 1 to 500 letters"},
	} {
		if got := says("ada@ilvane.example", "en", x.said...); !strings.Contains(got, x.want) {
			t.Errorf("%.30q: %s", x.said, got)
		}
	}
	if got := says("ada@ilvane.example", "en", "Ada", "the ropes"); got != "in as guest:ada@ilvane.example" {
		t.Error(got)
	}
	if g, _, err := s.Guest(ctx, "ada@ilvane.example"); err != nil || g.Purpose != "Who are you? Ada; For what? the ropes" || g.Sponsor != "" {
		t.Errorf("%+v %v", g, err)
	}
	signIn("ada@ilvane.example", "in as guest:ada@ilvane.example") // once is enough
	if got := says("nobody@shut.example", "en", "x", "y"); got != ErrDenied.Error() {
		t.Errorf("who may not sign up: %s", got)
	}

	// Somebody decides.
	set(`{"settings": {"sign_up_by": "uma", "sign_up_asks": ["For what?"], "sign_up_asks_pt": null}}`)
	if err := s.PatchSettings(ctx, "h", "", []byte(`{"settings": {"sign_up_by": "nobody"}}`), ""); err == nil ||
		!strings.Contains(err.Error(), "nobody") {
		t.Errorf("a person who is not there: %v", err)
	}
	signIn("bo@ilvane.example", "questions For what?")
	if got := says("bo@ilvane.example", "pt", "as cordas"); got != "waiting " {
		t.Error(got)
	}
	if got := says("bo@ilvane.example", "pt", "mais"); got != "waiting " {
		t.Errorf("again: %s", got)
	}
	signIn("bo@ilvane.example", "waiting ")
	if got := d.mail("uma@ours.example"); len(got) != 0 { // it went out with the code
		t.Errorf("mailed again: %v", got)
	}
	uma, ben := Who{Name: "uma", Role: Member, Person: "uma"}, Who{Name: "ben", Role: Member, Person: "ben"}
	list, err := s.Requests(ctx, uma, false)
	check(t, err)
	if len(list) != 1 || list[0].SignUp.Address != "bo@ilvane.example" || list[0].Purpose != "For what? as cordas" ||
		strings.Join(list[0].To, ",") != "owner:uma" {
		t.Fatalf("%+v", list)
	}
	id := list[0].ID
	if _, err := s.DoRequest(ctx, ben, id, "", false, BundleApproval{}); !errors.Is(err, ErrNotFound) {
		t.Errorf("somebody else: %v", err)
	}
	if _, err := s.AnswerRequest(ctx, uma, id, "hm", false); err == nil ||
		!strings.Contains(err.Error(), "let bo@ilvane.example in (do it), or say no") {
		t.Errorf("neither yes nor no: %v", err)
	}
	if _, err := s.AnswerRequest(ctx, uma, id, "who is that?", true); err != nil {
		t.Error(err)
	}
	told := func(a string) string {
		t.Helper()
		var out []string
		for _, m := range d.mail(a) {
			out = append(out, m.Subject)
			if strings.Contains(m.Text, "who is that?") {
				out = append(out, "with the reason")
			}
		}
		return strings.Join(out, ", ")
	}
	if got := told("bo@ilvane.example"); got != "Small: sobre o seu pedido para entrar, with the reason" {
		t.Error(got)
	}
	signIn("bo@ilvane.example", "refused For what? since who is that?")
	if got := says("bo@ilvane.example", "en", "the ropes of Ada"); got != "waiting " {
		t.Error(got)
	}
	list, err = s.Requests(ctx, uma, false)
	check(t, err)
	id = list[0].ID
	out, err := s.DoRequest(ctx, uma, id, "", true, BundleApproval{})
	check(t, err)
	if w := out.Weighed; w == nil || w.Parties.Gained != 1 || w.Wide.Gained == 0 ||
		fmt.Sprint(w.Lines) != "[They may then change an own message, remove the own record, send a message, sign in]" {
		t.Errorf("weighed: %+v", w)
	}
	if _, err := s.store.Guest(ctx, "bo@ilvane.example"); err != nil || s.maySignIn(address(t, "bo@ilvane.example")) {
		t.Errorf("weighing let them in: %v", err)
	}
	_, err = s.DoRequest(ctx, uma, id, "", false, BundleApproval{})
	check(t, err)
	if got := told("bo@ilvane.example"); got != "Small: you may come in" {
		t.Error(got)
	}
	if _, err := s.DoRequest(ctx, keeper, id, "", false, BundleApproval{}); !errors.Is(err, ErrConflict) {
		t.Errorf("twice: %v", err)
	}
	signIn("bo@ilvane.example", "in as guest:bo@ilvane.example")
	if g, _, err := s.Guest(ctx, "bo@ilvane.example"); err != nil || g.Sponsor != "uma" || g.Purpose != "For what? the ropes of Ada" {
		t.Errorf("%+v %v", g, err)
	}

	about, err := s.Journal(ctx, store.JournalQuery{About: "bo@ilvane.example", Limit: 100})
	check(t, err)
	kinds := map[string]int{}
	for i := range about {
		kinds[about[i].Kind]++
	}
	if kinds["request"] != 4 || kinds["guest"] == 0 { // asked, refused, asked again, let in
		t.Errorf("what the journal knows of them: %v", kinds)
	}

	// Whoever decided has left: administrators do. Before they decide, the rule is turned off.
	_, err = s.PersonLeaves(ctx, keeper, "uma", "", "", "", false)
	check(t, err)
	clock.forward(time.Hour)
	signIn("cy@ilvane.example", "questions For what?")
	if got := says("cy@ilvane.example", "en", "more ropes"); got != "waiting " {
		t.Error(got)
	}
	list, err = s.Requests(ctx, keeper, false)
	check(t, err)
	if len(list) != 1 || fmt.Sprint(list[0].To) != "[administrator]" {
		t.Fatalf("%+v", list)
	}
	load(t, s, "wexillum: 1\nrules: {directory.self_signup: {default: off}}\n")
	if _, err := s.DoRequest(ctx, keeper, list[0].ID, "", false, BundleApproval{}); err == nil ||
		!strings.Contains(err.Error(), "the rules no longer let cy@ilvane.example sign up") {
		t.Errorf("after it was turned off: %v", err)
	}

	// What was refused to who never came in is forgotten after the days of the setting.
	_, err = s.AnswerRequest(ctx, keeper, list[0].ID, "not now", true)
	check(t, err)
	clock.forward(99 * 24 * time.Hour)
	if n, err := s.Forget(ctx); err != nil || n != 0 {
		t.Errorf("too early: %d %v", n, err)
	}
	clock.forward(2 * 24 * time.Hour)
	if n, err := s.Forget(ctx); err != nil || n != 1 {
		t.Errorf("forgot %d: %v", n, err)
	}
	list, err = s.Requests(ctx, keeper, true)
	check(t, err)
	for i := range list {
		if strings.Contains(fmt.Sprintf("%+v %+v", list[i], list[i].SignUp), "cy@ilvane.example") {
			t.Errorf("still known: %+v %+v", list[i], list[i].SignUp)
		}
	}
	if got := strings.Join(journaled(t, s, "request"), "\n"); strings.Contains(got, "cy@ilvane.example") {
		t.Errorf("the journal knows: %s", got)
	}
}

// TestJoin lets people of partners into a course by themselves, with the role that the course gives, and nobody
// else, and tells strangers nothing.
func TestJoin(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	load(t, s, `wexillum: 1
rules: {spaces.join_in: {limit: any, default: closed}, spaces.connect: {limit: any, default: closed}}
spaces:
  - {id: knots, name: Knots, kind: course, joinable: yes, owners: [ben], parties: ["partner:ilvane"], rules: {spaces.join_in: listed, spaces.connect: listed}}
  - {id: closed, name: Closed, kind: course, owners: [ben]}
`)
	ctx := t.Context()
	d := &atDoor{t, s, &box{}}
	for _, x := range []struct{ a, join, want string }{
		{"ada@ilvane.example", "knots", "joined Knots view"},
		{"ada@ilvane.example", "knots", "joined Knots view"}, // again
		{"ada@ilvane.example", "closed", "no code"},
		{"ada@ilvane.example", "nothing", "no code"},
		{"cy@shut.example", "knots", "no code"},
		{"osric@homepost.example", "knots", "no code"},
	} {
		if got := d.signIn(SigningIn{Address: x.a, Join: x.join, Language: "en"}); got != x.want {
			t.Errorf("%s at %s: %s, want %s", x.a, x.join, got, x.want)
		}
	}
	_, err := s.EditPlaces(ctx, keeper, "they work on it",
		[]PlaceEdit{{Do: DoSet, Kind: "space", ID: "knots", Fields: []byte(`{"joins_as": "contribute"}`)}}, false)
	check(t, err)
	for _, a := range []string{"bo@ilvane.example", "ada@ilvane.example"} {
		if got := d.signIn(SigningIn{Address: a, Join: "knots", Language: "en"}); got != "joined Knots contribute" {
			t.Errorf("%s: %s", a, got)
		}
	}
	if out, err := s.EditPlaces(ctx, keeper, "x", []PlaceEdit{{Do: DoSet, Kind: "space", ID: "dossier",
		Fields: []byte(`{"joins_as": "view"}`)}}, false); err != nil ||
		out.Lines[0].Cause != "people from outside join courses alone; this is a team" {
		t.Errorf("a team is joined: %+v %v", out, err)
	}
	own, err := s.store.Grants(ctx, "bo@ilvane.example")
	check(t, err)
	if len(own) != 1 || own[0].Sponsor != "ben" || own[0].Role.String() != "contribute" || own[0].Resource.ID != "knots" {
		t.Errorf("%+v", own)
	}
	if g, err := s.store.Guest(ctx, "bo@ilvane.example"); err != nil || g != nil {
		t.Errorf("joining made a guest: %+v %v", g, err)
	}
	if !decide(t, s, "bo@ilvane.example", "spaces.enter", "space:knots") {
		t.Error("who joined cannot enter")
	}
	if got := strings.Join(journaled(t, s, "grant"), "\n"); !strings.Contains(got,
		"guest:bo@ilvane.example bo@ilvane.example space:knots contribute") || !strings.Contains(got, ": joined by themselves") {
		t.Errorf("the journal: %s", got)
	}
	// Whoever has a record comes in to their page as well.
	_, err = s.Invite(ctx, keeper, Invitation{List: "dee@ilvane.example", Purpose: "x", As: "uma"}, false)
	check(t, err)
	if got := d.signIn(SigningIn{Address: "dee@ilvane.example", Join: "knots", Language: "en"}); got != "in as guest:dee@ilvane.example" {
		t.Error(got)
	}
	if own, err := s.store.Grants(ctx, "dee@ilvane.example"); err != nil || len(own) != 1 {
		t.Errorf("%+v %v", own, err)
	}

	// Where nobody signs in with a code, one that came for a course opens the course and nothing else.
	load(t, s, "wexillum: 1\nrules: {directory.sign_in: {default: [partner]}}\n")
	if got := d.signIn(SigningIn{Address: "dee@ilvane.example", Language: "en"}); got != "no code" {
		t.Errorf("to sign in: %s", got)
	}
	k := SigningIn{Address: "dee@ilvane.example", Join: "knots", Language: "en"}
	if got := d.signIn(k); got != "joined Knots contribute" {
		t.Errorf("to join: %s", got)
	}
	check(t, s.AskCode(ctx, k))
	got := d.mail(k.Address)
	k.Join = "" // what the code came for is not said
	if x, err := s.Prove(ctx, k, codeIn.FindString(got[0].Text)); !errors.Is(err, ErrDenied) {
		t.Errorf("a code for a course signs in: %s", met(x, err))
	}
}
