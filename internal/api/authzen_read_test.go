package api

import (
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"reflect"
	"strings"
	"testing"
)

// TestMembersRead: members of a batch are read as encoding/json reads them, usual ones and all others, each in the same room, and those
// that it refuses are refused.
func TestMembersRead(t *testing.T) {
	r := rand.New(rand.NewPCG(22, 2))
	one := func(list ...string) string { return list[r.IntN(len(list))] }
	rare := func(usual string, others ...string) string {
		if r.IntN(8) > 0 {
			return usual
		}
		return one(others...)
	}
	text := func() string {
		return rare(one(`"party"`, `"ada@ilvane.example"`, `"files.open"`, `""`), `"a\"b"`, `"Zo\u00eb"`, `"Zoë"`, `"\ud800"`, "\"\xff\"", `null`, `7`,
			`true`, `["a"]`, `{}`, "\"line\nbreak\"")
	}
	space := func() string { return rare("", " ", "\n\t", ",", "x") }
	entity := func(names ...string) string {
		var list []string
		for range r.IntN(4) {
			list = append(list, space()+rare(`"`+one(names...)+`"`, `"Type"`, `"ID"`, `"id"`, `"properties"`, `"more"`, `"ty\u0070e"`)+space()+":"+space()+
				text()+space())
		}
		return rare("{"+strings.Join(list, ",")+"}", "null", `"x"`, "[]", "{", "3")
	}
	usual := 0
	room := &azRoom{}
	for range 60_000 {
		var list []string
		for range 1 + r.IntN(4) {
			name := one("subject", "action", "resource", "context")
			value := entity("type", "id")
			switch name {
			case "action":
				value = entity("name")
			case "context":
				value = rare(`{"at":"2026-11-02T00:00:00Z","enforces":["no_download"],"n":3}`, "null", "{}", `{"a":1,"a":2}`, "[]", `"x"`)
			}
			list = append(list, space()+`"`+rare(name, "Subject", "ACTION", "other", `resourc\u0065`)+`"`+space()+":"+space()+value)
		}
		member := rare("{"+strings.Join(list, ",")+"}", "null", "[]", "{", `"x"`, "", "{}{}", "{} x", "3")
		var got, want azRequest
		gotErr, wantErr := room.read([]byte(member), &got), json.Unmarshal([]byte(member), &want)
		if (gotErr == nil) != (wantErr == nil) {
			t.Fatalf("%q: %v, and encoding/json says %v", member, gotErr, wantErr)
		}
		if gotErr == nil && !reflect.DeepEqual(got, want) {
			t.Fatalf("%q is read as %s, and by encoding/json as %s", member, show(got), show(want))
		}
		if room.usual([]byte(member), &got) {
			usual++
		}
	}
	if usual < 5_000 {
		t.Errorf("%d of 60000 are usual: too few to say anything of them", usual)
	}
}

func show(q azRequest) string {
	text, err := json.Marshal(q)
	return fmt.Sprint(string(text), err)
}
