// Package answer turns what the engine found into the records that the contract
// describes: the same object for the API, the client and a world file alone.
package answer

import (
	"cmp"
	"fmt"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/remedy"
	"wexillum.example/internal/core/world"
)

func text(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// Names says which names a question may hold in place of ids.
type Names uint8

// A program asks by ids alone; members do not learn guests by their names.
const (
	NoNames  Names = iota
	OurNames       // of our people and places
	AllNames       // of guests too
)

// Question parses a question as the contract writes it. Errors are *engine.WrongUse.
func Question(q *contract.Question, s *engine.Snapshot, now moment.Moment, names Names) (engine.Question, error) {
	out := engine.Question{At: now}
	var err error
	who := func(text string) (engine.Who, error) {
		if names == NoNames {
			return engine.ParseWho(text)
		}
		return s.WhoNamed(text, names == AllNames)
	}
	if out.Subject, err = who(q.Subject); err != nil {
		return out, err
	}
	if names == NoNames {
		if out.Action, err = engine.ParseAction(q.Action); err != nil {
			return out, err
		}
		if out.Resource, err = engine.ParseResource(q.Resource); err != nil {
			return out, err
		}
	} else {
		if out.Action, err = s.ActionNamed(q.Action, q.Resource, out.Subject.Kind == engine.ByPerson); err != nil {
			return out, err
		}
		if out.Resource, err = s.ResourceNamed(q.Resource, out.Action); err != nil {
			return out, err
		}
	}
	if q.At != nil && *q.At != "" {
		if out.At, err = moment.ParseLoose(*q.At, now, s.Zone()); err != nil {
			return out, &engine.WrongUse{Field: "at", Value: *q.At, Reason: err.Error()}
		}
	}
	if c := q.Context; c != nil {
		if c.Address != nil && *c.Address != "" {
			w, err := who(*c.Address)
			if err != nil || w.Kind != engine.ByAddress {
				reason := "write an address or *@domain"
				if e, ok := err.(*engine.WrongUse); ok {
					reason = e.Reason
				}
				return out, &engine.WrongUse{Field: "context.address", Value: *c.Address, Reason: reason}
			}
			out.Address = w.Address
		}
		if c.Presenter != nil {
			out.Presenter = *c.Presenter
			if len(out.Presenter) > 7 && out.Presenter[:7] == "person:" {
				out.Presenter = out.Presenter[7:]
			}
		}
		if c.Account != nil {
			if out.Account, err = engine.ParseAccount(string(*c.Account)); err != nil {
				return out, err
			}
		}
		out.DropsCopy = c.KeepCopy != nil && !*c.KeepCopy
	}
	return out, nil
}

// Of writes an answer.
func Of(s *engine.Snapshot, x *engine.Answer, revision uint64) contract.Answer {
	act := x.Question.Action.Get()
	d := account(x.Deciding())
	name := ""
	if !x.Question.Stranger {
		name = s.NameOfSubject(x.Question.Subject)
	}
	out := contract.Answer{
		Subject: x.Question.Subject.String(), Name: text(name), Kind: x.Kind.String(),
		Action: act.Name, ActionTitle: text(act.TitleOn(x.Question.Resource.Kind)),
		Resource: x.Question.Resource.String(), ResourceName: text(s.NameOf(x.Question.Resource)),
		Address: text(
			x.Question.Address.String(),
		), At: x.Question.At.String(), Decision: contract.AnswerDecision(d.Decision), Account: d.Account, Conditions: d.Conditions,
		Gates:    d.Gates,
		Accounts: []contract.AccountAnswer{}, Revision: int64(revision),
	}
	for i := range x.Accounts {
		out.Accounts = append(out.Accounts, account(&x.Accounts[i]))
	}
	promised(s, x, &out)
	saidOnce(out.Gates)
	for i := range out.Accounts {
		saidOnce(out.Accounts[i].Gates)
	}
	return out
}

// saidOnce leaves out a cause that says of a second key what one before says of the first.
func saidOnce(gates []contract.Gate) {
	for g := range gates {
		said := map[string]int{}
		var once []contract.Cause
		for _, c := range gates[g].Causes {
			k := fmt.Sprint(c.Refuses, c.Text)
			i, again := said[k]
			if !again {
				said[k] = len(once)
				once = append(once, c)
				continue
			}
			if first := once[i].Next; first != nil && c.Next != nil && !strings.Contains(*first, *c.Next) {
				both := *first + " " + *c.Next
				once[i].Next = &both
			}
		}
		if once != nil {
			gates[g].Causes = once
		}
	}
}

// nothingHelps is said of a cause against which every change that there is was tried.
const nothingHelps = "No change that can be made here was found to change this."

// stepDays is for how long what a next step gives is given.
const stepDays = 90

// promised replaces the next steps of an answer's causes by ones that were tried: once they
// are made, their cause refuses no more. What no change of ours can be against keeps its
// words.
func promised(s *engine.Snapshot, x *engine.Answer, out *contract.Answer) {
	until := moment.EndOfDays(moment.DayOf(x.Question.At, s.Zone()), stepDays, s.Zone())
	for i := range x.Accounts {
		a := &x.Accounts[i]
		for g := range a.Gates {
			for k := range a.Gates[g].Causes {
				c := &a.Gates[g].Causes[k]
				if !c.Refuses {
					continue
				}
				set, known := remedy.Step(s, &x.Question, a.Account, catalogue.Gate(g), c, until)
				if !known || len(set) == 0 && c.Code == catalogue.RecordSuspended ||
					len(set) == 1 &&
						(set[0].Kind == remedy.TheirStance || set[0].Kind == remedy.Activate && set[0].Who == "the party") { // the words ask them
					continue
				}
				next, at, who := nothingHelps, "", c.WhoText()
				if len(set) > 0 {
					next, at, who = stepText(s, set), stepAt(s, &set[0]), set[0].Who
				}
				told := func(c *contract.Cause) { c.Next, c.At, c.Who = &next, text(at), text(who) }
				told(&out.Accounts[i].Gates[g].Causes[k])
				if a == x.Deciding() {
					told(&out.Gates[g].Causes[k])
				}
			}
		}
	}
}

// stepAt tells where a change is made.
func stepAt(s *engine.Snapshot, c *remedy.Change) string {
	switch c.Kind {
	case remedy.GiveGrant, remedy.JoinGroup, remedy.AtItem, remedy.AtSpace, remedy.Admit, remedy.TakeIn, remedy.MeetingDoor:
		space := c.Resource.ID
		switch {
		case c.Resource.Kind == catalogue.Meeting:
			_, space = s.HostOf(c.Resource.ID)
		case c.Resource.Kind.IsItem():
			space = s.SpaceOf(c.Resource.ID)
		}
		if space == "" {
			return ""
		}
		return "space:" + space
	case remedy.Activate, remedy.Extend, remedy.Licence:
		if c.Resource.ID != "" {
			return c.Resource.String()
		}
		return "guest:" + c.Party.String()
	case remedy.Exceptional:
		if c.Person != "" {
			return "person:" + c.Person
		}
		return "rule:" + c.Rule.String()
	case remedy.EditException, remedy.EndException:
		return "exception:" + c.Except
	case remedy.AtPartner, remedy.OpenPartner, remedy.ResumePartner, remedy.AddDomain, remedy.TheirStance:
		return "partner:" + c.Partner
	case remedy.MakePartner, remedy.LiftBar:
		return "partners"
	}
	return "rule:" + c.Rule.String()
}

// stepText says changes in sentences, and who can make each where it is not an administrator.
func stepText(s *engine.Snapshot, set []remedy.Change) string {
	var out []string
	for i := range set {
		text := set[i].Text()
		kind, id, _ := strings.Cut(set[i].Who, ":")
		switch kind {
		case "owner", "sponsor":
			name := cmp.Or(s.NameOf(world.Resource{Kind: catalogue.Person, ID: id}), id)
			text = strings.TrimSuffix(text, ".") + "; " + name + " can do it."
		case "the party":
			text = strings.TrimSuffix(text, ".") + "; it is for them to do."
		}
		out = append(out, text)
	}
	return strings.Join(out, " ")
}

// YesNo writes a decision.
func YesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

func account(a *engine.AccountAnswer) contract.AccountAnswer {
	out := contract.AccountAnswer{
		Account:    a.Account.String(),
		Decision:   contract.AccountAnswerDecision(YesNo(a.Yes)),
		Conditions: a.Conditions.Names(),
		Gates:      []contract.Gate{},
	}
	for g := range a.Gates {
		gate := contract.Gate{Gate: a.Gates[g].Gate.String(), Answer: contract.GateAnswer(a.Gates[g].String()), Causes: []contract.Cause{}}
		for i := range a.Gates[g].Causes {
			gate.Causes = append(gate.Causes, Cause(&a.Gates[g].Causes[i]))
		}
		out.Gates = append(out.Gates, gate)
	}
	return out
}

// Cause writes a cause with the whole chain of its rule.
func Cause(c *engine.Cause) contract.Cause {
	out := contract.Cause{
		Code:    c.Code.String(),
		Refuses: c.Refuses,
		Side:    contract.CauseSide(c.Side.String()),
		Who:     text(c.WhoText()),
		Text:    c.Text(),
		Next:    text(c.Next()),
		Partner: text(c.Partner),
	}
	if c.Chain == nil {
		return out
	}
	r := c.Chain.Rule.Get()
	format := func(v catalogue.Value) *string { return text(r.Scale.Format(v)) }
	decided := c.Chain.Decided()
	layer := decided.String()
	out.Rule, out.Value, out.Needed, out.Layer, out.Without = &r.Name, format(c.Value), format(c.Needed), &layer, format(c.Chain.Without())
	chain := steps(c.Chain)
	options := []contract.Option{}
	for _, o := range c.Chain.Options() {
		x := contract.Option{Value: r.Scale.Format(o.Value), Can: o.Can}
		if !o.Can {
			who := "administrator"
			if o.By == engine.SpaceLayer || o.By == engine.ItemLayer {
				who = "owner of " + c.Chain.Steps[o.By].Where
			}
			x.By, x.Who = text(o.By.String()), &who
		}
		options = append(options, x)
	}
	out.Chain, out.Options = &chain, &options
	return out
}

// Reach writes what a party reaches.
func Reach(
	s *engine.Snapshot,
	who engine.Who,
	kind engine.Kind,
	at moment.Moment,
	lines []engine.ReachLine,
	revision uint64,
) contract.Reach {
	out := contract.Reach{
		Subject:  who.String(),
		Name:     text(s.NameOfSubject(who)),
		Kind:     kind.String(),
		At:       at.String(),
		Lines:    []contract.ReachLine{},
		Revision: int64(revision),
	}
	for i := range lines {
		l := &lines[i]
		conds := l.Conditions.Names()
		if !l.Yes {
			conds = []string{}
		}
		out.Lines = append(
			out.Lines,
			contract.ReachLine{
				Service:    l.Action.Get().Service().String(),
				Action:     l.Action.String(),
				Resource:   l.Resource.String(),
				Name:       text(l.Name),
				Count:      l.Count,
				Decision:   contract.ReachLineDecision(YesNo(l.Yes)),
				Account:    l.Account.String(),
				Conditions: conds,
				Cause:      Cause(&l.Cause),
				Since:      momentText(l.Since),
				Until:      momentText(l.Until),
			},
		)
	}
	return out
}

// Actions writes the catalogue of actions.
func Actions() []contract.Action {
	out := []contract.Action{}
	for _, a := range catalogue.Actions() {
		x := contract.Action{
			Name:      a.Name,
			Title:     a.Title,
			Service:   a.Service().String(),
			Resources: []string{},
			Address:   a.Address,
			Presenter: a.PresenterAsked,
			Ours:      a.Asks[catalogue.Ours] != nil,
		}
		for _, k := range a.On {
			x.Resources = append(x.Resources, k.String())
		}
		out = append(out, x)
	}
	return out
}

// Rules writes the catalogue of rules as the snapshot sets them. With only, just
// those.
func Rules(s *engine.Snapshot, only []*catalogue.Rule, at moment.Moment, etag func(catalogue.RuleID) string) []contract.Rule {
	below := s.Set()
	pol := s.Policy()
	set := map[catalogue.RuleID]bool{}
	for _, x := range pol.Rules {
		set[x.Rule] = true
	}
	out := []contract.Rule{}
	for _, r := range only {
		f := r.Scale.Format
		limit, counts, said, held := s.RuleState(r.ID)
		yes := set[r.ID]
		x := contract.Rule{
			Name:    r.Name,
			Service: r.Service(),
			Title:   r.Title,
			Shape:   contract.RuleShape(r.Scale.Shape.String()),
			Limit:   f(limit),
			Default: f(counts),
			StartLimit: f(
				r.Limit,
			),
			StartDefault:  f(r.Default),
			Advised:       f(r.Advised),
			AdvisedReason: r.Reason,
			Omits:         text(r.Omits),
			Layers:        r.Layers.Names(),
			Exposes: r.Scale.Looser(
				counts,
				r.Advised,
			),
			Set:    &yes,
			Below:  []contract.RuleBelow{},
			Values: []contract.RuleValue{},
			Etag:   etag(r.ID),
		}
		x.Example = text(example(r))
		if r.Layers&catalogue.AtPeople != 0 {
			with := []string{}
			for _, c := range catalogue.Companions(r.ID) {
				with = append(with, c.String())
			}
			x.With = &with
		}
		if x.Layers == nil {
			x.Layers = []string{}
		}
		if held {
			x.HeldDefault = text(f(said))
		}
		if r.Scale.Shape == catalogue.Methods {
			for i, n := range r.Scale.Names {
				x.Values = append(x.Values, contract.RuleValue{Value: n, Sentence: r.Sentences[i]})
			}
		} else {
			for _, v := range r.Scale.All() {
				x.Values = append(x.Values, contract.RuleValue{Value: f(v), Sentence: r.Sentence(v)})
			}
		}
		add := func(layer, where, name string, ss []world.Setting) {
			for _, v := range ss {
				if v.Rule == r.ID {
					x.Below = append(
						x.Below,
						contract.RuleBelow{Layer: layer, Where: where, Name: text(name), Value: f(v.Value), Held: v.Held},
					)
				}
			}
		}
		for i := range pol.Partners {
			add("partner", pol.Partners[i].ID, pol.Partners[i].Name, pol.Partners[i].Rules)
		}
		for i := range pol.Exceptions {
			if pol.Exceptions[i].Until <= at { // it is over
				continue
			}
			add("people", pol.Exceptions[i].ID, pol.Exceptions[i].Reason, pol.Exceptions[i].Rules)
		}
		for _, b := range below[r.ID] {
			x.Below = append(
				x.Below,
				contract.RuleBelow{Layer: b.Layer.String(), Where: b.Where, Name: text(b.Name), Value: f(b.Value), Held: b.Held},
			)
		}
		out = append(out, x)
	}
	return out
}

// example tells a question that turns on a rule, in the example world of the docs.
func example(r *catalogue.Rule) string {
	e := catalogue.ExampleOf(r.ID)
	if e.Ask == "" {
		return ""
	}
	return "ask " + e.Ask + " is answered " + e.Then + " at " + e.Tight + ", and " + e.Else + " at " + e.Loose + "."
}

// DomainTest writes which entry decides for an address, and why.
func DomainTest(s *engine.Snapshot, m engine.Match) contract.DomainTest {
	d := m.Address.Domain()
	out := contract.DomainTest{
		Address: m.Address.String(),
		Domain:  d.String(),
		Unicode: d.Unicode(),
		Entry:   text(m.Entry),
		Verdict: contract.DomainTestVerdictUnlisted,
	}
	how := "exactly"
	if m.Entry != d.String() && m.Entry != m.Address.String() {
		how = "with its subdomains, as the longest match"
	}
	if m.Partner != nil {
		out.Partner = &m.Partner.ID
	}
	switch {
	case m.Own:
		out.Verdict, out.Text = contract.DomainTestVerdictOwn, "One of our own domains: "+m.Entry+", "+how+"."
		return out
	case m.Bar != nil:
		out.Verdict, out.Text = contract.DomainTestVerdictBarred, "Barred by the entry "+m.Bar.Key()+". It never gets in, whatever any rule says."
		if m.Bar.Reason != "" {
			out.Text += " Reason: " + m.Bar.Reason + "."
		}
		if m.Partner != nil {
			out.Text += " Without the bar it would belong to the partner " + m.Partner.Name + "."
		}
	case m.Partner != nil:
		out.Verdict, out.Text = contract.DomainTestVerdictPartner,
			"It belongs to the partner "+m.Partner.Name+" by the entry "+m.Entry+", "+how+"."
	case m.Private:
		out.Verdict, out.Text = contract.DomainTestVerdictPersonal,
			"A private address: the entry "+m.Entry+" lists a provider of mailboxes for private persons."
	default:
		out.Text = "No entry matches: an address at no partner."
	}
	owner := ""
	if m.Partner != nil {
		owner = m.Partner.ID
	}
	if like, whose, ok := world.NewWatch(s.Policy()).LookAlike(owner, d); ok {
		out.LookAlike = text(like.String())
		out.Text += " It looks like " + like.String() + " of " + whose + "."
	}
	return out
}
