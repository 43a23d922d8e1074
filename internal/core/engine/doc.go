// Package engine answers questions: it holds a world in a compact, immutable
// form and asks the gates of model §4 of it.
//
// A Snapshot never changes; an Editor makes the next one from it and copies
// only what it touches, so a change of one grant among a million costs some
// kilobytes, and whoever still reads the old snapshot is not disturbed. Decide
// answers without allocating; Explain asks the same gates through the same code
// and keeps every cause and every chain.
//
// The package reads no clock, no database and no file.
package engine
