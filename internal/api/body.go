package api

import (
	"bytes"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"reflect"
	"regexp"
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
	jsonv1 "github.com/go-json-experiment/json/v1"
)

// bodySum reads a body, puts it back and returns its hash.
func bodySum(r *http.Request) (string, error) {
	b, err := io.ReadAll(r.Body)
	if err != nil {
		return "", err
	}
	r.Body = io.NopCloser(bytes.NewReader(b))
	sum := sha256.Sum256(b)
	return hex.EncodeToString(sum[:]), nil
}

// schemaError takes field, value and reason from what the contract's check found.
func schemaError(err error) (field, value, reason string) {
	var many openapi3.MultiError
	if errors.As(err, &many) && len(many) > 0 {
		return schemaError(many[0])
	}
	var e *openapi3.SchemaError
	if !errors.As(err, &e) {
		if err != nil {
			return "", "", oneLine(err.Error())
		}
		return
	}
	field = strings.Join(e.JSONPointer(), ".")
	if e.Value != nil {
		if b, err := json.Marshal(e.Value); err == nil && len(b) <= 200 {
			value = string(b)
		}
	}
	reason = plainReason(oneLine(e.Reason))
	if e.Schema != nil && len(e.Schema.Enum) > 0 && notAWord.MatchString(reason) { // the words are told alike wherever they stand
		words := make([]string, len(e.Schema.Enum))
		for i, w := range e.Schema.Enum {
			words[i] = fmt.Sprintf("'%v'", w)
		}
		reason = "value must be one of " + strings.Join(words, ", ")
	}
	if field != "" {
		reason = field + ": " + reason
	}
	return
}

var (
	whereAgain = regexp.MustCompile(`^(error at "[^"]*": )?(at '[^']*': )?`)
	overMost   = regexp.MustCompile(`^maximum: got ([\d.,]+), want ([\d.,]+)$`)
	notAWord   = regexp.MustCompile(`^value is not one of`)
	underLeast = regexp.MustCompile(`^minimum: got ([\d.,-]+), want ([\d.,-]+)$`)
)

// plainReason says in plain words what the check of the contract found: without where it is, which is said by the field.
func plainReason(s string) string {
	s = whereAgain.ReplaceAllString(s, "")
	if m := overMost.FindStringSubmatch(s); m != nil {
		return "it is at most " + m[2]
	}
	if m := underLeast.FindStringSubmatch(s); m != nil {
		return "it is at least " + m[2]
	}
	return s
}

// jsonWords says what a JSON value is in the words of JSON.
func jsonWords(t reflect.Type) string {
	for t.Kind() == reflect.Pointer {
		t = t.Elem()
	}
	switch t.Kind() {
	case reflect.Struct, reflect.Map:
		return "an object"
	case reflect.Slice, reflect.Array:
		return "a list"
	case reflect.String:
		return "a text"
	case reflect.Bool:
		return "true or false"
	}
	return "a number"
}

func statusText(status int) string { return strconv.Itoa(status) }

// decode reads one JSON value strictly: valid UTF-8, nothing behind it.
func decode(r *http.Request, into any) error {
	if ct := r.Header.Get("Content-Type"); ct != "" {
		if media, _, _ := strings.Cut(ct, ";"); strings.TrimSpace(strings.ToLower(media)) != "application/json" {
			return errMedia
		}
	}
	body := bytes.NewBuffer(make([]byte, 0, 512+min(max(0, r.ContentLength), 1<<20))) // what is said of its length may be wrong
	if _, err := body.ReadFrom(r.Body); err != nil {
		return err
	}
	b := body.Bytes()
	if jsonv1.Unmarshal(b, into) == nil { // as encoding/json, in half of the time
		return nil
	}
	reflect.ValueOf(into).Elem().SetZero() // what is wrong is told as encoding/json finds it
	d := json.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(into); err != nil {
		if other := (*json.UnmarshalTypeError)(nil); errors.As(err, &other) {
			where := "the body"
			if other.Field != "" {
				where = other.Field
			}
			return fmt.Errorf("%w: %s is to be %s, and is %s", errJSON, where, jsonWords(other.Type),
				map[string]string{"number": "a number", "string": "a text", "array": "a list", "object": "an object",
					"bool": "true or false"}[strings.Fields(other.Value + " ")[0]])
		}
		return fmt.Errorf("%w: %s", errJSON, err)
	}
	if _, err := d.Token(); err != io.EOF {
		return fmt.Errorf("%w: something stands behind the value", errJSON)
	}
	return nil
}

var (
	errJSON  = errors.New("the body is not the JSON that is expected")
	errMedia = errors.New("send application/json")
)
