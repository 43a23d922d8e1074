package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// numbers prints what everybody outside can do, in numbers.
func (a *app) numbers(c *cobra.Command, at string) error {
	var x contract.Numbers
	if a.world != "" {
		v, err := a.view(at)
		if err != nil {
			return err
		}
		n, err := v.Numbers(nil, never)
		if err != nil {
			return err
		}
		x = n
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Numbers(c.Context(), &contract.NumbersParams{At: optional(at)})
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		a.stated(&x.Stated)
	}
	rows := [][]string{}
	add := func(sort string, list []contract.Numbered, most int) {
		for _, n := range list[:min(most, len(list))] {
			parties := ""
			if n.Parties != nil {
				parties = fmt.Sprint(*n.Parties)
			}
			rows = append(rows, []string{sort, n.Key, pick(n.Name), parties, fmt.Sprint(n.Granted), "", ""})
		}
	}
	most := 12
	if a.output != "table" {
		most = 1 << 30
	}
	add("kind", x.Kinds, most)
	add("partner", x.Partners, most)
	add("space", x.Spaces, most)
	add("action", x.Actions, most*3)
	for _, w := range x.Wide {
		scope := pick(w.Scope)
		rows = append(
			rows,
			[]string{
				"wide",
				w.Action,
				strings.TrimSpace(w.Kind + " " + scope),
				fmt.Sprint(w.Parties),
				"",
				fmt.Sprint(w.Resources),
				fmt.Sprint(w.Pairs),
			},
		)
	}
	columns := []string{"by", "key", "name", "parties", "granted", "resources", "pairs"}
	if a.output != "table" {
		return a.records(x, columns, rows)
	}
	a.say(
		"What everybody outside can do at %s: %d parties with a record or a live link, %d of them reach something, %d granted (party, action, resource); %d typical newcomers, counted apart.",
		seconds(x.Stated.At),
		x.Parties,
		x.Reaching,
		x.Granted,
		x.Newcomers,
	)
	a.say("Wide actions need no role; they count parties, resources and pairs, and are never added to the others.\n")
	a.table(columns, rows)
	return nil
}

func (a *app) ruleAudience() *cobra.Command {
	var at, value string
	c := &cobra.Command{
		Use:               "audience RULE",
		Short:             "Who relies on a rule's value: who would lose access with the next tighter one",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("rule"),
		Example:           "  wexillum rules audience files.given_to --value newcomers\n  wexillum rules audience chat.guests",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.RuleAudience(c.Context(), args[0], &contract.RuleAudienceParams{Value: optional(value), At: optional(at)})
			var x contract.RuleAudience
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, l := range x.Lines {
				rows = append(rows, []string{l.Who, pick(l.Partner), resourceText(l.Resource, l.Count), strings.Join(l.Actions, ", ")})
			}
			columns := []string{"party", "partner", "resource", "actions"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			a.say(
				"What %s %s lets anybody outside do that %s would not, at %s: %d parties, %d granted (party, action, resource).",
				x.Rule,
				x.Value,
				pick(x.Tighter),
				seconds(x.Stated.At),
				x.Parties,
				x.Granted,
			)
			for _, w := range x.Wide {
				a.say("  wide: %s of %d parties towards %d resources, %d pairs", w.Action, w.Parties, w.Resources, w.Pairs)
			}
			for _, n := range x.Newcomers[:min(8, len(x.Newcomers))] {
				a.say("  typical newcomer %s (%s): %s %s", n.Who, n.Name, n.Action, resourceText(n.Kind+":*", n.Count))
			}
			if len(rows) > 0 {
				a.say("")
				shown := rows[:min(len(rows), maxTable)]
				a.table(columns, shown)
				if x.More || len(shown) < len(rows) {
					a.say("… and more; -o csv prints the first thousand.")
				}
			}
			return nil
		},
	}
	c.Flags().StringVar(&value, "value", "", "the value; the limit where absent")
	c.Flags().StringVar(&at, "at", "", "now where absent")
	return c
}
