package answer

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// CouldAsked says what could come to be is asked about: a party, or a resource.
type CouldAsked struct {
	Who, Resource, Action string
	All                   bool // those that are a yes already, too
}

// AnyLink is how whoever holds a link that somebody makes is named.
const AnyLink = "link:any"

// CouldLines lists what a party could come to do, or who could come to do something with a resource, in order. An error is a
// *engine.WrongUse.
func CouldLines(s *engine.Snapshot, x CouldAsked, at moment.Moment, stop func() error) (contract.Could, error) {
	out := contract.Could{At: at.String(), Lines: []contract.CouldLine{}}
	if (x.Who == "") == (x.Resource == "") {
		return out, &engine.WrongUse{Field: "who", Value: x.Who, Reason: "name a party or a resource, one of them"}
	}
	scope := engine.Scope{}
	if scope.Actions, _ = engine.ActionsNamed(cmp.Or(x.Action, "*")); x.Action != "" && scope.Actions == 0 {
		return out, &engine.WrongUse{Field: "action", Value: x.Action,
			Reason: "write an action that outsiders do by themselves, or those of a service as chat.*"}
	}
	if x.Who != "" {
		who, err := s.WhoNamed(x.Who, true)
		if err != nil {
			return out, err
		}
		if who.Kind != engine.ByAddress || s.Match(who.Address).Own {
			return out, &engine.WrongUse{Field: "who", Value: x.Who,
				Reason: "write the address of somebody outside, or *@domain for a typical newcomer"}
		}
		scope.Party.Of = world.PartyRef{Address: who.Address}
		out.Who, out.Name = text(who.String()), text(s.NameOfSubject(who))
	} else {
		r, err := engine.ParseResource(x.Resource)
		if err == nil && !s.Has(r.Kind.String(), r.ID) && r.Kind != catalogue.OurDirectory {
			err = &engine.WrongUse{Field: "resource", Value: x.Resource, Reason: "there is no such " + r.Kind.String()}
		}
		if err != nil {
			return out, err
		}
		scope.Resource = &r
		out.Resource = text(r.String())
	}
	known := [2]map[string]bool{{}, {}}
	p := s.Potential(at)
	err := p.EachYes(&scope, stop, func(y *engine.Yes) error {
		s.EachCould(y, func(who engine.Who, r string) bool {
			l := contract.CouldLine{Who: who.String(), Name: y.Name, Newcomer: y.Newcomer, Kind: y.Kind.String(), Action: y.Action.String(),
				Title: y.Action.Get().TitleOn(y.Resource.Kind), Resource: r}
			if !y.Newcomer {
				l.Name = s.NameOfSubject(who)
				known[1][l.Who] = true
			}
			res, err := engine.ParseResource(r)
			if r == "*" || err != nil {
				res = y.Resource
				l.Resource, l.ResourceName = res.String(), "our people"
			} else {
				l.ResourceName = s.NameOf(res)
				l.Now = yesNow(s, who, y.Action, res, at)
			}
			if r == "*" {
				l.Now = looksUpNow(s, who, at)
			}
			if out.Could++; l.Now {
				if out.Now++; !y.Newcomer {
					known[0][l.Who] = true
				}
			}
			if x.All || !l.Now {
				out.Lines = append(out.Lines, l)
			}
			return true
		})
		return stop()
	})
	keys := make([]string, len(out.Lines))
	order := make([]int, len(out.Lines))
	for i := range out.Lines {
		keys[i], order[i] = CouldKey(&out.Lines[i]), i
	}
	slices.SortFunc(order, func(a, b int) int { return strings.Compare(keys[a], keys[b]) })
	sorted := make([]contract.CouldLine, len(order))
	for i, k := range order {
		sorted[i] = out.Lines[k]
	}
	out.Lines = sorted
	out.PartiesNow, out.PartiesCould, out.Total = len(known[0]), len(known[1]), len(out.Lines)
	return out, err
}

