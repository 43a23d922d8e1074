package suite

import (
	"path/filepath"
	"reflect"
	"testing"
	"time"
)

// TestKept: what a program holds is there again when it is started anew: settings, charters and things, with who made
// them, how often they were used, and what was taken away.
func TestKept(t *testing.T) {
	now := time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC)
	file := filepath.Join(t.TempDir(), "quay.json")
	begin := func() *Program {
		p := New(Options{Key: "pass", Clock: func() time.Time { return now }})["quay"]
		if err := p.Keep(file); err != nil {
			t.Fatal(err)
		}
		return p
	}
	p := begin()
	for _, mail := range []string{"a@far.example", "b@far.example"} {
		if _, err := p.Put("visitors", "", map[string]string{"mail": mail, "standing": "aboard"}, "crew"); err != nil {
			t.Fatal(err)
		}
	}
	if _, err := p.Put("tickets", "", map[string]string{"mark": "kit", "crate": "b-1/file:kit", "may": "look"}, "crew"); err != nil {
		t.Fatal(err)
	}
	p.use("tickets", "kit")
	if err := p.Drop("visitors", "v-0000001"); err != nil {
		t.Fatal(err)
	}
	if err := p.Turn("charter:#b-1", "tickets=none"); err != nil {
		t.Fatal(err)
	}
	again := begin()
	for _, kind := range []string{"visitors", "tickets"} {
		if a, b := p.Things(kind), again.Things(kind); !reflect.DeepEqual(a, b) || len(a) != 1 {
			t.Errorf("%s: %+v, and started anew %+v", kind, a, b)
		}
	}
	if !reflect.DeepEqual(p.Reading(), again.Reading()) || again.Things("tickets")[0].Used != 1 {
		t.Errorf("%+v %+v", p.Reading(), again.Reading())
	}
	if id, err := again.Put("visitors", "", map[string]string{"mail": "c@far.example", "standing": "aboard"}, "crew"); err != nil ||
		id != "v-0000003" {
		t.Errorf("the next id is %s %v", id, err)
	}
}
