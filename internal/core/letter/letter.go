// Package letter writes to a partner's administrator what their side would have
// to admit, in plain words that fit any suite. It knows neither how the letter
// is sent nor what becomes of it.
//
// Half of what two organisations do together is decided on the other side, by
// somebody who knows neither us nor our words. So a letter names no rule, key
// or program: it says what our people want to do with theirs, what their suite
// has to let, how to try whether it works, and, as important to them, what they
// need not open. It is about our domains alone.
package letter

import (
	"fmt"
	"html"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/world"
)

// Letter is what is written, in parts that every form shares. Administrators
// elsewhere know neither us nor our words: what we want, what they need to
// admit, how to try it, and what they need not open.
type Letter struct {
	Partner string
	Ours    string // the name of our organisation
	Domains []string
	Points  []Point
	Not     []string // what they need not open
	Answer  string   // where to answer
	// What only some letters have.
	Reference string // what to quote in an answer
	Occasion  string // what it came up from, in sentences
}

// Point is one service and direction that they are asked to admit. Admit is
// written without naming any program's settings.
type Point struct {
	Key   catalogue.Key
	Want  string              // what we want to do together
	Admit string              // what they need to admit
	Test  string              // how to try whether it works
	Lacks []catalogue.Feature // what they leave out of what they admit already
}

// words of a service, from their side: in is what comes to us, so their people
// go out. One entry for each of the fourteen keys; a test holds that none is
// missing.
var words = map[string]struct{ want, admit, test, not string }{
	"directory.in": {"Your people may be our guests: they are invited by name and sign in with your sign-in.",
		"Let your people accept invitations of ours and sign in to us with their own account.",
		"We invite one of you; the invitation is accepted and the sign-in works.", "Nothing of your directory needs to be visible to us."},
	"directory.out": {"Our people may be your guests.", "Let people of our domains be invited.",
		"You invite one of us; the invitation is accepted.", "Our people need no role beyond the invitation."},
	"spaces.in": {"Your people may be members of single spaces of ours.",
		"Let your people join spaces and courses elsewhere with their own account.", "One of you opens the address of a space that we name.",
		"You need not let your people join spaces of anybody else."},
	"spaces.out": {"Our people may join spaces or courses of yours.",
		"Let people of our domains be members of the spaces and courses that you choose.", "You name one space; one of us opens it.",
		"Nothing else of yours needs to be open to us."},
	"chat.in": {"Your people may write to ours.",
		"Let your people chat with people of our domains: messages, and calls and presence where you want them.",
		"One of you writes to the address that we name.", "You need not open chat to all organisations, nor to private accounts."},
	"chat.out": {"Our people may write to yours.", "Let messages of our domains come in.",
		"One of us writes to an address that you name.", "You need not open chat to all organisations, nor to private accounts."},
	"meetings.in": {"Your people may join our meetings, signed in.",
		"Let your people join meetings elsewhere, signed in with their own account.", "One of you joins a meeting whose address we send.",
		"Nobody without a sign-in needs to be let in or out."},
	"meetings.out": {"Our people may join your meetings.", "Let people of our domains join, signed in.",
		"One of us joins a meeting whose address you send.", "Your meetings need not be open to everybody."},
	"files.in": {"We give single files and folders to your people, by name.",
		"Let your people open files of ours with their own account or a mailed code.", "We share one file with an address that you name.",
		"No links that work for whoever holds them are needed."},
	"files.out": {"You give single files and folders to our people, by name.", "Let files be shared with people of our domains.",
		"You share one file with an address that we name.", "No links that work for whoever holds them are needed."},
	"mail.in": {"Your people see when ours are busy.", "Let your calendars ask ours for busy times.",
		"One of you looks at the busy times of the address that we name.", "Nothing of your calendars needs to be visible to us for this."},
	"mail.out": {"Mail of ours may be forwarded to you.", "Take mail that our server forwards.", "We send one forwarded mail.",
		"No mail of yours needs to be forwarded to us."},
	"reports.in": {"Your people may view single reports of ours.",
		"Let your people sign in to us with their own account, and tell us which licence they bring.",
		"One of you opens the address of a report.", "No data of yours is needed."},
	"reports.out": {"Our people may view single reports of yours.", "Let people of our domains be given reports.",
		"You give one report to an address that we name.", "No data of ours is needed."},
}

// To writes a letter to a partner about keys; without any, about those that we
// have opened and they refuse, have not confirmed, or admit only in part. A key
// that both sides have open is not written about.
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
			if h.Ours.Opens && h.Theirs == world.SaysRefuses ||
				h.Said() && (h.Joint == world.TheirTurn || h.Joint == world.Unconfirmed || lacks(&h)) {
				keys = append(keys, h.Key)
			}
		}
	}
	sort.Slice(keys, func(i, j int) bool { return keys[i] < keys[j] })
	said := map[string]bool{}
	for _, k := range keys {
		x := words[k.String()]
		// They may admit chat without calls; then only what is missing is asked
		// for.
		point := Point{Key: k, Want: x.want, Admit: x.admit, Test: x.test}
		for _, h := range halves {
			if h.Key == k && h.Theirs == world.SaysAdmits && h.Stance.Features != nil {
				for _, f := range h.Ours.Features {
					if !slices.Contains(h.Stance.Features, f) {
						point.Lacks = append(point.Lacks, f)
					}
				}
			}
		}
		if point.Lacks != nil {
			var names []string
			for _, f := range point.Lacks {
				names = append(names, featureWords[f])
			}
			point.Admit = "You admit part of this already. Let " + strings.Join(names, " and ") + " through too."
		}
		l.Points = append(l.Points, point)
		if !said[x.not] {
			said[x.not] = true
			l.Not = append(l.Not, x.not)
		}
	}
	return l
}

