package snapfile

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"
)

// writes is what a child of the test does: it writes the file over and over, until it is killed.
const writes = "SNAPFILE_WRITES"

func TestMain(m *testing.M) {
	if path := os.Getenv(writes); path != "" {
		fmt.Println("begun")
		for n := uint64(1); ; n++ {
			if _, err := Write(path, At{Seq: n}, content(n)); err != nil {
				fmt.Fprintln(os.Stderr, err)
				os.Exit(1)
			}
		}
	}
	os.Exit(m.Run())
}

// content is a few megabytes that only this number has, in three stretches with gaps between.
func content(n uint64) func(from int64, put func(int64, []byte) error) ([]byte, int64, error) {
	return func(from int64, put func(int64, []byte) error) ([]byte, int64, error) {
		at := from
		for k := range 3 {
			b := bytes.Repeat(binary.LittleEndian.AppendUint64(nil, n*10+uint64(k)), 1<<18+k)
			if err := put(at, b); err != nil {
				return nil, 0, err
			}
			at = (at + int64(len(b)) + 1<<16) &^ 63
		}
		return fmt.Appendf(nil, "%d", n), at, nil
	}
}

// is finds out whether what is mapped is the content of a number.
func is(in []byte, n uint64) bool {
	same := true
	_, end, _ := content(n)(firstPage, func(at int64, b []byte) error {
		same = same && bytes.Equal(in[at:at+int64(len(b))], b)
		return nil
	})
	return same && end == int64(len(in))
}

func must(t *testing.T, err error) {
	t.Helper()
	if err != nil {
		t.Fatal(err)
	}
}

// TestKilled: whoever writes is killed at any moment, forty times; what is there is always whole, and of one writing.
func TestKilled(t *testing.T) {
	seed := rand.Uint64()
	t.Logf("seed %d", seed)
	rnd := rand.New(rand.NewPCG(seed, 1))
	path := filepath.Join(t.TempDir(), "snapshot")
	begun := time.Now()
	_, err := Write(path, At{Seq: 1 << 40}, content(1<<40))
	must(t, err)
	took := time.Since(begun)
	last, others := uint64(1<<40), 0
	for range 40 {
		cmd := exec.Command(os.Args[0])
		cmd.Env = append(os.Environ(), writes+"="+path)
		out, err := cmd.StdoutPipe()
		must(t, err)
		must(t, cmd.Start())
		_, err = out.Read(make([]byte, 1)) // it runs
		must(t, err)
		time.Sleep(time.Duration(rnd.Float64() * 3 * float64(took))) // the moment is what is tried
		must(t, cmd.Process.Kill())
		_ = cmd.Wait()
		at, in, told, err := Open(path)
		must(t, err) // it was there before
		if !is(in, at.Seq) || string(told) != fmt.Sprint(at.Seq) {
			t.Fatalf("what is said to be writing %d is not", at.Seq)
		}
		Close(in)
		if at.Seq != last {
			last, others = at.Seq, others+1
		}
	}
	if others == 0 {
		t.Error("nobody was killed after a whole file")
	}
	// What a killed one left behind is written over.
	_, err = Write(path, At{Seq: 7}, content(7))
	must(t, err)
	if names, _ := filepath.Glob(path + "*"); len(names) != 2 {
		t.Errorf("there are %q, and the file with its lock was expected", names)
	}
}

// TestDamaged: a file that is cut off, longer, altered in any byte that counts, or of another program is not used, and says why.
func TestDamaged(t *testing.T) {
	path := filepath.Join(t.TempDir(), "snapshot")
	_, _, _, err := Open(path)
	if !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("no file: %v", err)
	}
	at := At{Seq: 12, Revision: 3, Seal: "ab"}
	size, err := Write(path, at, content(5))
	must(t, err)
	st, err := os.Stat(path)
	must(t, err)
	if st.Mode().Perm() != 0o600 {
		t.Errorf("others may read it: %v", st.Mode())
	}
	got, in, told, err := Open(path)
	must(t, err)
	if got != at || !is(in, 5) || string(told) != "5" || size < 6<<20 {
		t.Errorf("%+v, %s, %d", got, told, size)
	}
	in[firstPage]++ // in memory alone
	Close(in)
	if again, err := Write(path, at, content(6)); err != nil || again != 0 {
		t.Errorf("the same moment is written twice: %d, %v", again, err)
	}
	good, err := os.ReadFile(path)
	must(t, err)
	refused := func(what, want string, b []byte) {
		t.Helper()
		must(t, os.WriteFile(path, b, 0o600))
		_, _, _, err := Open(path)
		var no *Unusable
		if !errors.As(err, &no) || no.Why != want {
			t.Errorf("%s: %v, and %q was expected", what, err, want)
		}
	}
	h, err := look(path)
	must(t, err)
	changed := func(i int64) []byte {
		b := bytes.Clone(good)
		b[i] ^= 1
		return b
	}
	for _, n := range []int{len(good) - 1, len(good) / 2, firstPage, 40} {
		refused(fmt.Sprint("cut off at ", n), "it is damaged: it is not as long as it says", good[:n])
	}
	refused("longer", "it is damaged: it is not as long as it says", append(bytes.Clone(good), 0))
	const alien = "it is no snapshot but something else, which is left as it is; name another file"
	refused("empty", alien, nil)
	letter := []byte("this is a letter to somebody, and no snapshot of anything")
	refused("something else", alien, letter)
	if _, err := Write(path, At{Seq: 9}, content(9)); err == nil || err.Error() != alien {
		t.Errorf("something else is written over: %v", err)
	}
	if b, err := os.ReadFile(path); err != nil || !bytes.Equal(b, letter) {
		t.Errorf("it is %q: %v", b, err)
	}
	for _, i := range []int64{firstPage, firstPage + 1<<20, h.Sums[len(h.Sums)-1].At + 9} {
		refused(fmt.Sprint("altered at ", i), "it is damaged: what it holds is not what was written", changed(i))
	}
	refused("its header is altered", "it is damaged: its header is not what was written", changed(h.End+20))
	refused("the place of its header is altered", "it is damaged: it is not as long as it says", changed(9))
	mine, _ := program()
	was := program
	program = func() (string, error) { return mine + "x", nil }
	refused("of another program", "another version of the program wrote it", good)
	if _, _, _, err := Open(path); !errors.As(err, new(*Unusable)) || !err.(*Unusable).Another {
		t.Errorf("it does not say that another version may use it: %v", err)
	}
	program = was
	must(t, os.WriteFile(path, good, 0o600))
	_, in, _, err = Open(path)
	must(t, err)
	Close(in)
}

// TestBusy: one service at a time writes; who fails to write leaves what is there.
func TestBusy(t *testing.T) {
	path := filepath.Join(t.TempDir(), "snapshot")
	_, err := Write(path, At{Seq: 1}, content(1))
	must(t, err)
	_, err = Write(path, At{Seq: 2}, func(from int64, put func(int64, []byte) error) ([]byte, int64, error) {
		if _, err := Write(path, At{Seq: 3}, content(3)); !errors.Is(err, ErrBusy) {
			t.Errorf("two write at once: %v", err)
		}
		must(t, put(from, []byte("half")))
		return nil, 0, syscall.ENOSPC
	})
	if !errors.Is(err, syscall.ENOSPC) {
		t.Error(err)
	}
	at, in, _, err := Open(path)
	must(t, err)
	if at.Seq != 1 || !is(in, 1) {
		t.Error("what was there is not there any more")
	}
	Close(in)
	if _, err := os.Stat(path + ".new"); !errors.Is(err, fs.ErrNotExist) {
		t.Error("the half stays")
	}
}
