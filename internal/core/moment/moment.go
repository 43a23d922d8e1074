// Package moment holds moments, local days and the arithmetic between them.
//
// It is the one place where a number of days becomes a moment. It reads no
// clock and no time-zone file: callers pass the moment and the location.
//
// Three rules hold everywhere (model §5):
//
//   - A moment is a microsecond. Intervals hold their beginning and not their
//     end, so that one may begin where another ends.
//   - A day is a day of the organisation's time zone and ends at its midnight,
//     whatever clocks do there: in March it may have 23 hours.
//   - N days from a moment are counted from its local day, and the last of them
//     still holds as a whole: seven days given on a Monday at noon end with the
//     next Monday, at midnight.
//
// An absent beginning is Always and an absent end Never. Both compare as the
// earliest and latest moments there are, and are never counted from.
package moment

import (
	"fmt"
	"math"
	"strings"
	"time"
)

// Moment is a point in time: microseconds since 1970-01-01T00:00:00Z, leap
// seconds not counted. Moments compare with <. That reaches some 292,000 years
// to both sides.
type Moment int64

// Always lies before every moment that can be written, Never after it: an
// absent beginning and an absent end.
const (
	Always Moment = math.MinInt64
	Never  Moment = math.MaxInt64
)

// Of returns the moment of t, cut to the microsecond. The rest of a microsecond
// is lost, as databases lose it.
func Of(t time.Time) Moment { return Moment(t.UnixMicro()) }

// Time returns m in UTC.
func (m Moment) Time() time.Time { return time.UnixMicro(int64(m)).UTC() }

// IsSet reports whether m is a moment and not an absent beginning or end.
func (m Moment) IsSet() bool { return m != Always && m != Never }

// String writes m as RFC 3339 has it, in UTC, with a fraction where there is
// one.
func (m Moment) String() string {
	switch m {
	case Always:
		return "always"
	case Never:
		return "never"
	}
	return m.Time().Format(time.RFC3339Nano) // a moment has no more than microseconds, and this layout is written faster than others
}

// Within reports whether at lies in the half-open interval [from, until).
func Within(at, from, until Moment) bool { return from <= at && at < until }

// Day is a civil date: days since 1970-01-01 in the proleptic Gregorian
// calendar.
type Day int32

// DayOf returns the local date of m in loc.
func DayOf(m Moment, loc *time.Location) Day {
	y, mo, d := m.Time().In(loc).Date()
	return dayOfDate(y, mo, d)
}

