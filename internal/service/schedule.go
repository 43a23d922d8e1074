package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Scheduler is the name under which dated steps are journaled.
const Scheduler = "wexillum"

// The scheduler carries out as many records in one transaction as take this long at most,
// so that nobody who writes waits for it.
const stepTime = 100 * time.Millisecond

// atOnce is how many steps are listed at once.
const atOnce = 500_000

var ruleWarn = catalogue.MustRule("guests.warn_days")

// Carried returns up to when dated steps have been carried out; moment.Always where none
// ever were.
func (s *Service) Carried() moment.Moment {
	if c := s.carried.Load(); c != nil {
		return c.At
	}
	return moment.Always
}

// CarriedOut says what one look of the scheduler did.
type CarriedOut struct {
	Steps, Late, Records, Transactions int
	Longest                            time.Duration // of its transactions
}

// CarryOut carries out every dated step that is due, in order, and marks the late ones. It
// may be called by several services at once: each step happens once. It returns at the
// first error, and goes on from there when called again.
func (s *Service) CarryOut(ctx context.Context) (out CarriedOut, err error) {
	now := s.Now()
	c, ok, err := s.store.Carried(ctx)
	if err != nil {
		return out, err
	}
	if !ok { // a new installation: nothing before it is ours to carry out
		c = store.Carried{At: now}
		if _, err := s.store.Change(ctx, Scheduler, "", func(t *store.Tx) error {
			if _, there, err := t.Carried(); err != nil || there {
				return err
			}
			return errors.Join(t.SetCarried(c), t.Commit())
		}); err != nil {
			return out, err
		}
		if c, _, err = s.store.Carried(ctx); err != nil {
			return out, err
		}
	}
	s.carried.Store(&c)
	st := s.State()
	if seen := s.nothingDue.Load(); seen != nil && seen.of == st.Snapshot && now < seen.next {
		return out, s.advance(ctx, &c, now)
	}
	next := now + 1
	if held, err := s.brake(ctx, st, &c, now); err != nil || held {
		return out, err
	}
	for steps := s.unwritten(st, now, c.At); len(steps) > 0; steps = s.unwritten(st, now, c.At) { // what was due before the mark
		before := out.Records
		if err := s.carry(ctx, steps[:min(len(steps), atOnce)], now, &out); err != nil {
			return out, err
		}
		if st = s.State(); out.Records == before {
			break
		}
	}
	d, kept := st.Ahead(c.At, next, c.At)
	if !kept {
		d = st.Scan(c.At, next, nil)
	}
	// What is up to the mark was carried out, but for what fell due there by a change.
	for steps := s.released(st, pending(d.Steps(0, d.Total()), &c)); len(steps) > 0; steps = steps[min(len(steps), atOnce):] {
		if err := s.carry(ctx, steps[:min(len(steps), atOnce)], now, &out); err != nil {
			return out, err
		}
	}
	if out.Records > 0 {
		if c, _, err = s.store.Carried(ctx); err != nil {
			return out, err
		}
		s.carried.Store(&c)
		return out, nil // what follows from it is looked for the next time
	}
	// Nothing is due: not before the next step, or before something changes.
	s.nothingDue.Store(&nothingDue{st.Snapshot, s.nextStep(st, now)})
	return out, s.advance(ctx, &c, now)
}

// looked is what a look of the scheduler found nothing in, and until when that holds.
type nothingDue struct {
	of   *engine.Snapshot
	next moment.Moment
}

// nextStep returns when the next step is due, a day ahead at most.
func (s *Service) nextStep(st *State, now moment.Moment) moment.Moment {
	tomorrow := now + 86400e6
	d, ok := st.Ahead(now+1, tomorrow, min(s.Carried(), now))
	if !ok {
		return now + 60e6
	}
	if steps := d.Steps(0, 1); len(steps) > 0 {
		return steps[0].At
	}
	return tomorrow
}

// advance notes, now and then, that nothing was due up to now: what a change of rules makes
// due before happens when the rules change.
func (s *Service) advance(ctx context.Context, c *store.Carried, now moment.Moment) error {
	if now-c.At < 60e6 {
		return nil
	}
	next := store.Carried{At: now, Address: ""}
	_, err := s.store.Change(ctx, Scheduler, "", func(t *store.Tx) error {
		was, _, err := t.Carried()
		if err != nil || was != *c || t.Head().Seq != s.State().Head.Seq {
			next = was
			return err
		}
		return errors.Join(t.SetCarried(next), t.Commit())
	})
	if err == nil {
		s.carried.Store(&next)
	}
	return err
}

