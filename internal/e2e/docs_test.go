package e2e

import (
	"errors"
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
	pages, err := filepath.Glob("../../docs/*.md")
	check(t, err)
	examples := 0
	for _, file := range append([]string{"../../README.md"}, pages...) {
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
		var r *running
		suiteAt := map[string]string{}
		if filepath.Base(file) == "take-over.md" { // an empty installation, and a harbour that is years old
			r, suiteAt = oldHarbour(t, 3000)
		} else {
			r = demoService(t)
		}
		if len(suiteAt) == 0 && strings.Contains(string(text), "wexillum system") {
			suiteAt, _ = r.withSuite(10 * demo.SuiteFaster) // nobody waits for a page
			r.settled("quay")
			r.settled("parley")
		}
		if filepath.Base(file) != "README.md" {
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
	if examples < 25 {
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

// expected turns a line of an example into what it has to look like, blanks
// folded.
func expected(line string) *regexp.Regexp {
	parts := strings.Split(strings.Join(strings.Fields(line), " "), "…")
	for i := range parts {
		parts[i] = regexp.QuoteMeta(strings.TrimSpace(parts[i]))
	}
	return regexp.MustCompile(strings.Join(parts, ".*"))
}
