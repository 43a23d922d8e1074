package store

import (
	"context"
	"database/sql"
	"errors"

	"wexillum.example/internal/core/moment"
)

// Factor is the second factor of an account.
type Factor struct {
	Account   string
	Salt      []byte
	Sealed    []byte        // the secret, sealed with a key that the password makes
	Made      moment.Moment // when it was begun
	Confirmed moment.Moment // when a first code was right; 0 while none was
	Step      int64         // of the last code that was used: none of it or before it is taken again
	Left      int           // recovery codes that were not used
}

const factorColumns = "account, salt, sealed, made, confirmed, step, (SELECT COUNT(*) FROM recovery_code r WHERE r.account = f.account)"

func scanFactor(r scanner) (*Factor, error) {
	f := &Factor{}
	err := r.Scan(&f.Account, &f.Salt, &f.Sealed, &f.Made, &f.Confirmed, &f.Step, &f.Left)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	return f, err
}

// Factor finds the second factor of an account; nil where it has none.
func (s *Store) Factor(ctx context.Context, account string) (*Factor, error) {
	return scanFactor(s.db.QueryRowContext(ctx, "SELECT "+factorColumns+" FROM second_factor f WHERE account = ?", account))
}

// Factor does the same within a change.
func (t *Tx) Factor(account string) (*Factor, error) {
	return scanFactor(t.tx.QueryRowContext(t.ctx, "SELECT "+factorColumns+" FROM second_factor f WHERE account = ? FOR UPDATE", account))
}

// PutFactor writes a second factor. what is said of it in the journal.
func (t *Tx) PutFactor(f *Factor, what string) error {
	if _, err := t.Note("second_factor", f.Account, nil, []byte(`{"what":"`+what+`"}`)); err != nil {
		return err
	}
	return t.exec("REPLACE INTO second_factor (account, salt, sealed, made, confirmed, step) VALUES (?,?,?,?,?,?)", f.Account, f.Salt,
		f.Sealed, int64(f.Made), int64(f.Confirmed), f.Step)
}

// UseFactor notes which code was used, in no journal: signing in stands there.
func (t *Tx) UseFactor(account string, step int64) error {
	return t.exec("UPDATE second_factor SET step = ? WHERE account = ?", step, account)
}

// PutRecovery replaces the recovery codes of an account.
func (t *Tx) PutRecovery(account string, hashes [][32]byte) error {
	if err := t.exec("DELETE FROM recovery_code WHERE account = ?", account); err != nil {
		return err
	}
	for i := range hashes {
		if err := t.exec("INSERT INTO recovery_code (account, hash) VALUES (?,?)", account, hashes[i][:]); err != nil {
			return err
		}
	}
	return nil
}

// UseRecovery takes a recovery code away; ok is false where there is none such.
func (t *Tx) UseRecovery(account string, hash [32]byte) (ok bool, err error) {
	r, err := t.tx.ExecContext(t.ctx, "DELETE FROM recovery_code WHERE account = ? AND hash = ?", account, hash[:])
	if err != nil {
		return false, err
	}
	n, err := r.RowsAffected()
	if err != nil || n == 0 {
		return false, err
	}
	_, err = t.Note("second_factor", account, nil, []byte(`{"what":"a recovery code was used"}`))
	return true, err
}

// EndFactor takes the second factor of an account away, with its recovery codes; ok is false where it has none.
func (t *Tx) EndFactor(account, what string) (ok bool, err error) {
	f, err := t.Factor(account)
	if err != nil || f == nil {
		return false, err
	}
	if _, err := t.Note("second_factor", account, []byte(`{"what":"it was there"}`), []byte(`{"what":"`+what+`"}`)); err != nil {
		return false, err
	}
	if err := t.exec("DELETE FROM recovery_code WHERE account = ?", account); err != nil {
		return false, err
	}
	return true, t.exec("DELETE FROM second_factor WHERE account = ?", account)
}
