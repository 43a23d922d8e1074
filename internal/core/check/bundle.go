package check

import (
	"slices"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// TypicalOf is an address of somebody at a domain of whom nothing is known. It
// stands for whoever comes next from there, where a question needs a full
// address.
func TypicalOf(d addr.Domain) (addr.Address, error) { return addr.Parse("somebody@" + d.String()) }

// BundleOpens tells what a bundle would open to somebody outside who was given
// it at a moment, and which of the things that it gives would open nothing to
// them.
//
// It supposes a record and the bundle's grants, and asks every action of the
// catalogue. A thing of the bundle is closed where nothing on it, and nothing
// on an item in it, was answered with yes:
//
// whoever gives the bundle should know before, with the reason one click away.
func BundleOpens(s *engine.Snapshot, b *world.Bundle, a addr.Address, at moment.Moment) (would []engine.WouldLine, closed []world.Resource,
	err error) {
	h := world.Holding{Party: a, Bundle: b.ID, From: at, Until: moment.Never, Reviewed: moment.Always}
	if would, _, err = s.Would(engine.Suppose{Address: a, Record: true, Grants: b.Grants(&h)}, at); err != nil {
		return nil, nil, err
	}
	for _, g := range b.Gives {
		if !slices.ContainsFunc(would, func(l engine.WouldLine) bool {
			return l.Yes && (l.Resource == g.Resource || l.Resource.Kind.IsItem() && s.SpaceOf(l.Resource.ID) == g.Resource.ID)
		}) {
			closed = append(closed, g.Resource)
		}
	}
	return would, closed, nil
}
