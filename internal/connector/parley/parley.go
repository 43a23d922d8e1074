// Package parley speaks to a Parley.
package parley

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

// Connector reads and writes one Parley.
type Connector struct{ line *wire.Line }

// New returns a connector to the Parley at an address, whose bearer token is key.
func New(address, key string) (*Connector, error) {
	l, err := wire.New(address, func(r *http.Request) { r.Header.Set("Authorization", "Bearer "+key) })
	return &Connector{l}, err
}

// theirs begins what a house says that does not let its people go.
const theirs = "their house: "

type rule struct {
	Rule string `json:"rule"`
	Is   string `json:"is"`
}

// Read returns every setting in the system's own words.
func (c *Connector) Read(ctx context.Context) (map[string]string, error) {
	body, err := c.line.Call(ctx, http.MethodGet, "/parley/house", "", nil)
	if err != nil {
		return nil, err
	}
	var x struct {
		Rules []rule `json:"rules"`
	}
	if err := json.Unmarshal(body, &x); err != nil || x.Rules == nil {
		return nil, fmt.Errorf("what it answered is no paper of rules: %v", err)
	}
	out := map[string]string{}
	for _, r := range x.Rules {
		if mode, names, err := native.ParseBoard(r.Is); err == nil && !strings.Contains(r.Is, "=") {
			r.Is = native.BoardText(mode, names)
		}
		out[r.Rule] = r.Is
	}
	return out, nil
}

// Write sets one setting. That it is taken does not mean that it counts.
func (c *Connector) Write(ctx context.Context, path, value string) error {
	body, err := json.Marshal(map[string][]rule{"set": {{path, value}}})
	if err != nil {
		return err
	}
	_, err = c.line.Call(ctx, http.MethodPost, "/parley/house", "application/json", body)
	return err
}

// Parley keeps nothing of our inventory.
var errKeeps = errors.New("it keeps no records")

// List hands nothing over.
func (c *Connector) List(context.Context, string, func(native.Kept) error) error { return errKeeps }

// One finds nothing.
func (c *Connector) One(context.Context, string, string) (*native.Kept, error) { return nil, errKeeps }

// Put makes nothing.
func (c *Connector) Put(context.Context, string, string, map[string]string) (string, error) {
	return "", errKeeps
}

// Drop takes nothing away.
func (c *Connector) Drop(context.Context, string, string) error { return errKeeps }

// Try attempts an action from outside, as an address that belongs to nobody, made for the trial. Where their
// own house does not let them go, it says so.
func (c *Connector) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	path := map[string]string{"chat.message": "/parley/outside/say", "meetings.join": "/parley/outside/sit",
		"mail.see_busy": "/parley/outside/diary"}[a.Action]
	if path == "" || a.As != native.Stranger && a.As != native.AGuest {
		return out, nil
	}
	out.Known = true
	form := url.Values{"from": {a.From}}
	if a.Private {
		form.Set("private", "yes")
	}
	form.Set("to", a.To)
	form.Set("host", a.To)
	if a.As == native.AGuest { // our guests are friends of the house
		form.Set("friend", "yes")
	}
	out.Admitted, out.Says, err = c.line.FromOutside(ctx, path, form)
	if said, theirs := strings.CutPrefix(out.Says, theirs); theirs {
		out.Says, out.Theirs = said, true
	}
	return out, err
}
