package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// ForwarderKey and ContactKey are what those records are known by.
func ForwarderKey(f *world.Forwarder) string { return f.Mailbox + " to " + f.To.String() }

// ContactKey names a contact by its two sides.
func ContactKey(c *world.Contact) string { return c.Person + " and " + c.Party.String() }

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
	err = each(ctx, q, "SELECT doc FROM record WHERE kind = ? AND id = ? AND until_seq = ?", []any{kind, id, open}, func(r *sql.Rows) error { return r.Scan(&doc) })
	return
}

// Records hands over the docs of all records of a kind whose id begins with
// prefix, in the order of their ids.
func (s *Store) Records(ctx context.Context, kind, prefix string, fn func(id string, doc []byte) error) error {
	like := strings.NewReplacer(`\`, `\\`, "_", `\_`, "%", `\%`).Replace(prefix) + "%"
	return records(ctx, s.db, `SELECT id, doc FROM record WHERE kind = ? AND id LIKE ? ESCAPE '\' AND until_seq = ? ORDER BY id`, []any{kind, like, open}, fn)
}

// RecordsAfter hands over the docs of all records of a kind behind an id, in the order of
// their ids, until fn fails.
func (s *Store) RecordsAfter(ctx context.Context, kind, id string, fn func(id string, doc []byte) error) error {
	return records(ctx, s.db, "SELECT id, doc FROM record WHERE kind = ? AND id > ? AND until_seq = ? ORDER BY id", []any{kind, id, open}, fn)
}

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

// Naming does the same within a change.
func (t *Tx) Naming(kind, text string, fn func(id string, doc []byte) error) error {
	return naming(t.ctx, t.tx, kind, text, fn)
}

func naming(ctx context.Context, q querier, kind, text string, fn func(id string, doc []byte) error) error {
	return records(ctx, q, "SELECT id, doc FROM record WHERE kind = ? AND until_seq = ? AND INSTR(doc, ?) > 0 ORDER BY id", []any{kind, open, text}, fn)
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
func (s *Store) Items(ctx context.Context, space string) (out []world.Item, err error) {
	err = each(ctx, s.db, "SELECT "+itemColumns+" FROM item WHERE space = ? AND until_seq = ? ORDER BY place, id", []any{space, open}, func(r *sql.Rows) error {
		it, _, err := scanItem(r)
		out = append(out, it)
		return err
	})
	return
}

const guestColumns = "address, name, sponsor, purpose, state, cause, state_since, origins, since, accepted, renewed, ends, terms, last_seen, language, location, licence, home_closed, dates_from, taken_over"

func guestRow(g *world.Guest) []any {
	return []any{g.Address.String(), g.Name, g.Sponsor, g.Purpose, g.State, g.Cause, int64(g.StateSince), g.Origins, int64(g.Since), int64(g.Accepted),
		int64(g.Renewed), int64(g.Until), int64(g.Terms), int64(g.LastSeen), g.Language, g.Location, g.Licence, int64(g.HomeClosed), int64(g.DatesFrom), g.TakenOver}
}

type scanner interface{ Scan(...any) error }

func scanGuest(r scanner) (g world.Guest, err error) {
	var address string
	err = r.Scan(&address, &g.Name, &g.Sponsor, &g.Purpose, &g.State, &g.Cause, (*int64)(&g.StateSince), &g.Origins, (*int64)(&g.Since), (*int64)(&g.Accepted),
		(*int64)(&g.Renewed), (*int64)(&g.Until), (*int64)(&g.Terms), (*int64)(&g.LastSeen), &g.Language, &g.Location, &g.Licence, (*int64)(&g.HomeClosed), (*int64)(&g.DatesFrom), &g.TakenOver)
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
	now := worldfile.ItemDoc(it)
	var before []byte
	old, oldPlace, err := scanItem(st.QueryRowContext(t.ctx, it.ID, open))
	if err == nil {
		before = worldfile.ItemDoc(&old)
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

const grantColumns = "party, resource_kind, resource, role, starts, ends, sponsor, reviewed"

func grantRow(g *world.Grant) []any {
	return []any{g.Party(), g.Resource.Kind, g.Resource.ID, g.Role, int64(g.From), int64(g.Until), g.Sponsor, int64(g.Reviewed)}
}

func scanGrant(r scanner) (g world.Grant, err error) { return scanGrantAfter(r, nil) }

// scanGrantAfter is scanGrant; the address of before is taken where it is the same.
func scanGrantAfter(r scanner, before *world.Grant) (g world.Grant, err error) {
	var party string
	err = r.Scan(&party, &g.Resource.Kind, &g.Resource.ID, &g.Role, (*int64)(&g.From), (*int64)(&g.Until), &g.Sponsor, (*int64)(&g.Reviewed))
	if err != nil {
		return
	}
	if id, ok := strings.CutPrefix(party, "group:"); ok {
		g.Group = id
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
	return true, t.exec("INSERT INTO `grant` ("+grantColumns+", from_seq) VALUES ("+marks(9)+")", append(grantRow(g), seq)...)
}

// Sink takes what a database holds, record by record.
type Sink interface {
	PutGroup(*world.Group)
	PutPerson(*world.Person)
	PutSpace(*world.Space)
	PutItem(*world.Item)
	PutMeeting(*world.Meeting)
	PutGuest(*world.Guest)
	RemoveGuest(addr.Address)
	SetGrants(party string, all []world.Grant)
	PutLink(*world.Link)
	SetForwarders(person string, all []world.Forwarder)
	PutContact(*world.Contact)
	SetFloors([]world.DatesFrom)
	SetPolicy(*world.World)
}

// PartnerSink is a Sink that also wants what is kept of dealing with partners'
// administrators; no question is asked of that.
type PartnerSink interface {
	Sink
	PutLetter(*world.Letter)
	PutStatement(*world.Statement)
}

// querier is what both connections and transactions can do.
type querier interface {
	QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error)
}

// Read hands over everything as it was at a head; the zero Head is now. It
// returns the head it read at.
func (s *Store) Read(ctx context.Context, at Head, sink Sink) (Head, error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return Head{}, err
	}
	defer tx.Rollback()
	var h Head
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision); err != nil {
		return Head{}, err
	}
	if at != (Head{}) {
		h = at
	}
	if err := s.readInventory(ctx, tx, h.Seq, sink); err != nil {
		return Head{}, err
	}
	w, err := readPolicyFor(ctx, tx, h, sink)
	if err != nil {
		return Head{}, err
	}
	sink.SetPolicy(w)
	return h, nil
}

const asOf = "from_seq <= ? AND until_seq > ?"

func each(ctx context.Context, q querier, query string, args []any, fn func(*sql.Rows) error) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := fn(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

// ahead runs a query and calls scan on every row while use, in another goroutine,
// is still at work on those before: decoding and taking in share two processors.
func ahead[T any](ctx context.Context, q querier, query string, args []any, scan func(*sql.Rows) (T, error), use func(*T) error) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	const size = 1024
	full, spent := make(chan []T, 4), make(chan []T, 4)
	done := make(chan error, 1)
	go func() {
		var err error
		for batch := range full {
			for i := range batch {
				if err == nil {
					if err = use(&batch[i]); err != nil {
						stop() // the query ends too
					}
				}
			}
			select {
			case spent <- batch:
			default:
			}
		}
		done <- err
	}()
	var batch []T
	err := each(ctx, q, query, args, func(r *sql.Rows) error {
		if batch == nil {
			select {
			case batch = <-spent:
				batch = batch[:0]
			default:
				batch = make([]T, 0, size)
			}
		}
		x, err := scan(r)
		if err != nil {
			return err
		}
		if batch = append(batch, x); len(batch) == size {
			full <- batch
			batch = nil
		}
		return nil
	})
	if len(batch) > 0 {
		full <- batch
	}
	close(full)
	if used := <-done; used != nil {
		return used
	}
	return err
}

func (s *Store) readInventory(ctx context.Context, q querier, seq uint64, sink Sink) error {
	when := []any{seq, seq}
	for _, kind := range []string{"group", "person", "space"} {
		if err := eachDoc(ctx, q, kind, when, sink); err != nil {
			return err
		}
	}
	if err := ahead(ctx, q, "SELECT "+itemColumns+" FROM item WHERE "+asOf+" ORDER BY space, place, id", when, func(r *sql.Rows) (world.Item, error) {
		it, _, err := scanItem(r)
		return it, err
	}, func(it *world.Item) error {
		putItem(sink, it)
		return nil
	}); err != nil {
		return err
	}
	if err := eachDoc(ctx, q, "meeting", when, sink); err != nil {
		return err
	}
	if err := ahead(ctx, q, "SELECT "+guestColumns+" FROM guest WHERE "+asOf+" ORDER BY address", when, func(r *sql.Rows) (world.Guest, error) {
		return scanGuest(r)
	}, func(g *world.Guest) error {
		putGuest(sink, g)
		return nil
	}); err != nil {
		return err
	}
	if err := eachGrants(ctx, q, asOf, when, sink); err != nil {
		return err
	}
	if err := eachDoc(ctx, q, "link", when, sink); err != nil {
		return err
	}
	if err := eachForwarders(ctx, q, "", when, sink); err != nil {
		return err
	}
	if err := eachDoc(ctx, q, "contact", when, sink); err != nil {
		return err
	}
	if err := readFloors(ctx, q, when, sink); err != nil {
		return err
	}
	if _, ok := sink.(PartnerSink); !ok {
		return nil
	}
	if err := eachDoc(ctx, q, "letter", when, sink); err != nil {
		return err
	}
	return eachDoc(ctx, q, "statement", when, sink)
}

// readFloors hands over the floors of dates.
func readFloors(ctx context.Context, q querier, when []any, sink Sink) error {
	all := []world.DatesFrom{}
	err := each(ctx, q, "SELECT doc FROM record WHERE kind = 'dates_from' AND "+asOf+" ORDER BY id", when, func(r *sql.Rows) error {
		var doc []byte
		if err := r.Scan(&doc); err != nil {
			return err
		}
		return put(worldfile.DatesFromOf, doc, func(x *world.DatesFrom) { all = append(all, *x) })
	})
	if err == nil {
		sink.SetFloors(all)
	}
	return err
}

// Floor returns a floor of dates as it is now, by whom it is for; ok says whether there is
// one.
func (t *Tx) Floor(of string) (x world.DatesFrom, ok bool, err error) {
	doc, err := t.Record("dates_from", of)
	if err != nil || doc == nil {
		return x, false, err
	}
	x, err = worldfile.DatesFromOf(doc)
	return x, err == nil, err
}

// PutFloor writes a floor of dates.
func (t *Tx) PutFloor(x *world.DatesFrom) (bool, error) {
	return t.PutRecord("dates_from", x.For(), worldfile.DatesFromDoc(x))
}

// eachGrants hands grants over party by party.
func eachGrants(ctx context.Context, q querier, where string, args []any, sink Sink) error {
	var all []world.Grant
	var before world.Grant
	flush := func() {
		if len(all) > 0 {
			sink.SetGrants(all[0].Party(), all)
			all = nil
		}
	}
	err := ahead(ctx, q, "SELECT "+grantColumns+" FROM `grant` WHERE "+where+" ORDER BY party, resource, resource_kind, role, starts", args, func(r *sql.Rows) (g world.Grant, err error) {
		g, err = scanGrantAfter(r, &before)
		before = g
		return
	}, func(g *world.Grant) error {
		if len(all) > 0 && (all[0].Address != g.Address || all[0].Group != g.Group) {
			flush()
		}
		all = append(all, *g)
		return nil
	})
	flush()
	return err
}

func eachForwarders(ctx context.Context, q querier, person string, when []any, sink Sink) error {
	where, args := "kind = 'forwarder' AND "+asOf, when
	if person != "" {
		where += " AND id LIKE ?"
		args = append(append([]any{}, when...), strings.NewReplacer("_", "\\_", "%", "\\%").Replace(person)+" to %")
		where += ` ESCAPE '\'`
	}
	var all []world.Forwarder
	flush := func() {
		if len(all) > 0 {
			sink.SetForwarders(all[0].Mailbox, all)
			all = nil
		}
	}
	err := each(ctx, q, "SELECT id, doc FROM record WHERE "+where+" ORDER BY id", args, func(r *sql.Rows) error {
		var id string
		var doc []byte
		if err := r.Scan(&id, &doc); err != nil {
			return err
		}
		return readKept(sink, "forwarder", id, doc, func(doc []byte) error {
			return put(worldfile.ForwarderOf, doc, func(f *world.Forwarder) {
				if len(all) > 0 && all[0].Mailbox != f.Mailbox {
					flush()
				}
				all = append(all, *f)
			})
		})
	})
	flush()
	return err
}

func eachDoc(ctx context.Context, q querier, kind string, when []any, sink Sink) error {
	return each(ctx, q, "SELECT id, doc FROM record WHERE kind = '"+kind+"' AND "+asOf+" ORDER BY id", when, func(r *sql.Rows) error {
		var id string
		var doc []byte
		if err := r.Scan(&id, &doc); err != nil {
			return err
		}
		return readKept(sink, kind, id, doc, func(doc []byte) error { return putDoc(kind, doc, sink) })
	})
}

// BadSink is a Sink that hears of records that cannot be read as they are kept. It gets them
// without the characters that no text may hold, and goes on past those that even so are lost.
type BadSink interface {
	Sink
	Bad(kind, id string, err error, lost bool)
}

// readKept reads a doc as worldfile.Kept does, and tells a sink that wants to hear of it.
func readKept(sink Sink, kind, id string, doc []byte, read func(doc []byte) error) error {
	_, bad, err := worldfile.Kept(func(d worldfile.Doc) (struct{}, error) { return struct{}{}, read(d) }, doc)
	if b, ok := sink.(BadSink); ok && bad != nil {
		b.Bad(kind, id, bad, err != nil)
		return nil
	}
	return err
}

func putGuest(sink Sink, g *world.Guest) {
	plain(sink, "guest", g.Address.String(), &g.Name, &g.Purpose, &g.Language, &g.Location)
	sink.PutGuest(g)
}

func putItem(sink Sink, it *world.Item) {
	plain(sink, "item", it.ID, &it.Name)
	sink.PutItem(it)
}

// plain does the same with texts that are kept in columns.
func plain(sink Sink, kind, id string, texts ...*string) {
	if bad := worldfile.Plain(texts...); bad != nil {
		if b, ok := sink.(BadSink); ok {
			b.Bad(kind, id, bad, false)
		}
	}
}

func putDoc(kind string, doc []byte, sink Sink) error {
	switch kind {
	case "group":
		return put(worldfile.GroupOf, doc, sink.PutGroup)
	case "person":
		return put(worldfile.PersonOf, doc, sink.PutPerson)
	case "space":
		return put(worldfile.SpaceOf, doc, sink.PutSpace)
	case "meeting":
		return put(worldfile.MeetingOf, doc, sink.PutMeeting)
	case "link":
		return put(worldfile.LinkOf, doc, sink.PutLink)
	case "contact":
		return put(worldfile.ContactOf, doc, sink.PutContact)
	case "statement":
		return put(worldfile.StatementOf, doc, sink.(PartnerSink).PutStatement)
	case "letter":
		return put(worldfile.LetterOf, doc, sink.(PartnerSink).PutLetter)
	}
	return fmt.Errorf("the database holds a record of the unknown kind %q", kind)
}

func put[T any](parse func(worldfile.Doc) (T, error), doc []byte, into func(*T)) error {
	x, err := parse(doc)
	if err == nil {
		into(&x)
	}
	return err
}

// Policy returns the policy of a revision, stances as they are now included.
func (s *Store) Policy(ctx context.Context, h Head) (*world.World, error) {
	return readPolicy(ctx, s.db, h)
}

func readPolicy(ctx context.Context, q querier, h Head) (*world.World, error) {
	return readPolicyFor(ctx, q, h, nil)
}

// readPolicyFor tells a sink, where there is one that wants it, of what cannot be read.
func readPolicyFor(ctx context.Context, q querier, h Head, sink Sink) (*world.World, error) {
	w := &world.World{}
	err := each(ctx, q, "SELECT kind, id, doc FROM policy WHERE from_revision <= ? AND until_revision > ? ORDER BY kind, id", []any{h.Revision, h.Revision}, func(r *sql.Rows) error {
		var kind, id string
		var doc []byte
		if err := r.Scan(&kind, &id, &doc); err != nil {
			return err
		}
		return readKept(sink, kind, id, doc, func(doc []byte) error { return worldfile.AddPolicy(w, kind, id, doc) })
	})
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i := range w.Partners {
		at[w.Partners[i].ID] = i
	}
	return w, each(ctx, q, "SELECT id, doc FROM record WHERE kind = 'stance' AND "+asOf+" ORDER BY id", []any{h.Seq, h.Seq}, func(r *sql.Rows) error {
		var id string
		var doc []byte
		if err := r.Scan(&id, &doc); err != nil {
			return err
		}
		partner, name, _ := strings.Cut(id, " ")
		key, ok := catalogue.ParseKey(name)
		i, known := at[partner]
		if !ok || !known {
			return nil // a stance of a partner that is no longer kept
		}
		return readKept(sink, "stance", id, doc, func(doc []byte) error {
			st, err := worldfile.StanceOf(doc, key)
			if err == nil {
				w.Partners[i].Stance = append(w.Partners[i].Stance, st)
			}
			return err
		})
	})
}

// StanceKey is what a stance is known by.
func StanceKey(partner string, k catalogue.Key) string { return partner + " " + k.String() }

// Follow hands over what changed since a head, and returns the head it has
// reached. It reports all=true, and hands over nothing, where so much changed
// that reading everything is cheaper.
func (s *Store) Follow(ctx context.Context, since Head, sink Sink) (h Head, all bool, err error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return since, false, err
	}
	defer tx.Rollback()
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision); err != nil {
		return since, false, err
	}
	if h.Seq == since.Seq {
		return h, false, nil
	}
	const most = 5000
	if h.Seq-since.Seq > most || h.Seq < since.Seq {
		return since, true, nil
	}
	seen := map[[2]string]bool{}
	var order [][2]string
	err = each(ctx, tx, "SELECT kind, id FROM journal WHERE seq > ? AND seq <= ? ORDER BY seq", []any{since.Seq, h.Seq}, func(r *sql.Rows) error {
		var k [2]string
		if err := r.Scan(&k[0], &k[1]); err != nil {
			return err
		}
		switch k[0] {
		case "grant":
			k[1] = partyOf(k[1]) // all of that party
		case "forwarder":
			k[1], _, _ = strings.Cut(k[1], " to ")
		case "stance":
			k = [2]string{"policy", ""}
		case "import", "forgotten":
			all = true
		}
		if !seen[k] {
			seen[k] = true
			order = append(order, k)
		}
		return nil
	})
	if err != nil || all {
		return since, all, err
	}
	policy := h.Revision != since.Revision || seen[[2]string{"policy", ""}]
	for _, k := range order {
		if err := s.handOver(ctx, tx, k[0], k[1], h.Seq, sink); err != nil {
			return since, false, err
		}
	}
	if policy {
		w, err := readPolicyFor(ctx, tx, h, sink)
		if err != nil {
			return since, false, err
		}
		sink.SetPolicy(w)
	}
	return h, false, nil
}

