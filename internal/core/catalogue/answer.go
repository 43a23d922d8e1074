package catalogue

// What answers are made of: gates, conditions, and the codes of causes with
// their sentences.

// Gate is one question of a decision; a decision asks all its gates in this
// order. All are asked, also behind the first that refuses: an administrator
// who mends one wants to know which is next.
type Gate uint8

// The gates of model §4.
const (
	Identity Gate = iota
	DomainGate
	Counterpart
	ServiceGate
	RuleGate
	GrantGate
	LicenceGate
	NumGates
)

// gateNames are the words for gates, by Gate, as answers and filters have them.
var gateNames = [...]string{"identity", "domain", "counterpart", "service", "rule", "grant", "licence"}

func (g Gate) String() string { return gateNames[g] }

// Condition is something that a yes still asks for at the door. A condition is
// no refusal: the answer is yes, and the person meets it on the way.
type Condition uint16

// The conditions of model §4, as bits in the order in which they are listed.
const (
	SignIn Condition = 1 << iota
	OneTimeCode
	AcceptTerms
	PasscodeAsked
	PasswordAsked
	HeldUntilAdmitted
	CounterpartUnconfirmed
	PresenterAsked
	NoBrowsing
	BecomesGuest
	Settling
)

// conditionNames are the words for conditions, in the order of their bits.
var conditionNames = [...]string{"sign_in", "one_time_code", "accept_terms", "passcode", "password", "held_until_admitted",
	"counterpart_unconfirmed", "presenter_asked", "no_browsing", "becomes_guest", "settling"}

// Names lists the conditions in c in their fixed order.
func (c Condition) Names() []string {
	out := []string{}
	for i, n := range conditionNames {
		if c&(1<<i) != 0 {
			out = append(out, n)
		}
	}
	return out
}

// ParseCondition reads a condition by its name.
func ParseCondition(name string) (Condition, bool) {
	for i, n := range conditionNames {
		if n == name {
			return 1 << i, true
		}
	}
	return 0, false
}

// Code names what a cause says. A cause has a code, and what the sentence is
// about: see CauseEntry. Codes are written in answers and in the journal by
// name; their numbers are of one build.
type Code uint8

// The causes. Those of a pass come first at every gate.
const (
	PersonOfOurs Code = iota
	RecordActive
	RecordInvited
	RecordSuspended
	SignInMethod
	NoSignInMethod
	TermsAccepted
	TermsOpen
	HomeAccount
	LinkHolder
	NoSuchPerson

	NotBarred
	BarredAddress
	BarredDomain
	LevelMet
	LevelClosed
	NotListed
	NotOpened
	OpenedNo
	StandingActive
	StandingSuspended
	StandingEnded
	InSpaceParties
	OutsideSpaceParties
	SignInDomain
	OtherSignInDomain

	TheirsAdmits
	TheirsUnknown
	TheirsRefuses
	TheirsLacksFeature

	SwitchOn
	SwitchOff
	ByNature

	RuleMet
	RuleSays
	RuleShort
	PasscodeMissing
	PasswordMissing
	CopyMissing
	DownloadMissing

	HasGrant
	NoGrant
	RoleTooLow
	PrivateItem
	GrantOver
	GrantAhead
	LinkLive
	LinkElsewhere
	LinkOver
	LinkAhead
	LinkRightLow
	IsSelf
	NotSelf
	MayInviteHere
	NotInviter
	IsMember
	NotMember
	IsJoinable
	NotJoinable
	MeetingAlone

	LicenceRoute
	NoLicenceRoute

	LinkUndated
	NumCodes
)

// CauseEntry describes a code: its stable name, the sentence shown, and what to
// do where it refuses. In braces stand what the cause carries: {a} and {b} are
// names, {rule}, {title}, {value} and {needed} belong to a rule.
//
// Next is empty for what passes, and for what no setting changes.
type CauseEntry struct {
	Name string
	Text string
	Next string
}

