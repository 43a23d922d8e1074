package e2e

import (
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"net/http"
	"regexp"
	"slices"
	"sort"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/api"
	"wexillum.example/internal/event"
)

// TestEveryRouteForEveryRole calls every route as every role, and as nobody.
// The letters say who may: a administrator, u auditor, k keeper, m member,
// D a token for decisions, M a token for metrics, R one for reading, L one for lists, G one for guests, X one for expectations,
// - nobody signed in.
func TestEveryRouteForEveryRole(t *testing.T) {
	t.Parallel()
	allowed := map[string]string{
		"GET /api/v1/session": "aukm", "POST /api/v1/session": "aukmDMRLGX-", "DELETE /api/v1/session": "aukm",
		"PUT /api/v1/account/password": "aukm", "POST /api/v1/accounts/{name}/sign-out": "a", "DELETE /api/v1/sessions": "aukm",
		"POST /api/v1/tokens": "aukmDMRLGX-", "GET /api/v1/tokens": "aukm", "DELETE /api/v1/tokens/{id}": "aukm",
		"POST /api/v1/service-tokens": "a",
		"GET /api/v1/accounts":        "au", "POST /api/v1/accounts": "a", "PATCH /api/v1/accounts/{name}": "a",
		"POST /api/v1/ask": "aukmDR", "GET /api/v1/reach": "aukmDR", "GET /api/v1/complete": "aukm", "GET /api/v1/overview": "auk",
		"GET /api/v1/actions": "aukmR",
		"GET /api/v1/rules":   "aukR", "GET /api/v1/rules/{rule}": "aukR", "PATCH /api/v1/rules/{rule}": "a",
		"GET /api/v1/partners": "aukR", "POST /api/v1/partners": "a", "GET /api/v1/partners/{id}": "aukR", "PATCH /api/v1/partners/{id}": "a",
		"POST /api/v1/partners/{id}/standing": "a",
		"POST /api/v1/partners/{id}/domains":  "a", "DELETE /api/v1/partners/{id}/domains/{domain}": "a",
		"GET /api/v1/bars": "aukR", "POST /api/v1/bars": "a", "DELETE /api/v1/bars/{key}": "a", "GET /api/v1/domains/test": "aukR",
		"GET /api/v1/choices": "aukm", "GET /api/v1/values/{where}": "aukm", "PUT /api/v1/values/{where}/{rule}": "akm",
		"DELETE /api/v1/values/{where}/{rule}": "akm",
		"GET /api/v1/evidence-plans":           "auk", "POST /api/v1/evidence-plans": "au", "DELETE /api/v1/evidence-plans/{id}": "au",
		"GET /api/v1/evidence": "auk", "POST /api/v1/evidence": "au", "GET /api/v1/evidence/{id}": "auk",
		"GET /api/v1/evidence/{id}/archive": "auk", "GET /api/v1/evidence/{id}/sheet": "auk", "GET /api/v1/evidence/{id}/verification": "auk",
		"GET /api/v1/evidence/{id}/difference": "auk", "POST /api/v1/evidence/{id}/sign-off": "auk",
		"GET /api/v1/history": "aukR", "GET /api/v1/reviews": "aukm", "POST /api/v1/reviews": "ak", "GET /api/v1/reviews/{id}": "aukm",
		"GET /api/v1/reviews/{id}/lines": "aukm", "POST /api/v1/reviews/{id}/answers": "akm", "POST /api/v1/reviews/{id}/end": "ak",
		"GET /api/v1/bundles": "aukmR", "POST /api/v1/bundles": "a", "GET /api/v1/bundles/{id}": "aukR", "PATCH /api/v1/bundles/{id}": "a",
		"DELETE /api/v1/bundles/{id}": "a", "POST /api/v1/holdings/end": "akm", "POST /api/v1/requests/{id}/withdraw": "akm",
		"POST /api/v1/requests/{id}/hand-over": "akm", "GET /api/v1/absences": "aukm", "GET /api/v1/sessions": "aukm",
		"DELETE /api/v1/sessions/{id}": "aukm", "GET /api/v1/account/second-factor": "aukm", "POST /api/v1/account/second-factor": "aukm",
		"POST /api/v1/account/second-factor/confirm": "aukm", "POST /api/v1/account/second-factor/remove": "aukm",
		"POST /api/v1/accounts/{name}/reset-factor": "a", "GET /api/v1/feeds": "auk", "GET /api/v1/partners/{id}/connect": "auk",
		"POST /api/v1/session/again": "aukm", "GET /api/v1/account/passkeys": "aukm", "POST /api/v1/account/passkeys": "aukm",
		"POST /api/v1/account/passkeys/finish": "aukm", "DELETE /api/v1/account/passkeys/{id}": "aukm",
		"GET /api/v1/house-sign-in": "au", "PUT /api/v1/house-sign-in": "a", "DELETE /api/v1/house-sign-in": "a",
		"POST /api/v1/house-sign-in/test": "a", "POST /api/v1/door/passkey": "aukmDMRLGX-",
		"POST /api/v1/door/passkey/proof": "aukmDMRLGX-", "GET /api/v1/door/house": "aukmDMRLGX-",
		"POST /api/v1/door/house": "aukmDMRLGX-", "GET /api/v1/door/house/back": "aukmDMRLGX-", "GET /api/v1/feeds-out": "auk",
		"POST /api/v1/feeds-out": "a", "GET /api/v1/feeds-out/{partner}": "auk", "PATCH /api/v1/feeds-out/{partner}": "a",
		"DELETE /api/v1/feeds-out/{partner}": "a", "POST /api/v1/feeds-out/{partner}/look": "a",
		"GET /api/v1/feeds-out/{partner}/people": "auk", "POST /api/v1/feeds-out/{partner}/send": "a",
		"POST /api/v1/feeds-out/{partner}/release": "a", "GET /api/v1/feeds-out/{partner}/log": "auk",
		"GET /api/v1/partners/{id}/told": "auk", "POST /api/v1/feeds": "a", "GET /api/v1/feeds/{partner}": "auk",
		"PATCH /api/v1/feeds/{partner}": "a", "DELETE /api/v1/feeds/{partner}": "a", "POST /api/v1/feeds/{partner}/token": "a",
		"POST /api/v1/feeds/{partner}/release": "a", "POST /api/v1/feeds/{partner}/apply": "a",
		"GET /api/v1/feeds/{partner}/people": "auk", "GET /api/v1/feeds/{partner}/log": "auk",
		"GET /api/v1/feeds/{partner}/twins": "auk", "POST /api/v1/absences": "akm",
		"DELETE /api/v1/absences/{person}": "akm", "POST /api/v1/door/bundles": "aukmDMRLGX-",
		"POST /api/v1/own/bundles":     "",
		"GET /api/v1/history/audience": "aukR",
		"GET /api/v1/expectations":     "aukRX", "POST /api/v1/expectations": "a", "POST /api/v1/expectations/judge": "aukRX",
		"GET /api/v1/expectations/proposed": "auk", "GET /api/v1/expectations/{id}": "aukRX", "PATCH /api/v1/expectations/{id}": "a",
		"DELETE /api/v1/expectations/{id}": "a",
		"GET /api/v1/exceptions":           "aukR", "POST /api/v1/exceptions": "a", "POST /api/v1/exceptions/import": "a",
		"GET /api/v1/exceptions/{id}": "aukR", "PATCH /api/v1/exceptions/{id}": "a",
		"POST /api/v1/exceptions/{id}/end": "a", "POST /api/v1/exceptions/{id}/prolong": "a", "GET /api/v1/spaces": "aukmR",
		"GET /api/v1/spaces/{id}": "aukmR", "GET /api/v1/people": "aukR", "GET /api/v1/people/{id}": "aukmR",
		"POST /api/v1/places": "akm", "GET /api/v1/patterns": "aukm", "GET /api/v1/people/matrix": "auk", "GET /api/v1/find": "aukm",
		"GET /api/v1/begin": "aukmDMRLGX-", "POST /api/v1/begin": "aukmDMRLGX-", "GET /api/v1/start": "auk", "GET /api/v1/postures": "auk",
		"POST /api/v1/postures/{name}/draft": "ak", "GET /api/v1/settings": "auk", "PATCH /api/v1/settings": "a",
		"GET /api/v1/places/{kind}": "aukmR", "POST /api/v1/journal/{seq}/undo": "akm",
		"GET /api/v1/links": "aukmR", "POST /api/v1/links": "akm", "POST /api/v1/links/{id}/end": "akm", "GET /api/v1/forwarders": "aukR",
		"DELETE /api/v1/forwarders/{person}/{address}": "akm",
		"GET /api/v1/findings":                         "aukR", "POST /api/v1/findings/acceptance": "ak", "DELETE /api/v1/findings/acceptance": "ak",
		"POST /api/v1/would": "aukmRG", "POST /api/v1/check": "aukmRG", "GET /api/v1/halves": "aukR", "GET /api/v1/partners/{id}/letter": "auk",
		"PUT /api/v1/partners/{id}/stances/{key}": "ak", "DELETE /api/v1/partners/{id}/stances/{key}": "ak", "GET /api/v1/dates": "auk",
		"POST /api/v1/dates/release": "a", "POST /api/v1/dates/lift": "a", "POST /api/v1/records/mend": "a",
		"POST /api/v1/partners/{id}/merge": "a", "POST /api/v1/partners/{id}/split": "a", "GET /api/v1/domains": "aukR",
		"POST /api/v1/domains/import": "a", "GET /api/v1/partners/{id}/people": "aukR", "GET /api/v1/partners/{id}/advice": "auk",
		"GET /api/v1/letters": "auk", "POST /api/v1/letters": "ak", "GET /api/v1/letters/{id}": "auk", "POST /api/v1/letters/{id}/close": "ak",
		"GET /api/v1/statement": "auk", "POST /api/v1/statement/keys": "a", "GET /api/v1/partners/{id}/statement": "auk",
		"POST /api/v1/partners/{id}/statement": "ak", "PUT /api/v1/partners/{id}/statement/key": "a",
		"GET /api/v1/audience": "aukmR", "GET /api/v1/board": "auk", "GET /api/v1/diff": "aukmR", "GET /api/v1/report/{what}": "aukmR",
		"POST /access/v1/search/subject": "aukDR", "POST /access/v1/search/resource": "aukDR", "POST /access/v1/search/action": "aukDR",
		"GET /.well-known/wexillum-statement": "aukmDMRLGX-", "GET /.well-known/wexillum-keys": "aukmDMRLGX-",
		"GET /.well-known/wexillum-seal": "aukmDMRLGX-", "GET /api/v1/journal/seal": "auR",
		"GET /api/v1/world": "auR", "POST /api/v1/world": "a", "POST /api/v1/world/differs": "auR", "GET /api/v1/journal": "aukR",
		"GET /api/v1/journal/verification": "auR", "GET /api/v1/changes": "aukmR",
		"POST /access/v1/evaluation": "aukDR", "POST /access/v1/evaluations": "aukDR", "GET /.well-known/authzen-configuration": "aukmDMRLGX-",
		"GET /api/v1/openapi.yaml": "aukmDMRLGX-",
		"GET /api/v1/numbers":      "aukR", "GET /api/v1/numbers/lines": "aukR", "GET /api/v1/rules/{rule}/audience": "aukR",
		"GET /api/v1/due": "aukmR", "GET /api/v1/due/days": "aukmR", "POST /api/v1/due/supposing": "aukm", "GET /api/v1/guests": "aukmRG",
		"GET /api/v1/guests/{address}": "aukmRG", "POST /api/v1/guests/changes": "akmG", "POST /api/v1/guests/merge": "ak",
		"POST /api/v1/invitations": "akmG", "POST /api/v1/people/{id}/leaving": "ak", "GET /api/v1/offers": "aukm",
		"POST /api/v1/offers/{id}/answer": "akm", "GET /api/v1/wishes": "aukm", "POST /api/v1/wishes/{address}/answer": "akm",
		"GET /api/v1/outbox": "auk", "POST /api/v1/outbox/{id}/again": "ak", "GET /api/v1/lists": "aukRLG", "GET /api/v1/lists/{what}": "aukRLG",
		"POST /api/v1/lists/{what}": "akG",
		"GET /api/v1/door":          "aukmDMRLGX-", "POST /api/v1/door/open": "aukmDMRLGX-", "POST /api/v1/door/code": "aukmDMRLGX-",
		"POST /api/v1/door/prove": "aukmDMRLGX-", "POST /api/v1/door/sign-up": "aukmDMRLGX-", "POST /api/v1/door/partner": "aukmDMRLGX-",
		"GET /api/v1/door/back": "aukmDMRLGX-",
		"GET /api/v1/own":       "", "POST /api/v1/own/accept": "", "POST /api/v1/own/more": "", "POST /api/v1/own/language": "",
		"POST /api/v1/own/leave": "", "GET /api/v1/requests": "aukm", "POST /api/v1/requests": "akm", "GET /api/v1/requests/{id}": "aukm",
		"POST /api/v1/requests/{id}/answer": "akm", "POST /api/v1/requests/{id}/draft": "ak", "POST /api/v1/requests/{id}/heard": "akm",
		"POST /api/v1/requests/{id}/do": "akm", "GET /api/v1/settings/terms": "auk",
		"GET /api/v1/could": "aukR", "POST /api/v1/could/way": "aukR", "POST /api/v1/could/cuts": "auk", "POST /api/v1/could/cuts/draft": "ak",
		"GET /api/v1/spare": "auk", "POST /api/v1/spare/draft": "ak",
		"POST /api/v1/remedies": "aukm", "POST /api/v1/remedies/draft": "ak",
		"GET /api/v1/drafts": "auk", "POST /api/v1/drafts": "ak", "GET /api/v1/drafts/{id}": "auk", "POST /api/v1/drafts/{id}/drop": "ak",
		"POST /api/v1/drafts/{id}/keep": "ak", "POST /api/v1/drafts/{id}/restore": "ak", "GET /api/v1/two-people": "auk",
		"PUT /api/v1/two-people": "a", "POST /api/v1/drafts/{id}/undo": "ak", "POST /api/v1/drafts/{id}/settle": "ak",
		"GET /api/v1/drafts/{id}/impact": "auk", "GET /api/v1/drafts/{id}/impact/lines": "auk", "POST /api/v1/drafts/{id}/publish": "a",
		"POST /api/v1/drafts/{id}/confirm": "a", "POST /api/v1/drafts/{id}/withdraw": "ak",
		"GET /api/v1/revisions": "aukR", "GET /api/v1/revisions/{number}": "aukR", "POST /api/v1/revisions/{number}/back": "a",
		"GET /api/v1/systems": "aukR", "POST /api/v1/systems": "a", "GET /api/v1/dialects": "auk", "GET /api/v1/systems/{id}": "aukR",
		"PATCH /api/v1/systems/{id}": "a", "DELETE /api/v1/systems/{id}": "a", "POST /api/v1/systems/{id}/read": "ak",
		"POST /api/v1/systems/{id}/take-over": "ak", "POST /api/v1/systems/{id}/settings/{path}": "a",
		"GET /api/v1/systems/{id}/records": "aukR", "POST /api/v1/systems/{id}/records": "ak", "GET /api/v1/trials": "aukR",
		"POST /api/v1/trials": "ak", "POST /api/v1/systems/{id}/try": "ak",
		"GET /api/v1/help": "aukm", "GET /api/v1/help/page": "aukm", "GET /api/v1/webhooks": "au", "POST /api/v1/webhooks": "a",
		"PATCH /api/v1/webhooks/{id}": "a", "DELETE /api/v1/webhooks/{id}": "a", "POST /api/v1/webhooks/{id}/try": "a",
		"GET /metrics": "auM", "GET /healthz": "aukmDMRLGX-", "GET /readyz": "aukmDMRLGX-", "GET /readyz/decisions": "aukmDMRLGX-",
	}
	have := api.Patterns()
	var want []string
	for p := range allowed {
		want = append(want, p)
	}
	sort.Strings(want)
	if fmt.Sprint(have) != fmt.Sprint(want) {
		t.Fatalf("served\n%v\nexpected\n%v", have, want)
	}
	r := demoService(t)
	tokens := map[string]string{"a": r.token("harbour"), "u": r.token("lantern"), "k": r.token("mooring"), "m": r.token("rigger"), "-": ""}
	for letter, purpose := range map[string]string{"D": "decisions", "M": "metrics", "R": "reading", "L": "lists", "G": "guests",
		"X": "expectations"} {
		status, _, body := r.call("POST", "/api/v1/service-tokens", tokens["a"], `{"name":"probe","purpose":"`+purpose+`","days":1}`)
		var x struct{ Token string }
		if status != 201 || json.Unmarshal([]byte(body), &x) != nil {
			t.Fatalf("%d %s", status, body)
		}
		tokens[letter] = x.Token
	}
	fill := strings.NewReplacer("/api/v1/check", "/api/v1/check?into=space:low-water-design&as=d.ekwinter", "/spaces/{id}",
		"/spaces/low-water-design", "/people/{id}", "/people/d.ekwinter", "{where}", "space:low-water-design", "{person}", "d.ekwinter",
		"{address}", "x@none.example", "{number}", "1", "{id}", "none", "{what}", "guests", "{name}", "x", "{rule}", "none.none", "{domain}",
		"none.example", "{key}", "none.example")
	// The same with a slash encoded in every parameter: what the router matches is what is guarded.
	encoded := regexp.MustCompile(`\{\w+\}`)
	paths := map[string]string{} // pattern and path
	for pattern := range allowed {
		_, path, _ := strings.Cut(pattern, " ")
		paths[pattern+" "+path] = pattern
		if other := encoded.ReplaceAllString(path, "a%2Fb"); other != path {
			paths[pattern+" "+strings.Replace(other, "/values/a%2Fb", "/values/space:a%2Fb", 1)] = pattern
		}
	}
	order := slices.Sorted(maps.Keys(paths))
	last := "DELETE /api/v1/sessions /api/v1/sessions" // it ends the tokens
	order = append(slices.DeleteFunc(order, func(s string) bool { return s == last }), last)
	for _, called := range order {
		pattern := paths[called]
		who := allowed[pattern]
		method, path := strings.Fields(pattern)[0], strings.TrimPrefix(called, pattern+" ")
		for _, letter := range slices.Sorted(maps.Keys(tokens)) {
			token := tokens[letter]
			call := r.call
			if path == "/api/v1/changes" {
				call = r.opens // it never ends by itself
			}
			to := fill.Replace(path)
			if letter == "k" { // keepers set values at partners, in drafts; members in their spaces
				to = strings.NewReplacer("/values/space:low-water-design", "/values/partner:pallowick", "/values/space:a%2Fb",
					"/values/partner:a%2Fb").Replace(to)
			}
			if letter == "k" && method != "GET" && strings.Contains(path, "/values/") {
				if status, _, body := call(method, to, token, `{"value":"off"}`); status != 403 ||
					!strings.Contains(body, "keepers change policy in a draft") {
					t.Errorf("%s as a keeper outside a draft: %d %s", pattern, status, body)
				}
				continue
			}
			status, header, body := call(method, to, token, "{}")
			denied := status == 401 && !strings.Contains(body, "/problems/denied") ||
				status == 403 && (!strings.Contains(to, "%2F") || letter != "m" && letter != "G" || strings.Contains(body, "the role ") ||
					strings.Contains(body, "a token for guests may not ")) // what members may is asked of the thing itself, too
			if denied == strings.Contains(who, letter) {
				t.Errorf("%s %s as %s: %d %s", pattern, to, letter, status, body)
			}
			if letter == "-" && denied && status != 401 || letter != "-" && denied && status != 403 {
				t.Errorf("%s as %s: %d", pattern, letter, status)
			}
			if status >= 400 && header.Get("Content-Type") != "application/problem+json" {
				t.Errorf("%s as %s: %d is %s, no problem: %s", pattern, letter, status, header.Get("Content-Type"), body)
			}
			if status >= 500 {
				t.Errorf("%s as %s: %d %s", pattern, letter, status, body)
			}
		}
	}
}

