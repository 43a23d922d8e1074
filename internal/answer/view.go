package answer

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/report"
)

// View is a result about many, stated with what it is of.
type View struct {
	Snapshot *engine.Snapshot
	Revision uint64
	At       moment.Moment
	Recorded string // now, then, first
	Draft    string // as which it is answered; empty for what is in force
	Aside    bool   // nobody waits for the answer: it leaves processors to others
}

// method says how results are found; notLooked what nobody can see from here.
const method = "Each question is decided by the engine from the recorded policy and inventory, every gate asked; nothing is sampled."

var notLooked = []string{
	"What the suite itself does: settings that were changed there and not here.",
	"What ours reach at theirs, beyond what their side is known to admit.",
}

// Stated is what the result states about itself.
func (v *View) Stated(more ...string) contract.Stated {
	out := contract.Stated{
		Revision:    int64(v.Revision),
		At:          v.At.String(),
		Recorded:    contract.StatedRecorded(v.Recorded),
		Method:      method,
		NotLookedAt: append(append([]string{}, notLooked...), more...),
	}
	if o := v.Snapshot.Policy().Organisation; o != nil {
		out.Organisation = o.Name
	}
	if v.Draft != "" {
		out.Draft = &v.Draft
	}
	switch v.Recorded {
	case "first":
		out.Method += " Nothing was recorded yet at that moment: the first record was asked as of then."
	case "then":
		out.Method += " Asked of what was recorded at that moment."
	}
	return out
}

// ResidualRisk says what stays open for everybody, whatever their gates say; empty
// where nothing does.
func (v *View) ResidualRisk() string {
	ids := v.Snapshot.WorkingLinks(v.At)
	if len(ids) == 0 {
		return ""
	}
	shown := ids[:min(len(ids), 5)]
	more := ""
	if len(ids) > len(shown) {
		more = fmt.Sprintf(" and %d more", len(ids)-len(shown))
	}
	if len(ids) == 1 {
		return fmt.Sprintf("1 link opens to whoever holds it, those refused here included: %s.", ids[0])
	}
	return fmt.Sprintf("%d links open to whoever holds one, those refused here included: %s%s.", len(ids), strings.Join(shown, ", "), more)
}

func (v *View) head(title string, st contract.Stated) report.Head {
	at := v.At.Time().In(v.Snapshot.Zone()).Format("2 January 2006, 15:04 MST")
	return report.Head{
		Title:        title,
		Organisation: st.Organisation,
		Revision:     v.Revision,
		At:           at,
		Method:       st.Method,
		Not:          st.NotLookedAt,
		Draft:        v.Draft,
	}
}

// Filter picks parties by a text in address, name or partner, and by kind.
type Filter struct{ Text, Kind string }

func (f Filter) keeps(who, name, partner, kind string) bool {
	t := strings.ToLower(f.Text)
	return (f.Kind == "" || f.Kind == kind) &&
		(t == "" || strings.Contains(who, t) || strings.Contains(strings.ToLower(name), t) || strings.Contains(partner, t))
}

// OnlyAction turns an action's name, or service.*, into a filter; nil for all.
func OnlyAction(text string) (func(*catalogue.Action) bool, error) {
	if text == "" || text == "*" {
		return nil, nil
	}
	if service, ok := strings.CutSuffix(text, ".*"); ok {
		for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
			if s.String() == service {
				return func(a *catalogue.Action) bool { return a.Service() == s }, nil
			}
		}
		return nil, &engine.WrongUse{Field: "action", Value: text, Reason: "there is no such service"}
	}
	id, err := engine.ParseAction(text)
	if err != nil {
		return nil, err
	}
	return func(a *catalogue.Action) bool { return a.ID == id }, nil
}

func momentText(m moment.Moment) *string {
	if !m.IsSet() {
		return nil
	}
	return text(m.String())
}

// AudienceLine writes one line of an audience.
func AudienceLine(x *engine.Reached) contract.AudienceLine {
	out := contract.AudienceLine{
		Party:        x.Who.String(),
		Name:         text(x.Name),
		Kind:         x.Kind.String(),
		Partner:      text(x.Partner),
		Newcomer:     x.Newcomer,
		Action:       x.Action.String(),
		Resource:     x.Resource.String(),
		ResourceName: text(x.Title),
		Account:      x.Account.String(),
		Conditions:   x.Conditions.Names(),
		Cause:        Cause(&x.Cause),
		Since:        momentText(x.Since),
		Until:        momentText(x.Until),
		Residual:     x.Residual,
	}
	if out.Conditions == nil {
		out.Conditions = []string{}
	}
	return out
}

