package api

import (
	"context"
	"encoding/json"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func barOut(b *world.Bar) contract.Bar {
	out := contract.Bar{Name: some(b.Domain.String()), Address: some(b.Address.String()), Reason: some(b.Reason)}
	if b.Subdomains {
		out.Subdomains = ptr(true)
	}
	return out
}

func (s *server) ListBars(ctx context.Context, _ apigen.ListBarsRequestObject) (apigen.ListBarsResponseObject, error) {
	out := apigen.ListBars200JSONResponse{Bars: []contract.Bar{}}
	p := s.state(ctx).Policy()
	for i := range p.Barred {
		out.Bars = append(out.Bars, barOut(&p.Barred[i]))
	}
	return out, nil
}

func (s *server) AddBar(ctx context.Context, r apigen.AddBarRequestObject) (apigen.AddBarResponseObject, error) {
	doc, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	b, err := s.Service.AddBar(ctx, whoIs(ctx).Name, opt(r.Body.Reason), doc)
	return apigen.AddBar201JSONResponse(barOut(&b)), err
}

func (s *server) LiftBar(ctx context.Context, r apigen.LiftBarRequestObject) (apigen.LiftBarResponseObject, error) {
	return apigen.LiftBar204Response{}, s.Service.LiftBar(ctx, whoIs(ctx).Name, strings.TrimSpace(opt(r.Params.Why)), r.Key)
}

func (s *server) TestDomain(ctx context.Context, r apigen.TestDomainRequestObject) (apigen.TestDomainResponseObject, error) {
	st := s.state(ctx)
	text := r.Params.Address
	if !strings.Contains(text, "@") {
		text = "*@" + text
	}
	a, err := addr.Parse(text)
	if err != nil {
		return nil, &service.Invalid{Field: "address", Value: r.Params.Address, Reason: err.Error()}
	}
	return apigen.TestDomain200JSONResponse(answer.DomainTest(st.Snapshot, st.Match(a))), nil
}
