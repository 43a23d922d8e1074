package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// Noticed are findings, and who accepted which. There may be millions, which whoever asks goes through and nobody copies.
type Noticed struct {
	lists    [][]finding.Finding
	accepted map[string]*finding.Accepted // by finding
}

// All goes through them in order: each with who accepted it, nil where nobody did.
func (n *Noticed) All() iter.Seq2[*finding.Finding, *finding.Accepted] {
	return func(yield func(*finding.Finding, *finding.Accepted) bool) {
		for _, list := range n.lists {
			for i := range list {
				var by *finding.Accepted
				if len(n.accepted) > 0 {
					by = n.accepted[list[i].ID]
				}
				if !yield(&list[i], by) {
					return
				}
			}
		}
	}
}

// noticed is what was found at one head on one day.
type noticed struct {
	head store.Head
	day  moment.Day
	all  [][]finding.Finding // one behind the other
	at   moment.Moment       // when it was looked at
	done time.Time
	took time.Duration
}

// noticing is a look at everything that is under way.
type noticing struct {
	done chan struct{} // closed at its end
	err  error
}

// worldKinds are what findings are made of, as the journal calls it; nothing else that is journaled changes them.
var worldKinds = append(worldfile.StoredKinds(), "import", "forgotten")

// noticedNow returns what was found where that still holds: since then nothing changed that findings are made of.
// s.notice is held.
func (s *Service) noticedNow(ctx context.Context) (*noticed, error) {
	st, n := s.State(), s.noticed
	if n == nil || n.day != moment.DayOf(s.Now(), st.Zone()) {
		return nil, nil
	}
	if n.head != st.Head {
		touched, err := s.store.Touched(ctx, n.head.Seq, st.Head.Seq, worldKinds...)
		if err != nil || touched || n.head.Seq > st.Head.Seq {
			return nil, err
		}
		next := *n
		next.head = st.Head
		s.noticed, n = &next, &next
	}
	return n, nil
}

// lookAround begins to look at everything, if nobody does. s.notice is held.
func (s *Service) lookAround() *noticing {
	if s.noticing != nil {
		return s.noticing
	}
	x := &noticing{done: make(chan struct{})}
	s.noticing = x
	go func() {
		n, err := s.noticeAll(context.Background())
		s.notice.Lock()
		if err == nil {
			s.noticed = n
		}
		s.noticing, x.err = nil, err
		s.notice.Unlock()
		close(x.done)
	}()
	return x
}

// noticeAll finds everything that is noticed of the present state.
func (s *Service) noticeAll(ctx context.Context) (*noticed, error) {
	begun := time.Now()
	st, now := s.State(), s.Now()
	all, err := s.lookNow(ctx, st, now)
	if err != nil {
		return nil, err
	}
	s.odd(ctx, st, now, oddSoon)
	return &noticed{st.Head, moment.DayOf(now, st.Zone()), all, now, time.Now(), time.Since(begun)}, nil
}

// Findings lists what is noticed now, each with the acceptance that is in force. In a large world that takes
// seconds after a change of what findings are made of; it is done once for whoever asks meanwhile.
func (s *Service) Findings(ctx context.Context) (*Noticed, error) {
	from, made := s.State().Head.Seq, false
	for {
		s.notice.Lock()
		n, err := s.noticedNow(ctx)
		if err == nil && n == nil && made && s.noticed.head.Seq >= from {
			n = s.noticed // what changed while it was looked is for whoever asks next
		}
		var x *noticing
		if err == nil && n == nil {
			x = s.lookAround()
		}
		s.notice.Unlock()
		if err != nil {
			return nil, err
		}
		if n != nil {
			return s.accepted(ctx, n)
		}
		select {
		case <-ctx.Done():
			return nil, ctx.Err()
		case <-x.done:
			if made = true; x.err != nil {
				return nil, x.err
			}
		}
	}
}

// rests is how many times as long as a look at everything took nobody looks again, where what was found before is
// good enough for the moment.
const rests = 4

