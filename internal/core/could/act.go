// Package could tells how somebody outside could come to do something without any administrator or keeper: by which acts, of whom
// (practice §4), what would make that impossible, and what nobody needs. It has no I/O.
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

// Kind names a kind of act.
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

// Act is one act: who does what, where, for whom. What is not of its kind is empty.
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

// names says things by their names, codes where there are none.
type names func(world.Resource) string

// Text says the act in a sentence. call writes people and addresses, name writes resources.
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
	invite      = action("directory.invite")
	signUp      = action("directory.sign_up")
	joinCourse  = action("spaces.join")
	open        = action("files.open")
	ourOwn      = world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
	linkToCome  = "any"
	linkHolder  = engine.Who{Kind: engine.ByLinkID, ID: linkToCome}
	newcomerTag = "somebody-new"
	helperTag   = "somebody-else-new"
)

// SomebodyNew reports whether an address stands for whoever nobody knows yet at its domain.
func SomebodyNew(a addr.Address) bool {
	return strings.HasPrefix(a.String(), newcomerTag) || strings.HasPrefix(a.String(), helperTag)
}

func action(name string) catalogue.ActionID {
	a, _ := catalogue.ActionByName(name)
	return a.ID
}

// May reports whether an act can be made in a snapshot in which nobody is an administrator or keeper.
func (a *Act) May(s *engine.Snapshot, at moment.Moment) bool {
	ask := func(q engine.Question) bool {
		q.At = at
		v, err := s.Decide(&q)
		return err == nil && v.Yes
	}
	state, record := stateOf(s, a.Party, at)
	switch a.Kind {
	case SetValue, Admit, LetJoin, MakeOpen, AnySignIn, Passcode:
		return has(s.OwnersHere(a.Resource, at), a.By.ID)
	case Raise:
		return has(s.OwnersHere(a.Resource, at), a.By.ID) && s.OwnRole(a.Party, a.Resource, at) > catalogue.NoRole
	case Join:
		return s.DoorOf(a.Resource).Joinable && s.IsHere(a.By.ID, at)
	case Contact:
		return s.IsHere(a.By.ID, at)
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
		if into.Kind.IsItem() {
			into = world.Resource{Kind: catalogue.Space, ID: s.SpaceOf(into.ID)}
		}
		return a.here(s, at) && ask(engine.Question{Subject: a.By, Action: invite, Resource: into, Address: a.Party})
	case Share:
		act, ok := engine.PassedOnBy(a.Resource.Kind)
		return ok && a.here(s, at) && ask(engine.Question{Subject: a.By, Action: act, Resource: a.Resource, Address: a.Party})
	case Accept:
		return record && state == world.StateInvited
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

// stateOf tells the state of the record of an address, if it has one.
func stateOf(s *engine.Snapshot, a addr.Address, at moment.Moment) (state world.State, record bool) {
	i := s.PartyOf(a)
	if i == engine.NoParty {
		return 0, false
	}
	state, _, _, record = s.StateOf(i, at)
	return
}

func (a *Act) here(s *engine.Snapshot, at moment.Moment) bool {
	return a.By.Kind != engine.ByPerson || s.IsHere(a.By.ID, at)
}

// approvers are those who approve a bundle.
func (a *Act) approvers() []string { return append([]string{a.By.ID}, strings.Fields(a.With)...) }

// mayHold reports whether somebody could be given a bundle; what acts before this one gave them keeps nothing from them, as more acts never
// take anything away.
func mayHold(s *engine.Snapshot, b *world.Bundle, party addr.Address, at moment.Moment) bool {
	e := s.Aside()
	for _, h := range s.Holdings(party) {
		if h.From == at {
			e.TakeHolding(&h)
		}
	}
	return e.Done().MayHold(b, party, at)
}

// takeBundle is the act by which somebody gets a bundle: approved by as few as can be, one by one where nobody can take several steps.
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

func has(list []string, x string) bool {
	for _, y := range list {
		if x == y {
			return true
		}
	}
	return false
}

// apply makes the act.
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
	case MakeLink:
		e.PutLink(&world.Link{ID: linkToCome, Item: a.Resource, Right: catalogue.Contribute, Created: at, Until: moment.Never, Download: true,
			Password: true, By: a.By.ID})
	}
}

func (a *Act) grant(at moment.Moment) world.Grant {
	return world.Grant{Address: a.Party, Resource: a.Resource, Role: a.Role, From: at, Until: moment.Never, Reviewed: at}
}

// guest is the record that an act makes for somebody: without an end, and accepted and seen only where it is active at once.
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
