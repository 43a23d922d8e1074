package store

import (
	"context"
	"database/sql"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// StanceKey is what a stance is known by.
func StanceKey(partner string, k catalogue.Key) string { return partner + " " + k.String() }

// Follow hands over what changed since a head, and returns the head it has
// reached. It reports all=true, and hands over nothing, where so much changed
// that reading everything is cheaper. forgot is that somebody was forgotten: of what an
// earlier reading holds their address is to go.
func (s *Store) Follow(ctx context.Context, since Head, sink Sink) (h Head, all, forgot bool, err error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return since, false, false, err
	}
	defer tx.Rollback()
	if err := tx.QueryRowContext(ctx, "SELECT seq, revision FROM head WHERE one = 1").Scan(&h.Seq, &h.Revision); err != nil {
		return since, false, false, err
	}
	if h.Seq == since.Seq {
		return h, false, false, nil
	}
	if h.Seq < since.Seq {
		return since, true, false, nil
	}
	if all, forgot, err = s.between(ctx, tx, since, h, mostFollowed, sink); err != nil || all {
		return since, all, forgot, err
	}
	return h, false, forgot, nil
}

// How many journal entries may lie between two heads for what changed to be read one by one.
const (
	mostFollowed = 5000
	mostStepped  = 20_000
)

// Between hands over what is otherwise at one head than at another, before or behind it. It reports all=true, and hands over nothing,
// where so much is otherwise that reading everything is cheaper.
func (s *Store) Between(ctx context.Context, since, to Head, sink Sink) (all bool, err error) {
	tx, err := s.db.BeginTx(ctx, &sql.TxOptions{Isolation: sql.LevelRepeatableRead, ReadOnly: true})
	if err != nil {
		return false, err
	}
	defer tx.Rollback()
	all, _, err = s.between(ctx, tx, since, to, mostStepped, sink)
	return all, err
}

func (s *Store) between(ctx context.Context, q querier, since, to Head, most uint64, sink Sink) (all, forgot bool, err error) {
	first, last := min(since.Seq, to.Seq), max(since.Seq, to.Seq)
	if last-first > most {
		return true, false, nil
	}
	seen := map[[2]string]bool{}
	var order [][2]string
	if err := each(ctx, q, "SELECT kind, id FROM journal WHERE seq > ? AND seq <= ? ORDER BY seq", []any{first, last},
		func(r *sql.Rows) error {
			var k [2]string
			if err := r.Scan(&k[0], &k[1]); err != nil {
				return err
			}
			switch k[0] {
			case "grant":
				k[1] = partyOf(k[1]) // all of that party
			case "forwarder":
				k[1], _, _ = strings.Cut(k[1], " to ")
			case "stance":
				k = [2]string{"policy", ""}
			case "import":
				all = true
			case "forgotten":
				forgot = true
			}
			if !seen[k] {
				seen[k] = true
				order = append(order, k)
			}
			return nil
		}); err != nil || all {
		return all, forgot, err
	}
	for _, k := range order {
		if err := s.handOver(ctx, q, k[0], k[1], to.Seq, sink); err != nil {
			return false, false, err
		}
	}
	if to.Revision != since.Revision || seen[[2]string{"policy", ""}] {
		var w *world.World
		if p, ok := sink.(PolicySink); ok && !seen[[2]string{"policy", ""}] && !forgot {
			if w, err = policyWith(ctx, q, p.Policy(), order, to); err != nil {
				return false, false, err
			}
		}
		if w == nil {
			if w, err = readPolicyFor(ctx, q, to, to.Seq, sink); err != nil {
				return false, false, err
			}
		}
		sink.SetPolicy(w)
	}
	return false, forgot, nil
}

// PolicySink is a Sink that holds the policy as it was before, nil where it holds none: then what changed of it is all that is read.
type PolicySink interface {
	Sink
	Policy() *world.World
}

