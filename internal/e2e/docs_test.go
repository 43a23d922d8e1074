package e2e

import (
	"errors"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"wexillum.example/internal/demo"
)

// TestDocs runs every console example of the README and the docs, page by page on
// a fresh demo, and wants the lines shown to come back in their order. … stands
// for anything; [status 3] for an exit status other than 0.
func TestDocs(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	examples := 0
	for _, file := range docPages(t) {
		text, err := os.ReadFile(file)
		check(t, err)
		blocks := regexp.MustCompile("(?s)```console\n(.*?)```").FindAllStringSubmatch(string(text), -1)
		for _, link := range regexp.MustCompile(`\]\(([^)#:]+)\)`).FindAllStringSubmatch(string(text), -1) {
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), link[1])); err != nil {
				t.Errorf("%s links to %s, which is not there", file, link[1])
			}
		}
		if len(blocks) == 0 {
			continue
		}
		r := &running{t: t, home: t.TempDir()} // what asks a file alone needs no service
		suiteAt := map[string]string{}
		switch {
		case strings.Contains(file, "/catalogue/"):
		case filepath.Base(file) == "take-over.md": // an empty installation, and a harbour that is years old
			r, suiteAt = oldHarbour(t, 3000)
		default:
			r = demoService(t)
		}
		if len(suiteAt) == 0 && strings.Contains(string(text), "wexillum system") {
			suiteAt, _ = r.withSuite(10 * demo.SuiteFaster) // nobody waits for a page
			r.settled("quay")
			r.settled("parley")
		}
		if filepath.Base(file) != "README.md" && r.url != "" {
			r.login("harbour")
		}
		for _, b := range blocks {
			for _, example := range strings.Split(b[1], "$ ")[1:] {
				lines := strings.Split(strings.TrimRight(example, "\n"), "\n")
				command, status := lines[0], 0
				var want []string
				for _, l := range lines[1:] {
					if m := regexp.MustCompile(`^\[status (\d)\]$`).FindStringSubmatch(l); m != nil {
						status = int(m[1][0] - '0')
						continue
					}
					want = append(want, l)
				}
				examples++
				for name, port := range map[string]string{"quay": "8473", "parley": "8474", "ledger": "8475"} {
					command = strings.ReplaceAll(command, "http://127.0.0.1:"+port, suiteAt[name])
				}
				cmd := exec.Command("bash", "-c", strings.ReplaceAll(command, "bin/wexillum", bin))
				cmd.Dir = "../.."
				cmd.Env = append(os.Environ(), "WEXILLUM_SERVER="+r.url, "WEXILLUM_SESSION="+filepath.Join(r.home, "session.json"))
				out, err := cmd.CombinedOutput()
				got := 0
				var exit *exec.ExitError
				if errors.As(err, &exit) {
					got = exit.ExitCode()
				}
				if got != status {
					t.Errorf("%s: %s\nstatus %d, want %d\n%s", file, command, got, status, out)
				}
				left := strings.Split(string(out), "\n")
				for _, w := range want {
					if strings.TrimSpace(w) == "" {
						continue
					}
					is := expected(w)
					i := 0
					for i < len(left) && !is.MatchString(strings.Join(strings.Fields(left[i]), " ")) {
						i++
					}
					if i == len(left) {
						t.Errorf("%s: %s\nthe output lacks, in this place,\n%s\n%s", file, command, w, out)
						break
					}
					left = left[i+1:]
				}
			}
		}
	}
	if examples < 300 {
		t.Errorf("only %d examples were found", examples)
	}
	shots, err := filepath.Glob("../../docs/screenshots/*.png")
	check(t, err)
	readme, err := os.ReadFile("../../README.md")
	check(t, err)
	for _, s := range shots {
		if !strings.Contains(string(readme), filepath.Base(s)) {
			t.Errorf("%s is linked nowhere", s)
		}
	}
}

// docPages lists the README and every page of the docs.
func docPages(t *testing.T) []string {
	t.Helper()
	pages := []string{"../../README.md"}
	check(t, filepath.WalkDir("../../docs", func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() && strings.HasSuffix(path, ".md") && !strings.Contains(path, "/decisions/") {
			pages = append(pages, path)
		}
		return err
	}))
	return pages
}

