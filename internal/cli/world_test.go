package cli

import (
	"bytes"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"

	"github.com/spf13/cobra"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// TestWorldNeverTouchesAService runs every command of the tree with --world beside a service
// that is there: those that answer from a file do, every other one refuses the flag, and none
// sends anything.
func TestWorldNeverTouchesAService(t *testing.T) {
	var asked atomic.Int32
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		t.Errorf("asked: %s %s", r.Method, r.URL)
		http.Error(w, "{}", http.StatusTeapot)
	}))
	defer srv.Close()
	t.Setenv("WEXILLUM_SERVER", srv.URL)
	t.Setenv("WEXILLUM_TOKEN", "x")
	t.Setenv("HOME", t.TempDir())
	t.Setenv("XDG_CONFIG_HOME", t.TempDir())
	file := filepath.Join(t.TempDir(), "w.yaml")
	if err := os.WriteFile(file,
		[]byte("wexillum: 1\norganisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}\npartners: [{id: p, name: P, domains: [p.example]}]\npeople: [{id: uma, name: Uma}]\nspaces: [{id: s, name: S, kind: team, owners: [uma]}]\n"),
		0o600); err != nil {
		t.Fatal(err)
	}
	list := filepath.Join(t.TempDir(), "list.txt")
	if err := os.WriteFile(list, []byte("a@p.example\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	args := map[string][]string{ // what those that answer from a file need
		"ask": {"x@p.example", "spaces.enter", "space:s"}, "reach": {"x@p.example"}, "audience": {"space:s"},
		"could": {"x@p.example", "spaces.enter", "space:s"}, "diff": {"x@p.example", "--and-at", "+3d"},
		"check": {list, "--into", "space:s"}, "rules find": {"guests"}, "rules show": {"files.role"}, "rules choices": {"files.role"},
		"draft impact": {"--against", file},
	}
	// What is left to the program of the service is tried with that, in whole.
	program := &Program{
		Commands: func(*Terminal) []*cobra.Command { return nil },
		Accounts: func(*Terminal) []*cobra.Command {
			return []*cobra.Command{{Use: "first NAME", Args: cobra.ExactArgs(1), RunE: func(*cobra.Command, []string) error { return nil }}}
		},
		Choices: func(*engine.Snapshot, string, string, string, string, moment.Moment) (contract.Choices, error) {
			return contract.Choices{}, nil
		},
	}
	run := func(words ...string) (int, string) {
		var out, err bytes.Buffer
		status := Main(words, strings.NewReader(""), &out, &err, program)
		return status, out.String() + err.String()
	}
	tried := 0
	var walk func(c *cobra.Command)
	walk = func(c *cobra.Command) {
		for _, s := range c.Commands() {
			walk(s)
		}
		name := strings.TrimPrefix(strings.TrimPrefix(c.CommandPath(), "wexillum"), " ")
		// differs compares a file with a service, and changes neither
		if name == "" || name == "differs" || c.HasSubCommands() && !slices.Contains(fromFile, name) {
			return
		}
		tried++
		words := append(strings.Fields(name), "--world", file)
		if slices.Contains(fromFile, name) {
			if status, said := run(append(words, args[name]...)...); status != 0 && status != 3 {
				t.Errorf("%s from a file: status %d, %s", name, status, said)
			}
			if status, said := run(append(append(strings.Fields(name), "--world", file+".missing"), args[name]...)...); status == 0 ||
				!strings.Contains(said, "no such file") {
				t.Errorf("%s from a file that there is not: status %d, %s", name, status, said)
			}
			if status, said := run(append(append(words, args[name]...), "--draft", "d")...); status != 2 ||
				!strings.Contains(said, "--draft is of the service") {
				t.Errorf("%s from a file in a draft: status %d, %s", name, status, said)
			}
			return
		}
		for _, more := range [][]string{nil, {"a"}, {"a", "b"}} {
			if status, said := run(append(slices.Clone(words), more...)...); status != 2 || !strings.Contains(said, "does not answer from a file") {
				t.Errorf("%s %v: status %d, %s", name, more, status, said)
			}
		}
	}
	walk((&app{program: program}).root())
	if tried < 60 || asked.Load() > 0 {
		t.Errorf("%d commands, %d requests", tried, asked.Load())
	}
}
