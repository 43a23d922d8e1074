// Package frames holds the bulk of a large snapshot in large pages of memory,
// where the system has any.
//
// What a decision reads lies far apart. A large snapshot has more pages of 4 kB
// than the processor remembers the places of, so that many reads have to look
// up first where their page lies: with a million guests, that is one part in
// six of a decision. In large pages, of 2 MB, there are a few hundred.
package frames

import "wexillum.example/internal/core/engine"

const (
	// size is that of a large page, in bytes, as x86-64 and most of ARM have it.
	size = 2 << 20
	// least is the smallest snapshot that is moved, in bytes: the places of a
	// smaller one are all known.
	least = 16 * size
)

// Hold returns a snapshot that answers the same, with its bulk in one piece and
// in large pages as far as the system gives any; a small one as it is. While it
// is made, both are in memory. It may take a second for a million guests.
func Hold(s *engine.Snapshot) *engine.Snapshot { return hold(s, least) }

func hold(s *engine.Snapshot, least int) *engine.Snapshot {
	var in []byte
	out, err := s.Packed(func(n int) []byte {
		if n >= least {
			in = make([]byte, n)
		}
		return in
	})
	if err != nil { // it is of what is only supposed: nobody keeps that
		return s
	}
	join(in)
	return out
}
