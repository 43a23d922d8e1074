// Package api is the network's way in: the contract of openapi.yaml, AuthZEN,
// the console's files, health and metrics. Handlers parse, call and write, and
// decide nothing.
package api

import (
	"bytes"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/alexedwards/scs/mysqlstore"
	"github.com/alexedwards/scs/v2"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"
	validator "github.com/oapi-codegen/nethttp-middleware"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/logs"
	"wexillum.example/internal/operations"
	"wexillum.example/internal/service"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

//go:embed served.gen.yaml
var document []byte

// Options says how the network's way in behaves.
type Options struct {
	Service       *service.Service
	Store         *store.Store
	Console       fs.FS // the built console; nil for none
	Log           *slog.Logger
	SecureCookies bool
	PublicURL     string // without a trailing slash; empty: as the request came
	Demo          bool
	Decisions     bool // it answers decisions alone
	Clock         func() time.Time
	Revision      string           // of the program
	Certificate   func() time.Time // until when the certificate of our own https is good; nil for none
	Closing       <-chan struct{}  // closed when the service stops: streams end then
	Idle          time.Duration    // after how long without activity a session ends; 0: two hours
	Fresh         time.Duration    // after how long since signing in the gravest acts ask for it anew; 0: never
	Trusted       []netip.Prefix   // proxies: who they say asks is taken for who asks
	Ahead         bool             // what takes long is found before somebody asks
	BodyTime      time.Duration    // how long a body may take to come, besides files and lists; 0: 30 seconds

	PublishStatement bool               // what our side admits is published, signed
	Fetcher          *statement.Fetcher // of partners' statements; nil takes only https at public addresses
}

type server struct {
	Options
	sessions  *scs.SessionManager
	doors     *scs.SessionManager // of browsers that stand at the guests' door, for a few minutes
	partners  partners            // what partners' own sign-ins say of themselves
	metrics   *metrics
	many      *logs.Sample // of questions that went well
	signIns   *signIns
	asks      *tries // for our statement
	doorTries *tries // of guests
	ownTries  *tries // of what guests write on their own page, and of beginning to sign in elsewhere
	dueLock   sync.Mutex
	results   found
	counting  lately[contract.Numbers]
	repeats   repeats
}

type contextKey int

const (
	whoKey contextKey = iota
	requestKey
	writerKey
)

var errForbidden = service.ErrForbidden

// Body sizes in bytes, and how long a file or a list may take to come.
const (
	maxBody  = 1 << 20
	maxFile  = 256 << 20
	fileTime = 15 * time.Minute
)

func init() { // RFC 7396
	openapi3filter.RegisterBodyDecoder("application/merge-patch+json", openapi3filter.JSONBodyDecoder)
}

// New returns the handler of everything that is served.
func New(o Options) (http.Handler, error) {
	if o.Clock == nil {
		o.Clock = time.Now
	}
	if o.Fetcher == nil {
		o.Fetcher = &statement.Fetcher{}
	}
	if o.BodyTime == 0 {
		o.BodyTime = 30 * time.Second
	}
	if o.Idle == 0 {
		o.Idle = 2 * time.Hour
	}
	s := &server{
		Options:   o,
		metrics:   newMetrics(&o),
		many:      &logs.Sample{First: 20, Every: 100},
		signIns:   newSignIns(),
		asks:      newTries(10, 6*time.Second),
		doorTries: newTries(10, 6*time.Second),
		ownTries:  newTries(30, 4*time.Second),
		repeats:   repeats{byKey: map[string]*repeat{}},
	}
	sweep := 10 * time.Minute
	if o.Decisions { // it writes nothing
		sweep = 0
	}
	kept := mysqlstore.NewWithCleanupInterval(o.Store.DB(), sweep)
	cookies := func(name string, site http.SameSite) *scs.SessionManager {
		m := scs.New()
		m.Store = kept
		m.HashTokenInStore = true
		m.Cookie.Name, m.Cookie.HttpOnly, m.Cookie.SameSite, m.Cookie.Secure = name, true, site, o.SecureCookies
		if o.SecureCookies { // RFC 6265bis §4.1.3.2: of this host alone, whoever sets cookies beside it
			m.Cookie.Name = "__Host-" + name
		}
		m.ErrorFunc = func(w http.ResponseWriter, r *http.Request, err error) {
			o.Log.Error("the session cannot be read", "error", err)
			writeProblem(w, problemAway.with(""))
		}
		return m
	}
	s.sessions = cookies("wexillum_session", http.SameSiteStrictMode)
	s.sessions.Lifetime, s.sessions.IdleTimeout = 12*time.Hour, o.Idle
	// A partner's sign-in leads back from another site, where a strict cookie does not come along.
	s.doors = cookies("wexillum_door", http.SameSiteLaxMode)
	s.doors.Lifetime = 20 * time.Minute

	spec, err := apigen.GetSpec()
	if err != nil {
		return nil, err
	}
	spec.Servers = nil
	check := validator.OapiRequestValidatorWithOptions(spec, &validator.Options{
		DoNotValidateServers:  true,
		SilenceServersWarning: true,
		Options:               openapi3filter.Options{AuthenticationFunc: openapi3filter.NoopAuthenticationFunc},
		ErrorHandlerWithOpts: func(_ context.Context, err error, w http.ResponseWriter, _ *http.Request, o validator.ErrorHandlerOpts) {
			writeProblem(w, invalidRequest(err, o.StatusCode))
		},
	})

	// One match decides both who may call and what is called: the guard stands behind the
	// router, before every handler.
	api := chi.NewRouter()
	routes := api.With(s.guard)
	strict := apigen.NewStrictHandlerWithOptions(s, nil, apigen.StrictHTTPServerOptions{
		RequestErrorHandlerFunc:  func(w http.ResponseWriter, _ *http.Request, err error) { writeProblem(w, badBody(err)) },
		ResponseErrorHandlerFunc: s.failed,
	})
	routes.Group(func(r chi.Router) {
		r.Use(func(next http.Handler) http.Handler {
			checked := check(next)
			return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
				if operationOf(r).List { // a file or a list is judged by its reader
					next.ServeHTTP(w, r)
					return
				}
				checked.ServeHTTP(w, r)
			})
		}, s.repeat)
		apigen.HandlerWithOptions(
			strict,
			apigen.ChiServerOptions{BaseRouter: r, ErrorHandlerFunc: func(w http.ResponseWriter, _ *http.Request, err error) {
				writeProblem(w, problemInvalid.with(err.Error()))
			}},
		)
	})
	routes.Post("/access/v1/evaluation", s.evaluation)
	routes.Post("/access/v1/evaluations", s.evaluations)
	routes.Post("/access/v1/search/subject", s.searchSubject)
	routes.Post("/access/v1/search/resource", s.searchResource)
	routes.Post("/access/v1/search/action", s.searchAction)
	routes.Get("/.well-known/authzen-configuration", s.authzenConfiguration)
	routes.Get("/api/v1/openapi.yaml", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/yaml")
		_, _ = w.Write(document)
	})
	routes.Get("/healthz", func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("ok\n")) })
	// Who asks for decisions alone is served by what still answers: questions go on while the database is away.
	routes.Get("/readyz/decisions", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/plain; charset=utf-8")
		fmt.Fprintf(w, "decides, by what was known at %s\n", o.Service.KnownAt())
	})
	routes.Get("/readyz", func(w http.ResponseWriter, r *http.Request) {
		ctx, cancel := context.WithTimeout(r.Context(), 2*time.Second)
		defer cancel()
		read, write, follow := o.Service.Ready(ctx)
		if read == nil && write == nil && follow == nil {
			_, _ = w.Write([]byte("ready\n"))
			return
		}
		state := func(what string, err error) string {
			if err == nil {
				return what + " works"
			}
			return what + " does not work"
		}
		p := problemAway
		for _, err := range []error{read, write} {
			if err != nil && store.TroubleOf(err) == store.ReadOnly {
				p = problemReadOnly
			}
		}
		if read == nil && write == nil {
			p = problemBehind
		}
		o.Log.Warn("not ready", "read", read, "write", write, "follow", follow)
		writeProblem(w, p.with(state("reading", read)+", "+state("writing", write)+", "+state("following other services", follow)))
	})
	routes.Method(http.MethodGet, "/metrics", promhttp.HandlerFor(s.metrics.registry, promhttp.HandlerOpts{}))
	api.NotFound(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, problemNotFound.with("nothing is served at "+r.URL.Path))
	})
	api.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		taken := operations.Methods(r.URL)
		w.Header().Set("Allow", strings.Join(taken, ", ")) // RFC 9110 §15.5.6
		advice := fmt.Sprintf("%s is not taken at %s; send %s", r.Method, r.URL.Path, strings.Join(taken, " or "))
		if r.Method == http.MethodPut && slices.Contains(taken, http.MethodPatch) {
			advice += ". Nothing is replaced as a whole: a PATCH holds what is to be otherwise, as application/merge-patch+json (RFC 7396)"
		}
		writeProblem(w, problemMethod.with(advice))
	})

	root := chi.NewRouter()
	root.Use(s.forwarded, s.observe, recoverer(o.Log), s.securityHeaders, compressed)
	for _, p := range []string{"/api/*", "/access/*", "/.well-known/*", "/healthz", "/readyz", "/readyz/decisions", "/metrics"} {
		root.Handle(p, api)
	}
	root.Handle("/scim/*", s.scimRoutes())
	root.Post(EventsPath, s.takeEvent)
	root.Handle("/*", console(o.Console))
	if o.Ahead && !o.Decisions {
		go s.countAhead()
	}
	return root, nil
}

