// Package service is what the product does with a database: it keeps the
// snapshot that questions are asked of, follows what changes, and makes changes.
// It knows neither HTTP nor the terminal.
package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/frames"
	"wexillum.example/internal/may"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// Service answers and changes. It is safe for concurrent use.
type Service struct {
	store *store.Store
	clock func() time.Time
	log   *slog.Logger

	state     atomic.Pointer[State]
	addressed addressed
	tokenUsed sync.Map   // by id of a token: when its use was noted last
	bearers   sync.Map   // by hash of a token: bearer
	fresh     sync.Mutex // one at a time brings the state up to date

	past     past
	refused  refusals
	notice   sync.Mutex // guards noticed
	noticed  *noticed
	noticing *noticing // nil where nobody looks

	keepingNoticed sync.Mutex
	keptNoticed    map[string]bool // ids of findings that are kept as there; nil for not known

	findingsKept *findingsKept // of whoever looks; nil before the first look
	reading      sync.Mutex    // guards what follows
	readingNow   chan struct{} // closed when every record was read; nil where nobody reads
	oddities     *oddities     // nil before the first reading
	judging      judging

	begin beginning

	watch    sync.Mutex
	watchers map[chan store.Head]bool

	keptDocs struct {
		sync.Mutex
		of   *world.World
		docs draft.Docs
	}
	sets struct {
		sync.Mutex
		known bool
		seq   uint64
		list  []Draft
	}
	carried     atomic.Pointer[store.Carried]
	backlogLock sync.Mutex
	backlog     backlog
	nothingDue  atomic.Pointer[nothingDue]
	heldBack    atomic.Pointer[heldBack]
	mailHeld    atomic.Pointer[heldBack]
	warned      atomic.Pointer[moment.Day]
	forgot      atomic.Pointer[moment.Day]
	braked      atomic.Pointer[Braked]

	connect         func(dialect, address, key string) (Connector, error) // nil: no systems are worked on
	holder          string                                                // names this service to others that work on systems
	comparedWith    map[string]store.Head                                 // by system: what it was compared with last; the worker's alone
	spans           float64
	recordsCompared struct { // up to where in the journal the records of a system were compared
		sync.Mutex
		by map[string]comparedUpTo
	}
	keptKinds struct { // counts of what systems keep
		sync.Mutex
		by map[string]kindsOf
	}
	recordsMoved struct { // a number that moves with what is known of the records of systems, and when it was asked for
		sync.Mutex
		n  uint64
		at time.Time
	}
	listing    sync.Mutex // one reading of records at a time
	listTook   map[string]time.Duration
	countedNow struct { // impacts of what was found are counted once
		sync.Mutex
		by map[string]countedOf
	}
	ways        atomic.Pointer[ways]
	foundStates [2]atomic.Pointer[foundState] // at least, at most

	checkClock bool // against the database's: where the clock is the system's
	skew       struct {
		sync.Mutex
		at time.Time
		by time.Duration
	}

	outside  atomic.Pointer[string]
	followed atomic.Int64 // when the database was last followed, in milliseconds of Unix time; 0 for never

	follows       bool   // it writes nothing
	forgottenList string // a file apart from the database; empty for none

	readAnew   atomic.Int64 // how often everything was read from the database
	forgetting atomic.Int64 // how many forget several at once
	remembers  atomic.Bool  // what is in memory holds somebody who was forgotten meanwhile

	file    string        // that it begins with at the next start; empty for none
	fileSeq atomic.Uint64 // the last entry of the journal that the file knows
	fileAt  atomic.Int64  // when it was written, in milliseconds of Unix time

	away        atomic.Pointer[aways] // who is away, as last read
	factored    sync.Map              // accounts that were known to have a second factor
	toldKeys    sync.Map              // by partner: the keys that it publishes, as last fetched
	waits       sync.Map              // by round of review: by what own review days were made to wait for it
	roundsAt    atomic.Int64          // when it was looked which rounds of review end, in microseconds
	lapsedAt    atomic.Int64          // when it was looked which requests nobody answered in time, in microseconds
	askedAt     atomic.Uint64         // how far requests were looked through
	draftsAsked struct {
		sync.Mutex
		by map[string]draftAsked
	}
}

// State is one consistent view: a snapshot and where in the history it stands.
type State struct {
	*engine.Snapshot
	Head    store.Head
	Variant string // what it would be with, where it is not as recorded: digests of drafts
	AsDraft string // the name of the draft that it is as; empty for none
}

