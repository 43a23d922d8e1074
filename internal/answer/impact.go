package answer

import (
	"cmp"
	"fmt"
	"sort"
	"strings"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/draft"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/report"
)

// MaxImpactLines is how many lines an impact holds; all of them come as CSV.
const MaxImpactLines = 1000

func movesOf(m engine.Moves) contract.Moves {
	return contract.Moves{Gained: m.Gained, Lost: m.Lost, Otherwise: m.Otherwise}
}

func movesBy(key, name string, m engine.Moves) contract.MovesBy {
	return contract.MovesBy{Key: key, Name: text(name), Gained: m.Gained, Lost: m.Lost, Otherwise: m.Otherwise}
}

func sizeOf(m *contract.MovesBy) int { return m.Gained + m.Lost + m.Otherwise }

// byKey writes moves by a key, the largest first.
func byKey(in map[string]*engine.Moves, name func(string) string) []contract.MovesBy {
	out := []contract.MovesBy{}
	for k, m := range in {
		key := k
		if key == "" {
			key = "none"
		}
		out = append(out, movesBy(key, name(k), *m))
	}
	sort.Slice(out, func(i, j int) bool {
		if a, b := sizeOf(&out[i]), sizeOf(&out[j]); a != b {
			return a > b
		}
		return out[i].Key < out[j].Key
	})
	return out
}

func (v *View) partnerName(id string) string {
	if id == "" {
		return "no partner"
	}
	ps := v.Snapshot.Policy().Partners
	for i := range ps {
		if ps[i].ID == id {
			return ps[i].Name
		}
	}
	return ""
}

func (v *View) spaceName(id string) string {
	return v.Snapshot.NameOf(world.Resource{Kind: catalogue.Space, ID: id})
}

func wideNumbers(change string, in []engine.WideSum, out []contract.WideNumber) []contract.WideNumber {
	for _, w := range in {
		n := contract.WideNumber{
			Action:    w.Action.String(),
			Service:   w.Action.Get().Service().String(),
			Kind:      w.Kind.String(),
			Scope:     text(w.Scope),
			Parties:   w.Parties,
			Resources: w.Resources,
			Pairs:     w.Pairs,
		}
		if change != "" {
			c := contract.WideNumberChange(change)
			n.Change = &c
		}
		out = append(out, n)
	}
	return out
}

func newcomersOf(in []engine.NewcomerMove, only string) []contract.ImpactNewcomer {
	out := []contract.ImpactNewcomer{}
	for _, n := range in {
		if only == "" || n.Change == only {
			out = append(
				out,
				contract.ImpactNewcomer{
					Who:     n.Newcomer.Who.String(),
					Name:    n.Newcomer.Name,
					Partner: text(n.Newcomer.Partner),
					Action:  n.Action.String(),
					Kind:    n.Kind.String(),
					Count:   n.Count,
					Change:  contract.ImpactNewcomerChange(n.Change),
				},
			)
		}
	}
	return out
}

// ImpactLine writes one line of an impact.
func (v *View) ImpactLine(l *engine.ImpactLine) contract.ImpactLine {
	out := contract.ImpactLine{
		Who:      l.Who.String(),
		Name:     text(v.Snapshot.NameOfSubject(l.Who)),
		Change:   contract.ImpactLineChange(l.Change),
		Actions:  []string{},
		Resource: l.Resource.String(),
		Count:    l.Count,
		Wide:     l.Wide,
	}
	for _, a := range catalogue.Actions() {
		if l.Actions.Has(a.ID) {
			out.Actions = append(out.Actions, a.Name)
		}
	}
	if l.Who.Kind == engine.ByAddress {
		if m := v.Snapshot.Match(l.Who.Address); m.Partner != nil {
			out.Partner = text(m.Partner.ID)
		}
	}
	if l.Resource.ID != "*" {
		out.ResourceName = text(v.Snapshot.NameOf(l.Resource))
	}
	return out
}

