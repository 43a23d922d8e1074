package api

import (
	"context"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// dueMoment reads a moment; of a date its start, or with end its end.
func (s *server) dueMoment(field, text string, end bool) (moment.Moment, error) {
	now, zone := s.Service.Now(), s.Service.State().Zone()
	if d, is, err := moment.ParseDate(text, now, zone); err == nil && is && end {
		return (d + 1).Start(zone), nil
	}
	m, err := moment.ParseLoose(text, now, zone)
	if err != nil {
		return 0, &service.Invalid{Field: field, Value: text, Reason: err.Error()}
	}
	return m, nil
}

func (s *server) Due(ctx context.Context, r apigen.DueRequestObject) (apigen.DueResponseObject, error) {
	p := &r.Params
	from, until := opt(p.From), opt(p.Until)
	if until == "" {
		until = "+30d"
	}
	f := answer.DueFilter{From: s.Service.Now(), Partner: opt(p.Partner)}
	var err error
	if from != "" {
		if f.From, err = s.dueMoment("from", from, false); err != nil {
			return nil, err
		}
	}
	if f.Until, err = s.dueMoment("until", until, true); err != nil {
		return nil, err
	}
	if t := opt(p.Who); t != "" {
		a, err := addr.Parse(t)
		if err != nil {
			return nil, &service.Invalid{Field: "who", Value: t, Reason: err.Error()}
		}
		f.Who = a.String()
	}
	st := s.state(ctx)
	x, err := s.results.get(s.key(&answer.View{At: f.From}, st, p.From, "due", f.Until.String(), f.Partner, f.Who), func() (any, error) {
		c := &answer.DueCollector{Snapshot: st.Snapshot, Filter: f, Items: []apigen.DueStep{}, Kinds: map[string]int{}}
		err := s.Service.EachGuest(ctx, func(g *world.Guest, own, ofGroups []world.Grant) error {
			c.Add(g, own, ofGroups)
			return ctx.Err()
		})
		c.Done()
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
