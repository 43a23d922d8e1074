package api

import (
	"context"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/may"
	"wexillum.example/internal/service"
)

// mayAsk keeps a member to own spaces, own guests and oneself.
func (s *server) mayAsk(ctx context.Context, st *service.State, who engine.Who, resource *world.Resource) error {
	var sponsor func() (string, error)
	person := ""
	switch who.Kind {
	case engine.ByPerson:
		person = who.ID
	case engine.ByAddress:
		person = st.PersonAt(who.Address)
		sponsor = func() (string, error) { return s.Service.SponsorOf(ctx, who.Address) }
	}
	return whoIs(ctx).Asks(st, person, sponsor, resource)
}

// unkept has a member's question answered as of somebody of whom nothing is kept, where it is about an address that they have no business
// with.
func (s *server) unkept(ctx context.Context, st *service.State, q *engine.Question) error {
	known, err := s.Service.KnownTo(ctx, st, whoIs(ctx))
	if err != nil {
		return err
	}
	about := q.Address
	if q.Subject.Kind == engine.ByAddress && st.PersonAt(q.Subject.Address) == "" {
		about = q.Subject.Address
	}
	q.Stranger = known.Stranger(about, &q.Resource)
	return nil
}

// names says which names whoever asks may use: members do not learn guests by theirs.
func names(ctx context.Context) answer.Names {
	switch me := whoIs(ctx); {
	case me.Own():
		return answer.OurNames
	case me.NeedsNoNames():
		return answer.NoNames
	}
	return answer.AllNames
}

func (s *server) Ask(ctx context.Context, r apigen.AskRequestObject) (apigen.AskResponseObject, error) {
	v, st, err := s.when(ctx, r.Body.At)
	if err != nil {
		return nil, err
	}
	q, err := answer.Question(r.Body, st.Snapshot, s.Service.Now(), names(ctx))
	if err != nil {
		return nil, err
	}
	if err := s.mayAsk(ctx, st, q.Subject, &q.Resource); err != nil {
		return nil, err
	}
	if err := s.unkept(ctx, st, &q); err != nil {
		return nil, err
	}
	x, err := st.Explain(&q)
	if err != nil {
		return nil, err
	}
	s.metrics.decided(q.Action, x.Yes())
	out := answer.Of(st.Snapshot, x, v.Revision)
	if _, found := service.FoundIn(ctx); found {
		if list, err := s.Service.NotAsked(ctx, x); err == nil && len(list) > 0 {
			out.NotLookedAt = &list
		}
	} else if r.Body.At == nil && service.DraftIn(ctx) == "" {
		from, settling, err := s.Service.Settling(ctx, &q, x.Yes())
		if err == nil && settling { // without the database what is known is answered, without this
			out.Settling = &contract.Settling{From: momentOr(from)}
			if x.Yes() {
				out.Conditions = append(out.Conditions, catalogue.Settling.Names()...)
			}
		}
	}
	return apigen.Ask200JSONResponse(out), nil
}

func (s *server) Reach(ctx context.Context, r apigen.ReachRequestObject) (apigen.ReachResponseObject, error) {
	v, who, kind, lines, err := s.reach(ctx, r.Params.Who, r.Params.At)
	if err != nil {
		return nil, err
	}
	out := answer.Reach(v.Snapshot, who, kind, v.At, lines, v.Revision)
	out.Stated = ptr(v.Stated("Actions about somebody else (inviting, sharing), which are asked one by one."))
	first := moment.Never
	for i := range lines {
		if l := &lines[i]; l.Spelled() {
			first = min(first, l.Until)
		}
		if v.Residual(who, &lines[i]) {
			out.Lines[i].Residual = ptr(true)
		}
	}
	if first != moment.Never {
		out.FirstLost = ptr(first.String())
	}
	return apigen.Reach200JSONResponse(out), nil
}

