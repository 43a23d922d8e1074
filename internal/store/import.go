package store

import (
	"context"
	"errors"
	"fmt"
	"strings"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

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
		in.begin("`grant`", grantColumns, 9)
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
	worldfile.InventoryDocs(w, fn)
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
	worldfile.PolicyDocs(w, func(kind, id string, doc []byte) {
		if first == nil {
			_, first = t.PutPolicy(kind, id, doc)
		}
	})
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
