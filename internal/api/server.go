// Package api is the network's way in: the contract of openapi.yaml, AuthZEN,
// the console's files, health and metrics. Handlers parse, call and write, and
// decide nothing.
package api

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/subtle"
	_ "embed"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"maps"
	"net/http"
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
	"github.com/prometheus/client_golang/prometheus"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/contract"
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
	Clock         func() time.Time
	Closing       <-chan struct{} // closed when the service stops: streams end then
	Idle          time.Duration   // after how long without activity a session ends; 0: two hours
	BodyTime      time.Duration   // how long a body may take to come, besides files and lists; 0: 30 seconds

	PublishStatement bool               // what our side admits is published, signed
	Fetcher          *statement.Fetcher // of partners' statements; nil takes only https at public addresses
}

type server struct {
	Options
	sessions  *scs.SessionManager
	doors     *scs.SessionManager // of browsers that stand at the guests' door, for a few minutes
	partners  partners            // what partners' own sign-ins say of themselves
	metrics   *metrics
	signIns   *signIns
	asks      *tries // for our statement
	doorTries *tries // of guests
	dueLock   sync.Mutex
	results   found
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
		metrics:   newMetrics(o.Service),
		signIns:   newSignIns(),
		asks:      newTries(10, 6*time.Second),
		doorTries: newTries(10, 6*time.Second),
		repeats:   repeats{byKey: map[string]*repeat{}},
	}
	kept := mysqlstore.NewWithCleanupInterval(o.Store.DB(), 10*time.Minute)
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
	root.Use(s.observe, recoverer(o.Log), s.securityHeaders, compressed)
	for _, p := range []string{"/api/*", "/access/*", "/.well-known/*", "/healthz", "/readyz", "/readyz/decisions", "/metrics"} {
		root.Handle(p, api)
	}
	root.Handle("/*", console(o.Console))
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
		if r.URL.Path == "/api/v1/session" {
			next.ServeHTTP(w, r)
			return
		}
		with.ServeHTTP(w, r)
	})
}

// patternOf returns the route that a request was matched to.
func patternOf(r *http.Request) string {
	if c := chi.RouteContext(r.Context()); c != nil && len(c.RoutePatterns) > 0 {
		return c.RoutePatterns[len(c.RoutePatterns)-1]
	}
	return ""
}

// operationOf returns the operation that a request was matched to; nil where the contract has none.
func operationOf(r *http.Request) *operations.Operation {
	return operations.ByPattern(r.Method, patternOf(r))
}

// guard lets a request through whose account has a role for the route, and keeps
// requests from other sites out.
func (s *server) guard(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		pattern := patternOf(r)
		note(r, pattern)
		op := operationOf(r)
		if op == nil { // what the contract does not name is nobody's
			writeProblem(w, problemForbidden.with(""))
			return
		}
		limit := int64(maxBody)
		if op.List {
			limit = maxFile
		}
		r.Body = http.MaxBytesReader(w, r.Body, limit)
		if r.ContentLength != 0 {
			within := s.BodyTime
			if limit == maxFile {
				within = fileTime
			}
			// net/http takes the deadline back where the body ends.
			if err := http.NewResponseController(w).SetReadDeadline(time.Now().Add(within)); err != nil &&
				!errors.Is(err, http.ErrNotSupported) {
				s.failed(w, r, err)
				return
			}
		}
		w.Header().Set("Cache-Control", "no-store") // what is answered is for whoever asked
		ctx, err := load(r.Context(), s.sessions, r)
		if err == nil && strings.HasPrefix(pattern, "/api/v1/door") {
			ctx, err = load(ctx, s.doors, r)
		}
		if err != nil {
			s.sessions.ErrorFunc(w, r, err)
			return
		}
		ctx = context.WithValue(ctx, writerKey, w)
		if !op.Open() {
			who, cookie, err := s.authenticate(ctx, r)
			switch {
			case errors.Is(err, service.ErrDenied):
				if cookie { // for good: it does not come back with the right to it
					if err := s.sessions.Destroy(ctx); err != nil {
						s.Log.Error("a session cannot be ended", "error", err)
					} else {
						_ = s.saveSession(ctx)
					}
				}
				w.Header().Set("WWW-Authenticate", `Bearer realm="wexillum"`)
				writeProblem(w, problemSignIn.with("sign in, or send a token that has not ended"))
				return
			case err != nil:
				s.Log.Error("who asks cannot be found out", "error", err)
				writeProblem(w, problemAway.with(""))
				return
			case !op.Has(string(who.Role)):
				writeProblem(w, problemForbidden.with("the role "+string(who.Role)+" may not "+r.Method+" "+pattern))
				return
			}
			if cookie && !safe(r.Method) {
				sent, want := r.Header.Get("X-CSRF-Token"), s.sessions.GetString(ctx, "csrf")
				if want == "" || subtle.ConstantTimeCompare([]byte(sent), []byte(want)) != 1 {
					writeProblem(w, problemCSRF.with("send the csrf value of the session as X-CSRF-Token"))
					return
				}
			}
			if cookie && r.Header.Get(idleHeader) == "" && pattern != "/api/v1/changes" {
				if err := s.touch(ctx); err != nil {
					s.sessions.ErrorFunc(w, r, err)
					return
				}
			}
			ctx = context.WithValue(ctx, whoKey, who)
			noteWho(r, who.Name)
			if ctx, err = s.inDraft(ctx, r, op, who); err != nil {
				s.failed(w, r, err)
				return
			}
			if ctx, err = s.asFound(ctx, w, r, op, who); err != nil {
				s.failed(w, r, err)
				return
			}
		}
		ctx = context.WithValue(ctx, requestKey, r)
		next.ServeHTTP(w, r.WithContext(ctx))
	})
}

