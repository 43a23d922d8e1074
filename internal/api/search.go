package api

import (
	"encoding/json"
	"fmt"
	"net/http"
	"sort"
	"strconv"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/service"
)

// AuthZEN search (OpenID AuthZEN Authorization API 1.0).

type azSearch struct {
	azRequest
	Page *struct {
		Token string `json:"token"`
		Limit int    `json:"limit"`
	} `json:"page"`
}

// maxResults bounds a page of a search.
const maxResults = 1000

func (s *server) search(
	w http.ResponseWriter,
	r *http.Request,
	missing string,
	list func(*azSearch, *service.State, moment.Moment, func(any)) error,
) {
	var q azSearch
	if !s.decodeAuthzen(w, r, &q) {
		return
	}
	limit := 100
	st := s.state(r.Context())
	var at *string
	if t, ok := q.Context["at"].(string); ok {
		at = &t
	}
	v, past, err := s.when(r.Context(), at)
	if err != nil {
		s.failed(w, r, err)
		return
	}
	if at != nil {
		st = past
	}
	if q.Page != nil {
		if q.Page.Limit < 0 || q.Page.Limit > maxResults {
			s.failed(
				w,
				r,
				&engine.WrongUse{Field: "page.limit", Value: strconv.Itoa(q.Page.Limit), Reason: fmt.Sprintf("write 1 to %d", maxResults)},
			)
			return
		}
		if q.Page.Limit > 0 {
			limit = q.Page.Limit
		}
	}
	// A search is the question with one part left out: the others must be whole.
	switch missing {
	case "subject":
		if q.Subject == nil || q.Subject.Type == "" { // an id is left out of account
			s.failed(w, r, &engine.WrongUse{Field: "subject", Reason: "give a type"})
			return
		}
	case "resource":
		if q.Resource == nil || q.Resource.Type == "" {
			s.failed(w, r, &engine.WrongUse{Field: "resource", Reason: "give a type"})
			return
		}
	}
	type found struct {
		key string
		x   any
	}
	var all []found
	if err := list(&q, st, v.At, func(x any) {
		b, _ := json.Marshal(x)
		all = append(all, found{string(b), x})
	}); err != nil {
		s.failed(w, r, err)
		return
	}
	sort.SliceStable(all, func(i, j int) bool { return all[i].key < all[j].key })
	token, asked := "", q
	if asked.Page != nil {
		token, asked.Page = asked.Page.Token, nil
	}
	whole, _ := json.Marshal(asked)
	shown, next, err := page(all, func(f *found) string { return f.key }, askedDigest(missing, string(whole)), &token, &limit)
	if err != nil {
		s.failed(
			w,
			r,
			&engine.WrongUse{Field: "page.token", Value: token, Reason: "send the next_token of the page before, with the same question"},
		)
		return
	}
	results := []any{}
	for i := range shown {
		results = append(results, shown[i].x)
	}
	writeJSON(w, map[string]any{"results": results, "page": map[string]any{"next_token": next, "count": len(results), "total": len(all)}})
}

type azResult struct {
	Type string `json:"type,omitempty"`
	ID   string `json:"id,omitempty"`
	Name string `json:"name,omitempty"`
}

// permits asks one question of a search; a question that makes no sense is no result.
func permits(st *service.State, q *azRequest, at moment.Moment) (bool, error) {
	enforced, err := q.enforced()
	if err != nil {
		return false, err
	}
	question, err := q.question(st, at)
	if err != nil {
		return false, err
	}
	v, err := st.Decide(&question)
	return err == nil && v.Yes && v.Conditions&^enforced == 0, nil
}

func (s *server) searchSubject(w http.ResponseWriter, r *http.Request) {
	s.search(w, r, "subject", func(q *azSearch, st *service.State, at moment.Moment, found func(any)) error {
		var ids []string
		switch q.Subject.Type {
		case "party", "link":
			all, newcomers, err := st.Group("everybody", at)
			if err != nil {
				return err
			}
			for _, n := range newcomers {
				if n.Who.Kind == engine.ByAddress {
					all = append(all, n.Who)
				}
			}
			for _, who := range all {
				if (who.Kind == engine.ByLinkID) == (q.Subject.Type == "link") {
					ids = append(ids, strings.TrimPrefix(who.String(), "link:"))
				}
			}
		case "person":
			for _, n := range st.Find("", 1<<30, "person") {
				ids = append(ids, strings.TrimPrefix(n.Value, "person:"))
			}
		default:
			return &engine.WrongUse{Field: "subject.type", Value: q.Subject.Type, Reason: "write party, person or link"}
		}
		return asked(r.Context(), ids, func(id string) error {
			one := q.azRequest
			one.Subject = &azEntity{Type: q.Subject.Type, ID: id}
			ok, err := permits(st, &one, at)
			if ok {
				found(azResult{Type: q.Subject.Type, ID: id})
			}
			return err
		})
	})
}

func (s *server) searchResource(w http.ResponseWriter, r *http.Request) {
	s.search(w, r, "resource", func(q *azSearch, st *service.State, at moment.Moment, found func(any)) error {
		if _, ok := catalogue.ParseResourceKind(q.Resource.Type); !ok {
			return &engine.WrongUse{Field: "resource.type", Value: q.Resource.Type, Reason: "there is no such kind of resource"}
		}
		var ids []string
		for _, n := range st.Find("", 1<<30, q.Resource.Type) {
			ids = append(ids, strings.TrimPrefix(n.Value, q.Resource.Type+":"))
		}
		return asked(r.Context(), ids, func(id string) error {
			one := q.azRequest
			one.Resource = &azEntity{Type: q.Resource.Type, ID: id}
			ok, err := permits(st, &one, at)
			if ok {
				found(azResult{Type: q.Resource.Type, ID: id})
			}
			return err
		})
	})
}

func (s *server) searchAction(w http.ResponseWriter, r *http.Request) {
	s.search(w, r, "action", func(q *azSearch, st *service.State, at moment.Moment, found func(any)) error {
		var names []string
		for _, a := range catalogue.Actions() {
			names = append(names, a.Name)
		}
		return asked(r.Context(), names, func(name string) error {
			one := q.azRequest
			one.Action = &azAction{Name: name}
			ok, err := permits(st, &one, at)
			if ok {
				found(azResult{Name: name})
			}
			return err
		})
	})
}
