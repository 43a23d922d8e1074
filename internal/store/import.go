package store

import (
	"context"
	"errors"
	"fmt"
	"slices"
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
	grants := grantsInOrder(w.Grants) // before anything begins: a transaction that does nothing for long is ended
	guests := inOrder(len(w.Guests), func(a, b uint32) int {
		return strings.Compare(w.Guests[a].Address.String(), w.Guests[b].Address.String())
	})
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
		for _, i := range grants {
			in.row(grantRow(&w.Grants[i]))
		}
		in.begin("guest", guestColumns, 20)
		for _, i := range guests {
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

// inOrder are the places of n rows in the order of their table's primary key, or
// near it. A table that is larger than the memory of the database takes rows in
// this order several times as fast: each goes behind the one before, and not
// into a page that has to be fetched.
func inOrder(n int, compare func(a, b uint32) int) []uint32 {
	out := make([]uint32, n)
	for i := range out {
		out[i] = uint32(i)
	}
	slices.SortFunc(out, compare)
	return out
}

// grantsInOrder is inOrder of what was given: by party, and by resource for each
// of them. Parties are sorted, which are a tenth, and not what they hold.
func grantsInOrder(grants []world.Grant) []uint32 {
	var parties []string
	known := map[string]uint32{}
	of, ends := make([]uint32, len(grants)), []uint32{}
	for i := range grants {
		party := grants[i].Party()
		k, ok := known[party]
		if !ok {
			k = uint32(len(parties))
			known[party], parties, ends = k, append(parties, party), append(ends, 0)
		}
		of[i] = k
		ends[k]++
	}
	at := uint32(0)
	order := inOrder(len(parties), func(a, b uint32) int { return strings.Compare(parties[a], parties[b]) })
	for _, k := range order {
		at, ends[k] = at+ends[k], at
	}
	out := make([]uint32, len(grants))
	for i, k := range of {
		out[ends[k]] = uint32(i)
		ends[k]++
	}
	from := uint32(0)
	for _, k := range order {
		slices.SortFunc(out[from:ends[k]], func(a, b uint32) int { return strings.Compare(grants[a].Resource.ID, grants[b].Resource.ID) })
		from = ends[k]
	}
	return out
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
