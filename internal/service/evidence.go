package service

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/expect"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/evidence"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
)

// Evidence is a record of reach as it is kept.
type Evidence struct {
	ID      string          `json:"id"`
	Digest  string          `json:"digest"` // SHA-256 of the signed manifest
	JWS     string          `json:"jws"`
	Made    string          `json:"made"`
	Key     json.RawMessage `json:"key"` // the public half of what signed it
	SignOff []SignOff       `json:"sign_off,omitempty"`

	Manifest *evidence.Manifest `json:"-"`
	Change   uint64             `json:"-"` // the journal entry that took it in
	At       time.Time          `json:"-"`
}

// SignOff is somebody's word that they have looked at a record.
type SignOff struct {
	By   string `json:"by"`
	At   string `json:"at"`
	Note string `json:"note,omitempty"`
}

// Open lists those who must sign a record off and have not.
func (e *Evidence) Open() (out []string) {
	for _, who := range e.Manifest.SignOff {
		if !slices.ContainsFunc(e.SignOff, func(s SignOff) bool { return s.By == who }) {
			out = append(out, who)
		}
	}
	return
}

// EvidenceScope says what a record is about, as an expectation does.
type EvidenceScope struct {
	Party, Action, Resource string
	At                      moment.Moment // now where it is Always
	Why                     string
	SignOff                 []string // accounts that must sign it off
}

const evidenceKind = "evidence"

// pieces collects what is written, and keeps it a megabyte at a time.
type pieces struct {
	ctx   context.Context
	store *store.Store
	id    string
	place int
	buf   []byte
}

func (p *pieces) Write(b []byte) (int, error) {
	p.buf = append(p.buf, b...)
	for len(p.buf) >= 1<<20 {
		if err := p.flush(1 << 20); err != nil {
			return 0, err
		}
	}
	return len(b), nil
}

func (p *pieces) flush(n int) error {
	if n == 0 {
		return nil
	}
	err := p.store.PutEvidencePiece(p.ctx, p.id, p.place, p.buf[:n])
	p.buf = append(p.buf[:0], p.buf[n:]...)
	p.place++
	return err
}

// recordScope reads what a record is to be about, and refuses what cannot be recorded.
func (s *Service) recordScope(ctx context.Context, st *State, x *EvidenceScope) (*world.Expectation, *expect.Statement, error) {
	if x.Why = strings.TrimSpace(x.Why); x.Why == "" {
		return nil, nil, &Invalid{"why", x.Why, "say what it is recorded for"}
	}
	for _, name := range x.SignOff {
		if _, err := s.store.Account(ctx, name); err != nil {
			return nil, nil, &Invalid{"sign_off", name, "there is no account of this name"}
		}
	}
	doc, err := json.Marshal(map[string]string{"id": "record", "party": cmp.Or(x.Party, world.Everybody), "action": cmp.Or(x.Action, "*"),
		"resource": cmp.Or(x.Resource, "*"), "expect": "never"})
	if err != nil {
		return nil, nil, err
	}
	read, err := s.ReadExpectation(st, doc)
	if bad := (*Invalid)(nil); errors.As(err, &bad) && bad.Field == "expectation" {
		bad.Field, bad.Value = "about", strings.TrimSpace(strings.Join([]string{x.Party, x.Action, x.Resource}, " "))
	}
	if err != nil {
		return nil, nil, err
	}
	scope, err := expect.Of(read)
	return read, scope, err
}

