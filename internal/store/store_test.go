package store

import (
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/store/migrations"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

func TestMain(m *testing.M) { dbtest.Main(m) }

var now = moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

func empty(t *testing.T, dsn string) *Store {
	t.Helper()
	s, err := Open(t.Context(), dsn, nil)
	check(t, err)
	t.Cleanup(func() { _ = s.Close() })
	check(t, s.Migrate(t.Context()))
	return s
}

// kept collects what a database holds.
type kept struct{ w world.World }

func (k *kept) PutGroup(x *world.Group)              { k.w.Groups = append(k.w.Groups, *x) }
func (k *kept) PutPerson(x *world.Person)            { k.w.People = append(k.w.People, *x) }
func (k *kept) PutSpace(x *world.Space)              { k.w.Spaces = append(k.w.Spaces, *x) }
func (k *kept) PutDomainList(x *world.DomainList)    { k.w.DomainLists = append(k.w.DomainLists, *x) }
func (k *kept) PutMeeting(x *world.Meeting)          { k.w.Meetings = append(k.w.Meetings, *x) }
func (k *kept) PutGuest(x *world.Guest)              { k.w.Guests = append(k.w.Guests, *x) }
func (k *kept) SetGrants(_ string, xs []world.Grant) { k.w.Grants = append(k.w.Grants, xs...) }
func (k *kept) PutLink(x *world.Link)                { k.w.Links = append(k.w.Links, *x) }
func (k *kept) SetForwarders(_ string, xs []world.Forwarder) {
	k.w.Forwarders = append(k.w.Forwarders, xs...)
}
func (k *kept) PutContact(x *world.Contact) { k.w.Contacts = append(k.w.Contacts, *x) }
func (k *kept) PutHolding(x *world.Holding) { k.w.Holdings = append(k.w.Holdings, *x) }
func (k *kept) PutItem(x *world.Item) {
	for i := range k.w.Spaces {
		if k.w.Spaces[i].ID == x.Space {
			k.w.Spaces[i].Items = append(k.w.Spaces[i].Items, *x)
		}
	}
}
func (k *kept) RemoveGuest(addr.Address)      {}
func (k *kept) Remove(string, string)         {}
func (k *kept) SetFloors(x []world.DatesFrom) { k.w.DatesFrom = x }
func (k *kept) SetPolicy(p *world.World) {
	inv := k.w
	k.w = *p
	k.w.Groups, k.w.People, k.w.Spaces, k.w.Meetings, k.w.Guests, k.w.Grants, k.w.Links, k.w.Forwarders, k.w.Contacts,
		k.w.Holdings = inv.Groups, inv.People, inv.Spaces, inv.Meetings, inv.Guests, inv.Grants, inv.Links, inv.Forwarders, inv.Contacts,
		inv.Holdings
	k.w.DatesFrom = inv.DatesFrom
}

func dump(t *testing.T, s *Store, at Head) string {
	t.Helper()
	k := &kept{}
	_, err := s.Read(t.Context(), at, k)
	check(t, err)
	return string(worldfile.Write(&k.w))
}

func TestMigrations(t *testing.T) {
	s := empty(t, dbtest.DSN(t))
	v, err := s.SchemaVersion(t.Context())
	check(t, err)
	if v < 1 {
		t.Fatalf("version %d", v)
	}
	check(t, s.MigrateDown(t.Context(), 0))
	var n int
	check(t,
		s.db.QueryRow("SELECT COUNT(*) FROM information_schema.tables WHERE table_schema = DATABASE() AND table_name <> 'goose_db_version'").Scan(&n))
	if n != 0 {
		t.Errorf("%d tables are left", n)
	}
	check(t, s.Migrate(t.Context()))
	if h, err := s.Head(t.Context()); err != nil || h != (Head{}) {
		t.Errorf("%+v, %v", h, err)
	}
}

// TestHistory changes a world in steps and wants every earlier state to be there
// as it was, policy and inventory.
func TestHistory(t *testing.T) {
	s, ctx := empty(t, dbtest.DSN(t)), t.Context()
	w := worldgen.Generate(4, worldgen.Size{Guests: 60}, now)
	h, err := s.Import(ctx, "test", "start", w, nil)
	check(t, err)
	states := map[Head]string{h: dump(t, s, Head{})}
	if !strings.Contains(states[h], "guest59@") {
		t.Fatal("the import lacks a guest")
	}
	for step := range 12 {
		h, err := s.Change(ctx, "test", fmt.Sprint("step ", step), func(tx *Tx) error {
			g := w.Guests[step]
			g.Name, g.LastSeen = fmt.Sprint("Renamed ", step), now
			_, err1 := tx.PutGuest(&g)
			gr := w.Grants[step*3]
			gr.Until = now + moment.Moment(step+1)*86400e6
			_, err2 := tx.PutGrant(&gr)
			sp := w.Spaces[0]
			sp.Name = fmt.Sprint("Space ", step)
			_, err3 := tx.PutRecord("space", sp.ID, worldfile.SpaceDoc(&sp))
			it := w.Spaces[1].Items[0]
			it.Private = step%2 == 0
			_, err4 := tx.PutItem(&it, 0)
			_, err5 := tx.PutPolicy("bar", "x.example", worldfile.BarDoc(&world.Bar{Entry: w.Personal[0], Reason: fmt.Sprint(step)}))
			return errors.Join(err1, err2, err3, err4, err5)
		})
		check(t, err)
		states[h] = dump(t, s, Head{})
	}
	if len(states) != 13 {
		t.Fatalf("%d states", len(states))
	}
	for h, was := range states {
		if is := dump(t, s, h); is != was {
			t.Errorf("at %+v the world is not what it was", h)
		}
	}
	n, broken, err := s.VerifyJournal(ctx)
	if err != nil || broken != nil || n == 0 {
		t.Errorf("%d, %+v, %v", n, broken, err)
	}
}

// TestNothingHalf wants a failed change to leave nothing, and an unchanged record
// to write nothing.
func TestNothingHalf(t *testing.T) {
	s, ctx := empty(t, dbtest.DSN(t)), t.Context()
	g := worldgen.Generate(1, worldgen.Size{Guests: 3}, now).Guests[0]
	if _, err := s.Change(ctx, "test", "", func(tx *Tx) error {
		_, err := tx.PutGuest(&g)
		return errors.Join(err, errors.New("no"))
	}); err == nil {
		t.Fatal("it did not fail")
	}
	var n int
	check(t, s.db.QueryRow("SELECT (SELECT COUNT(*) FROM guest) + (SELECT COUNT(*) FROM journal) + (SELECT seq FROM head)").Scan(&n))
	if n != 0 {
		t.Errorf("%d rows are left of it", n)
	}
	put := func() Head {
		h, err := s.Change(ctx, "test", "", func(tx *Tx) error { _, err := tx.PutGuest(&g); return err })
		check(t, err)
		return h
	}
	if a, b := put(), put(); a != b || a.Seq != 1 {
		t.Errorf("%+v, then %+v", a, b)
	}
}

// TestTampering finds an entry that was altered, removed or added.
func TestTampering(t *testing.T) {
	for name, q := range map[string]string{
		"altered":  "UPDATE journal SET who = 'somebody else' WHERE seq = 3",
		"why":      "UPDATE journal SET why = 'a better reason' WHERE seq = 3",
		"nothing":  "UPDATE journal SET now = NULL WHERE seq = 3",
		"removed":  "DELETE FROM journal WHERE seq = 3",
		"cut off":  "DELETE FROM journal WHERE seq = 5",
		"replaced": "UPDATE journal a JOIN journal b ON b.seq = 2 SET a.seal = b.seal WHERE a.seq = 3",
	} {
		s, ctx := empty(t, dbtest.DSN(t)), t.Context()
		for i := range 5 {
			_, err := s.Change(ctx, "test", "", func(tx *Tx) error {
				_, err := tx.PutRecord("group", fmt.Sprint("g", i), []byte(`{"id":"g"}`))
				return err
			})
			check(t, err)
		}
		if _, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil {
			t.Fatalf("%+v, %v", broken, err)
		}
		_, err := s.db.Exec(q)
		check(t, err)
		if n, broken, err := s.VerifyJournal(ctx); err != nil || broken == nil || broken.Seq < 3 {
			t.Errorf("%s: %d hold, %+v, %v", name, n, broken, err)
		}
	}
}

// TestResealed alters an entry and seals it anew: the entry behind it tells.
func TestResealed(t *testing.T) {
	s, ctx := empty(t, dbtest.DSN(t)), t.Context()
	for i := range 5 {
		_, err := s.Change(ctx, "test", "", func(tx *Tx) error {
			_, err := tx.Note("note", fmt.Sprint(i), nil, []byte("{}"))
			return err
		})
		check(t, err)
	}
	es, err := s.Journal(ctx, JournalQuery{Limit: 5})
	check(t, err)
	var before [32]byte
	for i := len(es) - 1; i >= 0; i-- {
		e := es[i]
		if e.Seq == 3 {
			e.Who = "somebody else"
			seal := e.seal(before)
			_, err := s.db.Exec("UPDATE journal SET who = ?, seal = ? WHERE seq = 3", e.Who, seal[:])
			check(t, err)
		}
		before = es[i].seal(before)
	}
	if n, broken, err := s.VerifyJournal(ctx); err != nil || broken == nil || broken.Seq != 4 || n != 3 {
		t.Errorf("%d hold, %+v, %v", n, broken, err)
	}
}

// TestFollow brings a snapshot up to date change by change, and wants it to answer
// like one that was read whole.
func TestFollow(t *testing.T) {
	s, ctx := empty(t, dbtest.DSN(t)), t.Context()
	w := worldgen.Generate(9, worldgen.Size{Guests: 80}, now)
	h, err := s.Import(ctx, "test", "start", w, nil)
	check(t, err)
	e := engine.New()
	_, err = s.Read(ctx, Head{}, sink{e})
	check(t, err)
	snap := e.Done()
	act := catalogue.Actions()
	for step := range 40 {
		_, err := s.Change(ctx, "test", "", func(tx *Tx) error {
			g := w.Grants[step]
			g.Until = now + moment.Moment(step%3-1)*86400e6
			if g.Until <= g.From {
				g.Until = g.From + 1
			}
			_, err1 := tx.PutGrant(&g)
			gu := w.Guests[step]
			gu.State, gu.StateSince = world.State(step%3), moment.Always
			_, err2 := tx.PutGuest(&gu)
			l := w.Links[step%len(w.Links)]
			l.Until = now + moment.Moment(step%2*2-1)*3600e6
			if l.Until <= l.Created {
				l.Until = l.Created + 1
			}
			_, err3 := tx.PutRecord("link", l.ID, worldfile.LinkDoc(&l))
			var err4 error
			if step%5 == 0 {
				_, err4 = tx.PutPolicy("rule", "chat.guests", []byte(fmt.Sprintf(`{"limit":"on","default":"%s"}`, []string{"on", "off"}[step/5%2])))
			}
			return errors.Join(err1, err2, err3, err4)
		})
		check(t, err)
		ed := snap.Edit()
		next, all, _, err := s.Follow(ctx, h, sink{ed})
		check(t, err)
		if all || next == h {
			t.Fatalf("%+v, all %v", next, all)
		}
		snap, h = ed.Done(), next
		whole := engine.New()
		_, err = s.Read(ctx, Head{}, sink{whole})
		check(t, err)
		fresh := whole.Done()
		for i := range w.Grants {
			g := &w.Grants[i]
			for a := range act {
				if g.Group != "" || !act[a].Takes(g.Resource.Kind) || act[a].Address {
					continue
				}
				q := engine.Question{Subject: engine.Who{Address: g.Address}, Action: act[a].ID, Resource: g.Resource, At: now}
				x, err1 := snap.Decide(&q)
				y, err2 := fresh.Decide(&q)
				if x != y || (err1 == nil) != (err2 == nil) {
					t.Fatalf("step %d, %+v: followed %+v, fresh %+v", step, q, x, y)
				}
			}
		}
		if snap.Counts() != fresh.Counts() {
			t.Fatalf("followed %+v, fresh %+v", snap.Counts(), fresh.Counts())
		}
	}
}

type sink struct{ *engine.Editor }

func (sink) PutContact(*world.Contact) {}

// TestKilledDatabase kills the server between and in the middle of changes: what
// was acknowledged is there, and nothing is there by half.
func TestKilledDatabase(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	acknowledged := uint64(0)
	for round := range 4 {
		ctx, cancel := context.WithTimeout(t.Context(), time.Minute)
		srv, err := mariadb.Start(ctx, dir)
		check(t, err)
		check(t, srv.Create(ctx, "w"))
		s, err := Open(ctx, srv.DSN("w"), nil)
		check(t, err)
		check(t, s.Migrate(ctx))
		h, err := s.Head(ctx)
		check(t, err)
		if h.Seq < acknowledged || h.Seq%2 != 0 {
			t.Fatalf("round %d: the journal ends at %d, %d was acknowledged", round, h.Seq, acknowledged)
		}
		if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil || n != h.Seq {
			t.Fatalf("round %d: %d, %+v, %v", round, n, broken, err)
		}
		enough := make(chan bool, 1)
		go func() {
			<-enough
			_ = syscall.Kill(srv.PID(), syscall.SIGKILL)
		}()
		for i := 0; ; i++ {
			h, err := s.Change(ctx, "test", "", func(tx *Tx) error { // two entries a change
				_, err1 := tx.Note("note", fmt.Sprint(round, i), nil, []byte("{}"))
				_, err2 := tx.Note("note", fmt.Sprint(round, i), []byte("{}"), nil)
				return errors.Join(err1, err2)
			})
			if err != nil {
				break
			}
			acknowledged = h.Seq
			if i == 20 {
				enough <- true
			}
		}
		<-srv.Exited()
		_ = s.Close()
		cancel()
	}
	if acknowledged < 80 {
		t.Errorf("only %d entries were written", acknowledged)
	}
}

// TestUpgradeDates brings what an earlier version kept up to date: what its dates had come to was carried
// out, and goes on from there; a link that does not say when it was made was made when the
// journal has it.
func TestUpgradeDates(t *testing.T) {
	ctx := t.Context()
	clock := time.Date(2026, 11, 3, 10, 0, 0, 0, time.UTC)
	s, err := Open(ctx, dbtest.DSN(t), func() time.Time { return clock })
	check(t, err)
	defer s.Close()
	check(t, s.Migrate(ctx))
	put := func(doc string) {
		_, err := s.Change(ctx, "anna", "why", func(tx *Tx) error {
			_, err := tx.PutRecord("link", "kit", []byte(doc))
			return err
		})
		check(t, err)
	}
	put(`{"id":"kit","item":"file:kit","for":"bearer","right":"view","until":"2026-12-01"}`)
	clock = clock.AddDate(0, 0, 5)
	put(`{"id":"kit","item":"file:kit","for":"bearer","right":"view","until":"2026-12-08"}`)
	carried := Carried{At: moment.Of(clock.AddDate(0, 0, -1))}
	_, err = s.Change(ctx, "scheduler", "steps", func(tx *Tx) error {
		_, err := tx.PutRecord("group", "g", []byte(`{"id":"g"}`))
		return errors.Join(err, tx.SetCarried(carried))
	})
	check(t, err)
	check(t, s.MigrateDown(ctx, 4))
	check(t, s.Migrate(ctx))
	doc, err := s.Record(ctx, "link", "kit")
	check(t, err)
	l, err := worldfile.LinkOf(doc)
	check(t, err)
	if got := l.Created.String() + " " + l.Until.String(); got != "2026-11-03T10:00:00Z 2026-12-08T23:00:00Z" &&
		got != "2026-11-03T10:00:00Z 2026-12-09T00:00:00Z" {
		t.Error(got)
	}
	_, err = s.Change(ctx, "anna", "look", func(tx *Tx) error {
		f, ok, err := tx.Floor("organisation")
		if !ok || f.From != carried.At || f.Mail != carried.At {
			t.Errorf("%+v %v", f, ok)
		}
		return err
	})
	check(t, err)
	check(t, s.Migrate(ctx))
	if again, err := s.Record(ctx, "link", "kit"); err != nil || string(again) != string(doc) {
		t.Errorf("again: %s %v", again, err)
	}
}

// TestJournalBegunBefore brings a journal that was begun before entries had a salt up to date: it is
// sealed anew, once, and holds.
func TestJournalBegunBefore(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, dbtest.DSN(t), nil)
	check(t, err)
	defer s.Close()
	check(t, s.Migrate(ctx))
	for i := range 3 {
		_, err := s.Change(ctx, "anna", "why", func(tx *Tx) error {
			_, err := tx.PutRecord("group", fmt.Sprint("g", i), []byte(`{"id":"g"}`))
			return err
		})
		check(t, err)
	}
	begin := func() { // as a program wrote it before there were salts
		t.Helper()
		check(t, s.MigrateDown(ctx, 3))
		var list []Entry
		check(t, each(ctx, s.db, "SELECT seq, part_of, at, who, kind, id, was, now, why, revision FROM journal ORDER BY seq", nil,
			func(r *sql.Rows) error {
				var e Entry
				err := r.Scan(&e.Seq, &e.PartOf, &e.At, &e.Who, &e.Kind, &e.ID, &e.Was, &e.Now, &e.Why, &e.Revision)
				list = append(list, e)
				return err
			}))
		var seal [32]byte
		for i := range list {
			seal = list[i].sealUnsalted(seal)
			_, err := s.db.ExecContext(ctx, "UPDATE journal SET seal = ? WHERE seq = ?", seal[:], list[i].Seq)
			check(t, err)
		}
		_, err := s.db.ExecContext(ctx, "UPDATE head SET seal = ? WHERE one = 1", seal[:])
		check(t, err)
	}
	begin()
	// Altered before the upgrade: it is not sealed anew, and the schema waits.
	_, err = s.db.ExecContext(ctx, "UPDATE journal SET why = 'other' WHERE seq = 2")
	check(t, err)
	if err := s.Migrate(ctx); err == nil || !strings.Contains(err.Error(), "altered at entry 2 before this upgrade") {
		t.Errorf("altered before: %v", err)
	}
	_, err = s.db.ExecContext(ctx, "UPDATE journal SET why = 'why' WHERE seq = 2")
	check(t, err)
	check(t, s.Migrate(ctx)) // where it stopped, it goes on
	// Killed after the schema was changed and before the journal was sealed anew, by this program
	// and by the one before, which wrote nothing down.
	for _, forgets := range []bool{false, true} {
		begin()
		check(t, s.owe(ctx, 3))
		p, err := s.provider()
		check(t, err)
		_, err = p.UpTo(ctx, 5)
		check(t, err)
		if forgets {
			_, err = s.db.ExecContext(ctx, "DELETE FROM upgrade_step")
			check(t, err)
		}
		check(t, s.Migrate(ctx))
		if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil || n < 3 {
			t.Errorf("killed between: %d %+v %v", n, broken, err)
		}
	}
	begin()
	check(t, s.Migrate(ctx))
	if n, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil || n < 3 {
		t.Errorf("%d %+v %v", n, broken, err)
	}
	_, err = s.Change(ctx, "anna", "later", func(tx *Tx) error {
		_, err := tx.PutRecord("group", "g9", []byte(`{"id":"g"}`))
		return err
	})
	check(t, err)
	_, err = s.db.ExecContext(ctx, "UPDATE journal SET why = 'other' WHERE seq = 2")
	check(t, err)
	if _, broken, err := s.VerifyJournal(ctx); err != nil || broken == nil || broken.Seq != 2 {
		t.Errorf("altered, and it holds: %+v %v", broken, err)
	}
	// Words that are taken away without an entry that says so are found out too.
	_, err = s.db.ExecContext(ctx, "UPDATE journal SET why = 'why' WHERE seq = 2")
	check(t, err)
	if _, broken, err := s.VerifyJournal(ctx); err != nil || broken != nil {
		t.Errorf("%+v %v", broken, err)
	}
	var e Entry
	check(t, each(ctx, s.db, "SELECT "+entryColumns+" FROM journal WHERE seq = 2", nil,
		func(r *sql.Rows) error { e, err = scanEntry(r); return err }))
	d := e.digest()
	_, err = s.db.ExecContext(ctx, "UPDATE journal SET why = 'gone', salt = NULL, digest = ? WHERE seq = 2", d[:])
	check(t, err)
	if _, broken, err := s.VerifyJournal(ctx); err != nil || broken == nil || broken.Seq != 2 {
		t.Errorf("words were taken away, and it holds: %+v %v", broken, err)
	}
}

