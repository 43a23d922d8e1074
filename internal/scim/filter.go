package scim

import (
	"encoding/json"
	"strings"
	"time"

	"github.com/scim2/filter-parser/v2"
)

// Filter is a question to resources (RFC 7644 §3.4.2.2).
type Filter struct{ expr filter.Expression }

// place is where a path leads: an attribute, or a sub-attribute of it.
type place struct {
	extension bool // of the extension for organisations
	name, sub string
	attr      *Attribute // nil where no schema knows it
	subAttr   *Attribute
}

// ParseFilter reads a filter, and checks what it asks against the schemas.
func ParseFilter(text string) (*Filter, *Error) {
	if len(text) > 4000 {
		return nil, bad(InvalidFilter, "the filter is longer than 4000 letters")
	}
	expr, err := filter.ParseFilterNumber([]byte(text))
	if err != nil {
		return nil, bad(InvalidFilter, "the filter cannot be read: %v", err)
	}
	if e := checkExpr(expr, nil); e != nil {
		return nil, e
	}
	return &Filter{expr}, nil
}

func at(p filter.AttributePath) (t place) {
	schema := strings.TrimSuffix(p.URI(), ":")
	t.name, t.sub = p.AttributeName, p.SubAttributeName()
	t.extension = strings.EqualFold(schema, EnterpriseSchema)
	// A whole extension is named as if its last part were an attribute: urn:…:2.0 and User.
	if whole := schema + ":" + p.AttributeName; !t.extension && strings.EqualFold(whole, EnterpriseSchema) {
		return place{extension: true}
	}
	if t.attr = known(schema, t.name); t.attr == nil {
		return t
	}
	t.name = t.attr.Name
	if t.sub != "" {
		if t.subAttr = find(t.attr.Sub, t.sub); t.subAttr != nil {
			t.sub = t.subAttr.Name
		}
	}
	return t
}

// checkExpr checks a filter against the schemas; of a value path, against the attribute of it.
func checkExpr(e filter.Expression, in *Attribute) *Error {
	switch e := e.(type) {
	case *filter.LogicalExpression:
		if err := checkExpr(e.Left, in); err != nil {
			return err
		}
		return checkExpr(e.Right, in)
	case *filter.NotExpression:
		return checkExpr(e.Expression, in)
	case *filter.ValuePath:
		t := at(e.AttributePath)
		if t.attr == nil || len(t.attr.Sub) == 0 || t.sub != "" || in != nil {
			return bad(InvalidFilter, "%s has no parts to be asked", e.AttributePath)
		}
		return checkExpr(e.ValueFilter, t.attr)
	case *filter.AttributeExpression:
		a, _ := asked(e.AttributePath, in)
		if a == nil {
			return nil // what no schema knows is nowhere: it matches nothing
		}
		if a.Returned == "never" {
			return bad(Sensitive, "%s is not asked about", a.Name)
		}
		if a.Type == "complex" && e.Operator != filter.PR {
			return bad(InvalidFilter, "%s has parts: name one of them", a.Name)
		}
		if a.Type == "boolean" || a.Type == "binary" {
			switch e.Operator {
			case filter.GT, filter.GE, filter.LT, filter.LE:
				return bad(InvalidFilter, "%s is neither larger nor smaller", a.Name)
			}
		}
		if e.CompareValue == nil && e.Operator != filter.PR && e.Operator != filter.EQ && e.Operator != filter.NE {
			return bad(InvalidFilter, "null is only equal or not")
		}
		if s, ok := compared(e); ok && a.Type == "dateTime" {
			if _, err := time.Parse(time.RFC3339Nano, s); err != nil {
				return bad(InvalidFilter, "%q is no moment, as 2026-11-30T12:00:00Z", s)
			}
		}
		return nil
	}
	return bad(InvalidFilter, "the filter cannot be read")
}

