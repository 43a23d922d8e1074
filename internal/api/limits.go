package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	lru "github.com/hashicorp/golang-lru/v2"
	"golang.org/x/time/rate"
)

// remembered is how many keys a limit is kept of; beyond that those are forgotten that were
// used longest ago.
const remembered = 20000

// tries bounds how often something may be tried, by a key.
type tries struct {
	sync.Mutex
	byKey *lru.Cache[string, *rate.Limiter]
	burst int
	every time.Duration
}

// newTries allows a burst of tries, and one more each time so much time has passed.
func newTries(burst int, every time.Duration) *tries {
	byKey, err := lru.New[string, *rate.Limiter](remembered)
	if err != nil {
		panic(err)
	}
	return &tries{byKey: byKey, burst: burst, every: every}
}

func (t *tries) allow(key string, now time.Time) bool {
	t.Lock()
	defer t.Unlock()
	l, ok := t.byKey.Get(key)
	if !ok {
		l = rate.NewLimiter(rate.Every(t.every), t.burst)
		t.byKey.Add(key, l)
	}
	return l.AllowN(now, 1)
}

// signIns bounds tries at names and passwords. A name is tried a few times from one place,
// and a place tries a few names; a name is tried so often from everywhere that a few places
// together do not use it up for whoever has it. From where somebody signed in before, they
// always have tries of their own.
type signIns struct {
	byPlace, byPair, byName *tries
	known                   *lru.Cache[string, bool]
}

func newSignIns() *signIns {
	known, err := lru.New[string, bool](remembered)
	if err != nil {
		panic(err)
	}
	return &signIns{newTries(30, 6*time.Second), newTries(10, 30*time.Second), newTries(200, 3*time.Second), known}
}

func (x *signIns) allow(name, place string, now time.Time) bool {
	pair := place + " " + name
	// What a place has used up of its own is not counted against the name.
	if !x.byPair.allow(pair, now) {
		return false
	}
	if x.known.Contains(pair) {
		return true
	}
	return x.byPlace.allow(place, now) && x.byName.allow(name, now)
}

// in notes that somebody signed in from a place.
func (x *signIns) in(name, place string) { x.known.Add(place+" "+name, true) }

// forwarded takes who asks from a proxy that is trusted (X-Forwarded-For: the last address that is no such proxy's), and the scheme that
// people speak with it (X-Forwarded-Proto). What anybody else says of themselves there is passed over.
func (s *server) forwarded(next http.Handler) http.Handler {
	trusted := func(text string) bool {
		a, err := netip.ParseAddr(strings.TrimSpace(text))
		return err == nil && slices.ContainsFunc(s.Trusted, func(p netip.Prefix) bool { return p.Contains(a.Unmap().WithZone("")) })
	}
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		host, _, err := net.SplitHostPort(r.RemoteAddr)
		if err == nil && len(s.Trusted) > 0 && trusted(host) {
			hops := strings.Split(strings.Join(r.Header.Values("X-Forwarded-For"), ","), ",")
			for i := len(hops) - 1; i >= 0; i-- {
				hop := strings.TrimSpace(hops[i])
				if _, err := netip.ParseAddr(hop); err != nil {
					break
				}
				r.RemoteAddr = net.JoinHostPort(hop, "0")
				if !trusted(hop) {
					break
				}
			}
			if r.Header.Get("X-Forwarded-Proto") == "https" {
				r = r.WithContext(context.WithValue(r.Context(), secureKey{}, true))
			}
		}
		next.ServeHTTP(w, r)
	})
}

// secureKey says in a context that whoever asks speaks https with a proxy that is trusted.
type secureKey struct{}

// schemeOf is what whoever asks speaks.
func schemeOf(r *http.Request) string {
	if secure, _ := r.Context().Value(secureKey{}).(bool); secure || r.TLS != nil {
		return "https"
	}
	return "http"
}

// sourceOf returns from where a request came.
func sourceOf(ctx context.Context) string { return remote(ctx.Value(requestKey).(*http.Request)) }

// remote returns from where a request came, for limits and the journal: an IPv4 address, or the
// /64 of an IPv6 one, which is what one subscriber has (RFC 6177 §2).
func remote(r *http.Request) string {
	host, _, err := net.SplitHostPort(r.RemoteAddr)
	if err != nil {
		host = r.RemoteAddr
	}
	a, err := netip.ParseAddr(host)
	if err != nil {
		return host
	}
	a = a.Unmap().WithZone("")
	if a.Is4() {
		return a.String()
	}
	p, err := a.Prefix(64)
	if err != nil {
		return a.String()
	}
	return p.String()
}
