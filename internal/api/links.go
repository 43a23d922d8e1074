package api

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

func (s *server) ListLinks(ctx context.Context, r apigen.ListLinksRequestObject) (apigen.ListLinksResponseObject, error) {
	st, now := s.state(ctx), s.Service.Now()
	me, p := whoIs(ctx), r.Params
	after, err := readCursor(p.Cursor)
	if err != nil {
		return nil, err
	}
	limit := pageSize(p.Limit, 100)
	text := strings.ToLower(strings.TrimSpace(opt(p.Q)))
	out := apigen.ListLinks200JSONResponse{Links: []contract.Link{}}
	err = s.Service.Links(ctx, after, func(l *world.Link) (bool, error) {
		if item := opt(p.Item); item != "" && item != l.Item.String() || !me.SeesPlace(st, l.Item) {
			return true, nil
		}
		if who := opt(p.Who); who != "" && (who == "bearer") != l.Bearer() || !linkHas(st.Snapshot, l, text) {
			return true, nil
		}
		x, err := linkOf(st.Snapshot, l, now)
		if err != nil {
			return false, err
		}
		if state := opt(p.State); state != "" && (state == "works") != x.Works {
			return true, nil
		}
		if len(out.Links) == limit {
			out.Next = cursor(out.Links[limit-1].Id)
			return false, nil
		}
		out.Links = append(out.Links, x)
		return true, nil
	})
	if err != nil {
		return nil, err
	}
	ids := make([]string, len(out.Links))
	for i := range out.Links {
		ids[i] = out.Links[i].Id
	}
	opened, err := s.Service.Opened(ctx, ids)
	for i := range out.Links {
		if c, told := opened[out.Links[i].Id]; told {
			out.Links[i].Opened, out.Links[i].OpenedRead = &c.Times, momentOr(c.Read)
		}
	}
	return out, err
}

// linkHas reports whether a text stands in what is told of a link.
func linkHas(st *engine.Snapshot, l *world.Link, text string) bool {
	has := func(s string) bool { return strings.Contains(strings.ToLower(s), text) }
	for _, a := range l.For {
		if has(a.String()) {
			return true
		}
	}
	return has(l.ID) || has(l.Item.String()) || has(l.By) || has(st.NameOf(l.Item))
}

// linkOf writes a link as a list of links tells it, and whether whoever holds it, or those
// it names, can open its item with it now.
func linkOf(st *engine.Snapshot, l *world.Link, now moment.Moment) (contract.Link, error) {
	x := contract.Link{
		Id:       l.ID,
		Item:     l.Item.String(),
		ItemName: some(st.NameOf(l.Item)),
		Bearer:   l.Bearer(),
		Right:    l.Right.String(),
		Created:  l.Created.String(),
		Until:    answer.Moment(l.Until),
		Download: l.Download,
		Password: l.Password,
		By:       some(l.By),
	}
	right, until, err := st.LinkCounts(l)
	if err != nil {
		return x, err
	}
	x.EffectiveRight, x.EffectiveUntil = ptr(right.String()), answer.Moment(until)
	act, _ := catalogue.ActionByName("files.open")
	q := engine.Question{Subject: engine.Who{Kind: engine.ByLinkID, ID: l.ID}, Action: act.ID, Resource: l.Item, At: now}
	ask := func() (bool, string, error) {
		a, err := st.Explain(&q)
		var wrong *engine.WrongUse
		if errors.As(err, &wrong) { // on something that links do not open
			return false, err.Error(), nil
		}
		if err != nil {
			return false, "", err
		}
		return a.Yes(), a.DecidingCause().Text(), nil
	}
	if l.Bearer() {
		x.Works, x.Text, err = ask()
		return x, err
	}
	names, opens, no := []string{}, 0, ""
	for _, a := range l.For {
		names = append(names, a.String())
		if !moment.Within(now, l.Created, l.Until) {
			continue
		}
		q.Subject = engine.Who{Address: a}
		yes, text, err := ask()
		if err != nil {
			return x, err
		}
		if yes {
			opens++
		} else if no == "" {
			no = text
		}
	}
	x.For, x.Works = &names, opens > 0
	switch {
	case now >= l.Until:
		x.Text = "It ended."
	case now < l.Created:
		x.Text = "It begins later."
	case opens == len(names):
		x.Text = "Whom it names can open it."
	default:
		x.Text = strings.TrimSpace(fmt.Sprintf("%d of %d whom it names can open it. %s", opens, len(names), no))
	}
	return x, nil
}

func (s *server) MakeLink(ctx context.Context, r apigen.MakeLinkRequestObject) (apigen.MakeLinkResponseObject, error) {
	b := r.Body
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.MakeLink(
		ctx,
		whoIs(ctx),
		service.LinkAsked{
			ID:       opt(b.Id),
			Item:     b.Item,
			Bearer:   b.Bearer != nil && *b.Bearer,
			For:      opt(b.For),
			Right:    string(opt(b.Right)),
			Until:    opt(b.Until),
			Download: b.Download == nil || *b.Download,
			Password: b.Password != nil && *b.Password,
			By:       opt(b.By),
			Why:      cause(b.Why),
		},
		preview,
	)
	if err != nil {
		return nil, err
	}
	out := apigen.MakeLink200JSONResponse{Made: x.Made, Refused: answer.CheckCauses(x.Refused), Lines: invitedLines(x.Lines)}
	other := ""
	if x.Link.Bearer() {
		other = "link:" + x.Link.ID
	}
	out.Opens = opens(x.Opens, other)
	if out.Link, err = linkOf(x.After, &x.Link, s.Service.Now()); err != nil {
		return nil, err
	}
	if preview {
		v := &answer.View{Snapshot: x.After, At: s.Service.Now()}
		out.Residual = some(v.ResidualRisk())
	}
	return out, nil
}

func (s *server) EndLink(ctx context.Context, r apigen.EndLinkRequestObject) (apigen.EndLinkResponseObject, error) {
	st, me := s.state(ctx), whoIs(ctx)
	may := func(l *world.Link) error { return me.EndsLink(st, l) }
	if r.Params.Preview != nil && *r.Params.Preview {
		w, err := s.Service.WeighLinkEnd(ctx, r.Id, may)
		if err != nil {
			return nil, err
		}
		return apigen.EndLink200JSONResponse(weighedOut(w)), nil
	}
	return apigen.EndLink204Response{}, s.Service.EndLink(ctx, me.Name, cause(r.Body.Why), r.Id, may)
}
