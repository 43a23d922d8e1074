// Package ledger speaks to a Ledger.
package ledger

import (
	"bytes"
	"context"
	"encoding/csv"
	"fmt"
	"net/http"
	"net/url"

	"wexillum.example/internal/connector/wire"
	"wexillum.example/internal/core/native"
)

// Connector reads and writes one Ledger.
type Connector struct{ line *wire.Line }

// New returns a connector to the Ledger at an address, whose password is key.
func New(address, key string) (*Connector, error) {
	l, err := wire.New(address, func(r *http.Request) { r.SetBasicAuth("wexillum", key) })
	return &Connector{l}, err
}

// Read returns every setting in the system's own words.
func (c *Connector) Read(ctx context.Context) (map[string]string, error) {
	body, err := c.line.Call(ctx, http.MethodGet, "/ledger/book.csv", "", nil)
	if err != nil {
		return nil, err
	}
	rows, err := csv.NewReader(bytes.NewReader(body)).ReadAll()
	if err != nil || len(rows) == 0 || len(rows[0]) != 2 || rows[0][0] != "entry" {
		return nil, fmt.Errorf("what it answered is no book of entries: %v", err)
	}
	out := map[string]string{}
	for _, r := range rows[1:] {
		value := r[1]
		if mode, names, err := native.ParseBoard(value); err == nil {
			value = native.BoardText(mode, names)
		}
		out[r[0]] = value
	}
	return out, nil
}

// Write sets one setting. That it is taken does not mean that it counts.
func (c *Connector) Write(ctx context.Context, path, value string) error {
	form := url.Values{"entry": {path}, "reads": {value}}
	_, err := c.line.Call(ctx, http.MethodPost, "/ledger/book.csv", "application/x-www-form-urlencoded", []byte(form.Encode()))
	return err
}

// Try attempts an action from outside. known is false where this system cannot try it.
func (c *Connector) Try(ctx context.Context, action, _, to string) (admitted bool, says string, known bool, err error) {
	if action != "mail.forward" {
		return false, "", false, nil
	}
	admitted, says, err = c.line.Knock(ctx, "/ledger/outside/letter", url.Values{"on-to": {to}})
	return admitted, says, true, err
}
