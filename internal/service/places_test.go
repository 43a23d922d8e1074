package service

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// placeEdits reads changes that stand one a line: DO KIND ID FIELDS, "-" for no id.
func placeEdits(t *testing.T, text string) (out []PlaceEdit) {
	t.Helper()
	for _, l := range strings.Split(strings.TrimSpace(text), "\n") {
		f := strings.SplitN(strings.TrimSpace(l), " | ", 4)
		for len(f) < 4 {
			f = append(f, "")
		}
		e := PlaceEdit{Do: f[0], Kind: f[1], ID: strings.TrimPrefix(f[2], "-")}
		if f[3] != "" {
			e.Fields = []byte(f[3])
		}
		out = append(out, e)
	}
	return
}

func linesOf(x *PlacesChanged) string {
	var out []string
	for _, l := range x.Lines {
		s := strings.TrimSpace(fmt.Sprintf("%s %s %s %s", l.Result, l.Kind, l.ID, l.Field))
		if l.Cause != "" {
			s += ": " + l.Cause
		}
		out = append(out, s)
	}
	return strings.Join(out, "\n")
}

func (s *Service) dump(t *testing.T) string {
	t.Helper()
	w, err := s.World(t.Context(), store.Head{})
	check(t, err)
	return string(worldfile.Write(w))
}

const placeWorld = `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules:
  directory.guests: {default: on}
  directory.personal: {limit: on, default: off}
  spaces.guests: {default: on}
  meetings.outsiders: {limit: anyone, default: known}
  spaces.connect: {limit: any, default: closed}
partners:
  - {id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes, files.in: yes, meetings.in: yes, chat.in: yes}}
  - {id: shut, name: Shut, domains: [shut.example], opened: {}}
personal_domains: [homepost.example]
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ben, name: Ben, address: ben@ours.example}, {id: odd, name: Odd, address: odd@ours.example, left: 2026-01-01}]
spaces:
  - {id: dossier, name: Dossier, kind: team, owners: [uma], members: [ben, odd], items: [{id: kit, kind: file, name: Kit}, {id: lists, kind: folder, name: Lists}, {id: notes, kind: page, name: Notes}]}
  - {id: other, name: Other, kind: team, owners: [uma], items: [{id: secret, kind: file, name: Secret}]}
  - {id: open, name: Open, kind: team, owners: [uma], rules: {spaces.connect: listed}}
`

var placeAdmin = Who{Name: "admin", Role: Administrator}

