package engine_test

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// slowYes is one question of an expectation and its slow answer.
type slowYes struct {
	party, kind, action, resource string
	newcomer, yes                 bool
	conditions                    []string
}

// everything asks the slow evaluator all that makes sense in a world, what ours do towards typical newcomers and named addresses
// included.
func everything(w *world.World, s *engine.Snapshot, at moment.Moment, more []string) (out []slowYes) {
	sl := &slow{w}
	apart := map[string]bool{}
	for _, n := range s.NewcomersAt(at) {
		apart[n.Who.String()] = true
	}
	who := outsidersAt(w, s, at)
	if len(more) > 0 { // those alone
		var others []string
		for _, m := range more {
			if apart[m] = apart[m] || !slices.Contains(who, m); true {
				others = append(others, m)
			}
		}
		who = others
	}
	resources := resourcesOf(w)
	for _, act := range catalogue.Actions() {
		outward := act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil
		if act.Address && !outward || outward && !act.Address {
			continue
		}
		for _, name := range who {
			newcomer := apart[name]
			bearer := strings.HasPrefix(name, "link:")
			if outward && (bearer || !newcomer && !slices.Contains(more, name)) {
				continue
			}
			for _, r := range resources {
				if !act.Takes(r.Kind) {
					continue
				}
				role := byRole(&act, r.Kind)
				add := func(name string, newcomer bool) {
					q := asked{who: name, action: act.Name, resource: r.String(), at: at}
					if outward {
						q.who, q.address = "person:"+r.ID, name
					}
					got := sl.answer(q)
					if got.wrong {
						return
					}
					x := slowYes{party: name, kind: got.kind, action: act.Name, resource: r.String(), newcomer: newcomer}
					if outward {
						if p := sl.party(name, at); p.record != nil {
							x.kind = "guest"
							if p.record.Origins == world.ByFeed {
								x.kind = "provisioned"
							}
						} else if x.kind = "federated"; p.private {
							x.kind = "personal"
						}
					}
					if a := got.accounts[0]; a.refusing == "" {
						x.yes, x.conditions = true, strings.Fields(a.conditions)
					}
					out = append(out, x)
				}
				switch {
				case !bearer:
					add(name, newcomer)
				case role:
					for i := range w.Links {
						if l := &w.Links[i]; "link:"+l.ID == name && l.Item == r && act.Rows(r.Kind)[catalogue.Bearer] != nil &&
							moment.Within(at, l.Created, l.Until) {
							add(name, false)
						}
					}
				case apart[name] && !r.Kind.IsItem():
					add(name, true)
				}
			}
		}
	}
	return
}

// slowJudge judges an expectation by all that there is to ask. Against says what breaks it: a party, an action and a
// resource, with a blank between; of at_most parties alone.
func slowJudge(w *world.World, x *world.Expectation, all []slowYes, at moment.Moment) (
	state string, count, may int, against map[string]bool,
) {
	against = map[string]bool{}
	sl := &slow{w}
	in := func(set string, y *slowYes) bool {
		kind, rest, cut := strings.Cut(set, ":")
		bearer := strings.HasPrefix(y.party, "link:")
		switch {
		case set == "everybody":
			return true
		case cut && kind == "kind":
			return y.kind == rest
		case bearer:
			return false
		case cut && kind == "partner":
			p := sl.party(y.party, at)
			return p.partner != nil && p.partner.ID == rest
		case cut && kind == "domain":
			return strings.HasSuffix(y.party, "@"+rest)
		case cut && kind == "group":
			return slices.Contains(sl.groupsOf(y.party, at), rest)
		}
		return y.party == set
	}
	spaceOf := map[string]string{}
	for i := range w.Spaces {
		for _, it := range w.Spaces[i].Items {
			spaceOf[it.Kind.String()+":"+it.ID] = "space:" + w.Spaces[i].ID
		}
	}
	for i := range w.Meetings {
		if w.Meetings[i].Space != "" {
			spaceOf["meeting:"+w.Meetings[i].ID] = "space:" + w.Meetings[i].Space
		}
	}
	parties, newcomers := map[string]bool{}, map[string]bool{}
	looked := map[string]bool{}
	for i := range all {
		y := &all[i]
		service, _, _ := strings.Cut(y.action, ".")
		if x.Action != "*" && x.Action != y.action && x.Action != service+".*" ||
			x.Resource != "*" && x.Resource != y.resource && x.Resource != spaceOf[y.resource] || !in(x.Party, y) {
			continue
		}
		if strings.HasPrefix(y.party, "link:") && x.Expect.Sort == world.AlwaysSo && y.newcomer {
			continue
		}
		bad := y.yes
		switch x.Expect.Sort {
		case world.AlwaysSo:
			bad = !y.yes
		case world.OnlyParties:
			bad = y.yes && !slices.ContainsFunc(x.Expect.Only, func(o string) bool { return in(o, y) })
		case world.OnCondition:
			bad = false
			for _, c := range x.Expect.Conditions {
				bad = bad || y.yes && !slices.Contains(y.conditions, c)
			}
		case world.OnlyUntil:
			bad = y.yes && at >= x.Expect.Until
		}
		if y.yes && y.newcomer {
			newcomers[y.party] = true
		} else if y.yes {
			parties[y.party] = true
		}
		if bad && x.Expect.Sort != world.AtMost {
			against[y.party+" "+y.action+" "+y.resource] = true
			against[y.party+" "+y.action+" *"] = true
		}
		if y.action == "directory.look_up" && x.Resource == "*" && x.Expect.Sort != world.AlwaysSo {
			if !bad || looked[y.party] {
				continue
			}
			looked[y.party] = true
		}
		if bad {
			count++
		}
	}
	if x.Expect.Sort == world.AtMost {
		count = len(newcomers)
		maps.Copy(against, newcomers)
		if len(parties) > x.Expect.AtMost {
			count += len(parties)
			maps.Copy(against, parties)
		}
	}
	state = "held"
	if count > 0 {
		state = "broken"
	}
	return state, count, len(parties), against
}

