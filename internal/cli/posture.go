package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// posture is the command about where to stand towards outsiders to begin with.
func (a *app) posture() *cobra.Command {
	c := &cobra.Command{Use: "posture", Short: "How open to be to begin with, in four steps from closed to open"}
	list := &cobra.Command{
		Use:   "list",
		Short: "The postures, and what each would change",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Postures(c.Context())
			var x struct{ Postures []contract.Posture }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, p := range x.Postures {
				rows = append(rows, []string{p.Name, p.Title, yesNo(p.Now), fmt.Sprint(len(p.Rules)), p.Says})
			}
			if a.output != "table" {
				return a.records(x.Postures, []string{"posture", "title", "now", "changes", "says"}, rows)
			}
			for _, p := range x.Postures {
				now := ""
				if p.Now {
					now = "  (now)"
				}
				a.printf("%s  %s%s\n  %s\n", a.colour("1", p.Name), p.Title, now, wrap(p.Says, 2, a.width()))
				for _, v := range p.Rules {
					note := ""
					if !v.Can {
						note = "  (left as it is: the limit does not allow it)"
					}
					a.printf("    %s %s, now %s%s\n", v.Rule, v.Value, v.Was, note)
				}
				a.printf("\n")
			}
			return nil
		},
	}
	take := &cobra.Command{
		Use:   "draft POSTURE",
		Short: "Make a draft that takes the organisation there; look at its impact, then publish it",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.DraftPosture(c.Context(), args[0])
			var x struct {
				ID string `json:"id"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			a.say("The draft %s is made. Next: wexillum draft impact %s, then wexillum draft publish %s --why …", x.ID, x.ID, x.ID)
			return nil
		},
	}
	c.AddCommand(list, take)
	return c
}
