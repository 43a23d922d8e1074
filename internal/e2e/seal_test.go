package e2e

import (
	"encoding/json"
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wexillum.example/internal/service"
	statements "wexillum.example/internal/statement"
)

// TestSealKept keeps the signed seal of the journal elsewhere, verifies it with our published keys, and finds out a journal that is not the
// one it was of.
func TestSealKept(t *testing.T) {
	r := demoService(t)
	r.login("lantern")
	dir := t.TempDir()
	file := filepath.Join(dir, "seal.jws")
	jws := strings.TrimSpace(r.must("journal", "seal"))
	check(t, os.WriteFile(file, []byte(jws+"\n"), 0o600))
	status, _, public := r.call("GET", "/.well-known/wexillum-seal", "", "")
	if status != 200 || strings.Count(public, ".") != 2 {
		t.Fatalf("published: %d %s", status, public)
	}
	_, _, keys := r.call("GET", "/.well-known/wexillum-keys", "", "")
	payload, _, err := statements.OpenAs(service.SealType, []byte(public), []byte(keys))
	check(t, err)
	var said service.Seal
	check(t, json.Unmarshal(payload, &said))
	if said.Seq == 0 || len(said.Seal) != 64 || said.Issuer != r.url {
		t.Errorf("it says: %+v", said)
	}
	r.login("harbour")
	r.must("domain", "bar", "spam.example", "--reason", "x", "-y")
	r.says(0, "It has the seal that was kept on", "journal", "verify", "--kept", file)
	// Another journal, whole in itself, has another seal at that entry.
	other := demoService(t)
	other.login("harbour")
	other.says(3, "▼ It does not have the seal that was kept on", "journal", "verify", "--kept", file)
	empty := filepath.Join(dir, "empty")
	check(t, os.WriteFile(empty, []byte("seal"), 0o600))
	r.says(1, "holds no seal of the journal", "journal", "verify", "--kept", empty)
	if ok, err := r.svc.SealHolds(t.Context(), 1<<40, said.Seal); ok || err != nil {
		t.Errorf("an entry that is not there: %t %v", ok, err)
	}
	var wrong *service.Invalid
	if _, err := r.svc.SealHolds(t.Context(), 0, said.Seal); !errors.As(err, &wrong) {
		t.Errorf("no entry: %v", err)
	}
}
