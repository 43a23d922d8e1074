package worldfile

import (
	"fmt"
	"slices"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/world"
)

// DocsOf returns the policy of a world entry by entry.
func DocsOf(w *world.World) draft.Docs {
	out := draft.Docs{}
	PolicyDocs(w, func(kind, id string, doc []byte) { out[draft.Key{Kind: kind, ID: id}] = doc })
	return out
}

// ApplyEdits returns the policy of a world as edits leave it. Partners keep what is
// known of their own side. Neither is changed.
func ApplyEdits(w *world.World, edits []draft.Edit) (*world.World, error) {
	touched := map[draft.Key]bool{}
	for i := range edits {
		touched[edits[i].Key()] = true
	}
	if len(touched) == 0 {
		return w, nil
	}
	out := *w
	for i := range kinds {
		k := &kinds[i]
		if !k.policy || !slices.ContainsFunc(edits, func(e draft.Edit) bool { return e.Kind == k.stored }) {
			continue // what is not touched is shared; appending to it is not meant to happen
		}
		k.drop(&out, func(id string) bool { return touched[draft.Key{Kind: k.stored, ID: id}] })
	}
	stances := map[string][]world.Stance{}
	for i := range w.Partners {
		stances[w.Partners[i].ID] = w.Partners[i].Stance
	}
	for i := range edits {
		e := &edits[i]
		if e.Now == nil {
			if e.Kind == "organisation" || e.Kind == "settings" {
				return nil, fmt.Errorf("%s cannot be taken away", e.Kind)
			}
			continue
		}
		if err := AddPolicy(&out, e.Kind, e.ID, e.Now); err != nil {
			return nil, err
		}
		if e.Kind == "partner" {
			p := &out.Partners[len(out.Partners)-1]
			p.Stance = stances[p.ID]
		}
	}
	return &out, nil
}

// Replaced returns the policy of a world with entries as edits have them, in the order of their keys, as a
// database hands them over. The world is not changed.
func Replaced(w *world.World, edits []draft.Edit) (*world.World, error) {
	out, err := ApplyEdits(w, edits)
	if err != nil || out == w {
		return out, err
	}
	for i := range kinds {
		if k := &kinds[i]; k.policy && slices.ContainsFunc(edits, func(e draft.Edit) bool { return e.Kind == k.stored }) {
			k.order(out)
		}
	}
	return out, nil
}

// CheckPolicy reads some entries of a policy the way a file is read: what they name
// must be there, and no two may claim the same.
func CheckPolicy(edits []draft.Edit, o Options) error {
	part := &world.World{}
	for i := range edits {
		if e := &edits[i]; e.Now != nil {
			if err := AddPolicy(part, e.Kind, e.ID, e.Now); err != nil {
				return err
			}
		}
	}
	_, err := Read(Write(part), o)
	return err
}
