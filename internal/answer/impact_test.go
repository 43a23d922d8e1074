package answer_test

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldfile/worldtest"
)

func goOn() error { return nil }

// with is the small world with other policy.
func with(t *testing.T, text string, inventory ...string) *world.World {
	t.Helper()
	w := worldtest.Read(t, small+strings.Join(inventory, "\n"))
	part, err := worldfile.Read([]byte("wexillum: 1\n"+text), worldfile.Options{Now: now, Older: true})
	if err != nil {
		t.Fatal(err)
	}
	return world.Merge(w, part)
}

// total sums a list of moves up.
func total(list []contract.MovesBy) (m contract.Moves) {
	for _, x := range list {
		m.Gained, m.Lost, m.Otherwise = m.Gained+x.Gained, m.Lost+x.Lost, m.Otherwise+x.Otherwise
	}
	return
}

func moves(list []contract.MovesBy) string {
	var out []string
	for _, m := range list {
		out = append(out, fmt.Sprintf("%s (%s) +%d -%d", m.Key, said(m.Name), m.Gained, m.Lost))
	}
	return strings.Join(out, ", ")
}

// weigh writes the impact of other policy, as it is answered.
func weigh(t *testing.T, text string) (*contract.Impact, *answer.View, []engine.ImpactLine) {
	t.Helper()
	v, before, after, err := answer.Files(worldtest.Read(t, small), with(t, text), now, "")
	if err != nil {
		t.Fatal(err)
	}
	line, lines, more := answer.Collect()
	x, err := engine.ImpactOf(before, after, v.At, line, goOn, nil)
	if err != nil {
		t.Fatal(err)
	}
	out := v.Impact(x, *lines, *more)
	return &out, v, *lines
}

// TestImpact: what a change of policy takes and gives is told by sums that agree with each other and with its lines, in names.
func TestImpact(t *testing.T) {
	for _, c := range []struct{ name, policy, want string }{
		{"nothing", "rules: {chat.push: {default: off}}", "parties +0 -0, granted +0 -0, nothing: true"},
		// What a file holds back counted before its limit was lowered.
		{"a space lets nobody in any more", "rules: {spaces.guests: {limit: off, default: off}}", `parties +0 -1, granted +0 -7, nothing: false
services: spaces () +0 -2, files () +0 -5
actions: spaces.enter () +0 -1, spaces.see_members () +0 -1, files.open () +0 -1, files.download () +0 -1, files.edit () +0 -1, files.upload () +0 -1, files.delete () +0 -1
partners: tarn (Tarn) +0 -7
spaces: deck (Deck) +0 -7
lost ann@tarn.example Ann Voss tarn files.open files.download files.edit files.upload files.delete file:plan Plan 1 granted
lost ann@tarn.example Ann Voss tarn spaces.enter spaces.see_members space:deck Deck 1 granted`},
		{"one lets guests in that did not", "rules: {spaces.guests: {default: on}}", `parties +1 -0, granted +4 -0, nothing: false
services: spaces () +2 -0, files () +2 -0
actions: spaces.enter () +1 -0, spaces.see_members () +1 -0, files.open () +1 -0, files.download () +1 -0
partners: tarn (Tarn) +4 -0
spaces: hold (Hold) +4 -0
gained ann@tarn.example Ann Voss tarn files.open files.download file:list List 1 granted
gained ann@tarn.example Ann Voss tarn spaces.enter spaces.see_members space:hold Hold 1 granted`},
		{"a bar is lifted from nobody known", "barred: [{address: other@tarn.example}]", "parties +0 -0, granted +0 -0, nothing: true"},
		{"somebody is barred", "barred: [{address: ann@tarn.example}]", `parties +0 -1, granted +0 -7, nothing: false
services: spaces () +0 -2, files () +0 -5
actions: spaces.enter () +0 -1, spaces.see_members () +0 -1, files.open () +0 -1, files.download () +0 -1, files.edit () +0 -1, files.upload () +0 -1, files.delete () +0 -1
partners: tarn (Tarn) +0 -7
spaces: deck (Deck) +0 -7
lost ann@tarn.example Ann Voss tarn files.open files.download files.edit files.upload files.delete file:plan Plan 1 granted
lost ann@tarn.example Ann Voss tarn spaces.enter spaces.see_members space:deck Deck 1 granted
lost ann@tarn.example Ann Voss tarn directory.sign_in directory:ours our directory 1 wide
lost ann@tarn.example Ann Voss tarn directory.leave directory:ours our directory 1 wide
lost ann@tarn.example Ann Voss tarn chat.message person:*  2 wide
lost ann@tarn.example Ann Voss tarn chat.edit_own person:*  2 wide
lost ann@tarn.example Ann Voss tarn directory.look_up person:shared  0 wide`},
	} {
		x, v, lines := weigh(t, c.policy)
		got := fmt.Sprintf("parties +%d -%d, granted +%d -%d, nothing: %t", x.Parties.Gained, x.Parties.Lost, x.Granted.Gained, x.Granted.Lost,
			x.Nothing)
		for _, part := range []struct {
			name string
			list []contract.MovesBy
		}{{"services", x.Services}, {"actions", unnamed(x.Actions)}, {"partners", x.Partners}, {"spaces", x.Spaces}} {
			if len(part.list) > 0 {
				got += "\n" + part.name + ": " + moves(part.list)
			}
		}
		if sum := total(x.Services); sum != x.Granted || total(x.Partners) != sum || total(x.Spaces) != sum || total(x.Kinds) != sum {
			t.Errorf("%s: %+v by service, %+v by partner, %+v by space, %+v by kind, %+v in all", c.name, sum, total(x.Partners), total(x.Spaces),
				total(x.Kinds), x.Granted)
		}
		for i := range lines {
			got += "\n" + strings.Join(v.ImpactRow(&lines[i]), " ")
		}
		if got != c.want {
			t.Errorf("%s:\n%s\nand not\n%s", c.name, got, c.want)
		}
	}
}