// Impact writes an impact. View is of the state before.
func (v *View) Impact(x *engine.Impact, lines []engine.ImpactLine, more bool) contract.Impact {
	sort.SliceStable(lines, func(i, j int) bool {
		a, b := &lines[i], &lines[j]
		if a.Wide != b.Wide {
			return b.Wide
		}
		if x, y := a.Who.String(), b.Who.String(); x != y {
			return x < y
		}
		return a.Resource.String() < b.Resource.String()
	})
	out := contract.Impact{
		Stated:   v.Stated(),
		At:       x.At.String(),
		Nothing:  x.Nothing(),
		Parties:  movesOf(x.Parties),
		Granted:  movesOf(x.Total()),
		Services: []contract.MovesBy{},
		Actions:  []contract.MovesBy{},
		Kinds: byKey(
			x.Kinds,
			func(string) string { return "" },
		),
		Partners:     byKey(x.Partners, v.partnerName),
		Spaces:       byKey(x.Spaces, v.spaceName),
		Wide:         []contract.WideNumber{},
		Newcomers:    newcomersOf(x.Newcomers, ""),
		LinksStopped: append([]string{}, x.LinksStopped...),
		LinksStarted: append([]string{}, x.LinksStarted...),
		Held:         []contract.HeldChange{},
		Lines:        []contract.ImpactLine{},
		More:         more,
		Loosens:      []string{},
	}
	var services [catalogue.NumServices]engine.Moves
	for _, a := range catalogue.Actions() {
		m := x.Granted[a.ID]
		if !m.Any() {
			continue
		}
		out.Actions = append(out.Actions, movesBy(a.Name, a.Title, m))
		s := &services[a.Service()]
		s.Gained, s.Lost, s.Otherwise = s.Gained+m.Gained, s.Lost+m.Lost, s.Otherwise+m.Otherwise
	}
	for s, m := range services {
		if m.Any() {
			out.Services = append(out.Services, movesBy(catalogue.Service(s).String(), "", m))
		}
	}
	out.SpacesTotal = len(out.Spaces)
	out.Spaces = out.Spaces[:min(100, len(out.Spaces))]
	out.Wide = wideNumbers("gained", x.WideGained, out.Wide)
	out.Wide = wideNumbers("lost", x.WideLost, out.Wide)
	out.Wide = wideNumbers("otherwise", x.WideOtherwise, out.Wide)
	for i := range lines {
		out.Lines = append(out.Lines, v.ImpactLine(&lines[i]))
	}
	v.elsewhere(x, &out)
	return out
}

// elsewhere writes what an impact counts of our own people and of records that it ends.
func (v *View) elsewhere(x *engine.Impact, out *contract.Impact) {
	person := func(id string) *string {
		return text(cmp.Or(v.Snapshot.NameOf(world.Resource{Kind: catalogue.Person, ID: id}), id))
	}
	if len(x.Outward) > 0 {
		list := make([]contract.ImpactOutward, 0, len(x.Outward))
		for _, m := range x.Outward {
			list = append(
				list,
				contract.ImpactOutward{
					Action:  m.Action.String(),
					Who:     m.Target.Who.String(),
					Name:    m.Target.Name,
					Partner: text(m.Target.Partner),
					People:  m.People,
					Person:  person(m.Person),
					Change:  contract.ImpactOutwardChange(m.Change),
				},
			)
		}
		out.Outward = &list
	}
	if len(x.Forwarders) > 0 {
		list := make([]contract.ImpactForwarder, 0, len(x.Forwarders))
		for _, m := range x.Forwarders {
			list = append(list, contract.ImpactForwarder{Mailbox: *person(m.Mailbox), To: m.To.String(), Starts: m.Starts})
		}
		out.Forwarders = &list
	}
	if len(x.Presenters) > 0 {
		list := make([]contract.ImpactPresenters, 0, len(x.Presenters))
		for _, m := range x.Presenters {
			p := contract.ImpactPresenters{
				Action:     m.Action.String(),
				Change:     contract.ImpactPresentersChange(m.Change),
				Parties:    m.Parties,
				Presenters: m.Presenters,
				Pairs:      m.Pairs,
				Person:     person(m.Person),
				Newcomers:  []string{},
			}
			for _, n := range m.Newcomers {
				p.Newcomers = append(p.Newcomers, n.Name)
			}
			list = append(list, p)
		}
		out.Presenters = &list
	}
	if x.Suspended > 0 {
		out.Suspended = &x.Suspended
	}
}

