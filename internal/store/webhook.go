package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"time"

	"wexillum.example/internal/core/moment"
)

// Telling says how far a receiver of events was told.
type Telling struct {
	Told    uint64        // the last journal entry that it took, or that was nothing to it
	Sent    moment.Moment // when it last took something; 0 for never
	Count   uint64        // how many events it took
	Tries   int           // in a row that failed
	Next    moment.Moment // not before then
	Problem string        // of the last try; empty where it went well
	Looked  moment.Moment // up to when a partner was told who of ours has left
}

// TellingOf returns how far a receiver was told.
func (s *Store) TellingOf(ctx context.Context, webhook string) (w Telling, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT told, sent, count, tries, next, problem, looked FROM webhook_work WHERE webhook = ?", webhook).
		Scan(&w.Told, (*int64)(&w.Sent), &w.Count, &w.Tries, (*int64)(&w.Next), &w.Problem, (*int64)(&w.Looked))
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return w, err
}

// TellFrom has a new receiver told of what comes after a journal entry.
func (t *Tx) TellFrom(webhook string, told uint64, looked moment.Moment) error {
	return t.exec("INSERT INTO webhook_work (webhook, told, problem, looked) VALUES (?,?,'',?)", webhook, told, int64(looked))
}

// TellNoMore forgets how far a receiver was told.
func (t *Tx) TellNoMore(webhook string) error {
	return t.exec("DELETE FROM webhook_work WHERE webhook = ?", webhook)
}

// HoldWebhook makes a holder the one that tells a receiver until a moment; false where another does, or
// where nothing is to be tried yet. again has it tried though it is to wait.
func (s *Store) HoldWebhook(ctx context.Context, webhook, holder string, now, until moment.Moment, again bool) (bool, error) {
	done, err := s.db.ExecContext(
		ctx,
		"UPDATE webhook_work SET holder = ?, until = ? WHERE webhook = ? AND (holder = ? OR until <= ?) AND (? OR next <= ?)",
		holder, int64(until), webhook, holder, int64(now), again, int64(now),
	)
	if err != nil {
		return false, err
	}
	n, err := done.RowsAffected()
	return n == 1, err
}

// Told notes how telling a receiver went, and lets others tell it; only its holder may.
func (s *Store) Told(ctx context.Context, webhook, holder string, w Telling) error {
	_, err := s.db.ExecContext(ctx,
		"UPDATE webhook_work SET told = ?, sent = ?, count = ?, tries = ?, next = ?, problem = ?, looked = ?, until = 0 WHERE webhook = ? AND holder = ?",
		w.Told, int64(w.Sent), w.Count, w.Tries, int64(w.Next), w.Problem, int64(w.Looked), webhook, holder)
	return err
}

// EntriesAfter returns entries of the journal behind one, the oldest first, and the revision of policy at that one.
func (s *Store) EntriesAfter(ctx context.Context, seq uint64, limit int) (out []Entry, revision uint64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT revision FROM journal WHERE seq <= ? ORDER BY seq DESC LIMIT 1", seq).Scan(&revision)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, 0, err
	}
	err = each(ctx, s.db, "SELECT "+entryColumns+" FROM journal WHERE seq > ? ORDER BY seq LIMIT ?", []any{seq, limit},
		func(r *sql.Rows) error {
			e, err := scanEntry(r)
			out = append(out, e)
			return err
		})
	return out, revision, err
}

// Used notes that a token was used.
func (t *Tx) Used(token, from string) error {
	if _, err := t.Note("token", token, []byte(`{}`), fmt.Appendf(nil, `{"used_from":%q}`, from)); err != nil {
		return err
	}
	return t.exec("UPDATE token SET used = ?, used_from = ? WHERE id = ?", t.at, from, token)
}

// TokenLastUsed returns when a token was used last; zero for never.
func (s *Store) TokenLastUsed(ctx context.Context, token string) (at time.Time, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT used FROM token WHERE id = ?", token).Scan(&orZero{&at})
	if errors.Is(err, sql.ErrNoRows) {
		err = ErrNone
	}
	return at, err
}

// UsedAgain notes it where the journal says already that it was used that day.
func (s *Store) UsedAgain(ctx context.Context, token, from string, at time.Time) error {
	_, err := s.db.ExecContext(ctx, "UPDATE token SET used = ?, used_from = ? WHERE id = ?", at, from, token)
	return err
}
