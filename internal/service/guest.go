package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Guest returns a record with the grants that are its own, those that follow from bundles among them; ErrNotFound where there is none.
func (s *Service) Guest(ctx context.Context, address string) (*world.Guest, []world.Grant, error) {
	a, err := addr.Parse(address)
	if err != nil {
		return nil, nil, &Invalid{"address", address, err.Error()}
	}
	g, err := s.store.Guest(ctx, a.String())
	if err != nil {
		return nil, nil, err
	}
	if g == nil {
		return nil, nil, fmt.Errorf("%w: there is no record of %s", ErrNotFound, a)
	}
	dated, ok := s.State().Dated(g, s.Now())
	if !ok {
		return nil, nil, fmt.Errorf("%w: the record of %s has come to its end", ErrNotFound, a)
	}
	own, err := s.given(ctx, s.State(), a.String())
	return &dated, own, err
}

// WithGrants is a guest with what was given to them by name.
type WithGrants struct {
	Guest  world.Guest
	Grants []world.Grant
}

// GuestsWithGrants returns several records, each with what was given to them, in two statements whatever their number; those that are gone
// are left out.
func (s *Service) GuestsWithGrants(ctx context.Context, addresses []string) ([]WithGrants, error) {
	records, err := s.store.GuestsNow(ctx, addresses)
	if err != nil {
		return nil, err
	}
	given, err := s.store.GrantsOf(ctx, addresses)
	if err != nil {
		return nil, err
	}
	st, out := s.State(), make([]WithGrants, 0, len(addresses))
	for _, a := range addresses {
		g := records[a]
		if g == nil {
			continue
		}
		if dated, ok := st.Dated(g, s.Now()); ok {
			out = append(out, WithGrants{dated, append(given[a], st.Bundled(g.Address)...)})
		}
	}
	return out, nil
}

// Do names a change of guests' records.
type Do string

// The changes of guests' records.
const (
	Extend    Do = "extend"     // a later end, and the term begins anew
	Suspend   Do = "suspend"    // by hand
	BringBack Do = "bring_back" // refused while a cause stands
	End       Do = "end"        // the record's end is now: suspended, and removed after the days of grace
	Remove    Do = "remove"     // at once
	EndGrant  Do = "end_grant"  // one role on one resource
	Confirm   Do = "confirm"    // its grants, or one: a review is answered
	HandOver  Do = "hand_over"  // another sponsor
	Describe  Do = "describe"   // name, purpose, language, location, licence
	InviteNew Do = "invite_again"
	Remind    Do = "remind" // the mail of the invitation once more; its days go on
)

// Dos lists the changes.
var Dos = []Do{Extend, Suspend, BringBack, End, Remove, EndGrant, Confirm, HandOver, Describe, InviteNew, Remind}

// doSaid says in the journal why a record changed where nobody had to say it.
var doSaid = map[Do]string{Confirm: "still needed", Describe: "put right", InviteNew: "invited again", Remind: "reminded of the invitation"}

// GuestChange is a change of guests' records, one or many.
type GuestChange struct {
	Do                                         Do
	Addresses                                  []string
	Reason                                     string
	Until                                      string // extend: the new end; absent: as far as one extension may go
	Grants                                     bool   // extend: grants that would end before are extended too
	Resource                                   string // end_grant, confirm: on what
	Role                                       string // end_grant: which, where there are several
	Sponsor                                    string // hand_over
	Name, Purpose, Language, Location, Licence *string
}

// GuestChanged is what became of one record, or would.
type GuestChanged struct {
	Address, Name string
	Done          bool
	Reason        string // why nothing was done
	Was, Will     []engine.DueStep
	State         *engine.Snapshot
	Lost, Gained  int // granted actions that are lost, and come, at once
}

// keepersLicence keeps a licence, which somebody pays for, to keepers and administrators.
func keepersLicence(who Who, licence string) error {
	if !who.GivesLicences() && licence != "" && licence != world.LicenceNames[world.LicenceNone] {
		return &Invalid{"licence", licence, "keepers say which licence somebody has; ask them"}
	}
	return nil
}

