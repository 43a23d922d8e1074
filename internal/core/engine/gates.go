package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Rules that the gates ask by themselves, not through an entry of an action.
var (
	ruleGuests        = catalogue.MustRule("directory.guests")
	ruleFeedIn        = catalogue.MustRule("directory.feed_in")
	ruleSignIn        = catalogue.MustRule("directory.sign_in")
	ruleTerms         = catalogue.MustRule("directory.terms")
	ruleInviteDomains = catalogue.MustRule("directory.invite_domains")
	rulePersonal      = catalogue.MustRule("directory.personal")
	ruleSpaceGuests   = catalogue.MustRule("spaces.guests")
	ruleHeld          = catalogue.MustRule("meetings.held")
	ruleOutsiders     = catalogue.MustRule("meetings.outsiders")
	ruleBrowse        = catalogue.MustRule("reports.guest_browse")
	ruleLicence       = catalogue.MustRule("reports.licence")
	ruleGivenTo       = catalogue.MustRule("files.given_to")
	ruleDriveGivenTo  = catalogue.MustRule("files.drive_given_to")
	ruleBearer        = catalogue.MustRule("files.bearer_links")
	ruleDriveBearer   = catalogue.MustRule("files.drive_bearer_links")
	ruleLinkDays      = catalogue.MustRule("files.link_days")
	ruleLinkRight     = catalogue.MustRule("files.link_right")
)

// Values that the gates compare with, by what they mean on their scale.
const (
	levelClosed = catalogue.Value(0)
	levelListed = catalogue.Value(1)
	levelAny    = catalogue.Value(2)

	required = catalogue.Value(0)

	givenKnown     = catalogue.Value(1)
	givenNewcomers = catalogue.Value(2)

	outsidersKnown    = catalogue.Value(1)
	outsidersSignedIn = catalogue.Value(2)
	outsidersAnyone   = catalogue.Value(3)

	heldEverybody = catalogue.Value(0)
	heldStrangers = catalogue.Value(1)

	methodCode    = catalogue.Value(1)
	methodPartner = catalogue.Value(2)
	methodPrivate = catalogue.Value(4)

	classAdministrators = catalogue.Value(1)
	classIntroducers    = catalogue.Value(2)
	classStaff          = catalogue.Value(3)
	classGuests         = catalogue.Value(4)

	sharingAdministrators = catalogue.Value(1)
	sharingSharers        = catalogue.Value(2)
	sharingStaff          = catalogue.Value(3)

	seenShared = catalogue.Value(1)
	seenAll    = catalogue.Value(2)

	presenceContacts  = catalogue.Value(1)
	presenceEverybody = catalogue.Value(2)

	setByAdministrators = catalogue.Value(1)
	setByStaff          = catalogue.Value(2)
)

// note records that a gate was asked and what one of its questions answered.
// The cause it returns is nil when nobody wants to know.
func (a *asker) note(g catalogue.Gate, refuses bool, code catalogue.Code) *Cause {
	a.asked |= 1 << g
	if refuses {
		a.refused |= 1 << g
	}
	if a.rec == nil {
		return nil
	}
	return a.rec.add(g, refuses, code)
}

// ruleIs asks a rule and records it with its chain.
func (a *asker) ruleIs(g catalogue.Gate, r catalogue.RuleID, in *about) (catalogue.Value, *Chain) {
	if a.rec == nil {
		if ruleLayers[r]&a.below == 0 { // nothing below the partner can speak here
			return a.wide(r, in.party), nil
		}
		return a.value(r, in, nil), nil
	}
	c := a.rec.chain()
	return a.value(r, in, c), c
}

// wide returns the effective value where no layer below the partner speaks.
func (a *asker) wide(r catalogue.RuleID, party *outside) catalogue.Value {
	if party != nil && party.partner != none {
		return a.s.pol.rows[a.s.pol.partners[party.partner].alone][r] // the default where the rule has no partner layer
	}
	return a.s.pol.alone[r]
}

func (c *Cause) rule(chain *Chain, value, needed catalogue.Value) *Cause {
	c.Chain, c.Value, c.Needed = chain, value, needed
	return c
}

