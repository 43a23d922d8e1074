package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// writeDue writes down what the dates of a record have come to by a moment, as every act on
// it does first (model §5): the act is judged on that.
func (s *Service) writeDue(now *State, t *store.Tx, a addr.Address, at moment.Moment) error {
	steps, ok := now.Sequences().Of(a)
	if !ok {
		return nil
	}
	why := t.Why()
	for i := range steps {
		step := &steps[i]
		if step.At > at || !changes(&step.Step) {
			continue
		}
		if _, _, err := s.carryRecord(now, t, step, at); err != nil {
			return err
		}
	}
	t.Because(why)
	return nil
}

// guestNow returns a record as its dates have it at a moment, which are written down first;
// nil where there is none any more.
func (s *Service) guestNow(now *State, t *store.Tx, a addr.Address, at moment.Moment) (*world.Guest, error) {
	if err := s.writeDue(now, t, a, at); err != nil {
		return nil, err
	}
	return t.Guest(a.String())
}

// Dated returns a record as its dates have it at a moment; ok is false where it is no more.
func (s *State) Dated(g *world.Guest, at moment.Moment) (out world.Guest, ok bool) {
	out = *g
	party := s.PartyOf(g.Address)
	if party == ^uint32(0) { // younger than the state
		return out, true
	}
	return out, s.settle(party, &out, at)
}

// settle makes the record of a party what its dates have it at a moment, and reports whether there is one then.
func (s *State) settle(party uint32, g *world.Guest, at moment.Moment) bool {
	state, cause, since, ok := s.StateOf(party, at)
	if !ok {
		return at < g.Since
	}
	if state == world.StateSuspended && g.State != world.StateSuspended {
		g.State, g.Cause, g.StateSince = state, cause.String(), since
	}
	return true
}

// manyFloors is how many guests get a floor of their own before everybody gets one.
const manyFloors = 2000

// actForward makes a change of policy act forward (model §5): what was due of those whom it
// concerns is written down, and nothing that is counted falls before now.
func (s *Service) actForward(live *State, next *world.World, t *store.Tx) error {
	if live.Counts().Guests == 0 {
		return nil
	}
	e := live.Aside()
	e.SetPolicy(next)
	return s.forward(live, e.Done(), t)
}

// forward does so for a change that led from live to after, and for the parties of too.
func (s *Service) forward(live *State, after *engine.Snapshot, t *store.Tx, too ...uint32) error {
	now := s.Now()
	r := engine.Redates(live.Snapshot, after)
	r.Parties = append(r.Parties, too...)
	if !r.Any() {
		return nil
	}
	why := t.Why()
	if len(r.Parties) > manyFloors {
		r = engine.Redated{All: true}
	}
	if err := r.EachOf(live.Snapshot, func(i uint32) error {
		if live.Waits(i) {
			return nil
		}
		return s.writeDue(live, t, live.AddressAt(i), now)
	}); err != nil {
		return err
	}
	t.Because("dates go on from here: " + why)
	floor := func(x world.DatesFrom) error {
		was, ok, err := t.Floor(x.For())
		if err != nil {
			return err
		}
		if ok {
			x.Mail = was.Mail
			if was.From == moment.Never {
				return nil
			}
			x.From = max(x.From, was.From)
		}
		_, err = t.PutFloor(&x)
		return err
	}
	own := func(i uint32) error {
		g, err := t.Guest(live.AddressAt(i).String())
		if err != nil || g == nil || g.DatesFrom == moment.Never {
			return err
		}
		g.DatesFrom = max(g.DatesFrom, now)
		_, err = t.PutGuest(g)
		return err
	}
	var err error
	all, partners, _ := live.Floors()
	switch {
	case r.All && all == moment.Never: // those that wait go on waiting
		err = r.EachOf(live.Snapshot, func(i uint32) error {
			if live.Waits(i) {
				return nil
			}
			return own(i)
		})
	case r.All:
		err = floor(world.DatesFrom{From: now})
	default:
		for _, id := range r.Partners {
			if partners[id] == moment.Never {
				continue
			}
			err = errors.Join(err, floor(world.DatesFrom{Partner: id, From: now}))
		}
		for _, i := range r.Parties {
			err = errors.Join(err, own(i))
		}
	}
	t.Because(why)
	return err
}

