package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// grant is a role of one party or group. It is 16 bytes; a million of them are
// most of the memory of a snapshot. What many share, or few have, stands beside
// them: see beside. from is inclusive, until is not.
//
// A link that names somebody is a grant of theirs as well, so that one look at
// what a party holds finds all of it.
//
// Grants of two snapshots say nothing of each other; compare what they mean.
type grant struct {
	from, until stamp
	resource    uint32 // index of a space or, with itemBit, of an item
	bits        uint32 // role, via, and where its detail stands
}

// How bits are divided.
const (
	roleBits   = 2
	viaBits    = 2
	detailFrom = roleBits + viaBits
	mostDetail = 1<<(32-detailFrom) - 1
)

// All roles that are kept fit.
const _ = uint(1<<roleBits - 1 - catalogue.Manage)

// via says through what somebody holds a grant.
type via uint8

// The ways to hold a grant. The first two are kept; the others are of an
// answer.
const (
	viaGrant via = iota
	viaLink
	viaGroup // only while answering: a grant of a group
	viaMany  // the same, of a partner or a domain as a whole
)

// detail is what few grants differ in from others. It is 12 bytes.
type detail struct {
	link   uint32 // with viaLink; else when it was confirmed, in seconds since 1970, 0 for never
	silent uint32 // when it ends because its review is not answered, in seconds since 1970; 0 for never
	bundle uint16 // one more than the index of the bundle that gives it; 0 where it was given by hand
}

// shared reports whether grants may have a detail in common: there are as many
// of those as days on which reviews end. One with a link or a moment at which
// it was confirmed is the grant's own.
func (x *detail) shared() bool { return x.link == 0 }

// stamp is a moment in four bytes: a whole second since 1970 where it is one,
// which nearly every beginning and end of a day is; else the place of the
// moment in beside.
type stamp uint32

// The two that need no place, and where places begin. Seconds reach up to
// 2097-08-05; what begins or ends later has a place.
const (
	always   stamp = 0
	never    stamp = 1<<32 - 1
	firstOdd stamp = 0xf000_0000
)

// beside is what grants refer to by its place: moments that no stamp can say
// by itself, with a fraction of a second, before 1970 or far ahead; and
// details, of which the first says nothing. It only grows, as grants do, and is
// made anew where those are. What begins with more is only supposed, and stands
// behind what others read.
type beside struct {
	odd, moreOdd         []moment.Moment
	details, moreDetails []detail
}

// supposing returns what is beside a snapshot's grants, for others that are
// supposed besides.
func (b *beside) supposing() beside { return beside{odd: b.odd, details: b.details} }

// moment returns what a stamp means.
func (b *beside) moment(s stamp) moment.Moment {
	if s-1 < firstOdd-1 { // neither always nor odd
		return moment.Moment(s) * 1e6
	}
	switch {
	case s == always:
		return moment.Always
	case s == never:
		return moment.Never
	}
	k := int(s - firstOdd)
	if k < len(b.odd) {
		return b.odd[k]
	}
	return b.moreOdd[k-len(b.odd)]
}

// plain returns the stamp of a moment that needs no place.
func plain(m moment.Moment) (s stamp, ok bool) {
	switch {
	case m == moment.Always:
		return always, true
	case m == moment.Never:
		return never, true
	case m > 0 && m%1e6 == 0 && m/1e6 < moment.Moment(firstOdd):
		return stamp(m / 1e6), true
	}
	return 0, false
}

// stamp returns the stamp of a moment, and keeps the moment where that takes a
// place: in list, behind so many others.
func (b *beside) stamp(m moment.Moment, list *[]moment.Moment, behind int) stamp {
	s, ok := plain(m)
	if ok {
		return s
	}
	n := behind + len(*list)
	if n >= int(never-firstOdd) {
		panic("engine: more than 268 million moments with a fraction of a second")
	}
	*list = append(*list, m)
	return firstOdd + stamp(n)
}

// keep returns the stamp of a moment that is there to stay. It is for the one
// who may write: an Editor.
func (b *beside) keep(m moment.Moment) stamp { return b.stamp(m, &b.odd, 0) }

