package davfiles

import (
	"context"
	"crypto/rand"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"golang.org/x/crypto/bcrypt"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// link is a link that opens without an account.
type link struct {
	token, mark, place, until, by string
	opened                        *int
}

const endFormat = "20060102150405"

func (s *Server) eachLink(fn func(*link)) error {
	columns := map[string]map[string]string{}
	for _, name := range []string{"links.txt", "ends.txt", "marks.txt"} {
		list, err := lines(s.conf(name))
		if err != nil {
			return err
		}
		columns[name] = map[string]string{}
		for _, l := range list {
			token, rest, _ := strings.Cut(l, " ")
			columns[name][token] = rest
		}
	}
	opened := map[string]int{}
	if s.Log != "" {
		list, err := lines(s.Log)
		if err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
		for _, l := range list {
			if f := opens.FindStringSubmatch(l); f != nil {
				opened[f[1]]++
			}
		}
	}
	for token, rest := range columns["marks.txt"] {
		mark, rest, _ := strings.Cut(rest, " ")
		by, place, _ := strings.Cut(rest, " ")
		l := &link{token: token, mark: mark, by: strings.TrimPrefix(by, "-"), place: place}
		if end, err := time.Parse(endFormat, columns["ends.txt"][token]); err == nil {
			l.until = end.UTC().Format(time.RFC3339)
		}
		if s.Log != "" {
			n := opened[token]
			l.opened = &n
		}
		fn(l)
	}
	return nil
}

// opens is a line of the log of a link that opened: what was asked for, and the status.
var opens = regexp.MustCompile(`"GET /l/([A-Za-z0-9]+)\S* HTTP/[0-9.]+" 200$`)

// List hands over all records of a kind, by id.
func (s *Server) List(_ context.Context, kind string, fn func(native.Kept) error) error {
	s.mu.Lock()
	all, err := s.all(kind)
	s.mu.Unlock()
	if err != nil {
		return err
	}
	return beside.Each(all, fn)
}

// One returns a record; nil where it is not there.
func (s *Server) One(_ context.Context, kind, id string) (*native.Kept, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	all, err := s.all(kind)
	if k, there := all[id]; there {
		return &k, err
	}
	return nil, err
}

// Put makes a record, or changes it.
func (s *Server) Put(_ context.Context, kind, id string, f map[string]string) (string, error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch kind {
	case "folders":
		dir, err := s.dir(f["folder"])
		if err != nil {
			return "", err
		}
		if err := s.make(f["folder"], dir); err != nil {
			return "", err
		}
		return f["folder"], s.change(dir, func(r *rules) { r.title = strings.Join(strings.Fields(f["title"]), " ") })
	case "accounts":
		a, err := addr.Parse(f["account"])
		if err != nil || strings.ContainsAny(a.String(), ": \"#") || f["state"] != "on" && f["state"] != "off" {
			return "", beside.Refuse("no account is called %q and is %q", f["account"], f["state"])
		}
		return a.String(), s.account(a.String(), f["state"] == "on", "")
	case "access":
		a, err := addr.Parse(f["account"])
		if err != nil || strings.ContainsAny(a.String(), ": \"#") || !words[f["may"]] {
			return "", beside.Refuse("%q cannot be given %q", f["account"], f["may"])
		}
		dir, err := s.dir(f["folder"])
		if err != nil {
			return "", err
		}
		if err := s.make(f["folder"], dir); err != nil {
			return "", err
		}
		return a.String() + " " + f["folder"], s.change(dir, func(r *rules) { r.may[a.String()] = f["may"] })
	case "links":
		return f["mark"], s.putLink(f)
	}
	return "", beside.Refuse("there are no %s", kind)
}

func (s *Server) change(dir string, fn func(*rules)) error {
	r, err := parse(filepath.Join(dir, access))
	if r == nil {
		return err
	}
	fn(r)
	return beside.Replace(filepath.Join(dir, access), r.text())
}

// account writes a line of the file of accounts; a password is set where one is given, and where the account is new.
func (s *Server) account(who string, on bool, password string) error {
	list, err := lines(s.conf("accounts"))
	if err != nil {
		return err
	}
	hash := ""
	list = slices.DeleteFunc(list, func(l string) bool {
		w, h, _ := strings.Cut(l, ":")
		if w == who {
			hash = strings.TrimPrefix(h, "!")
		}
		return w == who
	})
	if password != "" || hash == "" {
		if password == "" {
			password = rand.Text()
		}
		b, err := bcrypt.GenerateFromPassword([]byte(password), 5)
		if err != nil {
			return err
		}
		hash = string(b)
	}
	if !on {
		hash = "!" + hash // matches nothing, and is there when they come back
	}
	list = append(list, who+":"+hash)
	slices.Sort(list)
	return beside.Replace(s.conf("accounts"), strings.Join(list, "\n")+"\n")
}

func (s *Server) putLink(f map[string]string) error {
	switch {
	case f["for"] != "":
		return beside.Refuse("a link opens for whoever holds it; one for %s alone cannot be kept here", f["for"])
	case f["may"] != "read":
		return beside.Refuse("a link lets read, not %q", f["may"])
	case !safe.MatchString(f["mark"]):
		return beside.Refuse("no link is called %q", f["mark"])
	}
	end := "99991231235959"
	if f["until"] != "" {
		at, err := time.Parse(time.RFC3339, f["until"])
		if err != nil {
			return beside.Refuse("%q is no moment", f["until"])
		}
		end = at.UTC().Format(endFormat)
	}
	dir, err := s.dir(f["folder"])
	if err != nil {
		return err
	}
	if err := s.make(f["folder"], dir); err != nil {
		return err
	}
	token := rand.Text()
	if err := s.eachLink(func(l *link) {
		if l.mark == f["mark"] {
			token = l.token
		}
	}); err != nil {
		return err
	}
	under, err := filepath.Rel(s.Files, dir)
	if err != nil {
		return err
	}
	by := "-" + strings.Join(strings.Fields(f["by"]), "")
	// The end first: a link without one is none.
	return errors.Join(s.line("ends.txt", token, end), s.line("marks.txt", token, f["mark"]+" "+by+" "+f["folder"]),
		s.line("links.txt", token, under))
}

// line replaces the line of a token in a map; an empty text takes it out.
func (s *Server) line(name, token, text string) error {
	list, err := lines(s.conf(name))
	if err != nil {
		return err
	}
	list = slices.DeleteFunc(list, func(l string) bool { return strings.HasPrefix(l, token+" ") })
	if text != "" {
		list = append(list, token+" "+text)
	}
	slices.Sort(list)
	return beside.Replace(s.conf(name), strings.Join(append(list, ""), "\n"))
}

// Drop takes a record away. What lies in a folder stays, where nobody comes in any more.
func (s *Server) Drop(_ context.Context, kind, id string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	switch kind {
	case "folders":
		dir, err := s.dir(id)
		if err != nil {
			return err
		}
		err = os.Remove(filepath.Join(dir, access)) // without a list nobody comes in
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		_ = os.Remove(dir)
		return err
	case "accounts":
		list, err := lines(s.conf("accounts"))
		if err != nil {
			return err
		}
		list = slices.DeleteFunc(list, func(l string) bool { return strings.HasPrefix(l, id+":") })
		return beside.Replace(s.conf("accounts"), strings.Join(append(list, ""), "\n"))
	case "access":
		who, place, _ := strings.Cut(id, " ")
		dir, err := s.dir(place)
		if err != nil {
			return err
		}
		err = s.change(dir, func(r *rules) { delete(r.may, who) })
		if errors.Is(err, fs.ErrNotExist) {
			return nil
		}
		return err
	case "links":
		token := ""
		if err := s.eachLink(func(l *link) {
			if l.mark == id {
				token = l.token
			}
		}); err != nil || token == "" {
			return err
		}
		return errors.Join(s.line("links.txt", token, ""), s.line("ends.txt", token, ""), s.line("marks.txt", token, ""))
	}
	return beside.Refuse("there are no %s", kind)
}

// LinkTo is the address of a link, for whoever holds it.
func (s *Server) LinkTo(mark string) (url string, err error) {
	s.mu.Lock()
	defer s.mu.Unlock()
	err = s.eachLink(func(l *link) {
		if l.mark == mark {
			url = s.Server + "/l/" + l.token + "/"
		}
	})
	return
}

// SetPassword gives an account a password.
func (s *Server) SetPassword(who, password string) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.account(who, true, password)
}