// own is the context of what the subject itself must be allowed.
func (a *asker) own() about {
	return about{party: &a.party, person: a.aboutWhom, space: a.space, near: a.near}
}

// of is the context of what is about the addressee, or else the subject.
func (a *asker) of(ask *catalogue.Ask) about {
	in := a.own()
	if ask.Of == catalogue.Addressee {
		in.party = &a.other
	}
	return in
}

func (a *asker) isRecord() bool { return a.class == catalogue.Record }

// identity asks who this is, the state of the record and a way to sign in.
func (a *asker) identity() {
	switch a.class {
	case catalogue.Ours:
		if c := a.note(catalogue.Identity, false, catalogue.PersonOfOurs); c != nil {
			c.A = a.s.inv.text.text(a.s.inv.people.at(a.person).name)
		}
		return
	case catalogue.Bearer:
		if c := a.note(catalogue.Identity, false, catalogue.LinkHolder); c != nil {
			c.A = a.q.Subject.ID
		}
		return
	case catalogue.Federated, catalogue.Personal, catalogue.Newcomer:
		if c := a.note(catalogue.Identity, false, catalogue.HomeAccount); c != nil {
			c.A, c.Who = a.party.address.String(), WhoParty
		}
		return
	}
	p := &a.party
	code, refuses := catalogue.RecordActive, false
	switch p.state {
	case world.StateInvited:
		code, refuses = catalogue.RecordInvited, !a.act.WhileInvited
	case world.StateSuspended:
		code, refuses = catalogue.RecordSuspended, true
	}
	if c := a.note(catalogue.Identity, refuses, code); c != nil {
		c.A, c.Who = p.address.String(), WhoAdministrator
		if code == catalogue.RecordInvited {
			c.Who = WhoParty
		}
		if code == catalogue.RecordSuspended {
			c.When, c.Why = p.known.out, a.s.inv.dates.at(p.index).why
		}
	}
	in := a.own()
	v, chain := a.ruleIs(catalogue.Identity, ruleSignIn, &in)
	serves := methodCode
	if p.partner != none {
		serves |= methodPartner
	}
	if p.private() {
		serves |= methodPrivate
	}
	usable := v & serves
	code = catalogue.SignInMethod
	if usable == 0 {
		code = catalogue.NoSignInMethod
	}
	if c := a.note(catalogue.Identity, usable == 0, code); c != nil {
		c.rule(chain, v, serves).A = p.address.String()
		if usable != 0 {
			c.Value = usable
		}
	}
	if usable == methodCode {
		a.cond |= catalogue.OneTimeCode
	}
	v, chain = a.ruleIs(catalogue.Identity, ruleTerms, &in)
	if v == required {
		code = catalogue.TermsAccepted
		if !a.s.pol.agreed(p.known.terms, a.at) {
			code = catalogue.TermsOpen
			a.cond |= catalogue.AcceptTerms
		}
		if c := a.note(catalogue.Identity, false, code); c != nil {
			c.rule(chain, v, v).Who = WhoParty
		}
	} else if c := a.note(catalogue.Identity, false, catalogue.RuleSays); c != nil {
		c.rule(chain, v, v)
	}
}

// bars asks whether an address is barred.
func (a *asker) bars(o *outside) {
	if o.bar == 0 {
		if c := a.note(catalogue.DomainGate, false, catalogue.NotBarred); c != nil {
			c.A = o.address.String()
		}
		return
	}
	b := &a.s.pol.source.Barred[o.bar-1]
	code := catalogue.BarredDomain
	if !b.Address.IsZero() {
		code = catalogue.BarredAddress
	}
	if c := a.note(catalogue.DomainGate, true, code); c != nil {
		c.A, c.B, c.Who = b.Key(), b.Reason, WhoAdministrator
	}
}

