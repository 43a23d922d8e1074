package engine_test

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// known is a world that files are laid over.
type known struct {
	*engine.Snapshot
	w *world.World
}

func (k known) Policy() *world.World { return k.w }

// lay reads a part of a world over w.
func lay(t testing.TB, w *world.World, text, name string) *world.World {
	t.Helper()
	var k worldfile.Known
	if w.Organisation != nil {
		k = known{engine.Of(w), w}
	}
	part, err := worldfile.Read([]byte(text), worldfile.Options{File: name, Now: now, Known: k})
	if err != nil {
		t.Fatal(err)
	}
	return world.Merge(w, part)
}

// TestDecisions asks every line of testdata/decisions.txt, of the engine and of
// the slow evaluator, and wants exactly the gates and conditions it says.
func TestDecisions(t *testing.T) {
	text, err := os.ReadFile("testdata/decisions.txt")
	if err != nil {
		t.Fatal(err)
	}
	var w *world.World
	var s *engine.Snapshot
	seen := map[catalogue.Code]bool{}
	cover := coverage{}
	lines := 0
	for n, line := range strings.Split(string(text), "\n") {
		at := fmt.Sprintf("decisions.txt:%d", n+1)
		line = strings.TrimSpace(line)
		switch {
		case line == "" || line[0] == '#':
			continue
		case strings.HasPrefix(line, "world "):
			file, err := os.ReadFile("testdata/" + line[6:])
			if err != nil {
				t.Fatal(err)
			}
			w = lay(t, &world.World{}, string(file), line[6:])
			s = engine.Of(w)
			continue
		case strings.HasPrefix(line, "with {"):
			w = lay(t, w, "{wexillum: 1, "+line[6:], at)
			s = engine.Of(w)
			continue
		}
		f := strings.Split(line, "|")
		for i := range f {
			f[i] = strings.TrimSpace(f[i])
		}
		for len(f) < 8 {
			f = append(f, "")
		}
		lines++
		q := asked{who: f[0], action: f[1], resource: f[2], at: now}
		for _, c := range strings.Fields(f[3]) {
			k, v, _ := strings.Cut(c, "=")
			switch k {
			case "address":
				q.address = v
			case "presenter":
				q.presenter = v
			case "copy":
				q.dropsCopy = v == "no"
			case "at":
				if q.at, err = moment.ParseLoose(v, now, s.Zone()); err != nil {
					t.Fatal(at, err)
				}
			default:
				t.Fatalf("%s: there is no context %q", at, k)
			}
		}
		got, want := ask(t, s, q), (&slow{w}).answer(q)
		if got.String() != want.String() {
			t.Errorf("%s: %s\nengine %s\nslow   %s", at, line, got, want)
		}
		decision, detail, account := "wrong", "", ""
		if !got.wrong {
			decision, detail, account = "no", got.accounts[0].refusing, got.accounts[0].account
			if detail == "" {
				decision, detail = "yes", got.accounts[0].conditions
			}
		}
		if decision != f[4] || detail != f[5] || f[6] != "" && account != f[6] {
			t.Errorf("%s: %s\ngot %s | %s | %s", at, line, decision, detail, account)
		}
		if e, err := parse(q); err == nil {
			if x, err := s.Explain(&e); err == nil {
				cover.add(x, f[7])
				for i := range x.Accounts {
					for g := range x.Accounts[i].Gates {
						for _, c := range x.Accounts[i].Gates[g].Causes {
							seen[c.Code] = true
						}
					}
				}
			}
		}
	}
	if lines < 600 {
		t.Errorf("the table has %d lines; at least 600 are wanted", lines)
	}
	for _, what := range cover.missing() {
		t.Errorf("no line of the table decides %s", what)
	}
	for _, c := range catalogue.Codes() {
		if !seen[c] && c != catalogue.LinkUndated { // of earlier versions alone: TestKeptByEarlierVersions
			t.Errorf("no line of the table brings about the cause %s", c)
		}
	}
	t.Logf("%d decisions", lines)
}

// coverage counts what the lines of the table decide, by name and direction.
type coverage map[string]bool

