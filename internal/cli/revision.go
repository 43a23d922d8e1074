package cli

import (
	"fmt"
	"strconv"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

func (a *app) revision() *cobra.Command {
	c := &cobra.Command{Use: "revision", Short: "Published versions of the policy: what each changed, and how to revert"}
	number := func(text string) (int64, error) {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil || n < 0 {
			return 0, usage{fmt.Errorf("revision %q: write its number", text)}
		}
		return n, nil
	}
	var limit int
	list := &cobra.Command{
		Use:   "list",
		Short: "Revisions, the newest first",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Revisions(c.Context(), &contract.RevisionsParams{Limit: &limit})
			var x struct {
				Revisions []contract.Revision `json:"revisions"`
				Next      string              `json:"next"`
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, v := range x.Revisions {
				who := v.Who
				if w := pick(v.ConfirmedBy); w != "" {
					who = pick(v.AskedBy) + ", confirmed by " + w
				}
				edits := ""
				if v.Edits != nil {
					edits = strconv.Itoa(*v.Edits)
				}
				rows = append(rows, []string{strconv.FormatInt(v.Number, 10), day(v.At), who, edits, pick(v.DraftName), v.Why})
			}
			return a.records(x.Revisions, []string{"revision", "published", "by", "edits", "draft", "why"}, rows)
		},
	}
	list.Flags().IntVar(&limit, "limit", 50, "how many, at most 500")
	c.AddCommand(list)
	view := func(c *cobra.Command, to int64, against *int64) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.Revision(c.Context(), to, &contract.RevisionParams{Against: against})
		var x contract.RevisionView
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		for _, e := range x.Edits {
			for i, ch := range e.Changes {
				title := e.Title
				if i > 0 && a.output == "table" {
					title = ""
				}
				rows = append(rows, []string{title, ch.Field, ch.Was, ch.Now})
			}
		}
		columns := []string{"change", "field", fmt.Sprintf("revision %d", x.Against), fmt.Sprintf("revision %d", x.Number)}
		if a.output == "table" {
			if v := x.Revision; v != nil && against == nil {
				a.say("Revision %d, published %s by %s: %s\n", v.Number, day(v.At), v.Who, v.Why)
			}
			if len(rows) == 0 {
				a.say("They are the same.")
				return nil
			}
			const most = 200
			a.table(columns, rows[:min(len(rows), most)])
			if len(rows) > most {
				a.say("… and %d more; -o csv prints all of them.", len(rows)-most)
			}
			return nil
		}
		return a.records(x, columns, rows)
	}
	c.AddCommand(
		&cobra.Command{
			Use:   "show NUMBER",
			Short: "What a revision changed",
			Args:  cobra.ExactArgs(1),
			RunE: func(c *cobra.Command, args []string) error {
				n, err := number(args[0])
				if err != nil {
					return err
				}
				return view(c, n, nil)
			},
		},
	)
	c.AddCommand(
		&cobra.Command{
			Use:   "diff NUMBER NUMBER",
			Short: "Compare two revisions",
			Args:  cobra.ExactArgs(2),
			RunE: func(c *cobra.Command, args []string) error {
				from, err := number(args[0])
				if err != nil {
					return err
				}
				to, err := number(args[1])
				if err != nil {
					return err
				}
				return view(c, to, &from)
			},
		},
	)
	var why string
	back := &cobra.Command{
		Use:   "back NUMBER",
		Short: "Make a draft that reverts to a revision, and see what it would undo",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			n, err := number(args[0])
			if err != nil {
				return err
			}
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.BackTo(c.Context(), n, nil, contract.WhyOnly{Why: optional(why)})
			var d contract.Draft
			if err := r.read(resp, err, &d); err != nil {
				return err
			}
			if err := a.printDraft(&d); err != nil {
				return err
			}
			a.say("\nPublish it with: wexillum draft publish %s --why …", d.Id)
			return nil
		},
	}
	back.Flags().StringVar(&why, "why", "", "the reason")
	c.AddCommand(back)
	return c
}
