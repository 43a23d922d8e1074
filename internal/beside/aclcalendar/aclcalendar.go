// Package aclcalendar stands beside a CalDAV server (RFC 4791) whose calendars carry lists of rights that are written over
// IMAP (RFC 4314): Cyrus. People elsewhere who have an account there see nothing of a calendar, when its owner is busy, or all
// of it: each account has an entry in each calendar, which says what the rules come to for the two of them.
package aclcalendar

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// Config says where the server is, and who administers it.
type Config struct {
	IMAP     string // host and port
	CalDAV   string // as http://127.0.0.1:8080
	Admin    string
	Password string
	Ours     string // our own domain, which is the server's default one
	Settings string // the file that says what the rights are to be
	// Account makes an account, or takes it away where the password is empty.
	Account func(ctx context.Context, address, password string) error
}

// Server is one such server.
type Server struct {
	beside.NoRecords
	Config
	mu sync.Mutex
}

const general, readers = "calendars", "readers"

// rights are what the server lets an account do, by our words.
var rights = map[string]string{"nothing": "", "busy": "9", "everything": "lr9"}

var dialect = native.Dialect{
	Name: "aclcalendar", Title: "Calendars over CalDAV, with lists of rights",
	Also: []string{"mail.see_busy", "mail.see_subject", "mail.see_details"}, Tries: []string{"mail.see_busy", "mail.see_details"},
	Sets: []native.Scope{native.ToPartners, native.ToPeople},
	Dials: []native.Dial{
		{Path: general, Title: "What people elsewhere see of our calendars", Rule: "mail.calendar",
			Words: []string{"nothing", "busy", "", "everything"}, Charter: true},
	},
	Boards: []native.Board{{Path: readers, Title: "Domains whose people may look", Rule: "mail.calendar", Opens: true,
		Keys: []string{"mail.in"}, Only: "only", But: "not", Single: true}},
}

