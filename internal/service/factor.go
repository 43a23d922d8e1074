package service

import (
	"bytes"
	"cmp"
	"context"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/binary"
	"errors"
	"fmt"
	"image/png"
	"strings"
	"time"

	"github.com/pquerna/otp"
	"github.com/pquerna/otp/totp"
	"golang.org/x/crypto/argon2"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/may"
	"wexillum.example/internal/store"
)

// A second factor is one-time codes by time (RFC 6238: SHA-1, six digits, thirty seconds, which every app knows). The secret is
// sealed with a key that only the password makes, so that the database alone tells nobody's.

// ErrFactor is returned where the password was right, and a one-time code is asked for.
var ErrFactor = errors.New("a one-time code is asked for")

// FactorState is how somebody's second factor stands.
type FactorState struct {
	On       bool
	Required bool // of their role
	Since    moment.Moment
	Left     int // recovery codes
}

// FactorBegun is a second factor to be confirmed: what the app of whoever sets it up is to know.
type FactorBegun struct {
	Secret string // base32 (RFC 4648 §6)
	URI    string // otpauth://totp/…
	Image  string // the same to be scanned, as a data: URI
}

const (
	codeStep     = 30 // seconds
	codeSkew     = 1  // steps by which clocks may differ
	recoverCodes = 10
)

// sealing is the cipher of a password; memory is how many KiB making its key takes, which stands before what is sealed.
func sealing(password string, salt []byte, memory uint32) (cipher.AEAD, error) {
	block, err := aes.NewCipher(argon2.IDKey([]byte(password), salt, 3, memory, 4, 32))
	if err != nil {
		return nil, err
	}
	return cipher.NewGCM(block)
}

func sealFactor(f *store.Factor, password, secret string) error {
	f.Salt = make([]byte, 16)
	_, _ = rand.Read(f.Salt)
	a, err := sealing(password, f.Salt, PasswordMemory)
	if err != nil {
		return err
	}
	nonce := make([]byte, a.NonceSize())
	_, _ = rand.Read(nonce)
	head := binary.BigEndian.AppendUint32(nil, PasswordMemory)
	f.Sealed = a.Seal(append(head, nonce...), nonce, []byte(secret), []byte(f.Account))
	return nil
}

func openFactor(f *store.Factor, password string) (string, error) {
	const head = 4
	if len(f.Sealed) < head || binary.BigEndian.Uint32(f.Sealed) > 1<<20 {
		return "", errors.New("the second factor is damaged")
	}
	a, err := sealing(password, f.Salt, binary.BigEndian.Uint32(f.Sealed))
	if err != nil {
		return "", err
	}
	sealed := f.Sealed[head:]
	if len(sealed) < a.NonceSize() {
		return "", errors.New("the second factor is damaged")
	}
	secret, err := a.Open(nil, sealed[:a.NonceSize()], sealed[a.NonceSize():], []byte(f.Account))
	return string(secret), err
}

// stepOf is the step of a one-time code that is right now and was not used; 0 where it is none.
func (s *Service) stepOf(secret, code string, used int64) int64 {
	code = plainCode(code)
	now := s.clock().Unix() / codeStep
	for step := now - codeSkew; step <= now+codeSkew; step++ {
		want, err := totp.GenerateCodeCustom(secret, time.Unix(step*codeStep, 0),
			totp.ValidateOpts{Period: codeStep, Digits: otp.DigitsSix, Algorithm: otp.AlgorithmSHA1})
		if err == nil && step > used && subtle.ConstantTimeCompare([]byte(want), []byte(code)) == 1 {
			return step
		}
	}
	return 0
}

func recoveryHash(code string) [32]byte { return sha256.Sum256([]byte("recovery " + plainCode(code))) }

// FactorOf tells how somebody's second factor stands.
func (s *Service) FactorOf(ctx context.Context, who Who) (*FactorState, error) {
	f, err := s.store.Factor(ctx, who.Name)
	if err != nil {
		return nil, err
	}
	out := &FactorState{Required: s.State().factorRequired(who.Role)}
	if f != nil && f.Confirmed != 0 {
		out.On, out.Since, out.Left = true, f.Confirmed, f.Left
	}
	return out, nil
}

// factorRequired reports whether a role has to have a second factor.
func (s *State) factorRequired(role Role) bool {
	return may.NeedsFactor(role, s.Policy().SettingsNow().SecondFactor)
}

// LacksFactor reports whether somebody has to set up a second factor before they do anything else.
func (s *Service) LacksFactor(ctx context.Context, who Who) (bool, error) {
	if who.OfService() || who.Guest != "" || !s.State().factorRequired(who.Role) {
		return false, nil
	}
	f, err := s.store.Factor(ctx, who.Name)
	if err != nil { // while the database is away, whoever was known to have one goes on
		if _, had := s.factored.Load(who.Name); had {
			return false, nil
		}
		return false, err
	}
	if f == nil || f.Confirmed == 0 {
		s.factored.Delete(who.Name)
		if keys, err := s.store.Passkeys(ctx, who.Name); err != nil || len(keys) > 0 {
			return false, err
		}
		a, err := s.store.Account(ctx, who.Name)
		return err == nil && a.Subject == "", err // of others their own sign-in asked for it
	}
	s.factored.Store(who.Name, true)
	return false, nil
}

// ownPassword checks that somebody who is signed in knows their password; the journal says that it was tried.
func (s *Service) ownPassword(ctx context.Context, who Who, password, way, from string) error {
	a, err := s.store.Account(ctx, who.Name)
	if err != nil {
		return err
	}
	right := passwordIs(a.Password, password)
	err = s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		_, err := signedIn(t, who.Name, way, from, right)
		return err
	})
	if err == nil && !right {
		err = &Invalid{"password", "…", "this is not your password"}
	}
	return err
}

