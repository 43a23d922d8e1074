package vault

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func file(t *testing.T, mode os.FileMode, lines ...string) string {
	t.Helper()
	path := filepath.Join(t.TempDir(), "keys")
	if err := os.WriteFile(path, []byte(strings.Join(lines, "\n")), mode); err != nil {
		t.Fatal(err)
	}
	return path
}

func vaultOf(t *testing.T, lines ...string) *Vault {
	t.Helper()
	v, err := Read(file(t, 0o600, lines...))
	if err != nil {
		t.Fatal(err)
	}
	return v
}

// TestVault seals and opens: with the key, with one that came before, and not with another, somewhere else or damaged.
func TestVault(t *testing.T) {
	one, two := Make(), Make()
	v := vaultOf(t, "# the first", one)
	text := v.Seal("private", "key 1")
	if strings.Contains(text, "private") || text == v.Seal("private", "key 1") {
		t.Errorf("sealed: %s", text)
	}
	for name, x := range map[string]struct {
		v           *Vault
		text, about string
		want        string
	}{
		"the key":          {v, text, "key 1", "private"},
		"a key before":     {vaultOf(t, two, one), text, "key 1", "private"},
		"another key":      {vaultOf(t, two), text, "key 1", ErrNoKey.Error()},
		"no key":           {nil, text, "key 1", ErrNoKey.Error()},
		"somewhere else":   {v, text, "key 2", "somewhere else"},
		"damaged":          {v, text[:len(text)-8] + "AAAAAAA=", "key 1", "damaged"},
		"cut":              {v, text[:len(text)-40], "key 1", "damaged"},
		"clear, no vault":  {nil, "private", "key 1", "private"},
		"clear, and keyed": {v, "private", "key 1", "private"},
	} {
		got, err := x.v.Open(x.text, x.about)
		if err != nil {
			got = err.Error()
		}
		if !strings.Contains(got, x.want) || err != nil && got == "private" {
			t.Errorf("%s: %s", name, got)
		}
	}
	if _, err := vaultOf(t, two).Open(text, "key 1"); !errors.Is(err, ErrNoKey) {
		t.Error(err)
	}
	var none *Vault
	if !v.Current(text) || vaultOf(t, two, one).Current(text) || v.Current("private") || !none.Current("private") || none.Current(text) ||
		none.Seal("private", "x") != "private" {
		t.Error("what is sealed with the key that seals now is told wrongly")
	}
	for want, path := range map[string]string{
		"may be read by others than its owner": file(t, 0o640, one),
		"line 2: a key is 32 bytes":            file(t, 0o600, one, "c2hvcnQ="),
		"holds no key":                         file(t, 0o600, "# nothing"),
	} {
		if _, err := Read(path); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", want, err)
		}
	}
}
