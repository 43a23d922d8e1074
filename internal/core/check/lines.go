package check

import (
	"bufio"
	"io"

	"wexillum.example/internal/core/engine"
)

// maxLine is the longest line of a list, in bytes: some thousand addresses.
const maxLine = 1 << 18

// lines reads a list line by line and counts the lines from 1.
type lines struct {
	s *bufio.Scanner
	n int
}

// newLines begins with a small buffer, which grows up to maxLine where a line
// needs it.
func newLines(in io.Reader) *lines {
	s := bufio.NewScanner(in)
	s.Buffer(make([]byte, 0, 1<<12), maxLine)
	return &lines{s: s}
}

// next returns a line without its end, and its number; io.EOF after the last
// one.
func (l *lines) next() (int, string, error) {
	if !l.s.Scan() {
		if err := l.s.Err(); err != nil {
			if err == bufio.ErrTooLong {
				return 0, "", &engine.WrongUse{Field: "list", Reason: "a line is longer than 256 kB; write one address on a line"}
			}
			return 0, "", err
		}
		return 0, "", io.EOF
	}
	l.n++
	return l.n, l.s.Text(), nil
}
