package cli

import (
	"errors"
	"fmt"
	"io"
	"os"
	"sort"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) exception() *cobra.Command {
	c := &cobra.Command{Use: "exception", Short: "Values for named people or groups, usually with an end date"}
	c.AddCommand(
		a.exceptionList(),
		a.exceptionShow(),
		a.exceptionAdd(),
		a.exceptionChange(),
		a.exceptionProlong(),
		a.exceptionEnd(),
		a.exceptionImport(),
	)
	return c
}

func setValues(rules map[string]contract.SetValue) string {
	var out []string
	for name, v := range rules {
		text := name + "=" + v.Value
		if v.Held != nil && *v.Held {
			text += " (held back)"
		}
		out = append(out, text)
	}
	sort.Strings(out)
	return strings.Join(out, "; ")
}

// about says whom an exception is for.
func forWhom(x *contract.Exception) string {
	out := append([]string{}, x.People...)
	for _, g := range x.Groups {
		out = append(out, "group:"+g)
	}
	return strings.Join(out, " ")
}

func towards(x *contract.Exception) string {
	if x.Parties == nil {
		return "everybody"
	}
	return strings.Join(*x.Parties, " ")
}

func stateOf(x *contract.Exception) string {
	s := strings.ReplaceAll(string(x.State), "_", " ")
	if x.WithoutEffect != nil && *x.WithoutEffect {
		s += ", changes nothing"
	}
	return s
}

func (a *app) exceptionList() *cobra.Command {
	var state, person string
	c := &cobra.Command{Use: "list", Short: "Exceptions, those in force first", Args: cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p := &contract.ListExceptionsParams{Person: optional(person)}
			if state != "" {
				s := contract.ListExceptionsParamsState(strings.ReplaceAll(state, " ", "_"))
				p.State = &s
			}
			resp, err := r.ListExceptions(c.Context(), p)
			var x struct{ Exceptions []contract.Exception }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Exceptions {
				e := &x.Exceptions[i]
				rows = append(rows, []string{e.Id, stateOf(e), day(pick(e.Until)), forWhom(e), towards(e), setValues(e.Rules)})
			}
			return a.records(x.Exceptions, []string{"id", "state", "until", "for", "towards", "values"}, rows)
		}}
	c.Flags().StringVar(&state, "state", "", "ahead, in_force or over")
	c.Flags().StringVar(&person, "person", "", "those that are about this person of ours")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	return c
}

// day shortens a moment to what a table needs.
func day(moment string) string {
	if len(moment) >= 16 {
		return moment[:10] + " " + moment[11:16] + "Z"
	}
	return moment
}

func (a *app) printException(x *contract.Exception) error {
	if a.output != "table" {
		return a.records(
			x,
			[]string{"id", "state", "from", "until", "for", "towards", "values"},
			[][]string{{x.Id, stateOf(x), pick(x.From), pick(x.Until), forWhom(x), towards(x), setValues(x.Rules)}},
		)
	}
	a.printf("%s  %s\n\n", a.colour("1", x.Id), pick(x.Reason))
	from, until := day(pick(x.From)), day(pick(x.Until))
	if from == "" {
		from = "always"
	}
	if until == "" {
		until = "without an end"
	}
	a.printf(
		"  state    %s\n  from     %s\n  until    %s\n  for      %s (%s)\n  towards  %s\n\n",
		stateOf(x),
		from,
		until,
		forWhom(x),
		counted.Of(x.Concerns, "person", "people"),
		towards(x),
	)
	rows := [][]string{}
	for name, v := range x.Rules {
		h := ""
		if v.Held != nil && *v.Held {
			h = "held back"
		}
		rows = append(rows, []string{name, v.Value, h})
	}
	sort.Slice(rows, func(i, j int) bool { return rows[i][0] < rows[j][0] })
	a.table([]string{"rule", "value", ""}, rows)
	return nil
}

func (a *app) getException(c *cobra.Command, id string) (*remote, *contract.Exception, error) {
	r, err := a.remote()
	if err != nil {
		return nil, nil, err
	}
	resp, err := r.GetException(c.Context(), id)
	var x contract.Exception
	return r, &x, r.read(resp, err, &x)
}

