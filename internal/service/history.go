package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Change is one change of what answers rest on, whole, and where the journal stands behind it.
type Change struct {
	store.Entry // the first of it
	Head        store.Head
}

// changesAfter lists the changes behind a journal entry up to another, the oldest first, and where the journal stands before them.
// With more than most it ends there.
func (s *Service) changesAfter(ctx context.Context, seq uint64, to store.Head, most int) (before store.Head, out []Change, err error) {
	before.Seq = seq
	for after := seq; after < to.Seq; {
		entries, revision, err := s.store.EntriesAfter(ctx, after, eventsAtOnce)
		if err != nil || len(entries) == 0 {
			return before, out, err
		}
		if after == seq {
			before.Revision = revision
		}
		for i := range entries {
			e := &entries[i]
			if after = e.Seq; e.Seq > to.Seq {
				break
			}
			if !slices.Contains(worldKinds, e.Kind) {
				continue
			}
			if n := len(out); n > 0 && e.PartOf != 0 && (out[n-1].PartOf == e.PartOf || out[n-1].Seq == e.PartOf) {
				out[n-1].Head = store.Head{Seq: e.Seq, Revision: e.Revision}
				continue
			}
			if len(out) > most {
				return before, out, nil
			}
			out = append(out, Change{*e, store.Head{Seq: e.Seq, Revision: e.Revision}})
		}
	}
	return before, out, nil
}

// stateAt is the state behind a journal entry; it is not kept.
func (s *Service) stateAt(ctx context.Context, head store.Head) (*State, error) {
	now := s.State()
	if head == now.Head {
		return now, nil
	}
	return s.stateFrom(ctx, now, now.Branch(), head)
}

// stateFrom is the state behind a journal entry, by what is otherwise there than at another state, of which e is an Editor; everything
// is read where that is cheaper.
func (s *Service) stateFrom(ctx context.Context, from *State, e *engine.Editor, head store.Head) (*State, error) {
	all, err := s.store.Between(ctx, from.Head, head, e)
	if err != nil {
		return nil, err
	}
	if all {
		e = engine.New()
		if head, err = s.store.Read(ctx, head, e); err != nil {
			return nil, err
		}
	}
	return &State{Snapshot: e.Done(), Head: head}, nil
}

// mostWalked is through how many changes history is walked at a time.
const mostWalked = 500

// Walked is a moment at which answers may have become other ones: by a change, or by the time alone.
type Walked struct {
	State  *State
	At     moment.Moment
	Change *Change // nil where a date came
	Until  moment.Moment
}

// walk goes from a moment to a later one through every change and date that may matter to a scope, and calls fn at each: first at the
// beginning, then behind each.
func (s *Service) walk(ctx context.Context, scope *engine.Scope, from, to moment.Moment, fn func(*Walked) error) error {
	began, err := s.store.Began(ctx)
	if err != nil {
		return err
	}
	from = max(from, began) // nothing was recorded before
	if to = min(to, s.Now()); from > to {
		return &Invalid{"from", from.String(), "it lies behind the end; what lies ahead is asked with due and --at"}
	}
	begin, _, err := s.store.HeadAt(ctx, from.Time())
	if err != nil {
		return err
	}
	end, _, err := s.store.HeadAt(ctx, to.Time())
	if err != nil {
		return err
	}
	_, changes, err := s.changesAfter(ctx, begin.Seq, end, mostWalked)
	if err != nil {
		return err
	}
	if len(changes) > mostWalked {
		return &Invalid{"from", from.String(), fmt.Sprintf("more than %d changes lie between; ask about a shorter time, up to %s at first",
			mostWalked, moment.Of(changes[mostWalked].At))}
	}
	st, err := s.stateAt(ctx, begin)
	if err != nil {
		return err
	}
	at, own := from, false
	var by *Change
	for k := 0; ; k++ {
		if err := ctx.Err(); err != nil {
			return err
		}
		until := to
		if k < len(changes) {
			until = moment.Of(changes[k].At)
		}
		turns := st.Turnings(scope, at, until)
		for i, m := range append([]moment.Moment{at}, turns...) {
			if i > 0 && m == until && k < len(changes) {
				continue // the change says what it is from then on
			}
			w := Walked{State: st, At: m, Until: until}
			if i == 0 {
				w.Change = by
			}
			if i < len(turns) {
				w.Until = turns[i]
			}
			if err := fn(&w); err != nil {
				return err
			}
		}
		if k == len(changes) {
			return nil
		}
		by, at = &changes[k], until
		e := st.Branch()
		if own { // nobody else goes on from it
			e = st.Edit()
		}
		if st, err = s.stateFrom(ctx, st, e, changes[k].Head); err != nil {
			return err
		}
		own = true
	}
}