// TestAuthzen asks as a gateway would.
func TestAuthzen(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("lantern")
	ask := func(path, body string) map[string]any {
		t.Helper()
		status, header, text := r.call("POST", path, token, body, "X-Request-ID", "quay-7")
		var out map[string]any
		if status != 200 || json.Unmarshal([]byte(text), &out) != nil || header.Get("X-Request-ID") != "quay-7" {
			t.Fatalf("%d %v %s", status, header, text)
		}
		return out
	}
	enter := `"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"}`
	maren, ulla := `"subject":{"type":"party","id":"maren.holtveig@ilvane.example"}`,
		`"subject":{"type":"party","id":"u.vexley@marrowby.example"}`
	at := time.Now().UTC().AddDate(0, 0, -1).Format(time.RFC3339)
	x := ask("/access/v1/evaluation", "{"+maren+","+enter+`,"context":{"time":"noon","at":"`+at+`"}}`)
	c := x["context"].(map[string]any)
	if x["decision"] != true || c["account"] != "record" || c["at"] != at || len(c["gates"].([]any)) != 7 || c["revision"] != float64(1) {
		t.Errorf("%v", x)
	}
	x = ask("/access/v1/evaluation", "{"+ulla+","+enter+"}")
	gate := x["context"].(map[string]any)["gates"].([]any)[1].(map[string]any)
	if x["decision"] != false || gate["answer"] != "refuse" || gate["causes"].([]any)[0].(map[string]any)["code"] != "standing_suspended" {
		t.Errorf("%v", x)
	}
	decisions := func(semantic, members string) string {
		t.Helper()
		x := ask("/access/v1/evaluations", "{"+enter+`,"evaluations":[`+members+`],"options":{"evaluations_semantic":"`+semantic+`"}}`)
		out := ""
		for _, e := range x["evaluations"].([]any) {
			m := e.(map[string]any)
			switch {
			case m["decision"] == true:
				out += "y"
			case m["context"].(map[string]any)["error"] != nil:
				out += "e"
			default:
				out += "n"
			}
		}
		return out
	}
	all := "{" + maren + "},{" + ulla + `},{"subject":{"type":"ghost","id":"x"}},{` + maren + "}"
	for semantic, want := range map[string]string{"execute_all": "yney", "deny_on_first_deny": "yn", "permit_on_first_permit": "y"} {
		if got := decisions(semantic, all); got != want {
			t.Errorf("%s: %s, want %s", semantic, got, want)
		}
	}
	if got := decisions("permit_on_first_permit", "{"+ulla+"},{"+maren+"},{"+ulla+"}"); got != "ny" {
		t.Errorf("permit_on_first_permit: %s", got)
	}
	if x := ask("/access/v1/evaluations", "{"+maren+","+enter+`,"evaluations":[]}`); x["decision"] != true {
		t.Errorf("without members it is one evaluation: %v", x)
	}
	x = ask("/access/v1/evaluation",
		`{"subject":{"type":"person","id":"j.penhallow"},"action":{"name":"directory.invite"},"resource":{"type":"space","id":"docent-course"},"context":{"address":"h.brannoch@oskelund.example"}}`)
	if x["decision"] != false {
		t.Errorf("%v", x)
	}
	x = ask("/access/v1/evaluation",
		`{"subject":{"type":"link","id":"crate-list-link"},"action":{"name":"files.open"},"resource":{"type":"file","id":"crate-list"}}`)
	if x["decision"] != true {
		t.Errorf("%v", x)
	}
	// What was refused is counted, and of whose people; nobody is named.
	check(t, r.svc.KeepRefusals(t.Context()))
	if got := strings.Join(column(t, r.st.DB(), "SELECT CONCAT(partner, ' ', action, ' ', times) FROM refusal ORDER BY partner"),
		", "); got != "marrowby spaces.enter 4, oskelund directory.invite 1" {
		t.Errorf("counted: %s", got)
	}
	_, _, text := r.call("GET", "/.well-known/authzen-configuration", "", "")
	var meta map[string]string
	if json.Unmarshal([]byte(text), &meta) != nil || meta["policy_decision_point"] != r.url ||
		meta["access_evaluation_endpoint"] != r.url+"/access/v1/evaluation" ||
		meta["access_evaluations_endpoint"] != r.url+"/access/v1/evaluations" {
		t.Errorf("%s", text)
	}
}

