package scim

import (
	"bytes"
	"encoding/json"
	"reflect"
	"strings"

	"github.com/scim2/filter-parser/v2"
)

// Operation is one change of a resource (RFC 7644 §3.5.2).
type Operation struct {
	Op    string          `json:"op"`
	Path  string          `json:"path"`
	Value json.RawMessage `json:"value"`
}

// mostOperations is how many changes one request makes.
const mostOperations = 1000

// ReadPatch reads a request to change a resource.
func ReadPatch(body []byte) ([]Operation, *Error) {
	var in struct {
		Schemas    []string    `json:"schemas"`
		Operations []Operation `json:"Operations"`
	}
	if err := json.Unmarshal(body, &in); err != nil {
		return nil, bad(InvalidSyntax, "the body is no change of a resource: %v", err)
	}
	found := false
	for _, s := range in.Schemas {
		found = found || strings.EqualFold(s, PatchMessage)
	}
	switch {
	case !found:
		return nil, bad(InvalidSyntax, "schemas does not name %s", PatchMessage)
	case len(in.Operations) == 0 || len(in.Operations) > mostOperations:
		return nil, bad(InvalidSyntax, "Operations holds 1 to %d changes", mostOperations)
	}
	return in.Operations, nil
}

// Patch applies changes one after the other; where one is wrong, none is made and the user stays as it was.
func (u User) Patch(ops []Operation) (User, *Error) {
	out := u.Clone()
	for i := range ops {
		if err := out.apply(&ops[i]); err != nil {
			return nil, err
		}
	}
	tidy(out)
	return out, out.Check()
}

// tidy takes away what has no value any more: values without parts, and attributes without values.
func tidy(m map[string]any) {
	for k, v := range m {
		switch v := v.(type) {
		case map[string]any:
			tidy(v)
			put(m, k, v)
		case []any:
			var left []any
			for _, e := range v {
				if x, ok := e.(map[string]any); ok {
					tidy(x)
				}
				if !none(e) {
					left = append(left, e)
				}
			}
			put(m, k, left)
		}
	}
}

func (u User) apply(o *Operation) *Error {
	op := strings.ToLower(o.Op) // some clients write Add and Replace
	var v any
	if len(o.Value) > 0 {
		d := json.NewDecoder(bytes.NewReader(o.Value))
		d.UseNumber()
		if err := d.Decode(&v); err != nil {
			return bad(InvalidSyntax, "the value of %s is no JSON: %v", op, err)
		}
	}
	switch op {
	case "add", "replace":
		if len(o.Value) == 0 {
			return bad(InvalidSyntax, "%s has no value", op)
		}
	case "remove":
	default:
		return bad(InvalidSyntax, "op %q: write add, remove or replace", o.Op)
	}
	if o.Path == "" {
		if op == "remove" {
			return bad(NoTarget, "remove says which attribute: path is missing")
		}
		return u.merge(op, v)
	}
	p, err := parsePath(o.Path)
	if err != nil {
		return bad(InvalidPath, "path %q cannot be read: %v", o.Path, err)
	}
	t := target(p)
	if t.extension && t.name == "" { // the whole extension
		if op == "remove" {
			delete(u, EnterpriseSchema)
			return nil
		}
		return u.merge(op, map[string]any{EnterpriseSchema: v})
	}
	if t.attr == nil || t.sub != "" && t.subAttr == nil {
		return bad(InvalidPath, "path %q: there is no such attribute", o.Path)
	}
	if t.attr.Mutability == "readOnly" || t.subAttr != nil && t.subAttr.Mutability == "readOnly" || t.name == "schemas" {
		return bad(Mutability, "%s cannot be changed", t.attr.Name)
	}
	if p.ValueExpression != nil {
		if e := checkExpr(p.ValueExpression, t.attr); e != nil {
			e.Type = InvalidPath
			return e
		}
		if !t.attr.Multi {
			return bad(InvalidPath, "path %q: %s has one value", o.Path, t.name)
		}
	}
	in := map[string]any(u)
	if t.extension {
		inner, _ := u[EnterpriseSchema].(map[string]any)
		if inner == nil {
			inner = map[string]any{}
		}
		in = inner
		defer func() { u.set(EnterpriseSchema, inner) }()
	}
	if t.attr.Multi {
		return many1(in, t, op, p.ValueExpression, v, o.Path)
	}
	return single1(in, t, op, v, o.Path)
}

