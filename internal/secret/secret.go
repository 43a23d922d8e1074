// Package secret reads what is not to stand in settings, in files of policy or in the database.
package secret

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
)

// Elsewhere reports whether a text says where a secret is, and not what it is.
func Elsewhere(text string) bool {
	for _, way := range []string{"file:", "env:", "credential:"} {
		if strings.HasPrefix(text, way) {
			return true
		}
	}
	return false
}

// At reads a key from where it is: file:PATH, env:NAME of an environment variable, or credential:NAME of what systemd hands to the service
// (systemd.exec(5), LoadCredential=).
func At(where string) (string, error) {
	if name, ok := strings.CutPrefix(where, "credential:"); ok {
		dir := os.Getenv("CREDENTIALS_DIRECTORY")
		if dir == "" || name == "" || name != filepath.Base(name) {
			return "", fmt.Errorf("there is no credential %q: the unit names it with LoadCredential=", name)
		}
		where = "file:" + filepath.Join(dir, name)
	}
	if name, ok := strings.CutPrefix(where, "env:"); ok {
		if v := os.Getenv(name); v != "" {
			return v, nil
		}
		return "", fmt.Errorf("there is no environment variable %s", name)
	}
	path, ok := strings.CutPrefix(where, "file:")
	if !ok {
		return "", errors.New("write file:PATH, env:NAME or credential:NAME, never the key itself")
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("its key cannot be read: %w", err)
	}
	return strings.TrimSpace(string(b)), nil
}
