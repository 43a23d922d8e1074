package e2e

import (
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
)

// TestTwoPrograms: the client leaves what runs the service to the program beside it, whatever it is called by, and says so
// where that is not there.
func TestTwoPrograms(t *testing.T) {
	t.Parallel()
	bin, err := binary()
	if err != nil {
		t.Fatal(bin, err)
	}
	run := func(program string, args ...string) (int, string) {
		t.Helper()
		out, err := exec.Command(program, args...).CombinedOutput()
		var failed *exec.ExitError
		if errors.As(err, &failed) {
			return failed.ExitCode(), string(out)
		}
		check(t, err)
		return 0, string(out)
	}
	named := filepath.Join(t.TempDir(), "wx")
	check(t, os.Symlink(bin, named))
	if status, out := run(named, "serve", "--help"); status != 0 || !strings.Contains(out, "--print-config") {
		t.Errorf("%d %s", status, out)
	}
	if status, out := run(named, "serve", "--listen"); status != 2 || !strings.Contains(out, "flag needs an argument") {
		t.Errorf("%d %s", status, out)
	}
	if status, out := run(bin, "rules", "choices", "mail.forward", "--world", "../demo/world.yaml", "-q"); status != 0 ||
		!strings.Contains(out, "closed") {
		t.Errorf("%d %s", status, out)
	}
	lone := filepath.Join(t.TempDir(), "wexillum")
	b, err := os.ReadFile(bin)
	check(t, err)
	check(t, os.WriteFile(lone, b, 0o755))
	if status, out := run(lone, "serve"); status != 1 || !strings.Contains(out, "wexillum-service, which is not there") {
		t.Errorf("%d %s", status, out)
	}
	if status, out := run(lone, "rules", "show", "mail.forward", "--world", "../demo/world.yaml"); status != 0 ||
		!strings.Contains(out, "mail.forward") {
		t.Errorf("%d %s", status, out)
	}
}
