package event

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

var happened = time.Date(2026, 12, 1, 9, 30, 0, 0, time.UTC)

// TestReadTold: what a token of a partner claims is read as RFC 8417, RFC 9493 and the profiles of shared signals write it, and what is
// missing is said.
func TestReadTold(t *testing.T) {
	const risc, caep, ssf = "https://schemas.openid.net/secevent/risc/event-type/", "https://schemas.openid.net/secevent/caep/event-type/",
		"https://schemas.openid.net/secevent/ssf/event-type/"
	for _, c := range []struct{ claims, want string }{
		{`{"iss": "https://tarn.example", "aud": "https://ours.example", "iat": 1764579600, "jti": "7", "sub_id": {"format": "email", "email": "Ann@Tarn.example"}, "events": {"` +
			risc + `account-disabled": {}}}`,
			"disabled ann@tarn.example by https://tarn.example for [https://ours.example], 7, issued 1764579600, happened 1764579600"},
		{`{"iss": "i", "aud": ["a", "b"], "iat": 100, "toe": 50, "jti": "8", "events": {"` + risc +
			`identifier-changed": {"subject": {"subject_type": "email", "email": "ann@tarn.example"}, "new-value": "anna@tarn.example", "event_timestamp": 60}}}`,
			"identifier_changed ann@tarn.example by i for [a b], 8, issued 100, happened 50; now anna@tarn.example"},
		{`{"iss": "i", "iat": 100, "jti": "9", "events": {"` + caep +
			`session-revoked": {"subject": {"format": "email", "email": "ann@tarn.example"}, "event_timestamp": 60}}}`,
			"session_revoked ann@tarn.example by i for [], 9, issued 100, happened 60"},
		{`{"iss": "i", "iat": 100, "jti": "1", "events": {"` + ssf + `verification": {"state": "x"}}}`, "verification  by i for [], 1, issued 100, happened 100"},
		{`{"iss": "i", "iat": 100, "jti": "1", "sub_id": {"format": "opaque", "id": "x"}, "events": {"https://tarn.example/something": {}}}`,
			"other  by i for [], 1, issued 100, happened 100"},
		{`nothing`, "invalid_request: the claims cannot be read: "},
		{`{"iat": 100, "jti": "1", "events": {}}`, "invalid_issuer: iss is missing"},
		{`{"iss": "i", "iat": 100, "events": {"x": {}}}`, "invalid_request: jti is missing, or longer than 1000 letters"},
		{`{"iss": "i", "iat": 100, "jti": "` + strings.Repeat("1", 1001) + `", "events": {"x": {}}}`,
			"invalid_request: jti is missing, or longer than 1000 letters"},
		{`{"iss": "i", "jti": "1", "events": {"x": {}}}`, "invalid_request: iat is missing"},
		{`{"iss": "i", "iat": 100, "jti": "1"}`, "invalid_request: events holds one event, not 0"},
		{`{"iss": "i", "iat": 100, "jti": "1", "events": {"x": {}, "y": {}}}`, "invalid_request: events holds one event, not 2"},
		{`{"iss": "i", "iat": 100, "jti": "1", "events": {"x": "y"}}`, "invalid_request: the event x cannot be read: "},
		{`{"iss": "i", "iat": 100, "jti": "1", "events": {"` + risc + `account-purged": {}}}`,
			"invalid_request: the subject is said by its mail address (RFC 9493 §3.2.2)"},
		{`{"iss": "i", "iat": 100, "jti": "1", "sub_id": {"format": "email", "email": "ann"}, "events": {"` + risc + `account-purged": {}}}`,
			`invalid_request: the subject "ann" is no mail address`},
		{`{"iss": "i", "iat": 100, "jti": "1", "sub_id": {"format": "email", "email": "*@tarn.example"}, "events": {"` + risc + `account-purged": {}}}`,
			`invalid_request: the subject "*@tarn.example" is no mail address`},
	} {
		x, err := ReadTold([]byte(c.claims))
		got := ""
		if refused := (*Refusal)(nil); errors.As(err, &refused) {
			got = refused.Err + ": " + refused.Error()
		} else {
			who := ""
			if !x.Address.IsZero() {
				who = x.Address.String()
			}
			got = fmt.Sprintf("%s %s by %s for %v, %s, issued %d, happened %d", x.Kind, who, x.Issuer, x.Audience, x.ID, x.Issued.Unix(), x.Happened.Unix())
			if x.New != "" {
				got += "; now " + x.New
			}
		}
		if got != c.want && !(strings.HasSuffix(c.want, ": ") && strings.HasPrefix(got, c.want)) {
			t.Errorf("%.200s\nis read as %s\nwanted is   %s", c.claims, got, c.want)
		}
	}
}

