package mail

import (
	"strings"
	"testing"
	"wexillum.example/internal/phrase"
)

// TestCompose writes every message in every language, with all that it may say and with as
// little as there can be: nothing of a template is left, and text and HTML say the same.
func TestCompose(t *testing.T) {
	full := Content{Organisation: "Museum <of> Boats", Name: "Nilda & Co", By: "Tamsin", ByAddress: "t@ours.example",
		What: []string{"Dossier: view", "Notes: view"}, Text: "Welcome <b>aboard</b>.", Until: "1 June 2027", Cause: "its end was reached",
		Code: "ABCD-2345", Minutes: 10, Link: "https://door.example/door/invited#SECRET", Own: "https://door.example/door",
		Lines: []Line{{"2027-06-01", "Nilda", "suspended: term"}}, Leave: true, Purpose: "the dinghy", Lapses: "2 May 2027",
		Beside: []string{"join meetings of ours"}, Guest: "Sten Heron"}
	says := map[string][]string{
		"invitation": {"Dossier: view", "Notes: view", "the dinghy", "2 May 2027", "join meetings of ours", full.Link, full.Own, full.Until,
			full.ByAddress}, "given": {"Dossier: view", full.Own, full.Until}, "code": {full.Code, "10 min"},
		"warning":   {full.Until, full.Cause, full.Own},
		"suspended": {full.Cause, full.Until, full.ByAddress}, "back": {full.Own}, "extended": {full.Until, full.Own},
		"no_more_time": {full.Until}, "digest": {"2027-06-01", "suspended: term"}, "offer": {"Dossier: view"},
		"works": {"Dossier: view", full.Link}, "answered": {"Dossier: view", full.Link, "the dinghy"},
		"sign_up": {"Sten Heron", "the dinghy", full.Link}, "let_in": {full.Link},
		"deputy": {"Sten Heron", "the dinghy", full.Until, full.Link}, "feed": {"Sten Heron", "Welcome", full.Link},
		"review": {"Welcome", "the dinghy", full.Until, full.Link}, "bundle_asked": {"Dossier: view", "the dinghy", full.Until, full.Link},
		"bundle_answered": {"Sten Heron", "Dossier: view", full.Until, full.Link},
		"expectation":     {"Dossier: view", "Welcome", "the dinghy", full.Link},
		"arrived":         {"Dossier: view", "Sten Heron", "the dinghy", full.Until, full.Link},
	}
	if len(says) != len(Kinds) {
		t.Fatalf("%d kinds are tried, there are %d", len(says), len(Kinds))
	}
	subjects := map[string]bool{}
	for _, kind := range Kinds {
		for _, language := range phrase.Languages {
			for _, c := range []Content{full, {Organisation: "Museum", By: "Museum"}} {
				m, err := Compose(kind, language, &c)
				if err != nil {
					t.Fatalf("%s in %s: %v", kind, language, err)
				}
				for part, text := range map[string]string{"subject": m.Subject, "text": m.Text, "html": m.HTML} {
					if strings.TrimSpace(text) == "" || strings.Contains(text, "{{") || strings.Contains(text, "<no value>") ||
						strings.Contains(text, "\n\n\n") && part == "text" {
						t.Errorf("%s of %s in %s: %s", part, kind, language, text)
					}
				}
				if strings.ContainsAny(m.Subject, "\r\n") || !strings.Contains(m.HTML, `lang="`+language+`"`) {
					t.Errorf("%s in %s: %q", kind, language, m.Subject)
				}
			}
			m, _ := Compose(kind, language, &full)
			for _, want := range says[kind] {
				if !strings.Contains(m.Text, want) || !strings.Contains(m.HTML, want) {
					t.Errorf("%s in %s lacks %q: %s", kind, language, want, m.Text)
				}
			}
			if strings.Contains(m.HTML, "<b>aboard") || strings.Contains(m.HTML, "<of>") {
				t.Errorf("%s in %s lets words be HTML", kind, language)
			}
			if subjects[m.Subject] {
				t.Errorf("%s in %s: another has the subject %q", kind, language, m.Subject)
			}
			subjects[m.Subject] = true
		}
	}
	if m, err := Compose("code", "xx", &full); err != nil || !strings.Contains(m.Text, "one-time code") {
		t.Errorf("an unknown language: %v %s", err, m.Text)
	}
	if _, err := Compose("nothing", "en", &full); err == nil {
		t.Error("a kind that is not there is written")
	}
}