// New returns the server that a configuration names. Settings that are not there yet are written: shut.
func New(c Config) (*Server, error) {
	s := &Server{Config: c}
	if _, err := os.Stat(c.Settings); errors.Is(err, fs.ErrNotExist) {
		return s, s.keep(map[string]string{general: "nothing", readers: "only:"})
	}
	return s, nil
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

const setOf = "charter:"

func (s *Server) keep(v map[string]string) error {
	var b strings.Builder
	for _, k := range slices.Sorted(maps.Keys(v)) {
		fmt.Fprintf(&b, "%s = %s\n", k, v[k])
	}
	return beside.Replace(s.Settings, b.String())
}

func (s *Server) kept() (map[string]string, error) {
	b, err := os.ReadFile(s.Settings)
	v := map[string]string{general: "nothing", readers: "only:"}
	for _, l := range strings.Split(string(b), "\n") {
		if k, value, ok := strings.Cut(l, " = "); ok {
			v[k] = value
		}
	}
	return v, err
}

// sees is what settings come to for somebody elsewhere in a calendar of one of ours.
func sees(v map[string]string, owner string, who addr.Address) string {
	mode, names, _ := native.ParseBoard(v[readers])
	if native.Lists(names, who) != (mode == "only") {
		return "nothing"
	}
	dom := who.Domain().String()
	sets := []string{setOf + "@" + owner, setOf + dom}
	for rest, ok := dom, true; ok; {
		if _, rest, ok = strings.Cut(rest, "."); ok {
			sets = append(sets, setOf+"*."+rest)
		}
	}
	for _, path := range sets { // the owner's own, then that of the nearest domain
		if words, err := native.ParseCharter(v[path]); v[path] != "" && err == nil {
			return words[general]
		}
	}
	return v[general]
}

// right is one entry of a list that is not as it should be.
type right struct{ calendar, who, is, should string }

// rightsThere compares the lists of all calendars with what they should be, for everybody elsewhere who has an account.
func (s *Server) rightsThere(c *conn, v map[string]string) (wrong []right, err error) {
	lines, err := c.do(`LIST "" "user/*"`)
	if err != nil {
		return nil, err
	}
	var others []addr.Address
	calendars := map[string]string{} // whose they are
	for _, l := range lines {
		w := words(l)
		if len(w) < 3 || w[0] != "LIST" {
			continue
		}
		parts := strings.Split(w[len(w)-1], "/")
		switch {
		case len(parts) == 2 && strings.Contains(parts[1], "@"):
			if a, err := addr.Parse(parts[1]); err == nil {
				others = append(others, a)
			}
		case len(parts) == 4 && parts[2] == "#calendars" && !strings.Contains(parts[3], "@"):
			calendars[w[len(w)-1]] = parts[1] + "@" + s.Ours
		}
	}
	for _, box := range slices.Sorted(maps.Keys(calendars)) {
		owner := calendars[box]
		lines, err := c.do("GETACL %s", quote(box))
		if err != nil {
			return nil, err
		}
		is := map[string]string{}
		for _, l := range lines {
			if w := words(l); len(w) >= 2 && w[0] == "ACL" {
				for i := 2; i+1 < len(w); i += 2 {
					is[w[i]] = w[i+1]
				}
			}
		}
		should := map[string]string{}
		for _, a := range others {
			should[a.String()] = rights[sees(v, owner, a)]
		}
		for who := range is { // anyone, and whoever has no account any more
			if _, ok := should[who]; !ok && who != strings.TrimSuffix(owner, "@"+s.Ours) && who != s.Admin &&
				(who == "anyone" || who == "anonymous" || strings.Contains(who, "@")) {
				should[who] = ""
			}
		}
		for _, who := range slices.Sorted(maps.Keys(should)) {
			if is[who] != should[who] {
				wrong = append(wrong, right{box, who, is[who], should[who]})
			}
		}
	}
	return wrong, nil
}

// apply writes what is not as it should be: first what takes rights away.
func (s *Server) apply(c *conn, v map[string]string) error {
	wrong, err := s.rightsThere(c, v)
	if err != nil {
		return err
	}
	slices.SortStableFunc(wrong, func(a, b right) int { return len(a.should) - len(b.should) })
	for _, r := range wrong {
		if r.should == "" {
			_, err = c.do("DELETEACL %s %s", quote(r.calendar), quote(r.who))
		} else {
			_, err = c.do("SETACL %s %s %s", quote(r.calendar), quote(r.who), r.should)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// Read returns the settings, as far as the lists of rights are what they come to.
func (s *Server) Read(ctx context.Context) (map[string]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	v, err := s.kept()
	if err != nil {
		return nil, err
	}
	c, err := s.dial(ctx)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	wrong, err := s.rightsThere(c, v)
	if err != nil {
		return nil, err
	}
	if len(wrong) > 0 {
		v[general] = fmt.Sprintf("%d rights are otherwise, as %s of %s", len(wrong), wrong[0].who, wrong[0].calendar)
	}
	return v, nil
}

// Write sets one setting, and with it the rights in all calendars that it comes to; they count at the next request.
func (s *Server) Write(ctx context.Context, path, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	value, err := s.fits(path, value)
	if err != nil {
		return err
	}
	v, err := s.kept()
	if err != nil {
		return err
	}
	if v[path] = value; value == "" {
		delete(v, path)
	}
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if err := s.keep(v); err != nil {
		return err
	}
	return s.apply(c, v)
}

func (s *Server) fits(path, value string) (string, error) {
	of, set := strings.CutPrefix(path, setOf)
	word := value
	switch {
	case path == readers:
		return beside.DomainList(value, true)
	case set:
		who, person := strings.CutPrefix(of, "@")
		a, err := addr.Parse(who)
		if person && (err != nil || a.Domain().String() != s.Ours) {
			return "", beside.Refuse("%q is nobody of %s", who, s.Ours)
		}
		if !person {
			if _, err := addr.ParseDomain(strings.TrimPrefix(of, "*.")); err != nil {
				return "", beside.Refuse("%q is no domain", of)
			}
		}
		if value == "" { // it is taken back
			return "", nil
		}
		words, err := native.ParseCharter(value)
		if word = words[general]; err != nil || len(words) != 1 {
			return "", beside.Refuse("a set says calendars=WORD, not %q", value)
		}
	case path != general:
		return "", beside.Refuse("there is no setting %q", path)
	}
	if _, ok := rights[word]; !ok {
		return "", beside.Refuse("calendars show nothing, busy or everything, not %q", word)
	}
	return value, nil
}

// Home makes the mailboxes that an account needs before it has a calendar, or may see one.
func (s *Server) Home(ctx context.Context, address string) error {
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	if _, err := c.do("CREATE %s", quote(s.home(address))); err != nil && !strings.Contains(err.Error(), "already exists") {
		return err
	}
	return nil
}

func (s *Server) home(address string) string {
	return "user/" + strings.TrimSuffix(address, "@"+s.Ours)
}

// leave takes an account away with all that it has.
func (s *Server) leave(ctx context.Context, address string) error {
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	box := s.home(address)
	if _, err = c.do("SETACL %s %s lrswipkxtecda", quote(box), quote(s.Admin)); err == nil { // an administrator may not delete before they may
		_, err = c.do("DELETE %s", quote(box))
		for range 2 { // what is deleted is kept under a name of the second, where that is how the server deletes
			if err == nil || !strings.Contains(err.Error(), "already exists") {
				break
			}
			select {
			case <-ctx.Done():
			case <-time.After(time.Second):
			}
			_, err = c.do("DELETE %s", quote(box))
		}
	}
	return errors.Join(err, s.Account(ctx, address, ""))
}

// Calendar is the path of somebody's calendar, as its clients know it.
func (s *Server) Calendar(owner string) string {
	return "/dav/calendars/user/" + owner + "/Default/"
}

// Event writes an event into a calendar of somebody, which it makes where there is none, and returns its path.
func (s *Server) Event(ctx context.Context, owner, password string) (string, error) {
	d := beside.DAV{Server: s.CalDAV}
	if x, err := d.Ask(ctx, "MKCALENDAR", s.Calendar(owner), owner, password, "", ""); err != nil ||
		x.Status != http.StatusCreated && x.Status != http.StatusForbidden && x.Status != http.StatusMethodNotAllowed {
		return "", errors.Join(err, fmt.Errorf("the calendar cannot be made: %s", x.Text))
	}
	event := s.Calendar(owner) + "trial.ics"
	x, err := d.Ask(ctx, http.MethodPut, event, owner, password, "text/calendar", beside.Event())
	if err == nil && x.Status/100 != 2 {
		err = fmt.Errorf("the event cannot be written: %s", x.Text)
	}
	if err != nil {
		return "", err
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	v, err := s.kept()
	if err != nil {
		return "", err
	}
	c, err := s.dial(ctx)
	if err != nil {
		return "", err
	}
	defer c.Close()
	return event, s.apply(c, v) // a new calendar begins with rights for anyone
}

// Turn gives somebody rights in a calendar of one of ours by hand, as whoever administers the server does.
func (s *Server) Turn(ctx context.Context, owner, who, rights string) error {
	c, err := s.dial(ctx)
	if err != nil {
		return err
	}
	defer c.Close()
	_, err = c.do("SETACL %s %s %s", quote(s.home(owner)+"/#calendars/Default"), quote(who), rights)
	return err
}

// Looks says what an account sees of an event's calendar: whether its owner is busy, and the event.
func (s *Server) Looks(ctx context.Context, event, owner, who, password string) (busy, read beside.Said, err error) {
	d := beside.DAV{Server: s.CalDAV}
	// that module is asked with the right to it alone
	if busy, err = d.Ask(ctx, http.MethodGet, "/freebusy/user/"+owner+"/Default", who, password, "", ""); err != nil {
		return
	}
	read, err = d.Ask(ctx, http.MethodGet, event, who, password, "", "")
	return
}

// Try looks at an event of a calendar that is made for it, as an account of the domain that the attempt comes from.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if !slices.Contains(dialect.Tries, a.Action) || a.As != native.Stranger {
		return out, nil
	}
	out.Known = true
	after := context.WithoutCancel(ctx)
	owner, password := "trial-"+strings.ToLower(rand.Text())+"@"+s.Ours, rand.Text()
	for _, who := range []string{a.From, owner} {
		if err = s.Account(ctx, who, password); err != nil {
			return out, err
		}
		defer func() { err = errors.Join(err, s.leave(after, who)) }()
		if err = s.Home(ctx, who); err != nil {
			return out, err
		}
	}
	event, err := s.Event(ctx, owner, password)
	if err != nil {
		return out, err
	}
	busy, read, err := s.Looks(ctx, event, owner, a.From, password)
	x := read
	if a.Action == "mail.see_busy" {
		x = busy
	}
	out.Admitted, out.Says = x.Status == http.StatusOK, x.Text
	return out, err
}