// TestOfOurs: what partners hear of our people: that they left, once and under one name, came back, have another address or are no more.
func TestOfOurs(t *testing.T) {
	read := func(left string) moment.Moment {
		m, _ := moment.Parse(left)
		return m
	}
	const here = `{"address": "uma@ours.example"}`
	left := func(at string) string { return `{"address": "uma@ours.example", "left": "` + at + `"}` }
	gone := "left uma " + fmt.Sprint(int64(moment.Of(happened.Add(-time.Hour))))
	for _, c := range []struct{ was, now, want string }{
		{here, left("2026-12-01T08:30:00Z"), "disabled uma@ours.example: " + gone},
		{left("2026-12-01T08:30:00Z"), left("2026-12-01T08:00:00Z"), ""},
		{here, left("2026-12-24T00:00:00Z"), ""}, // not yet
		{left("2026-12-24T00:00:00Z"), here, ""},
		{left("2026-12-01T08:30:00Z"), here, "enabled uma@ours.example: entry 12"},
		{here, `{"address": "uma.fell@ours.example"}`, "identifier_changed uma@ours.example: entry 12; now uma.fell@ours.example"},
		{here, "", "purged uma@ours.example: entry 12"},
		{here, here, ""},
		{`{}`, here, ""}, // an address that is new is nobody's yet
		{"", here, ""},
		{"broken", here, ""},
		{here, "broken", ""},
	} {
		e := &store.Entry{Seq: 12, At: happened, Kind: "person", ID: "uma"}
		if c.was != "" {
			e.Was = []byte(c.was)
		}
		if c.now != "" {
			e.Now = []byte(c.now)
		}
		x, ok := OfOurs(e, read)
		got := ""
		if ok {
			got = fmt.Sprintf("%s %s: %s", x.Kind, x.Address, x.ID)
			if x.New != "" {
				got += "; now " + x.New
			}
		}
		if got != c.want {
			t.Errorf("from %s to %s: %q, and wanted is %q", c.was, c.now, got, c.want)
		}
	}
	if _, ok := OfOurs(&store.Entry{Kind: "guest", Was: []byte(here)}, read); ok {
		t.Error("a guest is taken for one of ours")
	}
	x := Ours{ID: "entry 12", Person: "uma", Kind: IdentifierChanged, Address: "uma@ours.example", New: "uf@ours.example", Happened: happened}
	told, err := json.Marshal(x.As("https://ours.example", "https://tarn.example/events", happened.Add(time.Minute)))
	if err != nil {
		t.Fatal(err)
	}
	const want = `{"iss":"https://ours.example","iat":1796117460,"jti":"https://tarn.example/events#entry 12","aud":"https://tarn.example/events","toe":1796117400,` +
		`"sub_id":{"email":"uma@ours.example","format":"email"},"events":{"https://schemas.openid.net/secevent/risc/event-type/identifier-changed":{"new-value":"uf@ours.example"}}}`
	if string(told) != want {
		t.Errorf("told is %s", told)
	}
	// What we tell, another installation understands.
	if back, err := ReadTold(told); err != nil || back.Kind != IdentifierChanged || back.Address.String() != x.Address || back.New != x.New {
		t.Errorf("read back: %+v %v", back, err)
	}
}

