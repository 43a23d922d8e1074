// Package standin holds what stands in for others: small servers that ship with the
// product, so that what is outside can be seen to work without it.
package standin

import (
	"context"
	"crypto/ecdsa"
	"encoding/json"
	"errors"
	"fmt"
	"html/template"
	"io"
	"net"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"

	"wexillum.example/internal/core/catalogue"
	core "wexillum.example/internal/core/statement"
	"wexillum.example/internal/statement"
)

// Neighbour is a second organisation that publishes a signed statement of what its
// own side admits. Its page lets one change what it says and roll its key.
type Neighbour struct {
	Name   string
	Domain string
	Clock  func() time.Time // nil is the system's
	People *People          // its directory, which takes our people by SCIM; nil for none

	signer     *ecdsa.PrivateKey // of its sign-in
	unverified bool
	grants     map[string]signInGrant

	mu   sync.Mutex
	path string // where it is kept; empty for nowhere
	kept
}

// kept is what a neighbour says and signs with.
type kept struct {
	Stance map[string]core.Half `json:"stance"`
	Keys   []key                `json:"keys"` // the first signs
	Next   *key                 `json:"next,omitempty"`
}

type key struct {
	ID      string          `json:"id"`
	Private json.RawMessage `json:"private"`
}

// NewNeighbour returns a neighbour that admits the services and directions named,
// as they are with itself, and refuses all others.
func NewNeighbour(name, domain string, admits ...string) (*Neighbour, error) {
	n := &Neighbour{Name: name, Domain: domain, grants: map[string]signInGrant{}, kept: kept{Stance: map[string]core.Half{}}}
	for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
		n.Stance[k.String()] = core.Half{Says: "refuses"}
	}
	for _, k := range admits {
		n.Stance[k] = core.Half{Says: "admits"}
	}
	k, err := newKey()
	n.Keys = []key{k}
	return n, err
}

func newKey() (k key, err error) {
	k.ID, k.Private, err = statement.NewKey()
	return
}

// Say changes what is said of a service and direction.
func (n *Neighbour) Say(k string, h core.Half) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.Stance[k] = h
	n.save()
}

// Keep goes on with what is kept in a file, where there is one, and keeps every
// change there.
func (n *Neighbour) Keep(path string) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.path = path
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return n.save()
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, &n.kept)
}

func (n *Neighbour) save() error {
	if n.path == "" {
		return nil
	}
	text, err := json.Marshal(n.kept)
	if err != nil {
		return err
	}
	return keep(n.path, text)
}

// Announce makes the next key and says so in statements from now on.
func (n *Neighbour) Announce() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	k, err := newKey()
	if err != nil {
		return err
	}
	n.Next = &k
	return n.save()
}

// Roll lets the announced key sign, or, where none is, a new one.
func (n *Neighbour) Roll() error {
	n.mu.Lock()
	defer n.mu.Unlock()
	k := n.Next
	if k == nil {
		fresh, err := newKey()
		if err != nil {
			return err
		}
		k = &fresh
	}
	n.Keys, n.Next = append([]key{*k}, n.Keys...), nil
	return n.save()
}

// Statement is what it publishes for a domain, signed.
func (n *Neighbour) Statement(audience string) (string, error) {
	n.mu.Lock()
	defer n.mu.Unlock()
	now := time.Now()
	if n.Clock != nil {
		now = n.Clock()
	}
	c := core.Claims{
		Version:  core.Version,
		Issuer:   n.Domain,
		Domains:  []string{n.Domain},
		Audience: audience,
		Issued:   now.Unix(),
		Expires:  now.Add(core.Lasts).Unix(),
		Stance:   n.Stance,
	}
	if n.Next != nil {
		c.NextKeys = []string{n.Next.ID}
	}
	return statement.Sign(c, n.Keys[0].Private)
}

// Tell pushes to an address that something happened to the account of one of its people (RFC 8417, RFC 8935). issuer is where its
// statement is; kind the type of the event. It returns what was answered.
func (n *Neighbour) Tell(ctx context.Context, to, issuer, kind, address, id string, happened time.Time) (int, string, error) {
	n.mu.Lock()
	private := n.Keys[0].Private
	n.mu.Unlock()
	claims := map[string]any{"iss": issuer, "aud": to, "iat": happened.Unix(), "toe": happened.Unix(), "jti": id,
		"events": map[string]any{kind: map[string]any{}}}
	if address != "" {
		claims["sub_id"] = map[string]any{"format": "email", "email": address}
	}
	jws, err := statement.SignAs("secevent+jwt", claims, private)
	if err != nil {
		return 0, "", err
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, to, strings.NewReader(jws))
	if err != nil {
		return 0, "", err
	}
	req.Header.Set("Content-Type", "application/secevent+jwt")
	resp, err := http.DefaultClient.Do(req)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	body, err := io.ReadAll(io.LimitReader(resp.Body, 4096))
	return resp.StatusCode, string(body), err
}