// Policy returns the policy in force.
func (s *State) Policy() *world.World { return s.Snapshot.Policy() }

// New loads the database and returns a service on it. A nil clock is the
// system's.
func New(ctx context.Context, st *store.Store, clock func() time.Time, log *slog.Logger) (*Service, error) {
	if clock == nil {
		return NewOn(ctx, st, time.Now, log)
	}
	s := &Service{store: st, clock: clock, log: log, watchers: map[chan store.Head]bool{}}
	return s, s.reload(ctx)
}

// NewOn is New on a clock that has to agree with the database's: where it does not, nothing that
// falls at a moment is carried out.
func NewOn(ctx context.Context, st *store.Store, clock func() time.Time, log *slog.Logger) (*Service, error) {
	return NewFrom(ctx, st, clock, log, "")
}

// taking is an Editor that takes records which cannot be read as they are kept without what
// no text may hold; they are findings.
type taking struct {
	*engine.Editor
	log *slog.Logger
}

func (x taking) Bad(kind, id string, err error, lost bool) {
	x.log.Error("a record cannot be read as it is kept; mend it", "kind", kind, "id", id, "counts", !lost, "error", err)
}

func (s *Service) reload(ctx context.Context) error {
	e := engine.New()
	h, err := s.store.Read(ctx, store.Head{}, taking{e, s.log})
	if err != nil {
		return fmt.Errorf("the database cannot be read: %w", err)
	}
	s.state.Store(&State{Snapshot: frames.Hold(e.Done()), Head: h})
	s.remembers.Store(false)
	s.readAnew.Add(1)
	return nil
}

// forgetsAtOnce has everything read anew once after several were forgotten, and not after each.
func (s *Service) forgetsAtOnce(ctx context.Context, forget func() error) error {
	s.forgetting.Add(1)
	err := forget()
	if s.forgetting.Add(-1) > 0 || !s.remembers.Load() {
		return err
	}
	s.fresh.Lock()
	defer s.fresh.Unlock()
	was := s.State().Head
	if wrong := s.reload(ctx); wrong != nil {
		return errors.Join(err, wrong)
	}
	if now := s.State().Head; now != was {
		s.lookAgain(ctx, was.Seq, now.Seq)
		s.tell(now)
	}
	return err
}

// ReadAnew is how often everything was read from the database.
func (s *Service) ReadAnew() int64 { return s.readAnew.Load() }

// State returns the present view.
func (s *Service) State() *State { return s.state.Load() }

// Now returns the present moment.
func (s *Service) Now() moment.Moment { return moment.Of(s.clock()) }

// Ready tells what of the database works: reading, writing, and following what other services
// change. Each is nil where it does.
func (s *Service) Ready(ctx context.Context) (read, write, follow error) {
	if read = s.store.Ping(ctx); !s.follows {
		write = s.store.Writable(ctx)
	}
	if at := s.followed.Load(); at != 0 && time.Since(time.UnixMilli(at)) > followsWithin {
		follow = fmt.Errorf("nothing was heard of other services since %s", time.UnixMilli(at).UTC().Format(time.RFC3339))
	}
	return
}

// KnownAt is up to when it is known what other services changed: now, where nobody else is followed.
func (s *Service) KnownAt() moment.Moment {
	if at := s.followed.Load(); at != 0 {
		return min(s.Now(), moment.Of(time.UnixMilli(at)))
	}
	return s.Now()
}

// followsWithin is how long ago a service that follows has looked at most.
const followsWithin = 10 * time.Second

// Refresh brings the state up to what the database holds.
func (s *Service) Refresh(ctx context.Context) error {
	s.fresh.Lock()
	defer s.fresh.Unlock()
	now := s.State()
	e := now.Edit()
	h, all, forgot, err := s.store.Follow(ctx, now.Head, taking{e, s.log})
	switch {
	case err != nil:
		return err
	case forgot && !all && s.forgetting.Load() > 0: // everything is read anew when all of them are forgotten
		s.dropFile("somebody is forgotten")
		s.remembers.Store(true)
		s.state.Store(&State{Snapshot: e.Done(), Head: h})
	case all || forgot: // somebody may have been forgotten, and is in the file still
		s.dropFile("everything is read from the database anew")
		if err := s.reload(ctx); err != nil {
			return err
		}
		h = s.State().Head
	case h == now.Head:
		e.Drop()
		return nil
	default:
		s.state.Store(&State{Snapshot: e.Done(), Head: h})
	}
	s.lookAgain(ctx, now.Head.Seq, h.Seq)
	s.tell(h)
	return nil
}

