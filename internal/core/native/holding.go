package native

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Records: what of our inventory a system keeps itself, as guests, grants or
// links, and how an entry of ours becomes a record there and back.
//
// An entry is a Thing: a few named texts, in our words, whatever the system. A
// Holding says for one kind which fields a system has and what it calls them.
// Whether two entries differ in what counts (Differs), which way a change goes
// (Turn), and whether a system can keep an entry without being looser (Keeps)
// is found from the fields alone.

// Field is one field of what a system keeps.
type Field struct {
	Name string // what the system calls it
	Of   string // what it is called here, as in Thing
	// Words are the system's words for the values of a field that has few, by
	// ours.
	Words map[string]string
	// Empty marks what must be empty: a record with something in it the system
	// cannot keep.
	Empty bool
	// Spaces marks a place that is a space alone, and nothing in it.
	Spaces bool
	// Free marks what is written along and is nobody's loss where it differs,
	// as who keeps a space.
	Free bool
}

// Holding is one kind of our inventory that a system keeps. Their own program
// stays the one that keeps them; we write what is meant and read what is there.
type Holding struct {
	Kind   string // one of thingFields
	Name   string // what the system calls them
	Title  string
	Fields []Field
	Span   time.Duration // how long a change takes to count
	Source bool          // people make them there too, so that it may be their source
	Says   string        // what of the kind it cannot keep, in a sentence
}

// Holding finds what a dialect keeps of a kind.
func (d *Dialect) Holding(kind string) (*Holding, bool) {
	i := slices.IndexFunc(d.Holdings, func(h Holding) bool { return h.Kind == kind })
	if i < 0 {
		return nil, false
	}
	return &d.Holdings[i], true
}

// Kinds lists what of our inventory systems of the dialect keep, in the order
// in which it is written.
func (d *Dialect) Kinds() (out []string) {
	for i := range d.Holdings {
		out = append(out, d.Holdings[i].Kind)
	}
	return
}

// CanBeSource lists the kinds of inventory that people make in systems of the
// dialect.
func (d *Dialect) CanBeSource() (out []string) {
	for i := range d.Holdings {
		if d.Holdings[i].Source {
			out = append(out, d.Holdings[i].Kind)
		}
	}
	return
}

// Thing is an entry of inventory as a system may keep it, in our words:
//
//	space      id, name, owner (an address)
//	group      id, name
//	person     address, name, groups (ids with blanks between)
//	guest      address, standing (in or out), sponsor (an address), groups
//	grant      address, resource, role, from, until
//	link       id, item, right, until, for (addresses with blanks between), by (an address)
//	forwarder  mailbox (an address), to, keep_copy (yes or no), set_by
//	meeting    id, name, host (an address)
//
// Moments are written as RFC 3339 has it; an empty one is none. Nil is no
// entry. Only strings, because that is what goes over any wire.
type Thing map[string]string

// Kept is one record of a system, in its own words. Fields are as they came.
type Kept struct {
	ID     string // there: it never changes
	Fields map[string]string
	By     string // who made it there, where the system tells
	Opened *int   // how often it was opened; nil where the system does not tell
}

// Names translates between what things are called here and there. The caller
// knows the inventory and what became of it there.
type Names interface {
	Person(address string) (id string, ok bool) // of ours
	Native(space string) (id string, ok bool)   // what a space of ours is there
	Space(native string) (id string, ok bool)   // and back
	SpaceOf(item string) (space string)         // in which an item is; empty where it is none of ours
}

// Key returns what an entry is known by here; empty where it cannot be known:
// it names somebody or something that is not ours.
func (t Thing) Key(kind string, n Names) string {
	switch kind {
	case "space", "link", "meeting", "group":
		return t["id"]
	case "guest":
		return t["address"]
	case "person":
		id, _ := n.Person(t["address"])
		return id
	case "grant":
		if t["resource"] == "" || t["address"] == "" {
			return ""
		}
		return t["address"] + " " + t["resource"]
	case "forwarder":
		if id, ok := n.Person(t["mailbox"]); ok && t["to"] != "" {
			return id + " to " + t["to"]
		}
	}
	return ""
}