// TestOf: which entries of the journal are events, of which topic, and whom they are about.
func TestOf(t *testing.T) {
	for _, c := range []struct {
		kind, id, was, now string
		published          bool
		want               string
	}{
		{"guest", "ann@tarn.example", "", "{}", false, "guest guest ann@tarn.example added; ann@tarn.example"},
		{"grant", "ann@tarn.example space:deck", "{}", "", false, "guest grant ann@tarn.example space:deck removed; ann@tarn.example"},
		{"grant", "group:loan space:deck", "{}", "{}", false, "guest grant group:loan space:deck changed"},
		{"rule", "chat.calls", "{}", "{}", true, "revision revision 4 added"},
		{"rule", "chat.calls", "{}", "{}", false, ""},
		{Noticed, "guest_without_end ann@tarn.example", "", "{}", false, "finding noticed guest_without_end ann@tarn.example added"},
		{"acceptance", "abc", "{}", "", false, "finding acceptance abc removed"},
		{"system_record", "chat 1", `{"drift": null}`, `{"drift": {"role": "edit"}}`, false, "drift system_record chat 1 added"},
		{"system_record", "chat 1", `{"drift": {"role": "edit"}}`, `{}`, false, "drift system_record chat 1 removed"},
		{"system_setting", "chat guests", `{"drift": {}}`, `{"drift": {"x": 1}}`, false, ""},
		{Judgement, "insured", `{"state": "held"}`, `{"state": "broken"}`, false, "expectation judgement insured added"},
		{Judgement, "insured", `{"state": "broken"}`, `{"state": "held"}`, false, "expectation judgement insured removed"},
		{Judgement, "insured", "", `{"state": "held"}`, false, ""},
		{Judgement, "insured", "", `{"state": "broken"}`, false, "expectation judgement insured added"},
		{"request", "r1", "", "{}", false, "request request r1 added"},
		{"session", "s1", "", "{}", false, ""},
	} {
		e := &store.Entry{Seq: 12, PartOf: 11, At: happened, Who: "harbour", Kind: c.kind, ID: c.id, Why: "the loan", Revision: 4}
		if c.was != "" {
			e.Was = []byte(c.was)
		}
		if c.now != "" {
			e.Now = []byte(c.now)
		}
		x, ok := Of(e, c.published)
		got := ""
		if ok {
			got = fmt.Sprintf("%s %s %s %s", x.Topic, x.Kind, x.Of, x.What)
			if x.Party != "" {
				got += "; " + x.Party
			}
			if x.Change != 11 || x.By != "harbour" || x.Why != "the loan" || x.Revision != 4 || x.ID != 12 ||
				!x.At.Equal(happened) {
				t.Errorf("%+v", x)
			}
		}
		if got != c.want {
			t.Errorf("%s %s from %s to %s: %q, and wanted is %q", c.kind, c.id, c.was, c.now, got, c.want)
		}
	}
	if x, _ := Of(&store.Entry{Seq: 12, Kind: "guest", ID: "ann@tarn.example"}, false); x.Change != 12 {
		t.Errorf("an entry that stands alone is of change %d", x.Change)
	}
	if got := Names(); !slices.Equal(got, []string{"guest", "revision", "finding", "drift", "expectation", "request"}) {
		t.Errorf("topics are %v", got)
	}
}

// TestAs: a token says whom the event is about by their address, or what it is about by an opaque id, and has the same id whenever it is
// sent.
func TestAs(t *testing.T) {
	guest := Event{ID: 12, Topic: Guest, At: happened, Kind: "guest", Of: "ann@tarn.example", What: Added, Change: 12, By: "harbour", Revision: 4,
		Party: "ann@tarn.example"}
	policy := Event{ID: 13, Topic: Revision, At: happened, Kind: "revision", Of: "5", What: Added, Change: 13, By: "harbour", Why: "autumn", Revision: 5}
	for _, c := range []struct {
		event Event
		want  string
	}{
		{guest, `{"iss":"https://ours.example","iat":1796117400,"jti":"hook#12","aud":"hook","toe":1796117400,"sub_id":{"email":"ann@tarn.example","format":"email"},` +
			`"events":{"https://wexillum.example/events/guest":{"id":12,"topic":"guest","at":"2026-12-01T09:30:00Z","kind":"guest","of":"ann@tarn.example",` +
			`"what":"added","change":12,"by":"harbour","revision":4,"party":"ann@tarn.example"}}}`},
		{policy, `{"iss":"https://ours.example","iat":1796117400,"jti":"hook#13","aud":"hook","toe":1796117400,"sub_id":{"format":"opaque","id":"revision:5"},` +
			`"events":{"https://wexillum.example/events/revision":{"id":13,"topic":"revision","at":"2026-12-01T09:30:00Z","kind":"revision","of":"5",` +
			`"what":"added","change":13,"by":"harbour","why":"autumn","revision":5}}}`},
	} {
		got, err := json.Marshal(c.event.As("https://ours.example", "hook", happened))
		if err != nil || string(got) != c.want {
			t.Errorf("%s %v", got, err)
		}
	}
}
