// Package operations says of every operation of the contract who may call it and how it stands to
// drafts. The table is written from the extensions of the OpenAPI document (make generate), so that
// the server's guard, the client, the console and the docs follow one list:
//
//	x-roles          who may call it; anybody needs no sign-in
//	x-draft          policy, ask, preview or never; of GET, ask where nothing is said
//	x-policy-where   it changes policy only where the parameter {where} begins with this
//	x-weighs-itself  it shows its own impact, and is not made a draft of one change
//	x-body           list: a file or a list, long, and read as it comes
//	x-shown-once     its answer holds what is shown once
//	x-often          it is refused where it is called too often (429)
//	x-before-factor  it may be called before a second factor that has to be is set up
//	x-fresh          whoever calls it has proved a short while ago that it is they; what changes policy at once does so, too
package operations

import (
	"net/url"
	"slices"
	"strings"
)

// Draft is how an operation stands to drafts.
type Draft string

// How operations stand to drafts.
const (
	Policy  Draft = "policy"  // it changes policy: in a draft it becomes an edit
	Ask     Draft = "ask"     // it changes nothing, or the draft itself: in a draft it is answered as that would make it
	Preview Draft = "preview" // it changes at once; its preview may be asked within a draft
	Never   Draft = "never"   // it changes at once
)

// Anybody is the role of operations that need no sign-in.
const Anybody = "anybody"

// Operation is one operation of the contract.
type Operation struct {
	ID          string
	Method      string
	Pattern     string // the path, with {parameters}
	Summary     string
	Roles       []string
	Draft       Draft
	PolicyWhere string
	WeighsSelf  bool
	List        bool
	ShownOnce   bool
	Often       bool
	// BeforeFactor says that it is for those, too, who have to set up a second factor first.
	BeforeFactor bool
	// Fresh says that whoever calls it has to have proved a short while ago that it is they.
	Fresh bool
}

// Key names an operation as METHOD pattern.
func (o *Operation) Key() string { return o.Method + " " + o.Pattern }

// Open reports whether it needs no sign-in.
func (o *Operation) Open() bool { return o.Has(Anybody) }

// Has reports whether a role may call it.
func (o *Operation) Has(role string) bool { return slices.Contains(o.Roles, role) }

// NeedsFresh reports whether one request has to come from somebody who proved a short while ago that it is they: what is marked so, and
// what publishes policy. where and preview are as for InDraft; in says that it is within a draft.
func (o *Operation) NeedsFresh(where string, preview, in bool) bool {
	return o.Fresh || !in && o.InDraft(where, preview) == Policy
}

// InDraft says how one request of this operation stands to drafts. where is its parameter of that
// name, preview whether it asks for a preview alone.
func (o *Operation) InDraft(where string, preview bool) Draft {
	switch {
	case o.Draft == Policy && !strings.HasPrefix(where, o.PolicyWhere):
		return Never
	case preview && (o.Draft == Policy || o.Draft == Preview):
		return Ask
	case o.Draft == Preview:
		return Never
	}
	return o.Draft
}

var byKey = func() map[string]*Operation {
	m := make(map[string]*Operation, len(all))
	for i := range all {
		m[all[i].Key()] = &all[i]
	}
	return m
}()

// All lists every operation, in the order of the contract.
func All() []Operation { return all }

// ByPattern returns the operation with a method and a pattern, or nil.
func ByPattern(method, pattern string) *Operation { return byKey[method+" "+pattern] }

// Methods lists the methods that a path takes, in the order of the alphabet.
func Methods(u *url.URL) (out []string) {
	for _, m := range []string{"DELETE", "GET", "PATCH", "POST", "PUT"} {
		if o, _ := Match(m, u); o != nil {
			out = append(out, m)
		}
	}
	return out
}

// Match finds the operation that a request calls and its parameter {where}; nil for none. Where
// two patterns fit, the one with more of its segments written out does.
func Match(method string, u *url.URL) (o *Operation, where string) {
	parts := strings.Split(strings.TrimPrefix(u.EscapedPath(), "/"), "/")
	best := -1
	for i := range all {
		x := &all[i]
		if x.Method != method {
			continue
		}
		pattern := strings.Split(strings.TrimPrefix(x.Pattern, "/"), "/")
		if len(pattern) != len(parts) {
			continue
		}
		same, at := 0, ""
		for k, p := range pattern {
			if strings.HasPrefix(p, "{") {
				if p == "{where}" {
					at, _ = url.PathUnescape(parts[k])
				}
			} else if p == parts[k] {
				same++
			} else {
				same = -1
				break
			}
		}
		if same > best {
			o, where, best = x, at, same
		}
	}
	return
}
