package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) history() *cobra.Command {
	c := &cobra.Command{Use: "history",
		Short: "How answers were before: since when, through which changes, and who reached what between two days"}
	var from, to string
	of := &cobra.Command{Use: "of WHO ACTION RESOURCE",
		Short: "Since when a question is answered as it is, how before, and through what it became otherwise", Args: cobra.ExactArgs(3),
		Example: "  wexillum history of maren.holtveig@ilvane.example files.open folder:condition-reports",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.HistoryOf(c.Context(), &contract.HistoryOfParams{Who: args[0], Action: args[1], Resource: args[2], From: optional(from),
				To: optional(to)})
			var x contract.History
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Spells {
				s := &x.Spells[i]
				until := "now"
				if s.Until != nil {
					until = day(*s.Until)
				}
				rows = append(rows, []string{map[contract.SpellDecision]string{"yes": "YES", "no": "NO"}[s.Decision], day(s.From), until,
					number(s.Change), s.Text})
			}
			return a.records(x, []string{"answer", "from", "until", "change", "through"}, rows)
		}}
	var party, action string
	audience := &cobra.Command{Use: "audience RESOURCE",
		Short: "Who could do what with a resource at any time between two days, with the longest unbroken time of each", Args: cobra.ExactArgs(1),
		Example: "  wexillum history audience folder:loan-valuations --action files.open --from 2026-09-01 --to 2026-12-01",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.ReachedBetween(c.Context(), &contract.ReachedBetweenParams{Resource: args[0], Action: optional(action),
				Party: optional(party), From: optional(from), To: optional(to)})
			var x contract.ReachedBetween
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for i := range x.Lines {
				l := &x.Lines[i]
				name := l.Name
				if l.Newcomer {
					name += " (nobody known yet)"
				}
				rows = append(rows, []string{name, l.Party, l.Action, l.Resource, day(l.First), day(l.Last), fmt.Sprint(l.Spells),
					day(l.LongestFrom) + " to " + day(l.LongestUntil)})
			}
			if len(rows) == 0 && a.output == "table" {
				a.say("Nobody could.")
				return nil
			}
			return a.records(x.Lines, []string{"name", "who", "action", "about", "first", "last", "times", "longest"}, rows)
		}}
	for _, x := range []*cobra.Command{of, audience} {
		x.Flags().StringVar(&from, "from", "", "a date or a moment of the past; the first record where it is left out")
		x.Flags().StringVar(&to, "to", "", "the same; now where it is left out")
		c.AddCommand(x)
	}
	audience.Flags().StringVar(&action, "action", "", "an action, a service as files.*, or all where it is left out")
	audience.Flags().StringVar(&party, "party", "",
		"of whom: everybody where it is left out, an address, partner:ID, domain:NAME, kind:KIND or group:ID")
	return c
}
