package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
)

// spaceEdits are the commands that make and change spaces.
func (a *app) spaceEdits() []*cobra.Command {
	var e *placeEdit
	var kind, id string
	var items []string
	add := &cobra.Command{
		Use:   "add NAME",
		Short: "Make a space",
		Args:  cobra.ExactArgs(1),
		Example: "  wexillum space add \"Loan room\" --kind team --owners d.ekwinter --item folder:Contracts --why \"the spring loan\"\n" +
			"  wexillum space add \"For suppliers\" --pattern publish --owners d.ekwinter --parties partner:orrin",
		RunE: func(c *cobra.Command, args []string) error {
			more := map[string]any{"name": args[0]}
			if e.pattern == "" && kind == "" {
				kind = "team"
			}
			if kind != "" {
				more["kind"] = kind
			}
			if len(items) > 0 {
				list := []map[string]any{}
				for _, it := range items {
					k, name, ok := strings.Cut(it, ":")
					if !ok {
						return usage{fmt.Errorf("--item %q: write its kind and its name, as folder:Contracts", it)}
					}
					list = append(list, map[string]any{"kind": k, "name": name})
				}
				more["items"] = list
			}
			return a.editPlace(c, e, "add", id, more)
		},
	}
	e = a.placeCommand(add, "space", true, "name")
	add.Flags().StringVar(&kind, "kind", "", "team, site, course, report_area or drive; absent, what the pattern says, else team")
	add.Flags().StringVar(&e.pattern, "pattern", "", "ready made: see wexillum space patterns")
	add.Flags().StringVar(&id, "id", "", "its id; absent, it follows from the name")
	add.Flags().StringArrayVar(&items, "item", nil, "something in it, as folder:Contracts; may be given several times")
	patterns := &cobra.Command{
		Use:   "patterns",
		Short: "Ready-made kinds of space, and what each sets",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Patterns(c.Context())
			var x struct{ Patterns []contract.Pattern }
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			rows := [][]string{}
			for _, p := range x.Patterns {
				sets := []string{}
				for _, v := range p.Rules {
					if v.Can {
						sets = append(sets, v.Rule+" "+v.Value)
					}
				}
				rows = append(rows, []string{p.Name, p.Title, p.Says, p.Kind, strings.Join(sets, "; ")})
			}
			if a.output != "table" {
				return a.records(x.Patterns, []string{"pattern", "title", "says", "kind", "sets"}, rows)
			}
			for _, p := range x.Patterns {
				a.printf("%s  %s\n  %s\n", a.colour("1", p.Name), p.Title, wrap(p.Says, 2, a.width()))
				for _, v := range p.Rules {
					note := ""
					if !v.Can {
						note = "  (left out: the limit does not allow it)"
					}
					a.printf("    %s %s%s\n", v.Rule, v.Value, note)
				}
				a.printf("\n")
			}
			return nil
		},
	}
	return []*cobra.Command{
		add,
		patterns,
		a.placeDo(
			"space",
			"set",
			"set SPACE",
			"Change a space: its name, owners, members, who from outside may be in it",
			"  wexillum space set loan-dossier --add-members \"group:rigging\" --why \"they help\"",
		),
		a.placeDo(
			"space",
			"close",
			"close SPACE",
			"End every role and link in a space, at once or on a day",
			"  wexillum space close loan-dossier --on +14d --preview",
		),
		a.placeDo("space", "remove", "remove SPACE", "Remove a space in which nobody from outside has anything any more", ""),
	}
}

// item is the command about what is in spaces.
func (a *app) item() *cobra.Command {
	c := &cobra.Command{Use: "item", Short: "Channels, folders, files, pages and more in spaces: make, move and close them"}
	var e *placeEdit
	var kind, id string
	add := &cobra.Command{
		Use:     "add SPACE NAME",
		Short:   "Make an item in a space",
		Args:    cobra.ExactArgs(2),
		Example: "  wexillum item add loan-dossier Photographs --kind folder --private yes",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			space, err := a.named(c, r, "space", args[0])
			if err != nil {
				return err
			}
			return a.editPlace(c, e, "add", id, map[string]any{"space": space, "name": args[1], "kind": kind})
		},
	}
	e = a.placeCommand(add, "item", true, "name", "space")
	add.Flags().StringVar(&kind, "kind", "folder", "channel, folder, file, page, tasklist, report or dashboard")
	add.Flags().StringVar(&id, "id", "", "its id; absent, it follows from the name")
	c.AddCommand(
		add,
		a.placeDo(
			"item",
			"set",
			"set ITEM",
			"Rename an item, make it private or open, or move it",
			"  wexillum item set press-kit --private yes\n  wexillum item set press-kit --space audio-guide",
		),
		a.placeDo("item", "close", "close ITEM", "End every role and link on an item, at once or on a day", ""),
		a.placeDo("item", "remove", "remove ITEM", "Remove an item to which nobody has a role or a link of its own any more", ""),
	)
	return c
}

