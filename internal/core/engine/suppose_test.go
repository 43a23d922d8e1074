package engine_test

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/dated"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldgen"
)

func give(resource string, role catalogue.Role) world.Grant {
	r, err := engine.ParseResource(resource)
	if err != nil {
		panic(err)
	}
	return world.Grant{Resource: r, Role: role, From: now, Until: moment.Never}
}

func would(t *testing.T, w *world.World, x engine.Suppose) (opened, otherwise []string) {
	t.Helper()
	lines, _, err := engine.Of(w).Would(x, now)
	if err != nil {
		t.Fatal(err)
	}
	for i := range lines {
		l := &lines[i]
		text := l.Action.String() + " " + l.Resource.String()
		if !l.To.IsZero() {
			text += " to " + l.To.String()
		}
		switch l.Change() {
		case "opened":
			opened = append(opened, text)
		case "otherwise":
			otherwise = append(otherwise, text)
		}
	}
	return
}

// TestWould says what a grant, an invitation, a group and a link would open, and
// nothing else.
func TestWould(t *testing.T) {
	w := museum(t)
	opened, _ := would(t, w, engine.Suppose{Address: mustAddress(t, "maren@ilvane.example"),
		Grants: []world.Grant{give("folder:secret", catalogue.Contribute)}})
	if got := strings.Join(opened, ", "); got != "files.edit folder:secret, files.upload folder:secret, files.delete folder:secret" {
		t.Error(got)
	}
	// A newcomer invited into a space: the record opens chat to everybody, the role the space.
	opened, otherwise := would(t, w, engine.Suppose{Address: mustAddress(t, "fresh@plain.example"), Record: true,
		Grants: []world.Grant{give("space:yard", catalogue.Contribute)}})
	got := strings.Join(opened, ", ")
	for _, want := range []string{"directory.sign_in directory:ours", "directory.leave directory:ours", "directory.look_up person:*",
		"spaces.enter space:yard", "spaces.edit_task tasklist:yard-list", "chat.post channel:yard-talk", "chat.message person:*",
		"files.edit file:board", "files.share file:board to *@plain.example"} {
		if !strings.Contains(got, want) {
			t.Errorf("%s is missing in %s", want, got)
		}
	}
	for _, not := range []string{"spaces.enter space:dossier", "files.open folder:plans", "mail."} {
		if strings.Contains(got, not) {
			t.Errorf("%s is said to be opened", not)
		}
	}
	if len(otherwise) != 0 && strings.Contains(strings.Join(otherwise, " "), "spaces") {
		t.Error(otherwise)
	}
	// A group, as one would expect, gives what it holds.
	if opened, _ = would(t, w, engine.Suppose{Address: mustAddress(t, "maren@ilvane.example"), Groups: []string{"crew"}}); len(opened) != 0 {
		t.Error(opened) // she reaches it by a link already
	}
	opened, _ = would(t, w, engine.Suppose{Address: mustAddress(t, "ink@finch.example"), Groups: []string{"crew"}})
	if got := strings.Join(opened, ", "); !strings.Contains(got, "files.open folder:secret") {
		t.Error(got)
	}
	// A link.
	item, _ := engine.ParseResource("file:kit")
	opened, _ = would(t, w, engine.Suppose{Link: &world.Link{ID: "one", Item: item, Right: catalogue.Contribute, Created: now,
		Until: moment.Never, Download: true}})
	if got := strings.Join(opened, ", "); got != "files.open file:kit, files.download file:kit" {
		t.Error(got)
	}
	// What makes no sense is wrong use.
	for _, x := range []engine.Suppose{{Address: mustAddress(t, "a@b.example"), Grants: []world.Grant{give("space:none", catalogue.View)}},
		{Address: mustAddress(t, "a@b.example"), Groups: []string{"none"}},
		{Link: &world.Link{ID: "l", Item: world.Resource{Kind: catalogue.Page, ID: "notes"}}}} {
		if _, _, err := engine.Of(w).Would(x, now); err == nil {
			t.Errorf("%+v is taken", x)
		}
	}
}

// TestWouldIsGiven: supposing a grant answers every question like a world that
// holds it.
func TestWouldIsGiven(t *testing.T) {
	r := rand.New(rand.NewPCG(3, 9))
	asked := 0
	for seed := range uint64(40) {
		w := world.Merge(&world.World{}, worldgen.Generate(1000+seed,
			worldgen.Size{Guests: 30, Grants: 100, Spaces: 10, Items: 40, Partners: 5, People: 10, Groups: 3, Meetings: 6, Links: 10,
				Exceptions: 10}, now))
		s := engine.Of(w)
		for range 10 {
			g := w.Grants[r.IntN(len(w.Grants))]
			g.Group, g.Partner, g.Domain, g.Address, g.From, g.Until = "", "", addr.Domain{},
				mustAddress(t, []string{w.Guests[r.IntN(len(w.Guests))].Address.String(), "fresh@unlisted.example",
					"fresh@homepost.example"}[r.IntN(3)]), now-1, moment.Never
			with, err := s.Supposing(engine.Suppose{Address: g.Address, Grants: []world.Grant{g}})
			if err != nil {
				t.Fatal(err)
			}
			steps, _ := s.Sequences().Of(g.Address)
			if slices.ContainsFunc(steps, func(x engine.DueStep) bool {
				return x.At <= now && (x.Kind == dated.Suspended || x.Kind == dated.Removed || x.Kind == dated.Invitation)
			}) { // what is given to whom the dates removed is given to somebody new
				continue
			}
			given := engine.Of(world.Merge(w, &world.World{Inventory: world.Inventory{Grants: []world.Grant{g}}}))
			for range 300 {
				a := anyQuestion(r, w, now)
				if r.IntN(2) == 0 {
					a.who, a.resource = g.Address.String(), g.Resource.String()
				}
				q, err := parse(a)
				if err != nil {
					continue
				}
				want, err1 := given.Decide(&q)
				q.With = with
				got, err2 := s.Decide(&q)
				if got != want || (err1 == nil) != (err2 == nil) {
					t.Fatalf("%s %s %s with %+v: supposed %+v %v, given %+v %v", q.Subject, q.Action, q.Resource, g, got, err2, want, err1)
				}
				if err1 == nil {
					asked++
				}
			}
		}
	}
	if asked < 20000 {
		t.Errorf("only %d questions made sense", asked)
	}
}

