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

// Say tries to speak to one of our people from an address outside, as the other house would. It returns
// whether it was delivered, and what was answered.
func (c *Connector) Say(ctx context.Context, from, to string) (delivered bool, says string, err error) {
	form := url.Values{"from": {from}, "to": {to}}
	_, err = c.line.Call(ctx, http.MethodPost, "/parley/outside/say", "application/x-www-form-urlencoded", []byte(form.Encode()))
	var r *wire.Refused
	switch {
	case err == nil:
		return true, "delivered", nil
	case errors.As(err, &r) && r.Status == http.StatusForbidden:
		return false, strings.TrimSpace(r.Says), nil
	}
	return false, "", err
}
