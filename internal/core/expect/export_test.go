package expect

// AtMostPairs lowers up to how many pairs what could come to be is judged, and
// returns what sets it back.
func AtMostPairs(n int) (back func()) {
	was := mostPairs
	mostPairs = n
	return func() { mostPairs = was }
}
