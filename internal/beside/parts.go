package beside

import (
	"context"
	"errors"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/native"
)

// NoRecords is for servers that keep nothing of our inventory.
type NoRecords struct{}

var errKeeps = Refuse("it keeps no records")

// List hands nothing over.
func (NoRecords) List(context.Context, string, func(native.Kept) error) error { return errKeeps }

// One finds nothing.
func (NoRecords) One(context.Context, string, string) (*native.Kept, error) { return nil, errKeeps }

// Put makes nothing.
func (NoRecords) Put(context.Context, string, string, map[string]string) (string, error) {
	return "", errKeeps
}

// Drop takes nothing away.
func (NoRecords) Drop(context.Context, string, string) error { return errKeeps }

// Each hands records over in the order of their ids.
func Each(all map[string]native.Kept, fn func(native.Kept) error) error {
	for _, id := range slices.Sorted(maps.Keys(all)) {
		if err := fn(all[id]); err != nil {
			return err
		}
	}
	return nil
}

// DomainList reads a list of domains whose modes are only and not, and writes it as every list is written. Anything else
// is refused. A single one names addresses too, and takes names out again with !.
func DomainList(value string, single bool) (string, error) {
	mode, names, err := native.ParseBoard(value)
	if err != nil || mode != "only" && mode != "not" {
		return "", Refuse("domains are written as only: a.example or not: a.example, not %q", value)
	}
	for _, n := range names {
		if single {
			n = strings.TrimPrefix(n, "!")
			if _, err := addr.Parse(n); err == nil {
				continue
			}
		}
		if _, err := addr.ParseDomain(strings.TrimPrefix(n, "*.")); err != nil {
			return "", Refuse("%q is no domain", n)
		}
	}
	return native.BoardText(mode, names), nil
}

// Replace replaces a file in one step, so that the server never reads half of one, and with a later second than before:
// some servers read a file again only then. Every user may read it, since the server is another than we.
func Replace(path, text string) error {
	return ReplaceAfter(path, text, nil)
}

// ReplaceAfter is Replace with a check of the new file before it counts.
func ReplaceAfter(path, text string, check func(file string) error) error {
	later := time.Now()
	if was, err := os.Stat(path); err == nil && !was.ModTime().Add(time.Second).Before(later) {
		later = was.ModTime().Add(time.Second)
	}
	next := path + ".new"
	if err := os.WriteFile(next, []byte(text), 0o644); err != nil { //nolint:gosec // the server is another user
		return err
	}
	if check != nil {
		if err := check(next); err != nil {
			return errors.Join(err, os.Remove(next))
		}
	}
	return errors.Join(os.Chmod(next, 0o644), os.Chtimes(next, later, later), os.Rename(next, path)) //nolint:gosec // as above
}
