package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"math"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/scim"
	"wexillum.example/internal/service"
)

// The people feeds of partners: SCIM 2.0 (RFC 7643, RFC 7644), of users.

const (
	scimType = "application/scim+json"
	// mostFed is how many users one answer holds, and fedPage how many where no number is asked for.
	mostFed, fedPage = 1000, 100
	// mostFedBody is how large a request may be, in bytes.
	mostFedBody = 1 << 20
)

func (s *server) scimRoutes() http.Handler {
	r := chi.NewRouter()
	r.Use(s.fedOnly)
	r.NotFound(func(w http.ResponseWriter, r *http.Request) {
		s.writeScimError(w, &scim.Error{Status: 404, Detail: "there is no such resource; users are at /scim/v2/Users"})
	})
	r.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		s.writeScimError(w, &scim.Error{Status: 405, Detail: r.Method + " is not taken here"})
	})
	base := "/scim/v2"
	r.Get(base+"/ServiceProviderConfig", func(w http.ResponseWriter, r *http.Request) {
		writeScim(w, 200, scim.Config(s.scimBase(r), mostFed))
	})
	s.scimList(r, base+"/ResourceTypes", scim.ResourceTypes)
	s.scimList(r, base+"/Schemas", scim.Schemas)
	r.Get(base+"/Users", s.scimFind)
	r.Post(base+"/Users/.search", s.scimSearch)
	r.Post(base+"/.search", s.scimSearch)
	r.Post(base+"/Users", s.scimCreate)
	r.Get(base+"/Users/{id}", s.scimGet)
	r.Put(base+"/Users/{id}", s.scimReplace)
	r.Patch(base+"/Users/{id}", s.scimPatch)
	r.Delete(base+"/Users/{id}", s.scimDelete)
	for _, path := range []string{"/Me", "/Bulk"} {
		r.HandleFunc(base+path, func(w http.ResponseWriter, r *http.Request) {
			s.writeScimError(w, &scim.Error{Status: 501, Detail: "it is not offered here; see /scim/v2/ServiceProviderConfig"})
		})
	}
	return r
}

// fedOnly lets in feeds alone, each with its own token.
func (s *server) fedOnly(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		scheme, text, _ := strings.Cut(r.Header.Get("Authorization"), " ")
		if !strings.EqualFold(scheme, "Bearer") {
			w.Header().Set("WWW-Authenticate", "Bearer")
			s.writeScimError(w, &scim.Error{Status: 401, Detail: "a feed sends its token: Authorization: Bearer …"})
			return
		}
		who, err := s.Service.Bearer(r.Context(), strings.TrimSpace(text))
		switch {
		case errors.Is(err, service.ErrDenied):
			w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
			s.writeScimError(w, &scim.Error{Status: 401, Detail: "the token is not known, or has ended"})
			return
		case err != nil:
			s.scimFailed(w, r, err)
			return
		case !who.Feeds():
			s.writeScimError(w, &scim.Error{Status: 403, Detail: "this token is not for a people feed"})
			return
		}
		s.Service.TokenUsed(who, remote(r))
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), whoKey, who)))
	})
}

// scimBase is where the feeds are.
func (s *server) scimBase(r *http.Request) string { return s.base(r) + "/scim/v2" }

func writeScim(w http.ResponseWriter, status int, v any) {
	w.Header().Set("Content-Type", scimType)
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(v)
}

func (s *server) writeScimError(w http.ResponseWriter, e *scim.Error) {
	body := map[string]any{"schemas": []string{scim.ErrorMessage}, "status": strconv.Itoa(e.Status), "detail": e.Detail}
	if e.Type != "" {
		body["scimType"] = e.Type
	}
	if e.Status == http.StatusServiceUnavailable {
		w.Header().Set("Retry-After", "3600")
	}
	writeScim(w, e.Status, body)
}

// scimFailed writes what an error is to a feed.
func (s *server) scimFailed(w http.ResponseWriter, r *http.Request, err error) {
	var no *scim.Error
	if errors.As(err, &no) {
		s.writeScimError(w, no)
		return
	}
	p := problemOf(err)
	if p.Status == 500 {
		s.Log.ErrorContext(r.Context(), "a request of a feed failed", "method", r.Method, "path", r.URL.Path, "error", err)
	}
	detail := p.Title
	if p.Detail != nil {
		detail = *p.Detail
	}
	s.writeScimError(w, &scim.Error{Status: p.Status, Detail: detail})
}

// scimList serves what there are a few of, as a list and one by one.
func (s *server) scimList(r chi.Router, path string, of func(base string) []map[string]any) {
	r.Get(path, func(w http.ResponseWriter, r *http.Request) {
		if r.URL.Query().Get("filter") != "" { // RFC 7644 §4
			s.writeScimError(w, &scim.Error{Status: 403, Detail: "they are not filtered"})
			return
		}
		list := of(s.scimBase(r))
		writeScim(w, 200, map[string]any{"schemas": []string{scim.ListMessage}, "totalResults": len(list), "startIndex": 1,
			"itemsPerPage": len(list), "Resources": list})
	})
	r.Get(path+"/{id}", func(w http.ResponseWriter, r *http.Request) {
		for _, x := range of(s.scimBase(r)) {
			if x["id"] == chi.URLParam(r, "id") {
				writeScim(w, 200, x)
				return
			}
		}
		s.writeScimError(w, &scim.Error{Status: 404, Detail: "there is none of this name"})
	})
}

