// Package store keeps policy, inventory, accounts and the journal in MariaDB.
//
// Every change is one transaction with its journal entries inside. Policy is
// immutable revisions; of inventory every version is kept, from the journal
// entry that wrote it until the one that replaced it. The package decides
// nothing: it is told what to write.
package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"database/sql/driver"
	"embed"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io/fs"
	"maps"
	"math"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

//go:embed migrations/*.sql
var migrations embed.FS

// open is the until_seq and until_revision of what is current.
const open uint64 = math.MaxUint64

// Head is how far a database has come: the last journal entry and the last
// revision of policy.
type Head struct{ Seq, Revision uint64 }

// Store is a database. It is safe for concurrent use.
type Store struct {
	db     *sql.DB // reads, and what belongs to no change
	writes *sql.DB // changes: their connections are their own
	schema *sql.DB // what changes the schema, which takes its time
	idle   string  // how long a change may compute between two statements, in seconds
	now    func() time.Time

	slot    chan struct{} // who holds it writes; the others wait here and not in the database
	waiting atomic.Int64
}

// How many changes may wait for one another in a service, and for how long.
const (
	maxWaiting = 1024
	waitsFor   = 15 * time.Second
)

// ErrBusy is returned where more changes wait than are let wait, or one waited too long.
var ErrBusy = errors.New("too many changes at once")

// turn waits until this change may write. done is to be called when it has.
func (s *Store) turn(ctx context.Context) (done func(), err error) {
	done = func() { <-s.slot }
	select {
	case s.slot <- struct{}{}:
		return done, nil
	default:
	}
	if s.waiting.Add(1) > maxWaiting {
		s.waiting.Add(-1)
		return nil, ErrBusy
	}
	defer s.waiting.Add(-1)
	timeout := time.NewTimer(waitsFor)
	defer timeout.Stop()
	select {
	case s.slot <- struct{}{}:
		return done, nil
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-timeout.C:
		return nil, ErrBusy
	}
}

// Open connects to a database by its data source name and checks that it
// answers. The clock is what journal entries are dated by; nil is the system's.
func Open(ctx context.Context, dsn string, now func() time.Time) (*Store, error) {
	c, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, fmt.Errorf("the data source name of the database is malformed: %w", err)
	}
	c.ParseTime, c.Loc, c.Collation = true, time.UTC, "utf8mb4_bin"
	c.MaxAllowedPacket = 64 << 20
	if c.Params == nil {
		c.Params = map[string]string{}
	}
	c.Params["time_zone"] = "'+00:00'"
	c.Params["sql_mode"] = "'TRADITIONAL,NO_BACKSLASH_ESCAPES'"
	c.Params["innodb_lock_wait_timeout"] = "20"
	if c.Timeout == 0 {
		c.Timeout = 10 * time.Second
	}
	open := func(most int, c *mysql.Config) (*sql.DB, error) {
		conn, err := mysql.NewConnector(c)
		if err != nil {
			return nil, err
		}
		db := sql.OpenDB(conn)
		db.SetMaxOpenConns(most)
		db.SetMaxIdleConns(most / 2)
		db.SetConnMaxIdleTime(5 * time.Minute)
		return db, nil
	}
	schema, err := open(2, c.Clone())
	if err != nil {
		return nil, err
	}
	// A connection that is cut without a word is not waited for; and a service that stops in the
	// middle of a change, frozen or cut off, holds others up for so long and no longer: the
	// server ends its transaction.
	if c.ReadTimeout == 0 {
		c.ReadTimeout = 2 * time.Minute
	}
	if c.WriteTimeout == 0 {
		c.WriteTimeout = 30 * time.Second
	}
	db, err := open(16, c.Clone())
	if err != nil {
		return nil, err
	}
	if c.Params[idleParam] == "" {
		c.Params[idleParam] = "10"
	}
	writes, err := open(4, c)
	if err != nil {
		return nil, err
	}
	if now == nil {
		now = time.Now
	}
	if err := db.PingContext(ctx); err != nil {
		_, _, _ = db.Close(), writes.Close(), schema.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	return &Store{db: db, writes: writes, schema: schema, idle: c.Params[idleParam], now: now, slot: make(chan struct{}, 1)}, nil
}

