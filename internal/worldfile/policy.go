package worldfile

import (
	"fmt"

	"wexillum.example/internal/core/world"
)

// AddPolicy adds an entry of policy, as a doc of its kind, to a world. One that cannot be read
// adds nothing.
func AddPolicy(w *world.World, name, id string, doc []byte) error {
	for i := range kinds {
		if k := &kinds[i]; k.policy && k.stored == name {
			if err := k.add(w, id, doc); err != nil {
				return fmt.Errorf("%s %s: %w", name, id, err)
			}
			return nil
		}
	}
	return fmt.Errorf("%s %s: the database holds policy of the unknown kind %q", name, id, name)
}

// PolicyDocs calls add for every entry of the policy of a world, with its kind, id
// and doc. Stances, which are no policy, are left out.
func PolicyDocs(w *world.World, add func(kind, id string, doc []byte)) {
	for i := range kinds {
		if k := &kinds[i]; k.policy {
			k.docs(w, func(id string, doc Doc) { add(k.stored, id, doc) })
		}
	}
}

// ChangedPolicy calls put for every entry of the policy of next that was lacks or has otherwise,
// and, with a nil doc, for those that next lacks.
func ChangedPolicy(was, next *world.World, put func(kind, id string, doc []byte)) {
	for i := range kinds {
		if k := &kinds[i]; k.policy {
			k.changed(was, next, func(id string, doc Doc) { put(k.stored, id, doc) })
		}
	}
}

// InventoryDocs calls add for every entry of the inventory of a world that is kept as a doc, with
// its kind, id and doc. Guests, grants and items have tables of their own.
func InventoryDocs(w *world.World, add func(kind, id string, doc []byte)) {
	for i := range kinds {
		if k := &kinds[i]; !k.policy && k.docs != nil {
			k.docs(w, func(id string, doc Doc) { add(k.stored, id, doc) })
		}
	}
}

// InventoryIn names what of inventory a world holds first, as the section of a file; empty for none.
func InventoryIn(w *world.World) string {
	for i := range kinds {
		if k := &kinds[i]; !k.policy && k.some(w) {
			return k.section
		}
	}
	return ""
}

// AddInventory adds an entry of inventory that is kept as a doc to a world.
func AddInventory(w *world.World, name, id string, doc []byte) error {
	for i := range kinds {
		if k := &kinds[i]; !k.policy && k.stored == name && k.add != nil {
			return k.add(w, id, doc)
		}
	}
	return fmt.Errorf("the database holds a record of the unknown kind %q", name)
}

// NotAsked lists the kinds of inventory of which no question is asked.
func NotAsked() (out []string) {
	for i := range kinds {
		if kinds[i].aside {
			out = append(out, kinds[i].stored)
		}
	}
	return
}
