package e2e

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"maps"
	"math/rand/v2"
	"mime"
	"net/http"
	"net/http/httptest"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"wexillum.example/internal/demo"
	"wexillum.example/internal/operations"
)

// served is the contract as the service serves it, read as a stranger would: an OpenAPI 3.1 document, whose schemas
// are JSON Schema.
type served struct {
	lock    sync.Mutex // the compiler is one's at a time
	doc     map[string]any
	schemas *jsonschema.Compiler
}

func contractOf(t *testing.T, r *running) *served {
	t.Helper()
	status, _, text := r.call("GET", "/api/v1/openapi.yaml", "", "")
	if status != 200 {
		t.Fatalf("the contract: %d", status)
	}
	s, err := readContract([]byte(text))
	check(t, err)
	return s
}

func readContract(text []byte) (*served, error) {
	var doc any
	if err := yaml.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	b, err := json.Marshal(doc)
	if err == nil {
		doc, err = jsonschema.UnmarshalJSON(bytes.NewReader(b))
	}
	if err != nil {
		return nil, err
	}
	c := jsonschema.NewCompiler()
	c.AssertFormat()
	return &served{doc: doc.(map[string]any), schemas: c}, c.AddResource("contract.json", doc)
}

// written is the contract as it is written, against which every call of these tests is held.
var written = sync.OnceValues(func() (*served, error) {
	text, err := os.ReadFile("../api/served.gen.yaml")
	if err != nil {
		return nil, err
	}
	return readContract(text)
})

// holds says where an answer is not what the contract says.
func holds(t *testing.T, req *http.Request, status int, header http.Header, body string) {
	t.Helper()
	s, err := written()
	check(t, err)
	o, _ := operations.Match(req.Method, req.URL)
	if o == nil || status >= 500 || status == http.StatusMethodNotAllowed {
		return
	}
	if wrong := s.fits(o, status, header, body); wrong != "" {
		t.Errorf("%s %s: %d: %s\n%.1000s", req.Method, req.URL, status, wrong, body)
	}
}

// follow takes a reference to what it stands for, and says where that is.
func (s *served) follow(x any, where string) (map[string]any, string) {
	m, _ := x.(map[string]any)
	to, ok := m["$ref"].(string)
	if !ok {
		return m, where
	}
	var at any = s.doc
	for _, part := range strings.Split(strings.TrimPrefix(to, "#/"), "/") {
		at = at.(map[string]any)[part]
	}
	return at.(map[string]any), strings.TrimPrefix(to, "#")
}

// operation returns what the contract says of one operation, its parameters resolved.
func (s *served) operation(o *operations.Operation) (op map[string]any, parameters []map[string]any) {
	path := s.doc["paths"].(map[string]any)[o.Pattern].(map[string]any)
	op = path[strings.ToLower(o.Method)].(map[string]any)
	byName := map[string]map[string]any{}
	for _, of := range []any{path["parameters"], op["parameters"]} {
		list, _ := of.([]any)
		for _, x := range list {
			p, _ := s.follow(x, "")
			byName[p["in"].(string)+" "+p["name"].(string)] = p
		}
	}
	for _, k := range slices.Sorted(maps.Keys(byName)) {
		parameters = append(parameters, byName[k])
	}
	return op, parameters
}

// fits reports how an answer is not what the contract says of it; empty where it is.
func (s *served) fits(o *operations.Operation, status int, header http.Header, body string) string {
	op, _ := s.operation(o)
	code := fmt.Sprint(status)
	said, ok := op["responses"].(map[string]any)[code]
	if !ok {
		return "the contract does not say that it answers " + code
	}
	where := "/paths/" + strings.NewReplacer("~", "~0", "/", "~1").Replace(o.Pattern) + "/" + strings.ToLower(o.Method) + "/responses/" + code
	is, where := s.follow(said, where)
	content, _ := is["content"].(map[string]any)
	if len(content) == 0 {
		if body != "" {
			return "the contract says that it holds nothing"
		}
		return ""
	}
	kind, _, err := mime.ParseMediaType(header.Get("Content-Type"))
	if err != nil {
		return "its kind of content: " + err.Error()
	}
	if content[kind] == nil {
		return fmt.Sprintf("it is %s, and the contract says %v", kind, slices.Sorted(maps.Keys(content)))
	}
	if !strings.HasSuffix(kind, "json") || content[kind].(map[string]any)["schema"] == nil {
		return ""
	}
	s.lock.Lock()
	schema, err := s.schemas.Compile("contract.json#" + url.PathEscape(where+"/content/"+strings.ReplaceAll(kind, "/", "~1")+"/schema"))
	s.lock.Unlock()
	if err != nil {
		return err.Error()
	}
	values := []string{body}
	if kind == "application/x-ndjson" {
		values = strings.Split(strings.TrimSuffix(body, "\n"), "\n")
	}
	for _, v := range values {
		x, err := jsonschema.UnmarshalJSON(strings.NewReader(v))
		if err != nil {
			return "it is no JSON: " + err.Error()
		}
		if err := schema.Validate(x); err != nil {
			return err.Error()
		}
	}
	return ""
}

