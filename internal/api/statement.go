package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"strings"
	"time"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	core "wexillum.example/internal/core/statement"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/service"
	"wexillum.example/internal/statement"
)

// errUnpublished is what is told where this service publishes no statement.
var errUnpublished = fmt.Errorf("%w: this service publishes no statement", service.ErrNotFound)

func (s *server) PublishedStatement(
	ctx context.Context,
	r apigen.PublishedStatementRequestObject,
) (apigen.PublishedStatementResponseObject, error) {
	if !s.PublishStatement {
		return nil, errUnpublished
	}
	if !s.asks.allow(sourceOf(ctx), s.Clock()) {
		ctx.Value(writerKey).(http.ResponseWriter).Header().Set("Retry-After", "60")
		p := problemOften.with("wait a minute before the next question")
		return apigen.PublishedStatementdefaultApplicationProblemPlusJSONResponse{Body: p, StatusCode: p.Status}, nil
	}
	jws, err := s.Service.OurStatement(ctx, r.Params.For)
	return apigen.PublishedStatement200ApplicationjoseResponse{Body: strings.NewReader(jws), ContentLength: int64(len(jws))}, err
}

func (s *server) PublishedSeal(ctx context.Context, _ apigen.PublishedSealRequestObject) (apigen.PublishedSealResponseObject, error) {
	if !s.PublishStatement {
		return nil, errUnpublished
	}
	if !s.asks.allow(sourceOf(ctx), s.Clock()) {
		ctx.Value(writerKey).(http.ResponseWriter).Header().Set("Retry-After", "60")
		p := problemOften.with("wait a minute before the next question")
		return apigen.PublishedSealdefaultApplicationProblemPlusJSONResponse{Body: p, StatusCode: p.Status}, nil
	}
	jws, err := s.Service.SignedSeal(ctx)
	return apigen.PublishedSeal200ApplicationjoseResponse{Body: strings.NewReader(jws), ContentLength: int64(len(jws))}, err
}

func (s *server) JournalSeal(ctx context.Context, _ apigen.JournalSealRequestObject) (apigen.JournalSealResponseObject, error) {
	jws, err := s.Service.SignedSeal(ctx)
	return apigen.JournalSeal200JSONResponse{Seal: jws}, err
}

func (s *server) PublishedKeys(ctx context.Context, _ apigen.PublishedKeysRequestObject) (apigen.PublishedKeysResponseObject, error) {
	if !s.PublishStatement { // receivers of events verify them by the same keys
		if list, err := s.Service.Webhooks(ctx); err != nil || len(list) == 0 {
			return nil, errors.Join(err, errUnpublished)
		}
	}
	keys, err := s.Service.OurKeys(ctx)
	if err != nil {
		return nil, err
	}
	var out apigen.PublishedKeys200ApplicationJwkSetPlusJSONResponse
	return out, json.Unmarshal(keys, &out)
}

func (s *server) ourStatement(ctx context.Context, audience string) (contract.OurStatement, error) {
	if audience == "" {
		audience = "nobody-listed.example"
	}
	c, err := s.Service.OurClaims(ctx, audience)
	if err != nil {
		return contract.OurStatement{}, err
	}
	out := contract.OurStatement{
		Published: s.PublishStatement,
		For:       c.Audience,
		Issuer:    c.Issuer,
		Expires:   time.Unix(c.Expires, 0).UTC().Format(time.RFC3339),
		Stance:    map[string]string{},
		Keys:      []contract.StatementKey{},
	}
	if s.PublishStatement && s.PublicURL != "" {
		out.Address = ptr(s.PublicURL + statement.StatementPath)
	}
	for k, h := range c.Stance {
		out.Stance[k] = strings.TrimSpace(h.Says + " " + strings.Join(h.Features, " "))
	}
	keys, err := s.Service.StatementKeys(ctx)
	for _, k := range keys {
		out.Keys = append(
			out.Keys,
			contract.StatementKey{Key: k.ID, State: contract.StatementKeyState(k.State), Since: k.Since.UTC().Format(time.RFC3339)},
		)
	}
	return out, err
}

func (s *server) OurStatement(ctx context.Context, r apigen.OurStatementRequestObject) (apigen.OurStatementResponseObject, error) {
	x, err := s.ourStatement(ctx, opt(r.Params.For))
	return apigen.OurStatement200JSONResponse(x), err
}

func (s *server) RollKey(ctx context.Context, r apigen.RollKeyRequestObject) (apigen.RollKeyResponseObject, error) {
	if err := s.Service.RollKey(ctx, by(ctx, r.Body.Why, nil, nil), string(r.Body.Do)); err != nil {
		return nil, err
	}
	x, err := s.ourStatement(ctx, "")
	return apigen.RollKey200JSONResponse(x), err
}

func (s *server) theirStatement(ctx context.Context, id string) (contract.TheirStatement, error) {
	x, err := s.Service.Statement(ctx, id)
	if err != nil {
		return contract.TheirStatement{}, err
	}
	out := statementOut(&x)
	if p, err := s.state(ctx).Partner(id); err == nil {
		out.Address = some(p.Statement)
	}
	return out, nil
}

func statementOut(x *world.Statement) contract.TheirStatement {
	out := contract.TheirStatement{
		Partner: x.Partner,
		Keys:    append([]string{}, x.Keys...),
		Problem: some(x.Problem),
		Reason:  some(x.Reason),
		Offered: some(x.Offered),
	}
	if x.Issued.IsSet() {
		out.Issued, out.Until = ptr(x.Issued.String()), ptr(x.Until.String())
	}
	if x.Fetched.IsSet() {
		out.Fetched = ptr(x.Fetched.String())
	}
	return out
}

func (s *server) TheirStatement(ctx context.Context, r apigen.TheirStatementRequestObject) (apigen.TheirStatementResponseObject, error) {
	x, err := s.theirStatement(ctx, r.Id)
	return apigen.TheirStatement200JSONResponse(x), err
}

func (s *server) FetchStatement(ctx context.Context, r apigen.FetchStatementRequestObject) (apigen.FetchStatementResponseObject, error) {
	err := s.Service.FetchStatement(ctx, by(ctx, ptr("statement fetched by hand"), nil, nil), s.Fetcher, r.Id)
	var wrong *core.Problem
	if err != nil && !errors.As(err, &wrong) {
		return nil, err
	}
	x, err := s.theirStatement(ctx, r.Id)
	if wrong != nil { // it may be known already and not written again
		x.Problem, x.Reason = &wrong.Code, &wrong.Text
	}
	return apigen.FetchStatement200JSONResponse(x), err
}

func (s *server) AcceptKey(ctx context.Context, r apigen.AcceptKeyRequestObject) (apigen.AcceptKeyResponseObject, error) {
	if err := s.Service.AcceptKey(ctx, by(ctx, r.Body.Why, nil, nil), r.Id, r.Body.Key); err != nil {
		return nil, err
	}
	x, err := s.theirStatement(ctx, r.Id)
	return apigen.AcceptKey200JSONResponse(x), err
}
