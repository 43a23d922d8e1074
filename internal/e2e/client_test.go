package e2e

import (
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"net/http/httptest"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/cli"
	"wexillum.example/internal/connector"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/daemon"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/suite"
)

// status runs the client and wants a status and what it says.
func (r *running) says(status int, text string, args ...string) string {
	r.t.Helper()
	got, out, errs := r.client("", args...)
	if got != status || !strings.Contains(out+errs, text) {
		r.t.Errorf("%s\nstatus %d, want %d with %q\n%s%s", strings.Join(args, " "), got, status, text, out, errs)
	}
	return out
}

// TestLecturer is the path this product exists for: ask why, change what is ours,
// ask again; the rest is theirs.
func TestLecturer(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	question := []string{"ask", "person:j.penhallow", "directory.invite", "space:docent-course", "--context",
		"address=h.brannoch@oskelund.example"}
	out := r.says(3, "Open the partner Oskelund University for spaces.in.", question...)
	for _, want := range []string{"NO   Jessa Penhallow", "domain       ▼ REFUSE", "counterpart  ▼ REFUSE", "[theirs, partner:oskelund]",
		"Ask the administrator of Oskelund University", "directory.invite_domains: limit any · default listed ◂"} {
		if !strings.Contains(out, want) {
			t.Errorf("the answer lacks %q:\n%s", want, out)
		}
	}
	r.says(0, "spaces.in     opened  refuses", "partner", "open", "oskelund", "spaces.in", "--why", "the course is held together")
	out = r.says(3, "counterpart  ▼ REFUSE", question...)
	if strings.Contains(out, "domain       ▼") {
		t.Errorf("our half still stands in the way:\n%s", out)
	}
	// They admit it; somebody records so.
	file := filepath.Join(t.TempDir(), "said.yaml")
	check(t, os.WriteFile(file, []byte(strings.Replace(r.must("dump", "--section", "partners"), "spaces.in: {says: refuses",
		"spaces.in: {says: admits", 1)), 0o600))
	r.says(0, "1 record would change", "load", file, "--preview")
	r.says(0, "admits", "load", file, "--preview")
	r.says(0, "1 record changed", "load", file, "--why", "their administrator wrote today")
	r.says(0, "YES  Jessa Penhallow", question...)
	r.says(0, "their administrator wrote today", "journal", "--kind", "stance", "--limit", "1")
	r.says(0, "entries are as they were written", "journal", "verify")
}

// TestStories tells the demo's other stories in one command each.
func TestStories(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	r.says(3, "Valuations is private: a role in the space does not open it.", "ask", "maren.holtveig@ilvane.example", "files.open",
		"folder:loan-valuations")
	r.says(0, "YES  Maren Holtveig", "ask", "maren.holtveig@ilvane.example", "spaces.edit_page", "page:astrolabe-notes")
	r.says(0, "folder:condition-reports               ▲ yes  files: open, download, edit, upload, delete", "reach",
		"maren.holtveig@ilvane.example")
	out := r.says(0, "The partner Marrowby Freight is suspended", "reach", "u.vexley@marrowby.example")
	if strings.Contains(out, " yes ") {
		t.Errorf("the suspended firm reaches something:\n%s", out)
	}
	r.says(0, "file:crate-list", "reach", "link:crate-list-link", "--only", "yes")
	screen := []string{"ask", "*@orrin.example", "meetings.remote_control", "meeting:rigging-call"}
	r.says(0, "presenter_asked", screen...)
	r.says(0, "presenter_asked", append(screen, "--at", "+11d")...)
	r.says(3, "“Outsiders take control” is set to off; this needs on.", append(screen, "--at", "+12d")...)
	r.says(3, "no", "ask", "person:o.tidewell", "mail.forward", "mailbox:o.tidewell", "--context", "address=odile@homepost.example")
	r.says(0, "YES", "ask", "person:m.quarrendon", "mail.forward", "mailbox:m.quarrendon", "--context", "address=mabel.q@parlourmail.example")
}

