package aclcalendar

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"strings"
	"time"

	"wexillum.example/internal/beside"
)

// conn is a session of the server's administrator over IMAP (RFC 9051), for what lists of rights take (RFC 4314). What is
// asked for here is answered in lines alone.
type conn struct {
	net.Conn
	in *bufio.Reader
	n  int
}

func (s *Server) dial(ctx context.Context) (*conn, error) {
	c, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", s.IMAP)
	if err != nil {
		return nil, err
	}
	_ = c.SetDeadline(time.Now().Add(time.Minute))
	x := &conn{Conn: c, in: bufio.NewReader(c)}
	if _, err := x.in.ReadString('\n'); err != nil {
		x.Close()
		return nil, err
	}
	if _, err := x.do("LOGIN %s %s", quote(s.Admin), quote(s.Password)); err != nil {
		x.Close()
		return nil, err
	}
	return x, nil
}

// quote writes a text as a quoted string (RFC 9051 §4.3).
func quote(s string) string {
	return `"` + strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\r", "", "\n", "").Replace(s) + `"`
}

// do sends a command, and returns what came untagged.
func (c *conn) do(format string, args ...any) (lines []string, err error) {
	c.n++
	tag := fmt.Sprintf("w%d ", c.n)
	if _, err := fmt.Fprintf(c, tag+format+"\r\n", args...); err != nil {
		return nil, err
	}
	for {
		l, err := c.in.ReadString('\n')
		if err != nil {
			return nil, err
		}
		l = strings.TrimRight(l, "\r\n")
		if rest, ok := strings.CutPrefix(l, tag); ok {
			if !strings.HasPrefix(rest, "OK") {
				return lines, beside.Refuse("the calendar server says: %s", rest)
			}
			return lines, nil
		}
		lines = append(lines, strings.TrimPrefix(l, "* "))
	}
}

// words splits a line into atoms and quoted strings.
func words(line string) (out []string) {
	for line = strings.TrimSpace(line); line != ""; line = strings.TrimSpace(line) {
		if line[0] != '"' {
			w, rest, _ := strings.Cut(line, " ")
			out, line = append(out, w), rest
			continue
		}
		var b strings.Builder
		i := 1
		for ; i < len(line) && line[i] != '"'; i++ {
			if line[i] == '\\' && i+1 < len(line) {
				i++
			}
			b.WriteByte(line[i])
		}
		out, line = append(out, b.String()), line[min(i+1, len(line)):]
	}
	return out
}
