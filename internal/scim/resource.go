package scim

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"
)

// User is a user as it is kept: attributes by their names as the schemas write them, without id and meta.
type User map[string]any

// most is how deep and how large a resource may be.
const mostText = 10_000

// Read reads a user as a client sends it to create or replace one. What is read-only and what no schema knows is left out
// (RFC 7644 §3.3, §3.5.1); names are taken in any case.
func Read(body []byte) (User, *Error) {
	d := json.NewDecoder(bytes.NewReader(body))
	d.UseNumber()
	var in map[string]any
	if err := d.Decode(&in); err != nil || d.More() {
		return nil, bad(InvalidSyntax, "the body is no JSON object: %v", err)
	}
	if in == nil {
		return nil, bad(InvalidSyntax, "the body is no JSON object")
	}
	var schemas []any
	for k, v := range in {
		if strings.EqualFold(k, "schemas") {
			schemas, _ = v.([]any)
		}
	}
	if !slices.ContainsFunc(schemas, func(x any) bool { s, _ := x.(string); return strings.EqualFold(s, UserSchema) }) {
		return nil, bad(InvalidSyntax, "schemas does not name %s", UserSchema)
	}
	out, err := object("", user, in, "")
	if err != nil {
		return nil, err
	}
	u := User(out)
	for k, v := range in {
		switch {
		case strings.EqualFold(k, "externalId"):
			x, err := value(find(common, "externalId"), v, k)
			if err != nil {
				return nil, err
			}
			u.set("externalId", x)
		case strings.EqualFold(k, EnterpriseSchema):
			m, ok := v.(map[string]any)
			if !ok {
				return nil, bad(InvalidValue, "%s is no object", k)
			}
			x, err := object(EnterpriseSchema, enterprise, m, k+":")
			if err != nil {
				return nil, err
			}
			u.set(EnterpriseSchema, x)
		}
	}
	return u, u.Check()
}

// set sets an attribute, or takes it away where the value is none (RFC 7643 §2.5: null and an empty list are no value).
func (u User) set(name string, v any) { put(u, name, v) }

func put(m map[string]any, name string, v any) {
	if none(v) {
		delete(m, name)
		return
	}
	m[name] = v
}

func none(v any) bool {
	switch v := v.(type) {
	case nil:
		return true
	case []any:
		return len(v) == 0
	case map[string]any:
		return len(v) == 0
	}
	return false
}

// object reads the attributes of a schema, or the sub-attributes of one.
func object(schema string, list []Attribute, in map[string]any, path string) (map[string]any, *Error) {
	out := map[string]any{}
	for k, v := range in {
		a := find(list, k)
		if a == nil || a.Mutability == "readOnly" {
			continue
		}
		x, err := value(a, v, path+a.Name)
		if err != nil {
			return nil, err
		}
		if a.Mutability == "writeOnly" { // a password, which is good for nothing here
			continue
		}
		if _, twice := out[a.Name]; twice {
			return nil, bad(InvalidSyntax, "%s%s stands there twice", path, a.Name)
		}
		put(out, a.Name, x)
	}
	return out, nil
}

// value reads the value of an attribute.
func value(a *Attribute, v any, path string) (any, *Error) {
	if v == nil {
		return nil, nil
	}
	if !a.Multi {
		return single(a, v, path)
	}
	list, ok := v.([]any)
	if !ok { // one value in place of a list, as some clients write it
		list = []any{v}
	}
	var out []any
	for _, e := range list {
		if len(a.Sub) > 0 {
			if s, plain := e.(string); plain { // a value alone stands for {"value": …}
				e = map[string]any{"value": s}
			}
		}
		x, err := single(a, e, path)
		if err != nil {
			return nil, err
		}
		if !none(x) {
			out = append(out, x)
		}
	}
	if n := primaries(out); n > 1 {
		return nil, bad(InvalidValue, "%s: at most one value is primary, not %d", path, n)
	}
	if out == nil {
		return nil, nil
	}
	return out, nil
}