// untrue returns what is wrong with counterexamples: one that is none, one that is told twice, or a party missing of at_most.
func untrue(x *world.Expectation, examples []expect.Counter, against map[string]bool) string {
	told := map[string]bool{}
	for _, e := range examples {
		key := e.Who
		if x.Expect.Sort != world.AtMost {
			of, id, _ := strings.Cut(e.Resource.String(), ":")
			if key += " " + e.Action.String() + " *"; id != "*" && e.Person == "" {
				key = strings.TrimSuffix(key, "*") + of + ":" + id
			}
		}
		switch {
		case !against[key]:
			return "no counterexample: " + key
		case x.Expect.Sort == world.AtMost && told[key]:
			return "told twice: " + key
		}
		told[key] = true
	}
	if len(against) > 0 && len(told) == 0 || x.Expect.Sort == world.AtMost && len(told) < min(expect.First, len(against)) {
		return fmt.Sprintf("%d are told of %d", len(told), len(against))
	}
	return ""
}

// TestExpectationsAgainstSlow judges random expectations of random worlds at several moments, one by one and together, against
// asking the slow evaluator everything.
func TestExpectationsAgainstSlow(t *testing.T) {
	broken, held, turned := map[string]int{}, map[string]int{}, 0
	for seed := uint64(900); seed < 908 || *impacts > 0 && seed < 912; seed++ {
		r := rand.New(rand.NewPCG(seed, 3))
		w := tiny(seed)
		enrich(r, w)
		if seed%2 == 0 {
			someDates(r, w)
		}
		for i := range w.Grants {
			if g := &w.Grants[i]; r.IntN(3) == 0 {
				g.From = now + moment.Moment(1+r.IntN(28*24))*3600e6
				if g.Until <= g.From {
					g.Until = g.From + 86400e6
				}
			}
		}
		w = world.Merge(&world.World{}, w)
		s := engine.Of(w)
		pick := func(list ...string) string { return list[r.IntN(len(list))] }
		resources := resourcesOf(w)
		known := map[moment.Moment][]slowYes{}
		all := func(at moment.Moment, more []string) []slowYes {
			if known[at] == nil {
				known[at] = everything(w, s, at, nil)
			}
			if len(more) == 0 {
				return known[at]
			}
			return append(slices.DeleteFunc(slices.Clone(known[at]), func(y slowYes) bool { return slices.Contains(more, y.party) }),
				everything(w, s, at, more)...)
		}
		guest := func() string { return w.Guests[r.IntN(len(w.Guests))].Address.String() }
		party := func() string {
			p := &w.Partners[r.IntN(len(w.Partners))]
			return pick("everybody", "everybody", guest(), guest(), "partner:"+p.ID, "domain:"+p.Domains[0].Domain.String(),
				"kind:"+pick(world.PartyKinds...), "group:"+w.Groups[r.IntN(len(w.Groups))].ID, "stranger@unlisted.example")
		}
		for range 60 {
			act := catalogue.Actions()[r.IntN(len(catalogue.Actions()))]
			x := world.Expectation{ID: "x", Party: party(), Action: pick(act.Name, act.Service().String()+".*", "*"), Resource: "*",
				Expect: world.Expect{Sort: world.ExpectSort(r.IntN(6))}}
			if r.IntN(2) == 0 {
				of := resources[r.IntN(len(resources))]
				for try := 0; try < 200 && x.Action == act.Name && !act.Takes(of.Kind); try++ {
					of = resources[r.IntN(len(resources))]
				}
				x.Resource = of.String()
			}
			if g := &w.Grants[r.IntN(len(w.Grants))]; r.IntN(3) == 0 && g.Resource.Kind == catalogue.Space { // about what somebody was given
				x.Party, x.Action, x.Resource = pick(g.Party(), g.Party(), "everybody"), pick("spaces.enter", "spaces.see_members", "files.*"),
					g.Resource.String()
				x.Expect.Sort = world.ExpectSort(r.IntN(2))
				act = *must(catalogue.ActionByName("spaces.enter"))
				if x.Action == "files.*" || strings.HasPrefix(x.Party, "group:") {
					x.Expect.Sort = world.Never
				}
			}
			if act.Address && act.Asks[catalogue.Record] != nil {
				continue
			}
			x.Expect.Only = []string{party(), party()}
			x.Expect.AtMost = r.IntN(6)
			x.Expect.Conditions = []string{pick("sign_in", "one_time_code", "counterpart_unconfirmed", "accept_terms")}
			at := now + moment.Moment([]int{0, 0, 20, -40}[r.IntN(4)])*86400e6
			x.Expect.Until = at - moment.Moment(r.IntN(2))*86400e6
			if x.Expect.Sort == world.AlwaysSo && (!strings.HasPrefix(x.Action, "spaces.") && x.Action != act.Name ||
				act.Name == "directory.look_up") {
				continue
			}
			st, err := expect.Of(&x)
			if err != nil {
				t.Fatalf("%+v: %v", x, err)
			}
			var more []string
			if strings.Contains(x.Party, "@") {
				more = append(more, x.Party)
			}
			if d, ok := strings.CutPrefix(x.Party, "domain:"); ok &&
				!slices.ContainsFunc(s.NewcomersAt(at), func(n engine.Newcomer) bool { return strings.HasSuffix(n.Who.String(), "@"+d) }) {
				more = append(more, "*@"+d)
			}
			state, count, may, against := slowJudge(w, &x, all(at, more), at)
			wide := x
			wide.ID, wide.Party, wide.Action, wide.Resource, wide.Expect = "wide", "everybody", "*", "*", world.Expect{}
			other, _ := expect.Of(&wide)
			for _, list := range [][]*expect.Statement{{st}, {other, st}} {
				if err := expect.Judge(s, list, at, expect.Now, nil, func(i int, j expect.Judged) {
					if list[i] != st {
						return
					}
					if j.State.String() != state || j.Count != count || x.Expect.Sort != world.OnlyUntil && j.May != may {
						t.Errorf("world %d, %+v at %s, among %d: %s %d, %d may; slow %s %d, %d may\n%v", seed, x, at, len(list), j.State, j.Count, j.May,
							state, count, may, j.Examples[:min(3, len(j.Examples))])
					} else if wrong := untrue(&x, j.Examples, against); wrong != "" {
						t.Errorf("world %d, %+v at %s, among %d: %s", seed, x, at, len(list), wrong)
					}
				}); err != nil {
					t.Fatal(err)
				}
			}
			if x.Expect.Sort != world.OnlyUntil && (state == "held" || r.IntN(4) == 0) { // ahead: as if every day were judged
				today := moment.DayOf(at, s.Zone())
				var want, ahead expect.Judged
				for d := moment.Day(0); d <= expect.Days; d++ {
					m := at
					if d > 0 {
						m = (today + d).Start(s.Zone())
					}
					var j expect.Judged
					if err := expect.Judge(s, []*expect.Statement{st}, m, expect.Now, nil, func(_ int, x expect.Judged) { j = x }); err != nil {
						t.Fatal(err)
					}
					if want = j; j.State == expect.Broken {
						turned += int(min(1, d))
						break
					}
				}
				if err := expect.Judge(s, []*expect.Statement{st}, at, expect.NextDays, nil, func(_ int, x expect.Judged) { ahead = x }); err != nil {
					t.Fatal(err)
				}
				if ahead.State != want.State || want.State == expect.Broken && (ahead.At != want.At || ahead.Count != want.Count) {
					t.Errorf("world %d, %+v from %s on: %s at %s %d; day by day %s at %s %d", seed, x, at, ahead.State, ahead.At, ahead.Count, want.State,
						want.At, want.Count)
				}
			}
			sort := fmt.Sprint(world.ExpectSortNames[x.Expect.Sort])
			if state == "held" {
				held[sort]++
			} else {
				broken[sort]++
			}
		}
	}
	if turned < 3 {
		t.Errorf("only %d were broken on a day to come", turned)
	}
	for _, sort := range world.ExpectSortNames {
		if broken[sort] < 5 || held[sort] < 5 {
			t.Errorf("%s was broken %d times and held %d times", sort, broken[sort], held[sort])
		}
	}
}

