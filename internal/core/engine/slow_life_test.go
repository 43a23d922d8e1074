package engine_test

import (
	"iter"
	"slices"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

func (s *slow) guest(address string) *world.Guest {
	for i := range s.w.Guests {
		if s.w.Guests[i].Address.String() == address {
			return &s.w.Guests[i]
		}
	}
	return nil
}

func acceptedAt(g *world.Guest) moment.Moment {
	if g.State != world.StateInvited && g.Accepted == moment.Never {
		return g.Since
	}
	return g.Accepted
}

// The dates of a record, as model.md §5 has them, on the dates of a clock on the wall.

func (s *slow) wall(m moment.Moment) (y int, month time.Month, d int) {
	return m.Time().In(s.w.Organisation.Zone).Date()
}

// lasts returns the end of n days that were given on the day of a start.
func (s *slow) lasts(start moment.Moment, n catalogue.Value) moment.Moment {
	if n == catalogue.NoLimit || !start.IsSet() {
		return moment.Never
	}
	y, m, d := s.wall(start)
	return moment.Of(time.Date(y, m, d+int(n)+1, 0, 0, 0, 0, s.w.Organisation.Zone))
}

// since returns the end of n days that are counted on from an end.
func (s *slow) since(end moment.Moment, n catalogue.Value) moment.Moment {
	if n == catalogue.NoLimit || !end.IsSet() {
		return moment.Never
	}
	y, m, d := s.wall(end - 1)
	return moment.Of(time.Date(y, m, d+int(n)+1, 0, 0, 0, 0, s.w.Organisation.Zone))
}

// floor returns the moment before which no step of a kind falls for a record: Never where it
// waits; with told, as far as it is a moment.
func (s *slow) floor(g *world.Guest, partner *world.Partner, step string, told bool) moment.Moment {
	floor := moment.Always
	take := func(m moment.Moment, waits bool) {
		if m%1e6 != 0 && m.IsSet() {
			m = (m/1e6 + 1) * 1e6
		}
		if m == moment.Never && (!waits || told) {
			return
		}
		floor = max(floor, m)
	}
	for _, f := range s.w.DatesFrom {
		if f.Partner == "" && f.Step == "" || f.Partner != "" && partner != nil && partner.ID == f.Partner || f.Step != "" && f.Step == step {
			take(f.From, g.TakenOver)
		}
	}
	if g.DatesFrom != 0 {
		take(g.DatesFrom, true)
	}
	return floor
}

func (s *slow) later(m, floor moment.Moment) moment.Moment {
	if m == moment.Never {
		return m
	}
	return max(m, floor)
}

// slowGrant is a grant, given by hand or by a bundle, which may want to be confirmed more often than the rules say.
type slowGrant struct {
	*world.Grant
	days catalogue.Value
}

// held goes through all grants: those that were given by hand, then what follows from every holding and its bundle. It
// makes no list, since every question goes through them.
func (s *slow) held() iter.Seq[slowGrant] {
	return func(yield func(slowGrant) bool) {
		for i := range s.w.Grants {
			if !yield(slowGrant{&s.w.Grants[i], catalogue.Unset}) {
				return
			}
		}
		for _, h := range s.w.Holdings {
			for _, b := range s.w.Bundles {
				if b.ID != h.Bundle {
					continue
				}
				for _, gift := range b.Gives {
					role := gift.Role
					for _, less := range h.Less {
						if less.Resource == gift.Resource {
							role = min(role, less.Role)
						}
					}
					if role == 0 {
						continue
					}
					if !yield(slowGrant{&world.Grant{Address: h.Party, Resource: gift.Resource, Role: role, From: h.From, Until: h.Until,
						Reviewed: h.Reviewed, Waits: h.Waits}, b.ReviewDays}) {
						return
					}
				}
			}
		}
	}
}

// looked is when somebody looked at it last; while a round asks, it is as if they did so at its end.
func (x *slowGrant) looked() moment.Moment {
	if x.Waits > x.Reviewed && x.Waits != 0 {
		return x.Waits
	}
	return x.Reviewed
}

// reviewDays is how often a grant wants to be confirmed, where the rules say so many days.
func (x *slowGrant) reviewDays(rules catalogue.Value) catalogue.Value {
	switch {
	case x.days == catalogue.Unset || x.days == catalogue.NoLimit:
		return rules
	case rules == catalogue.NoLimit || x.days < rules:
		return x.days
	}
	return rules
}

// grantEnd returns when a grant of somebody's own ends, in the view of their record.
func (s *slow) grantEnd(g *world.Guest, partner *world.Partner, x *slowGrant) moment.Moment {
	end := x.Until
	if g == nil || x.Group != "" {
		return end
	}
	p := &slowParty{partner: partner}
	c := where{party: p, space: s.spaceOf(x.Resource)}
	at := moment.Moment(0)
	if s.word("guests.review_silence", c, at) != "end" {
		return end
	}
	due := s.lasts(max(x.looked(), x.From), x.reviewDays(s.value("guests.review_days", c, at)))
	return min(end, s.later(s.since(due, 14), s.floor(g, partner, "review_silence", false)))
}

// fate returns when a record is suspended and when it is gone.
func (s *slow) fate(g *world.Guest, partner *world.Partner) (out, gone moment.Moment) {
	c := where{party: &slowParty{partner: partner}}
	days := func(rule string) catalogue.Value { return s.value(rule, c, 0) }
	counted := func(m moment.Moment, step string) moment.Moment { return s.later(m, s.floor(g, partner, step, false)) }
	out, gone = moment.Never, moment.Never
	switch {
	case g.Provisioned() && g.HomeClosed == 0:
		return
	case g.Provisioned() && g.State != world.StateSuspended:
		out = max(g.HomeClosed, s.floor(g, partner, "", true), g.Since)
	case g.State == world.StateInvited && g.Accepted == moment.Never:
		if gone = min(g.Until, counted(s.lasts(g.Since, days("guests.invite_days")), "invite_days")); gone != moment.Never {
			gone = max(gone, g.Since)
		}
		return
	case g.State == world.StateSuspended:
		out = g.StateSince
	default:
		out = min(g.Until, counted(s.lasts(max(g.Since, g.Renewed), days("guests.term_days")), "term"))
		if s.w.Settings == nil || s.w.Settings.Sightings == world.SightingsTold {
			seen := max(g.Since, g.LastSeen, g.StateSince)
			if a := acceptedAt(g); a != moment.Never {
				seen = max(seen, a)
			}
			out = min(out, counted(s.lasts(seen, days("guests.idle_days")), "idle"))
		}
		if p := s.person(g.Sponsor); p != nil && p.Left != 0 && s.word("guests.sponsor", c, 0) == "required" {
			out = min(out, counted(s.since(p.Left, 14), "sponsor_left"))
		}
		if g.HomeClosed != 0 {
			out = min(out, max(g.HomeClosed, s.floor(g, partner, "", true)))
		}
		if partner != nil && partner.Standing == world.Ended {
			out = min(out, max(partner.StandingSince, s.floor(g, partner, "", true)))
		}
		if s.word("guests.after_last_grant", c, 0) == "suspend" {
			last, any := moment.Always, false
			for x := range s.held() {
				if x.Group == "" && x.Address == g.Address || x.Group != "" && slices.Contains(s.everIn(g.Address.String()), x.Group) {
					last, any = max(last, s.grantEnd(g, partner, &x)), true
				}
			}
			if any {
				out = min(out, counted(max(last, g.Since), "after_last_grant"))
			}
		}
		if out != moment.Never {
			out = max(out, g.Since)
		}
	}
	if out != moment.Never && out != moment.Always {
		gone = counted(s.since(out, days("guests.grace_days")), "grace")
	}
	return
}

// everIn lists the groups that hold an address.
func (s *slow) everIn(address string) []string {
	var out []string
	for _, g := range s.w.Groups {
		for _, a := range g.Parties {
			if a.String() == address {
				out = append(out, g.ID)
			}
		}
	}
	return out
}
