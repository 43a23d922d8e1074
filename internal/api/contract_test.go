package api

import (
	"fmt"
	"os"
	"strings"
	"testing"

	"github.com/goccy/go-yaml"
	"wexillum.example/internal/api/apigen"
	"wexillum.example/internal/event"
)

// TestTopics: the contract names the topics of events that there are.
func TestTopics(t *testing.T) {
	spec, err := apigen.GetSpec()
	if err != nil {
		t.Fatal(err)
	}
	if got, want := fmt.Sprint(spec.Components.Schemas["EventTopic"].Value.Enum), fmt.Sprint(event.Names()); got != want {
		t.Errorf("the contract names %s, and there are %s", got, want)
	}
}

// TestContractsAreWhole finds words that a comma cuts off: in a flow mapping, what stands behind an unquoted comma is
// taken for a key without a value, and is lost without a word.
func TestContractsAreWhole(t *testing.T) {
	for _, path := range []string{"openapi.yaml", "../connector/open/connector.yaml"} {
		b, err := os.ReadFile(path)
		if err != nil {
			t.Fatal(err)
		}
		var doc any
		if err := yaml.Unmarshal(b, &doc); err != nil {
			t.Fatal(err)
		}
		n := 0
		var walk func(at string, x any)
		walk = func(at string, x any) {
			switch v := x.(type) {
			case map[string]any:
				for k, y := range v {
					if n++; y == nil && strings.Contains(k, " ") {
						t.Errorf("%s: %s is cut off before %q: put what it says into quotes", path, at, k)
					}
					walk(at+"/"+k, y)
				}
			case []any:
				for _, y := range v {
					walk(at, y)
				}
			}
		}
		walk("", doc)
		if n < 100 {
			t.Errorf("%s: only %d entries were read", path, n)
		}
	}
}
