package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strconv"

	"wexillum.example/internal/store/migrations"
)

// unfinished is a table that is there while a backup is being brought back: no service starts on half of it.
const unfinished = "restore_unfinished"

// ErrUnfinished is returned for a database to which a backup has not wholly been brought back.
var ErrUnfinished = errors.New("a backup is being brought back to this database, or that was broken off")

// Unmigrated runs fn while nobody changes the schema.
func (s *Store) Unmigrated(ctx context.Context, fn func() error) error {
	unlock, err := s.lock(ctx, "wexillum_migrate")
	if err != nil {
		return err
	}
	defer unlock()
	if err := s.wholly(ctx); err != nil {
		return err
	}
	return fn()
}

// wholly is ErrUnfinished where half a backup is in the database.
func (s *Store) wholly(ctx context.Context) error {
	half, err := s.hasTable(ctx, unfinished)
	if err == nil && half {
		err = fmt.Errorf("%w; finish it with wexillum restore --finish, or begin it again with wexillum restore --again", ErrUnfinished)
	}
	return err
}

func (s *Store) hasTable(ctx context.Context, name string) (has bool, err error) {
	err = s.schema.QueryRowContext(ctx,
		"SELECT EXISTS (SELECT 1 FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name = ?)", name).Scan(&has)
	return
}

// BeginRestore marks a database that holds nothing as one that a backup of the state at a moment (RFC 3339) is brought back to. again takes
// away what half of one is there.
func (s *Store) BeginRestore(ctx context.Context, at string, again bool) error {
	var names []string
	rows, err := s.schema.QueryContext(ctx, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()")
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		var n string
		if err := rows.Scan(&n); err != nil {
			return err
		}
		names = append(names, n)
	}
	if err := errors.Join(rows.Err(), rows.Close()); err != nil {
		return err
	}
	half, err := s.hasTable(ctx, unfinished)
	if err != nil {
		return err
	}
	switch {
	case half && !again:
		return fmt.Errorf("%w; begin it again with --again, which takes away what is there of it", ErrUnfinished)
	case !half && len(names) > 0:
		return fmt.Errorf("the database is not empty: it has %d tables. A backup is brought back to an empty one alone; make one, and name it in --database",
			len(names))
	}
	for _, q := range []string{
		"CREATE TABLE IF NOT EXISTS " + unfinished + " (one TINYINT NOT NULL PRIMARY KEY, at VARCHAR(40) NOT NULL) ENGINE=InnoDB",
		"REPLACE INTO " + unfinished + " VALUES (1, '" + at + "')",
	} {
		if _, err := s.schema.ExecContext(ctx, q); err != nil {
			return err
		}
	}
	for _, n := range names {
		if n == unfinished {
			continue
		}
		if _, err := s.schema.ExecContext(ctx, "DROP TABLE `"+n+"`"); err != nil {
			return err
		}
	}
	return nil
}

// Unrestored returns of which moment (RFC 3339) a backup was brought back that is not finished; empty for none.
func (s *Store) Unrestored(ctx context.Context) (at string, err error) {
	half, err := s.hasTable(ctx, unfinished)
	if err == nil && half {
		err = s.schema.QueryRowContext(ctx, "SELECT at FROM "+unfinished).Scan(&at)
	}
	return
}

// MigrateRestored is Migrate for a database to which a backup was brought back that is not finished.
func (s *Store) MigrateRestored(ctx context.Context) error { return s.migrate(ctx) }

// NewestSchema is the version of the schema that this program brings a database to.
func NewestSchema() int64 {
	n, err := strconv.ParseInt(migrations.Newest(), 10, 64)
	if err != nil {
		panic("store: " + err.Error())
	}
	return n
}

// Restored is what a journal says of a backup that was brought back.
type Restored struct {
	At      string `json:"at"`  // of the state that the backup holds
	Seq     uint64 `json:"seq"` // the last entry of it, and of the database's log where that was run after it
	Mail    int    `json:"mail_waiting"`
	NoMail  bool   `json:"mail_dropped,omitempty"`
	Tokens  int    `json:"service_tokens"`
	Ended   bool   `json:"service_tokens_ended,omitempty"`
	Signed  int    `json:"signed_in"` // who had to sign in again: sessions and clients
	Forgot  int    `json:"forgotten_again,omitempty"`
	Schema  int64  `json:"-"`
	Journal uint64 `json:"-"` // entries that hold
}

// ClientScope is the scope of tokens with which the client stays signed in.
const ClientScope = "client"

// EndRestore ends what nobody may go on with as it was then (sessions, codes, and what two services shared out), and notes that the backup
// was brought back. The marker is taken away at the very end.
func (s *Store) EndRestore(ctx context.Context, who, why string, r Restored) (Restored, error) {
	_, err := s.Change(ctx, who, why, func(t *Tx) error {
		r.Seq = t.head.Seq
		for _, x := range []struct {
			into *int
			q    string
		}{
			{&r.Mail, "SELECT COUNT(*) FROM outbox WHERE state = 'waiting'"},
			{&r.Tokens, "SELECT COUNT(*) FROM token WHERE scope <> '" + ClientScope + "'"},
			{&r.Signed, "SELECT (SELECT COUNT(*) FROM sessions) + (SELECT COUNT(*) FROM token WHERE scope = '" + ClientScope + "')"},
		} {
			if err := t.tx.QueryRowContext(t.ctx, x.q).Scan(x.into); err != nil {
				return err
			}
		}
		gone := []string{"DELETE FROM sessions", "DELETE FROM token WHERE scope = '" + ClientScope + "'", "DELETE FROM weighing",
			"DELETE FROM door_code"}
		if r.NoMail {
			gone = append(gone, "UPDATE outbox SET state = 'dropped' WHERE state = 'waiting'")
		}
		if r.Ended {
			gone = append(gone, "DELETE FROM token")
		}
		for _, q := range gone {
			if err := t.exec(q); err != nil {
				return err
			}
		}
		doc, err := json.Marshal(r)
		if err != nil {
			return err
		}
		_, err = t.Note("restored", r.At, nil, doc)
		return err
	})
	if err != nil {
		return r, err
	}
	_, err = s.schema.ExecContext(ctx, "DROP TABLE "+unfinished)
	return r, err
}

// BackedUp is what the journal says of a backup.
type BackedUp struct {
	File  string `json:"-"`
	At    string `json:"at"` // of the state that it holds
	Seq   uint64 `json:"seq"`
	Bytes int64  `json:"bytes"`
	Rows  int64  `json:"rows"`
}

// NoteBackup notes that a backup was made.
func (s *Store) NoteBackup(ctx context.Context, who string, b BackedUp) error {
	doc, err := json.Marshal(b)
	if err != nil {
		return err
	}
	_, err = s.Change(ctx, who, "", func(t *Tx) error {
		_, err := t.Note("backup", b.File, nil, doc)
		return err
	})
	return err
}

// LastBackup returns the last backup that the journal knows; ok is false where there is none.
func (s *Store) LastBackup(ctx context.Context) (b BackedUp, ok bool, err error) {
	list, err := s.Journal(ctx, JournalQuery{Kind: "backup", Limit: 1})
	if err != nil || len(list) == 0 {
		return b, false, err
	}
	b.File = list[0].ID
	return b, true, json.Unmarshal(list[0].Now, &b)
}
