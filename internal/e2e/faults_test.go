package e2e

import (
	"bufio"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/service"
	"wexillum.example/internal/store"
)

// TestManyWriters lets many write at once: each is done, and questions are answered meanwhile.
func TestManyWriters(t *testing.T) {
	r := startService(t, demoDSN(t), nil)
	token := r.token("harbour")
	const writers = 64
	var wg sync.WaitGroup
	wrong := make(chan string, writers)
	begun := time.Now()
	for i := range writers {
		wg.Go(func() {
			bar := fmt.Sprintf(`{"name":"spam%d.example","reason":"x"}`, i)
			status, _, body := r.call("POST", "/api/v1/bars", token, bar)
			// a slow machine's writers wait longer than is waited
			for until := time.Now().Add(patience); status == 503 && time.Now().Before(until); {
				status, _, body = r.call("POST", "/api/v1/bars", token, bar)
			}
			if status != 201 {
				wrong <- fmt.Sprint(status, " ", body)
			}
		})
	}
	asked := 0
	done := make(chan struct{})
	go func() { wg.Wait(); close(done) }()
	for going := true; going; {
		select {
		case <-done:
			going = false
		default:
			if status, _, body := r.call("POST", "/api/v1/ask", token,
				`{"subject":"maren.holtveig@ilvane.example","action":"spaces.enter","resource":"space:loan-dossier"}`); status != 200 {
				t.Fatalf("a question meanwhile: %d %s", status, body)
			}
			if status, _, _ := r.call("GET", "/readyz", "", ""); status != 200 {
				t.Fatalf("readyz meanwhile: %d", status)
			}
			asked++
		}
	}
	close(wrong)
	for w := range wrong {
		t.Error(w)
	}
	t.Logf("%d writers in %v; %d questions meanwhile", writers, time.Since(begun), asked)
}

// held keeps the head row of a database, as a change that does not come to its end.
func held(t *testing.T, r *running) (release func()) {
	t.Helper()
	tx, err := r.st.DB().BeginTx(context.Background(), &sql.TxOptions{})
	check(t, err)
	var seq uint64
	check(t, tx.QueryRow("SELECT seq FROM head WHERE one = 1 FOR UPDATE").Scan(&seq))
	return sync.OnceFunc(func() { _ = tx.Rollback() })
}

// TestBusy lets more wait than are let wait, behind a change that does not come to its end: they
// are told to come again, and nothing was changed.
func TestBusy(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	token := r.token("harbour")
	release := held(t, r)
	defer release()
	first := make(chan int, 1)
	ask := func() {
		status, _, _ := r.call("POST", "/api/v1/bars", token, `{"name":"first.example","reason":"x"}`)
		first <- status
	}
	var status int
	var header http.Header
	var body string
	for range 5 {
		go ask()
		for { // the first is in the database before the second comes
			select {
			case <-first: // it gave up before anybody looked: a machine that has much else to do
				go ask()
			default:
			}
			var n int
			check(t,
				r.st.DB().QueryRow("SELECT COUNT(*) FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE '%head%FOR UPDATE' AND id != CONNECTION_ID()").Scan(&n))
			if n > 0 {
				break
			}
		}
		status, header, body = r.call("POST", "/api/v1/bars", token, `{"name":"second.example","reason":"x"}`)
		select {
		case <-first: // it gave up before the second did, as it was in the database long before that was seen
			continue
		default:
		}
		break
	}
	if status != 503 || header.Get("Retry-After") == "" || !strings.Contains(body, "/problems/busy") ||
		!strings.Contains(body, "nothing was changed") {
		t.Errorf("%d %v %s", status, header, body)
	}
	release()
	if status := <-first; status != 201 {
		t.Errorf("the one that waited in the database: %d", status)
	}
	if _, _, body := r.call("GET", "/api/v1/bars", token, ""); strings.Contains(body, "second.example") ||
		!strings.Contains(body, "first.example") {
		t.Error(body)
	}
}

