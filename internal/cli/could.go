package cli

import (
	"errors"
	"fmt"

	"github.com/spf13/cobra"

	"wexillum.example/internal/answer"
	"wexillum.example/internal/contract"
	"wexillum.example/internal/core/could"
	"wexillum.example/internal/core/counted"
	"wexillum.example/internal/core/engine"
	"wexillum.example/internal/core/moment"
)

// couldLines prints what could come to be of a party or a resource.
func (a *app) couldLines(c *cobra.Command, asked answer.CouldAsked) error {
	var x contract.Could
	if a.world != "" {
		s, now, err := a.offline()
		if err != nil {
			return err
		}
		if x, err = answer.CouldLines(s, asked, now, c.Context().Err); err != nil {
			return err
		}
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		p := &contract.CouldParams{Who: optional(asked.Who), Resource: optional(asked.Resource), Action: optional(asked.Action), All: &asked.All}
		lines := []contract.CouldLine{}
		for limit := 500; ; {
			p.Limit = &limit
			resp, err := r.Could(c.Context(), p)
			x = contract.Could{}
			if err := r.read(resp, err, &x); err != nil {
				return err
			}
			if lines = append(lines, x.Lines...); x.Next == "" {
				break
			}
			p.Cursor = &x.Next
		}
		x.Lines = lines
	}
	rows := [][]string{}
	at := map[[2]string]int{}
	for _, l := range x.Lines {
		now := ""
		if l.Now {
			now = "yes"
		}
		who, kind := l.Who, l.Kind
		if l.Name != "" && a.output == "table" {
			who = l.Name
		}
		if l.Newcomer {
			kind += ", typical"
		}
		key := [2]string{l.Who + now, l.Resource}
		if k, ok := at[key]; ok && a.output == "table" { // what one may with the same stands on one line
			rows[k][2] += ", " + l.Action
			continue
		}
		at[key] = len(rows)
		rows = append(rows, []string{who, kind, l.Action, l.Resource, now})
	}
	columns := []string{"who", "kind", "action", "resource", "now"}
	if a.output == "table" {
		if asked.Who != "" {
			for i := range rows {
				rows[i] = rows[i][2:]
			}
			columns = columns[2:]
		}
		subject := "With " + pick(x.Resource)
		if asked.Who != "" {
			subject = "For " + pick(x.Who)
		}
		a.printf("%s, at %s: %s yes now; without an administrator or keeper %d could be.\n", clean(subject), seconds(x.At),
			counted.Of(x.Now, "answer is", "answers are"), x.Could)
		if asked.Resource != "" {
			a.printf("Known guests and others who may now: %d; who could: %d.\n", x.PartiesNow, x.PartiesCould)
		}
		if len(x.Lines) == 0 {
			a.say("Nothing more could come to be.")
			return nil
		}
	}
	if err := a.records(x, columns, rows); err != nil {
		return err
	}
	if a.output == "table" {
		l := x.Lines[0]
		a.say("\nSee how, step by step: wexillum could %s", words(l.Who, l.Action, l.Resource))
	}
	return nil
}

