package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// reaches asks whether a rule reaches the value it needs. Scales are ordered
// from tight to loose, so that one comparison does for all of them; methods,
// which are sets, are not asked here.
func (a *asker) reaches(r catalogue.RuleID, need catalogue.Value, in *about) {
	v, chain := a.ruleIs(catalogue.RuleGate, r, in)
	code := catalogue.RuleMet
	if v < need {
		code = catalogue.RuleShort
	}
	if c := a.note(catalogue.RuleGate, v < need, code); c != nil {
		c.rule(chain, v, need)
		a.chainWho(c, chain)
	}
}

// secret asks a rule that may require something to be there, and adds the
// condition that it is asked for where it is. A passcode or a password that is
// there is asked for, whether or not a rule requires it.
func (a *asker) secret(r catalogue.RuleID, has bool, missing catalogue.Code, cond catalogue.Condition, in *about) {
	v, chain := a.ruleIs(catalogue.RuleGate, r, in)
	code := catalogue.RuleSays
	if v == required && !has {
		code = missing
	}
	if has {
		a.cond |= cond
	}
	if c := a.note(catalogue.RuleGate, code == missing, code); c != nil {
		c.rule(chain, v, v)
		a.chainWho(c, chain)
	}
}

// forwarder finds whether a copy stays and who set the forwarder up. One that
// is set up already answers both; one to come keeps a copy unless the question
// says otherwise, and is set by whoever asks. An administrator who asks counts
// as such in both cases.
func (a *asker) forwarder() (keeps bool, by catalogue.Value) {
	inv := &a.s.inv
	keeps, by = !a.q.DropsCopy, setByStaff
	l := inv.people.at(a.target).sends
	for i := range inv.forwarders[l.off : l.off+l.n] {
		if f := &inv.forwarders[l.off+uint32(i)]; f.to == a.other.index && a.other.index != none {
			keeps = f.keepCopy
			if f.byAdmin {
				by = setByAdministrators
			}
		}
	}
	if inv.people.at(a.person).roles&world.Administrator != 0 {
		by = setByAdministrators
	}
	return
}

// grant asks for a role, a link or ownership. It is gate 6. What has to be held
// is in the row of the catalogue: a role for what is done with things, the link
// itself for whoever comes with one, oneself or one's own mailbox for what
// people of ours do.
//
// Whoever may invite into a space is its owner, an administrator, or, where the
// space can be joined, any member; a guest who is in it may in that case, too.
// Where somebody approved a bundle that is not asked: the approval stands for
// it.
func (a *asker) grant(ask *catalogue.Ask) {
	inv := &a.s.inv
	// pass notes a cause of a yes or of a no.
	pass := func(ok bool, yes, no catalogue.Code) *Cause {
		code := yes
		if !ok {
			code = no
		}
		return a.note(catalogue.GrantGate, !ok, code)
	}
	switch ask.Holding {
	case catalogue.ByRole:
		a.byRole(ask)
	case catalogue.ByLink:
		a.byLink(ask)
	case catalogue.Self, catalogue.OwnMailbox:
		if c := pass(a.target == a.person, catalogue.IsSelf, catalogue.NotSelf); c != nil {
			c.A, c.Who = inv.text.text(inv.people.at(a.person).name), WhoParty
		}
	case catalogue.MemberOfSpace:
		if c := pass(a.member(a.person), catalogue.IsMember, catalogue.NotMember); c != nil {
			c.A, c.B = inv.text.text(inv.people.at(a.person).name), inv.text.text(inv.spaces.at(a.space).name)
			a.owned(c)
		}
	case catalogue.JoinableCourse:
		sp := inv.spaces.at(a.space)
		if c := pass(sp.takesJoiners(), catalogue.IsJoinable, catalogue.NotJoinable); c != nil {
			c.A = inv.text.text(sp.name)
			a.owned(c)
		}
	case catalogue.MayInvite:
		if a.space == none || a.q.Approved {
			return
		}
		sp := inv.spaces.at(a.space)
		ok := false
		if a.class == catalogue.Ours {
			ok = a.owns(a.person) || inv.people.at(a.person).roles&world.Administrator != 0 || sp.joinable && a.member(a.person)
		} else if sp.joinable {
			a.findRoles()
			ok = a.spaceRole > catalogue.NoRole
		}
		if c := pass(ok, catalogue.MayInviteHere, catalogue.NotInviter); c != nil {
			c.A, c.B = a.q.Subject.String(), inv.text.text(sp.name)
			a.owned(c)
		}
	}
}

