// Package davfiles stands beside a WebDAV server (RFC 4918) that keeps files in folders: Apache's mod_dav, whose lists of
// who may enter a folder are read at each request, so that what is written counts at once.
//
// Everything that it knows lies in the server's own files, which are read back: a folder for each space, with a
// .htaccess that says who may do what in it; a folder for each item that somebody was given alone; a file of accounts;
// maps of links and their ends. Nothing is kept beside them.
package davfiles

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/native"
)

// Config says where the server's files are, and where it listens.
type Config struct {
	Files  string   // the folder that it serves
	Conf   string   // the folder of accounts and maps
	Log    string   // its access log, of which links are counted; empty for none
	Server string   // as http://127.0.0.1:8080
	Ours   []string // our own domains, whose people no list of domains keeps out
}

// Server is one such server.
type Server struct {
	Config
	mu   sync.Mutex
	http http.Client
}

// New returns the server that a configuration names, with the files that it lacks.
func New(c Config) (*Server, error) {
	s := &Server{Config: c, http: http.Client{Timeout: 10 * time.Second}}
	for _, dir := range []string{s.spaces(), s.items(), c.Conf} {
		if err := os.MkdirAll(dir, 0o755); err != nil {
			return nil, err
		}
	}
	for _, name := range []string{"accounts", "links.txt", "ends.txt", "marks.txt"} {
		if _, err := os.Stat(s.conf(name)); errors.Is(err, fs.ErrNotExist) {
			if err := beside.Replace(s.conf(name), ""); err != nil {
				return nil, err
			}
		}
	}
	for name, start := range map[string]string{"domains": "only:", "switch.txt": "links off\n"} { // shut until somebody opens it
		if _, err := os.Stat(s.conf(name)); errors.Is(err, fs.ErrNotExist) {
			if err := beside.Replace(s.conf(name), start); err != nil {
				return nil, err
			}
		}
	}
	return s, nil
}

func (s *Server) spaces() string { return filepath.Join(s.Files, "spaces") }

func (s *Server) items() string { return filepath.Join(s.Files, "items") }

func (s *Server) conf(name string) string { return filepath.Join(s.Conf, name) }

var dialect = native.Dialect{
	Name: "davfiles", Title: "Files over WebDAV", Services: []string{"files"}, Tries: []string{"files.open"},
	Dials: []native.Dial{
		{Path: "links", Title: "Links that open without an account", Rule: "files.bearer_links", Words: []string{"off", "on"}},
		{Path: "link right", Title: "What such a link allows", Rule: "files.link_right", Words: []string{"read", ""}},
	},
	Boards: []native.Board{{Path: "domains", Title: "Domains whose accounts may come in", Rule: "files.domains", Keys: []string{"files.in"},
		Only: "only", But: "not"}},
	Holdings: []native.Holding{
		{Kind: "space", Name: "folders", Title: "Folders",
			Says: "Who of ours is in it is not kept there: our own people come in by the server's own sign-in.", Fields: []native.Field{
				{Name: "folder", Of: "id"}, {Name: "title", Of: "name", Free: true},
			}},
		{Kind: "guest", Name: "accounts", Title: "Accounts", Says: "An account begins with a password that nobody knows.", Fields: []native.Field{
			{Name: "account", Of: "address"}, {Name: "state", Of: "standing", Words: map[string]string{"in": "on", "out": "off"}},
		}},
		{Kind: "grant", Name: "access", Title: "Access",
			Says: "An item that somebody was given alone lies in a folder beside its space's: who has the space does not see it there.",
			Fields: []native.Field{
				{Name: "account", Of: "address"}, {Name: "folder", Of: "resource"},
				{Name: "may", Of: "role", Words: map[string]string{"view": "read", "contribute": "write", "manage": "keep"}},
			}},
		{Kind: "link", Name: "links", Title: "Links", Says: "A link for named people is not kept there, nor one that may write.",
			Fields: []native.Field{
				{Name: "mark", Of: "id"}, {Name: "folder", Of: "item"}, {Name: "may", Of: "right", Words: map[string]string{"view": "read"}},
				{Name: "until", Of: "until"}, {Name: "for", Of: "for", Empty: true}, {Name: "by", Of: "by", Free: true},
			}},
	},
}

