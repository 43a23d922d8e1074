package store

import (
	"context"
	"database/sql"
	"encoding/json"

	"wexillum.example/internal/core/moment"
)

// FedUser is somebody whom a partner's feed keeps in our directory, as the feed says them.
type FedUser struct {
	N          uint64
	ID         string // by which the feed knows them
	Partner    string
	UserName   string // in lower case
	ExternalID string
	Address    string // of the record that it is about
	Active     bool
	Applied    bool   // it has come to the record; not while the feed is only watched
	Doc        []byte // JSON of the attributes
	Version    int
	Made       moment.Moment
	Changed    moment.Moment
	Closed     moment.Moment // when the feed closed it last; 0 while it is in use
	Gone       moment.Moment // when the feed took it away; 0 while it is there
}

const fedColumns = "n, id, partner, user_name, external_id, address, active, applied, doc, version, made, changed, closed, gone"

func scanFed(r scanner) (u FedUser, err error) {
	err = r.Scan(&u.N, &u.ID, &u.Partner, &u.UserName, &u.ExternalID, &u.Address, &u.Active, &u.Applied, &u.Doc, &u.Version, &u.Made,
		&u.Changed, &u.Closed, &u.Gone)
	return
}

// fedNote is what the journal keeps of somebody who is fed: whom it concerns and whether they are in use.
func fedNote(u *FedUser) []byte {
	if u == nil || u.Gone != 0 {
		return nil
	}
	b, _ := json.Marshal(map[string]string{"partner": u.Partner, "address": u.Address,
		"active": map[bool]string{true: "yes", false: "no"}[u.Active]})
	return b
}

// PutFed adds somebody, or writes what their feed says now. was is what it said before, nil for somebody new.
func (t *Tx) PutFed(was, u *FedUser) error {
	if _, err := t.Note("fed", u.ID, fedNote(was), fedNote(u)); err != nil {
		return err
	}
	args := []any{u.Partner, u.UserName, u.ExternalID, u.Address, u.Active, u.Applied, string(u.Doc), u.Version, int64(u.Made),
		int64(u.Changed), int64(u.Closed), int64(u.Gone), u.ID}
	if was == nil {
		return t.exec("INSERT INTO fed_user (partner, user_name, external_id, address, active, applied, doc, version, made, changed, closed, gone, id) VALUES ("+marks(13)+")",
			args...)
	}
	return t.exec("UPDATE fed_user SET partner = ?, user_name = ?, external_id = ?, address = ?, active = ?, applied = ?, doc = ?, version = ?, made = ?, changed = ?, closed = ?, gone = ? WHERE id = ?",
		args...)
}

// FedWhere are the ways in which somebody is looked up.
type FedWhere string

// The ways.
const (
	FedByID       FedWhere = "id"
	FedByName     FedWhere = "user_name"
	FedByExternal FedWhere = "external_id"
	FedByAddress  FedWhere = "address"
)

func fedWith(ctx context.Context, q querier, partner string, by FedWhere, value string) (out []FedUser, err error) {
	err = each(ctx, q, "SELECT "+fedColumns+" FROM fed_user WHERE partner = ? AND "+string(by)+" = ? AND gone = 0 ORDER BY n",
		[]any{partner, value}, func(r *sql.Rows) error {
			u, err := scanFed(r)
			out = append(out, u)
			return err
		})
	return
}

// FedWith lists who is fed by a partner and has a value there.
func (s *Store) FedWith(ctx context.Context, partner string, by FedWhere, value string) ([]FedUser, error) {
	return fedWith(ctx, s.db, partner, by, value)
}

// FedWith does the same within a change.
func (t *Tx) FedWith(partner string, by FedWhere, value string) ([]FedUser, error) {
	return fedWith(t.ctx, t.tx, partner, by, value)
}

// FedPage lists who is fed by a partner, in the order in which they came: behind a number, or past the first of them.
func (s *Store) FedPage(ctx context.Context, partner string, after uint64, skip, limit int) (out []FedUser, err error) {
	err = each(ctx, s.db, "SELECT "+fedColumns+" FROM fed_user WHERE partner = ? AND gone = 0 AND n > ? ORDER BY n LIMIT ? OFFSET ?",
		[]any{partner, after, limit, skip}, func(r *sql.Rows) error {
			u, err := scanFed(r)
			out = append(out, u)
			return err
		})
	return
}

// FedWaiting lists those whom a feed has told of and whose records were not touched yet.
func (s *Store) FedWaiting(ctx context.Context, partner string, after uint64, limit int) (out []FedUser, err error) {
	err = each(ctx, s.db,
		"SELECT "+fedColumns+" FROM fed_user WHERE partner = ? AND applied = FALSE AND gone = 0 AND n > ? ORDER BY n LIMIT ?",
		[]any{partner, after, limit}, func(r *sql.Rows) error {
			u, err := scanFed(r)
			out = append(out, u)
			return err
		})
	return
}