// byRole asks for a role on the thing or its space. A private item takes only
// what is on itself. What is missing is told as exactly as can be: a grant that
// is over, one to come, one that is too low, or none at all. Each has another
// remedy: to prolong, to wait, to raise, to give.
func (a *asker) byRole(ask *catalogue.Ask) {
	inv := &a.s.inv
	if a.space == none { // a meeting that belongs to none
		if c := a.note(catalogue.GrantGate, true, catalogue.MeetingAlone); c != nil {
			m := inv.meetings.at(a.target)
			c.A, c.Who, c.WhoID = inv.text.text(m.name), WhoOwner, inv.personIDs.text(inv.text, m.host)
		}
		return
	}
	a.findRoles()
	private := a.q.Resource.Kind.IsItem() && inv.items.at(a.target).private
	role := a.itemRole
	if !private {
		role = max(role, a.ofSpace())
	}
	ok := role >= ask.Role
	// Nobody wants to know which grant it was.
	if a.rec == nil {
		a.note(catalogue.GrantGate, !ok, catalogue.HasGrant)
		return
	}
	code := catalogue.HasGrant
	var g *grant
	var its *beside
	var through via
	var group partyRef
	switch {
	// What gives it; where nothing does, what comes nearest.
	case ok:
		g, its, through, group = a.findGrant(role, private, true)
	case private && a.ofSpace() >= ask.Role:
		code = catalogue.PrivateItem
	case role > catalogue.NoRole:
		code = catalogue.RoleTooLow
	default:
		code = catalogue.NoGrant
		if g, its, _, _ = a.findGrant(ask.Role, private, false); g != nil {
			code = catalogue.GrantOver
			if a.at < g.begin(its) {
				code = catalogue.GrantAhead
			}
		} else if private && a.ofSpace() > catalogue.NoRole {
			code = catalogue.PrivateItem
		}
	}
	c := a.note(catalogue.GrantGate, !ok, code)
	a.owned(c)
	c.A, c.B = a.resourceName(), ask.Role.String()
	switch code {
	case catalogue.HasGrant:
		c.A, c.B = a.grantName(g, its, through, group), role.String()
		c.When = g.end(its)
		if b := a.s.bundleNamed(g, its); b != nil && through == viaGrant {
			c.Bundle = b.ID
		}
	case catalogue.RoleTooLow:
		c.A = role.String()
	case catalogue.NoGrant:
		c.A, c.B = a.party.address.String(), a.resourceName()
	case catalogue.GrantOver:
		c.When = g.end(its)
	case catalogue.GrantAhead:
		c.When = g.begin(its)
	}
}

// findGrant finds a grant that gives at least role: live, or among those that
// are not. Of several the one that ends last, since it is the one that keeps
// the answer; of those that are over it is the one that ended last.
func (a *asker) findGrant(role catalogue.Role, private, live bool) (best *grant, its *beside, through via, holder partyRef) {
	inv := &a.s.inv
	look := func(given []grant, b *beside, t via, of partyRef) {
		for i := range given {
			g := &given[i]
			here := g.resource == a.space && !private || a.q.Resource.Kind.IsItem() && g.resource == a.target|itemBit
			if !here || g.role() < role || g.live(a.at, b) != live {
				continue
			}
			if best == nil || g.end(b) > best.end(its) {
				best, its, through, holder = g, b, g.via(), of
				if t != viaGrant {
					through = t
				}
			}
		}
	}
	if p := a.party.known; p != nil {
		look(inv.given(p.grants), &inv.beside, viaGrant, partyRef{})
		for _, gr := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
			look(inv.given(inv.groups.at(gr).grants), &inv.beside, viaGroup, partyRef{ofGroup, gr})
		}
		if a.party.supposed {
			look(a.q.With.grants, &a.q.With.beside, viaGrant, partyRef{})
		}
	}
	if a.class == catalogue.Federated {
		inv.heldByMany(a.party.partner, a.domainOf(&a.party), func(of partyRef, given []grant) { look(given, &inv.beside, viaMany, of) })
	}
	return
}

// grantName says through what a grant is held: it begins a sentence.
func (a *asker) grantName(g *grant, its *beside, through via, holder partyRef) string {
	inv := &a.s.inv
	where := "A grant on " + a.resourceName()
	if g.resource&itemBit == 0 {
		where = "A grant on " + inv.text.text(inv.spaces.at(g.resource).name)
	}
	if b := a.s.bundleNamed(g, its); b != nil && through == viaGrant {
		return where + " through the bundle " + b.Name
	}
	switch through {
	case viaLink:
		return "The link " + inv.linkIDs.text(inv.text, g.detail(its).link)
	case viaGroup:
		return where + " through the group " + inv.text.text(inv.groups.at(holder.index).name)
	case viaMany:
		return where + " for " + a.s.manyName(holder)
	}
	return where
}

