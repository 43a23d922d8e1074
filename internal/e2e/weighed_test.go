package e2e

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/worldfile"
)

// moved is how many granted actions somebody gains and loses.
type moved struct{ Gained, Lost int }

// between counts what of some answers became another, where a role or a link is asked for.
func between(was, is yesses) (m moved) {
	for k := range is {
		if !was[k] && granted(k[1], k[2]) {
			m.Gained++
		}
	}
	for k := range was {
		if !is[k] && granted(k[1], k[2]) {
			m.Lost++
		}
	}
	return
}

// post sends a change and reads the answer.
func (a *agreeing) post(method, path, body string, into any, headers ...string) {
	a.t.Helper()
	status, _, text := a.call(method, path, a.token, body, headers...)
	if status < 200 || status > 299 {
		a.t.Fatalf("%s %s %s: %d %s", method, path, body, status, text)
	}
	if into != nil {
		check(a.t, json.Unmarshal([]byte(text), into))
	}
}

// happens compares what was told before a change with what a gateway is told of everything behind it, and returns the sum.
func (a *agreeing) happens(what string, told moved) moved {
	a.t.Helper()
	was := maps.Clone(a.yes)
	a.ask()
	is := between(was, a.yes)
	if is != told {
		a.t.Errorf("%s: %d gained and %d lost are told before, and %d and %d are", what, told.Gained, told.Lost, is.Gained, is.Lost)
	}
	return is
}

// places changes inventory, and takes it back: then all is as before. Where a rule is in the way it says so before, and ok is false.
func (a *agreeing) places(what, edit string) (is moved, ok bool) {
	a.t.Helper()
	body := fmt.Sprintf(`{"changes":[%s],"why":"it is tried"}`, edit)
	var x struct {
		Refused int
		Lines   []struct{ Result, Field, Value, Cause string }
		Weighed struct{ Granted moved }
		Change  int
	}
	a.post("POST", "/api/v1/places?preview=true", body, &x)
	if x.Refused > 0 {
		if x.Lines[0].Cause == "" || x.Weighed.Granted != (moved{}) {
			a.t.Errorf("%s is refused: %+v", what, x)
		}
		return is, false
	}
	told := x.Weighed.Granted
	before := maps.Clone(a.yes)
	if !a.weighed { // a preview changes nothing
		a.weighed = true
		if a.ask(); !maps.Equal(before, a.yes) {
			a.t.Errorf("%s: a preview changed something", what)
		}
	}
	a.post("POST", "/api/v1/places", body, &x)
	is = a.happens(what, told)
	if x.Change == 0 {
		a.t.Errorf("%s cannot be undone", what)
		return is, true
	}
	a.post("POST", fmt.Sprintf("/api/v1/journal/%d/undo", x.Change), `{"why":"it was tried"}`, nil)
	if a.ask(); !maps.Equal(before, a.yes) {
		a.t.Errorf("%s: undone, it is not as before: %+v", what, between(before, a.yes))
	}
	return is, true
}

// guests changes the record of a guest; ok is false where it says before why not.
func (a *agreeing) guests(do, who string) (is moved, ok bool) {
	a.t.Helper()
	type changed struct {
		Guests []struct {
			Address, Reason string
			Done            bool
			Gained, Lost    int
		}
	}
	var x changed
	change := fmt.Sprintf(`{"do":%q,"addresses":[%q],"reason":"it is tried"}`, do, who)
	a.post("POST", "/api/v1/guests/changes?preview=true", change, &x)
	r := x.Guests[0]
	if !r.Done {
		if r.Reason == "" || r.Gained+r.Lost > 0 {
			a.t.Errorf("%s %s is refused: %+v", do, who, r)
		}
		return is, false
	}
	a.post("POST", "/api/v1/guests/changes", change, &x)
	return a.happens(do+" "+who, moved{r.Gained, r.Lost}), true
}

// published makes a draft, changes something in it, weighs and publishes it.
func (a *agreeing) published(name, method, path, body string) moved {
	a.t.Helper()
	a.post("POST", "/api/v1/drafts", fmt.Sprintf(`{"name":%q}`, name), nil)
	a.post(method, path, body, nil, "Wexillum-Draft", name)
	var x struct {
		Granted moved
		Digest  string
		Nothing bool
		Lines   []struct {
			Party, Change, Resource string
			Actions                 []string
			Count                   int
			Wide                    bool
		}
		More bool
	}
	a.post("GET", "/api/v1/drafts/"+name+"/impact", "", &x)
	var lines moved
	for _, l := range x.Lines {
		n := len(l.Actions) * l.Count
		switch {
		case l.Wide:
		case l.Change == "gained":
			lines.Gained += n
		case l.Change == "lost":
			lines.Lost += n
		}
	}
	if !x.More && lines != x.Granted {
		a.t.Errorf("%s: lines tell of %+v, and the sum is %+v", name, lines, x.Granted)
	}
	if x.Nothing && x.Granted != (moved{}) {
		a.t.Errorf("%s: it is told to be nothing, and is %+v", name, x.Granted)
	}
	a.post("POST", "/api/v1/drafts/"+name+"/publish", fmt.Sprintf(`{"why":"it is tried","digest":%q}`, x.Digest), nil)
	return a.happens(name, x.Granted)
}

