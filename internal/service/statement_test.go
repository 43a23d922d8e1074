package service

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"

	"wexillum.example/internal/core/catalogue"
	core "wexillum.example/internal/core/statement"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/standin"
	"wexillum.example/internal/statement"
)

const withStatement = `wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, spaces.join_in: {default: listed}}
people: [{id: uma, name: Uma, address: uma@ours.example}]
partners:
  - {id: lamps, name: Lamps, domains: [lamps.example], statement: "%s", opened: {chat.in: yes, spaces.in: yes}, stance: {mail.in: {says: admits, source: recorded, as_of: 2026-11-01}}}
`

// TestHostileStatements: whatever is wrong with a statement, or with the server it
// is at, is told as what it is and changes nothing.
func TestHostileStatements(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	id, private, err := statement.NewKey()
	check(t, err)
	_, otherPrivate, err := statement.NewKey()
	check(t, err)
	good := func() core.Claims {
		return core.Claims{Version: 1, Issuer: "lamps.example", Domains: []string{"lamps.example"}, Audience: "ours.example",
			Issued: clock.at.Unix(), Expires: clock.at.Add(time.Hour).Unix(),
			Stance: map[string]core.Half{"chat.out": {Says: "refuses"}, "spaces.out": {Says: "admits"}}}
	}
	sign := func(c core.Claims, key []byte) string {
		jws, err := statement.Sign(c, key)
		check(t, err)
		return jws
	}
	keys := func(private ...[]byte) string {
		b, err := statement.PublicKeys(private...)
		check(t, err)
		return string(b)
	}
	var serve http.HandlerFunc
	srv := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) { serve(w, r) }))
	defer srv.Close()
	elsewhere := httptest.NewTLSServer(http.NotFoundHandler())
	defer elsewhere.Close()
	roots := x509.NewCertPool()
	roots.AddCert(srv.Certificate())
	f := &statement.Fetcher{AllowPrivate: true, Roots: roots, Timeout: 5 * time.Second}
	write := func(w http.ResponseWriter, typ, body string) {
		w.Header().Set("Content-Type", typ)
		_, _ = w.Write([]byte(body))
	}
	both := func(jws, jwks string) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path == statement.KeysPath {
				write(w, statement.KeysType, jwks)
				return
			}
			if r.URL.Query().Get("for") != "ours.example" {
				t.Errorf("asked for %q", r.URL)
			}
			write(w, statement.StatementType, jws)
		}
	}
	but := func(change func(*core.Claims)) http.HandlerFunc {
		c := good()
		change(&c)
		return both(sign(c, private), keys(private))
	}
	load(t, s, fmt.Sprintf(withStatement, srv.URL+statement.StatementPath))
	fetch := func() error { return s.FetchStatement(t.Context(), By{Who: "test"}, f, "lamps") }

	// The first is taken, and its key pinned.
	serve = both(sign(good(), private), keys(private))
	check(t, fetch())
	st, err := s.Statement(t.Context(), "lamps")
	check(t, err)
	if len(st.Keys) != 1 || st.Keys[0] != id || st.Problem != "" {
		t.Fatalf("%+v", st)
	}
	p, err := s.State().Partner("lamps")
	check(t, err)
	says := func(p *world.Partner) string {
		var out []string
		for _, x := range p.Stance {
			out = append(out, fmt.Sprint(x.Key, " ", world.SaysNames[x.Says], " ", x.Source))
		}
		return strings.Join(out, ", ")
	}
	before := "chat.in refuses statement, mail.in admits recorded, spaces.in admits statement"
	if got := says(p); got != before {
		t.Fatalf("it says %s", got)
	}

	signed := sign(good(), private)
	parts := strings.Split(signed, ".")
	var third jose.JSONWebKey
	check(t, json.Unmarshal([]byte(keys(otherPrivate)), &struct{ Keys []*jose.JSONWebKey }{[]*jose.JSONWebKey{&third}}))
	third.KeyID = id // another key under the name of ours
	underName, err := json.Marshal(jose.JSONWebKeySet{Keys: []jose.JSONWebKey{third}})
	check(t, err)
	plain, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.HS256, Key: []byte(strings.Repeat("k", 32))}, nil)
	check(t, err)
	hmac, err := plain.Sign([]byte("{}"))
	check(t, err)
	symmetric, err := hmac.CompactSerialize()
	check(t, err)
	ec, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	check(t, err)
	untyped, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: ec, KeyID: "e"}}, nil)
	check(t, err)
	noType, err := untyped.Sign([]byte("{}"))
	check(t, err)
	noTypeText, err := noType.CompactSerialize()
	check(t, err)
	slow := make(chan struct{})
	defer close(slow)

	for _, c := range []struct {
		name, code, text string
		serve            http.HandlerFunc
	}{
		{"another's signature", core.BadSignature, "its signature does not hold", both(signed, string(underName))},
		{"a changed payload", core.BadSignature, "its signature does not hold",
			both(parts[0]+"."+parts[1][:len(parts[1])-4]+"fQ."+parts[2], keys(private))},
		{"no signature", core.Malformed,
			"it is no signature in compact form with EdDSA or ES256: unexpected signature algorithm \"none\"; expected [\"EdDSA\" \"ES256\"]",
			both("eyJhbGciOiJub25lIn0.e30.", keys(private))},
		{"a shared secret", core.Malformed, "unexpected signature algorithm \"HS256\"", both(symmetric, keys(private))},
		{"another type of signature", core.WrongType, `the type of the signature is "", and "wexillum-statement+jwt" is wanted`,
			both(noTypeText, keys(private))},
		{"its key is not published", core.NoKey, "is not among the keys published beside it", both(signed, keys(otherPrivate))},
		{"keys that are none", core.NoKey, "its keys cannot be read", both(signed, "[]")},
		{"no JWS at all", core.Malformed, "it is no signature", both("hello", keys(private))},
		{"another issuer", core.WrongIssuer, `it is issued by "ropes.example", which is no domain of Lamps`,
			but(func(c *core.Claims) { c.Issuer = "ropes.example" })},
		{"meant for somebody else", core.WrongAudience, `it is meant for "else.example", which is no domain of ours`,
			but(func(c *core.Claims) { c.Audience = "else.example" })},
		{"meant for nobody", core.WrongAudience, `it is meant for "", which is no domain of ours`, but(func(c *core.Claims) { c.Audience = "" })},
		{"ended", core.Expired, "it ended at 2026-11-23T08:59:00Z", but(func(c *core.Claims) { c.Issued -= 3600; c.Expires = c.Issued + 3540 })},
		{"ahead", core.Ahead, "it was issued at 2026-11-23T10:00:00Z, which lies ahead",
			but(func(c *core.Claims) { c.Issued += 3600; c.Expires += 7200 })},
		{"older than the last", core.Older,
			"it was issued at 2026-11-23T08:50:00Z, before the one that was taken already, of 2026-11-23T09:00:00Z",
			but(func(c *core.Claims) { c.Issued -= 600 })},
		{"good for ever", core.TooLong, "it is good for 1000 days; more than 400 are not taken",
			but(func(c *core.Claims) { c.Expires = c.Issued + 86400*1000 })},
		{"ends before it begins", core.Malformed, "it ends before it begins", but(func(c *core.Claims) { c.Expires = c.Issued - 1 })},
		{"no time", core.Malformed, "iat and exp are needed", but(func(c *core.Claims) { c.Issued = 0 })},
		{"a newer format", core.NewerFormat, "it has version 2 of the format, and 1 is the newest known here",
			but(func(c *core.Claims) { c.Version = 2 })},
		{"no version", core.Malformed, "it does not say its version", but(func(c *core.Claims) { c.Version = 0 })},
		{"says nothing", core.Malformed, "it states nothing", but(func(c *core.Claims) { c.Stance = nil })},
		{"says perhaps", core.Malformed, `it says "perhaps" of chat.out; a statement admits or refuses`,
			but(func(c *core.Claims) { c.Stance["chat.out"] = core.Half{Says: "perhaps"} })},
		{"a changed key", core.KeyChanged, "those that may sign are [" + id + "]", both(sign(good(), otherPrivate), keys(private, otherPrivate))},
		{"huge", core.TooLarge, "the statement is larger than 65536 octets", both(strings.Repeat("x", statement.MaxBody+2), keys(private))},
		{"huge keys", core.TooLarge, "the set of keys is larger than 65536 octets", both(signed, strings.Repeat("x", statement.MaxBody+2))},
		{"slow", core.TooSlow, "the statement did not come in time", func(w http.ResponseWriter, r *http.Request) {
			w.Header().Set("Content-Type", statement.StatementType)
			w.(http.Flusher).Flush()
			select {
			case <-slow:
			case <-r.Context().Done():
			}
		}},
		{"sent on to another host", core.Redirected, "sends on to https://" + strings.TrimPrefix(elsewhere.URL, "https://") +
			"; other hosts are not followed", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, elsewhere.URL, http.StatusFound) }},
		{"sent on to http", core.Redirected, "other hosts are not followed", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "http://"+r.Host+"/", http.StatusFound)
		}},
		{"sent on for ever", core.Redirected, "sends on more than three times", func(w http.ResponseWriter, r *http.Request) {
			http.Redirect(w, r, "/again?for=ours.example", http.StatusFound)
		}},
		{"a page", core.WrongType, `the statement came as "text/html", and application/jose is wanted`,
			func(w http.ResponseWriter, r *http.Request) { write(w, "text/html", signed) }},
		{"an endless name", core.WrongIssuer, `it is issued by "xxx`, but(func(c *core.Claims) { c.Issuer = strings.Repeat("x", 40000) })},
		{"not there", core.Refused, "the statement was answered with 404 Not Found", http.NotFound},
		{"broken off", core.Unreachable, "the statement cannot be fetched",
			func(w http.ResponseWriter, r *http.Request) { panic(http.ErrAbortHandler) }},
	} {
		serve = c.serve
		if c.code == core.TooSlow {
			f.Timeout = 300 * time.Millisecond
		} else {
			f.Timeout = 5 * time.Second
		}
		err := fetch()
		var wrong *core.Problem
		if !errors.As(err, &wrong) || wrong.Code != c.code || !strings.Contains(wrong.Text, c.text) {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		p, err := s.State().Partner("lamps")
		check(t, err)
		now, err := s.Statement(t.Context(), "lamps")
		check(t, err)
		if len(now.Reason) > 400 {
			t.Errorf("%s: what they wrote fills the record: %d octets", c.name, len(now.Reason))
		}
		if says(p) != before || now.Keys[0] != id || len(now.Keys) != 1 || now.Issued != st.Issued || now.Problem != c.code ||
			(c.code == core.KeyChanged) != (now.Offered != "") {
			t.Errorf("%s changed something: %s, %+v", c.name, says(p), now)
		}
	}

	// What a safe fetcher refuses before it asks.
	for address, want := range map[string]string{
		srv.URL + statement.StatementPath:                                  core.PrivateHost,
		"http://" + srv.Listener.Addr().String() + statement.StatementPath: core.NotSecure,
		"https://localhost:1/":                                             core.PrivateHost, "https://[::1]:1/": core.PrivateHost,
		"https://[::ffff:127.0.0.1]:1/": core.PrivateHost, "https://10.0.0.1/": core.PrivateHost, "https://169.254.1.1/": core.PrivateHost,
		"https://100.64.0.1/": core.PrivateHost, "https://[fd00::1]/": core.PrivateHost, "https://0.0.0.0:1/": core.PrivateHost,
		"ftp://lamps.example/": core.NotSecure,
	} {
		var wrong *core.Problem
		if _, err := (&statement.Fetcher{Timeout: 2 * time.Second}).Fetch(t.Context(), address, "ours.example"); !errors.As(err, &wrong) ||
			wrong.Code != want {
			t.Errorf("%s: %v", address, err)
		}
	}

	// The key that was offered can be accepted by its name, and no other.
	serve = both(sign(good(), otherPrivate), keys(otherPrivate))
	_ = fetch()
	now, err := s.Statement(t.Context(), "lamps")
	check(t, err)
	if err := s.AcceptKey(t.Context(), By{Who: "test"}, "lamps", id); err == nil {
		t.Error("a key is accepted that was not offered")
	}
	check(t, s.AcceptKey(t.Context(), By{Who: "test"}, "lamps", now.Offered))
	check(t, fetch())
}