// unnamed leaves titles out, which are the catalogue's.
func unnamed(list []contract.MovesBy) (out []contract.MovesBy) {
	for _, m := range list {
		if said(m.Name) == "" {
			return nil
		}
		m.Name = nil
		out = append(out, m)
	}
	return
}

// TestImpactElsewhere: newcomers, links, forwarders and what our people do elsewhere are told by name, and a page to print has the sums.
func TestImpactElsewhere(t *testing.T) {
	was := with(t, `rules: {mail.forward: {limit: any, default: any}, mail.forward_set_by: {limit: staff, default: staff},
  mail.forward_copy: {default: optional}, files.bearer_links: {default: on}}`,
		"forwarders: [{mailbox: uma, to: uma@homepost.example, keep_copy: yes, set_by: person}]",
		"links: [{id: open, item: file:plan, for: bearer, right: view, created: 2026-11-20, until: 2026-12-20, download: yes}]")
	next := *was
	next.Rules = slices.Clone(was.Rules)
	for i := range next.Rules {
		switch r := &next.Rules[i]; r.Rule.String() {
		case "mail.forward", "files.bearer_links":
			r.Limit, r.Default = 0, 0
		}
	}
	v, before, after, err := answer.Files(was, &next, now, "")
	if err != nil {
		t.Fatal(err)
	}
	imp, err := engine.ImpactOf(before, after, v.At, nil, goOn, nil)
	if err != nil {
		t.Fatal(err)
	}
	x := v.Impact(imp, nil, false)
	if x.Nothing || !slices.Equal(x.LinksStopped, []string{"open"}) || len(x.LinksStarted) > 0 {
		t.Errorf("links that stop: %v, that start: %v, nothing: %t", x.LinksStopped, x.LinksStarted, x.Nothing)
	}
	if x.Forwarders == nil || len(*x.Forwarders) != 1 || (*x.Forwarders)[0] != (contract.ImpactForwarder{Mailbox: "Uma Reed", To: "uma@homepost.example"}) {
		t.Errorf("forwarders: %+v", x.Forwarders)
	}
	var outward []string
	if x.Outward != nil {
		for _, o := range *x.Outward {
			outward = append(outward, fmt.Sprintf("%s %s to %s: %d, as %s", o.Change, o.Action, o.Who, o.People, said(o.Person)))
		}
	}
	for _, want := range []string{"lost mail.forward to *@homepost.example: 2, as Uma Reed", "lost mail.forward to *@tarn.example: 2, as Uma Reed"} {
		if !slices.Contains(outward, want) {
			t.Errorf("%q is not among %q", want, outward)
		}
	}
	rep := v.ImpactReport("Closed", &x)
	var sums []string
	for _, line := range rep.Summary {
		sums = append(sums, strings.Join(line[:], ": "))
	}
	if !slices.Contains(sums, "links that stop: 1") {
		t.Errorf("a page to print says %q", sums)
	}
	// Asked of the way back, everything comes again.
	back, err := engine.ImpactOf(after, before, v.At, nil, goOn, nil)
	if err != nil {
		t.Fatal(err)
	}
	if len(back.LinksStarted) != 1 || len(back.Outward) != len(imp.Outward) || len(back.Forwarders) != 1 || !back.Forwarders[0].Starts {
		t.Errorf("the way back: %+v", back)
	}
}

