package engine_test

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

func goOn() error { return nil }

// altered returns another policy over the same inventory, changed at random.
func altered(r *rand.Rand, w *world.World) (*world.World, string) {
	next := *w
	next.Rules = append([]world.RuleSetting{}, w.Rules...)
	next.Partners = append([]world.Partner{}, w.Partners...)
	next.Exceptions = append([]world.Exception{}, w.Exceptions...)
	next.Barred = append([]world.Bar{}, w.Barred...)
	p := &next.Partners[r.IntN(len(next.Partners))]
	what := ""
	for range 1 + r.IntN(2) {
		switch r.IntN(10) {
		case 9:
			if len(w.Bundles) == 0 {
				continue
			}
			next.Bundles = slices.Clone(w.Bundles)
			b := &next.Bundles[r.IntN(len(next.Bundles))]
			b.Gives = slices.Clone(b.Gives)
			if g := &b.Gives[r.IntN(len(b.Gives))]; r.IntN(2) == 0 {
				g.Resource = world.Resource{Kind: catalogue.Space, ID: w.Spaces[r.IntN(len(w.Spaces))].ID}
			} else {
				g.Role = catalogue.Role(1 + r.IntN(3))
			}
			what += fmt.Sprintf(" %s gives %v;", b.ID, b.Gives)
		case 0, 1, 2:
			x := &next.Rules[r.IntN(len(next.Rules))]
			if r.IntN(2) == 0 { // those that bring conditions and links about
				name := []string{"directory.terms", "directory.sign_in", "reports.guest_browse", "files.bearer_links", "files.drive_bearer_links",
					"files.link_days", "files.link_right", "spaces.connect", "chat.presence"}[r.IntN(9)]
				if r.IntN(3) == 0 {
					name = []string{"files.bearer_links", "files.link_days", "files.link_right"}[r.IntN(3)]
				}
				for i := range next.Rules {
					if next.Rules[i].Rule == catalogue.MustRule(name) {
						x = &next.Rules[i]
					}
				}
			}
			all := x.Rule.Get().Scale.All()
			x.Limit = all[r.IntN(len(all))]
			x.Default = all[r.IntN(len(all))]
			x.Counts = catalogue.Unset
			if x.Rule.Get().Scale.Looser(x.Default, x.Limit) {
				x.Default = x.Limit
			}
			what += fmt.Sprintf(" rule %s limit %s default %s;", x.Rule, x.Rule.Get().Scale.Format(x.Limit), x.Rule.Get().Scale.Format(x.Default))
		case 3:
			p.Standing = world.Standing(r.IntN(3))
			what += fmt.Sprintf(" %s %s;", p.ID, world.StandingNames[p.Standing])
		case 4:
			for range 4 {
				p.Opened[r.IntN(len(p.Opened))] = world.Opening(r.IntN(3))
			}
			what += " openings of " + p.ID + ";"
		case 5:
			switch r.IntN(3) {
			case 0:
				b, _ := addr.Parse("guest3@" + p.Domains[0].Domain.String())
				next.Barred = append(next.Barred, world.Bar{Address: b})
				what += " barred " + b.String() + ";"
			case 1:
				next.Barred = append(next.Barred, world.Bar{Entry: world.Entry{Domain: p.Domains[0].Domain}})
				what += " barred a domain;"
			default:
				next.Barred = nil
				what += " no bars;"
			}
		case 6:
			if len(next.Exceptions) > 0 {
				i := r.IntN(len(next.Exceptions))
				next.Exceptions = append(next.Exceptions[:i:i], next.Exceptions[i+1:]...)
				what += " an exception less;"
			}
		case 7:
			x := w.Exceptions[r.IntN(len(w.Exceptions))]
			x.ID, x.People = fmt.Sprint("new", len(next.Exceptions)), []string{w.People[r.IntN(len(w.People))].ID}
			if r.IntN(2) == 0 {
				x.Parties = nil
			}
			next.Exceptions = append(next.Exceptions, x)
			what += " an exception more;"
		case 8: // a domain moves to another partner
			q := &next.Partners[r.IntN(len(next.Partners))]
			if q != p && len(p.Domains) > 0 {
				q.Domains = append(append([]world.Entry{}, q.Domains...), p.Domains[0])
				p.Domains = p.Domains[1:]
				what += fmt.Sprintf(" a domain from %s to %s;", p.ID, q.ID)
			}
		}
		p = &next.Partners[r.IntN(len(next.Partners))]
		if len(p.Domains) == 0 {
			p = &next.Partners[0]
		}
		if len(p.Domains) == 0 {
			break
		}
	}
	return &next, what
}

