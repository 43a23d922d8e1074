// Command beside is an example of a program that stands beside a suite and speaks the contract of docs/connector.md. Its
// suite is a pinboard: it has one switch, one list of domains, and visitors, all in memory.
package main

import (
	"encoding/json"
	"fmt"
	"log"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
)

const description = `{"contract": 1, "name": "pinboard", "title": "Pinboard, for files", "services": ["files"], "tries": ["files.open"],
"settings": [{"path": "slips", "title": "Slips for whoever holds them", "rule": "files.bearer_links", "words": {"off": "torn up", "on": "handed out"}}],
"lists": [{"path": "desks", "title": "Desks that may look", "rule": "files.domains", "keys": ["files.in"], "only": "these", "but": "all but"}],
"records": [{"kind": "guest", "name": "lookers", "title": "Lookers", "fields": [{"name": "mail", "of": "address"},
  {"name": "may", "of": "standing", "words": {"in": "come", "out": "stay out"}}]}]}`

type fields map[string]string

var (
	mu       sync.Mutex
	settings = fields{"slips": "handed out", "desks": "these:"}
	lookers  = map[string]fields{}
)

func main() {
	token := os.Getenv("PINBOARD_TOKEN")
	mux := http.NewServeMux()
	on := func(pattern string, do func(r *http.Request, in map[string]any) (any, int, string)) {
		mux.HandleFunc(pattern, func(w http.ResponseWriter, r *http.Request) {
			mu.Lock()
			defer mu.Unlock()
			in := map[string]any{}
			out, status, says := any(nil), http.StatusUnauthorized, "who are you?"
			if token != "" && r.Header.Get("Authorization") == "Bearer "+token {
				_ = json.NewDecoder(r.Body).Decode(&in)
				out, status, says = do(r, in)
			}
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(status)
			if says != "" {
				out = map[string]string{"detail": says}
			}
			if out != nil {
				_ = json.NewEncoder(w).Encode(out)
			}
		})
	}
	on("GET /v1/description", func(*http.Request, map[string]any) (any, int, string) { return json.RawMessage(description), 200, "" })
	on("GET /v1/settings", func(*http.Request, map[string]any) (any, int, string) {
		return map[string]any{"settings": settings}, 200, ""
	})
	on("POST /v1/settings", func(_ *http.Request, in map[string]any) (any, int, string) {
		path, value := fmt.Sprint(in["path"]), fmt.Sprint(in["value"])
		slips := path == "slips" && slices.Contains([]string{"torn up", "handed out"}, value)
		desks := path == "desks" && (strings.HasPrefix(value, "these:") || strings.HasPrefix(value, "all but:"))
		if !slips && !desks {
			return nil, 422, fmt.Sprintf("no %s reads %q here", path, value)
		}
		settings[path] = value
		return nil, 204, ""
	})
	on("GET /v1/records/lookers", func(r *http.Request, _ map[string]any) (any, int, string) {
		list := []any{} // all at once: a pinboard is small
		for _, id := range slices.Sorted(func(yield func(string) bool) {
			for id := range lookers {
				if id > r.URL.Query().Get("after") && !yield(id) {
					return
				}
			}
		}) {
			list = append(list, map[string]any{"id": id, "fields": lookers[id]})
		}
		return map[string]any{"records": list}, 200, ""
	})
	put := func(_ *http.Request, in map[string]any) (any, int, string) {
		f, _ := in["fields"].(map[string]any)
		mail, may := fmt.Sprint(f["mail"]), fmt.Sprint(f["may"])
		if !strings.Contains(mail, "@") || may != "come" && may != "stay out" {
			return nil, 422, "a looker has a mail, and may come or stay out"
		}
		lookers[mail] = fields{"mail": mail, "may": may} // the mail is its id: sent twice, it is one
		return map[string]string{"id": mail}, 200, ""
	}
	on("POST /v1/records/lookers", put)
	on("PUT /v1/records/lookers/{id}", put)
	on("GET /v1/records/lookers/{id}", func(r *http.Request, _ map[string]any) (any, int, string) {
		if f := lookers[r.PathValue("id")]; f != nil {
			return map[string]any{"id": r.PathValue("id"), "fields": f}, 200, ""
		}
		return nil, 404, "nobody of that name looks in"
	})
	on("DELETE /v1/records/lookers/{id}", func(r *http.Request, _ map[string]any) (any, int, string) {
		delete(lookers, r.PathValue("id"))
		return nil, 204, ""
	})
	on("POST /v1/try", func(_ *http.Request, in map[string]any) (any, int, string) {
		if in["action"] != "files.open" || in["as"] != "holder" {
			return map[string]bool{"known": false, "admitted": false}, 200, ""
		}
		out := map[string]any{"known": true, "admitted": settings["slips"] == "handed out"} // a real one opens a slip, from outside
		return out, 200, ""
	})
	log.Fatal(http.ListenAndServe(os.Args[1], mux))
}