// ChangeGuests changes records, all in one change; those that cannot be changed are told
// with the reason and stay as they are. With preview nothing is written.
func (s *Service) ChangeGuests(ctx context.Context, who Who, c GuestChange, preview bool) ([]GuestChanged, error) {
	if !slices.Contains(Dos, c.Do) {
		return nil, &Invalid{"do", string(c.Do), fmt.Sprint("write one of ", Dos)}
	}
	if len(c.Addresses) == 0 || len(c.Addresses) > MaxInvited {
		return nil, &Invalid{"addresses", fmt.Sprint(len(c.Addresses)), fmt.Sprintf("name 1 to %d addresses", MaxInvited)}
	}
	if c.Reason = strings.TrimSpace(c.Reason); c.Reason == "" && !preview && c.Do != Confirm && c.Do != Describe && c.Do != InviteNew &&
		c.Do != Remind {
		return nil, &Invalid{"reason", "", "say why"}
	}
	if c.Language != nil {
		if err := oneOfWords("language", *c.Language, Languages...); err != nil {
			return nil, err
		}
	}
	if c.Licence != nil {
		if err := keepersLicence(who, *c.Licence); err != nil {
			return nil, err
		}
		if err := oneOfWords("licence", *c.Licence, world.LicenceNames...); err != nil {
			return nil, err
		}
	}
	var out []GuestChanged
	why := c.Reason
	if why == "" {
		why = doSaid[c.Do]
	}
	err := s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		out = []GuestChanged{}
		seen := map[string]bool{}
		if preview { // as the draft that it is asked in would have it
			st, err := s.StateIn(ctx)
			if err != nil {
				return err
			}
			now = st
		}
		for _, text := range c.Addresses {
			a, err := addr.Parse(strings.TrimSpace(text))
			if err != nil {
				out = append(out, GuestChanged{Address: text, Reason: err.Error()})
				continue
			}
			if seen[a.String()] {
				continue
			}
			seen[a.String()] = true
			x, err := s.changeGuest(now, t, who, &c, a)
			var refused *Refused
			var invalid *Invalid
			switch {
			case errors.As(err, &refused):
				x.Reason = refused.Reason
			case errors.As(err, &invalid) && len(c.Addresses) > 1 && invalid.Field != "until":
				x.Reason = invalid.Error()
			case err != nil:
				return err
			}
			out = append(out, x)
		}
		if preview {
			return errPreview
		}
		return nil
	})
	return out, err
}

// Refused is a change that cannot be made of one thing, while others may be.
type Refused struct{ Reason string }

func (e *Refused) Error() string { return e.Reason }

func refuse(format string, args ...any) error { return &Refused{fmt.Sprintf(format, args...)} }

// may reports whether somebody may change the record of a guest.
func mayGuest(who Who, g *world.Guest, do Do) error {
	if !who.AnswersFor(g.Sponsor) {
		return fmt.Errorf("%w: there is no record of %s that you answer for", ErrNotFound, g.Address)
	}
	if do == Remove && g.State == world.StateInvited { // they take an invitation back
		return nil
	}
	if !who.MovesGuests() && (do == Remove || do == HandOver) {
		return refuse("administrators and keepers do this")
	}
	return nil
}

