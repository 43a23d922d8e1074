package api

import (
	"context"
	"fmt"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func (s *server) Could(ctx context.Context, r apigen.CouldRequestObject) (apigen.CouldResponseObject, error) {
	p := &r.Params
	v, st, err := s.when(ctx, nil)
	if err != nil {
		return nil, err
	}
	asked := answer.CouldAsked{Who: opt(p.Who), Resource: opt(p.Resource), Action: opt(p.Action), All: p.All != nil && *p.All}
	got, err := s.results.get(ctx, s.key(v, st, nil, "could", asked.Who, asked.Resource, asked.Action, fmt.Sprint(asked.All)), func(ctx context.Context) (any, error) {
		return answer.CouldLines(st.Snapshot, asked, v.At, ctx.Err)
	})
	if err != nil {
		return nil, err
	}
	out := got.(contract.Could)
	out.Lines, out.Next, err = page(out.Lines, answer.CouldKey,
		askedDigest("could", asked.Who, asked.Resource, asked.Action, fmt.Sprint(asked.All)), p.Cursor, p.Limit)
	return apigen.Could200JSONResponse(out), err
}

func (s *server) CouldWay(ctx context.Context, r apigen.CouldWayRequestObject) (apigen.CouldWayResponseObject, error) {
	st := s.state(ctx)
	t, err := answer.CouldTarget(st.Snapshot, r.Body)
	if err != nil {
		return nil, err
	}
	return apigen.CouldWay200JSONResponse(answer.Way(st.Snapshot, t, s.Service.Now())), nil
}

// couldCuts are cuts as they are answered, with what they consist of.
type couldCuts struct {
	out   contract.CouldCuts
	parts [][]could.Part
}

// cuts finds what would make something impossible, once for all who ask while nothing changes.
func (s *server) cuts(ctx context.Context, q *contract.CouldQuestion) (*couldCuts, error) {
	v, st, err := s.when(ctx, nil)
	if err != nil {
		return nil, err
	}
	t, err := answer.CouldTarget(st.Snapshot, q)
	if err != nil {
		return nil, err
	}
	got, err := s.results.get(ctx, s.key(v, st, nil, "cuts", q.Subject, q.Action, q.Resource), func(ctx context.Context) (any, error) {
		out, parts, err := answer.Cuts(st.Snapshot, t, v.At, ctx.Err)
		return &couldCuts{out, parts}, err
	})
	if err != nil {
		return nil, err
	}
	return got.(*couldCuts), nil
}

func (s *server) CouldCuts(ctx context.Context, r apigen.CouldCutsRequestObject) (apigen.CouldCutsResponseObject, error) {
	x, err := s.cuts(ctx, r.Body)
	if err != nil {
		return nil, err
	}
	return apigen.CouldCuts200JSONResponse(x.out), nil
}

func (s *server) CouldCutDraft(ctx context.Context, r apigen.CouldCutDraftRequestObject) (apigen.CouldCutDraftResponseObject, error) {
	x, err := s.cuts(ctx, &r.Body.Question)
	if err != nil {
		return nil, err
	}
	for i := range x.out.Cuts {
		if x.out.Cuts[i].Id != r.Body.Cut {
			continue
		}
		q := &r.Body.Question
		name := opt(r.Body.Name)
		if name == "" {
			name = fmt.Sprintf("%.120s", fmt.Sprintf("So that %s can never %s %s", q.Subject, q.Action, q.Resource))
		}
		d, err := s.draftOfParts(ctx, x.parts[i], name, cause(r.Body.Why))
		if err != nil {
			return nil, err
		}
		return apigen.CouldCutDraft201JSONResponse{Body: draftOut(d), Headers: apigen.CouldCutDraft201ResponseHeaders{ETag: ptr(d.Etag())}}, nil
	}
	return nil, fmt.Errorf("%w: there is no such cut any more; ask again", service.ErrNotFound)
}

// draftOfParts makes a draft of what is policy in changes that take something away.
func (s *server) draftOfParts(ctx context.Context, parts []could.Part, name, why string) (*service.DraftNow, error) {
	var policy []could.Part
	for _, p := range parts {
		if p.Policy() {
			policy = append(policy, p)
		}
	}
	if len(policy) == 0 {
		return nil, &service.Invalid{Field: "cut", Value: name,
			Reason: "none of it is policy; it is done at the people named in it, by an administrator or keeper"}
	}
	id, err := s.Service.MakeDraftOf(ctx, whoIs(ctx).Name, name, why, func(now *service.State) (*world.World, error) {
		return could.Without(now.Policy(), policy), nil
	})
	if err != nil {
		return nil, err
	}
	return s.Service.Draft(ctx, id)
}

// spared is what nobody uses, with what it consists of.
type spared struct {
	out   contract.Spare
	parts []could.Part
}

func (s *server) spared(ctx context.Context) (*spared, error) {
	v, st, err := s.when(ctx, nil)
	if err != nil {
		return nil, err
	}
	got, err := s.results.get(ctx, s.key(v, st, nil, "spare"), func(ctx context.Context) (any, error) {
		out, parts, err := answer.Spare(st.Snapshot, v.At, ctx.Err)
		return &spared{out, parts}, err
	})
	if err != nil {
		return nil, err
	}
	return got.(*spared), nil
}

func (s *server) Spare(ctx context.Context, _ apigen.SpareRequestObject) (apigen.SpareResponseObject, error) {
	x, err := s.spared(ctx)
	if err != nil {
		return nil, err
	}
	return apigen.Spare200JSONResponse(x.out), nil
}

func (s *server) SpareDraft(ctx context.Context, r apigen.SpareDraftRequestObject) (apigen.SpareDraftResponseObject, error) {
	x, err := s.spared(ctx)
	if err != nil {
		return nil, err
	}
	if len(x.parts) == 0 {
		return nil, fmt.Errorf("%w: everything that is allowed is used; there is nothing to take away", service.ErrConflict)
	}
	name := opt(r.Body.Name)
	if name == "" {
		name = "What nobody uses"
	}
	d, err := s.draftOfParts(ctx, x.parts, name, cause(r.Body.Why))
	if err != nil {
		return nil, err
	}
	return apigen.SpareDraft201JSONResponse{Body: draftOut(d), Headers: apigen.SpareDraft201ResponseHeaders{ETag: ptr(d.Etag())}}, nil
}
