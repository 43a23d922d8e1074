package e2e

import (
	"bufio"
	"encoding/json"
	"io"
	"net/http/httptest"
	"net/http/httputil"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"encoding/csv"
)

// typescript checks the example programs against types that are made from the contract as the service serves it, and returns
// where they were written.
func typescript(t *testing.T, server string) string {
	t.Helper()
	dir := t.TempDir()
	check(t, os.CopyFS(dir, os.DirFS("../../docs/examples/typescript")))
	bin, err := filepath.Abs("../../console/node_modules/.bin")
	check(t, err)
	run := func(name string, args ...string) {
		t.Helper()
		cmd := exec.Command(filepath.Join(bin, name), args...)
		cmd.Dir = dir
		if out, err := cmd.CombinedOutput(); err != nil {
			t.Fatalf("%s %v: %v\n%s", name, args, err, out)
		}
	}
	run("openapi-typescript", server+"/api/v1/openapi.yaml", "-o", "contract.d.ts")
	// What @types/node says of the little that they use.
	check(t, os.WriteFile(filepath.Join(dir, "node.d.ts"), []byte(`declare const process: { env: Record<string, string | undefined>; stdin: unknown; exit(n: number): never }
declare module 'node:readline' { export function createInterface(o: { input: unknown }): AsyncIterable<string> }
`), 0o600))
	config, err := os.ReadFile(filepath.Join(dir, "tsconfig.json"))
	check(t, err)
	check(t, os.WriteFile(filepath.Join(dir, "tsconfig.json"),
		[]byte(strings.NewReplacer(`"types": ["node"]`, `"types": []`, `"gateway.ts"]`, `"gateway.ts", "node.d.ts"]`).Replace(string(config))),
		0o600))
	run("tsc", "-p", ".")
	return dir
}

// TestStrangers runs programs that somebody wrote in another language, from the contract alone: what each partner reaches is
// exported at night, and a gateway asks before it lets through, and goes on through an outage.
func TestStrangers(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := func(purpose string) string {
		t.Helper()
		_, _, body := r.call("POST", "/api/v1/service-tokens", r.token("harbour"), `{"name":"stranger","purpose":"`+purpose+`","days":1}`)
		var x struct{ Token string }
		if json.Unmarshal([]byte(body), &x) != nil || x.Token == "" {
			t.Fatal(body)
		}
		return x.Token
	}
	dir := typescript(t, r.url)
	node := func(server, purpose, script string) *exec.Cmd {
		cmd := exec.Command("node", filepath.Join(dir, "out", script))
		cmd.Env = append(os.Environ(), "WEXILLUM_SERVER="+server, "WEXILLUM_TOKEN="+token(purpose), "KEEP=0")
		return cmd
	}

	out, err := node(r.url, "reading", "export.js").Output()
	check(t, err)
	lines, err := csv.NewReader(strings.NewReader(string(out))).ReadAll()
	check(t, err)
	r.login("lantern")
	want := 0
	var reach struct {
		Lines []struct{ Decision string }
	}
	check(t, json.Unmarshal([]byte(r.must("reach", "maren.holtveig@ilvane.example", "-o", "json")), &reach))
	for _, l := range reach.Lines {
		if l.Decision == "yes" {
			want++
		}
	}
	got, partners := 0, map[string]bool{}
	for _, l := range lines[1:] {
		partners[l[0]] = true
		if l[1] == "maren.holtveig@ilvane.example" {
			got++
		}
	}
	if got != want || want == 0 || len(partners) < 5 {
		t.Errorf("%d lines of one party, want %d; of %d partners", got, want, len(partners))
	}
	if out, err := node(r.url, "metrics", "export.js").CombinedOutput(); err == nil ||
		!strings.Contains(string(out), "403: a token for metrics may not") {
		t.Errorf("with a token for something else: %v %s", err, out)
	}

	// The service is behind a way that can be cut.
	to, err := url.Parse(r.url)
	check(t, err)
	way := httptest.NewServer(httputil.NewSingleHostReverseProxy(to))
	defer way.Close()
	gateway := node(way.URL, "decisions", "gateway.js")
	gateway.Stderr = os.Stderr
	in, err := gateway.StdinPipe()
	check(t, err)
	pipe, err := gateway.StdoutPipe()
	check(t, err)
	check(t, gateway.Start())
	answers := bufio.NewScanner(pipe)
	ask := func(question, want string) {
		t.Helper()
		if _, err := io.WriteString(in, question+"\n"); err != nil || !answers.Scan() || answers.Text() != want {
			t.Errorf("%s: %q %v, want %q", question, answers.Text(), err, want)
		}
	}
	const enter, join = "party maren.holtveig@ilvane.example spaces.enter space loan-dossier",
		"party ada@ilvane.example meetings.join meeting loan-weekly"
	ask(enter, "yes")
	ask(join, "no, it would need passcode")
	ask("party x@nowhere.example spaces.enter space nothing-there", "no")
	way.CloseClientConnections()
	way.Close()
	ask(enter, "yes, as was known before the outage")
	ask(join, "no, as was known before the outage")
	ask("party u.vexley@marrowby.example spaces.enter space loan-dossier", "no, nobody answers")
	check(t, in.Close())
	check(t, gateway.Wait())
}

// TestFiftyFromAList takes a list of people in as an HR system sends it: a line each, and a result for each line that is wrong.
func TestFiftyFromAList(t *testing.T) {
	t.Parallel()
	r := demoService(t)
	token := r.token("harbour")
	list := func(n int, wrong string) string {
		var b strings.Builder
		b.WriteString("Mail,Full name,Who invites,What for\n")
		for i := range n {
			b.WriteString("person" + string(rune('a'+i%26)) + string(rune('a'+i/26)) + "@oskelund.example,Somebody,s.lindqvane,cataloguing\n")
		}
		return b.String() + wrong
	}
	put := func(text, more string) (status int, x struct {
		Lines, Added int
		Errors       []struct {
			Line         int
			Column, Text string
		}
	}) {
		t.Helper()
		status, _, body := r.call("POST",
			"/api/v1/lists/guests?map="+url.QueryEscape("Mail=address,Full name=name,Who invites=sponsor,What for=purpose")+more, token, text,
			"Content-Type", "text/csv")
		if err := json.Unmarshal([]byte(body), &x); err != nil {
			t.Fatalf("%d %s", status, body)
		}
		return status, x
	}
	_, x := put(list(50, "no address,X,s.lindqvane,y\nz@oskelund.example,Z,nobody.here,y\n"), "")
	if len(x.Errors) != 2 || x.Errors[0].Line != 52 || x.Errors[1].Line != 53 || strings.Contains(r.dumped(t, "guests"), "cataloguing") {
		t.Errorf("what is wrong is told by its line, and nothing is taken: %+v", x)
	}
	if _, x = put(list(50, ""), "&preview=true"); x.Added != 50 || len(x.Errors) != 0 {
		t.Errorf("looked at first: %+v", x)
	}
	if _, x = put(list(50, ""), ""); x.Added != 50 {
		t.Errorf("taken in: %+v", x)
	}
	if n := strings.Count(r.dumped(t, "guests"), "cataloguing"); n != 50 {
		t.Errorf("%d are here", n)
	}
}

func (r *running) dumped(t *testing.T, section string) string {
	t.Helper()
	_, _, text := r.call("GET", "/api/v1/world?section="+section, r.token("harbour"), "")
	return text
}
