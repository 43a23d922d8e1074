// Package logs is how the service logs: every line of what a request brought about with the id of the request, nobody's address in it, and
// of what is many alike, some.
package logs

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"log/slog"
	"regexp"
	"strings"
	"sync"
	"time"
)

type requestKey struct{}

// Of returns a context whose lines say that a request brought them about.
func Of(ctx context.Context, request string) context.Context {
	return context.WithValue(ctx, requestKey{}, request)
}

// Handler is a handler that has the id of the request in every line, and pseudonyms in place of addresses.
type Handler struct {
	slog.Handler
	key []byte
}

// New puts a handler before another one. Under the same key the same address has the same pseudonym.
func New(next slog.Handler, key []byte) *Handler { return &Handler{next, key} }

// address is what reads like a mail address, in a path too.
var address = regexp.MustCompile(`[A-Za-z0-9._+'-]+(@|%40)[A-Za-z0-9-]+(\.[A-Za-z0-9-]+)+`)

// Pseudonym is what stands for an address: the domain stays, as it is whose people somebody is of.
func (h *Handler) Pseudonym(a string) string {
	a = strings.ToLower(strings.Replace(a, "%40", "@", 1))
	m := hmac.New(sha256.New, h.key)
	m.Write([]byte(a))
	return "p-" + hex.EncodeToString(m.Sum(nil)[:6]) + a[strings.LastIndexByte(a, '@'):]
}

func (h *Handler) plain(text string) string {
	if !strings.Contains(text, "@") && !strings.Contains(text, "%40") {
		return text
	}
	return address.ReplaceAllStringFunc(text, h.Pseudonym)
}

func (h *Handler) attr(a slog.Attr) slog.Attr {
	v := a.Value.Resolve()
	switch v.Kind() {
	case slog.KindString:
		return slog.String(a.Key, h.plain(v.String()))
	case slog.KindAny:
		if err, ok := v.Any().(error); ok {
			return slog.String(a.Key, h.plain(err.Error()))
		}
	case slog.KindGroup:
		of := make([]slog.Attr, 0, len(v.Group()))
		for _, x := range v.Group() {
			of = append(of, h.attr(x))
		}
		return slog.Attr{Key: a.Key, Value: slog.GroupValue(of...)}
	}
	return a
}

// Handle writes a line.
func (h *Handler) Handle(ctx context.Context, r slog.Record) error {
	out := slog.NewRecord(r.Time, r.Level, h.plain(r.Message), r.PC)
	has := false
	r.Attrs(func(a slog.Attr) bool {
		has = has || a.Key == "id"
		out.AddAttrs(h.attr(a))
		return true
	})
	if id, ok := ctx.Value(requestKey{}).(string); ok && !has {
		out.AddAttrs(slog.String("id", id))
	}
	return h.Handler.Handle(ctx, out)
}

// WithAttrs is as of slog.Handler.
func (h *Handler) WithAttrs(of []slog.Attr) slog.Handler {
	plain := make([]slog.Attr, 0, len(of))
	for _, a := range of {
		plain = append(plain, h.attr(a))
	}
	return &Handler{h.Handler.WithAttrs(plain), h.key}
}

// WithGroup is as of slog.Handler.
func (h *Handler) WithGroup(name string) slog.Handler {
	return &Handler{h.Handler.WithGroup(name), h.key}
}

// Sample lets lines through that are many alike: so many in each second, and of the others one for each so many.
type Sample struct {
	First, Every int

	mu     sync.Mutex
	second int64
	n      int
}

// Take reports whether a line is written at a moment, and for how many it stands.
func (s *Sample) Take(at time.Time) (stands int, yes bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if now := at.Unix(); now != s.second {
		s.second, s.n = now, 0
	}
	s.n++
	switch {
	case s.n <= s.First:
		return 1, true
	case (s.n-s.First)%s.Every == 0:
		return s.Every, true
	}
	return 0, false
}
