package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

const (
	leaseTime   = 60e6            // how long a service works on a system alone, in microseconds
	sentAgain   = 30e6            // what was sent and not answered is sent again after so long
	mostPause   = 15 * 60e6       // between two tries of what fails
	readAgain   = 2 * time.Second // before what settles is looked at again, at least
	backInADay  = 2               // so often a setting is put back by itself in a day
	systemLimit = 2 * time.Minute // of one round of work on one system
)

// meantNow is what counts here, as a system is told.
func (s *Service) meantNow(ctx context.Context, st *State, x *System) (*native.Meant, error) {
	m := &native.Meant{Policy: st.Policy(), At: s.Now(), People: st.Snapshot}
	n, err := s.systemNames(ctx, st, x)
	if err != nil {
		return nil, err
	}
	err = s.store.WithRules(ctx, func(where string, rules []world.Setting) {
		if !slices.ContainsFunc(rules, func(r world.Setting) bool { return !r.Held }) {
			return
		}
		kind, id, _ := strings.Cut(where, ":")
		p := native.Place{Kind: kind, Rules: rules}
		switch kind {
		case "space":
			p.Space = id
		case "meeting":
		default:
			p.Kind, p.Space = "item", st.SpaceOf(id)
		}
		p.Native = n.native[p.Space]
		m.Places = append(m.Places, p)
	})
	return m, err
}

// WorkSystems does what is to be done on every system: reads it where that is due, compares, and
// sends what is to be written. Several services may call it at once: one works on a system.
func (s *Service) WorkSystems(ctx context.Context) error {
	if s.connect == nil {
		return nil
	}
	if s.holder == "" {
		b := make([]byte, 12)
		_, _ = rand.Read(b)
		s.holder = hex.EncodeToString(b)
	}
	list, err := s.Systems(ctx)
	if err != nil {
		return err
	}
	for i := range list {
		x := &list[i]
		if x.Mode == ModePaused {
			continue
		}
		now := s.Now()
		ok, fresh, err := s.store.HoldSystem(ctx, x.ID, s.holder, now, now+leaseTime)
		if err != nil {
			return err
		}
		if !ok {
			continue
		}
		limited, cancel := context.WithTimeout(ctx, systemLimit)
		err = s.workOn(limited, x, fresh)
		if err == nil {
			err = s.tryNightly(limited, x)
		}
		cancel()
		if err != nil {
			return err
		}
	}
	return nil
}

// workOn reads a system where that is due, and sends what waits: settings first, then records.
func (s *Service) workOn(ctx context.Context, x *System, fresh bool) error {
	now := s.Now()
	work, err := s.store.WorkOn(ctx, x.ID)
	if err != nil {
		return err
	}
	if work.Fails > 0 && now < work.Tried+s.pause(work.Fails) {
		return nil // it is left alone for a while
	}
	listed := work.Listed == 0 || fresh || now >= work.Listed+moment.Moment(x.Minutes)*60e6+10*moment.Moment(s.listTook[x.ID].Microseconds())
	if err := s.workSettings(ctx, x, fresh || work.Fails > 0); err != nil { // what was away is read as soon as it is there again
		return err
	}
	if len(x.dialect().Holdings) == 0 {
		return nil
	}
	if work, err = s.store.WorkOn(ctx, x.ID); err != nil || work.Fails > 0 {
		return err
	}
	c, err := s.connector(x)
	if err == nil {
		err = s.workRecords(ctx, x, c, listed)
	}
	var fault *systemFault
	if errors.As(err, &fault) {
		return s.store.Worked(ctx, x.ID, s.Now(), err.Error())
	}
	return err
}

