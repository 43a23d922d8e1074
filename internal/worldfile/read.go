package worldfile

import (
	"fmt"
	"slices"
	"time"
	_ "time/tzdata" // a time zone is known on every machine

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"

	"github.com/zeebo/xxh3"
)

// Known is what a file adds to: a world that is there already.
type Known interface {
	// Policy returns the policy that is in force.
	Policy() *world.World
	// Has reports whether a person, group, space, meeting, link or item (by its
	// own kind) of this id exists.
	Has(kind, id string) bool
	// SpaceOf returns the space of an item, or "" where there is none.
	SpaceOf(item string) string
}

// Options says how a file is to be read.
type Options struct {
	File  string        // for errors
	Now   moment.Moment // what +3d counts from
	Known Known         // nil: the file stands alone
	// Older says that the file is a dump of an earlier version: what this version refuses at
	// entry and that one took is read. It admits nobody, is told by Odd, and is a finding.
	Older bool
	Odd   *[]string // where not nil, what was read so, in words
	// Held, where not nil, gets the sections that the file holds, those with nothing in them too.
	Held *[]string
	// Unnamed, where not nil, gets how much a file that holds policy alone names and does not hold, as people, groups and spaces.
	Unnamed *int
}

// Read reads a file. Every error is one of Errors; with any, nothing is returned.
// With so many of them the rest of the file is not looked at.
func Read(text []byte, o Options) (w *world.World, err error) {
	r := newReader(o)
	if len(text) > longText {
		r.places = make(map[xxh3.Uint128][2]int, len(text)/200)
		r.ids, r.addresses, r.days = &[mostKept]string{}, &[mostKept]addr.Address{}, map[string]moment.Moment{}
	}
	r.ends = true
	defer func() {
		switch x := recover(); x {
		case nil:
		case hopeless{}:
			last := *r.errs[len(r.errs)-1]
			last.Msg = fmt.Sprintf("reading stopped here, at %d errors; mend these first", maxErrors)
			w, err = nil, append(r.errs.sorted(), &last)
		default:
			panic(x)
		}
	}()
	root := r.parse(text)
	if root == nil {
		return nil, r.errs.sorted()
	}
	w = &world.World{}
	r.document(root, w, o.Known)
	if o.Held != nil {
		for i := range root.keys {
			if name := root.keys[i].text; name != "wexillum" {
				*o.Held = append(*o.Held, name)
			}
		}
	}
	if len(r.errs) > 0 {
		return nil, r.errs.sorted()
	}
	r.check(w, o.Known)
	if len(r.errs) > 0 {
		return nil, r.errs.sorted()
	}
	if o.Unnamed != nil {
		*o.Unnamed = r.unnamed
	}
	if o.Odd != nil {
		*o.Odd = append(*o.Odd, r.odd...)
	}
	return w, nil
}

func newReader(o Options) *reader {
	r := &reader{
		older:  o.Older,
		syntax: syntax{file: o.File},
		now:    o.Now,
		zone:   time.UTC,
		places: map[xxh3.Uint128][2]int{},
		said:   map[string]bool{},
	}
	if o.Known != nil {
		if org := o.Known.Policy().Organisation; org != nil && org.Zone != nil {
			r.zone = org.Zone
		}
	}
	return r
}

func (r *reader) once(n *node, kind, id string) {
	if id == "" {
		return
	}
	key := "once " + kind + ":" + id
	if r.said[key] {
		r.at(n, "the %s %q stands here twice", kind, id)
	}
	r.said[key] = true
}

