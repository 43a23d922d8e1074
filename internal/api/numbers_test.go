package api

import (
	"context"
	"errors"
	"testing"
	"time"
)

// TestLately holds that who asks soon waits for the first answer alone, gets the last one while another is found,
// that only one is found at a time and not again before it rested, and that a failure leaves the last one.
func TestLately(t *testing.T) {
	type asked struct {
		aside bool
		give  chan string
	}
	var l lately[string]
	finds := make(chan asked, 10)
	find := func(aside bool) (string, error) {
		a := asked{aside, make(chan string)}
		finds <- a
		x := <-a.give
		if x == "" {
			return "", errors.New("it failed")
		}
		return x, nil
	}
	ask := func(key string, wait time.Duration) (string, bool, error) {
		return l.soon(t.Context(), key, wait, find)
	}
	want := func(x string, behind bool, err error) func(string, bool) {
		t.Helper()
		return func(is string, was bool) {
			t.Helper()
			if x != is || behind != was || err != nil {
				t.Fatalf("%q, behind %t, %v; not %q, %t", x, behind, err, is, was)
			}
		}
	}

	// The first is waited for, by whoever asks, and fails for them.
	go func() { a := <-finds; a.give <- "" }()
	if _, _, err := ask("1", time.Hour); err == nil {
		t.Fatal("what failed was an answer")
	}
	first := make(chan asked, 1)
	go func() { a := <-finds; first <- a; a.give <- "one" }()
	want(ask("1", 0))("one", false)
	if a := <-first; a.aside {
		t.Error("who waits was left waiting")
	}
	want(ask("1", 0))("one", false)

	l.rested()
	// Something changed: the last one is given until the other is there, which is found once and aside.
	want(ask("2", 0))("one", true)
	want(ask("2", 0))("one", true)
	a := <-finds
	if !a.aside || len(finds) != 0 {
		t.Errorf("aside %t, and %d more were begun", a.aside, len(finds))
	}
	got := make(chan string)
	go func() { x, _, _ := ask("2", time.Hour); got <- x }()
	a.give <- "two"
	if x := <-got; x != "two" {
		t.Errorf("who waited long enough got %q", x)
	}
	want(ask("2", 0))("two", false)

	// It rests: nothing is begun before.
	l.Lock()
	l.took, l.done = time.Hour, time.Now()
	l.Unlock()
	want(ask("3", 0))("two", true)
	if len(finds) != 0 {
		t.Error("it did not rest")
	}
	l.rested()

	// What fails leaves the last one, and is tried again.
	want(ask("3", 0))("two", true)
	a = <-finds
	going := l.goes()
	a.give <- ""
	<-going
	x := make(chan string)
	go func() { y, _, _ := ask("3", time.Hour); x <- y }()
	(<-finds).give <- "three"
	if y := <-x; y != "three" {
		t.Errorf("after a failure came %q", y)
	}

	// Who goes away is not answered.
	l.rested()
	gone, stop := context.WithCancel(t.Context())
	stop()
	if _, _, err := l.soon(gone, "4", time.Hour, find); !errors.Is(err, context.Canceled) {
		t.Errorf("who had gone was told %v", err)
	}
	(<-finds).give <- "four"
}

// rested lets something be found anew at once.
func (l *lately[T]) rested() {
	l.Lock()
	defer l.Unlock()
	l.took = 0
}

func (l *lately[T]) goes() chan struct{} {
	l.Lock()
	defer l.Unlock()
	return l.going
}
