package service

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Round asks, of everything that is held within a scope, whether it is still needed, until a day (practice §2).
type Round struct {
	ID      string `json:"id"`
	Name    string `json:"name"`
	Partner string `json:"partner,omitempty"` // of people of this partner
	Space   string `json:"space,omitempty"`   // in this space, with all that is in it
	Bundle  string `json:"bundle,omitempty"`  // what follows from this bundle
	RoundRecords
	Until    string `json:"until"`
	Why      string `json:"why"`
	By       string `json:"by"`
	Made     string `json:"made"`
	Lines    int    `json:"lines"`
	Reminded int    `json:"reminded,omitempty"` // how many days before the end everybody was reminded
	Sealing  string `json:"sealing,omitempty"`  // since when a service makes its record and its digest, so that no other does
	Closed   string `json:"closed,omitempty"`
	Evidence string `json:"evidence,omitempty"` // the record of reach that was made at the end
	Digest   string `json:"digest,omitempty"`   // of the lines as they were at the end, SHA-256 in hex
}

// RoundRecords are whose access a round asks about, where it is not everybody's: people with a record that is so.
type RoundRecords struct {
	State   string `json:"state,omitempty"`   // of world.StateNames
	Origin  string `json:"origin,omitempty"`  // of world.OriginNames
	Sponsor string `json:"sponsor,omitempty"` // a person
	Needs   string `json:"needs,omitempty"`   // of GuestNeeds
}

// needsInWords is what a need says of a record, in the words of a round's scope.
var needsInWords = map[string]string{"sponsor": "with nobody who answers for them", "grant": "without a grant", "seen": fmt.Sprintf("not seen for %d days", unseen), "terms": "who have not accepted the terms", "time": "who ask for more time", "mail": "whom no mail reaches"}

// About says what a round asks about.
func (r *Round) About(st *State) string {
	var out []string
	add := func(prefix, name string) {
		if name != "" {
			out = append(out, prefix+name)
		}
	}
	name := func(kind catalogue.ResourceKind, id string) string {
		if id == "" {
			return ""
		}
		return cmp.Or(st.NameOf(world.Resource{Kind: kind, ID: id}), id)
	}
	if r.Partner != "" {
		partner := r.Partner
		if p, err := st.Partner(partner); err == nil {
			partner = p.Name
		}
		add("people of ", partner)
	}
	add("in the space ", name(catalogue.Space, r.Space))
	if r.Bundle != "" {
		bundle := r.Bundle
		if b, err := st.Bundle(bundle); err == nil {
			bundle = b.Name
		}
		add("of the bundle ", bundle)
	}
	add("records that are ", r.State)
	add("records that came to be ", strings.ReplaceAll(r.Origin, "_", " "))
	add("guests of ", name(catalogue.Person, r.Sponsor))
	add("people ", needsInWords[r.Needs])
	return cmp.Or(strings.Join(out, ", "), "everything that is held")
}

// States of a line of a round.
const (
	ReviewOpen     = "open"
	ReviewKept     = "kept"
	ReviewNarrowed = "narrowed"
	ReviewEnded    = "ended"
	ReviewGone     = "gone"   // it ended by itself, or somebody else ended it
	ReviewSilent   = "silent" // nobody answered: what the rule says was done
)

// RoundBegin is what a round is to ask about.
type RoundBegin struct {
	Name, Partner, Space, Bundle string
	RoundRecords
	Until string
	Why   string
}

// RoundsBegun is a round that begins, and who is asked how much.
type RoundsBegun struct {
	*Round
	Asked map[string]int // lines by reviewer: owner:ID or keeper
}

// most lines of one round: what one change can write within its time.
const mostReviewLines = 200_000

