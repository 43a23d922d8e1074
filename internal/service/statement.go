package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	core "wexillum.example/internal/core/statement"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/statement"
	"wexillum.example/internal/store"
	"wexillum.example/internal/worldfile"
)

// StatementKeys lists the keys that sign our statements.
func (s *Service) StatementKeys(ctx context.Context) ([]store.SigningKey, error) {
	return s.store.Keys(ctx)
}

// What can be done with the keys that sign our statements.
const (
	AnnounceKey = "announce" // make the next key, and let statements say that it will sign
	SwitchKey   = "switch"   // the announced key signs from now on
	ReplaceKey  = "replace"  // a new key signs at once, announced by nobody: the old one is not to be trusted any more
)

// RollKey rolls the key that signs our statements. What is announced first and
// switched to once partners had time to read it, they follow by themselves; a
// replaced key they ask their administrators about.
func (s *Service) RollKey(ctx context.Context, by By, what string) error {
	return s.change(ctx, by.Who, by.Why, func(_ *State, t *store.Tx) error {
		keys, err := t.Keys()
		if err != nil {
			return err
		}
		of := func(state string) (out []store.SigningKey) {
			for _, k := range keys {
				if k.State == state {
					out = append(out, k)
				}
			}
			return
		}
		add := func(state string) error {
			id, private, err := statement.NewKey()
			if err != nil {
				return err
			}
			return t.AddKey(id, state, private)
		}
		set := func(ks []store.SigningKey, state string) error {
			for _, k := range ks {
				if err := t.SetKey(k, state); err != nil {
					return err
				}
			}
			return nil
		}
		next, now, retired := of(store.KeyAnnounced), of(store.KeyCurrent), of(store.KeyRetired)
		switch what {
		case AnnounceKey:
			switch {
			case len(next) > 0:
				return fmt.Errorf("%w: the next key is announced already; switch to it", ErrConflict)
			case len(now) == 0:
				return add(store.KeyCurrent)
			}
			return add(store.KeyAnnounced)
		case SwitchKey:
			if len(next) == 0 {
				return fmt.Errorf("%w: no key is announced; announce one, and give partners time to read it", ErrConflict)
			}
			return errors.Join(set(retired, ""), set(now, store.KeyRetired), set(next, store.KeyCurrent))
		case ReplaceKey:
			return errors.Join(set(retired, ""), set(now, ""), set(next, ""), add(store.KeyCurrent))
		}
		return &Invalid{"do", what, "write announce, switch or replace"}
	})
}

// signing returns the keys, making the first where there is none.
func (s *Service) signing(ctx context.Context) ([]store.SigningKey, error) {
	keys, err := s.store.Keys(ctx)
	if err != nil || len(keys) > 0 {
		return keys, err
	}
	err = s.RollKey(ctx, By{Who: "service", Why: "the first key that signs statements"}, AnnounceKey)
	if err != nil && !errors.Is(err, ErrConflict) {
		return nil, err
	}
	return s.store.Keys(ctx)
}

// OurClaims is what we state to a domain, by the policy in force: to a partner what
// it is opened for, to anybody else what the levels admit.
func (s *Service) OurClaims(ctx context.Context, audience string) (core.Claims, error) {
	st := s.State()
	d, err := addr.ParseDomain(audience)
	if err != nil {
		return core.Claims{}, &Invalid{"for", audience, err.Error()}
	}
	keys, err := s.signing(ctx)
	if err != nil {
		return core.Claims{}, err
	}
	var next []string
	for _, k := range keys {
		if k.State == store.KeyAnnounced {
			next = append(next, k.ID)
		}
	}
	side := st.SideFor(d, s.Now())
	return core.Of(st.Policy().Organisation, side, d.String(), s.clock(), next), nil
}

// OurStatement is the same, signed, in compact form.
func (s *Service) OurStatement(ctx context.Context, audience string) (string, error) {
	c, err := s.OurClaims(ctx, audience)
	if err != nil {
		return "", err
	}
	keys, err := s.signing(ctx)
	if err != nil {
		return "", err
	}
	for _, k := range keys {
		if k.State == store.KeyCurrent {
			return statement.Sign(c, k.Private)
		}
	}
	return "", errors.New("no key signs statements")
}

