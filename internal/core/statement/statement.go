// Package statement is the format in which an organisation says what its own
// side admits or refuses: what is in it, how it is read, and what follows from
// it. It neither signs nor fetches.
//
// A statement is a claims set (RFC 7519) that is signed as a JWS (RFC 7515) and
// published under the domain of whoever states. Services and directions are the
// stater's own: what their people may go out to is what comes in to us
// (Claims.Stances turns it round). It is good for a week and renewed by itself;
// a partner that stops stating becomes unknown, and no longer admits.
//
// Whose key may sign is pinned when the first statement is taken; a statement
// announces the keys of later ones. A key that nobody announced is told, and
// nothing signed with it is taken.
package statement

import (
	"bytes"
	"encoding/json"
	"fmt"
	"slices"
	"sort"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Version is the version of the format. A reader refuses a statement of a
// higher one; members it does not know, in the same one, it passes over.
const Version = 1

// Type is the typ of the signature's header (RFC 7515 §4.1.9).
const Type = "wexillum-statement+jwt"

// Lasts is how long a statement of ours is good for. A side that stops stating
// is unknown after a week.
const Lasts = 7 * 24 * time.Hour

// MaxLasts is how long one of theirs may say that it is good for. A year and
// some days: what nobody renews in that time is no statement any more.
const MaxLasts = 400 * 24 * time.Hour

// Claims is what a statement says: a JWT claims set (RFC 7519 §4), signed as a
// JWS in compact form (RFC 7515 §3.1). Services and directions are those of the
// one who states: chat.out is that its people go to others.
type Claims struct {
	Version  int             `json:"wexillum_statement"`
	Issuer   string          `json:"iss"`           // a domain of the one who states
	Domains  []string        `json:"domains"`       // all of them; *. before what takes those below along
	Audience string          `json:"aud,omitempty"` // the domain it is meant for; absent: any that nobody listed
	Issued   int64           `json:"iat"`           // seconds since 1970
	Expires  int64           `json:"exp"`
	NextKeys []string        `json:"next_keys,omitempty"` // thumbprints (RFC 7638) of keys that will sign later ones
	Stance   map[string]Half `json:"stance"`              // by service and direction
}

// Half is what is said of one service and direction. Unknown is not said: a
// side knows what it admits.
type Half struct {
	Says     string   `json:"says"`               // admits or refuses
	Features []string `json:"features,omitempty"` // the part that is admitted; absent: all
}

// Problem is why a statement is not taken: a stable code and a sentence. Codes
// are kept with the partner and shown; texts may change.
type Problem struct{ Code, Text string }

func (p *Problem) Error() string { return p.Text }

// problem makes one.
func problem(code, format string, args ...any) *Problem {
	return &Problem{code, fmt.Sprintf(format, args...)}
}

// The codes of problems, those of fetching and of signatures included.
const (
	Malformed     = "malformed"
	NewerFormat   = "newer_format"
	WrongIssuer   = "wrong_issuer"
	WrongAudience = "wrong_audience"
	Expired       = "expired"
	Ahead         = "from_the_future"
	Older         = "older"
	TooLong       = "too_long"
	WrongType     = "wrong_type"
	BadSignature  = "bad_signature"
	NoKey         = "no_key"
	KeyChanged    = "key_changed"
	TooLarge      = "too_large"
	TooSlow       = "too_slow"
	Redirected    = "redirected"
	NotSecure     = "not_secure"
	PrivateHost   = "private_address"
	Unreachable   = "unreachable"
	Refused       = "refused"
)

// skew is how far two clocks may be apart. As much as sign-ins allow, too.
const skew = 5 * time.Minute

// Expect says what a statement must be to be taken. Whoever reads knows whose
// statement it asked for.
type Expect struct {
	Partner *world.Partner // whose statement it is
	Ours    []world.Entry  // our domains; one is its audience
	Now     moment.Moment
	Seen    moment.Moment // when the newest was issued that was taken; Always for none
}

// Read reads what a signature stood for, and checks everything but the
// signature. An error is a *Problem.
//
// The order of the checks is that in which a sentence helps most: first whether
// it can be read at all, then whose it is, whom it is for, and when (RFC 7519
// §4.1).
func Read(payload []byte, e Expect) (*Claims, error) {
	var c Claims
	d := json.NewDecoder(bytes.NewReader(payload))
	if err := d.Decode(&c); err != nil {
		return nil, problem(Malformed, "it cannot be read: %v", err)
	}
	now := e.Now.Time()
	switch {
	case c.Version == 0:
		return nil, problem(Malformed, "it does not say its version (wexillum_statement)")
	case c.Version > Version:
		return nil, problem(NewerFormat, "it has version %d of the format, and %d is the newest known here", c.Version, Version)
	case c.Issued <= 0 || c.Expires <= 0 || c.Issued > 1<<40 || c.Expires > 1<<40:
		return nil, problem(Malformed, "iat and exp are needed, in seconds since 1970")
	case c.Stance == nil:
		return nil, problem(Malformed, "it states nothing (stance)")
	}
	issuer, err := addr.ParseDomain(c.Issuer)
	if err != nil || !has(e.Partner.Domains, issuer) {
		return nil, problem(WrongIssuer, "it is issued by %q, which is no domain of %s", c.Issuer, e.Partner.Name)
	}
	audience, err := addr.ParseDomain(c.Audience)
	if err != nil || !has(e.Ours, audience) {
		return nil, problem(WrongAudience, "it is meant for %q, which is no domain of ours", c.Audience)
	}
	issued, expires := time.Unix(c.Issued, 0).UTC(), time.Unix(c.Expires, 0).UTC()
	switch {
	case !expires.After(issued):
		return nil, problem(Malformed, "it ends before it begins (iat %d, exp %d)", c.Issued, c.Expires)
	case expires.Sub(issued) > MaxLasts:
		return nil, problem(
			TooLong,
			"it is good for %d days; more than %d are not taken",
			int(expires.Sub(issued).Hours()/24),
			int(MaxLasts.Hours()/24),
		)
	case issued.After(now.Add(skew)):
		return nil, problem(Ahead, "it was issued at %s, which lies ahead", issued.Format(time.RFC3339))
	case !expires.After(now):
		return nil, problem(Expired, "it ended at %s", expires.Format(time.RFC3339))
	case e.Seen.IsSet() && issued.Before(e.Seen.Time().Truncate(time.Second)):
		return nil, problem(
			Older,
			"it was issued at %s, before the one that was taken already, of %s",
			issued.Format(time.RFC3339),
			e.Seen.Time().UTC().Format(time.RFC3339),
		)
	}
	for k, h := range c.Stance {
		if h.Says != "admits" && h.Says != "refuses" {
			return nil, problem(Malformed, "it says %q of %s; a statement admits or refuses", h.Says, k)
		}
	}
	return &c, nil
}

// has reports whether a domain is one of some entries, or below one that takes
// these along.
func has(entries []world.Entry, d addr.Domain) bool {
	return slices.ContainsFunc(entries, func(e world.Entry) bool { return e.Domain == d || e.Subdomains && d.Under(e.Domain) })
}

// across turns a service and direction of the one side into that of the other.
func across(k catalogue.Key) catalogue.Key { return k ^ 1 }

// Stances is what the statement means on our side, in the order of the keys.
// What this version does not know is passed over. What they let out comes in to
// us, and the other way. A refusal has no end: it counts until they state
// otherwise.
func (c *Claims) Stances() (out []world.Stance) {
	for name, h := range c.Stance {
		k, ok := catalogue.ParseKey(name)
		if !ok {
			continue
		}
		s := world.Stance{
			Key:    across(k),
			Says:   world.SaysRefuses,
			Source: "statement",
			AsOf:   moment.Of(time.Unix(c.Issued, 0)),
			Until:  moment.Never,
		}
		if h.Says == "admits" {
			s.Says, s.Until = world.SaysAdmits, moment.Of(time.Unix(c.Expires, 0))
			if h.Features != nil {
				s.Features = []catalogue.Feature{}
				for _, n := range h.Features {
					if f, ok := catalogue.ParseFeature(n); ok {
						s.Features = append(s.Features, f)
					}
				}
			}
		}
		out = append(out, s)
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Key < out[j].Key })
	return
}

