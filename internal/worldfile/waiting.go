package worldfile

import (
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// partsField is a list of entries that belong to another.
func partsField[T, E any](name, what, says string, fields []field[E], fresh func() E, at func(*T) *[]E) field[T] {
	return field[T]{name, false,
		func(r *reader, n *node, x *T) {
			for i := range r.list(n) {
				e := fresh()
				object(r, &n.values[i], what, fields, &e)
				*at(x) = append(*at(x), e)
			}
		},
		func(w *writer, x *T) (tree, bool) { return listOf(w, fields, *at(x)), len(*at(x)) > 0 }, says + "entries of " + fieldsIn(fields)}
}

// lessField is what of a bundle is given less.
func lessField[T any](at func(*T) *[]world.Gift) field[T] {
	return partsField("less", "what is given less", "what of the bundle is left out or narrower: ", lessFields,
		func() world.Gift { return world.Gift{Role: catalogue.NoRole} }, at)
}

var requestFields = []field[world.BundleRequest]{
	idField(func(x *world.BundleRequest) *string { return &x.ID }),
	refField("bundle", "bundle", true, func(x *world.BundleRequest) *string { return &x.Bundle }),
	addressField("address", true, func(x *world.BundleRequest) *addr.Address { return &x.Address }),
	textField("by", true, func(x *world.BundleRequest) *string { return &x.By }),
	refField("person", "person", false, func(x *world.BundleRequest) *string { return &x.Person }),
	refField("sponsor", "person", false, func(x *world.BundleRequest) *string { return &x.Sponsor }),
	textField("language", false, func(x *world.BundleRequest) *string { return &x.Language }),
	textsField("asked", func(x *world.BundleRequest) *[]string { return &x.Asked }),
	textsField("said", func(x *world.BundleRequest) *[]string { return &x.Said }),
	textField("purpose", true, func(x *world.BundleRequest) *string { return &x.Purpose }),
	momentField("until", true, moment.Never, func(x *world.BundleRequest) *moment.Moment { return &x.Until }),
	momentField("made", false, 0, func(x *world.BundleRequest) *moment.Moment { return &x.Made }),
	lessField(func(x *world.BundleRequest) *[]world.Gift { return &x.Less }),
	partsField("steps", "a step of approving", "who is to approve it, in order: ", stepFields, zero[world.ApprovalStep],
		func(x *world.BundleRequest) *[]world.ApprovalStep { return &x.Steps }),
	refsField("never", "person", func(x *world.BundleRequest) *[]string { return &x.Never }),
	daysField("reminded", func(x *world.BundleRequest) *catalogue.Value { return &x.Reminded }),
}

var stepFields = []field[world.ApprovalStep]{
	textField("by", true, func(x *world.ApprovalStep) *string { return &x.By }),
	decidersField("who", func(x *world.ApprovalStep) *[]string { return &x.Who }),
	textField("given", false, func(x *world.ApprovalStep) *string { return &x.Given }),
	momentField("at", false, 0, func(x *world.ApprovalStep) *moment.Moment { return &x.At }),
	textField("for", false, func(x *world.ApprovalStep) *string { return &x.For }),
}

// decidersField is who may decide: people, or a role.
func decidersField[T any](name string, at func(*T) *[]string) field[T] {
	f := textsField(name, at)
	read := f.read
	f.read = func(r *reader, n *node, x *T) {
		read(r, n, x)
		for i, w := range *at(x) {
			checkDecider(r, &n.values[i], w)
		}
	}
	f.takes = "owner:ID for a person, keeper or administrator"
	return f
}

func checkDecider(r *reader, n *node, w string) {
	id, person := strings.CutPrefix(w, "owner:")
	if person {
		part := *n
		part.text = id
		r.ref(&part, "person")
	} else if w != world.ByKeeper && w != world.ByAdministrator {
		r.at(n, "%q is nobody who decides; write owner:ID for a person, keeper or administrator", w)
	}
}

var roundFields = []field[world.Round]{
	idField(func(x *world.Round) *string { return &x.ID }),
	textField("name", true, func(x *world.Round) *string { return &x.Name }),
	refField("partner", "partner", false, func(x *world.Round) *string { return &x.Partner }),
	refField("space", "space", false, func(x *world.Round) *string { return &x.Space }),
	refField("bundle", "bundle", false, func(x *world.Round) *string { return &x.Bundle }),
	textField("state", false, func(x *world.Round) *string { return &x.State }),
	textField("origin", false, func(x *world.Round) *string { return &x.Origin }),
	refField("sponsor", "person", false, func(x *world.Round) *string { return &x.Sponsor }),
	textField("needs", false, func(x *world.Round) *string { return &x.Needs }),
	momentField("until", true, 0, func(x *world.Round) *moment.Moment { return &x.Until }),
	momentField("made", false, 0, func(x *world.Round) *moment.Moment { return &x.Made }),
	textField("why", true, func(x *world.Round) *string { return &x.Why }),
	textField("by", true, func(x *world.Round) *string { return &x.By }),
	daysField("reminded", func(x *world.Round) *catalogue.Value { return &x.Reminded }),
	partsField("lines", "a line of a round", "what it asks: ", roundLineFields,
		func() world.RoundLine { return world.RoundLine{From: moment.Always, State: world.ReviewStates[0]} },
		func(x *world.Round) *[]world.RoundLine { return &x.Lines }),
}

var roundLineFields = []field[world.RoundLine]{
	{"party", true, func(r *reader, n *node, x *world.RoundLine) {
		x.Party, _ = r.scalar(n)
		if !strings.HasPrefix(x.Party, "group:") { // a group may be gone by now, an address always is one
			p := r.partyRef(n)
			x.Party = p.String()
		}
	}, func(w *writer, x *world.RoundLine) (tree, bool) { return leaf(x.Party), true },
		"who holds it: an address, partner:ID, domain:NAME or group:ID"},
	textField("resource", true, func(x *world.RoundLine) *string { return &x.Resource }),
	roleField("role", func(x *world.RoundLine) *catalogue.Role { return &x.Role }),
	momentField("from", false, moment.Always, func(x *world.RoundLine) *moment.Moment { return &x.From }),
	textField("bundle", false, func(x *world.RoundLine) *string { return &x.Bundle }),
	{"reviewer", true, func(r *reader, n *node, x *world.RoundLine) {
		x.Reviewer, _ = r.scalar(n)
		checkDecider(r, n, x.Reviewer)
	}, func(w *writer, x *world.RoundLine) (tree, bool) { return leaf(x.Reviewer), true }, "who is asked: owner:ID for a person, or keeper"},
	wordField("state", "state", false, false, world.ReviewStates,
		func(x *world.RoundLine) int { return max(0, slices.Index(world.ReviewStates, x.State)) },
		func(x *world.RoundLine, i int) { x.State = world.ReviewStates[max(0, i)] }),
	textField("by", false, func(x *world.RoundLine) *string { return &x.By }),
	momentField("at", false, 0, func(x *world.RoundLine) *moment.Moment { return &x.At }),
	textField("why", false, func(x *world.RoundLine) *string { return &x.Why }),
	momentField("until", true, 0, func(x *world.RoundLine) *moment.Moment { return &x.Until }),
	wordField("narrowed", "role", false, false, []string{"none", "view", "contribute", "manage"},
		func(x *world.RoundLine) int { return int(x.Narrowed) }, func(x *world.RoundLine, i int) { x.Narrowed = catalogue.Role(max(0, i)) }),
	textField("instead", false, func(x *world.RoundLine) *string { return &x.Instead }),
}
