package service

import (
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/suite"
	"wexillum.example/internal/worldfile"
)

var keptWorld = strings.Replace(suiteWorld, "rules:", "rules:\n  files.bearer_links: {limit: on, default: on}\n  files.link_days: {limit: none, default: none}", 1) + `
links: [{id: kit-link, item: file:kit, for: bearer, right: view, by: uma, created: 2026-11-01, until: 2027-01-01}]
forwarders: [{mailbox: uma, to: uma@ilvane.example, keep_copy: yes, set_by: administrator}]
`

// carried switches all systems to carry, and lets everything settle.
func carried(t *testing.T, s *Service, c *clock, view func(string) *SystemView) {
	t.Helper()
	for _, id := range []string{"parley", "quay", "ledger"} {
		obey(t, s, id)
	}
	work(t, s, c)
	c.forward(25 * time.Hour)
	work(t, s, c)
}

func things(p *suite.Program, kind string) string {
	var out []string
	for _, x := range p.Things(kind) {
		line := ""
		for _, f := range []string{"mark", "name", "mail", "standing", "place", "crate", "box", "onto", "copy", "may", "until"} {
			if v := x.Fields[f]; v != "" {
				line += " " + v
			}
		}
		out = append(out, x.ID+line)
	}
	return strings.Join(out, "\n")
}

func kinds(v *SystemView) string {
	out := v.Work.Problem
	for _, k := range v.Kinds {
		out += fmt.Sprintf("%s: %d there, %d unknown, %d confirmed, %d open, %d differ, %d changed there\n", k.Kind, k.Found, k.Unknown,
			k.Confirmed, k.Open, k.Differ, k.Drift)
	}
	return out
}

func recordLines(t *testing.T, s *Service, id, kind, state string) []RecordLine {
	t.Helper()
	list, _, err := s.RecordLines(t.Context(), id, RecordQuery{Kind: kind, State: state, Limit: 100})
	check(t, err)
	return list
}

