package service

import (
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// named lists what still names an entry, so that it cannot be removed yet.
func (c *placeChange) named(x *entry) (out []string, err error) {
	say := func(format string, args ...any) { out = append(out, fmt.Sprintf(format, args...)) }
	policy := c.now.Policy()
	inPolicy := func(is func(r world.Resource) bool, texts ...string) {
		for i := range policy.Bundles {
			if slices.ContainsFunc(policy.Bundles[i].Gives, func(g world.Gift) bool { return is(g.Resource) }) {
				say("the bundle %s gives it", policy.Bundles[i].ID)
			}
		}
		for i := range policy.Expectations {
			if slices.Contains(texts, policy.Expectations[i].Resource) {
				say("the expectation %s is about it", policy.Expectations[i].ID)
			}
		}
	}
	gone := func(kind, id string) bool {
		y := c.by[[2]string{kind, id}]
		return y != nil && y.now == nil
	}
	each := func(kind, text string, fn func(id string, doc []byte)) error {
		return c.t.Naming(kind, text, func(id string, doc []byte) error {
			if y := c.by[[2]string{kind, id}]; y != nil {
				if doc = y.now; doc == nil {
					return nil
				}
			}
			fn(id, doc)
			return nil
		})
	}
	quoted := jsonText(x.id)
	switch x.kind {
	case "space", "item":
		r, err := c.resource(x)
		if err != nil {
			return nil, err
		}
		texts := []string{r.String()}
		is := func(g world.Resource) bool {
			return g == r || r.Kind == catalogue.Space && g.Kind.IsItem() && c.now.SpaceOf(g.ID) == r.ID
		}
		hung := c.now.HangingOn(r, c.at)
		live, links := 0, 0
		for _, g := range hung.Grants {
			if !g.Ended {
				live++
			}
		}
		for _, y := range c.entries { // those that go with it
			if y.kind != "grant" || y.now != nil || y.was == nil {
				continue
			}
			if g, err := worldfile.GrantOf(y.was); err == nil && is(g.Resource) && c.at < g.Until {
				live--
			}
		}
		for _, id := range hung.Links {
			if !gone("link", id) {
				links++
			}
		}
		if live > 0 || links > 0 {
			var what []string
			if live > 0 {
				what = append(what, counted.Of(live, "role on it has", "roles on it have")+" not ended")
			}
			if links > 0 {
				what = append(what, counted.Of(links, "link to it works", "links to it work"))
			}
			say("%s; close it first", strings.Join(what, " and "))
		}
		inPolicy(is, texts...)
	case "meeting":
		inPolicy(func(world.Resource) bool { return false }, "meeting:"+x.id)
	case "domain_list":
		for _, id := range c.now.MeetingsWith(x.id) {
			if gone("meeting", id) {
				continue
			}
			say("the meeting %s", id)
		}
	case "group":
		for _, id := range c.now.PeopleIn(x.id) {
			if gone("person", id) {
				continue
			}
			say("the person %s", id)
		}
		grants, err := c.t.Grants("group:" + x.id)
		if err != nil {
			return nil, err
		}
		for i := range grants {
			if !gone("grant", worldfile.GrantKey(&grants[i])) {
				say("its role on %s", grants[i].Resource)
			}
		}
		if err := each("space", `"group:`+x.id+`"`, func(id string, _ []byte) { say("the space %s", id) }); err != nil {
			return nil, err
		}
		for i := range policy.Exceptions {
			e := &policy.Exceptions[i]
			if slices.Contains(e.Groups, x.id) || slices.ContainsFunc(e.Parties, func(p world.PartyRef) bool { return p.Group == x.id }) {
				say("the exception %s", e.ID)
			}
		}
		for i := range policy.Expectations {
			e := &policy.Expectations[i]
			if g := "group:" + x.id; e.Party == g || slices.Contains(e.Expect.Only, g) {
				say("the expectation %s is about it", e.ID)
			}
		}
	case "person":
		for i := range policy.Expectations {
			e := &policy.Expectations[i]
			if _, id, _ := strings.Cut(e.Resource, ":"); e.Owner == x.id ||
				id == x.id && slices.Contains([]string{"person:" + x.id, "mailbox:" + x.id, "calendar:" + x.id}, e.Resource) {
				say("the expectation %s", e.ID)
			}
		}
		if err := each("space", quoted, func(id string, doc []byte) {
			sp, err := worldfile.SpaceOf(doc)
			if err == nil && (slices.Contains(sp.Owners, x.id) || slices.Contains(sp.Members, world.Member{Person: x.id})) {
				say("the space %s", id)
			}
		}); err != nil {
			return nil, err
		}
		for kind, field := range map[string]string{"meeting": "host", "link": "by", "forwarder": "mailbox", "contact": "person"} {
			if err := each(kind, `"`+field+`":`+quoted, func(id string, _ []byte) { say("the %s %s", kind, id) }); err != nil {
				return nil, err
			}
		}
		guests, err := c.t.GuestsOf(x.id)
		if err != nil {
			return nil, err
		}
		if len(guests) > 0 {
			say("%s whom they answer for", counted.Of(len(guests), "guest", "guests"))
		}
		grants, err := c.t.GrantsBy(x.id)
		if err != nil {
			return nil, err
		}
		if len(grants) > 0 {
			say("%s that they answer for", counted.Of(len(grants), "role", "roles"))
		}
		for i := range policy.Exceptions {
			if slices.Contains(policy.Exceptions[i].People, x.id) {
				say("the exception %s", policy.Exceptions[i].ID)
			}
		}
		for i := range policy.Partners {
			if policy.Partners[i].Owner == x.id {
				say("the partner %s", policy.Partners[i].ID)
			}
		}
		accounts, err := c.s.store.Accounts(c.t.Context())
		if err != nil {
			return nil, err
		}
		for i := range accounts {
			if accounts[i].Person == x.id {
				say("the account %s", accounts[i].Name)
			}
		}
	}
	slices.Sort(out)
	return out, nil
}
