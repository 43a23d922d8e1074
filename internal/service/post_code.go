package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/mail"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/store"
)

func dropIfGone(err error) error {
	if err != nil && strings.Contains(err.Error(), ErrNotFound.Error()) {
		return nil
	}
	return err
}

// composeCode draws a one-time code and writes the message that brings it, to whoever has a
// record and to who would get one by it.
func (s *Service) composeCode(ctx context.Context, m *store.Message, language string, c *mail.Content) (*mail.Message, error) {
	now := s.Now()
	ends := now + moment.Moment(codeLasts.Microseconds())
	if m.Made+moment.Moment(codeLasts.Microseconds()) <= now {
		return nil, nil
	}
	a, err := addr.Parse(m.Recipient)
	if err != nil {
		return nil, err
	}
	var asked struct{ Browser, Join string }
	if err := json.Unmarshal(m.Doc, &asked); err != nil {
		return nil, err
	}
	if may, err := s.mayHaveCode(ctx, a, asked.Join); err != nil || !may {
		return nil, err
	}
	g, err := s.store.Guest(ctx, m.Recipient)
	if err != nil {
		return nil, err
	}
	if g != nil && g.Language != "" {
		language = g.Language
	}
	code := newCode()
	var salt [16]byte
	_, _ = rand.Read(salt[:])
	d := store.Door{Address: m.Recipient}
	if _, err := hex.Decode(d.Browser[:], []byte(asked.Browser)); err != nil {
		return nil, err
	}
	if err := s.store.PutDoorCode(ctx, d, salt, codeHash(salt[:], code), ends); err != nil {
		return nil, err
	}
	c.Code = code[:4] + "-" + code[4:]
	msg, err := mail.Compose(m.Kind, phrase.Of(language), c)
	return &msg, err
}

// SetAddress says under which address the service is known outside, without a slash at the
// end.
func (s *Service) SetAddress(url string) { s.outside.Store(&url) }

func (s *Service) address(path string) string {
	if u := s.outside.Load(); u != nil {
		return *u + path
	}
	return path
}

// How guests prove that a mailbox is theirs.
const (
	codeLasts  = 10 * time.Minute
	codeTries  = 5
	codesAsked = 6 // an hour, for one address from one place
	// an hour, for one address from everywhere: more than one stranger can ask for, so that
	// they do not keep somebody from coming in
	codesAskedAll = 60
)

// codeLetters are those that are not taken for each other.
const codeLetters = "ABCDEFGHJKLMNPQRSTUVWXYZ23456789" // 32: a byte picks evenly

func newCode() string {
	b := make([]byte, 8)
	_, _ = rand.Read(b)
	for i := range b {
		b[i] = codeLetters[b[i]&31]
	}
	return string(b)
}

func codeHash(salt []byte, code string) [32]byte {
	return sha256.Sum256(append(append([]byte("wexillum code "), salt...), code...))
}

// plainCode takes out what people type around a code.
func plainCode(s string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z':
			return r - 'a' + 'A'
		case r >= 'A' && r <= 'Z', r >= '0' && r <= '9':
			return r
		}
		return -1
	}, s)
}

// mask hides most of an address, so that whoever holds a forwarded mail learns nothing new.
func mask(a addr.Address) string {
	text := a.String()
	i := strings.LastIndexByte(text, '@')
	return text[:1] + "…" + text[i:]
}
