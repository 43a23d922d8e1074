package api

import (
	"context"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// mayEdit says whether the caller may set values at a place.
func (s *server) mayEdit(ctx context.Context, st *service.State, w service.Where) error {
	return st.MaySetValue(whoIs(ctx), w)
}

// maySee keeps a member to own spaces and meetings.
func (s *server) maySee(ctx context.Context, st *service.State, w service.Where) error {
	return whoIs(ctx).SeesValues(st, w.Partner != "", w.Resource)
}

// context turns a place into what a chain is asked for.
func chainContext(st *service.State, w service.Where, at moment.Moment) (engine.Context, error) {
	c := engine.Context{Resource: engine.NoResource, At: at}
	if w.Partner == "" {
		c.Resource = w.Resource
		return c, nil
	}
	p, err := st.Partner(w.Partner)
	if err == nil && len(p.Domains) > 0 {
		c.Party = "*@" + p.Domains[0].Domain.String()
	}
	return c, err
}

func (s *server) Choices(ctx context.Context, r apigen.ChoicesRequestObject) (apigen.ChoicesResponseObject, error) {
	st := s.state(ctx)
	at, err := s.at(st, r.Params.At)
	if err != nil {
		return nil, err
	}
	if text := opt(r.Params.Where); text != "" {
		w, err := service.ParseWhere(text)
		if err != nil {
			return nil, err
		}
		if err := s.maySee(ctx, st, w); err != nil {
			return nil, err
		}
	} else if err := whoIs(ctx).SeesChoices(); err != nil {
		return nil, err
	}
	x, err := st.Choosing(r.Params.Rule, opt(r.Params.Where), opt(r.Params.Person), opt(r.Params.Party), at)
	if err != nil {
		return nil, err
	}
	return apigen.Choices200JSONResponse(answer.Choices(st.Snapshot, x.Chain, x.Layer, x.Where, x.About)), nil
}

// values writes what a place sets and may set.
func (s *server) values(ctx context.Context, st *service.State, w service.Where) (contract.Values, error) {
	set, etag, err := s.Service.Values(ctx, w)
	if err != nil {
		return contract.Values{}, err
	}
	is, layer := w.Layer()
	out := contract.Values{Where: w.String(), Layer: layer.String(), Rules: []contract.ValueRow{}, Etag: etag}
	if w.Partner == "" {
		out.Name = some(st.NameOf(w.Resource))
	} else if p, err := st.Partner(w.Partner); err == nil {
		out.Name = some(p.Name)
	}
	c, err := chainContext(st, w, s.Service.Now())
	if err != nil {
		return out, err
	}
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		var said *world.Setting
		for j := range set {
			if set[j].Rule == r.ID {
				said = &set[j]
			}
		}
		if r.Layers&is == 0 || said == nil && !fits(r, w.Resource) {
			continue
		}
		chain, err := st.ChainOf(r.ID, c)
		if err != nil {
			return out, err
		}
		out.Rules = append(out.Rules, answer.ValueRow(st.Snapshot, chain, layer, said, c.Resource))
	}
	return out, nil
}

// fits keeps from an item or meeting the rules that no action asks about its kind.
func fits(r *catalogue.Rule, x world.Resource) bool {
	if !x.Kind.IsItem() && x.Kind != catalogue.Meeting {
		return true
	}
	by := catalogue.AskedBy(r.ID)
	for _, a := range by {
		if a.Get().Takes(x.Kind) {
			return true
		}
	}
	return by == nil
}

func (s *server) Values(ctx context.Context, r apigen.ValuesRequestObject) (apigen.ValuesResponseObject, error) {
	w, err := service.ParseWhere(r.Where)
	if err != nil {
		return nil, err
	}
	st := s.state(ctx)
	if err := s.maySee(ctx, st, w); err != nil {
		return nil, err
	}
	x, err := s.values(ctx, st, w)
	return apigen.Values200JSONResponse{Body: x, Headers: apigen.Values200ResponseHeaders{ETag: &x.Etag}}, err
}

func weighedOut(x *service.ValueWeighed) contract.ValueWeighed {
	moves := func(m engine.Moves) contract.Moves {
		return contract.Moves{Gained: m.Gained, Lost: m.Lost, Otherwise: m.Otherwise}
	}
	return contract.ValueWeighed{
		Nothing:    x.Nothing(),
		Loosens:    x.Loosens,
		Was:        some(x.Was),
		Becomes:    some(x.Becomes),
		Parties:    moves(x.Parties),
		Granted:    moves(x.Granted),
		Wide:       moves(x.Wide),
		Newcomers:  append([]string{}, x.Newcomers...),
		NotCounted: append([]string{}, x.NotCounted...),
		Lines:      ptr(append([]string{}, x.Lines...)),
	}
}

func (s *server) setValue(
	ctx context.Context,
	where, rule, value, why string,
	held bool,
	ifMatch string,
	preview *bool,
) (contract.Values, error) {
	w, err := service.ParseWhere(where)
	if err != nil {
		return contract.Values{}, err
	}
	if err := s.mayEdit(ctx, s.state(ctx), w); err != nil {
		return contract.Values{}, err
	}
	if held && !whoIs(ctx).HoldsBack() {
		return contract.Values{}, &service.Invalid{Field: "held", Value: "true", Reason: "an administrator gives values as held back"}
	}
	c := service.ValueChange{Where: w, Rule: rule, Value: value, Held: held, IfMatch: ifMatch}
	if preview != nil && *preview {
		x, err := s.Service.WeighValue(ctx, c)
		if err != nil {
			return contract.Values{}, err
		}
		out, err := s.values(ctx, s.state(ctx), w)
		out.Weighed = ptr(weighedOut(x))
		return out, err
	}
	if err := s.Service.SetValue(ctx, whoIs(ctx).Name, why, c); err != nil {
		return contract.Values{}, err
	}
	return s.values(ctx, s.state(ctx), w)
}

func (s *server) SetValue(ctx context.Context, r apigen.SetValueRequestObject) (apigen.SetValueResponseObject, error) {
	x, err := s.setValue(
		ctx,
		r.Where,
		r.Rule,
		r.Body.Value,
		cause(r.Body.Why),
		r.Body.Held != nil && *r.Body.Held,
		opt(r.Params.IfMatch),
		r.Params.Preview,
	)
	return apigen.SetValue200JSONResponse{Body: x, Headers: apigen.SetValue200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) UnsetValue(ctx context.Context, r apigen.UnsetValueRequestObject) (apigen.UnsetValueResponseObject, error) {
	x, err := s.setValue(ctx, r.Where, r.Rule, "", opt(r.Params.Why), false, opt(r.Params.IfMatch), r.Params.Preview)
	return apigen.UnsetValue200JSONResponse{Body: x, Headers: apigen.UnsetValue200ResponseHeaders{ETag: &x.Etag}}, err
}
