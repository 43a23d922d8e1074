package statement

import (
	"cmp"
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"mime"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"strings"
	"syscall"
	"time"

	"crypto/tls"

	core "wexillum.example/internal/core/statement"
)

// Where statements and keys are published (RFC 8615).
const (
	StatementPath = "/.well-known/wexillum-statement"
	KeysPath      = "/.well-known/wexillum-keys"
)

// What is served as what.
const (
	StatementType = "application/jose"
	KeysType      = "application/jwk-set+json"
)

// MaxBody is how large a statement or a set of keys may be, in octets.
const MaxBody = 64 << 10

// Fetcher fetches statements. The zero value takes only https and only public
// addresses.
type Fetcher struct {
	AllowHTTP    bool          // also http
	AllowPrivate bool          // also loopback, private and link-local addresses
	Timeout      time.Duration // for a statement with its keys; 0: ten seconds
	Roots        *x509.CertPool
}

// Fetched is a statement as it came, with the keys that were published beside it.
type Fetched struct{ JWS, JWKS []byte }

// private holds the networks that are not public besides those netip knows: the special-purpose
// address registries of RFC 6890 as they stand, and relays that lead into others.
var private = func() (out []netip.Prefix) {
	for _, s := range []string{
		"0.0.0.0/8", "100.64.0.0/10", "192.0.0.0/24", "192.0.2.0/24", "192.31.196.0/24", "192.52.193.0/24", "192.88.99.0/24", "192.175.48.0/24",
		"198.18.0.0/15", "198.51.100.0/24", "203.0.113.0/24", "240.0.0.0/4",
		"2001::/23", "2001:db8::/32", "2002::/16", "2620:4f:8000::/48", "3fff::/20",
	} {
		out = append(out, netip.MustParsePrefix(s))
	}
	return
}()

// globalIPv6 is the only part of IPv6 from which global addresses are given out (RFC 3587 §3):
// outside it are, among others, NAT64, discard-only, segment routing and site-local addresses.
var globalIPv6 = netip.MustParsePrefix("2000::/3")

// Public reports whether an address is one that anybody may reach.
func Public(a netip.Addr) bool {
	a = a.Unmap()
	if !a.IsGlobalUnicast() || a.IsPrivate() || a.IsLoopback() || a.IsLinkLocalUnicast() || a.Is6() && !globalIPv6.Contains(a) {
		return false
	}
	for _, p := range private {
		if p.Contains(a) {
			return false
		}
	}
	return true
}

// Fetch gets the statement at an address, as it is meant for our domain, and the
// keys beside it. An error is a *core.Problem.
func (f *Fetcher) Fetch(ctx context.Context, address, ours string) (Fetched, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return Fetched{}, &core.Problem{Code: core.Malformed, Text: fmt.Sprintf("%q is no address", address)}
	}
	timeout := f.Timeout
	if timeout == 0 {
		timeout = 10 * time.Second
	}
	ctx, cancel := context.WithTimeout(ctx, timeout)
	defer cancel()
	client := f.client()
	q := u.Query()
	q.Set("for", ours)
	u.RawQuery = q.Encode()
	var out Fetched
	if out.JWS, err = f.get(ctx, client, u, StatementType, "the statement"); err != nil {
		return out, err
	}
	keys := &url.URL{Scheme: u.Scheme, Host: u.Host, Path: KeysPath}
	out.JWKS, err = f.get(ctx, client, keys, KeysType, "the set of keys")
	return out, err
}

// Keys gets the keys that are published beside a statement. An error is a *core.Problem.
func (f *Fetcher) Keys(ctx context.Context, address string) ([]byte, error) {
	u, err := url.Parse(address)
	if err != nil || u.Host == "" {
		return nil, &core.Problem{Code: core.Malformed, Text: fmt.Sprintf("%q is no address", address)}
	}
	ctx, cancel := context.WithTimeout(ctx, cmp.Or(f.Timeout, 10*time.Second))
	defer cancel()
	return f.get(ctx, f.client(), &url.URL{Scheme: u.Scheme, Host: u.Host, Path: KeysPath}, KeysType, "the set of keys")
}

// Client is what fetches, for other calls to partners: with the same limits on where they may
// be, and of ten seconds and 256 KiB for an answer.
func (f *Fetcher) Client() *http.Client {
	c := f.client()
	c.Timeout = f.Timeout
	if c.Timeout == 0 {
		c.Timeout = 10 * time.Second
	}
	c.Transport = bounded{c.Transport}
	return c
}

