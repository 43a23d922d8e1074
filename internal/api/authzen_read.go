package api

import (
	"bytes"
	"strings"

	"github.com/go-json-experiment/json/jsontext"
	jsonv1 "github.com/go-json-experiment/json/v1"

	"wexillum.example/internal/core/engine"
)

// azRoom is room for one evaluation at a time: what is asked, and the answer
// until it is written. A gateway asks for a thousand at once, and making room
// for each would be a good part of what they cost.
type azRoom struct {
	engine.Explanation
	found  azFound
	gates  []azGate
	causes []azCause
	out    []byte // what is written
	later  engine.Question

	subject, resource azEntity
	action            azAction
	text              bytes.Buffer
	from              jsontext.Decoder
}

// read reads a member of a batch. What is usual is read token by token, its
// texts lying in the member's own; whatever else there may be, a name in another
// spelling, null, properties, goes to the package that reads as encoding/json
// does, and so do errors. TestMembersRead holds that both read the same.
func (r *azRoom) read(member []byte, q *azRequest) error {
	*q = azRequest{}
	if r.usual(member, q) {
		return nil
	}
	*q = azRequest{}
	return jsonv1.Unmarshal(member, q)
}

// usual is read for a member in the usual form: an object of subject, action,
// resource and context, each at most once. It reports whether it was one.
func (r *azRoom) usual(member []byte, q *azRequest) bool {
	r.text.Reset()
	r.text.Write(member)
	r.from.Reset(&r.text)
	all := string(member)
	if r.from.PeekKind() != '{' {
		return false
	}
	_, _ = r.from.ReadToken()
	for r.from.PeekKind() == '"' {
		name, err := r.from.ReadValue()
		if err != nil {
			return false
		}
		switch string(name) {
		case `"subject"`:
			r.subject = azEntity{}
			if q.Subject = &r.subject; !r.fields(all, "type", &r.subject.Type, "id", &r.subject.ID) {
				return false
			}
		case `"resource"`:
			r.resource = azEntity{}
			if q.Resource = &r.resource; !r.fields(all, "type", &r.resource.Type, "id", &r.resource.ID) {
				return false
			}
		case `"action"`:
			r.action = azAction{}
			if q.Action = &r.action; !r.fields(all, "name", &r.action.Name, "", nil) {
				return false
			}
		case `"context"`:
			v, err := r.from.ReadValue()
			if err != nil || jsonv1.Unmarshal(v, &q.Context) != nil {
				return false
			}
		default:
			return false
		}
	}
	end, err := r.from.ReadToken()
	return err == nil && end.Kind() == '}' && strings.TrimSpace(all[r.from.InputOffset():]) == ""
}

// fields reads an object of two texts at most, with these names. all is what is
// read, of which texts are parts.
func (r *azRoom) fields(all, name1 string, into1 *string, name2 string, into2 *string) bool {
	if begin, err := r.from.ReadToken(); err != nil || begin.Kind() != '{' {
		return false
	}
	text := func() (string, bool) {
		v, err := r.from.ReadValue()
		if err != nil || v.Kind() != '"' || bytes.IndexByte(v, '\\') >= 0 {
			return "", false
		}
		end := int(r.from.InputOffset())
		return all[end-len(v)+1 : end-1], true
	}
	for r.from.PeekKind() == '"' {
		name, ok := text()
		into := into1
		if name == name2 {
			into = into2
		} else if name != name1 {
			return false
		}
		if !ok || into == nil {
			return false
		}
		if *into, ok = text(); !ok {
			return false
		}
	}
	end, err := r.from.ReadToken()
	return err == nil && end.Kind() == '}'
}