// TestRecordsCarried follows inventory into a system and back: shown before, written in order, confirmed,
// each change of life by itself, found when somebody there changes it, put back, taken over, ended there.
func TestRecordsCarried(t *testing.T) {
	s, c, programs, view := onSuite(t, keptWorld)
	quay, ledger := programs["quay"], programs["ledger"]
	if got, want := kinds(view("quay")), "space: 0 there, 0 unknown, 0 confirmed, 0 open, 1 differ, 0 changed there\n"+
		"guest: 0 there, 0 unknown, 0 confirmed, 0 open, 1 differ, 0 changed there\n"+
		"grant: 0 there, 0 unknown, 0 confirmed, 0 open, 1 differ, 0 changed there\n"+
		"link: 0 there, 0 unknown, 0 confirmed, 0 open, 1 differ, 0 changed there\n"; got != want {
		t.Fatalf("looked at:\n%s", got)
	}
	if v := view("quay"); v.Short.Granted == 0 {
		t.Errorf("Ada's grant is not there, and short is %+v", v.Short)
	}
	work(t, s, c)
	if things(quay, "visitors") != "" {
		t.Fatal("what is only looked at was written")
	}
	carried(t, s, c, view)
	if got := things(quay, "berths") + "\n" + things(quay, "visitors") + "\n" + things(quay, "passes") + "\n" + things(quay, "tickets") +
		"\n" + things(ledger, "orders"); got !=
		"b-0000001 dossier Dossier\nv-0000001 a@ilvane.example aboard\np-0000001 a@ilvane.example b-0000001/file:kit look\nt-0000001 kit-link b-0000001/file:kit look 2027-01-02T00:00:00Z\no-0000001 uma@ours.example uma@ilvane.example kept" {
		t.Fatalf("written:\n%s", got)
	}
	v := view("quay")
	for _, k := range v.Kinds {
		if k.Found != 1 || k.Confirmed != 1 || k.Unknown+k.Open+k.Differ+k.Drift != 0 {
			t.Errorf("%s: %+v %+v %+v", k.Kind, k, v.Work, recordLines(t, s, "quay", k.Kind, ""))
		}
	}
	if v.Beyond.any() || v.Short.Granted != 0 {
		t.Errorf("beyond %+v, short %+v", v.Beyond, v.Short)
	}
	// How often the link was opened there is told when it is read; that is no change of it.
	x, err := s.System(t.Context(), "quay")
	check(t, err)
	for range 2 {
		resp, err := http.PostForm(x.Address+"/quay/outside/ticket", url.Values{"mark": {"kit-link"}})
		check(t, err)
		check(t, resp.Body.Close())
		if resp.StatusCode != 200 {
			t.Fatalf("the link: %d", resp.StatusCode)
		}
	}
	c.forward(6 * time.Minute)
	work(t, s, c)
	if opened, err := s.Opened(t.Context(), []string{"kit-link", "other"}); err != nil || len(opened) != 1 || opened["kit-link"].Times != 2 ||
		opened["kit-link"].System != "quay" || view("quay").Kinds[3].Drift != 0 {
		t.Errorf("opened: %+v %v", opened, err)
	}
	// A step of life: a guest is suspended here, and there at once; the rest is left alone.
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: Suspend, Addresses: []string{"a@ilvane.example"}, Reason: "on leave"},
		false)
	check(t, err)
	work(t, s, c)
	if got := things(quay, "visitors"); got != "v-0000001 a@ilvane.example ashore" {
		t.Errorf("suspended: %s", got)
	}
	list, err := s.store.Journal(t.Context(), store.JournalQuery{Kind: "system_record", ID: "quay guest a@ilvane.example", Limit: 10})
	check(t, err)
	if len(list) == 0 || !strings.Contains(list[0].Why,
		"Quay: guest a@ilvane.example is written there: address a@ilvane.example, standing out") || !strings.Contains(list[0].Why, "on leave") {
		t.Errorf("the journal: %+v", list)
	}
	// Somebody there lets them in again: it is found, what it lets through is told, and it is put back.
	_, err = quay.Put("visitors", "v-0000001", map[string]string{"standing": "aboard"}, "the desk")
	check(t, err)
	c.forward(6 * time.Minute)
	work(t, s, c)
	v = view("quay")
	if v.Kinds[1].Drift != 1 || v.Beyond.Granted == 0 {
		t.Fatalf("let in behind our back: %s beyond %+v", kinds(v), v.Beyond)
	}
	l := recordLines(t, s, "quay", "guest", "drift")
	if len(l) != 1 || l[0].Found["standing"] != "in" || l[0].Meant["standing"] != "out" || l[0].Turn != "loosens" {
		t.Fatalf("drift: %+v", l)
	}
	out, err := s.DecideRecords(t.Context(), placeAdmin, "quay",
		RecordDecision{Do: "put_back", Kind: "guest", Keys: []string{"a@ilvane.example"}, Previews: true})
	check(t, err)
	if out.Done != 1 || out.Weighed.Granted.Lost == 0 {
		t.Errorf("what putting back does: %+v %+v", out, out.Weighed)
	}
	if _, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "put_back", Kind: "guest", All: true}); err == nil {
		t.Error("put back without a reason")
	}
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay",
		RecordDecision{Do: "put_back", Kind: "guest", All: true, Why: "they are on leave"})
	check(t, err)
	work(t, s, c)
	if got := things(quay, "visitors"); got != "v-0000001 a@ilvane.example ashore" || view("quay").Kinds[1].Confirmed != 1 {
		t.Errorf("put back: %s\n%s", got, kinds(view("quay")))
	}
	// Somebody there lets in a stranger: a finding, and what they reach is beyond.
	_, err = quay.Put("visitors", "", map[string]string{"mail": "z@ilvane.example", "standing": "aboard"}, "crew@ours.example")
	check(t, err)
	_, err = quay.Put("passes", "", map[string]string{"mail": "z@ilvane.example", "place": "b-0000001", "may": "add"}, "the desk")
	check(t, err)
	c.forward(6 * time.Minute)
	work(t, s, c)
	v = view("quay")
	if v.Kinds[1].Unknown != 1 || v.Kinds[2].Unknown != 1 || v.Kinds[1].Drift != 0 {
		t.Fatalf("a stranger:\n%s", kinds(v))
	}
	finds, err := s.systemFindings(t.Context(), s.Now())
	check(t, err)
	told := ""
	for _, f := range finds {
		told += f.Kind + ": " + f.Cause + "\n"
	}
	if !strings.Contains(told, "system_unknown: Quay keeps 1 guest that stands for nothing here.") ||
		!strings.Contains(told, "system_unknown: Quay keeps 1 grant that") {
		t.Errorf("findings:\n%s", told)
	}
	// They are taken over, with somebody who answers for them, weighed before.
	take := RecordDecision{Do: "take_over", Kind: "guest", All: true, Sponsor: "nobody", Purpose: "the survey", Why: "they were let in there",
		Previews: true}
	if _, err := s.DecideRecords(t.Context(), placeAdmin, "quay", take); err == nil || !strings.Contains(err.Error(), "sponsor") {
		t.Errorf("a sponsor who is not there: %v", err)
	}
	take.Sponsor = "uma"
	out, err = s.DecideRecords(t.Context(), placeAdmin, "quay", take)
	check(t, err)
	if out.Done != 1 || out.Lines[0].Says != "z@ilvane.example" {
		t.Errorf("%+v", out)
	}
	take.Previews = false
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", take)
	check(t, err)
	g, _, err := s.Guest(t.Context(), "z@ilvane.example")
	check(t, err)
	if !g.TakenOver || g.Sponsor != "uma" || g.Purpose != "the survey" || g.State != world.StateActive {
		t.Errorf("%+v", g)
	}
	work(t, s, c)
	if v = view("quay"); v.Kinds[1].Unknown != 0 || v.Kinds[1].Confirmed != 2 || len(quay.Things("visitors")) != 2 {
		t.Errorf("taken over:\n%s", kinds(v))
	}
	// The pass that nobody of ours gave is ended there.
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "end_there", Kind: "grant", All: true, Why: "nobody gave it"})
	check(t, err)
	work(t, s, c)
	c.forward(11 * time.Minute)
	work(t, s, c)
	if got := things(quay, "passes"); got != "p-0000001 a@ilvane.example b-0000001/file:kit look" || view("quay").Kinds[2].Unknown != 0 {
		t.Errorf("ended there: %s\n%s", got, kinds(view("quay")))
	}
	// A pass that somebody takes away there is missed: short, until it is put back.
	z, err := addr.Parse("z@ilvane.example")
	check(t, err)
	check(t, s.change(t.Context(), "admin", "as it is now", func(_ *State, tx *store.Tx) error {
		_, err := tx.PutGrant(&world.Grant{Address: z, Resource: world.Resource{Kind: catalogue.File, ID: "kit"}, Role: catalogue.View,
			From: s.Now(), Until: moment.Never, Reviewed: moment.Always})
		return err
	}))
	work(t, s, c)
	c.forward(11 * time.Minute)
	work(t, s, c)
	check(t, quay.Drop("passes", "p-0000001"))
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: BringBack, Addresses: []string{"a@ilvane.example"}, Reason: "back"},
		false)
	check(t, err)
	c.forward(6 * time.Minute)
	work(t, s, c)
	if v = view("quay"); v.Kinds[2].Drift != 1 || v.Short.Granted == 0 || v.Beyond.Granted != 0 {
		t.Errorf("taken away there:\n%s short %+v beyond %+v", kinds(v), v.Short, v.Beyond)
	}
	q, err := (&Asked{Subject: "a@ilvane.example", Action: "files.open", Resource: "file:kit"}).Question(s.Now())
	check(t, err)
	most, err := s.StateFound(t.Context(), true)
	check(t, err)
	if a, err := most.Decide(&q); err != nil || a.Yes {
		t.Errorf("found: %+v, %v", a, err)
	}
	if a, err := s.State().Decide(&q); err != nil || !a.Yes {
		t.Errorf("meant: %+v, %v", a, err)
	}
	// Nothing is written twice, and a grant that is ended here is ended there.
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "put_back", Kind: "grant", All: true, Why: "it was given"})
	check(t, err)
	work(t, s, c)
	ended, err := s.EditPlaces(t.Context(), placeAdmin, "done with it",
		[]PlaceEdit{{Do: DoRemove, Kind: "grant", ID: grantID(t, s, "a@ilvane.example")}}, false)
	check(t, err)
	if ended.Refused > 0 {
		t.Fatalf("%+v", ended.Lines)
	}
	work(t, s, c)
	c.forward(11 * time.Minute)
	work(t, s, c)
	if got := things(quay, "passes"); got != "p-0000003 z@ilvane.example b-0000001/file:kit look" || view("quay").Kinds[2].Confirmed != 1 {
		t.Errorf("ended here: %s\n%s", got, kinds(view("quay")))
	}
	if n := len(quay.Things("berths")) + len(quay.Things("tickets")); n != 2 {
		t.Errorf("%d berths and tickets", n)
	}
}