// TestWrongUse ends with 2, failures with 1, and both say what to do.
func TestWrongUse(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.says(1, "sign in with: wexillum login", "partner", "list")
	r.login("lantern")
	r.says(2, "there is no such action; do you mean spaces.enter?", "ask", "a@b.example", "spaces.entr", "space:x")
	r.says(2, "there is no such space", "ask", "a@b.example", "spaces.enter", "space:x")
	r.says(2, "wexillum ask takes WHO ACTION RESOURCE; one was given", "ask", "a@b.example")
	r.says(2, "write key=value", "ask", "a@b.example", "spaces.enter", "space:x", "--context", "address")
	r.says(2, "there are address, presenter, account and keep_copy", "ask", "a@b.example", "spaces.enter", "space:x", "--context", "mood=good")
	r.says(2, "write table, json, yaml or csv", "rules", "list", "-o", "xml")
	r.says(2, "is no command of wexillum partner", "partner", "dance")
	r.says(2, "unknown flag: --fast", "rules", "list", "--fast")
	r.says(2, "give --limit, --default or both", "rules", "set", "mail.forward")
	r.says(1, "the role auditor may not", "rules", "set", "mail.forward", "--limit", "any")
	r.says(1, "there is no partner", "partner", "show", "nobody")
	r.says(1, "no rule matches", "rules", "find", "zeppelin")
	r.says(1, "no such file", "load", "/nowhere/at/all.yaml")
	bad := filepath.Join(t.TempDir(), "bad.yaml")
	check(t, os.WriteFile(bad, []byte("wexillum: 1\ngroups:\n  - {id: a, nmae: b}\n"), 0o600))
	r.login("harbour")
	r.says(1, `line 3, column 13: a group has no field "nmae"`, "load", bad)
	r.says(1, filepath.Base(bad)+": nothing was changed", "load", bad)
	r.says(1, "start it with wexillum serve", "rules", "list", "--server", "http://127.0.0.1:1")
	r.says(2, "write an address as https://", "rules", "list", "--server", "nowhere")
	st, err := os.Stat(filepath.Join(r.home, "session.json"))
	if err != nil || st.Mode().Perm() != 0o600 {
		t.Errorf("the sign-in is kept as %v, %v", st, err)
	}
	r.says(0, "Signed out", "logout")
	r.says(1, "sign in with", "partner", "list")
}

// TestFormats prints records in every format.
func TestFormats(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	var answer struct {
		Decision string
		Account  string
		Gates    []struct {
			Gate, Answer string
			Causes       []struct {
				Code, Side, Who string
				Chain           []struct{ Layer, Value string }
			}
		}
		Accounts []struct{ Account string }
	}
	_, out, _ := r.client("", "ask", "maren.holtveig@ilvane.example", "files.open", "folder:loan-valuations", "-o", "json")
	check(t, json.Unmarshal([]byte(out), &answer))
	if g := answer.Gates; answer.Decision != "no" || answer.Account != "record" || len(g) != 7 || g[5].Answer != "refuse" ||
		g[5].Causes[0].Code != "private_item" || g[5].Causes[0].Side != "ours" || g[5].Causes[0].Who != "owner:s.lindqvane" ||
		g[6].Answer != "not_asked" {
		t.Errorf("%s", out)
	}
	if c := answer.Gates[4].Causes[0].Chain; len(c) < 3 || c[0].Layer != "limit" || c[0].Value != "newcomers" {
		t.Errorf("the chain is %+v", c)
	}
	rows, err := csv.NewReader(strings.NewReader(r.must("partner", "list", "-o", "csv"))).ReadAll()
	if err != nil || len(rows) != 11 || rows[0][0] != "id" || rows[1][0] != "calderfinch" {
		t.Errorf("%v %v", rows, err)
	}
	if y := r.must("rules", "show", "mail.forward", "-o", "yaml"); !strings.Contains(y, "name: mail.forward") ||
		!strings.Contains(y, "limit: any") {
		t.Errorf("%s", y)
	}
	if !strings.Contains(r.must("rules", "find", "remote", "contrl"), "meetings.remote_control") {
		t.Error("a mistyped word finds nothing")
	}
	r.says(0, "iivane.example            barred", "domain", "test", "iivane.example", "maren@lab.ilvane.example")
	r.says(0, "Barred: rude.example", "domain", "bar", "rude.example", "--reason", "spam")
	r.says(0, "rude.example", "domain", "bars")
	r.says(0, "No longer barred", "domain", "lift", "rude.example")
	r.says(0, "quayside.example", "partner", "add", "quayside", "--name", "Quayside Lamps", "--domain", "*.quayside.example", "--open",
		"meetings.in")
	r.says(0, "lamps.example", "domain", "add", "lamps.example", "--partner", "quayside")
	r.says(0, "Quayside Lamps", "domain", "remove", "lamps.example")
	r.says(0, "would become suspended. That concerns 0 guests", "partner", "suspend", "quayside", "--preview")
	r.says(0, "standing  suspended since", "partner", "suspend", "quayside", "--why", "no answer")
	r.says(0, "standing  active", "partner", "resume", "quayside")
	r.says(0, "standing  ended", "partner", "end", "quayside")
	r.says(0, "mail.forward", "__complete", "rules", "show", "mail.f")
	r.says(0, "maren.holtveig@ilvane.example", "__complete", "ask", "maren")
	r.says(0, "folder:loan-valuations", "__complete", "ask", "maren.holtveig@ilvane.example", "files.open", "folder:loan")
	status, out, errs := r.client("a-long-password-9\n", "account", "make", "pilot", "--role", "auditor")
	if status != 0 || !strings.Contains(out, "pilot is auditor") {
		t.Errorf("%s%s", out, errs)
	}
	r.says(0, "pilot is keeper", "account", "set", "pilot", "--role", "keeper")
	r.says(0, "pilot is keeper, and disabled", "account", "set", "pilot", "--disabled")
	r.says(2, "say what is to be otherwise", "account", "set", "pilot")
	r.says(1, "there is no account \"polit\"", "account", "set", "polit", "--role", "auditor")
	r.says(0, "pilot", "account", "list")
	r.says(0, "wxl_", "token", "make", "gateway", "--purpose", "decisions", "--days", "3")
	r.says(0, "gateway", "token", "list")
}

