package servers_test

import (
	"fmt"
	"strings"
	"testing"
)

// TestDirectory is about a real directory server: who signs in from it, and what a guest looks up there.
func TestDirectory(t *testing.T) {
	r := root(t)
	d, err := r.Slapd(t.Context(), "ours.example")
	check(t, err)
	defer d.Stop()
	conforms(t, d.Beside, "", 11)
	if _, err := d.Beside.Put(t.Context(), "people", "", map[string]string{"mail": "uma@ours.example", "name": "Uma"}); err != nil {
		t.Fatal(err)
	}
	check(t, d.Beside.Reach("uma@ours.example", "+351 1", "keeper"))
	put := func(state string) {
		t.Helper()
		if _, err := d.Beside.Put(t.Context(), "guests", "",
			map[string]string{"mail": "ada@ilvane.example", "state": state, "sponsor": "uma@ours.example"}); err != nil {
			t.Fatal(err)
		}
	}
	put("guest")
	check(t, d.Beside.SetPassword("ada@ilvane.example", "pass"))
	tell := func(when, want string) {
		t.Helper()
		found, in, err := d.Beside.Look("ada@ilvane.example", "pass")
		check(t, err)
		if got := fmt.Sprintf("in %t, finds %s", in, strings.Join(found, ", ")); got != want {
			t.Errorf("%s: %s, want %s", when, got, want)
		}
	}
	set := func(path, value string) {
		t.Helper()
		check(t, d.Beside.Write(t.Context(), path, value))
	}
	tell("shut", "in false, finds ")
	set("guests", "let in")
	tell("let in", "in true, finds ")
	set("people seen", "everybody")
	tell("names", "in true, finds Uma (cn)")
	set("profile seen", "name and how to reach them")
	tell("how to reach them", "in true, finds Uma (cn mail telephoneNumber)")
	set("profile seen", "everything")
	tell("everything", "in true, finds Uma (cn mail telephoneNumber title)")
	put("suspended")
	tell("suspended", "in false, finds ")
	put("guest")
	tell("back, with the password of before", "in true, finds Uma (cn mail telephoneNumber title)")
	set("people seen", "nobody")
	tell("nobody is found", "in true, finds ")
	check(t, d.Beside.Drop(t.Context(), "guests", "ada@ilvane.example"))
	tell("gone", "in false, finds ")
	// Groups, with people of ours and guests in them.
	is := func(kind, id, field, want string) {
		t.Helper()
		if k, err := d.Beside.One(t.Context(), kind, id); err != nil || k == nil || k.Fields[field] != want {
			t.Errorf("%s %s: %+v %v, want %s %q", kind, id, k, err, field, want)
		}
	}
	all := func(kind string, f map[string]string) {
		t.Helper()
		if _, err := d.Beside.Put(t.Context(), kind, "", f); err != nil {
			t.Fatal(err)
		}
	}
	all("groups", map[string]string{"group": "press", "name": "Press, and friends"})
	all("groups", map[string]string{"group": "deck", "name": "Deck"})
	all("people", map[string]string{"mail": "uma@ours.example", "name": "Uma Ours", "groups": "deck press"})
	all("guests", map[string]string{"mail": "ada@ilvane.example", "state": "guest", "groups": "press"})
	is("groups", "press", "name", "Press, and friends")
	is("people", "uma@ours.example", "groups", "deck press")
	all("guests", map[string]string{"mail": "ada@ilvane.example", "state": "suspended", "groups": "press"})
	is("guests", "ada@ilvane.example", "groups", "press")
	all("people", map[string]string{"mail": "uma@ours.example", "name": "Uma", "groups": "deck"})
	is("people", "uma@ours.example", "groups", "deck")
	if _, err := d.Beside.Put(t.Context(), "people", "",
		map[string]string{"mail": "uma@ours.example", "name": "Uma", "groups": "nowhere"}); err == nil ||
		!strings.Contains(err.Error(), `there is no group "nowhere"`) {
		t.Errorf("a group that is not there: %v", err)
	}
	for _, x := range [][2]string{{"people", "uma@ours.example"}, {"guests", "ada@ilvane.example"}, {"groups", "press"}, {"groups", "deck"},
		{"groups", "never"}} {
		check(t, d.Beside.Drop(t.Context(), x[0], x[1]))
		if k, err := d.Beside.One(t.Context(), x[0], x[1]); err != nil || k != nil {
			t.Errorf("%v is still there: %+v %v", x, k, err)
		}
	}
	// what a name of the directory would read otherwise (RFC 4514)
	for _, odd := range []string{"ada+list@ilvane.example", "#1=a@ilvane.example"} {
		for _, state := range []string{"guest", "suspended", "guest"} {
			if id, err := d.Beside.Put(t.Context(), "guests", "", map[string]string{"mail": odd, "state": state}); err != nil || id != odd {
				t.Errorf("%s: %s %v", odd, id, err)
			}
			if k, err := d.Beside.One(t.Context(), "guests", odd); err != nil || k == nil || k.Fields["state"] != state {
				t.Errorf("%s: %+v %v", odd, k, err)
			}
		}
		check(t, d.Beside.Drop(t.Context(), "guests", odd))
		if k, err := d.Beside.One(t.Context(), "guests", odd); err != nil || k != nil {
			t.Errorf("%s is still there: %+v %v", odd, k, err)
		}
	}
}
