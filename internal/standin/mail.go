package standin

import (
	"bytes"
	"encoding/json"
	"errors"
	"html/template"
	"io"
	"mime"
	"mime/multipart"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"os"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-sasl"
	"github.com/emersion/go-smtp"
	"github.com/go-chi/chi/v5"
)

// MailServer takes every mail that comes over SMTP (RFC 5321) and shows it on a page. It
// passes nothing on.
type MailServer struct {
	Address string // of SMTP
	URL     string // of its page

	mu    sync.Mutex
	came  chan struct{} // closed and made anew with every mail
	list  []Mail
	path  string
	fail  int // so many of the next are refused for now
	smtp  *smtp.Server
	pages *http.Server
}

// Mail is a message that came.
type Mail struct {
	At        time.Time `json:"at"`
	From      string    `json:"from"`
	To        []string  `json:"to"`
	Subject   string    `json:"subject"`
	MessageID string    `json:"message_id"`
	Text      string    `json:"text"`
	HTML      string    `json:"html"`
	Raw       string    `json:"raw"`
	User      string    `json:"user,omitempty"` // who signed in to send it
	TLS       bool      `json:"tls,omitempty"`
}

// NoMailbox begins the addresses that the server refuses for good (RFC 5321 §4.2.3, 550).
const NoMailbox = "no-mailbox"

// keptMail is how many messages are kept.
const keptMail = 500

// NewMailServer listens for SMTP and serves its page; where the page's port is taken, on
// another.
func NewMailServer(smtpAt, pageAt string) (*MailServer, error) {
	m := &MailServer{came: make(chan struct{})}
	l, err := net.Listen("tcp", smtpAt)
	if err != nil {
		return nil, err
	}
	p, err := net.Listen("tcp", pageAt)
	if err != nil {
		if p, err = net.Listen("tcp", "127.0.0.1:0"); err != nil {
			_ = l.Close()
			return nil, err
		}
	}
	m.Address, m.URL = l.Addr().String(), "http://"+p.Addr().String()
	m.smtp = smtp.NewServer(m)
	m.smtp.Domain, m.smtp.AllowInsecureAuth, m.smtp.ReadTimeout, m.smtp.WriteTimeout, m.smtp.MaxMessageBytes = "mail.stand-in.example", false,
		30*time.Second, 30*time.Second, 4<<20
	m.smtp.ErrorLog = silent{}
	go func() { _ = m.smtp.Serve(l) }()
	m.pages = &http.Server{Handler: m.Handler(), ReadHeaderTimeout: 5 * time.Second}
	go func() { _ = m.pages.Serve(p) }()
	return m, nil
}

type silent struct{}

func (silent) Printf(string, ...any) {}
func (silent) Println(...any)        {}

// SMTP returns the server, to be set up otherwise before anything is sent.
func (m *MailServer) SMTP() *smtp.Server { return m.smtp }

// Close stops it.
func (m *MailServer) Close() {
	_ = m.smtp.Close()
	_ = m.pages.Close()
}

// Keep goes on with what is kept in a file, and keeps what comes there.
func (m *MailServer) Keep(path string) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.path = path
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	return json.Unmarshal(text, &m.list)
}

// Refuse lets the next n messages be refused for now (RFC 5321 §4.2.1, 451).
func (m *MailServer) Refuse(n int) {
	m.mu.Lock()
	defer m.mu.Unlock()
	m.fail = n
}

// Messages returns what came, the oldest first, and a channel that is closed with the next.
func (m *MailServer) Messages() ([]Mail, <-chan struct{}) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return append([]Mail(nil), m.list...), m.came
}

// NewSession begins a conversation.
func (m *MailServer) NewSession(c *smtp.Conn) (smtp.Session, error) {
	_, secure := c.TLSConnectionState()
	return &mailSession{m: m, tls: secure}, nil
}

type mailSession struct {
	m          *MailServer
	from, user string
	to         []string
	tls        bool
}

func (s *mailSession) AuthMechanisms() []string { return []string{sasl.Plain} }

func (s *mailSession) Auth(string) (sasl.Server, error) {
	return sasl.NewPlainServer(func(_, user, password string) error {
		if password == "" || password == "wrong" {
			return errors.New("name or password is wrong")
		}
		s.user = user
		return nil
	}), nil
}

func (s *mailSession) Reset()        { s.from, s.to = "", nil }
func (s *mailSession) Logout() error { return nil }

func (s *mailSession) Mail(from string, _ *smtp.MailOptions) error {
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	if s.m.fail > 0 {
		s.m.fail--
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "not now"}
	}
	s.from = from
	return nil
}

func (s *mailSession) Rcpt(to string, _ *smtp.RcptOptions) error {
	if strings.HasPrefix(to, NoMailbox) {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "there is no such mailbox"}
	}
	s.to = append(s.to, to)
	return nil
}

