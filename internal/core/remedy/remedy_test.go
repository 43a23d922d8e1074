package remedy

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldfile/worldtest"
	"wexillum.example/internal/worldgen"
)

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func snapshot(t *testing.T, text string) *engine.Snapshot {
	t.Helper()
	w,
		err := worldfile.Read([]byte("wexillum: 1\norganisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}\ndates_from: [{for: organisation, from: 2028-01-01}]\n"+text),
		worldfile.Options{Now: now})
	if err != nil {
		t.Fatal(err)
	}
	return engine.Of(world.Merge(&world.World{}, w))
}

// TestRemedies lists all that is offered in small worlds, the narrowest first.
func TestRemedies(t *testing.T) {
	for _, c := range []struct{ name, world, ask, want string }{
		{"an exception of a group stands in the way", `
rules: {chat.federation: {limit: any, default: any}, chat.calls: {limit: on, default: on}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {chat.in: yes}}]
groups: [{id: desk, name: Desk}]
people: [{id: uma, name: Uma, groups: [desk]}]
exceptions: [{id: quiet, groups: [desk], rules: {chat.calls: off}, from: 2026-01-01, until: 2027-01-01, reason: test}]`,
			"x@orrin.example chat.call person:uma",
			"Change the exception quiet: chat.calls to on. | End the exception quiet. | Make an exception: chat.calls to on for uma towards the partner orrin."},
		{"whoever is at a domain is nobody in particular", `
rules: {chat.federation: {limit: any, default: any}, chat.calls: {limit: on, default: off}}
people: [{id: uma, name: Uma}]`,
			"*@orrin.example chat.call person:uma",
			"Make an exception: chat.calls to on for uma towards whoever is at orrin.example. | Set the default of chat.calls to on."},
		{"their own exception stands in the way", `
rules: {chat.federation: {limit: any, default: any}, chat.calls: {limit: on, default: off}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {chat.in: yes}}]
people: [{id: uma, name: Uma}]
exceptions: [{id: quiet, people: [uma], rules: {chat.calls: off}, from: 2026-01-01, until: 2027-01-01, reason: test}]`,
			"x@orrin.example chat.call person:uma",
			"Change the exception quiet: chat.calls to on."},
		{"a record whose own end is over", `
rules: {directory.guests: {default: on}, directory.terms: {default: optional}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {directory.in: yes}}]
people: [{id: uma, name: Uma}]
guests: [{address: x@orrin.example, sponsor: uma, since: 2026-10-01, accepted: 2026-10-01, until: 2026-11-10}]`,
			"x@orrin.example directory.sign_in directory:ours",
			"Extend the record of x@orrin.example. Bring the record of x@orrin.example back."},
		{"a rule that nothing sets", `
rules: {meetings.remote_control: {limit: on, default: off}, meetings.outsiders: {limit: anyone, default: anyone}, meetings.share_screen: {limit: screen, default: screen}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {meetings.in: yes}}]
people: [{id: uma, name: Uma}]
meetings: [{id: call, name: Call, host: uma, passcode: yes}]`, "a@orrin.example meetings.remote_control meeting:call",
			"Make an exception: meetings.remote_control to on for uma towards the partner orrin. | Set meetings.remote_control to on at the partner Orrin. | Set the default of meetings.remote_control to on."},
		{"a limit too", `
rules: {spaces.guests: {default: on}, directory.guests: {default: on}, directory.terms: {default: optional}, chat.guests: {limit: off, default: off}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {spaces.in: yes}, rules: {}}]
people: [{id: uma, name: Uma}]
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: talk, kind: channel, name: Talk}]}]
guests: [{address: maren@ilvane.example, sponsor: uma}]
grants: [{party: maren@ilvane.example, resource: space:dossier, role: contribute, from: 2026-01-01}]`, "maren@ilvane.example chat.post channel:talk",
			"Set spaces.connect to listed at Dossier. | Set the default of spaces.connect to listed. | Raise the limit of chat.guests to on. Set chat.guests to on at Dossier. | Raise the limit of chat.guests to on. Set chat.guests to on at the partner Ilvane. | Raise the limit of chat.guests to on. Set the default of chat.guests to on."},
		{"theirs and ours", `
rules: {chat.federation: {limit: any, default: listed}}
partners: [{id: osk, name: Oskelund, domains: [osk.example], stance: {chat.in: {says: refuses}}}]
people: [{id: uma, name: Uma}]`, "b@osk.example chat.message person:uma",
			"Make an exception: chat.federation to any for uma towards the partner osk. Oskelund admits chat.in on its own side. | Open the partner Oskelund for chat.in. Oskelund admits chat.in on its own side. | Set the default of chat.federation to any. Oskelund admits chat.in on its own side."},
		{"a domain below a partner's", `
rules: {chat.federation: {limit: listed, default: listed}}
partners: [{id: van, name: Vantry, domains: [van.example], opened: {chat.in: yes}}]
people: [{id: uma, name: Uma}]`, "x@culture.van.example chat.message person:uma", "Add culture.van.example to the partner Vantry. | Make a partner of culture.van.example, opened for chat.in. | Raise the limit of chat.federation to any. Make an exception: chat.federation to any for uma towards x@culture.van.example. | Raise the limit of chat.federation to any. Set the default of chat.federation to any."},
		{"a person in a group", `
rules: {chat.federation: {limit: any, default: listed}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {chat.in: yes}, standing: active}]
groups: [{id: rig, name: Rigging}]
people: [{id: uma, name: Uma, groups: [rig]}]`, "x@unlisted.example chat.message person:uma", "Make an exception: chat.federation to any for uma towards x@unlisted.example. | Make an exception: chat.federation to any for the group rig towards x@unlisted.example. | Make a partner of unlisted.example, opened for chat.in. | Set the default of chat.federation to any."},
		{"a bar and a standing", `
rules: {chat.federation: {limit: any, default: listed}}
partners: [{id: mar, name: Marrowby, domains: [mar.example], standing: suspended, opened: {chat.in: yes}}]
barred: [{address: x@mar.example, reason: lost}]
people: [{id: uma, name: Uma}]`, "x@mar.example chat.message person:uma", "Lift the bar on x@mar.example. Bring the partner Marrowby back."},
		{"nothing helps", `
people: [{id: uma, name: Uma}]
rules: {directory.guests: {default: on}}
guests: [{address: g@far.example, sponsor: uma}]`, "g@ours.example chat.message person:uma", ""},
		{"a private item", `
rules: {spaces.guests: {default: on}, directory.guests: {default: on}, directory.terms: {default: optional}, files.given_to: {default: known}, files.domains: {default: any}}
people: [{id: uma, name: Uma}]
groups: [{id: value, name: Valuers}]
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: secret, kind: folder, name: Secret, private: yes}]}]
guests: [{address: m@far.example, sponsor: uma}]
grants: [{party: m@far.example, resource: space:dossier, role: view, from: 2026-01-01}, {party: "group:value", resource: folder:secret, role: view, from: 2026-01-01}]`, "m@far.example files.open folder:secret",
			"Give m@far.example the role view on Secret. | Put m@far.example into the group value, which has the role view on Secret."},
	} {
		s := snapshot(t, c.world)
		options, hopeless, err := Find(s, Request{Question: worldtest.Question(t, c.ask), Until: moment.Never})
		if err != nil {
			t.Fatalf("%s: %v", c.name, err)
		}
		var said []string
		for i := range options {
			var parts []string
			for k := range options[i].Changes {
				parts = append(parts, options[i].Changes[k].Text())
			}
			said = append(said, strings.Join(parts, " "))
		}
		if got := strings.Join(said, " | "); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
		if (len(options) == 0) != (len(hopeless) > 0) {
			t.Errorf("%s: %d options, nothing helps against %v", c.name, len(options), hopeless)
		}
	}
}

