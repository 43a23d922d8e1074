package service

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync"

	"github.com/trustelem/zxcvbn"
	"golang.org/x/crypto/argon2"

	"wexillum.example/internal/may"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Who makes a request and what they may do is told by package may.
type (
	Role   = may.Role
	Who    = may.Who
	Stands = may.Stands
)

// The roles of accounts, of guests, and of a token that stands for no person.
const (
	Administrator = may.Administrator
	Auditor       = may.Auditor
	Keeper        = may.Keeper
	Member        = may.Member
	RoleGuest     = may.Guest
	Decisions     = may.Decisions
	Metrics       = may.Metrics
	Reading       = may.Reading
	ReadsLists    = may.ReadsLists
	Expectations  = may.Expectations
	GuestsIn      = may.GuestsIn
)

// PasswordMemory is how many KiB a password is hashed with. Tests that sign in hundreds of times take less.
var PasswordMemory uint32 = 64 * 1024

// argon2id parameters: RFC 9106 §4, second recommended option, 64 MiB.
const (
	argonTime    = 3
	argonThreads = 4
	argonKey     = 32
)

// hashing bounds how much memory sign-ins may take at once.
var hashing = make(chan struct{}, 2)

// HashPassword returns an encoded argon2id hash of a password.
func HashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	return encodeHash(password, salt, PasswordMemory, argonTime, argonThreads)
}

func encodeHash(password string, salt []byte, memory, passes uint32, threads uint8) string {
	hashing <- struct{}{}
	defer func() { <-hashing }()
	key := argon2.IDKey([]byte(password), salt, passes, memory, threads, argonKey)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, memory, passes, threads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(key))
}

// passwordIs compares with what a hash says of itself, so that other parameters than today's lock nobody out.
func passwordIs(encoded, password string) bool {
	parts := strings.Split(encoded, "$")
	if len(parts) != 6 {
		return false
	}
	salt, err := base64.RawStdEncoding.DecodeString(parts[4])
	var memory, passes uint32
	var threads uint8
	if n, wrong := fmt.Sscanf(parts[3], "m=%d,t=%d,p=%d", &memory, &passes, &threads); err != nil || wrong != nil || n != 3 || passes == 0 ||
		threads == 0 {
		return false
	}
	return subtle.ConstantTimeCompare([]byte(encodeHash(password, salt, memory, passes, threads)), []byte(encoded)) == 1
}

// nobody is compared with where there is no account, so that both take as long.
var nobody = sync.OnceValue(func() string { return HashPassword(rand.Text()) })

// ErrDenied is returned for a wrong name, a wrong password and a disabled
// account alike.
var ErrDenied = errors.New("name or password is wrong")

// Ways of signing in, as the journal names them.
const (
	WayConsole = "console"
	WayClient  = "client"
	WayCode    = "code"
	WayPartner = "partner"
)

// signedIn writes to the journal that somebody signed in, or was refused, and from where. A
// name that no account has is not written down: people type passwords into the wrong field.
func signedIn(t *store.Tx, id, way, from string, in bool) (uint64, error) {
	result := "refused"
	if in {
		result = "in"
	}
	return t.Note(store.SignInKind, id, nil, []byte(jsonOf(map[string]string{"way": way, "from": from, "result": result})))
}

// SignIn checks name and password of somebody who has no second factor. from is where the request came from, for the journal.
func (s *Service) SignIn(ctx context.Context, name, password, way, from string) (Who, error) {
	return s.SignInCode(ctx, name, password, "", way, from)
}

// SignInCode checks name, password and, of somebody who has a second factor, a one-time or a recovery code. Where the password is right and
// no code was given it returns ErrFactor.
func (s *Service) SignInCode(ctx context.Context, name, password, code, way, from string) (Who, error) {
	a, err := s.store.Account(ctx, name)
	if err != nil && !errors.Is(err, store.ErrNone) {
		return Who{}, err
	}
	hash := a.Password
	if hash == "" {
		hash = nobody()
	}
	in := passwordIs(hash, password) && !a.Disabled && a.Password != ""
	if in && code == "" {
		f, err := s.store.Factor(ctx, a.Name)
		if err != nil {
			return Who{}, err
		}
		if f != nil && f.Confirmed != 0 {
			return Who{}, ErrFactor
		}
	}
	if in && s.State().factorRequired(Role(a.Role)) { // a password is not enough, and a passkey may be what they have besides
		f, err := s.store.Factor(ctx, a.Name)
		if err != nil {
			return Who{}, err
		}
		keys, err := s.store.Passkeys(ctx, a.Name)
		if err != nil {
			return Who{}, err
		}
		if (f == nil || f.Confirmed == 0) && len(keys) > 0 {
			return Who{}, ErrPasskey
		}
	}
	who := Who{Name: a.Name, Role: Role(a.Role), Person: a.Person}
	journalled := a.Name
	if journalled == "" {
		journalled = unknownName
	}
	proved := in
	err = s.change(ctx, journalled, "", func(_ *State, t *store.Tx) error {
		proved = in
		if in { // it may have been disabled, or have got another password, meanwhile
			now, err := t.Account(a.Name)
			if err != nil || now != a {
				return errors.Join(err, ErrDenied)
			}
			if proved, err = s.proveFactor(t, a.Name, password, code); err != nil {
				return err
			}
		}
		who.Since, err = signedIn(t, journalled, way, from, proved)
		return err
	})
	if err == nil && !proved {
		err = ErrDenied
	}
	return who, err
}

