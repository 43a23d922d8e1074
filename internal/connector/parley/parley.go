// Package parley speaks to a Parley.
package parley

import (
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"

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
		if mode, names, err := native.ParseBoard(r.Is); err == nil {
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

// Try attempts an action from outside as an address does that belongs to nobody, made for the trial. known
// is false where this system cannot try it.
func (c *Connector) Try(ctx context.Context, action, from, _ string) (admitted bool, says string, known bool, err error) {
	path := map[string]string{"chat.message": "/parley/outside/say", "meetings.join": "/parley/outside/sit"}[action]
	if path == "" {
		return false, "", false, nil
	}
	admitted, says, err = c.line.Knock(ctx, path, url.Values{"from": {from}})
	return admitted, says, true, err
}