// OurKeys is the public half of all keys, as a JWKS.
func (s *Service) OurKeys(ctx context.Context) ([]byte, error) {
	keys, err := s.signing(ctx)
	if err != nil {
		return nil, err
	}
	var private [][]byte
	for _, k := range keys {
		private = append(private, k.Private)
	}
	return statement.PublicKeys(private...)
}

// Statement is what is known of a partner's statement.
func (s *Service) Statement(ctx context.Context, partner string) (world.Statement, error) {
	if _, err := s.State().Partner(partner); err != nil {
		return world.Statement{}, err
	}
	doc, err := s.store.Record(ctx, "statement", partner)
	return statementOf(doc, partner, err)
}

func statementOf(doc []byte, partner string, err error) (world.Statement, error) {
	if err != nil || doc == nil {
		return world.Statement{Partner: partner, Issued: moment.Always, Until: moment.Never, Fetched: moment.Always}, err
	}
	return worldfile.StatementOf(doc)
}

// FetchStatement fetches the statement of a partner and takes it, if it is right.
// What is wrong with it is kept, and returned as a *core.Problem; then nothing
// else changes.
func (s *Service) FetchStatement(ctx context.Context, by By, f *statement.Fetcher, partner string) error {
	p, err := s.State().Partner(partner)
	if err != nil {
		return err
	}
	if p.Statement == "" {
		return &Invalid{"statement", "", fmt.Sprintf("%s publishes none that we know of; write its address into the record", p.Name)}
	}
	org := s.State().Policy().Organisation
	if org == nil || len(org.Domains) == 0 {
		return &Invalid{"organisation", "", "our own domains are not known yet"}
	}
	got, fetchErr := f.Fetch(ctx, p.Statement, org.Domains[0].Domain.String())
	if ctx.Err() != nil {
		return ctx.Err()
	}
	var wrong *core.Problem
	err = s.change(ctx, by.Who, by.Why, func(now *State, t *store.Tx) error {
		p, err := now.Partner(partner)
		if err != nil {
			return err
		}
		doc, err := t.Record("statement", partner)
		st, err := statementOf(doc, partner, err)
		if err != nil {
			return err
		}
		wrong = nil
		taken := st
		taken.Fetched = s.Now()
		c, print, err := s.judge(now, p, &taken, got, fetchErr)
		if err != nil && !errors.As(err, &wrong) {
			return err
		}
		if wrong != nil {
			bad := st
			bad.Fetched, bad.Problem, bad.Reason, bad.Offered = s.Now(), wrong.Code, shortened(wrong.Text), ""
			if wrong.Code == core.KeyChanged {
				bad.Offered = print
			}
			if st.Problem == bad.Problem && st.Offered == bad.Offered && st.Fetched.IsSet() && s.Now() < later(st.Fetched, 12*time.Hour) {
				return nil // it is known; a journal entry an hour would bury the others
			}
			_, err := t.PutRecord("statement", partner, worldfile.StatementDoc(&bad))
			return err
		}
		core.Take(&taken, c, print)
		fresh, all := newer(p, c.Stances(), s.Now())
		if len(fresh) == 0 && st.Problem == "" && slices.Equal(st.Keys, taken.Keys) && st.Issued.IsSet() &&
			s.Now() < later(st.Fetched, 12*time.Hour) {
			return nil // nothing new is said
		}
		if _, err := t.PutRecord("statement", partner, worldfile.StatementDoc(&taken)); err != nil {
			return err
		}
		for i := range fresh {
			if _, err := t.PutRecord("stance", store.StanceKey(partner, fresh[i].Key), worldfile.StanceDoc(&fresh[i])); err != nil {
				return err
			}
		}
		return s.settle(t, now, withStance(p, all...), "statement of "+c.Issuer)
	})
	if err == nil && wrong != nil {
		return wrong
	}
	return err
}

