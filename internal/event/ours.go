package event

import (
	"encoding/json"
	"strconv"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/store"
)

// types are those as which we tell partners of our people.
var types = map[string]string{
	Disabled:          "https://schemas.openid.net/secevent/risc/event-type/account-disabled",
	Enabled:           "https://schemas.openid.net/secevent/risc/event-type/account-enabled",
	Purged:            "https://schemas.openid.net/secevent/risc/event-type/account-purged",
	IdentifierChanged: "https://schemas.openid.net/secevent/risc/event-type/identifier-changed",
	SessionRevoked:    "https://schemas.openid.net/secevent/risc/event-type/sessions-revoked",
}

// Ours is what happened to the account of somebody of ours, as partners hear of it.
type Ours struct {
	ID       string // it is told again under the same one, and counts once
	Person   string
	Kind     string // of Disabled, Enabled, Purged, IdentifierChanged and SessionRevoked
	Address  string // theirs; before it changed, where that is what happened
	New      string // the address since
	Happened time.Time
}

// ourPerson is what of a person of ours counts.
type ourPerson struct {
	Address string `json:"address"`
	Left    string `json:"left"`
}

// LeftID is that of an event of somebody who leaves at a moment, whatever tells of it.
func LeftID(person string, left moment.Moment) string {
	return "left " + person + " " + strconv.FormatInt(int64(left), 10)
}

// OfOurs returns what a journal entry means for whoever keeps an account for the person that it is about; false where it means nothing.
// When somebody has left is read by read, as it is written in records.
func OfOurs(e *store.Entry, read func(left string) moment.Moment) (x Ours, ok bool) {
	if e.Kind != "person" || e.Was == nil {
		return x, false
	}
	var was, now ourPerson
	if json.Unmarshal(e.Was, &was) != nil || e.Now != nil && json.Unmarshal(e.Now, &now) != nil || was.Address == "" {
		return x, false // its words are forgotten, or they never had an address
	}
	at := moment.Of(e.At)
	gone := func(p ourPerson) (moment.Moment, bool) {
		left := read(p.Left)
		return left, p.Left != "" && left != 0 && left <= at
	}
	_, before := gone(was)
	left, after := gone(now)
	x = Ours{ID: "entry " + strconv.FormatUint(e.Seq, 10), Person: e.ID, Address: was.Address, Happened: e.At.UTC()}
	switch {
	case e.Now == nil:
		x.Kind = Purged
	case !before && after:
		x.Kind, x.ID = Disabled, LeftID(e.ID, left)
	case before && !after:
		x.Kind = Enabled
	case now.Address != was.Address && now.Address != "":
		x.Kind, x.New = IdentifierChanged, now.Address
	default:
		return x, false
	}
	return x, true
}

// As writes the event as a token for one receiver.
func (x *Ours) As(issuer, audience string, now time.Time) Token {
	more := map[string]any{}
	if x.New != "" {
		more["new-value"] = x.New
	}
	return Token{
		Issuer: issuer, Issued: now.Unix(), ID: audience + "#" + x.ID, Audience: audience, Happened: x.Happened.Unix(),
		Subject: map[string]any{"format": "email", "email": x.Address}, // RFC 9493 §3.2.2
		Events:  map[string]any{types[x.Kind]: more},
	}
}
