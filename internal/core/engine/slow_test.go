package engine_test

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// slow answers questions straight from the records, the way model.md and
// rules.md are written: no index, no compiled form, no catalogue of actions, and
// nothing of the engine. Of the catalogue it takes scales, layers and starting
// values of rules, which are data. It is what the engine is compared with.
type slow struct {
	w *world.World
}

// asked is a question in words.
type asked struct {
	who, action, resource string
	at                    moment.Moment
	address, presenter    string
	dropsCopy             bool
	stranger              bool // as if nothing were kept of the outside addresses that it names
}

// told is an answer in words.
type told struct {
	wrong    bool // wrong use
	kind     string
	accounts []toldAccount // the deciding one first
}

type toldAccount struct {
	account    string
	asked      string // the gates that were asked
	refusing   string // those that refuse
	conditions string // of a yes
}

func (t told) String() string {
	if t.wrong {
		return "wrong use"
	}
	return fmt.Sprintf("%s %v", t.kind, t.accounts)
}

// slowParty is an address at a moment.
type slowParty struct {
	address, domain string
	own, private    bool
	barred          bool
	partner         *world.Partner // nil where barred
	record          *world.Guest   // nil where it does not hold one at the moment
	state           string
}

func under(name, top string) bool { return strings.HasSuffix(name, "."+top) }

func (s *slow) party(address string, at moment.Moment) slowParty {
	p := slowParty{address: address, domain: address[strings.LastIndex(address, "@")+1:]}
	matches := func(e world.Entry) bool {
		return e.Domain.String() == p.domain || e.Subdomains && under(p.domain, e.Domain.String())
	}
	longest, bar := 0, 0
	var partner *world.Partner
	take := func(e world.Entry) bool {
		if n := len(e.Domain.String()); matches(e) && n > longest {
			longest, p.own, p.private, partner = n, false, false, nil
			return true
		}
		return false
	}
	if s.w.Organisation != nil {
		for _, e := range s.w.Organisation.Domains {
			if take(e) {
				p.own = true
			}
		}
	}
	for _, e := range s.w.Personal {
		if take(e) {
			p.private = true
		}
	}
	for i := range s.w.Partners {
		for _, e := range s.w.Partners[i].Domains {
			if take(e) {
				partner = &s.w.Partners[i]
			}
		}
	}
	for _, b := range s.w.Barred {
		switch {
		case !b.Address.IsZero():
			if b.Address.String() == address {
				bar = 1000
			}
		case matches(b.Entry):
			bar = max(bar, len(b.Domain.String()))
		}
	}
	p.barred = bar > 0 && bar >= longest
	if !p.barred {
		p.partner = partner
	}
	if g := s.guest(address); g != nil && at >= g.Since {
		out, gone := s.fate(g, p.partner)
		if at >= gone {
			return p
		}
		p.record, p.state = g, "active"
		if at < acceptedAt(g) {
			p.state = "invited"
		}
		if at >= out {
			p.state = "suspended"
		}
	}
	return p
}

// has reports whether an address still holds what it was given: a record that is gone took it
// with it.
func (s *slow) has(p *slowParty, at moment.Moment) bool {
	g := s.guest(p.address)
	if g == nil {
		return true
	}
	_, gone := s.fate(g, p.partner)
	return at < gone
}

func (s *slow) person(id string) *world.Person {
	for i := range s.w.People {
		if s.w.People[i].ID == id {
			return &s.w.People[i]
		}
	}
	return nil
}

// groupsOf lists the groups that hold an address at a moment.
func (s *slow) groupsOf(address string, at moment.Moment) []string {
	if p := s.party(address, at); !s.has(&p, at) {
		return nil
	}
	return s.everIn(address)
}

func (s *slow) names(refs []world.PartyRef, p *slowParty, at moment.Moment) bool {
	if p == nil || p.address == "" {
		return false
	}
	for _, r := range refs {
		switch {
		case r.Partner != "":
			if p.partner != nil && p.partner.ID == r.Partner {
				return true
			}
		case !r.Domain.IsZero():
			if r.Domain.String() == p.domain {
				return true
			}
		case r.Group != "":
			if slices.Contains(s.groupsOf(p.address, at), r.Group) {
				return true
			}
		case r.Address.String() == p.address:
			return true
		}
	}
	return false
}

