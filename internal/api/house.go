package api

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"errors"
	"net/http"
	"net/url"
	"time"

	"github.com/coreos/go-oidc/v3/oidc"
	"golang.org/x/oauth2"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/reached"
	"wexillum.example/internal/service"
)

// The organisation's own sign-in, for administrators and members (OpenID Connect Core 1.0, code flow with PKCE).

const houseBack = "/api/v1/door/house/back"

// houseClient asks the organisation's own sign-in, which an administrator named: it may be in the house.
var houseClient = &http.Client{Timeout: 10 * time.Second}

func (s *server) houseOut(ctx context.Context, x *service.HouseSignIn) (contract.House, error) {
	out := contract.House{Back: s.base(requestOf(ctx)) + houseBack}
	if x == nil {
		return out, nil
	}
	out.On, out.Issuer, out.Client, out.Key, out.Claim, out.Roles, out.Trusted, out.By, out.Made = true, some(x.Issuer), some(x.Client),
		some(x.Key), some(x.Claim), &x.Roles, &x.Trusted, some(x.By), some(x.Made)
	accounts, err := s.Service.Accounts(ctx)
	n := 0
	for i := range accounts {
		if accounts[i].House {
			n++
		}
	}
	out.Known = &n
	return out, err
}

func (s *server) GetHouse(ctx context.Context, _ apigen.GetHouseRequestObject) (apigen.GetHouseResponseObject, error) {
	x, err := s.Service.House(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.houseOut(ctx, x)
	return apigen.GetHouse200JSONResponse(out), err
}

func (s *server) SetHouse(ctx context.Context, r apigen.SetHouseRequestObject) (apigen.SetHouseResponseObject, error) {
	b := r.Body
	x := service.HouseSignIn{Issuer: b.Issuer, Client: b.Client, Key: opt(b.Key), Claim: opt(b.Claim), Roles: b.Roles,
		Trusted: orZero(b.Trusted)}
	if err := s.Service.SetHouse(ctx, whoIs(ctx), cause(b.Why), x); err != nil {
		return nil, err
	}
	kept, err := s.Service.House(ctx)
	if err != nil {
		return nil, err
	}
	out, err := s.houseOut(ctx, kept)
	return apigen.SetHouse200JSONResponse(out), err
}

func (s *server) EndHouse(ctx context.Context, r apigen.EndHouseRequestObject) (apigen.EndHouseResponseObject, error) {
	return apigen.EndHouse204Response{}, s.Service.EndHouse(ctx, whoIs(ctx), opt(r.Params.Why))
}

func (s *server) TestHouse(ctx context.Context, r apigen.TestHouseRequestObject) (apigen.TestHouseResponseObject, error) {
	out := apigen.TestHouse200JSONResponse{Back: ptr(s.base(requestOf(ctx)) + houseBack)}
	p, err := oidc.NewProvider(oidc.ClientContext(ctx, houseClient), r.Body.Issuer)
	var unreached *url.Error
	if errors.As(err, &unreached) {
		err = errors.New(reached.Why(err, houseClient.Timeout))
	}
	if err != nil {
		out.Problem = ptr(err.Error())
		return out, ctx.Err()
	}
	out.Well, out.Authorize = true, ptr(p.Endpoint().AuthURL)
	return out, nil
}

func (s *server) HouseDoor(ctx context.Context, _ apigen.HouseDoorRequestObject) (apigen.HouseDoorResponseObject, error) {
	x, err := s.Service.House(ctx)
	out := apigen.HouseDoor200JSONResponse{On: x != nil}
	if o := s.Service.State().Policy().Organisation; x != nil && o != nil {
		out.Name = some(o.Name)
	}
	return out, err
}

// houseParty returns us as a relying party of the organisation's own sign-in.
func (s *server) houseParty(ctx context.Context) (context.Context, *service.HouseSignIn, *oidc.Provider, *oauth2.Config, error) {
	x, err := s.Service.House(ctx)
	if err == nil && x == nil {
		err = service.ErrNotFound
	}
	if err != nil {
		return ctx, nil, nil, nil, err
	}
	ctx = oidc.ClientContext(ctx, houseClient)
	p, err := s.provider(ctx, x.Issuer, func(string, string) error { return nil })
	if err != nil {
		return ctx, nil, nil, nil, err
	}
	secret, err := x.Secret()
	return ctx, x, p, &oauth2.Config{ClientID: x.Client, ClientSecret: secret, Endpoint: p.Endpoint(),
		RedirectURL: s.base(requestOf(ctx)) + houseBack, Scopes: []string{oidc.ScopeOpenID, "profile", "email"}}, err
}

func (s *server) HouseBegin(ctx context.Context, r apigen.HouseBeginRequestObject) (apigen.HouseBeginResponseObject, error) {
	if !s.ownTries.allow("house from "+sourceOf(ctx), s.Clock()) {
		return nil, service.ErrTooMany
	}
	_, x, _, cfg, err := s.houseParty(ctx)
	if errors.Is(err, service.ErrNotFound) {
		return nil, err
	}
	if err != nil {
		s.Log.WarnContext(ctx, "the organisation's own sign-in does not answer", "error", err)
		return apigen.HouseBegindefaultApplicationProblemPlusJSONResponse{Body: problemHouse.with("sign in with a password, or try again in a moment"),
			StatusCode: problemHouse.status}, nil
	}
	state, nonce, verifier := rand.Text(), rand.Text(), oauth2.GenerateVerifier()
	for k, v := range map[string]string{"house_state": state, "house_nonce": nonce, "house_verifier": verifier, "house_issuer": x.Issuer} {
		s.doors.Put(ctx, k, v)
	}
	more := []oauth2.AuthCodeOption{oidc.Nonce(nonce), oauth2.S256ChallengeOption(verifier)}
	s.doors.Remove(ctx, "house_again")
	if orZero(r.Body.Again) {
		s.doors.Put(ctx, "house_again", s.Clock().Unix())
		more = append(more, oauth2.SetAuthURLParam("max_age", "0"), oauth2.SetAuthURLParam("prompt", "login"))
	}
	if err := s.doorTouched(ctx); err != nil {
		return nil, err
	}
	return apigen.HouseBegin200JSONResponse{Go: cfg.AuthCodeURL(state, more...)}, nil
}

func (s *server) HouseBack(ctx context.Context, r apigen.HouseBackRequestObject) (apigen.HouseBackResponseObject, error) {
	to := func(path string) (apigen.HouseBackResponseObject, error) {
		return apigen.HouseBack302Response{Headers: apigen.HouseBack302ResponseHeaders{Location: &path}}, nil
	}
	failed := func(why string) (apigen.HouseBackResponseObject, error) { return to("/?failed=" + why) }
	state, issuer := s.doors.GetString(ctx, "house_state"), s.doors.GetString(ctx, "house_issuer")
	if state == "" || subtle.ConstantTimeCompare([]byte(opt(r.Params.State)), []byte(state)) != 1 {
		return failed("again")
	}
	s.doors.Remove(ctx, "house_state") // once
	if err := save(ctx, s.doors); err != nil {
		return nil, err
	}
	if iss := opt(r.Params.Iss); iss != "" && iss != issuer { // RFC 9207: another server answers than was asked
		return failed("refused")
	}
	if opt(r.Params.Error) != "" || opt(r.Params.Code) == "" {
		return failed("refused")
	}
	out, x, p, cfg, err := s.houseParty(ctx)
	if err != nil || x.Issuer != issuer {
		return failed("away")
	}
	t, err := cfg.Exchange(out, opt(r.Params.Code), oauth2.VerifierOption(s.doors.GetString(ctx, "house_verifier")))
	if err != nil {
		s.Log.WarnContext(ctx, "the organisation's own sign-in did not take its code", "error", err)
		return failed("refused")
	}
	raw, _ := t.Extra("id_token").(string)
	id, err := p.Verifier(&oidc.Config{ClientID: x.Client, Now: s.Clock}).Verify(out, raw)
	if err != nil || id.Nonce != s.doors.GetString(ctx, "house_nonce") {
		s.Log.WarnContext(ctx, "the organisation's own sign-in sent a token that does not hold", "error", err)
		return failed("refused")
	}
	var said map[string]any
	if err := id.Claims(&said); err != nil {
		return failed("refused")
	}
	if asked := s.doors.GetInt64(ctx, "house_again"); asked != 0 {
		if at, ok := said["auth_time"].(float64); !ok || int64(at) < asked-int64(s.Fresh.Seconds()) { // OpenID Connect Core §3.1.3.7, 13
			return failed("again")
		}
	}
	text := func(name string) string { v, _ := said[name].(string); return v }
	claims := service.HouseClaims{Issuer: id.Issuer, Subject: id.Subject, Preferred: text("preferred_username"), Values: texts(said[x.Claim]),
		Methods: texts(said["amr"])}
	if verified, said := said["email_verified"].(bool); verified || !said { // it is the house's own word
		claims.Email = text("email")
	}
	who, err := s.Service.HouseProved(ctx, claims, sourceOf(ctx))
	switch {
	case errors.Is(err, service.ErrNoRole):
		return failed("role")
	case errors.Is(err, service.ErrFactor):
		return failed("factor")
	case errors.Is(err, service.ErrDenied):
		return failed("denied")
	case err != nil:
		return nil, err
	}
	again := s.doors.GetInt64(ctx, "house_again") != 0
	if err := s.doors.Destroy(ctx); err != nil {
		return nil, err
	}
	if err := save(ctx, s.doors); err != nil {
		return nil, err
	}
	if err := s.begin(ctx, who); err != nil {
		return nil, err
	}
	if again {
		return to("/proved")
	}
	return to("/")
}

// texts reads a claim that is one text or several.
func texts(v any) (out []string) {
	switch v := v.(type) {
	case string:
		out = append(out, v)
	case []any:
		for _, x := range v {
			if t, ok := x.(string); ok {
				out = append(out, t)
			}
		}
	}
	return out
}