// workSettings reads the settings of a system where that is due, and sends what waits.
func (s *Service) workSettings(ctx context.Context, x *System, fresh bool) error {
	now := s.Now()
	last, err := s.store.ReadingOf(ctx, x.ID, moment.Never-1)
	if err != nil {
		return err
	}
	all, err := s.settingsOf(ctx, x.ID)
	if err != nil {
		return err
	}
	due := last == nil || fresh || now >= last.Seen+moment.Moment(x.Minutes)*60e6
	for _, c := range all { // what settles is looked at as soon as it should count
		due = due || c.State == StepSettling && c.Counts > 0 && c.Counts < stamp(now) &&
			(stamp(last.Seen) <= c.Counts || now >= last.Seen+moment.Moment(readAgain.Microseconds()))
	}
	if due {
		if last, err = s.readNow(ctx, x); err != nil {
			return s.store.Worked(ctx, x.ID, now, err.Error())
		}
		if err := s.store.Worked(ctx, x.ID, now, ""); err != nil {
			return err
		}
	}
	st := s.State()
	if last, ok := s.comparedWith[x.ID]; ok && !due && !anyOpen(all, now) {
		if last == st.Head {
			return nil
		}
		if last.Revision == st.Head.Revision { // guests come and go; what is meant says nothing of them
			touched, err := s.store.Touched(ctx, last.Seq, st.Head.Seq, "space", "item", "meeting", "person", "group", "system", "system_setting")
			if err != nil {
				return err
			}
			if !touched {
				s.comparedWith[x.ID] = st.Head
				return nil
			}
		}
	}
	if all, err = s.compare(ctx, x, last, all); err != nil {
		return err
	}
	if s.comparedWith == nil {
		s.comparedWith = map[string]store.Head{}
	}
	s.comparedWith[x.ID] = st.Head // of before: what was published meanwhile is not compared yet
	if x.Mode != ModeCarry {
		return nil
	}
	return s.send(ctx, x, all)
}

func anyOpen(all map[string]*CarriedSetting, now moment.Moment) bool {
	for _, c := range all {
		switch c.State {
		case StepWaiting, StepSent:
			return true
		case StepFailed:
			if c.Next <= stamp(now) {
				return true
			}
		}
	}
	return false
}

// readNow reads a system and keeps what it says.
func (s *Service) readNow(ctx context.Context, x *System) (*store.Reading, error) {
	c, err := s.connector(x)
	if err != nil {
		return nil, err
	}
	if err := s.sameDescription(ctx, x); err != nil {
		return nil, err
	}
	began := s.Now()
	values, err := c.Read(ctx)
	if err != nil {
		return nil, err
	}
	r := &store.Reading{System: x.ID, At: began, Seen: began, Values: values}
	return r, s.store.PutReading(ctx, r)
}

// compare holds a reading against what is meant, and notes what follows: what is confirmed, what
// differs, what is to be written, what was changed there behind our back.
func (s *Service) compare(ctx context.Context, x *System, r *store.Reading, was map[string]*CarriedSetting) (map[string]*CarriedSetting,
	error) {
	st := s.State()
	m, err := s.meantNow(ctx, st, x)
	if err != nil {
		return nil, err
	}
	next := maps.Clone(was)
	var changed []*CarriedSetting
	cause := ""
	wants := x.dialect().Wanted(m, r.Values)
	for _, path := range sortedKeys(was) { // a set that was taken back is neither meant nor read any more, and stands for that
		gone := native.IsSet(path) && (was[path].open() || was[path].Meant != "") && r.Values[path] == ""
		if gone && !slices.ContainsFunc(wants, func(w native.Setting) bool { return w.Path == path }) {
			wants = append(wants, native.Setting{Path: path})
		}
	}
	for _, want := range wants {
		found, there := native.At(r.Values, want.Path)
		if !there {
			continue
		}
		c := s.stands(x, was[want.Path], want, found, stamp(r.Seen))
		if c != nil && was[want.Path] == nil && want.Value == "" && x.Mode == ModeCarry {
			before, err := s.store.ReadingOf(ctx, x.ID, r.At-1)
			if err != nil {
				return nil, err
			}
			if before != nil && stamp(before.Seen) >= x.Since && before.Values[want.Path] == "" { // it came after we began
				c = &CarriedSetting{
					System: x.ID, Path: want.Path, State: StepConfirmed, Confirmed: stamp(before.Seen),
					Drift: &Drift{Found: found, After: stamp(before.Seen), Since: stamp(r.Seen)},
				}
			}
		}
		if c == nil {
			continue
		}
		if c.open() && c.Cause == "" {
			if cause == "" {
				cause = s.causeNow(ctx, st, x)
			}
			c.Cause = cause
		}
		next[want.Path] = c
		changed = append(changed, c)
	}
	return next, s.putSettings(ctx, x, changed, "")
}