// TestReadOnlyDatabase makes the database take no changes: they are refused by name, and
// questions are answered.
func TestReadOnlyDatabase(t *testing.T) {
	r := startService(t, demoDSN(t), nil)
	token := r.token("harbour")
	for number, want := range map[int]string{1290: "read-only", 1021: "full", 1040: "connections", 1927: "interrupted"} {
		_,
			err := r.st.DB().Exec(fmt.Sprintf("CREATE OR REPLACE TRIGGER trouble BEFORE INSERT ON journal FOR EACH ROW SIGNAL SQLSTATE '45000' SET MYSQL_ERRNO = %d, MESSAGE_TEXT = 'trouble'",
			number))
		check(t, err)
		status, _, body := r.call("POST", "/api/v1/bars", token, `{"name":"spam.example","reason":"x"}`)
		if status != 503 || !strings.Contains(body, "/problems/"+want) || strings.Contains(body, "went wrong on our side") {
			t.Errorf("%d: %d %s", number, status, body)
		}
	}
	_, err := r.st.DB().Exec("DROP TRIGGER trouble")
	check(t, err)
	if status, _, body := r.call("POST", "/api/v1/bars", token, `{"name":"spam.example","reason":"x"}`); status != 201 {
		t.Errorf("afterwards: %d %s", status, body)
	}
}

// TestFullDisk fills the disk of the database while two services write: what cannot be written is
// refused by name and is not there; questions go on, and with room again changes do. MariaDB 10.11
// often ends itself when it finds no room to take a change back; it is started again then.
func TestFullDisk(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	if err := syscall.Mount("none", dir, "tmpfs", 0, "size=320m"); err != nil {
		t.Skipf("a small disk needs the right to mount one: %v", err)
	}
	t.Cleanup(func() { _ = syscall.Unmount(dir, syscall.MNT_DETACH) })
	server, err := mariadb.Start(t.Context(), filepath.Join(dir, "db"))
	check(t, err)
	t.Cleanup(func() { _ = server.Stop() })
	check(t, server.Create(t.Context(), "w"))
	r := startService(t, server.DSN("w"), func(ctx context.Context, svc *service.Service) error { return demo.Fill(ctx, svc) })
	token := r.token("harbour")
	other, _, _ := startProcess(t, server.DSN("w"))
	filler, err := os.Create(filepath.Join(dir, "filler"))
	check(t, err)
	block := make([]byte, 1<<16)
	for err == nil {
		_, err = filler.Write(block)
	}
	check(t, filler.Close())
	reason := strings.Repeat("a long reason ", 30)
	done, last := map[string]bool{}, ""
	for i := 0; last == "" && i < 2000; i++ {
		name := fmt.Sprintf("full%d.example", i)
		at := &running{t: t, url: []string{r.url, other}[i%2]}
		status, _, body := at.call("POST", "/api/v1/bars", token, fmt.Sprintf(`{"name":%q,"reason":%q}`, name, reason))
		switch {
		case status == 201:
			done[name] = true
		case status == 503 && (strings.Contains(body, "/problems/full") || strings.Contains(body, "/problems/away")):
			t.Log(body)
			last = name
		default:
			t.Fatalf("%s: %d %s", name, status, body)
		}
	}
	if last == "" {
		t.Fatalf("%d changes were written to a full disk", len(done))
	}
	if status, _, body := r.call("POST", "/api/v1/ask", token,
		`{"subject":"maren.holtveig@ilvane.example","action":"spaces.enter","resource":"space:loan-dossier"}`); status != 200 {
		t.Errorf("a question meanwhile: %d %s", status, body)
	}
	check(t, os.Remove(filler.Name()))
	for until := time.Now().Add(patience); ; {
		select {
		case <-server.Exited():
			server, err = mariadb.Start(t.Context(), filepath.Join(dir, "db"))
			check(t, err)
		default:
		}
		status, _, body := r.call("POST", "/api/v1/bars", token, fmt.Sprintf(`{"name":%q,"reason":"x"}`, last))
		if status == 201 {
			break
		}
		if status != 503 || time.Now().After(until) { // 409 if it was there
			t.Fatalf("with room again: %d %s", status, body)
		}
	}
	done[last] = true
	_, _, bars := r.call("GET", "/api/v1/bars", token, "")
	if n := strings.Count(bars, `"full`); n != len(done) {
		t.Errorf("%d are there, %d were acknowledged", n, len(done))
	}
	if entries, broken, err := r.st.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal of %d entries: %+v %v", entries, broken, err)
	}
	t.Logf("%d changes before the disk was full", len(done)-1)
}

