package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/moment"
)

func (a *app) printValues(x *contract.Values, all bool) error {
	rows := [][]string{}
	for _, v := range x.Rules {
		set := pick(v.Set)
		if set == "" && !all {
			continue
		}
		note := ""
		if v.Held != nil && *v.Held {
			note = "held back"
		}
		var can []string
		for _, o := range v.Choices {
			if o.Can {
				can = append(can, o.Value)
			}
		}
		rows = append(rows, []string{v.Rule, set, v.Value, v.Layer, strings.Join(can, " "), note})
	}
	return a.records(x, []string{"rule", "set here", "counts", "decided by", "may be set", "note"}, rows)
}

func (a *app) getValues(c *cobra.Command, where string) (*remote, *contract.Values, error) {
	r, err := a.remote()
	if err != nil {
		return nil, nil, err
	}
	resp, err := r.Values(c.Context(), where)
	var x contract.Values
	return r, &x, r.read(resp, err, &x)
}

// setValueAt sets a value below the organisation.
func (a *app) setValueAt(c *cobra.Command, where, rule, value string, held, preview bool, why string) error {
	r, x, err := a.getValues(c, where)
	if err != nil {
		return err
	}
	body := contract.ValueChange{Value: value, Why: optional(why)}
	if held {
		body.Held = &held
	}
	was := saysOf(x, rule)
	resp, err := r.SetValue(c.Context(), where, rule, &contract.SetValueParams{IfMatch: &x.Etag, Preview: &preview}, body)
	return a.valueDone(r, resp, err, rule, was)
}

// askValue sends a value below the organisation to whoever may set it.
func (a *app) askValue(c *cobra.Command, where, rule, value, why string) error {
	if strings.TrimSpace(why) == "" {
		return usage{errors.New("say what it is for: give --why")}
	}
	r, err := a.remote()
	if err != nil {
		return err
	}
	resp, err := r.MakeRequest(c.Context(), nil, contract.NewRequest{Value: &contract.AskedValue{Where: where, Rule: rule, Value: &value},
		Purpose: why})
	var made contract.Request
	if err := r.read(resp, err, &made); err != nil {
		return err
	}
	return a.printRequest(&made)
}

// saysOf returns what a place itself says of a rule.
func saysOf(x *contract.Values, rule string) string {
	for _, v := range x.Rules {
		if v.Rule == rule {
			return pick(v.Set)
		}
	}
	return ""
}

// tellWeighed tells what a change would do.
func (a *app) tellWeighed(what string, w *contract.ValueWeighed) {
	a.printf("%s: %s, then %s\n\n", what, pick(w.Was), pick(w.Becomes))
	a.tellMoves(w)
}

// tellMoves tells who gains and who loses by a change.
func (a *app) tellMoves(w *contract.ValueWeighed) {
	switch {
	case w.Nothing:
		a.printf("Nothing changes for anybody that is counted.\n")
	default:
		a.printf(
			"  parties   %d gain, %d lose\n  granted   %d gained, %d lost\n  wide      %d gained, %d lost\n",
			w.Parties.Gained,
			w.Parties.Lost,
			w.Granted.Gained,
			w.Granted.Lost,
			w.Wide.Gained,
			w.Wide.Lost,
		)
		if len(w.Newcomers) > 0 {
			a.printf("  newcomers %s\n", strings.Join(w.Newcomers, ", "))
		}
		if w.Lines != nil && len(*w.Lines) > 0 {
			a.printf("\n  %s\n", strings.Join(*w.Lines, "\n  "))
		}
	}
	for _, n := range w.NotCounted {
		a.printf("\nNot counted: %s.\n", n)
	}
}

// valueDone tells what became of a value at a place, or would, and the way back.
func (a *app) valueDone(r *remote, resp *http.Response, err error, rule, was string) error {
	var x contract.Values
	if err := r.read(resp, err, &x); err != nil {
		return err
	}
	if w := x.Weighed; w != nil {
		if a.output != "table" {
			return a.records(
				x,
				[]string{"rule", "was", "becomes", "loosens", "gain", "lose"},
				[][]string{
					{rule, pick(w.Was), pick(w.Becomes), fmt.Sprint(w.Loosens), fmt.Sprint(w.Parties.Gained), fmt.Sprint(w.Parties.Lost)},
				},
			)
		}
		a.tellWeighed(fmt.Sprintf("%s at %s", rule, x.Where), w)
		if w.Loosens {
			a.printf("\nIt lets more through than before: give --why when you set it.\n")
		}
		return nil
	}
	if err := a.printValues(&x, false); err != nil {
		return err
	}
	where := "--" + strings.Replace(x.Where, ":", " ", 1)
	if k, _, _ := strings.Cut(x.Where, ":"); k != "partner" && k != "space" && k != "meeting" {
		where = "--item " + x.Where
	}
	if was == "" {
		fmt.Fprintf(a.err, "Back: wexillum rules unset %s %s\n", rule, where)
	} else {
		fmt.Fprintf(a.err, "Back: wexillum rules set %s --value \"%s\" %s --why \"as it was\"\n", rule, was, where)
	}
	return nil
}

