package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/service"
	"wexillum.example/internal/worldgen"
)

// yesses are the questions that are answered with yes: party, action and resource.
type yesses map[[3]string]bool

// only are those of them that keep keeps.
func (y yesses) only(keep func(who, action, resource string) bool) yesses {
	out := yesses{}
	for k := range y {
		if keep(k[0], k[1], k[2]) {
			out[k] = true
		}
	}
	return out
}

// agreeing is a service on a small world, and what a gateway is told about each of its questions.
type agreeing struct {
	*running
	token   string
	world   *world.World // as it was at first
	parties []string     // as the service calls them: addresses, links
	things  map[catalogue.ResourceKind][]string
	yes     yesses
	weighed bool // a change was weighed before
}

// granted reports whether an action on a thing asks for a role or a link. Some ask for one in a channel, and for none of a person.
func granted(action, resource string) bool {
	a, _ := catalogue.ActionByName(action)
	of, _, _ := strings.Cut(resource, ":")
	kind, _ := catalogue.ParseResourceKind(of)
	if a.Spread == catalogue.Granted {
		return true
	}
	return slices.ContainsFunc(a.Rows(kind)[:], func(x *catalogue.Ask) bool {
		return x != nil && (x.Holding == catalogue.ByRole || x.Holding == catalogue.ByLink)
	})
}

// get reads an answer.
func (a *agreeing) get(path string, query url.Values, into any) {
	a.t.Helper()
	status, _, body := a.call("GET", "/api/v1/"+path+"?"+query.Encode(), a.token, "")
	if status != 200 {
		a.t.Fatalf("%s %v: %d %s", path, query, status, body)
	}
	check(a.t, json.Unmarshal([]byte(body), into))
}

// pages calls fn with each page, a few lines at a time.
func (a *agreeing) pages(path string, query url.Values, limit int, fn func(page json.RawMessage)) {
	a.t.Helper()
	query = maps.Clone(query)
	query.Set("limit", fmt.Sprint(limit))
	for n := 0; ; n++ {
		var page json.RawMessage
		a.get(path, query, &page)
		fn(page)
		var next struct{ Next string }
		check(a.t, json.Unmarshal(page, &next))
		if next.Next == "" {
			return
		}
		if query.Set("cursor", next.Next); n > 2000 {
			a.t.Fatalf("%s %v does not end", path, query)
		}
	}
}

// entity is a party or a thing as a gateway names it.
func entity(name string) map[string]string {
	if kind, id, ok := strings.Cut(name, ":"); ok {
		return map[string]string{"type": kind, "id": id}
	}
	return map[string]string{"type": "party", "id": name}
}

// ask asks every question there is, a thousand at a time.
func (a *agreeing) ask() {
	a.t.Helper()
	type one struct {
		Subject  map[string]string `json:"subject"`
		Action   map[string]string `json:"action"`
		Resource map[string]string `json:"resource"`
	}
	var some []one
	a.yes = yesses{}
	flush := func() {
		if len(some) == 0 {
			return
		}
		body, err := json.Marshal(map[string]any{"evaluations": some})
		check(a.t, err)
		status, _, text := a.call("POST", "/access/v1/evaluations", a.token, string(body))
		var told struct {
			Evaluations []struct {
				Decision bool
				Context  struct{ Unenforced []string }
			}
		}
		if status != 200 || json.Unmarshal([]byte(text), &told) != nil || len(told.Evaluations) != len(some) {
			a.t.Fatalf("%d %.300s", status, text)
		}
		for i, x := range told.Evaluations {
			if !x.Decision && len(x.Context.Unenforced) == 0 { // a yes that has a condition is no to whoever enforces none
				continue
			}
			who := some[i].Subject["id"]
			if some[i].Subject["type"] != "party" {
				who = some[i].Subject["type"] + ":" + who
			}
			a.yes[[3]string{who, some[i].Action["name"], some[i].Resource["type"] + ":" + some[i].Resource["id"]}] = true
		}
		some = some[:0]
	}
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if act.Address { // about somebody else besides
			continue
		}
		for _, kind := range act.On {
			for _, id := range a.things[kind] {
				for _, who := range a.parties {
					some = append(some, one{entity(who), map[string]string{"name": act.Name}, map[string]string{"type": kind.String(), "id": id}})
					if len(some) == 1000 {
						flush()
					}
				}
			}
		}
	}
	flush()
}

