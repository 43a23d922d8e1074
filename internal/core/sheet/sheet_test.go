package sheet

import (
	"reflect"
	"strings"
	"testing"
)

// TestTame writes what spreadsheets take for formulas and reads it back as it was.
func TestTame(t *testing.T) {
	for cell, want := range map[string]string{
		"": "", "a": "a", "it's": "it's", "'quoted'": "'quoted'", "2026-11-29": "2026-11-29",
		`=HYPERLINK("https://x.example","y")`: `'=HYPERLINK("https://x.example","y")`,
		"+30d":                                "'+30d", "-5": "'-5", "@sum": "'@sum", "\tx": "'\tx", "\rx": "'\rx", "＝1+1": "'＝1+1",
		"'=1": "''=1", "''+1": "'''+1", "'": "'",
	} {
		if got := Tame(cell); got != want || Plain(got) != cell {
			t.Errorf("%q is written %q and read %q", cell, got, Plain(got))
		}
	}
	rows := [][]string{{"name", "reason"}, {"=1+1", "a, \"b\""}, {"'@x", "two\nlines"}, {"only"}}
	var b strings.Builder
	w := NewWriter(&b)
	for _, r := range rows {
		if err := w.Write(r); err != nil {
			t.Fatal(err)
		}
	}
	if w.Flush(); w.Error() != nil {
		t.Fatal(w.Error())
	}
	if want := "name,reason\r\n'=1+1,\"a, \"\"b\"\"\"\r\n''@x,\"two\r\nlines\"\r\nonly\r\n"; b.String() != want {
		t.Errorf("%q", b.String())
	}
	r := NewReader(strings.NewReader(b.String()))
	for _, want := range rows {
		if got, err := r.Read(); err != nil || !reflect.DeepEqual(got, want) {
			t.Errorf("%q, %v; want %q", got, err, want)
		}
	}
}

func FuzzTame(f *testing.F) {
	for _, s := range []string{"", "'=", "=x", "''", "'a"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, cell string) {
		tamed := Tame(cell)
		if Plain(tamed) != cell {
			t.Errorf("%q is read %q", cell, Plain(tamed))
		}
		if tamed != "" && strings.ContainsRune(formula, []rune(tamed)[0]) {
			t.Errorf("%q is a formula", tamed)
		}
	})
}
