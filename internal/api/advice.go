package api

import (
	"context"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/advice"
	"wexillum.example/internal/core/catalogue"
)

var feedIn = catalogue.MustRule("directory.feed_in")

func (s *server) Advise(ctx context.Context, r apigen.AdviseRequestObject) (apigen.AdviseResponseObject, error) {
	st, now := s.state(ctx), s.Service.Now()
	p, err := st.Partner(r.Id)
	if err != nil {
		return nil, err
	}
	a := advice.On(st.Dealings(p.ID, now), st.Snapshot.Halves(p, now), st.ValueAt(p.ID, feedIn) != 0)
	d := &a.Figures
	out := apigen.Advise200JSONResponse{Partner: p.ID, Short: a.Short, At: now.String(), Ways: []contract.Way{}, Figures: map[string]int{
		"records": d.Records, "provisioned": d.Provisioned, "suspended": d.Suspended, "home": d.Home, "sharing": d.Sharing, "talking": d.Talking,
		"contacts": d.Contacts, "ours": d.Ours, "owners": d.Owners,
		"grants": d.Grants, "spaces": d.Spaces, "reports": d.Reports, "items": d.Items, "came": d.Came, "went": d.Went}}
	for _, w := range a.Ways {
		out.Ways = append(
			out.Ways,
			contract.Way{
				Name:    contract.WayName(w.Name),
				Title:   w.Title,
				Weight:  w.Weight,
				Fits:    w.Fits,
				InUse:   w.In,
				For:     append([]string{}, w.For...),
				Against: append([]string{}, w.Against...),
				Gives:   w.Gives,
				Costs:   w.Costs,
				Needs:   w.Needs,
			},
		)
	}
	return out, nil
}

func (s *server) PeopleOfPartner(ctx context.Context, r apigen.PeopleOfPartnerRequestObject) (apigen.PeopleOfPartnerResponseObject, error) {
	st, now := s.state(ctx), s.Service.Now()
	if _, err := st.Partner(r.Id); err != nil {
		return nil, err
	}
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	all := st.PeopleOf(r.Id, now, func(address, name string) bool {
		return address > after && (strings.Contains(address, q) || strings.Contains(strings.ToLower(name), q))
	})
	out := apigen.PeopleOfPartner200JSONResponse{People: []contract.TheirPerson{}}
	for i, x := range all {
		if i == limit {
			out.Next = cursor(all[i-1].Address.String())
			break
		}
		p := contract.TheirPerson{
			Address: x.Address.String(),
			Name:    some(x.Name),
			Kind:    x.Kind.String(),
			State:   some(x.State),
			Roles:   x.Roles,
			Spaces:  x.Spaces,
		}
		if x.Until.IsSet() {
			p.Until = ptr(x.Until.String())
		}
		if x.Barred {
			p.Barred = ptr(true)
		}
		out.People = append(out.People, p)
	}
	return out, nil
}
