package engine

import (
	"fmt"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// One question: how it is written, what it is about, which accounts are asked,
// and how their answers become one.
//
// An asker is made for a question, filled in by resolve, and asked by decide or
// explain; it lives on the stack, so that a decision allocates nothing. Gates
// are methods of it (gates.go, gates_grant.go) and read what resolve found.

// SubjectKind says how a question names who asks.
type SubjectKind uint8

// An address (of anybody), a person of ours by id, or a link by id.
const (
	ByAddress SubjectKind = iota
	ByPerson
	ByLinkID
)

// Who is the subject of a question. Exactly one of Address and ID is set. An
// address may be one of ours; it then means the person.
type Who struct {
	Kind    SubjectKind
	Address addr.Address // with ByAddress
	ID      string       // with ByPerson and ByLinkID
}

// String writes the subject as a question does. ParseWho reads it back.
func (w Who) String() string {
	switch w.Kind {
	case ByPerson:
		return "person:" + w.ID
	case ByLinkID:
		return "link:" + w.ID
	}
	return w.Address.String()
}

// ParseWho reads an address, person:ID, link:ID or *@domain.
func ParseWho(s string) (Who, error) {
	if id, ok := strings.CutPrefix(s, "person:"); ok {
		return Who{Kind: ByPerson, ID: id}, nil
	}
	if id, ok := strings.CutPrefix(s, "link:"); ok {
		return Who{Kind: ByLinkID, ID: id}, nil
	}
	a, err := addr.Parse(s)
	if err != nil {
		return Who{}, &WrongUse{Field: "subject", Value: s, Reason: err.Error() + "; write an address, person:ID, link:ID or *@domain"}
	}
	return Who{Address: a}, nil
}

// ParseAction reads an action's name. The error names what was probably meant.
func ParseAction(s string) (catalogue.ActionID, error) {
	a, ok := catalogue.ActionByName(s)
	if !ok {
		reason := "there is no such action"
		if n := catalogue.NearestAction(s); n != "" {
			reason += "; do you mean " + n + "?"
		}
		return 0, &WrongUse{Field: "action", Value: s, Reason: reason}
	}
	return a.ID, nil
}

// ParseResource reads kind:id. It does not ask whether there is such a thing;
// the snapshot does.
func ParseResource(s string) (world.Resource, error) {
	kind, id, ok := strings.Cut(s, ":")
	if k, known := catalogue.ParseResourceKind(kind); ok && known {
		return world.Resource{Kind: k, ID: id}, nil
	}
	return world.Resource{}, &WrongUse{Field: "resource", Value: s, Reason: "write kind:id, as space:loan-dossier"}
}

// Account is what a party acts with. A guest may have two: the record with us,
// and the account they have at home. What the one may not do the other
// sometimes may, so both are asked and the better answer counts.
type Account uint8

// The accounts of model §1, in the order in which equals are listed. Person is
// what one of our people acts with.
const (
	AnyAccount Account = iota // in a question: all that the action knows
	RecordAccount
	HomeAccount
	LinkAccount
	PersonAccount
)

func (a Account) String() string {
	return [...]string{"", "record", "home", "link", "person"}[a]
}

// ParseAccount reads record, home, link or person; empty is any.
func ParseAccount(s string) (Account, error) {
	for a := AnyAccount; a <= PersonAccount; a++ {
		if a.String() == s {
			return a, nil
		}
	}
	return 0, &WrongUse{Field: "context.account", Value: s, Reason: "write record, home or link"}
}

// Question is (subject, action, resource, moment, context). Its values were
// parsed where they entered.
//
// All that can change an answer is in it: the same question of the same
// snapshot has the same answer for ever, which is what makes keeping answers,
// and proving them later, possible.
type Question struct {
	Subject   Who
	Action    catalogue.ActionID
	Resource  world.Resource
	At        moment.Moment
	Address   addr.Address // context.address; zero for none
	Presenter string       // context.presenter, a person's id; empty for the host
	Account   Account      // context.account
	DropsCopy bool         // context.keep_copy is no
	With      *Supposed    // asked as if this were given; nil for the world as it is
	Approved  bool         // somebody approved a bundle for context.address: who may invite does not matter (practice §1)
	Stranger  bool         // asked as if nothing were kept of the outside address that it is about: no record, nothing given, no contact

	anyPresenter bool // asked as if whoever presents let everybody do what depends on them

	known bool     // context.address is asked about as if it had a record
	as    relation // asked as if the party and the person were related, or not
}

// relation is how a question takes contacts and shared spaces: as they are, as
// if there were one, as if there were none. Asking with and without lets one
// question speak for a whole class of pairs.
type relation uint8

const (
	// The first is what every question of the outside has.
	asItIs relation = iota
	related
	unrelated
)

// WrongUse is a question that makes no sense: not a no, but a mistake of who
// asked. It becomes an answer of status 400 (or 404, see Unknown) with the
// field's name in it, RFC 9457.
type WrongUse struct {
	Field  string // subject, action, resource, or a key of the context
	Value  string
	Reason string
}

func (e *WrongUse) Error() string {
	return fmt.Sprintf("%s %q: %s", e.Field, e.Value, e.Reason)
}

// Unknown reports whether what was asked for is well said and is not there: a
// subject or a resource.
func (e *WrongUse) Unknown() bool {
	return (e.Field == "subject" || e.Field == "resource") && strings.HasPrefix(e.Reason, "there is no such ")
}

// Verdict is an answer without its causes. It is four words long and lives on
// the stack.
type Verdict struct {
	Yes        bool
	Account    Account
	Kind       Kind
	Refusing   Gates // of the deciding account
	Asked      Gates
	Conditions catalogue.Condition // of a yes
}

// Gates is a set of gates, as bits. One bit a gate; there are seven.
type Gates uint8

// Has reports whether g is in the set.
func (s Gates) Has(g catalogue.Gate) bool { return s&(1<<g) != 0 }

// Names lists the gates of the set in order.
func (s Gates) Names() []string {
	out := []string{}
	for g := catalogue.Gate(0); g < catalogue.NumGates; g++ {
		if s.Has(g) {
			out = append(out, g.String())
		}
	}
	return out
}

// count counts the bits: each round takes the lowest one away.
func (s Gates) count() (n int) {
	for ; s != 0; s &= s - 1 {
		n++
	}
	return
}
