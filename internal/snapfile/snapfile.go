// Package snapfile keeps what a service knows in a file that is mapped into memory at the next start, instead of being read from the
// database row by row. A file is of one program: another one lays its records out otherwise, and reads rows. Services of one machine may
// share a file; one of them at a time writes it.
package snapfile

import (
	"bytes"
	"crypto/sha256"
	"debug/elf"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"runtime"
	"sync"
	"sync/atomic"
	"syscall"

	"github.com/zeebo/xxh3"
)

// At says of which moment of which journal a file is.
type At struct {
	Seq      uint64 // the last entry of the journal that it knows
	Revision uint64 // of the policy
	Seal     string // of that entry: another journal has another one at the same place
}

// Unusable is why a file is not used.
type Unusable struct {
	Why     string
	Another bool // it is another version's, which may use it still
	Alien   bool // it is no snapshot but something else, which is left as it is
}

func (e *Unusable) Error() string { return e.Why }

// ErrBusy says that another service is at work on the file.
var ErrBusy = errors.New("another service writes the file")

const (
	magic     = "WXSNAP01"
	firstPage = 4096    // of what tells where the header is
	sumOver   = 8 << 20 // bytes that one checksum is over, at most
)

// header stands behind everything else; the first page says where.
type header struct {
	Program string // what wrote it
	At      At
	Told    json.RawMessage // by whoever handed the bytes over
	End     int64           // where the last of them ends, room behind them included
	Sums    []sum
}

// sum is over a stretch of the file.
type sum struct {
	At, Len int64
	Sum     uint64
}

// program names what runs, so that no other one takes its file for its own: the linker's name for exactly these instructions.
var program = sync.OnceValues(func() (string, error) {
	path, err := os.Executable()
	if err != nil {
		return "", err
	}
	if f, err := elf.Open(path); err == nil {
		defer f.Close()
		if s := f.Section(".note.go.buildid"); s != nil {
			if b, err := s.Data(); err == nil && len(b) > 16 {
				d := sha256.Sum256(b)
				return hex.EncodeToString(d[:]), nil
			}
		}
	}
	f, err := os.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	h := sha256.New()
	_, err = io.Copy(h, f)
	return hex.EncodeToString(h.Sum(nil)), err
})