// drawn draws a question about a random world; ok is false where its world has nothing to ask of.
func drawn(r *rand.Rand, w *world.World) (q engine.Question, ok bool) {
	a := &catalogue.Actions()[r.IntN(len(catalogue.Actions()))]
	q = engine.Question{Action: a.ID, At: now}
	g := w.Guests[r.IntN(len(w.Guests))].Address
	if r.IntN(3) == 0 {
		g, _ = addr.Parse([]string{"new@" + w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain.String(), "new@unlisted.example",
			"new@homepost.example"}[r.IntN(3)])
	}
	q.Subject = engine.Who{Address: g}
	if a.Asks[catalogue.Ours] != nil {
		q.Subject = engine.Who{Kind: engine.ByPerson, ID: w.People[r.IntN(len(w.People))].ID}
	}
	if a.Address {
		q.Address = g
	}
	sp := &w.Spaces[r.IntN(len(w.Spaces))]
	kind := a.On[r.IntN(len(a.On))]
	q.Resource = world.Resource{Kind: kind}
	switch {
	case kind == catalogue.Space:
		q.Resource.ID = sp.ID
	case kind == catalogue.Meeting:
		q.Resource.ID = w.Meetings[r.IntN(len(w.Meetings))].ID
	case kind == catalogue.OurDirectory:
		q.Resource.ID = "ours"
	case kind.IsItem():
		for i := range sp.Items {
			if sp.Items[i].Kind == kind {
				q.Resource.ID = sp.Items[i].ID
			}
		}
	default:
		q.Resource.ID = w.People[r.IntN(len(w.People))].ID
	}
	return q, q.Resource.ID != ""
}

