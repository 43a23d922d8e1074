// Package wire carries calls of connectors: limited in time and size, to the one address that was
// configured, without following it elsewhere.
package wire

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"wexillum.example/internal/traces"
)

const (
	within = 15 * time.Second
	most   = 8 << 20
)

// Refused is what a system answered that is no success, in its own words.
type Refused struct {
	Status int
	Says   string
}

func (e *Refused) Error() string {
	if e.Says == "" {
		return fmt.Sprintf("it answered %d", e.Status)
	}
	return fmt.Sprintf("%s (it answered %d)", e.Says, e.Status)
}

// Busy reports whether it asks to be left alone for a while.
func (e *Refused) Busy() bool { return e.Status == http.StatusTooManyRequests }

// Final reports whether it says no for good: trying again changes nothing.
func (e *Refused) Final() bool { return !e.Busy() && e.Status < 500 }

// Later reports whether an error passes by itself: too many calls, or a fault of the system.
func Later(err error) bool {
	var r *Refused
	return !errors.As(err, &r) || !r.Final()
}

// NotThere reports whether a system says that it has no such thing.
func NotThere(err error) bool {
	var r *Refused
	return errors.As(err, &r) && r.Status == http.StatusNotFound
}

// Says returns what a system said when it refused something by its rules, rather than for a fault or for
// too many calls.
func Says(err error) (says string, refused bool) {
	var r *Refused
	if errors.As(err, &r) && r.Status == http.StatusForbidden {
		return r.Says, true
	}
	return "", false
}

// Line is a way to one system.
type Line struct {
	base *url.URL
	sign func(*http.Request)
	http *http.Client
}

// New returns a line to an address; sign adds what the system asks for to each call.
func New(address string, sign func(*http.Request)) (*Line, error) {
	base, err := url.Parse(strings.TrimSuffix(address, "/"))
	if err != nil || base.Host == "" || base.Scheme != "http" && base.Scheme != "https" {
		return nil, fmt.Errorf("%q is no address: write http://host:port or https://host", address)
	}
	return &Line{base, sign, &http.Client{
		Timeout:   within,
		Transport: traces.Outgoing{RoundTripper: http.DefaultTransport},
		CheckRedirect: func(*http.Request, []*http.Request) error {
			return errors.New("it sends elsewhere; only the address that was named is called")
		},
	}}, nil
}

// Call makes one call and returns what came back. A body is sent as it is.
func (l *Line) Call(ctx context.Context, method, path, kind string, body []byte) ([]byte, error) {
	req, err := http.NewRequestWithContext(ctx, method, l.base.String()+path, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	if kind != "" {
		req.Header.Set("Content-Type", kind)
	}
	l.sign(req)
	resp, err := l.http.Do(req)
	if err != nil {
		return nil, err
	}
	defer resp.Body.Close()
	out, err := io.ReadAll(io.LimitReader(resp.Body, most+1))
	switch {
	case err != nil:
		return nil, err
	case len(out) > most:
		return nil, fmt.Errorf("it answered more than %d MB", most>>20)
	case resp.StatusCode/100 != 2:
		return nil, &Refused{resp.StatusCode, words(out)}
	}
	return out, nil
}

// words takes what a refusal says: its only text where it is JSON, else its first line.
func words(body []byte) string {
	var x map[string]any
	if json.Unmarshal(body, &x) == nil {
		if s, ok := x["detail"].(string); ok { // RFC 9457
			return s
		}
		for _, v := range x {
			if s, ok := v.(string); ok {
				return s
			}
		}
	}
	s, _, _ := strings.Cut(strings.TrimSpace(string(body)), "\n")
	return s[:min(len(s), 200)]
}

// FromOutside tries something from outside with a form, signed by nobody. It returns whether that was let
// through, and what was answered; an error where nothing can be said.
func (l *Line) FromOutside(ctx context.Context, path string, form url.Values) (admitted bool, says string, err error) {
	outside := &Line{l.base, func(*http.Request) {}, l.http}
	body, err := outside.Call(ctx, http.MethodPost, path, "application/x-www-form-urlencoded", []byte(form.Encode()))
	if err == nil {
		return true, words(body), nil
	}
	if says, refused := Says(err); refused {
		return false, says, nil
	}
	return false, "", err
}
