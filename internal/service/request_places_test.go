package service

import (
	"errors"
	"fmt"
	"maps"
	"strings"
	"testing"

	"wexillum.example/internal/dbtest"
)

// TestRequestsOfChanges: what is not theirs to change, people of ours send to whoever may change it,
// who weighs it, does it and so tells who asked.
func TestRequestsOfChanges(t *testing.T) {
	s, _ := start(t, dbtest.DSN(t))
	load(t, s, placeWorld+"meetings: [{id: talk, name: Talk, host: ben, space: dossier}]\n")
	uma, ben := Who{Name: "uma", Role: Member, Person: "uma"}, Who{Name: "ben", Role: Member, Person: "ben"}
	keeper := Who{Name: "keeper", Role: Keeper}
	admin := Who{Name: "root", Role: Administrator}
	told := func(r *Request, err error) string {
		if err != nil {
			return err.Error()
		}
		return fmt.Sprintf("%s %v: %s", r.State, r.To, r.Title)
	}
	var made []string
	for _, c := range []struct {
		who      Who
		do, want string
	}{
		{ben, `set | space | dossier | {"name": "Yours", "joinable": "yes"}`,
			"open [owner:uma]: Change the space Dossier: joinable yes, name Yours"},
		{ben, `set | space | dossier | {"name": "Yours", "joinable": "yes"}`, "conflict: you have asked for this already, as " + "ID"},
		{uma, `set | space | dossier | {"name": "Mine"}`, "conflict: there is nothing to ask for; you may do it yourself"},
		{uma, `set | space | dossier | {"house_licence": "yes"}`, "open [administrator]: Change the space Dossier: house licence yes"},
		{uma, `set | meeting | talk | {"passcode": "yes"}`, "open [owner:ben]: Change the meeting Talk: passcode yes"},
		{ben, `set | space | dosier | {"name": "Yours"}`,
			"conflict: it cannot be done as it stands: there is no such space; do you mean dossier?"},
		{ben, `set | space | other | {"name": "Yours"}`, "forbidden: members ask about spaces and meetings that they belong to"},
		{uma, `add | space | - | {"name": "Press", "kind": "team", "owners": ["uma"]}`,
			"open [administrator]: Make a space Press: kind team, owners Uma"},
		{keeper, `set | person | ben | {"roles": ["administrator"]}`, "open [administrator]: Change the person Ben: roles administrator"},
	} {
		r, err := s.RequestPlaces(t.Context(), c.who, placeEdits(t, c.do), "the spring course")
		if r != nil {
			made = append(made, r.ID)
		}
		want := c.want
		if len(made) > 0 {
			want = strings.Replace(want, "ID", made[0], 1)
		}
		if got := told(r, err); got != want {
			t.Errorf("%s: %s\n%s\nwant %s", c.who.Name, c.do, got, want)
		}
	}
	if len(made) != 5 {
		t.Fatalf("%d requests were made", len(made))
	}
	var done []uint64
	for _, c := range []struct {
		who  Who
		id   string
		want string
	}{
		{ben, made[0], "conflict: those who can change it answer it"},
		{ben, made[1], fmt.Sprintf("not found: there is no request %q", made[1])},
		{uma, made[0], "changed space dossier"},
		{keeper, made[0], fmt.Sprintf("conflict: the request %s is over: works", made[0])},
		{keeper, made[4], "forbidden: an administrator says who administers"},
		{admin, made[4], "changed person ben"},
		{keeper, made[3], "added space press"},
	} {
		x, err := s.DoRequest(t.Context(), c.who, c.id, "", false, BundleApproval{})
		if err == nil {
			done = append(done, x.Change)
		}
		got := ""
		if err != nil {
			got = err.Error()
		} else {
			got = linesOf(x)
		}
		if got != c.want {
			t.Errorf("%s does %s: %s\nwant %s", c.who.Name, c.id, got, c.want)
		}
	}
	// What was done is undone like any other change, and the request says what was asked for.
	for i, want := range []string{"changed space dossier", "changed person ben", "removed space press"} {
		x, err := s.Undo(t.Context(), admin, done[i], "as it was", false)
		if err != nil {
			t.Errorf("%s: %v", want, err)
		} else if got := linesOf(x); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
	if r, err := s.RequestOf(t.Context(), ben, made[0]); err != nil || r.Title != "Change the space Dossier: joinable yes, name Yours" {
		t.Errorf("%+v, %v", r, err)
	}
	// A preview changes nothing, and what is done without the request counts too.
	ahead, err := s.DoRequest(t.Context(), ben, made[2], "", true, BundleApproval{})
	check(t, err)
	if linesOf(ahead) != "changed meeting talk" {
		t.Error(linesOf(ahead))
	}
	if r, err := s.RequestOf(t.Context(), ben, made[2]); err != nil || r.State != RequestOpen {
		t.Errorf("%+v, %v", r, err)
	}
	if _, err := s.EditPlaces(t.Context(), ben, "why", placeEdits(t, `set | meeting | talk | {"passcode": "yes"}`), false); err != nil {
		t.Fatal(err)
	}
	check(t, s.noticeRequests(t.Context()))
	list, err := s.Requests(t.Context(), uma, true)
	check(t, err)
	got := map[string]string{}
	for i := range list {
		got[list[i].ID] = fmt.Sprint(list[i].State, " ", list[i].Closer)
	}
	if want := map[string]string{made[0]: "works uma", made[1]: "open ", made[2]: "works ", made[3]: "works keeper"}; !maps.Equal(got, want) {
		t.Errorf("%v, want %v", got, want)
	}
	if _, err := s.DoRequest(t.Context(), keeper, "r999999", "", false, BundleApproval{}); !errors.Is(err, ErrNotFound) {
		t.Error(err)
	}
}