// TestStatementSays: what a statement says becomes stances on our side, what it
// says no more is unknown, what is known from later stays, its end is theirs, and
// letters close by it.
func TestStatementSays(t *testing.T) {
	s, clock := start(t, dbtest.DSN(t))
	n, err := standin.NewNeighbour("Lamps", "lamps.example", "chat.out", "files.in")
	check(t, err)
	n.Clock = clock.now
	srv := httptest.NewServer(n.Handler())
	defer srv.Close()
	load(t, s, fmt.Sprintf(withStatement, srv.URL+statement.StatementPath))
	f := &statement.Fetcher{AllowHTTP: true, AllowPrivate: true}
	fetch := func() { t.Helper(); check(t, s.FetchStatement(t.Context(), By{Who: "test"}, f, "lamps")) }
	half := func(key string) string {
		all, err := s.State().Halves(s.Now(), "lamps")
		check(t, err)
		for _, h := range all[0].Halves {
			if h.Key.String() == key {
				return fmt.Sprint(world.SaysNames[h.Theirs], " ", world.JointNames[h.Joint], " ", h.Stance.Source, " ", h.Features)
			}
		}
		return ""
	}
	want := func(key, want string) {
		t.Helper()
		if got := half(key); got != want {
			t.Errorf("%s is %s, want %s", key, got, want)
		}
	}
	letter, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "chat.in")}, false, false)
	check(t, err)
	fetch()
	want("chat.in", "admits open statement [messages voice presence]")
	want("files.out", "admits open statement []")
	want("spaces.in", "refuses their_turn statement []")
	want("mail.in", "refuses shut statement []") // it is newer than what was recorded
	if l, _ := s.Letter(t.Context(), letter.Letter.ID); l.Answer != world.AnswerAdmitted || l.Said != "statement of lamps.example" {
		t.Errorf("%+v", l)
	}
	// One that is fetched again at once writes nothing.
	head := s.State().Head
	fetch()
	if s.State().Head != head {
		t.Error("the same statement was written twice")
	}
	// They close a half, and let a part of another through.
	n.Say("files.in", core.Half{Says: "refuses"})
	n.Say("chat.out", core.Half{Says: "admits", Features: []string{"messages", "smoke_signals"}})
	clock.at = clock.at.Add(time.Minute)
	fetch()
	want("chat.in", "admits open statement [messages]")
	want("files.out", "refuses shut statement []")
	// What somebody recorded later counts until a newer statement.
	check(t, s.SetStance(t.Context(), "test", "", "lamps", "chat.in", []byte(`{"says":"refuses","source":"recorded","said_by":"their desk"}`)))
	want("chat.in", "refuses their_turn recorded []")
	clock.at = clock.at.Add(time.Minute)
	fetch()
	want("chat.in", "admits open statement [messages]")
	// An announced key is followed; the one before it is not trusted any more.
	check(t, n.Announce())
	clock.at = clock.at.Add(time.Minute)
	fetch()
	check(t, n.Roll())
	clock.at = clock.at.Add(time.Minute)
	fetch()
	st, err := s.Statement(t.Context(), "lamps")
	check(t, err)
	if len(st.Keys) != 1 || st.Problem != "" {
		t.Errorf("%+v", st)
	}
	check(t, n.Roll())
	var wrong *core.Problem
	if err := s.FetchStatement(t.Context(), By{Who: "test"}, f, "lamps"); !errors.As(err, &wrong) || wrong.Code != core.KeyChanged {
		t.Error(err)
	}
	// At its end an admission is unknown, and a refusal still refuses.
	clock.at = clock.at.Add(core.Lasts)
	want("chat.in", "unknown unconfirmed statement []")
	want("spaces.in", "refuses their_turn statement []")
}

