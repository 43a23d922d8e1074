// Package may says who of those who are signed in may do what with which record. Which operations a role may
// call at all stands in the contract (x-roles); here is what depends on the record: a member's own spaces, a
// keeper's partners, whose guest somebody is. Who may change which place is beside the changes themselves
// (service, places_may.go), since it depends on what is changed.
//
// Each function answers one question. Those that refuse say in words who can, for whoever is refused.
package may

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/world"
)

// ErrForbidden is what somebody may not do; the text says whom to ask.
var ErrForbidden = errors.New("forbidden")

func refuse(format string, args ...any) error {
	return fmt.Errorf("%w: "+format, append([]any{ErrForbidden}, args...)...)
}

// Role is what an account, a guest or a token is for.
type Role string

// The roles of accounts, of guests, and of tokens that stand for no person.
const (
	Administrator Role = "administrator"
	Auditor       Role = "auditor"
	Keeper        Role = "keeper"
	Member        Role = "member"
	Guest         Role = "guest"
	Decisions     Role = "decisions"    // a service token that asks
	Metrics       Role = "metrics"      // a service token that reads metrics
	Reading       Role = "reading"      // a service token that reads what an auditor reads, as far as it is about access
	ReadsLists    Role = "lists"        // a service token that reads lists
	Expectations  Role = "expectations" // a service token that judges what is expected
	GuestsIn      Role = "guests"       // a service token that brings guests in and looks after them, as a keeper does
	Feed          Role = "feed"         // the token of a partner's people feed
)

// NeedsPerson reports whether an account with the role must say which person of ours has it: what a member may
// do depends on who they are.
func NeedsPerson(r Role) bool { return r == Member }

// NeedsFactor reports whether accounts with the role must have a second factor, as the setting says.
func NeedsFactor(r Role, setting world.SecondFactor) bool {
	switch setting {
	case world.FactorAdministrators:
		return r == Administrator
	case world.FactorKeepers:
		return r == Administrator || r == Keeper
	case world.FactorAll:
		return r == Administrator || r == Keeper || r == Auditor || r == Member
	}
	return false
}

// Who is who makes a request.
type Who struct {
	Name   string
	Role   Role
	Person string    // which person of ours it is; empty where it is none
	Token  string    // id of the token, empty for a session
	Guest  string    // the address of a guest
	Since  uint64    // the journal entry of signing in, in a session
	Stands *Stands   // for whom they decide; nil for themselves alone
	Made   time.Time // of the token, when it was made; zero in a session
}

// Stands is for whom somebody decides who are away.
type Stands struct {
	For     []string // people whose deputy they are
	Orphans []string // of keepers and administrators: people who have nobody who decides for them
}

// Places is what is asked of a snapshot: what belongs to whom.
type Places interface {
	// BelongsTo reports whether a person owns or is in a space, or hosts a meeting, or what is in it.
	BelongsTo(person string, r world.Resource) bool
	// OwnedBy reports whether a person owns it, or hosts it.
	OwnedBy(person string, r world.Resource) bool
}

// Own reports whether somebody sees and does what is theirs alone.
func (w Who) Own() bool { return w.Role == Member }

// Keeps reports whether somebody is a keeper, or an administrator, who may all that keepers may.
func (w Who) Keeps() bool { return w.Role == Keeper || w.Role == Administrator }

// OfService reports whether it is a service's token, which stands for no account.
func (w Who) OfService() bool { return strings.HasPrefix(w.Name, "token:") }

// is reports whether somebody is a person of ours.
func (w Who) is(person string) bool { return person != "" && w.Person == person }

// DeputyOf reports whether somebody decides for a person as their deputy.
func (w Who) DeputyOf(person string) bool {
	return w.Stands != nil && slices.Contains(w.Stands.For, person)
}

// TakesOver reports whether a keeper decides for a person, as nobody else is left.
func (w Who) TakesOver(person string) bool {
	return w.Stands != nil && slices.Contains(w.Stands.Orphans, person)
}

// NeedsNoNames reports whether it is a system that asks for decisions, which needs nobody's name.
func (w Who) NeedsNoNames() bool { return w.Token != "" && w.Role == Decisions }

// Extent is how much of a kind somebody may look through.
type Extent uint8

// Nothing, what is theirs, or everything.
const (
	Nothing Extent = iota
	Theirs
	Everything
)

