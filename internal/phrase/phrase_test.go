package phrase

import (
	"testing"

	"wexillum.example/internal/core/dated"
)

// TestWhole finds words for every step and cause in every language, and none twice in one.
func TestWhole(t *testing.T) {
	for _, l := range Languages {
		seen := map[string]bool{}
		once := func(what, s string) {
			if s == "" || seen[s] {
				t.Errorf("%s, %s: %q is missing or stands twice", l, what, s)
			}
			seen[s] = true
		}
		for k := range dated.NumKinds {
			once(dated.Kind(k).String(), Step(l, dated.Kind(k)))
		}
		for c := dated.NoCause + 1; c < dated.NumCauses; c++ {
			once(c.String(), Cause(l, c))
		}
	}
	st := dated.Step{Kind: dated.Removed, Cause: dated.ByGrace, After: dated.ByIdle}
	for l, want := range map[string]string{
		"en": "the days of grace are over, after: not seen for too long", "fr": "the days of grace are over, after: not seen for too long",
		"pt": "passaram os dias de espera, depois de: não aparece há demasiado tempo",
	} {
		if got := Because(l, &st); got != want {
			t.Errorf("%s: %s", l, got)
		}
	}
}
