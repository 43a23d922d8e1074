package service

import (
	"context"
	"fmt"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// onDraft changes a draft. fn gets how it stands; what it leaves in the draft is kept.
func (s *Service) onDraft(ctx context.Context, who, why, name, ifMatch string, fn func(x *DraftNow, t *store.Tx) error) (*DraftNow, error) {
	id := "" // a name is not found any more once the draft is over
	gone := false
	err := s.changeLong(ctx, who, why, func(now *State, t *store.Tx) error {
		d, err := s.draftNamed(ctx, name, changedDrafts{t})
		if err != nil {
			return err
		}
		id = d.ID
		if ifMatch != "" && ifMatch != d.Etag() {
			return ErrStale
		}
		if d.Over() {
			return fmt.Errorf("%w: the draft %q is %s already", ErrConflict, d.Name, d.published())
		}
		x, err := s.stand(d, now)
		if err != nil {
			return err
		}
		if err := fn(x, t); err != nil {
			return err
		}
		gone = d.Aside && d.State == DraftDropped
		return s.putDraft(t, d)
	})
	if err != nil || gone {
		return nil, err
	}
	return s.Draft(ctx, id)
}

func (d *Draft) published() string {
	if d.State == DraftPublished {
		return fmt.Sprintf("published, as revision %d", d.Published)
	}
	return string(d.State)
}

// reopen makes a draft open again: what was weighed is no longer what it holds.
func (d *Draft) reopen(note string) {
	if d.State == DraftWaiting || d.State == DraftSet {
		d.State, d.Note, d.Weighed = DraftOpen, note, nil
	}
}

// editDraft makes a change of policy an edit of a draft.
func (s *Service) editDraft(ctx context.Context, id, who, why string, make func(*State) (*world.World, error)) error {
	_, err := s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		if len(x.Conflicts) > 0 {
			return x.conflicting()
		}
		next, err := make(x.After)
		if err != nil {
			return err
		}
		if gone := lost(x.After.Policy(), next); gone != "" {
			return fmt.Errorf("%w: the partner %q would go, and a draft carries no guest or grant that names it; keep it and set its standing to ended, or merge it into another partner outside a draft",
				ErrConflict, gone)
		}
		edits := draft.Diff(s.docs(x.Live), worldfile.DocsOf(next), x.Clean, who, s.Now().String(), why)
		x.Draft.Edits, x.Draft.Base = edits, x.Live.Head.Revision
		if x.Quick {
			x.Draft.Name = draft.Titles(edits)
		}
		x.reopen("it was edited after it was weighed")
		return nil
	})
	return err
}

func lost(was, next *world.World) string {
	have := map[string]bool{}
	for i := range next.Partners {
		have[next.Partners[i].ID] = true
	}
	for i := range was.Partners {
		if !have[was.Partners[i].ID] {
			return was.Partners[i].ID
		}
	}
	return ""
}

// UndoEdit takes an edit out of a draft; an empty kind takes all.
func (s *Service) UndoEdit(ctx context.Context, who, why, id, kind, entry, ifMatch string) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, ifMatch, func(x *DraftNow, _ *store.Tx) error {
		kept := []draft.Edit{}
		for _, e := range x.Edits {
			if kind != "" && (e.Kind != kind || e.ID != entry) {
				kept = append(kept, e)
			}
		}
		if len(kept) == len(x.Edits) {
			return fmt.Errorf("%w: the draft %q has no edit of %s %s", ErrNotFound, x.Name, kind, entry)
		}
		if kind == "" {
			x.Draft.Releases = nil
		}
		x.Draft.Edits = kept
		x.reopen("it was edited after it was weighed")
		return nil
	})
}

// SettleEdit decides a conflict: the draft keeps its edit, or takes what is in force.
func (s *Service) SettleEdit(ctx context.Context, who, why, id, kind, entry string, keep bool) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		edits := append([]draft.Edit{}, x.Clean...)
		found := false
		for _, c := range x.Conflicts {
			if c.Edit.Kind != kind || c.Edit.ID != entry {
				edits = append(edits, c.Edit)
				continue
			}
			found = true
			if keep {
				edits = append(edits, draft.Keep(c))
			}
		}
		if !found {
			return fmt.Errorf("%w: nothing else has changed %s %s since the draft %q did", ErrConflict, kind, entry, x.Name)
		}
		draft.Sort(edits)
		x.Draft.Edits = edits
		if len(x.Conflicts) == 1 {
			x.Draft.Base = x.Live.Head.Revision
		}
		x.reopen("it was edited after it was weighed")
		return nil
	})
}

// DropDraft gives a draft up.
func (s *Service) DropDraft(ctx context.Context, who, why, id string) error {
	_, err := s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		x.Draft.State, x.Draft.Weighed = DraftDropped, nil
		return nil
	})
	return err
}

// WithdrawDraft opens a draft that waits or is set.
func (s *Service) WithdrawDraft(ctx context.Context, who, why, id string) (*DraftNow, error) {
	return s.onDraft(ctx, who, why, id, "", func(x *DraftNow, _ *store.Tx) error {
		if x.State == DraftOpen {
			return fmt.Errorf("%w: the draft %q waits for nothing", ErrConflict, x.Name)
		}
		x.reopen("")
		return nil
	})
}
