// Package could tells how somebody outside could come to do something without
// any administrator or keeper: by which acts, of whom (practice §4), what would
// make that impossible, and what nobody needs. It has no I/O.
//
// # Acts and chains
//
// An act is something that one person may do by themselves: an owner opens a
// space, a member invites, a guest accepts, somebody shares a file. What may be
// done is asked of the engine, in the world as the acts before have left it;
// nothing here decides by itself what a rule means.
//
// May edda@harrow.example come to read the folder Valuations? Today: no. But
// Noor owns the space and may let our own people join it; Ilse may then invite
// Edda; and Edda accepts. That is a chain of three acts, and what an auditor
// wants to know.
//
// Acts never take anything away. So a set of acts is tried by making each as
// soon as it can be made, and whether it reaches the target does not depend on
// an order. The shortest chain is the smallest set that gets there, searched as
// a smallest hitting set (finder.least), after the engine has said whether
// there is any way at all (engine.Potential).
//
// # Cuts
//
// A cut is a set of changes, of three parts at most, after which the target is
// out of reach: a lower limit, a closed opening, a role taken away, a bundle
// that nobody asks for any more. It is found from witnesses: take a way that is
// still there, and try the changes that break this very way (Cuts).
//
// # Spare access
//
// What is allowed and nobody uses: limits looser than any value below them,
// openings that nobody passes. Taking it away has an impact of provably nothing
// (Spare).
package could

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kind names a kind of act. Kinds are written in chains and in the journal as
// they stand. Acts of administrators and keepers are none: *could* asks what
// happens without them.
type Kind string

// The kinds of act.
const (
	SetValue   Kind = "set_value"   // an owner or host sets a value of their own space, item or meeting
	Admit      Kind = "admit"       // an owner admits somebody to a space that names who may come
	LetJoin    Kind = "let_join"    // an owner lets our own people join a space
	MakeOpen   Kind = "make_open"   // an owner makes a private item open to who is in its space
	AnySignIn  Kind = "any_sign_in" // a host lets people of any domain in
	Passcode   Kind = "passcode"    // a host gives a meeting a passcode
	Join       Kind = "join"        // somebody of ours joins a space
	Contact    Kind = "contact"     // somebody of ours and somebody outside become contacts
	Invite     Kind = "invite"      // somebody is invited: into the directory, a space, or something in it
	Share      Kind = "share"       // something is shared with somebody
	Raise      Kind = "raise"       // an owner gives somebody a higher role
	Accept     Kind = "accept"      // somebody accepts their invitation
	SignUp     Kind = "sign_up"     // somebody opens a record by themselves
	JoinCourse Kind = "join_course" // somebody joins a course from outside
	Become     Kind = "become"      // somebody opens what is shared with them, and becomes a guest
	MakeLink   Kind = "make_link"   // somebody makes a link for whoever holds it
	TakeBundle Kind = "bundle"      // somebody asks for a bundle, and people of ours approve it
)

// Act is one act: who does what, where, for whom. What is not of its kind is
// empty. Two acts are the same where all fields are equal, so that a list can
// hold each once; no field may be a slice or a map.
//
// Party is set where the act is about somebody outside, Resource where it is
// about a place or a thing, Rule and Value with SetValue alone.
type Act struct {
	Kind     Kind
	By       engine.Who // a person of ours, or somebody outside
	Resource world.Resource
	Rule     catalogue.RuleID
	Value    catalogue.Value
	Party    addr.Address // whom it is for
	Role     catalogue.Role
	Bundle   string // its id
	Name     string // of the bundle
	With     string // the ids of those who approve it, too, with blanks between
	Can      int    // so many people of ours could take this step as things are before it; with somebody outside, 1
}

// names says things by their names, codes where there are none. The caller
// decides what a reader may know the name of.
type names func(world.Resource) string

