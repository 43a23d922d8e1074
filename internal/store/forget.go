package store

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/moment"
)

// pseudonymStart begins the local part of a pseudonym, for whoever reads it. What makes it one
// is its column: an address may begin like this, too.
const pseudonymStart = "forgotten."

// Forgettable lists the addresses whose record was removed before a moment and that have
// none since.
func (s *Store) Forgettable(ctx context.Context, before time.Time, limit int) (out []string, err error) {
	err = each(ctx, s.db, `SELECT DISTINCT j.id FROM journal j WHERE j.kind = 'guest' AND j.now IS NULL AND j.at < ? AND NOT j.pseudonym
		AND NOT EXISTS (SELECT 1 FROM guest g WHERE g.address = j.id AND g.until_seq = ?)
		AND NOT EXISTS (SELECT 1 FROM journal k WHERE k.kind = 'guest' AND k.id = j.id AND k.now IS NULL AND k.at >= ?) LIMIT ?`,
		[]any{before.UTC(), open, before.UTC(), limit}, func(r *sql.Rows) error {
			var a string
			err := r.Scan(&a)
			out = append(out, a)
			return err
		})
	return
}

// EveryAddress lists the addresses of everybody who has or had a record and is not forgotten.
func (s *Store) EveryAddress(ctx context.Context) (out []string, err error) {
	err = each(ctx, s.db, "SELECT DISTINCT address FROM guest WHERE NOT pseudonym", nil, func(r *sql.Rows) error {
		var a string
		err := r.Scan(&a)
		out = append(out, a)
		return err
	})
	return
}