// pending leaves out what is carried out already.
func pending(steps []engine.DueStep, c *store.Carried) []engine.DueStep {
	out := steps[:0:0]
	for i := range steps {
		if st := &steps[i]; changes(&st.Step) || st.At > c.At || st.At == c.At && st.Address.String() > c.Address {
			out = append(out, *st)
		}
	}
	return out
}

// changes reports whether a step changes a record, so that the record itself tells whether
// it was carried out; other steps are told by how far things have been carried out.
func changes(st *dated.Step) bool {
	return st.Kind != dated.ReviewDue && !(st.Kind == dated.GrantEnds && st.Cause == dated.ByUntil)
}

// carry carries out steps that are in order, some records in one transaction.
func (s *Service) carry(ctx context.Context, steps []engine.DueStep, now moment.Moment, out *CarriedOut) error {
	for len(steps) > 0 {
		var did, late, records int
		var used int
		began := time.Now()
		err := s.change(ctx, Scheduler, "", func(st *State, t *store.Tx) error {
			did, late, records, used = 0, 0, 0, 0
			begin := time.Now()
			c, _, err := t.Carried()
			if err != nil {
				return err
			}
			for used < len(steps) {
				if used > 0 && time.Since(begin) > stepTime {
					break
				}
				step := &steps[used]
				used++
				n, l, err := s.carryPending(st, t, step, &c, now)
				if err != nil {
					return err
				}
				if n > 0 {
					records++
				}
				did, late = did+n, late+l
			}
			last := &steps[used-1]
			if next := (store.Carried{At: last.At, Address: last.Address.String()}); next.At > c.At ||
				next.At == c.At && next.Address > c.Address {
				return errors.Join(t.SetCarried(next), t.Commit())
			}
			return nil
		})
		if err != nil {
			return err
		}
		if took := time.Since(began); took > out.Longest {
			out.Longest = took
		}
		out.Steps, out.Late, out.Records, out.Transactions = out.Steps+did, out.Late+late, out.Records+records, out.Transactions+1
		steps = steps[used:]
		if err := ctx.Err(); err != nil {
			return err
		}
	}
	return nil
}

// lateAfter is how much behind its moment a step is told to be late.
const lateAfter = 5 * 60e6

// unwritten lists what the dates of records have come to before the mark without being
// written down, in order.
func (s *Service) unwritten(st *State, now, mark moment.Moment) (out []engine.DueStep) {
	s.eachUnwritten(st, now, mark, func(q *engine.Sequences, party uint32, step *dated.Step) { out = append(out, q.Tell(party, step)) })
	engine.SortDue(out)
	return
}

// eachUnwritten hands it over step by step, in no order.
func (s *Service) eachUnwritten(st *State, now, mark moment.Moment, found func(q *engine.Sequences, party uint32, step *dated.Step)) {
	q := st.Sequences()
	st.Unwritten(now, func(i uint32) bool {
		if st.Waits(i) {
			return true
		}
		steps, _ := q.Party(i)
		for k := range steps {
			if steps[k].At < mark && changes(&steps[k]) {
				found(q, i, &steps[k])
			}
		}
		return true
	})
}

// released leaves out what waits until somebody says so.
func (s *Service) released(st *State, steps []engine.DueStep) []engine.DueStep {
	out := steps[:0:0]
	for i := range steps {
		if !st.Waits(steps[i].Party) {
			out = append(out, steps[i])
		}
	}
	return out
}

// carryPending carries out one step, if it still is to be. What follows from it on the same
// record is found by looking again: the sequence of the changed record.
func (s *Service) carryPending(
	st *State,
	t *store.Tx,
	step *engine.DueStep,
	c *store.Carried,
	now moment.Moment,
) (did, late int, err error) {
	a := step.Address
	current, ok := st.Sequences().Of(a)
	if !ok {
		return 0, 0, nil
	}
	found := false
	for i := range current {
		x := &current[i]
		if x.Kind == step.Kind && x.Cause == step.Cause && x.At == step.At && x.Resource == step.Resource && x.Role == step.Role &&
			x.From == step.From {
			found = true
			break
		}
	}
	if !found && step.Kind == dated.ReviewDue { // one that comes round again is not told without a horizon
		found = true
	}
	if !found || !changes(&step.Step) && !(step.At > c.At || step.At == c.At && a.String() > c.Address) {
		return 0, 0, nil
	}
	return s.carryRecord(st, t, step, now)
}

