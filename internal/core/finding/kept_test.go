package finding_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/finding"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

// lines are findings in words, in the order in which they come.
func lines(list []finding.Finding) string {
	var out strings.Builder
	for _, f := range list {
		fmt.Fprintln(&out, f.ID, f.About, f.Cause, f.Numbers)
	}
	return out.String()
}

// differing are the lines that one has and the other lacks.
func differing(a, b string) string {
	x, y := strings.Split(a, "\n"), strings.Split(b, "\n")
	var out []string
	for _, l := range x {
		if !slices.Contains(y, l) {
			out = append(out, "- "+l)
		}
	}
	for _, l := range y {
		if !slices.Contains(x, l) {
			out = append(out, "+ "+l)
		}
	}
	return strings.Join(out, "\n")
}

// TestKept: what is kept from snapshot to snapshot, while records, grants, holdings, links, spaces and more change, is what is found in the
// whole world each time, in the same order.
func TestKept(t *testing.T) {
	defer finding.Pieces(finding.Pieces(5))
	kinds, policies, anew := map[string]int{}, 0, 0
	for seed := uint64(1); seed <= 40; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 80, Grants: 260, Holdings: 20, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 24,
				Exceptions: 12}, now))
		r := rand.New(rand.NewPCG(seed, 77))
		for i := range w.Guests {
			if r.IntN(2) == 0 {
				w.Guests[i].Purpose = "a loan"
			}
			if r.IntN(4) == 0 {
				w.Guests[i].Name = fmt.Sprint("Somebody ", r.IntN(8))
			}
		}
		for i := range w.Partners {
			if p := &w.Partners[i]; r.IntN(2) == 0 {
				p.Statement = "https://" + p.ID + ".example/statement"
				w.Statements = append(w.Statements, world.Statement{Partner: p.ID, Problem: "expired", Reason: "it ended."})
			}
		}
		if seed%5 == 0 { // everything is open
			w.Rules = nil
			for _, rule := range catalogue.Rules() {
				w.Rules = append(w.Rules, world.RuleSetting{Rule: rule.ID, Limit: rule.Scale.Loosest(), Default: rule.Scale.Loosest()})
			}
		}
		first := *w
		s := engine.Of(&first)
		k := finding.Look(s, w.Statements, now)
		same := func(what string) {
			t.Helper()
			if a, b := lines(finding.Find(w, engine.Of(w), now)), lines(slices.Concat(k.All()...)); a != b {
				t.Fatalf("seed %d, %s: kept is otherwise than found\n%s", seed, what, differing(a, b))
			}
			for _, f := range slices.Concat(k.All()...) {
				kinds[f.Kind]++
			}
		}
		same("at first")
		for round := range 12 {
			e := s.Edit()
			var touched finding.Touched
			what := fmt.Sprint("round ", round)
			for range 1 + r.IntN(3) {
				if len(w.Guests) == 0 {
					break
				}
				switch r.IntN(9) {
				case 8: // a meeting: what it says, and whom it lets in
					m := &w.Meetings[r.IntN(len(w.Meetings))]
					if r.IntN(2) == 0 {
						rule := catalogue.MustRule([]string{"meetings.present", "meetings.early", "meetings.outsiders", "meetings.held"}[r.IntN(4)])
						m.Rules = []world.Setting{{Rule: rule, Value: catalogue.Value(r.IntN(2)), Held: r.IntN(4) == 0}}
					} else {
						m.SignInDomains = []addr.Domain{w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain}
					}
					e.PutMeeting(m)
					touched.Meetings = append(touched.Meetings, m.ID)
				case 7: // policy: a rule, a partner, an exception
					next := w.Policy
					switch r.IntN(3) {
					case 0:
						next.Rules = slices.Clone(next.Rules)
						if len(next.Rules) > 0 {
							x := &next.Rules[r.IntN(len(next.Rules))]
							scale := x.Rule.Get().Scale
							x.Limit, x.Default = scale.Loosest(), scale.Tightest()
							if r.IntN(2) == 0 {
								x.Default = scale.Loosest()
							}
						}
					case 1:
						next.Partners = slices.Clone(next.Partners)
						p := &next.Partners[r.IntN(len(next.Partners))]
						p.Owner, p.Standing = []string{"", w.People[0].ID}[r.IntN(2)], []world.Standing{world.Active, world.Suspended}[r.IntN(2)]
						p.Opened = [catalogue.NumKeys]world.Opening{}
						p.Opened[r.IntN(len(p.Opened))] = world.OpenYes
					case 2:
						if len(next.Exceptions) > 1 {
							next.Exceptions = slices.Clone(next.Exceptions[1:])
						}
					}
					w.Policy = next
					policy := world.World{Policy: next} // what a snapshot has of a policy does not change
					e.SetPolicy(&policy)
					policies++
				case 0: // a record changes
					g := &w.Guests[r.IntN(len(w.Guests))]
					g.Purpose, g.Sponsor = []string{"", "a loan"}[r.IntN(2)], []string{"", w.People[0].ID}[r.IntN(2)]
					g.Name = fmt.Sprint("Somebody ", r.IntN(8))
					g.Until = []moment.Moment{moment.Never, now + 86400e6}[r.IntN(2)]
					e.PutGuest(g)
					touched.Parties = append(touched.Parties, g.Address.String())
				case 1: // a record goes
					i := r.IntN(len(w.Guests))
					a := w.Guests[i].Address
					w.Guests = slices.Delete(slices.Clone(w.Guests), i, i+1)
					e.RemoveGuest(a)
					touched.Parties = append(touched.Parties, a.String())
				case 2: // grants of somebody, perhaps of somebody new
					a := w.Guests[r.IntN(len(w.Guests))].Address
					if r.IntN(3) == 0 {
						a, _ = addr.Parse(fmt.Sprintf("new%d@firm%d.example", r.IntN(50), r.IntN(7)))
					}
					if r.IntN(4) == 0 {
						a, _ = addr.Parse(fmt.Sprintf("own%d@homepost.example", r.IntN(5)))
					}
					w.Grants = slices.DeleteFunc(slices.Clone(w.Grants), func(g world.Grant) bool { return g.Address == a })
					var own []world.Grant
					for range r.IntN(4) {
						sp := &w.Spaces[r.IntN(len(w.Spaces))]
						g := world.Grant{Address: a, Resource: world.Resource{Kind: catalogue.Space, ID: sp.ID}, Role: catalogue.View, From: now - 1e6,
							Until: moment.Never, Reviewed: moment.Always}
						if len(sp.Items) > 0 && r.IntN(2) == 0 {
							it := &sp.Items[r.IntN(len(sp.Items))]
							g.Resource = world.Resource{Kind: it.Kind, ID: it.ID}
						}
						own = append(own, g)
					}
					w.Grants = append(w.Grants, own...)
					e.SetGrants(a.String(), own)
					touched.Parties = append(touched.Parties, a.String())
				case 3: // a link
					l := &w.Links[r.IntN(len(w.Links))]
					l.Until = []moment.Moment{moment.Never, now - 1e6, now + 86400e6}[r.IntN(3)]
					if r.IntN(3) == 0 && len(l.For) > 0 {
						l.For = []addr.Address{w.Guests[r.IntN(len(w.Guests))].Address}
					}
					e.PutLink(l)
					touched.Links = append(touched.Links, l.ID)
				case 4: // what a space says, and whether an item is private
					sp := &w.Spaces[r.IntN(len(w.Spaces))]
					if r.IntN(2) == 0 {
						rule := catalogue.MustRule([]string{"spaces.guests", "spaces.connect", "spaces.join_in"}[r.IntN(3)])
						sp.Rules = []world.Setting{{Rule: rule, Value: catalogue.Value(r.IntN(2))}}
						sp.Kind = []world.SpaceKind{world.Team, world.ReportArea}[r.IntN(2)]
						e.PutSpace(sp)
						touched.Spaces = append(touched.Spaces, sp.ID)
					}
					if len(sp.Items) > 0 {
						it := &sp.Items[r.IntN(len(sp.Items))]
						it.Private = !it.Private
						e.PutItem(it)
						touched.Items = append(touched.Items, it.ID)
					}
				case 6: // everybody of a partner goes
					if len(w.Guests) < 40 {
						continue
					}
					d := w.Partners[r.IntN(len(w.Partners))].Domains[0].Domain
					at := func(a addr.Address) bool { return !a.IsZero() && a.Domain() == d }
					for i := range w.Guests {
						if a := w.Guests[i].Address; at(a) {
							e.RemoveGuest(a)
							touched.Parties = append(touched.Parties, a.String())
						}
					}
					for i := range w.Grants {
						if a := w.Grants[i].Address; at(a) {
							e.SetGrants(a.String(), nil)
							touched.Parties = append(touched.Parties, a.String())
						}
					}
					w.Guests = slices.DeleteFunc(slices.Clone(w.Guests), func(g world.Guest) bool { return at(g.Address) })
					w.Grants = slices.DeleteFunc(slices.Clone(w.Grants), func(g world.Grant) bool { return at(g.Address) })
				case 5: // what is forwarded, and contacts
					if len(w.Forwarders) > 0 {
						i := r.IntN(len(w.Forwarders))
						m := w.Forwarders[i].Mailbox
						w.Forwarders = slices.DeleteFunc(slices.Clone(w.Forwarders), func(f world.Forwarder) bool { return f.Mailbox == m })
						e.SetForwarders(m, nil)
						touched.Rest = true
					}
				}
			}
			s = e.Done()
			if !k.GoesOn(s) {
				anew++
				k = finding.Look(s, w.Statements, now)
			} else {
				k.Next(s, w.Statements, now, touched)
			}
			same(what)
		}
	}
	for _, kind := range []string{"guest_without_purpose", "guest_without_sponsor", "guest_without_end", "same_person",
		"report_without_licence", "private_reaches_private", "guest_of_no_partner", "link_without_end", "opening_unused", "refused_by_them",
		"statement_not_taken", "held_back", "limit_loose"} {
		if kinds[kind] == 0 {
			t.Errorf("%s never came: %v", kind, kinds)
		}
	}
	if anew == 0 || anew > policies/2 {
		t.Errorf("of %d changes of policy %d were looked at anew", policies, anew)
	}
}

