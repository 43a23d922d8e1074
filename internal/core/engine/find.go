package engine

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Named is an entry of a list: what is written in a question, and a name.
// Detail says what it is, in a word or two.
type Named struct{ Value, Name, Detail string }

// How well a text names an entry, the best first. Lists that are typed into are
// in this order.
const (
	matchExact = iota
	matchStart // of the id, or of the name
	matchWord  // of a word within either
	matchAnywhere
	noMatch
)

// Rank returns how well a text names an entry by its id or its name, the
// smaller the better; ok is false where it does not. The kind before a colon in
// an id counts for nothing, unless the text has a colon itself. text is in
// small letters.
//
// "loan" finds loan-dossier by its start, Spring loan by a word, and balloon
// anywhere in it.
func Rank(text, value, name string) (rank int, ok bool) {
	if text == "" {
		return matchAnywhere, true
	}
	bare := value
	if _, id, cut := strings.Cut(value, ":"); cut && !strings.Contains(text, ":") {
		bare = id
	}
	rank = min(matchOf(text, bare), matchOf(text, name))
	if rank == noMatch && strings.Contains(value, text) {
		rank = matchAnywhere
	}
	return rank, rank != noMatch
}

// matchOf returns how well text stands in another: as the whole, at its start,
// at the start of a word, or anywhere. A word begins behind whatever is neither
// letter nor digit.
func matchOf(text, in string) int {
	in = strings.ToLower(in)
	i := strings.Index(in, text)
	switch {
	case i < 0:
		return noMatch
	case len(in) == len(text):
		return matchExact
	case i == 0:
		return matchStart
	}
	for ; i >= 0; i = next(in, text, i) {
		if r, _ := utf8.DecodeLastRuneInString(in[:i]); !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			return matchWord
		}
	}
	return matchAnywhere
}

// next returns where text stands again behind a place; -1 for nowhere.
func next(in, text string, i int) int {
	if j := strings.Index(in[i+1:], text); j >= 0 {
		return i + 1 + j
	}
	return -1
}

// Find lists subjects or resources whose id or name holds text, at most limit,
// the best match first. kinds names resource kinds, or who, person, partner.
//
// An empty text lists the first of everything. It stops as soon as there are
// enough that match exactly, and otherwise looks through all there is of the
// kinds: some tens of milliseconds with a million records.
func (s *Snapshot) Find(text string, limit int, kinds ...string) (out []Named) {
	inv := &s.inv
	text = strings.ToLower(text)
	var by [noMatch][]Named
	defer func() {
		for _, list := range by {
			out = append(out, list...)
		}
		out = out[:min(limit, len(out))]
	}()
	// add reports whether there are enough.
	add := func(value, name, detail string) bool {
		rank, ok := Rank(text, value, name)
		if ok && len(by[rank]) < limit {
			by[rank] = append(by[rank], Named{value, name, detail})
		}
		return len(by[0]) >= limit || text == "" && len(by[matchAnywhere]) >= limit
	}
	want := map[string]bool{}
	for _, k := range kinds {
		want[k] = true
	}
	// Guests, then links that work for whoever holds them, then whom a question
	// may be asked about of whom nothing is known.
	if want["who"] {
		for i := uint32(0); i < inv.parties.n; i++ {
			if p := inv.parties.at(i); p.flags&hasRecord != 0 && add(inv.addressText(i), inv.nameOf(i), "guest") {
				return out
			}
		}
		for i := uint32(0); i < inv.links.n; i++ {
			if l := inv.links.at(i); l.exists && l.bearer &&
				add("link:"+inv.linkIDs.text(inv.text, i), inv.text.text(inv.items.at(l.item).name), "bearer link") {
				return out
			}
		}
		for i := range s.pol.source.Partners {
			p := &s.pol.source.Partners[i]
			for _, d := range p.Domains {
				if add("*@"+d.Domain.String(), "a newcomer from "+p.Name, "typical newcomer") {
					return out
				}
			}
		}
		for _, d := range s.pol.source.Personal {
			if add("*@"+d.Domain.String(), "a private newcomer", "typical newcomer") {
				return out
			}
		}
	}
	for _, kind := range []string{"person", "mailbox", "calendar"} {
		if !want[kind] && !(kind == "person" && want["who"]) {
			continue
		}
		for i := uint32(0); i < inv.people.n; i++ {
			if p := inv.people.at(i); p.exists && add(kind+":"+inv.personIDs.text(inv.text, i), inv.text.text(p.name), kind) {
				return out
			}
		}
	}
	if want["directory"] && add("directory:ours", "our directory", "directory") {
		return out
	}
	if want["space"] {
		for i := uint32(0); i < inv.spaces.n; i++ {
			if sp := inv.spaces.at(i); sp.exists &&
				add("space:"+inv.spaceIDs.text(inv.text, i), inv.text.text(sp.name), world.SpaceKindNames[sp.kind]) {
				return out
			}
		}
	}
	if want["meeting"] {
		for i := uint32(0); i < inv.meetings.n; i++ {
			if m := inv.meetings.at(i); m.exists && add("meeting:"+inv.meetingIDs.text(inv.text, i), inv.text.text(m.name), "meeting") {
				return out
			}
		}
	}
	for i := uint32(0); i < inv.items.n; i++ {
		it := inv.items.at(i)
		if it.exists && want[it.kind.String()] &&
			add(
				it.kind.String()+":"+inv.itemIDs.text(inv.text, i),
				inv.text.text(it.name),
				it.kind.String()+" in "+inv.text.text(inv.spaces.at(it.space).name),
			) {
			return out
		}
	}
	return out
}

// Below is a value that a lower layer of the inventory gives a rule. Held says
// that it is said and does not count, because the limit is tighter.
type Below struct {
	Layer LayerName
	Where string // id of the space, item or meeting
	Name  string
	Value catalogue.Value
	Held  bool
}

// Set lists where spaces, items and meetings set values of their own, by rule.
// It shows an administrator, before a default is changed, who decides for
// themselves: for these the default does not count.
func (s *Snapshot) Set() map[catalogue.RuleID][]Below {
	inv := &s.inv
	out := map[catalogue.RuleID][]Below{}
	add := func(l LayerName, id, name string, rules, held uint32) {
		for k, at := range [2]uint32{rules, held} {
			if at == none {
				continue
			}
			said := inv.rows
			if inv.said != nil {
				said = inv.said
			}
			for r, v := range said[at] {
				if v != catalogue.Unset {
					out[catalogue.RuleID(r)] = append(
						out[catalogue.RuleID(r)],
						Below{l, id, name, v, k == 1 || inv.rows[at][r] == catalogue.Unset},
					)
				}
			}
		}
	}
	for i := uint32(0); i < inv.spaces.n; i++ {
		if sp := inv.spaces.at(i); sp.exists {
			add(SpaceLayer, inv.spaceIDs.text(inv.text, i), inv.text.text(sp.name), sp.rules, sp.held)
		}
	}
	for i := uint32(0); i < inv.items.n; i++ {
		if it := inv.items.at(i); it.exists {
			add(ItemLayer, inv.itemIDs.text(inv.text, i), inv.text.text(it.name), it.rules, it.held)
		}
	}
	for i := uint32(0); i < inv.meetings.n; i++ {
		if m := inv.meetings.at(i); m.exists {
			add(ItemLayer, inv.meetingIDs.text(inv.text, i), inv.text.text(m.name), m.rules, m.held)
		}
	}
	return out
}
