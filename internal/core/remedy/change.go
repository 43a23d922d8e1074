package remedy

import (
	"fmt"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kind names a kind of change, from the narrowest as far as kinds alone tell
// it. Kinds are written in advice, in drafts and in the journal.
type Kind string

// The kinds of change.
const (
	GiveGrant     Kind = "grant"          // a role on a resource
	JoinGroup     Kind = "group"          // membership of a group that holds a role
	Activate      Kind = "record"         // a record is brought back, or accepted
	AtItem        Kind = "item"           // a value at an item or meeting
	Exceptional   Kind = "exception"      // for a person of ours towards somebody
	AtSpace       Kind = "space"          // a value at a space
	Admit         Kind = "admit"          // a space admits one more from outside
	TakeIn        Kind = "member"         // a person of ours joins a space
	MeetingDoor   Kind = "meeting"        // a meeting's domains or passcode
	Licence       Kind = "licence"        // a licence of a guest or an area
	AtPartner     Kind = "partner_value"  // a value at a partner
	OpenPartner   Kind = "opening"        // a partner is opened for a service and direction
	ResumePartner Kind = "standing"       // a partner is brought back
	AddDomain     Kind = "domain"         // a domain is added to the partner it lies under
	MakePartner   Kind = "new_partner"    // a partner is made of a domain
	LiftBar       Kind = "bar"            // a bar is lifted
	TheirStance   Kind = "their_side"     // the partner's own side admits it
	SetDefault    Kind = "default"        // the default of a rule
	RaiseLimit    Kind = "limit"          // the limit of a rule
	EditException Kind = "edit_exception" // an exception that stands in the way says another value
	EndException  Kind = "end_exception"  // it ends
	Extend        Kind = "extend"         // a record gets a later end, and its term begins anew
)

// width orders kinds from the narrowest. What concerns one person and one thing
// is narrowest, what concerns everybody widest. What an option really opens is
// counted by Weigh; this only decides what is tried first.
var width = map[Kind]int{
	Activate:      0,
	Extend:        0,
	EditException: 3,
	EndException:  3,
	GiveGrant:     1,
	JoinGroup:     2,
	AtItem:        3,
	TheirStance:   3,
	MeetingDoor:   3,
	Licence:       3,
	Exceptional:   4,
	Admit:         5,
	TakeIn:        5,
	AtSpace:       6,
	OpenPartner:   7,
	AtPartner:     8,
	ResumePartner: 9,
	AddDomain:     9,
	MakePartner:   10,
	LiftBar:       11,
	SetDefault:    13,
	RaiseLimit:    14,
}

// Change is one change, as data: what is not of its kind is empty. It can be
// applied to a snapshot, written into a draft, or sent as a call; the caller
// knows how. Who says who can make it, so that advice never sends somebody to a
// page where they are refused.
type Change struct {
	Kind Kind
	Side engine.Side
	Who  string // who can make it: administrator, owner:ID, partner:ID, the party

	Rule     catalogue.RuleID
	Value    catalogue.Value
	Resource world.Resource // space, item or meeting
	Role     catalogue.Role
	Party    addr.Address
	Partner  string
	Key      catalogue.Key
	Person   string
	Group    string
	Domain   addr.Domain
	Bar      string
	Except   string        // the exception that is changed or ended
	Release  bool          // the value is there and held back
	Until    moment.Moment // the end that is proposed
	Name     string        // of what it is about, for the sentence
}

// Policy reports whether the change is one of policy, which a draft can make.
// All others are made on the record, the space or the meeting itself, by who is
// named.
func (c *Change) Policy() bool {
	switch c.Kind {
	case Exceptional,
		AtPartner,
		OpenPartner,
		ResumePartner,
		AddDomain,
		MakePartner,
		LiftBar,
		SetDefault,
		RaiseLimit,
		EditException,
		EndException:
		return true
	}
	return false
}

// Text says the change in a sentence. It is an imperative to whoever can do it,
// or tells what somebody else does.
func (c *Change) Text() string {
	value := func() string { return c.Rule.String() + " to " + c.Rule.Get().Scale.Format(c.Value) }
	about := c.Name
	if about == "" {
		about = c.Resource.String()
	}
	switch c.Kind {
	case GiveGrant:
		return fmt.Sprintf("Give %s the role %s on %s.", c.Party, c.Role, about)
	case JoinGroup:
		return fmt.Sprintf("Put %s into the group %s, which has the role %s on %s.", c.Party, c.Group, c.Role, about)
	case Activate:
		if c.Who == "the party" {
			return fmt.Sprintf("%s accepts the invitation.", c.Party)
		}
		return fmt.Sprintf("Bring the record of %s back.", c.Party)
	case AtItem, AtSpace:
		if c.Release {
			return fmt.Sprintf("Release %s at %s, where it is held back.", value(), about)
		}
		return fmt.Sprintf("Set %s at %s.", value(), about)
	case Exceptional:
		towards := c.whom()
		who := c.Person
		if c.Group != "" {
			who = "the group " + c.Group
		}
		return fmt.Sprintf("Make an exception: %s for %s towards %s.", value(), who, towards)
	case EditException:
		return fmt.Sprintf("Change the exception %s: %s.", c.Except, value())
	case EndException:
		return fmt.Sprintf("End the exception %s.", c.Except)
	case Extend:
		return fmt.Sprintf("Extend the record of %s.", c.Party)
	case Admit:
		return fmt.Sprintf("Let %s admit %s.", about, c.whom())
	case TakeIn:
		if c.Role == catalogue.Manage {
			return fmt.Sprintf("Make %s an owner of %s.", c.Person, about)
		}
		return fmt.Sprintf("Make %s a member of %s.", c.Person, about)
	case MeetingDoor:
		if c.Domain.IsZero() {
			return fmt.Sprintf("Give the meeting %s a passcode.", about)
		}
		return fmt.Sprintf("Let the meeting %s admit %s.", about, c.Domain)
	case Licence:
		if c.Resource.ID != "" {
			return fmt.Sprintf("Give the area %s a licence of its own.", about)
		}
		return fmt.Sprintf("Record that %s has a licence of their own organisation.", c.Party)
	case AtPartner:
		if c.Release {
			return fmt.Sprintf("Release %s at the partner %s, where it is held back.", value(), c.Name)
		}
		return fmt.Sprintf("Set %s at the partner %s.", value(), c.Name)
	case OpenPartner:
		return fmt.Sprintf("Open the partner %s for %s.", c.Name, c.Key)
	case ResumePartner:
		return fmt.Sprintf("Bring the partner %s back.", c.Name)
	case AddDomain:
		return fmt.Sprintf("Add %s to the partner %s.", c.Domain, c.Name)
	case MakePartner:
		return fmt.Sprintf("Make a partner of %s, opened for %s.", c.Domain, c.Key)
	case LiftBar:
		return fmt.Sprintf("Lift the bar on %s.", c.Bar)
	case TheirStance:
		return fmt.Sprintf("%s admits %s on its own side.", c.Name, c.Key)
	case SetDefault:
		return fmt.Sprintf("Set the default of %s.", value())
	case RaiseLimit:
		return fmt.Sprintf("Raise the limit of %s.", value())
	}
	return string(c.Kind)
}

// towards refers to whom a change is about: a partner, a domain where it is
// anybody of it, or an address.
func (c *Change) towards() world.PartyRef {
	if c.Party.IsNewcomer() {
		return world.PartyRef{Partner: c.Partner, Domain: c.Party.Domain()}
	}
	return world.PartyRef{Partner: c.Partner, Address: c.Party}
}

// whom says whom a change is about.
func (c *Change) whom() string {
	switch {
	// A partner stands for all of its people; an address is said in full, so
	// that nobody takes it for one.
	case c.Partner != "":
		return "the partner " + c.Partner
	case c.Party.IsNewcomer():
		return "whoever is at " + c.Party.Domain().String()
	}
	return c.Party.String()
}

// id tells changes apart: everything that the change does is in it, and neither
// its words nor who makes it.
func (c *Change) id() string {
	return fmt.Sprint(
		c.Kind,
		c.Rule,
		c.Value,
		c.Resource,
		c.Role,
		c.Party,
		c.Partner,
		c.Key,
		c.Person,
		c.Group,
		c.Domain,
		c.Bar,
		c.Release,
		c.Except,
	)
}

// valid reports whether a value is on a scale.
func valid(scale *catalogue.Scale, v catalogue.Value) bool {
	if scale.Shape == catalogue.Days {
		return true
	}
	for _, x := range scale.All() {
		if x == v {
			return true
		}
	}
	return false
}

// partnerName is the name of a partner, or its id.
func partnerName(s *engine.Snapshot, id string) string {
	ps := s.Policy().Partners
	for i := range ps {
		if ps[i].ID == id {
			return ps[i].Name
		}
	}
	return id
}

// Apply returns a snapshot as changes would make it. Each kind of change is one
// call of an Editor aside; nothing is published. Changes of policy act from the
// moment on, as publishing would have them (model §5).
func Apply(s *engine.Snapshot, set []Change, at moment.Moment) *engine.Snapshot {
	if len(set) == 0 {
		return s
	}
	e := s.Aside()
	set = append([]Change(nil), set...)
	sort.SliceStable(
		set,
		func(i, j int) bool { return set[i].Kind != Activate && set[j].Kind == Activate },
	) // who is brought back holds what is given
	// Policy first: what the inventory says counts within it, so that values at
	// a space or an item are set in the world as it would be published.
	policy := PolicyWith(s.Policy(), set, at)
	if policy != s.Policy() {
		e.SetPolicy(policy)
		e.ActForward(at)
	}
	for i := range set {
		c := &set[i]
		switch c.Kind {
		case GiveGrant:
			e.AddGrant(c.Party, world.Grant{Address: c.Party, Resource: c.Resource, Role: c.Role, From: at, Until: c.end(at)})
		case JoinGroup:
			e.JoinGroup(c.Party, c.Group, at)
		case Activate:
			e.Activate(c.Party, at)
		case Extend:
			e.Extend(c.Party, c.end(at), at)
		case AtItem, AtSpace:
			e.SetValueAt(c.Resource, c.Rule, c.Value)
		case Admit:
			e.AdmitTo(c.Resource.ID, c.towards())
		case TakeIn:
			e.TakeIn(c.Resource.ID, c.Person, c.Role == catalogue.Manage)
		case MeetingDoor:
			if c.Domain.IsZero() {
				e.GivePasscode(c.Resource.ID)
			} else {
				e.SignInDomain(c.Resource.ID, c.Domain)
			}
		case Licence:
			if c.Resource.ID != "" {
				e.HouseLicence(c.Resource.ID)
			} else {
				e.License(c.Party, world.LicenceTheirs)
			}
		}
	}
	return e.Done()
}

// end is the proposed end, or one that lies behind the moment that is asked
// about.
func (c *Change) end(at moment.Moment) moment.Moment {
	if c.Until > at {
		return c.Until
	}
	return moment.Never
}

// PolicyWith returns a policy as the changes of a set that are policy would
// make it, with what partners' own sides would say; the same where there are
// none. It is what a draft with these changes would hold. p is not changed:
// what is otherwise is copied first.
func PolicyWith(p *world.World, set []Change, at moment.Moment) *world.World {
	part := &world.World{}
	bars := map[string]bool{}
	// The partner in the part that is merged over the policy, copied when it is
	// first needed; nil for none.
	partner := func(id string) *world.Partner {
		for i := range part.Partners {
			if part.Partners[i].ID == id {
				return &part.Partners[i]
			}
		}
		for i := range p.Partners {
			if p.Partners[i].ID == id {
				q := p.Partners[i]
				q.Rules = append([]world.Setting(nil), q.Rules...)
				q.Stance = append([]world.Stance(nil), q.Stance...)
				part.Partners = append(part.Partners, q)
				return &part.Partners[len(part.Partners)-1]
			}
		}
		return nil
	}
	// The same for a rule.
	rule := func(r catalogue.RuleID) *world.RuleSetting {
		for i := range part.Rules {
			if part.Rules[i].Rule == r {
				return &part.Rules[i]
			}
		}
		part.Rules = append(
			part.Rules,
			world.RuleSetting{Rule: r, Limit: catalogue.Unset, Default: catalogue.Unset, Counts: catalogue.Unset},
		)
		return &part.Rules[len(part.Rules)-1]
	}
	// any is whether one of the changes is policy at all: a set without any
	// leaves the policy the very same, which callers compare by pointer. gone
	// are exceptions that end before they began, and so never were.
	any := false
	gone := map[string]bool{}
	exception := func(id string) *world.Exception {
		for i := range part.Exceptions {
			if part.Exceptions[i].ID == id {
				return &part.Exceptions[i]
			}
		}
		return nil
	}
	for i := range set {
		c := &set[i]
		switch c.Kind {
		case RaiseLimit:
			// The limit moves and the default stays: raising one opens
			// nothing yet.
			rule(c.Rule).Limit = c.Value
		case SetDefault:
			rule(c.Rule).Default = c.Value
		case AtPartner:
			if q := partner(c.Partner); q != nil {
				found := false
				for k := range q.Rules {
					if q.Rules[k].Rule == c.Rule {
						q.Rules[k].Value, q.Rules[k].Held, found = c.Value, false, true
					}
				}
				if !found {
					q.Rules = append(q.Rules, world.Setting{Rule: c.Rule, Value: c.Value})
				}
			}
		case OpenPartner:
			if q := partner(c.Partner); q != nil {
				q.Opened[c.Key] = world.OpenYes
			}
		case ResumePartner:
			if q := partner(c.Partner); q != nil {
				q.Standing, q.StandingSince, q.StandingReason = world.Active, at, ""
			}
		case TheirStance:
			if q := partner(c.Partner); q != nil {
				// What they are supposed to say replaces what they
				// said: one word for each service and direction, and it
				// has no end, since nobody has set one.
				kept := q.Stance[:0]
				for _, st := range q.Stance {
					if st.Key != c.Key {
						kept = append(kept, st)
					}
				}
				q.Stance = append(kept, world.Stance{Key: c.Key, Says: world.SaysAdmits, AsOf: at, Until: moment.Never})
			}
		case AddDomain:
			if q := partner(c.Partner); q != nil {
				// The list is shared with the policy that is there: its
				// capacity is cut, so that appending copies it.
				q.Domains = append(q.Domains[:len(q.Domains):len(q.Domains)], world.Entry{Domain: c.Domain})
			}
		case MakePartner:
			// Several changes of one set may ask for the same partner: it
			// is made once, and opened for each of them.
			id := partnerID(c.Domain)
			q := partner(id)
			if q == nil {
				part.Partners = append(
					part.Partners,
					world.Partner{
						ID:            id,
						Name:          c.Domain.String(),
						Domains:       []world.Entry{{Domain: c.Domain}},
						StandingSince: moment.Always,
						Review:        moment.Never,
					},
				)
				q = &part.Partners[len(part.Partners)-1]
			}
			q.Opened[c.Key] = world.OpenYes
		case Exceptional:
			x := world.Exception{
				ID:      c.ExceptionID(),
				Parties: []world.PartyRef{c.towards()},
				Rules:   []world.Setting{{Rule: c.Rule, Value: c.Value}},
				From:    at,
				Until:   c.end(at),
				Reason:  "so that a refused question is a yes",
			}
			if c.Group != "" {
				x.Groups = []string{c.Group}
			} else {
				x.People = []string{c.Person}
			}
			// Two rules for the same person towards the same party are one
			// exception with two values.
			merged := false
			for k := range part.Exceptions {
				if part.Exceptions[k].ID == x.ID {
					part.Exceptions[k].Rules = append(part.Exceptions[k].Rules, x.Rules...)
					merged = true
				}
			}
			if !merged {
				part.Exceptions = append(part.Exceptions, x)
			}
		case LiftBar:
			bars[c.Bar] = true
		case EditException, EndException:
			// An exception that was changed in this set already is gone on
			// from as it was changed: three values of it may be three
			// changes.
			ended := c.Kind == EndException
			for k := range p.Exceptions {
				if p.Exceptions[k].ID != c.Except {
					continue
				}
				x := p.Exceptions[k]
				if y := exception(x.ID); y != nil {
					x = *y
				}
				x.Rules = append([]world.Setting(nil), x.Rules...)
				for j := range x.Rules {
					if !ended && x.Rules[j].Rule == c.Rule {
						x.Rules[j].Value, x.Rules[j].Held = c.Value, false
					}
				}
				if ended {
					// An end never lies before the beginning. One
					// that has not begun would be in force for that
					// one moment, so it is taken out as a whole
					// below.
					x.Until = max(at, x.From+1)
					if x.From >= at {
						gone[x.ID] = true
					}
				}
				if y := exception(x.ID); y != nil {
					*y = x
				} else {
					part.Exceptions = append(part.Exceptions, x)
				}
			}
		default:
			continue
		}
		any = true
	}
	if !any {
		return p
	}
	// What is there is edited as a file is merged over it. Merging adds and
	// replaces, and takes nothing away: bars and exceptions that go are taken
	// out by hand.
	out := world.Merge(p, part)
	if len(gone) > 0 {
		out.Exceptions = slices.DeleteFunc(slices.Clone(out.Exceptions), func(x world.Exception) bool { return gone[x.ID] })
	}
	if len(bars) > 0 {
		kept := []world.Bar{}
		for i := range out.Barred {
			if !bars[out.Barred[i].Key()] {
				kept = append(kept, out.Barred[i])
			}
		}
		out.Barred = kept
	}
	return out
}

// partnerID names the partner that is made of a domain. Names of domains hold
// nothing else that an id may not.
func partnerID(d addr.Domain) string { return strings.ReplaceAll(d.String(), ".", "-") }

// ExceptionID names the exception that a change proposes.
func (c *Change) ExceptionID() string {
	towards := c.Partner
	if towards == "" {
		towards = strings.Map(func(r rune) rune {
			if r >= 'a' && r <= 'z' || r >= '0' && r <= '9' || r == '.' || r == '-' {
				return r
			}
			return '-'
		}, c.Party.String())
	}
	who := c.Person
	if c.Group != "" {
		who = "group-" + c.Group
	}
	return who + "-" + towards
}
