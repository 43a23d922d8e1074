package api

import (
	"context"
	"encoding/csv"
	"fmt"
	"io"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

func (s *server) PersonLeaves(ctx context.Context, r apigen.PersonLeavesRequestObject) (apigen.PersonLeavesResponseObject, error) {
	o, err := s.Service.PersonLeaves(
		ctx,
		whoIs(ctx),
		r.Id,
		opt(r.Body.At),
		opt(r.Body.Successor),
		opt(r.Body.Reason),
		r.Params.Preview != nil && *r.Params.Preview,
	)
	if err != nil {
		return nil, err
	}
	return apigen.PersonLeaves200JSONResponse(offerOf(o)), nil
}

func offerOf(o *service.Offer) contract.Offer {
	return contract.Offer{
		Id:     o.ID,
		From:   o.From,
		To:     o.To,
		Guests: o.Guests,
		Grants: o.Grants,
		Made:   o.Made,
		By:     o.By,
		State:  o.State,
		Reason: some(o.Reason),
	}
}

func (s *server) Offers(ctx context.Context, _ apigen.OffersRequestObject) (apigen.OffersResponseObject, error) {
	list, err := s.Service.Offers(ctx, whoIs(ctx))
	out := apigen.Offers200JSONResponse{Offers: []contract.Offer{}}
	for i := range list {
		out.Offers = append(out.Offers, offerOf(&list[i]))
	}
	return out, err
}

func (s *server) AnswerOffer(ctx context.Context, r apigen.AnswerOfferRequestObject) (apigen.AnswerOfferResponseObject, error) {
	o, err := s.Service.AnswerOffer(ctx, whoIs(ctx), r.Id, r.Body.Accept)
	if err != nil {
		return nil, err
	}
	return apigen.AnswerOffer200JSONResponse(offerOf(o)), nil
}

func (s *server) Wishes(ctx context.Context, _ apigen.WishesRequestObject) (apigen.WishesResponseObject, error) {
	list, err := s.Service.Wishes(ctx, whoIs(ctx))
	out := apigen.Wishes200JSONResponse{Wishes: []contract.Wish{}}
	for i := range list {
		out.Wishes = append(out.Wishes, wishOf(&list[i]))
	}
	return out, err
}

func (s *server) AnswerWish(ctx context.Context, r apigen.AnswerWishRequestObject) (apigen.AnswerWishResponseObject, error) {
	w, err := s.Service.AnswerWish(ctx, whoIs(ctx), r.Address, r.Body.Grant, opt(r.Body.Until), opt(r.Body.Text))
	if err != nil {
		return nil, err
	}
	return apigen.AnswerWish200JSONResponse(wishOf(w)), nil
}

func (s *server) Outbox(ctx context.Context, r apigen.OutboxRequestObject) (apigen.OutboxResponseObject, error) {
	p := &r.Params
	before := uint64(0)
	if p.Before != nil {
		before = uint64(*p.Before)
	}
	list, err := s.Service.Outbox(ctx, opt(p.Recipient), opt(p.State), before, pageSize(p.Limit, 100))
	out := apigen.Outbox200JSONResponse{Messages: []contract.OutboxMessage{}}
	for i := range list {
		m := &list[i]
		x := contract.OutboxMessage{
			Id:        int64(m.ID),
			Recipient: m.Recipient,
			Kind:      m.Kind,
			State:     m.State,
			Made:      m.Made.String(),
			Sent:      said(m.Sent),
			Tries:     m.Tries,
			Error:     some(m.Error),
		}
		if m.State == "waiting" {
			x.Due = said(m.Due)
		}
		out.Messages = append(out.Messages, x)
	}
	return out, err
}

func (s *server) SendAgain(ctx context.Context, r apigen.SendAgainRequestObject) (apigen.SendAgainResponseObject, error) {
	return apigen.SendAgain204Response{}, s.Service.SendAgain(ctx, uint64(r.Id))
}

func (s *server) DueDays(ctx context.Context, r apigen.DueDaysRequestObject) (apigen.DueDaysResponseObject, error) {
	p := &r.Params
	st := s.state(ctx)
	f := answer.DueFilter{From: s.Service.Now(), Partner: opt(p.Partner), Sponsor: opt(p.Sponsor)}
	var err error
	if t := opt(p.From); t != "" {
		if f.From, err = moment.ParseLoose(t, f.From, st.Zone()); err != nil {
			return nil, &service.Invalid{Field: "from", Value: t, Reason: err.Error()}
		}
	}
	until := opt(p.Until)
	if until == "" {
		until = "+90d"
	}
	if f.Until, err = moment.ParseEnd(until, s.Service.Now(), st.Zone()); err != nil {
		return nil, &service.Invalid{Field: "until", Value: until, Reason: err.Error()}
	}
	ownGuests(ctx, &f.Sponsor)
	if err := f.Known(st.Snapshot); err != nil {
		return nil, err
	}
	x, err := s.results.get(
		ctx,
		s.key(&answer.View{At: f.From}, st, p.From, "days", f.Until.String(), f.Partner, f.Sponsor),
		func(ctx context.Context) (any, error) {
			return answer.DueWhole(st.Snapshot, f), nil
		},
	)
	if err != nil {
		return nil, err
	}
	d := x.(*engine.Due)
	out := apigen.DueDays200JSONResponse{Total: d.Total(), Kinds: answer.DueKinds(&d.Kinds), Days: []contract.DueDay{}}
	for _, day := range d.Days() {
		out.Days = append(out.Days, contract.DueDay{Day: day.Day.String(), Kinds: answer.DueKinds(&day.Kinds)})
	}
	return out, nil
}

func (s *server) DueSupposing(ctx context.Context, r apigen.DueSupposingRequestObject) (apigen.DueSupposingResponseObject, error) {
	b := r.Body
	st := s.state(ctx)
	if b.Do == "end_partner" || b.Do == "suspend_partner" { // a change of policy: as a draft of it would have it
		if who := whoIs(ctx); who.Own() {
			if g, _, err := s.Service.Guest(ctx, b.Address); err != nil || !who.AnswersFor(g.Sponsor) {
				return nil, fmt.Errorf("%w: there is no record of %s that you answer for", service.ErrNotFound, b.Address)
			}
		}
		was, will, after, err := s.Service.WithoutPartner(ctx, st, b.Address, b.Do == "end_partner")
		if err != nil {
			return nil, err
		}
		return apigen.DueSupposing200JSONResponse{Was: answer.DueSteps(st.Snapshot, was), Will: answer.DueSteps(after, will)}, nil
	}
	list, err := s.Service.ChangeGuests(
		ctx,
		whoIs(ctx),
		service.GuestChange{
			Do:        service.Do(b.Do),
			Addresses: []string{b.Address},
			Until:     opt(b.Until),
			Grants:    b.Grants != nil && *b.Grants,
			Resource:  opt(b.Resource),
		},
		true,
	)
	if err != nil {
		return nil, err
	}
	c := &list[0]
	out := apigen.DueSupposing200JSONResponse{Was: []contract.DueStep{}, Will: []contract.DueStep{}, Reason: some(c.Reason)}
	if c.Was != nil {
		out.Was = answer.DueSteps(st.Snapshot, c.Was)
	}
	if c.State != nil {
		out.Will = answer.DueSteps(c.State, c.Will)
	}
	return out, nil
}

func (s *server) ListKinds(context.Context, apigen.ListKindsRequestObject) (apigen.ListKindsResponseObject, error) {
	out := apigen.ListKinds200JSONResponse{Lists: []contract.ListKind{}}
	for _, k := range service.Lists() {
		out.Lists = append(out.Lists, contract.ListKind{What: k.What, Columns: k.Columns, Needs: k.Needs, Many: k.Many})
	}
	return out, nil
}

func (s *server) GetList(ctx context.Context, r apigen.GetListRequestObject) (apigen.GetListResponseObject, error) {
	format, kind := "", "text/csv"
	if r.Params.Format != nil {
		if format = string(*r.Params.Format); format == "scim" {
			kind = "application/scim+json"
		}
	}
	return streamed{kind, func(w io.Writer) error { return s.Service.List(ctx, string(r.What), format, w) }}, nil
}

func (s *server) PutList(ctx context.Context, r apigen.PutListRequestObject) (apigen.PutListResponseObject, error) {
	who := whoIs(ctx)
	if err := who.TakesList(string(r.What)); err != nil {
		return nil, err
	}
	columns := map[string]string{}
	if t := opt(r.Params.Map); t != "" {
		pairs, err := csv.NewReader(strings.NewReader(t)).Read() // names of columns may hold commas
		if err != nil {
			return nil, &service.Invalid{
				Field:  "map",
				Value:  t,
				Reason: "write THEIRS=OURS between commas, in quotes where a name holds one: " + err.Error(),
			}
		}
		for _, pair := range pairs {
			i := strings.LastIndexByte(pair, '=')
			from, to, ok := pair[:max(i, 0)], pair[i+1:], i > 0
			if !ok {
				return nil, &service.Invalid{Field: "map", Value: pair, Reason: "write THEIRS=OURS, as mail=address"}
			}
			columns[strings.TrimSpace(from)] = strings.TrimSpace(to)
		}
	}
	format, body := "csv", io.Reader(requestOf(ctx).Body)
	if t := requestOf(ctx).Header.Get("Content-Type"); strings.HasPrefix(t, "application/scim+json") {
		format = "scim"
	}
	x, err := s.Service.PutList(
		ctx,
		who,
		opt(r.Params.Why),
		string(r.What),
		format,
		columns,
		body,
		r.Params.Preview != nil && *r.Params.Preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.PutList200JSONResponse{
		Lines:   x.Lines,
		Added:   x.Added,
		Changed: x.Changed,
		Same:    x.Same,
		Columns: &x.Columns,
		Ignored: &x.Ignored,
	}
	out.Errors = []contract.ListError{}
	for _, e := range x.Errors {
		out.Errors = append(out.Errors, contract.ListError{Column: some(e.Column), Line: e.Line, Text: e.Text, Value: some(e.Value)})
	}
	sample := []contract.ListChange{}
	for _, c := range x.Sample {
		sample = append(sample, contract.ListChange{Id: c.ID, Line: c.Line, What: c.What})
	}
	out.Sample = &sample
	if x.Going != nil {
		out.Going, out.Waits = ptr(goingOf(x.Going)), &x.Waits
	}
	return out, nil
}
