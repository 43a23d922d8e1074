package service

import (
	"encoding/json"
	"fmt"
	"regexp"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
)

var pseudonymIn = regexp.MustCompile(`forgotten\.[0-9a-f]{16}@ilvane\.example`)

// TestForgetWhole forgets one address and leaves others alone that read alike: what ends or
// begins like it is somebody else.
func TestForgetWhole(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "{id: crew, name: Crew}", "{id: crew, name: Crew, parties: [b@ilvane.example, ab@ilvane.example]}", 1)+`guests:
  - {address: b@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: ab@ilvane.example, name: Bob, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: b@ilvane.example.net, name: Boris, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
grants:
  - {party: ab@ilvane.example, resource: file:kit, role: view, from: 2026-11-01, sponsor: uma}
  - {party: b@ilvane.example.net, resource: file:kit, role: view, from: 2026-11-01, sponsor: uma}
links: [{id: k, item: file:kit, created: 2026-11-01, for: [ab@ilvane.example, b@ilvane.example], right: view, by: uma}]
`)
	ctx := t.Context()
	about, err := s.MakeEvidence(ctx, keeper, EvidenceScope{Party: "b@ilvane.example", Why: "what Bo reaches", At: moment.Always})
	check(t, err)
	whole, err := s.MakeEvidence(ctx, keeper, EvidenceScope{Why: "who reaches anything", At: moment.Always})
	check(t, err)
	noticed, err := s.Findings(ctx)
	check(t, err)
	check(t, s.KeepNoticed(ctx, noticed))
	_, err = s.ChangeGuests(ctx, keeper, GuestChange{Do: Suspend, Addresses: []string{"ab@ilvane.example"},
		Reason: "Bob, not Bo <b@ilvane.example>:\nb@ilvane.example. ab@ilvane.example"}, false)
	check(t, err)
	_, err = s.Invite(ctx, keeper, Invitation{List: "x@ilvane.example", As: "uma", Purpose: "like b@ilvane.example",
		Text: "Write to\nb@ilvane.example or <b@ilvane.example>, not to ab@ilvane.example; B@Ilvane.Example is wrong"}, false)
	check(t, err)
	_, err = s.ChangeGuests(ctx, keeper, GuestChange{Do: Remove, Addresses: []string{"b@ilvane.example"}, Reason: "gone"}, false)
	check(t, err)
	tell := func(about string) (out string) {
		t.Helper()
		es, err := s.Journal(ctx, store.JournalQuery{About: about, Limit: 100})
		check(t, err)
		for _, e := range es {
			out += fmt.Sprintf("%d %s %s %s %s\n", e.Seq, e.Kind, e.ID, e.Was, e.Now)
		}
		return
	}
	before := tell("ab@ilvane.example") + tell("b@ilvane.example.net")
	c.forward(110 * 24 * time.Hour)
	carry(t, s)
	if n, err := s.Forget(ctx); n != 1 || err != nil {
		t.Fatalf("%d forgotten, %v", n, err)
	}
	if after := tell("ab@ilvane.example") + tell("b@ilvane.example.net"); !strings.Contains(after, before[:strings.Index(before, "\n")]) ||
		strings.Contains(after, "forgotten.") {
		t.Errorf("others were changed:\n%s\nbefore\n%s", after, before)
	}
	for _, e := range []*Evidence{about, whole} { // records stay valid, and name them no more
		checks, err := s.VerifyEvidence(ctx, e.ID)
		check(t, err)
		for _, x := range checks {
			if !x.OK {
				t.Errorf("%s: %+v", e.ID, x)
			}
		}
		gone, others := 0, 0
		check(t, s.store.EvidenceNames(ctx, e.ID, func(n *store.EvidenceName) error {
			switch n.Name {
			case "":
				gone++
			case "b@ilvane.example":
				t.Error("they are still named in a record")
			default:
				others++
			}
			return nil
		}))
		text, err := json.Marshal(e.Manifest)
		check(t, err)
		if gone != 1 || (others > 0) != (e == whole) || strings.Contains(string(text), "b@ilvane.example") {
			t.Errorf("%d names are gone, %d are there: %s", gone, others, text)
		}
	}
	past, err := s.FindingsGone(ctx, "", 1000)
	check(t, err)
	for _, x := range past {
		if strings.Contains(fmt.Sprint(x), "guest:b@ilvane.example]") {
			t.Errorf("a finding still names them: %+v", x)
		}
	}
	es, err := s.Journal(ctx, store.JournalQuery{Limit: 5000})
	check(t, err)
	words := ""
	for _, e := range es {
		words += fmt.Sprintf("%s | %s | %s | %s | %s\n", e.Who, e.ID, e.Was, e.Now, e.Why)
	}
	// A pseudonym may end with the letter that the address begins with.
	left := strings.NewReplacer("ab@ilvane.example", "", "b@ilvane.example.net", "").Replace(pseudonymIn.ReplaceAllString(words, ""))
	if strings.Contains(strings.ToLower(left), "b@ilvane.example") {
		t.Errorf("it is still named: %s", left)
	}
	if !strings.Contains(words, "ab@ilvane.example") || !strings.Contains(words, "Bob, not forgotten.") {
		t.Errorf("%s", words)
	}
	if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("the journal: %d %+v %v", n, broken, err)
	}
	rows, err := s.store.DB().QueryContext(ctx, "SELECT address FROM guest UNION SELECT party FROM `grant` UNION SELECT doc FROM record")
	check(t, err)
	defer rows.Close()
	all := ""
	for rows.Next() {
		var text string
		check(t, rows.Scan(&text))
		all += text + "\n"
	}
	if strings.Contains(all, "aforgotten.") || strings.Contains(all, "forgotten.") && strings.Contains(all, ".example.net") &&
		!strings.Contains(all, "b@ilvane.example.net") {
		t.Errorf("others were changed: %s", all)
	}
}

