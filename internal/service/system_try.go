package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Outcome is what came of a trial (systems.md §6). The last two say nothing.
type Outcome string

// Outcomes.
const (
	TrialAdmitted Outcome = "admitted"
	TrialRefused  Outcome = "refused"
	TrialSilent   Outcome = "silent"
	TrialTooEarly Outcome = "too_early"
	TrialNotTried Outcome = "not_tried"
)

// Trial is one attempt of one action at a system, from outside.
type Trial struct {
	ID            string    `json:"id"`
	At            string    `json:"at"`
	By            string    `json:"by"`
	Revision      uint64    `json:"revision"`
	Read          string    `json:"read,omitempty"` // the moment of the reading it is held against
	System        string    `json:"system,omitempty"`
	Asked         Asked     `json:"asked"`
	From          string    `json:"from,omitempty"` // the address made for it
	Meant         string    `json:"meant"`          // yes or no
	Found         string    `json:"found,omitempty"`
	Outcome       Outcome   `json:"outcome"`
	Says          string    `json:"says,omitempty"`   // in the system's words, or why nothing was tried
	As            native.As `json:"as,omitempty"`     // as whom it came
	Theirs        bool      `json:"theirs,omitempty"` // it was refused at the other end
	Making        bool      `json:"making,omitempty"` // the account or the link for it was refused
	Contradiction bool      `json:"contradiction,omitempty"`
	Milliseconds  int64     `json:"milliseconds,omitempty"`
}

// trialName is the local part of addresses that are made for trials; nobody has it.
const trialName = "trial-of-wexillum"

// Try attempts what a question is about at the system that carries it, from outside, as somebody made
// for the trial; and holds what comes of it against what was found and what is meant. A disagreement
// with what was found is a contradiction: the settings concerned are taken for not done.
func (s *Service) Try(ctx context.Context, who Who, asked Asked) (*Trial, error) {
	q, err := asked.Question(s.Now())
	if err != nil {
		return nil, err
	}
	st := s.State()
	v, err := st.Decide(&q)
	if err != nil {
		return nil, err
	}
	x := &Trial{At: s.Now().String(), By: who.Name, Revision: st.Head.Revision, Asked: asked, Meant: yesNo(v.Yes), Outcome: TrialNotTried}
	if err := s.attempt(ctx, x, &q); err != nil {
		return nil, err
	}
	err = s.change(ctx, who.Name, "", func(_ *State, t *store.Tx) error {
		x.ID = fmt.Sprintf("t%d", t.Head().Seq+1)
		t.Because(x.inWords())
		return putJSON(t, "trial", x.ID, x)
	})
	if err != nil || !x.Contradiction {
		return x, err
	}
	return x, s.contradicted(ctx, x, q.Action)
}

func yesNo(yes bool) string {
	if yes {
		return "yes"
	}
	return "no"
}

