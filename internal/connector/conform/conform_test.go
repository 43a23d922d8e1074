package conform_test

import (
	"context"
	"fmt"
	"net"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/connector"
	"wexillum.example/internal/connector/conform"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/suite"
)

// through is a program of the stand-in suite with something beside it that speaks the contract.
type through struct {
	connector.Connector
	d *native.Dialect
}

func (x through) Describe() *native.Dialect { return x.d }

func ask(t *testing.T, s beside.Server) (yes int, wrong []string) {
	t.Helper()
	srv := httptest.NewServer(beside.Handler(s, "token"))
	defer srv.Close()
	err := conform.Run(t.Context(), srv.URL, "token", "", func(x conform.Check) {
		if x.Wrong == "" {
			yes++
		} else {
			wrong = append(wrong, x.What+": "+x.Wrong)
		}
	})
	if err != nil {
		t.Fatal(err)
	}
	return
}

func standIn(t *testing.T, name string) through {
	t.Helper()
	var now atomic.Int64
	began := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	p := suite.New(suite.Options{Key: "pass", Faster: 1e9,
		Clock: func() time.Time { return began.Add(time.Duration(now.Add(1)) * time.Second) }})[name]
	srv := httptest.NewServer(p.Handler())
	t.Cleanup(srv.Close)
	c, err := connector.New(name, srv.URL, "pass")
	if err != nil {
		t.Fatal(err)
	}
	d, _ := native.ByName(name)
	return through{c, d}
}

// TestConforming: the three programs of the suite do what the contract says, and are afterwards as they were.
func TestConforming(t *testing.T) {
	for _, name := range []string{"quay", "parley", "ledger"} {
		x := standIn(t, name)
		before, err := x.Read(t.Context())
		if err != nil {
			t.Fatal(err)
		}
		yes, wrong := ask(t, x)
		if len(wrong) > 0 || yes < 8 {
			t.Errorf("%s: %d done, wrong:\n%s", name, yes, strings.Join(wrong, "\n"))
		}
		after, err := x.Read(t.Context())
		if err != nil || fmt.Sprint(before) != fmt.Sprint(after) {
			t.Errorf("%s was %v and is %v %v", name, before, after, err)
		}
		for _, h := range x.d.Holdings {
			if err := x.List(t.Context(), h.Name, func(k native.Kept) error {
				if strings.Contains(fmt.Sprint(k), "conform") {
					t.Errorf("%s: left behind: %v", name, k)
				}
				return nil
			}); err != nil {
				t.Error(err)
			}
		}
	}
}

// Programs that do one thing otherwise than the contract says.
type (
	forgets struct{ through } // takes writes and does nothing
	doubles struct {
		through
		n *int
	} // makes a record each time that it is sent
	takesAll struct{ through } // takes what it does not know
	keeps    struct{ through } // never takes a record away
	silent   struct{ through } // tries nothing that it says it tries
)

func (forgets) Write(context.Context, string, string) error { return nil }

func (x doubles) Put(ctx context.Context, kind, id string, f map[string]string) (string, error) {
	if id == "" && kind == "visitors" {
		*x.n++
		g := map[string]string{}
		for k, v := range f {
			g[k] = v
		}
		g["mail"] = fmt.Sprintf("%d.%s", *x.n, f["mail"])
		f = g
	}
	return x.through.Put(ctx, kind, id, f)
}

func (x takesAll) Write(ctx context.Context, path, value string) error {
	_ = x.through.Write(ctx, path, value)
	return nil
}

func (keeps) Drop(context.Context, string, string) error { return nil }

func (silent) Try(context.Context, native.Attempt) (native.Attempted, error) {
	return native.Attempted{}, nil
}

// TestNotConforming names what a program does otherwise.
func TestNotConforming(t *testing.T) {
	q := standIn(t, "quay")
	for _, x := range []struct {
		s    beside.Server
		want string
	}{
		{forgets{q}, `visitors takes each of its words, twice without harm: "turned away" was taken, and "welcome" is read`},
		{doubles{q, new(int)}, "visitors are made, once however often it is sent: sent twice, it is there twice"},
		{takesAll{q}, "what it does not know it refuses for good, and nothing changes: no.such.setting.here took"},
		{keeps{q}, "visitors are taken away, twice without harm: it is still there"},
		{silent{q}, "files.open can be tried from outside: nobody can try it"},
	} {
		if _, wrong := ask(t, x.s); !strings.Contains(strings.Join(wrong, "\n"), x.want) {
			t.Errorf("%T: wanted %q in\n%s", x.s, x.want, strings.Join(wrong, "\n"))
		}
	}
}

// TestExample: the example of the documentation, which imports nothing of ours, does what the contract says.
func TestExample(t *testing.T) {
	bin := filepath.Join(t.TempDir(), "beside")
	if out, err := exec.Command("go", "build", "-o", bin, "../../../docs/examples/beside").CombinedOutput(); err != nil {
		t.Fatalf("%v\n%s", err, out)
	}
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	at := l.Addr().String()
	_ = l.Close()
	p := exec.Command(bin, at)
	p.Env = append(os.Environ(), "PINBOARD_TOKEN=pins")
	if err := p.Start(); err != nil {
		t.Fatal(err)
	}
	defer func() { _ = p.Process.Kill(); _ = p.Wait() }()
	for { // until it listens
		c, err := net.Dial("tcp", at)
		if err == nil {
			_ = c.Close()
			break
		}
		if t.Context().Err() != nil {
			t.Fatal(err)
		}
	}
	yes := 0
	if err := conform.Run(t.Context(), "http://"+at, "pins", "", func(x conform.Check) {
		if yes++; x.Wrong != "" {
			t.Errorf("%s: %s", x.What, x.Wrong)
		}
	}); err != nil || yes < 9 {
		t.Errorf("%d checks: %v", yes, err)
	}
}
