package service

import (
	"context"
	"slices"
	"strings"
	"sync"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// keptGuests are the records of guests as they are now, in the order of their addresses: what lists of them are
// made from. They are read once, and after a change the records that it concerns. A record is never altered, so
// that who goes through them is not disturbed.
type keptGuests struct {
	sync.Mutex
	head store.Head
	list []*world.Guest
}

// mostKept is how many records are kept at most; of more, each list reads them. mostAnew is how many are read one by one.
const (
	mostKept = 250_000
	mostAnew = 500
)

// eachGuest calls fn for the record of every guest as it is now, in the order of their addresses.
func (s *Service) eachGuest(ctx context.Context, fn func(*world.Guest) error) error {
	if s.State().Counts().Guests > mostKept {
		return s.store.EachGuest(ctx, fn)
	}
	list, err := s.guestsNow(ctx)
	for i := 0; i < len(list) && err == nil; i++ {
		err = fn(list[i])
	}
	return err
}

func (s *Service) guestsNow(ctx context.Context) ([]*world.Guest, error) {
	k := &s.keptGuests
	k.Lock()
	defer k.Unlock()
	head := s.State().Head
	if k.list != nil && head == k.head {
		return k.list, nil
	}
	if k.list == nil || head.Seq < k.head.Seq {
		return k.readAll(ctx, s.store, head)
	}
	whole, err := s.store.Touched(ctx, k.head.Seq, head.Seq, "import", "forgotten")
	if err != nil {
		return nil, err
	}
	changed, err := s.store.ChangedIDs(ctx, k.head.Seq, head.Seq, "guest", mostAnew+1)
	if err != nil {
		return nil, err
	}
	if whole || len(changed) > mostAnew {
		return k.readAll(ctx, s.store, head)
	}
	now, err := s.store.GuestsNow(ctx, changed)
	if err != nil {
		return nil, err
	}
	next := k.list
	if len(changed) > 0 {
		next = slices.Clone(k.list)
	}
	for _, a := range changed {
		i, there := slices.BinarySearchFunc(next, a, func(g *world.Guest, a string) int { return strings.Compare(g.Address.String(), a) })
		switch g := now[a]; {
		case g != nil && there:
			next[i] = g
		case g != nil:
			next = slices.Insert(next, i, g)
		case there:
			next = slices.Delete(next, i, i+1)
		}
	}
	k.list, k.head = next, head
	return next, nil
}

func (k *keptGuests) readAll(ctx context.Context, st *store.Store, head store.Head) ([]*world.Guest, error) {
	list := make([]*world.Guest, 0, 1024)
	err := st.EachGuest(ctx, func(g *world.Guest) error {
		own := *g
		list = append(list, &own)
		return nil
	})
	if err != nil {
		return nil, err
	}
	k.list, k.head = list, head
	return list, nil
}