// PlaceThere is what a system calls a space, or an item: its space, and in it
// the item as it is called here. ok is false where the space is not there.
func PlaceThere(ref string, n Names) (string, bool) {
	if id, is := strings.CutPrefix(ref, "meeting:"); is { // it is known by its own id
		return id, true
	}
	if id, is := strings.CutPrefix(ref, "space:"); is {
		return n.Native(id)
	}
	_, id, _ := strings.Cut(ref, ":")
	space, ok := n.Native(n.SpaceOf(id))
	return space + "/" + ref, ok
}

// Write says an entry in the system's words; ok is false where it names a space
// that is not there yet. Fields that the system does not have are left out; see
// Keeps for when that would be looser.
func (h *Holding) Write(t Thing, n Names) (fields map[string]string, ok bool) {
	fields = map[string]string{}
	for _, f := range h.Fields {
		v := t[f.Of]
		if f.Of == "resource" || f.Of == "item" {
			if v, ok = PlaceThere(v, n); !ok {
				return nil, false
			}
		}
		if f.Words != nil {
			v = f.Words[v]
		}
		fields[f.Name] = v
	}
	return fields, true
}

// Read says a record of the system in our words. unread names a field whose
// word is not known; what it means is left out. It never fails: what is not
// understood is told, and the rest counts.
func (h *Holding) Read(fields map[string]string, n Names) (t Thing, unread string) {
	t = Thing{}
	for _, f := range h.Fields {
		v := fields[f.Name]
		switch {
		case f.Words != nil:
			ours := ""
			for o, w := range f.Words {
				if w == v {
					ours = o
				}
			}
			if v = ours; v == "" {
				unread = fmt.Sprintf("%s is %q, which is not known", f.Name, fields[f.Name])
			}
		case f.Of == "resource", f.Of == "item":
			space, item, inside := strings.Cut(v, "/")
			if v = item; !inside {
				v = ""
				if id, ok := n.Space(space); ok {
					v = "space:" + id
				}
			}
		case f.Of == "address", f.Of == "to":
			if a, err := addr.Parse(v); err == nil {
				v = a.String()
			} else {
				unread = fmt.Sprintf("%s is %q, which is no address", f.Name, v)
				v = ""
			}
		case f.Of == "groups":
			v = inOrder(strings.Fields(v))
		case f.Of == "from", f.Of == "until":
			if at, err := moment.Parse(v); err == nil {
				v = at.String()
			} else if v != "" {
				unread = fmt.Sprintf("%s is %q, which is no moment", f.Name, v)
			}
		}
		t[f.Of] = v
	}
	return t, unread
}

// Keeps reports whether the system can keep an entry: it has a word for what it
// says, and a field for what would be looser without it. What begins later is
// kept once it has begun. What a system cannot keep is not written there, and
// told.
func (h *Holding) Keeps(t Thing) bool {
	for _, must := range []string{"from", "for"} {
		if t[must] != "" && !slices.ContainsFunc(h.Fields, func(f Field) bool { return f.Of == must }) {
			return false
		}
	}
	return !slices.ContainsFunc(h.Fields, func(f Field) bool {
		return f.Empty && t[f.Of] != "" || f.Spaces && !strings.HasPrefix(t[f.Of], "space:") || f.Words != nil && f.Words[t[f.Of]] == ""
	})
}

// Differs reports whether two entries differ in what counts.
func (h *Holding) Differs(a, b Thing) bool {
	if (a == nil) != (b == nil) {
		return true
	}
	return slices.ContainsFunc(h.Fields, func(f Field) bool { return !f.Free && a[f.Of] != b[f.Of] })
}