// lacks reports whether they admit less than we have opened.
func lacks(h *world.Half) bool {
	if h.Theirs != world.SaysAdmits || h.Stance.Features == nil {
		return false
	}
	return slices.ContainsFunc(h.Ours.Features, func(f catalogue.Feature) bool { return !slices.Contains(h.Stance.Features, f) })
}

// featureWords are what a letter calls parts of a service.
var featureWords = map[catalogue.Feature]string{catalogue.Messages: "messages", catalogue.Voice: "calls",
	catalogue.Presence: "seeing who is there"}

// Theirs writes a key as their own side calls it: what comes in to us goes out
// from them.
func Theirs(k catalogue.Key) string {
	service, direction, _ := strings.Cut(k.String(), ".")
	return service + map[string]string{"in": ", from you to us", "out": ", from us to you"}[direction]
}

// upper writes the first letter large.
func upper(s string) string { return strings.ToUpper(s[:1]) + s[1:] }

// part is a piece of a letter, which every form writes in its own way. Exactly
// one of text and items is set.
type part struct {
	heading int // 1 or 2; 0: none
	text    string
	items   [][2]string // a label, which may be empty, and a text
}

// parts takes the letter apart, in order; text, Markdown and HTML only write
// it.
func (l *Letter) parts() []part {
	out := []part{{heading: 1, text: "To the administrator of " + l.Partner}, {text: "From " + l.Ours}}
	if l.Reference != "" {
		out = append(out, part{text: "Please quote: " + l.Reference})
	}
	if len(l.Points) == 0 {
		return append(out, part{text: "Nothing waits for you: what we have opened, you have admitted."})
	}
	out = append(out,
		part{text: fmt.Sprintf("Our people want to work with yours, and part of it is for you to admit. It is about our domains alone: %s.",
			strings.Join(l.Domains, ", "))})
	if l.Occasion != "" {
		out = append(out, part{text: l.Occasion})
	}
	for i, p := range l.Points {
		out = append(out, part{heading: 2, text: fmt.Sprintf("%d. %s", i+1, upper(Theirs(p.Key)))}, part{text: p.Want},
			part{items: [][2]string{{"Please admit:", p.Admit}, {"To try it:", p.Test}}})
	}
	not := part{}
	for _, n := range l.Not {
		not.items = append(not.items, [2]string{"", n})
	}
	return append(out, part{heading: 2, text: "What you need not open"}, not, part{heading: 2, text: "How to tell us"},
		part{text: fmt.Sprintf("Tell %s what you admitted and since when, or why you will not; a line is enough. If your side publishes a signed statement of what it admits, tell us where, and we read it there.",
			l.Answer)})
}

// Subject is what the mail that brings the letter is about.
func (l *Letter) Subject() string {
	s := "What " + l.Ours + " asks the administrator of " + l.Partner + " to admit"
	if l.Reference != "" {
		s += " (" + l.Reference + ")"
	}
	return s
}

// Markdown writes the letter as Markdown.
func (l *Letter) Markdown() string { return l.write("**", "# ", true) }

// Text writes the letter as plain text.
func (l *Letter) Text() string { return l.write("", "", false) }

// write writes the letter as text; mark stands around labels, and headings
// begin with hash. What is Markdown's own is escaped in names.
func (l *Letter) write(mark, hash string, escape bool) string {
	var b strings.Builder
	safe := func(s string) string {
		if escape {
			return escaper.Replace(s)
		}
		return s
	}
	for i, p := range l.parts() {
		if i > 0 {
			b.WriteByte('\n')
		}
		switch {
		case p.items != nil:
			for _, x := range p.items {
				b.WriteString("- ")
				if x[0] != "" {
					b.WriteString(mark + x[0] + mark + " ")
				}
				b.WriteString(safe(x[1]) + "\n")
			}
		case p.heading > 0 && hash != "":
			b.WriteString(strings.Repeat("#", p.heading) + " " + safe(p.text) + "\n")
		default:
			b.WriteString(safe(p.text) + "\n")
		}
	}
	return b.String()
}

// escaper takes the meaning from what Markdown reads as its own.
var escaper = strings.NewReplacer("*", `\*`, "_", `\_`, "`", "\\`", "<", "&lt;", "[", `\[`)

// HTML writes the letter as a page of its own. Names and texts are escaped.
func (l *Letter) HTML() string {
	var b strings.Builder
	e := html.EscapeString
	fmt.Fprintf(&b, "<!doctype html>\n<html lang=\"en\">\n<meta charset=\"utf-8\">\n<title>To the administrator of %s</title>\n<body>\n",
		e(l.Partner))
	for _, p := range l.parts() {
		switch {
		case p.items != nil:
			b.WriteString("<ul>\n")
			for _, x := range p.items {
				b.WriteString("<li>")
				if x[0] != "" {
					b.WriteString("<b>" + e(x[0]) + "</b> ")
				}
				b.WriteString(e(x[1]) + "</li>\n")
			}
			b.WriteString("</ul>\n")
		case p.heading > 0:
			fmt.Fprintf(&b, "<h%d>%s</h%d>\n", p.heading, e(p.text), p.heading)
		default:
			fmt.Fprintf(&b, "<p>%s</p>\n", e(p.text))
		}
	}
	b.WriteString("</body>\n</html>\n")
	return b.String()
}