// FedCount is how many people a partner's feed keeps.
type FedCount struct{ All, Active, Waiting, ClosedLately int }

// FedCounts counts them; lately is since when closings are counted.
func (s *Store) FedCounts(ctx context.Context, partner string, lately moment.Moment) (c FedCount, err error) {
	return fedCounts(ctx, s.db, partner, lately)
}

// FedCounts does the same within a change.
func (t *Tx) FedCounts(partner string, lately moment.Moment) (FedCount, error) {
	return fedCounts(t.ctx, t.tx, partner, lately)
}

func fedCounts(ctx context.Context, q querier, partner string, lately moment.Moment) (c FedCount, err error) {
	err = each(ctx,
		q,
		"SELECT COALESCE(SUM(gone = 0), 0), COALESCE(SUM(gone = 0 AND active), 0), COALESCE(SUM(gone = 0 AND NOT applied), 0) FROM fed_user WHERE partner = ?",
		[]any{partner}, func(r *sql.Rows) error {
			return r.Scan(&c.All, &c.Active, &c.Waiting)
		})
	if err == nil {
		err = each(ctx, q, "SELECT COUNT(*) FROM fed_user WHERE partner = ? AND closed > ?", []any{partner, int64(lately)},
			func(r *sql.Rows) error { return r.Scan(&c.ClosedLately) })
	}
	return
}

// FedLine is what came of a request of a feed, or of one that we send to a partner.
type FedLine struct {
	N       uint64
	Partner string
	Out     bool // of ours, to them
	At      moment.Moment
	What    string // created, taken_over, changed, closed, back, removed, refused, braked
	User    string // of the feed, or the person of ours; or empty
	Address string
	Detail  string
}

// mostFedLines is how many lines are kept of a feed.
const mostFedLines = 5000

// LogFed writes what came of a request. It is no change and stands in no journal.
func (s *Store) LogFed(ctx context.Context, l *FedLine) error {
	detail := []rune(l.Detail)
	r, err := s.db.ExecContext(ctx, "INSERT INTO fed_log (partner, goes_out, at, what, user, address, detail) VALUES (?,?,?,?,?,?,?)",
		l.Partner, l.Out, int64(l.At), l.What, l.User, l.Address, string(detail[:min(len(detail), 1000)]))
	if err != nil {
		return err
	}
	if n, err := r.LastInsertId(); err == nil && n%100 == 0 {
		_, err = s.db.ExecContext(ctx,
			"DELETE FROM fed_log WHERE partner = ? AND goes_out = ? AND n < (SELECT m FROM (SELECT n AS m FROM fed_log WHERE partner = ? AND goes_out = ? ORDER BY n DESC LIMIT 1 OFFSET ?) x)",
			l.Partner, l.Out, l.Partner, l.Out, mostFedLines)
		return err
	}
	return nil
}

// FedLog lists what came of a feed's requests, the newest first: of one user where one is named, and of what went wrong
// alone. goesOut has those of the feed that we send.
func (s *Store) FedLog(ctx context.Context, partner string, goesOut bool, user string, wrong bool, before uint64, limit int) (out []FedLine,
	err error) {
	where, args := "partner = ? AND goes_out = ?", []any{partner, goesOut}
	if user != "" {
		where, args = where+" AND user = ?", append(args, user)
	}
	if wrong {
		where += " AND what IN ('refused', 'braked')"
	}
	if before > 0 {
		where, args = where+" AND n < ?", append(args, before)
	}
	err = each(ctx, s.db, "SELECT n, partner, goes_out, at, what, user, address, detail FROM fed_log WHERE "+where+" ORDER BY n DESC LIMIT ?",
		append(args, limit), func(r *sql.Rows) error {
			var l FedLine
			err := r.Scan(&l.N, &l.Partner, &l.Out, &l.At, &l.What, &l.User, &l.Address, &l.Detail)
			out = append(out, l)
			return err
		})
	return
}

// forgetFed takes away what feeds said of somebody: whoever is fed still is known by their address alone.
func (t *Tx) forgetFed(address, pseudonym string) error {
	if err := t.exec("UPDATE fed_user SET doc = '{}', user_name = ?, external_id = '', address = ? WHERE address = ? AND gone <> 0", pseudonym,
		pseudonym, address); err != nil {
		return err
	}
	return t.exec("DELETE FROM fed_log WHERE address = ? OR INSTR(LOWER(detail), ?) > 0", address, address)
}
