// Package worldfile reads and writes the file format of model §6: policy and
// inventory in YAML 1.2, and the same records as JSON, which is YAML too.
//
// Each record is one table of fields that both reading and writing follow.
// Reading is strict and all or nothing: whatever is wrong is refused with its
// line and column, together with everything else that is wrong. The package
// does no input or output; it takes and returns bytes.
//
// Where model §6 leaves room: an entry replaces the record of its id whole, but
// a partner without `stance` keeps its stances and a space without `items` keeps
// its items, which have lives of their own. A guest needs an address alone;
// without `since` the record always was, without `state` it is active.
package worldfile