// TestPlacesMadeAndUndone makes, changes, moves, closes and removes entries of every kind, sees who
// gains and who loses before it is done, and takes each change back: then the dump is as it was.
func TestPlacesMadeAndUndone(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, placeWorld+`
guests: [{address: a@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: contribute, from: 2026-11-01, sponsor: uma}]
links:
  - {id: ended, item: file:secret, for: bearer, right: view, created: 2026-11-01, until: 2026-11-10, by: uma}
  - {id: over, item: file:secret, for: bearer, right: view, created: 2026-11-02, until: 2026-11-10, by: uma}
`)
	other, _ := start(t, dsn)
	// What it weighs is told as: parties gaining and losing, granted actions gained and lost.
	for _, c := range []struct{ do, want, weighed string }{
		{`add | space | - | {"name": "Órgão aberto", "kind": "team", "owners": ["uma"], "items": [{"id": "first", "kind": "folder", "name": "First"}]}`,
			"added space orgao-aberto", "0 0 0 0"},
		{`set | space | dossier | {"name": "Dossier of loans", "members": ["ben", "uma"]}`, "changed space dossier", "0 0 0 0"},
		{`add | item | - | {"space": "dossier", "kind": "file", "name": "Plan"}`, "added item plan", "1 0 5 0"},
		{`set | item | kit | {"private": "yes"}`, "changed item kit", "0 1 0 5"},
		{`set | item | kit | {"space": "other"}`, "changed item kit", "0 1 0 5"},
		{`add | grant | - | {"party": "a@ilvane.example", "resource": "space:other", "role": "view"}`,
			"added grant a@ilvane.example space:other view NOW", "1 0 4 0"},
		{`set | grant | a@ilvane.example space:dossier | {"role": "view"}`,
			"changed grant a@ilvane.example space:dossier contribute 2026-11-01T00:00:00Z", "0 1 0 6"},
		{`set | grant | a@ilvane.example space:dossier | {"until": "2026-12-31"}`,
			"changed grant a@ilvane.example space:dossier contribute 2026-11-01T00:00:00Z", "0 1 0 12"},
		{`remove | grant | a@ilvane.example space:dossier`, "ended grant a@ilvane.example space:dossier contribute 2026-11-01T00:00:00Z",
			"0 1 0 12"},
		{`close | space | dossier`, "closed space dossier", "0 1 0 12"},
		{`close | space | dossier | | {"on": "+9d"}`, "closed space dossier", "0 1 0 12"},
		{`close | space | dossier | {"on": "+9d"}`, "closed space dossier", "0 1 0 12"},
		{"close | space | dossier\nremove | space | dossier",
			"not_done space dossier\nrefused space dossier id: it is still named: 1 role on it has not ended; close it first",
			""},
		{`remove | space | other`, "removed space other", "0 0 0 0"},
		{`remove | item | secret`, "removed item secret", "0 0 0 0"}, // with links that have ended
		{`add | meeting | - | {"name": "Weekly", "host": "uma", "space": "dossier", "sign_in_domains": ["ilvane.example"]}`,
			"added meeting weekly", "1 0 1 0"},
		{`add | domain_list | - | {"name": "Lenders", "domains": ["ilvane.example"]}` + "\n" +
			`add | meeting | - | {"name": "Round", "host": "uma", "space": "dossier", "sign_in_lists": ["lenders"]}`,
			"added domain_list lenders\nadded meeting round", "1 0 1 0"},
		{`add | meeting | - | {"name": "Round", "host": "uma", "sign_in_lists": ["lendrs"]}`,
			`refused meeting round sign_in_lists: there is no list of domains "lendrs"`, ""},
		{`add | group | loan | {"name": "Loan", "parties": ["a@ilvane.example"]}` + "\n" +
			`add | grant | - | {"party": "group:loan", "resource": "space:other", "role": "view"}`,
			"added group loan\nadded grant group:loan space:other view NOW", "1 0 4 0"},
		{`add | grant | - | {"party": "partner:ilvane", "resource": "space:other", "role": "view"}`,
			"refused grant partner:ilvane space:other view NOW party: none of them would get in with their home account: “Members with their home account” is set to closed: nobody from outside. Set spaces.connect to listed and open the partner, if that is wanted",
			""},
		{`add | grant | - | {"party": "partner:ilvane", "resource": "space:open", "role": "view"}`,
			"added grant partner:ilvane space:open view NOW", "1 0 2 0"},
		{`add | grant | - | {"party": "domain:ilvane.example", "resource": "space:open", "role": "contribute", "until": "+30d"}`,
			"added grant domain:ilvane.example space:open contribute NOW", "1 0 2 0"},
		{`add | grant | - | {"party": "domain:far.example", "resource": "space:open", "role": "view"}`,
			"refused grant domain:far.example space:open view NOW party: none of them would get in with their home account: ", ""},
		{`add | grant | - | {"party": "domain:ilvane.example", "resource": "file:secret", "role": "view"}`,
			`refused grant  resource: domain:ilvane.example as a whole is let into a space with everything in it, not into "file:secret"`, ""},
		{`add | grant | - | {"party": "partner:nobody", "resource": "space:other", "role": "view"}`,
			`refused grant  party: there is no partner "nobody"`, ""},
		{`add | person | - | {"name": "Zoë Quill", "address": "zoe@ours.example"}`, "added person zoe-quill", "1 0 0 0"},
		{`set | person | ben | {"roles": ["administrator"]}`, "changed person ben", "0 0 0 0"},
		{`add | contact | - | {"person": "uma", "party": "x@ilvane.example", "state": "accepted"}`, "added contact uma and x@ilvane.example",
			"0 0 0 0"},
		{`remove | person | odd`, "refused person odd id: they are still named: the space dossier", ""},
		{`add | forwarder | - | {"mailbox": "uma", "to": "u@homepost.example", "keep_copy": "yes"}`,
			`refused forwarder uma to u@homepost.example to: mail may not be forwarded there: `, ""},
		{`set | item | plam | {"name": "x"}`, "refused item plam id: there is no such item", ""},
		{`set | item | kitt | {"name": "x"}`, "refused item kitt id: there is no such item; do you mean kit?", ""},
		{`add | space | dossier | {"kind": "team"}`, "refused space dossier id: there is a space with this id already", ""},
		{`add | meeting | m | {"name": "M", "host": "umma"}`, `refused meeting m host: there is no person "umma"`, ""},
		{`add | meeting | m | {"name": "M", "host": "uma"}` + "\n" + `add | item | k2 | {"space": "dossier", "kind": "fil"}`,
			`not_done meeting m` + "\n" +
				`refused item k2 kind: "fil" is no kind of item; write channel, folder, file, page, tasklist, report, dashboard`, ""},
		{`set | space | dossier | {"rules": {}}`,
			"refused space dossier rules: a value of a rule is set by itself, as in space set dossier RULE VALUE", ""},
		{`add | grant | - | {"party": "x@shut.example", "resource": "space:dossier", "role": "view"}`,
			"refused grant x@shut.example space:dossier view NOW party: they may not be let in there: ", ""},
	} {
		was := s.dump(t)
		list := placeEdits(t, c.do)
		if strings.Contains(c.do, "| |") {
			continue
		}
		ahead, err := s.EditPlaces(t.Context(), placeAdmin, "", list, true)
		check(t, err)
		if s.dump(t) != was {
			t.Fatalf("%s: a preview wrote something", c.do)
		}
		x, err := s.EditPlaces(t.Context(), placeAdmin, "a reason", list, false)
		check(t, err)
		got := strings.ReplaceAll(linesOf(x), s.Now().String(), "NOW")
		if got != c.want && !(strings.HasSuffix(c.want, ": ") && strings.HasPrefix(got, c.want) && len(got) > len(c.want)) {
			t.Errorf("%s:\n%s\nwant\n%s", c.do, got, c.want)
		}
		if linesOf(ahead) != linesOf(x) {
			t.Errorf("%s: ahead %s", c.do, linesOf(ahead))
		}
		if x.Refused > 0 {
			if s.dump(t) != was {
				t.Errorf("%s: refused, and something was written", c.do)
			}
			continue
		}
		w := x.Weighed
		if text := fmt.Sprintln(w.Parties.Gained, w.Parties.Lost, w.Granted.Gained, w.Granted.Lost); strings.TrimSpace(text) != c.weighed {
			t.Errorf("%s weighs %s, want %s: %v", c.do, text, c.weighed, w.Lines)
		}
		check(t, other.Refresh(t.Context()))
		agrees(t, other)
		back, err := s.Undo(t.Context(), placeAdmin, x.Change, "not so", true)
		check(t, err)
		if back.Refused > 0 || back.Weighed.Parties.Gained != w.Parties.Lost || back.Weighed.Granted.Gained != w.Granted.Lost {
			t.Errorf("%s: undone it would be %s, %+v", c.do, linesOf(back), back.Weighed)
		}
		_, err = s.Undo(t.Context(), placeAdmin, x.Change, "not so", false)
		check(t, err)
		if now := s.dump(t); now != was {
			t.Errorf("%s and undone:\n%s", c.do, diffText(was, now))
		}
		check(t, other.Refresh(t.Context()))
		agrees(t, other)
	}
	if _, broken, err := s.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("%v %v", broken, err)
	}
}

