package api

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/letter"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func (s *server) Halves(ctx context.Context, r apigen.HalvesRequestObject) (apigen.HalvesResponseObject, error) {
	st := s.state(ctx)
	all, err := st.Halves(s.Service.Now(), opt(r.Params.Partner))
	if err != nil {
		return nil, err
	}
	out := apigen.Halves200JSONResponse{Halves: []contract.BothHalves{}}
	show := opt(r.Params.Show)
	for _, p := range all {
		for _, h := range p.Halves {
			joint := world.JointNames[h.Joint]
			mismatch := h.Joint == world.TheirTurn || h.Joint == world.OurTurn
			switch {
			case !h.Said(), show == "mismatch" && !mismatch, show != "" && show != "all" && show != "mismatch" && show != joint:
				continue
			}
			x := contract.BothHalves{
				Partner: p.Partner.ID,
				Name:    p.Partner.Name,
				Key:     h.Key.String(),
				Ours:    contract.BothHalvesOurs([]string{"unset", "yes", "no"}[h.Opening]),
				Opens:   h.Ours.Opens,
				Because: contract.BothHalvesBecause(world.BecauseNames[h.Ours.Because]),
				Level:   contract.BothHalvesLevel(world.LevelNames[h.Ours.Level]),
				Theirs:  contract.BothHalvesTheirs(world.SaysNames[h.Theirs]),
				Joint:   contract.BothHalvesJoint(joint),
				Old:     h.Old,
				Source:  some(h.Stance.Source),
			}
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
	if r.Params.Preview != nil && *r.Params.Preview {
		w, err := s.Service.WeighStance(ctx, r.Id, r.Key, doc)
		if err != nil {
			return nil, err
		}
		p, err := s.partner(ctx, r.Id)
		p.Weighed = ptr(weighedOut(w))
		return apigen.SetStance200JSONResponse{Body: p, Headers: apigen.SetStance200ResponseHeaders{ETag: &p.Etag}}, err
	}
	if err := s.Service.SetStance(ctx, whoIs(ctx).Name, cause(b.Why), r.Id, r.Key, doc); err != nil {
		return nil, err
	}
	p, err := s.partner(ctx, r.Id)
	return apigen.SetStance200JSONResponse{Body: p, Headers: apigen.SetStance200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) Letter(ctx context.Context, r apigen.LetterRequestObject) (apigen.LetterResponseObject, error) {
	var texts []string
	if r.Params.Key != nil {
		texts = *r.Params.Key
	}
	keys, err := service.ParseKeys(texts)
	if err != nil {
		return nil, err
	}
	l, err := s.state(ctx).Draft(s.Service.Now(), r.Id, keys, "")
	return apigen.Letter200TextResponse(inForm(&l, opt(r.Params.Form))), err
}

func (s *server) UndoStance(ctx context.Context, r apigen.UndoStanceRequestObject) (apigen.UndoStanceResponseObject, error) {
	if err := s.Service.UndoStance(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Id, r.Key); err != nil {
		return nil, err
	}
	p, err := s.partner(ctx, r.Id)
	return apigen.UndoStance200JSONResponse{Body: p, Headers: apigen.UndoStance200ResponseHeaders{ETag: &p.Etag}}, err
}

func inForm(l *letter.Letter, form string) string {
	switch form {
	case "html":
		return l.HTML()
	case "text":
		return l.Text()
	}
	return l.Markdown()
}

func (s *server) letterOut(st *service.State, l *world.Letter) contract.Letter {
	out := contract.Letter{
		Id:      l.ID,
		Partner: l.Partner,
		Name:    l.Partner,
		About:   []string{},
		By:      some(l.By),
		To:      some(l.To),
		Note:    some(l.Note),
		State:   contract.LetterState(world.AnswerNames[l.Answer]),
		Said:    some(l.Said),
	}
	if p, err := st.Partner(l.Partner); err == nil {
		out.Name = p.Name
	}
	for _, k := range l.Keys {
		out.About = append(out.About, k.String())
	}
	end := s.Service.Now()
	if l.Answered != moment.Never {
		end = l.Answered
		out.Answered = ptr(end.String())
	}
	if l.Sent.IsSet() {
		out.Sent = ptr(l.Sent.String())
		out.Age = int(moment.DayOf(end, st.Zone()) - moment.DayOf(l.Sent, st.Zone()))
	}
	return out
}

func (s *server) ListLetters(ctx context.Context, r apigen.ListLettersRequestObject) (apigen.ListLettersResponseObject, error) {
	all, err := s.Service.Letters(ctx, opt(r.Params.Partner))
	out := apigen.ListLetters200JSONResponse{Letters: []contract.Letter{}}
	st := s.state(ctx)
	for i := range all {
		open := all[i].Answer == world.NoAnswer
		if show := opt(r.Params.State); show == "open" && !open || show == "closed" && open {
			continue
		}
		out.Letters = append(out.Letters, s.letterOut(st, &all[i]))
	}
	return out, err
}

// draft writes a letter again, as a kept one is about.
func (s *server) draft(st *service.State, l *world.Letter, occasion, form string) (string, error) {
	d, err := st.Draft(s.Service.Now(), l.Partner, l.Keys, l.By)
	if err != nil {
		return "", err
	}
	d.Reference, d.Occasion = l.ID, occasion
	return inForm(&d, form), nil
}

func (s *server) SendLetter(ctx context.Context, r apigen.SendLetterRequestObject) (apigen.SendLetterResponseObject, error) {
	b := r.Body
	st, me := s.state(ctx), whoIs(ctx)
	l := world.Letter{Partner: opt(b.Partner), By: me.Person, To: strings.TrimSpace(opt(b.To)), Note: opt(b.Note), Answered: moment.Never}
	if (b.Question == nil) == (l.Partner == "") {
		return nil, &service.Invalid{Field: "partner", Value: l.Partner, Reason: "name a partner or a question, one of them"}
	}
	if b.About != nil {
		keys, err := service.ParseKeys(*b.About)
		if err != nil {
			return nil, err
		}
		l.Keys = keys
	}
	if b.Question != nil {
		q, err := answer.Question(b.Question, st.Snapshot, s.Service.Now(), names(ctx))
		if err != nil {
			return nil, err
		}
		partner, keys, err := st.Behind(&q)
		if err != nil {
			return nil, err
		}
		l.Partner, l.Keys = partner, keys
		who, where, about := q.Subject.String(), q.Resource.String(), ""
		if n := st.NameOfSubject(q.Subject); n != "" {
			who = n
		}
		if n := st.NameOf(q.Resource); n != "" {
			where = n
		}
		if !q.Address.IsZero() {
			about = ", for " + q.Address.String()
		}
		occasion := fmt.Sprintf("It came up because %s wanted to %s (%s%s).", who, q.Action.Get().Title, where, about)
		l.Note = strings.TrimSpace(occasion + " " + l.Note)
	}
	if len(l.Keys) == 0 {
		d, err := st.Draft(s.Service.Now(), l.Partner, nil, l.By)
		if err != nil {
			return nil, err
		}
		for _, p := range d.Points {
			l.Keys = append(l.Keys, p.Key)
		}
	}
	slices.Sort(l.Keys)
	l.Keys = slices.Compact(l.Keys)
	yes := func(x *bool) bool { return x != nil && *x }
	sent, err := s.Service.SendLetter(ctx, by(ctx, b.Why, nil, r.Params.Preview), l, yes(b.Mail), yes(b.Again))
	if err != nil {
		return nil, err
	}
	l = sent.Letter
	text, err := s.draft(st, &l, l.Note, opt(b.Form))
	if err != nil {
		return nil, err
	}
	out := s.letterOut(st, &l)
	out.NotMailed, out.MessageId = some(sent.NotMailed), some(sent.MessageID)
	if len(sent.Mailed) > 0 {
		out.Mailed = &sent.Mailed
	}
	if len(sent.Same) > 0 {
		out.Same = &sent.Same
	}
	out.Text = &text
	return apigen.SendLetter201JSONResponse(out), nil
}

func (s *server) letter(ctx context.Context, id, form string) (contract.Letter, error) {
	l, err := s.Service.Letter(ctx, id)
	if err != nil {
		return contract.Letter{}, err
	}
	st := s.state(ctx)
	out := s.letterOut(st, &l)
	if text, err := s.draft(st, &l, l.Note, form); err == nil { // the partner may be gone
		out.Text = &text
	}
	return out, nil
}

func (s *server) GetLetter(ctx context.Context, r apigen.GetLetterRequestObject) (apigen.GetLetterResponseObject, error) {
	l, err := s.letter(ctx, r.Id, opt(r.Params.Form))
	return apigen.GetLetter200JSONResponse(l), err
}

func (s *server) CloseLetter(ctx context.Context, r apigen.CloseLetterRequestObject) (apigen.CloseLetterResponseObject, error) {
	if err := s.Service.CloseLetter(ctx, by(ctx, r.Body.Why, nil, nil), r.Id, string(r.Body.Answer), opt(r.Body.Said)); err != nil {
		return nil, err
	}
	l, err := s.letter(ctx, r.Id, "")
	return apigen.CloseLetter200JSONResponse(l), err
}