// TestSteps carries out every next step that random refusals give: its cause must then refuse
// no more, in a world in which the change is really made.
func TestSteps(t *testing.T) {
	gone, nothing := map[catalogue.Code]int{}, map[catalogue.Code]int{}
	for seed := uint64(1); seed <= 40; seed++ {
		r := rand.New(rand.NewPCG(seed, 9))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 20, Grants: 60, Spaces: 6, Items: 30, Partners: 5, People: 6, Groups: 3, Meetings: 5, Links: 10, Exceptions: 5},
			now))
		if g := w.Guests[r.IntN(len(w.Guests))].Address; seed%2 == 0 {
			w.Barred = append(w.Barred, world.Bar{Address: g, Reason: "test"},
				world.Bar{Entry: world.Entry{Domain: w.Guests[0].Address.Domain()}, Reason: "test"})
		}
		s := engine.Of(w)
		for range 60 {
			q, ok := drawn(r, w)
			if !ok {
				continue
			}
			x, err := s.Explain(&q)
			if err != nil || x.Yes() {
				continue
			}
			for i := range x.Accounts {
				a := &x.Accounts[i]
				for g := range a.Gates {
					for k := range a.Gates[g].Causes {
						c := &a.Gates[g].Causes[k]
						if !c.Refuses {
							continue
						}
						set, known := Step(s, &q, a.Account, catalogue.Gate(g), c, now+30*86400e6)
						if len(set) == 0 {
							if known {
								nothing[c.Code]++
							}
							continue
						}
						gone[c.Code]++
						y, err := Apply(s, set, now).Explain(&engine.Question{Subject: q.Subject, Action: q.Action, Resource: q.Resource, Address: q.Address,
							Account: a.Account, At: now})
						if err != nil {
							t.Fatalf("seed %d: %s: %v", seed, texts(set), err)
						}
						for _, b := range y.Accounts {
							for n := range b.Gates[g].Causes {
								if d := &b.Gates[g].Causes[n]; b.Account == a.Account && d.Refuses && same(d, c) {
									t.Fatalf("seed %d: %s %s %s as %s: after %q it still says %q, before %q", seed, q.Subject, q.Action, q.Resource, a.Account,
										texts(set), d.Text(), c.Text())
								}
							}
						}
					}
				}
			}
		}
	}
	// Against the others no change of ours is known; their words ask somebody for something.
	words := []catalogue.Code{catalogue.NoSuchPerson, catalogue.ByNature, catalogue.PasswordMissing, catalogue.CopyMissing,
		catalogue.DownloadMissing, catalogue.LinkElsewhere, catalogue.LinkOver, catalogue.LinkUndated,
		catalogue.NotSelf, catalogue.NotJoinable, catalogue.MeetingAlone, catalogue.LinkRightLow}
	for _, c := range catalogue.Codes() {
		if c.Entry().Next == "" {
			continue
		}
		if slices.Contains(words, c) {
			if gone[c] > 0 && c != catalogue.LinkRightLow && c != catalogue.PasswordMissing && c != catalogue.DownloadMissing {
				t.Errorf("%s has a step, and is said to have none", c)
			}
		} else if gone[c] == 0 {
			t.Errorf("%s never came up with a step", c)
		}
	}
	t.Logf("steps that help: %v; nothing helps: %v", gone, nothing)
}