// partyOf takes the party from a grant's key. A quoted local part may hold
// blanks; the three words behind the party never do.
func partyOf(key string) string {
	for i := 0; i < 3; i++ {
		if j := strings.LastIndexByte(key, ' '); j >= 0 {
			key = key[:j]
		}
	}
	return key
}

func (s *Store) handOver(ctx context.Context, q querier, kind, id string, seq uint64, sink Sink) error {
	when := []any{seq, seq}
	switch kind {
	case "guest":
		found := false
		defer func() {
			if a, err := addr.Parse(id); err == nil && !found {
				sink.RemoveGuest(a)
			}
		}()
		return each(ctx, q, "SELECT "+guestColumns+" FROM guest WHERE address = ? AND "+asOf, append([]any{id}, when...), func(r *sql.Rows) error {
			g, err := scanGuest(r)
			if err == nil {
				found = true
				putGuest(sink, &g)
			}
			return err
		})
	case "item":
		return each(ctx, q, "SELECT "+itemColumns+" FROM item WHERE id = ? AND "+asOf, append([]any{id}, when...), func(r *sql.Rows) error {
			it, _, err := scanItem(r)
			if err == nil {
				putItem(sink, &it)
			}
			return err
		})
	case "grant":
		some := &anyGrants{Sink: sink}
		err := eachGrants(ctx, q, "party = ? AND "+asOf, append([]any{id}, when...), some)
		if err == nil && !some.any {
			sink.SetGrants(id, nil)
		}
		return err
	case "dates_from":
		return readFloors(ctx, q, when, sink)
	case "forwarder":
		sink.SetForwarders(id, nil) // the last one may be gone
		return eachForwarders(ctx, q, id, when, sink)
	case "group", "person", "space", "meeting", "link", "contact":
		return each(ctx, q, "SELECT doc FROM record WHERE kind = ? AND id = ? AND "+asOf, append([]any{kind, id}, when...), func(r *sql.Rows) error {
			var doc []byte
			if err := r.Scan(&doc); err != nil {
				return err
			}
			return readKept(sink, kind, id, doc, func(doc []byte) error { return putDoc(kind, doc, sink) })
		})
	}
	return nil // policy is handed over whole; accounts concern nobody's questions
}

