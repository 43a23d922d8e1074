package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"sort"
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

func (s *server) partnerOut(st *service.State, p *world.Partner) contract.Partner {
	out := contract.Partner{
		Id:               p.ID,
		Name:             p.Name,
		Domains:          []contract.DomainEntry{},
		Standing:         contract.PartnerStanding(world.StandingNames[p.Standing]),
		Owner:            some(p.Owner),
		Note:             some(p.Note),
		StandingReason:   some(p.StandingReason),
		Statement:        some(p.Statement),
		SignIn:           some(p.SignIn),
		SignInClient:     some(p.SignInClient),
		SignInUnverified: yes(p.SignInUnverified),
		Opened:           map[string]bool{},
		Rules:            map[string]contract.SetValue{},
		Stance:           []contract.Stance{},
		Etag:             service.PartnerEtag(p),
	}
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

func (s *server) partner(ctx context.Context, id string) (contract.Partner, error) {
	st := s.state(ctx)
	p, err := st.Partner(id)
	if err != nil {
		return contract.Partner{}, err
	}
	return s.partnerOut(st, p), nil
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

// partnerPatch is recordPatch of a partner. The contract's names are the format's but for those here.
func partnerPatch(body map[string]any) (patch []byte, why *string, err error) {
	doc, why, err := recordPatch(body)
	if err != nil {
		return nil, nil, err
	}
	if v, given := doc["stance"]; given {
		return nil, nil, &service.Invalid{
			Field:  "stance",
			Value:  fmt.Sprint(v),
			Reason: "stances are recorded one by one, at /api/v1/partners/{id}/stances/{key}",
		}
	}
	signIn := map[string]any{}
	for name, field := range map[string]string{"sign_in": "issuer", "sign_in_client": "client", "sign_in_unverified": "unverified"} {
		if v, given := doc[name]; given {
			signIn[field] = v
			delete(doc, name)
		}
	}
	if issuer, given := signIn["issuer"]; given && issuer == nil {
		doc["sign_in"] = nil
	} else if len(signIn) > 0 {
		doc["sign_in"] = signIn
	}
	if v, given := doc["contacts"]; given {
		doc["contact"] = v
		delete(doc, "contacts")
	}
	patch, err = json.Marshal(doc)
	return
}

// recordPatch makes of what a request wants otherwise a merge patch (RFC 7396) of the record in the
// file format, and takes out the reason. A text in which nothing is written is as null.
func recordPatch(body map[string]any) (doc map[string]any, why *string, err error) {
	doc = map[string]any{}
	for k, v := range body {
		if v == "" {
			v = nil
		}
		switch k {
		case "why":
			text, ok := v.(string)
			if v != nil && !ok || len(text) > 2000 {
				return nil, nil, &service.Invalid{Field: "why", Value: fmt.Sprint(v), Reason: "say why in at most 2000 letters"}
			}
			why = some(text)
		case "rules":
			set, ok := v.(map[string]any)
			if v == nil { // all of them
				doc[k] = nil
				continue
			}
			if !ok {
				return nil, nil, &service.Invalid{
					Field:  k,
					Value:  fmt.Sprint(v),
					Reason: `write values by rule, as {"spaces.pages": {"value": "on"}}`,
				}
			}
			if doc[k], err = rulesPatch(set); err != nil {
				return nil, nil, err
			}
		default:
			doc[k] = v
		}
	}
	return
}

// rulesPatch is rulesDoc for a patch, in which null takes a value away.
func rulesPatch(set map[string]any) (map[string]any, error) {
	given := map[string]contract.SetValue{}
	for name, v := range set {
		var x contract.SetValue
		switch t := v.(type) {
		case nil:
			if _, ok := catalogue.RuleByName(name); !ok {
				return nil, &service.Invalid{Field: "rules", Value: name, Reason: "there is no such rule" + nearest(name)}
			}
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
	w, err := s.Service.AddDomain(
		ctx,
		by(ctx, b.Why, nil, r.Params.Preview),
		r.Id,
		b.Domain,
		b.Subdomains != nil && *b.Subdomains,
		b.LookAlike != nil && *b.LookAlike,
	)
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
	out := contract.Rearranged{
		Partner:  p,
		Preview:  preview != nil && *preview,
		Concerns: countsOut(x.Concerns),
		Named:    []string{},
		Differs:  []contract.Difference{},
	}
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
	x, err := s.Service.SplitPartner(
		ctx,
		by(ctx, r.Body.Why, r.Params.IfMatch, r.Params.Preview),
		r.Id,
		r.Body.Domains,
		r.Body.Id,
		r.Body.Name,
	)
	out, err := s.rearranged(x, r.Params.Preview, err)
	return apigen.SplitPartner200JSONResponse(out), err
}
