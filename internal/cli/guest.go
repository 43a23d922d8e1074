package cli

import (
	"errors"
	"io"
	"os"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/counted"
)

func (a *app) guest() *cobra.Command {
	c := &cobra.Command{Use: "guest", Short: "Invite guests, see when their access ends, and let them go"}
	c.AddCommand(a.guestList(), a.guestShow(), a.invite(), a.guestMerge(), a.wishes(), a.offers(), a.outbox(), a.leaves(),
		a.guestDo("extend", "A later end, and the term begins anew", "Your guest has more time"),
		a.guestDo("suspend", "Suspend records; what they had stays until they are removed", "Suspended"),
		a.guestDo("back", "Bring suspended records back, unless a cause stands", "Back"),
		a.guestDo("end", "Let them go: suspended now, removed after the days of grace", "Let go"),
		a.guestDo("remove", "Remove records now; this cannot be undone", "Removed"),
		a.guestDo("end-grant", "End one role on one resource", "Ended"),
		a.guestDo("confirm", "Confirm that grants are still needed: a review is answered", "Confirmed"),
		a.guestDo("hand-over", "Let somebody else answer for them", "Handed over"),
		a.guestDo("set", "Change name, purpose, language, location or licence", "Changed"),
		a.guestDo("invite-again", "Send the invitation again; the days to accept begin anew", "On its way"),
		a.guestDo("remind", "Mail the invitation once more; the days to accept go on", "On its way"))
	return c
}

func endsText(g *contract.GuestShort) string {
	if pick(g.Ends) == "" {
		return "never"
	}
	return day(pick(g.Ends))
}

func (a *app) guestList() *cobra.Command {
	var p contract.GuestsParams
	var q, partner, sponsor, state, origin, space, ending, needs, by string
	c := &cobra.Command{Use: "list", Short: "List guests, with the date their access ends", Args: cobra.NoArgs,
		Example: "  wexillum guest list --partner ilvane --by end\n  wexillum guest list --ending +30d --sponsor d.ekwinter -o csv",
		RunE: func(c *cobra.Command, _ []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			p = contract.GuestsParams{
				Q:       optional(q),
				Partner: optional(partner),
				Sponsor: optional(sponsor),
				State:   optional(state),
				Origin:  optional(origin),
				Space:   optional(space),
				Ending:  optional(ending),
				Needs:   optional(needs),
				Sort:    optional(by),
			}
			var all []contract.GuestShort
			total := 0
			for limit := 500; ; {
				p.Limit = &limit
				resp, err := r.Guests(c.Context(), &p)
				var x struct {
					Guests []contract.GuestShort `json:"guests"`
					Total  int                   `json:"total"`
					Next   string                `json:"next"`
				}
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
				all, total = append(all, x.Guests...), x.Total
				if x.Next == "" || a.output == "table" {
					break
				}
				p.Cursor = &x.Next
			}
			rows := [][]string{}
			for i := range all {
				g := &all[i]
				n := 0
				if g.Grants != nil {
					n = *g.Grants
				}
				rows = append(
					rows,
					[]string{
						g.Address,
						pick(g.Name),
						string(g.State),
						pick(g.Partner),
						pick(g.Sponsor),
						strconv.Itoa(n),
						endsText(g),
						pick(g.EndsBecause),
					},
				)
			}
			columns := []string{"address", "name", "state", "partner", "sponsor", "grants", "ends", "because"}
			if a.output != "table" {
				return a.records(all, columns, rows)
			}
			if len(rows) == 0 {
				a.say("No record is so. Invite somebody: wexillum guest invite ADDRESS --into space:ID --purpose …")
				return nil
			}
			shown := rows[:min(len(rows), maxTable)]
			a.table(columns, shown)
			if len(shown) < total {
				a.say("… %d of %d; -o csv prints all of them.", len(shown), total)
			}
			return nil
		}}
	f := c.Flags()
	f.StringVar(&q, "find", "", "part of an address or a name")
	f.StringVar(&partner, "partner", "", "only a partner's people")
	f.StringVar(&sponsor, "sponsor", "", "only those a person answers for")
	f.StringVar(&state, "state", "", "active, invited or suspended")
	f.StringVar(&origin, "origin", "", "invited, shared, requested, fed or signed_up")
	f.StringVar(&space, "space", "", "only who was given something in a space")
	f.StringVar(&ending, "ending", "", "suspended or removed up to the end of a day, as +30d")
	f.StringVar(&needs, "needs", "", "what is to be looked at: sponsor, grant, seen, terms, time or mail")
	f.StringVar(&by, "by", "", "in the order of address or end")
	_ = c.RegisterFlagCompletionFunc("partner", a.completion("partner"))
	_ = c.RegisterFlagCompletionFunc("sponsor", a.completion("person"))
	_ = c.RegisterFlagCompletionFunc("space", a.completion("space"))
	return c
}

