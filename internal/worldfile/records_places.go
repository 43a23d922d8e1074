package worldfile

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

var personFields = []field[world.Person]{
	idField(func(x *world.Person) *string { return &x.ID }),
	textField("name", false, func(x *world.Person) *string { return &x.Name }),
	addressField("address", false, func(x *world.Person) *addr.Address { return &x.Address }),
	refsField("groups", "group", func(x *world.Person) *[]string { return &x.Groups }),
	flags("roles", "role of a person", world.PersonRoleNames, false, func(x *world.Person) uint { return uint(x.Roles) },
		func(x *world.Person, v uint) { x.Roles = world.PersonRole(v) }),
	textField("language", false, func(x *world.Person) *string { return &x.Language }),
	momentField("left", false, 0, func(x *world.Person) *moment.Moment { return &x.Left }),
}

var groupFields = []field[world.Group]{
	idField(func(x *world.Group) *string { return &x.ID }),
	textField("name", false, func(x *world.Group) *string { return &x.Name }),
	{"parties", false, func(r *reader, n *node, x *world.Group) {
		for i := range r.list(n) {
			x.Parties = append(x.Parties, r.address(&n.values[i]))
		}
	}, func(w *writer, x *world.Group) (tree, bool) {
		t := tree{kind: sequence}
		for _, a := range x.Parties {
			t.list = append(t.list, leaf(a.String()))
		}
		return t, len(t.list) > 0
	}, "addresses"},
}

var itemKinds, itemKindNames = catalogue.ItemKinds(), namesOf(catalogue.ItemKinds())

func namesOf(kinds []catalogue.ResourceKind) (out []string) {
	for _, k := range kinds {
		out = append(out, k.String())
	}
	return
}

var itemFields = []field[world.Item]{
	idField(func(x *world.Item) *string { return &x.ID }),
	wordField("kind", "kind of item", true, true, itemKindNames, func(x *world.Item) int { return slices.Index(itemKinds, x.Kind) },
		func(x *world.Item, i int) { x.Kind = itemKinds[i] }),
	textField("name", false, func(x *world.Item) *string { return &x.Name }),
	boolField("private", false, func(x *world.Item) *bool { return &x.Private }),
	settingsField(catalogue.AtItem, "an item", func(x *world.Item) *[]world.Setting { return &x.Rules }),
}

var spaceFields = []field[world.Space]{
	idField(func(x *world.Space) *string { return &x.ID }),
	textField("name", false, func(x *world.Space) *string { return &x.Name }),
	wordField("kind", "kind of space", true, true, world.SpaceKindNames, func(x *world.Space) int { return int(x.Kind) },
		func(x *world.Space, i int) { x.Kind = world.SpaceKind(i) }),
	boolField("joinable", false, func(x *world.Space) *bool { return &x.Joinable }),
	optionalRole("joins_as", func(x *world.Space) *catalogue.Role { return &x.JoinsAs }),
	boolField("house_licence", false, func(x *world.Space) *bool { return &x.HouseLicence }),
	refsField("owners", "person", func(x *world.Space) *[]string { return &x.Owners }),
	{"members", false, func(r *reader, n *node, x *world.Space) {
		for i := range r.list(n) {
			v := &n.values[i]
			if len(v.text) > 6 && v.text[:6] == "group:" {
				part := *v
				part.text = v.text[6:]
				x.Members = append(x.Members, world.Member{Group: r.ref(&part, "group")})
			} else {
				x.Members = append(x.Members, world.Member{Person: r.ref(v, "person")})
			}
		}
	}, func(w *writer, x *world.Space) (tree, bool) {
		t := tree{kind: sequence}
		for _, m := range x.Members {
			t.list = append(t.list, leaf(m.String()))
		}
		return t, len(t.list) > 0
	}, "ids of people, and group:ID"},
	partyRefsField(func(x *world.Space) *[]world.PartyRef { return &x.Parties }),
	settingsField(catalogue.AtSpace, "a space", func(x *world.Space) *[]world.Setting { return &x.Rules }),
	{"items", false, func(r *reader, n *node, x *world.Space) {
		for i := range r.list(n) {
			it := world.Item{Space: x.ID}
			object(r, &n.values[i], "an item", itemFields, &it)
			r.once(&n.values[i], "item", it.ID)
			x.Items = append(x.Items, it)
			r.places[place("item:"+it.ID)] = [2]int{n.values[i].line - r.from, n.values[i].col}
		}
	}, func(w *writer, x *world.Space) (tree, bool) {
		t := tree{kind: sequence}
		for i := range x.Items {
			t.list = append(t.list, record(w, itemFields, &x.Items[i]))
		}
		return t, len(t.list) > 0
	}, "entries of " + fieldsIn(itemFields)},
}

