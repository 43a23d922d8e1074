package store

import (
	"cmp"
	"context"
	"database/sql"
	"slices"
	"strings"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// FoundRecord is a record of a system as it was read.
type FoundRecord struct {
	Kind, Native string
	At           moment.Moment // since when it reads so
	Ours         string        // what it is known by here; empty where it is nobody of ours'
	Doc          []byte        // its fields and who made it, in the system's words
	Accepted     moment.Moment // until when it is let be
	Opened       *int          // how often it was opened; nil where the system does not tell
}

// PutFound takes in part of a reading: what reads as before is seen again, what reads otherwise is a state
// of its own. It reports how many read otherwise.
func (s *Store) PutFound(ctx context.Context, system, kind string, round moment.Moment, list []FoundRecord) (changed int, err error) {
	if len(list) == 0 {
		return 0, nil
	}
	type was struct {
		at       int64
		doc      string
		ours     string
		accepted int64
		opened   sql.NullInt64
	}
	known := map[string]was{}
	args := []any{system, kind, int64(moment.Never)}
	for i := range list {
		args = append(args, list[i].Native)
	}
	in := "native IN (?" + strings.Repeat(",?", len(list)-1) + ")"
	err = each(ctx, s.db,
		"SELECT native, at, doc, ours, accepted, opened FROM system_found WHERE system = ? AND kind = ? AND gone = ? AND "+in, args,
		func(r *sql.Rows) error {
			var native string
			var w was
			err := r.Scan(&native, &w.at, &w.doc, &w.ours, &w.accepted, &w.opened)
			known[native] = w
			return err
		})
	if err != nil {
		return 0, err
	}
	tx, err := s.db.BeginTx(ctx, nil)
	if err != nil {
		return 0, err
	}
	defer tx.Rollback()
	same := []any{int64(round), system, kind, int64(moment.Never)}
	var rows []any
	for i := range list {
		x := &list[i]
		w, there := known[x.Native]
		if there && w.doc == string(x.Doc) && w.ours == x.Ours {
			if x.Opened != nil && (!w.opened.Valid || w.opened.Int64 != int64(*x.Opened)) { // that is no state of its own
				if _, err := tx.ExecContext(ctx, "UPDATE system_found SET opened = ? WHERE system = ? AND kind = ? AND native = ? AND at = ?",
					*x.Opened, system, kind, x.Native, w.at); err != nil {
					return 0, err
				}
			}
			same = append(same, x.Native)
			continue
		}
		changed++
		at := int64(round)
		if there {
			if at <= w.at { // two states within one moment: the later one counts
				at = w.at
				if _, err := tx.ExecContext(ctx, "DELETE FROM system_found WHERE system = ? AND kind = ? AND native = ? AND at = ?", system, kind,
					x.Native, w.at); err != nil {
					return 0, err
				}
			} else if _, err := tx.ExecContext(ctx, "UPDATE system_found SET gone = ? WHERE system = ? AND kind = ? AND native = ? AND at = ?", at,
				system, kind, x.Native, w.at); err != nil {
				return 0, err
			}
		}
		rows = append(rows, system, kind, x.Native, at, int64(moment.Never), int64(round), x.Ours, string(x.Doc), w.accepted, x.Opened)
	}
	if n := len(same) - 4; n > 0 {
		if _, err := tx.ExecContext(ctx,
			"UPDATE system_found SET round = GREATEST(round, ?) WHERE system = ? AND kind = ? AND gone = ? AND native IN (?"+strings.Repeat(",?",
				n-1)+")", same...); err != nil {
			return 0, err
		}
	}
	if n := len(rows) / 10; n > 0 {
		q := "INSERT INTO system_found (system, kind, native, at, gone, round, ours, doc, accepted, opened) VALUES (?,?,?,?,?,?,?,?,?,?)" +
			strings.Repeat(",(?,?,?,?,?,?,?,?,?,?)", n-1) +
			" ON DUPLICATE KEY UPDATE round = VALUES(round), gone = VALUES(gone), ours = VALUES(ours), doc = VALUES(doc), opened = VALUES(opened)"
		if _, err := tx.ExecContext(ctx, q, rows...); err != nil {
			return 0, err
		}
	}
	return changed, tx.Commit()
}

// EndFound ends what a complete reading of a kind did not show. It returns how many there were.
func (s *Store) EndFound(ctx context.Context, system, kind string, round moment.Moment) (int64, error) {
	done, err := s.db.ExecContext(ctx, "UPDATE system_found SET gone = ? WHERE system = ? AND kind = ? AND gone = ? AND round < ?",
		int64(round), system, kind, int64(moment.Never), int64(round))
	if err != nil {
		return 0, err
	}
	return done.RowsAffected()
}

// GoneFound ends one record that was looked for and is not there.
func (s *Store) GoneFound(ctx context.Context, system, kind, native string, at moment.Moment) error {
	_, err := s.db.ExecContext(ctx, "UPDATE system_found SET gone = GREATEST(?, at) WHERE system = ? AND kind = ? AND native = ? AND gone = ?",
		int64(at), system, kind, native, int64(moment.Never))
	return err
}

// CountStaying counts the records of a kind that were found last and are not being taken away by us.
func (s *Store) CountStaying(ctx context.Context, system, kind string) (n int, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT COUNT(*) FROM system_found f WHERE f.system = ? AND f.kind = ? AND f.gone = ? AND NOT EXISTS
		(SELECT 1 FROM system_record r WHERE r.system = f.system AND r.kind = f.kind AND r.ours = f.ours AND r.state IN ('sent', 'settling') AND r.turn = 'tightens')`,
		system, kind, int64(moment.Never)).Scan(&n)
	return
}

// CountFound counts the records of a kind that were found last.
func (s *Store) CountFound(ctx context.Context, system, kind string) (n int, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COUNT(*) FROM system_found WHERE system = ? AND kind = ? AND gone = ?", system, kind,
		int64(moment.Never)).Scan(&n)
	return
}

const foundColumns = "f.kind, f.native, f.at, f.ours, f.doc, f.accepted"

func scanFound(r *sql.Rows) (x FoundRecord, err error) {
	err = r.Scan(&x.Kind, &x.Native, (*int64)(&x.At), &x.Ours, &x.Doc, (*int64)(&x.Accepted))
	return
}

// Found hands over the records of a kind that were found last and are known here, in the order of what they
// are known by.
func (s *Store) Found(ctx context.Context, system, kind string, fn func(*FoundRecord) error) error {
	return s.eachFound(ctx, "f.kind = ? AND f.ours > '' ORDER BY f.ours, f.native", []any{system, int64(moment.Never), kind}, fn)
}

func (s *Store) eachFound(ctx context.Context, where string, args []any, fn func(*FoundRecord) error) error {
	return each(ctx, s.db, "SELECT "+foundColumns+" FROM system_found f WHERE f.system = ? AND f.gone = ? AND "+where, args,
		func(r *sql.Rows) error {
			x, err := scanFound(r)
			if err != nil {
				return err
			}
			return fn(&x)
		})
}

// FoundByOurs returns what was found of one entry; nil for nothing.
func (s *Store) FoundByOurs(ctx context.Context, system, kind, ours string) (out *FoundRecord, err error) {
	err = s.eachFound(ctx, "f.kind = ? AND f.ours = ? ORDER BY f.native LIMIT 1", []any{system, int64(moment.Never), kind, ours},
		func(x *FoundRecord) error {
			out = x
			return nil
		})
	return
}

// FoundByNative returns what was found under an id of the system; nil for nothing.
func (s *Store) FoundByNative(ctx context.Context, system, kind, native string) (out *FoundRecord, err error) {
	err = s.eachFound(ctx, "f.kind = ? AND f.native = ?", []any{system, int64(moment.Never), kind, native}, func(x *FoundRecord) error {
		out = x
		return nil
	})
	return
}

// Unknown hands over what was found and stands for nothing here, in the order of the system's ids, behind
// one of them.
func (s *Store) Unknown(ctx context.Context, system, kind, after string, limit int, fn func(*FoundRecord) error) error {
	return s.eachFound(ctx, "f.kind = ? AND f.native > ? AND "+unknown+" ORDER BY f.native LIMIT ?",
		[]any{system, int64(moment.Never), kind, after, limit}, fn)
}

// unknown picks what stands for nothing here.
const unknown = "NOT EXISTS (SELECT 1 FROM system_record r WHERE r.system = f.system AND r.kind = f.kind AND r.ours = f.ours AND f.ours > '')"

// CountUnknown counts what was found of a kind and stands for nothing here; accepted are those that are let
// be at a moment.
func (s *Store) CountUnknown(ctx context.Context, system, kind string, at moment.Moment) (n, accepted int, err error) {
	err = s.db.QueryRowContext(ctx,
		"SELECT COUNT(*), COALESCE(SUM(f.accepted > ?), 0) FROM system_found f WHERE f.system = ? AND f.gone = ? AND f.kind = ? AND "+unknown,
		int64(at), system, int64(moment.Never), kind).Scan(&n, &accepted)
	return
}

// SystemRecord is how an entry of our inventory stands in a system.
type SystemRecord struct {
	Kind, Ours, Native string
	State, Turn        string
	Place              int // the order in which it is sent, after its turn
	Sent, Counts, Next moment.Moment
	Drift              bool
	Shown              bool // it was shown before the system was carried
	Doc                []byte
}

const recordColumns = "kind, ours, native, state, turn, place, sent, counts, next, drift, shown, doc"

func scanRecord(r *sql.Rows) (x SystemRecord, err error) {
	err = r.Scan(&x.Kind, &x.Ours, &x.Native, &x.State, &x.Turn, &x.Place, (*int64)(&x.Sent), (*int64)(&x.Counts), (*int64)(&x.Next), &x.Drift,
		&x.Shown, &x.Doc)
	x.Place %= behindTightening
	return
}

func (s *Store) eachRecord(ctx context.Context, where string, args []any, fn func(*SystemRecord) error) error {
	return each(ctx, s.db, "SELECT "+recordColumns+" FROM system_record WHERE system = ? AND "+where, args, func(r *sql.Rows) error {
		x, err := scanRecord(r)
		if err != nil {
			return err
		}
		return fn(&x)
	})
}

// SystemRecords hands over how the entries of a kind stand in a system, in the order of what they are known
// by.
func (s *Store) SystemRecords(ctx context.Context, system, kind string, fn func(*SystemRecord) error) error {
	return s.eachRecord(ctx, "kind = ? ORDER BY ours", []any{system, kind}, fn)
}

// SystemRecord returns how one entry stands; nil where nothing is known of it.
func (s *Store) SystemRecord(ctx context.Context, system, kind, ours string) (out *SystemRecord, err error) {
	err = s.eachRecord(ctx, "kind = ? AND ours = ?", []any{system, kind, ours}, func(x *SystemRecord) error {
		out = x
		return nil
	})
	return
}

// OursOf finds what records of a system are known by here, by their ids there; what is not known is left out.
func (s *Store) OursOf(ctx context.Context, system, kind string, natives []string) (map[string]string, error) {
	out := map[string]string{}
	if len(natives) == 0 {
		return out, nil
	}
	args := []any{system, kind}
	for _, n := range natives {
		args = append(args, n)
	}
	err := s.eachRecord(ctx, "kind = ? AND native IN (?"+strings.Repeat(",?", len(natives)-1)+")", args, func(x *SystemRecord) error {
		out[x.Native] = x.Ours
		return nil
	})
	return out, err
}

// RecordsOfParty hands over under what the grants of a party stand in a system.
func (s *Store) RecordsOfParty(ctx context.Context, system, party string, fn func(ours string)) error {
	return s.eachRecord(ctx, "kind = 'grant' AND ours > ? AND ours < ?", []any{system, party + " ", party + "!"}, func(x *SystemRecord) error {
		fn(x.Ours)
		return nil
	})
}

// Held says what is held because it would be more than goes in a day.
type Held struct{ Tightens, Loosens bool }

// RecordsToSend returns the next that wait to be written to a system at a moment: what tightens first, then
// in their order. What was sent before a moment and not answered is sent again. What is
// held is not returned.
func (s *Store) RecordsToSend(ctx context.Context, system string, now, again moment.Moment, held Held, limit int) (out []SystemRecord,
	err error) {
	least, most := 0, 2*behindTightening
	if held.Tightens {
		least = behindTightening
	}
	if held.Loosens {
		most = behindTightening
	}
	for _, x := range []struct {
		where string
		args  []any
	}{ // each in the order of an index, so that it costs the same however many wait
		{"state = 'waiting'", nil}, {"state = 'failed' AND next <= ?", []any{int64(now)}}, {"state = 'sent' AND sent <= ?", []any{int64(again)}},
	} {
		args := append(append([]any{system}, x.args...), least, most, limit)
		if err := s.eachRecord(ctx, x.where+" AND place >= ? AND place < ? ORDER BY place, ours LIMIT ?", args, func(r *SystemRecord) error {
			out = append(out, *r)
			return nil
		}); err != nil {
			return nil, err
		}
	}
	slices.SortFunc(out, func(a, b SystemRecord) int {
		return cmp.Or(cmp.Compare(a.order(), b.order()), cmp.Compare(a.Ours, b.Ours))
	})
	return out[:min(len(out), limit)], nil
}

// behindTightening is what is added to the place of a record that does not tighten: it comes behind all that does.
const behindTightening = 100

func (x *SystemRecord) order() int {
	if x.Turn == "tightens" {
		return x.Place
	}
	return x.Place + behindTightening
}

// RecordsToConfirm returns those that settle and should count at a moment.
func (s *Store) RecordsToConfirm(ctx context.Context, system string, now moment.Moment, limit int) (out []SystemRecord, err error) {
	err = s.eachRecord(ctx, "state = 'settling' AND counts <= ? LIMIT ?", []any{system, int64(now), limit}, func(x *SystemRecord) error {
		out = append(out, *x)
		return nil
	})
	return
}

// RecordFound is how an entry stands in a system, and what was found of it; Found is nil for nothing.
type RecordFound struct {
	SystemRecord
	Found *FoundRecord
}

// recordsFound hands over entries with what was found of them.
func (s *Store) recordsFound(ctx context.Context, system, where string, args []any, fn func(*RecordFound) error) error {
	return each(ctx, s.db,
		"SELECT r.kind, r.ours, r.native, r.state, r.turn, r.place, r.sent, r.counts, r.next, r.drift, r.shown, r.doc, f.native, f.at, f.doc, f.accepted"+
			" FROM (SELECT * FROM system_record WHERE system = ? AND "+where+") r LEFT JOIN system_found f FORCE INDEX (by_ours)"+
			" ON f.system = r.system AND f.kind = r.kind AND f.gone = ? AND f.ours = r.ours ORDER BY r.kind, r.ours, f.native",
		append(append([]any{system}, args...), int64(moment.Never)), func(r *sql.Rows) error {
			var x RecordFound
			var native, doc []byte
			var at, accepted sql.NullInt64
			if err := r.Scan(&x.Kind, &x.Ours, &x.Native, &x.State, &x.Turn, &x.Place, (*int64)(&x.Sent), (*int64)(&x.Counts), (*int64)(&x.Next),
				&x.Drift, &x.Shown, &x.Doc,
				&native, &at, &doc, &accepted); err != nil {
				return err
			}
			if at.Valid {
				x.Found = &FoundRecord{Kind: x.Kind, Native: string(native), At: moment.Moment(at.Int64), Ours: x.Ours, Doc: doc,
					Accepted: moment.Moment(accepted.Int64)}
			}
			return fn(&x)
		})
}

// RecordsAside hands over the entries that do not stand in a system as they are meant, or are in doubt, at
// most so many.
func (s *Store) RecordsAside(ctx context.Context, system string, limit int, fn func(*RecordFound) error) error {
	return s.recordsFound(ctx, system, "(state <> 'confirmed' OR drift) ORDER BY kind, ours LIMIT ?", []any{limit}, fn)
}

// CountAside counts the entries that do not stand in a system as they are meant, up to a number.
func (s *Store) CountAside(ctx context.Context, system string, most int) (n int, err error) {
	err = s.db.QueryRowContext(ctx,
		"SELECT COUNT(*) FROM (SELECT 1 FROM system_record WHERE system = ? AND (state <> 'confirmed' OR drift) LIMIT ?) x", system,
		most).Scan(&n)
	return
}

// RecordCounts counts how the entries of each kind stand, by kind and state; what drifts under "drift".
func (s *Store) RecordCounts(ctx context.Context, system string) (map[string]map[string]int, error) {
	out := map[string]map[string]int{}
	err := each(ctx, s.db, "SELECT kind, IF(drift, 'drift', state), COUNT(*) FROM system_record WHERE system = ? GROUP BY 1, 2", []any{system},
		func(r *sql.Rows) error {
			var kind, state string
			var n int
			if err := r.Scan(&kind, &state, &n); err != nil {
				return err
			}
			if out[kind] == nil {
				out[kind] = map[string]int{}
			}
			out[kind][state] = n
			return nil
		})
	return out, err
}

// TurnedSince counts what was taken from people in a system since a moment, or given to them, and what waits to be.
// What was shown before the system was carried is not counted.
func (s *Store) TurnedSince(ctx context.Context, system, turn string, since moment.Moment) (done, waiting int, err error) {
	err = s.db.QueryRowContext(ctx,
		`SELECT COALESCE(SUM(state IN ('sent', 'settling', 'confirmed', 'differs') AND sent >= ?), 0), COALESCE(SUM(state IN ('waiting', 'failed')), 0)
		 FROM system_record WHERE system = ? AND turn = ? AND NOT shown AND kind IN ('guest', 'grant', 'link')`, int64(since), system, turn).Scan(&done, &waiting)
	return
}

// PutSystemRecords writes how entries stand, within a change. A nil doc ends one: nothing is known of it any
// more.
func (t *Tx) PutSystemRecords(system string, list []SystemRecord) error {
	t.keep = true
	for len(list) > 0 {
		part := list[:min(len(list), 200)]
		list = list[len(part):]
		var rows []any
		for i := range part {
			x := &part[i]
			if x.Doc == nil {
				if err := t.exec("DELETE FROM system_record WHERE system = ? AND kind = ? AND ours = ?", system, x.Kind, x.Ours); err != nil {
					return err
				}
				continue
			}
			rows = append(rows, system, x.Kind, x.Ours, x.Native, x.State, x.Turn, x.order(), int64(x.Sent), int64(x.Counts), int64(x.Next), x.Drift,
				x.Shown, string(x.Doc))
		}
		if n := len(rows) / 13; n > 0 {
			q := "REPLACE INTO system_record (system, " + recordColumns + ") VALUES (?,?,?,?,?,?,?,?,?,?,?,?,?)" +
				strings.Repeat(",(?,?,?,?,?,?,?,?,?,?,?,?,?)", n-1)
			if _, err := t.tx.ExecContext(t.ctx, q, rows...); err != nil {
				return err
			}
		}
	}
	return t.exec("UPDATE system_work SET records = records + 1 WHERE system = ?", system)
}

// AcceptFound lets records be that stand for nothing here, until a moment.
func (t *Tx) AcceptFound(system, kind, native string, until moment.Moment) error {
	t.keep = true
	return t.exec("UPDATE system_found SET accepted = ? WHERE system = ? AND kind = ? AND native = ? AND gone = ?",
		int64(until), system, kind, native, int64(moment.Never))
}

// RecordsMoved says that what was found in a system reads otherwise.
func (s *Store) RecordsMoved(ctx context.Context, system string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE system_work SET records = records + 1 WHERE system = ?", system)
	return err
}

// Listed notes when the records of a system were read as a whole, and kinds of which that showed none though
// there were some.
func (s *Store) Listed(ctx context.Context, system string, at moment.Moment, empty string) error {
	_, err := s.db.ExecContext(ctx, "UPDATE system_work SET listed = ?, empty = ?, records = records + 1 WHERE system = ?", int64(at), empty,
		system)
	return err
}

// BrakedAt notes how many steps wait because they are more than are let go in a day.
func (s *Store) BrakedAt(ctx context.Context, system string, n int) error {
	_, err := s.db.ExecContext(ctx, "UPDATE system_work SET braked = ? WHERE system = ?", n, system)
	return err
}

// EachGrant hands over what every party was given, party by party in their order.
func (s *Store) EachGrant(ctx context.Context, fn func(party string, list []world.Grant) error) error {
	var list []world.Grant
	err := each(ctx, s.db, "SELECT "+grantColumns+" FROM `grant` WHERE until_seq = ? ORDER BY party, resource, resource_kind, role, starts",
		[]any{open}, func(r *sql.Rows) error {
			g, err := scanGrant(r)
			if err != nil {
				return err
			}
			if len(list) > 0 && list[0].Holder() != g.Holder() {
				if err := fn(list[0].Party(), list); err != nil {
					return err
				}
				list = list[:0]
			}
			list = append(list, g)
			return nil
		})
	if err == nil && len(list) > 0 {
		err = fn(list[0].Party(), list)
	}
	return err
}

// TouchedIDs lists the entries of some kinds that the journal speaks of behind one number and up to another;
// many is true where they are more than a limit.
func (s *Store) TouchedIDs(ctx context.Context, after, to uint64, limit int, kinds ...string) (out [][2]string, many bool, err error) {
	args := []any{after, to}
	for _, k := range kinds {
		args = append(args, k)
	}
	err = each(ctx, s.db, "SELECT DISTINCT kind, id FROM journal WHERE seq > ? AND seq <= ? AND kind IN (?"+strings.Repeat(",?",
		len(kinds)-1)+") LIMIT ?",
		append(args, limit+1), func(r *sql.Rows) error {
			var k [2]string
			err := r.Scan(&k[0], &k[1])
			out = append(out, k)
			return err
		})
	return out, len(out) > limit, err
}

// PartyOf takes the party from a grant's key in the journal.
func PartyOf(key string) string { return partyOf(key) }

// KnowFound notes what a record of a system is known by here.
func (t *Tx) KnowFound(system, kind, native, ours string) error {
	t.keep = true
	return t.exec("UPDATE system_found SET ours = ? WHERE system = ? AND kind = ? AND native = ? AND gone = ?",
		ours, system, kind, native, int64(moment.Never))
}

// OpenRecords reports whether records are on their way to a system, whether some of them were not taken yet, and
// when the last of what settles is expected to count; 0 where nothing does.
func (s *Store) OpenRecords(ctx context.Context, system string) (open, unsent bool, last moment.Moment, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT EXISTS (SELECT 1 FROM system_record WHERE system = ? AND state IN ('waiting', 'sent', 'failed')),
		COALESCE((SELECT MAX(counts) FROM system_record WHERE system = ? AND state = 'settling'), 0)`, system, system).Scan(&unsent, (*int64)(&last))
	return unsent || last > 0, unsent, last, err
}

