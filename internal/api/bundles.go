package api

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/check"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
)

// mostHoldings is how many who hold a bundle come with it.
const mostHoldings = 1000

func giftsOut(st *service.State, gives []world.Gift) []contract.Gift {
	out := []contract.Gift{}
	for _, g := range gives {
		out = append(out, contract.Gift{Resource: g.Resource.String(), Name: cmp.Or(st.NameOf(g.Resource), g.Resource.String()),
			Role: contract.GiftRole(g.Role.String())})
	}
	return out
}

func lessIn(list *[]contract.BundleLess) (out []service.Less) {
	if list != nil {
		for _, l := range *list {
			out = append(out, service.Less{Resource: l.Resource, Role: opt(l.Role)})
		}
	}
	return out
}

func daysOut(v catalogue.Value) *int {
	if v == catalogue.Unset || v == catalogue.NoLimit {
		return nil
	}
	return ptr(int(v))
}

func holdingOut(st *service.State, b *world.Bundle, h *world.Holding) contract.Holding {
	out := contract.Holding{Party: h.Party.String(), Bundle: h.Bundle, From: h.From.String(), Until: said(h.Until), Sponsor: some(h.Sponsor),
		Gives: []contract.Gift{}}
	if h.Reviewed != moment.Always {
		out.Reviewed = ptr(h.Reviewed.String())
	}
	for _, g := range b.Grants(h) {
		out.Gives = append(out.Gives, giftsOut(st, []world.Gift{{Resource: g.Resource, Role: g.Role}})...)
	}
	if len(h.Less) > 0 {
		out.Less = &[]contract.BundleLess{}
		for _, l := range h.Less {
			x := contract.BundleLess{Resource: l.Resource.String()}
			if l.Role != catalogue.NoRole {
				x.Role = ptr(l.Role.String())
			}
			*out.Less = append(*out.Less, x)
		}
	}
	return out
}

func bundleOut(st *service.State, b *world.Bundle, held, asked int) contract.Bundle {
	out := contract.Bundle{Id: b.ID, Name: b.Name, Gives: giftsOut(st, b.Gives), Partners: append([]string{}, b.Partners...), Others: b.Others,
		Closed:   b.Closed,
		Approval: append([]string{}, b.Approval...), Questions: append([]string{}, b.Questions...), TermDays: daysOut(b.TermDays),
		ReviewDays: daysOut(b.ReviewDays),
		NotWith:    append([]string{}, b.NotWith...), Extend: contract.BundleExtendApproved, Etag: service.BundleEtag(b),
		Held: held, Asked: asked}
	if b.Silent {
		out.Extend = contract.BundleExtendSilent
	}
	out.PartnerNames = []string{}
	for _, id := range b.Partners {
		name := id
		if p, err := st.Partner(id); err == nil {
			name = p.Name
		}
		out.PartnerNames = append(out.PartnerNames, name)
	}
	return out
}

// askedFor counts the requests for bundles that nobody answered yet.
func (s *server) askedFor(ctx context.Context) (map[string]int, error) {
	all, err := s.Service.Requests(ctx, service.Who{Name: "wexillum", Role: service.Administrator}, false)
	out := map[string]int{}
	for i := range all {
		if b := all[i].Bundle; b != nil && all[i].State == service.RequestOpen {
			out[b.Bundle]++
		}
	}
	return out, err
}

func (s *server) ListBundles(ctx context.Context, _ apigen.ListBundlesRequestObject) (apigen.ListBundlesResponseObject, error) {
	st, err := s.Service.StateIn(ctx)
	if err != nil {
		return nil, err
	}
	asked, err := s.askedFor(ctx)
	if err != nil {
		return nil, err
	}
	at, held := s.Service.Now(), map[string]int{}
	st.EachHolding(func(h *world.Holding) {
		if h.Until > at {
			held[h.Bundle]++
		}
	})
	out := apigen.ListBundles200JSONResponse{Bundles: []contract.Bundle{}, Revision: int(st.Head.Revision)}
	for i := range st.Policy().Bundles {
		b := &st.Policy().Bundles[i]
		out.Bundles = append(out.Bundles, bundleOut(st, b, held[b.ID], asked[b.ID]))
	}
	slices.SortFunc(out.Bundles, func(a, b contract.Bundle) int { return cmp.Compare(strings.ToLower(a.Name), strings.ToLower(b.Name)) })
	return out, nil
}