// unknownName stands in the journal for a name that no account has.
const unknownName = "(unknown)"

// WhoIs returns the account of a session that began with a journal entry, if it still may
// sign in and its sessions were not ended since; else ErrDenied.
func (s *Service) WhoIs(ctx context.Context, name string, since uint64) (Who, error) {
	a, err := s.store.Account(ctx, name)
	if errors.Is(err, store.ErrNone) || err == nil && a.Disabled {
		return Who{}, ErrDenied
	}
	if err != nil {
		return Who{}, err
	}
	if err := s.stillIn(ctx, since, name); err != nil {
		return Who{}, err
	}
	return Who{Name: a.Name, Role: Role(a.Role), Person: a.Person, Since: since}, nil
}

// stillIn is ErrDenied where sessions of any of the names were ended after one began.
func (s *Service) stillIn(ctx context.Context, since uint64, names ...string) error {
	ended, err := s.store.SessionsEnded(ctx, names...)
	if err == nil && ended > since {
		err = ErrDenied
	}
	return err
}

// EndSessions ends every session and every token of an account or a guest, one's own or, for
// administrators, anybody's.
func (s *Service) EndSessions(ctx context.Context, who Who, name, why string) error {
	if !who.EndsSessions(name) {
		return ErrDenied
	}
	return s.change(ctx, who.Name, why, func(_ *State, t *store.Tx) error {
		if who.Role != RoleGuest {
			if _, err := t.Account(name); errors.Is(err, store.ErrNone) {
				return fmt.Errorf("%w: there is no account %q", ErrNotFound, name)
			} else if err != nil {
				return err
			}
		}
		return t.EndAll(name)
	})
}

// SessionEnded notes that somebody ended one of their sessions, which began from an address.
func (s *Service) SessionEnded(ctx context.Context, who Who, from string) error {
	return s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		_, err := t.Note("sessions", who.Name, []byte(jsonOf(map[string]string{"from": from})), []byte(`{"one":"ended"}`))
		return err
	})
}

// SetPassword changes one's own password, which ends every other session and every token. It
// returns the journal entry that one's own session goes on from.
func (s *Service) SetPassword(ctx context.Context, who Who, old, next, from string) (since uint64, err error) {
	way := WayConsole
	if who.Token != "" {
		way = WayClient
	}
	if err := s.ownPassword(ctx, who, old, way, from); err != nil {
		var no *Invalid
		if errors.As(err, &no) {
			no.Field = "old"
		}
		return 0, err
	}
	if err := goodPassword("new", next, who.Name); err != nil {
		return 0, err
	}
	hash := HashPassword(next)
	err = s.change(ctx, who.Name, "their own new password", func(_ *State, t *store.Tx) error {
		a, err := t.Account(who.Name)
		if err != nil {
			return err
		}
		f, err := t.Factor(who.Name)
		if err != nil {
			return err
		}
		if f != nil { // it is sealed with the password
			secret, err := openFactor(f, old)
			if err == nil {
				err = sealFactor(f, next, secret)
			}
			if err != nil {
				return err
			}
			if err := t.PutFactor(f, "sealed anew with the new password"); err != nil {
				return err
			}
		}
		a.Password = hash
		err = t.PutAccount(a, true)
		since = t.Head().Seq
		return err
	})
	return since, err
}

