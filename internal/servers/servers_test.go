package servers_test

import (
	"errors"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/connector/conform"
	"wexillum.example/internal/servers"
)

// root opens the private root, or leaves the test out where nobody may.
func root(t *testing.T) *servers.Root {
	t.Helper()
	r, err := servers.Open(t.Context(), servers.Kept(), os.Stderr)
	if errors.Is(err, servers.ErrRoot) {
		t.Skip(err)
	}
	check(t, err)
	return r
}

func check(t testing.TB, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// conforms puts what stands beside a server through what the contract asks.
func conforms(t *testing.T, s beside.Server, from string, least int) {
	t.Helper()
	srv := httptest.NewServer(beside.Handler(s, "token"))
	defer srv.Close()
	n := 0
	check(t, conform.Run(t.Context(), srv.URL, "token", from, func(x conform.Check) {
		if n++; x.Wrong != "" {
			t.Errorf("%s: %s", x.What, x.Wrong)
		}
	}))
	if n < least {
		t.Errorf("only %d checks", n)
	}
}

// TestFiles is about a real WebDAV server: who may do what in a folder, links and their ends, whose domains come in.
func TestFiles(t *testing.T) {
	r := root(t)
	a, err := r.Apache(t.Context(), []string{"ours.example"})
	check(t, err)
	defer a.Stop()
	conforms(t, a.Beside, "", 15)
	if t.Failed() {
		t.Log(a.Said())
	}
	put := func(kind string, f map[string]string) {
		t.Helper()
		if _, err := a.Beside.Put(t.Context(), kind, "", f); err != nil {
			t.Fatal(err)
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, a.Beside.Write(t.Context(), path, value))
	}
	status := func(method, path, who, body string) int {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), method, path, strings.NewReader(body))
		check(t, err)
		if who != "" {
			q.SetBasicAuth(who, "pass")
		}
		resp, err := http.DefaultClient.Do(q)
		check(t, err)
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	set("domains", "only: ilvane.example")
	put("folders", map[string]string{"folder": "dossier", "title": "Dossier"})
	for who, may := range map[string]string{"ada@ilvane.example": "read", "bo@ilvane.example": "write", "cy@shut.example": "read"} {
		put("accounts", map[string]string{"account": who, "state": "on"})
		check(t, a.Beside.SetPassword(who, "pass"))
		put("access", map[string]string{"account": who, "folder": "dossier", "may": may})
	}
	put("accounts", map[string]string{"account": "eve@ilvane.example", "state": "on"})
	check(t, a.Beside.SetPassword("eve@ilvane.example", "pass"))
	note := a.URL + "/spaces/dossier/note.txt"
	tell := func(when, want string) {
		t.Helper()
		var got []string
		for _, x := range [][2]string{{"PUT", "bo@ilvane.example"}, {"GET", "bo@ilvane.example"}, {"GET", "ada@ilvane.example"},
			{"PUT", "ada@ilvane.example"}, {"DELETE", "ada@ilvane.example"}, {"GET", "cy@shut.example"}, {"GET", "eve@ilvane.example"},
			{"GET", ""}} {
			got = append(got, strings.TrimSpace(x[0]+" "+strings.Split(x[1], "@")[0])+" "+http.StatusText(status(x[0], note, x[1], "the rope")))
		}
		if all := strings.Join(got, ", "); all != want {
			t.Errorf("%s: %s\nwant %s\n%s", when, all, want, a.Said())
		}
	}
	tell("at first",
		"PUT bo Created, GET bo OK, GET ada OK, PUT ada Forbidden, DELETE ada Forbidden, GET cy Forbidden, GET eve Forbidden, GET Unauthorized")
	set("domains", "not: ilvane.example")
	tell("the list turned round",
		"PUT bo Forbidden, GET bo Forbidden, GET ada Forbidden, PUT ada Forbidden, DELETE ada Forbidden, GET cy OK, GET eve Forbidden, GET Unauthorized")
	set("domains", "only: shut.example, ilvane.example")
	put("accounts", map[string]string{"account": "bo@ilvane.example", "state": "off"})
	check(t, a.Beside.Drop(t.Context(), "access", "ada@ilvane.example dossier"))
	tell("one out, one without a role",
		"PUT bo Unauthorized, GET bo Unauthorized, GET ada Forbidden, PUT ada Forbidden, DELETE ada Forbidden, GET cy OK, GET eve Forbidden, GET Unauthorized")
	put("accounts", map[string]string{"account": "bo@ilvane.example", "state": "on"})
	if got := status("GET", note, "bo@ilvane.example", ""); got != 200 {
		t.Errorf("back, with the password of before: %d", got)
	}

	// A link: while it lasts, after its end, ended, with links off; never to write; and no way round it.
	link := func(until time.Time) string {
		t.Helper()
		put("links", map[string]string{"mark": "press", "folder": "dossier", "may": "read", "until": until.UTC().Format(time.RFC3339),
			"by": "uma@ours.example"})
		url, err := a.Beside.LinkTo("press")
		check(t, err)
		return url + "note.txt"
	}
	set("links", "on")
	url := link(time.Now().Add(time.Hour))
	steps := []struct {
		what string
		do   func()
		want int
	}{
		{"while it lasts", func() {}, 200},
		{"links off", func() { set("links", "off") }, 403},
		{"on again", func() { set("links", "on") }, 200},
		{"after its end", func() { link(time.Now().Add(-time.Minute)) }, 410},
		{"longer", func() { link(time.Now().Add(time.Minute)) }, 200},
		{"ended", func() { check(t, a.Beside.Drop(t.Context(), "links", "press")) }, 404},
	}
	for _, x := range steps {
		if x.do(); status("GET", url, "", "") != x.want {
			t.Errorf("%s: %d, want %d", x.what, status("GET", url, "", ""), x.want)
		}
	}
	url = link(time.Now().Add(time.Hour))
	for what, got := range map[string]int{"a link to write": status("PUT", url, "", "x"),
		"past it":   status("GET", a.URL+"/open/spaces/dossier/note.txt", "", ""),
		"the lists": status("GET", a.URL+"/spaces/dossier/.htaccess", "bo@ilvane.example", "")} {
		if got != 403 {
			t.Errorf("%s: %d", what, got)
		}
	}
	if k, err := a.Beside.One(t.Context(), "links", "press"); err != nil || k == nil || k.Opened == nil || *k.Opened != 0 ||
		k.By != "uma@ours.example" {
		t.Errorf("%+v %v", k, err)
	}
	status("GET", url, "", "")
	for { // its log is written after it has answered
		k, err := a.Beside.One(t.Context(), "links", "press")
		check(t, err)
		if *k.Opened == 1 {
			break
		}
		check(t, t.Context().Err())
	}

	// Somebody changes a list by hand: it is read, and what is not understood lets nobody in.
	file := filepath.Join(a.Folder, "files/spaces/dossier/.htaccess")
	was, err := os.ReadFile(file)
	check(t, err)
	check(t, os.WriteFile(file, []byte(strings.ReplaceAll(string(was), "Require user", "Require usr")), 0o644))
	if got, err := a.Beside.Read(t.Context()); err != nil || got["domains"] != "the list of dossier was changed by hand" {
		t.Errorf("changed by hand: %v %v", got, err)
	}
	if got := status("GET", note, "bo@ilvane.example", ""); got != 500 {
		t.Errorf("a broken list lets in: %d", got)
	}
	set("domains", "only: ilvane.example")
	if got := status("GET", note, "bo@ilvane.example", ""); got != 200 {
		t.Errorf("written again: %d", got)
	}
}