// scimAsk is a search, by the address or by the body of a request (RFC 7644 §3.4.2, §3.4.3).
type scimAsk struct {
	Schemas    []string `json:"schemas"`
	Attributes []string `json:"attributes"`
	Excluded   []string `json:"excludedAttributes"`
	Filter     string   `json:"filter"`
	SortBy     string   `json:"sortBy"`
	SortOrder  string   `json:"sortOrder"`
	Start      *int     `json:"startIndex"`
	Count      *int     `json:"count"`
}

func namesIn(r *http.Request, name string) (out []string) {
	for _, v := range r.URL.Query()[name] {
		for _, n := range strings.Split(v, ",") {
			if n = strings.TrimSpace(n); n != "" {
				out = append(out, n)
			}
		}
	}
	return
}

func (s *server) scimFind(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	ask := scimAsk{Attributes: namesIn(r, "attributes"), Excluded: namesIn(r, "excludedAttributes"), Filter: q.Get("filter"),
		SortBy: q.Get("sortBy"), SortOrder: q.Get("sortOrder")}
	for name, to := range map[string]**int{"startIndex": &ask.Start, "count": &ask.Count} {
		if text := q.Get(name); text != "" {
			n, err := strconv.Atoi(text)
			if err != nil {
				s.writeScimError(w, &scim.Error{Status: 400, Type: scim.InvalidValue, Detail: fmt.Sprintf("%s %q is no number", name, text)})
				return
			}
			*to = &n
		}
	}
	s.scimAnswer(w, r, &ask)
}

func (s *server) scimSearch(w http.ResponseWriter, r *http.Request) {
	body, err := s.scimBody(w, r)
	if err != nil {
		s.scimFailed(w, r, err)
		return
	}
	var ask scimAsk
	if err := json.Unmarshal(body, &ask); err != nil || !slices.Contains(ask.Schemas, scim.SearchMessage) {
		s.writeScimError(w, &scim.Error{Status: 400, Type: scim.InvalidSyntax,
			Detail: "the body is no search: schemas names " + scim.SearchMessage})
		return
	}
	s.scimAnswer(w, r, &ask)
}

func (s *server) scimAnswer(w http.ResponseWriter, r *http.Request, ask *scimAsk) {
	start, count := 1, fedPage
	if ask.Start != nil {
		start = max(1, *ask.Start) // RFC 7644 §3.4.2.4
	}
	if ask.Count != nil {
		count = min(max(0, *ask.Count), mostFed)
	}
	var f *scim.Filter
	if ask.Filter != "" {
		var no *scim.Error
		if f, no = scim.ParseFilter(ask.Filter); no != nil {
			s.writeScimError(w, no)
			return
		}
	}
	if o := strings.ToLower(ask.SortOrder); o != "" && o != "ascending" && o != "descending" {
		s.writeScimError(w, &scim.Error{Status: 400, Type: scim.InvalidValue,
			Detail: fmt.Sprintf("sortOrder %q: write ascending or descending", ask.SortOrder)})
		return
	}
	type sorted struct {
		key string
		r   map[string]any
	}
	var page []sorted
	total, skip, limit := 0, start-1, count
	whole := f != nil || ask.SortBy != "" // everybody is looked at
	if whole {
		skip, limit = 0, math.MaxInt32
	}
	n, err := s.Service.FeedFind(r.Context(), whoIs(r.Context()), f, skip, limit, func(x *service.Fed) error {
		res := s.scimResource(r, x)
		if !f.Match(res) {
			return nil
		}
		total++
		if ask.SortBy == "" {
			if !whole || total >= start && len(page) < count {
				page = append(page, sorted{r: res})
			}
			return nil
		}
		key, no := scim.SortKey(res, ask.SortBy)
		if no != nil {
			return no
		}
		page = append(page, sorted{key, res})
		return nil
	})
	if err != nil {
		s.scimFailed(w, r, err)
		return
	}
	if !whole {
		total = n
	}
	if ask.SortBy != "" {
		slices.SortStableFunc(page, func(a, b sorted) int {
			if strings.EqualFold(ask.SortOrder, "descending") {
				a, b = b, a
			}
			if (a.key == "") != (b.key == "") { // who has none comes last (RFC 7644 §3.4.2.3)
				if a.key == "" {
					return 1
				}
				return -1
			}
			return strings.Compare(a.key, b.key)
		})
		page = page[min(start-1, len(page)):]
		page = page[:min(count, len(page))]
	}
	list := []any{}
	for i := range page {
		res, no := scim.Project(page[i].r, ask.Attributes, ask.Excluded)
		if no != nil {
			s.writeScimError(w, no)
			return
		}
		list = append(list, res)
	}
	writeScim(w, 200, map[string]any{"schemas": []string{scim.ListMessage}, "totalResults": total, "startIndex": start,
		"itemsPerPage": len(list), "Resources": list})
}