// sent is one request, as the contract's examples write it.
type sent struct {
	Of                  string
	Path, Query, Header map[string]any
	Body                any
	Keep                map[string]string
	As                  string
	Status              int
}

// callers send requests as somebody: with a token, or with a guest's session.
type callers struct {
	r      *running
	tokens map[string]string
	guest  *http.Client
	csrf   string
}

func (c *callers) send(o *operations.Operation, x *sent) (int, http.Header, string) {
	c.r.t.Helper()
	path := o.Pattern
	for k, v := range x.Path {
		path = strings.ReplaceAll(path, "{"+k+"}", url.PathEscape(fmt.Sprint(v)))
	}
	q := url.Values{}
	for k, v := range x.Query {
		list, ok := v.([]any)
		if !ok {
			list = []any{v}
		}
		for _, one := range list {
			q.Add(k, fmt.Sprint(one))
		}
	}
	if len(q) > 0 {
		path += "?" + q.Encode()
	}
	kind, body := "", ""
	switch b := x.Body.(type) {
	case nil:
	case string:
		kind, body = "text/csv", b
	default:
		text, err := json.Marshal(b)
		check(c.r.t, err)
		kind, body = "application/json", string(text)
	}
	req, err := http.NewRequest(o.Method, c.r.url+path, strings.NewReader(body))
	check(c.r.t, err)
	if kind != "" {
		if kind == "text/csv" && strings.HasPrefix(o.Pattern, "/api/v1/world") {
			kind = "application/yaml"
		}
		if o.Method == "PATCH" {
			kind = "application/merge-patch+json"
		}
		req.Header.Set("Content-Type", kind)
	}
	for k, v := range x.Header {
		if text := fmt.Sprint(v); !strings.ContainsFunc(text, func(c rune) bool { return c < ' ' || c > '~' }) {
			req.Header.Set(k, text)
		}
	}
	client := &http.Client{CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse }}
	if x.As == "guest" {
		client = c.guest
		req.Header.Set("X-CSRF-Token", c.csrf)
	} else if token := c.tokens[x.As]; token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := client.Do(req)
	check(c.r.t, err)
	defer resp.Body.Close()
	if o.ID == "changes" && resp.StatusCode == 200 { // a stream never ends by itself
		return resp.StatusCode, resp.Header, "x"
	}
	b, err := io.ReadAll(resp.Body)
	check(c.r.t, err)
	return resp.StatusCode, resp.Header, string(b)
}

