package engine

import (
	"cmp"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"unsafe"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// The bulk of an inventory has no pointers: records name each other by index,
// texts by where they begin. So it is written as it lies in memory, and used
// from there again, by the same program: the layout is that of its own records,
// and nothing is translated. Whoever keeps the bytes sees to it that they come
// back to the same program, whole, and with the policy that was in force.

// part says where one part of an inventory lies.
type part struct {
	At   int64
	Many uint64 // records, or for what lies in chunks places
	Room uint64 // records that there is room for, or chunks
	Size uint64 // bytes of a record or a chunk
}

// stored is what is told of an inventory beside its parts. It is written as
// JSON: it is small, and may gain fields.
type stored struct {
	Parts    []part
	Masks    []uint32 // of the tables of names
	Seed     uint64
	Dead     int
	Live     Counts
	Wholes   []storedMany
	Holdings []storedHolding
	Closed   map[uint32]moment.Moment
	Floors   *storedFloors
}

// storedMany is a manyHold.
type storedMany struct{ What, Index, Off, N uint32 }

// storedHolding is a holding of the party of an index.
type storedHolding struct {
	Party                        uint32
	Bundle, Sponsor              string
	From, Until, Reviewed, Waits moment.Moment
	Less                         []world.Gift
}

// storedFloors are floors.
type storedFloors struct {
	All, Mail             moment.Moment
	Partners, PartnerMail map[string]moment.Moment
	Kinds                 dated.Floors
}

// storedAlign is what every part begins at a multiple of, in bytes: records lie
// in whole lines of the processor's cache.
const storedAlign = 64

// layout goes through the parts of an inventory, to write them or to find them
// again. The same walk writes and reads, so that both agree on what comes
// where.
type layout struct {
	put   func(at int64, b []byte) error // nil where they are found
	in    []byte                         // where they are found
	at    int64                          // where the next one is written
	parts []part
	next  int // the part that is found next
	err   error
}

// aligned rounds up to the next multiple of storedAlign.
func aligned(n int64) int64 { return (n + storedAlign - 1) &^ (storedAlign - 1) }

// found returns the next part, where it has records of a size and lies in what
// there is. A part that does not fit is an error and never a guess: the file
// may be damaged or another program's.
func (l *layout) found(size int64) (p part, ok bool) {
	if l.err != nil {
		return p, false
	}
	if l.next >= len(l.parts) {
		l.err = errors.New("it has fewer parts than an inventory")
		return p, false
	}
	p = l.parts[l.next]
	l.next++
	all := uint64(len(l.in))
	if p.Size != uint64(size) || p.At < 0 || p.At%storedAlign != 0 || p.Room > all/p.Size || uint64(p.At) > all-p.Room*p.Size ||
		p.Many >= 1<<32 {
		l.err = fmt.Errorf("part %d of %d does not lie in it as it should", l.next, len(l.parts))
		return p, false
	}
	return p, true
}

// write puts bytes where the next ones go.
func (l *layout) write(b []byte) {
	if l.err == nil && len(b) > 0 {
		l.err = l.put(l.at, b)
	}
}

// bytesOf are the bytes of records without pointers.
func bytesOf[T any](xs []T) []byte {
	if len(xs) == 0 {
		return nil
	}
	return unsafe.Slice((*byte)(unsafe.Pointer(&xs[0])), len(xs)*int(unsafe.Sizeof(xs[0])))
}

// stretch is a part that lies in one piece. Behind it is room for what comes,
// an eighth and a thousand more, so that the first change does not copy it. T
// must hold no pointers.
func stretch[T any](l *layout, xs *[]T) {
	var one T
	size := int64(unsafe.Sizeof(one))
	if l.put != nil {
		n := uint64(len(*xs))
		p := part{l.at, n, n + n/8 + 1024, uint64(size)}
		l.write(bytesOf(*xs))
		l.parts, l.at = append(l.parts, p), aligned(l.at+int64(p.Room)*size)
		return
	}
	if p, ok := l.found(size); ok && p.Room > 0 {
		if p.Many > p.Room {
			l.err = fmt.Errorf("part %d holds more than there is room for", l.next)
			return
		}
		*xs = unsafe.Slice((*T)(unsafe.Pointer(&l.in[p.At])), p.Room)[:p.Many]
	}
}

// chunked is a part that lies in chunks, one behind the other. Read back, the
// chunks belong to nobody, so that the first Editor that writes one copies it.
func chunked[T any](l *layout, v *vec[T]) {
	size := aligned(int64(unsafe.Sizeof(chunk[T]{})))
	if l.put != nil {
		one := make([]chunk[T], 1)
		b := make([]byte, size)
		p := part{l.at, uint64(v.n), uint64(len(v.chunks)), uint64(size)}
		for _, c := range v.chunks {
			one[0].items = c.items // whoever changed it last is no matter to anybody later
			copy(b, bytesOf(one))
			l.write(b)
			l.at += size
		}
		l.parts = append(l.parts, p)
		return
	}
	p, ok := l.found(size)
	if !ok {
		return
	}
	if p.Room != (p.Many+chunkLen-1)/chunkLen {
		l.err = fmt.Errorf("part %d has %d chunks for %d places", l.next, p.Room, p.Many)
		return
	}
	v.n, v.chunks = uint32(p.Many), make([]*chunk[T], p.Room)
	for i := range v.chunks {
		v.chunks[i] = (*chunk[T])(unsafe.Pointer(&l.in[p.At+int64(i)*size]))
	}
}

// parts goes through all parts of an inventory, always in the same order. A
// table that is added is added here, and changes the version of the file.
func (v *inventory) parts(l *layout) {
	stretch(l, (*[]byte)(&v.text))
	for _, n := range v.tables() {
		chunked(l, &n.slots)
		stretch(l, &n.refs)
	}
	chunked(l, &v.parties)
	chunked(l, &v.heads)
	chunked(l, &v.dates)
	chunked(l, &v.ours)
	chunked(l, &v.people)
	chunked(l, &v.groups)
	chunked(l, &v.spaces)
	chunked(l, &v.items)
	chunked(l, &v.meetings)
	chunked(l, &v.domainLists)
	chunked(l, &v.links)
	stretch(l, &v.grants)
	stretch(l, &v.beside.odd)
	stretch(l, &v.beside.details)
	stretch(l, &v.lists)
	stretch(l, &v.refs)
	stretch(l, &v.forwarders)
	stretch(l, &v.rows)
}

// Wasted is the share of what was given that nothing refers to any more: it was
// replaced since the records were read. From 0 to 1. Above some share it is
// worth writing everything anew.
func (s *Snapshot) Wasted() float64 {
	return float64(s.inv.grantsDead) / float64(max(1, len(s.inv.grants)))
}

// Store hands over the inventory as it lies in memory, one stretch of bytes
// behind the other from a place on, which is a multiple of 64; between them are
// gaps. What it returns, and the bytes at the same places, make the same
// snapshot again: see Stored. end is where the last one ends. An error is
// put's, or that the snapshot is of what is only supposed.
func (s *Snapshot) Store(from int64, put func(at int64, b []byte) error) (told []byte, end int64, err error) {
	v := s.inv
	if v.said != nil || s.fwd != nil || s.meets {
		return nil, 0, errors.New("engine: what is only supposed is not stored")
	}
	l := &layout{put: put, at: aligned(from)}
	v.parts(l)
	if l.err != nil {
		return nil, 0, l.err
	}
	out := stored{Parts: l.parts, Seed: v.addresses.seed, Dead: v.grantsDead, Closed: v.closed,
		Live: Counts{v.live.people, v.live.guests, v.live.grants, v.live.spaces, v.live.items, v.live.meetings, v.live.links, 0}}
	for _, n := range v.tables() {
		out.Masks = append(out.Masks, n.mask)
	}
	for _, m := range v.many {
		out.Wholes = append(out.Wholes, storedMany{m.of.what, m.of.index, m.grants.off, m.grants.n})
	}
	for i, all := range v.holdings {
		for k := range all {
			h := &all[k]
			out.Holdings = append(out.Holdings, storedHolding{i, h.Bundle, h.Sponsor, h.From, h.Until, h.Reviewed, h.Waits, h.Less})
		}
	}
	if f := v.floors; f != nil {
		out.Floors = &storedFloors{f.all, f.mail, f.partners, f.partnerMail, f.kinds}
	}
	told, err = json.Marshal(&out)
	return told, l.at, err
}

// Stored makes a snapshot of what Store handed over, with the policy that was
// in force. It uses the bytes where they lie, and writes behind the parts that
// grow: they must stay, begin at a multiple of 64, and be nobody else's to
// write. An error says what of them is not as it should be.
//
// Nothing of the inventory is copied: it is ready as fast as the policy is
// compiled.
func Stored(in, told []byte, policy *world.World) (*Snapshot, error) {
	var x stored
	if err := json.Unmarshal(told, &x); err != nil {
		return nil, err
	}
	// Otherwise records would not lie as the program expects them.
	if len(in) == 0 || uintptr(unsafe.Pointer(&in[0]))%storedAlign != 0 {
		return nil, errors.New("engine: a stored snapshot begins at a multiple of 64 bytes")
	}
	var v inventory
	l := &layout{in: in, parts: x.Parts}
	v.parts(l)
	if l.err != nil {
		return nil, l.err
	}
	tables := v.tables()
	if l.next != len(x.Parts) || len(x.Masks) != len(tables) {
		return nil, errors.New("it has other parts than an inventory")
	}
	for i, n := range tables {
		if n.mask, n.seed = x.Masks[i], x.Seed; n.mask != 0 && n.mask != n.slots.n-1 {
			return nil, fmt.Errorf("the table %d of names has %d places, and its mask is %d", i, n.slots.n, n.mask)
		}
	}
	v.grantsDead, v.closed = x.Dead, x.Closed
	v.live.people, v.live.guests, v.live.grants, v.live.spaces, v.live.items, v.live.meetings, v.live.links =
		x.Live.People, x.Live.Guests, x.Live.Grants, x.Live.Spaces, x.Live.Items, x.Live.Meetings, x.Live.Links
	for _, m := range x.Wholes {
		v.many = append(v.many, manyHold{partyRef{m.What, m.Index}, list{m.Off, m.N}})
	}
	slices.SortFunc(v.many, func(a, b manyHold) int { return cmp.Compare(a.of.key(), b.of.key()) })
	for _, m := range v.many {
		v.manyKeys = append(v.manyKeys, m.of.key())
	}
	if len(x.Holdings) > 0 {
		v.holdings = map[uint32][]world.Holding{}
	}
	for _, h := range x.Holdings {
		if uint64(h.Party) >= uint64(len(v.addresses.refs)) {
			return nil, fmt.Errorf("a holding is of party %d, and there are %d", h.Party, len(v.addresses.refs))
		}
		v.holdings[h.Party] = append(v.holdings[h.Party], world.Holding{Party: v.address(h.Party), Bundle: h.Bundle, Sponsor: h.Sponsor,
			From: h.From, Until: h.Until, Reviewed: h.Reviewed, Waits: h.Waits, Less: h.Less})
	}
	if f := x.Floors; f != nil {
		v.floors = &floors{all: f.All, mail: f.Mail, partners: f.Partners, partnerMail: f.PartnerMail, kinds: f.Kinds}
	}
	s := &Snapshot{pol: compile(&v, newToken(), policy), idx: &index{}, due: &standing{}, line: newToken()}
	s.inv = v
	s.rules = compileDates(s.pol, &s.inv)
	return s, nil
}

// Packed is a snapshot with its bulk in one stretch of memory, which room makes
// for so many bytes; it may answer nil, and then s stays as it is. What was
// read record by record lies in many thousand pieces all over memory.
//
// It goes on in a line of its own. An error is that s is of what is only
// supposed.
func (s *Snapshot) Packed(room func(size int) []byte) (*Snapshot, error) {
	_, size, err := s.Store(0, func(int64, []byte) error { return nil })
	if err != nil {
		return nil, err
	}
	in := room(int(size))
	if in == nil {
		return s, nil
	}
	told, _, err := s.Store(0, func(at int64, b []byte) error {
		copy(in[at:], b)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return Stored(in, told, s.Policy())
}
