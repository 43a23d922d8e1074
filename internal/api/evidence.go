package api

import (
	"bytes"
	"context"
	"io"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/evidence"
	"wexillum.example/internal/service"
)

func evidenceOut(e *service.Evidence) contract.Evidence {
	m := e.Manifest
	out := contract.Evidence{
		Id: e.ID, Says: m.Says, Party: m.Party, Action: m.Action, Resource: m.Resource, At: m.At, Made: m.Made, By: m.By, Why: m.Why,
		Revision: int(m.Revision), Change: int(e.Change), Digest: e.Digest, Parties: m.Parties, Newcomers: m.Newcomers, Lines: m.Lines,
		Totals: []contract.EvidenceTotal{}, Systems: []contract.EvidenceSystem{}, Expectations: []contract.EvidenceStands{},
		Trials: []contract.EvidenceBeside{}, Reviews: []contract.EvidenceBeside{}, NotLookedAt: m.NotLookedAt, SignOff: m.SignOff,
		SignedOff: []contract.SignedOff{}, Open: append([]string{}, e.Open()...),
	}
	for _, t := range m.Totals {
		out.Totals = append(out.Totals, contract.EvidenceTotal{Action: t.Action, Parties: t.Parties, Pairs: t.Pairs})
	}
	for _, x := range e.SignOff {
		out.SignedOff = append(out.SignedOff, contract.SignedOff{By: x.By, At: x.At, Note: some(x.Note)})
	}
	for _, x := range m.Systems {
		out.Systems = append(out.Systems, contract.EvidenceSystem{Id: x.ID, Read: some(x.Read)})
	}
	for _, x := range m.Trials {
		out.Trials = append(out.Trials, contract.EvidenceBeside{About: x.System, Says: x.Says()})
	}
	for _, x := range m.Reviews {
		out.Reviews = append(out.Reviews, contract.EvidenceBeside{About: x.Says, Says: x.Stands()})
	}
	for _, x := range m.Expectations {
		out.Expectations = append(out.Expectations, contract.EvidenceStands{Id: x.ID, Says: x.Says, State: contract.EvidenceStandsState(x.State),
			Count: x.Count})
	}
	return out
}

