package worldfile

import (
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// The builders below make the fields that most records have.

func textField[T any](name string, required bool, at func(*T) *string) field[T] {
	return field[T]{name, required,
		func(r *reader, n *node, x *T) { *at(x) = r.text(n) },
		func(w *writer, x *T) (tree, bool) { return leaf(*at(x)), *at(x) != "" }, "text"}
}

func idField[T any](at func(*T) *string) field[T] {
	return field[T]{"id", true,
		func(r *reader, n *node, x *T) { *at(x) = r.id(n) },
		func(w *writer, x *T) (tree, bool) { return leaf(*at(x)), true }, takesID}
}

func refField[T any](name, kind string, required bool, at func(*T) *string) field[T] {
	return field[T]{name, required,
		func(r *reader, n *node, x *T) { *at(x) = r.ref(n, kind) },
		func(w *writer, x *T) (tree, bool) { return leaf(*at(x)), *at(x) != "" }, "the id of a " + kind}
}

func refsField[T any](name, kind string, at func(*T) *[]string) field[T] {
	return field[T]{name, false,
		func(r *reader, n *node, x *T) {
			*at(x) = nil
			for i := range r.list(n) {
				*at(x) = append(*at(x), r.ref(&n.values[i], kind))
			}
		},
		func(w *writer, x *T) (tree, bool) { return words(*at(x)), len(*at(x)) > 0 }, "ids, each of a " + kind}
}

func words(ss []string) tree {
	t := tree{kind: sequence}
	for _, s := range ss {
		t.list = append(t.list, leaf(s))
	}
	return t
}

// boolField is left out of what is written while it has its start value.
func boolField[T any](name string, start bool, at func(*T) *bool) field[T] {
	return field[T]{name, false,
		func(r *reader, n *node, x *T) { *at(x) = r.bool(n) },
		func(w *writer, x *T) (tree, bool) { return yesNo(*at(x)), *at(x) != start }, "yes or no; " + yesNo(start).text + " where it is absent"}
}

func yesNo(b bool) tree {
	if b {
		return leaf("yes")
	}
	return leaf("no")
}

// wordField reads one of a few words; an empty word may not be written.
func wordField[T any](name, what string, required, always bool, wordList []string, get func(*T) int, set func(*T, int)) field[T] {
	return field[T]{name, required,
		func(r *reader, n *node, x *T) { set(x, r.word(n, what, wordList)) },
		func(w *writer, x *T) (tree, bool) { return leaf(wordList[get(x)]), always || get(x) != 0 }, oneOf(wordList)}
}

func momentField[T any](name string, end bool, absent moment.Moment, at func(*T) *moment.Moment) field[T] {
	return field[T]{name, false,
		func(r *reader, n *node, x *T) { *at(x) = r.moment(n, end) },
		func(w *writer, x *T) (tree, bool) {
			if *at(x) == absent {
				return tree{}, false
			}
			return w.moment(*at(x), end), true
		}, takesMoment}
}

func addressField[T any](name string, required bool, at func(*T) *addr.Address) field[T] {
	return field[T]{name, required,
		func(r *reader, n *node, x *T) { *at(x) = r.address(n) },
		func(w *writer, x *T) (tree, bool) { return leaf(at(x).String()), !at(x).IsZero() }, "an address"}
}

func settingsField[T any](layer catalogue.Layers, what string, at func(*T) *[]world.Setting) field[T] {
	return field[T]{"rules", false,
		func(r *reader, n *node, x *T) { *at(x) = r.settings(n, layer, what) },
		func(w *writer, x *T) (tree, bool) { return settingsTree(*at(x)) }, "values, as {RULE: VALUE}, of rules that can be set at " + what}
}

func daysField[T any](name string, at func(*T) *catalogue.Value) field[T] {
	scale := catalogue.Scale{Shape: catalogue.Days}
	return field[T]{name, false,
		func(r *reader, n *node, x *T) {
			s, _ := r.scalar(n)
			v, err := scale.Parse(s)
			if err != nil {
				text := err.Error()
				if !strings.HasSuffix(name, "_days") { // a number of something else
					text = strings.Replace(text, "number of days", "number", 1)
				}
				r.at(n, "%s: %s", name, text)
			}
			*at(x) = v
		},
		func(w *writer, x *T) (tree, bool) { return leaf(scale.Format(*at(x))), *at(x) != catalogue.Unset }, "a whole number, or none"}
}

func flags[T any](name, what string, wordList []string, required bool, get func(*T) uint, set func(*T, uint)) field[T] {
	return field[T]{name, required,
		func(r *reader, n *node, x *T) {
			var v uint
			for i := range r.list(n) {
				v |= 1 << r.word(&n.values[i], what, wordList)
			}
			set(x, v)
		},
		func(w *writer, x *T) (tree, bool) {
			t := tree{kind: sequence}
			for i, s := range wordList {
				if get(x)&(1<<i) != 0 {
					t.list = append(t.list, leaf(s))
				}
			}
			return t, len(t.list) > 0
		}, "some of " + strings.Join(wordList, ", ")}
}

func partyRefsField[T any](at func(*T) *[]world.PartyRef) field[T] {
	return field[T]{"parties", false,
		func(r *reader, n *node, x *T) {
			refs := []world.PartyRef{}
			for i := range r.list(n) {
				refs = append(refs, r.partyRef(&n.values[i]))
			}
			*at(x) = refs
		},
		func(w *writer, x *T) (tree, bool) {
			t := tree{kind: sequence}
			for _, p := range *at(x) {
				t.list = append(t.list, leaf(p.String()))
			}
			return t, *at(x) != nil
		}, "outsiders: addresses, partner:ID, domain:NAME, group:ID"}
}

func (r *reader) partyRef(n *node) world.PartyRef {
	s, ok := r.scalar(n)
	if !ok {
		return world.PartyRef{}
	}
	kind, rest, cut := strings.Cut(s, ":")
	part := *n
	part.text = rest
	switch {
	case cut && kind == "partner":
		return world.PartyRef{Partner: r.ref(&part, "partner")}
	case cut && kind == "group":
		return world.PartyRef{Group: r.ref(&part, "group")}
	case cut && kind == "domain":
		return world.PartyRef{Domain: r.domain(&part)}
	}
	return world.PartyRef{Address: r.address(n)}
}

func (r *reader) resource(n *node) world.Resource {
	s, ok := r.scalar(n)
	if !ok {
		return world.Resource{}
	}
	kind, id, cut := strings.Cut(s, ":")
	k, known := catalogue.ParseResourceKind(kind)
	if !cut || !known || !(k.IsItem() || k == catalogue.Space) {
		r.at(n, "%q is no space or item; write kind:id, as space:loan-dossier or folder:plans", s)
		return world.Resource{}
	}
	part := *n
	part.text = id
	r.ref(&part, kind)
	return world.Resource{Kind: k, ID: id}
}

func (r *reader) entry(n *node) world.Entry {
	e := world.Entry{}
	if n.kind == scalar {
		e.Domain = r.domain(n)
		return e
	}
	object(r, n, "a domain", entryFields, &e)
	return e
}

var entryFields = []field[world.Entry]{
	{"name", true, func(r *reader, n *node, x *world.Entry) { x.Domain = r.domain(n) }, nil, "a domain"},
	{"subdomains", false, func(r *reader, n *node, x *world.Entry) { x.Subdomains = r.bool(n) }, nil,
		"yes or no: whether it takes those below along"},
	{"look_alike", false, func(r *reader, n *node, x *world.Entry) { x.LookAlike = r.bool(n) }, nil,
		"yes: it is known to look like another one"},
}

func entryTree(e world.Entry) tree {
	if !e.Subdomains && !e.LookAlike {
		return leaf(e.Domain.String())
	}
	t := tree{kind: mapping}
	t.set("name", leaf(e.Domain.String()))
	if e.Subdomains {
		t.set("subdomains", leaf("yes"))
	}
	if e.LookAlike {
		t.set("look_alike", leaf("yes"))
	}
	return t
}

func entriesTree(es []world.Entry) tree {
	t := tree{kind: sequence}
	for _, e := range es {
		t.list = append(t.list, entryTree(e))
	}
	return t
}

func textsField[T any](name string, at func(*T) *[]string) field[T] {
	return field[T]{name, false,
		func(r *reader, n *node, x *T) {
			for i := range r.list(n) {
				*at(x) = append(*at(x), r.text(&n.values[i]))
			}
		},
		func(w *writer, x *T) (tree, bool) { return words(*at(x)), len(*at(x)) > 0 }, "a list of texts"}
}