// TestKeptEffects: an exception that says what is so anyway gets an effect where a place says otherwise, and loses it again.
func TestKeptEffects(t *testing.T) {
	w := over(t, &world.World{}, `{organisation: {name: Ours, domains: [ours.example], time_zone: UTC},
rules: {meetings.present: {limit: on, default: off}}, people: [{id: uma, name: Uma}], meetings: [{id: talk, host: uma}],
exceptions: [{id: x, people: [uma], rules: {meetings.present: off}, from: 2026-01-01, until: 2027-03-01, reason: the talk}]}`)
	s := engine.Of(w)
	k := finding.Look(s, nil, now)
	for _, c := range []struct {
		rules  []world.Setting
		effect bool
	}{
		{nil, false},
		{[]world.Setting{{Rule: catalogue.MustRule("meetings.present"), Value: 1}}, true},
		{[]world.Setting{{Rule: catalogue.MustRule("meetings.present"), Value: 1, Held: true}}, false},
		{nil, false},
	} {
		e := s.Edit()
		w.Meetings[0].Rules = c.rules
		e.PutMeeting(&w.Meetings[0])
		s = e.Done()
		k.Next(s, nil, now, finding.Touched{Meetings: []string{"talk"}})
		without := strings.Contains(lines(slices.Concat(k.All()...)), "exception_without_effect exception:x ")
		if without == c.effect {
			t.Errorf("with %v it is told to have no effect: %t", c.rules, without)
		}
	}
}