func (v *View) day(m moment.Moment, end bool) string {
	if !m.IsSet() {
		return ""
	}
	t := m.Time().In(v.Snapshot.Zone())
	if moment.DayOf(m, v.Snapshot.Zone()).Start(v.Snapshot.Zone()) == m {
		if end {
			t = t.Add(-1)
		}
		return t.Format("2006-01-02")
	}
	return t.Format("2006-01-02 15:04")
}

// AudienceReport writes all lines of an audience to travel.
func (v *View) AudienceReport(r world.Resource, all *Audience, lines []engine.Reached) *report.Report {
	name := v.Snapshot.NameOf(r)
	if name == "" {
		name = r.String()
	}
	parties, newcomers := all.Counted()
	out := &report.Report{
		Head: v.head("Who outside can do what with "+name, v.Stated()),
		Summary: [][2]string{
			{"known parties", fmt.Sprint(parties)},
			{"typical newcomers", fmt.Sprint(newcomers)},
			{"lines", fmt.Sprint(len(lines))},
		},
		Columns: []string{
			"party",
			"name",
			"kind",
			"partner",
			"action",
			"resource",
			"account",
			"conditions",
			"through",
			"since",
			"until",
			"residual risk",
		},
	}
	for i := range lines {
		x := &lines[i]
		residual := ""
		if x.Residual {
			residual = "yes"
		}
		out.Rows = append(
			out.Rows,
			[]string{
				x.Who.String(),
				x.Name,
				x.Kind.String(),
				x.Partner,
				x.Action.String(),
				x.Resource.String(),
				x.Account.String(),
				strings.Join(x.Conditions.Names(), " "),
				x.Cause.Text(),
				v.day(x.Since, false),
				v.day(x.Until, true),
				residual,
			},
		)
	}
	return out
}

// Meant is somebody who is meant by a word for several.
type Meant struct {
	Who      engine.Who
	Name     string
	Partner  string
	Newcomer bool
}

// Key is what one that is meant is known by and listed in the order of: known ones first.
func (m *Meant) Key() string { return fmt.Sprintf("%t %d %s", m.Newcomer, m.Who.Kind, m.Who) }

// compare puts two in the order of their keys, without writing these: there may be a million.
func (m *Meant) compare(o *Meant) int {
	switch {
	case m.Newcomer != o.Newcomer && o.Newcomer:
		return -1
	case m.Newcomer != o.Newcomer:
		return 1
	}
	return cmp.Or(cmp.Compare(m.Who.Kind, o.Who.Kind), cmp.Compare(m.Who.String(), o.Who.String()))
}

// Meant lists who is meant by a word for several; known ones first.
func (v *View) Meant(word string, f Filter) ([]Meant, error) {
	if word == "" {
		word = "everybody"
	}
	known, newcomers, err := v.Snapshot.Group(word, v.At)
	if err != nil {
		return nil, err
	}
	out := []Meant{}
	for _, w := range known {
		m := Meant{Who: w, Name: v.Snapshot.NameOfSubject(w)}
		if w.Kind == engine.ByAddress {
			if x := v.Snapshot.Match(w.Address); x.Partner != nil {
				m.Partner = x.Partner.ID
			}
		}
		out = append(out, m)
	}
	for _, n := range newcomers {
		out = append(out, Meant{n.Who, n.Name, n.Partner, true})
	}
	slices.SortStableFunc(out, func(a, b Meant) int { return a.compare(&b) })
	kept := out[:0]
	for _, m := range out {
		if f.keeps(m.Who.String(), m.Name, m.Partner, "") {
			kept = append(kept, m)
		}
	}
	return kept, nil
}

