package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/pattern"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// What an edit of inventory does.
const (
	DoAdd    = "add"
	DoSet    = "set"    // some of its fields; the others stay
	DoRemove = "remove" // a grant that has begun ends instead
	DoClose  = "close"  // of a space or an item: what was given in it ends, at once or on a day
)

// PlaceEdit is one change of an entry of inventory.
type PlaceEdit struct {
	Do   string `json:"do"`
	Kind string `json:"kind"` // one of worldfile.InventoryKinds
	// ID is what the entry is known by. Absent where something new is added: then it follows from
	// its name, or from its fields where it has no id.
	ID string `json:"id,omitempty"`
	// Fields is a merge patch (RFC 7396) of the fields of the file format. An item names its space
	// too, and another space moves it. Of close, "on" is the last day.
	Fields json.RawMessage `json:"fields,omitempty"`
	// Pattern says, of a new space, what is not said in its fields.
	Pattern string `json:"pattern,omitempty"`
}

// PlaceLine is what became of an edit, or would.
type PlaceLine struct {
	PlaceEdit
	Result string           // added, changed, closed, ended, removed, unchanged, refused; not_done where another line is refused
	Field  string           // of a refusal: which field is wrong
	Value  string           // and its value
	Cause  string           // why it is refused
	Note   string           // what else is to be known of it
	Ask    *engine.Question // what was asked and refused
}

// PlacesChanged is what a change of inventory did, or would.
type PlacesChanged struct {
	Lines   []PlaceLine
	Refused int
	Weighed *ValueWeighed
	// Change is the number under which the journal keeps it, by which it can be undone; 0 where
	// nothing was written.
	Change uint64
	weigh  func() error // where it is counted once the change is written
}

// entry is one entry in the middle of a change.
type entry struct {
	kind, id string
	line     int // of the edit that it comes from; -1 for what follows from another
	was, now []byte
	place    int // of an item among those of its space; -1 behind them
}

// placeChange is a change of inventory while it is put together.
type placeChange struct {
	s       *Service
	now     *State
	t       *store.Tx
	who     Who
	at      moment.Moment
	lines   []PlaceLine
	entries []*entry
	by      map[[2]string]*entry
	undoing bool
	wakes   []world.Guest // records that what is undone had suspended
}

// refuse notes that a line cannot be done.
func (c *placeChange) refuse(line int, field, value, cause string) {
	if line < 0 || line >= len(c.lines) {
		line = 0
	}
	l := &c.lines[line]
	if l.Result != "refused" {
		l.Result, l.Field, l.Value, l.Cause = "refused", field, value, cause
	}
}

func (c *placeChange) refused() (n int) {
	for i := range c.lines {
		if c.lines[i].Result == "refused" {
			n++
		}
	}
	return
}

// EditPlaces makes, changes, closes and removes entries of inventory, all or none: people, groups,
// spaces, items, meetings, grants, links, forwarders and contacts. It is weighed before it is
// written; what opens something needs a reason. With preview nothing is written.
func (s *Service) EditPlaces(ctx context.Context, who Who, why string, edits []PlaceEdit, preview bool) (*PlacesChanged, error) {
	if len(edits) == 0 {
		return nil, &Invalid{"changes", "", "name at least one change"}
	}
	var out *PlacesChanged
	err := s.changing(ctx, who.Name, why, preview, func(now *State, t *store.Tx) error {
		c, err := s.placeChange(now, t, who, edits)
		if err != nil {
			return err
		}
		out, err = c.finish(ctx, why, preview)
		return err
	})
	return out.weighed(err)
}