// TestReleasedMigrations holds that a migration that was ever released is never edited: databases
// that it reached would lack what is added to it. What one lost is mended by a new one.
func TestReleasedMigrations(t *testing.T) {
	for name, want := range map[string]string{
		"0001_start.sql":      "083a0b7184b247d5",
		"0002_statements.sql": "ddb795bf3a0529ef",
		"0003_journal_at.sql": "d499250a5654738a",
		"0004_guests.sql":     "787f72fee4704e72",
		"0005_dates_from.sql": "a372d3683e8e4c98",
		"0006_sessions.sql":   "a6fa422f89c58142",

		"0007_systems.sql":        "d7da91ac2c1441b9",
		"0008_system_records.sql": "f3afc670b3dd3809",
	} {
		b, err := migrations.Files.ReadFile(name)
		check(t, err)
		if got := fmt.Sprintf("%x", sha256.Sum256(b)); got[:16] != want {
			t.Errorf("%s was edited after it was released: %s, was %s", name, got[:16], want)
		}
	}
}

// TestKilledInMigration ends every migration behind each of its statements, as whoever is killed
// there does, upwards and downwards: the next start goes on.
func TestKilledInMigration(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, dbtest.DSN(t), nil)
	check(t, err)
	defer s.Close()
	files, err := fs.Glob(migrations.Files, "*.sql")
	check(t, err)
	tried := 0
	for i, f := range files {
		text, err := migrations.Files.ReadFile(f)
		check(t, err)
		up, down, _ := strings.Cut(string(text), "-- +goose Down")
		for _, way := range []struct {
			text     string
			from, to int64
		}{{up, int64(i), int64(i + 1)}, {down, int64(i + 1), int64(i)}} {
			statements := strings.Split(way.text, ";\n")
			for n := 1; n < len(statements); n++ {
				check(t, s.MigrateDown(ctx, 0))
				p, err := s.provider()
				check(t, err)
				if way.from > 0 {
					_, err = p.UpTo(ctx, way.from)
					check(t, err)
				}
				for _, q := range statements[:n] {
					_, err := s.db.ExecContext(ctx, q)
					check(t, err)
				}
				if way.to > way.from {
					_, err = p.UpTo(ctx, way.to)
				} else {
					_, err = p.DownTo(ctx, way.to)
				}
				if err != nil {
					t.Errorf("%s from version %d, ended behind its statement %d: %v", f, way.from, n, err)
				}
				check(t, s.Migrate(ctx))
				tried++
			}
		}
	}
	if tried < 40 {
		t.Errorf("only %d places were tried", tried)
	}
}