// Browses says through how much of a kind somebody may look to name something: what everybody of ours may know,
// such as people, groups and rules, is open to all of them.
func (w Who) Browses(kind string) Extent {
	switch {
	case !w.Own():
		return Everything
	case kind == "guest", kind == "partner", kind == "bundle", kind == "domain":
		return Nothing
	case kind == "space", kind == "meeting", kind == "item":
		return Theirs
	}
	return Everything
}

// Finds says of which of a kind somebody may open the pages: guest, person, partner, rule, space or meeting.
func (w Who) Finds(kind string) Extent {
	switch {
	case !w.Own():
		return Everything
	case kind == "space", kind == "meeting":
		return Theirs
	}
	return Nothing
}

// SeesPlace reports whether somebody may see a space, a meeting, or what is in them.
func (w Who) SeesPlace(p Places, r world.Resource) bool { return !w.Own() || p.BelongsTo(w.Person, r) }

// SeesMembers reports whether somebody may see who is in a group.
func (w Who) SeesMembers() bool { return !w.Own() }

// SeesWorkings reports whether somebody is told how far behind the service is.
func (w Who) SeesWorkings() bool { return !w.Own() }

// SeesPerson refuses members to see other people than themselves.
func (w Who) SeesPerson(id string) error {
	if w.Own() && !w.is(id) {
		return refuse("members see themselves")
	}
	return nil
}

// SeesValues refuses members to see values elsewhere than in their own spaces and meetings; partner says that
// they are set at a partner.
func (w Who) SeesValues(p Places, partner bool, r world.Resource) error {
	if w.Own() && (partner || !p.BelongsTo(w.Person, r)) {
		return refuse("members see their own spaces and meetings")
	}
	return nil
}

// SeesChoices refuses members to see what could be chosen of a rule where no place is named.
func (w Who) SeesChoices() error {
	if w.Own() {
		return refuse("members see what can be chosen in their own spaces and meetings")
	}
	return nil
}

// SeesAudience refuses members to see who reaches what is not theirs.
func (w Who) SeesAudience(p Places, r world.Resource) error {
	if !w.SeesPlace(p, r) {
		return refuse("members see the audience of their own spaces and of themselves")
	}
	return nil
}

// SeesBoard refuses members to see everybody's reach.
func (w Who) SeesBoard() error {
	if w.Own() {
		return refuse("members see what is theirs")
	}
	return nil
}

// SeesFound refuses members and guests what systems hold.
func (w Who) SeesFound() error {
	if w.Own() || w.Role == Guest {
		return refuse("what systems hold is for administrators, keepers and auditors")
	}
	return nil
}

// SeesChanges refuses members to be told what happened; that something did, they hear.
func (w Who) SeesChanges() error {
	if w.Own() {
		return refuse("what happened is for administrators, keepers and auditors; members hear that something did")
	}
	return nil
}

// Asks refuses members to ask about others than themselves and their own guests, unless it is about their own
// spaces. Of whom they ask is a person of ours or an address for which sponsor answers; either may be empty.
func (w Who) Asks(p Places, person string, sponsor func() (string, error), r *world.Resource) error {
	if !w.Own() || w.is(person) {
		return nil
	}
	if sponsor != nil {
		if by, err := sponsor(); err != nil || w.is(by) {
			return err
		}
	}
	if r != nil && p.BelongsTo(w.Person, *r) {
		return nil
	}
	return refuse("members ask about themselves, their own spaces and their own guests")
}

// AsksWould refuses members to ask what would be opened elsewhere than in their own spaces.
func (w Who) AsksWould(p Places, groups bool, into ...world.Resource) error {
	if w.Own() && (groups || slices.ContainsFunc(into, func(r world.Resource) bool { return !p.BelongsTo(w.Person, r) })) {
		return refuse("members ask about their own spaces")
	}
	return nil
}

// ChecksLists refuses members to check lists as others, for bundles, and for spaces that are not theirs.
func (w Who) ChecksLists(p Places, as string, bundle bool, into *world.Resource) error {
	if w.Own() && (as != w.Person || bundle || into != nil && !p.BelongsTo(w.Person, *into)) {
		return refuse("members check lists for themselves and their own spaces")
	}
	return nil
}

// WorksInDrafts refuses drafts to all but administrators, keepers and auditors.
func (w Who) WorksInDrafts() error {
	if !w.Keeps() && w.Role != Auditor {
		return refuse("drafts are for administrators, keepers and auditors")
	}
	return nil
}

// ChangesPolicyAtOnce reports whether somebody may change policy outside a draft; keepers do so in drafts alone.
func (w Who) ChangesPolicyAtOnce() bool { return w.Role != Keeper }