// BeginRound fixes the lines of a round and asks those who answer for them.
func (s *Service) BeginRound(ctx context.Context, who Who, x RoundBegin, preview bool) (*RoundsBegun, error) {
	at, st := s.Now(), s.State()
	if x.Name = strings.TrimSpace(x.Name); x.Name == "" || len(x.Name) > 200 {
		return nil, &Invalid{"name", x.Name, "say what the round is called, in 1 to 200 letters"}
	}
	if x.Why = strings.TrimSpace(x.Why); x.Why == "" && !preview {
		return nil, &Invalid{"why", "", "say why; those who are asked read it"}
	}
	until, err := moment.ParseEnd(x.Until, at, st.Zone())
	if err != nil {
		return nil, &Invalid{"until", x.Until, err.Error()}
	}
	if until <= at {
		return nil, &Invalid{"until", x.Until, "it lies before now"}
	}
	if x.Partner != "" && !st.Has("partner", x.Partner) {
		return nil, &Invalid{"partner", x.Partner, "there is no such partner"}
	}
	if x.Space != "" && !st.Has("space", x.Space) {
		return nil, &Invalid{"space", x.Space, "there is no such space"}
	}
	if x.Bundle != "" {
		if _, err := st.Bundle(x.Bundle); err != nil {
			return nil, &Invalid{"bundle", x.Bundle, "there is no such bundle"}
		}
	}
	lines, err := s.linesFor(ctx, st, &x, at)
	if err != nil {
		return nil, err
	}
	if len(lines) == 0 {
		return nil, fmt.Errorf("%w: nobody holds anything there, so there is nothing to ask", ErrConflict)
	}
	if len(lines) > mostReviewLines {
		return nil, fmt.Errorf("%w: these are %d lines, and a round has at most %d; narrow it to a partner, a space or a bundle", ErrConflict, len(lines), mostReviewLines)
	}
	out := &RoundsBegun{Round: &Round{Name: x.Name, Partner: x.Partner, Space: x.Space, Bundle: x.Bundle, RoundRecords: x.RoundRecords, Until: until.String(), Why: x.Why, By: who.Name, Made: at.String(), Lines: len(lines)}, Asked: map[string]int{}}
	for i := range lines {
		out.Asked[lines[i].Reviewer]++
	}
	if preview {
		return out, nil
	}
	err = s.changeLong(ctx, who.Name, x.Why, func(now *State, t *store.Tx) error {
		out.ID = fmt.Sprintf("v%d", t.Head().Seq+1)
		for i := range lines {
			lines[i].Round = out.ID
		}
		if err := putJSON(t, "round", out.ID, out.Round); err != nil {
			return err
		}
		if err := t.AddReviewLines(lines); err != nil {
			return err
		}
		return s.askReviewers(now, t, out.Round, slices.Sorted(maps.Keys(out.Asked)), "begin")
	})
	if err != nil {
		return nil, err
	}
	return out, s.holdReviews(ctx, out.Round)
}

// holdReviews makes own review days wait that would come while a round asks about the same, as policy has them now (practice §2).
// A rule that is published or set at a space later may bring more of them, so that it is done anew for each revision, and hourly.
func (s *Service) holdReviews(ctx context.Context, r *Round) error {
	until, err := moment.Parse(r.Until)
	if err != nil {
		return err
	}
	now := waited{s.State().Head.Revision, s.Now()}
	if last, ok := s.waits.Load(r.ID); ok && last.(waited).revision == now.revision && now.at >= last.(waited).at && now.at < last.(waited).at+3600e6 {
		return nil
	}
	for after := 0; ; {
		list, err := s.store.ReviewLines(ctx, r.ID, nil, ReviewOpen, after, 1000)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		after = list[len(list)-1].N
		q := s.State().Sequences()
		q.Between(moment.Always, until+1)
		list = slices.DeleteFunc(list, func(l store.ReviewLine) bool { return !reviewComes(q, &l, until) })
		for len(list) > 0 {
			some := list[:min(reviewAtOnce, len(list))]
			list = list[len(some):]
			if err := s.change(ctx, Scheduler, "the review "+r.Name+" asks about it", func(now *State, t *store.Tx) error {
				at := s.Now()
				x := &reviewing{now: now, t: t, at: at, grants: map[string][]world.Grant{}, held: map[string][]world.Holding{}}
				wrote := false
				for i := range some {
					l, err := t.ReviewLines(r.ID, nil, ReviewOpen, some[i].N-1, 1)
					if err != nil {
						return err
					}
					if len(l) == 0 || l[0].N != some[i].N {
						continue // answered meanwhile
					}
					did, err := x.wait(&l[0], until)
					if wrote = wrote || did; err != nil {
						return err
					}
				}
				if !wrote {
					return errPreview
				}
				return nil
			}); err != nil && !errors.Is(err, errPreview) {
				return err
			}
		}
	}
	s.waits.Store(r.ID, now)
	return nil
}

