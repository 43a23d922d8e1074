// Package check reads a list of addresses that somebody wants to invite and
// says of each whether that would work and everything that stands in the way.
// It knows nothing of files or networks: lines come in one by one.
//
// Lists come as people have them: addresses on lines, separated by commas or
// semicolons, with names before angle brackets, or as one column of a sheet
// (Split). Each address gets exactly one verdict: yes, no with every cause,
// already a member, twice in the list, one of ours, or no address. A list of a
// hundred thousand takes some seconds and 16 bytes a line.
package check