// Import writes a whole inventory and policy into an empty database, many rows
// at a time, as one change with one journal entry. progress, where not nil, is
// told how many rows of how many are written.
func (s *Store) Import(ctx context.Context, who, why string, w *world.World, progress func(done, total int)) (Head, error) {
	total := len(w.Guests) + len(w.Grants) + len(w.People) + len(w.Groups) + len(w.Meetings) + len(w.Links) + len(w.Spaces)
	for i := range w.Spaces {
		total += len(w.Spaces[i].Items)
	}
	return s.Change(ctx, who, why, func(t *Tx) error {
		if t.head.Seq != 0 {
			return errors.New("the database is not empty; a generated world is loaded into an empty one")
		}
		if err := t.PutWorldPolicy(w); err != nil {
			return err
		}
		seq, err := t.Note("import", why, nil, []byte(fmt.Sprintf(`{"rows":"%d"}`, total)))
		if err != nil {
			return err
		}
		done := 0
		in := &inserter{t: t, seq: seq, tick: func(n int) {
			done += n
			if progress != nil {
				progress(done, total)
			}
		}}
		in.begin("`grant`", grantColumns, 8)
		for i := range w.Grants {
			in.row(grantRow(&w.Grants[i]))
		}
		in.begin("guest", guestColumns, 20)
		for i := range w.Guests {
			in.row(guestRow(&w.Guests[i]))
		}
		in.begin("item", itemColumns, 7)
		for i := range w.Spaces {
			for j := range w.Spaces[i].Items {
				in.row(itemRow(&w.Spaces[i].Items[j], j))
			}
		}
		in.begin("record", "kind, id, doc", 3)
		eachRecord(w, func(kind, id string, doc []byte) { in.row([]any{kind, id, string(doc)}) })
		in.flush()
		return in.err
	})
}

