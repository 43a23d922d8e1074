package addr

import (
	"os"
	"regexp"
	"slices"
	"strings"
	"testing"

	"golang.org/x/net/publicsuffix"
)

func TestParse(t *testing.T) {
	for _, c := range []struct{ in, want, reason string }{
		{"a@b.example", "a@b.example", ""},
		{"Maren.Holtveig@ILVANE.example", "maren.holtveig@ilvane.example", ""},
		{"A.B+Tag@b.example", "a.b+tag@b.example", ""}, // dots and tags stay
		{"!#$%&'*+-/=?^_`{|}~@b.example", "!#$%&'*+-/=?^_`{|}~@b.example", ""},
		{`"a b"@b.example`, `"a b"@b.example`, ""},
		{`"a\"b@c"@b.example`, `"a\"b@c"@b.example`, ""},
		{"a@Bücher.example", "a@xn--bcher-kva.example", ""},
		{"a@faß.example", "a@xn--fa-hia.example", ""}, // RFC 5894 §7.2: ß stays itself
		{"*@b.example", "*@b.example", ""},
		{"", "", "the address is empty (at position 1)"},
		{"a", "", "there is no @ (at position 2)"},
		{"@b.example", "", "nothing stands before the @ (at position 1)"},
		{".a@b.example", "", "a dot cannot come first or twice in a row (at position 1)"},
		{"a..b@b.example", "", "a dot cannot come first or twice in a row (at position 3)"},
		{"a.@b.example", "", "a dot cannot stand right before the @ (at position 2)"},
		{"a b@b.example", "", "there is a blank before the @ (at position 2)"},
		{"ä@b.example", "", "only ASCII may stand before the @ (at position 1)"},
		{"a(c)@b.example", "", "the character '(' cannot stand before the @ (at position 2)"},
		{`"a@b.example`, "", "the opening quote is never closed (at position 1)"},
		{`""@b.example`, "", "the quotes are empty (at position 1)"},
		{`"a"b@b.example`, "", "an @ must follow the closing quote (at position 4)"},
		{"a@", "", "the domain is empty (at position 3)"},
		{"a@b", "", "a full domain has at least two labels (at position 3)"},
		{"a@b.example.", "", "a label between two dots is empty (at position 13)"},
		{"a@b..example", "", "a label between two dots is empty (at position 5)"},
		{"a@-b.example", "", "a label cannot begin with a hyphen (at position 3)"},
		{"a@b-.example", "", "a label cannot end with a hyphen (at position 4)"},
		{"a@[192.0.2.1]", "", "an address literal stands where a domain belongs (at position 3)"},
		{"a@192.0.2.1", "", "an IP address stands where a domain belongs (at position 3)"},
		{"a@b@c.example", "", `it contains two "@" (at position 4)`},
		{strings.Repeat("x", 65) + "@b.example", "", "the part before the @ has at most 64 characters (at position 65)"},
		{"a@" + strings.Repeat("x", 64) + ".example", "", "a label has at most 63 characters (at position 3)"},
		{"a@" + strings.Repeat("ü", 700) + ".example", "", "a domain has at most 253 characters (at position 256)"},
		{"a@" + strings.Repeat("x.", 130) + "example", "", "a domain has at most 253 characters (at position 256)"},
		{"a\xff@b.example", "", "the text is not valid UTF-8 (at position 2)"},
	} {
		a, err := Parse(c.in)
		switch {
		case c.reason == "" && (err != nil || a.String() != c.want):
			t.Errorf("%q: %q, %v; want %q", c.in, a, err, c.want)
		case c.reason != "" && (err == nil || !strings.HasSuffix(err.Error(), c.reason)):
			t.Errorf("%q: %v; want %s", c.in, err, c.reason)
		case c.reason == "" && Normal(c.want) != a:
			t.Errorf("%q: taken as normal it is %#v; want %#v", c.want, Normal(c.want), a)
		}
	}
}

