package worldfile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"
)

// Unwritable says why a record cannot be written: a text in it that no dump could hold.
type Unwritable struct {
	Kind, ID string
	Field    string // that the text stands in; empty where it is not known
	Reason   string
}

func (e *Unwritable) Error() string {
	field := e.Field
	if field == "" {
		field = "a text"
	}
	return fmt.Sprintf("%s %s: %s: %s", e.Kind, e.ID, field, e.Reason)
}

// badRune reports whether a character cannot stand in a text: controls but for line breaks
// and tabs, and what YAML 1.2 §5.1 does not print.
func badRune(c rune) bool {
	return c < 0x20 && c != '\n' && c != '\t' || c >= 0x7f && c < 0xa0 && c != 0x85 || c == 0x85 || c == 0xfffe || c == 0xffff
}

// CheckWhy refuses a reason, or any text beside a record, that no dump could hold.
func CheckWhy(text string) error {
	if !utf8.ValidString(text) {
		return &Unwritable{Kind: "change", Field: "why", Reason: "it is not valid UTF-8"}
	}
	if i := strings.IndexFunc(text, badRune); i >= 0 {
		return &Unwritable{Kind: "change", Field: "why", Reason: fmt.Sprintf("a control character stands in it, at position %d", i+1)}
	}
	return nil
}

// CheckDoc refuses a record that could not be read back, whatever way it came: a doc of any
// kind with a character that no text may hold, one of the kinds of the file format that its
// reader refuses. The error is an *Unwritable.
func CheckDoc(kind, id string, doc []byte) error {
	d := json.NewDecoder(bytes.NewReader(doc))
	var keys []string // by depth: the key that a value stands under
	key, inKey := []bool{}, false
	for {
		t, err := d.Token()
		if errors.Is(err, io.EOF) {
			break
		}
		if err != nil {
			return nil // not JSON: nothing that a dump reads
		}
		switch x := t.(type) {
		case json.Delim:
			switch x {
			case '{':
				key, keys = append(key, true), append(keys, "")
			case '[':
				key, keys = append(key, false), append(keys, "")
			default:
				key, keys = key[:len(key)-1], keys[:len(keys)-1]
			}
			inKey = false
			continue
		case string:
			if n := len(key); n > 0 && key[n-1] && !inKey {
				keys[n-1], inKey = x, true
				if strings.ContainsFunc(x, badRune) {
					return &Unwritable{kind, id, x, "a control character stands in the name of a field"}
				}
				continue
			}
			if i := strings.IndexFunc(x, badRune); i >= 0 {
				field := ""
				for _, k := range keys {
					if k != "" {
						field = k
					}
				}
				return &Unwritable{kind, id, field, fmt.Sprintf("a control character stands in it, at position %d", i+1)}
			}
		}
		inKey = false
	}
	if err := readable(kind, doc); err != nil {
		var es Errors
		if errors.As(err, &es) && len(es) > 0 {
			return &Unwritable{kind, id, "", es[0].Msg}
		}
		return &Unwritable{kind, id, "", err.Error()}
	}
	return nil
}

// readable reads a doc as its kind is read.
func readable(kind string, doc []byte) error {
	var err error
	switch kind {
	case "group":
		_, err = GroupOf(doc)
	case "person":
		_, err = PersonOf(doc)
	case "space":
		_, err = SpaceOf(doc)
	case "domain_list":
		_, err = DomainListOf(doc)
	case "meeting":
		_, err = MeetingOf(doc)
	case "link":
		_, err = LinkOf(doc)
	case "contact":
		_, err = ContactOf(doc)
	case "forwarder":
		_, err = ForwarderOf(doc)
	case "letter":
		_, err = LetterOf(doc)
	case "statement":
		_, err = StatementOf(doc)
	case "dates_from":
		_, err = DatesFromOf(doc)
	case "partner":
		_, err = PartnerOf(doc)
	case "exception":
		_, err = ExceptionOf(doc)
	case "guest":
		_, err = ofDoc(doc, "a guest", guestFields, newGuest())
	case "grant":
		_, err = ofDoc(doc, "a grant", grantFields, newGrant())
	}
	return err
}

// Kept reads a doc that is kept already. One that cannot be read as it is, is read without the
// characters that no text may hold; bad then says what was wrong. An err is of what that does
// not help against.
func Kept[T any](parse func(Doc) (T, error), doc []byte) (x T, bad, err error) {
	if x, bad = parse(doc); bad == nil {
		return x, nil, nil
	}
	mended, err := Mended(doc)
	if err != nil {
		return x, bad, bad
	}
	if x, err = parse(mended); err != nil {
		err = bad
	}
	return x, bad, err
}

// Plain takes out of texts what no text may hold, and says what it was; nil where it was
// nothing.
func Plain(texts ...*string) (bad error) {
	for _, t := range texts {
		if why := CheckWhy(*t); why != nil {
			bad = why
			*t = plain(*t)
		}
	}
	return bad
}

// plain is a text without the characters that no text may hold, cut to what one may be long.
func plain(v string) string {
	v = strings.Map(func(c rune) rune {
		if badRune(c) {
			return -1
		}
		return c
	}, v)
	for len(v) > maxText {
		_, n := utf8.DecodeLastRuneInString(v)
		v = v[:len(v)-n]
	}
	return v
}

// Mended returns a doc without the characters that no text may hold, and with texts cut to
// what a text may be long.
func Mended(doc []byte) ([]byte, error) {
	var x any
	d := json.NewDecoder(bytes.NewReader(doc))
	d.UseNumber()
	if err := d.Decode(&x); err != nil {
		return nil, err
	}
	var mend func(x any) any
	mend = func(x any) any {
		switch v := x.(type) {
		case string:
			return plain(v)
		case []any:
			for i := range v {
				v[i] = mend(v[i])
			}
		case map[string]any:
			for k := range v {
				v[k] = mend(v[k])
			}
		}
		return x
	}
	return json.Marshal(mend(x))
}
