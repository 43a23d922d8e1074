package catalogue

import (
	"slices"
	"strings"
)

// Actions: what somebody may try, and what each account is asked for it. The
// first half of the file is the words that rows are made of, the second the
// table itself.

// Service is one of the seven services of model §1.
type Service uint8

// The services, in the order in which they are shown.
const (
	Directory Service = iota
	Spaces
	Chat
	Meetings
	Files
	Mail
	Reports
	NumServices = 7
)

// serviceNames are the words for services, by Service; names of rules and
// actions begin with them.
var serviceNames = [...]string{"directory", "spaces", "chat", "meetings", "files", "mail", "reports"}

func (s Service) String() string { return serviceNames[s] }

// Key is a service and a direction, written chat.in: what a partner is opened
// for and what a stance speaks about.
type Key uint8

// NumKeys is how many keys there are.
const NumKeys = 2 * NumServices

// In and Out build the key of a service and direction. In is for theirs coming
// to us.
func In(s Service) Key { return Key(2 * s) }

// Out is the key for our people going to theirs, or our mail leaving.
func Out(s Service) Key { return Key(2*s + 1) }

func (k Key) String() string {
	if k&1 == 0 {
		return serviceNames[k/2] + ".in"
	}
	return serviceNames[k/2] + ".out"
}

// ParseKey reads a key.
func ParseKey(s string) (Key, bool) {
	for k := Key(0); k < NumKeys; k++ {
		if k.String() == s {
			return k, true
		}
	}
	return 0, false
}

// ResourceKind is what a resource is: a kind of item, a space, or one of the
// things every person has.
type ResourceKind uint8

// The kinds of resource. Databases hold the numbers: they never change, and a
// new kind takes the next one.
const (
	Channel      ResourceKind = 0
	Folder       ResourceKind = 1
	File         ResourceKind = 2
	Page         ResourceKind = 3
	Tasklist     ResourceKind = 4
	Report       ResourceKind = 5
	Dashboard    ResourceKind = 6
	Space        ResourceKind = 7
	Meeting      ResourceKind = 8
	Person       ResourceKind = 9
	Mailbox      ResourceKind = 10
	Calendar     ResourceKind = 11
	OurDirectory ResourceKind = 12

	NumResourceKinds = 13
)

// resourceKinds says what each kind is called and whether it is something in a
// space. A kind that is missing here does not compile.
var resourceKinds = [NumResourceKinds]struct {
	name string
	item bool
}{
	Channel:      {"channel", true},
	Folder:       {"folder", true},
	File:         {"file", true},
	Page:         {"page", true},
	Tasklist:     {"tasklist", true},
	Report:       {"report", true},
	Dashboard:    {"dashboard", true},
	Space:        {"space", false},
	Meeting:      {"meeting", false},
	Person:       {"person", false},
	Mailbox:      {"mailbox", false},
	Calendar:     {"calendar", false},
	OurDirectory: {"directory", false},
}

func (k ResourceKind) String() string { return resourceKinds[k].name }

// IsItem reports whether k is something in a space.
func (k ResourceKind) IsItem() bool { return resourceKinds[k].item }

// ItemKinds lists the kinds of things in spaces.
func ItemKinds() (out []ResourceKind) {
	for k := range resourceKinds {
		if resourceKinds[k].item {
			out = append(out, ResourceKind(k))
		}
	}
	return
}

// ParseResourceKind reads a kind.
func ParseResourceKind(s string) (ResourceKind, bool) {
	for i := range resourceKinds {
		if resourceKinds[i].name == s {
			return ResourceKind(i), true
		}
	}
	return 0, false
}

// Class is the account that asks, as the column "who" of the catalogue has it.
//
// A class follows from the address or link that asks and from whether it has a
// record (model §4, gate 1); nobody chooses it. What is asked of each class is
// a row of the catalogue.
type Class uint8

// Ours is a person of ours; the others are G, F, P, N and B.
//
// A record is a guest of ours, with a sponsor and an end. Federated is somebody
// of a partner or of any other organisation who comes with the account they
// have at home; Personal one with a private mail domain; Newcomer one who has
// no record yet and would become a guest by what they do; Bearer is whoever
// holds a link, of whom nothing else is known.
const (
	Ours Class = iota
	Record
	Federated
	Personal
	Newcomer
	Bearer
	NumClasses
)

// DomainLevel says what the domain gate asks besides bars and standing.
type DomainLevel uint8

