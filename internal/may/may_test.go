package may

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// places is a world of two spaces: ada owns one and is in it, and is a member of the other.
type places struct{}

func (places) BelongsTo(person string, r world.Resource) bool {
	return person == "ada" && (r.ID == "owned" || r.ID == "joined")
}
func (places) OwnedBy(person string, r world.Resource) bool {
	return person == "ada" && r.ID == "owned"
}

// who are those who ask, of whom ada is a member and bea a keeper who stands in for cy.
var who = []Who{
	{Name: "harbour", Role: Administrator},
	{Name: "lantern", Role: Auditor},
	{Name: "bea", Role: Keeper, Person: "bea", Stands: &Stands{For: []string{"cy"}, Orphans: []string{"dan"}}},
	{Name: "ada", Role: Member, Person: "ada", Stands: &Stands{For: []string{"cy"}}},
	{Name: "guest:g@x.example", Role: Guest, Guest: "g@x.example"},
	{Name: "token:1", Role: Decisions, Token: "1"},
	{Name: "token:2", Role: GuestsIn, Token: "2"},
	{Name: "token:3", Role: Feed, Token: "3"},
}

// questions are all that the package answers, each with a mark for yes (+), no (-), what is theirs (~), or the
// refusal.
func questions() (names []string, ask func(q int, w Who) string) {
	type question struct {
		name string
		ask  func(w Who) any
	}
	space := func(id string) world.Resource { return world.Resource{Kind: catalogue.Space, ID: id} }
	owned, joined, other := space("owned"), space("joined"), space("other")
	by := func(id string) func() (string, error) { return func() (string, error) { return id, nil } }
	list := []question{
		{"own", func(w Who) any { return w.Own() }},
		{"keeps", func(w Who) any { return w.Keeps() }},
		{"of a service", func(w Who) any { return w.OfService() }},
		{"deputy of cy", func(w Who) any { return w.DeputyOf("cy") }},
		{"takes over from dan", func(w Who) any { return w.TakesOver("dan") }},
		{"needs no names", func(w Who) any { return w.NeedsNoNames() }},
		{"sees joined", func(w Who) any { return w.SeesPlace(places{}, joined) }},
		{"sees other", func(w Who) any { return w.SeesPlace(places{}, other) }},
		{"members of a group", func(w Who) any { return w.SeesMembers() }},
		{"how far behind", func(w Who) any { return w.SeesWorkings() }},
		{"person ada", func(w Who) any { return w.SeesPerson("ada") }},
		{"person cy", func(w Who) any { return w.SeesPerson("cy") }},
		{"values of joined", func(w Who) any { return w.SeesValues(places{}, false, joined) }},
		{"values of a partner", func(w Who) any { return w.SeesValues(places{}, true, world.Resource{}) }},
		{"choices", func(w Who) any { return w.SeesChoices() }},
		{"audience of joined", func(w Who) any { return w.SeesAudience(places{}, joined) }},
		{"audience of other", func(w Who) any { return w.SeesAudience(places{}, other) }},
		{"board", func(w Who) any { return w.SeesBoard() }},
		{"what systems hold", func(w Who) any { return w.SeesFound() }},
		{"what happened", func(w Who) any { return w.SeesChanges() }},
		{"ask of themselves", func(w Who) any { return w.Asks(places{}, "ada", nil, &other) }},
		{"ask of an own guest", func(w Who) any { return w.Asks(places{}, "", by("ada"), &other) }},
		{"ask of a guest in joined", func(w Who) any { return w.Asks(places{}, "", by("cy"), &joined) }},
		{"ask of a guest in other", func(w Who) any { return w.Asks(places{}, "", by(""), &other) }},
		{"would into joined", func(w Who) any { return w.AsksWould(places{}, false, joined) }},
		{"would into other", func(w Who) any { return w.AsksWould(places{}, false, joined, other) }},
		{"would into a group", func(w Who) any { return w.AsksWould(places{}, true) }},
		{"check for joined", func(w Who) any { return w.ChecksLists(places{}, w.Person, false, &joined) }},
		{"check for other", func(w Who) any { return w.ChecksLists(places{}, w.Person, false, &other) }},
		{"check as cy", func(w Who) any { return w.ChecksLists(places{}, "cy", false, nil) }},
		{"check a bundle", func(w Who) any { return w.ChecksLists(places{}, w.Person, true, nil) }},
		{"drafts", func(w Who) any { return w.WorksInDrafts() }},
		{"policy at once", func(w Who) any { return w.ChangesPolicyAtOnce() }},
		{"list of guests", func(w Who) any { return w.TakesList("guests") }},
		{"list of links", func(w Who) any { return w.TakesList("links") }},
		{"list of people", func(w Who) any { return w.TakesList("people") }},
		{"feeds", func(w Who) any { return w.Feeds() }},
		{"answers for ada's", func(w Who) any { return w.AnswersFor("ada") }},
		{"answers for nobody's", func(w Who) any { return w.AnswersFor("") }},
		{"moves guests", func(w Who) any { return w.MovesGuests() }},
		{"gives licences", func(w Who) any { return w.GivesLicences() }},
		{"holds values back", func(w Who) any { return w.HoldsBack() }},
		{"value of owned", func(w Who) any { return w.SetsValue(places{}, false, owned) }},
		{"value of joined", func(w Who) any { return w.SetsValue(places{}, false, joined) }},
		{"value of a partner", func(w Who) any { return w.SetsValue(places{}, true, world.Resource{}) }},
		{"end ada's link", func(w Who) any { return w.EndsLink(places{}, &world.Link{By: "ada", Item: other}) }},
		{"end a link to owned", func(w Who) any { return w.EndsLink(places{}, &world.Link{By: "cy", Item: owned}) }},
		{"end a link to joined", func(w Who) any { return w.EndsLink(places{}, &world.Link{By: "cy", Item: joined}) }},
		{"forwarder of ada", func(w Who) any { return w.RemovesForwarder("ada") }},
		{"forwarder of cy", func(w Who) any { return w.RemovesForwarder("cy") }},
		{"say ada away", func(w Who) any { return w.SaysAway("ada") }},
		{"see ada away", func(w Who) any { return w.SeesAway("ada", "cy") }},
		{"see cy away, ada in their place", func(w Who) any { return w.SeesAway("cy", "ada") }},
		{"see cy away", func(w Who) any { return w.SeesAway("cy", "bea") }},
		{"offer to ada", func(w Who) any { return w.SeesOffer("ada") }},
		{"offer to cy", func(w Who) any { return w.SeesOffer("cy") }},
		{"end sessions of ada", func(w Who) any { return w.EndsSessions("ada") }},
		{"every token", func(w Who) any { return w.EveryToken() }},
		{"approve for ada", func(w Who) any { return w.Approves("owner:ada") }},
		{"approve for keepers", func(w Who) any { return w.Approves(world.ByKeeper) }},
		{"approve for administrators", func(w Who) any { return w.Approves("administrator") }},
		{"reviewers", func(w Who) any { return strings.Join(w.Reviewers(), " ") }},
		{"review cy's", func(w Who) any { return w.Reviews("owner:cy") }},
		{"review eve's", func(w Who) any { return w.Reviews("owner:eve") }},
		{"records of guests", func(w Who) any { return w.DecidesRecords("guest") }},
		{"records of spaces", func(w Who) any { return w.DecidesRecords("space") }},
	}
	for _, kind := range []string{"guest", "space", "person", "partner"} {
		list = append(list, question{"browse " + kind, func(w Who) any { return w.Browses(kind) }},
			question{"find " + kind, func(w Who) any { return w.Finds(kind) }})
	}
	for i := range list {
		names = append(names, list[i].name)
	}
	return names, func(q int, w Who) string {
		switch x := list[q].ask(w).(type) {
		case nil:
			return "+"
		case bool:
			return map[bool]string{true: "+", false: "-"}[x]
		case Extent:
			return []string{"-", "~", "+"}[x]
		case error:
			if !errors.Is(x, ErrForbidden) {
				return "not a refusal: " + x.Error()
			}
			return "- " + strings.TrimPrefix(x.Error(), "forbidden: ")
		default:
			return fmt.Sprint(x)
		}
	}
}

