// Package addr holds the two values everything about outsiders starts from: a
// mail domain and a mail address, each in the one normal form that the rest of
// the product compares.
//
// A value is parsed once, where it enters, and passed on as a value; nothing
// behind the edge parses or folds a string again. The package knows nothing of
// partners, bars or people.
//
// Two texts that name the same mailbox become equal values: domains are lowered
// and encoded as RFC 5891 has it, so that bücher.example and
// xn--bcher-kva.example are one; local parts are lowered, which RFC 5321 §2.4
// leaves to the receiving side and nearly every one does. What is kept apart
// stays apart: no dots are taken out of local parts, and no +tag is cut off.
//
// *@lantern.example is somebody typical of a domain of whom nothing is known
// (Newcomer). It is an Address, so that questions may be asked about it, and
// nobody's: ParseKept refuses it where an address is to be kept.
package addr
