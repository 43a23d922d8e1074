// Package finding notices in policy and inventory what somebody should decide
// about: what contradicts itself, what does nothing, what leaves, what nobody
// answers for. It needs no history and changes nothing.
//
// A finding has a kind, what it is about, a sentence and, where it helps,
// numbers: *report_without_licence*, maren@ilvane.example and report:visits,
// "maren@ilvane.example was given report:visits, and no licence route counts
// there." Each kind says once what it means and what to do (Kinds). When a
// finding came and went, and who accepted it until when, is kept by the service
// under the finding's ID.
//
// There are two ways to ask, which are held together by a test on random
// worlds:
//
//   - Find looks through a world, as for a file.
//   - Look looks through a snapshot, in pieces on all processors, and keeps what
//     it found by what it is about; Next goes on to the snapshots that follow and
//     looks again at what changed alone.
//
// A new kind is an entry of kinds, a method of finder that adds it, and a call of
// that method where what it rests on is looked at: parties for what concerns
// one party, partner for one partner, place for one place, above for what rests
// on all of them together.
package finding
