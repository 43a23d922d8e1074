package scim

import "fmt"

// Error is a refusal in the words of the protocol (RFC 7644 §3.12).
type Error struct {
	Status int
	Type   string // scimType; empty where the status says enough
	Detail string
}

func (e *Error) Error() string { return e.Detail }

// Types of errors (RFC 7644 §3.12, table 9).
const (
	InvalidFilter = "invalidFilter"
	TooMany       = "tooMany"
	Uniqueness    = "uniqueness"
	Mutability    = "mutability"
	InvalidSyntax = "invalidSyntax"
	InvalidPath   = "invalidPath"
	NoTarget      = "noTarget"
	InvalidValue  = "invalidValue"
	InvalidVers   = "invalidVers"
	Sensitive     = "sensitive"
)

func bad(kind, format string, args ...any) *Error {
	return &Error{400, kind, fmt.Sprintf(format, args...)}
}
