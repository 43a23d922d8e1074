package worldfile

import (
	"fmt"
	"reflect"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// kind is one kind of entry of a world: what it is called in files and in the database, and how it
// is read, written and kept. Everything that goes through all kinds goes through the table below.
type kind struct {
	section string // in a file
	stored  string // of its docs in the database and in the journal
	policy  bool   // else inventory
	// read reads a section of a file, and write writes it.
	read  func(r *reader, n *node, w *world.World)
	write func(wr *writer, w *world.World) tree
	each  func(wr *writer, w *world.World, fn func(*tree)) // entry by entry instead, where there is a list of them
	// docs hands over every entry as it is kept, and add takes one in. Both are nil for kinds that
	// have tables of their own in the database.
	docs func(w *world.World, fn func(id string, doc Doc))
	add  func(w *world.World, id string, doc Doc) error
	// drop leaves out the entries that are gone, and changed hands over those that differ from another
	// world's, with a nil doc for those that are no more.
	drop    func(w *world.World, gone func(id string) bool)
	order   func(w *world.World) // by key, in place
	changed func(was, next *world.World, fn func(id string, doc Doc))
	some    func(w *world.World) bool
	aside   bool // no question is asked of it
	fields  func() []FieldSays
	noun    string // what one entry is
}

// kinds lists every kind, in the order in which files are written.
var kinds = []kind{
	one("organisation", organisationFields, func() world.Organisation { return world.Organisation{} },
		func(w *world.World) **world.Organisation { return &w.Organisation }, "an organisation"),
	one("settings", settingsFields, world.StartSettings, func(w *world.World) **world.Settings { return &w.Settings }, "settings"),
	ruleKind(),
	many("partners", "partner", true, "partner", partnerFields, newPartner, func(x *world.Partner) string { return x.ID },
		func(w *world.World) *[]world.Partner { return &w.Partners }).kept(func(x *world.Partner) Doc {
		y := *x
		y.Stance = nil // which are not of policy
		return PartnerDoc(&y)
	}).kind,
	barKind(),
	personalKind(),
	many("exceptions", "exception", true, "exception", exceptionFields, newException, func(x *world.Exception) string { return x.ID },
		func(w *world.World) *[]world.Exception { return &w.Exceptions }).kind,
	many("bundles", "bundle", true, "bundle", bundleFields, newBundle, func(x *world.Bundle) string { return x.ID },
		func(w *world.World) *[]world.Bundle { return &w.Bundles }).kind,
	many("expectations", "expectation", true, "expectation", expectationFields, zero[world.Expectation],
		func(x *world.Expectation) string { return x.ID }, func(w *world.World) *[]world.Expectation { return &w.Expectations }).kind,
	many("people", "person", false, "person", personFields, zero[world.Person], func(x *world.Person) string { return x.ID },
		func(w *world.World) *[]world.Person { return &w.People }).kind,
	many("groups", "group", false, "group", groupFields, zero[world.Group], func(x *world.Group) string { return x.ID },
		func(w *world.World) *[]world.Group { return &w.Groups }).kind,
	many("spaces", "space", false, "space", spaceFields, zero[world.Space], func(x *world.Space) string { return x.ID },
		func(w *world.World) *[]world.Space { return &w.Spaces }).kept(SpaceDoc).kind,
	many("domain_lists", "domain_list", false, "domain list", domainListFields, zero[world.DomainList],
		func(x *world.DomainList) string { return x.ID }, func(w *world.World) *[]world.DomainList { return &w.DomainLists }).kind,
	many("meetings", "meeting", false, "meeting", meetingFields, zero[world.Meeting], func(x *world.Meeting) string { return x.ID },
		func(w *world.World) *[]world.Meeting { return &w.Meetings }).kind,
	many("guests", "guest", false, "guest", guestFields, newGuest, func(x *world.Guest) string { return x.Address.String() },
		func(w *world.World) *[]world.Guest { return &w.Guests }).inTable().kind,
	many("grants", "grant", false, "grant", grantFields, newGrant, GrantKey,
		func(w *world.World) *[]world.Grant { return &w.Grants }).inTable().kind,
	many("holdings", "holding", false, "holding", holdingFields, newHolding, (*world.Holding).Key,
		func(w *world.World) *[]world.Holding { return &w.Holdings }).kind,
	many("links", "link", false, "link", linkFields, newLink, func(x *world.Link) string { return x.ID },
		func(w *world.World) *[]world.Link { return &w.Links }).kind,
	many("forwarders", "forwarder", false, "forwarder", forwarderFields, newForwarder, ForwarderKey,
		func(w *world.World) *[]world.Forwarder { return &w.Forwarders }).kind,
	many("contacts", "contact", false, "contact", contactFields, zero[world.Contact], ContactKey,
		func(w *world.World) *[]world.Contact { return &w.Contacts }).kind,
	many("letters", "letter", false, "letter", letterFields, newLetter, func(x *world.Letter) string { return x.ID },
		func(w *world.World) *[]world.Letter { return &w.Letters }).notAsked(),
	many("requests", "request", false, "request", requestFields,
		func() world.BundleRequest { return world.BundleRequest{Until: moment.Never, Reminded: catalogue.Unset} },
		func(x *world.BundleRequest) string { return x.ID }, func(w *world.World) *[]world.BundleRequest { return &w.Requests }).inTable().kind,
	many("rounds", "round", false, "round", roundFields, func() world.Round { return world.Round{Reminded: catalogue.Unset} },
		func(x *world.Round) string { return x.ID }, func(w *world.World) *[]world.Round { return &w.Rounds }).inTable().kind,
	many("statements", "statement", false, "statement", statementFields, newStatement, func(x *world.Statement) string { return x.Partner },
		func(w *world.World) *[]world.Statement { return &w.Statements }).notAsked(),
	many("dates_from", "dates_from", false, "floor of dates", datesFromFields, newDatesFrom,
		func(x *world.DatesFrom) string { return x.For() }, func(w *world.World) *[]world.DatesFrom { return &w.DatesFrom }).kind,
}

// Sections are the parts of a file in the order in which they are written.
var Sections = func() (out []string) {
	for i := range kinds {
		out = append(out, kinds[i].section)
	}
	return
}()

// StoredKinds are all kinds as the database and the journal call them.
func StoredKinds() (out []string) {
	for i := range kinds {
		out = append(out, kinds[i].stored)
	}
	return out
}

// SectionOf is the section of a file in which entries of a kind stand, "" where they have none of their own.
func SectionOf(stored string) string {
	for i := range kinds {
		if kinds[i].stored == stored {
			return kinds[i].section
		}
	}
	return ""
}

// StoredPolicy are the kinds of policy as the database and the journal call them.
func StoredPolicy() (out []string) {
	for i := range kinds {
		if kinds[i].policy {
			out = append(out, kinds[i].stored)
		}
	}
	return out
}

// PolicySections are those of policy, in the same order.
var PolicySections = func() (out []string) {
	for i := range kinds {
		if kinds[i].policy {
			out = append(out, kinds[i].section)
		}
	}
	return
}()

// PolicyOf returns the policy of a world as a file of it alone holds it: without what is known of the other side.
func PolicyOf(w *world.World) *world.World {
	out := &world.World{Policy: w.Policy}
	out.Partners = slices.Clone(w.Partners)
	for i := range out.Partners {
		out.Partners[i].Stance = nil
	}
	return out
}

// Exactly leaves of a policy what a file holds, in the sections that it has: of lists what is not in the file goes, and rules
// that it does not name are as at the start. What there is one of stays, as it cannot be taken away.
func Exactly(next, file *world.World, held []string) *world.World {
	out := *next
	for i := range kinds {
		k := &kinds[i]
		if !k.policy || !slices.Contains(held, k.section) || k.docs == nil {
			continue
		}
		in := map[string]bool{}
		k.docs(file, func(id string, _ Doc) { in[id] = true })
		if k.section == "organisation" || k.section == "settings" {
			continue
		}
		k.drop(&out, func(id string) bool { return !in[id] })
	}
	if slices.Contains(held, "rules") { // of a rule, what the file does not say is as at the start
		out.Rules = slices.Clone(out.Rules)
		for i := range out.Rules {
			x := &out.Rules[i]
			for _, f := range file.Rules {
				if f.Rule == x.Rule && f.Limit == catalogue.Unset {
					x.Limit = catalogue.Unset
				}
				if f.Rule == x.Rule && f.Default == catalogue.Unset {
					x.Default, x.Held, x.Counts = catalogue.Unset, false, catalogue.Unset
				}
			}
		}
	}
	return &out
}

func newForwarder() world.Forwarder { return world.Forwarder{KeepCopy: true} }

// ForwarderKey names a forwarder by mailbox and target.
func ForwarderKey(x *world.Forwarder) string { return x.Mailbox + " to " + x.To.String() }

// ContactKey names a contact by its two sides.
func ContactKey(x *world.Contact) string { return x.Person + " and " + x.Party.String() }

// kindOf is a kind while it is put together.
type kindOf[T any] struct {
	kind
	key func(*T) string
	at  func(*world.World) *[]T
	doc func(*T) Doc
}

// many is a kind of which there is a list.
func many[T any](section, stored string, policy bool, what string, fields []field[T], fresh func() T, key func(*T) string,
	at func(*world.World) *[]T) *kindOf[T] {
	article := "a "
	if what[0] == 'e' {
		article = "an "
	}
	k := &kindOf[T]{key: key, at: at}
	k.kind = kind{section: section, stored: stored, policy: policy, noun: article + what, fields: func() []FieldSays { return saysOf(fields) },
		read: func(r *reader, n *node, w *world.World) { entries(r, n, what, fields, fresh, key, at(w)) },
		each: func(wr *writer, w *world.World, fn func(*tree)) {
			for i := range *at(w) {
				t := record(wr, fields, &(*at(w))[i])
				fn(&t)
			}
		},
		add: func(w *world.World, _ string, doc Doc) error {
			return added(at(w), func(d Doc) (T, error) { return ofDoc(d, article+what, fields, fresh()) }, doc)
		},
	}
	return k.kept(func(x *T) Doc { return docOf(fields, x) })
}

// kept says how an entry is kept as a doc.
func (k *kindOf[T]) kept(doc func(*T) Doc) *kindOf[T] {
	k.doc = doc
	k.docs = func(w *world.World, fn func(id string, doc Doc)) {
		for i := range *k.at(w) {
			x := &(*k.at(w))[i]
			fn(k.key(x), doc(x))
		}
	}
	k.drop = func(w *world.World, gone func(id string) bool) { *k.at(w) = without(*k.at(w), gone, k.key) }
	k.order = func(w *world.World) {
		if len(*k.at(w)) == 0 {
			*k.at(w) = nil // as where none was read
		}
		slices.SortStableFunc(*k.at(w), func(a, b T) int { return strings.Compare(k.key(&a), k.key(&b)) })
	}
	k.changed = func(was, next *world.World, fn func(id string, doc Doc)) {
		changedOf(*k.at(was), *k.at(next), k.key, doc, fn)
	}
	k.some = func(w *world.World) bool { return len(*k.at(w)) > 0 }
	return k
}

// notAsked says that the engine does not take the kind: no question is asked of it.
func (k *kindOf[T]) notAsked() kind {
	k.aside = true
	return k.kind
}

// inTable says that entries have a table of their own in the database, or are kept in another shape.
func (k *kindOf[T]) inTable() *kindOf[T] {
	k.docs, k.add = nil, nil
	return k
}

// one is a kind of which a world holds one entry, or none where a file leaves it out.
func one[T any](name string, fields []field[T], fresh func() T, at func(*world.World) **T, what string) kind {
	doc := func(x *T) Doc { return docOf(fields, x) }
	const ours = "ours"
	return kind{section: name, stored: name, policy: true, noun: what, fields: func() []FieldSays { return saysOf(fields) },
		read: func(r *reader, n *node, w *world.World) {
			if n == nil {
				return
			}
			x := fresh()
			*at(w) = &x
			object(r, n, what, fields, &x)
		},
		write: func(wr *writer, w *world.World) tree {
			if *at(w) == nil {
				return tree{}
			}
			return record(wr, fields, *at(w))
		},
		docs: func(w *world.World, fn func(id string, doc Doc)) {
			if x := *at(w); x != nil {
				fn(ours, doc(x))
			}
		},
		add: func(w *world.World, _ string, d Doc) error {
			x, err := ofDoc(d, what, fields, fresh())
			if err == nil {
				*at(w) = &x
			}
			return err
		},
		changed: func(was, next *world.World, fn func(id string, doc Doc)) {
			if a, b := *at(was), *at(next); b != nil && a != b {
				fn(ours, doc(b))
			}
		},
		drop:  func(*world.World, func(string) bool) {},
		order: func(*world.World) {},
		some:  func(w *world.World) bool { return *at(w) != nil },
	}
}

// ruleKind is the limits and defaults of rules: a mapping in files.
func ruleKind() kind {
	k := &kindOf[world.RuleSetting]{key: func(x *world.RuleSetting) string { return x.Rule.String() },
		at: func(w *world.World) *[]world.RuleSetting { return &w.Rules }}
	k.kind = kind{section: "rules", stored: "rule", policy: true, noun: "limits and defaults, as {RULE: {limit: VALUE, default: VALUE}}",
		fields: func() []FieldSays { return nil },
		read: func(r *reader, n *node, w *world.World) {
			if n != nil {
				r.rules(n, w)
			}
		},
		write: func(_ *writer, w *world.World) tree {
			t := tree{kind: mapping}
			for _, s := range w.Rules {
				t.set(s.Rule.String(), ruleTree(s))
			}
			return t
		},
		add: func(w *world.World, id string, d Doc) error {
			rule, ok := catalogue.RuleByName(id)
			if !ok {
				return fmt.Errorf("the database sets a rule %q that the catalogue does not hold", id)
			}
			return added(&w.Rules, func(d Doc) (world.RuleSetting, error) { return RuleOf(d, rule) }, d)
		},
	}
	return k.kept(func(x *world.RuleSetting) Doc { return RuleDoc(*x) }).kind
}

// barKind is what is barred: a domain or an address, never both.
func barKind() kind {
	k := many("barred", "bar", true, "bar", barFields, zero[world.Bar], (*world.Bar).Key,
		func(w *world.World) *[]world.Bar { return &w.Barred })
	k.read = func(r *reader, n *node, w *world.World) {
		if n == nil {
			return
		}
		for i := range r.list(n) {
			var b world.Bar
			v := &n.values[i]
			object(r, v, "a bar", barFields, &b)
			if b.Domain.IsZero() == b.Address.IsZero() {
				r.at(v, "a bar has either a name, which is a domain, or an address")
			} else {
				r.once(v, "bar", b.Key())
			}
			r.places[place("bar:"+b.Key())] = [2]int{v.line - r.from, v.col}
			w.Barred = append(w.Barred, b)
		}
	}
	return k.kind
}

// personalKind is the domains of private mail, written as plain entries.
func personalKind() kind {
	k := &kindOf[world.Entry]{key: func(x *world.Entry) string { return x.Domain.String() },
		at: func(w *world.World) *[]world.Entry { return &w.Personal }}
	k.kind = kind{section: "personal_domains", stored: "personal", policy: true, noun: takesDomains, fields: func() []FieldSays { return nil },
		read: func(r *reader, n *node, w *world.World) {
			if n == nil {
				return
			}
			for i := range r.list(n) {
				e := r.entry(&n.values[i])
				r.once(&n.values[i], "personal domain", e.Domain.String())
				r.places[place("personal:"+e.Domain.String())] = [2]int{n.values[i].line - r.from, n.values[i].col}
				w.Personal = append(w.Personal, e)
			}
		},
		write: func(_ *writer, w *world.World) tree { return entriesTree(w.Personal) },
		add:   func(w *world.World, _ string, d Doc) error { return added(&w.Personal, EntryOf, d) },
	}
	return k.kept(EntryDoc).kind
}

func added[T any](list *[]T, parse func(Doc) (T, error), doc []byte) error {
	x, err := parse(doc)
	if err == nil {
		*list = append(*list, x)
	}
	return err
}

// without returns a copy of a list that lacks what is gone, with nothing behind it that
// appending could overwrite.
func without[T any](list []T, gone func(id string) bool, key func(*T) string) []T {
	out := make([]T, 0, len(list)+1)
	for i := range list {
		if !gone(key(&list[i])) {
			out = append(out, list[i])
		}
	}
	return out
}

// changedOf hands over every entry of next that was lacks or has otherwise, and with a nil doc the
// ids of those that next lacks.
func changedOf[T any](was, next []T, key func(*T) string, doc func(*T) Doc, fn func(id string, doc Doc)) {
	old := make(map[string]*T, len(was))
	for i := range was {
		old[key(&was[i])] = &was[i]
	}
	for i := range next {
		k := key(&next[i])
		if o := old[k]; o == nil || !reflect.DeepEqual(o, &next[i]) {
			fn(k, doc(&next[i]))
		}
		delete(old, k)
	}
	for k := range old {
		fn(k, nil)
	}
}