// Forget replaces an address by a pseudonym wherever it is history: in versions of records,
// in past policy and in the journal, whose seals keep holding. What the guest was called
// and said goes altogether. It returns the pseudonym, which keeps the domain, so that past
// reach is the same.
func (t *Tx) Forget(address string) (pseudonym string, err error) {
	a, err := addr.Parse(address)
	if err != nil {
		return "", err
	}
	b := make([]byte, 8)
	_, _ = rand.Read(b)
	pseudonym = pseudonymStart + hex.EncodeToString(b) + "@" + a.Domain().String()
	var names []string
	if err := each(t.ctx, t.tx, "SELECT DISTINCT name FROM guest WHERE address = ? AND name != ''", []any{address}, func(r *sql.Rows) error {
		var n string
		err := r.Scan(&n)
		names = append(names, n)
		return err
	}); err != nil {
		return "", err
	}
	plain := func(text string) string { return replaceWhole(text, address, pseudonym, inAddress) }
	said := func(text string) string { // words of people may name them
		text = plain(text)
		for _, n := range names {
			text = replaceWhole(text, n, pseudonym, inName)
		}
		return text
	}
	isIn := func(texts ...string) bool { // others may read alike
		for _, text := range texts {
			if plain(text) != text {
				return true
			}
		}
		return false
	}
	if err := t.exec("UPDATE guest SET address = ?, pseudonym = TRUE, name = '', purpose = '', language = '', location = '' WHERE address = ?",
		pseudonym, address); err != nil {
		return "", err
	}
	for _, table := range []string{"`grant`", "review_line"} {
		if err := t.exec("UPDATE "+table+" SET party = ? WHERE party = ?", pseudonym, address); err != nil {
			return "", err
		}
	}
	type row struct {
		kind, id string
		from     uint64
		doc      string
	}
	var rows []row
	if err := each(t.ctx, t.tx,
		"SELECT kind, id, from_seq, doc FROM record WHERE (INSTR(LOWER(doc), ?) > 0 OR INSTR(id, ?) > 0) AND (until_seq != ? OR kind IN ('invitation', 'wish', 'contact', 'request', 'draft', 'offer', 'judgement'))",
		[]any{address, address, open}, func(r *sql.Rows) error {
			var x row
			err := r.Scan(&x.kind, &x.id, &x.from, &x.doc)
			if isIn(x.id, x.doc) {
				rows = append(rows, x)
			}
			return err
		}); err != nil {
		return "", err
	}
	for _, x := range rows {
		own := x.id == address || x.kind == "request" && asks([]byte(x.doc), address)
		doc := string(forgetDoc([]byte(x.doc), x.kind, own, said))
		if err := t.exec("UPDATE record SET id = ?, doc = ? WHERE kind = ? AND id = ? AND from_seq = ?", plain(x.id), doc, x.kind, x.id,
			x.from); err != nil {
			return "", err
		}
	}
	rows = nil
	if err := each(t.ctx, t.tx,
		"SELECT kind, id, from_revision, doc FROM policy WHERE INSTR(LOWER(doc), ?) > 0 AND until_revision != ? AND kind != 'bar'",
		[]any{address, open}, func(r *sql.Rows) error {
			var x row
			err := r.Scan(&x.kind, &x.id, &x.from, &x.doc)
			if isIn(x.doc) {
				rows = append(rows, x)
			}
			return err
		}); err != nil {
		return "", err
	}
	for _, x := range rows {
		if err := t.exec("UPDATE policy SET doc = ? WHERE kind = ? AND id = ? AND from_revision = ?", said(x.doc), x.kind, x.id,
			x.from); err != nil {
			return "", err
		}
	}
	for _, q := range []string{"DELETE FROM outbox WHERE recipient = ?",
		"DELETE FROM outbox WHERE kind IN ('digest', 'arrived') AND INSTR(doc, JSON_QUOTE(?)) > 0",
		"DELETE FROM outbox WHERE kind = 'expectation' AND INSTR(LOWER(doc), ?) > 0",
		"UPDATE evidence_name SET salt = '', name = '' WHERE name = ?", "DELETE FROM noticed WHERE INSTR(LOWER(about), ?) > 0",
		"DELETE FROM door_key WHERE address = ?", "DELETE FROM door_code WHERE address = ?", "DELETE FROM door_asked WHERE who = ?",
		"DELETE FROM ended_sessions WHERE name = CONCAT('guest:', ?)", "DELETE FROM passkey WHERE owner = CONCAT('guest:', ?)"} {
		if err := t.exec(q, address); err != nil {
			return "", err
		}
	}
	if err := t.exec("UPDATE told_event SET address = IF(address = ?, ?, address), detail = '' WHERE address = ? OR INSTR(LOWER(detail), ?) > 0",
		address, pseudonym, address, address); err != nil {
		return "", err
	}
	if err := t.forgetFed(address, pseudonym); err != nil {
		return "", err
	}
	// What a system keeps of them now is told while it is there; what it kept is forgotten.
	for _, q := range []string{
		"DELETE FROM system_found WHERE gone <> ? AND (ours = ? OR ours > CONCAT(?, ' ') AND ours < CONCAT(?, '!'))",
		"DELETE FROM system_found WHERE gone <> ? AND kind IN ('link', 'forwarder') AND (INSTR(doc, CONCAT('\"', ?)) > 0 OR INSTR(doc, CONCAT(' ', ?)) > 0 OR INSTR(ours, CONCAT(' ', ?)) > 0)",
	} {
		if err := t.exec(q, int64(moment.Never), address, address, address); err != nil {
			return "", err
		}
	}
	if err := t.exec("DELETE r FROM system_work w JOIN system_record r ON r.system = w.system AND r.kind IN ('guest', 'grant') AND (r.ours = ? OR r.ours > CONCAT(?, ' ') AND r.ours < CONCAT(?, '!'))",
		address, address, address); err != nil {
		return "", err
	}
	var entries []Entry
	if err := each(t.ctx, t.tx,
		"SELECT "+entryColumns+" FROM journal WHERE INSTR(id, ?) > 0 OR INSTR(LOWER(COALESCE(was, '')), ?) > 0 OR INSTR(LOWER(COALESCE(now, '')), ?) > 0 OR INSTR(who, ?) > 0 OR INSTR(LOWER(why), ?) > 0 ORDER BY seq",
		[]any{address, address, address, address, address}, func(r *sql.Rows) error {
			e, err := scanEntry(r)
			if err == nil && isIn(e.ID, string(e.Was), string(e.Now), e.Who, e.Why) {
				entries = append(entries, e)
			}
			return err
		}); err != nil {
		return "", err
	}
	sum := sha256.New()
	var seqs []string
	for i := range entries {
		e := &entries[i]
		if e.Kind == "bar" { // who is barred stays barred, by name
			continue
		}
		digest := e.digest()
		if e.Salt == nil && e.Digest != nil { // it lost words before
			digest = [32]byte(e.Digest)
		}
		e.Salt = nil
		own := e.ID == address
		about := own || strings.HasPrefix(e.ID, address+" ")
		for _, doc := range []*[]byte{&e.Was, &e.Now} {
			if *doc != nil {
				*doc = forgetDoc(*doc, e.Kind, own || e.Kind == "request" && asks(*doc, address), said)
			}
		}
		e.ID, e.Who, e.Why = plain(e.ID), plain(e.Who), said(e.Why)
		if about && e.Who != "wexillum" { // why somebody was invited is theirs too
			e.Why = ""
		}
		if err := t.exec("UPDATE journal SET who = ?, id = ?, was = ?, now = ?, why = ?, salt = NULL, digest = ?, pseudonym = pseudonym OR ? WHERE seq = ?",
			e.Who, e.ID, nullable(e.Was), nullable(e.Now), e.Why, digest[:], own, e.Seq); err != nil {
			return "", err
		}
		now := e.digest()
		sum.Write(now[:])
		seqs = append(seqs, strconv.FormatUint(e.Seq, 10))
	}
	doc, err := json.Marshal(forgotten{strings.Join(seqs, ","), hex.EncodeToString(sum.Sum(nil))})
	if err != nil {
		return "", err
	}
	_, err = t.Note("forgotten", pseudonym, nil, doc)
	return pseudonym, err
}

