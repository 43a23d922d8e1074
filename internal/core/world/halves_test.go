package world_test

import (
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// TestHalves: each pair of halves, and an admission that is too old.
func TestHalves(t *testing.T) {
	w := parse(t, `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
partners:
  - id: p
    name: P
    domains: [p.example]
    opened: {chat.in: yes, chat.out: yes, spaces.in: yes, spaces.out: no, files.in: yes}
    stance:
      chat.in: {says: admits, as_of: 2026-11-01}
      chat.out: {says: refuses, as_of: 2020-01-01}
      spaces.in: {says: admits, as_of: 2026-05-01}
      spaces.out: {says: admits}
      mail.in: {says: admits, as_of: 2026-11-01}
      meetings.in: {says: refuses}
`)
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	say := func(at moment.Moment, days catalogue.Value) string {
		var out []string
		for _, h := range world.Halves(&w.Partners[0], at, days, zone) {
			if h.Joint != world.Shut || h.Old {
				text := h.Key.String() + " " + world.JointNames[h.Joint]
				if h.Old {
					text += " (old)"
				}
				out = append(out, text)
			}
		}
		return strings.Join(out, ", ")
	}
	for _, c := range []struct {
		at   string
		days catalogue.Value
		want string
	}{
		{"2026-11-23T09:00:00Z", 180, "spaces.in unconfirmed (old), spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2026-10-28T23:59:59Z", 180, "spaces.in open, spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2026-10-29T00:00:00Z", 180, "spaces.in unconfirmed (old), spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2036-11-23T09:00:00Z", catalogue.NoLimit, "spaces.in open, spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
	} {
		m, err := moment.Parse(c.at)
		if err != nil {
			t.Fatal(err)
		}
		if got := say(m, c.days); got != c.want {
			t.Errorf("%s, %v days: %s\nwant %s", c.at, c.days, got, c.want)
		}
	}
}