// same compares what a view tells with what a gateway is told.
func (a *agreeing) same(view string, got, want yesses) {
	a.t.Helper()
	var more, less []string
	for k := range got {
		if !want[k] {
			more = append(more, strings.Join(k[:], " "))
		}
	}
	for k := range want {
		if !got[k] {
			less = append(less, strings.Join(k[:], " "))
		}
	}
	if len(more)+len(less) > 0 {
		slices.Sort(more)
		slices.Sort(less)
		a.t.Errorf("%s: %d of %d are told and are a no:\n%s\n%d are a yes and not told:\n%s", view, len(more), len(got),
			strings.Join(more[:min(5, len(more))], "\n"), len(less), strings.Join(less[:min(5, len(less))], "\n"))
	}
}

// agree brings a generated world into a service and asks a gateway everything about it.
func agree(t *testing.T, seed uint64) *agreeing {
	t.Helper()
	now := moment.Of(time.Now())
	size := worldgen.Size{Guests: 24, Items: 30, Spaces: 8, Meetings: 6, People: 12, Links: 8}
	w := world.Merge(&world.World{}, worldgen.Generate(seed, size, now))
	a := &agreeing{world: w, things: map[catalogue.ResourceKind][]string{}}
	a.running = startService(t, dbtest.DSN(t), func(ctx context.Context, svc *service.Service) error {
		if err := svc.Import(ctx, "test", "a small world", w, nil); err != nil {
			return err
		}
		x := demo.Accounts[0]
		return svc.MakeAccount(ctx, "test", "", service.Account{Name: x.Name, Role: x.Role, Person: w.People[0].ID}, x.Password)
	})
	a.token = a.running.token("harbour")
	for i := range w.Spaces {
		s := &w.Spaces[i]
		a.things[catalogue.Space] = append(a.things[catalogue.Space], s.ID)
		for j := range s.Items {
			a.things[s.Items[j].Kind] = append(a.things[s.Items[j].Kind], s.Items[j].ID)
		}
	}
	for i := range w.Meetings {
		a.things[catalogue.Meeting] = append(a.things[catalogue.Meeting], w.Meetings[i].ID)
	}
	for i := range w.People {
		for _, k := range []catalogue.ResourceKind{catalogue.Person, catalogue.Mailbox, catalogue.Calendar} {
			a.things[k] = append(a.things[k], w.People[i].ID)
		}
	}
	a.things[catalogue.OurDirectory] = []string{"ours"}
	known := map[addr.Address]bool{}
	for i := range w.Guests {
		known[w.Guests[i].Address] = true
	}
	for i := range w.Grants {
		if g := &w.Grants[i]; !g.Address.IsZero() {
			known[g.Address] = true
		}
	}
	for x := range known {
		a.parties = append(a.parties, x.String())
	}
	for i := range w.Links {
		if w.Links[i].Bearer() {
			a.parties = append(a.parties, "link:"+w.Links[i].ID)
		}
	}
	slices.Sort(a.parties)
	a.ask()
	// Whoever is gone by their dates is as anybody else who is not known: they have no role, and no view lists them.
	there := map[string]bool{}
	a.pages("board", url.Values{}, 50, func(page json.RawMessage) {
		var x struct{ Rows []struct{ Party string } }
		check(t, json.Unmarshal(page, &x))
		for _, r := range x.Rows {
			there[r.Party] = true
		}
	})
	for k := range a.yes {
		if !there[k[0]] {
			if granted(k[1], k[2]) {
				t.Errorf("world %d: %v is a yes, and the board lists nobody of that name", seed, k)
			}
			delete(a.yes, k)
		}
	}
	a.parties = slices.DeleteFunc(a.parties, func(who string) bool { return !there[who] })
	return a
}

