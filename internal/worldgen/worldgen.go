// Package worldgen makes worlds of any size from a seed: the same seed and sizes
// give the same world. It is for benchmarks, random tests and trying the product
// at the size of a real organisation.
package worldgen

import (
	"fmt"
	"math/rand/v2"
	"time"
	_ "time/tzdata"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// Size says how much of everything there is. Zero fields follow from Guests.
type Size struct {
	Guests, Grants, Spaces, Items, Partners, People, Groups, Meetings, Links, Exceptions int
	Holdings                                                                             int // of bundles; none where it is zero
}

// Of fills what is zero in the proportions of a large organisation: ten grants,
// a twentieth of a space and half an item for each guest.
func (s Size) Of() Size {
	fill := func(n *int, v int) {
		if *n == 0 {
			*n = v
		}
	}
	fill(&s.Guests, 1000)
	fill(&s.Grants, s.Guests*10)
	fill(&s.Spaces, max(10, s.Guests/20))
	fill(&s.Items, max(50, s.Guests/2))
	fill(&s.Partners, max(5, s.Guests/200))
	fill(&s.People, max(20, s.Guests/20))
	fill(&s.Groups, max(3, s.Guests/1000))
	fill(&s.Meetings, max(5, s.Guests/100))
	fill(&s.Links, max(5, s.Guests/5))
	fill(&s.Exceptions, max(3, s.Guests/500))
	return s
}

// Generate makes a world around a moment.
func Generate(seed uint64, size Size, now moment.Moment) *world.World {
	size = size.Of()
	g := &generator{Rand: rand.New(rand.NewPCG(seed, 0x77657869)), size: size, now: now}
	loc, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		panic(err) // the zone is compiled in
	}
	w := &world.World{
		Policy: world.Policy{
			Organisation: &world.Organisation{
				Name:      "Generated organisation",
				Domains:   []world.Entry{{Domain: domain("ours.example")}},
				Zone:      loc,
				TwoPeople: "never",
			},
		},
	}
	g.policy(w)
	g.inventory(w)
	g.told(w)
	return w
}

// told lets rounds of review ask about some of what is held, and feeds close some of the accounts that they maintain.
func (g *generator) told(w *world.World) {
	for i := range w.Guests {
		if w.Guests[i].Origins&world.ByFeed != 0 && g.one(3) {
			w.Guests[i].HomeClosed = g.days(-40, 10)
		}
	}
	for i := range w.Grants {
		if !w.Grants[i].Address.IsZero() && g.one(12) {
			w.Grants[i].Waits = g.days(-5, 20)
		}
	}
	for i := range w.Holdings {
		if g.one(4) {
			w.Holdings[i].Waits = g.days(-5, 20)
		}
	}
}

type generator struct {
	*rand.Rand
	size Size
	now  moment.Moment
}

func domain(s string) addr.Domain {
	d, err := addr.ParseDomain(s)
	if err != nil {
		panic(err)
	}
	return d
}

func address(s string) addr.Address {
	a, err := addr.Parse(s)
	if err != nil {
		panic(err)
	}
	return a
}

func (g *generator) one(in int) bool { return g.IntN(in) == 0 }

// days returns a moment within n days before or behind now.
func (g *generator) days(from, until int) moment.Moment {
	return g.now + moment.Moment(from+g.IntN(until-from))*86400e6 + moment.Moment(g.IntN(86400))*1e6
}

func (g *generator) value(r *catalogue.Rule) catalogue.Value {
	all := r.Scale.All()
	return all[g.IntN(len(all))]
}

// settings sets up to n rules that a layer may set, within their limits.
func (g *generator) settings(layer catalogue.Layers, n int, limits *[catalogue.NumRules]catalogue.Value) []world.Setting {
	var out []world.Setting
	rules := catalogue.Rules()
	for range n {
		r := &rules[g.IntN(len(rules))]
		if r.Layers&layer == 0 {
			continue
		}
		s := world.Setting{Rule: r.ID, Value: g.value(r)}
		if r.Scale.Looser(s.Value, limits[r.ID]) {
			s.Held = true
		}
		dup := false
		for _, o := range out {
			dup = dup || o.Rule == s.Rule
		}
		if !dup {
			out = append(out, s)
		}
	}
	return out
}