// TestManyMigrate starts several services on an empty database at the same time, and an older
// program on a newer one.
func TestManyMigrate(t *testing.T) {
	dsn := dbtest.DSN(t)
	var wg sync.WaitGroup
	errs := make(chan error, 4)
	for range 4 {
		wg.Go(func() {
			st, err := store.Open(context.Background(), dsn, nil)
			if err == nil {
				err = st.Migrate(context.Background())
				_ = st.Close()
			}
			errs <- err
		})
	}
	wg.Wait()
	for range 4 {
		check(t, <-errs)
	}
	st, err := store.Open(t.Context(), dsn, nil)
	check(t, err)
	defer st.Close()
	_, err = st.DB().Exec("INSERT INTO goose_db_version (version_id, is_applied) VALUES (9999, 1)")
	check(t, err)
	if err := st.Migrate(t.Context()); err == nil || !strings.Contains(err.Error(), "it is older than the one that wrote the database") {
		t.Errorf("an older program: %v", err)
	}
}

// TestStopFinishes stops a service in the middle of changes: what can be finished is, what cannot
// is refused and not there, and no answer is empty.
func TestStopFinishes(t *testing.T) {
	t.Parallel()
	r := startService(t, demoDSN(t), nil)
	token := r.token("harbour")
	for _, x := range []struct {
		name    string
		release bool
		want    int
	}{{"finished.example", true, 201}, {"refused.example", false, 503}} {
		at, stop, stopped := serveProcess(t, r.dsn)
		release := held(t, r)
		got := make(chan string, 1)
		go func() {
			status, _, body := (&running{t: t, url: at}).call("POST", "/api/v1/bars", token, fmt.Sprintf(`{"name":%q,"reason":"x"}`, x.name))
			got <- fmt.Sprint(status, " ", body)
		}()
		for {
			var n int
			check(t,
				r.st.DB().QueryRow("SELECT COUNT(*) FROM information_schema.processlist WHERE db = DATABASE() AND info LIKE '%head%FOR UPDATE' AND id != CONNECTION_ID()").Scan(&n))
			if n > 0 {
				break
			}
		}
		stop()
		if x.release {
			release()
		}
		answer := <-got
		release()
		<-stopped
		if !strings.HasPrefix(answer, fmt.Sprint(x.want)) || len(answer) < 10 {
			t.Errorf("%s: %q", x.name, answer)
		}
		_, _, bars := r.call("GET", "/api/v1/bars", token, "")
		for until := time.Now().Add(patience); x.want == 201 && !strings.Contains(bars, x.name) && time.Now().Before(until); {
			_, _, bars = r.call("GET", "/api/v1/bars", token, "")
		}
		if strings.Contains(bars, x.name) != (x.want == 201) {
			t.Errorf("%s was answered %q, and is there: %v", x.name, answer, strings.Contains(bars, x.name))
		}
	}
}

// TestCutAnswers lets a service answer nothing, or a part: the client fails.
func TestCutAnswers(t *testing.T) {
	for name, h := range map[string]http.HandlerFunc{
		"and nothing else": func(w http.ResponseWriter, _ *http.Request) { w.WriteHeader(200) },
		"was cut off; what was written is not all of it": func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Content-Length", "1000")
			_, _ = w.Write([]byte("wexillum: 1\n"))
		},
	} {
		srv := newTestServer(t, h)
		r := &running{t: t, url: srv, home: t.TempDir()}
		status, out, errs := r.client("", "dump")
		if status != 1 || out != "" && out != "wexillum: 1\n" || !strings.Contains(errs, name) {
			t.Errorf("%s: %d %q %q", name, status, out, errs)
		}
	}
}

// serveProcess runs the service as a process of its own on a database. stop asks it to stop, and
// stopped is closed when it has.
func serveProcess(t *testing.T, dsn string) (at string, stop func(), stopped <-chan struct{}) {
	t.Helper()
	at, kill, stopped := startProcess(t, dsn)
	return at, func() { kill(syscall.SIGTERM) }, stopped
}

func startProcess(t *testing.T, dsn string) (at string, kill func(syscall.Signal), stopped <-chan struct{}) {
	t.Helper()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	return startProgram(t, bin, dsn)
}

func startProgram(t *testing.T, bin, dsn string, more ...string) (at string, kill func(syscall.Signal), stopped <-chan struct{}) {
	t.Helper()
	_, at, kill, stopped = startSaying(t, bin, dsn, more...)
	return
}

