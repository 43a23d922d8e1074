package e2e

import (
	"encoding/json"
	"strings"
	"testing"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// TestHistory asks since when and through what, and who could between two moments: the changes that were planted are found, and at
// every moment of the journal it is as it was recorded then.
func TestHistory(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	const vesper, valuations = "vesper.larkmoor@ilvane.example", "folder:loan-valuations"
	head, start := r.svc.State().Head.Seq, r.svc.Now()
	r.says(1, "history is of somebody outside", "history", "of", "person:d.ekwinter", "mail.forward", "mailbox:d.ekwinter")
	r.says(1, "is no moment", "history", "of", vesper, "files.open", valuations, "--from", "yesteryear")
	r.must("group", "add", "Binders", "--why", "they bind")
	r.must("grant", "add", vesper, valuations, "--role", "view", "--why", "for the survey")
	r.must("group", "add", "Printers", "--why", "they print")
	r.must("partner", "suspend", "ilvane", "--why", "an incident", "--despite", "x", "--yes")
	r.must("group", "add", "Sailmakers", "--why", "they sew")
	r.must("partner", "resume", "ilvane", "--why", "it is over", "--despite", "x", "--yes")
	r.must("grant", "end", vesper, valuations, "--why", "the survey is done")
	r.must("grant", "add", vesper, valuations, "--role", "view", "--why", "once more")

	var x struct {
		Spells []struct {
			Decision, From, Until, Text string
			First                       bool
			Change                      uint64
		}
	}
	check(t, json.Unmarshal([]byte(r.must("history", "of", vesper, "files.open", valuations, "-o", "json")), &x))
	want := []string{"yes once more", "no the survey is done", "yes it is over", "no an incident", "yes for the survey", "no at the beginning"}
	if len(x.Spells) != len(want) {
		t.Fatalf("%+v", x.Spells)
	}
	for i, w := range want {
		decision, text, _ := strings.Cut(w, " ")
		if s := x.Spells[i]; s.Decision != decision || !strings.Contains(s.Text, text) || (i == len(want)-1) != s.First ||
			!s.First && s.Change == 0 || (i == 0) != (s.Until == "") {
			t.Errorf("%d: %+v, want %s", i, s, w)
		}
	}
	r.says(0, "once more", "history", "of", vesper, "files.open", valuations)

	// As it was recorded at every change.
	who, err := engine.ParseWho(vesper)
	check(t, err)
	act, err := engine.ParseAction("files.open")
	check(t, err)
	res, err := engine.ParseResource(valuations)
	check(t, err)
	scope := engine.Scope{Actions: 1 << act, Resource: &res}
	end := r.svc.Now()
	spells, err := r.svc.HistoryOf(t.Context(), &engine.Question{Subject: who, Action: act, Resource: res}, 0, end)
	check(t, err)
	all, err := r.svc.ReachedBetween(t.Context(), &scope, start, end)
	check(t, err)
	entries, _, err := r.svc.EventsAfter(t.Context(), head)
	check(t, err)
	asked, once := 0, map[string]bool{}
	for i := range entries {
		m := moment.Of(entries[i].At)
		st, _, err := r.svc.At(t.Context(), m)
		check(t, err)
		v, err := st.Decide(&engine.Question{Subject: who, Action: act, Resource: res, At: m})
		check(t, err)
		for _, s := range spells {
			if m >= s.From && m < s.Until {
				asked++
				if s.Yes != v.Yes {
					t.Errorf("at %s it was %t, and history says %t", m, v.Yes, s.Yes)
				}
			}
		}
		check(t, st.EachYes(&scope, m, func() error { return nil }, func(y *engine.Yes) error {
			once[y.Who.String()] = true
			return nil
		}))
	}
	if asked < 5 {
		t.Errorf("only %d moments were compared", asked)
	}
	for _, l := range all {
		if !once[l.Who.String()] {
			t.Errorf("%s could at no moment that was recorded", l.Who)
		}
		delete(once, l.Who.String())
		if l.Who.String() == vesper && (l.Spells != 3 || l.Last != end) {
			t.Errorf("%+v", l)
		}
	}
	if len(once) > 0 {
		t.Errorf("history leaves out %v", once)
	}
	out := r.must("history", "audience", valuations, "--action", "files.open", "--party", "partner:ilvane")
	if !strings.Contains(out, "Vesper Larkmoor") || strings.Contains(out, "tholemere") {
		t.Error(out)
	}
	// Who could only before is found, too.
	r.must("grant", "end", vesper, valuations, "--why", "enough")
	r.says(0, "Vesper Larkmoor", "history", "audience", valuations, "--action", "files.open", "--from", "-1d")
	r.says(0, "Nobody could.", "history", "audience", valuations, "--action", "files.open", "--party", "partner:marrowby")
}
