package worldfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Write writes the sections of w that are asked for, or all for none, in a
// stable order. Reading it back gives the same world.
func Write(w *world.World, sections ...string) []byte {
	var b bytes.Buffer
	out := NewWriter(&b, w.Organisation, sections...)
	if err := errors.Join(out.Add(w), out.Close()); err != nil {
		panic("worldfile: " + err.Error()) // a buffer takes everything
	}
	return b.Bytes()
}

// Writer writes a file while what stands in it comes, so that memory holds an entry at a time.
type Writer struct {
	out   io.Writer
	buf   []byte
	wr    writer
	asked []string
	at    int  // the kind at which it is, in the order of the file
	begun bool // whether its section has begun
	err   error
}

// writeAt is how much is written at a time, in bytes.
const writeAt = 64 << 10

// NewWriter begins a file of the sections that are asked for, or of all for none. Dates count in the zone of the organisation.
func NewWriter(to io.Writer, of *world.Organisation, sections ...string) *Writer {
	x := &Writer{out: to, wr: writer{zone: time.UTC}, asked: sections, buf: []byte("wexillum: 1\n")}
	if of != nil && of.Zone != nil {
		x.wr.zone = of.Zone
	}
	return x
}

// Add writes what w holds. Sections come in the order of the file: entries may be added to the section that was written last, and
// what would stand before it is no more taken.
func (x *Writer) Add(w *world.World) error {
	for i := x.at; i < len(kinds) && x.err == nil; i++ {
		k := &kinds[i]
		if len(x.asked) > 0 && !slices.Contains(x.asked, k.section) {
			continue
		}
		if k.each != nil {
			k.each(&x.wr, w, func(t *tree) {
				if x.begin(i) {
					x.buf = append(x.buf, '\n')
				}
				x.buf = t.item(x.buf, 2)
				x.flush(writeAt)
			})
			continue
		}
		if t := k.write(&x.wr, w); t.kind != scalar && len(t.list) > 0 && x.begin(i) {
			x.buf = t.block(x.buf, 2, true)
			x.flush(writeAt)
		}
	}
	return x.err
}

// begin begins the section of a kind; false where it has begun.
func (x *Writer) begin(i int) bool {
	if x.begun && x.at == i {
		return false
	}
	x.at, x.begun = i, true
	x.buf = append(append(x.buf, kinds[i].section...), ':')
	return true
}

// flush hands over what has been written once it is so many bytes.
func (x *Writer) flush(least int) {
	if len(x.buf) < least || x.err != nil {
		return
	}
	_, x.err = x.out.Write(x.buf)
	x.buf = x.buf[:0]
}

// Note writes a line for people, which is not read.
func (x *Writer) Note(text string) { x.buf = append(append(append(x.buf, "# "...), text...), '\n') }

// Close hands over the rest.
func (x *Writer) Close() error {
	x.flush(1)
	return x.err
}

// Cells hands over the entries of a section of w as rows: each column has what the field of its name says, several values between
// semicolons. Dates count in UTC.
func Cells(w *world.World, section string, columns []string, row func([]string) error) (err error) {
	for i := range kinds {
		if kinds[i].section != section || kinds[i].each == nil {
			continue
		}
		kinds[i].each(&writer{zone: time.UTC}, w, func(t *tree) {
			cells := make([]string, len(columns))
			for k, name := range t.keys {
				at, v := slices.Index(columns, name), &t.list[k]
				switch {
				case at < 0:
				case v.kind == scalar:
					cells[at] = v.text
				case v.kind == sequence:
					several := make([]string, len(v.list))
					for j := range v.list {
						several[j] = v.list[j].text
					}
					cells[at] = strings.Join(several, ";")
				}
			}
			if err == nil {
				err = row(cells)
			}
		})
	}
	return err
}

func listOf[T any](wr *writer, fields []field[T], xs []T) tree {
	t := tree{kind: sequence}
	for i := range xs {
		t.list = append(t.list, record(wr, fields, &xs[i]))
	}
	return t
}

