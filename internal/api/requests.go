package api

import (
	"cmp"
	"context"
	"fmt"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/service"
)

func (s *server) requestOut(ctx context.Context, st *service.State, r *service.Request) contract.Request {
	out := contract.Request{
		Id:      r.ID,
		By:      r.By,
		Person:  some(r.Person),
		Purpose: r.Purpose,
		To:      append([]string{}, r.To...),
		Made:    r.Made,
		State:   contract.RequestState(r.State),
		Draft:   some(r.Draft),
		Answer:  some(r.Answer),
		Closed:  some(r.Closed),
		Closer:  some(r.Closer),
		Heard:   r.Heard,
		ToNames: []string{},
	}
	for _, to := range r.To {
		out.ToNames = append(out.ToNames, st.WhoInWords(to))
	}
	if v := r.Value; v != nil {
		out.Value, out.Title = &contract.AskedValue{Where: v.Where, Rule: v.Rule, Value: some(v.Value)}, r.Title
		return out
	}
	if x := r.Bundle; x != nil {
		out.Bundle, out.Title = ptr(s.askedOut(ctx, st, r)), r.Title
		return out
	}
	if x := r.SignUp; x != nil {
		out.SignUp, out.Title = &contract.SignUp{Address: x.Address, Asked: x.Asked, Said: x.Said}, r.Title
		return out
	}
	if len(r.Changes) > 0 {
		changes, err := editsOut(r.Changes)
		if err == nil {
			out.Changes = &changes
		}
		out.Title = r.Title
		return out
	}
	if r.Asked == (service.Asked{}) { // of who is forgotten
		out.Title = "A request of somebody who is forgotten"
		return out
	}
	out.Question = &contract.Question{Subject: r.Asked.Subject, Action: r.Asked.Action, Resource: r.Asked.Resource}
	if r.Asked.Address != "" || r.Asked.Presenter != "" {
		out.Question.Context = &contract.QuestionContext{Address: some(r.Asked.Address), Presenter: some(r.Asked.Presenter)}
	}
	out.Title = fmt.Sprintf("%s %s %s", r.Asked.Subject, r.Asked.Action, r.Asked.Resource)
	if q, err := r.Asked.Question(s.Service.Now()); err == nil {
		who, what := st.NameOfSubject(q.Subject), st.NameOf(q.Resource)
		if who == "" {
			who = r.Asked.Subject
		}
		if what == "" {
			what = r.Asked.Resource
		}
		out.Title = fmt.Sprintf("That %s may %s: %s", who, q.Action.Get().TitleOn(q.Resource.Kind), what)
		if r.Asked.Address != "" {
			out.Title += ", about " + r.Asked.Address
		}
	}
	return out
}

func (s *server) Requests(ctx context.Context, r apigen.RequestsRequestObject) (apigen.RequestsResponseObject, error) {
	list, err := s.Service.Requests(ctx, whoIs(ctx), r.Params.Over != nil && *r.Params.Over)
	out := apigen.Requests200JSONResponse{Requests: []contract.Request{}}
	for i := range list {
		out.Requests = append(out.Requests, s.requestOut(ctx, s.Service.State(), &list[i]))
	}
	return out, err
}