// bounded is a transport whose answers end with an error where they are too large.
type bounded struct{ http.RoundTripper }

func (b bounded) RoundTrip(r *http.Request) (*http.Response, error) {
	resp, err := b.RoundTripper.RoundTrip(r)
	if err == nil {
		resp.Body = http.MaxBytesReader(nil, resp.Body, 4*MaxBody)
	}
	return resp, err
}

func (f *Fetcher) client() *http.Client {
	dial := &net.Dialer{Timeout: 5 * time.Second, Control: func(_, address string, _ syscall.RawConn) error {
		// What a name stands for is looked at here, where it is connected to, so
		// that a second look-up cannot answer otherwise.
		ap, err := netip.ParseAddrPort(address)
		if err == nil && !f.AllowPrivate && !Public(ap.Addr()) {
			return &core.Problem{Code: core.PrivateHost, Text: fmt.Sprintf("%s is no public address", ap.Addr())}
		}
		return err
	}}
	return &http.Client{
		Transport: &http.Transport{
			DialContext:            dial.DialContext,
			TLSClientConfig:        &tls.Config{RootCAs: f.Roots, MinVersion: tls.VersionTLS12},
			ForceAttemptHTTP2:      true,
			DisableKeepAlives:      true,
			DisableCompression:     true,
			MaxResponseHeaderBytes: 32 << 10,
			TLSHandshakeTimeout:    5 * time.Second,
		},
		CheckRedirect: func(r *http.Request, via []*http.Request) error {
			from := via[0].URL
			if r.URL.Host != from.Host || r.URL.Scheme != from.Scheme {
				return &core.Problem{
					Code: core.Redirected,
					Text: fmt.Sprintf("%s sends on to %s://%s; other hosts are not followed", from.Host, r.URL.Scheme, r.URL.Host),
				}
			}
			if len(via) > 3 {
				return &core.Problem{Code: core.Redirected, Text: fmt.Sprintf("%s sends on more than three times", from.Host)}
			}
			return nil
		},
	}
}

func (f *Fetcher) get(ctx context.Context, client *http.Client, u *url.URL, want, what string) ([]byte, error) {
	if u.Scheme != "https" && !(f.AllowHTTP && u.Scheme == "http") {
		return nil, &core.Problem{Code: core.NotSecure, Text: fmt.Sprintf("%s is at %s://, and only https is taken", what, u.Scheme)}
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, &core.Problem{Code: core.Malformed, Text: err.Error()}
	}
	r.Header.Set("Accept", want)
	resp, err := client.Do(r)
	if err != nil {
		return nil, f.failed(ctx, what, err)
	}
	defer resp.Body.Close()
	if resp.StatusCode != http.StatusOK {
		return nil, &core.Problem{Code: core.Refused, Text: fmt.Sprintf("%s was answered with %s", what, resp.Status)}
	}
	if got, _, _ := mime.ParseMediaType(resp.Header.Get("Content-Type")); got != want {
		return nil, &core.Problem{
			Code: core.WrongType,
			Text: fmt.Sprintf("%s came as %q, and %s is wanted", what, resp.Header.Get("Content-Type"), want),
		}
	}
	body, err := io.ReadAll(io.LimitReader(resp.Body, MaxBody+1))
	if err == nil { // a body that is cut off as the time runs out may look as if it had ended
		err = ctx.Err()
	}
	if err != nil {
		return nil, f.failed(ctx, what, err)
	}
	if len(body) > MaxBody {
		return nil, &core.Problem{Code: core.TooLarge, Text: fmt.Sprintf("%s is larger than %d octets", what, MaxBody)}
	}
	return []byte(strings.TrimSpace(string(body))), nil
}

// failed names what went wrong on the way.
func (f *Fetcher) failed(ctx context.Context, what string, err error) error {
	var p *core.Problem
	if errors.As(err, &p) {
		return p
	}
	if errors.Is(ctx.Err(), context.DeadlineExceeded) {
		return &core.Problem{Code: core.TooSlow, Text: what + " did not come in time"}
	}
	var u *url.Error
	if errors.As(err, &u) {
		err = u.Err
	}
	return &core.Problem{Code: core.Unreachable, Text: fmt.Sprintf("%s cannot be fetched: %v", what, err)}
}
