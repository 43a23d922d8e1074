package dated

import (
	"fmt"
	"math/rand/v2"
	"os"
	"slices"
	"strings"
	"testing"
	"time"
	_ "time/tzdata"

	"wexillum.example/internal/core/moment"
)

func at(t *testing.T, s string) moment.Moment {
	t.Helper()
	switch s {
	case "":
		return moment.Always
	case "never":
		return moment.Never
	}
	m, err := moment.Parse(s)
	if err != nil {
		t.Fatal(err)
	}
	return m
}

func told(steps []Step) string {
	var out []string
	for _, s := range steps {
		line := fmt.Sprintf("%s %s %s", s.At, s.Kind, s.Cause)
		if s.After != NoCause {
			line += " after " + s.After.String()
		}
		out = append(out, line)
	}
	return strings.Join(out, "; ")
}

// TestSequence is a table of every cause alone and in pairs, in Lisbon unless another
// zone is named: both changes of clocks, a leap day, the end of a year.
func TestSequence(t *testing.T) {
	none := Values{None, None, None, None, false, false}
	with := func(change func(*Values)) Values {
		v := none
		change(&v)
		return v
	}
	grant := func(from, until, reviewed string) Held {
		return Held{From: at(t, from), Until: at(t, until), Reviewed: at(t, reviewed), Own: true, Review: None}
	}
	reviewed := func(h Held, days int, ends bool) Held {
		h.Review, h.ReviewEnds = days, ends
		return h
	}
	for _, c := range []struct {
		name   string
		change func(*Record)
		held   []Held
		values Values
		ended  string
		zone   string
		want   string
	}{
		{"nothing ends", nil, nil, none, "never", "", ""},
		// Worked example 3: given on 2026-03-01 10:15 for 365 days.
		{"the worked example", nil, []Held{grant("2026-03-01T10:15:00Z", "2027-03-02T00:00:00Z", "")},
			with(func(v *Values) { v.Grace, v.LastGrantSuspends = 30, true }), "never", "",
			"2027-03-02T00:00:00Z grant_ends until; 2027-03-02T00:00:00Z suspended after_last_grant; 2027-03-31T23:00:00Z removed grace after after_last_grant"},
		{"with a second grant", nil, []Held{grant("2026-03-01T10:15:00Z", "2027-03-02T00:00:00Z", ""),
			grant("2026-03-01T10:15:00Z", "2027-05-01T23:00:00Z", "")}, with(func(v *Values) { v.Grace, v.LastGrantSuspends = 30, true }), "never",
			"",
			"2027-03-02T00:00:00Z grant_ends until; 2027-05-01T23:00:00Z grant_ends until; 2027-05-01T23:00:00Z suspended after_last_grant; 2027-05-31T23:00:00Z removed grace after after_last_grant"},
		{"a grant that never ends", nil, []Held{grant("2026-03-01T10:15:00Z", "2027-03-02T00:00:00Z", ""),
			grant("2026-03-01T10:15:00Z", "never", "")}, with(func(v *Values) { v.LastGrantSuspends = true }), "never", "",
			"2027-03-02T00:00:00Z grant_ends until"},
		{"the last grant keeps", nil, []Held{grant("2026-03-01T10:15:00Z", "2027-03-02T00:00:00Z", "")}, none, "never", "",
			"2027-03-02T00:00:00Z grant_ends until"},
		{"a last grant from before the record", func(g *Record) { g.Since = at(t, "2026-06-01T09:00:00Z") },
			[]Held{grant("2026-01-01T00:00:00Z", "2026-02-01T00:00:00Z", "")}, with(func(v *Values) { v.LastGrantSuspends = true }), "never", "",
			"2026-02-01T00:00:00Z grant_ends until; 2026-06-01T09:00:00Z suspended after_last_grant"},
		{"grants through groups count", nil, []Held{{From: moment.Always, Reviewed: moment.Always, Until: moment.Never, Review: None},
			grant("2026-03-01T10:15:00Z", "2027-03-02T00:00:00Z", "")}, with(func(v *Values) { v.LastGrantSuspends = true }), "never", "",
			"2027-03-02T00:00:00Z grant_ends until"},
		{"term over the change of clocks", func(g *Record) { g.Since = at(t, "2026-03-20T23:30:00Z") }, nil,
			with(func(v *Values) { v.Term = 10 }), "never", "", "2026-03-30T23:00:00Z suspended term"},
		{"term over the other change", func(g *Record) { g.Since = at(t, "2026-10-20T22:30:00Z") }, nil, with(func(v *Values) { v.Term = 10 }),
			"never", "", "2026-10-31T00:00:00Z suspended term"},
		{"term over a leap day", func(g *Record) { g.Since = at(t, "2028-02-20T12:00:00Z") }, nil, with(func(v *Values) { v.Term = 9 }), "never",
			"", "2028-03-01T00:00:00Z suspended term"},
		{"term over the end of a year", func(g *Record) { g.Since = at(t, "2026-12-30T12:00:00Z") }, nil,
			with(func(v *Values) { v.Term, v.Grace = 2, 0 }), "never", "",
			"2027-01-02T00:00:00Z suspended term; 2027-01-02T00:00:00Z removed grace after term"},
		{"term of no days", func(g *Record) { g.Since = at(t, "2026-12-30T12:00:00Z") }, nil, with(func(v *Values) { v.Term = 0 }), "never", "",
			"2026-12-31T00:00:00Z suspended term"},
		{"renewed", func(g *Record) {
			g.Since, g.Renewed = at(t, "2026-01-01T12:00:00Z"), at(t, "2026-05-01T12:00:00Z")
		}, nil, with(func(v *Values) { v.Term = 30 }), "never", "", "2026-05-31T23:00:00Z suspended term"},
		{"own until before the term", func(g *Record) {
			g.Since, g.Until = at(t, "2026-01-01T12:00:00Z"), at(t, "2026-01-15T00:00:00Z")
		}, nil, with(func(v *Values) { v.Term, v.Grace = 30, 1 }), "never", "",
			"2026-01-15T00:00:00Z suspended own_until; 2026-01-16T00:00:00Z removed grace after own_until"},
		{"idle since last seen", func(g *Record) { g.LastSeen = at(t, "2026-05-01T12:00:00Z") }, nil, with(func(v *Values) { v.Idle = 90 }),
			"never", "", "2026-07-30T23:00:00Z suspended idle"},
		{"idle from since where nothing later is known", func(g *Record) { g.Since, g.Accepted = at(t, "2026-05-01T12:00:00Z"), moment.Never },
			nil, with(func(v *Values) { v.Idle = 1 }), "never", "", "2026-05-02T23:00:00Z suspended idle"},
		{"idle from when it was brought back", func(g *Record) {
			g.LastSeen, g.StateSince = at(t, "2026-01-01T12:00:00Z"), at(t, "2026-05-01T12:00:00Z")
		}, nil, with(func(v *Values) { v.Idle = 1 }), "never", "", "2026-05-02T23:00:00Z suspended idle"},
		{"idle and term, the earlier is named", func(g *Record) {
			g.Since, g.Accepted, g.LastSeen = at(t, "2026-05-01T12:00:00Z"), at(t, "2026-05-01T12:00:00Z"), at(t, "2026-05-02T12:00:00Z")
		}, nil, with(func(v *Values) { v.Idle, v.Term = 1, 1 }), "never", "", "2026-05-02T23:00:00Z suspended term"},
		{"invited and never idle", func(g *Record) {
			g.State, g.Accepted, g.Since = Invited, moment.Never, at(t, "2026-05-01T12:00:00Z")
		}, nil, with(func(v *Values) { v.Idle, v.Invite = 1, 14 }), "never", "", "2026-05-15T23:00:00Z invitation_lapses invite_days"},
		{"suspended by hand", func(g *Record) { g.State, g.StateSince = IsSuspended, at(t, "2026-05-01T12:00:00Z") }, nil,
			with(func(v *Values) { v.Grace, v.Term = 30, 1 }), "never", "", "2026-05-31T23:00:00Z removed grace after by_hand"},
		{"the partner ended", nil, nil, with(func(v *Values) { v.Grace = 0 }), "2026-05-01T12:00:00Z", "",
			"2026-05-01T12:00:00Z suspended partner_ended; 2026-05-01T23:00:00Z removed grace after partner_ended"},
		{"fed alone knows only its feed", func(g *Record) { g.State, g.Since = Fed, at(t, "2026-01-01T12:00:00Z") },
			[]Held{grant("2026-01-01T00:00:00Z", "2026-02-01T00:00:00Z", "")}, with(func(v *Values) { v.Term, v.LastGrantSuspends = 1, true }),
			"2026-01-05T00:00:00Z", "", "2026-02-01T00:00:00Z grant_ends until"},
		{"a review that is not answered", nil, []Held{reviewed(grant("2026-03-01T10:15:00Z", "never", ""), 10, true)},
			with(func(v *Values) { v.LastGrantSuspends = true }), "never", "",
			"2026-03-12T00:00:00Z review_due review_days; 2026-03-26T00:00:00Z grant_ends review_silence; 2026-03-26T00:00:00Z suspended after_last_grant"},
		{"a review that may stay unanswered", nil, []Held{reviewed(grant("2026-03-01T10:15:00Z", "never", "2026-03-05T10:15:00Z"), 10, false)},
			none, "never", "", "2026-03-16T00:00:00Z review_due review_days"},
		{"no review without a beginning", nil, []Held{reviewed(grant("", "never", ""), 10, true)}, none, "never", "", ""},
		{"the sponsor left", func(g *Record) { g.SponsorLeft = at(t, "2026-05-01T12:00:00Z") }, nil,
			with(func(v *Values) { v.SponsorRequired, v.Grace = true, 1 }), "never", "",
			"2026-05-15T23:00:00Z suspended sponsor_left; 2026-05-16T23:00:00Z removed grace after sponsor_left"},
		{"the sponsor left with the end of a day", func(g *Record) { g.SponsorLeft = at(t, "2026-04-30T23:00:00Z") }, nil,
			with(func(v *Values) { v.SponsorRequired = true }), "never", "", "2026-05-14T23:00:00Z suspended sponsor_left"},
		{"the sponsor left where none is needed", func(g *Record) { g.SponsorLeft = at(t, "2026-05-01T12:00:00Z") }, nil, none, "never", "", ""},
		{"fed alone, and closed by its feed", func(g *Record) {
			g.State, g.Since, g.HomeClosed = Fed, at(t, "2026-01-01T12:00:00Z"), at(t, "2026-05-01T12:00:00Z")
		}, nil, with(func(v *Values) { v.Term, v.Grace = 1, 0 }), "2026-01-05T00:00:00Z", "",
			"2026-05-01T12:00:00Z suspended home_closed; 2026-05-01T23:00:00Z removed grace after home_closed"},
		{"the home account was closed", func(g *Record) { g.HomeClosed = at(t, "2026-05-01T12:00:00Z") }, nil,
			with(func(v *Values) { v.Grace = 0 }), "never", "",
			"2026-05-01T12:00:00Z suspended home_closed; 2026-05-01T23:00:00Z removed grace after home_closed"},
		{"home account and term, the earlier is named", func(g *Record) {
			g.HomeClosed, g.Since = at(t, "2026-05-03T12:00:00Z"), at(t, "2026-05-01T12:00:00Z")
		}, nil, with(func(v *Values) { v.Term = 1 }), "never", "", "2026-05-02T23:00:00Z suspended term"},
		{"a shorter term that was over before it came", func(g *Record) {
			g.Since, g.Floor = at(t, "2026-01-01T12:00:00Z"), at(t, "2026-06-10T09:00:00Z")
		}, nil, with(func(v *Values) { v.Term, v.Grace = 30, 5 }), "never", "",
			"2026-06-10T09:00:00Z suspended term; 2026-06-15T23:00:00Z removed grace after term"},
		{"shorter grace that was over before it came", func(g *Record) {
			g.State, g.StateSince, g.Suspension, g.Floor = IsSuspended, at(t, "2026-01-01T12:00:00Z"), ByIdle, at(t, "2026-06-10T09:00:00Z")
		}, nil, with(func(v *Values) { v.Grace = 5 }), "never", "", "2026-06-10T09:00:00Z removed grace after idle"},
		{"in another zone", func(g *Record) { g.Since = at(t, "2026-05-01T02:00:00Z") }, nil, with(func(v *Values) { v.Term = 1 }), "never",
			"America/New_York", "2026-05-02T04:00:00Z suspended term"},
	} {
		zone := "Europe/Lisbon"
		if c.zone != "" {
			zone = c.zone
		}
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		g := &Record{Since: moment.Always, Accepted: moment.Always, Renewed: moment.Always, Until: moment.Never, LastSeen: moment.Always,
			StateSince:  moment.Always,
			SponsorLeft: moment.Never, HomeClosed: moment.Never, PartnerEnded: at(t, c.ended), Held: c.held, Values: c.values,
			Calendar: moment.NewCalendar(loc), Floor: moment.Always, Forward: moment.Always}
		if c.change != nil {
			c.change(g)
		}
		steps := g.Sequence()
		if got := told(steps); got != c.want {
			t.Errorf("%s:\n%s\nwant\n%s", c.name, got, c.want)
		}
	}
}

