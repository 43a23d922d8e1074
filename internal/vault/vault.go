// Package vault seals what must be readable again with keys that are kept in a file, apart from the database.
package vault

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
)

// prefix begins what is sealed; after it come the id of the key and the sealed text (AES-256-GCM, NIST SP 800-38D), its nonce first.
const prefix = "sealed:"

// keySize is how many bytes a key has.
const keySize = 32

// Vault seals with the first of its keys, and opens what any of them sealed.
type Vault struct{ keys []key }

type key struct {
	id   string
	aead cipher.AEAD
}

// ErrNoKey is returned for what a key sealed that is not there.
var ErrNoKey = errors.New("the key that sealed it is not there")

// Make returns a new key, as a line of a file.
func Make() string {
	b := make([]byte, keySize)
	_, _ = rand.Read(b)
	return base64.StdEncoding.EncodeToString(b)
}

// Read reads keys from a file: one a line in base64 (RFC 4648 §4), the first seals, the others open what they sealed before. Lines that
// begin with # are passed over. A file that others than its owner may read is refused.
func Read(path string) (*Vault, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s may be read by others than its owner: chmod 600 %s", path, path)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	v := &Vault{}
	for i, line := range strings.Split(string(text), "\n") {
		if line = strings.TrimSpace(line); line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		b, err := base64.StdEncoding.DecodeString(line)
		if err != nil || len(b) != keySize {
			return nil, fmt.Errorf("%s, line %d: a key is %d bytes in base64; wexillum seal-key makes one", path, i+1, keySize)
		}
		block, err := aes.NewCipher(b)
		if err != nil {
			return nil, err
		}
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		sum := sha256.Sum256(append([]byte("wexillum key "), b...))
		v.keys = append(v.keys, key{hex.EncodeToString(sum[:6]), aead})
	}
	if len(v.keys) == 0 {
		return nil, fmt.Errorf("%s holds no key; wexillum seal-key makes one", path)
	}
	return v, nil
}

// Sealed reports whether a text is sealed, and with which key.
func Sealed(text string) (id string, ok bool) {
	rest, ok := strings.CutPrefix(text, prefix)
	if !ok {
		return "", false
	}
	id, _, ok = strings.Cut(rest, ":")
	return id, ok
}

// Current reports whether a text is sealed with the key that seals now; without a vault, whether it is clear.
func (v *Vault) Current(text string) bool {
	id, ok := Sealed(text)
	if v == nil {
		return !ok
	}
	return ok && id == v.keys[0].id
}

// Seal seals a text. about is where it stands: sealed there, it opens nowhere else. Without a vault the text stays as it is.
func (v *Vault) Seal(text, about string) string {
	if v == nil {
		return text
	}
	k := v.keys[0]
	nonce := make([]byte, k.aead.NonceSize())
	_, _ = rand.Read(nonce)
	return prefix + k.id + ":" + base64.StdEncoding.EncodeToString(k.aead.Seal(nonce, nonce, []byte(text), []byte(about)))
}

// Open opens what was sealed about the same; what is clear stays as it is. It is ErrNoKey where the key is not there.
func (v *Vault) Open(text, about string) (string, error) {
	id, ok := Sealed(text)
	if !ok {
		return text, nil
	}
	if v != nil {
		for _, k := range v.keys {
			if k.id != id {
				continue
			}
			b, err := base64.StdEncoding.DecodeString(text[len(prefix)+len(id)+1:])
			if err != nil || len(b) < k.aead.NonceSize() {
				return "", errors.New("what is sealed is damaged")
			}
			out, err := k.aead.Open(nil, b[:k.aead.NonceSize()], b[k.aead.NonceSize():], []byte(about))
			if err != nil {
				return "", errors.New("what is sealed is damaged, or stands somewhere else than it was sealed for")
			}
			return string(out), nil
		}
	}
	return "", fmt.Errorf("%w: %s", ErrNoKey, id)
}