var domainListFields = []field[world.DomainList]{
	idField(func(x *world.DomainList) *string { return &x.ID }),
	textField("name", false, func(x *world.DomainList) *string { return &x.Name }),
	domainsField("domains", func(x *world.DomainList) *[]addr.Domain { return &x.Domains }),
}

// domainsField reads a list of exact domains.
func domainsField[T any](name string, at func(*T) *[]addr.Domain) field[T] {
	return field[T]{name, false, func(r *reader, n *node, x *T) {
		for i := range r.list(n) {
			*at(x) = append(*at(x), r.domain(&n.values[i]))
		}
	}, func(w *writer, x *T) (tree, bool) {
		t := tree{kind: sequence}
		for _, d := range *at(x) {
			t.list = append(t.list, leaf(d.String()))
		}
		return t, len(t.list) > 0
	}, takesDomains}
}

var meetingFields = []field[world.Meeting]{
	idField(func(x *world.Meeting) *string { return &x.ID }),
	textField("name", false, func(x *world.Meeting) *string { return &x.Name }),
	refField("host", "person", true, func(x *world.Meeting) *string { return &x.Host }),
	refField("space", "space", false, func(x *world.Meeting) *string { return &x.Space }),
	domainsField("sign_in_domains", func(x *world.Meeting) *[]addr.Domain { return &x.SignInDomains }),
	refsField("sign_in_lists", "domain_list", func(x *world.Meeting) *[]string { return &x.SignInLists }),
	boolField("standing_room", false, func(x *world.Meeting) *bool { return &x.StandingRoom }),
	boolField("passcode", false, func(x *world.Meeting) *bool { return &x.Passcode }),
	textField("waiting_text", false, func(x *world.Meeting) *string { return &x.WaitingText }),
	wordField("repeats", "way to repeat", false, false, world.RepeatsNames, func(x *world.Meeting) int { return int(x.Repeats) },
		func(x *world.Meeting, i int) { x.Repeats = world.Repeats(i) }),
	settingsField(catalogue.AtItem, "a meeting", func(x *world.Meeting) *[]world.Setting { return &x.Rules }),
}

var guestFields = []field[world.Guest]{
	addressField("address", true, func(x *world.Guest) *addr.Address { return &x.Address }),
	textField("name", false, func(x *world.Guest) *string { return &x.Name }),
	refField("sponsor", "person", false, func(x *world.Guest) *string { return &x.Sponsor }),
	textField("purpose", false, func(x *world.Guest) *string { return &x.Purpose }),
	wordField("state", "state of a record", false, true, world.StateNames, func(x *world.Guest) int { return int(x.State) },
		func(x *world.Guest, i int) { x.State = world.State(i) }),
	textField("cause", false, func(x *world.Guest) *string { return &x.Cause }),
	momentField("state_since", false, moment.Always, func(x *world.Guest) *moment.Moment { return &x.StateSince }),
	flags("origins", "origin", world.OriginNames, false, func(x *world.Guest) uint { return uint(x.Origins) },
		func(x *world.Guest, v uint) { x.Origins = world.Origin(v) }),
	momentField("since", false, moment.Always, func(x *world.Guest) *moment.Moment { return &x.Since }),
	momentField("accepted", false, moment.Never, func(x *world.Guest) *moment.Moment { return &x.Accepted }),
	momentField("renewed", false, moment.Always, func(x *world.Guest) *moment.Moment { return &x.Renewed }),
	momentField("until", true, moment.Never, func(x *world.Guest) *moment.Moment { return &x.Until }),
	momentField("terms", false, moment.Never, func(x *world.Guest) *moment.Moment { return &x.Terms }),
	momentField("last_seen", false, moment.Always, func(x *world.Guest) *moment.Moment { return &x.LastSeen }),
	textField("language", false, func(x *world.Guest) *string { return &x.Language }),
	textField("location", false, func(x *world.Guest) *string { return &x.Location }),
	wordField("licence", "licence", false, false, world.LicenceNames, func(x *world.Guest) int { return int(x.Licence) },
		func(x *world.Guest, i int) { x.Licence = world.Licence(i) }),
	momentField("home_closed", false, 0, func(x *world.Guest) *moment.Moment { return &x.HomeClosed }),
	{"dates_from", false, func(r *reader, n *node, x *world.Guest) { x.DatesFrom = r.floor(n) },
		func(w *writer, x *world.Guest) (tree, bool) { return w.floor(x.DatesFrom), x.DatesFrom != 0 }, takesFloor},
	boolField("taken_over", false, func(x *world.Guest) *bool { return &x.TakenOver }),
}

