package native_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// wire is a dialect whose lists of domains stand in sets of people, too.
var wire = &native.Dialect{
	Name: "wire", Title: "Wire", Services: []string{"chat"}, Sets: []native.Scope{native.ToPeople},
	Dials: []native.Dial{
		{Path: "calls", Rule: "chat.calls", Words: []string{"refused", "let through"}, Charter: true},
		{Path: "presence", Rule: "chat.presence", Words: []string{"nobody", "contacts", ""}, Charter: true},
	},
	Boards: []native.Board{
		{Path: "from", Rule: "chat.federation", Keys: []string{"chat.in"}, Only: "only", But: "not", Charter: true, Single: true},
		{Path: "to", Rule: "chat.federation", Keys: []string{"chat.out"}, Only: "only", But: "not", Charter: true, Single: true},
	},
}

// serverLets says what a server does that has those settings: whose list counts for a person of ours, and whether it lets
// an address through.
func serverLets(t *testing.T, settings map[string]string, board, person, address string) bool {
	t.Helper()
	list := settings[board]
	if set := settings["charter:@"+person]; set != "" {
		words, err := native.ParseCharter(set)
		if err != nil {
			t.Fatal(err)
		}
		list = words[board]
	}
	mode, names, err := native.ParseBoard(list)
	if err != nil {
		t.Fatalf("%q: %v", list, err)
	}
	_, dom, _ := strings.Cut(address, "@")
	hit := func(n string) bool {
		below, wide := strings.CutPrefix(n, "*.")
		return n == address || n == dom || wide && strings.HasSuffix(dom, "."+below)
	}
	if slices.ContainsFunc(names, func(n string) bool { return strings.HasPrefix(n, "!") && hit(n[1:]) }) {
		return mode == "not"
	}
	return slices.ContainsFunc(names, hit) == (mode == "only")
}

// TestListsOfPeople: what is written for people with exceptions lets nothing through that is refused, as a server reads it;
// and what is read back, of that and of whatever else a server holds, lies between the tightest and the loosest reading.
func TestListsOfPeople(t *testing.T) {
	if err := wire.Check(); err != nil {
		t.Fatal(err)
	}
	fed := catalogue.MustRule("chat.federation")
	written, exact, turned, unsure := 0, 0, 0, 0
	for seed := range uint64(150) {
		w := random(seed)
		r := rand.New(rand.NewPCG(seed, 6))
		for i := range w.Exceptions { // of whom to speak to
			x := &w.Exceptions[i]
			x.Rules = []world.Setting{{Rule: fed, Value: catalogue.Value(r.IntN(3))}}
			x.From, x.Until = now-1, now+1
			switch r.IntN(6) {
			case 0:
				x.Parties = nil
			case 1:
				x.Parties = []world.PartyRef{{Domain: w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain}}
			case 2:
				x.Parties = []world.PartyRef{{Partner: w.Partners[r.IntN(len(w.Partners))].ID}}
			case 3:
				x.Parties = []world.PartyRef{{Address: mustAddress("visitor@" + w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain.String())},
					{Domain: mustDomain("nobodys.example")}}
			}
		}
		var others []string
		for i := range w.Partners {
			for _, e := range w.Partners[i].Domains {
				others = append(others, "visitor@"+e.Domain.String(), "somebody@"+e.Domain.String(), "deep@below."+e.Domain.String())
			}
		}
		others = append(others, "visitor@nobodys.example", "far@nobodys.example", "x@else.example")
		s := engine.Of(w)
		// lets says whether the gate of domains lets a party through, in either direction.
		lets := func(s *engine.Snapshot, board, person, address string) bool {
			q := engine.Question{At: now}
			if board == "from" {
				act, _ := catalogue.ActionByName("chat.message")
				q.Subject, q.Action, q.Resource = engine.Who{Kind: engine.ByAddress, Address: mustAddress(address)}, act.ID,
					world.Resource{Kind: catalogue.Person, ID: person}
			} else {
				act, _ := catalogue.ActionByName("chat.message_theirs")
				q.Subject, q.Action, q.Resource, q.Address = engine.Who{Kind: engine.ByPerson, ID: person}, act.ID,
					world.Resource{Kind: catalogue.Person, ID: person}, mustAddress(address)
			}
			a, err := s.Explain(&q)
			if err != nil {
				t.Fatalf("%s %s %s: %v", board, person, address, err)
			}
			return a.Deciding().Gates[catalogue.DomainGate].Pass
		}
		to := map[string]string{}
		for _, x := range wire.To(meant(w)) {
			to[x.Path] = x.Value
		}
		each := func(do func(board, id, address, other string)) {
			for _, b := range []string{"from", "to"} {
				for i := range w.People {
					a := s.AddressOf(w.People[i].ID)
					if a == "" {
						continue
					}
					for _, o := range others {
						do(b, w.People[i].ID, a, o)
					}
				}
			}
		}
		each(func(b, id, address, other string) {
			written++
			does, means := serverLets(t, to, b, address, other), lets(s, b, id, other)
			if does && !means {
				t.Fatalf("seed %d: %s of %s lets %s through, which is refused: %v", seed, b, id, other, to)
			}
			if does == means {
				exact++
			}
		})
		between := func(what string) {
			f := wire.From(to)
			least, most := overlay(s, w, f, false), overlay(s, w, f, true)
			each(func(b, id, address, other string) {
				does, low, high := serverLets(t, to, b, address, other), lets(least, b, id, other), lets(most, b, id, other)
				if low && !high {
					t.Fatalf("seed %d, %s: %s of %s and %s: surely, and not even perhaps: %v", seed, what, b, id, other, to)
				}
				if low && !does || does && !high && !barred(w, other) {
					t.Fatalf("seed %d, %s: %s of %s and %s: it does %t, surely %t, perhaps %t: %v\n%+v", seed, what, b, id, other, does, low, high, to,
						w.Partners)
				}
				if to["charter:@"+address] != "" {
					turned++
					if low != high {
						unsure++
					}
				}
			})
		}
		between("as written")
		for i := range w.People {
			if a := s.AddressOf(w.People[i].ID); a != "" && r.IntN(2) == 0 {
				words := map[string]string{"calls": "let through", "presence": "nobody"}
				for _, b := range []string{"from", "to"} {
					e := w.Partners[r.IntN(len(w.Partners))].Domains[0]
					dom := e.Domain.String()
					below := "*." + dom
					if !e.Subdomains { // of domains that nobody listed a list is read one by one
						below = "else.example"
					}
					all := []string{dom, below, "nobodys.example", "visitor@" + dom, "far@nobodys.example"}
					words[b] = native.BoardText([]string{"only", "not"}[r.IntN(2)], all[r.IntN(3):3+r.IntN(3)])
				}
				to["charter:@"+a] = wire.CharterText(words)
			}
		}
		between("turned by somebody")
	}
	t.Logf("%d written, %d of them exactly; %d read, %d of them in two ways", written, exact, turned, unsure)
	if exact*100 < written*95 || unsure*2 > turned {
		t.Error("too little is exact")
	}
}

