package service

import (
	"fmt"
	"strings"
	"testing"

	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/dbtest"
)

func placeNamed(t *testing.T, text string) world.Resource {
	t.Helper()
	r, err := engine.ParseResource(text)
	check(t, err)
	return r
}

// TestRequestsOfValues: a value that is not theirs to set, people of ours ask for; it goes to whoever may set it, is
// weighed, set, undone by nobody else, and whoever asked hears; one that comes true otherwise is over, too.
func TestRequestsOfValues(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, placeWorld+"meetings: [{id: talk, name: Talk, host: ben, space: dossier}]\n")
	uma, ben := Who{Name: "uma", Role: Member, Person: "uma"}, Who{Name: "ben", Role: Member, Person: "ben"}
	keeper, admin := Who{Name: "keeper", Role: Keeper}, Who{Name: "root", Role: Administrator}
	var made []string
	for _, c := range []struct {
		who  Who
		v    AskedValue
		want string
	}{
		{ben, AskedValue{"space:dossier", "spaces.pages", "on"}, "open [owner:uma]: Set “Editing pages” to on at Dossier"},
		{ben, AskedValue{"space:dossier", "spaces.pages", "on"}, "conflict: you have asked for this already, as "},
		{uma, AskedValue{"space:dossier", "spaces.pages", "on"}, "conflict: there is nothing to ask for; you may do it yourself"},
		{uma, AskedValue{"meeting:talk", "meetings.early", "on"}, "open [owner:ben]: Set “In before the host” to on at Talk"},
		{keeper, AskedValue{"space:dossier", "spaces.guests", "on"}, "open [owner:uma]: Set “Guests in a space” to on at Dossier"},
		{ben, AskedValue{"space:other", "spaces.pages", "on"}, "forbidden: members ask about spaces and meetings that they belong to"},
		{ben, AskedValue{"space:dossier", "spaces.pages", "maybe"}, `value "maybe": `},
		{ben, AskedValue{"space:dosier", "spaces.pages", "on"}, "not found: there is no space:dosier"},
		{ben, AskedValue{"partner:ilvane", "spaces.pages", "on"}, "forbidden: members ask about"},
		{admin, AskedValue{"space:dossier", "spaces.pages", "on"}, "conflict: there is nothing to ask for; you may do it yourself"},
	} {
		r, err := s.RequestValue(t.Context(), c.who, c.v, "the spring course")
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			made = append(made, r.ID)
			got = fmt.Sprintf("%s %v: %s", r.State, r.To, r.Title)
		}
		if !strings.HasPrefix(got, c.want) {
			t.Errorf("%s asks for %+v:\n%s\nwant %s", c.who.Name, c.v, got, c.want)
		}
	}
	if len(made) != 3 {
		t.Fatalf("%d were made", len(made))
	}
	if _, err := s.RequestValue(t.Context(), ben, AskedValue{"space:dossier", "spaces.tasks", "on"}, " "); err == nil {
		t.Error("without saying what for")
	}
	// Who may not set it does not do it; who may sees who gains first.
	if _, err := s.DoRequest(t.Context(), ben, made[0], "", false, BundleApproval{}); err == nil {
		t.Error("who asked did it")
	}
	would, err := s.DoRequest(t.Context(), uma, made[0], "", true, BundleApproval{})
	check(t, err)
	if would.Weighed == nil || would.Weighed.Becomes != "on" {
		t.Errorf("weighed: %+v", would.Weighed)
	}
	if set, _, err := s.Values(t.Context(), Where{Resource: placeNamed(t, "space:dossier")}); err != nil || len(set) != 0 {
		t.Errorf("a preview set something: %+v %v", set, err)
	}
	_, err = s.DoRequest(t.Context(), uma, made[0], "for the course", false, BundleApproval{})
	check(t, err)
	r, err := s.RequestOf(t.Context(), ben, made[0])
	check(t, err)
	if r.State != RequestWorks || r.Closer != "uma" || r.Heard {
		t.Errorf("done: %+v", r)
	}
	if set, _, err := s.Values(t.Context(), Where{Resource: placeNamed(t, "space:dossier")}); err != nil || len(set) != 1 {
		t.Errorf("set: %+v %v", set, err)
	}
	// Set without the request, it is over as well.
	check(t, s.SetValue(t.Context(), "root", "it was asked for",
		ValueChange{Where: Where{Resource: placeNamed(t, "meeting:talk")}, Rule: "meetings.early", Value: "on"}))
	check(t, s.noticeRequests(t.Context()))
	if r, err = s.RequestOf(t.Context(), uma, made[1]); err != nil || r.State != RequestWorks {
		t.Errorf("come true: %+v %v", r, err)
	}
	if r, err = s.RequestOf(t.Context(), keeper, made[2]); err != nil || r.State != RequestOpen {
		t.Errorf("still open: %+v %v", r, err)
	}
}
