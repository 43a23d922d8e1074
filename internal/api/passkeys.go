package api

import (
	"context"
	"encoding/json"
	"errors"
	"strings"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/service"
)

// Passkeys (W3C Web Authentication), and proving once more that it is oneself.

func (s *server) ProveAgain(ctx context.Context, r apigen.ProveAgainRequestObject) (apigen.ProveAgainResponseObject, error) {
	was := whoIs(ctx)
	if p := s.tooOften(ctx, was.Name); p != nil {
		return apigen.ProveAgaindefaultApplicationProblemPlusJSONResponse{Body: *p, StatusCode: p.Status}, nil
	}
	who, err := s.Service.SignInCode(ctx, was.Name, r.Body.Password, opt(r.Body.Code), service.WayConsole, sourceOf(ctx))
	if err != nil {
		return nil, err
	}
	s.signIns.in(strings.ToLower(was.Name), sourceOf(ctx))
	if was.Token == "" {
		if err := s.provedAnew(ctx); err != nil {
			return nil, err
		}
	}
	return apigen.ProveAgain200JSONResponse(s.session(ctx, who)), nil
}

// provedAnew notes in a session that whoever has it has just proved that it is they.
func (s *server) provedAnew(ctx context.Context) error {
	s.sessions.Put(ctx, "proved", s.Clock().UnixMilli())
	return s.saveSession(ctx)
}

func (s *server) ListPasskeys(ctx context.Context, _ apigen.ListPasskeysRequestObject) (apigen.ListPasskeysResponseObject, error) {
	list, err := s.Service.Passkeys(ctx, whoIs(ctx))
	if err != nil {
		return nil, err
	}
	out := apigen.ListPasskeys200JSONResponse{Passkeys: []contract.Passkey{}}
	for i := range list {
		p := &list[i]
		out.Passkeys = append(out.Passkeys, contract.Passkey{Id: p.ID, Name: p.Name, Made: p.Made.String(), Used: someMoment(p.Used),
			Until: someMoment(p.Until)})
	}
	return out, nil
}

// asObject is something as it is written, to be read by whoever knows it.
func asObject(x any) (out map[string]any, err error) {
	b, err := json.Marshal(x)
	if err != nil {
		return nil, err
	}
	return out, json.Unmarshal(b, &out)
}

func (s *server) BeginPasskey(ctx context.Context, _ apigen.BeginPasskeyRequestObject) (apigen.BeginPasskeyResponseObject, error) {
	options, kept, err := s.Service.BeginPasskey(ctx, whoIs(ctx), s.base(requestOf(ctx)))
	if err != nil {
		return nil, err
	}
	s.sessions.Put(ctx, "passkey", kept)
	if err := s.saveSession(ctx); err != nil {
		return nil, err
	}
	o, err := asObject(options)
	return apigen.BeginPasskey200JSONResponse{Options: o}, err
}

func (s *server) FinishPasskey(ctx context.Context, r apigen.FinishPasskeyRequestObject) (apigen.FinishPasskeyResponseObject, error) {
	kept := s.sessions.PopString(ctx, "passkey") // once
	if err := s.saveSession(ctx); err != nil {
		return nil, err
	}
	answer, err := json.Marshal(r.Body.Credential)
	if err != nil {
		return nil, err
	}
	return apigen.FinishPasskey204Response{}, s.Service.FinishPasskey(ctx, whoIs(ctx), s.base(requestOf(ctx)), kept, r.Body.Name, answer)
}

func (s *server) EndPasskey(ctx context.Context, r apigen.EndPasskeyRequestObject) (apigen.EndPasskeyResponseObject, error) {
	return apigen.EndPasskey204Response{}, s.Service.EndPasskey(ctx, whoIs(ctx), r.Id)
}

func (s *server) AskPasskey(ctx context.Context, _ apigen.AskPasskeyRequestObject) (apigen.AskPasskeyResponseObject, error) {
	if err := s.doorOften(ctx, "passkey"); err != nil {
		return nil, err
	}
	options, kept, err := s.Service.AskPasskey(s.base(requestOf(ctx)))
	if err != nil {
		return nil, err
	}
	s.doors.Put(ctx, "passkey", kept)
	if err := s.doorTouched(ctx); err != nil {
		return nil, err
	}
	o, err := asObject(options)
	return apigen.AskPasskey200JSONResponse{Options: o}, err
}

func (s *server) ProvePasskey(ctx context.Context, r apigen.ProvePasskeyRequestObject) (apigen.ProvePasskeyResponseObject, error) {
	if err := s.doorOften(ctx, "proof"); err != nil {
		return nil, err
	}
	kept := s.doors.PopString(ctx, "passkey") // once
	if err := save(ctx, s.doors); err != nil {
		return nil, err
	}
	answer, err := json.Marshal(r.Body.Credential)
	if err != nil {
		return nil, err
	}
	x, err := s.Service.PasskeyProved(ctx, s.base(requestOf(ctx)), kept, answer,
		service.SigningIn{Language: opt(r.Body.Language), Source: sourceOf(ctx)})
	if err != nil {
		return nil, err
	}
	// Who is signed in already has proved anew that it is they, and goes on with the same session.
	if name := s.sessions.GetString(ctx, "account"); name == x.Name {
		if since, ok := s.sessions.Get(ctx, "since").(uint64); ok {
			_, err := s.Service.WhoIs(ctx, name, since)
			if err == nil {
				return apigen.ProvePasskey200JSONResponse(s.session(ctx, x.Who)), s.provedAnew(ctx)
			}
			if !errors.Is(err, service.ErrDenied) {
				return nil, err
			}
		}
	}
	if x.Guest != "" {
		err = s.letIn(ctx, x.Who)
	} else {
		err = s.begin(ctx, x.Who)
	}
	return apigen.ProvePasskey200JSONResponse(s.session(ctx, x.Who)), err
}
