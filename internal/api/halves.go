package api

import (
	"context"
	"encoding/json"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/letter"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func (s *server) Halves(_ context.Context, r apigen.HalvesRequestObject) (apigen.HalvesResponseObject, error) {
	st := s.Service.State()
	all, err := st.Halves(s.Service.Now(), opt(r.Params.Partner))
	if err != nil {
		return nil, err
	}
	out := apigen.Halves200JSONResponse{Halves: []apigen.BothHalves{}}
	show := opt(r.Params.Show)
	for _, p := range all {
		for _, h := range p.Halves {
			joint := world.JointNames[h.Joint]
			mismatch := h.Joint == world.TheirTurn || h.Joint == world.OurTurn
			switch {
			case !h.Said(), show == "mismatch" && !mismatch, show != "" && show != "all" && show != "mismatch" && show != joint:
				continue
			}
			x := apigen.BothHalves{Partner: p.Partner.ID, Name: p.Partner.Name, Key: h.Key.String(), Ours: apigen.BothHalvesOurs([]string{"unset", "yes", "no"}[h.Opening]),
				Opens: h.Ours.Opens, Because: apigen.BothHalvesBecause(world.BecauseNames[h.Ours.Because]), Level: apigen.BothHalvesLevel(world.LevelNames[h.Ours.Level]), Theirs: apigen.BothHalvesTheirs(world.SaysNames[h.Theirs]),
				Joint: apigen.BothHalvesJoint(joint), Old: h.Old, Source: some(h.Stance.Source)}
			if h.Known && h.Stance.AsOf.IsSet() {
				x.AsOf = ptr(h.Stance.AsOf.String())
			}
			if h.Known && h.Stance.Until != moment.Never {
				x.Until = ptr(h.Stance.Until.String())
			}
			x.SaidBy = some(h.Stance.Said)
			x.OurFeatures, x.Features, x.Both = featuresOut(h.Ours.Features), featuresOut(h.Stance.Features), featuresOut(h.Features)
			out.Halves = append(out.Halves, x)
		}
	}
	return out, nil
}

// featuresOut names features; nil stays nil.
func featuresOut(fs []catalogue.Feature) *[]string {
	if fs == nil {
		return nil
	}
	names := []string{}
	for _, f := range fs {
		names = append(names, f.String())
	}
	return &names
}

func (s *server) SetStance(ctx context.Context, r apigen.SetStanceRequestObject) (apigen.SetStanceResponseObject, error) {
	b := r.Body
	m := map[string]any{"says": b.Says, "source": "recorded"}
	if b.Source != nil {
		m["source"] = *b.Source
	}
	if b.Features != nil {
		m["features"] = *b.Features
	}
	put := func(k, v string) {
		if v != "" {
			m[k] = v
		}
	}
	put("as_of", opt(b.AsOf))
	put("until", opt(b.Until))
	put("said_by", opt(b.SaidBy))
	doc, err := json.Marshal(m)
	if err != nil {
		return nil, err
	}
	if err := s.Service.SetStance(ctx, whoIs(ctx).Name, cause(b.Why), r.Id, r.Key, doc); err != nil {
		return nil, err
	}
	p, err := s.partner(r.Id)
	return apigen.SetStance200JSONResponse{Body: p, Headers: apigen.SetStance200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) Letter(_ context.Context, r apigen.LetterRequestObject) (apigen.LetterResponseObject, error) {
	st := s.Service.State()
	all, err := st.Halves(s.Service.Now(), r.Id)
	if err != nil {
		return nil, err
	}
	var keys []catalogue.Key
	if r.Params.Key != nil {
		for _, text := range *r.Params.Key {
			k, ok := catalogue.ParseKey(text)
			if !ok {
				return nil, &service.Invalid{Field: "key", Value: text, Reason: "write a service and a direction, as chat.in or spaces.out"}
			}
			keys = append(keys, k)
		}
	}
	l := letter.To(st.Policy(), all[0].Partner, all[0].Halves, keys)
	switch opt(r.Params.Form) {
	case "html":
		return apigen.Letter200TextResponse(l.HTML()), nil
	case "text":
		return apigen.Letter200TextResponse(l.Text()), nil
	}
	return apigen.Letter200TextResponse(l.Markdown()), nil
}
