package world

import (
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
)

// Half is both halves of one service and direction of a partner.
type Half struct {
	Key    catalogue.Key
	Ours   Opening
	Theirs Says // as it counts: an admission that is too old is unknown
	Stance Stance
	Known  bool // somebody recorded a stance
	Old    bool // it admitted, longer ago than the setting lets count
	Joint  Joint
}

// Joint says what the two halves come to.
type Joint uint8

// Shut: neither side opens it. Open: both do. Unconfirmed: ours is open and theirs
// is not known. TheirTurn: ours is open and theirs refuses. OurTurn: theirs is
// open and ours is not.
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
// they count at a moment (model §4).
func Halves(p *Partner, at moment.Moment, stanceDays catalogue.Value, zone *time.Location) []Half {
	out := make([]Half, catalogue.NumKeys)
	for k := range out {
		out[k] = Half{Key: catalogue.Key(k), Ours: p.Opened[k]}
	}
	for _, s := range p.Stance {
		h := &out[s.Key]
		h.Stance, h.Known, h.Theirs = s, s.Says != SaysUnknown, s.Says
		if s.Says == SaysAdmits && s.AsOf.IsSet() && stanceDays != catalogue.NoLimit && at >= moment.EndOfDays(moment.DayOf(s.AsOf, zone), int(stanceDays), zone) {
			h.Old, h.Theirs = true, SaysUnknown
		} else if s.Says == SaysAdmits && at >= s.Until {
			h.Old, h.Theirs = true, SaysUnknown
		}
	}
	for k := range out {
		h := &out[k]
		switch {
		case h.Ours == OpenYes && h.Theirs == SaysAdmits:
			h.Joint = Open
		case h.Ours == OpenYes && h.Theirs == SaysRefuses:
			h.Joint = TheirTurn
		case h.Ours == OpenYes:
			h.Joint = Unconfirmed
		case h.Theirs == SaysAdmits:
			h.Joint = OurTurn
		}
	}
	return out
}
