package e2e

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strings"
	"sync"
	"testing"
)

// scimClient speaks for a feed.
type scimClient struct {
	t           *testing.T
	base, token string
}

// send makes a request; the answer is its status, its parts and its head.
func (c *scimClient) send(method, path string, body any, head ...string) (int, map[string]any, http.Header) {
	c.t.Helper()
	var in io.Reader
	switch b := body.(type) {
	case nil:
	case string:
		in = strings.NewReader(b)
	default:
		text, err := json.Marshal(b)
		if err != nil {
			c.t.Fatal(err)
		}
		in = bytes.NewReader(text)
	}
	req, err := http.NewRequest(method, c.base+path, in)
	if err != nil {
		c.t.Fatal(err)
	}
	req.Header.Set("Authorization", "Bearer "+c.token)
	if in != nil {
		req.Header.Set("Content-Type", "application/scim+json")
	}
	for i := 0; i+1 < len(head); i += 2 {
		req.Header.Set(head[i], head[i+1])
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		c.t.Error(err)
		return 0, nil, nil
	}
	defer resp.Body.Close()
	text, _ := io.ReadAll(resp.Body)
	var out map[string]any
	if len(text) > 0 {
		if t := resp.Header.Get("Content-Type"); t != "application/scim+json" {
			c.t.Errorf("%s %s: it is %s", method, path, t)
		}
		if err := json.Unmarshal(text, &out); err != nil {
			c.t.Errorf("%s %s: %v: %s", method, path, err, text)
		}
	}
	if resp.StatusCode >= 400 && (out["status"] != fmt.Sprint(resp.StatusCode) || out["detail"] == "" ||
		fmt.Sprint(out["schemas"]) != "[urn:ietf:params:scim:api:messages:2.0:Error]") {
		c.t.Errorf("%s %s: %d is no error as RFC 7644 §3.12 has it: %s", method, path, resp.StatusCode, text)
	}
	return resp.StatusCode, out, resp.Header
}

const scimUser = "urn:ietf:params:scim:schemas:core:2.0:User"

func user(name string, more ...any) map[string]any {
	u := map[string]any{"schemas": []string{scimUser}, "userName": name}
	for i := 0; i+1 < len(more); i += 2 {
		u[more[i].(string)] = more[i+1]
	}
	return u
}