// TestAnswersAgree asks a service about everybody and everything in small worlds, the way a gateway does, and compares all its views with
// that: what each party reaches, who reaches each thing, everybody in numbers and their lines, the board, differences, what could come to
// be, and searches. All of them are answered in other ways, a page at a time.
func TestAnswersAgree(t *testing.T) {
	t.Parallel()
	for seed := uint64(1); seed <= 2; seed++ {
		a := agree(t, seed)
		some := map[bool]int{}
		for k := range a.yes {
			some[granted(k[1], k[2])]++
		}
		if some[true] < 20 || some[false] < 20 {
			t.Fatalf("world %d: %v: too few answers are yes", seed, some)
		}
		a.reaches()
		a.audiences()
		a.numbers()
		a.boards()
		a.differences()
		a.coulds()
		a.searches()
		if t.Failed() {
			return
		}
	}
}

// counts sums yesses up as lines do that stand for several things which are alike: by party, action and kind of thing.
func counts(y yesses) map[[3]string]int {
	out := map[[3]string]int{}
	for k := range y {
		kind, _, _ := strings.Cut(k[2], ":")
		out[[3]string{k[0], k[1], kind}]++
	}
	return out
}

// reaches compares what each party reaches: every line that names a thing, and the sums of those that stand for several.
func (a *agreeing) reaches() {
	a.t.Helper()
	named, sums := yesses{}, map[[3]string]int{}
	for _, who := range a.parties {
		var x struct {
			Lines []struct {
				Action, Resource, Decision string
				Count                      int
			}
		}
		a.get("reach", url.Values{"who": {who}}, &x)
		for _, l := range x.Lines {
			act, _ := catalogue.ActionByName(l.Action)
			if l.Decision != "yes" || act.Address {
				continue
			}
			kind, id, _ := strings.Cut(l.Resource, ":")
			sums[[3]string{who, l.Action, kind}] += l.Count
			if id == "*" {
				continue
			}
			if l.Count != 1 {
				a.t.Errorf("%s %s: %d of one thing", who, l.Resource, l.Count)
			}
			named[[3]string{who, l.Action, l.Resource}] = true
		}
	}
	for k := range named {
		if !a.yes[k] {
			a.t.Errorf("reach: %v is told and is a no", k)
		}
	}
	a.same("what of it names a thing and needs a role", named.only(func(_, act, r string) bool { return granted(act, r) }),
		a.yes.only(func(_, act, r string) bool { return granted(act, r) }))
	if want := counts(a.yes); !maps.Equal(sums, want) {
		for k, n := range want {
			if sums[k] != n {
				a.t.Errorf("reach: %v %d times, and %d times to a gateway", k, sums[k], n)
			}
		}
		for k, n := range sums {
			if want[k] == 0 {
				a.t.Errorf("reach: %v %d times, and never to a gateway", k, n)
			}
		}
	}
}

// audiences compares who reaches each thing, a few lines at a time, with typical newcomers left out.
func (a *agreeing) audiences() {
	a.t.Helper()
	got := yesses{}
	for kind, ids := range a.things {
		for i, id := range ids {
			if kind == catalogue.OurDirectory {
				continue
			}
			lines, total, parties, known := 0, 0, 0, map[string]bool{}
			a.pages("audience", url.Values{"resource": {kind.String() + ":" + id}}, 3+i%7, func(page json.RawMessage) {
				var x struct {
					Lines []struct {
						Party, Action, Resource string
						Newcomer                bool
					}
					Total, Parties int
				}
				check(a.t, json.Unmarshal(page, &x))
				total, parties = x.Total, x.Parties
				for _, l := range x.Lines {
					lines++
					act, _ := catalogue.ActionByName(l.Action)
					if l.Newcomer {
						continue
					}
					known[l.Party] = true
					if act.Address {
						continue
					}
					k := [3]string{l.Party, l.Action, l.Resource}
					if got[k] {
						a.t.Errorf("audience: %v stands there twice", k)
					}
					got[k] = true
				}
			})
			if lines != total || len(known) != parties {
				a.t.Errorf("audience of %s %s: %d lines of %d, %d parties of %d", kind, id, lines, total, len(known), parties)
			}
		}
	}
	a.same("audience", got, a.yes.only(func(_, _, r string) bool { return !strings.HasPrefix(r, "directory:") }))
}

