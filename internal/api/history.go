package api

import (
	"context"
	"encoding/json"
	"fmt"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// between reads two moments of the past: the first record and now where they are left out.
func (s *server) between(from, to *string) (a, b moment.Moment, err error) {
	now := s.Service.Now()
	b = now
	for field, x := range map[string]struct {
		text *string
		at   *moment.Moment
	}{"from": {from, &a}, "to": {to, &b}} {
		if t := opt(x.text); t != "" {
			if *x.at, err = moment.ParseLoose(t, now, s.Service.State().Zone()); err != nil {
				return 0, 0, &service.Invalid{Field: field, Value: t, Reason: err.Error()}
			}
		}
	}
	return a, b, nil
}

// cameBy says through what an answer came about.
func cameBy(x *service.Spell) string {
	switch {
	case x.First:
		return "it was so at the beginning"
	case x.By == nil:
		return "a date came"
	case x.By.Why != "":
		return fmt.Sprintf("%s %s, by %s: %s", x.By.Kind, x.By.ID, x.By.Who, x.By.Why)
	}
	return fmt.Sprintf("%s %s, by %s", x.By.Kind, x.By.ID, x.By.Who)
}

func (s *server) HistoryOf(ctx context.Context, r apigen.HistoryOfRequestObject) (apigen.HistoryOfResponseObject, error) {
	from, to, err := s.between(r.Params.From, r.Params.To)
	if err != nil {
		return nil, err
	}
	q, err := answer.Question(&contract.Question{Subject: r.Params.Who, Action: r.Params.Action, Resource: r.Params.Resource},
		s.Service.State().Snapshot, s.Service.Now(), names(ctx))
	if err != nil {
		return nil, err
	}
	list, err := s.Service.HistoryOf(ctx, &q, from, to)
	if err != nil {
		return nil, err
	}
	out := apigen.HistoryOf200JSONResponse{Subject: q.Subject.String(), Action: q.Action.String(), Resource: q.Resource.String(),
		Spells: []contract.Spell{}}
	for i := range list {
		x := &list[i]
		one := contract.Spell{Decision: contract.SpellDecision(map[bool]string{true: "yes", false: "no"}[x.Yes]), From: x.From.String(),
			Until: answer.Moment(x.Until), First: x.First, Text: cameBy(x)}
		if x.By != nil && !x.First {
			n := int(x.By.Seq)
			one.Change, one.By, one.Why = &n, some(x.By.Who), some(x.By.Why)
		}
		out.Spells = append(out.Spells, one)
	}
	return out, nil
}

func (s *server) ReachedBetween(ctx context.Context, r apigen.ReachedBetweenRequestObject) (apigen.ReachedBetweenResponseObject, error) {
	from, to, err := s.between(r.Params.From, r.Params.To)
	if err != nil {
		return nil, err
	}
	text := func(p *string, all string) string {
		if t := opt(p); t != "" {
			return t
		}
		return all
	}
	doc, err := json.Marshal(map[string]string{"id": "history", "party": text(r.Params.Party, "everybody"),
		"action": text(r.Params.Action, "*"), "resource": r.Params.Resource, "expect": "never"})
	if err != nil {
		return nil, err
	}
	x, err := s.Service.ReadExpectation(s.Service.State(), doc)
	if err != nil {
		return nil, err
	}
	scope, err := expect.Of(x)
	if err != nil {
		return nil, err
	}
	list, err := s.Service.ReachedBetween(ctx, &scope.Scope, from, to)
	if err != nil {
		return nil, err
	}
	out := apigen.ReachedBetween200JSONResponse{From: from.String(), To: to.String(), Lines: []contract.ReachedLine{}}
	for i := range list {
		x := &list[i]
		out.Lines = append(out.Lines, contract.ReachedLine{
			Party: x.Who.String(), Name: x.Name, Kind: x.Kind.String(), Newcomer: x.Newcomer, Action: x.Action, Resource: x.Resource.String(),
			First: x.First.String(), Last: x.Last.String(), Spells: x.Spells, LongestFrom: x.Longest[0].String(),
			LongestUntil: x.Longest[1].String(),
		})
	}
	return out, nil
}
