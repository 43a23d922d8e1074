// Package quay speaks to a Quay.
package quay

import (
	"context"
	"encoding/json"
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

// Try attempts an action from outside. known is false where this system cannot try it.
func (c *Connector) Try(ctx context.Context, action, _, _ string) (admitted bool, says string, known bool, err error) {
	if action != "files.open" {
		return false, "", false, nil
	}
	admitted, says, err = c.line.Knock(ctx, "/quay/outside/ticket", url.Values{})
	return admitted, says, true, err
}