// standing asks whether the partner is active.
func (a *asker) standing(o *outside) {
	if o.partner == none {
		return
	}
	p := &a.s.pol.partners[o.partner]
	code := catalogue.StandingActive
	switch {
	case p.standing == world.Suspended:
		code = catalogue.StandingSuspended
	case p.standing == world.Ended && a.at >= a.s.pol.rest[o.partner].endedAt:
		code = catalogue.StandingEnded
	}
	if c := a.note(catalogue.DomainGate, code != catalogue.StandingActive, code); c != nil {
		src := a.s.pol.rest[o.partner].source
		c.A, c.Who, c.Partner = src.Name, WhoAdministrator, src.ID
	}
}

// openedNo asks whether the partner is closed by name for a key.
func (a *asker) openedNo(o *outside, k catalogue.Key) {
	if o.partner == none || a.s.pol.partners[o.partner].opened[k] != world.OpenNo {
		return
	}
	p := a.s.pol.rest[o.partner].source
	if c := a.note(catalogue.DomainGate, true, catalogue.OpenedNo); c != nil {
		c.A, c.B, c.Who, c.Partner = p.Name, k.String(), WhoAdministrator, p.ID
	}
}

// level asks a level of domains for a key; rule is NoRule for the fixed level listed.
func (a *asker) level(o *outside, rule catalogue.RuleID, k catalogue.Key, in *about) {
	v, chain := levelListed, (*Chain)(nil)
	if rule != catalogue.NoRule {
		v, chain = a.ruleIs(catalogue.DomainGate, rule, in)
	}
	code := catalogue.LevelMet
	name, partner := o.address.String(), ""
	opened := world.OpenUnset
	if o.partner != none {
		row := &a.s.pol.partners[o.partner]
		opened = row.opened[k]
		if a.rec != nil {
			src := a.s.pol.rest[o.partner].source
			name, partner = src.Name, src.ID
		}
	}
	switch {
	case v == levelClosed:
		code = catalogue.LevelClosed
	case v == levelAny:
	case o.partner == none:
		code = catalogue.NotListed
	case opened == world.OpenUnset:
		code = catalogue.NotOpened
	case opened == world.OpenNo:
		return // said already by openedNo
	}
	if c := a.note(catalogue.DomainGate, code != catalogue.LevelMet, code); c != nil {
		c.rule(chain, v, levelListed)
		c.A, c.B, c.Who, c.Partner = name, k.String(), WhoAdministrator, partner
		c.Private = code == catalogue.NotListed && o.private()
	}
}

// named reports whether directory.personal stands in for the level of ask.
func (a *asker) named(ask *catalogue.Ask) bool {
	if ask.Of == catalogue.Subject {
		return a.party.private() && (a.isRecord() || a.class == catalogue.Newcomer)
	}
	if !a.other.private() {
		return false
	}
	for i := range ask.Needs {
		if ask.Needs[i].Kind == catalogue.PrivateA {
			return true
		}
	}
	return false
}

// domain asks bars, standing, openings and the level of the action.
func (a *asker) domain(ask *catalogue.Ask) {
	if ask.Level == catalogue.None {
		a.meetingDomains()
		return
	}
	who := &a.party
	in := a.of(ask)
	intoSpace := ask.Holding == catalogue.MayInvite && a.space != none
	if ask.Of == catalogue.Addressee {
		who = &a.other
		if a.isRecord() { // the inviter's or sharer's own
			a.bars(&a.party)
			a.standing(&a.party)
			a.openedNo(&a.party, ask.Key)
			if intoSpace {
				a.openedNo(&a.party, catalogue.In(catalogue.Spaces))
			}
		}
	}
	a.bars(who)
	if ask.Level == catalogue.BarsOnly {
		return
	}
	a.standing(who)
	a.openedNo(who, ask.Key)
	for _, k := range ask.Also {
		a.openedNo(who, k)
	}
	if intoSpace {
		a.openedNo(who, catalogue.In(catalogue.Spaces))
	}
	named := a.named(ask)
	switch {
	case named:
	case ask.Level == catalogue.ByRule:
		a.level(who, ask.LevelRule, ask.Key, &in)
		if intoSpace {
			a.level(who, ask.LevelRule, catalogue.In(catalogue.Spaces), &in)
		}
	case ask.Level == catalogue.Listed:
		a.level(who, catalogue.NoRule, ask.Key, &in)
	}
	if a.class == catalogue.Newcomer && !named {
		a.level(who, ruleInviteDomains, ask.Key, &in)
	}
	if a.space != none && (ask.SpaceParty || a.solely(ask)) {
		a.spaceParties(ask, who)
	}
	a.meetingDomains()
}

