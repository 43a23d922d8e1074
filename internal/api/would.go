package api

import (
	"context"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/world"
)

func (s *server) Would(ctx context.Context, r apigen.WouldRequestObject) (apigen.WouldResponseObject, error) {
	st := s.state(ctx)
	x, at, err := answer.Suppose(r.Body, st.Snapshot, s.Service.Now())
	if err != nil {
		return nil, err
	}
	if me := whoIs(ctx); me.Own() {
		var into []world.Resource
		for _, g := range x.Grants {
			into = append(into, g.Resource)
		}
		groups := len(x.Groups) > 0
		if x.Link != nil {
			into, groups = []world.Resource{x.Link.Item}, false
		}
		if err := me.AsksWould(st, groups, into...); err != nil {
			return nil, err
		}
		known, err := s.Service.KnownTo(ctx, st, me)
		if err != nil {
			return nil, err
		}
		var about *world.Resource
		if len(x.Grants) == 1 {
			about = &x.Grants[0].Resource
		}
		x.Stranger = known.Stranger(x.Address, about)
	}
	lines, kind, err := st.Would(x, at)
	if err != nil {
		return nil, err
	}
	who := x.Address.String()
	if x.Link != nil {
		who = "whoever holds the link"
	}
	return apigen.Would200JSONResponse(answer.Would(who, kind, at, lines, st.Head.Revision)), nil
}
