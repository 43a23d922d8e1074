// Package native translates between what is meant and what a system holds, both
// ways (systems.md §2).
//
// A dialect is the vocabulary of one kind of system, as data: which of its
// settings carries which of our rules, in which words, how exactly, and how
// long a change takes to count there. From it follow what a system should hold
// (Dialect.To), what a reading of it means (Dialect.From), and what is to be
// written (Steps). A translation may be tighter than meant, never looser. What
// is found becomes two policies, the loosest and the tightest faithful reading
// (Overlay), which the same engine answers for.
//
// The package has no I/O; connectors carry settings to and from systems.
package native