// Waiting tells what the dates of records that were taken over would bring about, if they
// did not wait (model §5).
type Waiting struct {
	Records  int               // whose dates wait
	AtOnce   map[string]int    // by kind of step: what would happen the moment they no longer wait
	Partners map[string]int    // of that, by partner; the empty id is of none
	Days     []WaitingDay      // what follows, in order
	Mail     int               // messages that would go out until the end of the days of guests.warn_days
	Mails    bool              // mail waits too
	Floors   []world.DatesFrom // as they are
}

// floors reads the floors of dates as they are now.
func (s *Service) floors(ctx context.Context) (out []world.DatesFrom, err error) {
	err = s.store.Records(ctx, "dates_from", "", func(_ string, doc []byte) error {
		x, err := worldfile.DatesFromOf(doc)
		out = append(out, x)
		return err
	})
	return
}

// DatesRelease says for whom dates no longer wait, and from when.
type DatesRelease struct {
	For     string // organisation, partner:ID, step:CAUSE, a guest's address; empty for everything
	From    string // a moment or a day; empty for the days of guests.warn_days from now on
	Steps   bool   // what is due is carried out from then on
	Mail    bool   // mail about it is sent from now on
	Confirm bool   // sooner than guests.warn_days, or more at once than the brake lets
	Why     string
}

// Released is what came of a release, or would.
type Released struct {
	For     string
	From    moment.Moment
	Steps   bool
	Mail    bool
	Waiting *Waiting // what it sets going
	Brake   string   // why it has to be confirmed; empty where it has not
}

// ReleaseDates ends the waiting of dates for all or for a part (model §5). With preview
// nothing is written, and it is told what it would set going.
func (s *Service) ReleaseDates(ctx context.Context, who Who, r DatesRelease, preview bool) (*Released, error) {
	if r.Why = strings.TrimSpace(r.Why); r.Why == "" && !preview {
		return nil, &Invalid{"why", "", "say why"}
	}
	if !r.Steps && !r.Mail {
		return nil, &Invalid{"steps", "no", "release steps, mail, or both"}
	}
	var out *Released
	err := s.changing(ctx, who.Name, r.Why, preview, func(now *State, t *store.Tx) error {
		at := s.Now()
		zone := now.Zone()
		warn := int(now.GuestRule(addr.Address{}, "", ruleWarn))
		out = &Released{For: r.For, Steps: r.Steps, Mail: r.Mail, From: moment.EndOfDays(moment.DayOf(at, zone), warn, zone)}
		if r.From != "" {
			from, err := moment.ParseLoose(r.From, at, zone)
			if err != nil {
				return &Invalid{"from", r.From, err.Error()}
			}
			if out.From = from; from < at-1e6 {
				return &Invalid{"from", r.From, "it lies behind; dates begin now or later"}
			}
		}
		// A floor is a whole second. Were it the next one, what is released now would count in up to
		// a second, and whoever asks meanwhile would be told two things.
		if out.From <= at {
			out.From = at - at%1e6
		}
		floors, guests, err := s.releasing(ctx, now, t, &r, out.From, at)
		if err != nil {
			return err
		}
		all, err := s.floorsWith(ctx, floors)
		if err != nil {
			return err
		}
		if r.Steps {
			e := now.Aside()
			e.SetFloors(all)
			for i := range guests {
				e.PutGuest(&guests[i])
			}
			after := e.Done()
			out.Waiting = weighWaiting(now, after, out.From, func(i uint32) bool { return now.Waits(i) && !after.Waits(i) })
			if limit := brakeOf(now); limit > 0 {
				if n := letGo(out.Waiting.AtOnce); n > limit {
					out.Brake = fmt.Sprintf("%d records would be suspended or removed at once, more than %d (settings: brake)", n, limit)
				}
				for _, d := range out.Waiting.Days {
					if n := letGo(d.Kinds); n > limit && out.Brake == "" {
						out.Brake = fmt.Sprintf(
							"%d records would be suspended or removed on %s, more than %d (settings: brake)",
							n,
							d.Day,
							limit,
						)
					}
				}
				if n := out.Waiting.Mail; r.Mail && n > limit && out.Brake == "" {
					out.Brake = fmt.Sprintf("%d messages would go out in the first days, more than %d (settings: brake)", n, limit)
				}
			}
			if n := out.From; out.Waiting.Records > 0 && n < moment.EndOfDays(moment.DayOf(at, zone), warn, zone) && out.Brake == "" {
				out.Brake = fmt.Sprintf("dates would begin sooner than guests are told ahead, %d days (guests.warn_days)", warn)
			}
		}
		if preview {
			return errPreview
		}
		if out.Brake != "" && !r.Confirm {
			return fmt.Errorf(
				"%w: %s; look at what it would set going, then say so with confirm, or name a later day or a part",
				ErrConflict,
				out.Brake,
			)
		}
		for i := range floors {
			if _, err := t.PutFloor(&floors[i]); err != nil {
				return err
			}
		}
		for i := range guests {
			if _, err := t.PutGuest(&guests[i]); err != nil {
				return err
			}
		}
		return nil
	})
	return out, err
}

