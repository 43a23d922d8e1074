package world

import (
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// World is policy and inventory together (model §6), each list in the order of
// its file, keys unique within it. A file may hold a part of it; whatever it
// leaves out is nil or empty, and Merge lays a part over a whole.
type World struct {
	Policy
	Inventory
}

// Policy is what is weighed in drafts and published as revisions. A change of
// it is drafted, weighed, perhaps confirmed by a second person, and can be
// taken back.
type Policy struct {
	Organisation *Organisation // nil where a file leaves it out
	Settings     *Settings     // nil where a file leaves them out
	Rules        []RuleSetting
	Partners     []Partner
	Barred       []Bar
	Personal     []Entry
	Exceptions   []Exception
	Bundles      []Bundle
	Expectations []Expectation
}

// Inventory is what there is and what happens to it, which changes at once. A
// change of it has a journal entry of its own and is in force at once.
type Inventory struct {
	People      []Person
	Groups      []Group
	Spaces      []Space
	DomainLists []DomainList
	Meetings    []Meeting
	Guests      []Guest
	Grants      []Grant
	Holdings    []Holding
	Links       []Link
	Forwarders  []Forwarder
	Contacts    []Contact
	Letters     []Letter
	Requests    []BundleRequest // for bundles, that nobody has answered
	Rounds      []Round         // of review, that are not over
	Statements  []Statement
	DatesFrom   []DatesFrom
}

// DatesFrom is a floor of dates (model §5): before it no counted step falls. It
// concerns the people of a partner, a kind of step, or everybody; a guest has
// one of its own. Never means that what was taken over waits.
type DatesFrom struct {
	Partner string // id
	Step    string // as the causes of dated steps are written
	From    moment.Moment
	// Mail is the moment from which mail about what is due is sent; what should
	// have been sent before never is. Never while mail waits.
	Mail moment.Moment
}

// For writes whom the floor concerns as the file format does: organisation,
// partner:ID or step:CAUSE.
func (d *DatesFrom) For() string {
	switch {
	case d.Partner != "":
		return "partner:" + d.Partner
	case d.Step != "":
		return "step:" + d.Step
	}
	return "organisation"
}

// Organisation is the one whose suite is governed. Its zone decides when a day
// ends; UTC where none is said.
type Organisation struct {
	Name      string
	Domains   []Entry
	Zone      *time.Location
	TwoPeople string // never, loosening, always
}

// Settings are numbers of the service itself that policy decides. Numbers of
// days and messages; Unset or zero are those of a new installation.
type Settings struct {
	StanceDays catalogue.Value // after so many days an admitting stance counts as unknown
	ForgetDays catalogue.Value // after so many days a removed record is known by a pseudonym alone
	Terms      string          // the terms of use that guests accept; empty: those that come with the product
	TermsPt    string          // the same in Portuguese; empty: as Terms says
	TermsSince moment.Moment   // terms accepted before count no longer; zero where they never changed
	Sightings  Sightings
	Brake      catalogue.Value // so many records let go, or messages about dates sent, in a day wait until somebody says so
	MemberMail catalogue.Value // so many messages to outsiders are a member's in a day
	LapseDays  catalogue.Value // after so many days a bundle that was asked for, and that nobody answered, is asked for no more
	// SecondFactor is whose accounts have to have one.
	SecondFactor SecondFactor
	SignUp       SignUp
}

// SecondFactor is who has to prove who they are by a second factor. It is about
// accounts of this service, not about guests. The values are in order: each
// asks it of more people.
type SecondFactor uint8

// Who has to.
const (
	FactorNobody SecondFactor = iota
	FactorAdministrators
	FactorKeepers // and administrators
	FactorAll
)

// SecondFactorNames are the words of the file format, by SecondFactor.
var SecondFactorNames = []string{"nobody", "administrators", "keepers", "all"}

// SignUp is what happens before an outsider who signs up by themselves has a
// record.
type SignUp struct {
	Asks   []string // questions that they answer
	AsksPt []string // the same in Portuguese; empty: as Asks says
	By     string   // a person of ours who lets them in or not; empty: they come in at once
}

// Waits reports whether there is anything between proving an address and having
// a record.
func (x *SignUp) Waits() bool { return len(x.Asks) > 0 || x.By != "" }

// In returns the questions in a language.
func (x *SignUp) In(language string) []string {
	if language == "pt" && len(x.AsksPt) > 0 {
		return x.AsksPt
	}
	return x.Asks
}

// Sightings says whether we are told when guests were last seen; where not,
// nobody is idle. Ending access for not being seen needs somebody who sees.
type Sightings uint8

// A file tells sightings where it does not say otherwise; a new installation
// does not, until a system or its own door is their source.
const (
	SightingsTold Sightings = iota
	SightingsNone
)

// SightingsNames are the words of the file format, by Sightings.
var SightingsNames = []string{"told", "none"}

// The settings of a new installation. A day's brake is for an installation of
// some thousand guests; a larger one sets its own.
const (
	StartStanceDays catalogue.Value = 180
	StartForgetDays catalogue.Value = 365
	StartBrake      catalogue.Value = 200
	StartMemberMail catalogue.Value = 50
	StartLapseDays  catalogue.Value = 14
)

// StartSettings returns the settings of a new installation.
func StartSettings() Settings {
	return Settings{StanceDays: StartStanceDays, ForgetDays: StartForgetDays, Brake: StartBrake, MemberMail: StartMemberMail,
		LapseDays: StartLapseDays}
}

// SettingsNow returns what is set, or the start where nothing is.
func (w *World) SettingsNow() Settings {
	if w.Settings == nil {
		return StartSettings()
	}
	return *w.Settings
}

// Entry is a domain, exact unless it says subdomains. Subdomains means names
// below it at any depth, and the domain itself.
type Entry struct {
	Domain     addr.Domain
	Subdomains bool
	LookAlike  bool // it looks like another's domain, and is meant all the same
}

// Bar is a domain or one address that never gets in.
type Bar struct {
	Entry   // where Address is zero
	Address addr.Address
	Reason  string
}

// Key returns what the bar is known by: its address or its domain.
func (b *Bar) Key() string {
	if !b.Address.IsZero() {
		return b.Address.String()
	}
	return b.Domain.String()
}

// Setting is one value that a layer gives a rule. A held value does not count:
// it is looser than the limit and waits, so that lowering a limit loses
// nobody's wish and raising it again brings nothing back by surprise.
type Setting struct {
	Rule  catalogue.RuleID
	Value catalogue.Value
	Held  bool
}

// RuleSetting is the organisation's limit and default of a rule. Unset stands
// where a file leaves one out.
type RuleSetting struct {
	Rule    catalogue.RuleID
	Limit   catalogue.Value
	Default catalogue.Value
	Held    bool            // the default is looser than the limit was, and waits to be released
	Counts  catalogue.Value // the default that counts while it is held; Unset: the tightest
}

// Opening is what a partner is opened for: unset, yes or no. What unset comes
// to depends on the level that a rule asks: see Level.
type Opening uint8

// The three openings.
const (
	OpenUnset Opening = iota
	OpenYes
	OpenNo
)

// Standing of a partner. Suspended stops everything and forgets nothing; ended
// closes what dates of its people say.
type Standing uint8

// The standings of model §1.
const (
	Active Standing = iota
	Suspended
	Ended
)

// StandingNames are the words of the file format, by Standing.
var StandingNames = []string{"active", "suspended", "ended"}

// Partner is an outside organisation we keep a record of. Its people are
// whoever has an address at its domains; nobody is entered one by one.
type Partner struct {
	ID             string
	Name           string
	AlsoNamed      []string // other names by which it is looked for
	Domains        []Entry
	Standing       Standing
	StandingSince  moment.Moment // Always where none is said
	StandingReason string
	Contacts       []string      // who administers their side: addresses or plain words
	Owner          string        // a person's id
	Review         moment.Moment // when somebody should look at it again; Never where none is said
	Note           string
	Statement      string // where their signed statement is published; empty where they publish none
	SignIn         string // the issuer of their own sign-in (OpenID Connect); empty where there is none
	SignInClient   string // as whom we are known there
	// SignInUnverified takes addresses that their sign-in does not call
	// verified (email_verified, OpenID Connect Core §5.1).
	SignInUnverified bool
	Opened           [catalogue.NumKeys]Opening
	// Still are keys for whose levels it is let through though it is suspended
	// or has ended: as it was found in a system. It is never kept.
	Still  []catalogue.Key
	Rules  []Setting
	Stance []Stance
}

// Letter is a request to a partner's administrator to admit something, and what
// became of it. It is open until the stance of its partner answers every key.
type Letter struct {
	ID       string
	Partner  string
	Keys     []catalogue.Key // what they were asked to admit, from our side
	Sent     moment.Moment
	By       string // who sent it
	To       string // whom it was sent to
	Note     string
	Answered moment.Moment // Never while it is open
	Answer   Answer
	Said     string // their answer in words, or why it was closed
}

// Statement is what is known of a partner's signed statement: the newest that
// was taken, and what went wrong since. Signatures are checked where it is
// fetched.
type Statement struct {
	Partner string
	Keys    []string      // thumbprints (RFC 7638) that may sign: pinned, and announced by what they signed
	Issued  moment.Moment // of the newest that was taken; Always for none
	Until   moment.Moment // its end; Never for none
	Fetched moment.Moment // the last try; Always for none
	Problem string        // code of what was wrong at the last try; empty where it was taken
	Reason  string        // the same in a sentence
	Offered string        // with key_changed: the thumbprint of the key that signed it
}

// Answer is what became of a letter.
type Answer uint8

// A letter is open, or its wish was admitted or refused, or it was withdrawn.
const (
	NoAnswer Answer = iota
	AnswerAdmitted
	AnswerRefused
	AnswerWithdrawn
)

// AnswerNames are the words of the file format, by Answer.
var AnswerNames = []string{"open", "admitted", "refused", "withdrawn"}

// Stance is what a partner's side says about a key, as far as we know. An
// admission grows old, a refusal does not. Keys are ours: chat.in is their
// people writing to ours, which their side calls going out.
type Stance struct {
	Key      catalogue.Key
	Says     Says
	Features []catalogue.Feature // nil: all
	Source   string              // recorded, statement, trial, attempt
	AsOf     moment.Moment       // Always where none is said
	Until    moment.Moment       // the end of an admission that came with one; else Never
	Said     string              // who said so, where somebody did
}

// Says is what a stance says.
type Says uint8

// The three things a stance may say.
const (
	SaysUnknown Says = iota
	SaysAdmits
	SaysRefuses
)

// SaysNames are the words of the file format, by Says.
var SaysNames = []string{"unknown", "admits", "refuses"}

// Sources are the ways we may know a stance.
var Sources = []string{"recorded", "statement", "trial", "attempt"}

// PartyRef names parties: a partner, an exact domain, a group or an address.
// Exactly one of the four is set, and with none it is nobody.
type PartyRef struct {
	Partner string
	Domain  addr.Domain
	Group   string
	Address addr.Address
}

// String writes the reference as the file format does.
func (p PartyRef) String() string {
	switch {
	case p.Partner != "":
		return "partner:" + p.Partner
	case !p.Domain.IsZero():
		return "domain:" + p.Domain.String()
	case p.Group != "":
		return "group:" + p.Group
	}
	return p.Address.String()
}

// Exception is a few rule values for named people or groups. It is for people
// of ours or for groups of them, towards parties, for a time.
type Exception struct {
	ID          string
	People      []string
	Groups      []string
	Parties     []PartyRef // nil: towards everybody
	Rules       []Setting
	From, Until moment.Moment
	Reason      string
}

// Expectation is a saved statement about reach that must stay true (practice
// §3). Its texts were checked where they entered; expect.Of says what they
// mean.
type Expectation struct {
	ID       string
	Party    string // everybody, an address, partner:ID, domain:NAME, kind:KIND or group:ID
	Action   string // an action's name, SERVICE.* or *
	Resource string // kind:id, of which a space is meant with all in it; or *
	Expect   Expect
	Could    bool   // it holds for what could come to be without an administrator, too
	Tell     bool   // its owner hears whenever the answer, the audience or the number changes
	Owner    string // a person's id; empty: the administrators
	Why      string
}

// Everybody is everybody outside, as an expectation names them.
const Everybody = "everybody"

// PartyKinds are the kinds of party of model §1, as an expectation names them.
var PartyKinds = []string{"guest", "provisioned", "federated", "personal", "bearer"}

// Expect is what an expectation says of whoever it is about: one of its fields
// counts, as Sort says.
type Expect struct {
	Sort       ExpectSort
	Only       []string      // with OnlyParties: written as Expectation.Party is
	Until      moment.Moment // with OnlyUntil: from then on nobody may
	AtMost     int           // with AtMost: so many parties, newcomers not among them
	Conditions []string      // with OnCondition: names of conditions
}

// ExpectSort is the sort of an expectation.
type ExpectSort uint8

// The sorts of practice §3.
const (
	Never ExpectSort = iota
	AlwaysSo
	OnlyParties
	OnlyUntil
	AtMost
	OnCondition
)

// ExpectSortNames are the words of the file format, by ExpectSort.
var ExpectSortNames = []string{"never", "always", "only", "only_until", "at_most", "condition"}