// Follow has the service answer and write nothing: others carry out what is due.
func (s *Service) Follow() { s.follows = true }

// Run follows the database until the context ends. A database that is away is
// asked again; what is known is answered meanwhile.
func (s *Service) Run(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "the database is away; answering from what is known", "the database is back", func() error {
		h, err := s.store.Head(ctx)
		if err == nil && h != s.State().Head {
			err = s.Refresh(ctx)
		}
		if err == nil {
			s.followed.Store(time.Now().UnixMilli())
		}
		if s.follows {
			return err
		}
		if err == nil {
			if wrong := s.clockHolds(ctx); wrong == nil { // it is told where steps are carried out
				err = s.publishDue(ctx)
			}
		}
		if err == nil {
			err = s.noticeRequests(ctx)
		}
		if err == nil {
			err = s.lapseRequests(ctx)
		}
		if err == nil {
			err = s.tendRounds(ctx)
		}
		if err == nil {
			err = s.tendAbsences(ctx)
		}
		return err
	})
}

// repeat does something every so often until the context ends; once it fails, and once it
// works again, it says so.
func (s *Service) repeat(ctx context.Context, every time.Duration, fails, works string, do func() error) {
	wait := every // what fails is tried less and less often, every two seconds in the end
	tick := time.NewTimer(wait)
	defer tick.Stop()
	away := false
	for {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		err := do()
		if err == nil {
			wait = every
		} else {
			wait = max(every, min(2*wait, 2*time.Second))
		}
		tick.Reset(wait)
		if ctx.Err() != nil {
			return
		}
		if err != nil && !away {
			s.log.Error(fails, "error", err)
		} else if err == nil && away {
			s.log.Info(works)
		}
		away = err != nil
	}
}

// Watch returns a channel that hears of every new head until stop is called. A
// slow listener misses heads in between, never the last.
func (s *Service) Watch() (heads <-chan store.Head, stop func()) {
	c := make(chan store.Head, 1)
	s.watch.Lock()
	s.watchers[c] = true
	s.watch.Unlock()
	return c, func() {
		s.watch.Lock()
		delete(s.watchers, c)
		s.watch.Unlock()
	}
}

func (s *Service) tell(h store.Head) {
	s.watch.Lock()
	defer s.watch.Unlock()
	for c := range s.watchers {
		select {
		case <-c:
		default:
		}
		c <- h
	}
}

// Errors that callers tell apart.
var (
	ErrNotFound = errors.New("not found")
	ErrConflict = errors.New("conflict")
	ErrStale    = errors.New("it was changed meanwhile")
	// ErrForbidden is what somebody may not do; the text says whom to ask.
	ErrForbidden = may.ErrForbidden
)

// Invalid is bad input: the field, its value, and what would be right.
type Invalid struct{ Field, Value, Reason string }

func (e *Invalid) Error() string { return fmt.Sprintf("%s %q: %s", e.Field, e.Value, e.Reason) }

// change runs fn on the newest state while nobody else writes, and brings the
// state up to date afterwards.
func (s *Service) change(ctx context.Context, who, why string, fn func(*State, *store.Tx) error) error {
	_, err := s.store.Change(ctx, who, why, func(t *store.Tx) error {
		if t.Head() != s.State().Head {
			if err := s.Refresh(ctx); err != nil {
				return err
			}
		}
		return fn(s.State(), t)
	})
	if err != nil {
		return err
	}
	if err := s.Refresh(context.WithoutCancel(ctx)); err != nil {
		return fmt.Errorf("%w: %w", ErrDone, err)
	}
	return nil
}

// ErrDone is returned where a change is written and cannot be read back: the database went away
// between.
var ErrDone = errors.New("it was done, and cannot be shown yet")

// changeLong is change for what may read or weigh whole worlds between two statements.
func (s *Service) changeLong(ctx context.Context, who, why string, fn func(*State, *store.Tx) error) error {
	return s.change(ctx, who, why, func(now *State, t *store.Tx) error {
		if err := t.Patient(); err != nil {
			return err
		}
		return fn(now, t)
	})
}

// errPreview ends a change that has found out what it was asked and writes nothing.
var errPreview = errors.New("preview")