func (r *reader) document(root *node, w *world.World, known Known) {
	if root.kind != mapping {
		r.at(root, "a file is written as sections, beginning with wexillum: 1")
		return
	}
	section := func(name string) *node {
		for i := range root.keys {
			if root.keys[i].text == name {
				return &root.values[i]
			}
		}
		return nil
	}
	if v := section("wexillum"); v == nil {
		r.at(root, "the file lacks wexillum: 1, which says what format it has")
	} else if v.text != "1" {
		r.at(v, "version %q of the format is not known; write wexillum: 1", v.text)
	}
	for i := range root.keys {
		name, ok := root.keys[i].text, root.keys[i].text == "wexillum"
		for _, s := range Sections {
			ok = ok || s == name
		}
		if !ok {
			r.at(&root.keys[i], "there is no section %q; there are %v", name, Sections)
		}
	}
	for i := range kinds {
		k := &kinds[i]
		k.read(r, section(k.section), w)
		if k.stored == "organisation" && w.Organisation != nil && w.Organisation.Zone != nil { // every date is read in it
			r.zone = w.Organisation.Zone
			clear(r.days)
		}
	}
}

func zero[T any]() (x T) { return }

// GrantKey is what a grant is known by: party, resource, role and from.
func GrantKey(g *world.Grant) string {
	return g.Party() + " " + g.Resource.String() + " " + g.Role.String() + " " + g.From.String()
}

// entries reads a section that is a list of records.
func entries[T any](r *reader, n *node, what string, fields []field[T], fresh func() T, key func(*T) string, out *[]T) {
	if n == nil {
		return
	}
	if n.kind != sequence {
		r.list(n)
		return
	}
	*out = slices.Grow(*out, len(n.values)+len(n.parts)*entriesInAPart)
	one, named := "a "+what, what+":"
	r.each(n, func(v *node) {
		x := fresh()
		before := len(r.errs)
		if v.kind == mapping && len(fields) > 0 && fields[0].name == "id" {
			// the id first: what else the entry says refers to it
			for j := range v.keys {
				if v.keys[j].text == "id" {
					fields[0].read(r, &v.values[j], &x)
				}
			}
			r.errs = r.errs[:before]
		}
		object(r, v, one, fields, &x)
		if len(r.errs) == before {
			k := place(named + key(&x))
			if _, twice := r.places[k]; twice {
				r.at(v, "the %s %q stands here twice", what, key(&x))
			}
			r.places[k] = [2]int{v.line, v.col}
		}
		*out = append(*out, x)
	})
}

func (r *reader) rules(n *node, w *world.World) {
	if n.kind != mapping {
		r.at(n, "rules are written as {rule: {limit: …, default: …}}")
		return
	}
	for i := range n.keys {
		k, v := &n.keys[i], &n.values[i]
		rule := r.rule(k)
		if rule == nil {
			continue
		}
		s := world.RuleSetting{Rule: rule.ID, Limit: catalogue.Unset, Default: catalogue.Unset, Counts: catalogue.Unset}
		if v.kind != mapping || len(v.keys) == 0 {
			r.at(v, "%s is written as {limit: …, default: …}", rule.Name)
			continue
		}
		for j := range v.keys {
			switch v.keys[j].text {
			case "limit":
				s.Limit = r.value(&v.values[j], rule)
			case "default":
				s.Default, s.Held, s.Counts = r.heldValue(&v.values[j], rule, true)
				r.places[place("default:"+rule.Name)] = [2]int{v.values[j].line - r.from, v.values[j].col}
			default:
				r.at(&v.keys[j], "%s has a limit and a default, not %q", rule.Name, v.keys[j].text)
			}
		}
		w.Rules = append(w.Rules, s)
	}
}

