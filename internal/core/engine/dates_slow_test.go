package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// record writes down what a guest's sequence is computed from, read off the world itself:
// states, partners, people who left, grants of its own and of its groups, and the values that
// the slow evaluator finds.
func (s *slow) record(g *world.Guest, at moment.Moment, cal *moment.Calendar) *dated.Record {
	p := s.party(g.Address.String(), moment.Never-1)
	days := func(rule string, space *world.Space) int {
		if v := s.value(rule, where{party: &p, space: space}, at); v != catalogue.NoLimit {
			return int(v)
		}
		return dated.None
	}
	word := func(rule string, space *world.Space) string {
		return s.word(rule, where{party: &p, space: space}, at)
	}
	r := &dated.Record{State: dated.Active, Since: g.Since, Accepted: g.Accepted, Renewed: g.Renewed, Until: g.Until, LastSeen: g.LastSeen,
		StateSince:  g.StateSince,
		SponsorLeft: moment.Never, HomeClosed: moment.Never, PartnerEnded: moment.Never, Calendar: cal, Kinds: &dated.Floors{}}
	for c := range r.Kinds {
		r.Kinds[c] = s.floor(g, p.partner, dated.Cause(c).String(), false)
	}
	r.Floor, r.Forward = s.floor(g, p.partner, "", false), s.floor(g, p.partner, "", true)
	switch {
	case g.Provisioned() && !(g.State == world.StateSuspended && g.HomeClosed.IsSet() && g.HomeClosed != 0):
		r.State = dated.Fed
	case g.State == world.StateInvited:
		r.State = dated.Invited
	case g.State == world.StateSuspended:
		r.State = dated.IsSuspended
		r.Suspension, _ = dated.ParseCause(g.Cause)
	}
	if g.State != world.StateInvited && g.Accepted == moment.Never {
		r.Accepted = g.Since
	}
	if x := s.person(g.Sponsor); x != nil && x.Left != 0 {
		r.SponsorLeft = x.Left
	}
	if g.HomeClosed.IsSet() && g.HomeClosed != 0 {
		r.HomeClosed = g.HomeClosed
	}
	if p.partner != nil && p.partner.Standing == world.Ended {
		r.PartnerEnded = p.partner.StandingSince
	}
	r.Values = dated.Values{Term: days("guests.term_days", nil), Idle: days("guests.idle_days", nil), Invite: days("guests.invite_days", nil),
		Grace:             days("guests.grace_days", nil),
		LastGrantSuspends: word("guests.after_last_grant", nil) == "suspend", SponsorRequired: word("guests.sponsor", nil) == "required"}
	if s.w.Settings != nil && s.w.Settings.Sightings == world.SightingsNone {
		r.Values.Idle = dated.None
	}
	groups := s.everIn(g.Address.String())
	for x := range s.held() {
		switch {
		case x.Address == g.Address && x.Group == "":
			space := s.spaceOf(x.Resource)
			r.Held = append(r.Held, dated.Held{From: x.From, Until: x.Until, Reviewed: x.looked(), Own: true,
				Review: x.confirmed(days("guests.review_days", space)), ReviewEnds: word("guests.review_silence", space) == "end"})
		case x.Group != "" && slices.Contains(groups, x.Group):
			r.Held = append(r.Held, dated.Held{From: x.From, Until: x.Until, Reviewed: moment.Always, Review: dated.None})
		}
	}
	return r
}

func (x *slowGrant) confirmed(days int) int {
	switch {
	case x.days == catalogue.Unset || x.days == catalogue.NoLimit || days != dated.None && days < int(x.days):
		return days
	}
	return int(x.days)
}

func (s *slow) spaceOf(r world.Resource) *world.Space {
	for i := range s.w.Spaces {
		x := &s.w.Spaces[i]
		if r.Kind == catalogue.Space && x.ID == r.ID {
			return x
		}
		for k := range x.Items {
			if r.Kind != catalogue.Space && x.Items[k].ID == r.ID {
				return x
			}
		}
	}
	return nil
}