// The levels of the domain column. None asks nothing about domains at all,
// BarsOnly only bars, AnyLevel also standing and an opening of no, ByRule the
// level of a rule, Listed always the level listed.
const (
	None DomainLevel = iota
	BarsOnly
	AnyLevel
	ByRule
	Listed
)

// Whom says whose address, partner or person something is about.
type Whom uint8

// Subject is who asks; Addressee is context.address.
const (
	Subject Whom = iota
	Addressee
)

// PersonOf says which person of ours an action is about (model §3).
//
// Exceptions are made for people of ours; which of them counts depends on what
// is tried. Whoever messages Uma is judged by Uma's exceptions, whoever joins a
// meeting by those of its host.
type PersonOf uint8

// NoPerson has no people layer. InDrive is the owner where the space is a
// drive, SubjectOrDrive the same and else the subject.
const (
	NoPerson PersonOf = iota
	Addressed
	Host
	Owner
	SubjectPerson
	InDrive
	SubjectOrDrive
)

// NeedKind says how a rule of the rule gate finds the value it needs.
//
// Most rules need a fixed value. Where the value depends on who asks (their
// account, whether they share a space with the person) or on the thing itself
// (a link with or without a password), the kind says how it is found; the
// engine has one case for each.
type NeedKind uint8

// AtLeast needs Need.Value. The others depend on who asks and for what; the
// notes of the catalogue say how.
const (
	AtLeast      NeedKind = iota
	AtPresenter           // AtLeast, for the presenter instead of the host
	AtOwn                 // AtLeast, with the partner of the subject where another's would count
	GivenTo               // known for a record, newcomers for everybody else
	InviterClass          // the inviter's class
	PrivateA              // on where context.address is private
	Outsiders             // known, signed_in or anyone by account
	Passcode              // a passcode where required
	StandingRoom          // on where the meeting is a standing room
	KeepCopy              // a copy where required
	SetBy                 // who set the forwarder up
	LinkPassword          // a password where required
	LinkDownload          // on, and the link itself lets download
	LookUp                // shared where the person shares a space with the party, else all
	PresenceSeen          // contacts where the two are contacts, else everybody
	SharerClass           // the sharer's class
)

// Need is one rule that the rule gate asks. Value counts with AtLeast,
// AtPresenter and AtOwn; the other kinds find theirs.
type Need struct {
	Kind  NeedKind
	Rule  RuleID
	Value Value
}

// Role is what a grant gives: view < contribute < manage. A role includes those
// below it. Whose role on a space holds on the items in it, unless an item is
// private.
type Role uint8

// NoRole stands for no grant. Databases hold the numbers: they never change.
const (
	NoRole     Role = 0
	View       Role = 1
	Contribute Role = 2
	Manage     Role = 3
)

// roleNames are the words for roles, by Role.
var roleNames = [...]string{NoRole: "none", View: "view", Contribute: "contribute", Manage: "manage"}

func (r Role) String() string { return roleNames[r] }

// ParseRole reads view, contribute or manage.
func ParseRole(s string) (Role, bool) {
	for i, n := range roleNames[1:] {
		if n == s {
			return Role(i + 1), true
		}
	}
	return NoRole, false
}

// Holding says what the grant gate asks. The grant gate is asked last but for
// licences: a person who lacks a grant alone can be helped by an owner, without
// an administrator.
type Holding uint8

// Nothing asks nothing. ByRole needs a role on the resource, ByLink a live
// bearer link on it, Self that the resource is the subject, OwnMailbox that it
// is the subject's, MayInvite and MemberOfSpace what the catalogue says of
// inviting and sharing, JoinableCourse that the space is one.
const (
	Nothing Holding = iota
	ByRole
	ByLink
	Self
	OwnMailbox
	MayInvite
	MemberOfSpace
	JoinableCourse
)

// Feature is a part of a service that a stance may admit by itself. A partner
// may admit chat without calls. The bits of a stance are indexed by it.
type Feature uint8

// NoFeature is asked where a stance as a whole counts.
const (
	NoFeature Feature = iota
	Messages
	Voice
	Presence
)

// featureNames are the words for features, by Feature; none has the first.
var featureNames = [...]string{"", "messages", "voice", "presence"}

func (f Feature) String() string { return featureNames[f] }

// ParseFeature reads a feature's name.
func ParseFeature(s string) (Feature, bool) {
	for i, n := range featureNames[1:] {
		if n == s {
			return Feature(i + 1), true
		}
	}
	return NoFeature, false
}