// check looks at what can only be judged once everything is read: references,
// limits, and who has which domain.
func (r *reader) check(w *world.World, known Known) {
	r.checkRefs(w, known)
	base := &world.World{}
	if known != nil {
		base = known.Policy()
	}
	limits := world.Limits(base, w)
	for _, v := range r.values {
		rule := v.setting.Rule.Get()
		if !v.setting.Held && rule.Scale.Looser(v.setting.Value, limits[v.setting.Rule]) {
			r.fail(
				v.line,
				v.col,
				"%s: %s is looser than the limit, %s, which an administrator can raise; or give it as held back: {value: %s, held: yes}",
				rule.Name,
				rule.Scale.Format(v.setting.Value),
				rule.Scale.Format(limits[v.setting.Rule]),
				valueText(rule, v.setting.Value),
			)
		}
	}
	for i := range w.Rules {
		s := &w.Rules[i]
		rule := s.Rule.Get()
		if s.Default != catalogue.Unset && rule.Scale.Looser(s.Default, limits[s.Rule]) {
			if !s.Held {
				p := r.places[place("default:"+rule.Name)]
				r.fail(
					p[0],
					p[1],
					"%s: the default %s is looser than the limit, %s; raise the limit, or give the default as held back: {value: %s, held: yes}",
					rule.Name,
					rule.Scale.Format(s.Default),
					rule.Scale.Format(limits[s.Rule]),
					valueText(rule, s.Default),
				)
			} else if s.Counts == catalogue.Unset {
				s.Counts = limits[s.Rule]
			}
		}
	}
	r.checkDomains(w, base)
	for i := range w.Exceptions {
		x := &w.Exceptions[i]
		p := r.places[place("exception:"+x.ID)]
		switch {
		case len(x.People) == 0 && len(x.Groups) == 0:
			r.fail(p[0], p[1], "the exception %q is for nobody; name people or groups", x.ID)
		case len(x.Rules) == 0:
			r.fail(p[0], p[1], "the exception %q changes no rule", x.ID)
		case x.Until <= x.From:
			r.fail(p[0], p[1], "the exception %q ends before it begins", x.ID)
		}
	}
	for i := range w.Grants {
		if g := &w.Grants[i]; g.Until <= g.From {
			p := r.places[place("grant:"+GrantKey(g))]
			r.fail(p[0], p[1], "the grant of %s on %s ends before it begins", g.Party(), g.Resource)
		}
	}
	for i := range w.Links {
		if l := &w.Links[i]; l.Created == moment.Always {
			p := r.places[place("link:"+l.ID)]
			if r.older {
				r.odd = append(r.odd, fmt.Sprintf("line %d: the link %s lacks created and admits nobody", p[0]-r.from, l.ID))
				continue
			}
			r.fail(
				p[0],
				p[1],
				"the link %q lacks created, the moment it was made: its end and its days count from there; where this is a dump of an earlier version, load it with --older",
				l.ID,
			)
		}
	}
	for i := range w.Guests {
		g := &w.Guests[i]
		if p := r.places[place("guest:"+g.Address.String())]; g.State == world.StateInvited && g.Accepted != moment.Never {
			r.fail(p[0], p[1], "the record of %s is invited and yet accepted; it is one of them", g.Address)
		}
	}
	for i := range w.Spaces {
		s := &w.Spaces[i]
		if p := r.places[place("space:"+s.ID)]; s.Kind == world.Drive && len(s.Owners) != 1 {
			r.fail(p[0], p[1], "the drive %q belongs to one person, and %d own it", s.ID, len(s.Owners))
		}
		for j := range s.Items {
			if known == nil {
				continue
			}
			if other := known.SpaceOf(s.Items[j].ID); other != "" && other != s.ID {
				p := r.places[place("item:"+s.Items[j].ID)]
				r.fail(p[0], p[1], "the item %q is in the space %q already", s.Items[j].ID, other)
			}
		}
	}
}

func valueText(rule *catalogue.Rule, v catalogue.Value) string {
	t := valueTree(rule, v)
	return t.flowText()
}