// where is the context of a rule.
type where struct {
	party  *slowParty
	person *world.Person
	space  *world.Space
	near   []world.Setting // of the item or meeting
}

func say(settings []world.Setting, rule string) (catalogue.Value, bool) {
	for _, x := range settings {
		if x.Rule.String() == rule && !x.Held {
			return x.Value, true
		}
	}
	return 0, false
}

// value follows model §3 line by line.
func (s *slow) value(rule string, c where, at moment.Moment) catalogue.Value {
	r, _ := catalogue.RuleByName(rule)
	limit, def := r.Limit, r.Default
	for _, x := range s.w.Rules {
		if x.Rule == r.ID {
			if x.Limit != catalogue.Unset {
				limit = x.Limit
			}
			if x.Default != catalogue.Unset {
				def = x.Default
				if x.Held {
					def = 0
					if x.Counts != catalogue.Unset {
						def = x.Counts
					}
				}
			}
		}
	}
	var got []catalogue.Value
	layers := r.Layers.String()
	if strings.Contains(layers, "P") && c.party != nil && c.party.partner != nil {
		if v, ok := say(c.party.partner.Rules, rule); ok {
			got = append(got, v)
		}
	}
	if strings.Contains(layers, "E") && c.person != nil {
		var own, groups []catalogue.Value
		for _, x := range s.w.Exceptions {
			if at < x.From || at >= x.Until || x.Parties != nil && !s.names(x.Parties, c.party, at) {
				continue
			}
			if v, ok := say(x.Rules, rule); ok {
				if slices.Contains(x.People, c.person.ID) {
					own = append(own, v)
				}
				for _, g := range c.person.Groups {
					if slices.Contains(x.Groups, g) {
						groups = append(groups, v)
					}
				}
			}
		}
		if len(own) == 0 {
			own = groups
		}
		if len(own) > 0 {
			got = append(got, tightest(r, own))
		}
	}
	if strings.Contains(layers, "S") && c.space != nil {
		if v, ok := say(c.space.Rules, rule); ok {
			got = append(got, v)
		}
	}
	if strings.Contains(layers, "I") {
		if v, ok := say(c.near, rule); ok {
			got = append(got, v)
		}
	}
	if r.Scale.Shape.String() == "choice" {
		if len(got) > 0 {
			return got[len(got)-1]
		}
		return def
	}
	if len(got) == 0 {
		got = append(got, def)
	}
	return tightest(r, append(got, limit))
}

func tightest(r *catalogue.Rule, vs []catalogue.Value) catalogue.Value {
	out := vs[0]
	for _, v := range vs {
		if r.Scale.Shape.String() == "methods" {
			out &= v
		} else if v < out {
			out = v
		}
	}
	return out
}

// word returns a value of a scale of words.
func (s *slow) word(rule string, c where, at moment.Moment) string {
	r, _ := catalogue.RuleByName(rule)
	return r.Scale.Format(s.value(rule, c, at))
}

// gates collects what one account is told.
type gates struct {
	asked, refused map[string]bool
	conditions     map[string]bool
}

func (g *gates) ask(gate string, ok bool) {
	g.asked[gate] = true
	if !ok {
		g.refused[gate] = true
	}
}

var gateOrder = []string{"identity", "domain", "counterpart", "service", "rule", "grant", "licence"}

var conditionOrder = []string{"sign_in", "one_time_code", "accept_terms", "passcode", "password", "held_until_admitted",
	"counterpart_unconfirmed", "presenter_asked", "no_browsing", "becomes_guest", "settling"}

func inOrder(order []string, set map[string]bool) string {
	var out []string
	for _, x := range order {
		if set[x] {
			out = append(out, x)
		}
	}
	return strings.Join(out, " ")
}