// Spell is a time during which an answer was the same.
type Spell struct {
	Yes         bool
	From, Until moment.Moment // Until is Never while it lasts
	By          *Change       // what made it so; nil for a date, or for what was so at the beginning
	First       bool          // it was so when the time that is asked about began
}

// HistoryOf finds since when a question is answered as it is, and how before: every time at which the answer became another one, with
// the change or date that it came by.
func (s *Service) HistoryOf(ctx context.Context, q *engine.Question, from, to moment.Moment) ([]Spell, error) {
	if q.Subject.Kind != engine.ByAddress && q.Subject.Kind != engine.ByLinkID {
		return nil, &Invalid{"subject", q.Subject.String(), "history is of somebody outside"}
	}
	scope := engine.Scope{Actions: 1 << q.Action, Party: engine.Parties{Of: world.PartyRef{Address: q.Subject.Address}}, Resource: &q.Resource}
	if q.Subject.Kind == engine.ByLinkID {
		scope.Party = engine.Parties{ByKind: true, Kind: engine.KindBearer}
	}
	var out []Spell
	err := s.walk(ctx, &scope, from, to, func(w *Walked) error {
		ask := *q
		ask.At = w.At
		v, err := w.State.Decide(&ask)
		yes := err == nil && v.Yes // what was not there opened nothing
		if n := len(out); n > 0 {
			if out[n-1].Yes == yes {
				return nil
			}
			out[n-1].Until = w.At
		}
		out = append(out, Spell{Yes: yes, From: w.At, Until: moment.Never, By: w.Change, First: len(out) == 0})
		return nil
	})
	slices.Reverse(out)
	return out, err
}

// Reaching is what somebody could do with a thing within a time.
type Reaching struct {
	Who      engine.Who
	Name     string
	Kind     engine.Kind
	Newcomer bool
	Action   string
	Resource world.Resource
	First    moment.Moment // within the time
	Last     moment.Moment // when it ended; the end of the time where it lasted
	Spells   int           // unbroken ones
	Longest  [2]moment.Moment
}

// ReachedBetween finds who could do what with a resource at any time between two moments, with the longest unbroken time of each.
func (s *Service) ReachedBetween(ctx context.Context, scope *engine.Scope, from, to moment.Moment) ([]Reaching, error) {
	type key struct{ who, action, resource string }
	all := map[key]*Reaching{}
	open := map[key]moment.Moment{}
	end := func(k key, at moment.Moment) {
		x := all[k]
		if began := open[k]; at-began > x.Longest[1]-x.Longest[0] || x.Longest == [2]moment.Moment{} {
			x.Longest = [2]moment.Moment{began, at}
		}
		x.Last = at
		delete(open, k)
	}
	to = min(to, s.Now())
	err := s.walk(ctx, scope, from, to, func(w *Walked) error {
		there := map[key]bool{}
		err := w.State.EachYes(scope, w.At, ctx.Err, func(y *engine.Yes) error {
			one := func(who engine.Who) {
				k := key{who.String(), y.Action.String(), y.Resource.String()}
				there[k] = true
				if _, is := open[k]; is {
					return
				}
				open[k] = w.At
				if all[k] == nil {
					all[k] = &Reaching{Who: who, Kind: y.Kind, Newcomer: y.Newcomer, Name: y.Name, Action: k.action, Resource: y.Resource, First: w.At}
					if !y.Newcomer {
						all[k].Name = w.State.NameOfSubject(who)
					}
				}
				all[k].Spells++
			}
			if len(y.Members) == 0 {
				one(y.Who)
			}
			for _, m := range y.Members {
				one(engine.Who{Address: w.State.AddressAt(m)})
			}
			return nil
		})
		for k := range open {
			if !there[k] {
				end(k, w.At)
			}
		}
		return err
	})
	for k := range open {
		end(k, to)
	}
	out := make([]Reaching, 0, len(all))
	for _, x := range all {
		out = append(out, *x)
	}
	slices.SortFunc(out, func(a, b Reaching) int {
		return cmp.Or(strings.Compare(a.Who.String(), b.Who.String()), strings.Compare(a.Action, b.Action),
			strings.Compare(a.Resource.String(), b.Resource.String()))
	})
	return out, err
}
