package e2e

import (
	"context"
	"errors"
	"fmt"
	"net/http/httptest"
	"os"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/beside/xmppchat"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/dbtest"
	"wexillum.example/internal/demo"
	"wexillum.example/internal/servers"
	"wexillum.example/internal/service"
	statements "wexillum.example/internal/statement"
)

// TestTwoHouses is about two installations, each the other's partner, each with a chat server of its own that federates with
// the other's: what one opens and the other does not stays shut on the wire; each is told whose half it is; and what counts
// at once in one house is known in the other from its statement.
func TestTwoHouses(t *testing.T) {
	t.Parallel()
	root, err := servers.Open(t.Context(), servers.Kept(), os.Stderr)
	if errors.Is(err, servers.ErrRoot) {
		t.Skip(err)
	}
	check(t, err)
	check(t, suiteKey())
	ca, err := servers.NewAuthority()
	check(t, err)
	names, err := servers.NewNames()
	check(t, err)
	defer names.Close()
	type house struct {
		*running
		name, other string
		chat        *servers.Prosody
		in          *xmppchat.Client
		account     xmppchat.Account
	}
	begin := func(name, other string) *house {
		h := &house{name: name, other: other}
		h.running = startService(t, dbtest.DSN(t), func(ctx context.Context, svc *service.Service) error {
			if err := svc.MakeAccount(ctx, "test", "to sign in", service.Account{Name: "harbour", Role: string(service.Administrator)},
				"low-water-2026"); err != nil {
				return err
			}
			_, err := svc.Load(ctx, "test", "to begin with", "world.yaml", fmt.Appendf(nil, `
wexillum: 1
organisation: {name: %[1]s, domains: [%[1]s.example], time_zone: Europe/Lisbon}
rules: {chat.federation: {limit: any, default: listed}}
people: [{id: uma, name: Uma, address: uma@%[1]s.example}]
partners: [{id: %[2]s, name: %[2]s, domains: [%[2]s.example], opened: {chat.in: yes, chat.out: yes}}]
`, name, other), false)
			return err
		})
		h.chat, err = root.Prosody(t.Context(), name+".example", names, ca)
		check(t, err)
		t.Cleanup(h.chat.Stop)
		h.account, err = h.chat.Account(t.Context(), "uma", name+".example", "pass")
		check(t, err)
		h.in, err = xmppchat.SignIn(t.Context(), h.account, ca.Pool)
		check(t, err)
		t.Cleanup(func() { h.in.Leave() })
		srv := httptest.NewServer(beside.Handler(h.chat.Beside, "pass"))
		t.Cleanup(srv.Close)
		h.works(60)
		who := service.Who{Name: "harbour", Role: service.Administrator}
		v, err := h.svc.AddSystem(t.Context(), who, "our chat",
			service.System{ID: "chat", Name: "Chat", Dialect: native.Described, Address: srv.URL, Key: "env:" + demo.SuiteKey, Minutes: 1})
		check(t, err)
		carry := service.ModeCarry
		_, err = h.svc.ChangeSystem(t.Context(), who, "it shall obey", "chat", service.SystemPatch{Mode: &carry, Digest: v.Digest})
		check(t, err)
		h.login("harbour")
		h.settled("chat")
		return h
	}
	quay, mill := begin("quay", "mill"), begin("mill", "quay")
	for _, x := range [][2]*house{{quay, mill}, {mill, quay}} {
		check(t, x[0].svc.SetServers(t.Context(), service.By{Who: "test", Why: "where they are"}, x[0].other, x[1].url+statements.StatementPath,
			"", ""))
	}
	hears := func() {
		t.Helper()
		for _, x := range []*house{quay, mill} {
			check(t, x.svc.FetchStatement(t.Context(), service.By{Who: "service", Why: "statement fetched"}, fetcher, x.other))
		}
	}
	// wire says which messages arrive, tried until it is as wanted or it has been waited for.
	wire := func(when, want string) {
		t.Helper()
		got := ""
		for end := time.Now().Add(patience); got != want && time.Now().Before(end); {
			var list []string
			for _, x := range [][2]*house{{quay, mill}, {mill, quay}} {
				if arrived, _, err := xmppchat.Send(t.Context(), x[0].in, x[1].in, false); err == nil && arrived {
					list = append(list, x[0].name+" to "+x[1].name)
				}
			}
			got = strings.Join(list, ", ")
		}
		if got != want {
			t.Errorf("%s: %q, want %q", when, got, want)
		}
	}
	// asks says what each house answers: whether the other's people may write to Uma, and whether Uma may write there.
	asks := func(h *house) string {
		t.Helper()
		_, in, _ := h.client("", "ask", "*@"+h.other+".example", "chat.message", "person:uma")
		_, out, _ := h.client("", "ask", "person:uma", "chat.message_theirs", "person:uma", "--context", "address=uma@"+h.other+".example")
		line := func(s string) string {
			yes, _, _ := strings.Cut(s, " ")
			whose := ""
			for _, l := range strings.Split(s, "\n") {
				if strings.Contains(l, "REFUSE") {
					whose += " " + strings.Fields(l)[0]
				}
			}
			return yes + whose
		}
		return "in " + line(in) + ", out " + line(out)
	}
	told := func(when string, want ...string) {
		t.Helper()
		for i, h := range []*house{quay, mill} {
			if got := asks(h); got != want[i] {
				t.Errorf("%s: %s says %q, want %q", when, h.name, got, want[i])
			}
		}
	}
	hears()
	wire("both open", "quay to mill, mill to quay")
	told("both open", "in YES, out YES", "in YES, out YES")

	mill.must("partner", "close", "quay", "chat.in", "--why", "a quarrel", "--yes")
	wire("the mill lets nobody in", "mill to quay")
	hears()
	told("the mill lets nobody in", "in YES, out NO counterpart", "in NO domain, out YES")

	quay.must("partner", "suspend", "mill", "--why", "a quarrel", "--yes")
	wire("and the quay stops everything", "")
	hears()
	told("and the quay stops everything", "in NO domain, out NO domain counterpart", "in NO domain counterpart, out NO counterpart")

	mill.must("partner", "open", "quay", "chat.in", "--why", "made up", "--yes")
	quay.must("partner", "resume", "mill", "--why", "made up", "--yes")
	wire("made up", "quay to mill, mill to quay")
	hears()
	told("made up", "in YES, out YES", "in YES, out YES")
}