// attempt makes the trial, as far as one can be made.
func (s *Service) attempt(ctx context.Context, x *Trial, q *engine.Question) error {
	list, err := s.Systems(ctx)
	if err != nil {
		return err
	}
	act := q.Action.Get()
	sys := carrierOf(list, q.Action)
	if sys == nil {
		x.Says = "no system carries " + act.Service().String()
		return nil
	}
	x.System = sys.ID
	if sys.Mode == ModePaused {
		x.Says = sys.Name + " is paused"
		return nil
	}
	try, why, err := s.attemptOf(ctx, sys, act, q)
	if err != nil {
		return err
	}
	if why != "" {
		x.Says = why
		return nil
	}
	x.From, x.As = try.From, try.As
	c, err := s.connector(sys)
	if err != nil {
		x.Says = err.Error()
		return nil
	}
	began := time.Now()
	out, err := c.Try(ctx, try)
	x.Milliseconds = time.Since(began).Milliseconds()
	switch {
	case err != nil:
		x.Outcome, x.Says = TrialSilent, err.Error()
		return nil
	case !out.Known:
		x.Says = cmp.Or(out.Says, sys.Name+" cannot try this")
		return nil
	case out.Admitted:
		x.Outcome = TrialAdmitted
	default:
		x.Outcome = TrialRefused
	}
	if x.Theirs = out.Theirs; x.Theirs { // our end was not reached: of it nothing is said
		x.Says = out.Says
		return nil
	}
	x.Making = out.Making
	x.Says = out.Says
	if early, err := s.underWay(ctx, sys, q.Action); err != nil || early {
		x.Outcome = TrialTooEarly
		return err
	}
	most, err := s.StateFound(ctx, true)
	if err != nil {
		return nil // it was never read: the trial stands for itself
	}
	least, err := s.StateFound(ctx, false)
	if err != nil {
		return err
	}
	if r, err := s.store.ReadingOf(ctx, sys.ID, moment.Never-1); err == nil && r != nil {
		x.Read = r.Seen.String()
		if lately, err := s.mayNotCount(ctx, sys, q.Action); err != nil || lately {
			x.Outcome = TrialTooEarly
			return err
		}
	}
	held := *q // found is asked of whoever came; of one who came as a guest, of the guest whom it stood for
	if try.As == native.Stranger && try.From != "" && q.Subject.Kind == engine.ByAddress {
		if held.Subject.Address, err = addr.Parse(try.From); err != nil {
			return err
		}
	}
	a, errA := most.Decide(&held)
	b, errB := least.Decide(&held)
	if errA != nil || errB != nil {
		return nil
	}
	x.Found = yesNo(a.Yes)
	if a.Yes != b.Yes {
		x.Found = "unsure"
	}
	x.Contradiction = x.Outcome == TrialAdmitted && !a.Yes && s.looksAt(sys, most, &held) || x.Outcome == TrialRefused && b.Yes
	return nil
}

// attemptOf says how a question is tried: as whom, from where, on what; why says why it is not.
func (s *Service) attemptOf(ctx context.Context, sys *System, act *catalogue.Action, q *engine.Question) (a native.Attempt, why string,
	err error) {
	a.Action = act.Name
	st := s.State()
	n, err := s.systemNames(ctx, st, sys)
	if err != nil {
		return a, "", err
	}
	away := ""
	if len(sys.dialect().Holdings) > 0 && (q.Resource.Kind == catalogue.Space || q.Resource.Kind == catalogue.Meeting ||
		q.Resource.Kind.IsItem()) {
		var ok bool
		if a.Place, ok = native.PlaceThere(q.Resource.String(), n); !ok {
			away = "read, not tried: the space is not in " + sys.Name + " yet"
		}
	}
	switch {
	case act.Address && q.Subject.Kind == engine.ByPerson:
		a.As, a.To = native.OneOurs, trialName+"@"+q.Address.Domain().String()
		if _, keeps := sys.dialect().Holding("forwarder"); keeps {
			a.From = st.AddressOf(q.Subject.ID)
			if p, err := s.Person(ctx, q.Subject.ID); err == nil && p.Roles&world.Administrator != 0 {
				a.Administrator = true
			}
		}
		return a, "", nil
	case q.Subject.Kind == engine.ByLinkID:
		a.As, a.From = native.AHolder, trialName
		return a, cmp.Or(s.ownToThem(st, q, "the link"), away), nil
	case q.Subject.Kind != engine.ByAddress:
		return a, "only what outsiders do, and mail of ours that goes on, is tried", nil
	}
	a.As, a.From = native.Stranger, trialName+"@"+q.Subject.Address.Domain().String()
	a.Private = st.KindAt(q.Subject.Address, s.Now()) == engine.KindPersonal
	switch q.Resource.Kind { // whom of ours it is about: nothing reaches them
	case catalogue.Person, catalogue.Calendar:
		a.To = st.AddressOf(q.Resource.ID)
	case catalogue.Meeting:
		host, _ := st.HostOf(q.Resource.ID)
		a.To = st.AddressOf(host)
	}
	if q.Subject.Address.IsNewcomer() || st.KindAt(q.Subject.Address, s.Now()) != engine.KindGuest {
		return a, "", nil
	}
	// A guest is tried as a guest who is made for it, where the system keeps guests and what they were given; of
	// reports whoever is shown one is known.
	a.As = native.AGuest
	if _, keeps := sys.dialect().Holding("guest"); !keeps {
		if act.Service() != catalogue.Reports {
			return a, "read, not tried: a trial comes as somebody unknown, and this is a guest", nil
		}
		return a, "", nil
	}
	if g, err := s.store.Guest(ctx, q.Subject.Address.String()); err != nil || g == nil || g.State == world.StateSuspended {
		return a, "read, not tried: a trial comes as a guest who is in, and this one is not", err
	}
	given, err := s.meantThing(ctx, st, sys, "grant", q.Subject.Address.String()+" "+q.Resource.String())
	if err != nil {
		return a, "", err
	}
	if given == nil {
		return a, "read, not tried: a trial's account would be given this first, and this guest was not", nil
	}
	if why := s.ownToThem(st, q, "the guest"); why != "" {
		return a, why, nil
	}
	return a, away, nil
}

