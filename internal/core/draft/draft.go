// Package draft computes with edits of policy: what two policies differ in, how
// edits are brought up to date when the policy has moved, and whether they
// loosen anything. An edit is about one entry of policy, written as the file
// format has it, in JSON. The package has no I/O.
//
// A draft is a list of edits and no copy of the policy. So two people may draft
// at once, and whoever publishes second has their edits moved onto what the
// first has published (Rebase): edits of other entries, and of other fields of
// one entry, are joined; what both changed otherwise is a conflict, which the
// author settles.
//
//	live when drafted  {"name": "Lantern", "owner": "uma"}
//	the draft          {"name": "Lantern", "owner": "lars"}
//	live by now        {"name": "Lantern Ltd", "owner": "uma"}
//	rebased            {"name": "Lantern Ltd", "owner": "lars"}
//
// Loosens is what decides whether a second person has to confirm. It never
// takes a loosening for a tightening: a field that it does not know counts as
// looser.
package draft

import (
	"bytes"
	"encoding/json"
	"fmt"
	"sort"
	"strings"
)

// Key names an entry of policy: its kind (organisation, settings, rule,
// partner, bar, personal, exception, bundle, expectation) and its id there.
type Key struct{ Kind, ID string }

func (k Key) String() string { return k.Kind + " " + k.ID }

// Docs is a policy, entry by entry. Documents are compared byte by byte, so all
// of them must have been written by the same codec.
type Docs map[Key][]byte

// Edit is a change of one entry: from what it was where the edit was made to
// what it becomes; nil where there was, or is to be, no such entry.
//
// With what it was and what it becomes an edit can be turned around, moved onto
// a policy that has gone on, and shown, without the policy it was made from. At
// is RFC 3339.
type Edit struct {
	Kind string          `json:"kind"`
	ID   string          `json:"id"`
	Was  json.RawMessage `json:"was,omitempty"`
	Now  json.RawMessage `json:"now,omitempty"`
	By   string          `json:"by"`
	At   string          `json:"at"`
	Why  string          `json:"why,omitempty"`
}

// Key returns what the edit is about.
func (e *Edit) Key() Key { return Key{e.Kind, e.ID} }

// Diff lists what next has otherwise than live, in the order of kinds and ids.
// Who made an edit that old holds already stays told. by, at (RFC 3339) and why
// are of the edits that are new.
//
// An edit that stays the same keeps its author, moment and reason, so that a
// draft which is saved again by somebody else does not become theirs.
func Diff(live, next Docs, old []Edit, by, at, why string) []Edit {
	had := map[Key]Edit{}
	for _, e := range old {
		had[e.Key()] = e
	}
	var out []Edit
	add := func(k Key, was, now []byte) {
		e := Edit{Kind: k.Kind, ID: k.ID, Was: was, Now: now, By: by, At: at, Why: why}
		if o, ok := had[k]; ok && bytes.Equal(o.Now, now) {
			e.By, e.At, e.Why = o.By, o.At, o.Why
		}
		out = append(out, e)
	}
	for k, now := range next {
		if was, ok := live[k]; !ok {
			add(k, nil, now)
		} else if !bytes.Equal(was, now) {
			add(k, was, now)
		}
	}
	for k, was := range live {
		if _, ok := next[k]; !ok {
			add(k, was, nil)
		}
	}
	Sort(out)
	return out
}

// Sort puts edits in the order of their kinds and ids. Maps have no order;
// whoever reads a draft twice should see it in the same one.
func Sort(edits []Edit) {
	sort.Slice(edits, func(i, j int) bool {
		if edits[i].Kind != edits[j].Kind {
			return edits[i].Kind < edits[j].Kind
		}
		return edits[i].ID < edits[j].ID
	})
}

// Conflict is an edit of something that was changed otherwise meanwhile.
type Conflict struct {
	Edit   Edit
	Live   []byte   // what it is now; nil where it is gone
	Fields []string // those that both changed; empty where one took all of it away
}

