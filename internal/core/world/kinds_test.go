package world

import (
	"reflect"
	"testing"
)

// TestMergeKeepsEveryKind lays a world with one entry of every kind over an empty one and over
// itself: no kind is lost and none doubled.
func TestMergeKeepsEveryKind(t *testing.T) {
	part := &World{}
	lists := map[string]bool{}
	for _, v := range []reflect.Value{reflect.ValueOf(&part.Policy).Elem(), reflect.ValueOf(&part.Inventory).Elem()} {
		for i := range v.NumField() {
			if f := v.Field(i); f.Kind() == reflect.Slice {
				f.Set(reflect.Append(f, reflect.Zero(f.Type().Elem())))
				lists[v.Type().Field(i).Name] = true
			}
		}
	}
	if len(lists) < 19 {
		t.Fatalf("only %d kinds were found", len(lists))
	}
	for _, out := range []*World{Merge(&World{}, part), Merge(part, &World{}), Merge(part, part)} {
		for name := range lists {
			if n := reflect.ValueOf(out).Elem().FieldByName(name).Len(); n != 1 {
				t.Errorf("%d of %s are left of one", n, name)
			}
		}
	}
}
