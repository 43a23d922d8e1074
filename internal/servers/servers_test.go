package servers_test

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/smtp"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/mailforward"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/connector/conform"
	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/mailpolicy"
	"wexillum.example/internal/servers"
	"wexillum.example/internal/standin"
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
		for _, x := range [][2]string{{"PUT", "bo@ilvane.example"}, {"GET", "bo@ilvane.example"}, {"GET", "ada@ilvane.example"}, {"PUT", "ada@ilvane.example"}, {"DELETE", "ada@ilvane.example"}, {"GET", "cy@shut.example"}, {"GET", "eve@ilvane.example"}, {"GET", ""}} {
			got = append(got, strings.TrimSpace(x[0]+" "+strings.Split(x[1], "@")[0])+" "+http.StatusText(status(x[0], note, x[1], "the rope")))
		}
		if all := strings.Join(got, ", "); all != want {
			t.Errorf("%s: %s\nwant %s\n%s", when, all, want, a.Said())
		}
	}
	tell("at first", "PUT bo Created, GET bo OK, GET ada OK, PUT ada Forbidden, DELETE ada Forbidden, GET cy Forbidden, GET eve Forbidden, GET Unauthorized")
	set("domains", "not: ilvane.example")
	tell("the list turned round", "PUT bo Forbidden, GET bo Forbidden, GET ada Forbidden, PUT ada Forbidden, DELETE ada Forbidden, GET cy OK, GET eve Forbidden, GET Unauthorized")
	set("domains", "only: shut.example, ilvane.example")
	put("accounts", map[string]string{"account": "bo@ilvane.example", "state": "off"})
	check(t, a.Beside.Drop(t.Context(), "access", "ada@ilvane.example dossier"))
	tell("one out, one without a role", "PUT bo Unauthorized, GET bo Unauthorized, GET ada Forbidden, PUT ada Forbidden, DELETE ada Forbidden, GET cy OK, GET eve Forbidden, GET Unauthorized")
	put("accounts", map[string]string{"account": "bo@ilvane.example", "state": "on"})
	if got := status("GET", note, "bo@ilvane.example", ""); got != 200 {
		t.Errorf("back, with the password of before: %d", got)
	}

	// A link: while it lasts, after its end, ended, with links off; never to write; and no way round it.
	link := func(until time.Time) string {
		t.Helper()
		put("links", map[string]string{"mark": "press", "folder": "dossier", "may": "read", "until": until.UTC().Format(time.RFC3339), "by": "uma@ours.example"})
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
	for what, got := range map[string]int{"a link to write": status("PUT", url, "", "x"), "past it": status("GET", a.URL+"/open/spaces/dossier/note.txt", "", ""), "the lists": status("GET", a.URL+"/spaces/dossier/.htaccess", "bo@ilvane.example", "")} {
		if got != 403 {
			t.Errorf("%s: %d", what, got)
		}
	}
	if k, err := a.Beside.One(t.Context(), "links", "press"); err != nil || k == nil || k.Opened == nil || *k.Opened != 0 || k.By != "uma@ours.example" {
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

// TestChat is about a real XMPP server that federates with a partner's: who writes to whom, in each direction, and
// calls; at both ends, on the wire.
func TestChat(t *testing.T) {
	r := root(t)
	ca, err := servers.NewAuthority()
	check(t, err)
	names, err := servers.NewNames()
	check(t, err)
	defer names.Close()
	ours, err := r.Prosody(t.Context(), "ours.example", names, ca)
	check(t, err)
	defer ours.Stop()
	theirs, err := r.Ejabberd(t.Context(), "partner.example", names, ca)
	check(t, err)
	defer theirs.Stop()
	uma, err := ours.Account(t.Context(), "uma", "ours.example", "pass")
	check(t, err)
	ada, err := theirs.Account(t.Context(), "ada", "pass")
	check(t, err)
	ours.Beside.Ours, ours.Beside.Out = uma, []xmppchat.Account{ada}
	in := map[string]*xmppchat.Client{}
	for _, a := range []xmppchat.Account{uma, ada} {
		c, err := xmppchat.SignIn(t.Context(), a, ca.Pool)
		check(t, err)
		defer c.Leave()
		in[a.Address] = c
	}
	sends := func() string {
		t.Helper()
		var got []string
		for _, x := range []struct {
			what     string
			from, to string
			call     bool
		}{{"in", ada.Address, uma.Address, false}, {"out", uma.Address, ada.Address, false}, {"call in", ada.Address, uma.Address, true}} {
			arrived, says, err := xmppchat.Send(t.Context(), in[x.from], in[x.to], x.call)
			switch {
			case err != nil:
				says = err.Error()
			case arrived:
				says = "arrived"
			}
			got = append(got, x.what+": "+says)
		}
		return strings.Join(got, ", ")
	}
	tell := func(when, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(5 * time.Second); got != want && time.Now().Before(end); { // the server reads its rules when it is told to, a moment later
			got = sends()
		}
		if got != want {
			t.Errorf("%s: %s\nwant %s\n%s", when, got, want, ours.Said())
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, ours.Beside.Write(t.Context(), path, value))
	}
	tell("shut", "in: from: this domain is not admitted, out: to: this domain is not admitted, call in: calls with people elsewhere")
	set("from", "only: partner.example")
	tell("in alone", "in: arrived, out: to: this domain is not admitted, call in: calls with people elsewhere")
	set("to", "not:")
	set("calls", "let through")
	tell("both ways", "in: arrived, out: arrived, call in: arrived")
	set("from", "not: partner.example")
	tell("all but them", "in: from: this domain is not admitted, out: arrived, call in: from: this domain is not admitted")
	conforms(t, ours.Beside, "ada@partner.example", 9)

	// Whether one of ours is there is seen elsewhere, or not.
	set("from", "only: partner.example")
	set("to", "only: partner.example")
	tell("open", "in: arrived, out: arrived, call in: arrived")
	for _, x := range []struct {
		presence string
		want     bool
	}{{"nobody", false}, {"contacts", true}, {"nobody", false}} {
		set("presence", x.presence)
		var got bool
		for end := time.Now().Add(5 * time.Second); ; { // the server reads its rules a moment later
			got, err = xmppchat.Appear(t.Context(), in[uma.Address], in[ada.Address])
			if err == nil && got == x.want || time.Now().After(end) {
				break
			}
		}
		if err != nil || got != x.want {
			t.Errorf("presence %s: seen %t %v", x.presence, got, err)
		}
	}

	// A server whose certificate is of nobody that ours knows speaks for its domain to nobody, though the lists let it in.
	others, err := servers.NewAuthority()
	check(t, err)
	forged, err := r.Prosody(t.Context(), "false.example", names, others)
	check(t, err)
	defer forged.Stop()
	liar, err := forged.Account(t.Context(), "ada", "false.example", "pass")
	check(t, err)
	check(t, forged.Beside.Write(t.Context(), "from", "not:"))
	check(t, forged.Beside.Write(t.Context(), "to", "not:"))
	set("from", "not:")
	set("to", "not:")
	lies, err := xmppchat.SignIn(t.Context(), liar, others.Pool)
	check(t, err)
	defer lies.Leave()
	for _, x := range [][2]*xmppchat.Client{{lies, in[uma.Address]}, {in[uma.Address], lies}} {
		arrived, says, err := xmppchat.Send(t.Context(), x[0], x[1], false)
		if arrived {
			t.Errorf("a server with a certificate of nobody's is spoken to: %q %v", says, err)
		}
		t.Logf("a certificate of nobody's: %q %v", says, err)
	}

	// One of ours has lists of their own; nobody else has.
	ben, err := ours.Account(t.Context(), "ben", "ours.example", "pass")
	check(t, err)
	bea, err := theirs.Account(t.Context(), "bea", "pass")
	check(t, err)
	for _, a := range []xmppchat.Account{ben, bea} {
		c, err := xmppchat.SignIn(t.Context(), a, ca.Pool)
		check(t, err)
		defer c.Leave()
		in[a.Address] = c
	}
	pairs := func(when, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(5 * time.Second); got != want && time.Now().Before(end); {
			var list []string
			for _, x := range [][2]xmppchat.Account{{ada, uma}, {bea, uma}, {ada, ben}, {uma, ada}, {uma, bea}, {ben, ada}} {
				if arrived, _, err := xmppchat.Send(t.Context(), in[x[0].Address], in[x[1].Address], false); err == nil && arrived {
					list = append(list, x[0].Address[:3]+" to "+x[1].Address[:3])
				}
			}
			got = strings.Join(list, ", ")
		}
		if got != want {
			t.Errorf("%s: %s\nwant %s", when, got, want)
		}
	}
	set("from", "only:")
	set("to", "only:")
	pairs("shut", "")
	set("charter:@uma@ours.example", "calls=refused; presence=nobody; from=only: partner.example; to=only: partner.example")
	pairs("one of ours", "ada to uma, bea to uma, uma to ada, uma to bea")
	set("charter:@uma@ours.example", "calls=refused; presence=nobody; from=only: !ada@partner.example, partner.example; to=only: bea@partner.example")
	pairs("with some of them", "bea to uma, uma to bea")
	set("from", "not:")
	set("to", "not:")
	set("charter:@uma@ours.example", "calls=refused; presence=nobody; from=only:; to=not: ada@partner.example")
	pairs("shut but for some", "ada to ben, uma to bea, ben to ada")
	set("charter:@uma@ours.example", "")
	pairs("taken back", "ada to uma, bea to uma, ada to ben, uma to ada, uma to bea, ben to ada")
	for value, want := range map[string]string{"calls=refused": "presence is one of", "calls=refused; presence=nobody; from=only:; to=some:": "domains are written as", "x": "write name=value"} {
		if err := ours.Beside.Write(t.Context(), "charter:@uma@ours.example", value); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", value, err)
		}
	}
	if err := ours.Beside.Write(t.Context(), "charter:@uma@elsewhere.example", ""); err == nil || !strings.Contains(err.Error(), "nobody of ours.example") {
		t.Errorf("somebody elsewhere: %v", err)
	}

	// A room: who is no member is not let in, whoever is made one is, and is out at once when it is taken away.
	set("from", "only: partner.example")
	set("to", "only: partner.example")
	put := func(kind string, f map[string]string) {
		t.Helper()
		if _, err := ours.Beside.Put(t.Context(), kind, "", f); err != nil {
			t.Fatal(err)
		}
	}
	put("rooms", map[string]string{"room": "dossier", "title": "Dossier"})
	enters := func() string {
		t.Helper()
		says, err := in[ada.Address].Enter(t.Context(), "dossier@rooms.ours.example", "ada")
		check(t, err)
		return says
	}
	if got := enters(); got != "registration-required" {
		t.Errorf("no member: %q", got)
	}
	put("members", map[string]string{"who": ada.Address, "room": "dossier", "may": "member"})
	if got := enters(); got != "" {
		t.Errorf("a member: %q", got)
	}
	check(t, ours.Beside.Drop(t.Context(), "members", ada.Address+" dossier"))
	there, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	if _, ok := in[ada.Address].Await(there, func(x xmppchat.Stanza) bool { return x.Kind == "presence" && x.Type == "unavailable" }); !ok {
		t.Error("whoever is inside stays inside")
	}
	if got := enters(); got != "registration-required" {
		t.Errorf("no member any more: %q", got)
	}
}

// TestCalendars is about a real CalDAV server: what people of which domains read of our calendars.
func TestCalendars(t *testing.T) {
	r := root(t)
	c, err := r.Radicale(t.Context(), "ours.example")
	check(t, err)
	defer c.Stop()
	dav := beside.DAV{Server: c.Beside.Config.Server}
	who := []string{"uma@ours.example", "ada@ilvane.example", "bo@lab.ilvane.example", "cy@shut.example"}
	for _, a := range who {
		check(t, c.Beside.SetPassword(a, "pass"))
	}
	event, err := c.Beside.Calendar(t.Context(), who[0], "pass")
	if err != nil {
		t.Fatal(err, c.Said())
	}
	tell := func(when, want string) {
		t.Helper()
		var got []string
		for _, a := range who {
			for _, m := range []string{"GET", "PUT"} {
				x, err := dav.Ask(t.Context(), m, event, a, "pass", "text/calendar", "")
				check(t, err)
				if m == "GET" || x.Status == 201 || x.Status == 204 { // writing, only where somebody may
					name, _, _ := strings.Cut(a, "@")
					got = append(got, name+" "+m+" "+http.StatusText(x.Status))
				}
			}
		}
		if all := strings.Join(got, ", "); all != want {
			t.Errorf("%s: %s\nwant %s\n%s", when, all, want, c.Said())
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, c.Beside.Write(t.Context(), path, value))
	}
	tell("shut", "uma GET OK, ada GET Forbidden, bo GET Forbidden, cy GET Forbidden")
	set("readers", "only: ilvane.example")
	tell("a list alone opens nothing", "uma GET OK, ada GET Forbidden, bo GET Forbidden, cy GET Forbidden")
	set("calendars", "everything")
	tell("one domain", "uma GET OK, ada GET OK, bo GET Forbidden, cy GET Forbidden")
	set("readers", "only: *.ilvane.example, ilvane.example")
	tell("and below it", "uma GET OK, ada GET OK, bo GET OK, cy GET Forbidden")
	set("readers", "not: ilvane.example")
	tell("all but them", "uma GET OK, ada GET Forbidden, bo GET OK, cy GET OK")
	set("calendars", "nothing")
	tell("nothing", "uma GET OK, ada GET Forbidden, bo GET Forbidden, cy GET Forbidden")
	set("calendars", "everything")
	set("readers", "only: !bo@lab.ilvane.example, *.ilvane.example, ilvane.example, cy@shut.example")
	tell("addresses", "uma GET OK, ada GET OK, bo GET Forbidden, cy GET OK")
	set("readers", "not: !bo@lab.ilvane.example, *.ilvane.example, cy@shut.example")
	tell("all but them, but one", "uma GET OK, ada GET OK, bo GET OK, cy GET Forbidden")
	set("calendars", "nothing")
	conforms(t, c.Beside, "", 7)
	f := filepath.Join(c.Folder, "rights")
	was, err := os.ReadFile(f)
	check(t, err)
	check(t, os.WriteFile(f, append(was, "\n[by hand]\nuser: .*\ncollection: .*\npermissions: RrWw\n"...), 0o644))
	if got, err := c.Beside.Read(t.Context()); err != nil || got["calendars"] != "the rights were changed by hand" {
		t.Errorf("changed by hand: %v %v", got, err)
	}
	check(t, os.WriteFile(f, []byte("[broken"), 0o644))
	if x, err := dav.Ask(t.Context(), "GET", event, who[1], "pass", "", ""); err != nil || x.Status < 400 {
		t.Errorf("a broken file lets in: %d %v", x.Status, err)
	}
	set("readers", "only:")
	tell("written again", "uma GET OK, ada GET Forbidden, bo GET Forbidden, cy GET Forbidden")
}

// TestBusy is about a calendar server that knows when somebody is busy besides: who elsewhere sees nothing, that, or everything
// of a calendar, by query and by reading.
func TestBusy(t *testing.T) {
	r := root(t)
	c, err := r.Cyrus(t.Context(), "ours.example")
	check(t, err)
	defer c.Stop()
	const uma, eva = "uma@ours.example", "eva@ours.example"
	who := []string{"ada@ilvane.example", "bo@lab.ilvane.example", "cy@shut.example"}
	for _, a := range append([]string{uma, eva}, who...) {
		check(t, c.Account(t.Context(), a, "pass"))
		check(t, c.Beside.Home(t.Context(), a))
	}
	events := map[string]string{}
	for _, a := range []string{uma, eva} {
		if events[a], err = c.Beside.Event(t.Context(), a, "pass"); err != nil {
			t.Fatal(err, c.Said())
		}
	}
	tell := func(when, want string) {
		t.Helper()
		var got []string
		for _, owner := range []string{uma, eva} {
			for _, a := range who {
				busy, read, err := c.Beside.Looks(t.Context(), events[owner], owner, a, "pass")
				check(t, err)
				sees := "nothing"
				switch b, r := busy.Status == 200 && strings.Contains(busy.Body, "\nFREEBUSY"), read.Status == 200; {
				case r && strings.Contains(read.Body, "a trial"):
					sees = "everything"
				case b:
					if sees = "busy"; strings.Contains(busy.Body, "a trial") {
						t.Errorf("%s: when somebody is busy says with what:\n%s", when, busy.Body)
					}
				case r || busy.Status == 200:
					sees = fmt.Sprintf("%s, %s", busy.Text, read.Text)
				}
				got = append(got, owner[:3]+" "+a[:2]+" "+sees)
			}
		}
		if all := strings.Join(got, ", "); all != want {
			t.Errorf("%s: %s\nwant %s\n%s", when, all, want, c.Said())
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, c.Beside.Write(t.Context(), path, value))
	}
	const nothing = "uma ad nothing, uma bo nothing, uma cy nothing, eva ad nothing, eva bo nothing, eva cy nothing"
	tell("shut", nothing)
	set("readers", "only: ilvane.example")
	tell("a list alone opens nothing", nothing)
	set("calendars", "busy")
	tell("when they are busy", "uma ad busy, uma bo nothing, uma cy nothing, eva ad busy, eva bo nothing, eva cy nothing")
	set("readers", "not: shut.example")
	set("charter:*.ilvane.example", "calendars=everything")
	tell("a partner's own", "uma ad busy, uma bo everything, uma cy nothing, eva ad busy, eva bo everything, eva cy nothing")
	set("charter:@uma@ours.example", "calendars=nothing")
	tell("one of ours", "uma ad nothing, uma bo nothing, uma cy nothing, eva ad busy, eva bo everything, eva cy nothing")
	set("charter:@uma@ours.example", "")
	set("charter:*.ilvane.example", "")
	set("calendars", "everything")
	tell("everything", "uma ad everything, uma bo everything, uma cy nothing, eva ad everything, eva bo everything, eva cy nothing")
	set("calendars", "nothing")
	tell("shut again", nothing)
	conforms(t, c.Beside, "", 8)
	tell("after all that", nothing)
	if v, err := c.Beside.Read(t.Context()); err != nil || v["calendars"] != "nothing" {
		t.Errorf("%v %v", v, err)
	}
	check(t, c.Beside.Turn(t.Context(), uma, "anyone", "lr9")) // by hand, as the server's administrator
	if v, err := c.Beside.Read(t.Context()); err != nil || !strings.Contains(v["calendars"], "1 rights are otherwise, as anyone of user/uma/#calendars/Default") {
		t.Errorf("changed by hand: %v %v", v, err)
	}
	set("calendars", "nothing")
	tell("written again", nothing)
	for path, value := range map[string]string{"calendars": "subject", "readers": "some: a.example", "charter:@x@else.example": "calendars=busy", "charter:a.example": "readers=only:", "colour": "red"} {
		if err := c.Beside.Write(t.Context(), path, value); err == nil {
			t.Errorf("%s took %q", path, value)
		}
	}
}

// TestDirectory is about a real directory server: who signs in from it, and what a guest looks up there.
func TestDirectory(t *testing.T) {
	r := root(t)
	d, err := r.Slapd(t.Context(), "ours.example")
	check(t, err)
	defer d.Stop()
	conforms(t, d.Beside, "", 11)
	if _, err := d.Beside.Put(t.Context(), "people", "", map[string]string{"mail": "uma@ours.example", "name": "Uma"}); err != nil {
		t.Fatal(err)
	}
	check(t, d.Beside.Reach("uma@ours.example", "+351 1", "keeper"))
	put := func(state string) {
		t.Helper()
		if _, err := d.Beside.Put(t.Context(), "guests", "", map[string]string{"mail": "ada@ilvane.example", "state": state, "sponsor": "uma@ours.example"}); err != nil {
			t.Fatal(err)
		}
	}
	put("guest")
	check(t, d.Beside.SetPassword("ada@ilvane.example", "pass"))
	tell := func(when, want string) {
		t.Helper()
		found, in, err := d.Beside.Look("ada@ilvane.example", "pass")
		check(t, err)
		if got := fmt.Sprintf("in %t, finds %s", in, strings.Join(found, ", ")); got != want {
			t.Errorf("%s: %s, want %s", when, got, want)
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, d.Beside.Write(t.Context(), path, value))
	}
	tell("shut", "in false, finds ")
	set("guests", "let in")
	tell("let in", "in true, finds ")
	set("people seen", "everybody")
	tell("names", "in true, finds Uma (cn)")
	set("profile seen", "name and how to reach them")
	tell("how to reach them", "in true, finds Uma (cn mail telephoneNumber)")
	set("profile seen", "everything")
	tell("everything", "in true, finds Uma (cn mail telephoneNumber title)")
	put("suspended")
	tell("suspended", "in false, finds ")
	put("guest")
	tell("back, with the password of before", "in true, finds Uma (cn mail telephoneNumber title)")
	set("people seen", "nobody")
	tell("nobody is found", "in true, finds ")
	check(t, d.Beside.Drop(t.Context(), "guests", "ada@ilvane.example"))
	tell("gone", "in false, finds ")
	// Groups, with people of ours and guests in them.
	is := func(kind, id, field, want string) {
		t.Helper()
		if k, err := d.Beside.One(t.Context(), kind, id); err != nil || k == nil || k.Fields[field] != want {
			t.Errorf("%s %s: %+v %v, want %s %q", kind, id, k, err, field, want)
		}
	}
	all := func(kind string, f map[string]string) {
		t.Helper()
		if _, err := d.Beside.Put(t.Context(), kind, "", f); err != nil {
			t.Fatal(err)
		}
	}
	all("groups", map[string]string{"group": "press", "name": "Press, and friends"})
	all("groups", map[string]string{"group": "deck", "name": "Deck"})
	all("people", map[string]string{"mail": "uma@ours.example", "name": "Uma Ours", "groups": "deck press"})
	all("guests", map[string]string{"mail": "ada@ilvane.example", "state": "guest", "groups": "press"})
	is("groups", "press", "name", "Press, and friends")
	is("people", "uma@ours.example", "groups", "deck press")
	all("guests", map[string]string{"mail": "ada@ilvane.example", "state": "suspended", "groups": "press"})
	is("guests", "ada@ilvane.example", "groups", "press")
	all("people", map[string]string{"mail": "uma@ours.example", "name": "Uma", "groups": "deck"})
	is("people", "uma@ours.example", "groups", "deck")
	if _, err := d.Beside.Put(t.Context(), "people", "", map[string]string{"mail": "uma@ours.example", "name": "Uma", "groups": "nowhere"}); err == nil || !strings.Contains(err.Error(), `there is no group "nowhere"`) {
		t.Errorf("a group that is not there: %v", err)
	}
	for _, x := range [][2]string{{"people", "uma@ours.example"}, {"guests", "ada@ilvane.example"}, {"groups", "press"}, {"groups", "deck"}, {"groups", "never"}} {
		check(t, d.Beside.Drop(t.Context(), x[0], x[1]))
		if k, err := d.Beside.One(t.Context(), x[0], x[1]); err != nil || k != nil {
			t.Errorf("%v is still there: %+v %v", x, k, err)
		}
	}
	for _, odd := range []string{"ada+list@ilvane.example", "#1=a@ilvane.example"} { // what a name of the directory would read otherwise (RFC 4514)
		for _, state := range []string{"guest", "suspended", "guest"} {
			if id, err := d.Beside.Put(t.Context(), "guests", "", map[string]string{"mail": odd, "state": state}); err != nil || id != odd {
				t.Errorf("%s: %s %v", odd, id, err)
			}
			if k, err := d.Beside.One(t.Context(), "guests", odd); err != nil || k == nil || k.Fields["state"] != state {
				t.Errorf("%s: %+v %v", odd, k, err)
			}
		}
		check(t, d.Beside.Drop(t.Context(), "guests", odd))
		if k, err := d.Beside.One(t.Context(), "guests", odd); err != nil || k != nil {
			t.Errorf("%s is still there: %+v %v", odd, k, err)
		}
	}
}

// TestGuestsOfTheChat is about a chat that signs guests in from a directory: who is out there is out here, with what they had open.
func TestGuestsOfTheChat(t *testing.T) {
	r := root(t)
	ca, err := servers.NewAuthority()
	check(t, err)
	names, err := servers.NewNames()
	check(t, err)
	defer names.Close()
	d, err := r.Slapd(t.Context(), "ours.example")
	check(t, err)
	defer d.Stop()
	chat, err := r.Prosody(t.Context(), "ours.example", names, ca, d)
	check(t, err)
	defer chat.Stop()
	uma, err := chat.Account(t.Context(), "uma", "ours.example", "pass")
	check(t, err)
	ours, err := xmppchat.SignIn(t.Context(), uma, ca.Pool)
	check(t, err)
	defer ours.Leave()
	const ada = "ada@ilvane.example"
	put := func(state string) {
		t.Helper()
		if _, err := d.Beside.Put(t.Context(), "guests", "", map[string]string{"mail": ada, "state": state}); err != nil {
			t.Fatal(err)
		}
	}
	put("guest")
	check(t, d.Beside.SetPassword(ada, "pass"))
	guest := xmppchat.Account{Address: `ada\40ilvane.example@guests.ours.example`, Password: "pass", Server: uma.Server}
	if _, err := xmppchat.SignIn(t.Context(), guest, ca.Pool); err == nil {
		t.Error("guests sign in, though the directory lets none in")
	}
	check(t, d.Beside.Write(t.Context(), "guests", "let in"))
	in, err := xmppchat.SignIn(t.Context(), guest, ca.Pool)
	if err != nil {
		t.Fatal(err, chat.Said())
	}
	if arrived, says, err := xmppchat.Send(t.Context(), in, ours, false); !arrived {
		t.Errorf("a guest writes to one of ours: %q %v", says, err)
	}
	put("suspended")
	within, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	if _, ok := in.Await(within, func(xmppchat.Stanza) bool { return false }); ok || within.Err() != nil {
		t.Errorf("what a guest had open stays open: %v", within.Err())
	}
	if _, err := xmppchat.SignIn(t.Context(), guest, ca.Pool); err == nil {
		t.Error("a suspended guest signs in")
	}
	put("guest")
	back, err := xmppchat.SignIn(t.Context(), guest, ca.Pool)
	if err != nil {
		t.Fatal("back, with the password of before:", err)
	}
	back.Leave()
	check(t, d.Beside.Drop(t.Context(), "guests", ada))
	if _, err := xmppchat.SignIn(t.Context(), guest, ca.Pool); err == nil {
		t.Error("somebody who is no guest any more signs in")
	}
}

// TestMail is about a real mail server that asks us before each letter goes on: a letter from outside comes into the
// mailbox, and goes on where it may.
func TestMail(t *testing.T) {
	r := root(t)
	outside, err := standin.NewMailServer("127.0.0.1:0", "")
	check(t, err)
	defer outside.Close()
	_, port, err := net.SplitHostPort(outside.Address)
	check(t, err)
	out, err := strconv.Atoi(port)
	check(t, err)
	var mu sync.Mutex
	may := map[string]bool{}
	let := func(mailbox, to string, is bool) { mu.Lock(); defer mu.Unlock(); may[mailbox+" "+to] = is }
	policy, err := mailpolicy.Listen("127.0.0.1:0", func(_ context.Context, mailbox, to string) (bool, string, bool, error) {
		mu.Lock()
		defer mu.Unlock()
		return may[mailbox+" "+to], "mail.forward: this domain is not listed", true, nil
	}, slog.New(slog.DiscardHandler))
	check(t, err)
	_, port, err = net.SplitHostPort(policy.Address())
	check(t, err)
	at, err := strconv.Atoi(port)
	check(t, err)
	m, err := r.Mail(t.Context(), "ours.example", out, at)
	check(t, err)
	defer m.Stop()
	conforms(t, m.Beside, "", 6)
	put := func(box, to, copied, by string) {
		t.Helper()
		if _, err := m.Beside.Put(t.Context(), "scripts", "", map[string]string{"mailbox": box, "to": to, "copy": copied, "by": by}); err != nil {
			t.Fatal(err)
		}
	}
	n := 0
	// letter sends a letter from outside and says where it arrived: in the mailbox, and at which addresses elsewhere.
	letter := func(box string) string {
		t.Helper()
		n++
		subject := fmt.Sprintf("letter %d", n)
		check(t, smtp.SendMail(m.In, nil, "someone@far.example", []string{box}, []byte("Subject: "+subject+"\r\nFrom: someone@far.example\r\nTo: "+box+"\r\n\r\nhello\r\n")))
		where := func() (got []string) {
			_ = filepath.WalkDir(filepath.Join(m.Folder, "mail", box), func(p string, d os.DirEntry, err error) error {
				if err == nil && !d.IsDir() && strings.Contains(p, "/new/") {
					if b, _ := os.ReadFile(p); strings.Contains(string(b), subject+"\n") || strings.Contains(string(b), subject+"\r\n") {
						got = append(got, "the mailbox")
					}
				}
				return nil
			})
			list, _ := outside.Messages()
			for _, x := range list {
				if x.Subject == subject || strings.Contains(x.Text, "Subject: "+subject+"\n") || strings.Contains(x.Text, "Subject: "+subject+"\r\n") { // a bounce holds it
					got = append(got, x.To...)
				}
			}
			return
		}
		last, still := "", 0
		for end := time.Now().Add(20 * time.Second); time.Now().Before(end); time.Sleep(50 * time.Millisecond) { // until nothing more comes
			now := strings.Join(where(), ", ")
			if now == last && now != "" {
				still++
			} else {
				still = 0
			}
			if last = now; still == 20 {
				break
			}
		}
		return last
	}
	const uma, home = "uma@ours.example", "uma@homepost.example"
	tell := func(when, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(8 * time.Second); got != want && time.Now().Before(end); { // the server reads its tables again a moment later
			got = letter(uma)
		}
		if got != want {
			b, _ := os.ReadFile(filepath.Join(m.Folder, "maillog"))
			d, _ := os.ReadFile(filepath.Join(m.Folder, "dovecot.log"))
			t.Errorf("%s: it arrived in %q, want %q\n%s\n%s", when, got, want, b, d)
		}
	}
	tell("no forward", "the mailbox")
	put(uma, home, "not kept", "owner")
	tell("it may not go on: it stays", "the mailbox")
	let(uma, home, true)
	tell("it may, no copy", home)
	put(uma, home, "kept", "owner")
	tell("it may, with a copy", "the mailbox, "+home)
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+home))
	// An administrator's alias goes where the list lets it; its sender is told where it does not.
	aliases := func(list string) {
		t.Helper()
		check(t, m.Beside.Write(t.Context(), "aliases", list))
	}
	const desk = "desk@ilvane.example"
	put(uma, desk, "kept", "administrator")
	tell("by an administrator, to nowhere", "the mailbox, someone@far.example")
	aliases("only: ilvane.example")
	tell("to a domain that is listed", "the mailbox, desk@ilvane.example")
	put(uma, desk, "not kept", "administrator")
	tell("without a copy", "desk@ilvane.example")
	put(uma, home, "kept", "owner")
	tell("and a script of their own, which is not run for mail that does not arrive", "desk@ilvane.example")
	put(uma, desk, "kept", "administrator")
	let(uma, home, true)
	tell("both", "the mailbox, desk@ilvane.example, "+home)
	aliases("not: ilvane.example")
	tell("all but them", "the mailbox, "+home+", someone@far.example")
	aliases("not: *.ilvane.example")
	tell("but those below", "the mailbox, desk@ilvane.example, "+home)
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+desk))
	tell("the alias taken away", "the mailbox, "+home)
	if k, err := m.Beside.One(t.Context(), "scripts", uma+" "+desk); err != nil || k != nil {
		t.Errorf("%+v %v", k, err)
	}
	check(t, m.Beside.Drop(t.Context(), "scripts", uma+" "+home))

	// Nobody answers: it refuses, and a trial says so.
	try := func() string {
		t.Helper()
		x, err := m.Beside.Try(t.Context(), native.Attempt{Action: "mail.forward", As: native.OneOurs, From: uma, To: home})
		check(t, err)
		return fmt.Sprint(x.Admitted, " ", x.Says)
	}
	if got := try(); got != "true it would go on" {
		t.Error(got)
	}
	if v, err := m.Beside.Read(t.Context()); err != nil || v["asks"] != "yes" || v["unanswered"] != "refused" {
		t.Errorf("%v %v", v, err)
	}
	check(t, policy.Close())
	if got := try(); !strings.Contains(got, "false") || !strings.Contains(got, "nobody answers whether this may go on") {
		t.Errorf("nobody answers: %s", got)
	}
}

