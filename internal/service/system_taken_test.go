package service

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/suite"
)

// TestTakeOverWhole: an installation that begins here, and a harbour that holds 3,000 visitors already. The
// first reading ends nothing and changes nothing there; its settings become a draft, its berths, visitors and
// passes are taken over kind by kind, and nothing is due before somebody releases the dates.
func TestTakeOverWhole(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	var people []string
	for i := range 12 {
		people = append(people, fmt.Sprintf("{id: crew%02d, name: Crew %d, address: crew%02d@harbour.example}", i+1, i+1, i+1))
	}
	load(t,
		s, "wexillum: 1\norganisation: {name: Harbour, domains: [harbour.example], time_zone: Europe/Lisbon}\npeople: ["+strings.Join(people,
			", ")+"]\n")
	p := suite.New(suite.Options{Key: "pass", Clock: c.now})["quay"]
	check(t, p.Settled(3000))
	check(t, p.Turn("berths.visitors", "may come aboard"))
	before := things(p, "visitors") + things(p, "passes") + things(p, "berths")
	served(t, s, p, "quay")
	view := func() *SystemView {
		t.Helper()
		v, err := s.SystemView(t.Context(), "quay")
		check(t, err)
		return v
	}
	if got, want := kinds(view()), "space: 30 there, 30 unknown, 0 confirmed, 0 open, 0 differ, 0 changed there\n"+
		"guest: 3000 there, 3000 unknown, 0 confirmed, 0 open, 0 differ, 0 changed there\n"+
		"grant: 3000 there, 3000 unknown, 0 confirmed, 0 open, 0 differ, 0 changed there\n"+
		"link: 0 there, 0 unknown, 0 confirmed, 0 open, 0 differ, 0 changed there\n"; got != want {
		t.Fatalf("first read:\n%s", got)
	}
	draft, left, err := s.TakeOver(t.Context(), placeAdmin, "quay", "")
	check(t, err)
	if draft == "" || len(left) == 0 {
		t.Errorf("its settings: %q %q", draft, left)
	}
	take := func(d RecordDecision) *RecordsDecided {
		t.Helper()
		d.Do, d.All, d.Why = "take_over", true, "the harbour is years old"
		d.Previews = true
		would, err := s.DecideRecords(t.Context(), placeAdmin, "quay", d)
		check(t, err)
		d.Previews = false
		out, err := s.DecideRecords(t.Context(), placeAdmin, "quay", d)
		check(t, err)
		if would.Done != out.Done || would.Refused != out.Refused {
			t.Errorf("%s: said %d and %d, did %d and %d", d.Kind, would.Done, would.Refused, out.Done, out.Refused)
		}
		return out
	}
	if out, err := s.DecideRecords(t.Context(), placeAdmin, "quay",
		RecordDecision{Do: "take_over", Kind: "grant", All: true, Previews: true}); err != nil || out.Refused != 3000 {
		t.Errorf("passes to berths that are none of ours: %+v %v", out, err)
	}
	if out := take(RecordDecision{Kind: "space"}); out.Done != 30 {
		t.Errorf("berths: %+v", out)
	}
	began := time.Now()
	out := take(RecordDecision{Kind: "guest", Sponsor: "crew03", Purpose: "from the years before"})
	if out.Done != 3000 || !out.Waits {
		t.Errorf("visitors: %d done, %d refused, waits %v", out.Done, out.Refused, out.Waits)
	}
	// The berths have ids of ours now, so that the passes name what is ours; a reading finds that.
	c.forward(6 * time.Minute)
	check(t, s.WorkSystems(t.Context()))
	if out := take(RecordDecision{Kind: "grant"}); out.Done != 3000 {
		t.Errorf("passes: %d done, %d refused, %+v", out.Done, out.Refused, out.Lines[0])
	}
	t.Logf("3,000 visitors and 3,000 passes were taken over in %v", time.Since(began))
	c.forward(6 * time.Minute)
	check(t, s.WorkSystems(t.Context()))
	v := view()
	for _, k := range v.Kinds[:3] {
		if k.Unknown+k.Differ+k.Drift+k.Open != 0 || k.Confirmed != k.Found {
			t.Errorf("%s: %+v", k.Kind, k)
		}
	}
	if v.Beyond.any() == (v.Differ == 0) {
		t.Logf("beyond %+v, %d settings differ", v.Beyond, v.Differ)
	}
	if got := things(p, "visitors") + things(p, "passes") + things(p, "berths"); got != before {
		t.Error("something was changed there")
	}
	g, grants, err := s.Guest(t.Context(), "visitor0004@town04.example")
	check(t, err)
	if g.State != world.StateSuspended || g.Sponsor != "crew03" || !g.TakenOver || len(grants) != 1 ||
		grants[0].Resource.String() != "space:berth-04" || grants[0].Role.String() != "contribute" {
		t.Errorf("one of them: %+v %+v", g, grants)
	}
	_, err = s.CarryOut(t.Context())
	check(t, err)
	c.forward(800 * 24 * time.Hour)
	_, err = s.CarryOut(t.Context())
	check(t, err)
	if n := s.State().Counts().Guests; n != 3000 {
		t.Errorf("after two years without a release there are %d guests", n)
	}
	// Carried, nothing of it is written again.
	carry := ModeCarry
	v = view()
	_, err = s.ChangeSystem(t.Context(), placeAdmin, "it shall follow", "quay", SystemPatch{Mode: &carry, Digest: v.Digest})
	check(t, err)
	work(t, s, c)
	if got := things(p, "visitors") + things(p, "passes") + things(p, "berths"); got != before {
		t.Error("carried, and something was written there")
	}
}
