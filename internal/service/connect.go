package service

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
)

// ConnectWays are the ways of connecting a partner's people for good.
var ConnectWays = []string{ByFederation, ByMembership, ByPeopleFeed}

// The ways, as advice names them.
const (
	ByFederation = "federation"
	ByMembership = "membership"
	ByPeopleFeed = "feed"
)

// Kinds of steps.
const (
	StepOpen = "open"   // our half
	StepAsk  = "letter" // their half
	StepRule = "rule"
	StepGive = "give" // a role in a space to everybody of theirs
	StepFeed = "feed"
	StepOn   = "feed_on" // what it tells of comes in, and from then on at once
	StepTidy = "tidy"    // end what single guests were given that everybody has now
	StepTry  = "try"     // a question that says yes in the end
)

// ConnectStep is one thing to be done, and whether it is.
type ConnectStep struct {
	Do    string
	Text  string
	Done  bool
	Keys  []string // services and directions of a step that opens or asks
	Edits []PlaceEdit
	Ask   *engine.Question // of a step that tries
}

// ConnectPerson is what becomes of somebody of theirs who is known here.
type ConnectPerson struct {
	Address, Name, State string
	Roles                int
	Becomes              string // covered, stronger, elsewhere, talks, fed, suspended, barred
	Text                 string
}

// ConnectPlan is how a partner's people are connected for good: what is to be done, in order, and what becomes of those who are here.
type ConnectPlan struct {
	Partner, Called, Way string
	Done                 bool // nothing is left
	Steps                []ConnectStep
	People               []ConnectPerson
	Counts               map[string]int  // of all, by what becomes of them
	Twins                []FedTwin       // who seems to be here twice
	blocked              bool            // something stands in the way of a role for everybody of theirs
	given                map[string]bool // spaces in which everybody of theirs has the role already
}

// mostConnected is how many people a plan lists, and mostSpaces how many spaces it may be about.
const (
	mostConnected = 200
	mostSpaces    = 20
)

// ConnectAhead plans how to connect a partner's people in a way. spaces and role say of membership where they come in, and as what.
func (s *Service) ConnectAhead(ctx context.Context, partner, way string, spaces []string, role string) (*ConnectPlan, error) {
	st, at := s.State(), s.Now()
	if in, err := s.StateIn(ctx); err == nil {
		st = in
	}
	p, err := st.Partner(partner)
	if err != nil {
		return nil, err
	}
	if err := oneOfWords("way", way, ConnectWays...); err != nil {
		return nil, err
	}
	r, ok := catalogue.ParseRole(cmp.Or(role, "view"))
	if !ok {
		return nil, &Invalid{"role", role, "write view, contribute or manage"}
	}
	if len(p.Domains) == 0 {
		return nil, fmt.Errorf("%w: %s has no domain, so nobody is theirs: add one first", ErrConflict, p.Name)
	}
	if len(spaces) > mostSpaces {
		return nil, &Invalid{"space", fmt.Sprint(len(spaces)), fmt.Sprintf("name at most %d", mostSpaces)}
	}
	for _, id := range spaces {
		if !st.Has("space", id) {
			return nil, &Invalid{"space", id, "there is no such space"}
		}
	}
	x := &ConnectPlan{Partner: p.ID, Called: p.Name, Way: way, Counts: map[string]int{}, given: map[string]bool{}}
	switch way {
	case ByFederation:
		x.halves(st, p, at, catalogue.In(catalogue.Chat), catalogue.Out(catalogue.Chat))
		x.try(st, p, "chat.message", world.Resource{Kind: catalogue.Person, ID: cmp.Or(p.Owner, st.First("person"))}, at)
	case ByMembership:
		x.halves(st, p, at, catalogue.In(catalogue.Spaces))
		if err := s.connectSpaces(ctx, st, x, p, spaces, r, at); err != nil {
			return nil, err
		}
	case ByPeopleFeed:
		x.halves(st, p, at, catalogue.In(catalogue.Directory))
		x.Steps = append(x.Steps, ConnectStep{Do: StepRule, Text: fmt.Sprintf("Let %s keep its people here (directory.feed_in).", p.Name),
			Done: st.GuestRule(addr.Newcomer(p.Domains[0].Domain), "", ruleFeedIn) == valueOn})
		f, err := s.FeedKept(ctx, p.ID)
		if err != nil {
			return nil, err
		}
		x.Steps = append(x.Steps, ConnectStep{Do: StepFeed,
			Text: "Begin the people feed and tell their side its token. It is watched first: whom it takes over is shown before anybody is touched.",
			Done: f != nil},
			ConnectStep{Do: StepOn, Text: "Bring in whom it tells of, a few first, and let it on.", Done: f != nil && f.State == FeedOn})
		if x.Twins, err = s.FeedTwins(ctx, p.ID); err != nil {
			return nil, err
		}
	}
	if err := s.connectPeople(ctx, st, x, p, spaces, r, at); err != nil {
		return nil, err
	}
	x.Done = !slices.ContainsFunc(x.Steps, func(c ConnectStep) bool { return !c.Done })
	return x, nil
}

