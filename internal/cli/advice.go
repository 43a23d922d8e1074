package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) partnerAdvice() *cobra.Command {
	return &cobra.Command{
		Use:               "advice ID",
		Short:             "Which way of connecting their people fits: guests, federation, membership or a feed, with figures",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Advise(c.Context(), args[0])
			var x contract.Advice
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if a.output != "table" {
				rows := [][]string{}
				for _, w := range x.Ways {
					rows = append(
						rows,
						[]string{
							string(w.Name),
							fmt.Sprint(w.Weight),
							fmt.Sprint(w.Fits),
							fmt.Sprint(w.InUse),
							strings.Join(w.For, "; "),
							strings.Join(w.Against, "; "),
						},
					)
				}
				return a.records(x, []string{"way", "weight", "fits", "in use", "for", "against"}, rows)
			}
			f := x.Figures
			a.printf("%s\n\n", wrap(x.Short, 0, a.width()))
			a.printf(
				"  %s\n\n",
				wrap(fmt.Sprintf(
					"Theirs: %d records (%d from a feed, %d more suspended), %d with their home account alone; %d share work, %d only talk. Ours: %d in contact with them, %d own a space they are in. %d roles in %d spaces, %d of them report areas; %d on single items. In 90 days %d came and %d went. What ours do at theirs leaves no trace here and is not looked at.",
					f["records"],
					f["provisioned"],
					f["suspended"],
					f["home"],
					f["sharing"],
					f["talking"],
					f["ours"],
					f["owners"],
					f["grants"],
					f["spaces"],
					f["reports"],
					f["items"],
					f["came"],
					f["went"],
				), 2, a.width()),
			)
			for _, w := range x.Ways {
				mark := "·"
				if w.Fits {
					mark = "▲"
				}
				use := ""
				if w.InUse {
					use = "  in use"
				}
				a.printf("%s %s%s\n", mark, a.colour("1", w.Title), use)
				for _, t := range w.For {
					a.printf("    + %s\n", wrap(t, 6, a.width()))
				}
				for _, t := range w.Against {
					a.printf("    - %s\n", wrap(t, 6, a.width()))
				}
				a.printf(
					"    gives  %s\n    costs  %s\n    needs  %s\n\n",
					wrap(w.Gives, 11, a.width()),
					wrap(w.Costs, 11, a.width()),
					w.Needs,
				)
			}
			return nil
		},
	}
}

func (a *app) partnerPeople() *cobra.Command {
	var find string
	c := &cobra.Command{
		Use:               "people ID",
		Short:             "People at their domains who have a guest record or a role here",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("partner"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			all := []contract.TheirPerson{}
			p := &contract.PeopleOfPartnerParams{Q: optional(find)}
			for {
				resp, err := r.PeopleOfPartner(c.Context(), args[0], p)
				var x struct {
					People []contract.TheirPerson
					Next   string
				}
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				all = append(all, x.People...)
				if x.Next == "" {
					break
				}
				p.Cursor = &x.Next
			}
			rows := [][]string{}
			for _, x := range all {
				state := pick(x.State)
				if x.Barred != nil && *x.Barred {
					state += " (barred)"
				}
				rows = append(
					rows,
					[]string{x.Address, pick(x.Name), x.Kind, state, fmt.Sprint(x.Roles), fmt.Sprint(x.Spaces), day(pick(x.Until))},
				)
			}
			return a.records(all, []string{"address", "name", "kind", "record", "roles", "spaces", "last role ends"}, rows)
		},
	}
	c.Flags().StringVar(&find, "find", "", "only those whose address or name holds this")
	return c
}