// waited is by which revision of policy, and when, own review days were made to wait for a round.
type waited struct {
	revision uint64
	at       moment.Moment
}

// reviewComes reports whether what a line asks about has a review of its own that is due, or acts, by a moment.
func reviewComes(q *engine.Sequences, l *store.ReviewLine, until moment.Moment) bool {
	a, err := addr.Parse(l.Party)
	if err != nil {
		return false // of many, which have no dates of their own
	}
	steps, _ := q.Of(a)
	return slices.ContainsFunc(steps, func(x engine.DueStep) bool {
		return (x.Kind == dated.ReviewDue || x.Cause == dated.ByReview) && x.At <= until && x.Resource.String() == l.Resource && x.Role == l.Role && x.From == l.From
	})
}

// wait makes the own review days wait of what a line asks about. It reports whether that changed anything.
func (r *reviewing) wait(l *store.ReviewLine, until moment.Moment) (bool, error) {
	g, _, err := r.reviewed(l)
	if err != nil || g == nil || g.Waits >= until {
		return false, err
	}
	if l.Bundle == "" {
		g.Waits = until
		_, err = r.t.PutGrant(g)
		return true, err
	}
	k := slices.IndexFunc(r.held[l.Party], func(h world.Holding) bool { return h.Bundle == l.Bundle })
	r.held[l.Party][k].Waits = until
	_, err = putHolding(r.t, &r.held[l.Party][k])
	return true, err
}

// linesFor lists what is held within a scope, each with whoever answers for it.
func (s *Service) linesFor(ctx context.Context, st *State, x *RoundBegin, at moment.Moment) (lines []store.ReviewLine, err error) {
	var among map[string]bool
	if x.RoundRecords != (RoundRecords{}) {
		if x.Sponsor != "" && !st.Has("person", x.Sponsor) {
			return nil, &Invalid{"sponsor", x.Sponsor, "there is no such person here"}
		}
		found, err := s.FindGuests(ctx, st, &GuestFilter{Partner: x.Partner, State: x.State, Origin: x.Origin, Sponsor: x.Sponsor, Needs: x.Needs, Until: moment.Never})
		if err != nil {
			return nil, err
		}
		among = make(map[string]bool, len(found))
		for i := range found {
			among[found[i].Address] = true
		}
	}
	add := func(g *world.Grant) {
		if among != nil && !among[g.Party()] {
			return
		}
		if !moment.Within(at, g.From, g.Until) || x.Bundle != "" && g.Bundle != x.Bundle {
			return
		}
		if x.Space != "" && (g.Resource.Kind != catalogue.Space || g.Resource.ID != x.Space) && st.SpaceOf(g.Resource.ID) != x.Space {
			return
		}
		if x.Partner != "" && g.Partner != x.Partner {
			if g.Group != "" || g.Address.IsZero() && g.Domain.IsZero() {
				return
			}
			a := g.Address
			if a.IsZero() {
				a, _ = addr.Parse("somebody@" + g.Domain.String())
			}
			if p := st.Match(a).Partner; p == nil || p.ID != x.Partner {
				return
			}
		}
		lines = append(lines, store.ReviewLine{N: len(lines) + 1, Party: g.Party(), Resource: g.Resource.String(), Role: g.Role, From: g.From, Bundle: g.Bundle,
			Reviewer: st.reviewer(g, at), State: ReviewOpen})
	}
	if err = s.store.EachGrant(ctx, func(_ string, list []world.Grant) error {
		for i := range list {
			add(&list[i])
		}
		return ctx.Err()
	}); err != nil {
		return nil, err
	}
	var held []world.Holding
	st.EachHolding(func(h *world.Holding) { held = append(held, *h) })
	slices.SortFunc(held, func(a, b world.Holding) int { return cmp.Compare(a.Key(), b.Key()) })
	for i := range held {
		for _, g := range st.givenBy(&held[i]) {
			add(&g)
		}
	}
	return lines, nil
}

