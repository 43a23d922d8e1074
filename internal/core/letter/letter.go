// Package letter writes to a partner's administrator what their side would have to
// admit, in plain words that fit any suite. It knows neither how the letter is
// sent nor what becomes of it.
package letter

import (
	"fmt"
	"html"
	"sort"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Letter is what is written, in parts that every form shares.
type Letter struct {
	Partner string
	Ours    string // the name of our organisation
	Domains []string
	Points  []Point
	Not     []string // what they need not open
	Answer  string   // where to answer
}

// Point is one service and direction that they are asked to admit.
type Point struct {
	Key   catalogue.Key
	Want  string // what we want to do together
	Admit string // what they need to admit
	Test  string // how to try whether it works
}

// words of a service, from their side: in is what comes to us, so their people go
// out.
var words = map[string]struct{ want, admit, test, not string }{
	"directory.in":  {"Your people may be our guests: they are invited by name and sign in with your sign-in.", "Let your people accept invitations of ours and sign in to us with their own account.", "We invite one of you; the invitation is accepted and the sign-in works.", "Nothing of your directory needs to be visible to us."},
	"directory.out": {"Our people may be your guests.", "Let people of our domains be invited.", "You invite one of us; the invitation is accepted.", "Our people need no role beyond the invitation."},
	"spaces.in":     {"Your people may be members of single spaces of ours.", "Let your people join spaces and courses elsewhere with their own account.", "One of you opens the address of a space that we name.", "You need not let your people join spaces of anybody else."},
	"spaces.out":    {"Our people may join spaces or courses of yours.", "Let people of our domains be members of the spaces and courses that you choose.", "You name one space; one of us opens it.", "Nothing else of yours needs to be open to us."},
	"chat.in":       {"Your people may write to ours.", "Let your people chat with people of our domains: messages, and calls and presence where you want them.", "One of you writes to the address that we name.", "You need not open chat to all organisations, nor to private accounts."},
	"chat.out":      {"Our people may write to yours.", "Let messages of our domains come in.", "One of us writes to an address that you name.", "You need not open chat to all organisations, nor to private accounts."},
	"meetings.in":   {"Your people may join our meetings, signed in.", "Let your people join meetings elsewhere, signed in with their own account.", "One of you joins a meeting whose address we send.", "Nobody without a sign-in needs to be let in or out."},
	"meetings.out":  {"Our people may join your meetings.", "Let people of our domains join, signed in.", "One of us joins a meeting whose address you send.", "Your meetings need not be open to everybody."},
	"files.in":      {"We give single files and folders to your people, by name.", "Let your people open files of ours with their own account or a mailed code.", "We share one file with an address that you name.", "No links that work for whoever holds them are needed."},
	"files.out":     {"You give single files and folders to our people, by name.", "Let files be shared with people of our domains.", "You share one file with an address that we name.", "No links that work for whoever holds them are needed."},
	"mail.in":       {"Your people see when ours are busy.", "Let your calendars ask ours for busy times.", "One of you looks at the busy times of the address that we name.", "Nothing of your calendars needs to be visible to us for this."},
	"mail.out":      {"Mail of ours may be forwarded to you.", "Take mail that our server forwards.", "We send one forwarded mail.", "No mail of yours needs to be forwarded to us."},
	"reports.in":    {"Your people may view single reports of ours.", "Let your people sign in to us with their own account, and tell us which licence they bring.", "One of you opens the address of a report.", "No data of yours is needed."},
	"reports.out":   {"Our people may view single reports of yours.", "Let people of our domains be given reports.", "You give one report to an address that we name.", "No data of ours is needed."},
}

// To writes a letter to a partner about keys; without any, about those that we
// have opened and they have not admitted.
func To(w *world.World, p *world.Partner, halves []world.Half, keys []catalogue.Key) Letter {
	l := Letter{Partner: p.Name, Answer: "the person who sent you this letter"}
	if o := w.Organisation; o != nil {
		l.Ours = o.Name
		for _, d := range o.Domains {
			text := d.Domain.String()
			if d.Subdomains {
				text += " and below"
			}
			l.Domains = append(l.Domains, text)
		}
	}
	if len(keys) == 0 {
		for _, h := range halves {
			if h.Said() && (h.Joint == world.TheirTurn || h.Joint == world.Unconfirmed) {
				keys = append(keys, h.Key)
			}
		}
	}
	sort.Slice(keys, func(i, j int) bool { return keys[i] < keys[j] })
	said := map[string]bool{}
	for _, k := range keys {
		x := words[k.String()]
		l.Points = append(l.Points, Point{k, x.want, x.admit, x.test})
		if !said[x.not] {
			said[x.not] = true
			l.Not = append(l.Not, x.not)
		}
	}
	return l
}

// Theirs writes a key as their own side calls it: what comes in to us goes out
// from them.
func Theirs(k catalogue.Key) string {
	service, direction, _ := strings.Cut(k.String(), ".")
	return service + map[string]string{"in": ", from you to us", "out": ", from us to you"}[direction]
}

// Markdown writes the letter as Markdown.
func (l *Letter) Markdown() string {
	var b strings.Builder
	fmt.Fprintf(&b, "# To the administrator of %s\n\nFrom %s\n\n", l.Partner, l.Ours)
	if len(l.Points) == 0 {
		b.WriteString("Nothing waits for you: what we have opened, you have admitted.\n")
		return b.String()
	}
	fmt.Fprintf(&b, "Our people want to work with yours, and part of it is for you to admit. It is about our domains alone: %s.\n", strings.Join(l.Domains, ", "))
	for i, p := range l.Points {
		fmt.Fprintf(&b, "\n## %d. %s\n\n%s\n\n- **Please admit:** %s\n- **To try it:** %s\n", i+1, upper(Theirs(p.Key)), p.Want, p.Admit, p.Test)
	}
	b.WriteString("\n## What you need not open\n\n")
	for _, n := range l.Not {
		fmt.Fprintf(&b, "- %s\n", n)
	}
	fmt.Fprintf(&b, "\n## How to tell us\n\nTell %s what you admitted and since when, or why you will not; a line is enough.\n", l.Answer)
	return b.String()
}

func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// Text writes the letter as plain text.
func (l *Letter) Text() string {
	s := strings.NewReplacer("**", "", "## ", "", "# ", "").Replace(l.Markdown())
	return s
}

// HTML writes the letter as a page of its own.
func (l *Letter) HTML() string {
	var b strings.Builder
	e := html.EscapeString
	fmt.Fprintf(&b, "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>To the administrator of %s</title>\n<body>\n<h1>To the administrator of %s</h1>\n<p>From %s</p>\n", e(l.Partner), e(l.Partner), e(l.Ours))
	if len(l.Points) == 0 {
		b.WriteString("<p>Nothing waits for you: what we have opened, you have admitted.</p>\n</body>\n</html>\n")
		return b.String()
	}
	fmt.Fprintf(&b, "<p>Our people want to work with yours, and part of it is for you to admit. It is about our domains alone: %s.</p>\n", e(strings.Join(l.Domains, ", ")))
	for i, p := range l.Points {
		fmt.Fprintf(&b, "<h2>%d. %s</h2>\n<p>%s</p>\n<ul>\n<li><b>Please admit:</b> %s</li>\n<li><b>To try it:</b> %s</li>\n</ul>\n", i+1, e(upper(Theirs(p.Key))), e(p.Want), e(p.Admit), e(p.Test))
	}
	b.WriteString("<h2>What you need not open</h2>\n<ul>\n")
	for _, n := range l.Not {
		fmt.Fprintf(&b, "<li>%s</li>\n", e(n))
	}
	fmt.Fprintf(&b, "</ul>\n<h2>How to tell us</h2>\n<p>Tell %s what you admitted and since when, or why you will not; a line is enough.</p>\n</body>\n</html>\n", e(l.Answer))
	return b.String()
}
