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
	"maps"
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
	// Aliases is the file of aliases of administrators (virtual_alias_maps, texthash), and Transport that of where mail may go on
	// to (transport_maps, regexp), with one for senders beside it; empty where administrators' forwards are scripts. Onward is how
	// mail goes out, as smtp:[mx.example]; Reload makes the server read them again.
	Aliases, Transport, Onward string
	Reload                     func(ctx context.Context) error
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
	Holdings: []native.Holding{{Kind: "forwarder", Name: "scripts", Title: "Scripts that redirect", Source: true,
		Says: "A letter that may not go on stays in the mailbox, and no bounce is sent.", Fields: []native.Field{
			{Name: "mailbox", Of: "mailbox"}, {Name: "to", Of: "to"},
			{Name: "copy", Of: "keep_copy", Words: map[string]string{"yes": "kept", "no": "not kept"}},
			{Name: "by", Of: "set_by", Words: map[string]string{"person": "owner", "administrator": "administrator", "mail_rule": "rule"}},
		}}},
}

// withAliases is the dialect of a server whose administrators' forwards are aliases: they are not asked for one by one, and go
// where a list lets them.
var withAliases = func() native.Dialect {
	d := dialect
	d.Boards = []native.Board{{Path: "aliases", Title: "Domains that administrators' aliases go on to", Rule: "mail.forward",
		Keys: []string{"mail.out"}, Only: "only", But: "not", Span: time.Second}}
	d.Holdings = slices.Clone(d.Holdings)
	d.Holdings[0].Span = time.Second
	d.Holdings[0].Says = "A letter that a script may not send on stays in the mailbox, and no bounce is sent; one that an alias may not send on bounces, and a copy that was to stay stays."
	return d
}()

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect {
	if s.Aliases != "" {
		return &withAliases
	}
	return &dialect
}

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
			if out["unanswered"] = v; strings.HasPrefix(v, "4") || strings.HasPrefix(v, "5") || strings.HasPrefix(strings.ToUpper(v), "DEFER") ||
				strings.HasPrefix(strings.ToUpper(v), "REJECT") {
				out["unanswered"] = "refused"
			}
		}
	}
	if s.Aliases != "" {
		if out["aliases"], err = s.transports(); err != nil {
			return nil, err
		}
	}
	return out, nil
}

// refuses is what the server says to the sender of a letter that an alias may not send on.
const refuses = "error:5.7.1 mail does not go on to this domain"

// tables write a list of domains as two tables of the server: where recipients of a domain go (transport(5)), and where letters
// go that it says nothing of, by their sender (sender_dependent_default_transport_maps): what tells a sender of a letter that
// came back has none, and goes. The first line of the first says the list; what follows is that which counts.
func (s *Server) tables(list string) (transport, senders string) {
	mode, names, _ := native.ParseBoard(list)
	hit, rest := s.Onward, refuses
	if mode == "not" {
		hit, rest = rest, hit
	}
	transport = "# " + list + "\n"
	for _, n := range names {
		p := "@" + regexp.QuoteMeta(n)
		if below, ok := strings.CutPrefix(n, "*."); ok {
			p = `@[a-z0-9.-]+\.` + regexp.QuoteMeta(below)
		}
		transport += fmt.Sprintf("/%s$/ %s\n", p, hit)
	}
	return transport, fmt.Sprintf("/^\"?<>\"?$/ %s\n/./ %s\n", s.Onward, rest)
}

func (s *Server) sendersFile() string { return s.Transport + ".senders" }

// Begin writes the tables that the server's configuration names, where they are not there: nothing goes on.
func (s *Server) Begin() error {
	if s.Aliases == "" {
		return nil
	}
	if _, err := os.Stat(s.Transport); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	return errors.Join(s.writeTables("only:"), beside.Replace(s.Aliases, ""))
}

func (s *Server) writeTables(list string) error {
	transport, senders := s.tables(list)
	return errors.Join(beside.Replace(s.Transport, transport), beside.Replace(s.sendersFile(), senders))
}