func (g *generator) policy(w *world.World) {
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		s := world.RuleSetting{Rule: r.ID, Limit: r.Limit, Default: r.Default, Counts: catalogue.Unset}
		if g.one(3) {
			s.Limit = g.value(r)
		}
		if g.one(2) {
			s.Default = g.value(r)
		}
		switch r.Name { // a world in which something is open
		case "directory.guests", "spaces.guests":
			s.Limit, s.Default = catalogue.On, catalogue.On
		}
		if r.Scale.Looser(s.Default, s.Limit) {
			s.Default = r.Scale.Tighter(s.Default, s.Limit)
		}
		w.Rules = append(w.Rules, s)
	}
	limits := world.Limits(w, &world.World{})
	for i := range g.size.Partners {
		p := world.Partner{
			ID:            fmt.Sprintf("p%d", i),
			Name:          fmt.Sprintf("Partner %d", i),
			StandingSince: moment.Always,
			Review:        moment.Never,
			Domains:       []world.Entry{{Domain: domain(partnerDomain(i)), LookAlike: true}},
		}
		for d := range g.IntN(3) {
			p.Domains = append(
				p.Domains,
				world.Entry{Domain: domain(fmt.Sprintf("d%d.%s", d, partnerDomain(i))), Subdomains: g.one(2), LookAlike: true},
			)
		}
		if g.one(20) {
			p.Standing = world.Suspended
		} else if g.one(30) {
			p.Standing, p.StandingSince = world.Ended, g.days(-30, 30)
		}
		for k := range p.Opened {
			switch g.IntN(6) {
			case 0, 1, 2:
				p.Opened[k] = world.OpenYes
			case 3:
				if g.one(3) {
					p.Opened[k] = world.OpenNo
				}
			}
			if g.one(4) {
				st := world.Stance{
					Key:    catalogue.Key(k),
					Says:   world.Says(g.IntN(3)),
					Source: "recorded",
					AsOf:   g.days(-400, -1),
					Until:  moment.Never,
				}
				if g.one(5) {
					st.Until = g.days(-5, 30)
				}
				if g.one(3) {
					st.Features = []catalogue.Feature{catalogue.Feature(1 + g.IntN(3))}
				}
				p.Stance = append(p.Stance, st)
			}
		}
		p.Rules = g.settings(catalogue.AtPartner, g.IntN(4), &limits)
		w.Partners = append(w.Partners, p)
	}
	w.Personal = []world.Entry{{Domain: domain("homepost.example")}, {Domain: domain("parlourmail.example"), Subdomains: true}}
	for i := range max(2, g.size.Partners/20) {
		w.Barred = append(
			w.Barred,
			world.Bar{
				Entry: world.Entry{
					Domain:     domain(fmt.Sprintf("x%d.%s", i, partnerDomain(g.skewed(g.size.Partners)))),
					Subdomains: g.one(2),
				},
				Reason: "generated",
			},
		)
	}
	for i := range g.size.Exceptions {
		x := world.Exception{
			ID:     fmt.Sprintf("x%d", i),
			People: []string{g.person()},
			From:   g.days(-60, 0),
			Until:  g.days(0, 60),
			Reason: "generated",
		}
		if g.one(4) {
			x.Groups = []string{fmt.Sprintf("g%d", g.IntN(g.size.Groups))}
		}
		switch g.IntN(5) {
		case 0, 1:
			x.Parties = []world.PartyRef{{Partner: fmt.Sprintf("p%d", g.skewed(g.size.Partners))}}
		case 2:
			x.Parties = []world.PartyRef{
				{Domain: domain(partnerDomain(g.skewed(g.size.Partners)))},
				{Address: address(g.guest(g.IntN(g.size.Guests)))},
			}
		case 3:
			x.Parties = []world.PartyRef{{Group: fmt.Sprintf("g%d", g.IntN(g.size.Groups))}}
		}
		for len(x.Rules) == 0 {
			x.Rules = g.settings(catalogue.AtPeople, 16, &limits)
		}
		w.Exceptions = append(w.Exceptions, x)
	}
}