// TestPairs tries every two causes of a suspension together, the one before the other and
// the other way round: the earlier happens and is named, and grace counts from it.
func TestPairs(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	cal := moment.NewCalendar(zone)
	day := func(d int) moment.Moment {
		return cal.Start(moment.DayOf(at(t, "2026-10-01T12:00:00Z"), zone) + moment.Day(d))
	}
	// Each lets its cause happen at the start of a day. What two of them share, they share
	// as one record does: since is on day 0.
	causes := map[Cause]func(r *Record, d int){
		ByLastGrant: func(r *Record, d int) {
			r.Held = []Held{{From: day(0), Until: day(d), Reviewed: moment.Always, Own: true, Review: None}}
			r.Values.LastGrantSuspends = true
		},
		ByTerm:       func(r *Record, d int) { r.Values.Term = d - 1 },
		ByOwnUntil:   func(r *Record, d int) { r.Until = day(d) },
		ByIdle:       func(r *Record, d int) { r.Values.Idle = d - 1 },
		BySponsor:    func(r *Record, d int) { r.SponsorLeft, r.Values.SponsorRequired = day(d-SponsorDays), true },
		ByHomeClosed: func(r *Record, d int) { r.HomeClosed = day(d) },
		ByPartner:    func(r *Record, d int) { r.PartnerEnded = day(d) },
	}
	tried := 0
	for a, first := range causes {
		for b, second := range causes {
			if a == b {
				continue
			}
			for _, days := range [][2]int{{20, 21}, {25, 40}, {89, 152}} { // over one change of clocks, over both, over the year's end
				r := &Record{Since: day(0), Accepted: moment.Always, Renewed: moment.Always, Until: moment.Never, LastSeen: moment.Always,
					StateSince:  moment.Always,
					SponsorLeft: moment.Never, HomeClosed: moment.Never, PartnerEnded: moment.Never, Values: Values{None, None, None, 30, false, false},
					Calendar: cal, Floor: moment.Always, Forward: moment.Always}
				second(r, days[1])
				first(r, days[0])
				got, cause := Out(r.Sequence())
				if got != day(days[0]) || cause != a {
					t.Errorf("%s on day %d and %s on day %d: %s at %s, want day %s", a, days[0], b, days[1], cause, got, day(days[0]))
				}
				steps := r.Sequence()
				if last := steps[len(steps)-1]; last.Kind != Removed || last.After != a || last.At != day(days[0]+30) {
					t.Errorf("%s before %s: removed %s after %s, want %s", a, b, last.At, last.After, day(days[0]+30))
				}
				tried++
			}
		}
	}
	if tried != 7*6*3 {
		t.Errorf("%d pairs", tried)
	}
}