// merge adds or replaces the attributes that a value holds (RFC 7644 §3.5.2.1, §3.5.2.3). Some clients write paths as names there.
func (u User) merge(op string, v any) *Error {
	m, ok := v.(map[string]any)
	if !ok {
		return bad(InvalidValue, "without a path the value is an object of attributes")
	}
	for k, x := range m {
		if strings.EqualFold(k, EnterpriseSchema) {
			inner, ok := x.(map[string]any)
			if !ok {
				return bad(InvalidValue, "%s is no object", k)
			}
			for name, y := range inner {
				if err := u.one(op, EnterpriseSchema+":"+name, y); err != nil {
					return err
				}
			}
			continue
		}
		if strings.EqualFold(k, "schemas") {
			continue
		}
		if a := known("", k); a != nil && a.Mutability == "readOnly" { // as in a replacement, it is left alone
			continue
		}
		if a := known("", k); a == nil && !strings.ContainsAny(k, ".:[") { // and so is what no schema knows
			continue
		}
		if err := u.one(op, k, x); err != nil {
			return err
		}
	}
	return nil
}

func (u User) one(op, path string, v any) *Error {
	raw, err := json.Marshal(v)
	if err != nil {
		return bad(InvalidSyntax, "%s: %v", path, err)
	}
	return u.apply(&Operation{op, path, raw})
}

// single1 changes an attribute of one value, or a part of it.
func single1(in map[string]any, t place, op string, v any, path string) *Error {
	a := t.attr
	if t.sub != "" {
		a = t.subAttr
		inner, _ := in[t.name].(map[string]any)
		if inner == nil {
			inner = map[string]any{}
		}
		if op == "remove" {
			delete(inner, t.sub)
		} else {
			x, err := value(a, v, path)
			if err != nil {
				return err
			}
			put(inner, t.sub, x)
		}
		put(in, t.name, inner)
		return nil
	}
	if op == "remove" {
		if a.Required {
			return bad(Mutability, "%s is needed and cannot be taken away", a.Name)
		}
		delete(in, t.name)
		return nil
	}
	x, err := value(a, v, path)
	if err != nil || a.Mutability == "writeOnly" {
		return err
	}
	if m, ok := x.(map[string]any); ok { // its parts are added; the others stay (RFC 7644 §3.5.2.3)
		if has, ok := in[t.name].(map[string]any); ok {
			for k, y := range m {
				has[k] = y
			}
			x = has
		}
	}
	if none(x) && a.Required {
		return bad(InvalidValue, "%s is needed and cannot be taken away", a.Name)
	}
	put(in, t.name, x)
	return nil
}

