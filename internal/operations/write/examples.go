package main

import (
	"errors"
	"fmt"
	"maps"
	"os"
	"strconv"
	"strings"

	"github.com/goccy/go-yaml"
)

// example is what one operation is sent, as internal/api/examples.yaml says it.
type example struct {
	Of     string
	Path   map[string]string
	Query  map[string]any
	Header map[string]string
	Body   any
	Keep   map[string]string
	As     string
	Status int
}

// readExamples reads the examples, with the sample of what the service names itself in its place.
func readExamples(file string) (map[string]example, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	var doc struct {
		Samples  map[string]string
		Examples []yaml.RawMessage
	}
	if err := yaml.UnmarshalWithOptions(text, &doc, yaml.Strict()); err != nil {
		return nil, err
	}
	var pairs []string
	for name, sample := range doc.Samples {
		pairs = append(pairs, "{"+name+"}", sample)
	}
	fill := strings.NewReplacer(pairs...)
	out := map[string]example{}
	for _, raw := range doc.Examples {
		var x example
		if err := yaml.UnmarshalWithOptions([]byte(fill.Replace(string(raw))), &x, yaml.Strict(), yaml.UseOrderedMap()); err != nil {
			return nil, err
		}
		if _, twice := out[x.Of]; twice || x.Of == "" {
			return nil, fmt.Errorf("%s: %q has two examples, or none is named", file, x.Of)
		}
		out[x.Of] = x
	}
	return out, nil
}

// illustrate puts an example into an operation: into each of its parameters, and into its body. components
// resolves what it refers to. What it needs and no example gives is an error, and so is what it does not take.
func illustrate(x example, components yaml.MapSlice, op yaml.MapSlice, shared []any) (yaml.MapSlice, error) {
	left := map[string]any{}
	for _, in := range []map[string]string{x.Path, x.Header} {
		for k, v := range in {
			left[k] = v
		}
	}
	maps.Copy(left, x.Query)
	own, _ := at(op, "parameters").([]any)
	var out []any
	for i, p := range append(append([]any{}, shared...), own...) {
		is := p.(yaml.MapSlice)
		if to, ok := at(is, "$ref").(string); ok {
			is = at(at(components, "parameters").(yaml.MapSlice), to[strings.LastIndex(to, "/")+1:]).(yaml.MapSlice)
		}
		name, _ := at(is, "name").(string)
		value, given := left[name]
		delete(left, name)
		switch {
		case given:
			if schema, _ := at(is, "schema").(yaml.MapSlice); at(schema, "type") == "integer" {
				if n, err := strconv.Atoi(fmt.Sprint(value)); err == nil { // of a sample
					value = n
				}
			}
			out = append(out, set(append(yaml.MapSlice{}, is...), "example", value))
		case at(is, "required") == true:
			return nil, fmt.Errorf("its parameter %s has no example", name)
		case i >= len(shared):
			out = append(out, p)
		}
	}
	for name := range left {
		return nil, fmt.Errorf("it takes no %s", name)
	}
	if len(out) > 0 {
		op = set(op, "parameters", out)
	}
	body, _ := at(op, "requestBody").(yaml.MapSlice)
	switch {
	case body == nil && x.Body == nil:
		return op, nil
	case body == nil:
		return nil, errors.New("it takes no body")
	case x.Body == nil:
		return nil, errors.New("its body has no example")
	}
	content := at(body, "content").(yaml.MapSlice)
	for i := range content {
		content[i].Value = set(content[i].Value.(yaml.MapSlice), "example", x.Body)
	}
	return op, nil
}
