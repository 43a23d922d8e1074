package cataloguedocs

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
)

// TestPages wants docs/catalogue to hold exactly what the catalogue says, and
// every page its example.
func TestPages(t *testing.T) {
	const dir = "../../docs/catalogue"
	pages, err := Pages()
	if err != nil {
		t.Fatal(err)
	}
	if want := len(catalogue.Rules()) + len(catalogue.Actions()) + 2; len(pages) != want {
		t.Errorf("%d pages, want %d", len(pages), want)
	}
	for path, text := range pages {
		got, err := os.ReadFile(filepath.Join(dir, path))
		if err != nil || string(got) != text {
			t.Errorf("docs/catalogue/%s is not what the catalogue says: run make generate", path)
		}
		if strings.HasPrefix(path, "rules/") || strings.HasPrefix(path, "actions/") {
			if !strings.Contains(text, "\n## Example\n") || strings.Contains(text, "%!") {
				t.Errorf("%s has no example", path)
			}
		}
	}
	filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err == nil && !d.IsDir() {
			if rel, _ := filepath.Rel(dir, path); pages[filepath.ToSlash(rel)] == "" {
				t.Errorf("docs/catalogue/%s is about nothing in the catalogue", rel)
			}
		}
		return nil
	})
}
