package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"time"
)

// ErrNone is returned where there is no such row.
var ErrNone = errors.New("there is none")

// Etag is a validator of a doc (RFC 9110 §8.8.3).
func Etag(doc []byte) string {
	sum := sha256.Sum256(doc)
	return `"` + hex.EncodeToString(sum[:8]) + `"`
}

// Account is who may sign in to administer.
type Account struct {
	Name, Role, Person, Password string // Password is an encoded hash; empty where the organisation's own sign-in vouches for them
	Disabled                     bool
	Subject                      string // a digest of who that sign-in says they are; empty for an account with a password
}

const accountColumns = "name, role, person, password, disabled, COALESCE(subject, '')"

func scanAccount(r scanner) (a Account, err error) {
	err = r.Scan(&a.Name, &a.Role, &a.Person, &a.Password, &a.Disabled, &a.Subject)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return
}

// Account finds an account by its name.
func (s *Store) Account(ctx context.Context, name string) (Account, error) {
	for i := 0; i < len(name); i++ {
		if name[i] >= 0x80 {
			return Account{}, ErrNone // names are ASCII, and the column is
		}
	}
	return scanAccount(s.db.QueryRowContext(ctx, "SELECT "+accountColumns+" FROM account WHERE name = ?", name))
}

// Accounts lists all accounts by name.
func (s *Store) Accounts(ctx context.Context) (out []Account, err error) {
	err = each(ctx, s.db, "SELECT "+accountColumns+" FROM account ORDER BY name", nil, func(r *sql.Rows) error {
		a, err := scanAccount(r)
		out = append(out, a)
		return err
	})
	return
}

// Account finds an account inside a change.
func (t *Tx) Account(name string) (Account, error) {
	return scanAccount(t.tx.QueryRowContext(t.ctx, "SELECT "+accountColumns+" FROM account WHERE name = ?", name))
}

// AccountOf finds the account of whom the organisation's own sign-in says somebody to be; ErrNone where there is none.
func (t *Tx) AccountOf(subject string) (Account, error) {
	return scanAccount(t.tx.QueryRowContext(t.ctx, "SELECT "+accountColumns+" FROM account WHERE subject = ?", subject))
}

// Administrators counts those who can sign in with a password besides name.
func (t *Tx) Administrators(but string) (n int, err error) {
	err = t.tx.QueryRowContext(t.ctx,
		"SELECT COUNT(*) FROM account WHERE role = 'administrator' AND NOT disabled AND password <> '' AND name <> ?", but).
		Scan(&n)
	return
}

// PutAccount writes an account, and ends its tokens where endTokens says so. The
// journal holds no password, not even its hash.
func (t *Tx) PutAccount(a Account, endTokens bool) error {
	old, err := t.Account(a.Name)
	var was []byte
	if err == nil {
		was = accountDoc(old)
	} else if !errors.Is(err, ErrNone) {
		return err
	}
	if was != nil && old == a {
		return nil
	}
	if _, err := t.Note("account", a.Name, was, accountDoc(a)); err != nil {
		return err
	}
	if endTokens {
		if err := t.endOf(a.Name); err != nil {
			return err
		}
	}
	return t.exec(
		"INSERT INTO account (name, role, person, password, disabled, subject) VALUES (?,?,?,?,?,NULLIF(?, '')) ON DUPLICATE KEY UPDATE role = VALUES(role), person = VALUES(person), password = VALUES(password), disabled = VALUES(disabled), version = version + 1",
		a.Name,
		a.Role,
		a.Person,
		a.Password,
		a.Disabled,
		a.Subject,
	)
}

// endOf ends the client's tokens and the sessions of an account.
func (t *Tx) endOf(account string) error {
	if err := t.exec("DELETE FROM token WHERE account = ?", account); err != nil {
		return err
	}
	return t.EndSessions(account)
}

// EndSessions ends the sessions of a name for good: those that began before the last entry of
// this change. A name is that of an account, guest:ADDRESS, partner:ID for all guests of a
// partner, or barred:KEY for those that a bar is of.
func (t *Tx) EndSessions(name string) error {
	return t.exec("INSERT INTO ended_sessions (name, seq) VALUES (?,?) ON DUPLICATE KEY UPDATE seq = VALUES(seq)", name, t.head.Seq)
}

// EndAll ends every session and every token of an account, or every session of a guest.
func (t *Tx) EndAll(name string) error {
	if _, err := t.Note("sessions", name, []byte(`{}`), nil); err != nil {
		return err
	}
	return t.endOf(name)
}

// SessionsEnded returns the last journal entry that ended sessions of any of the names; 0 for
// none.
func (s *Store) SessionsEnded(ctx context.Context, names ...string) (seq uint64, err error) {
	args := make([]any, len(names))
	for i, n := range names {
		args[i] = n
	}
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(seq), 0) FROM ended_sessions WHERE name IN ("+marks(len(names))+")", args...).
		Scan(&seq)
	return
}

