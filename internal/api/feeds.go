package api

import (
	"cmp"
	"context"
	"time"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/service"
)

func (s *server) feedOut(ctx context.Context, v *service.FeedView) contract.Feed {
	st := s.Service.State()
	out := contract.Feed{Partner: v.Partner, Name: v.Called, State: contract.FeedState(v.State), Shut: some(v.Shut), Sponsor: some(v.Sponsor),
		Address: contract.FeedAddress(v.Address), NameFrom: contract.FeedNameFrom(v.Feed.Name),
		Consent: v.Consent, Silent: v.Silent, Brake: v.Brake, Url: s.scimBase(requestOf(ctx)), All: v.Count.All, Active: v.Count.Active,
		Waiting: v.Count.Waiting, ClosedToday: v.Count.ClosedLately, Wrong: v.Wrong, By: v.By, Made: v.Made}
	if v.Sponsor != "" {
		out.SponsorName = ptr(st.WhoInWords("owner:" + v.Sponsor))
	}
	if v.Most > 0 {
		out.Most = ptr(v.Most)
	}
	if v.Heard != 0 {
		out.Heard = ptr(v.Heard.String())
	}
	if !v.TokenEnds.IsZero() {
		out.TokenEnds = ptr(v.TokenEnds.UTC().Format(time.RFC3339))
	}
	return out
}

func (s *server) oneFeed(ctx context.Context, partner string) (contract.Feed, error) {
	v, err := s.Service.FeedOf(ctx, partner)
	if err != nil {
		return contract.Feed{}, err
	}
	return s.feedOut(ctx, v), nil
}

func (s *server) ListFeeds(ctx context.Context, _ apigen.ListFeedsRequestObject) (apigen.ListFeedsResponseObject, error) {
	list, err := s.Service.Feeds(ctx)
	if err != nil {
		return nil, err
	}
	out := apigen.ListFeeds200JSONResponse{Feeds: []contract.Feed{}}
	for i := range list {
		out.Feeds = append(out.Feeds, s.feedOut(ctx, &list[i]))
	}
	return out, nil
}

func (s *server) GetFeed(ctx context.Context, r apigen.GetFeedRequestObject) (apigen.GetFeedResponseObject, error) {
	out, err := s.oneFeed(ctx, r.Partner)
	return apigen.GetFeed200JSONResponse(out), err
}

func (s *server) BeginFeed(ctx context.Context, r apigen.BeginFeedRequestObject) (apigen.BeginFeedResponseObject, error) {
	b := r.Body
	token, err := s.Service.BeginFeed(ctx, whoIs(ctx), b.Partner, cause(b.Why),
		service.FeedSet{State: b.State, Sponsor: b.Sponsor, Address: b.Address, Name: b.NameFrom, Consent: b.Consent, Brake: b.Brake})
	if err != nil {
		return nil, err
	}
	f, err := s.oneFeed(ctx, b.Partner)
	return apigen.BeginFeed201JSONResponse{Token: token, Feed: f}, err
}

func (s *server) SetFeed(ctx context.Context, r apigen.SetFeedRequestObject) (apigen.SetFeedResponseObject, error) {
	b := r.Body
	if err := s.Service.SetFeed(ctx, whoIs(ctx), r.Partner, cause(b.Why),
		service.FeedSet{State: b.State, Sponsor: b.Sponsor, Address: b.Address, Name: b.NameFrom, Consent: b.Consent,
			Brake: b.Brake}); err != nil {
		return nil, err
	}
	out, err := s.oneFeed(ctx, r.Partner)
	return apigen.SetFeed200JSONResponse(out), err
}

func (s *server) EndFeed(ctx context.Context, r apigen.EndFeedRequestObject) (apigen.EndFeedResponseObject, error) {
	return apigen.EndFeed204Response{}, s.Service.EndFeed(ctx, whoIs(ctx), r.Partner, opt(r.Params.Why), orZero(r.Params.Closed))
}

