package check

import (
	"bufio"
	"io"

	"wexillum.example/internal/core/engine"
)

// maxLine is the longest line of a list, in bytes: some thousand addresses.
const maxLine = 1 << 18

type lines struct {
	s *bufio.Scanner
	n int
}

func newLines(in io.Reader) *lines {
	s := bufio.NewScanner(in)
	s.Buffer(make([]byte, 0, 1<<12), maxLine)
	return &lines{s: s}
}

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