// MakeEvidence makes a record of reach: its lines as they are found, with no more in memory than the numbers of the parties; then
// its manifest is signed, and the journal takes it in.
func (s *Service) MakeEvidence(ctx context.Context, who Who, x EvidenceScope) (*Evidence, error) {
	st, at := s.State(), s.Now()
	if x.At != moment.Always {
		if x.At > at {
			return nil, &Invalid{"at", x.At.String(), "a record is of now or of the past; what lies ahead nobody can testify"}
		}
		var err error
		if st, _, err = s.At(ctx, x.At); err != nil {
			return nil, err
		}
		at = x.At
	}
	read, scope, err := s.recordScope(ctx, st, &x)
	if err != nil {
		return nil, err
	}
	id := fmt.Sprintf("%s-%s", moment.DayOf(at, st.Zone()), strings.ToLower(rand.Text()[:6]))
	m := &evidence.Manifest{
		Record: id, Version: 1, Says: recordSays(st, read), Party: read.Party, Action: read.Action, Resource: read.Resource,
		At: at.String(), Made: s.Now().String(), By: who.Name, Why: strings.TrimSpace(x.Why), Revision: st.Head.Revision,
		Method:  "Every action that somebody outside may try was decided for everybody known, for links and for typical newcomers, by the policy and inventory of this moment; what is alike is counted together.",
		SignOff: append([]string{}, x.SignOff...), NotLookedAt: []string{}, Systems: []evidence.System{}, Expectations: []evidence.Stands{},
		Totals: []evidence.Total{},
	}
	if o := st.Policy().Organisation; o != nil {
		m.Organisation = o.Name
	}
	if m.Journal.Change = st.Head.Seq; m.Journal.Change > 0 {
		if m.Journal.Seal, err = s.store.SealAt(ctx, st.Head.Seq); err != nil {
			return nil, err
		}
	}
	if !scope.Scope.Party.Of.Address.IsZero() { // a number stands for them, as in the lines
		m.Says = strings.Replace(recordSays(st, &world.Expectation{Party: world.Everybody, Action: read.Action, Resource: read.Resource}),
			"everybody outside", "party 1", 1)
		m.Party = "1"
	}
	made := false
	defer func() {
		if !made {
			_ = s.store.DropEvidence(context.WithoutCancel(ctx), id)
		}
	}()
	if err := s.recordLines(ctx, st, scope, at, m); err != nil {
		return nil, err
	}
	if err := s.recordBeside(ctx, st, at, m); err != nil {
		return nil, err
	}
	key, err := s.currentKey(ctx)
	if err != nil {
		return nil, err
	}
	out := &Evidence{ID: id, Made: m.Made}
	if out.Key, err = publicHalf(key.Private); err != nil {
		return nil, err
	}
	if out.JWS, err = statement.SignAs(evidence.Type, m, key.Private); err != nil {
		return nil, err
	}
	out.Digest = evidence.Digest(out.JWS)
	text, err := json.Marshal(out)
	if err != nil {
		return nil, err
	}
	if err := s.change(ctx, who.Name, m.Why, func(_ *State, t *store.Tx) error {
		_, err := t.PutRecord(evidenceKind, id, text)
		return err
	}); err != nil {
		return nil, err
	}
	made = true
	return s.EvidenceOf(ctx, id)
}

// recordSays says what a record is about.
func recordSays(st *State, x *world.Expectation) string {
	says := strings.TrimSuffix(expect.Says(st.Snapshot,
		&world.Expectation{Party: x.Party, Action: x.Action, Resource: x.Resource, Expect: world.Expect{Sort: world.AlwaysSo}}), ".")
	who, what, _ := strings.Cut(says, " may always ")
	if who[:1] == "E" { // everybody
		who = "e" + who[1:]
	}
	if rest, all := strings.CutPrefix(what, "do anything"); all {
		return "What " + who + " may do" + rest
	}
	return "Who may " + what + ", of " + who
}

