package e2e

import (
	"context"
	"errors"
	"flag"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/mailpolicy"
	"wexillum.example/internal/servers"
	"wexillum.example/internal/service"
	"wexillum.example/internal/standin"
)

var rounds = flag.Int("rounds", 1, "how often each story is told to real servers")

// told keeps how long something took from being published here to counting on the wire.
type told map[string][]time.Duration

func (l told) print(t *testing.T, names []string) {
	t.Logf("%-46s %9s %9s", "from publishing to counting on the wire", "median", "worst")
	for _, n := range names {
		d := slices.Sorted(slices.Values(l[n]))
		t.Logf("%-46s %9v %9v", n, d[len(d)/2].Round(time.Millisecond), d[len(d)-1].Round(time.Millisecond))
	}
}

func portOf(t *testing.T, address string) int {
	t.Helper()
	_, text, err := net.SplitHostPort(address)
	check(t, err)
	n, err := strconv.Atoi(text)
	check(t, err)
	return n
}

// TestRealServers carries the demo world into real servers and tells their stories: a partner is suspended while a
// conversation runs, and comes back; a guest is suspended, and is out everywhere; a link opens and ends; somebody
// changes a server by its own files, and it is found and put back.
func TestRealServers(t *testing.T) {
	t.Parallel()
	root, err := servers.Open(t.Context(), servers.Kept(), os.Stderr)
	if errors.Is(err, servers.ErrRoot) {
		t.Skip(err)
	}
	check(t, err)
	r := demoService(t)
	check(t, suiteKey())
	outside, err := standin.NewMailServer("127.0.0.1:0", "")
	check(t, err)
	defer outside.Close()
	policy, err := mailpolicy.Listen("127.0.0.1:0", r.svc.MayForward, quiet)
	check(t, err)
	defer policy.Close()
	dir := t.TempDir()
	check(t, demo.Decides(t.Context(), r.svc, dir))
	out, asked := portOf(t, outside.Address), portOf(t, policy.Address())
	s, err := root.Suite(t.Context(), "brackwater.example", "ilvane.example",
		servers.Asked{Outside: out, Forwards: asked, Meetings: &videorooms.Decisions{URL: r.url, TokenFile: demo.TokenFile(dir)}})
	check(t, err)
	defer s.Stop()
	at := map[string]string{}
	for _, x := range s.Beside() {
		srv := httptest.NewServer(beside.Handler(x.Server, "pass"))
		t.Cleanup(srv.Close)
		at[x.Name] = srv.URL
	}
	r.svc.SetConnector(speaks)
	check(t, demo.Systems(t.Context(), r.svc, at))
	r.works(60)
	r.login("harbour")
	systems := []string{"chat", "files", "directory", "calendars", "mail", "meetings"}
	for _, id := range systems {
		r.settled(id)
	}
	if v := r.settled("files"); v.Beyond.Granted+v.Beyond.Wide != 0 || v.Unsure.Granted != 0 {
		t.Errorf("files let through besides: %+v, unsure %+v", v.Beyond, v.Unsure)
	}

	in := map[string]*xmppchat.Client{}
	ours, theirs := s.Chat.Beside.Ours, s.Chat.Beside.Out[0]
	for _, a := range []xmppchat.Account{ours, theirs} {
		c, err := xmppchat.SignIn(t.Context(), a, s.CA.Pool)
		check(t, err)
		defer c.Leave()
		in[a.Address] = c
	}
	speak := func(from, to string) bool {
		t.Helper()
		arrived, _, err := xmppchat.Send(t.Context(), in[from], in[to], false)
		check(t, err)
		return arrived
	}
	const guest, place = "maren.holtveig@ilvane.example", "spaces/loan-dossier"
	check(t, s.Files.Beside.SetPassword(guest, "pass"))
	check(t, s.Directory.Beside.SetPassword(guest, "pass"))
	note := filepath.Join(s.Files.Folder, "files", place, "note.txt")
	check(t, os.WriteFile(note, []byte("the astrolabe"), 0o644))
	get := func(url, who string) int {
		t.Helper()
		q, err := http.NewRequestWithContext(t.Context(), http.MethodGet, url, nil)
		check(t, err)
		if who != "" {
			q.SetBasicAuth(who, "pass")
		}
		resp, err := http.DefaultClient.Do(q)
		for began := time.Now(); errors.Is(err, syscall.ECONNRESET) && time.Since(began) < patience; {
			// A server that has just been started anew may drop what reached it first, as any client of it knows.
			resp, err = http.DefaultClient.Do(q)
		}
		check(t, err)
		_ = resp.Body.Close()
		return resp.StatusCode
	}
	took := told{}
	// counts waits until something is so, and keeps how long it took since it was published.
	counts := func(what string, since time.Time, is func() bool) {
		t.Helper()
		for !is() {
			if time.Since(since) > patience {
				t.Fatalf("%s: not after %v", what, patience)
			}
		}
		took[what] = append(took[what], time.Since(since))
	}
	chatIn := func() bool { return speak(theirs.Address, ours.Address) }
	chatOut := func() bool { return speak(ours.Address, theirs.Address) }
	file := func() int { return get(s.Files.URL+"/"+place+"/note.txt", guest) }
	signsIn := func() bool {
		_, in, err := s.Directory.Beside.Look(guest, "pass")
		check(t, err)
		return in
	}
	if !chatIn() || !chatOut() || file() != 200 || !signsIn() {
		t.Fatalf("at first: chat in %t, out %t, file %d, directory %t", chatIn(), chatOut(), file(), signsIn())
	}
	if got := get(s.Files.URL+"/"+place+"/note.txt", ""); got != 401 {
		t.Errorf("a stranger opens the file: %d", got)
	}
	tidewell, err := s.Chat.Account(t.Context(), "o.tidewell", "brackwater.example", "pass")
	check(t, err)
	odile, err := xmppchat.SignIn(t.Context(), tidewell, s.CA.Pool)
	check(t, err)
	defer odile.Leave()
	in[tidewell.Address] = odile
	const odileAt = "o.tidewell@brackwater.example"
	for _, a := range []string{odileAt, guest} {
		check(t, s.Calendars.Account(t.Context(), a, "pass"))
		check(t, s.Calendars.Beside.Home(t.Context(), a))
	}
	event, err := s.Calendars.Beside.Event(t.Context(), odileAt, "pass")
	check(t, err)
	// looks says what a guest sees of a calendar.
	looks := func() string {
		busy, read, err := s.Calendars.Beside.Looks(t.Context(), event, odileAt, guest, "pass")
		check(t, err)
		switch {
		case read.Status == 200:
			return "everything"
		case busy.Status == 200:
			return "busy"
		}
		return "nothing"
	}
	const talk, visitor = "harbour-talk", "ada.brannoch@ilvane.example"
	host, why, err := s.Meetings.Beside.Enter(t.Context(), talk, "m.quarrendon@brackwater.example")
	if err != nil || why != "" {
		t.Fatal(why, err)
	}
	hosting, why, err := s.Meetings.Beside.Join(t.Context(), host, host.Passcode)
	if err != nil || why != "" {
		t.Fatal(why, err)
	}
	defer hosting.Leave(t.Context())
	// comes asks at the reception as the page does on which people sign in, and goes in.
	comes := func() (*videorooms.Joined, string) {
		t.Helper()
		p, says, err := s.Meetings.Beside.Enter(t.Context(), talk, visitor)
		check(t, err)
		if says != "" {
			return nil, says
		}
		j, says, err := s.Meetings.Beside.Join(t.Context(), p, p.Passcode)
		check(t, err)
		return j, says
	}
	inside, why := comes()
	if inside == nil {
		t.Fatal(why)
	}
	for round := range *rounds {
		r.must("partner", "suspend", "ilvane", "--why", "a quarrel", "--despite", "nobody of theirs comes in", "--yes")
		began := time.Now()
		within, stop := context.WithTimeout(t.Context(), patience)
		check(t, inside.Out(within))
		stop()
		took["meetings: a partner suspended, put out"] = append(took["meetings: a partner suspended, put out"], time.Since(began))
		if x, says := comes(); x != nil || !strings.Contains(says, "suspended") {
			t.Errorf("a suspended partner's: %v %q", x != nil, says)
		}
		counts("chat: a partner suspended", began, func() bool { return !chatIn() && !chatOut() })
		counts("files: a partner suspended", began, func() bool { return file() != 200 })
		r.must("partner", "resume", "ilvane", "--why", "made up", "--yes")
		began = time.Now()
		counts("meetings: a partner back", began, func() bool { inside, _ = comes(); return inside != nil })
		counts("chat: a partner back", began, func() bool { return chatIn() && chatOut() })
		counts("files: a partner back", began, func() bool { return file() == 200 })

		r.must("guest", "suspend", guest, "--reason", "an inquiry")
		began = time.Now()
		counts("files: a guest suspended", began, func() bool { return file() == 401 })
		counts("directory: a guest suspended", began, func() bool { return !signsIn() })
		r.must("guest", "back", guest, "--reason", "it is over")
		began = time.Now()
		counts("files: a guest back", began, func() bool { return file() == 200 })
		counts("directory: a guest back", began, signsIn)

		id := fmt.Sprintf("quiet-%d", round)
		r.must("exception", "add", id, "--person", "o.tidewell", "--towards", "partner:ilvane", "--set", "chat.federation=closed", "--until",
			"+1d", "--reason", "she writes her thesis", "--yes")
		began = time.Now()
		counts("chat: one person's exception", began, func() bool {
			return !speak(theirs.Address, tidewell.Address) && !speak(tidewell.Address, theirs.Address) && chatIn() && chatOut()
		})
		r.must("exception", "end", id, "--why", "done", "--yes")
		began = time.Now()
		counts("chat: and its end", began, func() bool {
			return speak(theirs.Address, tidewell.Address) &&
				speak(tidewell.Address, theirs.Address)
		})

		const mailbox, home = "o.tidewell@brackwater.example", "odile.t@parlourmail.example"
		onward := func() bool {
			yes, _, err := s.Mail.Beside.Asked(t.Context(), mailbox, home)
			check(t, err)
			return yes
		}
		if onward() {
			t.Fatal("mail goes on to anywhere")
		}
		id = fmt.Sprintf("lamp-room-mail-%d", round)
		r.must("exception", "add", id, "--person", "o.tidewell", "--towards", home, "--set", "mail.forward=any", "--until", "+1d", "--reason",
			"the lamp room", "--yes")
		began = time.Now()
		counts("mail: one person's exception for a day", began, onward)
		r.must("exception", "end", id, "--why", "done", "--yes")
		began = time.Now()
		counts("mail: and its end", began, func() bool { return !onward() })

		r.must("partner", "close", "ilvane", "mail.in", "--why", "enough", "--yes")
		began = time.Now()
		counts("calendars: shut to a partner", began, func() bool { return looks() == "nothing" })
		r.must("partner", "open", "ilvane", "mail.in", "--why", "planning together", "--yes")
		began = time.Now()
		counts("calendars: opened again", began, func() bool { return looks() == "busy" })
		id = fmt.Sprintf("calendar-%d", round)
		r.must("exception", "add", id, "--person", "o.tidewell", "--set", "mail.calendar=none", "--until", "+1d", "--reason",
			"she writes her thesis", "--yes")
		began = time.Now()
		counts("calendars: one person's shut for a day", began, func() bool { return looks() == "nothing" })
		r.must("exception", "end", id, "--why", "done", "--yes")
		began = time.Now()
		counts("calendars: and its end", began, func() bool { return looks() == "busy" })
	}
	took.print(t, []string{"chat: a partner suspended", "chat: a partner back", "chat: one person's exception", "chat: and its end",
		"files: a partner suspended", "files: a partner back", "files: a guest suspended", "files: a guest back", "directory: a guest suspended",
		"directory: a guest back", "calendars: shut to a partner", "calendars: opened again", "calendars: one person's shut for a day",
		"calendars: and its end", "mail: one person's exception for a day", "mail: and its end", "meetings: a partner suspended, put out",
		"meetings: a partner back"})

	// A server is killed while something changes here: it is said that it does not answer, and nothing is lost.
	for id, p := range map[string]*servers.Process{"directory": s.Directory.Process, "files": s.Files.Process} {
		p.Kill()
		r.must("guest", "suspend", guest, "--reason", "while "+id+" is away")
		began := time.Now()
		if id == "directory" { // it is spoken to itself; of files the server's own files are written
			for status, out, errs := r.client("", "system", "read", id); status == 0 || !strings.Contains(out+errs, "refused"); status, out,
				errs = r.client("", "system", "read", id) {
				if time.Since(began) > patience {
					t.Fatalf("%s is away, and nobody says so: %s%s", id, out, errs)
				}
			}
			if v, err := r.svc.SystemView(t.Context(), id); err != nil || v.Work.Problem == "" {
				t.Errorf("%s is away: %+v %v", id, v.Work, err)
			}
		}
		check(t, p.Again(t.Context()))
		counts(id+": a guest suspended while it was away", began, func() bool {
			if id == "files" {
				return file() == 401
			}
			return !signsIn()
		})
		if long := time.Since(began); long > 20*time.Second {
			t.Errorf("%s: what waited while it was away waits for the next reading: %v", id, long)
		}
		r.must("guest", "back", guest, "--reason", "it is back")
		counts(id+": and back", time.Now(), func() bool { return file() == 200 && signsIn() })
		r.settled(id)
	}

	// The live question costs little more than asking somebody who always says yes.
	if *rounds > 1 {
		empty, err := mailpolicy.Listen("127.0.0.1:0", func(context.Context, string, string) (bool, string, bool, error) {
			return true, "", true,
				nil
		}, quiet)
		check(t, err)
		defer empty.Close()
		other, err := root.Mail(t.Context(), "other.example", out, portOf(t, empty.Address()))
		check(t, err)
		defer other.Stop()
		var with, without []time.Duration
		r.must("exception", "add", "lamp-room-desk", "--person", "o.tidewell", "--towards", "desk@ilvane.example", "--set", "mail.forward=any",
			"--until", "+1d", "--reason", "the lamp room", "--yes") // both say yes
		// in turns, in one run
		for range 200 {
			for _, x := range []struct {
				ask  func(context.Context, string, string) (bool, string, error)
				took *[]time.Duration
			}{{s.Mail.Beside.Asked, &with}, {other.Beside.Asked, &without}} {
				began := time.Now()
				_, _, err := x.ask(t.Context(), "o.tidewell@brackwater.example", "desk@ilvane.example")
				check(t, err)
				*x.took = append(*x.took, time.Since(began))
			}
		}
		slices.Sort(with)
		slices.Sort(without)
		ratio := float64(with[100]) / float64(without[100])
		if t.Logf("may a letter go on: %v asked of us, %v of an empty service, %.2fx (target 1.5x)", with[100], without[100],
			ratio); ratio > 1.5 {
			t.Errorf("%.2fx an empty policy service", ratio)
		}
	}

	// The directory becomes the source of people: who is added there by its own tools is known here, and who goes there has left.
	r.must("system", "set", "directory", "--source", "person", "--source", "group", "--why", "people are kept there")
	const diver = "nia.fathom@brackwater.example"
	for _, x := range []struct {
		kind string
		f    map[string]string
	}{{"groups", map[string]string{"group": "divers", "name": "Divers"}},
		{"people", map[string]string{"mail": diver, "name": "Nia Fathom", "groups": "divers"}}} {
		_, err := s.Directory.Beside.Put(t.Context(), x.kind, "", x.f)
		check(t, err)
	}
	nia, err := addr.Parse(diver)
	check(t, err)
	person := func() string { r.must("system", "read", "directory"); return r.svc.State().PersonAt(nia) }
	counts("directory: somebody new", time.Now(), func() bool { return person() != "" })
	if p, err := r.svc.Person(t.Context(), person()); err != nil || p.Name != "Nia Fathom" || !slices.Equal(p.Groups, []string{"divers"}) {
		t.Errorf("%+v %v", p, err)
	}
	check(t, s.Directory.Beside.Drop(t.Context(), "people", diver))
	counts("directory: somebody who left", time.Now(), func() bool { return r.svc.State().LeftAt(person()) != 0 })

	// Somebody opens the chat by the server's own file: it is found as drift, and put back.
	r.settled("chat")
	rules := s.Chat.Beside.Rules
	was, err := os.ReadFile(rules)
	check(t, err)
	check(t, os.WriteFile(rules, append([]byte("::deliver\nFROM: <*>@quennick.example\nPASS.\n\n"), was...), 0o644))
	r.says(0, "the rules were changed by hand", "system", "read", "chat")
	r.must("system", "put-back", "chat", "from", "--why", "nobody asked for it", "--yes")
	began := time.Now()
	for b, _ := os.ReadFile(rules); string(b) != string(was); b, err = os.ReadFile(rules) {
		check(t, err)
		if time.Since(began) > patience {
			t.Fatalf("it is not put back:\n%s", b)
		}
	}

	if dir := os.Getenv("WEXILLUM_SCREENSHOTS"); dir != "" {
		p := r.page(browser(t), "harbour")
		p.goTo("/systems", "document.querySelectorAll('.system').length === 6 && document.fonts.status === 'loaded'")
		p.shot(filepath.Join(dir, "servers.png"))
	}

	// Trials agree with what is meant, but for what a server cannot hold as it is meant.
	hosting.Leave(t.Context())
	inside.Leave(t.Context())
	for _, id := range []string{"files", "chat", "meetings"} {
		r.settled(id)
		plan, err := r.svc.TryPlan(t.Context(), service.Who{Name: "test", Role: service.Administrator}, id, "")
		check(t, err)
		n := 0
		for _, x := range plan.Trials {
			if x.Contradiction {
				t.Errorf("%s: %+v", id, x)
			}
			if x.Outcome == "admitted" || x.Outcome == "refused" {
				n++
			}
			if x.Outcome == "admitted" && x.Meant == "no" {
				t.Errorf("%s lets through what is refused here: %+v", id, x)
			}
		}
		if n == 0 {
			t.Errorf("%s: nothing was tried: %+v", id, plan.Trials)
		}
	}
}
