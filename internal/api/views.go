package api

import (
	"context"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"sort"
	"strconv"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/report"
	"wexillum.example/internal/service"
)

// when finds the moment that is asked about, and the state that it is asked of:
// for the past what was recorded then.
func (s *server) when(ctx context.Context, text *string) (*answer.View, *service.State, error) {
	st := s.state(ctx)
	v := &answer.View{
		Snapshot: st.Snapshot,
		Revision: st.Head.Revision,
		At:       s.Service.Now(),
		Recorded: string(service.FromNow),
		Draft:    st.AsDraft,
	}
	t := opt(text)
	if t == "" {
		return v, st, nil
	}
	at, err := moment.ParseLoose(t, v.At, st.Zone())
	if err != nil {
		return nil, nil, &engine.WrongUse{Field: "at", Value: t, Reason: err.Error()}
	}
	st, how, err := s.Service.At(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	return &answer.View{Snapshot: st.Snapshot, Revision: st.Head.Revision, At: at, Recorded: string(how), Draft: st.AsDraft}, st, nil
}

// key names a result: the state, the moment to the minute where it is now, and
// what was asked.
func (s *server) key(v *answer.View, st *service.State, at *string, parts ...string) string {
	m := v.At.String()
	if opt(at) == "" {
		m = strconv.FormatInt(int64(v.At)/60e6, 10)
	}
	return fmt.Sprint(st.Head, st.Variant, " ", m, " ", strings.Join(parts, "\x00"))
}

// A cursor is bound to what was asked and to the key of the last row that was shown, not to a
// place: what comes and goes between two pages moves nothing past a reader.
type goOnAt struct {
	Of    string `json:"of"` // a digest of what was asked
	After string `json:"after"`
	Same  int    `json:"same,omitempty"` // so many rows of that key were shown, where several share one
}

func askedDigest(parts ...string) string {
	sum := sha256.Sum256([]byte(strings.Join(parts, "\x00")))
	return base64.RawURLEncoding.EncodeToString(sum[:9])
}

// writeCursor and readGoOn write and read a cursor of a question; the zero goOnAt is the
// beginning.
func writeCursor(x goOnAt) string {
	b, _ := json.Marshal(x)
	return cursor(string(b))
}

func readGoOn(cursorText *string, of string) (x goOnAt, err error) {
	if cursorText == nil || *cursorText == "" {
		return x, nil
	}
	text, err := readCursor(cursorText)
	if err == nil {
		err = json.Unmarshal([]byte(text), &x)
	}
	if err != nil {
		return x, &service.Invalid{Field: "cursor", Value: *cursorText, Reason: "send what the page before gave as next"}
	}
	if x.Of != of {
		return x, &service.Invalid{
			Field:  "cursor",
			Value:  *cursorText,
			Reason: "it is of another question; send it with the parameters of the page before",
		}
	}
	return x, nil
}

// page cuts a page out of a list that is in the order of its keys.
func page[T any](all []T, key func(*T) string, of string, cursorText *string, limit *int) (out []T, next string, err error) {
	from, to, next, err := pageOf(len(all), func(i int) string { return key(&all[i]) }, of, cursorText, limit)
	if err != nil {
		return nil, "", err
	}
	return all[from:to], next, nil
}

// pageOf finds a page of n lines that are in the order of their keys.
func pageOf(n int, key func(int) string, of string, cursorText *string, limit *int) (from, to int, next string, err error) {
	at, err := readGoOn(cursorText, of)
	if err != nil {
		return 0, 0, "", err
	}
	if at.Of != "" {
		from = sort.Search(n, func(i int) bool { return key(i) > at.After })
	}
	to = min(from+pageSize(limit, 100), n)
	if to < n {
		if to == from {
			return from, to, writeCursor(goOnAt{Of: of, After: at.After}), nil
		}
		next = writeCursor(goOnAt{Of: of, After: key(to - 1)})
	}
	return from, to, next, nil
}

func (s *server) audience(
	ctx context.Context,
	resource, action, kind, q string,
	all bool,
	at *string,
) (*answer.View, world.Resource, *answer.Audience, error) {
	v, st, err := s.when(ctx, at)
	if err != nil {
		return nil, world.Resource{}, nil, err
	}
	r, err := engine.ParseResource(resource)
	if err != nil {
		return nil, r, nil, err
	}
	if err := whoIs(ctx).SeesAudience(st, r); err != nil {
		return nil, r, nil, err
	}
	key := s.key(v, st, at, "audience", resource, action, kind, strings.ToLower(q), fmt.Sprint(all))
	x, err := s.results.get(ctx, key, func(ctx context.Context) (any, error) {
		return v.Audience(r, all, action, answer.Filter{Text: q, Kind: kind}, ctx.Err)
	})
	if err != nil {
		return nil, r, nil, err
	}
	return v, r, x.(*answer.Audience), nil
}

func (s *server) Audience(ctx context.Context, r apigen.AudienceRequestObject) (apigen.AudienceResponseObject, error) {
	p := &r.Params
	v, res, all, err := s.audience(ctx, p.Resource, opt(p.Action), opt(p.Kind), opt(p.Q), p.All != nil && *p.All, p.At)
	if err != nil {
		return nil, err
	}
	out := apigen.Audience200JSONResponse{
		Stated:   v.Stated(),
		Resource: res.String(),
		Name:     some(v.Snapshot.NameOf(res)),
		Lines:    []contract.AudienceLine{},
		Total:    all.Len(),
	}
	out.Parties, out.Newcomers = all.Counted()
	from, to, next, err := pageOf(
		all.Len(),
		all.Key,
		askedDigest("audience", p.Resource, opt(p.Action), opt(p.Kind), opt(p.Q), fmt.Sprint(p.All != nil && *p.All), opt(p.At)),
		p.Cursor,
		p.Limit,
	)
	if err != nil {
		return nil, err
	}
	shown, err := v.Lines(all, from, to, ctx.Err)
	if err != nil {
		return nil, err
	}
	for i := range shown {
		out.Lines = append(out.Lines, answer.AudienceLine(&shown[i]))
	}
	out.Next = next
	return out, err
}

func (s *server) board(ctx context.Context, word, q string, at *string) (*answer.View, []engine.OnBoard, error) {
	v, st, err := s.when(ctx, at)
	if err != nil {
		return nil, nil, err
	}
	x, err := s.results.get(ctx, s.key(v, st, at, "board", word, strings.ToLower(q)), func(ctx context.Context) (any, error) {
		return v.Board(word, answer.Filter{Text: q}, ctx.Err)
	})
	if err != nil {
		return nil, nil, err
	}
	return v, x.([]engine.OnBoard), nil
}

// maxTotals is how many parties are summed up while somebody waits for a page.
const maxTotals = 2000

func (s *server) Board(ctx context.Context, r apigen.BoardRequestObject) (apigen.BoardResponseObject, error) {
	word, q := opt(r.Params.Who), opt(r.Params.Q)
	v, st, err := s.when(ctx, r.Params.At)
	if err != nil {
		return nil, err
	}
	x, err := s.results.get(ctx, s.key(v, st, r.Params.At, "meant", word, strings.ToLower(q)), func(ctx context.Context) (any, error) {
		return v.Meant(word, answer.Filter{Text: q})
	})
	if err != nil {
		return nil, err
	}
	meant := x.([]answer.Meant)
	if word == "" {
		word = "everybody"
	}
	out := apigen.Board200JSONResponse{
		Stated:   v.Stated("Actions about somebody else (inviting, sharing), which are asked one by one."),
		Who:      word,
		Rows:     []contract.BoardRow{},
		Total:    len(meant),
		Residual: some(v.ResidualRisk()),
	}
	shown, next, err := page(meant, (*answer.Meant).Key, askedDigest("board", word, q, opt(r.Params.At)), r.Params.Cursor, r.Params.Limit)
	if err != nil {
		return nil, err
	}
	rows, err := v.Rows(shown, ctx.Err)
	if err != nil {
		return nil, err
	}
	for i := range rows {
		out.Rows = append(out.Rows, answer.BoardRow(&rows[i]))
	}
	out.Next = next
	if len(meant) <= maxTotals {
		_, all, err := s.board(ctx, opt(r.Params.Who), q, r.Params.At)
		if err != nil {
			return nil, err
		}
		out.Totals = answer.BoardTotals(all)
		return out, nil
	}
	out.Totals = contract.BoardTotals{
		Granted:   map[string]int{},
		Reached:   map[string]int{},
		ByKind:    map[string]int{},
		ByPartner: map[string]int{},
		LeftOut:   ptr(true),
	}
	for _, m := range meant {
		if m.Newcomer {
			out.Totals.Newcomers++
			continue
		}
		out.Totals.Parties++
		if m.Partner != "" {
			out.Totals.ByPartner[m.Partner]++
		}
	}
	return out, nil
}

// sides finds the two sides of a difference.
func (s *server) sides(ctx context.Context, who, andWho, at, andAt *string) (left, right *answer.View, a, b engine.Who, err error) {
	if a, err = s.who(ctx, opt(who)); err != nil {
		return
	}
	b = a
	if t := opt(andWho); t != "" {
		if b, err = s.who(ctx, t); err != nil {
			return
		}
	}
	var st *service.State
	if left, st, err = s.when(ctx, at); err != nil {
		return
	}
	right = left
	if err = s.mayAsk(ctx, st, a, nil); err != nil {
		return
	}
	if err = s.mayAsk(ctx, st, b, nil); err != nil {
		return
	}
	if opt(andAt) != "" {
		right, _, err = s.when(ctx, andAt)
	}
	if err == nil && a == b && left.At == right.At {
		err = &engine.WrongUse{Field: "and_who", Value: "", Reason: "name another party or another moment"}
	}
	return
}

func (s *server) Diff(ctx context.Context, r apigen.DiffRequestObject) (apigen.DiffResponseObject, error) {
	p := &r.Params
	left, right, a, b, err := s.sidesOf(ctx, p)
	if err != nil {
		return nil, err
	}
	lines, err := answer.Differences(left, right, a, b, ctx.Err)
	out := apigen.Diff200JSONResponse{
		Left:   left.Stated(),
		Right:  right.Stated(),
		Who:    a.String(),
		AndWho: b.String(),
		Lines:  []contract.DiffLine{},
	}
	for i := range lines {
		out.Lines = append(out.Lines, answer.DiffLine(&lines[i]))
	}
	return out, err
}

func (s *server) Report(ctx context.Context, r apigen.ReportRequestObject) (apigen.ReportResponseObject, error) {
	p := &r.Params
	var rep *report.Report
	switch r.What {
	case "audience":
		v, res, all, err := s.audience(ctx, opt(p.Resource), opt(p.Action), opt(p.Kind), opt(p.Q), p.All != nil && *p.All, p.At)
		if err != nil {
			return nil, err
		}
		lines, err := v.Lines(all, 0, all.Len(), ctx.Err)
		if err != nil {
			return nil, err
		}
		rep = v.AudienceReport(res, all, lines)
	case "board":
		if err := whoIs(ctx).SeesBoard(); err != nil {
			return nil, err
		}
		v, rows, err := s.board(ctx, opt(p.Who), opt(p.Q), p.At)
		if err != nil {
			return nil, err
		}
		rep = v.BoardReport(opt(p.Who), rows)
	case "diff":
		left, right, a, b, err := s.sides(ctx, p.Who, p.AndWho, p.At, p.AndAt)
		if err != nil {
			return nil, err
		}
		lines, err := answer.Differences(left, right, a, b, ctx.Err)
		if err != nil {
			return nil, err
		}
		rep = answer.DiffReport(left, right, a, b, lines)
	default:
		v, who, kind, lines, err := s.reach(ctx, opt(p.Who), p.At)
		if err != nil {
			return nil, err
		}
		rep = v.ReachReport(who, kind, lines)
	}
	out, to := io.Pipe()
	go func() {
		if opt(p.Form) == "csv" {
			to.CloseWithError(rep.CSV(to))
			return
		}
		to.CloseWithError(rep.HTML(to))
	}()
	if opt(p.Form) == "csv" {
		return apigen.Report200TextcsvResponse{Body: out}, nil
	}
	return apigen.Report200TexthtmlResponse{Body: out}, nil
}

// who reads whom a question is about, by name too.
func (s *server) who(ctx context.Context, text string) (engine.Who, error) {
	return s.state(ctx).WhoNamed(text, names(ctx) == answer.AllNames)
}

func (s *server) reach(ctx context.Context, text string, at *string) (*answer.View, engine.Who, engine.Kind, []engine.ReachLine, error) {
	who, err := s.who(ctx, text)
	if err != nil {
		return nil, who, 0, nil, err
	}
	v, st, err := s.when(ctx, at)
	if err != nil {
		return nil, who, 0, nil, err
	}
	if err := s.mayAsk(ctx, st, who, nil); err != nil {
		return nil, who, 0, nil, err
	}
	lines, kind, err := st.Reach(who, v.At)
	if err != nil {
		return nil, who, 0, nil, err
	}
	st.Spells(who, v.At, lines)
	return v, who, kind, lines, nil
}

// asked calls fn for each until the caller leaves.
func asked(ctx context.Context, ids []string, fn func(string) error) error {
	for _, id := range ids {
		if err := ctx.Err(); err != nil {
			return err
		}
		if err := fn(id); err != nil {
			return err
		}
	}
	return nil
}

// sidesOf finds the two sides of a difference: two parties, two moments, or what is meant now and what
// the systems hold.
func (s *server) sidesOf(ctx context.Context, p *contract.DiffParams) (left, right *answer.View, a, b engine.Who, err error) {
	if p.MeantFound == nil || !*p.MeantFound {
		return s.sides(ctx, &p.Who, p.AndWho, p.At, p.AndAt)
	}
	switch err = whoIs(ctx).SeesFound(); {
	case err != nil:
	case p.AndWho != nil || p.At != nil || p.AndAt != nil || service.DraftIn(ctx) != "":
		err = &service.Invalid{Field: "meant_found", Value: "true",
			Reason: "it compares what is meant now with what was found, for one party; leave the other side away"}
	}
	if err != nil {
		return
	}
	if left, _, err = s.when(ctx, nil); err != nil {
		return
	}
	if _, err = s.Service.StateFound(ctx, true); err != nil {
		return
	}
	if right, _, err = s.when(service.AsFound(ctx, true), nil); err != nil {
		return
	}
	a, err = s.who(ctx, p.Who)
	return left, right, a, a, err
}
