package worldfile

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

var giftFields = []field[world.Gift]{
	{"resource", true, func(r *reader, n *node, x *world.Gift) { x.Resource = r.resource(n) },
		func(w *writer, x *world.Gift) (tree, bool) { return leaf(x.Resource.String()), true }, takesResource},
	roleField("role", func(x *world.Gift) *catalogue.Role { return &x.Role }),
}

func roleField[T any](name string, at func(*T) *catalogue.Role) field[T] {
	roles := []string{"view", "contribute", "manage"}
	return field[T]{name, true,
		func(r *reader, n *node, x *T) { *at(x) = catalogue.Role(r.word(n, "role", roles) + 1) },
		func(w *writer, x *T) (tree, bool) { return leaf(at(x).String()), true }, oneOf(roles)}
}

// questionsField is a list of at most ten questions.
func questionsField[T any](name string, at func(*T) *[]string) field[T] {
	f := textsField(name, at)
	read := f.read
	f.read = func(r *reader, n *node, x *T) {
		read(r, n, x)
		if len(*at(x)) > 10 {
			r.at(n, "these are %d questions; at most 10 are asked", len(*at(x)))
		}
		for _, q := range *at(x) {
			if strings.TrimSpace(q) == "" || len(q) > 300 {
				r.at(n, "%q is no question; write one in 1 to 300 letters", q)
			}
		}
	}
	return f
}

// optionalRole is a role that may be left out.
func optionalRole[T any](name string, at func(*T) *catalogue.Role) field[T] {
	f := roleField(name, at)
	f.required = false
	write := f.write
	f.write = func(w *writer, x *T) (tree, bool) {
		if *at(x) == catalogue.NoRole {
			return tree{}, false
		}
		return write(w, x)
	}
	return f
}

var bundleFields = []field[world.Bundle]{
	idField(func(x *world.Bundle) *string { return &x.ID }),
	textField("name", true, func(x *world.Bundle) *string { return &x.Name }),
	{"gives", true, func(r *reader, n *node, x *world.Bundle) {
		for i := range r.list(n) {
			var g world.Gift
			object(r, &n.values[i], "a gift", giftFields, &g)
			x.Gives = append(x.Gives, g)
		}
		if len(x.Gives) == 0 && !r.older {
			r.at(n, "a bundle gives something: a resource and a role")
		}
	}, func(w *writer, x *world.Bundle) (tree, bool) {
		t := tree{kind: sequence}
		for i := range x.Gives {
			t.list = append(t.list, record(w, giftFields, &x.Gives[i]))
		}
		return t, true
	}, "entries of " + fieldsIn(giftFields)},
	{"who", false, func(r *reader, n *node, x *world.Bundle) { object(r, n, "who", whoFields, x) },
		func(w *writer, x *world.Bundle) (tree, bool) {
			t := record(w, whoFields, x)
			return t, len(t.list) > 0
		}, "who may ask for it: " + fieldsIn(whoFields)},
	boolField("closed", false, func(x *world.Bundle) *bool { return &x.Closed }),
	{"approval", false, func(r *reader, n *node, x *world.Bundle) {
		for i := range r.list(n) {
			v := &n.values[i]
			s, _ := r.scalar(v)
			if !slices.Contains(Approvers, s) {
				s = r.ref(v, "person")
			}
			if slices.Contains(x.Approval, s) {
				r.at(v, "%s approves it already, a step before", s)
			}
			x.Approval = append(x.Approval, s)
		}
	}, func(w *writer, x *world.Bundle) (tree, bool) { return words(x.Approval), len(x.Approval) > 0 },
		"who approves it, in order: " + strings.Join(Approvers, ", ") + " or the id of a person; a keeper where it is absent"},
	questionsField("questions", func(x *world.Bundle) *[]string { return &x.Questions }),
	daysField("term_days", func(x *world.Bundle) *catalogue.Value { return &x.TermDays }),
	daysField("review_days", func(x *world.Bundle) *catalogue.Value { return &x.ReviewDays }),
	refsField("not_with", "bundle", func(x *world.Bundle) *[]string { return &x.NotWith }),
	wordField("extend", "way to extend", false, false, []string{"approved", "silent"}, func(x *world.Bundle) int {
		if x.Silent {
			return 1
		}
		return 0
	}, func(x *world.Bundle, i int) { x.Silent = i == 1 }),
}

// Approvers are those of a bundle who are no persons by name.
var Approvers = []string{world.BySponsor, world.ByOwner, world.ByKeeper, world.ByAdministrator}