// compressed sends what is long in gzip to whoever takes it (RFC 9110 §12.5.3). Streams go as they
// are, and so does the session, whose csrf value must not be guessed from the length of an answer.
func compressed(next http.Handler) http.Handler {
	const level = 5
	with := middleware.Compress(
		level,
		"text/html",
		"text/css",
		"text/csv",
		"text/javascript",
		"application/javascript",
		"application/json",
		"application/problem+json",
		"application/scim+json",
		"application/yaml",
		"image/svg+xml",
	)(next)
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		// Decisions are asked by gateways close by, and compressing one takes longer than making it.
		if r.URL.Path == "/api/v1/session" || strings.HasPrefix(r.URL.Path, "/access/v1/") {
			next.ServeHTTP(w, r)
			return
		}
		with.ServeHTTP(w, r)
	})
}

// failed writes the problem that an error of a handler is.
func (s *server) failed(w http.ResponseWriter, r *http.Request, err error) {
	p := problemOf(err)
	if p.Status == 500 || p.Status == http.StatusServiceUnavailable && r.Context().Err() == nil {
		s.Log.ErrorContext(r.Context(), "a request failed", "method", r.Method, "path", r.URL.Path, "error", err)
	}
	if begun(w) { // whoever reads it must not take a part for the whole
		panic(http.ErrAbortHandler)
	}
	writeProblem(w, p)
}