func partnerDomain(i int) string { return fmt.Sprintf("firm%d.example", i) }

// skewed returns an index below n that is small much more often than large, as
// few partners send most of the guests.
func (g *generator) skewed(n int) int {
	f := g.Float64()
	return min(n-1, int(f*f*f*float64(n)))
}

func (g *generator) person() string { return fmt.Sprintf("u%d", g.IntN(g.size.People)) }

// guest returns the address of guest i; the same i gives the same address.
func (g *generator) guest(i int) string {
	h := rand.New(rand.NewPCG(uint64(i), 99))
	switch h.IntN(20) {
	case 0:
		return fmt.Sprintf("guest%d@homepost.example", i)
	case 1:
		return fmt.Sprintf("guest%d@unlisted%d.example", i, i%97)
	}
	f := h.Float64()
	p := min(g.size.Partners-1, int(f*f*f*float64(g.size.Partners)))
	if h.IntN(15) == 0 {
		return fmt.Sprintf("guest%d@d0.%s", i, partnerDomain(p))
	}
	return fmt.Sprintf("guest%d@%s", i, partnerDomain(p))
}

func (g *generator) inventory(w *world.World) {
	limits := world.Limits(w, &world.World{})
	for i := range g.size.Groups {
		gr := world.Group{ID: fmt.Sprintf("g%d", i), Name: fmt.Sprintf("Group %d", i)}
		for range g.IntN(6) {
			a := address(g.guest(g.IntN(g.size.Guests)))
			dup := false
			for _, o := range gr.Parties {
				dup = dup || o == a
			}
			if !dup {
				gr.Parties = append(gr.Parties, a)
			}
		}
		w.Groups = append(w.Groups, gr)
	}
	for i := range g.size.People {
		p := world.Person{
			ID:      fmt.Sprintf("u%d", i),
			Name:    fmt.Sprintf("Person %d", i),
			Address: address(fmt.Sprintf("u%d@ours.example", i)),
		}
		if g.one(3) {
			p.Groups = []string{fmt.Sprintf("g%d", g.IntN(g.size.Groups))}
		}
		if g.one(5) {
			p.Roles = world.PersonRole(1 << g.IntN(5))
		}
		w.People = append(w.People, p)
	}
	for i := range g.size.Spaces {
		s := world.Space{
			ID:           fmt.Sprintf("s%d", i),
			Name:         fmt.Sprintf("Space %d", i),
			Kind:         world.SpaceKind(g.IntN(5)),
			Joinable:     g.one(4),
			HouseLicence: g.one(3),
			Owners:       []string{g.person()},
		}
		for range g.IntN(3) {
			if g.one(3) {
				s.Members = append(s.Members, world.Member{Group: fmt.Sprintf("g%d", g.IntN(g.size.Groups))})
			} else {
				s.Members = append(s.Members, world.Member{Person: g.person()})
			}
		}
		if g.one(8) {
			s.Parties = []world.PartyRef{{Partner: fmt.Sprintf("p%d", g.skewed(g.size.Partners))}}
			if g.one(2) {
				s.Parties = append(s.Parties, world.PartyRef{Group: fmt.Sprintf("g%d", g.IntN(g.size.Groups))})
			}
		}
		if g.one(3) {
			s.Rules = g.settings(catalogue.AtSpace, 4, &limits)
		}
		w.Spaces = append(w.Spaces, s)
	}
	for i := range g.size.Items {
		s := &w.Spaces[g.IntN(len(w.Spaces))]
		it := world.Item{
			ID:      fmt.Sprintf("i%d", i),
			Space:   s.ID,
			Kind:    itemKinds[g.IntN(len(itemKinds))],
			Name:    fmt.Sprintf("Item %d", i),
			Private: g.one(8),
		}
		if g.one(10) {
			it.Rules = g.settings(catalogue.AtItem, 3, &limits)
		}
		s.Items = append(s.Items, it)
	}
	if g.size.Meetings > 0 && g.size.Partners > 0 {
		w.DomainLists = []world.DomainList{
			{ID: "lenders", Name: "Lenders", Domains: []addr.Domain{domain(partnerDomain(0)), domain(partnerDomain(min(1, g.size.Partners-1)))}},
			{ID: "nobody-yet", Name: "Nobody yet"},
		}
	}
	for i := range g.size.Meetings {
		m := world.Meeting{
			ID:           fmt.Sprintf("m%d", i),
			Name:         fmt.Sprintf("Meeting %d", i),
			Host:         g.person(),
			StandingRoom: g.one(5),
			Passcode:     g.one(2),
		}
		if g.one(2) {
			m.Space = fmt.Sprintf("s%d", g.IntN(g.size.Spaces))
		}
		if g.one(5) {
			m.SignInDomains = []addr.Domain{domain(partnerDomain(g.skewed(g.size.Partners)))}
		}
		if len(w.DomainLists) > 0 && (i%7 == 3 || i%7 == 5) { // the second of them is empty
			m.SignInLists = []string{w.DomainLists[i%7/5].ID}
		}
		if g.one(4) {
			m.Rules = g.settings(catalogue.AtItem, 4, &limits)
		}
		w.Meetings = append(w.Meetings, m)
	}
	for i := range g.size.Guests {
		x := world.Guest{
			Address:    address(g.guest(i)),
			Name:       fmt.Sprintf("Guest %d", i),
			Sponsor:    g.person(),
			Origins:    world.ByInvitation,
			Since:      g.days(-400, -10),
			Accepted:   moment.Never,
			StateSince: moment.Always,
			Renewed:    moment.Always,
			Until:      moment.Never,
			Terms:      moment.Never,
			LastSeen:   moment.Always,
			Licence:    world.Licence(g.IntN(3)),
		}
		switch g.IntN(12) {
		case 0:
			x.State = world.StateInvited
		case 1:
			x.State, x.Accepted, x.StateSince = world.StateSuspended, x.Since+3600e6, g.days(-5, 1)
		default:
			x.Accepted = x.Since + 3600e6
		}
		if x.State != world.StateInvited { // most were seen, and some renewed, not long ago
			if i%8 > 0 {
				x.LastSeen = max(x.Accepted, g.now-moment.Moment(i*37%80)*86400e6)
			}
			if i%3 > 0 {
				x.Renewed = max(x.Since, g.now-moment.Moment(i*53%330)*86400e6)
			}
		}
		if x.State != world.StateInvited && !g.one(4) {
			x.Terms = x.Accepted
		}
		if g.one(10) {
			x.Origins = world.ByFeed
		}
		if g.one(2) {
			x.Location = "PT"
		}
		w.Guests = append(w.Guests, x)
	}
	g.grants(w)
	g.holdings(w)
	for i := range g.size.Links {
		it := g.item(w)
		l := world.Link{
			ID:       fmt.Sprintf("l%d", i),
			Item:     it,
			Right:    catalogue.Role(1 + g.IntN(2)),
			Created:  g.days(-60, 0),
			Until:    moment.Never,
			Download: g.one(2),
			Password: g.one(3),
			By:       g.person(),
		}
		if g.one(2) {
			l.Until = g.days(-10, 60)
		}
		if g.one(3) {
			l.For = []addr.Address{address(g.guest(g.IntN(g.size.Guests)))}
		}
		w.Links = append(w.Links, l)
	}
	type pair struct {
		person string
		party  addr.Address
	}
	met := map[pair]bool{}
	for range max(6, g.size.People) {
		c := world.Contact{Person: g.person(), Party: address(g.guest(g.IntN(g.size.Guests))), Accepted: !g.one(3)}
		if k := (pair{c.Person, c.Party}); !met[k] {
			met[k] = true
			w.Contacts = append(w.Contacts, c)
		}
	}
	for range max(3, g.size.People/10) {
		f := world.Forwarder{Mailbox: g.person(), To: address("home@homepost.example"), KeepCopy: g.one(2), SetBy: "person"}
		dup := false
		for _, o := range w.Forwarders {
			dup = dup || o.Mailbox == f.Mailbox && o.To == f.To
		}
		if !dup {
			w.Forwarders = append(w.Forwarders, f)
		}
	}
}