// TestPunycode reads the sample strings of RFC 3492 §7.1 as labels. Two of them
// are no labels that a name may have: H is longer than 63 characters, and S holds
// characters no host name has.
func TestPunycode(t *testing.T) {
	for name, c := range map[string][2]string{
		"A": {"ليهمابتكلموشعربي؟", "egbpdaj6bu4bxfgehfvwxn"},
		"B": {"他们为什么不说中文", "ihqwcrb4cv8a8dqg056pqjye"},
		"C": {"他們爲什麽不說中文", "ihqwctvzc91f659drss3x8bo0yb"},
		"D": {"Pročprostěnemluvíčesky", "proprostnemluvesky-uyb24dma41a"},
		"E": {"למההםפשוטלאמדבריםעברית", "4dbcagdahymbxekheh6e0a7fei0b"},
		"F": {"यहलोगहिन्दीक्योंनहींबोलसकतेहैं", "i1baa7eci9glrd9b2ae1bj0hfcgg6iyaf8o0a1dig0cd"},
		"G": {"なぜみんな日本語を話してくれないのか", "n8jok5ay5dzabd5bym9f0cm5685rrjetr6pdxa"},
		"I": {"почемужеонинеговорятпорусски", "b1abfaaepdrnnbgefbadotcwatmq2g4l"},
		"J": {"PorquénopuedensimplementehablarenEspañol", "porqunopuedensimplementehablarenespaol-fmd56a"},
		"K": {"TạisaohọkhôngthểchỉnóitiếngViệt", "tisaohkhngthchnitingvit-kjcr8268qyxafd2f1b9g"},
		"L": {"3年B組金八先生", "3b-ww4c5e180e575a65lsy2b"},
		"N": {"Hello-Another-Way-それぞれの場所", "hello-another-way--fc4qua05auwb3674vfr0b"},
		"O": {"ひとつ屋根の下2", "2-u9tlzr9756bt3uc0v"},
		"P": {"MajiでKoiする5秒前", "majikoi5-783gue6qz075azm5e"},
		"Q": {"パフィーdeルンバ", "de-jg4avhby1noc0d"},
		"R": {"そのスピードで", "d9juau41awczczp"},
	} {
		d, err := ParseDomain(c[0] + ".example")
		if err != nil || d.String() != "xn--"+c[1]+".example" {
			t.Errorf("%s: %q, %v; want xn--%s", name, d, err, c[1])
		}
		back, err := ParseDomain("XN--" + strings.ToUpper(c[1]) + ".Example")
		if err != nil || back != d || back.Unicode() != strings.ToLower(c[0])+".example" {
			t.Errorf("%s: back %q (%s), %v", name, back, back.Unicode(), err)
		}
	}
	for name, s := range map[string]string{"H": "세계의모든사람들이한국어를이해한다면얼마나좋을까", "S": "-> $1.00 <-"} {
		if d, err := ParseDomain(s + ".example"); err == nil {
			t.Errorf("%s is taken as %s", name, d)
		}
	}
}

// TestIDNA tries the cases that RFC 5891 to 5894 speak of.
func TestIDNA(t *testing.T) {
	for _, c := range []struct{ in, want string }{ // empty: refused
		{"EXAMPLE.Example", "example.example"},                 // RFC 5891 §4.1: lower-case
		{"bücher.example.", "xn--bcher-kva.example"},           // the root's dot
		{"b\u0075\u0308cher.example", "xn--bcher-kva.example"}, // §4.1: NFC
		{"βόλος.example", "xn--nxasmm1c.example"},              // RFC 5894 §7.2: final sigma stays
		{"ﬁsh.example", "fish.example"},                        // compatibility: ligature
		{"ｅｘａｍｐｌｅ.example", "example.example"},                 // full width
		{"例え。example", "xn--r8jz45g.example"},                  // RFC 5895 §2: ideographic full stop
		{"नी\u200dक.example", ""},                              // RFC 5892 A.2: ZWJ not behind a virama
		{"क्\u200dष.example", "xn--"},                          // A.2: behind one it may stand
		{"a\u200cb.example", ""},                               // A.1: ZWNJ without its context
		{"-a.example", ""},                                     // RFC 5891 §4.2.3.1
		{"ab--c.example", ""},                                  //
		{"xn--a.example", ""},                                  // not what encoding gives
		{"xn--bcher-kva.example", "xn--bcher-kva.example"},     //
		{"xn--BCHER-KVA.example", "xn--bcher-kva.example"},     //
		{"\u0301a.example", ""},                                // §4.2.3.2: begins with a combining mark
		{"أ1.example", "xn--1-qmc.example"},                    // RFC 5893 §2: a number at the end
		{"1أ.example", ""},                                     // rule 1: begins with a number
		{"aא.example", ""},                                     // rule 5: mixed directions
		{"a_b.example", ""},                                    // STD 3
		{"a b.example", ""},                                    //
		{"a\u2028b.example", ""},                               //
		{"☃.example", "xn--n3h.example"},                       // UTS #46 takes symbols
		{strings.Repeat("ü", 60) + ".example", ""},             // too long once encoded
		{"1.2.3.4", ""}, {"example", ""}, {"", ""}, {".", ""}, {"a.1", ""}, {"::1", ""},
	} {
		d, err := ParseDomain(c.in)
		switch {
		case c.want == "" && err == nil:
			t.Errorf("%q is taken as %s", c.in, d)
		case c.want == "xn--" && (err != nil || !strings.HasPrefix(d.String(), "xn--")):
			t.Errorf("%q: %v", c.in, err)
		case c.want != "" && c.want != "xn--" && (err != nil || d.String() != c.want):
			t.Errorf("%q: %q, %v; want %q", c.in, d, err, c.want)
		}
	}
}

