package api

import (
	"context"
	"slices"
	"time"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// soonEnough is how long a page waits for findings of what changed just now.
const soonEnough = 250 * time.Millisecond

func (s *server) ListFindings(ctx context.Context, r apigen.ListFindingsRequestObject) (apigen.ListFindingsResponseObject, error) {
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	kind := opt(r.Params.Kind)
	if _, ok := finding.KindByName(kind); !ok && kind != "" {
		return nil, &service.Invalid{
			Field:  "kind",
			Value:  kind,
			Reason: "there is no such kind of finding; those that were noticed stand in kinds",
		}
	}
	if opt(r.Params.State) == "gone" {
		return s.findingsGone(ctx, kind, opt(r.Params.About), pageSize(r.Params.Limit, 100))
	}
	var all *service.Noticed
	var at moment.Moment
	var behind bool
	if soon := r.Params.Soon != nil && *r.Params.Soon; soon {
		all, at, behind, err = s.Service.FindingsSoon(ctx, soonEnough)
	} else {
		all, err = s.Service.Findings(ctx)
	}
	if err != nil {
		return nil, err
	}
	limit := pageSize(r.Params.Limit, 100)
	state := opt(r.Params.State)
	hints := r.Params.Hints != nil && *r.Params.Hints
	out := apigen.ListFindings200JSONResponse{Findings: []contract.Finding{}, Kinds: []contract.FindingKind{}}
	if at != 0 {
		out.At, out.Behind = ptr(at.String()), &behind
	}
	count, hint := map[string]*contract.FindingKind{}, map[string]bool{}
	started := after == ""
	for f, accepted := range all.All() {
		if a := opt(r.Params.About); a != "" {
			is := false
			for _, x := range f.About {
				is = is || x == a
			}
			if !is {
				continue
			}
		}
		k := count[f.Kind]
		if k == nil {
			entry, _ := finding.KindByName(f.Kind)
			hint[f.Kind] = entry.Hint
			k = &contract.FindingKind{Kind: f.Kind, Title: entry.Title, Do: entry.Do, Hint: entry.Hint}
			count[f.Kind] = k
		}
		if accepted != nil {
			k.Accepted++
		} else {
			k.Open++
		}
		switch {
		case kind != "" && f.Kind != kind, kind == "" && hint[f.Kind] && !hints:
			continue
		case state == "accepted" && accepted == nil, state != "accepted" && state != "all" && accepted != nil:
			continue
		}
		if !started {
			started = f.ID == after
			continue
		}
		if len(out.Findings) == limit {
			if out.Next == "" {
				out.Next = cursor(out.Findings[limit-1].Id)
			}
			continue
		}
		out.Findings = append(out.Findings, answer.Finding(f, accepted))
	}
	var ids []string
	for i := range out.Findings {
		ids = append(ids, out.Findings[i].Id)
	}
	since, err := s.Service.NoticedSince(ctx, ids)
	if err != nil {
		return nil, err
	}
	for i := range out.Findings {
		if m, ok := since[out.Findings[i].Id]; ok {
			out.Findings[i].Since = answer.Moment(m)
		}
	}
	for _, k := range finding.Kinds() {
		if c := count[k.Name]; c != nil {
			out.Kinds = append(out.Kinds, *c)
		}
	}
	return out, nil
}

// findingsGone lists what was noticed and is no more.
func (s *server) findingsGone(ctx context.Context, kind, about string, limit int) (apigen.ListFindingsResponseObject, error) {
	list, err := s.Service.FindingsGone(ctx, kind, limit)
	if err != nil {
		return nil, err
	}
	out := apigen.ListFindings200JSONResponse{Findings: []contract.Finding{}, Kinds: []contract.FindingKind{}}
	for i := range list {
		x := &list[i]
		if _, known := finding.KindByName(x.Kind); !known || about != "" && !slices.Contains(x.About, about) {
			continue
		}
		f := answer.Finding(&finding.Finding{ID: x.Finding, Kind: x.Kind, About: x.About, Cause: x.Cause}, nil)
		f.Since, f.Gone = answer.Moment(x.Came), answer.Moment(x.Gone)
		out.Findings = append(out.Findings, f)
	}
	return out, nil
}

func (s *server) AcceptFinding(ctx context.Context, r apigen.AcceptFindingRequestObject) (apigen.AcceptFindingResponseObject, error) {
	return apigen.AcceptFinding204Response{}, s.Service.AcceptFinding(ctx, whoIs(ctx).Name, r.Body.Id, r.Body.Reason, r.Body.Until)
}

func (s *server) ReopenFinding(ctx context.Context, r apigen.ReopenFindingRequestObject) (apigen.ReopenFindingResponseObject, error) {
	return apigen.ReopenFinding204Response{}, s.Service.ReopenFinding(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Params.Id)
}
