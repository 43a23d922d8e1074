package engine

import (
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
)

// Causes: what each gate found, kept so that a sentence can be made of it.
//
// A cause holds a code and values, never words: the sentence and the advice
// stand in the catalogue, once for each code, with places in braces. So the
// same cause reads the same in the console, the client, a letter and a CSV, and
// a test fills in every text there is.

// Side says whose a cause is. A refusal of theirs cannot be mended here; the
// answer says whom to ask.
type Side uint8

// Ours or the partner's.
const (
	OurSide Side = iota
	Theirs
)

func (s Side) String() string { return [...]string{"ours", "theirs"}[s] }

// Changer says who can change a cause. It is who can change this very cause,
// and not who may do something about the question at all.
type Changer uint8

// Who can change it; owners, sponsors and partners are named by WhoID.
const (
	WhoNobody Changer = iota
	WhoAdministrator
	WhoOwner
	WhoSponsor
	WhoPartner
	WhoParty
)

// Cause is one thing a gate found. Code and the fields beside it are all that
// its sentence is made of. Chain is set where a rule was asked, and shows layer
// by layer who said what. Value is what the rule says, Needed what this
// question would need.
//
// Causes of a pass are kept like those of a refusal: *why yes* is asked as
// often as *why no*.
type Cause struct {
	Gate    catalogue.Gate
	Refuses bool
	Code    catalogue.Code
	Side    Side
	Who     Changer
	WhoID   string
	Zone    *time.Location // in which When is told
	Partner string         // id of the partner it is about, where it is about one
	Key     catalogue.Key  // with the counterpart gate: what its own side is asked about
	Chain   *Chain         // of the rule it asked, or nil
	Value   catalogue.Value
	Needed  catalogue.Value
	A, B    string // names for the sentence
	When    moment.Moment
	Why     dated.Cause // of a record that is suspended
	Bundle  string      // with has_grant: the id of the bundle that the grant follows from
	Private bool        // with not_listed: a private address, behind which nobody can be the partner
}

// WhoText writes who can change the cause, as administrator or owner:ID.
func (c *Cause) WhoText() string {
	switch c.Who {
	case WhoAdministrator:
		return "administrator"
	case WhoOwner:
		return "owner:" + c.WhoID
	case WhoSponsor:
		return "sponsor:" + c.WhoID
	case WhoPartner:
		return "partner:" + c.WhoID
	case WhoParty:
		return "the party"
	}
	return ""
}

// Text says the cause in a sentence.
func (c *Cause) Text() string { return c.fill(c.Code.Entry().Text) }

// Next says what to do about a refusal; it is empty for a pass. It is one
// imperative sentence.
func (c *Cause) Next() string {
	if !c.Refuses {
		return ""
	}
	if c.Chain != nil {
		if own, ok := c.ownNext(); ok {
			return own
		}
	}
	return c.fill(c.Code.Entry().Next)
}

// ownNext is what to do where the words of the code would ask for what cannot
// help: to raise a rule that an exception overrules, to make a partner of a
// provider of mailboxes. ok is false where the words of the code are right.
func (c *Cause) ownNext() (next string, ok bool) {
	switch c.Code {
	case catalogue.LevelClosed, catalogue.SwitchOff, catalogue.RuleShort:
		if c.Chain.Decided() == PeopleLayer { // no layer above it counts
			return "Change or end the exception " + c.Chain.Steps[PeopleLayer].Where + ".", true
		}
	case catalogue.NotListed:
		if c.Private { // no partner is made of a provider of mailboxes
			if c.Chain.Rule.Get().Layers&catalogue.AtPeople != 0 {
				return "Name " + c.A + " in an exception; nobody can be the partner behind a private address.", true
			}
			return "Set " + c.Chain.Rule.String() + " to any where it may be set; nobody can be the partner behind a private address.", true
		}
	case catalogue.NoLicenceRoute:
		var can []string
		if c.Value&1 != 0 {
			can = append(can, "give the area a licence of its own")
		}
		if c.Value&(2|4) != 0 {
			can = append(can, "record the licence of the guest")
		}
		if len(can) == 0 {
			return "Let " + c.Chain.Rule.String() + " take a licence that there is.", true
		}
		text := strings.Join(can, ", or ")
		return strings.ToUpper(text[:1]) + text[1:] + ".", true
	}
	return "", false
}

