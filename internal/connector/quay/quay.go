// Package quay speaks to a Quay.
package quay

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"strings"

	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/native"
)

// Connector reads and writes one Quay.
type Connector struct{ line *wire.Line }

// New returns a connector to the Quay at an address, whose pass is key.
func New(address, key string) (*Connector, error) {
	l, err := wire.New(address, func(r *http.Request) { r.Header.Set("X-Quay-Pass", key) })
	return &Connector{l}, err
}

type board struct {
	Mode  string   `json:"mode"`
	Names []string `json:"names"`
}

// Read returns every setting in the system's own words.
func (c *Connector) Read(ctx context.Context) (map[string]string, error) {
	body, err := c.line.Call(ctx, http.MethodGet, "/quay/v1/dials", "", nil)
	if err != nil {
		return nil, err
	}
	var x struct {
		Dials    map[string]string            `json:"dials"`
		Boards   map[string]board             `json:"boards"`
		Charters map[string]map[string]string `json:"charters"`
	}
	if err := json.Unmarshal(body, &x); err != nil || x.Dials == nil {
		return nil, fmt.Errorf("what it answered is no list of dials: %v", err)
	}
	for name, b := range x.Boards {
		x.Dials[name] = native.BoardText(b.Mode, b.Names)
	}
	d, _ := native.ByName("quay")
	for hull, words := range x.Charters {
		x.Dials[charter+hull] = d.CharterText(words)
	}
	return x.Dials, nil
}

// Write sets one setting. That it is taken does not mean that it counts.
func (c *Connector) Write(ctx context.Context, path, value string) error {
	if hull, ok := strings.CutPrefix(path, charter); ok {
		return c.writeCharter(ctx, hull, value)
	}
	kind, doc := "dials", any(map[string]string{"to": value})
	if mode, names, err := native.ParseBoard(value); err == nil {
		if names == nil {
			names = []string{}
		}
		kind, doc = "boards", board{mode, names}
	}
	body, err := json.Marshal(doc)
	if err != nil {
		return err
	}
	_, err = c.line.Call(ctx, http.MethodPut, "/quay/v1/"+kind+"/"+url.PathEscape(path), "application/json", body)
	return err
}

// charter begins the path of a set of values for a hull.
const charter = "charter:"

// writeCharter gives a hull a set of values in entire, or takes it back.
func (c *Connector) writeCharter(ctx context.Context, hull, value string) error {
	at := "/quay/v1/charters/" + url.PathEscape(hull)
	if value == "" {
		_, err := c.line.Call(ctx, http.MethodDelete, at, "", nil)
		return err
	}
	words, err := native.ParseCharter(value)
	if err != nil {
		return err
	}
	body, err := json.Marshal(words)
	if err != nil {
		return err
	}
	_, err = c.line.Call(ctx, http.MethodPut, at, "application/json", body)
	return err
}

// kept is a record as the harbour shows it.
type kept struct {
	ID     string            `json:"id"`
	Fields map[string]string `json:"fields"`
	By     string            `json:"by"`
	Used   *int              `json:"used"`
}

// of is a record as every connector returns it; how often one was opened is told of tickets.
func (k *kept) of(kind string) native.Kept {
	out := native.Kept{ID: k.ID, Fields: k.Fields, By: k.By}
	if kind == "tickets" {
		out.Opened = k.Used
	}
	return out
}

// List hands over all records of a kind, a page at a time.
func (c *Connector) List(ctx context.Context, kind string, fn func(native.Kept) error) error {
	for after := ""; ; {
		body, err := c.line.Call(ctx, http.MethodGet, "/quay/v1/manifest/"+url.PathEscape(kind)+"?after="+url.QueryEscape(after), "", nil)
		if err != nil {
			return err
		}
		var page struct {
			List []kept `json:"list"`
			Next string `json:"next"`
		}
		if err := json.Unmarshal(body, &page); err != nil || page.List == nil || page.Next != "" && page.Next <= after {
			return fmt.Errorf("what it answered is no page of %s: %v", kind, err)
		}
		for _, x := range page.List {
			if err := fn(x.of(kind)); err != nil {
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
	body, err := c.line.Call(ctx, http.MethodGet, "/quay/v1/manifest/"+url.PathEscape(kind)+"/"+url.PathEscape(id), "", nil)
	if wire.NotThere(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	var x kept
	if err := json.Unmarshal(body, &x); err != nil || x.ID == "" {
		return nil, fmt.Errorf("what it answered is none of its %s: %v", kind, err)
	}
	out := x.of(kind)
	return &out, nil
}

// Put makes a record, or changes the one with an id, and returns its id. One that is there already is
// changed, so that it may be sent twice.
func (c *Connector) Put(ctx context.Context, kind, id string, fields map[string]string) (string, error) {
	body, err := json.Marshal(fields)
	if err != nil {
		return "", err
	}
	method, at := http.MethodPost, "/quay/v1/manifest/"+url.PathEscape(kind)
	if id != "" {
		method, at = http.MethodPatch, at+"/"+url.PathEscape(id)
	}
	if body, err = c.line.Call(ctx, method, at, "application/json", body); err != nil {
		return "", err
	}
	var x struct {
		ID string `json:"id"`
	}
	if err := json.Unmarshal(body, &x); err != nil || x.ID == "" {
		return "", fmt.Errorf("it took the record and names no id: %v", err)
	}
	return x.ID, nil
}

// Drop takes a record away. One that is not there is no fault.
func (c *Connector) Drop(ctx context.Context, kind, id string) error {
	_, err := c.line.Call(ctx, http.MethodDelete, "/quay/v1/manifest/"+url.PathEscape(kind)+"/"+url.PathEscape(id), "", nil)
	return err
}

// Try attempts an action from outside: as a visitor who is made for it and taken away again, or with a
// ticket that is.
func (c *Connector) Try(ctx context.Context, a native.Attempt) (native.Attempted, error) {
	switch {
	case a.As == native.AHolder && a.Action == "files.open":
		mark := a.From + " " + a.Place
		return c.with(ctx, "tickets", map[string]string{"mark": mark, "crate": a.Place, "may": "look"}, func() (bool, string, error) {
			return c.line.FromOutside(ctx, "/quay/outside/ticket", url.Values{"mark": {mark}})
		})
	case a.As == native.AGuest && a.Place != "" && (a.Action == "spaces.enter" || a.Action == "files.open"):
		come := func() (bool, string, error) {
			return c.line.FromOutside(ctx, "/quay/outside/come", url.Values{"mail": {a.From}, "place": {a.Place}})
		}
		return c.with(ctx, "visitors", map[string]string{"mail": a.From, "standing": "aboard", "brought-by": "a trial"},
			func() (bool, string, error) {
				x, err := c.with(ctx, "passes", map[string]string{"mail": a.From, "place": a.Place, "may": "look"}, come)
				return x.Admitted, x.Says, err
			})
	}
	return native.Attempted{}, nil
}

// with makes a record for a trial, tries, and takes the record away again. A refusal to make it is what came
// of the trial.
func (c *Connector) with(ctx context.Context, kind string, fields map[string]string,
	try func() (bool, string, error)) (out native.Attempted, err error) {
	out.Known = true
	id, err := c.Put(ctx, kind, "", fields)
	if says, refused := wire.Says(err); refused {
		out.Says, out.Making = says, true
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer func() { err = errors.Join(err, c.Drop(context.WithoutCancel(ctx), kind, id)) }()
	out.Admitted, out.Says, err = try()
	return out, err
}
