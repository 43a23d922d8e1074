package api

import (
	"context"
	"errors"
	"fmt"
	"runtime"
	"sync/atomic"
	"testing"
)

// TestFound holds what long results promise: several who ask for one at the same time have it found once, whoever goes away
// leaves it to the others, and what nobody waits for is given up.
func TestFound(t *testing.T) {
	f := &found{}
	var begun atomic.Int32
	enter, leave := make(chan struct{}, 9), make(chan struct{})
	find := func(ctx context.Context) (any, error) {
		n := begun.Add(1)
		enter <- struct{}{}
		select {
		case <-leave:
			return n, nil
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
	type got struct {
		v   any
		err error
	}
	ask := func(ctx context.Context) chan got {
		out := make(chan got, 1)
		go func() {
			v, err := f.get(ctx, "a", find)
			out <- got{v, err}
		}()
		return out
	}
	waiting := func(n int) { // until so many wait
		for {
			f.Lock()
			g := f.going["a"]
			is := g != nil && g.waiting == n
			f.Unlock()
			if is {
				return
			}
			runtime.Gosched()
		}
	}
	ctx, cancel := context.WithCancel(context.Background())
	first, second := ask(ctx), ask(context.Background())
	<-enter
	waiting(2)
	cancel()
	if x := <-first; !errors.Is(x.err, context.Canceled) {
		t.Fatalf("whoever went away got %v", x)
	}
	third := ask(context.Background())
	waiting(2)
	leave <- struct{}{}
	for _, c := range []chan got{second, third} {
		if x := <-c; x.err != nil || x.v != int32(1) {
			t.Fatalf("whoever waited got %v", x)
		}
	}
	if v, err := f.get(context.Background(), "a", find); err != nil || v != int32(1) || begun.Load() != 1 {
		t.Fatalf("kept is %v, %v, and it was found %d times", v, err, begun.Load())
	}

	// What nobody waits for is given up, and found anew for whoever comes.
	f = &found{} // others may still be ending what they began with the one before
	ctx, cancel = context.WithCancel(context.Background())
	gone := ask(ctx)
	<-enter
	cancel()
	<-gone
	again := ask(context.Background())
	<-enter
	leave <- struct{}{}
	if x := <-again; x.err != nil || x.v != int32(3) {
		t.Fatalf("whoever came later got %v", x)
	}

	// An error is for whoever waits, and nobody else; a fault ends nothing.
	for i, bad := range []func(context.Context) (any, error){
		func(context.Context) (any, error) { return nil, errors.New("no") },
		func(context.Context) (any, error) { panic("no") },
	} {
		key := fmt.Sprint("bad", i)
		if _, err := f.get(context.Background(), key, bad); err == nil {
			t.Fatal("no error of ", key)
		}
		if v, err := f.get(context.Background(), key, func(context.Context) (any, error) { return "well", nil }); v != "well" || err != nil {
			t.Fatalf("after an error: %v, %v", v, err)
		}
	}

	// No more at once than there are places; the next begins when one ends.
	f = &found{} // others may still be ending what they began with the one before
	all := make(chan got, foundAtOnce+1)
	for i := range foundAtOnce + 1 {
		go func() {
			v, err := f.get(context.Background(), fmt.Sprint(i), find)
			all <- got{v, err}
		}()
	}
	for range foundAtOnce {
		<-enter
	}
	if len(f.places) != foundAtOnce || len(enter) != 0 {
		t.Fatalf("%d are found at once, %d more began", len(f.places), len(enter))
	}
	leave <- struct{}{}
	<-all
	<-enter
	close(leave)
	for range foundAtOnce {
		if x := <-all; x.err != nil {
			t.Fatal(x.err)
		}
	}
}
