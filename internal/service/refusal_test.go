package service

import (
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

// TestRefusedOften counts what callers are told no about, by day, partner and action, and notices what is refused day after day; what is
// old is taken away.
func TestRefusedOften(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	call, ok := catalogue.ActionByName("chat.message")
	if !ok {
		t.Fatal("there is no such action")
	}
	refuse := func(who string, times int) {
		t.Helper()
		a, err := addr.Parse(who)
		check(t, err)
		for range times {
			s.Refused(s.State(), &engine.Question{Subject: engine.Who{Address: a}, Action: call.ID,
				Resource: world.Resource{Kind: catalogue.Person, ID: "uma"}, At: s.Now()})
		}
		check(t, s.KeepRefusals(t.Context()))
	}
	causes := func() (out []string) {
		t.Helper()
		list, err := s.refusalFindings(t.Context(), s.Now())
		check(t, err)
		for _, f := range list {
			out = append(out, f.ID+": "+f.Cause)
		}
		return
	}
	refuse("bo@ilvane.example", 60)
	refuse("stranger@unlisted-firm.example", 500) // on one day alone
	c.forward(24 * time.Hour)
	refuse("mara@ilvane.example", 39)
	c.forward(24 * time.Hour)
	if got := causes(); len(got) != 0 {
		t.Errorf("on two days: %v", got)
	}
	refuse("bo@ilvane.example", 1)
	const want = "refused_often partner:ilvane chat.message: Within 7 days callers asked 100 times, on 3 days, whether people of Ilvane may "
	if got := causes(); len(got) != 1 || got[0][:len(want)] != want {
		t.Errorf("on three days: %v", got)
	}
	all, err := s.Findings(t.Context())
	check(t, err)
	found := false
	for f := range all.All() {
		found = found || f.Kind == "refused_often"
	}
	if !found {
		t.Error("it is no finding")
	}
	c.forward(5 * 24 * time.Hour)
	if got := causes(); len(got) != 0 {
		t.Errorf("a week later: %v", got)
	}
	c.forward((refusedKept + 2) * 24 * time.Hour)
	check(t, s.KeepRefusals(t.Context()))
	n := 0
	check(t, s.store.DB().QueryRow("SELECT COUNT(*) FROM refusal").Scan(&n))
	if n != 0 {
		t.Errorf("%d counts are kept for ever", n)
	}
}