// begun reports whether the head of an answer is on its way.
func begun(w http.ResponseWriter) bool {
	for {
		switch x := w.(type) {
		case interface{ Status() int }:
			return x.Status() != 0
		case interface{ Unwrap() http.ResponseWriter }:
			w = x.Unwrap()
		default:
			return false
		}
	}
}

func badBody(err error) contract.Problem {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return problemLarge.with(err.Error())
	}
	return problemInvalid.with("the body is not what the contract says: " + err.Error())
}

// invalidRequest turns what the contract's check found into a problem that names
// the field and the value.
func invalidRequest(err error, status int) contract.Problem {
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return problemLarge.with(err.Error())
	}
	p := problemInvalid.with(oneLine(err.Error()))
	if status == http.StatusUnsupportedMediaType {
		p = problemMedia.with(oneLine(err.Error()))
	}
	var req *openapi3filter.RequestError
	if errors.As(err, &req) {
		if req.Parameter != nil {
			name := req.Parameter.Name
			p.Field = &name
		}
		if req.RequestBody != nil && strings.Contains(req.Reason, "Content-Type") {
			p = problemMedia.with("send " + strings.Join(slices.Sorted(maps.Keys(req.RequestBody.Content)), " or "))
			if req.Input != nil && req.Input.Request != nil {
				sent := req.Input.Request.Header.Get("Content-Type")
				p.Field, p.Value = ptr("Content-Type"), &sent
			}
			return p
		}
		field, value, reason := schemaError(req.Err)
		if field != "" {
			p.Field = &field
		}
		if value != "" {
			p.Value = &value
		}
		if req.Parameter != nil && req.Input != nil && req.Input.Request != nil { // say which parameter, and what stood there
			if sent := req.Input.Request.URL.Query().Get(req.Parameter.Name); sent != "" {
				p.Value, reason = &sent, fmt.Sprintf("%s %q: %s", req.Parameter.Name, sent, strings.TrimPrefix(reason, "at '': "))
			}
		}
		var parse *openapi3filter.ParseError
		if req.Parameter != nil && errors.As(req.Err, &parse) { // what the parser says of it is meant for programmers
			sent := fmt.Sprint(parse.Value)
			if plain, err := url.PathUnescape(sent); err == nil {
				sent = plain
			}
			write := "it cannot be read"
			if s := req.Parameter.Schema; s != nil && s.Value != nil {
				switch {
				case s.Value.Type.Is("integer"):
					write = "write a whole number"
				case s.Value.Type.Is("boolean"):
					write = "write true or false"
				}
			}
			p.Value, reason = &sent, fmt.Sprintf("%s %q: %s", req.Parameter.Name, sent, write)
		}
		if reason != "" {
			p.Detail = &reason
		}
	}
	return p
}