// changing is changeLong. As a preview it runs aside, on what is written when it begins: it
// writes nothing, and nobody waits for it. What fn would have written is not there when fn reads
// it again.
func (s *Service) changing(ctx context.Context, who, why string, preview bool, fn func(*State, *store.Tx) error) error {
	if !preview {
		err := s.changeLong(ctx, who, why, fn)
		if errors.Is(err, errPreview) {
			return nil
		}
		return err
	}
	for try := 0; ; try++ {
		moved := false
		err := s.store.Look(ctx, who, why, func(t *store.Tx) error {
			if t.Head() != s.State().Head {
				if err := s.Refresh(ctx); err != nil {
					return err
				}
				if moved = t.Head() != s.State().Head && try < lookAgainAtMost; moved {
					return nil
				}
			}
			return fn(s.State(), t)
		})
		if errors.Is(err, errPreview) {
			err = nil
		}
		if !moved || err != nil {
			return err
		}
	}
}

// lookAgainAtMost is how often a preview begins anew because others wrote between its reading of
// the database and of the state; after that it takes the state, which is the newer of the two.
const lookAgainAtMost = 5

// Journal returns entries of the journal, the newest first.
func (s *Service) Journal(ctx context.Context, q store.JournalQuery) ([]store.Entry, error) {
	return s.store.Journal(ctx, q)
}

// VerifyJournal recomputes the chain of seals.
func (s *Service) VerifyJournal(ctx context.Context) (uint64, *store.Broken, error) {
	return s.store.VerifyJournal(ctx)
}

// SealType is that of a signed seal of the journal, in the header of its token.
const SealType = "wexillum-seal+jwt"

// Seal says how far the journal had come, and with which seal its last entry is: whoever keeps it elsewhere finds out a journal that is
// written anew.
type Seal struct {
	Issuer   string `json:"iss"`
	Issued   int64  `json:"iat"` // seconds since 1970
	Seq      uint64 `json:"seq"`
	Seal     string `json:"seal"` // in hexadecimal
	Revision uint64 `json:"revision"`
}

// SignedSeal is the seal of the journal's last entry, signed with the key that signs for us.
func (s *Service) SignedSeal(ctx context.Context) (string, error) {
	k, err := s.currentKey(ctx)
	if err != nil {
		return "", err
	}
	head := s.State().Head
	seal, err := s.store.SealAt(ctx, head.Seq)
	if err != nil {
		return "", err
	}
	return statement.SignAs(SealType, Seal{Issuer: s.address(""), Issued: s.clock().Unix(), Seq: head.Seq, Seal: seal,
		Revision: head.Revision}, k.Private)
}

// SealHolds reports whether the journal has a seal at an entry, as somebody kept it.
func (s *Service) SealHolds(ctx context.Context, seq uint64, seal string) (bool, error) {
	if seq == 0 {
		return false, &Invalid{"seq", "0", "name the entry that the seal is of"}
	}
	is, err := s.store.SealAt(ctx, seq)
	if errors.Is(err, sql.ErrNoRows) { // the journal is shorter than it was
		return false, nil
	}
	return err == nil && is == strings.ToLower(seal), err
}

// SponsorOf returns who answers for a guest; "" where nobody does.
func (s *Service) SponsorOf(ctx context.Context, a addr.Address) (string, error) {
	return s.store.SponsorOf(ctx, a.String())
}

// EndingSoon lists guests and grants that end before a moment.
func (s *Service) EndingSoon(ctx context.Context, until moment.Moment, limit int) ([]store.Ending, error) {
	st, now := s.State(), s.Now()
	list, err := s.store.EndingSoon(ctx, int64(now), int64(until), limit)
	return slices.DeleteFunc(list, func(e store.Ending) bool { // whose dates have come already loses nothing more
		a, err := addr.Parse(e.Who)
		if err != nil {
			return false
		}
		i := st.PartyOf(a)
		if i == ^uint32(0) {
			return false
		}
		state, _, _, ok := st.StateOf(i, now)
		return ok && state == world.StateSuspended || !ok && e.What == "record"
	}), err
}

// ours reports whether an address is at a domain of ours, by a policy that is not in force
// yet. The longest entry decides, as it does in questions.
func ours(w *world.World, a addr.Address) bool {
	if w.Organisation == nil {
		return false
	}
	entered := func(list []world.Entry, d addr.Domain, whole bool) bool {
		for i := range list {
			if list[i].Domain == d && (whole || list[i].Subdomains) {
				return true
			}
		}
		return false
	}
	whole := true
	for d, ok := a.Domain(), true; ok; d, ok = d.Parent() {
		if entered(w.Organisation.Domains, d, whole) {
			return true
		}
		for i := range w.Partners {
			if entered(w.Partners[i].Domains, d, whole) {
				return false
			}
		}
		whole = false
	}
	return false
}