// CouldKey is what lines are ordered by: those who are known first, party by party, thing by thing.
func CouldKey(l *contract.CouldLine) string {
	first := "0"
	if l.Newcomer {
		first = "1"
	}
	return strings.Join([]string{first, l.Who, l.ResourceName, l.Resource, l.Action}, "\x00")
}

// yesNow reports whether something that could come to be is so now. Of a link that somebody could make, whoever has nothing but some
// link is asked.
func yesNow(s *engine.Snapshot, who engine.Who, act catalogue.ActionID, r world.Resource, at moment.Moment) bool {
	if who.Kind == engine.ByLinkID && r.Kind.IsItem() {
		return false
	}
	q := engine.Question{Subject: who, Action: act, Resource: r, At: at}
	if who.Kind == engine.ByLinkID {
		q.With = engine.AnyLink(at)
	}
	v, err := s.Decide(&q)
	return err == nil && v.Yes
}

func looksUpNow(s *engine.Snapshot, who engine.Who, at moment.Moment) (is bool) {
	if who.Kind != engine.ByAddress {
		return false
	}
	lookUp, _ := catalogue.ActionByName("directory.look_up")
	scope := engine.Scope{Party: engine.Parties{Of: world.PartyRef{Address: who.Address}}, Actions: 1 << lookUp.ID}
	_ = s.EachYes(&scope, at, func() error { return nil }, func(*engine.Yes) error { is = true; return nil })
	return
}

// CouldTarget reads what a way or cuts are asked for. An error is a *engine.WrongUse.
func CouldTarget(s *engine.Snapshot, q *contract.CouldQuestion) (t could.Target, err error) {
	if q.Subject == AnyLink {
		t.Who = engine.Who{Kind: engine.ByLinkID, ID: "any"}
	} else if t.Who, err = s.WhoNamed(q.Subject, true); err != nil {
		return t, err
	} else if t.Who.Kind != engine.ByAddress || s.Match(t.Who.Address).Own {
		return t, &engine.WrongUse{Field: "subject", Value: q.Subject,
			Reason: "write the address of somebody outside, *@domain for a typical newcomer, or " + AnyLink +
				" for whoever holds a link that somebody makes"}
	}
	if t.Action, err = engine.ParseAction(q.Action); err != nil {
		return t, err
	}
	if !engine.InwardActions.Has(t.Action) {
		return t, &engine.WrongUse{Field: "action", Value: q.Action, Reason: "write what somebody outside does by themselves"}
	}
	if t.Resource, err = engine.ParseResource(q.Resource); err != nil {
		return t, err
	}
	if !t.Action.Get().Takes(t.Resource.Kind) {
		return t, &engine.WrongUse{Field: "resource", Value: q.Resource, Reason: q.Action + " is about a " + t.Action.Get().TakesNames()}
	}
	if t.Resource.Kind != catalogue.OurDirectory && t.Resource.Kind != catalogue.Calendar && !s.Has(t.Resource.Kind.String(), t.Resource.ID) {
		return t, &engine.WrongUse{Field: "resource", Value: q.Resource, Reason: "there is no such " + t.Resource.Kind.String()}
	}
	return t, nil
}

// caller writes people of ours and outsiders as a sentence does.
func caller(s *engine.Snapshot) func(engine.Who) string {
	return func(w engine.Who) string {
		if w.Kind == engine.ByAddress && could.SomebodyNew(w.Address) {
			return "somebody new at " + w.Address.Domain().String()
		}
		return cmp.Or(s.NameOfSubject(w), w.String())
	}
}

// begins makes somebody new the beginning of a sentence. Names and addresses are written as they are.
func begins(text string) string {
	if rest, is := strings.CutPrefix(text, "somebody "); is {
		return "Somebody " + rest
	}
	return text
}

func namer(s *engine.Snapshot) func(world.Resource) string {
	return func(r world.Resource) string {
		if name := s.NameOf(r); name != "" {
			return name
		}
		return r.String()
	}
}

