package engine

import (
	"math/rand/v2"
	"sync/atomic"
	"unsafe"

	"github.com/zeebo/xxh3"
)

// Tables that many snapshots share. A snapshot is read by any number of
// goroutines while the next is made; what both have in common is not copied.
// Three things make that possible: lists that only grow (blob, refs), records
// in chunks that are copied when first written (vec), and indexes that stay for
// good (names).

// token marks what an Editor has copied and may therefore write. It is a number
// and no pointer, so that the garbage collector need not look into chunks. Each
// Editor takes the next number; no two ever have the same.
type token uint64

// lastToken is the last number that an Editor took.
var lastToken atomic.Uint64

// newToken returns a number that nobody has.
func newToken() token { return token(lastToken.Add(1)) }

// 512 records a chunk: a change of one copies some kilobytes, and the table of
// chunks of a million records is 16 kB.
const (
	chunkBits = 9
	chunkLen  = 1 << chunkBits
)

// chunk is 512 records; owner is the Editor that may write it. Others copy it
// first.
type chunk[T any] struct {
	items [chunkLen]T // first, so that records lie in whole cache lines
	owner token
}

// vec is a list in chunks. Reading costs one more load than a slice, from a
// table small enough to stay cached; writing copies one chunk per editor.
type vec[T any] struct {
	owner  token
	chunks []*chunk[T]
	n      uint32
}

// at returns a place for reading; i must be less than n.
func (v *vec[T]) at(i uint32) *T { return &v.chunks[i>>chunkBits].items[i&(chunkLen-1)] }

// edit returns the place i for writing by the editor that holds tok. What an
// older snapshot reads is copied first, the table of chunks and the chunk.
func (v *vec[T]) edit(tok token, i uint32) *T {
	if v.owner != tok {
		v.chunks = append([]*chunk[T](nil), v.chunks...)
		v.owner = tok
	}
	c := v.chunks[i>>chunkBits]
	if c.owner != tok {
		c = &chunk[T]{owner: tok, items: c.items}
		v.chunks[i>>chunkBits] = c
	}
	return &c.items[i&(chunkLen-1)]
}

// add places a record behind the last and returns its index. Older snapshots
// know a lesser n, and do not look there.
func (v *vec[T]) add(tok token, x T) uint32 {
	i := v.n
	if i>>chunkBits == uint32(len(v.chunks)) {
		if v.owner != tok {
			v.chunks = append(make([]*chunk[T], 0, len(v.chunks)+8), v.chunks...)
			v.owner = tok
		}
		v.chunks = append(v.chunks, &chunk[T]{owner: tok})
	}
	v.n++
	*v.edit(tok, i) = x
	return i
}

// none is the index of nothing.
const none = ^uint32(0)

// ref is a text in the blob. It is eight bytes where a string is sixteen and a
// pointer.
type ref struct {
	off uint32
	n   uint32
}

// blob holds texts one behind the other. It only grows: what an older snapshot
// refers to never moves.
type blob []byte

// text returns a text without copying it.
func (b blob) text(r ref) string {
	if r.n == 0 {
		return ""
	}
	return unsafe.String(&b[r.off], int(r.n)) // the bytes are never written again
}

// add requires that less than 4 GiB of text is held, which is some hundred
// bytes for each of ten million entries.
func (b *blob) add(s string) ref {
	r := ref{uint32(len(*b)), uint32(len(s))}
	if uint64(len(*b))+uint64(len(s)) > 1<<32-1 {
		panic("engine: more than 4 GiB of names and addresses")
	}
	*b = append(*b, s...)
	return r
}

// newSeed is what the hashes of an inventory begin with: by chance, so that
// nobody outside can choose names that collide. It stays with the inventory, in
// a file of it too.
var newSeed = rand.Uint64()

// names gives every distinct text an index that stays the same for good. The
// table probes linearly; a slot holds half the hash, the index and where the
// text is, so that what belongs to the index and the text itself are fetched at
// once.
//
// Open addressing with linear probing keeps a look-up to one or two lines of
// the cache; the table is at most five eighths full. Nothing is ever taken out: an id
// that was removed keeps its number, so that history and grants can still name
// it.
type names struct {
	slots vec[slot]
	mask  uint32 // number of slots - 1
	refs  []ref
	seed  uint64 // of the inventory
}

// Comparing the half hash first means that a text is nearly always compared
// once.
type slot struct {
	tag uint32 // upper half of the hash
	one uint32 // index + 1; 0: empty
	ref ref
}

// hashOf is the hash of a name, with the inventory's own seed.
func (t *names) hashOf(s string) uint64 { return xxh3.HashStringSeed(s, t.seed) }

// find returns the index of a name, or none. It hashes the text and reads one
// or two lines of memory.
func (t *names) find(b blob, s string) uint32 { return t.findHash(b, s, t.hashOf(s)) }

// findHash is find for whoever has the hash already.
func (t *names) findHash(b blob, s string, h uint64) uint32 {
	if t.mask == 0 {
		return none
	}
	for pos := uint32(h) & t.mask; ; pos = (pos + 1) & t.mask {
		x := t.slots.at(pos)
		if x.one == 0 {
			return none
		}
		if x.tag == uint32(h>>32) && int(x.ref.n) == len(s) && b.text(x.ref) == s {
			return x.one - 1
		}
	}
}

// likely returns the first slot with the hash's upper half, its text
// unverified: what to fetch while the look-up itself still waits for memory.
func (t *names) likely(h uint64) (i uint32, text ref) {
	if t.mask == 0 {
		return none, ref{}
	}
	for pos := uint32(h) & t.mask; ; pos = (pos + 1) & t.mask {
		x := t.slots.at(pos)
		if x.tag == uint32(h>>32) || x.one == 0 {
			return x.one - 1, x.ref
		}
	}
}

// add returns the index of a name, and takes it in where it is new.
func (t *names) add(tok token, b *blob, s string) uint32 {
	if i := t.find(*b, s); i != none {
		return i
	}
	if uint64(len(t.refs)+1)*8 > uint64(t.mask+1)*5 {
		t.grow(tok, *b)
	}
	i := uint32(len(t.refs))
	t.refs = append(t.refs, b.add(s))
	t.place(tok, t.hashOf(s), i)
	return i
}

// place enters an index at the first free slot.
func (t *names) place(tok token, h uint64, i uint32) {
	pos := uint32(h) & t.mask
	for t.slots.at(pos).one != 0 {
		pos = (pos + 1) & t.mask
	}
	*t.slots.edit(tok, pos) = slot{uint32(h >> 32), i + 1, t.refs[i]}
}

// grow doubles the table. The new chunks are the Editor's own; older snapshots
// keep the old ones.
func (t *names) grow(tok token, b blob) {
	size := max(chunkLen, (t.mask+1)*2)
	t.slots, t.mask = vec[slot]{owner: tok}, size-1
	for t.slots.n < size {
		t.slots.chunks = append(t.slots.chunks, &chunk[slot]{owner: tok})
		t.slots.n += chunkLen
	}
	for i, r := range t.refs {
		t.place(tok, t.hashOf(b.text(r)), uint32(i))
	}
}

// text returns a name by its index; "" for none.
func (t *names) text(b blob, i uint32) string {
	if i == none {
		return ""
	}
	return b.text(t.refs[i])
}
