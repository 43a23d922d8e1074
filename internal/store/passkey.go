package store

import (
	"context"
	"database/sql"

	"wexillum.example/internal/core/moment"
)

// Passkey is a public key whose private half a device of somebody holds (WebAuthn).
type Passkey struct {
	ID     string // digest of the id by which the device knows it, in hexadecimal
	Owner  string // the name of an account, or guest:ADDRESS
	Handle []byte // by which the device knows whose it is; it says nothing of who they are
	Name   string // as they call it
	Doc    string // JSON of the credential
	Made   moment.Moment
	Used   moment.Moment // 0 for never
	Until  moment.Moment // it counts no longer from then on; 0 for no end
}

const passkeyColumns = "id, owner, handle, name, doc, made, used, until"

func passkeys(ctx context.Context, q querier, where string, args ...any) (out []Passkey, err error) {
	err = each(ctx, q, "SELECT "+passkeyColumns+" FROM passkey WHERE "+where+" ORDER BY made, id", args, func(r *sql.Rows) error {
		var p Passkey
		err := r.Scan(&p.ID, &p.Owner, &p.Handle, &p.Name, &p.Doc, &p.Made, &p.Used, &p.Until)
		out = append(out, p)
		return err
	})
	return
}

// Passkeys lists those of somebody.
func (s *Store) Passkeys(ctx context.Context, owner string) ([]Passkey, error) {
	return passkeys(ctx, s.db, "owner = ?", owner)
}

// PasskeysOf lists those of whoever a device knows by a handle.
func (s *Store) PasskeysOf(ctx context.Context, handle []byte) ([]Passkey, error) {
	return passkeys(ctx, s.db, "handle = ?", handle)
}

// Passkeys does the same within a change.
func (t *Tx) Passkeys(owner string) ([]Passkey, error) {
	return passkeys(t.ctx, t.tx, "owner = ?", owner)
}

// AddPasskey adds one.
func (t *Tx) AddPasskey(p *Passkey) error {
	if _, err := t.Note("passkey", p.Owner, nil, []byte(`{"what":"added"}`)); err != nil {
		return err
	}
	return t.exec("INSERT INTO passkey ("+passkeyColumns+") VALUES (?,?,?,?,?,?,?,?)", p.ID, p.Owner, p.Handle, p.Name, p.Doc, int64(p.Made),
		int64(p.Used), int64(p.Until))
}

// UsePasskey notes that one was used, and what its device counts, in no journal: signing in stands there.
func (t *Tx) UsePasskey(id, doc string, used moment.Moment) error {
	return t.exec("UPDATE passkey SET doc = ?, used = ? WHERE id = ?", doc, int64(used), id)
}

// KeepPasskeys lets those of somebody count until a moment.
func (t *Tx) KeepPasskeys(owner string, until moment.Moment) error {
	return t.exec("UPDATE passkey SET until = ? WHERE owner = ?", int64(until), owner)
}

// EndPasskeys ends one of somebody's passkeys, or all where none is named, and returns how many.
func (t *Tx) EndPasskeys(owner, id, what string) (n int64, err error) {
	res, err := t.tx.ExecContext(t.ctx, "DELETE FROM passkey WHERE owner = ? AND (? = '' OR id = ?)", owner, id, id)
	if err != nil {
		return 0, err
	}
	if n, err = res.RowsAffected(); err != nil || n == 0 {
		return n, err
	}
	_, err = t.Note("passkey", owner, []byte(`{}`), []byte(`{"what":"`+what+`"}`))
	return n, err
}