// startSaying is startProgram that also returns what was said until it listens.
func startSaying(t *testing.T, bin, dsn string, more ...string) (said, at string, kill func(syscall.Signal), stopped <-chan struct{}) {
	t.Helper()
	cmd := exec.Command(bin, append([]string{"serve", "--listen", "127.0.0.1:0", "--database", dsn}, more...)...)
	out, err := cmd.StderrPipe()
	check(t, err)
	check(t, cmd.Start())
	done := make(chan struct{})
	lines := bufio.NewScanner(out)
	for lines.Scan() {
		said += lines.Text() + "\n"
		var l struct{ Msg, Address string }
		if json.Unmarshal(lines.Bytes(), &l) == nil && l.Msg == "listening" {
			at = l.Address
			break
		}
	}
	go func() {
		defer close(done)
		_, _ = io.Copy(io.Discard, out)
		_ = cmd.Wait()
	}()
	t.Cleanup(func() { _ = cmd.Process.Kill(); <-done })
	if at == "" {
		t.Fatalf("the service never listened:\n%s", said)
	}
	return said, at, func(sig syscall.Signal) { _ = cmd.Process.Signal(sig) }, done
}

func newTestServer(t *testing.T, h http.Handler) string {
	t.Helper()
	srv := httptest.NewServer(h)
	t.Cleanup(srv.Close)
	return srv.URL
}

// TestReadiness tells reading, writing and following apart.
func TestReadiness(t *testing.T) {
	r := startService(t, dbtest.DSN(t), nil)
	if status, _, body := r.call("GET", "/readyz", "", ""); status != 200 || body != "ready\n" {
		t.Errorf("%d %s", status, body)
	}
	_, err := r.st.DB().Exec("SET GLOBAL read_only = 1")
	check(t, err)
	status, _, body := r.call("GET", "/readyz", "", "")
	_, err = r.st.DB().Exec("SET GLOBAL read_only = 0")
	check(t, err)
	if status != 503 || !strings.Contains(body, "reading works, writing does not work, following other services works") ||
		!strings.Contains(body, "/problems/read-only") {
		t.Errorf("%d %s", status, body)
	}
}

// TestWaitsForDatabase starts a service before its database: it waits, and is there with it.
func TestWaitsForDatabase(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	check(t, server.Create(t.Context(), "w"))
	dsn := server.DSN("w")
	check(t, server.Stop())
	listens := make(chan string, 1)
	go func() {
		at, _, _ := serveProcess(t, dsn)
		listens <- at
	}()
	server, err = mariadb.Start(t.Context(), dir)
	check(t, err)
	defer func() { _ = server.Stop() }()
	at := <-listens
	if status, _, body := (&running{t: t, url: at}).call("GET", "/healthz", "", ""); status != 200 {
		t.Errorf("%d %s", status, body)
	}
}

// TestWithoutDatabase takes the database away right after a change that has nothing to do with
// tokens: known ones go on asking, what cannot be answered says why, and all is well when it is
// back.
func TestWithoutDatabase(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	check(t, server.Create(t.Context(), "w"))
	r := startService(t, server.DSN("w"), func(ctx context.Context, svc *service.Service) error { return demo.Fill(ctx, svc) })
	admin, keeper := r.token("harbour"), r.token("mooring")
	ask := func(token string) (int, string) {
		status, _, body := r.call("POST", "/api/v1/ask", token,
			`{"subject":"maren.holtveig@ilvane.example","action":"spaces.enter","resource":"space:loan-dossier"}`)
		return status, body
	}
	for _, token := range []string{admin, keeper} {
		if status, body := ask(token); status != 200 {
			t.Fatalf("%d %s", status, body)
		}
	}
	if status, _, body := r.call("POST", "/api/v1/bars", admin, `{"name":"spam.example","reason":"x"}`); status != 201 {
		t.Fatalf("%d %s", status, body)
	}
	check(t, server.Stop())
	for _, token := range []string{admin, keeper} {
		if status, body := ask(token); status != 200 || !strings.Contains(body, `"decision":"yes"`) {
			t.Errorf("without the database: %d %s", status, body)
		}
	}
	if status, _, body := r.call("POST", "/api/v1/bars", admin, `{"name":"more.example","reason":"x"}`); status != 503 ||
		!strings.Contains(body, "/problems/away") || !strings.Contains(body, "cannot be reached") {
		t.Errorf("a change: %d %s", status, body)
	}
	if status, _, body := r.call("GET", "/readyz", "", ""); status != 503 ||
		!strings.Contains(body, "reading does not work, writing does not work") {
		t.Errorf("%d %s", status, body)
	}
	server, err = mariadb.Start(t.Context(), dir)
	check(t, err)
	defer func() { _ = server.Stop() }()
	for until := time.Now().Add(patience); ; {
		status, _, body := r.call("POST", "/api/v1/bars", admin, `{"name":"more.example","reason":"x"}`)
		if status == 201 {
			break
		}
		if time.Now().After(until) {
			t.Fatalf("it is back: %d %s", status, body)
		}
	}
}

