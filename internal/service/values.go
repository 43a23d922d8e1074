package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	jsonpatch "github.com/evanphx/json-patch/v5"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Where is a layer's place that holds values: a partner, a space, an item or a
// meeting.
type Where struct {
	Partner  string         // the id of a partner; or empty
	Resource world.Resource // a space, item or meeting
}

// ParseWhere reads partner:ID, space:ID, an item or meeting:ID.
func ParseWhere(text string) (Where, error) {
	if id, ok := strings.CutPrefix(text, "partner:"); ok {
		return Where{Partner: id}, nil
	}
	r, err := engine.ParseResource(text)
	if err != nil || !r.Kind.IsItem() && r.Kind != catalogue.Space && r.Kind != catalogue.Meeting {
		return Where{}, &Invalid{"where", text, "write partner:ID, space:ID, meeting:ID or an item as file:ID"}
	}
	return Where{Resource: r}, nil
}

// String writes the place as ParseWhere reads it.
func (w Where) String() string {
	if w.Partner != "" {
		return "partner:" + w.Partner
	}
	return w.Resource.String()
}

// Layer returns the layer that the place belongs to.
func (w Where) Layer() (catalogue.Layers, engine.LayerName) {
	switch {
	case w.Partner != "":
		return catalogue.AtPartner, engine.PartnerLayer
	case w.Resource.Kind == catalogue.Space:
		return catalogue.AtSpace, engine.SpaceLayer
	}
	return catalogue.AtItem, engine.ItemLayer
}

// ParseValue reads a value as the contract writes it: methods separated by commas.
func ParseValue(rule *catalogue.Rule, field, text string) (catalogue.Value, error) {
	words := []string{text}
	if rule.Scale.Shape == catalogue.Methods && text != "all" {
		words = nil
		if text != "no method" {
			for _, w := range strings.Split(text, ",") {
				if w = strings.TrimSpace(w); w != "" {
					words = append(words, w)
				}
			}
		}
	}
	v, err := rule.Scale.Parse(words...)
	if err != nil {
		return v, &Invalid{field, text, err.Error()}
	}
	return v, nil
}

// FindRule finds a rule by its name, or says which one may be meant.
func FindRule(name string) (*catalogue.Rule, error) {
	r, ok := catalogue.RuleByName(name)
	if !ok {
		hint := ""
		if n := catalogue.Nearest(name); n != "" {
			hint = "; do you mean " + n + "?"
		}
		return nil, fmt.Errorf("%w: there is no rule %q%s", ErrNotFound, name, hint)
	}
	return r, nil
}

// ValueChange is a change of one value below the organisation. An empty Value
// takes it away.
type ValueChange struct {
	Where   Where
	Rule    string
	Value   string
	Held    bool
	IfMatch string
}

// parse reads the rule and the value, Unset for none.
func (c *ValueChange) parse() (rule *catalogue.Rule, v catalogue.Value, err error) {
	if rule, err = FindRule(c.Rule); err != nil {
		return nil, 0, err
	}
	layer, _ := c.Where.Layer()
	if rule.Layers&layer == 0 {
		where := "only the organisation sets it"
		if names := rule.Layers.Names(); len(names) > 0 {
			where = "it may be set at: " + strings.Join(names, ", ")
		}
		return nil, 0, &Invalid{"rule", c.Rule, fmt.Sprintf("it cannot be set at %s; %s", c.Where, where)}
	}
	v = catalogue.Unset
	if c.Value != "" {
		v, err = ParseValue(rule, "value", c.Value)
	}
	return rule, v, err
}

// on returns what a place says of rules after the change.
func (c *ValueChange) on(now *State, rule *catalogue.Rule, v catalogue.Value, was []world.Setting) (out []world.Setting, err error) {
	limit, _, _, _ := now.RuleState(rule.ID)
	if v != catalogue.Unset && !c.Held && rule.Scale.Looser(v, limit) {
		return nil, &Invalid{
			"value",
			c.Value,
			fmt.Sprintf(
				"%s: it is looser than the limit, %s, which an administrator can raise; or give it as held back",
				rule.Name,
				rule.Scale.Format(limit),
			),
		}
	}
	found := false
	for _, x := range was {
		if x.Rule != rule.ID {
			out = append(out, x)
			continue
		}
		found = true
		if v != catalogue.Unset {
			out = append(out, world.Setting{Rule: rule.ID, Value: v, Held: c.Held})
		}
	}
	if !found && v != catalogue.Unset {
		out = append(out, world.Setting{Rule: rule.ID, Value: v, Held: c.Held})
	}
	if !found && v == catalogue.Unset {
		return nil, fmt.Errorf("%w: %s says nothing of %s", ErrNotFound, c.Where, rule.Name)
	}
	return out, nil
}

