package e2e

import (
	"database/sql"
	"encoding/json"
	"maps"
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"

	"wexillum.example/internal/worldfile"
)

// known are values that make sense, by the name of a field or of a part of an address.
var known = map[string]string{"partner": "ilvane", "into": "space:low-water-design", "space": "low-water-design", "item": "file:press-kit",
	"resource": "space:low-water-design", "address": "new.one@pallowick.example", "domain": "brand-new.example",
	"domains": "brand-new.example", "parties": "partner:ilvane", "people": "n.gravenor", "groups": "press", "key": "chat.in",
	"about": "chat.in", "says": "admits", "said_by": "their desk", "rule": "spaces.pages", "rules": "spaces.pages", "value": "on",
	"limit": "on", "default": "on",
	"until": "+40d", "from": "+1d", "as_of": "-1d", "review": "+100d", "where": "space:low-water-design",
	"subject": "maren.holtveig@ilvane.example", "action": "spaces.enter", "who": "maren.holtveig@ilvane.example", "as": "d.ekwinter",
	"by": "d.ekwinter", "owner": "d.ekwinter",
	"sponsor": "d.ekwinter", "person": "d.ekwinter", "name": "A name", "reason": "a reason", "why": "a reason", "note": "a note",
	"text": "a text", "purpose": "a purpose", "for": "new.two@pallowick.example", "addresses": "maren.holtveig@ilvane.example",
	"list": "new.three@pallowick.example",
	"id":   "brand-new", "number": "1", "digest": "0", "options": "1", "contacts": "it@ilvane.example", "kind": "letter", "standing": "active"}

// TestMendFromFindings mends a record that an earlier version let in, in the console, where it
// is found; and from the client, where it is not broken.
func TestMendFromFindings(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	db, err := sql.Open("mysql", r.dsn)
	check(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(),
		"UPDATE guest SET purpose = CONCAT('call', CHAR(1), 'them') WHERE address = 'maren.holtveig@ilvane.example'")
	check(t, err)
	r.login("harbour")
	if out := r.must("dump"); !strings.HasSuffix(out,
		"\n# The guest maren.holtveig@ilvane.example cannot be read as it is kept: a control character stands in it, at position 5; it counts without that.\n") ||
		!strings.Contains(out, "purpose: callthem") {
		t.Errorf("%.300s", out)
	}
	p := r.page(browser(t), "harbour")
	p.goTo("/findings?kind=record_unread", "document.querySelector('.findings li button')")
	p.axe("a record to mend")
	eval[any](p, "[...document.querySelectorAll('.findings li button')].find(b => b.innerText === 'Mend it').click()")
	p.until("![...document.querySelectorAll('.findings li')].some(l => l.innerText.includes('cannot be read as it is kept'))")
	if out := r.must("dump"); !strings.HasPrefix(out, "wexillum: 1\n") {
		t.Errorf("%.300s", out)
	}
	r.says(1, "guest maren.holtveig@ilvane.example is as it should be", "mend", "guest", "maren.holtveig@ilvane.example")
	r.says(1, "there is no letter", "mend", "letter", "none")
	r.says(1, "write the kind that the finding names", "mend", "Brief", "none")
}

