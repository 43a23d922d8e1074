package e2e

import (
	"bufio"
	"cmp"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"
	"time"
)

// TestIdle keeps a session while somebody works, and ends it while a page merely asks by
// itself.
func TestIdle(t *testing.T) {
	t.Parallel()
	r := startServiceWith(t, demoDSN(t), nil, 2*time.Second, nil)
	c := place(t, "127.0.0.7")
	if status, _ := signInAs(t, c, r.url, "harbour", "low-water-2026"); status != 200 {
		t.Fatal(status)
	}
	begun := time.Now()
	tick := time.NewTicker(200 * time.Millisecond)
	defer tick.Stop()
	for time.Since(begun) < 4*time.Second { // time is what is tested
		<-tick.C
		if status, _ := sends(t, c, "GET", r.url+"/api/v1/session", ""); status != 200 {
			t.Fatalf("at work it ended after %v: %d", time.Since(begun), status)
		}
	}
	begun = time.Now()
	for time.Since(begun) < 10*time.Second {
		<-tick.C
		if status, _ := sends(t, c, "GET", r.url+"/api/v1/session", "", "Wexillum-Idle", "yes"); status == 401 {
			return
		}
	}
	t.Error("it outlives that nobody is there")
}

// TestMetricsOfStrangers sends methods that nobody knows.
func TestMetricsOfStrangers(t *testing.T) {
	r := demoService(t)
	for i := range 20 {
		req, err := http.NewRequest(fmt.Sprintf("X-METHOD-%d", i), r.url+"/api/v1/session", nil)
		check(t, err)
		resp, err := http.DefaultClient.Do(req)
		check(t, err)
		_ = resp.Body.Close()
		if resp.StatusCode != 405 {
			t.Errorf("%d", resp.StatusCode)
		}
	}
	_, _, metrics := r.call("GET", "/metrics", r.token("harbour"), "")
	if strings.Contains(metrics, "X-METHOD") || !strings.Contains(metrics, `method="other"`) {
		t.Error("a stranger makes labels of metrics")
	}
}

// TestRepeatedRequests repeats requests with one key: within one draft and outside it, with
// other queries, and where the answer is shown once.
func TestRepeatedRequests(t *testing.T) {
	r := demoService(t)
	token := r.token("harbour")
	bar, out := `{"name":"spam.example","reason":"spam"}`, `{"standing":"suspended","why":"x"}`
	if status, _, body := r.call("POST", "/api/v1/partners/orrin/standing?preview=true", token, out, "Idempotency-Key",
		"one-key-0001"); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	status, header, body := r.call("POST", "/api/v1/partners/orrin/standing", token, out, "Idempotency-Key", "one-key-0001")
	if status != 200 || header.Get("Idempotency-Replayed") != "" {
		t.Errorf("after a preview with the same key: %d %s", status, body)
	}
	_, _, body = r.call("POST", "/api/v1/drafts", token, `{"name":"a"}`)
	var d struct{ Id string }
	check(t, json.Unmarshal([]byte(body), &d))
	other := strings.Replace(bar, "spam.example", "spam2.example", 1)
	r.call("POST", "/api/v1/bars", token, other, "Idempotency-Key", "one-key-0002")
	if _, header, _ := r.call("POST", "/api/v1/bars", token, other, "Idempotency-Key", "one-key-0002", "Wexillum-Draft",
		d.Id); header.Get("Idempotency-Replayed") != "" {
		t.Error("what was done at once answers for a draft")
	}
	made := `{"name":"gate","purpose":"decisions","days":1}`
	if status, _, body := r.call("POST", "/api/v1/service-tokens", token, made, "Idempotency-Key", "one-key-0003"); status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/service-tokens", token, made, "Idempotency-Key", "one-key-0003"); status != 409 ||
		strings.Contains(body, "wxl_") || !strings.Contains(body, "shown once") {
		t.Errorf("%d %s", status, body)
	}
}

// TestTokenStaysHome leads the client on to another server: its token does not go along.
func TestTokenStaysHome(t *testing.T) {
	seen := ""
	other := httptest.NewServer(http.HandlerFunc(func(_ http.ResponseWriter,
		r *http.Request) {
		seen = r.Header.Get("Authorization") + " seen"
	}))
	defer other.Close()
	own := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, other.URL+r.URL.Path, http.StatusTemporaryRedirect)
	}))
	defer own.Close()
	t.Setenv("WEXILLUM_TOKEN", "wxl_secret")
	r := &running{t: t, url: own.URL, home: t.TempDir()}
	r.says(1, "leads on to "+other.URL, "partner", "list")
	if seen != "" {
		t.Errorf("the other server got %q", seen)
	}
}

