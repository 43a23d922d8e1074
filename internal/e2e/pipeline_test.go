package e2e

import (
	"bytes"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestPipeline runs the example repository of docs/examples/policy as a pipeline does: a proposal that opens something is
// stopped, one that opens nothing passes, what is merged is published, and what somebody changes elsewhere is found at night.
func TestPipeline(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	r := demoService(t)
	r.login("harbour")
	repo := t.TempDir()
	check(t, os.CopyFS(repo, os.DirFS("../../docs/examples/policy")))
	file := filepath.Join(repo, "policy.yaml")
	run := func(script string, env ...string) (status int, said string) {
		t.Helper()
		cmd := exec.Command("sh", filepath.Join(repo, script))
		cmd.Dir = repo
		cmd.Env = append(append(os.Environ(), "WEXILLUM_SERVER="+r.url, "WEXILLUM_SESSION="+filepath.Join(r.home, "session.json"),
			"PATH="+filepath.Dir(bin)+":"+os.Getenv("PATH")), env...)
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if errors.As(err, &exit) {
			return exit.ExitCode(), string(out)
		}
		check(t, err)
		return 0, string(out)
	}
	write := func(old, new string) {
		t.Helper()
		text, err := os.ReadFile(file)
		check(t, err)
		if !bytes.Contains(text, []byte(old)) {
			t.Fatalf("the file does not say %q", old)
		}
		check(t, os.WriteFile(file, bytes.Replace(text, []byte(old), []byte(new), 1), 0o600))
	}
	is := func(script string, want int, says string, env ...string) {
		t.Helper()
		if status, said := run(script, env...); status != want || !strings.Contains(said, says) {
			t.Errorf("%s: status %d, want %d and %q:\n%s", script, status, want, says, said)
		}
	}
	check(t, os.WriteFile(file, []byte(r.must("dump", "--policy")), 0o600))
	drafts := func() string { return r.must("draft", "list", "-o", "csv") }
	before, begun := drafts(), r.must("dump", "--policy")
	is("nightly.sh", 0, "Policy is what the file says (revision 2).")

	write("chat.personal: {limit: off, default: off}", "chat.personal: {limit: on, default: on}")
	is("check.sh", 3, "pairs of wide actions are gained, more than 0")
	write("chat.personal: {limit: on, default: on}", "chat.personal: {limit: off, default: off}")
	write("  files.link_days: {limit: 90, default: 14}\n", "")
	write("meetings.outsiders: {limit: anyone, default: signed_in}", "meetings.outsiders: {limit: anyone, default: known}")
	is("check.sh", 0, "leave files.link_days as at the start")
	is("check.sh", 3, "more than 0", "MAX_LOST=0")
	if now := r.must("dump", "--policy"); now != begun {
		t.Errorf("a proposal changed something:\n%s", now)
	}
	if strings.Count(drafts(), "open") != strings.Count(before, "open") {
		t.Errorf("a proposal leaves drafts behind: %s", drafts())
	}
	is("publish.sh", 0, "Policy is what the file says (revision 3).", "WHY=shorter links")
	is("publish.sh", 0, "Policy is what the file says (revision 3).", "WHY=again")
	r.says(0, "shorter links", "journal")
	text, err := os.ReadFile(file)
	check(t, err)
	if now := r.must("dump", "--policy"); now != string(text) {
		t.Errorf("what is in force is written otherwise than the file:\n%s", now)
	}

	// What somebody changes elsewhere is found, and is put back by publishing what the file says.
	r.must("domain", "bar", "rude.example", "--reason", "unwanted mail", "--yes")
	is("nightly.sh", 3, "lift the bar on rude.example")
	is("publish.sh", 0, "Policy is what the file says (revision 5).", "WHY=as agreed")

	// Of a rule that the file says in part, the rest is as at the start.
	r.must("rules", "set", "meetings.held", "--limit", "nobody", "--default", "strangers", "--why", "as ever", "--yes")
	part := filepath.Join(repo, "part.yaml")
	dumped := r.must("dump", "--policy", "-o", "yaml")
	check(t, os.WriteFile(part, []byte(strings.Replace(dumped, "meetings.held: {limit: nobody, default: strangers}",
		"meetings.held: {limit: nobody}", 1)), 0o600))
	r.says(3, "set meetings.held", "differs", "--world", part)

	// What goes is policy in the sections of the file, and nothing else.
	guests := r.must("dump", "--section", "guests,grants,people")
	check(t, os.WriteFile(file, []byte("wexillum: 1\nexceptions: []\n"), 0o600))
	r.says(3, "remove the exception", "differs", "--world", file)
	r.says(3, "remove the exception", "differs", file)
	r.says(2, "name it once", "differs", file, "--world", file)
	r.says(2, "name the file", "differs")
	r.says(2, "--draft names", "load", file, "--exact")
	r.must("draft", "new", "none")
	r.says(2, "a list is taken in line by line", "load", file, "--exact", "--csv", "guests")
	r.says(2, "leave --policy and --section out", "dump", "--policy", "--csv", "guests")
	r.must("load", file, "--exact", "--draft", "none")
	r.says(0, "Published as revision 6.", "draft", "publish", "none", "--why", "no exceptions", "--yes")
	if got := r.must("dump", "--section", "exceptions"); strings.Contains(got, "- id") {
		t.Errorf("exceptions stay: %s", got)
	}
	if now := r.must("dump", "--section", "guests,grants,people"); now != guests {
		t.Error("inventory changed with a file of policy")
	}
	check(t, os.WriteFile(file, []byte("wexillum: 1\npartners: []\n"), 0o600))
	r.must("draft", "new", "nobody")
	r.says(1, "keep it and set its standing to ended", "load", file, "--exact", "--draft", "nobody")
	check(t, os.WriteFile(file, []byte("wexillum: 1\nguests: []\n"), 0o600))
	r.says(0, "Policy is what the file says", "differs", "--world", file) // no section of policy, nothing of inventory
	check(t, os.WriteFile(file, []byte(r.must("dump", "--section", "people")), 0o600))
	r.says(1, "policy alone is compared, as dump --policy writes it; the file holds people", "differs", "--world", file)
	check(t, os.WriteFile(file, []byte("wexillum: 1\nrules: {chat.calls: {limit: sideways}}\n"), 0o600))
	r.says(1, "sideways", "differs", "--world", file)
}

// TestManners: what is misspelt is asked back, one level down too; the program says which it is.
func TestManners(t *testing.T) {
	t.Parallel()
	r := &running{t: t, url: "http://127.0.0.1:1", home: t.TempDir()}
	r.says(2, `"prtner" is no command of wexillum; did you mean partner?`, "prtner")
	r.says(2, `"suspnd" is no command of wexillum partner; did you mean suspend?`, "partner", "suspnd")
	r.says(0, "schema ", "--version")
	r.says(2, `--max-gained "x": write a whole number; see wexillum draft impact --help`, "draft", "impact", "--max-gained", "x")
	r.says(2, "--max-lost -5: write 0 or more, or leave it out for any number", "draft", "impact", "--max-lost", "-5")
	status, out, errs := r.client("wexillum: 1\nrules: {chat.calls: {limit: off, default: off}}\n", "rules", "show", "chat.calls", "--world",
		"-")
	if status != 0 || !strings.Contains(out, "limit    off") {
		t.Errorf("a file at the standard input: %d %s%s", status, out, errs)
	}
	status, _, errs = r.client("wexillum: 1\nexceptions: [{id: a, people: [uma], rules: {chat.calls: off}, reason: x}]\n", "finding", "list",
		"--world", "-")
	if status != 2 || !strings.Contains(errs, "holds policy alone") {
		t.Errorf("whom policy concerns, of policy alone: %d %s", status, errs)
	}
}

// TestLowered: a file that lowers a limit says which stored values it holds back, before it does and when it has; one that
// raises it again says what is released.
func TestLowered(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	file := func(limit, def string) string {
		name := filepath.Join(t.TempDir(), "limits.yaml")
		check(t, os.WriteFile(name, []byte("wexillum: 1\nrules:\n  files.link_days: {limit: "+limit+", default: "+def+"}\n"), 0o600))
		return name
	}
	const held = "space:press-room: files.link_days 30 becomes held back"
	low := file("5", "5")
	r.says(0, held, "load", low, "--preview")
	r.must("draft", "new", "Shorter links")
	r.says(0, held, "load", low, "--draft", "Shorter links", "--preview")
	r.says(0, held, "load", low, "--why", "links are forgotten", "--yes")
	if out := r.must("load", low, "--preview"); strings.Contains(out, "held back") {
		t.Errorf("what is held back already is told again: %s", out)
	}
	if out := r.must("load", file("20", "5"), "--preview"); strings.Contains(out, "released") || strings.Contains(out, "held back") {
		t.Errorf("a limit that still holds it back: %s", out)
	}
}
