package suite

import (
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"
)

func quayProgram() *Program {
	return &Program{Name: "quay", Title: "Quay", charters: []string{"visitors", "berths.visitors", "berths.notes", "crates.handed-to", "crates.passed-on"}, knobs: []knob{
		{name: "visitors", title: "Visitors", words: []string{"turned away", "welcome"}, start: "welcome"},
		{name: "visitors.brought-by", title: "Who may bring a visitor", words: []string{"nobody", "wardens", "doorkeepers", "crew", "visitors too"}, start: "crew"},
		{name: "visitors.own-mail", title: "Visitors with mail of their own", words: []string{"no", "yes"}, start: "no"},
		{name: "berths.visitors", title: "Visitors in berths", words: []string{"keep out", "may come aboard"}, start: "keep out"},
		{name: "berths.notes", title: "Visitors write in notes", words: []string{"read", "write"}, start: "read"},
		{name: "crates.handed-to.most", title: "Crates may be handed at most to", words: []string{"crew", "known hands", "any hand"}, start: "any hand", late: time.Hour},
		{name: "crates.handed-to", title: "Crates are handed to", words: []string{"crew", "known hands", "any hand"}, start: "known hands", late: time.Hour},
		{name: "tickets.most", title: "Tickets for whoever holds them, at most", words: []string{"none", "issued"}, start: "issued"},
		{name: "tickets", title: "Tickets for whoever holds them", words: []string{"none", "issued", "as the harbour sees fit"}, start: "as the harbour sees fit"},
		{name: "tickets.days", title: "Days that a ticket is good for", endless: "for good", start: "30", late: 10 * time.Minute},
		{name: "tickets.power", title: "What a ticket lets its holder do", words: []string{"look", "add"}, start: "look"},
		{name: "crates.passed-on", title: "Visitors pass crates on", words: []string{"never", "freely"}, start: "never"},
		{name: "hulls", title: "Hulls that may tie up", words: []string{"these", "all but these"}, start: "these:", board: true},
		{name: "gangway", title: "Gangway", help: "Opens the harbour's own board to the street.", words: []string{"up", "down"}, start: "up"},
	}}
}

func parleyProgram() *Program {
	return &Program{Name: "parley", Title: "Parley", knobs: []knob{
		{name: "strangers.private", title: "Talk with private lines", words: []string{"shut", "open"}, start: "shut"},
		{name: "strangers.voice", title: "Voice with other houses", words: []string{"mute", "spoken"}, start: "spoken"},
		{name: "lamp", title: "Who sees the lamp in the window", words: []string{"nobody", "friends", "passers-by"}, start: "friends"},
		{name: "table.seats", title: "Who may sit at a table", words: []string{"household", "friends of the house", "anyone who knocks"}, start: "friends of the house", late: 5 * time.Minute},
		{name: "table.anteroom", title: "Who waits in the anteroom", words: []string{"all", "strangers", "none"}, start: "all"},
		{name: "table.early", title: "Seated before the host", words: []string{"no", "yes"}, start: "no"},
		{name: "table.hands", title: "Guests may take the pen", words: []string{"hands off", "may take it", "house custom"}, start: "house custom"},
		{name: "houses", title: "Houses that we talk with", words: []string{"none but", "all but"}, start: "none but:", board: true, late: 2 * time.Minute},
		{name: "table.friends", title: "Houses whose people are friends of the house", words: []string{"none but", "all but"}, start: "none but:", board: true},
		{name: "bell", title: "Bell at the door", words: []string{"soft", "loud"}, start: "soft"},
	}}
}

func ledgerProgram() *Program {
	return &Program{Name: "ledger", Title: "Ledger", knobs: []knob{
		{name: "post.copy", title: "Forwarded post leaves a copy", words: []string{"must", "may not"}, start: "may not"},
		{name: "post.set-by", title: "Who may forward post", words: []string{"no one", "postmaster", "each clerk"}, start: "postmaster"},
		{name: "post.towns", title: "Towns that post may go on to", words: []string{"to", "not to"}, start: "to:", board: true},
		{name: "figures.shown-to", title: "To whom figures are shown", words: []string{"clerks", "known readers", "any reader"}, start: "known readers", late: 24 * time.Hour},
		{name: "figures.copied", title: "Readers may copy figures out", words: []string{"read only", "may copy"}, start: "may copy"},
		{name: "figures.shown-by", title: "Who may show figures", words: []string{"no one", "bookkeeper", "signing clerks", "each clerk"}, start: "signing clerks", hand: true},
		{name: "window", title: "Figures in the window", help: "Shows the newest figures to whoever walks by.", words: []string{"bare", "dressed"}, start: "bare"},
	}}
}