func grantID(t *testing.T, s *Service, party string) string {
	t.Helper()
	list, err := s.GrantsOf(t.Context(), party)
	check(t, err)
	return worldfile.GrantKey(&list[0])
}

// TestRecordsFlowIn: of what a system is the source, what our people make there is made here, and the gates
// decide; what they change or end there changes and ends here; what nobody of ours made is a finding.
func TestRecordsFlowIn(t *testing.T) {
	s, c, programs, view := onSuite(t, keptWorld)
	quay, ledger := programs["quay"], programs["ledger"]
	if _, err := s.ChangeSystem(t.Context(), placeAdmin, "x", "quay", SystemPatch{Sources: &[]string{"guest"}}); err == nil ||
		!strings.Contains(err.Error(), "space, link") {
		t.Errorf("a source of guests: %v", err)
	}
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "people make them there", "quay", SystemPatch{Sources: &[]string{"link", "space"}})
	check(t, err)
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "people make them there", "ledger", SystemPatch{Sources: &[]string{"forwarder"}})
	check(t, err)
	carried(t, s, c, view)
	for _, x := range []struct {
		p      *suite.Program
		kind   string
		fields map[string]string
		by     string
	}{
		{quay, "berths", map[string]string{"mark": "Dry Dock", "name": "Dry Dock", "keeper": "uma@ours.example"}, "uma@ours.example"},
		{quay, "tickets", map[string]string{"mark": "of-uma", "crate": "b-0000001/file:kit", "may": "add"}, "uma@ours.example"},
		{quay, "tickets", map[string]string{"mark": "of-nobody", "crate": "b-0000001/file:kit", "may": "look"}, "somebody@far.example"},
		{quay, "tickets", map[string]string{"mark": "of-nothing", "crate": "b-0000001/file:gone", "may": "look"}, "uma@ours.example"},
		{ledger, "orders", map[string]string{"box": "uma@ours.example", "onto": "uma@private.example", "copy": "not kept", "by": "clerk"},
			"uma@ours.example"},
	} {
		_, err := x.p.Put(x.kind, "", x.fields, x.by)
		check(t, err)
	}
	c.forward(6 * time.Minute)
	work(t, s, c)
	if st := s.State(); !st.Has("space", "dry-dock") || st.OwnerOf("dry-dock") != "uma" || !st.Has("link", "of-uma") ||
		st.Has("link", "of-nobody") || st.Has("link", "of-nothing") {
		t.Errorf("what was made there: %s", s.dump(t))
	}
	link, err := s.Link(t.Context(), "of-uma")
	check(t, err)
	if link.By != "uma" || link.Right.String() != "contribute" || link.Item.String() != "file:kit" {
		t.Errorf("%+v", link)
	}
	list, err := s.store.Journal(t.Context(), store.JournalQuery{Kind: "link", ID: "of-uma", Limit: 1})
	check(t, err)
	if len(list) != 1 || list[0].Why != "found in Quay: made there by uma" {
		t.Errorf("the journal: %+v", list)
	}
	// The forwarder flows in although the rules refuse it: it is beyond, and ends only when somebody says so.
	q, err := (&Asked{Subject: "person:uma", Action: "mail.forward", Resource: "mailbox:uma",
		Address: "uma@private.example"}).Question(s.Now())
	check(t, err)
	if a, err := s.State().Decide(&q); err != nil || a.Yes {
		t.Errorf("mail to a private address: %v %v", a, err)
	}
	some := false
	check(t, s.Forwarders(t.Context(), "uma", func(f *world.Forwarder) error {
		some = some ||
			f.To.String() == "uma@private.example"
		return nil
	}))
	if v := view("ledger"); !some || v.Kinds[0].Found != 2 || v.Kinds[0].Confirmed != 2 {
		t.Errorf("forwarders: %s", kinds(v))
	}
	if v := view("quay"); v.Kinds[3].Unknown != 2 || v.Kinds[0].Confirmed != 2 {
		t.Errorf("of nobody: %s", kinds(v))
	}
	// Changed and ended there.
	id := quay.Things("tickets")[1].ID
	_, err = quay.Put("tickets", id, map[string]string{"until": "2026-12-01T00:00:00Z", "may": "look"}, "uma@ours.example")
	check(t, err)
	check(t, ledger.Drop("orders", ledger.Things("orders")[1].ID))
	c.forward(6 * time.Minute)
	work(t, s, c)
	if link, err = s.Link(t.Context(), "of-uma"); err != nil || link.Until.String() != "2026-12-01T00:00:00Z" ||
		link.Right.String() != "view" {
		t.Errorf("changed there: %+v %v", link, err)
	}
	some = false
	check(t, s.Forwarders(t.Context(), "uma", func(f *world.Forwarder) error {
		some = some ||
			f.To.String() == "uma@private.example"
		return nil
	}))
	if some {
		t.Error("struck out there, and still here")
	}
	check(t, quay.Drop("tickets", id))
	c.forward(6 * time.Minute)
	work(t, s, c)
	if link, err = s.Link(t.Context(), "of-uma"); err != nil || link.Until > s.Now() {
		t.Errorf("taken away there: %+v %v", link, err)
	}
	// And ended here: a step there.
	check(t, s.EndLink(t.Context(), "admin", "not any more", "kit-link", func(*world.Link) error { return nil }))
	work(t, s, c)
	for _, x := range quay.Things("tickets") {
		if x.Fields["mark"] == "kit-link" {
			t.Errorf("ended here, and still there: %s\n%+v", kinds(view("quay")), recordLines(t, s, "quay", "link", ""))
		}
	}
}