func ruleTree(s world.RuleSetting) tree {
	r := s.Rule.Get()
	t := tree{kind: mapping}
	if s.Limit != catalogue.Unset {
		t.set("limit", valueTree(r, s.Limit))
	}
	if s.Default != catalogue.Unset {
		v := valueTree(r, s.Default)
		if s.Held {
			h := tree{kind: mapping}
			h.set("value", v)
			h.set("held", leaf("yes"))
			if s.Counts != catalogue.Unset {
				h.set("counts", valueTree(r, s.Counts))
			}
			v = h
		}
		t.set("default", v)
	}
	return t
}

// A Doc is one record as JSON, for keeping it where a text column holds it and
// for showing it. Its dates count in UTC.
type Doc = json.RawMessage

func docOf[T any](fields []field[T], x *T) Doc {
	b, err := json.Marshal(record(&writer{zone: time.UTC}, fields, x))
	if err != nil {
		panic("worldfile: " + err.Error()) // a tree of texts always marshals
	}
	return b
}

func ofDoc[T any](doc Doc, what string, fields []field[T], x T) (T, error) {
	r := newReader(Options{Older: true}) // what is kept already is read
	n := r.parse(doc)
	if n != nil {
		object(r, n, what, fields, &x)
	}
	if len(r.errs) > 0 {
		return x, r.errs
	}
	return x, nil
}

// The kinds of record that are kept as docs, with their writers and readers.

func OrganisationDoc(x *world.Organisation) Doc { return docOf(organisationFields, x) }
func SettingsDoc(x *world.Settings) Doc         { return docOf(settingsFields, x) }
func PartnerDoc(x *world.Partner) Doc           { return docOf(partnerFields, x) }
func PartnerOf(d Doc) (world.Partner, error) {
	return ofDoc(d, "a partner", partnerFields, newPartner())
}
func ExpectationDoc(x *world.Expectation) Doc { return docOf(expectationFields, x) }
func ExceptionDoc(x *world.Exception) Doc     { return docOf(exceptionFields, x) }
func ExceptionOf(d Doc) (world.Exception, error) {
	return ofDoc(d, "an exception", exceptionFields, newException())
}
func BarDoc(x *world.Bar) Doc               { return docOf(barFields, x) }
func PersonDoc(x *world.Person) Doc         { return docOf(personFields, x) }
func PersonOf(d Doc) (world.Person, error)  { return ofDoc(d, "a person", personFields, world.Person{}) }
func DomainListDoc(x *world.DomainList) Doc { return docOf(domainListFields, x) }
func DomainListOf(d Doc) (world.DomainList, error) {
	return ofDoc(d, "a domain list", domainListFields, world.DomainList{})
}
func GroupDoc(x *world.Group) Doc        { return docOf(groupFields, x) }
func GroupOf(d Doc) (world.Group, error) { return ofDoc(d, "a group", groupFields, world.Group{}) }
func MeetingDoc(x *world.Meeting) Doc    { return docOf(meetingFields, x) }
func MeetingOf(d Doc) (world.Meeting, error) {
	return ofDoc(d, "a meeting", meetingFields, world.Meeting{})
}
func LinkDoc(x *world.Link) Doc          { return docOf(linkFields, x) }
func LinkOf(d Doc) (world.Link, error)   { return ofDoc(d, "a link", linkFields, newLink()) }
func GuestDoc(x *world.Guest) Doc        { return docOf(guestFields, x) }
func GuestOf(d Doc) (world.Guest, error) { return ofDoc(d, "a guest", guestFields, newGuest()) }
func GrantDoc(x *world.Grant) Doc        { return docOf(grantFields, x) }
func ItemDoc(x *world.Item) Doc          { return docOf(itemFields, x) }

// PlacedItemDoc writes an item with its space, as the journal does.
func PlacedItemDoc(x *world.Item) Doc {
	doc := docOf(itemFields, x)
	space, _ := json.Marshal(x.Space)
	return append([]byte(`{"space":`+string(space)+","), doc[1:]...)
}

