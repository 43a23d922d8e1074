package dated

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"
	"time"

	"wexillum.example/internal/core/moment"
)

// slow walks through time and asks at every moment that could matter what model §5 says has
// come by then. It shares nothing with the package but its types: days are counted on the
// dates that a clock on the wall shows.
type slow struct {
	loc    *time.Location
	starts []moment.Moment // of local days, in order: the first instants of their dates
}

// walk makes ready to walk from one day to another.
func walk(loc *time.Location, from, until time.Time) *slow {
	s := &slow{loc: loc}
	last := s.day(moment.Of(from))
	for at := from.Truncate(time.Minute); at.Before(until); at = at.Add(time.Minute) {
		if d := s.day(moment.Of(at)); d > last {
			last = d
			s.starts = append(s.starts, moment.Of(at))
		}
	}
	return s
}

// day numbers the date that the wall shows.
func (s *slow) day(m moment.Moment) int {
	y, month, d := m.Time().In(s.loc).Date()
	return int(time.Date(y, month, d, 0, 0, 0, 0, time.UTC).Unix() / 86400)
}

// over reports whether n days, given on the day of a start, are over.
func (s *slow) over(start moment.Moment, n int, now moment.Moment) bool {
	return n != None && start != moment.Always && start != moment.Never && start <= now && s.day(now) > s.day(start)+n
}

// overSince does the same from an end: one at the first instant of a date belongs to the
// date before, which need not be one that the wall ever showed.
func (s *slow) overSince(end moment.Moment, n int, now moment.Moment) bool {
	if n == None || end == moment.Never || end > now {
		return false
	}
	d := s.day(end)
	if s.day(end-1) < d {
		d--
	}
	return s.day(now) > d+n
}

// slowStep is a step with all the causes that have come at its moment.
type slowStep struct {
	at     moment.Moment
	kind   Kind
	held   int
	causes []Cause
}

