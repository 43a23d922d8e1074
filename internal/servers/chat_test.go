package servers_test

import (
	"context"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/servers"
)

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
		// the server reads its rules when it is told to, a moment later
		for end := time.Now().Add(5 * time.Second); got != want && time.Now().Before(end); {
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
	set("charter:@uma@ours.example",
		"calls=refused; presence=nobody; from=only: !ada@partner.example, partner.example; to=only: bea@partner.example")
	pairs("with some of them", "bea to uma, uma to bea")
	set("from", "not:")
	set("to", "not:")
	set("charter:@uma@ours.example", "calls=refused; presence=nobody; from=only:; to=not: ada@partner.example")
	pairs("shut but for some", "ada to ben, uma to bea, ben to ada")
	set("charter:@uma@ours.example", "")
	pairs("taken back", "ada to uma, bea to uma, ada to ben, uma to ada, uma to bea, ben to ada")
	for value, want := range map[string]string{"calls=refused": "presence is one of",
		"calls=refused; presence=nobody; from=only:; to=some:": "domains are written as", "x": "write name=value"} {
		if err := ours.Beside.Write(t.Context(), "charter:@uma@ours.example", value); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v", value, err)
		}
	}
	if err := ours.Beside.Write(t.Context(), "charter:@uma@elsewhere.example", ""); err == nil ||
		!strings.Contains(err.Error(), "nobody of ours.example") {
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
