package service

import (
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

// TestBundleRaces has one request approved and taken back at once, and one address ask twice at once: one of the two is done, whichever,
// and what is held is what was said.
func TestBundleRaces(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld+strings.ReplaceAll(bundleWorld, "\nbundles:", "bundles:"))
	ctx := t.Context()
	approved, withdrawn := 0, 0
	for n := range 12 {
		a := fmt.Sprintf("r%d@ilvane.example", n)
		guest := Who{Name: GuestName(a), Role: RoleGuest, Guest: a}
		var wg sync.WaitGroup
		made, errs := make([]*Request, 2), make([]error, 2)
		for i := range 2 {
			wg.Go(func() {
				made[i], errs[i] = s.AskBundle(ctx, guest, BundleAsk{Bundle: "hers", Address: a, Purpose: "x"})
			})
		}
		wg.Wait()
		if (errs[0] == nil) == (errs[1] == nil) {
			t.Fatalf("asked twice at once: %v, %v", errs[0], errs[1])
		}
		r := made[0]
		if errs[0] != nil {
			r = made[1]
		}
		var yes, no error
		wg.Go(func() {
			_, yes = s.DoRequest(ctx, Who{Name: "u", Role: Administrator, Person: "uma"}, r.ID, "", false, BundleApproval{})
		})
		wg.Go(func() {
			time.Sleep(time.Duration(n) * time.Millisecond) // taking back is quicker: each is first some time
			_, no = s.WithdrawRequest(ctx, guest, r.ID)
		})
		wg.Wait()
		if (yes == nil) == (no == nil) {
			t.Fatalf("approved and taken back at once: %v, %v", yes, no)
		}
		holds := len(s.State().Holdings(mustAddr(t, a))) == 1
		x, err := s.RequestOf(ctx, keeper, r.ID)
		check(t, err)
		if holds != (yes == nil) || (x.State == RequestWithdrawn) != (no == nil) {
			t.Errorf("approved %v, taken back %v: it is %s, held %t", yes, no, x.State, holds)
		}
		if holds {
			approved++
		} else {
			withdrawn++
		}
	}
	t.Logf("%d approved, %d taken back", approved, withdrawn)
}

// TestBundlesRandom asks, approves, refuses, takes back, ends and waits at random: what is held equals what was approved and has
// not ended, and a service that begins anew says the same.
func TestBundlesRandom(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 3))
	dsn := dbtest.DSN(t)
	s, clock := start(t, dsn)
	load(t, s, strings.ReplaceAll(guestWorld, "guests.term_days: {default: 60}",
		"guests.term_days: {default: none}")+strings.ReplaceAll(bundleWorld, "\nbundles:", "bundles:"))
	ctx := t.Context()
	held := map[string]moment.Moment{} // by address and bundle
	open := map[string]*Request{}
	reviewed := 0
	lasting := func() (n int) {
		for _, until := range held {
			if until > s.Now() {
				n++
			}
		}
		return
	}
	for i := 0; i < 160 || i < 2000 && (reviewed == 0 || lasting() == 0); i++ { // until there is something to look at in the end
		clock.at = clock.at.Add(time.Duration(r.IntN(30)) * time.Hour)
		check(t, s.lapseRequests(ctx))
		a := fmt.Sprintf("g%d@ilvane.example", r.IntN(5))
		b := []string{"desk", "plain", "hers"}[r.IntN(3)]
		key := a + " " + b
		switch r.IntN(5) {
		case 4: // a round asks about everybody who holds one of those that give one thing
			if b == "desk" {
				continue
			}
			round, err := s.BeginRound(ctx, keeper, RoundBegin{Name: "R", Bundle: b, Until: "+5d", Why: "x"}, false)
			if err != nil { // nobody holds it
				continue
			}
			lines, err := s.RoundLines(ctx, keeper, round.ID, "", false, 0, 100)
			check(t, err)
			for _, l := range lines {
				do := []string{"keep", "end"}[r.IntN(2)]
				done, err := s.AnswerRound(ctx, keeper, round.ID, ReviewAnswer{Do: do, Lines: []int{l.N}, Why: "x"}, false)
				check(t, err)
				if done.Done != 1 {
					t.Fatalf("%s of %+v: %+v", do, l, done)
				}
				if reviewed++; do == "end" {
					held[l.Party+" "+b] = s.Now()
				}
			}
		case 0, 1:
			x := BundleAsk{Bundle: b, Address: a, Purpose: "x"}
			if b == "desk" {
				x.Answers = []string{"y"}
			}
			made, err := s.AskBundle(ctx, Who{Name: GuestName(a), Role: RoleGuest, Guest: a}, x)
			if err != nil {
				continue
			}
			if open[key] = made; made.State == RequestWorks {
				delete(open, key)
				held[key] = max(held[key], s.State().Term(must(s.State().Bundle(b)), s.Now()))
			}
		case 2:
			for _, k := range slices.Sorted(maps.Keys(open)) {
				q := open[k]
				var err error
				if r.IntN(4) == 0 {
					_, err = s.AnswerRequest(ctx, Who{Name: "u", Role: Administrator, Person: "uma"}, q.ID, "no", true)
				} else {
					until := s.State().Term(must(s.State().Bundle(q.Bundle.Bundle)), s.Now())
					if asked, err := moment.Parse(q.Bundle.Until); err == nil {
						until = min(until, asked)
					}
					if _, err = s.DoRequest(ctx, Who{Name: "u", Role: Administrator, Person: "uma"}, q.ID, "", false, BundleApproval{}); err == nil {
						held[k] = max(until, map[bool]moment.Moment{true: held[k]}[held[k] > s.Now()])
					}
				}
				if x, wrong := s.RequestOf(ctx, keeper, q.ID); wrong != nil || !x.over() && err == nil {
					t.Fatalf("%+v %v %v", x, wrong, err)
				}
				delete(open, k)
				break
			}
		case 3:
			if _, err := s.EndHolding(ctx, placeAdmin, HoldingEnd{Address: a, Bundle: b, Why: "x"}, false); err == nil {
				held[key] = s.Now()
			}
		}
		for i := range 5 {
			a := fmt.Sprintf("g%d@ilvane.example", i)
			for _, h := range s.State().Holdings(mustAddr(t, a)) {
				if want := held[a+" "+h.Bundle]; h.Until > s.Now() && want != h.Until {
					t.Fatalf("%s holds %s until %s, was given it until %s", a, h.Bundle, h.Until, want)
				}
			}
		}
	}
	for key, until := range held {
		if until <= s.Now() {
			continue
		}
		a, b, _ := strings.Cut(key, " ")
		if !slices.ContainsFunc(s.State().Holdings(mustAddr(t, a)), func(h world.Holding) bool { return h.Bundle == b && h.Until == until }) {
			t.Errorf("%s was given %s until %s and does not hold it: %+v", a, b, until, s.State().Holdings(mustAddr(t, a)))
		}
	}
	if n := lasting(); n == 0 || reviewed == 0 {
		t.Errorf("%d are held in the end, %d lines were answered", n, reviewed)
	}
	anew, err := New(ctx, s.store, clock.now, s.log)
	check(t, err)
	if was, is := s.State().Counts(), anew.State().Counts(); was != is {
		t.Errorf("begun anew: %+v, before %+v", is, was)
	}
}
