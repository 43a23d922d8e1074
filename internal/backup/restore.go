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
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"filippo.io/age"
	"github.com/go-sql-driver/mysql"
	"github.com/klauspost/compress/zstd"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// Identities reads the private halves of keys from a file, one a line. A file that others than its owner may read is refused.
func Identities(path string) ([]age.Identity, error) {
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if st.Mode().Perm()&0o077 != 0 {
		return nil, fmt.Errorf("%s may be read by others than its owner: chmod 600 %s", path, path)
	}
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	ids, err := age.ParseIdentities(f)
	if err != nil {
		return nil, fmt.Errorf("%s: %w; it holds the private half of a key, AGE-SECRET-KEY-1…, as wexillum backup key writes it", path, err)
	}
	return ids, nil
}

// Lines are the lines of a backup, read one by one.
type Lines struct {
	Header
	in   *bufio.Reader
	pack *zstd.Decoder
	sum  interface {
		io.Writer
		Sum([]byte) []byte
	}
}

// ErrCut is returned for a backup that ends before its end.
var ErrCut = errors.New("the backup is cut off: its end is missing")

// Open begins to read a backup. Lines.Close is to be called.
func Open(in io.Reader, ids []age.Identity) (*Lines, error) {
	clear, err := age.Decrypt(in, ids...)
	var other *age.NoIdentityMatchError
	switch {
	case errors.As(err, &other):
		return nil, errors.New("the backup is encrypted to other keys than the one at hand")
	case err != nil:
		return nil, fmt.Errorf("this is no backup, or it is damaged: %w", err)
	}
	pack, err := zstd.NewReader(clear)
	if err != nil {
		return nil, err
	}
	l := &Lines{in: bufio.NewReaderSize(pack, 1<<20), pack: pack, sum: sha256.New()}
	first, err := l.line()
	if err != nil {
		pack.Close()
		return nil, err
	}
	rest, ok := bytes.CutPrefix(first, []byte(beginning))
	if !ok || json.Unmarshal(rest, &l.Header) != nil {
		pack.Close()
		return nil, errors.New("this is no backup: its first line says nothing of one")
	}
	if l.Version > format {
		pack.Close()
		return nil,
			fmt.Errorf("the backup is of form %d, and this program knows up to %d: bring it back with the program that made it, or a newer one",
				l.Version, format)
	}
	return l, nil
}

// Close ends reading.
func (l *Lines) Close() { l.pack.Close() }

// line returns the next line without its end, which stays good until the next one.
func (l *Lines) line() ([]byte, error) {
	text, err := l.in.ReadSlice('\n')
	if errors.Is(err, bufio.ErrBufferFull) {
		long := bytes.Clone(text)
		for errors.Is(err, bufio.ErrBufferFull) && len(long) < maxLine {
			text, err = l.in.ReadSlice('\n')
			long = append(long, text...)
		}
		text = long
	}
	switch {
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return nil, ErrCut
	case err != nil:
		return nil, fmt.Errorf("the backup is damaged: %w", err)
	}
	if !bytes.HasPrefix(text, []byte(ending)) {
		_, _ = l.sum.Write(text)
	}
	return text[:len(text)-1], nil
}

// Each hands over every statement, and returns what the end says; ErrCut where there is no end.
func (l *Lines) Each(do func(statement []byte) error) (t Trailer, err error) {
	for {
		text, err := l.line()
		if err != nil {
			return t, err
		}
		if rest, ok := bytes.CutPrefix(text, []byte(ending)); ok {
			if err := json.Unmarshal(rest, &t); err != nil {
				return t, fmt.Errorf("the end of the backup: %w", err)
			}
			if got := hex.EncodeToString(l.sum.Sum(nil)); got != t.Digest {
				return t, errors.New("the backup is damaged: its lines have another digest than its end says")
			}
			// What is behind the end, and whether it was decrypted whole.
			if n, err := io.Copy(io.Discard, l.in); err != nil || n > 0 {
				return t, fmt.Errorf("behind the end of the backup: %d bytes, %w", n, err)
			}
			return t, nil
		}
		if err := do(text); err != nil {
			return t, err
		}
	}
}

// commits is after how many bytes of statements what was written counts.
const commits = 8 << 20