// Way finds the shortest way to something.
func Way(s *engine.Snapshot, t could.Target, at moment.Moment) contract.CouldWay {
	out := contract.CouldWay{
		Subject: t.Who.String(), Name: text(s.NameOfSubject(t.Who)), Action: t.Action.String(),
		Title:        text(t.Action.Get().TitleOn(t.Resource.Kind)),
		Resource:     t.Resource.String(),
		ResourceName: text(s.NameOf(t.Resource)), Decision: contract.CouldWayDecisionNo, Acts: []contract.CouldAct{},
	}
	chain := could.Find(s, at, t)
	if chain == nil {
		return out
	}
	if out.Decision = contract.CouldWayDecisionCould; chain.Now {
		out.Decision = contract.CouldWayDecisionYes
		return out
	}
	if len(chain.Acts) == 0 {
		longer := true
		out.Longer = &longer
	}
	call, name := caller(s), namer(s)
	for i := range chain.Acts {
		a := &chain.Acts[i]
		x := contract.CouldAct{Kind: contract.CouldActKind(a.Kind), Text: begins(a.Text(call, name)), By: a.By.String(),
			ByName: begins(call(a.By)), Count: a.Can}
		if a.Resource.ID != "" && a.Resource.Kind != catalogue.OurDirectory {
			x.Resource = text(a.Resource.String())
		}
		if a.Kind == could.SetValue {
			x.Rule, x.Value = text(a.Rule.String()), text(a.Rule.Get().Scale.Format(a.Value))
		}
		if !a.Party.IsZero() {
			x.Party = text(a.Party.String())
		}
		if a.Bundle != "" {
			x.Bundle = text(a.Bundle)
		}
		if a.Role != catalogue.NoRole {
			x.Role = text(a.Role.String())
		}
		out.Acts = append(out.Acts, x)
	}
	return out
}

// CutID names a cut by its parts.
func CutID(parts []could.Part) string {
	var keys []string
	for i := range parts {
		keys = append(keys, fmt.Sprint(parts[i]))
	}
	slices.Sort(keys)
	sum := sha256.Sum256([]byte(strings.Join(keys, "\n")))
	return hex.EncodeToString(sum[:6])
}

func cutParts(s *engine.Snapshot, parts []could.Part) []contract.CutPart {
	out := []contract.CutPart{}
	call := caller(s)
	partner := func(id string) string {
		for i := range s.Policy().Partners {
			if p := &s.Policy().Partners[i]; p.ID == id {
				return p.Name
			}
		}
		return id
	}
	for i := range parts {
		p := &parts[i]
		x := contract.CutPart{Kind: contract.CutPartKind(p.Kind), Text: p.Text(call, partner), Policy: p.Policy()}
		switch p.Kind {
		case could.LowerLimit:
			x.Rule, x.Value = text(p.Rule.String()), text(p.Rule.Get().Scale.Format(p.Value))
		case could.Close:
			x.Partner, x.Key = text(p.Partner), text(p.Key.String())
		case could.ShutBundle:
			x.Bundle = text(p.Bundle)
		default:
			x.Person, x.Role = text(p.Person), text(p.RoleName())
		}
		out = append(out, x)
	}
	return out
}