func oneLine(s string) string {
	s, _, _ = strings.Cut(s, "\n")
	return s
}

// repeats keeps the answers of requests that create, so that a repeated key gets
// the same answer and creates nothing again.
type repeats struct {
	sync.Mutex
	byKey map[string]*repeat
}

type repeat struct {
	done   chan struct{}
	at     time.Time
	body   string // hash of the request
	status int
	header http.Header
	answer []byte
	secret bool // the answer is not kept
}

// capture keeps an answer while it is written.
type capture struct {
	http.ResponseWriter
	status int
	body   bytes.Buffer
}

func (c *capture) Unwrap() http.ResponseWriter { return c.ResponseWriter }

func (c *capture) WriteHeader(status int) {
	c.status = status
	c.ResponseWriter.WriteHeader(status)
}

func (c *capture) Write(b []byte) (int, error) {
	if c.status == 0 {
		c.status = http.StatusOK
	}
	c.body.Write(b)
	return c.ResponseWriter.Write(b)
}

// repeatsKept is how many answers are kept at most; beyond that the oldest go.
const repeatsKept = 2000

// repeat answers a request with a known Idempotency-Key as before. Keys are kept
// for a day by the service that saw them. What is shown once is not kept: repeated, such a
// request is told that it was done.
func (s *server) repeat(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		key := r.Header.Get("Idempotency-Key")
		if _, known := r.Context().Value(whoKey).(service.Who); key == "" || r.Method != http.MethodPost || !known {
			next.ServeHTTP(w, r)
			return
		}
		sum, err := bodySum(r)
		if err != nil {
			writeProblem(w, badBody(err))
			return
		}
		name := strings.Join([]string{whoIs(r.Context()).Name, r.URL.EscapedPath(), r.URL.RawQuery, r.Header.Get(draftHeader), key}, "\x00")
		now := s.Clock()
		s.repeats.Lock()
		for k, old := range s.repeats.byKey {
			if now.Sub(old.at) > 24*time.Hour {
				delete(s.repeats.byKey, k)
			}
		}
		old := s.repeats.byKey[name]
		for old == nil && len(s.repeats.byKey) >= repeatsKept {
			oldest, at := "", now
			for k, x := range s.repeats.byKey {
				if oldest == "" || x.at.Before(at) {
					oldest, at = k, x.at
				}
			}
			delete(s.repeats.byKey, oldest)
		}
		if old == nil {
			old = &repeat{done: make(chan struct{}), at: now, body: sum}
			s.repeats.byKey[name] = old
			s.repeats.Unlock()
			c := &capture{ResponseWriter: w}
			defer func() {
				old.status = c.status
				if old.secret = operationOf(r).ShownOnce && c.status < 300; !old.secret {
					old.header, old.answer = w.Header().Clone(), c.body.Bytes()
					old.header.Del("Content-Encoding") // it is kept as it was before it was compressed
				}
				if c.status >= 500 || c.status == 0 {
					s.repeats.Lock()
					delete(s.repeats.byKey, name)
					s.repeats.Unlock()
				}
				close(old.done)
			}()
			next.ServeHTTP(c, r)
			return
		}
		s.repeats.Unlock()
		if old.body != sum {
			writeProblem(w, problemConflict.with("this Idempotency-Key was sent with another request"))
			return
		}
		<-old.done
		if old.secret {
			writeProblem(w, problemConflict.with("this was done with the same Idempotency-Key already; what it made is shown once"))
			return
		}
		for k, v := range old.header {
			w.Header()[k] = v
		}
		w.Header().Set("Idempotency-Replayed", "true")
		w.WriteHeader(max(old.status, 200))
		_, _ = w.Write(old.answer)
	})
}
