package service

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"sort"
	"strings"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldgen"
)

// TestSetMoment publishes at a moment that was set: also one that passed while no
// service ran, by one of two services, and not what is no longer as it was weighed.
func TestSetMoment(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, c := start(t, dsn)
	load(t, s, small)
	ask := func(s *Service, at moment.Moment) bool {
		t.Helper()
		st, _, err := s.At(t.Context(), at)
		check(t, err)
		return st.Policy().Organisation.Name == "Later"
	}
	id := makeDraft(t, s, "Later")
	_, err := s.Load(InDraft(t.Context(), id), "anna", "", "f",
		[]byte("wexillum: 1\norganisation: {name: Later, domains: [ours.example], time_zone: Europe/Lisbon}"), false)
	check(t, err)
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	day := moment.Of(c.at.AddDate(0, 0, 1))
	if _, err := s.Publish(t.Context(), "anna", "at night", id, x.Digest, s.Now()); err == nil {
		t.Error("set to a moment that is over")
	}
	_, err = s.Publish(t.Context(), "anna", "at night", id, x.Digest, day)
	check(t, err)
	if ask(s, day-1) || !ask(s, day) || ask(s, s.Now()) {
		t.Error("what is set does not count from its moment on")
	}
	check(t, s.publishDue(t.Context()))
	if s.State().Policy().Organisation.Name != "Small" {
		t.Error("it was published too early")
	}
	// The service was down when the moment passed; two begin at once.
	late := []*Service{}
	for range 2 {
		b, clock := start(t, dsn)
		clock.at = c.at.AddDate(0, 0, 3)
		late = append(late, b)
	}
	done := make(chan error, 2)
	for _, b := range late {
		go func() { done <- b.publishDue(t.Context()) }()
	}
	check(t, <-done)
	check(t, <-done)
	for _, b := range late {
		check(t, b.Refresh(t.Context()))
		if b.State().Policy().Organisation.Name != "Later" || b.State().Head.Revision != x.Live.Head.Revision+1 {
			t.Errorf("%s, revision %d", b.State().Policy().Organisation.Name, b.State().Head.Revision)
		}
	}
	// One whose ground was taken away is open again and told why.
	b := late[0]
	id = makeDraft(t, b, "Lost")
	check(t, set(t, b, id, "spaces.pages", "", "on"))
	x, err = b.Draft(t.Context(), id)
	check(t, err)
	_, err = b.Publish(t.Context(), "anna", "later", id, x.Digest, b.Now()+86400e6)
	check(t, err)
	check(t, b.SetRule(t.Context(), "ben", "", RuleChange{Rule: "spaces.pages", Limit: "off"}))
	b.clock = func() time.Time { return c.at.AddDate(0, 0, 9) }
	check(t, b.publishDue(t.Context()))
	if x, err = b.Draft(t.Context(), id); err != nil || x.State != DraftOpen || !strings.Contains(x.Note, "no longer what had been weighed") {
		t.Errorf("%+v %v", x.Draft, err)
	}
}

