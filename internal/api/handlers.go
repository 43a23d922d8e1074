package api

import (
	"context"
	"encoding/base64"
	"net/http"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/service"
)

// base is our own address, as it is set, or as who asks reached us.
func (s *server) base(r *http.Request) string {
	if s.PublicURL != "" {
		return strings.TrimSuffix(s.PublicURL, "/")
	}
	return schemeOf(r) + "://" + r.Host
}

// orZero is what a pointer points at, or nothing.
func orZero[T any](p *T) (v T) {
	if p != nil {
		v = *p
	}
	return
}

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

// by says who makes a change.
func by(ctx context.Context, why *contract.Why, ifMatch *string, preview *bool) service.By {
	return service.By{Who: whoIs(ctx).Name, Why: cause(why), IfMatch: opt(ifMatch), Preview: preview != nil && *preview}
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

func rulesAll() []*catalogue.Rule {
	var out []*catalogue.Rule
	for i := range catalogue.Rules() {
		out = append(out, &catalogue.Rules()[i])
	}
	return out
}