// ownToThem says why a question is read and not tried: what refuses it is the link's or the guest's own, which an
// account that is made for a trial has not, as the age of a link or of terms.
func (s *Service) ownToThem(st *State, q *engine.Question, what string) string {
	a, err := st.Explain(q)
	if err != nil {
		return err.Error()
	}
	for _, g := range []catalogue.Gate{catalogue.Identity, catalogue.GrantGate} {
		if x := &a.Deciding().Gates[g]; x.Asked && !x.Pass {
			return "read, not tried: what refuses it is " + what + "'s own: " + causesText(x.Causes[:1])
		}
	}
	return ""
}

// looksAt reports whether all that refuses a question is what the system carries: of what it does not, a
// reading says nothing that a trial could contradict.
func (s *Service) looksAt(x *System, found *State, q *engine.Question) bool {
	answer, err := found.Explain(q)
	if err != nil {
		return false
	}
	for _, c := range answer.Deciding().Refusals() {
		switch {
		case c.Chain != nil && x.carries(c.Chain.Rule.String()):
		// who they are, what they were given
		case c.Chain == nil && x.keepsGrants() && (c.Gate == catalogue.Identity || c.Gate == catalogue.GrantGate):
		default:
			return false
		}
	}
	return true
}

// carries reports whether a system has anything for a rule: a setting, or a question that it asks each time.
func (x *System) carries(rule string) bool {
	d := x.dialect()
	return d.HoldsRule(rule) || slices.ContainsFunc(d.Lives, func(l native.Live) bool { return l.Rule == rule })
}

// keepsGrants reports whether a system keeps who was given what, so that a reading speaks of that, too.
func (x *System) keepsGrants() bool {
	_, ok := x.dialect().Holding("grant")
	return ok
}

// NotAsked lists what an answer for what is found leans on that no system was asked for: rules that the system
// which carries the action has nothing for, and who from outside a space admits.
func (s *Service) NotAsked(ctx context.Context, a *engine.Answer) (out []string, err error) {
	list, err := s.Systems(ctx)
	if err != nil {
		return nil, err
	}
	x := carrierOf(list, a.Question.Action)
	if x == nil {
		return nil, nil
	}
	for _, g := range []catalogue.Gate{catalogue.DomainGate, catalogue.ServiceGate, catalogue.RuleGate} {
		for _, c := range a.Deciding().Gates[g].Causes {
			says := ""
			switch {
			case c.Chain != nil && slices.Contains(x.dialect().Services, c.Chain.Rule.Get().Service()) && !x.carries(c.Chain.Rule.String()):
				says = c.Chain.Rule.Get().Title
			case c.Code == catalogue.OutsideSpaceParties, c.Code == catalogue.InSpaceParties:
				says = "who from outside a space admits"
			}
			if says != "" && !slices.Contains(out, says) {
				out = append(out, says)
			}
		}
	}
	return out, nil
}