// Each text is one sentence that somebody would say aloud, complete without its
// code. The same texts are shown by console, client, API and mails.
var causeEntries = [NumCodes]CauseEntry{
	PersonOfOurs: {"person_of_ours", "{a} is one of our people.", ""},
	RecordActive: {"record_active", "{a} is a guest with an active record.", ""},
	RecordInvited: {"record_invited", "{a} has been invited and has not accepted yet.",
		"Ask {a} to accept the invitation. Until then they can only sign in."},
	RecordSuspended: {"record_suspended", "{a} is suspended{b}.", "Bring the guest back once the cause is gone."},
	SignInMethod:    {"sign_in_method", "They can sign in with: {value}.", ""},
	NoSignInMethod: {"no_sign_in_method", "{a} has no way to sign in: “{title}” allows only {value}.",
		"Add a method to {rule} that serves this address."},
	TermsAccepted: {"terms_accepted", "They have accepted the terms of use.", ""},
	TermsOpen:     {"terms_open", "They have not accepted the terms of use yet, and are asked to when they come in.", ""},
	HomeAccount:   {"home_account", "{a} uses an account of another organisation.", ""},
	LinkHolder:    {"link_holder", "Anybody who has the link {a}.", ""},
	NoSuchPerson: {"no_such_person", "{a} is in our own domain, but nobody here has this address.",
		"Check the spelling, or add the person."},

	NotBarred:     {"not_barred", "{a} is not barred.", ""},
	BarredAddress: {"barred_address", "The address {a} is barred{b}.", "Lift the bar on {a} if it no longer holds."},
	BarredDomain:  {"barred_domain", "The domain {a} is barred{b}.", "Lift the bar on {a} if it no longer holds."},
	LevelMet:      {"level_met", "“{title}” is set to {value}, and {a} qualifies.", ""},
	LevelClosed: {"level_closed", "“{title}” is set to closed: nobody from outside.",
		"Set {rule} to listed and open the partner, if that is wanted."},
	NotListed: {"not_listed", "“{title}” is set to listed partners only, and {a} belongs to no partner.",
		"Add {a} to a partner, or make a partner of it."},
	NotOpened: {"not_opened", "“{title}” is set to listed partners only, and {a} is not open for {b}.",
		"Open the partner {a} for {b}."},
	OpenedNo:       {"opened_no", "The partner {a} is closed for {b}.", "Change the opening of {a} for {b}."},
	StandingActive: {"standing_active", "The partner {a} is active.", ""},
	StandingSuspended: {"standing_suspended", "The partner {a} is suspended: everything stops, nothing is forgotten.",
		"Bring the partner {a} back, if the reason is gone."},
	StandingEnded: {"standing_ended", "The connection with the partner {a} has ended.",
		"Bring the partner {a} back, if you work together again."},
	InSpaceParties: {"in_space_parties", "{b} admits only some people from outside, and {a} is one of them.", ""},
	OutsideSpaceParties: {"outside_space_parties", "{b} admits only some people from outside, and {a} is not one of them.",
		"Ask an owner of {b} to admit {a} there."},
	SignInDomain: {"sign_in_domain", "The meeting admits the domain of {a}.", ""},
	OtherSignInDomain: {"other_sign_in_domain", "The meeting admits only some domains, and {a} belongs to none of them.",
		"Ask the host to add the domain to the meeting."},

	TheirsAdmits:  {"theirs_admits", "{a} admits this on its side ({b}).", ""},
	TheirsUnknown: {"theirs_unknown", "It is not known whether {a} admits this on its side.", ""},
	TheirsRefuses: {"theirs_refuses", "{a} refuses {b} on its own side.", "Ask the administrator of {a} to admit it."},
	TheirsLacksFeature: {"theirs_lacks_feature", "{a} admits part of this on its side, but not {b}.",
		"Ask the administrator of {a} to admit {b}."},

	SwitchOn:  {"switch_on", "“{title}” is {value}.", ""},
	SwitchOff: {"switch_off", "“{title}” is {value}.", "Set {rule} to {needed} where it may be set."},
	ByNature:  {"by_nature", "This is not available to this kind of account: {a}.", "No setting changes this; choose another way."},

	RuleMet:         {"rule_met", "“{title}” is set to {value}, which is enough.", ""},
	RuleSays:        {"rule_says", "“{title}” is set to {value}.", ""},
	RuleShort:       {"rule_short", "“{title}” is set to {value}; this needs {needed}.", "Set {rule} to {needed} where it may be set."},
	PasscodeMissing: {"passcode_missing", "A passcode is required, and the meeting has none.", "Ask the host to give the meeting a passcode."},
	PasswordMissing: {"password_missing", "A password is required, and the link has none.", "Ask for a link with a password."},
	CopyMissing:     {"copy_missing", "A copy must stay in the mailbox, and this forwarder keeps none.", "Keep a copy in the mailbox."},

	DownloadMissing: {"download_missing", "The link {a} does not allow downloads.", "Make a link that allows downloads."},

	HasGrant:      {"granted", "{a} gives them the role {b}.", ""},
	NoGrant:       {"no_grant", "{a} has no role on {b}.", "Give {a} a role on {b}."},
	RoleTooLow:    {"role_too_low", "Their role is {a}; this needs {b}.", "Raise the role to {b}."},
	PrivateItem:   {"private_item", "{a} is private: a role in the space does not open it.", "Ask an owner for a grant on {a} itself."},
	GrantOver:     {"grant_over", "The grant on {a} ended on {b}.", "Renew the grant on {a}."},
	GrantAhead:    {"grant_ahead", "The grant on {a} begins on {b}.", "Wait, or let the grant begin earlier."},
	LinkLive:      {"link_live", "The link {a} works until {b}.", ""},
	LinkElsewhere: {"link_elsewhere", "The link {a} opens something else.", "Make a link to this item."},
	LinkOver:      {"link_over", "The link {a} ended on {b}.", "Make a new link."},
	LinkAhead:     {"link_ahead", "The link {a} did not exist yet: it was made on {b}.", ""},
	LinkUndated:   {"link_undated", "Nobody knows when the link {a} was made, so it opens nothing.", "End it and make a new link."},
	LinkRightLow: {"link_right_low", "The link {a} only allows {b}.",
		"Set {rule} and the link's own right to contribute, if that is wanted."},
	IsSelf:        {"is_self", "It belongs to {a}.", ""},
	NotSelf:       {"not_self", "It belongs to somebody other than {a}.", "Ask for {a}'s own."},
	MayInviteHere: {"may_invite_here", "{a} may invite people into {b}.", ""},
	NotInviter:    {"not_inviter", "{a} may not invite people into {b}.", "Ask an owner of {b} to invite them."},
	IsMember:      {"is_member", "{a} is a member or owner of {b}.", ""},
	NotMember:     {"not_member", "{a} is not a member of {b}.", "Ask an owner of {b}."},

	IsJoinable: {"joinable_course", "{a} is a course that people may join.", ""},
	NotJoinable: {"not_joinable", "{a} is not a course that people may join by themselves.",
		"Ask an owner of {a} to invite, or to let the course be joined."},
	MeetingAlone: {"meeting_alone", "{a} belongs to no space, so nobody from outside has a role there.", "Hold the meeting in a space."},

	LicenceRoute: {"licence_route", "A licence covers this: {b}.", ""},
	NoLicenceRoute: {"no_licence_route", "No licence covers this: “{title}” allows {value}, and {a} has {b}.",
		"Give the area a licence of its own, or record the licence of the guest."},
}

// Entry returns the description of c.
func (c Code) Entry() *CauseEntry { return &causeEntries[c] }

func (c Code) String() string { return causeEntries[c].Name }

// Codes lists every code.
func Codes() []Code {
	out := make([]Code, NumCodes)
	for i := range out {
		out[i] = Code(i)
	}
	return out
}
