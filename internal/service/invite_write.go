package service

import (
	"encoding/json"
	"fmt"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	verdicts "wexillum.example/internal/core/check"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// judgeInvited looks beyond what the check of an address says: whoever has a record may be given
// more, a suspended one may not, and an item is passed on by a rule of its own.
func (s *Service) judgeInvited(now *State, t *store.Tx, l *InvitedLine, to *target, as string, at moment.Moment) error {
	if l.Verdict != verdicts.Yes && l.Verdict != verdicts.Already {
		return nil
	}
	a, err := addr.Parse(l.Address)
	if err != nil {
		return err
	}
	g, err := s.guestNow(now, t, a, at)
	if err != nil {
		return err
	}
	if l.Verdict == verdicts.Already &&
		(to.space != "" && to.resource.Kind == catalogue.Space || g == nil || to.space == "" && to.group == "") {
		return nil
	}
	if g != nil && g.State == world.StateSuspended {
		l.Verdict, l.Reason = verdicts.No, "The record is suspended; bring it back before it is given anything."
		return nil
	}
	l.Verdict, l.Reason = verdicts.Yes, ""
	if to.group != "" {
		if doc, err := t.Record("group", to.group); err == nil && doc != nil {
			if gr, err := worldfile.GroupOf(doc); err == nil {
				for _, p := range gr.Parties {
					if p == a {
						l.Verdict, l.Reason = verdicts.Already, "In the group already."
					}
				}
			}
		}
		return nil
	}
	if to.resource.Kind.IsItem() && to.space != "" {
		have, err := t.Grants(l.Address)
		if err != nil {
			return err
		}
		for i := range have {
			if h := &have[i]; h.Resource == to.resource && h.Role >= to.role && moment.Within(at, h.From, h.Until) {
				l.Verdict, l.Reason = verdicts.Already, "It was given this already, with the role "+h.Role.String()+"."
				return nil
			}
		}
	}
	if name := to.passes(); name != "" {
		act, _ := catalogue.ActionByName(name)
		x, err := now.Explain(
			&engine.Question{Subject: engine.Who{Kind: engine.ByPerson, ID: as}, Action: act.ID, Resource: to.resource, Address: a, At: at},
		)
		if err != nil {
			return err
		}
		if d := x.Deciding(); !d.Yes {
			l.Verdict, l.Conditions = verdicts.No, nil
			l.Causes = append(l.Causes, d.Refusals()...)
		}
	}
	return nil
}

// writeInvited writes record, grant, group, invitation and mail of one address.
func (s *Service) writeInvited(
	now *State,
	t *store.Tx,
	who Who,
	x *Invitation,
	to *target,
	out *Invited,
	a addr.Address,
	l *InvitedLine,
	licence world.Licence,
	at moment.Moment,
) (*world.Guest, *world.Grant, error) {
	g, err := s.guestNow(now, t, a, at)
	if err != nil {
		return nil, nil, err
	}
	l.Done = "given"
	language := x.Language
	if g == nil {
		l.Done = "invited"
		g = &world.Guest{
			Address:    a,
			Name:       l.Name,
			Sponsor:    out.Sponsor,
			Purpose:    x.Purpose,
			State:      world.StateInvited,
			Since:      at,
			Accepted:   moment.Never,
			Renewed:    moment.Always,
			Until:      moment.Never,
			Terms:      moment.Never,
			LastSeen:   moment.Always,
			StateSince: moment.Always,
			Location:   x.Location,
			Licence:    licence,
		}
	} else if language == "" {
		language = g.Language
	}
	if language == "" {
		language = Languages[0]
	}
	g.Origins |= world.ByInvitation
	g.Language = language
	if g.Name == "" {
		g.Name = l.Name
	}
	if to.space == "" && out.Until != moment.Never && l.Done == "invited" {
		g.Until = out.Until
	}
	if _, err := t.PutGuest(g); err != nil {
		return nil, nil, err
	}
	given, ok := to.grant(a, at, out.Until, out.Sponsor)
	if ok {
		if _, err := t.PutGrant(&given); err != nil {
			return nil, nil, err
		}
	}
	if to.group != "" {
		doc, err := t.Record("group", to.group)
		if err != nil {
			return nil, nil, err
		}
		gr, err := worldfile.GroupOf(doc)
		if err != nil {
			return nil, nil, err
		}
		gr.Parties = append(gr.Parties, a)
		if _, err := t.PutRecord("group", to.group, worldfile.GroupDoc(&gr)); err != nil {
			return nil, nil, err
		}
	}
	inv := invitation{Into: to.String(), By: out.As, Text: x.Text, Landing: x.Landing, Language: language, Made: at.String()}
	if ok {
		inv.Role = to.role.String()
	}
	if err := putJSON(t, "invitation", a.String(), inv); err != nil {
		return nil, nil, err
	}
	kind := "given"
	if g.State == world.StateInvited {
		kind = "invitation"
	}
	if err := s.postMail(t, now, a, kind, "", map[string]string{"into": inv.Into, "role": inv.Role}); err != nil {
		return nil, nil, err
	}
	if !ok {
		return g, nil, nil
	}
	return g, &given, nil
}

func putJSON(t *store.Tx, kind, id string, x any) error {
	doc, err := json.Marshal(x)
	if err != nil {
		return err
	}
	_, err = t.PutRecord(kind, id, doc)
	return err
}

// missing says what a later step would need and nobody gave.
func (s *Service) missing(now *State, x *Invitation, to *target, out *Invited, licence world.Licence) (list []string) {
	if x.Purpose == "" {
		list = append(list, "purpose: an invitation says what it is for")
	}
	area := to.space != "" &&
		(to.resource.Kind == catalogue.Report || to.resource.Kind == catalogue.Dashboard || now.KindOfSpace(to.space) == world.ReportArea)
	if area && licence == world.LicenceOurs && x.Location == "" {
		list = append(list, "location: a licence that we buy needs the guest's location")
	}
	view, _ := catalogue.ActionByName("reports.view")
	for i := range out.Opens {
		o := &out.Opens[i]
		if signIn := now.GuestRule(o.Who, "", ruleSignIn); signIn&byCode == 0 && signIn&byPartner != 0 {
			if m := now.Match(o.Who); m.Partner != nil && m.Partner.SignIn == "" {
				list = append(
					list,
					fmt.Sprintf(
						"sign-in: %s's people sign in at their own organisation alone (directory.sign_in), and nobody has said where that is",
						m.Partner.Name,
					),
				)
			}
		}
		items := []world.Resource{}
		if area {
			items = now.ItemsOf(to.space)
		}
		for _, r := range items {
			if r.Kind != catalogue.Report && r.Kind != catalogue.Dashboard || to.resource.Kind.IsItem() && r != to.resource {
				continue
			}
			v, err := o.State.Decide(&engine.Question{Subject: engine.Who{Address: o.Who}, Action: view.ID, Resource: r, At: s.Now()})
			if err == nil && v.Refusing.Has(catalogue.LicenceGate) {
				list = append(
					list,
					fmt.Sprintf(
						"licence: no licence route counts for %s (reports.licence): theirs, ours with a location, or one of the area's own",
						o.Of,
					),
				)
				break
			}
		}
		for _, st := range out.Opens[i].Steps {
			if st.Kind.String() == "suspended" && out.Until != moment.Never && st.At < out.Until {
				list = append(list, fmt.Sprintf("until: the record is suspended before, %s (%s)", st.At, st.Cause))
			}
		}
	}
	return
}

// narrower finds ways that open less: other roles, single items of the space, a shorter
// term.
func (s *Service) narrower(now *State, to *target, out *Invited, at moment.Moment) error {
	if len(out.Opens) == 0 || to.space == "" {
		return nil
	}
	o := &out.Opens[0]
	most, _ := Opened(o.Lines)
	try := func(r world.Resource, role catalogue.Role, text string) error {
		lines, _, err := now.Would(
			engine.Suppose{Address: o.Who, Record: true, Grants: []world.Grant{{Resource: r, Role: role, From: at, Until: out.Until}}},
			at,
		)
		if err != nil {
			return err
		}
		if n, _ := Opened(lines); n < most {
			out.Narrower = append(out.Narrower, Narrower{Into: r.String(), Role: role.String(), Text: text, Opened: n})
		}
		return nil
	}
	for role := catalogue.View; role < to.role; role++ {
		if err := try(to.resource, role, "the role "+role.String()); err != nil {
			return err
		}
	}
	if to.resource.Kind == catalogue.Space {
		n := 0
		for _, r := range now.ItemsOf(to.space) {
			if n++; n > 6 {
				break
			}
			if err := try(r, catalogue.View, "only "+now.NameOf(r)+", to view"); err != nil {
				return err
			}
		}
	}
	if month := moment.EndOfDays(moment.DayOf(at, now.Zone()), 30, now.Zone()); out.Until > month {
		out.Narrower = append(
			out.Narrower,
			Narrower{
				Into:   to.resource.String(),
				Role:   to.role.String(),
				Until:  "+30d",
				Text:   "30 days, which can be extended",
				Opened: most,
			},
		)
	}
	return nil
}