// reviewer is who answers for a grant: its sponsor, else an owner, else a keeper; but is passed over.
func (s *State) reviewer(g *world.Grant, at moment.Moment, but ...string) string {
	may := func(id string) bool {
		left := s.LeftAt(id)
		return id != "" && s.Has("person", id) && (left == 0 || left > at) && !slices.Contains(but, "owner:"+id)
	}
	if !g.Address.IsZero() && may(g.Sponsor) {
		return "owner:" + g.Sponsor
	}
	for _, id := range s.OwnersHere(g.Resource, at) {
		if may(id) {
			return "owner:" + id
		}
	}
	return world.ByKeeper
}

// askReviewers mails to everybody who is asked something in a round.
func (s *Service) askReviewers(now *State, t *store.Tx, r *Round, reviewers []string, what string) error {
	var deciding []string
	for _, r := range reviewers {
		who, err := s.decide(t.Context(), now, []string{r}, nil)
		if err != nil {
			return err
		}
		deciding = append(deciding, who...)
	}
	people, err := s.peopleBehind(t.Context(), deciding)
	if err != nil {
		return err
	}
	for _, id := range people {
		if to, err := addr.Parse(now.AddressOf(id)); err == nil {
			if err := s.postMail(t, now, to, "review", "round "+r.ID+" "+what+" "+id, map[string]string{"round": r.ID, "person": id}); err != nil {
				return err
			}
		}
	}
	return nil
}

// RoundView is a round with how far it has come.
type RoundView struct {
	Round
	Open   int
	States map[string]int
	Waits  map[string]int // open lines by reviewer
	Mine   int            // open lines of whoever asks
}

func (s *Service) viewRound(r *Round, counts []store.ReviewCount, who Who) RoundView {
	out := RoundView{Round: *r, States: map[string]int{}, Waits: map[string]int{}}
	for _, c := range counts {
		if c.Round != r.ID {
			continue
		}
		out.States[c.State] += c.Lines
		if c.State == ReviewOpen {
			out.Open += c.Lines
			out.Waits[c.Reviewer] += c.Lines
			if slices.Contains(reviewersOf(who), c.Reviewer) {
				out.Mine += c.Lines
			}
		}
	}
	return out
}

// reviewersOf are the reviewers that somebody stands for: themselves, keepers, and those who are away.
func reviewersOf(who Who) (out []string) {
	if who.Person != "" {
		out = append(out, "owner:"+who.Person)
	}
	if who.Stands != nil {
		for _, id := range slices.Concat(who.Stands.For, who.Stands.Orphans) {
			out = append(out, "owner:"+id)
		}
	}
	if who.Role == Keeper || who.Role == Administrator {
		out = append(out, world.ByKeeper)
	}
	return
}

// Rounds lists rounds, the newest first: of members those that ask them something.
func (s *Service) Rounds(ctx context.Context, who Who) ([]RoundView, error) {
	counts, err := s.store.ReviewCounts(ctx, "")
	if err != nil {
		return nil, err
	}
	out := []RoundView{}
	err = s.store.Records(ctx, "round", "", func(_ string, doc []byte) error {
		var r Round
		if err := json.Unmarshal(doc, &r); err != nil {
			return err
		}
		if v := s.viewRound(&r, counts, who); who.Role != Member || v.Mine > 0 {
			out = append(out, v)
		}
		return nil
	})
	slices.SortStableFunc(out, func(a, b RoundView) int { return -cmp.Compare(a.Made, b.Made) })
	return out, err
}

