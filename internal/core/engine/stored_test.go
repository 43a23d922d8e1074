package engine_test

import (
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"unsafe"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// storedIn returns what a snapshot hands over, as whoever keeps it holds it: what lies between the parts is anything.
func storedIn(t testing.TB, s *engine.Snapshot) (in, told []byte) {
	t.Helper()
	type piece struct {
		at int64
		b  []byte
	}
	var pieces []piece
	told, end, err := s.Store(64, func(at int64, b []byte) error {
		pieces = append(pieces, piece{at, slices.Clone(b)})
		return nil
	})
	if err != nil {
		t.Fatal(err)
	}
	all := make([]byte, end+64)
	skip := int(-uintptr(unsafe.Pointer(&all[0])) % 64)
	in = all[skip : skip+int(end)]
	for i := range in {
		in[i] = 0xA5
	}
	last := int64(64)
	for _, p := range pieces {
		if p.at < last {
			t.Fatalf("bytes at %d lie over those before, which end at %d", p.at, last)
		}
		last = p.at + int64(copy(in[p.at:], p.b))
	}
	return
}

// fromStored is a snapshot that was stored and found again.
func fromStored(t testing.TB, s *engine.Snapshot) *engine.Snapshot {
	t.Helper()
	in, told := storedIn(t, s)
	again, err := engine.Stored(in, told, s.Policy())
	if err != nil {
		t.Fatal(err)
	}
	return again
}

// inOnePiece is a snapshot that was packed.
func inOnePiece(t testing.TB, s *engine.Snapshot) *engine.Snapshot {
	t.Helper()
	out, err := s.Packed(func(n int) []byte { return make([]byte, n) })
	if err != nil || out == s {
		t.Fatalf("it is not packed: %v", err)
	}
	if same, err := s.Packed(func(int) []byte { return nil }); err != nil || same != s {
		t.Fatalf("without room it is another: %v", err)
	}
	return out
}

// TestStored: a snapshot that was stored and is found again answers, counts, knows what is due and goes on as the one that it was made of,
// and stays what it is while it goes on.
func TestStored(t *testing.T) {
	for seed := uint64(1); seed <= 30; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 60, Grants: 240, Holdings: 30, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 16,
				Exceptions: 20}, now))
		r := rand.New(rand.NewPCG(seed, 31))
		stillIn(w)
		enrich(r, w)
		if seed%2 == 0 {
			someDates(r, w)
		}
		g := &w.Grants[0]
		for _, k := range []int{0, 1} { // whole partners and domains hold something, and a home account is closed
			many := world.Grant{Resource: world.Resource{Kind: catalogue.Space, ID: w.Spaces[k].ID}, Role: g.Role, From: g.From, Until: moment.Never,
				Reviewed: moment.Always}
			if many.Partner = w.Partners[0].ID; k == 1 {
				many.Partner, many.Domain = "", w.Partners[1].Domains[0].Domain
			}
			w.Grants = append(w.Grants, many)
		}
		a := engine.Of(w)
		ask := func(what string, a, b *engine.Snapshot) {
			t.Helper()
			if a.Counts() != b.Counts() {
				t.Fatalf("seed %d, %s: %+v are counted, and %+v", seed, what, a.Counts(), b.Counts())
			}
			for range 300 {
				q := anyQuestion(r, w, now)
				if x, y := askAll(t, a, q), askAll(t, b, q); x != y {
					t.Fatalf("seed %d, %s: %+v\n%s\n%s", seed, what, q, x, y)
				}
			}
			from, until := now+moment.Moment(r.IntN(3*86400))*1e6, now+moment.Moment(r.IntN(60)+5)*86400e6
			x, y := placeless(a.Scan(from, until, nil).Steps(0, 1<<30)), placeless(b.Scan(from, until, nil).Steps(0, 1<<30))
			if fmt.Sprint(x) != fmt.Sprint(y) {
				t.Fatalf("seed %d, %s: due are\n%v\n%v", seed, what, x, y)
			}
			for range 5 {
				res := w.Grants[r.IntN(len(w.Grants))].Resource
				if x, y := audienceText(t, a, res), audienceText(t, b, res); x != y {
					t.Fatalf("seed %d, %s: the audience of %v is\n%s\n%s", seed, what, res, x, y)
				}
			}
		}
		again := fromStored
		if seed%3 == 0 {
			again = inOnePiece
		}
		b := again(t, a)
		ask("stored", a, b)
		for round := range 4 {
			change := func(s *engine.Snapshot, r *rand.Rand) *engine.Snapshot {
				e := s.Edit()
				for range 1 + r.IntN(5) {
					x := w.Guests[r.IntN(len(w.Guests))]
					switch r.IntN(6) {
					case 0:
						x.Until, x.Name = now+moment.Moment(r.IntN(60*86400))*1e6, fmt.Sprint("Otherwise ", r.IntN(9))
						e.PutGuest(&x)
					case 1:
						e.RemoveGuest(x.Address)
					case 2:
						e.SetGrants(x.Address.String(), w.Grants[:r.IntN(6)])
					case 3:
						n := mustAddress(t, fmt.Sprintf("new%d@firm%d.example", r.IntN(1000), r.IntN(4)))
						x.Address = n
						e.PutGuest(&x)
						e.SetGrants(n.String(), []world.Grant{{Address: n, Resource: g.Resource, Role: 1, From: now - 86400e6, Until: moment.Never,
							Reviewed: moment.Always}})
					case 4:
						next, _ := altered(r, w)
						e.SetPolicy(next)
					case 5:
						sp := w.Spaces[r.IntN(len(w.Spaces))]
						sp.Rules, sp.Name = nil, "Elsewhere"
						e.PutSpace(&sp)
					}
				}
				return e.Done()
			}
			before := slices.Repeat([]string{""}, 40)
			qs := make([]asked, len(before))
			for i := range qs {
				qs[i] = anyQuestion(r, w, now)
				before[i] = askAll(t, b, qs[i])
			}
			way := r.Uint64()
			c, d := change(a, rand.New(rand.NewPCG(way, 1))), change(b, rand.New(rand.NewPCG(way, 1)))
			other := change(b, rand.New(rand.NewPCG(way, 2))) // a second one that goes on from the same
			ask(fmt.Sprint("changed ", round), c, d)
			for i := range qs {
				if x := askAll(t, b, qs[i]); x != before[i] {
					t.Fatalf("seed %d, round %d: the one before answers otherwise: %+v\n%s\n%s", seed, round, qs[i], before[i], x)
				}
			}
			ask(fmt.Sprint("beside ", round), change(a, rand.New(rand.NewPCG(way, 2))), other)
			if a, b = c, d; round == 2 {
				b = again(t, b) // once more
				ask("stored again", a, b)
			}
		}
	}
}