// TestExpectationOfNoAction judges one that was kept with an action that there is not: it says nothing, and is not taken for held.
func TestExpectationOfNoAction(t *testing.T) {
	text := "wexillum: 1\norganisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}\nexpectations: [{id: typo, party: everybody, action: files.opne, resource: \"*\", expect: never}]\n"
	var odd []string
	if _, err := worldfile.Read([]byte(text), worldfile.Options{Now: now}); err == nil {
		t.Error("it is taken")
	}
	kept, err := worldfile.Read([]byte(text), worldfile.Options{Now: now, Older: true, Odd: &odd})
	if err != nil || len(kept.Expectations) != 1 ||
		fmt.Sprint(odd) != "[line 3: there is no action files.opne, and what is expected of it says nothing]" {
		t.Errorf("as an earlier version kept it: %v %v", odd, err)
	}
	w := tiny(1)
	for _, party := range []string{"everybody", w.Guests[0].Address.String()} {
		st, err := expect.Of(&world.Expectation{ID: "typo", Party: party, Action: "files.opne", Resource: "*", Could: true})
		if err != nil {
			t.Fatal(err)
		}
		s := engine.Of(w)
		if err := expect.Judge(s, []*expect.Statement{st}, now, expect.NextDays, nil, func(_ int, j expect.Judged) {
			if j.State != expect.Unknown || j.Why != "There is no action files.opne." {
				t.Errorf("%s: %s, %q", party, j.State, j.Why)
			}
		}); err != nil {
			t.Fatal(err)
		}
	}
}

