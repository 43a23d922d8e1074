package store

import (
	"bytes"
	"io"
	"io/fs"
	"regexp"
)

// again hands out the migrations so that each of their statements does nothing where it was done
// before. MariaDB commits every statement that changes the schema by itself: whoever is killed in
// the middle of a migration leaves a part of it, and the next start goes through all of it again.
// The files stay as they were released.
type again struct{ fs.FS }

var doneBefore = []struct {
	is   *regexp.Regexp
	then string
}{
	{regexp.MustCompile(`(?m)^CREATE TABLE (IF NOT EXISTS )?`), "CREATE TABLE IF NOT EXISTS "},
	{regexp.MustCompile(`(?m)^DROP TABLE (IF EXISTS )?`), "DROP TABLE IF EXISTS "},
	{regexp.MustCompile(`(?m)^CREATE INDEX (IF NOT EXISTS )?`), "CREATE INDEX IF NOT EXISTS "},
	{regexp.MustCompile(`(?m)^DROP INDEX (IF EXISTS )?`), "DROP INDEX IF EXISTS "},
	{regexp.MustCompile(`\bADD (COLUMN|KEY) (IF NOT EXISTS )?`), "ADD $1 IF NOT EXISTS "},
	{regexp.MustCompile(`\bDROP (COLUMN|KEY) (IF EXISTS )?`), "DROP $1 IF EXISTS "},
	{regexp.MustCompile(`(?m)^INSERT (IGNORE )?INTO `), "INSERT IGNORE INTO "},
}

// Open opens a migration, or the directory of them.
func (a again) Open(name string) (fs.File, error) {
	f, err := a.FS.Open(name)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err != nil || info.IsDir() {
		return f, err
	}
	text, err := io.ReadAll(f)
	if err != nil {
		return nil, err
	}
	for _, x := range doneBefore {
		text = x.is.ReplaceAll(text, []byte(x.then))
	}
	return &rewritten{f, bytes.NewReader(text)}, nil
}

// rewritten is a file with another text.
type rewritten struct {
	fs.File
	text *bytes.Reader
}

func (r *rewritten) Read(b []byte) (int, error) { return r.text.Read(b) }
