package api

import (
	"context"
	"fmt"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func (s *server) Due(ctx context.Context, r apigen.DueRequestObject) (apigen.DueResponseObject, error) {
	p := &r.Params
	from, until := opt(p.From), opt(p.Until)
	if until == "" {
		until = "+30d"
	}
	f := answer.DueFilter{From: s.Service.Now(), Partner: opt(p.Partner)}
	st := s.state(ctx)
	zone := st.Zone()
	var err error
	if from != "" {
		if f.From, err = moment.ParseLoose(from, f.From, zone); err != nil {
			return nil, &service.Invalid{Field: "from", Value: from, Reason: err.Error()}
		}
	}
	if f.Until, err = moment.ParseEnd(until, s.Service.Now(), zone); err != nil {
		return nil, &service.Invalid{Field: "until", Value: until, Reason: err.Error()}
	}
	if t := opt(p.Who); t != "" {
		a, err := addr.Parse(t)
		if err != nil {
			return nil, &service.Invalid{Field: "who", Value: t, Reason: err.Error()}
		}
		f.Who = a.String()
	}
	x, err := s.results.get(s.key(&answer.View{At: f.From}, st, p.From, "due", f.Until.String(), f.Partner, f.Who), func() (any, error) {
		c := &answer.DueCollector{Snapshot: st.Snapshot, Filter: f, Items: []apigen.DueStep{}, Kinds: map[string]int{}}
		err := s.Service.EachGuest(ctx, func(g *world.Guest, own, ofGroups []world.Grant) error {
			c.Add(g, own, ofGroups)
			return ctx.Err()
		})
		c.Done()
		if err == nil && f.Who != "" && !c.Found {
			err = fmt.Errorf("%w: there is no record of %s", service.ErrNotFound, f.Who)
		}
		return c, err
	})
	if err != nil {
		return nil, err
	}
	c := x.(*answer.DueCollector)
	steps, next, err := page(c.Items, p.Cursor, p.Limit)
	if err != nil {
		return nil, err
	}
	return apigen.Due200JSONResponse{Steps: steps, Total: len(c.Items), Kinds: c.Kinds, Next: next}, nil
}