// askAll is an answer in words, or what is wrong with the question.
func askAll(t testing.TB, s *engine.Snapshot, q asked) string {
	t.Helper()
	e, err := parse(q)
	if err != nil {
		return err.Error()
	}
	x, err := s.Explain(&e)
	if err != nil {
		return err.Error()
	}
	var out strings.Builder
	fmt.Fprint(&out, x.Kind, x.Deciding().Verdict)
	for i := range x.Accounts {
		for g := range x.Accounts[i].Gates {
			for k := range x.Accounts[i].Gates[g].Causes {
				fmt.Fprintln(&out, x.Accounts[i].Gates[g].Causes[k].Text())
			}
		}
	}
	return out.String()
}

func audienceText(t testing.TB, s *engine.Snapshot, r world.Resource) string {
	t.Helper()
	var out []string
	_, err := s.Tally(now).Candidates(r, func(i uint32, g engine.Granting) {
		out = append(out, fmt.Sprint(s.AddressAt(i), g))
	})
	if err != nil {
		return err.Error()
	}
	slices.Sort(out)
	return strings.Join(out, "\n")
}

// TestStoredDamaged: what is not as it was told is refused, and no snapshot of what is only supposed is stored.
func TestStoredDamaged(t *testing.T) {
	w := world.Merge(&world.World{}, worldgen.Generate(3,
		worldgen.Size{Guests: 600, Grants: 2000, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4}, now))
	s := engine.Of(w)
	in, told := storedIn(t, s)
	refused := func(what string, in, told []byte, want string) {
		t.Helper()
		if _, err := engine.Stored(in, told, s.Policy()); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v, and %q was expected", what, err, want)
		}
	}
	refused("cut off", in[:len(in)/2/64*64], told, "does not lie in it as it should")
	refused("nothing", nil, told, "begins at a multiple of 64")
	refused("beside", in[8:], told, "begins at a multiple of 64")
	refused("no table", in, told[:len(told)/2], "unexpected end of JSON input")
	refused("one part more", in, []byte(strings.Replace(string(told), `"Parts":[`, `"Parts":[{"At":64,"Many":1,"Room":1,"Size":1},`, 1)),
		"as it should")
	refused("an empty one", in, []byte(`{}`), "fewer parts")
	refused("a table of names with another mask", in, []byte(strings.Replace(string(told), `"Masks":[`, `"Masks":[7,`, 1)), "other parts")
	e := s.Aside()
	e.ActForward(now)
	next, _ := altered(rand.New(rand.NewPCG(5, 5)), w)
	e.SetPolicy(next)
	if _, err := e.Done().Packed(func(n int) []byte { return make([]byte, n) }); err == nil {
		t.Error("what is only supposed is packed")
	}
	if _, _, err := e.Done().Store(0, func(int64, []byte) error { return nil }); err == nil {
		t.Error("what is only supposed is stored")
	}
	gone := errors.New("the disk is full")
	if _, _, err := s.Store(0, func(int64, []byte) error { return gone }); !errors.Is(err, gone) {
		t.Errorf("it says %v", err)
	}
}

// TestReadTwice: what is replaced while records are read, by more, by less and by nothing, is as if it had been read once.
func TestReadTwice(t *testing.T) {
	for seed := uint64(1); seed <= 20; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 200, Spaces: 8, Items: 30, Partners: 4, People: 8, Groups: 3, Links: 20}, now))
		r := rand.New(rand.NewPCG(seed, 8))
		someDates(r, w)
		by := map[string][]world.Grant{}
		for _, g := range w.Grants {
			by[g.Party()] = append(by[g.Party()], g)
		}
		e := engine.New()
		e.Put(w)
		var last []world.Grant
		for i, party := range slices.Sorted(maps.Keys(by)) {
			all := by[party]
			switch i % 3 {
			case 0:
				all = nil
			case 1:
				all = append(slices.Clone(all), all[:1]...)
				all[len(all)-1].From -= 86400e6
			}
			e.SetGrants(party, all)
			last = append(last, all...)
		}
		a := e.Done()
		once := *w
		once.Grants = last
		b := engine.Of(&once)
		if a.Counts() != b.Counts() {
			t.Fatalf("seed %d: %+v and %+v", seed, a.Counts(), b.Counts())
		}
		for range 400 {
			q := anyQuestion(r, w, now)
			if x, y := askAll(t, a, q), askAll(t, b, q); x != y {
				t.Fatalf("seed %d: %+v\n%s\n%s", seed, q, x, y)
			}
		}
		if a.Wasted() != 0 {
			t.Errorf("seed %d: %g of what was given is nobody's", seed, a.Wasted())
		}
	}
}