func (s *slow) steps(r *Record) (out []slowStep) {
	moments := slices.Clone(s.starts)
	add := func(ms ...moment.Moment) {
		for _, m := range ms {
			if m != moment.Always && m != moment.Never {
				moments = append(moments, m)
			}
		}
	}
	add(r.Since, r.Until, r.StateSince, r.HomeClosed, r.PartnerEnded, r.Floor, r.Forward)
	for _, k := range r.Kinds {
		add(k)
	}
	for i := range r.Held {
		add(r.Held[i].Until)
	}
	slices.Sort(moments)
	type given struct {
		due      moment.Moment
		asked    bool
		over     bool
		answered moment.Moment // by silence that keeps the grant
	}
	grants := make([]given, len(r.Held))
	for i := range grants {
		grants[i].answered = moment.Always
	}
	suspended := moment.Never
	if r.State == IsSuspended && r.StateSince != moment.Always {
		suspended = r.StateSince
	}
	for k, now := range moments {
		if k > 0 && moments[k-1] == now {
			continue
		}
		may := func(c Cause) bool { return now >= r.Floor && now >= r.Kinds[c] } // a counted step waits for its floor
		left := 0
		for i := range r.Held {
			h, g := &r.Held[i], &grants[i]
			if !g.over {
				if !h.ReviewEnds && g.asked && s.overSince(g.due, ReviewAnswer, now) { // silence that keeps it is an answer
					g.asked, g.answered = false, now
				}
				begins := max(h.From, h.Reviewed, g.answered)
				isDue := !g.asked && h.Review != None && s.over(begins, h.Review, now)
				if isDue {
					g.asked, g.due = true, now
				}
				switch {
				case h.Until <= now:
					g.over = true
					if h.Own {
						out = append(out, slowStep{now, GrantEnds, i, []Cause{ByUntil}})
					}
				case h.ReviewEnds && g.asked && s.overSince(g.due, ReviewAnswer, now) && may(ByReview):
					g.over = true
					if h.Own {
						out = append(out, slowStep{now, GrantEnds, i, []Cause{ByReview}})
					}
				case isDue && h.Own:
					out = append(out, slowStep{now, ReviewDue, i, []Cause{ByReviewNeeded}})
				}
			}
			if !g.over {
				left++
			}
		}
		if r.State == Invited && r.Since <= now {
			var causes []Cause
			if r.Until <= now {
				causes = append(causes, ByOwnUntil)
			}
			if s.over(r.Since, r.Values.Invite, now) && may(ByInviteDays) {
				causes = append(causes, ByInviteDays)
			}
			if len(causes) > 0 {
				return append(out, slowStep{now, Invitation, -1, causes})
			}
		}
		if r.State == Fed && suspended == moment.Never && r.Since <= now && r.HomeClosed <= now && r.Forward <= now {
			suspended = now
			out = append(out, slowStep{now, Suspended, -1, []Cause{ByHomeClosed}})
		}
		if r.State == Active && suspended == moment.Never && r.Since <= now {
			var causes []Cause
			is := func(c Cause, yes bool) {
				if yes && (!c.IsCounted() || may(c)) {
					causes = append(causes, c)
				}
			}
			seen := max(r.LastSeen, r.Since, r.StateSince)
			if r.Accepted != moment.Never {
				seen = max(seen, r.Accepted)
			}
			is(ByOwnUntil, r.Until <= now)
			is(ByTerm, s.over(max(r.Since, r.Renewed), r.Values.Term, now))
			is(ByIdle, s.over(seen, r.Values.Idle, now))
			is(BySponsor, r.Values.SponsorRequired && s.overSince(r.SponsorLeft, SponsorDays, now))
			is(ByHomeClosed, r.HomeClosed <= now && r.Forward <= now)
			is(ByPartner, r.PartnerEnded <= now && r.Forward <= now)
			is(ByLastGrant, r.Values.LastGrantSuspends && len(r.Held) > 0 && left == 0)
			if len(causes) > 0 {
				suspended = now
				out = append(out, slowStep{now, Suspended, -1, causes})
			}
		}
		if suspended != moment.Never && s.overSince(suspended, r.Values.Grace, now) && may(ByGrace) {
			return append(out, slowStep{now, Removed, -1, []Cause{ByGrace}})
		}
	}
	return out
}

