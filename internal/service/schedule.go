package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/phrase"
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
		if st := &steps[i]; changes(st) || st.At > c.At || st.At == c.At && st.Address.String() > c.Address {
			out = append(out, *st)
		}
	}
	return out
}

// changes reports whether a step changes a record, so that the record itself tells whether
// it was carried out; other steps are told by how far things have been carried out.
func changes(st *engine.DueStep) bool {
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
	q := st.Sequences()
	st.Unwritten(now, func(i uint32) bool {
		if st.Waits(i) {
			return true
		}
		steps, _ := q.Of(st.AddressAt(i))
		for k := range steps {
			if steps[k].At < mark && changes(&steps[k]) {
				out = append(out, steps[k])
			}
		}
		return true
	})
	engine.SortDue(out)
	return
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
	if !found || !changes(step) && !(step.At > c.At || step.At == c.At && a.String() > c.Address) {
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

// stepWords says what is carried out, and why.
func stepWords(st *engine.DueStep) string {
	return phrase.Step("en", st.Kind) + ": " + phrase.Because("en", &st.Step)
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

// Warn writes what is to be told ahead: to every guest, guests.warn_days before, one message
// for each moment at which something of theirs ends, and to every sponsor one digest a day
// of what ends or is to be confirmed. It may be called by several services at once. Before
// six in the morning nothing is written, unless early says so. It returns how many messages
// it wrote.
func (s *Service) Warn(ctx context.Context, early bool) (int, error) {
	st, now := s.State(), s.Now()
	zone := st.Zone()
	day := moment.DayOf(now, zone)
	if told := s.warned.Load(); told != nil && *told == day {
		return 0, nil
	}
	if !early && now < day.Start(zone)+6*3600e6 { // a digest is read in the morning
		return 0, nil
	}
	var list []store.Message
	write := func(to addr.Address, kind, once string, doc []byte) {
		list = append(
			list,
			store.Message{
				MessageID: newMessageID(st.Host()),
				Once:      once,
				Recipient: to.String(),
				Kind:      kind,
				Doc:       doc,
				Made:      now,
				Due:       now,
			},
		)
	}
	digests := map[string]*digest{}
	err := s.soon(ctx, st, now, func(x *soon) {
		last := moment.Always
		from := st.MailFrom(st.PartyOf(x.address))
		for k := range x.steps {
			step := &x.steps[k]
			if from == moment.Never ||
				moment.DayOf(
					step.At,
					zone,
				)-moment.Day(
					x.warn,
				)-1 < moment.DayOf(
					max(from, 0),
					zone,
				) { // it should have been sent before mail began
				continue
			}
			if id := x.sponsors[k]; id != "" {
				if digests[id] == nil {
					digests[id] = &digest{Sponsor: id, Day: day.String()}
				}
				digests[id].add(x.address.String())
			}
			if ends(step) && (x.active || step.Kind == dated.Removed) && step.At != last { // one message for all that ends then
				last = step.At
				write(
					x.address,
					"warning",
					fmt.Sprintf("warning %s %s", x.address, step.At),
					[]byte(jsonOf(map[string]string{"at": step.At.String()})),
				)
			}
		}
	})
	if err != nil {
		return 0, err
	}
	for _, id := range slices.Sorted(maps.Keys(digests)) {
		p, err := s.Person(ctx, id)
		if err != nil || p.Address.IsZero() || p.Left != 0 && p.Left <= now {
			continue
		}
		doc, err := json.Marshal(digests[id])
		if err != nil {
			return 0, err
		}
		write(p.Address, "digest", fmt.Sprintf("digest %s %s", id, day), doc)
	}
	if limit := brakeOf(st); limit > 0 && len(list) > limit {
		lifted, err := s.lifted(ctx)
		if err != nil {
			return 0, err
		}
		if lifted < day.Start(zone) {
			s.tripped(0, len(list))
			return 0, nil
		}
	}
	n, err := s.store.PostAll(ctx, list)
	if err != nil {
		return n, err
	}
	s.tripped(-1, 0)
	s.warned.Store(&day)
	return n, nil
}

// digest is what the mail of a day to a sponsor is made of.
type digest struct {
	Sponsor string   `json:"sponsor"`
	Day     string   `json:"day"`
	Guests  []string `json:"guests"` // the first of them, by address
	Count   int      `json:"count"`  // all of them
	last    string
}

// digestGuests is how many guests a digest tells of one by one.
const digestGuests = 100

func (d *digest) add(address string) {
	if d.last == address { // of one guest all steps are told together
		return
	}
	d.last = address
	if d.Count++; d.Count <= digestGuests {
		d.Guests = append(d.Guests, address)
	}
}

// ends reports whether a guest hears of a step ahead: something ends, or a record that was
// suspended by hand is removed. Of other removals the mail about the suspension tells.
func ends(st *engine.DueStep) bool {
	return st.Kind == dated.Suspended || st.Kind == dated.GrantEnds || st.Kind == dated.Removed && st.After == dated.ByHand
}

// soon is what comes of a guest within the days of guests.warn_days.
type soon struct {
	address  addr.Address
	name     string
	active   bool // otherwise its grants give nothing that could end
	warn     int  // how many days ahead they hear of it
	steps    []engine.DueStep
	sponsors []string // who is to hear of each step; empty for nobody
}

// soonOf returns what comes of a guest; false where nothing does.
func (s *Service) soonOf(st *State, q *engine.Sequences, a addr.Address, now moment.Moment) (x soon, ok bool) {
	all, ok := q.Of(a)
	if !ok {
		return x, false
	}
	zone := st.Zone()
	x.warn = int(st.GuestRule(a, "", ruleWarn))
	within := moment.EndOfDays(moment.DayOf(now, zone), x.warn, zone)
	party := st.PartyOf(a)
	name, sponsor, _ := st.RecordOf(party)
	x.address, x.name, x.active = a, name, st.Active(party, now)
	for k := range all {
		if all[k].At >= now && all[k].At <= within {
			x.steps, x.sponsors = append(x.steps, all[k]), append(x.sponsors, sponsor)
		}
	}
	return x, len(x.steps) > 0
}

// hear finds who is to hear of the steps of grants: the sponsor that a grant names.
func (s *Service) hear(ctx context.Context, list []soon) error {
	var parties []string
	for i := range list {
		if slices.ContainsFunc(list[i].steps, func(x engine.DueStep) bool { return x.Resource.ID != "" }) {
			parties = append(parties, list[i].address.String())
		}
	}
	given, err := s.store.GrantsOf(ctx, parties)
	for i := range list {
		x := &list[i]
		own := given[x.address.String()]
		for k := range x.steps {
			step := &x.steps[k]
			for j := range own {
				if g := &own[j]; g.Sponsor != "" && g.Resource == step.Resource && g.Role == step.Role && g.From == step.From {
					x.sponsors[k] = g.Sponsor
				}
			}
		}
	}
	return err
}

// soon hands over every guest of whom something comes within guests.warn_days, in no order.
func (s *Service) soon(ctx context.Context, st *State, now moment.Moment, fn func(*soon)) error {
	most := moment.EndOfDays(moment.DayOf(now, st.Zone()), 91, st.Zone())
	tell := st.Sequences()
	var batch []soon
	flush := func() error {
		err := s.hear(ctx, batch)
		for i := range batch {
			fn(&batch[i])
		}
		batch = batch[:0]
		return errors.Join(err, ctx.Err())
	}
	var failed error
	st.Sequences().Each(func(i uint32, steps []dated.Step) bool {
		if slices.ContainsFunc(steps, func(x dated.Step) bool { return x.At >= now && x.At < most }) {
			if x, ok := s.soonOf(st, tell, st.AddressAt(i), now); ok {
				batch = append(batch, x)
			}
			if len(batch) == 500 {
				failed = flush()
			}
		}
		return failed == nil && ctx.Err() == nil
	})
	return errors.Join(failed, flush())
}

func jsonOf(m map[string]string) string {
	keys := make([]string, 0, len(m))
	for k := range m {
		keys = append(keys, k)
	}
	sort.Strings(keys)
	for i, k := range keys {
		keys[i] = jsonText(k) + ":" + jsonText(m[k])
	}
	return "{" + strings.Join(keys, ",") + "}"
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