// TestGateways: a decision is a yes only where whoever asks enforces all that it asks for; what is not there is a denial with
// its reason; a member that makes no sense fails alone; and every answer says up to when it is known and how long it may be kept.
func TestGateways(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	token := r.token("lantern")
	post := func(path, body string) (status int, out map[string]any, text string) {
		t.Helper()
		status, _, text = r.call("POST", path, token, body)
		_ = json.Unmarshal([]byte(text), &out)
		return
	}
	type told struct {
		Decision bool
		Context  struct {
			Conditions, Unenforced []string
			Reason                 string
			KnownAt                string `json:"known_at"`
			KeepSeconds            *int   `json:"keep_seconds"`
		}
	}
	ask := func(subject, action, resource, context string) (x told) {
		t.Helper()
		kind, id, _ := strings.Cut(subject, ":")
		on, what, _ := strings.Cut(resource, ":")
		status, _, text := post("/access/v1/evaluation",
			fmt.Sprintf(`{"subject":{"type":%q,"id":%q},"action":{"name":%q},"resource":{"type":%q,"id":%q},"context":{%s}}`, kind, id, action, on,
				what, context))
		if status != 200 || json.Unmarshal([]byte(text), &x) != nil {
			t.Fatalf("%s: %d %s", subject, status, text)
		}
		known, err := time.Parse(time.RFC3339, x.Context.KnownAt)
		if err != nil || time.Since(known) > time.Minute || time.Since(known) < -time.Second || x.Context.KeepSeconds == nil {
			t.Errorf("known at %q, kept for %v", x.Context.KnownAt, x.Context.KeepSeconds)
		}
		return x
	}
	const join = "party:ada@ilvane.example"
	for _, c := range []struct{ context, want string }{
		{``, "false [sign_in passcode] [sign_in passcode]"},
		{`"enforces":["sign_in"]`, "false [sign_in passcode] [passcode]"},
		{`"enforces":["passcode","sign_in"]`, "true [sign_in passcode] []"},
	} {
		x := ask(join, "meetings.join", "meeting:loan-weekly", c.context)
		if got := fmt.Sprint(x.Decision, " ", x.Context.Conditions, " ", x.Context.Unenforced); got != c.want || *x.Context.KeepSeconds != 30 {
			t.Errorf("%s: %s, want %s; kept for %d s", c.context, got, c.want, *x.Context.KeepSeconds)
		}
	}
	for subject, resource := range map[string]string{"party:maren.holtveig@ilvane.example": "space:nowhere",
		"person:nobody": "space:loan-dossier", "link:none": "file:crate-list"} {
		action := "spaces.enter"
		if strings.HasPrefix(subject, "link") {
			action = "files.open"
		}
		if x := ask(subject, action, resource, ""); x.Decision || !strings.Contains(x.Context.Reason, "there is no such") {
			t.Errorf("%s on %s: %+v", subject, resource, x)
		}
	}
	for body, want := range map[string]string{
		`"context":{"enforces":"sign_in"}`: "a list of conditions is expected", `"context":{"enforces":["rain"]}`: "conditions are sign_in",
	} {
		if status, _, text := post("/access/v1/evaluation",
			`{"subject":{"type":"party","id":"a@b.example"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"},`+body+`}`); status != 400 ||
			!strings.Contains(text, want) {
			t.Errorf("%s: %d %s", body, status, text)
		}
	}
	one := `{"subject":{"type":"party","id":"maren.holtveig@ilvane.example"},"action":{"name":"spaces.enter"},"resource":{"type":"space","id":"loan-dossier"}}`
	status, x, text := post("/access/v1/evaluations", `{"evaluations":[`+one+`,{"subject":"maren"},7,`+one+`]}`)
	if status != 200 || len(x["evaluations"].([]any)) != 4 {
		t.Fatalf("%d %s", status, text)
	}
	for i, want := range []bool{true, false, false, true} {
		m := x["evaluations"].([]any)[i].(map[string]any)
		if m["decision"] != want || (m["context"].(map[string]any)["error"] != nil) == want {
			t.Errorf("member %d: %v", i, m)
		}
	}
	// An answer that dates alone will change is kept no longer than until then.
	r.must("exception", "add", "short", "--person", "o.tidewell", "--towards", "partner:ilvane", "--set", "chat.federation=closed", "--until",
		time.Now().Add(12*time.Second).UTC().Format(time.RFC3339), "--reason", "a pause", "--yes")
	if x := ask(join, "chat.message", "person:o.tidewell", ""); x.Decision || *x.Context.KeepSeconds > 12 || *x.Context.KeepSeconds < 5 {
		t.Errorf("it ends in 12 s: %v, kept for %d s", x.Decision, *x.Context.KeepSeconds)
	}
	if status, _, text := r.call("GET", "/readyz/decisions", "", ""); status != 200 ||
		!strings.Contains(text, "decides, by what was known at 20") {
		t.Errorf("%d %s", status, text)
	}
}

