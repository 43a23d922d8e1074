package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"hash"
	"strconv"
	"strings"
	"time"

	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/worldfile"
)

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
		where += ` AND (kind IN ('guest', 'grant', 'step', 'wish', 'invitation', 'reminder', 'sign_in') AND (id = ? OR id LIKE ? ESCAPE '!')
			OR kind = 'request' AND JSON_VALUE(now, '$.sign_up.address') = ?)`
		args = append(args, q.About, likely.Replace(q.About)+" %", q.About)
	}
	var out []Entry
	err := each(
		ctx,
		s.db,
		"SELECT "+entryColumns+" FROM journal WHERE "+where+" ORDER BY seq DESC LIMIT ?",
		append(args, q.Limit),
		func(r *sql.Rows) error {
			e, err := scanEntry(r)
			out = append(out, e)
			return err
		},
	)
	return out, err
}

// StepsSince counts for how many records a dated step of some kinds was carried out from a moment
// on; not counted are steps that were due up to another moment.
func (s *Store) StepsSince(ctx context.Context, from, after moment.Moment, kinds []dated.Kind) (n int, err error) {
	args := []any{from.Time()}
	for _, k := range kinds {
		args = append(args, k.String())
	}
	due := ""
	if after != moment.Always {
		due = after.String()
	}
	err = s.db.QueryRowContext(ctx,
		"SELECT COUNT(DISTINCT id) FROM journal WHERE kind = 'step' AND at >= ? AND JSON_VALUE(now, '$.kind') IN ("+
			marks(len(kinds))+") AND JSON_VALUE(now, '$.at') > ?", append(args, due)...).Scan(&n)
	return n, err
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
		if err := rows.Scan(&e.Seq, &e.PartOf, &e.At, &e.Who, &e.Kind, &e.ID, &e.Was, &e.Now, &e.Why, &e.Revision, &e.Salt, &e.Digest,
			&seal); err != nil {
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
	err := each(
		ctx,
		s.db,
		"SELECT number, at, who, why FROM revision WHERE number < ? ORDER BY number DESC LIMIT ?",
		[]any{before, limit},
		func(r *sql.Rows) error {
			var x Revision
			err := r.Scan(&x.Number, &x.At, &x.Who, &x.Why)
			out = append(out, x)
			return err
		},
	)
	return out, err
}

// PolicyDocs returns the policy of a revision entry by entry.
func (s *Store) PolicyDocs(ctx context.Context, number uint64) (draft.Docs, error) {
	out := draft.Docs{}
	err := each(
		ctx,
		s.db,
		"SELECT kind, id, doc FROM policy WHERE from_revision <= ? AND until_revision > ?",
		[]any{number, number},
		func(r *sql.Rows) error {
			var k draft.Key
			var doc []byte
			err := r.Scan(&k.Kind, &k.ID, &doc)
			out[k] = doc
			return err
		},
	)
	return out, err
}

// Published hands over what changes that published revisions after one wrote to spaces,
// items and meetings, in the order in which they did.
func (s *Store) Published(ctx context.Context, after uint64, fn func(*Entry) error) error {
	kinds := worldfile.StoredPolicy()
	args := []any{after, after}
	for _, k := range kinds {
		args = append(args, k)
	}
	return each(ctx, s.db, `SELECT seq, kind, id, was, now FROM journal WHERE kind IN ('space', 'item', 'meeting') AND revision > ?
		AND part_of IN (SELECT part_of FROM journal WHERE revision > ? AND kind IN (?`+strings.Repeat(", ?", len(kinds)-1)+`)) ORDER BY seq`,
		args, func(r *sql.Rows) error {
			var e Entry
			if err := r.Scan(&e.Seq, &e.Kind, &e.ID, &e.Was, &e.Now); err != nil {
				return err
			}
			return fn(&e)
		})
}
