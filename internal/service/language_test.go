package service

import (
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
)

// TestOurLanguage writes to people of ours in the language that they are known to read.
func TestOurLanguage(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "{id: ben, name: Ben, address: ben@ours.example}", "{id: ben, name: Ben, address: ben@ours.example, language: pt}", 1)+`
guests:
  - {address: ada@ilvane.example, name: Ada, sponsor: ben, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-27}
  - {address: bo@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: 2026-11-27}
`)
	c.at = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)
	carry(t, s)
	post := &box{}
	send := func() map[string]string {
		t.Helper()
		post.got = nil
		_, err := s.SendWaiting(t.Context(), post)
		check(t, err)
		out := map[string]string{}
		for _, m := range post.got {
			out[m.to] = m.Subject + "\n" + m.Text
		}
		return out
	}
	_, err := s.Warn(t.Context(), false)
	check(t, err)
	got := send()
	for who, want := range map[string][]string{
		"ben@ours.example": {"Um dos seus convidados pede atenção", "Bom dia, Ben.",
			"- 27 de novembro de 2026: Ada: o registo é suspenso (o fim do próprio registo)"},
		"uma@ours.example": {"One of your guests needs a look", "Hello Uma,",
			"- 27 November 2026: Bo: the record is suspended (the record's own end)"},
	} {
		for _, w := range want {
			if !strings.Contains(got[who], w) {
				t.Errorf("%s lacks %q:\n%s", who, w, got[who])
			}
		}
	}
	_, err = s.PersonLeaves(t.Context(), keeper, "uma", "", "ben", "leaves", false)
	check(t, err)
	if m := send()["ben@ours.example"]; !strings.HasPrefix(m, "Uma sai: quer responder pelos seus convidados?") ||
		!strings.Contains(m, "- 1 convidado, 0 permissões") {
		t.Errorf("%s", m)
	}
	// Lists take and give it.
	_, err = s.PutList(t.Context(), keeper, "languages", "people", "csv", nil, strings.NewReader("id,language\numa,pt\n"), false)
	check(t, err)
	var out strings.Builder
	check(t, s.List(t.Context(), "people", "csv", &out))
	if want := "id,name,address,groups,roles,language,left\nben,Ben,ben@ours.example,,,pt,\numa,Uma,uma@ours.example,,,pt,2026-11-23T12:00:00Z\n"; strings.ReplaceAll(out.String(),
		"\r", "") != want {
		t.Errorf("%s", out.String())
	}
}