func primaries(list []any) (n int) {
	for _, e := range list {
		if m, ok := e.(map[string]any); ok && m["primary"] == true {
			n++
		}
	}
	return n
}

func single(a *Attribute, v any, path string) (any, *Error) {
	wrong := func(want string) *Error { return bad(InvalidValue, "%s: %s is no %s", path, short(v), want) }
	switch a.Type {
	case "complex":
		m, ok := v.(map[string]any)
		if !ok {
			return nil, wrong("object")
		}
		return object("", a.Sub, m, path+".")
	case "boolean":
		switch b := v.(type) {
		case bool:
			return b, nil
		case string: // as some clients write it
			switch strings.ToLower(b) {
			case "true":
				return true, nil
			case "false":
				return false, nil
			}
		}
		return nil, wrong("boolean; write true or false")
	}
	s, ok := v.(string)
	if !ok {
		return nil, wrong("text")
	}
	if len(s) > mostText {
		return nil, bad(InvalidValue, "%s: it is longer than %d letters", path, mostText)
	}
	if strings.ContainsFunc(s, func(r rune) bool {
		return r < ' ' && r != '\n' && r != '\t' && r != '\r' || r == 0xFFFD || r >= 0xFFFE && r <= 0xFFFF
	}) {
		return nil, bad(InvalidValue, "%s: it holds a character that no text may hold", path)
	}
	switch a.Type {
	case "dateTime":
		if _, err := time.Parse(time.RFC3339Nano, s); err != nil {
			return nil, wrong("moment, as 2026-11-30T12:00:00Z")
		}
	case "binary":
		if _, err := base64.StdEncoding.DecodeString(s); err != nil {
			return nil, wrong("base64")
		}
	}
	return s, nil
}

func short(v any) string {
	b, _ := json.Marshal(v)
	if len(b) > 60 {
		return string(b[:57]) + "..."
	}
	return string(b)
}

// Check reports what a user lacks.
func (u User) Check() *Error {
	if name, _ := u["userName"].(string); strings.TrimSpace(name) == "" {
		return bad(InvalidValue, "userName is missing")
	}
	return nil
}

// Text is a text attribute, or one within another: "displayName", "name.formatted".
func (u User) Text(path string) string {
	name, sub, _ := strings.Cut(path, ".")
	v := u[name]
	if m, ok := v.(map[string]any); ok && sub != "" {
		v = m[sub]
	}
	s, _ := v.(string)
	return s
}

// Active reports whether the account is in use: it is where nothing is said.
func (u User) Active() bool { return u["active"] != false }

// Primary returns the value of an attribute of several that counts: the primary one, else the only one.
func (u User) Primary(name, sub string) string {
	list, _ := u[name].([]any)
	for i, e := range list {
		m, ok := e.(map[string]any)
		if ok && (m["primary"] == true || len(list) == 1 && i == 0) {
			s, _ := m[sub].(string)
			return s
		}
	}
	return ""
}

// Clone copies a user, so that changing one leaves the other.
func (u User) Clone() User {
	b, err := json.Marshal(u)
	if err != nil {
		panic(fmt.Sprintf("scim: %v", err)) // it came from JSON
	}
	var out User
	d := json.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(&out); err != nil {
		panic(fmt.Sprintf("scim: %v", err))
	}
	return out
}

// Meta is what the service keeps about a resource.
type Meta struct {
	ID                string
	Created, Modified time.Time
	Version           int
	Location          string
}

// ETag is the version as HTTP writes it (RFC 7644 §3.14).
func (m *Meta) ETag() string { return fmt.Sprintf(`W/"%d"`, m.Version) }