// TestListsKnowAddresses finds the record that a line is about however its address is written,
// so that columns that are not there change nothing.
func TestListsKnowAddresses(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "domains: [ilvane.example]", "domains: [ilvane.example, xn--bcher-kva.example]", 1)+`guests: [{address: ida@xn--bcher-kva.example, name: Ida, purpose: books, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]
grants: [{party: ida@xn--bcher-kva.example, resource: file:kit, role: view, from: 2026-11-01, until: 2026-12-31, sponsor: ben}]
`)
	for _, x := range []struct{ what, text string }{{"guests", "address,language\n Ida@Bücher.example ,pt\n"},
		{"grants", "party,resource,role,from,until\nIDA@BÜCHER.example,file:kit,view,2026-11-01,2027-01-31\n"}} {
		out, err := s.PutList(t.Context(), keeper, "", x.what, "csv", nil, strings.NewReader(x.text), false)
		check(t, err)
		if out.Changed != 1 || out.Added != 0 || len(out.Errors) != 0 {
			t.Errorf("%s: %+v", x.what, out)
		}
	}
	g, own, err := s.Guest(t.Context(), "ida@bücher.example")
	check(t, err)
	if g.Name != "Ida" || g.Purpose != "books" || g.Language != "pt" || len(own) != 1 || own[0].Sponsor != "ben" ||
		own[0].Until.String() != "2027-02-01T00:00:00Z" {
		t.Errorf("%+v %+v", g, own)
	}
}

// TestForgetAddressLikeAPseudonym forgets somebody whose own address reads like a pseudonym.
func TestForgetAddressLikeAPseudonym(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t,
		s, guestWorld+"guests: [{address: forgotten.harbour@ilvane.example, name: Fo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]\n")
	ctx := t.Context()
	_, err := s.ChangeGuests(ctx, keeper, GuestChange{Do: Remove, Addresses: []string{"forgotten.harbour@ilvane.example"}, Reason: "gone"},
		false)
	check(t, err)
	c.forward(400 * 24 * time.Hour)
	carry(t, s)
	for _, want := range []int{1, 0} { // once, and the pseudonym itself never
		if n, err := s.Forget(ctx); n != want || err != nil {
			t.Errorf("%d forgotten, %v; want %d", n, err, want)
		}
		c.forward(400 * 24 * time.Hour)
	}
	es, err := s.Journal(ctx, store.JournalQuery{Limit: 1000})
	check(t, err)
	for _, e := range es {
		if strings.Contains(fmt.Sprintf("%s %s %s %s", e.ID, e.Was, e.Now, e.Who), "forgotten.harbour@") {
			t.Errorf("%+v", e)
		}
	}
}
