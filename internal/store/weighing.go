package store

import (
	"context"
	"database/sql"

	"wexillum.example/internal/core/moment"
)

// A change that somebody looks at before they decide is kept aside: it has no journal entry
// and no history, and goes after a while.

// Weighed returns a change that is looked at; nil where there is none.
func (s *Store) Weighed(ctx context.Context, id string) (doc []byte, err error) {
	return weighed(ctx, s.db, id)
}

// Weighed does the same within a change.
func (t *Tx) Weighed(id string) ([]byte, error) { return weighed(t.ctx, ready{t}, id) }

func weighed(ctx context.Context, q querier, id string) (doc []byte, err error) {
	err = each(ctx, q, "SELECT doc FROM weighing WHERE id = ?", []any{id}, func(r *sql.Rows) error { return r.Scan(&doc) })
	return
}

// PutWeighed keeps a change that is looked at.
func (t *Tx) PutWeighed(id string, doc []byte, made moment.Moment) error {
	t.keep = true
	return t.exec("REPLACE INTO weighing (id, doc, made) VALUES (?,?,?)", id, string(doc), int64(made))
}

// EndWeighed removes a change that was looked at.
func (t *Tx) EndWeighed(id string) error {
	t.keep = true
	return t.exec("DELETE FROM weighing WHERE id = ?", id)
}

// SweepWeighed removes changes that nobody decided about.
func (t *Tx) SweepWeighed(before moment.Moment) error {
	t.keep = true
	return t.exec("DELETE FROM weighing WHERE made < ?", int64(before))
}
