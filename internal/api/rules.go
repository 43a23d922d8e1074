package api

import (
	"context"
	"fmt"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/service"
)

func (s *server) ListActions(context.Context, apigen.ListActionsRequestObject) (apigen.ListActionsResponseObject, error) {
	return apigen.ListActions200JSONResponse{Actions: answer.Actions()}, nil
}

func (s *server) ListRules(ctx context.Context, r apigen.ListRulesRequestObject) (apigen.ListRulesResponseObject, error) {
	st := s.state(ctx)
	var only []*catalogue.Rule
	if f := strings.TrimSpace(opt(r.Params.Find)); f != "" {
		only = catalogue.Find(f)
	} else {
		for i := range catalogue.Rules() {
			only = append(only, &catalogue.Rules()[i])
		}
	}
	return apigen.ListRules200JSONResponse{Rules: answer.Rules(st.Snapshot, only, s.Service.Now(), st.RuleEtag)}, nil
}

func (s *server) rule(ctx context.Context, name string) (contract.Rule, error) {
	st := s.state(ctx)
	r, ok := catalogue.RuleByName(name)
	if !ok {
		hint := ""
		if n := catalogue.Nearest(name); n != "" {
			hint = "; do you mean " + n + "?"
		}
		return contract.Rule{}, fmt.Errorf("%w: there is no rule %q%s", service.ErrNotFound, name, hint)
	}
	return answer.Rules(st.Snapshot, []*catalogue.Rule{r}, s.Service.Now(), st.RuleEtag)[0], nil
}

func (s *server) GetRule(ctx context.Context, r apigen.GetRuleRequestObject) (apigen.GetRuleResponseObject, error) {
	x, err := s.rule(ctx, r.Rule)
	return apigen.GetRule200JSONResponse{Body: x, Headers: apigen.GetRule200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) SetRule(ctx context.Context, r apigen.SetRuleRequestObject) (apigen.SetRuleResponseObject, error) {
	b := r.Body
	err := s.Service.SetRule(
		ctx,
		whoIs(ctx).Name,
		cause(b.Why),
		service.RuleChange{
			Rule:    r.Rule,
			Limit:   opt(b.Limit),
			Default: opt(b.Default),
			Held:    b.Held != nil && *b.Held,
			IfMatch: opt(r.Params.IfMatch),
		},
	)
	if err != nil {
		return nil, err
	}
	x, err := s.rule(ctx, r.Rule)
	return apigen.SetRule200JSONResponse{Body: x, Headers: apigen.SetRule200ResponseHeaders{ETag: &x.Etag}}, err
}
