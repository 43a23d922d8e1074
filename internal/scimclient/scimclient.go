// Package scimclient speaks SCIM 2.0 (RFC 7643, RFC 7644) to somebody else's server, about its users.
package scimclient

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"wexillum.example/internal/reached"
	"wexillum.example/internal/scim"
)

const (
	contentType = "application/scim+json"
	// answers are how long a request may take.
	answers = 20 * time.Second
	// mostAnswer is how large an answer may be, in bytes.
	mostAnswer = 16 << 20
	// page is how many users are asked for at once; the server may give fewer.
	page = 500
)

// Server is where users are kept, as by https://host/scim/v2, and the bearer token that it wants.
type Server struct {
	Base, Token string
}

// Trouble is why something was not done.
type Trouble struct {
	Status int           // of the answer; 0 where there was none
	Says   string        // in words
	Wait   time.Duration // how long the server asks to be left alone (RFC 9110 §10.2.3); 0 where it says nothing
}

func (t *Trouble) Error() string { return t.Says }

// Everybody reports whether it concerns whoever is sent, and not the one who was: nobody is reached, the token is wrong, it is asked too
// often, or the server is broken.
func (t *Trouble) Everybody() bool {
	return t.Status == 0 || t.Status == http.StatusUnauthorized || t.Status == http.StatusTooManyRequests || t.Status >= 500
}

// Is reports whether an error is an answer with a status.
func Is(err error, status int) bool {
	var t *Trouble
	return errors.As(err, &t) && t.Status == status
}

// There is a user as the server keeps them.
type There struct {
	ID       string
	UserName string
	External string
	Name     string
	Active   bool
}

// Config is what a server says that it can do (RFC 7643 §5).
type Config struct {
	Patch  bool
	Filter bool
}

