package catalogue

// Gate is one question of a decision; a decision asks all its gates in this order.
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

var gateNames = [...]string{"identity", "domain", "counterpart", "service", "rule", "grant", "licence"}

func (g Gate) String() string { return gateNames[g] }

// GateQuestion says in plain words what the gate asks.
func (g Gate) Question() string {
	return [...]string{
		"Who is this, and can they sign in?",
		"May this address, and is its partner opened?",
		"Does the partner's own side admit it?",
		"Is the service open to this kind of party here?",
		"Does every rule reach the value it needs?",
		"Is there a grant, a link or ownership for it?",
		"Is there a licence route?",
	}[g]
}

// Condition is something that a yes still asks for at the door.
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

var conditionNames = [...]string{"sign_in", "one_time_code", "accept_terms", "passcode", "password", "held_until_admitted", "counterpart_unconfirmed", "presenter_asked", "no_browsing", "becomes_guest", "settling"}

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

// Code names what a cause says.
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
type CauseEntry struct {
	Name string
	Text string
	Next string
}

var causeEntries = [NumCodes]CauseEntry{
	PersonOfOurs:    {"person_of_ours", "{a} is one of our people.", ""},
	RecordActive:    {"record_active", "{a} holds a record with us that is active.", ""},
	RecordInvited:   {"record_invited", "{a} was invited and has not accepted yet.", "Ask {a} to accept the invitation; an invited record can only sign in."},
	RecordSuspended: {"record_suspended", "The record of {a} is suspended{b}.", "Bring the record back once its cause is gone."},
	SignInMethod:    {"sign_in_method", "There is a way to sign in: {value}.", ""},
	NoSignInMethod:  {"no_sign_in_method", "No way to sign in serves {a}: {title} leaves {value}.", "Add a method to {rule} that serves this address."},
	TermsAccepted:   {"terms_accepted", "The terms of use are accepted.", ""},
	TermsOpen:       {"terms_open", "The terms of use are required and not yet accepted; they are asked for at the door.", ""},
	HomeAccount:     {"home_account", "{a} comes with an account of its own elsewhere.", ""},
	LinkHolder:      {"link_holder", "Whoever holds the link {a}.", ""},
	NoSuchPerson:    {"no_such_person", "{a} is at our own domain, and nobody there has this address.", "Check the spelling, or add the person."},

	NotBarred:           {"not_barred", "{a} is not barred.", ""},
	BarredAddress:       {"barred_address", "The address {a} is barred{b}.", "Lift the bar on {a} if it no longer holds."},
	BarredDomain:        {"barred_domain", "The domain {a} is barred{b}.", "Lift the bar on {a} if it no longer holds."},
	LevelMet:            {"level_met", "{title} is {value}, and {a} satisfies it.", ""},
	LevelClosed:         {"level_closed", "{title} is closed: nobody outside.", "Set {rule} to listed and open the partner, if that is wanted."},
	NotListed:           {"not_listed", "{title} admits listed partners only, and no partner stands behind {a}.", "Add {a} to a partner, or make a partner of it."},
	NotOpened:           {"not_opened", "{title} admits listed partners only, and {a} is not opened for {b}.", "Open the partner {a} for {b}."},
	OpenedNo:            {"opened_no", "The partner {a} is closed for {b}.", "Change the opening of {a} for {b}."},
	StandingActive:      {"standing_active", "The partner {a} is active.", ""},
	StandingSuspended:   {"standing_suspended", "The partner {a} is suspended: everything stops, nothing is forgotten.", "Bring the partner {a} back, if the reason is gone."},
	StandingEnded:       {"standing_ended", "The connection with the partner {a} has ended.", "Bring the partner {a} back, if you work together again."},
	InSpaceParties:      {"in_space_parties", "{a} is among those from outside whom {b} admits.", ""},
	OutsideSpaceParties: {"outside_space_parties", "{b} admits only some from outside, and {a} is not among them.", "Ask an owner of {b} to admit {a} there."},
	SignInDomain:        {"sign_in_domain", "{a} is at a domain that the meeting admits.", ""},
	OtherSignInDomain:   {"other_sign_in_domain", "The meeting admits only some domains, and {a} is at none of them.", "Ask the host to add the domain to the meeting."},

	TheirsAdmits:       {"theirs_admits", "{a} admits this on its side ({b}).", ""},
	TheirsUnknown:      {"theirs_unknown", "Whether {a} admits this on its side is not known.", ""},
	TheirsRefuses:      {"theirs_refuses", "{a} refuses {b} on its own side.", "Ask the administrator of {a} to admit it."},
	TheirsLacksFeature: {"theirs_lacks_feature", "{a} admits part of this on its side, but not {b}.", "Ask the administrator of {a} to admit {b}."},

	SwitchOn:  {"switch_on", "{title}: {value}.", ""},
	SwitchOff: {"switch_off", "{title} is {value}.", "Set {rule} to {needed} where it may be set."},
	ByNature:  {"by_nature", "This is not for this kind of party: {a}.", "No setting changes this; choose another way."},

	RuleMet:         {"rule_met", "{title} is {value}; {needed} is enough.", ""},
	RuleSays:        {"rule_says", "{title}: {value}.", ""},
	RuleShort:       {"rule_short", "{title} is {value}, and {needed} is needed.", "Set {rule} to {needed} where it may be set."},
	PasscodeMissing: {"passcode_missing", "A passcode is required, and the meeting has none.", "Ask the host to give the meeting a passcode."},
	PasswordMissing: {"password_missing", "A password is required, and the link has none.", "Ask for a link with a password."},
	CopyMissing:     {"copy_missing", "A copy must stay in the mailbox, and this forwarder keeps none.", "Keep a copy in the mailbox."},

	DownloadMissing: {"download_missing", "The link {a} opens without download.", "Make a link that lets download."},

	HasGrant:      {"granted", "{a} gives the role {b}.", ""},
	NoGrant:       {"no_grant", "Nothing gives {a} a role on {b}.", "Give {a} a role on {b}."},
	RoleTooLow:    {"role_too_low", "The role is {a}, and {b} is needed.", "Raise the role."},
	PrivateItem:   {"private_item", "{a} is private: it needs a grant of its own.", "Ask an owner for a grant on {a} itself."},
	GrantOver:     {"grant_over", "The grant on {a} ended with {b}.", "Renew the grant on {a}."},
	GrantAhead:    {"grant_ahead", "The grant on {a} begins on {b}.", "Wait, or let the grant begin earlier."},
	LinkLive:      {"link_live", "The link {a} works until {b}.", ""},
	LinkElsewhere: {"link_elsewhere", "The link {a} opens something else.", "Make a link to this item."},
	LinkOver:      {"link_over", "The link {a} ended with {b}.", "Make a new link."},
	LinkAhead:     {"link_ahead", "The link {a} was made later, on {b}.", ""},
	LinkUndated:   {"link_undated", "Nobody knows when the link {a} was made, so it opens nothing.", "End it and make a new link."},
	LinkRightLow:  {"link_right_low", "The link {a} allows {b} only.", "Set {rule} and the link's own right to contribute, if that is wanted."},
	IsSelf:        {"is_self", "It is {a}'s own.", ""},
	NotSelf:       {"not_self", "It belongs to somebody else than {a}.", "Ask for {a}'s own."},
	MayInviteHere: {"may_invite_here", "{a} may invite into {b}.", ""},
	NotInviter:    {"not_inviter", "Into {b}, {a} cannot invite.", "Ask an owner of {b} to invite."},
	IsMember:      {"is_member", "{a} is a member or owner of {b}.", ""},
	NotMember:     {"not_member", "{a} is no member of {b}.", "Ask an owner of {b}."},

	IsJoinable:   {"joinable_course", "{a} is a course that may be joined.", ""},
	NotJoinable:  {"not_joinable", "{a} is no course that may be joined.", "Ask an owner of {a} to invite, or to let the course be joined."},
	MeetingAlone: {"meeting_alone", "{a} belongs to no space, so nobody from outside has a role there.", "Hold the meeting in a space."},

	LicenceRoute:   {"licence_route", "There is a licence route: {b}.", ""},
	NoLicenceRoute: {"no_licence_route", "No licence route counts: {title} takes {value}, and {a} has {b}.", "Give the area a licence of its own, or record the licence of the guest."},
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
