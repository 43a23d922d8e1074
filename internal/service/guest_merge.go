package service

import (
	"context"
	"fmt"
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

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
	if err := endHoldings(t, now, a); err != nil {
		return err
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
		for _, f := range []struct{ to, from *string }{{&y.Name, &x.Name}, {&y.Purpose, &x.Purpose}, {&y.Sponsor, &x.Sponsor},
			{&y.Language, &x.Language}, {&y.Location, &x.Location}} {
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
			same := slices.IndexFunc(
				after,
				func(h world.Grant) bool { return h.Resource == g.Resource && h.Role == g.Role && h.From == g.From },
			)
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
		n, err := mergeHoldings(t, now, a, b, at)
		if err != nil {
			return err
		}
		out.Grants += n
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
