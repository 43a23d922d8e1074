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
