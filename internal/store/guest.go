package store

import (
	"context"
	"database/sql"
	"errors"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// Guest returns the record of an address as it is now; nil where there is none.
func (t *Tx) Guest(address string) (*world.Guest, error) { return guest(t.ctx, ready{t}, address) }

// Guest returns the record of an address as it is now; nil where there is none.
func (s *Store) Guest(ctx context.Context, address string) (*world.Guest, error) {
	return guest(ctx, s.db, address)
}

func guest(ctx context.Context, q querier, address string) (out *world.Guest, err error) {
	err = each(
		ctx,
		q,
		"SELECT "+guestColumns+" FROM guest WHERE address = ? AND until_seq = ?",
		[]any{address, open},
		func(r *sql.Rows) error {
			g, err := scanGuest(r)
			out = &g
			return err
		},
	)
	return
}

// Grants returns the grants of a party as they are now, written as Grant.Party has it.
func (t *Tx) Grants(party string) ([]world.Grant, error) { return grantsOf(t.ctx, ready{t}, party) }

// Grants returns the grants of a party as they are now, written as Grant.Party has it.
func (s *Store) Grants(ctx context.Context, party string) ([]world.Grant, error) {
	return grantsOf(ctx, s.db, party)
}

func grantsOf(ctx context.Context, q querier, party string) (out []world.Grant, err error) {
	err = each(
		ctx,
		q,
		"SELECT "+grantColumns+" FROM `grant` WHERE party = ? AND until_seq = ? ORDER BY resource, resource_kind, role, starts",
		[]any{party, open},
		func(r *sql.Rows) error {
			g, err := scanGrant(r)
			out = append(out, g)
			return err
		},
	)
	return
}

// GrantsOf returns the grants of several parties as they are now, by party.
func (s *Store) GrantsOf(ctx context.Context, parties []string) (map[string][]world.Grant, error) {
	out := map[string][]world.Grant{}
	err := s.eachGrantOf(ctx, grantColumns, parties, "ORDER BY party, resource, resource_kind, role, starts", func(r *sql.Rows) error {
		g, err := scanGrant(r)
		out[g.Party()] = append(out[g.Party()], g)
		return err
	})
	return out, err
}

// SponsorsOf hands over the grants of several parties as they are now, as far as somebody answers for them: who that is, and
// by what the grant is known; nothing else is read.
func (s *Store) SponsorsOf(ctx context.Context, parties []string, fn func(party string, of *world.Grant)) error {
	const columns = "party, resource_kind, resource, role, starts, sponsor"
	return s.eachGrantOf(ctx, columns, parties, "AND sponsor <> ''", func(r *sql.Rows) error {
		var g world.Grant
		var party string
		err := r.Scan(&party, &g.Resource.Kind, &g.Resource.ID, &g.Role, (*int64)(&g.From), &g.Sponsor)
		if err == nil {
			fn(party, &g)
		}
		return err
	})
}

// eachGrantOf reads columns of the grants of several parties as they are now; more narrows them down or puts them in order.
func (s *Store) eachGrantOf(ctx context.Context, columns string, parties []string, more string, fn func(*sql.Rows) error) error {
	if len(parties) == 0 {
		return nil
	}
	args := make([]any, 0, len(parties)+1)
	for _, p := range parties {
		args = append(args, p)
	}
	return each(ctx, s.db, "SELECT "+columns+" FROM `grant` WHERE party IN ("+marks(len(parties))+") AND until_seq = ? "+more,
		append(args, open), fn)
}

// GrantsBy returns the grants that a person answers for.
func (s *Store) GrantsBy(ctx context.Context, sponsor string) ([]world.Grant, error) {
	return grantsBy(ctx, s.db, sponsor)
}

// EndGuest takes a record away. It reports whether there was one.
func (t *Tx) EndGuest(address string) (bool, error) {
	old, err := t.Guest(address)
	if err != nil || old == nil {
		return false, err
	}
	seq, err := t.Note("guest", address, worldfile.GuestDoc(old), nil)
	if err != nil {
		return false, err
	}
	if err := t.EndSessions("guest:" + address); err != nil {
		return false, err
	}
	return true, t.exec("UPDATE guest SET until_seq = ? WHERE address = ? AND until_seq = ?", seq, address, open)
}

// EndGrant takes a grant away as if it had not been given.
func (t *Tx) EndGrant(g *world.Grant) error {
	seq, err := t.Note("grant", worldfile.GrantKey(g), worldfile.GrantDoc(g), nil)
	if err != nil {
		return err
	}
	return t.exec(
		"UPDATE `grant` SET until_seq = ? WHERE party = ? AND resource = ? AND resource_kind = ? AND role = ? AND starts = ? AND until_seq = ?",
		seq,
		g.Party(),
		g.Resource.ID,
		g.Resource.Kind,
		g.Role,
		int64(g.From),
		open,
	)
}

// GuestsOf returns the addresses that a person answers for, in order.
func (t *Tx) GuestsOf(sponsor string) (out []string, err error) {
	err = each(
		t.ctx,
		t.tx,
		"SELECT address FROM guest WHERE sponsor = ? AND until_seq = ? ORDER BY address",
		[]any{sponsor, open},
		func(r *sql.Rows) error {
			var a string
			err := r.Scan(&a)
			out = append(out, a)
			return err
		},
	)
	return
}

// GrantsBy returns the grants that a person answers for.
func (t *Tx) GrantsBy(sponsor string) ([]world.Grant, error) { return grantsBy(t.ctx, t.tx, sponsor) }

func grantsBy(ctx context.Context, q querier, sponsor string) (out []world.Grant, err error) {
	err = each(
		ctx,
		q,
		"SELECT "+grantColumns+" FROM `grant` WHERE sponsor = ? AND until_seq = ? ORDER BY party, resource, resource_kind, role, starts",
		[]any{sponsor, open},
		func(r *sql.Rows) error {
			g, err := scanGrant(r)
			out = append(out, g)
			return err
		},
	)
	return
}

// Carried is how far dated steps have been carried out.
type Carried struct {
	At      moment.Moment
	Address string
}

// Carried returns how far dated steps have been carried out; ok is false where none ever
// were.
func (s *Store) Carried(ctx context.Context) (c Carried, ok bool, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT at, address FROM carried WHERE one = 1").Scan((*int64)(&c.At), &c.Address)
	if errors.Is(err, sql.ErrNoRows) {
		return c, false, nil
	}
	return c, err == nil, err
}

// Carried returns how far dated steps have been carried out.
func (t *Tx) Carried() (c Carried, ok bool, err error) {
	err = t.tx.QueryRowContext(t.ctx, "SELECT at, address FROM carried WHERE one = 1").Scan((*int64)(&c.At), &c.Address)
	if errors.Is(err, sql.ErrNoRows) {
		return c, false, nil
	}
	return c, err == nil, err
}

// SetCarried notes how far dated steps have been carried out.
func (t *Tx) SetCarried(c Carried) error {
	return t.exec(
		"INSERT INTO carried (one, at, address) VALUES (1, ?, ?) ON DUPLICATE KEY UPDATE at = VALUES(at), address = VALUES(address)",
		int64(c.At),
		c.Address,
	)
}

// EachGuest hands over every record, in the order of addresses. fn ends it early with an
// error.
func (s *Store) EachGuest(ctx context.Context, fn func(*world.Guest) error) error {
	return each(ctx, s.db, "SELECT "+guestColumns+" FROM guest WHERE until_seq = ? ORDER BY address", []any{open}, func(r *sql.Rows) error {
		g, err := scanGuest(r)
		if err != nil {
			return err
		}
		return fn(&g)
	})
}

// GuestsNow returns the records of some addresses as they are now; those that have none are not in it.
func (s *Store) GuestsNow(ctx context.Context, addresses []string) (map[string]*world.Guest, error) {
	out := map[string]*world.Guest{}
	if len(addresses) == 0 {
		return out, nil
	}
	args := make([]any, 0, len(addresses)+1)
	for _, a := range addresses {
		args = append(args, a)
	}
	err := each(ctx, s.db, "SELECT "+guestColumns+" FROM guest WHERE address IN ("+marks(len(addresses))+") AND until_seq = ?",
		append(args, open), func(r *sql.Rows) error {
			g, err := scanGuest(r)
			out[g.Address.String()] = &g
			return err
		})
	return out, err
}