// TestBack publishes and goes back: the world is the same, byte for byte, values that
// were held back meanwhile included.
func TestBack(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	first := s.State().Head.Revision
	before := dump(t, s, store.Head{})
	id := makeDraft(t, s, "Shut")
	for _, c := range []RuleChange{{Rule: "files.bearer_links", Limit: "off"}, {Rule: "spaces.guests", Limit: "off", Default: "off"},
		{Rule: "meetings.outsiders", Limit: "none"}, {Rule: "spaces.pages", Limit: "off"}} {
		check(t, s.SetRule(InDraft(t.Context(), id), "anna", "", c))
	}
	check(t, bar(t.Context(), s, id, "rude.example"))
	x, err := s.Draft(t.Context(), id)
	check(t, err)
	held, total, err := s.Held(t.Context(), x, 100)
	check(t, err)
	var said []string
	for _, h := range held {
		said = append(said, fmt.Sprint(h.Where, " ", h.Rule, " ", h.Value, " ", h.Held))
	}
	sort.Strings(said)
	if want := "[file:kit files.bearer_links on true meeting:talk meetings.outsiders anyone true partner:ilvane spaces.pages on true space:dossier spaces.guests on true]"; total != 4 ||
		fmt.Sprint(said) != want {
		t.Errorf("%v", said)
	}
	publishDraft(t, s, id)
	if got := dump(t, s, store.Head{}); got == before || strings.Count(got, "held: yes") != 5 {
		t.Errorf("%s", got)
	}
	check(t, s.SetRule(t.Context(), "ben", "", RuleChange{Rule: "chat.federation", Limit: "closed"}))
	d, err := s.BackTo(t.Context(), "anna", "it was too much", first)
	check(t, err)
	x, err = s.Draft(t.Context(), d.ID)
	check(t, err)
	if len(d.Releases) != 3 || !strings.Contains(edits(x), "set chat.federation") && !strings.Contains(edits(x), "leave chat.federation") {
		t.Errorf("%+v %s", d.Releases, edits(x))
	}
	publishDraft(t, s, d.ID)
	if got := dump(t, s, store.Head{}); got != before {
		t.Errorf("going back gives another world:\n%s\nwas\n%s", got, before)
	}
	if _, err := s.BackTo(t.Context(), "anna", "", s.State().Head.Revision); err == nil {
		t.Error("back to what is in force")
	}
	// A partner that something names cannot go unnoticed.
	load(t,
		s,
		"wexillum: 1\npartners: [{id: quay, name: Quay, domains: [quay.example]}]\nspaces: [{id: pier, kind: team, owners: [uma], parties: [\"partner:quay\"]}]\n")
	d, err = s.BackTo(t.Context(), "anna", "", first)
	check(t, err)
	x, err = s.Draft(t.Context(), d.ID)
	check(t, err)
	if _, err := s.Publish(t.Context(), "anna", "x", d.ID, x.Digest, moment.Always); err == nil ||
		!strings.Contains(err.Error(), `the space "pier" names the partner "quay"`) {
		t.Errorf("%v", err)
	}
}