// SetValue changes what a partner, space, item or meeting says of a rule. What lets more
// through at a space, item or meeting than before needs a reason.
func (s *Service) SetValue(ctx context.Context, who, why string, c ValueChange) error {
	rule, v, err := c.parse()
	if err != nil {
		return err
	}
	if c.Where.Partner != "" {
		_, err := s.edit(
			ctx,
			By{Who: who, Why: why, IfMatch: c.IfMatch},
			c.Where.Partner,
			peopleOf(c.Where.Partner),
			func(now *State, p *world.Partner) (err error) {
				p.Rules, err = c.on(now, rule, v, p.Rules)
				return err
			},
		)
		return err
	}
	return s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		var after *engine.Snapshot
		err := onRules(t, c.Where, func(was []world.Setting, doc []byte) ([]world.Setting, bool, error) {
			if c.IfMatch != "" && c.IfMatch != Etag(doc) {
				return nil, false, ErrStale
			}
			next, err := c.on(now, rule, v, was)
			if err == nil {
				after, err = s.weighedFirst(now, &c, rule, v, why)
			}
			return next, true, err
		})
		if err != nil || after == nil {
			return err
		}
		return s.forward(now, after, t, engine.Reviewed(now.Snapshot, rule.ID, c.Where.Resource)...)
	})
}

// onRules hands over what a space, item or meeting says of rules, with its doc; what
// comes back is written where it is a change.
func onRules(t *store.Tx, w Where, fn func(rules []world.Setting, doc []byte) (next []world.Setting, changed bool, err error)) error {
	r := w.Resource
	missing := fmt.Errorf("%w: there is no such %s", ErrNotFound, r.Kind)
	if r.Kind.IsItem() {
		it, place, ok, err := t.Item(r.ID)
		if err != nil || !ok || it.Kind != r.Kind {
			return orMissing(err, missing)
		}
		rules, changed, err := fn(it.Rules, worldfile.ItemDoc(&it))
		if err == nil && changed {
			it.Rules = rules
			_, err = t.PutItem(&it, place)
		}
		return err
	}
	kind := "meeting"
	if r.Kind == catalogue.Space {
		kind = "space"
	}
	doc, err := t.Record(kind, r.ID)
	if err != nil || doc == nil {
		return orMissing(err, missing)
	}
	if kind == "space" {
		x, err := worldfile.SpaceOf(doc)
		if err != nil {
			return err
		}
		rules, changed, err := fn(x.Rules, doc)
		if err == nil && changed {
			x.Rules = rules
			_, err = t.PutRecord(kind, x.ID, worldfile.SpaceDoc(&x))
		}
		return err
	}
	x, err := worldfile.MeetingOf(doc)
	if err != nil {
		return err
	}
	rules, changed, err := fn(x.Rules, doc)
	if err == nil && changed {
		x.Rules = rules
		_, err = t.PutRecord(kind, x.ID, worldfile.MeetingDoc(&x))
	}
	return err
}

func orMissing(err, missing error) error {
	if err != nil {
		return err
	}
	return missing
}

// Values returns what a place says of rules, and its validator.
func (s *Service) Values(ctx context.Context, w Where) (set []world.Setting, etag string, err error) {
	if w.Partner != "" {
		st, err := s.StateIn(ctx)
		if err != nil {
			return nil, "", err
		}
		p, err := st.Partner(w.Partner)
		if err != nil {
			return nil, "", err
		}
		return p.Rules, PartnerEtag(p), nil
	}
	missing := fmt.Errorf("%w: there is no such %s", ErrNotFound, w.Resource.Kind)
	switch {
	case w.Resource.Kind.IsItem():
		space := s.State().SpaceOf(w.Resource.ID)
		items, err := s.store.Items(ctx, space)
		if err != nil {
			return nil, "", err
		}
		for i := range items {
			if items[i].ID == w.Resource.ID && items[i].Kind == w.Resource.Kind {
				return items[i].Rules, Etag(worldfile.ItemDoc(&items[i])), nil
			}
		}
		return nil, "", missing
	case w.Resource.Kind == catalogue.Space:
		doc, err := s.store.Record(ctx, "space", w.Resource.ID)
		if err != nil || doc == nil {
			return nil, "", orMissing(err, missing)
		}
		x, err := worldfile.SpaceOf(doc)
		return x.Rules, Etag(doc), err
	}
	doc, err := s.store.Record(ctx, "meeting", w.Resource.ID)
	if err != nil || doc == nil {
		return nil, "", orMissing(err, missing)
	}
	x, err := worldfile.MeetingOf(doc)
	return x.Rules, Etag(doc), err
}

