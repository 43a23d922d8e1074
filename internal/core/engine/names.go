package engine

import (
	"slices"
	"strings"
	"unicode/utf8"

	"wexillum.example/internal/core/catalogue"
)

// eachNamed hands over the id and the name of everything of a kind that is
// there: a person, group, space, meeting, link, item, or an item of one kind,
// until fn wants no more. They come in the order of their indexes.
func (s *Snapshot) eachNamed(kind string, fn func(id, name string) (more bool)) {
	inv := &s.inv
	switch kind {
	case "person", "mailbox", "calendar":
		for i := range inv.people.n {
			if p := inv.people.at(i); p.exists && !fn(inv.personIDs.text(inv.text, i), inv.text.text(p.name)) {
				return
			}
		}
	case "group":
		for i := range inv.groups.n {
			if g := inv.groups.at(i); g.exists && !fn(inv.groupIDs.text(inv.text, i), inv.text.text(g.name)) {
				return
			}
		}
	case "space":
		for i := range inv.spaces.n {
			if x := inv.spaces.at(i); x.exists && !fn(inv.spaceIDs.text(inv.text, i), inv.text.text(x.name)) {
				return
			}
		}
	case "meeting":
		for i := range inv.meetings.n {
			if m := inv.meetings.at(i); m.exists && !fn(inv.meetingIDs.text(inv.text, i), inv.text.text(m.name)) {
				return
			}
		}
	case "domain_list":
		for i := range inv.domainLists.n {
			if l := inv.domainLists.at(i); l.exists && !fn(inv.listIDs.text(inv.text, i), inv.text.text(l.name)) {
				return
			}
		}
	case "link":
		for i := range inv.links.n {
			if inv.links.at(i).exists && !fn(inv.linkIDs.text(inv.text, i), "") {
				return
			}
		}
	case "partner":
		for i := range s.pol.source.Partners {
			if p := &s.pol.source.Partners[i]; !fn(p.ID, p.Name) {
				return
			}
		}
	default:
		for i := range inv.items.n {
			it := inv.items.at(i)
			if it.exists && (kind == "item" || it.kind.String() == kind) && !fn(inv.itemIDs.text(inv.text, i), inv.text.text(it.name)) {
				return
			}
		}
	}
}

// NearestID returns the id of a kind that a misspelt id or name resembles most;
// "" for none. One slip is allowed in three letters.
func (s *Snapshot) NearestID(kind, text string) string {
	text = strings.ToLower(strings.TrimSpace(text))
	best, at := "", utf8.RuneCountInString(text)/3+1
	s.eachNamed(kind, func(id, name string) bool {
		for _, has := range []string{id, strings.ToLower(name)} {
			// Two words differ by their lengths at least, so that most need
			// no table to be ruled out.
			if n := len(has) - len(text); n < at && -n < at {
				if d := catalogue.Distance(text, has); d < at {
					best, at = id, d
				}
			}
		}
		return at > 0
	})
	return best
}

// Meant are those of a kind that a text may mean, by id or by name: the one
// with this id alone; else all with this name; else those whose name or id
// begins with it, or holds it. At most limit. An empty text means the first of
// them.
func (s *Snapshot) Meant(kind, text string, limit int) (out []Named) {
	text = strings.TrimSpace(text)
	low := strings.ToLower(text)
	var same, begins, holds []Named
	s.eachNamed(kind, func(id, name string) bool {
		n := strings.ToLower(name)
		x := Named{Value: id, Name: name, Detail: kind}
		switch {
		// An id is meant exactly: no other thing is offered beside it.
		case id == text:
			out = []Named{x}
			return false
		case low == "":
			holds = append(holds, x)
			return len(holds) < limit
		case n == low:
			same = append(same, x)
		case strings.HasPrefix(n, low):
			begins = append(begins, x)
		case strings.Contains(n, low) || strings.HasPrefix(id, low):
			holds = append(holds, x)
		}
		return true
	})
	// The best sort of match that there is alone: whoever wrote a whole name
	// does not mean its parts.
	for _, list := range [][]Named{same, begins, holds} {
		if out == nil && len(list) > 0 {
			out = list[:min(limit, len(list))]
		}
	}
	return out
}

// ItemKind returns what an item is; ok is false where there is none of this id.
func (s *Snapshot) ItemKind(id string) (kind catalogue.ResourceKind, ok bool) {
	inv := &s.inv
	i := inv.itemIDs.find(inv.text, id)
	if i == none || !inv.items.at(i).exists {
		return 0, false
	}
	return inv.items.at(i).kind, true
}

// IsPrivate reports whether an item is for those alone who are given a role on
// it itself.
func (s *Snapshot) IsPrivate(id string) bool {
	i := s.inv.itemIDs.find(s.inv.text, id)
	return i != none && s.inv.items.at(i).private
}

// MeetingsWith lists the meetings that use a list of domains. They are shown
// before the list is changed.
func (s *Snapshot) MeetingsWith(list string) (ids []string) {
	inv := &s.inv
	i := inv.listIDs.find(inv.text, list)
	if i == none {
		return nil
	}
	// Lists are used by few meetings and changed seldom; no index is kept for
	// it.
	for m := range inv.meetings.n {
		x := inv.meetings.at(m)
		if x.exists && slices.Contains(inv.lists[x.lists.off:x.lists.off+x.lists.n], i) {
			ids = append(ids, inv.meetingIDs.text(inv.text, m))
		}
	}
	return
}

// PeopleIn lists the people of ours who are in a group.
func (s *Snapshot) PeopleIn(id string) (people []string) {
	inv := &s.inv
	g := inv.groupIDs.find(inv.text, id)
	if g == none || !inv.groups.at(g).exists {
		return
	}
	for i := range inv.people.n {
		if p := inv.people.at(i); p.exists {
			for _, x := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				if x == g {
					people = append(people, inv.personIDs.text(inv.text, i))
				}
			}
		}
	}
	return
}
