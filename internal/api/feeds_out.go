package api

import (
	"cmp"
	"context"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

func someMoment(m moment.Moment) *string {
	if m == 0 {
		return nil
	}
	return ptr(m.String())
}

func feedOutOut(v *service.FeedOutView) contract.FeedOut {
	g := &v.Goes
	out := contract.FeedOut{Partner: v.Partner, Name: v.Called, State: contract.FeedOutState(v.State), Shut: some(v.Shut), Off: some(v.Off),
		Address: v.Address, Key: v.Key, Scope: contract.FeedOutScope(v.Scope), Of: append([]string{}, v.Of...),
		Every: v.Every, Leavers: contract.FeedOutLeavers(v.Leavers), Brake: v.Brake, Kept: v.Count.Kept, Closed: v.Count.Closed,
		Failing: v.Count.Failing, ClosedToday: v.Count.ClosedLately,
		Began: someMoment(g.Began), Ended: someMoment(g.Ended), Did: g.Did, Problem: some(g.Problem), Since: someMoment(g.Since), By: v.By,
		Made: v.Made}
	if out.Did == nil {
		out.Did = map[string]int{}
	}
	if v.Most > 0 {
		out.Most = ptr(v.Most)
	}
	if v.State == service.FeedOn {
		out.Next = someMoment(g.Next)
	}
	if g.Began != 0 {
		out.Total, out.Done = ptr(g.Total), ptr(g.Done)
	}
	return out
}

func (s *server) oneFeedOut(ctx context.Context, partner string) (contract.FeedOut, error) {
	v, err := s.Service.FeedOutOf(ctx, partner)
	if err != nil {
		return contract.FeedOut{}, err
	}
	return feedOutOut(v), nil
}

func (s *server) ListFeedsOut(ctx context.Context, _ apigen.ListFeedsOutRequestObject) (apigen.ListFeedsOutResponseObject, error) {
	list, err := s.Service.FeedsOut(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.ListFeedsOut200JSONResponse{Feeds: []contract.FeedOut{}}
	for i := range list {
		out.Feeds = append(out.Feeds, feedOutOut(&list[i]))
	}
	return out, nil
}

func (s *server) GetFeedOut(ctx context.Context, r apigen.GetFeedOutRequestObject) (apigen.GetFeedOutResponseObject, error) {
	out, err := s.oneFeedOut(ctx, r.Partner)
	return apigen.GetFeedOut200JSONResponse(out), err
}

func (s *server) BeginFeedOut(ctx context.Context, r apigen.BeginFeedOutRequestObject) (apigen.BeginFeedOutResponseObject, error) {
	b := r.Body
	if err := s.Service.BeginFeedOut(ctx, whoIs(ctx), b.Partner, cause(b.Why),
		service.FeedOutSet{State: b.State, Address: &b.Address, Key: &b.Key, Scope: b.Scope, Leavers: b.Leavers, Of: b.Of, Every: b.Every,
			Brake: b.Brake}); err != nil {
		return nil, err
	}
	out, err := s.oneFeedOut(ctx, b.Partner)
	return apigen.BeginFeedOut201JSONResponse(out), err
}

func (s *server) SetFeedOut(ctx context.Context, r apigen.SetFeedOutRequestObject) (apigen.SetFeedOutResponseObject, error) {
	b := r.Body
	if err := s.Service.SetFeedOut(ctx, whoIs(ctx), r.Partner, cause(b.Why),
		service.FeedOutSet{State: b.State, Address: b.Address, Key: b.Key, Scope: b.Scope, Leavers: b.Leavers, Of: b.Of, Every: b.Every,
			Brake: b.Brake}); err != nil {
		return nil, err
	}
	out, err := s.oneFeedOut(ctx, r.Partner)
	return apigen.SetFeedOut200JSONResponse(out), err
}

func (s *server) EndFeedOut(ctx context.Context, r apigen.EndFeedOutRequestObject) (apigen.EndFeedOutResponseObject, error) {
	return apigen.EndFeedOut204Response{}, s.Service.EndFeedOut(ctx, whoIs(ctx), r.Partner, opt(r.Params.Why))
}

func (s *server) ReleaseFeedOut(ctx context.Context, r apigen.ReleaseFeedOutRequestObject) (apigen.ReleaseFeedOutResponseObject, error) {
	if err := s.Service.ReleaseFeedOut(ctx, whoIs(ctx), r.Partner, r.Body.Why); err != nil {
		return nil, err
	}
	out, err := s.oneFeedOut(ctx, r.Partner)
	return apigen.ReleaseFeedOut200JSONResponse(out), err
}

func (s *server) LookFeedOut(ctx context.Context, r apigen.LookFeedOutRequestObject) (apigen.LookFeedOutResponseObject, error) {
	x, err := s.Service.LookFeed(ctx, r.Partner)
	if err != nil {
		return nil, err
	}
	out := contract.FeedLook{Well: x.Problem == "", Problem: some(x.Problem), Advice: some(x.Advice), TookMs: int(x.Took.Milliseconds()),
		Patch: x.Patch, There: x.There, Ours: x.Ours, Read: x.Read, Unkept: []contract.FeedThere{}, Twins: twinsOut(x.Twins)}
	if x.Status != 0 {
		out.Status = ptr(x.Status)
	}
	for _, u := range x.Unkept {
		out.Unkept = append(out.Unkept, contract.FeedThere{Id: u.ID, UserName: u.UserName, Name: some(u.Name), Active: u.Active})
	}
	return apigen.LookFeedOut200JSONResponse(out), nil
}

func (s *server) FeedOutPeople(ctx context.Context, r apigen.FeedOutPeopleRequestObject) (apigen.FeedOutPeopleResponseObject, error) {
	list, next, counts, unsure, err := s.Service.FeedOutAhead(ctx, r.Partner, orZero(r.Params.All), opt(r.Params.After),
		cmp.Or(orZero(r.Params.Limit), 100))
	if err != nil {
		return nil, err
	}
	out := apigen.FeedOutPeople200JSONResponse{People: []contract.FeedOutPerson{}, Counts: counts, Unsure: some(unsure), Next: some(next)}
	for i := range list {
		a := &list[i]
		out.People = append(out.People, contract.FeedOutPerson{Person: a.Person, Name: a.Name, Address: some(a.Address),
			Do: contract.FeedOutPersonDo(a.Do), Why: some(a.Why), Kept: contract.FeedOutPersonKept(a.Kept), Problem: some(a.Problem),
			Next: someMoment(a.Next)})
	}
	return out, nil
}

func (s *server) SendFeedOut(ctx context.Context, r apigen.SendFeedOutRequestObject) (apigen.SendFeedOutResponseObject, error) {
	x, err := s.Service.SendFeed(ctx, whoIs(ctx), r.Partner, r.Body.Why, orZero(r.Body.Most), opt(r.Body.Person))
	if err != nil {
		return nil, err
	}
	return apigen.SendFeedOut200JSONResponse{Done: x.Done, Refused: x.Refused, Left: x.Left, Braked: x.Braked, LeftOut: x.LeftOut,
		Problem: some(x.Problem)}, nil
}

func (s *server) FeedOutLog(ctx context.Context, r apigen.FeedOutLogRequestObject) (apigen.FeedOutLogResponseObject, error) {
	if _, err := s.Service.FeedOutOf(ctx, r.Partner); err != nil {
		return nil, err
	}
	limit := cmp.Or(orZero(r.Params.Limit), 100)
	list, err := s.Service.FeedLog(ctx, r.Partner, true, opt(r.Params.Person), orZero(r.Params.Wrong), uint64(max(0, orZero(r.Params.Before))),
		limit)
	if err != nil {
		return nil, err
	}
	out := apigen.FeedOutLog200JSONResponse{Lines: feedLines(list)}
	if len(list) == limit {
		out.Next = ptr(int(list[limit-1].N))
	}
	return out, nil
}

func feedLines(list []store.FedLine) []contract.FeedLine {
	out := []contract.FeedLine{}
	for i := range list {
		l := &list[i]
		out = append(out, contract.FeedLine{N: int(l.N), At: l.At.String(), What: l.What, User: some(l.User), Address: some(l.Address),
			Detail: some(l.Detail)})
	}
	return out
}

func twinsOut(list []service.FedTwin) []contract.FeedTwin {
	out := []contract.FeedTwin{}
	for i := range list {
		out = append(out, contract.FeedTwin{Name: list[i].Name, Fed: list[i].Fed, Guest: list[i].Guest,
			Differs: append([]string{}, list[i].Differs...)})
	}
	return out
}
