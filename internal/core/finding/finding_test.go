package finding_test

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
	"wexillum.example/internal/worldgen"
)

var now = func() moment.Moment { m, _ := moment.Parse("2026-11-23T09:00:00Z"); return m }()

type known struct {
	*engine.Snapshot
	w *world.World
}

func (k known) Policy() *world.World { return k.w }

func over(t *testing.T, w *world.World, text string) *world.World {
	t.Helper()
	var k worldfile.Known
	if w.Organisation != nil {
		k = known{engine.Of(w), w}
	}
	part, err := worldfile.Read([]byte("{wexillum: 1, "+strings.TrimPrefix(text, "{")), worldfile.Options{Now: now, Known: k, Older: true})
	if err != nil {
		t.Fatal(err)
	}
	return world.Merge(w, part)
}

// quiet is a world in which nothing is to be noticed but limits.
const quiet = `{dates_from: [{for: organisation, from: 2028-01-01}], organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon},
rules: {directory.guests: {default: on}, spaces.guests: {default: off}, chat.federation: {default: listed}, files.domains: {default: listed}},
personal_domains: [homepost.example],
partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], contact: it@ilvane.example, owner: uma, opened: {directory.in: yes, chat.in: yes, files.in: yes}, stance: {directory.in: {says: admits}, chat.in: {says: admits}, files.in: {says: admits}}}],
people: [{id: uma, name: Uma, address: uma@ours.example, groups: [desk]}, {id: lars, name: Lars, address: lars@ours.example}],
groups: [{id: desk, name: Desk}],
spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.guests: on}, items: [{id: plans, kind: folder, name: Plans}, {id: secret, kind: folder, name: Secret, private: yes}, {id: kit, kind: file, name: Kit}]},
  {id: figures, name: Figures, kind: report_area, owners: [uma], items: [{id: visits, kind: report, name: Visits}]}],
guests: [{address: maren@ilvane.example, name: Maren, sponsor: uma, purpose: loans, since: 2026-06-01, accepted: 2026-06-01, last_seen: 2026-11-01}],
grants: [{party: maren@ilvane.example, resource: space:dossier, role: view, from: 2026-06-01}]}`

func found(w *world.World) map[string]finding.Finding {
	out := map[string]finding.Finding{}
	for _, f := range finding.Find(w, engine.Of(w), now) {
		if f.Kind != "limit_loose" && (f.Kind != "guest_unused" || f.About[0] == "nils@ilvane.example") { // the others never came, either
			out[f.ID] = f
		}
	}
	return out
}