// TestFeedOverTheNetwork speaks SCIM as a partner's system would: discovery, paging, filters, sorting, parts of users, versions, changes,
// wrong requests, many at once; and follows it in the client and the console.
func TestFeedOverTheNetwork(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	var told struct {
		Token string `json:"token"`
		Feed  struct {
			URL string `json:"url"`
		} `json:"feed"`
	}
	if err := json.Unmarshal([]byte(r.must("feed", "token", "sandrill", "--why", "for the test", "-o", "json")), &told); err != nil {
		t.Fatal(err)
	}
	c := &scimClient{t, told.Feed.URL, told.Token}

	// Discovery.
	_, config, _ := c.send("GET", "/ServiceProviderConfig", nil)
	if config["patch"].(map[string]any)["supported"] != true || config["bulk"].(map[string]any)["supported"] != false ||
		config["filter"].(map[string]any)["maxResults"] != 1000.0 {
		t.Errorf("what it can do: %v", config)
	}
	if _, x, _ := c.send("GET", "/ResourceTypes/User", nil); x["endpoint"] != "/Users" || x["schema"] != scimUser {
		t.Errorf("kinds: %v", x)
	}
	if _, x, _ := c.send("GET", "/Schemas", nil); x["totalResults"] != 2.0 {
		t.Errorf("schemas: %v", x)
	}
	if _, x, _ := c.send("GET", "/Schemas/"+scimUser, nil); x["name"] != "User" || len(x["attributes"].([]any)) != 21 {
		t.Errorf("the schema of users: %v", x["attributes"])
	}
	for path, want := range map[string]int{"/Schemas?filter=id%20pr": 403, "/Schemas/urn:none": 404, "/Me": 501, "/Bulk": 501, "/Groups": 404,
		"/Users/none": 404} {
		if got, _, _ := c.send("GET", path, nil); got != want {
			t.Errorf("%s: %d, want %d", path, got, want)
		}
	}
	for token, want := range map[string]int{"": 401, "wxl_wrong": 401} {
		if got, _, head := (&scimClient{t, c.base, token}).send("GET", "/Users", nil); got != want || head.Get("WWW-Authenticate") == "" {
			t.Errorf("with %q: %d", token, got)
		}
	}

	// A life: made, read, asked whether it changed, changed, replaced, taken away.
	status, ada, head := c.send("POST", "/Users", user("Ada.Low@sandrill.example", "displayName", "Ada Low", "active", true, "emails",
		[]any{map[string]any{"value": "ada.low@sandrill.example", "type": "work", "primary": true}}))
	id, _ := ada["id"].(string)
	if status != 201 || head.Get("Location") != c.base+"/Users/"+id || head.Get("ETag") != `W/"1"` ||
		ada["meta"].(map[string]any)["version"] != `W/"1"` {
		t.Fatalf("made: %d %v %v", status, ada, head)
	}
	if status, x, _ := c.send("POST", "/Users", user("ada.low@sandrill.example")); status != 409 || x["scimType"] != "uniqueness" {
		t.Errorf("twice: %d %v", status, x)
	}
	if status, _, _ := c.send("GET", "/Users/"+id, nil, "If-None-Match", `W/"1"`); status != 304 {
		t.Errorf("not changed: %d", status)
	}
	patch := func(ops string, head ...string) (int, map[string]any, http.Header) {
		return c.send("PATCH", "/Users/"+id, `{"schemas":["urn:ietf:params:scim:api:messages:2.0:PatchOp"],"Operations":[`+ops+`]}`, head...)
	}
	if status, x, head := patch(`{"op":"replace","path":"name.familyName","value":"Low"}`, "If-Match", `W/"1"`); status != 200 ||
		x["name"].(map[string]any)["familyName"] != "Low" || head.Get("ETag") != `W/"2"` {
		t.Errorf("changed: %d %v", status, x)
	}
	if status, _, _ := patch(`{"op":"replace","path":"title","value":"Mate"}`, "If-Match", `W/"1"`); status != 412 {
		t.Errorf("an old version: %d", status)
	}
	if status, x, _ := patch(`{"op":"replace","path":"id","value":"x"}`); status != 400 || x["scimType"] != "mutability" {
		t.Errorf("what cannot be changed: %d %v", status, x)
	}
	if status, x, _ := c.send("PUT", "/Users/"+id, user("ada.low@sandrill.example", "title", "Mate")); status != 200 ||
		x["displayName"] != nil || x["title"] != "Mate" {
		t.Errorf("replaced: %d %v", status, x)
	}
	if status, x, _ := c.send("GET", "/Users/"+id+"?attributes=title", nil); status != 200 || x["userName"] != nil || x["title"] != "Mate" ||
		x["id"] != id {
		t.Errorf("a part: %d %v", status, x)
	}
	for body, want := range map[string]string{`{`: "invalidSyntax", `{"schemas":["` + scimUser + `"]}`: "invalidValue",
		`{"schemas":["` + scimUser + `"],"userName":"a@elsewhere.example"}`: "invalidValue"} {
		if status, x, _ := c.send("POST", "/Users", body); status != 400 || x["scimType"] != want {
			t.Errorf("%s: %d %v", body, status, x)
		}
	}
	if status, _, _ := c.send("POST", "/Users", "x", "Content-Type", "text/plain"); status != 415 {
		t.Errorf("text: %d", status)
	}
	if status, _, _ := c.send("POST", "/Users", strings.Repeat("x", 2<<20)); status != 413 {
		t.Errorf("too large: %d", status)
	}

	// Many at once, none twice; then pages, filters and orders.
	var all sync.WaitGroup
	var lock sync.Mutex
	got := map[int]int{}
	for i := range 60 {
		all.Go(func() {
			status, _, _ := c.send("POST", "/Users", user(fmt.Sprintf("p%02d@sandrill.example", i/2), "displayName", fmt.Sprintf("Person %02d", i/2),
				"title", []string{"Mate", "Cook"}[i/2%2]))
			lock.Lock()
			got[status]++
			lock.Unlock()
		})
	}
	all.Wait()
	if got[201] != 30 || got[409] != 30 {
		t.Errorf("of sixty of thirty: %v", got)
	}
	seen := map[string]bool{}
	for start := 1; ; {
		_, x, _ := c.send("GET", fmt.Sprintf("/Users?startIndex=%d&count=7", start), nil)
		list, _ := x["Resources"].([]any)
		for _, u := range list {
			seen[u.(map[string]any)["id"].(string)] = true
		}
		if start += len(list); len(list) < 7 {
			if x["totalResults"] != float64(len(seen)) {
				t.Errorf("pages hold %d of %v", len(seen), x["totalResults"])
			}
			break
		}
	}
	for q, want := range map[string]string{
		"filter=userName%20eq%20%22P05@Sandrill.example%22":                                                     "1 p05@sandrill.example",
		"filter=title%20eq%20%22cook%22%20and%20displayName%20sw%20%22person%200%22&count=2&sortBy=displayName": "5 p01@sandrill.example p03@sandrill.example",
		"filter=title%20eq%20%22cook%22&sortBy=userName&sortOrder=descending&count=2":                           "15 p29@sandrill.example p27@sandrill.example",
		"filter=title%20eq%20%22cook%22&sortBy=userName&startIndex=15":                                          "15 p29@sandrill.example",
		"filter=externalId%20eq%20%22none%22":                                                                   "0",
		"filter=id%20eq%20%22" + id + "%22":                                                                     "1 ada.low@sandrill.example",
		"count=0":                                                                                               fmt.Sprint(len(seen)),
		"filter=title%20eq%20%22cook%22&count=1&startIndex=100":                                                 "15",
	} {
		_, x, _ := c.send("GET", "/Users?"+q, nil)
		show := fmt.Sprint(x["totalResults"])
		list, _ := x["Resources"].([]any)
		for _, u := range list {
			show += " " + u.(map[string]any)["userName"].(string)
		}
		if show != want {
			t.Errorf("%s: %s, want %s", q, show, want)
		}
	}
	if _, x, _ := c.send("POST", "/Users/.search", map[string]any{"schemas": []string{"urn:ietf:params:scim:api:messages:2.0:SearchRequest"},
		"filter": `title eq "cook"`, "count": 1, "attributes": []string{"userName"}}); x["totalResults"] != 15.0 ||
		len(x["Resources"].([]any)[0].(map[string]any)) != 3 {
		t.Errorf("a search: %v", x)
	}
	for q, want := range map[string]string{"filter=userName%20eq": "invalidFilter", "count=x": "invalidValue", "sortBy=name": "invalidPath",
		"sortBy=title&sortOrder=up": "invalidValue", "attributes=title&excludedAttributes=name": "invalidValue"} {
		if status, x, _ := c.send("GET", "/Users?"+q, nil); status != 400 || x["scimType"] != want {
			t.Errorf("%s: %d %v", q, status, x)
		}
	}
	// Another partner's feed sees none of them.
	if err := json.Unmarshal([]byte(r.must("feed", "begin", "tholemere", "--why", "to see", "-o", "json")), &told); err != nil {
		t.Fatal(err)
	}
	other := &scimClient{t, c.base, told.Token}
	if _, x, _ := other.send("GET", "/Users", nil); x["totalResults"] != 0.0 {
		t.Errorf("another's people: %v", x)
	}
	if status, _, _ := other.send("DELETE", "/Users/"+id, nil); status != 403 && status != 404 {
		t.Errorf("another's: %d", status)
	}
	if status, _, _ := other.send("POST", "/Users", user("x@tholemere.example")); status != 403 {
		t.Errorf("whose rule is off: %d", status)
	}

	// In the console: what it would do, a few first, then all; what it tells then comes at once.
	p := r.page(browser(t), "harbour")
	p.goTo("/feeds", "document.querySelector('main table')")
	p.axe("feeds")
	p.picture("feeds")
	p.presses("main table", "Sandrill Museums League")
	p.until("document.querySelectorAll('[aria-labelledby=h-told] tbody tr').length > 30")
	p.picture("feed")
	p.axe("feed")
	text := p.text("main")
	for _, want := range []string{"is here already: taken over", "▼ closed: suspended", "+ a record is made", "is told of already, as"} {
		if !strings.Contains(text, want) {
			t.Errorf("the page lacks %q: %s", want, text)
		}
	}
	p.presses("main", "Bring them in")
	p.until("document.querySelector('#fd-apply-why')")
	p.fill("#fd-apply-why", "it looks right")
	p.presses(".modal", "Bring in 3")
	p.until("document.querySelector('.modal [role=status]')?.innerText.includes('wait.')")
	p.picture("feed-few")
	eval[any](p, "document.querySelector('#fd-all').click()")
	p.presses(".modal", "Bring in all")
	p.until("document.querySelector('.modal [role=status]')?.innerText.includes(' 0 wait.')")
	p.presses(".modal", "Close")
	p.presses("main", "Change")
	p.until("document.querySelector('#fd-state')")
	p.fill("#fd-state", "on")
	p.fill("#fd-change-why", "what it did is right")
	p.presses(".modal", "Save")
	p.until("!document.querySelector('.modal') && document.querySelector('main').innerText.includes('on; ')")
	p.picture("feed-on")
	r.says(0, "suspended", "guest", "show", "viggo.oakhaven@sandrill.example")
	r.says(0, "invited, fed", "guest", "show", "nils.carrowby@sandrill.example")
	if status, _, _ := c.send("DELETE", "/Users/"+id, nil); status != 204 {
		t.Errorf("taken away: %d", status)
	}
	if status, _, _ := c.send("GET", "/Users/"+id, nil); status != 404 {
		t.Errorf("taken away, and there: %d", status)
	}
	r.says(0, "suspended", "guest", "show", "ada.low@sandrill.example")
	r.says(3, "NO", "ask", "ada.low@sandrill.example", "directory.sign_in", "directory:ours")
	r.says(0, "▼ taken away", "feed", "log", "sandrill")
	r.says(0, "has ended", "feed", "end", "tholemere", "--why", "it was to see")
}