var grantFields = []field[world.Grant]{
	{"party", true, func(r *reader, n *node, x *world.Grant) {
		p := r.partyRef(n)
		x.Address, x.Group, x.Partner, x.Domain = p.Address, p.Group, p.Partner, p.Domain
	}, func(w *writer, x *world.Grant) (tree, bool) { return leaf(x.Party()), true },
		"who holds it: an address, partner:ID, domain:NAME or group:ID"},
	{"resource", true, func(r *reader, n *node, x *world.Grant) {
		x.Resource = r.resource(n)
		if x.ToMany() && x.Resource.Kind.IsItem() {
			r.at(n, "%s as a whole is let into a space with everything in it, not into %q", x.Party(), n.text)
		}
	}, func(w *writer, x *world.Grant) (tree, bool) { return leaf(x.Resource.String()), true }, takesResource},
	roleField("role", func(x *world.Grant) *catalogue.Role { return &x.Role }),
	momentField("from", false, moment.Always, func(x *world.Grant) *moment.Moment { return &x.From }),
	momentField("until", true, moment.Never, func(x *world.Grant) *moment.Moment { return &x.Until }),
	refField("sponsor", "person", false, func(x *world.Grant) *string { return &x.Sponsor }),
	momentField("reviewed", false, moment.Always, func(x *world.Grant) *moment.Moment { return &x.Reviewed }),
	momentField("waits", false, 0, func(x *world.Grant) *moment.Moment { return &x.Waits }),
}

var linkFields = []field[world.Link]{
	idField(func(x *world.Link) *string { return &x.ID }),
	{"item", true, func(r *reader, n *node, x *world.Link) {
		if x.Item = r.resource(n); x.Item.Kind == catalogue.Space && x.Item.ID != "" {
			r.at(n, "a link opens one item, not a space")
		}
	}, func(w *writer, x *world.Link) (tree, bool) { return leaf(x.Item.String()), true }, "a file or a folder, as file:press-kit"},
	{"for", true, func(r *reader, n *node, x *world.Link) {
		if n.kind == scalar {
			if n.text != "bearer" {
				r.at(n, "%q is neither bearer nor a list of addresses", n.text)
			}
			return
		}
		x.For = []addr.Address{}
		for i := range r.list(n) {
			x.For = append(x.For, r.address(&n.values[i]))
		}
	}, func(w *writer, x *world.Link) (tree, bool) {
		if x.Bearer() {
			return leaf("bearer"), true
		}
		t := tree{kind: sequence}
		for _, a := range x.For {
			t.list = append(t.list, leaf(a.String()))
		}
		return t, true
	}, "bearer, or a list of addresses"},
	{"right", true, func(r *reader, n *node, x *world.Link) {
		x.Right = catalogue.Role(r.word(n, "right", []string{"view", "contribute"}) + 1)
	}, func(w *writer, x *world.Link) (tree, bool) { return leaf(x.Right.String()), true }, "view, contribute or manage"},
	momentField("created", false, moment.Always, func(x *world.Link) *moment.Moment { return &x.Created }),
	momentField("until", true, moment.Never, func(x *world.Link) *moment.Moment { return &x.Until }),
	boolField("download", true, func(x *world.Link) *bool { return &x.Download }),
	boolField("password", false, func(x *world.Link) *bool { return &x.Password }),
	refField("by", "person", false, func(x *world.Link) *string { return &x.By }),
}

var setBy = []string{"person", "administrator", "mail_rule"}

var forwarderFields = []field[world.Forwarder]{
	refField("mailbox", "person", true, func(x *world.Forwarder) *string { return &x.Mailbox }),
	addressField("to", true, func(x *world.Forwarder) *addr.Address { return &x.To }),
	boolField("keep_copy", true, func(x *world.Forwarder) *bool { return &x.KeepCopy }),
	{"set_by", false, func(r *reader, n *node, x *world.Forwarder) { x.SetBy = setBy[r.word(n, "setter", setBy)] },
		func(w *writer, x *world.Forwarder) (tree, bool) { return leaf(x.SetBy), x.SetBy != "" }, "person, mail_rule or administrator"},
}

var contactFields = []field[world.Contact]{
	refField("person", "person", true, func(x *world.Contact) *string { return &x.Person }),
	addressField("party", true, func(x *world.Contact) *addr.Address { return &x.Party }),
	wordField("state", "state of a contact", true, true, []string{"asked", "accepted"}, func(x *world.Contact) int {
		if x.Accepted {
			return 1
		}
		return 0
	}, func(x *world.Contact, i int) { x.Accepted = i == 1 }),
}
