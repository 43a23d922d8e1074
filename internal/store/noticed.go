package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/hex"
	"encoding/json"
	"slices"

	"wexillum.example/internal/core/moment"
)

// NoticedOnce is a finding from when it came to when it went; Never while it is there.
type NoticedOnce struct {
	Finding, Kind, Cause string
	About                []string
	Came, Gone           moment.Moment
}

func noticedKey(id string) string {
	sum := sha256.Sum256([]byte(id))
	return hex.EncodeToString(sum[:])
}

// NoticedNow returns since when each finding is there that was kept, by its id.
func (s *Store) NoticedNow(ctx context.Context) (map[string]NoticedOnce, error) {
	out := map[string]NoticedOnce{}
	return out, s.noticed(ctx, "gone = ?", []any{int64(moment.Never)}, func(x NoticedOnce) { out[x.Finding] = x })
}

// NoticedOf returns those of some findings that are there and kept, by their ids.
func (s *Store) NoticedOf(ctx context.Context, ids []string) (map[string]NoticedOnce, error) {
	out := map[string]NoticedOnce{}
	for part := range slices.Chunk(ids, 500) {
		args := []any{int64(moment.Never)}
		for _, id := range part {
			args = append(args, noticedKey(id))
		}
		if err := s.noticed(ctx, "gone = ? AND id IN ("+marks(len(part))+")", args, func(x NoticedOnce) { out[x.Finding] = x }); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// NoticedSince returns since when those of some findings are there that were kept.
func (s *Store) NoticedSince(ctx context.Context, ids []string) (map[string]moment.Moment, error) {
	out := map[string]moment.Moment{}
	if len(ids) == 0 {
		return out, nil
	}
	args := []any{int64(moment.Never)}
	for _, id := range ids {
		args = append(args, noticedKey(id))
	}
	return out, s.noticed(ctx, "gone = ? AND id IN ("+marks(len(ids))+")", args, func(x NoticedOnce) { out[x.Finding] = x.Came })
}

// NoticedBefore lists findings that are gone, the last first, of a kind where one is named.
func (s *Store) NoticedBefore(ctx context.Context, kind string, before moment.Moment, limit int) (out []NoticedOnce, err error) {
	err = s.noticed(ctx, "gone < ? AND (? = '' OR kind = ?) ORDER BY gone DESC, id LIMIT ?", []any{int64(before), kind, kind, limit},
		func(x NoticedOnce) { out = append(out, x) })
	return
}

func (s *Store) noticed(ctx context.Context, where string, args []any, fn func(NoticedOnce)) error {
	return each(ctx, s.db, "SELECT finding, kind, about, cause, came, gone FROM noticed WHERE "+where, args, func(r *sql.Rows) error {
		var x NoticedOnce
		var about string
		err := r.Scan(&x.Finding, &x.Kind, &about, &x.Cause, (*int64)(&x.Came), (*int64)(&x.Gone))
		if err == nil {
			err = json.Unmarshal([]byte(about), &x.About)
		}
		fn(x)
		return err
	})
}

// NoticedLong lists findings of a kind that are there since before a moment.
func (s *Store) NoticedLong(ctx context.Context, kind string, since moment.Moment) (out []NoticedOnce, err error) {
	err = s.noticed(ctx, "gone = ? AND kind = ? AND came <= ? ORDER BY finding", []any{int64(moment.Never), kind, int64(since)},
		func(x NoticedOnce) { out = append(out, x) })
	return
}

// Often is a finding that came several times.
type Often struct {
	NoticedOnce
	Times int
}

// noticedOften asks apart for those that are there and those that went: what came since a moment went after it, so that the index finds
// both, and everything that was ever kept is not gone through.
const noticedOften = "SELECT finding, MAX(about), MAX(came), COUNT(*) FROM (" +
	"SELECT id, finding, about, came FROM noticed WHERE gone = ? AND kind = ? AND came > ? UNION ALL " +
	"SELECT id, finding, about, came FROM noticed WHERE gone > ? AND gone < ? AND kind = ? AND came > ?" +
	") AS all_of_them GROUP BY id, finding HAVING COUNT(*) >= ? ORDER BY finding"

// NoticedOften lists findings of a kind that came at least so often since a moment, as they were the last time.
func (s *Store) NoticedOften(ctx context.Context, kind string, since moment.Moment, times int) (out []Often, err error) {
	never, from := int64(moment.Never), int64(since)
	err = each(ctx, s.db, noticedOften,
		[]any{never, kind, from, from, never, kind, from, times}, func(r *sql.Rows) error {
			var x Often
			var about string
			err := r.Scan(&x.Finding, &about, (*int64)(&x.Came), &x.Times)
			if err == nil {
				err = json.Unmarshal([]byte(about), &x.About)
			}
			out = append(out, x)
			return err
		})
	return
}

// Notice keeps findings that came.
func (t *Tx) Notice(list []NoticedOnce) error {
	t.keep = true
	for len(list) > 0 {
		part := list[:min(len(list), 200)]
		list = list[len(part):]
		values, args := "", []any{}
		for i := range part {
			x := &part[i]
			about, err := json.Marshal(x.About)
			if err != nil {
				return err
			}
			if i > 0 {
				values += ","
			}
			values += "(?,?,?,?,?,?,?)"
			args = append(args, noticedKey(x.Finding), x.Finding, x.Kind, string(about), x.Cause, int64(x.Came), int64(moment.Never))
		}
		if err := t.exec("INSERT IGNORE INTO noticed (id, finding, kind, about, cause, came, gone) VALUES "+values, args...); err != nil {
			return err
		}
	}
	return nil
}

// NoticeGone keeps that findings went at a moment.
func (t *Tx) NoticeGone(ids []string, at moment.Moment) error {
	t.keep = true
	for len(ids) > 0 {
		part := ids[:min(len(ids), 500)]
		ids = ids[len(part):]
		args := []any{int64(at), int64(moment.Never)}
		for _, id := range part {
			args = append(args, noticedKey(id))
		}
		if err := t.exec("UPDATE noticed SET gone = ? WHERE gone = ? AND id IN ("+marks(len(part))+")", args...); err != nil {
			return err
		}
	}
	return nil
}
