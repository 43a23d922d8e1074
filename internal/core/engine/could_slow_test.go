package engine_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// slowCould performs every act that people and outsiders may make without an administrator or keeper, again and again until no
// act adds anything, on a copy of a world, asking the slow evaluator alone.
type slowCould struct {
	w        *world.World
	at       moment.Moment
	parties  []string // addresses, newcomers among them
	begun    map[string]bool
	ownedNow map[string]bool // by space
	before   []world.Holding // that there were before anybody did anything
}

func copyWorld(w *world.World) *world.World {
	x := *w
	x.People = slices.Clone(w.People)
	x.Spaces = slices.Clone(w.Spaces)
	for i := range x.Spaces {
		x.Spaces[i].Items = slices.Clone(x.Spaces[i].Items)
		x.Spaces[i].Members = slices.Clone(x.Spaces[i].Members)
	}
	x.Meetings, x.Guests, x.Grants = slices.Clone(w.Meetings), slices.Clone(w.Guests), slices.Clone(w.Grants)
	x.Links, x.Contacts, x.Holdings = slices.Clone(w.Links), slices.Clone(w.Contacts), slices.Clone(w.Holdings)
	return &x
}

func (c *slowCould) here(id string) bool {
	for _, p := range c.w.People {
		if p.ID == id {
			return p.Left == 0 || c.at < p.Left
		}
	}
	return false
}

// limitOf is the limit of a rule as the records say it.
func (c *slowCould) limitOf(r *catalogue.Rule) catalogue.Value {
	v := r.Limit
	for _, x := range c.w.Rules {
		if x.Rule == r.ID && x.Limit != catalogue.Unset {
			v = x.Limit
		}
	}
	return v
}

func (c *slowCould) loosest(layer string) (out []world.Setting) {
	for _, r := range catalogue.Rules() {
		// dates do not move
		if strings.Contains(r.Layers.String(), layer) && r.Scale.Shape.String() != "choice" && !strings.HasPrefix(r.Name, "guests.") {
			out = append(out, world.Setting{Rule: r.ID, Value: c.limitOf(&r)})
		}
	}
	return
}

func newSlowCould(w *world.World, at moment.Moment, parties []string) *slowCould {
	c := &slowCould{w: copyWorld(w), at: at, parties: parties, begun: map[string]bool{}, ownedNow: map[string]bool{}, before: w.Holdings}
	for i := range c.w.Spaces {
		sp := &c.w.Spaces[i]
		c.ownedNow[sp.ID] = slices.ContainsFunc(sp.Owners, c.here)
		if c.ownedNow[sp.ID] { // what owners set
			sp.Rules, sp.Parties, sp.Joinable = c.loosest("S"), nil, true
			if sp.Kind == world.Course {
				sp.JoinsAs = catalogue.Manage
			}
			for k := range sp.Items {
				sp.Items[k].Rules, sp.Items[k].Private = c.loosest("I"), false
			}
		}
	}
	for i := range c.w.Meetings {
		if m := &c.w.Meetings[i]; c.here(m.Host) {
			m.Rules, m.SignInDomains, m.SignInLists, m.Passcode = c.loosest("I"), nil, nil, true
		}
	}
	for i := range c.w.People {
		p := &c.w.People[i]
		p.Roles &^= world.Administrator | world.Keeper
		if !c.here(p.ID) {
			continue
		}
		for k := range c.w.Spaces { // whoever of ours wants to joins
			if sp := &c.w.Spaces[k]; sp.Joinable {
				sp.Members = append(sp.Members, world.Member{Person: p.ID})
			}
		}
		for _, a := range parties {
			if !strings.HasPrefix(a, "link:") {
				c.w.Contacts = append(c.w.Contacts, world.Contact{Person: p.ID, Party: c.address(a), Accepted: true})
			}
		}
	}
	for _, g := range c.w.Guests {
		c.begun[g.Address.String()] = true
	}
	return c
}

func (c *slowCould) address(text string) addr.Address {
	a, err := addr.Parse(text)
	if err != nil {
		panic(err)
	}
	return a
}

func (c *slowCould) yes(who, action, resource, about string) bool {
	got := (&slow{c.w}).answer(asked{who: who, action: action, resource: resource, at: c.at, address: about})
	return !got.wrong && len(got.accounts) > 0 && got.accounts[0].refusing == ""
}

func (c *slowCould) state(a string) string {
	p := (&slow{c.w}).party(a, c.at)
	return p.state
}

func (c *slowCould) becomes(a string) bool {
	if c.state(a) != "" {
		return false
	}
	c.w.Guests = slices.DeleteFunc(c.w.Guests, func(g world.Guest) bool { return g.Address.String() == a })
	c.w.Guests = append(c.w.Guests, world.Guest{Address: c.address(a), State: world.StateActive, Origins: world.ByInvitation, Since: c.at,
		Accepted: c.at, Renewed: moment.Always, Until: moment.Never, Terms: moment.Never, LastSeen: c.at, StateSince: moment.Always})
	return true
}