// Cuts finds what would make something impossible, each with its exact impact.
func Cuts(s *engine.Snapshot, t could.Target, at moment.Moment, stop func() error) (contract.CouldCuts, [][]could.Part, error) {
	out := contract.CouldCuts{Decision: contract.CouldCutsDecisionNo, Cuts: []contract.CouldCut{}}
	cuts, more, err := could.Cuts(s, at, t, stop)
	if err != nil {
		return out, nil, err
	}
	out.More = more
	if yesNow(s, t.Who, t.Action, t.Resource, at) {
		out.Decision = contract.CouldCutsDecisionYes
	} else if s.Potential(at).Could(t.Who, t.Resource).Has(t.Action) {
		out.Decision = contract.CouldCutsDecisionCould
	}
	for _, parts := range cuts {
		x := contract.CouldCut{Id: CutID(parts), Parts: cutParts(s, parts)}
		after := could.Apply(s, parts, at)
		imp, err := engine.ImpactOf(s, after, at, nil, stop, nil)
		if err != nil {
			return out, nil, err
		}
		x.Lost, x.Parties = imp.Total().Lost, imp.Parties.Lost
		wide := 0
		for i := range imp.WideLost {
			wide += imp.WideLost[i].Pairs
		}
		if wide > 0 {
			x.Wide = &wide
		}
		kinds := map[string]bool{}
		for i := range imp.Newcomers {
			if imp.Newcomers[i].Change == "lost" {
				kinds[imp.Newcomers[i].Newcomer.Who.String()] = true
			}
		}
		x.Newcomers = len(kinds)
		for i := range imp.Outward {
			if imp.Outward[i].Change == "lost" {
				x.Outward += imp.Outward[i].People
			}
		}
		for i := range imp.Forwarders {
			if !imp.Forwarders[i].Starts {
				x.Outward++
			}
		}
		if n := len(imp.LinksStopped); n > 0 {
			x.Links = &n
		}
		if imp.Nothing() {
			fits := true
			x.Fits = &fits
		}
		out.Cuts = append(out.Cuts, x)
	}
	order := make([]int, len(cuts))
	for i := range order {
		order[i] = i
	}
	total := func(i int) int {
		x := &out.Cuts[i]
		n := x.Lost + x.Outward + x.Newcomers
		if x.Wide != nil {
			n += *x.Wide
		}
		return n
	}
	slices.SortStableFunc(order, func(a, b int) int { // the fewest parts first, then what takes least
		return cmp.Or(cmp.Compare(len(cuts[a]), len(cuts[b])), cmp.Compare(total(a), total(b)))
	})
	sorted, parts := make([]contract.CouldCut, 0, len(cuts)), make([][]could.Part, 0, len(cuts))
	for _, i := range order {
		sorted, parts = append(sorted, out.Cuts[i]), append(parts, cuts[i])
	}
	out.Cuts = sorted
	return out, parts, nil
}

// mostSpared bounds what is counted of what could come to be beside what is spare, before and after, in pairs
// (see engine.Potential.Pairs): two seconds each. Above that the list alone is told, which is what is acted upon.
const mostSpared = 10_000_000

// Spare finds what nobody uses, and what it takes from what could come to be.
func Spare(s *engine.Snapshot, at moment.Moment, stop func() error) (contract.Spare, []could.Part, error) {
	out := contract.Spare{Parts: []contract.CutPart{}}
	parts, err := could.Spare(s, at, stop)
	if err != nil {
		return out, nil, err
	}
	out.Parts = cutParts(s, parts)
	scope := engine.Scope{Actions: engine.InwardActions}
	if s.Potential(at).Pairs(&scope) > mostSpared {
		return out, parts, nil
	}
	// Members go by their index, which is the same on both sides: taking policy away names nobody.
	type counted struct {
		members map[uint32]int
		others  map[string]int
	}
	count := func(s *engine.Snapshot) (by counted, n int, err error) {
		by = counted{map[uint32]int{}, map[string]int{}}
		err = s.Potential(at).EachYes(&scope, stop, func(y *engine.Yes) error {
			n += y.Pairs
			if len(y.Members) > 0 {
				each := y.Pairs / len(y.Members)
				for _, m := range y.Members {
					by.members[m] += each
				}
			} else if !y.Newcomer {
				by.others[y.Who.String()] += y.Pairs
			}
			return nil
		})
		return
	}
	before, was, err := count(s)
	if err != nil {
		return out, nil, err
	}
	after, is, err := count(could.Apply(s, parts, at))
	if err != nil {
		return out, nil, err
	}
	parties := 0
	for who, n := range before.members {
		if after.members[who] < n {
			parties++
		}
	}
	for who, n := range before.others {
		if after.others[who] < n {
			parties++
		}
	}
	out.Could, out.Afterwards, out.Parties = &was, &is, &parties
	return out, parts, nil
}
