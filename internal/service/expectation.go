package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/event"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

var expectations = policyEntry[world.Expectation]{section: "expectations", noun: "expectation",
	at: func(p *world.Policy) *[]world.Expectation { return &p.Expectations }, id: func(x *world.Expectation) string { return x.ID },
	doc: worldfile.ExpectationDoc,
	more: func(_ *State, x *world.Expectation) error {
		if x.Could && !expect.CouldSays(x.Expect.Sort) {
			return &Invalid{"could", "yes", "it says nothing of " + world.ExpectSortNames[x.Expect.Sort] +
				": acts only add to what somebody may, and conditions are not looked at; leave it out"}
		}
		return nil
	},
}

// Expectation finds an expectation.
func (s *State) Expectation(id string) (*world.Expectation, error) {
	return expectations.find(s.Policy(), id)
}

// ExpectationEtag is the validator of an expectation.
func ExpectationEtag(x *world.Expectation) string { return expectations.etag(x) }

// ReadExpectation reads an expectation that is not kept. doc is its record as the file format has it.
func (s *Service) ReadExpectation(now *State, doc []byte) (*world.Expectation, error) {
	_, x, err := expectations.with(s, now, doc)
	return x, err
}

// AddExpectation makes an expectation.
func (s *Service) AddExpectation(ctx context.Context, who, why string, doc []byte, id string) error {
	return expectations.add(ctx, s, who, why, doc, id)
}

// PatchExpectation changes what a merge patch (RFC 7396) of an expectation's record names.
func (s *Service) PatchExpectation(ctx context.Context, who, why, id string, patch []byte, ifMatch string) error {
	return expectations.patch(ctx, s, who, why, id, patch, ifMatch)
}

// RemoveExpectation takes an expectation away.
func (s *Service) RemoveExpectation(ctx context.Context, who, why, id, ifMatch string) error {
	if strings.TrimSpace(why) == "" {
		return &Invalid{"why", why, "say why it is expected no longer: nothing stands in the way of what it guarded from then on"}
	}
	return expectations.remove(ctx, s, who, why, id, ifMatch)
}

// Expected is an expectation, what judging it found and what is kept of it.
type Expected struct {
	*world.Expectation
	expect.Judged
	At   moment.Moment // when it was judged
	Kept *KeptJudgement
}

// KeptJudgement is what is kept of an expectation: how it stands, since when and by what. A new one is kept when it stands
// otherwise, or where its owner is told.
type KeptJudgement struct {
	State    string    `json:"state"`
	Count    int       `json:"count,omitempty"`
	Could    bool      `json:"could,omitempty"` // it holds now, and could come to be broken
	From     string    `json:"from,omitempty"`
	Since    string    `json:"since"`
	Seq      uint64    `json:"seq"` // the last journal entry that it was judged behind
	Of       string    `json:"of"`  // validator of the expectation that was judged
	By       *BrokenBy `json:"by,omitempty"`
	Answers  int       `json:"answers,omitempty"` // where its owner is told
	May      int       `json:"may,omitempty"`
	Who      []string  `json:"who,omitempty"` // so many of them as are told
	Examples []string  `json:"examples,omitempty"`
}

// same reports whether two say the same of an expectation.
func (k *KeptJudgement) same(o *KeptJudgement) bool {
	return k.State == o.State && k.Could == o.Could && k.Of == o.Of && (k.From == "") == (o.From == "") && k.Answers == o.Answers &&
		k.May == o.May && slices.Equal(k.Who, o.Who)
}

// BrokenBy says what broke an expectation: a journal entry, or a date.
type BrokenBy struct {
	Change   uint64 `json:"change,omitempty"`
	Revision uint64 `json:"revision,omitempty"`
	Who      string `json:"who,omitempty"`
	Why      string `json:"why,omitempty"`
	Text     string `json:"text"`
}

// judging keeps what was judged of the present state.
type judging struct {
	sync.Mutex
	head store.Head
	day  moment.Day
	at   moment.Moment
	all  []expect.Judged
	busy chan struct{} // closed when whoever judges is done
	done time.Time
	took time.Duration

	ahead     time.Duration     // how long judging the days ahead took
	aheadDay  moment.Day        // on which that was done
	aheadOf   map[string]string // validators of what was judged so, by id
	aheadNews map[string]expect.Judged
}

