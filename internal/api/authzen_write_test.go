package api

import (
	"encoding/json"
	"math/rand/v2"
	"testing"
)

// TestAnswersWritten: what is written by hand is what encoding/json writes, byte for byte, whatever an answer holds.
func TestAnswersWritten(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 1))
	texts := []string{"", "pass", "domain", "ada@ilvane.example", `a "b" \c`, "<b>&", "Zoë", "line\nbreak", "\u2028", "\xff\xfe", "\x7f", "\x00", "日本"}
	text := func() string { return texts[r.IntN(len(texts))] }
	list := func() []string {
		n := r.IntN(4)
		if n == 3 {
			return nil
		}
		out := []string{}
		for range n {
			out = append(out, text())
		}
		return out
	}
	for range 2000 {
		a := azAnswer{Decision: r.IntN(2) == 0}
		switch r.IntN(8) {
		case 0:
			a.Context = azUnknown{text(), r.Uint64(), text(), text(), r.IntN(31)}
		case 1:
			a.Context = azFault{azError{r.IntN(600), text()}}
		case 2:
		default:
			x := azFound{Conditions: list(), Account: text(), Revision: r.Uint64(), At: text(), Unenforced: list(), Bundle: text(), KnownAt: text(),
				KeepSeconds: r.IntN(31) - 1}
			if r.IntN(9) > 0 {
				x.Gates = []azGate{}
			}
			for range r.IntN(3) {
				g := azGate{Gate: text(), Answer: text()}
				for range r.IntN(3) {
					g.Causes = append(g.Causes, azCause{text(), text(), text(), text()})
				}
				x.Gates = append(x.Gates, g)
			}
			a.Context = &x
		}
		want, err := json.Marshal(a)
		if err != nil {
			t.Fatal(err)
		}
		if got := a.appendTo([]byte("behind ")); string(got) != "behind "+string(want) {
			t.Fatalf("%s\nwanted behind %s", got, want)
		}
	}
}