// policyWith returns a policy with those of its entries that a journal names as they are at a head. It is nil where all has to be read:
// where there is no policy yet, a partner is new whose stances may be there already, or an entry cannot be read as it is kept.
func policyWith(ctx context.Context, q querier, was *world.World, named [][2]string, to Head) (*world.World, error) {
	if was == nil {
		return nil, nil
	}
	policy := worldfile.StoredPolicy()
	var edits []draft.Edit
	for _, k := range named {
		if !slices.Contains(policy, k[0]) {
			continue
		}
		edit := draft.Edit{Kind: k[0], ID: k[1]}
		if err := each(ctx, q, "SELECT doc FROM policy WHERE kind = ? AND id = ? AND from_revision <= ? AND until_revision > ?",
			[]any{k[0], k[1], to.Revision, to.Revision}, func(r *sql.Rows) error {
				var doc []byte
				err := r.Scan(&doc)
				edit.Now = slices.Clone(doc)
				return err
			}); err != nil {
			return nil, err
		}
		if k[0] == "partner" && edit.Now != nil && !slices.ContainsFunc(was.Partners, func(p world.Partner) bool { return p.ID == k[1] }) {
			return nil, nil
		}
		edits = append(edits, edit)
	}
	w, err := worldfile.Replaced(was, edits)
	if err != nil {
		return nil, nil // as it is read in whole, it is told what is wrong
	}
	return w, nil
}

// partyOf takes the party from a grant's key. A quoted local part may hold
// blanks; the three words behind the party never do.
func partyOf(key string) string {
	for i := 0; i < 3; i++ {
		if j := strings.LastIndexByte(key, ' '); j >= 0 {
			key = key[:j]
		}
	}
	return key
}

func (s *Store) handOver(ctx context.Context, q querier, kind, id string, seq uint64, sink Sink) error {
	when := []any{seq, seq}
	switch kind {
	case "guest":
		found := false
		defer func() {
			if a, err := addr.Parse(id); err == nil && !found {
				sink.RemoveGuest(a)
			}
		}()
		return each(
			ctx,
			q,
			"SELECT "+guestColumns+" FROM guest WHERE address = ? AND "+asOf,
			append([]any{id}, when...),
			func(r *sql.Rows) error {
				g, err := scanGuest(r)
				if err == nil {
					found = true
					putGuest(sink, &g)
				}
				return err
			},
		)
	case "item":
		found := false
		err := each(ctx, q, "SELECT "+itemColumns+" FROM item WHERE id = ? AND "+asOf, append([]any{id}, when...), func(r *sql.Rows) error {
			it, _, err := scanItem(r)
			if err == nil {
				found = true
				putItem(sink, &it)
			}
			return err
		})
		if err == nil && !found {
			sink.Remove(kind, id)
		}
		return err
	case "grant":
		some := &anyGrants{Sink: sink}
		err := eachGrants(ctx, q, "party = ? AND "+asOf, append([]any{id}, when...), some)
		if err == nil && !some.any {
			sink.SetGrants(id, nil)
		}
		return err
	case "dates_from":
		return readFloors(ctx, q, when, sink)
	case "forwarder":
		sink.SetForwarders(id, nil) // the last one may be gone
		return eachForwarders(ctx, q, id, when, sink)
	case "group", "person", "space", "domain_list", "meeting", "link", "contact", "holding":
		found := false
		err := each(
			ctx,
			q,
			"SELECT doc FROM record WHERE kind = ? AND id = ? AND "+asOf,
			append([]any{kind, id}, when...),
			func(r *sql.Rows) error {
				var doc []byte
				if err := r.Scan(&doc); err != nil {
					return err
				}
				found = true
				return readKept(sink, kind, id, doc, func(doc []byte) error { return putDoc(kind, id, doc, sink) })
			},
		)
		if err != nil || found {
			return err
		}
		if kind != "contact" {
			sink.Remove(kind, id)
			return nil
		}
		person, party, _ := strings.Cut(id, " and ")
		if a, err := addr.Parse(party); err == nil {
			sink.PutContact(&world.Contact{Person: person, Party: a})
		}
		return nil
	}
	return nil // policy is handed over whole; accounts concern nobody's questions
}
