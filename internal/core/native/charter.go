package native

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// charterPrefix begins the path of a set of values for somebody: what follows is a domain, or *.domain
// for those below it.
const charterPrefix = "charter:"

// charterSpan is how long a change of such a set takes to count: as long as its slowest dial. It is
// negative where the dialect knows none.
func (d *Dialect) charterSpan() time.Duration {
	out := time.Duration(-1)
	for i := range d.Dials {
		if x := &d.Dials[i]; x.Charter {
			out = max(out, x.Span)
		}
	}
	return out
}

// charterText writes the values of a set, in the order of the dialect.
func (d *Dialect) charterText(words map[string]string) string {
	var out []string
	for i := range d.Dials {
		if x := &d.Dials[i]; x.Charter {
			out = append(out, x.Path+"="+words[x.Path])
		}
	}
	return strings.Join(out, "; ")
}

// ParseCharter reads a set of values as a Setting has it.
func ParseCharter(text string) (map[string]string, error) {
	out := map[string]string{}
	for _, part := range strings.Split(text, ";") {
		name, value, ok := strings.Cut(strings.TrimSpace(part), "=")
		if !ok {
			return nil, fmt.Errorf("%q is no set of values: write name=value, with semicolons between", text)
		}
		out[name] = value
	}
	return out, nil
}

// CharterText writes a set of values as a Setting of a dialect has it; what the set does not say is left
// empty.
func (d *Dialect) CharterText(words map[string]string) string { return d.charterText(words) }

// entryNames are the names under which an entry of a partner stands in a system.
func entryNames(e world.Entry) []string {
	if e.Subdomains {
		return []string{e.Domain.String(), "*." + e.Domain.String()}
	}
	return []string{e.Domain.String()}
}

// charters are the sets that a system should hold: one for each domain of a partner that has a value of
// its own for any of what they say.
func (d *Dialect) charters(m *Meant) (out []Setting) {
	for i := range m.Policy.Partners {
		p := &m.Policy.Partners[i]
		words, own := map[string]string{}, false
		for k := range d.Dials {
			x := &d.Dials[k]
			if !x.Charter {
				continue
			}
			r, _ := catalogue.RuleByName(x.Rule)
			limit, v := organisation(m.Policy, r)
			for _, s := range p.Rules {
				if s.Rule == r.ID && !s.Held {
					v, own = r.Scale.Tighter(s.Value, limit), true
				}
			}
			words[x.Path] = x.write(m.below(r, v, true))
		}
		if !own {
			continue
		}
		for _, e := range p.Domains {
			for _, name := range entryNames(e) {
				out = append(out, Setting{charterPrefix + name, d.charterText(words)})
			}
		}
	}
	return
}

// readCharters says what the sets of a reading mean.
func (d *Dialect) readCharters(read map[string]string, f *Found) {
	f.Charters = map[string]map[catalogue.RuleID]Range{}
	for path, text := range read {
		domain, ok := strings.CutPrefix(path, charterPrefix)
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
			least, most, ok := x.read(words[x.Path])
			if !ok {
				f.Unread = append(f.Unread, Unread{path, x.Rule, fmt.Sprintf("%q is a word that is not known for %s", words[x.Path], x.Path)})
				continue
			}
			r, _ := catalogue.RuleByName(x.Rule)
			set[r.ID] = Range{least, most}
		}
		f.Charters[domain] = set
	}
}

// overlayCharters gives partners the values that sets for their domains say. Of a partner whose domains
// have different ones, the loosest counts with most, else the tightest.
func (f *Found) overlayCharters(w *world.World, most bool) {
	if len(f.Charters) == 0 {
		return
	}
	for i := range w.Partners {
		p := &w.Partners[i]
		values := map[catalogue.RuleID]catalogue.Value{}
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
				for id, general := range f.Values {
					x, own := f.Charters[name][id]
					if !own {
						if f.Charters[name] != nil && !f.chartered(id) {
							continue
						}
						x = general
					}
					v := x.Least
					if most {
						v = x.Most
					}
					if was, said := values[id]; said && (most && id.Get().Scale.Looser(was, v) || !most && id.Get().Scale.Looser(v, was)) {
						v = was
					}
					values[id] = v
				}
			}
		}
		for id, v := range values {
			if f.chartered(id) {
				p.Rules = append(p.Rules, world.Setting{Rule: id, Value: v})
			}
		}
		slices.SortFunc(p.Rules, func(a, b world.Setting) int { return int(a.Rule) - int(b.Rule) })
	}
}

// chartered reports whether any set says a rule.
func (f *Found) chartered(id catalogue.RuleID) bool {
	for _, set := range f.Charters {
		if _, ok := set[id]; ok {
			return true
		}
	}
	return false
}

// turnCharter says which way a set goes. Where there was none or is none, the general values stand on that
// side, so that it may go either way.
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
	loosens, tightens := false, false
	for i := range d.Dials {
		x := &d.Dials[i]
		if !x.Charter {
			continue
		}
		switch d.Turn(x.Path, a[x.Path], b[x.Path]) {
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
