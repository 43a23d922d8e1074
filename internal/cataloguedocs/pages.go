// Package cataloguedocs writes the pages about every rule and action of the
// catalogue, with examples whose answers it asks the engine for.
package cataloguedocs

import (
	"fmt"
	"sort"
	"strings"

	"wexillum.example/internal/core/addr"
	"wexillum.example/internal/core/catalogue"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
	"wexillum.example/internal/core/world"
	"wexillum.example/internal/worldfile"
)

// Asked is the moment at which the examples are asked.
const Asked = "2026-11-23T09:00:00Z"

// Pages returns every page by its path below docs/catalogue.
func Pages() (map[string]string, error) {
	at, err := moment.Parse(Asked)
	if err != nil {
		return nil, err
	}
	base, err := worldfile.Read([]byte(catalogue.ExampleWorld), worldfile.Options{File: "example.yaml", Now: at})
	if err != nil {
		return nil, err
	}
	base = world.Merge(&world.World{}, base)
	out := map[string]string{"example.yaml": catalogue.ExampleWorld, "README.md": index()}
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		page, err := rulePage(r, base, at)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", r.Name, err)
		}
		out["rules/"+r.Name+".md"] = page
	}
	for i := range catalogue.Actions() {
		a := &catalogue.Actions()[i]
		page, err := actionPage(a, base, at)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", a.Name, err)
		}
		out["actions/"+a.Name+".md"] = page
	}
	return out, nil
}

const made = "<!-- Written by `make generate` from the catalogue. -->\n\n"

func index() string {
	var b strings.Builder
	b.WriteString("# The catalogue\n\n" + made + "Every rule and every action has a page with an example that a test runs.\n" +
		"The examples are asked in [one small world](example.yaml).\n\n## Rules\n\n| rule | what it says | advised |\n|---|---|---|\n")
	for i := range catalogue.Rules() {
		r := &catalogue.Rules()[i]
		fmt.Fprintf(&b, "| [%s](rules/%s.md) | %s | %s |\n", r.Name, r.Name, r.Title, r.Scale.Format(r.Advised))
	}
	b.WriteString("\n## Actions\n\n| action | what is tried | on |\n|---|---|---|\n")
	for i := range catalogue.Actions() {
		a := &catalogue.Actions()[i]
		fmt.Fprintf(&b, "| [%s](actions/%s.md) | %s | %s |\n", a.Name, a.Name, a.Title, a.TakesNames())
	}
	return b.String()
}