// Of writes what our side states to a domain: what the policy opens it for. A
// feature list is left out where all are admitted.
func Of(o *world.Organisation, side world.Side, audience string, now time.Time, next []string) Claims {
	c := Claims{
		Version:  Version,
		Audience: audience,
		Issued:   now.Unix(),
		Expires:  now.Add(Lasts).Unix(),
		NextKeys: next,
		Domains:  []string{},
		Stance:   map[string]Half{},
	}
	if o != nil {
		for i, d := range o.Domains {
			if i == 0 {
				c.Issuer = d.Domain.String()
			}
			star := ""
			if d.Subdomains {
				star = "*."
			}
			c.Domains = append(c.Domains, star+d.Domain.String())
		}
	}
	for k := range side.Keys {
		x := &side.Keys[k]
		h := Half{Says: "refuses"}
		if x.Opens {
			h.Says = "admits"
			if x.Features != nil && len(x.Features) < 3 {
				h.Features = []string{}
				for _, f := range x.Features {
					h.Features = append(h.Features, f.String())
				}
			}
		}
		c.Stance[catalogue.Key(k).String()] = h
	}
	return c
}

// Pinned says whether a key may sign a partner's statements, by its thumbprint.
// Without any pinned key the first that is used is trusted.
func Pinned(s *world.Statement, thumbprint string) (trusted, first bool) {
	if len(s.Keys) == 0 {
		return true, true
	}
	return slices.Contains(s.Keys, thumbprint), false
}

// Take notes that a statement was taken: the key that signed it and those it
// announces may sign the next ones. At most eight keys are kept, so that a
// statement cannot fill the record.
func Take(s *world.Statement, c *Claims, thumbprint string) {
	s.Keys = []string{thumbprint}
	for _, k := range c.NextKeys {
		if k != "" && !slices.Contains(s.Keys, k) && len(s.Keys) < 8 {
			s.Keys = append(s.Keys, k)
		}
	}
	s.Issued, s.Until = moment.Of(time.Unix(c.Issued, 0)), moment.Of(time.Unix(c.Expires, 0))
	s.Problem, s.Reason, s.Offered = "", "", ""
}

// Words say in short what a statement says, for logs and journals.
func (c *Claims) Words() string {
	var admits []string
	for k, h := range c.Stance {
		if h.Says == "admits" {
			admits = append(admits, k)
		}
	}
	sort.Strings(admits)
	return fmt.Sprintf("statement of %s: admits %s", c.Issuer, strings.Join(admits, ", "))
}
