package api

import (
	"context"
	"io"
	"net/http"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/service"
	"wexillum.example/internal/worldfile"
)

func (s *server) Dump(ctx context.Context, r apigen.DumpRequestObject) (apigen.DumpResponseObject, error) {
	var sections []string
	policy := r.Params.Policy != nil && *r.Params.Policy
	if policy {
		if r.Params.Section != nil {
			return nil, &service.Invalid{Field: "policy", Value: "true", Reason: "policy is all of its sections; leave section out"}
		}
		sections = worldfile.PolicySections
	}
	if r.Params.Section != nil {
		sections = *r.Params.Section
		for _, n := range sections {
			if !contains(worldfile.Sections, n) {
				return nil, &service.Invalid{Field: "section", Value: n, Reason: "there are " + strings.Join(worldfile.Sections, ", ")}
			}
		}
	}
	return streamed{"application/yaml", func(w io.Writer) error { return s.Service.Dump(ctx, w, policy, sections...) }}, nil
}

// streamed is an answer that is written while it is made. Where that fails after its beginning, the connection is cut, so that nobody
// takes a part for the whole.
type streamed struct {
	kind  string
	write func(io.Writer) error
}

func (x streamed) VisitDumpResponse(w http.ResponseWriter) error    { return x.answer(w) }
func (x streamed) VisitGetListResponse(w http.ResponseWriter) error { return x.answer(w) }

func (x streamed) answer(w http.ResponseWriter) error {
	w.Header().Set("Content-Type", x.kind)
	return x.write(w)
}

func contains(list []string, s string) bool {
	for _, x := range list {
		if x == s {
			return true
		}
	}
	return false
}

func (s *server) Load(ctx context.Context, r apigen.LoadRequestObject) (apigen.LoadResponseObject, error) {
	if r.Body == nil {
		return nil, &service.Invalid{Field: "body", Reason: "send the file as application/yaml"}
	}
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	preview := r.Params.Preview != nil && *r.Params.Preview
	for mark, asked := range map[*bool]func(context.Context) context.Context{r.Params.Confirm: service.Confirmed,
		r.Params.Restore: service.Restoring, r.Params.Older: service.Older, r.Params.Exact: service.Exact} {
		if mark != nil && *mark {
			ctx = asked(ctx)
		}
	}
	out, err := s.Service.Load(ctx, whoIs(ctx).Name, strings.TrimSpace(opt(r.Params.Why)), opt(r.Params.File), text, preview)
	if err != nil {
		return nil, err
	}
	x := apigen.Load200JSONResponse{Changed: out.Changed, Kinds: out.Kinds, Preview: preview, Revision: int64(out.Revision),
		Edits: policyEdits(out.Edits)}
	if out.Going != nil {
		x.Going, x.Waits = ptr(goingOf(out.Going)), &out.Waits
	}
	if len(out.Odd) > 0 {
		x.Odd = &out.Odd
	}
	if out.AllHeld > 0 {
		x.HeldTotal, x.Held = &out.AllHeld, ptr(heldChanges(out.Held))
	}
	return x, nil
}

func policyEdits(edits []draft.Edit) []contract.DraftEdit {
	out := []contract.DraftEdit{}
	for i := range edits {
		out = append(out, answer.DraftEdit(&edits[i]))
	}
	return out
}

func (s *server) Differs(ctx context.Context, r apigen.DiffersRequestObject) (apigen.DiffersResponseObject, error) {
	if r.Body == nil {
		return nil, &service.Invalid{Field: "body", Reason: "send the file as application/yaml"}
	}
	text, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, err
	}
	edits, err := s.Service.Differs(ctx, opt(r.Params.File), text)
	if err != nil {
		return nil, err
	}
	return apigen.Differs200JSONResponse{Revision: int64(s.Service.State().Head.Revision), Edits: policyEdits(edits)}, nil
}