// Describe says what the server can hold.
func (s *Server) Describe() *native.Dialect { return &dialect }

func lines(path string) (out []string, err error) {
	f, err := os.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	for in := bufio.NewScanner(f); in.Scan(); {
		if t := in.Text(); t != "" {
			out = append(out, t)
		}
	}
	return
}

// rules is who may do what in a folder, as its .htaccess says it.
type rules struct {
	domains string // the list, as MODE: a, b
	ours    []string
	title   string
	may     map[string]string // by account: read, write, keep
}

const access = ".htaccess"

// parse reads a .htaccess that was written here. One that somebody changed so that it is not understood is an error, and
// is as shut as the server takes it.
func parse(path string) (*rules, error) {
	b, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	r := &rules{may: map[string]string{}}
	for _, l := range strings.Split(string(b), "\n") {
		if rest, ok := strings.CutPrefix(l, "# domains "); ok {
			r.domains = rest
		}
		if rest, ok := strings.CutPrefix(l, "# ours "); ok {
			r.ours = strings.Fields(rest)
		}
		if rest, ok := strings.CutPrefix(l, "# title "); ok {
			r.title = rest
		}
		if f := strings.Fields(l); len(f) == 3 && f[0] == "#" && words[f[1]] {
			r.may[f[2]] = f[1]
		}
	}
	if string(b) != r.text() {
		return r, fmt.Errorf("%s was changed by hand", path)
	}
	return r, nil
}

var words = map[string]bool{"read": true, "write": true, "keep": true}

// text writes who may do what as Apache 2.4 reads it (mod_authz_core): whose domain is not admitted is left out of what
// counts. What is said in comments is said once more in what counts, so that a change by hand of either is noticed.
func (r *rules) text() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# domains %s\n", r.domains)
	if len(r.ours) > 0 {
		fmt.Fprintf(&b, "# ours %s\n", strings.Join(r.ours, " "))
	}
	if r.title != "" {
		fmt.Fprintf(&b, "# title %s\n", r.title)
	}
	var look, work []string
	for _, who := range slices.Sorted(maps.Keys(r.may)) {
		fmt.Fprintf(&b, "# %s %s\n", r.may[who], who)
		switch {
		case !r.admits(who):
		case r.may[who] == "read":
			look = append(look, who)
		default:
			work = append(work, who)
		}
	}
	b.WriteString("<RequireAny>\n")
	if len(work) > 0 {
		fmt.Fprintf(&b, "Require user %s\n", strings.Join(work, " "))
	}
	if len(look) > 0 {
		fmt.Fprintf(&b, "<RequireAll>\nRequire method GET HEAD OPTIONS PROPFIND\nRequire user %s\n</RequireAll>\n", strings.Join(look, " "))
	}
	if len(look)+len(work) == 0 {
		b.WriteString("Require all denied\n")
	}
	b.WriteString("</RequireAny>\n")
	return b.String()
}

// admits reports whether the list of domains lets an account in. Our own people no list keeps out.
func (r *rules) admits(who string) bool {
	_, domain, _ := strings.Cut(who, "@")
	in := func(list []string) bool {
		return slices.ContainsFunc(list, func(n string) bool {
			below, ok := strings.CutPrefix(n, "*.")
			return n == domain || ok && strings.HasSuffix(domain, "."+below)
		})
	}
	mode, names, _ := native.ParseBoard(r.domains)
	return in(r.ours) || in(names) == (mode == "only")
}

