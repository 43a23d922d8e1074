package statement_test

import (
	"encoding/json"
	"os"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/santhosh-tekuri/jsonschema/v6"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/statement"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

var now = time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)

func schema(t *testing.T) *jsonschema.Schema {
	t.Helper()
	text, err := os.ReadFile("../../../docs/statement.schema.json")
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource("statement.json", doc); err != nil {
		t.Fatal(err)
	}
	s, err := c.Compile("statement.json")
	if err != nil {
		t.Fatal(err)
	}
	return s
}

func valid(t *testing.T, s *jsonschema.Schema, text []byte) error {
	t.Helper()
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(text)))
	if err != nil {
		t.Fatal(err)
	}
	return s.Validate(doc)
}

func parse(t *testing.T, text string) *world.World {
	t.Helper()
	w, err := worldfile.Read([]byte(text), worldfile.Options{Now: moment.Of(now)})
	if err != nil {
		t.Fatal(err)
	}
	return w
}

const pair = `wexillum: 1
organisation: {name: East, domains: [east.example, {name: lab.east.example, subdomains: yes}], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, chat.calls: {default: off}}
partners: [{id: west, name: West, domains: [west.example], opened: {chat.in: yes, chat.out: yes, spaces.in: no}}]
`

// TestDocumented: the example of the documentation and what we write follow the
// schema, and reading them gives what is documented.
func TestDocumented(t *testing.T) {
	s := schema(t)
	page, err := os.ReadFile("../../../docs/statements.md")
	if err != nil {
		t.Fatal(err)
	}
	m := regexp.MustCompile("(?s)```json\n(.*?)```").FindSubmatch(page)
	if m == nil {
		t.Fatal("there is no example")
	}
	if err := valid(t, s, m[1]); err != nil {
		t.Error(err)
	}
	museum := parse(t, `wexillum: 1
organisation: {name: Museum, domains: [{name: brackwater.example, subdomains: yes}], time_zone: Europe/Lisbon}
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example]}]
`)
	c, err := statement.Read(m[1], statement.Expect{Partner: &museum.Partners[0], Ours: museum.Organisation.Domains,
		Now: moment.Of(time.Unix(1795444700, 0)), Seen: moment.Always})
	if err != nil {
		t.Fatal(err)
	}
	var said []string
	for _, x := range c.Stances() {
		text := x.Key.String() + " " + world.SaysNames[x.Says]
		for _, f := range x.Features {
			text += " " + f.String()
		}
		said = append(said, text)
	}
	if got := strings.Join(said, ", "); got != "spaces.in admits, chat.in admits messages voice, mail.out refuses" {
		t.Errorf("it reads as %s", got)
	}
	w := parse(t, pair)
	ours := statement.Of(w.Organisation, engine.Of(w).Side("west", moment.Of(now)), "west.example", now, []string{strings.Repeat("k", 43)})
	text, err := json.Marshal(ours)
	if err != nil {
		t.Fatal(err)
	}
	if err := valid(t, s, text); err != nil {
		t.Error(err)
	}
	if ours.Issuer != "east.example" || strings.Join(ours.Domains, " ") != "east.example *.lab.east.example" ||
		ours.Expires-ours.Issued != int64(statement.Lasts.Seconds()) || len(ours.Stance) != int(catalogue.NumKeys) {
		t.Errorf("%+v", ours)
	}
	for k, want := range map[string]string{"chat.in": "admits messages presence", "spaces.in": "refuses", "files.in": "refuses",
		"meetings.in": "admits"} {
		if got := strings.TrimSpace(ours.Stance[k].Says + " " + strings.Join(ours.Stance[k].Features, " ")); got != want {
			t.Errorf("%s: %s, want %s", k, got, want)
		}
	}
	for name, bad := range map[string]string{
		"no version":      `{"iss":"a.example","domains":[],"iat":1,"exp":2,"stance":{}}`,
		"another version": `{"wexillum_statement":2,"iss":"a.example","domains":[],"iat":1,"exp":2,"stance":{}}`,
		"perhaps":         `{"wexillum_statement":1,"iss":"a.example","domains":[],"iat":1,"exp":2,"stance":{"chat.in":{"says":"perhaps"}}}`,
		"no direction":    `{"wexillum_statement":1,"iss":"a.example","domains":[],"iat":1,"exp":2,"stance":{"chat":{"says":"admits"}}}`,
	} {
		if valid(t, s, []byte(bad)) == nil {
			t.Errorf("the schema takes %s", name)
		}
	}
}

// TestRoundTrip: what one side opens is what the other reads, direction by
// direction.
func TestRoundTrip(t *testing.T) {
	w := parse(t, pair)
	side := engine.Of(w).Side("west", moment.Of(now))
	text, err := json.Marshal(statement.Of(w.Organisation, side, "west.example", now, nil))
	if err != nil {
		t.Fatal(err)
	}
	west := parse(t, `wexillum: 1
organisation: {name: West, domains: [west.example], time_zone: Europe/Lisbon}
partners: [{id: east, name: East, domains: [{name: east.example, subdomains: yes}]}]
`)
	c, err := statement.Read(text, statement.Expect{Partner: &west.Partners[0], Ours: west.Organisation.Domains, Now: moment.Of(now),
		Seen: moment.Of(now)})
	if err != nil {
		t.Fatal(err)
	}
	got := c.Stances()
	if len(got) != int(catalogue.NumKeys) {
		t.Fatalf("%d stances", len(got))
	}
	for _, s := range got {
		theirs := s.Key ^ 1
		if (s.Says == world.SaysAdmits) != side.Keys[theirs].Opens || s.Source != "statement" || s.AsOf != moment.Of(now) ||
			(s.Says == world.SaysAdmits) != (s.Until == moment.Of(now.Add(statement.Lasts))) {
			t.Errorf("%+v against %+v", s, side.Keys[theirs])
		}
	}
}

// FuzzRead wants no panic, and that what is taken is for us, by the partner, and in
// force.
func FuzzRead(f *testing.F) {
	f.Add([]byte(`{"wexillum_statement":1,"iss":"east.example","aud":"west.example","domains":[],"iat":1795424400,"exp":1795425000,"stance":{"chat.in":{"says":"admits","features":["voice","x"]}}}`))
	f.Add([]byte(`{"wexillum_statement":1,"iat":-1}`))
	f.Add([]byte(`[]`))
	east,
		_ := worldfile.Read([]byte("wexillum: 1\norganisation: {name: West, domains: [west.example], time_zone: Europe/Lisbon}\npartners: [{id: east, name: East, domains: [east.example]}]\n"),
		worldfile.Options{Now: moment.Of(now)})
	f.Fuzz(func(t *testing.T, text []byte) {
		c, err := statement.Read(text, statement.Expect{Partner: &east.Partners[0], Ours: east.Organisation.Domains, Now: moment.Of(now),
			Seen: moment.Always})
		if err != nil {
			if err.Error() == "" {
				t.Fatal("an error without words")
			}
			return
		}
		if c.Expires <= now.Unix() || c.Issued > now.Unix()+300 ||
			!strings.EqualFold(strings.TrimSuffix(c.Issuer, "."), "east.example") && len(c.Issuer) < 12 {
			t.Fatalf("%+v is taken", c)
		}
		c.Stances()
		c.Words()
	})
}
