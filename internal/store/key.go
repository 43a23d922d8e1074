package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
)

// The states of a key that signs our statements: announced signs the next ones,
// current signs, retired has signed and is still published.
const (
	KeyAnnounced = "announced"
	KeyCurrent   = "current"
	KeyRetired   = "retired"
)

// SigningKey is a key that signs our statements.
type SigningKey struct {
	ID      string // its thumbprint (RFC 7638)
	State   string
	Since   time.Time
	Private []byte // a private JWK (RFC 7517)
}

const keyColumns = "id, state, since, private"

func readKeys(ctx context.Context, q querier) (out []SigningKey, err error) {
	err = each(ctx, q, "SELECT "+keyColumns+" FROM signing_key ORDER BY since DESC, id", nil, func(r *sql.Rows) error {
		var k SigningKey
		err := r.Scan(&k.ID, &k.State, &k.Since, &k.Private)
		out = append(out, k)
		return err
	})
	return
}

// Keys lists the keys that sign, will sign or have signed, the newest first.
func (s *Store) Keys(ctx context.Context) ([]SigningKey, error) { return readKeys(ctx, s.db) }

// Keys does the same within a change.
func (t *Tx) Keys() ([]SigningKey, error) { return readKeys(t.ctx, t.tx) }

// AddKey keeps a new key. The journal learns its thumbprint alone.
func (t *Tx) AddKey(id, state string, private []byte) error {
	if err := t.exec("INSERT INTO signing_key (id, state, since, private) VALUES (?,?,?,?)", id, state, t.at, string(private)); err != nil {
		return err
	}
	_, err := t.Note("signing_key", id, nil, keyDoc(state))
	return err
}

// SetKey changes the state of a key; an empty one removes it.
func (t *Tx) SetKey(k SigningKey, state string) error {
	q, args := "UPDATE signing_key SET state = ?, since = ? WHERE id = ?", []any{state, t.at, k.ID}
	var now []byte
	if state == "" {
		q, args = "DELETE FROM signing_key WHERE id = ?", []any{k.ID}
	} else {
		now = keyDoc(state)
	}
	if err := t.exec(q, args...); err != nil {
		return err
	}
	_, err := t.Note("signing_key", k.ID, keyDoc(k.State), now)
	return err
}

func keyDoc(state string) []byte { return fmt.Appendf(nil, `{"state":%q}`, state) }