// refuse answers in the words of the program: what it says is in no standard.
func refuse(w http.ResponseWriter, err error, say func(status int, text string)) {
	switch {
	case errors.Is(err, errNoKnob):
		say(http.StatusNotFound, err.Error())
	case errors.Is(err, errHand):
		say(http.StatusForbidden, err.Error())
	case errors.Is(err, errWord):
		say(http.StatusUnprocessableEntity, err.Error())
	case errors.Is(err, errBusy):
		w.Header().Set("Retry-After", "60")
		say(http.StatusTooManyRequests, err.Error())
	default:
		say(http.StatusInternalServerError, err.Error())
	}
}

// Quay speaks JSON, a setting at a time; lists stand apart from it.

func (p *Program) quayRoutes(mux *http.ServeMux) {
	p.quayOutside(mux)
	guard := func(f http.HandlerFunc) http.HandlerFunc {
		return func(w http.ResponseWriter, r *http.Request) {
			say := func(status int, text string) { writeJSON(w, status, map[string]string{"harbourmaster": text}) }
			switch {
			case r.Header.Get("X-Quay-Pass") != p.key:
				say(http.StatusUnauthorized, "show your pass")
			case !p.allow():
				refuse(w, errBusy, say)
			default:
				f(w, r)
			}
		}
	}
	mux.HandleFunc("GET /quay/v1/dials", guard(func(w http.ResponseWriter, _ *http.Request) {
		dials, boards, charters := map[string]string{}, map[string]any{}, map[string]map[string]string{}
		for name, v := range p.reading() {
			if hull, ok := strings.CutPrefix(name, charter); ok {
				if v != "" {
					charters[hull] = map[string]string{}
					for _, part := range strings.Split(v, "; ") {
						dial, value, _ := strings.Cut(part, "=")
						charters[hull][dial] = value
					}
				}
				continue
			}
			if k, _ := p.find(name); !k.board {
				dials[name] = v
				continue
			}
			mode, names := board(v)
			boards[name] = map[string]any{"mode": mode, "names": names}
		}
		writeJSON(w, http.StatusOK, map[string]any{"dials": dials, "boards": boards, "charters": charters})
	}))
	mux.HandleFunc("/quay/v1/charters/{hull}", guard(func(w http.ResponseWriter, r *http.Request) {
		say := func(status int, text string) { writeJSON(w, status, map[string]string{"harbourmaster": text}) }
		to := ""
		switch r.Method {
		case http.MethodDelete:
		case http.MethodPut:
			var x map[string]string
			if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&x); err != nil || len(x) == 0 {
				say(http.StatusBadRequest, "speak plainly")
				return
			}
			var parts []string
			for _, name := range p.charters {
				if v, ok := x[name]; ok {
					parts = append(parts, name+"="+v)
					delete(x, name)
				}
			}
			for name := range x {
				parts = append(parts, name+"="+x[name])
			}
			to = strings.Join(parts, "; ")
		default:
			say(http.StatusMethodNotAllowed, "not in this harbour")
			return
		}
		if err := p.set(charter+r.PathValue("hull"), to, "by wire", false); err != nil {
			refuse(w, err, say)
			return
		}
		say(http.StatusOK, "aye")
	}))
	mux.HandleFunc("PUT /quay/v1/dials/{name}", guard(func(w http.ResponseWriter, r *http.Request) {
		var x struct {
			To string `json:"to"`
		}
		say := func(status int, text string) { writeJSON(w, status, map[string]string{"harbourmaster": text}) }
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&x); err != nil {
			say(http.StatusBadRequest, "speak plainly")
			return
		}
		if err := p.set(r.PathValue("name"), x.To, "by wire", false); err != nil {
			refuse(w, err, say)
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "aye"})
	}))
	mux.HandleFunc("PUT /quay/v1/boards/{name}", guard(func(w http.ResponseWriter, r *http.Request) {
		var x struct {
			Mode  string   `json:"mode"`
			Names []string `json:"names"`
		}
		say := func(status int, text string) { writeJSON(w, status, map[string]string{"harbourmaster": text}) }
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<20)).Decode(&x); err != nil {
			say(http.StatusBadRequest, "speak plainly")
			return
		}
		if err := p.set(r.PathValue("name"), boardOf(x.Mode, x.Names), "by wire", false); err != nil {
			refuse(w, err, say)
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "aye"})
	}))
}

