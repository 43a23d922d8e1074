package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"io"
	"math/rand/v2"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/service"
)

var (
	feedPeople = flag.Int("feed-people", 120, "how many people each of two installations feeds the other")
	feedFaults = flag.Int("feed-faults", 6, "how many rounds of it go wrong")
)

// troubled passes requests on to whoever is there now; some of them, as often as it is told, it cuts off before or behind, answers with
// half of what came, or with a wish to be left alone.
type troubled struct {
	at    atomic.Value // the address of whom it stands before
	share atomic.Int32 // of a hundred
	mu    sync.Mutex
	rnd   *rand.Rand
	did   [4]int
}

func (p *troubled) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	p.mu.Lock()
	what := -1
	if p.rnd.IntN(100) < int(p.share.Load()) {
		what = p.rnd.IntN(4)
		p.did[what]++
	}
	p.mu.Unlock()
	switch what {
	case 0:
		panic(http.ErrAbortHandler)
	case 1:
		w.Header().Set("Retry-After", "1")
		w.WriteHeader(http.StatusTooManyRequests)
		return
	}
	body, _ := io.ReadAll(r.Body)
	req, err := http.NewRequestWithContext(r.Context(), r.Method, "http://"+p.at.Load().(string)+r.URL.RequestURI(), bytes.NewReader(body))
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	req.Header = r.Header.Clone()
	resp, err := http.DefaultTransport.RoundTrip(req)
	if err != nil {
		panic(http.ErrAbortHandler)
	}
	defer resp.Body.Close()
	text, err := io.ReadAll(resp.Body)
	if err != nil || what == 2 {
		panic(http.ErrAbortHandler)
	}
	for k, v := range resp.Header {
		w.Header()[k] = v
	}
	w.WriteHeader(resp.StatusCode)
	if what == 3 {
		_, _ = w.Write(text[:len(text)/2])
		panic(http.ErrAbortHandler)
	}
	_, _ = w.Write(text)
}

// fedWorld is a house with people, some of whom leave soon, and its partner.
func fedWorld(own, partner string, n int, at time.Time, rnd *rand.Rand) (text string, left map[int]time.Time) {
	var b strings.Builder
	left = map[int]time.Time{}
	fmt.Fprintf(&b, `wexillum: 1
organisation: {name: House %s, domains: [%s.example], time_zone: Europe/Lisbon}
settings: {brake: none}
rules: {directory.guests: {default: on}, directory.feed_in: {limit: on, default: off}, directory.feed_out: {limit: on, default: off}}
partners: [{id: %s, name: House %s, domains: [%s.example], opened: {directory.in: yes}, rules: {directory.feed_in: on, directory.feed_out: on}}]
people:
`, own, own, partner, partner, partner)
	for i := range n {
		fmt.Fprintf(&b, "  - {id: p%d, name: Person %d, address: p%d@%s.example", i, i, i, own)
		if rnd.IntN(8) == 0 {
			left[i] = at.Add(time.Duration(2+rnd.IntN(12+n/60)) * time.Second)
			fmt.Fprintf(&b, ", left: %q", left[i].UTC().Format(time.RFC3339))
		}
		b.WriteString("}\n")
	}
	return b.String(), left
}