func (c *slowCould) give(a string, r world.Resource, role catalogue.Role) bool {
	for i := range c.w.Grants {
		g := &c.w.Grants[i]
		if g.Group == "" && g.Address.String() == a && g.Resource == r && g.Role >= role && g.From == moment.Always {
			return false
		}
	}
	c.w.Grants = append(c.w.Grants, world.Grant{Address: c.address(a), Resource: r, Role: role, From: moment.Always, Until: moment.Never,
		Reviewed: moment.Always})
	return true
}

// mayTake reports whether an address could be given a bundle without a keeper: it is asked for, everybody who has to approves, and whoever
// owns what it gives could invite them there if anybody of ours could.
func (c *slowCould) mayTake(b *world.Bundle, a string) bool {
	p := (&slow{c.w}).party(a, c.at)
	if b.Closed || len(b.Gives) == 0 || len(b.Approval) == 0 || c.state(a) == "suspended" ||
		!b.Others && (p.partner == nil || !slices.Contains(b.Partners, p.partner.ID)) {
		return false
	}
	for _, h := range c.before { // what acts give keeps nothing from anybody: the order is free
		if h.Party.String() != a || h.Until <= c.at {
			continue
		}
		other := slices.IndexFunc(c.w.Bundles, func(x world.Bundle) bool { return x.ID == h.Bundle })
		if h.Bundle == b.ID || slices.Contains(b.NotWith, h.Bundle) || other >= 0 && slices.Contains(c.w.Bundles[other].NotWith, b.ID) {
			return false
		}
	}
	ownersOf := func(r world.Resource) (space string, here []string) {
		for i := range c.w.Spaces {
			sp := &c.w.Spaces[i]
			if r.Kind == catalogue.Space && sp.ID == r.ID ||
				slices.ContainsFunc(sp.Items, func(it world.Item) bool { return it.ID == r.ID && it.Kind == r.Kind }) {
				space = sp.ID
				for _, o := range sp.Owners {
					if c.here(o) {
						here = append(here, o)
					}
				}
			}
		}
		return
	}
	for _, step := range b.Approval {
		switch step {
		case "keeper", "administrator":
			return false
		case "sponsor":
			if _, here := ownersOf(b.Gives[0].Resource); len(here) == 0 {
				return false
			}
		case "owner":
			for _, g := range b.Gives {
				if _, here := ownersOf(g.Resource); len(here) == 0 {
					return false
				}
			}
		default:
			if !c.here(step) {
				return false
			}
		}
	}
	// The approval stands in for who may invite.
	rule := catalogue.MustRule("directory.invite_by")
	all := rule.Get().Scale.All()
	free := &slowCould{w: copyWorld(c.w), at: c.at}
	free.w = copyWorld(world.Merge(free.w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{{Rule: rule, Limit: all[len(all)-1],
		Default: all[len(all)-1], Counts: catalogue.Unset}}}}))
	for i := range free.w.Spaces {
		free.w.Spaces[i].Rules = slices.DeleteFunc(slices.Clone(free.w.Spaces[i].Rules), func(x world.Setting) bool { return x.Rule == rule })
	}
	asked := map[string]bool{}
	for _, g := range b.Gives {
		_, here := ownersOf(g.Resource)
		to := g.Resource.String()
		if g.Resource.Kind != catalogue.Space {
			to = "directory:ours"
		}
		if asked[to] {
			continue
		}
		if asked[to] = true; len(here) == 0 || !free.yes("person:"+here[0], "directory.invite", to, a) {
			return false
		}
	}
	return true
}

// take gives an address a bundle.
func (c *slowCould) take(b *world.Bundle, a string) bool {
	if slices.ContainsFunc(c.w.Holdings, func(h world.Holding) bool {
		return h.Party.String() == a && h.Bundle == b.ID && h.From == moment.Always
	}) {
		return false
	}
	c.w.Holdings = append(c.w.Holdings, world.Holding{Party: c.address(a), Bundle: b.ID, From: moment.Always, Until: moment.Never,
		Reviewed: moment.Always})
	return true
}

