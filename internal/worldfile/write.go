package worldfile

import (
	"encoding/json"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Write writes the sections of w that are asked for, or all for none, in a
// stable order. Reading it back gives the same world.
func Write(w *world.World, sections ...string) []byte {
	wr := &writer{zone: time.UTC}
	if w.Organisation != nil && w.Organisation.Zone != nil {
		wr.zone = w.Organisation.Zone
	}
	var b strings.Builder
	b.WriteString("wexillum: 1\n")
	for i := range kinds {
		name := kinds[i].section
		if len(sections) > 0 && !slices.Contains(sections, name) {
			continue
		}
		t := kinds[i].write(wr, w)
		if t.kind == scalar || len(t.list) == 0 {
			continue
		}
		b.WriteString(name + ":")
		t.block(&b, 2, true)
	}
	return []byte(b.String())
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