var many = flag.Int("many", 0, "so many shares and forwards are made and read, with how long that takes; none without it")

// TestMany reads very many shares and forwards, as they are read of a server that has been used for years.
func TestMany(t *testing.T) {
	if *many == 0 {
		t.Skip("-many says how many")
	}
	r := root(t)
	a, err := r.Apache(t.Context(), nil)
	check(t, err)
	defer a.Stop()
	m := &mailforward.Server{Config: mailforward.Config{Own: t.TempDir(), Before: t.TempDir()}}
	for i := range *many {
		_, err := a.Beside.Put(t.Context(), "access", "", map[string]string{"account": fmt.Sprintf("guest%d@ilvane.example", i), "folder": fmt.Sprintf("space%d", i), "may": "read"})
		check(t, err)
		_, err = m.Put(t.Context(), "scripts", "", map[string]string{"mailbox": fmt.Sprintf("p%d@ours.example", i), "to": fmt.Sprintf("p%d@far.example", i), "copy": "kept", "by": "owner"})
		check(t, err)
	}
	for _, x := range []struct {
		s    beside.Server
		kind string
	}{{a.Beside, "access"}, {m, "scripts"}} {
		srv := httptest.NewServer(beside.Handler(x.s, "token"))
		c, err := open.New(srv.URL, "token")
		check(t, err)
		var before, after runtime.MemStats
		runtime.GC()
		runtime.ReadMemStats(&before)
		began, n := time.Now(), 0
		check(t, c.List(t.Context(), x.kind, func(native.Kept) error { n++; return nil }))
		took := time.Since(began)
		runtime.ReadMemStats(&after)
		srv.Close()
		if n != *many {
			t.Errorf("%d of %d %s", n, *many, x.kind)
		}
		t.Logf("%d %s read in %v, %d MB in use behind it", n, x.kind, took.Round(time.Millisecond), (after.HeapAlloc-min(after.HeapAlloc, before.HeapAlloc))>>20)
	}
}