// client follows nothing: a token is told to whom it is for, in person.
var client = &http.Client{
	Timeout:       answers,
	Transport:     &http.Transport{MaxIdleConnsPerHost: 8, IdleConnTimeout: time.Minute, Proxy: http.ProxyFromEnvironment},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

// do sends a request and reads what comes into out, unless that is nil.
func (s *Server) do(ctx context.Context, method, path string, body, out any) error {
	var in io.Reader
	if body != nil {
		b, err := json.Marshal(body)
		if err != nil {
			return err
		}
		in = bytes.NewReader(b)
	}
	req, err := http.NewRequestWithContext(ctx, method, strings.TrimSuffix(s.Base, "/")+path, in)
	if err != nil {
		return err
	}
	req.Header.Set("Accept", contentType)
	if body != nil {
		req.Header.Set("Content-Type", contentType)
	}
	if s.Token != "" {
		req.Header.Set("Authorization", "Bearer "+s.Token)
	}
	resp, err := client.Do(req)
	if err != nil {
		return unreached(ctx, err)
	}
	defer resp.Body.Close()
	b, err := io.ReadAll(io.LimitReader(resp.Body, mostAnswer+1))
	switch {
	case err != nil:
		return unreached(ctx, err)
	case resp.StatusCode/100 != 2:
		return refused(resp, b)
	case out == nil:
		return nil
	case len(b) > mostAnswer:
		return &Trouble{resp.StatusCode, fmt.Sprintf("its answer is larger than %d bytes", mostAnswer), 0}
	}
	if err := json.Unmarshal(b, out); err != nil {
		return &Trouble{Status: resp.StatusCode, Says: "what it answers is no JSON; is this the address of SCIM, which often ends in /scim/v2?"}
	}
	return nil
}

func unreached(ctx context.Context, err error) error {
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return &Trouble{Says: reached.Why(err, answers)}
}

// refused says in words what an answer says (RFC 7644 §3.12).
func refused(resp *http.Response, body []byte) error {
	t := &Trouble{Status: resp.StatusCode, Says: fmt.Sprintf("it answers %d", resp.StatusCode)}
	var said struct{ ScimType, Detail string }
	if json.Unmarshal(body, &said) == nil && said.Detail != "" {
		detail := []rune(said.Detail)
		t.Says += ": " + string(detail[:min(len(detail), 500)])
	}
	if after := resp.Header.Get("Retry-After"); after != "" {
		if n, err := strconv.Atoi(after); err == nil && n >= 0 {
			t.Wait = time.Duration(min(n, 86400)) * time.Second
		} else if at, err := http.ParseTime(after); err == nil {
			t.Wait = min(max(0, time.Until(at)), 24*time.Hour)
		}
	}
	return t
}

// Config asks what the server can do. One that does not say is taken to know both.
func (s *Server) Config(ctx context.Context) (Config, error) {
	var x struct{ Patch, Filter struct{ Supported *bool } }
	err := s.do(ctx, http.MethodGet, "/ServiceProviderConfig", nil, &x)
	if Is(err, http.StatusNotFound) || Is(err, http.StatusNotImplemented) {
		err = nil
	}
	return Config{Patch: x.Patch.Supported == nil || *x.Patch.Supported, Filter: x.Filter.Supported == nil || *x.Filter.Supported}, err
}

// user is what is read of one.
type user struct {
	ID, UserName, ExternalID, DisplayName string
	Name                                  struct{ Formatted, GivenName, FamilyName string }
	Active                                *bool
}

func (u *user) there() There {
	name := u.DisplayName
	if name == "" {
		name = u.Name.Formatted
	}
	if name == "" {
		name = strings.TrimSpace(u.Name.GivenName + " " + u.Name.FamilyName)
	}
	return There{u.ID, u.UserName, u.ExternalID, name, u.Active == nil || *u.Active}
}

type list struct {
	TotalResults int
	Resources    []user
}

// Find finds a user by their userName; nil where there is none (RFC 7644 §3.4.2.2).
func (s *Server) Find(ctx context.Context, userName string) (*There, error) {
	quoted, err := json.Marshal(userName)
	if err != nil {
		return nil, err
	}
	var x list
	if err := s.do(ctx, http.MethodGet, "/Users?"+url.Values{"filter": {"userName eq " + string(quoted)}}.Encode(), nil, &x); err != nil {
		return nil, err
	}
	for i := range x.Resources {
		if strings.EqualFold(x.Resources[i].UserName, userName) { // a server that passes over the filter does not make somebody else of them
			t := x.Resources[i].there()
			return &t, nil
		}
	}
	return nil, nil
}

// Each hands over every user of the server, page by page (RFC 7644 §3.4.2.4), and how many it says that there are.
func (s *Server) Each(ctx context.Context, fn func(t There, total int) error) error {
	for at := 1; ; {
		var x list
		if err := s.do(ctx, http.MethodGet, fmt.Sprintf("/Users?startIndex=%d&count=%d", at, page), nil, &x); err != nil {
			return err
		}
		for i := range x.Resources {
			if err := fn(x.Resources[i].there(), x.TotalResults); err != nil {
				return err
			}
		}
		if at += len(x.Resources); len(x.Resources) == 0 || at > x.TotalResults {
			return nil
		}
	}
}

// Create makes a user, and returns the id by which the server knows them. An answer of 409 says that the userName is taken (RFC 7644 §3.3).
func (s *Server) Create(ctx context.Context, u scim.User) (id string, err error) {
	var x user
	err = s.do(ctx, http.MethodPost, "/Users", whole(u), &x)
	if err == nil && x.ID == "" {
		err = &Trouble{Status: http.StatusCreated, Says: "it took them in and does not say under which id"}
	}
	return x.ID, err
}

func whole(u scim.User) map[string]any {
	m := map[string]any(u.Clone())
	m["schemas"] = []string{scim.UserSchema}
	return m
}

// Change sets attributes of a user and leaves all others as they are (RFC 7644 §3.5.2.3).
func (s *Server) Change(ctx context.Context, id string, set map[string]any) error {
	return s.do(ctx, http.MethodPatch, "/Users/"+url.PathEscape(id), map[string]any{
		"schemas": []string{scim.PatchMessage}, "Operations": []any{map[string]any{"op": "replace", "value": set}},
	}, nil)
}

// Replace writes a user whole, for servers that know no changes of single attributes (RFC 7644 §3.5.1).
func (s *Server) Replace(ctx context.Context, id string, u scim.User) error {
	return s.do(ctx, http.MethodPut, "/Users/"+url.PathEscape(id), whole(u), nil)
}

// Remove takes a user away. One who is away already is no trouble.
func (s *Server) Remove(ctx context.Context, id string) error {
	err := s.do(ctx, http.MethodDelete, "/Users/"+url.PathEscape(id), nil, nil)
	if Is(err, http.StatusNotFound) {
		return nil
	}
	return err
}
