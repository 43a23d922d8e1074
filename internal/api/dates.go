package api

import (
	"context"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

func goingOf(w *service.Waiting) contract.DatesGoing {
	out := contract.DatesGoing{Records: w.Records, AtOnce: w.AtOnce, Partners: map[string]int{}, Days: []contract.DatesDay{}, Mail: w.Mail}
	for id, n := range w.Partners {
		if id == "" {
			id = "none"
		}
		out.Partners[id] = n
	}
	for _, d := range w.Days {
		out.Days = append(out.Days, contract.DatesDay{Day: d.Day.String(), Kinds: d.Kinds})
	}
	return out
}

func (s *server) Dates(ctx context.Context, r apigen.DatesRequestObject) (apigen.DatesResponseObject, error) {
	from := s.Service.Now()
	if t := opt(r.Params.From); t != "" {
		var err error
		if from, err = moment.ParseLoose(t, from, s.state(ctx).Zone()); err != nil {
			return nil, &service.Invalid{Field: "from", Value: t, Reason: err.Error()}
		}
	}
	w, err := s.Service.Waiting(ctx, from)
	if err != nil {
		return nil, err
	}
	out := apigen.Dates200JSONResponse{Waiting: goingOf(w), MailWaits: w.Mails, Floors: []contract.DatesFloor{}}
	for i := range w.Floors {
		f := &w.Floors[i]
		x := contract.DatesFloor{For: f.For(), From: f.From.String()}
		if f.Mail.IsSet() {
			x.Mail = ptr(f.Mail.String())
		}
		out.Floors = append(out.Floors, x)
	}
	held := s.Service.Braked()
	out.Held = contract.DatesHeld{Records: held.Records, Mail: held.Mail}
	return out, nil
}

func (s *server) ReleaseDates(ctx context.Context, r apigen.ReleaseDatesRequestObject) (apigen.ReleaseDatesResponseObject, error) {
	b := r.Body
	yes := func(x *bool) bool { return x != nil && *x }
	x, err := s.Service.ReleaseDates(
		ctx,
		whoIs(ctx),
		service.DatesRelease{
			For:     strings.TrimSpace(opt(b.For)),
			From:    strings.TrimSpace(opt(b.From)),
			Steps:   yes(b.Steps),
			Mail:    yes(b.Mail),
			Confirm: yes(b.Confirm),
			Why:     cause(b.Why),
		},
		yes(r.Params.Preview),
	)
	if err != nil {
		return nil, err
	}
	out := apigen.ReleaseDates200JSONResponse{For: x.For, From: x.From.String(), Steps: x.Steps, Mail: x.Mail, Brake: some(x.Brake)}
	if x.Waiting != nil {
		out.Going = ptr(goingOf(x.Waiting))
	}
	return out, nil
}

func (s *server) LiftBrake(ctx context.Context, r apigen.LiftBrakeRequestObject) (apigen.LiftBrakeResponseObject, error) {
	held, err := s.Service.LiftBrake(ctx, whoIs(ctx), r.Body.Why)
	return apigen.LiftBrake200JSONResponse{Records: held.Records, Mail: held.Mail}, err
}

func (s *server) MendRecord(ctx context.Context, r apigen.MendRecordRequestObject) (apigen.MendRecordResponseObject, error) {
	return apigen.MendRecord204Response{}, s.Service.Mend(ctx, whoIs(ctx), r.Body.Kind, r.Body.Id, cause(r.Body.Why))
}