// agrees compares what a service that followed the changes answers with a snapshot of its dump.
func agrees(t *testing.T, s *Service) {
	t.Helper()
	w, err := s.World(t.Context(), store.Head{})
	check(t, err)
	fresh, live := engine.Of(w), s.State().Snapshot
	if a, b := live.Counts(), fresh.Counts(); a != b {
		t.Fatalf("%+v, and of the dump %+v", a, b)
	}
	for _, a := range []string{"a@ilvane.example", "b@ilvane.example", "x@ilvane.example"} {
		who, err := engine.ParseWho(a)
		check(t, err)
		is, want := "", ""
		for to, from := range map[*string]*engine.Snapshot{&is: live, &want: fresh} {
			lines, _, err := from.Reach(who, s.Now())
			check(t, err)
			for _, l := range lines {
				*to += fmt.Sprintln(l.Action, l.Resource, l.Yes)
			}
		}
		if is != want {
			t.Fatalf("%s reaches\n%s, and by the dump\n%s", a, is, want)
		}
	}
}

// diffText shows the lines in which two texts differ.
func diffText(was, now string) string {
	in := func(text string) map[string]bool {
		m := map[string]bool{}
		for _, l := range strings.Split(text, "\n") {
			m[l] = true
		}
		return m
	}
	a, b := in(was), in(now)
	var out []string
	for l := range a {
		if !b[l] {
			out = append(out, "- "+l)
		}
	}
	for l := range b {
		if !a[l] {
			out = append(out, "+ "+l)
		}
	}
	return strings.Join(out, "\n")
}