// halves adds what is to be opened here, and what their side has to admit.
func (x *ConnectPlan) halves(st *State, p *world.Partner, at moment.Moment, keys ...catalogue.Key) {
	half := map[catalogue.Key]world.Half{}
	for _, h := range st.Snapshot.Halves(p, at) {
		half[h.Key] = h
	}
	ours, theirs := ConnectStep{Do: StepOpen, Done: true}, ConnectStep{Do: StepAsk, Done: true}
	var names []string
	for _, k := range keys {
		names = append(names, k.String())
		if h := half[k]; !h.Ours.Opens {
			ours.Done, ours.Keys = false, append(ours.Keys, k.String())
		}
		if half[k].Theirs != world.SaysAdmits {
			theirs.Done, theirs.Keys = false, append(theirs.Keys, k.String())
		}
	}
	ours.Text = fmt.Sprintf("Open %s for %s.", strings.Join(names, " and "), p.Name)
	theirs.Text = fmt.Sprintf("Have %s admit %s on its own side.", p.Name, strings.Join(names, " and "))
	x.Steps = append(x.Steps, ours, theirs)
}

// everybodyOf asks what somebody of a partner, whoever it is, may do with the account they have at home.
func everybodyOf(p *world.Partner, action string, on world.Resource, at moment.Moment) *engine.Question {
	q := &engine.Question{Subject: engine.Who{Kind: engine.ByAddress, Address: addr.Newcomer(p.Domains[0].Domain)}, Resource: on, At: at}
	var err error
	if q.Action, err = engine.ParseAction(action); err != nil {
		panic(err) // the catalogue names it
	}
	return q
}

// try adds a question about everybody of theirs.
func (x *ConnectPlan) try(st *State, p *world.Partner, action string, on world.Resource, at moment.Moment) {
	q := everybodyOf(p, action, on, at)
	v, err := st.Decide(q)
	if err != nil || on.ID == "" {
		return
	}
	x.Steps = append(x.Steps, ConnectStep{Do: StepTry,
		Text: fmt.Sprintf("See that somebody of %s, with the account they have at home, can: %s, %s.", p.Name, q.Action.Get().TitleOn(on.Kind),
			cmp.Or(st.NameOf(on), on.ID)), Done: v.Yes, Ask: q})
}

// connectSpaces adds what gives everybody of theirs a role in spaces, and what single guests were given there that says no more.
func (s *Service) connectSpaces(ctx context.Context, st *State, x *ConnectPlan, p *world.Partner, spaces []string, role catalogue.Role,
	at moment.Moment) error {
	whole, err := s.GrantsOf(ctx, "partner:"+p.ID)
	if err != nil {
		return err
	}
	has := func(id string) bool {
		return slices.ContainsFunc(whole, func(g world.Grant) bool {
			return g.Resource == (world.Resource{Kind: catalogue.Space, ID: id}) && g.Role >= role && moment.Within(at, g.From, g.Until)
		})
	}
	if len(spaces) == 0 {
		x.Steps = append(x.Steps, ConnectStep{Do: StepGive, Text: "Say which spaces they come into, and as what."})
		return nil
	}
	for _, id := range spaces {
		g := ConnectStep{Do: StepGive, Text: fmt.Sprintf("Give everybody of %s the role %s in %s, now and whoever joins them later.", p.Name,
			role, cmp.Or(st.NameOf(world.Resource{Kind: catalogue.Space, ID: id}), id)), Done: has(id)}
		if x.given[id] = g.Done; !g.Done {
			fields, err := json.Marshal(map[string]string{"party": "partner:" + p.ID, "resource": "space:" + id, "role": role.String()})
			if err != nil {
				return err
			}
			g.Edits = []PlaceEdit{{Do: "add", Kind: "grant", Fields: fields}}
		}
		if len(g.Edits) > 0 { // what is advised is tried first
			would, err := s.EditPlaces(ctx, Who{Name: Scheduler, Role: Administrator}, "to see what stands in the way", g.Edits, true)
			if err != nil {
				return err
			}
			for _, l := range would.Lines {
				if l.Result == "refused" {
					x.blocked = true
					x.Steps = append(x.Steps, ConnectStep{Do: StepRule, Text: "Take away what stands in the way of the role: " + l.Cause,
						Ask: cmp.Or(l.Ask, everybodyOf(p, "spaces.enter", world.Resource{Kind: catalogue.Space, ID: id}, at))})
				}
			}
		}
		x.Steps = append(x.Steps, g)
		x.try(st, p, "spaces.enter", world.Resource{Kind: catalogue.Space, ID: id}, at)
	}
	return nil
}