// TestFeedsBetween has two installations keep their people at each other, through what goes wrong: requests cut off before and behind, half
// a page, wishes to be left alone, a sender that is interrupted, another that is killed without a word together with what it serves, and
// clocks that differ. In the end nobody is lost, doubled, or back who has left.
func TestFeedsBetween(t *testing.T) {
	t.Parallel()
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 4))
	const skew = 9 * time.Minute
	fast := func() time.Time { return time.Now().Add(skew) }
	n := *feedPeople
	aText, aLeft := fedWorld("aa", "bb", n, fast(), rnd)
	bText, bLeft := fedWorld("bb", "aa", n, time.Now(), rnd)
	load := func(text string) func(context.Context, *service.Service) error {
		return func(ctx context.Context, svc *service.Service) error {
			_, err := svc.Load(ctx, "test", "", "test", []byte(text), false)
			return errors.Join(err, svc.MakeAccount(ctx, "test", "it begins", service.Account{Name: "harbour", Role: "administrator"},
				"low-water-2026"))
		}
	}
	aDSN, bDSN := dbtest.DSN(t), dbtest.DSN(t)
	a := startServiceAt(t, aDSN, fast, load(aText))
	b := startService(t, bDSN, load(bText)) // another service of the second house; what it serves is killed and begun again
	toA, toB := &troubled{rnd: rand.New(rand.NewPCG(seed, 5))}, &troubled{rnd: rand.New(rand.NewPCG(seed, 6))}
	atA, atB := newTestServer(t, toA), newTestServer(t, toB)
	toA.at.Store(strings.TrimPrefix(a.url, "http://"))
	who := service.Who{Name: "harbour", Role: service.Administrator}
	on, dir := service.FeedOn, t.TempDir()
	connect := func(from, to *running, fromID, toID, at string) {
		t.Helper()
		token, err := to.svc.BeginFeed(t.Context(), who, fromID, "their people", service.FeedSet{State: &on})
		check(t, err)
		path, address := filepath.Join(dir, toID), at+"/scim/v2"
		check(t, os.WriteFile(path, []byte(token), 0o600))
		key := "file:" + path
		check(t, from.svc.BeginFeedOut(t.Context(), who, toID, "our people", service.FeedOutSet{Address: &address, Key: &key}))
	}
	connect(a, b, "aa", "bb", atB)
	connect(b, a, "bb", "aa", atA)
	token := b.token("harbour")
	at, kill, _ := startProcess(t, bDSN)
	toB.at.Store(at[strings.Index(at, "//")+2:])

	sendA := func(ctx context.Context) (left int, problem string) {
		x, err := a.svc.SendFeed(ctx, who, "bb", "to send", 0, "")
		if err != nil || x == nil {
			return n, fmt.Sprint(err)
		}
		return x.Left, x.Problem
	}
	sendB := func(ctx context.Context) (left int, problem string) {
		req, err := http.NewRequestWithContext(ctx, http.MethodPost, at+"/api/v1/feeds-out/aa/send", strings.NewReader(`{"why":"to send"}`))
		check(t, err)
		req.Header.Set("Authorization", "Bearer "+token)
		req.Header.Set("Content-Type", "application/json")
		resp, err := http.DefaultClient.Do(req)
		if err != nil {
			return n, err.Error()
		}
		defer resp.Body.Close()
		text, _ := io.ReadAll(resp.Body)
		var x struct {
			Left    int
			Problem string
		}
		if resp.StatusCode != 200 || json.Unmarshal(text, &x) != nil {
			return n, fmt.Sprintf("%d %s", resp.StatusCode, text)
		}
		return x.Left, x.Problem
	}
	toA.share.Store(12)
	toB.share.Store(12)
	kills := 0
	for range *feedFaults {
		ctx, stop := context.WithTimeout(t.Context(), time.Duration(200+rnd.IntN(2000))*time.Millisecond)
		var two sync.WaitGroup
		two.Go(func() { sendA(ctx) })
		two.Go(func() { sendB(ctx) })
		if rnd.IntN(2) == 0 {
			time.Sleep(time.Duration(100+rnd.IntN(900)) * time.Millisecond) // at a random moment, which is the point
			kill(syscall.SIGKILL)
			kills++
		}
		two.Wait()
		stop()
		if kills > 0 {
			at, kill, _ = startProcess(t, bDSN)
			toB.at.Store(at[strings.Index(at, "//")+2:])
		}
	}
	t.Logf("killed %d times; on the way to one %v, to the other %v: cut off before, left alone, cut off behind, half", kills, toA.did, toB.did)
	toA.share.Store(0)
	toB.share.Store(0)
	last := time.Now()
	for _, when := range aLeft {
		if w := when.Add(-skew); w.After(last) {
			last = w
		}
	}
	for _, when := range bLeft {
		if when.After(last) {
			last = when
		}
	}
	time.Sleep(time.Until(last) + 10*time.Millisecond) // until all have left who do
	settle := func(what string, send func(context.Context) (int, string)) {
		t.Helper()
		for until := time.Now().Add(patience); ; time.Sleep(200 * time.Millisecond) {
			left, problem := send(t.Context())
			if left == 0 && problem == "" {
				return
			}
			if time.Now().After(until) {
				t.Fatalf("%s: %d left: %s", what, left, problem)
			}
		}
	}
	settle("one", sendA)
	settle("the other", sendB)

	holds := func(at *running, of *running, partner, domain, to string, left map[int]time.Time) {
		t.Helper()
		for i := range n {
			address := fmt.Sprintf("p%d@%s.example", i, domain)
			g, _, err := at.svc.Guest(t.Context(), address)
			if errors.Is(err, service.ErrNotFound) {
				g, err = nil, nil
			}
			check(t, err)
			_, gone := left[i]
			switch {
			case g == nil && !gone:
				t.Errorf("%s is lost", address)
			case g != nil && gone != (g.HomeClosed != 0):
				t.Errorf("%s: left %t, closed %v", address, gone, g.HomeClosed)
			}
		}
		fed, err := at.st.FedCounts(t.Context(), partner, moment.Never)
		check(t, err)
		sent, err := of.st.SentCounts(t.Context(), to, moment.Never)
		check(t, err)
		if fed.All != sent.Kept+sent.Closed || fed.Active != n-len(left) || sent.Kept != n-len(left) || sent.Failing != 0 {
			t.Errorf("%s: %+v here, %+v as the other side has it; %d of %d have left", domain, fed, sent, len(left), n)
		}
		count := 0
		check(t, at.st.EachGuest(t.Context(), func(*world.Guest) error { count++; return nil }))
		if count != fed.All {
			t.Errorf("%d guests, %d of them fed", count, fed.All)
		}
	}
	holds(b, a, "aa", "aa", "bb", aLeft)
	holds(a, b, "bb", "bb", "aa", bLeft)
}
