package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// RunExpectations judges what is expected whenever something changed and every day, keeps what became otherwise and tells owners,
// until the context ends. Several services may do it at once.
func (s *Service) RunExpectations(ctx context.Context, every time.Duration) {
	kept := store.Head{}
	day := moment.Day(0)
	s.repeat(ctx, every, "what is expected cannot be judged", "what is expected is judged again", func() error {
		j := &s.judging
		j.Lock()
		rest := rests*j.took - time.Since(j.done) // a large world is not judged all the time
		j.Unlock()
		if rest > 0 {
			return nil
		}
		if err := s.judgeExpected(ctx); err != nil {
			return err
		}
		if err := s.judgeAhead(ctx); err != nil {
			return err
		}
		j.Lock()
		head, today := j.head, j.day
		j.Unlock()
		if head == kept && today == day {
			return nil
		}
		if err := s.KeepJudged(ctx); err != nil {
			return err
		}
		kept, day = head, today
		return nil
	})
}

// told is how many of those who may are named to an owner.
const told = 200

// KeepJudged keeps how expectations stand, where it is otherwise than it was.
func (s *Service) KeepJudged(ctx context.Context) error {
	all, err := s.Expectations(ctx)
	if err != nil {
		return err
	}
	j := &s.judging
	j.Lock()
	head := j.head
	j.Unlock()
	st := s.State()
	kept, err := s.keptJudgements(ctx)
	if err != nil {
		return err
	}
	next := map[string]*KeptJudgement{}
	for i := range all {
		x := &all[i]
		was := kept[x.Expectation.ID]
		is := &KeptJudgement{State: x.State.String(), Since: x.At.String(), Seq: head.Seq, Of: ExpectationEtag(x.Expectation)}
		if x.State == expect.Broken {
			is.Count, is.Could = x.Count, x.Judged.Could
			if x.Judged.At > x.At {
				is.From = x.Judged.At.String()
			}
			for k := range x.Examples[:min(5, len(x.Examples))] {
				e := &x.Examples[k]
				is.Examples = append(is.Examples, fmt.Sprintf("%s: %s (%s)", e.Who, e.Action, e.Resource))
			}
		}
		if x.Tell {
			is.Answers, is.May = x.Answer, x.May
			if is.Who, err = s.whoMay(ctx, st, x.Expectation); err != nil {
				return err
			}
		}
		if was != nil && was.same(is) {
			continue
		}
		if was != nil && was.State == is.State && was.Could == is.Could && was.Of == is.Of {
			is.Since, is.By = was.Since, was.By // only what its owner is told of is otherwise
		} else if is.State == expect.Broken.String() {
			if is.By, err = s.brokenBy(ctx, x, was, head); err != nil {
				return err
			}
		}
		next[x.Expectation.ID] = is
	}
	var gone []string
	for id := range kept {
		if _, err := st.Expectation(id); err != nil {
			gone = append(gone, id)
		}
	}
	if len(next)+len(gone) == 0 {
		return nil
	}
	return s.change(ctx, Scheduler, "judged anew", func(now *State, t *store.Tx) error {
		for _, id := range gone {
			if _, err := now.Expectation(id); err != nil {
				if _, err := t.EndRecord(judgedKind, id); err != nil {
					return err
				}
			}
		}
		for i := range all {
			id := all[i].Expectation.ID
			is := next[id]
			if is == nil {
				continue
			}
			doc, err := t.Record(judgedKind, id)
			if err != nil {
				return err
			}
			var was KeptJudgement
			if doc != nil {
				if err := json.Unmarshal(doc, &was); err != nil {
					return err
				}
				if was.same(is) || was.Seq > is.Seq { // another service was first
					continue
				}
			}
			text, err := json.Marshal(is)
			if err != nil {
				return err
			}
			if _, err := t.PutRecord(judgedKind, id, text); err != nil {
				return err
			}
			if doc != nil || is.State == expect.Broken.String() { // one that holds from its beginning is no news
				if err := s.tellOwner(now, t, &all[i], &was, is); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// whoMay lists those who may what an expectation is about, as far as an owner is told their names.
func (s *Service) whoMay(ctx context.Context, st *State, x *world.Expectation) ([]string, error) {
	y, err := expect.Of(x)
	if err != nil {
		return nil, err
	}
	seen := map[string]bool{}
	err = st.EachYes(&y.Scope, s.Now(), ctx.Err, func(y *engine.Yes) error {
		if len(y.Members) == 0 {
			seen[y.Who.String()] = true
		}
		for _, m := range y.Members {
			if len(seen) > told {
				break
			}
			seen[st.AddressAt(m).String()] = true
		}
		return nil
	})
	out := []string{}
	for who := range seen {
		out = append(out, who)
	}
	slices.Sort(out)
	return out[:min(len(out), told)], err
}

// tellOwner mails to whoever answers for an expectation what became of it.
func (s *Service) tellOwner(now *State, t *store.Tx, x *Expected, was, is *KeptJudgement) error {
	stands := was.State != is.State || was.Of == is.Of && (was.From == "") != (is.From == "")
	if !stands && (!x.Tell || was.Of != is.Of) {
		return nil
	}
	if is.State == expect.Held.String() && was.State == "" {
		return nil
	}
	for _, to := range s.ownersOf(now, x.Owner) {
		if err := s.postMail(t, now, to, "expectation", fmt.Sprintf("expectation %s %d", x.Expectation.ID, is.Seq), map[string]string{
			"expectation": x.Expectation.ID, "told": strings.Join(difference(was, is), "\n"),
		}); err != nil {
			return err
		}
	}
	return nil
}

// ownersOf are the addresses of a person of ours, or of the administrators where there is nobody or they left.
func (s *Service) ownersOf(now *State, person string) (out []addr.Address) {
	add := func(id string) {
		if text := now.AddressOf(id); text != "" && now.LeftAt(id) == 0 {
			if a, err := addr.Parse(text); err == nil {
				out = append(out, a)
			}
		}
	}
	if add(person); len(out) > 0 {
		return out
	}
	for _, id := range now.Administrators() {
		add(id)
	}
	return out
}

// difference explains in lines what is otherwise.
func difference(was, is *KeptJudgement) (out []string) {
	switch {
	case is.State == expect.Broken.String() && (was.State != is.State || was.Could != is.Could):
		line := "It is broken"
		if is.From != "" {
			line = "It will be broken from " + is.From + " on"
		}
		if is.Could {
			line = "It holds now, but without an administrator or keeper it could come to be broken"
		}
		if is.Count > 0 {
			line += fmt.Sprintf(", %d times", is.Count)
		}
		if is.By != nil {
			line += ": " + is.By.Text
		}
		out = append(out, line)
		out = append(out, is.Examples...)
	case was.State != is.State && was.State != "":
		out = append(out, "It is "+is.State+" again.")
	}
	if was.Answers != is.Answers || was.May != is.May {
		out = append(out, fmt.Sprintf("%d may now, and %d might before; the answer is yes %d times now, and was %d times before.", is.May,
			was.May, is.Answers, was.Answers))
	}
	for _, w := range is.Who {
		if !slices.Contains(was.Who, w) && was.Who != nil {
			out = append(out, w+" may now.")
		}
	}
	for _, w := range was.Who {
		if !slices.Contains(is.Who, w) && is.Who != nil {
			out = append(out, w+" may no longer.")
		}
	}
	return out
}

// mostBisected is up to how many changes the one that broke something is looked for among.
const mostBisected = 4096

// brokenBy finds what broke an expectation since it was judged last: the first change behind which it is broken, or the date.
func (s *Service) brokenBy(ctx context.Context, x *Expected, was *KeptJudgement, head store.Head) (*BrokenBy, error) {
	if was == nil || was.Of != ExpectationEtag(x.Expectation) {
		return &BrokenBy{Text: "how things already stood when it was made or changed"}, nil
	}
	before, steps, err := s.changesAfter(ctx, was.Seq, head, mostBisected)
	if err != nil {
		return nil, err
	}
	if len(steps) == 0 {
		return &BrokenBy{Text: "a date that came"}, nil
	}
	st, err := expect.Of(x.Expectation)
	if err != nil {
		return nil, err
	}
	broken := func(h store.Head) (bool, error) {
		then, err := s.stateAt(ctx, h)
		if err != nil {
			return false, err
		}
		is := false
		err = expect.Judge(then.Snapshot, []*expect.Statement{st}, x.At, expect.NextDays, ctx.Err,
			func(_ int, j expect.Judged) { is = j.State == expect.Broken })
		return is, err
	}
	if by, err := broken(before); err != nil || by {
		return &BrokenBy{Text: "a date that came"}, err
	}
	low, high := 0, len(steps)-1 // behind high it is broken
	for low < high {
		mid := (low + high) / 2
		is, err := broken(steps[mid].Head)
		if err != nil {
			return nil, err
		}
		if is {
			high = mid
		} else {
			low = mid + 1
		}
	}
	e := &steps[high].Entry
	out := &BrokenBy{Change: e.Seq, Who: e.Who, Why: e.Why}
	if slices.Contains(policyKinds, e.Kind) {
		out.Revision = e.Revision
	}
	out.Text = "change " + fmt.Sprint(e.Seq)
	if out.Revision > 0 {
		out.Text = "revision " + fmt.Sprint(out.Revision)
	}
	if out.Text += " by " + e.Who; e.Why != "" {
		out.Text += ": " + e.Why
	}
	return out, nil
}

// policyKinds are the kinds of policy as the journal calls them.
var policyKinds = worldfile.StoredPolicy()

// JudgeOne judges an expectation that need not be kept.
func (s *Service) JudgeOne(ctx context.Context, st *State, x *world.Expectation) (*Expected, error) {
	y, err := expect.Of(x)
	if err != nil {
		return nil, &Invalid{"expectation", x.ID, err.Error()}
	}
	out := &Expected{Expectation: x, At: s.Now()}
	return out, expect.Judge(st.Snapshot, []*expect.Statement{y}, out.At, expect.NextDays, ctx.Err,
		func(_ int, j expect.Judged) { out.Judged = j })
}

// SpacesWithPrivate lists the spaces that hold private items, with those alone.
func (s *Service) SpacesWithPrivate(ctx context.Context) (out []world.Space, err error) {
	items := map[string][]world.Item{}
	if err := s.store.PrivateItems(ctx, func(space string, it *world.Item) { items[space] = append(items[space], *it) }); err != nil {
		return nil, err
	}
	for _, id := range slices.Sorted(maps.Keys(items)) {
		doc, err := s.store.Record(ctx, "space", id)
		if err != nil {
			return nil, err
		}
		sp, err := worldfile.SpaceOf(doc)
		if err != nil {
			return nil, err
		}
		sp.Items = items[id]
		out = append(out, sp)
	}
	return out, nil
}

// Breaks judges what a change of policy would break of what is expected after it: the counterexamples that it adds.
func (s *Service) Breaks(ctx context.Context, before, after *State) (out []Expected, err error) {
	list := expect.All(after.Policy())
	if len(list) == 0 {
		return nil, nil
	}
	now := s.Now()
	var broken []int
	if err := expect.Judge(after.Snapshot, list, now, expect.NextDays, ctx.Err, func(i int, j expect.Judged) {
		if j.State == expect.Broken {
			broken = append(broken, i)
		}
	}); err != nil {
		return nil, err
	}
	slices.Sort(broken)
	for _, i := range broken {
		j, err := list[i].Added(before.Snapshot, after.Snapshot, now, ctx.Err)
		if err != nil {
			return nil, err
		}
		if j.State == expect.Broken {
			out = append(out, Expected{Expectation: list[i].Expectation, Judged: j, At: now})
		}
	}
	return out, nil
}

// Breaking is returned where a change would break what is expected.
type Breaking struct {
	Of   []Expected
	Zone *time.Location
}

func (b *Breaking) Error() string {
	return fmt.Sprintf("it breaks what is expected: %s", named(b.Of, b.Zone))
}

// named names expectations in a sentence, with the day from which one is broken
// that holds until then.
func named(list []Expected, zone *time.Location) string {
	var out []string
	for i := range list {
		x := &list[i]
		says := x.Expectation.ID
		if x.State == expect.Broken && x.Judged.At > x.At {
			says += " (from " + moment.DayOf(x.Judged.At, zone).String() + " on)"
		}
		out = append(out, says)
	}
	return strings.Join(out, ", ")
}

// expectationFindings are those of what is expected and is not so.
func (s *Service) expectationFindings(ctx context.Context) (out []finding.Finding, err error) {
	if len(s.State().Policy().Expectations) == 0 {
		return nil, nil
	}
	all, err := s.Expectations(ctx)
	if err != nil {
		return nil, err
	}
	st := s.State()
	for i := range all {
		x := &all[i]
		about := []string{"expectation:" + x.Expectation.ID}
		says := expect.Says(st.Snapshot, x.Expectation)
		switch {
		case x.State == expect.Broken:
			often := fmt.Sprintf("broken %d %s", x.Count, plural(x.Count, "time", "times"))
			who := fmt.Sprintf("%d %s", x.Parties, plural(x.Parties, "party", "parties"))
			cause := fmt.Sprintf("%s This is %s, by %s", says, often, who)
			if x.Judged.Could {
				cause = fmt.Sprintf("%s It holds now, but without an administrator or keeper it could come to be %s, by %s", says, often, who)
			}
			if x.Judged.At > x.At {
				cause = fmt.Sprintf("%s This will be %s from %s on, by %s", says, often, moment.DayOf(x.Judged.At, st.Zone()), who)
			}
			if x.Expect.Sort == world.AtMost {
				cause = fmt.Sprintf("%s %d may", says, x.May)
				if x.Judged.Could {
					cause = fmt.Sprintf("%s %d may now, and without an administrator or keeper %d could", says, x.May, x.Count)
				} else if x.Count != x.May {
					cause += ", and so might people whom nobody knows yet"
				}
			}
			if len(x.Examples) > 0 {
				e := &x.Examples[0]
				cause += fmt.Sprintf(", as %s: %s, %s", cmp.Or(e.Name, e.Who), e.Action, e.Resource)
			}
			out = append(out, finding.Finding{ID: "expectation_broken " + x.Expectation.ID, Kind: "expectation_broken", About: about,
				Cause: cause + ".", Numbers: []finding.Number{{What: "parties", N: x.Parties}}})
		case x.Empty:
			out = append(out, finding.Finding{ID: "expectation_empty " + x.Expectation.ID, Kind: "expectation_empty", About: about,
				Cause: says + " There is nothing that this is about."})
		}
	}
	return out, nil
}