// resourceName is the name of what was asked about, or its id where it has
// none.
func (a *asker) resourceName() string {
	inv := &a.s.inv
	switch k := a.q.Resource.Kind; {
	case k.IsItem():
		return inv.text.text(inv.items.at(a.target).name)
	case k == catalogue.Space:
		return inv.text.text(inv.spaces.at(a.target).name)
	case k == catalogue.Meeting:
		return inv.text.text(inv.meetings.at(a.target).name)
	}
	return a.q.Resource.String()
}

// byLink asks whether the link is for this item, live, and has the right.
//
// It ends at its own end or after the days that the rule allows, whichever
// comes first; a link of which nobody knows when it was made could be of any
// age, and opens nothing.
func (a *asker) byLink(ask *catalogue.Ask) {
	l := a.held
	in := a.own()
	days, daysChain := a.ruleIs(catalogue.GrantGate, ruleLinkDays, &in)
	end := l.until
	if days != catalogue.NoLimit && l.created != moment.Always {
		end = min(end, moment.EndOfDays(moment.DayOf(l.created, a.s.pol.zone), int(days), a.s.pol.zone))
	}
	code, when := catalogue.LinkLive, end
	switch {
	case l.item != a.target:
		code, when = catalogue.LinkElsewhere, moment.Never
	case l.created == moment.Always:
		code, when = catalogue.LinkUndated, moment.Never
	case a.at < l.created:
		code, when = catalogue.LinkAhead, l.created
	case a.at >= end:
		code = catalogue.LinkOver
	}
	if c := a.note(catalogue.GrantGate, code != catalogue.LinkLive, code); c != nil {
		c.A, c.When = a.q.Subject.ID, when
		c.rule(daysChain, days, days)
		a.owned(c)
	}
	v, chain := a.ruleIs(catalogue.GrantGate, ruleLinkRight, &in)
	// The rule's scale begins with view, as roles do behind none.
	right := min(l.right, catalogue.Role(v)+catalogue.View)
	code = catalogue.RuleSays
	if right < ask.Role {
		code = catalogue.LinkRightLow
	}
	if c := a.note(catalogue.GrantGate, right < ask.Role, code); c != nil {
		c.rule(chain, v, catalogue.Value(ask.Role-catalogue.View))
		c.A, c.B = a.q.Subject.ID, right.String()
		a.owned(c)
	}
}

// LinkCounts returns the right that a link has as the rules have it, and when
// it ends: those that name people have what they were given. It is what lists
// of links show, so that they say what decisions do.
func (s *Snapshot) LinkCounts(l *world.Link) (right catalogue.Role, until moment.Moment, err error) {
	right, until = l.Right, l.Until
	if !l.Bearer() {
		return right, until, nil
	}
	c := Context{Resource: l.Item, At: l.Created}
	most, err := s.ChainOf(ruleLinkRight, c)
	if err != nil {
		return right, until, err
	}
	days, err := s.ChainOf(ruleLinkDays, c)
	if err != nil {
		return right, until, err
	}
	right = min(right, catalogue.Role(most.Effective())+catalogue.View)
	if n := days.Effective(); n != catalogue.NoLimit && l.Created != moment.Always {
		until = min(until, moment.EndOfDays(moment.DayOf(l.Created, s.pol.zone), int(n), s.pol.zone))
	}
	return right, until, nil
}

// licenceRoute is the route that a guest's own licence opens, as a method of
// reports.licence; 0 for none. One of ours counts only where we know from where
// it is used.
func (p *party) licenceRoute() catalogue.Value {
	switch {
	case p.licence == world.LicenceOurs && p.flags&hasLocation != 0:
		return routeOurs
	case p.licence == world.LicenceTheirs:
		return routeTheirs
	}
	return 0
}

// licence asks for a licence route. It is gate 7, and reports alone ask it. A
// licence of the area, one of ours (which needs to know where the guest is) or
// one that the guest brings: any of them that the rule allows is enough.
//
// Without a route a report that was given stays dark, and nobody is told by the
// report: that is why it is a finding as well.
func (a *asker) licence() {
	if !a.act.Licence {
		return
	}
	in := a.own()
	v, chain := a.ruleIs(catalogue.LicenceGate, ruleLicence, &in)
	var has catalogue.Value
	if a.space != none && a.s.inv.spaces.at(a.space).house {
		has |= routeHouse
	}
	if a.isRecord() {
		has |= a.party.known.licenceRoute()
	}
	code := catalogue.LicenceRoute
	if v&has == 0 {
		code = catalogue.NoLicenceRoute
	}
	if c := a.note(catalogue.LicenceGate, v&has == 0, code); c != nil {
		c.rule(chain, v, v)
		c.A, c.B, c.Who = a.q.Subject.String(), ruleLicence.Get().Scale.Format(has), WhoAdministrator
		if v&has != 0 {
			c.B = ruleLicence.Get().Scale.Format(v & has)
		}
	}
}
