package finding

import "slices"

// pieces is a list in its order, in pieces of some hundred. A step makes those
// anew that it is about, so that it costs little in a long list; the others are
// shared with the list before. A service may be reading the old list meanwhile.
type pieces [][]Finding

// piece is how long a piece is at first; one that has become twice as long is
// divided. Tests make it shorter.
var piece = 512

// same reports whether two findings say the same of the same.
func (f *Finding) same(g *Finding) bool {
	return f.ID == g.ID && f.Cause == g.Cause && slices.Equal(f.About, g.About) && slices.Equal(f.Numbers, g.Numbers)
}

// otherwise is what is gone and what came without what stayed as it was.
func otherwise(gone, came []Finding) (left, added []Finding) {
	was := make(map[string]*Finding, len(gone))
	for i := range gone {
		was[gone[i].ID] = &gone[i]
	}
	for i := range came {
		x := was[came[i].ID]
		if x != nil && x.same(&came[i]) {
			delete(was, x.ID)
			continue
		}
		added = append(added, came[i])
	}
	for i := range gone {
		if was[gone[i].ID] != nil {
			left = append(left, gone[i])
		}
	}
	return
}

// piecesOf divides a list that is in order.
func piecesOf(list []Finding) (out pieces) {
	for x := range slices.Chunk(list, piece) {
		out = append(out, slices.Clip(x))
	}
	return
}

// with is the list without what is gone and with what came.
func (p pieces) with(gone, came []Finding) pieces {
	Sort(gone)
	Sort(came)
	// upTo is how many of a list come before the end of piece i; all for the
	// last.
	upTo := func(list []Finding, i int) int {
		if i >= len(p)-1 {
			return len(list)
		}
		n := 0
		for n < len(list) && compare(&list[n], &p[i+1][0]) < 0 {
			n++
		}
		return n
	}
	out := make(pieces, 0, len(p)+1)
	for i := range max(1, len(p)) {
		var was []Finding
		if i < len(p) {
			was = p[i]
		}
		g, c := upTo(gone, i), upTo(came, i)
		if g+c == 0 {
			if len(was) > 0 {
				out = append(out, was)
			}
			continue
		}
		is := merged(was, gone[:g], came[:c])
		if gone, came = gone[g:], came[c:]; len(is) < 2*piece {
			if len(is) > 0 {
				out = append(out, is)
			}
			continue
		}
		out = append(out, piecesOf(is)...)
	}
	return out
}

// merged is a list in its order without what is gone, which is in it, and with
// what came. All three are in order.
func merged(was, gone, came []Finding) []Finding {
	out := make([]Finding, 0, len(was)-len(gone)+len(came))
	for i := range was {
		for len(came) > 0 && compare(&came[0], &was[i]) < 0 {
			out, came = append(out, came[0]), came[1:]
		}
		if len(gone) > 0 && gone[0].ID == was[i].ID {
			gone = gone[1:]
			continue
		}
		out = append(out, was[i])
	}
	return append(out, came...)
}
