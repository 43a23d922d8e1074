package check_test

import (
	"errors"
	"fmt"
	"io"
	"runtime"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldfile/worldtest"
)

var now = worldtest.Now

const small = `
wexillum: 1
dates_from: [{for: organisation, from: 2028-01-01}]
organisation: {name: Small, domains: [{name: ours.example, subdomains: yes}], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, directory.personal: {default: off}, spaces.guests: {default: off}}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes}, stance: {directory.in: {says: admits}, spaces.in: {says: admits}}}
  - {id: orrin, name: Orrin, domains: [orrin.example], opened: {directory.in: no, spaces.in: no}}
  - {id: plain, name: Plain, domains: [plain.example]}
  - {id: stern, name: Stern, domains: [stern.example], opened: {directory.in: yes, spaces.in: yes}, stance: {directory.in: {says: refuses}, spaces.in: {says: refuses}}}
  - {id: frozen, name: Frozen, domains: [frozen.example], standing: suspended, opened: {directory.in: yes, spaces.in: yes}}
  - {id: gone, name: Gone, domains: [gone.example], standing: ended, standing_since: 2026-01-01, opened: {directory.in: yes, spaces.in: yes}}
  - {id: tight, name: Tight, domains: [tight.example], opened: {directory.in: yes, spaces.in: yes}, rules: {directory.guests: off, spaces.guests: off}}
barred: [{name: barred.example, subdomains: yes}, {address: lost@ilvane.example}]
personal_domains: [homepost.example]
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ada, name: Ada, roles: [administrator]}, {id: lars, name: Lars}]
spaces:
  - {id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.guests: on}}
  - {id: narrow, name: Narrow, kind: team, owners: [uma], parties: ["partner:stern"], rules: {spaces.guests: on}}
  - {id: ownerless, name: Ownerless, kind: team, owners: [], rules: {spaces.guests: on}}
guests: [{address: maren@ilvane.example, name: Maren}, {address: idle@ilvane.example, name: Idle, state: suspended}]
grants: [{party: maren@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01}, {party: over@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01, until: 2026-02-01}]
`

var (
	directory = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	dossier   = world.Resource{Kind: catalogue.Space, ID: "dossier"}
	narrow    = world.Resource{Kind: catalogue.Space, ID: "narrow"}
)

// TestEveryVerdict checks a list that has every verdict and every cause that an
// invitation can meet.
func TestEveryVerdict(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for _, c := range []struct {
		into world.Resource
		as   string
		text string
		want string // verdict, address, kind, partner: causes or reason
	}{
		{dossier, "", "new@ilvane.example", "yes new@ilvane.example federated ilvane:"},
		{dossier, "", "  New Person <NEW@Ilvane.Example> ", "yes new@ilvane.example federated ilvane:"},
		{dossier, "", "mailto:new@ilvane.example", "yes new@ilvane.example federated ilvane:"},
		{dossier, "", "'new@ilvane.example';", "yes new@ilvane.example federated ilvane:"},
		{dossier, "", "maren@ilvane.example", "already maren@ilvane.example guest ilvane: A member already, with the role contribute."},
		{directory, "", "maren@ilvane.example", "already maren@ilvane.example guest ilvane: There is a record already, active."},
		{directory, "", "idle@ilvane.example", "already idle@ilvane.example guest ilvane: There is a record already, suspended."},
		{dossier, "", "over@ilvane.example", "yes over@ilvane.example federated ilvane:"},
		{dossier, "", "uma@ours.example", "own uma@ours.example person : One of our own addresses; our people are not invited as guests."},
		{dossier, "", "who@deep.ours.example",
			"own who@deep.ours.example person : It is at a domain of ours, and nobody there has this address."},
		{dossier, "", "x@nowhere.example", "no x@nowhere.example federated : not_listed"},
		{dossier, "", "x@orrin.example", "no x@orrin.example federated orrin: opened_no"},
		{dossier, "", "x@plain.example", "no x@plain.example federated plain: not_opened"},
		{dossier, "", "x@stern.example", "no x@stern.example federated stern: theirs_refuses"},
		{dossier, "", "x@frozen.example", "no x@frozen.example federated frozen: standing_suspended"},
		{dossier, "", "x@gone.example", "no x@gone.example federated gone: standing_ended"},
		{dossier, "", "x@tight.example", "no x@tight.example federated tight: switch_off"},
		{dossier, "", "x@deep.barred.example", "no x@deep.barred.example federated : barred_domain not_listed"},
		{dossier, "", "lost@ilvane.example", "no lost@ilvane.example federated : barred_address not_listed"},
		{dossier, "", "x@homepost.example", "no x@homepost.example personal : rule_short"},
		{narrow, "", "new@ilvane.example", "no new@ilvane.example federated ilvane: outside_space_parties"},
		{dossier, "lars", "new@ilvane.example", "no new@ilvane.example federated ilvane: rule_short not_inviter"},
		{dossier, "", "nobody", "malformed   : \"nobody\" is no address: there is no @ (at position 7)"},
		{dossier, "", "a@b", "malformed   : \"a@b\" is no address: a full domain has at least two labels (at position 3)"},
	} {
		ch, err := check.New(s, check.Options{Into: c.into, As: c.as, At: now})
		if err != nil {
			t.Fatal(err)
		}
		l := ch.Check(1, c.text)
		why := l.Reason
		seen := map[string]bool{}
		for i := range l.Causes {
			if code := l.Causes[i].Code.String(); !seen[code] {
				seen[code] = true
				why += code + " "
			}
		}
		got := strings.TrimSpace(fmt.Sprintf("%s %s %s %s: %s", l.Verdict, l.Address, l.Kind, l.Partner, strings.TrimSpace(why)))
		if got != c.want {
			t.Errorf("%q into %s: %s\nwant %s", c.text, c.into, got, c.want)
		}
		if l.Verdict == check.No && l.Next() == "" {
			t.Errorf("%q: nothing is said to do", c.text)
		}
	}
}