// eachRecord lists the records that are kept as docs.
func eachRecord(w *world.World, fn func(kind, id string, doc []byte)) {
	for i := range w.Groups {
		fn("group", w.Groups[i].ID, worldfile.GroupDoc(&w.Groups[i]))
	}
	for i := range w.People {
		fn("person", w.People[i].ID, worldfile.PersonDoc(&w.People[i]))
	}
	for i := range w.Spaces {
		fn("space", w.Spaces[i].ID, worldfile.SpaceDoc(&w.Spaces[i]))
	}
	for i := range w.Meetings {
		fn("meeting", w.Meetings[i].ID, worldfile.MeetingDoc(&w.Meetings[i]))
	}
	for i := range w.Links {
		fn("link", w.Links[i].ID, worldfile.LinkDoc(&w.Links[i]))
	}
	for i := range w.Forwarders {
		fn("forwarder", ForwarderKey(&w.Forwarders[i]), worldfile.ForwarderDoc(&w.Forwarders[i]))
	}
	for i := range w.Contacts {
		fn("contact", ContactKey(&w.Contacts[i]), worldfile.ContactDoc(&w.Contacts[i]))
	}
	for i := range w.Statements {
		fn("statement", w.Statements[i].Partner, worldfile.StatementDoc(&w.Statements[i]))
	}
	for i := range w.Letters {
		fn("letter", w.Letters[i].ID, worldfile.LetterDoc(&w.Letters[i]))
	}
	for i := range w.DatesFrom {
		fn("dates_from", w.DatesFrom[i].For(), worldfile.DatesFromDoc(&w.DatesFrom[i]))
	}
	for i := range w.Partners {
		for j := range w.Partners[i].Stance {
			st := &w.Partners[i].Stance[j]
			fn("stance", StanceKey(w.Partners[i].ID, st.Key), worldfile.StanceDoc(st))
		}
	}
}