// spaceParties asks whether the space admits this party.
func (a *asker) spaceParties(ask *catalogue.Ask, who *outside) {
	sp := a.s.inv.spaces.at(a.space)
	if sp.anyParty {
		return
	}
	if !ask.SpaceParty {
		who = &a.party // the role of the subject comes from the space
	}
	in := a.meant(a.s.inv.refs[sp.parties.off:sp.parties.off+sp.parties.n], who)
	code := catalogue.InSpaceParties
	if !in {
		code = catalogue.OutsideSpaceParties
	}
	if c := a.note(catalogue.DomainGate, !in, code); c != nil {
		c.A, c.B = who.address.String(), a.s.inv.text.text(sp.name)
		a.owned(c)
	}
}

// owned says that an owner of the space can change it.
func (a *asker) owned(c *Cause) {
	c.Who = WhoAdministrator
	if a.space == none {
		return
	}
	if sp := a.s.inv.spaces.at(a.space); sp.owners.n > 0 {
		c.Who, c.WhoID = WhoOwner, a.s.inv.personIDs.text(a.s.inv.text, a.s.inv.lists[sp.owners.off])
	}
}

// meetingDomains asks the sign-in domains of a meeting.
func (a *asker) meetingDomains() {
	if !a.act.MeetingDoor {
		return
	}
	inv := &a.s.inv
	m := inv.meetings.at(a.target)
	if m.domains.n == 0 {
		return
	}
	found := false
	if a.class != catalogue.Bearer {
		for _, d := range inv.lists[m.domains.off : m.domains.off+m.domains.n] {
			if d == a.party.domain || a.party.domain == none && inv.domains.text(inv.text, d) == a.party.address.Domain().String() {
				found = true
			}
		}
	}
	code := catalogue.SignInDomain
	if !found {
		code = catalogue.OtherSignInDomain
	}
	if c := a.note(catalogue.DomainGate, !found, code); c != nil {
		c.A = a.q.Subject.String()
		c.Who, c.WhoID = WhoOwner, inv.personIDs.text(inv.text, m.host)
	}
}

// counterpart asks the partner's own side.
func (a *asker) counterpart(ask *catalogue.Ask) {
	if !ask.Counterpart {
		return
	}
	who := &a.party
	if ask.Of == catalogue.Addressee {
		who = &a.other
	}
	if who.partner == none {
		return
	}
	a.stance(who, ask.Key, ask.Feature)
	if ask.Holding == catalogue.MayInvite && a.space != none {
		a.stance(who, catalogue.In(catalogue.Spaces), catalogue.NoFeature)
	}
}

func (a *asker) stance(who *outside, k catalogue.Key, f catalogue.Feature) {
	p := &a.s.pol.rest[who.partner]
	st := p.stance[k]
	code := catalogue.TheirsUnknown
	switch {
	case st.says == world.SaysRefuses:
		code = catalogue.TheirsRefuses
	case st.says == world.SaysAdmits && a.at < st.expires:
		code = catalogue.TheirsAdmits
		if f != catalogue.NoFeature && st.features != 0 && st.features&(1<<f) == 0 {
			code = catalogue.TheirsLacksFeature
		}
	}
	refuses := code == catalogue.TheirsRefuses || code == catalogue.TheirsLacksFeature
	if code == catalogue.TheirsUnknown {
		a.cond |= catalogue.CounterpartUnconfirmed
	}
	if c := a.note(catalogue.Counterpart, refuses, code); c != nil {
		c.Side, c.Who, c.WhoID, c.Partner = Theirs, WhoPartner, p.source.ID, p.source.ID
		c.A, c.B, c.Key = p.source.Name, k.String(), k
		if code == catalogue.TheirsLacksFeature {
			c.B = f.String()
		}
	}
}

