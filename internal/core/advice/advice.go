// Package advice weighs the ways in which a partner's people can be connected
// with ours, from figures of how they work together. It is a rule of thumb that
// shows its figures: docs/decisions/0005 says why each counts as it does.
//
// There are four ways (model §1): single guests with a record each, federation
// with the account they have at home, membership of spaces with that account,
// and a feed that keeps their records. Each begins with nothing and is moved by
// sentences with a figure in them: *45 people of theirs are more than anybody
// keeps by hand* speaks for a feed. What the partner's side is known to refuse
// speaks against a way with more weight than anything can speak for it.
package advice

import (
	"fmt"
	"sort"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
)

// Way is a way to connect. For and Against are sentences with the figures in
// them, so that whoever disagrees with the weight sees what it was made of.
type Way struct {
	Name    string // guests, federation, membership, feed
	Title   string
	Weight  int  // what speaks for it less what speaks against it
	Fits    bool // it is among the best, and nothing forbids it
	In      bool // it is in use already
	For     []string
	Against []string
	Gives   string // what one gets
	Costs   string // what it takes to keep
	Needs   string // what has to be open on both sides
}

// Advice is what fits, the best first, with the figures behind it. Ways holds
// all four, also those that do not fit: a reader who has one of them in mind
// finds out what speaks against it.
type Advice struct {
	Figures engine.Dealings
	Ways    []Way
	Short   string // in a sentence
}

// Bounds of the rule of thumb, in people and in comings and goings within 90
// days.
const (
	few    = 10 // so many people can be kept by hand
	many   = 25 // so many are a burden by hand
	feeds  = 40 // so many are worth a feed
	steady = 5  // so few come and go in 90 days that nobody is burdened
	busy   = 10 // so many come and go that some are forgotten
)

// weighing is a way while what speaks for and against it is collected.
type weighing struct{ Way }

// pro adds n to what speaks for the way, with the sentence that says what.
func (w *weighing) pro(n int, format string, args ...any) {
	w.Weight += n
	w.For = append(w.For, fmt.Sprintf(format, args...))
}

// con takes n from it. A con of 3 or 4 is meant to outweigh all that may speak
// for a way: it is said where the partner's side forbids it.
func (w *weighing) con(n int, format string, args ...any) {
	w.Weight -= n
	w.Against = append(w.Against, fmt.Sprintf(format, args...))
}