// Rebase brings edits up to date with what is live. Edits that are live already
// are left out; where both changed other fields of one entry, both count; the
// others are conflicts, which keep the edit as it was.
//
// It is a merge with three sides, entry by entry and below that field by field:
// what it was, what the draft makes of it, and what others have published
// since.
func Rebase(edits []Edit, live Docs) (clean []Edit, conflicts []Conflict) {
	for _, e := range edits {
		now := live[e.Key()]
		switch {
		case bytes.Equal(now, e.Was) && (now == nil) == (e.Was == nil):
			clean = append(clean, e)
		case bytes.Equal(now, e.Now) && (now == nil) == (e.Now == nil):
		// One side took the entry away, or both made one of the same name:
		// nothing can be joined there.
		case now == nil || e.Was == nil || e.Now == nil:
			conflicts = append(conflicts, Conflict{Edit: e, Live: now})
		default:
			merged, fields := merge(e.Was, e.Now, now, "")
			if len(fields) > 0 {
				conflicts = append(conflicts, Conflict{e, now, fields})
				continue
			}
			if !bytes.Equal(merged, now) {
				e.Was, e.Now = now, merged
				clean = append(clean, e)
			}
		}
	}
	return
}

// Keep makes an edit count that is in conflict: as if it had been made just
// now.
func Keep(c Conflict) Edit {
	c.Edit.Was = c.Live
	return c.Edit
}

// object reads a JSON object keeping the order of its fields. The standard
// library's maps lose the order, and a document that was merged has to be
// written as the codec would write it. ok is false for whatever is no object.
func object(doc []byte) (keys []string, values map[string]json.RawMessage, ok bool) {
	d := json.NewDecoder(bytes.NewReader(doc))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, nil, false
	}
	values = map[string]json.RawMessage{}
	for d.More() {
		t, err := d.Token()
		if err != nil {
			return nil, nil, false
		}
		var v json.RawMessage
		if err := d.Decode(&v); err != nil {
			return nil, nil, false
		}
		k := t.(string)
		keys, values[k] = append(keys, k), v
	}
	return keys, values, true
}

// list reads a JSON array without reading what is in it.
func list(doc []byte) (out []json.RawMessage, ok bool) {
	if len(doc) == 0 || doc[0] != '[' {
		return nil, false
	}
	return out, json.Unmarshal(doc, &out) == nil
}

// merge joins what two sides made of was, and returns the fields that both
// changed, by their paths with dots between. Objects are joined field by field,
// lists as sets. Anything else that both changed is a conflict, and then theirs
// is returned in its place. nil stands for a field that is not there.
func merge(was, mine, theirs []byte, path string) (out []byte, fields []string) {
	switch {
	// Only mine changed, or both changed it alike.
	case bytes.Equal(mine, theirs), bytes.Equal(theirs, was):
		return mine, nil
	case bytes.Equal(mine, was):
		return theirs, nil
	}
	_, a, ok0 := object(was)
	mk, b, ok1 := object(mine)
	tk, c, ok2 := object(theirs)
	if ok1 && ok2 && (ok0 || len(was) == 0) {
		var buf bytes.Buffer
		buf.WriteByte('{')
		seen := map[string]bool{}
		// In the order of what is live; fields that only the draft has come
		// last.
		for _, k := range append(append([]string{}, tk...), mk...) {
			if seen[k] {
				continue
			}
			seen[k] = true
			at := k
			if path != "" {
				at = path + "." + k
			}
			// A field that is absent is nil, so that taking one away merges
			// like any other change.
			v, f := merge(a[k], b[k], c[k], at)
			fields = append(fields, f...)
			if v == nil {
				continue
			}
			if buf.Len() > 1 {
				buf.WriteByte(',')
			}
			name, _ := json.Marshal(k)
			buf.Write(name)
			buf.WriteByte(':')
			buf.Write(v)
		}
		buf.WriteByte('}')
		return buf.Bytes(), fields
	}
	x, ok0 := list(was)
	y, ok1 := list(mine)
	z, ok2 := list(theirs)
	// Lists of policy name things: domains, partners, rules of an exception.
	// Their order says nothing, so what either side added or took away counts.
	if ok1 && ok2 && (ok0 || len(was) == 0) { // a list is what is in it
		in := func(l []json.RawMessage, v []byte) bool {
			for _, o := range l {
				if bytes.Equal(o, v) {
					return true
				}
			}
			return false
		}
		out := []json.RawMessage{}
		for _, v := range z {
			if !in(x, v) || in(y, v) {
				out = append(out, v)
			}
		}
		for _, v := range y {
			if !in(x, v) && !in(z, v) {
				out = append(out, v)
			}
		}
		doc, err := json.Marshal(out)
		if err != nil {
			return nil, []string{path}
		}
		return doc, nil
	}
	if path == "" {
		path = "all of it"
	}
	return theirs, []string{path}
}

