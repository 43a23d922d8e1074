package engine

import (
	"fmt"
	"slices"
	"sync"
	"sync/atomic"

	"wexillum.example/internal/core/catalogue"
)

// Audience: everybody who may do something with one thing. It is a reach asked
// the other way round, and needs lists the other way round: from a space to who
// was ever given something in it (index), from a person to those like them
// (reverse). Both are made when they are first asked for.
//
// Typical newcomers are here, too: whoever nobody knows yet is part of an
// audience, and the part that is most often forgotten.

// index finds who was given something in a space, and what is in it. It is made
// when a snapshot is first asked that way round, and goes on to the next
// snapshots until something of it changes.
//
// Whom a grant belongs to is how an inventory is kept; who has a grant on this
// is what an audience asks. The lists turn it around. At 100,000 guests and
// 1,000,000 grants they are made in a tenth of a second and take four bytes an
// entry.
//
// parties holds whoever was *ever* given something there: what is over is
// sorted out when it is asked, since a moment is part of every question.
type index struct {
	once     sync.Once
	items    lists[inside] // by space
	meetings lists[uint32] // by space
	parties  lists[uint32] // by space: addresses that were ever given something in it, groups and named links included
	links    lists[uint32] // by space: bearer links

	in              []contents // by space
	special         []special
	atSpace, atItem []words // by row
}

// inside is an item of a space; plain where it is neither private nor sets
// values.
type inside struct {
	index uint32
	kind  catalogue.ResourceKind
	plain bool
}

// lists holds many short lists one behind the other. ends[i] is where list i
// ends in all; it begins where the one before ends. Slices of slices would take
// 24 bytes each and leave work to the garbage collector.
type lists[T any] struct {
	ends []uint32
	all  []T
}

// of returns list i; none where there is no such list.
func (l *lists[T]) of(i uint32) []T {
	switch {
	case i >= uint32(len(l.ends)):
		return nil
	case i == 0:
		return l.all[:l.ends[0]]
	}
	return l.all[l.ends[i-1]:l.ends[i]]
}

// fillLists makes n lists of what each calls its argument with, in that order.
// each is called twice and must tell the same both times: first the entries are
// counted, then placed.
func fillLists[T any](n uint32, each func(add func(list uint32, x T))) (l lists[T]) {
	l.ends = make([]uint32, n)
	total := uint32(0)
	each(func(i uint32, _ T) {
		if i < n {
			l.ends[i]++
			total++
		}
	})
	l.all = make([]T, total)
	at := uint32(0)
	for i := range l.ends {
		at, l.ends[i] = at+l.ends[i], at
	}
	each(func(i uint32, x T) {
		if i < n {
			l.all[l.ends[i]] = x
			l.ends[i]++
		}
	})
	return
}

// reverse is what else is asked the other way round; it belongs to one
// snapshot, since all of it rests on policy. Everything in it is made at once,
// when the first of it is asked, and lives as long as the snapshot.
type reverse struct {
	once  sync.Once
	sides atomic.Pointer[sides]

	alike     [][]uint32          // people whom the same exceptions name, in the same way
	alikeOf   []int               // by person: its place in alike; -1 where there is none
	inGroup   [][]uint32          // people by group
	contacts  map[uint32][]uint32 // people by the party that they are in contact with
	doors     [][]uint32          // meetings whose doors are alike for whoever holds nothing there
	doorOf    []int               // by meeting: its place in doors
	courses   []uint32            // that anybody may try to join
	excepted  [][]uint32          // by exception: people of ours whom it is about
	newcomers []Newcomer
	named     []Newcomer // apart from those: whom exceptions, spaces and meetings name
}

// door is what tells the doors of meetings apart for somebody who holds nothing
// in their spaces.
//
// Two meetings with equal doors give the same answer to everybody who has no
// role in their spaces, so one of them is asked for all. It compares with ==.
type door struct {
	shut                   bool // it admits by lists alone, and they are empty
	rules, held            uint32
	standingRoom, passcode bool
	domains                list
	host                   uint32 // where an exception names it
	spaceRules, spaceHeld  uint32
	parties                list
	anyParty, bound        bool
}

// concerning writes which exceptions name a person of ours: the person's own
// first, then those of each group that has any. counts leaves others out; nil
// takes all. Two people with one text get the same answer from every rule of
// which only those exceptions speak.
func (s *Snapshot) concerning(person uint32, counts func(*exception) bool) (key string) {
	if int(person) >= len(s.pol.concerned) || !s.pol.concerned[person] {
		return ""
	}
	say := func(how string, list []int32) {
		if counts != nil {
			list = slices.DeleteFunc(slices.Clone(list), func(i int32) bool { return !counts(&s.pol.except[i]) })
		}
		if len(list) > 0 {
			key += fmt.Sprint(how, list)
		}
	}
	say("own ", s.pol.byPerson[person])
	l := s.inv.people.at(person).groups
	for _, g := range s.inv.lists[l.off : l.off+l.n] {
		if g < uint32(len(s.pol.byGroup)) {
			say(" ", s.pol.byGroup[g])
		}
	}
	return key
}

