package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// PutRecord writes a record that is kept as a doc. It reports whether that
// changes anything.
func (t *Tx) PutRecord(kind, id string, doc []byte) (bool, error) {
	st, err := t.stmt("SELECT doc FROM record WHERE kind = ? AND id = ? AND until_seq = ?")
	if err != nil {
		return false, err
	}
	var was sql.NullString
	if err := st.QueryRowContext(t.ctx, kind, id, open).Scan(&was); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	if was.Valid && was.String == string(doc) {
		return false, nil
	}
	var before []byte
	if was.Valid {
		before = []byte(was.String)
	}
	seq, err := t.Note(kind, id, before, doc)
	if err != nil {
		return false, err
	}
	if was.Valid {
		if err := t.exec("UPDATE record SET until_seq = ? WHERE kind = ? AND id = ? AND until_seq = ?", seq, kind, id, open); err != nil {
			return false, err
		}
	}
	return true, t.exec("INSERT INTO record (kind, id, from_seq, doc) VALUES (?,?,?,?)", kind, id, seq, string(doc))
}

// Record returns a record that is kept as a doc, as it is now; nil where there
// is none.
func (t *Tx) Record(kind, id string) ([]byte, error) { return record(t.ctx, ready{t}, kind, id) }

// Record returns a record that is kept as a doc, as it is now; nil where there
// is none.
func (s *Store) Record(ctx context.Context, kind, id string) ([]byte, error) {
	return record(ctx, s.db, kind, id)
}

func record(ctx context.Context, q querier, kind, id string) (doc []byte, err error) {
	err = each(
		ctx,
		q,
		"SELECT doc FROM record WHERE kind = ? AND id = ? AND until_seq = ?",
		[]any{kind, id, open},
		func(r *sql.Rows) error { return r.Scan(&doc) },
	)
	return
}

// Records hands over the docs of all records of a kind whose id begins with
// prefix, in the order of their ids.
func (s *Store) Records(ctx context.Context, kind, prefix string, fn func(id string, doc []byte) error) error {
	like := strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(prefix) + "%"
	return records(
		ctx,
		s.db,
		`SELECT id, doc FROM record WHERE kind = ? AND id LIKE ? ESCAPE '\' AND until_seq = ? ORDER BY id`,
		[]any{kind, like, open},
		fn,
	)
}

// RecordsAfter hands over the docs of all records of a kind behind an id, in the order of
// their ids, until fn fails, or says that it is ErrEnough. It reads some at a time: what nobody wants is not sent.
func (s *Store) RecordsAfter(ctx context.Context, kind, id string, fn func(id string, doc []byte) error) error {
	const some = 250
	for {
		n := 0
		err := records(
			ctx,
			s.db,
			"SELECT id, doc FROM record WHERE kind = ? AND id > ? AND until_seq = ? ORDER BY id LIMIT ?",
			[]any{kind, id, open, some},
			func(next string, doc []byte) error {
				id, n = next, n+1
				return fn(next, doc)
			},
		)
		switch {
		case errors.Is(err, ErrEnough):
			return nil
		case err != nil || n < some:
			return err
		}
	}
}

// ErrEnough ends what is handed over one by one.
var ErrEnough = errors.New("enough")

func records(ctx context.Context, q querier, query string, args []any, fn func(id string, doc []byte) error) error {
	return each(ctx, q, query, args, func(r *sql.Rows) error {
		var id string
		var doc []byte
		if err := r.Scan(&id, &doc); err != nil {
			return err
		}
		return fn(id, doc)
	})
}

// Naming hands over the docs of a kind that hold a text, in the order of their
// ids: those that may name something.
func (s *Store) Naming(ctx context.Context, kind, text string, fn func(id string, doc []byte) error) error {
	return naming(ctx, s.db, kind, text, fn)
}

