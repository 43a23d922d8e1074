// Package mailforward stands beside a mail server that asks us before each forward: Postfix, whose submission listener
// has our policy service, and Dovecot, which delivers into mailboxes and runs their Sieve scripts (RFC 5228). Every
// forward is a script: a person's own, or one that an administrator put before it. What they redirect goes out through
// that listener, so that each letter is asked for when it goes, with the mailbox as its sender.
package mailforward

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"net/smtp"
	"net/textproto"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// Config says where the server's files are, and where it listens.
type Config struct {
	Main       string // Postfix's main.cf
	Master     string // and master.cf
	Own        string // the folder of people's own scripts: ADDRESS.sieve
	Before     string // the folder of those of administrators
	Submission string // host and port of the listener that asks us
}

// Server is one such server.
type Server struct {
	Config
	mu sync.Mutex
}

var dialect = native.Dialect{
	Name: "mailforward", Title: "Mail that goes on, over SMTP and Sieve", Also: []string{"mail.forward"}, Tries: []string{"mail.forward"},
	Lives: []native.Live{{
		Path: "asks", On: "yes", Unanswered: "unanswered", Refuses: "refused", Rule: "mail.forward", Title: "Asks before a letter goes on",
		Opened: "it asks before mail goes on, and lets all of it go on when nobody answers",
	}},
	Holdings: []native.Holding{{Kind: "forwarder", Name: "scripts", Title: "Scripts that redirect", Source: true, Says: "A letter that may not go on stays in the mailbox, and no bounce is sent.", Fields: []native.Field{
		{Name: "mailbox", Of: "mailbox"}, {Name: "to", Of: "to"},
		{Name: "copy", Of: "keep_copy", Words: map[string]string{"yes": "kept", "no": "not kept"}},
		{Name: "by", Of: "set_by", Words: map[string]string{"person": "owner", "administrator": "administrator", "mail_rule": "rule"}},
	}}},
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

var asks = regexp.MustCompile(`(?m)^\s+-o\s+smtpd_relay_restrictions=\{?\s*check_policy_service[ ,]+inet:[0-9.:]+[ ,]+permit_mynetworks[ ,]+reject`)

// Read returns whether the server asks, as its files say.
func (s *Server) Read(context.Context) (map[string]string, error) {
	master, err := os.ReadFile(s.Master)
	if err != nil {
		return nil, err
	}
	main, err := os.ReadFile(s.Main)
	if err != nil {
		return nil, err
	}
	out := map[string]string{"asks": "no", "unanswered": "refused"} // what Postfix does where nothing is said
	if asks.Match(master) {
		out["asks"] = "yes"
	}
	for _, l := range strings.Split(string(main), "\n") {
		if v, ok := strings.CutPrefix(l, "smtpd_policy_service_default_action"); ok {
			v = strings.TrimSpace(strings.TrimLeft(v, " ="))
			if out["unanswered"] = v; strings.HasPrefix(v, "4") || strings.HasPrefix(v, "5") || strings.HasPrefix(strings.ToUpper(v), "DEFER") || strings.HasPrefix(strings.ToUpper(v), "REJECT") {
				out["unanswered"] = "refused"
			}
		}
	}
	return out, nil
}

// Write writes nothing: that the server asks is its administrator's to configure.
func (s *Server) Write(_ context.Context, path, _ string) error {
	return beside.Refuse("%q is configured by the server's administrator; see its page in the documentation", path)
}

// script writes a forward as Sieve (RFC 5228 §4.2; keeping a copy RFC 3894).
func script(by, to, copied string) string {
	keep := ""
	if copied == "kept" {
		keep = ":copy "
	}
	return fmt.Sprintf("# by %s\nrequire \"copy\";\nredirect %s\"%s\";\n", by, keep, to)
}

var redirect = regexp.MustCompile(`(?m)^\s*redirect\s+(:copy\s+)?"([^"]+)"\s*;`)

// all reads every script, whoever wrote it: each of its redirects is a forward.
func (s *Server) all() (map[string]native.Kept, error) {
	out := map[string]native.Kept{}
	for _, dir := range []string{s.Own, s.Before} {
		list, err := os.ReadDir(dir)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			box, ok := strings.CutSuffix(e.Name(), ".sieve")
			if !ok {
				continue
			}
			b, err := os.ReadFile(filepath.Join(dir, e.Name()))
			if err != nil {
				return nil, err
			}
			by := "owner"
			if dir == s.Before {
				by = "administrator"
			}
			if strings.Contains(string(b), "# by rule\n") {
				by = "rule"
			}
			for _, m := range redirect.FindAllStringSubmatch(string(b), -1) {
				copied := "not kept"
				if m[1] != "" {
					copied = "kept"
				}
				id := box + " " + strings.ToLower(m[2])
				out[id] = native.Kept{ID: id, Fields: map[string]string{"mailbox": box, "to": m[2], "copy": copied, "by": by}}
			}
		}
	}
	return out, nil
}