// Close ends all connections.
func (s *Store) Close() error { return errors.Join(s.db.Close(), s.writes.Close(), s.schema.Close()) }

// idleParam is the server's limit for a transaction that asks nothing.
const idleParam = "idle_transaction_timeout"

// DB returns the connections, for what keeps tables of its own: sessions.
func (s *Store) DB() *sql.DB { return s.db }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

// Touched reports whether journal entries of some kinds lie behind one, up to another.
func (s *Store) Touched(ctx context.Context, after, to uint64, kinds ...string) (yes bool, err error) {
	args := []any{after, to}
	for _, k := range kinds {
		args = append(args, k)
	}
	err = s.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM journal WHERE seq > ? AND seq <= ? AND kind IN ("+marks(len(kinds))+"))", args...).Scan(&yes)
	return
}

// Clock returns the moment that it is by the clock of the database.
func (s *Store) Clock(ctx context.Context) (at time.Time, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT UTC_TIMESTAMP(6)").Scan(&at)
	return
}

// Writable reports whether changes can be written: the server answers on the connections of
// changes and is not read-only.
func (s *Store) Writable(ctx context.Context) error {
	var ro bool
	if err := s.writes.QueryRowContext(ctx, "SELECT @@read_only").Scan(&ro); err != nil {
		return err
	}
	if ro {
		return &mysql.MySQLError{Number: 1290, Message: "the server is read-only"}
	}
	return nil
}

func (s *Store) provider() (*goose.Provider, error) {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectMySQL, s.schema, again{dir})
}