// everyRecord asks the switch that every record is asked.
func (a *asker) everyRecord() {
	switch {
	case a.isRecord() && a.party.provisioned():
		a.open(ruleFeedIn, a.own())
	case a.isRecord(), a.class == catalogue.Newcomer:
		a.open(ruleGuests, a.own())
	}
}

// open asks a switch at the service gate.
func (a *asker) open(r catalogue.RuleID, in about) {
	v, chain := a.ruleIs(catalogue.ServiceGate, r, &in)
	code := catalogue.SwitchOn
	if v == 0 {
		code = catalogue.SwitchOff
	}
	if c := a.note(catalogue.ServiceGate, v == 0, code); c != nil {
		c.rule(chain, v, 1)
		a.chainWho(c, chain)
	}
}

// service asks the switches that open a service to a kind.
func (a *asker) service(ask *catalogue.Ask) {
	a.everyRecord()
	for _, r := range ask.Switches {
		a.open(r, a.of(ask))
	}
	switch {
	case ask.SpaceGuests && a.space != none:
		a.open(ruleSpaceGuests, a.of(ask))
	case a.solely(ask):
		a.open(ruleSpaceGuests, a.own())
	}
}

// solely reports whether, outside spaces.* and channels, the role comes only
// from a grant on the space.
func (a *asker) solely(ask *catalogue.Ask) bool {
	if ask.Holding != catalogue.ByRole || ask.SpaceParty || a.space == none || a.class == catalogue.Ours {
		return false
	}
	a.findRoles()
	private := a.q.Resource.Kind.IsItem() && a.s.inv.items.at(a.target).private
	return a.itemRole < ask.Role && a.spaceRole >= ask.Role && !private
}

// findRoles finds what live grants of the party give on the item and its space.
func (a *asker) findRoles() {
	if a.rolesFound {
		return
	}
	a.rolesFound = true
	p := a.party.known
	if p == nil {
		return
	}
	inv := &a.s.inv
	a.addRoles(inv.given(p.grants))
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		a.addRoles(inv.given(inv.groups.at(g).grants))
	}
	if a.party.supposed {
		a.addRoles(a.q.With.grants)
	}
}

func (a *asker) addRoles(given []grant) {
	onItem := a.target | itemBit
	isItem := a.q.Resource.Kind.IsItem()
	for i := range given {
		g := &given[i]
		if g.resource == a.space {
			if g.live(a.at) {
				a.spaceRole = max(a.spaceRole, g.role)
			}
		} else if isItem && g.resource == onItem && g.live(a.at) {
			a.itemRole = max(a.itemRole, g.role)
		}
	}
}

// hasJoined reports whether the party, without a record, holds a live grant on a
// course: it then counts as known.
func (a *asker) hasJoined(o *outside) bool {
	if o.known == nil || o.record {
		return false
	}
	inv := &a.s.inv
	on := func(given []grant) bool {
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(a.at) && inv.spaces.at(g.resource).kind == world.Course {
				return true
			}
		}
		return false
	}
	if on(inv.given(o.known.grants)) || o.supposed && on(a.q.With.grants) {
		return true
	}
	for _, g := range inv.lists[o.known.groups.off : o.known.groups.off+o.known.groups.n] {
		if on(inv.given(inv.groups.at(g).grants)) {
			return true
		}
	}
	return false
}

// inDrive returns the rule that replaces r in a drive.
func (a *asker) inDrive(r catalogue.RuleID) catalogue.RuleID {
	if a.space != none && a.s.inv.spaces.at(a.space).kind == world.Drive {
		switch r {
		case ruleGivenTo:
			return ruleDriveGivenTo
		case ruleBearer:
			return ruleDriveBearer
		}
	}
	return r
}

