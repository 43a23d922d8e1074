package service

import (
	"cmp"
	"context"
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
var needsInWords = map[string]string{"sponsor": "with nobody who answers for them", "grant": "without a grant",
	"seen": fmt.Sprintf("not seen for %d days", unseen), "terms": "who have not accepted the terms", "time": "who ask for more time",
	"mail": "whom no mail reaches"}

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
		return nil, fmt.Errorf("%w: these are %d lines, and a round has at most %d; narrow it to a partner, a space or a bundle", ErrConflict,
			len(lines), mostReviewLines)
	}
	out := &RoundsBegun{Round: &Round{Name: x.Name, Partner: x.Partner, Space: x.Space, Bundle: x.Bundle, RoundRecords: x.RoundRecords,
		Until: until.String(), Why: x.Why, By: who.Name, Made: at.String(), Lines: len(lines)}, Asked: map[string]int{}}
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
	if last, ok := s.waits.Load(r.ID); ok && last.(waited).revision == now.revision && now.at >= last.(waited).at &&
		now.at < last.(waited).at+3600e6 {
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
		return (x.Kind == dated.ReviewDue || x.Cause == dated.ByReview) && x.At <= until && x.Resource.String() == l.Resource &&
			x.Role == l.Role && x.From == l.From
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
		found, err := s.FindGuests(ctx, st, &GuestFilter{Partner: x.Partner, State: x.State, Origin: x.Origin, Sponsor: x.Sponsor, Needs: x.Needs,
			Until: moment.Never})
		if err != nil {
			return nil, err
		}
		among = make(map[string]bool, found.Len())
		for i := range found.Len() {
			among[found.Address(i)] = true
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
		lines = append(lines, store.ReviewLine{N: len(lines) + 1, Party: g.Party(), Resource: g.Resource.String(), Role: g.Role, From: g.From,
			Bundle:   g.Bundle,
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
			if slices.Contains(who.Reviewers(), c.Reviewer) {
				out.Mine += c.Lines
			}
		}
	}
	return out
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
		if v := s.viewRound(&r, counts, who); !who.Own() || v.Mine > 0 {
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
	if who.Own() && !slices.ContainsFunc(counts,
		func(c store.ReviewCount) bool { return slices.Contains(who.Reviewers(), c.Reviewer) }) {
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
	if mine || who.Own() {
		if of = who.Reviewers(); len(of) == 0 {
			return nil, nil
		}
	}
	return s.store.ReviewLines(ctx, id, of, state, after, limit)
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
		out = append(out, finding.Finding{ID: "review_unanswered review:" + v.ID, Kind: "review_unanswered", About: []string{"review:" + v.ID},
			Numbers: []finding.Number{{What: "lines", N: v.Open}},
			Cause: fmt.Sprintf("Of the review %s, %d of %d lines are not answered, and it ends with %s.", v.Name, v.Open, v.Lines,
				moment.DayOf(until-1, st.Zone()))})
	}
	return out, err
}
