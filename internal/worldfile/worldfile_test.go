package worldfile

import (
	"errors"
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

var now = func() moment.Moment { m, _ := moment.Parse("2026-11-23T09:00:00Z"); return m }()

func read(t testing.TB, text string) *world.World {
	t.Helper()
	w, err := Read([]byte(text), Options{File: "test", Now: now})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

// TestRoundTrip wants the world of model §6, the demo and a generated world to
// come back the same, byte for byte, in YAML and through JSON.
func TestRoundTrip(t *testing.T) {
	model, err := os.ReadFile("testdata/model.yaml")
	if err != nil {
		t.Fatal(err)
	}
	demo, err := os.ReadFile("../demo/world.yaml")
	if err != nil {
		t.Fatal(err)
	}
	for name, text := range map[string][]byte{"model": model, "demo": demo,
		"generated": Write(worldgen.Generate(3, worldgen.Size{Guests: 200}, now))} {
		once := Write(read(t, string(text)))
		twice := Write(read(t, string(once)))
		if string(once) != string(twice) {
			t.Errorf("%s changes between two dumps", name)
		}
		for _, section := range Sections {
			has := strings.Contains("\n"+string(text), "\n"+section+":")
			if strings.Contains("\n"+string(once), "\n"+section+":") != has {
				t.Errorf("%s: the section %s came or went", name, section)
			}
		}
	}
	w := read(t, string(model))
	p, err := PartnerOf(PartnerDoc(&w.Partners[0]))
	if err != nil || string(PartnerDoc(&p)) != string(PartnerDoc(&w.Partners[0])) {
		t.Errorf("a partner as a doc: %v", err)
	}
	g, err := GuestOf(GuestDoc(&w.Guests[0]))
	if err != nil || g != w.Guests[0] {
		t.Errorf("a guest as a doc: %+v, %v", g, err)
	}
}

// TestDump shows what a dump looks like: relative dates are written as dates,
// ends as the day they end with.
func TestDump(t *testing.T) {
	got := string(Write(read(t, `
wexillum: 1
organisation: {name: "Museum: north", domains: [ours.example], time_zone: Europe/Lisbon}
guests: [{address: A@b.example, since: -1d, until: +3d, last_seen: 2026-11-20T08:15:00+01:00, terms: 2026-07-01}]
spaces: [{id: s, kind: team, rules: {spaces.guests: true, files.link_days: 90, reports.licence: [theirs, house]}, items: [{id: f, kind: file, name: "null"}]}]
grants: [{party: a@b.example, resource: file:f, role: view, until: 2026-07-01}]
`)))
	want := `wexillum: 1
organisation:
  name: "Museum: north"
  domains: [ours.example]
  time_zone: Europe/Lisbon
spaces:
  - {id: s, kind: team, rules: {spaces.guests: on, files.link_days: 90, reports.licence: [house, theirs]}, items: [{id: f, kind: file, name: "null"}]}
guests:
  - {address: a@b.example, state: active, since: 2026-11-22, until: 2026-11-26, terms: 2026-07-01, last_seen: 2026-11-20T07:15:00Z}
grants:
  - {party: a@b.example, resource: file:f, role: view, until: 2026-07-01}
`
	if got != want {
		t.Errorf("got\n%s\nwant\n%s", got, want)
	}
}

const head = "wexillum: 1\norganisation: {name: M, domains: [ours.example], time_zone: Europe/Lisbon}\npersonal_domains: [homepost.example]\npeople: [{id: ada}]\n"

// TestRefused wants each mistake to be refused at its line and column, in words.
func TestRefused(t *testing.T) {
	for _, c := range []struct{ text, want string }{
		{"", "1:1: the file is empty"},
		{"wexillum: 2", "1:11: version \"2\" of the format is not known"},
		{"people: []", "1:1: the file lacks wexillum: 1"},
		{"[1, 2]", "1:1: a file is written as sections"},
		{head + "peopel: []", "5:1: there is no section \"peopel\""},
		{head + "---\nwexillum: 1", "6:"},
		{head + "groups: &a []", "5:9: anchors are not taken"},
		{head + "groups: !x []", "5:9: tags are not taken"},
		{head + "groups: [{<<: {id: a}}]", "5:10: merge keys are not taken"},
		{head + "groups: [{id: a, name: null}]", "5:24: nothing stands where a value belongs"},
		{head + "groups: [{id: a, name: }]", "5:23: nothing stands where a value belongs"},
		{head + "groups: [{id: a, id: b}]", "already defined"},
		{head + "groups: [{id: a}, {id: a}]", "5:19: the group \"a\" stands here twice"},
		{head + "groups: [{id: A}]", "5:15: \"A\" is no id"},
		{head + "groups: [{name: a}]", "5:10: a group lacks id"},
		{head + "groups: [{id: a, color: b}]", "5:18: a group has no field \"color\"; it has id, name, parties"},
		{head + "groups: [a]", "5:10: a group is written as fields and values"},
		{head + "groups: {id: a}", "5:9: a list is expected here"},
		{head + "groups: [{id: a, parties: [x@y]}]", "5:28: \"x@y\" is no address: a full domain has at least two labels"},
		{head + "rules: {files.opne: {limit: on}}", "5:9: there is no rule \"files.opne\"; do you mean files."},
		{head + "rules: {chat.guests: {limit: maybe}}", "5:30: chat.guests: \"maybe\" is off the scale: off < on"},
		{head + "rules: {chat.guests: on}", "5:22: chat.guests is written as {limit: …, default: …}"},
		{head + "rules: {chat.guests: {limit: off, default: on}}", "5:44: chat.guests: the default on is looser than the limit, off"},
		{head + "rules: {guests.idle_days: {limit: 07}}", "5:35: guests.idle_days: \"07\" is no number of days"},
		{head + "rules: {directory.sign_in: {limit: code}}", "5:36: directory.sign_in takes a list"},
		{head + "rules: {directory.sign_in: {limit: [code, code]}}", "5:36: directory.sign_in: \"code\" stands there twice"},
		{head + "spaces: [{id: s, kind: team, rules: {files.link_days: 91}}]",
			"5:55: files.link_days: 91 is looser than the limit, 90, which an administrator can raise"},
		{head + "spaces: [{id: s, kind: team, rules: {chat.push: on}}]",
			"5:38: chat.push is not set at a space; it is set at people and at the organisation"},
		{head + "spaces: [{id: s, kind: tram}]", "5:24: \"tram\" is no kind of space; write team, site, course, report_area, drive"},
		{head + "spaces: [{id: s, kind: team, joinable: maybe}]", "5:40: \"maybe\" is neither yes nor no"},
		{head + "spaces: [{id: s, kind: drive}]", "5:10: the drive \"s\" belongs to one person, and 0 own it"},
		{head + "spaces: [{id: s, kind: team, owners: [eve]}]", "5:39: there is no person \"eve\""},
		{head + "spaces: [{id: s, kind: team, items: [{id: f, kind: file}]}]\ngrants: [{party: a@b.example, resource: folder:f, role: view}]",
			"6:41: \"f\" is a file, not a folder"},
		{head + "spaces: [{id: s, kind: team, items: [{id: f, kind: file}]}]\nlinks: [{id: l, item: space:s, for: bearer, right: view}]",
			"6:23: a link opens one item, not a space"},
		{head + "grants: [{party: \"partner:x\", resource: space:s, role: view}]", "5:18: there is no partner"},
		{head + "grants: [{party: \"domain:far.example\", resource: file:f, role: view}]",
			"5:50: domain:far.example as a whole is let into a space"},
		{head + "guests: [{address: a@b.example, since: 2026-02-30}]", "5:40: \"2026-02-30\" is no date"},
		{head + "guests: [{address: a@b.example, since: 2026-02-03T10:00:00}]", "5:40: \"2026-02-03T10:00:00\" is no moment"},
		{head + "guests: [{address: a@b.example, state: invited, accepted: -1d}]", "5:10: the record of a@b.example is invited and yet accepted"},
		{head + "guests: [{address: a@b.example}, {address: A@b.example}]", "5:34: the guest \"a@b.example\" stands here twice"},
		{head + "partners: [{id: p, name: P, domains: [ours.example]}]", "5:39: ours.example is one of our own domains"},
		{head + "partners: [{id: p, name: P, domains: [homepost.example]}]", "5:39: homepost.example is a personal domain"},
		{head + "partners: [{id: p, name: P, domains: [co.uk]}]", "5:39: co.uk is a public suffix"},
		{head + "partners: [{id: p, name: P, domains: [192.0.2.1]}]",
			"5:39: \"192.0.2.1\" is no domain: an IP address stands where a domain belongs"},
		{head + "partners: [{id: p, name: P, domains: [brook.example]}, {id: q, name: Q, domains: [brook.example]}]",
			"5:83: the domain brook.example belongs to the partner \"p\" already"},
		{head + "partners: [{id: p, name: P, domains: [ilvane.example]}, {id: q, name: Q, domains: [iivane.example]}]",
			"5:84: iivane.example (iivane.example) looks like ilvane.example"},
		{head + "partners: [{id: p, name: P, opened: {chat: yes}}]", "5:38: \"chat\" is no service and direction"},
		{head + "partners: [{id: p, name: P, owner: eve}]", "5:36: there is no person \"eve\""},
		{head + "barred: [{name: x.example, address: a@x.example}]", "5:10: a bar has either a name, which is a domain, or an address"},
		{head + "barred: [{address: ada@ours.example}]", "5:10: ada@ours.example is one of ours; bars are for outsiders"},
		{head + "exceptions: [{id: x, rules: {chat.push: off}}]", "5:14: the exception \"x\" is for nobody"},
		{head + "exceptions: [{id: x, people: [ada]}]", "5:14: the exception \"x\" changes no rule"},
		{head + "exceptions: [{id: x, people: [ada], rules: {chat.push: off}, from: +3d, until: +1d}]",
			"5:14: the exception \"x\" ends before it begins"},
		{head + "bundles: [{id: b, name: B, gives: []}]", "a bundle gives something: a resource and a role"},
		{head + "bundles: [{id: b, name: B, gives: [{resource: space:none, role: view}]}]", "5:47: there is no space \"none\""},
		{head + "expectations: [{id: e, party: \"*\", action: open, resource: \"*\", expect: never}]", "5:44: \"open\" is no action"},
		{head + "expectations: [{id: e, party: \"*\", action: files.opne, resource: \"*\", expect: never}]",
			"5:44: \"files.opne\" is no action; write one as files.open, files.* or *; do you mean files.open?"},
		{"wexillum: 1\norganisation: {name: M, domains: [ours.example], time_zone: Mars/North}", "2:61: \"Mars/North\" is no time zone"},
		{head + "groups: [{id: a, name: \"a\\x07b\"}]", "5:24: a control character stands in this text"},
		{head + "groups: [{id: a, name: \xff}]", "5:24: the file is not valid UTF-8"},
		{head + "groups: " + strings.Repeat("[", 3000), "5:29: this nests deeper than any record does"},
		{head + "groups:\n - " + strings.Repeat("- ", 3000) + "a", "this nests deeper than any record does"},
		{head + "groups: [{id: a", "5:"},
	} {
		_, err := Read([]byte(c.text), Options{File: "test", Now: now})
		var errs Errors
		if !errors.As(err, &errs) {
			t.Errorf("%q: %v; want %s", strings.TrimPrefix(c.text, head), err, c.want)
			continue
		}
		found := false
		for _, e := range errs {
			found = found || strings.Contains(e.Error(), c.want)
		}
		if !found {
			t.Errorf("%.80q:\n got %v\nwant %s", strings.TrimPrefix(c.text, head), err, c.want)
		}
	}
}

// TestSaysTwice takes a look-alike that is said twice, and values that are given
// as held back.
func TestSaysTwice(t *testing.T) {
	w := read(t,
		head+"partners: [{id: p, name: P, domains: [ilvane.example]}, {id: q, name: Q, domains: [{name: iivane.example, look_alike: yes}]}]\nspaces: [{id: s, kind: team, rules: {files.link_days: {value: none, held: yes}}}]")
	if !w.Partners[1].Domains[0].LookAlike || !w.Spaces[0].Rules[0].Held {
		t.Errorf("%+v", w)
	}
	again := read(t, string(Write(w)))
	if !again.Partners[1].Domains[0].LookAlike || !again.Spaces[0].Rules[0].Held {
		t.Errorf("what was said twice is lost in a dump: %s", Write(w))
	}
}

// TestManyErrors reports all that is wrong at once, in the order of the file.
func TestManyErrors(t *testing.T) {
	_, err := Read([]byte(head+"groups: [{id: A}, {id: b, x: y}]\nspaces: [{id: s, kind: z}]"), Options{File: "w.yaml", Now: now})
	var errs Errors
	if !errors.As(err, &errs) || len(errs) != 3 || errs[0].Line != 5 || errs[2].Line != 6 || errs[0].File != "w.yaml" {
		t.Errorf("%v", err)
	}
}

// TestOrderOfSections does not matter.
func TestOrderOfSections(t *testing.T) {
	a := read(t, head+"groups: [{id: g}]\nspaces: [{id: s, kind: team, members: [\"group:g\"]}]")
	b := read(t, "spaces: [{id: s, kind: team, members: [\"group:g\"]}]\ngroups: [{id: g}]\n"+head)
	if string(Write(a)) != string(Write(b)) {
		t.Errorf("%s\n%s", Write(a), Write(b))
	}
}

// FuzzRead wants no panic on any text, and that what is taken reads back as the
// same world.
func FuzzRead(f *testing.F) {
	model, _ := os.ReadFile("testdata/model.yaml")
	f.Add(string(model))
	for _, s := range []string{head, head + "groups: [{id: a, name: \"x: y\"}]",
		head + "rules: {chat.guests: {limit: on, default: {value: on, held: yes}}}", "{wexillum: 1}", "wexillum: 1\n- a", "? a", "%YAML 1.1",
		"\t", "a: |\n  b", head + "people:\n- id: b\n  name: >\n   x\n   y"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if len(s) > 20000 {
			return
		}
		w, err := Read([]byte(s), Options{Now: now})
		if err != nil {
			var errs Errors
			if !errors.As(err, &errs) || len(errs) == 0 || errs[0].Line < 1 {
				t.Fatalf("%v", err)
			}
			return
		}
		once := Write(w)
		x, err := Read(once, Options{Now: now})
		if err != nil {
			t.Fatalf("%q\nwrites\n%s\nwhich is refused: %v", s, once, err)
		}
		if twice := Write(x); string(twice) != string(once) {
			t.Fatalf("%q\nwrites\n%s\nthen\n%s", s, once, twice)
		}
	})
}

// TestParts reads a long file part by part as it would be read whole, with the
// same places of what is wrong.
func TestParts(t *testing.T) {
	text := string(Write(worldgen.Generate(5, worldgen.Size{Guests: 900}, now)))
	if len(text) < longText {
		t.Fatalf("the text has only %d bytes", len(text))
	}
	whole := func(text string) (string, error) {
		r := newReader(Options{Now: now})
		root := r.parseWhole([]byte(text))
		if root == nil {
			return "", r.errs.sorted()
		}
		w := &world.World{}
		r.document(root, w, nil)
		if len(r.errs) == 0 {
			r.check(w, nil)
		}
		if len(r.errs) > 0 {
			return "", r.errs.sorted()
		}
		return string(Write(w)), nil
	}
	for name, change := range map[string]func(string) string{
		"as it is": func(s string) string { return s },
		"comments": func(s string) string {
			return "# a world\n" + strings.ReplaceAll(s, "\ngrants:\n", "\n# what they hold\ngrants:\n\n  # the first\n")
		},
		"a bad role": func(s string) string { i := strings.LastIndex(s, "role: "); return s[:i] + "role: x" + s[i+6:] },
		"bad syntax": func(s string) string { i := strings.LastIndex(s, "{party: "); return s[:i] + "}" + s[i:] },
		"twice": func(s string) string {
			return s + "grants:\n  - {party: a@b.example, resource: space:s1, role: view}\n"
		},
		"dangling": func(s string) string { return strings.Replace(s, "sponsor: u1,", "sponsor: u1000000,", 1) },
		"flow":     func(s string) string { return s + "groups2: []\n" },
		"the same": func(s string) string {
			i := strings.LastIndex(s, "  - {party: ")
			return s + s[i:i+strings.IndexByte(s[i:], '\n')+1]
		},
	} {
		s := change(text)
		got := ""
		w, err := Read([]byte(s), Options{Now: now})
		if err == nil {
			got = string(Write(w))
		}
		want, wantErr := whole(s)
		if name == "twice" { // the parser of the whole says it in words of its own
			if err == nil || wantErr == nil || !strings.Contains(err.Error(), "stands here twice") {
				t.Errorf("%s: %v, whole %v", name, err, wantErr)
			}
			continue
		}
		if name == "the same" && !strings.HasSuffix(text, "\n") {
			continue
		}
		if got != want || (err == nil) != (wantErr == nil) || err != nil && name != "bad syntax" && err.Error() != wantErr.Error() {
			t.Errorf("%s: %.300v\nwhole: %.300v", name, err, wantErr)
		}
		if name == "bad syntax" && err != nil && err.(Errors)[0].Line < 1000 {
			t.Errorf("%s: %v", name, err)
		}
	}
}

// TestHopeless reads a file with a thousand errors: it stops at fifty, and says so.
func TestHopeless(t *testing.T) {
	text := "wexillum: 1\nguests:\n" + strings.Repeat("  - {address: nonsense, state: asleep}\n", 1000)
	_, err := Read([]byte(text), Options{})
	var errs Errors
	if !errors.As(err, &errs) || len(errs) != maxErrors+1 || !strings.Contains(errs[maxErrors].Error(), "reading stopped here, at 50 errors") {
		t.Fatalf("%d: %v", len(errs), err)
	}
	if last := errs[maxErrors]; last.Line > 40 {
		t.Errorf("it read on to line %d", last.Line)
	}
}
