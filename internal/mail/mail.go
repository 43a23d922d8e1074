// Package mail composes what is sent to guests and to those who answer for them, and hands
// it to a mail server: SMTP (RFC 5321), MIME with text and HTML (RFC 2046).
package mail

import (
	"bytes"
	"context"
	"crypto/tls"
	"embed"
	"errors"
	"fmt"
	htmltemplate "html/template"
	"net"
	"strconv"
	"strings"
	"text/template"
	"time"
	"wexillum.example/internal/phrase"

	gomail "github.com/wneessen/go-mail"
)

//go:embed words/*.txt
var files embed.FS

// Content is what a message says. Which fields a kind uses, its words tell.
type Content struct {
	Organisation string
	Name         string // of who is written to; empty where it is not known
	By           string // who invites, or answers for them
	ByAddress    string
	What         []string // what it is about, in words: spaces, items, what can be done
	Text         string   // own words of who invites, or a reason
	Until        string   // a day, in words
	Cause        string
	Code         string
	Minutes      int
	Link         string   // where to go
	Own          string   // their own page
	Lines        []Line   // of a digest
	Count, More  int      // how many guests a digest is about, and how many of them it does not list
	Leave        bool     // they may leave by themselves
	Purpose      string   // what they are invited for
	Lapses       string   // the last day of an invitation, in words
	Beside       []string // what they can do besides, where no role is needed
	Guest        string   // who came in, of a message to who invited them; who is away, of one to their deputy; or a partner
}

// Line is one entry of a digest: a day in words, of whom, and what.
type Line struct{ Day, Who, What string }

// Message is a composed message.
type Message struct{ Subject, Text, HTML string }

// Kinds are the messages there are.
var Kinds = []string{"invitation", "given", "code", "warning", "suspended", "back", "extended", "no_more_time", "digest", "offer",
	"arrived", "works", "answered", "sign_up", "let_in", "expectation", "bundle_asked", "bundle_answered", "review", "deputy", "feed"}

// Compose writes a message of a kind in a language.
func Compose(kind, language string, c *Content) (m Message, err error) {
	raw, err := files.ReadFile("words/" + kind + "." + phrase.Of(language) + ".txt")
	if err != nil {
		return m, fmt.Errorf("there are no words for a message %q", kind)
	}
	t, err := template.New(kind).Funcs(template.FuncMap{"quoted": quoted}).Parse(string(raw))
	if err != nil {
		return m, err
	}
	var b bytes.Buffer
	if err := t.Execute(&b, c); err != nil {
		return m, err
	}
	head, body, _ := strings.Cut(b.String(), "\n")
	m.Subject = strings.TrimSpace(strings.TrimPrefix(head, "Subject:"))
	body = strings.TrimSpace(squeeze(body))
	m.Text = body + "\n"
	var paragraphs []block
	for _, p := range strings.Split(body, "\n\n") {
		paragraphs = append(paragraphs, blockOf(p))
	}
	b.Reset()
	err = page.Execute(&b, map[string]any{"Language": language, "Subject": m.Subject, "Blocks": paragraphs, "Organisation": c.Organisation})
	m.HTML = b.String()
	return m, err
}

// squeeze takes out blank lines beyond one, which templates leave behind.
func squeeze(s string) string {
	for strings.Contains(s, "\n\n\n") {
		s = strings.ReplaceAll(s, "\n\n\n", "\n\n")
	}
	return s
}

// quoted marks somebody's own words as theirs, as mail marks what it quotes (RFC 3676 §4.5).
// Paragraphs of theirs stay one block.
func quoted(text string) string {
	lines := strings.Split(strings.TrimSpace(squeeze(strings.ReplaceAll(text, "\r\n", "\n"))), "\n")
	for i, l := range lines {
		lines[i] = strings.TrimRight("> "+l, " ")
	}
	return strings.Join(lines, "\n")
}

// block is a paragraph: a list, a link, a code, words, or somebody's own words.
type block struct {
	Quote []string
	Items []string
	Link  string
	Code  string
	Words []string
}

func blockOf(p string) block {
	lines := strings.Split(p, "\n")
	if strings.HasPrefix(lines[0], "- ") {
		var b block
		for _, l := range lines {
			b.Items = append(b.Items, strings.TrimPrefix(l, "- "))
		}
		return b
	}
	if strings.HasPrefix(p, ">") {
		var b block
		for _, l := range lines {
			b.Quote = append(b.Quote, strings.TrimPrefix(strings.TrimPrefix(l, ">"), " "))
		}
		return b
	}
	if len(lines) == 1 && (strings.HasPrefix(p, "https://") || strings.HasPrefix(p, "http://")) {
		return block{Link: p}
	}
	if len(lines) == 1 && strings.HasPrefix(p, "    ") {
		return block{Code: strings.TrimSpace(p)}
	}
	return block{Words: lines}
}

