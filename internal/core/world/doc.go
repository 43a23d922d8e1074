// Package world holds the records of the model: what an organisation's policy
// and inventory say, with values that were parsed where they entered.
//
// A World is what a file holds, or the service's database at one moment. The
// package checks that records fit together; it computes no decision and does no
// input or output.
package world