// TestSuspendedFound: a partner that is suspended here, and whose domain still stands in a system's list, is let through
// there, for what the list is about and for nothing else.
func TestSuspendedFound(t *testing.T) {
	w, err := worldfile.Read([]byte(`
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {directory.guests: {default: on}, chat.federation: {default: listed}}
people: [{id: uma, name: Uma, address: uma@ours.example}]
partners: [{id: ilvane, name: Ilvane, standing: suspended, standing_since: 2026-11-01, domains: [ilvane.example], opened: {directory.in: yes, chat.in: yes, chat.out: yes, meetings.in: yes}}]
meetings: [{id: talk, name: Talk, host: uma}]
`), worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	s := engine.Of(w)
	got := func(s *engine.Snapshot) string {
		var out []string
		for _, x := range []struct {
			action string
			on     world.Resource
		}{{"chat.message", world.Resource{Kind: catalogue.Person, ID: "uma"}},
			{"meetings.join", world.Resource{Kind: catalogue.Meeting, ID: "talk"}}} {
			act, _ := catalogue.ActionByName(x.action)
			v, err := s.Decide(&engine.Question{Subject: engine.Who{Kind: engine.ByAddress, Address: mustAddress("a@ilvane.example")},
				Action: act.ID, Resource: x.on, At: now})
			if err != nil {
				t.Fatal(err)
			}
			out = append(out, fmt.Sprintf("%s %t", x.action, v.Yes))
		}
		return strings.Join(out, ", ")
	}
	for _, x := range []struct{ from, want string }{
		{"only:", "chat.message false, meetings.join false"},
		{"only: ilvane.example", "chat.message true, meetings.join false"},
		{"not: ilvane.example", "chat.message false, meetings.join false"},
		{"not: else.example", "chat.message true, meetings.join false"},
	} {
		f := wire.From(map[string]string{"calls": "let through", "presence": "contacts", "from": x.from, "to": "only:"})
		for _, most := range []bool{true, false} {
			// of two directions that differ the tightest counts for sure
			if is := got(overlay(s, w, f, most)); is != x.want && (most || !strings.HasPrefix(x.from, "not: else")) {
				t.Errorf("%s, most %t: %s, want %s", x.from, most, is, x.want)
			}
		}
		other, _ := native.ByName("quay") // what one system lets through stays beside what others hold
		both := s.Aside()
		n := names{engine.Of(w)}
		both.SetPolicy(native.Overlay(native.Overlay(w, f, true, n), other.From(written(other.To(meant(w)))), true, n))
		if is := got(both.Done()); is != x.want {
			t.Errorf("%s, beside another system: %s, want %s", x.from, is, x.want)
		}
		y, err := engine.ImpactOf(s, overlay(s, w, f, true), now, nil, func() error { return nil }, nil)
		if err != nil {
			t.Fatal(err)
		}
		gains := slices.ContainsFunc(y.Newcomers, func(n engine.NewcomerMove) bool {
			return fmt.Sprint(n.Newcomer.Who) == "*@ilvane.example" && n.Action.String() == "chat.message"
		})
		if want := strings.HasPrefix(x.want, "chat.message true"); gains != want {
			t.Errorf("%s: newcomers gain: %+v", x.from, y.Newcomers)
		}
	}
}

func barred(w *world.World, address string) bool {
	a := mustAddress(address)
	return slices.ContainsFunc(w.Barred, func(x world.Bar) bool {
		d := a.Domain().String()
		return x.Address == a || x.Address.IsZero() && (x.Entry.Domain == a.Domain() ||
			x.Entry.Subdomains && strings.HasSuffix(d, "."+x.Entry.Domain.String()))
	})
}

func mustAddress(s string) addr.Address {
	a, err := addr.Parse(s)
	if err != nil {
		panic(err)
	}
	return a
}

func mustDomain(s string) addr.Domain {
	d, err := addr.ParseDomain(s)
	if err != nil {
		panic(err)
	}
	return d
}
