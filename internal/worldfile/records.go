package worldfile

import (
	"net/url"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

var organisationFields = []field[world.Organisation]{
	textField("name", true, func(x *world.Organisation) *string { return &x.Name }),
	{"domains", true, func(r *reader, n *node, x *world.Organisation) {
		for i := range r.list(n) {
			x.Domains = append(x.Domains, r.entry(&n.values[i]))
		}
		if len(x.Domains) == 0 {
			r.at(n, "an organisation has at least one domain")
		}
	}, func(w *writer, x *world.Organisation) (tree, bool) { return entriesTree(x.Domains), true }, takesDomains},
	{"time_zone", true, func(r *reader, n *node, x *world.Organisation) {
		s, _ := r.scalar(n)
		loc, err := time.LoadLocation(s)
		if err != nil || s == "" || s == "Local" {
			r.at(n, "%q is no time zone; write a name as Europe/Lisbon", s)
			loc = time.UTC
		}
		x.Zone = loc
	}, func(w *writer, x *world.Organisation) (tree, bool) { return leaf(x.Zone.String()), true }, "a time zone, as Europe/Lisbon"},
	{"two_people", false, func(r *reader, n *node, x *world.Organisation) {
		x.TwoPeople = twoPeople[r.word(n, "setting of two_people", twoPeople)]
	}, func(w *writer, x *world.Organisation) (tree, bool) { return leaf(x.TwoPeople), x.TwoPeople != "" }, oneOf(twoPeople)},
}

var twoPeople = []string{"never", "loosening", "always"}

var settingsFields = []field[world.Settings]{
	daysField("stance_days", func(x *world.Settings) *catalogue.Value { return &x.StanceDays }),
	daysField("forget_days", func(x *world.Settings) *catalogue.Value { return &x.ForgetDays }),
	textField("terms", false, func(x *world.Settings) *string { return &x.Terms }),
	textField("terms_pt", false, func(x *world.Settings) *string { return &x.TermsPt }),
	momentField("terms_since", false, 0, func(x *world.Settings) *moment.Moment { return &x.TermsSince }),
	daysField("brake", func(x *world.Settings) *catalogue.Value { return &x.Brake }),
	daysField("member_mail", func(x *world.Settings) *catalogue.Value { return &x.MemberMail }),
	daysField("lapse_days", func(x *world.Settings) *catalogue.Value { return &x.LapseDays }),
	wordField("second_factor", "setting of second factors", false, true, world.SecondFactorNames,
		func(x *world.Settings) int { return int(x.SecondFactor) },
		func(x *world.Settings, i int) { x.SecondFactor = world.SecondFactor(max(0, i)) }),
	questionsField("sign_up_asks", func(x *world.Settings) *[]string { return &x.SignUp.Asks }),
	questionsField("sign_up_asks_pt", func(x *world.Settings) *[]string { return &x.SignUp.AsksPt }),
	refField("sign_up_by", "person", false, func(x *world.Settings) *string { return &x.SignUp.By }),
	wordField("sightings", "setting of sightings", false, true, world.SightingsNames, func(x *world.Settings) int { return int(x.Sightings) },
		func(x *world.Settings, i int) { x.Sightings = world.Sightings(i) }),
}

// SettingNames lists what a world file sets for the organisation and for the service itself, as
// "organisation.name", in the order of the format.
func SettingNames() (out []string) {
	for _, f := range organisationFields {
		out = append(out, "organisation."+f.name)
	}
	for _, f := range settingsFields {
		out = append(out, "settings."+f.name)
	}
	return
}

var datesFromFields = []field[world.DatesFrom]{
	{"for", true, func(r *reader, n *node, x *world.DatesFrom) {
		s, _ := r.scalar(n)
		kind, rest, cut := strings.Cut(s, ":")
		part := *n
		part.text = rest
		switch {
		case s == "organisation":
			return
		case cut && kind == "partner":
			x.Partner = r.ref(&part, "partner")
			return
		case cut && kind == "step":
			if c, ok := dated.ParseCause(rest); ok && c.IsCounted() {
				x.Step = rest
				return
			}
		}
		steps := []string{}
		for _, c := range dated.Counted {
			steps = append(steps, "step:"+c.String())
		}
		r.at(n, "%q has no dates of its own; write organisation, partner:ID, or one of %s", s, strings.Join(steps, ", "))
	}, func(w *writer, x *world.DatesFrom) (tree, bool) { return leaf(x.For()), true }, "organisation, partner:ID or step:CAUSE"},
	{"from", true, func(r *reader, n *node, x *world.DatesFrom) { x.From = r.floor(n) },
		func(w *writer, x *world.DatesFrom) (tree, bool) { return w.floor(x.From), true }, takesFloor},
	{"mail", false, func(r *reader, n *node, x *world.DatesFrom) { x.Mail = r.floor(n) },
		func(w *writer, x *world.DatesFrom) (tree, bool) {
			return w.floor(x.Mail), x.Mail != moment.Always && x.Mail != 0
		}, takesFloor},
}

func newDatesFrom() world.DatesFrom { return world.DatesFrom{From: moment.Always, Mail: moment.Always} }

// floor reads a floor of dates: a moment, or never while the dates wait.
func (r *reader) floor(n *node) moment.Moment {
	if n.kind == scalar && n.text == "never" {
		return moment.Never
	}
	return r.moment(n, false)
}

func (w *writer) floor(m moment.Moment) tree {
	if m == moment.Never {
		return leaf("never")
	}
	return w.moment(m, false)
}

var partnerFields = []field[world.Partner]{
	idField(func(x *world.Partner) *string { return &x.ID }),
	textField("name", true, func(x *world.Partner) *string { return &x.Name }),
	textsField("also_named", func(x *world.Partner) *[]string { return &x.AlsoNamed }),
	{"domains", false, func(r *reader, n *node, x *world.Partner) {
		for i := range r.list(n) {
			e := r.entry(&n.values[i])
			x.Domains = append(x.Domains, e)
			r.places[place("domain:"+x.ID+":"+e.Domain.String())] = [2]int{n.values[i].line - r.from, n.values[i].col}
		}
	}, func(w *writer, x *world.Partner) (tree, bool) { return entriesTree(x.Domains), len(x.Domains) > 0 }, takesDomains},
	wordField("standing", "standing", false, true, world.StandingNames, func(x *world.Partner) int { return int(x.Standing) },
		func(x *world.Partner, i int) { x.Standing = world.Standing(i) }),
	momentField("standing_since", false, moment.Always, func(x *world.Partner) *moment.Moment { return &x.StandingSince }),
	textField("standing_reason", false, func(x *world.Partner) *string { return &x.StandingReason }),
	{"contact", false, func(r *reader, n *node, x *world.Partner) {
		if n.kind != sequence {
			x.Contacts = []string{r.text(n)}
			return
		}
		for i := range n.values {
			x.Contacts = append(x.Contacts, r.text(&n.values[i]))
		}
	}, func(w *writer, x *world.Partner) (tree, bool) {
		if len(x.Contacts) == 1 {
			return leaf(x.Contacts[0]), true
		}
		return words(x.Contacts), len(x.Contacts) > 0
	}, "one text, or a list"},
	refField("owner", "person", false, func(x *world.Partner) *string { return &x.Owner }),
	momentField("review", false, moment.Never, func(x *world.Partner) *moment.Moment { return &x.Review }),
	textField("note", false, func(x *world.Partner) *string { return &x.Note }),
	{"statement", false, func(r *reader, n *node, x *world.Partner) {
		x.Statement = r.text(n)
		if u, err := url.Parse(x.Statement); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil ||
			u.Fragment != "" {
			r.at(n, "%q is no address of a statement; write one as https://collab.partner.example/.well-known/wexillum-statement", x.Statement)
		}
	}, func(w *writer, x *world.Partner) (tree, bool) { return leaf(x.Statement), x.Statement != "" },
		"the address of their signed statement"},
	{"opened", false, func(r *reader, n *node, x *world.Partner) {
		if n.kind != mapping {
			r.at(n, "openings are written as {chat.in: yes}")
			return
		}
		for i := range n.keys {
			k, ok := catalogue.ParseKey(n.keys[i].text)
			if !ok {
				r.at(&n.keys[i], "%q is no service and direction; write one as chat.in or mail.out", n.keys[i].text)
				continue
			}
			x.Opened[k] = world.OpenNo
			if r.bool(&n.values[i]) {
				x.Opened[k] = world.OpenYes
			}
		}
	}, func(w *writer, x *world.Partner) (tree, bool) {
		t := tree{kind: mapping}
		for k, o := range x.Opened {
			if o != world.OpenUnset {
				t.set(catalogue.Key(k).String(), yesNo(o == world.OpenYes))
			}
		}
		return t, len(t.list) > 0
	}, "yes or no for services and directions, as {chat.in: yes, mail.out: no}"},
	{"sign_in", false, func(r *reader, n *node, x *world.Partner) { object(r, n, "a sign-in", signInFields, x) },
		func(w *writer, x *world.Partner) (tree, bool) { return record(w, signInFields, x), x.SignIn != "" },
		"their own sign-in: " + fieldsIn(signInFields)},
	settingsField(catalogue.AtPartner, "a partner", func(x *world.Partner) *[]world.Setting { return &x.Rules }),
	{"stance", false, func(r *reader, n *node, x *world.Partner) {
		if n.kind != mapping {
			r.at(n, "stances are written as {chat.in: {says: admits}}")
			return
		}
		x.Stance = []world.Stance{}
		for i := range n.keys {
			k, ok := catalogue.ParseKey(n.keys[i].text)
			if !ok {
				r.at(&n.keys[i], "%q is no service and direction; write one as chat.in or mail.out", n.keys[i].text)
				continue
			}
			s := newStance(k)
			object(r, &n.values[i], "a stance", stanceFields, &s)
			x.Stance = append(x.Stance, s)
		}
		for i := 1; i < len(x.Stance); i++ {
			for j := i; j > 0 && x.Stance[j].Key < x.Stance[j-1].Key; j-- {
				x.Stance[j], x.Stance[j-1] = x.Stance[j-1], x.Stance[j]
			}
		}
	}, func(w *writer, x *world.Partner) (tree, bool) {
		t := tree{kind: mapping}
		for i := range x.Stance {
			t.set(x.Stance[i].Key.String(), record(w, stanceFields, &x.Stance[i]))
		}
		return t, len(t.list) > 0
	}, "what their side says, as {chat.in: {says: admits}}: " + fieldsIn(stanceFields)},
}

var signInFields = []field[world.Partner]{
	{"issuer", true, func(r *reader, n *node, x *world.Partner) {
		x.SignIn = r.text(n)
		if u, err := url.Parse(x.SignIn); err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" || u.User != nil ||
			u.Fragment != "" || u.RawQuery != "" {
			r.at(n, "%q is no issuer; write one as https://sign-in.partner.example", x.SignIn)
		}
	}, func(w *writer, x *world.Partner) (tree, bool) { return leaf(x.SignIn), true }, "the address of an OpenID Connect issuer"},
	textField("client", true, func(x *world.Partner) *string { return &x.SignInClient }),
	boolField("unverified", false, func(x *world.Partner) *bool { return &x.SignInUnverified }),
}

var stanceFields = []field[world.Stance]{
	wordField("says", "stance", true, true, world.SaysNames, func(x *world.Stance) int { return int(x.Says) },
		func(x *world.Stance, i int) { x.Says = world.Says(i) }),
	{"features", false, func(r *reader, n *node, x *world.Stance) {
		x.Features = []catalogue.Feature{}
		for i := range r.list(n) {
			f, ok := catalogue.ParseFeature(n.values[i].text)
			if !ok {
				r.at(&n.values[i], "%q is no feature; write messages, voice, presence", n.values[i].text)
			}
			x.Features = append(x.Features, f)
		}
	}, func(w *writer, x *world.Stance) (tree, bool) {
		t := tree{kind: sequence}
		for _, f := range x.Features {
			t.list = append(t.list, leaf(f.String()))
		}
		return t, x.Features != nil
	}, "some of messages, voice, presence"},
	{"source", false, func(r *reader, n *node, x *world.Stance) {
		x.Source = world.Sources[r.word(n, "source", world.Sources)]
	},
		func(w *writer, x *world.Stance) (tree, bool) { return leaf(x.Source), x.Source != "" }, oneOf(world.Sources)},
	momentField("as_of", false, moment.Always, func(x *world.Stance) *moment.Moment { return &x.AsOf }),
	momentField("until", true, moment.Never, func(x *world.Stance) *moment.Moment { return &x.Until }),
	textField("said_by", false, func(x *world.Stance) *string { return &x.Said }),
}

func newStance(k catalogue.Key) world.Stance {
	return world.Stance{Key: k, AsOf: moment.Always, Until: moment.Never}
}

var letterFields = []field[world.Letter]{
	idField(func(x *world.Letter) *string { return &x.ID }),
	refField("partner", "partner", true, func(x *world.Letter) *string { return &x.Partner }),
	{"about", true, func(r *reader, n *node, x *world.Letter) {
		for i := range r.list(n) {
			k, ok := catalogue.ParseKey(n.values[i].text)
			if !ok {
				r.at(&n.values[i], "%q is no service and direction; write one as chat.in or mail.out", n.values[i].text)
			}
			x.Keys = append(x.Keys, k)
		}
		if len(x.Keys) == 0 {
			r.at(n, "a letter is about something; write it as [chat.in]")
		}
		slices.Sort(x.Keys)
		x.Keys = slices.Compact(x.Keys)
	}, func(w *writer, x *world.Letter) (tree, bool) {
		t := tree{kind: sequence}
		for _, k := range x.Keys {
			t.list = append(t.list, leaf(k.String()))
		}
		return t, true
	}, "services and directions, as [chat.in, spaces.out]"},
	momentField("sent", false, moment.Always, func(x *world.Letter) *moment.Moment { return &x.Sent }),
	textField("by", false, func(x *world.Letter) *string { return &x.By }),
	textField("to", false, func(x *world.Letter) *string { return &x.To }),
	textField("note", false, func(x *world.Letter) *string { return &x.Note }),
	wordField("answer", "answer", false, false, world.AnswerNames, func(x *world.Letter) int { return int(x.Answer) },
		func(x *world.Letter, i int) { x.Answer = world.Answer(i) }),
	momentField("answered", false, moment.Never, func(x *world.Letter) *moment.Moment { return &x.Answered }),
	textField("said", false, func(x *world.Letter) *string { return &x.Said }),
}

var statementFields = []field[world.Statement]{
	refField("partner", "partner", true, func(x *world.Statement) *string { return &x.Partner }),
	textsField("keys", func(x *world.Statement) *[]string { return &x.Keys }),
	momentField("issued", false, moment.Always, func(x *world.Statement) *moment.Moment { return &x.Issued }),
	momentField("until", false, moment.Never, func(x *world.Statement) *moment.Moment { return &x.Until }),
	momentField("fetched", false, moment.Always, func(x *world.Statement) *moment.Moment { return &x.Fetched }),
	textField("problem", false, func(x *world.Statement) *string { return &x.Problem }),
	textField("reason", false, func(x *world.Statement) *string { return &x.Reason }),
	textField("offered", false, func(x *world.Statement) *string { return &x.Offered }),
}

func newStatement() world.Statement {
	return world.Statement{Issued: moment.Always, Until: moment.Never, Fetched: moment.Always}
}

func newLetter() world.Letter { return world.Letter{Sent: moment.Always, Answered: moment.Never} }

var barFields = []field[world.Bar]{
	{"name", false, func(r *reader, n *node, x *world.Bar) { x.Domain = r.domain(n) },
		func(w *writer, x *world.Bar) (tree, bool) { return leaf(x.Domain.String()), !x.Domain.IsZero() },
		"a domain; an address instead stands in address"},
	{"subdomains", false, func(r *reader, n *node, x *world.Bar) { x.Subdomains = r.bool(n) },
		func(w *writer, x *world.Bar) (tree, bool) { return leaf("yes"), x.Subdomains }, "yes or no"},
	addressField("address", false, func(x *world.Bar) *addr.Address { return &x.Address }),
	textField("reason", false, func(x *world.Bar) *string { return &x.Reason }),
}

var exceptionFields = []field[world.Exception]{
	idField(func(x *world.Exception) *string { return &x.ID }),
	refsField("people", "person", func(x *world.Exception) *[]string { return &x.People }),
	refsField("groups", "group", func(x *world.Exception) *[]string { return &x.Groups }),
	partyRefsField(func(x *world.Exception) *[]world.PartyRef { return &x.Parties }),
	settingsField(catalogue.AtPeople, "people", func(x *world.Exception) *[]world.Setting { return &x.Rules }),
	momentField("from", false, moment.Always, func(x *world.Exception) *moment.Moment { return &x.From }),
	momentField("until", true, moment.Never, func(x *world.Exception) *moment.Moment { return &x.Until }),
	textField("reason", false, func(x *world.Exception) *string { return &x.Reason }),
}

// The records with the values that an absent field stands for.

func newPartner() world.Partner {
	return world.Partner{StandingSince: moment.Always, Review: moment.Never}
}

func newException() world.Exception {
	return world.Exception{From: moment.Always, Until: moment.Never}
}

func newBundle() world.Bundle {
	return world.Bundle{TermDays: catalogue.Unset, ReviewDays: catalogue.Unset}
}

func newGuest() world.Guest {
	return world.Guest{StateSince: moment.Always, Since: moment.Always, Accepted: moment.Never, Renewed: moment.Always, Until: moment.Never,
		Terms: moment.Never, LastSeen: moment.Always}
}

func newGrant() world.Grant {
	return world.Grant{From: moment.Always, Until: moment.Never, Reviewed: moment.Always}
}

func newLink() world.Link {
	return world.Link{Created: moment.Always, Until: moment.Never, Download: true}
}
