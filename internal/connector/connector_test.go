package connector_test

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/beside"
	"wexillum.example/internal/connector"
	"wexillum.example/internal/connector/open"
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
		conforms(t, d, d.Name, func(t *testing.T, at, key string) connector.Connector {
			c, err := connector.New(d.Name, at, key)
			check(t, err)
			return c
		})
		// The same through a program beside it, which speaks the open contract.
		conforms(t, d, d.Name+" through the contract", func(t *testing.T, at, key string) connector.Connector {
			c, err := connector.New(d.Name, at, key)
			check(t, err)
			srv := httptest.NewServer(beside.Handler(described{c, d}, "token"))
			t.Cleanup(srv.Close)
			o, err := open.New(srv.URL, "token")
			check(t, err)
			got, err := o.Describe(t.Context())
			check(t, err)
			if !reflect.DeepEqual(got, d) {
				t.Errorf("%s comes back otherwise than it is", d.Name)
			}
			return o
		})
	}
}

// described is a connector as a program beside a server has it.
type described struct {
	connector.Connector
	d *native.Dialect
}

func (x described) Describe() *native.Dialect { return x.d }

func conforms(t *testing.T, d *native.Dialect, name string, speak func(t *testing.T, at, key string) connector.Connector) {
	t.Run(name, func(t *testing.T) {
		now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
		p := suite.New(suite.Options{Key: "pass", Clock: func() time.Time { return now }})[d.Name]
		srv := httptest.NewServer(p.Handler())
		defer srv.Close()
		c := speak(t, srv.URL, "pass")
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
			set := "visitors=turned away; berths.visitors=keep out; berths.notes=read; crates.handed-to=crew; tickets=none; tickets.days=14; tickets.power=look; crates.passed-on=never"
			both("charter:a.example", set)
			both("charter:*.a.example", strings.Replace(set, "turned away", "welcome", 1))
			if err := c.Write(t.Context(), "charter:a.example", "visitors=welcome"); err == nil || wire.Later(err) ||
				!strings.Contains(err.Error(), "a charter says all of") {
				t.Errorf("half a charter: %v", err)
			}
			both("charter:#b-0000001", "berths.visitors=may come aboard; tickets.days=30") // a berth has single words
			check(t, c.Write(t.Context(), "charter:a.example", ""))
			if got, there := read()["charter:a.example"]; there {
				t.Errorf("taken back, and it says %q", got)
			}
		}
		for i := range d.Holdings {
			tried += keeps(t, c, p, &d.Holdings[i], &now)
		}
		if tried < 10 {
			t.Errorf("only %d settings were tried", tried)
		}
		// What it does not understand it refuses in words of its own, and nothing changes.
		before := read()
		if err := c.Write(t.Context(), d.Dials[0].Path, "sideways"); err == nil || wire.Later(err) ||
			!strings.Contains(err.Error(), "I do not understand") {
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
		wrong := speak(t, srv.URL, "other")
		if _, err := wrong.Read(t.Context()); err == nil || wire.Later(err) {
			t.Errorf("a wrong key: %v", err)
		}
		few := httptest.NewServer(suite.New(suite.Options{Key: "pass", Calls: 2})[d.Name].Handler())
		defer few.Close()
		busy := speak(t, few.URL, "pass")
		for range 2 {
			_, err := busy.Read(t.Context())
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
			odd := speak(t, other.URL, "pass")
			if got, err := odd.Read(t.Context()); err == nil {
				t.Errorf("nonsense was read as %d settings", len(got))
			}
			other.Close()
		}
	})
}

