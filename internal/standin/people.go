package standin

import (
	"crypto/subtle"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/scim"
)

// People is somebody else's directory, which takes people by SCIM 2.0 (RFC 7644): a stand-in for that of a partner.
type People struct {
	Token string
	Clock func() time.Time // nil is the system's
	// Fails answers a request itself, where it is set and returns true; it stands in for what goes wrong.
	Fails func(w http.ResponseWriter, r *http.Request) bool

	mu    sync.Mutex
	path  string // where they are kept; empty for nowhere
	last  int
	users []*person
}

type person struct {
	user scim.User
	meta scim.Meta
}

// PeopleToken is what the demo's stand-in wants of whoever feeds it.
const PeopleToken = "the-neighbours-door-2026"

// Said is a user as the directory keeps them.
type Said struct {
	UserName, Name, External string
	Active                   bool
}

// Said lists its users in the order in which they came.
func (p *People) Said() (out []Said) {
	p.mu.Lock()
	defer p.mu.Unlock()
	for _, x := range p.users {
		out = append(out, Said{x.user.Text("userName"), x.user.Text("displayName"), x.user.Text("externalId"), x.user.Active()})
	}
	return out
}

// Add has somebody be there already.
func (p *People) Add(text string) error {
	u, no := scim.Read([]byte(text))
	if no != nil {
		return no
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	p.add(u)
	return p.save()
}

// Forget has somebody be there no longer, as their own side would.
func (p *People) Forget(userName string) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.users = slices.DeleteFunc(p.users, func(x *person) bool { return x.user.Text("userName") == userName })
}

func (p *People) now() time.Time {
	if p.Clock != nil {
		return p.Clock()
	}
	return time.Now()
}

func (p *People) add(u scim.User) *person {
	p.last++
	now := p.now()
	x := &person{u, scim.Meta{ID: fmt.Sprintf("p-%04d", p.last), Created: now, Modified: now, Version: 1}}
	p.users = append(p.users, x)
	return x
}

func (p *People) taken(u scim.User, but *person) *scim.Error {
	for _, x := range p.users {
		if x != but && strings.EqualFold(x.user.Text("userName"), u.Text("userName")) {
			return &scim.Error{Status: 409, Type: scim.Uniqueness, Detail: u.Text("userName") + " is there already"}
		}
	}
	return nil
}

