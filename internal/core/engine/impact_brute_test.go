package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

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
