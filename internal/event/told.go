package event

import (
	"encoding/json"
	"fmt"
	"time"

	"wexillum.example/internal/core/addr"
)

// Refusal is why a token is not taken, in the words of RFC 8935 §2.4.
type Refusal struct {
	Err         string `json:"err"`
	Description string `json:"description"`
}

func (r *Refusal) Error() string { return r.Description }

// Reasons of RFC 8935 §2.4.
const (
	InvalidRequest  = "invalid_request"
	InvalidKey      = "invalid_key"
	InvalidIssuer   = "invalid_issuer"
	InvalidAudience = "invalid_audience"
	AccessDenied    = "access_denied"
)

// Kinds of events about accounts elsewhere.
const (
	Disabled          = "disabled"
	Enabled           = "enabled"
	Purged            = "purged"
	IdentifierChanged = "identifier_changed"
	SessionRevoked    = "session_revoked"
	Verifies          = "verification"
	Other             = "other"
)

// told are the types of events that are understood: those of the OpenID profiles for risk and for continuous access.
var told = map[string]string{
	"https://schemas.openid.net/secevent/risc/event-type/account-disabled":   Disabled,
	"https://schemas.openid.net/secevent/risc/event-type/account-enabled":    Enabled,
	"https://schemas.openid.net/secevent/risc/event-type/account-purged":     Purged,
	"https://schemas.openid.net/secevent/risc/event-type/identifier-changed": IdentifierChanged,
	"https://schemas.openid.net/secevent/risc/event-type/sessions-revoked":   SessionRevoked,
	"https://schemas.openid.net/secevent/caep/event-type/session-revoked":    SessionRevoked,
	"https://schemas.openid.net/secevent/sse/event-type/verification":        Verifies,
	"https://schemas.openid.net/secevent/ssf/event-type/verification":        Verifies,
}

// Told is what a token of a partner says.
type Told struct {
	Issuer, ID string
	Audience   []string
	Issued     time.Time
	Happened   time.Time // when it did there; as Issued where it is not said
	Kind       string
	Type       string
	Address    addr.Address // whom it is about; zero where it is about nobody by mail address
	New        string       // with an identifier that changed: what it is now
}

// many reads what stands alone or as a list (RFC 7519 §4.1.3).
type many []string

func (m *many) UnmarshalJSON(b []byte) error {
	var one string
	if json.Unmarshal(b, &one) == nil {
		*m = many{one}
		return nil
	}
	return json.Unmarshal(b, (*[]string)(m))
}

// subject is a subject identifier (RFC 9493), as the token or the event has it.
type subject struct {
	Format string `json:"format"`
	Type   string `json:"subject_type"` // as earlier profiles call it
	Email  string `json:"email"`
}

// ReadTold reads the claims of a token (RFC 8417 §2.2). An error is a *Refusal.
func ReadTold(payload []byte) (*Told, error) {
	bad := func(format string, args ...any) error {
		return &Refusal{InvalidRequest, fmt.Sprintf(format, args...)}
	}
	var c struct {
		Issuer   string                     `json:"iss"`
		Audience many                       `json:"aud"`
		Issued   *int64                     `json:"iat"`
		ID       string                     `json:"jti"`
		Happened *int64                     `json:"toe"`
		Subject  *subject                   `json:"sub_id"`
		Events   map[string]json.RawMessage `json:"events"`
	}
	if err := json.Unmarshal(payload, &c); err != nil {
		return nil, bad("the claims cannot be read: %v", err)
	}
	switch {
	case c.Issuer == "":
		return nil, &Refusal{InvalidIssuer, "iss is missing"}
	case c.ID == "" || len(c.ID) > 1000:
		return nil, bad("jti is missing, or longer than 1000 letters")
	case c.Issued == nil:
		return nil, bad("iat is missing")
	case len(c.Events) != 1:
		return nil, bad("events holds one event, not %d", len(c.Events))
	}
	t := &Told{Issuer: c.Issuer, ID: c.ID, Audience: c.Audience, Issued: time.Unix(*c.Issued, 0), Happened: time.Unix(*c.Issued, 0),
		Kind: Other}
	if c.Happened != nil {
		t.Happened = time.Unix(*c.Happened, 0)
	}
	for name, raw := range c.Events {
		t.Type = name
		if k, ok := told[name]; ok {
			t.Kind = k
		}
		var e struct {
			Subject *subject `json:"subject"`
			At      *int64   `json:"event_timestamp"`
			New     string   `json:"new-value"`
		}
		if err := json.Unmarshal(raw, &e); err != nil {
			return nil, bad("the event %s cannot be read: %v", name, err)
		}
		if e.At != nil && c.Happened == nil {
			t.Happened = time.Unix(*e.At, 0)
		}
		t.New = e.New
		s := c.Subject
		if s == nil {
			s = e.Subject
		}
		if s != nil && s.Email != "" {
			a, err := addr.Parse(s.Email)
			if err != nil || a.IsNewcomer() {
				return nil, bad("the subject %q is no mail address", s.Email)
			}
			t.Address = a
		}
	}
	if t.Address.IsZero() && t.Kind != Verifies && t.Kind != Other {
		return nil, bad("the subject is said by its mail address (RFC 9493 §3.2.2)")
	}
	return t, nil
}
