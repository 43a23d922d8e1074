// Package addr holds the two values everything about outsiders starts from: a
// mail domain and a mail address, each in the one normal form that the rest of
// the product compares.
//
// A value is parsed once, where it enters, and passed on as a value; nothing
// behind the edge parses or folds a string again. The package knows nothing of
// partners, bars or people.
package addr