func (s *server) Complete(ctx context.Context, r apigen.CompleteRequestObject) (apigen.CompleteResponseObject, error) {
	st := s.state(ctx)
	q, limit := opt(r.Params.Q), 20
	if r.Params.Limit != nil {
		limit = *r.Params.Limit
	}
	out := apigen.Complete200JSONResponse{Items: []contract.Suggestion{}}
	lower := strings.ToLower(q)
	ranks := []int{}
	add := func(value, label, detail string) { // the best match first, and those alike as they come
		rank, _ := engine.Rank(lower, value, label)
		at := sort.SearchInts(ranks, rank+1)
		ranks = slices.Insert(ranks, at, rank)
		out.Items = slices.Insert(out.Items, at, contract.Suggestion{Value: value, Label: label, Detail: some(detail)})
		if len(out.Items) > limit {
			ranks, out.Items = ranks[:limit], out.Items[:limit]
		}
	}
	named := func(kinds ...string) {
		for _, n := range st.Find(q, limit, kinds...) {
			add(n.Value, n.Name, n.Detail)
		}
	}
	who := whoIs(ctx)
	guests := who.Browses("guest") == may.Everything
	switch r.Params.Kind {
	case "who":
		if !guests { // a member does not browse the guests of others
			me := who.Person
			add("person:"+me, st.NameOf(world.Resource{Kind: catalogue.Person, ID: me}), "yourself")
			break
		}
		named("who")
	case "address":
		if guests {
			for _, n := range st.Find(q, limit*2, "who") {
				if strings.Contains(n.Value, "@") {
					add(n.Value, n.Name, n.Detail)
				}
			}
		}
	case "person":
		for _, n := range st.Find(q, limit, "person") {
			add(strings.TrimPrefix(n.Value, "person:"), n.Name, n.Detail)
		}
	case "member":
		for _, n := range st.Find(q, limit, "person") {
			add(strings.TrimPrefix(n.Value, "person:"), n.Name, n.Detail)
		}
		for _, n := range st.Meant("group", q, limit) {
			add("group:"+n.Value, n.Name, n.Detail)
		}
	case "party":
		for _, n := range st.Meant("partner", q, limit) {
			add("partner:"+n.Value, n.Name, n.Detail)
		}
		for _, n := range st.Meant("group", q, limit) {
			add("group:"+n.Value, n.Name, n.Detail)
		}
		if guests {
			for _, n := range st.Find(q, limit*2, "who") {
				if strings.Contains(n.Value, "@") && !strings.HasPrefix(n.Value, "*@") {
					add(n.Value, n.Name, n.Detail)
				}
			}
		}
	case "group", "space", "meeting", "item", "domain_list":
		for _, n := range st.Meant(string(r.Params.Kind), q, 200) {
			if who.Browses(string(r.Params.Kind)) == may.Everything || s.Service.Theirs(st, who.Person, string(r.Params.Kind), n.Value) {
				add(n.Value, n.Name, n.Detail)
			}
		}
	case "action":
		for _, a := range catalogue.Actions() {
			if strings.Contains(a.Name, lower) || strings.Contains(strings.ToLower(a.Title), lower) {
				add(a.Name, a.Title, a.TakesNames())
			}
		}
	case "resource":
		kinds := []string{}
		for k := catalogue.ResourceKind(0); k < catalogue.NumResourceKinds; k++ {
			kinds = append(kinds, k.String())
		}
		if a, ok := catalogue.ActionByName(opt(r.Params.Action)); ok {
			kinds = kinds[:0]
			for _, k := range a.On {
				kinds = append(kinds, k.String())
			}
		}
		if guests {
			named(kinds...)
			break
		}
		for _, n := range st.Find(q, 10000, kinds...) { // a member sees what is theirs
			if r, err := engine.ParseResource(n.Value); err == nil &&
				(st.BelongsTo(whoIs(ctx).Person, r) || r.Kind == catalogue.OurDirectory) {
				add(n.Value, n.Name, n.Detail)
			}
		}
	case "rule":
		for i := range catalogue.Rules() {
			if x := &catalogue.Rules()[i]; strings.Contains(x.Name, lower) || strings.Contains(strings.ToLower(x.Title), lower) {
				add(x.Name, x.Title, "")
			}
		}
	case "partner":
		for i := range st.Policy().Partners {
			if p := &st.Policy().Partners[i]; who.Browses("partner") == may.Everything &&
				(strings.Contains(p.ID, lower) || strings.Contains(strings.ToLower(p.Name), lower)) {
				add(p.ID, p.Name, world.StandingNames[p.Standing])
			}
		}
	case "bundle":
		for i := range st.Policy().Bundles {
			if b := &st.Policy().Bundles[i]; who.Browses("bundle") == may.Everything &&
				(strings.Contains(b.ID, lower) || strings.Contains(strings.ToLower(b.Name), lower)) {
				add(b.ID, b.Name, strings.Join(b.Partners, ", "))
			}
		}
	case "domain":
		for i := range st.Policy().Partners {
			for _, d := range st.Policy().Partners[i].Domains {
				if who.Browses("domain") == may.Everything && strings.Contains(d.Domain.String(), lower) {
					add(d.Domain.String(), st.Policy().Partners[i].Name, "")
				}
			}
		}
	}
	return out, nil
}