// TestWho picks who would invite, and says what makes no sense.
func TestWho(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for into, as := range map[world.Resource]string{dossier: "uma", directory: "ada", {Kind: catalogue.Space, ID: "ownerless"}: "ada"} {
		c, err := check.New(s, check.Options{Into: into, At: now})
		if err != nil || c.As() != as {
			t.Errorf("%s: %v, %v", into, c, err)
		}
	}
	var wrong *engine.WrongUse
	for _, o := range []check.Options{{Into: world.Resource{Kind: catalogue.Space, ID: "none"}}, {Into: dossier, As: "nobody"},
		{Into: world.Resource{Kind: catalogue.Person, ID: "uma"}}} {
		if _, err := check.New(s, o); !errors.As(err, &wrong) {
			t.Errorf("%+v: %v", o, err)
		}
	}
}

// TestSplit takes lists as people paste them.
func TestSplit(t *testing.T) {
	for _, c := range []struct{ in, column, want string }{
		{"a@b.example\nc@d.example\n", "", "1 a@b.example|2 c@d.example"},
		{"\ufeffa@b.example, c@d.example; e@f.example g@h.example", "", "1 a@b.example|1 c@d.example|1 e@f.example|1 g@h.example"},
		{"# a comment\n\n   \nA B <a@b.example>, C <c@d.example>; e@f.example\r\n", "", "4 A B <a@b.example>|4 C <c@d.example>|4 e@f.example"},
		{"not an address\n<broken", "", "1 not an address|2 <broken"},
		{"name,mail\n\"B, A\",a@b.example\nX,\nshort\nY, y@b.example \n", "MAIL", "2 a@b.example|5  y@b.example "},
		{"name;mail\n", "mail", "wrong use"},
		{"", "mail", "wrong use"},
		{strings.Repeat("x", 300000), "", "wrong use"},
		{"", "", ""},
	} {
		var got []string
		err := check.Split(strings.NewReader(c.in), c.column, func(n int, text string) error {
			got = append(got, fmt.Sprintf("%d %s", n, text))
			return nil
		})
		text := strings.Join(got, "|")
		var wrong *engine.WrongUse
		if errors.As(err, &wrong) {
			text = "wrong use"
		} else if err != nil {
			t.Error(err)
		}
		if text != c.want {
			t.Errorf("%.60q, column %q: %q\nwant %q", c.in, c.column, text, c.want)
		}
	}
	stop := errors.New("stop")
	n := 0
	if err := check.Split(strings.NewReader("a@b.example\nc@d.example\n"), "", func(int, string) error { n++; return stop }); err != stop ||
		n != 1 {
		t.Errorf("it goes on after an error: %v, %d", err, n)
	}
}

