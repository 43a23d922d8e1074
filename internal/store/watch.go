package store

import (
	"context"
	"database/sql"

	"wexillum.example/internal/core/moment"
)

// Pools are the connections to the database, by what they are for.
func (s *Store) Pools() map[string]*sql.DB {
	return map[string]*sql.DB{"reads": s.db, "changes": s.writes}
}

// ChangesWaiting is how many changes wait for their turn.
func (s *Store) ChangesWaiting() int { return int(s.waiting.Load()) }

// MailNow is how mail stands.
type MailNow struct {
	Waiting int           // due and not sent
	Oldest  moment.Moment // since when the one that waited longest was due
	Failed  int           // given up, of the last seven days
}

// MailNow counts what is due and what was given up.
func (s *Store) MailNow(ctx context.Context, now moment.Moment) (n MailNow, err error) {
	const week = 7 * 24 * 3600 * 1e6
	err = s.db.QueryRowContext(ctx,
		"SELECT (SELECT COUNT(*) FROM outbox WHERE state = 'waiting' AND due <= ?), (SELECT COALESCE(MIN(due), 0) FROM outbox WHERE state = 'waiting' AND due <= ?), (SELECT COUNT(*) FROM outbox WHERE state = 'failed' AND due >= ?)",
		int64(now), int64(now), int64(now)-week).Scan(&n.Waiting, (*int64)(&n.Oldest), &n.Failed)
	return
}

// EventsWaiting is how many journal entries the receiver of events that is furthest behind has not been told.
func (s *Store) EventsWaiting(ctx context.Context, seq uint64) (n uint64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(CAST(? AS SIGNED) - CAST(told AS SIGNED)), 0) FROM webhook_work WHERE told < ?", seq,
		seq).Scan(&n)
	return
}

// SeenLast is when a system was read last; not set where it never was.
func (s *Store) SeenLast(ctx context.Context, system string) (at moment.Moment, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(MAX(seen), 0) FROM system_reading WHERE system = ?", system).Scan((*int64)(&at))
	return
}
