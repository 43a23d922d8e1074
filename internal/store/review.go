package store

import (
	"context"
	"database/sql"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// ReviewLine is one question of a round of review: whether somebody keeps a role on something.
type ReviewLine struct {
	Round    string
	N        int
	Party    string // as world.Grant.Party writes it
	Resource string
	Role     catalogue.Role
	From     moment.Moment
	Bundle   string // that gives it; empty where it was given by hand
	Reviewer string // owner:ID for a person, or keeper
	State    string // open, kept, narrowed, ended, gone or silent
	By       string // the account that answered; empty while it is open
	At       moment.Moment
	Why      string
	Until    moment.Moment  // the end that it was given; 0 where it was left as it was
	Narrowed catalogue.Role // the role that is held since, where it was made narrower
	Instead  string         // the item on which it is held, in place of the whole space; empty where it is as before
}

// Same reports whether a line asks about a grant.
func (l *ReviewLine) Same(g *world.Grant) bool {
	return l.Resource == g.Resource.String() && l.Role == g.Role && l.From == g.From && l.Bundle == g.Bundle
}

const reviewColumns = "round, n, party, resource, role, starts, bundle, reviewer, state, said_by, said_at, why, until, narrowed, instead"

func scanReview(r *sql.Rows) (l ReviewLine, err error) {
	err = r.Scan(&l.Round, &l.N, &l.Party, &l.Resource, &l.Role, &l.From, &l.Bundle, &l.Reviewer, &l.State, &l.By, &l.At, &l.Why, &l.Until,
		&l.Narrowed, &l.Instead)
	return
}

// AddReviewLines adds lines to a round that begins.
func (t *Tx) AddReviewLines(lines []ReviewLine) error {
	const some = 500
	for len(lines) > 0 {
		now := lines[:min(some, len(lines))]
		lines = lines[len(now):]
		args := make([]any, 0, len(now)*15)
		for i := range now {
			l := &now[i]
			args = append(args, l.Round, l.N, l.Party, l.Resource, int(l.Role), int64(l.From), l.Bundle, l.Reviewer, l.State, l.By, int64(l.At),
				l.Why, int64(l.Until), int(l.Narrowed), l.Instead)
		}
		if err := t.exec("INSERT INTO review_line ("+reviewColumns+") VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)"+strings.Repeat(",(?,?,?,?,?,?,?,?,?,?,?,?,?,?,?)",
			len(now)-1), args...); err != nil {
			return err
		}
	}
	return nil
}

// SetReviewLine writes what became of a line.
func (t *Tx) SetReviewLine(l *ReviewLine) error {
	return t.exec("UPDATE review_line SET reviewer = ?, state = ?, said_by = ?, said_at = ?, why = ?, until = ?, narrowed = ?, instead = ? WHERE round = ? AND n = ?",
		l.Reviewer, l.State, l.By, int64(l.At), l.Why, int64(l.Until), int(l.Narrowed), l.Instead, l.Round, l.N)
}

// ReviewLines lists lines of a round behind a number, in order: of a reviewer where reviewers are named, in a state where one is named.
func (s *Store) ReviewLines(ctx context.Context, round string, reviewers []string, state string, after, limit int) ([]ReviewLine, error) {
	return reviewLines(ctx, s.db, round, reviewers, state, after, limit)
}

// ReviewLines does the same within a change.
func (t *Tx) ReviewLines(round string, reviewers []string, state string, after, limit int) ([]ReviewLine, error) {
	return reviewLines(t.ctx, t.tx, round, reviewers, state, after, limit)
}

func reviewLines(ctx context.Context, q querier, round string, reviewers []string, state string, after, limit int) (out []ReviewLine,
	err error) {
	where, args := "round = ? AND n > ?", []any{round, after}
	if state != "" {
		where, args = where+" AND state = ?", append(args, state)
	}
	if len(reviewers) > 0 {
		where += " AND reviewer IN (?" + strings.Repeat(",?", len(reviewers)-1) + ")"
		for _, r := range reviewers {
			args = append(args, r)
		}
	}
	err = each(ctx, q, "SELECT "+reviewColumns+" FROM review_line WHERE "+where+" ORDER BY n LIMIT ?", append(args, limit),
		func(r *sql.Rows) error {
			l, err := scanReview(r)
			out = append(out, l)
			return err
		})
	return
}

// ReviewLinesOf lists the open lines that ask about what a party holds, in every round.
func (t *Tx) ReviewLinesOf(party string) (out []ReviewLine, err error) {
	err = each(t.ctx, t.tx, "SELECT "+reviewColumns+" FROM review_line WHERE party = ? AND state = 'open'", []any{party},
		func(r *sql.Rows) error {
			l, err := scanReview(r)
			out = append(out, l)
			return err
		})
	return
}

// ReviewCount is how many lines of a round wait for a reviewer, or came to a state.
type ReviewCount struct {
	Round, Reviewer, State string
	Lines                  int
}

// ReviewCounts counts the lines of a round, or of all where none is named, by reviewer and state.
func (s *Store) ReviewCounts(ctx context.Context, round string) (out []ReviewCount, err error) {
	err = each(ctx, s.db,
		"SELECT round, reviewer, state, COUNT(*) FROM review_line WHERE round = ? OR ? = '' GROUP BY round, reviewer, state ORDER BY round, reviewer, state",
		[]any{round, round}, func(r *sql.Rows) error {
			var c ReviewCount
			err := r.Scan(&c.Round, &c.Reviewer, &c.State, &c.Lines)
			out = append(out, c)
			return err
		})
	return
}
