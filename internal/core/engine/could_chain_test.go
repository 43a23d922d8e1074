package engine_test

import (
	"errors"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// perform makes an act in a world if the account that it names may, as the records and the slow evaluator have it.
func (c *slowCould) perform(a *could.Act) bool {
	owner := func(list []string) bool { return slices.Contains(list, a.By.ID) && c.here(a.By.ID) }
	var space *world.Space
	var item *world.Item
	for i := range c.w.Spaces {
		sp := &c.w.Spaces[i]
		if a.Resource.Kind == catalogue.Space && sp.ID == a.Resource.ID {
			space = sp
		}
		for k := range sp.Items {
			if a.Resource.Kind.IsItem() && sp.Items[k].ID == a.Resource.ID {
				space, item = sp, &sp.Items[k]
			}
		}
	}
	var meeting *world.Meeting
	for i := range c.w.Meetings {
		if a.Resource.Kind == catalogue.Meeting && c.w.Meetings[i].ID == a.Resource.ID {
			meeting = &c.w.Meetings[i]
		}
	}
	to := a.Party.String()
	set := func(list *[]world.Setting) bool {
		if a.Rule.Get().Scale.Looser(a.Value, c.limitOf(a.Rule.Get())) {
			return false
		}
		*list = append(slices.DeleteFunc(slices.Clone(*list), func(x world.Setting) bool { return x.Rule == a.Rule }),
			world.Setting{Rule: a.Rule, Value: a.Value})
		return true
	}
	grant := func() bool {
		c.w.Grants = append(c.w.Grants, world.Grant{Address: a.Party, Resource: a.Resource, Role: a.Role, From: moment.Always,
			Until: moment.Never, Reviewed: moment.Always})
		return true
	}
	record := func(state world.State) {
		if c.becomes(to) && state == world.StateInvited {
			g := &c.w.Guests[len(c.w.Guests)-1]
			g.State, g.Accepted = state, moment.Never
		}
	}
	doer := a.By.String()
	switch a.Kind {
	case could.SetValue:
		switch {
		case meeting != nil:
			return meeting.Host == a.By.ID && c.here(a.By.ID) && set(&meeting.Rules)
		case item != nil:
			return owner(space.Owners) && set(&item.Rules)
		}
		return owner(space.Owners) && set(&space.Rules)
	case could.Admit:
		space.Parties = append(slices.Clone(space.Parties), world.PartyRef{Address: a.Party})
		return owner(space.Owners)
	case could.LetJoin:
		space.Joinable = true
		return owner(space.Owners)
	case could.MakeOpen:
		item.Private = false
		return owner(space.Owners)
	case could.AnySignIn:
		meeting.SignInDomains, meeting.SignInLists = nil, nil
		return meeting.Host == a.By.ID && c.here(a.By.ID)
	case could.Passcode:
		meeting.Passcode = true
		return meeting.Host == a.By.ID && c.here(a.By.ID)
	case could.Join:
		space.Members = append(slices.Clone(space.Members), world.Member{Person: a.By.ID})
		return space.Joinable && c.here(a.By.ID)
	case could.Contact:
		c.w.Contacts = append(c.w.Contacts, world.Contact{Person: a.By.ID, Party: a.Party, Accepted: true})
		return c.here(a.By.ID)
	case could.Invite:
		into := "directory:ours"
		if space != nil {
			into = "space:" + space.ID
		}
		if a.By.Kind == engine.ByPerson && !c.here(a.By.ID) || c.state(to) == "suspended" || !c.yes(doer, "directory.invite", into, to) {
			return false
		}
		record(world.StateInvited)
		return a.Role == catalogue.NoRole || grant()
	case could.Share:
		return (a.By.Kind != engine.ByPerson || c.here(a.By.ID)) &&
			c.yes(doer, map[string]string{"file": "files.share",
				"folder": "files.share"}[item.Kind.String()]+map[string]string{"report": "reports.share",
				"dashboard": "reports.share"}[item.Kind.String()], a.Resource.String(), to) && grant()
	case could.Raise:
		x := &slowQuestion{slow: &slow{c.w}, at: c.at}
		for g := range (&slow{c.w}).held() {
			if g.Group == "" && !g.ToMany() && g.Address == a.Party && g.Resource == a.Resource &&
				x.role(to, a.Resource.Kind.String(), a.Resource.ID) > 0 {
				return owner(space.Owners) && grant()
			}
		}
		for _, l := range c.w.Links {
			if l.Item == a.Resource && slices.Contains(l.For, a.Party) {
				return owner(space.Owners) && grant()
			}
		}
		return false
	case could.Accept:
		if c.state(to) != "invited" {
			return false
		}
		for i := range c.w.Guests {
			if g := &c.w.Guests[i]; g.Address == a.Party {
				g.State, g.Accepted = world.StateActive, c.at
			}
		}
		return true
	case could.TakeBundle:
		i := slices.IndexFunc(c.w.Bundles, func(b world.Bundle) bool { return b.ID == a.Bundle })
		for _, by := range append(strings.Fields(a.With), a.By.ID) {
			if !c.here(by) {
				return false
			}
		}
		if i < 0 || !c.mayTake(&c.w.Bundles[i], to) || !c.take(&c.w.Bundles[i], to) {
			return false
		}
		record(world.StateActive)
		return true
	case could.SignUp:
		if c.state(to) != "" || !c.yes(to, "directory.sign_up", "directory:ours", "") {
			return false
		}
		record(world.StateActive)
		return true
	case could.JoinCourse:
		return c.yes(to, "spaces.join", a.Resource.String(), "") &&
			(a.Role == space.JoinsAs || space.JoinsAs == catalogue.NoRole && a.Role == catalogue.View) && grant()
	case could.Become:
		may := false
		for _, act := range catalogue.Actions() {
			may = may || act.Takes(a.Resource.Kind) && !act.Address && c.yes(to, act.Name, a.Resource.String(), "")
		}
		if c.state(to) != "" || !may || !slices.Contains([]string{"file", "folder", "report", "dashboard"}, a.Resource.Kind.String()) {
			return false
		}
		record(world.StateActive)
		return true
	case could.MakeLink:
		c.w.Links = append(c.w.Links, world.Link{ID: "any", Item: a.Resource, Right: catalogue.Contribute, Created: c.at, Until: moment.Never,
			Download: true, Password: true})
		x := (&slow{c.w}).person(a.By.ID)
		return x != nil && c.here(a.By.ID) && memberOf(space, x) && c.yes("link:any", "files.open", a.Resource.String(), "")
	}
	return false
}

// fresh is a world as it is, in which nobody acts as administrator or keeper.
func freshCould(w *world.World, at moment.Moment) *slowCould {
	c := &slowCould{w: copyWorld(w), at: at, begun: map[string]bool{}, before: w.Holdings}
	for i := range c.w.People {
		c.w.People[i].Roles &^= world.Administrator | world.Keeper
	}
	return c
}

// someActs lists every act that one may think of in a small world for a party and a target, whoever makes it.
func someActs(w *world.World, t *could.Target, party addr.Address) (out []could.Act) {
	c := freshCould(w, now)
	people := []engine.Who{}
	for _, p := range w.People {
		if c.here(p.ID) {
			people = append(people, engine.Who{Kind: engine.ByPerson, ID: p.ID})
		}
	}
	doers := people
	for _, g := range w.Guests {
		if c.state(g.Address.String()) == "active" && g.Address != party {
			doers = append(doers[:len(doers):len(doers)], engine.Who{Address: g.Address})
		}
	}
	me := engine.Who{Address: party}
	values := func(r world.Resource, layer string, owners []string) {
		for _, o := range owners[:min(1, len(owners))] {
			for _, x := range c.loosest(layer) {
				out = append(out, could.Act{Kind: could.SetValue, By: engine.Who{Kind: engine.ByPerson, ID: o}, Resource: r, Rule: x.Rule,
					Value: x.Value})
			}
		}
	}
	for _, d := range doers {
		out = append(out, could.Act{Kind: could.Invite, By: d, Resource: world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}, Party: party})
	}
	out = append(out, could.Act{Kind: could.Accept, By: me, Party: party}, could.Act{Kind: could.SignUp, By: me, Party: party})
	for i := range w.Bundles {
		out = append(out, could.Act{Kind: could.TakeBundle, By: people[0], Party: party, Bundle: w.Bundles[i].ID})
	}
	for i := range w.Spaces {
		sp := &w.Spaces[i]
		r := world.Resource{Kind: catalogue.Space, ID: sp.ID}
		var owners []string
		for _, o := range sp.Owners {
			if c.here(o) {
				owners = append(owners, o)
			}
		}
		mine := t.Resource == r || slices.ContainsFunc(sp.Items, func(it world.Item) bool { return it.ID == t.Resource.ID })
		if mine {
			values(r, "S", owners)
		}
		for _, o := range owners[:min(1, len(owners))] {
			by := engine.Who{Kind: engine.ByPerson, ID: o}
			out = append(out, could.Act{Kind: could.Admit, By: by, Resource: r, Party: party}, could.Act{Kind: could.LetJoin, By: by, Resource: r},
				could.Act{Kind: could.Raise, By: by, Resource: r, Party: party, Role: catalogue.Manage})
		}
		role := sp.JoinsAs
		if role == catalogue.NoRole {
			role = catalogue.View
		}
		out = append(out, could.Act{Kind: could.JoinCourse, By: me, Resource: r, Party: party, Role: role})
		for _, d := range doers {
			out = append(out, could.Act{Kind: could.Invite, By: d, Resource: r, Party: party, Role: catalogue.Manage})
			if d.Kind == engine.ByPerson && mine {
				out = append(out, could.Act{Kind: could.Join, By: d, Resource: r})
			}
		}
		for _, it := range sp.Items {
			ir := world.Resource{Kind: it.Kind, ID: it.ID}
			_, passed := engine.PassedOnBy(it.Kind)
			for _, d := range doers {
				if passed {
					out = append(out, could.Act{Kind: could.Share, By: d, Resource: ir, Party: party, Role: catalogue.Manage})
				} else if ir == t.Resource {
					out = append(out, could.Act{Kind: could.Invite, By: d, Resource: ir, Party: party, Role: catalogue.Manage})
				}
			}
			out = append(out, could.Act{Kind: could.Become, By: me, Resource: ir, Party: party})
			if ir == t.Resource {
				values(ir, "I", owners)
				for _, o := range owners[:min(1, len(owners))] {
					by := engine.Who{Kind: engine.ByPerson, ID: o}
					out = append(out, could.Act{Kind: could.MakeOpen, By: by, Resource: ir},
						could.Act{Kind: could.Raise, By: by, Resource: ir, Party: party, Role: catalogue.Manage})
				}
			}
		}
	}
	for i := range w.Meetings {
		if m := &w.Meetings[i]; t.Resource.ID == m.ID {
			values(t.Resource, "I", []string{m.Host})
			by := engine.Who{Kind: engine.ByPerson, ID: m.Host}
			out = append(out, could.Act{Kind: could.AnySignIn, By: by, Resource: t.Resource},
				could.Act{Kind: could.Passcode, By: by, Resource: t.Resource})
		}
	}
	if t.Resource.Kind == catalogue.Person {
		out = append(out, could.Act{Kind: could.Contact, By: engine.Who{Kind: engine.ByPerson, ID: t.Resource.ID}, Party: party})
	}
	return
}