// Resource is a user as it is sent: with id, schemas and meta.
func (u User) Resource(m *Meta) map[string]any {
	out := map[string]any{}
	for k, v := range u {
		out[k] = v
	}
	schemas := []any{UserSchema}
	if u[EnterpriseSchema] != nil {
		schemas = append(schemas, EnterpriseSchema)
	}
	out["schemas"], out["id"] = schemas, m.ID
	if _, said := u["active"]; !said {
		out["active"] = true
	}
	const form = "2006-01-02T15:04:05.000000Z"
	out["meta"] = map[string]any{"resourceType": "User", "created": m.Created.UTC().Format(form),
		"lastModified": m.Modified.UTC().Format(form), "location": m.Location, "version": m.ETag()}
	return out
}

// Project leaves of a resource what is asked for (RFC 7644 §3.9): the attributes that are named, or all but those.
func Project(r map[string]any, only, but []string) (map[string]any, *Error) {
	if len(only) > 0 && len(but) > 0 {
		return nil, bad(InvalidValue, "attributes and excludedAttributes exclude each other")
	}
	if len(only) == 0 && len(but) == 0 {
		return r, nil
	}
	out := map[string]any{}
	if len(only) > 0 {
		for _, name := range append([]string{"schemas", "id"}, only...) {
			p, err := parsePath(name)
			if err != nil || p.ValueExpression != nil {
				return nil, bad(InvalidPath, "attributes: %q is no name of an attribute", name)
			}
			t := target(p)
			from, to := r, out
			if t.extension {
				from, _ = r[EnterpriseSchema].(map[string]any)
				if from == nil {
					continue
				}
				inner, _ := out[EnterpriseSchema].(map[string]any)
				if inner == nil {
					inner = map[string]any{}
					out[EnterpriseSchema] = inner
				}
				to = inner
			}
			copyPart(from, to, t)
			if t.extension && len(to) == 0 {
				delete(out, EnterpriseSchema)
			}
		}
		return out, nil
	}
	for k, v := range r {
		out[k] = v
	}
	for _, name := range but {
		p, err := parsePath(name)
		if err != nil || p.ValueExpression != nil {
			return nil, bad(InvalidPath, "excludedAttributes: %q is no name of an attribute", name)
		}
		t := target(p)
		if t.attr != nil && t.attr.Returned == "always" {
			continue
		}
		in := out
		if t.extension {
			if inner, ok := out[EnterpriseSchema].(map[string]any); ok {
				in = map[string]any{}
				for k, v := range inner {
					in[k] = v
				}
				out[EnterpriseSchema] = in
			}
		}
		leaveOut(in, t)
	}
	return out, nil
}

func copyPart(from, to map[string]any, t place) {
	if t.name == "" { // the whole extension
		for k, v := range from {
			to[k] = v
		}
		return
	}
	v, ok := from[t.name]
	if !ok {
		return
	}
	if t.sub == "" {
		to[t.name] = v
		return
	}
	pick := func(m, into map[string]any) map[string]any {
		if into == nil {
			into = map[string]any{}
		}
		if x, ok := m[t.sub]; ok {
			into[t.sub] = x
		}
		return into
	}
	switch v := v.(type) {
	case map[string]any:
		have, _ := to[t.name].(map[string]any)
		put(to, t.name, pick(v, have))
	case []any:
		have, _ := to[t.name].([]any)
		out := make([]any, 0, len(v))
		for i, e := range v {
			m, _ := e.(map[string]any)
			var into map[string]any
			if i < len(have) {
				into, _ = have[i].(map[string]any)
			}
			out = append(out, pick(m, into))
		}
		put(to, t.name, out)
	}
}

func leaveOut(in map[string]any, t place) {
	if t.sub == "" {
		delete(in, t.name)
		return
	}
	without := func(m map[string]any) map[string]any {
		out := map[string]any{}
		for k, v := range m {
			if k != t.sub {
				out[k] = v
			}
		}
		return out
	}
	switch v := in[t.name].(type) {
	case map[string]any:
		put(in, t.name, without(v))
	case []any:
		var out []any
		for _, e := range v {
			if m, ok := e.(map[string]any); ok {
				out = append(out, without(m))
			}
		}
		put(in, t.name, out)
	}
}
