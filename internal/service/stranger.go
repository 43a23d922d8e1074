package service

import (
	"context"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Known tells of which outside addresses somebody may learn that they have a record. Of all others they are answered as of strangers: else
// whoever asks about a space of theirs finds out of any address whether it has one.
type Known struct {
	st      *State
	at      moment.Moment
	all     bool
	sponsor map[string]bool
	spaces  []string
}

// KnownTo returns what somebody may know: members know whom they answer for and who holds something in spaces that they own; others know
// everybody.
func (s *Service) KnownTo(ctx context.Context, st *State, who Who) (*Known, error) {
	k := &Known{st: st, at: s.Now(), all: !who.Own()}
	if k.all {
		return k, nil
	}
	list, err := s.store.Sponsored(ctx, who.Person)
	if err != nil {
		return nil, err
	}
	k.sponsor = make(map[string]bool, len(list))
	for _, a := range list {
		k.sponsor[a] = true
	}
	k.spaces = st.SpacesOf(who.Person)
	return k, nil
}

// Stranger reports whether an address is answered of as of one that nothing is kept of. about is what is asked about, which whoever asks
// belongs to: who holds something there is seen there.
func (k *Known) Stranger(a addr.Address, about *world.Resource) bool {
	if k.all || a.IsZero() || k.sponsor[a.String()] || about != nil && k.st.HoldsIn(a, *about, k.at) {
		return false
	}
	for _, id := range k.spaces {
		if k.st.HoldsIn(a, world.Resource{Kind: catalogue.Space, ID: id}, k.at) {
			return false
		}
	}
	return true
}
