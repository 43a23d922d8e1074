package store

import (
	"context"
	"database/sql"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// Sink takes what a database holds, record by record.
type Sink interface {
	PutGroup(*world.Group)
	PutPerson(*world.Person)
	PutSpace(*world.Space)
	PutItem(*world.Item)
	PutDomainList(*world.DomainList)
	PutMeeting(*world.Meeting)
	PutGuest(*world.Guest)
	RemoveGuest(addr.Address)
	SetGrants(party string, all []world.Grant)
	PutLink(*world.Link)
	SetForwarders(person string, all []world.Forwarder)
	PutContact(*world.Contact)
	PutHolding(*world.Holding)
	Remove(kind, id string) // a person, group, space, item, meeting or link
	SetFloors([]world.DatesFrom)
	SetPolicy(*world.World)
}

// DocSink is a Sink that also wants the kinds of which no question is asked, such as letters to
// partners, as they are kept.
type DocSink interface {
	Sink
	PutDoc(kind, id string, doc []byte) error
}

// querier is what both connections and transactions can do.
type querier interface {
	QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error)
}

// Read hands over everything as it was at a head, policy first; the zero Head is now. It
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
	above := uint64(open - 1) // what is current alone, whatever it took the place of
	if at != (Head{}) && at != h {
		h, above = at, at.Seq
	}
	w, err := readPolicyFor(ctx, tx, h, above, sink)
	if err != nil {
		return Head{}, err
	}
	sink.SetPolicy(w)
	if err := s.readInventory(ctx, tx, []any{h.Seq, above}, sink); err != nil {
		return Head{}, err
	}
	return h, nil
}

// SomeSink is a Sink that takes some kinds of inventory alone.
type SomeSink interface {
	Sink
	Wants(kind string) bool
}

// PolicyAt returns the policy as it was at a head; sink hears of what cannot be read as it is kept.
func (s *Store) PolicyAt(ctx context.Context, at Head, sink Sink) (*world.World, error) {
	return readPolicyFor(ctx, s.db, at, at.Seq, sink)
}

// asOf takes two numbers. Both are the same entry of the journal for what was there behind it; what is
// current is asked with open-1 as the second, and then the table of what is past is not read (migration 22).
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

// readInventory reads what was written up to one entry of the journal and replaced behind another,
// the two numbers of asOf.
func (s *Store) readInventory(ctx context.Context, q querier, when []any, sink Sink) error {
	docs := func(kind string) func() error { return func() error { return eachDoc(ctx, q, kind, when, sink) } }
	type step struct {
		kind string
		read func() error
	}
	steps := []step{
		{"group", docs("group")},
		{"person", docs("person")},
		{"space", docs("space")},
		{"item", func() error {
			return ahead(ctx, q, "SELECT "+itemColumns+" FROM item WHERE "+asOf+" ORDER BY space, place, id", when,
				func(r *sql.Rows) (world.Item, error) {
					it, _, err := scanItem(r)
					return it, err
				}, func(it *world.Item) error {
					putItem(sink, it)
					return nil
				})
		}},
		{"domain_list", docs("domain_list")},
		{"meeting", docs("meeting")},
		{"guest", func() error {
			return ahead(ctx, q, "SELECT "+guestColumns+" FROM guest WHERE "+asOf+" ORDER BY address", when,
				func(r *sql.Rows) (world.Guest, error) {
					return scanGuest(r)
				}, func(g *world.Guest) error {
					putGuest(sink, g)
					return nil
				})
		}},
		{"grant", func() error { return eachGrants(ctx, q, asOf, when, sink) }},
		{"holding", docs("holding")},
		{"link", docs("link")},
		{"forwarder", func() error { return eachForwarders(ctx, q, "", when, sink) }},
		{"contact", docs("contact")},
		{"dates_from", func() error { return readFloors(ctx, q, when, sink) }},
	}
	if _, ok := sink.(DocSink); ok {
		for _, kind := range worldfile.NotAsked() {
			steps = append(steps, step{kind, docs(kind)})
		}
	}
	some, ok := sink.(SomeSink)
	for _, x := range steps {
		if ok && !some.Wants(x.kind) {
			continue
		}
		if err := x.read(); err != nil {
			return err
		}
	}
	return nil
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
	err := ahead(
		ctx,
		q,
		"SELECT "+grantColumns+" FROM `grant` WHERE "+where+" ORDER BY party, resource, resource_kind, role, starts",
		args,
		func(r *sql.Rows) (g world.Grant, err error) {
			g, err = scanGrantAfter(r, &before)
			before = g
			return
		},
		func(g *world.Grant) error {
			if len(all) > 0 && (all[0].Holder() != g.Holder()) {
				flush()
			}
			all = append(all, *g)
			return nil
		},
	)
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
		return readKept(sink, kind, id, doc, func(doc []byte) error { return putDoc(kind, id, doc, sink) })
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

func putDoc(kind, id string, doc []byte, sink Sink) error {
	switch kind {
	case "group":
		return put(worldfile.GroupOf, doc, sink.PutGroup)
	case "person":
		return put(worldfile.PersonOf, doc, sink.PutPerson)
	case "space":
		return put(worldfile.SpaceOf, doc, sink.PutSpace)
	case "domain_list":
		return put(worldfile.DomainListOf, doc, sink.PutDomainList)
	case "meeting":
		return put(worldfile.MeetingOf, doc, sink.PutMeeting)
	case "link":
		return put(worldfile.LinkOf, doc, sink.PutLink)
	case "contact":
		return put(worldfile.ContactOf, doc, sink.PutContact)
	case "holding":
		return put(worldfile.HoldingOf, doc, sink.PutHolding)
	}
	if s, ok := sink.(DocSink); ok && slices.Contains(worldfile.NotAsked(), kind) {
		return s.PutDoc(kind, id, doc)
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
	return readPolicyFor(ctx, q, h, h.Seq, nil)
}

// readPolicyFor tells a sink, where there is one that wants it, of what cannot be read.
func readPolicyFor(ctx context.Context, q querier, h Head, above uint64, sink Sink) (*world.World, error) {
	w := &world.World{}
	err := each(
		ctx,
		q,
		"SELECT kind, id, doc FROM policy WHERE from_revision <= ? AND until_revision > ? ORDER BY kind, id",
		[]any{h.Revision, h.Revision},
		func(r *sql.Rows) error {
			var kind, id string
			var doc []byte
			if err := r.Scan(&kind, &id, &doc); err != nil {
				return err
			}
			return readKept(sink, kind, id, doc, func(doc []byte) error { return worldfile.AddPolicy(w, kind, id, doc) })
		},
	)
	if err != nil {
		return nil, err
	}
	at := map[string]int{}
	for i := range w.Partners {
		at[w.Partners[i].ID] = i
	}
	return w, each(
		ctx,
		q,
		"SELECT id, doc FROM record WHERE kind = 'stance' AND "+asOf+" ORDER BY id",
		[]any{h.Seq, above},
		func(r *sql.Rows) error {
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
		},
	)
}
