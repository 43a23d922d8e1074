package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"

	"wexillum.example/internal/core/moment"
)

// Reading is what was read of a system: first at a moment, and found again up to another.
type Reading struct {
	System   string
	At, Seen moment.Moment
	Values   map[string]string
}

// ReadingOf returns the newest reading of a system that was there at a moment; nil for none.
func (s *Store) ReadingOf(ctx context.Context, system string, at moment.Moment) (*Reading, error) {
	r := &Reading{System: system}
	var doc []byte
	err := s.db.QueryRowContext(ctx, "SELECT at, seen, doc FROM system_reading WHERE system = ? AND at <= ? ORDER BY at DESC LIMIT 1", system,
		int64(at)).
		Scan((*int64)(&r.At), (*int64)(&r.Seen), &doc)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	return r, json.Unmarshal(doc, &r.Values)
}

// PutReading keeps a reading: as a version of its own where it differs from the last one.
func (s *Store) PutReading(ctx context.Context, r *Reading) error {
	last, err := s.ReadingOf(ctx, r.System, moment.Never-1)
	if err != nil {
		return err
	}
	doc, err := json.Marshal(r.Values)
	if err != nil {
		return err
	}
	if last != nil {
		was, err := json.Marshal(last.Values)
		if err != nil {
			return err
		}
		if string(was) == string(doc) {
			_, err = s.db.ExecContext(ctx, "UPDATE system_reading SET seen = GREATEST(seen, ?) WHERE system = ? AND at = ?", int64(r.Seen), r.System,
				int64(last.At))
			return err
		}
	}
	_, err = s.db.ExecContext(
		ctx,
		"INSERT INTO system_reading (system, at, seen, doc) VALUES (?,?,?,?) ON DUPLICATE KEY UPDATE seen = VALUES(seen), doc = VALUES(doc)",
		r.System,
		int64(r.At),
		int64(r.Seen),
		string(doc),
	)
	return err
}

// Work says how the work on a system goes.
type Work struct {
	Holder       string
	Until, Tried moment.Moment
	Fails        int
	Problem      string
	Records      uint64        // moves whenever what is known of its records does
	Listed       moment.Moment // when its records were last read as a whole
	Empty        string        // kinds of which a reading showed none, though there were some
	Braked       int           // steps that wait because they are more than are let go in a day
}

// WorkOn returns how the work on a system goes.
func (s *Store) WorkOn(ctx context.Context, system string) (w Work, err error) {
	err = s.db.QueryRowContext(ctx,
		"SELECT holder, until, tried, fails, problem, records, listed, empty, braked FROM system_work WHERE system = ?", system).
		Scan(&w.Holder, (*int64)(&w.Until), (*int64)(&w.Tried), &w.Fails, &w.Problem, &w.Records, (*int64)(&w.Listed), &w.Empty, &w.Braked)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return
}

// HoldSystem makes a holder the one that works on a system until a moment; false where another does.
// fresh says that another did before: what was under way is found out by reading.
func (s *Store) HoldSystem(ctx context.Context, system, holder string, now, until moment.Moment) (ok, fresh bool, err error) {
	if _, err := s.db.ExecContext(ctx, "INSERT IGNORE INTO system_work (system, problem) VALUES (?, '')", system); err != nil {
		return false, false, err
	}
	was, err := s.WorkOn(ctx, system)
	if err != nil {
		return false, false, err
	}
	done, err := s.db.ExecContext(ctx, "UPDATE system_work SET holder = ?, until = ? WHERE system = ? AND (holder = ? OR until <= ?)",
		holder, int64(until), system, holder, int64(now))
	if err != nil {
		return false, false, err
	}
	n, err := done.RowsAffected()
	if err != nil || n == 0 {
		w, e := s.WorkOn(ctx, system) // an equal row counts as not affected
		return e == nil && err == nil && w.Holder == holder && w.Until >= until, false, errors.Join(err, e)
	}
	return true, was.Holder != holder, nil
}

// Worked notes how a try to read or write a system went; an empty problem is a good one.
func (s *Store) Worked(ctx context.Context, system string, at moment.Moment, problem string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE system_work SET tried = ?, problem = ?, fails = IF(? = '', 0, fails + 1) WHERE system = ?",
		int64(at), problem, problem, system)
	return err
}

// ForgetSystem drops what was read of a system, and who works on it.
func (s *Store) ForgetSystem(ctx context.Context, system string) error {
	var all error
	for _, table := range []string{"system_reading", "system_work", "system_found", "system_record"} {
		_, err := s.db.ExecContext(ctx, "DELETE FROM "+table+" WHERE system = ?", system)
		all = errors.Join(all, err)
	}
	return all
}
