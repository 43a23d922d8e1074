package servers_test

import (
	"fmt"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wexillum.example/internal/beside"
)

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
	if v, err := c.Beside.Read(t.Context()); err != nil ||
		!strings.Contains(v["calendars"], "1 rights are otherwise, as anyone of user/uma/#calendars/Default") {
		t.Errorf("changed by hand: %v %v", v, err)
	}
	set("calendars", "nothing")
	tell("written again", nothing)
	for path, value := range map[string]string{"calendars": "subject", "readers": "some: a.example",
		"charter:@x@else.example": "calendars=busy", "charter:a.example": "readers=only:", "colour": "red"} {
		if err := c.Beside.Write(t.Context(), path, value); err == nil {
			t.Errorf("%s took %q", path, value)
		}
	}
}
