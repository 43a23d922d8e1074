package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// takenOver puts what a record would be here into part; why says why it cannot be.
func (s *Service) takenOver(now *State, t *store.Tx, x *System, h *native.Holding, l *RecordLine, d RecordDecision, until moment.Moment,
	part *world.World) (a arrived, key, why string, err error) {
	a = arrived{kind: h.Kind, native: l.Native, t: l.Found, by: d.Sponsor}
	switch {
	case l.Unread != "":
		return a, "", l.Unread, nil
	case l.Found == nil:
		return a, "", "it has ended there", nil
	case h.Kind != "guest":
		w, key, err := s.ourEntry(now, t, &a)
		if err != nil || w == nil {
			return a, "", "it names somebody or something that is not ours", err
		}
		for i := range w.Grants {
			w.Grants[i].Until = min(w.Grants[i].Until, until)
		}
		if taken := slices.ContainsFunc(part.Spaces, func(s world.Space) bool { return len(w.Spaces) > 0 && s.ID == w.Spaces[0].ID }); taken {
			return a, "", "two of them would have one id; take them over one after the other", nil
		}
		part.Spaces, part.Links = append(part.Spaces, w.Spaces...), append(part.Links, w.Links...)
		part.Grants, part.Forwarders = append(part.Grants, w.Grants...), append(part.Forwarders, w.Forwarders...)
		return a, key, "", nil
	}
	who, err := addr.Parse(l.Found["address"])
	if err != nil {
		return a, "", err.Error(), nil
	}
	if ours(now.Policy(), who) {
		return a, "", "it is one of our own addresses; our people do not become guests", nil
	}
	if old, err := t.Guest(who.String()); err != nil || old != nil {
		return a, "", "there is a record of them already", err
	}
	at := s.Now()
	g := world.Guest{
		Address: who, Sponsor: d.Sponsor, Purpose: d.Purpose, Origins: world.ByInvitation, Since: at, Accepted: at, Renewed: at, Until: until,
		Terms: moment.Never, StateSince: at, TakenOver: true,
	}
	if l.Found["standing"] == "out" {
		g.State, g.Cause = world.StateSuspended, "by_hand"
	}
	part.Guests = append(part.Guests, g)
	return a, who.String(), "", nil
}

// takeInRecords makes what was changed or taken away in a system count here, too.
func (s *Service) takeInRecords(ctx context.Context, who Who, x *System, h *native.Holding, lines []RecordLine,
	d RecordDecision) (*RecordsDecided, error) {
	var out *RecordsDecided
	if h.Kind == "guest" {
		return nil,
			fmt.Errorf("%w: suspend, bring back or remove the guest here (guests suspend, guests resume, guests remove); what follows is told to whom it concerns",
				ErrConflict)
	}
	defer s.recordsChanged()
	err := s.changing(ctx, who.Name, d.Why, d.Previews, func(now *State, t *store.Tx) error {
		out = &RecordsDecided{}
		t.Because(strings.TrimPrefix(d.Why+"; as it was changed in "+x.Name, "; "))
		e := now.Aside()
		for i := range lines {
			l := &lines[i]
			a := arrived{kind: h.Kind, native: l.Native, key: l.Ours, t: l.Found, changed: true}
			part, key, err := s.ourEntry(now, t, &a)
			if err != nil {
				return err
			}
			if part == nil && a.t != nil {
				out.Refused++
				out.Lines = append(out.Lines, RecordDecided{l.Key(), "refused", "it names somebody or something that is not ours"})
				continue
			}
			out.Done++
			says := h.Text(a.t)
			if a.t == nil {
				says = "ends here, too"
			}
			out.Lines = append(out.Lines, RecordDecided{l.Key(), "done", says})
			if err := s.layOver(ctx, now, e, []aside{{kind: h.Kind, key: l.Ours, meant: l.Meant, found: l.Found}}, true); err != nil {
				return err
			}
			if d.Previews {
				continue
			}
			if h.Kind == "grant" {
				if err := s.endGrants(t, l.Ours); err != nil {
					return err
				}
			}
			if a.t == nil {
				err = s.endHere(now, t, &a)
			} else {
				_, err = t.PutWorldInventory(part)
			}
			if err != nil {
				return err
			}
			if err := s.knownAs(t, x, h, &a, key); err != nil {
				return err
			}
		}
		out.Weighed = &ValueWeighed{}
		if err := out.Weighed.impact(now, &State{Snapshot: e.Done(), Head: now.Head}, s.Now(), ctx.Err); err != nil {
			return err
		}
		if d.Previews {
			return errPreview
		}
		return nil
	})
	return out, err
}

// endGrants ends what a party was given on one resource.
func (s *Service) endGrants(t *store.Tx, key string) error {
	party, resource, _ := cutLast(key, " ")
	list, err := t.Grants(party)
	if err != nil {
		return err
	}
	now := s.Now()
	for i := range list {
		g := list[i]
		if g.Resource.String() != resource || g.Until <= now {
			continue
		}
		if g.From >= now {
			err = t.EndGrant(&g)
		} else {
			ended := g
			ended.Until = now
			_, err = t.ReplaceGrant(&g, &ended)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// acceptRecords lets be what stands otherwise, until a moment.
func (s *Service) acceptRecords(ctx context.Context, who Who, x *System, lines []RecordLine, d RecordDecision) (*RecordsDecided, error) {
	until, err := endOf(d.Until, s.Now(), s.State())
	if err != nil {
		return nil, err
	}
	if until <= s.Now() || until > s.Now()+366*86400e6 {
		return nil, &Invalid{"until", d.Until, "write a day ahead, within a year"}
	}
	out := &RecordsDecided{Done: len(lines)}
	for i := range lines {
		out.Lines = append(out.Lines, RecordDecided{lines[i].Key(), "done", "let be until " + until.String()})
	}
	if d.Previews {
		return out, nil
	}
	defer s.recordsChanged()
	return out, s.change(ctx, who.Name, d.Why, func(_ *State, t *store.Tx) error {
		var rows []store.SystemRecord
		for i := range lines {
			l := &lines[i]
			was, err := thingDoc(l.Found)
			if err != nil {
				return err
			}
			if _, err := t.Note("system_record", x.ID+" "+l.Kind+" "+cmp.Or(l.Ours, l.Native), was, was); err != nil {
				return err
			}
			if l.State == RecordUnknown {
				if err := t.AcceptFound(x.ID, l.Kind, l.Native, until); err != nil {
					return err
				}
				continue
			}
			r, err := s.store.SystemRecord(ctx, x.ID, l.Kind, l.Ours)
			if err != nil {
				return err
			}
			c, err := recordOf(r)
			if err != nil || c == nil || c.Drift == nil {
				return err
			}
			c.Drift.Accepted, c.Drift.Who, c.Drift.Why = stamp(until), who.Name, d.Why
			row, err := c.row()
			if err != nil {
				return err
			}
			rows = append(rows, row)
		}
		return t.PutSystemRecords(x.ID, rows)
	})
}
