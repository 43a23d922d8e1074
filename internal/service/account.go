package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"sync"
	"time"

	"golang.org/x/crypto/argon2"

	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Role says what an account may do.
type Role string

// The roles of accounts, and of a token that stands for no person.
const (
	Administrator Role = "administrator"
	Auditor       Role = "auditor"
	Keeper        Role = "keeper"
	Member        Role = "member"
	Decisions     Role = "decisions" // a service token that asks
	Metrics       Role = "metrics"   // a service token that reads metrics
)

// Who is who makes a request.
type Who struct {
	Name   string
	Role   Role
	Person string
	Token  string // id of the token, empty for a session
	Guest  string // the address of a guest
}

// argon2id parameters: RFC 9106 §4, second recommended option, 64 MiB.
const (
	argonTime    = 3
	argonMemory  = 64 * 1024 // KiB
	argonThreads = 4
	argonKey     = 32
)

// hashing bounds how much memory sign-ins may take at once.
var hashing = make(chan struct{}, 2)

// HashPassword returns an encoded argon2id hash of a password.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	return encodeHash(password, salt)
}

func encodeHash(password string, salt []byte) string {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	key := argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

func passwordIs(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	if err != nil {
		return false
	}
	return subtle.ConstantTimeCompare([]byte(encodeHash(password, salt)), []byte(encoded)) == 1
}

// nobody is compared with where there is no account, so that both take as long.
var nobody = sync.OnceValue(func() string { return HashPassword(rand.Text()) })

// ErrDenied is returned for a wrong name, a wrong password and a disabled
// account alike.
var ErrDenied = errors.New("name or password is wrong")

// SignIn checks name and password.
func (s *Service) SignIn(ctx context.Context, name, password string) (Who, error) {
	a, err := s.store.Account(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return Who{}, err
	}
	hash := a.Password
	if hash == "" {
		hash = nobody()
	}
	if !passwordIs(hash, password) || a.Disabled || a.Password == "" {
		return Who{}, ErrDenied
	}
	return Who{Name: a.Name, Role: Role(a.Role), Person: a.Person}, nil
}

// WhoIs returns the account of a session, if it still may sign in.
func (s *Service) WhoIs(ctx context.Context, name string) (Who, error) {
	a, err := s.store.Account(ctx, name)
	if err != nil || a.Disabled {
		return Who{}, ErrDenied
	}
	return Who{Name: a.Name, Role: Role(a.Role), Person: a.Person}, nil
}

// Account is an account without its password.
type Account struct {
	Name, Role, Person string
	Disabled           bool
}

// Accounts lists all accounts.
func (s *Service) Accounts(ctx context.Context) ([]Account, error) {
	as, err := s.store.Accounts(ctx)
	out := make([]Account, 0, len(as))
	for _, a := range as {
		out = append(out, Account{a.Name, a.Role, a.Person, a.Disabled})
	}
	return out, err
}

// PutAccount makes or changes an account; an empty password leaves the old one,
// which a new account must have. Disabling an account, or changing its password,
// ends its tokens.
func (s *Service) PutAccount(ctx context.Context, who, why string, a Account, password string) error {
	if !worldfile.ValidID(a.Name) {
		return &Invalid{"name", a.Name, "lower-case letters, digits, dots, hyphens and underscores"}
	}
	if Role(a.Role) == Member && a.Person == "" {
		return &Invalid{"person", "", "a member's account names the person of ours who has it"}
	}
	hash := ""
	if password != "" {
		if len(password) < 12 {
			return &Invalid{"password", "…", "at least 12 characters"}
		}
		hash = HashPassword(password)
	}
	return s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		if a.Person != "" && !now.Has("person", a.Person) {
			return &Invalid{"person", a.Person, "there is no such person"}
		}
		old, err := t.Account(a.Name)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		if errors.Is(err, store.ErrNone) && hash == "" {
			return &Invalid{"password", "", "a new account needs a password"}
		}
		if old.Role == string(Administrator) && (a.Disabled || a.Role != string(Administrator)) {
			n, err := t.Administrators(a.Name)
			if err != nil {
				return err
			}
			if n == 0 {
				return fmt.Errorf("%w: %q is the last administrator", ErrConflict, a.Name)
			}
		}
		next := store.Account{Name: a.Name, Role: a.Role, Person: a.Person, Disabled: a.Disabled, Password: hash}
		if hash == "" {
			next.Password = old.Password
		}
		return t.PutAccount(next, hash != "" || a.Disabled)
	})
}

