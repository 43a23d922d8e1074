package api

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"strconv"
	"time"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/service"
)

func draftOut(x *service.DraftNow) contract.Draft {
	d := x.Draft
	out := contract.Draft{
		Id:        d.ID,
		Name:      d.Name,
		MadeBy:    d.MadeBy,
		Made:      d.Made,
		Base:      int64(d.Base),
		Revision:  int64(x.Live.Head.Revision),
		State:     contract.DraftState(d.State),
		Edits:     []contract.DraftEdit{},
		Conflicts: []contract.DraftConflict{},
		Moved:     x.Moved,
		Loosens:   append([]string{}, x.Loosens...),
		Second:    x.Second,
		Digest:    some(x.Digest),
		Note:      some(d.Note),
		Releases:  []contract.HeldChange{},
	}
	for i := range x.Clean {
		out.Edits = append(out.Edits, answer.DraftEdit(&x.Clean[i]))
	}
	for i := range x.Conflicts {
		out.Conflicts = append(out.Conflicts, answer.DraftConflict(&x.Conflicts[i]))
	}
	for _, r := range d.Releases {
		out.Releases = append(out.Releases, contract.HeldChange{Where: r.Where, Rule: r.Rule, Value: r.Value})
	}
	if d.Quick {
		out.Quick = ptr(true)
	}
	if d.Back > 0 {
		out.Back = ptr(int64(d.Back))
	}
	if d.Published > 0 {
		out.Published = ptr(int64(d.Published))
	}
	if w := d.Weighed; w != nil {
		out.Weighed = &struct {
			At          string  `json:"at"`
			By          string  `json:"by"`
			ConfirmedBy *string `json:"confirmed_by,omitempty"`
			Digest      *string `json:"digest,omitempty"`
			PublishAt   *string `json:"publish_at,omitempty"`
			Why         string  `json:"why"`
		}{At: w.At, By: w.By, Why: w.Why, Digest: some(w.Digest), PublishAt: some(w.PublishAt), ConfirmedBy: some(w.ConfirmedBy)}
	}
	return out
}

func (s *server) Drafts(ctx context.Context, r apigen.DraftsRequestObject) (apigen.DraftsResponseObject, error) {
	list, err := s.Service.Drafts(ctx, r.Params.Over != nil && *r.Params.Over)
	out := apigen.Drafts200JSONResponse{Drafts: []contract.DraftBrief{}}
	for i := range list {
		d := &list[i]
		b := contract.DraftBrief{
			Id:     d.ID,
			Name:   d.Name,
			MadeBy: d.MadeBy,
			Made:   d.Made,
			State:  contract.DraftBriefState(d.State),
			Edits:  len(d.Edits) + len(d.Releases),
		}
		if d.Quick {
			b.Quick = ptr(true)
		}
		if d.Back > 0 {
			b.Back = ptr(int64(d.Back))
		}
		if d.Published > 0 {
			b.Published = ptr(int64(d.Published))
		}
		if d.Weighed != nil {
			b.PublishAt, b.AskedBy = some(d.Weighed.PublishAt), some(d.Weighed.By)
		}
		out.Drafts = append(out.Drafts, b)
	}
	return out, err
}