// TestHeaders looks at what every answer says to browsers and caches.
func TestHeaders(t *testing.T) {
	r := demoService(t)
	token := r.token("harbour")
	for _, path := range []string{"/api/v1/session", "/api/v1/partners", "/api/v1/world", "/api/v1/openapi.yaml",
		"/api/v1/report/board?form=csv", "/metrics"} {
		status, header, _ := r.call("GET", path, token, "")
		if status != 200 || header.Get("Cache-Control") != "no-store" || header.Get("Strict-Transport-Security") != "" {
			t.Errorf("%s: %d %v", path, status, header)
		}
	}
	safe := startSecure(t)
	resp, err := http.Post(safe.url+"/api/v1/session", "application/json", strings.NewReader(`{"name":"harbour","password":"low-water-2026"}`))
	check(t, err)
	_ = resp.Body.Close()
	if h := resp.Header.Get("Strict-Transport-Security"); h != "max-age=31536000" {
		t.Errorf("%q", h)
	}
	if c := resp.Cookies(); len(c) != 1 || c[0].Name != "__Host-wexillum_session" || !c[0].Secure || c[0].Path != "/" || c[0].Domain != "" {
		t.Errorf("%+v", c)
	}
}

// TestSlowBodies gives up on a body that does not come, and on nothing else.
func TestSlowBodies(t *testing.T) {
	bodyTime = 500 * time.Millisecond
	r := startService(t, demoDSN(t), nil)
	bodyTime = 0
	c, err := net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	check(t, err)
	defer c.Close()
	check(t, c.SetDeadline(time.Now().Add(patience)))
	_, err = fmt.Fprintf(c, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: 100\r\n\r\n{")
	check(t, err)
	resp, err := http.ReadResponse(bufio.NewReader(c), nil)
	if err != nil || resp.StatusCode < 400 || resp.StatusCode >= 500 {
		t.Errorf("%+v, %v", resp, err)
	}
	if resp != nil {
		_ = resp.Body.Close()
	}
	// A connection that goes on does so without the deadline of the request before.
	c, err = net.Dial("tcp", strings.TrimPrefix(r.url, "http://"))
	check(t, err)
	defer c.Close()
	in := bufio.NewReader(c)
	for range 2 {
		body := `{"name":"harbour","password":"low-water-2026"}`
		_, err = fmt.Fprintf(c, "POST /api/v1/session HTTP/1.1\r\nHost: x\r\nContent-Type: application/json\r\nContent-Length: %d\r\n\r\n%s",
			len(body), body)
		check(t, err)
		resp, err := http.ReadResponse(in, nil)
		check(t, err)
		_, _ = io.Copy(io.Discard, resp.Body)
		if resp.StatusCode != 200 {
			t.Errorf("%d", resp.StatusCode)
		}
		<-time.After(700 * time.Millisecond) // longer than a body may take
	}
}

// TestBoundsWithin ends a stream of changes where the role of whoever listens becomes another or their account is disabled, and bounds what
// a guest writes on their own page.
func TestBoundsWithin(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	listen := func(name string) (ended chan struct{}) {
		t.Helper()
		req, err := http.NewRequestWithContext(t.Context(), "GET", r.url+"/api/v1/changes", nil)
		check(t, err)
		req.Header.Set("Authorization", "Bearer "+r.token(name))
		resp, err := http.DefaultClient.Do(req)
		check(t, err)
		ended = make(chan struct{})
		first := make(chan struct{})
		go func() {
			defer close(ended)
			defer resp.Body.Close()
			lines := bufio.NewScanner(resp.Body)
			for heard := false; lines.Scan(); {
				if !heard {
					heard = true
					close(first)
				}
			}
		}()
		<-first
		return ended
	}
	over := func(what string, ended chan struct{}) {
		t.Helper()
		select {
		case <-ended:
		case <-time.After(patience):
			t.Errorf("%s: the stream goes on", what)
		}
	}
	keeper, auditor := listen("mooring"), listen("lantern")
	r.must("account", "set", "mooring", "--role", "auditor")
	over("another role", keeper)
	r.must("account", "set", "lantern", "--disabled")
	over("a disabled account", auditor)

	const who = "maren.holtveig@ilvane.example"
	post := r.post()
	c := place(t, "127.0.0.7")
	if status, body := sends(t, c, "POST", r.url+"/api/v1/door/code", `{"address":"`+who+`"}`); status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	if _, err := r.svc.SendWaiting(t.Context(), post.send); err != nil {
		t.Fatal(err)
	}
	code := ""
	list, _ := post.Messages()
	for _, m := range list {
		code = cmp.Or(codeIn.FindString(m.Subject), code)
	}
	if status, body := sends(t, c, "POST", r.url+"/api/v1/door/prove", `{"address":"`+who+`","code":"`+code+`"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	var session struct{ CSRF string }
	_, body := sends(t, c, "GET", r.url+"/api/v1/session", "")
	check(t, json.Unmarshal([]byte(body), &session))
	counts := map[int]int{}
	for range 40 {
		req, err := http.NewRequest("POST", r.url+"/api/v1/own/language", strings.NewReader(`{"language":"en"}`))
		check(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-CSRF-Token", session.CSRF)
		resp, err := c.Do(req)
		check(t, err)
		_ = resp.Body.Close()
		counts[resp.StatusCode]++
	}
	if counts[429] < 5 || counts[200]+counts[204] < 25 || counts[429]+counts[200]+counts[204] != 40 {
		t.Errorf("forty changes at once: %v", counts)
	}
}