// TestAnsweredWhenPublishing: whoever publishes days that let thirty guests go at once has seen the number, and no
// system asks again; a month later thirty others wait.
func TestAnsweredWhenPublishing(t *testing.T) {
	guests := ""
	for i := range 30 {
		guests += fmt.Sprintf("  - {address: g%02d@ilvane.example, sponsor: uma, since: 2026-09-01, accepted: 2026-09-01, terms: 2026-09-01}\n",
			i)
		guests += fmt.Sprintf("  - {address: h%02d@ilvane.example, sponsor: uma, since: 2026-11-20, accepted: 2026-11-20, terms: 2026-11-20}\n",
			i)
	}
	world := strings.Replace(strings.Replace(suiteWorld, "guests: [{", "guests:\n"+guests+"  - {", 1), "terms: 2026-11-01}]",
		"terms: 2026-11-01}", 1)
	world = strings.Replace(world, "rules:\n",
		"settings: {brake: none}\nrules:\n  guests.term_days: {limit: none, default: none}\n  guests.idle_days: {limit: none, default: none}\n  guests.after_last_grant: {limit: keep, default: keep}\n  guests.review_days: {limit: none, default: none}\n", 1)
	s, c, programs, view := onSuite(t, world)
	quay := programs["quay"]
	few := 10
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "few", "quay", SystemPatch{Brake: &few})
	check(t, err)
	carried(t, s, c, view)
	state := func() string {
		t.Helper()
		n := 0
		for _, x := range quay.Things("visitors") {
			if x.Fields["standing"] == "aboard" {
				n++
			}
		}
		w, err := s.store.WorkOn(t.Context(), "quay")
		check(t, err)
		return fmt.Sprintf("%d aboard, %d wait", n, w.Braked)
	}
	if got := state(); got != "61 aboard, 0 wait" {
		t.Fatal(got)
	}
	id := makeDraft(t, s, "Shorter")
	check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", RuleChange{Rule: "guests.term_days", Default: "60"}))
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	_, err = s.Publish(t.Context(), "anna", "they are long gone", id, x.Digest, moment.Always)
	check(t, err)
	c.forward(time.Second)
	carry(t, s)
	work(t, s, c)
	if got := state(); got != "31 aboard, 0 wait" {
		t.Errorf("published by who saw the number: %s", got)
	}
	if got := journaled(t, s, letGoKind); len(got) != 1 || got[0] != "anna dates: they are long gone" {
		t.Errorf("the journal: %q", got)
	}
	var all []string
	for i := range 30 {
		all = append(all, fmt.Sprintf("h%02d@ilvane.example", i))
	}
	c.forward(25 * time.Hour)
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: Suspend, Addresses: all, Reason: "an audit"}, false)
	check(t, err)
	work(t, s, c)
	if got := state(); got != "31 aboard, 30 wait" {
		t.Errorf("thirty more, of whom nobody saw the number: %s", got)
	}
}