// Migrate brings the schema up to date.
func (s *Store) Migrate(ctx context.Context) error {
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
		return fmt.Errorf("the schema is at version %d, and this program knows up to %d: it is older than the one that wrote the database; start the newer one", was, known[len(known)-1].Version)
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
	if _, err := s.db.ExecContext(ctx, "CREATE TABLE IF NOT EXISTS upgrade_step (name VARCHAR(40) CHARACTER SET ascii COLLATE ascii_nopad_bin NOT NULL PRIMARY KEY) ENGINE=InnoDB"); err != nil {
		return err
	}
	for _, u := range upgrades {
		owed := was > 0 && was < u.below
		if u.name == "reseal" && was >= 4 && was < 6 { // an earlier program may have been killed before it had
			if err := s.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM journal WHERE salt IS NULL AND digest IS NULL)").Scan(&owed); err != nil {
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
		if err := records(ctx, ready{t}, "SELECT id, doc FROM record WHERE kind = ? AND until_seq = ? ORDER BY id", []any{"link", open}, func(id string, doc []byte) error {
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

// passing are the versions that hold nothing which has to be kept: sessions, codes, what is
// being weighed, and what the next start finds out again.
var passing = map[int64]bool{6: true}

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
		if !passing[v] {
			return fmt.Sprintf("going below version %d would lose what it holds, of %d journal entries; start the older program on a copy of the database from before the upgrade", v, h.Seq), nil
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

// Head returns how far the database has come.
func (s *Store) Head(ctx context.Context) (h Head, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision)
	return
}

// HeadAt returns how far the database had come at a moment. For a moment before
// anything was recorded it is the end of the first change, and first is true.
func (s *Store) HeadAt(ctx context.Context, at time.Time) (h Head, first bool, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT seq, revision FROM journal WHERE at <= ? ORDER BY at DESC, seq DESC LIMIT 1", at.UTC()).Scan(&h.Seq, &h.Revision)
	if errors.Is(err, sql.ErrNoRows) {
		first = true
		err = s.db.QueryRowContext(ctx, "SELECT seq, revision FROM journal WHERE part_of = (SELECT MIN(part_of) FROM journal) ORDER BY seq DESC LIMIT 1").Scan(&h.Seq, &h.Revision)
	}
	if errors.Is(err, sql.ErrNoRows) {
		return Head{}, true, nil
	}
	return
}

// Tx is a change being written.
type Tx struct {
	tx       *sql.Tx
	ctx      context.Context
	head     Head
	seal     [32]byte
	at       time.Time
	who, why string
	first    uint64
	revised  bool
	keep     bool
	store    *Store
	patient  bool
	prepared map[string]*sql.Stmt
	looks    bool // of Look: nothing is written
}

// Change runs fn in one transaction that holds the head: no other change is
// written meanwhile, and all that was written is visible. What fn writes, it
// writes with a journal entry; if fn fails, nothing is written. A transaction
// that the database ended to resolve a deadlock is run again, so fn must be
// able to.
func (s *Store) Change(ctx context.Context, who, why string, fn func(*Tx) error) (Head, error) {
	done, err := s.turn(ctx)
	if err != nil {
		return Head{}, err
	}
	defer done()
	for try := 0; ; try++ {
		h, err := s.change(ctx, who, why, fn)
		var e *mysql.MySQLError
		if errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205) && try < 5 {
			continue
		}
		return h, err
	}
}

// Look runs fn on what is written when it begins, as Change does, and writes nothing: what fn
// would write takes its numbers, and is not there when fn reads it again. It holds up nobody and
// waits for nobody.
func (s *Store) Look(ctx context.Context, who, why string, fn func(*Tx) error) error {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return err
	}
	defer tx.Rollback()
	t := &Tx{store: s, tx: tx, ctx: ctx, who: who, why: why, at: s.now().UTC().Truncate(time.Microsecond), prepared: map[string]*sql.Stmt{}, looks: true}
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&t.head.Seq, &t.head.Revision); err != nil {
		return err
	}
	return fn(t)
}

func (s *Store) change(ctx context.Context, who, why string, fn func(*Tx) error) (Head, error) {
	tx, err := s.writes.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
	if err != nil {
		return Head{}, err
	}
	defer tx.Rollback()
	t := &Tx{store: s, tx: tx, ctx: ctx, who: who, why: why, at: s.now().UTC().Truncate(time.Microsecond), prepared: map[string]*sql.Stmt{}}
	var seal []byte
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision, seal FROM head WHERE one = 1 FOR UPDATE").Scan(&t.head.Seq, &t.head.Revision, &seal); err != nil {
		return Head{}, err
	}
	copy(t.seal[:], seal)
	before := t.head
	if err := fn(t); err != nil {
		return Head{}, err
	}
	if t.patient {
		if err := t.exec("SET SESSION " + idleParam + " = " + s.idle); err != nil {
			return Head{}, err
		}
	}
	if t.head == before {
		if t.keep {
			return before, tx.Commit()
		}
		return before, nil
	}
	if _, err := tx.ExecContext(ctx, "UPDATE head SET seq = ?, revision = ?, seal = ? WHERE one = 1", t.head.Seq, t.head.Revision, t.seal[:]); err != nil {
		return Head{}, err
	}
	if err := tx.Commit(); err != nil {
		if TroubleOf(err) == NoTrouble && !errors.Is(err, context.Canceled) {
			return Head{}, err
		}
		return s.outcome(ctx, t, err)
	}
	return t.head, nil
}

// ErrUnknown is returned where the database went away in the middle of committing, and does not
// come back in time to say whether the change was written.
var ErrUnknown = errors.New("it is not known whether it was done")

// resolvesIn is how long it is tried to find out what became of a change.
const resolvesIn = 5 * time.Second

