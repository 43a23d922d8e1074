package domainlist_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/domainlist"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

func parse(t testing.TB, text string) *world.World {
	t.Helper()
	w, err := worldfile.Read([]byte(text), worldfile.Options{Now: moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

const small = `
wexillum: 1
organisation: {name: Small, domains: [ours.example, {name: deep.example, subdomains: yes}], time_zone: Europe/Lisbon}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example, {name: lab.ilvane.example, subdomains: yes}]}
  - {id: orrin, name: Orrin, domains: [orrin.example]}
barred: [{name: rude.example, reason: spam}, {address: lost@orrin.example, reason: lost}]
personal_domains: [homepost.example, {name: letters.example, subdomains: yes}]
`

func weigh(t *testing.T, kind domainlist.Kind, partner, text string, replace bool) (got string, next *world.World) {
	t.Helper()
	lines, err := domainlist.Read(strings.NewReader(text))
	if err != nil {
		t.Fatal(err)
	}
	w := parse(t, small)
	before := string(worldfile.Write(w))
	next, out, err := domainlist.Weigh(w, kind, partner, lines, replace)
	if err != nil {
		t.Fatal(err)
	}
	if string(worldfile.Write(w)) != before {
		t.Error("weighing changed what it was given")
	}
	var b strings.Builder
	for _, l := range out {
		star := ""
		if l.Subdomains {
			star = "*."
		}
		fmt.Fprintf(&b, "%d %s %s%s", l.Number, l.Result, star, l.Name)
		if l.Cause != "" {
			b.WriteString(": " + l.Cause)
		}
		b.WriteByte('\n')
	}
	return b.String(), next
}

func same(t *testing.T, what, got, want string) {
	t.Helper()
	if strings.TrimSpace(got) != strings.TrimSpace(want) {
		t.Errorf("%s:\n%s\nwant\n%s", what, got, want)
	}
}

// TestLists reads a list of every kind with every cause there is, as text and as
// CSV, added to what is kept and in its place.
func TestLists(t *testing.T) {
	got, next := weigh(t, domainlist.OfPartners, "ilvane", `
# theirs
ilvane.example
*.ilvane.example
Werkstätte.example
*.lab.ilvane.example
orrin.example
ours.example
x.deep.example
example
co.uk
homepost.example
a.letters.example
iivane.example
orrim.example
192.0.2.1
[::1]
two words.example
werkstätte.example.
`, false)
	same(t, "partner", got, `
3 same ilvane.example
4 refused *.ilvane.example: it stands in line 3 already
5 new xn--werksttte-02a.example
6 same *.lab.ilvane.example
7 refused orrin.example: the domain orrin.example belongs to the partner "orrin" already
8 refused ours.example: ours.example is one of our own domains
9 refused x.deep.example: x.deep.example is one of our own domains
10 refused example: "example" is no domain: a full domain has at least two labels (at position 1)
11 refused co.uk: co.uk is a public suffix; everybody has names below it
12 refused homepost.example: homepost.example is a personal domain; nobody stands behind its addresses
13 refused a.letters.example: a.letters.example is a personal domain; nobody stands behind its addresses
14 new iivane.example
15 refused orrim.example: orrim.example (orrim.example) looks like orrin.example (orrin.example) of the partner orrin; if it is meant all the same, say so with look_alike: yes
16 refused 192.0.2.1: "192.0.2.1" is no domain: an IP address stands where a domain belongs (at position 1)
17 refused [::1]: "[::1]" is no domain: an address literal stands where a domain belongs (at position 1)
18 refused two words.example: "two words.example" is no domain: there is a space in the domain (at position 4)
19 refused xn--werksttte-02a.example: it stands in line 5 already
`)
	same(t, "partner's domains", string(domainlist.Text(domainlist.Of(next, domainlist.OfPartners, "ilvane"))),
		"ilvane.example\n*.lab.ilvane.example\nxn--werksttte-02a.example\niivane.example")

	got, next = weigh(t, domainlist.OfPartners, "",
		"name,partner,subdomains,look_alike\r\nworks.example,orrin,yes,\r\n*.wharf.example,orrin,,\r\norrim.example,ilvane,,yes\r\nsail.example,nobody,,\r\nsail.example,,,\r\nsail.example,orrin,perhaps,\r\nsail.example,orrin,no,no,more\r\norrin.example,orrin,yes,\r\n",
		false)
	same(t, "CSV of several partners", got, `
2 new *.works.example
3 new *.wharf.example
4 new orrim.example
5 refused sail.example: there is no partner "nobody"
6 refused sail.example: no partner is named; name one in the column partner, or for the whole list
7 refused sail.example: subdomains is "perhaps"; write yes or no
8 refused sail.example: the line has 5 fields, and there are 4 columns
9 changed *.orrin.example
`)
	same(t, "all domains", string(domainlist.CSV(domainlist.Of(next, domainlist.OfPartners, ""))),
		"name,subdomains,look_alike,partner,reason\r\nilvane.example,no,no,ilvane,\r\nlab.ilvane.example,yes,no,ilvane,\r\norrim.example,no,yes,ilvane,\r\norrin.example,yes,no,orrin,\r\nworks.example,yes,no,orrin,\r\nwharf.example,yes,no,orrin,\r\n")

	got, _ = weigh(t, domainlist.OfPartners, "orrin", "orrin.example\nnew.example\nname,partner\n", true)
	same(t, "a list in place of what is kept", got, `
1 same orrin.example
2 new new.example
3 refused name,partner: "name,partner" is no domain: the character "," cannot stand in a domain (at position 5)
`)

	got, next = weigh(t, domainlist.OfBars, "", `RUDE.example
*.bad.example # sends junk
lost@ORRIN.example # still lost
new.person@ilvane.example
*.ilvane.example # all of them
someone@ours.example
*.a@b.example
@b.example
`, true)
	same(t, "barred", got, `
1 same rude.example
2 new *.bad.example
3 changed lost@orrin.example
4 new new.person@ilvane.example
5 new *.ilvane.example: it bars people of the partner ilvane; bars come first
6 refused someone@ours.example: someone@ours.example is one of ours; bars are for outsiders
7 refused *.a@b.example: an address has no subdomains
8 refused @b.example: "@b.example" is no address: nothing stands before the @ (at position 1)
`)
	same(t, "bars", string(domainlist.Text(domainlist.Of(next, domainlist.OfBars, ""))),
		"rude.example # spam\nlost@orrin.example # still lost\n*.bad.example # sends junk\nnew.person@ilvane.example\n*.ilvane.example # all of them")

	got, next = weigh(t, domainlist.OfPersonal, "",
		"name,reason\nhomepost.example,\nparlour.example,quick\nilvane.example,\nours.example,\nco.uk,\n\"a\"b,\n", true)
	same(t, "personal", got, `
2 same homepost.example
3 new parlour.example: the reason is not kept; only bars have one
4 refused ilvane.example: ilvane.example belongs to the partner "ilvane", it cannot be a personal domain too
5 refused ours.example: ours.example is one of ours, not a personal domain
6 refused co.uk: co.uk is a public suffix; everybody has names below it
7 refused : extraneous or missing " in quoted-field
0 removed *.letters.example
`)
	same(t, "personal domains", string(domainlist.Text(domainlist.Of(next, domainlist.OfPersonal, ""))), "homepost.example\nparlour.example")
}

// TestListRefused: what is wrong with a list as a whole.
func TestListRefused(t *testing.T) {
	for _, c := range [][2]string{
		{"name,colour\n", `there is no column "colour"; the columns are name, subdomains, look_alike, partner, reason`},
		{"name,partner,name\n", "the column name stands there twice"},
		{strings.Repeat("x", 70000), "a line is longer than 65536 characters; an entry stands on a line of its own"},
		{strings.Repeat("a.example\n", domainlist.MaxLines+1), "a list has at most 100000 lines"},
	} {
		if _, err := domainlist.Read(strings.NewReader(c[0])); err == nil || err.Error() != c[1] {
			t.Errorf("%.40q: %v; want %s", c[0], err, c[1])
		}
	}
	w := parse(t, small)
	for _, c := range []struct {
		kind    domainlist.Kind
		partner string
		replace bool
		want    string
	}{
		{domainlist.OfPartners, "nobody", false, `there is no partner "nobody"`},
		{domainlist.OfPartners, "", true, "a list that replaces what is kept is about one partner; name it"},
		{domainlist.OfBars, "ilvane", false, "only domains of partners belong to one"},
		{"friends", "", false, `there is no list "friends"; there are partner, barred, personal`},
	} {
		if _, _, err := domainlist.Weigh(w, c.kind, c.partner, nil, c.replace); err == nil || err.Error() != c.want {
			t.Errorf("%s %s: %v; want %s", c.kind, c.partner, err, c.want)
		}
	}
}

// TestRoundTrip: what is written reads back as what is kept, in both forms.
func TestRoundTrip(t *testing.T) {
	w := parse(t, small)
	w.Barred[0].Reason = "=looks like a formula, and \"quoted\""
	for _, kind := range []domainlist.Kind{domainlist.OfPartners, domainlist.OfBars, domainlist.OfPersonal} {
		partner := ""
		if kind == domainlist.OfPartners {
			partner = "ilvane"
		}
		for form, text := range map[string][]byte{"csv": domainlist.CSV(domainlist.Of(w, kind, partner)),
			"text": domainlist.Text(domainlist.Of(w, kind, partner))} {
			lines, err := domainlist.Read(strings.NewReader(string(text)))
			if err != nil {
				t.Fatal(err)
			}
			_, out, err := domainlist.Weigh(w, kind, partner, lines, true)
			if err != nil || len(out) == 0 {
				t.Fatal(kind, form, err)
			}
			for _, l := range out {
				if l.Result != domainlist.Same {
					t.Errorf("%s as %s: %+v", kind, form, l)
				}
			}
		}
	}
}

// FuzzRead wants no panic, and that good lines name what reads back.
func FuzzRead(f *testing.F) {
	f.Add("a.example\n*.b.example # c\n")
	f.Add("name,partner\n\"a.example\",p\n")
	w := parse(f, small)
	f.Fuzz(func(t *testing.T, text string) {
		lines, err := domainlist.Read(strings.NewReader(text))
		if err != nil {
			return
		}
		for _, kind := range []domainlist.Kind{domainlist.OfPartners, domainlist.OfBars, domainlist.OfPersonal} {
			_, out, err := domainlist.Weigh(w, kind, "", lines, kind != domainlist.OfPartners)
			if err != nil {
				t.Fatal(err)
			}
			for _, l := range out {
				if l.Result == domainlist.Refused || l.Result == "" {
					if l.Result == "" || l.Cause == "" {
						t.Fatalf("%s: %+v", kind, l)
					}
					continue
				}
				_, e1 := addr.ParseDomain(l.Name)
				_, e2 := addr.Parse(l.Name)
				if e1 != nil && e2 != nil {
					t.Fatalf("%s: %+v", kind, l)
				}
			}
		}
	})
}
