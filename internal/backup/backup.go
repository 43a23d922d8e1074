// Package backup writes everything that a database holds into one encrypted file while the service goes on writing, and brings it back.
//
// What is in the file is SQL, one statement a line, compressed (Zstandard, RFC 8878) and encrypted to the public halves of keys
// (age-encryption.org/v1): whoever has a private half reads it with standard programs, without this one. The first line says what it is of,
// the last one what has to come out: rows by table, the head of the journal, and what was answered to a thousand questions.
package backup

import (
	"bufio"
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"hash"
	"io"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/go-sql-driver/mysql"
	"github.com/klauspost/compress/zstd"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// Header is the first line of a backup.
type Header struct {
	Version  int       `json:"version"`            // of the form of the file
	At       time.Time `json:"at"`                 // of the state that it holds
	Schema   int64     `json:"schema"`             // of the database
	Seq      uint64    `json:"seq"`                // the last journal entry
	Revision uint64    `json:"revision"`           // of policy
	Seal     string    `json:"seal"`               // of that entry, in hexadecimal
	LogFile  string    `json:"log_file,omitempty"` // of the server's binary log, where it keeps one: what came after begins there
	LogAt    uint64    `json:"log_at,omitempty"`
}

// Trailer is the last line: what has to come out when it is brought back.
type Trailer struct {
	Rows    map[string]int64 `json:"rows"`    // by table
	Answers []Answered       `json:"answers"` // what was answered at the moment of the header
	Digest  string           `json:"digest"`  // SHA-256 of all lines before, in hexadecimal
}

const (
	format     = 1
	beginning  = "-- wexillum backup "
	ending     = "-- end "
	batchBytes = 256 << 10 // of one INSERT
	maxLine    = 256 << 20 // more than any statement has
)

// Recipients reads the public halves of keys, separated by commas.
func Recipients(text string) (out []age.Recipient, err error) {
	for _, w := range strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' }) {
		r, err := age.ParseX25519Recipient(w)
		if err != nil {
			return nil, fmt.Errorf("%q is no public half of a key (age1…); wexillum backup key makes one", w)
		}
		out = append(out, r)
	}
	return out, nil
}

// Made says what a backup that was written holds.
type Made struct {
	Header
	Tables int
	Rows   int64
}

// Make writes a backup of the database of st, as it is at one moment, to whoever holds the private half of one of the keys. The service and
// others may write meanwhile; only an upgrade of the schema waits. progress may be nil; it is told of the rows so far.
func Make(ctx context.Context, st *store.Store, dsn string, to []age.Recipient, out io.Writer, progress func(rows int64)) (m Made,
	err error) {
	if len(to) == 0 {
		return m, errors.New("a backup is encrypted to a key: name its public half")
	}
	enc, err := age.Encrypt(out, to...)
	if err != nil {
		return m, err
	}
	pack, err := zstd.NewWriter(enc)
	if err != nil {
		return m, err
	}
	w := &writer{sum: sha256.New(), out: bufio.NewWriterSize(pack, 1<<20)}
	if err := st.Unmigrated(ctx, func() error { // nobody changes tables while they are read
		m, err = w.all(ctx, st, dsn, progress)
		return err
	}); err != nil {
		return m, err
	}
	for _, end := range []func() error{w.out.Flush, pack.Close, enc.Close} {
		if err := end(); err != nil {
			return m, err
		}
	}
	return m, nil
}

// writer writes lines, and sums up what they say.
type writer struct {
	sum hash.Hash
	out *bufio.Writer
}

func (w *writer) line(text []byte) error {
	if bytes.IndexByte(text, '\n') >= 0 {
		return errors.New("a statement has more than one line")
	}
	for _, part := range [][]byte{text, {'\n'}} {
		_, _ = w.sum.Write(part)
		if _, err := w.out.Write(part); err != nil {
			return err
		}
	}
	return nil
}

func (w *writer) said(start string, x any) error {
	text, err := json.Marshal(x)
	if err != nil {
		return err
	}
	return w.line(append([]byte(start), text...))
}

