package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// slowReached lists every (party, action, resource) that could come to be a yes.
func slowReached(w *world.World, s *engine.Snapshot, at moment.Moment) map[string]bool {
	out := map[string]bool{}
	var parties []string
	for _, a := range outsidersAt(w, s, at) {
		if !strings.HasPrefix(a, "link:") {
			parties = append(parties, a)
		}
	}
	all := newSlowCould(w, at, parties)
	for all.round(parties, "") {
	}
	resources := resourcesOf(w)
	note := func(c *slowCould, a string) {
		for _, act := range catalogue.Actions() {
			if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
				continue
			}
			for _, r := range resources {
				if act.Takes(r.Kind) && c.yes(a, act.Name, r.String(), "") {
					out[a+" "+act.Name+" "+r.String()] = true
				}
			}
		}
	}
	now := &slowCould{w: w, at: at}
	for _, a := range parties {
		note(now, a)
		note(all, a)
		if now.state(a) != "" {
			continue
		}
		// and as they are without a record
		bare := &slowCould{w: copyWorld(all.w), at: at, parties: parties, ownedNow: all.ownedNow, before: w.Holdings}
		bare.w.Holdings = slices.DeleteFunc(bare.w.Holdings, func(h world.Holding) bool { return h.Party.String() == a })
		for _, h := range w.Holdings {
			if h.Party.String() == a {
				bare.w.Holdings = append(bare.w.Holdings, h)
			}
		}
		bare.w.Guests = slices.DeleteFunc(bare.w.Guests, func(g world.Guest) bool { return g.Address.String() == a && !all.begun[a] })
		bare.w.Grants = slices.DeleteFunc(bare.w.Grants, func(g world.Grant) bool {
			return g.Group == "" && !g.ToMany() &&
				g.Address.String() == a
		})
		for _, g := range w.Grants {
			if g.Group == "" && !g.ToMany() && g.Address.String() == a {
				bare.w.Grants = append(bare.w.Grants, g)
			}
		}
		if all.begun[a] { // it is over, or not yet begun
			bare.w.Guests = slices.Clone(bare.w.Guests)
			for i := range bare.w.Guests {
				if bare.w.Guests[i].Address.String() == a {
					bare.w.Guests[i] = w.Guests[slices.IndexFunc(w.Guests, func(g world.Guest) bool { return g.Address.String() == a })]
				}
			}
		}
		for bare.round([]string{a}, a) {
		}
		note(bare, a)
	}
	// whoever holds a link that somebody makes
	for i := range all.w.Spaces {
		sp := &all.w.Spaces[i]
		maker := slices.ContainsFunc(sp.Owners, all.here) || slices.ContainsFunc(sp.Members, func(m world.Member) bool {
			return slices.ContainsFunc(all.w.People, func(p world.Person) bool {
				return all.here(p.ID) && (m.Person == p.ID || m.Group != "" && slices.Contains(p.Groups, m.Group))
			})
		})
		for _, it := range sp.Items {
			if maker && (it.Kind == catalogue.File || it.Kind == catalogue.Folder) {
				c := &slowCould{w: copyWorld(all.w), at: at}
				r := world.Resource{Kind: it.Kind, ID: it.ID}
				c.w.Links = append(c.w.Links, world.Link{ID: "any", Item: r, Right: catalogue.Contribute, Created: at, Until: moment.Never,
					Download: true, Password: true})
				for _, act := range catalogue.Actions() {
					if act.Takes(it.Kind) && !act.Address && act.Rows(it.Kind)[catalogue.Bearer] != nil && c.yes("link:any", act.Name, r.String(), "") {
						out["link:any "+act.Name+" "+r.String()] = true
					}
				}
			}
		}
	}
	all.w.Links = append(all.w.Links, world.Link{ID: "any", Item: world.Resource{Kind: catalogue.File, ID: "none"},
		Right: catalogue.Contribute, Created: at, Until: moment.Never, Download: true, Password: true})
	for _, m := range all.w.Meetings {
		for _, act := range catalogue.Actions() {
			if act.Takes(catalogue.Meeting) && !byRole(&act, catalogue.Meeting) && all.yes("link:any", act.Name, "meeting:"+m.ID, "") {
				out["link:any "+act.Name+" meeting:"+m.ID] = true
			}
		}
	}
	return out
}

