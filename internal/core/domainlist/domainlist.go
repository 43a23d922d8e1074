// Package domainlist reads and writes lists of domains: those of partners,
// those that are barred, and those of providers of private mail. It weighs a
// list against what is kept before anything is changed.
//
// A list comes as plain text, a domain on each line, or as CSV. Each line gets
// an outcome (new, changed, same, refused and why), entries that a replacing
// list leaves out are told as removed, and the policy with the good lines is
// returned: the caller shows it, drafts it or throws it away. A list of thirty
// thousand lines with three slips in it is thus neither refused as a whole nor
// taken over with the slips.
package domainlist

import (
	"bufio"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
)

// Kind is what a list holds. They are the words of addresses and of the client.
type Kind string

// The kinds of list.
const (
	OfPartners Kind = "partner"
	OfBars     Kind = "barred"
	OfPersonal Kind = "personal"
)

// Kinds lists them.
var Kinds = []string{string(OfPartners), string(OfBars), string(OfPersonal)}

// Result says what becomes of a line.
type Result string

// The results. Refused lines change nothing; a removed entry stands in no line.
const (
	New     Result = "new"
	Changed Result = "changed"
	Same    Result = "same"
	Removed Result = "removed"
	Refused Result = "refused"
)

// Line is one entry of a list. It is read from a list, weighed in place, and
// shown: the same record goes all the way, so that a line which was refused is
// shown as it was written.
type Line struct {
	Number     int // from 1; 0 for what is removed
	Text       string
	Name       string // a domain or, barred, an address; in normal form once weighed
	Subdomains bool
	LookAlike  bool
	Partner    string // id; of a list of partners
	Reason     string // of a bar
	Result     Result
	Cause      string // why it is refused, or what else follows from it
}

// MaxLines is how many lines a list may have. Lists of barred domains that are
// exchanged have some tens of thousands.
const MaxLines = 100_000

// Read reads a list. Where its first line names columns (one of them name) it
// is CSV (RFC 4180) with the columns name, subdomains, look_alike, partner and
// reason; else an entry stands on each line, *. before it takes what is below
// along, and what stands behind # is its reason. Lines that cannot be read come
// back refused. An error is about the list as a whole.
//
// The first line is looked at without being taken, so that a plain list loses
// nothing by it.
func Read(in io.Reader) ([]Line, error) {
	b := bufio.NewReaderSize(in, 1<<16)
	head, _ := b.Peek(1 << 12)
	first, _, _ := strings.Cut(strings.TrimPrefix(string(head), "\ufeff"), "\n")
	for _, f := range strings.Split(first, ",") {
		if strings.EqualFold(strings.Trim(strings.TrimSpace(f), `"`), "name") {
			return readCSV(b)
		}
	}
	var out []Line
	s := bufio.NewScanner(b)
	s.Buffer(nil, 1<<16)
	for n := 1; s.Scan(); n++ {
		text := strings.TrimSpace(strings.TrimPrefix(s.Text(), "\ufeff"))
		entry, reason, _ := strings.Cut(text, "#")
		if entry = strings.TrimSpace(entry); entry == "" {
			continue
		}
		if len(out) == MaxLines {
			return nil, errTooMany
		}
		l := Line{Number: n, Text: text, Name: entry, Reason: strings.TrimSpace(reason)}
		l.star()
		out = append(out, l)
	}
	if errors.Is(s.Err(), bufio.ErrTooLong) {
		return nil, errors.New("a line is longer than 65536 characters; an entry stands on a line of its own")
	}
	return out, s.Err()
}

// errTooMany ends the reading of a list that is too long.
var errTooMany = fmt.Errorf("a list has at most %d lines", MaxLines)

// star reads *. before a name as "with all below it".
func (l *Line) star() {
	if bare, ok := strings.CutPrefix(l.Name, "*."); ok {
		l.Name, l.Subdomains = bare, true
	}
}

