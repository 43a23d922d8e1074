package store

import (
	"context"
	"database/sql"
	"encoding/hex"
	"fmt"
	"time"

	"wexillum.example/internal/core/moment"
)

// EvidenceName is whom a number of a record of reach stands for.
type EvidenceName struct {
	Party              int
	Digest, Salt, Name string
}

// PutEvidencePiece keeps a piece of the lines of a record that is being made.
func (s *Store) PutEvidencePiece(ctx context.Context, evidence string, place int, piece []byte) error {
	_, err := s.writes.ExecContext(ctx, "INSERT INTO evidence_part (evidence, place, piece) VALUES (?,?,?)", evidence, place, piece)
	return err
}

// PutEvidenceNames keeps names of a record that is being made.
func (s *Store) PutEvidenceNames(ctx context.Context, evidence string, names []EvidenceName) error {
	if len(names) == 0 {
		return nil
	}
	values, args := "", []any{}
	for i, n := range names {
		if i > 0 {
			values += ","
		}
		values += "(?,?,?,?,?)"
		args = append(args, evidence, n.Party, n.Digest, n.Salt, n.Name)
	}
	_, err := s.writes.ExecContext(ctx, "INSERT INTO evidence_name (evidence, party, digest, salt, name) VALUES "+values, args...)
	return err
}

// DropEvidence removes what was kept of a record that was not finished.
func (s *Store) DropEvidence(ctx context.Context, evidence string) error {
	for _, table := range []string{"evidence_part", "evidence_name"} {
		if _, err := s.writes.ExecContext(ctx, "DELETE FROM "+table+" WHERE evidence = ?", evidence); err != nil {
			return err
		}
	}
	return nil
}

// EvidencePieces hands over the pieces of a record's lines, one after the other.
func (s *Store) EvidencePieces(ctx context.Context, evidence string, fn func([]byte) error) error {
	return each(ctx, s.db, "SELECT piece FROM evidence_part WHERE evidence = ? ORDER BY place", []any{evidence}, func(r *sql.Rows) error {
		var b []byte
		err := r.Scan(&b)
		if err == nil {
			err = fn(b)
		}
		return err
	})
}

// EvidenceNames hands over the names of a record in the order of their numbers.
func (s *Store) EvidenceNames(ctx context.Context, evidence string, fn func(*EvidenceName) error) error {
	return each(ctx, s.db, "SELECT party, digest, salt, name FROM evidence_name WHERE evidence = ? ORDER BY party", []any{evidence},
		func(r *sql.Rows) error {
			var n EvidenceName
			err := r.Scan(&n.Party, &n.Digest, &n.Salt, &n.Name)
			if err == nil {
				err = fn(&n)
			}
			return err
		})
}

// Began returns the moment of the first journal entry; that of now where there is none.
func (s *Store) Began(ctx context.Context) (moment.Moment, error) {
	var at time.Time
	err := s.db.QueryRowContext(ctx, "SELECT COALESCE(MIN(at), UTC_TIMESTAMP(6)) FROM journal").Scan(&at)
	return moment.Of(at), err
}

// SealAt returns the seal of a journal entry, in hexadecimal digits.
func (s *Store) SealAt(ctx context.Context, seq uint64) (string, error) {
	var seal []byte
	if err := s.db.QueryRowContext(ctx, "SELECT seal FROM journal WHERE seq = ?", seq).Scan(&seal); err != nil {
		return "", fmt.Errorf("the seal of change %d: %w", seq, err)
	}
	return hex.EncodeToString(seal), nil
}
