package world_test

import (
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

const two = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {mail.calendar: {limit: subject, default: none}, spaces.pages: {limit: on, default: off}}
partners:
  - {id: lamps, name: Quayside Lamps, also_named: [QL], domains: [lamps.example, {name: works.lamps.example, subdomains: yes}], standing: suspended, contact: [desk@lamps.example, it@both.example], owner: uma, review: 2027-01-10, note: Lamps for the hall.,
     opened: {chat.in: yes, files.in: yes}, rules: {spaces.pages: on}, stance: {chat.in: {says: admits}}}
  - {id: ropes, name: Ropes, domains: [ropes.example], contact: it@both.example, review: 2027-03-01, opened: {chat.in: yes, spaces.in: no}, rules: {mail.calendar: busy}, stance: {chat.out: {says: refuses}}}
exceptions:
  - {id: one, people: [uma], parties: ["partner:lamps"], rules: {chat.calls: on}, reason: one}
  - {id: both, people: [uma], parties: ["partner:ropes", "partner:lamps"], rules: {chat.calls: on}, reason: both}
bundles: [{id: desk, name: Desk, gives: [{resource: space:dossier, role: view}], who: {partners: [lamps]}}]
expectations: [{id: nothing, party: "partner:lamps", action: "*", resource: "*", expect: never}, {id: alone, party: everybody, action: "files.*", resource: "*", expect: {only: ["partner:lamps"]}}]
people: [{id: uma, name: Uma}]
spaces:
  - {id: dossier, name: Dossier, kind: team, parties: ["partner:lamps", "domain:else.example"]}
  - {id: yard, name: Yard, kind: team, parties: ["partner:ropes"]}
letters: [{id: l1, partner: lamps, about: [chat.in], sent: 2026-11-01}]
`

func written(w *world.World) string {
	return strings.TrimSpace(string(worldfile.Write(w, "partners", "exceptions", "bundles", "expectations", "spaces", "letters")))
}

func differ(t *testing.T, what, got, want string) {
	t.Helper()
	want = strings.TrimSpace(want)
	if got == want {
		return
	}
	g, w := strings.Split(got, "\n"), strings.Split(want, "\n")
	for i := range max(len(g), len(w)) {
		a, b := "", ""
		if i < len(g) {
			a = g[i]
		}
		if i < len(w) {
			b = w[i]
		}
		if a != b {
			t.Fatalf("%s, line %d:\n%s\nwant\n%s\nall of it:\n%s", what, i+1, a, b, got)
		}
	}
}

// TestJoinPartners: whatever named the one names the other, whose record counts.
func TestJoinPartners(t *testing.T) {
	w := parse(t, two)
	m, err := world.JoinPartners(w, "lamps", "ropes")
	if err != nil {
		t.Fatal(err)
	}
	differ(t, "joined", written(m.World), `
wexillum: 1
partners:
  - id: ropes
    name: Ropes
    also_named: [Quayside Lamps, QL]
    domains: [ropes.example, lamps.example, {name: works.lamps.example, subdomains: yes}]
    standing: active
    contact: [it@both.example, desk@lamps.example]
    owner: uma
    review: 2027-01-10
    note: Lamps for the hall.
    opened: {spaces.in: no, chat.in: yes}
    rules: {mail.calendar: busy}
    stance: {chat.out: {says: refuses}}
exceptions:
  - {id: one, people: [uma], parties: ["partner:ropes"], rules: {chat.calls: on}, reason: one}
  - {id: both, people: [uma], parties: ["partner:ropes"], rules: {chat.calls: on}, reason: both}
bundles:
  - {id: desk, name: Desk, gives: [{resource: space:dossier, role: view}], who: {partners: [ropes]}}
expectations:
  - {id: nothing, party: partner:ropes, action: "*", resource: "*", expect: never}
  - {id: alone, party: everybody, action: "files.*", resource: "*", expect: {only: ["partner:ropes"]}}
spaces:
  - {id: dossier, name: Dossier, kind: team, parties: ["partner:ropes", "domain:else.example"]}
  - {id: yard, name: Yard, kind: team, parties: ["partner:ropes"]}
letters:
  - {id: l1, partner: ropes, about: [chat.in], sent: 2026-11-01}
`)
	var differs []string
	for _, d := range m.Differs {
		differs = append(differs, d.What+" "+d.Was+" "+d.Become)
	}
	if got, want := strings.Join(differs, "; "),
		"standing suspended active; opened spaces.in unset no; opened files.in yes unset; rule spaces.pages on unset; rule mail.calendar unset busy; stance chat.in admits unknown; stance chat.out unknown refuses"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
	if got, want := strings.Join(m.Named, " ")+" | "+strings.Join(m.Spaces, " ")+" | "+strings.Join(m.Letters, " "),
		"exception:one exception:both bundle:desk expectation:nothing expectation:alone | dossier | l1"; got != want {
		t.Errorf("%s\nwant %s", got, want)
	}
}

// TestSplitPartner: the new one is alike, and both are named.
func TestSplitPartner(t *testing.T) {
	w := parse(t, two)
	m, err := world.SplitPartner(w, "lamps", []world.Entry{{Domain: domain(t, "works.lamps.example"), Subdomains: true}}, "works",
		"Lamp Works")
	if err != nil {
		t.Fatal(err)
	}
	differ(t, "split", written(m.World), `
wexillum: 1
partners:
  - id: lamps
    name: Quayside Lamps
    also_named: [QL]
    domains: [lamps.example]
    standing: suspended
    contact: [desk@lamps.example, it@both.example]
    owner: uma
    review: 2027-01-10
    note: Lamps for the hall.
    opened: {chat.in: yes, files.in: yes}
    rules: {spaces.pages: on}
    stance: {chat.in: {says: admits}}
  - id: ropes
    name: Ropes
    domains: [ropes.example]
    standing: active
    contact: it@both.example
    review: 2027-03-01
    opened: {spaces.in: no, chat.in: yes}
    rules: {mail.calendar: busy}
    stance: {chat.out: {says: refuses}}
  - id: works
    name: Lamp Works
    domains: [{name: works.lamps.example, subdomains: yes}]
    standing: suspended
    contact: [desk@lamps.example, it@both.example]
    owner: uma
    review: 2027-01-10
    note: Lamps for the hall.
    opened: {chat.in: yes, files.in: yes}
    rules: {spaces.pages: on}
    stance: {chat.in: {says: admits}}
exceptions:
  - {id: one, people: [uma], parties: ["partner:lamps", "partner:works"], rules: {chat.calls: on}, reason: one}
  - {id: both, people: [uma], parties: ["partner:ropes", "partner:lamps", "partner:works"], rules: {chat.calls: on}, reason: both}
bundles:
  - {id: desk, name: Desk, gives: [{resource: space:dossier, role: view}], who: {partners: [lamps, works]}}
expectations:
  - {id: nothing, party: partner:lamps, action: "*", resource: "*", expect: never}
  - {id: alone, party: everybody, action: "files.*", resource: "*", expect: {only: ["partner:lamps", "partner:works"]}}
  - {id: nothing-works, party: partner:works, action: "*", resource: "*", expect: never}
spaces:
  - {id: dossier, name: Dossier, kind: team, parties: ["partner:lamps", "partner:works", "domain:else.example"]}
  - {id: yard, name: Yard, kind: team, parties: ["partner:ropes"]}
letters:
  - {id: l1, partner: lamps, about: [chat.in], sent: 2026-11-01}
`)
}

// TestRearrangeRefused: what makes no sense is told, and changes nothing.
func TestRearrangeRefused(t *testing.T) {
	w := parse(t, two)
	before := written(w)
	say := func(_ *world.Moved, err error) string {
		if err == nil {
			return "done"
		}
		return err.Error()
	}
	entry := func(names ...string) (out []world.Entry) {
		for _, n := range names {
			bare, sub := strings.CutPrefix(n, "*.")
			out = append(out, world.Entry{Domain: domain(t, bare), Subdomains: sub})
		}
		return
	}
	for _, c := range [][2]string{
		{say(world.JoinPartners(w, "nobody", "ropes")), `there is no partner "nobody"`},
		{say(world.JoinPartners(w, "ropes", "nobody")), `there is no partner "nobody"`},
		{say(world.JoinPartners(w, "ropes", "ropes")), `"ropes" cannot be merged with itself`},
		{say(world.SplitPartner(w, "nobody", entry("lamps.example"), "x", "X")), `there is no partner "nobody"`},
		{say(world.SplitPartner(w, "lamps", entry("lamps.example"), "ropes", "X")), `there is a partner "ropes" already`},
		{say(world.SplitPartner(w, "lamps", nil, "x", "X")), "no domain is named; name those that become the new partner's"},
		{say(world.SplitPartner(w, "lamps", entry("ropes.example"), "x", "X")), `ropes.example is no domain of "lamps"`},
		{say(world.SplitPartner(w, "lamps", entry("below.lamps.example"), "x", "X")), `below.lamps.example is no domain of "lamps"`},
		{say(world.SplitPartner(w, "lamps", entry("works.lamps.example"), "x", "X")),
			"works.lamps.example is kept with its subdomains; it can only be split off like that"},
		{say(world.SplitPartner(w, "lamps", entry("lamps.example", "*.works.lamps.example"), "x", "X")),
			`no domain would be left to "lamps"; to give it another name, change its name`},
		{say(world.SplitPartner(w, "lamps", entry("deep.works.lamps.example"), "x", "X")), "done"},
	} {
		if c[0] != c[1] {
			t.Errorf("%s\nwant %s", c[0], c[1])
		}
	}
	differ(t, "afterwards", written(w), before)
}

func domain(t *testing.T, s string) addr.Domain {
	t.Helper()
	d, err := addr.ParseDomain(s)
	if err != nil {
		t.Fatal(err)
	}
	return d
}