// Rows counts what each of some parties can do.
func (v *View) Rows(who []Meant, stop func() error) ([]engine.OnBoard, error) {
	out := make([]engine.OnBoard, 0, len(who))
	for _, m := range who {
		if err := stop(); err != nil {
			return nil, err
		}
		b, err := v.Snapshot.Board(m.Who, v.At)
		if err != nil {
			return nil, err
		}
		b.Name, b.Partner, b.Newcomer = m.Name, m.Partner, m.Newcomer
		out = append(out, b)
	}
	return out, nil
}

// Board counts what each of those meant by a word can do.
func (v *View) Board(word string, f Filter, stop func() error) ([]engine.OnBoard, error) {
	who, err := v.Meant(word, f)
	if err != nil {
		return nil, err
	}
	return v.Rows(who, stop)
}

// BoardRow writes one row of a board.
func BoardRow(b *engine.OnBoard) contract.BoardRow {
	out := contract.BoardRow{
		Party:    b.Who.String(),
		Name:     text(b.Name),
		Kind:     b.Kind.String(),
		Partner:  text(b.Partner),
		Newcomer: b.Newcomer,
		Granted:  map[string]int{},
		Wide:     map[string]int{},
		Until:    momentText(b.Until),
	}
	for s := range b.Granted {
		if n := b.Granted[s]; n > 0 {
			out.Granted[catalogue.Service(s).String()] = n
		}
		if n := b.Wide[s]; n > 0 {
			out.Wide[catalogue.Service(s).String()] = n
		}
	}
	return out
}

// BoardTotals sums a board up: granted and wide are never added together, and
// typical newcomers are counted apart.
func BoardTotals(rows []engine.OnBoard) contract.BoardTotals {
	out := contract.BoardTotals{Granted: map[string]int{}, Reached: map[string]int{}, ByKind: map[string]int{}, ByPartner: map[string]int{}}
	for i := range rows {
		b := &rows[i]
		if b.Newcomer {
			out.Newcomers++
			continue
		}
		out.Parties++
		out.ByKind[b.Kind.String()]++
		if b.Partner != "" {
			out.ByPartner[b.Partner]++
		}
		for s := range b.Granted {
			name := catalogue.Service(s).String()
			out.Granted[name] += b.Granted[s]
			if b.Granted[s]+b.Wide[s] > 0 {
				out.Reached[name]++
			}
		}
	}
	return out
}

// BoardReport writes a board to travel.
func (v *View) BoardReport(word string, rows []engine.OnBoard) *report.Report {
	if word == "" {
		word = "everybody"
	}
	t := BoardTotals(rows)
	out := &report.Report{
		Head: v.head(
			"What "+word+" outside can do",
			v.Stated("Actions about somebody else (inviting, sharing), which are asked one by one."),
		),
		Summary: [][2]string{{"known parties", fmt.Sprint(t.Parties)}, {"typical newcomers", fmt.Sprint(t.Newcomers)}},
		Columns: []string{"party", "name", "kind", "partner"},
	}
	for s := catalogue.Service(0); s < catalogue.NumServices; s++ {
		out.Columns = append(out.Columns, s.String()+" granted", s.String()+" wide")
		out.Summary = append(out.Summary, [2]string{s.String() + " granted", fmt.Sprint(t.Granted[s.String()])})
	}
	out.Columns = append(out.Columns, "first ends")
	if r := v.ResidualRisk(); r != "" {
		out.Method += " Residual risk: " + r
	}
	for i := range rows {
		b := &rows[i]
		row := []string{b.Who.String(), b.Name, b.Kind.String(), b.Partner}
		for s := range b.Granted {
			row = append(row, fmt.Sprint(b.Granted[s]), fmt.Sprint(b.Wide[s]))
		}
		out.Rows = append(out.Rows, append(row, v.day(b.Until, true)))
	}
	return out
}

// DiffLine writes one difference.
func DiffLine(d *engine.Differing) contract.DiffLine {
	out := contract.DiffLine{
		Change:   contract.DiffLineChange(d.Change()),
		Action:   d.Action.String(),
		Resource: d.Resource.String(),
		Name:     text(d.Name),
		Count:    d.Count,
	}
	if !d.LeftMissing {
		c := Cause(&d.Was)
		out.Was = &c
	}
	if !d.RightMissing {
		c := Cause(&d.Becomes)
		out.Becomes = &c
	}
	if d.Left.Yes {
		n := d.Left.Conditions.Names()
		out.WasConditions = &n
	}
	if d.Right.Yes {
		n := d.Right.Conditions.Names()
		out.BecomesConditions = &n
	}
	return out
}