// readCSV reads a list whose first line names its columns; one that is not
// known is an error that names those there are.
func readCSV(in io.Reader) ([]Line, error) {
	r := sheet.NewReader(in)
	head, err := r.Read()
	if err != nil {
		return nil, err
	}
	known := []string{"name", "subdomains", "look_alike", "partner", "reason"}
	at := map[string]int{}
	for i, h := range head {
		h = strings.ToLower(strings.TrimSpace(strings.TrimPrefix(h, "\ufeff")))
		if !slices.Contains(known, h) {
			return nil, fmt.Errorf("there is no column %q; the columns are %s", h, strings.Join(known, ", "))
		}
		if _, twice := at[h]; twice {
			return nil, fmt.Errorf("the column %s stands there twice", h)
		}
		at[h] = i
	}
	var out []Line
	for {
		f, err := r.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		var bad *csv.ParseError
		// One line that is no CSV is refused, and reading goes on behind it.
		if errors.As(err, &bad) {
			out = append(out, Line{Number: bad.StartLine, Result: Refused, Cause: bad.Err.Error()})
			continue
		}
		if err != nil {
			return nil, err
		}
		if len(out) == MaxLines {
			return nil, errTooMany
		}
		n, _ := r.FieldPos(0)
		l := Line{Number: n, Text: strings.Join(f, ",")}
		get := func(column string) string {
			if i, ok := at[column]; ok && i < len(f) {
				return strings.TrimSpace(f[i])
			}
			return ""
		}
		// An empty field is no. Anything but yes, no, true and false refuses
		// the line: a slip of the hand must not bar less, or admit more, than
		// was meant.
		yes := func(column string) bool {
			switch v := strings.ToLower(get(column)); v {
			case "", "no", "false":
				return false
			case "yes", "true":
				return true
			default:
				l.Result, l.Cause = Refused, fmt.Sprintf("%s is %q; write yes or no", column, v)
				return false
			}
		}
		if len(f) > len(head) {
			l.Result, l.Cause = Refused, fmt.Sprintf("the line has %d fields, and there are %d columns", len(f), len(head))
		}
		l.Name, l.Partner, l.Reason = get("name"), get("partner"), get("reason")
		l.Subdomains, l.LookAlike = yes("subdomains"), yes("look_alike")
		l.star()
		out = append(out, l)
	}
}

// Weigh says of every line what would become of it, appends what would be
// removed where the list replaces what is kept, and returns the policy with the
// good lines.
//
// partner is whose domains the lines are that name none; a list of partners
// replaces only theirs. Neither w nor what it holds is changed.
//
// It is the preview and the change in one: what it returns is what is
// published, or thrown away. Refused lines are left out of the policy and stay
// in the list with their causes.
func Weigh(w *world.World, kind Kind, partner string, lines []Line, replace bool) (*world.World, []Line, error) {
	x := &weighing{w: w, next: *w, kind: kind, seen: map[string]int{}}
	switch kind {
	case OfPartners:
		x.partners(partner)
		if replace && partner == "" {
			return nil, nil, errors.New("a list that replaces what is kept is about one partner; name it")
		}
		if partner != "" && x.index[partner] == 0 {
			return nil, nil, fmt.Errorf("there is no partner %q", partner)
		}
	case OfBars, OfPersonal:
		if partner != "" {
			return nil, nil, errors.New("only domains of partners belong to one")
		}
	default:
		return nil, nil, fmt.Errorf("there is no list %q; there are %s", kind, strings.Join(Kinds, ", "))
	}
	out := slices.Clone(lines)
	for i := range out {
		if l := &out[i]; l.Result != Refused {
			x.line(l, partner)
		}
	}
	if replace {
		out = x.remove(out, partner)
	}
	return &x.next, out, nil
}

// weighing is a list while it is weighed. Maps are made when they are first
// needed, and slices of next are copied before they are first written: the
// policy that is in force is not touched.
type weighing struct {
	w     *world.World
	next  world.World
	kind  Kind
	watch *world.Watch
	index map[string]int         // of partners, + 1
	own   map[int]bool           // partners whose domains are copied
	seen  map[string]int         // line by what it names
	place map[string]int         // of bars and personal domains in next, + 1
	taken map[addr.Domain]string // whose domain it is
}

// holder returns the partner that a domain belongs to or, below, one that has a
// domain below it.
//
// "" where there is none. Domains of partners are put into a map once; what
// lies below is looked for one by one, since only bars with subdomains ask it.
func (x *weighing) holder(d addr.Domain, below bool) string {
	if x.taken == nil {
		x.taken = map[addr.Domain]string{}
		for i := range x.w.Partners {
			for _, e := range x.w.Partners[i].Domains {
				x.taken[e.Domain] = x.w.Partners[i].ID
			}
		}
	}
	if id := x.taken[d]; id != "" || !below {
		return id
	}
	for i := range x.w.Partners {
		for _, e := range x.w.Partners[i].Domains {
			if e.Domain.Under(d) {
				return x.w.Partners[i].ID
			}
		}
	}
	return ""
}

// partners gets ready for a list of domains of partners.
func (x *weighing) partners(partner string) {
	x.watch = world.NewWatch(x.w)
	x.index, x.own = map[string]int{}, map[int]bool{}
	for i := range x.w.Partners {
		x.index[x.w.Partners[i].ID] = i + 1
	}
	x.next.Partners = slices.Clone(x.w.Partners)
}

