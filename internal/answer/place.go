package answer

import (
	"sort"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Moment writes a moment; nil where none is set.
func Moment(m moment.Moment) *string {
	if !m.IsSet() {
		return nil
	}
	return text(m.String())
}

// SetValue writes one value of a lower layer.
func SetValue(x world.Setting) contract.SetValue {
	v := contract.SetValue{Value: x.Rule.Get().Scale.Format(x.Value)}
	if x.Held {
		yes := true
		v.Held = &yes
	}
	return v
}

// SetValues writes the values of a lower layer by rule.
func SetValues(set []world.Setting) map[string]contract.SetValue {
	out := map[string]contract.SetValue{}
	for _, x := range set {
		out[x.Rule.String()] = SetValue(x)
	}
	return out
}

func steps(c *engine.Chain) []contract.ChainStep {
	r := c.Rule.Get()
	decided := c.Decided()
	out := []contract.ChainStep{}
	for l, st := range c.Steps {
		if !st.Applies {
			continue
		}
		step := contract.ChainStep{
			Layer: contract.ChainStepLayer(engine.LayerName(l).String()),
			Where: text(st.Where),
			Value: text(r.Scale.Format(st.Value)),
			Held:  text(r.Scale.Format(st.Held)),
		}
		if yes := true; engine.LayerName(l) == decided {
			step.Decides = &yes
		}
		out = append(out, step)
	}
	return out
}

// choices says of every value whether layer at could bring it about, and whose
// word stands against it. resource is the space or item that the chain is about.
func choices(s *engine.Snapshot, c *engine.Chain, at engine.LayerName, resource world.Resource) []contract.Choice {
	r := c.Rule.Get()
	out := []contract.Choice{}
	for _, o := range c.OptionsAt(at) {
		x := contract.Choice{Value: r.Scale.Format(o.Value), Sentence: r.Sentence(o.Value), Can: o.Can}
		if o.Value == r.Advised {
			yes := true
			x.Advised = &yes
		}
		if !o.Can {
			st := c.Steps[o.By]
			x.By, x.Where, x.Says, x.Who = text(
				o.By.String(),
			), text(
				st.Where,
			), text(
				r.Scale.Format(st.Value),
			), text(
				s.WhoRaises(o.By, resource),
			)
		}
		out = append(out, x)
	}
	return out
}

// Choices writes what can be chosen for a rule at a layer.
func Choices(s *engine.Snapshot, c *engine.Chain, at engine.LayerName, where string, resource world.Resource) contract.Choices {
	r := c.Rule.Get()
	return contract.Choices{
		Rule:    r.Name,
		Title:   r.Title,
		Where:   where,
		Value:   r.Scale.Format(c.Effective()),
		Layer:   c.Decided().String(),
		Without: text(r.Scale.Format(c.Without())),
		Chain:   steps(c),
		Choices: choices(s, c, at, resource),
	}
}

// ValueRow writes a rule at a place: what is set there, what counts, and what
// could be chosen.
func ValueRow(s *engine.Snapshot, c *engine.Chain, at engine.LayerName, set *world.Setting, resource world.Resource) contract.ValueRow {
	r := c.Rule.Get()
	v := c.Effective()
	out := contract.ValueRow{
		Rule:     r.Name,
		Title:    r.Title,
		Service:  r.Service(),
		Shape:    r.Scale.Shape.String(),
		Value:    r.Scale.Format(v),
		Layer:    c.Decided().String(),
		Sentence: r.Sentence(v),
		Choices:  choices(s, c, at, resource),
	}
	if set != nil {
		said := r.Scale.Format(set.Value)
		out.Set = &said
		if set.Held {
			yes := true
			out.Held = &yes
		}
	}
	return out
}

// Finding writes a finding and who accepted it.
func Finding(f *finding.Finding, accepted *finding.Accepted) contract.Finding {
	k, _ := finding.KindByName(f.Kind)
	out := contract.Finding{
		Id:      f.ID,
		Kind:    f.Kind,
		Title:   k.Title,
		About:   f.About,
		Cause:   f.Cause,
		Do:      k.Do,
		Hint:    k.Hint,
		Numbers: map[string]int{},
	}
	for _, n := range f.Numbers {
		out.Numbers[n.What] = n.N
	}
	if accepted != nil {
		out.Accepted = &contract.AcceptedBy{
			By:     accepted.By,
			Reason: accepted.Reason,
			Since:  accepted.Since.String(),
			Until:  accepted.Until.String(),
		}
	}
	return out
}

// Suppose reads what would be given. bundles are those of the policy. Errors are
// *engine.WrongUse.
func Suppose(x *contract.Supposition, s *engine.Snapshot, now moment.Moment) (engine.Suppose, moment.Moment, error) {
	out, at := engine.Suppose{}, now
	var err error
	if x.At != nil && *x.At != "" {
		if at, err = moment.ParseLoose(*x.At, now, s.Zone()); err != nil {
			return out, at, &engine.WrongUse{Field: "at", Value: *x.At, Reason: err.Error()}
		}
	}
	if x.Link != nil {
		r, err := engine.ParseResource(x.Link.Item)
		if err != nil {
			return out, at, err
		}
		l := &world.Link{ID: "this-one", Item: r, Right: catalogue.View, Created: at, Until: moment.Never, Download: true}
		if x.Link.Right != nil {
			l.Right, _ = catalogue.ParseRole(string(*x.Link.Right))
		}
		if x.Link.Download != nil {
			l.Download = *x.Link.Download
		}
		l.Password = x.Link.Password != nil && *x.Link.Password
		out.Link = l
		return out, at, nil
	}
	subject := ""
	if x.Subject != nil {
		subject = *x.Subject
	}
	who, err := engine.ParseWho(subject)
	if err != nil || who.Kind != engine.ByAddress {
		return out, at, &engine.WrongUse{
			Field:  "subject",
			Value:  subject,
			Reason: "write the address that would be given something, or *@domain",
		}
	}
	out.Address, out.Record = who.Address, x.Invite != nil && *x.Invite
	give := func(r world.Resource, role catalogue.Role) {
		out.Grants = append(out.Grants, world.Grant{Resource: r, Role: role, From: moment.Always, Until: moment.Never})
	}
	if x.Grants != nil {
		for _, g := range *x.Grants {
			r, err := engine.ParseResource(g.Resource)
			if err != nil {
				return out, at, err
			}
			role, ok := catalogue.ParseRole(string(g.Role))
			if !ok {
				return out, at, &engine.WrongUse{Field: "role", Value: string(g.Role), Reason: "write view, contribute or manage"}
			}
			give(r, role)
		}
	}
	if x.Groups != nil {
		out.Groups = *x.Groups
	}
	if x.Bundle != nil && *x.Bundle != "" {
		b := s.Policy().Bundle(*x.Bundle)
		if b == nil {
			return out, at, &engine.WrongUse{Field: "bundle", Value: *x.Bundle, Reason: "there is no such bundle"}
		}
		for _, g := range b.Gives {
			give(g.Resource, g.Role)
		}
	}
	if !out.Record && len(out.Grants) == 0 && len(out.Groups) == 0 {
		return out, at, &engine.WrongUse{
			Field:  "grants",
			Value:  "",
			Reason: "say what would be given: a grant, a group, a bundle, an invitation or a link",
		}
	}
	return out, at, nil
}

// Would writes what would be opened.
func Would(who string, kind engine.Kind, at moment.Moment, lines []engine.WouldLine, revision uint64) contract.Would {
	return contract.Would{Subject: who, Kind: kind.String(), At: at.String(), Lines: WouldLines(lines), Revision: int64(revision)}
}

// WouldLines writes what would become of everything somebody may try.
func WouldLines(lines []engine.WouldLine) []contract.WouldLine {
	out := []contract.WouldLine{}
	for i := range lines {
		l := &lines[i]
		x := contract.WouldLine{
			Service:    l.Action.Get().Service().String(),
			Action:     l.Action.String(),
			Resource:   l.Resource.String(),
			Name:       text(l.Name),
			Count:      l.Count,
			Change:     contract.WouldLineChange(l.Change()),
			Conditions: []string{},
			Text:       l.Cause.Text(),
		}
		if l.Yes {
			x.Conditions = l.Conditions.Names()
		}
		if !l.To.IsZero() {
			x.To = text(l.To.String())
		}
		out = append(out, x)
	}
	return out
}

// personal actions are those that somebody outside tries on one of our people.
var personal = []struct{ action, kind string }{
	{"chat.message", "person"}, {"chat.call", "person"}, {"chat.see_presence", "person"}, {"directory.look_up", "person"},
	{"mail.see_busy", "calendar"}, {"mail.see_subject", "calendar"}, {"mail.see_details", "calendar"},
}

// ReachedBy asks, for a person of ours, which typical newcomers can do what: one
// of every partner, one of an unlisted firm, one private address.
func ReachedBy(s *engine.Snapshot, personID string, at moment.Moment) []contract.ReachedBy {
	type newcomer struct {
		name string
		who  engine.Who
	}
	var all []newcomer
	pol := s.Policy()
	for i := range pol.Partners {
		if p := &pol.Partners[i]; len(p.Domains) > 0 {
			all = append(all, newcomer{p.Name, engine.Who{Address: addr.Newcomer(p.Domains[0].Domain)}})
		}
	}
	sort.Slice(all, func(i, j int) bool { return all[i].name < all[j].name })
	if d, err := addr.ParseDomain("unlisted-firm.example"); err == nil {
		all = append(all, newcomer{"an unlisted firm", engine.Who{Address: addr.Newcomer(d)}})
	}
	if len(pol.Personal) > 0 {
		all = append(all, newcomer{"a private address", engine.Who{Address: addr.Newcomer(pol.Personal[0].Domain)}})
	}
	out := []contract.ReachedBy{}
	for _, p := range personal {
		act, _ := catalogue.ActionByName(p.action)
		r, err := engine.ParseResource(p.kind + ":" + personID)
		if err != nil || act.Asks[catalogue.Federated] == nil && act.Asks[catalogue.Personal] == nil {
			continue
		}
		x := contract.ReachedBy{Action: act.Name, Title: act.Title, Resource: r.String(), Yes: []string{}}
		for _, n := range all {
			v, err := s.Decide(&engine.Question{Subject: n.who, Action: act.ID, Resource: r, At: at})
			if err == nil && v.Yes {
				x.Yes = append(x.Yes, n.name)
			} else {
				x.No++
			}
		}
		out = append(out, x)
	}
	return out
}

// Exception writes an exception. i is its place in the policy.
func Exception(s *engine.Snapshot, inert *engine.Inert, x *world.Exception, i int, at moment.Moment, etag string) contract.Exception {
	out := contract.Exception{
		Id:       x.ID,
		People:   append([]string{}, x.People...),
		Groups:   append([]string{}, x.Groups...),
		Rules:    SetValues(x.Rules),
		From:     Moment(x.From),
		Until:    Moment(x.Until),
		Reason:   text(x.Reason),
		State:    contract.ExceptionStateInForce,
		Concerns: len(s.People(i)),
		Etag:     etag,
	}
	switch {
	case at >= x.Until:
		out.State = contract.ExceptionStateOver
	case at < x.From:
		out.State = contract.ExceptionStateAhead
	}
	if x.Parties != nil {
		parties := []string{}
		for _, p := range x.Parties {
			parties = append(parties, p.String())
		}
		out.Parties = &parties
	}
	if out.State != contract.ExceptionStateOver {
		nothing := inert.ChangesNothing(i, at)
		out.WithoutEffect = &nothing
	}
	return out
}

// Given writes a role given in a space and whether it gets its party in now.
func Given(s *engine.Snapshot, g *engine.Given, at moment.Moment) contract.GivenRole {
	out := contract.GivenRole{
		Party:    g.Party,
		Name:     text(g.Name),
		Resource: g.Resource.String(),
		Role:     g.Role.String(),
		From:     Moment(g.From),
		Until:    Moment(g.Until),
		Link:     text(g.Link),
		State:    contract.GivenRoleStateLive,
		Decision: contract.GivenRoleDecisionNone,
	}
	switch {
	case at >= g.Until:
		out.State = contract.GivenRoleStateOver
	case at < g.From:
		out.State = contract.GivenRoleStateAhead
	}
	act, ok := entering(g.Resource.Kind)
	if strings.HasPrefix(g.Party, "group:") || !ok {
		return out
	}
	party := g.Party
	if d, is := strings.CutPrefix(party, "domain:"); is {
		party = "*@" + d
	}
	if id, is := strings.CutPrefix(party, "partner:"); is { // a typical newcomer stands for them
		for i := range s.Policy().Partners {
			if p := &s.Policy().Partners[i]; p.ID == id && len(p.Domains) > 0 {
				party = "*@" + p.Domains[0].Domain.String()
			}
		}
	}
	who, err := engine.ParseWho(party)
	if err != nil {
		return out
	}
	x, err := s.Explain(&engine.Question{Subject: who, Action: act, Resource: g.Resource, At: at})
	if err != nil {
		return out
	}
	out.Decision = contract.GivenRoleDecision(YesNo(x.Yes()))
	out.Text = text(x.DecidingCause().Text())
	return out
}

// entering is the action that shows whether somebody gets at a resource at all.
func entering(k catalogue.ResourceKind) (catalogue.ActionID, bool) {
	name := map[catalogue.ResourceKind]string{catalogue.Space: "spaces.enter", catalogue.Channel: "chat.read", catalogue.Folder: "files.open",
		catalogue.File: "files.open",
		catalogue.Page: "spaces.edit_page", catalogue.Tasklist: "spaces.edit_task", catalogue.Report: "reports.view",
		catalogue.Dashboard: "reports.view"}[k]
	a, ok := catalogue.ActionByName(name)
	if !ok {
		return 0, false
	}
	return a.ID, true
}
