// Package store keeps policy, inventory, accounts and the journal in MariaDB.
//
// Every change is one transaction with its journal entries inside. Policy is
// immutable revisions; of inventory every version is kept, from the journal
// entry that wrote it until the one that replaced it. The package decides
// nothing: it is told what to write.
package store

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"math"
	"math/rand/v2"
	"sync/atomic"
	"time"
	"wexillum.example/internal/vault"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/traces"
	"wexillum.example/internal/worldfile"
)

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
	vault  *vault.Vault // seals what must be readable again; nil: it is kept in clear

	watch   *watch        // of several nodes; nil for one server
	several bool          // nodes of a cluster: what one does may have to be done again
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
	all := addresses(c)
	several := len(all) > 1
	var w *watch
	if several { // whoever goes on at another node reads what was written at the one before
		if w, err = newWatch(c, all); err != nil {
			return nil, err
		}
		c.Params["wsrep_sync_wait"] = "1"
	}
	open := func(most int, c *mysql.Config) (*sql.DB, error) {
		conn, err := connector(c, w)
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
		w.end()
		_, _, _ = db.Close(), writes.Close(), schema.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	return &Store{db: db, writes: writes, schema: schema, idle: c.Params[idleParam], now: now, slot: make(chan struct{}, 1), several: several,
		watch: w}, nil
}

// Close ends all connections.
func (s *Store) Close() error {
	s.watch.end()
	return errors.Join(s.db.Close(), s.writes.Close(), s.schema.Close())
}

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
	err = s.db.QueryRowContext(ctx, "SELECT EXISTS (SELECT 1 FROM journal WHERE seq > ? AND seq <= ? AND kind IN ("+marks(len(kinds))+"))",
		args...).
		Scan(&yes)
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

// Head returns how far the database has come.
func (s *Store) Head(ctx context.Context) (h Head, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision)
	return
}

// HeadAt returns how far the database had come at a moment. For a moment before
// anything was recorded it is the end of the first change, and first is true.
func (s *Store) HeadAt(ctx context.Context, at time.Time) (h Head, first bool, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT seq, revision FROM journal WHERE at <= ? ORDER BY at DESC, seq DESC LIMIT 1", at.UTC()).
		Scan(&h.Seq, &h.Revision)
	if errors.Is(err, sql.ErrNoRows) {
		first = true
		err = s.db.QueryRowContext(ctx,
			"SELECT seq, revision FROM journal WHERE part_of = (SELECT MIN(part_of) FROM journal) ORDER BY seq DESC LIMIT 1").
			Scan(&h.Seq, &h.Revision)
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
	looks    bool    // of Look: nothing is written
	noted    []Entry // of Look: the first of what would have been
}

// Change runs fn in one transaction that holds the head: no other change is
// written meanwhile, and all that was written is visible. What fn writes, it
// writes with a journal entry; if fn fails, nothing is written. A transaction
// that the database ended to resolve a deadlock is run again, so fn must be
// able to.
func (s *Store) Change(ctx context.Context, who, why string, fn func(*Tx) error) (h Head, err error) {
	ctx, span := traces.Begun(ctx, "change")
	defer func() { span.Done(err) }()
	done, err := s.turn(ctx)
	if err != nil {
		return Head{}, err
	}
	defer done()
	span.Mark("its turn")
	until := time.Now().Add(waitsFor)
	for try := 0; ; try++ {
		h, err = s.change(ctx, who, why, fn)
		if err == nil || !s.again(err, try) || try >= 5 && time.Now().After(until) || ctx.Err() != nil {
			return h, err
		}
		// Others that meet the same come again at other moments.
		pause := min(time.Second, 2*time.Millisecond<<min(try, 10))
		select {
		case <-ctx.Done():
			return h, err
		case <-time.After(pause/2 + rand.N(pause)):
		}
	}
}

// again reports whether a change was ended that may be done if it is run again: by a deadlock, by waiting too long for a lock; and where
// there are several nodes, because another node was first, its node left the others or is gone. What was committed is never run again:
// where that is not known, the error says so.
func (s *Store) again(err error, tried int) bool {
	var e *mysql.MySQLError
	if errors.Is(err, ErrUnknown) {
		return false
	}
	if errors.As(err, &e) {
		switch e.Number {
		case 1213, 1205:
			return true
		case 1062: // what another node wrote meanwhile takes a number that was thought to be free
			return s.several && tried < 3
		}
	}
	return s.several && TroubleOf(err) == Away
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
	t := &Tx{
		store:    s,
		tx:       tx,
		ctx:      ctx,
		who:      who,
		why:      why,
		at:       s.now().UTC().Truncate(time.Microsecond),
		prepared: map[string]*sql.Stmt{},
		looks:    true,
	}
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
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision, seal FROM head WHERE one = 1 FOR UPDATE").Scan(&t.head.Seq, &t.head.Revision,
		&seal); err != nil {
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
	if _, err := tx.ExecContext(ctx, "UPDATE head SET seq = ?, revision = ?, seal = ? WHERE one = 1", t.head.Seq, t.head.Revision,
		t.seal[:]); err != nil {
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
	e := Entry{
		Seq:      t.head.Seq,
		PartOf:   t.first,
		At:       t.at,
		Who:      t.who,
		Kind:     kind,
		ID:       id,
		Was:      was,
		Now:      now,
		Why:      t.why,
		Revision: t.head.Revision,
		Salt:     newSalt(),
	}
	if t.looks && len(t.noted) < notedAtMost {
		t.noted = append(t.noted, e)
	}
	t.seal = e.seal(t.seal)
	return e.Seq, t.exec(
		"INSERT INTO journal (seq, part_of, at, who, kind, id, was, now, why, revision, salt, seal) VALUES (?,?,?,?,?,?,?,?,?,?,?,?)",
		e.Seq,
		e.PartOf,
		e.At,
		e.Who,
		e.Kind,
		e.ID,
		nullable(was),
		nullable(now),
		e.Why,
		e.Revision,
		e.Salt,
		t.seal[:],
	)
}

// notedAtMost is how many entries are kept of what is only looked at.
const notedAtMost = 1000

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
	err = each(
		t.ctx,
		ready{t},
		"SELECT doc FROM policy WHERE kind = ? AND id = ? AND until_revision = ?",
		[]any{kind, id, open},
		func(r *sql.Rows) error { return r.Scan(&doc) },
	)
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
		err = t.exec(
			"UPDATE policy SET until_revision = ? WHERE kind = ? AND id = ? AND from_revision = ?",
			t.head.Revision,
			kind,
			id,
			from,
		)
	}
	if err != nil {
		return false, err
	}
	if doc != nil {
		if err := t.exec("INSERT INTO policy (kind, id, from_revision, doc) VALUES (?,?,?,?)", kind, id, t.head.Revision,
			string(doc)); err != nil {
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