func (s *Server) transports() (string, error) {
	b, err := os.ReadFile(s.Transport)
	if err != nil {
		return "", err
	}
	c, err := os.ReadFile(s.sendersFile())
	first, _, _ := strings.Cut(strings.TrimPrefix(string(b), "# "), "\n")
	if transport, senders := s.tables(first); err == nil && (string(b) != transport || string(c) != senders) {
		first = "the tables were changed by hand"
	}
	return first, err
}

// Write writes where aliases go on to. That the server asks is its administrator's to configure.
func (s *Server) Write(ctx context.Context, path, value string) error {
	if path == "aliases" && s.Aliases != "" {
		list, err := beside.DomainList(value, false)
		if err != nil {
			return err
		}
		s.mu.Lock()
		defer s.mu.Unlock()
		if err := s.writeTables(list); err != nil {
			return err
		}
		return s.Reload(ctx)
	}
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

// aliases reads the aliases of administrators (virtual(5)): of each mailbox, where its mail goes.
func (s *Server) aliases() (map[string][]string, error) {
	out := map[string][]string{}
	if s.Aliases == "" {
		return out, nil
	}
	b, err := os.ReadFile(s.Aliases)
	if errors.Is(err, fs.ErrNotExist) {
		return out, nil
	}
	for _, l := range strings.Split(string(b), "\n") {
		f := strings.FieldsFunc(l, func(r rune) bool { return r == ' ' || r == '\t' || r == ',' })
		if len(f) > 1 && !strings.HasPrefix(l, "#") {
			out[f[0]] = f[1:]
		}
	}
	return out, err
}

// alias puts an alias of a mailbox in place of the one to the same address, or takes it away. Where nothing goes on any more
// there is no alias.
func (s *Server) alias(ctx context.Context, box, to string, there, copied bool) error {
	all, err := s.aliases()
	if err != nil {
		return err
	}
	was := slices.Clone(all[box])
	list := slices.DeleteFunc(all[box], func(x string) bool { return strings.EqualFold(x, to) })
	if there {
		list = append(slices.DeleteFunc(list, func(x string) bool { return x == box }), to)
		if copied {
			list = append([]string{box}, list...)
		}
	}
	if all[box] = list; len(list) == 0 || len(list) == 1 && list[0] == box {
		delete(all, box)
	}
	if slices.Equal(was, all[box]) {
		return nil
	}
	var b strings.Builder
	for _, x := range slices.Sorted(maps.Keys(all)) {
		fmt.Fprintf(&b, "%s %s\n", x, strings.Join(all[x], ", "))
	}
	if err := beside.Replace(s.Aliases, b.String()); err != nil {
		return err
	}
	return s.Reload(ctx)
}

// all reads every script, whoever wrote it: each of its redirects is a forward; and aliases.
func (s *Server) all() (map[string]native.Kept, error) {
	out := map[string]native.Kept{}
	aliases, err := s.aliases()
	if err != nil {
		return nil, err
	}
	for box, list := range aliases {
		copied := "not kept"
		if slices.Contains(list, box) {
			copied = "kept"
		}
		for _, to := range list {
			if to != box {
				id := box + " " + strings.ToLower(to)
				out[id] = native.Kept{ID: id, Fields: map[string]string{"mailbox": box, "to": to, "copy": copied, "by": "administrator"}}
			}
		}
	}
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
	if f["by"] == "administrator" && s.Aliases != "" {
		return box.String() + " " + to.String(), s.alias(ctx, box.String(), to.String(), true, f["copy"] == "kept")
	}
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
func (s *Server) Drop(ctx context.Context, kind, id string) error {
	if kind != "scripts" {
		return beside.Refuse("there are no %s", kind)
	}
	box, to, ok := strings.Cut(id, " ")
	if !ok || strings.ContainsAny(box, `/\`) {
		return nil
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.Aliases != "" {
		if err := s.alias(ctx, box, to, false, false); err != nil {
			return err
		}
	}
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
