package worldgen

import (
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/worldfile"
)

// TestGenerate: the same seed gives the same world, another seed another, of the
// sizes asked for, and the file format takes it.
func TestGenerate(t *testing.T) {
	now := moment.Of(time.Date(2026, 11, 23, 9, 0, 0, 0, time.UTC))
	size := Size{Guests: 300, Grants: 1500, Partners: 20}
	a := Generate(7, size, now)
	text := string(worldfile.Write(a))
	if text != string(worldfile.Write(Generate(7, size, now))) {
		t.Error("the same seed gives two worlds")
	}
	if text == string(worldfile.Write(Generate(8, size, now))) {
		t.Error("two seeds give one world")
	}
	if len(a.Guests) != 300 || len(a.Grants) != 1500 || len(a.Partners) != 20 || len(a.Spaces) != 15 || len(a.Links) != 60 {
		t.Errorf("%d guests, %d grants, %d partners, %d spaces, %d links", len(a.Guests), len(a.Grants), len(a.Partners), len(a.Spaces),
			len(a.Links))
	}
	if _, err := worldfile.Read([]byte(text), worldfile.Options{Now: now}); err != nil {
		t.Error(err)
	}
	by := map[string]int{}
	for i := range a.Guests {
		by[a.Guests[i].Address.Domain().String()]++
	}
	if by["firm0.example"] < 3*by["firm19.example"]+10 {
		t.Errorf("partners are not skewed: %d and %d guests", by["firm0.example"], by["firm19.example"])
	}
}
