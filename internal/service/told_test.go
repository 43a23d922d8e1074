package service

import (
	"context"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/event"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// TestToldEvents takes tokens of a partner: right ones in and out of order, twice, many at once; and refuses what is wrong in each way that
// there is, changing nothing.
func TestToldEvents(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	ctx := t.Context()
	print, private, err := statement.NewKey()
	check(t, err)
	_, other, err := statement.NewKey()
	check(t, err)
	published := [][]byte{private, other}
	asked := 0
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked++
		b, err := statement.PublicKeys(published...)
		if err != nil || r.URL.Path != statement.KeysPath {
			t.Errorf("%s: %v", r.URL, err)
		}
		w.Header().Set("Content-Type", statement.KeysType)
		_, _ = w.Write(b)
	}))
	defer srv.Close()
	load(t, s, guestWorld)
	load(t, s, fmt.Sprintf(`wexillum: 1
rules: {guests.grace_days: {default: 10}, guests.after_last_grant: {default: keep}}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], statement: "%s/.well-known/wexillum-statement", opened: {directory.in: yes, spaces.in: yes}}
statements: [{partner: ilvane, keys: [%s]}]
guests:
  - {address: ada@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: bo@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: x@unlisted.example, since: 2026-11-01, accepted: 2026-11-01}
`, srv.URL, print))
	f := &statement.Fetcher{AllowHTTP: true, AllowPrivate: true}
	const us = "https://here.example/events"
	const risc = "https://schemas.openid.net/secevent/risc/event-type/"
	type claims = map[string]any
	n := 0
	token := func(kind, address string, at time.Time, with ...any) claims {
		n++
		c := claims{"iss": srv.URL, "aud": us, "iat": clock.now().Unix(), "toe": at.Unix(), "jti": fmt.Sprint(n),
			"events": claims{kind: claims{}}}
		if address != "" {
			c["sub_id"] = claims{"format": "email", "email": address}
		}
		for i := 0; i+1 < len(with); i += 2 {
			if c[with[i].(string)] = with[i+1]; with[i+1] == nil {
				delete(c, with[i].(string))
			}
		}
		return c
	}
	push := func(c claims, key []byte) string {
		t.Helper()
		jws, err := statement.SignAs(event.Type, c, key)
		check(t, err)
		err = s.TakeEvent(ctx, f, []byte(jws), "https://here.example", us)
		if no, ok := IsRefusal(err); ok {
			return no.Err + ": " + no.Description
		}
		return outcome(err)
	}
	now := clock.now()
	last := func() string {
		t.Helper()
		list, err := s.ToldEvents(ctx, "ilvane", 0, 1)
		check(t, err)
		return strings.TrimSpace(list[0].Kind + " " + list[0].Result + " " + list[0].Detail)
	}
	// What is wrong is refused as RFC 8935 §2.4 says it, and changes nothing.
	for want, got := range map[string]string{
		"invalid_issuer: \"https://else.example\" is no": push(token(risc+"account-disabled", "ada@ilvane.example", now, "iss",
			"https://else.example"), private),
		"invalid_issuer: iss is missing": push(token(risc+"account-disabled", "ada@ilvane.example", now, "iss", ""), private),
		// published, and not pinned
		"invalid_key: the key": push(token(risc+"account-disabled", "ada@ilvane.example", now), other),
		"invalid_audience: it is meant for https://x": push(token(risc+"account-disabled", "ada@ilvane.example", now, "aud",
			"https://x.example"), private),
		"invalid_request: it happens in the future": push(token(risc+"account-disabled", "ada@ilvane.example", now.Add(2*time.Minute)),
			private),
		"invalid_request: jti is missing": push(token(risc+"account-disabled", "ada@ilvane.example", now, "jti", nil), private),
		"invalid_request: iat is missing": push(token(risc+"account-disabled", "ada@ilvane.example", now, "iat", nil), private),
		"invalid_request: events holds one": push(token(risc+"account-disabled", "ada@ilvane.example", now, "events", claims{}),
			private),
		"invalid_request: the subject is said":            push(token(risc+"account-disabled", "", now), private),
		"invalid_request: the subject \"ada\" is no mail": push(token(risc+"account-disabled", "ada", now), private),
		"access_denied: x@unlisted.example is not of":     push(token(risc+"account-disabled", "x@unlisted.example", now), private),
	} {
		if !strings.HasPrefix(got, want) {
			t.Errorf("want %q: %s", want, got)
		}
	}
	forged, err := statement.SignAs(event.Type, token(risc+"account-disabled", "ada@ilvane.example", now), private)
	check(t, err)
	for want, jws := range map[string]string{
		"invalid_key: its signature does not hold":     forged[:strings.LastIndex(forged, ".")+1] + strings.Repeat("A", 86),
		"invalid_request: the body is no signed token": "x",
		"invalid_request: the claims are no base64url": "a.%.c",
		"invalid_request: the claims cannot be read":   "a.e30x.c",
		"invalid_key: the type of the signature is \"J": strings.Replace(forged, strings.Split(forged, ".")[0],
			"eyJhbGciOiJFZERTQSIsInR5cCI6IkpXVCJ9", 1),
	} {
		err := s.TakeEvent(ctx, f, []byte(jws), us)
		no, ok := IsRefusal(err)
		if !ok || !strings.HasPrefix(no.Err+": "+no.Description, want) {
			t.Errorf("want %q: %v", want, err)
		}
	}
	if record(t, s, "ada@ilvane.example") != "Ada active 0 uma" {
		t.Fatalf("a refused event changed her: %s", record(t, s, "ada@ilvane.example"))
	}
	if list, err := s.ToldEvents(ctx, "ilvane", 0, 10); err != nil || len(list) != 0 {
		t.Fatalf("refused, and kept: %+v %v", list, err)
	}
	// Disabled: the record is suspended now, late as it is told, and removed after its grace; twice is once.
	off := token(risc+"account-disabled", "ada@ilvane.example", now.Add(-48*time.Hour))
	if got := push(off, private) + push(off, private); got != "donedone" || last() != "disabled done "+risc+"account-disabled" ||
		record(t, s, "ada@ilvane.example") != "Ada suspended home_closed 0 uma" {
		t.Errorf("disabled: %s, %s, %s", got, last(), record(t, s, "ada@ilvane.example"))
	}
	if list, err := s.ToldEvents(ctx, "ilvane", 0, 10); err != nil || len(list) != 1 {
		t.Errorf("twice is once: %+v %v", list, err)
	}
	// Out of order: what is older does nothing. Enabled lifts it, and wakes nobody.
	if got := push(token(risc+"account-enabled", "ada@ilvane.example", now.Add(-72*time.Hour)), private); got != "done" ||
		last() != "enabled late something newer was told before" {
		t.Errorf("out of order: %s, %s", got, last())
	}
	if got := push(token(risc+"account-enabled", "ada@ilvane.example", now.Add(-time.Hour)), private); got != "done" ||
		!strings.HasPrefix(last(), "enabled done the record stays suspended") ||
		!strings.HasPrefix(record(t, s, "ada@ilvane.example"), "Ada suspended") {
		t.Errorf("enabled: %s, %s, %s", got, last(), record(t, s, "ada@ilvane.example"))
	}
	if _, err := s.ChangeGuests(ctx, placeAdmin, GuestChange{Do: BringBack, Addresses: []string{"ada@ilvane.example"},
		Reason: "they are there again"}, false); err != nil || record(t, s, "ada@ilvane.example") != "Ada active 0 uma" {
		t.Errorf("brought back: %v, %s", err, record(t, s, "ada@ilvane.example"))
	}
	// A session that is revoked ends sessions here and moves no date.
	since := s.State().Head.Seq
	if got := push(token("https://schemas.openid.net/secevent/caep/event-type/session-revoked", "bo@ilvane.example", now),
		private); got != "done" || !strings.HasPrefix(last(), "session_revoked done") || record(t, s, "bo@ilvane.example") != "Bo active 0 uma" {
		t.Errorf("revoked: %s, %s", got, last())
	}
	if err := s.stillIn(ctx, since, GuestName("bo@ilvane.example")); err == nil {
		t.Error("a session goes on that was revoked")
	}
	// Purged is final.
	if got := push(token(risc+"account-purged", "bo@ilvane.example", now.Add(-time.Minute)), private) +
		push(token(risc+"account-enabled", "bo@ilvane.example", now), private); got != "donedone" ||
		last() != "enabled late the account was purged before, which is final" ||
		record(t, s, "bo@ilvane.example") != "Bo suspended home_closed 0 uma" {
		t.Errorf("purged: %s, %s, %s", got, last(), record(t, s, "bo@ilvane.example"))
	}
	// About nobody here, of another kind, to see whether it works; as a list of audiences.
	for want, c := range map[string]claims{
		"disabled nobody " + risc + "account-disabled": token(risc+"account-disabled",
			"new@ilvane.example", now),
		"other nothing https://schemas.example/else": token("https://schemas.example/else", "", now),
		"verification nothing https://schemas.openid.net/secevent/ssf/event-type/verification": token("https://schemas.openid.net/secevent/ssf/event-type/verification",
			"", now, "aud", []string{"https://y.example", "https://here.example/"}),
	} {
		if got := push(c, private); got != "done" || last() != want {
			t.Errorf("want %s: %s, %s", want, got, last())
		}
	}
	// Many at once: each counts once, and the keys are fetched once while they do.
	before := asked
	results := make(chan string, 20)
	jws, err := statement.SignAs(event.Type, token(risc+"account-disabled", "ada@ilvane.example", now), private)
	check(t, err)
	for range cap(results) {
		go func() { results <- outcome(s.TakeEvent(context.Background(), f, []byte(jws), us)) }()
	}
	for range cap(results) {
		if got := <-results; got != "done" {
			t.Errorf("one of twenty: %s", got)
		}
	}
	if list, err := s.ToldEvents(ctx, "ilvane", 0, 100); err != nil || len(list) != 10 || asked != before {
		t.Errorf("twenty of one: %d events, %d times asked for keys, %v", len(list), asked-before, err)
	}
	// They roll their key: the next one has to be pinned, too.
	next, rolled, err := statement.NewKey()
	check(t, err)
	published = [][]byte{rolled}
	before = asked
	for range 3 {
		push(token(risc+"account-enabled", "ada@ilvane.example", clock.now()), rolled)
	}
	if asked > before+1 {
		t.Errorf("what nobody signed had us ask %d times", asked-before)
	}
	clock.forward(2 * time.Minute)
	if got := push(token(risc+"account-enabled", "ada@ilvane.example", clock.now()), rolled); !strings.HasPrefix(got, "invalid_key: the key") {
		t.Errorf("a key that is not pinned: %s", got)
	}
	load(t, s, fmt.Sprintf("wexillum: 1\nstatements: [{partner: ilvane, keys: [%s]}]\n", next))
	if got := push(token(risc+"account-enabled", "ada@ilvane.example", clock.now()), rolled); got != "done" {
		t.Errorf("the rolled key: %s", got)
	}
	load(t,
		s,
		fmt.Sprintf("wexillum: 1\npartners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], standing: suspended, statement: \"%s/s\"}]\n",
			srv.URL))
	if got := push(token(risc+"account-disabled", "ada@ilvane.example", clock.now()),
		rolled); got != "access_denied: Ilvane is suspended here" {
		t.Errorf("a suspended partner: %s", got)
	}
	if _, broken, err := s.store.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %v %v", broken, err)
	}
	check(t, s.change(ctx, "h", "they ask for it", func(_ *State, tx *store.Tx) error {
		_,
			err := tx.Forget("bo@ilvane.example")
		return err
	}))
	list, err := s.ToldEvents(ctx, "ilvane", 0, 100)
	check(t, err)
	if got := fmt.Sprint(list); strings.Contains(got, "bo@ilvane") {
		t.Errorf("forgotten, and named: %s", got)
	}
}