func (s *server) MakeDraft(ctx context.Context, r apigen.MakeDraftRequestObject) (apigen.MakeDraftResponseObject, error) {
	d, err := s.Service.MakeDraft(ctx, whoIs(ctx).Name, opt(r.Body.Name), r.Body.Quick != nil && *r.Body.Quick)
	if err != nil {
		return nil, err
	}
	x, err := s.Service.Draft(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	return apigen.MakeDraft201JSONResponse{Body: draftOut(x), Headers: apigen.MakeDraft201ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) Draft(ctx context.Context, r apigen.DraftRequestObject) (apigen.DraftResponseObject, error) {
	x, err := s.Service.Draft(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.Draft200JSONResponse{Body: draftOut(x), Headers: apigen.Draft200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) DropDraft(ctx context.Context, r apigen.DropDraftRequestObject) (apigen.DropDraftResponseObject, error) {
	return apigen.DropDraft204Response{}, s.Service.DropDraft(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id)
}

func (s *server) KeepDraft(ctx context.Context, r apigen.KeepDraftRequestObject) (apigen.KeepDraftResponseObject, error) {
	x, err := s.Service.KeepDraft(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.KeepDraft200JSONResponse(draftOut(x)), nil
}

func (s *server) RestoreDraft(ctx context.Context, r apigen.RestoreDraftRequestObject) (apigen.RestoreDraftResponseObject, error) {
	x, err := s.Service.RestoreDraft(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.RestoreDraft200JSONResponse(draftOut(x)), nil
}

func (s *server) twoPeople(ctx context.Context) contract.TwoPeople {
	out := contract.TwoPeople{When: contract.TwoPeopleWhenNever}
	if o := s.state(ctx).Policy().Organisation; o != nil && o.TwoPeople != "" {
		out.When = contract.TwoPeopleWhen(o.TwoPeople)
	}
	return out
}

func (s *server) GetTwoPeople(ctx context.Context, _ apigen.GetTwoPeopleRequestObject) (apigen.GetTwoPeopleResponseObject, error) {
	return apigen.GetTwoPeople200JSONResponse(s.twoPeople(ctx)), nil
}

func (s *server) SetTwoPeople(ctx context.Context, r apigen.SetTwoPeopleRequestObject) (apigen.SetTwoPeopleResponseObject, error) {
	if err := s.Service.SetTwoPeople(ctx, whoIs(ctx).Name, cause(r.Body.Why), string(r.Body.When)); err != nil {
		return nil, err
	}
	return apigen.SetTwoPeople200JSONResponse(s.twoPeople(ctx)), nil
}

func (s *server) UndoEdit(ctx context.Context, r apigen.UndoEditRequestObject) (apigen.UndoEditResponseObject, error) {
	x, err := s.Service.UndoEdit(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, opt(r.Body.Kind), opt(r.Body.Id), opt(r.Params.IfMatch))
	if err != nil {
		return nil, err
	}
	return apigen.UndoEdit200JSONResponse{Body: draftOut(x), Headers: apigen.UndoEdit200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) SettleEdit(ctx context.Context, r apigen.SettleEditRequestObject) (apigen.SettleEditResponseObject, error) {
	x, err := s.Service.SettleEdit(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id, r.Body.Kind, r.Body.Id, r.Body.Keep == "draft")
	if err != nil {
		return nil, err
	}
	return apigen.SettleEdit200JSONResponse{Body: draftOut(x), Headers: apigen.SettleEdit200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) PublishDraft(ctx context.Context, r apigen.PublishDraftRequestObject) (apigen.PublishDraftResponseObject, error) {
	at := moment.Always
	if t := opt(r.Body.At); t != "" {
		var err error
		if at, err = moment.ParseLoose(t, s.Service.Now(), s.Service.State().Zone()); err != nil {
			return nil, &service.Invalid{Field: "at", Value: t, Reason: err.Error()}
		}
	}
	x, err := s.Service.PublishDespite(ctx, whoIs(ctx).Name, r.Body.Why, opt(r.Body.Despite), r.Id, r.Body.Digest, at)
	if err != nil {
		return nil, err
	}
	return apigen.PublishDraft200JSONResponse{Body: draftOut(x), Headers: apigen.PublishDraft200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) ConfirmDraft(ctx context.Context, r apigen.ConfirmDraftRequestObject) (apigen.ConfirmDraftResponseObject, error) {
	x, err := s.Service.Confirm(ctx, whoIs(ctx).Name, r.Id, r.Body.Digest)
	if err != nil {
		return nil, err
	}
	return apigen.ConfirmDraft200JSONResponse{Body: draftOut(x), Headers: apigen.ConfirmDraft200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) WithdrawDraft(ctx context.Context, r apigen.WithdrawDraftRequestObject) (apigen.WithdrawDraftResponseObject, error) {
	x, err := s.Service.WithdrawDraft(ctx, whoIs(ctx).Name, cause(r.Body.Why), r.Id)
	if err != nil {
		return nil, err
	}
	return apigen.WithdrawDraft200JSONResponse{Body: draftOut(x), Headers: apigen.WithdrawDraft200ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

// ahead reads a moment that is now or lies ahead.
func (s *server) ahead(text *string) (moment.Moment, error) {
	now := s.Service.Now()
	if opt(text) == "" {
		return now, nil
	}
	at, err := moment.ParseLoose(opt(text), now, s.Service.State().Zone())
	if err != nil {
		return 0, &engine.WrongUse{Field: "at", Value: opt(text), Reason: err.Error()}
	}
	if at < now-86400e6 {
		return 0, &engine.WrongUse{Field: "at", Value: opt(text), Reason: "an impact is for now or for a moment that lies ahead"}
	}
	return at, nil
}

func heldChanges(list []service.HeldChange) []contract.HeldChange {
	out := []contract.HeldChange{}
	for _, h := range list {
		out = append(out, contract.HeldChange{Where: h.Where, Rule: h.Rule, Value: h.Value, Held: h.Held})
	}
	return out
}

// maxHeld is how many values that become held back or are released are listed.
const maxHeld = 200

func (s *server) impact(ctx context.Context, id string, at moment.Moment, progress func(float64)) (*contract.Impact, error) {
	line, lines, more := answer.Collect()
	x, between, imp, err := s.Service.Impact(ctx, id, at, line, progress)
	if err != nil {
		return nil, err
	}
	v := &answer.View{Snapshot: between.Before.Snapshot, Revision: x.Live.Head.Revision, At: at, Recorded: string(service.FromNow)}
	out := v.Impact(imp, *lines, *more)
	held, total, err := s.Service.Held(ctx, x, maxHeld)
	if err != nil {
		return nil, err
	}
	out.Held = append(out.Held, heldChanges(held)...)
	out.HeldTotal = total
	cut, cutTotal, err := s.Service.CutOffs(ctx, between.Before, between.After, at, maxHeld)
	if err != nil {
		return nil, err
	}
	list := []contract.CutOff{}
	for i := range cut {
		c := &cut[i]
		list = append(list, contract.CutOff{Party: c.Address.String(), Name: some(c.Name), Day: c.At.String(), Cause: c.Cause.String()})
	}
	out.CutOff, out.CutOffTotal = &list, &cutTotal
	breaks, err := s.Service.Breaks(ctx, between.Before, between.After)
	if err != nil {
		return nil, err
	}
	if len(breaks) > 0 {
		list := []contract.Expectation{}
		for i := range breaks {
			list = append(list, expectedOut(between.After, &breaks[i]))
		}
		out.Breaks = &list
	}
	out.Loosens, out.Second, out.Digest = append(out.Loosens, x.Loosens...), x.Second, x.Digest
	return &out, nil
}

func (s *server) Impact(ctx context.Context, r apigen.ImpactRequestObject) (apigen.ImpactResponseObject, error) {
	at, err := s.ahead(r.Params.At)
	if err != nil {
		return nil, err
	}
	if r.Params.Progress == nil || !*r.Params.Progress {
		out, err := s.impact(ctx, r.Id, at, nil)
		if err != nil {
			return nil, err
		}
		return apigen.Impact200JSONResponse(*out), nil
	}
	if x, err := s.Service.Draft(ctx, r.Id); err != nil { // what makes no sense is told before the answer begins
		return nil, err
	} else if len(x.Conflicts) > 0 || x.Over() {
		_, _, _, err := s.Service.Impact(ctx, r.Id, at, nil, nil)
		return nil, err
	}
	in, out := io.Pipe()
	go func() {
		e := json.NewEncoder(out)
		var told time.Time
		imp, err := s.impact(ctx, r.Id, at, func(part float64) {
			if now := time.Now(); now.Sub(told) > 200*time.Millisecond {
				told = now
				_ = e.Encode(map[string]float64{"part": part})
			}
		})
		if err == nil {
			err = e.Encode(map[string]any{"impact": imp})
		} else if ctx.Err() == nil {
			err = e.Encode(map[string]any{"problem": problemOf(err)})
		}
		out.CloseWithError(err)
	}()
	return apigen.Impact200ApplicationxNdjsonResponse{Body: flushing{in, ctx}}, nil
}

// flushing sends on what it reads at once.
type flushing struct {
	io.Reader
	ctx context.Context
}

// WriteTo copies piece by piece.
func (f flushing) WriteTo(w io.Writer) (n int64, err error) {
	buf := make([]byte, 1<<15)
	c := http.NewResponseController(f.ctx.Value(writerKey).(http.ResponseWriter))
	for {
		k, err := f.Read(buf)
		if k > 0 {
			m, werr := w.Write(buf[:k])
			n += int64(m)
			if werr != nil {
				return n, werr
			}
			_ = c.Flush()
		}
		if err == io.EOF {
			return n, nil
		}
		if err != nil {
			return n, err
		}
	}
}

func (s *server) ImpactLines(ctx context.Context, r apigen.ImpactLinesRequestObject) (apigen.ImpactLinesResponseObject, error) {
	at, err := s.ahead(r.Params.At)
	if err != nil {
		return nil, err
	}
	x, err := s.Service.Draft(ctx, r.Id)
	if err != nil {
		return nil, err
	}
	if x.After == nil {
		_, _, _, err := s.Service.Impact(ctx, r.Id, at, nil, nil)
		return nil, err
	}
	v := &answer.View{Snapshot: x.Live.Snapshot, Revision: x.Live.Head.Revision, At: at}
	in, out := io.Pipe()
	go func() {
		w := sheet.NewWriter(out)
		err := w.Write(answer.ImpactColumns)
		if err == nil {
			var failed error
			_, _, _, err = s.Service.Impact(ctx, r.Id, at, func(l *engine.ImpactLine) bool {
				failed = w.Write(v.ImpactRow(l))
				return failed == nil
			}, nil)
			if err == nil {
				err = failed
			}
		}
		w.Flush()
		if err == nil {
			err = w.Error()
		}
		out.CloseWithError(err)
	}()
	return apigen.ImpactLines200TextcsvResponse{Body: in}, nil
}

func revisionOut(x *service.Revision) contract.Revision {
	out := contract.Revision{Number: int64(x.Number), At: moment.Of(x.At).String(), Who: x.Who, Why: x.Why}
	if d := x.Draft; d != nil {
		out.Draft, out.DraftName, out.Edits = &d.ID, &d.Name, ptr(len(d.Edits)+len(d.Releases))
		if d.Quick {
			out.Quick = ptr(true)
		}
		if d.Back > 0 {
			out.Back = ptr(int64(d.Back))
		}
		if d.Weighed != nil {
			out.AskedBy, out.ConfirmedBy = some(d.Weighed.By), some(d.Weighed.ConfirmedBy)
		}
	}
	return out
}

func (s *server) Revisions(ctx context.Context, r apigen.RevisionsRequestObject) (apigen.RevisionsResponseObject, error) {
	before := uint64(0)
	if r.Params.Cursor != nil {
		text, err := readCursor(r.Params.Cursor)
		if err != nil {
			return nil, err
		}
		if before, err = strconv.ParseUint(text, 10, 64); err != nil {
			return nil, &service.Invalid{Field: "cursor", Value: *r.Params.Cursor, Reason: "send what the page before gave as next"}
		}
	}
	limit := pageSize(r.Params.Limit, 100)
	list, err := s.Service.Revisions(ctx, before, limit+1)
	if err != nil {
		return nil, err
	}
	out := apigen.Revisions200JSONResponse{Revisions: []contract.Revision{}}
	for i := range list[:min(limit, len(list))] {
		out.Revisions = append(out.Revisions, revisionOut(&list[i]))
	}
	if len(list) > limit {
		out.Next = cursor(strconv.FormatUint(list[limit-1].Number, 10))
	}
	return out, nil
}

func (s *server) Revision(ctx context.Context, r apigen.RevisionRequestObject) (apigen.RevisionResponseObject, error) {
	against := max(r.Number, 1) - 1
	if r.Params.Against != nil {
		against = *r.Params.Against
	}
	edits, err := s.Service.RevisionDiff(ctx, uint64(against), uint64(r.Number))
	if err != nil {
		return nil, err
	}
	out := apigen.Revision200JSONResponse{Number: r.Number, Against: against, Edits: []contract.DraftEdit{}}
	if list, err := s.Service.Revisions(ctx, uint64(r.Number)+1, 1); err != nil {
		return nil, err
	} else if len(list) == 1 && list[0].Number == uint64(r.Number) {
		x := revisionOut(&list[0])
		out.Revision = &x
	}
	for i := range edits {
		out.Edits = append(out.Edits, answer.DraftEdit(&edits[i]))
	}
	return out, nil
}

func (s *server) BackTo(ctx context.Context, r apigen.BackToRequestObject) (apigen.BackToResponseObject, error) {
	d, err := s.Service.BackTo(ctx, whoIs(ctx).Name, cause(r.Body.Why), uint64(r.Number))
	if err != nil {
		return nil, err
	}
	x, err := s.Service.Draft(ctx, d.ID)
	if err != nil {
		return nil, err
	}
	return apigen.BackTo201JSONResponse{Body: draftOut(x), Headers: apigen.BackTo201ResponseHeaders{ETag: ptr(x.Etag())}}, nil
}

func (s *server) NumberLines(ctx context.Context, r apigen.NumberLinesRequestObject) (apigen.NumberLinesResponseObject, error) {
	p := &r.Params
	v, _, err := s.when(ctx, p.At)
	if err != nil {
		return nil, err
	}
	f := answer.NumberFilter{Kind: opt(p.Kind), Partner: opt(p.Partner), Space: opt(p.Space)}
	only, err := answer.OnlyAction(opt(p.Action))
	if err != nil {
		return nil, err
	}
	if only != nil {
		for i := range catalogue.Actions() {
			if a := &catalogue.Actions()[i]; only(a) {
				f.Actions |= 1 << a.ID
			}
		}
	}
	from := engine.LinesFrom{}
	if p.Cursor != nil {
		text, err := readCursor(p.Cursor)
		if err != nil {
			return nil, err
		}
		if n, err := fmt.Sscanf(text, "%d %d %t", &from.Party, &from.Lines, &from.Links); n != 3 || err != nil || from.Lines < 0 {
			return nil, &service.Invalid{Field: "cursor", Value: *p.Cursor, Reason: "send what the page before gave as next"}
		}
	}
	lines, next, err := v.NumberLines(f, from, pageSize(p.Limit, 100), ctx.Err)
	if err != nil {
		return nil, err
	}
	out := apigen.NumberLines200JSONResponse{Stated: v.Stated(), Lines: lines}
	if !next.End {
		out.Next = cursor(fmt.Sprint(next.Party, next.Lines, next.Links))
	}
	return out, nil
}

func (s *server) RuleAudience(ctx context.Context, r apigen.RuleAudienceRequestObject) (apigen.RuleAudienceResponseObject, error) {
	rule, err := service.FindRule(r.Rule)
	if err != nil {
		return nil, err
	}
	v, st, err := s.when(ctx, r.Params.At)
	if err != nil {
		return nil, err
	}
	limit, _, _, _ := st.RuleState(rule.ID)
	value := limit
	if t := opt(r.Params.Value); t != "" {
		if value, err = service.ParseValue(rule, "value", t); err != nil {
			return nil, err
		}
	}
	next, tighter, err := answer.Tightened(st.Policy(), rule, limit, value)
	if err != nil {
		return nil, &service.Invalid{Field: "value", Value: rule.Scale.Format(value), Reason: err.Error()}
	}
	type found struct {
		imp   *engine.Impact
		lines []engine.ImpactLine
		more  bool
	}
	x, err := s.results.get(ctx, s.key(v, st, r.Params.At, "rule", rule.Name, rule.Scale.Format(value)), func(ctx context.Context) (any, error) {
		line, lines, more := answer.Collect()
		imp, err := engine.ImpactOf(
			st.Snapshot,
			st.With(next, s.Service.Now()).Snapshot,
			v.At,
			func(l *engine.ImpactLine) bool { return l.Change != "lost" || line(l) },
			ctx.Err,
			nil,
		)
		return &found{imp, *lines, *more}, err
	})
	if err != nil {
		return nil, err
	}
	f := x.(*found)
	return apigen.RuleAudience200JSONResponse(v.RuleAudience(rule, value, tighter, f.imp, f.lines, f.more)), nil
}
