package store

import (
	"context"
	"database/sql"
	"errors"
	"strings"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/core/moment"
)

// Message is a mail in the outbox.
type Message struct {
	ID              uint64
	MessageID       string // RFC 5322 §3.6.4, without the brackets; the same at every try
	Once            string // empty, or what keeps it from being written twice
	Recipient, Kind string
	Doc             []byte // what it is made of when it is sent
	Made, Due, Sent moment.Moment
	Tries           int
	State           string // waiting, sent, failed, dropped
	Error           string // of the last try
	Sender          string // the account by whose change it was written; not read back
}

const messageColumns = "id, message_id, once, recipient, kind, doc, made, due, tries, state, sent, error"

func scanMessage(r scanner) (m Message, err error) {
	var once sql.NullString
	err = r.Scan(
		&m.ID,
		&m.MessageID,
		&once,
		&m.Recipient,
		&m.Kind,
		&m.Doc,
		(*int64)(&m.Made),
		(*int64)(&m.Due),
		&m.Tries,
		&m.State,
		(*int64)(&m.Sent),
		&m.Error,
	)
	m.Once = once.String
	return
}

type execer interface {
	ExecContext(ctx context.Context, q string, args ...any) (sql.Result, error)
}

// Post writes a message to the outbox within a change. It reports false where the same
// was written once already.
func (t *Tx) Post(m *Message) (bool, error) { return post(t.ctx, ready{t}, m) }

// Post writes a message that belongs to no change.
func (s *Store) Post(ctx context.Context, m *Message) (bool, error) { return post(ctx, s.db, m) }

func post(ctx context.Context, q execer, m *Message) (bool, error) {
	var once any
	if m.Once != "" {
		once = m.Once
	}
	_, err := q.ExecContext(
		ctx,
		"INSERT INTO outbox (message_id, once, recipient, kind, doc, made, due, error, sender) VALUES (?,?,?,?,?,?,?,'',?)",
		m.MessageID,
		once,
		m.Recipient,
		m.Kind,
		string(m.Doc),
		int64(m.Made),
		int64(m.Due),
		m.Sender,
	)
	var e *mysql.MySQLError
	if errors.As(err, &e) && e.Number == 1062 && m.Once != "" {
		return false, nil
	}
	return err == nil, err
}

// MailWaiting counts the messages that are due and not sent yet.
func (s *Store) MailWaiting(ctx context.Context, now moment.Moment) (n int, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM outbox WHERE state = 'waiting' AND due <= ?", int64(now)).Scan(&n)
	return
}

// MailBy counts the messages that changes of an account wrote since a moment, in this one too.
func (t *Tx) MailBy(sender string, since moment.Moment) (n int, err error) {
	err = each(
		t.ctx,
		ready{t},
		"SELECT COUNT(*) FROM outbox WHERE sender = ? AND made >= ?",
		[]any{sender, int64(since)},
		func(r *sql.Rows) error { return r.Scan(&n) },
	)
	return
}

// PostAll writes messages that belong to no change, many at a time, and returns how many of
// them were not written before.
func (s *Store) PostAll(ctx context.Context, list []Message) (n int, err error) {
	for len(list) > 0 {
		part := list[:min(len(list), 200)]
		list = list[len(part):]
		args := make([]any, 0, 7*len(part))
		for i := range part {
			m := &part[i]
			args = append(args, m.MessageID, m.Once, m.Recipient, m.Kind, string(m.Doc), int64(m.Made), int64(m.Due))
		}
		// With the same once a message is left as it was, and counts as no row.
		res, err := s.db.ExecContext(
			ctx,
			"INSERT INTO outbox (message_id, once, recipient, kind, doc, made, due, error) VALUES "+strings.Repeat(
				"(?,?,?,?,?,?,?,''),",
				len(part)-1,
			)+"(?,?,?,?,?,?,?,'') ON DUPLICATE KEY UPDATE id = id",
			args...)
		if err != nil {
			return n, err
		}
		k, err := res.RowsAffected()
		if err != nil {
			return n, err
		}
		n += int(k)
	}
	return n, nil
}

