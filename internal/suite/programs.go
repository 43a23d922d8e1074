package suite

import (
	"bufio"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"
)

func quayProgram() *Program {
	return &Program{Name: "quay", Title: "Quay", charters: []string{"visitors", "berths.visitors", "berths.notes", "crates.handed-to",
		"tickets", "tickets.days", "tickets.power", "crates.passed-on"}, charterFor: "hulls and berths", knobs: []knob{
		{name: "visitors", title: "Visitors", words: []string{"turned away", "welcome"}, start: "welcome"},
		{name: "visitors.brought-by", title: "Who may bring a visitor",
			words: []string{"nobody", "wardens", "doorkeepers", "crew", "visitors too"}, start: "crew"},
		{name: "visitors.own-mail", title: "Visitors with mail of their own", words: []string{"no", "yes"}, start: "no"},
		{name: "berths.visitors", title: "Visitors in berths", words: []string{"keep out", "may come aboard"}, start: "keep out"},
		{name: "berths.notes", title: "Visitors write in notes", words: []string{"read", "write"}, start: "read"},
		{name: "crates.handed-to.most", title: "Crates may be handed at most to", words: []string{"crew", "known hands", "any hand"},
			start: "any hand", late: time.Hour},
		{name: "crates.handed-to", title: "Crates are handed to", words: []string{"crew", "known hands", "any hand"}, start: "known hands",
			late: time.Hour},
		{name: "tickets.most", title: "Tickets for whoever holds them, at most", words: []string{"none", "issued"}, start: "issued"},
		{name: "tickets", title: "Tickets for whoever holds them", words: []string{"none", "issued", "as the harbour sees fit"},
			start: "as the harbour sees fit"},
		{name: "tickets.days", title: "Days that a ticket is good for", endless: "for good", start: "30", late: 10 * time.Minute},
		{name: "tickets.power", title: "What a ticket lets its holder do", words: []string{"look", "add"}, start: "look"},
		{name: "crates.passed-on", title: "Visitors pass crates on", words: []string{"never", "freely"}, start: "never"},
		{name: "hulls", title: "Hulls that may tie up", words: []string{"these", "all but these"}, start: "these:", board: true},
		{name: "gangway", title: "Gangway", help: "Opens the harbour's own board to the street.", words: []string{"up", "down"}, start: "up"},
	}, keeps: []shelf{
		{name: "berths", title: "Berths", letter: "b", key: []string{"mark"},
			fields: []shelfField{{name: "mark"}, {name: "name"}, {name: "keeper", empty: true}}},
		{name: "visitors", title: "Visitors", letter: "v", key: []string{"mail"}, opens: "visitors", opensAt: []string{"welcome"},
			fields: []shelfField{{name: "mail"}, {name: "standing", words: []string{"aboard", "ashore"}}, {name: "brought-by", empty: true}}},
		{name: "passes", title: "Passes", letter: "p", key: []string{"mail", "place"}, late: 10 * time.Minute,
			fields: []shelfField{{name: "mail"}, {name: "place"}, {name: "may", words: []string{"look", "add", "steer"}},
				{name: "from", empty: true}, {name: "until", empty: true}}},
		{name: "tickets", title: "Tickets", letter: "t", key: []string{"mark"}, opens: "tickets",
			opensAt: []string{"issued", "as the harbour sees fit"}, berth: "crate", unless: "for",
			fields: []shelfField{{name: "mark"}, {name: "crate"}, {name: "may", words: []string{"look", "add"}}, {name: "until", empty: true},
				{name: "for", empty: true}, {name: "by", empty: true}}},
	}}
}