// underWay reports whether a setting is on its way that an action leans on, so that either may count. What happens to
// records of others says nothing of an account that is made for the trial.
func (s *Service) underWay(ctx context.Context, x *System, action catalogue.ActionID) (bool, error) {
	all, err := s.settingsOf(ctx, x.ID)
	for path, c := range all {
		if !c.open() {
			continue
		}
		for _, name := range x.dialect().RulesBetween(path, c.Was, c.Meant) {
			if rule, ok := catalogue.RuleByName(name); ok && slices.Contains(catalogue.AskedBy(rule.ID), action) {
				return true, err
			}
		}
	}
	return false, err
}

// mayNotCount reports whether somebody changed so lately what an action leans on that it need not count
// there yet.
func (s *Service) mayNotCount(ctx context.Context, x *System, action catalogue.ActionID) (bool, error) {
	all, err := s.settingsOf(ctx, x.ID)
	for path, c := range all {
		span, _, _ := x.dialect().Setting(path)
		rule, ok := catalogue.RuleByName(x.dialect().RuleAt(path))
		if ok && c.Drift != nil && slices.Contains(catalogue.AskedBy(rule.ID), action) &&
			s.Now() < moment.Moment(c.Drift.Since)+moment.Moment(float64(span.Microseconds())/s.faster()) {
			return true, err
		}
	}
	return false, err
}

// inWords says what was tried and what came of it.
func (x *Trial) inWords() string {
	what := fmt.Sprintf("tried %s on %s as %s", x.Asked.Action, x.Asked.Resource, x.Asked.Subject)
	switch x.Outcome {
	case TrialNotTried:
		return "not " + what + ": " + x.Says
	case TrialSilent:
		return what + ": no answer: " + x.Says
	case TrialTooEarly:
		return what + ": too early to tell, a change is on its way; it says: " + x.Says
	}
	if x.Theirs {
		return fmt.Sprintf("%s: refused at their end: %s; our end was not reached", what, x.Says)
	}
	out := fmt.Sprintf("%s: %s, in its words: %s", what, x.Outcome, x.Says)
	if x.Contradiction {
		out += "; this contradicts what was read there"
	}
	return out
}

// contradicted makes the settings that a contradicted action leans on differ: what was read is no proof.
func (s *Service) contradicted(ctx context.Context, x *Trial, action catalogue.ActionID) error {
	sys, err := s.System(ctx, x.System)
	if err != nil {
		return err
	}
	all, err := s.settingsOf(ctx, x.System)
	if err != nil {
		return err
	}
	var list []*CarriedSetting
	for path, c := range all {
		r, ok := catalogue.RuleByName(sys.dialect().RuleAt(path))
		if !ok || c.State != StepConfirmed || !slices.Contains(catalogue.AskedBy(r.ID), action) {
			continue
		}
		n := *c
		n.Made = stamp(s.Now())
		n.State, n.Problem = StepDiffers, fmt.Sprintf("a trial contradicts it: %s was %s", x.Asked.Action, x.Outcome)
		list = append(list, &n)
	}
	return s.putSettings(ctx, sys, list, "")
}

// Trials lists trials, the newest first.
func (s *Service) Trials(ctx context.Context, limit int) ([]Trial, error) {
	entries, err := s.store.Journal(ctx, store.JournalQuery{Kind: "trial", Limit: limit})
	if err != nil {
		return nil, err
	}
	out := []Trial{}
	for i := range entries {
		var x Trial
		if err := json.Unmarshal(entries[i].Now, &x); err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return out, nil
}
