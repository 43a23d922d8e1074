// Package mailpolicy answers mail servers that ask before they send a letter on: the protocol in which
// Postfix delegates policy (its SMTPD_POLICY_README), in which a request is lines of name=value with an
// empty one behind, and the answer is action=... with an empty line behind.
//
// It knows no way to prove who asks, so that it listens on this machine alone. When it does not answer, a
// mail server refuses: that is set there, and a trial shows it.
package mailpolicy

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"strings"
	"sync"
	"time"
)

// Forwards answers whether mail of a mailbox of ours may go on to an address; says is why not, in a
// sentence, and known is false where the mailbox is none of ours.
type Forwards func(ctx context.Context, mailbox, to string) (yes bool, says string, known bool, err error)

const (
	mostLine  = 2 << 10
	mostLines = 200
	mostConns = 64
	idle      = 5 * time.Minute
	within    = 3 * time.Second
)

// Server answers until it is closed.
type Server struct {
	listener net.Listener
	may      Forwards
	log      *slog.Logger
	ctx      context.Context
	stop     context.CancelFunc
	conns    sync.WaitGroup
	slots    chan struct{}
}

// Open opens a port at an address of this machine, for Serve.
func Open(address string) (net.Listener, error) {
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		return nil, err
	}
	if ip := net.ParseIP(host); host != "localhost" && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("mail_policy %q: the protocol proves nobody, so that it listens on this machine alone: write 127.0.0.1:PORT",
			address)
	}
	return net.Listen("tcp", address)
}

// Listen answers at an address of this machine.
func Listen(address string, may Forwards, log *slog.Logger) (*Server, error) {
	l, err := Open(address)
	if err != nil {
		return nil, err
	}
	return Serve(l, may, log), nil
}

// Serve answers at a port that is open.
func Serve(l net.Listener, may Forwards, log *slog.Logger) *Server {
	s := &Server{listener: l, may: may, log: log, slots: make(chan struct{}, mostConns)}
	s.ctx, s.stop = context.WithCancel(context.Background())
	s.conns.Add(1)
	go s.accept()
	return s
}

// Address is where it answers.
func (s *Server) Address() string { return s.listener.Addr().String() }

// Close ends what is answered and waits for it.
func (s *Server) Close() error {
	s.stop()
	err := s.listener.Close()
	s.conns.Wait()
	return err
}

func (s *Server) accept() {
	defer s.conns.Done()
	for {
		conn, err := s.listener.Accept()
		if err != nil {
			return
		}
		select {
		case s.slots <- struct{}{}:
		default: // the mail server refuses for now and asks again
			_ = conn.Close()
			continue
		}
		s.conns.Add(1)
		go func() {
			defer func() { <-s.slots; s.conns.Done() }()
			end := context.AfterFunc(s.ctx, func() { _ = conn.Close() })
			defer end()
			defer conn.Close()
			s.serve(conn)
		}()
	}
}

func (s *Server) serve(conn net.Conn) {
	lines := bufio.NewScanner(conn)
	lines.Buffer(make([]byte, 0, 512), mostLine)
	for {
		_ = conn.SetDeadline(time.Now().Add(idle))
		asked, err := request(lines)
		if err != nil || asked == nil {
			return
		}
		ctx, cancel := context.WithTimeout(s.ctx, within)
		action := s.answer(ctx, asked)
		cancel()
		if _, err := fmt.Fprintf(conn, "action=%s\n\n", action); err != nil {
			return
		}
	}
}

// request reads one request; nil at the end.
func request(lines *bufio.Scanner) (map[string]string, error) {
	out := map[string]string{}
	for n := 0; lines.Scan(); n++ {
		line := lines.Text()
		if line == "" {
			return out, nil
		}
		name, value, ok := strings.Cut(line, "=")
		if !ok || n > mostLines {
			return nil, errors.New("no request")
		}
		out[name] = value
	}
	return nil, lines.Err()
}

// answer says what is done with a letter. DUNNO leaves it to what else the mail server asks.
func (s *Server) answer(ctx context.Context, asked map[string]string) string {
	if asked["request"] != "smtpd_access_policy" {
		return "DEFER_IF_PERMIT 4.3.5 this answers smtpd_access_policy alone"
	}
	sender, recipient := asked["sender"], asked["recipient"]
	if sender == "" || recipient == "" { // a bounce is nobody's forward
		return "DUNNO"
	}
	yes, says, known, err := s.may(ctx, sender, recipient)
	switch {
	case err != nil:
		s.log.Warn("a mail server asked, and no answer could be given", "error", err.Error())
		return "DEFER_IF_PERMIT 4.3.0 it cannot be said whether this may go on; try again"
	case !known, yes:
		return "DUNNO"
	}
	return "REJECT 5.7.1 " + oneLine(says)
}

// oneLine keeps a sentence on one line that a mail server passes on.
func oneLine(s string) string {
	s = strings.Map(func(r rune) rune {
		if r < ' ' || r == 0x7f {
			return ' '
		}
		return r
	}, s)
	return s[:min(len(s), 300)]
}
