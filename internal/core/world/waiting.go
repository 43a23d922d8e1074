package world

import (
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// What waits for an answer: no question is asked of it, and it goes along where
// a world is moved.

// BundleRequest is a bundle that is asked for, and that nobody has given or
// refused yet (practice §1). It becomes a Holding once all its steps are given.
type BundleRequest struct {
	ID      string
	Bundle  string
	Address addr.Address // who is to hold it
	By      string       // the account that asks, or guest:ADDRESS
	Person  string       // of ours who asks, or empty
	Sponsor string
	// Language is what they read; empty where it is not known.
	Language    string
	Asked, Said []string // questions of the bundle, and their answers
	Purpose     string
	Until, Made moment.Moment
	Less        []Gift // as Holding has it
	Steps       []ApprovalStep
	Never       []string        // people who do not approve it
	Reminded    catalogue.Value // after how many days those who decide were asked once more; Unset for not yet
}

// ApprovalStep is one step of approving a bundle that is asked for.
type ApprovalStep struct {
	By    string   // as the bundle says it
	Who   []string // who may take it: owner:ID for a person, keeper or administrator
	Given string   // the account that did; empty while nobody did
	At    moment.Moment
	For   string // the person in whose place it was given, or empty
}

// Round is a round of review that is not over (practice §2). A round that is
// over is in the journal alone.
type Round struct {
	ID, Name               string
	Partner, Space, Bundle string // what it is about; all empty for everything
	// Whose access it asks about: records in a state, of an origin, of a
	// sponsor, with a need; empty for everybody's.
	State, Origin, Sponsor, Needs string
	Until, Made                   moment.Moment
	Why, By                       string
	Reminded                      catalogue.Value // how many days before its end everybody was reminded; Unset for not yet
	Lines                         []RoundLine
}

// RoundLine is one question of a round. Its number is its place.
type RoundLine struct {
	Party    string // as Grant.Party writes it
	Resource string // as Resource.String writes it; it may be gone
	Role     catalogue.Role
	From     moment.Moment
	Bundle   string
	Reviewer string // owner:ID for a person, or keeper
	State    string
	By       string
	At       moment.Moment
	Why      string
	Until    moment.Moment  // the end that it was given; 0 where it was left as it was
	Narrowed catalogue.Role // the role that is held since, where it was made narrower
	Instead  string         // the item on which it is held then, in place of the space; empty where it is as before
}

// ReviewStates are what may have become of a line of a round, in the words of
// files.
var ReviewStates = []string{"open", "kept", "narrowed", "ended", "gone", "silent"}
