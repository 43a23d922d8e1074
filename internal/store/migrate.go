package store

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"maps"
	"slices"
	"time"

	"github.com/pressly/goose/v3"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/store/migrations"
	"wexillum.example/internal/worldfile"
)

func (s *Store) provider() (*goose.Provider, error) {
	return goose.NewProvider(goose.DialectMySQL, s.schema, again{migrations.Files})
}

// Migrate brings the schema up to date. It is ErrUnfinished where half a backup is in the database.
func (s *Store) Migrate(ctx context.Context) error {
	if err := s.wholly(ctx); err != nil {
		return err
	}
	return s.migrate(ctx)
}

func (s *Store) migrate(ctx context.Context) error {
	p, err := s.provider()
	if err != nil {
		return err
	}
	// One brings it up to date; others that start meanwhile wait until it is.
	unlock, err := s.lock(ctx, "wexillum_migrate")
	if err != nil {
		return err
	}
	defer unlock()
	was, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	if known := p.ListSources(); was > known[len(known)-1].Version {
		return fmt.Errorf(
			"the schema is at version %d, and this program knows up to %d: it is older than the one that wrote the database; start the newer one",
			was,
			known[len(known)-1].Version,
		)
	}
	if err := s.owe(ctx, was); err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("the schema cannot be brought up to date: %w", err)
	}
	return s.settleUpgrade(ctx)
}

// upgrades are what a new schema needs besides its statements, in their order, for databases
// below a version. Each is one transaction, in which it also says that it is done: whoever is
// killed between two goes on at the next start.
var upgrades = []struct {
	name  string
	below int64
	do    func(*Store, context.Context, string) error
}{
	{"reseal", 4, (*Store).reseal},
	{"floors", 5, (*Store).floorFromCarried},
	{"links", 5, (*Store).datedLinks},
}

// owe writes down, before the schema changes, what has to be done after it.
func (s *Store) owe(ctx context.Context, was int64) error {
	if _, err := s.db.ExecContext(ctx,
		"CREATE TABLE IF NOT EXISTS upgrade_step (name VARCHAR(40) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY) ENGINE=InnoDB"); err != nil {
		return err
	}
	for _, u := range upgrades {
		owed := was > 0 && was < u.below
		if u.name == "reseal" && was >= 4 && was < 6 { // an earlier program may have been killed before it had
			if err := s.db.QueryRowContext(ctx,
				"SELECT EXISTS (SELECT 1 FROM journal WHERE salt IS NULL AND digest IS NULL)").Scan(&owed); err != nil {
				return err
			}
		}
		if owed {
			if _, err := s.db.ExecContext(ctx, "INSERT IGNORE INTO upgrade_step (name) VALUES (?)", u.name); err != nil {
				return err
			}
		}
	}
	return nil
}

// settleUpgrade does what is owed.
func (s *Store) settleUpgrade(ctx context.Context) error {
	for _, u := range upgrades {
		var owed bool
		if err := s.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM upgrade_step WHERE name = ?)", u.name).Scan(&owed); err != nil {
			return err
		}
		if owed {
			if err := u.do(s, ctx, u.name); err != nil {
				return fmt.Errorf("the upgrade cannot go on: %w", err)
			}
		}
	}
	return nil
}

// upgraded says within a change that an upgrade is done.
func (t *Tx) upgraded(name string) error {
	t.keep = true
	return t.exec("DELETE FROM upgrade_step WHERE name = ?", name)
}

// lock takes a lock of the database server that ends with its connection, for this database.
func (s *Store) lock(ctx context.Context, name string) (unlock func(), err error) {
	c, err := s.db.Conn(ctx)
	if err != nil {
		return nil, err
	}
	if _, err := c.ExecContext(ctx, "SET SESSION wait_timeout = 86400"); err != nil { // it is idle while the schema changes
		return nil, errors.Join(err, c.Close())
	}
	var got sql.NullInt64
	err = c.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT(?, ' ', DATABASE()), 100)", name).Scan(&got)
	for err == nil && got.Int64 != 1 && ctx.Err() == nil { // another one does it still
		err = c.QueryRowContext(ctx, "SELECT GET_LOCK(CONCAT(?, ' ', DATABASE()), 100)", name).Scan(&got)
	}
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return func() {
		_, _ = c.ExecContext(context.WithoutCancel(ctx), "DO RELEASE_LOCK(CONCAT(?, ' ', DATABASE()))", name)
		_ = c.Close()
	}, nil
}

// floorFromCarried makes what dates put before how far steps have been carried out stay as it
// was in an installation that is upgraded (model §5).
func (s *Store) floorFromCarried(ctx context.Context, name string) error {
	_, err := s.Change(ctx, "upgrade", "dates count in every answer now; those before were carried out", func(t *Tx) error {
		if err := t.upgraded(name); err != nil {
			return err
		}
		c, ok, err := t.Carried()
		if err != nil || !ok {
			return err
		}
		_, err = t.PutFloor(&world.DatesFrom{From: c.At, Mail: c.At})
		return err
	})
	return err
}