func (s *mailSession) Data(r io.Reader) error {
	raw, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	x := Mail{At: time.Now(), From: s.from, To: s.to, Raw: string(raw), User: s.user, TLS: s.tls}
	if msg, err := mail.ReadMessage(bytes.NewReader(raw)); err == nil {
		dec := &mime.WordDecoder{}
		x.Subject, _ = dec.DecodeHeader(msg.Header.Get("Subject"))
		x.MessageID = strings.Trim(msg.Header.Get("Message-ID"), "<>")
		x.Text, x.HTML = parts(msg)
	}
	s.m.mu.Lock()
	defer s.m.mu.Unlock()
	s.m.list = append(s.m.list, x)
	if len(s.m.list) > keptMail {
		s.m.list = s.m.list[len(s.m.list)-keptMail:]
	}
	if s.m.path != "" {
		if text, err := json.Marshal(s.m.list); err == nil {
			_ = keep(s.m.path, text)
		}
	}
	close(s.m.came)
	s.m.came = make(chan struct{})
	return nil
}

// parts takes the text and the HTML out of a message.
func parts(msg *mail.Message) (text, html string) {
	kind, params, err := mime.ParseMediaType(msg.Header.Get("Content-Type"))
	if err != nil || !strings.HasPrefix(kind, "multipart/") {
		b, _ := io.ReadAll(msg.Body)
		return string(b), ""
	}
	r := multipart.NewReader(msg.Body, params["boundary"])
	for {
		p, err := r.NextRawPart()
		if err != nil {
			return
		}
		var body io.Reader = p
		if strings.EqualFold(p.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
			body = quotedprintable.NewReader(p)
		}
		b, _ := io.ReadAll(body)
		if strings.HasPrefix(p.Header.Get("Content-Type"), "text/html") {
			html = string(b)
		} else {
			text = strings.ReplaceAll(string(b), "\r\n", "\n")
		}
	}
}

var webAddress = regexp.MustCompile(`https?://[^\s<>"]+`)

// Handler serves the page.
func (m *MailServer) Handler() http.Handler {
	r := chi.NewRouter()
	r.Get("/", func(w http.ResponseWriter, r *http.Request) {
		list, _ := m.Messages()
		type row struct {
			N  int
			At string
			Mail
		}
		var rows []row
		for i := len(list) - 1; i >= 0 && len(rows) < 200; i-- {
			rows = append(rows, row{i, list[i].At.Format("2 Jan 15:04:05"), list[i]})
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		_ = mailPage.Execute(w, rows)
	})
	get := func(w http.ResponseWriter, r *http.Request) (Mail, bool) {
		list, _ := m.Messages()
		n, err := strconv.Atoi(chi.URLParam(r, "n"))
		if err != nil || n < 0 || n >= len(list) {
			http.NotFound(w, r)
			return Mail{}, false
		}
		return list[n], true
	}
	r.Get("/{n}", func(w http.ResponseWriter, r *http.Request) {
		if x, ok := get(w, r); ok {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			_ = oneMailPage.Execute(w, map[string]any{"M": x, "Links": webAddress.FindAllString(x.Text, -1), "N": chi.URLParam(r, "n")})
		}
	})
	r.Get("/{n}/html", func(w http.ResponseWriter, r *http.Request) {
		if x, ok := get(w, r); ok {
			w.Header().Set("Content-Type", "text/html; charset=utf-8")
			w.Header().
				Set("Content-Security-Policy",
					"default-src 'none'; style-src 'unsafe-inline'; sandbox allow-popups allow-top-navigation-by-user-activation")
			_, _ = io.WriteString(w, x.HTML)
		}
	})
	r.Get("/{n}/raw", func(w http.ResponseWriter, r *http.Request) {
		if x, ok := get(w, r); ok {
			w.Header().Set("Content-Type", "text/plain; charset=utf-8")
			_, _ = io.WriteString(w, x.Raw)
		}
	})
	return r
}

const mailStyle = `<meta charset="utf-8"><meta name="viewport" content="width=device-width"><style>body{font:16px/1.5 system-ui,sans-serif;max-width:60rem;margin:2rem auto;padding:0 1rem;color:#1d2b33;background:#fbfaf6}table{border-collapse:collapse;width:100%}td,th{text-align:left;padding:.25rem .9rem .25rem 0;border-bottom:1px solid #d8d4c6;vertical-align:top}iframe{width:100%;height:34rem;border:1px solid #d8d4c6;background:#fff}pre{white-space:pre-wrap}</style>`

var mailPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><title>Mail that came</title>` + mailStyle + `
<h1>Mail that came</h1>
<p>A stand-in for everybody's mail server: nothing goes any further. It refuses whatever begins with <code>no-mailbox</code>, as a server does that knows no such mailbox.</p>
{{if .}}<table><tr><th>When<th>To<th>Subject</tr>{{range .}}<tr><td>{{.At}}<td>{{range .To}}{{.}} {{end}}<td><a href="/{{.N}}">{{.Subject}}</a></tr>{{end}}</table>{{else}}<p>Nothing came yet. Invite somebody.</p>{{end}}</html>`))

var oneMailPage = template.Must(template.New("").Parse(`<!doctype html>
<html lang="en"><title>{{.M.Subject}}</title>` + mailStyle + `
<p><a href="/">All mail</a></p><h1>{{.M.Subject}}</h1>
<p>From {{.M.From}} to {{range .M.To}}{{.}} {{end}}· <a href="/{{.N}}/raw">as it came</a></p>
{{range .Links}}<p><a href="{{.}}">{{.}}</a></p>{{end}}
<iframe src="/{{.N}}/html" title="The message"></iframe><h2>As text</h2><pre>{{.M.Text}}</pre></html>`))