func (a *app) rulesUnset() *cobra.Command {
	var p place
	var why string
	var preview bool
	c := &cobra.Command{
		Use:               "unset RULE",
		Short:             "Remove a value that a partner, space, item or meeting sets",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		RunE: func(c *cobra.Command, args []string) error {
			where := p.where()
			if where == "" {
				return usage{errors.New("say where: --partner, --space, --item or --meeting")}
			}
			r, x, err := a.getValues(c, where)
			if err != nil {
				return err
			}
			was := saysOf(x, args[0])
			resp, err := r.UnsetValue(
				c.Context(),
				where,
				args[0],
				&contract.UnsetValueParams{IfMatch: &x.Etag, Why: optional(why), Preview: &preview},
			)
			return a.valueDone(r, resp, err, args[0], was)
		},
	}
	p.flags(a, c)
	c.Flags().BoolVar(&preview, "preview", false, "say who would gain and lose, and change nothing")
	whyFlag(c, &why)
	return c
}

func (a *app) rulesChoices() *cobra.Command {
	var p place
	var person, party, at string
	c := &cobra.Command{
		Use:               "choices RULE",
		Short:             "Every value of a rule, whether it is available, and what prevents it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		Example:           "  wexillum rules choices files.bearer_links --item folder:loan-valuations\n  wexillum rules choices meetings.remote_control --person d.ekwinter --towards '*@orrin.example'",
		RunE: func(c *cobra.Command, args []string) error {
			var x contract.Choices
			if a.world != "" {
				y, err := a.choicesFile(args[0], p.where(), person, party, at)
				if err != nil {
					return err
				}
				x = y
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.Choices(c.Context(), &contract.ChoicesParams{Rule: args[0], Where: optional(p.where()), Person: optional(person),
					Party: optional(party), At: optional(at)})
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			rows := [][]string{}
			for _, o := range x.Choices {
				can, by := "yes", ""
				if !o.Can {
					can = "no"
					by = pick(o.By)
					if w := pick(o.Where); w != "" {
						by += " " + w
					}
					by += " says " + pick(o.Says) + "; " + pick(o.Who) + " can raise it"
				}
				mark := ""
				if o.Value == x.Value {
					mark = "counts now"
				}
				if o.Advised != nil && *o.Advised {
					mark = strings.TrimPrefix(mark+", advised", ", ")
				}
				rows = append(rows, []string{o.Value, can, by, mark, o.Sentence})
			}
			if a.output == "table" {
				a.printf("%s  %s at %s: %s, decided by %s\n\n", a.colour("1", x.Rule), x.Title, x.Where, x.Value, x.Layer)
			}
			return a.records(x, []string{"value", "available", "stands against it", "", "means"}, rows)
		},
	}
	p.flags(a, c)
	c.Flags().StringVar(&person, "person", "", "for an exception of this person of ours")
	c.Flags().StringVar(&party, "towards", "", "towards this party: an address or *@domain")
	c.Flags().StringVar(&at, "at", "", "a date, a moment, or days from today as +3d; now where absent")
	_ = c.RegisterFlagCompletionFunc("person", a.completion("person"))
	return c
}

func (a *app) choicesFile(rule, where, person, party, when string) (x contract.Choices, err error) {
	s, at, err := a.offline()
	if err != nil {
		return x, err
	}
	if when != "" {
		if at, err = moment.ParseLoose(when, at, s.Zone()); err != nil {
			return x, usage{fmt.Errorf("--at %q: %w", when, err)}
		}
	}
	if a.program == nil {
		return x, a.over()
	}
	if x, err = a.program.Choices(s, rule, where, person, party, at); err != nil {
		return x, usage{err}
	}
	return x, nil
}
