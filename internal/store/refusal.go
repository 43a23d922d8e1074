package store

import (
	"context"
	"database/sql"

	"wexillum.example/internal/core/moment"
)

// Refusals are how often callers were told no about people of a partner and an action, on a day or on several.
type Refusals struct {
	Day     moment.Day // with CountRefusals
	Partner string     // empty: of no partner
	Action  string
	Times   int
	Days    int // with RefusedSince: on so many days
}

// CountRefusals adds to what is kept. They are counts, and change nothing that is meant: no journal entry says so.
func (s *Store) CountRefusals(ctx context.Context, list []Refusals) error {
	for len(list) > 0 {
		part := list[:min(len(list), 200)]
		list = list[len(part):]
		values, args := "", []any{}
		for i := range part {
			if i > 0 {
				values += ", "
			}
			values += "(?, ?, ?, ?)"
			args = append(args, int(part[i].Day), part[i].Partner, part[i].Action, part[i].Times)
		}
		if _, err := s.db.ExecContext(ctx,
			"INSERT INTO refusal (day, partner, action, times) VALUES "+values+" ON DUPLICATE KEY UPDATE times = times + VALUES(times)",
			args...); err != nil {
			return err
		}
	}
	return nil
}

// RefusedSince lists what was refused from a day on at least so often, and on at least so many days.
func (s *Store) RefusedSince(ctx context.Context, day moment.Day, times, days int) (out []Refusals, err error) {
	err = each(ctx, s.db,
		"SELECT partner, action, SUM(times), COUNT(*) FROM refusal WHERE day >= ? GROUP BY partner, action HAVING SUM(times) >= ? AND COUNT(*) >= ? ORDER BY SUM(times) DESC, partner, action",
		[]any{int(day), times, days}, func(r *sql.Rows) error {
			var x Refusals
			err := r.Scan(&x.Partner, &x.Action, &x.Times, &x.Days)
			out = append(out, x)
			return err
		})
	return
}

// DropRefusals takes away what was counted before a day.
func (s *Store) DropRefusals(ctx context.Context, before moment.Day) error {
	_, err := s.db.ExecContext(ctx, "DELETE FROM refusal WHERE day < ?", int(before))
	return err
}
