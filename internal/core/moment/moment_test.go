package moment

import (
	"testing"
	"time"
	_ "time/tzdata"
)

func zone(t *testing.T, name string) *time.Location {
	t.Helper()
	l, err := time.LoadLocation(name)
	if err != nil {
		t.Fatal(err)
	}
	return l
}

func at(t *testing.T, s string) Moment {
	t.Helper()
	m, err := Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func TestStartOfDay(t *testing.T) {
	for _, c := range []struct{ zone, day, want string }{
		{"Europe/Lisbon", "2026-11-23", "2026-11-23T00:00:00Z"},
		{"Europe/Lisbon", "2026-07-01", "2026-06-30T23:00:00Z"},
		{"Europe/Lisbon", "2026-03-29", "2026-03-29T00:00:00Z"}, // clocks go forward at 01:00
		{"Europe/Lisbon", "2026-03-30", "2026-03-29T23:00:00Z"},
		{"Europe/Lisbon", "2026-10-25", "2026-10-24T23:00:00Z"}, // and back at 02:00
		{"Europe/Lisbon", "2028-02-29", "2028-02-29T00:00:00Z"},
		{"Asia/Kathmandu", "2026-01-01", "2025-12-31T18:15:00Z"},
		{"Pacific/Kiritimati", "2026-01-01", "2025-12-31T10:00:00Z"},
		{"Pacific/Pago_Pago", "2026-01-01", "2026-01-01T11:00:00Z"},
		{"America/Sao_Paulo", "2018-11-04", "2018-11-04T03:00:00Z"}, // midnight is skipped: the day begins at 01:00
		{"America/Sao_Paulo", "2018-02-18", "2018-02-18T03:00:00Z"}, // back at midnight: 23:00 comes twice, the 18th begins after
		{"America/Havana", "2026-11-01", "2026-11-01T04:00:00Z"},    // back at 01:00: 00:00 comes twice, the first counts
		{"Pacific/Apia", "2011-12-30", "2011-12-30T10:00:00Z"},      // a date that never was: the first instant behind it
		{"Pacific/Apia", "2011-12-31", "2011-12-30T10:00:00Z"},
	} {
		d, err := ParseDay(c.day)
		if err != nil {
			t.Fatal(err)
		}
		l := zone(t, c.zone)
		m := d.Start(l)
		if m.String() != c.want {
			t.Errorf("%s in %s begins at %s, want %s", c.day, c.zone, m, c.want)
		}
		if DayOf(m, l) < d || DayOf(m-1, l) >= d {
			t.Errorf("%s in %s: the moment before its start is not before it", c.day, c.zone)
		}
	}
}

// TestEveryStart compares starts of days with stepping through them minute by
// minute, in zones whose clocks do odd things.
func TestEveryStart(t *testing.T) {
	for _, name := range []string{"Europe/Lisbon", "America/Sao_Paulo", "America/Havana", "Australia/Lord_Howe", "Africa/Cairo",
		"America/St_Johns", "Pacific/Apia"} {
		l := zone(t, name)
		first, _ := ParseDay("2010-01-01")
		m := first.Start(l)
		for d := first; d < first+1200; d++ {
			for DayOf(m, l) < d {
				m += 60e6
			}
			if d.Start(l) != m {
				t.Fatalf("%s: %s begins at %s, stepping finds %s", name, d, d.Start(l), m)
			}
		}
	}
}

func TestEndOfDays(t *testing.T) {
	l := zone(t, "Europe/Lisbon")
	// Worked example 3: 365 days given on 2026-03-01 10:15 end with 2027-03-01.
	end := EndOfDays(DayOf(at(t, "2026-03-01T10:15:00Z"), l), 365, l)
	if end.String() != "2027-03-02T00:00:00Z" {
		t.Errorf("365 days end at %s", end)
	}
	// 30 days of grace behind it: removed with the end of 2027-03-31.
	if grace := EndOfDays(CountedOnFrom(end, l), 30, l); grace.String() != "2027-03-31T23:00:00Z" {
		t.Errorf("grace ends at %s", grace) // summer time has begun: the 31st ends at 23:00Z
	}
	if d := CountedOnFrom(end+1, l); d.String() != "2027-03-02" {
		t.Errorf("an end inside a day counts from that day, not %s", d)
	}
	if d := DayOf(end, l); d.String() != "2027-03-02" {
		t.Errorf("a start at midnight counts from its own day, not %s", d)
	}
}

func TestParseLoose(t *testing.T) {
	l, now := zone(t, "Europe/Lisbon"), at(t, "2026-07-01T23:30:00Z") // already the 2nd in Lisbon
	for _, c := range []struct{ in, want string }{
		{"now", "2026-07-01T23:30:00Z"}, {"+0d", "2026-07-01T23:00:00Z"}, {"+3d", "2026-07-04T23:00:00Z"}, {"-1d", "2026-06-30T23:00:00Z"},
		{"2026-12-01", "2026-12-01T00:00:00Z"}, {"2026-12-01T09:00:00.000001+01:00", "2026-12-01T08:00:00.000001Z"},
		{"2026-12-01T09:00", "2026-12-01T09:00:00Z"}, {"2026-07-05T09:00", "2026-07-05T08:00:00Z"}, {"2027-03-28T01:30", ""},
		{"2026-12-01T25:00", ""},
		{"", ""}, {"tomorrow", ""}, {"2026-13-01", ""}, {"2026-02-30", ""}, {"2026-12-01T09:00:00", ""}, {"+d", ""}, {"+99999d", ""},
		{"+3.5d", ""}, {"2026-12-01T09:00:00.0000001Z", ""}, {"0000-01-01T00:00:00Z", ""},
	} {
		m, err := ParseLoose(c.in, now, l)
		if c.want == "" && err == nil || c.want != "" && (err != nil || m.String() != c.want) {
			t.Errorf("%q: %s, %v; want %q", c.in, m, err, c.want)
		}
	}
}