func rulePage(r *catalogue.Rule, base *world.World, at moment.Moment) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s: %s\n\n%s", r.Name, r.Title, made)
	switch r.Scale.Shape {
	case catalogue.Days:
		fmt.Fprintf(
			&b,
			"| value | |\n|---|---|\n| a number of days | %s |\n| none | %s |\n",
			strings.ReplaceAll(r.Sentences[0], "N", "so many"),
			r.Sentences[1],
		)
	case catalogue.Methods:
		b.WriteString("| method | |\n|---|---|\n")
		for i, n := range r.Scale.Names {
			fmt.Fprintf(&b, "| %s | %s |\n", n, r.Sentences[i])
		}
	default:
		b.WriteString("| value | |\n|---|---|\n")
		for i, n := range r.Scale.Names {
			fmt.Fprintf(&b, "| %s | %s |\n", n, r.Sentences[i])
		}
	}
	where := "Only the organisation sets it."
	if names := r.Layers.Names(); len(names) > 0 {
		where = "It may be set for the organisation, and below it at: " + strings.Join(names, ", ") + "."
	}
	fmt.Fprintf(
		&b,
		"\nA new installation starts with the limit `%s` and the default `%s`. %s\n\n",
		r.Scale.Format(r.Limit),
		r.Scale.Format(r.Default),
		where,
	)
	fmt.Fprintf(&b, "**Advised**: `%s`. %s\n\n", r.Scale.Format(r.Advised), r.Reason)
	if r.Omits != "" {
		fmt.Fprintf(&b, "**What it does not cover**: %s\n\n", r.Omits)
	}
	for _, d := range catalogue.Dependencies() {
		if d.Rule == r.ID {
			fmt.Fprintf(
				&b,
				"From `%s` on it needs [%s](%s.md) at `%s`.\n\n",
				r.Scale.Format(d.From),
				d.Needs,
				d.Needs,
				d.Needs.Get().Scale.Format(d.Value),
			)
		}
	}
	by := catalogue.AskedBy(r.ID)
	if by == nil {
		b.WriteString("It governs how the product behaves; no action asks it.\n\n")
	} else {
		b.WriteString("**Asked by**: ")
		for i, a := range by {
			if i > 0 {
				b.WriteString(", ")
			}
			fmt.Fprintf(&b, "[%s](../actions/%s.md)", a, a)
		}
		b.WriteString(".\n\n")
	}
	x := catalogue.ExampleOf(r.ID)
	b.WriteString("## Example\n\nIn [the example world](../example.yaml)")
	if x.With != "" {
		fmt.Fprintf(&b, ", with\n\n```yaml\n%s\n```\n\n", x.With)
	} else {
		b.WriteString(":\n\n")
	}
	commands := ""
	for _, v := range []string{x.Tight, x.Loose} {
		var with []string
		value := v
		if r.Scale.Shape == catalogue.Methods {
			value = "[" + v + "]"
		}
		w := base
		for _, part := range []string{x.With, "rules: {" + r.Name + ": {default: " + value + "}}"} {
			if part == "" {
				continue
			}
			p, err := worldfile.Read([]byte("{wexillum: 1, "+part+"}"), worldfile.Options{Now: at, Known: engine.Of(w)})
			if err != nil {
				return "", err
			}
			w = world.Merge(w, p)
			with = append(with, part)
		}
		fmt.Fprintf(&b, "- `%s` at `%s`: ", r.Name, v)
		if x.Ask == "" {
			fmt.Fprintf(&b, "%s\n", r.Sentence(mustParse(r, v)))
			continue
		}
		text, command, err := told(engine.Of(w), x.Ask, at, with...)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "%s\n", text)
		commands += command
	}
	if commands != "" {
		fmt.Fprintf(&b, "\n```console\n%s```\n", commands)
	}
	fmt.Fprintf(&b, "\nFound by: %s.\n", strings.Join(r.Words, ", "))
	return b.String(), nil
}

func mustParse(r *catalogue.Rule, text string) catalogue.Value {
	v, err := r.Scale.Parse(strings.Split(text, ", ")...)
	if err != nil {
		panic("cataloguedocs: " + err.Error())
	}
	return v
}

// Question reads WHO ACTION RESOURCE key=value….
func Question(text string, at moment.Moment) (engine.Question, error) {
	f := strings.Fields(text)
	q := engine.Question{At: at}
	var err error
	if q.Subject, err = engine.ParseWho(f[0]); err != nil {
		return q, err
	}
	if q.Action, err = engine.ParseAction(f[1]); err != nil {
		return q, err
	}
	if q.Resource, err = engine.ParseResource(f[2]); err != nil {
		return q, err
	}
	for _, c := range f[3:] {
		k, v, _ := strings.Cut(c, "=")
		switch k {
		case "address":
			if q.Address, err = addr.Parse(v); err != nil {
				return q, err
			}
		case "keep_copy":
			q.DropsCopy = v == "no"
		}
	}
	return q, nil
}

// told asks, and says the answer in a sentence and by the command that gets it.
func told(s *engine.Snapshot, text string, at moment.Moment, with ...string) (said, command string, err error) {
	q, err := Question(text, at)
	if err != nil {
		return "", "", err
	}
	x, err := s.Explain(&q)
	if err != nil {
		return "", "", err
	}
	d := x.Deciding()
	command = "$ bin/wexillum --world docs/catalogue/example.yaml"
	for _, part := range with {
		command += " --with '" + part + "'"
	}
	f := strings.Fields(text)
	command += " ask " + strings.Join(f[:3], " ")
	for _, c := range f[3:] {
		command += " --context " + c
	}
	command += " --at " + Asked + "\n"
	if d.Yes {
		said, command = "**yes**", command+"YES  …\n"
		if c := d.Conditions.Names(); len(c) > 0 {
			said += " (" + strings.Join(c, ", ") + ")"
		}
		return said + ".", command, nil
	}
	command += "NO  …\n"
	for _, g := range d.Refusing.Names() {
		command += g + " ▼ REFUSE\n"
	}
	return "**no** at " + strings.Join(d.Refusing.Names(), " and ") + ": " + x.DecidingCause().Text(), command + "[status 3]\n", nil
}