// On weighs the ways for a partner. halves are both halves of it; feed says
// that the rule for its people feed is on.
func On(d engine.Dealings, halves []world.Half, feed bool) Advice {
	// Halves come as a list of the fourteen keys; most questions below are
	// about one of them.
	half := map[string]world.Half{}
	for _, h := range halves {
		half[h.Key.String()] = h
	}
	// A refusal of theirs that we know of counts; what is unknown does not
	// speak against a way by itself.
	refuses := func(keys ...catalogue.Key) string {
		for _, k := range keys {
			if half[k.String()].Theirs == world.SaysRefuses {
				return k.String()
			}
		}
		return ""
	}
	people, moves := d.People(), d.Came+d.Went
	chatIn, chatOut, spacesIn, directoryIn := catalogue.In(
		catalogue.Chat,
	), catalogue.Out(
		catalogue.Chat,
	), catalogue.In(
		catalogue.Spaces,
	), catalogue.In(
		catalogue.Directory,
	)

	// Single guests are the way that always works, so their weight begins at
	// nothing and is moved by how much handwork they are.
	guests := &weighing{
		Way{
			Name:  "guests",
			Title: "Single guests",
			In:    d.Records > d.Provisioned,
			Gives: "Each is invited by name, has a sponsor and an end, and reaches what was given and nothing else.",
			Costs: "Every invitation, review and end is somebody's work; who leaves their firm is noticed late.",
			Needs: "directory.in",
		},
	}
	switch {
	case people == 0:
		guests.pro(2, "nobody of theirs is here yet; a first few can be invited without anything else")
	case people <= few:
		guests.pro(2, "%s few enough to be kept by hand", counted.Of(people, "person of theirs is", "people of theirs are"))
	case people > many:
		guests.con(2, "%s: as many invitations, reviews and ends to keep", counted.Of(people, "person of theirs", "people of theirs"))
	}
	switch {
	case people > 0 && moves <= steady:
		guests.pro(1, "%d came and %d went in 90 days: little changes", d.Came, d.Went)
	case moves > busy:
		guests.con(1, "%d came and %d went in 90 days: each is work for somebody", d.Came, d.Went)
	}
	if d.Items > 0 && d.Items*2 >= d.Grants {
		guests.pro(1, "%d of %s on single items: what each may reach differs", d.Items, counted.Of(d.Grants, "role is", "roles are"))
	}
	if k := refuses(directoryIn); k != "" {
		guests.con(4, "they refuse %s: their people may not accept invitations", k)
	}

	// Federation suits whoever only talks. Each role they hold speaks against
	// it.
	fed := &weighing{
		Way{
			Name:  "federation",
			Title: "Federation",
			In:    d.Talking > 0 || d.Home > 0,
			Gives: "Chat, calls and calendars with the account each has at home; no record here, and who leaves there is out at once.",
			Costs: "Nothing is shared but talk; it opens to all of their people at once, as far as the rules let them.",
			Needs: "chat.in and chat.out on both sides",
		},
	}
	switch {
	case d.Talking > 0 && d.Sharing == 0:
		fed.pro(3, "%s here to talk and hold no role", counted.Of(d.Talking, "person of theirs is", "people of theirs are"))
	case d.Talking > 0:
		fed.pro(1, "%d of theirs only talk", d.Talking)
	}
	if d.Ours >= 3 {
		fed.pro(1, "%s in contact with theirs", counted.Of(d.Ours, "person of ours is", "people of ours are"))
	}
	if d.Sharing > 0 {
		fed.con(
			2,
			"%s roles in %s; federation shares nothing",
			counted.Of(d.Sharing, "person of theirs holds", "people of theirs hold"),
			counted.Of(d.Spaces, "space", "spaces"),
		)
	}
	if k := refuses(chatIn, chatOut); k != "" {
		fed.con(3, "they refuse %s", k)
	} else if half[chatIn.String()].Joint == world.Open && half[chatOut.String()].Joint == world.Open {
		fed.pro(1, "both sides are open for it already")
	}

	// Membership suits a few who share whole spaces with us and have an account
	// at home.
	member := &weighing{
		Way{
			Name:  "membership",
			Title: "Membership with the home account",
			In:    d.Home > 0 && d.Sharing > 0,
			Gives: "They work in our spaces with the account they have at home: one sign-in, no second record, and who leaves there is out at once.",
			Costs: "What a space gives, it gives for good: there is no own end for each but in the role.",
			Needs: "spaces.in on both sides, and spaces.connect",
		},
	}
	if d.Sharing >= steady {
		member.pro(2, "%d of theirs share work in %s", d.Sharing, counted.Of(d.Spaces, "space", "spaces"))
	} else if d.Sharing > 0 {
		member.pro(1, "%s work in %s", counted.Of(d.Sharing, "person of theirs shares", "people of theirs share"), counted.Of(d.Spaces, "space", "spaces"))
	} else {
		member.con(2, "nobody of theirs shares a space with ours")
	}
	if people > few {
		member.pro(1, "%s need no record of their own", counted.Of(people, "person would", "people would"))
	}
	if d.Items > 0 {
		member.con(1, "%s on single items; membership is of whole spaces", counted.Of(d.Items, "role is", "roles are"))
	}
	switch h := half[spacesIn.String()]; {
	case h.Theirs == world.SaysRefuses:
		member.con(4, "they refuse spaces.in")
	case h.Joint == world.Open:
		member.pro(2, "both sides are open for it already")
	case h.Theirs == world.SaysUnknown:
		member.con(1, "nobody knows whether they admit spaces.in")
	}

	// A feed is worth its setting up from some forty people on, or where people
	// come and go all the time.
	kept := &weighing{
		Way{
			Name:  "feed",
			Title: "A people feed",
			In:    d.Provisioned > 0,
			Gives: "Their own directory keeps their people here: newcomers are there on their first day, and who leaves is gone on the last.",
			Costs: "It is set up once on both sides and watched; everybody in it is here, also who never needs it.",
			Needs: "directory.in on both sides, and directory.feed_in",
		},
	}
	switch {
	case d.Provisioned > 0:
		kept.pro(4, "%d of %d are kept by a feed already", d.Provisioned, d.Records)
	case people >= feeds:
		kept.pro(3, "%d people of theirs are more than anybody keeps by hand", people)
	case people > many:
		kept.pro(1, "%s", counted.Of(people, "person of theirs", "people of theirs"))
	default:
		kept.con(2, "%s of theirs: setting it up costs more than it saves", counted.Of(people, "person", "people"))
	}
	if moves > busy {
		kept.pro(2, "%d came and %d went in 90 days: a feed follows by itself", d.Came, d.Went)
	}
	if feed && d.Provisioned == 0 {
		kept.pro(1, "the rule for it is on")
	}
	if k := refuses(directoryIn); k != "" {
		kept.con(4, "they refuse %s", k)
	}

	a := Advice{Figures: d}
	for _, w := range []*weighing{guests, fed, member, kept} {
		a.Ways = append(a.Ways, w.Way)
	}
	sort.SliceStable(a.Ways, func(i, j int) bool { return a.Ways[i].Weight > a.Ways[j].Weight })
	// Ways within one point of the best are equal for all that a rule of thumb
	// can tell.
	best := a.Ways[0].Weight
	for i := range a.Ways {
		a.Ways[i].Fits = a.Ways[i].Weight > 0 && a.Ways[i].Weight >= best-1
	}
	if best <= 0 {
		a.Short = "Nothing fits as things are: " + a.Ways[0].Against[0] + "."
		return a
	}
	a.Short = fmt.Sprintf("Best: %s (%s).", lower(a.Ways[0].Title), a.Ways[0].For[0])
	if a.Ways[1].Fits {
		a.Short += fmt.Sprintf(" Next: %s (%s).", lower(a.Ways[1].Title), a.Ways[1].For[0])
	}
	return a
}

// lower writes the first letter small; titles begin with an ASCII letter.
func lower(s string) string { return string(s[0]|0x20) + s[1:] }
