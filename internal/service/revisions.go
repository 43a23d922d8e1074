package service

import (
	"context"
	"errors"
	"fmt"
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Revision is one published state of policy, with the draft that it came from.
type Revision struct {
	store.Revision
	Draft *Draft
}

// Revisions lists revisions before one, the newest first; 0 for all.
func (s *Service) Revisions(ctx context.Context, before uint64, limit int) ([]Revision, error) {
	list, err := s.store.Revisions(ctx, before, limit)
	if err != nil {
		return nil, err
	}
	drafts, err := s.Drafts(ctx, true)
	if err != nil {
		return nil, err
	}
	by := map[uint64]*Draft{}
	for i := range drafts {
		if drafts[i].State == DraftPublished {
			by[drafts[i].Published] = &drafts[i]
		}
	}
	out := make([]Revision, len(list))
	for i := range list {
		out[i] = Revision{list[i], by[list[i].Number]}
	}
	return out, nil
}

// RevisionDiff returns what two revisions of policy differ in; 0 is the state before
// the first.
func (s *Service) RevisionDiff(ctx context.Context, from, to uint64) ([]draft.Edit, error) {
	last := s.State().Head.Revision
	docs := func(n uint64) (draft.Docs, error) {
		if n > last {
			return nil, fmt.Errorf("%w: there is no revision %d; the last is %d", ErrNotFound, n, last)
		}
		return s.store.PolicyDocs(ctx, n)
	}
	b, err := docs(to)
	if err != nil {
		return nil, err
	}
	a, err := docs(from)
	if err != nil {
		return nil, err
	}
	return draft.Diff(a, b, nil, "", "", ""), nil
}

// BackTo makes a draft that takes policy back to a revision; its edits say what it
// would undo. Values that publishing since held back are released.
func (s *Service) BackTo(ctx context.Context, who, why string, number uint64) (*Draft, error) {
	var d *Draft
	err := s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		if number == 0 || number >= now.Head.Revision {
			return &Invalid{
				"revision",
				fmt.Sprint(number),
				fmt.Sprintf("one can go back to an earlier revision than %d, the one in force", now.Head.Revision),
			}
		}
		docs, err := s.store.PolicyDocs(ctx, number)
		if err != nil {
			return err
		}
		name := fmt.Sprintf("Back to revision %d", number)
		if err := s.free(ctx, name); err != nil {
			return err
		}
		d = s.newDraft(t, now, who, name)
		d.Back = number
		d.Edits = draft.Diff(s.docs(now), docs, nil, who, s.Now().String(), why)
		if d.Releases, err = s.heldSince(ctx, t, number); err != nil {
			return err
		}
		if len(d.Edits)+len(d.Releases) == 0 {
			return fmt.Errorf("%w: the policy in force is that of revision %d", ErrConflict, number)
		}
		return s.putDraft(t, d)
	})
	return d, err
}

// heldSince finds values of spaces, items and meetings that publishing since a revision
// held back, and that still are.
func (s *Service) heldSince(ctx context.Context, t *store.Tx, number uint64) ([]Release, error) {
	out := []Release{}
	seen := map[string]bool{}
	err := s.store.Published(ctx, number, func(e *store.Entry) error {
		was, err := rulesOf(e.Kind, e.Was)
		if err != nil {
			return err
		}
		now, err := rulesOf(e.Kind, e.Now)
		if err != nil {
			return err
		}
		held := map[catalogue.RuleID]world.Setting{}
		for _, v := range was {
			held[v.Rule] = v
		}
		where := placeOf(e)
		for _, v := range now {
			old, had := held[v.Rule]
			key := where + " " + v.Rule.String()
			if !had || old.Held || !v.Held || old.Value != v.Value || seen[key] {
				continue
			}
			seen[key] = true
			w, err := ParseWhere(where)
			if err != nil {
				return err
			}
			still := false
			if err := onRules(t, w, func(rules []world.Setting, _ []byte) ([]world.Setting, bool, error) {
				for _, x := range rules {
					still = still || x.Rule == v.Rule && x.Held && x.Value == v.Value
				}
				return nil, false, nil
			}); err != nil && !errors.Is(err, ErrNotFound) {
				return err
			}
			if still {
				out = append(out, Release{where, v.Rule.String(), v.Rule.Get().Scale.Format(v.Value)})
			}
		}
		return nil
	})
	sort.Slice(out, func(i, j int) bool { return out[i].Where+" "+out[i].Rule < out[j].Where+" "+out[j].Rule })
	return out, err
}

func rulesOf(kind string, doc []byte) ([]world.Setting, error) {
	if doc == nil {
		return nil, nil
	}
	switch kind {
	case "space":
		x, err := worldfile.SpaceOf(doc)
		return x.Rules, err
	case "meeting":
		x, err := worldfile.MeetingOf(doc)
		return x.Rules, err
	}
	x, err := worldfile.ItemOf(doc)
	return x.Rules, err
}

func placeOf(e *store.Entry) string {
	if e.Kind != "item" {
		return e.Kind + ":" + e.ID
	}
	doc := e.Now
	if doc == nil {
		doc = e.Was
	}
	x, err := worldfile.ItemOf(doc)
	if err != nil {
		return "file:" + e.ID
	}
	return x.Kind.String() + ":" + e.ID
}

// release makes values count again that publishing had held back, where they still are.
func release(t *store.Tx, list []Release) error {
	for _, r := range list {
		w, err := ParseWhere(r.Where)
		if err != nil {
			return err
		}
		rule, err := FindRule(r.Rule)
		if err != nil {
			return err
		}
		err = onRules(t, w, func(rules []world.Setting, _ []byte) ([]world.Setting, bool, error) {
			out := append([]world.Setting(nil), rules...)
			changed := false
			for i := range out {
				if x := &out[i]; x.Rule == rule.ID && x.Held && rule.Scale.Format(x.Value) == r.Value {
					x.Held, changed = false, true
				}
			}
			return out, changed, nil
		})
		if err != nil && !errors.Is(err, ErrNotFound) { // a space that is gone has nothing to release
			return err
		}
	}
	return nil
}
