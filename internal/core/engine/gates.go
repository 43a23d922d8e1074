package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// The gates 1 to 5 of model §4: who this is, the domain, the partner's own
// side, the service, the rules. Gates 6 and 7 are in gates_grant.go.
//
// A gate asks one or several questions and notes each with what it found. It
// never returns early because something refused: a refusal is to name
// everything that stands in the way. What a gate compares with comes from the
// row of the catalogue that is asked (catalogue.Ask); what is the same for
// every action is written here.

// Rules that the gates ask by themselves, not through an entry of an action.
// Their numbers are found once, at the start; a name that the catalogue does
// not hold stops the program.
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

// Values that the gates compare with, by what they mean on their scale. A test
// compares them with the catalogue's scales, word by word: a scale that gets a
// new word in its middle would move what is behind it.
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

	routeHouse  = catalogue.Value(1)
	routeOurs   = catalogue.Value(2)
	routeTheirs = catalogue.Value(4)

	setByAdministrators = catalogue.Value(1)
	setByStaff          = catalogue.Value(2)
)

// note records that a gate was asked and what one of its questions answered.
// The cause it returns is nil when nobody wants to know. With no recorder it is
// two operations on words, which is why every question of every gate can call
// it.
//
// This is how decide and explain stay one path: a gate asks, notes, and, only
// where there is a cause, fills in its words.
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

// ruleIs asks a rule and records it with its chain: what each layer says of it,
// and which of them decides (model §3). The chain is nil where nobody wants to
// know.
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

// wide returns the effective value where no layer below the partner speaks. It
// is one load from a row of the policy.
func (a *asker) wide(r catalogue.RuleID, party *outside) catalogue.Value {
	if party != nil && party.partner != none {
		return a.s.pol.rows[a.s.pol.partners[party.partner].alone][r] // the default where the rule has no partner layer
	}
	return a.s.pol.alone[r]
}

// rule says that the cause is about a rule: what it says, and what would be
// needed. Remedies read both: from value to needed is what would have to
// change.
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

// isRecord reports whether the account that is asked is a record with us.
func (a *asker) isRecord() bool { return a.class == catalogue.Record }

// identity asks who this is, the state of the record and a way to sign in. It
// is gate 1 of model §4. A person of ours, a link and a home account pass it;
// only a record has a state, terms and ways to sign in.
//
// Terms that are not accepted refuse nobody: they are a condition of the yes,
// which the party meets at the door.
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
	// Which methods serve this address: a code always, the partner's sign-in
	// where there is a partner, a private account where the domain is one of
	// these. Those that the rule allows must hold one of them.
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
	// Terms are asked for at the door and refuse nobody.
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

// bars asks whether an address is barred. A bar on the address counts before
// one on its domain. It is asked of everybody by every action that has a domain
// gate at all, since a bar is the one word that nothing opens again.
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

// everyRecord asks the switch that every record is asked. A record that a feed
// keeps is asked the switch for feeds, every other one that for guests.
// Switched off, it refuses all records everything, whatever else is open.
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

// service asks the switches that open a service to a kind. It is gate 4. Which
// switches these are is in the row of the catalogue; spaces.guests is asked
// besides, where a role comes from a space.
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
// from a grant on the space. A role that comes from the space alone needs that
// the space has guests; a grant on the item itself does not.
func (a *asker) solely(ask *catalogue.Ask) bool {
	if ask.Holding != catalogue.ByRole || ask.SpaceParty || a.space == none || a.class == catalogue.Ours {
		return false
	}
	a.findRoles()
	private := a.q.Resource.Kind.IsItem() && a.s.inv.items.at(a.target).private
	return a.itemRole < ask.Role && a.spaceRole >= ask.Role && !private
}

// rules asks every rule that governs the action. It is gate 5. Each kind of
// need has its case; in is the context in which the rule is asked: the party,
// the person of ours, the space and the item.
//
// A need says what value the rule must reach for this question. Most are fixed
// in the catalogue; some depend on who asks (the class of whoever invites), on
// whom it is about (known to us or new), or on the thing (a meeting without a
// passcode).
func (a *asker) rules(ask *catalogue.Ask) {
	for i := range ask.Needs {
		n := &ask.Needs[i]
		in := a.of(ask)
		switch n.Kind {
		case catalogue.AtLeast:
			a.reaches(a.inDrive(n.Rule), n.Value, &in)
		case catalogue.AtPresenter:
			if a.q.anyPresenter {
				continue
			}
			// The exceptions of who presents count, not those of the host.
			in.person = a.presenter
			a.reaches(n.Rule, n.Value, &in)
		case catalogue.AtOwn:
			in = a.own()
			a.reaches(n.Rule, n.Value, &in)
		case catalogue.GivenTo:
			a.reaches(a.inDrive(n.Rule), a.givenTo(ask), &in)
		case catalogue.InviterClass:
			if !a.q.Approved {
				a.reaches(n.Rule, a.inviterClass(), &in)
			}
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
	// What follows is asked of an account and not listed in any row.
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
