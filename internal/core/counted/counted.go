// Package counted writes numbers with the words of what there are so many of.
package counted

import "strconv"

// Of writes a number with a word for one, or for any other number: 1 guest,
// 0 guests, 12 guests.
func Of(n int, one, more string) string {
	if n == 1 {
		return "1 " + one
	}
	return strconv.Itoa(n) + " " + more
}