// connect opens one connection to a database, as its tables hold it: moments are texts and not read. end closes it.
func connect(ctx context.Context, dsn string) (c *sql.Conn, end func(), err error) {
	cfg, err := mysql.ParseDSN(dsn)
	if err != nil {
		return nil, nil, fmt.Errorf("the data source name of the database is malformed: %w", err)
	}
	cfg.ParseTime, cfg.Collation, cfg.MaxAllowedPacket = false, "utf8mb4_bin", 0 // what the server takes
	cfg.Params = map[string]string{"time_zone": "'+00:00'"}
	conn, err := store.Connector(cfg)
	if err != nil {
		return nil, nil, err
	}
	db := sql.OpenDB(conn)
	if c, err = db.Conn(ctx); err != nil {
		return nil, nil, errors.Join(err, db.Close())
	}
	return c, func() { _, _ = c.Close(), db.Close() }, nil
}

func (w *writer) all(ctx context.Context, st *store.Store, dsn string, progress func(int64)) (m Made, err error) {
	c, end, err := connect(ctx, dsn)
	if err != nil {
		return m, err
	}
	defer end()
	for _, q := range []string{
		"SET SESSION TRANSACTION ISOLATION LEVEL REPEATABLE READ",
		"SET SESSION idle_transaction_timeout = 0, net_write_timeout = 3600",
		"START TRANSACTION WITH CONSISTENT SNAPSHOT, READ ONLY",
	} {
		if _, err := c.ExecContext(ctx, q); err != nil {
			return m, err
		}
	}
	m.Header, err = header(ctx, c, st)
	if err != nil {
		return m, err
	}
	if err := w.said(beginning, m.Header); err != nil {
		return m, err
	}
	// Whoever runs the lines with the client of the database gets what we get.
	if err := w.line([]byte(strings.Join(settled, ", ") + ";")); err != nil {
		return m, err
	}
	names, err := tables(ctx, c)
	if err != nil {
		return m, err
	}
	t := Trailer{Rows: map[string]int64{}}
	for _, name := range names {
		n, err := w.table(ctx, c, name, func(n int64) {
			if progress != nil {
				progress(m.Rows + n)
			}
		})
		if err != nil {
			return m, fmt.Errorf("table %s: %w", name, err)
		}
		t.Rows[name] = n
		m.Rows += n
		m.Tables++
	}
	if t.Answers, err = answers(ctx, st, store.Head{Seq: m.Seq, Revision: m.Revision}, moment.Of(m.At)); err != nil {
		return m, fmt.Errorf("a thousand questions: %w", err)
	}
	t.Digest = hex.EncodeToString(w.sum.Sum(nil))
	return m, w.said(ending, t)
}

// settled is how the lines are meant to be read.
var settled = []string{"SET foreign_key_checks = 0", "unique_checks = 0", "sql_mode = 'NO_BACKSLASH_ESCAPES,NO_AUTO_VALUE_ON_ZERO'",
	"time_zone = '+00:00'", "character_set_client = utf8mb4", "character_set_connection = utf8mb4"}

func header(ctx context.Context, c *sql.Conn, st *store.Store) (h Header, err error) {
	h.Version = format
	var seal []byte
	var at string
	if err = c.QueryRowContext(ctx, "SELECT seq, revision, seal, UTC_TIMESTAMP(6) FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision, &seal,
		&at); err != nil {
		return h, err
	}
	h.Seal = hex.EncodeToString(seal)
	if h.At, err = time.Parse("2006-01-02 15:04:05.999999", at); err != nil {
		return h, err
	}
	if h.Schema, err = st.SchemaVersion(ctx); err != nil {
		return h, err
	}
	// Where the server keeps a log of what is written, this is where the snapshot stands in it.
	rows, err := c.QueryContext(ctx, "SHOW STATUS LIKE 'binlog_snapshot_%'")
	if err != nil {
		return h, err
	}
	defer rows.Close()
	for rows.Next() {
		var name, value string
		if err := rows.Scan(&name, &value); err != nil {
			return h, err
		}
		switch strings.ToLower(name) {
		case "binlog_snapshot_file":
			h.LogFile = value
		case "binlog_snapshot_position":
			_, _ = fmt.Sscan(value, &h.LogAt)
		}
	}
	if h.LogFile == "" {
		h.LogAt = 0
	}
	return h, rows.Err()
}