// asked finds which attribute an expression asks: of several values without a part, their value.
func asked(p filter.AttributePath, in *Attribute) (a *Attribute, t place) {
	if in != nil {
		a = find(in.Sub, p.AttributeName)
		if a != nil {
			t = place{name: a.Name, attr: a}
		}
		return a, t
	}
	t = at(p)
	switch {
	case t.attr == nil, t.sub != "" && t.subAttr == nil:
		return nil, t
	case t.subAttr != nil:
		return t.subAttr, t
	case t.attr.Multi && len(t.attr.Sub) > 0:
		if v := find(t.attr.Sub, "value"); v != nil {
			t.sub, t.subAttr = v.Name, v
			return v, t
		}
	}
	return t.attr, t
}

// compared is the text that an expression compares with.
func compared(e *filter.AttributeExpression) (string, bool) {
	s, ok := e.CompareValue.(string)
	if !ok {
		return "", false
	}
	var out string
	if json.Unmarshal([]byte(`"`+s+`"`), &out) == nil { // the package leaves escapes as they are
		return out, true
	}
	return s, true
}

// Match reports whether a resource is what a filter asks for.
func (f *Filter) Match(r map[string]any) bool { return f == nil || matches(f.expr, r, nil) }

func matches(e filter.Expression, r map[string]any, in *Attribute) bool {
	switch e := e.(type) {
	case *filter.LogicalExpression:
		if e.Operator == filter.AND {
			return matches(e.Left, r, in) && matches(e.Right, r, in)
		}
		return matches(e.Left, r, in) || matches(e.Right, r, in)
	case *filter.NotExpression:
		return !matches(e.Expression, r, in)
	case *filter.ValuePath:
		t := at(e.AttributePath)
		for _, m := range elements(holder(r, t)[t.name]) {
			if matches(e.ValueFilter, m, t.attr) {
				return true
			}
		}
		return false
	case *filter.AttributeExpression:
		a, t := asked(e.AttributePath, in)
		if a == nil {
			return e.Operator == filter.NE || e.Operator == filter.EQ && e.CompareValue == nil
		}
		var values []any
		switch v := holder(r, t)[t.name].(type) {
		case nil:
		case []any:
			values = v
		default:
			values = []any{v}
		}
		if t.sub != "" {
			var parts []any
			for _, m := range values {
				if m, ok := m.(map[string]any); ok && m[t.sub] != nil {
					parts = append(parts, m[t.sub])
				}
			}
			values = parts
		}
		return compares(a, e, values)
	}
	return false
}

// holder is the object in which a place lies.
func holder(r map[string]any, t place) map[string]any {
	if t.extension {
		m, _ := r[EnterpriseSchema].(map[string]any)
		return m
	}
	return r
}

func elements(v any) (out []map[string]any) {
	switch v := v.(type) {
	case map[string]any:
		out = append(out, v)
	case []any:
		for _, e := range v {
			if m, ok := e.(map[string]any); ok {
				out = append(out, m)
			}
		}
	}
	return
}

// compares compares values; of several, one that is so is enough (of ne: one that is not equal).
func compares(a *Attribute, e *filter.AttributeExpression, values []any) bool {
	if e.Operator == filter.PR {
		for _, v := range values {
			if s, text := v.(string); !none(v) && (!text || s != "") {
				return true
			}
		}
		return false
	}
	if e.CompareValue == nil { // no value (RFC 7643 §2.5)
		return (len(values) == 0) == (e.Operator == filter.EQ)
	}
	if len(values) == 0 {
		return e.Operator == filter.NE
	}
	for _, v := range values {
		if one(a, e, v) {
			return true
		}
	}
	return false
}