// TestEach brings every kind about, alone, and mends it again.
func TestEach(t *testing.T) {
	base := over(t, &world.World{}, quiet)
	if got := found(base); len(got) != 0 {
		t.Fatalf("the quiet world is not quiet: %v", got)
	}
	guest := func(more string) string {
		return "guests: [{address: nils@ilvane.example, name: Nils, since: 2026-06-01, accepted: 2026-06-01, last_seen: 2026-11-01, " + more +
			"}]"
	}
	given := "grants: [{party: nils@ilvane.example, resource: space:dossier, role: view, from: 2026-06-01}]"
	cases := []struct{ wrong, id, cause, mended string }{
		{"links: [{id: kit, item: file:kit, for: bearer, right: view, until: 2027-01-01}]", "link_without_created link:kit",
			"The link kit to file:kit does not say when it was made.",
			"links: [{id: kit, item: file:kit, for: bearer, right: view, created: 2026-11-20, until: 2026-12-01}]"},
		{`exceptions: [{id: odd, people: [uma], parties: ["*@ilvane.example", maren@ilvane.example], rules: {chat.federation: any}, from: 2026-11-01, until: 2027-01-01, reason: x}]`,
			"kept_for_nobody exception:odd *@ilvane.example", "The exception odd is towards *@ilvane.example.",
			"exceptions: [{id: odd, people: [uma], parties: [maren@ilvane.example], rules: {chat.federation: any}, from: 2026-11-01, until: 2027-01-01, reason: x}]"},
		{"settings: {sightings: none}", "sightings_untold guests.idle_days",
			"Guests who have not come for 90 days are to be suspended, and nobody tells when they come.", "settings: {sightings: told}"},
		{guest("purpose: x") + ", " + given, "guest_without_sponsor nils@ilvane.example", "nils@ilvane.example has no sponsor.",
			guest("purpose: x, sponsor: lars")},
		{guest("sponsor: uma") + ", " + given, "guest_without_purpose nils@ilvane.example", "The record of nils@ilvane.example says no purpose.",
			guest("purpose: x, sponsor: uma")},
		{guest("sponsor: uma, purpose: x"), "guest_without_grant nils@ilvane.example",
			"nils@ilvane.example holds no grant and no link that works or will work.", given},
		{guest("sponsor: uma, purpose: x, until: 2027-01-01") + ", rules: {guests.term_days: {default: none}}, " + given,
			"guest_without_end maren@ilvane.example", "The record of maren@ilvane.example has no end, and no term of a record ends it.",
			"rules: {guests.term_days: {default: 365}}"},
		{strings.Replace(guest("sponsor: uma, purpose: x"), "last_seen: 2026-11-01, ", "", 1) + ", rules: {guests.idle_days: {default: none}}, " +
			given, "guest_unused nils@ilvane.example", "nils@ilvane.example has access and was never seen.", "settings: {sightings: none}"},
		{strings.Replace(guest("sponsor: uma, purpose: x"), "last_seen: 2026-11-01", "last_seen: 2026-08-01", 1) +
			", rules: {guests.idle_days: {default: none}}, " + given, "guest_unused nils@ilvane.example",
			"nils@ilvane.example has access and was last seen on 2026-08-01.", guest("sponsor: uma, purpose: x")},
		{guest("sponsor: uma, purpose: x, licence: ours") + ", " + given, "location_missing nils@ilvane.example",
			"nils@ilvane.example has a licence of ours, which counts only with a location, and none is recorded.",
			guest("sponsor: uma, purpose: x, licence: ours, location: PT")},
		{"guests: [{address: maren@homepost.example, name: \" maren\", sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}], grants: [{party: maren@homepost.example, resource: space:dossier, role: view, from: 2026-06-01}]",
			"same_person maren@homepost.example maren@ilvane.example", "maren@homepost.example and maren@ilvane.example are both called maren.",
			"guests: [{address: maren@homepost.example, name: Maren's sister, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}]"},
		{"guests: [{address: ida@old.example, name: Ida, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}], grants: [{party: ida@old.example, resource: space:dossier, role: view, from: 2026-06-01}]}|{organisation: {name: Small, domains: [ours.example, old.example], time_zone: Europe/Lisbon}",
			"own_person_is_guest ida@old.example", "ida@old.example is at a domain of ours and holds a record as a guest.",
			"organisation: {name: Small, domains: [ours.example], time_zone: Europe/Lisbon}"},
		{"guests: [{address: pia@homepost.example, name: Pia, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}], rules: {directory.personal: {default: on}}, grants: [{party: pia@homepost.example, resource: folder:secret, role: view, from: 2026-06-01}]",
			"private_reaches_private folder:secret", "pia@homepost.example is a private address, and reaches Secret, which is private.",
			"rules: {directory.personal: {default: off}}"},
		{"grants: [{party: maren@ilvane.example, resource: report:visits, role: view, from: 2026-06-01}]",
			"report_without_licence maren@ilvane.example report:visits",
			"maren@ilvane.example was given report:visits, and no licence route counts there.",
			"guests: [{address: maren@ilvane.example, name: Maren, sponsor: uma, purpose: loans, since: 2026-06-01, accepted: 2026-06-01, licence: theirs}]"},
		{"forwarders: [{mailbox: uma, to: uma@homepost.example, keep_copy: yes, set_by: person}]",
			"forwarder_not_allowed mailbox:uma uma@homepost.example",
			"Forwarding from uma to uma@homepost.example is set and refused at domain and rule: senders will get a bounce.",
			"rules: {mail.forward: {default: any}, mail.forward_set_by: {default: staff}}"},
		{"forwarders: [{mailbox: uma, to: uma@homepost.example, keep_copy: yes, set_by: administrator}], rules: {mail.forward: {default: any}}",
			"forwarder_leaves mailbox:uma uma@homepost.example", "What comes for uma is sent on to uma@homepost.example.",
			"rules: {mail.forward: {default: closed}}"},
		{"links: [{id: l, item: file:kit, for: bearer, right: view, created: 2026-11-20}], rules: {files.bearer_links: {default: on}, files.link_days: {limit: none, default: none}}",
			"link_without_end link:l", "The link l opens file:kit for whoever holds it, without an end.", "rules: {files.link_days: {default: 14}}"},
		{"links: [{id: l, item: file:kit, for: [maren@ilvane.example], right: view, created: 2026-11-20}]", "link_without_end link:l",
			"The link l to file:kit, for maren@ilvane.example, has no end.",
			"links: [{id: l, item: file:kit, for: [maren@ilvane.example], right: view, created: 2026-11-20, until: 2027-01-01}]"},
		{"links: [{id: l, item: file:kit, for: bearer, right: view, created: 2026-11-20}]", "dead_link link:l",
			"The link l to file:kit does not work: “Links for whoever holds them” is set to off; this needs on.",
			"rules: {files.bearer_links: {default: on}}"},
		{"links: [{id: l, item: file:kit, for: [maren@ilvane.example], right: view, created: 2026-10-20, until: 2026-11-01}]", "dead_link link:l",
			"The link l to file:kit ended with 2026-11-01.",
			"links: [{id: l, item: file:kit, for: [maren@ilvane.example], right: view, created: 2026-10-20, until: 2026-12-01}]"},
		{"exceptions: [{id: a, people: [uma], rules: {chat.federation: any}}, {id: b, people: [uma], parties: [\"partner:ilvane\"], rules: {chat.federation: listed}}]",
			"exceptions_disagree exception:a exception:b", "For uma, a and b disagree on chat.federation (any and listed).",
			"exceptions: [{id: b, people: [uma], parties: [\"partner:ilvane\"], rules: {chat.federation: any}, from: 2026-01-01, until: 2026-02-01}]"},
		{"exceptions: [{id: a, people: [uma], rules: {chat.federation: listed}}]", "exception_without_effect exception:a",
			"Without the exception a every value would be the same.", "exceptions: [{id: a, people: [uma], rules: {chat.federation: any}}]"},
		{"spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.guests: on, spaces.pages: {value: on, held: yes}}}]",
			"held_back space:dossier spaces.pages", "on of spaces.pages is held back at space:dossier; the limit allows it again.",
			"spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.guests: on, spaces.pages: on}}]"},
		{"rules: {chat.calls: {limit: off}}", "held_back chat.calls",
			"The default of chat.calls, on, is held back; the limit is off, and off counts.", "rules: {chat.calls: {limit: on, default: on}}"},
		{"rules: {meetings.remote_control: {default: on}}", "dependency_closed organisation meetings.remote_control",
			"meetings.remote_control is on and needs meetings.share_screen at screen, which is window (organisation).",
			"rules: {meetings.share_screen: {default: screen}}"},
		{"spaces: [{id: figures, name: Figures, kind: report_area, owners: [uma], rules: {spaces.pages: on}}]",
			"dependency_closed space:figures spaces.pages", "spaces.pages is on and needs spaces.guests at on, which is off (space:figures).",
			"spaces: [{id: figures, name: Figures, kind: report_area, owners: [uma], rules: {spaces.pages: on, spaces.guests: on}}]"},
		{"rules: {chat.federation: {default: closed}}", "service_closed partner:ilvane chat.in",
			"Ilvane is opened for chat.in, and chat.federation is closed to everybody.",
			"exceptions: [{id: a, people: [uma], rules: {chat.federation: listed}}]"},
		{"rules: {chat.federation: {default: any}}", "opening_without_effect partner:ilvane chat.in",
			"Ilvane is opened for chat.in, and chat.federation admits anybody.", "rules: {chat.federation: {default: listed}}"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma}]", "partner_without_contact partner:p", "Nobody knows whom to ask at P.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example}]"},
		{"partners: [{id: p, name: P, domains: [p.example], contact: it@p.example}]", "partner_without_owner partner:p",
			"Nobody of ours answers for P.", "partners: [{id: p, name: P, domains: [p.example], standing: ended}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: yes}, stance: {chat.in: {says: refuses}}}], contacts: [{person: uma, party: a@p.example, state: accepted}]",
			"refused_by_them partner:p chat.in", "P is opened for chat.in, and refuses it on its own side.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: yes}, stance: {chat.in: {says: admits, as_of: 2026-11-01}}}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: no}, stance: {chat.in: {says: admits, as_of: 2026-11-01}}}]",
			"refused_by_us partner:p chat.in", "P admits chat.in, and is closed for it by name on our side.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: yes}}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: yes}, stance: {chat.in: {says: admits, as_of: 2026-01-10}}}], contacts: [{person: uma, party: a@p.example, state: accepted}]",
			"stance_too_old partner:p chat.in", "P said on 2026-01-10 that it admits chat.in; that is too long ago to count.",
			"settings: {stance_days: none}"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {directory.in: yes, chat.in: yes, reports.in: yes}, stance: {chat.in: {says: admits}}}], guests: [{address: a@p.example, name: A, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01, licence: theirs}], grants: [{party: a@p.example, resource: space:figures, role: view, from: 2026-06-01}], spaces: [{id: figures, name: Figures, kind: report_area, house_licence: yes, owners: [uma], rules: {spaces.guests: on}}]",
			"stance_unknown partner:p", "P is opened for directory.in, and nobody knows whether its own side admits that.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {directory.in: yes, chat.in: yes}, stance: {chat.in: {says: admits}, directory.in: {says: admits}}}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, opened: {chat.in: yes}, stance: {chat.in: {says: admits}}}]",
			"opening_unused partner:p chat.in", "P is opened for chat.in, and nobody known uses it.",
			"contacts: [{person: uma, party: a@p.example, state: accepted}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, review: 2026-11-22}]",
			"partner_review_overdue partner:p", "P was to be looked at again on 2026-11-22.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, review: 2026-11-24}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, statement: \"https://p.example/s\"}], statements: [{partner: p, keys: [a], problem: key_changed, reason: another key, offered: b}]",
			"statement_key_changed partner:p", "The statement of P is signed with a key that nobody announced; nothing of it is taken.",
			"statements: [{partner: p, keys: [b]}]"},
		{"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example, statement: \"https://p.example/s\"}], statements: [{partner: p, problem: expired, reason: it ended.}]",
			"statement_not_taken partner:p", "The statement of P is not taken: it ended.",
			"partners: [{id: p, name: P, domains: [p.example], owner: uma, contact: it@p.example}]"},
		{"barred: [{address: out@ilvane.example}], grants: [{party: out@ilvane.example, resource: space:dossier, role: view, from: 2026-06-01}]",
			"barred_holds_grants out@ilvane.example", "out@ilvane.example is barred by out@ilvane.example and still holds a record or grants.",
			"grants: [{party: out@ilvane.example, resource: space:dossier, role: view, from: 2026-06-01, until: 2026-10-01}]"},
		{"guests: [{address: ida@old-firm.example, name: Ida, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}], grants: [{party: ida@old-firm.example, resource: space:dossier, role: view, from: 2026-06-01}]",
			"guest_of_no_partner ida@old-firm.example", "ida@old-firm.example is a guest at a domain of no partner.",
			"partners: [{id: old, name: Old, domains: [old-firm.example], owner: uma, contact: it@old-firm.example}]"},
		{"guests: [{address: ida@ilvame.example, name: Ida, sponsor: uma, purpose: x, since: 2026-06-01, accepted: 2026-06-01}], grants: [{party: ida@ilvame.example, resource: space:dossier, role: view, from: 2026-06-01}]",
			"guest_looks_alike ida@ilvame.example", "ida@ilvame.example is a guest at a domain that looks like ilvane.example of partner ilvane.",
			"partners: [{id: other, name: Other, domains: [{name: ilvame.example, look_alike: yes}], owner: uma, contact: it@ilvame.example}]"},
		{"grants: [{party: \"domain:far.example\", resource: space:dossier, role: view, from: 2026-11-01, until: 2027-01-01}]",
			"membership_without_effect domain:far.example space:dossier", "Everybody of far.example was let into Dossier, and none of them gets in.",
			"rules: {spaces.connect: {limit: any, default: any}}"},
		{"rules: {spaces.connect: {limit: any, default: any}, guests.review_days: {default: 30}}, grants: [{party: \"domain:far.example\", resource: space:dossier, role: view, from: 2026-09-01, until: 2027-01-01}]",
			"membership_review_due domain:far.example space:dossier",
			"Whether everybody of far.example should still be in Dossier was to be confirmed by 2026-10-01.",
			"grants: [{party: \"domain:far.example\", resource: space:dossier, role: view, from: 2026-09-01, until: 2027-01-01, reviewed: 2026-11-20}]"},
		{"rules: {reports.licence: {default: []}}", "no_method reports.licence", "reports.licence leaves no method.",
			"rules: {reports.licence: {default: [house]}}"},
	}
	seen := map[string]bool{"system_changed": true, "system_differs": true, "system_away": true, "system_by_hand": true, "system_unread": true,
		"system_unknown": true, "system_records": true, "system_braked": true, "system_empty": true, "limit_loose": true}
	for _, c := range cases {
		w := base
		for _, part := range strings.Split(c.wrong, "}|{") {
			if !strings.HasSuffix(part, "}") && !strings.HasPrefix(part, "rules") || strings.Count(part, "{") == strings.Count(part, "}") {
				part += "}"
			}
			w = over(t, w, part)
		}
		got := found(w)
		x, ok := got[c.id]
		if !ok && strings.HasPrefix(c.id, "private_reaches_private") {
			x, ok = got["private_reaches_private pia@homepost.example folder:secret"]
			c.id = x.ID
		}
		if !ok || len(got) != 1 {
			t.Errorf("%s: found %v", c.id, keys(got))
			continue
		}
		if x.Cause != c.cause {
			t.Errorf("%s: %s", c.id, x.Cause)
		}
		k, ok := finding.KindByName(x.Kind)
		if !ok || k.Do == "" || k.Title == "" {
			t.Errorf("%s is no kind", x.Kind)
		}
		seen[x.Kind] = true
		if got := found(over(t, w, c.mended+"}")); got[c.id].ID != "" {
			t.Errorf("%s does not go by itself", c.id)
		}
	}
	seen["record_unread"] = true                                                                     // of a database, not of a world
	seen["limit_loose_long"], seen["system_changed_again"], seen["refused_often"] = true, true, true // of what was kept
	for _, k := range finding.Kinds() {
		if k.Name == "review_unanswered" { // what the service knows
			seen[k.Name] = true
		}
		if strings.HasPrefix(k.Name, "bundle") { // TestBundles brings them about
			seen[k.Name] = true
		}
	}
	seen["expectation_broken"], seen["expectation_empty"] = true, true // what the service judges
	for _, k := range finding.Kinds() {
		if !seen[k.Name] {
			t.Errorf("no case brings %s about", k.Name)
		}
	}
}