// brute asks everything of two snapshots and counts what differs.
type brute struct {
	granted                   map[catalogue.ActionID]*engine.Moves
	wide                      map[string]*bruteWide
	parties                   engine.Moves
	kinds, partners, spaces   map[string]*engine.Moves
	stopped, started, changes int
	lines                     map[string]int
}

type bruteWide struct {
	parties, resources map[string]bool
	pairs              int
}

func note(m *engine.Moves, change string) {
	switch change {
	case "gained":
		m.Gained++
	case "lost":
		m.Lost++
	default:
		m.Otherwise++
	}
}

func bruteImpact(t *testing.T, w *world.World, before, after *engine.Snapshot, at moment.Moment) *brute {
	t.Helper()
	b := &brute{granted: map[catalogue.ActionID]*engine.Moves{}, wide: map[string]*bruteWide{}, kinds: map[string]*engine.Moves{},
		partners: map[string]*engine.Moves{}, spaces: map[string]*engine.Moves{}, lines: map[string]int{}}
	all := resourcesOf(w)
	spaceOf := map[world.Resource]string{}
	for _, r := range all {
		switch {
		case r.Kind.IsItem():
			spaceOf[r] = before.SpaceOf(r.ID)
		case r.Kind == catalogue.Space:
			spaceOf[r] = r.ID
		}
	}
	for i := range w.Meetings {
		spaceOf[world.Resource{Kind: catalogue.Meeting, ID: w.Meetings[i].ID}] = w.Meetings[i].Space
	}
	apart := map[string]bool{}
	for _, n := range append(append([]engine.Newcomer{}, before.NewcomersAt(at)...), after.NewcomersAt(at)...) {
		apart[n.Who.String()] = true
	}
	for _, name := range outsidersAt(w, before, at) {
		who, err := engine.ParseWho(name)
		if err != nil {
			t.Fatal(err)
		}
		if who.Kind == engine.ByLinkID { // only live links count
			live := false
			for i := range w.Links {
				if l := &w.Links[i]; l.ID == who.ID {
					live = moment.Within(at, l.Created, l.Until)
				}
			}
			if !live {
				continue
			}
		}
		mine := map[string]bool{}
		kind, partner := "bearer", ""
		if who.Kind == engine.ByAddress {
			kind = before.KindAt(who.Address, at).String()
			if m := before.Match(who.Address); m.Partner != nil {
				partner = m.Partner.ID
			}
		}
		if strings.HasPrefix(name, "*@") || apart[name] && who.Kind == engine.ByAddress { // newcomers come by themselves
			continue
		}
		had, has := false, false
		for _, act := range catalogue.Actions() {
			if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
				continue
			}
			for _, r := range all {
				if !act.Takes(r.Kind) {
					continue
				}
				q := engine.Question{Subject: who, Action: act.ID, Resource: r, At: at}
				v, err0 := before.Decide(&q)
				x, err1 := after.Decide(&q)
				v.Yes, x.Yes = v.Yes && err0 == nil, x.Yes && err1 == nil
				if act.Name == "directory.look_up" {
					continue
				}
				if who.Kind == engine.ByLinkID && byRole(&act, r.Kind) {
					had, has = had || v.Yes, has || x.Yes
				}
				if v.Yes == x.Yes && (!v.Yes || v.Conditions == x.Conditions) {
					continue
				}
				change := "otherwise"
				if x.Yes && !v.Yes {
					change = "gained"
				} else if v.Yes && !x.Yes {
					change = "lost"
				}
				mine[change] = true
				b.changes++
				if byRole(&act, r.Kind) {
					if b.granted[act.ID] == nil {
						b.granted[act.ID] = &engine.Moves{}
					}
					note(b.granted[act.ID], change)
					for _, in := range []struct {
						m   map[string]*engine.Moves
						key string
					}{{b.kinds, kind}, {b.partners, partner}, {b.spaces, spaceOf[r]}} {
						if in.m[in.key] == nil {
							in.m[in.key] = &engine.Moves{}
						}
						note(in.m[in.key], change)
					}
					b.lines[fmt.Sprint(name, change, act.Name, r)]++
					continue
				}
				k := fmt.Sprintf("%s %s %s", change, act.Name, r.Kind)
				if b.wide[k] == nil {
					b.wide[k] = &bruteWide{map[string]bool{}, map[string]bool{}, 0}
				}
				b.wide[k].parties[name], b.wide[k].resources[r.ID] = true, true
				b.wide[k].pairs++
			}
		}
		if mine["gained"] {
			b.parties.Gained++
		}
		if mine["lost"] {
			b.parties.Lost++
		}
		if mine["otherwise"] {
			b.parties.Otherwise++
		}
		if had && !has {
			b.stopped++
		}
		if has && !had {
			b.started++
		}
	}
	return b
}