// many1 changes an attribute of several values: all of them, or those that a filter picks, or a part of these.
func many1(in map[string]any, t place, op string, pick filter.Expression, v any, path string) *Error {
	list, _ := in[t.name].([]any)
	picked := func(e any) bool {
		m, ok := e.(map[string]any)
		return ok && (pick == nil || matches(pick, m, t.attr))
	}
	switch {
	case pick == nil && t.sub == "":
		if op == "remove" {
			put(in, t.name, remaining(list, v, t.attr, path))
			return nil
		}
		x, err := value(t.attr, v, path)
		if err != nil {
			return err
		}
		fresh, _ := x.([]any)
		if op == "replace" {
			put(in, t.name, x)
			return nil
		}
		for _, e := range fresh {
			list = addTo(list, e)
		}
		put(in, t.name, list)
		return nil
	case op == "remove":
		var out []any
		hit := false
		for _, e := range list {
			switch {
			case !picked(e):
				out = append(out, e)
			case t.sub != "":
				hit = true
				m := e.(map[string]any)
				delete(m, t.sub)
				if len(m) > 0 {
					out = append(out, m)
				}
			default:
				hit = true
			}
		}
		if !hit && pick != nil {
			return bad(NoTarget, "path %q: no value is so", path)
		}
		put(in, t.name, out)
		return nil
	}
	hit, last := false, 0
	for i, e := range list {
		if !picked(e) {
			continue
		}
		hit, last = true, i
		m := e.(map[string]any)
		if t.sub == "" {
			x, err := single(t.attr, v, path)
			if err != nil {
				return err
			}
			if op == "replace" {
				list[i] = x
			} else {
				for k, y := range x.(map[string]any) {
					m[k] = y
				}
			}
			continue
		}
		x, err := value(t.subAttr, v, path)
		if err != nil {
			return err
		}
		put(m, t.sub, x)
	}
	if !hit {
		made := map[string]any{}
		if op == "replace" && pick != nil || !demands(pick, t.attr, made) {
			return bad(NoTarget, "path %q: no value is so", path)
		}
		if t.sub == "" {
			x, err := single(t.attr, v, path)
			if err != nil {
				return err
			}
			for k, y := range x.(map[string]any) {
				made[k] = y
			}
		} else {
			x, err := value(t.subAttr, v, path)
			if err != nil {
				return err
			}
			put(made, t.sub, x)
		}
		list, last = append(list, made), len(list)
	}
	put(in, t.name, primaryOf(list, last))
	return nil
}

// remaining leaves of values what a removal does not name: all go where it names none.
func remaining(list []any, v any, a *Attribute, path string) []any {
	named, err := value(a, v, path)
	gone, _ := named.([]any)
	if err != nil || len(gone) == 0 {
		return nil
	}
	var out []any
	for _, e := range list {
		keep := true
		for _, g := range gone {
			keep = keep && !alike(e, g)
		}
		if keep {
			out = append(out, e)
		}
	}
	return out
}

// alike reports whether a value is what another names: all that the other says.
func alike(e, named any) bool {
	m, ok1 := e.(map[string]any)
	n, ok2 := named.(map[string]any)
	if !ok1 || !ok2 {
		return reflect.DeepEqual(e, named)
	}
	for k, v := range n {
		if !reflect.DeepEqual(m[k], v) {
			return false
		}
	}
	return true
}

// addTo adds a value that is not there yet; one that is primary makes the others not so.
func addTo(list []any, e any) []any {
	m, ok := e.(map[string]any)
	for i, has := range list {
		if reflect.DeepEqual(has, e) {
			return list
		}
		// the same, said anew
		if h, isMap := has.(map[string]any); ok && isMap && m["value"] != nil && h["value"] == m["value"] && h["type"] == m["type"] {
			list[i] = e
			return primaryOf(list, i)
		}
	}
	return primaryOf(append(list, e), len(list))
}

func primaryOf(list []any, at int) []any {
	if m, ok := list[at].(map[string]any); ok && m["primary"] == true {
		for i, e := range list {
			if h, ok := e.(map[string]any); ok && i != at && h["primary"] == true {
				h["primary"] = false
			}
		}
	}
	return list
}

// demands writes what a filter of one or more eq demands of a value, which is then made; false where it demands something else.
func demands(e filter.Expression, a *Attribute, into map[string]any) bool {
	switch e := e.(type) {
	case nil:
		return true
	case *filter.LogicalExpression:
		return e.Operator == filter.AND && demands(e.Left, a, into) && demands(e.Right, a, into)
	case *filter.AttributeExpression:
		sub, t := asked(e.AttributePath, a)
		if sub == nil || e.Operator != filter.EQ || e.CompareValue == nil {
			return false
		}
		if s, ok := compared(e); ok {
			into[t.name] = s
			return true
		}
		if b, ok := e.CompareValue.(bool); ok {
			into[t.name] = b
			return true
		}
	}
	return false
}
