package worldfile

import (
	"errors"
	"fmt"
	"strings"
	"testing"
)

// TestEveryField: no field of any record takes what it is not about, silently: a text where a list belongs, nothing, a list of lists or
// fields that nobody knows are refused, at a line and column within the value, and the rest of the file is still read.
func TestEveryField(t *testing.T) {
	fields := 0
	for _, section := range Grammar() {
		if !section.List {
			continue
		}
		for _, f := range section.Fields {
			fields++
			for _, wrong := range []string{"null", "[[[]]]", "{no_such_field: {a: [b]}}"} {
				begin := fmt.Sprintf("%s: [{%s: ", section.Name, f.Name)
				text := head + begin + wrong + "}]"
				if section.Name == "people" { // which the head has
					text = strings.Replace(head, "people: [{id: ada}]\n", "", 1) + begin + wrong + "}]"
				}
				_, err := Read([]byte(text), Options{File: "test", Now: now})
				var errs Errors
				if !errors.As(err, &errs) {
					t.Errorf("%s of %s takes %s: %v", f.Name, section.Name, wrong, err)
					continue
				}
				line, within := strings.Count(text, "\n")+1, false
				for _, e := range errs {
					var at, column int
					if _, err := fmt.Sscanf(strings.TrimPrefix(e.Error(), "test:"), "%d:%d:", &at, &column); err != nil {
						t.Errorf("%q tells no place", e.Error())
					}
					within = within || at == line && column > len(begin)-len(f.Name)-2
				}
				if !within {
					t.Errorf("%s of %s with %s: no error is about it: %v", f.Name, section.Name, wrong, err)
				}
			}
		}
	}
	if fields < 100 {
		t.Errorf("only %d fields were tried", fields)
	}
}