func mustBe[T any](x T, err error) T {
	return must(x, err == nil)
}

func must[T any](x T, ok bool) T {
	if !ok {
		panic("there is no such thing")
	}
	return x
}

// TestExpectationsTogether judges more scopes together than a word has bits, and each alone: whole answers are the
// same, counterexamples included. So for what could come to be of those that hold.
func TestExpectationsTogether(t *testing.T) {
	w := tiny(911)
	enrich(rand.New(rand.NewPCG(911, 3)), w)
	w = world.Merge(&world.World{}, w)
	s := engine.Of(w)
	parties := []string{"everybody"}
	for _, k := range world.PartyKinds {
		parties = append(parties, "kind:"+k)
	}
	for i := range w.Partners {
		parties = append(parties, "partner:"+w.Partners[i].ID)
	}
	for i := range w.Groups {
		parties = append(parties, "group:"+w.Groups[i].ID)
	}
	var all []*expect.Statement
	for _, p := range parties {
		for k, act := range []string{"*", "chat.*", "files.*", "meetings.*", "spaces.*", "directory.*", "files.open", "spaces.enter", "chat.direct_message"} {
			for _, sort := range []world.ExpectSort{world.Never, world.AtMost, world.OnlyParties, world.OnCondition} {
				x := world.Expectation{ID: fmt.Sprintf("%s %s %d", p, act, sort), Party: p, Action: act, Resource: "*",
					Expect: world.Expect{Sort: sort, AtMost: k, Only: []string{"kind:guest", "partner:" + w.Partners[0].ID}, Conditions: []string{"sign_in"}}}
				st, err := expect.Of(&x)
				if err != nil {
					t.Fatalf("%+v: %v", x, err)
				}
				all = append(all, st)
				if x.ID += " could"; expect.CouldSays(sort) {
					x.Could = true
					all = append(all, mustBe(expect.Of(&x)))
				}
			}
		}
	}
	judge := func(list []*expect.Statement) []expect.Judged {
		out := make([]expect.Judged, len(list))
		if err := expect.Judge(s, list, now, expect.Now, nil, func(i int, j expect.Judged) { out[i] = j }); err != nil {
			t.Fatal(err)
		}
		return out
	}
	broken, could := 0, 0
	for i, j := range judge(all) {
		if j.Could {
			could++
		}
		alone := judge(all[i : i+1])[0]
		if j.Could && all[i].Expect.Sort == world.AtMost { // whoever could is told with one of the things, whichever
			for _, list := range [][]expect.Counter{j.Examples, alone.Examples} {
				for k := range list {
					list[k] = expect.Counter{Who: list[k].Who, Newcomer: list[k].Newcomer}
				}
			}
		}
		if !reflect.DeepEqual(j, alone) {
			t.Errorf("%s: %+v together, %+v alone", all[i].ID, j, alone)
		}
		if j.State == expect.Broken {
			broken++
		}
	}
	if scopes := len(parties) * 9; scopes < 80 || broken < 100 || broken > len(all)-100 {
		t.Errorf("%d scopes, %d of %d expectations broken: too alike to tell", scopes, broken, len(all))
	}
	if could < 20 {
		t.Errorf("%d could come to be broken", could)
	}
}