// oneBundle writes a bundle with all that is told of one.
func (s *server) oneBundle(ctx context.Context, id string) (out contract.Bundle, err error) {
	st, err := s.Service.StateIn(ctx)
	if err != nil {
		return out, err
	}
	b, err := st.Bundle(id)
	if err != nil {
		return out, err
	}
	asked, err := s.askedFor(ctx)
	if err != nil {
		return out, err
	}
	at := s.Service.Now()
	held := st.Holders(id, at)
	out = bundleOut(st, b, len(held), asked[id])
	list := []contract.Holding{}
	for i := range held[:min(len(held), mostHoldings)] {
		list = append(list, holdingOut(st, b, &held[i]))
	}
	out.Holdings = &list
	opens, err := s.bundleOpens(st, b, at)
	out.Opens = &opens
	return out, err
}

// bundleOpens says what a bundle would open for a typical person of each partner, and for one of none.
func (s *server) bundleOpens(st *service.State, b *world.Bundle, at moment.Moment) ([]contract.BundleOpens, error) {
	out := []contract.BundleOpens{}
	one := func(partner, name string, domain addr.Domain) error {
		a, err := check.TypicalOf(domain)
		if err != nil {
			return err
		}
		x := contract.BundleOpens{Partner: partner, Name: name}
		why, err := st.BundleShut(b, a, at)
		if err != nil {
			return err
		}
		x.Shut = some(why)
		would, closed, err := check.BundleOpens(st.Snapshot, b, a, at)
		if err != nil {
			return err
		}
		x.Granted, x.Wide = service.Opened(would)
		var shut []string
		for _, r := range closed {
			shut = append(shut, cmp.Or(st.NameOf(r), r.String()))
		}
		if len(shut) > 0 {
			x.Closed = &shut
		}
		out = append(out, x)
		return nil
	}
	for _, id := range b.Partners {
		p, err := st.Partner(id)
		if err != nil || len(p.Domains) == 0 {
			continue
		}
		if err := one(id, p.Name, p.Domains[0].Domain); err != nil {
			return nil, err
		}
	}
	if b.Others {
		unknown, err := addr.ParseDomain("nobody-we-know.example")
		if err == nil {
			err = one("", "Others", unknown)
		}
		return out, err
	}
	return out, nil
}

func (s *server) GetBundle(ctx context.Context, r apigen.GetBundleRequestObject) (apigen.GetBundleResponseObject, error) {
	out, err := s.oneBundle(ctx, r.Id)
	return apigen.GetBundle200JSONResponse{Body: out, Headers: apigen.GetBundle200ResponseHeaders{ETag: &out.Etag}}, err
}

// bundlePatch writes the fields of a bundle as the file format has them.
func bundlePatch(doc map[string]any) error {
	who := map[string]any{}
	for _, k := range []string{"partners", "others"} {
		if v, ok := doc[k]; ok {
			who[k] = v
			delete(doc, k)
		}
	}
	if len(who) > 0 {
		doc["who"] = who
	}
	for m, names := range map[*map[string]any][]string{&who: {"others"}, &doc: {"closed"}} {
		for _, k := range names {
			if v, ok := (*m)[k].(bool); ok {
				(*m)[k] = map[bool]string{true: "yes", false: "no"}[v]
			}
		}
	}
	for _, k := range []string{"term_days", "review_days"} {
		switch v := doc[k].(type) {
		case nil, string:
		case float64, json.Number:
			doc[k] = fmt.Sprint(v)
		default:
			return &service.Invalid{Field: k, Value: fmt.Sprint(v), Reason: "write a number of days, or null for as long as the rules let"}
		}
	}
	return nil
}