// FindingsSoon lists what is noticed, and does not wait longer than so for it where something was noticed before: then it
// says when that was, and that it is behind.
func (s *Service) FindingsSoon(ctx context.Context, wait time.Duration) (list *Noticed, at moment.Moment, behind bool, err error) {
	s.notice.Lock()
	n, err := s.noticedNow(ctx)
	old := s.noticed
	var x *noticing
	if err == nil && n == nil && old != nil {
		if x = s.noticing; x == nil && time.Since(old.done) >= rests*old.took {
			x = s.lookAround()
		}
	}
	s.notice.Unlock()
	switch {
	case err != nil:
		return nil, 0, false, err
	case n != nil:
		list, err = s.accepted(ctx, n)
		return list, n.at, false, err
	case old == nil:
		list, err = s.Findings(ctx)
		return list, s.Now(), false, err
	}
	if x != nil {
		limit := time.NewTimer(wait)
		defer limit.Stop()
		select {
		case <-x.done:
			s.notice.Lock()
			old = s.noticed
			n, err = s.noticedNow(ctx)
			s.notice.Unlock()
			if err = errors.Join(x.err, err); err != nil {
				return nil, 0, false, err
			}
		case <-limit.C:
		case <-ctx.Done():
		}
	}
	list, err = s.accepted(ctx, old)
	return list, old.at, n == nil, err
}

// accepted adds what systems show, and who accepted what.
func (s *Service) accepted(ctx context.Context, n *noticed) (*Noticed, error) {
	now := s.Now()
	systems, err := s.systemFindings(ctx, now) // readings are in no journal
	if err != nil {
		return nil, err
	}
	rounds, err := s.roundFindings(ctx)
	if err != nil {
		return nil, err
	}
	expected, err := s.expectationFindings(ctx)
	if err != nil {
		return nil, err
	}
	before, err := s.findingsOfThePast(ctx, now)
	if err != nil {
		return nil, err
	}
	odd, _ := s.odd(ctx, s.State(), now, 0)
	accepted := map[string]*finding.Accepted{}
	err = s.store.Records(ctx, "acceptance", "", func(_ string, doc []byte) error {
		var d acceptance
		if err := json.Unmarshal(doc, &d); err != nil {
			return err
		}
		since, err := moment.Parse(d.Since)
		if err != nil {
			return err
		}
		until, err := moment.Parse(d.Until)
		if err == nil && now < until {
			accepted[d.ID] = &finding.Accepted{ID: d.ID, By: d.By, Reason: d.Reason, Since: since, Until: until}
		}
		return err
	})
	return &Noticed{append(slices.Clone(n.all), odd, systems, rounds, expected, before), accepted}, err
}

// acceptance is how an accepted finding is kept.
type acceptance struct {
	ID     string `json:"id"`
	By     string `json:"by"`
	Reason string `json:"reason"`
	Since  string `json:"since"`
	Until  string `json:"until"`
}

// key of an acceptance: a finding's id may be longer than a key can be.
func acceptanceKey(id string) string {
	sum := sha256.Sum256([]byte(id))
	return hex.EncodeToString(sum[:16])
}

// AcceptFinding lets a finding be until a day or moment, with a reason.
func (s *Service) AcceptFinding(ctx context.Context, who, id, reason, until string) error {
	if strings.TrimSpace(reason) == "" {
		return &Invalid{"reason", reason, "say why it may stay as it is"}
	}
	all, err := s.Findings(ctx)
	if err != nil {
		return err
	}
	found := false
	for f := range all.All() {
		found = found || f.ID == id
	}
	if !found {
		return fmt.Errorf("%w: there is no such finding; perhaps it has been mended", ErrNotFound)
	}
	end, err := endOf(until, s.Now(), s.State())
	if err != nil {
		return err
	}
	if end <= s.Now() || end == moment.Never {
		return &Invalid{"until", until, "an acceptance has an end, in the future"}
	}
	doc, err := json.Marshal(acceptance{id, who, reason, s.Now().String(), end.String()})
	if err != nil {
		return err
	}
	return s.change(ctx, who, reason, func(_ *State, t *store.Tx) error {
		_, err := t.PutRecord("acceptance", acceptanceKey(id), doc)
		return err
	})
}

// ReopenFinding takes an acceptance back.
func (s *Service) ReopenFinding(ctx context.Context, who, why, id string) error {
	return s.change(ctx, who, why, func(_ *State, t *store.Tx) error {
		ok, err := t.EndRecord("acceptance", acceptanceKey(id))
		if err == nil && !ok {
			err = fmt.Errorf("%w: this finding is not accepted", ErrNotFound)
		}
		return err
	})
}
