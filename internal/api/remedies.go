package api

import (
	"context"
	"fmt"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/remedy"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// remedied finds the question, and the end that is proposed.
func (s *server) remedied(
	ctx context.Context,
	q *contract.Question,
	until *string,
) (*service.State, engine.Question, moment.Moment, error) {
	st, now := s.state(ctx), s.Service.Now()
	x, err := answer.Question(q, st.Snapshot, now, names(ctx))
	if err != nil {
		return st, x, 0, err
	}
	if at := opt(q.At); at != "" {
		if st, _, err = s.Service.At(ctx, x.At); err != nil {
			return st, x, 0, err
		}
	}
	if err := s.mayAsk(ctx, st, x.Subject, &x.Resource); err != nil {
		return st, x, 0, err
	}
	if err := s.unkept(ctx, st, &x); err != nil {
		return st, x, 0, err
	}
	text := opt(until)
	if text == "" {
		text = "+30d"
	}
	if text == "none" {
		return st, x, moment.Never, nil
	}
	end, err := moment.ParseEnd(text, now, st.Zone())
	if err != nil {
		return st, x, 0, &service.Invalid{
			Field:  "until",
			Value:  text,
			Reason: "write a date, a moment with its offset, days from today as +30d, or none",
		}
	}
	return st, x, end, nil
}

func (s *server) Remedies(ctx context.Context, r apigen.RemediesRequestObject) (apigen.RemediesResponseObject, error) {
	st, q, until, err := s.remedied(ctx, &r.Body.Question, r.Body.Until)
	if err != nil {
		return nil, err
	}
	out, _, err := answer.Remedies(st.Snapshot, &q, until, r.Body.Counts != nil && *r.Body.Counts, ctx.Err)
	if err != nil {
		return nil, err
	}
	return apigen.Remedies200JSONResponse(out), nil
}

func (s *server) RemedyDraft(ctx context.Context, r apigen.RemedyDraftRequestObject) (apigen.RemedyDraftResponseObject, error) {
	st, q, until, err := s.remedied(ctx, &r.Body.Question, r.Body.Until)
	if err != nil {
		return nil, err
	}
	x, err := s.draftOfRemedy(ctx, st, q, until, r.Body.Option, opt(r.Body.Name), cause(r.Body.Why))
	if err != nil {
		return nil, err
	}
	return apigen.RemedyDraft201JSONResponse{Body: draftOut(x), Headers: apigen.RemedyDraft201ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

// draftOfRemedy makes a draft of what is policy in a set of changes; of the first that
// holds any where none is named.
func (s *server) draftOfRemedy(
	ctx context.Context,
	st *service.State,
	q engine.Question,
	until moment.Moment,
	option, name, why string,
) (*service.DraftNow, error) {
	options, _, err := remedy.Find(st.Snapshot, remedy.Request{Question: q, Until: until})
	if err != nil {
		return nil, err
	}
	var policy []remedy.Change
	found := false
	for i := range options {
		if option != "" && options[i].ID != option {
			continue
		}
		found = true
		for _, c := range options[i].Changes {
			if c.Policy() {
				policy = append(policy, c)
			}
		}
		if len(policy) > 0 {
			break
		}
	}
	switch {
	case !found:
		return nil, fmt.Errorf("%w: there is no such set of changes any more; ask again", service.ErrNotFound)
	case len(policy) == 0:
		return nil, &service.Invalid{
			Field:  "option",
			Value:  option,
			Reason: "none of it is policy; it is done at the place itself, by those who can",
		}
	}
	if name == "" {
		name = fmt.Sprintf("%.120s", fmt.Sprintf("So that %s may %s %s", q.Subject, q.Action, q.Resource))
	}
	d, err := s.Service.MakeDraftOf(ctx, whoIs(ctx).Name, name, why, func(now *service.State) (*world.World, error) {
		return remedy.PolicyWith(now.Policy(), policy, s.Service.Now()), nil
	})
	if err != nil {
		return nil, err
	}
	return s.Service.Draft(ctx, d)
}
