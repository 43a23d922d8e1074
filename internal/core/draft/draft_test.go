package draft_test

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func docs(pairs ...string) draft.Docs {
	out := draft.Docs{}
	for i := 0; i < len(pairs); i += 2 {
		kind, id, _ := strings.Cut(pairs[i], " ")
		out[draft.Key{Kind: kind, ID: id}] = []byte(pairs[i+1])
	}
	return out
}

func told(edits []draft.Edit) string {
	var out []string
	for _, e := range edits {
		line := e.Title()
		for _, c := range e.Changes() {
			line += fmt.Sprintf(" [%s: %s > %s]", c.Field, c.Was, c.Now)
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

func TestDiff(t *testing.T) {
	was := docs("rule a.b", `{"limit":"on","default":"off"}`, "bar x.example", `{"name":"x.example"}`, "partner p",
		`{"id":"p","domains":["p.example"],"opened":{"chat.in":"yes"}}`, "settings ours", `{"x":1}`)
	next := docs("rule a.b", `{"limit":"on","default":"on"}`, "partner p",
		`{"id":"p","domains":["q.example"],"opened":{"chat.in":"yes","mail.in":"no"}}`, "settings ours", `{"x":1}`, "exception e", `{"id":"e"}`)
	edits := draft.Diff(was, next, nil, "anna", "t", "why")
	if got, want := told(edits),
		"lift the bar on x.example [name: x.example > ]; add the exception e [id:  > e]; change the partner p [domains: p.example > ] [domains:  > q.example] [opened.mail.in:  > no]; set a.b [default: off > on]"; got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	// What an edit that stays was made by stays told.
	later := docs("rule a.b", `{"limit":"on","default":"on"}`, "partner p", string(was[draft.Key{Kind: "partner", ID: "p"}]), "bar x.example",
		`{"name":"x.example"}`, "settings ours", `{"x":2}`)
	for _, e := range draft.Diff(was, later, edits, "ben", "u", "") {
		if want := map[string]string{"rule": "anna", "settings": "ben"}[e.Kind]; e.By != want {
			t.Errorf("%s is told to be by %s", e.Title(), e.By)
		}
	}
}

// TestRebase is a table: what was, what the draft made of it, what is in force now.
func TestRebase(t *testing.T) {
	for _, c := range []struct{ name, was, mine, live, now, conflict string }{
		{"nothing else changed", `{"a":1,"b":2}`, `{"a":1,"b":3}`, `{"a":1,"b":2}`, `{"a":1,"b":3}`, ""},
		{"another field", `{"a":1,"b":2}`, `{"a":1,"b":3}`, `{"a":9,"b":2}`, `{"a":9,"b":3}`, ""},
		{"the same, alike", `{"a":1}`, `{"a":2}`, `{"a":2}`, "", ""},
		{"the same, otherwise", `{"a":1}`, `{"a":2}`, `{"a":3}`, "", "a"},
		{"both fields, one of them alike", `{"a":1,"b":1}`, `{"a":2,"b":2}`, `{"a":2,"b":1}`, `{"a":2,"b":2}`, ""},
		{"within a field", `{"r":{"x":"on"}}`, `{"r":{"x":"off"}}`, `{"r":{"x":"on","y":"on"}}`, `{"r":{"x":"off","y":"on"}}`, ""},
		{"the same within a field", `{"r":{"x":"on"}}`, `{"r":{"x":"off"}}`, `{"r":{"x":"held"}}`, "", "r.x"},
		{"a field that came on both sides", `{}`, `{"x":"off"}`, `{"x":"on"}`, "", "x"},
		{"a field that came and one that went", `{"a":1,"b":1}`, `{"a":1,"b":1,"c":1}`, `{"a":1}`, `{"a":1,"c":1}`, ""},
		{"both add to a list", `{"d":["p"]}`, `{"d":["p","q"]}`, `{"d":["p","r"]}`, `{"d":["p","r","q"]}`, ""},
		{"one adds, one takes away", `{"d":["p","q"]}`, `{"d":["p","q","r"]}`, `{"d":["q"]}`, `{"d":["q","r"]}`, ""},
		{"a word against a list", `{"d":"p"}`, `{"d":["p"]}`, `{"d":"q"}`, "", "d"},
		{"it is gone", `{"a":1}`, `{"a":2}`, "", "", "gone"},
		{"it came on both sides", "", `{"a":2}`, `{"a":3}`, "", "gone"},
		{"taken away, and changed", `{"a":1}`, "", `{"a":3}`, "", "gone"},
		{"taken away on both sides", `{"a":1}`, "", "", "", ""},
	} {
		raw := func(s string) []byte {
			if s == "" {
				return nil
			}
			return []byte(s)
		}
		edit := draft.Edit{Kind: "partner", ID: "p", Was: raw(c.was), Now: raw(c.mine)}
		live := draft.Docs{}
		if c.live != "" {
			live[edit.Key()] = raw(c.live)
		}
		clean, conflicts := draft.Rebase([]draft.Edit{edit}, live)
		got, conflict := "", ""
		if len(clean) == 1 {
			got = string(clean[0].Now)
			if string(clean[0].Was) != c.live {
				t.Errorf("%s: it is an edit of %s", c.name, clean[0].Was)
			}
		}
		if len(conflicts) == 1 {
			if conflict = strings.Join(conflicts[0].Fields, " "); conflict == "" {
				conflict = "gone"
			}
			if kept := draft.Keep(conflicts[0]); string(kept.Was) != c.live || string(kept.Now) != c.mine {
				t.Errorf("%s: kept as %s > %s", c.name, kept.Was, kept.Now)
			}
		}
		if got != c.now || conflict != c.conflict {
			t.Errorf("%s: %s, conflict %q; want %s, %q", c.name, got, conflict, c.now, c.conflict)
		}
	}
}

// TestApplied applies the differences between random policies: what comes out is the
// other policy, entry by entry.
func TestApplied(t *testing.T) {
	for seed := uint64(1); seed < 30; seed++ {
		a := worldgen.Generate(seed, worldgen.Size{Guests: 10, Partners: 8, Exceptions: 10}, now)
		b := worldgen.Generate(seed+100, worldgen.Size{Guests: 10, Partners: 5, Exceptions: 14}, now)
		x, y := worldfile.DocsOf(a), worldfile.DocsOf(b)
		got, err := worldfile.ApplyEdits(a, draft.Diff(x, y, nil, "", "", ""))
		if err != nil {
			t.Fatal(err)
		}
		z := worldfile.DocsOf(got)
		if len(z) != len(y) {
			t.Fatalf("seed %d: %d entries, want %d", seed, len(z), len(y))
		}
		for k, doc := range y {
			if string(z[k]) != string(doc) {
				t.Fatalf("seed %d: %s is %s, want %s", seed, k, z[k], doc)
			}
		}
		if len(draft.Diff(worldfile.DocsOf(a), x, nil, "", "", "")) != 0 {
			t.Fatalf("seed %d: applying changed what it was applied to", seed)
		}
	}
}

// TestLoosens changes random policies: what is told to loosen nothing opens nothing to
// anybody, and every looser word of a rule is told.
func TestLoosens(t *testing.T) {
	tight, loose, silent := 0, 0, 0
	for seed := uint64(1); seed <= 400; seed++ {
		r := rand.New(rand.NewPCG(seed, 11))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 12, Grants: 40, Spaces: 5, Items: 20, Partners: 4, People: 5, Groups: 3, Meetings: 4, Links: 12, Exceptions: 5},
			now))
		next := *w
		next.Rules, next.Partners, next.Exceptions = slices.Clone(w.Rules), slices.Clone(w.Partners), slices.Clone(w.Exceptions)
		p := &next.Partners[r.IntN(len(next.Partners))]
		switch r.IntN(7) {
		case 0, 1, 2:
			if len(next.Rules) > 0 {
				x := &next.Rules[r.IntN(len(next.Rules))]
				if all := x.Rule.Get().Scale.All(); len(all) > 1 {
					was := *x
					x.Limit, x.Held, x.Counts = all[r.IntN(len(all))], false, catalogue.Unset
					x.Default = x.Limit
					if x.Rule.Get().Scale.Looser(x.Limit, was.Limit) && was.Limit != catalogue.Unset && len(draft.Loosens(w, &next)) == 0 {
						t.Fatalf("seed %d: a looser limit of %s is not told", seed, x.Rule)
					}
				}
			}
		case 3:
			p.Standing, p.StandingSince = world.Standing(r.IntN(3)), moment.Always
		case 4:
			for range 3 {
				p.Opened[r.IntN(len(p.Opened))] = world.Opening(r.IntN(3))
			}
		case 5:
			if d := p.Domains[0].Domain; r.IntN(2) == 0 {
				next.Barred = append(slices.Clone(w.Barred), world.Bar{Entry: world.Entry{Domain: d}})
			} else if a, err := addr.Parse("guest1@" + d.String()); err == nil {
				next.Barred = append(slices.Clone(w.Barred), world.Bar{Address: a})
			}
		case 6:
			if len(next.Exceptions) > 0 {
				i := r.IntN(len(next.Exceptions))
				next.Exceptions = slices.Delete(next.Exceptions, i, i+1)
			}
		}
		merged := world.Merge(&next, &world.World{})
		reasons := draft.Loosens(w, merged)
		before := engine.Of(w)
		e := before.Aside()
		policy := *merged
		policy.Spaces, policy.Meetings = nil, nil
		e.SetPolicy(&policy)
		e.HoldBack()
		imp, err := engine.ImpactOf(before, e.Done(), now, nil, func() error { return nil }, nil)
		if err != nil {
			t.Fatal(err)
		}
		gains := imp.Parties.Gained > 0
		for _, n := range imp.Newcomers {
			gains = gains || n.Change == "gained"
		}
		switch {
		case gains && len(reasons) == 0:
			t.Fatalf("seed %d: somebody gains by what loosens nothing: %+v, %+v; %s", seed, imp.Parties, imp.Newcomers,
				told(draft.Diff(worldfile.DocsOf(w), worldfile.DocsOf(merged), nil, "", "", "")))
		case gains:
			loose++
		case len(reasons) == 0 && imp.Parties.Lost > 0:
			tight++
		case len(reasons) == 0:
			silent++
		}
	}
	t.Logf("%d open something, %d only close something, %d do nothing yet", loose, tight, silent)
	if loose < 20 || tight < 20 {
		t.Errorf("%d loosen, %d tighten: little is tried", loose, tight)
	}
}