// everybody sets up a demo with everybody who calls: an administrator, a member and a guest.
func everybody(t *testing.T) (*running, *callers, map[string]string) {
	t.Helper()
	r := demoService(t)
	at, _ := r.withSuite(10 * demo.SuiteFaster)
	c := &callers{r: r, tokens: map[string]string{"": r.token("harbour"), "member": r.token("rigger")}}
	post := r.post()
	c.guest = place(t, "127.0.3.9")
	const who = "maren.holtveig@ilvane.example"
	if status, body := sends(t, c.guest, "POST", r.url+"/api/v1/door/code", `{"address":"`+who+`"}`); status != 202 {
		t.Fatalf("%d %s", status, body)
	}
	code := ""
	for code == "" {
		_, err := r.svc.SendWaiting(t.Context(), post.send)
		check(t, err)
		list, _ := post.Messages()
		for _, m := range list {
			if found := codeIn.FindString(m.Subject); found != "" {
				code = found
			}
		}
	}
	if status, body := sends(t, c.guest, "POST", r.url+"/api/v1/door/prove", `{"address":"`+who+`","code":"`+code+`"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	_, text := sends(t, c.guest, "GET", r.url+"/api/v1/session", "")
	var s struct{ CSRF string }
	check(t, json.Unmarshal([]byte(text), &s))
	c.csrf = s.CSRF
	receiver := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(http.StatusAccepted) }))
	t.Cleanup(receiver.Close)
	return r, c, map[string]string{"receiver": receiver.URL, "parley": at["parley"], "neighbour": demo.NeighbourPartner}
}

// examples reads the examples as they are written.
func examples(t *testing.T) (list []sent, samples map[string]string) {
	t.Helper()
	text, err := os.ReadFile("../api/examples.yaml")
	check(t, err)
	var doc struct {
		Samples  map[string]string
		Examples []sent
	}
	check(t, yaml.Unmarshal(text, &doc))
	return doc.Examples, doc.Samples
}

// filled puts what was kept into an example.
func filled(t *testing.T, x sent, kept map[string]string) sent {
	t.Helper()
	b, err := json.Marshal(x)
	check(t, err)
	var pairs []string
	for k, v := range kept {
		pairs = append(pairs, "{"+k+"}", v)
	}
	var out sent
	check(t, json.Unmarshal([]byte(strings.NewReplacer(pairs...).Replace(string(b))), &out))
	return out
}

// callable lists every operation but those that end the session or token that calls.
func callable() (out []operations.Operation) {
	for _, o := range operations.All() {
		if o.ID != "endOwnSessions" && o.ID != "signOut" && o.ID != "ownLeave" {
			out = append(out, o)
		}
	}
	return
}

// TestContractExamples sends the example of every operation, and everything that needs none: each is answered as the
// contract says, down to the fields of the answer.
func TestContractExamples(t *testing.T) {
	t.Parallel()
	r, c, kept := everybody(t)
	s := contractOf(t, r)
	list, samples := examples(t)
	called := map[string]bool{}
	try := func(o *operations.Operation, x sent) {
		t.Helper()
		called[o.ID] = true
		status, header, body := c.send(o, &x)
		if x.Status != 0 && status != x.Status || x.Status == 0 && status/100 != 2 && !(o.ID == "doorBack" && status == 302) {
			t.Errorf("%s: %d %.600s", o.ID, status, body)
			return
		}
		if wrong := s.fits(o, status, header, body); wrong != "" {
			t.Errorf("%s: %d: %s\n%.800s", o.ID, status, wrong, body)
		}
		for name, field := range x.Keep {
			var out any
			_ = json.Unmarshal([]byte(body), &out)
			for _, part := range strings.Split(field, ".") {
				switch v := out.(type) {
				case map[string]any:
					out = v[part]
				case []any:
					if i, err := strconv.Atoi(part); err == nil && i < len(v) {
						out = v[i]
					}
				}
			}
			if out == nil {
				t.Errorf("%s answers no %s: %.300s", o.ID, field, body)
			}
			kept[name] = fmt.Sprint(out)
		}
	}
	byID := map[string]*operations.Operation{}
	ops := operations.All()
	for i := range ops {
		byID[ops[i].ID] = &ops[i]
	}
	for _, x := range list {
		for name, sample := range samples {
			if kept[name] == "" && name != "draft" {
				kept[name] = sample
			}
		}
		try(byID[x.Of], filled(t, x, kept))
	}
	ending := []string{"signOut", "endOwnSessions"}
	for i := range ops {
		if o := &ops[i]; !called[o.ID] && !slices.Contains(ending, o.ID) && o.ID != "ownLeave" {
			x := sent{}
			if o.Has("guest") && len(o.Roles) == 1 {
				x.As = "guest"
			}
			try(o, x)
		}
	}
	try(byID["ownLeave"], sent{As: "guest"})
	for _, id := range ending {
		c.tokens[""] = r.token("lantern")
		try(byID[id], sent{})
	}
	if len(called) != len(ops) {
		t.Errorf("%d of %d operations were called", len(called), len(ops))
	}
}

var (
	contractRounds = flag.Int("contract-rounds", 8, "how often every operation is sent something")
	contractSeed   = flag.Uint64("contract-seed", 0, "repeats what was sent once")
)

// TestContractFuzzed sends every operation what is almost right, and what is not at all: it never answers with an error of
// ours, and only as the contract says.
func TestContractFuzzed(t *testing.T) {
	t.Parallel()
	seed := *contractSeed
	if seed == 0 {
		seed = uint64(time.Now().UnixNano())
	}
	defer func() {
		if t.Failed() {
			t.Logf("seed %d", seed)
		}
	}()
	random := rand.New(rand.NewPCG(seed, 0))
	r, c, _ := everybody(t)
	s := contractOf(t, r)
	list, samples := examples(t)
	byOf := map[string]sent{}
	for _, x := range list {
		byOf[x.Of] = filled(t, x, samples)
	}
	rounds := *contractRounds
	ops := callable()
	good := 0
	for range rounds {
		for i := range ops {
			o := &ops[i]
			x := byOf[o.ID]
			x.Path, x.Query, x.Header = maps.Clone(x.Path), maps.Clone(x.Query), maps.Clone(x.Header)
			if o.Has("guest") && len(o.Roles) == 1 {
				x.As = "guest"
			}
			if x.As == "member" {
				x.As = ""
			}
			_, parameters := s.operation(o)
			s.spoil(random, &x, parameters)
			status, header, body := c.send(o, &x)
			if status/100 == 2 {
				good++
			}
			if status == 401 && (o.ID == "changeAccount" || o.ID == "endSessions") {
				c.tokens[""] = r.token("harbour")
			}
			wrong := s.fits(o, status, header, body)
			if status >= 500 {
				wrong = "an error of ours"
			}
			if wrong != "" {
				sentBody, _ := json.Marshal(x.Body)
				t.Errorf("%s path %q query %q header %q body %.400s\n%d: %s\n%.600s", o.Key(), x.Path, x.Query, x.Header, sentBody, status, wrong, body)
			}
		}
	}
	if all := rounds * len(ops); good < all/10 || good > all*9/10 {
		t.Errorf("%d of %d requests were good: too few or too many to say something", good, all)
	}
}

var odd = []string{"", " ", "x", "none", "0", "-1", "99999999999999999999", "+30d", "2026-02-30", "a@b.example", "space:none",
	"space:loan-dossier", "person:d.ekwinter", "partner:ilvane", "%", "../..", "a/b", "ünïcode", "\u202eabc", "\x00", "\n",
	strings.Repeat("y", 5000), "true", "null", "🜁", "'; drop", "now", "*"}

// spoil changes a request in one or two places.
func (s *served) spoil(random *rand.Rand, x *sent, parameters []map[string]any) {
	for range 1 + random.IntN(2) {
		var of []map[string]any
		for _, p := range parameters {
			if p["in"] != "cookie" {
				of = append(of, p)
			}
		}
		switch n := random.IntN(4); {
		case n == 0: // as it is
		case n == 1 && len(of) > 0:
			p := of[random.IntN(len(of))]
			name, _ := p["name"].(string)
			to := map[string]*map[string]any{"path": &x.Path, "query": &x.Query, "header": &x.Header}[p["in"].(string)]
			if *to == nil {
				*to = map[string]any{}
			}
			(*to)[name] = s.value(random, p["schema"])
			if p["in"] == "path" && (*to)[name] == "" {
				(*to)[name] = "x"
			}
		case x.Body != nil:
			x.Body = s.twist(random, x.Body, 0)
		}
	}
}

// value makes a value for a schema, which often fits.
func (s *served) value(random *rand.Rand, schema any) any {
	is, _ := s.follow(schema, "")
	if list, ok := is["enum"].([]any); ok && random.IntN(3) > 0 {
		return list[random.IntN(len(list))]
	}
	switch is["type"] {
	case "boolean":
		if random.IntN(3) > 0 {
			return random.IntN(2) == 0
		}
	case "integer":
		if random.IntN(3) > 0 {
			return random.IntN(600) - 5
		}
	}
	return odd[random.IntN(len(odd))]
}

// twist changes a body somewhere: takes a field away, adds one, or puts something else in place of a value.
func (s *served) twist(random *rand.Rand, body any, depth int) any {
	other := func() any {
		return []any{nil, true, -1, 1e12, 0.5, odd[random.IntN(len(odd))], odd[random.IntN(len(odd))], []any{}, map[string]any{},
			[]any{"x", nil, 3}, map[string]any{"x": "y"}}[random.IntN(11)]
	}
	switch b := body.(type) {
	case map[string]any:
		out := maps.Clone(b)
		keys := slices.Sorted(maps.Keys(out))
		if len(keys) == 0 {
			return other()
		}
		k := keys[random.IntN(len(keys))]
		switch random.IntN(6) {
		case 0:
			delete(out, k)
		case 1:
			out["unheard_of"] = other()
		default:
			out[k] = s.twist(random, out[k], depth+1)
		}
		return out
	case []any:
		out := slices.Clone(b)
		if len(out) == 0 || random.IntN(4) == 0 {
			return append(out, other())
		}
		i := random.IntN(len(out))
		out[i] = s.twist(random, out[i], depth+1)
		return out
	case string:
		if depth == 0 && random.IntN(2) == 0 { // of a list or a file
			at := random.IntN(len(b) + 1)
			return b[:at] + odd[random.IntN(len(odd))] + b[at:]
		}
		return odd[random.IntN(len(odd))]
	}
	return other()
}
