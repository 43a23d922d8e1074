package native_test

import (
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func random(seed uint64) *world.World {
	w := world.Merge(&world.World{}, worldgen.Generate(seed,
		worldgen.Size{Guests: 20, Grants: 70, Spaces: 6, Items: 30, Partners: 4, People: 6, Groups: 3, Meetings: 5, Links: 20, Exceptions: 5},
		now))
	r := rand.New(rand.NewPCG(seed, 4))
	for i := range w.Rules {
		all := w.Rules[i].Rule.Get().Scale.All()
		w.Rules[i].Limit, w.Rules[i].Default = all[r.IntN(len(all))], all[r.IntN(len(all))]
		if r.IntN(3) > 0 { // open, so that what is tighter somewhere can be told
			w.Rules[i].Limit, w.Rules[i].Default = w.Rules[i].Rule.Get().Scale.Loosest(), w.Rules[i].Rule.Get().Scale.Loosest()
		}
		w.Rules[i].Default = w.Rules[i].Rule.Get().Scale.Tighter(w.Rules[i].Default, w.Rules[i].Limit)
	}
	for i := range w.Partners { // values of partners
		p := &w.Partners[i]
		for _, name := range []string{"spaces.pages", "files.given_to", "files.reshare", "spaces.guests"} {
			id := catalogue.MustRule(name)
			if all := id.Get().Scale.All(); r.IntN(2) == 0 && !slices.ContainsFunc(p.Rules, func(x world.Setting) bool { return x.Rule == id }) {
				p.Rules = append(p.Rules, world.Setting{Rule: id, Value: all[r.IntN(len(all))]})
			}
		}
	}
	return w
}

// names calls everything in a system as here, with a letter before.
type names struct{ s *engine.Snapshot }

func (n names) AddressOf(person string) string     { return n.s.AddressOf(person) }
func (n names) PeopleIn(group string) []string     { return n.s.PeopleIn(group) }
func (n names) Native(space string) (string, bool) { return "n-" + space, true }
func (n names) Space(native string) (string, bool) { return strings.CutPrefix(native, "n-") }
func (n names) SpaceOf(item string) string         { return n.s.SpaceOf(item) }
func (n names) Person(address string) (string, bool) {
	a, err := addr.Parse(address)
	if err != nil {
		return "", false
	}
	id := n.s.PersonAt(a)
	return id, id != ""
}

func meant(w *world.World) *native.Meant {
	m := &native.Meant{Policy: w, At: now, People: names{engine.Of(w)}}
	say := func(kind, space string, list []world.Setting) {
		if len(list) == 0 {
			return
		}
		p := native.Place{Kind: kind, Space: space, Rules: list}
		if space != "" && len(space)%5 != 0 { // some are not there yet
			p.Native = "n-" + space
		}
		m.Places = append(m.Places, p)
	}
	for i := range w.Spaces {
		say("space", w.Spaces[i].ID, w.Spaces[i].Rules)
		for k := range w.Spaces[i].Items {
			say("item", w.Spaces[i].ID, w.Spaces[i].Items[k].Rules)
		}
	}
	for i := range w.Meetings {
		say("meeting", "", w.Meetings[i].Rules)
	}
	return m
}

func written(list []native.Setting) map[string]string {
	out := map[string]string{}
	for _, s := range list {
		out[s.Path] = s.Value
	}
	return out
}

// overlay is a world as it counts in a system with a reading.
func overlay(s *engine.Snapshot, w *world.World, f *native.Found, most bool) *engine.Snapshot {
	e := s.Aside()
	n := names{engine.Of(w)}
	e.SetPolicy(native.Overlay(w, f, most, n))
	e.Unsay(f.Rules())
	laid := e.Done()
	e = laid.Aside()
	for id, list := range f.Spaces(n, most) {
		for _, x := range list {
			e.SetValueAt(world.Resource{Kind: catalogue.Space, ID: id}, x.Rule, x.Value)
		}
	}
	return e.Done()
}

// TestNeverLooser: what is written for random worlds lets nothing through that is refused, by the engine
// itself, and is read back as one thing: writing it again changes nothing.
func TestNeverLooser(t *testing.T) {
	short := 0
	for seed := range uint64(120) {
		w := random(seed)
		s := engine.Of(w)
		for _, d := range native.Dialects() {
			to := d.To(meant(w))
			f := d.From(written(to))
			if len(f.Unread) > 0 {
				t.Fatalf("seed %d, %s: it does not understand itself: %+v", seed, d.Name, f.Unread)
			}
			x, err := engine.ImpactOf(s, overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
			if err != nil {
				t.Fatal(err)
			}
			if n := x.Total(); n.Gained > 0 || len(x.WideGained) > 0 {
				t.Fatalf("seed %d, %s: it lets through what is refused: %+v, %+v\n%v", seed, d.Name, n, x.WideGained, to)
			}
			for _, n := range x.Newcomers {
				if n.Change == "gained" {
					t.Fatalf("seed %d, %s: %+v", seed, d.Name, n)
				}
			}
			short += x.Total().Lost
			y, err := engine.ImpactOf(overlay(s, w, f, false), overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
			if err != nil {
				t.Fatal(err)
			}
			if n := y.Total(); n.Any() || len(y.WideGained)+len(y.WideLost) > 0 {
				t.Fatalf("seed %d, %s: what was written is read in two ways: %+v", seed, d.Name, n)
			}
			if steps := d.Steps(written(to), to); len(steps) > 0 {
				t.Fatalf("seed %d, %s: %+v", seed, d.Name, steps)
			}
		}
	}
	if short < 1000 {
		t.Errorf("only %d are refused besides: places say too little to tell", short)
	}
}

// TestFoundIsBounded: whatever a system holds, the tightest reading lets nothing through that the
// loosest refuses, and where no layer says anything and all words are plain, found is what was meant.
func TestFoundIsBounded(t *testing.T) {
	vague, equal, said := 0, 0, 0
	for seed := range uint64(120) {
		w := random(seed)
		plain := seed%2 == 0
		if plain {
			w.Exceptions = nil
			// what lies below a partner's domain is not told apart there
			w.Barred = slices.DeleteFunc(w.Barred, func(x world.Bar) bool { return x.Address.IsZero() && barsSome(w, x.Entry) })
			// what sets of values for somebody say, is held for each of them
			for i := range w.Partners {
				w.Partners[i].Rules = slices.DeleteFunc(w.Partners[i].Rules, func(x world.Setting) bool {
					return !slices.Contains([]string{"directory.guests", "spaces.guests", "spaces.pages", "files.given_to", "files.reshare"},
						x.Rule.String())
				})
				said += len(w.Partners[i].Rules)
			}
			for i := range w.Spaces {
				w.Spaces[i].Rules = nil
				for k := range w.Spaces[i].Items {
					w.Spaces[i].Items[k].Rules = nil
				}
			}
			for i := range w.Meetings {
				w.Meetings[i].Rules = nil
			}
		}
		s := engine.Of(w)
		r := rand.New(rand.NewPCG(seed, 5))
		for _, d := range native.Dialects() {
			to := written(d.To(meant(w)))
			if plain {
				f := d.From(to)
				x, err := engine.ImpactOf(s, overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
				if err != nil {
					t.Fatal(err)
				}
				exact := true
				for _, l := range d.Describe() {
					exact = exact && (l.Fidelity != native.Tighter || l.Part == "values")
				}
				if exact && (x.Total().Any() || len(x.WideLost) > 0) {
					t.Fatalf("seed %d, %s: all is exact, and something differs: %+v %+v", seed, d.Name, x.Total(), x.WideLost)
				}
				if exact {
					equal++
				}
			}
			for i := range d.Dials { // somebody turns some of it
				x := &d.Dials[i]
				if words := append(slices.Clone(x.Words), slices.Sorted(maps.Keys(x.Vague))...); len(words) > 0 && r.IntN(3) == 0 {
					if word := words[r.IntN(len(words))]; word != "" {
						to[x.Path] = word
						if _, is := x.Vague[word]; is {
							vague++
						}
					}
				}
			}
			for i := range d.Boards {
				mode := []string{d.Boards[i].Only, d.Boards[i].But}[r.IntN(2)]
				to[d.Boards[i].Path] = native.BoardText(mode, []string{w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain.String(),
					"nobodys.example"})
			}
			for _, of := range []string{w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain.String(), "#n-" + w.Spaces[r.IntN(len(w.Spaces))].ID,
				"@" + s.AddressOf(w.People[r.IntN(len(w.People))].ID)} {
				words := map[string]string{} // and gives somebody or something a set of values
				for i := range d.Dials {
					switch x := &d.Dials[i]; {
					case x.Charter && len(x.Words) == 0:
						words[x.Path] = []string{"1", "30", x.NoEnd}[r.IntN(3)]
					case x.Charter:
						words[x.Path] = x.Words[0]
						if k := r.IntN(len(x.Words)); x.Words[k] != "" {
							words[x.Path] = x.Words[k]
						}
					}
				}
				if _, _, known := d.Setting("charter:" + of); known && len(of) > 1 {
					to["charter:"+of] = d.CharterText(words)
				}
			}
			f := d.From(to)
			x, err := engine.ImpactOf(overlay(s, w, f, false), overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
			if err != nil {
				t.Fatal(err)
			}
			if x.Total().Lost > 0 || len(x.WideLost) > 0 {
				t.Fatalf("seed %d, %s: the tightest reading lets through what the loosest refuses: %+v %+v\n%v", seed, d.Name, x.Total(), x.WideLost,
					to)
			}
		}
	}
	if vague < 20 || equal < 50 || said < 50 {
		t.Errorf("%d vague words, %d that are equal, %d values of partners", vague, equal, said)
	}
}

// barsSome reports whether a bar is about domains of a partner.
func barsSome(w *world.World, bar world.Entry) bool {
	for _, p := range w.Partners {
		for _, e := range p.Domains {
			a, b := "."+e.Domain.String(), "."+bar.Domain.String()
			if strings.HasSuffix(a, b) || strings.HasSuffix(b, a) {
				return true
			}
		}
	}
	return false
}

// TestTurn: which way a change goes, list by list and word by word.
func TestTurn(t *testing.T) {
	for _, c := range []struct {
		dialect, path, was, becomes string
		want                        native.Turn
	}{
		{"quay", "visitors", "turned away", "welcome", native.Loosens},
		{"quay", "visitors", "welcome", "turned away", native.Tightens},
		{"quay", "visitors", "welcome", "welcome", native.Same},
		{"quay", "visitors", "sideways", "welcome", native.Unclear},
		{"quay", "tickets", "as the harbour sees fit", "none", native.Tightens},
		{"quay", "tickets", "as the harbour sees fit", "issued", native.Loosens},
		{"quay", "tickets.days", "30", "14", native.Tightens},
		{"quay", "tickets.days", "30", "for good", native.Loosens},
		{"quay", "nowhere", "1", "2", native.Unclear},
		{"parley", "houses", "none but: a.example", "none but: a.example, b.example", native.Loosens},
		{"parley", "houses", "none but: a.example, b.example", "none but: a.example", native.Tightens},
		{"parley", "houses", "none but: a.example", "none but: b.example", native.Both},
		{"parley", "houses", "all but: a.example", "all but: a.example, b.example", native.Tightens},
		{"parley", "houses", "all but: a.example", "all but:", native.Loosens},
		{"parley", "houses", "none but: a.example", "all but: a.example", native.Both}, // the list stays, and its meaning turns
		{"parley", "houses", "none but: a.example", "all but: b.example", native.Loosens},
		{"parley", "houses", "all but: a.example", "none but: b.example", native.Tightens},
		{"parley", "houses", "some of: a.example", "none but: b.example", native.Unclear},
		{"parley", "houses", "none but:", "none but:", native.Same},
		{"quay", "charter:a.example",
			"visitors=welcome; berths.visitors=keep out; berths.notes=read; crates.handed-to=crew; tickets=none; tickets.days=14; tickets.power=look; crates.passed-on=never",
			"visitors=welcome; berths.visitors=may come aboard; berths.notes=read; crates.handed-to=crew; tickets=none; tickets.days=14; tickets.power=look; crates.passed-on=never",
			native.Loosens},
		{"quay", "charter:a.example", "",
			"visitors=welcome; berths.visitors=keep out; berths.notes=read; crates.handed-to=crew; tickets=none; tickets.days=14; tickets.power=look; crates.passed-on=never",
			native.Both},
		{"quay", "charter:a.example", "nonsense", "visitors=welcome", native.Unclear},
	} {
		d, ok := native.ByName(c.dialect)
		if !ok {
			t.Fatal(c.dialect)
		}
		if got := d.Turn(c.path, c.was, c.becomes); got != c.want {
			t.Errorf("%s from %q to %q %s, want %s", c.path, c.was, c.becomes, got, c.want)
		}
	}
}

// TestUnread: what is not there or not understood is said, and changes nothing of what is meant.
func TestUnread(t *testing.T) {
	w := random(3)
	s := engine.Of(w)
	for _, d := range native.Dialects() {
		f := d.From(map[string]string{d.Boards[0].Path: "who knows: a.example", d.Dials[0].Path: "sideways"})
		if len(f.Unread) != len(d.Dials)+len(d.Boards) || len(f.Rules()) != 0 {
			t.Errorf("%s: %+v, %v", d.Name, f.Unread, f.Rules())
		}
		x, err := engine.ImpactOf(s, overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
		if err != nil || x.Total().Any() || len(x.WideGained)+len(x.WideLost) > 0 {
			t.Errorf("%s: %+v %v", d.Name, x.Total(), err)
		}
	}
}

// TestTake: what a system holds, taken over as policy, means what it held: written again it differs in
// nothing but what was said to be left, and where places say nothing it lets through the same.
func TestTake(t *testing.T) {
	taken := 0
	for seed := range uint64(150) {
		w := random(seed)
		w.Exceptions = nil
		for i := range w.Partners {
			w.Partners[i].Rules = nil
		}
		for i := range w.Spaces {
			w.Spaces[i].Rules = nil
			for k := range w.Spaces[i].Items {
				w.Spaces[i].Items[k].Rules = nil
			}
		}
		for i := range w.Meetings {
			w.Meetings[i].Rules = nil
		}
		r := rand.New(rand.NewPCG(seed, 6))
		for _, d := range native.Dialects() {
			held := written(d.To(meant(w)))
			for i := range d.Dials {
				if x := &d.Dials[i]; len(x.Words) > 0 {
					if word := x.Words[r.IntN(len(x.Words))]; word != "" {
						held[x.Path] = word
					}
				}
			}
			for i := range d.Boards {
				p := &w.Partners[r.IntN(len(w.Partners))]
				var names []string
				for _, e := range p.Domains {
					names = append(names, e.Domain.String())
					if e.Subdomains {
						names = append(names, "*."+e.Domain.String())
					}
				}
				if p.Standing == world.Active && r.IntN(2) == 0 {
					held[d.Boards[i].Path] = native.BoardText([]string{d.Boards[i].Only, d.Boards[i].But}[r.IntN(2)], names)
				}
			}
			x := d.Take(meant(w), held, "")
			next := *w
			next.Partners = slices.Clone(w.Partners)
			for i := range next.Partners {
				for _, o := range x.Opened {
					if o.Partner == next.Partners[i].ID {
						next.Partners[i].Opened[o.Key] = o.To
					}
				}
			}
			part := &world.World{}
			part.Rules = x.Rules
			after := world.Merge(&next, part)
			for _, set := range after.Rules {
				if set.Default != catalogue.Unset && set.Limit != catalogue.Unset && set.Rule.Get().Scale.Looser(set.Default, set.Limit) {
					t.Fatalf("seed %d, %s: %s is looser than its limit", seed, d.Name, set.Rule)
				}
			}
			again := d.To(meant(after))
			for _, s := range d.Steps(held, again) {
				if _, _, ok := d.Setting(s.Path); !ok || s.Turn == native.Same || d.ByHand(s.Path) {
					continue
				}
				// A ceiling below the value where no place speaks cannot be kept apart from it.
				if rule := d.RuleAt(s.Path); slices.ContainsFunc(d.Dials, func(y native.Dial) bool { return y.Rule == rule && y.Ceiling }) {
					continue
				}
				if slices.ContainsFunc(d.Boards, func(b native.Board) bool {
					return b.Path == s.Path &&
						(s.Turn == native.Tightens || len(w.Barred) > 0)
				}) {
					continue // a partner that is suspended or barred stays off the list
				}
				t.Fatalf("seed %d, %s: it held %v, was taken over as %+v, and would be written %+v", seed, d.Name, held[s.Path], x, s)
			}
			taken += len(x.Rules) + len(x.Opened)
		}
	}
	if taken < 500 {
		t.Errorf("only %d were taken over", taken)
	}
}

// TestSetsOfSpacesAndPeople: a space or a person with a value of their own gets a set, everybody else keeps the
// general values; by the engine nothing differs where nothing else is said. A space that is not there yet
// tightens the value for everybody, an exception towards some parties too.
func TestSetsOfSpacesAndPeople(t *testing.T) {
	read := func(more string) (*world.World, *native.Meant) {
		t.Helper()
		w, err := worldfile.Read([]byte(`
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, spaces.guests: {default: off}, chat.presence: {limit: everybody, default: hidden}, chat.federation: {default: any}, meetings.outsiders: {limit: anyone, default: none}}
people: [{id: uma, name: Uma, address: uma@ours.example}, {id: ben, name: Ben, address: ben@ours.example, groups: [press]}, {id: eva, name: Eva, address: eva@ours.example}]
groups: [{id: press, name: Press}]
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {directory.in: yes, spaces.in: yes, chat.in: yes, chat.out: yes, meetings.in: yes}}]
guests: [{address: a@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, terms: 2026-11-01}]
grants: [{party: a@ilvane.example, resource: space:harbour, role: view, from: 2026-11-01}, {party: a@ilvane.example, resource: space:attic, role: view, from: 2026-11-01}]
spaces: [{id: harbour, name: Open, kind: team, owners: [uma], rules: {spaces.guests: on}}, {id: attic, name: Closed, kind: team, owners: [uma]}]
`+more), worldfile.Options{Now: now})
		if err != nil {
			t.Fatal(err)
		}
		return w, meant(w)
	}
	w,
		m := read("exceptions: [{id: a, people: [uma], rules: {chat.presence: everybody}, reason: x, from: 2026-11-01, until: 2027-01-01}, {id: b, groups: [press], rules: {meetings.outsiders: anyone}, reason: x, from: 2026-11-01, until: 2027-01-01}]\n")
	s := engine.Of(w)
	for i := range m.Places {
		m.Places[i].Native = "n-" + m.Places[i].Space
	}
	for name, want := range map[string]string{
		"quay":   "charter:#n-harbour=berths.visitors=may come aboard",
		"parley": "charter:@ben@ours.example=strangers.private=shut; strangers.voice=spoken; lamp=nobody; table.seats=anyone who knocks|charter:@uma@ours.example=strangers.private=shut; strangers.voice=spoken; lamp=passers-by; table.seats=household",
	} {
		d, _ := native.ByName(name)
		to := written(d.To(m))
		for _, one := range strings.Split(want, "|") {
			path, text, _ := strings.Cut(one, "=")
			if !strings.HasPrefix(to[path], text) {
				t.Errorf("%s: %s is %q, not %q", name, path, to[path], text)
			}
		}
		f := d.From(to)
		x, err := engine.ImpactOf(s, overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
		if err != nil || x.Total().Any() || len(x.WideGained)+len(x.WideLost) > 0 {
			t.Errorf("%s: something differs: %+v %+v %+v %v", name, x.Total(), x.WideGained, x.WideLost, err)
		}
	}
	d, _ := native.ByName("quay")
	m.Places[0].Native = ""
	if to := written(d.To(m)); to["berths.visitors"] != "keep out" || to["charter:#n-harbour"] != "" {
		t.Errorf("a space that is not there yet: %v", to)
	}
	_,
		m = read("exceptions: [{id: a, people: [uma], parties: [\"partner:ilvane\"], rules: {chat.presence: everybody}, reason: x, from: 2026-11-01, until: 2027-01-01}]\n")
	d, _ = native.ByName("parley")
	if to := written(d.To(m)); to["charter:@uma@ours.example"] != "" || to["lamp"] != "nobody" {
		t.Errorf("towards some alone: %v", to)
	}
}

// TestKeeps: what a system has no word for, or would let through without a field for it, it does not keep.
func TestKeeps(t *testing.T) {
	h := &native.Holding{Kind: "link", Fields: []native.Field{{Name: "may", Of: "right", Words: map[string]string{"view": "look"}},
		{Name: "for", Of: "for", Empty: true}}}
	g := &native.Holding{Kind: "grant", Fields: []native.Field{{Name: "who", Of: "address"}}}
	for _, x := range []struct {
		h    *native.Holding
		t    native.Thing
		want bool
	}{
		{h, native.Thing{"right": "view", "for": ""}, true},
		{h, native.Thing{"right": "contribute", "for": ""}, false},
		{h, native.Thing{"right": "view", "for": "a@b.example"}, false},
		{g, native.Thing{"address": "a@b.example", "from": "", "until": "2027-01-01T00:00:00Z"}, true},
		{g, native.Thing{"address": "a@b.example", "from": "2027-01-01T00:00:00Z"}, false},
	} {
		if x.h.Keeps(x.t) != x.want {
			t.Errorf("%s %v: %t", x.h.Kind, x.t, !x.want)
		}
	}
}
