package service

import (
	"cmp"
	"slices"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/suite"
)

// TestRecordsBusy: a system that takes few calls a minute is written at that rate, and left alone between.
func TestRecordsBusy(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, keptWorld)
	connectTo(t, s, c, suite.Options{Key: "pass", Clock: c.now, Calls: 12}, "quay")
	obey(t, s, "quay")
	for range 30 {
		check(t, s.WorkSystems(t.Context()))
		c.forward(90 * time.Second)
	}
	c.forward(2 * time.Hour)
	check(t, s.WorkSystems(t.Context()))
	v, err := s.SystemView(t.Context(), "quay")
	check(t, err)
	for _, k := range v.Kinds {
		if k.Confirmed != 1 || k.Found != 1 {
			t.Errorf("%s: %+v %s", k.Kind, k, v.Work.Problem)
		}
	}
	if v.Differ != 0 {
		t.Errorf("%d settings differ", v.Differ)
	}
}

// TestRecordsForgotten: what a system kept of somebody who was removed and forgotten is forgotten here, too: in
// readings, in how entries stood, and in the journal.
func TestRecordsForgotten(t *testing.T) {
	s, c, programs, view := onSuite(t, keptWorld)
	carried(t, s, c, view)
	_, err := s.ChangeGuests(t.Context(), placeAdmin, GuestChange{Do: Remove, Addresses: []string{"a@ilvane.example"}, Reason: "gone"}, false)
	check(t, err)
	work(t, s, c)
	c.forward(time.Hour)
	work(t, s, c)
	if got := things(programs["quay"], "visitors") + things(programs["quay"], "passes"); got != "" {
		t.Fatalf("removed here, and there: %s\n%s %+v", got, kinds(view("quay")), recordLines(t, s, "quay", "grant", ""))
	}
	named := func(what string) (n int) {
		t.Helper()
		check(t, s.store.DB().QueryRowContext(t.Context(), what).Scan(&n))
		return
	}
	queries := map[string]string{
		"readings": "SELECT COUNT(*) FROM system_found WHERE INSTR(doc, '\"a@ilvane.example') > 0 OR INSTR(ours, 'a@ilvane.example') = 1",
		"records":  "SELECT COUNT(*) FROM system_record WHERE INSTR(ours, 'a@ilvane.example') = 1 OR INSTR(doc, '\"a@ilvane.example') > 0",
		"journal":  "SELECT COUNT(*) FROM journal WHERE CONCAT(' ', id, ' ', COALESCE(was, ''), COALESCE(now, ''), ' ', why) REGEXP '[ \"]a@ilvane.example'",
	}
	if named(queries["readings"]) == 0 || named(queries["journal"]) == 0 {
		t.Fatal("there is nothing to be forgotten")
	}
	c.forward(400 * 24 * time.Hour)
	n, err := s.Forget(t.Context())
	check(t, err)
	if n != 1 {
		t.Fatalf("%d were forgotten", n)
	}
	for what, q := range queries {
		if n := named(q); n > 0 {
			t.Errorf("%d in the %s", n, what)
		}
	}
	if entries, broken, err := s.store.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
}

// TestRecordsNeedingSomebody: the list of all that need somebody holds what was changed there and what stands for
// nothing here, page by page, each once; what is let be is left out.
func TestRecordsNeedingSomebody(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, somePeople(6))
	p := suite.New(suite.Options{Key: "pass", Clock: c.now})["quay"]
	served(t, s, p, "quay")
	obey(t, s, "quay")
	work(t, s, c)
	c.forward(3 * time.Hour)
	work(t, s, c)
	if got := recordLines(t, s, "quay", "guest", ""); len(got) > 0 {
		t.Fatalf("all is as meant: %+v", got)
	}
	for _, v := range p.Things("visitors") {
		if v.Fields["mail"] < "g02" {
			check(t, p.Drop("visitors", v.ID))
		}
	}
	for _, name := range []string{"x", "y", "z"} {
		_, err := p.Put("visitors", "", map[string]string{"mail": name + "@marrowby.example", "standing": "aboard"}, "the desk")
		check(t, err)
	}
	c.forward(3 * time.Hour)
	work(t, s, c)
	pages := func(limit int) (out []string) {
		after := ""
		for {
			list, next, err := s.RecordLines(t.Context(), "quay", RecordQuery{Kind: "guest", After: after, Limit: limit})
			check(t, err)
			for i := range list {
				out = append(out, list[i].State+" "+cmp.Or(list[i].Ours, list[i].Found["address"]))
			}
			if after = next; next == "" {
				return out
			}
		}
	}
	want := []string{"drift g00@ilvane.example", "drift g01@ilvane.example", "unknown x@marrowby.example", "unknown y@marrowby.example",
		"unknown z@marrowby.example"}
	for _, limit := range []int{1, 2, 3, 4, 5, 100} {
		if got := pages(limit); !slices.Equal(got, want) {
			t.Errorf("%d a page: %q", limit, got)
		}
	}
	all := recordLines(t, s, "quay", "guest", RecordUnknown)
	_, err := s.DecideRecords(t.Context(), placeAdmin, "quay",
		RecordDecision{Do: "accept", Kind: "guest", Keys: []string{all[0].Native}, Until: "+30d", Why: "for the fair"})
	check(t, err)
	want = slices.Delete(want, 2, 3)
	if got := pages(2); !slices.Equal(got, want) {
		t.Errorf("one is let be: %q", got)
	}
}