// TestKilledWhilePublishing kills the database or the service in the middle of
// publishing, again and again: a draft is published whole and once, or not at all.
func TestKilledWhilePublishing(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	check(t, server.Create(t.Context(), "w"))
	a, _ := start(t, server.DSN("w"))
	w := worldgen.Generate(3, worldgen.Size{Guests: 20, Spaces: 40, Items: 300, Partners: 8},
		moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)))
	check(t, a.Import(t.Context(), "test", "", world.Merge(&world.World{}, w), nil))
	want := a.State().Head.Revision
	published, cut := 0, 0
	const rounds = 18
	took := [2]time.Duration{} // of publishing, by who is killed; then when it is hit
	for round := -2; round < rounds; round++ {
		d, err := a.MakeDraft(t.Context(), "anna", fmt.Sprint("Round ", round), false)
		check(t, err)
		for i := range 20 {
			check(t, bar(t.Context(), a, d.ID, fmt.Sprintf("r%d-%d.example", round+2, i)))
		}
		limit := []string{"off", "on"}[(round+2)/2%2]
		check(t, a.SetRule(InDraft(t.Context(), d.ID), "anna", "", RuleChange{Rule: "spaces.guests", Limit: limit, Default: limit}))
		x, err := a.Draft(t.Context(), d.ID)
		check(t, err)
		before := dump(t, a, store.Head{})
		told := false
		inProcess := round%2 == 0
		hit := &took[(round+2)%2]
		began := time.Now()
		wait := func() { // it closes in on where one turns into the other
			if round >= 0 {
				time.Sleep(*hit)
			}
		}
		if inProcess {
			done := make(chan error, 1)
			go func() {
				_, err := a.Publish(t.Context(), "anna", "round", d.ID, x.Digest, moment.Always)
				done <- err
			}()
			wait()
			if round >= 0 {
				check(t, syscall.Kill(server.PID(), syscall.SIGKILL))
				<-server.Exited()
			}
			told = <-done == nil
			if round >= 0 {
				server, err = mariadb.Start(t.Context(), dir)
				check(t, err)
			}
		} else {
			cmd := exec.Command(os.Args[0], "-test.run", "^TestPublishHelper$")
			cmd.Env = append(os.Environ(), "WEXILLUM_TEST_PUBLISH="+server.DSN("w"), "WEXILLUM_TEST_DRAFT="+d.ID)
			out, err := cmd.StdoutPipe()
			check(t, err)
			check(t, cmd.Start())
			lines := bufio.NewScanner(out)
			for lines.Scan() && lines.Text() != "publishing" {
			}
			began = time.Now()
			wait()
			if round >= 0 {
				_ = cmd.Process.Kill()
			}
			for lines.Scan() {
				told = told || lines.Text() == "published"
			}
			_ = cmd.Wait() // it was killed
		}
		if round < 0 {
			*hit = time.Since(began) / 2
		}
		// What was sent and not answered may still come to its end in the database: wait behind it.
		check(t, a.change(t.Context(), "test", "", func(*State, *store.Tx) error { return nil }))
		if inProcess && round >= 0 {
			a, _ = start(t, server.DSN("w"))
		} else {
			check(t, a.Refresh(t.Context()))
		}
		y, err := a.Draft(t.Context(), d.ID)
		check(t, err)
		bars := 0
		for i := range a.State().Policy().Barred {
			if strings.HasPrefix(a.State().Policy().Barred[i].Key(), fmt.Sprintf("r%d-", round+2)) {
				bars++
			}
		}
		switch y.State {
		case DraftPublished:
			published++
			want++
			if round >= 0 {
				*hit = *hit * 2 / 3
			}
			if bars != 20 || y.Published != want || a.State().Head.Revision != want {
				t.Fatalf("round %d: published as %d of %d with %d bars", round, y.Published, want, bars)
			}
		case DraftOpen:
			cut++
			*hit = *hit*3/2 + time.Millisecond
			if told {
				t.Fatalf("round %d: it was told that it is published, and it is not", round)
			}
			if bars != 0 || a.State().Head.Revision != want || dump(t, a, store.Head{}) != before {
				t.Fatalf("round %d: half of it is there: %d bars", round, bars)
			}
		default:
			t.Fatalf("round %d: %s", round, y.State)
		}
		if _, broken, err := a.VerifyJournal(t.Context()); err != nil || broken != nil {
			t.Fatalf("%v %v", broken, err)
		}
	}
	t.Logf("%d published, %d cut off", published, cut)
	if published < 3 || cut < 3 {
		t.Errorf("%d published, %d cut off: it was not hit in the middle", published, cut)
	}
	check(t, server.Stop())
}

// TestValuesInAnyOrder sets values of a partner one after the other: what a revision
// holds is the same, in whatever order they were set.
func TestValuesInAnyOrder(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, small)
	first := s.State().Head.Revision
	set := func(rule, value string) {
		t.Helper()
		check(t, s.SetValue(t.Context(), "anna", "", ValueChange{Where: Where{Partner: "ilvane"}, Rule: rule, Value: value}))
	}
	set("spaces.tasks", "on")
	set("chat.guests", "on")
	set("chat.guests", "")
	set("guests.term_days", "90")
	n := s.State().Head.Revision
	edits, err := s.RevisionDiff(t.Context(), first, n)
	check(t, err)
	if got := draft.Titles(edits); got != "change the partner ilvane" || len(edits[0].Changes()) != 2 {
		t.Errorf("%s: %+v", got, edits[0].Changes())
	}
	if x, err := s.MakeDraft(t.Context(), "anna", "Same", false); err != nil {
		t.Fatal(err)
	} else if err := s.editDraft(t.Context(), x.ID, "anna", "",
		func(now *State) (*world.World, error) { return world.Merge(now.Policy(), &world.World{}), nil }); err != nil {
		t.Fatal(err)
	} else if y, err := s.Draft(t.Context(), x.ID); err != nil || len(y.Clean) != 0 {
		t.Errorf("%v: %d edits", err, len(y.Clean))
	}
	set("spaces.tasks", "off")
	set("spaces.tasks", "on")
	if d, err := s.BackTo(t.Context(), "anna", "", n); err == nil {
		t.Errorf("going back to what is the same: %+v", d.Edits)
	}
}