// TestFrozenInAChange freezes a service in the middle of a change: others write once the server has
// ended its transaction, and the frozen one writes nothing when it goes on.
func TestFrozenInAChange(t *testing.T) {
	t.Parallel()
	dsn := dbtest.DSN(t)
	r := startService(t, dsn, func(ctx context.Context, svc *service.Service) error { return demo.Fill(ctx, svc) })
	token := r.token("harbour")
	sep := "?"
	if strings.Contains(dsn, "?") {
		sep = "&"
	}
	frozen, err := store.Open(t.Context(), dsn+sep+"idle_transaction_timeout=2", nil)
	check(t, err)
	defer frozen.Close()
	in, thaw, over := make(chan struct{}), make(chan struct{}), make(chan error, 1)
	go func() {
		_, err := frozen.Change(context.Background(), "frozen", "x", func(tx *store.Tx) error {
			_, err := tx.PutRecord("group", "frozen", []byte(`{"id":"frozen"}`))
			close(in)
			<-thaw
			if err == nil {
				_, err = tx.PutRecord("group", "frozen2", []byte(`{"id":"frozen2"}`))
			}
			return err
		})
		over <- err
	}()
	<-in
	if status, _, body := r.call("POST", "/api/v1/bars", token, `{"name":"others.example","reason":"x"}`); status != 201 {
		t.Errorf("others: %d %s", status, body)
	}
	close(thaw)
	if err := <-over; err == nil || store.TroubleOf(err) == store.NoTrouble {
		t.Errorf("the frozen one: %v", err)
	}
	if doc, err := r.st.Record(t.Context(), "group", "frozen"); err != nil || doc != nil {
		t.Errorf("what it wrote is there: %s %v", doc, err)
	}
	if _, err := frozen.Change(t.Context(), "frozen", "x", func(tx *store.Tx) error {
		_, err := tx.PutRecord("group", "thawed", []byte(`{"id":"thawed"}`))
		return err
	}); err != nil {
		t.Errorf("it does not recover: %v", err)
	}
	r.login("harbour")
	r.says(0, "entries are as they were written", "journal", "verify")
}

// TestDueBehind lets nobody carry anything out for two days: what is due says so, in the client and
// in the console, and nothing once it is.
func TestDueBehind(t *testing.T) {
	var ahead atomic.Int64
	clock := func() time.Time { return time.Now().Add(time.Duration(ahead.Load())) }
	r := startServiceAt(t, dbtest.DSN(t), clock, func(ctx context.Context, svc *service.Service) error {
		if err := demo.Fill(ctx, svc); err != nil {
			return err
		}
		_, err := svc.CarryOut(ctx)
		return err
	})
	r.login("harbour")
	const behind = "due and not carried out; everything up to"
	if out := r.must("due"); strings.Contains(out, behind) {
		t.Errorf("all is carried out: %s", out)
	}
	ahead.Store(int64(50 * time.Hour))
	r.login("harbour") // the sign-in ended meanwhile
	if out := r.must("due"); !strings.Contains(out, " dated steps are "+behind) {
		t.Errorf("nothing is carried out: %s", out)
	}
	p := r.page(browser(t), "harbour")
	p.goTo("/due", `document.querySelector(".alert-warning")`)
	if text := p.text(".alert-warning"); !strings.Contains(text, "dated steps are "+behind) {
		t.Error(text)
	}
	_, err := r.svc.CarryOut(t.Context())
	check(t, err)
	if out := r.must("due"); strings.Contains(out, behind) {
		t.Errorf("all is carried out again: %s", out)
	}
}
