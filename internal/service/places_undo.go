package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// undoOf says by what a change of another kind is undone.
var undoOf = map[string]string{
	"guest":      "a guest's record is changed on the guest's page; mail that went out cannot be called back",
	"invitation": "take the invitation back on the guest's page; mail that went out cannot be called back",
	"stance":     "take back what was recorded of the partner, on the partner's page",
	"letter":     "a letter is closed on the partner's page",
	"account":    "change the account again",
	"step":       "dates carried this out; bring the record back, or give a later end",
}

// Undo takes a change of inventory back, whose entries stand in the journal under this number, or as
// part of the same change. What was changed again since is not touched, and then nothing is. It is
// weighed and written as a change of its own; with preview nothing is written.
func (s *Service) Undo(ctx context.Context, who Who, seq uint64, why string, preview bool) (*PlacesChanged, error) {
	var out *PlacesChanged
	err := s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		list, err := t.Change(seq)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			return fmt.Errorf("%w: the journal has no entry %d", ErrNotFound, seq)
		}
		c := &placeChange{s: s, now: now, t: t, who: who, at: s.Now(), by: map[[2]string]*entry{}, undoing: true}
		first := map[[2]string]*store.Entry{} // what each was before the change
		var order [][2]string
		places := slices.ContainsFunc(list, func(e store.Entry) bool { return slices.Contains(worldfile.InventoryKinds, e.Kind) })
		for i := range list {
			e := &list[i]
			if (e.Kind == "step" || e.Kind == "request") && places || e.Kind == "guest" && dateWritten(e) {
				continue // what was carried out stays so, and that it was asked for and done
			}
			if !slices.Contains(worldfile.InventoryKinds, e.Kind) {
				what := undoOf[e.Kind]
				if what == "" && slices.Contains(worldfile.StoredPolicy(), e.Kind) {
					what = "policy goes back with revision back"
				}
				if what == "" {
					what = "only changes of people, groups, spaces, items, meetings, roles, links, forwarders and contacts are undone here"
				}
				return &Invalid{"entry", fmt.Sprint(seq), fmt.Sprintf("it changed %s %s: %s", e.Kind, e.ID, what)}
			}
			k := [2]string{e.Kind, e.ID}
			if first[k] == nil {
				first[k] = e
				order = append(order, k)
			}
			first[k] = &store.Entry{Seq: first[k].Seq, Kind: e.Kind, ID: e.ID, Was: first[k].Was, Now: e.Now}
		}
		slices.Reverse(order)
		for _, k := range order {
			e := first[k]
			line := len(c.lines)
			c.lines = append(c.lines, PlaceLine{PlaceEdit: PlaceEdit{Do: "undo", Kind: e.Kind, ID: e.ID}})
			x, err := c.find(e.Kind, e.ID)
			if err != nil {
				return err
			}
			var is []byte
			if x != nil {
				is = x.now
			}
			if !sameKept(e.Kind, is, e.Now) {
				c.refuse(line, "id", e.ID, "it was changed again since; undo that first")
				continue
			}
			if x == nil {
				x = &entry{kind: e.Kind, id: e.ID, place: -1}
				c.put(x)
			}
			x.line = line
			switch {
			case e.Was == nil && (e.Kind == "grant" || e.Kind == "link"): // as if it had never been given
				x.now = nil
			case e.Was == nil:
				if err := c.remove(x); err != nil {
					return err
				}
			default:
				x.now = e.Was
				if e.Kind == "item" {
					if x.place, err = t.PlaceBefore(e.ID, e.Seq); err != nil {
						return err
					}
				}
				if e.Kind == "item" && spaceIn(x.now) == "" { // written before items named their space
					x.now = append([]byte(`{"space":`+jsonText(spaceIn(firstDoc(x.was, e.Was)))+","), e.Was[1:]...)
				}
			}
		}
		if err := c.wake(seq); err != nil {
			return err
		}
		out, err = c.finish(ctx, why, preview)
		return err
	})
	return out.weighed(err)
}

// dateWritten reports whether an entry writes down what the dates of a record had come to, as every
// act does first; that stays.
func dateWritten(e *store.Entry) bool {
	g, err := worldfile.GuestOf(e.Now)
	if err != nil || e.Now == nil || g.State != world.StateSuspended {
		return false
	}
	c, ok := dated.ParseCause(g.Cause)
	return ok && c.IsCounted()
}

// wake finds the records that were suspended because the change that is undone took their last
// grant: they are active again. One that was removed since stays gone, and then nothing is undone.
func (c *placeChange) wake(seq uint64) error {
	seen := map[string]bool{}
	for _, x := range c.entries {
		if x.kind != "grant" || x.now == nil {
			continue
		}
		g, err := worldfile.GrantOf(x.now)
		if err != nil || g.Address.IsZero() || g.Until <= c.at || seen[g.Party()] {
			continue
		}
		seen[g.Party()] = true
		list, err := c.t.Since("guest", g.Party(), seq)
		if err != nil {
			return err
		}
		now, err := c.t.Guest(g.Party())
		if err != nil {
			return err
		}
		for i := range list {
			e := &list[i]
			if e.Now == nil && now == nil {
				c.refuse(x.line, "party", g.Party(), "their record was removed since; invite them again")
				break
			}
			var is, was struct {
				State string `json:"state"`
				Cause string `json:"cause"`
			}
			if now == nil || now.Cause != dated.ByLastGrant.String() || json.Unmarshal(e.Now, &is) != nil || is.Cause != now.Cause ||
				json.Unmarshal(e.Was, &was) != nil ||
				was.State != world.StateNames[world.StateActive] {
				continue
			}
			before, err := worldfile.GuestOf(e.Was)
			if err != nil {
				return err
			}
			next := *now
			next.State, next.Cause, next.StateSince = before.State, before.Cause, before.StateSince
			c.wakes = append(c.wakes, next)
			break
		}
	}
	return nil
}

// sameKept reports whether an entry is as a change left it.
func sameKept(kind string, is, left []byte) bool {
	if kind == "item" && is != nil && left != nil && spaceIn(left) == "" {
		is = withoutSpace(is)
		return sameDoc(is, left)
	}
	return bytes.Equal(is, left) || is != nil && left != nil && sameDoc(is, left)
}
