package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Absence is when somebody of ours is away, and who decides for them meanwhile: bundles that are asked for and lines of rounds of
// review (practice §1).
type Absence struct {
	Person string `json:"person"`
	Deputy string `json:"deputy,omitempty"` // a person; where there is none, keepers decide
	From   string `json:"from"`
	Until  string `json:"until"`
	Why    string `json:"why"`
	By     string `json:"by"`
	Made   string `json:"made"`
	Told   bool   `json:"told,omitempty"` // the deputy knows that it began
}

// on reports whether it lasts at a moment.
func (a *Absence) on(at moment.Moment) bool {
	from, err := moment.Parse(a.From)
	until, wrong := moment.Parse(a.Until)
	return err == nil && wrong == nil && moment.Within(at, from, until)
}

// aways is who is away, by person, as it stood with one entry of the journal.
type aways struct {
	seq uint64
	of  map[string]*Absence
}

// aways reads who is away, or will be.
func (s *Service) aways(ctx context.Context) (*aways, error) {
	seq := s.State().Head.Seq
	if last := s.away.Load(); last != nil && last.seq == seq {
		return last, nil
	}
	out := &aways{seq, map[string]*Absence{}}
	err := s.store.Records(ctx, "absence", "", func(_ string, doc []byte) error {
		x := &Absence{}
		err := json.Unmarshal(doc, x)
		out.of[x.Person] = x
		return err
	})
	if err == nil {
		s.away.Store(out)
	}
	return out, err
}

// instead is who decides at a moment for somebody: they themselves, or, while they are away, their deputy, or that one's; "" where
// nobody is left.
func (a *aways) instead(person string, at moment.Moment, here func(string) bool) string {
	for seen := map[string]bool{}; ; {
		if person == "" || seen[person] || !here(person) {
			return ""
		}
		seen[person] = true
		x := a.of[person]
		if x == nil || !x.on(at) {
			return person
		}
		person = x.Deputy
	}
}

// here reports whether somebody of ours is there and has not left.
func (s *State) here(at moment.Moment) func(string) bool {
	return func(id string) bool {
		left := s.LeftAt(id)
		return s.Has("person", id) && (left == 0 || left > at)
	}
}

// StandingIn completes who somebody is by those for whom they decide while these are away.
func (s *Service) StandingIn(ctx context.Context, who Who) (Who, error) {
	if who.Person == "" && !who.Keeps() {
		return who, nil
	}
	a, err := s.aways(ctx)
	if err != nil { // while the database is away nobody decides anything; what was known serves for questions
		if a = s.away.Load(); a == nil {
			return who, nil
		}
	}
	if len(a.of) == 0 {
		return who, nil
	}
	at := s.Now()
	here := s.State().here(at)
	stands := &Stands{}
	for id, x := range a.of {
		if !x.on(at) {
			continue
		}
		switch to := a.instead(id, at, here); {
		case to == "":
			if who.Keeps() {
				stands.Orphans = append(stands.Orphans, id)
			}
		case to == who.Person:
			stands.For = append(stands.For, id)
		}
	}
	slices.Sort(stands.For)
	slices.Sort(stands.Orphans)
	who.Stands = stands
	return who, nil
}

// AbsenceSet says that somebody is away.
type AbsenceSet struct {
	Person, Deputy string
	From, Until    string // empty From: from now on
	Why            string
}

// AbsenceSaid is an absence, and what waits for whoever decides instead.
type AbsenceSaid struct {
	Absence
	Requests, Lines int
	On              bool
}