// outcome finds out what became of a change whose commit was not answered. Its transaction holds
// the head until it is over, so whoever reads the head and waits for it reads what became of it.
func (s *Store) outcome(ctx context.Context, t *Tx, why error) (Head, error) {
	ctx, cancel := context.WithTimeout(context.WithoutCancel(ctx), resolvesIn)
	defer cancel()
	for ctx.Err() == nil {
		var head uint64
		var seal []byte
		err := s.writes.QueryRowContext(ctx, "SELECT seq FROM head WHERE one = 1 LOCK IN SHARE MODE").Scan(&head)
		if err == nil {
			err = s.writes.QueryRowContext(ctx, "SELECT seal FROM journal WHERE seq = ?", t.head.Seq).Scan(&seal)
		}
		switch {
		case err == nil && string(seal) == string(t.seal[:]):
			return t.head, nil
		case err == nil, errors.Is(err, sql.ErrNoRows):
			return Head{}, why // somebody else wrote there, or nobody
		}
		select {
		case <-ctx.Done():
		case <-time.After(200 * time.Millisecond):
		}
	}
	return Head{}, fmt.Errorf("%w: %w", ErrUnknown, why)
}

// Patient lets this change compute for an hour between two statements, for what reads or weighs
// whole worlds.
func (t *Tx) Patient() error {
	t.patient = true
	return t.exec("SET SESSION " + idleParam + " = 3600")
}

// Head returns the head before this change and all it has written so far.
func (t *Tx) Head() Head { return t.head }

func (t *Tx) stmt(q string) (*sql.Stmt, error) {
	if st := t.prepared[q]; st != nil {
		return st, nil
	}
	st, err := t.tx.PrepareContext(t.ctx, q)
	if err == nil {
		t.prepared[q] = st
	}
	return st, err
}

// exec writes.
func (t *Tx) exec(q string, args ...any) error {
	if t.looks {
		return nil
	}
	st, err := t.stmt(q)
	if err != nil {
		return err
	}
	_, err = st.ExecContext(t.ctx, args...)
	return err
}

// ready runs what a change asks over and over by statements that are prepared once.
type ready struct{ t *Tx }

func (k ready) QueryContext(ctx context.Context, q string, args ...any) (*sql.Rows, error) {
	st, err := k.t.stmt(q)
	if err != nil {
		return nil, err
	}
	return st.QueryContext(ctx, args...)
}

func (k ready) ExecContext(ctx context.Context, q string, args ...any) (sql.Result, error) {
	if k.t.looks {
		return driver.RowsAffected(1), nil
	}
	st, err := k.t.stmt(q)
	if err != nil {
		return nil, err
	}
	return st.ExecContext(ctx, args...)
}

// Note writes a journal entry. was and now are docs, nil where there was or is
// nothing. It returns the entry's sequence number.
func (t *Tx) Note(kind, id string, was, now []byte) (uint64, error) {
	if err := worldfile.CheckWhy(t.why); err != nil {
		return 0, err
	}
	if now != nil {
		if err := worldfile.CheckDoc(kind, id, now); err != nil {
			return 0, err
		}
	}
	t.head.Seq++
	if t.first == 0 {
		t.first = t.head.Seq
	}
	e := Entry{Seq: t.head.Seq, PartOf: t.first, At: t.at, Who: t.who, Kind: kind, ID: id, Was: was, Now: now, Why: t.why, Revision: t.head.Revision, Salt: newSalt()}
	t.seal = e.seal(t.seal)
	return e.Seq, t.exec("INSERT INTO journal (seq, part_of, at, who, kind, id, was, now, why, revision, salt, seal) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)",
		e.Seq, e.PartOf, e.At, e.Who, e.Kind, e.ID, nullable(was), nullable(now), e.Why, e.Revision, e.Salt, t.seal[:])
}

func nullable(b []byte) any {
	if b == nil {
		return nil
	}
	return string(b)
}

// revise begins a new revision of policy, once a change.
func (t *Tx) revise() error {
	if t.revised {
		return nil
	}
	t.revised = true
	t.head.Revision++
	return t.exec("INSERT INTO revision (number, at, who, why) VALUES (?,?,?,?)", t.head.Revision, t.at, t.who, t.why)
}