var holdingFields = []field[world.Holding]{
	{"party", true, func(r *reader, n *node, x *world.Holding) {
		if x.Party = r.address(n); x.Party.IsNewcomer() {
			r.at(n, "%s stands for typical newcomers and holds nothing", n.text)
		}
	}, func(w *writer, x *world.Holding) (tree, bool) { return leaf(x.Party.String()), true }, "the address that holds it"},
	refField("bundle", "bundle", true, func(x *world.Holding) *string { return &x.Bundle }),
	momentField("from", false, moment.Always, func(x *world.Holding) *moment.Moment { return &x.From }),
	momentField("until", true, moment.Never, func(x *world.Holding) *moment.Moment { return &x.Until }),
	refField("sponsor", "person", false, func(x *world.Holding) *string { return &x.Sponsor }),
	lessField(func(x *world.Holding) *[]world.Gift { return &x.Less }),
	momentField("reviewed", false, moment.Always, func(x *world.Holding) *moment.Moment { return &x.Reviewed }),
	momentField("waits", false, 0, func(x *world.Holding) *moment.Moment { return &x.Waits }),
}

var lessFields = []field[world.Gift]{
	{"resource", true, func(r *reader, n *node, x *world.Gift) { x.Resource = r.resource(n) },
		func(w *writer, x *world.Gift) (tree, bool) { return leaf(x.Resource.String()), true }, takesResource},
	wordField("role", "role", false, false, []string{"none", "view", "contribute", "manage"}, func(x *world.Gift) int { return int(x.Role) },
		func(x *world.Gift, i int) { x.Role = catalogue.Role(i) }),
}

func newHolding() world.Holding {
	return world.Holding{From: moment.Always, Until: moment.Never, Reviewed: moment.Always}
}

var whoFields = []field[world.Bundle]{
	refsField("partners", "partner", func(x *world.Bundle) *[]string { return &x.Partners }),
	boolField("others", false, func(x *world.Bundle) *bool { return &x.Others }),
}

var expectationFields = []field[world.Expectation]{
	idField(func(x *world.Expectation) *string { return &x.ID }),
	{"party", true, func(r *reader, n *node, x *world.Expectation) { x.Party = r.expectedParty(n) },
		func(w *writer, x *world.Expectation) (tree, bool) { return leaf(x.Party), true }, takesExpected},
	{"action", true, func(r *reader, n *node, x *world.Expectation) {
		s, _ := r.scalar(n)
		x.Action = s
		if act, ok := catalogue.ActionByName(s); ok {
			if act.Address && act.Asks[catalogue.Record] != nil {
				r.at(n, "%s is what people of ours and guests do to somebody outside; expect what that opens, as spaces.enter or files.open", s)
			}
		} else if r.older && onceAnAction(s) { // it is kept, and judged as unknown
			r.odd = append(r.odd, fmt.Sprintf("line %d: there is no action %s, and what is expected of it says nothing", n.line-r.from, s))
		} else if !validActionPattern(s) {
			more := ""
			if near := catalogue.NearestAction(s); near != "" {
				more = "; do you mean " + near + "?"
			}
			r.at(n, "%q is no action; write one as files.open, files.* or *%s", s, more)
		}
	}, func(w *writer, x *world.Expectation) (tree, bool) { return leaf(x.Action), true }, "an action, as files.open; files.* or *"},
	{"resource", true, func(r *reader, n *node, x *world.Expectation) {
		if s, ok := r.scalar(n); ok && s != "*" {
			kind, id, cut := strings.Cut(s, ":")
			k, known := catalogue.ParseResourceKind(kind)
			part := *n
			part.text = id
			switch {
			case !cut || !known || k == catalogue.OurDirectory && id != "ours":
				r.at(n, "%q is nothing that is reached; write kind:id, as space:loan-dossier, folder:plans or person:d.ekwinter, or *", s)
			case k == catalogue.OurDirectory:
			case k == catalogue.Mailbox || k == catalogue.Calendar:
				r.ref(&part, "person")
			default:
				r.ref(&part, kind)
			}
		}
		x.Resource = n.text
	}, func(w *writer, x *world.Expectation) (tree, bool) { return leaf(x.Resource), true },
		"kind:id, of which a space is meant with all in it; or *"},
	{"expect", true, func(r *reader, n *node, x *world.Expectation) {
		if n.kind != mapping {
			x.Expect = world.Expect{Sort: world.ExpectSort(r.word(n, "expectation", world.ExpectSortNames[:2]))}
			return
		}
		if len(n.keys) != 1 {
			r.at(n, "an expectation says one thing, as {only: [partner:ID]}; make another one for the other")
			return
		}
		object(r, n, "what is expected", expectFields, &x.Expect)
	}, func(w *writer, x *world.Expectation) (tree, bool) {
		if x.Expect.Sort <= world.AlwaysSo {
			return leaf(world.ExpectSortNames[x.Expect.Sort]), true
		}
		return record(w, expectFields, &x.Expect), true
	}, "never, always, or one of " + fieldsIn(expectFields)},
	boolField("could", false, func(x *world.Expectation) *bool { return &x.Could }),
	boolField("tell", false, func(x *world.Expectation) *bool { return &x.Tell }),
	refField("owner", "person", false, func(x *world.Expectation) *string { return &x.Owner }),
	textField("why", false, func(x *world.Expectation) *string { return &x.Why }),
}