// bruteNewcomers asks every typical newcomer everything that needs no role, and whether
// one may be invited.
func bruteNewcomers(w *world.World, before, after *engine.Snapshot, at moment.Moment) map[string]int {
	out := map[string]int{}
	seen := map[engine.Who]bool{}
	all := resourcesOf(w)
	invite, _ := catalogue.ActionByName("directory.invite")
	ours := world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	for _, n := range append(append([]engine.Newcomer{}, before.NewcomersAt(at)...), after.NewcomersAt(at)...) {
		if seen[n.Who] {
			continue
		}
		seen[n.Who] = true
		ask := func(q engine.Question) {
			v, e0 := before.Decide(&q)
			x, e1 := after.Decide(&q)
			v.Yes, x.Yes = v.Yes && e0 == nil, x.Yes && e1 == nil
			change := "otherwise"
			switch {
			case v.Yes == x.Yes && (!v.Yes || v.Conditions == x.Conditions):
				return
			case x.Yes && !v.Yes:
				change = "gained"
			case v.Yes && !x.Yes:
				change = "lost"
			}
			out[fmt.Sprint(n.Who, change, q.Action, q.Resource.Kind)]++
		}
		for _, act := range catalogue.Actions() {
			if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
				continue
			}
			for _, r := range all {
				if act.Takes(r.Kind) && (n.Who.Kind == engine.ByAddress || !byRole(&act, r.Kind)) { // a role may be their partner's as a whole
					ask(engine.Question{Subject: n.Who, Action: act.ID, Resource: r, At: at})
				}
			}
		}
		if n.Who.Kind == engine.ByAddress {
			for _, inviter := range []string{before.Inviter(ours), after.Inviter(ours)} {
				if inviter != "" {
					ask(engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: inviter}, Action: invite.ID, Resource: ours, Address: n.Who.Address,
						At: at})
					break
				}
			}
		}
	}
	return out
}

