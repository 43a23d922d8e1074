package standin

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"sync"
	"time"

	"github.com/go-chi/chi/v5"
	"github.com/go-jose/go-jose/v4"
)

// SignInClient is as whom we are known at a neighbour's sign-in.
const SignInClient = "wexillum-guests"

// HouseSignIn is the organisation's own sign-in of the demo (OpenID Connect): a stand-in, where whoever stands before it says which of its
// people they are. It tells groups and how somebody proved who they are.
type HouseSignIn struct {
	Domain string
	Client string // as whom we are known there
	Secret string // of that; empty for a public client
	Clock  func() time.Time
	// People are its people by the part of their address before the @.
	People map[string]HousePerson
	// Bend changes what a token says, where it is set; it stands in for a sign-in that is not to be trusted.
	Bend func(claims map[string]any)

	mu     sync.Mutex
	signer *ecdsa.PrivateKey
	grants map[string]houseGrant
}

// HousePerson is what the stand-in knows of somebody.
type HousePerson struct {
	Groups  []string
	Methods []string // amr, RFC 8176
}

type houseGrant struct {
	who, nonce, challenge, redirect string
	made, proved                    time.Time
}

// signInGrant is an authorization code that was given out (RFC 6749 §4.1).
type signInGrant struct {
	email, nonce, challenge, redirect string
	made                              time.Time
}

func (n *Neighbour) now() time.Time {
	if n.Clock != nil {
		return n.Clock()
	}
	return time.Now()
}

// signIn serves a small OpenID provider: the code flow with PKCE (RFC 7636, S256 alone) for
// one public client. Whoever stands before its page says which of its people they are.
func (n *Neighbour) signIn(r chi.Router) {
	issuer := func(r *http.Request) string { return "http://" + r.Host }
	send := func(w http.ResponseWriter, status int, x any) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(x)
	}
	key := func() (*ecdsa.PrivateKey, error) {
		n.mu.Lock()
		defer n.mu.Unlock()
		if n.signer == nil {
			k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
			if err != nil {
				return nil, err
			}
			n.signer = k
		}
		return n.signer, nil
	}
	r.Get("/.well-known/openid-configuration", func(w http.ResponseWriter, r *http.Request) {
		at := issuer(r)
		send(
			w,
			200,
			map[string]any{
				"issuer":                 at,
				"authorization_endpoint": at + "/authorize",
				"token_endpoint":         at + "/token",
				"jwks_uri":               at + "/sign-in-keys",
				"response_types_supported": []string{
					"code",
				},
				"subject_types_supported":               []string{"public"},
				"id_token_signing_alg_values_supported": []string{"ES256"},
				"code_challenge_methods_supported":      []string{"S256"},
				"token_endpoint_auth_methods_supported": []string{"none"},
			},
		)
	})
	r.Get("/sign-in-keys", func(w http.ResponseWriter, r *http.Request) {
		k, err := key()
		if err != nil {
			http.Error(w, err.Error(), 500)
			return
		}
		send(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &k.PublicKey, KeyID: "sign-in", Algorithm: "ES256", Use: "sig"}}})
	})
	r.Get("/authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if q.Get("client_id") != SignInClient || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" ||
			!local(q.Get("redirect_uri")) {
			http.Error(w, "the request is not one of a client that is known here", 400)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = signInPage.Execute(w, map[string]any{"N": n, "Hint": q.Get("login_hint"), "Query": q})
	})
	r.Post("/authorize", func(w http.ResponseWriter, r *http.Request) {
		email := strings.ToLower(strings.TrimSpace(r.FormValue("email")))
		back, err := url.Parse(r.FormValue("redirect_uri"))
		if err != nil || !local(r.FormValue("redirect_uri")) || foreign(r) {
			http.Error(w, "nowhere to go back to", 400)
			return
		}
		q := back.Query()
		q.Set("state", r.FormValue("state"))
		if r.FormValue("do") == "cancel" || !strings.HasSuffix(email, "@"+n.Domain) {
			q.Set("error", "access_denied")
		} else {
			code := rand.Text()
			n.mu.Lock()
			n.grants[code] = signInGrant{email, r.FormValue("nonce"), r.FormValue("code_challenge"), r.FormValue("redirect_uri"), n.now()}
			n.mu.Unlock()
			q.Set("code", code)
		}
		back.RawQuery = q.Encode()
		http.Redirect(w, r, back.String(), http.StatusSeeOther)
	})
	r.Post("/token", func(w http.ResponseWriter, r *http.Request) {
		n.mu.Lock()
		g, ok := n.grants[r.FormValue("code")]
		delete(n.grants, r.FormValue("code"))
		n.mu.Unlock()
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || n.now().Sub(g.made) > time.Minute || base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge ||
			r.FormValue("redirect_uri") != g.redirect {
			send(w, 400, map[string]string{"error": "invalid_grant"})
			return
		}
		k, err := key()
		if err == nil {
			var s jose.Signer
			if s, err = jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: k, KeyID: "sign-in"}},
				(&jose.SignerOptions{}).WithType("JWT")); err == nil {
				said := map[string]any{
					"iss":   issuer(r),
					"aud":   SignInClient,
					"sub":   g.email,
					"email": g.email,
					"nonce": g.nonce,
					"iat":   n.now().Unix(),
					"exp":   n.now().Add(5 * time.Minute).Unix(),
				}
				n.mu.Lock()
				if !n.unverified {
					said["email_verified"] = true
				}
				n.mu.Unlock()
				claims, _ := json.Marshal(said)
				var x *jose.JSONWebSignature
				if x, err = s.Sign(claims); err == nil {
					var text string
					if text, err = x.CompactSerialize(); err == nil {
						send(
							w,
							200,
							map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": text},
						)
						return
					}
				}
			}
		}
		http.Error(w, err.Error(), 500)
	})
}