// line weighs one line: what is wrong with it, or what it would change.
//
// First what is wrong with the line itself, then what the kind of list makes of
// it. A line that is refused leaves nothing behind, so that a later one with
// the same name may still be good.
func (x *weighing) line(l *Line, partner string) {
	refuse := func(format string, args ...any) {
		l.Result, l.Cause = Refused, fmt.Sprintf(format, args...)
	}
	var a addr.Address
	var d addr.Domain
	var err error
	if x.kind == OfBars && strings.Contains(l.Name, "@") {
		if a, err = addr.Parse(l.Name); err == nil {
			l.Name, d = a.String(), a.Domain()
			if l.Subdomains {
				refuse("an address has no subdomains")
				return
			}
		}
	} else if d, err = addr.ParseDomain(l.Name); err == nil {
		l.Name = d.String()
	}
	switch {
	case err != nil:
		refuse("%v", err)
		return
	case x.kind != OfPartners && l.Partner != "":
		refuse("only domains of partners belong to one; this is the list of what is %s", x.kind)
		return
	case x.kind != OfBars && l.Reason != "":
		l.Cause = "the reason is not kept; only bars have one"
	}
	if n, twice := x.seen[l.Name]; twice {
		refuse("it stands in line %d already", n)
		return
	}
	switch x.kind {
	case OfPartners:
		x.partnerLine(l, d, partner, refuse)
	case OfBars:
		x.barLine(l, d, a, refuse)
	default:
		x.personalLine(l, d, refuse)
	}
	if l.Result != Refused {
		x.seen[l.Name] = l.Number
	}
}

// partnerLine weighs a domain that is to be a partner's. refuse marks the line
// with a cause. What may not be a partner's, and why, is world.Watch's to say,
// as everywhere else a domain is given to a partner.
func (x *weighing) partnerLine(l *Line, d addr.Domain, partner string, refuse func(string, ...any)) {
	if l.Partner == "" {
		l.Partner = partner
	}
	i := x.index[l.Partner] - 1
	switch {
	case l.Partner == "":
		refuse("no partner is named; name one in the column partner, or for the whole list")
		return
	case partner != "" && l.Partner != partner:
		refuse("it is said to belong to %q, and the list is that of %q", l.Partner, partner)
		return
	case i < 0:
		refuse("there is no partner %q", l.Partner)
		return
	}
	p := &x.next.Partners[i]
	for k, e := range p.Domains {
		if e.Domain != d {
			continue
		}
		l.Result = Same
		if e.Subdomains != l.Subdomains {
			l.Result = Changed
			x.copied(i)
			p.Domains[k].Subdomains = l.Subdomains
		}
		l.LookAlike = e.LookAlike
		return
	}
	e := world.Entry{Domain: d, Subdomains: l.Subdomains, LookAlike: l.LookAlike}
	if reason := x.watch.Refuse(l.Partner, e); reason != "" {
		refuse("%s", reason)
		return
	}
	l.Result = New
	x.copied(i)
	p.Domains = append(p.Domains, e)
	x.watch.Take(l.Partner, e)
}

// copied makes the domains of the partner at i those of next alone.
func (x *weighing) copied(i int) {
	if !x.own[i] {
		x.own[i] = true
		x.next.Partners[i].Domains = slices.Clone(x.next.Partners[i].Domains)
	}
}

// barLine weighs a domain or an address that is to be barred. It may bar people
// of a partner; that is said, and done: bars come first (model §2).
func (x *weighing) barLine(l *Line, d addr.Domain, a addr.Address, refuse func(string, ...any)) {
	if ours(x.w, d) {
		refuse("%s is one of ours; bars are for outsiders", l.Name)
		return
	}
	if x.place == nil {
		x.place = map[string]int{}
		x.next.Barred = slices.Clone(x.w.Barred)
		for i := range x.next.Barred {
			x.place[x.next.Barred[i].Key()] = i + 1
		}
	}
	bar := world.Bar{Address: a, Reason: l.Reason}
	if a.IsZero() {
		bar.Entry = world.Entry{Domain: d, Subdomains: l.Subdomains}
	}
	i := x.place[l.Name] - 1
	if i < 0 {
		l.Result = New
		x.next.Barred = append(x.next.Barred, bar)
		if id := x.holder(d, l.Subdomains); a.IsZero() && id != "" {
			l.Cause = fmt.Sprintf("it bars people of the partner %s; bars come first", id)
		}
		return
	}
	was := x.next.Barred[i]
	if l.Reason == "" { // a list without reasons takes none away
		bar.Reason, l.Reason = was.Reason, was.Reason
	}
	l.Result = Same
	if was.Subdomains != bar.Subdomains || was.Reason != bar.Reason {
		l.Result = Changed
		x.next.Barred[i] = bar
	}
}