// suppose is keep for what is only supposed.
func (b *beside) suppose(m moment.Moment) stamp { return b.stamp(m, &b.moreOdd, len(b.odd)) }

// bitsOf are the bits of a grant whose detail has a place.
func bitsOf(role catalogue.Role, t via, place int) uint32 {
	if place > mostDetail {
		panic("engine: more than 268 million reviews and links of grants")
	}
	return uint32(role) | uint32(t)<<roleBits | uint32(place)<<detailFrom
}

// role is what the grant gives.
func (g *grant) role() catalogue.Role { return catalogue.Role(g.bits & (1<<roleBits - 1)) }

// via is through what it is held.
func (g *grant) via() via { return via(g.bits >> roleBits & (1<<viaBits - 1)) }

// place is where its detail stands.
func (g *grant) place() int { return int(g.bits >> detailFrom) }

// detail is what it has that few others have.
func (g *grant) detail(b *beside) detail {
	k := g.place()
	if k == 0 {
		return detail{}
	}
	if k < len(b.details) {
		return b.details[k]
	}
	return b.moreDetails[k-max(1, len(b.details))]
}

// begin returns when a grant begins.
func (g *grant) begin(b *beside) moment.Moment { return b.moment(g.from) }

// written returns when a grant ends by what is written; end counts reviews as
// well.
func (g *grant) written(b *beside) moment.Moment { return b.moment(g.until) }

// live reports whether a grant is in force at a moment. From is in, until is
// out, as everywhere (model §5). A grant whose review nobody answered ends at
// silent, whatever until says.
func (g *grant) live(at moment.Moment, b *beside) bool {
	if !moment.Within(at, g.begin(b), g.written(b)) {
		return false
	}
	silent := g.detail(b).silent
	return silent == 0 || at < moment.Moment(silent)*1e6
}

// end returns when a grant ends: by what is written, or because its review was
// not answered.
func (g *grant) end(b *beside) moment.Moment {
	if silent := g.detail(b).silent; silent != 0 {
		return min(g.written(b), moment.Moment(silent)*1e6)
	}
	return g.written(b)
}

// detail keeps the detail of a grant and returns its place.
func (e *Editor) detail(x detail) int {
	if x == (detail{}) {
		return 0
	}
	b := &e.inv.beside
	if x.shared() {
		if k, ok := e.details[x]; ok {
			return k
		}
	}
	if len(b.details) == 0 {
		b.details = append(b.details, detail{})
	}
	k := len(b.details)
	b.details = append(b.details, x)
	if x.shared() {
		if e.details == nil {
			e.details = map[detail]int{}
		}
		e.details[x] = k
	}
	return k
}

// grant makes one that is there to stay.
func (e *Editor) grant(from, until moment.Moment, resource uint32, role catalogue.Role, t via, x detail) grant {
	return grant{e.inv.beside.keep(from), e.inv.beside.keep(until), resource, bitsOf(role, t, e.detail(x))}
}

// setSilent says when a grant ends because its review is not answered. own: no
// snapshot shares what stands beside the grant.
func (e *Editor) setSilent(g *grant, silent uint32, own bool) {
	b := &e.inv.beside
	x := g.detail(b)
	if x.silent == silent {
		return
	}
	if own && !x.shared() {
		b.details[g.place()].silent = silent
		return
	}
	x.silent = silent
	g.bits = bitsOf(g.role(), g.via(), e.detail(x))
}

// supposed makes one that is only supposed, given by hand.
func (b *beside) supposed(from, until moment.Moment, resource uint32, role catalogue.Role) grant {
	return grant{b.suppose(from), b.suppose(until), resource, bitsOf(role, viaGrant, 0)}
}

// supposeSilent is setSilent for one that is only supposed.
func (b *beside) supposeSilent(g *grant, silent uint32) {
	x := g.detail(b)
	x.silent = silent
	g.bits = bitsOf(g.role(), g.via(), max(1, len(b.details))+len(b.moreDetails))
	b.moreDetails = append(b.moreDetails, x)
}

// alwaysGiven is a grant by hand that is in force always.
func alwaysGiven(resource uint32, role catalogue.Role) grant {
	return grant{always, never, resource, bitsOf(role, viaGrant, 0)}
}