// keeps puts a connector through what it must do with records of one kind: made, made twice without harm,
// read one by one and as a list of many pages, changed, taken away twice; each field in both directions.
func keeps(t *testing.T, c connector.Connector, p *suite.Program, h *native.Holding, now *time.Time) (tried int) {
	t.Helper()
	names := allNames{}
	samples := map[string][]native.Thing{
		"space": {{"id": "dossier", "name": "Dossier", "owner": "uma@ours.example"},
			{"id": "dossier", "name": "Files, \"old\" and new", "owner": ""}},
		"guest": {{"address": "a@ilvane.example", "standing": "in", "sponsor": "uma@ours.example"},
			{"address": "a@ilvane.example", "standing": "out", "sponsor": ""}},
		"grant": {{"address": "a@ilvane.example", "resource": "space:dossier", "role": "view", "from": "", "until": "2027-01-01T00:00:00Z"},
			{"address": "a@ilvane.example", "resource": "space:dossier", "role": "manage", "from": "2026-12-01T00:00:00Z", "until": ""}},
		"link": {{"id": "kit", "item": "file:kit", "right": "view", "until": "2027-01-01T00:00:00Z", "for": "", "by": "uma@ours.example"},
			{"id": "kit", "item": "file:kit", "right": "contribute", "until": "", "for": "a@ilvane.example b@ilvane.example", "by": ""}},
		"forwarder": {{"mailbox": "uma@ours.example", "to": "a@ilvane.example", "keep_copy": "yes", "set_by": "administrator"},
			{"mailbox": "uma@ours.example", "to": "a@ilvane.example", "keep_copy": "no", "set_by": "mail_rule"}},
	}[h.Kind]
	if h.Kind == "link" {
		check(t, p.Turn("tickets", "issued"))
	}
	if h.Kind == "guest" {
		check(t, p.Turn("visitors", "welcome"))
	}
	id := ""
	for k, want := range samples {
		fields, ok := h.Write(want, names)
		if !ok {
			t.Fatalf("%s: %v cannot be written", h.Kind, want)
		}
		for twice := range 2 {
			given := id
			if twice == 1 {
				given = "" // as when it is not known whether the first one arrived
			}
			got, err := c.Put(t.Context(), h.Name, given, fields)
			check(t, err)
			if id != "" && got != id {
				t.Errorf("%s: made twice, it is %s and %s", h.Kind, id, got)
			}
			id = got
		}
		one, err := c.One(t.Context(), h.Name, id)
		check(t, err)
		if one == nil {
			t.Fatalf("%s %s is not there", h.Kind, id)
		}
		if got, unread := h.Read(one.Fields, names); unread != "" || !maps.Equal(got, want) {
			t.Errorf("%s: %v came back as %v %s", h.Kind, want, got, unread)
		}
		*now = now.Add(h.Span + time.Second)
		tried++
		if k > 0 && h.Turn(samples[0], want) == native.Same && h.Kind != "space" { // a name alone opens nothing
			t.Errorf("%s: a change is none", h.Kind)
		}
	}
	// Many, over several pages, in one pass and each once.
	before := len(p.Things(h.Name))
	for i := range 2500 {
		fields := maps.Clone(p.Things(h.Name)[0].Fields)
		for _, f := range h.Fields {
			switch f.Of {
			case "id":
				fields[f.Name] = fmt.Sprintf("many-%d", i)
			case "address", "to":
				fields[f.Name] = fmt.Sprintf("many%d@far.example", i)
			}
		}
		_, err := p.Put(h.Name, "", fields, "somebody")
		check(t, err)
	}
	seen := map[string]bool{}
	check(t, c.List(t.Context(), h.Name, func(k native.Kept) error {
		if seen[k.ID] {
			t.Errorf("%s %s twice", h.Kind, k.ID)
		}
		seen[k.ID] = true
		return nil
	}))
	if len(seen) != before+2500 {
		t.Errorf("of %d %s, %d are listed", before+2500, h.Name, len(seen))
	}
	stop := errors.New("enough")
	if err := c.List(t.Context(), h.Name, func(native.Kept) error { return stop }); !errors.Is(err, stop) {
		t.Errorf("a list that is not wanted any more: %v", err)
	}
	for range 2 {
		check(t, c.Drop(t.Context(), h.Name, id))
	}
	if one, err := c.One(t.Context(), h.Name, id); err != nil || one != nil {
		t.Errorf("%s taken away: %v, %v", h.Kind, one, err)
	}
	if _, err := c.Put(t.Context(), h.Name, "", map[string]string{h.Fields[0].Name: "x", "sideways": "y"}); err == nil || wire.Later(err) {
		t.Errorf("%s with half of what it needs: %v", h.Kind, err)
	}
	*now = now.Add(h.Span + time.Second)
	p.Settle(suite.Quirks{Lie: true})
	fields, _ := h.Write(samples[0], names)
	got, err := c.Put(t.Context(), h.Name, "", fields)
	check(t, err)
	*now = now.Add(h.Span + time.Second)
	if one, err := c.One(t.Context(), h.Name, got); err != nil || one != nil {
		t.Errorf("%s accepted and not done: %v %v", h.Kind, one, err)
	}
	p.Settle(suite.Quirks{})
	return tried
}

// allNames calls everything the same here and there.
type allNames struct{}

func (allNames) Person(address string) (string, bool) { return address, true }
func (allNames) SpaceOf(string) string                { return "dossier" }
func (allNames) Native(space string) (string, bool)   { return "berth-of-" + space, true }
func (allNames) Space(native string) (string, bool) {
	return strings.TrimPrefix(native, "berth-of-"), strings.HasPrefix(native, "berth-of-")
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
