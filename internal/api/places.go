package api

import (
	"cmp"
	"context"
	"slices"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

func (s *server) at(st *service.State, text *string) (moment.Moment, error) {
	now := s.Service.Now()
	if t := opt(text); t != "" {
		at, err := moment.ParseLoose(t, now, st.Zone())
		if err != nil {
			return 0, &engine.WrongUse{Field: "at", Value: t, Reason: err.Error()}
		}
		return at, nil
	}
	return now, nil
}

func (s *server) ListSpaces(ctx context.Context, r apigen.ListSpacesRequestObject) (apigen.ListSpacesResponseObject, error) {
	st := s.state(ctx)
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	me := whoIs(ctx)
	out := apigen.ListSpaces200JSONResponse{Spaces: []contract.SpaceBrief{}}
	counts := st.CountsInSpaces(s.Service.Now())
	keep := func(id string) bool {
		r := world.Resource{Kind: catalogue.Space, ID: id}
		return (q == "" || strings.Contains(id, q) || strings.Contains(strings.ToLower(st.NameOf(r)), q)) &&
			me.SeesPlace(st, r)
	}
	err = s.Service.SpacesAfter(ctx, after, keep, func(x *world.Space) error {
		if len(out.Spaces) == limit {
			out.Next = cursor(out.Spaces[limit-1].Id)
			return store.ErrEnough
		}
		n := counts[x.ID]
		names := []string{}
		for _, o := range x.Owners {
			names = append(names, cmp.Or(s.person(st, o).Name, o))
		}
		out.Spaces = append(
			out.Spaces,
			contract.SpaceBrief{
				Id:         x.ID,
				Name:       x.Name,
				Kind:       world.SpaceKindNames[x.Kind],
				Owners:     append([]string{}, x.Owners...),
				OwnerNames: names,
				Items:      n.Items,
				Set:        len(x.Rules),
				Outside:    n.Parties,
			},
		)
		return nil
	})
	return out, err
}

func (s *server) person(st *service.State, id string) contract.NamedRef {
	return contract.NamedRef{Id: id, Name: st.NameOf(world.Resource{Kind: catalogue.Person, ID: id})}
}

const maxGiven = 2000

func (s *server) GetSpace(ctx context.Context, r apigen.GetSpaceRequestObject) (apigen.GetSpaceResponseObject, error) {
	st := s.state(ctx)
	w := service.Where{Resource: world.Resource{Kind: catalogue.Space, ID: r.Id}}
	if err := s.maySee(ctx, st, w); err != nil {
		return nil, err
	}
	x, err := s.Service.Space(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := apigen.GetSpace200JSONResponse{
		Id:           x.ID,
		Name:         x.Name,
		Kind:         world.SpaceKindNames[x.Kind],
		Joinable:     x.Joinable,
		JoinsAs:      joinsAs(&x),
		HouseLicence: x.HouseLicence,
		Owners:       []contract.NamedRef{},
		Members:      []contract.NamedRef{},
		Items:        []contract.ItemView{},
		Meetings:     []contract.NamedRef{},
		Given:        []contract.GivenRole{},
		Findings:     []contract.Finding{},
		Editable:     s.mayEdit(ctx, st, w) == nil,
	}
	for _, o := range x.Owners {
		out.Owners = append(out.Owners, s.person(st, o))
	}
	for _, m := range x.Members {
		if m.Group != "" {
			out.Members = append(out.Members, contract.NamedRef{Id: m.String(), Name: st.NameOfGroup(m.Group)})
		} else {
			out.Members = append(out.Members, s.person(st, m.Person))
		}
	}
	if x.Parties != nil {
		parties := []string{}
		for _, p := range x.Parties {
			parties = append(parties, p.String())
		}
		out.Parties = &parties
	}
	about := map[string]bool{w.String(): true}
	for i := range x.Items {
		it := &x.Items[i]
		about[it.Kind.String()+":"+it.ID] = true
		out.Items = append(
			out.Items,
			contract.ItemView{Id: it.ID, Kind: it.Kind.String(), Name: it.Name, Private: it.Private, Rules: answer.SetValues(it.Rules)},
		)
	}
	out.Meetings = append(out.Meetings, meetingRefs(st, st.MeetingsIn(x.ID))...)
	for i, g := range st.GivenIn(x.ID) {
		if i == maxGiven {
			break
		}
		out.Given = append(out.Given, answer.Given(st.Snapshot, &g, s.Service.Now()))
	}
	if out.Values, err = s.values(ctx, st, w); err != nil {
		return nil, err
	}
	out.Findings, out.FindingsAt, err = s.about(ctx, about)
	return out, err
}

// about lists the open findings about any of some things, and as of when where something changed since that is still being looked at.
func (s *server) about(ctx context.Context, things map[string]bool) (out []contract.Finding, asOf *string, err error) {
	all, at, behind, err := s.Service.FindingsSoon(ctx, soonEnough)
	if behind {
		asOf = ptr(at.String())
	}
	out = []contract.Finding{}
	if err != nil {
		return out, asOf, err
	}
	for f, accepted := range all.All() {
		if accepted == nil && slices.ContainsFunc(f.About, func(a string) bool { return things[a] }) {
			out = append(out, answer.Finding(f, nil))
		}
	}
	return out, asOf, err
}

// meetingRefs names meetings.
func meetingRefs(st *service.State, ids []string) (out []contract.NamedRef) {
	for _, id := range ids {
		out = append(out, contract.NamedRef{Id: id, Name: st.NameOf(world.Resource{Kind: catalogue.Meeting, ID: id})})
	}
	return out
}

func personRoles(p *world.Person) []string {
	out := []string{}
	for i, n := range world.PersonRoleNames {
		if p.Roles&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

func (s *server) ListPeople(ctx context.Context, r apigen.ListPeopleRequestObject) (apigen.ListPeopleResponseObject, error) {
	st := s.state(ctx)
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	in := map[string]int{}
	now := s.Service.Now()
	for i := range st.Policy().Exceptions {
		if x := &st.Policy().Exceptions[i]; moment.Within(now, x.From, x.Until) {
			for _, id := range st.People(i) {
				in[id]++
			}
		}
	}
	out := apigen.ListPeople200JSONResponse{People: []contract.PersonBrief{}}
	keep := func(id string) bool {
		return q == "" || strings.Contains(id, q) || strings.Contains(strings.ToLower(s.person(st, id).Name), q)
	}
	err = s.Service.PeopleAfter(ctx, after, keep, func(p *world.Person) error {
		if len(out.People) == limit {
			out.Next = cursor(out.People[limit-1].Id)
			return store.ErrEnough
		}
		out.People = append(
			out.People,
			contract.PersonBrief{
				Id:         p.ID,
				Name:       p.Name,
				Address:    some(p.Address.String()),
				Groups:     append([]string{}, p.Groups...),
				Roles:      personRoles(p),
				Exceptions: in[p.ID],
			},
		)
		return nil
	})
	return out, err
}

func (s *server) GetPerson(ctx context.Context, r apigen.GetPersonRequestObject) (apigen.GetPersonResponseObject, error) {
	st := s.state(ctx)
	if err := whoIs(ctx).SeesPerson(r.Id); err != nil {
		return nil, err
	}
	p, err := s.Service.Person(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	now := s.Service.Now()
	out := apigen.GetPerson200JSONResponse{
		Id:       p.ID,
		Name:     p.Name,
		Address:  some(p.Address.String()),
		Language: some(p.Language),
		Left:     said(p.Left),
		Groups:   append([]string{}, p.Groups...),
		Roles:    personRoles(&p),
		Owns:     []contract.NamedRef{},
		Hosts:    []contract.NamedRef{},
		Exceptions: s.exceptions(
			ctx,
			"",
			p.ID,
		),
		Rules:      []contract.ValueRow{},
		Contacts:   []contract.ContactView{},
		Forwarders: []contract.Forwarder{},
		Reached:    answer.ReachedBy(st.Snapshot, p.ID, now),
	}
	for _, id := range st.SpacesOf(p.ID) {
		out.Owns = append(out.Owns, contract.NamedRef{Id: id, Name: st.NameOf(world.Resource{Kind: catalogue.Space, ID: id})})
	}
	out.Hosts = append(out.Hosts, meetingRefs(st, st.MeetingsOf(p.ID))...)
	for i := range catalogue.Rules() {
		rule := &catalogue.Rules()[i]
		if rule.Layers&catalogue.AtPeople == 0 {
			continue
		}
		chain, err := st.ChainOf(rule.ID, engine.Context{Person: p.ID, Resource: engine.NoResource, At: now})
		if err != nil {
			return nil, err
		}
		row := answer.ValueRow(st.Snapshot, chain, engine.PeopleLayer, nil, engine.NoResource)
		if v := chain.Steps[engine.PeopleLayer].Value; v != catalogue.Unset {
			row.Set = some(rule.Scale.Format(v))
		}
		out.Rules = append(out.Rules, row)
	}
	if err := s.Service.Contacts(ctx, p.ID, func(c *world.Contact) error {
		state := contract.ContactViewStateAsked
		if c.Accepted {
			state = contract.ContactViewStateAccepted
		}
		out.Contacts = append(out.Contacts, contract.ContactView{Party: c.Party.String(), State: state})
		return nil
	}); err != nil {
		return nil, err
	}
	if out.Forwarders, err = s.forwarders(ctx, p.ID); err != nil {
		return nil, err
	}
	about := map[string]bool{"person:" + p.ID: true, "mailbox:" + p.ID: true, "calendar:" + p.ID: true}
	for _, x := range out.Exceptions {
		about["exception:"+x.Id] = true
	}
	out.Findings, out.FindingsAt, err = s.about(ctx, about)
	return out, err
}

func (s *server) forwarders(ctx context.Context, person string) ([]contract.Forwarder, error) {
	st, now := s.state(ctx), s.Service.Now()
	act, _ := catalogue.ActionByName("mail.forward")
	out := []contract.Forwarder{}
	err := s.Service.Forwarders(ctx, person, func(f *world.Forwarder) error {
		x := contract.Forwarder{
			Person:   f.Mailbox,
			Name:     some(st.NameOf(world.Resource{Kind: catalogue.Person, ID: f.Mailbox})),
			To:       f.To.String(),
			KeepCopy: f.KeepCopy,
			SetBy:    f.SetBy,
			Allowed:  true,
			Text:     "It stays at a domain of ours.",
		}
		if !st.Match(f.To).Own {
			a, err := st.Explain(
				&engine.Question{
					Subject:   engine.Who{Kind: engine.ByPerson, ID: f.Mailbox},
					Action:    act.ID,
					Resource:  world.Resource{Kind: catalogue.Mailbox, ID: f.Mailbox},
					At:        now,
					Address:   f.To,
					DropsCopy: !f.KeepCopy,
				},
			)
			if err != nil {
				return err
			}
			x.Allowed, x.Text = a.Yes(), a.DecidingCause().Text()
		}
		out = append(out, x)
		return nil
	})
	return out, err
}

func (s *server) ListForwarders(ctx context.Context, r apigen.ListForwardersRequestObject) (apigen.ListForwardersResponseObject, error) {
	out, err := s.forwarders(ctx, opt(r.Params.Person))
	return apigen.ListForwarders200JSONResponse{Forwarders: out}, err
}

func (s *server) RemoveForwarder(ctx context.Context, r apigen.RemoveForwarderRequestObject) (apigen.RemoveForwarderResponseObject, error) {
	if err := whoIs(ctx).RemovesForwarder(r.Person); err != nil {
		return nil, err
	}
	return apigen.RemoveForwarder204Response{}, s.Service.RemoveForwarder(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Person, r.Address)
}

// joinsAs is what who joins a course from outside gets; nothing for what nobody joins.
func joinsAs(x *world.Space) *contract.SpaceViewJoinsAs {
	if x.Kind != world.Course || !x.Joinable {
		return nil
	}
	return ptr(contract.SpaceViewJoinsAs(cmp.Or(x.JoinsAs, catalogue.View).String()))
}
