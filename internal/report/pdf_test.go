package report

import (
	"bytes"
	"compress/zlib"
	"fmt"
	"io"
	"regexp"
	"strings"
	"testing"
)

// textOf returns what a PDF shows: the strings of its pages, in UTF-16, without their order on the page.
func textOf(t *testing.T, pdf []byte) (text string, pages int) {
	t.Helper()
	pages = len(regexp.MustCompile(`/Type /Page\b[^s]`).FindAll(pdf, -1))
	for _, m := range regexp.MustCompile(`(?s)stream\r?\n(.*?)\r?\nendstream`).FindAllSubmatch(pdf, -1) {
		z, err := zlib.NewReader(bytes.NewReader(m[1]))
		if err != nil {
			continue
		}
		b, err := io.ReadAll(z)
		if err != nil || !bytes.HasPrefix(b, []byte("0 J")) {
			continue
		}
		for _, s := range regexp.MustCompile(`(?s)\(((?:\\.|[^\\)])*)\)`).FindAllSubmatch(b, -1) {
			raw := regexp.MustCompile(`(?s)\\(.)`).ReplaceAll(s[1], []byte("$1"))
			for i := 0; i+1 < len(raw); i += 2 {
				text += string(rune(raw[i])<<8 | rune(raw[i+1]))
			}
			text += "\n"
		}
	}
	return
}

// TestPDF writes a long report with names of many letters, a cell of several lines and one longer than a page is wide.
func TestPDF(t *testing.T) {
	r := &Report{Head: Head{Title: "Record of reach", Organisation: "Brackwater Museum", Revision: 7, At: "2026-11-30 09:00 Lisbon",
		Method: "asked one by one", Draft: "Next", Not: []string{"what partners do on their own side"}},
		Summary: [][2]string{{"Lines", "120"}, {"Signed off", "lantern"}}, Columns: []string{"who", "action", "conditions"}}
	for i := range 120 {
		r.Rows = append(r.Rows, []string{fmt.Sprintf("ĝuest%d@ilvane.example", i), "files.open", strings.Repeat("sign in, ", 1+i%30)})
	}
	r.Rows = append(r.Rows, []string{strings.Repeat("x", 400), "files.edit", ""})
	var b bytes.Buffer
	if err := r.PDF(&b); err != nil {
		t.Fatal(err)
	}
	text, pages := textOf(t, b.Bytes())
	if pages < 5 || strings.Count(text, "conditions\n") != pages || strings.Count(text, "of "+fmt.Sprint(pages)+"\n") > pages {
		t.Errorf("%d pages, the columns stand %d times", pages, strings.Count(text, "conditions\n"))
	}
	for _, want := range []string{"Record of reach", "Brackwater Museum", "2026-11-30 09:00 Lisbon",
		"Not in force: as the draft “Next” would make it", "what partners do on their own side", "ĝuest0@ilvane.example",
		"ĝuest119@ilvane.example", "lantern"} {
		if !strings.Contains(text, want) {
			t.Errorf("it lacks %q", want)
		}
	}
	if n := strings.Count(text, "x"); n < 400 {
		t.Errorf("of a long word %d letters are left", n)
	}
	b.Reset()
	if err := (&Report{Head: Head{Title: "Empty"}, Columns: []string{"who"}}).PDF(&b); err != nil {
		t.Fatal(err)
	}
	if text, _ := textOf(t, b.Bytes()); !strings.Contains(text, "Nothing.") {
		t.Errorf("of nothing: %q", text)
	}
}
