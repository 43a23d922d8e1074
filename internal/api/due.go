package api

import (
	"context"
	"fmt"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// behind says how many dated steps were due and are not carried out; empty where all are.
func (s *server) behind(st *service.State) string {
	n, at := s.Service.Backlog()
	if n == 0 {
		return ""
	}
	steps, are := "dated steps", "are"
	if n == 1 {
		steps, are = "dated step", "is"
	}
	return fmt.Sprintf(
		"%d %s %s due and not carried out; everything up to %s is. Look whether a service carries them out: its log says why not.",
		n,
		steps,
		are,
		at.Time().In(st.Zone()).Format("2 Jan 2006, 15:04 MST"),
	)
}

func (s *server) Due(ctx context.Context, r apigen.DueRequestObject) (apigen.DueResponseObject, error) {
	p := &r.Params
	from, until := opt(p.From), opt(p.Until)
	if until == "" {
		until = "+30d"
	}
	f := answer.DueFilter{From: s.Service.Now(), Partner: opt(p.Partner), Sponsor: opt(p.Sponsor)}
	st := s.state(ctx)
	zone := st.Zone()
	var err error
	if from != "" {
		if f.From, err = moment.ParseLoose(from, f.From, zone); err != nil {
			return nil, &service.Invalid{Field: "from", Value: from, Reason: err.Error()}
		}
	}
	if f.Until, err = moment.ParseEnd(until, s.Service.Now(), zone); err != nil {
		return nil, &service.Invalid{Field: "until", Value: until, Reason: err.Error()}
	}
	ownGuests(ctx, &f.Sponsor)
	if err := f.Known(st.Snapshot); err != nil {
		return nil, err
	}
	if t := opt(p.Who); t != "" {
		return s.dueOf(ctx, st, &f, t)
	}
	of := askedDigest("due", opt(p.From), f.Until.String(), f.Partner, f.Sponsor)
	after, err := readGoOn(p.Cursor, of)
	if err != nil {
		return nil, err
	}
	limit := pageSize(p.Limit, 200)
	x, err := s.results.get(
		ctx,
		s.key(&answer.View{At: f.From}, st, p.From, "due", f.Until.String(), f.Partner, f.Sponsor),
		func(ctx context.Context) (any, error) {
			return answer.DueOver(st.Snapshot, f, s.Service.Carried()), nil
		},
	)
	if err != nil {
		return nil, err
	}
	d := x.(*engine.Due)
	s.dueLock.Lock() // computing steps is for one at a time
	skip := 0
	if after.Of != "" {
		if skip, err = placeOf(d, after); err != nil {
			s.dueLock.Unlock()
			return nil, err
		}
	}
	steps := d.Steps(skip, limit)
	s.dueLock.Unlock()
	out := apigen.Due200JSONResponse{Steps: answer.DueSteps(st.Snapshot, steps), Total: d.Total(), Kinds: answer.DueKinds(&d.Kinds)}
	if skip+len(steps) < d.Total() {
		out.Next = writeCursor(afterStep(of, steps, &after))
	}
	if t := s.behind(st); t != "" && whoIs(ctx).SeesWorkings() {
		out.Behind = &t
	}
	return out, nil
}

// placeOf finds where a list of what is due goes on: behind the steps of a record at a moment
// that were shown.
func placeOf(d *engine.Due, at goOnAt) (int, error) {
	m, a, _ := strings.Cut(at.After, " ")
	when, err := moment.Parse(m)
	if err != nil {
		return 0, &service.Invalid{Field: "cursor", Value: at.After, Reason: "send what the page before gave as next"}
	}
	before, same := d.Place(when, a)
	return before + min(at.Same, same), nil
}

// afterStep is where a list goes on after its last step.
func afterStep(of string, steps []engine.DueStep, was *goOnAt) goOnAt {
	if len(steps) == 0 {
		return *was
	}
	last := &steps[len(steps)-1]
	x := goOnAt{Of: of, After: last.At.String() + " " + last.Address.String()}
	for i := len(steps) - 1; i >= 0 && steps[i].At == last.At && steps[i].Address == last.Address; i-- {
		x.Same++
	}
	if x.Same == len(steps) && was.After == x.After {
		x.Same += was.Same
	}
	return x
}

// dueOf lists what is due of one address.
func (s *server) dueOf(ctx context.Context, st *service.State, f *answer.DueFilter, who string) (apigen.DueResponseObject, error) {
	a, err := addr.Parse(who)
	if err != nil {
		return nil, &service.Invalid{Field: "who", Value: who, Reason: err.Error()}
	}
	q := st.Sequences()
	q.Between(f.From, f.Until)
	all, ok := q.Of(a)
	if ok && f.Sponsor != "" && !st.SponsorAt(st.PartyOf(a), f.Sponsor) {
		ok = false
	}
	if !ok {
		return nil, fmt.Errorf("%w: there is no record of %s", service.ErrNotFound, a)
	}
	var steps []engine.DueStep
	var kinds [dated.NumKinds]int
	for i := range all {
		if all[i].At >= f.From && all[i].At < f.Until {
			steps = append(steps, all[i])
			kinds[all[i].Kind]++
		}
	}
	return apigen.Due200JSONResponse{Steps: answer.DueSteps(st.Snapshot, steps), Total: len(steps), Kinds: answer.DueKinds(&kinds)}, nil
}
