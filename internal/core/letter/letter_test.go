package letter

import (
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// TestLetter writes about what waits for them, in three forms that say the same.
func TestLetter(t *testing.T) {
	now, _ := moment.Parse("2026-11-23T09:00:00Z")
	w, err := worldfile.Read([]byte(`
wexillum: 1
organisation: {name: Ours & Sons, domains: [ours.example, {name: lab.ours.example, subdomains: yes}], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, spaces.join_out: {default: listed}, files.domains: {default: listed}}
partners:
  - {id: p, name: "P <b>", domains: [p.example], opened: {chat.in: yes, spaces.out: yes, files.in: yes}, stance: {chat.in: {says: refuses}, files.in: {says: admits}}}
`), worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	halves := engine.Of(w).Halves(&w.Partners[0], now)
	l := To(w, &w.Partners[0], halves, nil)
	var keys []string
	for _, p := range l.Points {
		keys = append(keys, p.Key.String())
	}
	if got := strings.Join(keys, " "); got != "spaces.out chat.in" {
		t.Errorf("it is about %s", got)
	}
	md, text, page := l.Markdown(), l.Text(), l.HTML()
	for _, want := range []string{"ours.example, lab.ours.example and below", "Our people may join spaces or courses of yours.",
		"Chat, from you to us", "You need not open chat to all organisations, nor to private accounts.",
		"One of you writes to the address that we name.", "a line is enough"} {
		if !strings.Contains(md, want) || !strings.Contains(text, want) || !strings.Contains(page, want) {
			t.Errorf("a form lacks %q", want)
		}
	}
	if strings.Contains(text, "**") || strings.Contains(text, "#") || strings.Contains(page, "P <b>") ||
		!strings.Contains(page, "Ours &amp; Sons") {
		t.Errorf("%s\n%s", text, page)
	}
	if strings.Contains(md, "files") {
		t.Error("it asks for what they admit already")
	}
	one := To(w, &w.Partners[0], halves, []catalogue.Key{catalogue.In(catalogue.Files)})
	if len(one.Points) != 1 || !strings.Contains(one.Markdown(), "We give single files and folders") {
		t.Errorf("%+v", one)
	}
	w.Partners[0].Opened = [catalogue.NumKeys]world.Opening{}
	none := To(w, &w.Partners[0], engine.Of(w).Halves(&w.Partners[0], now), nil)
	for _, form := range []string{none.Markdown(), none.Text(), none.HTML()} {
		if !strings.Contains(form, "Nothing waits for you") {
			t.Error(form)
		}
	}
}

// TestWords: there are words for every service and direction.
func TestWords(t *testing.T) {
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		if x, ok := words[k.String()]; !ok || x.want == "" || x.admit == "" || x.test == "" || x.not == "" {
			t.Errorf("no words for %s", k)
		}
	}
}