// TestUndoStands: what was changed again since stays, and a change of another kind says how it is
// taken back.
func TestUndoStands(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, placeWorld)
	do := func(text string) *PlacesChanged {
		x, err := s.EditPlaces(t.Context(), placeAdmin, "why", placeEdits(t, text), false)
		check(t, err)
		return x
	}
	first := do(`set | space | dossier | {"name": "One"}`)
	do(`set | space | dossier | {"name": "Two"}`)
	x, err := s.Undo(t.Context(), placeAdmin, first.Change, "", false)
	check(t, err)
	if linesOf(x) != "refused space dossier id: it was changed again since; undo that first" {
		t.Error(linesOf(x))
	}
	made := do(`add | space | new | {"name": "New", "kind": "team", "owners": ["uma"]}`)
	do(`add | grant | - | {"party": "group:g", "resource": "space:new", "role": "view"}`)
	do("add | group | g | {\"name\": \"G\"}\nadd | grant | - | {\"party\": \"group:g\", \"resource\": \"space:new\", \"role\": \"view\"}")
	x, err = s.Undo(t.Context(), placeAdmin, made.Change, "", false)
	check(t, err)
	if linesOf(x) != "refused space new id: it is still named: 1 role on it has not ended; close it first" {
		t.Error(linesOf(x))
	}
	e, err := s.Journal(t.Context(), store.JournalQuery{Kind: "partner", Limit: 1})
	check(t, err)
	if _, err := s.Undo(t.Context(), placeAdmin, e[0].Seq, "", false); err == nil ||
		!strings.Contains(err.Error(), "policy goes back with revision back") {
		t.Error(err)
	}
	if _, err := s.Undo(t.Context(), placeAdmin, 999999, "", false); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
	if _, err := s.EditPlaces(t.Context(), placeAdmin, " ",
		placeEdits(t, `add | item | - | {"space": "dossier", "kind": "file", "name": "Plan"}`), false); err != nil {
		t.Errorf("it opens nothing, as nobody is there: %v", err)
	}
	load(t,
		s,
		"wexillum: 1\ngrants: [{party: \"group:g\", resource: space:dossier, role: view, from: 2026-11-01}]\ngroups: [{id: g, name: G, parties: [a@ilvane.example]}]\nguests: [{address: a@ilvane.example, since: 2026-11-01, accepted: 2026-11-01}]\n")
	var bad *Invalid
	if _, err := s.EditPlaces(t.Context(), placeAdmin, " ",
		placeEdits(t, `add | item | - | {"space": "dossier", "kind": "file", "name": "Plan two"}`), false); !errors.As(err, &bad) ||
		bad.Field != "why" {
		t.Errorf("it opens something without a reason: %v", err)
	}
}

