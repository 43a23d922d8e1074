package service

import (
	"context"
	"testing"
	"time"

	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/dbtest"
)

// TestExpectationsAhead judges what begins on a day to come, in a small world and as in a large one, where that is done beside: it is
// broken ahead, then now, by a date and not by a change, and holds again when it is over. What its owner hears of is kept each time.
func TestExpectationsAhead(t *testing.T) {
	for name, from := range map[string]int{"small": largeFrom, "large": 0} {
		t.Run(name, func(t *testing.T) {
			defer func(was int) { largeFrom = was }(largeFrom)
			largeFrom = from
			s, c := start(t, dbtest.DSN(t))
			load(t, s, small)
			load(t, s, `wexillum: 1
guests: [{address: nils@ilvane.example, sponsor: uma}]
grants: [{party: nils@ilvane.example, resource: space:dossier, role: view, from: 2026-11-28, until: 2026-12-01}]
expectations:
  - {id: kit, party: nils@ilvane.example, action: spaces.enter, resource: space:dossier, expect: never}
  - {id: others, party: maren@ilvane.example, action: spaces.enter, resource: space:dossier, expect: always}
`)
			judge := func() map[string]Expected {
				t.Helper()
				ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
				defer stop()
				check(t, s.judgeExpected(ctx))
				check(t, s.judgeAhead(ctx))
				check(t, s.KeepJudged(ctx))
				list, err := s.Expectations(ctx)
				check(t, err)
				out := map[string]Expected{}
				for _, x := range list {
					out[x.Expectation.ID] = x
				}
				if out["others"].State != expect.Held {
					t.Errorf("%+v", out["others"])
				}
				return out
			}
			stands := func(state expect.State, ahead bool, by string) {
				t.Helper()
				x := judge()["kit"]
				if x.State != state || (x.Judged.At > x.At) != ahead || x.Kept == nil || x.Kept.State != state.String() ||
					(x.Kept.From != "") != ahead {
					t.Fatalf("%s at %s, judged at %s, kept %+v", x.State, x.Judged.At, x.At, x.Kept)
				}
				if by != "" && (x.Kept.By == nil || x.Kept.By.Text != by) {
					t.Errorf("broken by %+v, want %s", x.Kept.By, by)
				}
			}
			stands(expect.Broken, true, "how things already stood when it was made or changed")
			if err := s.AddExpectation(t.Context(), "anna", "x",
				[]byte(`{"id":"more","party":"everybody","action":"mail.*","resource":"*","expect":"never"}`), "more"); err != nil {
				t.Fatal(err)
			}
			stands(expect.Broken, true, "")
			c.forward(6 * 24 * time.Hour)
			stands(expect.Broken, false, "")
			c.forward(5 * 24 * time.Hour)
			stands(expect.Held, false, "")
			past, err := s.PastOf(t.Context(), "kit", 10)
			check(t, err)
			if len(past) != 3 {
				t.Errorf("%d judgements are kept", len(past))
			}
			c.forward(-30 * 24 * time.Hour) // a clock that was wrong leads to nothing but another judgement
			judge()
		})
	}
}