// TestImpactLater: an impact can be asked of a moment ahead, after which somebody holds nothing more.
func TestImpactLater(t *testing.T) {
	next := with(t, "rules: {spaces.guests: {limit: off, default: off}}")
	for at, lost := range map[string]int{"": 1, "2026-12-31": 1, "2027-02-01": 0} {
		v, before, after, err := answer.Files(worldtest.Read(t, small), next, now, at)
		if err != nil {
			t.Fatal(err)
		}
		x, err := engine.ImpactOf(before, after, v.At, nil, goOn, nil)
		if err != nil || x.Parties.Lost != lost {
			t.Errorf("at %q %d lose something, and not %d (%v)", at, x.Parties.Lost, lost, err)
		}
	}
	if _, _, _, err := answer.Files(worldtest.Read(t, small), next, now, "soon"); err == nil || !strings.Contains(err.Error(), "soon") {
		t.Errorf("at soon: %v", err)
	}
}

// TestImpactAll: the table of everything has a row for each line, and ends with the error of who stops it.
func TestImpactAll(t *testing.T) {
	v, before, after, err := answer.Files(worldtest.Read(t, small), with(t, "barred: [{address: ann@tarn.example}]"), now, "")
	if err != nil {
		t.Fatal(err)
	}
	all, err := v.ImpactAll(before, after, goOn)
	if err != nil || len(all.Rows) != 7 {
		t.Errorf("%d rows (%v)", len(all.Rows), err)
	}
	for _, row := range all.Rows {
		if len(row) != len(answer.ImpactColumns) {
			t.Errorf("%q has other columns than %q", row, answer.ImpactColumns)
		}
	}
	enough := errors.New("enough")
	if _, err := v.ImpactAll(before, after, func() error { return enough }); !errors.Is(err, enough) {
		t.Errorf("stopped, it ends with %v", err)
	}
}

// TestCouldTarget: what a way is asked for is read as everything is, and what is wrong is named by its field.
func TestCouldTarget(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	for _, c := range []struct{ subject, action, resource, wrong string }{
		{"ann@tarn.example", "files.open", "file:list", ""},
		{"*@tarn.example", "files.open", "file:list", ""},
		{"link:any", "files.open", "file:list", ""},
		{"ann", "files.open", "file:list", ""},
		{"zed@nowhere", "files.open", "file:list", `subject "zed@nowhere": `},
		{"person:uma", "files.open", "file:list", `subject "person:uma": write the address of somebody outside`},
		{"uma@harbour.example", "files.open", "file:list", `subject "uma@harbour.example": write the address of somebody outside`},
		{"ann@tarn.example", "files.opne", "file:list", `action "files.opne": `},
		{"ann@tarn.example", "mail.forward", "mailbox:uma", `action "mail.forward": write what somebody outside does by themselves`},
		{"ann@tarn.example", "files.open", "list", `resource "list": `},
		{"ann@tarn.example", "files.open", "space:deck", `resource "space:deck": files.open is about a `},
		{"ann@tarn.example", "files.open", "file:none", `resource "file:none": there is no such file`},
	} {
		to, err := answer.CouldTarget(s, &contract.CouldQuestion{Subject: c.subject, Action: c.action, Resource: c.resource})
		switch {
		case c.wrong == "" && (err != nil || to.Action.String() != c.action || to.Resource.String() != c.resource):
			t.Errorf("%s %s %s is read as %+v (%v)", c.subject, c.action, c.resource, to, err)
		case c.wrong != "" && (err == nil || !strings.HasPrefix(err.Error(), c.wrong)):
			t.Errorf("%s %s %s: %v, and not %s…", c.subject, c.action, c.resource, err, c.wrong)
		}
	}
}

