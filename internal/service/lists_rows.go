package service

import (
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/scim"
	"wexillum.example/internal/worldfile"
)

// asKept writes an address as it is kept (lower case, the domain in A-labels); anything else
// in lower case.
func asKept(text string) string {
	text = strings.TrimSpace(text)
	if a, err := addr.Parse(text); err == nil {
		return a.String()
	}
	return strings.ToLower(text)
}

// rowText writes a row as one line of the file format: what there is, with what the row
// says over it.
func rowText(what string, v map[string]string, old []byte) (string, []worldfile.FieldAt) {
	m := map[string]json.RawMessage{}
	if old != nil {
		_ = json.Unmarshal(old, &m)
	}
	for k, text := range v {
		text = strings.TrimSpace(text)
		switch {
		case text == "":
			delete(m, k)
			if k == "for" {
				m[k] = json.RawMessage("[]")
			}
		case listMany[k] && !(k == "for" && text == "bearer"):
			list := append([]string{}, strings.FieldsFunc(text, func(r rune) bool { return r == ';' || r == ',' || r == ' ' })...)
			m[k], _ = json.Marshal(list)
		default:
			m[k] = json.RawMessage(jsonText(text))
		}
	}
	doc, _ := json.Marshal(m)
	line, at := worldfile.FlowLine(doc, listColumns[what])
	for i := range at {
		at[i].Col += 2
	}
	return "- " + line + "\n", at
}

// listError finds the line and the column that an error is about.
func listError(rows []listRow, left []int, fields [][]worldfile.FieldAt, e *worldfile.Error) ListError {
	k := e.Line - 3
	if k < 0 || k >= len(left) {
		return ListError{Text: e.Msg}
	}
	i := left[k]
	out := ListError{Line: rows[i].line, Text: e.Msg}
	for _, f := range fields[i] {
		if e.Col >= f.Col {
			out.Column = f.Name
		}
	}
	out.Value = rows[i].values[out.Column]
	return out
}

// csvRows reads CSV (RFC 4180) whose first line names the columns.
func csvRows(what string, columns map[string]string, in io.Reader, out *ListTaken) (rows []listRow, err error) {
	r := sheet.NewReader(in)
	head, err := r.Read()
	if err != nil {
		return nil, &Invalid{"list", "", "it is empty; its first line names columns: " + strings.Join(listColumns[what], ", ")}
	}
	ours := make([]string, len(head))
	for i, h := range head {
		h = strings.TrimSpace(strings.TrimPrefix(h, "\ufeff"))
		name := strings.ToLower(h)
		if to, ok := columns[h]; ok {
			name = to
			if !slices.Contains(listColumns[what], to) {
				return nil, &Invalid{"map", h + "=" + to, "the columns are " + strings.Join(listColumns[what], ", ")}
			}
		}
		if !slices.Contains(listColumns[what], name) {
			out.Ignored = append(out.Ignored, h)
			continue
		}
		if slices.Contains(ours, name) {
			return nil, &Invalid{"map", h, "two columns are " + name}
		}
		ours[i] = name
		out.Columns[h] = name
	}
	for from := range columns {
		if _, ok := out.Columns[from]; !ok {
			return nil, &Invalid{"map", from, "the file has no such column; it has " + strings.Join(head, ", ")}
		}
	}
	for _, need := range listNeeds[what] {
		if !slices.Contains(ours, need) {
			return nil, &Invalid{
				"list",
				strings.Join(head, ","),
				"a column " + need + " is needed; name it so, or say which it is with map",
			}
		}
	}
	for {
		f, err := r.Read()
		if errors.Is(err, io.EOF) {
			return rows, nil
		}
		if err != nil {
			return nil, &Invalid{"list", "", err.Error()}
		}
		line, _ := r.FieldPos(0)
		v := map[string]string{}
		empty := true
		for i, x := range f {
			if i < len(ours) && ours[i] != "" {
				v[ours[i]] = x
				empty = empty && strings.TrimSpace(x) == ""
			}
		}
		if !empty {
			rows = append(rows, listRow{line, v})
		}
	}
}