// enrich gives a random world what impacts could overlook: exceptions towards domains and
// addresses that nobody has a record at, contacts without a record, forwarders, courses.
func enrich(r *rand.Rand, w *world.World) {
	parse := func(s string) addr.Address {
		a, err := addr.Parse(s)
		if err != nil {
			panic(err)
		}
		return a
	}
	refs := []world.PartyRef{{Domain: parse("x@unheard.example").Domain()}, {Domain: parse("x@sub.firm0.example").Domain()},
		{Address: parse("nobody@unheard.example")}, {Address: parse("nobody@firm1.example")}, {Address: parse("nobody@homepost.example")}}
	for i := range w.Exceptions {
		if r.IntN(2) == 0 {
			w.Exceptions[i].Parties = []world.PartyRef{refs[r.IntN(len(refs))], refs[r.IntN(len(refs))]}
		}
	}
	for _, a := range []string{"met@firm0.example", "met@unheard.example", "met@homepost.example"} {
		w.Contacts = append(w.Contacts, world.Contact{Person: w.People[r.IntN(len(w.People))].ID, Party: parse(a), Accepted: r.IntN(4) > 0})
	}
	for range 4 {
		w.Forwarders = append(w.Forwarders, world.Forwarder{Mailbox: w.People[r.IntN(len(w.People))].ID,
			To:       parse([]string{"f1@homepost.example", "f2@firm0.example", "f3@firm1.example", "f4@unheard.example"}[r.IntN(4)]),
			KeepCopy: r.IntN(2) == 0, SetBy: []string{"person", "administrator"}[r.IntN(2)]})
	}
	for i := range w.Spaces {
		if r.IntN(4) == 0 {
			w.Spaces[i].Kind, w.Spaces[i].Joinable = world.Course, true
		}
	}
	for _, name := range []string{"mail.forward", "meetings.out", "spaces.join_out", "chat.federation", "meetings.remote_control",
		"meetings.present", "spaces.join_in", "mail.forward_set_by", "meetings.share_screen"} {
		if r.IntN(3) > 0 {
			continue
		}
		x := world.RuleSetting{Rule: catalogue.MustRule(name), Counts: catalogue.Unset}
		all := x.Rule.Get().Scale.All()
		x.Limit, x.Default = all[len(all)-1], all[r.IntN(len(all))]
		*w = *world.Merge(w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{x}}})
		for i := range w.Exceptions {
			if x.Rule.Get().Layers&catalogue.AtPeople != 0 && r.IntN(3) == 0 {
				w.Exceptions[i].Rules = append(slices.DeleteFunc(slices.Clone(w.Exceptions[i].Rules),
					func(s world.Setting) bool { return s.Rule == x.Rule }), world.Setting{Rule: x.Rule, Value: all[r.IntN(len(all))]})
			}
		}
	}
}

// bruteOutward asks every person of ours everything that they do elsewhere towards every
// typical newcomer, every forwarder, and every outsider what they may do in what each person
// presents.
func bruteOutward(w *world.World, before, after *engine.Snapshot, at moment.Moment) map[string]int {
	out := map[string]int{}
	differ := func(q engine.Question) string {
		v, e0 := before.Decide(&q)
		x, e1 := after.Decide(&q)
		v.Yes, x.Yes = v.Yes && e0 == nil, x.Yes && e1 == nil
		switch {
		case x.Yes && !v.Yes:
			return "gained"
		case v.Yes && !x.Yes:
			return "lost"
		case v.Yes && v.Conditions != x.Conditions:
			return "otherwise"
		}
		return ""
	}
	targets := map[string]engine.Who{}
	for _, n := range append(append([]engine.Newcomer{}, before.NewcomersAt(at)...), after.NewcomersAt(at)...) {
		targets[n.Who.String()] = n.Who
	}
	for _, side := range []*engine.Snapshot{before, after} { // whom one side knows is no newcomer
		all, _, err := side.Group("everybody", at)
		if err != nil {
			panic(err)
		}
		for _, who := range all {
			delete(targets, who.String())
		}
	}
	for _, name := range []string{"directory.accept_theirs", "spaces.join_theirs", "chat.message_theirs", "chat.call_theirs",
		"meetings.join_theirs", "mail.forward"} {
		act, _ := catalogue.ActionByName(name)
		for _, p := range w.People {
			for _, to := range targets {
				if to.Kind != engine.ByAddress {
					continue
				}
				if d := differ(engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: p.ID}, Action: act.ID,
					Resource: world.Resource{Kind: act.On[0], ID: p.ID}, Address: to.Address, At: at}); d != "" {
					out[fmt.Sprint(name, " ", to, " ", d)]++
				}
			}
		}
	}
	forward, _ := catalogue.ActionByName("mail.forward")
	seen := map[string]bool{}
	for _, f := range w.Forwarders {
		if key := f.Mailbox + " " + f.To.String(); !seen[key] {
			seen[key] = true
			if d := differ(engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: f.Mailbox}, Action: forward.ID,
				Resource: world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox}, Address: f.To, At: at}); d == "gained" || d == "lost" {
				out["forwarder "+key+" "+d]++
			}
		}
	}
	for _, name := range []string{"meetings.present", "meetings.remote_control"} {
		act, _ := catalogue.ActionByName(name)
		for _, text := range outsidersAt(w, before, at) {
			who, _ := engine.ParseWho(text)
			if _, apart := targets[text]; apart && who.Kind == engine.ByAddress {
				continue
			}
			if who.Kind == engine.ByLinkID {
				live := false
				for i := range w.Links {
					live = live || w.Links[i].ID == who.ID && moment.Within(at, w.Links[i].Created, w.Links[i].Until)
				}
				if !live {
					continue
				}
			}
			for _, p := range w.People {
				was, will := false, false
				for _, m := range w.Meetings {
					q := engine.Question{Subject: who, Action: act.ID, Resource: world.Resource{Kind: catalogue.Meeting, ID: m.ID}, At: at,
						Presenter: p.ID}
					v, e0 := before.Decide(&q)
					x, e1 := after.Decide(&q)
					was, will = was || e0 == nil && v.Yes, will || e1 == nil && x.Yes
				}
				if was != will {
					out[fmt.Sprint("presenters ", name, " ", map[bool]string{true: "gained", false: "lost"}[will])]++
				}
			}
		}
	}
	return out
}