// Handler serves the statement, the keys, and a page to change what is said.
func (n *Neighbour) Handler() http.Handler {
	r := chi.NewRouter()
	fail := func(w http.ResponseWriter, err error) { http.Error(w, err.Error(), http.StatusInternalServerError) }
	r.Get(statement.StatementPath, func(w http.ResponseWriter, r *http.Request) {
		jws, err := n.Statement(r.URL.Query().Get("for"))
		if err != nil {
			fail(w, err)
			return
		}
		w.Header().Set("Content-Type", statement.StatementType)
		_, _ = w.Write([]byte(jws))
	})
	r.Get(statement.KeysPath, func(w http.ResponseWriter, r *http.Request) {
		n.mu.Lock()
		var private [][]byte
		for _, k := range n.Keys {
			private = append(private, k.Private)
		}
		n.mu.Unlock()
		keys, err := statement.PublicKeys(private...)
		if err != nil {
			fail(w, err)
			return
		}
		w.Header().Set("Content-Type", statement.KeysType)
		_, _ = w.Write(keys)
	})
	r.Get("/", func(w http.ResponseWriter, r *http.Request) {
		n.mu.Lock()
		defer n.mu.Unlock()
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		type row struct{ Key, Says, Other string }
		var rows []row
		for k := catalogue.Key(0); k < catalogue.NumKeys; k++ {
			says := n.Stance[k.String()].Says
			rows = append(rows, row{k.String(), says, map[string]string{"admits": "refuses", "refuses": "admits"}[says]})
		}
		var people []Said
		if n.People != nil {
			people = n.People.Said()
		}
		_ = page.Execute(w, map[string]any{"N": n, "Rows": rows, "Announced": n.Next != nil, "People": people})
	})
	r.Post("/say", func(w http.ResponseWriter, r *http.Request) {
		k, says := r.FormValue("key"), r.FormValue("says")
		if _, ok := catalogue.ParseKey(k); !ok || !slices.Contains([]string{"admits", "refuses"}, says) || foreign(r) {
			http.Error(w, "a service and direction, and admits or refuses", http.StatusBadRequest)
			return
		}
		n.Say(k, core.Half{Says: says})
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	r.Post("/key", func(w http.ResponseWriter, r *http.Request) {
		err := fmt.Errorf("announce or roll")
		switch do := r.FormValue("do"); {
		case foreign(r):
		case do == "announce":
			err = n.Announce()
		case do == "roll":
			err = n.Roll()
		}
		if err != nil {
			http.Error(w, err.Error(), http.StatusBadRequest)
			return
		}
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	n.signIn(r)
	if n.People != nil {
		r.Mount("/scim/v2", n.People.Handler())
	}
	r.Get("/healthz", func(w http.ResponseWriter, r *http.Request) { _ = json.NewEncoder(w).Encode("ok") })
	return r
}

// foreign reports whether another site sent the request.
func foreign(r *http.Request) bool {
	site := r.Header.Get("Sec-Fetch-Site")
	return site != "" && site != "same-origin" && site != "none"
}

// Listen serves the neighbour at an address on loopback, or at any free port where
// that one is taken, and returns where it is and how to stop it.
func (n *Neighbour) Listen(address string) (url string, stop func(), err error) {
	l, err := net.Listen("tcp", address)
	if err != nil {
		if l, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			return "", nil, err
		}
	}
	srv := &http.Server{Handler: n.Handler(), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = srv.Serve(l) }()
	return "http://" + l.Addr().String(), func() { _ = srv.Close() }, nil
}

var page = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.N.Name}}</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:46rem;margin:2rem auto;padding:0 1rem;color:#1d2b33;background:#fbfaf6}table{border-collapse:collapse}td,th{text-align:left;padding:.15rem .9rem .15rem 0}button{font:inherit}</style>
<h1>{{.N.Name}}</h1>
<p>A stand-in for a second organisation, {{.N.Domain}}. It publishes at <a href="/.well-known/wexillum-statement?for=brackwater.example">/.well-known/wexillum-statement</a> what its own side admits; directions are its own.</p>
<table><tr><th>Service and direction<th>Says<th></tr>
{{range .Rows}}<tr><td>{{.Key}}<td>{{.Says}}<td><form method="post" action="/say"><input type="hidden" name="key" value="{{.Key}}"><button name="says" value="{{.Other}}">let it say {{.Other}}</button></form></tr>
{{end}}</table>
<h2>Its key</h2>
<form method="post" action="/key"><button name="do" value="announce">Announce the next key</button> <button name="do" value="roll">{{if .Announced}}Switch to it{{else}}Sign with a new key that nobody announced{{end}}</button></form>
{{if .People}}<h2>Whom its directory keeps</h2>
<table><tr><th>Who<th>Address<th></tr>
{{range .People}}<tr><td>{{.Name}}<td>{{.UserName}}<td>{{if .Active}}in use{{else}}closed{{end}}</tr>
{{end}}</table>{{end}}
</html>`))