// notes are the notes of the catalogue, each of which decides lines both ways.
var notes = []string{"personal_named", "parties", "openings", "invite_space", "channel_keys", "channel_attach", "drives", "private_item",
	"keep_copy", "joined", "licences", "inviter_class", "nature", "newcomer",
	"own_domain", "sharers_own", "features", "references", "methods", "outsiders_none", "presenter", "bearer_meeting", "meeting_space",
	"look_up", "joinable", "set_by", "solely", "area", "theirs", "contacts",
	"accounts", "link_tighter", "home_chat", "stance_age", "guest_elsewhere"}

func (c coverage) add(x *engine.Answer, note string) {
	d := x.Deciding()
	way := " to no"
	if d.Yes {
		way = " to yes"
	}
	c["the action "+x.Question.Action.String()+way] = true
	c["the kind "+x.Kind.String()+way] = true
	c["the account "+d.Account.String()+way] = true
	if note != "" {
		c["the note "+note+way] = true
	}
	refusing := 0
	var only *engine.Cause
	for g := range d.Gates {
		for i := range d.Gates[g].Causes {
			k := &d.Gates[g].Causes[i]
			if k.Refuses {
				refusing++
				only = k
			}
			if d.Yes && k.Chain != nil {
				c["the rule "+k.Chain.Rule.String()+way] = true
				if l := k.Chain.Decided(); k.Chain.Without() != k.Value {
					c["the layer "+l.String()+way] = true
				}
			}
		}
		if d.Yes && d.Gates[g].Asked || !d.Yes && len(d.Refusing.Names()) == 1 && d.Gates[g].String() == "refuse" {
			c["the gate "+d.Gates[g].Gate.String()+way] = true
		}
	}
	if refusing == 1 && only.Chain != nil {
		c["the rule "+only.Chain.Rule.String()+way] = true
		for _, step := range only.Chain.Steps {
			if step.Held != catalogue.Unset && step.Held >= only.Needed {
				c["a value held back"] = true
			}
		}
		if only.Chain.Without() != only.Value {
			c["the layer "+only.Chain.Decided().String()+way] = true
		}
	}
	if d.Yes {
		for _, n := range strings.Split("sign_in one_time_code accept_terms passcode password held_until_admitted counterpart_unconfirmed presenter_asked no_browsing becomes_guest",
			" ") {
			if strings.Contains(" "+strings.Join(d.Conditions.Names(), " ")+" ", " "+n+" ") {
				c["the condition "+n] = true
			} else {
				c["the absence of the condition "+n] = true
			}
		}
	}
}

func (c coverage) missing() (out []string) {
	want := func(what string) {
		if !c[what] {
			out = append(out, what)
		}
	}
	both := func(what string) { want(what + " to yes"); want(what + " to no") }
	for _, a := range catalogue.Actions() {
		both("the action " + a.Name)
	}
	for _, k := range []string{"person", "guest", "provisioned", "federated", "personal", "bearer"} {
		both("the kind " + k)
	}
	for _, a := range []string{"record", "home", "link", "person"} {
		both("the account " + a)
	}
	for g := catalogue.Gate(0); g < catalogue.NumGates; g++ {
		both("the gate " + g.String())
	}
	for _, r := range catalogue.Rules() {
		if catalogue.AskedBy(r.ID) == nil {
			continue // it governs behaviour
		}
		want("the rule " + r.Name + " to yes")
		switch r.Name {
		case "directory.terms", "meetings.held": // they bring conditions and refuse nothing
		default:
			want("the rule " + r.Name + " to no")
		}
	}
	for l := engine.DefaultLayer; l <= engine.ItemLayer; l++ {
		both("the layer " + l.String())
	}
	want("a value held back")
	for _, n := range strings.Split("sign_in one_time_code accept_terms passcode password held_until_admitted counterpart_unconfirmed presenter_asked no_browsing becomes_guest",
		" ") {
		want("the condition " + n)
		want("the absence of the condition " + n)
	}
	for _, n := range notes {
		both("the note " + n)
	}
	return
}
