package check

import (
	"errors"
	"fmt"
	"hash/maphash"
	"io"
	"slices"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/sheet"
	"wexillum.example/internal/core/world"
)

// Verdict is what becomes of one address. It is a word because it is shown,
// counted and sent as it stands.
type Verdict string

// The verdicts. Yes and No answer the invitation; the others say why none is
// needed or none can be.
const (
	Yes       Verdict = "yes"
	No        Verdict = "no"
	Already   Verdict = "already"   // holds what the invitation would give
	Duplicate Verdict = "duplicate" // stands further up
	Own       Verdict = "own"       // at a domain of ours
	Malformed Verdict = "malformed"
)

// Line is what was found of one address. A list of a hundred thousand addresses
// is read line by line and each Line is handed on at once, so that none of them
// has to be kept. Nothing is written: checking a list invites nobody.
type Line struct {
	Number     int // of the line it stands in, from 1
	Text       string
	Address    string // in normal form; empty where malformed
	Kind       string
	Partner    string // id, or empty
	Verdict    Verdict
	Reason     string         // of a verdict that is neither yes nor no
	Causes     []engine.Cause // of a no: everything that refuses
	Conditions []string       // of a yes
	Bundle     string         // why the bundle in mind is not for this party, or empty
}

// NotForBundle is the code of the cause that the bundle in mind is not for a
// party.
const NotForBundle = "not_for_bundle"

// NextForBundle is what to do about it.
const NextForBundle = "Let an administrator add the partner to the bundle, or invite without it."

// Next returns what to do first about a no. It is the remedy of the first cause
// that has one: causes stand in the order of the gates, and who mends a later
// gate first gains nothing.
func (l *Line) Next() string {
	for i := range l.Causes {
		if n := l.Causes[i].Next(); n != "" {
			return n
		}
	}
	if l.Bundle != "" {
		return NextForBundle
	}
	return ""
}

// Options say what the addresses are wanted for. The zero value asks about
// nothing; Into or Bundle must be given, and At.
type Options struct {
	Into world.Resource // a space, or the directory; with Share a file or folder
	// Share asks whether As may share Into with them, instead of inviting them
	// into it.
	Share bool
	// Bundle is the id of a bundle that they are meant to get, instead of Into:
	// they are invited into every space that it gives, and to the directory
	// where it gives single items.
	Bundle string
	As     string // the person of ours who would invite; empty picks one who may
	At     moment.Moment
	// Stranger tells of whom nothing that is kept is said; nil for nobody.
	Stranger func(addr.Address) bool
	Keep     bool // the addresses would be kept: none stands for a typical newcomer
}

// Checker checks line by line. What it remembers of a line is a hash and a
// number, so that long lists need little memory.
//
// Duplicates are found by a hash of 64 bits with a seed of its own for each
// list: among a million addresses two different ones collide with a chance of 1
// to 37 million, and the price is one line that is called a duplicate. In
// return a line costs 16 bytes to remember in place of its text.
type Checker struct {
	s       *engine.Snapshot
	opt     Options
	invite  catalogue.ActionID
	targets []target
	bundle  *world.Bundle
	items   bool // the bundle gives single items too
	seen    map[uint64]int
	seed    maphash.Seed
	Total   int
	Counts  map[Verdict]int
	ByCause map[string]int // of refusing causes, how many addresses each stands in the way of
}

// target is something that an address would be invited into, and by whom. A
// bundle has several; everything else has one.
type target struct {
	into world.Resource
	as   string
}

