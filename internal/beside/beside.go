// Package beside serves the contract of internal/connector/open for a server that it stands beside: it is the half
// that somebody with another suite writes. Its program is cmd/wexillum-beside.
package beside

import (
	"context"
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/native"
)

// Server is one server as it is spoken to: what its connector would do.
type Server interface {
	Describe() *native.Dialect
	Read(ctx context.Context) (map[string]string, error)
	Write(ctx context.Context, path, value string) error
	Try(ctx context.Context, a native.Attempt) (native.Attempted, error)
	List(ctx context.Context, kind string, fn func(native.Kept) error) error
	One(ctx context.Context, kind, id string) (*native.Kept, error)
	Put(ctx context.Context, kind, id string, fields map[string]string) (string, error)
	Drop(ctx context.Context, kind, id string) error
}

// Refuse is a no for good, in words of the server.
func Refuse(format string, args ...any) error {
	return RefuseAs(http.StatusUnprocessableEntity, fmt.Sprintf(format, args...))
}

// RefuseAs is a no with a status of its own.
func RefuseAs(status int, says string) error { return &wire.Refused{Status: status, Says: says} }

// page is how many records are handed over at once.
const page = 1000

// listing keeps what was listed last of each kind for the pages behind the first, so that a server is not read once for
// each page.
type listing struct {
	sync.Mutex
	of map[string]listed
}

type listed struct {
	at      time.Time
	records []open.Record
}

// listedFor is how long the pages behind the first are what the first one was.
const listedFor = time.Minute

func (l *listing) page(ctx context.Context, s Server, kind, after string) (open.Page, error) {
	l.Lock()
	defer l.Unlock()
	x, ok := l.of[kind]
	if after == "" || !ok || time.Since(x.at) > listedFor {
		x = listed{at: time.Now()}
		if err := s.List(ctx, kind, func(k native.Kept) error {
			x.records = append(x.records, record(&k))
			return nil
		}); err != nil {
			return open.Page{}, err
		}
		l.of[kind] = x
	}
	from := sort.Search(len(x.records), func(i int) bool { return x.records[i].Id > after })
	out := open.Page{Records: append([]open.Record{}, x.records[from:min(from+page, len(x.records))]...)}
	if from+page < len(x.records) {
		out.Next = out.Records[page-1].Id
	} else {
		delete(l.of, kind)
	}
	return out, nil
}

// Guarded lets calls through that carry the token.
func Guarded(token string, next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		given, ok := strings.CutPrefix(q.Header.Get("Authorization"), "Bearer ")
		if !ok || token == "" || subtle.ConstantTimeCompare([]byte(given), []byte(token)) != 1 {
			problem(w, RefuseAs(http.StatusUnauthorized, "the token is not the one that was agreed"))
			return
		}
		next.ServeHTTP(w, q)
	})
}

// Handler serves a server to whoever has the token.
func Handler(s Server, token string) http.Handler {
	r := chi.NewRouter()
	lists := &listing{of: map[string]listed{}}
	r.Use(func(next http.Handler) http.Handler { return Guarded(token, next) })
	r.NotFound(func(w http.ResponseWriter, _ *http.Request) {
		problem(w, &wire.Refused{Status: http.StatusNotFound, Says: "the contract has no such call"})
	})
	r.Get("/v1/description", func(w http.ResponseWriter, _ *http.Request) { Answer(w, open.Describing(s.Describe()), nil) })
	r.Get("/v1/settings", func(w http.ResponseWriter, q *http.Request) {
		x, err := s.Read(q.Context())
		Answer(w, open.Settings{Settings: x}, err)
	})
	r.Post("/v1/settings", func(w http.ResponseWriter, q *http.Request) {
		var x open.Write
		if !Body(w, q, &x) {
			return
		}
		done(w, s.Write(q.Context(), x.Path, x.Value))
	})
	r.Post("/v1/try", func(w http.ResponseWriter, q *http.Request) {
		var x open.Attempt
		if !Body(w, q, &x) {
			return
		}
		y, err := s.Try(q.Context(), native.Attempt{Action: x.Action, As: native.As(x.As), From: x.From, To: x.To, Place: x.Place,
			Administrator: x.Administrator, Private: x.Private})
		Answer(w, open.Attempted{Known: y.Known, Admitted: y.Admitted, Says: y.Says, Theirs: y.Theirs, Making: y.Making}, err)
	})
	r.Route("/v1/records/{kind}", func(r chi.Router) {
		param := func(q *http.Request, name string) string {
			text := chi.URLParam(q, name)
			if q.URL.RawPath != "" { // there is a slash in it, and it is as it was sent
				if plain, err := url.PathUnescape(text); err == nil {
					return plain
				}
			}
			return text
		}
		kind := func(q *http.Request) string { return param(q, "kind") }
		id := func(q *http.Request) string { return param(q, "id") }
		r.Get("/", func(w http.ResponseWriter, q *http.Request) {
			x, err := lists.page(q.Context(), s, kind(q), q.URL.Query().Get("after"))
			Answer(w, x, err)
		})
		put := func(w http.ResponseWriter, q *http.Request) {
			var x open.Fields
			if !Body(w, q, &x) {
				return
			}
			made, err := s.Put(q.Context(), kind(q), id(q), x.Fields)
			Answer(w, open.Made{Id: made}, err)
		}
		r.Post("/", put)
		r.Put("/{id}", put)
		r.Get("/{id}", func(w http.ResponseWriter, q *http.Request) {
			k, err := s.One(q.Context(), kind(q), id(q))
			if err == nil && k == nil {
				err = &wire.Refused{Status: http.StatusNotFound, Says: "it is not there"}
			}
			if err != nil {
				problem(w, err)
				return
			}
			Answer(w, record(k), nil)
		})
		r.Delete("/{id}", func(w http.ResponseWriter, q *http.Request) { done(w, s.Drop(q.Context(), kind(q), id(q))) })
	})
	return r
}

func record(k *native.Kept) open.Record {
	return open.Record{Id: k.ID, Fields: k.Fields, By: k.By, Opened: k.Opened}
}

// Body reads what was sent, and answers itself where it is not what the contract says.
func Body(w http.ResponseWriter, q *http.Request, to any) bool {
	d := json.NewDecoder(io.LimitReader(q.Body, 1<<20))
	d.DisallowUnknownFields()
	if err := d.Decode(to); err != nil {
		problem(w, &wire.Refused{Status: http.StatusBadRequest, Says: "that is not what the contract says: " + err.Error()})
		return false
	}
	return true
}

// Answer sends an answer, or says what is wrong.
func Answer(w http.ResponseWriter, x any, err error) {
	if err != nil {
		problem(w, err)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(x)
}

func done(w http.ResponseWriter, err error) {
	if err != nil {
		problem(w, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}

// problem says an error as RFC 9457 has it: what a server refuses as it refuses it, all else as a fault that passes.
func problem(w http.ResponseWriter, err error) {
	x := open.Problem{Title: "It cannot be done now", Status: http.StatusServiceUnavailable, Detail: err.Error()}
	var r *wire.Refused
	if errors.As(err, &r) {
		x = open.Problem{Title: "It is refused", Status: r.Status, Detail: r.Says}
	}
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(x.Status)
	_ = json.NewEncoder(w).Encode(x)
}
