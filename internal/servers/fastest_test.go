package servers_test

import (
	"context"
	"flag"
	"fmt"
	"net/http/httptest"
	"runtime"
	"slices"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/mailforward"
	"wexillum.example/internal/beside/videorooms"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/servers"
)

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
		_, err := a.Beside.Put(t.Context(), "access", "",
			map[string]string{"account": fmt.Sprintf("guest%d@ilvane.example", i), "folder": fmt.Sprintf("space%d", i), "may": "read"})
		check(t, err)
		_, err = m.Put(t.Context(), "scripts", "", map[string]string{"mailbox": fmt.Sprintf("p%d@ours.example", i),
			"to": fmt.Sprintf("p%d@far.example", i), "copy": "kept", "by": "owner"})
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
		t.Logf("%d %s read in %v, %d MB in use behind it", n, x.kind, took.Round(time.Millisecond),
			(after.HeapAlloc-min(after.HeapAlloc, before.HeapAlloc))>>20)
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
	}{{"folders", map[string]string{"folder": "dossier", "title": "Dossier"}},
		{"accounts", map[string]string{"account": "ada@ilvane.example", "state": "on"}},
		{"access", map[string]string{"account": "ada@ilvane.example", "folder": "dossier", "may": "write"}}} {
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
		_, err := dir.Beside.Put(t.Context(), "guests", "",
			map[string]string{"mail": "ada@ilvane.example", "state": word(on, "guest", "suspended")})
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
	meet, err := r.Janus(t.Context(), []string{"ours.example"}, 500*time.Millisecond,
		func(context.Context, string, string, string) (videorooms.Asked, error) {
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
