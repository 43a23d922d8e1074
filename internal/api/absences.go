package api

import (
	"context"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/service"
)

func absenceOut(st *service.State, x *service.AbsenceSaid) contract.Absence {
	out := contract.Absence{Person: x.Person, Name: st.WhoInWords("owner:" + x.Person), Deputy: some(x.Deputy), From: x.From, Until: x.Until,
		Why: x.Why, On: x.On, Requests: x.Requests, Lines: x.Lines}
	if x.Deputy != "" {
		out.DeputyName = ptr(st.WhoInWords("owner:" + x.Deputy))
	}
	return out
}

func (s *server) ListAbsences(ctx context.Context, _ apigen.ListAbsencesRequestObject) (apigen.ListAbsencesResponseObject, error) {
	list, err := s.Service.Absences(ctx, whoIs(ctx))
	if err != nil {
		return nil, err
	}
	st := s.Service.State()
	out := apigen.ListAbsences200JSONResponse{Absences: []contract.Absence{}}
	for i := range list {
		out.Absences = append(out.Absences, absenceOut(st, &list[i]))
	}
	return out, nil
}

func (s *server) SetAbsence(ctx context.Context, r apigen.SetAbsenceRequestObject) (apigen.SetAbsenceResponseObject, error) {
	b := r.Body
	x, err := s.Service.SetAbsence(ctx, whoIs(ctx), service.AbsenceSet{Person: opt(b.Person), Deputy: opt(b.Deputy), From: opt(b.From),
		Until: b.Until, Why: cause(b.Why)}, orZero(r.Params.Preview))
	if err != nil {
		return nil, err
	}
	return apigen.SetAbsence200JSONResponse(absenceOut(s.Service.State(), x)), nil
}

func (s *server) EndAbsence(ctx context.Context, r apigen.EndAbsenceRequestObject) (apigen.EndAbsenceResponseObject, error) {
	return apigen.EndAbsence204Response{}, s.Service.EndAbsence(ctx, whoIs(ctx), r.Person, opt(r.Params.Why))
}