// TestDumpAndLoad: what is dumped loads into an empty service as the same world,
// and a second time changes nothing.
func TestDumpAndLoad(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	text := r.must("dump")
	file := filepath.Join(t.TempDir(), "world.yaml")
	check(t, os.WriteFile(file, []byte(text), 0o600))
	r.says(0, "Nothing changed: all of it is there already.", "load", file)

	other := startService(t, dbtest.DSN(t), nil)
	check(t, other.svc.MakeAccount(t.Context(), "test", "", accountOf(demo.Accounts[0]), demo.Accounts[0].Password))
	other.login("harbour")
	other.says(0, "records changed", "load", "--restore", file)
	if again := other.must("dump"); again != text {
		t.Errorf("the dump of a load differs:\n%s", firstDifference(text, again))
	}
	other.says(0, "Nothing changed", "load", file)
	// The same question, online and on the file alone.
	for _, q := range [][]string{{"ask", "maren.holtveig@ilvane.example", "files.open", "folder:loan-valuations", "-a"},
		{"reach", "b.coldharbour@tholemere.example"}, {"rules", "show", "mail.forward"},
		{"ask", "link:press-kit-link", "files.open", "file:press-kit", "-a"}} {
		q = append(q, []string{"--at", time.Now().AddDate(0, 0, 2).Format(time.DateOnly)}[:2*map[bool]int{true: 1}[q[0] != "rules"]]...)
		_, online, _ := other.client("", q...)
		_, alone, errs := other.client("", append(q, "--world", file)...)
		if online != alone || online == "" {
			t.Errorf("%v\nonline\n%s\nalone\n%s%s", q, online, alone, errs)
		}
	}
}

func firstDifference(a, b string) string {
	as, bs := strings.Split(a, "\n"), strings.Split(b, "\n")
	for i := range as {
		if i >= len(bs) || as[i] != bs[i] {
			return "first\n" + as[i] + "\nthen\n" + strings.Join(bs[min(i, len(bs)-1):min(i+1, len(bs))], "\n")
		}
	}
	return "the second is longer"
}

// TestHeldBack is worked example 1 on the running service, spaces included.
func TestHeldBack(t *testing.T) {
	r := demoService(t)
	r.login("harbour")
	link := []string{"ask", "link:crate-list-link", "files.open", "file:crate-list"}
	r.says(0, "YES", link...)
	r.says(0, "crate-logistics", "rules", "set", "files.bearer_links", "--limit", "off", "--why", "links leak")
	r.says(3, "held back: on", link...)
	r.says(0, "held back", "rules", "show", "files.bearer_links")
	r.says(0, "limit    on", "rules", "set", "files.bearer_links", "--limit", "on")
	r.says(3, "held back: on", link...) // still dead until released
	file := filepath.Join(t.TempDir(), "release.yaml")
	text := r.must("dump", "--section", "spaces")
	check(t, os.WriteFile(file, []byte(strings.ReplaceAll(text, "files.bearer_links: {value: on, held: yes}", "files.bearer_links: on")),
		0o600))
	r.says(0, "records changed", "load", file, "--why", "released")
	r.says(0, "YES", link...)
	r.says(0, "files.bearer_links", "journal", "--kind", "rule", "--limit", "2")
}