// TestPlacesOfMembers: owners, hosts and people do in their own places what is theirs, and are told
// whom to ask for the rest.
func TestPlacesOfMembers(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, placeWorld+"meetings: [{id: talk, name: Talk, host: ben, space: dossier}]\n")
	uma, ben := Who{Name: "uma", Role: Member, Person: "uma"}, Who{Name: "ben", Role: Member, Person: "ben"}
	keeper := Who{Name: "keeper", Role: Keeper}
	for _, c := range []struct {
		who  Who
		do   string
		want string
	}{
		{uma, `set | space | dossier | {"name": "Mine"}`, "changed space dossier"},
		{uma, `add | item | - | {"space": "dossier", "kind": "page", "name": "P"}`, "added item p"},
		{uma, `set | space | dossier | {"house_licence": "yes"}`, "forbidden: a licence costs something; ask a keeper or an administrator"},
		{uma, `add | space | - | {"name": "X", "kind": "team"}`,
			"forbidden: keepers and administrators make and remove spaces; ask a keeper or an administrator"},
		{ben, `set | space | dossier | {"name": "Yours"}`, "forbidden: owners change their own spaces; ask uma"},
		{ben, `set | item | kit | {"space": "other"}`, "forbidden: owners change what is in their own spaces; ask uma"},
		{ben, `set | meeting | talk | {"sign_in_domains": ["ilvane.example"]}`, "changed meeting talk"},
		{uma, `set | meeting | talk | {"name": "T"}`, "forbidden: hosts change their own meetings; ask ben"},
		{ben, `add | meeting | - | {"name": "B", "host": "ben", "space": "dossier"}`, "added meeting b"},
		{ben, `add | meeting | - | {"name": "B", "host": "uma"}`,
			"forbidden: members make meetings that they host themselves, in spaces that they belong to"},
		{ben, `add | contact | - | {"person": "ben", "party": "x@ilvane.example", "state": "asked"}`, "added contact ben and x@ilvane.example"},
		{ben, `add | contact | - | {"person": "uma", "party": "x@ilvane.example", "state": "asked"}`,
			"forbidden: people keep their own contacts; ask a keeper or an administrator"},
		{ben, `set | person | ben | {"name": "Benny"}`,
			"forbidden: keepers and administrators keep people, groups and lists of domains; ask a keeper or an administrator"},
		{keeper, `set | person | ben | {"name": "Benny"}`, "changed person ben"},
		{keeper, `set | person | ben | {"roles": ["administrator"]}`, "forbidden: an administrator says who administers"},
		{keeper, `set | person | ben | {"roles": ["introducer"]}`, "changed person ben"},
		{Who{Name: "aud", Role: Auditor}, `set | person | ben | {"name": "B"}`, "forbidden: auditors read, and change nothing"},
	} {
		x, err := s.EditPlaces(t.Context(), c.who, "why", placeEdits(t, c.do), false)
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = linesOf(x)
		}
		if got != c.want {
			t.Errorf("%s: %s\n%s\nwant %s", c.who.Name, c.do, got, c.want)
		}
	}
}