// TestQuick holds counting against whole sequences: for records of every kind, up to every
// horizon, over changes of clocks and over the day that Samoa left out.
func TestQuick(t *testing.T) {
	r := rand.New(rand.NewPCG(7, 7))
	for zone, around := range map[string]string{"Europe/Lisbon": "2026-10-20T12:00:00Z", "America/New_York": "2028-02-27T12:00:00Z",
		"Pacific/Apia": "2011-12-20T12:00:00Z"} {
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		cal, now := moment.NewCalendar(loc), at(t, around)
		near := func(past, ahead int, absent moment.Moment) moment.Moment {
			if r.IntN(4) == 0 {
				return absent
			}
			m := now + moment.Moment(r.IntN(past+ahead)-past)*86400e6 + moment.Moment(r.IntN(86400))*1e6
			if r.IntN(2) == 0 {
				m = cal.Start(cal.DayOf(m))
			}
			return m
		}
		days := func(n int) int {
			if r.IntN(3) == 0 {
				return None
			}
			return 1 + r.IntN(n)
		}
		told := func(steps []Step, until moment.Moment) string {
			var out []string
			for _, st := range steps {
				if st.At < until {
					out = append(out, fmt.Sprint(st.At, st.Kind, st.Cause, st.After))
				}
			}
			slices.Sort(out)
			return strings.Join(out, "\n")
		}
		found := 0
		for range 20_000 {
			x := &Record{State: State(r.IntN(4)), Since: near(60, 0, moment.Always), Accepted: near(40, 0, moment.Never),
				Renewed: near(30, 0, moment.Always), Until: near(20, 60, moment.Never), LastSeen: near(40, 0, moment.Always),
				StateSince: near(20, 0, moment.Always), SponsorLeft: near(20, 5, moment.Never), HomeClosed: near(5, 60, moment.Never),
				PartnerEnded: near(5, 60, moment.Never), Suspension: ByHand, Calendar: cal, Floor: near(3, 1, moment.Always), Forward: moment.Always,
				Values: Values{Term: days(90), Idle: days(60), Invite: days(20), Grace: days(40), LastGrantSuspends: r.IntN(2) == 0,
					SponsorRequired: r.IntN(2) == 0}}
			for range r.IntN(4) {
				x.Held = append(x.Held, Held{From: near(60, 20, moment.Always), Until: near(20, 60, moment.Never), Reviewed: near(30, 0, moment.Always),
					Review: days(60), Own: r.IntN(4) > 0, ReviewEnds: r.IntN(2) == 0})
			}
			if r.IntN(2) == 0 {
				x.Now = near(40, 40, 0)
			}
			x.Horizon = now + 400*86400e6
			want := slices.Clone(x.Sequence())
			until := now + moment.Moment(r.IntN(90*86400))*1e6
			x.Horizon = until
			var q Quick
			q.Begin(x)
			for i := range x.Held {
				q.Grant(&x.Held[i])
			}
			got, whole := told(q.Done(), until), told(want, until)
			if got != whole {
				t.Fatalf("%s, %+v, up to %s:\n%s\nwant\n%s", zone, x, until, got, whole)
			}
			found += strings.Count(whole, "\n")
		}
		if found < 10_000 {
			t.Errorf("%s: %d steps: too few to tell", zone, found)
		}
	}
}