// quayOutside is what somebody in the street may try.
func (p *Program) quayOutside(mux *http.ServeMux) {
	mux.HandleFunc("POST /quay/outside/ticket", func(w http.ResponseWriter, _ *http.Request) {
		if v := p.counts("tickets"); v == "none" || p.counts("tickets.most") == "none" {
			writeJSON(w, http.StatusForbidden, map[string]string{"harbourmaster": "no tickets are taken here"})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "come through"})
	})
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
			for i := range p.knobs {
				list = append(list, rule{p.knobs[i].name, read[p.knobs[i].name]})
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
		if !ok || !p.onBoard("houses", "none but", domain) {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "the family is not at home to " + domain})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "delivered"})
	})
	// Somebody sits down at a table.
	mux.HandleFunc("POST /parley/outside/sit", func(w http.ResponseWriter, r *http.Request) {
		_, domain, _ := strings.Cut(r.FormValue("from"), "@")
		friend := r.FormValue("friend") == "yes" || p.onBoard("table.friends", "none but", domain)
		seats := p.counts("table.seats")
		if seats == "household" || seats == "friends of the house" && !friend {
			writeJSON(w, http.StatusForbidden, map[string]string{"butler": "there is no chair for " + domain})
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"butler": "seated"})
	})
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

// Ledger speaks comma-separated lines and forms.

func (p *Program) ledgerRoutes(mux *http.ServeMux) {
	p.ledgerOutside(mux)
	mux.HandleFunc("/ledger/book.csv", func(w http.ResponseWriter, r *http.Request) {
		say := func(status int, text string) { http.Error(w, text, status) }
		_, key, _ := r.BasicAuth()
		switch {
		case key != p.key:
			w.Header().Set("WWW-Authenticate", `Basic realm="ledger"`)
			say(http.StatusUnauthorized, "sign first")
		case !p.allow():
			refuse(w, errBusy, say)
		case r.Method == http.MethodGet:
			w.Header().Set("Content-Type", "text/csv; charset=utf-8")
			out := csv.NewWriter(w)
			_ = out.Write([]string{"entry", "reads"})
			read := p.reading()
			for i := range p.knobs {
				_ = out.Write([]string{p.knobs[i].name, read[p.knobs[i].name]})
			}
			out.Flush()
		case r.Method == http.MethodPost:
			if err := p.set(r.FormValue("entry"), r.FormValue("reads"), "by post", false); err != nil {
				refuse(w, err, say)
				return
			}
			_, _ = io.WriteString(w, "entered\n")
		default:
			say(http.StatusMethodNotAllowed, "not in this book")
		}
	})
}

// ledgerOutside is what comes of a letter that is to go on.
func (p *Program) ledgerOutside(mux *http.ServeMux) {
	mux.HandleFunc("POST /ledger/outside/letter", func(w http.ResponseWriter, r *http.Request) {
		_, domain, ok := strings.Cut(r.FormValue("on-to"), "@")
		if !ok || !p.onBoard("post.towns", "to", domain) {
			http.Error(w, "returned to sender: no coach goes to "+domain, http.StatusForbidden)
			return
		}
		_, _ = io.WriteString(w, "went on to "+domain+"\n")
	})
}

func board(v string) (mode string, names []string) {
	mode, rest, _ := strings.Cut(v, ":")
	names = []string{}
	for _, n := range strings.Split(rest, ",") {
		if n = strings.TrimSpace(n); n != "" {
			names = append(names, n)
		}
	}
	return strings.TrimSpace(mode), names
}

func boardOf(mode string, names []string) string {
	return strings.TrimSpace(mode + ": " + strings.Join(names, ", "))
}

func writeJSON(w http.ResponseWriter, status int, x any) {
	w.Header().Set("Content-Type", "application/json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(x)
}