func keys(m map[string]finding.Finding) (out []string) {
	for k, f := range m {
		out = append(out, k+": "+f.Cause)
	}
	return
}

// TestLimits: a limit is loose until something uses it.
func TestLimits(t *testing.T) {
	loose := func(w *world.World) string {
		for _, f := range finding.Find(w, engine.Of(w), now) {
			if f.ID == "limit_loose spaces.pages" {
				return f.Cause
			}
		}
		return ""
	}
	w := over(t, &world.World{}, quiet)
	if got := loose(w); got != "The limit of spaces.pages is on; nothing is set looser than off." {
		t.Error(got)
	}
	if got := loose(over(t, w,
		"spaces: [{id: dossier, name: Dossier, kind: team, owners: [uma], rules: {spaces.guests: on, spaces.pages: on}}]}")); got != "" {
		t.Error(got)
	}
	if got := loose(over(t, w, "rules: {spaces.pages: {limit: off}}}")); got != "" {
		t.Error(got)
	}
}

// TestMany: ids are unique, whatever the world.
func TestMany(t *testing.T) {
	for seed := range uint64(20) {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 60, Grants: 200, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 20,
				Exceptions: 20}, now))
		seen := map[string]bool{}
		for _, f := range finding.Find(w, engine.Of(w), now) {
			if seen[f.ID] {
				t.Errorf("seed %d: %s twice", seed, f.ID)
			}
			seen[f.ID] = true
			if _, ok := finding.KindByName(f.Kind); !ok || f.Cause == "" || strings.Contains(f.Cause, "%!") || len(f.About) == 0 {
				t.Errorf("%+v", f)
			}
		}
		if len(seen) < 10 {
			t.Error(fmt.Sprint("seed ", seed, ": only ", len(seen)))
		}
	}
}