func (r *reader) checkRefs(w *world.World, known Known) {
	type named struct{ kind, id string }
	have := map[named]bool{}
	kinds := map[string]string{} // of items
	for i := range w.Partners {
		have[named{"partner", w.Partners[i].ID}] = true
	}
	for i := range w.People {
		have[named{"person", w.People[i].ID}] = true
	}
	for i := range w.Groups {
		have[named{"group", w.Groups[i].ID}] = true
	}
	for i := range w.Spaces {
		have[named{"space", w.Spaces[i].ID}] = true
		for k := range w.Spaces[i].Items {
			kinds[w.Spaces[i].Items[k].ID] = w.Spaces[i].Items[k].Kind.String()
		}
	}
	for i := range w.DomainLists {
		have[named{"domain_list", w.DomainLists[i].ID}] = true
	}
	for i := range w.Links {
		have[named{"link", w.Links[i].ID}] = true
	}
	if all := len(w.Bundles); all > world.MostBundles {
		r.fail(1, 1, "these are %d bundles; a policy has %d at most", all, world.MostBundles)
	}
	for i := range w.Bundles {
		have[named{"bundle", w.Bundles[i].ID}] = true
	}
	if known != nil {
		for i := range known.Policy().Partners {
			have[named{"partner", known.Policy().Partners[i].ID}] = true
		}
		for i := range known.Policy().Bundles {
			have[named{"bundle", known.Policy().Bundles[i].ID}] = true
		}
	}
	alone := known == nil && InventoryIn(w) == "" // of policy by itself nobody can say whom and what it names
	for _, x := range r.refs {
		if alone && x.kind != "partner" && x.kind != "bundle" {
			r.unnamed++
			continue
		}
		here := "" // the kind of the item that the file makes of it, which counts before what is known
		if slices.Contains(itemKindNames, x.kind) {
			here = kinds[x.id]
		}
		if here != "" && here == x.kind || have[named{x.kind, x.id}] || known != nil && here == "" && known.Has(x.kind, x.id) {
			continue
		}
		if here != "" {
			r.fail(x.line, x.col, "%q is a %s, not a %s", x.id, here, x.kind)
			continue
		}
		r.fail(x.line, x.col, "there is no %s %q", KindInWords(x.kind), x.id)
	}
}

// checkDomains refuses what model §2 refuses as a domain of a partner.
func (r *reader) checkDomains(w, base *world.World) {
	merged := world.Merge(base, w)
	owner := map[addr.Domain]string{}
	for i := range merged.Partners {
		for _, d := range merged.Partners[i].Domains {
			owner[d.Domain] = merged.Partners[i].ID
		}
	}
	own := func(d addr.Domain) bool {
		if merged.Organisation == nil {
			return false
		}
		for _, o := range merged.Organisation.Domains {
			if o.Domain == d || o.Subdomains && d.Under(o.Domain) {
				return true
			}
		}
		return false
	}
	ids := make([]string, 0, len(w.Partners))
	for i := range w.Partners {
		ids = append(ids, w.Partners[i].ID)
	}
	watch := world.NewWatch(merged, ids...)
	for i := range w.Partners {
		p := &w.Partners[i]
		for _, d := range p.Domains {
			place := r.places[place("domain:"+p.ID+":"+d.Domain.String())]
			if reason := watch.Refuse(p.ID, d); reason != "" {
				r.fail(place[0], place[1], "%s", reason)
			}
		}
	}
	for i := range w.Barred {
		b := &w.Barred[i]
		d := b.Domain
		if !b.Address.IsZero() {
			d = b.Address.Domain()
		}
		if own(d) {
			p := r.places[place("bar:"+b.Key())]
			r.fail(p[0], p[1], "%s is one of ours; bars are for outsiders", b.Key())
		}
	}
	for _, e := range w.Personal {
		if own(e.Domain) {
			p := r.places[place("personal:"+e.Domain.String())]
			r.fail(p[0], p[1], "%s is one of ours, not a personal domain", e.Domain)
		}
		if id := owner[e.Domain]; id != "" {
			p := r.places[place("personal:"+e.Domain.String())]
			r.fail(p[0], p[1], "%s belongs to the partner %q, it cannot be a personal domain too", e.Domain, id)
		}
	}
}