// TestPublicSuffixes runs the list's own test cases.
func TestPublicSuffixes(t *testing.T) {
	text, err := os.ReadFile("/usr/share/doc/publicsuffix/examples/test_psl.txt")
	if err != nil {
		t.Skip("the list's own test cases are not installed; make test installs them")
	}
	n := 0
	for _, m := range regexp.MustCompile(`(?m)^checkPublicSuffix\('([^']+)', (null|'([^']+)')\);`).FindAllStringSubmatch(string(text), -1) {
		d, err := ParseDomain(m[1])
		if err != nil {
			if m[3] != "" {
				t.Errorf("%s: %v", m[1], err)
			}
			continue // single labels and leading dots are no domains
		}
		n++
		got, err := publicsuffix.EffectiveTLDPlusOne(d.String())
		want := ""
		if m[3] != "" {
			w, err := ParseDomain(m[3])
			if err != nil {
				t.Fatal(err)
			}
			want = w.String()
		}
		if want == "" != d.IsPublicSuffix() || want != "" && (err != nil || got != want) {
			t.Errorf("%s: registered %q, suffix %v; want %q", m[1], got, d.IsPublicSuffix(), want)
		}
	}
	if n < 40 {
		t.Errorf("only %d cases were found", n)
	}
}

func mustDomain(t *testing.T, s string) Domain {
	t.Helper()
	d, err := ParseDomain(s)
	if err != nil {
		t.Fatal(err)
	}
	return d
}

func TestLookAlike(t *testing.T) {
	for _, c := range []struct {
		a, b string
		want bool
	}{
		{"ilvane.example", "iivane.example", true}, {"ilvane.example", "i1vane.example", true}, {"marrowby.example", "rnarrowby.example", true},
		{"orrin.example", "оrrin.example", true}, {"ilvane.example", "ilvanes.example", true}, {"ilvane.example", "ilavne.example", true},
		{"ilvane.example", "ilvane.example", false}, {"ilvane.example", "lab.ilvane.example", false}, {"ilvane.example", "orrin.example", false},
		{"abc.example", "abd.example", false}, {"ilvane.example", "ilvane.test", false}, {"ilvane.example", "lab.ilvame.example", true},
	} {
		a, b := mustDomain(t, c.a), mustDomain(t, c.b)
		if LookAlike(a, b) != c.want || LookAlike(b, a) != c.want {
			t.Errorf("%s and %s: want %v", c.a, c.b, c.want)
		}
		shared := false
		for _, k := range a.Neighbours() {
			shared = shared || slices.Contains(b.Neighbours(), k)
		}
		if c.want && !shared {
			t.Errorf("%s and %s do not find each other", c.a, c.b)
		}
	}
}

func TestUnder(t *testing.T) {
	d := mustDomain(t, "lab.ilvane.example")
	p, ok := d.Parent()
	if !ok || p.String() != "ilvane.example" || !d.Under(p) || p.Under(d) || d.Under(d) || mustDomain(t, "xilvane.example").Under(p) {
		t.Error("a domain lies below its parents and nothing else")
	}
	if _, ok := p.Parent(); ok {
		t.Error("a single label is no domain")
	}
}

// FuzzParse wants no panic, and that a normal form reads back as itself.
func FuzzParse(f *testing.F) {
	for _, s := range []string{"a@b.example", `"a b"@b.example`, "a@Bücher.example", "a@xn--bcher-kva.example", "a..b@c", "\xff@x.y",
		"a@[::1]", "a@أ1.example"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		a, err := Parse(s)
		if err != nil {
			return
		}
		b, err := Parse(a.String())
		if err != nil || a != b {
			t.Fatalf("%q gives %q, which gives %q, %v", s, a, b, err)
		}
		if a.Local()+"@"+a.Domain().String() != a.String() || len(a.String()) > 254 {
			t.Fatalf("%q: %q", s, a)
		}
		a.Domain().Unicode()
	})
}

// FuzzDomain wants no panic, and that a normal form and what people read of it
// read back as the same domain.
func FuzzDomain(f *testing.F) {
	for _, s := range []string{"b.example", "Bücher.example.", "xn--bcher-kva.example", "..", "a.1", "例え。example", "aא.example"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		d, err := ParseDomain(s)
		if err != nil {
			return
		}
		if e, err := ParseDomain(d.String()); err != nil || e != d {
			t.Fatalf("%q gives %q, which gives %q, %v", s, d, e, err)
		}
		if e, err := ParseDomain(d.Unicode()); err != nil || e != d {
			t.Fatalf("%q gives %q, read as %q, which gives %q, %v", s, d, d.Unicode(), e, err)
		}
		d.IsPublicSuffix()
		LookAlike(d, Domain{"ilvane.example"})
	})
}
