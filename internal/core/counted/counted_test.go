package counted

import "testing"

func TestOf(t *testing.T) {
	for n, want := range map[int]string{-1: "-1 guests", 0: "0 guests", 1: "1 guest", 2: "2 guests", 4113: "4113 guests"} {
		if got := Of(n, "guest", "guests"); got != want {
			t.Errorf("%s, want %s", got, want)
		}
	}
}
