package config

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
)

func none(string) (string, bool) { return "", false }

func file(t *testing.T, text string) string {
	t.Helper()
	f := filepath.Join(t.TempDir(), "wexillum.yaml")
	if err := os.WriteFile(f, []byte(text), 0o600); err != nil {
		t.Fatal(err)
	}
	return f
}

// TestPrecedence lays the file over the defaults, the environment over the file,
// flags over all.
func TestPrecedence(t *testing.T) {
	f := file(t, "listen: 127.0.0.1:1\nlog_level: warn\nfollow_ms: 50\nsecure_cookies: yes\n")
	env := func(k string) (string, bool) {
		v, ok := map[string]string{"WEXILLUM_LISTEN": "127.0.0.1:2", "WEXILLUM_LOG_LEVEL": "error"}[k]
		return v, ok
	}
	c, err := Load(f, env, map[string]string{"listen": "127.0.0.1:3"})
	if err != nil {
		t.Fatal(err)
	}
	for key, want := range map[string]Value{
		"listen":         {"127.0.0.1:3", "flag --listen"},
		"log_level":      {"error", "environment WEXILLUM_LOG_LEVEL"},
		"follow_ms":      {"50", "file " + f},
		"secure_cookies": {"yes", "file " + f},
		"public_url":     {"", "default"},
	} {
		if c[key] != want {
			t.Errorf("%s is %+v, want %+v", key, c[key], want)
		}
	}
	if !c.SecureCookies() {
		t.Error("cookies are not kept to HTTPS")
	}
}

func TestRefused(t *testing.T) {
	for text, want := range map[string]string{
		"listne: x":                  `has no setting "listne"; there are listen, database`,
		"listen: [a]":                "listen is one value",
		"listen:":                    "listen is one value",
		": :":                        "is not YAML",
		"log_level: loud":            `log_level "loud" (from file`,
		"follow_ms: 5":               "write a number from 10 to 60000",
		"follow_ms: -5":              "write a number from 10 to 60000",
		"follow_ms: 999999999999999": "write a number from 10 to 60000",
		"listen: nowhere":            "write an address and a port",
		"listen: 'nowhere:'":         "write an address and a port",
		"database: 'a:b@c'":          "write user:password@tcp",
		"database: 'u:p@tcp(h:1)/'":  "write user:password@tcp",
		"public_url: example.org":    "write https://host",
		"public_url: https://x/":     "write https://host",
		"secure_cookies: maybe":      "write auto, yes, no",
	} {
		if _, err := Load(file(t, text), none, nil); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q: %v; want %s", text, err, want)
		}
	}
	if _, err := Load("/nowhere/at/all", none, nil); err == nil {
		t.Error("a file that is not there is taken")
	}
}

// TestPasswords never shows one.
func TestPasswords(t *testing.T) {
	// others read commands
	for flag, value := range map[string]string{"database": "u:secret@tcp(127.0.0.1:3306)/w", "smtp_password": "secret"} {
		if _, err := Load("", none, map[string]string{flag: value}); err == nil || strings.Contains(err.Error(), "secret") ||
			!strings.Contains(err.Error(), "can be read by everybody on this machine") {
			t.Errorf("%s: %v", flag, err)
		}
	}
	dir := t.TempDir()
	if err := os.WriteFile(filepath.Join(dir, "database"), []byte("u:secret@tcp(127.0.0.1:3306)/w\n"), 0o600); err != nil {
		t.Fatal(err)
	}
	t.Setenv("CREDENTIALS_DIRECTORY", dir)
	for _, where := range []string{"file:" + filepath.Join(dir, "database"), "credential:database"} {
		c, err := Load("", none, map[string]string{"database": where})
		if err != nil || c["database"].Value != "u:secret@tcp(127.0.0.1:3306)/w" || c["database"].From != "flag --database, "+where {
			t.Errorf("%s: %v %v", where, c["database"], err)
		}
	}
	for _, where := range []string{"credential:smtp", "credential:../database", "file:/nowhere"} {
		if _, err := Load("", none, map[string]string{"database": where}); err == nil || !strings.Contains(err.Error(), where) {
			t.Errorf("%s: %v", where, err)
		}
	}
	c, err := Load(file(t, "database: u:secret@tcp(127.0.0.1:3306)/w\npublic_url: https://w.example\nsmtp_password: secret"), none, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, l := range c.Lines() {
		if strings.Contains(strings.Join(l[:], " "), "secret") {
			t.Errorf("%v", l)
		}
	}
	if !c.SecureCookies() {
		t.Error("auto is not yes where the address outside is HTTPS")
	}
	if _, err := Load("", none, map[string]string{"database": "u:secret@nowhere"}); err == nil || strings.Contains(err.Error(), "secret") {
		t.Errorf("%v", err)
	}
}

// TestCommented begins with a file that changes nothing.
func TestCommented(t *testing.T) {
	c, err := Load(file(t, Commented()), none, nil)
	if err != nil {
		t.Fatal(err)
	}
	open, err := Load(file(t, strings.ReplaceAll(Commented(), "\n#", "\n# ")), none, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range Options {
		if c[o.Key].Value != o.Start || c[o.Key].From != "default" || open[o.Key] != c[o.Key] {
			t.Errorf("%s: %v", o.Key, c[o.Key])
		}
	}
	// Each line that is taken out of its mark says what counts without it.
	var marked []string
	for line := range strings.Lines(Commented()) {
		if key, _, ok := strings.Cut(strings.TrimPrefix(line, "#"), ":"); ok && !strings.HasPrefix(line, "# ") && key != "" {
			marked = append(marked, strings.TrimPrefix(line, "#"))
		}
	}
	if len(marked) != len(Options) {
		t.Fatalf("%d of %d", len(marked), len(Options))
	}
	all, err := Load(file(t, strings.Join(marked, "")), none, nil)
	if err != nil {
		t.Fatal(err)
	}
	for _, o := range Options {
		if all[o.Key].Value != o.Start {
			t.Errorf("%s: %v", o.Key, all[o.Key])
		}
	}
}