// TestConformFromTheClient asks a program that speaks the contract whether it does what it says, and one that does not.
func TestConformFromTheClient(t *testing.T) {
	t.Parallel()
	d, _ := native.ByName("quay")
	srv := httptest.NewServer(suite.New(suite.Options{Key: "pass", Faster: 1e9})["quay"].Handler())
	defer srv.Close()
	c, err := connector.New("quay", srv.URL, "pass")
	check(t, err)
	key := filepath.Join(t.TempDir(), "key")
	check(t, os.WriteFile(key, []byte("pins\n"), 0o600))
	r := &running{t: t, home: t.TempDir()}
	ask := func(s beside.Server) (int, string) {
		t.Helper()
		at := httptest.NewServer(beside.Handler(s, "pins"))
		defer at.Close()
		status, out, errs := r.client("", "system", "conform", at.URL, "--key", "file:"+key, "--yes")
		return status, out + errs
	}
	if status, out := ask(speaker{c, d}); status != 0 || !strings.Contains(out, "▲ yes  it says what it can hold") ||
		!regexp.MustCompile(`(?m)^(\d+) of (\d+) do what the contract says\.$`).MatchString(out) || strings.Contains(out, "▼") {
		t.Errorf("%d\n%s", status, out)
	}
	if status, out := ask(deaf{speaker{c, d}}); status != 3 ||
		!strings.Contains(out,
			`▼ no  hulls takes a list of domains, either way round  "these: a.conform.example, b.conform.example" was taken, and "these:" is read`) {
		t.Errorf("%d\n%s", status, out)
	}
	if status, _, errs := r.client("", "system", "conform", srv.URL, "--key", "pins", "--yes"); status != 2 ||
		!strings.Contains(errs, "write file:PATH, env:NAME or credential:NAME, never the key itself") {
		t.Errorf("%d %s", status, errs)
	}
}

// speaker is a connector as a program beside a server has it; deaf takes lists and does nothing.
type speaker struct {
	connector.Connector
	d *native.Dialect
}

func (x speaker) Describe() *native.Dialect { return x.d }

type deaf struct{ speaker }

func (x deaf) Write(ctx context.Context, path, value string) error {
	if path == "hulls" {
		return nil
	}
	return x.speaker.Write(ctx, path, value)
}

// fitsOne reports whether what was printed is of one of the schemas that are named.
func fitsOne(t *testing.T, names, printed string) bool {
	t.Helper()
	contract, err := written()
	check(t, err)
	x, err := jsonschema.UnmarshalJSON(strings.NewReader(printed))
	check(t, err)
	for _, name := range strings.Split(names, "; ") {
		list, isList := strings.CutPrefix(name, "list of ")
		contract.lock.Lock()
		schema, err := contract.schemas.Compile("contract.json#/components/schemas/" + strings.Trim(list, "`"))
		contract.lock.Unlock()
		check(t, err)
		all := []any{x}
		if isList {
			all, _ = x.([]any)
		}
		wrong := false
		for _, one := range all {
			wrong = wrong || schema.Validate(one) != nil
		}
		if !wrong {
			return true
		}
	}
	return false
}

