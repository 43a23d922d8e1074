package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// ReviewAnswer is an answer to lines of a round.
type ReviewAnswer struct {
	Do    string // keep, narrower, end, hand_over, not_mine
	Lines []int  // by number; empty for all that wait for whoever answers
	Until string // with keep: an earlier end
	Role  string // with narrower
	Item  string // with narrower: an item of the space, which is kept in place of all of it
	To    string // with hand_over: a person
	Why   string
}

// ReviewDone is what became of one line.
type ReviewDone struct {
	store.ReviewLine
	Reason string // why nothing was done; empty where it was
}

// ReviewsDone is what became of lines that were answered.
type ReviewsDone struct {
	Lines   []ReviewDone
	Done    int
	Refused int
	Weighed *ValueWeighed // with a preview
}

// reviewAtOnce is how many lines one change writes.
const reviewAtOnce = 250

// AnswerRound answers lines of a round. Each line is done or refused by itself, with the reason.
func (s *Service) AnswerRound(ctx context.Context, who Who, id string, a ReviewAnswer, preview bool) (*ReviewsDone, error) {
	v, err := s.RoundOf(ctx, who, id)
	if err != nil {
		return nil, err
	}
	if v.Closed != "" {
		return nil, fmt.Errorf("%w: the round %s is over", ErrConflict, v.Name)
	}
	at, st := s.Now(), s.State()
	a.Why = strings.TrimSpace(a.Why)
	var until moment.Moment
	role := catalogue.NoRole
	switch a.Do {
	case "keep":
		if a.Until != "" {
			if until, err = moment.ParseEnd(a.Until, at, st.Zone()); err != nil || until <= at {
				return nil, &Invalid{"until", a.Until, cmp.Or(errText(err), "it lies before now; end it instead")}
			}
		}
	case "narrower":
		var ok bool
		if role, ok = catalogue.ParseRole(a.Role); a.Role != "" && (!ok || role == catalogue.NoRole) || a.Role == "" && a.Item == "" {
			return nil, &Invalid{"role", a.Role, "write the lower role: view or contribute"}
		}
		r := resourceOf(a.Item)
		if kind, ok := st.ItemKind(r.ID); a.Item != "" && (!ok || kind != r.Kind) {
			return nil, &Invalid{"item", a.Item, "write an item of the space, as file:crate-list"}
		}
	case "end", "not_mine":
	case "hand_over":
		if left := st.LeftAt(a.To); !st.Has("person", a.To) || left != 0 && left <= at {
			return nil, &Invalid{"to", a.To, "there is no such person here"}
		}
	default:
		return nil, &Invalid{"do", a.Do, "write keep, narrower, end, hand_over or not_mine"}
	}
	if len(a.Lines) > 0 {
		slices.Sort(a.Lines)
		a.Lines = slices.Compact(a.Lines)
	}
	out := &ReviewsDone{Lines: []ReviewDone{}}
	var next []int
	for after := 0; ; {
		if len(a.Lines) > 0 {
			if len(a.Lines) <= after {
				break
			}
			next = a.Lines[after:min(after+reviewAtOnce, len(a.Lines))]
			after += len(next)
		} else {
			list, err := s.store.ReviewLines(ctx, id, who.Reviewers(), ReviewOpen, after, reviewAtOnce)
			if err != nil {
				return out, err
			}
			if len(list) == 0 {
				break
			}
			next = nil
			for i := range list {
				next = append(next, list[i].N)
			}
			after = next[len(next)-1]
		}
		var done []ReviewDone
		var w *ValueWeighed
		err := s.changing(ctx, who.Name, cmp.Or(a.Why, "reviewed: "+v.Name), preview, func(now *State, t *store.Tx) error {
			done, w = nil, &ValueWeighed{}
			r := reviewingNow(now, t, at)
			for _, n := range next {
				x, err := s.answerLine(r, who, id, n, &a, until, role)
				if err != nil {
					return err
				}
				done = append(done, *x)
			}
			if !preview {
				return nil
			}
			if err := r.weigh(ctx, w); err != nil {
				return err
			}
			return errPreview
		})
		if err != nil && !errors.Is(err, errPreview) {
			return out, err
		}
		for i := range done {
			out.Lines = append(out.Lines, done[i])
			if done[i].Reason == "" {
				out.Done++
			} else {
				out.Refused++
			}
		}
		if preview { // the first part shows what the answer does; the whole is too much to weigh at once
			out.Weighed = w
			return out, nil
		}
	}
	if len(out.Lines) == 0 {
		return nil, fmt.Errorf("%w: nothing of the round %s waits for you", ErrConflict, v.Name)
	}
	return out, nil
}

func errText(err error) string {
	if err == nil {
		return ""
	}
	return err.Error()
}