func (a *app) exceptionShow() *cobra.Command {
	return &cobra.Command{
		Use:   "show ID",
		Short: "One exception",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			_, x, err := a.getException(c, args[0])
			if err != nil {
				return err
			}
			return a.printException(x)
		},
	}
}

func (a *app) exceptionAdd() *cobra.Command {
	var people, groups, parties, set []string
	var from, until, reason string
	c := &cobra.Command{Use: "add ID", Short: "Make an exception", Args: cobra.ExactArgs(1),
		Example: "  wexillum exception add rigging-help --person d.ekwinter --towards partner:orrin --set meetings.remote_control=on --until +14d --reason \"outside help\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			body := contract.ExceptionChange{
				Id:     args[0],
				Rules:  map[string]contract.SetValue{},
				From:   optional(from),
				Until:  optional(until),
				Reason: optional(reason),
				Why:    optional(reason),
			}
			for _, kv := range set {
				k, v, ok := splitPair(kv)
				if !ok {
					return usage{fmt.Errorf("--set %q: write rule=value", kv)}
				}
				body.Rules[k] = contract.SetValue{Value: v}
			}
			if len(set) == 0 {
				return usage{errors.New("--set rule=value is needed at least once")}
			}
			if len(people) > 0 {
				body.People = &people
			}
			if len(groups) > 0 {
				body.Groups = &groups
			}
			if len(parties) > 0 {
				body.Parties = &parties
			}
			for _, of := range []struct {
				list *[]string
				kind string
			}{{body.People, "person"}, {body.Groups, "group"}} {
				if of.list == nil {
					continue
				}
				for i, name := range *of.list {
					if (*of.list)[i], err = a.named(c, r, of.kind, name); err != nil {
						return err
					}
				}
			}
			resp, err := r.AddException(c.Context(), nil, body)
			var x contract.Exception
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			return a.printException(&x)
		}}
	f := c.Flags()
	f.StringArrayVar(&people, "person", nil, "a person of ours it is for")
	f.StringArrayVar(&groups, "group", nil, "a group of ours it is for")
	f.StringArrayVar(&parties, "towards", nil, "only towards partner:ID, domain:NAME, group:ID or an address; everybody where absent")
	f.StringArrayVar(&set, "set", nil, "rule=value")
	f.StringVar(&from, "from", "", "a date, a moment or +3d; always where absent")
	f.StringVar(&until, "until", "", "a date, a moment or +14d; without an end where absent")
	f.StringVar(&reason, "reason", "", "why")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	return c
}

func (a *app) exceptionChange() *cobra.Command {
	var people, groups, parties, set, unset []string
	var reason string
	c := &cobra.Command{
		Use:   "change ID",
		Short: "Change an exception: whom it is for, towards whom, or its values",
		Args:  cobra.ExactArgs(1),
		Long:  "Change whom an exception is for, towards whom, or its values.\n\nWhat is not named stays. --person, --group and --towards replace the whole list.",
		RunE: func(c *cobra.Command, args []string) error {
			r, x, err := a.getException(c, args[0])
			if err != nil {
				return err
			}
			patch := map[string]any{}
			if len(people)+len(groups) > 0 {
				patch["people"], patch["groups"] = people, groups
			}
			if len(parties) > 0 {
				patch["parties"] = parties
			}
			rules := map[string]any{}
			for _, kv := range set {
				k, v, ok := splitPair(kv)
				if !ok {
					return usage{fmt.Errorf("--set %q: write rule=value", kv)}
				}
				rules[k] = contract.SetValue{Value: v}
			}
			for _, k := range unset {
				if _, ok := x.Rules[k]; !ok {
					return usage{fmt.Errorf("--unset %q: %s does not set it", k, x.Id)}
				}
				rules[k] = nil
			}
			if len(rules) > 0 {
				patch["rules"] = rules
			}
			if reason != "" {
				patch["reason"], patch["why"] = reason, reason
			}
			resp, err := r.SetExceptionWithApplicationMergePatchPlusJSONBody(
				c.Context(),
				x.Id,
				&contract.SetExceptionParams{IfMatch: &x.Etag},
				patch,
			)
			if err := r.read(resp, err, x); err != nil {
				return err
			}
			return a.printException(x)
		},
	}
	f := c.Flags()
	f.StringArrayVar(&people, "person", nil, "people of ours it is for")
	f.StringArrayVar(&groups, "group", nil, "groups of ours it is for")
	f.StringArrayVar(&parties, "towards", nil, "only towards partner:ID, domain:NAME, group:ID or an address")
	f.StringArrayVar(&set, "set", nil, "rule=value")
	f.StringArrayVar(&unset, "unset", nil, "a rule that it shall not set any more")
	f.StringVar(&reason, "reason", "", "why")
	return c
}

