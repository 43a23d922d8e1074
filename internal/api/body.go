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
	"strconv"
	"strings"

	"github.com/getkin/kin-openapi/openapi3"
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
	reason = oneLine(e.Reason)
	if field != "" {
		reason = field + ": " + reason
	}
	return
}

func statusText(status int) string { return strconv.Itoa(status) }

// decode reads one JSON value strictly: valid UTF-8, nothing behind it.
func decode(r *http.Request, into any) error {
	if ct := r.Header.Get("Content-Type"); ct != "" {
		if media, _, _ := strings.Cut(ct, ";"); strings.TrimSpace(strings.ToLower(media)) != "application/json" {
			return errMedia
		}
	}
	b, err := io.ReadAll(r.Body)
	if err != nil {
		return err
	}
	d := json.NewDecoder(bytes.NewReader(b))
	if err := d.Decode(into); err != nil {
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