// ItemOf reads an item, with its space where the doc names it.
func ItemOf(d Doc) (world.Item, error) {
	var x world.Item
	var m map[string]json.RawMessage
	if json.Unmarshal(d, &m) == nil && m["space"] != nil {
		if err := json.Unmarshal(m["space"], &x.Space); err != nil {
			return x, err
		}
		delete(m, "space")
		rest, err := json.Marshal(m)
		if err != nil {
			return x, err
		}
		d = rest
	}
	return ofDoc(d, "an item", itemFields, x)
}

func ForwarderOf(d Doc) (world.Forwarder, error) {
	return ofDoc(d, "a forwarder", forwarderFields, world.Forwarder{KeepCopy: true})
}
func ForwarderDoc(x *world.Forwarder) Doc  { return docOf(forwarderFields, x) }
func HoldingDoc(x *world.Holding) Doc      { return docOf(holdingFields, x) }
func BundleDoc(x *world.Bundle) Doc        { return docOf(bundleFields, x) }
func ContactDoc(x *world.Contact) Doc      { return docOf(contactFields, x) }
func GrantOf(d Doc) (world.Grant, error)   { return ofDoc(d, "a grant", grantFields, newGrant()) }
func LetterDoc(x *world.Letter) Doc        { return docOf(letterFields, x) }
func LetterOf(d Doc) (world.Letter, error) { return ofDoc(d, "a letter", letterFields, newLetter()) }
func StatementDoc(x *world.Statement) Doc  { return docOf(statementFields, x) }
func StatementOf(d Doc) (world.Statement, error) {
	return ofDoc(d, "a statement", statementFields, newStatement())
}
func HoldingOf(d Doc) (world.Holding, error) {
	return ofDoc(d, "a holding", holdingFields, newHolding())
}
func ContactOf(d Doc) (world.Contact, error) {
	return ofDoc(d, "a contact", contactFields, world.Contact{})
}

// SpaceDoc writes a space without its items, which are records of their own.
func SpaceDoc(x *world.Space) Doc {
	y := *x
	y.Items = nil
	return docOf(spaceFields, &y)
}
func SpaceOf(d Doc) (world.Space, error) { return ofDoc(d, "a space", spaceFields, world.Space{}) }

// EntryDoc writes a personal domain.
func EntryDoc(x *world.Entry) Doc {
	b, err := json.Marshal(entryTree(*x))
	if err != nil {
		panic("worldfile: " + err.Error())
	}
	return b
}

// EntryOf reads a personal domain.
func EntryOf(d Doc) (world.Entry, error) {
	r := newReader(Options{})
	var e world.Entry
	if n := r.parse(d); n != nil {
		e = r.entry(n)
	}
	if len(r.errs) > 0 {
		return e, r.errs
	}
	return e, nil
}

// StanceDoc writes what a partner's side says of one key.
func StanceDoc(x *world.Stance) Doc { return docOf(stanceFields, x) }

// StanceOf reads it back; the key is kept beside it.
func StanceOf(d Doc, k catalogue.Key) (world.Stance, error) {
	return ofDoc(d, "a stance", stanceFields, newStance(k))
}

// RuleDoc writes the organisation's limit and default of a rule.
func RuleDoc(s world.RuleSetting) Doc {
	b, err := json.Marshal(ruleTree(s))
	if err != nil {
		panic("worldfile: " + err.Error())
	}
	return b
}

// RuleOf reads it back.
func RuleOf(d Doc, rule *catalogue.Rule) (world.RuleSetting, error) {
	r := newReader(Options{})
	w := &world.World{}
	if n := r.parse(d); n != nil {
		r.rules(&node{kind: mapping, keys: []node{{text: rule.Name}}, values: []node{*n}}, w)
	}
	if len(r.errs) > 0 || len(w.Rules) == 0 {
		return world.RuleSetting{}, r.errs
	}
	return w.Rules[0], nil
}

// DatesFromDoc and DatesFromOf write and read a floor of dates.
func DatesFromDoc(x *world.DatesFrom) Doc { return docOf(datesFromFields, x) }
func DatesFromOf(d Doc) (world.DatesFrom, error) {
	return ofDoc(d, "a floor of dates", datesFromFields, newDatesFrom())
}