// lower makes ASCII letters small, so that places stay what they are.
func lower(text string) string {
	b := []byte(text)
	for i, c := range b {
		if c >= 'A' && c <= 'Z' {
			b[i] = c + 'a' - 'A'
		}
	}
	return string(b)
}

// replaceWhole replaces what stands by itself in a text, in capitals or not, which may be JSON (RFC 8259 §7: a
// letter behind a backslash is none). inside reports whether what is before, or what comes
// after, makes it a part of something longer.
func replaceWhole(text, what, by string, inside func(before, after string) bool) string {
	if what == "" {
		return text
	}
	var b strings.Builder
	plain := lower(text)
	what = lower(what)
	done := 0 // up to where the text is written down
	for from := 0; ; {
		i := strings.Index(plain[from:], what)
		if i < 0 {
			break
		}
		i += from
		end := i + len(what)
		if before := escaped.ReplaceAllString(text[max(0, i-8):i], " "); inside(before, text[end:min(len(text), end+8)]) {
			from = i + 1
			continue
		}
		b.WriteString(text[done:i] + by)
		done, from = end, end
	}
	return b.String() + text[done:]
}

// escaped is what JSON writes for a character at the end of a text.
var escaped = regexp.MustCompile(`\\(u[0-9a-fA-F]{4}|[bfnrt])$`)

// inAddress reports whether an address is the end or the beginning of another one.
func inAddress(before, after string) bool {
	last, _ := utf8.DecodeLastRuneInString(before)
	if before != "" && (unicode.IsLetter(last) || unicode.IsDigit(last) || strings.ContainsRune("._%+-", last)) {
		return true
	}
	if after == "" {
		return false
	}
	next := after[0]
	if next == '.' && len(after) > 1 { // a sentence ends, or the domain goes on
		next = after[1]
	}
	return next == '-' || next >= 'a' && next <= 'z' || next >= 'A' && next <= 'Z' || next >= '0' && next <= '9'
}

// inName reports whether a name is a part of a longer word.
func inName(before, after string) bool {
	last, _ := utf8.DecodeLastRuneInString(before)
	next, _ := utf8.DecodeRuneInString(after)
	return before != "" && (unicode.IsLetter(last) || unicode.IsDigit(last)) ||
		after != "" && (unicode.IsLetter(next) || unicode.IsDigit(next))
}

// forgotten is the entry that says which entries lost their words, and the digest of what
// they say now, so that nobody can change them under its cover.
type forgotten struct {
	Entries string `json:"entries"`
	Digest  string `json:"digest"`
}