// round performs what can be performed once; without is an address that gets no record.
func (c *slowCould) round(parties []string, without string) (changed bool) {
	var doers []string
	for _, p := range c.w.People {
		if c.here(p.ID) {
			doers = append(doers, "person:"+p.ID)
		}
	}
	for _, a := range c.parties {
		if !strings.HasPrefix(a, "link:") && c.state(a) == "active" {
			doers = append(doers, a)
		}
	}
	anybody := func(action, resource, about string) bool {
		return slices.ContainsFunc(doers, func(d string) bool { return d != about && c.yes(d, action, resource, about) })
	}
	for _, a := range parties {
		if strings.HasPrefix(a, "link:") {
			continue
		}
		record := func() {
			if a != without && c.becomes(a) {
				changed = true
			}
		}
		if c.state(a) == "invited" {
			for i := range c.w.Guests {
				if g := &c.w.Guests[i]; g.Address.String() == a {
					g.State, g.Accepted, changed = world.StateActive, c.at, true
				}
			}
		}
		if c.state(a) == "" && c.yes(a, "directory.sign_up", "directory:ours", "") {
			record()
		}
		suspended := c.state(a) == "suspended"
		if a != without && !suspended && anybody("directory.invite", "directory:ours", a) {
			record()
		}
		for i := range c.w.Bundles {
			if b := &c.w.Bundles[i]; a != without && c.mayTake(b, a) {
				record()
				changed = c.take(b, a) || changed
			}
		}
		for i := range c.w.Spaces {
			sp := &c.w.Spaces[i]
			space := world.Resource{Kind: catalogue.Space, ID: sp.ID}
			if a != without && !suspended && anybody("directory.invite", space.String(), a) {
				record()
				changed = c.give(a, space, catalogue.Manage) || changed
				for _, it := range sp.Items {
					if _, passed := engine.PassedOnBy(it.Kind); !passed {
						changed = c.give(a, world.Resource{Kind: it.Kind, ID: it.ID}, catalogue.Manage) || changed
					}
				}
			}
			if sp.Kind == world.Course && c.yes(a, "spaces.join", space.String(), "") {
				role := sp.JoinsAs
				if role == catalogue.NoRole {
					role = catalogue.View
				}
				changed = c.give(a, space, role) || changed
			}
			for _, it := range sp.Items {
				r := world.Resource{Kind: it.Kind, ID: it.ID}
				action := map[string]string{"file": "files.share", "folder": "files.share", "report": "reports.share",
					"dashboard": "reports.share"}[it.Kind.String()]
				if action == "" || !anybody(action, r.String(), a) {
					continue
				}
				changed = c.give(a, r, catalogue.Manage) || changed
				if c.state(a) != "" || a == without {
					continue
				}
				for _, act := range catalogue.Actions() {
					if act.Takes(it.Kind) && !act.Address && c.yes(a, act.Name, r.String(), "") {
						record()
					}
				}
			}
			if c.ownedNow[sp.ID] { // an owner makes more of what somebody has
				held := func(r world.Resource) {
					x := &slowQuestion{slow: &slow{c.w}, at: c.at}
					_ = x
					for g := range (&slow{c.w}).held() {
						if g.Group == "" && !g.ToMany() && g.Address.String() == a && g.Resource == r && x.role(a, r.Kind.String(), r.ID) > 0 &&
							g.From <= c.at && c.at < g.Until {
							changed = c.give(a, r, catalogue.Manage) || changed
							break
						}
					}
					for _, l := range c.w.Links {
						if l.Item == r && slices.ContainsFunc(l.For, func(x addr.Address) bool { return x.String() == a }) && l.Created <= c.at &&
							c.at < l.Until {
							changed = c.give(a, r, catalogue.Manage) || changed
						}
					}
				}
				held(space)
				for _, it := range sp.Items {
					held(world.Resource{Kind: it.Kind, ID: it.ID})
				}
			}
		}
	}
	return
}

