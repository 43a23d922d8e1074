package service

import (
	"context"
	"slices"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// findingsKept is what was noticed of a state, kept for the next look. Only the look that is under way has it.
type findingsKept struct {
	head store.Head
	day  moment.Day
	kept *finding.Kept
}

// mostTouched is up to how many journal entries the next look goes on from the one before.
const mostTouched = 2000

// lookNow looks at the present state: at what changed since the look before, where that is enough, else at everything. It reads no records.
func (s *Service) lookNow(ctx context.Context, st *State, now moment.Moment) ([][]finding.Finding, error) {
	statements, err := s.statements(ctx)
	if err != nil {
		return nil, err
	}
	day := moment.DayOf(now, st.Zone())
	was := s.findingsKept
	s.findingsKept = nil // what a look does not finish is no beginning for the next
	var next *finding.Kept
	if was != nil && was.day == day && was.head.Seq <= st.Head.Seq && was.kept.GoesOn(st.Snapshot) {
		touched, goesOn, err := s.touchedSince(ctx, st, was.head.Seq)
		if err != nil {
			return nil, err
		}
		if goesOn {
			next = was.kept
			next.Next(st.Snapshot, statements, now, touched)
		}
	}
	if next == nil {
		next = finding.Look(st.Snapshot, statements, now)
	}
	s.findingsKept = &findingsKept{st.Head, day, next}
	return next.All(), nil
}

// touchedSince says what changed in the journal since an entry, as far as findings rest on it. goesOn is false where everything has to be
// looked at.
func (s *Service) touchedSince(ctx context.Context, st *State, after uint64) (t finding.Touched, goesOn bool, err error) {
	ids, many, err := s.store.TouchedIDs(ctx, after, st.Head.Seq, mostTouched, worldKinds...)
	if err != nil || many {
		return t, false, err
	}
	aside := append(worldfile.NotAsked(), worldfile.StoredPolicy()...) // of policy the snapshots are compared
	for _, x := range ids {
		switch kind, id := x[0], x[1]; kind {
		case "guest":
			t.Parties = append(t.Parties, id)
		case "holding":
			party, _ := world.HoldingOf(id)
			t.Parties = append(t.Parties, party)
		case "grant":
			party := store.PartyOf(id)
			if _, err := addr.Parse(party); err != nil { // a group's, a partner's, a domain's
				return t, false, nil
			}
			t.Parties = append(t.Parties, party)
		case "link":
			t.Links = append(t.Links, id)
		case "space":
			t.Spaces = append(t.Spaces, id)
		case "item":
			t.Items = append(t.Items, id)
		case "meeting":
			t.Meetings = append(t.Meetings, id)
		case "statement":
			t.Statements = true
		case "domain_list", "forwarder", "contact", "person":
			t.Rest = true
		default:
			if !slices.Contains(aside, kind) { // groups, floors of dates, everything at once
				return t, false, nil
			}
		}
	}
	return t, true, nil
}

// statements lists what is kept of partners' statements; one that cannot be read as it is kept is found elsewhere: see odd.
func (s *Service) statements(ctx context.Context) (out []world.Statement, err error) {
	err = s.store.Records(ctx, "statement", "", func(_ string, doc []byte) error {
		if x, _, err := worldfile.Kept(worldfile.StatementOf, doc); err == nil {
			out = append(out, x)
		}
		return nil
	})
	return
}

// oddities is what is found where records are read, and in no snapshot: those that cannot be read as they are kept, and what is kept for a
// typical newcomer, who is nobody.
type oddities struct {
	day  moment.Day
	seq  uint64
	list []finding.Finding
}

// odd reads every record for oddities: once a day, and where there were any, whenever something changed. In a large installation that takes
// a while, so it is done beside, and waited for so long at most; what was found before is returned meanwhile, and known is false where that
// is nothing yet.
func (s *Service) odd(ctx context.Context, st *State, now moment.Moment, wait time.Duration) (list []finding.Finding, known bool) {
	day := moment.DayOf(now, st.Zone())
	s.reading.Lock()
	defer s.reading.Unlock()
	if x := s.oddities; x != nil && x.day == day && (len(x.list) == 0 || x.seq == st.Head.Seq) {
		return x.list, true
	}
	if s.readingNow == nil {
		done := make(chan struct{})
		s.readingNow = done
		go func() {
			defer close(done)
			c := &oddCollect{}
			_, err := s.store.Read(context.WithoutCancel(ctx), st.Head, c)
			s.reading.Lock()
			defer s.reading.Unlock()
			s.readingNow = nil
			if err != nil {
				s.log.Error("records cannot be read for what is wrong with them", "error", err)
				return
			}
			for _, u := range c.bad {
				about := u.Kind + ":" + u.ID
				c.list = append(c.list, finding.Finding{ID: "record_unread " + about, Kind: "record_unread", About: []string{about}, Cause: u.Text()})
			}
			s.oddities = &oddities{day, st.Head.Seq, c.list}
		}()
	}
	done := s.readingNow
	s.reading.Unlock()
	limit := time.NewTimer(wait)
	defer limit.Stop()
	select {
	case <-done:
	case <-limit.C:
	case <-ctx.Done():
	}
	s.reading.Lock()
	if s.oddities == nil {
		return nil, false
	}
	return s.oddities.list, true
}

// oddSoon is how long a look waits for every record to be read.
const oddSoon = 3 * time.Second

// oddCollect is a sink that keeps what is odd alone.
type oddCollect struct {
	collect
	list []finding.Finding
}

func (c *oddCollect) PutGroup(*world.Group)                   {}
func (c *oddCollect) PutPerson(*world.Person)                 {}
func (c *oddCollect) PutSpace(*world.Space)                   {}
func (c *oddCollect) PutItem(*world.Item)                     {}
func (c *oddCollect) PutDomainList(*world.DomainList)         {}
func (c *oddCollect) PutMeeting(*world.Meeting)               {}
func (c *oddCollect) PutLink(*world.Link)                     {}
func (c *oddCollect) PutHolding(*world.Holding)               {}
func (c *oddCollect) PutContact(*world.Contact)               {}
func (c *oddCollect) SetForwarders(string, []world.Forwarder) {}
func (c *oddCollect) SetFloors([]world.DatesFrom)             {}
func (c *oddCollect) SetPolicy(*world.World)                  {}

func (c *oddCollect) PutGuest(x *world.Guest) {
	if x.Address.IsNewcomer() {
		c.list = append(c.list, finding.KeptRecord(x.Address))
	}
}

func (c *oddCollect) SetGrants(_ string, xs []world.Grant) {
	for i := range xs {
		if xs[i].Address.IsNewcomer() {
			c.list = append(c.list, finding.KeptGrant(&xs[i]))
		}
	}
}

// PutDoc reads what no question is asked of, and forgets it.
func (c *oddCollect) PutDoc(kind, id string, doc []byte) error {
	return worldfile.AddInventory(&world.World{}, kind, id, doc)
}
