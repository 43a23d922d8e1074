package suite

import (
	_ "embed"
	"html/template"
	"maps"
	"net/http"
	"slices"
)

//go:embed desk.html
var deskText string

var deskPage = template.Must(template.New("desk").Parse(deskText))

// desk serves the page of a program's own administrator, who changes things there without telling
// anybody.
func (p *Program) desk(mux *http.ServeMux) {
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, "/desk", http.StatusSeeOther) })
	mux.HandleFunc("GET /desk", func(w http.ResponseWriter, _ *http.Request) {
		type line struct {
			Name, Title, Help, Now, Counts string
			Words                          []string
			Board                          bool
		}
		x := struct {
			Title, Say string
			Lines      []line
			Quirks     Quirks
			Log        []Change
		}{Title: p.Title}
		read := p.reading()
		for i := range p.knobs {
			k := &p.knobs[i]
			l := line{k.name, k.title, k.help, read[k.name], p.counts(k.name), k.words, k.board || len(k.words) == 0}
			if l.Counts == l.Now {
				l.Counts = ""
			}
			x.Lines = append(x.Lines, l)
		}
		for _, name := range slices.Sorted(maps.Keys(read)) {
			if k, ok := p.find(name); ok && k.charter && read[name] != "" {
				x.Lines = append(x.Lines, line{Name: name, Title: k.title, Help: "It stands there for the general values", Now: read[name], Board: true})
			}
		}
		p.mu.Lock()
		x.Quirks, x.Log, x.Say = p.quirks, slices.Clone(p.log[max(0, len(p.log)-12):]), p.say
		p.say = ""
		p.mu.Unlock()
		slices.Reverse(x.Log)
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy", "default-src 'none'; style-src 'unsafe-inline'; form-action 'self'")
		_ = deskPage.Execute(w, x)
	})
	mux.HandleFunc("POST /desk", func(w http.ResponseWriter, r *http.Request) {
		if r.FormValue("quirks") != "" {
			p.Settle(Quirks{Lie: r.FormValue("lie") != "", Stale: r.FormValue("stale") != "", Fail: r.FormValue("fail") != "", Silent: r.FormValue("silent") != ""})
		} else if err := p.Turn(r.FormValue("name"), r.FormValue("to")); err != nil {
			p.mu.Lock()
			p.say = err.Error()
			p.mu.Unlock()
		}
		http.Redirect(w, r, "/desk", http.StatusSeeOther)
	})
}