// judge checks what was fetched against what is pinned and known.
func (s *Service) judge(
	now *State,
	p *world.Partner,
	st *world.Statement,
	got statement.Fetched,
	fetchErr error,
) (*core.Claims, string, error) {
	if fetchErr != nil {
		return nil, "", fetchErr
	}
	payload, print, err := statement.Open(got.JWS, got.JWKS)
	if err != nil {
		return nil, "", err
	}
	c, err := core.Read(payload, core.Expect{Partner: p, Ours: now.Policy().Organisation.Domains, Now: s.Now(), Seen: st.Issued})
	if err != nil {
		return nil, "", err
	}
	if trusted, _ := core.Pinned(st, print); !trusted {
		return nil, print, &core.Problem{
			Code: core.KeyChanged,
			Text: fmt.Sprintf("it is signed with the key %s, and those that may sign are %v", print, st.Keys),
		}
	}
	return c, print, nil
}

// newer picks what is to be written of stances: what says something else than is
// known, or what is known from long ago. all is everything that is said.
func newer(p *world.Partner, said []world.Stance, now moment.Moment) (fresh, all []world.Stance) {
	old := map[catalogue.Key]*world.Stance{}
	for i := range p.Stance {
		old[p.Stance[i].Key] = &p.Stance[i]
	}
	for _, n := range said {
		o := old[n.Key]
		delete(old, n.Key)
		if o != nil && o.AsOf.IsSet() && o.AsOf > n.AsOf {
			continue // something newer is known
		}
		all = append(all, n)
		same := o != nil && o.Source == n.Source && o.Says == n.Says && slices.Equal(o.Features, n.Features) &&
			(o.Features == nil) == (n.Features == nil)
		if !same || now > later(o.AsOf, 24*time.Hour) {
			fresh = append(fresh, n)
		}
	}
	for k, o := range old { // said by an earlier statement, and not any more
		if o.Source == "statement" && o.Says != world.SaysUnknown {
			n := world.Stance{Key: k, Source: "statement", AsOf: now, Until: moment.Never}
			fresh, all = append(fresh, n), append(all, n)
		}
	}
	return
}

// shortened keeps what others wrote from filling the journal.
func shortened(s string) string {
	const most = 300
	if r := []rune(s); len(r) > most {
		return string(r[:most]) + "…"
	}
	return s
}

func later(m moment.Moment, d time.Duration) moment.Moment { return moment.Of(m.Time().Add(d)) }

// AcceptKey trusts the key that a partner's statement is signed with now. It is
// named by its thumbprint, which the partner's administrator confirmed by another
// way.
func (s *Service) AcceptKey(ctx context.Context, by By, partner, thumbprint string) error {
	return s.change(ctx, by.Who, by.Why, func(now *State, t *store.Tx) error {
		if _, err := now.Partner(partner); err != nil {
			return err
		}
		doc, err := t.Record("statement", partner)
		st, err := statementOf(doc, partner, err)
		if err != nil {
			return err
		}
		if st.Offered == "" || st.Offered != thumbprint {
			return &Invalid{"key", thumbprint, "it is not the key that their statement is signed with; fetch it, and name that one"}
		}
		st.Keys, st.Problem, st.Reason, st.Offered = []string{thumbprint}, "", "", ""
		_, err = t.PutRecord("statement", partner, worldfile.StatementDoc(&st))
		return err
	})
}

// FollowStatements fetches the statements of all partners that publish one, again
// and again until the context ends. What another service on the same database has
// fetched meanwhile is left.
func (s *Service) FollowStatements(ctx context.Context, f *statement.Fetcher, every time.Duration) {
	tick := time.NewTicker(min(every, time.Minute))
	defer tick.Stop()
	last := map[string]time.Time{}
	for {
		for i := range s.State().Policy().Partners {
			p := &s.State().Policy().Partners[i]
			if p.Statement == "" || p.Standing == world.Ended || s.clock().Sub(last[p.ID]) < every {
				continue
			}
			last[p.ID] = s.clock()
			err := s.FetchStatement(ctx, By{Who: "service", Why: "statement fetched"}, f, p.ID)
			var wrong *core.Problem
			switch {
			case ctx.Err() != nil:
				return
			case errors.As(err, &wrong):
				s.log.WarnContext(ctx, "a partner's statement is not taken", "partner", p.ID, "problem", wrong.Code, "reason", wrong.Text)
			case err != nil:
				s.log.ErrorContext(ctx, "a partner's statement cannot be fetched", "partner", p.ID, "error", err)
			}
		}
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
	}
}
