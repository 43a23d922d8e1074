package store

import (
	"context"
	"database/sql"
	"fmt"
	"time"
	"wexillum.example/internal/vault"
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

func readKeys(ctx context.Context, q querier, v *vault.Vault) (out []SigningKey, err error) {
	err = each(ctx, q, "SELECT "+keyColumns+" FROM signing_key ORDER BY since DESC, id", nil, func(r *sql.Rows) error {
		var k SigningKey
		var private string
		err := r.Scan(&k.ID, &k.State, &k.Since, &private)
		if err == nil {
			private, err = v.Open(private, keyPlace+k.ID)
		}
		k.Private = []byte(private)
		out = append(out, k)
		return err
	})
	return
}

// keyPlace is where the private half of a key stands, before its id: sealed for one, it opens as no other.
const keyPlace = "signing_key "

// Keys lists the keys that sign, will sign or have signed, the newest first.
func (s *Store) Keys(ctx context.Context) ([]SigningKey, error) { return readKeys(ctx, s.db, s.vault) }

// Keys does the same within a change.
func (t *Tx) Keys() ([]SigningKey, error) { return readKeys(t.ctx, t.tx, t.store.vault) }

// SetVault has what must be readable again sealed from now on, and seals what is kept in clear or was sealed with a key before. Without a
// vault, what is sealed is an error, which names the key. It returns how many were sealed anew.
func (s *Store) SetVault(ctx context.Context, v *vault.Vault) (n int, err error) {
	type row struct{ id, private string }
	var rows []row
	if err := each(ctx, s.db, "SELECT id, private FROM signing_key", nil, func(r *sql.Rows) error {
		var x row
		err := r.Scan(&x.id, &x.private)
		rows = append(rows, x)
		return err
	}); err != nil {
		return 0, err
	}
	for _, x := range rows {
		clear, err := v.Open(x.private, keyPlace+x.id)
		if err != nil {
			return n, fmt.Errorf("the key %s that signs for us: %w", x.id, err)
		}
		if v.Current(x.private) {
			continue
		}
		done, err := s.db.ExecContext(ctx, "UPDATE signing_key SET private = ? WHERE id = ? AND private = ?", v.Seal(clear, keyPlace+x.id), x.id,
			x.private)
		if err != nil {
			return n, err
		}
		if k, err := done.RowsAffected(); err == nil {
			n += int(k)
		}
	}
	s.vault = v
	return n, nil
}

// LoseKeys takes away keys that no key at hand opens any more, and returns their thumbprints.
func (t *Tx) LoseKeys(v *vault.Vault) (lost []string, err error) {
	states := map[string]string{}
	if err := each(t.ctx, t.tx, "SELECT id, state, private FROM signing_key", nil, func(r *sql.Rows) error {
		var id, state, private string
		if err := r.Scan(&id, &state, &private); err != nil {
			return err
		}
		if _, err := v.Open(private, keyPlace+id); err != nil {
			lost = append(lost, id)
			states[id] = state
		}
		return nil
	}); err != nil {
		return nil, err
	}
	for _, id := range lost {
		if err := t.SetKey(SigningKey{ID: id, State: states[id]}, ""); err != nil {
			return nil, err
		}
	}
	return lost, nil
}

// AddKey keeps a new key. The journal learns its thumbprint alone.
func (t *Tx) AddKey(id, state string, private []byte) error {
	if err := t.exec("INSERT INTO signing_key (id, state, since, private) VALUES (?,?,?,?)", id, state, t.at,
		t.store.vault.Seal(string(private), keyPlace+id)); err != nil {
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

// SealedWith returns what of keys is sealed, or stands in clear, by the place that it is sealed for.
func (s *Store) SealedWith(ctx context.Context) (map[string]string, error) {
	out := map[string]string{}
	err := each(ctx, s.db, "SELECT id, private FROM signing_key WHERE private <> ''", nil, func(r *sql.Rows) error {
		var id, text string
		err := r.Scan(&id, &text)
		out[keyPlace+id] = text
		return err
	})
	return out, err
}