// Token is a token without its secret.
type Token struct {
	ID, Name, Account, Purpose string
	Made, Expires              time.Time
}

// purposeClient is that of the client's tokens, which act for an account.
const purposeClient = "client"

// MakeToken makes a token for an account, or for a service where purpose is not
// the client's. The text is shown once; only its hash is kept.
func (s *Service) MakeToken(ctx context.Context, who Who, name, purpose string, life time.Duration) (text string, t Token, err error) {
	text = "wxl_" + rand.Text() + rand.Text()
	sum := sha256.Sum256([]byte(text))
	id := make([]byte, 8)
	_, _ = rand.Read(id)
	now := s.clock().UTC().Truncate(time.Microsecond)
	t = Token{ID: hex.EncodeToString(id), Name: name, Account: who.Name, Purpose: purpose, Made: now, Expires: now.Add(life)}
	err = s.change(ctx, who.Name, "", func(_ *State, tx *store.Tx) error {
		return tx.PutToken(store.Token(t), sum, tokenDoc(t))
	})
	return
}

func tokenDoc(t Token) []byte {
	b, _ := json.Marshal(map[string]string{"account": t.Account, "name": t.Name, "purpose": t.Purpose, "expires": t.Expires.Format(time.RFC3339)})
	return b
}

// ClientToken makes a token for the client of somebody who gave name and password.
func (s *Service) ClientToken(ctx context.Context, who Who) (string, Token, error) {
	return s.MakeToken(ctx, who, "client", purposeClient, 12*time.Hour)
}

// bearer is who a token was found to stand for, at a place in the journal.
// Accounts and tokens change with a journal entry, so what was found holds until
// the journal goes on.
type bearer struct {
	who     Who
	expires time.Time
	seq     uint64
}

// Bearer returns who a token stands for.
func (s *Service) Bearer(ctx context.Context, text string) (Who, error) {
	if len(text) > 200 {
		return Who{}, ErrDenied
	}
	sum, seq := sha256.Sum256([]byte(text)), s.State().Head.Seq
	if b, ok := s.bearers.Load(sum); ok && b.(bearer).seq == seq {
		if !s.clock().Before(b.(bearer).expires) {
			return Who{}, ErrDenied
		}
		return b.(bearer).who, nil
	}
	t, a, err := s.store.TokenBySecret(ctx, sum)
	if errors.Is(err, store.ErrNone) {
		return Who{}, ErrDenied
	}
	if err != nil {
		return Who{}, err
	}
	if a.Disabled || !s.clock().Before(t.Expires) {
		return Who{}, ErrDenied
	}
	who := Who{Name: a.Name, Role: Role(a.Role), Person: a.Person, Token: t.ID}
	if t.Purpose != purposeClient {
		who = Who{Name: "token:" + t.Name, Role: Role(t.Purpose), Token: t.ID}
	}
	s.bearers.Store(sum, bearer{who, t.Expires, seq})
	return who, nil
}

// Tokens lists the tokens of an account, or of all for an administrator.
func (s *Service) Tokens(ctx context.Context, who Who) ([]Token, error) {
	account := who.Name
	if who.Role == Administrator {
		account = ""
	}
	ts, err := s.store.Tokens(ctx, account)
	out := make([]Token, 0, len(ts))
	for _, t := range ts {
		out = append(out, Token(t))
	}
	return out, err
}

// EndToken ends a token of one's own; administrators end any.
func (s *Service) EndToken(ctx context.Context, who Who, id string) error {
	return s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		account := who.Name
		if who.Role == Administrator {
			account = ""
		}
		ok, err := t.EndToken(id, account)
		if err == nil && !ok {
			err = fmt.Errorf("%w: there is no token %q", ErrNotFound, id)
		}
		return err
	})
}