func (a *app) meeting() *cobra.Command {
	c := &cobra.Command{Use: "meeting", Short: "Meetings: host, from which domains people may come, passcode"}
	var find string
	list := &cobra.Command{Use: "list", Short: "Meetings", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return a.listPlaces(c, "meeting", find, []string{"id", "name", "host", "space", "sign_in_domains", "passcode", "standing_room"})
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	show := &cobra.Command{
		Use:   "show MEETING",
		Short: "Show one meeting: how it is set up, and the rules at its door",
		Args:  cobra.ExactArgs(1),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.named(c, r, "meeting", args[0])
			if err != nil {
				return err
			}
			x, err := a.placeEntry(c, r, "meeting", id)
			if err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(x.Fields, nil, nil)
			}
			a.printf("%s  %s\n\n", a.colour("1", fieldText(x.Fields["name"])), x.Id)
			for _, f := range [][2]string{{"host", "host"}, {"space", "space"}, {"sign_in_domains", "only from"}, {"sign_in_lists", "and the lists"},
				{"passcode", "passcode"}, {"standing_room", "standing room"}, {"repeats", "held"}, {"waiting_text", "shown to those waiting"}} {
				if t := fieldText(x.Fields[f[0]]); t != "" {
					a.printf("  %-22s %s\n", f[1], t)
				}
			}
			_, v, err := a.getValues(c, "meeting:"+id)
			if err != nil {
				return err
			}
			a.printf("\n")
			return a.printValues(v, true)
		},
	}
	add := a.placeAdd("meeting", "Make a meeting",
		"  wexillum meeting add \"Rope talk\" --host d.ekwinter --sign-in-domains orrin.example --passcode yes")
	c.AddCommand(
		list,
		show,
		add,
		a.domainLists(),
		a.placeDo(
			"meeting",
			"set",
			"set MEETING",
			"Change a meeting",
			"  wexillum meeting set rigging-call --add-sign-in-domains ilvane.example",
		),
		a.placeDo("meeting", "remove", "remove MEETING", "Remove a meeting", ""),
	)
	return c
}

// domainLists are lists of domains that many meetings use.
func (a *app) domainLists() *cobra.Command {
	c := &cobra.Command{Use: "domains", Short: "Named lists of domains, kept once and used by many meetings"}
	list := &cobra.Command{Use: "list", Short: "The lists", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return a.listPlaces(c, "domain_list", "", []string{"id", "name", "domains"})
	}}
	add := a.placeAdd("domain_list", "Make a list",
		"  wexillum meeting domains add \"Lenders\" --domains ilvane.example,sandrill.example\n  wexillum meeting set \"Loans weekly\" --sign-in-lists lenders")
	c.AddCommand(
		list,
		add,
		a.placeDo(
			"domain_list",
			"set",
			"set LIST",
			"Change a list, and with it whom the meetings that use it admit",
			"  wexillum meeting domains set lenders --add-domains pallowick.example",
		),
		a.placeDo("domain_list", "remove", "remove LIST", "Remove a list that no meeting uses", ""),
	)
	return c
}

// personEdits are the commands that make and change people of ours.
func (a *app) personEdits() []*cobra.Command {
	add := a.placeAdd("person", "Add a person of ours",
		"  wexillum person add \"Zoe Quill\" --address z.quill@brackwater.example --groups rigging")
	return []*cobra.Command{
		add,
		a.placeDo(
			"person",
			"set",
			"set PERSON",
			"Change a person: name, address, groups, roles",
			"  wexillum person set d.ekwinter --add-groups loans",
		),
		a.placeDo("person", "remove", "remove PERSON", "Remove a person whom nothing names; who leaves is said with guest leaves", ""),
	}
}