// Write writes a file, whole or not at all: another one of its name stays until it is there. hand hands the bytes over in the order of
// their places, from a place on. size is how much it takes on the disk, about. An error is ErrBusy, or the disk's.
func Write(path string, at At, hand func(from int64, put func(at int64, b []byte) error) (told []byte, end int64, err error)) (size int64,
	err error) {
	mine, err := program()
	if err != nil {
		return 0, err
	}
	lock, err := os.OpenFile(path+".lock", os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return 0, err
	}
	defer lock.Close()
	if err := syscall.Flock(int(lock.Fd()), syscall.LOCK_EX|syscall.LOCK_NB); err != nil {
		return 0, ErrBusy
	}
	is, err := look(path)
	if no := (*Unusable)(nil); errors.As(err, &no) && no.Alien {
		return 0, err
	}
	if err == nil && is.Program == mine && is.At == at {
		return 0, nil // another service was here
	}
	half := path + ".new"
	f, err := os.OpenFile(half, os.O_CREATE|os.O_TRUNC|os.O_RDWR, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() {
		err = errors.Join(err, f.Close())
		if err != nil {
			_ = os.Remove(half)
		}
	}()
	h := header{Program: mine, At: at}
	var run *sum
	hash := xxh3.New()
	done := func() {
		if run != nil {
			run.Sum = hash.Sum64()
			h.Sums = append(h.Sums, *run)
			run = nil
			hash.Reset()
		}
	}
	put := func(at int64, b []byte) error {
		for len(b) > 0 {
			if run != nil && (run.At+run.Len != at || run.Len >= sumOver) {
				done()
			}
			if run == nil {
				run = &sum{At: at}
			}
			n := min(int64(len(b)), sumOver-run.Len)
			if _, err := f.WriteAt(b[:n], at); err != nil {
				return err
			}
			_, _ = hash.Write(b[:n])
			run.Len, at, b, size = run.Len+n, at+n, b[n:], size+n
		}
		return nil
	}
	if h.Told, h.End, err = hand(firstPage, put); err != nil {
		return size, err
	}
	done()
	b, err := json.Marshal(&h)
	if err != nil {
		return size, err
	}
	if _, err = f.WriteAt(b, h.End); err != nil {
		return size, err
	}
	first := make([]byte, 32)
	copy(first, magic)
	binary.LittleEndian.PutUint64(first[8:], uint64(h.End))
	binary.LittleEndian.PutUint64(first[16:], uint64(len(b)))
	binary.LittleEndian.PutUint64(first[24:], xxh3.Hash(b))
	if _, err = f.WriteAt(first, 0); err != nil {
		return size, err
	}
	if err = f.Sync(); err != nil {
		return size, err
	}
	if err = os.Rename(half, path); err != nil {
		return size, err
	}
	if dir, err := os.Open(filepath.Dir(path)); err == nil { // the name stays, too, where power fails
		_ = dir.Sync()
		_ = dir.Close()
	}
	return size + int64(len(b)), nil
}

// Open maps a file, after it was found to be whole and this program's. What is written to in, in memory, does not reach the file. An error
// is a fs.PathError where there is none, or an *Unusable.
func Open(path string) (at At, in, told []byte, err error) {
	mine, err := program()
	if err != nil {
		return at, nil, nil, err
	}
	f, err := os.Open(path)
	if err != nil {
		return at, nil, nil, err
	}
	defer f.Close()
	h, err := read(f)
	if err != nil {
		return at, nil, nil, err
	}
	if h.Program != mine {
		return at, nil, nil, &Unusable{Why: "another version of the program wrote it", Another: true}
	}
	if h.End < firstPage || h.End > 1<<44 {
		return at, nil, nil, &Unusable{Why: "it is damaged: its header names no end that can be"}
	}
	in, err = syscall.Mmap(int(f.Fd()), 0, int(h.End), syscall.PROT_READ|syscall.PROT_WRITE, syscall.MAP_PRIVATE)
	if err != nil {
		return at, nil, nil, fmt.Errorf("%s cannot be mapped: %w", path, err)
	}
	if !whole(in, h.Sums) {
		_ = syscall.Munmap(in)
		return at, nil, nil, &Unusable{Why: "it is damaged: what it holds is not what was written"}
	}
	return h.At, in, h.Told, nil
}

// Close gives back what Open mapped, where nothing was made of it.
func Close(in []byte) { _ = syscall.Munmap(in) }

// whole checks every sum, on all processors.
func whole(in []byte, sums []sum) bool {
	var next atomic.Int64
	var bad atomic.Bool
	var group sync.WaitGroup
	for range max(1, runtime.GOMAXPROCS(0)) {
		group.Go(func() {
			for i := next.Add(1) - 1; i < int64(len(sums)) && !bad.Load(); i = next.Add(1) - 1 {
				s := sums[i]
				if s.At < firstPage || s.Len < 0 || s.At > int64(len(in))-s.Len || xxh3.Hash(in[s.At:s.At+s.Len]) != s.Sum {
					bad.Store(true)
				}
			}
		})
	}
	group.Wait()
	return !bad.Load()
}

func look(path string) (h header, err error) {
	f, err := os.Open(path)
	if err != nil {
		return h, err
	}
	defer f.Close()
	return read(f)
}

// read reads the header, and finds out whether the file is as long as it says.
func read(f *os.File) (h header, err error) {
	st, err := f.Stat()
	if err != nil {
		return h, err
	}
	first := make([]byte, 32)
	if _, err := f.ReadAt(first, 0); err != nil || !bytes.HasPrefix(first, []byte(magic)) {
		return h, &Unusable{Why: "it is no snapshot but something else, which is left as it is; name another file", Alien: true}
	}
	at, n := binary.LittleEndian.Uint64(first[8:]), binary.LittleEndian.Uint64(first[16:])
	if n > 1<<32 || at > 1<<44 || int64(at+n) != st.Size() {
		return h, &Unusable{Why: "it is damaged: it is not as long as it says"}
	}
	b := make([]byte, n)
	if _, err := f.ReadAt(b, int64(at)); err != nil || xxh3.Hash(b) != binary.LittleEndian.Uint64(first[24:]) {
		return h, &Unusable{Why: "it is damaged: its header is not what was written"}
	}
	if err := json.Unmarshal(b, &h); err != nil {
		return h, &Unusable{Why: "it is damaged: its header cannot be read"}
	}
	return h, nil
}