// TestKeptLicence: a publication of which licence opens reports makes findings and takes them away, whoever holds reports; what another
// rule says, even one that is asked of reports, changes none of them.
func TestKeptLicence(t *testing.T) {
	w := over(t, &world.World{}, `{organisation: {name: Ours, domains: [ours.example], time_zone: UTC},
rules: {reports.licence: {limit: all, default: all}, reports.given_to: {default: known}, reports.guest_edit: {default: on}},
people: [{id: uma, name: Uma}], partners: [{id: lantern, name: Lantern, domains: [lantern.example], opened: {reports.in: yes}}],
spaces: [{id: figures, name: Figures, kind: report_area, house_licence: yes, items: [{id: sheet, name: Sheet, kind: report}]},
  {id: plain, name: Plain, kind: report_area, items: [{id: page, name: Page, kind: report}]}],
guests: [{address: ana@lantern.example, licence: theirs}, {address: bea@lantern.example}],
grants: [{party: ana@lantern.example, resource: report:page, role: view}, {party: bea@lantern.example, resource: report:sheet, role: view},
  {party: bea@lantern.example, resource: space:plain, role: contribute}]}`)
	s := engine.Of(w)
	k := finding.Look(s, nil, now)
	const ana, sheet, plain = "ana@lantern.example report:page", "bea@lantern.example report:sheet", "bea@lantern.example space:plain"
	for _, c := range []struct {
		says string
		told []string
	}{
		{"", []string{plain}},
		{"reports.licence: {default: [ours]}", []string{ana, sheet, plain}},
		{"reports.guest_edit: {default: off}", []string{ana, sheet, plain}},
		{"reports.licence: {default: [house]}", []string{ana, plain}},
		{"reports.guest_browse: {default: on}", []string{ana, plain}},
		{"reports.licence: {default: [theirs]}", []string{sheet, plain}},
		{"reports.licence: {default: all}", []string{plain}},
	} {
		if c.says != "" {
			w = over(t, w, "{rules: {"+c.says+"}}")
			e := s.Aside()
			e.SetPolicy(w)
			s = e.Done()
			if !k.GoesOn(s) {
				t.Fatalf("%s: everything would be looked at", c.says)
			}
			k.Next(s, nil, now, finding.Touched{})
		}
		var told []string
		for _, f := range slices.Concat(k.All()...) {
			if f.Kind == "report_without_licence" {
				told = append(told, strings.Join(f.About, " "))
			}
		}
		if slices.Sort(told); !slices.Equal(told, c.told) {
			t.Errorf("after %q: %q, and not %q", c.says, told, c.told)
		}
	}
}