// TestCouldChains replays chains of random worlds step by step with the slow evaluator, leaves out each step, and looks for shorter ones.
func TestCouldChains(t *testing.T) {
	lengths, long := map[int]int{}, 0
	kinds := map[could.Kind]int{}
	for seed := uint64(1); seed <= uint64(max(12, *couldWorlds)); seed++ {
		r := rand.New(rand.NewPCG(seed, 19))
		w := couldWorld(seed)
		s := engine.Of(w)
		p := s.Potential(now)
		resources := resourcesOf(w)
		who := append(outsidersAt(w, s, now), "link:any")
		who = slices.DeleteFunc(who, func(a string) bool { return strings.HasPrefix(a, "link:") && a != "link:any" })
		for range 30 {
			a, _ := engine.ParseWho(who[r.IntN(len(who))])
			res := resources[r.IntN(len(resources))]
			set := p.Could(a, res)
			for _, act := range catalogue.Actions() {
				if !act.Takes(res.Kind) || !engine.InwardActions.Has(act.ID) || r.IntN(3) > 0 {
					continue
				}
				target := could.Target{Who: a, Action: act.ID, Resource: res}
				chain := could.Find(s, now, target)
				name := a.String() + " " + act.Name + " " + res.String()
				if (chain != nil) != set.Has(act.ID) {
					t.Fatalf("world %d: %s: could %t, a chain %v", seed, name, set.Has(act.ID), chain)
				}
				if chain == nil || chain.Now {
					continue
				}
				if len(chain.Acts) == 0 {
					if long++; !chain.Longer {
						t.Errorf("world %d: %s could be, and no way is found", seed, name)
					}
					continue
				}
				lengths[len(chain.Acts)]++
				party := a.Address
				subject := a.String()
				for _, x := range chain.Acts {
					kinds[x.Kind]++
					if x.Party.Domain() == a.Address.Domain() && !x.Party.IsZero() && a.Address.IsNewcomer() &&
						strings.HasPrefix(x.Party.String(), "somebody-new") {
						party = x.Party
						subject = party.String()
					}
				}
				replay := func(acts []could.Act, without int) (refused int, yes bool) {
					c := freshCould(w, now)
					if a.Kind != engine.ByAddress && !res.Kind.IsItem() { // whoever holds some link, which no act has to make
						c.w.Links = append(c.w.Links, world.Link{ID: "any", Item: world.Resource{Kind: catalogue.File, ID: "none"},
							Right: catalogue.Contribute, Created: now, Until: moment.Never, Download: true, Password: true})
					}
					for i := range acts {
						if i != without && !c.perform(&acts[i]) {
							return i, false
						}
					}
					return -1, c.yes(subject, act.Name, res.String(), "")
				}
				if at, yes := replay(chain.Acts, -1); !yes {
					t.Errorf("world %d: %s: step %d of %v fails", seed, name, at, chain.Acts)
					continue
				}
				for i := range chain.Acts {
					if _, yes := replay(chain.Acts, i); yes {
						t.Errorf("world %d: %s: step %d of %v can be left out", seed, name, i, chain.Acts)
					}
					if chain.Acts[i].Can < 1 {
						t.Errorf("world %d: %s: nobody can make step %d of %v", seed, name, i, chain.Acts)
					}
				}
				if a.Kind == engine.ByAddress && (len(chain.Acts) == 2 && (*couldWorlds > 0 || r.IntN(4) == 0) ||
					len(chain.Acts) == 3 && *couldWorlds > 0 && r.IntN(12) == 0) { // no shorter one
					all := someActs(w, &target, party)
					for i := range all {
						if _, yes := replay(all[i:i+1], -1); yes {
							t.Errorf("world %d: %s: %v is enough, found %v", seed, name, all[i], chain.Acts)
						}
						for k := range all {
							if len(chain.Acts) == 3 && k != i {
								if _, yes := replay([]could.Act{all[i], all[k]}, -1); yes {
									t.Errorf("world %d: %s: %v is enough, found %v", seed, name, []could.Act{all[i], all[k]}, chain.Acts)
								}
							}
						}
					}
				}
			}
		}
	}
	t.Logf("chains by length %v, longer %d, acts %v", lengths, long, kinds)
	if lengths[1] < 4 || lengths[2] < 4 || lengths[3] < 4 {
		t.Errorf("too few chains: %v", lengths)
	}
}