// Text says the act in a sentence. call writes people and addresses, name
// writes resources. Each sentence has somebody who does something as its
// subject, because a chain is read out as a story: first this one does that,
// then…
func (a *Act) Text(call func(engine.Who) string, name names) string {
	by, to := call(a.By), call(engine.Who{Address: a.Party})
	what := name(a.Resource)
	switch a.Kind {
	case SetValue:
		return fmt.Sprintf("%s sets %s to %s at %s.", by, a.Rule, a.Rule.Get().Scale.Format(a.Value), what)
	case Admit:
		return fmt.Sprintf("%s adds %s to those who may come into %s.", by, to, what)
	case LetJoin:
		return fmt.Sprintf("%s lets our own people join %s.", by, what)
	case MakeOpen:
		return fmt.Sprintf("%s makes %s open to everybody in its space.", by, what)
	case AnySignIn:
		return fmt.Sprintf("%s lets people of any domain into %s.", by, what)
	case Passcode:
		return fmt.Sprintf("%s gives %s a passcode.", by, what)
	case Join:
		return fmt.Sprintf("%s joins %s.", by, what)
	case Contact:
		return fmt.Sprintf("%s and %s become contacts.", by, to)
	case Invite:
		if a.Role == catalogue.NoRole {
			return fmt.Sprintf("%s invites %s.", by, to)
		}
		return fmt.Sprintf("%s invites %s into %s with the role %s.", by, to, what, a.Role)
	case Share:
		return fmt.Sprintf("%s shares %s with %s, with the role %s.", by, what, to, a.Role)
	case Raise:
		return fmt.Sprintf("%s gives %s the role %s on %s.", by, to, a.Role, what)
	case Accept:
		return fmt.Sprintf("%s accepts the invitation.", to)
	case SignUp:
		return fmt.Sprintf("%s signs up.", to)
	case JoinCourse:
		return fmt.Sprintf("%s joins %s.", to, what)
	case Become:
		return fmt.Sprintf("%s opens %s, and becomes a guest.", to, what)
	case TakeBundle:
		others := strings.Fields(a.With)
		if len(others) == 0 {
			return fmt.Sprintf("%s asks for the bundle %s, and %s approves it.", to, a.Name, by)
		}
		for i, id := range others {
			by += map[bool]string{true: " and ", false: ", "}[i == len(others)-1] + call(person(id))
		}
		return fmt.Sprintf("%s asks for the bundle %s, and %s approve it.", to, a.Name, by)
	case MakeLink:
		return fmt.Sprintf("%s makes a link to %s that works for whoever holds it.", by, what)
	}
	return string(a.Kind)
}

var (
	// The actions that acts are made of. What is asked is always the engine,
	// with one of these.
	invite     = action("directory.invite")
	signUp     = action("directory.sign_up")
	joinCourse = action("spaces.join")
	open       = action("files.open")
	// Our directory is one resource in every world.
	ourOwn = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	// A link that somebody makes has no id yet; one id serves, since a chain
	// holds at most one.
	linkToCome = "any"
	linkHolder = engine.Who{Kind: engine.ByLinkID, ID: linkToCome}
	// Newcomers of chains need an address that nobody has. The first is the one
	// the chain is about, the second brings them in.
	newcomerTag = "somebody-new"
	helperTag   = "somebody-else-new"
)

// SomebodyNew reports whether an address stands for whoever nobody knows yet at
// its domain.
func SomebodyNew(a addr.Address) bool {
	return strings.HasPrefix(a.String(), newcomerTag) || strings.HasPrefix(a.String(), helperTag)
}

// action returns the id of an action that the catalogue is known to hold.
func action(name string) catalogue.ActionID {
	a, _ := catalogue.ActionByName(name)
	return a.ID
}