// Ask is what a decision asks of one class of account: a row of the catalogue.
// Fields are asked in the order of the gates, whatever their order here. A nil
// Ask means that this class cannot do it at all, by nature: no setting changes
// that.
type Ask struct {
	Of          Whom // whose domain the domain gate is about
	Level       DomainLevel
	LevelRule   RuleID // with ByRule
	Key         Key
	Also        []Key // keys that refuse only at no
	Counterpart bool
	Feature     Feature
	Switches    []RuleID // switches at the service gate, besides those every record is asked
	SpaceGuests bool     // spaces.guests is asked, of who the domain gate is about
	SpaceParty  bool     // the space's parties are asked, of the same
	Needs       []Need
	Holding     Holding
	Role        Role
	Private     *Ask // instead of this where context.address is private
}

// ActionID is the place of an action in Actions.
type ActionID uint8

// Action is one thing somebody may try. What differs between actions is here as
// data wherever it is so for more than one of them, so that no gate has to
// compare names. Adding an action is an entry of the table and an example; a
// need that no gate knows yet is a case more in the engine.
type Action struct {
	ID      ActionID
	Name    string // service.verb
	Title   string // what is tried, as a verb in plain words
	On      []ResourceKind
	Address bool // needs context.address
	Person  PersonOf
	Asks    [NumClasses]*Ask
	InSpace *[NumClasses]*Ask // instead of Asks where the resource is an item; nil: the same
	// Conditions and switches that belong to single actions.
	Presenter      bool // context.presenter counts
	PresenterAsked bool // a yes carries presenter_asked
	SignsIn        bool // a yes carries sign_in
	Newly          bool // only without a record: a record does not act with its home account
	AreaOnly       bool // of spaces, only a report area
	MeetingDoor    bool // the door of a meeting: sign-in domains, waiting, passcode
	NoBrowsing     bool // a yes carries no_browsing while reports.guest_browse is off
	Licence        bool // a licence route is asked
	WhileInvited   bool // a record that is only invited may already do it
	Spread         Spread
}

// Spread says which resources an action is tried on when somebody's reach is
// listed.
//
// It keeps a reach short. Everybody could in principle be asked about every
// file; with Granted only those are asked that something was given on, since
// the grant gate refuses all others.
type Spread uint8

// Once asks one resource, Granted those with a grant or link, Wide all of a
// kind.
const (
	Once Spread = iota
	Granted
	Wide
)

// Rows returns what is asked of each class of account about a resource of kind
// TitleOn is the title of what is done with a thing of a kind: what is done with
// files is done with folders, too, and then says so.
func (a *Action) TitleOn(kind ResourceKind) string {
	if kind == Folder {
		return strings.Replace(a.Title, "the file", "the folder", 1)
	}
	return a.Title
}

// k.
func (a *Action) Rows(k ResourceKind) *[NumClasses]*Ask {
	if a.InSpace != nil && k.IsItem() {
		return a.InSpace
	}
	return &a.Asks
}

// TwoAccounts reports whether somebody with a record may be asked with their
// account at home as well. Of two refusals the nearer one is told, so that what
// is told of one account depends on what the other is asked; where there is one
// account a gate is told by itself.
func (a *Action) TwoAccounts() bool {
	for _, k := range a.On {
		rows := a.Rows(k)
		if !a.Newly && rows[Record] != nil && (rows[Federated] != nil || rows[Personal] != nil) {
			return true
		}
	}
	return false
}

// Service returns the service of the action. It is the first part of its name.
func (a *Action) Service() Service {
	s, _, _ := strings.Cut(a.Name, ".")
	return Service(indexOf(serviceNames[:], s))
}

// Takes reports whether the action can be tried on a resource of kind k.
func (a *Action) Takes(k ResourceKind) bool {
	for _, x := range a.On {
		if x == k {
			return true
		}
	}
	return false
}

// TakesNames lists the kinds the action can be tried on.
func (a *Action) TakesNames() string {
	var out []string
	for _, k := range a.On {
		out = append(out, k.String())
	}
	return strings.Join(out, " or ")
}

// MaxActions is how many actions a set of them has room for, as bits of a word.
// Reaches and audiences keep what somebody can do as such a set.
const MaxActions = 64

// actions is the table, checked when the program starts.
var actions = buildActions()

// Actions lists all actions. Callers must not change it.
func Actions() []Action { return actions }

// Get returns the entry of id.
func (id ActionID) Get() *Action { return &actions[id] }

