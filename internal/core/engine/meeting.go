package engine

import (
	"slices"

	"wexillum.example/internal/core/world"
)

// PutMeeting adds or replaces a meeting. Its host and its space need not be
// there yet.
func (e *Editor) PutMeeting(m *world.Meeting) {
	e.idx = nil
	i := e.inv.meetingIDs.add(e.tok, &e.inv.text, m.ID)
	grow(&e.inv.meetings, e.tok, i, meeting{})
	var ds []uint32
	for _, d := range m.SignInDomains {
		ds = append(ds, e.domain(d))
	}
	var lists []uint32
	for _, id := range m.SignInLists {
		lists = append(lists, e.domainList(id))
	}
	rec := meeting{exists: true, standingRoom: m.StandingRoom, passcode: m.Passcode, host: e.person(m.Host), space: e.space(m.Space),
		name: e.inv.text.add(m.Name), rules: e.row(m.Rules, false), held: e.row(m.Rules, true), own: e.list(ds), lists: e.list(lists)}
	e.doorOf(&rec)
	if !e.inv.meetings.at(i).exists {
		e.inv.live.meetings++
	}
	*e.inv.meetings.edit(e.tok, i) = rec
}

// doorOf puts the domains together that a meeting admits without waiting. A
// list that is empty, or not there, adds nothing; the meeting then admits
// nobody by it.
func (e *Editor) doorOf(m *meeting) {
	inv := &e.inv
	if m.lists.n == 0 {
		m.domains = m.own
		return
	}
	all := append([]uint32(nil), inv.lists[m.own.off:m.own.off+m.own.n]...)
	for _, l := range append([]uint32(nil), inv.lists[m.lists.off:m.lists.off+m.lists.n]...) {
		d := inv.domainLists.at(l).domains
		for _, x := range inv.lists[d.off : d.off+d.n] {
			if !slices.Contains(all, x) {
				all = append(all, x)
			}
		}
	}
	m.domains = e.list(all)
}

// domainList returns the index of a list, which need not be there yet.
func (e *Editor) domainList(id string) uint32 {
	i := e.inv.listIDs.add(e.tok, &e.inv.text, id)
	grow(&e.inv.domainLists, e.tok, i, domainList{})
	return i
}

// PutDomainList adds or replaces a list of domains, and with it whom the
// meetings that use it admit.
func (e *Editor) PutDomainList(x *world.DomainList) {
	e.idx = nil
	i := e.domainList(x.ID)
	var ds []uint32
	for _, d := range x.Domains {
		ds = append(ds, e.domain(d))
	}
	*e.inv.domainLists.edit(e.tok, i) = domainList{exists: true, name: e.inv.text.add(x.Name), domains: e.list(ds)}
	e.doors(i)
}

// doors puts anew the domains of the meetings that use a list. All meetings are
// looked at: lists change rarely.
func (e *Editor) doors(list uint32) {
	for m := range e.inv.meetings.n {
		l := e.inv.meetings.at(m).lists
		if l.n > 0 && slices.Contains(e.inv.lists[l.off:l.off+l.n], list) {
			e.doorOf(e.inv.meetings.edit(e.tok, m))
		}
	}
}