// The names of SCIM (RFC 7643 §8.7, RFC 7644 §3.4.2), and of what is ours besides.
const (
	scimUser  = "urn:ietf:params:scim:schemas:core:2.0:User"
	scimList  = scim.ListMessage
	scimGuest = "urn:wexillum:params:scim:schemas:guest:1.0"
)

type scimName struct {
	Formatted string `json:"formatted,omitempty"`
}

type scimMail struct {
	Value   string `json:"value"`
	Primary bool   `json:"primary,omitempty"`
}

type scimMeta struct {
	ResourceType string `json:"resourceType"`
}

type scimResource struct {
	Schemas     []string                   `json:"schemas"`
	ID          string                     `json:"id,omitempty"`
	UserName    string                     `json:"userName"`
	DisplayName string                     `json:"displayName,omitempty"`
	Name        *scimName                  `json:"name,omitempty"`
	Emails      []scimMail                 `json:"emails,omitempty"`
	Active      *bool                      `json:"active,omitempty"`
	Language    string                     `json:"preferredLanguage,omitempty"`
	Guest       map[string]json.RawMessage `json:"urn:wexillum:params:scim:schemas:guest:1.0,omitempty"`
	Meta        *scimMeta                  `json:"meta,omitempty"`
}

type scimResponse struct {
	Schemas   []string       `json:"schemas"`
	Total     int            `json:"totalResults"`
	Start     int            `json:"startIndex"`
	PerPage   int            `json:"itemsPerPage"`
	Resources []scimResource `json:"Resources"`
}

func scimRows(in io.Reader) (rows []listRow, err error) {
	var list scimResponse
	if err := json.NewDecoder(in).Decode(&list); err != nil {
		return nil, &Invalid{"list", "", "it is no SCIM list response: " + err.Error()}
	}
	if !slices.Contains(list.Schemas, scimList) {
		return nil, &Invalid{"schemas", strings.Join(list.Schemas, ","), "a list response says " + scimList}
	}
	for i := range list.Resources {
		r := &list.Resources[i]
		v := map[string]string{"address": r.UserName}
		for _, m := range r.Emails {
			if m.Primary || len(r.Emails) == 1 {
				v["address"] = m.Value
			}
		}
		if r.DisplayName != "" {
			v["name"] = r.DisplayName
		} else if r.Name != nil && r.Name.Formatted != "" {
			v["name"] = r.Name.Formatted
		}
		if r.Language != "" {
			v["language"] = r.Language
		}
		for k, raw := range r.Guest {
			if !slices.Contains(listColumns["guests"], k) || k == "address" {
				return nil, &Invalid{scimGuest, k, "it has " + strings.Join(listColumns["guests"][1:], ", ")}
			}
			var one string
			var many []string
			if json.Unmarshal(raw, &one) == nil {
				v[k] = one
			} else if json.Unmarshal(raw, &many) == nil {
				v[k] = strings.Join(many, ";")
			}
		}
		if _, said := v["state"]; !said && r.Active != nil && !*r.Active {
			v["state"], v["cause"] = "suspended", "by_hand"
		}
		rows = append(rows, listRow{i + 1, v})
	}
	return rows, nil
}

// listed is a sink that takes one kind of inventory, entry by entry.
type listed struct {
	collect
	section string
	entry   func(*world.World) error // of a world that holds one, or those of one holder
	err     error
}

// Wants leaves out everything else.
func (l *listed) Wants(kind string) bool { return worldfile.SectionOf(kind) == l.section }

func (l *listed) one(x world.Inventory) {
	if l.err == nil {
		l.err = l.entry(&world.World{Inventory: x})
	}
}

func (l *listed) PutGuest(x *world.Guest) { l.one(world.Inventory{Guests: []world.Guest{*x}}) }

func (l *listed) SetGrants(_ string, xs []world.Grant) { l.one(world.Inventory{Grants: xs}) }

func (l *listed) PutHolding(x *world.Holding) { l.one(world.Inventory{Holdings: []world.Holding{*x}}) }

func (l *listed) PutLink(x *world.Link) { l.one(world.Inventory{Links: []world.Link{*x}}) }

func (l *listed) PutSpace(x *world.Space) { l.one(world.Inventory{Spaces: []world.Space{*x}}) }

func (l *listed) PutPerson(x *world.Person) { l.one(world.Inventory{People: []world.Person{*x}}) }