func (h *HouseSignIn) now() time.Time {
	if h.Clock != nil {
		return h.Clock()
	}
	return time.Now()
}

// Handler serves it.
func (h *HouseSignIn) Handler() (http.Handler, error) {
	k, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	h.signer, h.grants = k, map[string]houseGrant{}
	send := func(w http.ResponseWriter, status int, x any) {
		w.Header().Set("Content-Type", "application/json")
		w.Header().Set("Cache-Control", "no-store")
		w.WriteHeader(status)
		_ = json.NewEncoder(w).Encode(x)
	}
	r := chi.NewRouter()
	r.Get("/.well-known/openid-configuration", func(w http.ResponseWriter, r *http.Request) {
		at := "http://" + r.Host
		send(w, 200, map[string]any{"issuer": at, "authorization_endpoint": at + "/authorize", "token_endpoint": at + "/token",
			"jwks_uri": at + "/keys", "response_types_supported": []string{"code"}, "subject_types_supported": []string{"public"},
			"id_token_signing_alg_values_supported": []string{"ES256"}, "code_challenge_methods_supported": []string{"S256"},
			"authorization_response_iss_parameter_supported": true})
	})
	r.Get("/keys", func(w http.ResponseWriter, _ *http.Request) {
		send(w, 200, jose.JSONWebKeySet{Keys: []jose.JSONWebKey{{Key: &k.PublicKey, KeyID: "house", Algorithm: "ES256", Use: "sig"}}})
	})
	r.Get("/authorize", func(w http.ResponseWriter, r *http.Request) {
		q := r.URL.Query()
		if q.Get("client_id") != h.Client || q.Get("response_type") != "code" || q.Get("code_challenge_method") != "S256" ||
			!local(q.Get("redirect_uri")) {
			http.Error(w, "the request is not one of a client that is known here", 400)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = housePage.Execute(w, map[string]any{"H": h, "Query": q})
	})
	r.Post("/authorize", func(w http.ResponseWriter, r *http.Request) {
		back, err := url.Parse(r.FormValue("redirect_uri"))
		if err != nil || !local(r.FormValue("redirect_uri")) || foreign(r) {
			http.Error(w, "nowhere to go back to", 400)
			return
		}
		q := back.Query()
		q.Set("state", r.FormValue("state"))
		q.Set("iss", "http://"+r.Host)
		if _, ok := h.People[r.FormValue("who")]; !ok {
			q.Set("error", "access_denied")
		} else {
			code := rand.Text()
			h.mu.Lock()
			h.grants[code] = houseGrant{r.FormValue("who"), r.FormValue("nonce"), r.FormValue("code_challenge"), r.FormValue("redirect_uri"),
				h.now(), h.now()}
			h.mu.Unlock()
			q.Set("code", code)
		}
		back.RawQuery = q.Encode()
		http.Redirect(w, r, back.String(), http.StatusSeeOther)
	})
	r.Post("/token", func(w http.ResponseWriter, r *http.Request) {
		h.mu.Lock()
		g, ok := h.grants[r.FormValue("code")]
		delete(h.grants, r.FormValue("code"))
		h.mu.Unlock()
		id, secret, basic := r.BasicAuth()
		if !basic {
			id, secret = r.FormValue("client_id"), r.FormValue("client_secret")
		}
		sum := sha256.Sum256([]byte(r.FormValue("code_verifier")))
		if !ok || id != h.Client || secret != h.Secret || h.now().Sub(g.made) > time.Minute ||
			base64.RawURLEncoding.EncodeToString(sum[:]) != g.challenge || r.FormValue("redirect_uri") != g.redirect {
			send(w, 400, map[string]string{"error": "invalid_grant"})
			return
		}
		p := h.People[g.who]
		said := map[string]any{"iss": "http://" + r.Host, "aud": h.Client, "sub": "u-" + g.who, "preferred_username": g.who,
			"email": g.who + "@" + h.Domain, "email_verified": true, "groups": p.Groups, "nonce": g.nonce, "iat": h.now().Unix(),
			"exp": h.now().Add(5 * time.Minute).Unix(), "auth_time": g.proved.Unix()}
		if len(p.Methods) > 0 {
			said["amr"] = p.Methods
		}
		if h.Bend != nil {
			h.Bend(said)
		}
		claims, _ := json.Marshal(said)
		s, err := jose.NewSigner(jose.SigningKey{Algorithm: jose.ES256, Key: jose.JSONWebKey{Key: k, KeyID: "house"}},
			(&jose.SignerOptions{}).WithType("JWT"))
		if err == nil {
			var x *jose.JSONWebSignature
			if x, err = s.Sign(claims); err == nil {
				var text string
				if text, err = x.CompactSerialize(); err == nil {
					send(w, 200, map[string]any{"access_token": rand.Text(), "token_type": "Bearer", "expires_in": 300, "id_token": text})
					return
				}
			}
		}
		http.Error(w, err.Error(), 500)
	})
	return r, nil
}

var housePage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.H.Domain}}: sign in</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:26rem;margin:4rem auto;padding:0 1rem;color:#1d2b33;background:#fbfaf6}button{font:inherit;padding:.3rem .5rem;margin:.2rem 0;display:block}</style>
<h1>{{.H.Domain}}</h1>
<p>A stand-in for the organisation's own sign-in. Say which of its people you are.</p>
<form method="post" action="/authorize">
{{range $k, $v := .Query}}{{range $v}}<input type="hidden" name="{{$k}}" value="{{.}}">{{end}}{{end}}
{{range $who, $p := .H.People}}<button name="who" value="{{$who}}">{{$who}} ({{range $i, $g := $p.Groups}}{{if $i}}, {{end}}{{$g}}{{end}})</button>{{end}}
<button name="who" value="">Cancel</button></form></html>`))

// Unverified lets the sign-in say nothing of whether it verified an address.
func (n *Neighbour) Unverified(yes bool) {
	n.mu.Lock()
	defer n.mu.Unlock()
	n.unverified = yes
}

// local reports whether an address is on this machine: a stand-in serves nobody else.
func local(text string) bool {
	u, err := url.Parse(text)
	return err == nil && (u.Hostname() == "127.0.0.1" || u.Hostname() == "localhost")
}

var signInPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.N.Name}}: sign in</title>
<style>body{font:16px/1.5 system-ui,sans-serif;max-width:26rem;margin:4rem auto;padding:0 1rem;color:#1d2b33;background:#fbfaf6}input,button{font:inherit;padding:.3rem .5rem}input[type=email]{width:100%;box-sizing:border-box;margin:.3rem 0 1rem}</style>
<h1>{{.N.Name}}</h1>
<p>A stand-in for their own sign-in. Say which of their people you are.</p>
<form method="post" action="/authorize">
{{range $k, $v := .Query}}{{range $v}}<input type="hidden" name="{{$k}}" value="{{.}}">{{end}}{{end}}
<label for="email">Address at {{.N.Domain}}</label><input type="email" id="email" name="email" required value="{{.Hint}}">
<button name="do" value="sign-in">Sign in</button> <button name="do" value="cancel" formnovalidate>Cancel</button></form></html>`))