// personalLine weighs a domain that is to count as one of private addresses. A
// domain is either a partner's or a personal one, so that an address has one
// meaning.
func (x *weighing) personalLine(l *Line, d addr.Domain, refuse func(string, ...any)) {
	switch {
	case ours(x.w, d):
		refuse("%s is one of ours, not a personal domain", d)
		return
	case d.IsPublicSuffix():
		refuse("%s is a public suffix; everybody has names below it", d)
		return
	}
	if id := x.holder(d, false); id != "" {
		refuse("%s belongs to the partner %q, it cannot be a personal domain too", d, id)
		return
	}
	if x.place == nil {
		x.place = map[string]int{}
		x.next.Personal = slices.Clone(x.w.Personal)
		for i := range x.next.Personal {
			x.place[x.next.Personal[i].Domain.String()] = i + 1
		}
	}
	e := world.Entry{Domain: d, Subdomains: l.Subdomains}
	i := x.place[l.Name] - 1
	switch {
	case i < 0:
		l.Result = New
		x.next.Personal = append(x.next.Personal, e)
	case x.next.Personal[i].Subdomains != l.Subdomains:
		l.Result = Changed
		x.next.Personal[i] = e
	default:
		l.Result = Same
	}
}

// remove takes away what is kept and stands in no line. Each is appended to the
// lines as removed, so that whoever replaces a list sees what goes.
func (x *weighing) remove(lines []Line, partner string) []Line {
	// A line that was refused does not keep its entry: it is not in seen.
	gone := func(name, of string, sub bool) bool {
		if x.seen[name] > 0 {
			return false
		}
		lines = append(lines, Line{Name: name, Partner: of, Subdomains: sub, Result: Removed})
		return true
	}
	switch x.kind {
	case OfPartners:
		i := x.index[partner] - 1
		x.copied(i)
		p := &x.next.Partners[i]
		p.Domains = slices.DeleteFunc(p.Domains, func(e world.Entry) bool { return gone(e.Domain.String(), partner, e.Subdomains) })
	case OfBars:
		x.next.Barred = slices.DeleteFunc(slices.Clone(x.next.Barred), func(b world.Bar) bool { return gone(b.Key(), "", b.Subdomains) })
	default:
		x.next.Personal = slices.DeleteFunc(
			slices.Clone(x.next.Personal),
			func(e world.Entry) bool { return gone(e.Domain.String(), "", e.Subdomains) },
		)
	}
	return lines
}

// ours reports whether a domain is one of the organisation's own, or below one
// that takes its subdomains along.
func ours(w *world.World, d addr.Domain) bool {
	return w.Organisation != nil &&
		slices.ContainsFunc(w.Organisation.Domains, func(o world.Entry) bool { return o.Domain == d || o.Subdomains && d.Under(o.Domain) })
}

// Of lists what is kept, as Read reads it back. partner narrows domains of
// partners down to one's; it is empty for all. Lines are not numbered, and in
// the order in which the entries are kept.
func Of(w *world.World, kind Kind, partner string) (out []Line) {
	switch kind {
	case OfPartners:
		for i := range w.Partners {
			if p := &w.Partners[i]; partner == "" || p.ID == partner {
				for _, e := range p.Domains {
					out = append(out, Line{Name: e.Domain.String(), Subdomains: e.Subdomains, LookAlike: e.LookAlike, Partner: p.ID})
				}
			}
		}
	case OfBars:
		for i := range w.Barred {
			b := &w.Barred[i]
			out = append(out, Line{Name: b.Key(), Subdomains: b.Subdomains, Reason: b.Reason})
		}
	case OfPersonal:
		for _, e := range w.Personal {
			out = append(out, Line{Name: e.Domain.String(), Subdomains: e.Subdomains})
		}
	}
	return
}

// Text writes a list as plain text. Neither the partner nor LookAlike can be
// written so; CSV keeps both. Line breaks in a reason become blanks.
func Text(lines []Line) []byte {
	var b strings.Builder
	for _, l := range lines {
		if l.Subdomains {
			b.WriteString("*.")
		}
		b.WriteString(l.Name)
		if r := strings.Join(strings.Fields(l.Reason), " "); r != "" {
			b.WriteString(" # " + r)
		}
		b.WriteByte('\n')
	}
	return []byte(b.String())
}

// CSV writes a list as CSV with the columns that Read knows.
func CSV(lines []Line) []byte {
	var b strings.Builder
	w := sheet.NewWriter(&b)
	yes := func(v bool) string {
		if v {
			return "yes"
		}
		return "no"
	}
	_ = w.Write([]string{"name", "subdomains", "look_alike", "partner", "reason"})
	for _, l := range lines {
		_ = w.Write([]string{l.Name, yes(l.Subdomains), yes(l.LookAlike), l.Partner, l.Reason})
	}
	w.Flush()
	return []byte(b.String())
}