// forgetDoc takes a person out of a doc: of their own record what describes them, elsewhere
// their address and name.
func forgetDoc(doc []byte, kind string, own bool, said func(string) string) []byte {
	if own && (kind == "invitation" || kind == "wish" || kind == SignInKind) {
		return []byte("{}")
	}
	if own && kind == "guest" {
		doc = without(doc, "name", "purpose", "language", "location")
	}
	if own && kind == "request" {
		doc = without(doc, "sign_up", "bundle", "purpose", "title", "answer")
	}
	return []byte(said(string(doc)))
}

// without takes fields out of a JSON object.
func without(doc []byte, fields ...string) []byte {
	var m map[string]json.RawMessage
	if json.Unmarshal(doc, &m) != nil {
		return doc
	}
	for _, k := range fields {
		delete(m, k)
	}
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	if enc.Encode(m) != nil {
		return doc
	}
	return bytes.TrimSpace(b.Bytes())
}

// asks reports whether a request was made by a guest, or by somebody at the door.
func asks(doc []byte, address string) bool {
	var r struct{ By string }
	return json.Unmarshal(doc, &r) == nil && r.By == "guest:"+address
}

// reseal gives every entry of a journal that was begun before entries had a salt one, and
// seals them anew.
// What holds is sealed, and nothing else: each entry is held against its seal of before first.
func (s *Store) reseal(ctx context.Context, name string) error {
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback()
	var seal []byte
	if err := tx.QueryRowContext(ctx, "SELECT seal FROM head WHERE one = 1 FOR UPDATE").Scan(&seal); err != nil {
		return err
	}
	var was, before [32]byte
	for last := uint64(0); ; {
		var list []Entry
		var seals [][]byte
		if err := each(ctx, tx, "SELECT "+entryColumns+", seal FROM journal WHERE seq > ? ORDER BY seq LIMIT 1000", []any{last},
			func(r *sql.Rows) error {
				var e Entry
				var seal []byte
				err := r.Scan(&e.Seq, &e.PartOf, &e.At, &e.Who, &e.Kind, &e.ID, &e.Was, &e.Now, &e.Why, &e.Revision, &e.Salt, &e.Digest, &seal)
				list, seals = append(list, e), append(seals, seal)
				return err
			}); err != nil {
			return err
		}
		if len(list) == 0 {
			break
		}
		for i := range list {
			e := &list[i]
			if e.Salt == nil && e.Digest == nil {
				was = e.sealUnsalted(was)
				e.Salt = newSalt()
			} else {
				was = e.seal(was)
			}
			if e.Seq != last+1 || string(was[:]) != string(seals[i]) {
				return fmt.Errorf(
					"the journal was altered at entry %d before this upgrade; it is not sealed anew, so that it can be looked into. Bring back a copy of the database that holds, or start the program that wrote it",
					last+1,
				)
			}
			before = e.seal(before)
			if _, err := tx.ExecContext(ctx, "UPDATE journal SET salt = ?, seal = ? WHERE seq = ?", e.Salt, before[:], e.Seq); err != nil {
				return err
			}
			last = e.Seq
		}
	}
	if string(seal) != string(was[:]) && !(was == [32]byte{} && len(seal) == 32) {
		return errors.New("the last entries of the journal were removed before this upgrade; it is not sealed anew")
	}
	if _, err := tx.ExecContext(ctx, "UPDATE head SET seal = ? WHERE one = 1", before[:]); err != nil {
		return err
	}
	if _, err := tx.ExecContext(ctx, "DELETE FROM upgrade_step WHERE name = ?", name); err != nil {
		return err
	}
	return tx.Commit()
}

// sealUnsalted is the seal of entries before they had a salt (schemas below 4).
func (e *Entry) sealUnsalted(before [32]byte) [32]byte {
	h := sha256.New()
	h.Write(before[:])
	e.place(h)
	e.words(h)
	return [32]byte(h.Sum(nil))
}

func newSalt() []byte {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return b
}

// Known reports whether history knows an address by itself.
func (t *Tx) Known(address string) (bool, error) {
	n := 0
	err := t.tx.QueryRowContext(t.ctx, "SELECT COUNT(*) FROM guest WHERE address = ?", address).Scan(&n)
	return n > 0, err
}