func actionPage(a *catalogue.Action, base *world.World, at moment.Moment) (string, error) {
	var b strings.Builder
	fmt.Fprintf(&b, "# %s: %s\n\n%sTried on: %s.", a.Name, a.Title, made, a.TakesNames())
	if a.Address {
		b.WriteString(" It needs `address`, whom it is about.")
	}
	if a.Presenter {
		b.WriteString(" `presenter` names who presents; else it is the host.")
	}
	b.WriteString("\n\n| who | domain | service | rules | grant |\n|---|---|---|---|---|\n")
	kinds := []*[catalogue.NumClasses]*catalogue.Ask{&a.Asks}
	if a.InSpace != nil {
		kinds = append(kinds, a.InSpace)
	}
	for k, rows := range kinds {
		for c, ask := range rows {
			if ask == nil {
				continue
			}
			who := classNames[c]
			if a.InSpace != nil {
				who += []string{", to a person", ", in a channel"}[k]
			}
			fmt.Fprintf(
				&b,
				"| %s | %s | %s | %s | %s |\n",
				who,
				domainText(ask),
				ruleLinks(switches(ask)),
				ruleLinks(needs(ask)),
				grantText(ask),
			)
			if ask.Private != nil {
				fmt.Fprintf(
					&b,
					"| %s, towards a private address | %s | %s | %s | %s |\n",
					who,
					domainText(ask.Private),
					ruleLinks(switches(ask.Private)),
					ruleLinks(needs(ask.Private)),
					grantText(ask.Private),
				)
			}
		}
	}
	var asked []string
	for i := range catalogue.Rules() {
		for _, id := range catalogue.AskedBy(catalogue.RuleID(i)) {
			if id == a.ID {
				asked = append(asked, catalogue.Rules()[i].Name)
			}
		}
	}
	sort.Strings(asked)
	fmt.Fprintf(&b, "\nAll rules that may be asked: %s.\n\n", ruleLinks(asked))
	b.WriteString("## Example\n\nIn [the example world](../example.yaml), from the folder of the project:\n\n")
	x := catalogue.ExampleOfAction(a.ID)
	for _, q := range []string{x.Yes, x.No} {
		text, command, err := told(engine.Of(base), q, at)
		if err != nil {
			return "", err
		}
		fmt.Fprintf(&b, "%s\n\n```console\n%s```\n\n", "Answered "+text, command)
	}
	return b.String(), nil
}

var classNames = [...]string{"our people", "guests", "federated", "private addresses", "newcomers", "bearers of a link"}

func domainText(a *catalogue.Ask) string {
	key := "`" + a.Key.String() + "`"
	if a.Counterpart {
		key += ", and their side is asked"
	}
	for _, k := range a.Also {
		key += ", `" + k.String() + "` not closed"
	}
	switch a.Level {
	case catalogue.BarsOnly:
		return "not barred"
	case catalogue.AnyLevel:
		return "not closed for " + key
	case catalogue.ByRule:
		return ruleLinks([]string{a.LevelRule.String()}) + " for " + key
	case catalogue.Listed:
		return "a partner opened for " + key
	}
	return ""
}

func switches(a *catalogue.Ask) (out []string) {
	for _, r := range a.Switches {
		out = append(out, r.String())
	}
	if a.SpaceGuests {
		out = append(out, "spaces.guests")
	}
	return
}

func needs(a *catalogue.Ask) (out []string) {
	for _, n := range a.Needs {
		out = append(out, n.Rule.String())
	}
	return
}

func ruleLinks(names []string) string {
	for i, n := range names {
		names[i] = "[" + n + "](../rules/" + n + ".md)"
	}
	return strings.Join(names, ", ")
}

func grantText(a *catalogue.Ask) string {
	switch a.Holding {
	case catalogue.ByRole:
		return a.Role.String()
	case catalogue.ByLink:
		return "a live link with the right to " + a.Role.String()
	case catalogue.Self:
		return "oneself"
	case catalogue.OwnMailbox:
		return "the own mailbox"
	case catalogue.MayInvite:
		return "who may invite there"
	case catalogue.MemberOfSpace:
		return "member or owner of the space"
	case catalogue.JoinableCourse:
		return "a course that may be joined"
	}
	return ""
}
