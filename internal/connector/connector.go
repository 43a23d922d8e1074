// Package connector knows which connector speaks to which kind of system.
package connector

import (
	"context"
	"fmt"

	"wexillum.example/internal/connector/ledger"
	"wexillum.example/internal/connector/parley"
	"wexillum.example/internal/connector/quay"
)

// Connector reads and writes the settings of one system, in its own words.
type Connector interface {
	Read(ctx context.Context) (map[string]string, error)
	Write(ctx context.Context, path, value string) error
	Try(ctx context.Context, action, from, to string) (admitted bool, says string, known bool, err error)
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
	}
	return nil, fmt.Errorf("there is no connector for %q", dialect)
}
