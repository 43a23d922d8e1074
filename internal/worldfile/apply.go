package worldfile

import (
	"fmt"

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
	out.Rules = without(w.Rules, "rule", touched, func(x *world.RuleSetting) string { return x.Rule.String() })
	out.Partners = without(w.Partners, "partner", touched, func(x *world.Partner) string { return x.ID })
	out.Barred = without(w.Barred, "bar", touched, (*world.Bar).Key)
	out.Personal = without(w.Personal, "personal", touched, func(x *world.Entry) string { return x.Domain.String() })
	out.Exceptions = without(w.Exceptions, "exception", touched, func(x *world.Exception) string { return x.ID })
	out.Bundles = without(w.Bundles, "bundle", touched, func(x *world.Bundle) string { return x.ID })
	out.Expectations = without(w.Expectations, "expectation", touched, func(x *world.Expectation) string { return x.ID })
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

// without returns a copy of a list that lacks the touched ones, with nothing behind it
// that appending could overwrite.
func without[T any](list []T, kind string, touched map[draft.Key]bool, id func(*T) string) []T {
	any := false
	for k := range touched {
		any = any || k.Kind == kind
	}
	if !any {
		return list[:len(list):len(list)]
	}
	out := make([]T, 0, len(list)+1)
	for i := range list {
		if !touched[draft.Key{Kind: kind, ID: id(&list[i])}] {
			out = append(out, list[i])
		}
	}
	return out
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