// SetAbsence says that somebody is away, and who decides for them; what was said before is replaced. With preview nothing is kept.
func (s *Service) SetAbsence(ctx context.Context, who Who, x AbsenceSet, preview bool) (*AbsenceSaid, error) {
	if x.Person == "" {
		x.Person = who.Person
	}
	if x.Why = strings.TrimSpace(x.Why); !preview && (x.Why == "" || len(x.Why) > 500) {
		return nil, &Invalid{"why", x.Why, "say why, in 1 to 500 letters; whoever decides instead reads it"}
	}
	if err := who.SaysAway(x.Person); err != nil {
		return nil, err
	}
	at, st := s.Now(), s.State()
	if !st.here(at)(x.Person) {
		return nil, &Invalid{"person", x.Person, "there is no such person here"}
	}
	from := at
	if x.From != "" {
		var err error
		if from, err = moment.ParseLoose(x.From, at, st.Zone()); err != nil {
			return nil, &Invalid{"from", x.From, err.Error()}
		}
	}
	until, err := moment.ParseEnd(x.Until, at, st.Zone())
	if err != nil {
		return nil, &Invalid{"until", x.Until, err.Error()}
	}
	if until <= max(at, from) || until == moment.Never {
		return nil, &Invalid{"until", x.Until, "name a day after it begins, and after today; who does not come back leaves"}
	}
	if x.Deputy != "" {
		switch accounts, err := s.store.Accounts(ctx); {
		case err != nil:
			return nil, err
		case x.Deputy == x.Person:
			return nil, &Invalid{"deputy", x.Deputy, "nobody stands in for themselves"}
		case !st.here(at)(x.Deputy):
			return nil, &Invalid{"deputy", x.Deputy, "there is no such person here"}
		case !slices.ContainsFunc(accounts, func(a store.Account) bool { return a.Person == x.Deputy && !a.Disabled }):
			return nil, &Invalid{"deputy", x.Deputy, "they cannot sign in here; name somebody who can, or nobody, and a keeper decides"}
		}
	}
	out := &Absence{Person: x.Person, Deputy: x.Deputy, From: from.String(), Until: until.String(), Why: x.Why, By: who.Name,
		Made: at.String()}
	if preview {
		return s.absenceSaid(ctx, out)
	}
	if err := s.change(ctx, who.Name, x.Why, func(now *State, t *store.Tx) error {
		if err := barDeputy(t, x.Person, x.Deputy); err != nil {
			return err
		}
		return putJSON(t, "absence", x.Person, out)
	}); err != nil {
		return nil, err
	}
	if err := s.tendAbsences(ctx); err != nil {
		return nil, err
	}
	return s.absenceSaid(ctx, out)
}

// barDeputy keeps a deputy from approving what whoever named them asked for, also when the absence is over again.
func barDeputy(t *store.Tx, person, deputy string) error {
	if deputy == "" {
		return nil
	}
	var open []string
	if err := t.Naming("request", `"person":`+jsonText(person), func(id string, doc []byte) error {
		r, err := requestOf(doc)
		if err == nil && r.Bundle != nil && !r.over() && r.Person == person {
			open = append(open, id)
		}
		return err
	}); err != nil {
		return err
	}
	for _, id := range open {
		r, err := requestIn(t, id)
		if err != nil {
			return err
		}
		if r.Bundle == nil || slices.Contains(r.Bundle.Never, deputy) {
			continue
		}
		r.Bundle.Never = append(r.Bundle.Never, deputy)
		if err := putRequest(t, r); err != nil {
			return err
		}
	}
	return nil
}

// EndAbsence says that somebody is back.
func (s *Service) EndAbsence(ctx context.Context, who Who, person, why string) error {
	if err := who.SaysAway(person); err != nil {
		return err
	}
	return s.change(ctx, who.Name, cmp.Or(strings.TrimSpace(why), "they are back"), func(_ *State, t *store.Tx) error {
		there, err := t.EndRecord("absence", person)
		if err == nil && !there {
			err = fmt.Errorf("%w: %q is not said to be away", ErrNotFound, person)
		}
		return err
	})
}