// Change is one field that an edit changes; empty texts where there is none.
type Change struct{ Field, Was, Now string }

// Changes lists the fields that an edit changes, in the order of their names.
// An entry that comes or goes is told field by field too.
func (e *Edit) Changes() []Change {
	var out []Change
	walk(e.Was, e.Now, "", &out)
	sort.SliceStable(out, func(i, j int) bool { return out[i].Field < out[j].Field })
	return out
}

// walk lists the fields in which two records differ, by their paths, down to
// those that hold no further fields. Of lists each entry that came or went is a
// change of its own.
func walk(was, now []byte, path string, out *[]Change) {
	if bytes.Equal(was, now) {
		return
	}
	_, a, ok0 := object(was)
	_, b, ok1 := object(now)
	if (ok0 || len(was) == 0) && (ok1 || len(now) == 0) {
		seen := map[string]bool{}
		for _, m := range []map[string]json.RawMessage{a, b} {
			for k := range m {
				if !seen[k] {
					seen[k] = true
					at := k
					if path != "" {
						at = path + "." + k
					}
					walk(a[k], b[k], at, out)
				}
			}
		}
		return
	}
	x, ok0 := list(was)
	y, ok1 := list(now)
	if (ok0 || len(was) == 0) && (ok1 || len(now) == 0) {
		in := func(l []json.RawMessage, v []byte) bool {
			for _, o := range l {
				if bytes.Equal(o, v) {
					return true
				}
			}
			return false
		}
		for _, v := range x {
			if !in(y, v) {
				*out = append(*out, Change{path, plain(v), ""})
			}
		}
		for _, v := range y {
			if !in(x, v) {
				*out = append(*out, Change{path, "", plain(v)})
			}
		}
		return
	}
	*out = append(*out, Change{path, plain(was), plain(now)})
}

// plain writes a value without the marks of JSON where they say nothing. It is
// for reading, and is not read back.
func plain(v []byte) string {
	if len(v) == 0 {
		return ""
	}
	var s string
	if json.Unmarshal(v, &s) == nil {
		return s
	}
	if keys, values, ok := object(v); ok {
		var parts []string
		for _, k := range keys {
			parts = append(parts, k+": "+plain(values[k]))
		}
		return strings.Join(parts, ", ")
	}
	if l, ok := list(v); ok {
		var parts []string
		for _, x := range l {
			parts = append(parts, plain(x))
		}
		return strings.Join(parts, ", ")
	}
	return string(v)
}

// Title says in a few words what an edit does. It goes on from "this draft
// would …".
func (e *Edit) Title() string {
	name := e.ID
	switch {
	case e.Kind == "organisation", e.Kind == "settings":
		return "change the " + e.Kind
	case e.Kind == "rule" && e.Now == nil:
		return "leave " + name + " as at the start"
	case e.Kind == "rule":
		return "set " + name
	case e.Kind == "bar" && e.Was == nil:
		return "bar " + name
	case e.Kind == "bar" && e.Now == nil:
		return "lift the bar on " + name
	case e.Kind == "personal":
		name = "the personal domain " + name
	default:
		name = "the " + e.Kind + " " + name
	}
	switch {
	case e.Was == nil:
		return "add " + name
	case e.Now == nil:
		return "remove " + name
	}
	return "change " + name
}

// Titles says in a few words what edits do.
func Titles(edits []Edit) string {
	switch len(edits) {
	case 0:
		return "nothing yet"
	case 1:
		return edits[0].Title()
	}
	lead := 0 // a rule leads: what it holds back follows from it
	for i := range edits {
		if edits[i].Kind == "rule" {
			lead = i
			break
		}
	}
	return fmt.Sprintf("%s and %d more", edits[lead].Title(), len(edits)-1)
}