// endless is a list of so many lines that is never whole in memory.
type endless struct{ left, n int }

func (e *endless) Read(p []byte) (int, error) {
	if e.left == 0 {
		return 0, io.EOF
	}
	e.left, e.n = e.left-1, e.n+1
	return copy(p, fmt.Sprintf("person%d@ilvane.example\n", e.n)), nil
}

// TestMemory: what is remembered of a long list is a few bytes a line.
func TestMemory(t *testing.T) {
	c, err := check.New(worldtest.Snapshot(t, small), check.Options{Into: dossier, At: now})
	if err != nil {
		t.Fatal(err)
	}
	heap := func() uint64 {
		runtime.GC()
		var m runtime.MemStats
		runtime.ReadMemStats(&m)
		return m.HeapAlloc
	}
	before := heap()
	const n = 100000
	if err := check.Split(&endless{left: n}, "", func(line int, text string) error { c.Check(line, text); return nil }); err != nil {
		t.Fatal(err)
	}
	if grown := int64(heap()) - int64(before); grown > 60*n || c.Total != n || c.Counts[check.Yes] != n {
		t.Errorf("%d bytes for %d lines; %v", grown, c.Total, c.Counts)
	}
	runtime.KeepAlive(c)
}

func BenchmarkCheck(b *testing.B) {
	c, err := check.New(worldtest.Snapshot(b, small), check.Options{Into: dossier, At: now})
	if err != nil {
		b.Fatal(err)
	}
	firms := []string{"ilvane", "nowhere", "stern", "homepost"}
	for i := range b.N {
		c.Check(i, fmt.Sprintf("person%d@%s.example", i, firms[i%4]))
	}
	b.ReportMetric(float64(b.N)/b.Elapsed().Seconds(), "addresses/s")
}

// TestBundle checks addresses with a bundle in mind: every space that it gives, and
// whom it is for.
func TestBundle(t *testing.T) {
	w, err := worldfile.Read([]byte(strings.Replace(small, "\nguests:", "\n"+`bundles:
  - {id: both, name: Both, gives: [{resource: space:dossier, role: view}, {resource: space:narrow, role: view}], who: {partners: [ilvane, stern]}}
  - {id: one, name: One, gives: [{resource: space:dossier, role: view}], who: {partners: [], others: yes}}
  - {id: none, name: None, gives: []}
guests:`, 1)), worldfile.Options{Now: now, Older: true}) // a bundle of nothing was taken once
	if err != nil {
		t.Fatal(err)
	}
	s := engine.Of(world.Merge(&world.World{}, w))
	for _, c := range []struct{ bundle, text, want string }{
		{"both", "new@ilvane.example", "no outside_space_parties | "},
		{"both", "maren@ilvane.example", "no outside_space_parties | "},
		{"both", "x@orrin.example", "no opened_no opened_no outside_space_parties | The bundle Both is for others: ilvane, stern."},
		{"one", "maren@ilvane.example", "already | "},
		{"one", "new@ilvane.example", "yes | "},
		{"one", "x@nowhere.example", "no not_listed not_listed | "},
	} {
		k, err := check.New(s, check.Options{Bundle: c.bundle, At: now})
		if err != nil {
			t.Fatal(err)
		}
		l := k.Check(1, c.text)
		got := string(l.Verdict)
		for i := range l.Causes {
			got += " " + l.Causes[i].Code.String()
		}
		if got += " | " + l.Bundle; got != c.want {
			t.Errorf("%s for %s: %s, want %s", c.bundle, c.text, got, c.want)
		}
		if k.Into() != "bundle:"+c.bundle || k.As() != "uma" || l.Verdict == check.No && l.Next() == "" {
			t.Errorf("%s, %s, %q", k.Into(), k.As(), l.Next())
		}
	}
	for bundle, want := range map[string]string{"none": "it gives nothing", "nobody": "there is no such bundle"} {
		if _, err := check.New(s, check.Options{Bundle: bundle, At: now}); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", bundle, err)
		}
	}
}
