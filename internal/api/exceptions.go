package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"sort"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/service"
)

// exceptionDoc writes an exception as the file format has it.
func exceptionDoc(c *contract.ExceptionChange) ([]byte, error) {
	rules, err := rulesDoc(c.Rules)
	if err != nil {
		return nil, err
	}
	m := map[string]any{"id": c.Id, "rules": rules}
	for k, v := range map[string]*string{"from": c.From, "until": c.Until, "reason": c.Reason} {
		if opt(v) != "" {
			m[k] = *v
		}
	}
	for k, v := range map[string]*[]string{"people": c.People, "groups": c.Groups, "parties": c.Parties} {
		if v != nil && (len(*v) > 0 || k == "parties") {
			m[k] = *v
		}
	}
	return json.Marshal(m)
}

func (s *server) exception(ctx context.Context, id string) (contract.Exception, error) {
	st := s.state(ctx)
	x, i, err := st.Exception(id)
	if err != nil {
		return contract.Exception{}, err
	}
	return answer.Exception(st.Snapshot, st.NewInert(), x, i, s.Service.Now(), service.ExceptionEtag(x)), nil
}

func (s *server) ListExceptions(ctx context.Context, r apigen.ListExceptionsRequestObject) (apigen.ListExceptionsResponseObject, error) {
	return apigen.ListExceptions200JSONResponse{Exceptions: s.exceptions(ctx, opt(r.Params.State), opt(r.Params.Person))}, nil
}

func (s *server) exceptions(ctx context.Context, state, person string) []contract.Exception {
	st := s.state(ctx)
	inert := st.NewInert() // what it finds out for one serves the others
	out := []contract.Exception{}
	for i := range st.Policy().Exceptions {
		x := &st.Policy().Exceptions[i]
		if person != "" {
			is := false
			for _, id := range st.People(i) {
				is = is || id == person
			}
			if !is {
				continue
			}
		}
		e := answer.Exception(st.Snapshot, inert, x, i, s.Service.Now(), service.ExceptionEtag(x))
		if state == "" || string(e.State) == state {
			out = append(out, e)
		}
	}
	sort.SliceStable(out, func(i, j int) bool {
		rank := map[contract.ExceptionState]int{
			contract.ExceptionStateInForce: 0,
			contract.ExceptionStateAhead:   1,
			contract.ExceptionStateOver:    2,
		}
		if a, b := rank[out[i].State], rank[out[j].State]; a != b {
			return a < b
		}
		return opt(out[i].Until) < opt(out[j].Until) && out[i].Until != nil
	})
	return out
}