var expectFields = []field[world.Expect]{
	{"only", false, func(r *reader, n *node, x *world.Expect) {
		x.Sort = world.OnlyParties
		for i := range r.list(n) {
			x.Only = append(x.Only, r.expectedParty(&n.values[i]))
		}
		if len(x.Only) == 0 {
			r.at(n, "only names at least one party; where nobody may, write never")
		}
	}, func(w *writer, x *world.Expect) (tree, bool) { return words(x.Only), x.Sort == world.OnlyParties }, "parties"},
	{"only_until", false, func(r *reader, n *node, x *world.Expect) { x.Sort, x.Until = world.OnlyUntil, r.moment(n, true) },
		func(w *writer, x *world.Expect) (tree, bool) {
			return w.moment(x.Until, true), x.Sort == world.OnlyUntil
		}, "a day"},
	{"at_most", false, func(r *reader, n *node, x *world.Expect) {
		s, _ := r.scalar(n)
		v, err := strconv.Atoi(s)
		if err != nil || v < 0 || strconv.Itoa(v) != s {
			r.at(n, "%q is no number of parties; write one as 25", s)
		}
		x.Sort, x.AtMost = world.AtMost, v
	}, func(w *writer, x *world.Expect) (tree, bool) {
		return leaf(strconv.Itoa(x.AtMost)), x.Sort == world.AtMost
	}, "a number of parties"},
	{"condition", false, func(r *reader, n *node, x *world.Expect) {
		x.Sort = world.OnCondition
		for i := range r.list(n) {
			s, _ := r.scalar(&n.values[i])
			if _, ok := catalogue.ParseCondition(s); !ok {
				r.at(&n.values[i], "%q is no condition; write some of %s", s, strings.Join((^catalogue.Condition(0)).Names(), ", "))
			}
			x.Conditions = append(x.Conditions, s)
		}
		if len(x.Conditions) == 0 {
			r.at(n, "condition names at least one")
		}
	}, func(w *writer, x *world.Expect) (tree, bool) {
		return words(x.Conditions), x.Sort == world.OnCondition
	}, "names of conditions, as sign_in"},
}

const takesExpected = "everybody, an address, partner:ID, domain:NAME, kind:KIND or group:ID"

// expectedParty reads whom an expectation is about. In files of old * stands for everybody.
func (r *reader) expectedParty(n *node) string {
	s, ok := r.scalar(n)
	kind, isKind := strings.CutPrefix(s, "kind:")
	switch {
	case !ok:
	case s == "*" || s == world.Everybody:
		return world.Everybody
	case isKind:
		if !slices.Contains(world.PartyKinds, kind) {
			r.at(n, "%q is no kind of party; write kind: and one of %s", kind, strings.Join(world.PartyKinds, ", "))
		}
	case !strings.Contains(s, ":") && !strings.Contains(s, "@"):
		r.at(n, "%q is no party; write %s", s, takesExpected)
	default:
		return r.partyRef(n).String()
	}
	return s
}

// validActionPattern reports whether a text stands for actions: all, or those of a service.
func validActionPattern(s string) bool {
	service, all := strings.CutSuffix(s, ".*")
	return s == "*" || all && isService(service)
}

func isService(s string) bool {
	for sv := range catalogue.Service(catalogue.NumServices) {
		if sv.String() == s {
			return true
		}
	}
	return false
}

// onceAnAction reports whether a text was taken for an action by earlier versions, which looked at the service alone.
func onceAnAction(s string) bool {
	service, verb, cut := strings.Cut(s, ".")
	return cut && isService(service) && ValidID(verb)
}