// TestCommandsInDocs looks that every command which a page names, in a line of text or a block that no test runs, is one, with
// its flags.
func TestCommandsInDocs(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	help, err := exec.Command(bin, "--help").Output()
	check(t, err)
	var names []string
	for _, m := range regexp.MustCompile(`(?m)^  ([a-z]+)  `).FindAllStringSubmatch(string(help), -1) {
		names = append(names, m[1])
	}
	named := regexp.MustCompile("(?m)`(?:bin/)?(wexillum [^`\n]+)`|^(?:\\w+=\\S+ )*(?:bin/)?(wexillum [^\n]+)$|`((?:" +
		strings.Join(names, "|") + ") [a-z][^`\n]*)`")
	said := map[string]string{}
	for _, file := range docPages(t) {
		text, err := os.ReadFile(file)
		check(t, err)
		for _, m := range named.FindAllStringSubmatch(string(text), -1) {
			c := strings.TrimPrefix(regexp.MustCompile(`\s(#|>|  +).*`).ReplaceAllString(m[1]+m[2]+m[3], ""), "wexillum ")
			if m[3] != "" {
				c = regexp.MustCompile(`[(=].*`).ReplaceAllString(c, "") // a name from the program, or a line of a file
			}
			said[strings.TrimSpace(c)] = file
		}
	}
	if len(said) < 80 {
		t.Errorf("only %d commands were found", len(said))
	}
	var each func(c string) []string // add|set|end is three commands
	each = func(c string) (out []string) {
		m := regexp.MustCompile(`[a-z-]+(\|[a-z-]+)+`).FindStringIndex(c)
		if m == nil {
			return []string{c}
		}
		for _, x := range strings.Split(c[m[0]:m[1]], "|") {
			out = append(out, each(c[:m[0]]+x+c[m[1]:])...)
		}
		return out
	}
	for c, file := range said {
		if c == "COMMAND --help" {
			continue
		}
		c = strings.NewReplacer("[", "", "]", "", "…", "x").Replace(c)
		for _, line := range each(regexp.MustCompile(`(--[a-z-]+[ =])N\b`).ReplaceAllString(c, "${1}1")) {
			out, err := exec.Command("bash", "-c", bin+" "+line+" --help").CombinedOutput()
			if words := strings.Fields(line); err != nil && strings.HasPrefix(words[len(words)-1], "--") { // named without a value
				out, err = exec.Command("bash", "-c", bin+" "+line+" 1 --help").CombinedOutput()
			}
			first := strings.Fields(line)[0]
			if usage := strings.Contains(string(out), "\n  wexillum "+first) || strings.HasPrefix(first, "-"); err != nil || !usage {
				t.Errorf("%s: wexillum %s: %v\n%.300s", file, line, err, out)
			}
		}
	}
}

// expected turns a line of an example into what it has to look like, blanks
// folded.
func expected(line string) *regexp.Regexp {
	parts := strings.Split(strings.Join(strings.Fields(line), " "), "…")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(strings.TrimSpace(parts[i]))
	}
	return regexp.MustCompile(strings.Join(parts, ".*"))
}

// TestSecurityNamesTests has every test that the page on security names be there: it says what shows a thing.
func TestSecurityNamesTests(t *testing.T) {
	t.Parallel()
	there := map[string]bool{}
	check(t, filepath.WalkDir(filepath.Join(repository, "internal"), func(path string, d fs.DirEntry, err error) error {
		if err != nil || !strings.HasSuffix(path, "_test.go") {
			return err
		}
		text, err := os.ReadFile(path)
		for _, m := range regexp.MustCompile(`(?m)^func (Test\w+)\(`).FindAllSubmatch(text, -1) {
			there[string(m[1])] = true
		}
		return err
	}))
	text, err := os.ReadFile(filepath.Join(repository, "docs/security.md"))
	check(t, err)
	named := regexp.MustCompile("`(Test\\w+)`").FindAllSubmatch(text, -1)
	if len(named) < 40 {
		t.Errorf("%d tests are named", len(named))
	}
	for _, m := range named {
		if !there[string(m[1])] {
			t.Errorf("there is no %s", m[1])
		}
	}
}
