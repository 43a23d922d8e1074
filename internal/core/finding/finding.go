package finding

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Kind is a sort of finding: its stable name, what it means, and what to do.
// Hints are listed after what is wrong, and do not count on the first page.
// Names are kept in journals and by whoever accepted a finding: they never
// change.
type Kind struct {
	Name  string
	Title string
	Do    string
	Hint  bool // worth knowing; nothing is wrong
}

// The kinds of finding, in the order in which they are listed.
var kinds = []Kind{
	{"expectation_broken", "What is expected of access is not so", "See who breaks it; close what lets them, or change what is expected.",
		false},
	{"expectation_empty", "An expectation is about nothing", "Change or remove it: what it was about is gone.", true},
	{"report_without_licence", "A report was shared, and no licence covers it",
		"Give the area its own licence, record the licence of the guest, or end the grant.", false},
	{"private_reaches_private", "Somebody with a private address has access to a private item",
		"Ask the owner whether this is intended; if not, end the grant.", false},
	{"own_person_is_guest", "One of our own people has a guest record", "Let them use their own account, and remove the record.", false},
	{"same_person", "Two records look like one person", "Find out which address they use, and merge or remove the other.", false},
	{"guest_without_sponsor", "A guest has no sponsor", "Name a sponsor, or let the guest go.", false},
	{"guest_without_purpose", "A guest has no purpose", "Ask the sponsor, and record it.", false},
	{"guest_without_end", "A guest has no end date", "Give the record an end date, or set guests.term_days.", false},
	{"guest_without_grant", "A guest has no access", "Remove the record, or give the access that was intended.", false},
	{"guest_unused", "A guest has access and does not come",
		"Ask whoever answers for them whether it is still needed, and end it where it is not.", true},
	{"location_missing", "A licence of ours needs a location, and the guest has none", "Record the location of the guest.", false},
	{"forwarder_not_allowed", "Forwarding is set and not allowed: senders will get a bounce",
		"Remove the forwarder, or allow it for this mailbox.", false},
	{"forwarder_leaves", "Mail is forwarded outside automatically", "Check that it is still wanted.", true},
	{"link_without_end", "A link has no end date", "Give the link an end date, or set files.link_days.", false},
	{"link_without_created", "Nobody knows when a link was made, so it opens nothing", "End it, and make a new one where somebody needs it.",
		false},
	{"dead_link", "A link no longer opens anything", "Remove the link, or make a new one.", true},
	{"record_unread", "A stored record cannot be read", "Repair it: it is rewritten without forbidden characters.", false},
	{"kept_for_nobody", "An entry for a whole domain has no effect",
		"End it; use an exception for the domain or the partner if it is intended.", false},
	{"sightings_untold", "Nothing reports when guests were last seen, so inactive guests are not suspended",
		"Set settings sightings to told once something reports it, or guests.idle_days to none.", true},
	{"exceptions_disagree", "Two exceptions contradict each other", "End one of them; until then the tighter one counts.", false},
	{"exception_without_effect", "An exception changes nothing", "End it.", false},
	{"bundle_gives_gone", "A bundle gives something that is no more", "Take it out of the bundle; whoever holds it gets nothing there.",
		false},
	{"bundle_nobody_answers", "A bundle gives something that nobody owns", "Name an owner; until then nobody may be given the bundle.", false},
	{"bundle_approver_left", "Somebody who approves a bundle has left", "Name somebody else; until then a keeper decides.", false},
	{"bundle_opens_nothing", "A bundle would open nothing to people who may ask for it",
		"Open what stands in the way, or leave the partner out of the bundle.", false},
	{"bundle_held_outside", "Somebody holds a bundle that is not for them", "End it, or let people of their organisation ask for it.", false},
	{"bundles_overlap", "One bundle gives everything that another gives", "Close one of them, or say that nobody holds both.", true},
	{"review_unanswered", "A review ends soon, and most of it is not answered",
		"Remind those for whom it waits, or answer for them; else what the rule says of silence is done.", false},
	{"barred_holds_grants", "A barred address still has a record or grants", "End its access, or lift the bar if it is no longer needed.",
		false},
	{"guest_looks_alike", "A guest's domain looks like another one",
		"Find out who they are before they get more access; bar the domain if nobody knows.", false},
	{"guest_of_no_partner", "A guest's domain belongs to no partner", "Add the organisation as a partner, or let the guest go.", true},
	{"membership_without_effect", "A whole partner or domain was let into a space, and none of them gets in",
		"Open what stands in the way, or end the membership.", false},
	{"membership_review_due", "The membership of a whole partner or domain is to be reviewed",
		"The owner of the space confirms it, narrows it, or ends it.", false},
	{"refused_by_them", "We opened a direction that they refuse", "Write to their administrator, or withdraw the opening.", false},
	{"refused_by_us", "They allow a direction that we closed", "Open it, or tell them that it stays closed.", true},
	{"stance_too_old", "Their answer is too old to count", "Ask their administrator, and record the answer.", false},
	{"statement_key_changed", "A partner's statement is signed with another key",
		"Ask their administrator through another channel whether the key is theirs; then accept it.", false},
	{"statement_not_taken", "A partner's statement was not accepted",
		"Tell their administrator what is wrong with it. Until then, the last accepted statement counts until it expires.", false},
	{"stance_unknown", "We opened a direction, and their side is unknown", "Ask their administrator, and record the answer.", false},
	{"opening_unused", "Nobody uses an opening", "Withdraw the opening, or leave it if somebody is about to use it.", true},
	{"partner_review_overdue", "A partner review is overdue", "Review its openings and who has access; then set the next date.", false},
	{"partner_without_contact", "A partner has no contact", "Record who administers their side.", false},
	{"partner_without_owner", "A partner has no owner", "Name one of our people.", false},
	{"held_back", "A value is held back", "Release it once the limit allows it again, or remove it.", false},
	{"dependency_closed", "A rule is open, but another rule it needs is closed", "Open what it needs, or close it.", false},
	{"service_closed", "A partner is opened for a service that is closed", "Open the service to listed partners, or unset the opening.",
		false},
	{"opening_without_effect", "A partner's opening has no effect, because everybody is allowed",
		"Set the level to listed if the list should count, or unset the opening.", true},
	{"no_method", "No method is allowed", "Allow a method; otherwise nobody gets in.", false},
	{"system_changed", "Somebody changed a setting in a system", "Put it back, take it over as a draft, or accept it for a while.", false},
	{"system_differs", "A system does not hold what was written there", "Look into the system; then have it sent again.", false},
	{"system_away", "A system cannot be reached or read", "Find out why; what is known of it grows old.", false},
	{"system_by_hand", "A system waits to be changed by hand", "Change it in its own console; the next reading sees it.", false},
	{"system_unread", "A setting of a system is not understood", "What it opens is not known here; look at it in its own console.", false},
	{"system_unknown", "A system keeps what nobody of ours made", "Take it over, end it there, or let it be until a day.", false},
	{"system_records", "Records of a system are not as they are meant",
		"Somebody changed them there, or they were not written; look at them and decide.", false},
	{"system_braked", "A system waits, as much would be taken away or let in at once", "Look at what waits, and say that it may go.", false},
	{"system_empty", "A system shows an empty list that was not", "Nothing is taken for gone until somebody says that it is right.", false},
	{"refused_often", "The same is asked for and refused day after day",
		"Ask about one of them what stands in the way; open it, or tell them that it stays closed.", true},
	{"limit_loose_long", "A limit has been looser than needed for 90 days", "Lower it to what is used: nobody needed more.", false},
	{"system_changed_again", "A setting of a system is changed there again and again",
		"Find out who does it and why: putting it back does not last.", false},
	{"limit_loose", "A limit is looser than needed", "Lower the limit to what is used, so that nobody opens more by accident.", true},
}