// Naming does the same within a change. They are all read before the first is
// handed over, since fn may read and write in the change, and its connection
// answers one statement after the other.
func (t *Tx) Naming(kind, text string, fn func(id string, doc []byte) error) error {
	type record struct {
		id  string
		doc []byte
	}
	var all []record
	if err := naming(t.ctx, t.tx, kind, text, func(id string, doc []byte) error {
		all = append(all, record{id, doc})
		return nil
	}); err != nil {
		return err
	}
	for _, x := range all {
		if err := fn(x.id, x.doc); err != nil {
			return err
		}
	}
	return nil
}

func naming(ctx context.Context, q querier, kind, text string, fn func(id string, doc []byte) error) error {
	return records(
		ctx,
		q,
		"SELECT id, doc FROM record WHERE kind = ? AND until_seq = ? AND INSTR(doc, ?) > 0 ORDER BY id",
		[]any{kind, open, text},
		fn,
	)
}

// EndRecord takes a record away. It reports whether there was one.
func (t *Tx) EndRecord(kind, id string) (bool, error) {
	was, err := t.Record(kind, id)
	if err != nil || was == nil {
		return false, err
	}
	seq, err := t.Note(kind, id, was, nil)
	if err != nil {
		return false, err
	}
	return true, t.exec("UPDATE record SET until_seq = ? WHERE kind = ? AND id = ? AND until_seq = ?", seq, kind, id, open)
}

// Item returns an item and its place in its space; ok says whether there is one.
func (t *Tx) Item(id string) (it world.Item, place int, ok bool, err error) {
	err = each(t.ctx, t.tx, "SELECT "+itemColumns+" FROM item WHERE id = ? AND until_seq = ?", []any{id, open}, func(r *sql.Rows) error {
		ok = true
		it, place, err = scanItem(r)
		return err
	})
	return
}

// Items lists the items of a space in their order.
func (t *Tx) Items(space string) ([]world.Item, error) { return itemsOf(t.ctx, t.tx, space) }

// Items lists the items of a space in their order.
func (s *Store) Items(ctx context.Context, space string) ([]world.Item, error) {
	return itemsOf(ctx, s.db, space)
}

func itemsOf(ctx context.Context, q querier, space string) (out []world.Item, err error) {
	err = each(
		ctx,
		q,
		"SELECT "+itemColumns+" FROM item WHERE space = ? AND until_seq = ? ORDER BY place, id",
		[]any{space, open},
		func(r *sql.Rows) error {
			it, _, err := scanItem(r)
			out = append(out, it)
			return err
		},
	)
	return
}

const guestColumns = "address, name, sponsor, purpose, state, cause, state_since, origins, since, accepted, renewed, ends, terms, last_seen, language, location, licence, home_closed, dates_from, taken_over"

func guestRow(g *world.Guest) []any {
	return []any{
		g.Address.String(),
		g.Name,
		g.Sponsor,
		g.Purpose,
		g.State,
		g.Cause,
		int64(g.StateSince),
		g.Origins,
		int64(g.Since),
		int64(g.Accepted),
		int64(
			g.Renewed,
		),
		int64(g.Until),
		int64(g.Terms),
		int64(g.LastSeen),
		g.Language,
		g.Location,
		g.Licence,
		int64(g.HomeClosed),
		int64(g.DatesFrom),
		g.TakenOver,
	}
}

type scanner interface{ Scan(...any) error }

func scanGuest(r scanner) (g world.Guest, err error) {
	var address string
	err = r.Scan(
		&address,
		&g.Name,
		&g.Sponsor,
		&g.Purpose,
		&g.State,
		&g.Cause,
		(*int64)(&g.StateSince),
		&g.Origins,
		(*int64)(&g.Since),
		(*int64)(&g.Accepted),
		(*int64)(
			&g.Renewed,
		),
		(*int64)(&g.Until),
		(*int64)(&g.Terms),
		(*int64)(&g.LastSeen),
		&g.Language,
		&g.Location,
		&g.Licence,
		(*int64)(&g.HomeClosed),
		(*int64)(&g.DatesFrom),
		&g.TakenOver,
	)
	if err == nil {
		g.Address, err = addr.Parse(address)
	}
	return
}

