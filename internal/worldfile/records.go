package worldfile

import (
	"fmt"
	"net/url"
	"slices"
	"strconv"
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