// dayOfDate counts the days up to a civil date.
func dayOfDate(y int, mo time.Month, d int) Day {
	return Day(time.Date(y, mo, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// Date returns the civil date of d.
func (d Day) Date() (int, time.Month, int) { return time.Unix(int64(d)*86400, 0).UTC().Date() }

// String writes d as YYYY-MM-DD.
func (d Day) String() string {
	y, m, n := d.Date()
	return fmt.Sprintf("%04d-%02d-%02d", y, m, n)
}

// ParseDay reads YYYY-MM-DD.
func ParseDay(s string) (Day, error) {
	t, err := time.Parse("2006-01-02", s)
	if err != nil {
		return 0, fmt.Errorf("%q is no date: write YYYY-MM-DD", s)
	}
	y, m, d := t.Date()
	return dayOfDate(y, m, d), nil
}

// Start returns the first instant whose local date in loc is d. Where the
// clocks skip the whole date, it is the first instant of a later one.
//
// A day need not begin at midnight: some zones put the clock forward at that
// hour, and Samoa left out a whole day in 2011.
func (d Day) Start(loc *time.Location) Moment {
	// No offset from UTC exceeds 26 hours, so the day begins inside this
	// window.
	utc := int64(d) * 86400
	t := time.Unix(utc-26*3600, 0).In(loc)
	limit := utc + 50*3600
	for {
		_, offset := t.Zone()
		_, end := t.ZoneBounds()
		if !end.IsZero() && !end.After(t) { // package time says so of the last day of a leap year behind its table
			end = t.Add(time.Hour)
		}
		start := utc - int64(offset)
		if s := t.Unix(); start < s {
			start = s
		}
		if end.IsZero() || start < end.Unix() {
			return Moment(start * 1e6)
		}
		if end.Unix() > limit {
			return Moment(end.Unix() * 1e6)
		}
		t = end
	}
}

// EndOfDays returns the moment at which n days given on local day d are over:
// the start of day d+n+1, so that the whole nth day still holds.
func EndOfDays(d Day, n int, loc *time.Location) Moment { return (d + Day(n) + 1).Start(loc) }

// CountedOnFrom returns the local day from which days behind an end are
// counted: an end exactly at the start of a day belongs to the day before.
func CountedOnFrom(end Moment, loc *time.Location) Day {
	d := DayOf(end, loc)
	if d.Start(loc) == end {
		return d - 1
	}
	return d
}

// Parse reads a moment with an offset (RFC 3339 §5.6), with up to six digits of
// a second.
func Parse(s string) (Moment, error) {
	t, err := time.Parse(time.RFC3339Nano, s)
	if err != nil {
		return 0, fmt.Errorf("%q is no moment: write 2026-11-23T09:00:00Z, with an offset", s)
	}
	if t.Nanosecond()%1000 != 0 {
		return 0, fmt.Errorf("%q is finer than a microsecond", s)
	}
	if y := t.UTC().Year(); y < 1 || y > 9998 {
		return 0, fmt.Errorf("%q lies outside the years 1 to 9998", s)
	}
	return Of(t), nil
}

// ParseLoose reads what people type for a moment: RFC 3339, a date (the start
// of that local day), a date and an hour (2026-12-01T09:00, in loc), +3d or -1d
// (the start of the local day so many days from now), or now.
//
// It is for flags and forms; files and the API take RFC 3339 alone.
func ParseLoose(s string, now Moment, loc *time.Location) (Moment, error) {
	d, ok, err := ParseDate(s, now, loc)
	switch {
	case s == "now":
		return now, nil
	case err != nil:
		return 0, err
	case ok:
		return d.Start(loc), nil
	}
	m, err := Parse(s)
	if err != nil && len(s) == len(localHour) {
		if t, wrong := time.ParseInLocation(localHour, s, loc); wrong == nil {
			if t.Format(localHour) != s {
				return 0, fmt.Errorf("%q does not come in %s: the clock is put forward over it", s, loc)
			}
			return Of(t), nil
		}
	}
	if err != nil {
		return 0, fmt.Errorf(
			"%q is no moment: write a date as 2026-12-01, a moment as 2026-12-01T09:00:00Z or, in the organisation's time zone, 2026-12-01T09:00, or days from today as +3d",
			s,
		)
	}
	return m, nil
}

// localHour is how a date and an hour are typed, without a zone.
const localHour = "2006-01-02T15:04"

// ParseEnd reads what people type for an end: like ParseLoose, but a date,
// plain or relative, is the end of that local day.
func ParseEnd(s string, now Moment, loc *time.Location) (Moment, error) {
	if d, ok, err := ParseDate(s, now, loc); err == nil && ok {
		return (d + 1).Start(loc), nil
	}
	return ParseLoose(s, now, loc)
}

// ParseDate reads a plain date or one relative to the local day of now (+3d,
// -1d); ok is false where s is written as neither. An error says what is wrong
// with something that was meant as a date.
func ParseDate(s string, now Moment, loc *time.Location) (d Day, ok bool, err error) {
	if n := len(s); n >= 3 && (s[0] == '+' || s[0] == '-') && s[n-1] == 'd' {
		days := 0
		for _, c := range s[1 : n-1] {
			if days = days*10 + int(c-'0'); c < '0' || c > '9' || days > 36500 {
				return 0, false, fmt.Errorf("%q is no number of days: write +3d or -1d, at most 36500", s)
			}
		}
		if s[0] == '-' {
			days = -days
		}
		return DayOf(now, loc) + Day(days), true, nil
	}
	if len(s) == 10 && strings.Count(s, "-") == 2 {
		d, err := ParseDay(s)
		return d, err == nil, err
	}
	return 0, false, nil
}
