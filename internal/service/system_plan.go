package service

import (
	"cmp"
	"context"
	"encoding/json"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Planned is one trial of a plan, and for how many it stands.
type Planned struct {
	Asked     Asked
	Parties   int // known parties that are like whoever tries, and typical newcomers of their kind: at least 1
	Resources int // of the same kind
}

// PlanResult is what came of a plan.
type PlanResult struct {
	System         string
	Trials         []Trial
	StandFor       int // (party, action, resource) that the trials stand for
	Outcomes       map[Outcome]int
	Contradictions int
}

// planMost bounds a plan: a trial is a call each.
const planMost = 200

// Plan lists what is tried of a system: each action that can be, once for each typical newcomer, and for each
// partner and kind once as a guest of theirs and where they were given something; with partner only theirs.
func (s *Service) Plan(ctx context.Context, st *State, x *System, partner string) (out []Planned, err error) {
	now := s.Now()
	people, meetings := st.Counts().People, st.Counts().Meetings
	person, meeting := st.First("person"), st.First("meeting")
	guests, err := s.planGuests(ctx, st, x, partner, now)
	if err != nil {
		return nil, err
	}
	for _, name := range x.dialect().Tries {
		act, ok := catalogue.ActionByName(name)
		if !ok {
			continue
		}
		for _, n := range st.NewcomersAt(now) {
			if partner != "" && n.Partner != partner || n.Named != "" {
				continue
			}
			p := Planned{Asked: Asked{Subject: n.Who.String(), Action: name}, Parties: 1}
			takes := act.Takes
			switch {
			case n.Who.Kind == engine.ByLinkID:
				if name != "files.open" {
					continue
				}
				item, ok := st.ItemOfLink(n.Who.ID)
				if !ok {
					continue
				}
				p.Asked.Resource, p.Resources = item.String(), 1
				p.Parties = st.Counts().Links
			case act.Address:
				if person == "" {
					continue
				}
				p.Asked.Subject, p.Asked.Address = "person:"+person, n.Who.String()
				p.Asked.Resource, p.Resources = "mailbox:"+person, people
			case takes(catalogue.Meeting):
				if meeting == "" {
					continue
				}
				p.Asked.Resource, p.Resources = "meeting:"+meeting, meetings
			case takes(catalogue.Person) && person != "":
				p.Asked.Resource, p.Resources = "person:"+person, people
			case takes(catalogue.Calendar) && person != "":
				p.Asked.Resource, p.Resources = "calendar:"+person, people
			default: // it needs something that was given
				continue
			}
			if n.Who.Kind == engine.ByAddress && n.Partner != "" {
				p.Parties += st.Dealings(n.Partner, now).Home
			}
			out = append(out, p)
		}
		for _, p := range guests {
			if p.Asked.Action == name {
				out = append(out, p)
			}
		}
	}
	return out[:min(len(out), planMost)], nil
}

// planGuests finds, for each partner and kind, one guest and one thing that they were given, for each action
// that a system can try as a guest; it stands for all that guests of theirs were given of that kind.
func (s *Service) planGuests(ctx context.Context, st *State, x *System, partner string, now moment.Moment) (out []Planned, err error) {
	place := map[[2]string]int{}
	err = s.store.EachGrant(ctx, func(_ string, list []world.Grant) error {
		if list[0].Address.IsZero() {
			return ctx.Err()
		}
		who := st.PartyOf(list[0].Address)
		if state, _, _, ok := st.StateOf(who, now); !ok || state != world.StateActive {
			return ctx.Err()
		}
		_, _, of := st.RecordOf(who)
		if partner != "" && of != partner {
			return ctx.Err()
		}
		for i := range list {
			g := &list[i]
			if !moment.Within(now, g.From, g.Until) {
				continue
			}
			for _, name := range x.dialect().Tries {
				act, ok := catalogue.ActionByName(name)
				if !ok || !act.Takes(g.Resource.Kind) || act.Address {
					continue
				}
				key := [2]string{cmp.Or(of, st.KindAt(g.Address, now).String()), name}
				if k, seen := place[key]; seen {
					out[k].Parties++
					continue
				}
				place[key] = len(out)
				out = append(out, Planned{Asked: Asked{Subject: g.Address.String(), Action: name, Resource: g.Resource.String()}, Parties: 1,
					Resources: 1})
			}
		}
		return ctx.Err()
	})
	return out, err
}

// TryPlan tries everything of a plan, one after the other, until the context ends.
func (s *Service) TryPlan(ctx context.Context, who Who, id, partner string) (*PlanResult, error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	st := s.State()
	if partner != "" && !st.Has("partner", partner) {
		return nil, &Invalid{"partner", partner, "there is no such partner"}
	}
	out := &PlanResult{System: id, Trials: []Trial{}, Outcomes: map[Outcome]int{}}
	plan, err := s.Plan(ctx, st, x, partner)
	if err != nil {
		return nil, err
	}
	for _, p := range plan {
		t, err := s.Try(ctx, who, p.Asked)
		if err != nil {
			return out, err
		}
		out.Trials = append(out.Trials, *t)
		out.Outcomes[t.Outcome]++
		if t.Outcome == TrialAdmitted || t.Outcome == TrialRefused {
			out.StandFor += p.Parties * p.Resources
		}
		if t.Contradiction {
			out.Contradictions++
		}
	}
	return out, nil
}

// tryNightly runs the plan of a system once a day, from two in the morning on.
func (s *Service) tryNightly(ctx context.Context, x *System) error {
	if !x.Nightly {
		return nil
	}
	zone, now := s.State().Zone(), s.Now()
	day := moment.DayOf(now, zone)
	if now < day.Start(zone)+2*3600e6 {
		return nil
	}
	doc, err := s.store.Record(ctx, "trial_plan", x.ID)
	if err != nil {
		return err
	}
	var last struct {
		Day string `json:"day"`
	}
	if doc != nil {
		if err := json.Unmarshal(doc, &last); err != nil {
			return err
		}
	}
	if last.Day == day.String() {
		return nil
	}
	last.Day = day.String()
	if err := s.change(ctx, Scheduler, "what can be tried at "+x.Name+" is tried", func(_ *State, t *store.Tx) error {
		return putJSON(t, "trial_plan", x.ID, last)
	}); err != nil {
		return err
	}
	_, err = s.TryPlan(ctx, Who{Name: Scheduler}, x.ID, "")
	return err
}