// TestLoosensUnknown changes every field of a partner's record: those that can let somebody in, or
// that nothing is known of, count as looser.
func TestLoosensUnknown(t *testing.T) {
	words := map[string]bool{"ID": true, "Name": true, "AlsoNamed": true, "StandingSince": true, "StandingReason": true, "Contacts": true,
		"Owner": true, "Review": true, "Note": true, "Stance": true}
	domain, err := addr.ParseDomain("a.example")
	if err != nil {
		t.Fatal(err)
	}
	typ := reflect.TypeFor[world.Partner]()
	for i := range typ.NumField() {
		name := typ.Field(i).Name
		if words[name] {
			continue
		}
		was, next := world.Partner{ID: "a", Name: "A", Standing: world.Suspended}, world.Partner{ID: "a", Name: "A", Standing: world.Suspended}
		f := reflect.ValueOf(&next).Elem().Field(i)
		switch name {
		case "Domains":
			next.Domains = []world.Entry{{Domain: domain}}
		case "Standing":
			next.Standing = world.Active
		case "Opened":
			next.Opened[0] = world.OpenYes
		case "Still":
			next.Still = []catalogue.Key{0}
		case "Rules":
			r := catalogue.MustRule("chat.personal").Get()
			next.Rules = []world.Setting{{Rule: r.ID, Value: r.Limit}}
		default:
			switch f.Kind() {
			case reflect.String:
				f.SetString("x")
			case reflect.Bool:
				f.SetBool(true)
			default:
				t.Fatalf("the test cannot change %s", name)
			}
		}
		if got := draft.Loosens(&world.World{Policy: world.Policy{Partners: []world.Partner{was}}},
			&world.World{Policy: world.Policy{Partners: []world.Partner{next}}}); len(got) == 0 {
			t.Errorf("another %s loosens nothing", name)
		}
	}
}