// Waiting lists messages that are to be sent by a moment: codes before all else, because
// somebody waits for them, then the longest due first.
func (s *Store) Waiting(ctx context.Context, now moment.Moment, limit int) (out []Message, err error) {
	for _, kind := range []string{"kind = 'code'", "kind != 'code'"} {
		if len(out) == limit {
			break
		}
		err = each(
			ctx,
			s.db,
			"SELECT "+messageColumns+" FROM outbox WHERE state = 'waiting' AND "+kind+" AND due <= ? ORDER BY due, id LIMIT ?",
			[]any{int64(now), limit - len(out)},
			func(r *sql.Rows) error {
				m, err := scanMessage(r)
				out = append(out, m)
				return err
			},
		)
		if err != nil {
			return nil, err
		}
	}
	return
}

// Claim takes a message to send it: until a moment nobody else does. It reports whether
// this caller got it.
func (s *Store) Claim(ctx context.Context, m *Message, until moment.Moment) (bool, error) {
	res, err := s.db.ExecContext(
		ctx,
		"UPDATE outbox SET due = ?, tries = tries + 1 WHERE id = ? AND state = 'waiting' AND due = ? AND tries = ?",
		int64(until),
		m.ID,
		int64(m.Due),
		m.Tries,
	)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// Settle notes what became of a try: state, when to try again, and why not.
func (s *Store) Settle(ctx context.Context, id uint64, state string, due, sent moment.Moment, reason string) error {
	_, err := s.db.ExecContext(
		ctx,
		"UPDATE outbox SET state = ?, due = ?, sent = ?, error = ? WHERE id = ?",
		state,
		int64(due),
		int64(sent),
		reason,
		id,
	)
	return err
}

// Again lets a message that was given up be tried again. It reports whether there is one.
func (s *Store) Again(ctx context.Context, id uint64, now moment.Moment) (bool, error) {
	res, err := s.db.ExecContext(
		ctx,
		"UPDATE outbox SET state = 'waiting', due = ?, tries = 0 WHERE id = ? AND state IN ('failed', 'waiting')",
		int64(now),
		id,
	)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// Outbox lists messages before one, the newest first; 0 for all. An empty recipient or
// state is any.
func (s *Store) Outbox(ctx context.Context, recipient, state string, before uint64, limit int) ([]Message, error) {
	if before == 0 {
		before = 1 << 62
	}
	out := []Message{}
	err := each(
		ctx,
		s.db,
		"SELECT "+messageColumns+" FROM outbox WHERE id < ? AND (? = '' OR recipient = ?) AND (? = '' OR state = ?) AND state != 'dropped' AND kind != 'code' ORDER BY id DESC LIMIT ?",
		[]any{before, recipient, recipient, state, state, limit},
		func(r *sql.Rows) error {
			m, err := scanMessage(r)
			out = append(out, m)
			return err
		},
	)
	return out, err
}

// Undelivered lists the addresses to which the last mail was given up or is not taken.
func (s *Store) Undelivered(ctx context.Context) (out []string, err error) {
	err = each(
		ctx,
		s.db,
		"SELECT o.recipient FROM outbox o WHERE (o.state = 'failed' OR o.state = 'waiting' AND o.error != '') AND o.kind != 'code' AND NOT EXISTS (SELECT 1 FROM outbox n WHERE n.recipient = o.recipient AND n.id > o.id AND n.state = 'sent') GROUP BY o.recipient",
		nil,
		func(r *sql.Rows) error {
			var a string
			err := r.Scan(&a)
			out = append(out, a)
			return err
		},
	)
	return
}

// What guests come in with: secrets are kept as hashes alone.

// PutDoorKey keeps the hash of an invitation's link.
func (s *Store) PutDoorKey(ctx context.Context, secret [32]byte, address string, ends moment.Moment) error {
	_, err := s.db.ExecContext(ctx, "INSERT INTO door_key (secret, address, ends) VALUES (?,?,?)", secret[:], address, int64(ends))
	return err
}

// DoorKey finds whose link it is; empty where it is nobody's or has ended.
func (s *Store) DoorKey(ctx context.Context, secret [32]byte, now moment.Moment) (address string, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT address FROM door_key WHERE secret = ? AND ends > ?", secret[:], int64(now)).Scan(&address)
	if errors.Is(err, sql.ErrNoRows) {
		return "", nil
	}
	return
}

// SpendDoorKeys ends all links of an address.
func (s *Store) SpendDoorKeys(ctx context.Context, address string) error {
	_, err := s.db.ExecContext(ctx, "DELETE FROM door_key WHERE address = ?", address)
	return err
}

// Door is an address at the door and the browser that stands there, by the hash of its cookie.
type Door struct {
	Address string
	Browser [32]byte
}

// PutDoorCode keeps the hash of a one-time code in place of the one before.
func (s *Store) PutDoorCode(ctx context.Context, d Door, salt [16]byte, hash [32]byte, ends moment.Moment) error {
	_, err := s.db.ExecContext(
		ctx,
		"REPLACE INTO door_code (address, browser, salt, hash, ends, tries) VALUES (?,?,?,?,?,0)",
		d.Address,
		d.Browser[:],
		salt[:],
		hash[:],
		int64(ends),
	)
	return err
}

// TryDoorCode counts a try at the code of an address and returns what to compare with;
// ok is false where there is none, it has ended, or all tries are used. Counting comes
// first, so that tries at the same time count each.
func (s *Store) TryDoorCode(ctx context.Context, d Door, most int, now moment.Moment) (salt, hash []byte, ok bool, err error) {
	res, err := s.db.ExecContext(
		ctx,
		"UPDATE door_code SET tries = tries + 1 WHERE address = ? AND browser = ? AND tries < ? AND ends > ?",
		d.Address,
		d.Browser[:],
		most,
		int64(now),
	)
	if err != nil {
		return nil, nil, false, err
	}
	if n, err := res.RowsAffected(); err != nil || n == 0 {
		return nil, nil, false, err
	}
	err = s.db.QueryRowContext(ctx, "SELECT salt, hash FROM door_code WHERE address = ? AND browser = ?", d.Address, d.Browser[:]).
		Scan(&salt, &hash)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, nil, false, nil
	}
	return salt, hash, err == nil, err
}

// SpendDoorCode ends a code. It reports false where somebody else was first.
func (s *Store) SpendDoorCode(ctx context.Context, d Door, hash []byte) (bool, error) {
	res, err := s.db.ExecContext(ctx, "DELETE FROM door_code WHERE address = ? AND browser = ? AND hash = ?", d.Address, d.Browser[:], hash)
	if err != nil {
		return false, err
	}
	n, err := res.RowsAffected()
	return n == 1, err
}

// AskDoor notes that somebody asks for a code from somewhere, and returns how many were asked
// for this address since a moment, and how many of them from there, this time included.
func (s *Store) AskDoor(ctx context.Context, who, source string, since, now moment.Moment) (all, here int, err error) {
	if _, err = s.db.ExecContext(ctx, "INSERT INTO door_asked (who, source, at) VALUES (?,?,?)", who, source, int64(now)); err != nil {
		return
	}
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*), COALESCE(SUM(source = ?), 0) FROM door_asked WHERE who = ? AND at >= ?", source, who,
		int64(since)).
		Scan(&all, &here)
	return
}

// SweepDoor removes what has ended.
func (s *Store) SweepDoor(ctx context.Context, now, asked moment.Moment) error {
	for _, q := range []struct {
		text string
		at   moment.Moment
	}{{"DELETE FROM door_key WHERE ends <= ?", now}, {"DELETE FROM door_code WHERE ends <= ?", now},
		{"DELETE FROM door_asked WHERE at < ?", asked}, {"DELETE FROM outbox WHERE (state = 'dropped' OR kind = 'code') AND made < ?", asked}} {
		if _, err := s.db.ExecContext(ctx, q.text, int64(q.at)); err != nil {
			return err
		}
	}
	return nil
}
