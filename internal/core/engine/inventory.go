package engine

import (
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// The form that a world is kept in: tables of fixed-size records that name each
// other by index, and an Editor that makes the next world from one.
//
// How names become indexes, and how snapshots share what did not change, is in
// vec.go; what an Editor takes in is in inventory_records.go and
// inventory_given.go; how records are told again, as records of package world,
// in inventory_told.go.

// row holds one value for every rule, Unset where nothing is said. It is some
// 160 bytes; equal rows are shared, and there are few different ones: most
// spaces say nothing, and those that do mostly say the same few things.
type row [catalogue.NumRules]catalogue.Value

// list is a stretch of inventory.lists. It takes eight bytes and has no
// pointer, so that the garbage collector passes over all records.
type list struct{ off, n uint32 }

// party is everything the engine knows of one outside address: its record, if
// it has one, what its dates come to, its grants and its groups. One cache
// line.
//
// Records, dates and grants of a million parties are what decisions miss the
// cache on; what few of them need lies in dates.
type party struct {
	since, accepted, terms moment.Moment
	out, gone              moment.Moment // when its record is suspended, and when it is no more; Never
	grants                 list          // in inventory.grants, in the order they were given
	groups                 list          // indexes of groups
	domain                 uint32
	flags                  partyFlag
	licence                world.Licence
	state                  world.State // as it is written; decisions go by flags and dates
	origins                world.Origin
}

// partyFlag is what is known of a record in one bit each.
type partyFlag uint8

// What is known of a record, a bit each.
const (
	hasRecord   partyFlag = 1 << iota
	isSuspended           // as it is written; what its dates suspend is told by out
	isProvisioned
	hasLocation
	hasPurpose
)

// itemBit tells items from spaces in grants, and groups from people among
// members. Indexes are below two thousand million, so that the bit is free.
const itemBit = 1 << 31

// space is a world.Space by indexes.
type space struct {
	exists, joinable, house bool
	open                    bool // whoever of ours wants to belongs to it; in what is supposed alone
	kind                    world.SpaceKind
	joinsAs                 catalogue.Role // what who joins it from outside gets
	name                    ref
	rules, held             uint32 // rows, none where nothing is said
	owners                  list   // people
	members                 list   // people, or groups with itemBit
	parties                 list   // encoded partyRefs
	anyParty                bool   // no parties are named
}

// takesJoiners reports whether somebody from outside may join a space by
// themselves: a course alone is open to that.
func (sp *space) takesJoiners() bool { return sp.joinable && sp.kind == world.Course }

// item is a world.Item by indexes; it exists only once somebody put it, a name
// alone may come first.
type item struct {
	exists, private bool
	kind            catalogue.ResourceKind
	space           uint32
	name            ref
	rules, held     uint32
}

// person is one of our people.
type person struct {
	exists   bool
	roles    world.PersonRole
	address  ref
	name     ref
	groups   list
	sends    list          // forwarders
	contacts list          // addresses of accepted contacts
	left     moment.Moment // zero while they are here
}

// group holds parties from outside, and what all of them were given. People of
// ours name their groups themselves.
type group struct {
	exists  bool
	name    ref
	grants  list
	parties list // those that it holds
}

// meeting is a world.Meeting by indexes.
type meeting struct {
	exists, standingRoom, passcode bool
	host, space                    uint32
	name                           ref
	rules, held                    uint32
	domains                        list // that count: its own, and those of its lists
	own, lists                     list
}

// manyHold is a partner or a domain that holds grants as a whole: whoever
// belongs to it has them with their home account. There are a handful of them,
// so that they are gone through one by one.
type manyHold struct {
	of     partyRef // a partner or a domain
	grants list
}

// domainList is a list of domains that meetings use.
type domainList struct {
	exists  bool
	name    ref
	domains list
}

// link is a link; what one that names people gives is also a grant of each of
// them.
type link struct {
	exists, bearer, download, password bool
	right                              catalogue.Role
	item                               uint32
	by                                 uint32
	created, until                     moment.Moment
	names                              list // the parties that it names
}

// forwarder is where a mailbox is forwarded to.
type forwarder struct {
	to       uint32 // index of an address
	keepCopy bool
	byAdmin  bool
}

// partyRef is a world.PartyRef by index; the kinds are told apart by what.
type partyRef struct {
	what  uint32
	index uint32
}

// What a partyRef names. The numbers are written into snapshot files.
const (
	ofPartner uint32 = 0
	ofDomain  uint32 = 1
	ofGroup   uint32 = 2
	ofAddress uint32 = 3
)

// inventory is the part of a snapshot that operations change.
//
// Copying it copies slices' headers only: an Editor begins with all of the
// snapshot before it and writes where nobody reads. What grows is written
// behind the end that others know; what changes in place is a vec, whose chunks
// are copied when first written.
//
// Everything is an index into one of the tables, and no record has a pointer:
// the garbage collector passes over a million of them at no cost, and the whole
// can be written to a file and mapped again (see stored.go). What *is never
// written in place* is replaced as a whole, since older snapshots read it.
type inventory struct {
	text blob

	addresses, domains, partners, groupIDs, personIDs, spaceIDs, itemIDs, meetingIDs, linkIDs, listIDs, bundleIDs names

	parties     vec[party]                 // by address
	heads       vec[uint32]                // by domain: a party there, which names the next; or none
	floors      *floors                    // of dates; nil for none; never written in place
	dates       vec[dates]                 // by address
	holdings    map[uint32][]world.Holding // by address; never written in place
	closed      map[uint32]moment.Moment   // home accounts that their partner closed; never written in place
	ours        vec[uint32]                // by address: the person who has it, or none
	people      vec[person]
	groups      vec[group]
	spaces      vec[space]
	items       vec[item]
	meetings    vec[meeting]
	domainLists vec[domainList]
	links       vec[link]

	grants     []grant
	beside     beside // what grants do not hold themselves
	lists      []uint32
	refs       []partyRef
	forwarders []forwarder
	rows       []row
	said       []row // rows as they are said, where some of it is held back here

	many     []manyHold // what partners and domains hold as a whole, in the order of manyKeys; never written in place
	manyKeys []uint64   // partyRef.key of each

	grantsDead int // entries of grants that nothing refers to any more
	live       struct{ people, guests, grants, spaces, items, meetings, links int }
}

// tables are those of all names. The order is that of a stored snapshot, and
// must not change.
func (v *inventory) tables() []*names {
	return []*names{&v.addresses, &v.domains, &v.partners, &v.groupIDs, &v.personIDs, &v.spaceIDs, &v.itemIDs, &v.meetingIDs, &v.linkIDs,
		&v.listIDs, &v.bundleIDs}
}

// hashOf is the hash of a name in every table of the inventory.
func (v *inventory) hashOf(s string) uint64 { return v.addresses.hashOf(s) }

// partyAt returns the party of an index; nil where there is none.
func (v *inventory) partyAt(i uint32) *party {
	if i == none || i >= v.parties.n {
		return nil
	}
	return v.parties.at(i)
}

// given returns a stretch of grants.
func (v *inventory) given(l list) []grant { return v.grants[l.off : l.off+l.n] }

// addressText returns an address in normal form by its index.
func (v *inventory) addressText(i uint32) string { return v.addresses.text(v.text, i) }

// Snapshot is a world at one revision, ready to be asked. It is immutable and
// may be asked from many goroutines at once.
//
// What a question needs that costs a pass over everybody is made once, when it
// is first asked, and kept here: idx, rev, due, could.
type Snapshot struct {
	inv   inventory
	pol   *policy
	taken bool   // an Editor has been made: see Edit
	idx   *index // goes on to the next snapshot where nothing of it changes
	rev   reverse
	gen   uint64    // how many came before in its line
	line  token     // in which everything has the number that it had before
	due   *standing // what is due of an earlier snapshot, where it goes on
	moved []uint32  // parties whose dates may be otherwise since
	rules *dateRules
	fwd   *forwardOf // nil where its dates do not go on from another's
	meets bool       // everybody of ours is in contact with everybody; in what is supposed alone
	could couldKept
}

// Counts says how many live entries of each kind a snapshot holds.
type Counts struct{ People, Guests, Grants, Spaces, Items, Meetings, Links, Partners int }

// Counts returns the number of entries.
func (s *Snapshot) Counts() Counts {
	l := s.inv.live
	return Counts{l.people, l.guests, l.grants, l.spaces, l.items, l.meetings, l.links, len(s.pol.source.Partners)}
}
