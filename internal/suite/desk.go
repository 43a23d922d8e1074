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
		type field struct {
			Name  string
			Words []string
			Empty bool
		}
		type kept struct {
			ID   string
			Line string
			By   string
		}
		type shelf struct {
			Kind, Title string
			Count       int
			Fields      []field
			First       []kept
		}
		x := struct {
			Title, Say string
			Lines      []line
			Shelves    []shelf
			Quirks     Quirks
			Log        []Change
		}{Title: p.Title}
		for i := range p.keeps {
			k := &p.keeps[i]
			s := shelf{Kind: k.name, Title: k.title}
			for _, f := range k.fields {
				s.Fields = append(s.Fields, field{f.name, f.words, f.empty})
			}
			all := p.Things(k.name)
			s.Count = len(all)
			slices.Reverse(all) // the newest first
			for _, t := range all[:min(12, len(all))] {
				s.First = append(s.First, kept{t.ID, lineOf(k, t.Fields), t.By})
			}
			x.Shelves = append(x.Shelves, s)
		}
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
				x.Lines = append(x.Lines, line{Name: name, Title: k.title, Help: "It stands there for the general values", Now: read[name],
					Board: true})
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
		if kind := r.FormValue("kind"); kind != "" {
			if err := p.turnThing(r, kind); err != nil {
				p.mu.Lock()
				p.say = err.Error()
				p.mu.Unlock()
			}
		} else if r.FormValue("quirks") != "" {
			p.Settle(Quirks{Lie: r.FormValue("lie") != "", Stale: r.FormValue("stale") != "", Fail: r.FormValue("fail") != "",
				Silent: r.FormValue("silent") != "", Maker: r.FormValue("maker") != ""})
		} else if err := p.Turn(r.FormValue("name"), r.FormValue("to")); err != nil {
			p.mu.Lock()
			p.say = err.Error()
			p.mu.Unlock()
		}
		http.Redirect(w, r, "/desk", http.StatusSeeOther)
	})
}

// turnThing makes, changes or takes away what the form says, as whoever sits at the desk, or in the name of
// somebody whose screen it is.
func (p *Program) turnThing(r *http.Request, kind string) error {
	if r.FormValue("drop") != "" {
		return p.drop(kind, r.FormValue("drop"), "the desk", true)
	}
	fields := map[string]string{}
	if t := p.shelves[kind]; t != nil {
		for _, f := range t.shelf.fields {
			if v := r.FormValue("f-" + f.name); v != "" {
				fields[f.name] = v
			}
		}
	}
	by := r.FormValue("in-the-name-of")
	if by == "" {
		by = "the desk"
	}
	_, err := p.put(kind, "", fields, by, true)
	return err
}