// Kinds lists all kinds. Callers must not change it.
func Kinds() []Kind { return kinds }

// KindByName finds a kind.
func KindByName(name string) (*Kind, bool) {
	for i := range kinds {
		if kinds[i].Name == name {
			return &kinds[i], true
		}
	}
	return nil, false
}

// Number is how many of something a finding concerns. They are shown in the
// order in which they were given.
type Number struct {
	What string // parties, people, grants, links, values, days
	N    int
}

// Finding is one thing that was noticed. Its ID stays the same as long as it is
// about the same thing: the kind and what it is about, with blanks between.
// Whoever accepted it is found by the ID, and so is its history: when it came
// and went.
type Finding struct {
	ID      string
	Kind    string
	About   []string // what it is about, as kind:id, an address, or the name of a rule
	Cause   string   // what is so, in a sentence
	Numbers []Number
}

// Accepted says that somebody has seen a finding and lets it be until a moment.
// After Until it is told again.
type Accepted struct {
	ID     string
	By     string
	Reason string
	Since  moment.Moment
	Until  moment.Moment
}

// finder looks through a world, or a part of it. The methods each look for some
// kinds and add to out. w may hold a part of the world; s answers for all of
// it. What is asked of the engine is asked at the moment at.
type finder struct {
	w   *world.World
	s   *engine.Snapshot // of the whole world
	at  moment.Moment
	out []Finding

	tally *tally          // what all places set
	told  map[string]bool // rules of which the organisation as a whole was told that they need what is closed
}