func (id ActionID) String() string { return actions[id].Name }

// ActionByName finds an action by its name.
func ActionByName(name string) (*Action, bool) {
	for i := range actions {
		if actions[i].Name == name {
			return &actions[i], true
		}
	}
	return nil, false
}

// Companions lists the rules that an exception may set and that an action asks
// beside r: those without which r alone may change nothing.
//
// An example: taking control of a screen needs that whole screens are shown. An
// exception for the first alone opens nothing, so advice proposes both.
func Companions(r RuleID) (out []RuleID) {
	seen := map[RuleID]bool{r: true}
	for _, id := range AskedBy(r) {
		a := id.Get()
		for _, kind := range a.On {
			for _, ask := range a.Rows(kind) {
				if ask == nil || !slices.ContainsFunc(ask.Needs, func(n Need) bool { return n.Rule == r }) {
					continue
				}
				for _, n := range ask.Needs {
					if !seen[n.Rule] && (n.Kind == AtLeast || n.Kind == AtPresenter) && n.Rule.Get().Layers&AtPeople != 0 {
						seen[n.Rule] = true
						out = append(out, n.Rule)
					}
				}
			}
		}
	}
	return
}

// AskedBy lists the actions whose decision asks rule r, in order; nil where it
// governs behaviour and no action asks it. Whoever weighs a change of a rule
// looks at these alone.
func AskedBy(r RuleID) []ActionID { return askedBy[r] }

// askedAnyway are rules that gates ask by themselves, not through an entry of
// an action, and for which accounts.
//
// These rules stand in no row because they hold for all rows of a class, or
// because the value is read by a gate for something else than a comparison. A
// rule that is missing here would be shown as one that no action asks; a test
// asks each rule's example with both of its values.
var askedAnyway = map[string]func(*Action, Class) bool{
	"directory.guests":         func(_ *Action, c Class) bool { return c == Record || c == Newcomer },
	"directory.feed_in":        func(_ *Action, c Class) bool { return c == Record },
	"directory.sign_in":        func(_ *Action, c Class) bool { return c == Record },
	"directory.terms":          func(_ *Action, c Class) bool { return c == Record },
	"directory.invite_domains": func(_ *Action, c Class) bool { return c == Newcomer },
	"directory.personal": func(a *Action, c Class) bool {
		return c == Newcomer || c == Record && a.Rows(a.On[0])[c].Level == ByRule
	},
	"meetings.held":            func(a *Action, _ Class) bool { return a.MeetingDoor },
	"reports.guest_browse":     func(a *Action, _ Class) bool { return a.NoBrowsing },
	"reports.licence":          func(a *Action, _ Class) bool { return a.Licence },
	"files.link_days":          func(a *Action, c Class) bool { return a.Rows(a.On[0])[c].Holding == ByLink },
	"files.link_right":         func(a *Action, c Class) bool { return a.Rows(a.On[0])[c].Holding == ByLink },
	"files.drive_given_to":     func(a *Action, c Class) bool { return a.Service() == Files && c != Bearer },
	"files.drive_bearer_links": func(a *Action, c Class) bool { return a.Service() == Files && c == Bearer },
}

// askedBy is turned around once at the start: from what each action asks to
// what asks each rule.
var askedBy = func() (out [NumRules][]ActionID) {
	for i := range actions {
		a := &actions[i]
		found := map[RuleID]bool{}
		for _, k := range a.On {
			for c, ask := range a.Rows(k) {
				if ask == nil {
					continue
				}
				for name, is := range askedAnyway {
					if is(a, Class(c)) {
						found[MustRule(name)] = true
					}
				}
				for _, row := range []*Ask{ask, ask.Private} {
					if row == nil {
						continue
					}
					if row.Level == ByRule {
						found[row.LevelRule] = true
					}
					for _, r := range row.Switches {
						found[r] = true
					}
					if row.SpaceGuests || row.Holding == ByRole && !row.SpaceParty && Class(c) != Ours {
						found[MustRule("spaces.guests")] = true
					}
					for _, n := range row.Needs {
						found[n.Rule] = true
					}
				}
			}
		}
		for r := range found {
			out[r] = append(out[r], a.ID)
		}
	}
	return
}()

// NearestAction returns the action name that resembles name most. It is for
// error texts; "" where nothing resembles it by more than half.
func NearestAction(name string) string {
	best, at := "", len(name)/2+1
	for i := range actions {
		if d := Distance(name, actions[i].Name); d < at {
			best, at = actions[i].Name, d
		}
	}
	return best
}