// Exception finds an exception.
func (s *State) Exception(id string) (*world.Exception, int, error) {
	for i := range s.Policy().Exceptions {
		if x := &s.Policy().Exceptions[i]; x.ID == id {
			return x, i, nil
		}
	}
	return nil, 0, fmt.Errorf("%w: there is no exception %q", ErrNotFound, id)
}

// ExceptionEtag is the validator of an exception.
func ExceptionEtag(x *world.Exception) string { return Etag(worldfile.ExceptionDoc(x)) }

// readException reads an exception as the file format has it.
func (s *Service) readException(known worldfile.Known, doc []byte, id string) (*world.World, error) {
	part, err := s.readPart(known, "exceptions", "exception", id, doc)
	if err != nil {
		return nil, err
	}
	if len(part.Exceptions[0].Rules) == 0 {
		return nil, &Invalid{"rules", id, "an exception sets at least one rule"}
	}
	return part, nil
}

// notOver refuses exceptions that are over when they are made.
func notOver(live, next *world.World, at moment.Moment) error {
	for i := range next.Exceptions {
		x := &next.Exceptions[i]
		if x.Until > at || slices.ContainsFunc(live.Exceptions, func(old world.Exception) bool { return old.ID == x.ID }) {
			continue
		}
		return &Invalid{
			"until",
			x.Until.String(),
			fmt.Sprintf("the exception %s would be over already; end one that is in force with exception end", x.ID),
		}
	}
	return nil
}

// AddException makes an exception. doc is its record as the file format has it.
func (s *Service) AddException(ctx context.Context, who, why string, doc []byte, id string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if _, _, err := now.Exception(id); err == nil {
			return nil, fmt.Errorf("%w: there is an exception %q already", ErrConflict, id)
		}
		return s.withException(now, doc, id)
	})
}

// PatchException changes what a merge patch (RFC 7396) of an exception's record in the file format
// names; the rest stays as it is.
func (s *Service) PatchException(ctx context.Context, who, why, id string, patch []byte, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		old, _, err := now.Exception(id)
		if err != nil {
			return nil, err
		}
		if ifMatch != "" && ifMatch != ExceptionEtag(old) {
			return nil, ErrStale
		}
		doc, err := patched(worldfile.ExceptionDoc(old), patch, id)
		if err != nil {
			return nil, err
		}
		return s.withException(now, doc, id)
	})
}

// patched applies a merge patch to a record, whose id stays.
func patched(doc, patch []byte, id string) ([]byte, error) {
	out, err := jsonpatch.MergePatch(doc, patch)
	if err != nil {
		return nil, &Invalid{"body", string(patch), "write a JSON object with the fields that are to be otherwise"}
	}
	var is struct {
		ID string `json:"id"`
	}
	if err := json.Unmarshal(out, &is); err != nil || is.ID != id {
		return nil, &Invalid{"id", is.ID, "the address says " + id + "; an id does not change"}
	}
	return out, nil
}

// withException returns the policy with an exception as doc has it.
func (s *Service) withException(now *State, doc []byte, id string) (*world.World, error) {
	part, err := s.readException(now, doc, id)
	if err != nil {
		return nil, err
	}
	next := world.Merge(now.Policy(), part)
	return next, notOver(now.Policy(), next, s.Now())
}

// EndException ends an exception early, now. One that has not begun is taken away.
func (s *Service) EndException(ctx context.Context, who, why, id, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		old, i, err := now.Exception(id)
		if err != nil {
			return nil, err
		}
		at := s.Now()
		switch {
		case ifMatch != "" && ifMatch != ExceptionEtag(old):
			return nil, ErrStale
		case at >= old.Until:
			return nil, fmt.Errorf("%w: the exception %q is over already", ErrConflict, id)
		}
		next := *now.Policy()
		next.Exceptions = append([]world.Exception(nil), next.Exceptions...)
		if at <= old.From {
			next.Exceptions = append(next.Exceptions[:i], next.Exceptions[i+1:]...)
		} else {
			next.Exceptions[i].Until = at
		}
		return &next, nil
	})
}