func (s *Service) changeGuest(now *State, t *store.Tx, who Who, c *GuestChange, a addr.Address) (GuestChanged, error) {
	x := GuestChanged{Address: a.String()}
	at := s.Now()
	g, err := s.guestNow(now, t, a, at)
	if err != nil {
		return x, err
	}
	if g == nil {
		if len(c.Addresses) == 1 {
			return x, fmt.Errorf("%w: there is no record of %s", ErrNotFound, a)
		}
		return x, refuse("there is no record of them")
	}
	x.Name = g.Name
	if err := mayGuest(who, g, c.Do); err != nil {
		return x, err
	}
	x.Was, _ = now.Sequences().Of(a)
	own, err := t.Grants(a.String())
	if err != nil {
		return x, err
	}
	next := *g
	grants := slices.Clone(own)
	held, err := heldNow(t, now, a)
	if err != nil {
		return x, err
	}
	gone := false
	switch c.Do {
	case Extend:
		err = s.extend(now, c, &next, grants, at)
	case Suspend:
		if g.State == world.StateSuspended {
			err = refuse("they are suspended already")
		} else if g.State == world.StateInvited {
			err = refuse("they are only invited and reach nothing yet; remove them to take the invitation back")
		}
		next.State, next.Cause, next.StateSince = world.StateSuspended, dated.ByHand.String(), at
	case BringBack:
		err = s.bringBack(now, &next, own, at)
	case End:
		if g.State == world.StateSuspended {
			err = refuse("they are suspended already, and are removed when the days of grace are over")
		} else if g.State == world.StateInvited {
			err = refuse("they have not accepted; remove them to take the invitation back")
		}
		next.Until = at
		next.State, next.Cause, next.StateSince = world.StateSuspended, dated.ByOwnUntil.String(), at
	case Remove:
		gone = true
	case EndGrant:
		if !endGrants(grants, c, at) && !now.endBundled(held, c.Resource, c.Role, at) {
			err = refuse("they hold no grant on %s", c.Resource)
		}
	case Confirm:
		if one, other := confirm(grants, c, at), now.confirmBundled(held, c.Resource, at); !one && !other {
			err = refuse("they hold no grant to confirm")
		}
	case HandOver:
		if !now.Has("person", c.Sponsor) || now.LeftAt(c.Sponsor) != 0 {
			return x, &Invalid{"sponsor", c.Sponsor, "there is no such person here"}
		}
		if g.Sponsor == c.Sponsor {
			err = refuse("%s answers for them already", c.Sponsor)
		}
		for i := range grants {
			if grants[i].Sponsor == g.Sponsor && grants[i].Until > at {
				grants[i].Sponsor = c.Sponsor
			}
		}
		for i := range held {
			if held[i].Sponsor == g.Sponsor && held[i].Until > at {
				held[i].Sponsor = c.Sponsor
			}
		}
		next.Sponsor = c.Sponsor
	case Describe:
		describe(&next, c)
	case InviteNew, Remind:
		if g.State != world.StateInvited {
			err = refuse("they have accepted already")
		} else if err = s.postMail(t, now, a, "invitation", "", map[string]string{}); err == nil {
			x.Done = true
		}
		if c.Do == InviteNew {
			next.Since = at // the days to accept begin anew
		} else if err == nil { // nothing of the record changes, and somebody did it all the same
			_, err = t.Note("reminder", a.String(), nil, []byte(jsonOf(map[string]string{"mail": "invitation"})))
		}
	}
	if err != nil {
		return x, err
	}
	e := now.Aside()
	if gone {
		e.RemoveGuest(a)
		e.SetGrants(a.String(), nil)
		for i := range held {
			e.Remove("holding", held[i].Key())
		}
	} else {
		e.PutGuest(&next)
		e.SetGrants(a.String(), grants)
		for i := range held {
			e.PutHolding(&held[i])
		}
	}
	x.State = e.Done()
	x.Will, _ = x.State.Sequences().Of(a)
	if gone || next.State != g.State || next.Licence != g.Licence || c.Do == EndGrant {
		lines, _, err := now.Reach(engine.Who{Address: a}, at)
		if err != nil {
			return x, err
		}
		after, _, err := x.State.Reach(engine.Who{Address: a}, at)
		if err != nil {
			return x, err
		}
		was, is := yeses(lines), yeses(after)
		x.Lost, x.Gained = max(0, was-is), max(0, is-was)
	}
	if gone {
		x.Done = true
		return x, s.remove(now, t, a, at)
	}
	if did, err := t.PutGuest(&next); err != nil {
		return x, err
	} else if did {
		x.Done = true
	}
	for i := range grants {
		if grants[i] == own[i] {
			continue
		}
		x.Done = true
		if _, err := t.PutGrant(&grants[i]); err != nil {
			return x, err
		}
	}
	for i := range held {
		did, err := putHolding(t, &held[i])
		if err != nil {
			return x, err
		}
		x.Done = x.Done || did
	}
	if !x.Done {
		x.Reason = "nothing changes"
	}
	return x, s.tellGuest(now, t, c, g, &next)
}

// yeses counts granted actions on resources; what needs no role is never added to them
// (model §7).
func yeses(lines []engine.ReachLine) (n int) {
	for i := range lines {
		if lines[i].Yes && lines[i].Action.Get().Spread == catalogue.Granted {
			n += max(1, lines[i].Count)
		}
	}
	return
}

// tellGuest writes the mail that a change of a record is told with.
func (s *Service) tellGuest(now *State, t *store.Tx, c *GuestChange, was, next *world.Guest) error {
	kind := ""
	switch {
	case was.State != world.StateSuspended && next.State == world.StateSuspended:
		kind = "suspended"
	case was.State == world.StateSuspended && next.State == world.StateActive:
		kind = "back"
	case c.Do == Extend && next.State == world.StateActive: // who is suspended hears of it when it is back
		kind = "extended"
	}
	if kind == "" || next.State == world.StateInvited {
		return nil
	}
	return s.postMail(t, now, next.Address, kind, "", map[string]string{"reason": c.Reason})
}

