package remedy

import (
	"crypto/sha256"
	"encoding/hex"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// What helps against a cause. Each code of a refusal has its ways, the
// narrowest first, and a rule that falls short those of its layers. A way is
// tried and not believed: whether it helps, and whether all of it is needed, is
// asked of the engine in a world with the change made (finder.as).

// option makes a set as small as it can be and names it. Changes are left out
// one by one as long as the answer stays yes; what remains is needed. The
// answer may then come by another account than the one that was helped.
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
	// The id is of what is changed, in no order: two ways of finding the same
	// set are one option.
	var ids []string
	for i := range set {
		ids = append(ids, set[i].id())
		o.Width = append(o.Width, width[set[i].Kind])
	}
	sort.Sort(sort.Reverse(sort.IntSlice(o.Width)))
	sort.Strings(ids)
	sum := sha256.Sum256([]byte(strings.Join(ids, "\n")))
	// The same set has the same id in every run, so that a call can name it.
	o.ID = hex.EncodeToString(sum[:6])
	return o
}

// administrator is who can make changes of policy, as Change.Who writes it.
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

// against lists what helps against a cause, each a list of changes, the
// narrowest first. Each code of a refusal has its ways; a rule that falls short
// has those of its layers. What is not here, nothing helps against.
func (f *finder) against(s *engine.Snapshot, c *engine.Cause) [][]Change {
	one := func(x Change) [][]Change { return [][]Change{{x}} }
	who := c.WhoText()
	if who == "" {
		who = administrator
	}
	switch c.Code {
	case catalogue.RecordInvited:
		return one(Change{Kind: Activate, Who: "the party", Party: f.party(c)})
	// Bringing back somebody whose term is over would do nothing: they would be
	// suspended again the same day. So it is tried with more time, too.
	case catalogue.RecordSuspended:
		back := Change{Kind: Activate, Who: administrator, Party: f.party(c)}
		more := Change{Kind: Extend, Who: administrator, Party: f.party(c), Until: f.r.Until}
		// Whose term is over would be suspended again at once.
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
		// Listed is enough for a partner that is opened, and any for everybody
		// else; which of them is needed is found by trying.
		return append(f.rule(s, c.Chain, c.Needed), f.rule(s, c.Chain, c.Needed+1)...)
	// A domain below a partner's is likely theirs; else a partner is made of
	// it; else the level is raised.
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
	// A partner that was closed by name stays closed whatever the level says,
	// so that only opening it helps.
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
	// One address first, then everybody of their partner: the narrower is tried
	// first, and the wider is the one that lasts.
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
	// People of ours are taken into their space, first as a member and then as
	// an owner: who may invite there is a rule of the space.
	case catalogue.NotMember, catalogue.NotInviter:
		space := f.space(s)
		if f.q.Subject.Kind != engine.ByPerson || space.ID == "" {
			return nil
		}
		out := one(
			Change{
				Kind:     TakeIn,
				Who:      f.owner(s),
				Resource: space,
				Name:     s.NameOf(space),
				Person:   f.q.Subject.ID,
				Role:     catalogue.Contribute,
			},
		)
		return append(
			out,
			[]Change{
				{Kind: TakeIn, Who: f.owner(s), Resource: space, Name: s.NameOf(space), Person: f.q.Subject.ID, Role: catalogue.Manage},
			},
		)
	// A licence of their own costs us nothing and is first; one of the area
	// covers everybody there; a further route is a rule.
	case catalogue.NoLicenceRoute:
		var out [][]Change
		if a := f.outside(); !a.IsZero() && !a.IsNewcomer() {
			out = append(out, []Change{{Kind: Licence, Who: "the party", Party: a}})
		}
		space := f.space(s)
		out = append(out, []Change{{Kind: Licence, Who: f.owner(s), Resource: space, Name: s.NameOf(space)}})
		if c.Chain != nil {
			// The three routes are bits of one value: each that is not
			// allowed yet is tried by itself.
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

// party is whom a cause of a record is about: whom it names, else whom the
// question is about.
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

// owner is who can settle something in the space: its owner, else an
// administrator.
func (f *finder) owner(s *engine.Snapshot) string {
	if o := s.OwnerOf(f.space(s).ID); o != "" {
		return "owner:" + o
	}
	return administrator
}

// grants lists roles that would be enough: on the item, on its space, through a
// group. At each place the lowest role that is enough is tried, and groups that
// give it.
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
		// From the lowest up: the first that passes is the least that is
		// enough, and none above it is offered.
		for role := catalogue.View; role <= catalogue.Manage; role++ {
			x := Change{Kind: GiveGrant, Who: f.owner(s), Resource: place, Name: s.NameOf(place), Role: role, Party: who, Until: f.r.Until}
			if f.passes(s, x, catalogue.GrantGate) {
				out = append(out, []Change{x})
				for _, g := range s.Giving(place, role, f.q.At) {
					out = append(
						out,
						[]Change{
							{Kind: JoinGroup, Who: f.owner(s), Resource: place, Name: s.NameOf(place), Role: role, Party: who, Group: g},
						},
					)
				}
				break
			}
		}
	}
	return
}

// as returns what to ask of which snapshot as if changes were made: what would
// be given is supposed with the question, which copies nothing of the world.
// With a record that has to be brought back the change is made in earnest,
// aside.
func (f *finder) as(s *engine.Snapshot, set []Change) (*engine.Snapshot, engine.Question, error) {
	q := f.q
	x := engine.Suppose{Stranger: q.Stranger}
	var rest []Change
	// Supposing takes an address as it is, so that it cannot bring a record
	// back: those sets are applied to a copy of the world.
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

// rule lists the ways in which a rule reaches a value in a context: every layer
// that says something tighter is loosened, and where none says anything one of
// them does.
//
// base is what has to be loosened in any case; the ways differ in which layer
// speaks where none does. With the limit at listed, the default at closed and
// nobody below speaking, *any* takes raising the limit and one of: a value at
// the item, an exception, a value at the space or the partner, the default.
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
	// The change that makes a layer say it; false where there is no such layer
	// here.
	at := func(l engine.LayerName) (Change, bool) {
		step := &c.Steps[l]
		held, need := step.Held == need, to(step.Value)
		switch l {
		case engine.ItemLayer:
			if !step.Applies {
				return Change{}, false
			}
			x := Change{
				Kind:     AtItem,
				Who:      f.owner(s),
				Rule:     c.Rule,
				Value:    need,
				Resource: f.q.Resource,
				Name:     s.NameOf(f.q.Resource),
				Release:  held,
			}
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
			x := Change{
				Kind:    Exceptional,
				Who:     administrator,
				Rule:    c.Rule,
				Value:   need,
				Person:  c.Person,
				Partner: c.Partner,
				Until:   f.r.Until,
			}
			if x.Partner == "" {
				x.Party = c.Party
			}
			return x, true
		case engine.PartnerLayer:
			if !step.Applies || step.Where == "" {
				return Change{}, false
			}
			return Change{
				Kind:    AtPartner,
				Who:     administrator,
				Rule:    c.Rule,
				Value:   need,
				Partner: step.Where,
				Name:    partnerName(s, step.Where),
				Release: held,
			}, true
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
	return append(
		out,
		append(
			append([]Change(nil), base...),
			Change{Kind: SetDefault, Who: administrator, Rule: c.Rule, Value: to(c.Steps[engine.DefaultLayer].Value)},
		),
	)
}

// exceptions lists what helps against an exception that says too little:
// changing it, ending it where that is enough, and where it is one of a group,
// an exception of the person's own, which counts before it.
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
