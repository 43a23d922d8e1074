// Package world holds the records of the model: what an organisation's policy
// and inventory say, with values that were parsed where they entered.
//
// A World is what a file holds, or the service's database at one moment. The
// package checks that records fit together; it computes no decision and does no
// input or output.
//
// # Two halves
//
// Policy is what is weighed before it counts: rules, partners, bars,
// exceptions, bundles, expectations. A change of it is drafted, its impact is
// computed, perhaps a second person confirms it, and it is published as a
// revision. Inventory is what there is: people, spaces, guests, grants, links.
// A change of it has a reason and a journal entry and counts at once.
//
// # Layers in a record
//
// Partners, exceptions, spaces, items and meetings may each say values of rules
// (Setting). A value that is looser than the organisation's limit is kept and
// does not count: it is held back, and comes to count when somebody releases
// it. HoldBack does that to a list; Merge does it to a whole world.
//
// # Merging
//
// Merge lays a part over a whole. It is what loading a file, applying a draft
// and publishing have in common: an entry with a key that is there replaces it,
// one without is added, and what a part leaves out stays. Neither side is
// changed, and what is not touched is shared.
//
// # Absent dates
//
// A beginning that is not said is moment.Always, an end moment.Never. So every
// comparison of dates works without asking whether there is one.
//
// # Adding a kind of record
//
// A type and a list of it in Policy or Inventory here, its fields and its row in
// the file format (package worldfile): docs/architecture.md says where, and
// tests fail at each place that is forgotten.
package world
