package engine

import (
	"math/bits"

	"wexillum.example/internal/core/catalogue"
)

// Granted actions are decided many at a time with masks. Every value that a
// rule must reach for one of them is a bit (a requirement), every row of the
// catalogue about one of them another (an entry). A layer is then two words: on
// which requirements it says anything, and which of them its value misses. What
// all layers together fulfil takes a handful of operations, for all actions at
// once; what is left to an entry is whether its requirements are among them.
// The decision of one question stays in gates.go; the tests hold the two
// together.

// Actions is a set of actions, as bits by ActionID. There are fewer than 64,
// see catalogue.MaxActions.
type Actions uint64

// Has reports whether a is in the set.
func (s Actions) Has(a catalogue.ActionID) bool { return s>>a&1 != 0 }

// Len returns how many actions the set holds.
func (s Actions) Len() int { return bits.OnesCount64(uint64(s)) }

// requirement is one value that a rule must reach; of a set of methods, one
// that it must hold.
type requirement struct {
	rule catalogue.RuleID
	need catalogue.Value
}

// met reports whether a value fulfils the requirement.
func (q requirement) met(v catalogue.Value) bool {
	if ruleShape[q.rule] == catalogue.Methods {
		return v&q.need != 0
	}
	return v >= q.need
}

// entry is what one class of account is asked for one granted action. It is one
// Ask of the catalogue, with its rules turned into bits. Each of the four words
// of need is for one combination: a drive or not, somebody known or new.
type entry struct {
	need        [2][2]uint64 // in a drive or not; by somebody known or new
	private     uint64       // of a private address besides
	guests      uint64       // where the role comes from the space alone
	listed, any uint64       // requirements of its level of domains; 0 where there is none
	recordEntry uint64       // the entry of the record, which is told rather than this one of the home account
	action      catalogue.ActionID
	class       catalogue.Class
	role        catalogue.Role
	licence     bool
	kinds       [2]uint8 // places in contents.plain that count for it
	ask         *catalogue.Ask
}

// maskTable is the catalogue's part of it, made once. Requirements and entries
// are at most 64 each, or the program does not start.
type maskTable struct {
	requirements []requirement
	entries      []entry
	ofKind       [catalogue.NumResourceKinds]uint64 // entries about a kind of resource
	files        uint64                             // those about files, which the owner of a drive may have exceptions for
	people       []int                              // requirements that exceptions may speak on
	first        uint64                             // entries of records and newcomers
	ofClass      [catalogue.NumClasses]uint64
	upTo         [catalogue.Manage + 1]uint64 // entries that a role is enough for
	areaOnly     uint64                       // of spaces, only report areas
	spaceParty   uint64
	licence      uint // the first of three requirements: methods of reports.licence
	granted      Actions
}

// masks is made when the program starts, and read from then on.
var masks = buildMasks()

