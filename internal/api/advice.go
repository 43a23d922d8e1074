package api

import (
	"context"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/advice"
	"wexillum.example/internal/core/catalogue"
)

var feedIn = catalogue.MustRule("directory.feed_in")

func (s *server) Advise(_ context.Context, r apigen.AdviseRequestObject) (apigen.AdviseResponseObject, error) {
	st, now := s.Service.State(), s.Service.Now()
	p, err := st.Partner(r.Id)
	if err != nil {
		return nil, err
	}
	a := advice.On(st.Dealings(p.ID, now), st.Snapshot.Halves(p, now), st.ValueAt(p.ID, feedIn) != 0)
	d := &a.Figures
	out := apigen.Advise200JSONResponse{Partner: p.ID, Short: a.Short, At: now.String(), Ways: []apigen.Way{}, Figures: map[string]int{
		"records": d.Records, "provisioned": d.Provisioned, "suspended": d.Suspended, "home": d.Home, "sharing": d.Sharing, "talking": d.Talking, "contacts": d.Contacts, "ours": d.Ours, "owners": d.Owners,
		"grants": d.Grants, "spaces": d.Spaces, "reports": d.Reports, "items": d.Items, "came": d.Came, "went": d.Went}}
	for _, w := range a.Ways {
		out.Ways = append(out.Ways, apigen.Way{Name: apigen.WayName(w.Name), Title: w.Title, Weight: w.Weight, Fits: w.Fits, InUse: w.In, For: append([]string{}, w.For...), Against: append([]string{}, w.Against...), Gives: w.Gives, Costs: w.Costs, Needs: w.Needs})
	}
	return out, nil
}
