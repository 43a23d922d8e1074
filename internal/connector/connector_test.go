package connector_test

import (
	"context"
	"errors"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/connector"
	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/native"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/suite"
)

// TestConform puts every connector through what every connector must do, against the program that it
// speaks to: each exact setting in both directions, twice without harm, words that are not known,
// changes that are accepted and not done, faults half-way, a wrong key, too many calls, silence.
func TestConform(t *testing.T) {
	for _, d := range native.Dialects() {
		t.Run(d.Name, func(t *testing.T) {
			now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
			p := suite.New(suite.Options{Key: "pass", Clock: func() time.Time { return now }})[d.Name]
			srv := httptest.NewServer(p.Handler())
			defer srv.Close()
			c, err := connector.New(d.Name, srv.URL, "pass")
			check(t, err)
			read := func() map[string]string {
				t.Helper()
				got, err := c.Read(t.Context())
				check(t, err)
				return got
			}
			if u := d.From(read()).Unread; len(u) > 0 {
				t.Errorf("of a new system it does not understand %+v", u)
			}
			tried := 0
			both := func(path, value string) {
				t.Helper()
				for range 2 {
					if err := c.Write(t.Context(), path, value); err != nil {
						t.Fatalf("%s to %q: %v", path, value, err)
					}
				}
				if got := read()[path]; got != value {
					t.Errorf("%s was set to %q and reads %q", path, value, got)
				}
				span, _, _ := d.Setting(path)
				now = now.Add(span + time.Second)
				if got := p.Counts(path); got != value && native.BoardText(split(got)) != value {
					t.Errorf("%s was set to %q, and after its span %q counts", path, value, got)
				}
				tried++
			}
			for i := range d.Dials {
				x := &d.Dials[i]
				if x.Hand {
					var refused *wire.Refused
					if err := c.Write(t.Context(), x.Path, x.Words[0]); !errors.As(err, &refused) || wire.Later(err) {
						t.Errorf("%s is by hand, and writing it: %v", x.Path, err)
					}
					continue
				}
				r, _ := catalogue.RuleByName(x.Rule)
				for _, v := range r.Scale.All() {
					w := world.World{}
					w.Rules = []world.RuleSetting{{Rule: r.ID, Limit: v, Default: v, Counts: catalogue.Unset}}
					m := native.Meant{Policy: &w}
					k := slices.IndexFunc(d.To(&m), func(s native.Setting) bool { return s.Path == x.Path })
					s := d.To(&m)[k]
					both(s.Path, s.Value)
					found := d.From(read())
					got, limit := found.Values[r.ID], found.Limits[r.ID]
					if x.Ceiling {
						got = limit
					}
					if got.Most != got.Least || r.Scale.Looser(got.Most, v) {
						t.Errorf("%s at %s came back as %s to %s", x.Rule, r.Scale.Format(v), r.Scale.Format(got.Least), r.Scale.Format(got.Most))
					}
					if exact := len(x.Words) == 0 || x.Words[v] != ""; exact && got.Most != v && v != catalogue.NoLimit {
						t.Errorf("%s at %s came back as %s", x.Rule, r.Scale.Format(v), r.Scale.Format(got.Most))
					}
				}
			}
			for i := range d.Boards {
				b := &d.Boards[i]
				for _, text := range []string{b.Only + ":", b.Only + ": a.example, b.example", b.But + ":", b.But + ": *.c.example, c.example"} {
					both(b.Path, text)
				}
			}
			if d.Name == "quay" { // a set of values for somebody, in entire, and taken back
				set := "visitors=turned away; berths.visitors=keep out; berths.notes=read; crates.handed-to=crew; crates.passed-on=never"
				both("charter:a.example", set)
				both("charter:*.a.example", strings.Replace(set, "turned away", "welcome", 1))
				if err := c.Write(t.Context(), "charter:a.example", "visitors=welcome"); err == nil || wire.Later(err) || !strings.Contains(err.Error(), "a charter says all of") {
					t.Errorf("half a charter: %v", err)
				}
				check(t, c.Write(t.Context(), "charter:a.example", ""))
				if got, there := read()["charter:a.example"]; there {
					t.Errorf("taken back, and it says %q", got)
				}
			}
			if tried < 10 {
				t.Errorf("only %d settings were tried", tried)
			}
			// What it does not understand it refuses in words of its own, and nothing changes.
			before := read()
			if err := c.Write(t.Context(), d.Dials[0].Path, "sideways"); err == nil || wire.Later(err) || !strings.Contains(err.Error(), "I do not understand") {
				t.Errorf("an unknown word: %v", err)
			}
			if err := c.Write(t.Context(), "nowhere", "x"); err == nil || wire.Later(err) {
				t.Errorf("an unknown setting: %v", err)
			}
			if !maps.Equal(before, read()) {
				t.Error("a refusal changed something")
			}
			// Somebody at its desk, with a word whose meaning nobody knows.
			check(t, p.Turn(d.Dials[0].Path, d.Dials[0].Words[1]))
			if got := read()[d.Dials[0].Path]; got != d.Dials[0].Words[1] {
				t.Errorf("turned at the desk: %q", got)
			}
			// Accepted and not done.
			x := d.Dials[0]
			p.Settle(suite.Quirks{Lie: true})
			check(t, c.Write(t.Context(), x.Path, x.Words[0]))
			now = now.Add(x.Span + time.Second)
			if got := read()[x.Path]; got != x.Words[1] {
				t.Errorf("accepted and not done reads %q", got)
			}
			// Half-way, silent, a wrong key, too many.
			p.Settle(suite.Quirks{Fail: true})
			failed := false
			for k := range 4 {
				err := c.Write(t.Context(), x.Path, x.Words[k%2])
				failed = failed || err != nil && wire.Later(err)
			}
			if !failed {
				t.Error("nothing failed half-way")
			}
			p.Settle(suite.Quirks{Silent: true})
			ctx, cancel := context.WithTimeout(t.Context(), 100*time.Millisecond)
			defer cancel()
			if _, err := c.Read(ctx); err == nil {
				t.Error("silence was taken for an answer")
			}
			p.Settle(suite.Quirks{})
			wrong, err := connector.New(d.Name, srv.URL, "other")
			check(t, err)
			if _, err := wrong.Read(t.Context()); err == nil || wire.Later(err) {
				t.Errorf("a wrong key: %v", err)
			}
			few := httptest.NewServer(suite.New(suite.Options{Key: "pass", Calls: 2})[d.Name].Handler())
			defer few.Close()
			busy, err := connector.New(d.Name, few.URL, "pass")
			check(t, err)
			for range 2 {
				_, err = busy.Read(t.Context())
				check(t, err)
			}
			if _, err := busy.Read(t.Context()); err == nil || !wire.Later(err) {
				t.Errorf("too many calls: %v", err)
			}
			// It talks to nobody else, and takes no nonsense.
			for _, h := range []http.HandlerFunc{
				func(w http.ResponseWriter, r *http.Request) { http.Redirect(w, r, srv.URL, http.StatusFound) },
				func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write([]byte("<html>nonsense")) },
				func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(make([]byte, 9<<20)) },
			} {
				other := httptest.NewServer(h)
				odd, err := connector.New(d.Name, other.URL, "pass")
				check(t, err)
				if got, err := odd.Read(t.Context()); err == nil {
					t.Errorf("nonsense was read as %d settings", len(got))
				}
				other.Close()
			}
		})
	}
}

func split(s string) (string, []string) {
	mode, names, err := native.ParseBoard(s)
	if err != nil {
		return s, nil
	}
	return mode, names
}

func check(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}