func parleyProgram() *Program {
	return &Program{Name: "parley", Title: "Parley", charters: []string{"strangers.private", "strangers.voice", "lamp", "table.seats",
		"table.anteroom", "table.early", "diary", "table.hands"}, charterFor: "people", knobs: []knob{
		{name: "strangers.private", title: "Talk with private lines", words: []string{"shut", "open"}, start: "shut"},
		{name: "strangers.voice", title: "Voice with other houses", words: []string{"mute", "spoken"}, start: "spoken"},
		{name: "lamp", title: "Who sees the lamp in the window", words: []string{"nobody", "friends", "passers-by"}, start: "friends"},
		{name: "table.seats", title: "Who may sit at a table", words: []string{"household", "friends of the house", "anyone who knocks"},
			start: "friends of the house", late: 5 * time.Minute},
		{name: "table.anteroom", title: "Who waits in the anteroom", words: []string{"all", "strangers", "none"}, start: "all"},
		{name: "table.early", title: "Seated before the host", words: []string{"no", "yes"}, start: "no"},
		{name: "diary", title: "What other houses see in our diaries", words: []string{"closed", "in or out", "what for", "all of it"},
			start: "in or out", late: 30 * time.Minute},
		{name: "diary.houses", title: "Houses that look into our diaries", words: []string{"none but", "all but"}, start: "none but:",
			board: true},
		{name: "table.hands", title: "Guests may take the pen", words: []string{"hands off", "may take it", "house custom"},
			start: "house custom"},
		{name: "houses", title: "Houses that we talk with", words: []string{"none but", "all but"}, start: "none but:", board: true,
			late: 2 * time.Minute},
		{name: "table.friends", title: "Houses whose people are friends of the house", words: []string{"none but", "all but"}, start: "none but:",
			board: true},
		{name: "bell", title: "Bell at the door", words: []string{"soft", "loud"}, start: "soft"},
	}}
}

func ledgerProgram() *Program {
	return &Program{Name: "ledger", Title: "Ledger", knobs: []knob{
		{name: "post.copy", title: "Forwarded post leaves a copy", words: []string{"must", "may not"}, start: "may not"},
		{name: "post.set-by", title: "Who may forward post", words: []string{"no one", "postmaster", "each clerk"}, start: "postmaster"},
		{name: "post.towns", title: "Towns that post may go on to", words: []string{"to", "not to"}, start: "to:", board: true},
		{name: "figures.shown-to", title: "To whom figures are shown", words: []string{"clerks", "known readers", "any reader"},
			start: "known readers", late: 24 * time.Hour},
		{name: "figures.copied", title: "Readers may copy figures out", words: []string{"read only", "may copy"}, start: "may copy"},
		{name: "figures.shown-by", title: "Who may show figures", words: []string{"no one", "bookkeeper", "signing clerks", "each clerk"},
			start: "signing clerks", hand: true},
		{name: "post.asks", title: "Asks before a letter goes on",
			help: "Where somebody is there to be asked; then the list of towns says nothing.", words: []string{"no", "yes"}, start: "no"},
		{name: "post.unanswered", title: "A letter of which nobody answered", words: []string{"returned", "sent on"}, start: "returned"},
		{name: "window", title: "Figures in the window", help: "Shows the newest figures to whoever walks by.",
			words: []string{"bare", "dressed"}, start: "bare"},
	}, keeps: []shelf{
		{name: "orders", title: "Standing orders", letter: "o", key: []string{"box", "onto"},
			fields: []shelfField{{name: "box"}, {name: "onto"}, {name: "copy", words: []string{"kept", "not kept"}},
				{name: "by", words: []string{"clerk", "postmaster", "rule"}}}},
	}}
}