func (s *server) MakeRequest(ctx context.Context, r apigen.MakeRequestRequestObject) (apigen.MakeRequestResponseObject, error) {
	named := 0
	for _, is := range []bool{r.Body.Question != nil, r.Body.Changes != nil, r.Body.Value != nil, r.Body.Bundle != nil} {
		if is {
			named++
		}
	}
	if named != 1 {
		return nil, &service.Invalid{Field: "question", Value: "", Reason: "name a question, changes, a value or a bundle, one of the four"}
	}
	if b := r.Body.Bundle; b != nil {
		who := whoIs(ctx)
		x, err := s.Service.AskBundle(ctx, who, service.BundleAsk{Bundle: b.Bundle, Address: b.Address, Language: opt(b.Language),
			Sponsor: cmp.Or(opt(b.Sponsor), who.Person), Answers: *cmp.Or(b.Answers, &[]string{}), Purpose: r.Body.Purpose, Until: opt(b.Until)})
		if err != nil {
			return nil, err
		}
		return apigen.MakeRequest201JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
	}
	if v := r.Body.Value; v != nil {
		x, err := s.Service.RequestValue(ctx, whoIs(ctx), service.AskedValue{Where: v.Where, Rule: v.Rule, Value: opt(v.Value)}, r.Body.Purpose)
		if err != nil {
			return nil, err
		}
		return apigen.MakeRequest201JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
	}
	if r.Body.Changes != nil {
		edits, err := editsIn(*r.Body.Changes)
		if err != nil {
			return nil, err
		}
		x, err := s.Service.RequestPlaces(ctx, whoIs(ctx), edits, r.Body.Purpose)
		if err != nil {
			return nil, err
		}
		return apigen.MakeRequest201JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
	}
	b := r.Body.Question
	asked := service.Asked{Subject: b.Subject, Action: b.Action, Resource: b.Resource}
	if b.Context != nil {
		asked.Address, asked.Presenter = opt(b.Context.Address), opt(b.Context.Presenter)
	}
	q, err := asked.Question(s.Service.Now())
	if err != nil {
		return nil, err
	}
	// A member asks for themselves, and about their own spaces and guests.
	if err := s.mayAsk(ctx, s.Service.State(), q.Subject, &q.Resource); err != nil {
		return nil, err
	}
	x, err := s.Service.MakeRequest(ctx, whoIs(ctx), asked, r.Body.Purpose)
	if err != nil {
		return nil, err
	}
	return apigen.MakeRequest201JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}

func (s *server) Request(ctx context.Context, r apigen.RequestRequestObject) (apigen.RequestResponseObject, error) {
	x, err := s.Service.RequestOf(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.Request200JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}

func (s *server) AnswerRequest(ctx context.Context, r apigen.AnswerRequestRequestObject) (apigen.AnswerRequestResponseObject, error) {
	x, err := s.Service.AnswerRequest(ctx, whoIs(ctx), r.Id, r.Body.Text, r.Body.Refuse != nil && *r.Body.Refuse)
	if err != nil {
		return nil, err
	}
	return apigen.AnswerRequest200JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}

func (s *server) HearRequest(ctx context.Context, r apigen.HearRequestRequestObject) (apigen.HearRequestResponseObject, error) {
	x, err := s.Service.HearRequest(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.HearRequest200JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}

func (s *server) DraftRequest(ctx context.Context, r apigen.DraftRequestRequestObject) (apigen.DraftRequestResponseObject, error) {
	x, err := s.Service.RequestOf(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	if x.IsChange() {
		return nil, fmt.Errorf("%w: %s asks for a change that no draft holds; do it", service.ErrConflict, x.ID)
	}
	q, err := x.Asked.Question(s.Service.Now())
	if err != nil {
		return nil, err
	}
	d, err := s.draftOfRemedy(
		ctx,
		s.Service.State(),
		q,
		s.Service.Now()+30*86400e6,
		opt(r.Body.Option),
		fmt.Sprintf("For %s: %.80s", x.By, x.Purpose),
		x.Purpose,
	)
	if err != nil {
		return nil, err
	}
	if _, err := s.Service.DraftRequest(ctx, whoIs(ctx), r.Id, d.ID); err != nil {
		return nil, err
	}
	return apigen.DraftRequest201JSONResponse(draftOut(d)), nil
}

func (s *server) DoRequest(ctx context.Context, r apigen.DoRequestRequestObject) (apigen.DoRequestResponseObject, error) {
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.DoRequest(ctx, whoIs(ctx), r.Id, cause(r.Body.Why), preview,
		service.BundleApproval{Until: opt(r.Body.Until), Less: lessIn(r.Body.Less)})
	if err != nil {
		return nil, err
	}
	return apigen.DoRequest200JSONResponse(placesOut(x, preview)), nil
}

func (s *server) WithdrawRequest(ctx context.Context, r apigen.WithdrawRequestRequestObject) (apigen.WithdrawRequestResponseObject, error) {
	x, err := s.Service.WithdrawRequest(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.WithdrawRequest200JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}

func (s *server) HandOverRequest(ctx context.Context, r apigen.HandOverRequestRequestObject) (apigen.HandOverRequestResponseObject, error) {
	x, err := s.Service.HandOverRequest(ctx, whoIs(ctx), r.Id, r.Body.To)
	if err != nil {
		return nil, err
	}
	return apigen.HandOverRequest200JSONResponse(s.requestOut(ctx, s.Service.State(), x)), nil
}
