package native

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// readCharters says what the sets of a reading mean. What cannot be read is
// told as unread and counts for nothing.
func (d *Dialect) readCharters(read map[string]string, f *Found) {
	f.Charters = map[string]map[catalogue.RuleID]Range{}
	for path, text := range read {
		of, ok := strings.CutPrefix(path, charterPrefix)
		if !ok || text == "" {
			continue
		}
		words, err := ParseCharter(text)
		if err != nil {
			f.Unread = append(f.Unread, Unread{path, "", err.Error()})
			continue
		}
		set := map[catalogue.RuleID]Range{}
		for i := range d.Dials {
			x := &d.Dials[i]
			if !x.Charter {
				continue
			}
			word, said := words[x.Path]
			if !said && scopeOf(path) == ToSpaces { // a space says only what it says itself
				continue
			}
			least, most, ok := x.read(word)
			if !ok {
				f.Unread = append(f.Unread, Unread{path, x.Rule, fmt.Sprintf("%q is a word that is not known for %s", words[x.Path], x.Path)})
				continue
			}
			r, _ := catalogue.RuleByName(x.Rule)
			set[r.ID] = Range{least, most}
		}
		f.Charters[of] = set
		for i := range d.Boards {
			b := &d.Boards[i]
			if !b.Charter || scopeOf(path) != ToPeople {
				continue
			}
			mode, names, err := ParseBoard(words[b.Path])
			if err != nil || mode != b.Only && mode != b.But {
				f.Unread = append(f.Unread, Unread{path, b.Rule, fmt.Sprintf("%q is no list for %s", words[b.Path], b.Path)})
				continue
			}
			if f.Personal == nil {
				f.Personal = map[string][]FoundBoard{}
			}
			who := strings.TrimPrefix(of, ofPerson)
			f.Personal[who] = append(f.Personal[who], FoundBoard{b, mode == b.But, names})
		}
	}
}

// pick takes one end of what a word may mean.
func (x Range) pick(most bool) catalogue.Value {
	if most {
		return x.Most
	}
	return x.Least
}

// overlayCharters gives partners the values that sets for their domains say,
// and people of ours theirs. Of a partner whose domains have different ones,
// the loosest counts with most, else the tightest.
//
// Without names nothing is found for people, only for partners.
func (f *Found) overlayCharters(w *world.World, most bool, n Names) {
	if len(f.Charters) == 0 {
		return
	}
	for i := range w.Partners {
		p := &w.Partners[i]
		values, mixed, asAll := map[catalogue.RuleID]catalogue.Value{}, map[catalogue.RuleID]bool{}, map[catalogue.RuleID]bool{}
		some := false
		for _, e := range p.Domains {
			for _, name := range entryNames(e) {
				if f.Charters[name] != nil {
					some = true
				}
			}
		}
		if !some {
			continue
		}
		for _, e := range p.Domains {
			for _, name := range entryNames(e) {
				// Each rule: what the set of this domain says, or what counts
				// in general.
				for id, general := range f.Values {
					x, own := f.Charters[name][id]
					if !own {
						if f.Charters[name] != nil && !f.chartered(id) {
							continue
						}
						x = general
					}
					v := x.pick(most)
					asAll[id] = asAll[id] || v == general.pick(most)
					was, said := values[id]
					mixed[id] = mixed[id] || said && was != v
					if said && (most && id.Get().Scale.Looser(was, v) || !most && id.Get().Scale.Looser(v, was)) {
						v = was
					}
					values[id] = v
				}
			}
		}
		for id, v := range values {
			switch {
			case !f.chartered(id), !mixed[id] && asAll[id]: // what is as everywhere weighs nothing where a space has a word of its own
				continue
			case mixed[id] && asAll[id] && most: // for some of them a space's word counts, whatever it is
				v = id.Get().Scale.Loosest()
			}
			p.Rules = append(p.Rules, world.Setting{Rule: id, Value: v})
		}
		slices.SortFunc(p.Rules, func(a, b world.Setting) int { return int(a.Rule) - int(b.Rule) })
	}
	for _, of := range sortedOf(f.Charters, ofPerson) {
		if n == nil {
			break
		}
		if id, ok := n.Person(strings.TrimPrefix(of, ofPerson)); ok && len(f.Charters[of]) > 0 {
			w.Exceptions = append(w.Exceptions, world.Exception{
				ID: "found-" + id, People: []string{id}, Rules: settingsOf(f.Charters[of], most), From: moment.Always, Until: moment.Never,
				Reason: "as it was found",
			})
		}
	}
}

// Spaces returns what sets for spaces say, by the ids of our spaces: with most
// their loosest faithful reading, else their tightest.
func (f *Found) Spaces(n Names, most bool) map[string][]world.Setting {
	out := map[string][]world.Setting{}
	for _, of := range sortedOf(f.Charters, ofSpace) {
		if id, ok := n.Space(strings.TrimPrefix(of, ofSpace)); ok {
			out[id] = settingsOf(f.Charters[of], most)
		}
	}
	return out
}

// sortedKeysOf lists the keys of a map in order.
func sortedKeysOf[V any](m map[string]V) []string { return slices.Sorted(maps.Keys(m)) }

// sortedOf lists those sets whose names begin so, in order.
func sortedOf(m map[string]map[catalogue.RuleID]Range, prefix string) (out []string) {
	for of := range m {
		if strings.HasPrefix(of, prefix) {
			out = append(out, of)
		}
	}
	slices.Sort(out)
	return
}

// settingsOf makes settings of a set, in the order of the rules.
func settingsOf(set map[catalogue.RuleID]Range, most bool) (out []world.Setting) {
	for id, x := range set {
		out = append(out, world.Setting{Rule: id, Value: x.pick(most)})
	}
	slices.SortFunc(out, func(a, b world.Setting) int { return int(a.Rule) - int(b.Rule) })
	return
}

// chartered reports whether any set for partners says a rule.
func (f *Found) chartered(id catalogue.RuleID) bool {
	for of, set := range f.Charters {
		if _, ok := set[id]; ok && scopeOf(of) == ToPartners {
			return true
		}
	}
	return false
}

// turnCharter says which way a set goes. Where there was none or is none, the
// general values stand on that side, so that it may go either way. It looks at
// each dial and list in it; one way for all of them is the way of the set. A
// set that cannot be read is unclear, and so taken for a loosening.
func (d *Dialect) turnCharter(was, becomes string) Turn {
	if was == becomes {
		return Same
	}
	if was == "" || becomes == "" {
		return Both
	}
	a, errA := ParseCharter(was)
	b, errB := ParseCharter(becomes)
	if errA != nil || errB != nil {
		return Unclear
	}
	var turns []Turn
	for i := range d.Dials {
		x := &d.Dials[i]
		if !x.Charter {
			continue
		}
		was, wasSaid := a[x.Path]
		is, isSaid := b[x.Path]
		if !wasSaid && !isSaid {
			continue
		}
		if wasSaid != isSaid { // the general value stands on one side
			return Both
		}
		turns = append(turns, d.Turn(x.Path, was, is))
	}
	for i := range d.Boards {
		x := &d.Boards[i]
		if was, is := a[x.Path], b[x.Path]; x.Charter && was != is {
			if was == "" || is == "" { // the general list stands on one side
				return Both
			}
			turns = append(turns, d.Turn(x.Path, was, is))
		}
	}
	loosens, tightens := false, false
	for _, turn := range turns {
		switch turn {
		case Loosens:
			loosens = true
		case Tightens:
			tightens = true
		case Both:
			loosens, tightens = true, true
		case Unclear:
			return Unclear
		}
	}
	return turnOf(loosens, tightens)
}
