package api

import (
	"cmp"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"net/http"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

func (s *server) session(ctx context.Context, who service.Who) contract.Session {
	name := ""
	if o := s.state(ctx).Policy().Organisation; o != nil {
		name = o.Name
	}
	var first *bool
	if lacks, err := s.Service.LacksFactor(ctx, who); err == nil && lacks {
		first = &lacks
	}
	var house *bool
	if who.Guest == "" && who.Token == "" {
		if h, err := s.Service.OfHouse(ctx, who.Name); err == nil && h {
			house = &h
		}
	}
	return contract.Session{
		SetUpFactor:  first,
		House:        house,
		Name:         who.Name,
		Role:         contract.SessionRole(who.Role),
		Person:       some(who.Person),
		Csrf:         s.sessions.GetString(ctx, "csrf"),
		Organisation: name,
		Zone:         ptr(s.state(ctx).Zone().String()),
		Demo:         s.Demo,
	}
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
	s.sessions.Put(ctx, "sid", rand.Text())
	s.sessions.Put(ctx, "began", s.Clock().UnixMilli())
	s.sessions.Put(ctx, "from", sourceOf(ctx))
	agent := []rune("")
	if r, ok := ctx.Value(requestKey).(*http.Request); ok {
		agent = []rune(r.UserAgent())
	}
	s.sessions.Put(ctx, "agent", string(agent[:min(len(agent), 200)]))
	return s.saveSession(ctx)
}

// ownSessions hands over every session of an account, each in a context of its own.
func (s *server) ownSessions(ctx context.Context, name string, fn func(context.Context) error) error {
	return s.sessions.Iterate(ctx, func(one context.Context) error {
		if s.sessions.GetString(one, "account") != name || s.sessions.GetString(one, "sid") == "" {
			return nil
		}
		began, _ := s.sessions.Get(one, "since").(uint64)
		if _, err := s.Service.WhoIs(ctx, name, began); err != nil { // it was ended with all others
			if errors.Is(err, service.ErrDenied) {
				return nil
			}
			return err
		}
		return fn(one)
	})
}

func (s *server) ListSessions(ctx context.Context, _ apigen.ListSessionsRequestObject) (apigen.ListSessionsResponseObject, error) {
	out := apigen.ListSessions200JSONResponse{Sessions: []contract.OpenSession{}}
	own := s.sessions.GetString(ctx, "sid")
	err := s.ownSessions(ctx, whoIs(ctx).Name, func(one context.Context) error {
		x := contract.OpenSession{Id: s.sessions.GetString(one, "sid"),
			Began: moment.Of(time.UnixMilli(s.sessions.GetInt64(one, "began"))).String(), From: some(s.sessions.GetString(one, "from")),
			Agent: some(s.sessions.GetString(one, "agent"))}
		x.This = x.Id == own && whoIs(ctx).Token == ""
		if at := s.sessions.GetInt64(one, "touched"); at != 0 {
			x.Used = ptr(moment.Of(time.UnixMilli(at)).String())
		}
		out.Sessions = append(out.Sessions, x)
		return nil
	})
	slices.SortFunc(out.Sessions, func(a, b contract.OpenSession) int { return -cmp.Compare(a.Began, b.Began) })
	return out, err
}

func (s *server) EndSession(ctx context.Context, r apigen.EndSessionRequestObject) (apigen.EndSessionResponseObject, error) {
	found := false
	if err := s.ownSessions(ctx, whoIs(ctx).Name, func(one context.Context) error {
		if s.sessions.GetString(one, "sid") != r.Id {
			return nil
		}
		found = true
		if err := s.Service.SessionEnded(ctx, whoIs(ctx), s.sessions.GetString(one, "from")); err != nil {
			return err
		}
		return s.sessions.Store.Delete(s.sessions.Token(one)) // as it is kept there: hashed
	}); err != nil {
		return nil, err
	}
	if !found {
		return nil, fmt.Errorf("%w: you have no such session", service.ErrNotFound)
	}
	return apigen.EndSession204Response{}, nil
}

func (s *server) SignIn(ctx context.Context, r apigen.SignInRequestObject) (apigen.SignInResponseObject, error) {
	if p := s.tooOften(ctx, r.Body.Name); p != nil {
		return apigen.SignIndefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	who, err := s.Service.SignInCode(ctx, r.Body.Name, r.Body.Password, opt(r.Body.Code), service.WayConsole, sourceOf(ctx))
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
	who, err := s.Service.SignInCode(ctx, r.Body.Name, r.Body.Password, opt(r.Body.Code), service.WayClient, sourceOf(ctx))
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

func (s *server) MakeServiceToken(
	ctx context.Context,
	r apigen.MakeServiceTokenRequestObject,
) (apigen.MakeServiceTokenResponseObject, error) {
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
		x := contract.Token{Id: t.ID, Name: t.Name, Account: t.Account, Purpose: t.Purpose, Made: t.Made, Expires: t.Expires,
			UsedFrom: some(t.UsedFrom)}
		if !t.Used.IsZero() {
			x.Used = &t.Used
		}
		out.Tokens = append(out.Tokens, x)
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
		out.Accounts = append(
			out.Accounts,
			contract.Account{Name: a.Name, Role: contract.Role(a.Role), Person: a.Person, Disabled: a.Disabled},
		)
	}
	return out, err
}

func (s *server) MakeAccount(ctx context.Context, r apigen.MakeAccountRequestObject) (apigen.MakeAccountResponseObject, error) {
	b := r.Body
	a := service.Account{Name: b.Name, Role: string(b.Role), Person: opt(b.Person)}
	err := s.Service.MakeAccount(ctx, whoIs(ctx).Name, cause(b.Why), a, b.Password)
	return apigen.MakeAccount201JSONResponse(accountOf(a)), err
}

func (s *server) ChangeAccount(ctx context.Context, r apigen.ChangeAccountRequestObject) (apigen.ChangeAccountResponseObject, error) {
	b := r.Body
	change := service.AccountChange{Role: (*string)(b.Role), Disabled: b.Disabled, Password: opt(b.Password)}
	if b.Person.IsSpecified() { // null takes it away
		person, _ := b.Person.Get()
		change.Person = &person
	}
	a, err := s.Service.ChangeAccount(ctx, whoIs(ctx).Name, cause(b.Why), r.Name, change)
	return apigen.ChangeAccount200JSONResponse(accountOf(a)), err
}

func accountOf(a service.Account) contract.Account {
	return contract.Account{Name: a.Name, Role: contract.Role(a.Role), Person: a.Person, Disabled: a.Disabled}
}

// wayOf is by which way somebody is here.
func wayOf(who service.Who) string {
	if who.Token != "" {
		return service.WayClient
	}
	return service.WayConsole
}

func (s *server) GetFactor(ctx context.Context, _ apigen.GetFactorRequestObject) (apigen.GetFactorResponseObject, error) {
	f, err := s.Service.FactorOf(ctx, whoIs(ctx))
	if err != nil {
		return nil, err
	}
	out := apigen.GetFactor200JSONResponse{On: f.On, Required: f.Required, RecoveryCodes: f.Left}
	if f.On {
		out.Since = ptr(f.Since.String())
	}
	return out, nil
}

func (s *server) BeginFactor(ctx context.Context, r apigen.BeginFactorRequestObject) (apigen.BeginFactorResponseObject, error) {
	who := whoIs(ctx)
	if p := s.tooOften(ctx, who.Name); p != nil {
		return apigen.BeginFactordefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	f, err := s.Service.BeginFactor(ctx, who, r.Body.Password, wayOf(who), sourceOf(ctx))
	if err != nil {
		return nil, err
	}
	return apigen.BeginFactor200JSONResponse{Secret: f.Secret, Uri: f.URI, Image: f.Image}, nil
}

func (s *server) ConfirmFactor(ctx context.Context, r apigen.ConfirmFactorRequestObject) (apigen.ConfirmFactorResponseObject, error) {
	who := whoIs(ctx)
	if p := s.tooOften(ctx, who.Name); p != nil {
		return apigen.ConfirmFactordefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	codes, err := s.Service.ConfirmFactor(ctx, who, r.Body.Password, r.Body.Code, wayOf(who), sourceOf(ctx))
	return apigen.ConfirmFactor200JSONResponse{Codes: codes}, err
}

func (s *server) RemoveFactor(ctx context.Context, r apigen.RemoveFactorRequestObject) (apigen.RemoveFactorResponseObject, error) {
	who := whoIs(ctx)
	if p := s.tooOften(ctx, who.Name); p != nil {
		return apigen.RemoveFactordefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	return apigen.RemoveFactor204Response{}, s.Service.RemoveFactor(ctx, who, r.Body.Password, r.Body.Code, wayOf(who), sourceOf(ctx))
}

func (s *server) ResetFactor(ctx context.Context, r apigen.ResetFactorRequestObject) (apigen.ResetFactorResponseObject, error) {
	return apigen.ResetFactor204Response{}, s.Service.ResetFactor(ctx, whoIs(ctx).Name, r.Name, r.Body.Why)
}