// TestTwoServices: each is the other's partner and reads what the other publishes;
// one closes its half and rolls its key, and the other sees it.
func TestTwoServices(t *testing.T) {
	const world1 = `wexillum: 1
organisation: {name: %[1]s, domains: [%[1]s.example], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, chat.calls: {default: %[4]s}}
partners: [{id: %[2]s, name: %[2]s, domains: [%[2]s.example], statement: "%[3]s", opened: {chat.in: yes, chat.out: yes}}]
`
	publish := func(s **Service) *httptest.Server {
		return httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			typ, body := statement.KeysType, ""
			if r.URL.Path == statement.KeysPath {
				b, err := (*s).OurKeys(r.Context())
				if err != nil {
					t.Error(err)
				}
				body = string(b)
			} else {
				var err error
				typ = statement.StatementType
				if body, err = (*s).OurStatement(r.Context(), r.URL.Query().Get("for")); err != nil {
					t.Error(err)
				}
			}
			w.Header().Set("Content-Type", typ)
			_, _ = w.Write([]byte(body))
		}))
	}
	east, _ := start(t, dbtest.DSN(t))
	west, clock := start(t, dbtest.DSN(t))
	e, w := publish(&east), publish(&west)
	defer e.Close()
	defer w.Close()
	load(t, east, fmt.Sprintf(world1, "east", "west", w.URL+"/s", "on"))
	load(t, west, fmt.Sprintf(world1, "west", "east", e.URL+"/s", "off"))
	f := &statement.Fetcher{AllowHTTP: true, AllowPrivate: true}
	see := func(s *Service, partner string) string {
		t.Helper()
		check(t, s.FetchStatement(t.Context(), By{Who: "test"}, f, partner))
		all, err := s.State().Halves(s.Now(), partner)
		check(t, err)
		var out []string
		for _, h := range all[0].Halves {
			if h.Opening == world.OpenYes {
				out = append(out, fmt.Sprint(h.Key, " ", world.JointNames[h.Joint], " ", h.Features))
			}
		}
		return strings.Join(out, ", ")
	}
	for range 2 {
		if got := see(east, "west"); got != "chat.in open [messages presence], chat.out open [messages presence]" {
			t.Errorf("east sees %s", got)
		}
		if got := see(west, "east"); got != "chat.in open [messages presence], chat.out open [messages presence]" {
			t.Errorf("west sees %s", got)
		}
	}
	// West closes its half of chat.out: east's people still come... its own stay away.
	_, err := west.edit(t.Context(), By{Who: "test"}, "east", peopleOf("east"), func(_ *State, p *world.Partner) error {
		p.Opened[mustKeys(t, "chat.out")[0]] = world.OpenNo
		return nil
	})
	check(t, err)
	clock.at = clock.at.Add(time.Second)
	if got := see(east, "west"); got != "chat.in their_turn [], chat.out open [messages presence]" {
		t.Errorf("east sees %s", got)
	}
	// West rolls its key in two steps: east follows. Replaced at once: east warns.
	by := By{Who: "test"}
	if err := west.RollKey(t.Context(), by, SwitchKey); !errors.Is(err, ErrConflict) {
		t.Error(err)
	}
	check(t, west.RollKey(t.Context(), by, AnnounceKey))
	if err := west.RollKey(t.Context(), by, AnnounceKey); !errors.Is(err, ErrConflict) {
		t.Error(err)
	}
	see(east, "west")
	old, err := east.Statement(t.Context(), "west")
	check(t, err)
	check(t, west.RollKey(t.Context(), by, SwitchKey))
	see(east, "west")
	now, err := east.Statement(t.Context(), "west")
	check(t, err)
	if len(old.Keys) != 2 || len(now.Keys) != 1 || now.Keys[0] != old.Keys[1] {
		t.Errorf("%v, then %v", old.Keys, now.Keys)
	}
	check(t, west.RollKey(t.Context(), by, ReplaceKey))
	var wrong *core.Problem
	if err := east.FetchStatement(t.Context(), by, f, "west"); !errors.As(err, &wrong) || wrong.Code != core.KeyChanged {
		t.Error(err)
	}
	// A third domain reads what is open to anybody; a suspended partner, nothing.
	c, err := west.OurClaims(t.Context(), "somebody.example")
	check(t, err)
	if c.Stance["chat.in"].Says != "refuses" || c.Stance["meetings.out"].Says == "" {
		t.Errorf("%+v", c)
	}
	_, err = west.SetStanding(t.Context(), by, "east", "suspended")
	check(t, err)
	c, err = west.OurClaims(t.Context(), "east.example")
	check(t, err)
	for k, h := range c.Stance {
		if h.Says != "refuses" {
			t.Errorf("a suspended partner reads that %s is %s", k, h.Says)
		}
	}
	if _, err := west.OurClaims(t.Context(), "not a domain"); err == nil {
		t.Error("a statement for no domain")
	}
}

func mustKeys(t *testing.T, names ...string) []catalogue.Key {
	t.Helper()
	k, err := ParseKeys(names)
	check(t, err)
	return k
}
