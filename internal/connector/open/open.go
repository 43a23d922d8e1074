// Package open speaks the contract of connector.yaml, which lets anybody write the half that stands beside a suite of
// their own: the program there says which settings and records the suite has, in its words, and this connector reads,
// writes and tries through it.
package open

import (
	"context"
	_ "embed"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"time"

	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/native"
)

// Contract is the OpenAPI document of what is spoken.
//
//go:embed connector.yaml
var Contract []byte

// Connector reads and writes one system through the program beside it.
type Connector struct{ line *wire.Line }

// New returns a connector to the program at an address, whose bearer token is key.
func New(address, key string) (*Connector, error) {
	l, err := wire.New(address, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+key) })
	return &Connector{l}, err
}

func (c *Connector) get(ctx context.Context, path string, to any) error {
	body, err := c.line.Call(ctx, http.MethodGet, path, "", nil)
	if err == nil {
		err = read(body, to)
	}
	return err
}

func (c *Connector) send(ctx context.Context, method, path string, what, to any) error {
	body, err := json.Marshal(what)
	if err != nil {
		return err
	}
	if body, err = c.line.Call(ctx, method, path, "application/json", body); err != nil || to == nil {
		return err
	}
	return read(body, to)
}

func read(body []byte, to any) error {
	if err := json.Unmarshal(body, to); err != nil {
		return fmt.Errorf("what it answered is not what the contract says: %w", err)
	}
	return nil
}

// Describe asks what the system can hold. What is wrong with the answer is said by the path it is at.
func (c *Connector) Describe(ctx context.Context) (*native.Dialect, error) {
	var x Description
	if err := c.get(ctx, "/v1/description", &x); err != nil {
		return nil, err
	}
	return x.Dialect()
}

// Dialect reads a description.
func (x *Description) Dialect() (*native.Dialect, error) {
	if x.Contract != 1 {
		return nil, fmt.Errorf("it speaks version %d of the contract; this service speaks 1", x.Contract)
	}
	if x.Name == "" || x.Title == "" {
		return nil, fmt.Errorf("it says no name or no title")
	}
	d := &native.Dialect{Name: x.Name, Title: x.Title, Services: x.Services, Also: x.Actions, Tries: x.Tries}
	for _, s := range x.Services {
		if !slices.ContainsFunc(catalogue.Rules(), func(r catalogue.Rule) bool { return r.Service() == s }) {
			return nil, fmt.Errorf("services: there is no service %q", s)
		}
	}
	for _, a := range slices.Concat(x.Actions, x.Tries) {
		if _, ok := catalogue.ActionByName(a); !ok {
			return nil, fmt.Errorf("there is no action %q", a)
		}
	}
	for _, s := range x.Sets {
		d.Sets = append(d.Sets, native.Scope(s))
	}
	for i := range x.Settings {
		y, err := x.Settings[i].dial()
		if err != nil {
			return nil, err
		}
		d.Dials = append(d.Dials, y)
	}
	for _, l := range x.Lists {
		d.Boards = append(d.Boards, native.Board{Path: l.Path, Title: l.Title, Rule: l.Rule, Keys: l.Keys, Opens: l.Opens, Only: l.Only,
			But: l.But, Span: span(l.Seconds), Charter: l.InSets, Single: l.Single})
	}
	for _, a := range x.Asks {
		d.Lives = append(d.Lives, native.Live{Path: a.Path, On: a.On, Unanswered: a.Unanswered, Refuses: a.Refuses, Rule: a.Rule, Title: a.Title,
			Opened: a.Opened})
	}
	for _, t := range x.Tighter {
		d.Shuts = append(d.Shuts, native.Shut{Rule: t.Rule, Says: t.Says})
	}
	for _, k := range x.Records {
		h := native.Holding{Kind: string(k.Kind), Name: k.Name, Title: k.Title, Span: span(k.Seconds), Source: k.Source, Says: k.Says}
		for _, f := range k.Fields {
			h.Fields = append(h.Fields, native.Field{Name: f.Name, Of: f.Of, Words: f.Words, Empty: f.Empty, Spaces: f.Spaces, Free: f.Free})
		}
		d.Holdings = append(d.Holdings, h)
	}
	return d, d.Check()
}