// PolicyDoc returns an entry of policy as it is kept now; nil where there is none.
func (t *Tx) PolicyDoc(kind, id string) (doc []byte, err error) {
	err = each(t.ctx, ready{t}, "SELECT doc FROM policy WHERE kind = ? AND id = ? AND until_revision = ?", []any{kind, id, open}, func(r *sql.Rows) error { return r.Scan(&doc) })
	return
}

// PutPolicy writes an entry of policy, or removes it where doc is nil. It
// reports whether that changes anything.
func (t *Tx) PutPolicy(kind, id string, doc []byte) (bool, error) {
	st, err := t.stmt("SELECT doc, from_revision FROM policy WHERE kind = ? AND id = ? AND until_revision = ?")
	if err != nil {
		return false, err
	}
	var was sql.NullString
	var from uint64
	if err := st.QueryRowContext(t.ctx, kind, id, open).Scan(&was, &from); err != nil && !errors.Is(err, sql.ErrNoRows) {
		return false, err
	}
	if was.Valid == (doc != nil) && was.String == string(doc) {
		return false, nil
	}
	if err := t.revise(); err != nil {
		return false, err
	}
	switch {
	case was.Valid && from == t.head.Revision: // written twice in one change
		err = t.exec("DELETE FROM policy WHERE kind = ? AND id = ? AND from_revision = ?", kind, id, from)
	case was.Valid:
		err = t.exec("UPDATE policy SET until_revision = ? WHERE kind = ? AND id = ? AND from_revision = ?", t.head.Revision, kind, id, from)
	}
	if err != nil {
		return false, err
	}
	if doc != nil {
		if err := t.exec("INSERT INTO policy (kind, id, from_revision, doc) VALUES (?,?,?,?)", kind, id, t.head.Revision, string(doc)); err != nil {
			return false, err
		}
	}
	var before []byte
	if was.Valid {
		before = []byte(was.String)
	}
	_, err = t.Note(kind, id, before, doc)
	return true, err
}

// Entry is one entry of the journal.
type Entry struct {
	Seq      uint64
	PartOf   uint64 // the first entry of the same change
	At       time.Time
	Who      string
	Kind, ID string
	Was, Now []byte // docs; nil where there was or is nothing
	Why      string
	Revision uint64 // of policy, once the change was made

	Salt   []byte // nil where the words are forgotten
	Digest []byte // of what it said, where they are
}

// digest is of what an entry says. The salt keeps it from being guessed once the words are
// gone.
func (e *Entry) digest() [32]byte {
	h := sha256.New()
	measured(h, e.Salt)
	e.words(h)
	return [32]byte(h.Sum(nil))
}

// measured writes bytes with their number before them.
func measured(h hash.Hash, b []byte) {
	var n [8]byte
	binary.BigEndian.PutUint64(n[:], uint64(len(b)))
	h.Write(n[:])
	h.Write(b)
}

// words writes what an entry says.
func (e *Entry) words(h hash.Hash) {
	for _, s := range []string{e.Who, e.Kind, e.ID, e.Why} {
		measured(h, []byte(s))
	}
	for _, b := range [][]byte{e.Was, e.Now} {
		if b == nil {
			h.Write([]byte{0})
			continue
		}
		h.Write([]byte{1})
		measured(h, b)
	}
}

// place writes where an entry stands in the journal.
func (e *Entry) place(h hash.Hash) {
	var n [8]byte
	for _, x := range []uint64{e.Seq, e.PartOf, uint64(e.At.UnixMicro()), e.Revision} {
		binary.BigEndian.PutUint64(n[:], x)
		h.Write(n[:])
	}
}

// seal chains an entry to the one before: altering, removing or inserting one
// breaks every seal behind it. Of an entry whose words are forgotten the digest of what it
// said stands in.
func (e *Entry) seal(before [32]byte) [32]byte {
	h := sha256.New()
	h.Write(before[:])
	e.place(h)
	if e.Salt == nil && e.Digest != nil {
		h.Write(e.Digest)
	} else {
		d := e.digest()
		h.Write(d[:])
	}
	return [32]byte(h.Sum(nil))
}