// PutWorldPolicy writes the policy part of w, which holds all of it: an entry
// that w lacks stays as it is.
func (t *Tx) PutWorldPolicy(w *world.World) error {
	var first error
	put := func(kind, id string, doc []byte) {
		if first == nil {
			_, first = t.PutPolicy(kind, id, doc)
		}
	}
	if w.Organisation != nil {
		put("organisation", "ours", worldfile.OrganisationDoc(w.Organisation))
	}
	if w.Settings != nil {
		put("settings", "ours", worldfile.SettingsDoc(w.Settings))
	}
	for _, s := range w.Rules {
		put("rule", s.Rule.String(), worldfile.RuleDoc(s))
	}
	for i := range w.Partners {
		p := w.Partners[i]
		p.Stance = nil
		put("partner", p.ID, worldfile.PartnerDoc(&p))
	}
	for i := range w.Barred {
		put("bar", w.Barred[i].Key(), worldfile.BarDoc(&w.Barred[i]))
	}
	for i := range w.Personal {
		put("personal", w.Personal[i].Domain.String(), worldfile.EntryDoc(&w.Personal[i]))
	}
	for i := range w.Exceptions {
		put("exception", w.Exceptions[i].ID, worldfile.ExceptionDoc(&w.Exceptions[i]))
	}
	for i := range w.Bundles {
		put("bundle", w.Bundles[i].ID, worldfile.BundleDoc(&w.Bundles[i]))
	}
	for i := range w.Expectations {
		put("expectation", w.Expectations[i].ID, worldfile.ExpectationDoc(&w.Expectations[i]))
	}
	return first
}

