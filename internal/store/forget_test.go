package store

import "testing"

// TestReplaceWhole replaces an address or a name where it stands by itself, in texts and in
// JSON, and nowhere else.
func TestReplaceWhole(t *testing.T) {
	const a = "b@firm.example"
	for text, want := range map[string]string{
		"":                                    "",
		a:                                     "X",
		"to " + a + ", and " + a:              "to X, and X",
		"<" + a + ">":                         "<X>",
		"Write to " + a + ".":                 "Write to X.",
		a + ". " + a + "\n" + a:               "X. X\nX",
		"Ask B@Firm.example, AB@Firm.example": "Ask X, AB@Firm.example",
		"guest:" + a:                          "guest:X",
		"mail=" + a:                           "mail=X",
		"ab@firm.example":                     "ab@firm.example",
		"a.b@firm.example":                    "a.b@firm.example",
		"a-b@firm.example":                    "a-b@firm.example",
		"é" + a:                               "é" + a,
		a + ".net":                            a + ".net",
		a + "-x.example":                      a + "-x.example",
		a + "s":                               a + "s",
		`"Hi\n` + a + `"`:                     `"Hi\nX"`,
		`"\u003c` + a + `\u003e"`:             `"\u003cX\u003e"`,
		`["` + a + `","a` + a + `"]`:          `["X","a` + a + `"]`,
	} {
		if got := replaceWhole(text, a, "X", inAddress); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
	for text, want := range map[string]string{"Bo": "X", "Bob and Bo": "Bob and X", "Bo's": "X's", "BO": "X", "Jabo, Bo.": "Jabo, X.",
		"Boé": "Boé", `"name":"Bo"`: `"name":"X"`} {
		if got := replaceWhole(text, "Bo", "X", inName); got != want {
			t.Errorf("%q: %q, want %q", text, got, want)
		}
	}
}
