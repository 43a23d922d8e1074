package api

import (
	"context"
	"crypto/rand"
	_ "embed"
	"fmt"
	"io/fs"
	"log/slog"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/go-chi/chi/v5/middleware"

	"wexillum.example/internal/logs"
	"wexillum.example/internal/operations"
	"wexillum.example/internal/traces"
)

// observe numbers, times, counts and logs every request.
func (s *server) observe(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		id := r.Header.Get("X-Request-ID")
		if !validRequestID(id) {
			id = rand.Text()
		}
		w.Header().Set("X-Request-ID", id)
		n := &noted{}
		ww := middleware.NewWrapResponseWriter(w, r.ProtoMajor)
		start := time.Now()
		ctx, span := traces.Request(r)
		next.ServeHTTP(ww, r.WithContext(logs.Of(context.WithValue(ctx, notedKey{}, n), id)))
		took := time.Since(start)
		status := ww.Status()
		if status == 0 {
			status = 200
		}
		s.metrics.request(r.Method, n.pattern, status, took)
		span.Answered(r.Method, n.pattern, id, status)
		level := slog.LevelInfo
		if n.pattern == "" && status < 400 {
			level = slog.LevelDebug // files of the console
		}
		// Gateways ask by the thousand: of what went well, some is written.
		stands := 1
		if status < 400 && strings.HasPrefix(n.pattern, "/access/") {
			var yes bool
			if stands, yes = s.many.Take(start); !yes {
				return
			}
		}
		line := []any{"id", id, "method", r.Method, "path", r.URL.Path, "route", n.pattern, "status", status,
			"ms", float64(took.Microseconds()) / 1000, "bytes", ww.BytesWritten(), "who", n.who}
		if stands > 1 {
			line = append(line, "stands_for", stands)
		}
		s.Log.Log(r.Context(), level, "request", line...)
	})
}

type notedKey struct{}
type noted struct{ pattern, who string }

func note(r *http.Request, pattern string) {
	if n, ok := r.Context().Value(notedKey{}).(*noted); ok {
		n.pattern = pattern
	}
}

func noteWho(r *http.Request, who string) {
	if n, ok := r.Context().Value(notedKey{}).(*noted); ok {
		n.who = who
	}
}

func validRequestID(id string) bool {
	if id == "" || len(id) > 100 {
		return false
	}
	for i := 0; i < len(id); i++ {
		if id[i] <= ' ' || id[i] > '~' {
			return false
		}
	}
	return true
}

func recoverer(log *slog.Logger) func(http.Handler) http.Handler {
	return func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			defer func() {
				if p := recover(); p != nil {
					if p == http.ErrAbortHandler {
						panic(p)
					}
					log.ErrorContext(r.Context(), "a handler panicked", "panic", p, "path", r.URL.Path)
					writeProblem(w, problemInternal.with(""))
				}
			}()
			next.ServeHTTP(w, r)
		})
	}
}

func (s *server) securityHeaders(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		if s.SecureCookies { // RFC 6797 §6.1
			h.Set("Strict-Transport-Security", "max-age=31536000")
		}
		h.Set(
			"Content-Security-Policy",
			"default-src 'self'; img-src 'self' data:; style-src 'self' 'unsafe-inline'; object-src 'none'; base-uri 'none'; frame-ancestors 'none'; form-action 'self'",
		)
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "same-origin")
		h.Set("Cross-Origin-Opener-Policy", "same-origin")
		next.ServeHTTP(w, r)
	})
}

// console serves the built console; every path of it that is no file is its
// first page, which finds its way by itself.
func console(files fs.FS) http.Handler {
	if files == nil {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			writeProblem(w, problemNotFound.with("this service was built without its console"))
		})
	}
	server := http.FileServerFS(files)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if !safe(r.Method) {
			taken := operations.Methods(r.URL)
			w.Header().Set("Allow", strings.Join(taken, ", ")) // RFC 9110 §15.5.6
			advice := fmt.Sprintf("%s is not taken at %s; send %s", r.Method, r.URL.Path, strings.Join(taken, " or "))
			if r.Method == http.MethodPut && slices.Contains(taken, http.MethodPatch) {
				advice += ". Nothing is replaced as a whole: a PATCH holds what is to be otherwise, as application/merge-patch+json (RFC 7396)"
			}
			writeProblem(w, problemMethod.with(advice))
			return
		}
		name := strings.TrimPrefix(r.URL.Path, "/")
		if f, err := fs.Stat(files, name); name != "" && err == nil && !f.IsDir() {
			if strings.HasPrefix(name, "assets/") {
				w.Header().Set("Cache-Control", "public, max-age=31536000, immutable")
			}
			server.ServeHTTP(w, r)
			return
		}
		if strings.HasPrefix(name, "assets/") {
			http.NotFound(w, r)
			return
		}
		page, err := fs.ReadFile(files, "index.html")
		if err != nil {
			writeProblem(w, problemNotFound.with("the console is not built; run make console"))
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Cache-Control", "no-cache")
		_, _ = w.Write(page)
	})
}