// TestBundles brings about what is noticed of bundles, each alone.
func TestBundles(t *testing.T) {
	base := over(t, &world.World{}, quiet)
	const good = `bundles: [{id: b, name: Desk, gives: [{resource: space:dossier, role: view}, {resource: file:kit, role: view}], who: {partners: [ilvane]}}]`
	w := over(t,
		base,
		good+", partners: [{id: ilvane, name: Ilvane, domains: [ilvane.example], contact: it@ilvane.example, owner: uma, opened: {directory.in: yes, chat.in: yes, files.in: yes, spaces.in: yes}, stance: {directory.in: {says: admits}, chat.in: {says: admits}, files.in: {says: admits}, spaces.in: {says: admits}}}]}")
	only := func(what string, change func(w *world.World), want ...string) {
		t.Helper()
		x := *w
		x.Bundles, x.People, x.Spaces, x.Holdings = slices.Clone(w.Bundles), slices.Clone(w.People), slices.Clone(w.Spaces), nil
		change(&x)
		var got []string
		for id, f := range found(&x) {
			if strings.HasPrefix(id, "bundle") {
				got = append(got, id+": "+f.Cause)
			}
		}
		slices.Sort(got)
		if strings.Join(got, "\n") != strings.Join(want, "\n") {
			t.Errorf("%s:\n%s\nwant\n%s", what, strings.Join(got, "\n"), strings.Join(want, "\n"))
		}
	}
	only("as it should be", func(*world.World) {})
	only("a file is gone", func(w *world.World) { w.Spaces[0].Items = w.Spaces[0].Items[:2] },
		"bundle_gives_gone bundle:b: The bundle Desk gives file:kit, which is no more.")
	only("nobody owns it", func(w *world.World) { w.Spaces[0].Owners = nil },
		"bundle_nobody_answers bundle:b: Nobody owns space:dossier, file:kit, which the bundle Desk gives; so nobody may be given it.")
	only("closed, and nobody owns it", func(w *world.World) { w.Spaces[0].Owners, w.Bundles[0].Closed = nil, true })
	only("who approves has left", func(w *world.World) {
		w.Bundles[0].Approval = []string{"owner", "lars"}
		w.People[1].Left = now - 1
	}, "bundle_approver_left bundle:b person:lars: lars approves the bundle Desk and has left; a keeper decides meanwhile.")
	only("they are suspended", func(w *world.World) {
		w.Partners = slices.Clone(w.Partners)
		w.Partners[0].Standing = world.Suspended
	}, "bundle_opens_nothing bundle:b partner:ilvane: People of Ilvane may ask for the bundle Desk, and it would open nothing to them.")
	only("held by somebody of others", func(w *world.World) {
		a, _ := addr.Parse("x@elsewhere.example")
		w.Holdings = []world.Holding{{Party: a, Bundle: "b", From: now - 1, Until: moment.Never, Reviewed: moment.Always}}
	},
		"bundle_held_outside x@elsewhere.example bundle:b: x@elsewhere.example holds the bundle Desk, which is not for people of elsewhere.example.")
	only("another gives the same", func(w *world.World) {
		w.Bundles = append(w.Bundles, w.Bundles[0])
		w.Bundles[1].ID, w.Bundles[1].Name = "c", "Other"
	}, "bundles_overlap bundle:c bundle:b: The bundle Desk gives everything that Other gives, to the same people.")
}
