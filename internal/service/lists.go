package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// listColumns are the columns of each list: fields of the file format, in its order.
// Those in many hold several values, between semicolons.
var listColumns = map[string][]string{
	"guests": {
		"address",
		"name",
		"sponsor",
		"purpose",
		"state",
		"cause",
		"state_since",
		"origins",
		"since",
		"accepted",
		"renewed",
		"until",
		"terms",
		"last_seen",
		"language",
		"location",
		"licence",
		"home_closed",
	},
	"grants":   {"party", "resource", "role", "from", "until", "sponsor", "reviewed"},
	"holdings": {"party", "bundle", "from", "until", "sponsor", "reviewed"},
	"links":    {"id", "item", "for", "right", "created", "until", "download", "password", "by"},
	"spaces":   {"id", "name", "kind", "joinable", "joins_as", "house_licence", "owners", "members", "parties"},
	"people":   {"id", "name", "address", "groups", "roles", "language", "left"},
}

var listMany = map[string]bool{
	"origins": true,
	"for":     true,
	"owners":  true,
	"members": true,
	"parties": true,
	"groups":  true,
	"roles":   true,
}

// listNeeds are the columns that a file must have.
var listNeeds = map[string][]string{
	"guests":   {"address"},
	"grants":   {"party", "resource", "role"},
	"holdings": {"party", "bundle"},
	"links":    {"id"},
	"spaces":   {"id"},
	"people":   {"id"},
}

// ListKind is a list that can be taken in and out.
type ListKind struct {
	What                 string
	Columns, Needs, Many []string // needs are those that a file must have, many those that hold several values
}

// Lists returns which lists there are.
func Lists() (out []ListKind) {
	for _, what := range []string{"guests", "grants", "holdings", "links", "spaces", "people"} {
		k := ListKind{What: what, Columns: listColumns[what], Needs: listNeeds[what], Many: []string{}}
		for _, c := range k.Columns {
			if listMany[c] {
				k.Many = append(k.Many, c)
			}
		}
		out = append(out, k)
	}
	return
}

// ListError is what is wrong with a line.
type ListError struct {
	Line                int
	Column, Value, Text string
}

// ListChange is what a line changes.
type ListChange struct {
	Line     int
	What, ID string // added, changed, same
}

// ListTaken is what taking in a list changed, or would.
type ListTaken struct {
	Lines, Added, Changed, Same int
	Columns                     map[string]string // ours by theirs
	Ignored                     []string
	Errors                      []ListError
	Sample                      []ListChange // the first hundred
	Going                       *Waiting     // what the dates of guests who are new would set going; nil where none are
	Waits                       bool         // they wait until an administrator releases them
}

// listRow is one line, by our columns.
type listRow struct {
	line   int
	values map[string]string
}

// PutList takes in a list, all or nothing: errors are told line by line, and then nothing
// changes. A column that is not there leaves what it is about; an empty cell empties it.
// columns says which of theirs is which of ours where names differ.
func (s *Service) PutList(
	ctx context.Context,
	who Who,
	why, what, format string,
	columns map[string]string,
	in io.Reader,
	preview bool,
) (*ListTaken, error) {
	if listColumns[what] == nil {
		return nil, fmt.Errorf("%w: there is no list %q", ErrNotFound, what)
	}
	out := &ListTaken{Columns: map[string]string{}, Ignored: []string{}, Errors: []ListError{}, Sample: []ListChange{}}
	var rows []listRow
	var err error
	if format == "scim" {
		if what != "guests" {
			return nil, &Invalid{"format", "scim", "guests come as SCIM; the other lists as CSV"}
		}
		rows, err = scimRows(in)
	} else {
		rows, err = csvRows(what, columns, in, out)
	}
	if err != nil {
		return nil, err
	}
	out.Lines = len(rows)
	if why == "" {
		why = "list of " + what
	}
	err = s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		out.Added, out.Changed, out.Same, out.Errors, out.Sample = 0, 0, 0, []ListError{}, []ListChange{}
		kept := make([][]byte, len(rows))
		fields := make([][]worldfile.FieldAt, len(rows))
		texts := make([]string, len(rows))
		for i := range rows {
			old, err := oldDoc(t, what, rows[i].values)
			if err != nil {
				return err
			}
			kept[i] = old
			texts[i], fields[i] = rowText(what, rows[i].values, old)
		}
		// What is wrong may hide what else is: lines that are wrong are told and left out, and
		// the others read again.
		left := make([]int, len(rows))
		for i := range left {
			left[i] = i
		}
		var part *world.World
		for part == nil && len(left) > 0 {
			var text bytes.Buffer
			text.WriteString("wexillum: 1\n" + what + ":\n")
			for _, i := range left {
				text.WriteString(texts[i])
			}
			w, err := worldfile.Read(text.Bytes(), worldfile.Options{File: what, Now: s.Now(), Known: now})
			var es worldfile.Errors
			if !errors.As(err, &es) {
				if err != nil {
					return err
				}
				part = w
				break
			}
			bad := map[int]bool{}
			for _, e := range es {
				x := listError(rows, left, fields, e)
				out.Errors = append(out.Errors, x)
				if k := e.Line - 3; k >= 0 && k < len(left) {
					bad[left[k]] = true
				}
			}
			if len(bad) == 0 {
				return errPreview
			}
			left = slices.DeleteFunc(left, func(i int) bool { return bad[i] })
		}
		if part == nil {
			if len(rows) == 0 {
				return nil
			}
			return errPreview
		}
		n := 0
		note := func(k int, id string, doc []byte) {
			if k >= len(left) {
				return
			}
			i := left[k]
			c := ListChange{rows[i].line, "same", id}
			switch {
			case kept[i] == nil:
				c.What = "added"
				out.Added++
			case !sameDoc(kept[i], doc):
				c.What = "changed"
				out.Changed++
			default:
				out.Same++
			}
			if n++; n <= 100 {
				out.Sample = append(out.Sample, c)
			}
		}
		for i := range part.Guests {
			g := &part.Guests[i]
			if m := now.Match(g.Address); m.Own {
				out.Errors = append(
					out.Errors,
					ListError{
						rows[left[i]].line,
						"address",
						g.Address.String(),
						"it is one of our own addresses; our people do not become guests",
					},
				)
			}
			note(i, g.Address.String(), worldfile.GuestDoc(g))
		}
		for i := range part.Grants {
			note(i, worldfile.GrantKey(&part.Grants[i]), worldfile.GrantDoc(&part.Grants[i]))
		}
		for i := range part.Links {
			note(i, part.Links[i].ID, worldfile.LinkDoc(&part.Links[i]))
		}
		for i := range part.Spaces {
			note(i, part.Spaces[i].ID, worldfile.SpaceDoc(&part.Spaces[i]))
		}
		for i := range part.People {
			note(i, part.People[i].ID, worldfile.PersonDoc(&part.People[i]))
		}
		if len(out.Errors) > 0 {
			return errPreview
		}
		if len(part.Guests) > 0 {
			var l Loaded
			if err := s.takeOver(ctx, now, now.Policy(), part, t, &l, preview); err != nil {
				return err
			}
			out.Going, out.Waits = l.Going, l.Waits
		}
		if _, err := t.PutWorldInventory(part); err != nil {
			return err
		}
		if preview {
			return errPreview
		}
		return nil
	})
	sort.SliceStable(out.Errors, func(i, j int) bool { return out.Errors[i].Line < out.Errors[j].Line })
	return out, err
}

