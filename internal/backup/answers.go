package backup

import (
	"context"
	"fmt"
	"math/rand/v2"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
)

// Answered is a question with what was answered.
type Answered struct {
	Who      string   `json:"who"`
	Action   string   `json:"action"`
	Resource string   `json:"resource"`
	Yes      bool     `json:"yes"`
	Refusing []string `json:"refusing,omitempty"` // the gates that refuse
}

const (
	questions = 1000
	kept      = 256 // of each kind, whom and what questions are about
)

// drawing takes what is read, and keeps some of it by chance.
type drawing struct {
	*engine.Editor
	r         *rand.Rand
	addresses draw[addr.Address]
	things    map[catalogue.ResourceKind]*draw[string]
}

type draw[T any] struct {
	n    int
	kept []T
}

// put keeps each of those that come with the same chance (reservoir sampling).
func (d *draw[T]) put(r *rand.Rand, x T) {
	if d.n++; len(d.kept) < kept {
		d.kept = append(d.kept, x)
	} else if i := r.IntN(d.n); i < kept {
		d.kept[i] = x
	}
}

func (d *drawing) thing(k catalogue.ResourceKind, id string) {
	if d.things[k] == nil {
		d.things[k] = &draw[string]{}
	}
	d.things[k].put(d.r, id)
}

func (d *drawing) PutGuest(g *world.Guest) {
	d.addresses.put(d.r, g.Address)
	d.Editor.PutGuest(g)
}

func (d *drawing) PutSpace(x *world.Space) {
	d.thing(catalogue.Space, x.ID)
	d.Editor.PutSpace(x)
}

func (d *drawing) PutItem(x *world.Item) {
	d.thing(x.Kind, x.ID)
	d.Editor.PutItem(x)
}

func (d *drawing) PutMeeting(x *world.Meeting) {
	d.thing(catalogue.Meeting, x.ID)
	d.Editor.PutMeeting(x)
}

func (d *drawing) PutPerson(x *world.Person) {
	d.thing(catalogue.Person, x.ID)
	d.Editor.PutPerson(x)
}

// Bad says of a record that cannot be read as it is kept; the service tells of it.
func (d *drawing) Bad(string, string, error, bool) {}

// at reads everything as it was at a head; the numbers that it draws by come from the head, so that the same is drawn again.
func at(ctx context.Context, st *store.Store, head store.Head) (*engine.Snapshot, *drawing, error) {
	d := &drawing{Editor: engine.New(), r: rand.New(rand.NewPCG(head.Seq, head.Revision)), things: map[catalogue.ResourceKind]*draw[string]{}}
	if _, err := st.Read(ctx, head, d); err != nil {
		return nil, nil, err
	}
	return d.Done(), d, nil
}

// answers asks a thousand questions of the state at a head, as of a moment.
func answers(ctx context.Context, st *store.Store, head store.Head, now moment.Moment) (out []Answered, err error) {
	if head.Seq == 0 {
		return nil, nil
	}
	s, d, err := at(ctx, st, head)
	if err != nil {
		return nil, err
	}
	acts := catalogue.Actions()
	for try := 0; len(out) < questions && try < 100*questions; try++ {
		act := &acts[d.r.IntN(len(acts))]
		a, err := addr.Parse(fmt.Sprintf("somebody%d@elsewhere.example", d.r.IntN(kept)))
		if err != nil {
			return nil, err
		}
		if known := d.addresses.kept; len(known) > 0 && d.r.IntN(8) > 0 {
			a = known[d.r.IntN(len(known))]
		}
		k := act.On[d.r.IntN(len(act.On))]
		of := d.things[k]
		if act.Address || act.AreaOnly || of == nil || len(of.kept) == 0 {
			continue
		}
		q := engine.Question{Subject: engine.Who{Address: a}, Action: act.ID,
			Resource: world.Resource{Kind: k, ID: of.kept[d.r.IntN(len(of.kept))]}, At: now}
		v, err := s.Decide(&q)
		if err != nil { // not everything can be asked of everything
			continue
		}
		out = append(out, Answered{a.String(), act.Name, q.Resource.String(), v.Yes, v.Refusing.Names()})
	}
	return out, nil
}