// TestWhoMay holds every answer of every role: testdata/who.txt has a line for each question, with one answer
// for each who asks.
func TestWhoMay(t *testing.T) {
	names, ask := questions()
	var b strings.Builder
	for q, name := range names {
		var answers []string
		for _, w := range who {
			answers = append(answers, ask(q, w))
		}
		fmt.Fprintf(&b, "%s: %s\n", name, strings.Join(answers, " | "))
	}
	want, err := os.ReadFile("testdata/who.txt")
	if err != nil {
		t.Fatal(err)
	}
	got, kept := strings.Split(b.String(), "\n"), strings.Split(string(want), "\n")
	for i := range max(len(got), len(kept)) {
		var is, was string
		if i < len(got) {
			is = got[i]
		}
		if i < len(kept) {
			was = kept[i]
		}
		if is != was {
			t.Errorf("is  %s\nwas %s", is, was)
		}
	}
}

// TestNeeds holds whose accounts need a person and a second factor.
func TestNeeds(t *testing.T) {
	var got []string
	for _, r := range []Role{Administrator, Keeper, Auditor, Member, Guest} {
		line := fmt.Sprintf("%s %t", r, NeedsPerson(r))
		for _, f := range []world.SecondFactor{world.FactorNobody, world.FactorAdministrators, world.FactorKeepers, world.FactorAll} {
			line += fmt.Sprint(" ", NeedsFactor(r, f))
		}
		got = append(got, line)
	}
	want := []string{"administrator false false true true true", "keeper false false false true true", "auditor false false false false true",
		"member true false false false true", "guest false false false false false"}
	if strings.Join(got, "\n") != strings.Join(want, "\n") {
		t.Errorf("is\n%s\nnot\n%s", strings.Join(got, "\n"), strings.Join(want, "\n"))
	}
}