// TestWeighedIsWhatHappens changes inventory, guests and policy of a small world. Who gains and who loses is told before each change; a
// gateway that asks everything before and behind it is told just that. What is taken back is as it was.
func TestWeighedIsWhatHappens(t *testing.T) {
	t.Parallel()
	a := agree(t, 3)
	some := map[string]moved{}
	note := func(sort string, m moved) {
		x := some[sort]
		some[sort] = moved{x.Gained + m.Gained, x.Lost + m.Lost}
	}
	guests := []string{}
	reached := map[string]int{}
	for k := range a.yes {
		if granted(k[1], k[2]) {
			reached[k[0]]++
		}
	}
	for i := range a.world.Guests {
		if who := a.world.Guests[i].Address.String(); reached[who] > 3 {
			if guests = append(guests, who); len(guests) == 6 {
				break
			}
		}
	}
	if len(guests) < 4 {
		t.Fatalf("%d guests reach anything", len(guests))
	}
	// tried changes inventory in different ways until some of them are let through.
	tried := func(most int, edits [][2]string) {
		t.Helper()
		done := 0
		for _, e := range edits {
			if m, ok := a.places(e[0], e[1]); ok {
				note("inventory", m)
				if done++; done == most {
					return
				}
			}
		}
		t.Errorf("%d of %d changes like %s are let through", done, len(edits), edits[0][1])
	}
	var roles [][2]string
	for _, who := range guests {
		for _, space := range a.things[catalogue.Space] {
			if a.yes[[3]string{who, "spaces.enter", "space:" + space}] {
				continue // they have one
			}
			add := `{"do":"add","kind":"grant","fields":{"party":%q,"resource":"space:%s","role":%q,"until":"+30d"}}`
			roles = append(roles, [2]string{"a role for " + who + " in " + space, fmt.Sprintf(add, who, space, "contribute")})
		}
	}
	tried(3, roles)
	var ends, private, links [][2]string
	for i := range a.world.Grants {
		if g := &a.world.Grants[i]; reached[g.Party()] > 3 {
			id := worldfile.GrantKey(g)
			ends = append(ends, [2]string{"the end of " + id, fmt.Sprintf(`{"do":"remove","kind":"grant","id":%q}`, id)})
		}
	}
	tried(3, ends)
	for _, kind := range []catalogue.ResourceKind{catalogue.Folder, catalogue.Report, catalogue.Channel} {
		for _, id := range a.things[kind] {
			private = append(private, [2]string{id + " made private", fmt.Sprintf(`{"do":"set","kind":"item","id":%q,"fields":{"private":true}}`, id)})
		}
	}
	tried(4, private)
	for _, who := range a.parties {
		if id, ok := strings.CutPrefix(who, "link:"); ok && reached[who] > 0 {
			links = append(links, [2]string{"the end of " + who, fmt.Sprintf(`{"do":"remove","kind":"link","id":%q}`, id)})
		}
	}
	if len(links) > 0 { // whether any works, the rules of the world say
		tried(1, links)
	}

	did := map[string]int{}
	for i, who := range guests {
		for _, do := range [][]string{{"suspend", "bring_back"}, {"suspend"}, {"remove"}}[i%3] {
			if m, ok := a.guests(do, who); ok {
				note("guests", m)
				did[do]++
			}
		}
	}
	if did["suspend"] == 0 || did["bring_back"] == 0 || did["remove"] == 0 {
		t.Errorf("of %d guests %v", len(guests), did)
	}

	for name, edit := range map[string][3]string{
		"no-tasks":    {"PATCH", "/api/v1/rules/spaces.tasks", `{"default":"off","why":"it is tried"}`},
		"no-guests":   {"PATCH", "/api/v1/rules/spaces.guests", `{"default":"off","why":"it is tried"}`},
		"files":       {"PATCH", "/api/v1/rules/files.given_to", `{"limit":"known","default":"known","why":"it is tried"}`},
		"barred":      {"POST", "/api/v1/bars", fmt.Sprintf(`{"name":%q,"reason":"it is tried"}`, guests[3][strings.IndexByte(guests[3], '@')+1:])},
		"chat-closed": {"PATCH", "/api/v1/rules/chat.guests", `{"default":"off","why":"it is tried"}`},
	} {
		note("policy", a.published(name, edit[0], edit[1], edit[2]))
	}
	for name, rule := range map[string]string{"tasks-again": "spaces.tasks", "guests-again": "spaces.guests", "chat-again": "chat.guests"} {
		note("policy", a.published(name, "PATCH", "/api/v1/rules/"+rule, `{"default":"on","why":"it was tried"}`))
	}
	for _, sort := range []string{"inventory", "guests", "policy"} {
		if m := some[sort]; m.Lost == 0 || sort == "policy" && m.Gained == 0 { // a role may give nothing that another way did not
			t.Errorf("%s: %+v: nothing was tried", sort, m)
		}
	}
}
