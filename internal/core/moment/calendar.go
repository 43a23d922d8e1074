package moment

import "time"

// Calendar knows when every local day of a zone begins, so that millions of
// days can be counted. It is immutable.
type Calendar struct {
	zone   *time.Location
	starts []Moment // of calendarFrom and the days after it
}

// The days that a Calendar has at hand: 1970-01-01 to 2119-12-31. Others are
// found slowly. Thirty years beyond any term that is given today; 430 kB a
// zone.
const (
	calendarFrom Day = 0
	calendarDays int = 54786
)

// NewCalendar returns the calendar of a zone. It takes some ten milliseconds.
func NewCalendar(zone *time.Location) *Calendar {
	c := &Calendar{zone: zone, starts: make([]Moment, calendarDays+1)}
	for i := range c.starts {
		c.starts[i] = (calendarFrom + Day(i)).Start(zone)
	}
	return c
}

// Zone returns the zone.
func (c *Calendar) Zone() *time.Location { return c.zone }

// Start returns the first instant whose local date is d.
func (c *Calendar) Start(d Day) Moment {
	if i := int(d - calendarFrom); i >= 0 && i < len(c.starts) {
		return c.starts[i]
	}
	return d.Start(c.zone)
}

// DayOf returns the local date of m. It is a division and at most two steps,
// where package time searches the zone's table.
func (c *Calendar) DayOf(m Moment) Day {
	const day = 86400 * 1e6
	if m < c.starts[2] || m >= c.starts[len(c.starts)-3] {
		return DayOf(m, c.zone)
	}
	i := int(m/day) - int(calendarFrom) // off by two at most: no offset from UTC exceeds 26 hours
	for c.starts[i] > m {
		i--
	}
	for c.starts[i+1] <= m {
		i++
	}
	return calendarFrom + Day(i)
}

// EndOfDays is EndOfDays in the calendar's zone.
func (c *Calendar) EndOfDays(d Day, n int) Moment { return c.Start(d + Day(n) + 1) }

// CountedOnFrom is CountedOnFrom in the calendar's zone.
func (c *Calendar) CountedOnFrom(end Moment) Day {
	d := c.DayOf(end)
	if c.Start(d) == end {
		return d - 1
	}
	return d
}
