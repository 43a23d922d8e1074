package e2e

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// heard is what a receiver of events was sent, verified by nothing but what the service publishes.
type heard struct {
	ID       string                             `json:"jti"`
	Issuer   string                             `json:"iss"`
	Audience string                             `json:"aud"`
	Subject  struct{ Format, Email, ID string } `json:"sub_id"`
	Events   map[string]struct {
		ID                                    uint64
		Topic, Kind, Of, What, By, Why, Party string
	}
}

// receiver takes events as somebody else's program would.
type receiver struct {
	lock   sync.Mutex
	url    string
	keys   string // where the sender's keys are
	took   []heard
	refuse int // how many it still refuses
	came   chan struct{}
}

func newReceiver(t *testing.T, keys string) *receiver {
	x := &receiver{keys: keys, came: make(chan struct{}, 1000)}
	srv := httptest.NewServer(x)
	t.Cleanup(srv.Close)
	x.url = srv.URL
	return x
}

func (x *receiver) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	x.lock.Lock()
	defer x.lock.Unlock()
	fail := func(code, text string) {
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		fmt.Fprintf(w, `{"err":%q,"description":%q}`, code, text)
	}
	if x.refuse > 0 {
		x.refuse--
		fail("access_denied", "come back later")
		return
	}
	body, _ := io.ReadAll(r.Body)
	jws, err := jose.ParseSignedCompact(string(body), []jose.SignatureAlgorithm{jose.EdDSA})
	if err != nil || r.Header.Get("Content-Type") != "application/secevent+jwt" ||
		jws.Signatures[0].Protected.ExtraHeaders["typ"] != "secevent+jwt" {
		fail("invalid_request", fmt.Sprint("no token: ", err, r.Header))
		return
	}
	resp, err := http.Get(x.keys)
	if err != nil {
		fail("invalid_key", err.Error())
		return
	}
	defer resp.Body.Close()
	var set jose.JSONWebKeySet
	_ = json.NewDecoder(resp.Body).Decode(&set)
	for _, k := range set.Key(jws.Signatures[0].Protected.KeyID) {
		if payload, err := jws.Verify(k); err == nil {
			var h heard
			if err := json.Unmarshal(payload, &h); err != nil || h.Audience != x.url {
				fail("invalid_audience", fmt.Sprint(err, h.Audience))
				return
			}
			x.took = append(x.took, h)
			x.came <- struct{}{}
			w.WriteHeader(http.StatusAccepted)
			return
		}
	}
	fail("invalid_key", "it is signed by nobody we know")
}

// waits until it took n events, and returns them in words.
func (x *receiver) waits(t *testing.T, n int) (out []string) {
	t.Helper()
	limit := time.After(patience)
	for {
		x.lock.Lock()
		if len(x.took) >= n {
			for _, h := range x.took {
				for uri, e := range h.Events {
					out = append(out, strings.TrimSpace(fmt.Sprintf("%s %s %s %s %s", uri[strings.LastIndex(uri, "/")+1:], e.Kind, e.Of, e.What, e.Why)))
				}
			}
			x.lock.Unlock()
			return out
		}
		x.lock.Unlock()
		select {
		case <-x.came:
		case <-limit:
			t.Fatalf("it took %d events, not %d", len(x.took), n)
		}
	}
}

