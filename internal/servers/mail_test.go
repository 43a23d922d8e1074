package servers_test

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/smtp"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/core/native"
	"wexillum.example/internal/mailpolicy"
	"wexillum.example/internal/standin"
)

// TestMail is about a real mail server that asks us before each letter goes on: a letter from outside comes into the
// mailbox, and goes on where it may.
func TestMail(t *testing.T) {
	r := root(t)
	outside, err := standin.NewMailServer("127.0.0.1:0", "")
	check(t, err)
	defer outside.Close()
	_, port, err := net.SplitHostPort(outside.Address)
	check(t, err)
	out, err := strconv.Atoi(port)
	check(t, err)
	var mu sync.Mutex
	may := map[string]bool{}
	let := func(mailbox, to string, is bool) { mu.Lock(); defer mu.Unlock(); may[mailbox+" "+to] = is }
	policy, err := mailpolicy.Listen("127.0.0.1:0", func(_ context.Context, mailbox, to string) (bool, string, bool, error) {
		mu.Lock()
		defer mu.Unlock()
		return may[mailbox+" "+to], "mail.forward: this domain is not listed", true, nil
	}, slog.New(slog.DiscardHandler))
	check(t, err)
	_, port, err = net.SplitHostPort(policy.Address())
	check(t, err)
	at, err := strconv.Atoi(port)
	check(t, err)
	m, err := r.Mail(t.Context(), "ours.example", out, at)
	check(t, err)
	defer m.Stop()
	conforms(t, m.Beside, "", 6)
	put := func(box, to, copied, by string) {
		t.Helper()
		if _, err := m.Beside.Put(t.Context(), "scripts", "", map[string]string{"mailbox": box, "to": to, "copy": copied, "by": by}); err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	// letter sends a letter from outside and says where it arrived: in the mailbox, and at which addresses elsewhere.
	letter := func(box string) string {
		t.Helper()
		n++
		subject := fmt.Sprintf("letter %d", n)
		check(t, smtp.SendMail(m.In, nil, "someone@far.example", []string{box},
			[]byte("Subject: "+subject+"\r\nFrom: someone@far.example\r\nTo: "+box+"\r\n\r\nhello\r\n")))
		where := func() (got []string) {
			_ = filepath.WalkDir(filepath.Join(m.Folder, "mail", box), func(p string, d os.DirEntry, err error) error {
				if err == nil && !d.IsDir() && strings.Contains(p, "/new/") {
					if b, _ := os.ReadFile(p); strings.Contains(string(b), subject+"\n") || strings.Contains(string(b), subject+"\r\n") {
						got = append(got, "the mailbox")
					}
				}
				return nil
			})
			list, _ := outside.Messages()
			for _, x := range list {
				// a bounce holds it
				if x.Subject == subject || strings.Contains(x.Text, "Subject: "+subject+"\n") || strings.Contains(x.Text, "Subject: "+subject+"\r\n") {
					got = append(got, x.To...)
				}
			}
			return
		}
		last, still := "", 0
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) { // until nothing more comes
			now := strings.Join(where(), ", ")
			if now == last && now != "" {
				still++
			} else {
				still = 0
			}
			if last = now; still == 20 {
				break
			}
		}
		return last
	}
	const uma, home = "uma@ours.example", "uma@homepost.example"
	tell := func(when, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(8 * time.Second); got != want && time.Now().Before(end); { // the server reads its tables again a moment later
			got = letter(uma)
		}
		if got != want {
			b, _ := os.ReadFile(filepath.Join(m.Folder, "maillog"))
			d, _ := os.ReadFile(filepath.Join(m.Folder, "dovecot.log"))
			t.Errorf("%s: it arrived in %q, want %q\n%s\n%s", when, got, want, b, d)
		}
	}
	tell("no forward", "the mailbox")
	put(uma, home, "not kept", "owner")
	tell("it may not go on: it stays", "the mailbox")
	let(uma, home, true)
	tell("it may, no copy", home)
	put(uma, home, "kept", "owner")
	tell("it may, with a copy", "the mailbox, "+home)
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+home))
	// An administrator's alias goes where the list lets it; its sender is told where it does not.
	aliases := func(list string) {
		t.Helper()
		check(t, m.Beside.Write(t.Context(), "aliases", list))
	}
	const desk = "desk@ilvane.example"
	put(uma, desk, "kept", "administrator")
	tell("by an administrator, to nowhere", "the mailbox, someone@far.example")
	aliases("only: ilvane.example")
	tell("to a domain that is listed", "the mailbox, desk@ilvane.example")
	put(uma, desk, "not kept", "administrator")
	tell("without a copy", "desk@ilvane.example")
	put(uma, home, "kept", "owner")
	tell("and a script of their own, which is not run for mail that does not arrive", "desk@ilvane.example")
	put(uma, desk, "kept", "administrator")
	let(uma, home, true)
	tell("both", "the mailbox, desk@ilvane.example, "+home)
	aliases("not: ilvane.example")
	tell("all but them", "the mailbox, "+home+", someone@far.example")
	aliases("not: *.ilvane.example")
	tell("but those below", "the mailbox, desk@ilvane.example, "+home)
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+desk))
	tell("the alias taken away", "the mailbox, "+home)
	if k, err := m.Beside.One(t.Context(), "scripts", uma+" "+desk); err != nil || k != nil {
		t.Errorf("%+v %v", k, err)
	}
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+home))

	// Nobody answers: it refuses, and a trial says so.
	try := func() string {
		t.Helper()
		x, err := m.Beside.Try(t.Context(), native.Attempt{Action: "mail.forward", As: native.OneOurs, From: uma, To: home})
		check(t, err)
		return fmt.Sprint(x.Admitted, " ", x.Says)
	}
	if got := try(); got != "true it would go on" {
		t.Error(got)
	}
	if v, err := m.Beside.Read(t.Context()); err != nil || v["asks"] != "yes" || v["unanswered"] != "refused" {
		t.Errorf("%v %v", v, err)
	}
	check(t, policy.Close())
	if got := try(); !strings.Contains(got, "false") || !strings.Contains(got, "nobody answers whether this may go on") {
		t.Errorf("nobody answers: %s", got)
	}
}