func (s *server) ListEvidence(ctx context.Context, _ apigen.ListEvidenceRequestObject) (apigen.ListEvidenceResponseObject, error) {
	list, err := s.Service.AllEvidence(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.ListEvidence200JSONResponse{Records: []contract.Evidence{}}
	for i := range list {
		e, err := s.Service.EvidenceOf(ctx, list[i].ID)
		if err != nil {
			return nil, err
		}
		out.Records = append(out.Records, evidenceOut(e))
	}
	return out, nil
}

func (s *server) MakeEvidence(ctx context.Context, r apigen.MakeEvidenceRequestObject) (apigen.MakeEvidenceResponseObject, error) {
	x := service.EvidenceScope{Party: opt(r.Body.Party), Action: opt(r.Body.Action), Resource: opt(r.Body.Resource), Why: r.Body.Why,
		At: moment.Always}
	if r.Body.SignOff != nil {
		x.SignOff = *r.Body.SignOff
	}
	if t := opt(r.Body.At); t != "" {
		var err error
		if x.At, err = moment.ParseLoose(t, s.Service.Now(), s.Service.State().Zone()); err != nil {
			return nil, &service.Invalid{Field: "at", Value: t, Reason: err.Error()}
		}
	}
	e, err := s.Service.MakeEvidence(ctx, whoIs(ctx), x)
	if err != nil {
		return nil, err
	}
	return apigen.MakeEvidence201JSONResponse(evidenceOut(e)), nil
}

func (s *server) GetEvidence(ctx context.Context, r apigen.GetEvidenceRequestObject) (apigen.GetEvidenceResponseObject, error) {
	e, err := s.Service.EvidenceOf(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.GetEvidence200JSONResponse(evidenceOut(e)), nil
}

func (s *server) EvidenceArchive(ctx context.Context, r apigen.EvidenceArchiveRequestObject) (apigen.EvidenceArchiveResponseObject, error) {
	e, err := s.Service.EvidenceOf(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out, to := io.Pipe()
	go func() { to.CloseWithError(s.Service.WriteEvidence(ctx, e, to)) }()
	name := `attachment; filename="record-` + e.ID + `.zip"`
	return apigen.EvidenceArchive200ApplicationzipResponse{Body: out,
		Headers: apigen.EvidenceArchive200ResponseHeaders{ContentDisposition: &name}}, nil
}

func (s *server) EvidenceSheet(ctx context.Context, r apigen.EvidenceSheetRequestObject) (apigen.EvidenceSheetResponseObject, error) {
	e, err := s.Service.EvidenceOf(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	sheet, err := s.Service.EvidenceSheet(ctx, e)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if f := r.Params.Form; f != nil && *f == contract.EvidenceSheetParamsFormPdf {
		if err := sheet.PDF(&b); err != nil {
			return nil, err
		}
		return apigen.EvidenceSheet200ApplicationpdfResponse{Body: &b, ContentLength: int64(b.Len())}, nil
	}
	if err := sheet.HTML(&b); err != nil {
		return nil, err
	}
	return apigen.EvidenceSheet200TexthtmlResponse{Body: &b, ContentLength: int64(b.Len())}, nil
}

func (s *server) VerifyEvidence(ctx context.Context, r apigen.VerifyEvidenceRequestObject) (apigen.VerifyEvidenceResponseObject, error) {
	checks, err := s.Service.VerifyEvidence(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	out := apigen.VerifyEvidence200JSONResponse{Ok: true, Checks: []contract.VerifiedPart{}}
	for _, c := range checks {
		out.Ok = out.Ok && c.OK
		out.Checks = append(out.Checks, contract.VerifiedPart{What: c.What, Ok: c.OK, Says: c.Says})
	}
	return out, nil
}

func (s *server) EvidenceDifference(ctx context.Context, r apigen.EvidenceDifferenceRequestObject) (apigen.EvidenceDifferenceResponseObject,
	error) {
	for _, id := range []string{r.Id, r.Params.To} {
		if _, err := s.Service.EvidenceOf(ctx, id); err != nil {
			return nil, err
		}
	}
	list, err := evidence.Difference(s.Service.EvidenceLines(ctx, r.Id), s.Service.EvidenceLines(ctx, r.Params.To))
	if err != nil {
		return nil, err
	}
	out := apigen.EvidenceDifference200JSONResponse{Lines: []contract.EvidenceDiffers{}}
	for _, d := range list {
		out.Lines = append(out.Lines, contract.EvidenceDiffers{Change: contract.EvidenceDiffersChange(d.Change), Party: d.Party, Action: d.Action,
			Resource: d.Resource, Was: some(d.Was), Becomes: some(d.Becomes)})
	}
	return out, nil
}

func (s *server) SignOffEvidence(ctx context.Context, r apigen.SignOffEvidenceRequestObject) (apigen.SignOffEvidenceResponseObject, error) {
	e, err := s.Service.SignOffEvidence(ctx, whoIs(ctx), r.Id, r.Body.Password, opt(r.Body.Note))
	if err != nil {
		return nil, err
	}
	return apigen.SignOffEvidence200JSONResponse(evidenceOut(e)), nil
}

func planOut(st *service.State, p *service.EvidencePlan) contract.EvidencePlan {
	return contract.EvidencePlan{
		Id: p.ID, Says: p.Says(st), Party: p.Party, Action: p.Action, Resource: p.Resource, Every: p.Every, Why: p.Why, By: p.By, Next: p.Next,
		Last: some(p.Last), Problem: some(p.Problem), SignOff: append([]string{}, p.SignOff...),
	}
}

func (s *server) ListEvidencePlans(ctx context.Context, _ apigen.ListEvidencePlansRequestObject) (apigen.ListEvidencePlansResponseObject,
	error) {
	list, err := s.Service.EvidencePlans(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.ListEvidencePlans200JSONResponse{Plans: []contract.EvidencePlan{}}
	st := s.Service.State()
	for i := range list {
		out.Plans = append(out.Plans, planOut(st, &list[i]))
	}
	return out, nil
}

func (s *server) PlanEvidence(ctx context.Context, r apigen.PlanEvidenceRequestObject) (apigen.PlanEvidenceResponseObject, error) {
	x := service.EvidenceScope{Party: opt(r.Body.Party), Action: opt(r.Body.Action), Resource: opt(r.Body.Resource), Why: r.Body.Why}
	if r.Body.SignOff != nil {
		x.SignOff = *r.Body.SignOff
	}
	p, err := s.Service.PlanEvidence(ctx, whoIs(ctx), x, r.Body.Every)
	if err != nil {
		return nil, err
	}
	return apigen.PlanEvidence201JSONResponse(planOut(s.Service.State(), p)), nil
}

func (s *server) EndEvidencePlan(ctx context.Context, r apigen.EndEvidencePlanRequestObject) (apigen.EndEvidencePlanResponseObject, error) {
	if err := s.Service.EndEvidencePlan(ctx, whoIs(ctx), r.Id, cause(r.Params.Why)); err != nil {
		return nil, err
	}
	return apigen.EndEvidencePlan204Response{}, nil
}
