package api

import (
	"context"
	"fmt"
	"slices"
	"sort"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// opened counts the active partners that are opened for a key.
func opened(w *world.World, k catalogue.Key) (n int) {
	for i := range w.Partners {
		if p := &w.Partners[i]; p.Standing == world.Active && p.Opened[k] == world.OpenYes {
			n++
		}
	}
	return
}

// monthAgo puts how open each service was beside how open it is, where that was
// recorded.
func (s *server) monthAgo(ctx context.Context, out *apigen.Overview200JSONResponse, at moment.Moment) error {
	then, err := s.Service.PolicyThen(ctx, at)
	if err != nil || then == nil {
		return err
	}
	out.MonthAgo = ptr(at.String())
	for v := catalogue.Service(0); v < catalogue.NumServices; v++ {
		x := &out.Services[v]
		x.OpenedInBefore, x.OpenedOutBefore = ptr(opened(then, catalogue.In(v))), ptr(opened(then, catalogue.Out(v)))
	}
	return nil
}

func (s *server) Overview(ctx context.Context, _ apigen.OverviewRequestObject) (apigen.OverviewResponseObject, error) {
	st := s.state(ctx)
	pol := st.Policy()
	c := st.Counts()
	out := apigen.Overview200JSONResponse{
		Revision:  int64(st.Head.Revision),
		Services:  []contract.ServiceState{},
		Soon:      []contract.Ending{},
		Suspended: []string{},
		Todo:      []contract.Todo{},
		Counts: map[string]int{
			"people":     c.People,
			"guests":     c.Guests,
			"grants":     c.Grants,
			"spaces":     c.Spaces,
			"items":      c.Items,
			"meetings":   c.Meetings,
			"links":      c.Links,
			"partners":   c.Partners,
			"bars":       len(pol.Barred),
			"exceptions": len(pol.Exceptions),
		},
	}
	todo := func(text, href string) { out.Todo = append(out.Todo, contract.Todo{Text: text, Href: href}) }
	if pol.Organisation != nil {
		out.Organisation = pol.Organisation.Name
	} else {
		todo("Nothing is known of your organisation yet. Load a world file with wexillum load FILE.", "/journal")
	}
	if c.Partners == 0 {
		todo("Add the first partner: a name, its domains, and what it is opened for.", "/partners")
	}
	looser := map[string]int{}
	for _, r := range answer.Rules(st.Snapshot, rulesAll(), s.Service.Now(), st.RuleEtag) {
		if r.Exposes {
			looser[r.Service]++
		}
		if r.HeldDefault != nil {
			todo("The default of "+r.Name+" is held back.", "/rules?rule="+r.Name)
		}
		held := 0
		for _, b := range r.Below {
			if b.Held {
				held++
			}
		}
		switch {
		case held == 1:
			todo("A value of "+r.Name+" is held back by its limit.", "/rules?rule="+r.Name)
		case held > 1:
			todo(fmt.Sprintf("%d values of %s are held back by its limit.", held, r.Name), "/rules?rule="+r.Name)
		}
	}
	for v := catalogue.Service(0); v < catalogue.NumServices; v++ {
		x := contract.ServiceState{
			Service: v.String(),
			Looser:  looser[v.String()] + map[bool]int{true: looser["guests"]}[v == catalogue.Directory],
		}
		x.OpenedIn, x.OpenedOut = opened(pol, catalogue.In(v)), opened(pol, catalogue.Out(v))
		out.Services = append(out.Services, x)
	}
	now := s.Service.Now()
	if t := s.behind(st); t != "" {
		out.Todo = slices.Insert(out.Todo, 0, contract.Todo{Text: t, Href: "/due"})
	}
	if n := s.Service.MailOverdue(); n > 0 {
		out.Todo = slices.Insert(
			out.Todo,
			0,
			contract.Todo{
				Text: fmt.Sprintf(
					"%d messages wait for more than ten minutes. Look whether the mail server takes them: the log says why not.",
					n,
				),
				Href: "/journal",
			},
		)
	}
	if err := s.monthAgo(ctx, &out, now-30*86400e6); err != nil {
		return nil, err
	}
	kinds, partners := st.PartiesBy(now)
	out.ByKind, out.ByPartner = &kinds, &partners
	for i := range pol.Partners {
		p := &pol.Partners[i]
		if p.Standing != world.Active {
			out.Suspended = append(out.Suspended, p.Name)
		}
		if p.Standing == world.Active && len(p.Domains) == 0 {
			todo(p.Name+" has no domain, so none of its people are known as its own.", "/partners/"+p.ID)
		}
		for _, x := range p.Stance {
			if x.Says == world.SaysRefuses && p.Opened[x.Key] == world.OpenYes {
				todo(p.Name+" is opened for "+x.Key.String()+" and refuses it on its own side.", "/partners/"+p.ID)
			}
		}
	}
	for i := range pol.Exceptions {
		if x := &pol.Exceptions[i]; x.Until != moment.Never && x.Until > now && x.Until < now+14*86400e6 {
			out.Soon = append(out.Soon, ending(st, "exception", x.ID, x.Until))
		}
	}
	soon, err := s.Service.EndingSoon(ctx, now+30*86400e6, 12)
	for _, e := range soon {
		out.Soon = append(out.Soon, ending(st, e.What, e.Who, moment.Moment(e.When)))
	}
	sort.SliceStable(out.Soon, func(i, j int) bool { return out.Soon[i].When < out.Soon[j].When })
	return out, err
}

func ending(st *service.State, what, who string, when moment.Moment) contract.Ending {
	return contract.Ending{What: what, Who: who, When: when.String(), LastDay: moment.CountedOnFrom(when, st.Zone()).String()}
}