// folders calls fn for every folder with a list of its own: by what it is called in a record.
func (s *Server) folders(fn func(place, dir string) error) error {
	for _, top := range []string{s.spaces(), s.items()} {
		list, err := os.ReadDir(top)
		if err != nil {
			return err
		}
		for _, e := range list {
			if !e.IsDir() {
				continue
			}
			dir, place := filepath.Join(top, e.Name()), e.Name()
			if top == s.items() {
				b, err := os.ReadFile(filepath.Join(dir, ".place"))
				if err != nil {
					continue
				}
				place = strings.TrimSpace(string(b))
			}
			if err := fn(place, dir); err != nil {
				return err
			}
		}
	}
	return nil
}

var safe = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9._-]{0,99}$`)

// dir is the folder of a place: a space, or SPACE/kind:ITEM.
func (s *Server) dir(place string) (string, error) {
	space, item, inside := strings.Cut(place, "/")
	_, id, _ := strings.Cut(item, ":")
	if !safe.MatchString(space) || inside && !safe.MatchString(id) {
		return "", beside.Refuse("no folder can be called %q", place)
	}
	if inside {
		return filepath.Join(s.items(), id), nil
	}
	return filepath.Join(s.spaces(), space), nil
}

// make makes the folder of a place with a list that lets nobody in.
func (s *Server) make(place, dir string) error {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return err
	}
	if err := os.Chmod(dir, 0o777); err != nil { // the server writes into it
		return err
	}
	if strings.Contains(place, "/") {
		if err := beside.Replace(filepath.Join(dir, ".place"), place+"\n"); err != nil {
			return err
		}
	}
	if _, err := os.Stat(filepath.Join(dir, access)); err == nil {
		return nil
	}
	d, err := os.ReadFile(s.conf("domains"))
	if err != nil {
		return err
	}
	return beside.Replace(filepath.Join(dir, access), (&rules{domains: strings.TrimSpace(string(d)), ours: s.Ours}).text())
}

// Read returns the settings as the server has them. Where a folder's list of domains is another than the general one,
// that is what is read: somebody changed it by hand.
func (s *Server) Read(context.Context) (map[string]string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	d, err := os.ReadFile(s.conf("domains"))
	if err != nil {
		return nil, err
	}
	out := map[string]string{"domains": strings.TrimSpace(string(d)), "link right": "read", "links": "off"}
	sw, err := lines(s.conf("switch.txt"))
	if err != nil {
		return nil, err
	}
	for _, l := range sw {
		if v, ok := strings.CutPrefix(l, "links "); ok {
			out["links"] = v
		}
	}
	return out, s.folders(func(place, dir string) error {
		if r, err := parse(filepath.Join(dir, access)); err != nil {
			out["domains"] = "the list of " + place + " was changed by hand"
		} else if r.domains != strings.TrimSpace(string(d)) {
			out["domains"] = r.domains
		}
		return nil
	})
}

// Write sets one setting; the server reads it at the next request.
func (s *Server) Write(_ context.Context, path, value string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch path {
	case "links":
		if value != "on" && value != "off" {
			return beside.Refuse("links are on or off, not %q", value)
		}
		return beside.Replace(s.conf("switch.txt"), "links "+value+"\n")
	case "link right":
		if value != "read" {
			return beside.Refuse("a link lets read, not %q", value)
		}
		return nil
	case "domains":
		list, err := beside.DomainList(value, false)
		if err != nil {
			return err
		}
		if err := beside.Replace(s.conf("domains"), list); err != nil {
			return err
		}
		return s.folders(func(_, dir string) error {
			r, err := parse(filepath.Join(dir, access))
			if r == nil {
				return err
			}
			r.domains = list
			return beside.Replace(filepath.Join(dir, access), r.text())
		})
	}
	return beside.Refuse("there is no setting %q", path)
}

// all lists the records of a kind by their ids.
func (s *Server) all(kind string) (map[string]native.Kept, error) {
	out := map[string]native.Kept{}
	switch kind {
	case "folders":
		list, err := os.ReadDir(s.spaces())
		if err != nil {
			return nil, err
		}
		for _, e := range list {
			if r, _ := parse(filepath.Join(s.spaces(), e.Name(), access)); r != nil {
				out[e.Name()] = native.Kept{ID: e.Name(), Fields: map[string]string{"folder": e.Name(), "title": r.title}}
			}
		}
		return out, nil
	case "accounts":
		list, err := lines(s.conf("accounts"))
		for _, l := range list {
			who, hash, _ := strings.Cut(l, ":")
			state := "on"
			if strings.HasPrefix(hash, "!") {
				state = "off"
			}
			out[who] = native.Kept{ID: who, Fields: map[string]string{"account": who, "state": state}}
		}
		return out, err
	case "access":
		return out, s.folders(func(place, dir string) error {
			r, _ := parse(filepath.Join(dir, access))
			if r == nil {
				return nil
			}
			for who, may := range r.may {
				id := who + " " + place
				out[id] = native.Kept{ID: id, Fields: map[string]string{"account": who, "folder": place, "may": may}}
			}
			return nil
		})
	case "links":
		return out, s.eachLink(func(l *link) {
			out[l.mark] = native.Kept{ID: l.mark, Opened: l.opened, By: l.by,
				Fields: map[string]string{"mark": l.mark, "folder": l.place, "may": "read", "until": l.until, "for": "", "by": l.by}}
		})
	}
	return nil, beside.Refuse("there are no %s", kind)
}

// ask makes a request of the server from outside and returns its status.
func (s *Server) ask(ctx context.Context, method, path, who, password string) (int, string, error) {
	r, err := http.NewRequestWithContext(ctx, method, path, nil)
	if err != nil {
		return 0, "", err
	}
	if who != "" {
		r.Header.Set("Authorization", "Basic "+base64.StdEncoding.EncodeToString([]byte(who+":"+password)))
	}
	resp, err := s.http.Do(r)
	if err != nil {
		return 0, "", err
	}
	defer resp.Body.Close()
	return resp.StatusCode, resp.Status, nil
}

// Try opens a folder over WebDAV: as a guest with an account and access that are made for it and taken away again, or
// with a link that is.
func (s *Server) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if a.Action != "files.open" || a.Place == "" || a.As != native.AGuest && a.As != native.AHolder {
		return out, nil
	}
	out.Known = true
	after := context.WithoutCancel(ctx)
	undo := func(f func() error) { err = errors.Join(err, f()) }
	dir, err := s.dir(a.Place)
	if err != nil {
		return out, err
	}
	if err = s.make(a.Place, dir); err != nil {
		return out, err
	}
	page := "trial-" + rand.Text() + ".txt"
	if err = beside.Replace(filepath.Join(dir, page), "a trial\n"); err != nil {
		return out, err
	}
	defer undo(func() error { return os.Remove(filepath.Join(dir, page)) })
	tried := func(url, who, password string) error {
		status, says, err := s.ask(ctx, http.MethodGet, url, who, password)
		out.Admitted, out.Says = status == http.StatusOK, says
		return err
	}
	if a.As == native.AHolder {
		mark := "trial-" + rand.Text()
		if _, err = s.Put(ctx, "links", "", map[string]string{"mark": mark, "folder": a.Place, "may": "read",
			"until": time.Now().Add(time.Hour).UTC().Format(time.RFC3339)}); err != nil {
			return out, err
		}
		defer undo(func() error { return s.Drop(after, "links", mark) })
		url, err := s.LinkTo(mark)
		if err != nil {
			return out, err
		}
		return out, tried(url+page, "", "")
	}
	password := rand.Text()
	if err = s.SetPassword(a.From, password); err != nil {
		return out, err
	}
	defer undo(func() error { return s.Drop(after, "accounts", a.From) })
	id, err := s.Put(ctx, "access", "", map[string]string{"account": a.From, "folder": a.Place, "may": "read"})
	if err != nil {
		return out, err
	}
	defer undo(func() error { return s.Drop(after, "access", id) })
	under, err := filepath.Rel(s.Files, dir)
	if err != nil {
		return out, err
	}
	return out, tried(s.Server+"/"+filepath.ToSlash(under)+"/"+page, a.From, password)
}