// numbers compares everybody in numbers with what is a yes, and the lines behind them.
func (a *agreeing) numbers() {
	a.t.Helper()
	var x struct {
		Granted  int
		Services map[string]int
		Actions  []struct {
			Key     string
			Granted int
		}
		Wide []struct {
			Action, Kind, Scope string
			Pairs               int
		}
	}
	a.get("numbers", nil, &x)
	want := a.yes.only(func(_, act, r string) bool { return granted(act, r) })
	services, actions, wide := map[string]int{}, map[string]int{}, map[[2]string]int{}
	for k := range want {
		service, _, _ := strings.Cut(k[1], ".")
		services[service]++
		actions[k[1]]++
	}
	for k := range a.yes {
		if kind, _, _ := strings.Cut(k[2], ":"); !want[k] {
			wide[[2]string{k[1], kind}]++
		}
	}
	if x.Granted != len(want) || !maps.Equal(x.Services, services) {
		a.t.Errorf("numbers: %d, %v; and %d, %v to a gateway", x.Granted, x.Services, len(want), services)
	}
	for _, n := range x.Actions {
		if n.Granted != actions[n.Key] {
			a.t.Errorf("numbers: %s %d times, and %d times to a gateway", n.Key, n.Granted, actions[n.Key])
		}
		delete(actions, n.Key)
	}
	if len(actions) > 0 {
		a.t.Errorf("numbers leave out %v", actions)
	}
	for _, n := range x.Wide {
		if n.Scope != "" { // looking up counts scopes, not people
			continue
		}
		k := [2]string{n.Action, n.Kind}
		if wide[k] != n.Pairs {
			a.t.Errorf("numbers: %v %d pairs, and %d to a gateway", k, n.Pairs, wide[k])
		}
	}
	for _, only := range []struct {
		query url.Values
		keep  func(who, act, resource string) bool
	}{
		{url.Values{}, func(string, string, string) bool { return true }},
		{url.Values{"action": {"files.*"}}, func(_, act, _ string) bool { return strings.HasPrefix(act, "files.") }},
		{url.Values{"kind": {"bearer"}}, func(who, _, _ string) bool { return strings.HasPrefix(who, "link:") }},
	} {
		got := yesses{}
		a.pages("numbers/lines", only.query, 11, func(page json.RawMessage) {
			var x struct {
				Lines []struct {
					Party, Resource string
					Actions         []string
				}
			}
			check(a.t, json.Unmarshal(page, &x))
			for _, l := range x.Lines {
				for _, act := range l.Actions {
					got[[3]string{l.Party, act, l.Resource}] = true
				}
			}
		})
		a.same(fmt.Sprintf("lines of numbers %v", only.query), got, want.only(only.keep))
	}
}

// boards compares the board: for each party, how much it may do by service.
func (a *agreeing) boards() {
	a.t.Helper()
	type sums map[string]int
	want := map[string][2]sums{}
	for k := range a.yes {
		if want[k[0]][0] == nil {
			want[k[0]] = [2]sums{{}, {}}
		}
		service, _, _ := strings.Cut(k[1], ".")
		at := 1
		if granted(k[1], k[2]) {
			at = 0
		}
		want[k[0]][at][service]++
	}
	seen := map[string]bool{}
	a.pages("board", url.Values{}, 7, func(page json.RawMessage) {
		var x struct {
			Rows []struct {
				Party         string
				Newcomer      bool
				Granted, Wide sums
			}
		}
		check(a.t, json.Unmarshal(page, &x))
		for _, r := range x.Rows {
			if r.Newcomer {
				continue
			}
			if seen[r.Party] {
				a.t.Errorf("board: %s stands there twice", r.Party)
			}
			seen[r.Party] = true
			if !maps.Equal(r.Granted, want[r.Party][0]) && len(r.Granted)+len(want[r.Party][0]) > 0 {
				a.t.Errorf("board: %s by roles %v, and %v to a gateway", r.Party, r.Granted, want[r.Party][0])
			}
		}
	})
	for who, w := range want {
		if !seen[who] && len(w[0]) > 0 {
			a.t.Errorf("board: %s reaches %v and is not there", who, w[0])
		}
	}
}