// Collect returns a function that keeps the first lines of an impact, and where they
// are kept. Those of granted actions come first, so wide ones never cohort them out.
func Collect() (line func(*engine.ImpactLine) bool, lines *[]engine.ImpactLine, more *bool) {
	lines, more = &[]engine.ImpactLine{}, new(bool)
	return func(l *engine.ImpactLine) bool {
		if len(*lines) == MaxImpactLines {
			*more = true
			return false
		}
		*lines = append(*lines, *l)
		return true
	}, lines, more
}

// ImpactColumns are those of the lines of an impact in CSV.
var ImpactColumns = []string{"change", "party", "name", "partner", "actions", "resource", "resource_name", "resources", "sort"}

// ImpactRow writes one line of an impact as a row of ImpactColumns.
func (v *View) ImpactRow(l *engine.ImpactLine) []string {
	x := v.ImpactLine(l)
	sort := "granted"
	if x.Wide {
		sort = "wide"
	}
	return []string{
		string(x.Change),
		x.Who,
		opt(x.Name),
		opt(x.Partner),
		strings.Join(x.Actions, " "),
		x.Resource,
		opt(x.ResourceName),
		fmt.Sprint(x.Count),
		sort,
	}
}

func opt(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

// ImpactReport writes an impact to travel.
func (v *View) ImpactReport(title string, x *contract.Impact) *report.Report {
	out := &report.Report{
		Head:    v.head(title, x.Stated),
		Columns: []string{"change", "party", "partner", "actions", "resource", "resources"},
	}
	out.Summary = [][2]string{
		{"parties that gain", fmt.Sprint(x.Parties.Gained)},
		{"parties that lose", fmt.Sprint(x.Parties.Lost)},
		{"granted, gained", fmt.Sprint(x.Granted.Gained)},
		{"granted, lost", fmt.Sprint(x.Granted.Lost)},
		{"links that stop", fmt.Sprint(len(x.LinksStopped))},
	}
	for i := range x.Lines {
		l := &x.Lines[i]
		out.Rows = append(
			out.Rows,
			[]string{string(l.Change), l.Who, opt(l.Partner), strings.Join(l.Actions, " "), l.Resource, fmt.Sprint(l.Count)},
		)
	}
	return out
}

func numbered(key, name string, sum *engine.Sum) contract.Numbered {
	out := contract.Numbered{Key: key, Name: text(name), Parties: &sum.Parties, Reaching: &sum.Reaching, Granted: sum.Total()}
	services := services(sum)
	out.Services = &services
	return out
}

func services(sum *engine.Sum) map[string]int {
	out := map[string]int{}
	for s, n := range sum.By() {
		if n > 0 {
			out[catalogue.Service(s).String()] = n
		}
	}
	return out
}

func largest(out []contract.Numbered) []contract.Numbered {
	sort.Slice(out, func(i, j int) bool {
		if out[i].Granted != out[j].Granted {
			return out[i].Granted > out[j].Granted
		}
		return out[i].Key < out[j].Key
	})
	return out
}

// maxSpaces is how many spaces are listed among numbers.
const maxSpaces = 1000

// Numbers counts what everybody outside can do (model §7). stop, where not nil, ends
// the work early.
func (v *View) Numbers(stop <-chan struct{}, failed func() error) (contract.Numbers, error) {
	count := v.Snapshot.Population
	if v.Aside {
		count = v.Snapshot.PopulationAside
	}
	p := count(v.At, stop)
	if p == nil {
		return contract.Numbers{}, failed()
	}
	wide, err := v.Snapshot.Wide(v.At, failed)
	if err != nil {
		return contract.Numbers{}, err
	}
	all := services(&p.All)
	out := contract.Numbers{
		Stated:      v.Stated("Actions about somebody else (inviting, sharing), which are asked one by one."),
		Parties:     p.All.Parties,
		Reaching:    p.All.Reaching,
		Granted:     p.All.Total(),
		Newcomers:   len(v.Snapshot.Newcomers()),
		Services:    &all,
		Actions:     []contract.Numbered{},
		Kinds:       []contract.Numbered{},
		Partners:    []contract.Numbered{},
		Spaces:      []contract.Numbered{},
		SpacesTotal: len(p.Spaces),
		Wide:        wideNumbers("", wide, []contract.WideNumber{}),
	}
	for _, a := range catalogue.Actions() {
		if n := p.All.Actions[a.ID]; n > 0 {
			out.Actions = append(out.Actions, contract.Numbered{Key: a.Name, Name: text(a.Title), Granted: n})
		}
	}
	for k, sum := range p.Kinds {
		out.Kinds = append(out.Kinds, numbered(k, "", sum))
	}
	for k, sum := range p.Partners {
		key := k
		if k == "" {
			key = "none"
		}
		out.Partners = append(out.Partners, numbered(key, v.partnerName(k), sum))
	}
	for k, n := range p.Spaces {
		out.Spaces = append(out.Spaces, contract.Numbered{Key: k, Granted: n})
	}
	largest(out.Kinds)
	largest(out.Partners)
	out.Spaces = largest(out.Spaces)[:min(maxSpaces, len(out.Spaces))]
	for i := range out.Spaces {
		out.Spaces[i].Name = text(v.spaceName(out.Spaces[i].Key))
	}
	return out, nil
}

// NumberFilter picks the lines behind a number.
type NumberFilter struct {
	Actions engine.Actions // any of them; 0 is all
	Kind    string
	Partner string // none: of no partner
	Space   string
}

// NumberLines lists granted actions from party number from on, line by line until
// limit. It returns the number and place to go on from; next is none at the end.
func (v *View) NumberLines(
	f NumberFilter,
	from engine.LinesFrom,
	limit int,
	stop func() error,
) (out []contract.NumberLine, next engine.LinesFrom, err error) {
	out = []contract.NumberLine{}
	next, err = v.Snapshot.GrantedLines(v.At, from, limit, func(kind engine.Kind, partner string) bool {
		if f.Kind != "" && f.Kind != kind.String() {
			return false
		}
		return f.Partner == "" || f.Partner == partner || f.Partner == "none" && partner == ""
	}, f.Space, f.Actions, stop, func(l *engine.GrantedLine) {
		x := contract.NumberLine{
			Party:        l.Who.String(),
			Name:         text(v.Snapshot.NameOfSubject(l.Who)),
			Kind:         l.Kind.String(),
			Partner:      text(l.Partner),
			Resource:     l.Resource.String(),
			ResourceName: text(v.Snapshot.NameOf(l.Resource)),
			Actions:      []string{},
		}
		for _, a := range catalogue.Actions() {
			if l.Actions.Has(a.ID) {
				x.Actions = append(x.Actions, a.Name)
			}
		}
		out = append(out, x)
	})
	return
}

// RuleAudience writes what would be lost if a value were the next tighter one.
func (v *View) RuleAudience(
	rule *catalogue.Rule,
	value, tighter catalogue.Value,
	x *engine.Impact,
	lines []engine.ImpactLine,
	more bool,
) contract.RuleAudience {
	imp := v.Impact(x, lines, more)
	out := contract.RuleAudience{
		Stated:    imp.Stated,
		Rule:      rule.Name,
		Value:     rule.Scale.Format(value),
		Parties:   x.Parties.Lost,
		Granted:   x.Total().Lost,
		Services:  lostOf(imp.Services),
		Kinds:     lostOf(imp.Kinds),
		Partners:  lostOf(imp.Partners),
		Wide:      []contract.WideNumber{},
		Newcomers: newcomersOf(x.Newcomers, "lost"),
		Lines:     imp.Lines,
		More:      more,
	}
	if tighter != catalogue.Unset {
		out.Tighter = text(rule.Scale.Format(tighter))
	}
	out.Wide = wideNumbers("", x.WideLost, out.Wide)
	return out
}

func lostOf(in []contract.MovesBy) []contract.Numbered {
	out := []contract.Numbered{}
	for _, m := range in {
		if m.Lost > 0 {
			out = append(out, contract.Numbered{Key: m.Key, Name: m.Name, Granted: m.Lost})
		}
	}
	return out
}

// DraftEdit writes an edit of policy.
func DraftEdit(e *draft.Edit) contract.DraftEdit {
	out := contract.DraftEdit{Kind: e.Kind, Id: e.ID, Title: e.Title(), By: text(e.By), At: text(e.At), Why: text(e.Why)}
	out.Changes = changes(e)
	return out
}

func changes(e *draft.Edit) []struct {
	Field string `json:"field"`
	Now   string `json:"now"`
	Was   string `json:"was"`
} {
	out := make([]struct {
		Field string `json:"field"`
		Now   string `json:"now"`
		Was   string `json:"was"`
	}, 0)
	for _, c := range e.Changes() {
		out = append(out, struct {
			Field string `json:"field"`
			Now   string `json:"now"`
			Was   string `json:"was"`
		}{c.Field, c.Now, c.Was})
	}
	return out
}

// DraftConflict writes an edit of something that was changed otherwise meanwhile.
func DraftConflict(c *draft.Conflict) contract.DraftConflict {
	theirs := draft.Edit{Kind: c.Edit.Kind, ID: c.Edit.ID, Was: c.Edit.Was, Now: c.Live}
	out := contract.DraftConflict{Kind: c.Edit.Kind, Id: c.Edit.ID, Title: c.Edit.Title(), Fields: append([]string{}, c.Fields...)}
	out.Mine, out.Theirs = changes(&c.Edit), changes(&theirs)
	return out
}

// Tightened returns a policy in which nobody gets a value of a rule, or a looser one,
// but the next tighter: its limit is that. It is what a value's audience is found by.
func Tightened(p *world.World, rule *catalogue.Rule, limit, value catalogue.Value) (*world.World, catalogue.Value, error) {
	scale := &rule.Scale
	if scale.Looser(value, limit) {
		return nil, 0, fmt.Errorf("the limit is %s; nobody gets more", scale.Format(limit))
	}
	if scale.Shape == catalogue.Days {
		return nil, 0, fmt.Errorf("a rule of days opens nothing by itself; it says when something ends")
	}
	tighter := catalogue.Unset
	for _, v := range scale.All() {
		if scale.Looser(value, v) && (tighter == catalogue.Unset || scale.Looser(v, tighter)) {
			tighter = v
		}
	}
	if tighter == catalogue.Unset {
		return nil, 0, fmt.Errorf("%s is the tightest; nobody owes anything to it", scale.Format(value))
	}
	set := world.RuleSetting{Rule: rule.ID, Limit: tighter, Default: catalogue.Unset, Counts: catalogue.Unset}
	return world.Merge(p, &world.World{Policy: world.Policy{Rules: []world.RuleSetting{set}}}), tighter, nil
}

// Files weighs the policy of one world against that of another: the states before and
// after over the inventory of the second, and a view of the first.
func Files(was, next *world.World, now moment.Moment, at string) (v *View, before, after *engine.Snapshot, err error) {
	held := *next.BeforeHolding(was) // inventory of the next, under the policy that was
	held.Organisation, held.Settings, held.Rules, held.Partners, held.Barred, held.Personal, held.Exceptions, held.Bundles, held.Expectations =
		was.Organisation, was.Settings, was.Rules, was.Partners, was.Barred, was.Personal, was.Exceptions, was.Bundles, was.Expectations
	if held.Organisation == nil {
		held.Organisation = next.Organisation
	}
	before = engine.Of(&held)
	v = &View{Snapshot: before, At: now, Recorded: "now"}
	if at != "" {
		if v.At, err = moment.ParseLoose(at, now, before.Zone()); err != nil {
			return
		}
	}
	e := before.Aside()
	e.SetPolicy(next)
	e.HoldBack()
	e.ActForward(v.At)
	after = e.Done()
	return
}

// ImpactAll lists every line of an impact.
func (v *View) ImpactAll(before, after *engine.Snapshot, stop func() error) (*report.Report, error) {
	out := &report.Report{Columns: ImpactColumns}
	_, err := engine.ImpactOf(before, after, v.At, func(l *engine.ImpactLine) bool {
		out.Rows = append(out.Rows, v.ImpactRow(l))
		return true
	}, stop, nil)
	return out, err
}