// datedLinks gives links that do not say when they were made the moment of the journal entry
// that made them: nothing counts from no moment (model §5).
func (s *Store) datedLinks(ctx context.Context, name string) error {
	_, err := s.Change(ctx, "upgrade", "a link that does not say when it was made was made when the journal has it", func(t *Tx) error {
		if err := t.upgraded(name); err != nil {
			return err
		}
		made := map[string]time.Time{}
		if err := each(ctx, ready{t}, "SELECT id, MIN(at) FROM journal WHERE kind = 'link' GROUP BY id", nil, func(r *sql.Rows) error {
			var id string
			var at time.Time
			err := r.Scan(&id, &at)
			made[id] = at
			return err
		}); err != nil {
			return err
		}
		undated := map[string][]byte{}
		if err := records(ctx, ready{t}, "SELECT id, doc FROM record WHERE kind = ? AND until_seq = ? ORDER BY id", []any{"link", open},
			func(id string, doc []byte) error {
				undated[id] = doc
				return nil
			}); err != nil {
			return err
		}
		for _, id := range slices.Sorted(maps.Keys(undated)) {
			l, err := worldfile.LinkOf(undated[id])
			at, ok := made[id]
			if err != nil || l.Created != moment.Always || !ok {
				continue
			}
			l.Created = moment.Of(at)
			if _, err := t.PutRecord("link", id, worldfile.LinkDoc(&l)); err != nil {
				return err
			}
		}
		return nil
	})
	return err
}

// MigrateDown takes the schema back to a version; 0 removes every table and all
// that is in them.
func (s *Store) MigrateDown(ctx context.Context, to int64) error {
	p, err := s.provider()
	if err != nil {
		return err
	}
	if _, err = p.DownTo(ctx, to); err == nil && to == 0 {
		_, err = s.db.ExecContext(ctx, "DROP TABLE IF EXISTS upgrade_step")
	}
	return err
}

// asked are versions that hold what has to be kept where there is any of it.
var asked = map[int64]string{
	// ids of systems beside ours are found out again for most, and not for all
	8: "SELECT EXISTS (SELECT 1 FROM system_record)",
	// how far receivers of events were told
	9: "SELECT EXISTS (SELECT 1 FROM webhook_work)",
	// when findings came and went
	10: "SELECT EXISTS (SELECT 1 FROM noticed)",
	// the lines of records of reach
	11: "SELECT EXISTS (SELECT 1 FROM evidence_part)",
	// what rounds of review asked, and what was answered
	12: "SELECT EXISTS (SELECT 1 FROM review_line)",
	// what waits for a round, and what is kept in place of a space
	13: "SELECT EXISTS (SELECT 1 FROM `grant` WHERE waits <> 0) OR EXISTS (SELECT 1 FROM review_line WHERE instead <> '')",
	// whom partners keep here
	14: "SELECT EXISTS (SELECT 1 FROM fed_user)",
	// with what else people prove who they are
	15: "SELECT EXISTS (SELECT 1 FROM second_factor)",
	// what partners told, each once
	16: "SELECT EXISTS (SELECT 1 FROM told_event)",
	// whom of ours feeds keep at partners
	17: "SELECT EXISTS (SELECT 1 FROM sent_user)",
	// passkeys, and whom the organisation's own sign-in vouches for
	18: "SELECT EXISTS (SELECT 1 FROM passkey) OR EXISTS (SELECT 1 FROM account WHERE subject IS NOT NULL)",
}

// passing are the versions that hold nothing which has to be kept: sessions, codes, what is
// being weighed, where rows lie, and what the next start finds out again.
var passing = map[int64]bool{6: true, 7: true, 19: true, 20: true, 21: true, 22: true}

// Loses tells what going down to a version would lose; empty for nothing.
func (s *Store) Loses(ctx context.Context, to int64) (string, error) {
	v, err := s.SchemaVersion(ctx)
	if err != nil || v == 0 {
		return "", err
	}
	h, err := s.Head(ctx)
	if err != nil || h.Seq == 0 {
		return "", err
	}
	for ; v > to; v-- {
		held := !passing[v]
		if q := asked[v]; q != "" {
			if err := s.db.QueryRowContext(ctx, q).Scan(&held); err != nil {
				return "", err
			}
		}
		if held {
			return fmt.Sprintf(
				"going below version %d would lose what it holds, of %d journal entries; start the older program on a copy of the database from before the upgrade",
				v,
				h.Seq,
			), nil
		}
	}
	return "", nil
}

// SchemaVersion returns the version of the schema.
func (s *Store) SchemaVersion(ctx context.Context) (int64, error) {
	p, err := s.provider()
	if err != nil {
		return 0, err
	}
	return p.GetDBVersion(ctx)
}