// TestRemediesOfRandomWorlds tries every remedy of random refusals: each really gives a
// yes, no proper subset of it does, and none holds all of another.
func TestRemediesOfRandomWorlds(t *testing.T) {
	options, refusals, large, kinds := 0, 0, 0, map[Kind]int{}
	for seed := uint64(1); seed <= 60; seed++ {
		r := rand.New(rand.NewPCG(seed, 5))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 20, Grants: 60, Spaces: 6, Items: 30, Partners: 5, People: 6, Groups: 3, Meetings: 5, Links: 10, Exceptions: 5},
			now))
		s := engine.Of(w)
		for range 60 {
			q, ok := drawn(r, w)
			if !ok {
				continue
			}
			v, err := s.Decide(&q)
			if err != nil || v.Yes {
				continue
			}
			refusals++
			found, _, err := Find(s, Request{Question: q, Until: now + 30*86400e6})
			if err != nil {
				t.Fatalf("seed %d: %+v: %v", seed, q, err)
			}
			for i := range found {
				o := &found[i]
				options++
				if len(o.Changes) > 3 {
					large++
				}
				yes := func(set []Change) bool {
					v, err := Apply(s, set, now).Decide(&q)
					return err == nil && v.Yes
				}
				if !yes(o.Changes) {
					t.Fatalf("seed %d: %s %s %s: this gives no yes: %s", seed, q.Subject, q.Action, q.Resource, texts(o.Changes))
				}
				for k := range o.Changes {
					kinds[o.Changes[k].Kind]++
				}
				if len(o.Changes) > 8 {
					continue
				}
				for mask := 0; mask < 1<<len(o.Changes)-1; mask++ {
					var some []Change
					for k := range o.Changes {
						if mask>>k&1 != 0 {
							some = append(some, o.Changes[k])
						}
					}
					if yes(some) {
						t.Fatalf("seed %d: %s %s %s: of %s already this is enough: %s", seed, q.Subject, q.Action, q.Resource, texts(o.Changes), texts(some))
					}
				}
				for j := range found {
					if i != j && holds(o, &found[j]) {
						t.Fatalf("seed %d: %s holds all of %s", seed, texts(o.Changes), texts(found[j].Changes))
					}
				}
			}
		}
	}
	t.Logf("%d options for %d refusals, %d of more than three changes: %v", options, refusals, large, kinds)
	if options < refusals/2 || large == 0 || len(kinds) < 12 {
		t.Errorf("%d options for %d refusals, %d large, kinds %v: little is tried", options, refusals, large, kinds)
	}
}

func texts(set []Change) string {
	var out []string
	for i := range set {
		out = append(out, set[i].Text())
	}
	return fmt.Sprint(out)
}

