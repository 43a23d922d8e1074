package api

import (
	"cmp"
	"context"
	"errors"
	"maps"
	"slices"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

func roundOut(st *service.State, v *service.RoundView) contract.Round {
	out := contract.Round{Id: v.ID, Name: v.Name, Partner: some(v.Partner), Space: some(v.Space), Bundle: some(v.Bundle), About: v.About(st),
		State: some(v.State), Origin: some(v.Origin), Sponsor: some(v.Sponsor), Needs: some(v.Needs), Until: v.Until, Why: v.Why, By: v.By,
		Made: v.Made, Lines: v.Lines,
		Open: v.Open, Mine: v.Mine, States: v.States, Closed: some(v.Closed), Evidence: some(v.Evidence), Digest: some(v.Digest)}
	out.Waits = []contract.RoundWait{}
	for _, who := range slices.Sorted(maps.Keys(v.Waits)) {
		out.Waits = append(out.Waits, contract.RoundWait{Lines: v.Waits[who], Name: st.WhoInWords(who), Who: who})
	}
	slices.SortStableFunc(out.Waits, func(a, b contract.RoundWait) int { return cmp.Compare(b.Lines, a.Lines) })
	return out
}

func (s *server) ListReviews(ctx context.Context, _ apigen.ListReviewsRequestObject) (apigen.ListReviewsResponseObject, error) {
	all, err := s.Service.Rounds(ctx, whoIs(ctx))
	if err != nil {
		return nil, err
	}
	st := s.Service.State()
	out := apigen.ListReviews200JSONResponse{Rounds: []contract.Round{}}
	for i := range all {
		out.Rounds = append(out.Rounds, roundOut(st, &all[i]))
	}
	return out, nil
}

func (s *server) BeginReview(ctx context.Context, r apigen.BeginReviewRequestObject) (apigen.BeginReviewResponseObject, error) {
	b, who, preview := r.Body, whoIs(ctx), r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.BeginRound(ctx, who, service.RoundBegin{Name: b.Name, Partner: opt(b.Partner), Space: opt(b.Space),
		Bundle: opt(b.Bundle), RoundRecords: service.RoundRecords{State: opt(b.State), Origin: opt(b.Origin), Sponsor: opt(b.Sponsor),
			Needs: opt(b.Needs)}, Until: b.Until, Why: cause(b.Why)}, preview)
	if err != nil {
		return nil, err
	}
	v := &service.RoundView{Round: *x.Round, Open: x.Lines, States: map[string]int{service.ReviewOpen: x.Lines}, Waits: x.Asked}
	if preview {
		return apigen.BeginReview200JSONResponse(roundOut(s.Service.State(), v)), nil
	}
	if v, err = s.Service.RoundOf(ctx, who, x.ID); err != nil {
		return nil, err
	}
	return apigen.BeginReview201JSONResponse(roundOut(s.Service.State(), v)), nil
}

func (s *server) GetReview(ctx context.Context, r apigen.GetReviewRequestObject) (apigen.GetReviewResponseObject, error) {
	v, err := s.Service.RoundOf(ctx, whoIs(ctx), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.GetReview200JSONResponse(roundOut(s.Service.State(), v)), nil
}

// reviewed writes lines of a round, each with what is needed to decide.
type reviewed struct {
	s      *server
	ctx    context.Context
	st     *service.State
	at     moment.Moment
	guests map[string]*world.Guest
	grants map[string][]world.Grant
}

func (s *server) reviewed(ctx context.Context) *reviewed {
	return &reviewed{s, ctx, s.Service.State(), s.Service.Now(), map[string]*world.Guest{}, map[string][]world.Grant{}}
}

// know reads what is known of a party, once.
func (a *reviewed) know(party string) error {
	if _, ok := a.grants[party]; ok {
		return nil
	}
	g, own, err := a.s.Service.Guest(a.ctx, party)
	if err != nil {
		g = nil
		if own, err = a.s.Service.GrantsOf(a.ctx, party); err != nil {
			return err
		}
	}
	a.guests[party], a.grants[party] = g, own
	return nil
}

// opens counts what a party may do with a resource itself by its role there.
func (a *reviewed) opens(party string, r world.Resource) (n int) {
	who, err := addr.Parse(party)
	if err != nil {
		return 0
	}
	for i := range catalogue.Actions() {
		act := &catalogue.Actions()[i]
		if act.Address || act.Spread != catalogue.Granted || !slices.Contains(act.On, r.Kind) {
			continue
		}
		if v, err := a.st.Decide(&engine.Question{Subject: engine.Who{Address: who}, Action: act.ID, Resource: r, At: a.at}); err == nil &&
			v.Yes {
			n++
		}
	}
	return n
}

func (a *reviewed) line(l *store.ReviewLine, reason string) (contract.ReviewLine, error) {
	out := contract.ReviewLine{N: l.N, Party: l.Party, Resource: l.Resource, Name: l.Resource, Role: contract.ReviewLineRole(l.Role.String()),
		Bundle:   some(l.Bundle),
		Reviewer: l.Reviewer, ReviewerName: a.st.WhoInWords(l.Reviewer), State: contract.ReviewLineState(cmp.Or(l.State, service.ReviewGone)),
		By: some(l.By), Why: some(l.Why), Reason: some(reason)}
	if l.Party == "" { // there is no such line
		out.Role = contract.ReviewLineRole(catalogue.View.String())
		return out, nil
	}
	if r, err := engine.ParseResource(l.Resource); err == nil {
		out.Name = cmp.Or(a.st.NameOf(r), l.Resource)
		if n := a.opens(l.Party, r); n > 0 && l.State == service.ReviewOpen {
			out.Opens = &n
		}
	}
	if l.From != moment.Always {
		out.From = ptr(l.From.String())
	}
	if l.At != 0 {
		out.At = ptr(l.At.String())
	}
	if l.Until != 0 {
		out.Until = ptr(l.Until.String())
	}
	if l.Narrowed != catalogue.NoRole {
		out.Narrowed = ptr(contract.ReviewLineNarrowed(l.Narrowed.String()))
	}
	if l.Instead != "" {
		out.Instead, out.InsteadName = &l.Instead, &l.Instead
		if r, err := engine.ParseResource(l.Instead); err == nil {
			out.InsteadName = ptr(cmp.Or(a.st.NameOf(r), l.Instead))
		}
	}
	if b, err := a.st.Bundle(l.Bundle); err == nil {
		out.Bundle = ptr(b.Name)
	}
	if err := a.know(l.Party); err != nil {
		return out, err
	}
	if g := a.guests[l.Party]; g != nil {
		out.PartyName, out.Purpose = some(g.Name), some(g.Purpose)
		if g.LastSeen != moment.Always {
			out.LastSeen = said(g.LastSeen)
		}
	}
	for _, g := range a.grants[l.Party] {
		if l.Same(&g) {
			out.Ends = said(g.Until)
		}
	}
	return out, nil
}

func (s *server) ReviewLines(ctx context.Context, r apigen.ReviewLinesRequestObject) (apigen.ReviewLinesResponseObject, error) {
	limit, after := 50, 0
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	if r.Params.After != nil {
		after = *r.Params.After
	}
	state := ""
	if r.Params.State != nil {
		state = string(*r.Params.State)
	}
	list, err := s.Service.RoundLines(ctx, whoIs(ctx), r.Id, state, r.Params.Mine != nil && *r.Params.Mine, after, limit+1)
	if err != nil {
		return nil, err
	}
	out := apigen.ReviewLines200JSONResponse{Lines: []contract.ReviewLine{}}
	if len(list) > limit {
		list = list[:limit]
		out.Next = ptr(list[limit-1].N)
	}
	a := s.reviewed(ctx)
	for i := range list {
		l, err := a.line(&list[i], "")
		if err != nil {
			return nil, err
		}
		out.Lines = append(out.Lines, l)
	}
	return out, nil
}

func (s *server) AnswerReview(ctx context.Context, r apigen.AnswerReviewRequestObject) (apigen.AnswerReviewResponseObject, error) {
	b, preview := r.Body, r.Params.Preview != nil && *r.Params.Preview
	x := service.ReviewAnswer{Do: string(b.Do), Until: opt(b.Until), Role: opt(b.Role), Item: opt(b.Item), To: opt(b.To), Why: cause(b.Why)}
	if b.Lines != nil {
		if len(*b.Lines) == 0 {
			return nil, &service.Invalid{Field: "lines", Value: "0",
				Reason: "name lines by their numbers, or leave it out for all that wait for you"}
		}
		x.Lines = *b.Lines
	}
	done, err := s.Service.AnswerRound(ctx, whoIs(ctx), r.Id, x, preview)
	if err != nil && (done == nil || done.Done == 0 || !errors.Is(err, context.Canceled)) {
		return nil, err
	}
	out := apigen.AnswerReview200JSONResponse{Done: done.Done, Refused: done.Refused, Lines: []contract.ReviewLine{}}
	if done.Weighed != nil {
		out.Weighed = ptr(weighedOut(done.Weighed))
	}
	a := s.reviewed(ctx)
	for i := range done.Lines {
		l := &done.Lines[i]
		a.grants[l.Party] = nil // what is known of them does not matter any more
		one, err := a.line(&l.ReviewLine, l.Reason)
		if err != nil {
			return nil, err
		}
		out.Lines = append(out.Lines, one)
	}
	return out, nil
}

func (s *server) EndReview(ctx context.Context, r apigen.EndReviewRequestObject) (apigen.EndReviewResponseObject, error) {
	if r.Params.Preview != nil && *r.Params.Preview {
		v, end, err := s.Service.EndingRound(ctx, whoIs(ctx), r.Id)
		if err != nil {
			return nil, err
		}
		out := roundOut(s.Service.State(), v)
		out.Ends, out.Weighed = &end.Ends, ptr(weighedOut(end.Weighed))
		return apigen.EndReview200JSONResponse(out), nil
	}
	v, err := s.Service.EndRound(ctx, whoIs(ctx), r.Id, cause(r.Body.Why))
	if err != nil {
		return nil, err
	}
	return apigen.EndReview200JSONResponse(roundOut(s.Service.State(), v)), nil
}
