// Package connector knows which connector speaks to which kind of system.
package connector

import (
	"context"
	"fmt"

	"wexillum.example/internal/connector/ledger"
	"wexillum.example/internal/connector/open"
	"wexillum.example/internal/connector/parley"
	"wexillum.example/internal/connector/quay"
	"wexillum.example/internal/core/native"
)

// Connector reads and writes what one system holds, in its own words, and tries it from outside.
type Connector interface {
	Read(ctx context.Context) (map[string]string, error)
	Write(ctx context.Context, path, value string) error
	Try(ctx context.Context, a native.Attempt) (native.Attempted, error)
	List(ctx context.Context, kind string, fn func(native.Kept) error) error
	One(ctx context.Context, kind, id string) (*native.Kept, error)
	Put(ctx context.Context, kind, id string, fields map[string]string) (string, error)
	Drop(ctx context.Context, kind, id string) error
}

// New returns the connector for a system of a dialect.
func New(dialect, address, key string) (Connector, error) {
	switch dialect {
	case "quay":
		return quay.New(address, key)
	case "parley":
		return parley.New(address, key)
	case "ledger":
		return ledger.New(address, key)
	case native.Described:
		return open.New(address, key)
	}
	return nil, fmt.Errorf("there is no connector for %q", dialect)
}