// carryRecord writes down one step of a record.
func (s *Service) carryRecord(st *State, t *store.Tx, step *engine.DueStep, now moment.Moment) (did, late int, err error) {
	a := step.Address
	why := stepWords(step)
	if step.At < now-lateAfter {
		late = 1
		why += fmt.Sprintf("; late: due at %s", step.At)
	}
	t.Because(why)
	switch step.Kind {
	case dated.ReviewDue, dated.GrantEnds:
		if step.Kind == dated.GrantEnds && step.Cause == dated.ByReview {
			own, err := t.Grants(a.String())
			if err != nil {
				return 0, 0, err
			}
			for i := range own {
				if g := &own[i]; g.Resource == step.Resource && g.Role == step.Role && g.From == step.From {
					g.Until = max(step.At, g.From)
					if _, err := t.PutGrant(g); err != nil {
						return 0, 0, err
					}
				}
			}
			held, err := heldNow(t, st, a)
			if err != nil {
				return 0, 0, err
			}
			held = slices.DeleteFunc(held, func(h world.Holding) bool { return h.From != step.From })
			st.endBundled(held, step.Resource.String(), step.Role.String(), step.At)
			for i := range held {
				if _, err := putHolding(t, &held[i]); err != nil {
					return 0, 0, err
				}
			}
		}
		if _, err := t.Note("step", a.String(), nil, stepDoc(step, late > 0)); err != nil {
			return 0, 0, err
		}
		return 1, late, nil
	case dated.Suspended:
		g, err := t.Guest(a.String())
		if err != nil || g == nil {
			return 0, 0, err
		}
		if g.State == world.StateSuspended { // a suspension that is written is a fact
			return 0, 0, nil
		}
		next := *g
		next.State, next.Cause, next.StateSince = world.StateSuspended, step.Cause.String(), step.At
		if _, err := t.ReplaceGuest(g, &next); err != nil {
			return 0, 0, err
		}
		if step.At > st.MailFrom(step.Party) {
			if err := s.postMail(t, st, a, "suspended", fmt.Sprintf("suspended %s %s", a, step.At),
				map[string]string{"cause": step.Cause.String()}); err != nil {
				return 0, 0, err
			}
		}
	case dated.Removed, dated.Invitation:
		if err := s.remove(st, t, a, max(step.At, moment.Always+1)); err != nil {
			return 0, 0, err
		}
	}
	_, err = t.Note("step", a.String(), nil, stepDoc(step, late > 0))
	return 1, late, err
}

func stepDoc(st *engine.DueStep, late bool) []byte {
	m := map[string]string{"at": st.At.String(), "kind": st.Kind.String(), "cause": st.Cause.String()}
	if st.After != dated.NoCause {
		m["after"] = st.After.String()
	}
	if st.Resource.ID != "" {
		m["resource"], m["role"] = st.Resource.String(), st.Role.String()
	}
	if late {
		m["late"] = "yes"
	}
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	var b strings.Builder
	b.WriteByte('{')
	for i, k := range keys {
		if i > 0 {
			b.WriteByte(',')
		}
		b.WriteString(jsonText(k) + ":" + jsonText(m[k]))
	}
	b.WriteByte('}')
	return []byte(b.String())
}

// Schedule looks for what is due until the context ends, every so often, and beside that
// sends what waits: nobody waits for a code because much is due.
func (s *Service) Schedule(ctx context.Context, every time.Duration, send Sender) {
	var mail sync.WaitGroup
	if send != nil {
		mail.Go(func() {
			s.repeat(ctx, every, "mail waits", "mail goes out again", func() error {
				_, err := s.SendWaiting(ctx, send)
				return err
			})
		})
	}
	s.repeat(ctx, every, "what is due waits", "what is due is carried out again", func() error {
		err := s.clockHolds(ctx)
		if err == nil {
			_, err = s.CarryOut(ctx)
		}
		if err == nil {
			_, err = s.Warn(ctx, false)
		}
		if err == nil {
			_, err = s.Forget(ctx)
		}
		return err
	})
	mail.Wait()
}
