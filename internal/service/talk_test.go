package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// mailed keeps what is sent.
type mailed struct{ got []string }

func (m *mailed) Send(_ context.Context, to, id string, x *mail.Message) error {
	m.got = append(m.got, to+" <"+id+"> "+x.Subject)
	if !strings.Contains(x.Text, "To the administrator of Lamps") {
		return errors.New("this is no letter: " + x.Text)
	}
	return nil
}

// TestLetterIsMailed: a letter that is to be mailed is, to those it goes to and in copy to the
// partner's owner; a second one on the same matter is refused unless it is meant.
func TestLetterIsMailed(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, pair)
	to := &mailed{}
	by := By{Who: "test"}
	l := world.Letter{Partner: "lamps", Keys: mustKeys(t, "chat.in")}
	by.Preview = true
	ahead, err := s.SendLetter(t.Context(), by, l, true, false)
	check(t, err)
	if got := strings.Join(ahead.Mailed, " "); got != "desk@lamps.example uma@ours.example" || ahead.NotMailed != "" || len(ahead.Same) != 0 {
		t.Fatalf("ahead: %+v", ahead)
	}
	if all, err := s.Letters(t.Context(), ""); err != nil || len(all) != 0 {
		t.Fatalf("a preview keeps %v, %v", all, err)
	}
	by.Preview = false
	sent, err := s.SendLetter(t.Context(), by, l, true, false)
	check(t, err)
	if n, err := s.SendWaiting(t.Context(), to); err != nil || n != 2 {
		t.Fatalf("%d were sent, %v", n, err)
	}
	want := "desk@lamps.example <" + sent.MessageID + "> What Small asks the administrator of Lamps to admit (" + sent.Letter.ID + ")"
	if len(to.got) != 2 || to.got[0] != want || !strings.HasPrefix(to.got[1], "uma@ours.example <") {
		t.Errorf("%q, want %q first", to.got, want)
	}
	if _, err := s.SendLetter(t.Context(), by, l, true, false); !errors.Is(err, ErrConflict) ||
		!strings.Contains(err.Error(), sent.Letter.ID) {
		t.Errorf("a second one: %v", err)
	}
	if again, err := s.SendLetter(t.Context(), by, l, false, true); err != nil || again.NotMailed == "" || len(again.Mailed) != 0 ||
		again.Same[0] != sent.Letter.ID {
		t.Errorf("%+v %v", again, err)
	}
	l.To, l.Keys = "Mr Lamp, by telephone", mustKeys(t, "spaces.in")
	var x *Invalid
	if _, err := s.SendLetter(t.Context(), by, l, true, false); !errors.As(err, &x) || x.Field != "to" {
		t.Errorf("mailed to nowhere: %v", err)
	}
}

// TestStanceTakenBack: who recorded something by mistake takes it back, and the letters that
// it closed are open again.
func TestStanceTakenBack(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, pair)
	sent, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "chat.in")}, false, false)
	check(t, err)
	says := func() string {
		p, err := s.State().Partner("lamps")
		check(t, err)
		l, err := s.Letter(t.Context(), sent.Letter.ID)
		check(t, err)
		for _, x := range p.Stance {
			if x.Key == catalogue.In(catalogue.Chat) {
				return world.SaysNames[x.Says] + " " + world.AnswerNames[l.Answer]
			}
		}
		return "nothing " + world.AnswerNames[l.Answer]
	}
	var x *Invalid
	if err := s.SetStance(t.Context(), "test", "", "lamps", "chat.in", []byte(`{"says":"admits","source":"recorded"}`)); !errors.As(err, &x) ||
		x.Field != "said_by" {
		t.Errorf("nobody said so: %v", err)
	}
	check(t, s.SetStance(t.Context(), "test", "", "lamps", "chat.in", []byte(`{"says":"admits","source":"recorded","said_by":"their desk"}`)))
	if got := says(); got != "admits admitted" {
		t.Fatal(got)
	}
	check(t, s.UndoStance(t.Context(), "test", "", "lamps", "chat.in"))
	if got := says(); got != "refuses open" {
		t.Fatal(got)
	}
	// What it would do is told before, and nothing is written.
	ask := func() bool { return decide(t, s, "a@lamps.example", "chat.message", "person:uma") }
	was, head := ask(), s.State().Head
	w, err := s.WeighStance(t.Context(), "lamps", "chat.in", []byte(`{"says":"admits"}`))
	check(t, err)
	if was || w.Nothing() || w.Was != "refuses" || w.Becomes != "admits" || !w.Loosens ||
		fmt.Sprint(w.Newcomers) != "[a newcomer from Lamps]" || w.Parties.Lost != 0 || s.State().Head != head {
		t.Errorf("it is %v already; weighed %+v", was, w)
	}
	if w, err := s.WeighStance(t.Context(), "lamps", "chat.in", []byte(`{"says":"refuses"}`)); err != nil || !w.Nothing() {
		t.Errorf("the same again: %+v %v", w, err)
	}
	check(t, s.SetStance(t.Context(), "test", "", "lamps", "mail.in", []byte(`{"says":"refuses","source":"recorded","said_by":"their desk"}`)))
	check(t, s.UndoStance(t.Context(), "test", "", "lamps", "mail.in"))
	if err := s.UndoStance(t.Context(), "test", "", "lamps", "mail.in"); !errors.Is(err, ErrNotFound) {
		t.Errorf("nothing is there to take back: %v", err)
	}
	if got := says(); got != "refuses open" {
		t.Fatal(got)
	}
}

