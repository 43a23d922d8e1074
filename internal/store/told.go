package store

import (
	"context"
	"database/sql"

	"wexillum.example/internal/core/moment"
)

// ToldEvent is an event that a partner told of one of its people.
type ToldEvent struct {
	N        uint64
	Partner  string
	JTI      [32]byte // digest of the token's id
	Kind     string   // disabled, enabled, purged, identifier_changed, session_revoked, verification or other
	Address  string   // whom it is about; empty for none
	Happened moment.Moment
	Came     moment.Moment
	Result   string // done, late, nobody, nothing
	Detail   string
}

const toldColumns = "n, partner, kind, address, happened, came, result, detail"

func scanTold(r *sql.Rows) (e ToldEvent, err error) {
	err = r.Scan(&e.N, &e.Partner, &e.Kind, &e.Address, &e.Happened, &e.Came, &e.Result, &e.Detail)
	return
}

// WasTold reports whether a token came before.
func (t *Tx) WasTold(partner string, jti [32]byte) (bool, error) {
	n := 0
	err := t.tx.QueryRowContext(t.ctx, "SELECT COUNT(*) FROM told_event WHERE partner = ? AND jti = ?", partner, jti[:]).Scan(&n)
	return n > 0, err
}

// LastTold finds the event about somebody that moved a date last, by when it happened; and whether the account was purged.
func (t *Tx) LastTold(partner, address string) (at moment.Moment, purged bool, err error) {
	var last sql.NullInt64
	var gone sql.NullBool
	err = t.tx.QueryRowContext(t.ctx,
		"SELECT MAX(happened), MAX(kind = 'purged') FROM told_event WHERE partner = ? AND address = ? AND kind IN ('disabled', 'enabled', 'purged', 'identifier_changed') AND result <> 'late'",
		partner, address).Scan(&last, &gone)
	return moment.Moment(last.Int64), gone.Bool, err
}

// PutTold writes an event that came, with a journal entry.
func (t *Tx) PutTold(e *ToldEvent) error {
	if _, err := t.Note("told", e.Partner+" "+e.Address, nil, []byte(`{"kind":"`+e.Kind+`","result":"`+e.Result+`"}`)); err != nil {
		return err
	}
	detail := []rune(e.Detail)
	return t.exec("INSERT INTO told_event (partner, jti, kind, address, happened, came, result, detail) VALUES (?,?,?,?,?,?,?,?)", e.Partner,
		e.JTI[:], e.Kind, e.Address, int64(e.Happened), int64(e.Came), e.Result, string(detail[:min(len(detail), 1000)]))
}

// ToldEvents lists events that came of a partner, the newest first: before one where a number is given.
func (s *Store) ToldEvents(ctx context.Context, partner string, before uint64, limit int) (out []ToldEvent, err error) {
	err = each(ctx, s.db, "SELECT "+toldColumns+" FROM told_event WHERE partner = ? AND (? = 0 OR n < ?) ORDER BY n DESC LIMIT ?",
		[]any{partner, before, before, limit}, func(r *sql.Rows) error {
			e, err := scanTold(r)
			out = append(out, e)
			return err
		})
	return
}
