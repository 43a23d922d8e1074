package service

import (
	"context"
	"sync"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Recorded says which record a moment is answered from.
type Recorded string

// Now is the present policy and inventory, for the present and what lies ahead.
// Then is what was recorded at that moment. First is the first record, for moments
// before anything was recorded.
const (
	FromNow   Recorded = "now"
	FromThen  Recorded = "then"
	FromFirst Recorded = "first"
)

// past keeps a few states of the past, each read once.
type past struct {
	sync.Mutex
	states []*State // the last used first

	policy   *world.World // of a revision
	revision uint64
}

// keptPast is how many are kept; of large worlds one, because each is as large as
// the present.
func (s *Service) keptPast() int {
	if s.State().Counts().Grants > 1_000_000 {
		return 1
	}
	return 4
}

// PolicyThen returns the policy that was in force at a moment of the past; nil where nothing was recorded yet. It reads
// no inventory.
func (s *Service) PolicyThen(ctx context.Context, at moment.Moment) (*world.World, error) {
	head, first, err := s.store.HeadAt(ctx, at.Time())
	if err != nil || first || head == (store.Head{}) {
		return nil, err
	}
	if now := s.State(); head.Revision == now.Head.Revision {
		return now.Policy(), nil
	}
	p := &s.past
	p.Lock()
	defer p.Unlock()
	if p.policy == nil || p.revision != head.Revision {
		w, err := s.store.Policy(ctx, head)
		if err != nil {
			return nil, err
		}
		p.policy, p.revision = w, head.Revision
	}
	return p.policy, nil
}

// At returns the state that a moment is asked of: the present one from now on,
// before that what was recorded then.
func (s *Service) At(ctx context.Context, at moment.Moment) (*State, Recorded, error) {
	now, err := s.StateIn(ctx)
	if err != nil {
		return nil, "", err
	}
	if at >= s.Now() {
		if DraftIn(ctx) == "" {
			now, err = s.ahead(ctx, now, at, "")
		}
		return now, FromNow, err
	}
	head, first, err := s.store.HeadAt(ctx, at.Time())
	if err != nil {
		return nil, "", err
	}
	how := FromThen
	if first {
		how = FromFirst
	}
	if now = s.State(); head == now.Head || head == (store.Head{}) {
		return now, how, nil
	}
	p := &s.past
	p.Lock()
	defer p.Unlock()
	for i, st := range p.states {
		if st.Head == head {
			copy(p.states[1:i+1], p.states[:i])
			p.states[0] = st
			return st, how, nil
		}
	}
	st, err := s.stateAt(ctx, head)
	if err != nil {
		return nil, "", err
	}
	p.states = append([]*State{st}, p.states...)
	if most := s.keptPast(); len(p.states) > most {
		clear(p.states[most:])
		p.states = p.states[:most]
	}
	return st, how, nil
}