// buildActions lists the catalogue of actions: what each is about, who does it,
// and what must be so for each sort of account. The table at its end has one
// line for each action and reads like the catalogue in the shared design. The
// functions before it are the shapes that several lines share; each returns a
// fresh row, so that a line may change its own.
func buildActions() []Action {
	r := MustRule
	at := func(rule string, v Value) Need { return Need{Kind: AtLeast, Rule: r(rule), Value: v} }
	kind := func(k NeedKind, rule string) Need { return Need{Kind: k, Rule: r(rule)} }
	var (
		personalA = kind(PrivateA, "directory.personal")
		// What happens inside a space: a record needs that the space has
		// guests, an account of another organisation that it is connected; both
		// need to be among the space's parties and to hold a role.
		inSpace = func(needs []Need, role Role) [NumClasses]*Ask {
			return [NumClasses]*Ask{
				Record: {Level: AnyLevel, Key: In(Spaces), SpaceGuests: true, SpaceParty: true, Needs: needs, Holding: ByRole, Role: role},
				Federated: {Level: ByRule, LevelRule: r("spaces.connect"), Key: In(Spaces), Counterpart: true, SpaceParty: true, Needs: needs,
					Holding: ByRole, Role: role},
			}
		}
		// Files and reports: whoever was given them, with a record or on the
		// way to one.
		given = func(service Service, level DomainLevel, rule RuleID, needs []Need, role Role) [NumClasses]*Ask {
			ask := &Ask{Level: level, LevelRule: rule, Key: In(service), Needs: needs, Holding: ByRole, Role: role}
			return [NumClasses]*Ask{Record: ask, Newcomer: ask}
		}
		// The door of a meeting: nobody needs a grant, and whoever holds the
		// address may be a Bearer.
		door = func(needs ...Need) [NumClasses]*Ask {
			all := append([]Need{kind(Outsiders, "meetings.outsiders"), kind(Passcode, "meetings.passcode"),
				kind(StandingRoom, "meetings.standing_room")}, needs...)
			sw := []RuleID{r("meetings.outsiders")}
			ask := &Ask{Level: AnyLevel, Key: In(Meetings), Switches: sw, Needs: all}
			return [NumClasses]*Ask{Record: ask, Federated: ask, Personal: ask, Bearer: {Switches: sw, Needs: all}}
		}
		// A bearer link: no domain is asked, since nobody knows who holds it.
		link = func(role Role) *Ask {
			return &Ask{Needs: []Need{at("files.bearer_links", On), kind(LinkPassword, "files.link_password")}, Holding: ByLink, Role: role}
		}
	)
	// Values of scales that the needs below name; the scales are in rules.go.
	const (
		canView       = Value(0) // on files.role
		canContribute = Value(1)
		calendarBusy  = Value(1) // on mail.calendar
		wholeScreen   = Value(2) // on meetings.share_screen
	)
	const (
		calendarSubject = Value(2)
		calendarFull    = Value(3)
	)
	bearer := func(row [NumClasses]*Ask, ask *Ask) [NumClasses]*Ask {
		row[Bearer] = ask
		return row
	}
	// The two scales of roles differ: what a grant gives (view, contribute,
	// manage) and the most that files.role lets an outsider do.
	onFiles := func(role Role) [NumClasses]*Ask {
		reach := canView
		if role == Contribute {
			reach = canContribute
		}
		return given(Files, ByRule, r("files.domains"), []Need{kind(GivenTo, "files.given_to"), at("files.role", reach)}, role)
	}
	onReports := func(role Role, more ...Need) [NumClasses]*Ask {
		return given(Reports, AnyLevel, NoRule, append([]Need{kind(GivenTo, "reports.given_to")}, more...), role)
	}
	download := link(View)
	download.Needs = append(download.Needs, kind(LinkDownload, "files.link_download"))
	// A channel is of its space and of chat: both keys have to be open, the
	// second only at no.
	inChannel := func(role Role, needs ...Need) [NumClasses]*Ask {
		rows := inSpace(needs, role)
		rows[Record].Switches = []RuleID{r("chat.guests")}
		rows[Record].Also, rows[Federated].Also = []Key{In(Chat)}, []Key{In(Chat)}
		return rows
	}
	toPerson := func(more ...Need) [NumClasses]*Ask {
		needs := append([]Need{at("chat.guest_direct", On)}, more...)
		return [NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Chat), Switches: []RuleID{r("chat.guests")}, Needs: needs}}
	}
	// Chat across organisations: a federated account needs both sides, a
	// private one the switch for them.
	across := func(rows [NumClasses]*Ask, f Feature, needs ...Need) [NumClasses]*Ask {
		rows[Federated] = &Ask{Level: ByRule, LevelRule: r("chat.federation"), Key: In(Chat), Counterpart: true, Feature: f, Needs: needs}
		rows[Personal] = &Ask{Level: BarsOnly, Switches: []RuleID{r("chat.personal")}, Needs: needs}
		return rows
	}
	// Our people going to theirs: the domain asked is that of the other side,
	// and nobody but the person themselves decides to go.
	theirs := func(level string, s Service, counterpart bool) [NumClasses]*Ask {
		return [NumClasses]*Ask{Ours: {Of: Addressee, Level: ByRule, LevelRule: r(level), Key: Out(s), Counterpart: counterpart, Holding: Self}}
	}
	chatTheirs := func(f Feature, needs ...Need) [NumClasses]*Ask {
		rows := theirs("chat.federation", Chat, true)
		rows[Ours].Feature, rows[Ours].Needs = f, needs
		rows[Ours].Private = &Ask{Of: Addressee, Level: BarsOnly, Switches: []RuleID{r("chat.personal")}, Needs: needs, Holding: Self}
		return rows
	}
	record := func(level DomainLevel, k Key, needs ...Need) [NumClasses]*Ask {
		return [NumClasses]*Ask{Record: {Level: level, Key: k, Needs: needs}}
	}
	ofMeetingSpace := func(role Role, needs ...Need) [NumClasses]*Ask {
		return [NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Meetings), SpaceGuests: true, SpaceParty: true, Needs: needs, Holding: ByRole,
			Role: role}}
	}
	calendar := func(v Value) [NumClasses]*Ask {
		return [NumClasses]*Ask{Federated: {Level: Listed, Key: In(Mail), Needs: []Need{at("mail.calendar", v)}}}
	}
	rows := func(x [NumClasses]*Ask) *[NumClasses]*Ask { return &x }
	signUp := &Ask{Level: ByRule, LevelRule: r("directory.invite_domains"), Key: In(Directory),
		Switches: []RuleID{r("directory.guests"), r("directory.self_signup")}}
	join := &Ask{Level: ByRule, LevelRule: r("spaces.join_in"), Key: In(Spaces), Counterpart: true, SpaceParty: true, Holding: JoinableCourse}
	presence := kind(PresenceSeen, "chat.presence")
	seePresence := across([NumClasses]*Ask{Record: {Level: AnyLevel, Key: In(Chat), Switches: []RuleID{r("chat.guests")},
		Needs: []Need{presence}}}, Presence, presence)
	edits, deletes := at("chat.guest_edit", On), at("chat.guest_delete", On)
	// Who shares a report must have been given it, if they come from outside;
	// of ours the class counts.
	reportShare := both(Ask{Of: Addressee, Level: AnyLevel, Key: In(Reports), Needs: []Need{kind(GivenTo, "reports.given_to"), personalA},
		Holding: ByRole, Role: Contribute},
		[]Need{{Kind: AtOwn, Rule: r("reports.reshare"), Value: On}})
	reportShare[Ours].Needs = append([]Need{kind(SharerClass, "reports.share_by")}, reportShare[Ours].Needs...)
	reportShare[Ours].Holding, reportShare[Ours].Role = Nothing, NoRole
	var (
		ours    = []ResourceKind{OurDirectory}
		space   = []ResourceKind{Space}
		channel = []ResourceKind{Channel}
		someone = []ResourceKind{Person}
		chatted = []ResourceKind{Channel, Person}
		meeting = []ResourceKind{Meeting}
		file    = []ResourceKind{Folder, File}
		diary   = []ResourceKind{Calendar}
		report  = []ResourceKind{Report, Dashboard}
	)

	out := [...]Action{
		{Name: "directory.sign_in", Title: "sign in", On: ours, WhileInvited: true, Asks: record(AnyLevel, In(Directory))},
		{Name: "directory.leave", Title: "remove the own record", On: ours, Asks: record(AnyLevel, In(Directory), at("directory.leave", On))},
		{Name: "directory.look_up", Title: "look up somebody", On: someone, Person: Addressed, Spread: Wide,
			Asks: record(AnyLevel, In(Directory), kind(LookUp, "directory.people_seen"))},
		{Name: "directory.sign_up", Title: "open a record without an invitation", On: ours, SignsIn: true, Newly: true,
			Asks: [NumClasses]*Ask{Federated: signUp, Personal: signUp}},
		{Name: "directory.invite", Title: "invite somebody", On: []ResourceKind{OurDirectory, Space}, Address: true, Person: SubjectPerson,
			Spread: Granted,
			Asks: both(Ask{Of: Addressee, Level: ByRule, LevelRule: r("directory.invite_domains"), Key: In(Directory), Counterpart: true,
				Switches: []RuleID{r("directory.guests")}, SpaceGuests: true, SpaceParty: true,
				Needs: []Need{kind(InviterClass, "directory.invite_by"), personalA}, Holding: MayInvite}, nil)},
		{Name: "directory.accept_theirs", Title: "accept an invitation elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("directory.guest_elsewhere", Directory, false)},

		{Name: "spaces.enter", Title: "enter the space", On: space, Spread: Granted, Asks: inSpace(nil, View)},
		{Name: "spaces.see_members", Title: "see who is in the space", On: space, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.members_seen", On)}, View)},
		{Name: "spaces.edit_page", Title: "change the page", On: []ResourceKind{Page}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.pages", On)}, Contribute)},
		{Name: "spaces.edit_task", Title: "work on the task list", On: []ResourceKind{Tasklist}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.tasks", On)}, Contribute)},
		{Name: "spaces.open_channel", Title: "open or change a channel", On: []ResourceKind{Space, Channel}, Spread: Granted,
			Asks: inSpace([]Need{at("spaces.channels", On)}, Contribute)},
		{Name: "spaces.join", Title: "join the course", On: space, Spread: Wide, Asks: [NumClasses]*Ask{Federated: join, Personal: join}},
		{Name: "spaces.join_theirs", Title: "join a space or course elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("spaces.join_out", Spaces, true)},

		{Name: "chat.read", Title: "read the channel", On: channel, Spread: Granted, Asks: inChannel(View)},
		{Name: "chat.post", Title: "post in the channel", On: channel, Spread: Granted, Asks: inChannel(Contribute)},
		{Name: "chat.message", Title: "send a message", On: someone, Person: Addressed, Spread: Wide, Asks: across(toPerson(), Messages)},
		{Name: "chat.call", Title: "call", On: someone, Person: Addressed, Spread: Wide,
			Asks: across(toPerson(at("chat.guest_calls", On)), Voice, at("chat.calls", On))},
		{Name: "chat.attach", Title: "attach a file to a message", On: chatted, Person: Addressed, Spread: Wide,
			Asks: toPerson(at("chat.guest_attach", On)), InSpace: rows(inChannel(Contribute))},
		{Name: "chat.edit_own", Title: "change an own message", On: chatted, Person: Addressed, Spread: Wide, Asks: toPerson(edits),
			InSpace: rows(inChannel(Contribute, edits))},
		{Name: "chat.delete_own", Title: "delete an own message", On: chatted, Person: Addressed, Spread: Wide, Asks: toPerson(deletes),
			InSpace: rows(inChannel(Contribute, deletes))},
		{Name: "chat.see_presence", Title: "see whether somebody is there", On: someone, Person: Addressed, Spread: Wide, Asks: seePresence},
		{Name: "chat.message_theirs", Title: "send a message to somebody outside", On: someone, Address: true, Person: SubjectPerson,
			Asks: chatTheirs(Messages)},
		{Name: "chat.call_theirs", Title: "call somebody outside", On: someone, Address: true, Person: SubjectPerson,
			Asks: chatTheirs(Voice, at("chat.calls", On))},

		{Name: "meetings.join", Title: "join the meeting", On: meeting, Person: Host, MeetingDoor: true, Spread: Wide, Asks: door()},
		{Name: "meetings.join_early", Title: "be in before the host", On: meeting, Person: Host, MeetingDoor: true, Spread: Wide,
			Asks: door(at("meetings.early", On))},
		{Name: "meetings.present", Title: "present", On: meeting, Person: Host, MeetingDoor: true, Presenter: true, Spread: Wide,
			Asks: door(Need{AtPresenter, r("meetings.present"), On})},
		{Name: "meetings.remote_control", Title: "take control of a shared screen", On: meeting, Person: Host, MeetingDoor: true, Presenter: true,
			PresenterAsked: true, Spread: Wide,
			Asks: door(Need{AtPresenter, r("meetings.remote_control"), On}, Need{AtPresenter, r("meetings.share_screen"), wholeScreen})},
		{Name: "meetings.see_details", Title: "see the details of the meeting", On: meeting, Spread: Granted, Asks: ofMeetingSpace(View)},
		{Name: "meetings.start", Title: "start the meeting", On: meeting, Spread: Granted,
			Asks: ofMeetingSpace(Contribute, at("meetings.guest_start", On))},
		{Name: "meetings.join_theirs", Title: "join a meeting elsewhere", On: someone, Address: true, Person: SubjectPerson,
			Asks: theirs("meetings.out", Meetings, false)},

		{Name: "files.open", Title: "open the file", On: file, Person: InDrive, Spread: Granted, Asks: bearer(onFiles(View), link(View))},
		{Name: "files.download", Title: "download the file", On: file, Person: InDrive, Spread: Granted, Asks: bearer(onFiles(View), download)},
		{Name: "files.edit", Title: "change the file", On: file, Person: InDrive, Spread: Granted,
			Asks: bearer(onFiles(Contribute), link(Contribute))},
		{Name: "files.upload", Title: "upload a file", On: file, Person: InDrive, Spread: Granted, Asks: onFiles(Contribute)},
		{Name: "files.delete", Title: "delete the file", On: file, Person: InDrive, Spread: Granted, Asks: onFiles(Contribute)},
		{Name: "files.share", Title: "share the file", On: file, Address: true, Person: SubjectOrDrive, Spread: Granted,
			Asks: both(Ask{Of: Addressee, Level: ByRule, LevelRule: r("files.domains"), Key: In(Files),
				Needs: []Need{kind(GivenTo, "files.given_to"), personalA}, Holding: MemberOfSpace, Role: Contribute},
				[]Need{{Kind: AtOwn, Rule: r("files.reshare"), Value: On}})},

		{Name: "mail.forward", Title: "forward mail automatically", On: []ResourceKind{Mailbox}, Address: true, Person: SubjectPerson,
			Asks: [NumClasses]*Ask{Ours: {Of: Addressee, Level: ByRule, LevelRule: r("mail.forward"), Key: Out(Mail),
				Needs: []Need{kind(KeepCopy, "mail.forward_copy"), kind(SetBy, "mail.forward_set_by")}, Holding: OwnMailbox}}},
		{Name: "mail.see_busy", Title: "see busy times", On: diary, Person: Owner, Spread: Wide, Asks: calendar(calendarBusy)},
		{Name: "mail.see_subject", Title: "see subject and place of entries", On: diary, Person: Owner, Spread: Wide,
			Asks: calendar(calendarSubject)},
		{Name: "mail.see_details", Title: "see all of the entries", On: diary, Person: Owner, Spread: Wide, Asks: calendar(calendarFull)},

		{Name: "reports.view", Title: "view the report", On: report, NoBrowsing: true, Licence: true, Spread: Granted, Asks: onReports(View)},
		{Name: "reports.export", Title: "take the data of the report out", On: report, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.export", On))},
		{Name: "reports.browse", Title: "browse for the report", On: report, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.guest_browse", On))},
		{Name: "reports.edit", Title: "change the report", On: report, Licence: true, Spread: Granted,
			Asks: onReports(Contribute, at("reports.guest_edit", On))},
		{Name: "reports.enter", Title: "enter the report area", On: space, AreaOnly: true, Licence: true, Spread: Granted,
			Asks: onReports(View, at("reports.guest_edit", On))},
		{Name: "reports.share", Title: "share the report", On: report, Address: true, Person: SubjectPerson, Spread: Granted, Asks: reportShare},
	}
	// A set of actions is one word: with the 65th action this constant
	// overflows, and nothing compiles until the sets are wider.
	const _ = uint(MaxActions - len(out))
	for i := range out {
		out[i].ID = ActionID(i)
	}
	return out[:]
}

// both gives the same row to our people and to records, which are asked extra
// needs first and hold a role where our people hold the space. An outsider who
// shares onward needs the right to, on top of all that one of ours needs.
func both(ask Ask, extra []Need) [NumClasses]*Ask {
	record := ask
	record.Needs = append(append([]Need{}, extra...), ask.Needs...)
	if ask.Holding == MemberOfSpace {
		record.Holding = ByRole
	}
	return [NumClasses]*Ask{Ours: &ask, Record: &record}
}