var itemKinds = []catalogue.ResourceKind{
	catalogue.Channel,
	catalogue.Folder,
	catalogue.File,
	catalogue.File,
	catalogue.Page,
	catalogue.Tasklist,
	catalogue.Report,
	catalogue.Dashboard,
}

func (g *generator) item(w *world.World) world.Resource {
	for {
		if s := &w.Spaces[g.IntN(len(w.Spaces))]; len(s.Items) > 0 {
			it := &s.Items[g.IntN(len(s.Items))]
			return world.Resource{Kind: it.Kind, ID: it.ID}
		}
	}
}

func (g *generator) grants(w *world.World) {
	type key struct {
		party    string
		resource world.Resource
		role     catalogue.Role
		from     moment.Moment
	}
	seen := make(map[key]bool, g.size.Grants)
	many := 0 // partners and domains let into a space as a whole
	for len(w.Grants) < g.size.Grants {
		x := world.Grant{
			Address:  address(g.guest(g.IntN(g.size.Guests + g.size.Guests/20 + 1))),
			Role:     catalogue.Role(1 + g.IntN(3)),
			From:     g.days(-300, 5),
			Until:    moment.Never,
			Reviewed: moment.Always,
			Sponsor:  g.person(),
		}
		switch {
		case g.one(200):
			x.Address, x.Group = addr.Address{}, fmt.Sprintf("g%d", g.IntN(g.size.Groups))
		case len(w.Partners) > 0 && many < len(w.Partners) && g.one(30):
			many++
			p := &w.Partners[g.IntN(len(w.Partners))]
			x.Address = addr.Address{}
			if g.one(2) && len(p.Domains) > 0 {
				x.Domain = p.Domains[g.IntN(len(p.Domains))].Domain
			} else {
				x.Partner = p.ID
			}
		}
		if g.one(3) {
			x.Until = max(x.From+1, g.days(-20, 300))
		}
		if g.one(3) && !x.ToMany() {
			x.Resource = g.item(w)
		} else {
			x.Resource = world.Resource{Kind: catalogue.Space, ID: fmt.Sprintf("s%d", g.IntN(g.size.Spaces))}
		}
		k := key{x.Party(), x.Resource, x.Role, x.From}
		if !seen[k] {
			seen[k] = true
			w.Grants = append(w.Grants, x)
		}
	}
}