// opensMore says of two values of a field which lets through more: 1 the
// second, -1 the first. 0 where neither can be said to.
func opensMore(field, was, is string) int {
	rank := map[string]map[string]int{
		"standing":  {"out": 0, "in": 1},
		"role":      {"view": 1, "contribute": 2, "manage": 3},
		"right":     {"view": 1, "contribute": 2, "manage": 3},
		"keep_copy": {"yes": 0, "no": 1},
	}
	if r, ok := rank[field]; ok {
		a, okA := r[was]
		b, okB := r[is]
		switch {
		case !okA || !okB:
			return 0
		case b > a:
			return 1
		}
		return -1
	}
	if field != "from" && field != "until" {
		return 0
	}
	none := moment.Always // of a beginning
	if field == "until" {
		none = moment.Never
	}
	at := func(s string) moment.Moment {
		if m, err := moment.Parse(s); err == nil {
			return m
		}
		return none
	}
	if later := at(is) > at(was); later == (field == "until") { // a later end opens more, a later beginning less
		return 1
	}
	return -1
}

// Turn says which way a record goes from one state to another: nil is that it
// is not there. A new record loosens, one that goes tightens, whatever is in
// it.
func (h *Holding) Turn(was, is Thing) Turn {
	switch {
	case !h.Differs(was, is):
		return Same
	case was == nil:
		return Loosens
	case is == nil:
		return Tightens
	}
	loosens, tightens := false, false
	for _, f := range h.Fields {
		if f.Free || was[f.Of] == is[f.Of] || f.Of == "name" {
			continue
		}
		switch opensMore(f.Of, was[f.Of], is[f.Of]) {
		case 1:
			loosens = true
		case -1:
			tightens = true
		default:
			loosens, tightens = true, true
		}
	}
	return turnOf(loosens, tightens)
}

// Looser reports whether an entry lets through more than another: nil lets
// nothing through.
func Looser(kind string, than, t Thing) bool {
	h := Holding{Kind: kind}
	for _, f := range thingFields[kind] {
		h.Fields = append(h.Fields, Field{Of: f, Free: f == "owner" || f == "sponsor" || f == "by"})
	}
	turn := h.Turn(than, t)
	return turn == Loosens || turn == Both
}

// Text writes an entry in one line: its fields in the order of the holding,
// those that say something.
func (h *Holding) Text(t Thing) string {
	if t == nil {
		return "not there"
	}
	var out []string
	for _, f := range h.Fields {
		if v := t[f.Of]; v != "" {
			out = append(out, f.Of+" "+v)
		}
	}
	return strings.Join(out, ", ")
}

// Clone copies an entry.
func (t Thing) Clone() Thing { return maps.Clone(t) }

// end writes an end; nothing for none.
func end(m moment.Moment) string {
	if m == moment.Never || m == moment.Always {
		return ""
	}
	return m.String()
}

// yes writes a yes or no.
func yes(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}

// SpaceThing says what a system should keep of a space; address finds that of a
// person of ours.
func SpaceThing(s *world.Space, address func(person string) string) Thing {
	t := Thing{"id": s.ID, "name": s.Name, "owner": ""}
	if len(s.Owners) > 0 {
		t["owner"] = address(s.Owners[0])
	}
	return t
}

// inOrder puts ids in order, with blanks between.
func inOrder(ids []string) string { return strings.Join(slices.Sorted(slices.Values(ids)), " ") }

// PersonThing says what a system should keep of one of ours: nothing once they
// have left, or where they have no address.
func PersonThing(p *world.Person, at moment.Moment) Thing {
	if p.Address.IsZero() || p.Left != 0 && p.Left <= at {
		return nil
	}
	return Thing{"address": p.Address.String(), "name": p.Name, "groups": inOrder(p.Groups)}
}

// GroupThing says what a system should keep of a group.
func GroupThing(g *world.Group) Thing { return Thing{"id": g.ID, "name": g.Name} }

