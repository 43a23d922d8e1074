// Package ledger speaks to a Ledger.
package ledger

import (
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"slices"
	"strings"

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

const orders = "/ledger/orders.csv"

// rows reads a page of orders, and behind which the next one begins.
func rows(body []byte) (list []native.Kept, next string, err error) {
	all, err := csv.NewReader(bytes.NewReader(body)).ReadAll()
	if err != nil || len(all) == 0 || !slices.Equal(all[0], []string{"order", "box", "onto", "copy", "by", "entered-by"}) {
		return nil, "", fmt.Errorf("what it answered is no book of orders: %v", err)
	}
	for _, r := range all[1:] {
		if r[0] == "more behind" {
			return list, r[1], nil
		}
		list = append(list, native.Kept{ID: r[0], Fields: map[string]string{"box": r[1], "onto": r[2], "copy": r[3], "by": r[4]}, By: r[5]})
	}
	return list, "", nil
}

// List hands over all orders, a page at a time.
func (c *Connector) List(ctx context.Context, _ string, fn func(native.Kept) error) error {
	for behind := ""; ; {
		body, err := c.line.Call(ctx, http.MethodGet, orders+"?behind="+url.QueryEscape(behind), "", nil)
		if err != nil {
			return err
		}
		list, next, err := rows(body)
		if err != nil {
			return err
		}
		for _, x := range list {
			if err := fn(x); err != nil {
				return err
			}
		}
		if next == "" {
			return nil
		}
		if next <= behind {
			return errors.New("its pages of orders do not go on")
		}
		behind = next
	}
}

// One returns an order; nil where it is not there.
func (c *Connector) One(ctx context.Context, _, id string) (*native.Kept, error) {
	body, err := c.line.Call(ctx, http.MethodGet, orders+"?order="+url.QueryEscape(id), "", nil)
	if wire.NotThere(err) {
		return nil, nil
	}
	if err != nil {
		return nil, err
	}
	list, _, err := rows(body)
	if err != nil || len(list) != 1 {
		return nil, fmt.Errorf("it answered %d orders for one: %v", len(list), err)
	}
	return &list[0], nil
}

// Put makes an order, or changes the one with an id, and returns its id. One that is there already is
// changed, so that it may be sent twice.
func (c *Connector) Put(ctx context.Context, _, id string, fields map[string]string) (string, error) {
	form := url.Values{}
	for name, v := range fields {
		form.Set(name, v)
	}
	if id != "" {
		form.Set("order", id)
	}
	body, err := c.line.Call(ctx, http.MethodPost, orders, "application/x-www-form-urlencoded", []byte(form.Encode()))
	return strings.TrimSpace(string(body)), err
}

// Drop takes an order away. One that is not there is no fault.
func (c *Connector) Drop(ctx context.Context, _, id string) error {
	_, err := c.line.Call(ctx, http.MethodPost, orders, "application/x-www-form-urlencoded", []byte(url.Values{"strike": {id}}.Encode()))
	return err
}

// Try attempts an action from outside. Where a box is lent to the trial, an order is made in it and struck
// out again; no letter is written.
func (c *Connector) Try(ctx context.Context, a native.Attempt) (out native.Attempted, err error) {
	if a.Action == "reports.view" {
		out.Known = true
		form := url.Values{"reader": {a.From}}
		if a.As == native.AGuest {
			form.Set("known", "yes")
		}
		out.Admitted, out.Says, err = c.line.FromOutside(ctx, "/ledger/outside/figures", form)
		return out, err
	}
	if a.Action != "mail.forward" {
		return out, nil
	}
	out.Known = true
	form := url.Values{"on-to": {a.To}}
	if a.As == native.OneOurs && a.From != "" {
		by := "clerk"
		if a.Administrator {
			by = "postmaster"
		}
		id, err := c.Put(ctx, "orders", "", map[string]string{"box": a.From, "onto": a.To, "copy": "kept", "by": by})
		if says, refused := wire.Says(err); refused {
			out.Says, out.Making = says, true
			return out, nil
		}
		if err != nil {
			return out, err
		}
		defer func() { err = errors.Join(err, c.Drop(context.WithoutCancel(ctx), "orders", id)) }()
		form.Set("box", a.From)
	}
	out.Admitted, out.Says, err = c.line.FromOutside(ctx, "/ledger/outside/letter", form)
	return out, err
}