// Restore brings a backup back to a database that holds nothing; what is left to do is EndRestore of the store. Where it breaks off, no
// service starts on what is there.
func Restore(ctx context.Context, dsn string, l *Lines, again bool, progress func(bytes int64)) (t Trailer, err error) {
	st, err := store.Open(ctx, dsn, nil)
	if err != nil {
		return t, err
	}
	defer st.Close()
	if newest := store.NewestSchema(); l.Schema > newest {
		return t,
			fmt.Errorf("the backup is of schema %d, and this program knows up to %d: bring it back with the program that made it, or a newer one",
				l.Schema, newest)
	}
	if err := st.BeginRestore(ctx, l.At.Format(time.RFC3339), again); err != nil {
		return t, err
	}
	c, end, err := connect(ctx, dsn)
	if err != nil {
		return t, err
	}
	defer end()
	if _, err := c.ExecContext(ctx, "SET autocommit = 0"); err != nil {
		return t, err
	}
	open, done := 0, int64(0)
	t, err = l.Each(func(text []byte) error {
		if _, err := c.ExecContext(ctx, string(text)); err != nil {
			return fmt.Errorf("%w, at %s", explained(err), start(text))
		}
		done += int64(len(text))
		if open += len(text); open >= commits {
			open = 0
			if progress != nil {
				progress(done)
			}
			_, err := c.ExecContext(ctx, "COMMIT")
			return err
		}
		return nil
	})
	if err != nil {
		return t, err
	}
	if _, err := c.ExecContext(ctx, "COMMIT"); err != nil {
		return t, err
	}
	// What the database has now is what the backup says.
	for _, name := range slices.Sorted(maps.Keys(t.Rows)) {
		var n int64
		if err := c.QueryRowContext(ctx, "SELECT COUNT(*) FROM "+quoted(name)).Scan(&n); err != nil {
			return t, err
		}
		if n != t.Rows[name] {
			return t, fmt.Errorf("table %s has %d rows, and the backup says %d", name, n, t.Rows[name])
		}
	}
	return t, nil
}

// start is how a statement begins, for an error: no data.
func start(text []byte) string {
	words := strings.Fields(string(text[:min(len(text), 200)]))
	return strings.Join(words[:min(3, len(words))], " ")
}

func explained(err error) error {
	var e *mysql.MySQLError
	if errors.As(err, &e) && e.Number == 1153 {
		return fmt.Errorf("%w (set max_allowed_packet of the database server to 64 MB)", err)
	}
	if errors.Is(err, sql.ErrConnDone) || errors.Is(err, mysql.ErrInvalidConn) {
		return fmt.Errorf("the database went away: %w", err)
	}
	return err
}

// Verified is what was found out about a backup that was brought back beside.
type Verified struct {
	Header
	Tables  int    `json:"tables"`
	Rows    int64  `json:"rows"`
	Journal uint64 `json:"journal_entries"`
	Broken  string `json:"broken,omitempty"` // where the journal does not hold
	Asked   int    `json:"questions"`
	Other   int    `json:"other_answers"`
	First   string `json:"first_other,omitempty"` // the first question that is answered otherwise
}

// Whole reports whether it is what it should be.
func (v *Verified) Whole() bool { return v.Broken == "" && v.Other == 0 }

// Check holds a database to which a backup was brought back, and nothing else was done but to bring its schema up to date, against what the
// backup says: the journal's seals, its head, and a thousand answers.
func Check(ctx context.Context, st *store.Store, h Header, t Trailer) (v Verified, err error) {
	v.Header, v.Tables = h, len(t.Rows)
	for _, n := range t.Rows {
		v.Rows += n
	}
	n, broken, err := st.VerifyJournal(ctx)
	if err != nil {
		return v, err
	}
	v.Journal = n
	switch seal, err := st.SealAt(ctx, h.Seq); {
	case broken != nil:
		v.Broken = fmt.Sprintf("entry %d: %s", broken.Seq, broken.Reason)
	case n < h.Seq: // an upgrade may have added some
		v.Broken = fmt.Sprintf("it has %d entries, and the backup says %d", n, h.Seq)
	case h.Seq > 0 && err != nil:
		return v, err
	case h.Seq > 0 && seal != h.Seal:
		v.Broken = fmt.Sprintf("entry %d has another seal than the backup says", h.Seq)
	}
	if v.Broken != "" || len(t.Answers) == 0 {
		return v, nil
	}
	s, _, err := at(ctx, st, store.Head{Seq: h.Seq, Revision: h.Revision})
	if err != nil {
		return v, err
	}
	for _, x := range t.Answers {
		yes, refusing, err := ask(s, x, moment.Of(h.At))
		if v.Asked++; err != nil || yes != x.Yes || !slices.Equal(refusing, x.Refusing) {
			if v.Other++; v.Other == 1 {
				v.First = fmt.Sprintf("%s, %s, %s", x.Who, x.Action, x.Resource)
			}
		}
	}
	return v, nil
}

// ask asks again what was asked when the backup was made.
func ask(s *engine.Snapshot, x Answered, now moment.Moment) (yes bool, refusing []string, err error) {
	a, err := addr.Parse(x.Who)
	if err != nil {
		return false, nil, err
	}
	act, ok := catalogue.ActionByName(x.Action)
	if !ok {
		return false, nil, fmt.Errorf("there is no action %s", x.Action)
	}
	r, err := engine.ParseResource(x.Resource)
	if err != nil {
		return false, nil, err
	}
	v, err := s.Decide(&engine.Question{Subject: engine.Who{Address: a}, Action: act.ID, Resource: r, At: now})
	if err != nil {
		return false, nil, err
	}
	if refusing = v.Refusing.Names(); len(refusing) == 0 {
		refusing = nil
	}
	return v.Yes, refusing, nil
}
