// Package finding notices in policy and inventory what somebody should decide
// about: what contradicts itself, what does nothing, what leaves, what nobody
// answers for. It needs no history and changes nothing.
package finding