func (s *server) AddBundle(ctx context.Context, r apigen.AddBundleRequestObject) (apigen.AddBundleResponseObject, error) {
	st, err := s.Service.StateIn(ctx)
	if err != nil {
		return nil, err
	}
	text, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	var doc map[string]any
	if err := json.Unmarshal(text, &doc); err != nil {
		return nil, err
	}
	id := opt(r.Body.Id)
	if id == "" {
		id = service.IDFor(r.Body.Name, func(id string) bool { _, err := st.Bundle(id); return err == nil })
	}
	doc["id"] = id
	delete(doc, "why")
	if err := bundlePatch(doc); err != nil {
		return nil, err
	}
	if text, err = json.Marshal(doc); err != nil {
		return nil, err
	}
	if err := s.Service.AddBundle(ctx, whoIs(ctx).Name, cause(r.Body.Why), text, id); err != nil {
		return nil, err
	}
	out, err := s.oneBundle(ctx, id)
	return apigen.AddBundle201JSONResponse{Body: out, Headers: apigen.AddBundle201ResponseHeaders{ETag: &out.Etag}}, err
}

func (s *server) SetBundle(ctx context.Context, r apigen.SetBundleRequestObject) (apigen.SetBundleResponseObject, error) {
	doc, why, err := recordPatch(*r.Body)
	if err != nil {
		return nil, err
	}
	if err := bundlePatch(doc); err != nil {
		return nil, err
	}
	patch, err := json.Marshal(doc)
	if err != nil {
		return nil, err
	}
	if err := s.Service.PatchBundle(ctx, whoIs(ctx).Name, cause(why), r.Id, patch, opt(r.Params.IfMatch)); err != nil {
		return nil, err
	}
	x, err := s.oneBundle(ctx, r.Id)
	return apigen.SetBundle200JSONResponse{Body: x, Headers: apigen.SetBundle200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) RemoveBundle(ctx context.Context, r apigen.RemoveBundleRequestObject) (apigen.RemoveBundleResponseObject, error) {
	return apigen.RemoveBundle204Response{}, s.Service.RemoveBundle(ctx, whoIs(ctx).Name, opt(r.Params.Why), r.Id, opt(r.Params.IfMatch))
}

func (s *server) EndHolding(ctx context.Context, r apigen.EndHoldingRequestObject) (apigen.EndHoldingResponseObject, error) {
	preview := r.Params.Preview != nil && *r.Params.Preview
	x, err := s.Service.EndHolding(ctx, whoIs(ctx), service.HoldingEnd{Address: r.Body.Address, Bundle: r.Body.Bundle,
		Resource: opt(r.Body.Resource), Why: cause(r.Body.Why)}, preview)
	if err != nil {
		return nil, err
	}
	return apigen.EndHolding200JSONResponse(placesOut(x, preview)), nil
}

// askedOut writes a bundle that is asked for.
func (s *server) askedOut(ctx context.Context, st *service.State, r *service.Request) contract.BundleAsked {
	x := r.Bundle
	out := contract.BundleAsked{Bundle: x.Bundle, Address: x.Address, Sponsor: some(x.Sponsor), Asked: append([]string{}, x.Asked...),
		Said: append([]string{}, x.Said...), Less: []contract.BundleLess{}, Steps: []contract.BundleStep{}, May: st.MayApprove(r, whoIs(ctx))}
	if until, err := moment.Parse(x.Until); err == nil {
		out.Until = said(until)
	}
	for _, l := range x.Less {
		out.Less = append(out.Less, contract.BundleLess{Resource: l.Resource, Role: some(l.Role)})
	}
	if b, err := st.Bundle(x.Bundle); err == nil {
		gives := giftsOut(st, b.Gives)
		out.Name, out.Gives = some(b.Name), &gives
	}
	for i := range x.Steps {
		a := &x.Steps[i]
		step := contract.BundleStep{At: some(a.At), By: a.By, Given: some(a.Given), Who: namesOf(st, a.Who)}
		if a.For != "" {
			step.For = ptr(st.WhoInWords("owner:" + a.For))
		}
		if now, err := s.Service.Deciding(ctx, st, x, a); err == nil && a.Given == "" && !slices.Equal(now, a.Who) {
			step.Deciding = ptr(namesOf(st, now))
		}
		out.Steps = append(out.Steps, step)
	}
	return out
}

func namesOf(st *service.State, who []string) []string {
	out := []string{}
	for _, w := range who {
		out = append(out, st.WhoInWords(w))
	}
	return out
}

func bundleRequestOut(st *service.State, r *service.Request) contract.BundleRequest {
	name := r.Bundle.Bundle
	if b, err := st.Bundle(name); err == nil {
		name = b.Name
	}
	out := contract.BundleRequest{Id: r.ID, Name: name, Made: r.Made, State: contract.BundleRequestState(r.State), Answer: some(r.Answer)}
	if until, err := moment.Parse(r.Bundle.Until); err == nil {
		out.Until = said(until)
	}
	return out
}

// askable asks for a bundle, where one is named, and tells what an address may ask for.
func (s *server) askable(ctx context.Context, who service.Who, ask *contract.BundleAsk) (out contract.Askable, err error) {
	a, err := addr.Parse(who.Guest)
	if err != nil {
		return out, service.ErrDenied
	}
	if id := opt(ask.Withdraw); id != "" {
		if _, err := s.Service.RequestOfGuest(ctx, who, id); err != nil {
			return out, err
		}
		if _, err := s.Service.WithdrawRequest(ctx, who, id); err != nil {
			return out, err
		}
	}
	if id := opt(ask.Bundle); id != "" {
		if !s.doorTries.allow("bundle for "+who.Guest, s.Clock()) { // each asks somebody by mail
			return out, service.ErrTooMany
		}
		if _, err := s.Service.AskBundle(ctx, who, service.BundleAsk{Bundle: id, Address: who.Guest, Language: opt(ask.Language),
			Answers: *cmp.Or(ask.Answers, &[]string{}), Purpose: opt(ask.Purpose), Until: opt(ask.Until)}); err != nil {
			return out, err
		}
	}
	list, past, err := s.Service.BundlesFor(ctx, a)
	if err != nil {
		return out, err
	}
	st, at := s.Service.State(), s.Service.Now()
	out = contract.Askable{Address: a.String(), Bundles: []contract.BundleFor{}, Past: []contract.BundleRequest{}}
	for i := range list {
		b := &list[i]
		x := contract.BundleFor{Id: b.ID, Name: b.Name, Gives: giftsOut(st, b.Gives), Questions: append([]string{}, b.Questions...),
			Shut: some(b.Shut), Most: said(st.Term(b.Bundle, at))}
		if b.Holding != nil {
			x.Holds, x.Until, x.Gives = ptr(true), said(b.Holding.Until), holdingOut(st, b.Bundle, b.Holding).Gives
			if b.Silent {
				x.Extends = ptr(true)
			}
		}
		if b.Open != nil {
			x.Asked = ptr(bundleRequestOut(st, b.Open))
		}
		out.Bundles = append(out.Bundles, x)
	}
	for i := range past[:min(len(past), 20)] {
		out.Past = append(out.Past, bundleRequestOut(st, &past[i]))
	}
	return out, nil
}

// provedHere is who proved an address in this browser a moment ago.
func (s *server) provedHere(ctx context.Context) (service.Who, error) {
	address := s.doors.GetString(ctx, "proved")
	if at := time.Unix(s.doors.GetInt64(ctx, "proved_at"), 0); address == "" || s.Clock().Sub(at) > provedHolds {
		return service.Who{}, service.ErrDenied
	}
	return service.Who{Name: service.GuestName(address), Role: service.RoleGuest, Guest: address}, nil
}

func (s *server) DoorBundles(ctx context.Context, r apigen.DoorBundlesRequestObject) (apigen.DoorBundlesResponseObject, error) {
	if err := s.doorOften(ctx, "bundles"); err != nil {
		return nil, err
	}
	who, err := s.provedHere(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.askable(ctx, who, r.Body)
	if err != nil {
		return nil, err
	}
	return apigen.DoorBundles200JSONResponse(out), nil
}

func (s *server) OwnBundles(ctx context.Context, r apigen.OwnBundlesRequestObject) (apigen.OwnBundlesResponseObject, error) {
	out, err := s.askable(ctx, whoIs(ctx), r.Body)
	if err != nil {
		return nil, err
	}
	return apigen.OwnBundles200JSONResponse(out), nil
}