// PutGuest writes a guest's record.
func (t *Tx) PutGuest(g *world.Guest) (bool, error) {
	old, err := t.Guest(g.Address.String())
	if err != nil {
		return false, err
	}
	return t.ReplaceGuest(old, g)
}

// ReplaceGuest does the same where the caller has just read what there is; nil for nothing.
func (t *Tx) ReplaceGuest(old, g *world.Guest) (bool, error) {
	now := worldfile.GuestDoc(g)
	var before []byte
	if old != nil {
		before = worldfile.GuestDoc(old)
	}
	if string(before) == string(now) {
		return false, nil
	}
	seq, err := t.Note("guest", g.Address.String(), before, now)
	if err != nil {
		return false, err
	}
	if old != nil && g.State == world.StateSuspended && old.State != g.State { // for good, also where they are brought back
		if err := t.EndSessions("guest:" + g.Address.String()); err != nil {
			return false, err
		}
	}
	if before != nil {
		if err := t.exec("UPDATE guest SET until_seq = ? WHERE address = ? AND until_seq = ?", seq, g.Address.String(), open); err != nil {
			return false, err
		}
	}
	return true, t.exec("INSERT INTO guest ("+guestColumns+", from_seq) VALUES ("+marks(21)+")", append(guestRow(g), seq)...)
}

func marks(n int) string { return strings.TrimSuffix(strings.Repeat("?,", n), ",") }

const itemColumns = "id, space, place, kind, name, private, rules"

func itemRow(it *world.Item, place int) []any {
	var rules any
	if len(it.Rules) > 0 {
		rules = string(worldfile.ItemDoc(&world.Item{ID: it.ID, Kind: it.Kind, Rules: it.Rules}))
	}
	return []any{it.ID, it.Space, place, it.Kind, it.Name, it.Private, rules}
}

func scanItem(r scanner) (it world.Item, place int, err error) {
	var rules sql.NullString
	err = r.Scan(&it.ID, &it.Space, &place, &it.Kind, &it.Name, &it.Private, &rules)
	if err == nil && rules.Valid {
		var x world.Item
		x, err = worldfile.ItemOf([]byte(rules.String))
		it.Rules = x.Rules
	}
	return
}

// PutItem writes an item; place is its place among the items of its space.
func (t *Tx) PutItem(it *world.Item, place int) (bool, error) {
	st, err := t.stmt("SELECT " + itemColumns + " FROM item WHERE id = ? AND until_seq = ?")
	if err != nil {
		return false, err
	}
	now := worldfile.PlacedItemDoc(it)
	var before []byte
	old, oldPlace, err := scanItem(st.QueryRowContext(t.ctx, it.ID, open))
	if err == nil {
		before = worldfile.PlacedItemDoc(&old)
	} else if !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	if string(before) == string(now) && oldPlace == place {
		return false, nil
	}
	seq, err := t.Note("item", it.ID, before, now)
	if err != nil {
		return false, err
	}
	if before != nil {
		if err := t.exec("UPDATE item SET until_seq = ? WHERE id = ? AND until_seq = ?", seq, it.ID, open); err != nil {
			return false, err
		}
	}
	return true, t.exec("INSERT INTO item ("+itemColumns+", from_seq) VALUES ("+marks(8)+")", append(itemRow(it, place), seq)...)
}

// EndItem takes an item away. It reports whether there was one.
func (t *Tx) EndItem(id string) (bool, error) {
	old, _, ok, err := t.Item(id)
	if err != nil || !ok {
		return false, err
	}
	seq, err := t.Note("item", id, worldfile.PlacedItemDoc(&old), nil)
	if err != nil {
		return false, err
	}
	return true, t.exec("UPDATE item SET until_seq = ? WHERE id = ? AND until_seq = ?", seq, id, open)
}