// PutWorldInventory writes the inventory part of w, stances included. It returns
// how many records it changed.
func (t *Tx) PutWorldInventory(w *world.World) (changed int, err error) {
	note := func(did bool, e error) {
		if did {
			changed++
		}
		if err == nil {
			err = e
		}
	}
	eachRecord(w, func(kind, id string, doc []byte) {
		if err == nil {
			note(t.PutRecord(kind, id, doc))
		}
	})
	for i := range w.Spaces {
		for j := range w.Spaces[i].Items {
			if err == nil {
				note(t.PutItem(&w.Spaces[i].Items[j], j))
			}
		}
	}
	for i := range w.Guests {
		if err == nil {
			note(t.PutGuest(&w.Guests[i]))
		}
	}
	for i := range w.Grants {
		if err == nil {
			note(t.PutGrant(&w.Grants[i]))
		}
	}
	return
}

// inserter writes rows of one table after the other, many in one statement.
type inserter struct {
	t       *Tx
	seq     uint64
	tick    func(int)
	table   string
	columns string
	width   int
	args    []any
	rows    int
	err     error
}

const rowsAtOnce = 500

func (in *inserter) begin(table, columns string, width int) {
	in.flush()
	in.table, in.columns, in.width = table, columns, width
}

func (in *inserter) row(values []any) {
	if in.err != nil {
		return
	}
	in.args = append(append(in.args, values...), in.seq)
	if in.rows++; in.rows == rowsAtOnce {
		in.flush()
	}
}