func accountDoc(a Account) []byte {
	b, _ := json.Marshal(struct {
		Name     string `json:"name"`
		Role     string `json:"role"`
		Person   string `json:"person,omitempty"`
		Disabled bool   `json:"disabled"`
	}{a.Name, a.Role, a.Person, a.Disabled})
	return b
}

// Token is a token without its secret.
type Token struct {
	ID, Name, Account, Purpose string
	Made, Expires              time.Time
	Used                       time.Time // when it was used last, by the hour; zero for never
	UsedFrom                   string    // from which address
}

const tokenColumns = "t.id, t.name, t.account, t.scope, t.made, t.expires, t.used, t.used_from"

// columns are where the columns go.
func (k *Token) columns() []any {
	return []any{&k.ID, &k.Name, &k.Account, &k.Purpose, &k.Made, &k.Expires, &orZero{&k.Used}, &k.UsedFrom}
}

// orZero scans a moment that may be absent.
type orZero struct{ t *time.Time }

func (x *orZero) Scan(v any) error {
	var n sql.NullTime
	err := n.Scan(v)
	*x.t = n.Time
	return err
}

// PutToken keeps the hash of a new token.
func (t *Tx) PutToken(k Token, secret [32]byte, doc []byte) error {
	if _, err := t.Note("token", k.ID, nil, doc); err != nil {
		return err
	}
	return t.exec(
		"INSERT INTO token (id, secret, account, name, scope, made, expires) VALUES (?,?,?,?,?,?,?)",
		k.ID,
		secret[:],
		k.Account,
		k.Name,
		k.Purpose,
		k.Made,
		k.Expires,
	)
}

// EndToken removes a token; account empty means anybody's.
func (t *Tx) EndToken(id, account string) (bool, error) {
	var has int
	if err := t.tx.QueryRowContext(t.ctx, "SELECT COUNT(*) FROM token WHERE id = ? AND (? = '' OR account = ?)", id, account,
		account).Scan(&has); err != nil ||
		has == 0 {
		return false, err
	}
	if _, err := t.Note("token", id, []byte(`{}`), nil); err != nil {
		return false, err
	}
	return true, t.exec("DELETE FROM token WHERE id = ?", id)
}

// TokenBySecret finds a token by the hash of its text, with its account.
func (s *Store) TokenBySecret(ctx context.Context, secret [32]byte) (k Token, a Account, err error) {
	err = s.db.QueryRowContext(ctx,
		"SELECT "+tokenColumns+", a.name, a.role, a.person, a.disabled FROM token t JOIN account a ON a.name = t.account WHERE t.secret = ?",
		secret[:]).
		Scan(append(k.columns(), &a.Name, &a.Role, &a.Person, &a.Disabled)...)
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return
}

// Tokens lists the tokens of an account; empty means all.
func (s *Store) Tokens(ctx context.Context, account string) (out []Token, err error) {
	err = each(
		ctx,
		s.db,
		"SELECT "+tokenColumns+" FROM token t WHERE ? = '' OR t.account = ? ORDER BY t.made, t.id",
		[]any{account, account},
		func(r *sql.Rows) error {
			var k Token
			err := r.Scan(k.columns()...)
			out = append(out, k)
			return err
		},
	)
	return
}

// Sponsored lists the addresses of guests that a person answers for.
func (s *Store) Sponsored(ctx context.Context, person string) (out []string, err error) {
	err = each(ctx, s.db,
		"SELECT address FROM guest WHERE sponsor = ? AND until_seq = ? UNION SELECT party FROM `grant` WHERE sponsor = ? AND until_seq = ?",
		[]any{person, open, person, open}, func(r *sql.Rows) error {
			var a string
			err := r.Scan(&a)
			out = append(out, a)
			return err
		})
	return
}

// SponsorOf returns the sponsor of a guest's record.
func (s *Store) SponsorOf(ctx context.Context, address string) (sponsor string, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT sponsor FROM guest WHERE address = ? AND until_seq = ?", address, open).Scan(&sponsor)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return
}

// Ending is something that ends by itself.
type Ending struct {
	What string // record or the resource of a grant
	Who  string
	When int64 // microseconds
}

// EndingSoon lists records and grants whose own end lies in [from, until).
func (s *Store) EndingSoon(ctx context.Context, from, until int64, limit int) (out []Ending, err error) {
	some := 20 * limit // many end on the same day; of those the first by name are told
	err = each(ctx, s.db,
		"(SELECT 'record', address, ends FROM guest WHERE until_seq = ? AND ends >= ? AND ends < ? ORDER BY ends LIMIT ?) UNION ALL "+
			"(SELECT resource, party, ends FROM `grant` WHERE until_seq = ? AND ends >= ? AND ends < ? ORDER BY ends LIMIT ?) ORDER BY 3, 2, 1 LIMIT ?",
		[]any{open, from, until, some, open, from, until, some, limit}, func(r *sql.Rows) error {
			var e Ending
			err := r.Scan(&e.What, &e.Who, &e.When)
			out = append(out, e)
			return err
		})
	return
}

// SignInKind is the kind of journal entries of signing in, by name of account or address.
const SignInKind = "sign_in"
