// Package migrations holds the steps by which the database's tables came about. What was released is never edited.
package migrations

import (
	"embed"
	"io/fs"
	"strings"
)

// Files are the steps, by the order of their names.
//
//go:embed *.sql
var Files embed.FS

// Newest is the newest format of the database that the program knows, by the number of its step.
func Newest() string {
	list, err := fs.Glob(Files, "*.sql")
	if err != nil || len(list) == 0 {
		return "of none"
	}
	number, _, _ := strings.Cut(list[len(list)-1], "_")
	return strings.TrimLeft(number, "0")
}