func sameDoc(a, b []byte) bool {
	var x, y map[string]any
	if json.Unmarshal(a, &x) != nil || json.Unmarshal(b, &y) != nil {
		return false
	}
	return fmt.Sprint(x) == fmt.Sprint(y)
}

// oldDoc returns what there is of a row already.
func oldDoc(t *store.Tx, what string, v map[string]string) ([]byte, error) {
	switch what {
	case "guests":
		g, err := t.Guest(asKept(v["address"]))
		if err != nil || g == nil {
			return nil, err
		}
		return worldfile.GuestDoc(g), nil
	case "grants":
		list, err := t.Grants(asKept(v["party"]))
		if err != nil {
			return nil, err
		}
		for i := range list {
			var m map[string]any
			doc := worldfile.GrantDoc(&list[i])
			if json.Unmarshal(doc, &m) != nil || m["resource"] != v["resource"] || m["role"] != v["role"] {
				continue
			}
			from, _ := m["from"].(string)
			if want := v["from"]; want == from || len(want) == 10 && strings.HasPrefix(from, want) { // a day is read as its start
				return doc, nil
			}
		}
		return nil, nil
	}
	if what == "holdings" {
		return t.Record("holding", world.HoldingKey(asKept(v["party"]), strings.TrimSpace(v["bundle"])))
	}
	return t.Record(map[string]string{"links": "link", "spaces": "space", "people": "person"}[what], strings.TrimSpace(v["id"]))
}

// List writes a list as CSV while it is read, or guests as a SCIM list response.
func (s *Service) List(ctx context.Context, what, format string, to io.Writer) error {
	columns, ok := listColumns[what]
	if !ok {
		return fmt.Errorf("%w: there is no list %q", ErrNotFound, what)
	}
	if format == "scim" && what != "guests" {
		return &Invalid{"format", "scim", "guests come as SCIM; the other lists as CSV"}
	}
	l := &listed{section: what}
	if format == "scim" { // which says first how many there are
		var docs [][]byte
		l.entry = func(w *world.World) error {
			docs = append(docs, worldfile.GuestDoc(&w.Guests[0]))
			return nil
		}
		if _, err := s.store.Read(ctx, store.Head{}, l); err != nil {
			return err
		}
		return writeSCIM(docs, to)
	}
	out := sheet.NewWriter(to)
	if err := out.Write(columns); err != nil {
		return err
	}
	l.entry = func(w *world.World) error { return worldfile.Cells(w, what, columns, out.Write) }
	if _, err := s.store.Read(ctx, store.Head{}, l); err != nil || l.err != nil {
		return errors.Join(err, l.err)
	}
	out.Flush()
	return out.Error()
}

func writeSCIM(docs [][]byte, to io.Writer) error {
	list := scimResponse{Schemas: []string{scimList}, Total: len(docs), Start: 1, PerPage: len(docs), Resources: []scimResource{}}
	for _, doc := range docs {
		var m map[string]json.RawMessage
		if err := json.Unmarshal(doc, &m); err != nil {
			return err
		}
		text := func(k string) (s string) {
			_ = json.Unmarshal(m[k], &s)
			return
		}
		active := text("state") == "active"
		r := scimResource{
			Schemas:     []string{scimUser, scimGuest},
			ID:          text("address"),
			UserName:    text("address"),
			DisplayName: text("name"),
			Emails:      []scimMail{{text("address"), true}},
			Active:      &active,
			Language:    text("language"),
			Guest:       map[string]json.RawMessage{},
			Meta:        &scimMeta{"User"},
		}
		for _, k := range listColumns["guests"] {
			if v, ok := m[k]; ok && k != "address" && k != "name" && k != "language" {
				r.Guest[k] = v
			}
		}
		list.Resources = append(list.Resources, r)
	}
	enc := json.NewEncoder(to)
	enc.SetIndent("", " ")
	return enc.Encode(list)
}