// state returns what questions are asked of: as the draft that a request is in would
// make it, else the present.
func (s *server) state(ctx context.Context) *service.State {
	if st, err := s.Service.StateIn(ctx); err == nil {
		return st
	}
	return s.Service.State() // the draft went away while it was being asked
}

// draftHeader names the draft that a request is in.
const draftHeader = "Wexillum-Draft"

// inDraft finds the draft that a request is in, and refuses what may only be done in
// one: a keeper's changes of policy, which an administrator publishes.
func (s *server) inDraft(ctx context.Context, r *http.Request, op *operations.Operation, who service.Who) (context.Context, error) {
	where, err := url.PathUnescape(chi.URLParam(r, "where"))
	if err != nil {
		return ctx, &service.Invalid{Field: "where", Value: chi.URLParam(r, "where"), Reason: err.Error()}
	}
	how := op.InDraft(where, r.URL.Query().Get("preview") == "true")
	name := r.Header.Get(draftHeader)
	if name == "" && safe(r.Method) { // a link to a report carries no header
		name = r.URL.Query().Get("draft")
	}
	if name == "" {
		if who.Role == service.Keeper && how == operations.Policy {
			return ctx, fmt.Errorf(
				"%w: keepers change policy in a draft that an administrator publishes; make one, and send its id as %s",
				errForbidden,
				draftHeader,
			)
		}
		return ctx, nil
	}
	if who.Role != service.Administrator && who.Role != service.Keeper && who.Role != service.Auditor {
		return ctx, fmt.Errorf("%w: drafts are for administrators, keepers and auditors", errForbidden)
	}
	if how == operations.Never {
		if safe(r.Method) { // it is the same in every draft
			return ctx, nil
		}
		return ctx, fmt.Errorf("%w: this changes at once; a draft is of policy: send it without %s", service.ErrConflict, draftHeader)
	}
	if strings.HasPrefix(op.Pattern, "/api/v1/drafts") { // it names its draft itself
		return ctx, nil
	}
	ctx = service.InDraft(ctx, name)
	_, err = s.Service.StateIn(ctx)
	return ctx, err
}

func safe(method string) bool { return method == http.MethodGet || method == http.MethodHead }

// load loads the session that a cookie names, without the middleware of scs: few requests
// write it.
func load(ctx context.Context, m *scs.SessionManager, r *http.Request) (context.Context, error) {
	token := ""
	if c, err := r.Cookie(m.Cookie.Name); err == nil {
		token = c.Value
	}
	return m.Load(ctx, token)
}

func save(ctx context.Context, m *scs.SessionManager) error {
	w := ctx.Value(writerKey).(http.ResponseWriter)
	if m.Status(ctx) == scs.Destroyed {
		m.WriteSessionCookie(ctx, w, "", time.Time{})
		return nil
	}
	token, expiry, err := m.Commit(ctx)
	if err == nil {
		m.WriteSessionCookie(ctx, w, token, expiry)
	}
	return err
}

func (s *server) saveSession(ctx context.Context) error { return save(ctx, s.sessions) }

// idleHeader marks requests that a page sends by itself while nobody sits before it. They do
// not keep a session.
const idleHeader = "Wexillum-Idle"

// touch keeps a session for as long again, at most once a minute.
func (s *server) touch(ctx context.Context) error {
	every := min(time.Minute, s.Idle/4)
	now := time.Now() // as the sessions' own ends
	if now.Sub(time.UnixMilli(s.sessions.GetInt64(ctx, "touched"))) < every {
		return nil
	}
	s.sessions.Put(ctx, "touched", now.UnixMilli())
	return s.saveSession(ctx)
}

// authenticate finds who makes a request, by token or by session.
func (s *server) authenticate(ctx context.Context, r *http.Request) (who service.Who, cookie bool, err error) {
	if h := r.Header.Get("Authorization"); h != "" {
		scheme, text, _ := strings.Cut(h, " ")
		if !strings.EqualFold(scheme, "Bearer") {
			return who, false, service.ErrDenied
		}
		who, err = s.Service.Bearer(ctx, strings.TrimSpace(text))
		if err == nil && who.OfService() {
			s.Service.TokenUsed(who, remote(r))
		}
		return who, false, err
	}
	name := s.sessions.GetString(ctx, "account")
	if name == "" {
		return who, false, service.ErrDenied
	}
	since, _ := s.sessions.Get(ctx, "since").(uint64)
	if strings.HasPrefix(name, "guest:") {
		who, err = s.Service.GuestOf(ctx, name, since)
	} else {
		who, err = s.Service.WhoIs(ctx, name, since)
	}
	return who, true, err
}

func whoIs(ctx context.Context) service.Who { return ctx.Value(whoKey).(service.Who) }

// failed writes the problem that an error of a handler is.
func (s *server) failed(w http.ResponseWriter, r *http.Request, err error) {
	p := problemOf(err)
	if p.Status == 500 || p.Status == http.StatusServiceUnavailable && r.Context().Err() == nil {
		s.Log.Error("a request failed", "method", r.Method, "path", r.URL.Path, "error", err)
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