// RecordsNow returns a number that moves with what is known of the records of all systems.
func (s *Store) RecordsNow(ctx context.Context) (n uint64, err error) {
	err = s.db.QueryRowContext(ctx, "SELECT COALESCE(SUM(records), 0) FROM system_work").Scan(&n)
	return
}

// RecordsIn hands over the entries of a kind that stand in some states in a system ("drift" for those that
// were changed there), whose name here holds a text, behind one of them.
func (s *Store) RecordsIn(ctx context.Context, system, kind string, states []string, text, after string, limit int,
	fn func(*RecordFound) error) error {
	args := []any{kind, after}
	where := "kind = ? AND ours > ? AND IF(drift, 'drift', state) IN (?" + strings.Repeat(",?", len(states)-1) + ")"
	for _, x := range states {
		args = append(args, x)
	}
	if text != "" {
		where += " AND INSTR(ours, ?) > 0"
		args = append(args, text)
	}
	return s.recordsFound(ctx, system, where+" ORDER BY ours LIMIT ?", append(args, limit), fn)
}

// OpenedCount is how often a link was opened, as a system told when it was read.
type OpenedCount struct {
	System string
	Times  int
	Read   moment.Moment
}

// Opened returns how often links were opened, by their ids here, where a system tells.
func (s *Store) Opened(ctx context.Context, links []string) (map[string]OpenedCount, error) {
	out := map[string]OpenedCount{}
	if len(links) == 0 {
		return out, nil
	}
	args := []any{int64(moment.Never)}
	for _, id := range links {
		args = append(args, id)
	}
	err := each(ctx, s.db,
		"SELECT system, ours, opened, round FROM system_found WHERE kind = 'link' AND gone = ? AND opened IS NOT NULL AND ours IN (?"+strings.Repeat(",?",
			len(links)-1)+")", args, func(r *sql.Rows) error {
			var ours string
			var c OpenedCount
			err := r.Scan(&c.System, &ours, &c.Times, (*int64)(&c.Read))
			out[ours] = c
			return err
		})
	return out, err
}
