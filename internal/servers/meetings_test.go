package servers_test

import (
	"context"
	"errors"
	"strings"
	"sync"
	"testing"
	"time"

	"wexillum.example/internal/beside/videorooms"
)

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
	j, err := r.Janus(t.Context(), []string{"ours.example"}, 50*time.Millisecond,
		func(_ context.Context, address, action, _ string) (videorooms.Asked, error) {
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
		if _, err := j.Beside.Put(t.Context(), "rooms", "",
			map[string]string{"room": id, "title": title, "host": "uma@ours.example"}); err != nil {
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
	if k, err := j.Beside.One(t.Context(), "rooms", "weekly"); err != nil || k == nil || k.Fields["title"] != "Weekly" ||
		k.Fields["host"] != "uma@ours.example" {
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