// TestMeetings is about a real conference server: who comes into a room, with the passcode or without it, before the host or
// after them, past the reception or not at all; and who is put out.
func TestMeetings(t *testing.T) {
	r := root(t)
	var mu sync.Mutex
	may := map[string]videorooms.Asked{}
	let := func(address, action string, x videorooms.Asked) {
		mu.Lock()
		defer mu.Unlock()
		may[address+" "+action] = x
	}
	silent := false
	j, err := r.Janus(t.Context(), []string{"ours.example"}, 50*time.Millisecond, func(_ context.Context, address, action, _ string) (videorooms.Asked, error) {
		mu.Lock()
		defer mu.Unlock()
		if silent {
			return videorooms.Asked{}, errors.New("it does not answer")
		}
		x, ok := may[address+" "+action]
		if !ok {
			x.Says = "meetings.outsiders: this domain is not listed"
		}
		return x, nil
	})
	check(t, err)
	defer j.Stop()
	conforms(t, j.Beside, "", 6)
	put := func(id, title string) {
		t.Helper()
		if _, err := j.Beside.Put(t.Context(), "rooms", "", map[string]string{"room": id, "title": title, "host": "uma@ours.example"}); err != nil {
			t.Fatal(err, j.Said())
		}
	}
	put("weekly", "Weekly")
	const ada = "ada@ilvane.example"
	// comes says what happens to somebody who asks for a pass and goes in with it, typing a passcode or what came with the pass.
	comes := func(who string, types bool) (*videorooms.Joined, string) {
		t.Helper()
		p, says, err := j.Beside.Enter(t.Context(), "weekly", who)
		check(t, err)
		if says != "" {
			return nil, says
		}
		code := p.Passcode
		if types {
			code = "00000000"
		}
		in, says, err := j.Beside.Join(t.Context(), p, code)
		check(t, err)
		return in, says
	}
	tell := func(when, who string, types bool, want string) *videorooms.Joined {
		t.Helper()
		in, says := comes(who, types)
		if in != nil {
			says = "inside"
		}
		if says != want {
			t.Errorf("%s: %s, want %s", when, says, want)
		}
		return in
	}
	tell("not allowed", ada, false, "meetings.outsiders: this domain is not listed")
	let(ada, "meetings.join", videorooms.Asked{Yes: true})
	tell("before the host", ada, false, "meetings.outsiders: this domain is not listed")
	host := tell("one of ours", "uma@ours.example", false, "inside")
	in := tell("after the host", ada, false, "inside")
	in.Leave(t.Context())
	let(ada, "meetings.join", videorooms.Asked{Yes: true, Conditions: []string{"passcode"}})
	tell("without the passcode", ada, false, "Missing mandatory element (pin) (429)")
	tell("with a wrong one", ada, true, "Unauthorized (wrong pin) (433)")
	let(ada, "meetings.join", videorooms.Asked{Yes: true, Conditions: []string{"held_until_admitted"}})
	tell("who would have to wait", ada, false, "they would have to wait until somebody lets them in, and these rooms have no place to wait")
	let(ada, "meetings.join", videorooms.Asked{Yes: true})
	host.Leave(t.Context())
	tell("the host has left", ada, false, "meetings.outsiders: this domain is not listed")
	let(ada, "meetings.join_early", videorooms.Asked{Yes: true})
	in = tell("early, where that is allowed", ada, false, "inside")

	// Past the reception: without a pass, with one that was used, under a name of one's own.
	pass, _, err := j.Beside.Enter(t.Context(), "weekly", ada)
	check(t, err)
	used, says, err := j.Beside.Join(t.Context(), pass, pass.Passcode)
	check(t, err)
	if says != "" {
		t.Fatal(says)
	}
	check(t, j.Beside.Look(t.Context()))
	used.Leave(t.Context())
	bare := pass
	bare.Token = ""
	for what, p := range map[string]videorooms.Pass{"without a token": bare, "with one that was used": pass} {
		if x, says, err := j.Beside.Join(t.Context(), p, pass.Passcode); err != nil || x != nil || !strings.Contains(says, "433") {
			t.Errorf("%s: %v %q %v", what, x != nil, says, err)
		}
	}
	own, _, err := j.Beside.Enter(t.Context(), "weekly", ada)
	check(t, err)
	own.ID = "somebody"
	x, says, err := j.Beside.Join(t.Context(), own, own.Passcode)
	check(t, err)
	if says == "" { // the server does not know who they are: whoever is nobody's guest is put out
		within, stop := context.WithTimeout(t.Context(), 5*time.Second)
		defer stop()
		check(t, x.Out(within))
	}

	// A no while they are inside puts them out; silence does not, for a while.
	mu.Lock()
	silent = true
	mu.Unlock()
	check(t, j.Beside.Look(t.Context()))
	if k, err := j.Beside.Inside(t.Context(), "weekly"); err != nil || len(k) != 1 {
		t.Errorf("silence puts out: %v %v", k, err)
	}
	tell("nobody answers", ada, false, "nobody answers whether they may: it does not answer")
	mu.Lock()
	silent = false
	mu.Unlock()
	began := time.Now()
	let(ada, "meetings.join", videorooms.Asked{Says: "suspended"})
	within, stop := context.WithTimeout(t.Context(), 5*time.Second)
	defer stop()
	check(t, in.Out(within))
	t.Logf("put out after %v", time.Since(began))

	// The server is killed: its rooms are there again, and nobody is inside.
	j.Kill()
	check(t, j.Again(t.Context()))
	if k, err := j.Beside.One(t.Context(), "rooms", "weekly"); err != nil || k == nil || k.Fields["title"] != "Weekly" || k.Fields["host"] != "uma@ours.example" {
		t.Errorf("%+v %v", k, err)
	}
	// Titles with what would end them; a room that somebody else made.
	put("quoted", `He said "come in" \ {now}; 2`)
	if k, err := j.Beside.One(t.Context(), "rooms", "quoted"); err != nil || k == nil || k.Fields["title"] != `He said "come in" \ {now}; 2` {
		t.Errorf("%+v %v", k, err)
	}
	check(t, j.Beside.Drop(t.Context(), "rooms", "weekly"))
	if k, err := j.Beside.One(t.Context(), "rooms", "weekly"); err != nil || k != nil {
		t.Errorf("%+v %v", k, err)
	}
}

