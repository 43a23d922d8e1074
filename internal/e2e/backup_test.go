package e2e

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/go-sql-driver/mysql"

	"wexillum.example/internal/backup"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/forgotten"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// operator runs the program as whoever keeps the machine does.
type operator struct {
	t   *testing.T
	bin string
	env []string
}

func newOperator(t *testing.T, env ...string) *operator {
	t.Helper()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	return &operator{t, bin, env}
}

// run runs a command, and returns what it said and its status.
func (o *operator) run(args ...string) (string, int) {
	o.t.Helper()
	ctx, cancel := context.WithTimeout(o.t.Context(), patience)
	defer cancel()
	cmd := exec.CommandContext(ctx, o.bin, args...)
	cmd.Env = append(os.Environ(), o.env...)
	out, err := cmd.CombinedOutput()
	if err != nil && cmd.ProcessState == nil {
		o.t.Fatal(err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

// says runs a command that ends with a status and says something.
func (o *operator) says(status int, part string, args ...string) string {
	o.t.Helper()
	out, got := o.run(args...)
	if got != status || !strings.Contains(out, part) {
		o.t.Errorf("%s: status %d, not %d with %q:\n%s", strings.Join(args, " "), got, status, part, out)
	}
	return out
}

// contents is every row of every table, but of those that a restore changes.
func contents(t *testing.T, dsn string, but ...string) map[string]string {
	t.Helper()
	c, err := mysql.ParseDSN(dsn)
	check(t, err)
	db, err := sql.Open("mysql", c.FormatDSN())
	check(t, err)
	defer db.Close()
	out := map[string]string{}
	for _, table := range column(t, db, "SELECT table_name FROM information_schema.tables WHERE table_schema = DATABASE()") {
		if slices.Contains(but, table) {
			continue
		}
		rows, err := db.Query("SELECT * FROM `" + table + "`")
		check(t, err)
		names, err := rows.Columns()
		check(t, err)
		var lines []string
		for rows.Next() {
			row, into := make([]sql.NullString, len(names)), make([]any, len(names))
			for i := range row {
				into[i] = &row[i]
			}
			check(t, rows.Scan(into...))
			lines = append(lines, fmt.Sprintf("%+v", row))
		}
		check(t, rows.Err())
		check(t, rows.Close())
		slices.Sort(lines)
		out[table] = strings.Join(lines, "\n")
	}
	return out
}

func column(t *testing.T, db *sql.DB, q string) (out []string) {
	t.Helper()
	rows, err := db.Query(q)
	check(t, err)
	defer rows.Close()
	for rows.Next() {
		var x string
		check(t, rows.Scan(&x))
		out = append(out, x)
	}
	check(t, rows.Err())
	return out
}

func same(t *testing.T, was, is map[string]string) {
	t.Helper()
	for table, rows := range was {
		if is[table] != rows {
			t.Errorf("table %s is otherwise: %d bytes, and were %d", table, len(is[table]), len(rows))
		}
	}
	if len(was) != len(is) {
		t.Errorf("%d tables, and were %d", len(is), len(was))
	}
}

// TestBackup makes backups while somebody writes, and brings them back: byte for byte, with nobody signed in, with those forgotten again
// who were forgotten since. What is cut off, damaged, or for another key is refused, and no service starts on half of one.
func TestBackup(t *testing.T) {
	t.Parallel()
	from := demoDSN(t)
	r := startService(t, from, nil)
	dir := t.TempDir()
	folder, key, other := filepath.Join(dir, "backups"), filepath.Join(dir, "key"), filepath.Join(dir, "other")
	o := newOperator(t, "WEXILLUM_DATABASE="+from, "WEXILLUM_BACKUP_DIR="+folder)
	o.says(2, "backup_to is needed", "backup")
	o.says(2, `backup_to: "age1x" is no public half of a key`, "backup", "--backup-to", "age1x")
	_, public, _ := strings.Cut(o.says(0, "The private half is in "+key, "backup", "key", key), "backup_to: ")
	o.says(1, "is there already: name another file", "backup", "key", key)
	o.says(0, "", "backup", "key", other)
	o.env = append(o.env, "WEXILLUM_BACKUP_TO="+strings.TrimSpace(public))
	listed := func() (out []string) {
		t.Helper()
		text, status := o.run("backup", "list", "-o", "json")
		var list []struct{ File string }
		if err := json.Unmarshal([]byte(text), &list); err != nil || status != 0 {
			t.Fatal(text, err)
		}
		for _, x := range list {
			out = append(out, x.File)
		}
		return
	}

	// Nobody waits while it is made, and what it holds is whole, whoever writes meanwhile.
	token := r.token("harbour")
	stop, stopped := make(chan struct{}), make(chan int)
	go func() {
		n := 0
		for ; ; n++ {
			select {
			case <-stop:
				stopped <- n
				return
			default:
			}
			if status, _, body := r.call("POST", "/api/v1/bars", token,
				fmt.Sprintf(`{"name":"meanwhile%d.example","reason":"x"}`, n)); status != 201 {
				t.Errorf("meanwhile: %d %s", status, body)
			}
		}
	}()
	o.says(0, "is written: ", "backup")
	close(stop)
	if n := <-stopped; n < 2 {
		t.Errorf("%d changes meanwhile", n)
	}
	first := listed()
	if len(first) != 1 {
		t.Fatal(first)
	}
	o.says(0, "1000, as when it was made", "backup", "verify", first[0], "--key", key)

	// Byte for byte, where nobody writes.
	r.login("harbour")
	was := contents(t, from)
	still := filepath.Join(dir, "still")
	o.says(0, "is written: ", "backup", "--file", still)
	text, err := os.ReadFile(still)
	check(t, err)
	for _, clear := range []string{"ilvane", "harbour", "INSERT", "maren"} {
		if bytes.Contains(text, []byte(clear)) {
			t.Errorf("%q stands in it in clear", clear)
		}
	}
	back := dbtest.DSN(t)
	o.env = append(o.env, "WEXILLUM_DATABASE="+back)
	o.says(2, "--key is needed", "restore", still, "--why", "x")
	o.says(2, "--why is needed", "restore", still, "--key", key)
	o.says(1, "is encrypted to other keys", "restore", still, "--key", other, "--why", "x")
	check(t, os.Chmod(other, 0o644))
	o.says(1, "may be read by others than its owner", "restore", still, "--key", other, "--why", "x")
	// Cut off, or with another byte, wherever that is: nothing of it counts.
	for i, broken := range [][]byte{text[:len(text)-40], text[:len(text)-1], text[:len(text)/2], otherByte(text, len(text)/3),
		otherByte(text, len(text)-3), otherByte(text, 150), []byte("nothing"), {}} {
		bad := filepath.Join(dir, "bad")
		check(t, os.WriteFile(bad, broken, 0o600))
		out, status := o.run("restore", bad, "--key", key, "--why", "x", "--again")
		if status != 1 || strings.Contains(out, "Done") {
			t.Errorf("damaged %d: %d %s", i, status, out)
		}
		if i > 1 {
			continue
		}
		out, status = o.run("serve", "--listen", "127.0.0.1:0")
		if status != 1 || !strings.Contains(out, "begin it again with wexillum restore --again") {
			t.Errorf("a service on half of it: %d %s", status, out)
		}
	}
	o.says(1, "begin it again with --again", "restore", still, "--key", key, "--why", "x")
	o.says(0, "no service starts on it", "restore", still, "--key", key, "--again", "--hold")
	same(t, was, without(contents(t, back), "restore_unfinished"))
	o.says(2, "name the file, or --finish", "restore", "--why", "x")

	// Who was forgotten since is forgotten again, whoever they are now.
	list := filepath.Join(dir, "forgotten")
	check(t, forgotten.Add(list, "maren.holtveig@ilvane.example", time.Now()))
	check(t, forgotten.Add(list, "nobody@nowhere.example", time.Now()))
	said := o.says(0, "Forgotten again: 1 person.", "restore", "--finish", "--why", "the disk failed", "--forgotten", list, "--no-mail",
		"--end-tokens")
	if !strings.Contains(said, "Nobody is signed in (2 sessions and clients were before)") {
		t.Error(said)
	}
	o.says(1, "there is nothing to finish", "restore", "--finish", "--why", "x")
	o.says(1, "the database is not empty", "restore", still, "--key", key, "--why", "x")
	st, err := store.Open(t.Context(), back, nil)
	check(t, err)
	defer st.Close()
	for table, rows := range contents(t, back) {
		if table != "policy" && strings.Contains(rows, "maren.holtveig") { // policy in force names whom it names
			t.Errorf("table %s still knows them", table)
		}
	}
	for _, q := range []string{"SELECT COUNT(*) FROM token", "SELECT COUNT(*) FROM sessions",
		"SELECT COUNT(*) FROM outbox WHERE state = 'waiting'"} {
		var n int
		if err := st.DB().QueryRow(q).Scan(&n); err != nil || n != 0 {
			t.Error(q, n, err)
		}
	}
	then := startService(t, back, nil)
	if status, _, body := then.call("GET", "/api/v1/guests?limit=1", token, ""); status != 401 {
		t.Errorf("a token of before: %d %s", status, body)
	}
	then.login("harbour")
	then.must("journal", "verify")
	if out := then.must("journal", "--kind", "restored"); !strings.Contains(out, "the disk failed") || !strings.Contains(out, "(database)") {
		t.Error(out)
	}
	if out := r.must("journal", "--kind", "backup"); !strings.Contains(out, filepath.Base(first[0])) {
		t.Error(out)
	}

	// Older ones are taken away behind a new one.
	for n := range 3 {
		check(t, os.WriteFile(filepath.Join(folder, fmt.Sprintf("wexillum-2026010%dT000000Z.sql.zst.age", n+1)), []byte("old"), 0o600))
	}
	o.env = append(o.env, "WEXILLUM_DATABASE="+from, "WEXILLUM_BACKUP_KEEP=3")
	time.Sleep(time.Until(time.Now().Truncate(time.Second).Add(time.Second))) // names have seconds
	if out := o.says(0, "wexillum-20260102T000000Z.sql.zst.age is taken away: 3 stay.", "backup"); !strings.Contains(out, "20260101") ||
		strings.Contains(out, "20260103") {
		t.Error(out)
	}
	if now := listed(); len(now) != 3 || now[1] != first[0] {
		t.Error(now)
	}
	// What cannot be written takes nothing away.
	check(t, os.RemoveAll(folder))
	check(t, os.WriteFile(folder, nil, 0o600))
	o.says(1, "not a directory", "backup")
}

func otherByte(text []byte, i int) []byte {
	out := bytes.Clone(text)
	out[i] ^= 4
	return out
}

func without(m map[string]string, key string) map[string]string {
	delete(m, key)
	return m
}

// TestBackupOtherAnswers finds out a backup that brings back something else than it says, and one that another program made.
func TestBackupOtherAnswers(t *testing.T) {
	t.Parallel()
	from := demoDSN(t)
	st, err := store.Open(t.Context(), from, nil)
	check(t, err)
	defer st.Close()
	dir := t.TempDir()
	o := newOperator(t, "WEXILLUM_DATABASE="+from)
	key, file := filepath.Join(dir, "key"), filepath.Join(dir, "file")
	_, public, _ := strings.Cut(o.says(0, "", "backup", "key", key), "backup_to: ")
	o.says(0, "is written", "backup", "--file", file, "--backup-to", strings.TrimSpace(public))
	ids, err := backup.Identities(key)
	check(t, err)
	open := func(in []byte) *backup.Lines {
		l, err := backup.Open(bytes.NewReader(in), ids)
		check(t, err)
		return l
	}
	text, err := os.ReadFile(file)
	check(t, err)
	l := open(text)
	back := dbtest.DSN(t)
	trailer, err := backup.Restore(t.Context(), back, l, false, nil)
	check(t, err)
	there, err := store.Open(t.Context(), back, nil)
	check(t, err)
	defer there.Close()
	check(t, there.MigrateRestored(t.Context()))
	v, err := backup.Check(t.Context(), there, l.Header, trailer)
	if check(t, err); !v.Whole() || v.Asked != 1000 || v.Rows == 0 {
		t.Fatalf("%+v", v)
	}
	// The answers are of both kinds, and not about the same.
	yes, whom := 0, map[string]bool{}
	for _, a := range trailer.Answers {
		whom[a.Who] = true
		if a.Yes {
			yes++
		}
	}
	if yes < 20 || yes > 900 || len(whom) < 30 {
		t.Errorf("%d yes, about %d addresses", yes, len(whom))
	}
	_, err = there.DB().Exec("UPDATE `grant` SET until_seq = 1")
	check(t, err)
	if v, err := backup.Check(t.Context(), there, l.Header, trailer); err != nil || v.Broken != "" || v.Other == 0 || v.First == "" {
		t.Errorf("without grants: %+v %v", v, err)
	}
	_, err = there.DB().Exec("UPDATE journal SET why = 'another' WHERE seq = 7")
	check(t, err)
	if v, err := backup.Check(t.Context(), there, l.Header, trailer); err != nil || !strings.HasPrefix(v.Broken, "entry 7: ") {
		t.Errorf("an altered journal: %+v %v", v, err)
	}
}

// TestPointInTime brings a backup back and runs the database's own log behind it, up to just before a mistake, as docs/backup.md says.
func TestPointInTime(t *testing.T) {
	t.Parallel()
	replay, err := exec.LookPath("mariadb-binlog")
	if err != nil {
		t.Fatal("Debian's mariadb-client is needed: make install-more")
	}
	dir := t.TempDir()
	log := filepath.Join(dir, "log")
	server, err := mariadb.Start(t.Context(), filepath.Join(dir, "db"), "--log-bin="+log, "--binlog-format=ROW", "--server-id=1")
	check(t, err)
	t.Cleanup(func() { _ = server.Stop() })
	for _, name := range []string{"wexillum", "back"} {
		check(t, server.Create(t.Context(), name))
	}
	dsn, back := server.DSN("wexillum"), server.DSN("back")
	check(t, fillDemo(dsn))
	r := startService(t, dsn, nil)
	key, file := filepath.Join(dir, "key"), filepath.Join(dir, "file")
	o := newOperator(t, "WEXILLUM_DATABASE="+dsn)
	_, public, _ := strings.Cut(o.says(0, "", "backup", "key", key), "backup_to: ")
	o.says(0, "is written", "backup", "--file", file, "--backup-to", strings.TrimSpace(public))

	r.login("harbour")
	r.must("domain", "bar", "good.example", "--reason", "x", "-y")
	time.Sleep(1100 * time.Millisecond) // the log's moments have seconds
	until := time.Now().UTC()
	time.Sleep(1100 * time.Millisecond)
	r.must("domain", "bar", "mistake.example", "--reason", "x", "-y")

	o.env = append(o.env, "WEXILLUM_DATABASE="+back)
	said := o.says(0, "The log of the database goes on from", "restore", file, "--key", key, "--hold")
	var name string
	var at int
	_, place, _ := strings.Cut(said, "goes on from ")
	if _, err := fmt.Sscanf(strings.ReplaceAll(place, ",", ""), "%s position %d.", &name, &at); err != nil {
		t.Fatal(place, err)
	}
	files, err := filepath.Glob(log + ".0*")
	check(t, err)
	slices.Sort(files)
	for len(files) > 0 && filepath.Base(files[0]) != name {
		files = files[1:]
	}
	c, err := mysql.ParseDSN(back)
	check(t, err)
	play := exec.Command(replay, append([]string{"--no-defaults", "--skip-annotate-row-events", "--database=wexillum",
		"--rewrite-db=wexillum->back", fmt.Sprint("--start-position=", at), "--stop-datetime=" + until.Format("2006-01-02 15:04:05")},
		files...)...)
	play.Env = append(os.Environ(), "TZ=UTC")
	var lost bytes.Buffer
	play.Stderr = &lost
	statements, err := play.Output()
	if err != nil || len(statements) == 0 {
		t.Fatal(err, lost.String())
	}
	into := exec.Command("mariadb", "--no-defaults", "--binary-mode", "--socket="+c.Addr, "--user="+c.User, "back")
	into.Stdin = bytes.NewReader(statements)
	if out, err := into.CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	o.says(0, "Done.", "restore", "--finish", "--why", "a mistake at "+until.Format(time.RFC3339))
	then := startService(t, back, nil)
	_, _, bars := then.call("GET", "/api/v1/bars", then.token("harbour"), "")
	if !strings.Contains(bars, "good.example") || strings.Contains(bars, "mistake.example") {
		t.Error(bars)
	}
	then.login("harbour")
	then.must("journal", "verify")
}

// TestForgottenList has a service write down whom it forgets, by a mark that says nothing.
func TestForgottenList(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	list := filepath.Join(t.TempDir(), "list")
	r.svc.KeepForgotten(list)
	_, err := r.svc.ChangeGuests(t.Context(), service.Who{Name: "harbour", Role: service.Administrator},
		service.GuestChange{Do: service.Remove, Addresses: []string{"maren.holtveig@ilvane.example"}, Reason: "x"}, false)
	check(t, err)
	one, err := forgotten.Read()
	check(t, err)
	n, err := r.svc.ForgetAgain(t.Context(), one)
	if check(t, err); n != 0 {
		t.Errorf("%d forgotten before their time", n)
	}
	other := filepath.Join(t.TempDir(), "other")
	check(t, forgotten.Add(other, "Maren.Holtveig@ilvane.example", time.Now()))
	one, err = forgotten.Read(other)
	check(t, err)
	n, err = r.svc.ForgetAgain(t.Context(), one)
	if check(t, err); n != 1 {
		t.Errorf("%d forgotten", n)
	}
	text, err := os.ReadFile(list)
	if err != nil || bytes.Contains(text, []byte("maren")) || bytes.Count(text, []byte("\n")) != 2 {
		t.Errorf("%s %v", text, err)
	}
	both, err := forgotten.Read(list, other)
	check(t, err)
	if !both.Has("maren.holtveig@ilvane.example") || both.Has("nobody@nowhere.example") || both.Len() != 2 {
		t.Error("it is not known again")
	}
	// A line that a crash cut off is passed over; another one that says nothing is an error.
	cut := append(bytes.Clone(text), "2026-11-30T"...)
	check(t, os.WriteFile(list, cut, 0o600))
	if l, err := forgotten.Read(list); err != nil || l.Len() != 1 {
		t.Error(err)
	}
	check(t, os.WriteFile(list, append(append(cut, '\n'), text[bytes.IndexByte(text, '\n')+1:]...), 0o600))
	if _, err := forgotten.Read(list); err == nil || !strings.Contains(err.Error(), "line 3") {
		t.Error(err)
	}
	check(t, os.WriteFile(list, []byte("one\n"), 0o600))
	if _, err := forgotten.Read(list); err == nil || !strings.Contains(err.Error(), "names no salt") {
		t.Error(err)
	}
}