const entryColumns = "seq, part_of, at, who, kind, id, was, now, why, revision, salt, digest"

func scanEntry(r scanner) (e Entry, err error) {
	err = r.Scan(&e.Seq, &e.PartOf, &e.At, &e.Who, &e.Kind, &e.ID, &e.Was, &e.Now, &e.Why, &e.Revision, &e.Salt, &e.Digest)
	return
}

// JournalQuery says which entries are wanted, the newest first.
type JournalQuery struct {
	Before   uint64 // only entries older than this; 0 for all
	Kind, ID string // empty for all
	Who      string
	About    string // an address: its record, what it was given, what was carried out and asked for
	Limit    int
}

// likely takes the meaning from what LIKE would read otherwise.
var likely = strings.NewReplacer("!", "!!", "%", "!%", "_", "!_")

// Journal returns entries of the journal.
func (s *Store) Journal(ctx context.Context, q JournalQuery) ([]Entry, error) {
	where, args := "1=1", []any{}
	and := func(cond string, v any) { where += " AND " + cond; args = append(args, v) }
	if q.Before > 0 {
		and("seq < ?", q.Before)
	}
	if q.Kind != "" {
		and("kind = ?", q.Kind)
	}
	if q.ID != "" {
		and("id = ?", q.ID)
	}
	if q.Who != "" {
		and("who = ?", q.Who)
	}
	if q.About != "" { // grants are known by the party and more
		where += " AND kind IN ('guest', 'grant', 'step', 'wish', 'invitation', 'reminder', 'sign_in') AND (id = ? OR id LIKE ? ESCAPE '!')"
		args = append(args, q.About, likely.Replace(q.About)+" %")
	}
	var out []Entry
	err := each(ctx, s.db, "SELECT "+entryColumns+" FROM journal WHERE "+where+" ORDER BY seq DESC LIMIT ?", append(args, q.Limit), func(r *sql.Rows) error {
		e, err := scanEntry(r)
		out = append(out, e)
		return err
	})
	return out, err
}

// Broken says where the journal was altered.
type Broken struct {
	Seq    uint64
	Reason string
}

// VerifyJournal recomputes every seal. It returns how many entries hold, and
// where the first one does not.
func (s *Store) VerifyJournal(ctx context.Context) (n uint64, broken *Broken, err error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return 0, nil, err
	}
	defer tx.Rollback()
	var head uint64
	var last []byte
	var forgot []forgotten
	if err := tx.QueryRowContext(ctx, "SELECT seq, seal FROM head WHERE one = 1").Scan(&head, &last); err != nil {
		return 0, nil, err
	}
	rows, err := tx.QueryContext(ctx, "SELECT "+entryColumns+", seal FROM journal ORDER BY seq")
	if err != nil {
		return 0, nil, err
	}
	defer rows.Close()
	var before [32]byte
	blank := map[uint64][32]byte{} // entries without their words, by what they say now
	for rows.Next() {
		var e Entry
		var seal []byte
		if err := rows.Scan(&e.Seq, &e.PartOf, &e.At, &e.Who, &e.Kind, &e.ID, &e.Was, &e.Now, &e.Why, &e.Revision, &e.Salt, &e.Digest, &seal); err != nil {
			return n, nil, err
		}
		if e.Seq != n+1 {
			return n, &Broken{n + 1, "the entry is missing"}, nil
		}
		before = e.seal(before)
		if string(seal) != string(before[:]) {
			return n, &Broken{e.Seq, "the entry, or one before it, was altered"}, nil
		}
		if e.Salt == nil {
			blank[e.Seq] = e.digest()
		}
		if e.Kind == "forgotten" {
			var f forgotten
			if json.Unmarshal(e.Now, &f) != nil {
				return n, &Broken{e.Seq, "the entry, or one before it, was altered"}, nil
			}
			forgot = append(forgot, f)
		}
		n++
	}
	if err := rows.Err(); err != nil {
		return n, nil, err
	}
	if n != head {
		return n, &Broken{n + 1, "the last entries are missing"}, nil
	}
	if string(last) != string(before[:]) {
		return n, &Broken{n, "the head was altered"}, nil
	}
	return n, accountFor(blank, forgot), nil
}

