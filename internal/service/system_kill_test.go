package service

import (
	"context"
	"io"
	"log/slog"
	"math/rand/v2"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/connector"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/store"
	"wexillum.example/internal/suite"
)

// recorder is a connector that notes what it writes, and loses its caller now and then: before the
// write, or behind it.
type recorder struct {
	Connector
	mu    *sync.Mutex
	log   *[]string
	lose  func() int
	leave context.CancelFunc
}

func (r *recorder) Write(ctx context.Context, path, value string) error {
	return r.sending(ctx, path+" = "+value, func() error { return r.Connector.Write(ctx, path, value) })
}

// sending sends something, unless its caller is lost before it, or behind it.
func (r *recorder) sending(_ context.Context, what string, send func() error) error {
	lost := r.lose()
	if lost == 1 { // killed before it was sent
		r.leave()
		return context.Canceled
	}
	err := send()
	if err == nil {
		r.mu.Lock()
		*r.log = append(*r.log, what)
		r.mu.Unlock()
	}
	if lost == 2 { // killed before it heard of it
		r.leave()
		return context.Canceled
	}
	return err
}

// mortal begins services that write down what they send, and are killed as lose says: 1 before a write, 2 before
// they hear of it. Whoever is killed writes nothing any more; its context is over.
func mortal(t *testing.T, dsn string, c *clock, mu *sync.Mutex, log *[]string, lose func() int) func() (*Service, context.Context) {
	return func() (*Service, context.Context) {
		t.Helper()
		st, err := store.Open(t.Context(), dsn, c.now)
		check(t, err)
		t.Cleanup(func() { _ = st.Close() })
		x, err := New(t.Context(), st, c.now, slog.New(slog.NewTextHandler(io.Discard, nil)))
		check(t, err)
		ctx, stop := context.WithCancel(t.Context())
		leave := func() {
			stop()
			_ = st.Close()
		}
		x.SetConnector(func(dialect, address, key string) (Connector, error) {
			inner, err := connector.New(dialect, address, key)
			return &recorder{inner, mu, log, func() int {
				if ctx.Err() != nil {
					return 1
				}
				return lose()
			}, leave}, err
		})
		return x, ctx
	}
}

// dealt deals what is given in random order, and again when all was dealt: how often each comes is no luck.
func dealt(rnd *rand.Rand, all ...int) func() int {
	at := len(all)
	return func() int {
		if at == len(all) {
			rnd.Shuffle(len(all), func(i, k int) { all[i], all[k] = all[k], all[i] })
			at = 0
		}
		at++
		return all[at-1]
	}
}

// plain connects as the service does by itself.
func plain(dialect, address, key string) (Connector, error) {
	return connector.New(dialect, address, key)
}

// TestSystemsKilled lets two services work on one system, each of which is killed again and again in the
// middle of writing, while rules are published that tighten one thing and loosen another. In the end the
// system holds what is meant, and nothing was loosened before what tightens along with it.
func TestSystemsKilled(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	dsn := dbtest.DSN(t)
	s, c := start(t, dsn)
	load(t, s, suiteWorld)
	p := suite.New(suite.Options{Key: "pass", Clock: c.now})["parley"]
	served(t, s, p, "parley")
	var mu sync.Mutex
	var log []string
	life := mortal(t, dsn, c, &mu, &log, dealt(rnd, 0, 0, 0, 0, 0, 1, 2))
	obey(t, s, "parley")
	two := [2]*Service{}
	ctxs := [2]context.Context{}
	killed := 0
	for round := range 24 {
		check(t, s.Refresh(t.Context()))
		tight, loose := RuleChange{Rule: "chat.calls", Default: "off"}, RuleChange{Rule: "meetings.early", Default: "on"}
		if round%2 == 1 {
			tight, loose = RuleChange{Rule: "meetings.early", Default: "off"}, RuleChange{Rule: "chat.calls", Default: "on"}
		}
		mu.Lock()
		from := len(log)
		mu.Unlock()
		id := makeDraft(t, s, "round")
		check(t, s.SetRule(InDraft(t.Context(), id), "ada", "both at once", tight))
		check(t, s.SetRule(InDraft(t.Context(), id), "ada", "both at once", loose))
		publishDraft(t, s, id)
		want := map[bool][2]string{false: {"strangers.voice = mute", "table.early = yes"},
			true: {"table.early = no", "strangers.voice = spoken"}}[round%2 == 1]
		for try := 0; ; try++ {
			for k := range two {
				if two[k] == nil || ctxs[k].Err() != nil {
					if two[k] != nil {
						killed++
						_ = two[k].store.Close()
					}
					two[k], ctxs[k] = life()
				}
				check(t, two[k].Refresh(t.Context()))
				_ = two[k].WorkSystems(ctxs[k]) // whoever was killed says so
			}
			c.forward(11 * time.Second)
			mu.Lock()
			all := strings.Join(log[from:], "; ")
			mu.Unlock()
			if strings.Contains(all, want[0]) && strings.Contains(all, want[1]) {
				if strings.Index(all, want[1]) < strings.Index(all, want[0]) {
					t.Fatalf("round %d: loosened first: %s", round, all)
				}
				break
			}
			if try > 200 {
				t.Fatalf("round %d: it was never written: %s", round, all)
			}
		}
	}
	for k := range two { // whoever was killed last is started anew
		if ctxs[k].Err() != nil {
			two[k], ctxs[k] = life()
		}
	}
	for range 100 {
		for k := range two {
			two[k].SetConnector(plain)
			check(t, two[k].Refresh(t.Context()))
			check(t, two[k].WorkSystems(t.Context()))
		}
		c.forward(31 * time.Second)
	}
	v, err := s.SystemView(t.Context(), "parley")
	check(t, err)
	for _, x := range v.Settings {
		if x.State != StepConfirmed || p.Counts(x.Path) != x.Meant {
			t.Errorf("%s is %s: meant %q, counts %q", x.Path, x.State, x.Meant, p.Counts(x.Path))
		}
	}
	if killed < 10 {
		t.Errorf("only %d were killed", killed)
	}
	if entries, broken, err := s.store.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
	t.Logf("%d killed, %d writes", killed, len(log))
}
