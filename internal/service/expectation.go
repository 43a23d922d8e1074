package service

import (
	"context"
	"encoding/json"
	"maps"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
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
