package catalogue

import (
	"slices"
	"strings"
)

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

// TitleOn is the title of what is done with a thing of a kind: what is done with
// files is done with folders, too, and then says so.
func (a *Action) TitleOn(kind ResourceKind) string {
	if kind == Folder {
		return strings.Replace(a.Title, "the file", "the folder", 1)
	}
	return a.Title
}

// Rows returns what is asked of each class of account about a resource of kind
// k.
func (a *Action) Rows(k ResourceKind) *[NumClasses]*Ask {
	if a.InSpace != nil && k.IsItem() {
		return a.InSpace
	}
	return &a.Asks
}

// Keys lists the openings of partners that a yes may rest on, each once; own says
// that they are always those of who asks, never of somebody whom it is about.
func (a *Action) Keys() (keys []Key, own bool) {
	own = true
	var add func(class Class, ask *Ask)
	add = func(class Class, ask *Ask) {
		if ask == nil {
			return
		}
		some := make([]Key, 0, 3)
		// Whoever would become a guest must be one who might have been invited.
		if ask.Level == ByRule || ask.Level == Listed || ask.Level == AnyLevel && class == Newcomer {
			some = append(some, ask.Key)
			if ask.Holding == MayInvite { // somebody is let into a space
				some = append(some, In(Spaces))
			}
		}
		for _, n := range ask.Needs {
			if n.Kind == Outsiders { // people of partners opened for meetings are known
				some = append(some, In(Meetings))
			}
		}
		for _, k := range some {
			if !slices.Contains(keys, k) {
				keys = append(keys, k)
			}
		}
		own = own && ask.Of == Subject
		add(class, ask.Private)
	}
	for _, rows := range []*[NumClasses]*Ask{&a.Asks, a.InSpace} {
		if rows != nil {
			for class, ask := range rows {
				add(Class(class), ask)
			}
		}
	}
	return keys, own
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