// TestLoosensExpectations changes an expectation in every way: what it lets through afterwards and did not before is looser, and
// nothing else is.
// TestLoosensBundles changes a bundle field by field, one way and back: what gives more to anybody loosens, what gives less does not.
func TestLoosensBundles(t *testing.T) {
	space := world.Resource{Kind: catalogue.Space, ID: "a"}
	base := world.Bundle{ID: "b", Name: "B", Gives: []world.Gift{{Resource: space, Role: catalogue.View}}, Partners: []string{"p"},
		Approval: []string{"owner"}, TermDays: 30, ReviewDays: 90, NotWith: []string{"c"}}
	for what, more := range map[string]func(x *world.Bundle){
		"a higher role": func(x *world.Bundle) { x.Gives = []world.Gift{{Resource: space, Role: catalogue.Contribute}} },
		"more that it gives": func(x *world.Bundle) {
			x.Gives = append(slices.Clone(x.Gives), world.Gift{Resource: world.Resource{Kind: catalogue.Space, ID: "z"}, Role: catalogue.View})
		},
		"one partner more":          func(x *world.Bundle) { x.Partners = []string{"p", "q"} },
		"others":                    func(x *world.Bundle) { x.Others = true },
		"longer":                    func(x *world.Bundle) { x.TermDays = 31 },
		"without an end":            func(x *world.Bundle) { x.TermDays = catalogue.NoLimit },
		"confirmed less often":      func(x *world.Bundle) { x.ReviewDays = catalogue.Unset },
		"beside the other":          func(x *world.Bundle) { x.NotWith = nil },
		"extended by oneself":       func(x *world.Bundle) { x.Silent = true },
		"an approver fewer":         func(x *world.Bundle) { x.Approval = nil },
		"approved by somebody else": func(x *world.Bundle) { x.Approval = []string{"sponsor"} },
	} {
		loose := base
		more(&loose)
		was, next := &world.World{Policy: world.Policy{Bundles: []world.Bundle{base}}},
			&world.World{Policy: world.Policy{Bundles: []world.Bundle{loose}}}
		if got := draft.Loosens(was, next); len(got) != 1 || got[0] != "the bundle B" {
			t.Errorf("%s: %q", what, got)
		}
		if got := draft.Loosens(next, was); len(got) != 0 && what != "approved by somebody else" && what != "an approver fewer" {
			t.Errorf("back from %s: %q", what, got)
		}
	}
	closed := base
	closed.Closed, closed.Name = true, "Another name"
	open, shut, none := &world.World{Policy: world.Policy{Bundles: []world.Bundle{base}}},
		&world.World{Policy: world.Policy{Bundles: []world.Bundle{closed}}}, &world.World{}
	for _, c := range []struct {
		was, next *world.World
		want      string
	}{{open, shut, "[]"}, {shut, open, "[the bundle B]"}, {none, open, "[a new bundle, B]"}, {none, shut, "[]"}, {open, none, "[]"}} {
		if got := fmt.Sprint(draft.Loosens(c.was, c.next)); got != c.want {
			t.Errorf("%s, want %s", got, c.want)
		}
	}
}