func one(a *Attribute, e *filter.AttributeExpression, v any) bool {
	if b, ok := v.(bool); ok {
		w, isBool := e.CompareValue.(bool)
		if s, text := e.CompareValue.(string); text {
			w, isBool = strings.EqualFold(s, "true"), strings.EqualFold(s, "true") || strings.EqualFold(s, "false")
		}
		switch e.Operator {
		case filter.EQ:
			return isBool && b == w
		case filter.NE:
			return !isBool || b != w
		}
		return false
	}
	x, ok := v.(string)
	y, text := compared(e)
	if !ok || !text {
		return e.Operator == filter.NE
	}
	order := 0
	if a.Type == "dateTime" {
		p, err1 := time.Parse(time.RFC3339Nano, x)
		q, err2 := time.Parse(time.RFC3339Nano, y)
		if err1 != nil || err2 != nil {
			return false
		}
		order = p.Compare(q)
	} else {
		if !a.CaseExact {
			x, y = strings.ToLower(x), strings.ToLower(y)
		}
		order = strings.Compare(x, y)
	}
	switch e.Operator {
	case filter.EQ:
		return order == 0
	case filter.NE:
		return order != 0
	case filter.CO:
		return strings.Contains(x, y)
	case filter.SW:
		return strings.HasPrefix(x, y)
	case filter.EW:
		return strings.HasSuffix(x, y)
	case filter.GT:
		return order > 0
	case filter.GE:
		return order >= 0
	case filter.LT:
		return order < 0
	case filter.LE:
		return order <= 0
	}
	return false
}

// Equals returns what a filter demands of an attribute by eq, where no resource without it can match: a shorter way to look.
func (f *Filter) Equals(name string) (string, bool) {
	if f == nil {
		return "", false
	}
	var look func(e filter.Expression) (string, bool)
	look = func(e filter.Expression) (string, bool) {
		switch e := e.(type) {
		case *filter.LogicalExpression:
			if e.Operator == filter.AND {
				if s, ok := look(e.Left); ok {
					return s, true
				}
				return look(e.Right)
			}
		case *filter.AttributeExpression:
			if t := at(e.AttributePath); e.Operator == filter.EQ && t.attr != nil && !t.extension && t.name == name && t.sub == "" {
				return compared(e)
			}
		}
		return "", false
	}
	return look(f.expr)
}

// SortKey returns by what a resource is sorted (RFC 7644 §3.4.2.3): of several values by the primary one, else the first.
func SortKey(r map[string]any, by string) (string, *Error) {
	p, err := parsePath(by)
	if err != nil || p.ValueExpression != nil {
		return "", bad(InvalidPath, "sortBy: %q is no name of an attribute", by)
	}
	a, t := asked(p.AttributePath, nil)
	if a == nil || a.Type == "complex" {
		return "", bad(InvalidPath, "sortBy: %q is no attribute by which users are sorted", by)
	}
	v := holder(r, t)[t.name]
	if list, ok := v.([]any); ok && len(list) > 0 {
		v = list[0]
		for _, e := range list {
			if m, ok := e.(map[string]any); ok && m["primary"] == true {
				v = m
			}
		}
	}
	if m, ok := v.(map[string]any); ok {
		v = m[t.sub]
	}
	s, _ := v.(string)
	if b, ok := v.(bool); ok {
		s = map[bool]string{false: "0", true: "1"}[b]
	}
	if !a.CaseExact {
		s = strings.ToLower(s)
	}
	return s, nil
}

func parsePath(text string) (filter.Path, error) {
	if strings.EqualFold(text, EnterpriseSchema) { // the whole extension, which the grammar takes for an attribute
		uri := EnterpriseSchema
		return filter.Path{AttributePath: filter.AttributePath{URIPrefix: &uri}}, nil
	}
	return filter.ParsePathNumber([]byte(text))
}

// target is where the path of a change leads.
func target(p filter.Path) place {
	if p.AttributePath.AttributeName == "" {
		return place{extension: true}
	}
	t := at(p.AttributePath)
	if p.SubAttribute != nil {
		t.sub = *p.SubAttribute
		if t.attr != nil {
			if t.subAttr = find(t.attr.Sub, t.sub); t.subAttr != nil {
				t.sub = t.subAttr.Name
			}
		}
	}
	return t
}