// TestEditing changes with validators, idempotently, and through sessions.
func TestEditing(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("harbour")
	_, header, _ := r.call("GET", "/api/v1/rules/mail.forward", token, "")
	etag := header.Get("ETag")
	if status, _, body := r.call("PATCH", "/api/v1/rules/mail.forward", token, `{"default":"listed","why":"press"}`, "If-Match",
		etag); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	if status, _, body := r.call("PATCH", "/api/v1/rules/mail.forward", token, `{"default":"any"}`, "If-Match", etag); status != 412 ||
		!strings.Contains(body, "/problems/stale") {
		t.Errorf("%d %s", status, body)
	}
	one := `{"id":"quayside","name":"Quayside Lamps","domains":[{"name":"quayside.example","subdomains":true}]}`
	status1, _, body1 := r.call("POST", "/api/v1/partners", token, one, "Idempotency-Key", "first-try-1")
	seq := r.svc.State().Head.Seq
	status2, h, body2 := r.call("POST", "/api/v1/partners", token, one, "Idempotency-Key", "first-try-1")
	if status1 != 201 || status2 != 201 || body1 != body2 || h.Get("Idempotency-Replayed") != "true" || r.svc.State().Head.Seq != seq {
		t.Errorf("%d %s, %d %s", status1, body1, status2, body2)
	}
	if status, _, body := r.call("POST", "/api/v1/partners", token, strings.Replace(one, "quayside", "other", 1), "Idempotency-Key",
		"first-try-1"); status != 409 {
		t.Errorf("the same key with another request: %d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/partners/quayside/standing?preview=true", token,
		`{"standing":"suspended"}`); status != 200 || !strings.Contains(body, `"standing":"suspended"`) ||
		!strings.Contains(body, `"concerns":{`) {
		t.Errorf("a preview says what would be: %d %s", status, body)
	}
	if _, _, body := r.call("GET", "/api/v1/partners/quayside", token, ""); !strings.Contains(body, `"standing":"active"`) {
		t.Errorf("a preview changes nothing: %s", body)
	}

	// A session: a cookie that scripts cannot read, and nothing changes without the csrf value.
	jar := map[string]string{}
	req, _ := http.NewRequest("POST", r.url+"/api/v1/session", strings.NewReader(`{"name":"harbour","password":"low-water-2026"}`))
	req.Header.Set("Content-Type", "application/json")
	resp, err := http.DefaultClient.Do(req)
	check(t, err)
	var session struct{ Csrf string }
	check(t, json.NewDecoder(resp.Body).Decode(&session))
	resp.Body.Close()
	for _, c := range resp.Cookies() {
		jar[c.Name] = c.Value
		if !c.HttpOnly || c.SameSite != http.SameSiteStrictMode {
			t.Errorf("the cookie is %+v", c)
		}
	}
	cookie := "wexillum_session=" + jar["wexillum_session"]
	bar := `{"name":"rude.example","reason":"spam"}`
	if status, _, body := r.call("POST", "/api/v1/bars", "", bar, "Cookie", cookie); status != 403 ||
		!strings.Contains(body, "/problems/csrf") {
		t.Errorf("without csrf: %d %s", status, body)
	}
	if status, _, body := r.call("POST", "/api/v1/bars", "", bar, "Cookie", cookie, "X-CSRF-Token", session.Csrf); status != 201 {
		t.Errorf("with csrf: %d %s", status, body)
	}
	if status, _, _ := r.call("DELETE", "/api/v1/session", "", "", "Cookie", cookie, "X-CSRF-Token", session.Csrf); status != 204 {
		t.Errorf("signing out: %d", status)
	}
	if status, _, _ := r.call("GET", "/api/v1/session", "", "", "Cookie", cookie); status != 401 {
		t.Errorf("after signing out: %d", status)
	}

	// A disabled account is out at once, with its tokens.
	keeper := r.token("mooring")
	if status, _, body := r.call("PATCH", "/api/v1/accounts/mooring", token, `{"disabled":true,"why":"left"}`); status != 200 {
		t.Fatalf("%d %s", status, body)
	}
	if status, _, _ := r.call("GET", "/api/v1/bars", keeper, ""); status != 401 {
		t.Errorf("a disabled account's token: %d", status)
	}
	_, _, journal := r.call("GET", "/api/v1/journal?kind=account&limit=1", token, "")
	if strings.Contains(journal, "argon2") || !strings.Contains(journal, "left") {
		t.Errorf("%s", journal)
	}
	// Guessing is slowed down.
	last := 0
	for range 15 {
		last, _, _ = r.call("POST", "/api/v1/session", "", `{"name":"harbour","password":"guess"}`)
	}
	if last != 429 {
		t.Errorf("the fifteenth try: %d", last)
	}
}

// TestMember keeps a member to own spaces, own guests and oneself.
func TestMember(t *testing.T) {
	r := demoService(t)
	token := r.token("rigger") // d.ekwinter
	for question, status := range map[string]int{
		// an own space
		`{"subject":"r.larkmoor@pallowick.example","action":"spaces.enter","resource":"space:low-water-design"}`: 200,
		// oneself
		`{"subject":"person:d.ekwinter","action":"spaces.join_theirs","resource":"person:d.ekwinter","context":{"address":"x@oskelund.example"}}`: 200,
		// an own meeting
		`{"subject":"*@orrin.example","action":"meetings.join","resource":"meeting:rigging-call"}`:                                          200,
		`{"subject":"maren.holtveig@ilvane.example","action":"files.open","resource":"folder:loan-valuations"}`:                             403,
		`{"subject":"person:s.lindqvane","action":"directory.invite","resource":"directory:ours","context":{"address":"x@ilvane.example"}}`: 403,
		`{"subject":"maren.holtveig@ilvane.example","action":"mail.see_busy","resource":"calendar:s.lindqvane"}`:                            403,
		`{"subject":"maren.holtveig@ilvane.example","action":"mail.see_busy","resource":"calendar:d.ekwinter"}`:                             200,
	} {
		if got, _, body := r.call("POST", "/api/v1/ask", token, question); got != status {
			t.Errorf("%s: %d %s", question, got, body)
		}
	}
	if _, _, body := r.call("GET", "/api/v1/complete?kind=who&q=a", token, ""); strings.Contains(body, "@") {
		t.Errorf("a member browses other people's guests: %s", body)
	}
	_, _, body := r.call("GET", "/api/v1/complete?kind=resource&limit=100", token, "")
	if !strings.Contains(body, "space:low-water-design") || strings.Contains(body, "loan-valuations") {
		t.Errorf("a member is shown %s", body)
	}
}

// opens makes a request and leaves with the head of the answer and, of a refusal,
// its body.
func (r *running) opens(method, path, token, _ string, _ ...string) (int, http.Header, string) {
	r.t.Helper()
	req, err := http.NewRequestWithContext(r.t.Context(), method, r.url+path, nil)
	check(r.t, err)
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	resp, err := http.DefaultClient.Do(req)
	check(r.t, err)
	defer resp.Body.Close()
	if resp.StatusCode == 200 {
		return resp.StatusCode, resp.Header, ""
	}
	b, err := io.ReadAll(resp.Body)
	check(r.t, err)
	return resp.StatusCode, resp.Header, string(b)
}

// TestJournalKinds looks that every kind of entry which the demo's journal has is one of those that are offered, and that others are
// refused.
func TestJournalKinds(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	for _, k := range column(t, r.st.DB(), "SELECT DISTINCT kind FROM journal") {
		if !slices.Contains(event.Kinds, k) {
			t.Errorf("%s is in the journal, and is not offered", k)
		}
	}
	r.login("harbour")
	r.says(1, "there is no such kind of entry; there are rule, partner, ", "journal", "--kind", "guests")
	var page struct{ Kinds []string }
	if _, _, body := r.call("GET", "/api/v1/journal?kind=guest&limit=1", r.token("harbour"), ""); json.Unmarshal([]byte(body), &page) != nil ||
		!slices.Equal(page.Kinds, event.Kinds) {
		t.Errorf("offered: %v", page.Kinds)
	}
}