// aheadAtOnce is how long judging the days ahead may take to be done after every change, and largeFrom from how many guests on nobody
// waits to find that out; in a larger world it is done beside, once a day and after a change of what is expected. longJudged is how
// long judging took where a page shows what was judged before, and does not wait.
const (
	aheadAtOnce = 2 * time.Second
	longJudged  = time.Second
)

var largeFrom = 20_000 // tests lower it

// judgedKind is what the journal calls what is kept of an expectation.
const judgedKind = event.Judgement

// judgedNow returns what was judged, where that still holds. s.judging is held.
func (s *Service) judgedNow(ctx context.Context, st *State) (bool, error) {
	j := &s.judging
	if j.all == nil || j.day != moment.DayOf(s.Now(), st.Zone()) {
		return false, nil
	}
	if j.head == st.Head {
		return true, nil
	}
	touched, err := s.store.Touched(ctx, j.head.Seq, st.Head.Seq, worldKinds...)
	if err != nil || touched || j.head.Seq > st.Head.Seq {
		return false, err
	}
	j.head = st.Head
	return true, nil
}

// judgeExpected judges every expectation of the present policy, unless that is known; several who ask wait for one.
func (s *Service) judgeExpected(ctx context.Context) error {
	j := &s.judging
	for {
		st := s.State()
		j.Lock()
		is, err := s.judgedNow(ctx, st)
		busy := j.busy
		if err == nil && !is && busy == nil {
			j.busy = make(chan struct{})
		}
		j.Unlock()
		switch {
		case err != nil || is:
			return err
		case busy != nil:
			select {
			case <-busy:
				continue
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		begun, now := time.Now(), s.Now()
		list := expect.All(st.Policy())
		all := make([]expect.Judged, len(list))
		today := moment.DayOf(now, st.Zone())
		of := map[string]string{}
		for _, x := range list {
			of[x.ID] = ExpectationEtag(x.Expectation)
		}
		j.Lock()
		how := expect.NextDays
		if j.ahead > aheadAtOnce || st.Counts().Guests > largeFrom {
			how = expect.Now
		}
		var news map[string]expect.Judged
		if j.aheadDay == today && maps.Equal(of, j.aheadOf) {
			news = j.aheadNews
		}
		j.Unlock()
		err = expect.Judge(st.Snapshot, list, now, how, ctx.Err, func(i int, x expect.Judged) { all[i] = x })
		j.Lock()
		if err == nil && how == expect.NextDays {
			j.keepAhead(all, of, now, today, time.Since(begun))
		} else if err == nil { // what a day to come breaks was found today
			withNews(all, news, now)
		}
		if err == nil {
			j.head, j.day, j.at, j.all, j.done, j.took = st.Head, moment.DayOf(now, st.Zone()), now, all, time.Now(), time.Since(begun)
		}
		close(j.busy)
		j.busy = nil
		j.Unlock()
		return err
	}
}

// keepAhead keeps what judging the days ahead found. j is held.
func (j *judging) keepAhead(all []expect.Judged, of map[string]string, now moment.Moment, today moment.Day, took time.Duration) {
	j.ahead, j.aheadDay, j.aheadOf, j.aheadNews = took, today, of, map[string]expect.Judged{}
	for i := range all {
		if all[i].State == expect.Broken && all[i].At > now {
			j.aheadNews[all[i].ID] = all[i]
		}
	}
}

// withNews adds what a day to come breaks to what was judged of the present.
func withNews(all []expect.Judged, news map[string]expect.Judged, now moment.Moment) {
	for i := range all {
		if x, ok := news[all[i].ID]; ok && all[i].State == expect.Held && x.At > now {
			x.Answer, x.May = all[i].Answer, all[i].May
			all[i] = x
		}
	}
}

// judgeAhead judges the days ahead beside, where that was not done today of what is expected now.
func (s *Service) judgeAhead(ctx context.Context) error {
	st, now := s.State(), s.Now()
	list := expect.All(st.Policy())
	of := map[string]string{}
	for _, x := range list {
		of[x.ID] = ExpectationEtag(x.Expectation)
	}
	today := moment.DayOf(now, st.Zone())
	j := &s.judging
	j.Lock()
	done := j.aheadDay == today && maps.Equal(of, j.aheadOf)
	j.Unlock()
	if done {
		return nil
	}
	begun := time.Now()
	all := make([]expect.Judged, len(list))
	if err := expect.Judge(st.Snapshot, list, now, expect.NextDays, ctx.Err, func(i int, x expect.Judged) { all[i] = x }); err != nil {
		return err
	}
	j.Lock()
	defer j.Unlock()
	j.keepAhead(all, of, now, today, time.Since(begun))
	next := slices.Clone(j.all) // others read what is there
	withNews(next, j.aheadNews, now)
	j.all = next
	return nil
}

// JudgeOn judges expectations on a state: as a draft would make it, or as systems hold it.
func (s *Service) JudgeOn(ctx context.Context, st *State, ids []string) ([]Expected, error) {
	list := expect.All(st.Policy())
	if len(ids) > 0 {
		for _, id := range ids {
			if _, err := st.Expectation(id); err != nil {
				return nil, err
			}
		}
		list = slices.DeleteFunc(list, func(x *expect.Statement) bool { return !slices.Contains(ids, x.ID) })
	}
	now := s.Now()
	out := make([]Expected, len(list))
	err := expect.Judge(st.Snapshot, list, now, expect.NextDays, ctx.Err, func(i int, j expect.Judged) {
		out[i] = Expected{Expectation: list[i].Expectation, Judged: j, At: now}
	})
	if err != nil {
		return nil, err
	}
	if _, found := FoundIn(ctx); found {
		unseen, _, err := s.NotLookedAt(ctx)
		if err != nil {
			return nil, err
		}
		for i := range out {
			x, scope := &out[i], &list[i].Scope
			for _, name := range unseen {
				in, outward := engine.ActionsNamed(name + ".*")
				if x.State == expect.Held && (scope.Actions&in|scope.Outward&outward) != 0 {
					x.State, x.Judged.Why = expect.Unknown, "No system was looked at for "+name+"."
				}
			}
		}
	}
	return out, nil
}

// ExpectationsNow counts what is expected and does not hold, or is not known to, as it was judged last; judged is false where it never was.
func (s *Service) ExpectationsNow() (broken, unknown int, judged bool) {
	j := &s.judging
	j.Lock()
	defer j.Unlock()
	for _, x := range j.all {
		switch x.State {
		case expect.Broken:
			broken++
		case expect.Unknown:
			unknown++
		}
	}
	return broken, unknown, j.all != nil
}

// Expectations lists what is expected of the present state, and how each stands.
func (s *Service) Expectations(ctx context.Context) ([]Expected, error) {
	j := &s.judging
	j.Lock()
	before := j.all != nil && j.took > longJudged
	j.Unlock()
	if before { // shown as it was judged; whoever looks again sees more
		go func() { _ = s.judgeExpected(context.Background()) }()
	} else if err := s.judgeExpected(ctx); err != nil {
		return nil, err
	}
	kept, err := s.keptJudgements(ctx)
	if err != nil {
		return nil, err
	}
	st := s.State()
	j.Lock()
	all, at := j.all, j.at
	j.Unlock()
	out := []Expected{}
	for i := range all {
		if x, err := st.Expectation(all[i].ID); err == nil {
			out = append(out, Expected{x, all[i], at, kept[x.ID]})
		}
	}
	return out, nil
}

func (s *Service) keptJudgements(ctx context.Context) (map[string]*KeptJudgement, error) {
	out := map[string]*KeptJudgement{}
	return out, s.store.Records(ctx, judgedKind, "", func(id string, doc []byte) error {
		var k KeptJudgement
		err := json.Unmarshal(doc, &k)
		out[id] = &k
		return err
	})
}

// PastOf lists what became of an expectation, the newest first.
func (s *Service) PastOf(ctx context.Context, id string, limit int) ([]store.Entry, error) {
	return s.store.Journal(ctx, store.JournalQuery{Kind: judgedKind, ID: id, Limit: limit})
}

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