// floorsWith returns the floors as they are with some of them otherwise.
func (s *Service) floorsWith(ctx context.Context, changed []world.DatesFrom) ([]world.DatesFrom, error) {
	all, err := s.floors(ctx)
	if err != nil {
		return nil, err
	}
	for _, x := range changed {
		i := slices.IndexFunc(all, func(y world.DatesFrom) bool { return y.For() == x.For() })
		if i < 0 {
			all = append(all, x)
		} else {
			all[i] = x
		}
	}
	return all, nil
}

// releasing finds which floors a release writes: where everybody waits and only a part is
// released, the rest goes on waiting by floors of its own.
func (s *Service) releasing(
	ctx context.Context,
	now *State,
	t *store.Tx,
	r *DatesRelease,
	from, at moment.Moment,
) (floors []world.DatesFrom, guests []world.Guest, err error) {
	have, err := s.floors(ctx)
	if err != nil {
		return nil, nil, err
	}
	at0 := func(of string) *world.DatesFrom {
		for i := range have {
			if have[i].For() == of {
				return &have[i]
			}
		}
		return nil
	}
	moved := func(x world.DatesFrom) {
		was := x
		if r.Steps && x.From == moment.Never {
			x.From = from
		}
		if r.Mail && x.Mail == moment.Never {
			x.Mail = at
		}
		if x != was {
			floors = append(floors, x)
		}
	}
	waiting := func(x world.DatesFrom) { // goes on as everybody did
		all := at0("organisation")
		if at0(x.For()) != nil {
			return
		}
		x.From, x.Mail = moment.Always, moment.Always
		if r.Steps {
			x.From = all.From
		}
		if r.Mail {
			x.Mail = all.Mail
		}
		floors = append(floors, x)
	}
	ownNever := func(keep func(party uint32) bool, m moment.Moment, was func(*world.Guest) bool) error {
		return s.store.EachGuest(ctx, func(g *world.Guest) error {
			if i := now.PartyOf(g.Address); was(g) && i != ^uint32(0) && keep(i) {
				g.DatesFrom = m
				guests = append(guests, *g)
			}
			return nil
		})
	}
	all := at0("organisation")
	everybody := all != nil && (all.From == moment.Never || all.Mail == moment.Never)
	partner, isPartner := strings.CutPrefix(r.For, "partner:")
	step, isStep := strings.CutPrefix(r.For, "step:")
	switch {
	case r.For == "":
		for i := range have {
			moved(have[i])
		}
		if r.Steps {
			err = ownNever(func(uint32) bool { return true }, from, func(g *world.Guest) bool { return g.DatesFrom == moment.Never })
		}
	case r.For == "organisation":
		if all == nil {
			return nil, nil, fmt.Errorf("%w: no dates wait", ErrNotFound)
		}
		moved(*all)
	case isPartner:
		if _, err := now.Partner(partner); err != nil {
			return nil, nil, &Invalid{"for", r.For, "there is no such partner"}
		}
		if own := at0(r.For); own != nil {
			moved(*own)
		}
		if !everybody {
			break
		}
		moved(*all)
		for i := range now.Policy().Partners {
			if id := now.Policy().Partners[i].ID; id != partner {
				waiting(world.DatesFrom{Partner: id})
			}
		}
		if r.Steps && all.From == moment.Never {
			err = ownNever(
				func(i uint32) bool { _, ok := now.PartnerAt(i); return !ok },
				moment.Never,
				func(g *world.Guest) bool { return g.TakenOver && g.DatesFrom == 0 },
			)
		}
	case isStep:
		if c, ok := dated.ParseCause(step); !ok || !c.IsCounted() {
			return nil, nil, &Invalid{"for", r.For, "there is no such kind of step"}
		}
		if own := at0(r.For); own != nil {
			moved(*own)
		}
		if !everybody {
			break
		}
		moved(*all)
		for _, c := range dated.Counted {
			if c.String() != step {
				waiting(world.DatesFrom{Step: c.String()})
			}
		}
	default:
		a, perr := addr.Parse(r.For)
		if perr != nil {
			return nil, nil, &Invalid{"for", r.For, "write organisation, partner:ID, step:CAUSE, or the address of a guest"}
		}
		g, gerr := t.Guest(a.String())
		if gerr != nil || g == nil {
			return nil, nil, errors.Join(gerr, fmt.Errorf("%w: there is no record of %s", ErrNotFound, a))
		}
		if everybody && g.TakenOver { // it alone stops waiting
			g.TakenOver = false
		}
		if r.Steps {
			g.DatesFrom = from
		}
		guests = append(guests, *g)
	}
	if err == nil && len(floors)+len(guests) == 0 {
		if r.For == "" {
			return nil, nil, fmt.Errorf("%w: no dates wait", ErrNotFound)
		}
		err = fmt.Errorf("%w: no dates of %s wait", ErrNotFound, r.For)
	}
	return floors, guests, err
}

