package daemon

import (
	"context"
	"math"
	"math/rand/v2"
	"runtime/debug"
	"slices"
	"testing"
	"time"
)

// TestLimit: memory may go a third beyond what an idle service comes to, there is always room beside what is in use, and a small
// service has room enough.
func TestLimit(t *testing.T) {
	const mb = 1 << 20
	for _, c := range []struct {
		what      string
		idle, now uint64
		want      int64 // in MB, cut
	}{
		{"small", 10 * mb, 20 * mb, 256},
		{"idle", 180 * mb, 180 * mb, 530},
		{"busy", 180 * mb, 300 * mb, 530},
		{"with much more in use, as while a world is read", 180 * mb, 2000 * mb, 3048},
	} {
		if got := limit(c.idle, c.now) / mb; got != c.want {
			t.Errorf("%s: %d MB, wanted %d", c.what, got, c.want)
		}
	}
}

// TestLows compares the least of the last so many numbers with looking at all of them: of at least one part, and of two at most.
func TestLows(t *testing.T) {
	r := rand.New(rand.NewPCG(1, 2))
	l := lows{part: 7}
	var all []uint64
	for range 500 {
		all = append(all, 1+uint64(r.IntN(1000)))
		got := l.see(all[len(all)-1])
		if got > slices.Min(all[max(0, len(all)-7):]) || got < slices.Min(all[max(0, len(all)-14):]) {
			t.Fatalf("after %v it is %d", all, got)
		}
	}
}

// TestBoundMemory: the limit is there while the service runs and gone behind it; whoever sets one of their own keeps it.
func TestBoundMemory(t *testing.T) {
	before := debug.SetMemoryLimit(-1)
	run := func() (within int64) {
		ctx, end := context.WithCancel(t.Context())
		over := make(chan struct{})
		go func() { defer close(over); boundMemory(ctx) }()
		for until := time.Now().Add(2 * time.Second); time.Now().Before(until); {
			if within = debug.SetMemoryLimit(-1); within != before {
				break
			}
			select {
			case <-over: // nobody bounds it
				until = time.Now()
			default:
			}
		}
		end()
		<-over
		return within
	}
	t.Setenv("GOGC", "")
	t.Setenv("GOMEMLIMIT", "")
	if got := run(); got < least || got == math.MaxInt64 {
		t.Errorf("the limit is %d", got)
	}
	if got := debug.SetMemoryLimit(-1); got != before {
		t.Errorf("the limit stays at %d, and was %d", got, before)
	}
	t.Setenv("GOGC", "100")
	if got := run(); got != before {
		t.Errorf("somebody set their own, and the limit is %d", got)
	}
}