func (a *app) stepLines(steps []contract.DueStep) {
	for i := range steps {
		s := &steps[i]
		what := s.What
		if n := pick(s.ResourceName); n != "" {
			what += ": " + n
		}
		a.printf("  %-17s %s (%s)\n", day(s.At), what, s.Because)
	}
}

func (a *app) guestShow() *cobra.Command {
	return &cobra.Command{
		Use:               "show ADDRESS",
		Short:             "Show one guest: their access, and what ends on which day",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completion("who"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.Guest(c.Context(), args[0])
			var g contract.Guest
			if err := r.read(resp, err, &g); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(
					g,
					[]string{"address", "state", "ends"},
					[][]string{{g.Short.Address, string(g.Short.State), endsText(&g.Short)}},
				)
			}
			a.printf("%s  %s\n", g.Short.Address, pick(g.Short.Name))
			line := func(k, v string) {
				if v != "" {
					a.printf("  %-9s %s\n", k, v)
				}
			}
			state := string(g.Short.State)
			if t := pick(g.StateSince); t != "" {
				state += " since " + day(t)
			}
			if t := pick(g.Short.Cause); t != "" {
				state += " (" + t + ")"
			}
			line("state", state)
			line("partner", pick(g.Short.Partner))
			line("sponsor", strings.TrimSpace(pick(g.Short.SponsorName)+" "+pick(g.Short.Sponsor)))
			line("purpose", pick(g.Short.Purpose))
			line("came by", strings.Join(g.Short.Origins, ", "))
			line("since", dayOr(g.Short.Since))
			line("accepted", dayOr(g.Accepted))
			line("renewed", dayOr(g.Renewed))
			line("last seen", dayOr(g.Short.LastSeen))
			line("until", dayOr(g.Until))
			line("terms", dayOr(g.Terms))
			line("language", pick(g.Language))
			line("groups", strings.Join(g.Groups, ", "))
			if w := g.Wish; w != nil {
				line("asks for", strings.TrimSpace("more time "+pick(w.Until)+": "+pick(w.Text)))
			}
			a.printf("\n")
			rows := [][]string{}
			for i := range g.Grants {
				x := &g.Grants[i]
				through := ""
				if n := pick(x.Group); n != "" {
					through = "group:" + n
				}
				if n := pick(x.Bundle); n != "" {
					through = "bundle:" + n
				}
				live := "yes"
				if !x.Live {
					live = "no"
				}
				rows = append(rows, []string{x.Resource, pick(x.Name), x.Role, dayOr(x.From), dayOr(x.Until), live, through})
			}
			if len(rows) > 0 {
				a.table([]string{"resource", "name", "role", "from", "until", "live", "through"}, rows)
				a.printf("\n")
			}
			for i := range g.Links {
				l := &g.Links[i]
				until := ""
				if t := pick(l.Until); t != "" {
					until = " until " + day(t)
				}
				a.printf("The link %s opens %s to %s%s.\n", l.Id, l.Item, l.Right, until)
			}
			if len(g.Links) > 0 {
				a.printf("\n")
			}
			if len(g.Steps) == 0 {
				a.printf("Nothing ends by itself.\n")
			}
			a.stepLines(g.Steps)
			return nil
		},
	}
}

func dayOr(s *string) string {
	if pick(s) == "" {
		return ""
	}
	return day(*s)
}

// addresses puts together those that are named and those in a file; - is standard input.
func (a *app) addresses(named []string, file string) (string, error) {
	out := strings.Join(named, "\n")
	if file == "" {
		return out, nil
	}
	var raw []byte
	var err error
	if file == "-" {
		raw, err = io.ReadAll(a.in)
	} else {
		raw, err = os.ReadFile(file)
	}
	return string(raw) + "\n" + out, err // lines are told by their numbers in the file
}

