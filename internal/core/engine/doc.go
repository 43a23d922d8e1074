// Package engine answers questions: it holds a world in a compact, immutable
// form and asks the gates of model §4 of it.
//
// A Snapshot never changes; an Editor makes the next one from it and copies
// only what it touches, so a change of one grant among a million costs some
// kilobytes, and whoever still reads the old snapshot is not disturbed. Decide
// answers without allocating; Explain asks the same gates through the same code
// and keeps every cause and every chain.
//
// The package reads no clock, no database and no file: the moment is part of
// every question, and the same question of the same snapshot has the same
// answer for ever.
//
// # One question
//
// May noor@lantern.example read the page "Terms" in the Loan dossier today? The
// question names the subject, an action of the catalogue, the resource and the
// moment. It is answered in three steps:
//
//  1. Names become indexes (asker.resolve in ask_find.go): the address is party
//     4711, its domain belongs to partner 12, the page is item 90210 in space
//  315. The accounts that Noor could use are listed: her record with us, then
//     the account she has at home.
//  2. Each account is asked the seven gates in their order (asker.ask): who this
//     is, whether the domain is let through, what the partner's own side says,
//     whether the service is open, what the rules say, what was given, and
//     whether there is a licence. None of them ends the asking: a refusal is to
//     name every gate that refuses, so that nobody mends one and meets the next.
//  3. The first account with a yes decides; where there is none, the no with the
//     fewest refusing gates does.
//
// A decision takes some hundred nanoseconds: a dozen loads from memory, most of
// which wait for the processor's cache at a million guests.
//
// # Many questions at once
//
// A hundred thousand guests, a hundred thousand things and fifty actions are
// more questions than can be asked. Everything that counts or lists goes one of
// three ways instead, each of which the tests compare with asking one by one:
//
//   - What needs a role is answered with masks: rules are bits, a layer is two
//     words, all actions on a thing are decided in one loop (masks.go, sides.go,
//     tally.go). Numbers, audiences, lists and impacts use it.
//   - What needs none is answered class by class: parties whom nothing tells
//     apart are a cohort, people of ours whom the same exceptions name a class;
//     one of each is asked for all (wide.go, division.go).
//   - What could come to be is a fixed point over classes of parties and of
//     places (could*.go): acts take nothing away, so their order does not
//     matter.
//
// # What changes
//
// An Editor of Edit makes the next snapshot of a line; indexes stay what they
// are, and what was computed of the one before goes on where it can (the index
// of spaces, what is due). An Editor of Aside makes what might be: a draft, a
// preview, one act of a chain. ImpactOf compares two policies over one
// inventory, Local two inventories under one policy.
//
// # Dates
//
// Guests are suspended and removed by dates (model §5). What these come to is
// computed when a record or a rule changes and stands beside the record
// (fate.go), so that a decision compares moments and computes nothing.
//
// # Where things are
//
//   - asked.go, ask.go, ask_find.go, gates*.go, value.go: one question
//   - explain.go, words.go: causes in words; what people write
//   - inventory*.go, editor.go, vec.go, stored.go: the form that a world is kept
//     in, and how the next is made from one
//   - policy.go, lookup*.go, find.go: the policy, compiled; single look-ups
//   - reach.go, audience*.go, yes*.go, population.go, diff.go: lists of answers
//   - wide.go, cohorts.go, division.go, signs.go: what needs no role, of all alike
//   - impact*.go, outward.go, amend*.go, suppose.go: what would be otherwise
//   - dates.go, sequences.go, fate.go, settle.go, due.go, ahead.go: dates of records
//   - could*.go, bundle.go, inert.go, turning.go: what could be, what does nothing
package engine
