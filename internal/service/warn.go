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
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/phrase"
	"wexillum.example/internal/store"
)

// stepWords says what is carried out, and why.
func stepWords(st *engine.DueStep) string {
	return phrase.Step("en", st.Kind) + ": " + phrase.Because("en", &st.Step)
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
	begun, limit := time.Now(), brakeOf(st)
	if s.mailHeld.Load().still(st, limit, day) {
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
	if limit > 0 && len(list) > limit {
		lifted, err := s.lifted(ctx)
		if err != nil {
			return 0, err
		}
		if lifted < day.Start(zone) {
			s.tripped(-1, len(list))
			s.mailHeld.Store(&heldBack{st.Snapshot, limit, day, time.Now(), time.Since(begun)})
			return 0, nil
		}
	}
	n, err := s.store.PostAll(ctx, list)
	if err != nil {
		return n, err
	}
	s.tripped(-1, 0)
	s.mailHeld.Store(nil)
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

// soonOf returns what comes of a guest; false where nothing does. The steps are those of the sequence that q computed last.
func (s *Service) soonOf(st *State, q *engine.Sequences, party uint32, steps []dated.Step, now moment.Moment) (x soon, ok bool) {
	zone := st.Zone()
	a := st.AddressAt(party)
	x.warn = int(st.GuestRule(a, "", ruleWarn))
	within := moment.EndOfDays(moment.DayOf(now, zone), x.warn, zone)
	for k := range steps {
		if at := steps[k].At; at >= now && at <= within {
			x.steps = append(x.steps, q.Tell(party, &steps[k]))
		}
	}
	if len(x.steps) == 0 {
		return x, false
	}
	name, sponsor, _ := st.RecordOf(party)
	x.address, x.name, x.active = a, name, st.Active(party, now)
	for range x.steps {
		x.sponsors = append(x.sponsors, sponsor)
	}
	return x, true
}

// hear finds who is to hear of the steps of grants: the sponsor that a grant names.
func (s *Service) hear(ctx context.Context, list []soon) error {
	var parties []string
	at := make(map[string]*soon, len(list))
	for i := range list {
		if slices.ContainsFunc(list[i].steps, func(x engine.DueStep) bool { return x.Resource.ID != "" }) {
			party := list[i].address.String()
			parties, at[party] = append(parties, party), &list[i]
		}
	}
	return s.store.SponsorsOf(ctx, parties, func(party string, g *world.Grant) {
		x := at[party]
		for k := range x.steps {
			if step := &x.steps[k]; g.Resource == step.Resource && g.Role == step.Role && g.From == step.From {
				x.sponsors[k] = g.Sponsor
			}
		}
	})
}

// soon hands over every guest of whom something comes within guests.warn_days, in no order.
func (s *Service) soon(ctx context.Context, st *State, now moment.Moment, fn func(*soon)) error {
	most := moment.EndOfDays(moment.DayOf(now, st.Zone()), 91, st.Zone())
	q := st.Sequences()
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
	q.Each(nil, func(i uint32, steps []dated.Step) bool {
		if slices.ContainsFunc(steps, func(x dated.Step) bool { return x.At >= now && x.At < most }) {
			if x, ok := s.soonOf(st, q, i, steps, now); ok {
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