func (a *app) exceptionProlong() *cobra.Command {
	var until, why string
	c := &cobra.Command{
		Use:   "prolong ID",
		Short: "Extend an exception",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			if until == "" {
				return usage{errors.New("--until is needed")}
			}
			r, x, err := a.getException(c, args[0])
			if err != nil {
				return err
			}
			resp, err := r.ProlongException(
				c.Context(),
				args[0],
				&contract.ProlongExceptionParams{IfMatch: &x.Etag},
				contract.Prolong{Until: until, Why: optional(why)},
			)
			if err := r.read(resp, err, x); err != nil {
				return err
			}
			return a.printException(x)
		},
	}
	c.Flags().StringVar(&until, "until", "", "the new end: a date, a moment, +30d, or none")
	whyFlag(c, &why)
	return c
}

func (a *app) exceptionEnd() *cobra.Command {
	var why string
	c := &cobra.Command{
		Use:   "end ID",
		Short: "End an exception now; remove it if it has not begun",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, x, err := a.getException(c, args[0])
			if err != nil {
				return err
			}
			resp, err := r.EndException(
				c.Context(),
				args[0],
				&contract.EndExceptionParams{IfMatch: &x.Etag},
				contract.WhyOnly{Why: optional(why)},
			)
			if err := r.read(resp, err, nil); err != nil {
				return err
			}
			a.say("%s has ended.", args[0])
			return nil
		},
	}
	whyFlag(c, &why)
	return c
}

func (a *app) exceptionImport() *cobra.Command {
	var why string
	var preview, onlyGood bool
	c := &cobra.Command{
		Use:   "import FILE",
		Short: "Make or change many exceptions from a CSV file, with a result for every line",
		Args:  cobra.ExactArgs(1),
		Long: `Make or change many exceptions from a CSV file, with a result for every line.

The columns are id, people, groups, parties, rules, from, until and reason.
Several names in a column are separated by blanks, several values by semicolons:
meetings.remote_control=on;meetings.share_screen=screen. FILE may be - for
standard input. Nothing is written where a line is refused, but with --only-good.`,
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			in := a.in
			if args[0] != "-" {
				f, err := os.Open(args[0])
				if err != nil {
					return err
				}
				defer f.Close()
				in = f
			}
			resp, err := r.ImportExceptionsWithBody(
				c.Context(),
				&contract.ImportExceptionsParams{Preview: &preview, OnlyGood: &onlyGood, Why: optional(why)},
				"text/csv",
				io.LimitReader(in, 32<<20),
			)
			var x contract.Imported
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			refused := 0
			for _, l := range x.Lines {
				if l.Result == contract.ImportLineResultRefused {
					refused++
				}
				rows = append(rows, []string{fmt.Sprint(l.Line), l.Id, string(l.Result), pick(l.Cause)})
			}
			if err := a.records(x, []string{"line", "id", "result", "cause"}, rows); err != nil {
				return err
			}
			switch {
			case x.Preview:
				a.say("A preview; nothing was written.")
			case x.Written:
			case refused > 0:
				a.say("Nothing was written: mend the lines that are refused, or take the others with --only-good.")
				return exit(statusFailed)
			default:
				a.say("Nothing was to be changed.")
			}
			return nil
		},
	}
	c.Flags().BoolVar(&preview, "preview", false, "say what would become of every line and write nothing")
	c.Flags().BoolVar(&onlyGood, "only-good", false, "take the lines that can be taken")
	whyFlag(c, &why)
	return c
}