// TestWay: a way is told in names, act by act, with what a caller needs to do each of them; somebody new is called so.
func TestWay(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	way := func(subject, action, resource string) string {
		to, err := answer.CouldTarget(s, &contract.CouldQuestion{Subject: subject, Action: action, Resource: resource})
		if err != nil {
			t.Fatal(err)
		}
		w := answer.Way(s, to, now)
		out := string(w.Decision)
		for _, a := range w.Acts {
			out += fmt.Sprintf("\n%s %s %s: %s", a.Kind, a.By, said(a.Resource), a.Text)
		}
		return out
	}
	for _, c := range []struct{ subject, action, resource, want string }{
		{"ann@tarn.example", "files.open", "file:plan", "yes"},
		{"ann@tarn.example", "files.open", "file:list", `could
set_value person:lars space:hold: Lars Holm sets spaces.guests to on at Hold.`},
		{"*@tarn.example", "spaces.enter", "space:deck", `could
bundle person:uma : Somebody new at tarn.example asks for the bundle Loan, and Uma Reed approves it.`},
		{"zed@fell.example", "spaces.enter", "space:deck", "no"},
	} {
		if got := way(c.subject, c.action, c.resource); got != c.want {
			t.Errorf("%s %s %s:\n%s\nand not\n%s", c.subject, c.action, c.resource, got, c.want)
		}
	}
}

// TestCutsInOrder: cuts come with what each takes from whom, the fewest parts first and then what takes least, and a cut is known by its id
// whatever the order of its parts.
func TestCutsInOrder(t *testing.T) {
	s := worldtest.Snapshot(t, small)
	to, err := answer.CouldTarget(s, &contract.CouldQuestion{Subject: "ann@tarn.example", Action: "files.open", Resource: "file:list"})
	if err != nil {
		t.Fatal(err)
	}
	cuts, parts, err := answer.Cuts(s, to, now, goOn)
	if err != nil || len(cuts.Cuts) == 0 || len(cuts.Cuts) != len(parts) || cuts.Decision != contract.CouldCutsDecisionCould {
		t.Fatalf("%d cuts, %d sets of parts, %s (%v)", len(cuts.Cuts), len(parts), cuts.Decision, err)
	}
	ids := map[string]bool{}
	for i := range cuts.Cuts {
		c := &cuts.Cuts[i]
		if ids[c.Id] {
			t.Errorf("two cuts are called %s", c.Id)
		}
		ids[c.Id] = true
		turned := slices.Clone(parts[i])
		slices.Reverse(turned)
		if answer.CutID(turned) != c.Id || answer.CutID(parts[i]) != c.Id {
			t.Errorf("the cut %s is called otherwise by its parts", c.Id)
		}
		if i > 0 && len(c.Parts) < len(cuts.Cuts[i-1].Parts) {
			t.Errorf("a cut of %d parts comes after one of %d", len(c.Parts), len(cuts.Cuts[i-1].Parts))
		}
		x, err := engine.ImpactOf(s, could.Apply(s, parts[i], now), now, nil, goOn, nil)
		if err != nil || x.Total().Lost != c.Lost || x.Parties.Lost != c.Parties || x.Nothing() != (c.Fits != nil) {
			t.Errorf("%s is told to take %d from %d, and takes %d from %d (%v)", c.Parts[0].Text, c.Lost, c.Parties, x.Total().Lost, x.Parties.Lost, err)
		}
	}
}