func (a *app) could() *cobra.Command {
	var cuts bool
	var take int
	var name, why string
	c := &cobra.Command{
		Use:   "could WHO ACTION RESOURCE",
		Short: "How somebody outside could come to do something without any administrator or keeper, and what would make it impossible",
		Long: "The shortest way: who of ours or outside would have to do what, and how many people could take each step today.\n" +
			"Values are set as far as limits let owners set them; nobody acts as administrator or keeper, and no date moves.\n" +
			"WHO is an address, *@domain for somebody new there, or link:any for whoever holds a link that somebody makes.",
		Example: "  wexillum could maren.holtveig@ilvane.example files.open folder:loan-valuations\n  wexillum could maren.holtveig@ilvane.example files.open folder:loan-valuations --cuts\n  wexillum reach maren.holtveig@ilvane.example --could\n  wexillum audience folder:loan-valuations --could",
		Args:    cobra.ExactArgs(3),
		ValidArgsFunction: func(c *cobra.Command, args []string, text string) ([]string, cobra.ShellCompDirective) {
			if len(args) > 2 {
				return nil, cobra.ShellCompDirectiveNoFileComp
			}
			return a.completion([]string{"who", "action", "resource"}[len(args)])(c, args, text)
		},
		RunE: func(c *cobra.Command, args []string) error {
			q := contract.CouldQuestion{Subject: args[0], Action: args[1], Resource: args[2]}
			if c.Flags().Changed("take") && take < 1 {
				return usage{fmt.Errorf("--take %d: write the number of a cut, from 1 on", take)}
			}
			if take > 0 && a.world != "" {
				return usage{errors.New("--take makes a draft, which a file alone has not; leave --world away")}
			}
			if cuts || take > 0 {
				return a.cuts(c, q, take, name, why)
			}
			var x contract.CouldWay
			if a.world != "" {
				s, t, now, err := a.offlineTarget(&q)
				if err != nil {
					return err
				}
				x = answer.Way(s, t, now)
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				resp, err := r.CouldWay(c.Context(), q)
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			rows := [][]string{}
			for i, s := range x.Acts {
				rows = append(rows, []string{fmt.Sprint(i + 1), s.Text, fmt.Sprint(s.Count)})
			}
			if a.output == "table" {
				switch {
				case x.Decision == "yes":
					a.say("It is a yes already; ask says why: wexillum ask %s", words(args[:3]...))
					return nil
				case x.Decision == "no":
					a.say("No: without an administrator or keeper it could not come to be. ask says what refuses it: wexillum ask %s",
						words(args[:3]...))
					return exit(statusNo)
				case x.Longer != nil && *x.Longer:
					a.say("It could come to be, by more than six steps.")
					return nil
				}
				a.say("It could come to be without an administrator or keeper:\n")
			}
			if err := a.records(x, []string{"step", "what", "people who could"}, rows); err != nil {
				return err
			}
			if x.Decision == "no" {
				return exit(statusNo)
			}
			if a.output == "table" {
				a.say("\nSee what would make it impossible: wexillum could %s --cuts", words(args[:3]...))
			}
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&cuts, "cuts", false, "what would make it impossible: sets of limits, openings and roles, each with what it takes from today")
	f.IntVar(&take, "take", 0, "make a draft of what is policy in the cut of this number")
	f.StringVar(&name, "name", "", "with --take, the name of the draft")
	f.StringVar(&why, "why", "", "with --take, the reason")
	return c
}

// offlineTarget reads a question of a file.
func (a *app) offlineTarget(q *contract.CouldQuestion) (*engine.Snapshot, could.Target, moment.Moment, error) {
	s, now, err := a.offline()
	if err != nil {
		return nil, could.Target{}, now, err
	}
	t, err := answer.CouldTarget(s, q)
	return s, t, now, err
}

// cuts prints what would make something impossible, or makes a draft of one.
func (a *app) cuts(c *cobra.Command, q contract.CouldQuestion, take int, name, why string) error {
	var x contract.CouldCuts
	if a.world != "" {
		s, t, now, err := a.offlineTarget(&q)
		if err != nil {
			return err
		}
		if x, _, err = answer.Cuts(s, t, now, c.Context().Err); err != nil {
			return err
		}
	} else {
		r, err := a.remote()
		if err != nil {
			return err
		}
		resp, err := r.CouldCuts(c.Context(), q)
		if err := r.read(resp, err, &x); err != nil {
			return err
		}
		if take > 0 {
			if take > len(x.Cuts) {
				return usage{fmt.Errorf("--take %d: there are %d cuts", take, len(x.Cuts))}
			}
			resp, err := r.CouldCutDraft(c.Context(), nil, contract.CouldCutTaken{Question: q, Cut: x.Cuts[take-1].Id, Name: optional(name),
				Why: optional(why)})
			var d contract.Draft
			if err := r.read(resp, err, &d); err != nil {
				return err
			}
			if err := a.printDraft(&d); err != nil {
				return err
			}
			for _, p := range x.Cuts[take-1].Parts {
				if !p.Policy {
					a.say("\nBesides, at its place: %s", p.Text)
				}
			}
			a.draftNext(&d)
			return nil
		}
	}
	rows := [][]string{}
	for i, cut := range x.Cuts {
		for k, p := range cut.Parts {
			row := []string{fmt.Sprint(i + 1), p.Text, "", "", "", "", "", ""}
			if k == 0 {
				wide, links := 0, 0
				if cut.Wide != nil {
					wide = *cut.Wide
				}
				if cut.Links != nil {
					links = *cut.Links
				}
				for c, n := range []int{cut.Parties, cut.Lost, wide, cut.Newcomers, links, cut.Outward} {
					row[2+c] = fmt.Sprint(n)
				}
			}
			rows = append(rows, row)
		}
	}
	if a.output == "table" {
		if x.Decision == "no" {
			a.say("It cannot come to be as it is; there is nothing to cut.")
			return nil
		}
		if len(x.Cuts) == 0 {
			a.say("No change of up to three limits, openings or roles makes it impossible.")
			return nil
		}
		a.say("Each of these would make it impossible. The columns count what would be lost today: known guests and others who lose anything, what they may by a\nrole and without one, kinds of newcomers, links that stop, and what our people do elsewhere. Whom our people may invite or share with from then\non is not counted.\n")
	}
	if err := a.records(x, []string{"cut", "change", "who", "granted", "wide", "newcomers", "links", "ours"}, rows); err != nil {
		return err
	}
	if a.output == "table" {
		if x.More {
			a.say("\nThere may be others: the search ended before all was looked at.")
		}
		a.say("\nMake one a draft: wexillum could %s --take 1 --why …", words(q.Subject, q.Action, q.Resource))
	}
	return nil
}

func (a *app) spare() *cobra.Command {
	var take bool
	var name, why string
	c := &cobra.Command{
		Use:     "spare",
		Short:   "What is allowed and nobody uses: limits and openings that can go with no impact today",
		Long:    "Limits are lowered to the loosest value that counts anywhere below them, and openings taken back through which nobody comes,\nnewcomers included. It is tried: nobody loses anything today. What could come to be becomes less.",
		Example: "  wexillum spare\n  wexillum spare --take --why \"less to watch\"",
		Args:    cobra.NoArgs,
		RunE: func(c *cobra.Command, _ []string) error {
			var x contract.Spare
			if a.world != "" {
				if take {
					return usage{errors.New("--take makes a draft, which a file alone has not; leave --world away")}
				}
				s, now, err := a.offline()
				if err != nil {
					return err
				}
				if x, _, err = answer.Spare(s, now, c.Context().Err); err != nil {
					return err
				}
			} else {
				r, err := a.remote()
				if err != nil {
					return err
				}
				if take {
					resp, err := r.SpareDraft(c.Context(), nil, contract.SpareTaken{Name: optional(name), Why: optional(why)})
					var d contract.Draft
					if err := r.read(resp, err, &d); err != nil {
						return err
					}
					if err := a.printDraft(&d); err != nil {
						return err
					}
					a.draftNext(&d)
					return nil
				}
				resp, err := r.Spare(c.Context())
				if err := r.read(resp, err, &x); err != nil {
					return err
				}
			}
			rows := [][]string{}
			for _, p := range x.Parts {
				rows = append(rows, []string{string(p.Kind), p.Text})
			}
			if a.output == "table" && len(rows) == 0 {
				a.say("Everything that is allowed is used.")
				return nil
			}
			if err := a.records(x, []string{"kind", "change"}, rows); err != nil {
				return err
			}
			if a.output == "table" {
				a.say("\nNobody loses anything today.")
				if x.Could != nil && x.Afterwards != nil && x.Parties != nil {
					a.say("Without an administrator or keeper, %d could come to be (a party, a thing and an action each); %d afterwards. %s could come to less.",
						*x.Could, *x.Afterwards, counted.Of(*x.Parties, "known guest or other", "known guests and others"))
				}
				a.say("Make it a draft: wexillum spare --take --why …")
			}
			return nil
		},
	}
	f := c.Flags()
	f.BoolVar(&take, "take", false, "make a draft that takes all of it away")
	f.StringVar(&name, "name", "", "with --take, the name of the draft")
	f.StringVar(&why, "why", "", "with --take, the reason")
	return c
}