// Find lists everything that is noticed of a world at a moment. s must be the
// snapshot of w. It goes through all of it: whoever looks again and again keeps
// what was noticed (see Look).
func Find(w *world.World, s *engine.Snapshot, at moment.Moment) []Finding {
	f := &finder{w: given(w), s: s, at: at}
	f.counted()
	everybody := make([]uint32, s.Parties())
	for i := range everybody {
		everybody[i] = uint32(i)
	}
	f.parties(everybody)
	f.namesakes()
	f.loose()
	f.elsewhere()
	f.partners()
	Sort(f.out)
	return f.out
}

// given is a world in which what follows from bundles was given as well.
// Findings about grants then need not know bundles.
func given(w *world.World) *world.World {
	if len(w.Holdings) > 0 {
		all := *w
		all.Grants = slices.Clone(w.Grants)
		for i := range w.Holdings {
			h := &w.Holdings[i]
			if b := w.Bundle(h.Bundle); b != nil {
				all.Grants = append(all.Grants, b.Grants(h)...)
			}
		}
		w = &all
	}
	return w
}

// parties looks at what concerns one party each. f.w may be a world that holds
// these alone (see Snapshot.TellParties).
func (f *finder) parties(numbers []uint32) {
	f.reports(numbers)
	f.privates()
	f.guests()
	f.addresses()
	f.holders()
	f.keptParties()
}

// loose looks at what concerns neither one party nor one partner, and may be
// otherwise because of any party. A single grant may give an exception its
// effect.
func (f *finder) loose() {
	f.forwarders()
	f.withoutEffect()
	f.untold()
}

// elsewhere looks at everything else.
func (f *finder) elsewhere() {
	f.links()
	f.kept()
	f.exceptions()
	f.bundles()
	f.memberships()
	f.above()
	for _, p := range f.placesBelow() {
		f.place(&p)
	}
}

// counted counts what the places of the world set.
func (f *finder) counted() {
	f.tally = newTally()
	f.tally.note(f.placesAbove(), 1)
	f.tally.note(f.placesBelow(), 1)
	f.tally.within(f.w, 1)
}

// orderOf is the place of each kind in the list.
var orderOf = func() map[string]int {
	order := map[string]int{}
	for i, k := range kinds {
		order[k.Name] = i
	}
	return order
}()

// compare puts findings in the order of their kinds, and of their ids in that.
// Ids are unique, so that the order is total.
func compare(a, b *Finding) int {
	if a.Kind != b.Kind {
		return cmp.Compare(orderOf[a.Kind], orderOf[b.Kind])
	}
	return strings.Compare(a.ID, b.ID)
}

// Sort puts findings in the order of their kinds, and of their ids in that.
func Sort(list []Finding) {
	slices.SortFunc(list, func(a, b Finding) int { return compare(&a, &b) })
}

// add notes a finding; the id is made of the kind and what it is about.
func (f *finder) add(kind string, about []string, numbers []Number, cause string, args ...any) {
	f.out = append(f.out, Finding{ID: kind + " " + strings.Join(about, " "), Kind: kind, About: about, Cause: fmt.Sprintf(cause, args...),
		Numbers: numbers})
}

// one is what a finding is about, as it reads in a call.
func one(about ...string) []string { return about }

// ask asks a question at the moment of the finder; false where it makes no
// sense, as about somebody who is gone.
func (f *finder) ask(q engine.Question) (engine.Verdict, bool) {
	q.At = f.at
	v, err := f.s.Decide(&q)
	return v, err == nil
}

// action is the id of an action; a name that is none stops the program.
func action(name string) catalogue.ActionID {
	a, ok := catalogue.ActionByName(name)
	if !ok {
		panic("finding: no action " + name)
	}
	return a.ID
}

// Findings ask the engine whether somebody gets at something at all by one
// action for each kind.
var (
	actView     = action("reports.view")
	actEnter    = action("reports.enter")
	actOpen     = action("files.open")
	actForward  = action("mail.forward")
	actRead     = action("chat.read")
	actEditPage = action("spaces.edit_page")
	actEditTask = action("spaces.edit_task")
)

// ruleLicence decides alone whether the licence gate refuses somebody whose
// record and report stay as they are.
var ruleLicence = catalogue.MustRule("reports.licence")