func (s *server) RenewFeedToken(ctx context.Context, r apigen.RenewFeedTokenRequestObject) (apigen.RenewFeedTokenResponseObject, error) {
	token, err := s.Service.RenewFeedToken(ctx, whoIs(ctx), r.Partner, cause(r.Body.Why))
	if err != nil {
		return nil, err
	}
	f, err := s.oneFeed(ctx, r.Partner)
	return apigen.RenewFeedToken201JSONResponse{Token: token, Feed: f}, err
}

func (s *server) ReleaseFeed(ctx context.Context, r apigen.ReleaseFeedRequestObject) (apigen.ReleaseFeedResponseObject, error) {
	if err := s.Service.ReleaseFeed(ctx, whoIs(ctx), r.Partner, r.Body.Why); err != nil {
		return nil, err
	}
	out, err := s.oneFeed(ctx, r.Partner)
	return apigen.ReleaseFeed200JSONResponse(out), err
}

func (s *server) ApplyFeed(ctx context.Context, r apigen.ApplyFeedRequestObject) (apigen.ApplyFeedResponseObject, error) {
	x, err := s.Service.ApplyFeed(ctx, whoIs(ctx), r.Partner, r.Body.Why, orZero(r.Body.Most))
	if err != nil {
		return nil, err
	}
	return apigen.ApplyFeed200JSONResponse{Done: x.Done, Refused: x.Refused, Left: x.Left}, nil
}

func (s *server) FeedPeople(ctx context.Context, r apigen.FeedPeopleRequestObject) (apigen.FeedPeopleResponseObject, error) {
	limit := cmp.Or(orZero(r.Params.Limit), 100)
	list, err := s.Service.FeedPeople(ctx, r.Partner, orZero(r.Params.Waiting), uint64(max(0, orZero(r.Params.After))), limit)
	if err != nil {
		return nil, err
	}
	out := apigen.FeedPeople200JSONResponse{People: []contract.FeedPerson{}}
	for i := range list {
		x := &list[i]
		p := contract.FeedPerson{N: int(x.N), Id: x.ID, UserName: x.User.Text("userName"), Name: some(x.Person.Name),
			Language: some(x.Person.Language), Location: some(x.Person.Location), Active: x.Active, Applied: x.Applied,
			Would: contract.FeedPersonWould(x.Would), Why: some(x.Why)}
		if !x.Person.Address.IsZero() {
			p.Address = ptr(x.Person.Address.String())
		}
		if x.Changed != 0 {
			p.Changed = ptr(x.Changed.String())
		}
		out.People = append(out.People, p)
	}
	if len(list) == limit {
		out.Next = ptr(int(list[limit-1].N))
	}
	return out, nil
}

func (s *server) FeedLog(ctx context.Context, r apigen.FeedLogRequestObject) (apigen.FeedLogResponseObject, error) {
	if _, err := s.Service.FeedOf(ctx, r.Partner); err != nil {
		return nil, err
	}
	limit := cmp.Or(orZero(r.Params.Limit), 100)
	list, err := s.Service.FeedLog(ctx, r.Partner, false, opt(r.Params.User), orZero(r.Params.Wrong), uint64(max(0, orZero(r.Params.Before))),
		limit)
	if err != nil {
		return nil, err
	}
	out := apigen.FeedLog200JSONResponse{Lines: feedLines(list)}
	if len(list) == limit {
		out.Next = ptr(int(list[limit-1].N))
	}
	return out, nil
}

func (s *server) FeedTwins(ctx context.Context, r apigen.FeedTwinsRequestObject) (apigen.FeedTwinsResponseObject, error) {
	if _, err := s.Service.FeedOf(ctx, r.Partner); err != nil {
		return nil, err
	}
	list, err := s.Service.FeedTwins(ctx, r.Partner)
	if err != nil {
		return nil, err
	}
	return apigen.FeedTwins200JSONResponse{Twins: twinsOut(list)}, nil
}
