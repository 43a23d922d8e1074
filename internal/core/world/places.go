package world

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// PersonRole is a set of the roles a person may have. They are roles in the
// suite's governance, and not of this service's accounts.
type PersonRole uint8

// The roles of a person of ours, as bits.
const (
	Administrator PersonRole = 1 << iota
	Auditor
	Keeper
	Introducer
	Sharer
)

// PersonRoleNames are the words of the file format, in the order of the bits.
var PersonRoleNames = []string{"administrator", "auditor", "keeper", "introducer", "sharer"}

// Person is somebody of our own organisation. People are never removed while
// something names them: they leave.
type Person struct {
	ID      string
	Name    string
	Address addr.Address // zero where none is said
	Groups  []string
	Roles   PersonRole
	// Language is what they read their mail in, as en or pt; the first of those
	// there are where it is another or none.
	Language string
	Left     moment.Moment // when they left us; zero while they are here
}

// Group holds people of ours, who say so themselves, and parties. It may hold
// grants, which count for its parties, and stand in exceptions, for its people.
type Group struct {
	ID      string
	Name    string
	Parties []addr.Address
}

// SpaceKind is what a space is.
type SpaceKind uint8

// The kinds of space.
const (
	Team SpaceKind = iota
	Site
	Course
	ReportArea
	Drive
)

// SpaceKindNames are the words of the file format, by SpaceKind.
var SpaceKindNames = []string{"team", "site", "course", "report_area", "drive"}

// Member is a person or a group of ours.
type Member struct {
	Person string
	Group  string
}

// String writes the member as the file format does.
func (m Member) String() string {
	if m.Group != "" {
		return "group:" + m.Group
	}
	return m.Person
}

// Space is a container whose members share what is in it. Who belongs to it of
// ours is in Owners and Members; who from outside follows from grants.
type Space struct {
	ID           string
	Name         string
	Kind         SpaceKind
	Joinable     bool
	JoinsAs      catalogue.Role // what who joins a course from outside gets; NoRole: view
	HouseLicence bool
	Owners       []string
	Members      []Member
	Parties      []PartyRef // nil: whoever the rules admit
	Rules        []Setting
	Items        []Item
}

// Item is something in a space. A private item opens for those alone who hold a
// grant on it.
type Item struct {
	ID      string
	Space   string
	Kind    catalogue.ResourceKind
	Name    string
	Private bool
	Rules   []Setting
}

// DomainList is a list of domains that is kept once and used by many meetings:
// who signs in with an address at one of them does not wait.
type DomainList struct {
	ID      string
	Name    string
	Domains []addr.Domain
}

// Meeting is a meeting of ours. Its door is open to whoever the rules and its
// domains admit; a space is needed for roles in it.
type Meeting struct {
	ID            string
	Name          string
	Host          string
	Space         string // empty where none
	SignInDomains []addr.Domain
	SignInLists   []string // ids of lists of domains that count besides
	StandingRoom  bool
	Passcode      bool
	WaitingText   string // what those read who wait to be let in
	Repeats       Repeats
	Rules         []Setting
}

// Repeats is how often a meeting is held.
type Repeats uint8

// How often a meeting is held.
const (
	Once Repeats = iota
	Daily
	Weekly
	Monthly
)

// RepeatsNames are the words of the file format, by Repeats.
var RepeatsNames = []string{"once", "daily", "weekly", "monthly"}

// State of a record.
type State uint8

// The states a file may give a record. Databases hold the numbers: they never
// change.
const (
	StateActive    State = 0
	StateInvited   State = 1
	StateSuspended State = 2
)

// StateNames are the words of the file format, by State.
var StateNames = []string{StateActive: "active", StateInvited: "invited", StateSuspended: "suspended"}

// Origin is a set of the ways in which a record came to be.
type Origin uint8

// The origins, as bits. Databases hold them: they never change.
const (
	ByInvitation Origin = 1
	ByShare      Origin = 2
	ByRequest    Origin = 4
	ByFeed       Origin = 8
	BySignUp     Origin = 16
)

// OriginNames are the words of the file format, in the order of the bits.
var OriginNames = []string{"invited", "shared", "requested", "fed", "signed_up"}

