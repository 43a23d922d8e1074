package engine

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kind is the kind of a party, or a person of ours. The kind is what people
// call somebody; the class (catalogue.Class) is what they ask with.
type Kind uint8

// The kinds of model §1.
const (
	KindPerson Kind = iota
	KindGuest
	KindProvisioned
	KindFederated
	KindPersonal
	KindBearer
)

func (k Kind) String() string {
	return [...]string{"person", "guest", "provisioned", "federated", "personal", "bearer"}[k]
}

// outside is what is known of one outside address at the asked moment. It is
// filled in once for a question, by look, and read by the gates.
type outside struct {
	address addr.Address
	index   uint32 // of the address, or none
	known   *party // or nil
	domain  uint32 // index, or none
	facts   domainFacts
	bar     int32  // index in the policy's bars + 1, 0 for none
	partner uint32 // none where barred or nobody's
	record  bool   // holds one at this moment
	state   world.State

	supposed bool // Question.With is about this address
}

// private reports whether the domain is one of private mailboxes.
func (o *outside) private() bool { return o.facts.kind == personalDomain }

// provisioned reports whether a feed keeps the record; it must be known.
func (o *outside) provisioned() bool { return o.known.flags&isProvisioned != 0 }

// asker asks one question of one snapshot. It lives on the stack.
//
// Decide and Explain both go through it, so that an explanation can never tell
// another answer than the decision: the only difference is that rec is set. A
// gate writes its outcome by note, and takes what it needs from the fields;
// nothing is looked up twice.
type asker struct {
	s    *Snapshot
	q    *Question
	act  *catalogue.Action
	rows *[catalogue.NumClasses]*catalogue.Ask // of act, about this kind of resource
	at   moment.Moment

	party      outside // the subject where it is outside
	other      outside // context.address
	person     uint32  // the subject where it is one of ours
	held       *link   // the subject where it is a link
	ours       bool
	stranger   bool // at our own domain, and nobody there
	kind       Kind
	target     uint32 // index within the resource's kind
	space      uint32
	near       uint32 // item or meeting: 0 where there is one, none where not
	aboutWhom  uint32 // the person of ours the action is about
	presenter  uint32
	accounts   [2]accountAsked
	nAccounts  int
	rec        *recorder
	itemRole   catalogue.Role // what grants on the item itself give
	spaceRole  catalogue.Role // what grants on the space give
	manyRole   catalogue.Role // what the party's partner or domain holds on the space as a whole
	rolesFound bool
	skip       int32            // 1 + an exception that is left out; 0 for none
	below      catalogue.Layers // the layers below the partner that may say something here

	subjectHash, resourceHash uint64
	fetched                   uint32 // keeps the loads of fetch from being left out

	// of the account that is being asked
	class    catalogue.Class
	refused  Gates
	asked    Gates
	cond     catalogue.Condition
	byNature bool
}

// byNature says that the class cannot do it, whatever is set.
type accountAsked struct {
	account  Account
	class    catalogue.Class
	byNature bool
}

// actionHolds tells the actions that look at what a party was given. Others
// need not wait for the list of grants.
var actionHolds = func() (out []bool) {
	for _, act := range catalogue.Actions() {
		holds := false
		for _, rows := range []*[catalogue.NumClasses]*catalogue.Ask{&act.Asks, act.InSpace} {
			if rows == nil {
				continue
			}
			for _, ask := range rows {
				if ask == nil {
					continue
				}
				holds = holds || ask.Holding == catalogue.ByRole || ask.Holding == catalogue.MayInvite
				for _, n := range ask.Needs {
					holds = holds || n.Kind == catalogue.LookUp
				}
			}
		}
		out = append(out, holds)
	}
	return
}()

// Decide answers a question without its causes. It allocates nothing unless the
// question makes no sense; then the error is a *WrongUse.
func (s *Snapshot) Decide(q *Question) (Verdict, error) {
	var a asker
	if err := a.resolve(s, q); err != nil {
		return Verdict{}, err
	}
	return a.decide(), nil
}

// decide asks the accounts in the order of preference until one is answered
// with yes; where none is, the no with the fewest refusing gates counts. Of
// several refusals the one with the fewest gates is the one that is nearest to
// being mended.
func (a *asker) decide() Verdict {
	var best Verdict
	for i := 0; i < a.nAccounts; i++ {
		v := a.ask(a.accounts[i])
		if i == 0 || v.before(&best) {
			best = v
		}
		if best.Yes { // accounts come in the order of preference: no later one decides
			break
		}
	}
	return best
}

// before reports whether v decides rather than w, which was asked earlier: a
// yes before a no, then fewer refusing gates.
func (v *Verdict) before(w *Verdict) bool {
	if v.Yes != w.Yes {
		return v.Yes
	}
	return v.Refusing.count() < w.Refusing.count()
}

// ask asks one account all its gates.
//
// The gates are asked in their order, each in a function of its own in
// gates.go; none of them ends the asking. What cannot be by nature is asked
// about bars, standing and records all the same, because these would stand in
// the way of any other wish, too.
func (a *asker) ask(acc accountAsked) Verdict {
	a.class, a.byNature = acc.class, acc.byNature
	a.refused, a.asked, a.cond = 0, 0, 0
	if a.rec != nil {
		a.rec.begin(acc.account)
	}
	ask := a.rows[acc.class]
	// Some actions have another row where the other side is a private address.
	if ask != nil && ask.Private != nil && a.other.private() {
		ask = ask.Private
	}
	switch {
	case a.stranger:
		if c := a.note(catalogue.Identity, true, catalogue.NoSuchPerson); c != nil {
			c.A = a.party.address.String()
		}
	case a.byNature:
		a.identity()
		if a.class != catalogue.Bearer {
			a.bars(&a.party)
			a.standing(&a.party)
		}
		a.everyRecord()
		if c := a.note(catalogue.ServiceGate, true, catalogue.ByNature); c != nil {
			c.A = natureText(a.kind, a.act)
		}
	default:
		a.identity()
		a.domain(ask)
		a.counterpart(ask)
		a.service(ask)
		a.rules(ask)
		a.grant(ask)
		a.licence()
	}
	v := Verdict{Yes: a.refused == 0, Account: acc.account, Kind: a.kind, Refusing: a.refused, Asked: a.asked}
	if v.Yes {
		v.Conditions = a.cond
	}
	return v
}

// natureText says why an action makes no sense for somebody of a kind. It
// completes "This is not available to this kind of account: …".
func natureText(k Kind, act *catalogue.Action) string {
	if act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil {
		return "only our own people " + act.Title
	}
	if act.Newly && (k == KindGuest || k == KindProvisioned) {
		return "there is a record already"
	}
	switch k {
	case KindBearer:
		return "a link opens its one item and nothing else"
	case KindPersonal:
		return "a private account without a record does not " + act.Title
	case KindFederated:
		return "an address without a record does not " + act.Title
	}
	return "a record with us does not " + act.Title
}