// TestWeigh counts by hand what an option opens besides, and orders options by it.
func TestWeigh(t *testing.T) {
	s := snapshot(t, `
rules: {spaces.guests: {default: on}, directory.guests: {default: on}, directory.terms: {default: optional}, chat.guests: {limit: on, default: off}, spaces.connect: {default: closed}}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], opened: {spaces.in: yes}}, {id: far, name: Far, domains: [far.example], opened: {spaces.in: yes}}]
people: [{id: uma, name: Uma}]
spaces:
  - {id: dossier, name: Dossier, kind: team, owners: [uma], items: [{id: talk, kind: channel, name: Talk}, {id: more, kind: channel, name: More}]}
  - {id: other, name: Other, kind: team, owners: [uma], items: [{id: chat, kind: channel, name: Chat}]}
guests: [{address: maren@ilvane.example, sponsor: uma}, {address: edda@ilvane.example, sponsor: uma}, {address: far@far.example, sponsor: uma}]
grants: [{party: maren@ilvane.example, resource: space:dossier, role: view, from: 2026-01-01}, {party: edda@ilvane.example, resource: space:other, role: view, from: 2026-01-01}, {party: far@far.example, resource: space:dossier, role: view, from: 2026-01-01}]`)
	q := worldtest.Question(t, "maren@ilvane.example chat.read channel:talk")
	q.Account = engine.RecordAccount
	options, _, err := Find(s, Request{Question: q, Until: moment.Never})
	if err != nil {
		t.Fatal(err)
	}
	counts := make([]Counts, len(options))
	for i := range options {
		if counts[i], err = Weigh(s, &options[i], now, func() error { return nil }); err != nil {
			t.Fatal(err)
		}
	}
	Order(options, counts)
	var said []string
	for i := range options {
		c := counts[i]
		said = append(said, fmt.Sprintf("%s newcomers %d parties %d granted %d", texts(options[i].Changes), c.Newcomers, c.Parties, c.Granted))
	}
	want := `[Set chat.guests to on at the partner Ilvane.] newcomers 0 parties 2 granted 3
[Set chat.guests to on at Dossier.] newcomers 0 parties 2 granted 4
[Set the default of chat.guests to on.] newcomers 0 parties 3 granted 5`
	if got := strings.Join(said, "\n"); got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
}

// TestWeighRandomly compares the counts of options with asking everybody everything.
func TestWeighRandomly(t *testing.T) {
	tried, gained := 0, 0
	for seed := uint64(100); seed < 112; seed++ {
		r := rand.New(rand.NewPCG(seed, 5))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 14, Grants: 50, Spaces: 5, Items: 20, Partners: 4, People: 4, Groups: 3, Meetings: 4, Links: 8, Exceptions: 3},
			now))
		s := engine.Of(w)
		for range 25 {
			a := &catalogue.Actions()[r.IntN(len(catalogue.Actions()))]
			if a.Spread != catalogue.Granted || a.Address {
				continue
			}
			sp := &w.Spaces[r.IntN(len(w.Spaces))]
			if len(sp.Items) == 0 {
				continue
			}
			it := &sp.Items[r.IntN(len(sp.Items))]
			res := world.Resource{Kind: it.Kind, ID: it.ID}
			if !a.Takes(res.Kind) {
				continue
			}
			q := engine.Question{Subject: engine.Who{Address: w.Guests[r.IntN(len(w.Guests))].Address}, Action: a.ID, Resource: res, At: now}
			options, _, err := Find(s, Request{Question: q, Until: moment.Never, MaxOption: 4})
			if err != nil {
				continue
			}
			for i := range options {
				o := &options[i]
				got, err := Weigh(s, o, now, func() error { return nil })
				if err != nil {
					t.Fatal(err)
				}
				after := Apply(s, o.Changes, now)
				n := 0
				countedBefore := map[engine.Who]bool{}
				before, _, err := s.Group("everybody", now)
				if err != nil {
					t.Fatal(err)
				}
				for _, who := range before {
					countedBefore[who] = true
				}
				count := func(who engine.Who, r world.Resource) {
					for k := range catalogue.Actions() {
						x := &catalogue.Actions()[k]
						if x.Spread != catalogue.Granted && r.Kind != catalogue.Channel || x.Address || !x.Takes(r.Kind) { // in channels a role counts
							continue
						}
						if who.Kind == engine.ByLinkID && x.Rows(r.Kind)[catalogue.Bearer] == nil {
							continue
						}
						q := engine.Question{Subject: who, Action: x.ID, Resource: r, At: now}
						v, e0 := s.Decide(&q)
						u, e1 := after.Decide(&q)
						if e1 == nil && u.Yes && (e0 != nil || !v.Yes) {
							if who.Kind == engine.ByAddress && !countedBefore[who] { // a typical newcomer from there stood for them
								q.Subject.Address = addr.Newcomer(who.Address.Domain())
								if as, err := after.Decide(&q); err == nil && as.Yes {
									continue
								}
							}
							n++
						}
					}
				}
				known := map[addr.Address]bool{} // for the others typical newcomers stand
				all, _, err := after.Group("everybody", now)
				if err != nil {
					t.Fatal(err)
				}
				for _, who := range all {
					if who.Kind == engine.ByAddress {
						known[who.Address] = true
					}
				}
				for g := range known {
					for k := range w.Spaces {
						count(engine.Who{Address: g}, world.Resource{Kind: catalogue.Space, ID: w.Spaces[k].ID})
						for j := range w.Spaces[k].Items {
							count(engine.Who{Address: g}, world.Resource{Kind: w.Spaces[k].Items[j].Kind, ID: w.Spaces[k].Items[j].ID})
						}
					}
					for k := range w.Meetings {
						count(engine.Who{Address: g}, world.Resource{Kind: catalogue.Meeting, ID: w.Meetings[k].ID})
					}
				}
				for k := range w.Links {
					if l := &w.Links[k]; len(l.For) == 0 && moment.Within(now, l.Created, l.Until) {
						count(engine.Who{Kind: engine.ByLinkID, ID: l.ID}, l.Item)
					}
				}
				tried++
				gained += n
				if got.Granted != n {
					t.Fatalf("seed %d: %s opens %d granted actions, counted %d", seed, texts(o.Changes), n, got.Granted)
				}
			}
		}
	}
	if tried < 40 || gained < 200 {
		t.Errorf("%d options, %d gained: little is tried", tried, gained)
	}
}