// LastPlace returns the place of the last item of a space; -1 where it has none.
func (t *Tx) LastPlace(space string) (place int, err error) {
	place = -1
	err = each(t.ctx, ready{t}, "SELECT MAX(place) FROM item WHERE space = ? AND until_seq = ?", []any{space, open}, func(r *sql.Rows) error {
		var n sql.NullInt64
		err := r.Scan(&n)
		if n.Valid {
			place = int(n.Int64)
		}
		return err
	})
	return
}

const grantColumns = "party, resource_kind, resource, role, starts, ends, sponsor, reviewed, waits"

func grantRow(g *world.Grant) []any {
	return []any{g.Party(), g.Resource.Kind, g.Resource.ID, g.Role, int64(g.From), int64(g.Until), g.Sponsor, int64(g.Reviewed),
		int64(g.Waits)}
}

func scanGrant(r scanner) (g world.Grant, err error) { return scanGrantAfter(r, nil) }

// scanGrantAfter is scanGrant; the address of before is taken where it is the same.
func scanGrantAfter(r scanner, before *world.Grant) (g world.Grant, err error) {
	var party string
	err = r.Scan(
		&party,
		&g.Resource.Kind,
		&g.Resource.ID,
		&g.Role,
		(*int64)(&g.From),
		(*int64)(&g.Until),
		&g.Sponsor,
		(*int64)(&g.Reviewed),
		(*int64)(&g.Waits),
	)
	if err != nil {
		return
	}
	if id, ok := strings.CutPrefix(party, "group:"); ok {
		g.Group = id
	} else if id, ok := strings.CutPrefix(party, "partner:"); ok {
		g.Partner = id
	} else if d, ok := strings.CutPrefix(party, "domain:"); ok {
		g.Domain, err = addr.ParseDomain(d)
	} else if before != nil && before.Address.String() == party {
		g.Address = before.Address
	} else {
		g.Address, err = addr.Parse(party)
	}
	return
}

// PutGrant writes a grant; party, resource, role and from are its key.
func (t *Tx) PutGrant(g *world.Grant) (bool, error) {
	var old *world.Grant
	err := each(t.ctx, ready{t}, "SELECT "+grantColumns+" FROM `grant` WHERE "+grantKey, grantKeys(g), func(r *sql.Rows) error {
		x, err := scanGrant(r)
		old = &x
		return err
	})
	if err != nil {
		return false, err
	}
	return t.ReplaceGrant(old, g)
}

// grantKey and grantKeys pick a grant as it is now by what it is known by.
const grantKey = "party = ? AND resource = ? AND resource_kind = ? AND role = ? AND starts = ? AND until_seq = ?"

func grantKeys(g *world.Grant) []any {
	return []any{g.Party(), g.Resource.ID, g.Resource.Kind, g.Role, int64(g.From), open}
}

// ReplaceGrant does what PutGrant does where the caller has just read what there is under
// the same key; nil for nothing.
func (t *Tx) ReplaceGrant(old, g *world.Grant) (bool, error) {
	now := worldfile.GrantDoc(g)
	var before []byte
	if old != nil {
		before = worldfile.GrantDoc(old)
	}
	if string(before) == string(now) {
		return false, nil
	}
	seq, err := t.Note("grant", worldfile.GrantKey(g), before, now)
	if err != nil {
		return false, err
	}
	if before != nil {
		if err := t.exec("UPDATE `grant` SET until_seq = ? WHERE "+grantKey, append([]any{seq}, grantKeys(g)...)...); err != nil {
			return false, err
		}
	}
	return true, t.exec("INSERT INTO `grant` ("+grantColumns+", from_seq) VALUES ("+marks(10)+")", append(grantRow(g), seq)...)
}