// holdings makes bundles, and gives them to guests and to others.
func (g *generator) holdings(w *world.World) {
	if g.size.Holdings == 0 {
		return
	}
	days := func() catalogue.Value {
		return []catalogue.Value{catalogue.Unset, catalogue.NoLimit, 30, 90}[g.IntN(4)]
	}
	for i := range max(2, g.size.Holdings/10) {
		b := world.Bundle{ID: fmt.Sprintf("b%d", i), Name: fmt.Sprintf("Bundle %d", i), Others: true, TermDays: days(), ReviewDays: days()}
		in := map[world.Resource]bool{}
		for range 1 + g.IntN(4) {
			r := world.Resource{Kind: catalogue.Space, ID: fmt.Sprintf("s%d", g.IntN(g.size.Spaces))}
			if g.one(3) {
				r = g.item(w)
			}
			if !in[r] {
				in[r] = true
				b.Gives = append(b.Gives, world.Gift{Resource: r, Role: catalogue.Role(1 + g.IntN(3))})
			}
		}
		w.Bundles = append(w.Bundles, b)
	}
	seen := map[string]bool{}
	for range g.size.Holdings {
		b := &w.Bundles[g.IntN(len(w.Bundles))]
		h := world.Holding{Party: address(g.guest(g.IntN(g.size.Guests + g.size.Guests/10))), Bundle: b.ID, Sponsor: g.person(),
			From: g.days(-200, 5), Until: moment.Never, Reviewed: moment.Always}
		if g.one(2) {
			h.Until = max(h.From+1, g.days(-20, 200))
		}
		if g.one(3) {
			h.Reviewed = max(h.From, g.days(-60, 0))
		}
		if g.one(3) {
			h.Less = []world.Gift{{Resource: b.Gives[g.IntN(len(b.Gives))].Resource, Role: catalogue.Role(g.IntN(3))}}
		}
		if !seen[h.Key()] {
			seen[h.Key()] = true
			w.Holdings = append(w.Holdings, h)
		}
	}
}