// TestEveryTextField sends a character of every class in every text field of every operation
// of the contract: nothing breaks, and the dump can be read afterwards.
func TestEveryTextField(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("harbour")
	text, err := os.ReadFile("../api/openapi.yaml")
	check(t, err)
	var contract map[string]any
	check(t, yaml.Unmarshal(text, &contract))
	get := func(x any, path ...string) any {
		for _, p := range path {
			m, ok := x.(map[string]any)
			if !ok {
				return nil
			}
			x = m[p]
		}
		return x
	}
	var resolve func(x any) map[string]any
	resolve = func(x any) map[string]any {
		m, _ := x.(map[string]any)
		if ref, ok := m["$ref"].(string); ok {
			return resolve(get(contract, strings.Split(strings.TrimPrefix(ref, "#/"), "/")...))
		}
		if all, ok := m["allOf"].([]any); ok && len(all) > 0 {
			return resolve(all[0])
		}
		return m
	}
	plain := func(name string) string {
		if v, ok := known[name]; ok {
			return v
		}
		return "x"
	}
	var build func(name string, schema map[string]any, depth int) any
	build = func(name string, s map[string]any, depth int) any {
		if e, ok := s["enum"].([]any); ok {
			return e[0]
		}
		switch s["type"] {
		case "boolean":
			return false
		case "integer", "number":
			return 1
		case "array":
			return []any{build(name, resolve(s["items"]), depth+1)}
		case "object":
			out := map[string]any{}
			props, _ := s["properties"].(map[string]any)
			required, _ := s["required"].([]any)
			for k, p := range props {
				if depth < 3 && (slices.Contains(required, any(k)) || known[k] != "" && depth == 0 && k != "from" && k != "question") {
					out[k] = build(k, resolve(p), depth+1)
				}
			}
			return out
		}
		return plain(name)
	}
	// strings lists the places of texts in a schema, as paths.
	var places func(s map[string]any, at []string, depth int) [][]string
	places = func(s map[string]any, at []string, depth int) (out [][]string) {
		if s["enum"] != nil || depth > 3 {
			return nil
		}
		switch s["type"] {
		case "string":
			return [][]string{slices.Clone(at)}
		case "array":
			return places(resolve(s["items"]), append(at, "[]"), depth+1)
		case "object":
			props, _ := s["properties"].(map[string]any)
			for _, k := range slices.Sorted(maps.Keys(props)) {
				out = append(out, places(resolve(props[k]), append(at, k), depth+1)...)
			}
		}
		return
	}
	var put func(x any, at []string, v string) any
	put = func(x any, at []string, v string) any {
		if len(at) == 0 {
			return v
		}
		if at[0] == "[]" {
			list, _ := x.([]any)
			if len(list) == 0 {
				list = []any{nil}
			}
			list[0] = put(list[0], at[1:], v)
			return list
		}
		m, ok := x.(map[string]any)
		if !ok {
			m = map[string]any{}
		}
		m[at[0]] = put(m[at[0]], at[1:], v)
		return m
	}
	part := regexp.MustCompile(`\{(\w+)\}`)
	addresses := map[string]string{"{id}/stances": "ilvane/stances", "{where}": "space:low-water-design"}
	sent, fields, took := 0, 0, map[int]int{}
	paths := get(contract, "paths").(map[string]any)
	for _, path := range slices.Sorted(maps.Keys(paths)) {
		for _, method := range []string{"post", "put"} {
			schema := resolve(get(paths[path], method, "requestBody", "content", "application/json", "schema"))
			props, _ := schema["properties"].(map[string]any)
			if len(props) == 0 || path == "/api/v1/session" || path == "/api/v1/tokens" || strings.HasPrefix(path, "/api/v1/door") ||
				strings.HasPrefix(path, "/api/v1/own") {
				continue
			}
			at := path
			for was, is := range addresses {
				at = strings.ReplaceAll(at, was, is)
			}
			at = part.ReplaceAllStringFunc(at, func(s string) string {
				name := s[1 : len(s)-1]
				switch {
				case name == "id" && strings.HasPrefix(path, "/api/v1/partners/"):
					return "ilvane"
				case name == "id" && strings.HasPrefix(path, "/api/v1/people/"):
					return "d.ekwinter"
				case name == "id" && strings.HasPrefix(path, "/api/v1/letters/"):
					return "oskelund-spring"
				case name == "address":
					return "imke.ekwinter@orrin.example"
				}
				return plain(name)
			})
			for _, place := range places(schema, nil, 0) {
				fields++
				for _, char := range []string{`é`, `\u0000`, `\u0001`, `\u001b`, `\t`, `\n`, `\u007f`, `\u0085`, `\u009b`, `\u202e`, `\u2028`, `\ufeff`,
					`\ufffe`, `\ud800`, `\ud83e\udea2`, "\xff"} {
					const mark = "MARK"
					body, err := json.Marshal(put(build("", schema, 0), place, plain(place[len(place)-1])+mark+"z"))
					check(t, err)
					status, _, answer := r.call(strings.ToUpper(method), at, token, strings.Replace(string(body), mark, char, 1))
					sent++
					took[status/100]++
					if status >= 500 {
						t.Errorf("%s %s: %v with %q: %d %s", method, at, place, char, status, answer)
					}
				}
			}
			if status, _, answer := r.call("GET", "/api/v1/letters", token, ""); status != 200 {
				t.Fatalf("after %s %s letters are %d %s", method, at, status, answer)
			}
		}
	}
	status, _, dump := r.call("GET", "/api/v1/world", token, "")
	if status != 200 || strings.Contains(dump, "left out") {
		t.Fatalf("%d %.300s", status, dump)
	}
	if _, err := worldfile.Read([]byte(dump), worldfile.Options{Now: r.svc.Now()}); err != nil {
		t.Errorf("the dump cannot be read: %v", err)
	}
	if status, _, answer := r.call("GET", "/api/v1/findings", token, ""); status != 200 {
		t.Errorf("%d %s", status, answer)
	}
	t.Logf("%d requests with %d fields, %d taken", sent, fields, took[2])
	if fields < 120 || took[2] < 200 || took[4] < 1000 {
		t.Errorf("%d fields, answers %v", fields, took)
	}
}