func TestLoosensExpectations(t *testing.T) {
	base := world.Expectation{ID: "x", Party: "everybody", Action: "files.open", Resource: "space:a", Could: true, Owner: "o", Why: "w"}
	with := func(change func(x *world.Expectation)) world.Expectation {
		x := base
		change(&x)
		return x
	}
	atMost := func(n int) world.Expectation {
		return with(func(x *world.Expectation) { x.Expect = world.Expect{Sort: world.AtMost, AtMost: n} })
	}
	until := func(m moment.Moment) world.Expectation {
		return with(func(x *world.Expectation) { x.Expect = world.Expect{Sort: world.OnlyUntil, Until: m} })
	}
	only := func(who ...string) world.Expectation {
		return with(func(x *world.Expectation) { x.Expect = world.Expect{Sort: world.OnlyParties, Only: who} })
	}
	on := func(what ...string) world.Expectation {
		return with(func(x *world.Expectation) { x.Expect = world.Expect{Sort: world.OnCondition, Conditions: what} })
	}
	for _, c := range []struct {
		name     string
		was, is  world.Expectation
		looser   bool
		backward bool // whether the change back is looser
	}{
		{"fewer", atMost(40), atMost(10), false, true},
		{"an earlier day", until(200), until(100), false, true},
		{"fewer parties", only("partner:a", "partner:b"), only("partner:b"), false, true},
		{"another party", only("partner:a"), only("partner:b"), true, true},
		{"one more condition", on("sign_in"), on("sign_in", "second_factor"), false, true},
		{"another sort", only("partner:a"), base, true, true},
		{"what could be, too", with(func(x *world.Expectation) { x.Could = false }), base, false, true},
		{"words", base, with(func(x *world.Expectation) { x.Owner, x.Why, x.Tell = "p", "v", true }), false, false},
		{"another party asked of", base, with(func(x *world.Expectation) { x.Party = "partner:a" }), true, true},
		{"another name", base, with(func(x *world.Expectation) { x.ID = "y" }), true, true},
	} {
		policy := func(x world.Expectation) *world.World {
			return &world.World{Policy: world.Policy{Expectations: []world.Expectation{x}}}
		}
		if got := draft.Loosens(policy(c.was), policy(c.is)); (len(got) > 0) != c.looser {
			t.Errorf("%s: %v", c.name, got)
		}
		if got := draft.Loosens(policy(c.is), policy(c.was)); (len(got) > 0) != c.backward {
			t.Errorf("%s, back: %v", c.name, got)
		}
	}
}

// TestLoosensSettings: asking more for a second factor, or another time to decide in, lets nobody in; everything else of the settings
// counts as looser.
func TestLoosensSettings(t *testing.T) {
	for what, c := range map[string]struct {
		change func(x *world.Settings)
		looser bool
	}{
		"nothing":                       {func(*world.Settings) {}, false},
		"longer to decide":              {func(x *world.Settings) { x.LapseDays = 30 }, false},
		"a second factor for more":      {func(x *world.Settings) { x.SecondFactor = world.FactorAll }, false},
		"a second factor for fewer":     {func(x *world.Settings) { x.SecondFactor = world.FactorNobody }, true},
		"a brake that lets more go":     {func(x *world.Settings) { x.Brake = 1000 }, true},
		"stances that count for longer": {func(x *world.Settings) { x.StanceDays = 1000 }, true},
	} {
		was := world.StartSettings()
		was.SecondFactor = world.FactorAdministrators
		next := was
		c.change(&next)
		got := draft.Loosens(&world.World{Policy: world.Policy{Settings: &was}}, &world.World{Policy: world.Policy{Settings: &next}})
		if (len(got) > 0) != c.looser {
			t.Errorf("%s: %v", what, got)
		}
	}
}