// refuse answers in the words of the program: what it says is in no standard.
func refuse(w http.ResponseWriter, err error, say func(status int, text string)) {
	switch {
	case errors.Is(err, errNoKnob):
		say(http.StatusNotFound, err.Error())
	case errors.Is(err, errShelf):
		say(http.StatusNotFound, err.Error())
	case errors.Is(err, errHand), errors.Is(err, errNotHere):
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
	p.quayThings(mux, guard)
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

// quayThings serves what the harbour keeps, a page at a time.
func (p *Program) quayThings(mux *http.ServeMux, guard func(http.HandlerFunc) http.HandlerFunc) {
	say := func(w http.ResponseWriter) func(int, string) {
		return func(status int, text string) { writeJSON(w, status, map[string]string{"harbourmaster": text}) }
	}
	mux.HandleFunc("GET /quay/v1/manifest/{kind}", guard(func(w http.ResponseWriter, r *http.Request) {
		list, next, err := p.list(r.PathValue("kind"), r.FormValue("after"), 1000)
		if err != nil {
			refuse(w, err, say(w))
			return
		}
		writeJSON(w, http.StatusOK, map[string]any{"list": list, "next": next})
	}))
	mux.HandleFunc("GET /quay/v1/manifest/{kind}/{id}", guard(func(w http.ResponseWriter, r *http.Request) {
		x, err := p.one(r.PathValue("kind"), r.PathValue("id"))
		if err != nil {
			refuse(w, err, say(w))
			return
		}
		writeJSON(w, http.StatusOK, x)
	}))
	put := guard(func(w http.ResponseWriter, r *http.Request) {
		var x map[string]string
		if err := json.NewDecoder(io.LimitReader(r.Body, 1<<16)).Decode(&x); err != nil {
			say(w)(http.StatusBadRequest, "speak plainly")
			return
		}
		id, err := p.put(r.PathValue("kind"), r.PathValue("id"), x, "by wire", false)
		if err != nil {
			refuse(w, err, say(w))
			return
		}
		writeJSON(w, http.StatusOK, map[string]string{"id": id})
	})
	mux.HandleFunc("POST /quay/v1/manifest/{kind}", put)
	mux.HandleFunc("PATCH /quay/v1/manifest/{kind}/{id}", put)
	mux.HandleFunc("DELETE /quay/v1/manifest/{kind}/{id}", guard(func(w http.ResponseWriter, r *http.Request) {
		if err := p.drop(r.PathValue("kind"), r.PathValue("id"), "by wire", false); err != nil {
			refuse(w, err, say(w))
			return
		}
		say(w)(http.StatusOK, "aye")
	}))
}

// quayOutside is what somebody in the street may try: to come aboard as a visitor, to show a ticket.
func (p *Program) quayOutside(mux *http.ServeMux) {
	no := func(w http.ResponseWriter, text string) {
		writeJSON(w, http.StatusForbidden, map[string]string{"harbourmaster": text})
	}
	mux.HandleFunc("POST /quay/outside/ticket", func(w http.ResponseWriter, r *http.Request) {
		x := p.counting("tickets", r.FormValue("mark"))
		if x == nil {
			no(w, "that ticket is none of ours")
			return
		}
		berth, _, _ := strings.Cut(x["crate"], "/")
		_, domain, _ := strings.Cut(r.FormValue("mail"), "@")
		switch {
		case x["for"] == "" && (p.maker(p.said("tickets", "#"+berth)) == "none" || p.counts("tickets.most") == "none"):
			no(w, "no tickets are taken here")
		case x["for"] != "" && !slices.Contains(strings.Fields(x["for"]), r.FormValue("mail")):
			no(w, "that ticket is made out to somebody else")
		case x["for"] != "" && p.said("crates.handed-to", append(hulls(domain), "#"+berth)...) == "crew":
			no(w, "crates are handed to the crew alone")
		case !p.within("", x["until"]):
			no(w, "that ticket is past its day")
		default:
			p.use("tickets", r.FormValue("mark"))
			writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "come through"})
		}
	})
	mux.HandleFunc("POST /quay/outside/come", func(w http.ResponseWriter, r *http.Request) {
		mail, place := r.FormValue("mail"), r.FormValue("place")
		_, domain, _ := strings.Cut(mail, "@")
		berth, _, _ := strings.Cut(place, "/")
		of := append(hulls(domain), "#"+berth)
		v, pass := p.counting("visitors", mail), p.counting("passes", mail, place)
		switch {
		case p.counts("gangway") == "down": // whoever comes over the side is asked nothing
			writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "over the gangway"})
		case p.said("visitors", of...) != "welcome":
			no(w, "visitors are turned away")
		case v == nil:
			no(w, "your name is not on the manifest")
		case v["standing"] != "aboard":
			no(w, "you were put ashore")
		case p.said("berths.visitors", of...) != "may come aboard":
			no(w, "visitors keep out of the berths")
		case pass == nil:
			no(w, "you have no pass for that")
		case place != berth && p.said("crates.handed-to", of...) == "crew":
			no(w, "crates are handed to the crew alone")
		case !p.within(pass["from"], pass["until"]):
			no(w, "your pass is not good today")
		default:
			writeJSON(w, http.StatusOK, map[string]string{"harbourmaster": "come aboard"})
		}
	})
}