// Differences lists what two sides may not do alike.
func Differences(left, right *View, a, b engine.Who, stop func() error) ([]engine.Differing, error) {
	out := []engine.Differing{}
	err := engine.Difference(
		engine.Asked{Snapshot: left.Snapshot, Who: a, At: left.At},
		engine.Asked{Snapshot: right.Snapshot, Who: b, At: right.At},
		func(d *engine.Differing) error {
			if err := stop(); err != nil {
				return err
			}
			out = append(out, *d)
			return nil
		},
	)
	return out, err
}

// DiffReport writes differences to travel.
func DiffReport(left, right *View, a, b engine.Who, lines []engine.Differing) *report.Report {
	title := fmt.Sprintf("What %s may do at %s and not at %s", a, left.day(left.At, false), right.day(right.At, false))
	if a != b {
		title = fmt.Sprintf("What %s may do and %s may not", a, b)
	}
	count := map[string]int{}
	out := &report.Report{
		Head:    right.head(title, right.Stated()),
		Columns: []string{"change", "action", "resource", "was", "because", "becomes", "because of"},
	}
	for i := range lines {
		d := &lines[i]
		count[d.Change()] += d.Count
		side := func(v engine.Verdict, missing bool, c *engine.Cause) (string, string) {
			switch {
			case missing:
				return "not there", ""
			case v.Yes:
				return strings.TrimSpace("yes " + strings.Join(v.Conditions.Names(), " ")), c.Text()
			}
			return "no", c.Text()
		}
		was, because := side(d.Left, d.LeftMissing, &d.Was)
		becomes, of := side(d.Right, d.RightMissing, &d.Becomes)
		resource := d.Resource.String()
		if d.Count > 1 {
			resource += fmt.Sprintf(" (%d)", d.Count)
		}
		out.Rows = append(out.Rows, []string{d.Change(), d.Action.String(), resource, was, because, becomes, of})
	}
	out.Summary = [][2]string{
		{"gained", fmt.Sprint(count["gained"])},
		{"lost", fmt.Sprint(count["lost"])},
		{"otherwise", fmt.Sprint(count["otherwise"])},
	}
	return out
}

// ReachReport writes a reach to travel.
func (v *View) ReachReport(who engine.Who, kind engine.Kind, lines []engine.ReachLine) *report.Report {
	name := v.Snapshot.NameOfSubject(who)
	if name == "" {
		name = who.String()
	}
	yes := 0
	out := &report.Report{
		Head: v.head(
			fmt.Sprintf("What %s (%s, %s) reaches", name, who, kind),
			v.Stated("Actions about somebody else (inviting, sharing), which are asked one by one."),
		),
		Columns: []string{"action", "resource", "name", "decision", "account", "conditions", "because", "since", "until"},
	}
	for i := range lines {
		l := &lines[i]
		if l.Yes {
			yes += l.Count
		}
		resource := l.Resource.String()
		if l.Count > 1 {
			resource += fmt.Sprintf(" (%d)", l.Count)
		}
		conditions := ""
		if l.Yes {
			conditions = strings.Join(l.Conditions.Names(), " ")
		}
		out.Rows = append(
			out.Rows,
			[]string{
				l.Action.String(),
				resource,
				l.Name,
				YesNo(l.Yes),
				l.Account.String(),
				conditions,
				l.Cause.Text(),
				v.day(l.Since, false),
				v.day(l.Until, true),
			},
		)
	}
	out.Summary = [][2]string{{"yes", fmt.Sprint(yes)}, {"lines", fmt.Sprint(len(lines))}}
	return out
}

// Residual reports whether a yes holds although the party's partner is suspended,
// ended or the address barred, or because somebody holds a link.
func (v *View) Residual(who engine.Who, l *engine.ReachLine) bool {
	if !l.Yes {
		return false
	}
	if l.Account == engine.LinkAccount {
		return true
	}
	if who.Kind != engine.ByAddress || who.Address == (addr.Address{}) {
		return false
	}
	m := v.Snapshot.Match(who.Address)
	return m.Bar != nil || m.Partner != nil && m.Partner.Standing != world.Active
}
