// Package statement signs our statements, and fetches and verifies those of
// partners: JWS (RFC 7515), JWKS (RFC 7517), and HTTP with its dangers. What a
// statement says is read by the package of the same name in core.
package statement

import (
	"crypto"
	"crypto/ed25519"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"strings"

	"github.com/go-jose/go-jose/v4"

	core "wexillum.example/internal/core/statement"
)

// Algorithms are the signatures that are taken (RFC 7518 §3.1, RFC 8037 §3.1).
var Algorithms = []jose.SignatureAlgorithm{jose.EdDSA, jose.ES256}

// NewKey makes a key that signs with Ed25519, as a private JWK, and returns its
// thumbprint (RFC 7638) too.
func NewKey() (thumbprint string, private []byte, err error) {
	_, key, err := ed25519.GenerateKey(rand.Reader)
	if err != nil {
		return "", nil, err
	}
	k := jose.JSONWebKey{Key: key, Use: "sig", Algorithm: string(jose.EdDSA)}
	if k.KeyID, err = Thumbprint(&k); err != nil {
		return "", nil, err
	}
	private, err = json.Marshal(k)
	return k.KeyID, private, err
}

// Thumbprint returns the thumbprint of a key (RFC 7638 §3, SHA-256, base64url).
func Thumbprint(k *jose.JSONWebKey) (string, error) {
	sum, err := k.Thumbprint(crypto.SHA256)
	if err != nil {
		return "", err
	}
	return base64.RawURLEncoding.EncodeToString(sum), nil
}

// Sign signs a statement with a private JWK and returns the compact form.
func Sign(c core.Claims, private []byte) (string, error) { return SignAs(core.Type, c, private) }

// SignAs signs claims of another type (RFC 7515 §4.1.9) in the same way.
func SignAs(typ string, claims any, private []byte) (string, error) {
	var k jose.JSONWebKey
	if err := json.Unmarshal(private, &k); err != nil {
		return "", fmt.Errorf("the key that signs statements cannot be read: %w", err)
	}
	alg := jose.SignatureAlgorithm(k.Algorithm)
	s, err := jose.NewSigner(jose.SigningKey{Algorithm: alg, Key: k}, (&jose.SignerOptions{}).WithType(jose.ContentType(typ)))
	if err != nil {
		return "", err
	}
	payload, err := json.Marshal(claims)
	if err != nil {
		return "", err
	}
	signed, err := s.Sign(payload)
	if err != nil {
		return "", err
	}
	return signed.CompactSerialize()
}

// PublicKeys writes the public half of private JWKs as a JWKS.
func PublicKeys(private ...[]byte) ([]byte, error) {
	set := jose.JSONWebKeySet{Keys: []jose.JSONWebKey{}}
	for _, p := range private {
		var k jose.JSONWebKey
		if err := json.Unmarshal(p, &k); err != nil {
			return nil, err
		}
		set.Keys = append(set.Keys, k.Public())
	}
	return json.Marshal(set)
}

// Open verifies a statement against a JWKS and returns what it signs and the
// thumbprint of the key. An error is a *core.Problem.
func Open(jws, jwks []byte) (payload []byte, thumbprint string, err error) {
	return OpenAs(core.Type, jws, jwks)
}

// OpenAs does the same for a compact JWS of another type (RFC 7515 §4.1.9).
func OpenAs(want string, jws, jwks []byte) (payload []byte, thumbprint string, err error) {
	signed, err := jose.ParseSignedCompact(string(jws), Algorithms)
	if err != nil {
		return nil, "", &core.Problem{Code: core.Malformed, Text: "it is no signature in compact form with EdDSA or ES256: " + err.Error()}
	}
	h := signed.Signatures[0].Protected
	if typ, _ := h.ExtraHeaders[jose.HeaderType].(string); !strings.EqualFold(strings.TrimPrefix(typ, "application/"),
		strings.TrimPrefix(want, "application/")) {
		return nil, "", &core.Problem{
			Code: core.WrongType,
			Text: fmt.Sprintf("the type of the signature is %q, and %q is wanted", typ, want),
		}
	}
	var set jose.JSONWebKeySet
	if err := json.Unmarshal(jwks, &set); err != nil {
		return nil, "", &core.Problem{Code: core.NoKey, Text: "its keys cannot be read: " + err.Error()}
	}
	for _, k := range set.Key(h.KeyID) {
		if !k.IsPublic() || !k.Valid() {
			continue
		}
		print, err := Thumbprint(&k)
		if err != nil {
			continue
		}
		payload, err := signed.Verify(k)
		if errors.Is(err, jose.ErrCryptoFailure) {
			return nil, "", &core.Problem{Code: core.BadSignature, Text: "its signature does not hold"}
		}
		if err == nil {
			return payload, print, nil
		}
	}
	return nil, "", &core.Problem{
		Code: core.NoKey,
		Text: fmt.Sprintf("the key %q that signed it is not among the keys published beside it", h.KeyID),
	}
}