// span reads how long a change takes to count.
func span(seconds int) time.Duration { return time.Duration(seconds) * time.Second }

// dial reads a setting, whose words are said by our values.
func (s *Setting) dial() (out native.Dial, err error) {
	out = native.Dial{Path: s.Path, Title: s.Title, Rule: s.Rule, Ceiling: s.Ceiling, NoEnd: s.NoEnd, Span: span(s.Seconds), Hand: s.ByHand,
		Charter: s.InSets}
	r, ok := catalogue.RuleByName(s.Rule)
	if !ok {
		return out, fmt.Errorf("%s: there is no rule %q", s.Path, s.Rule)
	}
	if s.Words != nil {
		for _, name := range r.Scale.Names {
			out.Words = append(out.Words, s.Words[name])
		}
		for name := range s.Words {
			if !slices.Contains(r.Scale.Names, name) {
				return out, fmt.Errorf("%s: %s is %s, not %q", s.Path, s.Rule, r.Scale.Describe(), name)
			}
		}
	}
	for word, v := range s.Vague {
		if len(v) != 2 {
			return out, fmt.Errorf("%s: %q means something at the least and at the most, two values", s.Path, word)
		}
		if out.Vague == nil {
			out.Vague = map[string][2]string{}
		}
		out.Vague[word] = [2]string{v[0], v[1]}
	}
	return out, nil
}

// Describing says a dialect as the contract does: the way back of Dialect.
func Describing(d *native.Dialect) (out Description) {
	out = Description{Contract: 1, Name: d.Name, Title: d.Title, Services: d.Services, Actions: d.Also, Tries: d.Tries}
	for _, s := range d.Sets {
		out.Sets = append(out.Sets, DescriptionSets(s))
	}
	for i := range d.Dials {
		x := &d.Dials[i]
		s := Setting{Path: x.Path, Title: x.Title, Rule: x.Rule, Ceiling: x.Ceiling, NoEnd: x.NoEnd, Seconds: seconds(x.Span), ByHand: x.Hand,
			InSets: x.Charter}
		r, _ := catalogue.RuleByName(x.Rule)
		for v, word := range x.Words {
			if word != "" {
				if s.Words == nil {
					s.Words = map[string]string{}
				}
				s.Words[r.Scale.Names[v]] = word
			}
		}
		for word, v := range x.Vague {
			if s.Vague == nil {
				s.Vague = map[string][]string{}
			}
			s.Vague[word] = v[:]
		}
		out.Settings = append(out.Settings, s)
	}
	for _, b := range d.Boards {
		out.Lists = append(out.Lists, DomainList{Path: b.Path, Title: b.Title, Rule: b.Rule, Keys: b.Keys, Opens: b.Opens, Only: b.Only,
			But: b.But, Seconds: seconds(b.Span), InSets: b.Charter, Single: b.Single})
	}
	for _, l := range d.Lives {
		out.Asks = append(out.Asks, Asks{Path: l.Path, On: l.On, Unanswered: l.Unanswered, Refuses: l.Refuses, Rule: l.Rule, Title: l.Title,
			Opened: l.Opened})
	}
	for _, t := range d.Shuts {
		out.Tighter = append(out.Tighter, Tighter{Rule: t.Rule, Says: t.Says})
	}
	for _, h := range d.Holdings {
		k := Kind{Kind: KindKind(h.Kind), Name: h.Name, Title: h.Title, Seconds: seconds(h.Span), Source: h.Source, Says: h.Says,
			Fields: []Field{}}
		for _, f := range h.Fields {
			k.Fields = append(k.Fields, Field{Name: f.Name, Of: f.Of, Words: f.Words, Empty: f.Empty, Spaces: f.Spaces, Free: f.Free})
		}
		out.Records = append(out.Records, k)
	}
	return out
}