// May reports whether an act can be made in a snapshot in which nobody is an
// administrator or keeper. It is the same answer as the engine gives when the
// act is really tried: nothing here decides by itself what a rule means. An act
// whose doer is not here any more cannot be made.
//
// A chain that is shown can be replayed with it, step by step.
func (a *Act) May(s *engine.Snapshot, at moment.Moment) bool {
	// A question that makes no sense is a no: the act cannot be made like this.
	ask := func(q engine.Question) bool {
		q.At = at
		v, err := s.Decide(&q)
		return err == nil && v.Yes
	}
	state, record := stateOf(s, a.Party, at)
	switch a.Kind {
	// Owners and hosts settle these for what is theirs, as far as limits let
	// them.
	case SetValue, Admit, LetJoin, MakeOpen, AnySignIn, Passcode:
		return has(s.OwnersHere(a.Resource, at), a.By.ID)
	case Raise:
		return has(s.OwnersHere(a.Resource, at), a.By.ID) && s.OwnRole(a.Party, a.Resource, at) > catalogue.NoRole
	case Join:
		return s.DoorOf(a.Resource).Joinable && s.IsHere(a.By.ID, at)
	case Contact:
		return s.IsHere(a.By.ID, at)
	// The link is supposed and asked: whether links are allowed there at all,
	// and with what right, is what files.bearer_links and its companions say.
	case MakeLink: // one that would open nothing is not made
		if !s.BelongsTo(a.By.ID, a.Resource) || !s.IsHere(a.By.ID, at) {
			return false
		}
		e := s.Aside()
		a.apply(s, e, at)
		v, err := e.Done().Decide(&engine.Question{Subject: linkHolder, Action: open, Resource: a.Resource, At: at})
		return err == nil && v.Yes
	case Invite:
		if record && state == world.StateSuspended {
			return false
		}
		into := a.Resource
		// Somebody is invited into the space; the grant on the item comes with
		// it.
		if into.Kind.IsItem() {
			into = world.Resource{Kind: catalogue.Space, ID: s.SpaceOf(into.ID)}
		}
		return a.here(s, at) && ask(engine.Question{Subject: a.By, Action: invite, Resource: into, Address: a.Party})
	case Share:
		act, ok := engine.PassedOnBy(a.Resource.Kind)
		return ok && a.here(s, at) && ask(engine.Question{Subject: a.By, Action: act, Resource: a.Resource, Address: a.Party})
	case Accept:
		return record && state == world.StateInvited
	// Each step of the approval must be taken by one of those who are named in
	// the act. A step by the sponsor can be taken by anybody of ours, who then
	// becomes the sponsor.
	case TakeBundle:
		b := s.Policy().Bundle(a.Bundle)
		if b == nil || record && state == world.StateSuspended {
			return false
		}
		steps := s.ApprovedWithout(b, at)
		for _, step := range steps {
			if step.By == world.BySponsor { // whoever is named
				step.People = s.Here(at)
			}
			if !slices.ContainsFunc(a.approvers(), func(id string) bool { return has(step.People, id) }) {
				return false
			}
		}
		return steps != nil && mayHold(s, b, a.Party, at)
	case SignUp:
		return !record && ask(engine.Question{Subject: engine.Who{Address: a.Party}, Action: signUp, Resource: ourOwn})
	case JoinCourse:
		return ask(engine.Question{Subject: engine.Who{Address: a.Party}, Action: joinCourse, Resource: a.Resource})
	// Whoever is given a file or report without having a record becomes a guest
	// by opening it, if one of the actions on it lets them.
	case Become:
		if _, passed := engine.PassedOnBy(a.Resource.Kind); record || !passed {
			return false
		}
		for i := range catalogue.Actions() {
			act := &catalogue.Actions()[i]
			if engine.InwardActions.Has(act.ID) && act.Takes(a.Resource.Kind) &&
				ask(engine.Question{Subject: engine.Who{Address: a.Party}, Action: act.ID, Resource: a.Resource}) {
				return true
			}
		}
	}
	return false
}

// stateOf tells the state of the record of an address, if it has one. record is
// false for whoever has none, and the state then says nothing.
func stateOf(s *engine.Snapshot, a addr.Address, at moment.Moment) (state world.State, record bool) {
	i := s.PartyOf(a)
	if i == engine.NoParty {
		return 0, false
	}
	state, _, _, record = s.StateOf(i, at)
	return
}

// here reports whether the doer is one of our people who has not left, or comes
// from outside.
func (a *Act) here(s *engine.Snapshot, at moment.Moment) bool {
	return a.By.Kind != engine.ByPerson || s.IsHere(a.By.ID, at)
}

// approvers are those who approve a bundle. The first becomes the sponsor.
func (a *Act) approvers() []string { return append([]string{a.By.ID}, strings.Fields(a.With)...) }

// mayHold reports whether somebody could be given a bundle; what acts before
// this one gave them keeps nothing from them, as more acts never take anything
// away.
//
// Whoever holds the bundle already, from an act before, could not be given it a
// second time; that is taken away for the question.
func mayHold(s *engine.Snapshot, b *world.Bundle, party addr.Address, at moment.Moment) bool {
	e := s.Aside()
	for _, h := range s.Holdings(party) {
		if h.From == at {
			e.TakeHolding(&h)
		}
	}
	return e.Done().MayHold(b, party, at)
}