// stands says how a setting stands after a reading; nil where nothing changes. c is how it stood.
func (s *Service) stands(x *System, c *CarriedSetting, want native.Setting, found string, read stamp) *CarriedSetting {
	now, d := stamp(s.Now()), x.dialect()
	turn := d.Turn(want.Path, found, want.Value)
	right := found == want.Value || turn == native.Same
	fresh := func() *CarriedSetting {
		n := &CarriedSetting{System: x.ID, Path: want.Path, State: StepWaiting, Meant: want.Value, Was: found, Turn: turn, Made: now}
		if d.ByHand(want.Path) {
			n.State = StepByHand
		}
		return n
	}
	confirmed := func() *CarriedSetting {
		n := &CarriedSetting{System: x.ID, Path: want.Path, State: StepConfirmed, Meant: want.Value, Confirmed: read}
		if c != nil && c.Meant == want.Value {
			n.Was, n.Turn, n.Cause, n.Made, n.Sent, n.Counts, n.Tries = c.Was, c.Turn, c.Cause, c.Made, c.Sent, c.Counts, c.Tries
			n.BackOn, n.Back = c.BackOn, c.Back
		}
		return n
	}
	if c == nil || c.Meant != want.Value { // never compared, or something else is meant now
		switch {
		case right && (c == nil || !c.open()):
			return confirmed()
		case right: // what was sent meanwhile may still come to count: it is written again
			return fresh()
		case x.Mode == ModeCarry:
			return fresh()
		case c != nil: // it is only looked at: nothing is on its way
			return &CarriedSetting{System: x.ID, Path: want.Path, State: StepDiffers, Meant: want.Value, Was: found, Turn: turn, Made: now}
		}
		return nil
	}
	n := *c
	switch c.State {
	case StepSettling:
		if c.Counts > 0 && read <= c.Counts { // only one that is begun afterwards says anything
			return nil
		}
		if right {
			return confirmed()
		}
		if c.Counts == 0 {
			return nil // nobody knows how long it takes
		}
		n.State, n.Problem = StepDiffers, fmt.Sprintf("it took the change, and says %q", found)
		return &n
	case StepWaiting, StepSent, StepFailed:
		switch {
		case right && c.State != StepSent && read > c.Made: // an older reading proves nothing
			return confirmed()
		case c.State == StepSent && now >= c.Sent+sentAgain: // whether it arrived is not known
			n.State = StepWaiting
			return &n
		}
		return nil
	case StepByHand, StepDiffers:
		if right && read > c.Made {
			return confirmed()
		}
		if c.State == StepDiffers && c.Problem == "" && x.Mode == ModeCarry { // it was looked at until now
			return fresh()
		}
		return nil
	}
	// Confirmed: whatever differs now was changed there.
	switch {
	case right && c.Drift == nil:
		return nil
	case right:
		n.Drift = nil
		return &n
	case c.Drift != nil && c.Drift.Looked && c.Drift.Accepted == 0 && x.Mode == ModeCarry: // it was shown before it was carried
		return fresh()
	case c.Drift != nil && c.Drift.Found == found:
		if c.Drift.Accepted != 0 && now >= c.Drift.Accepted { // it was accepted until now
			drift := *c.Drift
			drift.Accepted, drift.By, drift.Why = 0, "", ""
			n.Drift = &drift
			return &n
		}
		return nil
	}
	n.Drift = &Drift{Found: found, After: c.Confirmed, Since: read, Looked: x.Mode == ModeLook}
	if today, back, may := s.putsBack(x, turn, c.BackOn, c.Back); may {
		n = *fresh()
		n.Cause, n.BackOn, n.Back = fmt.Sprintf("put back by itself: it was loosened in %s", x.Name), today, back
	}
	return &n
}

// putsBack reports whether what was changed in a system is put back by itself: what tightens, where that is wanted,
// and a few times a day. It was done so often on a day before; today and back are what to keep once it is done again.
func (s *Service) putsBack(x *System, turn native.Turn, on string, before int) (today string, back int, may bool) {
	if today = moment.DayOf(s.Now(), s.State().Zone()).String(); on != today {
		before = 0
	}
	return today, before + 1, x.PutBack == PutBackBeyond && x.Mode == ModeCarry && turn == native.Tightens && before < backInADay
}