// TestPlacesAtRandom: random changes of a small world, one after the other and then taken back in
// turn, leave the dump as it was; services that follow answer as a snapshot of the dump.
func TestPlacesAtRandom(t *testing.T) {
	dsn := dbtest.DSN(t)
	s, _ := start(t, dsn)
	load(t, s, placeWorld+`
guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}]
groups: [{id: loan, name: Loan, parties: [a@ilvane.example, b@ilvane.example]}]
grants: [{party: a@ilvane.example, resource: space:dossier, role: contribute, from: 2026-11-01, sponsor: uma}, {party: "group:loan", resource: file:kit, role: view, from: 2026-11-01}]
`)
	seed := uint64(20261129)
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	start := s.dump(t)
	var done []uint64
	var heads []store.Head
	for k := range 60 {
		var e string
		switch r.IntN(9) {
		case 0:
			e = fmt.Sprintf(`add | space | s%d | {"name": "S", "kind": "%s", "owners": ["%s"], "items": [{"id": "i%d", "kind": "file"}]}`, k,
				pick("team", "site", "course"), pick("uma", "ben"), k)
		case 1:
			e = fmt.Sprintf(`set | item | %s | {"private": "%s"}`, pick("kit", "lists", "notes", "secret"), pick("yes", "no"))
		case 2:
			e = fmt.Sprintf(`set | item | %s | {"space": "%s"}`, pick("kit", "lists", "notes", "secret"), pick("dossier", "other"))
		case 3:
			e = fmt.Sprintf(`add | grant | - | {"party": "%s", "resource": "%s", "role": "%s"}`,
				pick("a@ilvane.example", "group:loan", "c@ilvane.example"), pick("space:dossier", "space:other", "file:kit"),
				pick("view", "contribute", "manage"))
		case 4:
			e = fmt.Sprintf(`remove | grant | %s %s`, pick("a@ilvane.example", "group:loan"), pick("space:dossier", "space:other", "file:kit"))
		case 5:
			e = fmt.Sprintf(`close | %s`, pick("space | dossier", "space | other", "item | kit"))
		case 6:
			e = fmt.Sprintf(`remove | %s`, pick("space | dossier", "space | other", "item | notes", "item | secret"))
		case 7:
			e = fmt.Sprintf(`set | group | loan | {"parties": ["%s"]}`, pick("a@ilvane.example", "b@ilvane.example", "c@ilvane.example"))
		default:
			e = fmt.Sprintf(`set | space | %s | {"joinable": "%s", "parties": %s}`, pick("dossier", "other"), pick("yes", "no"),
				pick(`["partner:ilvane"]`, `null`, `["domain:far.example"]`))
		}
		x, err := s.EditPlaces(t.Context(), placeAdmin, "random", placeEdits(t, e), false)
		if err != nil {
			t.Fatalf("%s: %v", e, err)
		}
		if x.Change > 0 {
			done = append(done, x.Change)
			heads = append(heads, s.State().Head)
		}
		agrees(t, s)
	}
	sameThen(t, s, []store.Head{heads[len(heads)/2], heads[3], heads[len(heads)-2], heads[len(heads)/3]})
	if len(done) < 20 {
		t.Fatalf("only %d changes", len(done))
	}
	for i := len(done) - 1; i >= 0; i-- {
		x, err := s.Undo(t.Context(), placeAdmin, done[i], "back", false)
		check(t, err)
		if x.Refused > 0 {
			t.Fatalf("change %d: %s", done[i], linesOf(x))
		}
		agrees(t, s)
	}
	if now := s.dump(t); now != start {
		t.Errorf("%s", diffText(start, now))
	}
}

// TestDropOff: each address and group that a drop-off admits has a folder of its own, in which it may
// work, and reaches nobody else's; undone, nothing of it is left.
func TestDropOff(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, placeWorld+`
guests:
  - {address: a@ilvane.example, name: Ada, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}
  - {address: b@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}
groups: [{id: g, name: G, parties: [b@ilvane.example]}]
`)
	before := dumped(t, s)
	edits := placeEdits(t,
		`add | space | - | {"name": "Bids", "owners": ["uma"], "parties": ["a@ilvane.example", "group:g", "partner:ilvane"]}`)
	edits[0].Pattern = "drop-off"
	x, err := s.EditPlaces(t.Context(), placeAdmin, "the tender", edits, false)
	check(t, err)
	if linesOf(x) != "added space bids" ||
		x.Lines[0].Note != "Nobody from partner:ilvane has a role yet: invite them into the folder made for them." {
		t.Errorf("%s, %q", linesOf(x), x.Lines[0].Note)
	}
	var got []string
	for _, who := range []string{"a@ilvane.example", "b@ilvane.example"} {
		for _, folder := range []string{"a-ilvane-example", "g", "ilvane"} {
			action, _ := engine.ParseAction("files.upload")
			subject, _ := engine.ParseWho(who)
			v, err := s.State().Decide(&engine.Question{Subject: subject, Action: action, Resource: resourceOf("folder:" + folder), At: s.Now()})
			if err != nil {
				t.Fatal(err)
			}
			got = append(got, fmt.Sprint(who[:1], " ", folder, " ", v.Yes))
		}
	}
	if want := "a a-ilvane-example true; a g false; a ilvane false; b a-ilvane-example false; b g true; b ilvane false"; strings.Join(got,
		"; ") != want {
		t.Errorf("%s\nwant %s", strings.Join(got, "; "), want)
	}
	if _, err := s.Undo(t.Context(), placeAdmin, x.Change, "as it was", false); err != nil {
		t.Fatal(err)
	}
	if after := dumped(t, s); after != before {
		t.Errorf("undone it is\n%s\nand was\n%s", after, before)
	}
}
