package e2e

import (
	"context"
	"fmt"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
	statements "wexillum.example/internal/statement"
)

// TestTellPartner has one installation tell another, whose guests its people are, what happens to their accounts: who leaves at once and on
// a day, who comes back, who is removed, and of whom nothing is said since they are not to be kept there.
func TestTellPartner(t *testing.T) {
	t.Parallel()
	clock := &wall{}
	load := func(text string) func(context.Context, *service.Service) error {
		return func(ctx context.Context, svc *service.Service) error {
			_, err := svc.Load(ctx, "test", "", "test", []byte(text), false)
			return err
		}
	}
	person := func(id, more string) string {
		return fmt.Sprintf("  - {id: %s, name: %s, address: %s@aa.example%s}\n", id, id, id, more)
	}
	from := startServiceAt(t, dbtest.DSN(t), clock.now, load(`wexillum: 1
organisation: {name: House aa, domains: [aa.example], time_zone: Europe/Lisbon}
rules: {directory.feed_out: {limit: on, default: off}}
partners: [{id: bb, name: House bb, domains: [bb.example], opened: {}, rules: {directory.feed_out: on}}]
exceptions: [{id: quiet, people: [shy], rules: {directory.feed_out: off}, until: 2099-01-01, reason: they asked}]
people:
`+person("uma", "")+person("ben", "")+person("cyd", "")+person("dot", "")+person("shy", "")))
	to := startServiceAt(t, dbtest.DSN(t), clock.now, load(fmt.Sprintf(`wexillum: 1
organisation: {name: House bb, domains: [bb.example], time_zone: Europe/Lisbon}
settings: {brake: none}
rules: {directory.guests: {default: on}, guests.sponsor: {default: optional}, guests.review_days: {default: none}, guests.idle_days: {default: none}}
partners: [{id: aa, name: House aa, domains: [aa.example], opened: {directory.in: yes}, statement: "%s%s"}]
guests:
  - {address: uma@aa.example, name: Uma, accepted: 2026-11-01}
  - {address: ben@aa.example, name: Ben, accepted: 2026-11-01}
  - {address: cyd@aa.example, name: Cyd, accepted: 2026-11-01}
  - {address: dot@aa.example, name: Dot, accepted: 2026-11-01}
  - {address: shy@aa.example, name: Shy, accepted: 2026-11-01}
`, from.url, statements.StatementPath)))
	check(t, from.svc.RollKey(t.Context(), service.By{Who: "test", Why: "to sign"}, service.AnnounceKey))
	check(t, to.svc.FetchStatement(t.Context(), service.By{Who: "test", Why: "their keys"}, fetcher, "aa"))
	who := service.Who{Name: "harbour", Role: service.Administrator}
	check(t, from.svc.AddWebhook(t.Context(), who, "they keep our people",
		service.Webhook{ID: "bb", Name: "House bb", Address: to.url + "/events", Partner: "bb"}))
	told := func() string {
		t.Helper()
		ctx, stop := context.WithCancel(t.Context())
		done := make(chan struct{})
		go func() { defer close(done); from.svc.RunWebhooks(ctx, 10*time.Millisecond) }()
		defer func() { stop(); <-done }()
		for until := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
			list, err := from.svc.WebhookViews(t.Context())
			check(t, err)
			if v := list[0]; v.Waits == 0 && v.Looked >= from.svc.Now()-5_000_000 {
				if v.Problem != "" {
					t.Fatal(v.Problem)
				}
				break
			}
			if time.Now().After(until) {
				t.Fatalf("%+v", list)
			}
		}
		out := ""
		page, err := to.svc.ToldEvents(t.Context(), "aa", 0, 100)
		check(t, err)
		for i := len(page) - 1; i >= 0; i-- {
			out += page[i].Kind + " " + page[i].Address + " " + page[i].Result + "; "
		}
		return out
	}
	changes := func(text string) {
		t.Helper()
		check(t, load("wexillum: 1\npeople:\n"+text)(t.Context(), from.svc))
	}
	changes(person("uma", ", left: "+clock.now().Add(-time.Minute).UTC().Format(time.RFC3339)) + person("shy", ", left: 2026-11-20") +
		person("ben", ", left: "+clock.now().Add(48*time.Hour).UTC().Format(time.RFC3339)))
	if got := told(); got != "disabled uma@aa.example done; " {
		t.Errorf("who left: %s", got)
	}
	clock.forward(72 * time.Hour)
	if got := told(); got != "disabled uma@aa.example done; disabled ben@aa.example done; " {
		t.Errorf("who left on a day: %s", got)
	}
	clock.forward(time.Minute)
	changes(person("uma", "") + "  - {id: cyd, name: cyd, address: cyd.new@aa.example}\n")
	if got := told(); got != "disabled uma@aa.example done; disabled ben@aa.example done; enabled uma@aa.example done; identifier_changed cyd@aa.example done; " {
		t.Errorf("who came back, and who has another address: %s", got)
	}
	for a, closed := range map[string]bool{"uma": false, "ben": true, "cyd": true, "dot": false, "shy": false} {
		g, _, err := to.svc.Guest(t.Context(), a+"@aa.example")
		check(t, err)
		if (g.HomeClosed != 0) != closed {
			t.Errorf("%s: closed %v, want %t", a, g.HomeClosed, closed)
		}
	}
}
