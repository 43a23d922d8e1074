package api

import (
	"context"
	"crypto/subtle"
	_ "embed"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/alexedwards/scs/v2"
	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/operations"
	"wexillum.example/internal/service"
)

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

// decides reports whether a service that answers decisions alone takes an operation: what gateways ask, and how it is.
func decides(op *operations.Operation) bool {
	if op.Open() {
		return !strings.HasPrefix(op.Pattern, "/api/") && safe(op.Method)
	}
	return op.Has(string(service.Decisions)) || op.Has(string(service.Metrics))
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
		if s.Decisions && !decides(op) {
			writeProblem(w, problemForbidden.with("this service answers decisions alone (only: decisions); send this to one that does everything"))
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
						s.Log.ErrorContext(r.Context(), "a session cannot be ended", "error", err)
					} else {
						_ = s.saveSession(ctx)
					}
				}
				w.Header().Set("WWW-Authenticate", `Bearer realm="wexillum"`)
				writeProblem(w, problemSignIn.with("sign in, or send a token that has not ended"))
				return
			case err != nil:
				s.Log.ErrorContext(r.Context(), "who asks cannot be found out", "error", err)
				writeProblem(w, problemAway.with(""))
				return
			case !op.Has(string(who.Role)):
				writeProblem(w, problemForbidden.with(whose(who)+" may not "+r.Method+" "+pattern))
				return
			}
			if !op.BeforeFactor {
				lacks, err := s.Service.LacksFactor(ctx, who)
				if err != nil {
					writeProblem(w, problemAway.with(""))
					return
				}
				if lacks {
					writeProblem(w,
						problemFactor.with("the role "+string(who.Role)+" has to have a second factor (settings.second_factor): set it up on your account's page, or with wexillum account factor begin"))
					return
				}
			}
			if cookie && !safe(r.Method) {
				sent, want := r.Header.Get("X-CSRF-Token"), s.sessions.GetString(ctx, "csrf")
				if want == "" || subtle.ConstantTimeCompare([]byte(sent), []byte(want)) != 1 {
					writeProblem(w, problemCSRF.with("send the csrf value of the session as X-CSRF-Token"))
					return
				}
			}
			if who.Guest != "" && !safe(r.Method) && !s.ownTries.allow(who.Guest, s.Clock()) {
				w.Header().Set("Retry-After", "60")
				writeProblem(w, problemOften.with("wait a minute before the next change"))
				return
			}
			if cookie && r.Header.Get(idleHeader) == "" && pattern != "/api/v1/changes" {
				if err := s.touch(ctx); err != nil {
					s.sessions.ErrorFunc(w, r, err)
					return
				}
			}
			ctx = context.WithValue(ctx, whoKey, who)
			noteWho(r, who.Name)
			if s.stale(ctx, r, op, who, cookie) {
				writeProblem(w, problemFresh.with(fmt.Sprintf("this weighs heavily, and you signed in more than %d minutes ago: %s",
					int(s.Fresh.Minutes()), proveHow(who, cookie))))
				return
			}
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

// stale reports whether a request weighs so heavily that whoever sends it has to prove once more that it is they. A token of a service is
// nobody's who could.
func (s *server) stale(ctx context.Context, r *http.Request, op *operations.Operation, who service.Who, cookie bool) bool {
	if s.Fresh <= 0 || who.OfService() {
		return false
	}
	where, _ := url.PathUnescape(chi.URLParam(r, "where"))
	if !op.NeedsFresh(where, r.URL.Query().Get("preview") == "true", r.Header.Get(draftHeader) != "") {
		return false
	}
	at := who.Made
	if cookie {
		at = time.UnixMilli(max(s.sessions.GetInt64(ctx, "began"), s.sessions.GetInt64(ctx, "proved")))
	}
	return s.Clock().Sub(at) > s.Fresh
}

func proveHow(who service.Who, cookie bool) string {
	switch {
	case who.Guest != "":
		return "sign in with a new code, then do it again"
	case cookie:
		return "give your password, or use your passkey"
	}
	return "sign in again with wexillum login, then repeat the command"
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
		if how == operations.Policy && !who.ChangesPolicyAtOnce() {
			return ctx, fmt.Errorf(
				"%w: keepers change policy in a draft that an administrator publishes; make one, and send its id as %s",
				errForbidden,
				draftHeader,
			)
		}
		return ctx, nil
	}
	if err := who.WorksInDrafts(); err != nil {
		return ctx, err
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
		if who, err = s.Service.Bearer(ctx, strings.TrimSpace(text)); err != nil {
			return who, false, err
		}
		if who.OfService() {
			s.Service.TokenUsed(who, remote(r))
			return who, false, nil
		}
		who, err = s.Service.StandingIn(ctx, who)
		return who, false, err
	}
	name := s.sessions.GetString(ctx, "account")
	if name == "" {
		return who, false, service.ErrDenied
	}
	since, _ := s.sessions.Get(ctx, "since").(uint64)
	if strings.HasPrefix(name, "guest:") {
		who, err = s.Service.GuestOf(ctx, name, since)
	} else if who, err = s.Service.WhoIs(ctx, name, since); err == nil {
		who, err = s.Service.StandingIn(ctx, who)
	}
	return who, true, err
}

func whoIs(ctx context.Context) service.Who { return ctx.Value(whoKey).(service.Who) }

// whose says by what right somebody asks: a role, or what a service's token is for.
func whose(who service.Who) string {
	if strings.HasPrefix(who.Name, "token:") {
		return "a token for " + string(who.Role)
	}
	return "the role " + string(who.Role)
}
