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
	"github.com/prometheus/client_golang/prometheus"

	"wexillum.example/internal/operations"
	"wexillum.example/internal/service"
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
		next.ServeHTTP(ww, r.WithContext(context.WithValue(r.Context(), notedKey{}, n)))
		took := time.Since(start)
		status := ww.Status()
		if status == 0 {
			status = 200
		}
		s.metrics.request(r.Method, n.pattern, status, took)
		level := slog.LevelInfo
		if n.pattern == "" && status < 400 {
			level = slog.LevelDebug // files of the console
		}
		s.Log.Log(
			r.Context(),
			level,
			"request",
			"id",
			id,
			"method",
			r.Method,
			"path",
			r.URL.Path,
			"route",
			n.pattern,
			"status",
			status,
			"ms",
			float64(took.Microseconds())/1000,
			"bytes",
			ww.BytesWritten(),
			"who",
			n.who,
		)
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
					log.Error("a handler panicked", "panic", p, "path", r.URL.Path)
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

// metrics counts what happens, in the Prometheus text format.
type metrics struct {
	registry  *prometheus.Registry
	requests  *prometheus.HistogramVec
	decisions *prometheus.CounterVec
}

func newMetrics(svc *service.Service) *metrics {
	m := &metrics{registry: prometheus.NewRegistry(),
		requests: prometheus.NewHistogramVec(
			prometheus.HistogramOpts{
				Name:    "wexillum_request_seconds",
				Help:    "Requests by route and status.",
				Buckets: []float64{.0005, .001, .005, .025, .1, .5, 2.5, 10},
			},
			[]string{"method", "route", "status"},
		),
		decisions: prometheus.NewCounterVec(
			prometheus.CounterOpts{Name: "wexillum_decisions_total", Help: "Decisions by action and outcome."},
			[]string{"action", "decision"},
		)}
	gauge := func(name, help string, get func(*service.State) float64) {
		m.registry.MustRegister(
			prometheus.NewGaugeFunc(prometheus.GaugeOpts{Name: name, Help: help}, func() float64 { return get(svc.State()) }),
		)
	}
	m.registry.MustRegister(m.requests, m.decisions)
	gauge(
		"wexillum_revision",
		"Revision of policy that is answered from.",
		func(s *service.State) float64 { return float64(s.Head.Revision) },
	)
	gauge(
		"wexillum_journal_entries",
		"Journal entries that are answered from.",
		func(s *service.State) float64 { return float64(s.Head.Seq) },
	)
	gauge("wexillum_guests", "Records of outsiders.", func(s *service.State) float64 { return float64(s.Counts().Guests) })
	gauge(
		"wexillum_clock_skew_seconds",
		"By how much the clock here is before the database's.",
		func(*service.State) float64 { return svc.ClockSkew().Seconds() },
	)
	gauge("wexillum_steps_behind_seconds", "How long ago everything that was due had been carried out.", func(*service.State) float64 {
		if at := svc.Carried(); at.IsSet() {
			return float64(svc.Now()-at) / 1e6
		}
		return 0
	})
	gauge(
		"wexillum_mail_waiting",
		"Messages that are due and not sent yet.",
		func(*service.State) float64 { return float64(svc.MailWaiting()) },
	)
	for name, x := range map[string]struct {
		help string
		of   func(service.SystemsNow) int
	}{
		"wexillum_systems_away":             {"Systems that could not be read or written when that was tried last.", func(n service.SystemsNow) int { return n.Away }},
		"wexillum_system_settings_open":     {"Settings that are on their way to a system.", func(n service.SystemsNow) int { return n.Open }},
		"wexillum_system_settings_wrong":    {"Settings of carried systems that failed, differ after their span, or wait for somebody.", func(n service.SystemsNow) int { return n.Wrong }},
		"wexillum_system_records_open":      {"Records that are on their way to a system.", func(n service.SystemsNow) int { return n.RecordsOpen }},
		"wexillum_system_records_wrong":     {"Records that do not stand in a system as they are meant.", func(n service.SystemsNow) int { return n.RecordsWrong }},
		"wexillum_system_records_drifting":  {"Records that were changed in a system behind our back.", func(n service.SystemsNow) int { return n.RecordsDrift }},
		"wexillum_system_records_unknown":   {"Records of systems that stand for nothing here and are not let be.", func(n service.SystemsNow) int { return n.RecordsUnknown }},
		"wexillum_system_records_braked":    {"Records that wait to be taken away because they are more than go in a day.", func(n service.SystemsNow) int { return n.Braked }},
		"wexillum_system_settings_drifting": {"Settings that were changed in a system behind our back.", func(n service.SystemsNow) int { return n.Drift }},
	} {
		gauge(name, x.help, func(*service.State) float64 { return float64(x.of(svc.SystemsNow())) })
	}
	gauge("wexillum_grants", "Grants.", func(s *service.State) float64 { return float64(s.Counts().Grants) })
	return m
}

func (m *metrics) request(method, route string, status int, took time.Duration) {
	if route == "" {
		route = "console"
	}
	switch method {
	case http.MethodGet, http.MethodHead, http.MethodPost, http.MethodPut, http.MethodPatch, http.MethodDelete, http.MethodOptions:
	default:
		method = "other" // whatever a stranger sends is one label
	}
	m.requests.WithLabelValues(method, route, statusText(status)).Observe(took.Seconds())
}

func (m *metrics) decided(action string, yes bool) {
	d := "no"
	if yes {
		d = "yes"
	}
	m.decisions.WithLabelValues(action, d).Inc()
}
