// Package check reads a list of addresses that somebody wants to invite and
// says of each whether that would work and everything that stands in the way.
// It knows nothing of files or networks: lines come in one by one.
package check