// Absences lists who is away or will be: for members, what concerns them.
func (s *Service) Absences(ctx context.Context, who Who) ([]AbsenceSaid, error) {
	a, err := s.aways(ctx)
	if err != nil {
		return nil, err
	}
	out := []AbsenceSaid{}
	at := s.Now()
	for _, x := range a.of {
		until, err := moment.Parse(x.Until)
		if err != nil || until <= at || !who.SeesAway(x.Person, x.Deputy) {
			continue
		}
		said, err := s.absenceSaid(ctx, x)
		if err != nil {
			return nil, err
		}
		out = append(out, *said)
	}
	slices.SortFunc(out, func(a, b AbsenceSaid) int { return strings.Compare(a.Person, b.Person) })
	return out, nil
}

// absenceSaid counts what waits for somebody who is away.
func (s *Service) absenceSaid(ctx context.Context, x *Absence) (*AbsenceSaid, error) {
	out := &AbsenceSaid{Absence: *x, On: x.on(s.Now())}
	as := Who{Role: Member, Person: x.Person}
	st := s.State()
	if err := s.store.Naming(ctx, "request", `"owner:`+x.Person+`"`, func(_ string, doc []byte) error {
		r, err := requestOf(doc)
		if err == nil && r.Bundle != nil && st.MayApprove(r, as) {
			out.Requests++
		}
		return err
	}); err != nil {
		return nil, err
	}
	counts, err := s.store.ReviewCounts(ctx, "")
	for _, c := range counts {
		if c.State == ReviewOpen && c.Reviewer == "owner:"+x.Person {
			out.Lines += c.Lines
		}
	}
	return out, err
}

// tendAbsences tells deputies that an absence began, and takes away what is over.
func (s *Service) tendAbsences(ctx context.Context) error {
	a, err := s.aways(ctx)
	if err != nil {
		return err
	}
	at := s.Now()
	for id, x := range a.of {
		until, err := moment.Parse(x.Until)
		if err != nil {
			return err
		}
		if until > at && (x.Told || !x.on(at)) {
			continue
		}
		why := "they are away from now on"
		if until <= at {
			why = "they are back"
		}
		if err := s.change(ctx, Scheduler, why, func(now *State, t *store.Tx) error {
			doc, err := t.Record("absence", id)
			if err != nil || doc == nil {
				return cmp.Or(err, errPreview)
			}
			var cur Absence
			if err := json.Unmarshal(doc, &cur); err != nil {
				return err
			}
			if cur.Made != x.Made || cur.Told && until > at { // another service was first
				return errPreview
			}
			if until <= at {
				_, err := t.EndRecord("absence", id)
				return err
			}
			cur.Told = true
			if to, err := addr.Parse(now.AddressOf(cur.Deputy)); cur.Deputy != "" && err == nil {
				if err := s.postMail(t, now, to, "deputy", "absence "+id+" "+cur.Made,
					map[string]string{"person": id, "deputy": cur.Deputy}); err != nil {
					return err
				}
			}
			return putJSON(t, "absence", id, &cur)
		}); err != nil && !errors.Is(err, errPreview) {
			return err
		}
	}
	return nil
}

// Deciding lists those who may take a step of approving now.
func (s *Service) Deciding(ctx context.Context, now *State, x *BundleAsked, a *Approval) ([]string, error) {
	return s.decide(ctx, now, a.Who, x.Never)
}

// decide lists those who decide at a moment, of those who are to: while somebody is away, whoever stands in for them; where nobody is
// left, a keeper. Those who must never are left out.
func (s *Service) decide(ctx context.Context, now *State, who, never []string) ([]string, error) {
	a, err := s.aways(ctx)
	if err != nil {
		return nil, err
	}
	at := s.Now()
	here := now.here(at)
	var out []string
	for _, w := range who {
		id, person := strings.CutPrefix(w, "owner:")
		if person {
			if id = a.instead(id, at, here); id == "" || slices.Contains(never, id) {
				continue
			}
			w = "owner:" + id
		}
		if !slices.Contains(out, w) {
			out = append(out, w)
		}
	}
	if len(out) == 0 {
		out = []string{world.ByKeeper}
	}
	return out, nil
}
