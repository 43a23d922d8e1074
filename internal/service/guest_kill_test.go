package service

import (
	"bufio"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/mail"
	"wexillum.example/internal/mariadb"
	"wexillum.example/internal/standin"
)

// TestGuestHelper invites, carries out what is due and sends mail in a process of its own,
// to be killed.
func TestGuestHelper(t *testing.T) {
	dsn := os.Getenv("WEXILLUM_TEST_GUESTS")
	if dsn == "" {
		t.Skip("it is run by TestKilledAmongGuests")
	}
	s, c := start(t, dsn)
	now, err := time.Parse(time.RFC3339, os.Getenv("WEXILLUM_TEST_NOW"))
	check(t, err)
	c.at = now
	fmt.Println("ready")
	_, err = s.Invite(t.Context(), keeper, Invitation{List: os.Getenv("WEXILLUM_TEST_LIST"), Into: "space:dossier", Purpose: "test",
		As: "uma"}, false)
	check(t, err)
	fmt.Println("invited")
	for {
		out, err := s.CarryOut(t.Context())
		check(t, err)
		if out.Records == 0 {
			break
		}
	}
	_, err = s.SendWaiting(t.Context(), &mail.Server{Address: os.Getenv("WEXILLUM_TEST_SMTP"), TLS: "none", From: "guests@ours.example"})
	check(t, err)
	fmt.Println("done")
}