// BeginFactor begins to set up a second factor; it counts once a first code is right.
func (s *Service) BeginFactor(ctx context.Context, who Who, password, way, from string) (*FactorBegun, error) {
	if err := s.ownPassword(ctx, who, password, way, from); err != nil {
		return nil, err
	}
	issuer := "Wexillum"
	if o := s.State().Policy().Organisation; o != nil && o.Name != "" {
		issuer = strings.ReplaceAll(o.Name, ":", " ")
	}
	key, err := totp.Generate(totp.GenerateOpts{Issuer: issuer, AccountName: who.Name, Period: codeStep, Digits: otp.DigitsSix,
		Algorithm: otp.AlgorithmSHA1})
	if err != nil {
		return nil, err
	}
	img, err := key.Image(200, 200)
	if err != nil {
		return nil, err
	}
	var b bytes.Buffer
	if err := png.Encode(&b, img); err != nil {
		return nil, err
	}
	f := &store.Factor{Account: who.Name, Made: s.Now()}
	if err := sealFactor(f, password, key.Secret()); err != nil {
		return nil, err
	}
	if err := s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		if old, err := t.Factor(who.Name); err != nil || old != nil && old.Confirmed != 0 {
			return cmp.Or(err, fmt.Errorf("%w: you have a second factor; take it away first", ErrConflict))
		}
		return t.PutFactor(f, "begun")
	}); err != nil {
		return nil, err
	}
	return &FactorBegun{Secret: key.Secret(), URI: key.URL(), Image: "data:image/png;base64," + base64.StdEncoding.EncodeToString(b.Bytes())},
		nil
}

// ConfirmFactor takes a first code; from then on one is asked for at every sign-in. It returns the recovery codes, which are told once.
func (s *Service) ConfirmFactor(ctx context.Context, who Who, password, code, way, from string) ([]string, error) {
	if err := s.ownPassword(ctx, who, password, way, from); err != nil {
		return nil, err
	}
	var codes []string
	err := s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		f, err := t.Factor(who.Name)
		switch {
		case err != nil:
			return err
		case f == nil:
			return fmt.Errorf("%w: begin to set it up first", ErrConflict)
		case f.Confirmed != 0:
			return fmt.Errorf("%w: it is set up already", ErrConflict)
		}
		secret, err := openFactor(f, password)
		if err != nil {
			return fmt.Errorf("%w: your password changed meanwhile; begin again", ErrConflict)
		}
		step := s.stepOf(secret, code, 0)
		if step == 0 {
			return &Invalid{"code", "…", "it is not right now: look whether the clock of your device is right, and take the next code"}
		}
		f.Confirmed, f.Step = s.Now(), step
		if err := t.PutFactor(f, "set up"); err != nil {
			return err
		}
		codes = nil
		var hashes [][32]byte
		for range recoverCodes {
			text := rand.Text()[:16]
			codes = append(codes, text[:4]+"-"+text[4:8]+"-"+text[8:12]+"-"+text[12:])
			hashes = append(hashes, recoveryHash(text))
		}
		return t.PutRecovery(who.Name, hashes)
	})
	return codes, err
}

// RemoveFactor takes one's own second factor away, with the password and a code.
func (s *Service) RemoveFactor(ctx context.Context, who Who, password, code, way, from string) error {
	if _, err := s.SignInCode(ctx, who.Name, password, code, way, from); errors.Is(err, ErrDenied) || errors.Is(err, ErrFactor) {
		return &Invalid{"code", "…", "the password or the code is not right"}
	} else if err != nil {
		return err
	}
	if s.State().factorRequired(who.Role) {
		return fmt.Errorf("%w: your role has to have a second factor (settings.second_factor)", ErrConflict)
	}
	return s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		ok, err := t.EndFactor(who.Name, "taken away by themselves")
		if err == nil && !ok {
			err = fmt.Errorf("%w: you have none", ErrConflict)
		}
		return err
	})
}

// ResetFactor takes somebody's second factor away, who lost it; their sessions and tokens end.
func (s *Service) ResetFactor(ctx context.Context, who, name, why string) error {
	if why = strings.TrimSpace(why); why == "" {
		return &Invalid{"why", "", "say how you know that it is they who ask"}
	}
	return s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		if _, err := t.Account(name); errors.Is(err, store.ErrNone) {
			return fmt.Errorf("%w: there is no account %q", ErrNotFound, name)
		} else if err != nil {
			return err
		}
		ok, err := t.EndFactor(name, "reset")
		if err != nil {
			return err
		}
		n, err := t.EndPasskeys(name, "", "reset")
		if err != nil {
			return err
		}
		if !ok && n == 0 {
			return fmt.Errorf("%w: %s has no second factor", ErrConflict, name)
		}
		return t.EndAll(name)
	})
}

// proveFactor checks the code of somebody whose password is right, within the change that signs them in.
func (s *Service) proveFactor(t *store.Tx, name, password, code string) (bool, error) {
	f, err := t.Factor(name)
	if err != nil || f == nil || f.Confirmed == 0 {
		return err == nil, err
	}
	if secret, err := openFactor(f, password); err == nil {
		if step := s.stepOf(secret, code, f.Step); step != 0 {
			return true, t.UseFactor(name, step)
		}
	}
	return t.UseRecovery(name, recoveryHash(code))
}