// TestCouldThroughSeveralPlaces finds ways that take more than one place besides the target's: becoming known in one, to be let into
// another, or a thing that is passed on in a space that is not the first of its class. The worlds are random ones in which no way was
// found before.
func TestCouldThroughSeveralPlaces(t *testing.T) {
	for _, c := range []struct {
		seed              uint64
		who, act, on, way string
	}{
		{49, "*@firm0.example", "directory.leave", "directory:ours", `person:u4 sets spaces.join_in to any at space:s0.
somebody-new@firm0.example joins space:s0.
person:u3 shares file:i5 with somebody-new@firm0.example, with the role view.
somebody-new@firm0.example opens file:i5, and becomes a guest.`},
		{51, "*@homepost.example", "directory.look_up", "person:u2", "longer than six acts"},
		{97, "nobody@homepost.example", "directory.sign_in", "directory:ours", `person:u4 sets directory.personal to on at space:s4.
person:u0 sets spaces.join_in to any at space:s0.
nobody@homepost.example joins space:s0.
person:u4 shares file:i7 with nobody@homepost.example, with the role view.
nobody@homepost.example opens file:i7, and becomes a guest.`},
	} {
		s := engine.Of(couldWorld(c.seed))
		who, err0 := engine.ParseWho(c.who)
		act, err1 := engine.ParseAction(c.act)
		on, err2 := engine.ParseResource(c.on)
		if err := errors.Join(err0, err1, err2); err != nil {
			t.Fatal(err)
		}
		chain := could.Find(s, now, could.Target{Who: who, Action: act, Resource: on})
		if chain == nil || chain.Now {
			t.Fatalf("world %d: %s %s %s: %+v", c.seed, c.who, c.act, c.on, chain)
		}
		var said []string
		if chain.Longer {
			said = append(said, "longer than six acts")
		}
		for i := range chain.Acts {
			said = append(said, chain.Acts[i].Text(engine.Who.String, world.Resource.String))
		}
		if got := strings.Join(said, "\n"); got != c.way {
			t.Errorf("world %d: %s %s %s:\n%s\nwant\n%s", c.seed, c.who, c.act, c.on, got, c.way)
		}
	}
}