// Handler serves it, to be mounted where its address ends.
func (p *People) Handler() http.Handler {
	r := chi.NewRouter()
	send := func(w http.ResponseWriter, status int, x any) {
		w.Header().Set("Content-Type", "application/scim+json")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(x)
	}
	refuse := func(w http.ResponseWriter, e *scim.Error) {
		x := map[string]any{"schemas": []string{scim.ErrorMessage}, "status": strconv.Itoa(e.Status), "detail": e.Detail}
		if e.Type != "" {
			x["scimType"] = e.Type
		}
		send(w, e.Status, x)
	}
	r.Use(func(next http.Handler) http.Handler {
		return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if p.Fails != nil && p.Fails(w, r) {
				return
			}
			token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
			if subtle.ConstantTimeCompare([]byte(token), []byte(p.Token)) != 1 {
				w.Header().Set("WWW-Authenticate", "Bearer")
				refuse(w, &scim.Error{Status: 401, Detail: "the token is not the one that was agreed"})
				return
			}
			next.ServeHTTP(w, r)
		})
	})
	base := func(r *http.Request) string { return "http://" + r.Host + "/scim/v2" }
	one := func(w http.ResponseWriter, r *http.Request, fn func(x *person) *scim.Error) {
		p.mu.Lock()
		defer p.mu.Unlock()
		i := slices.IndexFunc(p.users, func(x *person) bool { return x.meta.ID == chi.URLParam(r, "id") })
		if i < 0 {
			refuse(w, &scim.Error{Status: 404, Detail: "nobody here has that id"})
			return
		}
		if no := fn(p.users[i]); no != nil {
			refuse(w, no)
			return
		}
		if r.Method == http.MethodDelete {
			p.users = slices.Delete(p.users, i, i+1)
			if err := p.save(); err != nil {
				refuse(w, &scim.Error{Status: 500, Detail: err.Error()})
				return
			}
			w.WriteHeader(http.StatusNoContent)
			return
		}
		send(w, 200, p.users[i].user.Resource(&p.users[i].meta))
	}
	body := func(w http.ResponseWriter, r *http.Request) []byte {
		b, err := io.ReadAll(http.MaxBytesReader(w, r.Body, 1<<20))
		if err != nil {
			return nil
		}
		return b
	}
	write := func(x *person, u scim.User, no *scim.Error) *scim.Error {
		if no == nil {
			no = p.taken(u, x)
		}
		if no == nil {
			x.user, x.meta.Modified = u, p.now()
			x.meta.Version++
			if err := p.save(); err != nil {
				no = &scim.Error{Status: 500, Detail: err.Error()}
			}
		}
		return no
	}
	r.Get("/ServiceProviderConfig", func(w http.ResponseWriter, r *http.Request) { send(w, 200, scim.Config(base(r), 1000)) })
	r.Get("/Users", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		var f *scim.Filter
		if text := q.Get("filter"); text != "" {
			var no *scim.Error
			if f, no = scim.ParseFilter(text); no != nil {
				refuse(w, no)
				return
			}
		}
		p.mu.Lock()
		defer p.mu.Unlock()
		found := []map[string]any{}
		for _, x := range p.users {
			if res := x.user.Resource(&x.meta); f.Match(res) {
				found = append(found, res)
			}
		}
		total := len(found)
		start, count := 1, 100
		if n, err := strconv.Atoi(q.Get("startIndex")); err == nil {
			start = max(1, n)
		}
		if n, err := strconv.Atoi(q.Get("count")); err == nil {
			count = min(max(0, n), 100)
		}
		found = found[min(start-1, total):]
		found = found[:min(count, len(found))]
		send(w, 200, map[string]any{"schemas": []string{scim.ListMessage}, "totalResults": total, "startIndex": start, "itemsPerPage": len(found),
			"Resources": found})
	})
	r.Post("/Users", func(w http.ResponseWriter, r *http.Request) {
		u, no := scim.Read(body(w, r))
		p.mu.Lock()
		defer p.mu.Unlock()
		if no == nil {
			no = p.taken(u, nil)
		}
		if no != nil {
			refuse(w, no)
			return
		}
		x := p.add(u)
		if err := p.save(); err != nil {
			refuse(w, &scim.Error{Status: 500, Detail: err.Error()})
			return
		}
		send(w, 201, x.user.Resource(&x.meta))
	})
	r.Get("/Users/{id}", func(w http.ResponseWriter, r *http.Request) { one(w, r, func(*person) *scim.Error { return nil }) })
	r.Put("/Users/{id}", func(w http.ResponseWriter, r *http.Request) {
		u, no := scim.Read(body(w, r))
		one(w, r, func(x *person) *scim.Error { return write(x, u, no) })
	})
	r.Patch("/Users/{id}", func(w http.ResponseWriter, r *http.Request) {
		ops, no := scim.ReadPatch(body(w, r))
		one(w, r, func(x *person) *scim.Error {
			if no != nil {
				return no
			}
			u, no := x.user.Clone().Patch(ops)
			return write(x, u, no)
		})
	})
	r.Delete("/Users/{id}", func(w http.ResponseWriter, r *http.Request) { one(w, r, func(*person) *scim.Error { return nil }) })
	return r
}

// keptPerson is a user in the file where they are kept.
type keptPerson struct {
	User scim.User
	Meta scim.Meta
}

// Keep goes on with what is kept in a file, where there is one, and keeps every change there.
func (p *People) Keep(path string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.path = path
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return p.save()
	}
	if err != nil {
		return err
	}
	var list []keptPerson
	if err := json.Unmarshal(text, &list); err != nil {
		return err
	}
	p.users = nil
	for _, k := range list {
		p.users = append(p.users, &person{k.User, k.Meta})
		if n, err := strconv.Atoi(strings.TrimPrefix(k.Meta.ID, "p-")); err == nil {
			p.last = max(p.last, n)
		}
	}
	return nil
}

func (p *People) save() error {
	if p.path == "" {
		return nil
	}
	list := []keptPerson{}
	for _, x := range p.users {
		list = append(list, keptPerson{x.user, x.meta})
	}
	text, err := json.Marshal(list)
	if err != nil {
		return err
	}
	return keep(p.path, text)
}