// rules asks every rule that governs the action.
func (a *asker) rules(ask *catalogue.Ask) {
	for i := range ask.Needs {
		n := &ask.Needs[i]
		in := a.of(ask)
		switch n.Kind {
		case catalogue.AtLeast:
			a.reaches(a.inDrive(n.Rule), n.Value, &in)
		case catalogue.AtPresenter:
			in.person = a.presenter
			a.reaches(n.Rule, n.Value, &in)
		case catalogue.AtOwn:
			in = a.own()
			a.reaches(n.Rule, n.Value, &in)
		case catalogue.GivenTo:
			a.reaches(a.inDrive(n.Rule), a.givenTo(ask), &in)
		case catalogue.InviterClass:
			a.reaches(n.Rule, a.inviterClass(), &in)
		case catalogue.PrivateA:
			if a.other.private() {
				a.reaches(rulePersonal, catalogue.On, &in)
			}
		case catalogue.Outsiders:
			a.outsiders(&in)
		case catalogue.Passcode:
			has := a.s.inv.meetings.at(a.target).passcode
			a.secret(n.Rule, has, catalogue.PasscodeMissing, catalogue.PasscodeAsked, &in)
		case catalogue.LinkPassword:
			has := a.held.password
			a.secret(n.Rule, has, catalogue.PasswordMissing, catalogue.PasswordAsked, &in)
		case catalogue.LinkDownload:
			a.reaches(n.Rule, catalogue.On, &in)
			if l := a.held; !l.download {
				if c := a.note(catalogue.RuleGate, true, catalogue.DownloadMissing); c != nil {
					c.A = a.q.Subject.ID
					a.owned(c)
				}
			}
		case catalogue.LookUp:
			need := seenAll
			if a.shares(a.target) {
				need = seenShared
			}
			a.reaches(n.Rule, need, &in)
		case catalogue.PresenceSeen:
			need := presenceEverybody
			if a.contact(a.target) {
				need = presenceContacts
			}
			a.reaches(n.Rule, need, &in)
		case catalogue.SharerClass:
			a.reaches(n.Rule, a.sharerClass(), &in)
		case catalogue.StandingRoom:
			if a.s.inv.meetings.at(a.target).standingRoom {
				a.reaches(n.Rule, catalogue.On, &in)
			}
		case catalogue.KeepCopy:
			keeps, _ := a.forwarder()
			a.secret(n.Rule, keeps, catalogue.CopyMissing, 0, &in)
		case catalogue.SetBy:
			_, by := a.forwarder()
			a.reaches(n.Rule, by, &in)
		}
	}
	if ask.Of == catalogue.Subject && a.party.private() {
		// directory.personal stands in for a level of domains; for a newcomer
		// also for directory.invite_domains, once.
		if a.class == catalogue.Newcomer || a.isRecord() && ask.Level == catalogue.ByRule {
			in := a.own()
			a.reaches(rulePersonal, catalogue.On, &in)
		}
	}
	if a.class == catalogue.Newcomer {
		a.cond |= catalogue.BecomesGuest | catalogue.SignIn
	}
	if a.act.SignsIn {
		a.cond |= catalogue.SignIn
	}
	if a.act.PresenterAsked {
		a.cond |= catalogue.PresenterAsked
	}
	if a.act.NoBrowsing {
		in := a.own()
		v, chain := a.ruleIs(catalogue.RuleGate, ruleBrowse, &in)
		if v == catalogue.Off {
			a.cond |= catalogue.NoBrowsing
		}
		if c := a.note(catalogue.RuleGate, false, catalogue.RuleSays); c != nil {
			c.rule(chain, v, v)
		}
	}
}

// reaches asks whether a rule reaches the value it needs.
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
// condition that it is asked for where it is.
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

func (a *asker) givenTo(ask *catalogue.Ask) catalogue.Value {
	who := &a.party
	if ask.Of == catalogue.Addressee {
		who = &a.other
	}
	if who.record || a.hasJoined(who) {
		return givenKnown
	}
	return givenNewcomers
}

func (a *asker) inviterClass() catalogue.Value {
	if a.class != catalogue.Ours {
		return classGuests
	}
	p := a.s.inv.people.at(a.person)
	switch {
	case p.roles&world.Administrator != 0:
		return classAdministrators
	case p.roles&world.Introducer != 0, a.space != none && a.owns(a.person):
		return classIntroducers
	}
	return classStaff
}

func (a *asker) sharerClass() catalogue.Value {
	p := a.s.inv.people.at(a.person)
	switch {
	case p.roles&world.Administrator != 0:
		return sharingAdministrators
	case p.roles&world.Sharer != 0, a.owns(a.person):
		return sharingSharers
	}
	return sharingStaff
}

