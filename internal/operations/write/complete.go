package main

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"wexillum.example/internal/operations"
)

// What follows from an operation's method, roles, parameters and body is not written at each of
// them: the contract that is served has it added, so that a reader in another language finds it
// where they look.

// refusals names the answers by which a request is refused, as the document's components are called.
var refusals = map[string]string{
	"400": "BadRequest", "401": "NotSignedIn", "403": "Forbidden", "404": "NotFound", "409": "Conflict",
	"412": "Stale", "413": "TooLarge", "415": "MediaType", "422": "FileRefused", "429": "TooOften",
}

// checksPassword lists what is open to anybody and refuses a wrong password or code.
var checksPassword = []string{"signIn", "makeToken", "doorProve", "doorSignUp", "doorBundles", "provePasskey"}

// standsAlone lists what takes nothing and may be in the way all the same: passkeys belong to a name.
var standsAlone = []string{"beginPasskey", "askPasskey"}

// refusedBy lists how a request may be refused. parameters and body say whether it takes any.
func refusedBy(o *operations.Operation, parameters, body bool) (out []string) {
	writes := o.Method != "GET"
	names := parameters || body // what may not be there, or be in the way
	add := func(when bool, codes ...string) {
		if when {
			out = append(out, codes...)
		}
	}
	add(parameters || body || !o.Open(), "400")
	add(!o.Open(), "401", "403")
	add(slices.Contains(checksPassword, o.ID), "401")
	add(o.ID == "begin", "403") // by the key of the first start
	// A draft that is named may be gone.
	add(names || !o.Open() && o.Draft != operations.Never, "404")
	add(names && writes || !o.Open() && o.Draft != operations.Never || slices.Contains(standsAlone, o.ID), "409")
	add(names && writes && !o.Open(), "412")
	add(body, "413", "415")
	add(o.List, "422")
	add(o.Open() && writes || o.Has("guest") && writes || o.Often, "429")
	return out
}

// complete adds to the document, of every operation, how it is refused, how whoever calls it says
// who they are, the headers that take a question elsewhere, and an example.
func complete(text []byte, all []operations.Operation, examples map[string]example) ([]byte, error) {
	var doc yaml.MapSlice
	if err := yaml.UnmarshalWithOptions(text, &doc, yaml.UseOrderedMap()); err != nil {
		return nil, err
	}
	paths := at(doc, "paths").(yaml.MapSlice)
	components := at(doc, "components").(yaml.MapSlice)
	for i := range all {
		o := &all[i]
		path := at(paths, o.Pattern).(yaml.MapSlice)
		method := strings.ToLower(o.Method)
		op := at(path, method).(yaml.MapSlice)
		parameters, _ := at(op, "parameters").([]any)
		of, _ := at(path, "parameters").([]any)
		body := at(op, "requestBody") != nil
		takes := len(parameters)+len(of) > 0
		for _, h := range headers(o) {
			parameters = append(parameters, ref("parameters/"+h))
		}
		if len(parameters) > 0 {
			op = set(op, "parameters", parameters)
		}
		op, err := illustrate(examples[o.ID], components, op, of)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", o.ID, err)
		}
		delete(examples, o.ID)

		responses := at(op, "responses").(yaml.MapSlice)
		last := yaml.MapSlice{}
		if n := len(responses); responses[n-1].Key == "default" {
			responses, last = responses[:n-1:n-1], responses[n-1:]
		}
		for _, code := range refusedBy(o, takes, body) {
			if at(responses, code) == nil {
				responses = append(responses, yaml.MapItem{Key: code, Value: ref("responses/" + refusals[code])})
			}
		}
		op = set(op, "responses", append(responses, last...))

		op = set(op, "security", security(o))
		set(path, method, op)
	}
	for of := range examples {
		return nil, fmt.Errorf("there is no operation %s", of)
	}
	dated(doc)
	b, err := yaml.MarshalWithOptions(doc, yaml.UseLiteralStyleIfMultiline(true), yaml.IndentSequence(true))
	return append([]byte("# Written by internal/operations/write from openapi.yaml; make generate writes it anew.\n"), b...), err
}

// dated names moments and days as JSON Schema does: the code writes them itself, so that for it they are texts.
func dated(x any) {
	switch v := x.(type) {
	case yaml.MapSlice:
		for i := range v {
			if v[i].Key == "format" {
				switch v[i].Value { // both of RFC 3339 §5.6
				case "moment":
					v[i].Value = "date-time"
				case "day":
					v[i].Value = "date"
				}
			}
			dated(v[i].Value)
		}
	case []any:
		for _, y := range v {
			dated(y)
		}
	}
}

// headers lists what may take a request elsewhere: into a draft, or to what systems hold.
func headers(o *operations.Operation) (out []string) {
	lead := o.Has("administrator") || o.Has("auditor") || o.Has("keeper")
	if lead && o.Draft != operations.Never && !strings.HasPrefix(o.Pattern, "/api/v1/drafts") {
		out = append(out, "InDraft")
	}
	if lead && o.Draft == operations.Ask {
		out = append(out, "AsFound")
	}
	return out
}

// security says how whoever calls an operation shows who they are: nobody has to, a guest by a
// session alone, everybody else by a session or a token. A session that changes something sends its
// csrf value, too.
func security(o *operations.Operation) any {
	way := func(names ...string) yaml.MapSlice {
		out := yaml.MapSlice{}
		for _, n := range names {
			out = append(out, yaml.MapItem{Key: n, Value: []any{}})
		}
		return out
	}
	session := way("session")
	if o.Method != "GET" {
		session = way("session", "csrf")
	}
	switch {
	case o.Open():
		return []any{}
	case len(o.Roles) == 1 && o.Has("guest"):
		return []any{session}
	}
	return []any{session, way("token")}
}

func ref(to string) yaml.MapSlice {
	return yaml.MapSlice{{Key: "$ref", Value: "#/components/" + to}}
}

func at(m yaml.MapSlice, key string) any {
	for _, x := range m {
		if x.Key == key {
			return x.Value
		}
	}
	return nil
}

// set replaces what stands under a key, in its place, or adds it.
func set(m yaml.MapSlice, key string, value any) yaml.MapSlice {
	for i := range m {
		if m[i].Key == key {
			m[i].Value = value
			return m
		}
	}
	return append(m, yaml.MapItem{Key: key, Value: value})
}