// placeChange takes edits in.
func (s *Service) placeChange(now *State, t *store.Tx, who Who, edits []PlaceEdit) (*placeChange, error) {
	c := &placeChange{s: s, now: now, t: t, who: who, at: s.Now(), by: map[[2]string]*entry{}}
	for _, e := range edits {
		c.lines = append(c.lines, PlaceLine{PlaceEdit: e})
	}
	for i := range edits {
		if err := c.edit(i, &edits[i]); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// weighed counts what was not counted while others waited.
func (x *PlacesChanged) weighed(err error) (*PlacesChanged, error) {
	if err == nil && x != nil && x.weigh != nil {
		err = x.weigh()
	}
	return x, err
}

// kindsWithID are those that are known by an id of their own.
var kindsWithID = []string{"person", "group", "space", "item", "domain_list", "meeting", "link"}

// edit takes one edit in.
func (c *placeChange) edit(line int, e *PlaceEdit) error {
	if !slices.Contains(worldfile.InventoryKinds, e.Kind) {
		return &Invalid{"kind", e.Kind, "write one of " + strings.Join(worldfile.InventoryKinds, ", ")}
	}
	var fields map[string]json.RawMessage
	if len(e.Fields) > 0 {
		if err := json.Unmarshal(e.Fields, &fields); err != nil {
			return &Invalid{"fields", string(e.Fields), "write a JSON object with fields of the file format"}
		}
	}
	hasID := slices.Contains(kindsWithID, e.Kind)
	if _, named := fields["rules"]; named && e.Do == DoSet {
		c.refuse(line, "rules", string(fields["rules"]), "a value of a rule is set by itself, as in space set "+e.ID+" RULE VALUE")
		return nil
	}
	switch e.Do {
	case DoAdd:
		id := e.ID
		if hasID && id == "" {
			var given string
			_ = json.Unmarshal(fields["id"], &given)
			if id = given; id == "" {
				var name string
				_ = json.Unmarshal(fields["name"], &name)
				if id = c.freeID(e.Kind, name); id == "" {
					c.refuse(line, "name", name, "give it a name, from which its id follows, or an id")
					return nil
				}
			}
		}
		doc := []byte("{}")
		if hasID {
			doc = []byte(`{"id":` + jsonText(id) + "}")
			if !worldfile.ValidID(id) {
				c.refuse(line, "id", id, "lower-case letters, digits, dots, hyphens and underscores, a letter or digit first, at most 100")
				return nil
			}
			was, err := c.find(e.Kind, id)
			if err != nil {
				return err
			}
			if was != nil && was.now != nil || c.now.Has(e.Kind, id) && e.Kind != "item" && was == nil {
				c.refuse(line, "id", id, fmt.Sprintf("there is %s with this id already", articled(e.Kind)))
				return nil
			}
			c.lines[line].ID = id
		}
		patch := e.Fields
		if e.Kind == "space" {
			if e.Pattern != "" {
				var ok bool
				if patch, ok = c.patterned(line, e); !ok {
					return nil
				}
			}
			patch = c.itemIDs(patch)
			c.ownFolders(line, e, patch)
		}
		next, err := mergedDoc(doc, patch, id, hasID)
		if err != nil {
			c.refuse(line, "id", id, err.Error())
			return nil
		}
		if e.Kind == "grant" || e.Kind == "link" { // from now on, where nothing else is said
			next = withDefault(next, map[string]string{"grant": "from", "link": "created"}[e.Kind], c.second().String())
		}
		x := &entry{kind: e.Kind, id: id, line: line, now: next, place: -1}
		if hasID {
			if old := c.by[[2]string{e.Kind, id}]; old != nil {
				x.was = old.was
			}
		} else {
			x.id = fmt.Sprintf("\x00%d", line) // known once it is read
		}
		c.put(x)
	case DoSet:
		x, err := c.must(line, e)
		if err != nil || x == nil {
			return err
		}
		next, err := mergedDoc(x.now, e.Fields, e.ID, hasID)
		if err != nil {
			c.refuse(line, "id", e.ID, err.Error())
			return nil
		}
		x.now, x.line = next, line
	case DoRemove:
		x, err := c.must(line, e)
		if err != nil || x == nil {
			return err
		}
		x.line = line
		return c.remove(x)
	case DoClose:
		x, err := c.must(line, e)
		if err != nil || x == nil {
			return err
		}
		x.line = line
		return c.close(x, fields)
	default:
		return &Invalid{"do", e.Do, "write add, set, close or remove"}
	}
	return nil
}

// patterned returns the fields of a new space with what its pattern says besides. Values that the
// limits do not let it have are left out, and the line says so.
func (c *placeChange) patterned(line int, e *PlaceEdit) (fields []byte, ok bool) {
	p, ok := pattern.Named(e.Pattern)
	if !ok {
		var names []string
		for i := range pattern.All() {
			names = append(names, pattern.All()[i].Name)
		}
		c.refuse(line, "pattern", e.Pattern, "write one of "+strings.Join(names, ", "))
		return nil, false
	}
	var given struct {
		Parties []string `json:"parties"`
	}
	_ = json.Unmarshal(e.Fields, &given)
	sp := world.Space{ID: "x", Kind: p.Kind, Joinable: p.Joinable, HouseLicence: p.HouseLicence}
	var left []string
	for _, r := range p.Rules {
		if limit, _, _, _ := c.now.RuleState(r.Rule); r.Rule.Get().Scale.Looser(r.Value, limit) {
			left = append(
				left,
				fmt.Sprintf("%s %s, since the limit is %s", r.Rule, r.Rule.Get().Scale.Format(r.Value), r.Rule.Get().Scale.Format(limit)),
			)
			continue
		}
		sp.Rules = append(sp.Rules, r)
	}
	if len(left) > 0 {
		c.lines[line].Note = "Left out: " + strings.Join(left, "; ") + ". An administrator can raise a limit."
	}
	type item struct {
		Kind    string `json:"kind"`
		Name    string `json:"name"`
		Private string `json:"private,omitempty"`
	}
	items := []item{}
	for _, it := range p.Items {
		items = append(items, item{Kind: it.Kind.String(), Name: it.Name})
	}
	if p.Each {
		for _, party := range given.Parties {
			name := party
			if id, ok := strings.CutPrefix(party, "partner:"); ok {
				if x, err := c.now.Partner(id); err == nil {
					name = x.Name
				}
			}
			if id, ok := strings.CutPrefix(party, "group:"); ok {
				name = cmp.Or(c.now.NameOfGroup(id), id)
			}
			items = append(items, item{"folder", strings.TrimPrefix(name, "domain:"), "yes"})
		}
	}
	first, err := json.Marshal(map[string]any{"items": items})
	if err != nil {
		return nil, false
	}
	doc, err := jsonpatch.MergePatch(withoutID(worldfile.SpaceDoc(&sp)), first)
	if err == nil {
		doc, err = jsonpatch.MergePatch(doc, e.Fields)
	}
	if err != nil {
		c.refuse(line, "fields", string(e.Fields), "write a JSON object with fields of the file format")
		return nil, false
	}
	return doc, true
}

// ownFolders gives each address and group that a new drop-off admits a role on the folder of its own.
// Of partners and domains it says that this is to be done: who of them comes is not known yet.
func (c *placeChange) ownFolders(line int, e *PlaceEdit, patch []byte) {
	p, ok := pattern.Named(e.Pattern)
	if !ok || !p.Each {
		return
	}
	var given struct {
		Parties []string          `json:"parties"`
		Items   []json.RawMessage `json:"items"`
	}
	_ = json.Unmarshal(e.Fields, &given)
	var made struct {
		Owners []string                    `json:"owners"`
		Items  []struct{ ID, Kind string } `json:"items"`
	}
	if given.Items != nil || json.Unmarshal(patch, &made) != nil || len(made.Items) != len(p.Items)+len(given.Parties) {
		return // the items are others than those of the pattern
	}
	var later []string
	for i, party := range given.Parties {
		if strings.HasPrefix(party, "partner:") || strings.HasPrefix(party, "domain:") {
			later = append(later, party)
			continue
		}
		it := made.Items[len(p.Items)+i]
		g := map[string]string{"party": party, "resource": it.Kind + ":" + it.ID, "role": p.Role.String(), "from": c.second().String()}
		if len(made.Owners) > 0 {
			g["sponsor"] = made.Owners[0]
		}
		c.put(&entry{
			kind: "grant", id: strings.Join([]string{party, g["resource"], g["role"], g["from"]}, " "),
			line: line, now: []byte(jsonOf(g)), place: -1,
		})
	}
	if len(later) > 0 {
		c.lines[line].Note = strings.TrimSpace(c.lines[line].Note + " Nobody from " + strings.Join(later, ", ") +
			" has a role yet: invite them into the folder made for them.")
	}
}

func withoutID(doc []byte) []byte {
	out, err := jsonpatch.MergePatch(doc, []byte(`{"id":null}`))
	if err != nil {
		return doc
	}
	return out
}

// itemIDs gives the items of a new space ids of their names where they have none.
func (c *placeChange) itemIDs(patch []byte) []byte {
	var m map[string]json.RawMessage
	var items []map[string]json.RawMessage
	if json.Unmarshal(patch, &m) != nil || m["items"] == nil || json.Unmarshal(m["items"], &items) != nil {
		return patch
	}
	taken := map[string]bool{}
	for _, it := range items {
		var id, name string
		_ = json.Unmarshal(it["id"], &id)
		_ = json.Unmarshal(it["name"], &name)
		if id == "" {
			if base := c.freeID("item", name); base != "" {
				id = base
				for n := 2; taken[id]; n++ {
					id = c.freeID("item", fmt.Sprintf("%s %d", name, n))
				}
				it["id"] = json.RawMessage(jsonText(id))
			}
		}
		taken[id] = true
	}
	m["items"], _ = json.Marshal(items)
	out, _ := json.Marshal(m)
	return out
}

// articled writes a kind with its article.
func articled(kind string) string {
	if kind == "item" {
		return "an item"
	}
	return "a " + worldfile.KindInWords(kind)
}

// mergedDoc applies a merge patch to a doc; an id stays.
func mergedDoc(doc, patch []byte, id string, hasID bool) ([]byte, error) {
	if len(patch) == 0 {
		return doc, nil
	}
	if !hasID {
		return merged(doc, patch)
	}
	return patched(doc, patch, id)
}

// withDefault gives a doc a field where it has none.
func withDefault(doc []byte, field, value string) []byte {
	var m map[string]json.RawMessage
	if json.Unmarshal(doc, &m) != nil || m[field] != nil {
		return doc
	}
	m[field] = json.RawMessage(jsonText(value))
	out, _ := json.Marshal(m)
	return out
}

// put takes an entry in.
func (c *placeChange) put(x *entry) {
	if old := c.by[[2]string{x.kind, x.id}]; old != nil {
		old.now, old.line = x.now, x.line
		return
	}
	c.by[[2]string{x.kind, x.id}] = x
	c.entries = append(c.entries, x)
}

// find returns an entry as it is by now in this change; nil where there is none.
func (c *placeChange) find(kind, id string) (*entry, error) {
	if x := c.by[[2]string{kind, id}]; x != nil {
		return x, nil
	}
	x := &entry{kind: kind, id: id, line: -1, place: -1}
	switch kind {
	case "item":
		it, place, ok, err := c.t.Item(id)
		if err != nil || !ok {
			return nil, err
		}
		x.was, x.place = worldfile.PlacedItemDoc(&it), place
	case "grant":
		g, err := c.grant(id)
		if err != nil || g == nil {
			return nil, err
		}
		x.was = worldfile.GrantDoc(g)
	default:
		doc, err := c.t.Record(kind, id)
		if err != nil || doc == nil {
			return nil, err
		}
		x.was = doc
	}
	x.now = x.was
	c.put(x)
	return x, nil
}

// grant finds a grant by its key, or by a party and a resource where one role alone is in force.
func (c *placeChange) grant(key string) (*world.Grant, error) {
	f := strings.Fields(key)
	if len(f) < 2 {
		return nil, nil
	}
	party := f[0]
	if !strings.HasPrefix(party, "group:") {
		if a, err := addr.Parse(party); err == nil {
			party = a.String()
		}
	}
	list, err := c.t.Grants(party)
	if err != nil {
		return nil, err
	}
	var live []*world.Grant
	for i := range list {
		g := &list[i]
		if worldfile.GrantKey(g) == key {
			return g, nil
		}
		if g.Resource.String() == f[1] && c.at < g.Until && (len(f) < 3 || g.Role.String() == f[2]) {
			live = append(live, g)
		}
	}
	if len(live) == 1 && len(f) <= 3 {
		return live[0], nil
	}
	return nil, nil
}

// must finds what an edit changes, or refuses the line.
func (c *placeChange) must(line int, e *PlaceEdit) (*entry, error) {
	x, err := c.find(e.Kind, e.ID)
	if err != nil {
		return nil, err
	}
	if x == nil || x.now == nil {
		hint := ""
		if e.Kind != "grant" && e.Kind != "forwarder" && e.Kind != "contact" {
			if n := c.now.NearestID(e.Kind, e.ID); n != "" {
				hint = "; do you mean " + n + "?"
			}
		}
		c.refuse(line, "id", e.ID, fmt.Sprintf("there is no such %s%s", worldfile.KindInWords(e.Kind), hint))
		return nil, nil
	}
	if e.Kind == "grant" { // found by less than its key
		if g, err := worldfile.GrantOf(x.was); err == nil && x.id != worldfile.GrantKey(&g) {
			delete(c.by, [2]string{x.kind, x.id})
			x.id = worldfile.GrantKey(&g)
			c.by[[2]string{x.kind, x.id}] = x
			c.lines[line].ID = x.id
		}
	}
	return x, nil
}