// ProlongException moves the end of an exception further away.
func (s *Service) ProlongException(ctx context.Context, who, why, id, until, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		old, i, err := now.Exception(id)
		if err != nil {
			return nil, err
		}
		if ifMatch != "" && ifMatch != ExceptionEtag(old) {
			return nil, ErrStale
		}
		end := moment.Never
		if until != "none" {
			if end, err = endOf(until, s.Now(), now); err != nil {
				return nil, err
			}
		}
		if end <= old.Until || end <= s.Now() {
			return nil, &Invalid{
				"until",
				until,
				"prolonging moves the end further away, into the future; it is " + old.Until.String() + " now. To shorten it, end it",
			}
		}
		next := *now.Policy()
		next.Exceptions = append([]world.Exception(nil), next.Exceptions...)
		next.Exceptions[i].Until = end
		return &next, nil
	})
}

// endOf reads an end: a plain date means the end of that local day.
func endOf(text string, now moment.Moment, st *State) (moment.Moment, error) {
	part, err := worldfile.Read(
		[]byte(`{"wexillum": "1", "guests": [{"address": "end@end.example", "until": `+jsonText(text)+`}]}`),
		worldfile.Options{Now: now, Known: st},
	)
	if err != nil {
		return 0, &Invalid{"until", text, "write a date, a moment with its offset, days from today as +30d, or none"}
	}
	return part.Guests[0].Until, nil
}

func jsonText(s string) string {
	b, err := json.Marshal(s)
	if err != nil {
		panic(err) // no string fails
	}
	return string(b)
}

// ImportLine is what became, or would become, of one line of a list.
type ImportLine struct {
	Line   int
	ID     string
	Result string // made, changed, unchanged, refused
	Cause  string
}

// ImportExceptions takes many exceptions, each as the file format has it (nil
// where the line could not be read, with its cause). All are taken, or with
// onlyGood those that can be. It reports whether anything was written.
func (s *Service) ImportExceptions(
	ctx context.Context,
	who, why string,
	docs [][]byte,
	lines []ImportLine,
	onlyGood, preview bool,
) (bool, error) {
	written := false
	err := s.part(ctx, who, why, func(now *State) (*world.World, error) {
		next := now.Policy()
		bad, changed := 0, 0
		seen := map[string]int{}
		for i := range lines {
			l := &lines[i]
			if docs[i] == nil {
				bad++
				continue
			}
			part, err := s.readException(now, docs[i], l.ID)
			if err == nil {
				err = notOver(now.Policy(), part, s.Now())
			}
			if err == nil && seen[l.ID] > 0 {
				err = &Invalid{"id", l.ID, fmt.Sprintf("line %d has this id already", seen[l.ID])}
			}
			if err != nil {
				bad++
				l.Result, l.Cause = "refused", err.Error()
				continue
			}
			seen[l.ID] = l.Line
			old, _, err := now.Exception(l.ID)
			switch {
			case err != nil:
				l.Result = "made"
			case ExceptionEtag(old) == ExceptionEtag(&part.Exceptions[0]):
				l.Result = "unchanged"
				continue
			default:
				l.Result = "changed"
			}
			changed++
			next = world.Merge(next, part)
		}
		if preview || bad > 0 && !onlyGood || changed == 0 {
			return now.Policy(), nil
		}
		written = true
		return next, nil
	})
	return written, err
}

// Choosable is what can be chosen at a place: the chain that the choices come from, and where in
// it the place stands.
type Choosable struct {
	Chain *engine.Chain
	Layer engine.LayerName
	Where string
	About world.Resource
}

// Choosing finds it for a rule: where is a place as ParseWhere reads it, empty for the
// organisation or, with a person, for exceptions of theirs.
func (s *State) Choosing(ruleName, where, person, party string, at moment.Moment) (*Choosable, error) {
	rule, err := FindRule(ruleName)
	if err != nil {
		return nil, err
	}
	out := &Choosable{Layer: engine.DefaultLayer, Where: "organisation"}
	c := engine.Context{Resource: engine.NoResource, At: at, Person: person}
	if where != "" {
		w, err := ParseWhere(where)
		if err != nil {
			return nil, err
		}
		is, layer := w.Layer()
		out.Layer, out.Where = layer, w.String()
		if rule.Layers&is == 0 {
			return nil, &Invalid{"rule", rule.Name, "it cannot be set at " + out.Where}
		}
		if w.Partner == "" {
			c.Resource = w.Resource
		} else if p, err := s.Partner(w.Partner); err != nil {
			return nil, err
		} else {
			c.Party = partyIn(p)
		}
	}
	if person != "" {
		if rule.Layers&catalogue.AtPeople == 0 {
			return nil, &Invalid{"rule", rule.Name, "it cannot be set for people"}
		}
		if where == "" {
			out.Layer, out.Where = engine.PeopleLayer, "person:"+person
		}
	}
	if party != "" {
		c.Party = party
	}
	out.About = c.Resource
	out.Chain, err = s.ChainOf(rule.ID, c)
	return out, err
}