// answerLine answers one line; what it asks about is answered in every other round that asks about it.
func (s *Service) answerLine(r *reviewing, who Who, id string, n int, a *ReviewAnswer, until moment.Moment,
	role catalogue.Role) (*ReviewDone, error) {
	now, t, at := r.now, r.t, r.at
	list, err := t.ReviewLines(id, nil, "", n-1, 1)
	if err != nil {
		return nil, err
	}
	if len(list) == 0 || list[0].N != n {
		return &ReviewDone{ReviewLine: store.ReviewLine{Round: id, N: n}, Reason: "there is no such line"}, nil
	}
	out := &ReviewDone{ReviewLine: list[0]}
	l := &out.ReviewLine
	switch {
	case !who.Reviews(l.Reviewer):
		out.Reason = "it is asked of somebody else"
	case l.State != ReviewOpen:
		out.Reason = "it was answered already: " + l.State
	}
	if out.Reason != "" {
		return out, nil
	}
	g, put, err := r.reviewed(l)
	if err != nil {
		return nil, err
	}
	l.By, l.At, l.Why = who.Name, at, a.Why
	if g == nil {
		l.State = ReviewGone
		return out, s.saidOf(t, l)
	}
	switch a.Do {
	case "hand_over":
		if l.Reviewer == "owner:"+a.To {
			out.Reason = "it is asked of them already"
			return out, nil
		}
		l.Reviewer, l.By, l.At, l.Why = "owner:"+a.To, "", 0, ""
		return out, s.handed(now, t, l)
	case "not_mine":
		to := now.reviewer(g, at, l.Reviewer, "owner:"+who.Person)
		if to == l.Reviewer {
			to = world.ByKeeper
		}
		if to == l.Reviewer {
			out.Reason = "nobody else is left to ask; hand it over by name, or answer it"
			return out, nil
		}
		l.Reviewer, l.By, l.At, l.Why = to, "", 0, ""
		return out, s.handed(now, t, l)
	case "keep":
		if until != 0 && until >= g.Until {
			out.Reason = fmt.Sprintf("it ends on its own by %s; a review makes nothing longer", g.Until)
			return out, nil
		}
		l.State, l.Until = ReviewKept, until
	case "narrower":
		if out.Reason = now.narrower(l, g, a.Item, role); out.Reason != "" {
			return out, nil
		}
		l.State, l.Instead, l.Narrowed = ReviewNarrowed, a.Item, cmp.Or(role, l.Role)
	case "end":
		l.State, l.Until = ReviewEnded, at
	}
	if err := put(l); err != nil {
		return nil, err
	}
	return out, s.saidOf(t, l)
}

// narrower says why a line cannot be made narrower as somebody answers; empty where it can.
func (s *State) narrower(l *store.ReviewLine, g *world.Grant, item string, role catalogue.Role) string {
	if item == "" {
		if role >= l.Role {
			return "the role is " + l.Role.String() + ", which is no more than that"
		}
		return ""
	}
	r := resourceOf(item)
	switch {
	case role > l.Role:
		return "the role is " + l.Role.String() + ", and a review makes nothing wider"
	case g.ToMany():
		return "a partner or a domain as a whole is let into spaces, not into one item"
	case g.Resource.Kind != catalogue.Space || s.SpaceOf(r.ID) != g.Resource.ID:
		return item + " is not in " + cmp.Or(s.NameOf(g.Resource), l.Resource)
	case s.IsPrivate(r.ID):
		return item + " is private: they do not reach it now"
	}
	return ""
}

// reviewing is what was given to those whom lines ask about, as it becomes line by line: a preview reads nothing of what it writes.
type reviewing struct {
	now    *State
	t      *store.Tx
	at     moment.Moment
	grants map[string][]world.Grant
	held   map[string][]world.Holding
}

// reviewingNow begins to answer lines of a round in a change.
func reviewingNow(now *State, t *store.Tx, at moment.Moment) *reviewing {
	return &reviewing{now: now, t: t, at: at, grants: map[string][]world.Grant{}, held: map[string][]world.Holding{}}
}

// weigh counts who gains and who loses by what was answered.
func (r *reviewing) weigh(ctx context.Context, w *ValueWeighed) error {
	e := r.now.Aside()
	for party, list := range r.grants {
		e.SetGrants(party, list)
	}
	for _, held := range r.held {
		for i := range held {
			e.PutHolding(&held[i])
		}
	}
	return w.impact(r.now, &State{Snapshot: e.Done(), Head: r.now.Head}, r.at, ctx.Err)
}

// load reads what a party holds, once.
func (r *reviewing) load(party string) error {
	if _, ok := r.grants[party]; ok {
		return nil
	}
	list, err := r.t.Grants(party)
	if err != nil {
		return err
	}
	r.grants[party] = list
	if a, wrong := addr.Parse(party); wrong == nil {
		r.held[party], err = heldNow(r.t, r.now, a)
	}
	return err
}

