package help

import (
	"strings"
	"testing"
	"testing/fstest"

	"wexillum.example/docs"
)

func TestBook(t *testing.T) {
	b, err := Read(fstest.MapFS{
		"guests.md":          {Data: []byte("# Guests\n\nLet them in. See [due](due.md#ends) and [the code](../main.go).\n\n![A picture](x.png)\n\n## Invite somebody\n\nType an <b>address</b>.\n\n| a | b |\n|---|---|\n| one | two |\n")},
		"due.md":             {Data: []byte("# Due\n\n## Ends\n\nGuests are suspended (`on_a` day, signed_up)\nor *left*.\n")},
		"catalogue/rules.md": {Data: []byte("# Invite\n\nInvite and inviting.\n")},
		"x.png":              {},
	})
	if err != nil {
		t.Fatal(err)
	}
	p := b.Page("guests")
	if p == nil || p.Title != "Guests" || len(p.Sections) != 2 || p.Sections[1].Anchor != "invite-somebody" {
		t.Fatalf("%+v", p)
	}
	for _, want := range []string{`<a href="/help/due#ends">due</a>`, "and the code.</p>", `<h2 id="invite-somebody">`, "<td>two</td>",
		`<div class="help-table" tabindex="0"`} {
		if !strings.Contains(p.HTML, want) {
			t.Errorf("%s lacks %s", p.HTML, want)
		}
	}
	for _, not := range []string{"<img", "<b>"} {
		if strings.Contains(p.HTML, not) {
			t.Errorf("%s holds %s", p.HTML, not)
		}
	}
	for query, want := range map[string]string{
		"invit": "guests#invite-somebody catalogue/rules#invite", "suspended guests": "due#ends", "vite": "", "  ": "",
		"invite ADDRESS": "guests#invite-somebody",
	} {
		var got []string
		for _, f := range b.Find(query, 5) {
			got = append(got, f.Page+"#"+f.Anchor)
		}
		if strings.Join(got, " ") != want {
			t.Errorf("%q finds %v, not %s", query, got, want)
		}
	}
	if f := b.Find("suspended", 1); len(f) != 1 || f[0].Said != "Guests are suspended (on_a day, signed_up) or left." {
		t.Errorf("words stand apart that are one: %+v", f)
	}
	if b.Page("none") != nil {
		t.Error("a page that is not there")
	}
}

// TestDocs reads the pages that the product ships with: each has a title, and what people look for is found first.
func TestDocs(t *testing.T) {
	b, err := Read(docs.Files)
	if err != nil {
		t.Fatal(err)
	}
	if len(b.pages) < 150 {
		t.Errorf("%d pages", len(b.pages))
	}
	for i := range b.pages {
		if b.pages[i].Title == "" {
			t.Errorf("%s has no title", b.pages[i].Name)
		}
	}
	for query, want := range map[string]string{"upgrade": "run", "glossary": "glossary", "webhook": "events", "years old": "take-over",
		"suspend guest": "guests", "several services": "client"} {
		if f := b.Find(query, 3); len(f) == 0 || f[0].Page != want {
			t.Errorf("%q finds %+v", query, f)
		}
	}
}

func BenchmarkRead(b *testing.B) {
	for b.Loop() {
		if _, err := Read(docs.Files); err != nil {
			b.Fatal(err)
		}
	}
}