// contact reports whether a person of ours and the party are accepted contacts.
func (a *asker) contact(person uint32) bool {
	if a.q.as != asItIs {
		return a.q.as == related
	}
	if a.party.index == none {
		return false
	}
	inv := &a.s.inv
	l := inv.people.at(person).contacts
	for _, p := range inv.lists[l.off : l.off+l.n] {
		if p == a.party.index {
			return true
		}
	}
	return false
}

// shares reports whether a person of ours owns or is a member of a space on
// which the party has a live grant.
func (a *asker) shares(person uint32) bool {
	if a.q.as != asItIs {
		return a.q.as == related
	}
	p := a.party.known
	if p == nil {
		return false
	}
	inv := &a.s.inv
	with := func(given []grant) bool {
		sum := uint32(0) // fetch all spaces, then all lists, before looking at any
		for i := range given {
			if r := given[i].resource; r&itemBit == 0 {
				sp := inv.spaces.at(r)
				sum += sp.owners.n + sp.members.n
			}
		}
		for i := range given {
			if r := given[i].resource; r&itemBit == 0 {
				sp := inv.spaces.at(r)
				if sp.owners.n+sp.members.n > 0 && sp.owners.off < uint32(len(inv.lists)) {
					sum += inv.lists[sp.owners.off]
				}
			}
		}
		a.fetched += sum
		for i := range given {
			g := &given[i]
			if g.resource&itemBit == 0 && g.live(a.at) && a.memberOf(g.resource, person) {
				return true
			}
		}
		return false
	}
	if with(inv.given(p.grants)) || a.party.supposed && with(a.q.With.grants) {
		return true
	}
	for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
		if with(inv.given(inv.groups.at(g).grants)) {
			return true
		}
	}
	return false
}

// owns reports whether a person of ours owns the space.
func (a *asker) owns(p uint32) bool { return a.ownerOf(a.space, p) }

// member reports whether a person of ours owns or is a member of the space.
func (a *asker) member(p uint32) bool { return a.memberOf(a.space, p) }

func (a *asker) ownerOf(space, p uint32) bool {
	l := a.s.inv.spaces.at(space).owners
	for _, o := range a.s.inv.lists[l.off : l.off+l.n] {
		if o == p {
			return true
		}
	}
	return false
}

func (a *asker) memberOf(space, p uint32) bool {
	if a.ownerOf(space, p) {
		return true
	}
	inv := &a.s.inv
	l, groups := inv.spaces.at(space).members, inv.people.at(p).groups
	for _, m := range inv.lists[l.off : l.off+l.n] {
		if m == p {
			return true
		}
		if m&itemBit != 0 {
			for _, g := range inv.lists[groups.off : groups.off+groups.n] {
				if g == m&^itemBit {
					return true
				}
			}
		}
	}
	return false
}

// outsiders asks who from outside may join, and who waits.
func (a *asker) outsiders(in *about) {
	known := a.isRecord()
	if !known && a.class != catalogue.Bearer {
		if p := a.party.partner; p != none && a.s.pol.partners[p].opened[catalogue.In(catalogue.Meetings)] == world.OpenYes {
			known = true
		} else {
			known = a.hasJoined(&a.party)
		}
	}
	need := outsidersSignedIn
	switch {
	case known:
		need = outsidersKnown
	case a.class == catalogue.Bearer:
		need = outsidersAnyone
	}
	a.reaches(ruleOutsiders, need, in)
	if a.class == catalogue.Federated || a.class == catalogue.Personal {
		if a.value(ruleOutsiders, in, nil) < outsidersAnyone {
			a.cond |= catalogue.SignIn
		}
	}
	v, chain := a.ruleIs(catalogue.RuleGate, ruleHeld, in)
	if v == heldEverybody || v == heldStrangers && !known {
		a.cond |= catalogue.HeldUntilAdmitted
	}
	if c := a.note(catalogue.RuleGate, false, catalogue.RuleSays); c != nil {
		c.rule(chain, v, v)
	}
}

// forwarder finds whether a copy stays and who set the forwarder up.
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