func (in *inserter) flush() {
	if in.rows == 0 || in.err != nil {
		return
	}
	one := "(" + marks(in.width+1) + ")"
	q := "INSERT INTO " + in.table + " (" + in.columns + ", from_seq) VALUES " + one + strings.Repeat(","+one, in.rows-1)
	in.err = in.t.exec(q, in.args...)
	in.tick(in.rows)
	in.args, in.rows = in.args[:0], 0
}

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

func (t *Tx) withRules(q querier, space func(*world.Space) error, item func(*world.Item, int) error, meeting func(*world.Meeting) error) error {
	var spaces []world.Space
	var meetings []world.Meeting
	type placed struct {
		it    world.Item
		place int
	}
	var items []placed
	err := each(t.ctx, q, "SELECT kind, doc FROM record WHERE kind IN ('space', 'meeting') AND until_seq = ? AND doc LIKE '%\"rules\":%'", []any{open}, func(r *sql.Rows) error {
		var kind string
		var doc []byte
		if err := r.Scan(&kind, &doc); err != nil {
			return err
		}
		if kind == "space" {
			return put(worldfile.SpaceOf, doc, func(x *world.Space) { spaces = append(spaces, *x) })
		}
		return put(worldfile.MeetingOf, doc, func(x *world.Meeting) { meetings = append(meetings, *x) })
	})
	if err != nil {
		return err
	}
	err = each(t.ctx, q, "SELECT "+itemColumns+" FROM item WHERE rules IS NOT NULL AND until_seq = ?", []any{open}, func(r *sql.Rows) error {
		it, place, err := scanItem(r)
		items = append(items, placed{it, place})
		return err
	})
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
	if err = t.tx.QueryRowContext(t.ctx, "SELECT r.from_seq, j.part_of FROM record r JOIN journal j ON j.seq = r.from_seq WHERE r.kind = ? AND r.id = ? AND r.until_seq = ?", kind, id, open).Scan(&from, &change); err != nil {
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

// OfChange lists the records of a kind that a change wrote.
func (t *Tx) OfChange(change uint64, kind string) (ids []string, err error) {
	rows, err := t.tx.QueryContext(t.ctx, "SELECT id FROM journal WHERE seq BETWEEN ? AND ? AND part_of = ? AND kind = ?", change, change+10000, change, kind)
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
