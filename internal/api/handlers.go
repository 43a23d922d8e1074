package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"runtime"
	"slices"
	"sort"
	"strconv"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

func ptr[T any](v T) *T { return &v }

func opt[T ~string](p *T) string {
	if p == nil {
		return ""
	}
	return string(*p)
}

func some(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// yes is left out where it is not so.
func yes(b bool) *bool {
	if !b {
		return nil
	}
	return &b
}

// cause is the reason for a change as the journal keeps it.
func cause(why *contract.Why) string { return strings.TrimSpace(opt(why)) }

func (s *server) session(ctx context.Context, who service.Who) contract.Session {
	name := ""
	if o := s.state(ctx).Policy().Organisation; o != nil {
		name = o.Name
	}
	return contract.Session{Name: who.Name, Role: contract.SessionRole(who.Role), Person: some(who.Person), Csrf: s.sessions.GetString(ctx, "csrf"), Organisation: name, Zone: ptr(s.state(ctx).Zone().String()), Demo: s.Demo}
}

func (s *server) GetSession(ctx context.Context, _ apigen.GetSessionRequestObject) (apigen.GetSessionResponseObject, error) {
	return apigen.GetSession200JSONResponse(s.session(ctx, whoIs(ctx))), nil
}

// tooOften is nil where one more try is allowed.
func (s *server) tooOften(ctx context.Context, name string) *contract.Problem {
	if s.signIns.allow(strings.ToLower(name), sourceOf(ctx), s.Clock()) {
		return nil
	}
	ctx.Value(writerKey).(http.ResponseWriter).Header().Set("Retry-After", "60")
	return ptr(problemOften.with("wait a minute before the next try"))
}

// begin begins the session of somebody who proved who they are. A session known before signing
// in is worth nothing.
func (s *server) begin(ctx context.Context, who service.Who) error {
	if err := s.sessions.RenewToken(ctx); err != nil {
		return err
	}
	s.sessions.Put(ctx, "account", who.Name)
	s.sessions.Put(ctx, "since", who.Since)
	s.sessions.Put(ctx, "csrf", rand.Text())
	return s.saveSession(ctx)
}

func (s *server) SignIn(ctx context.Context, r apigen.SignInRequestObject) (apigen.SignInResponseObject, error) {
	if p := s.tooOften(ctx, r.Body.Name); p != nil {
		return apigen.SignIndefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	who, err := s.Service.SignIn(ctx, r.Body.Name, r.Body.Password, service.WayConsole, sourceOf(ctx))
	if err != nil {
		return nil, err
	}
	s.signIns.in(strings.ToLower(r.Body.Name), sourceOf(ctx))
	if err := s.begin(ctx, who); err != nil {
		return nil, err
	}
	return apigen.SignIn200JSONResponse(s.session(ctx, who)), nil
}

func (s *server) SignOut(ctx context.Context, _ apigen.SignOutRequestObject) (apigen.SignOutResponseObject, error) {
	if err := s.sessions.Destroy(ctx); err != nil {
		return nil, err
	}
	return apigen.SignOut204Response{}, s.saveSession(ctx)
}

func (s *server) EndOwnSessions(ctx context.Context, _ apigen.EndOwnSessionsRequestObject) (apigen.EndOwnSessionsResponseObject, error) {
	who := whoIs(ctx)
	if err := s.Service.EndSessions(ctx, who, who.Name, "signed out everywhere"); err != nil {
		return nil, err
	}
	if who.Token != "" {
		return apigen.EndOwnSessions204Response{}, nil
	}
	if err := s.sessions.Destroy(ctx); err != nil {
		return nil, err
	}
	return apigen.EndOwnSessions204Response{}, s.saveSession(ctx)
}

func (s *server) EndSessions(ctx context.Context, r apigen.EndSessionsRequestObject) (apigen.EndSessionsResponseObject, error) {
	return apigen.EndSessions204Response{}, s.Service.EndSessions(ctx, whoIs(ctx), r.Name, cause(r.Body.Why))
}

func (s *server) SetOwnPassword(ctx context.Context, r apigen.SetOwnPasswordRequestObject) (apigen.SetOwnPasswordResponseObject, error) {
	who := whoIs(ctx)
	if p := s.tooOften(ctx, who.Name); p != nil {
		return apigen.SetOwnPassworddefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	since, err := s.Service.SetPassword(ctx, who, r.Body.Old, r.Body.New, sourceOf(ctx))
	if err != nil {
		return nil, err
	}
	if who.Token != "" { // the client's ended, too
		return apigen.SetOwnPassword204Response{}, nil
	}
	who.Since = since
	csrf := s.sessions.GetString(ctx, "csrf") // the page goes on
	if err := s.begin(ctx, who); err != nil {
		return nil, err
	}
	s.sessions.Put(ctx, "csrf", csrf)
	return apigen.SetOwnPassword204Response{}, s.saveSession(ctx)
}

func newToken(text string, t service.Token) contract.NewToken {
	return contract.NewToken{Token: text, Id: t.ID, Expires: t.Expires}
}

func (s *server) MakeToken(ctx context.Context, r apigen.MakeTokenRequestObject) (apigen.MakeTokenResponseObject, error) {
	if p := s.tooOften(ctx, r.Body.Name); p != nil {
		return apigen.MakeTokendefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	who, err := s.Service.SignIn(ctx, r.Body.Name, r.Body.Password, service.WayClient, sourceOf(ctx))
	if err != nil {
		return nil, err
	}
	s.signIns.in(strings.ToLower(r.Body.Name), sourceOf(ctx))
	text, t, err := s.Service.ClientToken(ctx, who)
	if err != nil {
		return nil, err
	}
	return apigen.MakeToken201JSONResponse(newToken(text, t)), nil
}

func (s *server) MakeServiceToken(ctx context.Context, r apigen.MakeServiceTokenRequestObject) (apigen.MakeServiceTokenResponseObject, error) {
	text, t, err := s.Service.MakeToken(ctx, whoIs(ctx), r.Body.Name, string(r.Body.Purpose), time.Duration(r.Body.Days)*24*time.Hour)
	if err != nil {
		return nil, err
	}
	return apigen.MakeServiceToken201JSONResponse(newToken(text, t)), nil
}

func (s *server) ListTokens(ctx context.Context, _ apigen.ListTokensRequestObject) (apigen.ListTokensResponseObject, error) {
	ts, err := s.Service.Tokens(ctx, whoIs(ctx))
	out := apigen.ListTokens200JSONResponse{Tokens: []contract.Token{}}
	for _, t := range ts {
		out.Tokens = append(out.Tokens, contract.Token{Id: t.ID, Name: t.Name, Account: t.Account, Purpose: t.Purpose, Made: t.Made, Expires: t.Expires})
	}
	return out, err
}

func (s *server) EndToken(ctx context.Context, r apigen.EndTokenRequestObject) (apigen.EndTokenResponseObject, error) {
	return apigen.EndToken204Response{}, s.Service.EndToken(ctx, whoIs(ctx), r.Id)
}

func (s *server) ListAccounts(ctx context.Context, _ apigen.ListAccountsRequestObject) (apigen.ListAccountsResponseObject, error) {
	as, err := s.Service.Accounts(ctx)
	out := apigen.ListAccounts200JSONResponse{Accounts: []contract.Account{}}
	for _, a := range as {
		out.Accounts = append(out.Accounts, contract.Account{Name: a.Name, Role: contract.Role(a.Role), Person: a.Person, Disabled: a.Disabled})
	}
	return out, err
}

func (s *server) PutAccount(ctx context.Context, r apigen.PutAccountRequestObject) (apigen.PutAccountResponseObject, error) {
	b := r.Body
	a := service.Account{Name: r.Name, Role: string(b.Role), Person: opt(b.Person), Disabled: b.Disabled != nil && *b.Disabled}
	if err := s.Service.PutAccount(ctx, whoIs(ctx).Name, cause(b.Why), a, opt(b.Password)); err != nil {
		return nil, err
	}
	return apigen.PutAccount200JSONResponse{Name: a.Name, Role: b.Role, Person: a.Person, Disabled: a.Disabled}, nil
}

// mayAsk keeps a member to own spaces, own guests and oneself.
func (s *server) mayAsk(ctx context.Context, st *service.State, who engine.Who, resource *world.Resource) error {
	me := whoIs(ctx)
	if me.Role != service.Member {
		return nil
	}
	switch who.Kind {
	case engine.ByPerson:
		if who.ID == me.Person {
			return nil
		}
	case engine.ByAddress:
		if p := st.PersonAt(who.Address); p != "" && p == me.Person {
			return nil
		}
		sponsor, err := s.Service.SponsorOf(ctx, who.Address)
		if err != nil {
			return err
		}
		if sponsor == me.Person && sponsor != "" {
			return nil
		}
	}
	if resource != nil && st.BelongsTo(me.Person, *resource) {
		return nil
	}
	return fmt.Errorf("%w: members ask about themselves, their own spaces and their own guests", errForbidden)
}

func (s *server) Ask(ctx context.Context, r apigen.AskRequestObject) (apigen.AskResponseObject, error) {
	v, st, err := s.when(ctx, r.Body.At)
	if err != nil {
		return nil, err
	}
	q, err := answer.Question(r.Body, st.Snapshot, s.Service.Now())
	if err != nil {
		return nil, err
	}
	if err := s.mayAsk(ctx, st, q.Subject, &q.Resource); err != nil {
		return nil, err
	}
	x, err := st.Explain(&q)
	if err != nil {
		return nil, err
	}
	s.metrics.decided(q.Action.String(), x.Yes())
	return apigen.Ask200JSONResponse(answer.Of(st.Snapshot, x, v.Revision)), nil
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
	member := whoIs(ctx).Role == service.Member
	switch r.Params.Kind {
	case "who":
		if member { // a member does not browse the guests of others
			me := whoIs(ctx).Person
			add("person:"+me, st.NameOf(world.Resource{Kind: catalogue.Person, ID: me}), "yourself")
			break
		}
		named("who")
	case "address":
		if !member {
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
		if !member {
			named(kinds...)
			break
		}
		for _, n := range st.Find(q, 10000, kinds...) { // a member sees what is theirs
			if r, err := engine.ParseResource(n.Value); err == nil && (st.BelongsTo(whoIs(ctx).Person, r) || r.Kind == catalogue.OurDirectory) {
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
			if p := &st.Policy().Partners[i]; !member && (strings.Contains(p.ID, lower) || strings.Contains(strings.ToLower(p.Name), lower)) {
				add(p.ID, p.Name, world.StandingNames[p.Standing])
			}
		}
	case "bundle":
		for i := range st.Policy().Bundles {
			if b := &st.Policy().Bundles[i]; !member && (strings.Contains(b.ID, lower) || strings.Contains(strings.ToLower(b.Name), lower)) {
				add(b.ID, b.Name, strings.Join(b.Partners, ", "))
			}
		}
	case "domain":
		for i := range st.Policy().Partners {
			for _, d := range st.Policy().Partners[i].Domains {
				if !member && strings.Contains(d.Domain.String(), lower) {
					add(d.Domain.String(), st.Policy().Partners[i].Name, "")
				}
			}
		}
	}
	return out, nil
}

func (s *server) ListActions(context.Context, apigen.ListActionsRequestObject) (apigen.ListActionsResponseObject, error) {
	return apigen.ListActions200JSONResponse{Actions: answer.Actions()}, nil
}

func (s *server) ListRules(ctx context.Context, r apigen.ListRulesRequestObject) (apigen.ListRulesResponseObject, error) {
	st := s.state(ctx)
	var only []*catalogue.Rule
	if f := strings.TrimSpace(opt(r.Params.Find)); f != "" {
		only = catalogue.Find(f)
	} else {
		for i := range catalogue.Rules() {
			only = append(only, &catalogue.Rules()[i])
		}
	}
	return apigen.ListRules200JSONResponse{Rules: answer.Rules(st.Snapshot, only, s.Service.Now(), st.RuleEtag)}, nil
}

func (s *server) rule(ctx context.Context, name string) (contract.Rule, error) {
	st := s.state(ctx)
	r, ok := catalogue.RuleByName(name)
	if !ok {
		hint := ""
		if n := catalogue.Nearest(name); n != "" {
			hint = "; do you mean " + n + "?"
		}
		return contract.Rule{}, fmt.Errorf("%w: there is no rule %q%s", service.ErrNotFound, name, hint)
	}
	return answer.Rules(st.Snapshot, []*catalogue.Rule{r}, s.Service.Now(), st.RuleEtag)[0], nil
}

func (s *server) GetRule(ctx context.Context, r apigen.GetRuleRequestObject) (apigen.GetRuleResponseObject, error) {
	x, err := s.rule(ctx, r.Rule)
	return apigen.GetRule200JSONResponse{Body: x, Headers: apigen.GetRule200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) SetRule(ctx context.Context, r apigen.SetRuleRequestObject) (apigen.SetRuleResponseObject, error) {
	b := r.Body
	err := s.Service.SetRule(ctx, whoIs(ctx).Name, cause(b.Why), service.RuleChange{Rule: r.Rule, Limit: opt(b.Limit), Default: opt(b.Default), Held: b.Held != nil && *b.Held, IfMatch: opt(r.Params.IfMatch)})
	if err != nil {
		return nil, err
	}
	x, err := s.rule(ctx, r.Rule)
	return apigen.SetRule200JSONResponse{Body: x, Headers: apigen.SetRule200ResponseHeaders{ETag: &x.Etag}}, err
}

func (s *server) partnerOut(st *service.State, p *world.Partner) contract.Partner {
	out := contract.Partner{Id: p.ID, Name: p.Name, Domains: []contract.DomainEntry{}, Standing: contract.PartnerStanding(world.StandingNames[p.Standing]), Owner: some(p.Owner), Note: some(p.Note), StandingReason: some(p.StandingReason), Statement: some(p.Statement), SignIn: some(p.SignIn), SignInClient: some(p.SignInClient), SignInUnverified: yes(p.SignInUnverified),
		Opened: map[string]bool{}, Rules: map[string]contract.SetValue{}, Stance: []contract.Stance{}, Etag: service.PartnerEtag(p)}
	if p.StandingSince.IsSet() {
		out.StandingSince = ptr(p.StandingSince.String())
	}
	if p.Review.IsSet() && p.Review != moment.Never {
		out.Review = ptr(moment.DayOf(p.Review, st.Zone()).String())
	}
	if len(p.Contacts) > 0 {
		out.Contacts = &p.Contacts
	}
	if len(p.AlsoNamed) > 0 {
		out.AlsoNamed = &p.AlsoNamed
	}
	for _, d := range p.Domains {
		e := contract.DomainEntry{Name: d.Domain.String()}
		if d.Subdomains {
			e.Subdomains = ptr(true)
		}
		if d.LookAlike {
			e.LookAlike = ptr(true)
		}
		out.Domains = append(out.Domains, e)
	}
	for k, o := range p.Opened {
		if o != world.OpenUnset {
			out.Opened[catalogue.Key(k).String()] = o == world.OpenYes
		}
	}
	for _, x := range p.Rules {
		out.Rules[x.Rule.String()] = answer.SetValue(x)
	}
	for _, x := range p.Stance {
		e := contract.Stance{Key: x.Key.String(), Says: world.SaysNames[x.Says], Source: some(x.Source)}
		if x.AsOf.IsSet() {
			e.AsOf = ptr(x.AsOf.String())
		}
		if x.Until != moment.Never {
			e.Until = ptr(x.Until.String())
		}
		e.SaidBy, e.Features = some(x.Said), featuresOut(x.Features)
		out.Stance = append(out.Stance, e)
	}
	out.Counts = countsOut(st.Concerned(p.ID))
	return out
}

func countsOut(c engine.Concerns) contract.PartnerCounts {
	return contract.PartnerCounts{Guests: c.Guests, Grants: c.Grants, Spaces: c.Spaces}
}

// weighed is a partner after a change, or as a preview would have it, with whom
// and what the change concerns.
func (s *server) weighed(w service.Weighed, id string, err error) (contract.Partner, error) {
	if err != nil {
		return contract.Partner{}, err
	}
	p, err := w.State.Partner(id)
	if err != nil {
		return contract.Partner{}, err
	}
	out := s.partnerOut(w.State, p)
	out.Concerns = ptr(countsOut(w.Concerns))
	return out, nil
}

// by says who makes a change.
func by(ctx context.Context, why *contract.Why, ifMatch *string, preview *bool) service.By {
	return service.By{Who: whoIs(ctx).Name, Why: cause(why), IfMatch: opt(ifMatch), Preview: preview != nil && *preview}
}

func (s *server) partner(ctx context.Context, id string) (contract.Partner, error) {
	st := s.state(ctx)
	p, err := st.Partner(id)
	if err != nil {
		return contract.Partner{}, err
	}
	return s.partnerOut(st, p), nil
}

// cursor turns the last key of a page into what the next request sends back.
func cursor(key string) string { return base64.RawURLEncoding.EncodeToString([]byte(key)) }

func readCursor(p *string) (string, error) {
	if p == nil {
		return "", nil
	}
	b, err := base64.RawURLEncoding.DecodeString(*p)
	if err != nil {
		return "", &service.Invalid{Field: "cursor", Value: *p, Reason: "send what the page before gave as next"}
	}
	return string(b), nil
}

func pageSize(p *int, start int) int {
	if p == nil {
		return start
	}
	return *p
}

func (s *server) ListPartners(ctx context.Context, r apigen.ListPartnersRequestObject) (apigen.ListPartnersResponseObject, error) {
	st := s.state(ctx)
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q, limit := strings.ToLower(opt(r.Params.Q)), pageSize(r.Params.Limit, 100)
	var hits []*world.Partner
	total := 0
	for i := range st.Policy().Partners {
		p := &st.Policy().Partners[i]
		match := strings.Contains(p.ID, q) || strings.Contains(strings.ToLower(p.Name), q)
		for _, n := range p.AlsoNamed {
			match = match || strings.Contains(strings.ToLower(n), q)
		}
		for _, d := range p.Domains {
			match = match || strings.Contains(d.Domain.String(), q)
		}
		if match {
			total++
			if p.ID > after {
				hits = append(hits, p)
			}
		}
	}
	sort.Slice(hits, func(i, j int) bool { return hits[i].ID < hits[j].ID })
	out := apigen.ListPartners200JSONResponse{Partners: []contract.Partner{}, Total: total}
	for i, p := range hits {
		if i == limit {
			out.Next = cursor(hits[i-1].ID)
			break
		}
		out.Partners = append(out.Partners, s.partnerOut(st, p))
	}
	return out, nil
}

// nearest says which rule may be meant.
func nearest(name string) string {
	if n := catalogue.Nearest(name); n != "" {
		return "; do you mean " + n + "?"
	}
	return ""
}

// rulesDoc writes values by rule as the file format has them.
func rulesDoc(set map[string]contract.SetValue) (map[string]any, error) {
	rules := map[string]any{}
	for name, v := range set {
		r, ok := catalogue.RuleByName(name)
		if !ok {
			return nil, &service.Invalid{Field: "rules", Value: name, Reason: "there is no such rule" + nearest(name)}
		}
		var value any = v.Value
		if r.Scale.Shape == catalogue.Methods && v.Value != "all" {
			list := []string{}
			for _, w := range strings.Split(v.Value, ",") {
				if w = strings.TrimSpace(w); w != "" {
					list = append(list, w)
				}
			}
			value = list
		}
		if v.Held != nil && *v.Held {
			value = map[string]any{"value": value, "held": "yes"}
		}
		rules[name] = value
	}
	return rules, nil
}

// partnerPatch writes what a request wants otherwise of a partner as a merge patch (RFC 7396) of
// its record in the file format, and takes out the reason. The contract's names are the format's but
// for those here.
func partnerPatch(body map[string]any) (patch []byte, why *string, err error) {
	doc := map[string]any{}
	signIn := map[string]any{}
	for k, v := range body {
		if v == "" { // nothing is written in it
			v = nil
		}
		switch k {
		case "why":
			text, ok := v.(string)
			if v != nil && !ok || len(text) > 2000 {
				return nil, nil, &service.Invalid{Field: "why", Value: fmt.Sprint(v), Reason: "say why in at most 2000 letters"}
			}
			why = some(text)
		case "contacts":
			doc["contact"] = v
		case "sign_in":
			if signIn["issuer"] = v; v == nil {
				doc["sign_in"] = nil
			}
		case "sign_in_client":
			signIn["client"] = v
		case "sign_in_unverified":
			signIn["unverified"] = v
		case "stance":
			return nil, nil, &service.Invalid{Field: k, Value: fmt.Sprint(v), Reason: "stances are recorded one by one, at /api/v1/partners/{id}/stances/{key}"}
		case "rules":
			set, ok := v.(map[string]any)
			if !ok && v != nil {
				return nil, nil, &service.Invalid{Field: k, Value: fmt.Sprint(v), Reason: `write values by rule, as {"spaces.pages": {"value": "on"}}`}
			}
			if doc[k], err = rulesPatch(set); err != nil {
				return nil, nil, err
			}
		default:
			doc[k] = v
		}
	}
	if _, gone := doc["sign_in"]; len(signIn) > 0 && !gone {
		doc["sign_in"] = signIn
	}
	patch, err = json.Marshal(doc)
	return
}

// rulesPatch is rulesDoc for a patch, in which null takes a value away.
func rulesPatch(set map[string]any) (map[string]any, error) {
	given := map[string]contract.SetValue{}
	for name, v := range set {
		var x contract.SetValue
		switch t := v.(type) {
		case nil:
			continue
		case string:
			x.Value = t
		default:
			text, err := json.Marshal(v)
			if err == nil {
				d := json.NewDecoder(bytes.NewReader(text))
				d.DisallowUnknownFields()
				err = d.Decode(&x)
			}
			if err != nil {
				return nil, &service.Invalid{Field: "rules." + name, Value: string(text), Reason: `write {"value": "on"}, or with "held": true`}
			}
		}
		given[name] = x
	}
	doc, err := rulesDoc(given)
	for name, v := range set {
		if v == nil && err == nil {
			doc[name] = nil
		}
	}
	return doc, err
}

func (s *server) AddPartner(ctx context.Context, r apigen.AddPartnerRequestObject) (apigen.AddPartnerResponseObject, error) {
	doc, why, err := partnerPatch(*r.Body)
	if err != nil {
		return nil, err
	}
	id, _ := (*r.Body)["id"].(string)
	w, err := s.Service.AddPartner(ctx, by(ctx, why, nil, r.Params.Preview), id, doc)
	p, err := s.weighed(w, id, err)
	return apigen.AddPartner201JSONResponse{Body: p, Headers: apigen.AddPartner201ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) GetPartner(ctx context.Context, r apigen.GetPartnerRequestObject) (apigen.GetPartnerResponseObject, error) {
	p, err := s.partner(ctx, r.Id)
	return apigen.GetPartner200JSONResponse{Body: p, Headers: apigen.GetPartner200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) SetPartner(ctx context.Context, r apigen.SetPartnerRequestObject) (apigen.SetPartnerResponseObject, error) {
	patch, why, err := partnerPatch(*r.Body)
	if err != nil {
		return nil, err
	}
	w, err := s.Service.PatchPartner(ctx, by(ctx, why, r.Params.IfMatch, r.Params.Preview), r.Id, patch)
	p, err := s.weighed(w, r.Id, err)
	return apigen.SetPartner200JSONResponse{Body: p, Headers: apigen.SetPartner200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) SetStanding(ctx context.Context, r apigen.SetStandingRequestObject) (apigen.SetStandingResponseObject, error) {
	w, err := s.Service.SetStanding(ctx, by(ctx, r.Body.Why, r.Params.IfMatch, r.Params.Preview), r.Id, string(r.Body.Standing))
	p, err := s.weighed(w, r.Id, err)
	return apigen.SetStanding200JSONResponse{Body: p, Headers: apigen.SetStanding200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) AddDomain(ctx context.Context, r apigen.AddDomainRequestObject) (apigen.AddDomainResponseObject, error) {
	b := r.Body
	w, err := s.Service.AddDomain(ctx, by(ctx, b.Why, nil, r.Params.Preview), r.Id, b.Domain, b.Subdomains != nil && *b.Subdomains, b.LookAlike != nil && *b.LookAlike)
	p, err := s.weighed(w, r.Id, err)
	return apigen.AddDomain200JSONResponse{Body: p, Headers: apigen.AddDomain200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) RemoveDomain(ctx context.Context, r apigen.RemoveDomainRequestObject) (apigen.RemoveDomainResponseObject, error) {
	w, err := s.Service.RemoveDomain(ctx, by(ctx, r.Params.Why, nil, r.Params.Preview), r.Id, r.Domain)
	p, err := s.weighed(w, r.Id, err)
	return apigen.RemoveDomain200JSONResponse{Body: p, Headers: apigen.RemoveDomain200ResponseHeaders{ETag: &p.Etag}}, err
}

func (s *server) rearranged(x service.Rearranged, preview *bool, err error) (contract.Rearranged, error) {
	p, err := s.weighed(x.Weighed, x.Partner, err)
	if err != nil {
		return contract.Rearranged{}, err
	}
	out := contract.Rearranged{Partner: p, Preview: preview != nil && *preview, Concerns: countsOut(x.Concerns), Named: []string{}, Differs: []contract.Difference{}}
	for _, id := range x.Moved.Spaces {
		out.Named = append(out.Named, "space:"+id)
	}
	out.Named = append(out.Named, x.Moved.Named...)
	for _, id := range x.Moved.Letters {
		out.Named = append(out.Named, "letter:"+id)
	}
	for _, d := range x.Moved.Differs {
		out.Differs = append(out.Differs, contract.Difference{What: d.What, Was: d.Was, Becomes: d.Become})
	}
	return out, nil
}

func (s *server) JoinPartners(ctx context.Context, r apigen.JoinPartnersRequestObject) (apigen.JoinPartnersResponseObject, error) {
	x, err := s.Service.JoinPartners(ctx, by(ctx, r.Body.Why, r.Params.IfMatch, r.Params.Preview), r.Id, r.Body.Into)
	out, err := s.rearranged(x, r.Params.Preview, err)
	return apigen.JoinPartners200JSONResponse(out), err
}

func (s *server) SplitPartner(ctx context.Context, r apigen.SplitPartnerRequestObject) (apigen.SplitPartnerResponseObject, error) {
	x, err := s.Service.SplitPartner(ctx, by(ctx, r.Body.Why, r.Params.IfMatch, r.Params.Preview), r.Id, r.Body.Domains, r.Body.Id, r.Body.Name)
	out, err := s.rearranged(x, r.Params.Preview, err)
	return apigen.SplitPartner200JSONResponse(out), err
}

func barOut(b *world.Bar) contract.Bar {
	out := contract.Bar{Name: some(b.Domain.String()), Address: some(b.Address.String()), Reason: some(b.Reason)}
	if b.Subdomains {
		out.Subdomains = ptr(true)
	}
	return out
}

func (s *server) ListBars(ctx context.Context, _ apigen.ListBarsRequestObject) (apigen.ListBarsResponseObject, error) {
	out := apigen.ListBars200JSONResponse{Bars: []contract.Bar{}}
	p := s.state(ctx).Policy()
	for i := range p.Barred {
		out.Bars = append(out.Bars, barOut(&p.Barred[i]))
	}
	return out, nil
}

func (s *server) AddBar(ctx context.Context, r apigen.AddBarRequestObject) (apigen.AddBarResponseObject, error) {
	doc, err := json.Marshal(r.Body)
	if err != nil {
		return nil, err
	}
	b, err := s.Service.AddBar(ctx, whoIs(ctx).Name, opt(r.Body.Reason), doc)
	return apigen.AddBar201JSONResponse(barOut(&b)), err
}

func (s *server) LiftBar(ctx context.Context, r apigen.LiftBarRequestObject) (apigen.LiftBarResponseObject, error) {
	return apigen.LiftBar204Response{}, s.Service.LiftBar(ctx, whoIs(ctx).Name, strings.TrimSpace(opt(r.Params.Why)), r.Key)
}

func (s *server) TestDomain(ctx context.Context, r apigen.TestDomainRequestObject) (apigen.TestDomainResponseObject, error) {
	st := s.state(ctx)
	text := r.Params.Address
	if !strings.Contains(text, "@") {
		text = "*@" + text
	}
	a, err := addr.Parse(text)
	if err != nil {
		return nil, &service.Invalid{Field: "address", Value: r.Params.Address, Reason: err.Error()}
	}
	return apigen.TestDomain200JSONResponse(answer.DomainTest(st.Snapshot, st.Match(a))), nil
}

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

func (s *server) Journal(ctx context.Context, r apigen.JournalRequestObject) (apigen.JournalResponseObject, error) {
	after, err := readCursor(r.Params.Cursor)
	if err != nil {
		return nil, err
	}
	q := store.JournalQuery{Kind: opt(r.Params.Kind), ID: opt(r.Params.Id), Who: opt(r.Params.Who), Limit: pageSize(r.Params.Limit, 100) + 1}
	if k := q.Kind; strings.ContainsFunc(k, func(r rune) bool { return r != '_' && (r < 'a' || r > 'z') }) {
		return nil, &service.Invalid{Field: "kind", Value: k, Reason: "write a kind of thing that is journaled, as partner, guest or step"}
	}
	if t := opt(r.Params.About); t != "" {
		a, err := addr.Parse(t)
		if err != nil {
			return nil, &service.Invalid{Field: "about", Value: t, Reason: err.Error()}
		}
		q.About = a.String()
	}
	if after != "" {
		if q.Before, err = strconv.ParseUint(after, 10, 64); err != nil {
			return nil, &service.Invalid{Field: "cursor", Value: opt(r.Params.Cursor), Reason: "send what the page before gave as next"}
		}
	}
	es, err := s.Service.Journal(ctx, q)
	out := apigen.Journal200JSONResponse{Entries: []contract.JournalEntry{}}
	for i, e := range es {
		if i == q.Limit-1 {
			out.Next = cursor(strconv.FormatUint(es[i-1].Seq, 10))
			break
		}
		x := contract.JournalEntry{Seq: int64(e.Seq), PartOf: int64(e.PartOf), At: e.At, Who: e.Who, Kind: e.Kind, Id: e.ID, Why: e.Why, Revision: int64(e.Revision)}
		if e.Was != nil {
			x.Was = ptr(string(e.Was))
		}
		if e.Now != nil {
			x.Now = ptr(string(e.Now))
		}
		out.Entries = append(out.Entries, x)
	}
	return out, err
}

func (s *server) VerifyJournal(ctx context.Context, _ apigen.VerifyJournalRequestObject) (apigen.VerifyJournalResponseObject, error) {
	n, broken, err := s.Service.VerifyJournal(ctx)
	out := apigen.VerifyJournal200JSONResponse{Whole: broken == nil, Entries: int64(n)}
	if broken != nil {
		out.BrokenAt, out.Reason = ptr(int64(broken.Seq)), &broken.Reason
	}
	return out, err
}

// stream writes an event for every change until the listener leaves.
type stream struct {
	ctx   context.Context
	s     *server
	still func(context.Context) error // an error once who listens may no longer
}

func (x stream) VisitChangesResponse(w http.ResponseWriter) error {
	c := http.NewResponseController(w)
	h := w.Header()
	h.Set("Content-Type", "text/event-stream")
	h.Set("Cache-Control", "no-store")
	heads, stop := x.s.Service.Watch()
	defer stop()
	send := func(h store.Head) error {
		if _, err := fmt.Fprintf(w, "event: change\ndata: {\"seq\":%d,\"revision\":%d}\n\n", h.Seq, h.Revision); err != nil {
			return err
		}
		return c.Flush()
	}
	if err := send(x.s.Service.State().Head); err != nil {
		return nil
	}
	beat := time.NewTicker(20 * time.Second)
	defer beat.Stop()
	for {
		var err error
		select {
		case <-x.ctx.Done():
			return nil
		case <-x.s.Closing:
			return nil
		case h := <-heads:
			if err = x.still(x.ctx); err == nil { // a session may have been ended by this change
				err = send(h)
			}
		case <-beat.C:
			if _, err = io.WriteString(w, ": still here\n\n"); err == nil {
				err = c.Flush()
			}
		}
		if err != nil {
			return nil
		}
	}
}

func (s *server) Changes(ctx context.Context, _ apigen.ChangesRequestObject) (apigen.ChangesResponseObject, error) {
	r := requestOf(ctx)
	return stream{ctx, s, func(ctx context.Context) error {
		_, _, err := s.authenticate(ctx, r)
		if errors.Is(err, service.ErrDenied) {
			return err
		}
		return nil // the database is away; what is known is told
	}}, nil
}

// opened counts the active partners that are opened for a key.
func opened(w *world.World, k catalogue.Key) (n int) {
	for i := range w.Partners {
		if p := &w.Partners[i]; p.Standing == world.Active && p.Opened[k] == world.OpenYes {
			n++
		}
	}
	return
}

// monthAgo puts how open each service was beside how open it is, where that was
// recorded.
func (s *server) monthAgo(ctx context.Context, out *apigen.Overview200JSONResponse, at moment.Moment) error {
	then, how, err := s.Service.At(ctx, at)
	if err != nil || how == service.FromFirst {
		return err
	}
	out.MonthAgo = ptr(at.String())
	for v := catalogue.Service(0); v < catalogue.NumServices; v++ {
		x := &out.Services[v]
		x.OpenedInBefore, x.OpenedOutBefore = ptr(opened(then.Policy(), catalogue.In(v))), ptr(opened(then.Policy(), catalogue.Out(v)))
	}
	return nil
}

func (s *server) Overview(ctx context.Context, _ apigen.OverviewRequestObject) (apigen.OverviewResponseObject, error) {
	st := s.state(ctx)
	pol := st.Policy()
	c := st.Counts()
	out := apigen.Overview200JSONResponse{Revision: int64(st.Head.Revision), Services: []contract.ServiceState{}, Soon: []contract.Ending{}, Suspended: []string{}, Todo: []contract.Todo{},
		Counts: map[string]int{"people": c.People, "guests": c.Guests, "grants": c.Grants, "spaces": c.Spaces, "items": c.Items, "meetings": c.Meetings, "links": c.Links, "partners": c.Partners, "bars": len(pol.Barred), "exceptions": len(pol.Exceptions)}}
	todo := func(text, href string) { out.Todo = append(out.Todo, contract.Todo{Text: text, Href: href}) }
	if pol.Organisation != nil {
		out.Organisation = pol.Organisation.Name
	} else {
		todo("Nothing is known of your organisation yet. Load a world file with wexillum load FILE.", "/journal")
	}
	if c.Partners == 0 {
		todo("Add the first partner: a name, its domains, and what it is opened for.", "/partners")
	}
	looser := map[string]int{}
	for _, r := range answer.Rules(st.Snapshot, rulesAll(), s.Service.Now(), st.RuleEtag) {
		if r.Exposes {
			looser[r.Service]++
		}
		if r.HeldDefault != nil {
			todo("The default of "+r.Name+" is held back.", "/rules?rule="+r.Name)
		}
		held := 0
		for _, b := range r.Below {
			if b.Held {
				held++
			}
		}
		switch {
		case held == 1:
			todo("A value of "+r.Name+" is held back by its limit.", "/rules?rule="+r.Name)
		case held > 1:
			todo(fmt.Sprintf("%d values of %s are held back by its limit.", held, r.Name), "/rules?rule="+r.Name)
		}
	}
	for v := catalogue.Service(0); v < catalogue.NumServices; v++ {
		x := contract.ServiceState{Service: v.String(), Looser: looser[v.String()] + map[bool]int{true: looser["guests"]}[v == catalogue.Directory]}
		x.OpenedIn, x.OpenedOut = opened(pol, catalogue.In(v)), opened(pol, catalogue.Out(v))
		out.Services = append(out.Services, x)
	}
	now := s.Service.Now()
	if t := s.behind(st); t != "" {
		out.Todo = slices.Insert(out.Todo, 0, contract.Todo{Text: t, Href: "/due"})
	}
	if n := s.Service.MailOverdue(); n > 0 {
		out.Todo = slices.Insert(out.Todo, 0, contract.Todo{Text: fmt.Sprintf("%d messages wait for more than ten minutes. Look whether the mail server takes them: the log says why not.", n), Href: "/journal"})
	}
	if err := s.monthAgo(ctx, &out, now-30*86400e6); err != nil {
		return nil, err
	}
	kinds, partners := st.PartiesBy(now)
	out.ByKind, out.ByPartner = &kinds, &partners
	for i := range pol.Partners {
		p := &pol.Partners[i]
		if p.Standing != world.Active {
			out.Suspended = append(out.Suspended, p.Name)
		}
		if p.Standing == world.Active && len(p.Domains) == 0 {
			todo(p.Name+" has no domain, so none of its people are known as its own.", "/partners/"+p.ID)
		}
		for _, x := range p.Stance {
			if x.Says == world.SaysRefuses && p.Opened[x.Key] == world.OpenYes {
				todo(p.Name+" is opened for "+x.Key.String()+" and refuses it on its own side.", "/partners/"+p.ID)
			}
		}
	}
	for i := range pol.Exceptions {
		if x := &pol.Exceptions[i]; x.Until != moment.Never && x.Until > now && x.Until < now+14*86400e6 {
			out.Soon = append(out.Soon, ending(st, "exception", x.ID, x.Until))
		}
	}
	soon, err := s.Service.EndingSoon(ctx, now+30*86400e6, 12)
	for _, e := range soon {
		out.Soon = append(out.Soon, ending(st, e.What, e.Who, moment.Moment(e.When)))
	}
	sort.SliceStable(out.Soon, func(i, j int) bool { return out.Soon[i].When < out.Soon[j].When })
	return out, err
}

func ending(st *service.State, what, who string, when moment.Moment) contract.Ending {
	return contract.Ending{What: what, Who: who, When: when.String(), LastDay: moment.CountedOnFrom(when, st.Zone()).String()}
}

func rulesAll() []*catalogue.Rule {
	var out []*catalogue.Rule
	for i := range catalogue.Rules() {
		out = append(out, &catalogue.Rules()[i])
	}
	return out
}

// metadata and evaluations of AuthZEN (OpenID AuthZEN Authorization API 1.0).

type azEntity struct {
	Type       string          `json:"type"`
	ID         string          `json:"id"`
	Properties json.RawMessage `json:"properties,omitempty"`
}

type azAction struct {
	Name       string          `json:"name"`
	Properties json.RawMessage `json:"properties,omitempty"`
}

type azRequest struct {
	Subject  *azEntity      `json:"subject"`
	Action   *azAction      `json:"action"`
	Resource *azEntity      `json:"resource"`
	Context  map[string]any `json:"context"`
}

type azBatch struct {
	azRequest
	Evaluations []azRequest `json:"evaluations"`
	Options     *struct {
		Semantic string `json:"evaluations_semantic"`
	} `json:"options"`
}

type azAnswer struct {
	Decision bool `json:"decision"`
	Context  any  `json:"context,omitempty"`
}

// question turns an AuthZEN request into a question of ours.
func (q *azRequest) question(st *service.State, now moment.Moment) (engine.Question, error) {
	var none engine.Question
	switch {
	case q.Subject == nil || q.Subject.Type == "" || q.Subject.ID == "":
		return none, &engine.WrongUse{Field: "subject", Reason: "give its type and its id"}
	case q.Action == nil || q.Action.Name == "":
		return none, &engine.WrongUse{Field: "action", Reason: "give its name"}
	case q.Resource == nil || q.Resource.Type == "" || q.Resource.ID == "":
		return none, &engine.WrongUse{Field: "resource", Reason: "give its type and its id"}
	}
	out := contract.Question{Action: q.Action.Name, Resource: q.Resource.Type + ":" + q.Resource.ID}
	switch q.Subject.Type {
	case "party":
		out.Subject = q.Subject.ID
		if strings.HasPrefix(out.Subject, "person:") || strings.HasPrefix(out.Subject, "link:") {
			return none, &engine.WrongUse{Field: "subject.id", Value: out.Subject, Reason: "the id of a party is an address or *@domain"}
		}
	case "person", "link":
		out.Subject = q.Subject.Type + ":" + q.Subject.ID
	default:
		return none, &engine.WrongUse{Field: "subject.type", Value: q.Subject.Type, Reason: "write party, person or link"}
	}
	var c contract.QuestionContext
	for key, v := range q.Context {
		text, isText := v.(string)
		var into **string
		switch key {
		case "at":
			into = &out.At
		case "address":
			into = &c.Address
		case "presenter":
			into = &c.Presenter
		case "account":
			if isText {
				c.Account = ptr(contract.QuestionContextAccount(text))
			}
		case "keep_copy":
			b, ok := v.(bool)
			if !ok {
				return none, &engine.WrongUse{Field: "context.keep_copy", Value: fmt.Sprint(v), Reason: "write true or false"}
			}
			c.KeepCopy = &b
			continue
		default:
			continue // what a gateway adds for itself
		}
		if !isText {
			return none, &engine.WrongUse{Field: "context." + key, Value: fmt.Sprint(v), Reason: "a text is expected"}
		}
		if into != nil {
			*into = &text
		}
	}
	out.Context = &c
	return answer.Question(&out, st.Snapshot, now)
}

func (s *server) evaluate(ctx context.Context, st *service.State, q *azRequest) (azAnswer, error) {
	now := s.Service.Now()
	question, err := q.question(st, now)
	if err != nil {
		return azAnswer{}, err
	}
	if question.At < now { // of what was recorded then
		if st, _, err = s.Service.At(ctx, question.At); err != nil {
			return azAnswer{}, err
		}
	}
	x, err := st.Explain(&question)
	if err != nil {
		return azAnswer{}, err
	}
	s.metrics.decided(question.Action.String(), x.Yes())
	d := x.Deciding()
	gates := make([]azGate, 0, len(d.Gates))
	for i := range d.Gates {
		g := &d.Gates[i]
		out := azGate{Gate: g.Gate.String(), Answer: g.String()}
		for j := range g.Causes {
			if c := &g.Causes[j]; c.Refuses {
				out.Causes = append(out.Causes, azCause{c.Code.String(), c.Side.String(), c.WhoText(), c.Text()})
			}
		}
		gates = append(gates, out)
	}
	return azAnswer{Decision: x.Yes(), Context: azFound{d.Conditions.Names(), d.Account.String(), gates, st.Head.Revision, question.At.String()}}, nil
}

// What the context of an answer holds: what was found, or what is wrong with one
// member of a batch.
type (
	azFound struct {
		Conditions []string `json:"conditions"`
		Account    string   `json:"account"`
		Gates      []azGate `json:"gates"`
		Revision   uint64   `json:"revision"`
		At         string   `json:"at"`
	}
	azGate struct {
		Gate   string    `json:"gate"`
		Answer string    `json:"answer"`
		Causes []azCause `json:"causes,omitempty"`
	}
	azCause struct {
		Code string `json:"code"`
		Side string `json:"side"`
		Who  string `json:"who,omitempty"`
		Text string `json:"text"`
	}
	azFault struct {
		Error azError `json:"error"`
	}
	azError struct {
		Status  int    `json:"status"`
		Message string `json:"message"`
	}
)

func writeJSON(w http.ResponseWriter, v any) {
	w.Header().Set("Content-Type", "application/json")
	w.Header().Set("Cache-Control", "no-store")
	_ = json.NewEncoder(w).Encode(v)
}

func (s *server) decodeAuthzen(w http.ResponseWriter, r *http.Request, into any) bool {
	err := decode(r, into)
	if err == nil {
		return true
	}
	switch {
	case errors.Is(err, errMedia):
		writeProblem(w, problemMedia.with(err.Error()))
	default:
		writeProblem(w, badBody(err))
	}
	return false
}

func (s *server) evaluation(w http.ResponseWriter, r *http.Request) {
	var q azRequest
	if !s.decodeAuthzen(w, r, &q) {
		return
	}
	s.one(w, r, &q)
}

func (s *server) one(w http.ResponseWriter, r *http.Request, q *azRequest) {
	a, err := s.evaluate(r.Context(), s.state(r.Context()), q)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	writeJSON(w, a)
}

// maxEvaluations bounds one batch.
const maxEvaluations = 1000

func (s *server) evaluations(w http.ResponseWriter, r *http.Request) {
	var b azBatch
	if !s.decodeAuthzen(w, r, &b) {
		return
	}
	semantic := "execute_all"
	if b.Options != nil && b.Options.Semantic != "" {
		semantic = b.Options.Semantic
	}
	switch semantic {
	case "execute_all", "deny_on_first_deny", "permit_on_first_permit":
	default:
		s.failed(w, r, &engine.WrongUse{Field: "options.evaluations_semantic", Value: semantic, Reason: "write execute_all, deny_on_first_deny or permit_on_first_permit"})
		return
	}
	if len(b.Evaluations) == 0 {
		s.one(w, r, &b.azRequest)
		return
	}
	if len(b.Evaluations) > maxEvaluations {
		s.failed(w, r, &service.Invalid{Field: "evaluations", Value: strconv.Itoa(len(b.Evaluations)), Reason: fmt.Sprintf("at most %d in one request", maxEvaluations)})
		return
	}
	st := s.state(r.Context()) // one state for the whole batch
	member := func(i int) (a azAnswer) {
		defer func() { // what recovers a request does not reach into its goroutines
			if p := recover(); p != nil {
				s.Log.Error("an evaluation failed", "error", p)
				a = azAnswer{Context: azFault{azError{http.StatusInternalServerError, "it failed"}}}
			}
		}()
		q := b.Evaluations[i]
		if q.Subject == nil {
			q.Subject = b.Subject
		}
		if q.Action == nil {
			q.Action = b.Action
		}
		if q.Resource == nil {
			q.Resource = b.Resource
		}
		if q.Context == nil {
			q.Context = b.Context
		}
		a, err := s.evaluate(r.Context(), st, &q)
		if err != nil {
			a = azAnswer{Context: azFault{azError{problemOf(err).Status, err.Error()}}}
		}
		return a
	}
	out := make([]azAnswer, len(b.Evaluations))
	if semantic == "execute_all" { // none depends on another: all processors take their share
		var all sync.WaitGroup
		share := max(64, (len(out)+runtime.GOMAXPROCS(0)-1)/runtime.GOMAXPROCS(0))
		for from := 0; from < len(out); from += share {
			all.Go(func() {
				for i := from; i < min(from+share, len(out)) && r.Context().Err() == nil; i++ {
					out[i] = member(i)
				}
			})
		}
		all.Wait()
	} else {
		for i := range out {
			out[i] = member(i)
			if semantic == "deny_on_first_deny" && !out[i].Decision || semantic == "permit_on_first_permit" && out[i].Decision {
				out = out[:i+1]
				break
			}
		}
	}
	writeJSON(w, struct {
		Evaluations []azAnswer `json:"evaluations"`
	}{out})
}

func (s *server) authzenConfiguration(w http.ResponseWriter, r *http.Request) {
	base := s.PublicURL
	if base == "" {
		scheme := "http"
		if r.TLS != nil {
			scheme = "https"
		}
		base = scheme + "://" + r.Host
	}
	writeJSON(w, map[string]any{"policy_decision_point": base, "access_evaluation_endpoint": base + "/access/v1/evaluation", "access_evaluations_endpoint": base + "/access/v1/evaluations",
		"search_subject_endpoint": base + "/access/v1/search/subject", "search_resource_endpoint": base + "/access/v1/search/resource", "search_action_endpoint": base + "/access/v1/search/action"})
}