// grant asks for a role, a link or ownership.
func (a *asker) grant(ask *catalogue.Ask) {
	inv := &a.s.inv
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
		if c := pass(sp.joinable && sp.kind == world.Course, catalogue.IsJoinable, catalogue.NotJoinable); c != nil {
			c.A = inv.text.text(sp.name)
			a.owned(c)
		}
	case catalogue.MayInvite:
		if a.space == none {
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
		role = max(role, a.spaceRole)
	}
	ok := role >= ask.Role
	if a.rec == nil {
		a.note(catalogue.GrantGate, !ok, catalogue.HasGrant)
		return
	}
	code := catalogue.HasGrant
	var g *grant
	var through via
	var group uint32
	switch {
	case ok:
		g, through, group = a.findGrant(role, private, true)
	case private && a.spaceRole >= ask.Role:
		code = catalogue.PrivateItem
	case role > catalogue.NoRole:
		code = catalogue.RoleTooLow
	default:
		code = catalogue.NoGrant
		if g, _, _ = a.findGrant(ask.Role, private, false); g != nil {
			code = catalogue.GrantOver
			if a.at < g.from {
				code = catalogue.GrantAhead
			}
		} else if private && a.spaceRole > catalogue.NoRole {
			code = catalogue.PrivateItem
		}
	}
	c := a.note(catalogue.GrantGate, !ok, code)
	a.owned(c)
	c.A, c.B = a.resourceName(), ask.Role.String()
	switch code {
	case catalogue.HasGrant:
		c.A, c.B = a.grantName(g, through, group), role.String()
		c.When = g.end()
	case catalogue.RoleTooLow:
		c.A = role.String()
	case catalogue.NoGrant:
		c.A, c.B = a.party.address.String(), a.resourceName()
	case catalogue.GrantOver:
		c.When = g.end()
	case catalogue.GrantAhead:
		c.When = g.from
	}
}

// findGrant finds a grant that gives at least role: live, or the one nearest to
// the asked moment among those that are not.
func (a *asker) findGrant(role catalogue.Role, private, live bool) (best *grant, through via, group uint32) {
	inv := &a.s.inv
	look := func(given []grant, t via, gr uint32) {
		for i := range given {
			g := &given[i]
			here := g.resource == a.space && !private || a.q.Resource.Kind.IsItem() && g.resource == a.target|itemBit
			if !here || g.role < role || g.live(a.at) != live {
				continue
			}
			if best == nil || g.end() > best.end() {
				best, through, group = g, g.via, gr
				if t == viaGroup {
					through = viaGroup
				}
			}
		}
	}
	if p := a.party.known; p != nil {
		look(inv.given(p.grants), viaGrant, none)
		for _, gr := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
			look(inv.given(inv.groups.at(gr).grants), viaGroup, gr)
		}
		if a.party.supposed {
			look(a.q.With.grants, viaGrant, none)
		}
	}
	return
}

func (a *asker) grantName(g *grant, through via, group uint32) string {
	inv := &a.s.inv
	where := "A grant on " + a.resourceName()
	if g.resource&itemBit == 0 {
		where = "A grant on " + inv.text.text(inv.spaces.at(g.resource).name)
	}
	switch through {
	case viaLink:
		return "The link " + inv.linkIDs.text(inv.text, g.link)
	case viaGroup:
		return where + " through the group " + inv.text.text(inv.groups.at(group).name)
	}
	return where
}

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

// LinkCounts returns the right that a link has as the rules have it, and when it ends: those
// that name people have what they were given.
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

// licence asks for a licence route.
func (a *asker) licence() {
	if !a.act.Licence {
		return
	}
	in := a.own()
	v, chain := a.ruleIs(catalogue.LicenceGate, ruleLicence, &in)
	var has catalogue.Value
	if a.space != none && a.s.inv.spaces.at(a.space).house {
		has |= 1
	}
	if a.isRecord() {
		p := a.party.known
		if p.licence == world.LicenceOurs && p.flags&hasLocation != 0 {
			has |= 2
		}
		if p.licence == world.LicenceTheirs {
			has |= 4
		}
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