// connectPeople says what becomes of those who are known here.
func (s *Service) connectPeople(ctx context.Context, st *State, x *ConnectPlan, p *world.Partner, spaces []string, role catalogue.Role,
	at moment.Moment) error {
	tidy := ConnectStep{Do: StepTidy, Done: true}
	lost, err := s.connectLoses(ctx, st, x, p, spaces, role, at)
	if err != nil {
		return err
	}
	byName := map[string][]ConnectPerson{}
	for _, t := range st.PeopleOf(p.ID, at, func(string, string) bool { return true }) {
		if err := ctx.Err(); err != nil {
			return err
		}
		c := ConnectPerson{Address: t.Address.String(), Name: t.Name, State: t.State, Roles: t.Roles}
		var covered, stronger, elsewhere []world.Grant
		if x.Way == ByMembership && t.Roles > 0 {
			own, err := s.GrantsOf(ctx, c.Address)
			if err != nil {
				return err
			}
			for _, g := range own {
				switch {
				case !moment.Within(at, g.From, g.Until):
				case g.Resource.Kind != catalogue.Space || !slices.Contains(spaces, g.Resource.ID):
					elsewhere = append(elsewhere, g)
				case g.Role > role || g.Bundle != "":
					stronger = append(stronger, g)
				default:
					covered = append(covered, g)
				}
			}
		}
		switch {
		case t.Barred:
			c.Becomes, c.Text = "barred", "stays barred, whatever is opened"
		case x.Way != ByPeopleFeed && (x.Way != ByMembership || len(spaces) > 0) && t.State == world.StateNames[world.StateSuspended]:
			c.Becomes, c.Text = "suspended", "is suspended here, and comes in again with the account at home; bar the address to keep them out"
		case x.Way == ByPeopleFeed && t.State == "":
			c.Becomes, c.Text = "talks", "has no record here; gets one once the feed tells of them"
		case x.Way == ByPeopleFeed:
			c.Becomes, c.Text = "fed", "is taken over, not doubled; what they were given stays"
		case x.Way == ByFederation && t.Roles == 0:
			c.Becomes, c.Text = "covered", "talks with the account at home; the record is not needed for it, and may end"
		case x.Way == ByMembership && len(spaces) == 0:
			c.Becomes, c.Text = "talks", "is seen once it is said which spaces they come into"
		case x.Way == ByFederation && t.State == "":
			c.Becomes, c.Text = "elsewhere", fmt.Sprintf("keeps %s, which they have without a record, and which federation does not give",
				phraseRoles(t.Roles))
		case x.Way == ByFederation:
			c.Becomes, c.Text = "elsewhere", fmt.Sprintf("keeps the record, for %s that federation does not give", phraseRoles(t.Roles))
		case len(stronger) > 0:
			c.Becomes, c.Text = "stronger", fmt.Sprintf("keeps their own role %s, which lets them do more", stronger[0].Role)
		case len(covered) > 0 && x.blocked:
			c.Becomes, c.Text = "talks",
				"keeps their own role for now; whether the account at home gives the same is seen once nothing stands in its way"
			covered = nil
		case len(covered) > 0 && lost[c.Address] > 0:
			c.Becomes, c.Text = "stronger",
				fmt.Sprintf("keeps their own role, which opens more than the account at home would with the same: %d things", lost[c.Address])
			covered = nil
		case len(covered) > 0 && len(elsewhere) > 0:
			c.Becomes, c.Text = "covered", fmt.Sprintf("has the same with the account at home; keeps the record, for %s elsewhere",
				phraseRoles(len(elsewhere)))
		case len(covered) > 0:
			c.Becomes, c.Text = "covered", "has the same with the account at home; the record is not needed any more, and may end"
		case len(elsewhere) > 0:
			c.Becomes, c.Text = "elsewhere", fmt.Sprintf("comes in with the account at home; keeps the record, for %s elsewhere",
				phraseRoles(len(elsewhere)))
		default:
			c.Becomes, c.Text = "talks", "comes in with the account at home"
		}
		if c.Becomes == "suspended" { // what they hold comes back with the record
			covered = nil
		}
		for _, g := range covered {
			if x.given[g.Resource.ID] { // only once everybody has it
				tidy.Edits = append(tidy.Edits, PlaceEdit{Do: "remove", Kind: "grant",
					ID: c.Address + " " + g.Resource.String() + " " + g.Role.String()})
			}
			tidy.Done = false
		}
		x.Counts[c.Becomes]++
		if n := strings.ToLower(strings.TrimSpace(c.Name)); n != "" {
			byName[n] = append(byName[n], c)
		}
		if len(x.People) < mostConnected {
			x.People = append(x.People, c)
		}
	}
	if x.Way == ByMembership && !tidy.Done {
		tidy.Text = "End the single roles that say no more than what everybody of theirs has. Nobody loses anything."
		x.Steps = append(x.Steps, tidy)
	}
	if x.Way != ByPeopleFeed || len(x.Twins) == 0 {
		for _, list := range byName {
			for i := 1; i < len(list); i++ {
				x.Twins = append(x.Twins, FedTwin{Name: list[0].Name, Fed: list[0].Address, Guest: list[i].Address,
					Differs: []string{fmt.Sprintf("roles: %d, %d", list[0].Roles, list[i].Roles)}})
			}
		}
		slices.SortFunc(x.Twins, func(a, b FedTwin) int { return cmp.Or(cmp.Compare(a.Fed, b.Fed), cmp.Compare(a.Guest, b.Guest)) })
	}
	return nil
}

