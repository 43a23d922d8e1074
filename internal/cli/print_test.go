package cli

import (
	"os/exec"
	"strings"
	"testing"
)

// TestWords has a shell read what words writes: it takes every word as it was meant.
func TestWords(t *testing.T) {
	list := []string{"*@ilvane.example", "o'hara@ilvane.example", "space:loan-dossier", "a b", "$HOME", "", "x;y", "kind:guest", "[ab]?", `\n`, "~"}
	out, err := exec.CommandContext(t.Context(), "sh", "-c", `printf '%s\n' `+words(list...)).Output()
	if err != nil {
		t.Fatal(err)
	}
	if got := string(out); got != strings.Join(list, "\n")+"\n" {
		t.Errorf("a shell reads %q as %q", words(list...), got)
	}
	if got := words("maren@ilvane.example", "files.open", "space:a"); got != "maren@ilvane.example files.open space:a" {
		t.Errorf("plain words are written as %q", got)
	}
}
