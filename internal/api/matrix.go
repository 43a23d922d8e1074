package api

import (
	"context"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// matrixRules are what people may do with outsiders by themselves: the rules of chat and mail that an
// exception may set.
func matrixRules() (out []*catalogue.Rule) {
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		if r.Layers&catalogue.AtPeople != 0 && (r.Service() == "chat" || r.Service() == "mail") {
			out = append(out, r)
		}
	}
	return
}

// PeopleMatrix puts people against rules.
func (s *server) PeopleMatrix(ctx context.Context, r apigen.PeopleMatrixRequestObject) (apigen.PeopleMatrixResponseObject, error) {
	st, now := s.state(ctx), s.Service.Now()
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 50)
	rules := matrixRules()
	out := apigen.PeopleMatrix200JSONResponse{People: []contract.MatrixRow{}}
	for _, rule := range rules {
		_, def, _, _ := st.RuleState(rule.ID)
		out.Rules = append(out.Rules, struct {
			Default string `json:"default"`
			Rule    string `json:"rule"`
			Title   string `json:"title"`
		}{rule.Scale.Format(def), rule.Name, rule.Title})
	}
	err = s.Service.People(ctx, func(p *world.Person) error {
		if p.ID <= after || out.Next != "" || p.Left != 0 ||
			q != "" && !strings.Contains(p.ID, q) && !strings.Contains(strings.ToLower(p.Name), q) {
			return nil
		}
		if len(out.People) == limit {
			out.Next = cursor(out.People[limit-1].Id)
			return nil
		}
		row := contract.MatrixRow{Id: p.ID, Name: p.Name}
		for _, rule := range rules {
			chain, err := st.ChainOf(rule.ID, engine.Context{Person: p.ID, Resource: engine.NoResource, At: now})
			if err != nil {
				return err
			}
			row.Values = append(row.Values, struct {
				Layer string `json:"layer"`
				Own   bool   `json:"own"`
				Value string `json:"value"`
			}{chain.Decided().String(), chain.Decided() == engine.PeopleLayer, rule.Scale.Format(chain.Effective())})
		}
		out.People = append(out.People, row)
		return nil
	})
	return out, err
}
