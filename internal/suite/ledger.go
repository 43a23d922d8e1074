package suite

import (
	"encoding/csv"
	"errors"
	"io"
	"net/http"
	"strings"
)

// Ledger speaks comma-separated lines and forms.

func (p *Program) ledgerRoutes(mux *http.ServeMux) {
	p.ledgerOutside(mux)
	p.ledgerOrders(mux)
	p.ledgerFigures(mux)
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

// ledgerOrders serves the standing orders, as lines.
func (p *Program) ledgerOrders(mux *http.ServeMux) {
	mux.HandleFunc("/ledger/orders.csv", func(w http.ResponseWriter, r *http.Request) {
		say := func(status int, text string) { http.Error(w, text, status) }
		_, key, _ := r.BasicAuth()
		if key != p.key {
			say(http.StatusUnauthorized, "sign first")
			return
		}
		if !p.allow() {
			refuse(w, errBusy, say)
			return
		}
		row := func(out *csv.Writer, x Thing) {
			_ = out.Write([]string{x.ID, x.Fields["box"], x.Fields["onto"], x.Fields["copy"], x.Fields["by"], x.By})
		}
		head := []string{"order", "box", "onto", "copy", "by", "entered-by"}
		switch {
		case r.Method == http.MethodGet && r.FormValue("order") != "":
			x, err := p.one("orders", r.FormValue("order"))
			if err != nil {
				refuse(w, err, say)
				return
			}
			out := csv.NewWriter(w)
			_ = out.Write(head)
			row(out, x)
			out.Flush()
		case r.Method == http.MethodGet:
			list, next, err := p.list("orders", r.FormValue("behind"), 1000)
			if err != nil {
				refuse(w, err, say)
				return
			}
			w.Header().Set("Content-Type", "text/csv; charset=utf-8")
			out := csv.NewWriter(w)
			_ = out.Write(head)
			for _, x := range list {
				row(out, x)
			}
			if next != "" {
				_ = out.Write([]string{"more behind", next, "", "", "", ""})
			}
			out.Flush()
		case r.Method == http.MethodPost && r.FormValue("strike") != "":
			if err := p.drop("orders", r.FormValue("strike"), "by post", false); err != nil {
				refuse(w, err, say)
				return
			}
			_, _ = io.WriteString(w, "struck out\n")
		case r.Method == http.MethodPost:
			fields := map[string]string{}
			for _, name := range head[1:5] {
				if v := r.FormValue(name); v != "" {
					fields[name] = v
				}
			}
			id, err := p.put("orders", r.FormValue("order"), fields, "by post", false)
			if err != nil {
				refuse(w, err, say)
				return
			}
			_, _ = io.WriteString(w, id+"\n")
		default:
			say(http.StatusMethodNotAllowed, "not in this book")
		}
	})
}

// ledgerOutside is what comes of a letter that is to go on. A box is named where it has a standing order.
func (p *Program) ledgerOutside(mux *http.ServeMux) {
	mux.HandleFunc("POST /ledger/outside/letter", func(w http.ResponseWriter, r *http.Request) {
		box, onto := r.FormValue("box"), r.FormValue("on-to")
		_, domain, ok := strings.Cut(onto, "@")
		if order := p.counting("orders", box, onto); box != "" {
			says := ""
			switch by := p.counts("post.set-by"); {
			case order == nil:
				says = "there is no standing order to " + onto
			case by == "no one", by == "postmaster" && order["by"] != "postmaster":
				says = "a " + order["by"] + " may not have post sent on"
			case p.counts("post.copy") == "must" && order["copy"] != "kept":
				says = "a copy must stay"
			}
			if says != "" {
				http.Error(w, "kept in the box: "+says, http.StatusForbidden)
				return
			}
		}
		if p.counts("post.asks") == "yes" { // whoever is asked decides, for this box and this address
			if err := p.ask.may(box, onto); err != nil && (!errors.Is(err, errNobody) || p.counts("post.unanswered") == "returned") {
				http.Error(w, "returned to sender: "+err.Error(), http.StatusForbidden)
				return
			}
		} else if !ok || !p.onBoard("post.towns", "to", domain) {
			http.Error(w, "returned to sender: no coach goes to "+domain, http.StatusForbidden)
			return
		}
		_, _ = io.WriteString(w, "went on to "+domain+"\n")
	})
}

// ledgerFigures is what a reader of reports comes to see.
func (p *Program) ledgerFigures(mux *http.ServeMux) {
	mux.HandleFunc("POST /ledger/outside/figures", func(w http.ResponseWriter, r *http.Request) {
		shown, known := p.counts("figures.shown-to"), r.FormValue("known") == "yes"
		if p.counts("window") == "bare" && (shown == "clerks" || shown == "known readers" && !known) {
			http.Error(w, "these figures are not shown to "+r.FormValue("reader"), http.StatusForbidden)
			return
		}
		_, _ = io.WriteString(w, "the figures of the month\n")
	})
}
