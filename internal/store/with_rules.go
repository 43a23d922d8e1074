package store

import (
	"context"
	"database/sql"
	"errors"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// WithRules hands over what spaces, items and meetings say of rules, each with its
// name as kind:id.
func (s *Store) WithRules(ctx context.Context, fn func(where string, rules []world.Setting)) error {
	t := &Tx{ctx: ctx}
	return t.withRules(s.db, func(x *world.Space) error { fn("space:"+x.ID, x.Rules); return nil },
		func(x *world.Item, _ int) error { fn(x.Kind.String()+":"+x.ID, x.Rules); return nil },
		func(x *world.Meeting) error { fn("meeting:"+x.ID, x.Rules); return nil })
}

// WithRules hands over the spaces, items and meetings that set rules of their
// own: those that a lowered limit may hold back.
func (t *Tx) WithRules(space func(*world.Space) error, item func(*world.Item, int) error, meeting func(*world.Meeting) error) error {
	return t.withRules(t.tx, space, item, meeting)
}

func (t *Tx) withRules(
	q querier,
	space func(*world.Space) error,
	item func(*world.Item, int) error,
	meeting func(*world.Meeting) error,
) error {
	var spaces []world.Space
	var meetings []world.Meeting
	type placed struct {
		it    world.Item
		place int
	}
	var items []placed
	err := each(
		t.ctx,
		q,
		"SELECT kind, doc FROM record WHERE kind IN ('space', 'meeting') AND until_seq = ? AND doc LIKE '%\"rules\":%'",
		[]any{open},
		func(r *sql.Rows) error {
			var kind string
			var doc []byte
			if err := r.Scan(&kind, &doc); err != nil {
				return err
			}
			if kind == "space" {
				return put(worldfile.SpaceOf, doc, func(x *world.Space) { spaces = append(spaces, *x) })
			}
			return put(worldfile.MeetingOf, doc, func(x *world.Meeting) { meetings = append(meetings, *x) })
		},
	)
	if err != nil {
		return err
	}
	err = each(
		t.ctx,
		q,
		"SELECT "+itemColumns+" FROM item WHERE rules IS NOT NULL AND until_seq = ?",
		[]any{open},
		func(r *sql.Rows) error {
			it, place, err := scanItem(r)
			items = append(items, placed{it, place})
			return err
		},
	)
	if err != nil {
		return err
	}
	for i := range spaces {
		if err := space(&spaces[i]); err != nil {
			return err
		}
	}
	for i := range items {
		if err := item(&items[i].it, items[i].place); err != nil {
			return err
		}
	}
	for i := range meetings {
		if err := meeting(&meetings[i]); err != nil {
			return err
		}
	}
	return nil
}

// anyGrants is a sink that notes whether there were any.
type anyGrants struct {
	Sink
	any bool
}

func (s *anyGrants) SetGrants(party string, all []world.Grant) {
	s.any = true
	s.Sink.SetGrants(party, all)
}

// Before returns what a record was before its present version, nil where it was none, and the
// number of the change that wrote the present one.
func (t *Tx) Before(kind, id string) (doc []byte, change uint64, err error) {
	var from uint64
	if err = t.tx.QueryRowContext(t.ctx,
		"SELECT r.from_seq, j.part_of FROM record r JOIN journal j ON j.seq = r.from_seq WHERE r.kind = ? AND r.id = ? AND r.until_seq = ?", kind,
		id, open).Scan(&from, &change); err != nil {
		return nil, 0, noRows(err)
	}
	err = t.tx.QueryRowContext(t.ctx, "SELECT doc FROM record WHERE kind = ? AND id = ? AND until_seq = ?", kind, id, from).Scan(&doc)
	return doc, change, noRows(err)
}

func noRows(err error) error {
	if errors.Is(err, sql.ErrNoRows) {
		return nil
	}
	return err
}

// Change returns the entries of the change that an entry of the journal belongs to, in order; none
// where there is no such entry.
func (t *Tx) Change(seq uint64) (out []Entry, err error) {
	err = each(
		t.ctx,
		t.tx,
		"SELECT "+entryColumns+" FROM journal WHERE part_of = (SELECT part_of FROM journal WHERE seq = ?) AND seq BETWEEN ? AND ? ORDER BY seq",
		[]any{seq, max(seq, 10000) - 10000, seq + 10000},
		func(r *sql.Rows) error {
			e, err := scanEntry(r)
			out = append(out, e)
			return err
		},
	)
	return
}

// After returns the first entries of the journal behind one, in order: where nothing is written, those that would be.
func (t *Tx) After(seq uint64, limit int) (out []Entry, err error) {
	if t.looks {
		for _, e := range t.noted {
			if e.Seq > seq && len(out) < limit {
				out = append(out, e)
			}
		}
		return out, nil
	}
	err = each(t.ctx, t.tx, "SELECT "+entryColumns+" FROM journal WHERE seq > ? ORDER BY seq LIMIT ?", []any{seq, limit},
		func(r *sql.Rows) error {
			e, err := scanEntry(r)
			out = append(out, e)
			return err
		})
	return
}

// PlaceBefore returns the place that an item had in its space until an entry of the journal; -1
// where that ended no version of it.
func (t *Tx) PlaceBefore(id string, seq uint64) (place int, err error) {
	place = -1
	err = each(t.ctx, t.tx, "SELECT place FROM item WHERE id = ? AND until_seq = ?", []any{id, seq}, func(r *sql.Rows) error {
		return r.Scan(&place)
	})
	return
}

// Since returns the entries about one record behind an entry of the journal, in order.
func (t *Tx) Since(kind, id string, seq uint64) (out []Entry, err error) {
	err = each(
		t.ctx,
		t.tx,
		"SELECT "+entryColumns+" FROM journal WHERE kind = ? AND id = ? AND seq > ? ORDER BY seq",
		[]any{kind, id, seq},
		func(r *sql.Rows) error {
			e, err := scanEntry(r)
			out = append(out, e)
			return err
		},
	)
	return
}

// OfChange lists the records of a kind that a change wrote.
func (t *Tx) OfChange(change uint64, kind string) (ids []string, err error) {
	rows, err := t.tx.QueryContext(
		t.ctx,
		"SELECT id FROM journal WHERE seq BETWEEN ? AND ? AND part_of = ? AND kind = ?",
		change,
		change+10000,
		change,
		kind,
	)
	if err != nil {
		return nil, err
	}
	defer func() { _ = rows.Close() }()
	for rows.Next() {
		var id string
		if err := rows.Scan(&id); err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, rows.Err()
}

// mostPrivate is how many private items are listed.
const mostPrivate = 500

// PrivateItems calls fn for items that need a grant of their own, the first so many by their ids.
func (s *Store) PrivateItems(ctx context.Context, fn func(space string, it *world.Item)) error {
	return each(ctx, s.db, "SELECT "+itemColumns+" FROM item WHERE private AND until_seq = ? ORDER BY id LIMIT ?", []any{open, mostPrivate},
		func(r *sql.Rows) error {
			it, _, err := scanItem(r)
			if err == nil {
				fn(it.Space, &it)
			}
			return err
		})
}
