package finding

// Pieces makes the pieces of a list so long, and returns how long they were.
func Pieces(n int) (was int) {
	was, piece = piece, n
	return
}