// recordLines writes the lines and names of a record, and counts them.
func (s *Service) recordLines(ctx context.Context, st *State, scope *expect.Statement, at moment.Moment, m *evidence.Manifest) error {
	out := &pieces{ctx: ctx, store: s.store, id: m.Record}
	w, err := evidence.NewWriter(out)
	if err != nil {
		return err
	}
	names := evidence.NewNames()
	var waiting []store.EvidenceName
	known := make([]uint32, st.Parties()) // numbers of parties; 0 for those that may nothing
	others := map[string]int{}
	partnerOf := []string{""} // by number; texts of the policy, so that nothing is copied
	name := func(who engine.Who) (int, error) {
		partner := ""
		if who.Kind == engine.ByAddress {
			if match := st.Match(who.Address); match.Partner != nil && match.Bar == nil {
				partner = match.Partner.ID
			}
		}
		number := len(partnerOf)
		partnerOf = append(partnerOf, partner)
		n := evidence.NewName(number, who.String())
		names.Add(&n)
		waiting = append(waiting, store.EvidenceName{Party: n.Party, Digest: n.Digest, Salt: n.Salt, Name: n.Name})
		if len(waiting) < 500 {
			return number, nil
		}
		err := s.store.PutEvidenceNames(ctx, m.Record, waiting)
		waiting = waiting[:0]
		return number, err
	}
	if a := scope.Scope.Party.Of.Address; !a.IsZero() {
		n, err := name(engine.Who{Address: a})
		if err != nil {
			return err
		}
		if i := st.PartyOf(a); i != engine.NoParty {
			known[i] = uint32(n)
		}
		others[a.String()] = n
	}
	totals := map[string]*evidence.Total{}
	seen := map[string][]uint64{} // by action: numbers of parties, as bits
	// first reports whether an action, or with "" anything, is told of a party for the first time.
	first := func(act string, n int) bool {
		bits := seen[act]
		for n>>6 >= len(bits) {
			bits = append(bits, make([]uint64, 1+len(bits))...)
		}
		seen[act] = bits
		is := bits[n>>6]>>(n&63)&1 == 0
		bits[n>>6] |= 1 << (n & 63)
		return is
	}
	line := func(party uint32, who engine.Who, y *engine.Yes, pairs int) error {
		n := 0
		if party != engine.NoParty {
			n = int(known[party])
		} else {
			n = others[who.String()]
		}
		if n == 0 {
			var err error
			if n, err = name(who); err != nil {
				return err
			}
			if party != engine.NoParty {
				known[party] = uint32(n)
			} else {
				others[who.String()] = n
			}
		}
		if first("", n) {
			if y.Newcomer {
				m.Newcomers++
			} else {
				m.Parties++
			}
		}
		act := y.Action.String()
		if totals[act] == nil {
			totals[act] = &evidence.Total{Action: act}
		}
		t := totals[act]
		if t.Pairs += pairs; first(act, n) {
			t.Parties++
		}
		return w.Add(&evidence.Line{Party: n, Kind: y.Kind.String(), Partner: partnerOf[n], Newcomer: y.Newcomer, Person: y.Person, Action: act,
			Resource: y.Resource.String(), Count: pairs, Conditions: y.Conditions.Names()})
	}
	if err := st.EachYes(&scope.Scope, at, ctx.Err, func(y *engine.Yes) error {
		if len(y.Members) == 0 {
			return line(y.Party, y.Who, y, y.Pairs)
		}
		each := y.Each()
		for _, p := range y.Members {
			n := each
			if n == 0 { // they differ
				one := *y
				one.Members = []uint32{p}
				if st.EachPair(&one, at, func(*engine.Question) bool { n++; return true }); n == 0 {
					continue
				}
			}
			if err := line(p, engine.Who{Address: st.AddressAt(p)}, y, n); err != nil {
				return err
			}
		}
		return nil
	}); err != nil {
		return err
	}
	part, err := w.Done()
	if err != nil {
		return err
	}
	if err := out.flush(len(out.buf)); err != nil {
		return err
	}
	if err := s.store.PutEvidenceNames(ctx, m.Record, waiting); err != nil {
		return err
	}
	m.Lines, m.Parts = part.Lines, []evidence.Part{part, names.Done()}
	for _, act := range slices.Sorted(maps.Keys(totals)) {
		m.Totals = append(m.Totals, *totals[act])
	}
	return nil
}

// recordBeside states the systems that were read, what was not looked at, and how what is expected stands.
func (s *Service) recordBeside(ctx context.Context, st *State, at moment.Moment, m *evidence.Manifest) error {
	systems, err := s.Systems(ctx)
	if err != nil {
		return err
	}
	for i := range systems {
		r, err := s.store.ReadingOf(ctx, systems[i].ID, at)
		if err != nil {
			return err
		}
		x := evidence.System{ID: systems[i].ID}
		if r != nil {
			x.Read = r.Seen.String()
		}
		m.Systems = append(m.Systems, x)
	}
	unseen, _, err := s.NotLookedAt(ctx)
	if err != nil {
		return err
	}
	for _, name := range unseen {
		m.NotLookedAt = append(m.NotLookedAt, "what a system holds of "+name)
	}
	if m.Trials, err = s.triedBefore(ctx, at); err != nil {
		return err
	}
	if len(m.Trials) == 0 {
		m.NotLookedAt = append(m.NotLookedAt, fmt.Sprintf("trials: none was made in the %d days before", triedDays))
	}
	if m.Reviews, err = s.reviewedBefore(ctx, st, at); err != nil {
		return err
	}
	m.NotLookedAt = append(m.NotLookedAt, "what could come about by acts of others")
	list := expect.All(st.Policy())
	return expect.Judge(st.Snapshot, list, at, expect.Now, ctx.Err, func(i int, j expect.Judged) {
		says := expect.Says(st.Snapshot, list[i].Expectation)
		if strings.Contains(says, "@") { // nobody outside is named where a name cannot be taken out again
			says = "About one person outside."
		}
		m.Expectations = append(m.Expectations, evidence.Stands{ID: j.ID, Says: says, State: j.State.String(), Count: j.Count})
	})
}

// evidenceFrom reads a record as it is kept.
func evidenceFrom(doc []byte) (*Evidence, error) {
	var e Evidence
	err := json.Unmarshal(doc, &e)
	if err == nil {
		e.Manifest, _, err = evidence.Manifested(e.JWS)
	}
	return &e, err
}
