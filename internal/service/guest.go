package service

import (
	"context"
	"encoding/json"
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
	"wexillum.example/internal/worldfile"
)

// Guest returns a record with the grants that are its own; ErrNotFound where there is none.
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
	own, err := s.store.Grants(ctx, a.String())
	return &dated, own, err
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
	Lost          int // of a removal or an end: actions on resources that are lost at once
}

// keepersLicence keeps a licence, which somebody pays for, to keepers and administrators.
func keepersLicence(who Who, licence string) error {
	if who.Role == Member && licence != "" && licence != world.LicenceNames[world.LicenceNone] {
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
	if c.Reason = strings.TrimSpace(c.Reason); c.Reason == "" && !preview && c.Do != Confirm && c.Do != Describe && c.Do != InviteNew && c.Do != Remind {
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
	if who.Role != Member {
		return nil
	}
	if g.Sponsor != who.Person || who.Person == "" {
		return fmt.Errorf("%w: there is no record of %s that you answer for", ErrNotFound, g.Address)
	}
	if do == Remove && g.State == world.StateInvited { // they take an invitation back
		return nil
	}
	if do == Remove || do == HandOver {
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
		return x, refuse("there is no record of it")
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
	gone := false
	switch c.Do {
	case Extend:
		err = s.extend(now, c, &next, grants, at)
	case Suspend:
		if g.State == world.StateSuspended {
			err = refuse("it is suspended already")
		} else if g.State == world.StateInvited {
			err = refuse("it is invited and reaches nothing yet; remove it to take the invitation back")
		}
		next.State, next.Cause, next.StateSince = world.StateSuspended, dated.ByHand.String(), at
	case BringBack:
		err = s.bringBack(now, &next, own, at)
	case End:
		if g.State == world.StateSuspended {
			err = refuse("it is suspended already, and is removed when its days of grace are over")
		} else if g.State == world.StateInvited {
			err = refuse("it has not accepted; remove it to take the invitation back")
		}
		next.Until = at
		next.State, next.Cause, next.StateSince = world.StateSuspended, dated.ByOwnUntil.String(), at
	case Remove:
		gone = true
	case EndGrant:
		err = endGrants(grants, c, at)
	case Confirm:
		err = confirm(grants, c, at)
	case HandOver:
		if !now.Has("person", c.Sponsor) || now.LeftAt(c.Sponsor) != 0 {
			return x, &Invalid{"sponsor", c.Sponsor, "there is no such person here"}
		}
		if g.Sponsor == c.Sponsor {
			err = refuse("%s answers for it already", c.Sponsor)
		}
		for i := range grants {
			if grants[i].Sponsor == g.Sponsor && grants[i].Until > at {
				grants[i].Sponsor = c.Sponsor
			}
		}
		next.Sponsor = c.Sponsor
	case Describe:
		describe(&next, c)
	case InviteNew, Remind:
		if g.State != world.StateInvited {
			err = refuse("it has accepted already")
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
	} else {
		e.PutGuest(&next)
		e.SetGrants(a.String(), grants)
	}
	x.State = e.Done()
	x.Will, _ = x.State.Sequences().Of(a)
	if gone || next.State == world.StateSuspended && g.State != world.StateSuspended {
		lines, _, err := now.Reach(engine.Who{Address: a}, at)
		if err != nil {
			return x, err
		}
		after, _, err := x.State.Reach(engine.Who{Address: a}, at)
		if err != nil {
			return x, err
		}
		x.Lost = max(0, yeses(lines)-yeses(after))
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
		return refuse("it has not accepted yet; invite again to give it more time")
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
			return refuse("it ends later already")
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
		return refuse("it is not suspended")
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
	dated.ByLastGrant: "it has no grant; give it one first", dated.ByTerm: "its term is over; extend it first", dated.ByOwnUntil: "its own end is over; extend it first",
	dated.ByIdle: "it has not been seen for too long", dated.BySponsor: "its sponsor left; hand it over first", dated.ByHomeClosed: "the partner says that the home account is closed", dated.ByPartner: "the connection with the partner ended",
}

func endGrants(grants []world.Grant, c *GuestChange, at moment.Moment) error {
	found := false
	for i := range grants {
		g := &grants[i]
		if g.Resource.String() != c.Resource || c.Role != "" && g.Role.String() != c.Role || g.Until <= at {
			continue
		}
		found = true
		g.Until = max(at, g.From)
	}
	if !found {
		return refuse("it holds no grant on %s", c.Resource)
	}
	return nil
}

func confirm(grants []world.Grant, c *GuestChange, at moment.Moment) error {
	found := false
	for i := range grants {
		if g := &grants[i]; (c.Resource == "" || g.Resource.String() == c.Resource) && moment.Within(at, g.From, g.Until) {
			found = true
			g.Reviewed = at
		}
	}
	if !found {
		return refuse("it holds no grant to confirm")
	}
	return nil
}

// remove takes a record away at a moment: its grants and named links end, and it leaves its
// groups.
func (s *Service) remove(now *State, t *store.Tx, a addr.Address, at moment.Moment) error {
	own, err := t.Grants(a.String())
	if err != nil {
		return err
	}
	for i := range own {
		g := own[i]
		switch {
		case g.Until <= at:
		case g.From > at:
			err = t.EndGrant(&g)
		default:
			g.Until = at
			_, err = t.ReplaceGrant(&own[i], &g)
		}
		if err != nil {
			return err
		}
	}
	links, err := namingLinks(now, t, a)
	if err != nil {
		return err
	}
	for i := range links {
		l := &links[i]
		rest := slices.DeleteFunc(slices.Clone(l.For), func(x addr.Address) bool { return x == a })
		switch {
		case len(rest) == len(l.For) || l.Until <= at:
			continue
		case len(rest) == 0: // it would work for whoever holds it
			l.Until = max(at, l.Created)
		default:
			l.For = rest
		}
		if _, err := t.PutRecord("link", l.ID, worldfile.LinkDoc(l)); err != nil {
			return err
		}
	}
	groups, err := namingGroups(now, t, a)
	if err != nil {
		return err
	}
	for i := range groups {
		g := &groups[i]
		n := len(g.Parties)
		if g.Parties = slices.DeleteFunc(g.Parties, func(x addr.Address) bool { return x == a }); len(g.Parties) == n {
			continue
		}
		if _, err := t.PutRecord("group", g.ID, worldfile.GroupDoc(g)); err != nil {
			return err
		}
	}
	for _, kind := range []string{"invitation", "wish"} {
		if _, err := t.EndRecord(kind, a.String()); err != nil {
			return err
		}
	}
	_, err = t.EndGuest(a.String())
	return err
}

// Merged is what putting two records together does, or would do.
type Merged struct {
	From, Into     string
	Grants, Groups int // that move
	Was, Will      int // granted actions that Into can do
	Gained         []engine.ReachLine
	Steps          []engine.DueStep
	State          *engine.Snapshot
}

// MergeGuests makes one record of the two addresses of one person: what from was given goes
// to into, and from is removed.
func (s *Service) MergeGuests(ctx context.Context, who Who, from, into, reason string, preview bool) (*Merged, error) {
	a, err := addr.Parse(from)
	if err != nil {
		return nil, &Invalid{"from", from, err.Error()}
	}
	b, err := addr.Parse(into)
	if err != nil {
		return nil, &Invalid{"into", into, err.Error()}
	}
	if a == b {
		return nil, &Invalid{"into", into, "name two addresses"}
	}
	if reason == "" && !preview {
		return nil, &Invalid{"reason", "", "say how you know that they are one person"}
	}
	out := &Merged{From: a.String(), Into: b.String()}
	err = s.changing(ctx, who.Name, reason, preview, func(now *State, t *store.Tx) error {
		*out = Merged{From: a.String(), Into: b.String()}
		at := s.Now()
		x, err := s.guestNow(now, t, a, at)
		if err != nil {
			return err
		}
		y, err := s.guestNow(now, t, b, at)
		if err != nil {
			return err
		}
		if x == nil || y == nil {
			missing := a
			if x != nil {
				missing = b
			}
			return fmt.Errorf("%w: there is no record of %s", ErrNotFound, missing)
		}
		if y.State == world.StateSuspended {
			return fmt.Errorf("%w: %s is suspended; bring it back first, or merge the other way", ErrConflict, b)
		}
		y.Origins |= x.Origins
		y.Renewed = max(x.Renewed, y.Renewed, x.Since, y.Since) // the term goes on from the later: nobody is cut off by it
		y.Since = min(y.Since, x.Since)
		if x.Until == moment.Never || y.Until == moment.Never {
			y.Until = min(x.Until, y.Until) // the end that somebody set stays
		} else {
			y.Until = max(x.Until, y.Until)
		}
		y.LastSeen = max(x.LastSeen, y.LastSeen)
		for _, f := range []struct{ to, from *string }{{&y.Name, &x.Name}, {&y.Purpose, &x.Purpose}, {&y.Sponsor, &x.Sponsor}, {&y.Language, &x.Language}, {&y.Location, &x.Location}} {
			if *f.to == "" {
				*f.to = *f.from
			}
		}
		given, err := t.Grants(a.String())
		if err != nil {
			return err
		}
		before, _, err := now.Reach(engine.Who{Address: b}, at)
		if err != nil {
			return err
		}
		out.Was = yeses(before)
		after, err := t.Grants(b.String())
		if err != nil {
			return err
		}
		for _, g := range given {
			if g.Until <= at {
				continue
			}
			g.Address = b
			same := slices.IndexFunc(after, func(h world.Grant) bool { return h.Resource == g.Resource && h.Role == g.Role && h.From == g.From })
			if same >= 0 { // the key is the same: the later end counts
				g.Until = max(g.Until, after[same].Until)
				after[same] = g
			} else {
				after = append(after, g)
			}
			out.Grants++
			if _, err := t.PutGrant(&g); err != nil {
				return err
			}
		}
		groups, err := namingGroups(now, t, a)
		if err != nil {
			return err
		}
		for i := range groups {
			g := &groups[i]
			if slices.Contains(g.Parties, a) && !slices.Contains(g.Parties, b) {
				g.Parties = append(g.Parties, b)
				out.Groups++
				if _, err := t.PutRecord("group", g.ID, worldfile.GroupDoc(g)); err != nil {
					return err
				}
			}
		}
		links, err := namingLinks(now, t, a)
		if err != nil {
			return err
		}
		for i := range links {
			if l := &links[i]; l.Until > at && slices.Contains(l.For, a) && !slices.Contains(l.For, b) {
				l.For = append(l.For, b)
				if _, err := t.PutRecord("link", l.ID, worldfile.LinkDoc(l)); err != nil {
					return err
				}
			}
		}
		if _, err := t.PutGuest(y); err != nil {
			return err
		}
		e := now.Aside()
		e.PutGuest(y)
		e.SetGrants(b.String(), after)
		for i := range groups {
			e.JoinGroup(b, groups[i].ID, at)
		}
		out.State = e.Done()
		out.Steps, _ = out.State.Sequences().Of(b)
		then, _, err := out.State.Reach(engine.Who{Address: b}, at)
		if err != nil {
			return err
		}
		out.Will = yeses(then)
		out.Gained = gained(before, then)
		if err := s.remove(now, t, a, at); err != nil {
			return err
		}
		if preview {
			return errPreview
		}
		return nil
	})
	return out, err
}

// gained lists what is a yes in after and is none in before.
func gained(before, after []engine.ReachLine) (out []engine.ReachLine) {
	type key struct {
		action   catalogue.ActionID
		resource world.Resource
	}
	had := map[key]int{}
	for i := range before {
		if l := &before[i]; l.Yes {
			had[key{l.Action, l.Resource}] += max(1, l.Count)
		}
	}
	for i := range after {
		if l := &after[i]; l.Yes && had[key{l.Action, l.Resource}] < max(1, l.Count) {
			out = append(out, *l)
		}
	}
	return
}

// Offer is a sponsor's guests offered to somebody who would take over.
type Offer struct {
	ID     string `json:"id"`
	From   string `json:"from"`
	To     string `json:"to"`
	Guests int    `json:"guests"`
	Grants int    `json:"grants"`
	Made   string `json:"made"`
	By     string `json:"by"`
	State  string `json:"state"` // open, accepted, declined
	Reason string `json:"reason,omitempty"`
}

// PersonLeaves notes that a person of ours leaves, and offers their guests to a successor
// where one is named. With preview nothing is written.
func (s *Service) PersonLeaves(ctx context.Context, who Who, id, when, successor, reason string, preview bool) (*Offer, error) {
	var out *Offer
	err := s.changing(ctx, who.Name, reason, preview, func(now *State, t *store.Tx) error {
		doc, err := t.Record("person", id)
		if err != nil {
			return err
		}
		if doc == nil {
			return fmt.Errorf("%w: there is no person %q", ErrNotFound, id)
		}
		p, err := worldfile.PersonOf(doc)
		if err != nil {
			return err
		}
		at := s.Now()
		if when != "" {
			if at, err = moment.ParseEnd(when, s.Now(), now.Zone()); err != nil {
				return &Invalid{"at", when, err.Error()}
			}
		}
		if p.Left == 0 || p.Left != at && when != "" {
			p.Left = at
			if _, err := t.PutRecord("person", id, worldfile.PersonDoc(&p)); err != nil {
				return err
			}
		}
		guests, err := t.GuestsOf(id)
		if err != nil {
			return err
		}
		grants, err := t.GrantsBy(id)
		if err != nil {
			return err
		}
		out = &Offer{ID: fmt.Sprintf("o%d", t.Head().Seq+1), From: id, To: successor, Guests: len(guests), Grants: len(grants), Made: s.Now().String(), By: who.Name, State: "open", Reason: reason}
		if successor != "" {
			if successor == id || !now.Has("person", successor) || now.LeftAt(successor) != 0 {
				return &Invalid{"successor", successor, "name another person of ours who is here"}
			}
			if err := putJSON(t, "offer", out.ID, out); err != nil {
				return err
			}
			if doc, err := t.Record("person", successor); err == nil && doc != nil {
				if to, err := worldfile.PersonOf(doc); err == nil && !to.Address.IsZero() {
					if err := s.postMail(t, now, to.Address, "offer", "", map[string]string{"offer": out.ID}); err != nil {
						return err
					}
				}
			}
		}
		if preview {
			return errPreview
		}
		return nil
	})
	return out, err
}

// Offers lists offers: of members those made to them.
func (s *Service) Offers(ctx context.Context, who Who) ([]Offer, error) {
	out := []Offer{}
	err := s.store.Records(ctx, "offer", "", func(_ string, doc []byte) error {
		var o Offer
		err := json.Unmarshal(doc, &o)
		if err == nil && o.State == "open" && (who.Role != Member || o.To == who.Person) {
			out = append(out, o)
		}
		return err
	})
	return out, err
}

// AnswerOffer takes over the guests of an offer, or declines.
func (s *Service) AnswerOffer(ctx context.Context, who Who, id string, accept bool) (*Offer, error) {
	var o Offer
	err := s.change(ctx, who.Name, "offer "+id, func(now *State, t *store.Tx) error {
		doc, err := t.Record("offer", id)
		if err != nil {
			return err
		}
		o = Offer{}
		if doc != nil {
			err = json.Unmarshal(doc, &o)
		}
		if err != nil {
			return err
		}
		if doc == nil || who.Role == Member && o.To != who.Person {
			return fmt.Errorf("%w: there is no offer %q", ErrNotFound, id)
		}
		if o.State != "open" {
			return fmt.Errorf("%w: the offer is %s already", ErrConflict, o.State)
		}
		o.State = "declined"
		if left := now.LeftAt(o.To); accept && (!now.Has("person", o.To) || left != 0 && left <= s.Now()) {
			return fmt.Errorf("%w: %s has left us; ask somebody else", ErrConflict, o.To)
		}
		if accept {
			o.State = "accepted"
			guests, err := t.GuestsOf(o.From)
			if err != nil {
				return err
			}
			for _, a := range guests {
				g, err := t.Guest(a)
				if err != nil {
					return err
				}
				g.Sponsor = o.To
				if _, err := t.PutGuest(g); err != nil {
					return err
				}
			}
			grants, err := t.GrantsBy(o.From)
			if err != nil {
				return err
			}
			for i := range grants {
				if grants[i].Until > s.Now() {
					grants[i].Sponsor = o.To
					if _, err := t.PutGrant(&grants[i]); err != nil {
						return err
					}
				}
			}
			o.Guests, o.Grants = len(guests), len(grants)
		}
		return putJSON(t, "offer", id, &o)
	})
	return &o, err
}

// Wish is a guest's request for more time.
type Wish struct {
	Address string `json:"address"`
	Until   string `json:"until,omitempty"`
	Text    string `json:"text,omitempty"`
	Made    string `json:"made"`
	State   string `json:"state"` // open, granted, refused
	Answer  string `json:"answer,omitempty"`
}

// Wishes lists open requests for more time: of members those of their guests.
func (s *Service) Wishes(ctx context.Context, who Who) ([]Wish, error) {
	out := []Wish{}
	st := s.State()
	err := s.store.Records(ctx, "wish", "", func(_ string, doc []byte) error {
		var w Wish
		if err := json.Unmarshal(doc, &w); err != nil || w.State != "open" {
			return err
		}
		a, err := addr.Parse(w.Address)
		if err == nil && (who.Role != Member || st.SponsorAt(st.PartyOf(a), who.Person)) {
			out = append(out, w)
		}
		return nil
	})
	return out, err
}

// AnswerWish grants a request for more time as an extension, or refuses it.
func (s *Service) AnswerWish(ctx context.Context, who Who, address string, grant bool, until, text string) (*Wish, error) {
	a, err := addr.Parse(address)
	if err != nil {
		return nil, &Invalid{"address", address, err.Error()}
	}
	if text = strings.TrimSpace(text); text == "" && !grant {
		return nil, &Invalid{"text", "", "say why not; they read it"}
	}
	var w Wish
	err = s.change(ctx, who.Name, strings.TrimSuffix("asked for more time: "+text, ": "), func(now *State, t *store.Tx) error {
		w = Wish{}
		doc, err := t.Record("wish", a.String())
		if err != nil {
			return err
		}
		if doc != nil {
			err = json.Unmarshal(doc, &w)
		}
		if err != nil {
			return err
		}
		if doc == nil || w.State != "open" {
			return fmt.Errorf("%w: %s has asked for nothing that is open", ErrNotFound, a)
		}
		w.State, w.Answer = "refused", text
		if until == "" {
			until = w.Until // what they asked for; where they did not say, as far as one extension may go
		}
		c := &GuestChange{Do: Extend, Addresses: []string{a.String()}, Reason: "asked for more time", Until: until, Grants: true}
		if grant {
			w.State = "granted"
			x, err := s.changeGuest(now, t, who, c, a)
			if err != nil {
				return err
			}
			if !x.Done {
				return fmt.Errorf("%w: %s", ErrConflict, x.Reason)
			}
		} else {
			g, err := s.guestNow(now, t, a, s.Now())
			if err != nil {
				return err
			}
			if g == nil {
				return fmt.Errorf("%w: there is no record of %s", ErrNotFound, a)
			}
			if err := mayGuest(who, g, Extend); err != nil {
				return err
			}
			if err := ownWords(who, "text", text); err != nil {
				return err
			}
			if err := s.postMail(t, now, a, "no_more_time", "", map[string]string{"reason": text}); err != nil {
				return err
			}
		}
		return putJSON(t, "wish", a.String(), &w)
	})
	var refused *Refused
	if errors.As(err, &refused) {
		err = fmt.Errorf("%w: %s", ErrConflict, refused.Reason)
	}
	return &w, err
}

// recordsOf reads records by their ids; those that are not there any more are left out.
func recordsOf[T any](read func(kind, id string) ([]byte, error), kind string, ids []string, of func(worldfile.Doc) (T, error)) (out []T, err error) {
	for _, id := range ids {
		doc, err := read(kind, id)
		if err != nil {
			return nil, err
		}
		if doc == nil {
			continue
		}
		x, err := of(doc)
		if err != nil {
			return nil, err
		}
		out = append(out, x)
	}
	return
}

// namingLinks returns the links that name an address, and namingGroups the groups that hold
// it, as a change has them. Which they are is known from the state: reading all of them
// would take as long as there are many.
func namingLinks(now *State, t *store.Tx, a addr.Address) ([]world.Link, error) {
	ids, _ := now.Named(a)
	return recordsOf(t.Record, "link", ids, worldfile.LinkOf)
}

func namingGroups(now *State, t *store.Tx, a addr.Address) ([]world.Group, error) {
	_, ids := now.Named(a)
	return recordsOf(t.Record, "group", ids, worldfile.GroupOf)
}
