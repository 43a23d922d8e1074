package service

import (
	"cmp"
	"context"
	"fmt"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

var bundles = policyEntry[world.Bundle]{section: "bundles", noun: "bundle",
	at: func(p *world.Policy) *[]world.Bundle { return &p.Bundles }, id: func(x *world.Bundle) string { return x.ID },
	doc: worldfile.BundleDoc,
	keeps: func(now *State, x *world.Bundle) error {
		n := 0
		now.EachHolding(func(h *world.Holding) {
			if h.Bundle == x.ID {
				n++
			}
		})
		if n > 0 {
			return fmt.Errorf("%w: %s; close the bundle, and nobody asks for it any more", ErrConflict,
				map[bool]string{true: "somebody holds it or held it", false: fmt.Sprintf("%d hold it or held it", n)}[n == 1])
		}
		return nil
	},
}

// keepsBundles refuses a policy that lacks a bundle that somebody holds or held, however it came about: what they have would say
// nothing any more, and no file that was dumped could be read.
func keepsBundles(now *State, next *world.World) error {
	for i := range now.Policy().Bundles {
		b := &now.Policy().Bundles[i]
		if _, err := bundles.find(next, b.ID); err == nil {
			continue
		}
		if err := bundles.keeps(now, b); err != nil {
			return fmt.Errorf("bundle %s: %w", b.ID, err)
		}
	}
	return nil
}

// Bundle finds a bundle.
func (s *State) Bundle(id string) (*world.Bundle, error) { return bundles.find(s.Policy(), id) }

// BundleEtag is the validator of a bundle.
func BundleEtag(x *world.Bundle) string { return bundles.etag(x) }

// AddBundle makes a bundle. doc is its record as the file format has it.
func (s *Service) AddBundle(ctx context.Context, who, why string, doc []byte, id string) error {
	return bundles.add(ctx, s, who, why, doc, id)
}

// PatchBundle changes what a merge patch (RFC 7396) of a bundle's record names.
func (s *Service) PatchBundle(ctx context.Context, who, why, id string, patch []byte, ifMatch string) error {
	return bundles.patch(ctx, s, who, why, id, patch, ifMatch)
}

// RemoveBundle takes away a bundle that nobody ever held.
func (s *Service) RemoveBundle(ctx context.Context, who, why, id, ifMatch string) error {
	return bundles.remove(ctx, s, who, why, id, ifMatch)
}

// IDFor makes an id of a name that is not taken.
func IDFor(name string, taken func(id string) bool) string {
	id := cmp.Or(slug(name), "new")
	for n := 2; taken(id); n++ {
		id = fmt.Sprintf("%s-%d", cmp.Or(slug(name), "new"), n)
	}
	return id
}
