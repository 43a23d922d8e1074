package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

// place is the flags that name where a value is set; at most one of them.
type place struct{ partner, space, item, meeting string }

func (p *place) flags(a *app, c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&p.partner, "partner", "", "at this partner")
	f.StringVar(&p.space, "space", "", "at this space")
	f.StringVar(&p.item, "item", "", "at this item, as folder:loan-valuations")
	f.StringVar(&p.meeting, "meeting", "", "at this meeting")
	c.MarkFlagsMutuallyExclusive("partner", "space", "item", "meeting")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
}

// where returns the place as the service names it, or "" for the organisation.
func (p *place) where() string {
	switch {
	case p.partner != "":
		return "partner:" + strings.TrimPrefix(p.partner, "partner:")
	case p.space != "":
		return "space:" + strings.TrimPrefix(p.space, "space:")
	case p.meeting != "":
		return "meeting:" + strings.TrimPrefix(p.meeting, "meeting:")
	}
	return p.item
}

func (a *app) space() *cobra.Command {
	c := &cobra.Command{Use: "space", Short: "Spaces: what they set, what they may set, who can reach them"}
	var find string
	list := &cobra.Command{Use: "list", Short: "Spaces", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		var all []contract.SpaceBrief
		rows := [][]string{}
		for next := ""; ; {
			resp, err := r.ListSpaces(c.Context(), &contract.ListSpacesParams{Q: optional(find), Cursor: optional(next)})
			var x struct {
				Spaces []contract.SpaceBrief
				Next   string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			for _, s := range x.Spaces {
				rows = append(
					rows,
					[]string{
						s.Id,
						s.Kind,
						fmt.Sprint(s.Outside),
						fmt.Sprint(s.Items),
						fmt.Sprint(s.Set),
						strings.Join(s.Owners, " "),
						s.Name,
					},
				)
			}
			all = append(all, x.Spaces...)
			if next = x.Next; next == "" {
				break
			}
		}
		return a.records(all, []string{"id", "kind", "from outside", "items", "rules set", "owners", "name"}, rows)
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	var all bool
	show := &cobra.Command{
		Use:   "show ID",
		Short: "Show one space: its rules, its items, and who has which role",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetSpace(c.Context(), strings.TrimPrefix(args[0], "space:"))
			var x contract.SpaceView
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, g := range x.Given {
				in := string(g.Decision)
				if in == "none" {
					in = "-"
				}
				rows = append(rows, []string{g.Party, g.Resource, g.Role, string(g.State), day(pick(g.Until)), in, pick(g.Text)})
			}
			columns := []string{"party", "on", "role", "state", "until", "gets in", "why"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			a.printf("%s  %s (%s)\n\n", a.colour("1", x.Name), x.Id, x.Kind)
			names := func(ns []contract.NamedRef) string {
				var out []string
				for _, n := range ns {
					out = append(out, n.Name)
				}
				return strings.Join(out, ", ")
			}
			a.printf("  owners   %s\n  members  %s\n", names(x.Owners), names(x.Members))
			if x.Parties != nil {
				a.printf("  admits   only %s\n", strings.Join(*x.Parties, ", "))
			}
			a.printf("\n")
			if err := a.printValues(&x.Values, all); err != nil {
				return err
			}
			if len(x.Items) > 0 {
				a.printf("\n")
				items := [][]string{}
				for _, it := range x.Items {
					private := ""
					if it.Private {
						private = "private"
					}
					items = append(items, []string{it.Kind + ":" + it.Id, it.Name, private, setValues(it.Rules)})
				}
				a.table([]string{"item", "name", "", "values"}, items)
			}
			if len(rows) > 0 {
				a.printf("\n")
				a.table(columns, rows)
			}
			a.noticed(x.Findings, x.FindingsAt)
			return nil
		},
	}
	show.Flags().BoolVarP(&all, "all", "a", false, "also rules that are not set here")
	c.AddCommand(list, show)
	c.AddCommand(a.spaceEdits()...)
	return c
}

func (a *app) person() *cobra.Command {
	c := &cobra.Command{Use: "person", Short: "Our own people: what is set for them, and who outside can reach them"}
	var find string
	list := &cobra.Command{Use: "list", Short: "People", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		r, err := a.remote()
		if err != nil {
			return err
		}
		var all []contract.PersonBrief
		rows := [][]string{}
		for next := ""; ; {
			resp, err := r.ListPeople(c.Context(), &contract.ListPeopleParams{Q: optional(find), Cursor: optional(next)})
			var x struct {
				People []contract.PersonBrief
				Next   string
			}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			for _, p := range x.People {
				rows = append(
					rows,
					[]string{p.Id, p.Name, strings.Join(p.Groups, " "), strings.Join(p.Roles, " "), fmt.Sprint(p.Exceptions)},
				)
			}
			all = append(all, x.People...)
			if next = x.Next; next == "" {
				break
			}
		}
		return a.records(all, []string{"id", "name", "groups", "roles", "exceptions"}, rows)
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	show := &cobra.Command{
		Use:               "show ID",
		Short:             "Show one person: exceptions, contacts, forwarders, and who outside can reach them",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("person"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.GetPerson(c.Context(), strings.TrimPrefix(args[0], "person:"))
			var x contract.PersonView
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, v := range x.Reached {
				who := strings.Join(v.Yes, ", ")
				if who == "" {
					who = "nobody"
				}
				rows = append(rows, []string{v.Action, fmt.Sprintf("%d of %d", len(v.Yes), len(v.Yes)+v.No), who})
			}
			columns := []string{"action", "typical newcomers", "who"}
			if a.output != "table" {
				return a.records(x, columns, rows)
			}
			a.printf("%s  %s  %s\n\n", a.colour("1", x.Name), x.Id, pick(x.Address))
			a.printf(
				"  groups   %s\n  roles    %s\n  owns     %s\n\n",
				strings.Join(x.Groups, ", "),
				strings.Join(x.Roles, ", "),
				counted.Of(len(x.Owns), "space", "spaces"),
			)
			if t := pick(x.Left); t != "" {
				a.printf("  left     %s\n\n", day(t))
			}
			a.table(columns, rows)
			if len(x.Exceptions) > 0 {
				a.printf("\n")
				ex := [][]string{}
				for i := range x.Exceptions {
					e := &x.Exceptions[i]
					ex = append(ex, []string{e.Id, stateOf(e), day(pick(e.Until)), towards(e), setValues(e.Rules)})
				}
				a.table([]string{"exception", "state", "until", "towards", "values"}, ex)
			}
			for _, ct := range x.Contacts {
				a.printf("\n  contact  %s, %s", ct.Party, ct.State)
			}
			for _, f := range x.Forwarders {
				a.printf("\n  forwards to %s: %s", f.To, f.Text)
			}
			if len(x.Contacts)+len(x.Forwarders) > 0 {
				a.printf("\n")
			}
			a.noticed(x.Findings, x.FindingsAt)
			return nil
		},
	}
	c.AddCommand(list, show)
	c.AddCommand(a.personEdits()...)
	c.AddCommand(a.personMatrix())
	return c
}

func yesNo(b bool) string {
	if b {
		return "yes"
	}
	return "no"
}