// couldWorld is a small random world in which some things have no owner, some of ours have left, and outsiders may pass things on.
func couldWorld(seed uint64) *world.World {
	r := rand.New(rand.NewPCG(seed, 11))
	w := tiny(seed)
	enrich(r, w)
	for i := range w.Spaces {
		if r.IntN(3) == 0 && w.Spaces[i].Kind != world.Drive {
			w.Spaces[i].Owners = nil
			w.Spaces[i].Joinable = r.IntN(4) == 0
		}
		if r.IntN(4) == 0 {
			w.Spaces[i].Members = nil
		}
	}
	for i := range w.People {
		if r.IntN(6) == 0 {
			w.People[i].Left = now - 86400e6
		}
	}
	for _, name := range []string{"directory.invite_by", "directory.invite_domains", "files.reshare", "reports.reshare", "files.given_to",
		"reports.given_to", "reports.share_by", "directory.self_signup", "files.domains", "spaces.guests", "directory.guests",
		"directory.personal", "spaces.connect", "files.drive_given_to", "chat.presence", "directory.people_seen"} {
		if r.IntN(2) == 0 {
			continue
		}
		x := world.RuleSetting{Rule: catalogue.MustRule(name), Counts: catalogue.Unset}
		all := x.Rule.Get().Scale.All()
		x.Limit, x.Default = all[len(all)-1-min(r.IntN(3)*r.IntN(2), len(all)-1)], all[0]
		*w = *world.Merge(w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{x}}})
	}
	dated := func(x world.Setting) bool { return strings.HasPrefix(x.Rule.String(), "guests.") }
	for i := range w.Partners { // what the dates of a record come to once it is accepted is not looked at
		w.Partners[i].Rules = slices.DeleteFunc(slices.Clone(w.Partners[i].Rules), dated)
	}
	for i := range w.Spaces {
		w.Spaces[i].Rules = slices.DeleteFunc(slices.Clone(w.Spaces[i].Rules), dated)
	}
	for _, rule := range catalogue.Rules() {
		if all := rule.Scale.All(); strings.HasPrefix(rule.Name, "guests.") {
			loosest := catalogue.NoLimit
			if rule.Scale.Shape.String() != "days" {
				loosest = all[len(all)-1]
			}
			x := world.RuleSetting{Rule: rule.ID, Counts: catalogue.Unset, Limit: loosest, Default: loosest}
			*w = *world.Merge(w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{x}}})
		}
	}
	for i := range w.Exceptions {
		if r.IntN(2) == 0 {
			id := catalogue.MustRule([]string{"directory.personal", "files.drive_given_to", "meetings.outsiders"}[r.IntN(3)])
			w.Exceptions[i].Rules = append(slices.DeleteFunc(slices.Clone(w.Exceptions[i].Rules),
				func(s world.Setting) bool { return s.Rule == id }), world.Setting{Rule: id, Value: catalogue.Value(r.IntN(2))})
		}
	}
	someBundles(rand.New(rand.NewPCG(seed, 29)), w)
	return w
}

// someBundles adds bundles to a world that people of partners or anybody may ask for, and what some hold of them.
func someBundles(r *rand.Rand, w *world.World) {
	var gifts []world.Resource
	var parties []addr.Address
	for i := range w.Spaces {
		gifts = append(gifts, world.Resource{Kind: catalogue.Space, ID: w.Spaces[i].ID})
		for _, it := range w.Spaces[i].Items {
			gifts = append(gifts, world.Resource{Kind: it.Kind, ID: it.ID})
		}
	}
	for _, g := range w.Guests {
		parties = append(parties, g.Address)
	}
	for i := range 1 + r.IntN(2) {
		b := world.Bundle{ID: fmt.Sprint("set", i), Name: fmt.Sprint("Set ", i), Others: r.IntN(3) == 0, Closed: r.IntN(8) == 0,
			TermDays: catalogue.NoLimit, ReviewDays: catalogue.Unset}
		for range 1 + r.IntN(2) {
			g := world.Gift{Resource: gifts[r.IntN(len(gifts))], Role: catalogue.View + catalogue.Role(r.IntN(3))}
			if !slices.ContainsFunc(b.Gives, func(x world.Gift) bool { return x.Resource == g.Resource }) {
				b.Gives = append(b.Gives, g)
			}
		}
		for _, p := range w.Partners {
			if r.IntN(2) == 0 {
				b.Partners = append(b.Partners, p.ID)
			}
		}
		for range 1 + r.IntN(2) {
			if by := []string{"owner", "sponsor", w.People[r.IntN(len(w.People))].ID, "keeper"}[r.IntN(20)/6]; !slices.Contains(b.Approval, by) {
				b.Approval = append(b.Approval, by)
			}
		}
		if i > 0 && r.IntN(2) == 0 {
			b.NotWith = []string{"set0"}
		}
		w.Bundles = append(w.Bundles, b)
		if len(parties) > 0 && r.IntN(2) == 0 {
			h := world.Holding{Party: parties[r.IntN(len(parties))], Bundle: b.ID, From: moment.Always, Until: moment.Never, Reviewed: moment.Always}
			if r.IntN(3) == 0 {
				h.Until = now - 1
			}
			w.Holdings = append(w.Holdings, h)
		}
	}
	if len(w.Bundles) > 0 && r.IntN(3) > 0 { // otherwise they add little to what our people may do
		loosest := catalogue.Unset
		for name, most := range map[string]catalogue.Value{
			"directory.invite_by": 1, "files.given_to": 1, "directory.self_signup": 0, "directory.guests": loosest,
			"directory.invite_domains": loosest, "spaces.guests": loosest,
			"files.domains": loosest, "directory.sign_in": loosest,
		} {
			x := world.RuleSetting{Rule: catalogue.MustRule(name), Counts: catalogue.Unset, Limit: most, Default: most}
			if most == loosest {
				all := x.Rule.Get().Scale.All()
				x.Limit, x.Default = all[len(all)-1], all[len(all)-1]
			}
			*w = *world.Merge(w, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{x}}})
		}
	}
}