// TestAlwaysJSON runs every command that needs no more than its name for a program: what it prints is one JSON value, also
// where people are told a sentence; what is quiet says nothing; and every command has its manual page.
func TestAlwaysJSON(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	r.login("harbour")
	dir := t.TempDir()
	r.must("man", dir)
	pages, err := filepath.Glob(filepath.Join(dir, "wexillum-*.1"))
	check(t, err)
	if len(pages) < 150 {
		t.Fatalf("%d pages", len(pages))
	}
	says, err := os.ReadFile("../../docs/client-json.md") // which schema each command prints
	check(t, err)
	prints := map[string]string{}
	for _, m := range regexp.MustCompile("(?m)^\\| `([^`]+)` \\| (.*) \\|$").FindAllStringSubmatch(string(says), -1) {
		prints[m[1]] = m[2]
	}
	held := 0
	defer func() {
		if held < 25 {
			t.Errorf("only %d commands were held against a schema", held)
		}
	}()
	ran := 0
	for _, page := range pages {
		text, err := os.ReadFile(page)
		check(t, err)
		name := strings.Split(strings.TrimSuffix(strings.TrimPrefix(filepath.Base(page), "wexillum-"), ".1"), "-")
		if !bytes.Contains(text, []byte(".SH SYNOPSIS")) || !bytes.Contains(text, []byte(".SH DESCRIPTION")) {
			t.Errorf("%s: %.200s", page, text)
		}
		switch name[0] {
		case "serve", "demo", "start", "begin", "login", "logout", "completion", "help", "man", "generate", "schema":
			continue // they run, sign in or write something else
		}
		if len(name) > 1 && (name[0] == "account" && name[1] != "list" || name[0] == "dates" && name[1] == "lift") {
			continue // they ask for passwords, or do something
		}
		status, out, errs := r.client("", append(name, "-o", "json")...)
		switch {
		case status == 2 || status == 1:
			if out != "" || errs == "" {
				t.Errorf("%v: status %d says %q, and on the other side %q", name, status, out, errs)
			}
		case strings.Contains(out, "Available Commands:"): // a group, whose help is for people
		case !json.Valid([]byte(out)):
			if name[0] == "dump" || name[0] == "list" && name[1] == "out" {
				continue // a file of another format, which is what is asked for
			}
			t.Errorf("%v: status %d prints %.300q", name, status, out)
		case name[len(name)-1] == "list" && !strings.HasPrefix(out, "["):
			t.Errorf("%v is a list, and prints %.80q", name, out)
		default:
			ran++
			if want := prints[strings.Join(name, " ")]; strings.Contains(want, "`") && !strings.Contains(want, "object") {
				held++
				if !fitsOne(t, want, out) {
					t.Errorf("%v is to print %s, and prints %.300s", name, want, out)
				}
			} else if want == "" && !strings.Contains(out, `"said":`) {
				t.Logf("%v prints what the page does not say: %.80q", name, out)
			}
		}
	}
	if ran < 30 {
		t.Errorf("only %d commands answered", ran)
	}
	for _, c := range []struct {
		args []string
		want string
	}{
		{[]string{"domain", "bar", "rude.example", "--reason", "junk", "-o", "json"}, `"reason": "junk"`},
		{[]string{"domain", "lift", "rude.example", "-o", "json"}, `"said": [`},
	} {
		if status, out, errs := r.client("", c.args...); status != 0 || !json.Valid([]byte(out)) || !strings.Contains(out, c.want) {
			t.Errorf("%v: %d %s%s", c.args, status, out, errs)
		}
	}
	if _, out, _ := r.client("", "domain", "bar", "rude.example", "--reason", "junk", "-q"); out != "" {
		t.Errorf("quiet says %q", out)
	}
	if _, out, _ := r.client("", "account", "list", "-q"); strings.Contains(out, "ROLE") || !strings.Contains(out, "harbour") {
		t.Errorf("a quiet list: %q", out)
	}
}

// TestProfiles signs in to two services, and speaks to the one that is named.
func TestProfiles(t *testing.T) {
	r, other := demoService(t), demoService(t)
	r.says(0, "Nobody is signed in", "profiles")
	for name, s := range map[string]*running{"": r, "north": other} {
		args := []string{"login", "--server", s.url, "--name", "harbour"}
		if name != "" {
			args = append(args, "--profile", name)
		}
		if status, out, errs := r.client("low-water-2026\n", args...); status != 0 {
			t.Fatalf("%s%s", out, errs)
		}
	}
	_, out, _ := r.client("", "profiles")
	if !strings.Contains(out, "(none named)  "+r.url) || !strings.Contains(out, "north         "+other.url) {
		t.Errorf("%s", out)
	}
	kept, here := other.svc.State().Head.Seq, r.svc.State().Head.Seq
	environment.Lock() // no address is given: the profile says which
	check(t, os.Setenv("WEXILLUM_SESSION", filepath.Join(r.home, "session.json")))
	var o, e bytes.Buffer
	status := cli.Main([]string{"domain", "bar", "rude.example", "--reason", "junk", "--yes", "--profile", "north"}, strings.NewReader(""), &o,
		&e, &daemon.Program)
	os.Unsetenv("WEXILLUM_SESSION")
	environment.Unlock()
	if status != 0 || other.svc.State().Head.Seq == kept || r.svc.State().Head.Seq != here {
		t.Errorf("%d %s%s: %d, %d", status, &o, &e, other.svc.State().Head.Seq-kept, r.svc.State().Head.Seq-here)
	}
	r.says(1, "wexillum login --server "+r.url+" --profile nowhere --name", "account", "list", "--profile", "nowhere")
	r.says(2, "lower-case letters", "login", "--name", "harbour", "--profile", "A/B")
}