// TestImpact compares impacts of random changes of policy with asking everything on
// both sides.
func TestImpact(t *testing.T) {
	granted, pairs, otherwise, links, lowered, newcomers, outward, compared := 0, 0, 0, 0, 0, 0, 0, 0
	what := ""
	first := uint64(3000)
	if *impacts > 0 {
		if first = *randomSeed; first == 0 {
			first = uint64(time.Now().UnixNano())
		}
		defer func() { t.Logf("%d lines of impacts compared, from seed %d", compared, first) }()
	}
	for seed := first; seed < first+200 || compared < *impacts; seed++ {
		if *impacts > 0 && seed%100 == 0 {
			fmt.Fprintf(os.Stderr, "%d of %d lines of impacts, from seed %d\n", compared, *impacts, first)
		}
		r := rand.New(rand.NewPCG(seed, 7))
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 16 + 20*int(seed%3), Grants: 90, Holdings: 12, Spaces: 6, Items: 30, Partners: 4, People: 6, Groups: 3,
				Meetings: 5, Links: 40, Exceptions: 8}, now))
		stillIn(w)
		for i := range w.Links {
			w.Links[i].For = nil
		}
		if seed%2 == 0 {
			for i := range w.Rules {
				all := w.Rules[i].Rule.Get().Scale.All()
				if s := w.Rules[i].Rule.Get().Scale.Shape; s == catalogue.Level || s == catalogue.Switch {
					w.Rules[i].Limit = all[len(all)-1]
				}
			}
		}
		if seed%4 == 1 && seed%3 != 0 {
			someDates(r, w)
		} else if seed%4 > 1 || seed%3 == 0 { // nothing that is counted comes in between
			w.DatesFrom = append(w.DatesFrom, world.DatesFrom{From: now + 400*86400e6})
		}
		if seed%5 == 0 { // drives whose owners have exceptions
			for i := range w.Spaces {
				w.Spaces[i].Kind = world.Drive
			}
			for i := range w.Exceptions {
				w.Exceptions[i].Rules = []world.Setting{{Rule: catalogue.MustRule("files.drive_given_to"), Value: catalogue.Value(i % 3)}}
			}
		}
		if seed%2 == 1 {
			enrich(r, w)
		}
		before := engine.Of(w)
		next, change := altered(r, w)
		what = fmt.Sprintf("seed %d:%s", seed, change)
		e := before.Aside()
		real := before
		if seed%3 == 0 { // as it is published: what becomes too loose is held back
			for i := range w.Spaces {
				for _, x := range w.Spaces[i].Rules {
					scale := &x.Rule.Get().Scale
					for k := range next.Rules {
						if all := scale.All(); next.Rules[k].Rule == x.Rule && !x.Held && len(all) > 2 && scale.Looser(x.Value, all[1]) {
							next.Rules[k].Limit, next.Rules[k].Default, next.Rules[k].Counts = all[1], all[0], catalogue.Unset
							lowered++
						}
					}
				}
			}
			next = world.Merge(next, &world.World{})
			real = engine.Of(next)
			policy := *next
			policy.Spaces, policy.Meetings = nil, nil
			next = &policy
			e.HoldBack()
		}
		at := now + moment.Moment(r.IntN(3)-1)*20*86400e6
		e.SetPolicy(next)
		e.ActForward(at)
		after := e.Done()
		if real == before {
			real = after
		}
		want := bruteImpact(t, w, before, real, at)
		lines := map[string]int{}
		got, err := engine.ImpactOf(before, after, at, func(l *engine.ImpactLine) bool {
			if l.Wide {
				return true
			}
			for _, act := range catalogue.Actions() {
				if l.Actions.Has(act.ID) {
					lines[fmt.Sprint(l.Who, l.Change, act.Name, l.Resource)]++
				}
			}
			return true
		}, goOn, nil)
		if err != nil {
			t.Fatal(err)
		}
		for _, act := range catalogue.Actions() {
			m := engine.Moves{}
			if x := want.granted[act.ID]; x != nil {
				m = *x
			}
			if got.Granted[act.ID] != m {
				t.Fatalf("%s\n%s: %+v, asked one by one %+v", what, act.Name, got.Granted[act.ID], m)
			}
			granted += m.Gained + m.Lost
			otherwise += m.Otherwise
		}
		same := func(name string, got, want map[string]*engine.Moves) {
			t.Helper()
			for k, m := range want {
				if got[k] == nil || *got[k] != *m {
					t.Fatalf("%s\n%s %q: %+v, asked one by one %+v", what, name, k, got[k], *m)
				}
			}
			if len(got) != len(want) {
				t.Fatalf("%s\n%s: %v, asked one by one %v", what, name, got, want)
			}
		}
		same("kinds", got.Kinds, want.kinds)
		same("partners", got.Partners, want.partners)
		same("spaces", got.Spaces, want.spaces)
		for k, n := range want.lines {
			if lines[k] != n {
				t.Fatalf("%s\nno line for %s", what, k)
			}
		}
		compared += len(lines)
		if len(lines) != len(want.lines) {
			t.Fatalf("%s\n%d lines, asked one by one %d", what, len(lines), len(want.lines))
		}
		if seed%4 == 0 {
			told, asked := map[string]int{}, bruteNewcomers(w, before, real, at)
			for _, n := range got.Newcomers {
				told[fmt.Sprint(n.Newcomer.Who, n.Change, n.Action, n.Kind)] += n.Count
			}
			for k, n := range asked {
				if told[k] != n {
					t.Fatalf("%s\ntypical newcomers: %s: %d, asked one by one %d", what, k, told[k], n)
				}
			}
			if len(told) != len(asked) {
				t.Fatalf("%s\ntypical newcomers: %v, asked one by one %v", what, told, asked)
			}
			newcomers += len(asked)
		}
		if true {
			told, asked := map[string]int{}, bruteOutward(w, before, real, at)
			for _, m := range got.Outward {
				told[fmt.Sprint(m.Action, " ", m.Target.Who, " ", m.Change)] += m.People
			}
			for _, f := range got.Forwarders {
				told["forwarder "+f.Mailbox+" "+f.To.String()+" "+map[bool]string{true: "gained", false: "lost"}[f.Starts]]++
			}
			for _, m := range got.Presenters {
				if m.Pairs > 0 {
					told[fmt.Sprint("presenters ", m.Action, " ", m.Change)] += m.Pairs
				}
			}
			for k, n := range asked {
				if told[k] != n {
					t.Fatalf("%s\nof ours: %s: %d, asked one by one %d", what, k, told[k], n)
				}
			}
			if len(told) != len(asked) {
				t.Fatalf("%s\nof ours: %v, asked one by one %v", what, told, asked)
			}
			outward += len(asked)
		}
		seen := 0
		for change, sums := range map[string][]engine.WideSum{"gained": got.WideGained, "lost": got.WideLost, "otherwise": got.WideOtherwise} {
			for _, s := range sums {
				if s.Scope != "" {
					continue
				}
				seen++
				x := want.wide[fmt.Sprintf("%s %s %s", change, s.Action, s.Kind)]
				if x == nil || x.pairs != s.Pairs || len(x.parties) != s.Parties || len(x.resources) != s.Resources {
					t.Fatalf("%s\n%s %+v, asked one by one %+v", what, change, s, x)
				}
				pairs += s.Pairs
			}
		}
		if seen != len(want.wide) {
			t.Fatalf("%s\n%d wide sums, asked one by one %d", what, seen, len(want.wide))
		}
		if len(got.LinksStopped) != want.stopped || len(got.LinksStarted) != want.started {
			t.Fatalf("%s\nlinks %v stop, %v start; asked one by one %d and %d", what, got.LinksStopped, got.LinksStarted, want.stopped, want.started)
		}
		links += want.stopped + want.started
		if len(got.WideGained)+len(got.WideLost)+len(got.WideOtherwise) == seen && got.Parties != want.parties {
			t.Fatalf("%s\nparties %+v, asked one by one %+v", what, got.Parties, want.parties)
		}
		// Nothing changes from a policy to itself, and the way back is the way there.
		back, err := engine.ImpactOf(after, before, at, nil, goOn, nil)
		if err != nil {
			t.Fatal(err)
		}
		x, y := got.Total(), back.Total()
		if x.Gained != y.Lost || x.Lost != y.Gained || x.Otherwise != y.Otherwise {
			t.Fatalf("%s\nthere %+v, back %+v", what, x, y)
		}
		if none, _ := engine.ImpactOf(before, before, at, nil, goOn, nil); !none.Nothing() {
			t.Fatalf("%s: a policy differs from itself: %+v", what, none)
		}
	}
	if granted < 1000 || pairs < 2000 || otherwise < 20 || links < 5 || outward < 200 {
		t.Errorf("%d granted, %d pairs, %d otherwise, %d links, %d of ours", granted, pairs, otherwise, links, outward)
	}
	w := engine.Of(worldgen.Generate(1, worldgen.Size{Guests: 10}, now))
	enough := errors.New("enough")
	if _, err := engine.ImpactOf(w, w, now, nil, func() error { return enough }, nil); !errors.Is(err, enough) {
		t.Errorf("stopped: %v", err)
	}
}

// TestWide compares the numbers of wide actions with asking everything.
func TestWide(t *testing.T) {
	for seed := uint64(3200); seed < 3260; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 60, Grants: 60, Spaces: 4, Items: 8, Partners: 3, People: 6, Groups: 3, Meetings: 12, Links: 6, Exceptions: 12},
			now))
		s := engine.Of(w)
		sums, err := s.Wide(now, goOn)
		if err != nil {
			t.Fatal(err)
		}
		nothing := engine.Of(&world.World{Policy: world.Policy{Organisation: w.Organisation}})
		want := bruteImpact(t, w, nothing, s, now)
		seen := 0
		for _, x := range sums {
			if x.Scope != "" {
				continue
			}
			seen++
			y := want.wide[fmt.Sprintf("gained %s %s", x.Action, x.Kind)]
			if y == nil || y.pairs != x.Pairs || len(y.parties) != x.Parties || len(y.resources) != x.Resources {
				t.Fatalf("seed %d: %+v, asked one by one %d %d %d", seed, x, len(y.parties), len(y.resources), y.pairs)
			}
		}
		if seen != len(want.wide) {
			t.Fatalf("seed %d: %d sums, asked one by one %d", seed, seen, len(want.wide))
		}
	}
}