// TestKeptDoors: an opening is used once a meeting lets a domain of the partner in, and no longer when the meeting does not.
func TestKeptDoors(t *testing.T) {
	w := over(t, &world.World{}, `{organisation: {name: Ours, domains: [ours.example], time_zone: UTC}, people: [{id: uma, name: Uma}],
partners: [{id: lantern, name: Lantern, domains: [lantern.example], owner: uma, opened: {meetings.in: yes}},
  {id: ilvane, name: Ilvane, domains: [ilvane.example], owner: uma, opened: {meetings.in: yes}}],
meetings: [{id: talk, host: uma}]}`)
	s := engine.Of(w)
	k := finding.Look(s, nil, now)
	domain := func(text string) []addr.Domain {
		d, err := addr.ParseDomain(text)
		if err != nil {
			t.Fatal(err)
		}
		return []addr.Domain{d}
	}
	const ilvane, lantern = "partner:ilvane meetings.in", "partner:lantern meetings.in"
	for i, c := range []struct {
		in     []addr.Domain
		unused []string
	}{
		{nil, []string{ilvane, lantern}},
		{domain("lantern.example"), []string{ilvane}},
		{domain("ilvane.example"), []string{lantern}},
		{domain("elsewhere.example"), []string{ilvane, lantern}},
		{domain("lantern.example"), []string{ilvane}},
		{nil, []string{ilvane, lantern}},
	} {
		if i > 0 {
			e := s.Edit()
			w.Meetings[0].SignInDomains = c.in
			e.PutMeeting(&w.Meetings[0])
			s = e.Done()
			k.Next(s, nil, now, finding.Touched{Meetings: []string{"talk"}})
		}
		var unused []string
		for _, f := range slices.Concat(k.All()...) {
			if f.Kind == "opening_unused" {
				unused = append(unused, strings.Join(f.About, " "))
			}
		}
		if slices.Sort(unused); !slices.Equal(unused, c.unused) {
			t.Errorf("with %v let in, unused: %q, and not %q", c.in, unused, c.unused)
		}
	}
}