// fill puts names, dates and values into the text of a cause, at the places in
// braces. Braces that nothing fills stay as they are, which a test would find.
func (c *Cause) fill(text string) string {
	if !strings.Contains(text, "{") {
		return text
	}
	a, b := c.A, c.B
	switch c.Code {
	case catalogue.RecordSuspended:
		if c.When.IsSet() {
			b = " since " + c.moment(false)
		}
	case catalogue.BarredAddress, catalogue.BarredDomain:
		if b != "" {
			b = " (" + b + ")"
		}
	case catalogue.GrantOver, catalogue.LinkOver:
		b = c.moment(true)
	case catalogue.LinkLive:
		if b = c.moment(true); !strings.Contains(b, ":") { // a day
			b = "the end of " + b
		}
	case catalogue.GrantAhead, catalogue.LinkAhead:
		b = c.moment(false)
	}
	var out strings.Builder
	out.Grow(len(text) + 64)
	for {
		open := strings.IndexByte(text, '{')
		if open < 0 {
			out.WriteString(text)
			return out.String()
		}
		end := strings.IndexByte(text[open:], '}')
		if end < 0 {
			out.WriteString(text)
			return out.String()
		}
		out.WriteString(text[:open])
		switch name := text[open+1 : open+end]; name {
		case "a":
			out.WriteString(a)
		case "b":
			out.WriteString(b)
		default:
			out.WriteString(c.named(name))
		}
		text = text[open+end+1:]
	}
}

// named is what a sentence says of the rule that was asked, or of the level
// where there is none. A fixed level has no rule; its sentence still reads.
func (c *Cause) named(what string) string {
	if c.Chain == nil {
		switch what {
		case "rule":
			return "the level"
		case "title":
			return "The level"
		case "value", "needed":
			return "listed"
		}
		return "{" + what + "}"
	}
	r := c.Chain.Rule.Get()
	switch what {
	case "rule":
		return r.Name
	case "title":
		return r.Title
	case "value":
		return r.Scale.Format(c.Value)
	case "needed":
		if r.Scale.Shape == catalogue.Methods && c.Code == catalogue.RuleMet {
			return "one of them"
		}
		return r.Scale.Format(c.Needed)
	}
	return "{" + what + "}"
}

// moment writes When as people say it: an end at the start of a day is told by
// the day before, which is the last that still holds. "Ended on 3 May" is right
// for what ended at midnight after it.
func (c *Cause) moment(end bool) string {
	if !c.When.IsSet() || c.Zone == nil {
		return c.When.String()
	}
	if d := moment.DayOf(c.When, c.Zone); d.Start(c.Zone) == c.When {
		if end {
			d--
		}
		return d.Start(c.Zone).Time().In(c.Zone).Format("2 Jan 2006")
	}
	return c.When.Time().In(c.Zone).Format("2 Jan 2006, 15:04")
}

// chainWho says who can change what a chain decided: the owner where a space or
// item said it, else an administrator. A value at a meeting is its host's to
// change, one at a space or an item the owner's.
func (a *asker) chainWho(c *Cause, chain *Chain) {
	c.Who = WhoAdministrator
	if !c.Refuses || chain == nil {
		return
	}
	if d := chain.Decided(); d == SpaceLayer || d == ItemLayer {
		if d == ItemLayer && a.q.Resource.Kind == catalogue.Meeting {
			c.Who, c.WhoID = WhoOwner, a.s.inv.personIDs.text(a.s.inv.text, a.s.inv.meetings.at(a.target).host)
			return
		}
		a.owned(c)
	}
}

// GateAnswer is what one gate answered.
type GateAnswer struct {
	Gate   catalogue.Gate
	Asked  bool
	Pass   bool
	Causes []Cause
}

// String returns pass, refuse or not_asked.
func (g *GateAnswer) String() string {
	switch {
	case !g.Asked:
		return "not_asked"
	case g.Pass:
		return "pass"
	}
	return "refuse"
}

// AccountAnswer is the answer for one account. All gates are there, also those
// that were not asked.
type AccountAnswer struct {
	Verdict
	Gates [catalogue.NumGates]GateAnswer
}

// Answer is a whole answer: all accounts that the action knows, the deciding
// one first. It is what console, API and client show; docs/decisions/0001 says
// why all accounts are in it.
type Answer struct {
	Question Question
	Kind     Kind
	Nobody   bool // at our own domain, and nobody there has the address
	Accounts []AccountAnswer
}