// others finds people and meetings that are alike. People are alike whom the
// same exceptions name, themselves or through groups. Most are named by none,
// and form one class. It costs a pass over people, spaces and meetings.
func (r *reverse) others(s *Snapshot) {
	inv := &s.inv
	r.inGroup, r.contacts = make([][]uint32, inv.groups.n), map[uint32][]uint32{}
	classes := map[string]int{}
	r.alikeOf = make([]int, inv.people.n)
	for i := uint32(0); i < inv.people.n; i++ {
		p := inv.people.at(i)
		if r.alikeOf[i] = -1; !p.exists {
			continue
		}
		key := s.concerning(i, nil)
		k, ok := classes[key]
		if !ok {
			k = len(r.alike)
			classes[key] = k
			r.alike = append(r.alike, nil)
		}
		r.alike[k] = append(r.alike[k], i)
		r.alikeOf[i] = k
		for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
			if g < inv.groups.n {
				r.inGroup[g] = append(r.inGroup[g], i)
			}
		}
		for _, c := range inv.lists[p.contacts.off : p.contacts.off+p.contacts.n] {
			r.contacts[c] = append(r.contacts[c], i)
		}
	}
	for i := uint32(0); i < inv.spaces.n; i++ {
		if sp := inv.spaces.at(i); sp.exists && sp.takesJoiners() {
			r.courses = append(r.courses, i)
		}
	}
	r.doorOf = make([]int, inv.meetings.n)
	at := map[door]int{}
	for i := uint32(0); i < inv.meetings.n; i++ {
		m := inv.meetings.at(i)
		if !m.exists {
			continue
		}
		// Where no list of domains counts, all meetings without domains are
		// alike, wherever their empty stretch begins.
		d := door{rules: m.rules, held: m.held, standingRoom: m.standingRoom, passcode: m.passcode, domains: m.domains, host: none,
			shut: m.lists.n > 0 && m.domains.n == 0}
		if m.domains.n == 0 {
			d.domains = list{}
		}
		if int(m.host) < len(s.pol.concerned) && s.pol.concerned[m.host] {
			d.host = m.host
		}
		if m.space != none {
			sp := inv.spaces.at(m.space)
			d.bound, d.spaceRules, d.spaceHeld, d.anyParty = true, sp.rules, sp.held, sp.anyParty
			if !sp.anyParty {
				d.parties = sp.parties
			}
		}
		k, ok := at[d]
		if !ok {
			k = len(r.doors)
			at[d] = k
			r.doors = append(r.doors, nil)
		}
		r.doors[k] = append(r.doors[k], i)
		r.doorOf[i] = k
	}
	r.excepted = s.exceptedPeople()
	r.newcomers = s.Newcomers()
	r.named = s.namedNewcomers(r.newcomers)
}

// indexed returns the index, made when it is first asked for.
func (s *Snapshot) indexed() *index {
	s.idx.once.Do(func() { s.idx.make(&s.inv) })
	return s.idx
}

// make builds the lists that lead from a space to what is in it and to who
// holds something there. Of groups the members are put into the lists of what
// the group holds: an audience asks people, and not groups.
func (r *index) make(inv *inventory) {
	n := inv.spaces.n
	r.items = fillLists(n, func(add func(uint32, inside)) {
		for i := uint32(0); i < inv.items.n; i++ {
			if it := inv.items.at(i); it.exists {
				add(it.space, inside{i, it.kind, !it.private && it.rules == none})
			}
		}
	})
	r.meetings = fillLists(n, func(add func(uint32, uint32)) {
		for i := uint32(0); i < inv.meetings.n; i++ {
			if m := inv.meetings.at(i); m.exists {
				add(m.space, i)
			}
		}
	})
	r.links = fillLists(n, func(add func(uint32, uint32)) {
		for i := uint32(0); i < inv.links.n; i++ {
			if l := inv.links.at(i); l.exists && l.bearer {
				add(inv.items.at(l.item).space, i)
			}
		}
	})
	// Many hold several things in one space; each party is to stand in its list
	// once.
	last := make([]uint32, n) // 1 + the party that was added to a space last
	r.parties = fillLists(n, func(add func(uint32, uint32)) {
		clear(last)
		for i := uint32(0); i < inv.parties.n; i++ {
			p := inv.parties.at(i)
			of := func(given []grant) {
				for k := range given {
					sp := given[k].resource
					if sp&itemBit != 0 {
						sp = inv.items.at(sp &^ itemBit).space
					}
					if sp < n && last[sp] != i+1 {
						last[sp] = i + 1
						add(sp, i)
					}
				}
			}
			of(inv.given(p.grants))
			for _, g := range inv.lists[p.groups.off : p.groups.off+p.groups.n] {
				of(inv.given(inv.groups.at(g).grants))
			}
		}
	})
	r.fill(inv)
}

// reversed returns what else is asked the other way round, made when it is
// first asked for.
func (s *Snapshot) reversed() *reverse {
	r := &s.rev
	r.once.Do(func() { r.others(s) })
	return r
}