// TestKilledAmongGuests kills service or database 50 times in the middle of invitations, of
// the scheduler and of sending: an invitation is whole or was not made, each step happens
// once, and no mail is lost; a mail that comes twice has the same Message-ID.
func TestKilledAmongGuests(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "db")
	server, err := mariadb.Start(t.Context(), dir)
	check(t, err)
	defer func() { _ = server.Stop() }()
	check(t, server.Create(t.Context(), "w"))
	post, err := standin.NewMailServer("127.0.0.1:0", "127.0.0.1:0")
	check(t, err)
	defer post.Close()
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	s, _ := start(t, server.DSN("w"))
	var world strings.Builder
	world.WriteString(strings.Replace(guestWorld, "guests.term_days: {default: 60}", "guests.term_days: {default: none}", 1) + "guests:\n")
	const guests = 260
	for i := range guests {
		fmt.Fprintf(&world, "  - {address: g%d@ilvane.example, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01, until: %s}\n", i,
			now.AddDate(0, 0, 1+i).Format("2006-01-02"))
	}
	world.WriteString("grants:\n")
	for i := range guests {
		fmt.Fprintf(&world, "  - {party: g%d@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, until: %s, sponsor: uma}\n",
			i, now.AddDate(0, 0, 1+i).Format("2006-01-02"))
	}
	load(t, s, world.String())
	carry(t, s)
	const rounds = 52 // the first two are not killed and tell how long it takes
	var took time.Duration
	killed, invited, cut := 0, 0, 0
	var all []string
	for round := range rounds {
		now = now.AddDate(0, 0, 5)
		var list []string
		for i := range 5 {
			list = append(list, fmt.Sprintf("n%d-%d@ilvane.example", round, i))
		}
		cmd := exec.Command(os.Args[0], "-test.run", "^TestGuestHelper$")
		cmd.Env = append(os.Environ(), "WEXILLUM_TEST_GUESTS="+server.DSN("w"), "WEXILLUM_TEST_NOW="+now.Format(time.RFC3339),
			"WEXILLUM_TEST_LIST="+strings.Join(list, " "), "WEXILLUM_TEST_SMTP="+post.Address)
		out, err := cmd.StdoutPipe()
		check(t, err)
		check(t, cmd.Start())
		lines := bufio.NewScanner(out)
		for lines.Scan() && lines.Text() != "ready" {
		}
		began := time.Now()
		told := false
		if round >= 2 { // where it is hit is chance; over all rounds it is hit everywhere
			killed++
			time.Sleep(took * time.Duration(round-2) / (rounds - 2))
			if round%2 == 0 {
				_ = cmd.Process.Kill()
			} else {
				check(t, syscall.Kill(server.PID(), syscall.SIGKILL))
				<-server.Exited()
			}
		}
		for lines.Scan() {
			told = told || lines.Text() == "invited"
		}
		_ = cmd.Wait()
		if round < 2 {
			took = max(took, time.Since(began))
		} else if round%2 == 1 {
			server, err = mariadb.Start(t.Context(), dir)
			check(t, err)
		}
		check(t, s.Refresh(t.Context()))
		var have, mails int
		check(t,
			s.store.DB().QueryRow("SELECT COUNT(*) FROM guest WHERE address LIKE ? AND from_seq IN (SELECT seq FROM journal WHERE kind = 'guest' AND was IS NULL)",
				fmt.Sprintf("n%d-%%", round)).Scan(&have))
		check(t, s.store.DB().QueryRow("SELECT COUNT(*) FROM outbox WHERE recipient LIKE ? AND kind = 'invitation'",
			fmt.Sprintf("n%d-%%", round)).Scan(&mails))
		if have != mails || have != 0 && have != 5 || told && have != 5 {
			t.Fatalf("round %d: %d are invited, %d mails, told: %t", round, have, mails, told)
		}
		if have == 5 {
			invited++
			all = append(all, list...)
		} else {
			cut++
		}
	}
	// At the end everything that was due has happened, each once.
	a, c := start(t, server.DSN("w"))
	c.at = now
	carry(t, a)
	c.forward(10 * time.Minute) // whoever was sending when they were killed
	_, err = a.SendWaiting(t.Context(), &mail.Server{Address: post.Address, TLS: "none", From: "guests@ours.example"})
	check(t, err)
	rows,
		err := a.store.DB().Query("SELECT id, now, COUNT(*) FROM journal WHERE kind = 'step' GROUP BY id, JSON_VALUE(now, '$.kind'), JSON_VALUE(now, '$.at') HAVING COUNT(*) > 1")
	check(t, err)
	for rows.Next() {
		var id, doc string
		var n int
		check(t, rows.Scan(&id, &doc, &n))
		t.Errorf("%s: %s happened %d times", id, doc, n)
	}
	check(t, rows.Close())
	var gone, ended, suspended int
	check(t,
		a.store.DB().QueryRow("SELECT SUM(JSON_VALUE(now, '$.kind') = 'removed'), SUM(JSON_VALUE(now, '$.kind') = 'grant_ends'), SUM(JSON_VALUE(now, '$.kind') = 'suspended') FROM journal WHERE kind = 'step' AND id LIKE 'g%'").Scan(&gone,
			&ended, &suspended))
	days := int(now.Sub(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)).Hours()) / 24
	if ended != min(guests, days-1) || suspended != ended || gone != min(guests, days-1-30) {
		t.Errorf("after %d days %d grants ended, %d were suspended, %d removed", days, ended, suspended, gone)
	}
	came := map[string]map[string]int{}
	list, _ := post.Messages()
	for _, m := range list {
		if came[m.To[0]] == nil {
			came[m.To[0]] = map[string]int{}
		}
		if strings.Contains(m.Subject, "invites you") {
			came[m.To[0]][m.MessageID]++
		}
	}
	twice := 0
	for _, who := range all {
		switch ids := came[who]; {
		case len(ids) != 1:
			var state, reason string
			_ = a.store.DB().QueryRow("SELECT state, error FROM outbox WHERE recipient = ? AND kind = 'invitation'", who).Scan(&state, &reason)
			if state != "dropped" { // it lapsed before anybody could send it
				t.Errorf("%s got %d different mails; %s %s", who, len(ids), state, reason)
			}
		default:
			for _, n := range ids {
				if n > 1 {
					twice++
				}
			}
		}
	}
	if n, broken, err := a.VerifyJournal(t.Context()); err != nil || broken != nil {
		t.Errorf("the journal: %d %+v %v", n, broken, err)
	}
	t.Logf("%d kills: %d invitations made, %d not, %d mails came twice with the same Message-ID; a round takes %s", killed, invited, cut,
		twice, took)
	if killed < 50 || cut == 0 || invited < 10 {
		t.Errorf("%d kills, %d cut, %d invited: too few to tell", killed, cut, invited)
	}
}