func (s *server) scimMeta(r *http.Request, x *service.Fed) *scim.Meta {
	return &scim.Meta{ID: x.ID, Created: x.Made.Time(), Modified: x.Changed.Time(), Version: x.Version,
		Location: s.scimBase(r) + "/Users/" + x.ID}
}

func (s *server) scimResource(r *http.Request, x *service.Fed) map[string]any {
	return x.User.Resource(s.scimMeta(r, x))
}

// scimBody reads the body of a request.
func (s *server) scimBody(w http.ResponseWriter, r *http.Request) ([]byte, error) {
	if t, _, _ := strings.Cut(r.Header.Get("Content-Type"), ";"); t != "" && !strings.EqualFold(strings.TrimSpace(t), scimType) &&
		!strings.EqualFold(strings.TrimSpace(t), "application/json") {
		return nil, &scim.Error{Status: 415, Detail: "send " + scimType}
	}
	body, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostFedBody))
	var large *http.MaxBytesError
	if errors.As(err, &large) {
		return nil, &scim.Error{Status: 413, Detail: fmt.Sprintf("a request is at most %d bytes", mostFedBody)}
	}
	if err != nil {
		return nil, &scim.Error{Status: 400, Type: scim.InvalidSyntax, Detail: "the body did not come: " + err.Error()}
	}
	return body, nil
}

// sendFed writes somebody as they are now.
func (s *server) sendFed(w http.ResponseWriter, r *http.Request, status int, x *service.Fed) {
	res, no := scim.Project(s.scimResource(r, x), namesIn(r, "attributes"), namesIn(r, "excludedAttributes"))
	if no != nil {
		s.writeScimError(w, no)
		return
	}
	m := s.scimMeta(r, x)
	w.Header().Set("ETag", m.ETag())
	w.Header().Set("Location", m.Location)
	writeScim(w, status, res)
}

func (s *server) scimGet(w http.ResponseWriter, r *http.Request) {
	x, err := s.Service.FeedGet(r.Context(), whoIs(r.Context()), chi.URLParam(r, "id"))
	if err != nil {
		s.scimFailed(w, r, err)
		return
	}
	if tag := s.scimMeta(r, x).ETag(); slices.ContainsFunc(strings.Split(r.Header.Get("If-None-Match"), ","),
		func(e string) bool { e = strings.TrimSpace(e); return e == tag || e == "*" }) {
		w.Header().Set("ETag", tag)
		w.WriteHeader(http.StatusNotModified)
		return
	}
	s.sendFed(w, r, 200, x)
}

// sent reads what a request sends; nil where that is wrong, which is said then.
func sent[T any](s *server, w http.ResponseWriter, r *http.Request, read func([]byte) (T, *scim.Error)) *T {
	body, err := s.scimBody(w, r)
	if err != nil {
		s.scimFailed(w, r, err)
		return nil
	}
	x, no := read(body)
	if no != nil {
		s.writeScimError(w, no)
		return nil
	}
	return &x
}

func (s *server) scimCreate(w http.ResponseWriter, r *http.Request) {
	u := sent(s, w, r, scim.Read)
	if u == nil {
		return
	}
	x, err := s.Service.FeedCreate(r.Context(), whoIs(r.Context()), *u)
	if err != nil {
		s.scimFailed(w, r, err)
		return
	}
	s.sendFed(w, r, 201, x)
}

func (s *server) scimReplace(w http.ResponseWriter, r *http.Request) {
	if u := sent(s, w, r, scim.Read); u != nil {
		s.scimChange(w, r, func(scim.User) (scim.User, *scim.Error) { return *u, nil })
	}
}

func (s *server) scimPatch(w http.ResponseWriter, r *http.Request) {
	if ops := sent(s, w, r, scim.ReadPatch); ops != nil {
		s.scimChange(w, r, func(was scim.User) (scim.User, *scim.Error) { return was.Patch(*ops) })
	}
}

func (s *server) scimChange(w http.ResponseWriter, r *http.Request, fn func(scim.User) (scim.User, *scim.Error)) {
	x, err := s.Service.FeedChange(r.Context(), whoIs(r.Context()), chi.URLParam(r, "id"), r.Header.Get("If-Match"), fn)
	if err != nil {
		s.scimFailed(w, r, err)
		return
	}
	s.sendFed(w, r, 200, x)
}

func (s *server) scimDelete(w http.ResponseWriter, r *http.Request) {
	if err := s.Service.FeedDelete(r.Context(), whoIs(r.Context()), chi.URLParam(r, "id"), r.Header.Get("If-Match")); err != nil {
		s.scimFailed(w, r, err)
		return
	}
	w.WriteHeader(http.StatusNoContent)
}
