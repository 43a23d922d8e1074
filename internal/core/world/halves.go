package world

import (
	"slices"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Both halves of what a partner and we may do together, side by side: what we
// open, what their side is known to say, and what the two come to. It is what
// the page of a partner shows, and what says whose turn it is.

// Level is the scale of the rules of domains (model §2). It is the scale of the
// catalogue under names, for whoever compares halves.
type Level uint8

// The levels, from the tightest to the loosest.
const (
	LevelClosed Level = iota
	LevelListed
	LevelAny
)

// LevelNames are the words for them, by Level.
var LevelNames = []string{"closed", "listed", "any"}

// Because says why our side is open or is not. It decides what an administrator
// would have to do to open it.
type Because uint8

// By name: the partner is opened, or closed, for it. By level: the rules of
// domains admit anybody, or nobody. Not listed: they admit who is opened, and
// the partner is not. By suspension: its standing is not active.
const (
	ByName Because = iota
	ByLevel
	NotListed
	BySuspension
)

// BecauseNames are the words for them, by Because.
var BecauseNames = []string{"by_name", "by_level", "not_listed", "by_standing"}

// OurKey is our half of one key. It is made by the engine from rules and
// openings.
type OurKey struct {
	Opens    bool
	Because  Because
	Level    Level
	Features []catalogue.Feature // the parts that our rules allow; nil where a key has none
}

// Side is our half of every key.
type Side struct{ Keys [catalogue.NumKeys]OurKey }

// Half is both halves of one service and direction of a partner. A partner has
// fourteen of them, seven services in two directions.
type Half struct {
	Key      catalogue.Key
	Ours     OurKey
	Opening  Opening // what the partner's record says
	Theirs   Says    // as it counts: an admission that is too old is unknown
	Stance   Stance
	Known    bool                // somebody recorded a stance
	Old      bool                // it admitted, longer ago than the setting lets count, or until an end that is over
	Features []catalogue.Feature // what both sides allow; nil where a key has no parts or nothing is open
	Joint    Joint
}

// Said reports whether either side says something about the key by name.
func (h *Half) Said() bool { return h.Opening != OpenUnset || h.Known }

// Joint says what the two halves come to. It tells whose turn it is.
type Joint uint8

// Shut: neither side opens it by name, or the partner's standing closes
// everything. Open: both do. Unconfirmed: ours is open and theirs is not known.
// TheirTurn: ours is open and theirs refuses. OurTurn: theirs is open and ours
// is not.
const (
	Shut Joint = iota
	Open
	Unconfirmed
	TheirTurn
	OurTurn
)

// JointNames are the words for them, by Joint.
var JointNames = []string{"shut", "open", "unconfirmed", "their_turn", "our_turn"}

// Halves puts both halves of every service and direction of p side by side, as
// they count at a moment (model §4). Only what is admitted ages.
func Halves(p *Partner, side Side, at moment.Moment, stanceDays catalogue.Value, zone *time.Location) []Half {
	out := make([]Half, catalogue.NumKeys)
	for k := range out {
		out[k] = Half{Key: catalogue.Key(k), Opening: p.Opened[k], Ours: side.Keys[k]}
	}
	for _, s := range p.Stance {
		h := &out[s.Key]
		h.Stance, h.Known, h.Theirs = s, s.Says != SaysUnknown, s.Says
		if s.Says != SaysAdmits {
			continue
		}
		aged := s.AsOf.IsSet() && stanceDays != catalogue.NoLimit &&
			at >= moment.EndOfDays(moment.DayOf(s.AsOf, zone), int(stanceDays), zone)
		if aged || at >= s.Until {
			h.Old, h.Theirs = true, SaysUnknown
		}
	}
	for k := range out {
		h := &out[k]
		switch {
		case h.Ours.Because == BySuspension:
		case h.Ours.Opens && h.Theirs == SaysAdmits:
			h.Joint = Open
		case h.Opening == OpenYes && h.Ours.Opens && h.Theirs == SaysRefuses:
			h.Joint = TheirTurn
		case h.Theirs == SaysRefuses: // nobody asked them for it by name
		case h.Ours.Opens:
			h.Joint = Unconfirmed
		case h.Theirs == SaysAdmits:
			h.Joint = OurTurn
		}
		if h.Joint == Open && h.Ours.Features != nil {
			h.Features = []catalogue.Feature{}
			for _, f := range h.Ours.Features {
				if h.Stance.Features == nil || slices.Contains(h.Stance.Features, f) {
					h.Features = append(h.Features, f)
				}
			}
		}
	}
	return out
}
