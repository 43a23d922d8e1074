package answer

import (
	"sort"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// What a step is, and why, in words.
var (
	dueWords = map[dated.Kind]string{
		dated.GrantEnds: "the grant ends", dated.ReviewDue: "the grant is to be confirmed", dated.Suspended: "the record is suspended",
		dated.Removed: "the record is removed", dated.Invitation: "the invitation lapses",
	}
	causeWords = map[dated.Cause]string{
		dated.ByUntil: "its own end", dated.ByReview: "nobody confirmed it in time", dated.ByLastGrant: "no grant is left", dated.ByTerm: "the term without renewal is over",
		dated.ByOwnUntil: "the record's own end", dated.ByIdle: "not seen for too long", dated.ByPartner: "the connection with the partner ended", dated.ByHand: "suspended by hand",
		dated.ByGrace: "the days of grace are over", dated.ByInviteDays: "not accepted in time", dated.ByReviewNeeded: "grants are confirmed from time to time",
	}
)

// dueOrder is the order in which steps of one moment follow from each other.
var dueOrder = map[apigen.DueStepKind]int{"review_due": 0, "grant_ends": 1, "invitation_lapses": 2, "suspended": 3, "removed": 4}

// DueFilter picks what is due.
type DueFilter struct {
	From, Until moment.Moment
	Partner     string // id; empty for all
	Who         string // an address; empty for all
}

// DueCollector collects what is due of one record after the other.
type DueCollector struct {
	Snapshot *engine.Snapshot
	Filter   DueFilter
	Items    []apigen.DueStep
	Kinds    map[string]int
	Found    bool // a record that is meant was there
}

// Add takes what is due of one record.
func (c *DueCollector) Add(g *world.Guest, own, ofGroups []world.Grant) {
	f := &c.Filter
	if f.Who != "" && f.Who != g.Address.String() {
		return
	}
	partner := ""
	if m := c.Snapshot.Match(g.Address); m.Partner != nil {
		partner = m.Partner.ID
	}
	if f.Partner != "" && f.Partner != partner {
		return
	}
	c.Found = true
	steps := dated.Sequence(dated.Of(c.Snapshot, g, own, ofGroups))
	for i := range steps {
		s := &steps[i]
		if s.At < f.From || s.At >= f.Until {
			continue
		}
		x := apigen.DueStep{At: s.At.String(), Party: g.Address.String(), Name: text(g.Name), Partner: text(partner), Sponsor: text(g.Sponsor), Kind: apigen.DueStepKind(s.Kind), What: dueWords[s.Kind], Cause: string(s.Cause), Because: causeWords[s.Cause]}
		if s.After != "" {
			x.Because += ", after: " + causeWords[s.After]
		}
		if s.Grant != nil {
			x.Resource, x.ResourceName, x.Role = text(s.Grant.Resource.String()), text(c.Snapshot.NameOf(s.Grant.Resource)), text(s.Grant.Role.String())
		}
		c.Kinds[string(s.Kind)]++
		c.Items = append(c.Items, x)
	}
}

// Done puts what was collected in order.
func (c *DueCollector) Done() {
	sort.SliceStable(c.Items, func(i, j int) bool {
		a, b := &c.Items[i], &c.Items[j]
		switch {
		case a.At != b.At:
			return a.At < b.At
		case a.Party != b.Party:
			return a.Party < b.Party
		case a.Kind != b.Kind:
			return dueOrder[a.Kind] < dueOrder[b.Kind]
		}
		return opt(a.Resource)+opt(a.Role) < opt(b.Resource)+opt(b.Role)
	})
}

// DueOf collects what is due in a world that is in memory.
func DueOf(s *engine.Snapshot, w *world.World, f DueFilter) *DueCollector {
	c := &DueCollector{Snapshot: s, Filter: f, Items: []apigen.DueStep{}, Kinds: map[string]int{}}
	own, groups := map[string][]world.Grant{}, map[string][]world.Grant{}
	for _, g := range w.Grants {
		if g.Group != "" {
			groups[g.Group] = append(groups[g.Group], g)
		} else {
			own[g.Address.String()] = append(own[g.Address.String()], g)
		}
	}
	in := map[string][]string{}
	for _, g := range w.Groups {
		for _, a := range g.Parties {
			in[a.String()] = append(in[a.String()], g.ID)
		}
	}
	for i := range w.Guests {
		a := w.Guests[i].Address.String()
		var of []world.Grant
		for _, id := range in[a] {
			of = append(of, groups[id]...)
		}
		c.Add(&w.Guests[i], own[a], of)
	}
	c.Done()
	return c
}
