// Package event says of entries of the journal what somebody outside this service wants to hear of, and
// writes it as a Security Event Token (RFC 8417).
package event

import (
	"encoding/json"
	"slices"
	"time"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/store"
)

// Topic is what events are about.
type Topic string

// Topics of events.
const (
	Guest       Topic = "guest"       // a guest's record, what they were given, and what dates carried out
	Revision    Topic = "revision"    // policy was published
	Finding     Topic = "finding"     // a finding came or went, was accepted, or is open again
	Drift       Topic = "drift"       // a system was changed behind our back, or is as it is meant again
	Expectation Topic = "expectation" // what is expected of access is broken, or is so again
	Request     Topic = "request"     // somebody asked for something, or was answered
)

// Topics lists them in the order in which they are shown, and the kinds of journal entry that each is
// made of. A revision is made of whatever kind of policy changed.
var Topics = []struct {
	Name  Topic
	Says  string
	kinds []string
}{
	{Guest, "guests: invited, changed, given something, suspended, removed", []string{"guest", "grant", "invitation", "step", "wish"}},
	{Revision, "policy: a revision was published", nil},
	{Finding, "findings: come or gone, accepted, or open again", []string{"acceptance", Noticed}},
	{Drift, "systems: changed behind our back, or as meant again", []string{"system_setting", "system_record"}},
	{Expectation, "expectations: broken, or so again", []string{Judgement}},
	{Request, "requests: made, answered, done", []string{"request"}},
}

// Names lists the topics.
func Names() (out []string) {
	for _, t := range Topics {
		out = append(out, string(t.Name))
	}
	return out
}

// What happened to the thing that an event is about.
const (
	Added   = "added"
	Changed = "changed"
	Removed = "removed"
)

// Event is what happened, as others hear of it. It says where to look, and not what stands there: that
// is read with a token of the reader's own.
type Event struct {
	ID       uint64    `json:"id"` // of the journal entry
	Topic    Topic     `json:"topic"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind"`            // of thing, as the journal calls it
	Of       string    `json:"of"`              // what that is known by
	What     string    `json:"what"`            // added, changed or removed
	Change   uint64    `json:"change"`          // the journal entry that the whole change begins with
	By       string    `json:"by"`              // who did it
	Why      string    `json:"why,omitempty"`   // as it was given
	Revision uint64    `json:"revision"`        // of policy afterwards
	Party    string    `json:"party,omitempty"` // the address of whoever outside it is about
}

// Of returns the event that a journal entry is; false where it is none that anybody wants to hear of. published
// says that it is the first entry of a change that published a revision.
func Of(e *store.Entry, published bool) (Event, bool) {
	x := Event{ID: e.Seq, At: e.At.UTC(), Kind: e.Kind, Of: e.ID, What: Changed, Change: e.PartOf, By: e.Who, Why: e.Why, Revision: e.Revision}
	if x.Change == 0 {
		x.Change = e.Seq
	}
	switch {
	case e.Was == nil:
		x.What = Added
	case e.Now == nil:
		x.What = Removed
	}
	if published {
		x.Topic, x.Kind, x.What = Revision, "revision", Added
		x.Of = jsonInt(e.Revision)
		return x, true
	}
	for _, t := range Topics {
		if slices.Contains(t.kinds, e.Kind) {
			x.Topic = t.Name
		}
	}
	switch x.Topic {
	case "":
		return x, false
	case Drift:
		was, now := drifts(e.Was), drifts(e.Now)
		if was == now { // how the carrying goes is no drift
			return x, false
		}
		if x.What = Removed; now {
			x.What = Added
		}
	case Expectation:
		was, now := stands(e.Was), stands(e.Now)
		if was == now || was == "" && now != "broken" {
			return x, false
		}
		if x.What = Removed; now == "broken" { // of what breaks it
			x.What = Added
		}
	case Guest:
		x.Party = partyOf(e.ID)
	}
	return x, true
}

func jsonInt(n uint64) string { b, _ := json.Marshal(n); return string(b) }

// Noticed is what the journal calls a finding that came or went.
const Noticed = "noticed"

// Judgement is what the journal calls what is kept of an expectation.
const Judgement = "judgement"

// stands says how a doc says that an expectation stands: held, broken or unknown, and whether a day to come breaks it.
func stands(doc []byte) string {
	var x struct{ State string }
	if doc == nil || json.Unmarshal(doc, &x) != nil {
		return ""
	}
	return x.State
}

// drifts reports whether a doc of a setting or record says that it was changed in the system.
func drifts(doc []byte) bool {
	var x struct {
		Drift json.RawMessage `json:"drift"`
	}
	return doc != nil && json.Unmarshal(doc, &x) == nil && len(x.Drift) > 0 && string(x.Drift) != "null"
}

// partyOf finds the address that an id begins with: guests are known by theirs, and what they were given
// by that and more.
func partyOf(id string) string {
	for i := 0; i <= len(id); i++ {
		if i == len(id) || id[i] == ' ' {
			if a, err := addr.Parse(id[:i]); err == nil {
				return a.String()
			}
			return ""
		}
	}
	return ""
}

// TypeURI is where the types of events begin.
const TypeURI = "https://wexillum.example/events/"

// Verification is the type of event that is sent to try a receiver out (OpenID Shared Signals Framework 1.0 §8.1.4.1).
const Verification = "https://schemas.openid.net/secevent/ssf/event-type/verification"

// Token is what a Security Event Token claims (RFC 8417 §2.2), with the subject beside the events (RFC 9493 §4).
type Token struct {
	Issuer   string         `json:"iss"`
	Issued   int64          `json:"iat"` // seconds since 1970
	ID       string         `json:"jti"` // the same whenever the same event is sent
	Audience string         `json:"aud"`
	Happened int64          `json:"toe,omitempty"`
	Subject  map[string]any `json:"sub_id,omitempty"`
	Events   map[string]any `json:"events"`
}

// Type is that of the header of a token (RFC 8417 §2.3).
const Type = "secevent+jwt"

// As writes the event as a token for one receiver.
func (x *Event) As(issuer, audience string, now time.Time) Token {
	t := Token{
		Issuer: issuer, Issued: now.Unix(), ID: audience + "#" + jsonInt(x.ID), Audience: audience, Happened: x.At.Unix(),
		Events: map[string]any{TypeURI + string(x.Topic): x},
	}
	if x.Party != "" {
		t.Subject = map[string]any{"format": "email", "email": x.Party} // RFC 9493 §3.2.2
	} else {
		t.Subject = map[string]any{"format": "opaque", "id": x.Kind + ":" + x.Of} // RFC 9493 §3.2.7
	}
	return t
}