// TestExampleOfTheDocs computes the example that the docs of the package show, and looks it up in them.
func TestExampleOfTheDocs(t *testing.T) {
	zone, err := time.LoadLocation("Europe/Lisbon")
	if err != nil {
		t.Fatal(err)
	}
	r := Record{Since: at(t, "2026-03-01T10:15:00Z"), Accepted: at(t, "2026-03-01T10:15:00Z"), Renewed: moment.Always, Until: moment.Never,
		LastSeen: moment.Always, StateSince: moment.Always, SponsorLeft: moment.Never, HomeClosed: moment.Never, PartnerEnded: moment.Never,
		Floor: moment.Always, Forward: moment.Always, Calendar: moment.NewCalendar(zone),
		Values: Values{Term: 90, Idle: None, Invite: None, Grace: 30, LastGrantSuspends: true},
		Held:   []Held{{From: at(t, "2026-03-01T10:15:00Z"), Until: at(t, "2026-05-15T23:00:00Z"), Reviewed: moment.Always, Review: 60, Own: true}}}
	says := map[Kind]string{ReviewDue: "the grant is due for review      (60 days after it began)", GrantEnds: "the grant ends                   (its own end)",
		Suspended: "the record is suspended          (after its last grant)", Removed: "the record is removed            (30 days of grace)"}
	causes := map[Kind]Cause{ReviewDue: ByReviewNeeded, GrantEnds: ByUntil, Suspended: ByLastGrant, Removed: ByGrace}
	docs, err := os.ReadFile("dated.go")
	if err != nil {
		t.Fatal(err)
	}
	var want []string
	for _, st := range r.Sequence() {
		// An end at midnight is told by the day that still holds.
		want = append(want, "//\t"+(st.At-1).Time().In(zone).Format("_2 Jan")+"    "+says[st.Kind])
		if st.Cause != causes[st.Kind] {
			t.Errorf("%s because of %s", st.Kind, st.Cause)
		}
	}
	if len(want) != 4 || !strings.Contains(string(docs), strings.Join(want, "\n")) {
		t.Errorf("the docs do not show\n%s", strings.Join(want, "\n"))
	}
}