// takeBundle is the act by which somebody gets a bundle: approved by as few as
// can be, one by one where nobody can take several steps. ok is false where
// nobody can approve it without an administrator.
//
// In each round the person who can take most of the steps left is chosen. That
// is the greedy way to a small set, and exact where one person is enough, which
// it nearly always is.
func takeBundle(s *engine.Snapshot, b *world.Bundle, party addr.Address, at moment.Moment) (a Act, ok bool) {
	steps := s.ApprovedWithout(b, at)
	if steps == nil {
		return a, false
	}
	a = Act{Kind: TakeBundle, Bundle: b.ID, Name: b.Name, Party: party}
	var by []string
	for len(steps) > 0 {
		best, most := "", 0
		for _, step := range steps {
			for _, id := range step.People {
				n := 0
				for _, other := range steps {
					if other.By == world.BySponsor || has(other.People, id) {
						n++
					}
				}
				if n > most {
					best, most = id, n
				}
			}
		}
		by = append(by, best)
		steps = slices.DeleteFunc(steps, func(x engine.ApprovalStep) bool { return x.By == world.BySponsor || has(x.People, best) })
	}
	a.By, a.With = person(by[0]), strings.Join(by[1:], " ")
	return a, true
}

// has reports whether a list holds a text.
func has(list []string, x string) bool {
	for _, y := range list {
		if x == y {
			return true
		}
	}
	return false
}

// apply makes the act. It writes into an Editor of a snapshot aside; s is the
// world before it. Whether the act may be made is May's to say.
func (a *Act) apply(s *engine.Snapshot, e *engine.Editor, at moment.Moment) {
	switch a.Kind {
	case SetValue:
		v := a.Value
		if limit, _, _, _ := s.RuleState(a.Rule); a.Rule.Get().Scale.Looser(v, limit) { // as far as is let
			v = limit
		}
		e.SetValueAt(a.Resource, a.Rule, v)
	case Admit:
		e.AdmitTo(a.Resource.ID, world.PartyRef{Address: a.Party})
	case LetJoin:
		e.LetJoin(a.Resource.ID)
	case MakeOpen:
		e.MakeOpen(a.Resource.ID)
	case AnySignIn:
		e.AnySignIn(a.Resource.ID)
	case Passcode:
		e.GivePasscode(a.Resource.ID)
	case Join:
		e.TakeIn(a.Resource.ID, a.By.ID, false)
	case Contact:
		e.PutContact(&world.Contact{Person: a.By.ID, Party: a.Party, Accepted: true})
	case Accept:
		e.Activate(a.Party, at)
	// Whoever has a record keeps it as it is; the invitation then only brings
	// the grant.
	case Invite:
		if _, record := stateOf(s, a.Party, at); !record {
			e.PutGuest(a.guest(world.StateInvited, at))
		}
		if a.Role > catalogue.NoRole {
			e.AddGrant(a.Party, a.grant(at))
		}
	case Share, Raise, JoinCourse:
		e.AddGrant(a.Party, a.grant(at))
	case TakeBundle:
		if _, record := stateOf(s, a.Party, at); !record { // whoever asks proved their mailbox
			e.PutGuest(a.guest(world.StateActive, at))
		}
		e.PutHolding(&world.Holding{Party: a.Party, Bundle: a.Bundle, From: at, Until: moment.Never, Sponsor: a.By.ID, Reviewed: moment.Always})
	case SignUp, Become:
		e.PutGuest(a.guest(world.StateActive, at))
	// The link with all that may be wanted of it: a password, the right to
	// change, downloads. What rules do not let it do they take off by
	// themselves.
	case MakeLink:
		e.PutLink(&world.Link{ID: linkToCome, Item: a.Resource, Right: catalogue.Contribute, Created: at, Until: moment.Never, Download: true,
			Password: true, By: a.By.ID})
	}
}

// grant is the grant that an act gives: from now, without an end of its own.
func (a *Act) grant(at moment.Moment) world.Grant {
	return world.Grant{Address: a.Party, Resource: a.Resource, Role: a.Role, From: at, Until: moment.Never, Reviewed: at}
}

// guest is the record that an act makes for somebody: without an end, and
// accepted and seen only where it is active at once.
func (a *Act) guest(state world.State, at moment.Moment) *world.Guest {
	g := &world.Guest{
		Address: a.Party, State: state, Origins: world.ByInvitation, Since: at, Accepted: moment.Never, Renewed: moment.Always,
		Until: moment.Never,
		Terms: moment.Never, LastSeen: moment.Always, StateSince: moment.Always,
	}
	if a.By.Kind == engine.ByPerson {
		g.Sponsor = a.By.ID
	}
	if state == world.StateActive {
		g.Accepted, g.LastSeen = at, at
	}
	return g
}
