package catalogue

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
)

// TestRules wants every entry to be whole, and nothing to start looser than its
// own limit.
func TestRules(t *testing.T) {
	if len(Rules()) != NumRules {
		t.Fatalf("there are %d rules, NumRules is %d", len(Rules()), NumRules)
	}
	seen := map[string]bool{}
	for i := range Rules() {
		r := &Rules()[i]
		if err := r.check(); err != nil {
			t.Error(err)
		}
		if seen[r.Name] || !regexp.MustCompile(`^[a-z]+\.[a-z_]+$`).MatchString(r.Name) {
			t.Errorf("%s: the name is taken, or none", r.Name)
		}
		seen[r.Name] = true
		for _, v := range append(r.Scale.All(), r.Limit, r.Default, r.Advised) {
			words := []string{r.Scale.Format(v)}
			if r.Scale.Shape == Methods {
				words = r.Scale.Members(v)
			}
			if back, err := r.Scale.Parse(words...); err != nil || back != v {
				t.Errorf("%s: %v is written %q and read %v, %v", r.Name, v, words, back, err)
			}
			if s := r.Sentence(v); s == "" || !strings.HasSuffix(s, ".") {
				t.Errorf("%s: the sentence of %s is %q", r.Name, r.Scale.Format(v), s)
			}
		}
	}
	for _, a := range Actions() {
		if a.Title == "" || len(a.On) == 0 || a.Service() >= NumServices {
			t.Errorf("%s is not whole", a.Name)
		}
	}
	for _, c := range Codes() {
		if e := c.Entry(); e.Name == "" || e.Text == "" {
			t.Errorf("the cause %d has no name or no text", c)
		}
	}
}

// TestFind looks rules up by the words people use, also mistyped.
func TestFind(t *testing.T) {
	for query, name := range map[string]string{
		"forward": "mail.forward", "screen": "meetings.share_screen", "anonymous link": "files.bearer_links",
		"link anonymous": "files.bearer_links", "who can invite": "directory.invite_by",
		"presence": "chat.presence", "presense": "chat.presence", "fowrard": "mail.forward", "forwrad": "mail.forward", "forwad": "mail.forward",
		"remote control": "meetings.remote_control", "lobby": "meetings.held", "webmail": "directory.personal",
		"files.link_days": "files.link_days", "calendar": "mail.calendar", "course": "spaces.join_in", "zeppelin": "",
	} {
		hits := Find(query)
		switch {
		case name == "" && len(hits) > 0:
			t.Errorf("%q finds %s", query, hits[0].Name)
		case name != "" && (len(hits) == 0 || hits[0].Name != name):
			var got []string
			for _, h := range hits {
				got = append(got, h.Name)
			}
			t.Errorf("%q finds %v, want %s first", query, got, name)
		}
	}
	if n := Nearest("mail.foward"); n != "mail.forward" {
		t.Errorf("nearest is %s", n)
	}
}

func TestScales(t *testing.T) {
	m := Scale{Shape: Methods, Names: []string{"a", "b", "c"}}
	d := Scale{Shape: Days}
	l := Scale{Shape: Level, Names: []string{"x", "y", "z"}}
	if m.Tighter(0b011, 0b110) != 0b010 || !m.Looser(0b100, 0b011) || m.Looser(0b001, 0b011) || len(m.All()) != 8 {
		t.Error("sets are compared by what they hold")
	}
	if d.Tighter(30, NoLimit) != 30 || !d.Looser(NoLimit, MaxDays) || d.Looser(0, 0) {
		t.Error("fewer days are tighter, none is the loosest")
	}
	if l.Tighter(2, 1) != 1 || !l.Looser(2, 1) || l.Loosest() != 2 {
		t.Error("levels run from tight to loose")
	}
	for _, bad := range []string{"", "-1", "01", "1.5", "36501", "None", "1e3", " 1"} {
		if v, err := d.Parse(bad); err == nil {
			t.Errorf("%q is read as %d days", bad, v)
		}
	}
}

// TestCoreIsPure keeps every way in and out of the core's packages. A text that is
// built in (embed) is data and no way in.
func TestCoreIsPure(t *testing.T) {
	banned := regexp.MustCompile(`^(net/http|database/sql|log|log/slog|os|os/exec|io/ioutil|flag|net)$|cobra|chi/|wexillum\.example/internal/(?:[^c]|cl|co[^r])`)
	n := 0
	err := filepath.WalkDir("..", func(path string, _ fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		n++
		for _, imp := range f.Imports {
			if name := strings.Trim(imp.Path.Value, `"`); banned.MatchString(name) {
				t.Errorf("%s imports %s", path, name)
			}
		}
		return nil
	})
	if err != nil || n < 15 {
		t.Fatalf("%d files, %v", n, err)
	}
}
