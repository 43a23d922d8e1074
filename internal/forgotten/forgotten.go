// Package forgotten keeps, apart from the database, who was forgotten, so that a backup from before is told to forget them again. It keeps
// no address: only what an address that is at hand can be recognised by.
package forgotten

import (
	"bufio"
	"crypto/hmac"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"strings"
	"time"
)

const first = "# forgotten by Wexillum; salt "

// Add writes into a list that an address was forgotten at a moment, and makes the list where there is none: a line with the salt of the
// list, then one for each, with the moment (RFC 3339) and the HMAC-SHA256 (RFC 2104) of the address under the salt. It returns when that is
// on the disk.
func Add(path, address string, at time.Time) (err error) {
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	salt, err := saltOf(bufio.NewScanner(f), path)
	if errors.Is(err, errEmpty) {
		salt = make([]byte, 32)
		_, _ = rand.Read(salt)
		_, err = fmt.Fprintf(f, "%s%x\n", first, salt)
	}
	if err != nil {
		return err
	}
	if _, err := fmt.Fprintf(f, "%s %s\n", at.UTC().Format(time.RFC3339), mark(salt, address)); err != nil {
		return err
	}
	return f.Sync()
}

var errEmpty = errors.New("empty")

func saltOf(in *bufio.Scanner, path string) ([]byte, error) {
	if !in.Scan() {
		if err := in.Err(); err != nil {
			return nil, err
		}
		return nil, errEmpty
	}
	text, ok := strings.CutPrefix(in.Text(), first)
	salt, err := hex.DecodeString(text)
	if !ok || err != nil || len(salt) != 32 {
		return nil, fmt.Errorf("%s is no list of who was forgotten: its first line names no salt", path)
	}
	return salt, nil
}

func mark(salt []byte, address string) string {
	h := hmac.New(sha256.New, salt)
	h.Write([]byte(strings.ToLower(address)))
	return hex.EncodeToString(h.Sum(nil))
}

// List is lists that were read.
type List struct {
	salts [][]byte
	marks map[string]bool
}

// Read reads lists, one of each service or machine. A last line that was cut off by a crash is passed over; another one that says nothing
// is an error.
func Read(paths ...string) (*List, error) {
	l := &List{marks: map[string]bool{}}
	for _, path := range paths {
		if err := l.read(path); err != nil {
			return nil, err
		}
	}
	return l, nil
}

func (l *List) read(path string) error {
	f, err := os.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	in := bufio.NewScanner(f)
	salt, err := saltOf(in, path)
	if errors.Is(err, errEmpty) {
		return nil
	}
	if err != nil {
		return err
	}
	l.salts = append(l.salts, salt)
	bad := 0
	for line := 2; in.Scan(); line++ {
		if bad > 0 {
			return fmt.Errorf("%s, line %d: write a moment and a mark, as they were written there", path, bad)
		}
		_, m, ok := strings.Cut(in.Text(), " ")
		if b, err := hex.DecodeString(m); !ok || err != nil || len(b) != sha256.Size {
			bad = line
			continue
		}
		l.marks[m] = true
	}
	return in.Err()
}

// Has reports whether an address was forgotten.
func (l *List) Has(address string) bool {
	for _, salt := range l.salts {
		if l.marks[mark(salt, address)] {
			return true
		}
	}
	return false
}

// Len is how many it holds.
func (l *List) Len() int { return len(l.marks) }
