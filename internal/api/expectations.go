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
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// expectDoc writes what is expected as the file format has it.
func expectDoc(e *contract.Expect) (any, error) {
	sort := string(e.Sort)
	given := map[string]any{}
	if e.Only != nil {
		given["only"] = *e.Only
	}
	if e.OnlyUntil != nil {
		given["only_until"] = *e.OnlyUntil
	}
	if e.AtMost != nil {
		given["at_most"] = fmt.Sprint(*e.AtMost)
	}
	if e.Condition != nil {
		given["condition"] = *e.Condition
	}
	for k := range given {
		if k != sort {
			return nil, &service.Invalid{Field: "expect." + k, Value: fmt.Sprint(given[k]),
				Reason: "this belongs to the sort " + k + ", and the sort given is " + sort}
		}
	}
	switch {
	case sort == "never" || sort == "always":
		return sort, nil
	case given[sort] == nil:
		return nil, &service.Invalid{Field: "expect." + sort, Value: "", Reason: "with the sort " + sort + " this field says what is expected"}
	}
	return map[string]any{sort: given[sort]}, nil
}

// expectationDoc writes an expectation as the file format has it.
func expectationDoc(c *contract.ExpectationChange, id string) ([]byte, error) {
	e, err := expectDoc(&c.Expect)
	if err != nil {
		return nil, err
	}
	m := map[string]any{"id": id, "party": c.Party, "action": c.Action, "resource": c.Resource, "expect": e}
	for k, v := range map[string]*string{"owner": c.Owner, "why": c.Reason} {
		if opt(v) != "" {
			m[k] = *v
		}
	}
	for k, v := range map[string]*bool{"could": c.Could, "tell": c.Tell} {
		if v != nil {
			m[k] = map[bool]string{true: "yes", false: "no"}[*v]
		}
	}
	return json.Marshal(m)
}

// expectedOut writes an expectation with what is kept of it.
func expectedOut(st *service.State, x *service.Expected) contract.Expectation {
	out := answer.Expectation(st.Snapshot, x.Expectation, &x.Judged, x.At)
	out.Etag = service.ExpectationEtag(x.Expectation)
	k := x.Kept
	if k == nil || k.State != x.State.String() || k.Of != out.Etag {
		return out
	}
	if since, err := moment.Parse(k.Since); err == nil {
		out.Since = answer.Moment(since)
	}
	if b := k.By; b != nil {
		out.BrokenBy = &contract.BrokenBy{Text: b.Text, By: some(b.Who), Why: some(b.Why)}
		if b.Change > 0 {
			n := int(b.Change)
			out.BrokenBy.Change = &n
		}
		if b.Revision > 0 {
			n := int(b.Revision)
			out.BrokenBy.Revision = &n
		}
	}
	return out
}

// expected judges on the state that a request is about: kept of the present, anew of a draft and of what systems hold.
func (s *server) expected(ctx context.Context, ids []string, anew bool) (*service.State, []service.Expected, error) {
	st, err := s.Service.StateIn(ctx)
	if err != nil {
		return nil, nil, err
	}
	if _, found := service.FoundIn(ctx); !found && !anew && service.DraftIn(ctx) == "" {
		list, err := s.Service.Expectations(ctx)
		return s.Service.State(), list, err
	}
	list, err := s.Service.JudgeOn(ctx, st, ids)
	return st, list, err
}

func (s *server) expectations(st *service.State, list []service.Expected, keep func(*contract.Expectation) bool) contract.Expectations {
	out := contract.Expectations{Expectations: []contract.Expectation{}, Revision: int(st.Head.Revision), At: s.Service.Now().String()}
	for i := range list {
		if x := expectedOut(st, &list[i]); keep(&x) {
			out.Expectations = append(out.Expectations, x)
		}
	}
	return out
}

func (s *server) ListExpectations(ctx context.Context, r apigen.ListExpectationsRequestObject) (apigen.ListExpectationsResponseObject,
	error) {
	st, list, err := s.expected(ctx, nil, false)
	if err != nil {
		return nil, err
	}
	state := opt(r.Params.State)
	return apigen.ListExpectations200JSONResponse(s.expectations(st, list, func(x *contract.Expectation) bool {
		if len(x.Examples) > 3 { // all of them come with the one
			x.Examples = x.Examples[:3]
		}
		return state == "" || string(x.State) == state
	})), nil
}

func (s *server) JudgeExpectations(ctx context.Context, r apigen.JudgeExpectationsRequestObject) (apigen.JudgeExpectationsResponseObject,
	error) {
	var ids []string
	if r.Body.Ids != nil {
		ids = *r.Body.Ids
	}
	st, list, err := s.expected(ctx, ids, true)
	if err != nil {
		return nil, err
	}
	return apigen.JudgeExpectations200JSONResponse(s.expectations(st, list, func(*contract.Expectation) bool { return true })), nil
}

func (s *server) ProposedExpectations(ctx context.Context,
	_ apigen.ProposedExpectationsRequestObject) (apigen.ProposedExpectationsResponseObject, error) {
	st := s.state(ctx)
	spaces, err := s.Service.SpacesWithPrivate(ctx)
	if err != nil {
		return nil, err
	}
	now := s.Service.Now()
	list, judged, err := expect.Propose(st.Snapshot, spaces, now, ctx.Err)
	if err != nil {
		return nil, err
	}
	out := []service.Expected{}
	for i := range list {
		out = append(out, service.Expected{Expectation: &list[i], Judged: judged[i], At: now})
	}
	return apigen.ProposedExpectations200JSONResponse(s.expectations(st, out, func(*contract.Expectation) bool { return true })), nil
}

