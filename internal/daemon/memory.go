package daemon

import (
	"context"
	"math"
	"os"
	"runtime/debug"
	"runtime/metrics"
	"time"
)

// Memory of a service that is asked much at once.
//
// By itself the runtime collects when as much garbage lies about as is in use.
// What is in use doubles for moments when views of everybody are counted for
// many, and so memory would grow to three times of what an idle service takes,
// which an administrator would have to provide for. A soft limit makes it
// collect more often in those moments instead; what is in use has few pointers,
// so that a collection takes milliseconds.

const (
	// overIdle is how far memory may go beyond what an idle service comes to.
	overIdle = 1.3
	// room is what has to be free beside what is in use, as a share of it: with
	// less the collector would be at work all the time.
	room = 0.5
	// rest is what the runtime takes beside the heap, in bytes.
	rest = 48 << 20
	// least is the smallest limit, in bytes: a small service may breathe.
	least = 256 << 20
	// idleIn is how many looks back the least use is what is in use when idle.
	idleIn = 600
)

// limit is how much memory is aimed at most, in bytes, where so much is in use
// when idle and now. Idle, the heap grows to twice of what is in use.
func limit(idle, now uint64) int64 {
	most := math.Max(overIdle*(2*float64(idle)+rest), (1+room)*float64(now)+rest)
	return int64(math.Max(most, least))
}

// lows knows the least of the last so many numbers: those of the part that is
// being filled and of the one before.
type lows struct {
	part         int
	n            int
	before, here uint64
}

// see takes in one and returns the least of at least part and at most twice as
// many.
func (l *lows) see(x uint64) uint64 {
	if l.n == 0 || x < l.here {
		l.here = x
	}
	if l.n++; l.n >= l.part {
		l.before, l.here, l.n = l.here, x, 0
	}
	if l.before == 0 {
		return l.here
	}
	return min(l.before, l.here)
}

// boundMemory sets the limit anew each second, from what is in use, until ctx
// ends; then it is what it was. Where GOMEMLIMIT or GOGC is set, it does nothing.
func boundMemory(ctx context.Context) {
	if os.Getenv("GOMEMLIMIT") != "" || os.Getenv("GOGC") != "" {
		return
	}
	defer debug.SetMemoryLimit(debug.SetMemoryLimit(-1))
	inUse := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	low := lows{part: idleIn}
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		metrics.Read(inUse)
		now := inUse[0].Value.Uint64()
		debug.SetMemoryLimit(limit(low.see(now), now))
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
