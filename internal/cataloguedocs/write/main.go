// Command write writes the pages of the catalogue into the directory it is given.
package main

import (
	"fmt"
	"os"
	"path/filepath"

	"wexillum.example/internal/cataloguedocs"
)

func main() {
	if err := write(os.Args[1]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func write(dir string) error {
	pages, err := cataloguedocs.Pages()
	if err != nil {
		return err
	}
	for path, text := range pages {
		to := filepath.Join(dir, path)
		if err := os.MkdirAll(filepath.Dir(to), 0o755); err != nil {
			return err
		}
		if err := os.WriteFile(to, []byte(text), 0o644); err != nil {
			return err
		}
	}
	return nil
}