func (s *server) GetException(ctx context.Context, r apigen.GetExceptionRequestObject) (apigen.GetExceptionResponseObject, error) {
	x, err := s.exception(ctx, r.Id)
	return apigen.GetException200JSONResponse{Body: x, Headers: apigen.GetException200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) AddException(ctx context.Context, r apigen.AddExceptionRequestObject) (apigen.AddExceptionResponseObject, error) {
	doc, err := exceptionDoc(r.Body)
	if err != nil {
		return nil, err
	}
	if err := s.Service.AddException(ctx, whoIs(ctx).Name, cause(r.Body.Why), doc, r.Body.Id); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Body.Id)
	return apigen.AddException201JSONResponse{Body: x, Headers: apigen.AddException201ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) SetException(
	ctx context.Context,
	r apigen.SetExceptionRequestObject,
) (apigen.SetExceptionResponseObject, error) {
	doc, why, err := recordPatch(*r.Body)
	if err != nil {
		return nil, err
	}
	patch, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PatchException(ctx, whoIs(ctx).Name, cause(why), r.Id, patch, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Id)
	return apigen.SetException200JSONResponse{Body: x, Headers: apigen.SetException200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) EndException(ctx context.Context, r apigen.EndExceptionRequestObject) (apigen.EndExceptionResponseObject, error) {
	return apigen.EndException204Response{}, s.Service.EndException(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, opt(r.Params.IfMatch))
}

func (s *server) ProlongException(
	ctx context.Context,
	r apigen.ProlongExceptionRequestObject,
) (apigen.ProlongExceptionResponseObject, error) {
	if err := s.Service.ProlongException(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, r.Body.Until, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.exception(ctx, r.Id)
	return apigen.ProlongException200JSONResponse{Body: x, Headers: apigen.ProlongException200ResponseHeaders{ETag: &x.Etag}}, err
}

// The columns of a list of exceptions. Names within a column are separated by
// blanks, values by semicolons: rule=value;rule=value.
var exceptionColumns = []string{"id", "people", "groups", "parties", "rules", "from", "until", "reason"}

const maxImport = 20000

func (s *server) ImportExceptions(
	ctx context.Context,
	r apigen.ImportExceptionsRequestObject,
) (apigen.ImportExceptionsResponseObject, error) {
	rd := sheet.NewReader(r.Body)
	head, err := rd.Read()
	if err != nil {
		return nil, &service.Invalid{
			Field:  "body",
			Value:  "",
			Reason: "the first line names the columns: " + strings.Join(exceptionColumns, ","),
		}
	}
	at := map[string]int{}
	for i, h := range head {
		h = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		known := false
		for _, c := range exceptionColumns {
			known = known || c == h
		}
		if !known {
			return nil, &service.Invalid{Field: "column", Value: h, Reason: "the columns are " + strings.Join(exceptionColumns, ",")}
		}
		at[h] = i
	}
	for _, need := range []string{"id", "rules"} {
		if _, ok := at[need]; !ok {
			return nil, &service.Invalid{Field: "column", Value: need, Reason: "this column is needed"}
		}
	}
	var docs [][]byte
	var lines []service.ImportLine
	for {
		f, err := rd.Read()
		if errors.Is(err, io.EOF) {
			break
		}
		n, _ := rd.FieldPos(0)
		if err != nil {
			var pe *csv.ParseError
			if errors.As(err, &pe) {
				n = pe.Line
			}
			docs, lines = append(docs, nil), append(lines, service.ImportLine{Line: n, Result: "refused", Cause: err.Error()})
			break // what follows cannot be told apart
		}
		if len(lines) == maxImport {
			return nil, &service.Invalid{Field: "body", Value: "", Reason: fmt.Sprintf("at most %d lines at a time", maxImport)}
		}
		cell := func(name string) string {
			if i, ok := at[name]; ok && i < len(f) {
				return strings.TrimSpace(f[i])
			}
			return ""
		}
		l := service.ImportLine{Line: n, ID: cell("id")}
		doc, err := exceptionRow(cell)
		if err != nil {
			l.Result, l.Cause = "refused", err.Error()
		}
		docs, lines = append(docs, doc), append(lines, l)
	}
	preview := r.Params.Preview != nil && *r.Params.Preview
	written, err := s.Service.ImportExceptions(
		ctx,
		whoIs(ctx).Name,
		opt(r.Params.Why),
		docs,
		lines,
		r.Params.OnlyGood != nil && *r.Params.OnlyGood,
		preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.ImportExceptions200JSONResponse{Lines: []contract.ImportLine{}, Written: written, Preview: preview}
	for _, l := range lines {
		out.Lines = append(
			out.Lines,
			contract.ImportLine{Line: l.Line, Id: l.ID, Result: contract.ImportLineResult(l.Result), Cause: some(l.Cause)},
		)
	}
	return out, nil
}

func exceptionRow(cell func(string) string) ([]byte, error) {
	c := contract.ExceptionChange{
		Id:     cell("id"),
		Rules:  map[string]contract.SetValue{},
		From:   some(cell("from")),
		Until:  some(cell("until")),
		Reason: some(cell("reason")),
	}
	if c.Id == "" {
		return nil, &service.Invalid{Field: "id", Value: "", Reason: "every exception has an id"}
	}
	for _, kv := range strings.Split(cell("rules"), ";") {
		k, v, ok := strings.Cut(strings.TrimSpace(kv), "=")
		if !ok {
			return nil, &service.Invalid{Field: "rules", Value: kv, Reason: "write rule=value, several separated by semicolons"}
		}
		c.Rules[strings.TrimSpace(k)] = contract.SetValue{Value: strings.TrimSpace(v)}
	}
	list := func(name string) *[]string {
		if f := strings.Fields(cell(name)); len(f) > 0 {
			return &f
		}
		return nil
	}
	c.People, c.Groups, c.Parties = list("people"), list("groups"), list("parties")
	return exceptionDoc(&c)
}
