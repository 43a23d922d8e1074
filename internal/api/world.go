package api

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

func (s *server) Dump(ctx context.Context, r apigen.DumpRequestObject) (apigen.DumpResponseObject, error) {
	var sections []string
	if r.Params.Section != nil {
		sections = *r.Params.Section
		for _, n := range sections {
			if !contains(worldfile.Sections, n) {
				return nil, &service.Invalid{Field: "section", Value: n, Reason: "there are " + strings.Join(worldfile.Sections, ", ")}
			}
		}
	}
	w, unread, err := s.Service.WorldAndUnread(ctx, store.Head{})
	if err != nil {
		return nil, err
	}
	var left bytes.Buffer
	for _, u := range unread {
		fmt.Fprintf(&left, "# %s\n", u.Text())
	}
	text := append(left.Bytes(), worldfile.Write(w, sections...)...)
	return apigen.Dump200ApplicationyamlResponse{Body: bytes.NewReader(text), ContentLength: int64(len(text))}, nil
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
	for mark, asked := range map[*bool]func(context.Context) context.Context{r.Params.Confirm: service.Confirmed, r.Params.Restore: service.Restoring, r.Params.Older: service.Older} {
		if mark != nil && *mark {
			ctx = asked(ctx)
		}
	}
	out, err := s.Service.Load(ctx, whoIs(ctx).Name, strings.TrimSpace(opt(r.Params.Why)), opt(r.Params.File), text, preview)
	if err != nil {
		return nil, err
	}
	x := apigen.Load200JSONResponse{Changed: out.Changed, Kinds: out.Kinds, Preview: preview, Revision: int64(out.Revision)}
	if out.Going != nil {
		x.Going, x.Waits = ptr(goingOf(out.Going)), &out.Waits
	}
	if len(out.Odd) > 0 {
		x.Odd = &out.Odd
	}
	return x, nil
}