// accountFor checks that every entry without its words is one that an entry of forgetting
// names, and says what it said then. An entry may lose more words later: the last counts.
func accountFor(blank map[uint64][32]byte, forgot []forgotten) *Broken {
	later := map[uint64]bool{}
	for i := len(forgot) - 1; i >= 0; i-- {
		h, whole := sha256.New(), true
		for _, text := range strings.Split(forgot[i].Entries, ",") {
			seq, err := strconv.ParseUint(text, 10, 64)
			if text == "" {
				continue
			}
			d, ok := blank[seq]
			if err != nil || !ok {
				return &Broken{seq, "its words were put back"}
			}
			whole = whole && !later[seq]
			later[seq] = true
			h.Write(d[:])
		}
		if whole && hex.EncodeToString(h.Sum(nil)) != forgot[i].Digest {
			seq, _ := strconv.ParseUint(strings.Split(forgot[i].Entries, ",")[0], 10, 64)
			return &Broken{seq, "the entry was altered after its words were forgotten"}
		}
	}
	for seq := range blank {
		if !later[seq] {
			return &Broken{seq, "the entry, or one before it, was altered"}
		}
	}
	return nil
}

// Revision is one published state of policy.
type Revision struct {
	Number   uint64
	At       time.Time
	Who, Why string
}

// Revisions lists revisions before one, the newest first; 0 for all.
func (s *Store) Revisions(ctx context.Context, before uint64, limit int) ([]Revision, error) {
	if before == 0 {
		before = open
	}
	out := []Revision{}
	err := each(ctx, s.db, "SELECT number, at, who, why FROM revision WHERE number < ? ORDER BY number DESC LIMIT ?", []any{before, limit}, func(r *sql.Rows) error {
		var x Revision
		err := r.Scan(&x.Number, &x.At, &x.Who, &x.Why)
		out = append(out, x)
		return err
	})
	return out, err
}

// PolicyDocs returns the policy of a revision entry by entry.
func (s *Store) PolicyDocs(ctx context.Context, number uint64) (draft.Docs, error) {
	out := draft.Docs{}
	err := each(ctx, s.db, "SELECT kind, id, doc FROM policy WHERE from_revision <= ? AND until_revision > ?", []any{number, number}, func(r *sql.Rows) error {
		var k draft.Key
		var doc []byte
		err := r.Scan(&k.Kind, &k.ID, &doc)
		out[k] = doc
		return err
	})
	return out, err
}

// Published hands over what changes that published revisions after one wrote to spaces,
// items and meetings, in the order in which they did.
func (s *Store) Published(ctx context.Context, after uint64, fn func(*Entry) error) error {
	return each(ctx, s.db, `SELECT seq, kind, id, was, now FROM journal WHERE kind IN ('space', 'item', 'meeting') AND revision > ?
		AND part_of IN (SELECT part_of FROM journal WHERE revision > ? AND kind IN ('organisation', 'settings', 'rule', 'partner', 'bar', 'personal', 'exception', 'bundle', 'expectation')) ORDER BY seq`,
		[]any{after, after}, func(r *sql.Rows) error {
			var e Entry
			if err := r.Scan(&e.Seq, &e.Kind, &e.ID, &e.Was, &e.Now); err != nil {
				return err
			}
			return fn(&e)
		})
}

// Because changes the reason of what is written from now on.
func (t *Tx) Because(why string) { t.why = why }

// Who returns who writes.
func (t *Tx) Who() string { return t.who }

// Why returns the reason of what is written.
func (t *Tx) Why() string { return t.why }

// Context returns the context of the change.
func (t *Tx) Context() context.Context { return t.ctx }

// Commit keeps what a change writes besides the journal, such as mail and how far steps
// have been carried out, where it writes no entry.
func (t *Tx) Commit() error {
	t.keep = true
	return nil
}