// coveredBy splits what a guest was given into what a role in spaces for everybody of theirs covers, and the rest.
func coveredBy(own []world.Grant, spaces []string, role catalogue.Role, at moment.Moment) (covered, rest []world.Grant) {
	for _, g := range own {
		if moment.Within(at, g.From, g.Until) && g.Bundle == "" && g.Resource.Kind == catalogue.Space && slices.Contains(spaces, g.Resource.ID) &&
			g.Role <= role {
			covered = append(covered, g)
		} else {
			rest = append(rest, g)
		}
	}
	return
}

// connectLoses counts what guests could do no more if everybody of theirs had the role and they had what it covers no longer: the account
// at home may do less with the same role.
func (s *Service) connectLoses(ctx context.Context, st *State, x *ConnectPlan, p *world.Partner, spaces []string, role catalogue.Role,
	at moment.Moment) (map[string]int, error) {
	lost := map[string]int{}
	if x.Way != ByMembership || len(spaces) == 0 {
		return lost, nil
	}
	e := st.Aside()
	whole, err := s.GrantsOf(ctx, "partner:"+p.ID)
	if err != nil {
		return nil, err
	}
	for _, id := range spaces {
		if !x.given[id] {
			whole = append(whole, world.Grant{Partner: p.ID, Resource: world.Resource{Kind: catalogue.Space, ID: id}, Role: role, From: at,
				Until: moment.Never})
		}
	}
	e.SetGrants("partner:"+p.ID, whole)
	var touched []engine.Touched
	for _, t := range st.PeopleOf(p.ID, at, func(string, string) bool { return true }) {
		if t.Roles == 0 {
			continue
		}
		own, err := s.GrantsOf(ctx, t.Address.String())
		if err != nil {
			return nil, err
		}
		covered, rest := coveredBy(own, spaces, role, at)
		if len(covered) == 0 {
			continue
		}
		rest = slices.DeleteFunc(rest, func(g world.Grant) bool { return g.Bundle != "" }) // what bundles give follows by itself
		e.SetGrants(t.Address.String(), rest)
		touched = append(touched, engine.Touched{Party: t.Address})
	}
	if len(touched) == 0 {
		return lost, nil
	}
	then := e.Done()
	err = engine.Local(st.Snapshot, then, st.Snapshot, touched, at, ctx.Err,
		func(w engine.Who, _ bool, n int) { lost[w.Address.String()] += n }, func(engine.Newcomer) {})
	return lost, err
}

func phraseRoles(n int) string {
	if n == 1 {
		return "one role"
	}
	return fmt.Sprintf("%d roles", n)
}
