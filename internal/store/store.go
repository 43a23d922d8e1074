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
	"embed"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"math"
	"strconv"
	"strings"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/pressly/goose/v3"

	"wexillum.example/internal/core/draft"
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
	db  *sql.DB
	now func() time.Time
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
	conn, err := mysql.NewConnector(c)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(conn)
	db.SetMaxOpenConns(16)
	db.SetMaxIdleConns(8)
	db.SetConnMaxIdleTime(5 * time.Minute)
	if now == nil {
		now = time.Now
	}
	if err := db.PingContext(ctx); err != nil {
		_ = db.Close()
		return nil, fmt.Errorf("the database does not answer: %w", err)
	}
	return &Store{db: db, now: now}, nil
}

// Close ends all connections.
func (s *Store) Close() error { return s.db.Close() }

// DB returns the connections, for what keeps tables of its own: sessions.
func (s *Store) DB() *sql.DB { return s.db }

// Ping reports whether the database answers.
func (s *Store) Ping(ctx context.Context) error { return s.db.PingContext(ctx) }

func (s *Store) provider() (*goose.Provider, error) {
	dir, err := fs.Sub(migrations, "migrations")
	if err != nil {
		return nil, err
	}
	return goose.NewProvider(goose.DialectMySQL, s.db, dir)
}

// Migrate brings the schema up to date.
func (s *Store) Migrate(ctx context.Context) error {
	p, err := s.provider()
	if err != nil {
		return err
	}
	was, err := p.GetDBVersion(ctx)
	if err != nil {
		return err
	}
	if _, err := p.Up(ctx); err != nil {
		return fmt.Errorf("the schema cannot be brought up to date: %w", err)
	}
	if was > 0 && was < 4 {
		return s.reseal(ctx)
	}
	return nil
}

// MigrateDown takes the schema back to a version; 0 removes every table and all
// that is in them.
func (s *Store) MigrateDown(ctx context.Context, to int64) error {
	p, err := s.provider()
	if err != nil {
		return err
	}
	_, err = p.DownTo(ctx, to)
	return err
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
	prepared map[string]*sql.Stmt
}

// Change runs fn in one transaction that holds the head: no other change is
// written meanwhile, and all that was written is visible. What fn writes, it
// writes with a journal entry; if fn fails, nothing is written. A transaction
// that the database ended to resolve a deadlock is run again, so fn must be
// able to.
func (s *Store) Change(ctx context.Context, who, why string, fn func(*Tx) error) (Head, error) {
	for try := 0; ; try++ {
		h, err := s.change(ctx, who, why, fn)
		var e *mysql.MySQLError
		if errors.As(err, &e) && (e.Number == 1213 || e.Number == 1205) && try < 5 {
			continue
		}
		return h, err
	}
}

func (s *Store) change(ctx context.Context, who, why string, fn func(*Tx) error) (Head, error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelReadCommitted})
	if err != nil {
		return Head{}, err
	}
	defer tx.Rollback()
	t := &Tx{tx: tx, ctx: ctx, who: who, why: why, at: s.now().UTC().Truncate(time.Microsecond), prepared: map[string]*sql.Stmt{}}
	var seal []byte
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision, seal FROM head WHERE one = 1 FOR UPDATE").Scan(&t.head.Seq, &t.head.Revision, &seal); err != nil {
		return Head{}, err
	}
	copy(t.seal[:], seal)
	before := t.head
	if err := fn(t); err != nil {
		return Head{}, err
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
		return Head{}, err
	}
	return t.head, nil
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

func (t *Tx) exec(q string, args ...any) error {
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
	st, err := k.t.stmt(q)
	if err != nil {
		return nil, err
	}
	return st.ExecContext(ctx, args...)
}

// Note writes a journal entry. was and now are docs, nil where there was or is
// nothing. It returns the entry's sequence number.
func (t *Tx) Note(kind, id string, was, now []byte) (uint64, error) {
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
	var n [8]byte
	put := func(b []byte) {
		binary.BigEndian.PutUint64(n[:], uint64(len(b)))
		h.Write(n[:])
		h.Write(b)
	}
	put(e.Salt)
	for _, s := range []string{e.Who, e.Kind, e.ID, e.Why} {
		put([]byte(s))
	}
	for _, b := range [][]byte{e.Was, e.Now} {
		if b == nil {
			h.Write([]byte{0})
			continue
		}
		h.Write([]byte{1})
		put(b)
	}
	return [32]byte(h.Sum(nil))
}

// seal chains an entry to the one before: altering, removing or inserting one
// breaks every seal behind it. Of an entry whose words are forgotten the digest of what it
// said stands in.
func (e *Entry) seal(before [32]byte) [32]byte {
	h := sha256.New()
	h.Write(before[:])
	var n [8]byte
	for _, x := range []uint64{e.Seq, e.PartOf, uint64(e.At.UnixMicro()), e.Revision} {
		binary.BigEndian.PutUint64(n[:], x)
		h.Write(n[:])
	}
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
		where += " AND kind IN ('guest', 'grant', 'step', 'wish', 'invitation', 'reminder') AND (id = ? OR id LIKE ? ESCAPE '!')"
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

// Context returns the context of the change.
func (t *Tx) Context() context.Context { return t.ctx }

// Commit keeps what a change writes besides the journal, such as mail and how far steps
// have been carried out, where it writes no entry.
func (t *Tx) Commit() error {
	t.keep = true
	return nil
}
