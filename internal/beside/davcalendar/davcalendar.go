// Package davcalendar stands beside a CalDAV server (RFC 4791) whose rights are a file of patterns that it reads at each
// request: Radicale. It lets people of listed domains read calendars whole, or nobody.
package davcalendar

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"os"
	"regexp"
	"slices"
	"strings"
	"sync"

	"golang.org/x/crypto/bcrypt"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/native"
)

// Config says where the server's files are, and where it listens.
type Config struct {
	Rights   string // the file of rights
	Accounts string // the file of accounts: htpasswd, bcrypt
	Server   string // as http://127.0.0.1:5232
	Ours     string // our own domain, where a trial's calendar is
}

// Server is one such server.
type Server struct {
	beside.NoRecords
	Config
	mu sync.Mutex
}

func (s *Server) dav() beside.DAV { return beside.DAV{Server: s.Config.Server} }

var dialect = native.Dialect{
	Name: "davcalendar", Title: "Calendars over CalDAV", Also: []string{"mail.see_busy", "mail.see_subject", "mail.see_details"},
	Tries: []string{"mail.see_details"},
	Dials: []native.Dial{
		{Path: "calendars", Title: "What people elsewhere see of our calendars", Rule: "mail.calendar",
			Words: []string{"nothing", "", "", "everything"}},
	},
	Boards: []native.Board{{Path: "readers", Title: "Domains whose people may look", Rule: "mail.calendar", Opens: true,
		Keys: []string{"mail.in"}, Only: "only", But: "not", Single: true}},
}

// New returns the server that a configuration names, with the files that it lacks: shut.
func New(c Config) (*Server, error) {
	s := &Server{Config: c}
	for path, text := range map[string]string{c.Rights: rights("nothing", "only:"), c.Accounts: ""} {
		if _, err := os.Stat(path); errors.Is(err, fs.ErrNotExist) {
			if err := beside.Replace(path, text); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

// rights writes values as the server reads them. What is said in comments is said once more in what counts, so that a
// change by hand of either is noticed.
func rights(calendars, readers string) string {
	var b strings.Builder
	fmt.Fprintf(&b,
		"# calendars = %s\n# readers = %s\n\n[own]\nuser: .+\ncollection: {user}(/.*)?\npermissions: RrWw\n\n[top]\nuser: .+\ncollection:\npermissions: R\n",
		calendars, readers)
	if calendars != "everything" {
		return b.String()
	}
	mode, names, _ := native.ParseBoard(readers)
	var which, out []string // no group is kept: the server puts groups into the names of collections
	for _, n := range names {
		n, not := strings.CutPrefix(n, "!")
		p := `.+@` + regexp.QuoteMeta(n)
		if below, ok := strings.CutPrefix(n, "*."); ok {
			p = `.+@(?:[a-z0-9-]+\.)+` + regexp.QuoteMeta(below)
		} else if strings.Contains(n, "@") {
			p = regexp.QuoteMeta(n)
		}
		if not {
			out = append(out, p)
		} else {
			which = append(which, p)
		}
	}
	any := func(list []string) string { return `(?:` + strings.Join(list, "|") + `)` }
	but := func(list []string) string { // whoever is none of them
		if len(list) == 0 {
			return ""
		}
		return `(?!` + any(list) + `$)`
	}
	who := but(which) + ".+"
	switch {
	case mode == "only" && len(which) == 0:
		return b.String()
	case mode == "only":
		who = but(out) + any(which)
	case len(out) > 0:
		who = `(?:` + any(out) + `|` + who + `)`
	}
	fmt.Fprintf(&b, "\n[elsewhere]\nuser: %s\ncollection: [^/]+(/[^/]+)?\npermissions: Rr\n", who)
	return b.String()
}

func (s *Server) read() (calendars, readers string, byHand bool, err error) {
	b, err := os.ReadFile(s.Rights)
	for _, l := range strings.Split(string(b), "\n") {
		if v, ok := strings.CutPrefix(l, "# calendars = "); ok {
			calendars = v
		}
		if v, ok := strings.CutPrefix(l, "# readers = "); ok {
			readers = v
		}
	}
	return calendars, readers, string(b) != rights(calendars, readers), err
}

// Read returns the settings as the file of rights says them.
func (s *Server) Read(context.Context) (map[string]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, r, byHand, err := s.read()
	if byHand {
		c, r = "the rights were changed by hand", "the rights were changed by hand"
	}
	return map[string]string{"calendars": c, "readers": r}, err
}

// Write sets one setting; the server reads it at the next request.
func (s *Server) Write(_ context.Context, path, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	c, r, _, err := s.read()
	if err != nil {
		return err
	}
	switch path {
	case "calendars":
		if c = value; value != "nothing" && value != "everything" {
			return beside.Refuse("calendars show nothing or everything, not %q", value)
		}
	case "readers":
		if r, err = beside.DomainList(value, true); err != nil {
			return err
		}
	default:
		return beside.Refuse("there is no setting %q", path)
	}
	return beside.Replace(s.Rights, rights(c, r))
}

// SetPassword makes an account, or gives it another password; an empty one takes it away.
func (s *Server) SetPassword(who, password string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	b, err := os.ReadFile(s.Accounts)
	if err != nil {
		return err
	}
	list := slices.DeleteFunc(strings.Split(string(b), "\n"), func(l string) bool { return l == "" || strings.HasPrefix(l, who+":") })
	if password != "" {
		hash, err := bcrypt.GenerateFromPassword([]byte(password), 5)
		if err != nil {
			return err
		}
		list = append(list, who+":"+string(hash))
	}
	slices.Sort(list)
	return beside.Replace(s.Accounts, strings.Join(append(list, ""), "\n"))
}

// Calendar makes a calendar of somebody with one event in it (RFC 4791 §5.3.1, RFC 5545), and returns its path.
func (s *Server) Calendar(ctx context.Context, who, password string) (event string, err error) {
	path := "/" + who + "/calendar/"
	x, err := s.dav().Ask(ctx, "MKCALENDAR", path, who, password, "", "")
	if err == nil && x.Status != http.StatusCreated && x.Status != http.StatusConflict && x.Status != http.StatusMethodNotAllowed {
		err = fmt.Errorf("the calendar cannot be made: %s", x.Text)
	}
	if err != nil {
		return "", err
	}
	event = path + "trial.ics"
	x, err = s.dav().Ask(ctx, http.MethodPut, event, who, password, "text/calendar", beside.Event())
	if err == nil && x.Status/100 != 2 {
		err = fmt.Errorf("the event cannot be written: %s", x.Text)
	}
	return event, err
}

// Try reads an event of a calendar made for it, as an account of the domain that the attempt comes from.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if a.Action != "mail.see_details" || a.As != native.Stranger {
		return out, nil
	}
	out.Known = true
	after := context.WithoutCancel(ctx)
	owner, password := "trial-"+strings.ToLower(rand.Text())+"@"+s.Ours, rand.Text()
	for _, who := range []string{owner, a.From} {
		if err = s.SetPassword(who, password); err != nil {
			return out, err
		}
		defer func() { err = errors.Join(err, s.SetPassword(who, "")) }()
	}
	event, err := s.Calendar(ctx, owner, password)
	if err != nil {
		return out, err
	}
	defer func() {
		_, gone := s.dav().Ask(after, http.MethodDelete, "/"+owner+"/", owner, password, "", "")
		err = errors.Join(err, gone)
	}()
	x, err := s.dav().Ask(ctx, http.MethodGet, event, a.From, password, "", "")
	out.Admitted, out.Says = x.Status == http.StatusOK, x.Text
	return out, err
}