// TestNextWords: the words of a cause, where nothing is tried, ask for nothing that cannot help.
func TestNextWords(t *testing.T) {
	for _, c := range []struct{ world, ask, want string }{
		{`
rules: {chat.federation: {limit: any, default: any}}
partners: [{id: orrin, name: Orrin, domains: [orrin.example], opened: {chat.in: yes}}]
people: [{id: uma, name: Uma}]
exceptions: [{id: quiet, people: [uma], rules: {chat.federation: closed}, from: 2026-01-01, until: 2027-01-01, reason: test}]`,
			"x@orrin.example chat.message person:uma", "Change or end the exception quiet."},
		{`
rules: {chat.federation: {limit: any, default: closed}}
people: [{id: uma, name: Uma}]`,
			"x@orrin.example chat.message person:uma", "Set chat.federation to listed and open the partner, if that is wanted."},
		{`
rules: {chat.federation: {limit: any, default: listed}}
people: [{id: uma, name: Uma}]`,
			"x@orrin.example chat.message person:uma", "Add x@orrin.example to a partner, or make a partner of it."},
		{`
rules: {directory.guests: {default: on}, spaces.guests: {default: on}, reports.licence: {default: [theirs]}}
people: [{id: uma, name: Uma}]
spaces: [{id: area, name: Area, kind: report_area, owners: [uma], items: [{id: visits, kind: report, name: Visits}]}]
guests: [{address: g@orrin.example, sponsor: uma}]
grants: [{party: g@orrin.example, resource: space:area, role: view, from: 2026-01-01}]`,
			"g@orrin.example reports.view report:visits", "Record the licence of the guest."},
	} {
		s := snapshot(t, c.world)
		q := worldtest.Question(t, c.ask)
		x, err := s.Explain(&q)
		if err != nil {
			t.Errorf("%s: %v", c.ask, err)
			continue
		}
		if got := x.DecidingCause().Next(); got != c.want {
			t.Errorf("%s: %q, because %q", c.ask, got, x.DecidingCause().Text())
		}
	}
}