// guestDo is a command that changes records, one or many.
func (a *app) guestDo(use, short, done string) *cobra.Command {
	var reason, until, resource, role, sponsor, list string
	var name, purpose, language, location, licence string
	var grants, preview bool
	c := &cobra.Command{Use: use + " ADDRESS…", Short: short, ValidArgsFunction: a.completion("who")}
	c.RunE = func(c *cobra.Command, args []string) error {
		if list != "" {
			raw, err := os.ReadFile(list)
			if err != nil {
				return err
			}
			args = append(args, strings.Fields(string(raw))...)
		}
		if len(args) == 0 {
			return usage{errors.New("name the guests: addresses, or --list FILE")}
		}
		b := contract.GuestChange{
			Do:        doNames[use],
			Addresses: args,
			Reason:    optional(reason),
			Until:     optional(until),
			Resource:  optional(resource),
			Role:      optional(role),
			Sponsor:   optional(sponsor),
		}
		if grants {
			b.Grants = &grants
		}
		for flag, at := range map[string]struct {
			to   **string
			from *string
		}{"name": {&b.Name, &name}, "purpose": {&b.Purpose, &purpose}, "language": {&b.Language, &language}, "location": {&b.Location, &location},
			"licence": {&b.Licence, &licence}} {
			if c.Flags().Lookup(flag) != nil && c.Flags().Changed(flag) {
				*at.to = at.from
			}
		}
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.ChangeGuests(c.Context(), &contract.ChangeGuestsParams{Preview: &preview}, b)
		var x struct {
			Guests []contract.GuestChanged `json:"guests"`
		}
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		rows := [][]string{}
		n := 0
		for i := range x.Guests {
			g := &x.Guests[i]
			what := "no"
			if g.Done {
				what = "yes"
				n++
			}
			next := ""
			if g.Done && use == "remove" {
				next = "removed"
			} else if g.Will != nil {
				for _, s := range *g.Will {
					if s.Kind == "suspended" || s.Kind == "removed" || s.Kind == "invitation_lapses" {
						next = day(s.At) + " " + s.What
						break
					}
				}
			}
			some := func(n *int) string {
				if n == nil || *n == 0 {
					return ""
				}
				return strconv.Itoa(*n)
			}
			rows = append(rows, []string{g.Address, what, next, some(g.Lost), some(g.Gained), pick(g.Reason)})
		}
		columns := []string{"address", "done", "then", "loses", "gains", "because"}
		if preview {
			columns[1] = "would"
		}
		if a.output != "table" {
			return a.records(x.Guests, columns, rows)
		}
		a.table(columns, rows)
		switch {
		case preview:
			a.say("Nothing was changed. It would be done for %d of %d.", n, len(rows))
		case n < len(rows):
			a.say("%s: %d of %d.", done, n, len(rows))
		default:
			a.say("%s.", done)
		}
		if n == 0 && !preview {
			return errors.New("nothing was done")
		}
		return nil
	}
	f := c.Flags()
	f.StringVar(&list, "list", "", "a file of addresses")
	f.BoolVar(&preview, "preview", false, "say what would become of it, and change nothing")
	if use != "confirm" && use != "invite-again" && use != "remind" {
		f.StringVar(&reason, "reason", "", "why; it is kept, and told where they are told")
	}
	switch use {
	case "extend":
		f.StringVar(&until, "until", "", "the new end; absent, as far as one extension may go")
		f.BoolVar(&grants, "grants", false, "grants that would end before are extended too")
	case "end-grant":
		f.StringVar(&resource, "on", "", "the resource, as space:loan-dossier")
		f.StringVar(&role, "role", "", "which role, where there are several")
	case "confirm":
		f.StringVar(&resource, "on", "", "only on this resource")
	case "hand-over":
		f.StringVar(&sponsor, "to", "", "the person of ours who takes over")
	case "set":
		f.StringVar(&name, "name", "", "their name")
		f.StringVar(&purpose, "purpose", "", "what they are here for")
		f.StringVar(&language, "language", "", "en or pt")
		f.StringVar(&location, "location", "", "where they are")
		f.StringVar(&licence, "licence", "", "none, ours or theirs")
	}
	return c
}

func (a *app) guestMerge() *cobra.Command {
	var reason string
	var preview bool
	c := &cobra.Command{
		Use:               "merge FROM INTO",
		Short:             "Merge the records of one person's two addresses",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completion("who"),
		RunE: func(c *cobra.Command, args []string) error {
			r, err := a.remote()
			if err != nil {
				return err
			}
			resp, err := r.MergeGuests(
				c.Context(),
				&contract.MergeGuestsParams{Preview: &preview},
				contract.GuestMerge{From: args[0], Into: args[1], Reason: optional(reason)},
			)
			var m contract.GuestMerged
			if err := r.read(resp, err, &m); err != nil {
				return err
			}
			if a.output != "table" {
				return a.records(
					m,
					[]string{"from", "into", "grants", "groups"},
					[][]string{{m.From, m.Into, strconv.Itoa(m.Grants), strconv.Itoa(m.Groups)}},
				)
			}
			word, is := "moved", "is"
			if preview {
				word, is = "would move", "would be"
			}
			a.say("%s and %s of %s %s to %s, and %s %s removed.", counted.Of(m.Grants, "grant", "grants"),
				counted.Of(m.Groups, "group", "groups"), m.From, word, m.Into, m.From, is)
			a.say("%s: %d granted actions, and then %d:", m.Into, m.Was, m.Will)
			for i, g := range m.Gained {
				if i == 12 {
					a.say("  … and %d more", len(m.Gained)-i)
					break
				}
				name := pick(g.Name)
				if name == "" {
					name = g.Resource
				}
				if name == "person:*" {
					name = "our people"
				}
				a.say("  + %-24s %s", g.Action, name)
			}
			return nil
		},
	}
	c.Flags().StringVar(&reason, "reason", "", "how you know that they are one person")
	c.Flags().BoolVar(&preview, "preview", false, "say what would become of it, and change nothing")
	return c
}
