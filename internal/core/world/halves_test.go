package world_test

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// TestHalves: each pair of halves, and an admission that is too old.
func TestHalves(t *testing.T) {
	w := parse(t, `
wexillum: 1
organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}
rules: {chat.federation: {default: listed}, files.domains: {default: listed}, spaces.join_in: {default: listed}}
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
		for _, h := range world.Halves(&w.Partners[0], engine.Of(w).Side("p", at), at, days, zone) {
			if h.Said() && (h.Joint != world.Shut || h.Old) {
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
		{"2026-11-23T09:00:00Z", 180,
			"spaces.in unconfirmed (old), spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2026-10-28T23:59:59Z", 180,
			"spaces.in open, spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2026-10-29T00:00:00Z", 180,
			"spaces.in unconfirmed (old), spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
		{"2036-11-23T09:00:00Z", catalogue.NoLimit,
			"spaces.in open, spaces.out our_turn, chat.in open, chat.out their_turn, files.in unconfirmed, mail.in our_turn"},
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

// TestOurSide: what the policy makes of an opening, and the parts that both sides
// allow.
func TestOurSide(t *testing.T) {
	const head = "wexillum: 1\norganisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}\n"
	for _, c := range []struct{ rules, partner, key, want string }{
		{"{chat.federation: {default: listed}}", "opened: {chat.in: yes}", "chat.in",
			"open listed by_name [messages voice presence] unconfirmed []"},
		{"{chat.federation: {default: listed}}", "", "chat.in", "shut listed not_listed [messages voice presence] shut []"},
		{"{chat.federation: {default: listed}}", "stance: {chat.in: {says: admits}}", "chat.in",
			"shut listed not_listed [messages voice presence] our_turn []"},
		{"{chat.federation: {default: closed}}", "opened: {chat.in: yes}, stance: {chat.in: {says: admits}}", "chat.in",
			"shut closed by_level [messages voice presence] our_turn []"},
		{"{chat.federation: {default: any}}", "stance: {chat.in: {says: admits}}", "chat.in",
			"open any by_level [messages voice presence] open [messages voice presence]"},
		{"{chat.federation: {default: any}}", "opened: {chat.in: no}, stance: {chat.in: {says: admits}}", "chat.in",
			"shut any by_name [messages voice presence] our_turn []"},
		{"{chat.federation: {default: any}}", "standing: suspended, opened: {chat.in: yes}, stance: {chat.in: {says: admits}}", "chat.in",
			"shut any by_standing [messages voice presence] shut []"},
		{"{chat.federation: {default: listed}, chat.calls: {default: off}}",
			"opened: {chat.out: yes}, stance: {chat.out: {says: admits, features: [voice, presence]}}", "chat.out",
			"open listed by_name [messages presence] open [presence]"},
		{"{chat.federation: {default: closed}}", "opened: {chat.out: yes}, rules: {chat.presence: hidden}, stance: {chat.out: {says: refuses}}",
			"chat.out", "shut closed by_level [messages voice] shut []"},
		{"{spaces.connect: {default: closed}, spaces.join_in: {default: listed}, directory.invite_domains: {default: closed}}",
			"opened: {spaces.in: yes}", "spaces.in", "open listed by_name [] unconfirmed []"},
		{"{chat.federation: {default: any}}", "stance: {chat.in: {says: refuses}}", "chat.in",
			"open any by_level [messages voice presence] shut []"},
		{"{}", "stance: {mail.in: {says: admits}}", "mail.in", "shut listed not_listed [] our_turn []"},
		{"{}", "opened: {mail.in: yes}, stance: {mail.in: {says: admits, until: 2026-11-22}}", "mail.in",
			"open listed by_name [] unconfirmed []"},
		{"{}", "opened: {mail.in: yes}, stance: {mail.in: {says: admits, until: 2026-11-23}}", "mail.in", "open listed by_name [] open []"},
		{"{}", "opened: {mail.in: yes}, stance: {mail.in: {says: refuses, until: 2026-11-01}}", "mail.in",
			"open listed by_name [] their_turn []"},
	} {
		more := ""
		if c.partner != "" {
			more = ", " + c.partner
		}
		w := parse(t, head+"rules: "+c.rules+"\npartners: [{id: p, name: P, domains: [p.example]"+more+"}]\n")
		for _, h := range engine.Of(w).Halves(&w.Partners[0], now) {
			if h.Key.String() != c.key {
				continue
			}
			got := fmt.Sprint(map[bool]string{true: "open ", false: "shut "}[h.Ours.Opens], world.LevelNames[h.Ours.Level], " ",
				world.BecauseNames[h.Ours.Because], " ", h.Ours.Features, " ", world.JointNames[h.Joint], " ", h.Features)
			if got != c.want {
				t.Errorf("%s, %s: %s\nwant %s", c.rules, c.partner, got, c.want)
			}
		}
	}
}
