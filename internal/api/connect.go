package api

import (
	"context"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
)

func (s *server) ConnectPartner(ctx context.Context, r apigen.ConnectPartnerRequestObject) (apigen.ConnectPartnerResponseObject, error) {
	var spaces []string
	if r.Params.Space != nil {
		spaces = *r.Params.Space
	}
	x, err := s.Service.ConnectAhead(ctx, r.Id, r.Params.Way, spaces, opt(r.Params.Role))
	if err != nil {
		return nil, err
	}
	out := apigen.ConnectPartner200JSONResponse{Partner: x.Partner, Name: x.Called, Way: contract.ConnectWay(x.Way), Done: x.Done,
		Steps: []contract.ConnectStep{}, People: []contract.ConnectPerson{}, Counts: x.Counts, Twins: twinsOut(x.Twins)}
	for i := range x.Steps {
		c := &x.Steps[i]
		step := contract.ConnectStep{Do: contract.ConnectStepDo(c.Do), Text: c.Text, Done: c.Done}
		if len(c.Keys) > 0 {
			step.Keys = &c.Keys
		}
		if len(c.Edits) > 0 {
			edits, err := editsOut(c.Edits)
			if err != nil {
				return nil, err
			}
			step.Edits = &edits
		}
		if c.Ask != nil {
			step.Question = &contract.Question{Subject: c.Ask.Subject.String(), Action: c.Ask.Action.String(), Resource: c.Ask.Resource.String()}
		}
		out.Steps = append(out.Steps, step)
	}
	for i := range x.People {
		p := &x.People[i]
		out.People = append(out.People, contract.ConnectPerson{Address: p.Address, Name: some(p.Name), State: some(p.State), Roles: p.Roles,
			Becomes: contract.ConnectPersonBecomes(p.Becomes), Text: p.Text})
	}
	return out, nil
}