// TestValueIsWeighed: what a value at a space does is told before, and what lets more through
// needs a reason.
func TestValueIsWeighed(t *testing.T) {
	s, c := start(t, dbtest.DSN(t))
	load(t, s, strings.Replace(guestWorld, "  spaces.pages: {default: on}", "  spaces.pages: {limit: on, default: on}", 1)+`guests:
  - {address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: b@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
grants:
  - {party: a@ilvane.example, resource: space:dossier, role: contribute, from: 2026-11-01}
  - {party: b@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01}
`)
	where, err := ParseWhere("space:dossier")
	check(t, err)
	off := ValueChange{Where: where, Rule: "spaces.pages", Value: "off"}
	w, err := s.WeighValue(t.Context(), off)
	check(t, err)
	if w.Nothing() || w.Loosens || w.Was != "on" || w.Becomes != "off" || w.Parties.Gained != 0 || w.Parties.Lost != 1 ||
		w.Granted.Lost != 1 || fmt.Sprint(w.Lines) != "[a@ilvane.example loses]" {
		t.Errorf("%+v", w)
	}
	if !decide(t, s, "a@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("weighing changed something")
	}
	check(t, s.SetValue(t.Context(), "test", "", off))
	back := ValueChange{Where: where, Rule: "spaces.pages"}
	if w, err = s.WeighValue(t.Context(), back); err != nil || !w.Loosens || w.Parties.Gained != 1 || w.Granted.Gained != 1 {
		t.Errorf("%+v %v", w, err)
	}
	var x *Invalid
	if err := s.SetValue(t.Context(), "test", " ", back); !errors.As(err, &x) || x.Field != "why" {
		t.Errorf("without a reason: %v", err)
	}
	check(t, s.SetValue(t.Context(), "test", "they write it", back))
	if !decide(t, s, "a@ilvane.example", "spaces.edit_page", "page:notes") {
		t.Error("it is off")
	}
	// A course that anybody may join is open to whoever comes, and that is counted.
	load(t,
		s,
		"wexillum: 1\nrules: {spaces.join_in: {limit: any, default: closed}}\nspaces: [{id: class, name: Class, kind: course, joinable: yes, owners: [uma]}]\n")
	class, err := ParseWhere("space:class")
	check(t, err)
	w, err = s.WeighValue(t.Context(), ValueChange{Where: class, Rule: "spaces.join_in", Value: "any"})
	check(t, err)
	if w.Nothing() || !slices.Contains(w.Newcomers, "a newcomer from an unlisted firm") {
		t.Errorf("%+v", w)
	}
	// A shorter review at a space counts from now on, and ends nothing that was given long ago.
	review := ValueChange{Where: where, Rule: "guests.review_days", Value: "10"}
	silence := ValueChange{Where: where, Rule: "guests.review_silence", Value: "end"}
	for _, v := range []ValueChange{silence, review} {
		check(t, s.SetValue(t.Context(), "test", "shorter", v))
	}
	if !decide(t, s, "a@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("a review that nobody was asked for ended what was given")
	}
	c.at = c.at.Add(20 * 24 * time.Hour)
	if decide(t, s, "a@ilvane.example", "spaces.enter", "space:dossier") {
		t.Error("silence never ends it")
	}
}