func describe(g *world.Guest, c *GuestChange) {
	for _, f := range []struct {
		to   *string
		from *string
	}{{&g.Name, c.Name}, {&g.Purpose, c.Purpose}, {&g.Language, c.Language}, {&g.Location, c.Location}} {
		if f.from != nil {
			*f.to = strings.TrimSpace(*f.from)
		}
	}
	if c.Licence != nil {
		for i, n := range world.LicenceNames {
			if n == *c.Licence {
				g.Licence = world.Licence(i)
			}
		}
	}
}

var (
	ruleExtend = catalogue.MustRule("guests.extend_days")
	ruleLeave  = catalogue.MustRule("directory.leave")
)

// extend moves a record's end, and begins its term anew. One extension adds at most
// guests.extend_days to the present end, or to today where that is over.
func (s *Service) extend(now *State, c *GuestChange, g *world.Guest, grants []world.Grant, at moment.Moment) error {
	zone := now.Zone()
	if g.State == world.StateInvited {
		return refuse("they have not accepted yet; invite them again to give them more time")
	}
	days := now.GuestRule(g.Address, "", ruleExtend)
	base := at
	if g.Until != moment.Never {
		base = max(at, g.Until)
	}
	most := moment.Never
	if days != catalogue.NoLimit {
		most = moment.EndOfDays(moment.CountedOnFrom(max(base, at), zone), int(days), zone)
	}
	end := most
	if c.Until != "" {
		var err error
		if end, err = moment.ParseEnd(c.Until, at, zone); err != nil {
			return &Invalid{"until", c.Until, err.Error()}
		}
		if end <= at {
			return &Invalid{"until", c.Until, "it lies before now"}
		}
		if end > most {
			return &Invalid{"until", c.Until, fmt.Sprintf("one extension adds at most %d days (guests.extend_days): until %s", days, most)}
		}
	}
	if g.Until != moment.Never {
		if end <= g.Until {
			return refuse("their record ends later already")
		}
		g.Until = end
	} // a record without an end of its own gets none: that could only shorten its term
	g.Renewed = at
	if c.Grants {
		for i := range grants {
			if x := &grants[i]; x.Until > at && x.Until != moment.Never && x.Until < end {
				x.Until = end
			}
		}
	}
	return nil
}

// bringBack wakes a suspended record, unless what suspended it, or something else, still
// stands.
func (s *Service) bringBack(now *State, g *world.Guest, own []world.Grant, at moment.Moment) error {
	if g.State != world.StateSuspended {
		return refuse("they are not suspended")
	}
	g.State, g.Cause, g.StateSince = world.StateActive, "", at
	if g.Accepted == moment.Never { // the days to accept begin anew
		g.State, g.StateSince, g.Since = world.StateInvited, moment.Always, at
		return nil
	}
	if m := now.Match(g.Address); m.Partner != nil && m.Partner.Standing == world.Ended && m.Partner.StandingSince <= at {
		return refuse("a cause stands: the connection with %s ended", m.Partner.Name)
	}
	e := now.Aside()
	e.PutGuest(g)
	steps, _ := e.Done().Sequences().Of(g.Address)
	for i := range steps {
		if st := &steps[i]; st.Kind == dated.Suspended && st.At <= at {
			return refuse("a cause stands: %s", standing[st.Cause])
		}
	}
	return nil
}

// standing says what to do first about a cause that keeps a record from being brought back.
var standing = map[dated.Cause]string{
	dated.ByLastGrant: "they have no grant; give them one first", dated.ByTerm: "their term is over; extend it first",
	dated.ByOwnUntil: "the end of their record has passed; extend it first",
	dated.ByIdle:     "they have not been seen for too long", dated.BySponsor: "their sponsor left; hand them over first",
	dated.ByHomeClosed: "the partner says that the home account is closed", dated.ByPartner: "the connection with the partner ended",
}

func endGrants(grants []world.Grant, c *GuestChange, at moment.Moment) (found bool) {
	for i := range grants {
		g := &grants[i]
		if g.Resource.String() != c.Resource || c.Role != "" && g.Role.String() != c.Role || g.Until <= at {
			continue
		}
		found = true
		g.Until = max(at, g.From)
	}
	return found
}

func confirm(grants []world.Grant, c *GuestChange, at moment.Moment) (found bool) {
	for i := range grants {
		if g := &grants[i]; (c.Resource == "" || g.Resource.String() == c.Resource) && moment.Within(at, g.From, g.Until) {
			found = true
			g.Reviewed = at
		}
	}
	return found
}