// TestAgainstSlow compares sequences with walking through time, for records of every kind,
// over changes of clocks (some at midnight), the end of a year, a leap day and a day that
// a zone left out.
func TestAgainstSlow(t *testing.T) {
	seed := uint64(time.Now().UnixNano())
	t.Logf("seed %d", seed)
	r := rand.New(rand.NewPCG(11, seed))
	causes := map[Cause]int{}
	for zone, around := range map[string]string{"Europe/Lisbon": "2026-10-20T12:00:00Z", "America/New_York": "2028-02-27T12:00:00Z",
		"Pacific/Apia":      "2011-12-20T12:00:00Z",
		"America/Sao_Paulo": "2018-11-01T12:00:00Z", "Asia/Beirut": "2026-03-20T12:00:00Z", "Asia/Kathmandu": "2026-12-28T12:00:00Z"} {
		loc, err := time.LoadLocation(zone)
		if err != nil {
			t.Fatal(err)
		}
		cal, now := moment.NewCalendar(loc), at(t, around)
		s := walk(loc, now.Time().AddDate(0, 0, -100), now.Time().AddDate(0, 0, 330))
		near := func(past, ahead int, absent moment.Moment) moment.Moment {
			if r.IntN(4) == 0 {
				return absent
			}
			m := now + moment.Moment(r.IntN(past+ahead)-past)*86400e6 + moment.Moment(r.IntN(86400))*1e6
			if r.IntN(2) == 0 { // the very start of a day
				m = s.starts[slices.IndexFunc(s.starts, func(x moment.Moment) bool { return x >= m })]
			}
			return m
		}
		days := func(n int) int {
			if r.IntN(3) == 0 {
				return None
			}
			return r.IntN(n)
		}
		kinds := func() *Floors {
			f := NoFloors()
			for _, c := range Counted {
				if r.IntN(4) == 0 {
					f[c] = near(5, 30, moment.Never)
				}
			}
			return &f
		}
		for range 3000 {
			x := &Record{State: State(r.IntN(4)), Since: near(60, 0, moment.Always), Accepted: near(40, 0, moment.Never),
				Renewed: near(30, 0, moment.Always), Until: near(20, 60, moment.Never), LastSeen: near(40, 0, moment.Always),
				StateSince: near(20, 0, moment.Always), SponsorLeft: near(20, 5, moment.Never), HomeClosed: near(5, 60, moment.Never),
				PartnerEnded: near(5, 60, moment.Never), Suspension: ByHand, Calendar: cal, Floor: near(3, 1, moment.Always),
				Forward: near(3, 5, moment.Always), Kinds: kinds(),
				Values: Values{Term: days(90), Idle: days(60), Invite: days(20), Grace: days(40), LastGrantSuspends: r.IntN(2) == 0,
					SponsorRequired: r.IntN(2) == 0}}
			for range r.IntN(4) {
				x.Held = append(x.Held, Held{From: near(60, 20, moment.Always), Until: near(20, 60, moment.Never), Reviewed: near(30, 0, moment.Always),
					Review: days(60), Own: r.IntN(4) > 0, ReviewEnds: r.IntN(2) == 0})
			}
			until := now + 200*86400e6
			if r.IntN(8) == 0 {
				x.Floor = moment.Never
			}
			x.Horizon = until
			got, want := x.Sequence(), s.steps(x)
			beyond := func(at moment.Moment) bool { return at >= until }
			got = slices.DeleteFunc(got, func(st Step) bool { return beyond(st.At) })
			want = slices.DeleteFunc(want, func(st slowStep) bool { return beyond(st.at) })
			x.Horizon = 0
			if f, out, gone := x.Fate(), moment.Never, moment.Never; true {
				if x.State == IsSuspended {
					out = x.StateSince
				}
				for _, st := range want {
					switch st.kind {
					case Suspended:
						out = st.at
					case Removed, Invitation:
						gone = st.at
					}
				}
				if f.Out != out && !(beyond(f.Out) && out == moment.Never) || f.Gone != gone && !(beyond(f.Gone) && gone == moment.Never) {
					t.Fatalf("%s, %+v:\nfate %s %s, by walking %s %s", zone, x, f.Out, f.Gone, out, gone)
				}
			}
			x.Horizon = until
			line := func(at moment.Moment, k Kind, held int) string { return fmt.Sprint(at, " ", k, " ", held) }
			var fast, walked []string
			for _, st := range got {
				fast = append(fast, line(st.At, st.Kind, int(st.Held)))
			}
			for _, st := range want {
				walked = append(walked, line(st.at, st.kind, st.held))
			}
			slices.Sort(fast)
			slices.Sort(walked)
			if fmt.Sprint(fast) != fmt.Sprint(walked) {
				t.Fatalf("%s, %+v:\n%s\nby walking\n%s", zone, x, strings.Join(fast, "\n"), strings.Join(walked, "\n"))
			}
			for _, st := range got {
				for _, w := range want {
					if w.at == st.At && w.kind == st.Kind && w.held == int(st.Held) {
						if !slices.Contains(w.causes, st.Cause) {
							t.Fatalf("%s, %+v: %s because of %s, by walking %v", zone, x, line(st.At, st.Kind, int(st.Held)), st.Cause, w.causes)
						}
						causes[st.Cause]++
					}
				}
			}
		}
	}
	for c := ByUntil; c < NumCauses; c++ {
		if c != ByHand && causes[c] < 5 { // nothing is suspended by hand ahead
			t.Errorf("%s came %d times: too few to tell", c, causes[c])
		}
	}
}