// TestBadCharacters: a character of every class in texts of operations of every sort is
// either refused, and then nothing was written, or kept as it is; a dump is always whole.
func TestBadCharacters(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, pair)
	sent, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "spaces.in")}, false, false)
	check(t, err)
	keeper := Who{Name: "test", Role: Administrator}
	refused, kept := 0, 0
	for _, char := range []string{"a", "é", "語", "🪢", "\u0301", " ", "\t", "\n", "\r", "\x00", "\x01", "\x1b", "\x7f", "\u0085", "\u009b",
		"\u00a0", "\u200b", "\u200e", "\u202e", "\u2028", "\u2029", "\ufeff", "\ufffd", "\ufffe", "\ue000", "\U000f0000", "\xff",
		"\xed\xa0\x80"} {
		text := "x" + char + "y"
		head := s.State().Head
		for name, do := range map[string]func() error{
			"the answer to a letter": func() error {
				return s.CloseLetter(t.Context(), By{Who: "test", Preview: false}, sent.Letter.ID, "none", text)
			},
			"a note of a letter": func() error {
				_, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "spaces.in"), Note: text}, false,
					true)
				return err
			},
			"a reason": func() error {
				return s.SetStance(t.Context(), "test", text, "lamps", "files.in", []byte(`{"says":"unknown"}`))
			},
			"who acts": func() error {
				return s.SetStance(t.Context(), text, "", "lamps", "mail.in", []byte(`{"says":"unknown"}`))
			},
			"who said so": func() error {
				return s.SetStance(t.Context(), "test", "", "lamps", "chat.in",
					[]byte(`{"says":"admits","source":"recorded","said_by":`+jsonText(text)+`}`))
			},
			"the name of one": func() error {
				_, err := s.SplitPartner(t.Context(), By{Who: "test", Why: "x"}, "lamps", []string{"*.works.lamps.example"}, "works", text)
				return err
			},
			"a purpose": func() error {
				_, err := s.ChangeGuests(t.Context(), keeper, GuestChange{Do: "edit", Addresses: []string{"a@lamps.example"}, Purpose: &text,
					Reason: text}, false)
				return err
			},
			"a reason of an exception": func() error {
				return s.PatchException(t.Context(), "test", "x", "e",
					[]byte(`{"id":"e","people":["uma"],"parties":["partner:lamps"],"rules":{"chat.federation":"closed"},"until":"2027-01-01","reason":`+jsonText(text)+`}`),
					"")
			},
			"a file": func() error {
				_, err := s.Load(t.Context(), "test", "", "f",
					[]byte("wexillum: 1\nspaces: [{id: yard, name: \""+text+"\", kind: team, owners: [uma]}]\n"), false)
				return err
			},
		} {
			before := s.State().Head
			if err := do(); err != nil {
				refused++
				if now := s.State().Head; now != before {
					t.Errorf("%s with %q: refused, %v, and written", name, char, err)
				}
			} else {
				kept++
			}
		}
		w, unread, err := s.WorldAndUnread(t.Context(), store.Head{})
		if err != nil || len(unread) > 0 {
			t.Fatalf("%q: %v %v", char, unread, err)
		}
		if _, err := worldfile.Read(worldfile.Write(w), worldfile.Options{Now: s.Now()}); err != nil {
			t.Fatalf("after %q (from %v) the dump cannot be read: %v", char, head, err)
		}
		if _, err := s.Findings(t.Context()); err != nil {
			t.Fatalf("%q: %v", char, err)
		}
	}
	if refused < 60 || kept < 60 {
		t.Errorf("%d refused, %d kept", refused, kept)
	}
}

// TestUnreadRecord: one record that an earlier version let in stops nothing: it counts, and is
// dumped, without what no text may hold; it is named, a finding, and can be mended.
func TestUnreadRecord(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, pair)
	sent, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "chat.in"), Note: "call-them"},
		false, false)
	check(t, err)
	other, err := s.SendLetter(t.Context(), By{Who: "test"}, world.Letter{Partner: "lamps", Keys: mustKeys(t, "spaces.in")}, false, false)
	check(t, err)
	db, err := sql.Open("mysql", dsn)
	check(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(),
		"UPDATE record SET doc = REPLACE(doc, 'call-them', 'call\\\\u0001them') WHERE kind = 'letter' AND id = ?", sent.Letter.ID)
	check(t, err)
	again, err := New(t.Context(), s.store, nil, s.log)
	check(t, err)
	w, unread, err := again.WorldAndUnread(t.Context(), store.Head{})
	check(t, err)
	if len(unread) != 1 || unread[0].Kind != "letter" || unread[0].ID != sent.Letter.ID || unread[0].Lost || len(w.Letters) != 2 ||
		w.Letters[0].Note != "callthem" || w.Letters[1].ID != other.Letter.ID {
		t.Fatalf("%+v, letters %+v", unread, w.Letters)
	}
	if all, err := again.Letters(t.Context(), ""); err != nil || len(all) != 2 {
		t.Errorf("%v %v", all, err)
	}
	found, err := again.Findings(t.Context())
	check(t, err)
	named := false
	for f := range found.All() {
		named = named || f.ID == "record_unread letter:"+sent.Letter.ID
	}
	if !named {
		t.Error("it is no finding")
	}
	check(t, again.Mend(t.Context(), Who{Name: "ada", Role: Administrator}, "letter", sent.Letter.ID, ""))
	if w, unread, err = again.WorldAndUnread(t.Context(), store.Head{}); err != nil || len(unread) != 0 || len(w.Letters) != 2 {
		t.Errorf("mended: %+v %v", unread, err)
	}
}

