package api

import (
	"context"
	"io"
	"net/http"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/domainlist"
	"wexillum.example/internal/service"
)

func (s *server) ListDomains(ctx context.Context, r apigen.ListDomainsRequestObject) (apigen.ListDomainsResponseObject, error) {
	st := s.state(ctx)
	partner := opt(r.Params.Partner)
	if partner != "" {
		if _, err := st.Partner(partner); err != nil {
			return nil, err
		}
	}
	lines := domainlist.Of(st.Policy(), domainlist.Kind(r.Params.List), partner)
	if opt(r.Params.Form) == "text" {
		return apigen.ListDomains200TextResponse(domainlist.Text(lines)), nil
	}
	return apigen.ListDomains200TextResponse(domainlist.CSV(lines)), nil
}

func (s *server) ImportDomains(ctx context.Context, r apigen.ImportDomainsRequestObject) (apigen.ImportDomainsResponseObject, error) {
	list := io.Reader(http.NoBody)
	if r.Body != nil {
		list = r.Body
	}
	lines, err := domainlist.Read(list)
	if err != nil {
		return nil, &service.Invalid{Field: "body", Value: "", Reason: err.Error()}
	}
	yes := func(p *bool) bool { return p != nil && *p }
	if len(lines) == 0 && !yes(r.Params.Replace) {
		return nil, &service.Invalid{Field: "body", Value: "", Reason: "the list is empty"}
	}
	b := by(ctx, r.Params.Why, nil, r.Params.Preview)
	x, err := s.Service.ImportDomains(
		ctx,
		b,
		domainlist.Kind(r.Params.List),
		opt(r.Params.Partner),
		lines,
		yes(r.Params.Replace),
		yes(r.Params.OnlyGood),
	)
	if err != nil {
		return nil, err
	}
	out := apigen.ImportDomains200JSONResponse{
		Lines:    []contract.DomainLine{},
		Counts:   map[string]int{},
		Concerns: countsOut(x.Concerns),
		Written:  x.Written,
		Preview:  b.Preview,
	}
	for k, n := range x.Counts {
		out.Counts[string(k)] = n
	}
	for _, l := range x.Lines {
		d := contract.DomainLine{
			Line:    l.Number,
			Text:    l.Text,
			Name:    l.Name,
			Partner: some(l.Partner),
			Result:  contract.DomainLineResult(l.Result),
			Cause:   some(l.Cause),
		}
		if l.Subdomains {
			d.Subdomains = ptr(true)
		}
		out.Lines = append(out.Lines, d)
	}
	return out, nil
}