// ReadSystem reads a system now and compares.
func (s *Service) ReadSystem(ctx context.Context, _ Who, id string) (*SystemView, error) {
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	if x.Mode == ModePaused {
		return nil, fmt.Errorf("%w: %s is paused; have it looked at first", ErrConflict, x.Name)
	}
	if _, _, err := s.store.HoldSystem(ctx, id, "", s.Now(), 0); err != nil { // makes sure that there is a row
		return nil, err
	}
	r, err := s.readNow(ctx, x)
	if err != nil {
		_ = s.store.Worked(ctx, id, s.Now(), err.Error())
		return nil, &Invalid{"address", x.Address, "it cannot be read: " + err.Error()}
	}
	if err := s.store.Worked(ctx, id, s.Now(), ""); err != nil {
		return nil, err
	}
	all, err := s.settingsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	if _, err := s.compare(ctx, x, r, all); err != nil {
		return nil, err
	}
	if len(x.dialect().Holdings) > 0 {
		c, err := s.connector(x)
		if err != nil {
			return nil, err
		}
		began := s.Now()
		if err := s.readRecords(ctx, x, c); err != nil {
			_ = s.store.Worked(ctx, id, s.Now(), err.Error())
			return nil, &Invalid{"address", x.Address, err.Error()}
		}
		if err := s.compareRecords(ctx, x, began); err != nil {
			return nil, err
		}
	}
	return s.SystemView(ctx, id)
}

// Decided is what somebody decides about a setting.
type Decided struct {
	Do    string // put_back, accept, again
	Until string // with accept: a moment, or a day, as endOf takes it
	Why   string
}

// DecideSetting puts back what was changed in a system, accepts it until a moment, or has what failed
// or differs sent again.
func (s *Service) DecideSetting(ctx context.Context, who Who, id, path string, do Decided) (*SystemView, error) {
	if do.Why == "" {
		return nil, &Invalid{"why", "", "say why"}
	}
	x, err := s.System(ctx, id)
	if err != nil {
		return nil, err
	}
	all, err := s.settingsOf(ctx, id)
	if err != nil {
		return nil, err
	}
	c := all[path]
	if c == nil {
		return nil, fmt.Errorf("%w: nothing is to be decided about %q of %s", ErrNotFound, path, x.Name)
	}
	n := *c
	switch {
	case do.Do == "put_back" && c.Drift != nil, do.Do == "again" && (c.State == StepFailed || c.State == StepDiffers):
		if x.Mode != ModeCarry {
			return nil, fmt.Errorf("%w: %s is only looked at; change it there, or have it carried", ErrConflict, x.Name)
		}
		n.State, n.Made, n.Problem, n.Next, n.Cause = StepWaiting, stamp(s.Now()), "", 0, do.Why
		if c.Drift != nil {
			n.Was, n.Drift = c.Drift.Found, nil
		}
		n.Turn = x.dialect().Turn(path, n.Was, n.Meant)
		if x.dialect().ByHand(path) {
			n.State = StepByHand
		}
	case do.Do == "accept" && c.Drift != nil:
		until, err := endOf(do.Until, s.Now(), s.State())
		if err != nil {
			return nil, err
		}
		if until <= s.Now() || until > s.Now()+366*86400e6 {
			return nil, &Invalid{"until", do.Until, "write a day ahead, within a year"}
		}
		drift := *c.Drift
		drift.Accepted, drift.By, drift.Why = stamp(until), who.Name, do.Why
		n.Drift = &drift
	default:
		return nil, fmt.Errorf("%w: %s does not fit: %s", ErrConflict, do.Do, c.inWords())
	}
	if err := s.change(ctx, who.Name, do.Why, func(_ *State, t *store.Tx) error {
		return putJSON(t, "system_setting", id+" "+path, &n)
	}); err != nil {
		return nil, err
	}
	return s.SystemView(ctx, id)
}

// RunSystems works on the systems until the context ends.
func (s *Service) RunSystems(ctx context.Context, every time.Duration) {
	s.repeat(ctx, every, "the systems wait", "the systems are worked on again", func() error {
		if err := s.clockHolds(ctx); err != nil {
			return err
		}
		return s.WorkSystems(ctx)
	})
}