// brakeOf is how many records may be let go, or messages sent, in a day before somebody has
// to say so; 0 for any number.
func brakeOf(st *State) int {
	n := st.Policy().SettingsNow().Brake
	if n == catalogue.NoLimit {
		return 0
	}
	return int(n)
}

// takeOver makes records that are loaded wait where dates wait, as they do in a new
// installation, and tells what they would set going (model §5).
func (s *Service) takeOver(ctx context.Context, now *State, policy, part *world.World, t *store.Tx, out *Loaded, preview bool) error {
	at := s.Now()
	part.DatesFrom = slices.Clone(part.DatesFrom)
	said := slices.IndexFunc(part.DatesFrom, func(f world.DatesFrom) bool { return f.For() == "organisation" })
	for i := range part.DatesFrom { // loading moves none earlier
		f := &part.DatesFrom[i]
		was, ok, err := t.Floor(f.For())
		if err != nil {
			return err
		}
		if ok {
			f.From, f.Mail = max(f.From, was.From), max(f.Mail, was.Mail)
		}
	}
	all, begun, err := t.Floor("organisation")
	if err != nil {
		return err
	}
	if !begun && len(part.Guests) > 0 && now.Counts().Guests == 0 && !restoring(ctx) { // a new installation
		all = world.DatesFrom{From: moment.Never, Mail: moment.Never}
		if said < 0 {
			part.DatesFrom = append(part.DatesFrom, all)
		} else {
			part.DatesFrom[said] = all
		}
	} else if said >= 0 {
		all = part.DatesFrom[said]
	}
	part.Guests = slices.Clone(part.Guests)
	came := map[string]bool{}
	for i := range part.Guests {
		g := &part.Guests[i]
		old, err := t.Guest(g.Address.String())
		if err != nil {
			return err
		}
		if old != nil {
			g.TakenOver = old.TakenOver
			if old.DatesFrom != 0 {
				g.DatesFrom = max(g.DatesFrom, old.DatesFrom)
			}
			continue
		}
		came[g.Address.String()] = true
		if restoring(ctx) {
			continue
		}
		g.TakenOver = true
		if all.From != moment.Never && g.DatesFrom != moment.Never { // what lies behind does not count behind anybody's back
			g.DatesFrom = max(g.DatesFrom, at)
		}
	}
	if len(came) == 0 {
		return nil
	}
	floors, err := s.floorsWith(ctx, part.DatesFrom)
	if err != nil {
		return err
	}
	released := slices.Clone(floors)
	for i := range released {
		if released[i].From == moment.Never {
			released[i].From = at
		}
	}
	e := now.Aside()
	e.SetPolicy(policy)
	e.Add(part)
	waits := e.Done()
	e = waits.Aside()
	e.SetFloors(released)
	e.Unfloor(at)
	out.Waits = all.From == moment.Never
	out.Going = weighWaiting(
		&State{Snapshot: waits, Head: now.Head},
		e.Done(),
		at,
		func(i uint32) bool { return came[waits.AddressAt(i).String()] },
	)
	if n := letGo(out.Going.AtOnce); !out.Waits && !preview && brakeOf(now) > 0 && n > brakeOf(now) && !confirmed(ctx) {
		return fmt.Errorf(
			"%w: %d of the records that come would be suspended or removed at once, more than %d (settings: brake); preview it, then say so with confirm, or give their dates_from as never, so that they wait",
			ErrConflict,
			n,
			brakeOf(now),
		)
	}
	return nil
}
