package housemap

import (
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
)

// TestArrows holds that the core rests on nothing outside it, and nothing below the service on what
// stands above it.
func TestArrows(t *testing.T) {
	imports, err := Imports("../..")
	if err != nil {
		t.Fatal(err)
	}
	if len(imports) < 25 {
		t.Fatalf("only %d packages were found", len(imports))
	}
	for p, qs := range imports {
		for _, q := range qs {
			if strings.HasPrefix(p, "internal/core/") && !strings.HasPrefix(q, "internal/core/") {
				t.Errorf("%s rests on %s", p, q)
			}
			if (p == "internal/answer" || p == "internal/service" || p == "internal/store") &&
				(q == "internal/api" || q == "internal/api/apigen" || q == "internal/cli" || q == "internal/client") {
				t.Errorf("%s rests on %s", p, q)
			}
		}
	}
}

// TestMap holds that the picture is that of the imports as they are, and that docs/architecture.md
// names what is there.
func TestMap(t *testing.T) {
	imports, err := Imports("../..")
	if err != nil {
		t.Fatal(err)
	}
	drawn, err := os.ReadFile("../../docs/architecture.svg")
	if err != nil || string(drawn) != SVG(imports) {
		t.Errorf("docs/architecture.svg is not that of the imports; draw it with make map (%v)", err)
	}
	text, err := os.ReadFile("../../docs/architecture.md")
	if err != nil {
		t.Fatal(err)
	}
	named := 0
	dir := ""
	for _, m := range regexp.MustCompile("`([\\w./-]+)`").FindAllStringSubmatch(string(text), -1) {
		p := m[1]
		switch {
		case strings.HasPrefix(p, "internal/"), strings.HasPrefix(p, "console/"):
			dir = filepath.Dir(p)
		case strings.HasSuffix(p, ".go"): // beside the one named before
			p = filepath.Join(dir, p)
		default:
			continue
		}
		named++
		if _, err := os.Stat(filepath.Join("../..", p)); err != nil {
			t.Errorf("docs/architecture.md names %s, which is not there", p)
		}
	}
	for _, name := range []string{"partnerFields", "partnerOut", "partnerTexts", "TestStoredNumbers"} {
		if !strings.Contains(string(text), name) {
			t.Errorf("%s is not named", name)
		}
		if !found(t, name) {
			t.Errorf("docs/architecture.md names %s, which is not there", name)
		}
	}
	if named < 20 {
		t.Errorf("only %d places are named", named)
	}
}

// found reports whether some Go file declares a name.
func found(t *testing.T, name string) (yes bool) {
	t.Helper()
	is := regexp.MustCompile(`(?m)^(func (\([^)]*\) )?|var |const )` + name + `\b`)
	err := filepath.WalkDir("../../internal", func(path string, d os.DirEntry, err error) error {
		if err != nil || yes || !strings.HasSuffix(path, ".go") {
			return err
		}
		b, err := os.ReadFile(path)
		yes = yes || is.Match(b)
		return err
	})
	if err != nil {
		t.Fatal(err)
	}
	return
}

// written lists the files of Go that people write, by their paths from the root.
func written(t *testing.T) (out []string) {
	t.Helper()
	for _, top := range []string{"../../cmd", "../../internal", "../../console"} {
		if err := filepath.WalkDir(top, func(path string, d os.DirEntry, err error) error {
			if err == nil && d.IsDir() && d.Name() == "node_modules" {
				return filepath.SkipDir
			}
			if err == nil && !d.IsDir() && slices.Contains([]string{".go", ".ts", ".tsx", ".mjs"}, filepath.Ext(path)) &&
				!strings.Contains(d.Name(), ".gen.") && !strings.Contains(path, "console/dist/") {
				out = append(out, path)
			}
			return err
		}); err != nil {
			t.Fatal(err)
		}
	}
	return out
}

// TestMeasures holds that no file has more than 900 lines and ten at most more than 600, of the console none more
// than 350, and no line more than 140 columns, unless it holds a text or lies within one.
func TestMeasures(t *testing.T) {
	files := written(t)
	if len(files) < 300 {
		t.Fatalf("only %d files were found", len(files))
	}
	var long []string
	for _, f := range files {
		b, err := os.ReadFile(f)
		if err != nil {
			t.Fatal(err)
		}
		lines := strings.Split(string(b), "\n")
		if len(lines) > 601 {
			long = append(long, f)
		}
		most, texts := 900, "\"`"
		if filepath.Ext(f) != ".go" {
			most, texts = 350, "\"`'>"
		}
		if n := len(lines) - 1; n > most {
			t.Errorf("%s has %d lines; %d is the most", f, n, most)
		}
		text := false
		for i, l := range lines {
			inside := text
			if strings.Count(l, "`")%2 == 1 {
				text = !text
			}
			if n := len([]rune(l)); n > 140 && !inside && !strings.ContainsAny(l, texts) {
				t.Errorf("%s:%d has %d columns; 140 is the most where no text is", f, i+1, n)
			}
		}
	}
	if len(long) > 10 {
		t.Errorf("%d files have more than 600 lines; ten at most: %v", len(long), long)
	}
}