// personMatrix puts people against what they may do with outsiders.
func (a *app) personMatrix() *cobra.Command {
	var find string
	c := &cobra.Command{
		Use:   "matrix",
		Short: "What each person may do with outsiders in chat and mail; * marks what an exception sets",
		Args:  cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			var all contract.PeopleMatrix
			for next := ""; ; {
				resp, err := r.PeopleMatrix(c.Context(), &contract.PeopleMatrixParams{Q: optional(find), Cursor: optional(next)})
				var x contract.PeopleMatrix
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				all.Rules, all.People = x.Rules, append(all.People, x.People...)
				if next = x.Next; next == "" {
					break
				}
			}
			heads := []string{"person"}
			for _, rule := range all.Rules {
				heads = append(heads, rule.Rule)
			}
			rows := [][]string{}
			for _, p := range all.People {
				row := []string{p.Id}
				for _, v := range p.Values {
					mark := ""
					if v.Own {
						mark = "*"
					}
					row = append(row, v.Value+mark)
				}
				rows = append(rows, row)
			}
			return a.records(all, heads, rows)
		},
	}
	c.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	return c
}

func (a *app) group() *cobra.Command {
	c := &cobra.Command{Use: "group", Short: "Groups of our people and of addresses from outside"}
	var find string
	list := &cobra.Command{Use: "list", Short: "Groups", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return a.listPlaces(c, "group", find, []string{"id", "name", "parties"})
	}}
	list.Flags().StringVar(&find, "find", "", "a part of the id or the name")
	add := a.placeAdd("group", "Make a group", "")
	c.AddCommand(
		list,
		add,
		a.placeDo(
			"group",
			"set",
			"set GROUP",
			"Change a group: its name, who from outside is in it",
			"  wexillum group set restorers --add-parties a.novak@ilvane.example",
		),
		a.placeDo("group", "remove", "remove GROUP", "Remove a group that nothing names", ""),
	)
	return c
}

func (a *app) grant() *cobra.Command {
	c := &cobra.Command{Use: "grant", Short: "Roles that somebody from outside has: give, change and end them"}
	// party names who holds a role: a partner and a group by their names too.
	party := func(c *cobra.Command, r *remote, text string) (string, error) {
		kind, name, cut := strings.Cut(text, ":")
		if !cut || kind != "partner" && kind != "group" {
			return text, nil
		}
		id, err := a.named(c, r, kind, name)
		return kind + ":" + id, err
	}
	key := func(c *cobra.Command, r *remote, args []string) (string, error) {
		who, err := party(c, r, args[0])
		if err != nil {
			return "", err
		}
		res, err := a.named(c, r, "resource", args[1])
		return who + " " + res, err
	}
	var add, set, end *placeEdit
	give := &cobra.Command{
		Use:     "add PARTY RESOURCE",
		Short:   "Give a guest, a group, or everybody of a partner or a domain a role",
		Long:    "Give somebody who is a guest already, or a group as group:ID, a role on a space or\nan item. Somebody new is invited with guest invite. With partner:ID or domain:NAME\neverybody from there is a member of a space with their home account: nobody becomes a\nguest, and who comes to them later is a member too.",
		Args:    cobra.ExactArgs(2),
		Example: "  wexillum grant add partner:oskelund \"Docent course\" --role view --until +180d --why \"one term together\"\n  wexillum grant add maren.holtveig@ilvane.example space:audio-guide --role view --until +90d --why \"she checks the labels\"",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			res, err := a.named(c, r, "resource", args[1])
			if err != nil {
				return err
			}
			who, err := party(c, r, args[0])
			if err != nil {
				return err
			}
			return a.editPlace(c, add, "add", "", map[string]any{"party": who, "resource": res})
		},
	}
	add = a.placeCommand(give, "grant", true)
	_ = give.MarkFlagRequired("role")
	change := &cobra.Command{
		Use:     "set PARTY RESOURCE",
		Short:   "Change a role: another role, another end, another sponsor",
		Args:    cobra.ExactArgs(2),
		Example: "  wexillum grant set maren.holtveig@ilvane.example space:loan-dossier --role view",
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := key(c, r, args)
			if err != nil {
				return err
			}
			return a.editPlace(c, set, "set", id, nil)
		},
	}
	set = a.placeCommand(change, "grant", false, "from")
	stop := &cobra.Command{
		Use:   "end PARTY RESOURCE",
		Short: "End a role now",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := key(c, r, args)
			if err != nil {
				return err
			}
			return a.editPlace(c, end, "remove", id, nil)
		},
	}
	end = a.placeCommand(stop, "", true)
	end.kind = "grant"
	c.AddCommand(give, change, stop)
	return c
}