// TestUnreadElsewhere does the same with what is kept in columns, and with policy: a bar that
// cannot be read as it is kept still bars.
func TestUnreadElsewhere(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, guestWorld+`guests:
  - {address: a@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, purpose: call-them}
  - {address: b@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
barred: [{address: b@ilvane.example, reason: call-them}]
`)
	db, err := sql.Open("mysql", dsn)
	check(t, err)
	defer db.Close()
	_, err = db.ExecContext(t.Context(), "UPDATE guest SET purpose = CONCAT('call', CHAR(1), 'them') WHERE address = 'a@ilvane.example'")
	check(t, err)
	_, err = db.ExecContext(t.Context(), "UPDATE item SET name = CONCAT('No', CHAR(27), 'tes') WHERE id = 'notes'")
	check(t, err)
	_, err = db.ExecContext(t.Context(), "UPDATE policy SET doc = REPLACE(doc, 'call-them', 'call\\\\u0001them') WHERE kind = 'bar'")
	check(t, err)
	again, err := New(t.Context(), s.store, nil, s.log)
	check(t, err)
	if decide(t, again, "b@ilvane.example", "directory.sign_in", "directory:ours") {
		t.Error("who is barred signs in")
	}
	w, unread, err := again.WorldAndUnread(t.Context(), store.Head{})
	check(t, err)
	if _, err := worldfile.Read(worldfile.Write(w), worldfile.Options{Now: s.Now()}); err != nil {
		t.Fatalf("the dump cannot be read: %v; left out %+v", err, unread)
	}
	if len(unread) != 3 {
		t.Fatalf("%+v", unread)
	}
	for _, u := range unread {
		check(t, again.Mend(t.Context(), Who{Name: "ada", Role: Administrator}, u.Kind, u.ID, ""))
	}
	if w, unread, err = again.WorldAndUnread(t.Context(), store.Head{}); err != nil || len(unread) != 0 || len(w.Guests) != 2 ||
		w.Guests[0].Purpose != "callthem" || w.Barred[0].Reason != "callthem" {
		t.Errorf("mended: %+v %v %+v", unread, err, w.Guests)
	}
}

// TestPreviewHoldsNobodyUp previews a file that takes long, while a bar is added: neither waits for
// the other, and the preview writes nothing.
func TestPreviewHoldsNobodyUp(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	var file strings.Builder
	file.WriteString("wexillum: 1\nguests:\n")
	const many = 6000
	for i := range many {
		fmt.Fprintf(&file, "  - {address: p%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, purpose: %s}\n", i,
			strings.Repeat("a long purpose ", 20))
	}
	before := s.State().Head
	begun, over := make(chan struct{}), make(chan error, 1)
	go func() {
		close(begun)
		out, err := s.Load(context.Background(), "lars", "look", "f", []byte(file.String()), true)
		if err == nil && out.Kinds["inventory"] < many {
			err = fmt.Errorf("%+v", out)
		}
		over <- err
	}()
	<-begun
	longest, bars := time.Duration(0), 0
	for done := false; !done; {
		select {
		case err := <-over:
			check(t, err)
			done = true
		default:
			at := time.Now()
			_, err := s.AddBar(t.Context(), "uma", "spam", []byte(fmt.Sprintf(`{"name":"b%d.example"}`, bars)))
			check(t, err)
			longest, bars = max(longest, time.Since(at)), bars+1
		}
	}
	if bars < 3 {
		t.Errorf("%d bars were added while the file was looked at", bars)
	}
	if n := s.State().Counts().Guests; n > 10 || s.State().Head.Seq > before.Seq+uint64(3*bars)+10 {
		t.Errorf("%d guests at %+v, and nothing was to be written", n, s.State().Head)
	}
	t.Logf("%d bars meanwhile, the slowest in %v", bars, longest)
}