// Yes reports whether the decision is yes.
func (x *Answer) Yes() bool { return x.Accounts[0].Yes }

// Deciding returns the account that decides.
func (x *Answer) Deciding() *AccountAnswer { return &x.Accounts[0] }

// Refusals lists every cause that refuses, gate by gate. They are in the order
// in which they should be mended.
func (x *AccountAnswer) Refusals() (out []Cause) {
	for g := range x.Gates {
		for _, c := range x.Gates[g].Causes {
			if c.Refuses {
				out = append(out, c)
			}
		}
	}
	return
}

// recorder keeps the causes and chains of one answer. starts tells where the
// causes of each account begin; there are two at most.
type recorder struct {
	causes []Cause
	chains []Chain
	starts [2]int
	n      int
	zone   *time.Location
}

// begin notes that the causes of another account follow.
func (r *recorder) begin(Account) {
	r.starts[r.n] = len(r.causes)
	r.n++
}

// add notes a cause and returns it to be filled in. The pointer holds until the
// next call.
func (r *recorder) add(g catalogue.Gate, refuses bool, code catalogue.Code) *Cause {
	r.causes = append(r.causes, Cause{Gate: g, Refuses: refuses, Code: code, When: moment.Never, Zone: r.zone})
	return &r.causes[len(r.causes)-1]
}

// chain returns a place for a chain that never moves. Causes point to chains,
// so a block that is full is left where it is.
func (r *recorder) chain() *Chain {
	if len(r.chains) == cap(r.chains) {
		r.chains = make([]Chain, 0, 8) // full: begin another block, the old one stays where it is
	}
	r.chains = r.chains[:len(r.chains)+1]
	c := &r.chains[len(r.chains)-1]
	*c = Chain{} // of a question before
	return c
}

// Explanation is room for an answer, which many questions one after the other
// may use. A list of a hundred explained lines then takes the memory of one.
type Explanation struct {
	asker    asker
	rec      recorder
	answer   Answer
	accounts [2]AccountAnswer
}

// Explain answers a question with every cause and chain. An error is a
// *WrongUse.
func (s *Snapshot) Explain(q *Question) (*Answer, error) { return s.ExplainIn(&Explanation{}, q) }

// ExplainIn is Explain that needs no room of its own: the answer holds until
// the next one is put into the same room. Both accounts are asked, also where
// the first says yes, because the reader wants to see both.
//
// It goes through the same gates as Decide, with a recorder set, and takes some
// ten times as long.
func (s *Snapshot) ExplainIn(room *Explanation, q *Question) (*Answer, error) {
	a, rec, out := &room.asker, &room.rec, &room.answer
	*a = asker{}
	if err := a.resolve(s, q); err != nil {
		return nil, err
	}
	if rec.causes == nil {
		rec.causes, rec.chains = make([]Cause, 0, 24*a.nAccounts), make([]Chain, 0, 10)
	}
	*rec = recorder{zone: s.pol.zone, causes: rec.causes[:0], chains: rec.chains[:0]}
	a.rec = rec
	room.accounts = [2]AccountAnswer{}
	*out = Answer{Question: *q, Kind: a.kind, Nobody: a.stranger, Accounts: room.accounts[:a.nAccounts:a.nAccounts]}
	for i := range out.Accounts {
		out.Accounts[i].Verdict = a.ask(a.accounts[i])
	}
	for i := range out.Accounts {
		acc := &out.Accounts[i]
		end := len(rec.causes)
		if i+1 < len(out.Accounts) {
			end = rec.starts[i+1]
		}
		// Causes come gate by gate, so that those of one gate lie together.
		mine := rec.causes[rec.starts[i]:end]
		for g := range acc.Gates {
			gate := &acc.Gates[g]
			gate.Gate = catalogue.Gate(g)
			gate.Asked, gate.Pass = acc.Asked.Has(gate.Gate), !acc.Refusing.Has(gate.Gate)
			from := 0
			for from < len(mine) && mine[from].Gate < gate.Gate {
				from++
			}
			to := from
			for to < len(mine) && mine[to].Gate == gate.Gate {
				to++
			}
			gate.Causes = mine[from:to:to]
		}
	}
	if len(out.Accounts) == 2 && out.Accounts[1].before(&out.Accounts[0].Verdict) {
		out.Accounts[0], out.Accounts[1] = out.Accounts[1], out.Accounts[0]
	}
	return out, nil
}