// forwarderAdd sets a forwarder up.
func (a *app) forwarderAdd() *cobra.Command {
	var e *placeEdit
	var noCopy bool
	c := &cobra.Command{
		Use:   "add PERSON ADDRESS",
		Short: "Forward the mail of a person; what forbids it is told",
		Args:  cobra.ExactArgs(2),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			id, err := a.named(c, r, "person", args[0])
			if err != nil {
				return err
			}
			return a.editPlace(c, e, "add", "", map[string]any{"mailbox": id, "to": args[1], "keep_copy": yesNo(!noCopy)})
		},
	}
	e = a.placeCommand(c, "", true)
	e.kind = "forwarder"
	c.Flags().BoolVar(&noCopy, "no-copy", false, "keep no copy in the mailbox")
	return c
}

func (a *app) contact() *cobra.Command {
	c := &cobra.Command{Use: "contact", Short: "People of ours and people from outside who agreed to see each other"}
	var person string
	list := &cobra.Command{Use: "list", Short: "Contacts", Args: cobra.NoArgs, RunE: func(c *cobra.Command, _ []string) error {
		return a.listPlaces(c, "contact", person, []string{"person", "party", "state"})
	}}
	list.Flags().StringVar(&person, "person", "", "those of this person of ours")
	do := func(use, short string, run func(e *placeEdit, c *cobra.Command, person, party string) error) *cobra.Command {
		var e *placeEdit
		x := &cobra.Command{
			Use:   use + " PERSON ADDRESS",
			Short: short,
			Args:  cobra.ExactArgs(2),
			RunE: func(c *cobra.Command, args []string) error {
				r, err := a.remote()
				if err != nil {
					return err
				}
				id, err := a.named(c, r, "person", args[0])
				if err != nil {
					return err
				}
				return run(e, c, id, args[1])
			},
		}
		e = a.placeCommand(x, "", true)
		e.kind = "contact"
		return x
	}
	c.AddCommand(
		list,
		do("ask", "Ask somebody outside to be a contact", func(e *placeEdit, c *cobra.Command, person, party string) error {
			return a.editPlace(c, e, "add", "", map[string]any{"person": person, "party": party, "state": "asked"})
		}),
		do("accept", "Note that a contact was accepted", func(e *placeEdit, c *cobra.Command, person, party string) error {
			return a.editPlace(c, e, "set", person+" and "+party, map[string]any{"state": "accepted"})
		}),
		do("remove", "Remove a contact", func(e *placeEdit, c *cobra.Command, person, party string) error {
			return a.editPlace(c, e, "remove", person+" and "+party, nil)
		}),
	)
	return c
}

// listPlaces prints entries of a kind, with some of their fields.
func (a *app) listPlaces(c *cobra.Command, kind, find string, columns []string) error {
	r, err := a.remote()
	if err != nil {
		return err
	}
	all := []map[string]any{}
	rows := [][]string{}
	for next := ""; ; {
		resp, err := r.ListPlaces(
			c.Context(),
			contract.PlaceKind(kind),
			&contract.ListPlacesParams{Q: optional(find), Cursor: optional(next)},
		)
		var x struct {
			Entries []contract.PlaceEntry
			Next    string
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		for _, e := range x.Entries {
			all = append(all, e.Fields)
			row := []string{}
			for _, f := range columns {
				row = append(row, fieldText(e.Fields[f]))
			}
			rows = append(rows, row)
		}
		if next = x.Next; next == "" {
			break
		}
	}
	heads := []string{}
	for _, f := range columns {
		heads = append(heads, strings.ReplaceAll(f, "_", " "))
	}
	return a.records(all, heads, rows)
}

func fieldText(v any) string {
	switch x := v.(type) {
	case nil:
		return ""
	case []any:
		out := []string{}
		for _, e := range x {
			out = append(out, fmt.Sprint(e))
		}
		return strings.Join(out, " ")
	}
	return fmt.Sprint(v)
}