// reviewed finds what a line asks about, nil where it is no more, and how to write what is answered.
func (r *reviewing) reviewed(l *store.ReviewLine) (*world.Grant, func(*store.ReviewLine) error, error) {
	if err := r.load(l.Party); err != nil {
		return nil, nil, err
	}
	if l.Bundle == "" {
		for i := range r.grants[l.Party] {
			g := &r.grants[l.Party][i]
			if !l.Same(g) || g.Until <= r.at {
				continue
			}
			return g, func(l *store.ReviewLine) error { return r.grant(i, l) }, nil
		}
		return nil, nil, nil
	}
	for i := range r.held[l.Party] {
		h := &r.held[l.Party][i]
		if h.Bundle != l.Bundle || h.Until <= r.at {
			continue
		}
		for _, g := range r.now.givenBy(h) {
			if l.Same(&g) {
				return &g, func(l *store.ReviewLine) error { return r.holding(i, &g, l) }, nil
			}
		}
	}
	return nil, nil, nil
}

// grant writes what a line says of a grant that was given by hand.
func (r *reviewing) grant(i int, l *store.ReviewLine) error {
	g := &r.grants[l.Party][i]
	g.Waits = 0
	lower := *g
	g.Reviewed = r.at
	if l.Until != 0 {
		g.Until = max(min(g.Until, l.Until), g.From)
	}
	if l.State == ReviewNarrowed { // it begins as the old one ends, with the same end
		g.Until = r.at
	}
	if _, err := r.t.PutGrant(g); err != nil || l.State != ReviewNarrowed {
		return err
	}
	return r.lower(lower, l)
}

// lower gives what is left of a grant that a line made narrower.
func (r *reviewing) lower(g world.Grant, l *store.ReviewLine) error {
	g.Role, g.From, g.Reviewed, g.Bundle = l.Narrowed, r.at, r.at, ""
	if l.Instead != "" {
		g.Resource = resourceOf(l.Instead)
	}
	for _, has := range r.grants[l.Party] { // they may hold the same by another line
		if has.Resource == g.Resource && has.Role == g.Role && has.From == g.From && has.Until > g.Until {
			return nil
		}
	}
	r.grants[l.Party] = append(r.grants[l.Party], g)
	_, err := r.t.PutGrant(&g)
	return err
}

// holding writes what a line says of a grant that follows from a bundle.
func (r *reviewing) holding(i int, g *world.Grant, l *store.ReviewLine) error {
	h := &r.held[l.Party][i]
	h.Waits = 0
	switch {
	case l.State == ReviewNarrowed && l.Instead != "":
		until := h.Until
		r.now.endBundled(r.held[l.Party][i:i+1], l.Resource, "", r.at)
		kept := *g
		kept.Until = until
		if err := r.lower(kept, l); err != nil {
			return err
		}
	case l.State == ReviewNarrowed:
		h.Less = append(slices.DeleteFunc(slices.Clone(h.Less), func(x world.Gift) bool { return x.Resource == g.Resource }),
			world.Gift{Resource: g.Resource, Role: l.Narrowed})
	case l.State == ReviewKept && l.Until != 0:
		h.Until, h.Reviewed = l.Until, r.at
	case l.Until != 0:
		r.now.endBundled(r.held[l.Party][i:i+1], l.Resource, "", l.Until)
	default:
		h.Reviewed = r.at
	}
	_, err := putHolding(r.t, h)
	return err
}

// saidOf writes what became of a line, in its round and in every other that asks the same.
func (s *Service) saidOf(t *store.Tx, l *store.ReviewLine) error {
	others, err := t.ReviewLinesOf(l.Party)
	if err != nil {
		return err
	}
	said := *l
	for i := range append(others, said) {
		o := &said
		if i < len(others) {
			if o = &others[i]; o.Round == l.Round && o.N == l.N || o.Resource != l.Resource || o.Role != l.Role || o.From != l.From ||
				o.Bundle != l.Bundle {
				continue
			}
			o.State, o.By, o.At, o.Why, o.Until, o.Narrowed, o.Instead = l.State, l.By, l.At, l.Why, l.Until, l.Narrowed, l.Instead
		}
		if err := t.SetReviewLine(o); err != nil {
			return err
		}
		if _, err := t.Note("review", fmt.Sprintf("%s %d", o.Round, o.N), nil,
			[]byte(jsonOf(map[string]string{"party": o.Party, "resource": o.Resource, "role": o.Role.String(), "answer": o.State,
				"by": o.By}))); err != nil {
			return err
		}
	}
	return nil
}

// handed writes that somebody else is asked, and tells them.
func (s *Service) handed(now *State, t *store.Tx, l *store.ReviewLine) error {
	if err := t.SetReviewLine(l); err != nil {
		return err
	}
	if _, err := t.Note("review", fmt.Sprintf("%s %d", l.Round, l.N), nil,
		[]byte(jsonOf(map[string]string{"party": l.Party, "resource": l.Resource, "asked": l.Reviewer}))); err != nil {
		return err
	}
	return s.askReviewers(now, t, &Round{ID: l.Round}, []string{l.Reviewer}, "handed")
}