// New returns a Checker. An error is a *engine.WrongUse.
func New(s *engine.Snapshot, opt Options) (*Checker, error) {
	// Inviting and sharing are the two ways in which somebody new comes in;
	// both need context.address.
	name := "directory.invite"
	if opt.Share {
		name = "files.share"
	}
	act, _ := catalogue.ActionByName(name)
	c := &Checker{
		s:       s,
		opt:     opt,
		invite:  act.ID,
		seen:    map[uint64]int{},
		seed:    maphash.MakeSeed(),
		Counts:  map[Verdict]int{},
		ByCause: map[string]int{},
	}
	if err := c.aim(); err != nil {
		return nil, err
	}
	// The top-level name invalid is kept free by RFC 2606 §2, so that nobody is
	// ever asked about. A question about nobody in particular tells at once
	// what makes no sense.
	probe, err := addr.ParseDomain("nobody.invalid")
	if err != nil {
		return nil, err
	}
	for i := range c.targets {
		x := &c.targets[i]
		if x.as == "" {
			// Whoever may invite there is as good as anybody: the answer is
			// about the address.
			if x.as = s.Inviter(x.into); x.as == "" {
				return nil, &engine.WrongUse{
					Field:  "as",
					Value:  "",
					Reason: "say which person of ours would invite: nobody owns the space, and no person is an administrator",
				}
			}
		}
		q := c.question(x, addr.Newcomer(probe))
		if _, err := s.Decide(&q); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// aim finds what the addresses would be invited into. Single items of a bundle
// are given to a guest who holds a record and nothing else, so that they are
// asked as an invitation into the directory. The error is a *engine.WrongUse.
func (c *Checker) aim() error {
	if c.opt.Bundle == "" {
		c.targets = []target{{c.opt.Into, c.opt.As}}
		return nil
	}
	if c.bundle = c.s.Policy().Bundle(c.opt.Bundle); c.bundle == nil {
		return &engine.WrongUse{Field: "bundle", Value: c.opt.Bundle, Reason: "there is no such bundle"}
	}
	seen := map[world.Resource]bool{}
	for _, g := range c.bundle.Gives {
		r := g.Resource
		if r.Kind != catalogue.Space {
			c.items, r = true, world.Resource{Kind: catalogue.OurDirectory, ID: "ours"}
		}
		// Several items make one and the same target.
		if !seen[r] {
			seen[r] = true
			c.targets = append(c.targets, target{r, c.opt.As})
		}
	}
	if len(c.targets) == 0 {
		return &engine.WrongUse{Field: "bundle", Value: c.opt.Bundle, Reason: "it gives nothing"}
	}
	return nil
}

// question asks whether the person of a target may invite or share with an
// address. The party is what the question is about and not who asks it.
func (c *Checker) question(x *target, a addr.Address) engine.Question {
	return engine.Question{
		Subject:  engine.Who{Kind: engine.ByPerson, ID: x.as},
		Action:   c.invite,
		Resource: x.into,
		Address:  a,
		At:       c.opt.At,
		Stranger: c.opt.Stranger != nil && c.opt.Stranger(a),
	}
}

// As returns the persons who are asked about as those who invite. They are
// separated by commas, in the order of the targets.
func (c *Checker) As() string {
	var out []string
	for _, x := range c.targets {
		if !slices.Contains(out, x.as) {
			out = append(out, x.as)
		}
	}
	return strings.Join(out, ", ")
}

// Into says what the addresses would be invited into.
func (c *Checker) Into() string {
	if c.bundle != nil {
		return "bundle:" + c.bundle.ID
	}
	return c.opt.Into.String()
}

// Check says what becomes of one address as somebody wrote it: bare, in angle
// brackets behind a name, or as a mailto link. Everything that refuses is told,
// of every space that is asked about, each cause once.
func (c *Checker) Check(number int, text string) Line {
	l := Line{Number: number, Text: text}
	// The verdict is counted when the line is done, whatever way it takes
	// through the function.
	c.Total++
	defer func() { c.Counts[l.Verdict]++ }()
	parse := addr.Parse
	if c.opt.Keep {
		parse = addr.ParseKept
	}
	a, err := parse(bare(text))
	if err != nil {
		l.Verdict, l.Reason = Malformed, err.Error()
		return l
	}
	l.Address = a.String()
	// A bar comes before a partner: whoever is barred is told as barred, not as
	// the partner's.
	m := c.s.Match(a)
	if m.Partner != nil && m.Bar == nil {
		l.Partner = m.Partner.ID
	}
	if m.Own {
		l.Verdict, l.Kind, l.Reason = Own, "person", "One of our own addresses; our people are not invited as guests."
		if p := c.s.PersonAt(a); p == "" {
			l.Reason = "It is at a domain of ours, and nobody there has this address."
		}
		return l
	}
	// By the normal form, so that Maren@Ilvane.example and maren@ilvane.example
	// are one.
	h := maphash.String(c.seed, l.Address)
	if at, ok := c.seen[h]; ok {
		l.Verdict, l.Reason = Duplicate, fmt.Sprintf("It stands in line %d already.", at)
		return l
	}
	c.seen[h] = number
	// Of whom nothing may be said they are asked about as a typical newcomer
	// from their domain: neither that they have a record nor that they are
	// barred by address may be told from the answer.
	as := a
	if c.opt.Stranger != nil && c.opt.Stranger(a) {
		as = addr.Newcomer(a.Domain())
	}
	l.Kind = c.s.KindAt(as, c.opt.At).String()
	if reason := c.already(a); reason != "" {
		l.Verdict, l.Reason = Already, reason
		return l
	}
	l.Verdict = Yes
	// Of several targets the same cause is told once; with a single one there
	// is nothing to compare.
	type known struct {
		code catalogue.Code
		text string
	}
	seen, once := map[known]bool{}, map[catalogue.Code]bool{}
	// The address gets a yes only where every target says yes.
	for i := range c.targets {
		q := c.question(&c.targets[i], a)
		x, err := c.s.Explain(&q)
		if err != nil {
			l.Verdict, l.Reason, l.Causes = Malformed, err.Error(), nil
			return l
		}
		d := x.Deciding()
		if d.Yes {
			for _, n := range d.Conditions.Names() {
				if !slices.Contains(l.Conditions, n) {
					l.Conditions = append(l.Conditions, n)
				}
			}
			continue
		}
		l.Verdict = No
		for _, k := range d.Refusals() {
			if len(c.targets) > 1 && seen[known{k.Code, k.Text()}] {
				continue
			}
			l.Causes = append(l.Causes, k)
			if len(c.targets) > 1 {
				seen[known{k.Code, k.Text()}] = true
			}
			// ByCause counts addresses, not causes: three spaces that refuse
			// for one reason are one.
			if !once[k.Code] {
				once[k.Code] = true
				c.ByCause[k.Code.String()]++
			}
		}
	}
	// Not for this party is no gate of the engine: it is a rule of the bundle
	// itself.
	if c.bundle != nil && !c.bundle.For(l.Partner) {
		l.Verdict = No
		l.Bundle = fmt.Sprintf("The bundle %s is for others: %s.", c.bundle.Name, strings.Join(c.bundle.Partners, ", "))
		c.ByCause[NotForBundle]++
	}
	// Conditions of one target mean nothing where another refuses.
	if l.Verdict == No {
		l.Conditions = nil
	}
	return l
}

// already says what an address holds of everything that it would be given, or
// "". Whoever already has it is not invited again. With single items in a
// bundle it is never said: a grant on an item may be longer or higher than what
// is there.
func (c *Checker) already(a addr.Address) (reason string) {
	if c.opt.Share || c.opt.Stranger != nil && c.opt.Stranger(a) {
		return ""
	}
	for _, x := range c.targets {
		if reason = c.s.HasAlready(a, x.into, c.opt.At); reason == "" || c.items {
			return ""
		}
	}
	if len(c.targets) > 1 {
		return "A member of every space of it already."
	}
	return reason
}

// bare takes an address out of what stands around it in lists and mails.
//
// It takes Maren Holtveig <maren@ilvane.example>, "<maren@ilvane.example>;" and
// mailto:maren@ilvane.example, the forms in which addresses are copied from
// mails and sheets.
func bare(text string) string {
	text = strings.TrimSpace(text)
	if i := strings.LastIndexByte(text, '<'); i >= 0 {
		if j := strings.IndexByte(text[i:], '>'); j > 0 {
			text = text[i+1 : i+j]
		}
	}
	if len(text) > 7 && strings.EqualFold(text[:7], "mailto:") {
		text = text[7:]
	}
	return strings.TrimSpace(strings.Trim(text, `;,"'`))
}

// Causes lists the causes by how many addresses they stand in the way of, the
// most frequent first. Those of equal count are in the order of their names, so
// that two runs print the same.
func (c *Checker) Causes() (names []string) {
	for n := range c.ByCause {
		names = append(names, n)
	}
	sort.Slice(names, func(i, j int) bool {
		if a, b := c.ByCause[names[i]], c.ByCause[names[j]]; a != b {
			return a > b
		}
		return names[i] < names[j]
	})
	return
}

// Split calls fn for every address of a list, with the number of its line. With
// a column the list is CSV whose first line names columns; else addresses stand
// on lines of their own or separated by commas, semicolons or blanks, and a
// name may stand before one in angle brackets. It stops at the first error of
// fn.
func Split(in io.Reader, column string, fn func(line int, text string) error) error {
	if column != "" {
		return splitCSV(in, column, fn)
	}
	// A plain list; see pieces for what may stand on one line.
	r := newLines(in)
	for {
		n, text, err := r.next()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return err
		}
		for _, piece := range pieces(text) {
			if err := fn(n, piece); err != nil {
				return err
			}
		}
	}
}

// pieces splits a line into what may be addresses, so that every word of it
// gets an outcome: commas and semicolons part, and so do blanks where no name
// stands before angle brackets (RFC 5322 §3.4 as people write it).
//
// A line that begins with # is a comment. The byte order mark that some editors
// write first is taken off (RFC 3629 §6).
func pieces(line string) (out []string) {
	line = strings.TrimPrefix(strings.TrimSpace(line), "\ufeff")
	if strings.Trim(line, ",; \t") == "" || line[0] == '#' {
		return nil
	}
	for _, part := range parted(line, ",;") {
		for part = strings.TrimSpace(part); part != ""; part = strings.TrimSpace(part) {
			open := strings.IndexByte(part, '<')
			if open < 0 {
				out = append(out, words(part)...)
				break
			}
			end := strings.IndexByte(part[open:], '>')
			if end < 0 {
				return append(out, part) // a bracket that is never closed is told as it stands
			}
			name := part[:open]
			// In "a@x.example Maren <m@x.example>" the first word is an address
			// of its own, and the name begins behind it; in quotes an @ is part
			// of a name.
			if strings.Contains(name, "@") && !strings.ContainsAny(name, `"'`) { // addresses, and then a name
				cut := strings.LastIndexByte(name, '@')
				if i := strings.IndexAny(name[cut:], " \t"); i >= 0 {
					cut += i
				} else {
					cut = len(name)
				}
				out = append(out, words(name[:cut])...)
				part = strings.TrimSpace(part[cut:])
				continue
			}
			out = append(out, part[:open+end+1])
			part = part[open+end+1:]
		}
	}
	return out
}

// words splits what stands without brackets at its blanks: each word with an @
// is told by itself, and what stands between them together.
//
// Words without an @ are not dropped: they come back as what cannot be read, so
// that the numbers of what went in and what came out agree.
func words(text string) (out []string) {
	var rest []string
	flush := func() {
		if len(rest) > 0 {
			out = append(out, strings.Join(rest, " "))
			rest = nil
		}
	}
	for _, w := range parted(text, " \t") {
		switch {
		case strings.Trim(w, ",; \t") == "":
		case strings.Contains(w, "@"):
			flush()
			out = append(out, w)
		default:
			rest = append(rest, w)
		}
	}
	flush()
	return
}

// parted splits a text at any of some characters that stand outside of double
// quotes and angle brackets.
//
// A quote that is never closed is taken as a plain character, and so is an open
// bracket: otherwise one slip would swallow the rest of the line.
func parted(text, at string) (out []string) {
	quoted, inside, from := false, false, 0
	for i := 0; i < len(text); i++ {
		switch c := text[i]; {
		case c == '"' && (quoted || strings.IndexByte(text[i+1:], '"') >= 0):
			quoted = !quoted
		case quoted:
		case c == '<':
			inside = strings.IndexByte(text[i:], '>') > 0
		case c == '>':
			inside = false
		case !inside && strings.IndexByte(at, c) >= 0:
			out = append(out, text[from:i])
			from = i + 1
		}
	}
	return append(out, text[from:])
}

// splitCSV hands over one column of a list whose first line names its columns,
// with the line on which each value stands. Upper and lower case are one; where
// there is no such column, the error names those there are.
func splitCSV(in io.Reader, column string, fn func(line int, text string) error) error {
	r := sheet.NewReader(in)
	// Sheets that people keep have lines of different lengths and stray quotes.
	// Only one column is read, so the others may be as they like.
	r.FieldsPerRecord, r.ReuseRecord, r.LazyQuotes = -1, true, true
	head, err := r.Read()
	if err != nil {
		return &engine.WrongUse{Field: "column", Value: column, Reason: "the list is empty; its first line names the columns"}
	}
	at := -1
	var have []string
	for i, h := range head {
		h = strings.TrimSpace(strings.TrimPrefix(h, "\ufeff"))
		have = append(have, h)
		if strings.EqualFold(h, column) {
			at = i
		}
	}
	if at < 0 {
		return &engine.WrongUse{Field: "column", Value: column, Reason: "the columns are " + strings.Join(have, ", ")}
	}
	for {
		f, err := r.Read()
		if errors.Is(err, io.EOF) {
			return nil
		}
		if err != nil {
			return &engine.WrongUse{Field: "list", Value: column, Reason: err.Error()}
		}
		n, _ := r.FieldPos(0)
		if at < len(f) && strings.TrimSpace(f[at]) != "" {
			// The reader uses its memory again for the next line.
			if err := fn(n, strings.Clone(f[at])); err != nil {
				return err
			}
		}
	}
}