// buildMasks goes through the catalogue once. What it does not know how to turn
// into bits makes it panic at the start, so that a new kind of need cannot be
// left out unnoticed: whoever adds one to a granted action adds a case here and
// in rules (gates.go).
func buildMasks() (t maskTable) {
	at := map[requirement]uint64{}
	// The bit of a requirement; a new one gets the next.
	bit := func(r catalogue.RuleID, need catalogue.Value) uint64 {
		q := requirement{r, need}
		if b, ok := at[q]; ok {
			return b
		}
		b := uint64(1) << len(t.requirements)
		at[q], t.requirements = b, append(t.requirements, q)
		return b
	}
	t.licence = uint(len(t.requirements))
	for _, m := range []catalogue.Value{1, 2, 4} {
		bit(ruleLicence, m)
	}
	// The same as asker.inDrive.
	drive := func(r catalogue.RuleID, in bool) catalogue.RuleID {
		switch {
		case in && r == ruleGivenTo:
			return ruleDriveGivenTo
		case in && r == ruleBearer:
			return ruleDriveBearer
		}
		return r
	}
	for _, act := range catalogue.Actions() {
		// Kinds that share rows share entries.
		made := map[*[catalogue.NumClasses]*catalogue.Ask]uint64{}
		for _, kind := range act.On {
			rows := act.Rows(kind)
			if act.Address || act.Asks[catalogue.Ours] != nil && act.Asks[catalogue.Record] == nil || !roleOnly(rows) {
				continue
			}
			t.granted |= 1 << act.ID
			set, ok := made[rows]
			if !ok {
				for class := catalogue.Record; class < catalogue.Bearer; class++ {
					ask := rows[class]
					if ask == nil {
						continue
					}
					e := entry{
						ask:     ask,
						action:  act.ID,
						class:   class,
						role:    ask.Role,
						licence: act.Licence,
						kinds:   [2]uint8{nothingPlain, nothingPlain},
					}
					for in := range 2 {
						for fresh := range 2 {
							var need uint64
							for _, n := range ask.Needs {
								switch n.Kind {
								case catalogue.AtLeast:
									need |= bit(drive(n.Rule, in == 1), n.Value)
								case catalogue.GivenTo:
									need |= bit(drive(n.Rule, in == 1), []catalogue.Value{givenKnown, givenNewcomers}[fresh])
								default:
									panic("engine: a granted action with a need that masks do not know: " + act.Name)
								}
							}
							for _, r := range ask.Switches {
								need |= bit(r, catalogue.On)
							}
							if ask.SpaceGuests {
								need |= bit(ruleSpaceGuests, catalogue.On)
							}
							e.need[in][fresh] = need
						}
					}
					if class == catalogue.Newcomer || class == catalogue.Record && ask.Level == catalogue.ByRule {
						e.private = bit(rulePersonal, catalogue.On)
					}
					if !ask.SpaceParty {
						e.guests = bit(ruleSpaceGuests, catalogue.On)
					}
					if ask.Level == catalogue.ByRule {
						e.listed, e.any = bit(ask.LevelRule, levelListed), bit(ask.LevelRule, levelAny)
					}
					if class == catalogue.Federated && rows[catalogue.Record] != nil {
						e.recordEntry = uint64(1) << (len(t.entries) - 1) // made just before
					}
					b := uint64(1) << len(t.entries)
					t.entries = append(t.entries, e)
					if class != catalogue.Federated && class != catalogue.Personal {
						t.first |= b
					}
					if act.Person == catalogue.InDrive {
						t.files |= b
					}
					set |= b
					t.ofClass[class] |= b
					// A higher role is enough for all that a lower one is.
					for role := ask.Role; role <= catalogue.Manage; role++ {
						t.upTo[role] |= b
					}
					if act.AreaOnly {
						t.areaOnly |= b
					}
					if ask.SpaceParty {
						t.spaceParty |= b
					}
					if ask.Counterpart && (ask.Key != catalogue.In(catalogue.Spaces) || ask.Feature != catalogue.NoFeature) {
						panic("engine: a granted action with a counterpart that masks do not know: " + act.Name)
					}
				}
				made[rows] = set
			}
			t.ofKind[kind] |= set
			for k := set; k != 0; k &= k - 1 {
				e := &t.entries[bits.TrailingZeros64(k)]
				for i := range e.kinds {
					if e.kinds[i] == nothingPlain && kind != catalogue.Meeting {
						e.kinds[i] = plainOf(kind)
						break
					}
				}
			}
		}
	}
	for k, q := range t.requirements {
		if q.rule.Get().Layers&catalogue.AtPeople != 0 {
			t.people = append(t.people, k)
		}
	}
	if len(t.requirements) > 64 || len(t.entries) > 64 {
		panic("engine: the catalogue has outgrown a word")
	}
	return
}

// words is what one layer says: on which requirements, and which it misses. bad
// is a part of said. Joining two layers of a level is an or of both words: the
// tightest counts. A layer that says nothing is zero.
type words struct{ said, bad uint64 }

// wordsOf turns a row of values into words, as far as they may be said at a
// layer.
func wordsOf(r *row, layer catalogue.Layers) (w words) {
	for k, q := range masks.requirements {
		if v := r[q.rule]; v != catalogue.Unset && ruleLayers[q.rule]&layer != 0 {
			w.said |= 1 << k
			if !q.met(v) {
				w.bad |= 1 << k
			}
		}
	}
	return
}
