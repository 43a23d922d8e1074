package store

import (
	"context"
	"database/sql"
	"encoding/json"

	"wexillum.example/internal/core/moment"
)

// States of somebody of ours in a partner's directory.
const (
	SentNot    = "not"    // they were never there, or are away
	SentTried  = "tried"  // they were sent, and no answer came: they may be there
	SentKept   = "kept"   // in use there
	SentClosed = "closed" // there, and not in use
)

// SentUser is a person of ours whom a feed keeps in a partner's directory, as it was taken there last.
type SentUser struct {
	N        uint64
	Partner  string
	Person   string // id of ours
	Remote   string // the id by which the partner's server knows them; empty where it does not
	UserName string
	Doc      string // JSON of what was taken last
	State    string
	Problem  string        // why what is due was not taken; empty where it was
	Tries    int           // in a row that failed
	Next     moment.Moment // not tried again before then
	Changed  moment.Moment // when something was taken last
	Closed   moment.Moment // when they were closed or removed last; 0 for never, or where they are back
}

// SentFeed is how a feed goes.
type SentFeed struct {
	Next         moment.Moment // when it is sent next
	Began, Ended moment.Moment // of the last round; Ended 0 while it runs
	Total, Done  int           // of that round
	Tries        int           // rounds in a row that were given up
	Problem      string        // why the last was; empty where it was not
	Since        moment.Moment // when the problem began
	Told         bool          // somebody was written to about it
	Did          map[string]int
}

// sentNote is what the journal keeps: whom it concerns and how they are kept.
func sentNote(u *SentUser) []byte {
	if u == nil || u.State == SentNot || u.State == SentTried {
		return nil
	}
	b, _ := json.Marshal(map[string]string{"partner": u.Partner, "address": u.UserName, "state": u.State})
	return b
}

// PutSent writes how somebody is kept now, was before.
func (t *Tx) PutSent(was, u *SentUser) error {
	if before, now := sentNote(was), sentNote(u); string(before) != string(now) {
		if _, err := t.Note("sent", u.Person+" at "+u.Partner, before, now); err != nil {
			return err
		}
	}
	return t.exec(`INSERT INTO sent_user (partner, person, remote, user_name, doc, state, problem, tries, next, changed, closed) VALUES (?,?,?,?,?,?,?,?,?,?,?)
		ON DUPLICATE KEY UPDATE remote = VALUES(remote), user_name = VALUES(user_name), doc = VALUES(doc), state = VALUES(state), problem = VALUES(problem), tries = VALUES(tries), next = VALUES(next), changed = VALUES(changed), closed = VALUES(closed)`,
		u.Partner, u.Person, u.Remote, u.UserName, u.Doc, u.State, cut(u.Problem), u.Tries, int64(u.Next), int64(u.Changed), int64(u.Closed))
}

func cut(s string) string {
	r := []rune(s)
	return string(r[:min(len(r), 1000)])
}

// Sent lists everybody whom a feed keeps, kept or tried to keep at a partner.
func (s *Store) Sent(ctx context.Context, partner string) (out []SentUser, err error) {
	err = each(ctx, s.db,
		"SELECT n, partner, person, remote, user_name, doc, state, problem, tries, next, changed, closed FROM sent_user WHERE partner = ? ORDER BY person",
		[]any{partner}, func(r *sql.Rows) error {
			var u SentUser
			err := r.Scan(&u.N, &u.Partner, &u.Person, &u.Remote, &u.UserName, &u.Doc, &u.State, &u.Problem, &u.Tries,
				&u.Next, &u.Changed, &u.Closed)
			out = append(out, u)
			return err
		})
	return
}

// SentCount is how many of ours a feed keeps at a partner.
type SentCount struct{ Kept, Closed, Failing, ClosedLately int }

// SentCounts counts them; lately is since when closings are counted.
func (s *Store) SentCounts(ctx context.Context, partner string, lately moment.Moment) (c SentCount, err error) {
	err = each(ctx, s.db,
		"SELECT COALESCE(SUM(state = 'kept'), 0), COALESCE(SUM(state = 'closed'), 0), COALESCE(SUM(problem <> ''), 0), COALESCE(SUM(closed > ?), 0) FROM sent_user WHERE partner = ?",
		[]any{int64(lately), partner}, func(r *sql.Rows) error {
			return r.Scan(&c.Kept, &c.Closed, &c.Failing, &c.ClosedLately)
		})
	return
}

// SentFeed returns how a feed goes.
func (s *Store) SentFeed(ctx context.Context, partner string) (f SentFeed, err error) {
	var did string
	err = each(ctx, s.db, "SELECT next, began, ended, total, done, tries, problem, since, told, did FROM sent_feed WHERE partner = ?",
		[]any{partner}, func(r *sql.Rows) error {
			return r.Scan(&f.Next, &f.Began, &f.Ended, &f.Total, &f.Done, &f.Tries, &f.Problem, &f.Since, &f.Told, &did)
		})
	if did != "" {
		_ = json.Unmarshal([]byte(did), &f.Did)
	}
	return
}

// BeginSentFeed begins to keep how a feed goes.
func (t *Tx) BeginSentFeed(partner string, next moment.Moment) error {
	return t.exec("INSERT INTO sent_feed (partner, next, began, ended, total, done, tries, problem, since, told, did, holder, until) VALUES (?,?,0,0,0,0,0,'',0,FALSE,'{}','',0)",
		partner, int64(next))
}

// EndSentFeed forgets how a feed went and whom it kept.
func (t *Tx) EndSentFeed(partner string) error {
	for _, q := range []string{"DELETE FROM sent_feed WHERE partner = ?", "DELETE FROM sent_user WHERE partner = ?"} {
		if err := t.exec(q, partner); err != nil {
			return err
		}
	}
	return nil
}

// HoldSentFeed makes a holder the one that sends a feed until a moment; false where another does.
func (s *Store) HoldSentFeed(ctx context.Context, partner, holder string, now, until moment.Moment) (holds bool, err error) {
	if _, err := s.db.ExecContext(ctx, "UPDATE sent_feed SET holder = ?, until = ? WHERE partner = ? AND (holder = ? OR until <= ?)", holder,
		int64(until), partner, holder, int64(now)); err != nil {
		return false, err
	}
	return holdsSentFeed(ctx, s.db, partner, holder, "")
}

func holdsSentFeed(ctx context.Context, q querier, partner, holder, lock string) (holds bool, err error) {
	err = each(ctx, q, "SELECT 1 FROM sent_feed WHERE partner = ? AND holder = ?"+lock, []any{partner, holder},
		func(*sql.Rows) error { holds = true; return nil })
	return
}

// HoldsSentFeed reports within a change whether somebody still holds a feed.
func (t *Tx) HoldsSentFeed(partner, holder string) (bool, error) {
	return holdsSentFeed(t.ctx, t.tx, partner, holder, " FOR UPDATE")
}

// PutSentFeed notes how a feed goes; only its holder may. let has others send it.
func (s *Store) PutSentFeed(ctx context.Context, partner, holder string, f *SentFeed, let bool) error {
	did, err := json.Marshal(f.Did)
	if err != nil {
		return err
	}
	_, err = s.db.ExecContext(ctx,
		"UPDATE sent_feed SET next = ?, began = ?, ended = ?, total = ?, done = ?, tries = ?, problem = ?, since = ?, told = ?, did = ?, until = IF(?, 0, until) WHERE partner = ? AND holder = ?",
		int64(f.Next), int64(f.Began), int64(f.Ended), f.Total, f.Done, f.Tries, cut(f.Problem), int64(f.Since), f.Told, string(did), let,
		partner, holder)
	return err
}