// TakesList refuses lists of people and spaces to all but administrators, and every other than that of guests to
// a token for guests.
func (w Who) TakesList(what string) error {
	switch {
	case w.Role != Administrator && (what == "people" || what == "spaces"):
		return refuse("administrators take in lists of %s", what)
	case w.Role == GuestsIn && what != "guests":
		return refuse("a token for guests takes in the list of guests alone")
	}
	return nil
}

// Feeds reports whether it is the token of a people feed.
func (w Who) Feeds() bool { return w.Role == Feed }

// AnswersFor reports whether somebody may change what a sponsor answers for: members what they answer for
// themselves.
func (w Who) AnswersFor(sponsor string) bool { return !w.Own() || w.is(sponsor) }

// MovesGuests reports whether somebody may remove records of guests and hand them to another sponsor.
func (w Who) MovesGuests() bool { return !w.Own() }

// GivesLicences reports whether somebody may say which licence a guest has, which somebody pays for.
func (w Who) GivesLicences() bool { return !w.Own() }

// HoldsBack reports whether somebody may give a value as held back.
func (w Who) HoldsBack() bool { return !w.Own() }

// SetsValue refuses values to all but administrators, keepers at partners, owners in their spaces and hosts in
// their meetings.
func (w Who) SetsValue(p Places, partner bool, r world.Resource) error {
	switch {
	case w.Role == Administrator, w.Role == Keeper && partner, w.Own() && !partner && p.OwnedBy(w.Person, r):
		return nil
	case w.Own():
		return refuse("members set values in spaces they own and meetings they host")
	}
	return refuse("keepers set values at partners; an administrator sets them elsewhere")
}

// EndsLink refuses members to end links of others to what they do not own.
func (w Who) EndsLink(p Places, l *world.Link) error {
	if w.Own() && l.By != w.Person && !p.OwnedBy(w.Person, l.Item) {
		return refuse("members end links they made and links in spaces they own")
	}
	return nil
}

// RemovesForwarder refuses members to remove forwarders of others.
func (w Who) RemovesForwarder(person string) error {
	if w.Own() && !w.is(person) {
		return refuse("members remove their own forwarders")
	}
	return nil
}

// SaysAway refuses all but keepers to say that others than themselves are away.
func (w Who) SaysAway(person string) error {
	if person != w.Person && !w.Keeps() {
		return refuse("others than oneself are said to be away by a keeper")
	}
	return nil
}

// SeesAway reports whether somebody may see that a person is away and who stands in for them.
func (w Who) SeesAway(person, deputy string) bool { return !w.Own() || w.is(person) || w.is(deputy) }

// SeesOffer reports whether somebody may see and answer what was offered to a person.
func (w Who) SeesOffer(to string) bool { return !w.Own() || w.is(to) }

// EndsSessions reports whether somebody may end the sessions and tokens of an account.
func (w Who) EndsSessions(of string) bool { return of == w.Name || w.Role == Administrator }

// EveryToken reports whether somebody sees and ends tokens of others.
func (w Who) EveryToken() bool { return w.Role == Administrator }

// Approves reports whether somebody is whom a step of approving, or a line of a review, names: owner:ID, keeper
// or administrator.
func (w Who) Approves(named string) bool {
	if id, person := strings.CutPrefix(named, "owner:"); person {
		return w.is(id)
	}
	return w.Role == Administrator || w.Role == Keeper && named == world.ByKeeper
}

// Reviewers are those for whom somebody answers in a review: themselves, keepers, and those who are away.
func (w Who) Reviewers() (out []string) {
	if w.Person != "" {
		out = append(out, "owner:"+w.Person)
	}
	if w.Stands != nil {
		for _, id := range slices.Concat(w.Stands.For, w.Stands.Orphans) {
			out = append(out, "owner:"+id)
		}
	}
	if w.Keeps() {
		out = append(out, world.ByKeeper)
	}
	return
}

// Reviews reports whether somebody may answer what is asked of a reviewer; keepers answer everything.
func (w Who) Reviews(reviewer string) bool {
	return !w.Own() || slices.Contains(w.Reviewers(), reviewer)
}

// DecidesRecords refuses keepers to decide about other records of a system than guests, grants and links.
func (w Who) DecidesRecords(kind string) error {
	if w.Role == Keeper && !slices.Contains([]string{"guest", "grant", "link"}, kind) {
		return refuse("keepers decide about guests, grants and links of a system; ask an administrator")
	}
	return nil
}