// List hands over all forwards.
func (s *Server) List(_ context.Context, kind string, fn func(native.Kept) error) error {
	if kind != "scripts" {
		return beside.Refuse("there are no %s", kind)
	}
	s.mu.Lock()
	all, err := s.all()
	s.mu.Unlock()
	if err != nil {
		return err
	}
	return beside.Each(all, fn)
}

// One returns a forward; nil where it is not there.
func (s *Server) One(_ context.Context, kind, id string) (*native.Kept, error) {
	if kind != "scripts" {
		return nil, beside.Refuse("there are no %s", kind)
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	all, err := s.all()
	if k, ok := all[id]; ok {
		return &k, err
	}
	return nil, err
}

// Put makes a forward, or changes it.
func (s *Server) Put(ctx context.Context, kind, id string, f map[string]string) (string, error) {
	if kind != "scripts" {
		return "", beside.Refuse("there are no %s", kind)
	}
	box, err := addr.Parse(f["mailbox"])
	to, err2 := addr.Parse(f["to"])
	if err != nil || err2 != nil || strings.ContainsAny(box.String()+to.String(), `"\/ `) {
		return "", beside.Refuse("mail of %q cannot go on to %q", f["mailbox"], f["to"])
	}
	dir := map[string]string{"owner": s.Own, "rule": s.Own, "administrator": s.Before}[f["by"]]
	if dir == "" || f["copy"] != "kept" && f["copy"] != "not kept" {
		return "", beside.Refuse("a forward is by owner, administrator or rule, with a copy kept or not kept")
	}
	if id != "" {
		if err := s.Drop(ctx, kind, id); err != nil {
			return "", err
		}
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	path := filepath.Join(dir, box.String()+".sieve")
	text := script(f["by"], to.String(), f["copy"])
	if was, err := os.ReadFile(path); err == nil { // what is there besides stays
		lines := slices.DeleteFunc(strings.SplitAfter(string(was), "\n"), func(l string) bool {
			m := redirect.FindStringSubmatch(l)
			return m != nil && strings.EqualFold(m[2], to.String()) || strings.HasPrefix(l, "require") || strings.HasPrefix(l, "# by ")
		})
		text += strings.Join(lines, "")
	}
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return "", err
	}
	return box.String() + " " + to.String(), beside.Replace(path, text)
}

// Drop takes a forward out of its script.
func (s *Server) Drop(_ context.Context, kind, id string) error {
	if kind != "scripts" {
		return beside.Refuse("there are no %s", kind)
	}
	box, to, ok := strings.Cut(id, " ")
	if !ok || strings.ContainsAny(box, `/\`) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, dir := range []string{s.Own, s.Before} {
		path := filepath.Join(dir, box+".sieve")
		b, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			return err
		}
		left := 0
		lines := slices.DeleteFunc(strings.SplitAfter(string(b), "\n"), func(l string) bool {
			m := redirect.FindStringSubmatch(l)
			gone := m != nil && strings.EqualFold(m[2], to)
			if !gone && strings.TrimSpace(l) != "" && !strings.HasPrefix(l, "require") && !strings.HasPrefix(l, "#") {
				left++
			}
			return gone
		})
		if left == 0 {
			if err := os.Remove(path); err != nil {
				return err
			}
			continue
		}
		if err := beside.Replace(path, strings.Join(lines, "")); err != nil {
			return err
		}
	}
	return nil
}

// Asked asks the listener as the server does before a letter goes on: with the mailbox as its sender. No letter is sent.
func (s *Server) Asked(ctx context.Context, mailbox, to string) (yes bool, says string, err error) {
	conn, err := (&net.Dialer{Timeout: 10 * time.Second}).DialContext(ctx, "tcp", s.Submission)
	if err != nil {
		return false, "", err
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(15 * time.Second))
	host, _, _ := net.SplitHostPort(s.Submission)
	c, err := smtp.NewClient(conn, host)
	if err != nil {
		return false, "", err
	}
	defer c.Close()
	if err := c.Mail(mailbox); err != nil {
		return false, "", err
	}
	err = c.Rcpt(to)
	var no *textproto.Error
	if errors.As(err, &no) {
		return false, no.Msg, nil
	}
	return err == nil, "it would go on", err
}

// Try asks the listener whether a letter of somebody of ours may go on. An action by whom nobody lends a name is of a
// mailbox that nobody has.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if a.Action != "mail.forward" || a.As != native.OneOurs || a.From == "" || a.To == "" {
		return out, nil
	}
	out.Known = true
	out.Admitted, out.Says, err = s.Asked(ctx, a.From, a.To)
	return out, err
}