// GuestThing says what a system should keep of a guest, who is in those groups:
// nothing until they have accepted.
func GuestThing(g *world.Guest, groups []string, address func(person string) string) Thing {
	t := Thing{"address": g.Address.String(), "standing": "in", "sponsor": address(g.Sponsor), "groups": inOrder(groups)}
	switch g.State {
	case world.StateInvited:
		return nil
	case world.StateSuspended:
		t["standing"] = "out"
	}
	return t
}

// GrantThings says what a system should keep of what one party was given: for
// each resource the loosest role that has not ended. Groups, partners and
// domains as a whole are kept by none.
func GrantThings(list []world.Grant, at moment.Moment) map[string]Thing {
	out := map[string]Thing{}
	for i := range list {
		g := &list[i]
		if g.Address.IsZero() || g.Until <= at {
			continue
		}
		t := Thing{"address": g.Address.String(), "resource": g.Resource.String(), "role": g.Role.String(), "from": "", "until": end(g.Until)}
		if g.From > at {
			t["from"] = g.From.String()
		}
		key := t.Key("grant", nil)
		if old := out[key]; old == nil || roleOf(old["role"]) < g.Role ||
			roleOf(old["role"]) == g.Role && opensMore("until", old["until"], t["until"]) > 0 {
			out[key] = t
		}
	}
	return out
}

// roleOf reads a role; NoRole for anything else.
func roleOf(s string) catalogue.Role {
	r, _ := catalogue.ParseRole(s)
	return r
}

// LinkThing says what a system should keep of a link: nothing once it has
// ended.
func LinkThing(l *world.Link, at moment.Moment, address func(person string) string) Thing {
	if l.Until <= at {
		return nil
	}
	t := Thing{"id": l.ID, "item": l.Item.String(), "right": l.Right.String(), "until": end(l.Until), "by": address(l.By), "for": ""}
	if !l.Bearer() {
		var names []string
		for _, a := range l.For {
			names = append(names, a.String())
		}
		slices.Sort(names)
		t["for"] = strings.Join(names, " ")
	}
	return t
}

// ForwarderThing says what a system should keep of a forwarder.
func ForwarderThing(f *world.Forwarder, address func(person string) string) Thing {
	return Thing{"mailbox": address(f.Mailbox), "to": f.To.String(), "keep_copy": yes(f.KeepCopy), "set_by": f.SetBy}
}

// MeetingThing says what a system should keep of a meeting.
func MeetingThing(m *world.Meeting, address func(person string) string) Thing {
	return Thing{"id": m.ID, "name": m.Name, "host": address(m.Host)}
}

// As says as whom a trial comes. No trial is made with a real person's account.
type As string

// The classes of party that a trial account is made for (systems.md §6).
const (
	Stranger As = "stranger" // somebody with an address that nobody has
	AGuest   As = "guest"    // a guest made for the trial
	AHolder  As = "holder"   // whoever holds a link made for the trial
	OneOurs  As = "ours"     // one of ours whose name is lent to it: nothing reaches them
)

// Attempt is one attempt from outside. Trials are described in systems.md §6:
// an attempt from outside, and what came of it. Accounts and links for it are
// made for the one attempt and taken away afterwards.
type Attempt struct {
	Action string
	As     As
	From   string // the address that it comes from, made for it
	To     string // an address that it goes to: of an action of ours one made for it, else that of the one of ours concerned
	Place  string // the space or item, as the system calls it
	// Administrator marks one of ours whose work is an administrator's.
	Administrator bool
	Private       bool // From is an account of nobody's organisation
}

// Attempted is what came of an attempt. A trial that could not be made says
// nothing of what is admitted.
type Attempted struct {
	Known    bool // the system can try it
	Admitted bool
	Says     string // in its words
	Theirs   bool   // it was refused at the other end, by the house that it comes from
	Making   bool   // the account or the link for it was refused: that was the trial
}