// oneExpected finds one expectation as it stands, with its history.
func (s *server) oneExpected(ctx context.Context, id string) (contract.Expectation, error) {
	st, list, err := s.expected(ctx, []string{id}, false)
	if err != nil {
		return contract.Expectation{}, err
	}
	for i := range list {
		if list[i].Expectation.ID != id {
			continue
		}
		out := expectedOut(st, &list[i])
		past, err := s.Service.PastOf(ctx, id, 100)
		if err != nil {
			return out, err
		}
		history := []contract.ExpectationPast{}
		for k := range past {
			e := &past[k]
			var is service.KeptJudgement
			if e.Now == nil || json.Unmarshal(e.Now, &is) != nil {
				continue
			}
			var was service.KeptJudgement
			if e.Was != nil {
				_ = json.Unmarshal(e.Was, &was)
			}
			if was.State == is.State && was.Of == is.Of && was.From == is.From {
				continue // only what its owner is told of was otherwise
			}
			n := int(e.Seq)
			line := contract.ExpectationPast{At: moment.Of(e.At).String(), Change: &n, State: contract.ExpectationPastState(is.State),
				Text: pastText(&is)}
			if is.Count > 0 {
				line.Count = &is.Count
			}
			history = append(history, line)
		}
		out.History = &history
		return out, nil
	}
	if _, err := st.Expectation(id); err != nil {
		return contract.Expectation{}, err
	}
	return contract.Expectation{}, fmt.Errorf("%w: the expectation %q cannot be judged", service.ErrNotFound, id)
}

// pastText says what became of an expectation.
func pastText(is *service.KeptJudgement) string {
	switch {
	case is.State != expect.Broken.String():
		return map[string]string{"held": "It holds.", "unknown": "Nobody looked."}[is.State]
	case is.From != "" && is.By != nil:
		return "It will be broken from " + is.From + " on: " + is.By.Text + "."
	case is.By != nil:
		return "Broken by " + is.By.Text + "."
	}
	return "It is broken."
}

func (s *server) GetExpectation(ctx context.Context, r apigen.GetExpectationRequestObject) (apigen.GetExpectationResponseObject, error) {
	x, err := s.oneExpected(ctx, r.Id)
	return apigen.GetExpectation200JSONResponse{Body: x, Headers: apigen.GetExpectation200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) AddExpectation(ctx context.Context, r apigen.AddExpectationRequestObject) (apigen.AddExpectationResponseObject, error) {
	st, err := s.Service.StateIn(ctx)
	if err != nil {
		return nil, err
	}
	id := opt(r.Body.Id)
	doc, err := expectationDoc(r.Body, "new")
	if err != nil {
		return nil, err
	}
	x, err := s.Service.ReadExpectation(st, doc)
	if err != nil {
		return nil, err
	}
	if id == "" {
		id = expect.IDFor(st.Policy(), x)
	}
	if doc, err = expectationDoc(r.Body, id); err != nil {
		return nil, err
	}
	if r.Params.Preview != nil && *r.Params.Preview {
		if x, err = s.Service.ReadExpectation(st, doc); err != nil {
			return nil, err
		}
		judged, err := s.Service.JudgeOne(ctx, st, x)
		if err != nil {
			return nil, err
		}
		return apigen.AddExpectation200JSONResponse(expectedOut(st, judged)), nil
	}
	if err := s.Service.AddExpectation(ctx, whoIs(ctx).Name, cause(r.Body.Why), doc, id); err != nil {
		return nil, err
	}
	out, err := s.oneExpected(ctx, id)
	return apigen.AddExpectation201JSONResponse{Body: out, Headers: apigen.AddExpectation201ResponseHeaders{ETag: &out.Etag}}, err
}

func (s *server) SetExpectation(ctx context.Context, r apigen.SetExpectationRequestObject) (apigen.SetExpectationResponseObject, error) {
	doc, why, err := recordPatch(*r.Body)
	if err != nil {
		return nil, err
	}
	if reason, ok := doc["reason"]; ok { // as the file format calls it
		doc["why"] = reason
		delete(doc, "reason")
	}
	if e, ok := doc["expect"]; ok && e != nil {
		var said contract.Expect
		text, err := json.Marshal(e)
		if err == nil {
			err = json.Unmarshal(text, &said)
		}
		if err != nil {
			return nil, &service.Invalid{Field: "expect", Value: string(text), Reason: `write it as {"sort": "never"}`}
		}
		is, err := expectDoc(&said)
		if err != nil {
			return nil, err
		}
		doc["expect"] = is
		if m, ok := is.(map[string]any); ok { // what was expected before goes
			for _, name := range world.ExpectSortNames[world.OnlyParties:] {
				if _, here := m[name]; !here {
					m[name] = nil
				}
			}
		}
	}
	for _, k := range []string{"could", "tell"} {
		if v, ok := doc[k].(bool); ok {
			doc[k] = map[bool]string{true: "yes", false: "no"}[v]
		}
	}
	patch, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PatchExpectation(ctx, whoIs(ctx).Name, cause(why), r.Id, patch, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.oneExpected(ctx, r.Id)
	return apigen.SetExpectation200JSONResponse{Body: x, Headers: apigen.SetExpectation200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) RemoveExpectation(ctx context.Context, r apigen.RemoveExpectationRequestObject) (apigen.RemoveExpectationResponseObject,
	error) {
	return apigen.RemoveExpectation204Response{}, s.Service.RemoveExpectation(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Id,
		opt(r.Params.IfMatch))
}