// TestEvents tells a receiver what happens: signed, in order, nothing lost while it refuses or is away, by two services at
// once; and a stream goes on where it was left.
func TestEvents(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	x := newReceiver(t, r.url+"/.well-known/wexillum-keys")
	other := startService(t, r.dsn, nil)
	other.svc.SetAddress(r.url)
	ctx, stop := context.WithCancel(context.Background())
	var told sync.WaitGroup
	for _, s := range []*running{r, other} {
		told.Go(func() { s.svc.RunWebhooks(ctx, 20*time.Millisecond) })
	}
	defer func() { stop(); told.Wait() }()

	r.says(0, "Nobody is told", "webhook", "list")
	r.says(1, "http is taken on this machine alone", "webhook", "add", "gate", "--name", "The gate", "--address",
		"http://gate.brackwater.example/events")
	r.says(1, "one of", "webhook", "add", "gate", "--name", "The gate", "--address", x.url, "--topic", "weather")
	r.says(0, "guest, revision", "webhook", "add", "gate", "--name", "The gate", "--address", x.url, "--topic", "guest,revision", "--why",
		"badges end with their guests")
	r.says(1, "already", "webhook", "add", "gate", "--name", "The gate", "--address", x.url)
	r.says(0, "told", "webhook", "list") // of itself it need not hear
	r.says(0, "gate took it", "webhook", "try", "gate")
	if got := x.waits(t, 1); got[0] != "verification" {
		t.Errorf("%v", got)
	}

	const who = "maren.holtveig@ilvane.example"
	stream := r.events(t, "guest", "")
	r.must("guest", "suspend", who, "--reason", "a lost badge")
	r.must("rules", "set", "files.link_days", "--default", "7", "--why", "links are forgotten")
	r.must("domain", "test", who) // nothing happens
	want := []string{"verification", "guest guest " + who + " changed a lost badge",
		fmt.Sprintf("revision revision %d added links are forgotten", r.svc.State().Head.Revision)}
	if got := x.waits(t, 3); !slices.Equal(got, want) {
		t.Errorf("it heard\n%s\nand not\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	x.lock.Lock()
	if h := x.took[1]; h.Issuer != r.url || h.Subject.Format != "email" || h.Subject.Email != who ||
		h.Events["https://wexillum.example/events/guest"].Party != who {
		t.Errorf("%+v", h)
	}
	x.refuse = 2
	x.lock.Unlock()

	// It refuses: what comes after waits, and then comes in order.
	r.must("guest", "back", who, "--reason", "it was found")
	r.must("guest", "suspend", who, "--reason", "lost again")
	want = append(want, "guest guest "+who+" changed it was found", "guest guest "+who+" changed lost again")
	if got := x.waits(t, 5); !slices.Equal(got, want) {
		t.Errorf("it heard\n%s\nand not\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}

	// Paused, it is told what it missed.
	r.says(0, "paused", "webhook", "set", "gate", "--paused")
	r.must("guest", "back", who, "--reason", "found again")
	r.says(0, "paused", "webhook", "list")
	r.must("webhook", "set", "gate", "--paused=false")
	want = append(want, "guest guest "+who+" changed found again")
	if got := x.waits(t, 6); !slices.Equal(got, want) {
		t.Errorf("it heard\n%s\nand not\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
	ids := map[string]bool{}
	for _, h := range x.took {
		ids[h.ID] = true
	}
	if len(ids) != len(want) {
		t.Errorf("%d ids of %d tokens", len(ids), len(want))
	}

	// The stream heard the same of guests, and one that begins behind its second event hears the rest.
	heardThere := stream(4)
	if fmt.Sprint(heardThere.what) != "[a lost badge it was found lost again found again]" {
		t.Errorf("the stream says %v", heardThere.what)
	}
	if got := r.events(t, "guest", heardThere.ids[1])(2); fmt.Sprint(got.what) != "[lost again found again]" {
		t.Errorf("the stream goes on with %v", got.what)
	}
	if status, _, body := r.call("GET", "/api/v1/changes?topic=guest", r.token("rigger"), ""); status != 403 ||
		!strings.Contains(body, "members hear that something did") {
		t.Errorf("%d %s", status, body)
	}

	r.says(0, "is told nothing any more", "webhook", "end", "gate", "--why", "the gate is gone")
	r.says(1, "no receiver", "webhook", "try", "gate")
	r.says(1, "no receiver", "webhook", "end", "gate")
}

type streamed struct{ ids, what []string }

// events opens a stream of a topic, and returns what waits for so many events of it.
func (r *running) events(t *testing.T, topic, after string) func(n int) streamed {
	t.Helper()
	req, err := http.NewRequest("GET", r.url+"/api/v1/changes?topic="+topic, nil)
	check(t, err)
	req.Header.Set("Authorization", "Bearer "+r.token("lantern"))
	if after != "" {
		req.Header.Set("Last-Event-ID", after)
	}
	ctx, stop := context.WithTimeout(context.Background(), patience)
	t.Cleanup(stop)
	resp, err := http.DefaultClient.Do(req.WithContext(ctx))
	check(t, err)
	t.Cleanup(func() { resp.Body.Close() })
	lines := bufio.NewScanner(resp.Body)
	lines.Scan() // from where: the stream is open
	return func(n int) (out streamed) {
		id := ""
		for len(out.what) < n && lines.Scan() {
			if x, ok := strings.CutPrefix(lines.Text(), "id: "); ok {
				id = x
			}
			if x, ok := strings.CutPrefix(lines.Text(), "data: "); ok {
				var e struct{ Why string }
				check(t, json.Unmarshal([]byte(x), &e))
				out.ids, out.what = append(out.ids, id), append(out.what, e.Why)
			}
		}
		if len(out.what) < n {
			t.Fatalf("the stream ended after %v: %v", out.what, lines.Err())
		}
		return out
	}
}

// TestTokensSaid: a service's token does what it is for and nothing else, and it is said when and from where it was used.
func TestTokensSaid(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	admin := r.token("harbour")
	made := func(purpose string) string {
		var x struct{ Token string }
		check(t, json.Unmarshal([]byte(r.must("token", "make", "hr", "--purpose", purpose, "-o", "json")), &x))
		return x.Token
	}
	guests := made("guests")
	r.says(0, "guests", "token", "list")
	status, _, body := r.call("POST", "/api/v1/invitations", guests,
		`{"list":"new.hand@pallowick.example\nspy@iivane.example\n","into":"space:low-water-design","role":"view","sponsor":"d.ekwinter","purpose":"draws the stands"}`)
	var in struct {
		Counts map[string]int
	}
	check(t, json.Unmarshal([]byte(body), &in))
	if status != 200 || in.Counts["invited"] != 1 || in.Counts["no"] != 1 {
		t.Errorf("an HR list: %d %s", status, body)
	}
	if status, _, body := r.call("GET", "/api/v1/lists/guests", guests, ""); status != 200 ||
		!strings.Contains(body, "new.hand@pallowick.example") {
		t.Errorf("%d %.200s", status, body)
	}
	for _, path := range []string{"/api/v1/journal", "/api/v1/rules", "/api/v1/accounts"} {
		if status, _, _ := r.call("GET", path, guests, ""); status != 403 {
			t.Errorf("GET %s: %d", path, status)
		}
	}
	lists := made("lists")
	if status, _, _ := r.call("GET", "/api/v1/lists/guests", lists, ""); status != 200 {
		t.Errorf("%d", status)
	}
	if status, _, _ := r.call("POST", "/api/v1/invitations", lists, `{"list":"a@ilvane.example"}`); status != 403 {
		t.Errorf("%d", status)
	}
	// What a token did is in the journal by its name, and that it was used once a day.
	var said string
	for until := time.Now().Add(patience); ; time.Sleep(20 * time.Millisecond) {
		_, _, said = r.call("GET", "/api/v1/journal?who=token:hr&limit=50", admin, "")
		if strings.Count(said, `"kind":"token"`) >= 2 || time.Now().After(until) {
			break
		}
	}
	if strings.Count(said, `"kind":"token"`) != 2 || strings.Count(said, `\"used_from\":\"127.0.0.1\"`) != 2 ||
		!strings.Contains(said, "new.hand@pallowick.example") {
		t.Errorf("%s", said)
	}
	r.says(0, "from 127.0.0.1", "token", "list")
}
