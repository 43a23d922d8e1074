// Package remedy finds what would make a refused question a yes: complete sets of
// changes over all causes, each tried on a snapshot and made as small as it can be. It
// has no I/O.
package remedy

import (
	"crypto/sha256"
	"encoding/hex"
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

// Kind names a kind of change, from the narrowest as far as kinds alone tell it.
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

// width orders kinds from the narrowest.
var width = map[Kind]int{Activate: 0, Extend: 0, EditException: 3, EndException: 3, GiveGrant: 1, JoinGroup: 2, AtItem: 3, TheirStance: 3, MeetingDoor: 3, Licence: 3, Exceptional: 4, Admit: 5, TakeIn: 5, AtSpace: 6, OpenPartner: 7, AtPartner: 8, ResumePartner: 9, AddDomain: 9, MakePartner: 10, LiftBar: 11, SetDefault: 13, RaiseLimit: 14}

// Change is one change, as data: what is not of its kind is empty.
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
func (c *Change) Policy() bool {
	switch c.Kind {
	case Exceptional, AtPartner, OpenPartner, ResumePartner, AddDomain, MakePartner, LiftBar, SetDefault, RaiseLimit, EditException, EndException:
		return true
	}
	return false
}

// Text says the change in a sentence.
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

// towards refers to whom a change is about: a partner, a domain where it is anybody of it, or
// an address.
func (c *Change) towards() world.PartyRef {
	if c.Party.IsNewcomer() {
		return world.PartyRef{Partner: c.Partner, Domain: c.Party.Domain()}
	}
	return world.PartyRef{Partner: c.Partner, Address: c.Party}
}

func (c *Change) whom() string {
	switch {
	case c.Partner != "":
		return "the partner " + c.Partner
	case c.Party.IsNewcomer():
		return "whoever is at " + c.Party.Domain().String()
	}
	return c.Party.String()
}

// id tells changes apart.
func (c *Change) id() string {
	return fmt.Sprint(c.Kind, c.Rule, c.Value, c.Resource, c.Role, c.Party, c.Partner, c.Key, c.Person, c.Group, c.Domain, c.Bar, c.Release, c.Except)
}

// Option is a complete set of changes that gives a yes.
type Option struct {
	ID         string
	Account    engine.Account
	Changes    []Change
	Conditions catalogue.Condition // under which it would be a yes
	Width      []int               // of its changes, the widest first
}

// Hopeless is what no change of this kind helps against.
type Hopeless struct {
	Account engine.Account
	Cause   engine.Cause
}

// Request says for what remedies are looked for.
type Request struct {
	Question  engine.Question
	Until     moment.Moment // the end proposed for grants and exceptions; Never for none
	MaxOption int           // at most so many; 0 is 12
}

// finder looks for remedies on one snapshot.
type finder struct {
	s *engine.Snapshot
	r *Request
	q engine.Question

	hopeless []Hopeless
	tried    int
}

// Find finds the sets of changes that would make a question a yes, the narrowest first
// as far as kinds tell it, and what nothing helps against. A question that is a yes has
// none. An error is a *engine.WrongUse.
func Find(s *engine.Snapshot, r Request) ([]Option, []Hopeless, error) {
	ans, err := s.Explain(&r.Question)
	if err != nil || ans.Yes() {
		return nil, nil, err
	}
	if r.MaxOption == 0 {
		r.MaxOption = 12
	}
	f := &finder{s: s, r: &r}
	seen := map[string]bool{}
	var out []Option
	add := func(o *Option) {
		if o == nil || seen[o.ID] {
			return
		}
		seen[o.ID] = true
		out = append(out, *o)
	}
	for i := range ans.Accounts {
		f.q = r.Question
		if len(ans.Accounts) > 1 {
			f.q.Account = ans.Accounts[i].Account
		}
		base, choices := f.solve(nil)
		add(base)
		for _, c := range choices { // one exchanged, the others as narrow as they are
			for k := 1; k < c.n; k++ {
				o, _ := f.solve(map[string]int{c.key: k})
				add(o)
			}
		}
	}
	out = minimal(out)
	sort.SliceStable(out, func(i, j int) bool { return narrower(&out[i], &out[j]) })
	if len(out) > r.MaxOption {
		out = out[:r.MaxOption]
	}
	if len(out) > 0 {
		f.hopeless = nil
	}
	return out, f.hopeless, nil
}

// minimal leaves out options that hold all of another, or the same with a looser value.
func minimal(list []Option) []Option {
	var out []Option
next:
	for i := range list {
		for j := range list {
			if i != j && len(list[j].Changes) <= len(list[i].Changes) && holds(&list[i], &list[j]) {
				continue next
			}
		}
		out = append(out, list[i])
	}
	return out
}

// holds reports whether for every change of b option a has the same or one that says a
// looser value.
func holds(a, b *Option) bool {
next:
	for i := range b.Changes {
		y := &b.Changes[i]
		for k := range a.Changes {
			x := a.Changes[k]
			if scale := &y.Rule.Get().Scale; x.Kind == y.Kind && x.Rule == y.Rule && (x.Value == y.Value || scale.Looser(x.Value, y.Value)) {
				x.Value = y.Value
			}
			if x.id() == y.id() {
				continue next
			}
		}
		return false
	}
	return true
}

func narrower(a, b *Option) bool {
	for i := 0; i < len(a.Width) && i < len(b.Width); i++ {
		if a.Width[i] != b.Width[i] {
			return a.Width[i] < b.Width[i]
		}
	}
	return len(a.Width) < len(b.Width)
}

// choice is a cause that more than one change helps against.
type choice struct {
	key string
	n   int
}

// solve collects changes cause by cause until the question is a yes, taking for each
// cause the narrowest, or what picked says.
func (f *finder) solve(picked map[string]int) (*Option, []choice) {
	var set []Change
	var choices []choice
	have := map[string]bool{}
	used := map[string]int{}
	for round := 0; round < 12; round++ {
		s, q, err := f.as(f.s, set)
		if err != nil {
			return nil, choices
		}
		ans, err := s.Explain(&q)
		if err != nil {
			return nil, choices
		}
		if ans.Yes() {
			return f.option(set, ans), choices
		}
		progress := false
		for g := range ans.Accounts[0].Gates {
			for i := range ans.Accounts[0].Gates[g].Causes {
				c := &ans.Accounts[0].Gates[g].Causes[i]
				if !c.Refuses {
					continue
				}
				key := c.Code.String()
				if c.Chain != nil {
					key += " " + c.Chain.Rule.String() + " " + c.Chain.Steps[engine.PeopleLayer].Where
				}
				key += " " + c.Key.String() + " " + c.B
				alts := f.against(s, c)
				if len(alts) == 0 {
					if picked == nil {
						f.hopeless = append(f.hopeless, Hopeless{ans.Accounts[0].Account, *c})
					}
					return nil, choices
				}
				if _, known := used[key]; !known {
					choices = append(choices, choice{key, len(alts)})
				}
				k := used[key]
				if k == 0 {
					k = picked[key]
				} else if k >= len(alts) { // what was tried did not help, nor does anything else
					return nil, choices
				}
				if k >= len(alts) {
					return nil, choices
				}
				used[key] = k + 1
				for _, x := range alts[k] {
					if id := x.id(); !have[id] {
						have[id] = true
						set = append(set, x)
						progress = true
					}
				}
			}
		}
		if !progress {
			return nil, choices
		}
	}
	return nil, choices
}

// option makes a set as small as it can be and names it.
func (f *finder) option(set []Change, ans *engine.Answer) *Option {
	for i := 0; i < len(set); {
		less := append(append([]Change(nil), set[:i]...), set[i+1:]...)
		if s, q, err := f.as(f.s, less); err == nil {
			q.Account = f.r.Question.Account // of all accounts any may turn out to be enough
			if x, err := s.Explain(&q); err == nil && x.Yes() {
				set, ans, i = less, x, 0
				continue
			}
		}
		i++
	}
	o := &Option{Account: ans.Accounts[0].Account, Changes: set, Conditions: ans.Accounts[0].Conditions}
	var ids []string
	for i := range set {
		ids = append(ids, set[i].id())
		o.Width = append(o.Width, width[set[i].Kind])
	}
	sort.Sort(sort.Reverse(sort.IntSlice(o.Width)))
	sort.Strings(ids)
	sum := sha256.Sum256([]byte(strings.Join(ids, "\n")))
	o.ID = hex.EncodeToString(sum[:6])
	return o
}

const administrator = "administrator"

// outside is whom from outside the question is about.
func (f *finder) outside() addr.Address {
	if !f.q.Address.IsZero() && f.q.Subject.Kind == engine.ByPerson {
		return f.q.Address
	}
	if f.q.Subject.Kind == engine.ByAddress {
		return f.q.Subject.Address
	}
	return f.q.Address
}

// against lists what helps against a cause, each a list of changes, the narrowest first.
func (f *finder) against(s *engine.Snapshot, c *engine.Cause) [][]Change {
	one := func(x Change) [][]Change { return [][]Change{{x}} }
	who := c.WhoText()
	if who == "" {
		who = administrator
	}
	switch c.Code {
	case catalogue.RecordInvited:
		return one(Change{Kind: Activate, Who: "the party", Party: f.party(c)})
	case catalogue.RecordSuspended:
		back := Change{Kind: Activate, Who: administrator, Party: f.party(c)}
		more := Change{Kind: Extend, Who: administrator, Party: f.party(c), Until: f.r.Until}
		for _, set := range [][]Change{{back}, {more, back}} { // whose term or end is over, too, needs more time
			if sp, _, err := f.as(s, set); err == nil {
				if state, _, _, ok := sp.StateOf(sp.PartyOf(back.Party), f.q.At); ok && state != world.StateSuspended {
					return [][]Change{set}
				}
			}
		}
		return one(back)
	case catalogue.NoSignInMethod:
		// Any one method that serves is enough.
		v := c.Value
		for m := catalogue.Value(1); m <= c.Needed; m <<= 1 {
			if c.Needed&m != 0 {
				v |= m
				break
			}
		}
		return f.rule(s, c.Chain, v)
	case catalogue.BarredAddress, catalogue.BarredDomain:
		return one(Change{Kind: LiftBar, Who: administrator, Bar: c.A})
	case catalogue.LevelClosed:
		if c.Chain == nil {
			return nil
		}
		return append(f.rule(s, c.Chain, c.Needed), f.rule(s, c.Chain, c.Needed+1)...)
	case catalogue.NotListed:
		var out [][]Change
		if m := s.Match(f.partyOf(c)); !m.Private && !m.Own && m.Partner == nil {
			d := f.partyOf(c).Domain()
			for i := range s.Policy().Partners { // one that it lies under is likely theirs
				p := &s.Policy().Partners[i]
				for _, e := range p.Domains {
					if d.Under(e.Domain) && world.NewWatch(s.Policy()).Refuse(p.ID, world.Entry{Domain: d}) == "" {
						out = append(out, []Change{{Kind: AddDomain, Who: administrator, Domain: d, Partner: p.ID, Name: p.Name}})
						break
					}
				}
			}
			if key, ok := catalogue.ParseKey(c.B); ok && world.NewWatch(s.Policy()).Refuse(partnerID(d), world.Entry{Domain: d}) == "" {
				out = append(out, []Change{{Kind: MakePartner, Who: administrator, Domain: d, Key: key}})
			}
		}
		if c.Chain != nil {
			out = append(out, f.rule(s, c.Chain, c.Needed+1)...)
		}
		return out
	case catalogue.NotOpened, catalogue.OpenedNo:
		key, ok := catalogue.ParseKey(c.B)
		if !ok {
			return nil
		}
		out := one(Change{Kind: OpenPartner, Who: administrator, Partner: c.Partner, Name: c.A, Key: key})
		if c.Code == catalogue.NotOpened && c.Chain != nil {
			out = append(out, f.rule(s, c.Chain, c.Needed+1)...)
		}
		return out
	case catalogue.StandingSuspended, catalogue.StandingEnded:
		return one(Change{Kind: ResumePartner, Who: administrator, Partner: c.Partner, Name: c.A})
	case catalogue.OutsideSpaceParties:
		space := f.space(s)
		x := Change{Kind: Admit, Who: who, Resource: space, Name: s.NameOf(space), Party: f.outside()}
		out := one(x)
		if m := s.Match(x.Party); m.Partner != nil {
			x.Party, x.Partner = addr.Address{}, m.Partner.ID
			out = append(out, []Change{x})
		}
		return out
	case catalogue.OtherSignInDomain:
		if f.outside().IsZero() {
			return nil
		}
		return one(Change{Kind: MeetingDoor, Who: who, Resource: f.q.Resource, Name: s.NameOf(f.q.Resource), Domain: f.outside().Domain()})
	case catalogue.PasscodeMissing:
		host, _ := s.HostOf(f.q.Resource.ID)
		return one(Change{Kind: MeetingDoor, Who: "owner:" + host, Resource: f.q.Resource, Name: s.NameOf(f.q.Resource)})
	case catalogue.TheirsRefuses, catalogue.TheirsLacksFeature:
		return one(Change{Kind: TheirStance, Side: engine.Theirs, Who: who, Partner: c.Partner, Name: c.A, Key: c.Key})
	case catalogue.NoGrant, catalogue.RoleTooLow, catalogue.PrivateItem, catalogue.GrantOver, catalogue.GrantAhead:
		return f.grants(s)
	case catalogue.NotMember, catalogue.NotInviter:
		space := f.space(s)
		if f.q.Subject.Kind != engine.ByPerson || space.ID == "" {
			return nil
		}
		out := one(Change{Kind: TakeIn, Who: f.owner(s), Resource: space, Name: s.NameOf(space), Person: f.q.Subject.ID, Role: catalogue.Contribute})
		return append(out, []Change{{Kind: TakeIn, Who: f.owner(s), Resource: space, Name: s.NameOf(space), Person: f.q.Subject.ID, Role: catalogue.Manage}})
	case catalogue.NoLicenceRoute:
		var out [][]Change
		if a := f.outside(); !a.IsZero() && !a.IsNewcomer() {
			out = append(out, []Change{{Kind: Licence, Who: "the party", Party: a}})
		}
		space := f.space(s)
		out = append(out, []Change{{Kind: Licence, Who: f.owner(s), Resource: space, Name: s.NameOf(space)}})
		if c.Chain != nil {
			for m := catalogue.Value(1); m <= 4; m <<= 1 {
				if c.Value&m == 0 {
					out = append(out, f.rule(s, c.Chain, c.Value|m)...)
				}
			}
		}
		return out
	}
	if c.Chain != nil && c.Needed != c.Value {
		return f.rule(s, c.Chain, c.Needed)
	}
	return nil
}

// partyOf is the outside party that a domain cause is about.
func (f *finder) partyOf(c *engine.Cause) addr.Address {
	if c.Chain != nil && !c.Chain.Party.IsZero() {
		return c.Chain.Party
	}
	return f.outside()
}

func (f *finder) party(c *engine.Cause) addr.Address {
	if a, err := addr.Parse(c.A); err == nil {
		return a
	}
	return f.outside()
}

// space is the space that the question's resource is, or is in.
func (f *finder) space(s *engine.Snapshot) world.Resource {
	r := f.q.Resource
	switch {
	case r.Kind == catalogue.Space:
		return r
	case r.Kind == catalogue.Meeting:
		_, in := s.HostOf(r.ID)
		return world.Resource{Kind: catalogue.Space, ID: in}
	case r.Kind.IsItem():
		return world.Resource{Kind: catalogue.Space, ID: s.SpaceOf(r.ID)}
	}
	return world.Resource{}
}

func (f *finder) owner(s *engine.Snapshot) string {
	if o := s.OwnerOf(f.space(s).ID); o != "" {
		return "owner:" + o
	}
	return administrator
}

// grants lists roles that would be enough: on the item, on its space, through a group.
func (f *finder) grants(s *engine.Snapshot) (out [][]Change) {
	who := f.outside()
	if f.q.Subject.Kind != engine.ByAddress || who.IsZero() {
		return nil
	}
	if who = f.q.Subject.Address; who.IsNewcomer() { // nobody in particular: nothing is given to them
		return nil
	}
	places := []world.Resource{}
	if f.q.Resource.Kind.IsItem() || f.q.Resource.Kind == catalogue.Space {
		places = append(places, f.q.Resource)
	}
	if sp := f.space(s); sp.ID != "" && sp != f.q.Resource {
		places = append(places, sp)
	}
	for _, place := range places {
		for role := catalogue.View; role <= catalogue.Manage; role++ {
			x := Change{Kind: GiveGrant, Who: f.owner(s), Resource: place, Name: s.NameOf(place), Role: role, Party: who, Until: f.r.Until}
			if f.passes(s, x, catalogue.GrantGate) {
				out = append(out, []Change{x})
				for _, g := range s.Giving(place, role, f.q.At) {
					out = append(out, []Change{{Kind: JoinGroup, Who: f.owner(s), Resource: place, Name: s.NameOf(place), Role: role, Party: who, Group: g}})
				}
				break
			}
		}
	}
	return
}

// as returns what to ask of which snapshot as if changes were made: what would be given
// is supposed with the question, which copies nothing of the world.
func (f *finder) as(s *engine.Snapshot, set []Change) (*engine.Snapshot, engine.Question, error) {
	q := f.q
	x := engine.Suppose{}
	var rest []Change
	wakes := false // a record that is brought back is asked with what it would hold
	for i := range set {
		wakes = wakes || set[i].Kind == Activate || set[i].Kind == Extend
	}
	if wakes {
		return Apply(s, set, q.At), q, nil
	}
	for i := range set {
		switch c := &set[i]; c.Kind {
		case GiveGrant:
			x.Address = c.Party
			x.Grants = append(x.Grants, world.Grant{Resource: c.Resource, Role: c.Role, From: q.At, Until: c.end(q.At)})
		case JoinGroup:
			x.Address = c.Party
			x.Groups = append(x.Groups, c.Group)
		default:
			rest = append(rest, *c)
		}
	}
	s = Apply(s, rest, q.At)
	if x.Address.IsZero() {
		return s, q, nil
	}
	var err error
	q.With, err = s.Supposing(x)
	return s, q, err
}

// passes reports whether a gate passes once a change is made.
func (f *finder) passes(s *engine.Snapshot, x Change, g catalogue.Gate) bool {
	with, q, err := f.as(s, []Change{x})
	if err != nil {
		return false
	}
	ans, err := with.Explain(&q)
	if err != nil {
		return false
	}
	gate := &ans.Accounts[0].Gates[g]
	return !gate.Asked || gate.Pass
}

// rule lists the ways in which a rule reaches a value in a context: every layer that says
// something tighter is loosened, and where none says anything one of them does.
func (f *finder) rule(s *engine.Snapshot, c *engine.Chain, need catalogue.Value) (out [][]Change) {
	if c == nil {
		return nil
	}
	rule := c.Rule.Get()
	scale := &rule.Scale
	if !valid(scale, need) {
		return nil
	}
	to := func(have catalogue.Value) catalogue.Value { // what is to be said where something is said already
		if scale.Shape == catalogue.Methods && have != catalogue.Unset {
			return have | need
		}
		return need
	}
	short := func(v catalogue.Value) bool { return v != catalogue.Unset && scale.Looser(need, v) }
	var base []Change
	if scale.Shape != catalogue.Choice && short(c.Steps[engine.LimitLayer].Value) {
		base = append(base, Change{Kind: RaiseLimit, Who: administrator, Rule: c.Rule, Value: to(c.Steps[engine.LimitLayer].Value)})
	}
	layers := []engine.LayerName{engine.ItemLayer, engine.PeopleLayer, engine.SpaceLayer, engine.PartnerLayer}
	at := func(l engine.LayerName) (Change, bool) {
		step := &c.Steps[l]
		held, need := step.Held == need, to(step.Value)
		switch l {
		case engine.ItemLayer:
			if !step.Applies {
				return Change{}, false
			}
			x := Change{Kind: AtItem, Who: f.owner(s), Rule: c.Rule, Value: need, Resource: f.q.Resource, Name: s.NameOf(f.q.Resource), Release: held}
			if f.q.Resource.Kind == catalogue.Meeting {
				if host, _ := s.HostOf(f.q.Resource.ID); host != "" {
					x.Who = "owner:" + host
				}
			}
			return x, true
		case engine.SpaceLayer:
			if !step.Applies || step.Where == "" {
				return Change{}, false
			}
			sp := world.Resource{Kind: catalogue.Space, ID: step.Where}
			return Change{Kind: AtSpace, Who: f.owner(s), Rule: c.Rule, Value: need, Resource: sp, Name: s.NameOf(sp), Release: held}, true
		case engine.PeopleLayer:
			if !step.Applies || c.Person == "" || c.Party.IsZero() && c.Partner == "" {
				return Change{}, false
			}
			x := Change{Kind: Exceptional, Who: administrator, Rule: c.Rule, Value: need, Person: c.Person, Partner: c.Partner, Until: f.r.Until}
			if x.Partner == "" {
				x.Party = c.Party
			}
			return x, true
		case engine.PartnerLayer:
			if !step.Applies || step.Where == "" {
				return Change{}, false
			}
			return Change{Kind: AtPartner, Who: administrator, Rule: c.Rule, Value: need, Partner: step.Where, Name: partnerName(s, step.Where), Release: held}, true
		}
		return Change{}, false
	}
	if scale.Shape == catalogue.Choice { // the nearest counts
		for _, l := range layers {
			if x, ok := at(l); ok {
				out = append(out, []Change{x})
			}
		}
		return append(out, []Change{{Kind: SetDefault, Who: administrator, Rule: c.Rule, Value: need}})
	}
	said := false
	var ways []Change // against an exception that stands in the way
	for _, l := range layers {
		step := &c.Steps[l]
		if step.Value == catalogue.Unset {
			continue
		}
		said = true
		if short(step.Value) {
			x, ok := at(l)
			if !ok {
				return nil
			}
			if l == engine.PeopleLayer {
				ways = f.exceptions(s, c, step.Where, need, x)
				if len(ways) == 0 {
					return nil
				}
				continue
			}
			base = append(base, x)
		}
	}
	for _, way := range ways { // one of them, besides what the other layers need
		out = append(out, append(append([]Change(nil), base...), way))
	}
	if len(ways) > 0 {
		return out
	}
	if said || !short(c.Steps[engine.DefaultLayer].Value) {
		if len(base) == 0 {
			return nil
		}
		return [][]Change{base}
	}
	for _, l := range layers {
		x, ok := at(l)
		if !ok {
			continue
		}
		out = append(out, append(append([]Change(nil), base...), x))
		if l == engine.PeopleLayer { // the same for a whole group that the person is in
			for _, g := range s.GroupsOf(c.Person) {
				y := x
				y.Person, y.Group = "", g
				out = append(out, append(append([]Change(nil), base...), y))
			}
		}
	}
	return append(out, append(append([]Change(nil), base...), Change{Kind: SetDefault, Who: administrator, Rule: c.Rule, Value: to(c.Steps[engine.DefaultLayer].Value)}))
}

// exceptions lists what helps against an exception that says too little: changing it, ending
// it where that is enough, and where it is one of a group, an exception of the person's own,
// which counts before it.
func (f *finder) exceptions(s *engine.Snapshot, c *engine.Chain, id string, need catalogue.Value, own Change) (out []Change) {
	for i := range s.Policy().Exceptions {
		x := &s.Policy().Exceptions[i]
		if x.ID != id {
			continue
		}
		for _, r := range x.Rules {
			if r.Rule == c.Rule {
				v := need
				if c.Rule.Get().Scale.Shape == catalogue.Methods {
					v |= r.Value
				}
				out = append(out, Change{Kind: EditException, Who: administrator, Rule: c.Rule, Value: v, Except: id, Name: id})
			}
		}
		without := *c
		without.Steps[engine.PeopleLayer].Value = catalogue.Unset
		if v := without.Effective(); !c.Rule.Get().Scale.Looser(need, v) {
			out = append(out, Change{Kind: EndException, Who: administrator, Rule: c.Rule, Except: id, Name: id})
		}
		if !slices.Contains(x.People, c.Person) {
			out = append(out, own)
		}
	}
	return
}

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

func partnerName(s *engine.Snapshot, id string) string {
	ps := s.Policy().Partners
	for i := range ps {
		if ps[i].ID == id {
			return ps[i].Name
		}
	}
	return id
}

// Apply returns a snapshot as changes would make it.
func Apply(s *engine.Snapshot, set []Change, at moment.Moment) *engine.Snapshot {
	if len(set) == 0 {
		return s
	}
	e := s.Aside()
	set = append([]Change(nil), set...)
	sort.SliceStable(set, func(i, j int) bool { return set[i].Kind != Activate && set[j].Kind == Activate }) // who is brought back holds what is given
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

// end is the proposed end, or one that lies behind the moment that is asked about.
func (c *Change) end(at moment.Moment) moment.Moment {
	if c.Until > at {
		return c.Until
	}
	return moment.Never
}

// PolicyWith returns a policy as the changes of a set that are policy would make it, with
// what partners' own sides would say; the same where there are none.
func PolicyWith(p *world.World, set []Change, at moment.Moment) *world.World {
	part := &world.World{}
	bars := map[string]bool{}
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
	rule := func(r catalogue.RuleID) *world.RuleSetting {
		for i := range part.Rules {
			if part.Rules[i].Rule == r {
				return &part.Rules[i]
			}
		}
		part.Rules = append(part.Rules, world.RuleSetting{Rule: r, Limit: catalogue.Unset, Default: catalogue.Unset, Counts: catalogue.Unset})
		return &part.Rules[len(part.Rules)-1]
	}
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
				q.Domains = append(q.Domains[:len(q.Domains):len(q.Domains)], world.Entry{Domain: c.Domain})
			}
		case MakePartner:
			id := partnerID(c.Domain)
			q := partner(id)
			if q == nil {
				part.Partners = append(part.Partners, world.Partner{ID: id, Name: c.Domain.String(), Domains: []world.Entry{{Domain: c.Domain}}, StandingSince: moment.Always, Review: moment.Never})
				q = &part.Partners[len(part.Partners)-1]
			}
			q.Opened[c.Key] = world.OpenYes
		case Exceptional:
			x := world.Exception{ID: c.ExceptionID(), Parties: []world.PartyRef{c.towards()}, Rules: []world.Setting{{Rule: c.Rule, Value: c.Value}}, From: at, Until: c.end(at), Reason: "so that a refused question is a yes"}
			if c.Group != "" {
				x.Groups = []string{c.Group}
			} else {
				x.People = []string{c.Person}
			}
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

// partnerID names the partner that is made of a domain.
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