// TestRecordsBraked: more than may go in a day is stopped and asked; a list that is empty and was not is no
// proof that everything is gone; too many calls end a round and lose nothing; what is accepted and not
// done differs.
func TestRecordsBraked(t *testing.T) {
	guests := ""
	for i := range 30 {
		guests += fmt.Sprintf("  - {address: g%02d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}\n",
			i)
	}
	s, c, programs, view := onSuite(t, strings.Replace(strings.Replace(suiteWorld, "guests: [{", "guests:\n"+guests+"  - {", 1),
		"terms: 2026-11-01}]", "terms: 2026-11-01}", 1))
	quay := programs["quay"]
	few := 10
	_, err := s.ChangeSystem(t.Context(), placeAdmin, "few", "quay", SystemPatch{Brake: &few})
	check(t, err)
	carried(t, s, c, view)
	if n := len(quay.Things("visitors")); n != 31 {
		t.Fatalf("%d visitors", n)
	}
	var all []string
	for i := range 30 {
		all = append(all, fmt.Sprintf("g%02d@ilvane.example", i))
	}
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: Suspend, Addresses: all, Reason: "an audit"}, false)
	check(t, err)
	work(t, s, c)
	aboard := func() (n int) {
		for _, x := range quay.Things("visitors") {
			if x.Fields["standing"] == "aboard" {
				n++
			}
		}
		return
	}
	w, err := s.store.WorkOn(t.Context(), "quay")
	check(t, err)
	if aboard() != 31 || w.Braked != 30 {
		t.Fatalf("%d aboard, %d braked", aboard(), w.Braked)
	}
	finds, err := s.systemFindings(t.Context(), s.Now())
	check(t, err)
	told := ""
	for _, f := range finds {
		told += f.Kind + ": " + f.Cause + "\n"
	}
	if !strings.Contains(told,
		"system_braked: Quay: 30 guests, grants or links wait to be taken away or let in there, more than the 10 that go in a day unasked.") {
		t.Errorf("findings:\n%s", told)
	}
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "release", Why: "it is meant"})
	check(t, err)
	work(t, s, c)
	if aboard() != 1 {
		t.Errorf("released, and %d are aboard", aboard())
	}
	// So is what lets in: they are brought back, and wait until somebody says that they may come.
	c.forward(25 * time.Hour)
	_, err = s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: BringBack, Addresses: all, Reason: "the audit is over"}, false)
	check(t, err)
	work(t, s, c)
	if w, err = s.store.WorkOn(t.Context(), "quay"); err != nil || aboard() != 1 || w.Braked != 30 {
		t.Errorf("brought back at once: %d aboard, %d braked %v", aboard(), w.Braked, err)
	}
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "release", Why: "it is meant"})
	check(t, err)
	work(t, s, c)
	if aboard() != 31 {
		t.Errorf("released, and %d are aboard", aboard())
	}
	c.forward(2 * time.Hour)
	// An empty list.
	for _, x := range quay.Things("visitors") {
		check(t, quay.Drop("visitors", x.ID))
	}
	c.forward(6 * time.Minute)
	work(t, s, c)
	if v := view("quay"); v.Kinds[1].Drift != 0 || v.Kinds[1].Found != 31 || v.Work.Empty != "guest" {
		t.Errorf("an empty list: %s empty %q", kinds(v), v.Work.Empty)
	}
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "empty", Why: "they cleared it"})
	check(t, err)
	work(t, s, c)
	if v := view("quay"); v.Kinds[1].Drift != 31 || v.Kinds[1].Found != 0 {
		t.Errorf("believed: %s", kinds(v))
	}
	// Put back while it says yes and does nothing: it differs, and a reading is no proof.
	quay.Settle(suite.Quirks{Lie: true})
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay",
		RecordDecision{Do: "put_back", Kind: "guest", All: true, Why: "they belong there"})
	check(t, err)
	work(t, s, c)
	c.forward(time.Minute)
	work(t, s, c)
	if v := view("quay"); v.Kinds[1].Differ != 31 {
		t.Errorf("accepted and not done: %s", kinds(v))
	}
	quay.Settle(suite.Quirks{Fail: true})
	_, err = s.DecideRecords(t.Context(), placeAdmin, "quay", RecordDecision{Do: "again", Kind: "guest", All: true, Why: "it is mended"})
	check(t, err)
	for range 40 {
		check(t, s.WorkSystems(t.Context()))
		c.forward(time.Minute)
	}
	if v := view("quay"); v.Kinds[1].Confirmed != 31 || len(quay.Things("visitors")) != 31 {
		t.Errorf("with faults half-way: %s", kinds(v))
	}
}