// last are tables that come behind all others: without them nothing looks like a database of ours.
var last = []string{"head", "goose_db_version"}

func tables(ctx context.Context, c *sql.Conn) (out []string, err error) {
	rows, err := c.QueryContext(ctx,
		"SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE() AND table_type = 'BASE TABLE' ORDER BY table_name")
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			return nil, err
		}
		if !slices.Contains(last, name) {
			out = append(out, name)
		}
	}
	return append(out, last...), rows.Err()
}

func quoted(name string) string { return "`" + strings.ReplaceAll(name, "`", "``") + "`" }

// table writes one table: how it is made, and its rows.
func (w *writer) table(ctx context.Context, c *sql.Conn, name string, progress func(int64)) (n int64, err error) {
	var as, text string
	if err := c.QueryRowContext(ctx, "SHOW CREATE TABLE "+quoted(name)).Scan(&as, &text); err != nil {
		return 0, err
	}
	if err := w.line([]byte(strings.Join(strings.Fields(text), " ") + ";")); err != nil {
		return 0, err
	}
	rows, err := c.QueryContext(ctx,
		"SELECT column_name, data_type FROM information_schema.columns WHERE table_schema = DATABASE() AND table_name = ? AND COALESCE(generation_expression, '') = '' ORDER BY ordinal_position",
		name)
	if err != nil {
		return 0, err
	}
	defer rows.Close()
	var columns []string
	var kinds []kind
	for rows.Next() {
		var column, of string
		if err := rows.Scan(&column, &of); err != nil {
			return 0, err
		}
		columns, kinds = append(columns, quoted(column)), append(kinds, kindOf(of))
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return 0, err
	}
	begin := "INSERT INTO " + quoted(name) + " (" + strings.Join(columns, ", ") + ") VALUES "
	if rows, err = c.QueryContext(ctx, "SELECT "+strings.Join(columns, ", ")+" FROM "+quoted(name)); err != nil {
		return 0, err
	}
	defer rows.Close()
	row, into := make([]sql.RawBytes, len(columns)), make([]any, len(columns))
	for i := range row {
		into[i] = &row[i]
	}
	var b []byte
	for ; rows.Next(); n++ {
		if err := rows.Scan(into...); err != nil {
			return n, err
		}
		if len(b) == 0 {
			b = append(b, begin...)
		} else {
			b = append(b, ',')
		}
		for i, v := range row {
			b = append(b, "(,"[min(i, 1)])
			b = kinds[i].value(b, v)
		}
		if b = append(b, ')'); len(b) >= batchBytes {
			if err := w.line(append(b, ';')); err != nil {
				return n, err
			}
			b = b[:0]
			progress(n)
		}
	}
	if len(b) > 0 {
		if err := w.line(append(b, ';')); err != nil {
			return n, err
		}
	}
	return n, rows.Err()
}

// kind is how the values of a column are written.
type kind uint8

const (
	words kind = iota
	number
	binary
)

func kindOf(of string) kind {
	switch of {
	case "tinyint", "smallint", "mediumint", "int", "bigint", "decimal", "year":
		return number
	case "binary", "varbinary", "tinyblob", "blob", "mediumblob", "longblob", "bit":
		return binary
	}
	return words
}

// value writes a value as SQL has it, in one line.
func (k kind) value(b, v []byte) []byte {
	switch {
	case v == nil:
		return append(b, "NULL"...)
	case k == number:
		return append(b, v...)
	case len(v) == 0:
		return append(b, "''"...)
	case k == binary || bytes.ContainsAny(v, "\x00\n\r\x1a"):
		b = append(b, "x'"...)
		b = hex.AppendEncode(b, v)
		return append(b, '\'')
	}
	b = append(b, '\'')
	b = append(b, bytes.ReplaceAll(v, []byte("'"), []byte("''"))...)
	return append(b, '\'')
}