// someDates makes partners, spaces, people and guests of a world say everything that dates
// depend on, floors included.
func someDates(r *rand.Rand, w *world.World) {
	near := func(past, ahead int) moment.Moment {
		return now + moment.Moment(r.IntN(past+ahead)-past)*86400e6 + moment.Moment(r.IntN(86400))*1e6
	}
	for _, rule := range catalogue.Rules() {
		if len(rule.Name) < 7 || rule.Name[:7] != "guests." {
			continue
		}
		value := func() catalogue.Value {
			if rule.Scale.Shape == catalogue.Days {
				return catalogue.Value(1 + r.IntN(60))
			}
			return catalogue.Value(r.IntN(2))
		}
		said := func(list *[]world.Setting) {
			*list = slices.DeleteFunc(slices.Clone(*list), func(x world.Setting) bool { return x.Rule == rule.ID })
			if r.IntN(3) == 0 {
				*list = append(*list, world.Setting{Rule: rule.ID, Value: value(), Held: r.IntN(6) == 0})
			}
		}
		w.Rules = slices.DeleteFunc(w.Rules, func(x world.RuleSetting) bool { return x.Rule == rule.ID })
		if r.IntN(2) == 0 {
			limit := rule.Limit
			if r.IntN(3) == 0 {
				limit = value()
			}
			w.Rules = append(w.Rules, world.RuleSetting{Rule: rule.ID, Limit: limit, Default: value(), Counts: catalogue.Unset})
		}
		for i := range w.Partners {
			said(&w.Partners[i].Rules)
		}
		if rule.Layers&catalogue.AtSpace != 0 {
			for i := range w.Spaces {
				said(&w.Spaces[i].Rules)
			}
		}
	}
	for i := range w.Partners {
		if p := &w.Partners[i]; r.IntN(4) == 0 {
			p.Standing, p.StandingSince = world.Ended, near(40, 10)
		}
	}
	for i := range w.People {
		if r.IntN(3) == 0 {
			w.People[i].Left = near(30, 10)
		}
	}
	for i := range w.Guests {
		g := &w.Guests[i]
		if r.IntN(6) == 0 {
			g.HomeClosed = near(20, 20)
		}
		if r.IntN(3) == 0 {
			g.Until = near(20, 20)
		}
		if r.IntN(5) == 0 {
			w.Barred = append(w.Barred, world.Bar{Address: g.Address, Reason: "test"})
		}
	}
	floor := func() moment.Moment {
		if r.IntN(3) == 0 {
			return moment.Never
		}
		return near(20, 20) + moment.Moment(r.IntN(2)*500)
	}
	if r.IntN(2) == 0 {
		w.DatesFrom = append(w.DatesFrom, world.DatesFrom{From: floor()})
	}
	for i := range w.Partners {
		if r.IntN(3) == 0 {
			w.DatesFrom = append(w.DatesFrom, world.DatesFrom{Partner: w.Partners[i].ID, From: floor()})
		}
	}
	for _, c := range dated.Counted {
		if r.IntN(6) == 0 {
			w.DatesFrom = append(w.DatesFrom, world.DatesFrom{Step: c.String(), From: floor()})
		}
	}
	for i := range w.Guests {
		g := &w.Guests[i]
		g.TakenOver = r.IntN(2) == 0
		if r.IntN(6) == 0 {
			g.DatesFrom = floor()
		}
	}
	if r.IntN(3) == 0 {
		settings := w.SettingsNow()
		settings.Sightings = world.SightingsNone
		w.Settings = &settings
	}
}

// TestSequencesAgainstSlow compares the sequences that the engine tells with those of
// records that are read off random worlds, in which partners, spaces, people and guests say
// everything that dates depend on.
func TestSequencesAgainstSlow(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	r := rand.New(rand.NewPCG(seed, 21))
	causes := map[string]int{}
	var cal *moment.Calendar
	for n := range 120 {
		w := world.Merge(&world.World{}, worldgen.Generate(seed+uint64(n),
			worldgen.Size{Guests: 60, Grants: 240, Holdings: 30, Spaces: 10, Items: 40, Partners: 6, People: 10, Groups: 4}, now))
		someDates(r, w)
		s, sl := engine.Of(w), &slow{w}
		if cal == nil { // every world is in the same zone
			cal = moment.NewCalendar(s.Zone())
		}
		q := s.Sequences()
		for i := range w.Guests {
			g := &w.Guests[i]
			got, ok := q.Of(g.Address)
			want := sl.record(g, now, cal).Sequence()
			tell := func(at moment.Moment, k dated.Kind, c, after dated.Cause) string {
				return fmt.Sprint(at, " ", k, " ", c, " ", after)
			}
			var fast, read []string
			for k := range got {
				fast = append(fast, tell(got[k].At, got[k].Kind, got[k].Cause, got[k].After))
			}
			for k := range want {
				read = append(read, tell(want[k].At, want[k].Kind, want[k].Cause, want[k].After))
				causes[want[k].Cause.String()]++
			}
			slices.Sort(fast)
			slices.Sort(read)
			if !ok || fmt.Sprint(fast) != fmt.Sprint(read) {
				t.Fatalf("seed %d, world %d, %+v:\nengine %q\nread   %q", seed, n, g, fast, read)
			}
		}
	}
	for c := dated.ByUntil; c < dated.NumCauses; c++ {
		if c != dated.ByHand && causes[c.String()] == 0 {
			t.Errorf("%s never came; %v", c, causes)
		}
	}
}