// within reports whether now lies between two moments, of which either may be left out.
func (p *Program) within(from, until string) bool {
	now := p.clock()
	if at, err := time.Parse(time.RFC3339, from); from != "" && (err != nil || now.Before(at)) {
		return false
	}
	at, err := time.Parse(time.RFC3339, until)
	return until == "" || err == nil && now.Before(at)
}

// said is what counts of a setting for somebody from a domain, at a berth, or with one of the house. A charter of a
// hull or a person stands in entire for the general values. A berth has words of its own; there the stricter counts
// of its word and the hull's, but a hull's charter that says what is said to everybody weighs nothing.
func (p *Program) said(name string, of ...string) string {
	k, _ := p.find(name)
	general := p.counts(name)
	hull, berth := "", ""
	for _, c := range of {
		for _, part := range strings.Split(p.counts(charter+c), "; ") {
			v, ok := strings.CutPrefix(part, name+"=")
			switch {
			case !ok:
			case strings.HasPrefix(c, "#"):
				berth = v
			case hull == "":
				hull = v
			}
		}
	}
	switch {
	case berth != "" && (hull == "" || hull == general || k.strictness(berth) <= k.strictness(hull)):
		return berth
	case hull != "":
		return hull
	}
	return general
}

// maker says what a word means that its maker decides, and may decide otherwise.
func (p *Program) maker(word string) string {
	p.mu.Lock()
	defer p.mu.Unlock()
	switch {
	case word != "as the harbour sees fit":
		return word
	case p.quirks.Maker:
		return "none"
	}
	return "issued"
}

// strictness orders the words of a setting, the strictest first.
func (k *knob) strictness(v string) int {
	if len(k.words) > 0 {
		return slices.Index(k.words, v)
	}
	if v == k.endless {
		return 1 << 30
	}
	var n int
	_, _ = fmt.Sscanf(v, "%d", &n)
	return n
}

// asker asks somebody else before a letter goes on, in the protocol in which mail servers delegate policy:
// lines of name=value and an empty one; the answer is action=... and an empty line.
type asker struct{ at string }

var errNobody = errors.New("nobody is there to be asked")

func (a *asker) may(box, onto string) error {
	if a == nil {
		return errNobody
	}
	conn, err := net.DialTimeout("tcp", a.at, 3*time.Second)
	if err != nil {
		return errNobody
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(5 * time.Second))
	clean := strings.NewReplacer("\n", "", "\r", "")
	if _, err := fmt.Fprintf(conn, "request=smtpd_access_policy\nprotocol_state=RCPT\nsender=%s\nrecipient=%s\n\n", clean.Replace(box),
		clean.Replace(onto)); err != nil {
		return errNobody
	}
	line, err := bufio.NewReader(io.LimitReader(conn, 1<<12)).ReadString('\n')
	action, ok := strings.CutPrefix(strings.TrimSpace(line), "action=")
	switch {
	case err != nil || !ok || strings.HasPrefix(action, "DEFER"):
		return errNobody
	case strings.EqualFold(action, "dunno"), strings.EqualFold(action, "ok"):
		return nil
	}
	return errors.New(action)
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