// Licence says which licence a guest has.
type Licence uint8

// The licences of a guest. Databases hold the numbers: they never change.
const (
	LicenceNone   Licence = 0
	LicenceOurs   Licence = 1
	LicenceTheirs Licence = 2
)

// LicenceNames are the words of the file format, by Licence.
var LicenceNames = []string{LicenceNone: "none", LicenceOurs: "ours", LicenceTheirs: "theirs"}

// Guest is a record of a party. What somebody was given is in grants; a record
// says that they are known, who answers for them, and until when.
type Guest struct {
	Address    addr.Address
	Name       string
	Sponsor    string
	Purpose    string
	State      State
	Cause      string
	StateSince moment.Moment // Always where none is said
	Origins    Origin
	Since      moment.Moment // Always: it always was
	Accepted   moment.Moment // Never where not accepted
	Renewed    moment.Moment // Always where none is said
	Until      moment.Moment // Never where none is said
	Terms      moment.Moment // Never where not accepted
	LastSeen   moment.Moment // Always where none is said
	Language   string
	Location   string
	Licence    Licence
	HomeClosed moment.Moment // when the partner said that the home account is closed; zero where it did not
	DatesFrom  moment.Moment // the record's own floor of dates; Never while it waits, zero for none
	TakenOver  bool          // loaded from elsewhere rather than begun here: it waits where dates wait
}

// Provisioned reports whether the feed is the record's only origin.
func (g *Guest) Provisioned() bool { return g.Origins == ByFeed }

// Resource names a resource: kind:id.
type Resource struct {
	Kind catalogue.ResourceKind
	ID   string
}

// String writes kind:id.
func (r Resource) String() string { return r.Kind.String() + ":" + r.ID }

// Grant is a party's role on a resource. Its key is whom, on what, with which
// role and from when.
type Grant struct {
	Address     addr.Address // zero where another of the four is set
	Group       string
	Partner     string      // everybody of a partner, with their home accounts
	Domain      addr.Domain // everybody at a domain, exactly, with their home accounts
	Resource    Resource
	Role        catalogue.Role
	From, Until moment.Moment
	Sponsor     string
	Reviewed    moment.Moment // Always where none is said
	Waits       moment.Moment // until when a round of review asks about it: it counts as looked at then; 0 where none does
	Bundle      string        // the id of the bundle that it follows from, which nothing keeps; empty where it was given by hand
}

// Confirmed is from when on its own review days count: when it was looked at
// last, or, while a round of review asks about it, when that round ends, as it
// decides until then (practice §2).
func (g *Grant) Confirmed() moment.Moment {
	if g.Waits == 0 {
		return g.Reviewed
	}
	return max(g.Reviewed, g.Waits)
}

// Party writes who holds the grant as the file format does.
func (g *Grant) Party() string { return g.Holder().String() }

// Holder returns who holds the grant.
func (g *Grant) Holder() PartyRef {
	return PartyRef{Partner: g.Partner, Domain: g.Domain, Group: g.Group, Address: g.Address}
}

// ToMany reports whether it is for a partner or a domain as a whole: membership
// of a space with the home account (model §4).
func (g *Grant) ToMany() bool { return g.Partner != "" || !g.Domain.IsZero() }

// Link is a secret address that opens one item. One for whoever holds it is
// nobody's; one that names people gives them what a grant would.
type Link struct {
	ID       string
	Item     Resource
	For      []addr.Address // nil: bearer
	Right    catalogue.Role
	Created  moment.Moment
	Until    moment.Moment
	Download bool
	Password bool
	By       string
}

// Bearer reports whether the link works for whoever holds it.
func (l *Link) Bearer() bool { return l.For == nil }

// Forwarder sends a person's mail outside automatically. SetBy says who set it
// up, which a rule may ask.
type Forwarder struct {
	Mailbox  string
	To       addr.Address
	KeepCopy bool
	SetBy    string // person, administrator, mail_rule
}

// Contact is an agreement between a person and a party to see each other. One
// that is not accepted counts for nothing.
type Contact struct {
	Person   string
	Party    addr.Address
	Accepted bool
}
