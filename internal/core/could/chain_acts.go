package could

import (
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// The acts that a chain may be made of. They are listed around the target, and
// not around everything: who owns its space or could, who of ours might invite,
// what places say, which bundles give it. A list of at most 160 stands for what
// thousands of people could do, because of people who are alike one is enough.

// add takes an act into the list, once. 160 acts are the most: the sets that
// are tried are of a few of them, and a list that long comes of a space with
// crowds of members, who are alike anyway.
func (f *finder) add(a Act) {
	if len(f.all) < 160 && !slices.ContainsFunc(f.all, func(b Act) bool { return a == b }) {
		f.all = append(f.all, a)
	}
}

// person is somebody of ours as who acts.
func person(id string) engine.Who { return engine.Who{Kind: engine.ByPerson, ID: id} }

// around lists the acts that may matter to the target. What they need to be, or
// to know of, elsewhere is added later, by elsewhereIn and others.
func (f *finder) around() {
	r := f.t.Resource
	if f.t.Who.Kind != engine.ByAddress {
		f.link()
		return
	}
	f.record()
	switch {
	case r.Kind == catalogue.Space:
		f.space(r.ID, nil)
	case r.Kind.IsItem():
		f.space(f.base.SpaceOf(r.ID), &r)
	case r.Kind == catalogue.Meeting:
		f.values(r, catalogue.AtItem)
		// A meeting that names domains is opened to any; one without a passcode
		// gets one, since a rule may ask for it. Where both keep the party out,
		// both acts are listed.
		for _, o := range first(f.base.OwnersHere(r, f.at)) {
			d := f.base.DoorOf(r)
			if d.Domains {
				f.add(Act{Kind: AnySignIn, By: person(o), Resource: r})
			}
			if !d.Passcode {
				f.add(Act{Kind: Passcode, By: person(o), Resource: r})
			}
		}
		// What is done in a meeting with a role needs one on its space.
		if _, space := f.base.HostOf(r.ID); space != "" && engine.NeedsRole(f.t.Action, r.Kind) > catalogue.NoRole {
			f.space(space, nil)
		}
	case r.Kind == catalogue.Person:
		f.add(Act{Kind: Contact, By: person(r.ID), Party: f.party})
	}
}

// first returns the first of a list, or nothing. Owners of one thing can all do
// the same.
func first(list []string) []string { return list[:min(1, len(list))] }

// record lists the acts that may give the party a record, whatever the place.
// An invitation into the directory alone is enough for a record; whoever of
// ours may send one, one of each sort of them is asked.
func (f *finder) record() {
	f.add(Act{Kind: Accept, By: engine.Who{Address: f.party}, Party: f.party})
	f.add(Act{Kind: SignUp, By: engine.Who{Address: f.party}, Party: f.party})
	for _, id := range f.p.OneOfEachHere() {
		a := Act{Kind: Invite, By: person(id), Resource: ourOwn, Party: f.party}
		if a.May(f.base, f.at) {
			f.add(a)
			break
		}
	}
}

// values lists the values that may be set at a place. Each is set as loose as
// its limit lets it. Only rules that may be set at that layer, that are asked
// on the way, and that do not stand there already.
func (f *finder) values(r world.Resource, layer catalogue.Layers) {
	owners := f.base.OwnersHere(r, f.at)
	if len(owners) == 0 {
		return
	}
	for i := range catalogue.Rules() {
		rule := &catalogue.Rules()[i]
		if rule.Layers&layer == 0 || rule.Scale.Shape == catalogue.Choice || !f.matters(rule.ID) {
			continue
		}
		limit, _, _, _ := f.base.RuleState(rule.ID)
		// It says the loosest already.
		if f.base.Says(r, rule.ID) == limit {
			continue
		}
		f.add(Act{Kind: SetValue, By: person(owners[0]), Resource: r, Rule: rule.ID, Value: limit})
	}
}

// matters reports whether a rule is asked by the target, or by an act that
// leads to it: besides inviting and joining, sharing and what a newcomer does
// with what is shared with them.
func (f *finder) matters(r catalogue.RuleID) bool {
	for _, a := range catalogue.AskedBy(r) {
		act := a.Get()
		if a == f.t.Action || a == invite || a == joinCourse || passing[act.Service()] && (act.Address || act.Asks[catalogue.Newcomer] != nil) {
			return true
		}
	}
	return false
}

// passing tells the services whose things are passed on one by one. Files and
// reports are given to somebody by name; everything else is reached by being in
// a space.
var passing = [catalogue.NumServices]bool{catalogue.Files: true, catalogue.Reports: true}

// space lists the acts in a space that may matter; item is what of it the
// target is about.
//
// The acts are of four sorts: owners loosen the space or the item; somebody
// already inside lets the party in; the party comes in by itself; and a bundle
// brings them in.
func (f *finder) space(id string, item *world.Resource) {
	r := world.Resource{Kind: catalogue.Space, ID: id}
	me := engine.Who{Address: f.party}
	owners := f.base.OwnersHere(r, f.at)
	f.values(r, catalogue.AtSpace)
	d := f.base.DoorOf(r)
	for _, o := range first(owners) {
		if d.Names {
			f.add(Act{Kind: Admit, By: person(o), Resource: r, Party: f.party})
		}
		if !d.Joinable {
			f.add(Act{Kind: LetJoin, By: person(o), Resource: r})
		}
	}
	if item != nil {
		f.values(*item, catalogue.AtItem)
		if f.base.DoorOf(*item).Private {
			for _, o := range first(owners) {
				f.add(Act{Kind: MakeOpen, By: person(o), Resource: *item})
			}
		}
	}
	if f.base.KindOfSpace(id) == world.Course {
		f.add(Act{Kind: JoinCourse, By: me, Resource: r, Party: f.party, Role: f.base.JoinsAs(id)})
	}
	for _, o := range first(owners) {
		// Who holds too low a role already is given a higher one.
		if f.base.OwnRole(f.party, r, f.at) < f.role || f.base.KindOfSpace(id) == world.Course {
			f.add(Act{Kind: Raise, By: person(o), Resource: r, Party: f.party, Role: f.role})
		}
		if item != nil && (f.base.OwnRole(f.party, *item, f.at) > catalogue.NoRole || f.bundleGives(*item)) {
			f.add(Act{Kind: Raise, By: person(o), Resource: *item, Party: f.party, Role: f.role})
		}
	}
	f.bundles(id, item, f.party)
	doers := f.doers(id)
	if item != nil {
		if share, ok := engine.PassedOnBy(item.Kind); ok {
			for _, w := range doers {
				f.add(Act{Kind: Share, By: w, Resource: *item, Party: f.party, Role: f.role})
			}
			// Sharing a report is a matter of who may share reports, not of who
			// is in the area.
			if share.Get().Service() == catalogue.Reports { // whoever shares reports need not be in the area
				for _, id := range f.p.OneOfEachHere() {
					f.add(Act{Kind: Share, By: person(id), Resource: *item, Party: f.party, Role: f.role})
				}
			}
			f.add(Act{Kind: Become, By: me, Resource: *item, Party: f.party})
		} else if f.base.DoorOf(*item).Private {
			for _, w := range doers {
				f.add(Act{Kind: Invite, By: w, Resource: *item, Party: f.party, Role: f.role})
			}
		}
	}
	for _, w := range doers {
		f.add(Act{Kind: Invite, By: w, Resource: r, Party: f.party, Role: f.role})
	}
	// Where a file is shared with them there, they become a guest, and can act
	// with a record elsewhere.
	if item == nil && f.t.Resource != r { // a place to become known in
		for _, it := range f.p.ItemsIn(id) {
			f.values(it, catalogue.AtItem)
			for _, w := range doers {
				f.add(Act{Kind: Share, By: w, Resource: it, Party: f.party, Role: catalogue.View})
			}
			f.add(Act{Kind: Become, By: me, Resource: it, Party: f.party})
		}
	}
}

// bundles lists, for somebody, the bundles that give a space or something in
// it, and what owners may set at whatever else they give. A bundle of several
// things is taken as a whole or not at all: what its other spaces ask has to be
// let as well.
func (f *finder) bundles(id string, item *world.Resource, who addr.Address) {
	for i := range f.base.Policy().Bundles {
		b := &f.base.Policy().Bundles[i]
		if !f.base.BundleFor(b, who) || !slices.ContainsFunc(b.Gives, func(g world.Gift) bool {
			in := g.Resource.ID == id && g.Resource.Kind == catalogue.Space || g.Resource.Kind.IsItem() && f.base.SpaceOf(g.Resource.ID) == id
			return in && (item == nil || !g.Resource.Kind.IsItem() || g.Resource == *item || f.elsewhere())
		}) {
			continue
		}
		a, ok := takeBundle(f.base, b, who, f.at)
		if !ok {
			continue
		}
		f.add(a)
		for _, g := range b.Gives {
			if g.Resource.Kind == catalogue.Space && g.Resource.ID != id {
				f.values(g.Resource, catalogue.AtSpace)
				if owners := f.base.OwnersHere(g.Resource, f.at); len(owners) > 0 && f.base.DoorOf(g.Resource).Names {
					f.add(Act{Kind: Admit, By: person(owners[0]), Resource: g.Resource, Party: who})
				}
			}
		}
	}
}

// bundleGives reports whether any bundle gives something on a resource itself.
func (f *finder) bundleGives(r world.Resource) bool {
	return slices.ContainsFunc(f.base.Policy().Bundles, func(b world.Bundle) bool {
		return slices.ContainsFunc(b.Gives, func(g world.Gift) bool { return g.Resource == r })
	})
}

// fewestApprovers is how many people could take the step of approving a bundle
// that fewest can take. It is what a chain says of how many could do it: the
// scarcest step decides.
func fewestApprovers(s *engine.Snapshot, bundle string, at moment.Moment) int {
	b, n := s.Policy().Bundle(bundle), 0
	for i, step := range s.ApprovedWithout(b, at) {
		if k := len(step.People); i == 0 || k < n {
			n = k
		}
	}
	return n
}

// doers lists who may invite and share in a space: an owner, one of each kind
// of member, one of each of our people who could join, and guests who are
// there.
//
// People who are alike in all that is asked of who invites (their roles,
// exceptions and groups) give the same answers, so one of each sort stands for
// all. Of outsiders who are there one of each partner, or domain, and role
// counts, eight at most.
func (f *finder) doers(id string) (out []engine.Who) {
	r := world.Resource{Kind: catalogue.Space, ID: id}
	alike := map[string]bool{}
	add := func(p string, owner bool) {
		// An owner is another sort than a member who is otherwise like them.
		key := fmt.Sprint(f.p.AlikeAs(p), owner)
		if !alike[key] {
			alike[key] = true
			out = append(out, person(p))
		}
	}
	for _, o := range f.base.OwnersHere(r, f.at) {
		add(o, true)
	}
	for _, m := range f.base.MembersHere(id, f.at) {
		add(m, false)
	}
	if f.p.MayJoin(id) {
		for _, p := range f.p.OneOfEachHere() {
			if add(p, false); len(out) > 0 && out[len(out)-1].ID == p && !f.base.BelongsTo(p, r) {
				f.add(Act{Kind: Join, By: person(p), Resource: r})
			}
		}
	}
	partners := map[string]bool{}
	for _, g := range f.base.GuestsIn(id, f.at) {
		if state, ok := stateOf(f.base, g, f.at); !ok || state != world.StateActive || g == f.party || len(partners) > 7 {
			continue
		}
		key := g.Domain().String()
		if m := f.base.Match(g); m.Partner != nil {
			key = m.Partner.ID
		}
		key += " " + f.base.HeldIn(g, id, f.at)
		if !partners[key] {
			partners[key] = true
			out = append(out, engine.Who{Address: g})
		}
	}
	return
}

// others lists acts through outsiders who would have to be let in first. A
// guest may share onward where rules let guests do so. Six of them are tried:
// they are classes, and any but the first few differ in what has no part in
// inviting.
func (f *finder) others() {
	if f.t.Who.Kind != engine.ByAddress {
		return
	}
	r := f.t.Resource
	id := r.ID
	if r.Kind.IsItem() {
		id = f.base.SpaceOf(id)
	} else if r.Kind != catalogue.Space {
		return
	}
	space := world.Resource{Kind: catalogue.Space, ID: id}
	n := 0
	for q := range f.p.OneOfEach() {
		who := q
		if who.IsNewcomer() {
			a, err := addr.Parse(helperTag + "@" + q.Domain().String())
			if err != nil {
				continue
			}
			who = a
		}
		if who == f.party {
			continue
		}
		if n++; n > 6 {
			return
		}
		me := engine.Who{Address: who}
		for _, w := range f.doers(id) {
			if w.Kind == engine.ByPerson {
				f.add(Act{Kind: Invite, By: w, Resource: space, Party: who, Role: catalogue.Contribute})
				if r.Kind.IsItem() {
					f.add(Act{Kind: Share, By: w, Resource: r, Party: who, Role: catalogue.Contribute})
				}
			}
		}
		for k, b := range f.p.BundlesOf(me) { // wherever they lead
			if a, ok := takeBundle(f.base, b, who, f.at); ok && k < 3 {
				f.add(a)
			}
		}
		f.add(Act{Kind: Accept, By: me, Party: who})
		f.add(Act{Kind: Become, By: me, Resource: r, Party: who})
		f.add(Act{Kind: Invite, By: me, Resource: space, Party: f.party, Role: f.role})
		if r.Kind.IsItem() {
			f.add(Act{Kind: Share, By: me, Resource: r, Party: f.party, Role: f.role})
		}
	}
}

// link lists the acts that lead to a link for whoever holds it. Whoever belongs
// to the space can make one; whoever could join it can do so first.
func (f *finder) link() {
	r := f.t.Resource
	f.values(r, catalogue.AtItem)
	if !r.Kind.IsItem() {
		for _, o := range first(f.base.OwnersHere(r, f.at)) {
			f.add(Act{Kind: AnySignIn, By: person(o), Resource: r})
			f.add(Act{Kind: Passcode, By: person(o), Resource: r})
		}
		return
	}
	id := f.base.SpaceOf(r.ID)
	space := world.Resource{Kind: catalogue.Space, ID: id}
	f.values(space, catalogue.AtSpace)
	for _, o := range first(f.base.OwnersHere(space, f.at)) {
		if !f.base.DoorOf(space).Joinable {
			f.add(Act{Kind: LetJoin, By: person(o), Resource: space})
		}
	}
	for _, w := range f.doers(id) {
		if w.Kind == engine.ByPerson {
			f.add(Act{Kind: MakeLink, By: w, Resource: r})
		}
	}
}
