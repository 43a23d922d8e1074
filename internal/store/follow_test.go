package store

import (
	"fmt"
	"math/rand/v2"
	"reflect"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

// counting is a Sink that knows how often it was given a policy, and whether it holds the one before.
type counting struct {
	*engine.Editor
	none bool
}

func (c counting) Policy() *world.World {
	if c.none {
		return nil
	}
	return c.Editor.Policy()
}

// TestFollowPolicy changes entries of policy of every kind at random, and follows entry by entry, forwards and back: what comes of it is
// what is read in whole, to the order of its lists.
func TestFollowPolicy(t *testing.T) {
	s, ctx := empty(t, dbtest.DSN(t)), t.Context()
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(seed, 1))
	w := worldgen.Generate(5, worldgen.Size{Guests: 60}, now)
	first, err := s.Import(ctx, "test", "start", w, nil)
	check(t, err)
	type entry struct {
		kind, id string
		doc      []byte
	}
	var all []entry // as they were at the start
	worldfile.PolicyDocs(w, func(kind, id string, doc []byte) { all = append(all, entry{kind, id, doc}) })
	whole := func(at Head) *world.World {
		t.Helper()
		e := engine.New()
		_, err := s.Read(ctx, at, sink{e})
		check(t, err)
		return e.Policy()
	}
	e := engine.New()
	_, err = s.Read(ctx, Head{}, sink{e})
	check(t, err)
	snap, at := e.Done(), first
	heads := []Head{first}
	gone := map[int]bool{}
	kinds := map[string]int{}
	for range 60 {
		head, err := s.Change(ctx, "test", "why", func(tx *Tx) error {
			for range 1 + r.IntN(3) {
				i := r.IntN(len(all))
				x := all[i]
				doc := x.doc
				one := x.kind == "organisation" || x.kind == "settings"
				if !one && !gone[i] && r.IntN(2) == 0 {
					doc = nil
				}
				if x.kind == "rule" && doc != nil && r.IntN(2) == 0 {
					doc = []byte(fmt.Sprintf(`{"limit":%q}`, []string{"on", "off"}[r.IntN(2)]))
					if _, err := worldfile.RuleOf(doc, catalogue.MustRule(x.id).Get()); err != nil {
						doc = x.doc
					}
				}
				gone[i] = doc == nil
				kinds[x.kind]++
				if _, err := tx.PutPolicy(x.kind, x.id, doc); err != nil {
					return err
				}
			}
			if r.IntN(4) == 0 && len(w.Partners) > 0 { // what a partner says is no policy, and comes with it
				st := world.Stance{Key: catalogue.In(catalogue.Chat), Says: world.SaysAdmits, AsOf: now}
				_, err := tx.PutRecord("stance", StanceKey(w.Partners[r.IntN(len(w.Partners))].ID, st.Key), worldfile.StanceDoc(&st))
				return err
			}
			return nil
		})
		check(t, err)
		if head.Seq == at.Seq {
			continue // nothing was otherwise
		}
		heads = append(heads, head)
		for _, none := range []bool{true, false} {
			next := snap.Edit()
			if none { // it goes on from nothing that it knows
				next = snap.Branch()
			}
			h, again, _, err := s.Follow(ctx, at, counting{next, none})
			check(t, err)
			if again || h != head {
				t.Fatalf("%+v, everything anew: %v", h, again)
			}
			if got, want := next.Policy(), whole(Head{}); !reflect.DeepEqual(got, want) {
				t.Fatalf("behind entry %d the policy is\n%s\nand not\n%s", h.Seq, worldfile.Write(got), worldfile.Write(want))
			}
			if !none {
				snap = next.Done()
			}
		}
		at = head
	}
	for range 30 {
		to := heads[r.IntN(len(heads))]
		next := snap.Branch()
		again, err := s.Between(ctx, at, to, next)
		check(t, err)
		if again {
			t.Fatal("everything is read anew")
		}
		if got, want := next.Policy(), whole(to); !reflect.DeepEqual(got, want) {
			t.Fatalf("from entry %d to %d the policy is\n%s\nand not\n%s", at.Seq, to.Seq, worldfile.Write(got), worldfile.Write(want))
		}
	}
	if len(kinds) < 5 || len(heads) < 40 {
		t.Errorf("%v changed in %d heads", kinds, len(heads))
	}
}