// TestCouldAgainstSlow compares what could come to be of random worlds with really performing every act to the end.
func TestCouldAgainstSlow(t *testing.T) {
	bundled := 0 // pairs that bundles alone make possible
	pairs, more, judged := 0, 0, map[expect.State]int{}
	for seed := uint64(3); seed < uint64(3+max(6, *couldWorlds)); seed++ { // in the first two worlds bundles add nothing
		w := couldWorld(seed)
		s := engine.Of(w)
		want := slowReached(w, s, now)
		p := s.Potential(now)
		closed := copyWorld(w)
		closed.Bundles = slices.Clone(w.Bundles)
		for i := range closed.Bundles {
			closed.Bundles[i].Closed = true
		}
		shut := engine.Of(closed).Potential(now)
		got := map[string]bool{}
		for a := range want {
			got[a] = false
		}
		var parties []string
		for _, a := range outsidersAt(w, s, now) {
			if !strings.HasPrefix(a, "link:") {
				parties = append(parties, a)
			}
		}
		bad := 0
		for _, a := range append(parties, "link:any") {
			who, _ := engine.ParseWho(a)
			for _, r := range resourcesOf(w) {
				set := p.Could(who, r)
				for _, act := range catalogue.Actions() {
					key := a + " " + act.Name + " " + r.String()
					if is := set.Has(act.ID); is != want[key] {
						if bad++; bad < 10 {
							t.Errorf("world %d: %s: could %t, slowly %t", seed, key, is, want[key])
						}
					}
					if set.Has(act.ID) {
						if !shut.Could(who, r).Has(act.ID) {
							bundled++
						}
						pairs++
						if q := (engine.Question{Subject: who, Action: act.ID, Resource: r, At: now}); who.Kind == engine.ByAddress {
							if v, err := s.Decide(&q); err == nil && !v.Yes {
								more++
							}
						}
					}
				}
			}
		}
		if bad > 0 {
			t.Errorf("world %d: %d wrong", seed, bad)
		}
		// expectations about one space with all in it, of everybody and of a partner
		of := map[string]string{}
		for i := range w.Spaces {
			of["space:"+w.Spaces[i].ID] = w.Spaces[i].ID
			for _, it := range w.Spaces[i].Items {
				of[it.Kind.String()+":"+it.ID] = w.Spaces[i].ID
			}
		}
		for _, m := range w.Meetings {
			of["meeting:"+m.ID] = m.Space
		}
		for i := range w.Spaces {
			for _, party := range []string{"everybody", "partner:" + w.Partners[0].ID} {
				x := world.Expectation{ID: "x", Party: party, Action: "*", Resource: "space:" + w.Spaces[i].ID, Could: true}
				st, err := expect.Of(&x)
				if err != nil {
					t.Fatal(err)
				}
				count := 0
				for key := range want {
					f := strings.Fields(key)
					in := party == "everybody"
					if !in && !strings.HasPrefix(f[0], "link:") {
						q := (&slow{w}).party(f[0], now)
						in = q.partner != nil && "partner:"+q.partner.ID == party
					}
					if in && of[f[2]] == w.Spaces[i].ID {
						count++
					}
				}
				byLink := false // a link that there is opens something
				for _, l := range w.Links {
					for _, act := range catalogue.Actions() {
						for _, r := range resourcesOf(w) {
							byLink = byLink || party == "everybody" && of[r.String()] == w.Spaces[i].ID && act.Takes(r.Kind) && !act.Address &&
								(&slowCould{w: w, at: now}).yes("link:"+l.ID, act.Name, r.String(), "")
						}
					}
				}
				n := 0
				if err := p.EachYes(&st.Scope, goOn, func(y *engine.Yes) error { n += y.Pairs; return nil }); err != nil || n != count {
					t.Errorf("world %d: %s in %s: %d, slowly %d (%v)", seed, party, w.Spaces[i].ID, n, count, err)
				}
				if err := expect.Judge(s, []*expect.Statement{st}, now, expect.Now, nil, func(_ int, j expect.Judged) {
					judged[j.State]++
					if (j.State == expect.Held) != (count == 0 && !byLink) || j.Could && j.Count != count {
						t.Errorf("world %d: %s in %s is %s %d, slowly %d", seed, party, w.Spaces[i].ID, j.State, j.Count, count)
					}
				}); err != nil {
					t.Fatal(err)
				}
			}
		}
		// all of it at once, as expectations count it
		all := map[string]int{}
		lookups := map[string]bool{}
		if err := p.EachYes(&engine.Scope{Actions: engine.InwardActions}, goOn, func(y *engine.Yes) error {
			who := []string{y.Who.String()}
			if len(y.Members) > 0 {
				who = nil
				for _, m := range y.Members {
					who = append(who, s.AddressAt(m).String())
				}
			}
			for _, a := range who {
				if y.Action.Get().Name == "directory.look_up" {
					lookups[a] = true
					continue
				}
				all[a+" "+y.Action.Get().Name] += y.Pairs / len(who)
			}
			return nil
		}); err != nil {
			t.Fatal(err)
		}
		counted, looked := map[string]int{}, map[string]bool{}
		for key := range want {
			f := strings.Fields(key)
			if f[1] == "directory.look_up" {
				looked[f[0]] = true
				continue
			}
			counted[f[0]+" "+f[1]]++
		}
		if fmt.Sprint(all) != fmt.Sprint(counted) || fmt.Sprint(lookups) != fmt.Sprint(looked) {
			for k, n := range counted {
				if all[k] != n {
					t.Errorf("world %d: %s counted %d, slowly %d", seed, k, all[k], n)
				}
			}
			for k, n := range all {
				if counted[k] == 0 {
					t.Errorf("world %d: %s counted %d, slowly none", seed, k, n)
				}
			}
			t.Errorf("world %d: look-ups %v, slowly %v", seed, lookups, looked)
		}
	}
	t.Logf("%d pairs could be, %d of them not yet, %d through bundles alone; judged %v", pairs, more, bundled, judged)
	if pairs < 1000 || more < 100 || bundled < 5 || judged[expect.Held] < 5 || judged[expect.Broken] < 5 {
		t.Errorf("only %d pairs could be, %d of them not yet; judged %v", pairs, more, judged)
	}
}