var fastest = flag.Int("fastest", 0, "how often it is measured how fast each server does what it is told itself; never without it")

// TestFastest measures what each server takes by itself: from the moment at which it is told by its own means until it counts on
// the wire. What publishing takes stands beside it in docs/systems.md.
func TestFastest(t *testing.T) {
	if *fastest == 0 {
		t.Skip("-fastest says how often")
	}
	r := root(t)
	measure := func(what string, do func(on bool), is func() bool) {
		t.Helper()
		var took []time.Duration
		for i := range 2 * *fastest {
			on := i%2 == 1
			began := time.Now()
			for do(on); is() != on; {
				if time.Since(began) > 10*time.Second {
					t.Fatalf("%s: not %t after 10 s", what, on)
				}
			}
			took = append(took, time.Since(began))
		}
		slices.Sort(took)
		t.Logf("%-46s %9v %9v", what, took[len(took)/2].Round(time.Millisecond), took[len(took)-1].Round(time.Millisecond))
	}
	word := func(on bool, yes, no string) string {
		if on {
			return yes
		}
		return no
	}
	t.Logf("%-46s %9s %9s", "told by the server's own means until it counts", "median", "worst")

	ca, err := servers.NewAuthority()
	check(t, err)
	names, err := servers.NewNames()
	check(t, err)
	defer names.Close()
	chat, err := r.Prosody(t.Context(), "ours.example", names, ca)
	check(t, err)
	defer chat.Stop()
	theirs, err := r.Prosody(t.Context(), "partner.example", names, ca)
	check(t, err)
	defer theirs.Stop()
	check(t, theirs.Beside.Write(t.Context(), "from", "not:"))
	check(t, theirs.Beside.Write(t.Context(), "to", "not:"))
	in := map[string]*xmppchat.Client{}
	for host, s := range map[string]*servers.Prosody{"ours.example": chat, "partner.example": theirs} {
		a, err := s.Account(t.Context(), "uma", host, "pass")
		check(t, err)
		c, err := xmppchat.SignIn(t.Context(), a, ca.Pool)
		check(t, err)
		defer c.Leave()
		in[host] = c
	}
	measure("chat: rules written, the server told", func(on bool) {
		check(t, chat.Beside.Write(t.Context(), "from", word(on, "only: partner.example", "only:")))
	}, func() bool {
		arrived, _, err := xmppchat.Send(t.Context(), in["partner.example"], in["ours.example"], false)
		check(t, err)
		return arrived
	})

	files, err := r.Apache(t.Context(), []string{"ours.example"})
	check(t, err)
	defer files.Stop()
	for _, x := range []struct {
		kind string
		f    map[string]string
	}{{"folders", map[string]string{"folder": "dossier", "title": "Dossier"}}, {"accounts", map[string]string{"account": "ada@ilvane.example", "state": "on"}}, {"access", map[string]string{"account": "ada@ilvane.example", "folder": "dossier", "may": "write"}}} {
		_, err := files.Beside.Put(t.Context(), x.kind, "", x.f)
		check(t, err)
	}
	check(t, files.Beside.SetPassword("ada@ilvane.example", "pass"))
	dav := beside.DAV{Server: files.URL}
	measure("files: a list written", func(on bool) {
		check(t, files.Beside.Write(t.Context(), "domains", word(on, "only: ilvane.example", "only:")))
	}, func() bool {
		x, err := dav.Ask(t.Context(), "PUT", "/spaces/dossier/note.txt", "ada@ilvane.example", "pass", "text/plain", "a rope")
		check(t, err)
		return x.Status/100 == 2
	})

	dir, err := r.Slapd(t.Context(), "ours.example")
	check(t, err)
	defer dir.Stop()
	check(t, dir.Beside.Write(t.Context(), "guests", "let in"))
	guest := func(on bool) {
		_, err := dir.Beside.Put(t.Context(), "guests", "", map[string]string{"mail": "ada@ilvane.example", "state": word(on, "guest", "suspended")})
		check(t, err)
	}
	guest(true)
	check(t, dir.Beside.SetPassword("ada@ilvane.example", "pass"))
	measure("directory: a guest moved", guest, func() bool {
		_, in, err := dir.Beside.Look("ada@ilvane.example", "pass")
		check(t, err)
		return in
	})

	cal, err := r.Cyrus(t.Context(), "ours.example")
	check(t, err)
	defer cal.Stop()
	for _, a := range []string{"uma@ours.example", "ada@ilvane.example"} {
		check(t, cal.Account(t.Context(), a, "pass"))
		check(t, cal.Beside.Home(t.Context(), a))
	}
	event, err := cal.Beside.Event(t.Context(), "uma@ours.example", "pass")
	check(t, err)
	check(t, cal.Beside.Write(t.Context(), "calendars", "everything"))
	measure("calendars: rights written", func(on bool) {
		check(t, cal.Beside.Write(t.Context(), "readers", word(on, "only: ilvane.example", "only:")))
	}, func() bool {
		_, read, err := cal.Beside.Looks(t.Context(), event, "uma@ours.example", "ada@ilvane.example", "pass")
		check(t, err)
		return read.Status == 200
	})

	var mu sync.Mutex
	may := false
	meet, err := r.Janus(t.Context(), []string{"ours.example"}, 500*time.Millisecond, func(context.Context, string, string, string) (videorooms.Asked, error) {
		mu.Lock()
		defer mu.Unlock()
		return videorooms.Asked{Yes: may, Says: "no"}, nil
	})
	check(t, err)
	defer meet.Stop()
	_, err = meet.Beside.Put(t.Context(), "rooms", "", map[string]string{"room": "weekly", "title": "Weekly"})
	check(t, err)
	var inside *videorooms.Joined
	measure("meetings: let in, and put out", func(on bool) {
		mu.Lock()
		defer mu.Unlock()
		may = on
	}, func() bool {
		if inside != nil { // until they are put out
			check(t, inside.Out(t.Context()))
			inside.Leave(t.Context())
			inside = nil
			return false
		}
		p, says, err := meet.Beside.Enter(t.Context(), "weekly", "ada@ilvane.example")
		check(t, err)
		if says == "" {
			inside, _, err = meet.Beside.Join(t.Context(), p, p.Passcode)
			check(t, err)
		}
		return inside != nil
	})
}
