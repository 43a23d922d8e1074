package api

import (
	"context"
	"fmt"
	"runtime"
	"runtime/debug"
	"sync"
)

// found keeps the last long results, so that their pages need not be found again. What several ask for at the
// same time is found once for all of them; what nobody waits for any more is given up. Its zero value is ready.
type found struct {
	sync.Mutex
	keys   []string
	values map[string]any
	going  map[string]*beingFound
	places chan struct{} // as many as are found at once
}

// beingFound is a result that is being found.
type beingFound struct {
	waiting int // who waits for it
	stop    context.CancelFunc
	done    chan struct{} // closed when what follows is there
	value   any
	err     error
}

const keptFound = 8

// foundAtOnce is how many results are found at the same time: more than there are processors, since some take
// a minute and most some milliseconds.
var foundAtOnce = max(4, 2*runtime.GOMAXPROCS(0))

// get returns the result of a key: what is kept, what somebody else is finding, or what find finds. find's context
// ends when the last who waits went away; an error of it is kept for nobody who comes later.
func (f *found) get(ctx context.Context, key string, find func(context.Context) (any, error)) (any, error) {
	f.Lock()
	if v, ok := f.values[key]; ok {
		f.Unlock()
		return v, nil
	}
	if f.values == nil {
		f.values, f.going, f.places = map[string]any{}, map[string]*beingFound{}, make(chan struct{}, foundAtOnce)
	}
	g := f.going[key]
	if g == nil {
		own, stop := context.WithCancel(context.WithoutCancel(ctx))
		g = &beingFound{stop: stop, done: make(chan struct{})}
		f.going[key] = g
		go f.find(own, key, g, find)
	}
	g.waiting++
	f.Unlock()
	select {
	case <-g.done:
		return g.value, g.err
	case <-ctx.Done():
		f.Lock()
		defer f.Unlock()
		if g.waiting--; g.waiting == 0 {
			g.stop()
			if f.going[key] == g { // whoever comes now begins anew
				delete(f.going, key)
			}
		}
		return nil, ctx.Err()
	}
}

// find finds a result for all who wait for it, when there is a place.
func (f *found) find(ctx context.Context, key string, g *beingFound, find func(context.Context) (any, error)) {
	defer g.stop()
	select {
	case f.places <- struct{}{}:
		g.value, g.err = guarded(ctx, find)
		<-f.places
	case <-ctx.Done():
		g.err = ctx.Err()
	}
	f.Lock()
	defer f.Unlock()
	if f.going[key] == g {
		delete(f.going, key)
	}
	if _, ok := f.values[key]; g.err == nil && !ok {
		f.keys = append(f.keys, key)
		f.values[key] = g.value
		if len(f.keys) > keptFound {
			delete(f.values, f.keys[0])
			f.keys = f.keys[1:]
		}
	}
	close(g.done)
}

// guarded calls find; a fault of it is an error for whoever waits, and does not end the service.
func guarded(ctx context.Context, find func(context.Context) (any, error)) (v any, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("a fault: %v\n%s", p, debug.Stack())
		}
	}()
	return find(ctx)
}