var page = htmltemplate.Must(htmltemplate.New("").Parse(`<!doctype html>
<html lang="{{.Language}}"><head><meta charset="utf-8"><meta name="viewport" content="width=device-width"><title>{{.Subject}}</title></head>
<body style="margin:0;padding:24px;background:#f3f1ea;color:#1d2b30;font:16px/1.5 Georgia,serif">
<div style="max-width:560px;margin:0 auto;background:#ffffff;padding:28px 32px;border-top:4px solid #17586a">
<p style="margin:0 0 20px;font-size:14px;color:#4b5a60">{{.Organisation}}</p>
{{range .Blocks}}{{if .Quote}}<blockquote style="margin:0 0 16px;padding:2px 16px;border-left:3px solid #b9b39f;color:#3b474c">{{range $i, $l := .Quote}}{{if $i}}<br>{{end}}{{$l}}{{end}}</blockquote>
{{else if .Items}}<ul style="margin:0 0 16px;padding-left:20px">{{range .Items}}<li>{{.}}</li>{{end}}</ul>
{{else if .Link}}<p style="margin:0 0 16px"><a href="{{.Link}}" style="color:#0f4c5c">{{.Link}}</a></p>
{{else if .Code}}<p style="margin:0 0 16px;font:24px/1.3 monospace;letter-spacing:3px">{{.Code}}</p>
{{else}}<p style="margin:0 0 16px">{{range $i, $l := .Words}}{{if $i}}<br>{{end}}{{$l}}{{end}}</p>
{{end}}{{end}}</div></body></html>
`))

// plain leaves out of an error what the outbox tells already: the recipient and the message.
func plain(err error) error {
	if err == nil {
		return nil
	}
	text, _, _ := strings.Cut(err.Error(), ", affected recipient")
	return errors.New(strings.TrimPrefix(text, "send failed: "))
}

// Server is a mail server to hand messages to.
type Server struct {
	Address  string // host:port
	TLS      string // required (STARTTLS or, at port 465, from the start), opportunistic, none
	User     string
	Password string
	From     string      // address, or Name <address>
	Config   *tls.Config // nil is the system's; for tests
	Timeout  time.Duration
}

// Rejected is a message that the server does not take from or for this recipient, and will
// not at another try (a reply of 5yz to RCPT or DATA, RFC 5321 §4.2.1).
type Rejected struct{ Err error }

func (e *Rejected) Error() string { return e.Err.Error() }
func (e *Rejected) Unwrap() error { return e.Err }

// client is how the server is spoken with.
func (s *Server) client() (*gomail.Client, error) {
	host, portText, err := net.SplitHostPort(s.Address)
	if err != nil {
		return nil, err
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, err
	}
	timeout := s.Timeout
	if timeout == 0 {
		timeout = 15 * time.Second
	}
	opts := []gomail.Option{gomail.WithPort(port), gomail.WithTimeout(timeout), gomail.WithoutNoop()}
	switch {
	case s.TLS == "none":
		opts = append(opts, gomail.WithTLSPolicy(gomail.NoTLS))
	case port == 465:
		opts = append(opts, gomail.WithSSL())
	case s.TLS == "opportunistic":
		opts = append(opts, gomail.WithTLSPolicy(gomail.TLSOpportunistic))
	default:
		opts = append(opts, gomail.WithTLSPolicy(gomail.TLSMandatory))
	}
	if s.Config != nil {
		opts = append(opts, gomail.WithTLSConfig(s.Config))
	}
	if s.User != "" {
		opts = append(opts, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(s.User), gomail.WithPassword(s.Password))
	}
	return gomail.NewClient(host, opts...)
}

// Try reaches the server, and signs in where that is set; it sends nothing.
func (s *Server) Try(ctx context.Context) error {
	c, err := s.client()
	if err != nil {
		return err
	}
	if err := c.DialWithContext(ctx); err != nil {
		return plain(err)
	}
	return c.Close()
}

// Send hands one message to the server. The error is a *Rejected where trying again is of no
// use. The Message-ID is the caller's, so that a second
// try can be told from a second message.
func (s *Server) Send(ctx context.Context, to, messageID string, m *Message) error {
	msg := gomail.NewMsg(gomail.WithEncoding(gomail.EncodingQP), gomail.WithNoDefaultUserAgent())
	if err := msg.From(s.From); err != nil {
		return err
	}
	if err := msg.To(to); err != nil {
		return err
	}
	msg.SetMessageIDWithValue(messageID)
	msg.SetDate()
	msg.Subject(m.Subject)
	msg.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 §5
	msg.SetBodyString(gomail.TypeTextPlain, m.Text)
	msg.AddAlternativeString(gomail.TypeTextHTML, m.HTML)
	c, err := s.client()
	if err != nil {
		return err
	}
	err = c.DialAndSendWithContext(ctx, msg)
	var e *gomail.SendError
	if errors.As(err, &e) && !e.IsTemp() &&
		(e.Reason == gomail.ErrSMTPRcptTo || e.Reason == gomail.ErrSMTPData || e.Reason == gomail.ErrSMTPDataClose) &&
		e.ErrorCode() >= 500 {
		return &Rejected{plain(err)}
	}
	return plain(err)
}
