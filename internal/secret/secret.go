// Package secret reads what is not to stand in settings, in files of policy or in the database.
package secret

import (
	"errors"
	"fmt"
	"os"
	"strings"
)

// At reads a key from where it is: file:PATH, or env:NAME of an environment variable.
func At(where string) (string, error) {
	if name, ok := strings.CutPrefix(where, "env:"); ok {
		if v := os.Getenv(name); v != "" {
			return v, nil
		}
		return "", fmt.Errorf("there is no environment variable %s", name)
	}
	path, ok := strings.CutPrefix(where, "file:")
	if !ok {
		return "", errors.New("write file:PATH or env:NAME, never the key itself")
	}
	b, err := os.ReadFile(path)
	if err != nil {
		return "", fmt.Errorf("its key cannot be read: %w", err)
	}
	return strings.TrimSpace(string(b)), nil
}
