package service

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"

	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// policyEntry is a kind of policy whose entries are made, changed and taken away one by one, as records of the file format.
type policyEntry[T any] struct {
	section, noun string
	at            func(*world.Policy) *[]T
	id            func(*T) string
	doc           func(*T) worldfile.Doc
	more          func(*State, *T) error // what its fields cannot say; nil for nothing
	keeps         func(*State, *T) error // why one cannot be taken away; nil for nothing
}

// find finds an entry.
func (k *policyEntry[T]) find(p *world.World, id string) (*T, error) {
	all := *k.at(&p.Policy)
	for i := range all {
		if k.id(&all[i]) == id {
			return &all[i], nil
		}
	}
	return nil, fmt.Errorf("%w: there is no %s %q", ErrNotFound, k.noun, id)
}

// etag is the validator of an entry.
func (k *policyEntry[T]) etag(x *T) string { return Etag(k.doc(x)) }

// with returns the policy with an entry as doc has it, and the entry.
func (k *policyEntry[T]) with(s *Service, now *State, doc []byte) (*world.World, *T, error) {
	var is struct{ ID string }
	_ = json.Unmarshal(doc, &is) // what is no record is told of when it is read
	part, err := s.readPart(now, k.section, k.noun, is.ID, doc)
	if err != nil {
		return nil, nil, err
	}
	x := &(*k.at(&part.Policy))[0]
	if k.more != nil {
		if err := k.more(now, x); err != nil {
			return nil, nil, err
		}
	}
	return world.Merge(now.Policy(), part), x, nil
}

// add makes an entry.
func (k *policyEntry[T]) add(ctx context.Context, s *Service, who, why string, doc []byte, id string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		if _, err := k.find(now.Policy(), id); err == nil {
			return nil, fmt.Errorf("%w: there is a %s %q already", ErrConflict, k.noun, id)
		}
		next, _, err := k.with(s, now, doc)
		return next, err
	})
}

// patch changes what a merge patch (RFC 7396) of an entry's record names.
func (k *policyEntry[T]) patch(ctx context.Context, s *Service, who, why, id string, patch []byte, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		old, err := k.find(now.Policy(), id)
		if err != nil {
			return nil, err
		}
		if ifMatch != "" && ifMatch != k.etag(old) {
			return nil, ErrStale
		}
		doc, err := patched(k.doc(old), patch, id)
		if err != nil {
			return nil, err
		}
		next, _, err := k.with(s, now, doc)
		return next, err
	})
}

// remove takes an entry away.
func (k *policyEntry[T]) remove(ctx context.Context, s *Service, who, why, id, ifMatch string) error {
	return s.part(ctx, who, why, func(now *State) (*world.World, error) {
		old, err := k.find(now.Policy(), id)
		if err != nil {
			return nil, err
		}
		if ifMatch != "" && ifMatch != k.etag(old) {
			return nil, ErrStale
		}
		if k.keeps != nil {
			if err := k.keeps(now, old); err != nil {
				return nil, err
			}
		}
		next := *now.Policy()
		list := k.at(&next.Policy)
		*list = slices.DeleteFunc(slices.Clone(*list), func(x T) bool { return k.id(&x) == id })
		return &next, nil
	})
}
