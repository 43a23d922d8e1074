package service

import (
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/dbtest"
)

func planned(x *ConnectPlan) string {
	var b strings.Builder
	for _, s := range x.Steps {
		fmt.Fprintf(&b, "%s %t %d\n", s.Do, s.Done, len(s.Edits))
	}
	for _, p := range x.People {
		fmt.Fprintf(&b, "%s %s: %s\n", p.Address, p.Becomes, p.Text)
	}
	for _, t := range x.Twins {
		fmt.Fprintf(&b, "twice: %s %s\n", t.Fed, t.Guest)
	}
	return b.String()
}

func firstLines(s string, n int) string { return strings.Join(strings.SplitN(s, "\n", n+1)[:n], "\n") }

// TestConnect connects a partner's people for good: by membership with the home account, where single roles that say no more are ended and
// nobody loses anything; by a feed; and by federation.
func TestConnect(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, guestWorld)
	load(t, s, `
wexillum: 1
rules: {spaces.connect: {limit: any, default: closed}}
guests:
  - {address: a@ilvane.example, name: Ada Low, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: ada@ilvane.example, name: Ada Low, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: b@ilvane.example, name: Bo, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
  - {address: c@ilvane.example, name: Cy, sponsor: uma, since: 2026-11-01, accepted: 2026-11-01}
spaces: [{id: hall, name: Hall, kind: team, owners: [uma], items: [{id: plan, kind: page, name: Plan}]}]
grants:
  - {party: a@ilvane.example, resource: space:hall, role: view, from: 2026-11-01, sponsor: uma}
  - {party: b@ilvane.example, resource: space:hall, role: manage, from: 2026-11-01, sponsor: uma}
  - {party: c@ilvane.example, resource: space:hall, role: view, from: 2026-11-01, sponsor: uma}
  - {party: a@ilvane.example, resource: space:dossier, role: view, from: 2026-11-01, sponsor: uma}
`)
	ctx := t.Context()
	keeper := Who{Name: "kira", Role: Keeper}
	_, err := s.ChangeGuests(ctx, keeper, GuestChange{Do: Suspend, Addresses: []string{"c@ilvane.example"}, Reason: "a lost device"}, false)
	check(t, err)
	plan := func(way string, spaces ...string) *ConnectPlan {
		t.Helper()
		x, err := s.ConnectAhead(ctx, "ilvane", way, spaces, "")
		check(t, err)
		return x
	}
	same(t, "before", planned(plan(ByMembership, "hall")), `open true 0
letter true 0
rule false 0
give false 1
try false 0
a@ilvane.example talks: keeps their own role for now; whether the account at home gives the same is seen once nothing stands in its way
ada@ilvane.example talks: comes in with the account at home
b@ilvane.example stronger: keeps their own role manage, which lets them do more
c@ilvane.example suspended: is suspended here, and comes in again with the account at home; bar the address to keep them out
twice: a@ilvane.example ada@ilvane.example`)
	load(t,
		s,
		"wexillum: 1\nspaces: [{id: hall, name: Hall, kind: team, owners: [uma], rules: {spaces.connect: any}, items: [{id: plan, kind: page, name: Plan}]}]")
	x := plan(ByMembership, "hall")
	if _, err := s.EditPlaces(ctx, keeper, "they all work there", x.Steps[2].Edits, false); err != nil {
		t.Fatal(err)
	}
	x = plan(ByMembership, "hall")
	same(t, "given", firstLines(planned(x), 5), `open true 0
letter true 0
give true 0
try true 0
tidy false 1`)
	if !decide(t, s, "c@ilvane.example", "spaces.enter", "space:hall") {
		t.Error("who is suspended does not come in with the account at home, as is said")
	}
	reach := func() (n int) {
		t.Helper()
		for _, action := range []string{"spaces.enter", "spaces.see_members"} {
			if decide(t, s, "a@ilvane.example", action, "space:hall") {
				n++
			}
		}
		return
	}
	before := reach()
	done, err := s.EditPlaces(ctx, keeper, "everybody of theirs has it", x.Steps[4].Edits, false)
	check(t, err)
	if done.Lines[0].Result != "ended" || reach() != before || before == 0 {
		t.Errorf("ended: %+v; %d before, %d now", done.Lines, before, reach())
	}
	if x = plan(ByMembership, "hall"); !x.Done {
		t.Errorf("something is left: %s", planned(x))
	}
	same(t, "a feed", firstLines(planned(plan(ByPeopleFeed)), 5), `open true 0
letter true 0
rule false 0
feed false 0
feed_on false 0`)
	same(t, "federation", firstLines(planned(plan(ByFederation)), 3), `open false 0
letter false 0
try false 0`)
	for _, c := range []struct {
		way, role string
		spaces    []string
		want      string
	}{
		{"mail", "", nil, `way "mail": write federation, membership, feed`},
		{ByMembership, "boss", nil, `role "boss": write view, contribute or manage`},
		{ByMembership, "", []string{"none"}, `space "none": there is no such space`},
	} {
		_, err := s.ConnectAhead(ctx, "ilvane", c.way, c.spaces, c.role)
		same(t, "wrong", outcome(err), c.want)
	}
}
