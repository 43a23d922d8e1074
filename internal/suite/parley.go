package suite

import (
	"context"
	"encoding/json"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"
)

// hulls are the names under which a domain may have a charter.
func hulls(domain string) []string {
	out := []string{domain}
	for d := domain; strings.Contains(d, "."); {
		_, d, _ = strings.Cut(d, ".")
		out = append(out, "*."+d)
	}
	return out
}

// Parley speaks JSON too: one paper with all rules of the house, and several are changed at once.

type rule struct {
	Rule string `json:"rule"`
	Is   string `json:"is"`
}

func (p *Program) parleyRoutes(mux *http.ServeMux) {
	mux.HandleFunc("/parley/house", func(w http.ResponseWriter, r *http.Request) {
		say := func(status int, text string) { writeJSON(w, status, map[string]string{"butler": text}) }
		switch {
		case r.Header.Get("Authorization") != "Bearer "+p.key:
			say(http.StatusUnauthorized, "who may I announce?")
		case !p.allow():
			refuse(w, errBusy, say)
		case r.Method == http.MethodGet:
			list := []rule{}
			read := p.reading()
			for _, name := range slices.Sorted(maps.Keys(read)) {
				if v := read[name]; v != "" {
					list = append(list, rule{name, v})
				}
			}
			writeJSON(w, http.StatusOK, map[string]any{"rules": list})
		case r.Method == http.MethodPost:
			var x struct {
				Set []rule `json:"set"`
			}
			if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&x); err != nil {
				say(http.StatusBadRequest, "I beg your pardon?")
				return
			}
			for _, y := range x.Set {
				if err := p.set(y.Rule, y.Is, "by letter", false); err != nil {
					refuse(w, err, say)
					return
				}
			}
			say(http.StatusOK, "very good")
		default:
			say(http.StatusMethodNotAllowed, "not in this house")
		}
	})
	// Somebody from another house speaks to one of this house.
	mux.HandleFunc("POST /parley/outside/say", func(w http.ResponseWriter, r *http.Request) {
		_, domain, ok := strings.Cut(r.FormValue("from"), "@")
		if says := p.keptIn(r.Context(), domain); says != "" { // their own house must let them go first
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "their house: " + says})
			return
		}
		if r.FormValue("private") == "yes" { // a private line, of no house
			if p.said("strangers.private", "@"+r.FormValue("to")) != "open" {
				writeJSON(w, http.StatusForbidden, map[string]string{"butler": "no private lines are put through"})
				return
			}
		} else if !ok || !p.onBoard("houses", "none but", domain) {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "the family is not at home to " + domain})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "delivered"})
	})
	// Another house asks whether somebody of this one may write to it.
	mux.HandleFunc("GET /parley/outside/lets", func(w http.ResponseWriter, r *http.Request) {
		if to := r.FormValue("to"); !p.onBoard("houses", "none but", to) {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "nobody of this house writes to " + to})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "as they please"})
	})
	// Somebody from another house looks into the diary of one of this house.
	mux.HandleFunc("POST /parley/outside/diary", func(w http.ResponseWriter, r *http.Request) {
		_, domain, ok := strings.Cut(r.FormValue("from"), "@")
		shows := p.said("diary", "@"+r.FormValue("to"))
		if !ok || shows == "closed" || !p.onBoard("diary.houses", "none but", domain) {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "the diary is closed to " + domain})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "the diary shows " + shows})
	})
	// Somebody sits down at a table.
	mux.HandleFunc("POST /parley/outside/sit", func(w http.ResponseWriter, r *http.Request) {
		_, domain, _ := strings.Cut(r.FormValue("from"), "@")
		friend := r.FormValue("friend") == "yes" || p.onBoard("table.friends", "none but", domain)
		seats := p.said("table.seats", "@"+r.FormValue("host"))
		if seats == "household" || seats == "friends of the house" && !friend {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "there is no chair for " + domain})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "seated"})
	})
}

// keptIn asks the house that somebody comes from, where it is known, whether they may write to this one. It
// returns why not.
func (p *Program) keptIn(ctx context.Context, domain string) string {
	at := p.peers[domain]
	if at == "" || p.house == "" {
		return ""
	}
	ctx, cancel := context.WithTimeout(ctx, 3*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, at+"/parley/outside/lets?to="+url.QueryEscape(p.house), nil)
	if err != nil {
		return "the house of " + domain + " has no address"
	}
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return "the house of " + domain + " does not answer"
	}
	defer resp.Body.Close()
	if resp.StatusCode == http.StatusOK {
		return ""
	}
	var x struct {
		Butler string `json:"butler"`
	}
	_ = json.NewDecoder(io.LimitReader(resp.Body, 1<<12)).Decode(&x)
	return x.Butler
}

// onBoard reports whether a list lets a domain through: those is its mode of those alone.
func (p *Program) onBoard(name, those, domain string) bool {
	mode, names := board(p.counts(name))
	on := slices.Contains(names, domain)
	for d := domain; !on && strings.Contains(d, "."); {
		_, d, _ = strings.Cut(d, ".")
		on = slices.Contains(names, "*."+d)
	}
	return on == (mode == those)
}