func seconds(d time.Duration) int { return int(d / time.Second) }

// Read returns every setting in the system's own words.
func (c *Connector) Read(ctx context.Context) (map[string]string, error) {
	var x Settings
	if err := c.get(ctx, "/v1/settings", &x); err != nil {
		return nil, err
	}
	if x.Settings == nil {
		return nil, fmt.Errorf("what it answered is no list of settings")
	}
	for path, value := range x.Settings {
		if native.IsSet(path) { // it holds lists, and is none
			continue
		}
		if mode, names, err := native.ParseBoard(value); err == nil {
			x.Settings[path] = native.BoardText(mode, names)
		}
	}
	return x.Settings, nil
}

// Write sets one setting. That it is taken does not mean that it counts.
func (c *Connector) Write(ctx context.Context, path, value string) error {
	return c.send(ctx, http.MethodPost, "/v1/settings", Write{path, value}, nil)
}

func kept(r *Record) native.Kept {
	return native.Kept{ID: r.Id, Fields: r.Fields, By: r.By, Opened: r.Opened}
}

func at(kind string) string { return "/v1/records/" + url.PathEscape(kind) }

// mostRecords is how many records of a kind are read of one system, so that one that never ends is told.
const mostRecords = 5_000_000

// List hands over all records of a kind, a page at a time.
func (c *Connector) List(ctx context.Context, kind string, fn func(native.Kept) error) error {
	count := 0
	for after := ""; ; {
		var page Page
		if err := c.get(ctx, at(kind)+"?after="+url.QueryEscape(after), &page); err != nil {
			return err
		}
		if page.Records == nil || page.Next != "" && (page.Next <= after || len(page.Records) == 0) {
			return fmt.Errorf("what it answered is no page of %s", kind)
		}
		if count += len(page.Records); count > mostRecords {
			return fmt.Errorf("it lists more than %d %s", mostRecords, kind)
		}
		for i := range page.Records {
			if err := fn(kept(&page.Records[i])); err != nil {
				return err
			}
		}
		if after = page.Next; after == "" {
			return nil
		}
	}
}

// One returns a record; nil where it is not there.
func (c *Connector) One(ctx context.Context, kind, id string) (*native.Kept, error) {
	var x Record
	err := c.get(ctx, at(kind)+"/"+url.PathEscape(id), &x)
	if wire.NotThere(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	if x.Id == "" {
		return nil, fmt.Errorf("what it answered is none of its %s", kind)
	}
	out := kept(&x)
	return &out, nil
}

// Put makes a record, or changes the one with an id, and returns its id. It may be sent twice.
func (c *Connector) Put(ctx context.Context, kind, id string, fields map[string]string) (string, error) {
	method, where := http.MethodPost, at(kind)
	if id != "" {
		method, where = http.MethodPut, where+"/"+url.PathEscape(id)
	}
	var x Made
	if err := c.send(ctx, method, where, Fields{fields}, &x); err != nil {
		return "", err
	}
	if x.Id == "" {
		return "", fmt.Errorf("it took the record and names no id")
	}
	return x.Id, nil
}

// Drop takes a record away. One that is not there is no fault.
func (c *Connector) Drop(ctx context.Context, kind, id string) error {
	_, err := c.line.Call(ctx, http.MethodDelete, at(kind)+"/"+url.PathEscape(id), "", nil)
	if wire.NotThere(err) {
		return nil
	}
	return err
}

// Try attempts an action from outside.
func (c *Connector) Try(ctx context.Context, a native.Attempt) (native.Attempted, error) {
	var x Attempted
	err := c.send(ctx, http.MethodPost, "/v1/try", Attempt{Action: a.Action, As: AttemptAs(a.As), From: a.From, To: a.To, Place: a.Place,
		Administrator: a.Administrator, Private: a.Private}, &x)
	return native.Attempted{Known: x.Known, Admitted: x.Admitted, Says: x.Says, Theirs: x.Theirs, Making: x.Making}, err
}