// TestSplitChangesNothing takes a domain off a partner in random worlds: no answer
// changes by it, and joining the two again changes none either.
func TestSplitChangesNothing(t *testing.T) {
	asked, moved := 0, 0
	for seed := uint64(1); seed <= 12; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed,
			worldgen.Size{Guests: 40, Grants: 160, Spaces: 12, Items: 60, Partners: 6, People: 12, Groups: 4, Meetings: 8, Links: 16,
				Exceptions: 40}, now))
		r := rand.New(rand.NewPCG(seed, 5))
		before := engine.Of(w)
		p := &w.Partners[r.IntN(len(w.Partners))]
		for i := range w.Partners { // the one with most people
			if before.Concerned(w.Partners[i].ID).Guests > before.Concerned(p.ID).Guests {
				p = &w.Partners[i]
			}
		}
		p.Domains = append(p.Domains, world.Entry{Domain: mustAddress(t, fmt.Sprintf("a@spare%d.example", seed)).Domain(), LookAlike: true})
		split, err := world.SplitPartner(w, p.ID, p.Domains[:1], "new-one", "New One")
		if err != nil {
			t.Fatal(err)
		}
		joined, err := world.JoinPartners(split.World, "new-one", p.ID)
		if err != nil {
			t.Fatal(err)
		}
		if len(joined.Differs) > 0 {
			t.Errorf("the new one differs: %v", joined.Differs)
		}
		a, b, c := engine.Of(w), engine.Of(split.World), engine.Of(joined.World)
		moved += b.Concerned("new-one").Guests
		for range 4000 {
			q, err := parse(anyQuestion(r, w, now))
			if err != nil {
				continue
			}
			x, err1 := a.Decide(&q)
			y, err2 := b.Decide(&q)
			z, err3 := c.Decide(&q)
			if x != y || x != z || (err1 == nil) != (err2 == nil) || (err1 == nil) != (err3 == nil) {
				t.Fatalf("seed %d: %s %s %s %s: %+v, split %+v, joined %+v", seed, q.Subject, q.Action, q.Resource, q.Address, x, y, z)
			}
			asked++
		}
	}
	if asked < 10000 || moved < 20 {
		t.Errorf("only %d questions were asked, and %d guests moved", asked, moved)
	}
}

// TestSide: our half of a key says what the domain gate says of a newcomer.
func TestSide(t *testing.T) {
	said := map[string]int{}
	for seed := uint64(1); seed <= 40; seed++ {
		w := world.Merge(&world.World{}, worldgen.Generate(seed, worldgen.Size{Guests: 10, Partners: 8, People: 4, Spaces: 4, Items: 8}, now))
		w.Exceptions = nil // our half is that of nobody in particular
		s := engine.Of(w)
		for i := range w.Partners {
			p := &w.Partners[i]
			a := addr.Newcomer(p.Domains[0].Domain)
			if m := s.Match(a); m.Partner == nil || m.Partner.ID != p.ID || m.Bar != nil {
				continue
			}
			side := s.Side(p.ID, now)
			one := engine.Who{Kind: engine.ByPerson, ID: w.People[0].ID}
			someone := world.Resource{Kind: catalogue.Person, ID: w.People[0].ID}
			for key, q := range map[catalogue.Key]engine.Question{
				catalogue.In(catalogue.Chat):      {Subject: engine.Who{Address: a}, Action: actionID("chat.message"), Resource: someone},
				catalogue.Out(catalogue.Chat):     {Subject: one, Action: actionID("chat.message_theirs"), Resource: someone, Address: a},
				catalogue.Out(catalogue.Meetings): {Subject: one, Action: actionID("meetings.join_theirs"), Resource: someone, Address: a},
				catalogue.Out(catalogue.Mail): {Subject: one, Action: actionID("mail.forward"),
					Resource: world.Resource{Kind: catalogue.Mailbox, ID: w.People[0].ID}, Address: a},
			} {
				q.At = now
				v, err := s.Decide(&q)
				if err != nil {
					t.Fatal(err)
				}
				open := !v.Refusing.Has(catalogue.DomainGate)
				if side.Keys[key].Opens != open {
					t.Fatalf("seed %d, %s, %s: our half is %+v, and the domain gate says %v", seed, p.ID, key, side.Keys[key], open)
				}
				said[fmt.Sprint(key, " ", open)]++
			}
		}
	}
	if len(said) < 8 {
		t.Errorf("not every key was seen open and shut: %v", said)
	}
}

func actionID(name string) catalogue.ActionID {
	a, _ := catalogue.ActionByName(name)
	return a.ID
}