// goodPassword refuses a password that is short or among those that are guessed first.
func goodPassword(field, password string, known ...string) error {
	if len(password) < 12 {
		return &Invalid{field, "…", "at least 12 characters"}
	}
	if len(password) > 200 {
		return &Invalid{field, "…", "at most 200 characters"}
	}
	if zxcvbn.PasswordStrength(password, known).Score < 3 {
		return &Invalid{
			field,
			"…",
			"it is too close to passwords that are tried first; take a few words that have nothing to do with each other",
		}
	}
	return nil
}

// Account is an account without its password.
type Account struct {
	Name, Role, Person string
	Disabled           bool
	House              bool // the organisation's own sign-in vouches for them
}

// Accounts lists all accounts.
func (s *Service) Accounts(ctx context.Context) ([]Account, error) {
	as, err := s.store.Accounts(ctx)
	out := make([]Account, 0, len(as))
	for _, a := range as {
		out = append(out, Account{a.Name, a.Role, a.Person, a.Disabled, a.Subject != ""})
	}
	return out, err
}

// AccountChange is what is to be otherwise at an account; nil and an empty password leave as it is.
type AccountChange struct {
	Role, Person *string // an empty person: nobody of ours
	Disabled     *bool
	Password     string
}

// MakeAccount makes an account, which needs a password. One that is there already is a conflict.
func (s *Service) MakeAccount(ctx context.Context, who, why string, a Account, password string) error {
	if !worldfile.ValidID(a.Name) {
		return &Invalid{"name", a.Name, "lower-case letters, digits, dots, hyphens and underscores"}
	}
	if password == "" {
		return &Invalid{"password", "", "a new account needs a password"}
	}
	_, err := s.putAccount(ctx, who, why, a.Name, password, func(_ store.Account, there bool) (store.Account, error) {
		if there {
			return store.Account{}, fmt.Errorf("%w: there is an account %q already", ErrConflict, a.Name)
		}
		return store.Account{Name: a.Name, Role: a.Role, Person: a.Person, Disabled: a.Disabled}, nil
	})
	return err
}

// ChangeAccount changes what is named of an account. Disabling it, or a new password, ends its
// sessions and tokens. The last administrator stays one.
func (s *Service) ChangeAccount(ctx context.Context, who, why, name string, c AccountChange) (Account, error) {
	return s.putAccount(ctx, who, why, name, c.Password, func(a store.Account, there bool) (store.Account, error) {
		if !there {
			return a, fmt.Errorf("%w: there is no account %q", ErrNotFound, name)
		}
		if c.Role != nil {
			a.Role = *c.Role
		}
		if c.Person != nil {
			a.Person = *c.Person
		}
		if c.Disabled != nil {
			a.Disabled = *c.Disabled
		}
		return a, nil
	})
}

// putAccount writes what next makes of the account as it is, with a new password unless that is empty.
func (s *Service) putAccount(
	ctx context.Context, who, why, name, password string, next func(was store.Account, there bool) (store.Account, error),
) (out Account, err error) {
	hash := ""
	if password != "" {
		if err := goodPassword("password", password, name); err != nil {
			return out, err
		}
		hash = HashPassword(password)
	}
	err = s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		old, err := t.Account(name)
		if err != nil && !errors.Is(err, store.ErrNone) {
			return err
		}
		a, err := next(old, err == nil)
		if err != nil {
			return err
		}
		if may.NeedsPerson(Role(a.Role)) && a.Person == "" {
			return &Invalid{"person", "", "a member's account names the person of ours who has it"}
		}
		if a.Person != "" && !now.Has("person", a.Person) {
			return &Invalid{"person", a.Person, "there is no such person"}
		}
		if old.Role == string(Administrator) && (a.Disabled || a.Role != string(Administrator)) {
			n, err := t.Administrators(name)
			if err != nil {
				return err
			}
			if n == 0 {
				return fmt.Errorf("%w: %q is the last administrator", ErrConflict, name)
			}
		}
		if old.Subject != "" && (hash != "" || a.Role != old.Role || a.Person != old.Person) {
			return fmt.Errorf("%w: %s signs in with the organisation's own sign-in, which says who they are and what their role is; it can be disabled here",
				ErrConflict, name)
		}
		if hash != "" {
			a.Password = hash
			if _, err := t.EndFactor(name, "gone with the old password, which had sealed it"); err != nil {
				return err
			}
			if _, err := t.EndPasskeys(name, "", "gone with the old password"); err != nil {
				return err
			}
		}
		out = Account{Name: a.Name, Role: a.Role, Person: a.Person, Disabled: a.Disabled, House: a.Subject != ""}
		return t.PutAccount(a, hash != "" || a.Disabled)
	})
	return out, err
}
