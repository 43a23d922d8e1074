package moment

import (
	"testing"
	"time"
)

// TestCalendar compares a calendar with the slow way, at the edges of days in zones whose
// clocks do odd things: one skipped a whole date.
func TestCalendar(t *testing.T) {
	for _, name := range []string{"UTC", "Europe/Lisbon", "America/New_York", "Pacific/Apia", "Asia/Kathmandu", "Pacific/Kiritimati"} {
		loc := zone(t, name)
		c := NewCalendar(loc)
		for _, year := range []int{1969, 1970, 1992, 2011, 2012, 2026, 2028, 2119, 2121} {
			for d := dayOfDate(year, time.January, 1); d < dayOfDate(year+1, time.January, 2); d++ {
				start := d.Start(loc)
				if got := c.Start(d); got != start {
					t.Fatalf("%s: %s begins at %s, not at %s", name, d, got, start)
				}
				for _, m := range []Moment{start - 1, start, start + 1, start + 43200e6} {
					if got, want := c.DayOf(m), DayOf(m, loc); got != want {
						t.Fatalf("%s: %s is on %s, not on %s", name, m, want, got)
					}
					if got, want := c.CountedOnFrom(m), CountedOnFrom(m, loc); got != want {
						t.Fatalf("%s: counted on from %s: %s, not %s", name, m, want, got)
					}
				}
			}
		}
	}
}