// RoundOf finds a round.
func (s *Service) RoundOf(ctx context.Context, who Who, id string) (*RoundView, error) {
	doc, err := s.store.Record(ctx, "round", id)
	if err != nil {
		return nil, err
	}
	missing := fmt.Errorf("%w: there is no round %q", ErrNotFound, id)
	if doc == nil {
		return nil, missing
	}
	var r Round
	if err := json.Unmarshal(doc, &r); err != nil {
		return nil, err
	}
	counts, err := s.store.ReviewCounts(ctx, id)
	if err != nil {
		return nil, err
	}
	v := s.viewRound(&r, counts, who)
	if who.Role == Member && !slices.ContainsFunc(counts, func(c store.ReviewCount) bool { return slices.Contains(reviewersOf(who), c.Reviewer) }) {
		return nil, missing
	}
	return &v, nil
}

// RoundLines lists lines of a round: of members their own.
func (s *Service) RoundLines(ctx context.Context, who Who, id, state string, mine bool, after, limit int) ([]store.ReviewLine, error) {
	if doc, err := s.store.Record(ctx, "round", id); err != nil || doc == nil {
		return nil, cmp.Or(err, fmt.Errorf("%w: there is no round %q", ErrNotFound, id))
	}
	var of []string
	if mine || who.Role == Member {
		if of = reviewersOf(who); len(of) == 0 {
			return nil, nil
		}
	}
	return s.store.ReviewLines(ctx, id, of, state, after, limit)
}

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
			list, err := s.store.ReviewLines(ctx, id, reviewersOf(who), ReviewOpen, after, reviewAtOnce)
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
			r := &reviewing{now: now, t: t, at: at, grants: map[string][]world.Grant{}, held: map[string][]world.Holding{}}
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
			e := now.Aside()
			for party, list := range r.grants {
				e.SetGrants(party, list)
			}
			for _, held := range r.held {
				for i := range held {
					e.PutHolding(&held[i])
				}
			}
			if err := w.impact(now, &State{Snapshot: e.Done(), Head: now.Head}, at, ctx.Err); err != nil {
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
func (s *Service) answerLine(r *reviewing, who Who, id string, n int, a *ReviewAnswer, until moment.Moment, role catalogue.Role) (*ReviewDone, error) {
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
	case who.Role == Member && !slices.Contains(reviewersOf(who), l.Reviewer):
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
		h.Less = append(slices.DeleteFunc(slices.Clone(h.Less), func(x world.Gift) bool { return x.Resource == g.Resource }), world.Gift{Resource: g.Resource, Role: l.Narrowed})
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
			if o = &others[i]; o.Round == l.Round && o.N == l.N || o.Resource != l.Resource || o.Role != l.Role || o.From != l.From || o.Bundle != l.Bundle {
				continue
			}
			o.State, o.By, o.At, o.Why, o.Until, o.Narrowed, o.Instead = l.State, l.By, l.At, l.Why, l.Until, l.Narrowed, l.Instead
		}
		if err := t.SetReviewLine(o); err != nil {
			return err
		}
		if _, err := t.Note("review", fmt.Sprintf("%s %d", o.Round, o.N), nil, []byte(jsonOf(map[string]string{"party": o.Party, "resource": o.Resource, "role": o.Role.String(), "answer": o.State, "by": o.By}))); err != nil {
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
	if _, err := t.Note("review", fmt.Sprintf("%s %d", l.Round, l.N), nil, []byte(jsonOf(map[string]string{"party": l.Party, "resource": l.Resource, "asked": l.Reviewer}))); err != nil {
		return err
	}
	return s.askReviewers(now, t, &Round{ID: l.Round}, []string{l.Reviewer}, "handed")
}

// EndRound ends a round before its day: what nobody answered is as its end says.
func (s *Service) EndRound(ctx context.Context, who Who, id, why string) (*RoundView, error) {
	if why = strings.TrimSpace(why); why == "" {
		return nil, &Invalid{"why", "", "say why it ends before its day"}
	}
	v, err := s.RoundOf(ctx, who, id)
	if err != nil {
		return nil, err
	}
	if v.Closed != "" {
		return nil, fmt.Errorf("%w: the round %s is over", ErrConflict, v.Name)
	}
	if err := s.closeRound(ctx, who.Name, why, &v.Round); err != nil {
		return nil, err
	}
	return s.RoundOf(ctx, who, id)
}

// closeRound does what the rule says of lines that nobody answered, makes a record of reach of what it was about, and
// seals the lines. Several services may do it at once.
func (s *Service) closeRound(ctx context.Context, by, why string, r *Round) error {
	for {
		list, err := s.store.ReviewLines(ctx, r.ID, nil, ReviewOpen, 0, reviewAtOnce)
		if err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		if err := s.changeLong(ctx, by, why, func(now *State, t *store.Tx) error {
			at := s.Now()
			for i := range list {
				if err := s.silence(now, t, r.ID, list[i].N, at); err != nil {
					return err
				}
			}
			return nil
		}); err != nil {
			return err
		}
	}
	mine := false
	if err := s.onRound(ctx, by, why, r.ID, func(now *Round) bool {
		since, err := moment.Parse(now.Sealing)
		mine = err != nil || s.Now() > since+sealingAtMost // whoever began it may be gone
		if mine {
			now.Sealing = s.Now().String()
		}
		return mine
	}); err != nil || !mine {
		return err
	}
	scope := EvidenceScope{At: moment.Always, Why: "at the end of the review " + r.Name}
	if r.Partner != "" {
		scope.Party = "partner:" + r.Partner
	}
	if r.Space != "" {
		scope.Resource = "space:" + r.Space
	}
	record := ""
	if scope.Party != "" || scope.Resource != "" {
		e, err := s.MakeEvidence(ctx, Who{Name: Scheduler, Role: Administrator}, scope)
		if err != nil {
			return err
		}
		record = e.ID
	}
	digest, err := s.roundDigest(ctx, r.ID)
	if err != nil {
		return err
	}
	return s.onRound(ctx, by, why, r.ID, func(now *Round) bool {
		now.Sealing, now.Closed, now.Evidence, now.Digest = "", s.Now().String(), record, digest
		return true
	})
}

// sealingAtMost is after how long another service takes over the end of a round.
const sealingAtMost = 15 * 60e6

// onRound changes a round that is not over, where fn says so.
func (s *Service) onRound(ctx context.Context, by, why, id string, fn func(*Round) bool) error {
	err := s.change(ctx, by, why, func(_ *State, t *store.Tx) error {
		doc, err := t.Record("round", id)
		if err != nil {
			return err
		}
		var now Round
		if err := json.Unmarshal(doc, &now); err != nil {
			return err
		}
		if now.Closed != "" || !fn(&now) {
			return errPreview
		}
		return putJSON(t, "round", id, &now)
	})
	if errors.Is(err, errPreview) {
		return nil
	}
	return err
}

// silence does what the rule says of a line that nobody answered.
func (s *Service) silence(now *State, t *store.Tx, id string, n int, at moment.Moment) error {
	list, err := t.ReviewLines(id, nil, ReviewOpen, n-1, 1)
	if err != nil || len(list) == 0 || list[0].N != n {
		return err
	}
	l := &list[0]
	r := &reviewing{now: now, t: t, at: at, grants: map[string][]world.Grant{}, held: map[string][]world.Holding{}}
	g, put, err := r.reviewed(l)
	if err != nil {
		return err
	}
	l.By, l.At, l.State = Scheduler, at, ReviewGone
	if g != nil {
		l.State, l.Why = ReviewSilent, "nobody answered"
		a := g.Address
		space := g.Resource.ID
		if g.Resource.Kind != catalogue.Space {
			space = now.SpaceOf(g.Resource.ID)
		}
		if now.GuestRule(a, space, ruleReviewSilence) == silenceEnds {
			l.Until = at
		}
		if err := put(l); err != nil {
			return err
		}
	}
	return s.saidOf(t, l)
}

var (
	ruleReviewSilence = catalogue.MustRule("guests.review_silence")
	silenceEnds, _    = ruleReviewSilence.Get().Scale.Parse("end")
)

// roundDigest is over the lines of a round as they stand.
func (s *Service) roundDigest(ctx context.Context, id string) (string, error) {
	h := sha256.New()
	for after := 0; ; {
		list, err := s.store.ReviewLines(ctx, id, nil, "", after, 1000)
		if err != nil {
			return "", err
		}
		if len(list) == 0 {
			return hex.EncodeToString(h.Sum(nil)), nil
		}
		for i := range list {
			l := &list[i]
			fmt.Fprintf(h, "%d\t%s\t%s\t%s\t%d\t%s\t%s\t%s\t%s\t%d\t%d\t%s%s\n", l.N, l.Party, l.Resource, l.Role, l.From, l.Bundle, l.Reviewer, l.State, l.By, l.At, l.Until, l.Narrowed, insteadOf(l))
		}
		after = list[len(list)-1].N
	}
}

// insteadOf is what a digest says of the item that is kept; rounds that ended before there was one have none.
func insteadOf(l *store.ReviewLine) string {
	if l.Instead == "" {
		return ""
	}
	return "\t" + l.Instead
}

// tendRounds ends rounds whose day is over, and reminds those who have not answered a week and a day before.
func (s *Service) tendRounds(ctx context.Context) error {
	at := s.Now()
	if last := moment.Moment(s.roundsAt.Load()); at < last+60e6 && at >= last {
		return nil
	}
	s.roundsAt.Store(int64(at))
	var all []Round
	if err := s.store.Records(ctx, "round", "", func(_ string, doc []byte) error {
		var r Round
		err := json.Unmarshal(doc, &r)
		if r.Closed == "" {
			all = append(all, r)
		}
		return err
	}); err != nil {
		return err
	}
	for i := range all {
		r := &all[i]
		until, err := moment.Parse(r.Until)
		if err != nil {
			return err
		}
		if until <= at {
			if err := s.closeRound(ctx, Scheduler, "the review "+r.Name+" is over", r); err != nil {
				return err
			}
			continue
		}
		if err := s.holdReviews(ctx, r); err != nil {
			return err
		}
		made, err := moment.Parse(r.Made)
		if err != nil {
			return err
		}
		for _, days := range []int{7, 1} {
			from := until - moment.Moment(days)*86400e6
			if at < from || made >= from || r.Reminded != 0 && r.Reminded <= days {
				continue
			}
			counts, err := s.store.ReviewCounts(ctx, r.ID)
			if err != nil {
				return err
			}
			v := s.viewRound(r, counts, Who{})
			if err := s.change(ctx, Scheduler, fmt.Sprintf("reminded %d days before the review %s ends", days, r.Name), func(now *State, t *store.Tx) error {
				doc, err := t.Record("round", r.ID)
				if err != nil {
					return err
				}
				var cur Round
				if err := json.Unmarshal(doc, &cur); err != nil {
					return err
				}
				if cur.Closed != "" || cur.Reminded != 0 && cur.Reminded <= days { // another service was first
					return errPreview
				}
				cur.Reminded = days
				if err := putJSON(t, "round", r.ID, &cur); err != nil {
					return err
				}
				return s.askReviewers(now, t, &cur, slices.Sorted(maps.Keys(v.Waits)), fmt.Sprint(days))
			}); err != nil && !errors.Is(err, errPreview) {
				return err
			}
		}
	}
	return nil
}

// roundsNear is how many days before its end a round that nobody answers is told of.
const roundsNear = 3

// roundFindings are the rounds that end soon, and of which more than half is not answered.
func (s *Service) roundFindings(ctx context.Context) (out []finding.Finding, err error) {
	at, st := s.Now(), s.State()
	all, err := s.Rounds(ctx, Who{Name: "wexillum", Role: Auditor})
	for i := range all {
		v := &all[i]
		until, wrong := moment.Parse(v.Until)
		if wrong != nil || v.Closed != "" || 2*v.Open <= v.Lines || at < until-moment.Moment(roundsNear)*86400e6 {
			continue
		}
		out = append(out, finding.Finding{ID: "review_unanswered review:" + v.ID, Kind: "review_unanswered", About: []string{"review:" + v.ID}, Numbers: []finding.Number{{What: "lines", N: v.Open}},
			Cause: fmt.Sprintf("Of the review %s, %d of %d lines are not answered, and it ends with %s.", v.Name, v.Open, v.Lines, moment.DayOf(until-1, st.Zone()))})
	}
	return out, err
}
