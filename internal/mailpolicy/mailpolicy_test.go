package mailpolicy

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"
)

// TestServer asks as a mail server does: several requests on one connection, whole answers, and what is no
// request.
func TestServer(t *testing.T) {
	for _, at := range []string{"0.0.0.0:0", "192.0.2.1:25", "nonsense"} {
		if s, err := Listen(at, nil, slog.New(slog.DiscardHandler)); err == nil {
			_ = s.Close()
			t.Errorf("it listens at %s", at)
		}
	}
	s, err := Listen("127.0.0.1:0", func(_ context.Context, mailbox, to string) (bool, string, bool, error) {
		switch mailbox {
		case "broken@ours.example":
			return false, "", true, errors.New("no database")
		case "stranger@far.example":
			return false, "", false, nil
		}
		return to == "a@ilvane.example", "mail of " + mailbox + "\nmay not go on", true, nil
	}, slog.New(slog.DiscardHandler))
	if err != nil {
		t.Fatal(err)
	}
	conn, err := net.Dial("tcp", s.Address())
	if err != nil {
		t.Fatal(err)
	}
	in := bufio.NewReader(conn)
	for _, x := range [][2]string{
		{"request=smtpd_access_policy\nsender=uma@ours.example\nrecipient=a@ilvane.example\n\n", "action=DUNNO\n\n"},
		{"request=smtpd_access_policy\nsender=uma@ours.example\nrecipient=b@far.example\nsize=1\n\n",
			"action=REJECT 5.7.1 mail of uma@ours.example may not go on\n\n"},
		{"request=smtpd_access_policy\nsender=\nrecipient=b@far.example\n\n", "action=DUNNO\n\n"},
		{"request=smtpd_access_policy\nsender=stranger@far.example\nrecipient=b@far.example\n\n", "action=DUNNO\n\n"},
		{"request=smtpd_access_policy\nsender=broken@ours.example\nrecipient=b@far.example\n\n",
			"action=DEFER_IF_PERMIT 4.3.0 it cannot be said whether this may go on; try again\n\n"},
		{"request=junk\n\n", "action=DEFER_IF_PERMIT 4.3.5 this answers smtpd_access_policy alone\n\n"},
	} {
		if _, err := fmt.Fprint(conn, x[0]); err != nil {
			t.Fatal(err)
		}
		got := ""
		for !strings.HasSuffix(got, "\n\n") {
			line, err := in.ReadString('\n')
			if err != nil {
				t.Fatal(err)
			}
			got += line
		}
		if got != x[1] {
			t.Errorf("%q was answered with %q", x[0], got)
		}
	}
	for _, nonsense := range []string{"GET / HTTP/1.1\r\n\r\n", strings.Repeat("x", 5000) + "\n", strings.Repeat("a=b\n", 300) + "\n"} {
		other, err := net.Dial("tcp", s.Address())
		if err != nil {
			t.Fatal(err)
		}
		_, _ = fmt.Fprint(other, nonsense)
		if got, _ := io.ReadAll(other); strings.Contains(string(got), "DUNNO") {
			t.Errorf("%.20q was answered with %q", nonsense, got)
		}
		_ = other.Close()
	}
	if err := s.Close(); err != nil {
		t.Error(err)
	}
	if _, err := in.ReadString('\n'); err == nil {
		t.Error("closed, and the line is still open")
	}
}
